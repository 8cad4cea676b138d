//! Packs spans of speech into windows that the recogniser understands best: 6 to 20 seconds, cut at the longest
//! pause (MODEL.md, "Clip length"). Speech that goes on for longer without a pause is cut where it is quietest,
//! and both windows hear the sound around the cut.
//!
//! Streaming: sound goes in as it comes, and only what is not yet in a window is kept.

use super::{Span, Spans};
use crate::model::RATE;
use crate::model::activity::{Activity, CHUNK, Memory};

const SECOND: u64 = RATE as u64;
/// How long windows are, in samples.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Packing {
    /// Longest extent of speech in one window, which may be longer by [`Packing::MARGIN`].
    pub longest: u64,
    /// Windows are not cut shorter where it can be helped.
    pub shortest: u64,
    /// A pause of this length always cuts.
    pub pause: u64,
}

impl Packing {
    pub const MARGIN: u64 = 2 * SECOND;
    /// What the built-in recogniser understands best.
    pub const BUILT_IN: Packing = Packing { longest: 20 * SECOND, shortest: 6 * SECOND, pause: 3 * SECOND };
}

/// Sound kept on both sides of speech.
const PAD: u64 = SECOND / 4;
/// Sound that both windows hear on each side of a cut through speech.
const SHARED: u64 = SECOND * 3 / 4;
/// With less speech than this there is none.
const LEAST_SPEECH: u64 = SECOND / 4;

/// Sound to be recognised in one piece.
#[derive(Clone, Debug, PartialEq)]
pub struct Window {
    /// First sample, counted from the start of the recording.
    pub start: u64,
    pub sound: Vec<f32>,
    /// Where in the recording someone speaks.
    pub spans: Vec<Span>,
    /// Words belong to this window from here (`None`: from its start) and up to here.
    pub cut_before: Option<u64>,
    pub cut_after: Option<u64>,
}

impl Window {
    pub fn end(&self) -> u64 {
        self.start + self.sound.len() as u64
    }
    pub fn speech(&self) -> u64 {
        self.spans.iter().map(Span::len).sum()
    }

    /// Two windows, cut at the longest pause near the middle, or where it is quietest.
    pub fn halves(&self) -> Option<(Window, Window)> {
        // Long windows are cut near the middle, so that few cuts make them small.
        let long = self.sound.len() as u64;
        let edge = if long > Packing::BUILT_IN.longest + Packing::MARGIN { long / 4 } else { SECOND };
        let (from, to) = (self.start + edge, self.end().saturating_sub(edge));
        if to < from + SECOND {
            return None;
        }
        let pauses = self.spans.windows(2).map(|p| (p[0].end, p[1].start));
        let pause = pauses.filter(|p| p.0 >= from && p.1 <= to).max_by_key(|p| p.1 - p.0);
        let (cut, shared) = match pause {
            Some((a, b)) => ((a + b) / 2, 0),
            None => {
                let third = (to - from) / 3;
                (quietest(&self.sound, self.start, from + third, to - third), SHARED.min(SECOND / 2))
            }
        };
        let part = |a: u64, b: u64| Window {
            start: a,
            sound: self.sound[(a - self.start) as usize..(b - self.start) as usize].to_vec(),
            spans: clip(&self.spans, a, b),
            cut_before: if a == self.start { self.cut_before } else { Some(cut) },
            cut_after: if b == self.end() { self.cut_after } else { Some(cut) },
        };
        Some((part(self.start, cut + shared), part(cut - shared, self.end())))
    }
}

fn clip(spans: &[Span], a: u64, b: u64) -> Vec<Span> {
    let cut = spans.iter().map(|s| Span { start: s.start.clamp(a, b), end: s.end.clamp(a, b) });
    cut.filter(|s| !s.is_empty()).collect()
}

