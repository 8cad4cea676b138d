//! A track whose packets are taken over as they are: what of them is presented, and when.

use super::Made;
use crate::codec::Coded;
use crate::container::wrap::{Ending, OutTrack, OutTrackKind};
use crate::plan::CopyPlan;
use crate::track::{Codec, Packet};
use crate::units::Time;
use std::collections::VecDeque;

/// Sound packets are told to follow each other unless they are so far apart: times of other containers are rounded.
const APART: u32 = 50;
/// Packets that are held while it is not known whether they are needed.
const MOST_HELD: usize = 100_000;

pub struct Copy {
    plan: CopyPlan,
    /// Of the part that is wanted, in ticks.
    from: Option<i64>,
    to: Option<i64>,
    /// Packets in front of what is wanted that it may lean on.
    before: Vec<Packet>,
    /// Pictures behind the end, which those in front of it may lean on.
    behind: Vec<Packet>,
    begun: bool,
    /// How long sound packets are.
    usual: i64,
    /// The last sound packet: how long it is shows with the next one.
    last: Option<Coded>,
    ready: VecDeque<Coded>,
    /// When the first packet begins and when presentation does and ends.
    first: Option<i64>,
    shown_from: Option<i64>,
    end: i64,
    pub shown: u64,
}

impl Copy {
    pub fn new(plan: &CopyPlan) -> Copy {
        let ticks = plan.span.map(|s| s.ticks(plan.timescale));
        Copy {
            plan: plan.clone(),
            from: ticks.map(|t| t.0),
            to: ticks.and_then(|t| t.1),
            before: Vec::new(),
            behind: Vec::new(),
            begun: false,
            usual: 0,
            last: None,
            ready: VecDeque::new(),
            first: None,
            shown_from: None,
            end: 0,
            shown: 0,
        }
    }

    pub fn of(&self) -> usize {
        self.plan.track
    }

    pub fn is_picture(&self) -> bool {
        self.plan.is_picture()
    }

    /// Its first packet is known.
    pub fn has_begun(&self) -> bool {
        self.first.is_some()
    }

    /// Known once the first packet is there.
    pub fn out_track(&self) -> OutTrack {
        let lead = -self.first.unwrap_or(0);
        OutTrack {
            codec: self.plan.codec.clone(),
            kind: self.plan.kind.clone(),
            timescale: self.plan.timescale,
            language: self.plan.language.clone(),
            expected: self.plan.expected,
            skip: if self.is_picture() { 0 } else { lead.max(0) },
            reordered: self.is_picture(),
            began: None,
        }
    }

    pub fn next(&mut self) -> Option<Coded> {
        self.ready.pop_front()
    }

    pub fn take(&mut self, packet: &Packet) {
        match self.is_picture() {
            true => self.picture(packet),
            false => self.sound(packet),
        }
    }

    fn picture(&mut self, p: &Packet) {
        let wanted = self.from.is_none_or(|from| p.pts + p.duration.max(1) > from);
        if !self.begun {
            // From the last key picture at or before what is wanted.
            if p.key && self.from.is_some_and(|from| p.pts <= from) {
                self.before.clear();
            }
            if !wanted && self.before.len() < MOST_HELD {
                self.before.push(p.clone());
                return;
            }
            self.begun = true;
            let first_key = self.before.iter().position(|p| p.key).unwrap_or(self.before.len());
            for p in std::mem::take(&mut self.before).iter().skip(first_key) {
                self.put_picture(p);
            }
        }
        if self.to.is_some_and(|to| p.pts >= to) {
            if self.behind.len() < MOST_HELD {
                self.behind.push(p.clone());
            }
            return;
        }
        for p in std::mem::take(&mut self.behind) {
            self.put_picture(&p);
        }
        self.put_picture(p);
    }

    fn put_picture(&mut self, p: &Packet) {
        let zero = self.from.unwrap_or(0);
        let (at, end) = (p.pts - zero, (p.pts + p.duration).min(self.to.unwrap_or(i64::MAX)) - zero);
        let is_shown = p.shown && (self.from.is_none() || end > 0) && self.to.is_none_or(|to| p.pts < to);
        if is_shown {
            let begin = if self.from.is_some() { at.max(0) } else { at };
            self.shown_from = Some(self.shown_from.map_or(begin, |s| s.min(begin)));
            self.end = self.end.max(end);
            self.shown += 1;
        }
        self.first = Some(self.first.map_or(at, |f| f.min(at)));
        let coded = Coded::new(at, p.duration, p.key, p.data.clone());
        self.ready.push_back(Coded { beside: p.beside.clone(), ..coded });
    }

