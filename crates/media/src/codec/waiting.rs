//! Pictures that a decoder still owes: packets have times, pictures come out later and in the order of showing, and what
//! comes no more is told.

use std::collections::VecDeque;

/// One packet whose picture has not come out.
#[derive(Clone, Copy, Debug)]
struct Owed {
    key: i64,
    pts: i64,
    duration: i64,
    shown: bool,
}

/// What is owed, in the order of decoding.
#[derive(Default)]
pub struct Waiting {
    owed: Vec<Owed>,
    lost: Vec<(i64, i64)>,
    /// Packets have times of decoding only: pictures take the earliest that is free.
    pub in_order: bool,
}

impl Waiting {
    pub fn new(in_order: bool) -> Waiting {
        Waiting { in_order, ..Waiting::default() }
    }

    /// A packet was given; its picture will come out under this key.
    pub fn given(&mut self, key: i64, pts: i64, duration: i64, shown: bool) {
        self.owed.push(Owed { key, pts, duration, shown });
    }

    /// The picture of this key came out: its time and duration, `None` if it is not shown or was never asked for. Shown
    /// packets from before it will give none.
    pub fn came(&mut self, key: i64) -> Option<(i64, i64)> {
        let at = self.owed.iter().position(|o| o.key == key)?;
        if self.in_order
            && let Some(first) = (0..self.owed.len()).min_by_key(|&i| self.owed[i].pts)
        {
            let (a, b) = (self.owed[at], self.owed[first]);
            (self.owed[at].pts, self.owed[at].duration) = (b.pts, b.duration);
            (self.owed[first].pts, self.owed[first].duration) = (a.pts, a.duration);
        }
        let it = self.owed.remove(at);
        if !it.shown {
            return None;
        }
        self.give_up(|o| o.pts < it.pts);
        Some((it.pts, it.duration))
    }

    /// Nothing more comes out.
    pub fn end(&mut self) {
        self.give_up(|_| true);
    }

    fn give_up(&mut self, which: impl Fn(&Owed) -> bool) {
        let gone = self.owed.extract_if(.., |o| which(o)).filter(|o| o.shown);
        self.lost.extend(gone.map(|o| (o.pts, o.duration)));
    }

    /// Times of pictures that will never come, each told once.
    pub fn take_lost(&mut self) -> Vec<(i64, i64)> {
        let mut lost = std::mem::take(&mut self.lost);
        lost.sort_unstable();
        lost
    }
}

/// Pictures inside an encoder that knows them by their numbers only.
#[derive(Default)]
pub struct Numbered {
    next: i64,
    /// Number, time and length.
    inside: VecDeque<(i64, i64, i64)>,
}

impl Numbered {
    /// Its number.
    pub fn enters(&mut self, pts: i64, duration: i64) -> i64 {
        let number = self.next;
        self.next += 1;
        self.inside.push_back((number, pts, duration));
        number
    }

    /// Time and length of a picture that came out, after those in front of it; each once.
    pub fn left(&mut self, number: i64) -> Option<(i64, i64)> {
        while let Some((n, pts, duration)) = self.inside.pop_front() {
            if n == number {
                return Some((pts, duration));
            }
        }
        None
    }

    #[cfg_attr(not(any(svt, feature = "rav1e")), allow(dead_code))]
    pub fn is_empty(&self) -> bool {
        self.inside.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn given(in_order: bool, all: &[(i64, i64, bool)]) -> Waiting {
        let mut w = Waiting::new(in_order);
        all.iter().for_each(|&(key, pts, shown)| w.given(key, pts, 1, shown));
        w
    }

    #[test]
    fn pictures_have_the_times_of_their_packets_and_lost_ones_are_told_once() {
        let mut w =
            given(false, &[(0, 10, true), (8, 14, true), (4, 12, true), (6, 13, true), (2, 11, false)]);
        assert_eq!(w.came(0), Some((10, 1)));
        assert_eq!(w.came(2), None);
        assert_eq!(w.came(9), None);
        assert_eq!(w.came(6), Some((13, 1)));
        assert_eq!(w.take_lost(), [(12, 1)]);
        w.end();
        assert_eq!((w.take_lost(), w.take_lost()), (vec![(14, 1)], vec![]));
    }

    #[test]
    fn times_of_decoding_are_given_out_from_the_first() {
        let mut w = given(true, &[(0, 0, true), (4, 1, true), (2, 2, true)]);
        let got: Vec<_> = [0, 2, 4].iter().map(|&key| w.came(key).unwrap().0).collect();
        assert_eq!(got, [0, 1, 2]);
        assert!(w.take_lost().is_empty());
    }
}
