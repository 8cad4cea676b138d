//! Panics of libraries that are part of decoding: what they were given is damaged.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};

thread_local! {
    static ON: Cell<u32> = const { Cell::new(0) };
}

/// Does something that may panic; `None`: it did.
pub fn catch<T>(work: impl FnOnce() -> T) -> Option<T> {
    ON.set(ON.get() + 1);
    let result = catch_unwind(AssertUnwindSafe(work));
    ON.set(ON.get() - 1);
    result.ok()
}

/// True while a panic of this thread is caught: a panic hook has nothing to tell then.
pub fn is_on() -> bool {
    ON.get() > 0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_is_caught_and_known_to_be() {
        assert!(!is_on());
        assert_eq!(catch(|| catch(is_on).unwrap()), Some(true));
        assert_eq!(catch(|| -> u32 { panic!("a library's") }), None);
        assert!(!is_on());
    }
}
