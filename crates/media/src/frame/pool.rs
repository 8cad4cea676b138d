//! Picture buffers that are used again: a fresh 3 MB buffer for each frame costs more in page faults
//! than the copy into it.

use std::sync::{Arc, Mutex};

/// Buffers given back by dropped frames.
#[derive(Clone, Default, Debug)]
pub struct Pool {
    free: Arc<Mutex<Vec<Vec<u8>>>>,
}

/// More than this many idle buffers are let go.
const MAX_IDLE: usize = 24;

impl Pool {
    pub fn new() -> Self {
        Self::default()
    }

    /// A buffer of `len` bytes with unspecified (but initialised) content.
    pub fn take(&self, len: usize) -> Buffer {
        let mut free = self.free.lock().unwrap_or_else(|e| e.into_inner());
        let found = free.iter().rposition(|b| b.len() == len).map(|i| free.swap_remove(i));
        drop(free);
        Buffer { bytes: found.unwrap_or_else(|| vec![0; len]), home: Some(self.clone()) }
    }
}

/// Bytes that go back to their pool when dropped.
#[derive(Debug, Default)]
pub struct Buffer {
    bytes: Vec<u8>,
    home: Option<Pool>,
}

impl Buffer {
    pub fn from_vec(bytes: Vec<u8>) -> Self {
        Buffer { bytes, home: None }
    }
}

impl std::ops::Deref for Buffer {
    type Target = [u8];
    fn deref(&self) -> &[u8] {
        &self.bytes
    }
}
impl std::ops::DerefMut for Buffer {
    fn deref_mut(&mut self) -> &mut [u8] {
        &mut self.bytes
    }
}

impl Drop for Buffer {
    fn drop(&mut self) {
        if let Some(home) = self.home.take() {
            let mut free = home.free.lock().unwrap_or_else(|e| e.into_inner());
            // A size that is no longer asked for leaves first.
            if free.len() >= MAX_IDLE {
                free.remove(0);
            }
            free.push(std::mem::take(&mut self.bytes));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_dropped_buffer_is_used_again_for_its_own_size_only() {
        let pool = Pool::new();
        let first = pool.take(64);
        let at = first.as_ptr();
        drop(first);
        assert_ne!(pool.take(65).len(), 64);
        assert_eq!(pool.take(64).as_ptr(), at);
    }

    #[test]
    fn idle_buffers_are_bounded() {
        let pool = Pool::new();
        let many: Vec<_> = (0..MAX_IDLE * 2).map(|_| pool.take(8)).collect();
        drop(many);
        assert_eq!(pool.free.lock().unwrap().len(), MAX_IDLE);
    }
}
