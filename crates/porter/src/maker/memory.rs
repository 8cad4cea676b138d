//! Knowing that memory ran out. A child whose memory is limited is ended by the language itself when an allocation
//! is refused; all that is left of the reason is a text. Here the refusal is told to the porter as it happens.

use std::alloc::{GlobalAlloc, Layout, System};
use std::sync::atomic::{AtomicBool, Ordering};

static TELLS: AtomicBool = AtomicBool::new(false);

/// From now on this process tells refused allocations on its standard output.
pub fn tell_refusals() {
    TELLS.store(true, Ordering::Relaxed);
}

/// The system's allocator, and a word when it refuses.
pub struct Telling;

/// `{"refused":N}` and an end of line, written without allocating.
fn tell(bytes: usize) {
    if !TELLS.load(Ordering::Relaxed) {
        return;
    }
    let (mut line, mut at) = ([b'}'; 48], 46);
    line[47] = b'\n';
    let mut n = bytes;
    loop {
        line[at - 1] = b'0' + (n % 10) as u8;
        at -= 1;
        n /= 10;
        if n == 0 {
            break;
        }
    }
    let start = b"{\"refused\":";
    at -= start.len();
    line[at..at + start.len()].copy_from_slice(start);
    let _ = rustix::io::write(rustix::stdio::stdout(), &line[at..]);
}

fn checked(pointer: *mut u8, bytes: usize) -> *mut u8 {
    if pointer.is_null() {
        tell(bytes);
    }
    pointer
}

// SAFETY: every call goes to the system's allocator as it came, and its result comes back as it is.
#[allow(unsafe_code)]
unsafe impl GlobalAlloc for Telling {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        checked(unsafe { System.alloc(layout) }, layout.size())
    }
    unsafe fn dealloc(&self, pointer: *mut u8, layout: Layout) {
        unsafe { System.dealloc(pointer, layout) }
    }
    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        checked(unsafe { System.alloc_zeroed(layout) }, layout.size())
    }
    unsafe fn realloc(&self, pointer: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        checked(unsafe { System.realloc(pointer, layout, size) }, size)
    }
}