    fn sound(&mut self, p: &Packet) {
        let heard = p.keep.map_or(p.duration, |k| i64::from(k).min(p.duration.max(0)));
        let early = !p.shown || self.from.is_some_and(|from| p.pts + heard <= from);
        if !self.begun && early {
            // One is enough for a decoder to be warm; priming is kept whole.
            if p.shown {
                self.before.clear();
            }
            self.before.push(p.clone());
            return;
        }
        if !p.shown || self.to.is_some_and(|to| p.pts >= to) {
            return;
        }
        let start = p.pts - i64::from(p.trim_start);
        // One of which the end is not heard is as long as the others.
        let whole = p.duration + i64::from(p.trim_start);
        self.usual = self.usual.max(whole);
        let whole = if p.keep.is_some() { self.usual } else { whole };
        if !std::mem::replace(&mut self.begun, true) {
            let before = std::mem::take(&mut self.before);
            let before = if self.plan_is_pcm() { Vec::new() } else { before };
            let mut at = start - before.iter().map(|p| p.duration + i64::from(p.trim_start)).sum::<i64>();
            for p in &before {
                let length = p.duration + i64::from(p.trim_start);
                self.put_sound(p, at, length, None);
                at += length;
            }
        }
        self.put_sound(p, start, whole, Some((p.pts, p.pts + heard)));
    }

    fn plan_is_pcm(&self) -> bool {
        matches!(self.plan.codec, Codec::Pcm(_))
    }

    /// `heard`: from when to when it is, in ticks of the source.
    fn put_sound(&mut self, p: &Packet, start: i64, length: i64, heard: Option<(i64, i64)>) {
        let zero = self.from.unwrap_or(0);
        let (mut start, mut length, mut data) = (start - zero, length, p.data.clone());
        if let Some((from, to)) = heard {
            let from = (from - zero).max(if self.from.is_some() { 0 } else { i64::MIN });
            let to = to.min(self.to.unwrap_or(i64::MAX)) - zero;
            if let (Codec::Pcm(layout), OutTrackKind::Audio { channels, .. }) =
                (&self.plan.codec, &self.plan.kind)
            {
                // Of samples that stand by themselves, those that are heard.
                let frame = usize::from(layout.bytes) * usize::from(*channels);
                let (a, b) = ((from - start).max(0) as usize * frame, (to - start).max(0) as usize * frame);
                data = data.get(a..b.min(data.len())).unwrap_or(&[]).to_vec();
                if self.plan.swapped {
                    data.chunks_exact_mut(layout.bytes.into()).for_each(|s| s.reverse());
                }
                (start, length) = (from, (data.len() / frame.max(1)) as i64);
            }
            self.shown_from.get_or_insert(from);
            self.end = self.end.max(to);
            self.shown += (to - from).max(0) as u64;
        }
        if let Some(mut last) = self.last.take() {
            // A hole makes the packet in front of it longer.
            let next = last.pts + last.duration;
            let apart = i64::from(self.plan.timescale / APART);
            if start > next + apart {
                last.duration = start - last.pts;
            } else {
                start = next;
            }
            self.ready.push_back(last);
        }
        self.first.get_or_insert(start);
        self.last = Some(Coded::new(start, length, true, data));
    }

    /// What is left, and how the track is presented.
    pub fn finish(&mut self, made: &mut Made) -> Ending {
        self.ready.extend(self.last.take());
        let start = self.shown_from.unwrap_or(0);
        let length = (self.end - start).max(0);
        match &self.plan.kind {
            OutTrackKind::Audio { rate, channels, .. } => {
                made.sound.push((self.shown, *rate, *channels));
            }
            _ => {
                made.frames = self.shown;
                made.size = self.plan.decodes.then_some(match self.plan.kind {
                    OutTrackKind::Video { width, height, .. } => (width, height),
                    _ => (0, 0),
                });
            }
        }
        Ending {
            setup: self.plan.setup.clone(),
            start: Time::new(start.max(0), self.plan.timescale),
            skip: start - self.first.unwrap_or(start),
            length,
        }
    }
}
