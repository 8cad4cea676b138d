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

/// Blocks of a size that pictures have. What is larger may be kept for what never comes.
const BLOCKS: std::ops::Range<usize> = 1 << 18..1 << 25;
const PAGE: usize = 4096;

/// A child is young: each page that it touches first is a question to the system, a thousand for a picture. A large block
/// gets all its pages with one.
#[allow(unsafe_code)]
fn fill(pointer: *mut u8, bytes: usize) {
    if !BLOCKS.contains(&bytes) || !TELLS.load(Ordering::Relaxed) {
        return;
    }
    let skip = pointer.align_offset(PAGE);
    let whole = bytes.saturating_sub(skip) / PAGE * PAGE;
    if whole > 0 {
        // SAFETY: these pages are inside the block, which nobody else has; what is in them stays as it is. A system
        // that does not know this says so, and they come one by one.
        let _ = unsafe {
            rustix::mm::madvise(pointer.add(skip).cast(), whole, rustix::mm::Advice::LinuxPopulateWrite)
        };
    }
}

/// What is freed stays with this process and its copies, and is had again without the system: a picture goes through some
/// blocks of its size, one after the other.
#[allow(unsafe_code)]
pub fn keep_blocks() {
    #[cfg(target_env = "gnu")]
    for (what, bytes) in [
        (libc::M_MMAP_THRESHOLD, BLOCKS.end),
        (libc::M_TRIM_THRESHOLD, 4 * BLOCKS.end),
        (libc::M_TOP_PAD, BLOCKS.start),
    ] {
        // SAFETY: it takes numbers and sets them; this process has one thread.
        unsafe { libc::mallopt(what, bytes as i32) };
    }
}

fn checked(pointer: *mut u8, bytes: usize) -> *mut u8 {
    if pointer.is_null() {
        tell(bytes);
    } else {
        fill(pointer, bytes);
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
