//! Threads that do one piece of work after another: nothing given out waits for anything that is under way, and a thread
//! that has done its piece takes the next one instead of a new thread.

use std::collections::VecDeque;
use std::sync::{Arc, Condvar, Mutex, MutexGuard};

type Piece = Box<dyn FnOnce() + Send>;

#[derive(Default)]
pub struct Hands(Arc<Shared>);

#[derive(Default)]
struct Shared {
    now: Mutex<Now>,
    changed: Condvar,
}

#[derive(Default)]
struct Now {
    pieces: VecDeque<Piece>,
    /// Threads that wait for a piece.
    free: usize,
    over: bool,
}

impl Hands {
    pub fn give(&self, work: impl FnOnce() + Send + 'static) {
        let mut now = self.0.now();
        now.pieces.push_back(Box::new(work));
        if now.free >= now.pieces.len() {
            self.0.changed.notify_one();
            return;
        }
        drop(now);
        let shared = self.0.clone();
        std::thread::spawn(move || {
            while let Some(piece) = shared.next() {
                piece();
            }
        });
    }
}

impl Drop for Hands {
    fn drop(&mut self) {
        self.0.now().over = true;
        self.0.changed.notify_all();
    }
}

impl Shared {
    fn now(&self) -> MutexGuard<'_, Now> {
        self.now.lock().unwrap_or_else(|e| e.into_inner())
    }

    fn next(&self) -> Option<Piece> {
        let mut now = self.now();
        loop {
            if let Some(piece) = now.pieces.pop_front() {
                return Some(piece);
            }
            if now.over {
                return None;
            }
            now.free += 1;
            now = self.changed.wait(now).unwrap_or_else(|e| e.into_inner());
            now.free -= 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;
    use std::sync::mpsc::channel;
    use std::time::Duration;

    const LONG: Duration = Duration::from_secs(20);

    #[test]
    fn nothing_waits_for_what_is_under_way() {
        let hands = Hands::default();
        let (all, met) = (Arc::new(std::sync::Barrier::new(20)), channel());
        for _ in 0..20 {
            let (all, to) = (all.clone(), met.0.clone());
            hands.give(move || {
                all.wait();
                to.send(()).unwrap();
            });
        }
        assert_eq!((0..20).filter(|_| met.1.recv_timeout(LONG).is_ok()).count(), 20);
    }

    #[test]
    fn a_thread_that_is_free_is_used_again() {
        let hands = Hands::default();
        let (to, from) = channel();
        let mut seen = HashSet::new();
        for _ in 0..50 {
            let to = to.clone();
            hands.give(move || to.send(std::thread::current().id()).unwrap());
            seen.insert(from.recv_timeout(LONG).unwrap());
            // It says so a moment before it is free.
            while hands.0.now().free == 0 {
                std::thread::yield_now();
            }
        }
        assert_eq!(seen.len(), 1);
    }

    #[test]
    fn what_was_given_is_done_before_they_end_and_a_broken_piece_takes_nobody_else_along() {
        let hands = Hands::default();
        let (to, from) = channel();
        hands.give(|| std::panic::resume_unwind(Box::new(())));
        for n in 0..30 {
            let to = to.clone();
            hands.give(move || to.send(n).unwrap());
        }
        drop((hands, to));
        assert_eq!(from.iter().sum::<i32>(), 435);
    }
}