/// The place with the least sound within 60 ms, between two places of a stretch of sound that begins at `base`.
fn quietest(sound: &[f32], base: u64, from: u64, to: u64) -> u64 {
    const AROUND: usize = 480;
    let power = |at: u64| {
        let i = (at - base) as usize;
        let part = &sound[i.saturating_sub(AROUND).min(sound.len())..(i + AROUND).min(sound.len())];
        part.iter().map(|v| v * v).sum::<f32>()
    };
    let mut best = (f32::INFINITY, from);
    for at in (from..to).step_by(160) {
        let p = power(at);
        if p < best.0 {
            best = (p, at);
        }
    }
    best.1
}

pub struct Windows {
    packing: Packing,
    memory: Memory,
    spans: Spans,
    /// Spans that are in no window yet.
    unsent: Vec<Span>,
    /// Sound from `base` on.
    sound: Vec<f32>,
    base: u64,
    heard: u64,
    /// Samples before this are in the window before, up to a cut through speech.
    cut: Option<u64>,
    /// End of the last span that was sent.
    sent: u64,
}

impl Windows {
    pub fn new(packing: Packing) -> Self {
        Windows {
            packing,
            memory: Memory::default(),
            spans: Spans::default(),
            unsent: Vec::new(),
            sound: Vec::new(),
            base: 0,
            heard: 0,
            cut: None,
            sent: 0,
        }
    }

    /// More sound; windows that became whole are appended, and every span of speech as it ends.
    pub fn push(
        &mut self,
        activity: &Activity,
        sound: &[f32],
        out: &mut Vec<Window>,
        spoken: &mut Vec<Span>,
    ) {
        self.sound.extend_from_slice(sound);
        while let Some(chunk) = self.chunk() {
            let likelihood = activity.hear(&mut self.memory, &chunk);
            self.heard += CHUNK as u64;
            let ended = self.spans.push(likelihood);
            self.look(ended, out, spoken);
        }
        self.forget();
    }

    pub fn finish(&mut self, activity: &Activity, out: &mut Vec<Window>, spoken: &mut Vec<Span>) {
        let end = self.base + self.sound.len() as u64;
        // The last chunk is filled up with silence.
        let rest = (end - self.heard) as usize;
        if rest > 0 {
            self.push(activity, &vec![0.0; CHUNK - rest], out, spoken);
            let real = (end.max(self.base) - self.base) as usize;
            self.sound.truncate(real);
        }
        if let Some(last) = self.spans.finish() {
            self.look(Some(Span { start: last.start, end: last.end.min(end) }), out, spoken);
        }
        while !self.unsent.is_empty() {
            self.send(self.unsent.len(), None, out);
        }
    }

    fn chunk(&self) -> Option<[f32; CHUNK]> {
        let from = (self.heard - self.base) as usize;
        self.sound.get(from..from + CHUNK)?.try_into().ok()
    }

    /// Sends what can be sent after one more chunk.
    fn look(&mut self, ended: Option<Span>, out: &mut Vec<Window>, spoken: &mut Vec<Span>) {
        if let Some(mut span) = ended {
            spoken.push(span);
            // The part before a cut has been sent.
            span.start = span.start.max(self.cut.unwrap_or(0));
            if !span.is_empty() {
                self.unsent.push(span);
            }
        }
        let open = self.spans.open().map(|s| s.max(self.cut.unwrap_or(0)));
        while let (Some(first), Some(last)) = (self.unsent.first(), self.unsent.last()) {
            let reach = if open.is_some() { self.heard } else { last.end };
            if open.is_none() && self.heard > last.end + self.packing.pause {
                self.send(self.unsent.len(), open, out);
            } else if reach > first.start + self.packing.longest {
                let n = self.longest_pause(open);
                self.send(n, open, out);
            } else if let Some(n) =
                self.unsent.windows(2).position(|p| p[1].start > p[0].end + self.packing.pause)
            {
                self.send(n + 1, open, out);
            } else {
                break;
            }
        }
        if let (true, Some(start)) = (self.unsent.is_empty(), self.spans.open()) {
            let start = start.max(self.cut.unwrap_or(0));
            if self.heard > start + self.packing.longest {
                self.cut_through(start, out);
            }
        }
    }

