//! Picture buffers that are used again: a fresh 3 MB buffer for each frame costs more in page faults
//! than the copy into it.

use std::sync::{Arc, Mutex};

/// Buffers given back by dropped frames.
#[derive(Clone, Default, Debug)]
pub struct Pool {
    bytes: Shelf<u8>,
    words: Shelf<u16>,
}

/// Idle buffers of one kind of sample.
type Shelf<T> = Arc<Mutex<Vec<Vec<T>>>>;

/// More than this many idle buffers of a kind are let go.
const MAX_IDLE: usize = 24;

/// What a buffer may hold: the samples of a picture.
pub trait Sample: Copy + Default {
    fn shelf(pool: &Pool) -> &Shelf<Self>;
}

impl Sample for u8 {
    fn shelf(pool: &Pool) -> &Shelf<u8> {
        &pool.bytes
    }
}

impl Sample for u16 {
    fn shelf(pool: &Pool) -> &Shelf<u16> {
        &pool.words
    }
}

impl Pool {
    pub fn new() -> Self {
        Self::default()
    }

    /// A buffer of `len` samples with unspecified (but initialised) content.
    pub fn take<T: Sample>(&self, len: usize) -> Buffer<T> {
        let shelf = T::shelf(self);
        let mut free = shelf.lock().unwrap_or_else(|e| e.into_inner());
        let found = free.iter().rposition(|b| b.len() == len).map(|i| free.swap_remove(i));
        drop(free);
        let samples = found.unwrap_or_else(|| vec![T::default(); len]);
        Buffer { samples, home: Some(shelf.clone()) }
    }
}

/// Samples that go back to their pool when dropped.
#[derive(Debug, Default)]
pub struct Buffer<T: Copy> {
    samples: Vec<T>,
    home: Option<Shelf<T>>,
}

impl<T: Copy> Buffer<T> {
    pub fn from_vec(samples: Vec<T>) -> Self {
        Buffer { samples, home: None }
    }
}

impl<T: Copy> std::ops::Deref for Buffer<T> {
    type Target = [T];
    fn deref(&self) -> &[T] {
        &self.samples
    }
}
impl<T: Copy> std::ops::DerefMut for Buffer<T> {
    fn deref_mut(&mut self) -> &mut [T] {
        &mut self.samples
    }
}

impl<T: Copy> Drop for Buffer<T> {
    fn drop(&mut self) {
        if let Some(home) = self.home.take() {
            let mut free = home.lock().unwrap_or_else(|e| e.into_inner());
            // A size that is no longer asked for leaves first.
            if free.len() >= MAX_IDLE {
                free.remove(0);
            }
            free.push(std::mem::take(&mut self.samples));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::bytes(0u8)]
    #[case::words(0u16)]
    fn a_dropped_buffer_is_used_again_for_its_own_size_only<T: Sample>(#[case] _of: T) {
        let pool = Pool::new();
        let first = pool.take::<T>(64);
        let at = first.as_ptr();
        drop(first);
        assert_ne!(pool.take::<T>(65).as_ptr(), at);
        assert_eq!(pool.take::<T>(64).as_ptr(), at);
    }

    #[test]
    fn idle_buffers_are_bounded() {
        let pool = Pool::new();
        let many: Vec<_> = (0..MAX_IDLE * 2).map(|_| pool.take::<u8>(8)).collect();
        drop(many);
        assert_eq!(pool.bytes.lock().unwrap().len(), MAX_IDLE);
    }
}