    /// How many of the unsent spans go into the next window: cut at the longest pause.
    fn longest_pause(&self, open: Option<u64>) -> usize {
        let Packing { longest, shortest, pause: usual } = self.packing;
        let first = self.unsent[0].start;
        let mut best = (0, 0);
        for (i, s) in self.unsent.iter().enumerate() {
            if s.end > first + longest {
                break;
            }
            let next = self.unsent.get(i + 1).map(|n| n.start).or(open);
            let pause = next.map_or(usual, |n| n.saturating_sub(s.end));
            let long_enough = s.end >= first + shortest;
            // Too short a window only if there is no better.
            let rank = if long_enough { 1 + pause } else { 0 };
            if rank >= best.0 {
                best = (rank, i + 1);
            }
        }
        best.1.max(1)
    }

    /// The first `n` unsent spans as a window. A span that is too long by itself is cut through.
    fn send(&mut self, n: usize, open: Option<u64>, out: &mut Vec<Window>) {
        let spans: Vec<Span> = self.unsent.drain(..n).collect();
        let (Some(first), Some(last)) = (spans.first().copied(), spans.last().copied()) else { return };
        if last.end > first.start + self.packing.longest + SECOND && n == 1 {
            self.unsent.insert(0, last);
            self.cut_through(last.start, out);
            return;
        }
        let next = self.unsent.first().map(|s| s.start).or(open);
        let end = self.base + self.sound.len() as u64;
        let middle = next.map_or(u64::MAX, |n| last.end + n.saturating_sub(last.end) / 2);
        let to = (last.end + PAD).min(middle).min(end);
        let window = self.window(spans, to, None);
        self.sent = last.end;
        self.cut = None;
        if window.speech() >= LEAST_SPEECH {
            out.push(window);
        }
    }

    /// Cuts speech that goes on without a pause.
    fn cut_through(&mut self, start: u64, out: &mut Vec<Window>) {
        let longest = self.packing.longest;
        let cut = quietest(&self.sound, self.base, start + longest * 6 / 10, start + longest - 2 * SHARED);
        let window = self.window(vec![Span { start, end: cut + SHARED }], cut + SHARED, Some(cut));
        out.push(window);
        self.cut = Some(cut);
        self.sent = cut;
        if let Some(s) = self.unsent.first_mut() {
            s.start = cut;
        }
    }

    fn window(&self, spans: Vec<Span>, to: u64, cut_after: Option<u64>) -> Window {
        let first = spans.first().map_or(0, |s| s.start);
        let from = match self.cut {
            Some(cut) if cut >= first => cut.saturating_sub(SHARED),
            // Never past the middle of the pause before.
            _ => first.saturating_sub(PAD).max(self.sent + first.saturating_sub(self.sent) / 2),
        };
        let from = from.max(self.base);
        let at = |s: u64| (s.clamp(self.base, self.base + self.sound.len() as u64) - self.base) as usize;
        Window {
            start: from,
            sound: self.sound[at(from)..at(to)].to_vec(),
            spans,
            cut_before: self.cut.filter(|&cut| cut >= first),
            cut_after,
        }
    }

    /// Drops sound that no window will want.
    fn forget(&mut self) {
        let wanted = self.unsent.first().map(|s| s.start).or(self.spans.open()).unwrap_or(self.heard);
        let wanted = match self.cut {
            Some(cut) => wanted.max(cut).saturating_sub(SHARED),
            None => wanted.saturating_sub(PAD + CHUNK as u64 * 2),
        };
        let n = wanted.min(self.heard).saturating_sub(self.base) as usize;
        // Moving the rest is worth it only now and then.
        if n > 2 * RATE as usize {
            self.sound.drain(..n);
            self.base += n as u64;
        }
    }
}
