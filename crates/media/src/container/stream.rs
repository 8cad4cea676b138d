//! Containers that are read from front to back and have no index that says it all: Matroska, transport
//! streams, AVI, Ogg and the plain streams of one codec.
//!
//! Such a format gives its tracks as it describes them and packets with the file's own times ([`Parts`]).
//! What all of them need is here: a first look through the file that measures frame rate, counts and length,
//! times put on the presentation line, and sound counted in samples.

use super::timing::PacketLength;
use super::{About, Demux, Packet, Track};
use crate::error::{Error, Result};
use crate::units::{Ratio, Time};

/// What one format does itself.
pub trait Parts: Send {
    /// The next packet in the order of the file. `Damaged` is not fatal and the place has moved on.
    fn next(&mut self) -> Result<Option<Raw>>;
    /// Back to the first packet.
    fn rewind(&mut self);
    /// Place in the file, to know how much was looked through.
    fn at(&self) -> u64;
    /// While this is on, packets need only the first bytes that tell their length.
    fn skim(&mut self, _on: bool) {}
    /// How the end of the file shows that a part of it is missing.
    fn cut(&self) -> Option<String> {
        None
    }
    /// Moves near the end, so that the packets that follow show when each track ends. `false` if it cannot.
    fn to_tail(&mut self) -> Result<bool> {
        Ok(false)
    }
}

/// A packet with the file's own times, in ticks of [`Described::scale`].
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Raw {
    pub track: usize,
    /// `None`: right behind the packet before it.
    pub pts: Option<i64>,
    pub duration: Option<i64>,
    pub key: bool,
    /// Decoded, but not shown.
    pub hidden: bool,
    /// Samples at the end of what it decodes to that are not heard.
    pub drop_end: u32,
    pub data: Vec<u8>,
    /// As [`Packet::beside`].
    pub beside: Vec<u8>,
    /// Bytes that were left out of `data` when skimming.
    pub left_out: usize,
}

/// A track as the format describes it.
pub struct Described {
    pub track: Track,
    /// Ticks a second of its packets' times.
    pub scale: u32,
    /// Its length where the file states one.
    pub stated: Option<Time>,
    /// Its number of frames where the file states one.
    pub stated_frames: Option<u64>,
    /// Samples of sound by which all packets come earlier than they say, or would come by their order: priming. What lies
    /// before 0 is not heard.
    pub lead: i64,
    /// Sound from this sample on is not heard.
    pub heard_until: Option<i64>,
}

impl Described {
    pub fn new(track: Track, scale: u32) -> Self {
        Described {
            track,
            scale: scale.max(1),
            stated: None,
            stated_frames: None,
            lead: 0,
            heard_until: None,
        }
    }
}

/// Where H.264 and HEVC are byte streams, their setup record comes from the first pictures. The format is back at its first
/// packet then.
pub fn take_setups(parts: &mut impl Parts, described: &mut [Described]) {
    parts.rewind();
    let wanted = |d: &Described| d.track.codec.has_units() && d.track.setup.is_empty();
    for _ in 0..500 {
        if !described.iter().any(wanted) {
            break;
        }
        match parts.next() {
            Ok(Some(raw)) => {
                let d = &mut described[raw.track];
                if wanted(d) {
                    crate::codec::take_setup(&mut d.track, &raw.data);
                }
            }
            Ok(None) => break,
            Err(_) => (),
        }
    }
    parts.rewind();
}

/// How a format wants to be looked through.
pub struct Look {
    pub format: &'static str,
    /// Bytes looked through before the tail is asked.
    pub bytes: u64,
    /// The earliest packet is moment 0.
    pub from_zero: bool,
}

/// Times further from 0 than this (in any scale) are no times: held to it, so that sums stay in range.
const FURTHEST: i64 = 1 << 58;

fn held(t: i64) -> i64 {
    t.clamp(-FURTHEST, FURTHEST)
}

/// As for all times, but within what can be summed.
fn rescale(ticks: i64, from: u32, to: u32) -> i64 {
    held(crate::units::rescale(ticks, from, to))
}

/// A packet with times that can be computed with.
fn sane(mut raw: Raw) -> Raw {
    raw.pts = raw.pts.map(held);
    // No packet lasts longer than a day at a nanosecond's scale.
    raw.duration = raw.duration.map(|d| d.clamp(0, 1 << 47));
    raw
}

/// Pictures whose times are kept to tell the rate.
const MAX_TIMES: usize = 1 << 16;
/// Packets that may be damaged in a look through.
const MAX_ERRORS: u32 = 1000;

/// How packets of a track get their times.
struct Clock {
    scale: u32,
    origin: i64,
    /// Pictures at a constant rate: time of the first, in file ticks.
    first: i64,
    rate: Option<Ratio>,
    usual: i64,
    /// Next moment, in the track's scale for sound and in file ticks for pictures.
    next: Option<i64>,
    length: PacketLength,
    lead: i64,
    heard_until: Option<i64>,
}

pub struct Streamed<P> {
    format: &'static str,
    parts: P,
    tracks: Vec<Track>,
    clocks: Vec<Clock>,
    chosen: Vec<bool>,
    about: About,
}

impl<P: Parts> Streamed<P> {
    pub fn open(mut parts: P, described: Vec<Described>, mut about: About, look: Look) -> Result<Self> {
        if described.is_empty() {
            return Err(Error::damaged(look.format, "no track is described"));
        }
        parts.skim(true);
        let seen = Seen::look(&mut parts, &described, &look, &mut about)?;
        parts.skim(false);
        parts.rewind();
        let mut tracks = Vec::new();
        let mut clocks = Vec::new();
        let base = seen
            .tracks
            .iter()
            .zip(&described)
            .filter_map(|(s, d)| Some(Time::new(s.first?, d.scale)))
            .min()
            .filter(|_| look.from_zero)
            .unwrap_or(Time::ZERO);
        for (d, s) in described.into_iter().zip(seen.tracks) {
            let origin = base.ticks_at(d.scale);
            let (track, clock) = s.finish(d, origin, seen.whole, &mut about);
            tracks.push(track);
            clocks.push(clock);
        }
        let chosen = vec![true; tracks.len()];
        Ok(Streamed { format: look.format, parts, tracks, clocks, chosen, about })
    }
}

impl<P: Parts> Streamed<P> {
    /// Sound that ends before the number of samples its file states was cut off. 0 states nothing.
    pub fn compare_stated(&mut self, samples: u64) {
        let Some(t) = self.tracks.first() else { return };
        let there = t.duration.ticks_at(t.timescale).max(0) as u64;
        if t.packets.is_some() && samples > there && self.about.damage.is_none() {
            self.about.damage = Some(format!(
                "cut off, or still being copied: {samples} samples are stated, but only {there} are there"
            ));
        }
    }
}

/// What a look through a file showed.
struct Seen {
    tracks: Vec<SeenTrack>,
    /// All of the file was looked through.
    whole: bool,
}

#[derive(Default)]
struct SeenTrack {
    /// Earliest and latest moment, file ticks; for pictures the end is the last one's start.
    first: Option<i64>,
    end: Option<i64>,
    times: Vec<i64>,
    packets: u64,
    shown: u64,
    bytes: u64,
    /// Samples, for sound, in the track's own rate.
    samples: i64,
    cut: i64,
    last_duration: Option<i64>,
    first_packet: Option<Vec<u8>>,
    /// Sound of unknown packet length: measured from times.
    untimed: bool,
    /// Some pictures have no time of their own.
    some_untimed: bool,
}

impl Seen {
    fn look<P: Parts>(
        parts: &mut P,
        described: &[Described],
        look: &Look,
        about: &mut About,
    ) -> Result<Seen> {
        let mut tracks: Vec<SeenTrack> = described.iter().map(|_| SeenTrack::default()).collect();
        let mut lengths: Vec<PacketLength> = described.iter().map(|d| PacketLength::of(&d.track)).collect();
        let (mut whole, mut errors, mut first) = (false, 0u32, None);
        let start = parts.at();
        while parts.at().saturating_sub(start) < look.bytes && errors < MAX_ERRORS {
            match parts.next() {
                Ok(Some(raw)) => {
                    let raw = sane(raw);
                    if let (Some(t), Some(d)) = (tracks.get_mut(raw.track), described.get(raw.track)) {
                        t.note(&raw, d, &mut lengths[raw.track]);
                    }
                }
                Ok(None) => {
                    whole = true;
                    break;
                }
                Err(Error::Damaged(f)) => {
                    errors += 1;
                    first.get_or_insert(f.to_string());
                }
                Err(e) => return Err(e),
            }
        }
        if !whole && parts.to_tail()? {
            // The end of every track: packets near the end, by their own times only.
            for _ in 0..1 << 20 {
                match parts.next() {
                    Ok(Some(raw)) => {
                        if let (Some(t), Some(d)) = (tracks.get_mut(raw.track), described.get(raw.track))
                            && let Some(pts) = raw.pts.map(held)
                        {
                            let length = lengths[raw.track]
                                .samples(&raw.data)
                                .map(|n| rescale(n.into(), d.track.timescale, d.scale));
                            let last =
                                pts + raw.duration.map(|d| d.clamp(0, 1 << 47)).or(length).unwrap_or(0);
                            let last = if d.track.video().is_some() { pts } else { last };
                            t.end = t.end.max(Some(last));
                        }
                    }
                    Ok(None) => break,
                    Err(Error::Damaged(_)) => errors += 1,
                    Err(e) => return Err(e),
                }
                if errors > 2 * MAX_ERRORS {
                    break;
                }
            }
        }
        if let Some(cut) = parts.cut() {
            about.damage.get_or_insert(cut);
        }
        if let Some(first) = first {
            let places =
                if errors == 1 { "a damaged place".to_owned() } else { format!("{errors} damaged places") };
            about.remarks.push(format!("{places}; first: {first}"));
        }
        Ok(Seen { tracks, whole })
    }
}

impl SeenTrack {
    fn note(&mut self, raw: &Raw, d: &Described, length: &mut PacketLength) {
        self.packets += 1;
        self.shown += u64::from(!raw.hidden);
        self.bytes += (raw.data.len() + raw.left_out) as u64;
        if self.first_packet.is_none() {
            self.first_packet = Some(raw.data[..raw.data.len().min(4096)].to_vec());
        }
        if d.track.audio().is_some() {
            let samples = length.samples(&raw.data).map(i64::from);
            let stated = raw.duration.map(|n| rescale(n, d.scale, d.track.timescale));
            self.untimed |= samples.or(stated).is_none();
            // Where the packet's own time is ahead of the samples so far, there is a hole.
            if let (Some(pts), Some(first)) = (raw.pts, self.first) {
                let at = rescale(pts - first, d.scale, d.track.timescale);
                if (at - self.samples).abs() > jump(d.track.timescale) {
                    self.samples = at;
                }
            }
            self.samples = held(self.samples + samples.or(stated).unwrap_or(0));
            self.cut = i64::from(raw.drop_end);
            self.first = self.first.or(raw.pts);
            let end = raw.pts.map(|p| p + raw.duration.unwrap_or(0));
            self.end = self.end.max(end);
            return;
        }
        let pts = raw.pts.unwrap_or_else(|| self.end.map_or(0, |e| e + self.last_duration.unwrap_or(1)));
        if !raw.hidden {
            self.first = Some(self.first.map_or(pts, |f| f.min(pts)));
            self.end = self.end.max(Some(pts));
            self.last_duration = raw.duration.or(self.last_duration);
            // A picture without a time of its own says nothing of the rate.
            self.some_untimed |= raw.pts.is_none() && raw.duration.is_none();
            if self.times.len() < MAX_TIMES && (raw.pts.is_some() || raw.duration.is_some()) {
                self.times.push(pts);
            }
        }
    }

    fn finish(mut self, d: Described, origin: i64, whole: bool, about: &mut About) -> (Track, Clock) {
        let Described { mut track, scale, stated, stated_frames, lead, heard_until } = d;
        let length = PacketLength::of(&track);
        let mut clock = Clock {
            scale,
            origin,
            first: self.first.unwrap_or(0),
            rate: None,
            usual: 0,
            next: None,
            length,
            lead,
            heard_until,
        };
        if let Some(first) = &self.first_packet {
            crate::codec::look_at_packet(&mut track, first);
        }
        if whole {
            (track.packets, track.bytes) = (Some(self.packets), Some(self.bytes));
        }
        if track.audio().is_some() {
            let rate = track.timescale;
            let from = rescale(self.first.unwrap_or(0) - origin, scale, rate) - lead;
            let begin = from.max(0);
            let end = if whole && !self.untimed {
                Some(from + self.samples - self.cut)
            } else {
                self.end.map(|e| rescale(e - origin, scale, rate))
            };
            let stated = stated.map(|s| begin + s.ticks_at(rate));
            if !whole && stated.is_some() {
                about.note_stated("audio.duration");
            }
            // How long the last packet is heard, only the file can say then.
            let end = if whole && self.untimed && about.damage.is_none() { end.max(stated) } else { end };
            let end = if whole { end.or(stated) } else { stated.or(end) }.unwrap_or(begin);
            let end = heard_until.map_or(end, |h| end.min(h)).max(begin);
            track.start = Time::new(begin, rate);
            track.duration = Time::new(end - begin, rate);
            return (track, clock);
        }
        self.times.sort_unstable();
        let stated_rate = track.video().and_then(|v| v.rate);
        // Where only some pictures have a time, the stated rate counts if it fits the whole.
        let fits_whole = |r: &Ratio| {
            let frame = f64::from(scale) * f64::from(r.den) / f64::from(r.num);
            let span = self.times.last().zip(self.times.first()).map_or(0, |(l, f)| l - f) as f64;
            (span / frame - (self.shown as f64 - 1.0)).abs() < 4.0 + self.shown as f64 / 1000.0
        };
        let found = if self.some_untimed {
            stated_rate.filter(|r| !whole || fits_whole(r))
        } else {
            rate_of(&self.times, scale, stated_rate)
        };
        let usual = match (self.times.as_slice(), stated_rate) {
            ([first, .., last], _) => (last - first) / (self.times.len() as i64 - 1),
            (_, Some(r)) => held(i64::from(scale).saturating_mul(r.den.into()) / i64::from(r.num)),
            _ => self.last_duration.unwrap_or(0),
        };
        clock.usual = self.last_duration.filter(|&d| d > 0).unwrap_or(usual);
        // Pictures that are shown for two or more frames of the rate: each is still at the start of one.
        let gaps = found.is_none();
        let found = found.or_else(|| stated_rate.filter(|&r| on_grid(&self.times, scale, r)));
        if let (Some(rate), Some(v)) = (found, video(&mut track)) {
            (v.rate, v.constant_rate) = (Some(rate), !gaps);
            clock.rate = Some(rate);
            track.timescale = rate.num;
        } else if let Some(v) = video(&mut track) {
            v.constant_rate = false;
            let span = self.times.last().zip(self.times.first()).map_or(0, |(l, f)| l - f);
            if span > 0 {
                v.rate = Ratio::new((self.times.len() as u64 - 1) * u64::from(scale), span as u64);
            }
            track.timescale = scale;
        }
        let first = self.first.unwrap_or(origin);
        let start = clock.at(first);
        let last = self.end.unwrap_or(first);
        let mut length = clock.at(last) - start + clock.frame();
        if self.packets == 0 {
            length = 0;
        }
        if !whole {
            if let Some(s) = stated {
                length = s.ticks_at(track.timescale);
                about.note_stated("video.duration");
            }
            if let Some(n) = stated_frames {
                track.shown = Some(n);
                about.note_stated("video.frames");
            }
        } else {
            track.shown = Some(self.shown);
        }
        track.start = Time::new(start, track.timescale);
        track.duration = Time::new(length.max(0), track.timescale);
        (track, clock)
    }
}

fn video(track: &mut Track) -> Option<&mut super::VideoTrack> {
    match &mut track.media {
        super::Media::Video(v) => Some(v),
        _ => None,
    }
}

/// A sound packet whose time is off by more than this stands behind a hole (or a cut), in samples.
fn jump(rate: u32) -> i64 {
    i64::from(rate / 20).max(1)
}

/// Rates that files mean when their times are rounded to a coarse scale.
const RATES: [(u32, u32); 18] = [
    (24_000, 1001),
    (24, 1),
    (25, 1),
    (30_000, 1001),
    (30, 1),
    (50, 1),
    (60_000, 1001),
    (60, 1),
    (48, 1),
    (15, 1),
    (12, 1),
    (10, 1),
    (20, 1),
    (5, 1),
    (1, 1),
    (100, 1),
    (120_000, 1001),
    (120, 1),
];

/// The constant rate that these times, in order, keep within their rounding; `None` if they keep none.
fn rate_of(times: &[i64], scale: u32, stated: Option<Ratio>) -> Option<Ratio> {
    let (&first, &last) = (times.first()?, times.last()?);
    let n = times.len() as i64 - 1;
    if n == 0 {
        return stated;
    }
    // A tick of rounding, or a millisecond's tenth where the scale is fine; the first time is rounded as well.
    let rounding = f64::from(scale.div_ceil(10_000).max(1)) + 0.01;
    // How far the times stray from a rate, in ticks; `None` if further than rounding takes them.
    let strays = |r: Ratio| {
        let frame = f64::from(scale) * f64::from(r.den) / f64::from(r.num);
        let away = |(i, &t): (usize, &i64)| ((t - first) as f64 - i as f64 * frame).abs();
        let most = times.iter().enumerate().map(away).fold(0.0, f64::max);
        (most <= rounding.min(frame * 0.45)).then_some(most)
    };
    if let Some(r) = stated.filter(|&r| strays(r).is_some()) {
        return Some(r);
    }
    // Frames of the stated rate with some left out: no other rate is meant.
    if stated.is_some_and(|r| on_grid(times, scale, r)) {
        return None;
    }
    let span = u64::try_from(last - first).ok()?;
    let usual = RATES.iter().map(|&(num, den)| Ratio { num, den });
    // An even number of ticks a frame is no rounding at all; otherwise the usual rate that strays least.
    let even = Ratio::new(n as u64 * u64::from(scale), span).filter(|&r| strays(r).is_some_and(|s| s < 1e-6));
    let nearest =
        || usual.filter_map(|r| Some((r, strays(r)?))).min_by(|a, b| a.1.total_cmp(&b.1)).map(|(r, _)| r);
    even.or_else(nearest).or_else(|| {
        let exact = Ratio::new(n as u64 * u64::from(scale), span)?;
        strays(exact).map(|_| exact)
    })
}

/// Whether every time is at the start of a frame of this rate.
fn on_grid(times: &[i64], scale: u32, r: Ratio) -> bool {
    let frame = f64::from(scale) * f64::from(r.den) / f64::from(r.num);
    let slack = (f64::from(scale.div_ceil(10_000).max(1)) + 0.01).min(frame * 0.2);
    times.iter().all(|t| {
        let frames = (t - times[0]) as f64 / frame;
        ((frames - frames.round()) * frame).abs() <= slack
    })
}

impl Clock {
    /// A picture's moment in the track's scale.
    fn at(&self, ticks: i64) -> i64 {
        match self.rate {
            Some(r) => {
                let number = |t: i64| {
                    let exact = i128::from(t) * i128::from(r.num);
                    let frame = i128::from(self.scale) * i128::from(r.den);
                    let n = (exact + frame / 2).div_euclid(frame);
                    n.clamp(-i128::from(FURTHEST), FURTHEST.into()) as i64
                };
                // Frames are counted from the first, so that its own rounding does not matter.
                let offset = rescale(self.first - self.origin, self.scale, r.num);
                held(number(ticks - self.first).saturating_mul(r.den.into())) + offset
            }
            None => ticks - self.origin,
        }
    }
    fn frame(&self) -> i64 {
        self.rate.map_or(self.usual, |r| i64::from(r.den))
    }

    fn picture(&mut self, raw: Raw, track: &Track) -> Packet {
        let ticks = raw.pts.or(self.next).unwrap_or(self.first);
        let usual = self.rate.map_or(self.usual.max(1), |r| {
            held(i64::from(self.scale).saturating_mul(r.den.into()) / i64::from(r.num)).max(1)
        });
        if !raw.hidden {
            // Without times of its own, each picture follows the one before it.
            self.next = Some(held(ticks + raw.duration.unwrap_or(usual)));
        }
        let pts = self.at(ticks);
        let duration = match (self.rate, raw.duration) {
            (Some(r), _) => i64::from(r.den),
            (None, Some(d)) => d,
            (None, None) => self.usual,
        };
        Packet {
            track: 0,
            pts,
            duration: duration.max(0),
            key: raw.key,
            shown: !raw.hidden && track.video().is_some(),
            data: raw.data,
            beside: raw.beside,
            ..Packet::default()
        }
    }

    fn sound(&mut self, raw: Raw, track: &Track) -> Packet {
        let rate = track.timescale;
        let stated = raw.pts.map(|p| rescale(p - self.origin, self.scale, rate) - self.lead);
        let at = match (self.next, stated) {
            (Some(next), Some(t)) if (t - next).abs() <= jump(rate) => next,
            (_, Some(t)) => t,
            (Some(next), None) => next,
            (None, None) => -self.lead,
        };
        let n = self.length.samples(&raw.data).map(i64::from);
        let n = n.or(raw.duration.map(|d| rescale(d, self.scale, rate))).unwrap_or(0).min(1 << 40);
        self.next = Some(held(at + n));
        let from = at.max(0);
        let mut until = at + n - i64::from(raw.drop_end);
        if let Some(end) = self.heard_until {
            until = until.min(end);
        }
        let shown = until > from || n == 0;
        Packet {
            track: 0,
            pts: from,
            duration: (until - from).max(0),
            key: raw.key,
            shown,
            trim_start: (from - at).clamp(0, u32::MAX.into()) as u32,
            keep: (until < at + n).then_some((until - from).max(0) as u32),
            data: raw.data,
            ..Packet::default()
        }
    }
}

impl<P: Parts> Demux for Streamed<P> {
    fn format(&self) -> &'static str {
        self.format
    }
    fn tracks(&self) -> &[Track] {
        &self.tracks
    }
    fn about(&self) -> &About {
        &self.about
    }
    fn choose(&mut self, tracks: &[usize]) {
        for (i, chosen) in self.chosen.iter_mut().enumerate() {
            *chosen = tracks.contains(&i);
        }
    }
    fn next_packet(&mut self) -> Result<Option<Packet>> {
        if !self.chosen.contains(&true) {
            return Ok(None);
        }
        while let Some(raw) = self.parts.next()?.map(sane) {
            let index = raw.track;
            if self.chosen.get(index) != Some(&true) {
                continue;
            }
            let (track, clock) = (&self.tracks[index], &mut self.clocks[index]);
            let packet =
                if track.audio().is_some() { clock.sound(raw, track) } else { clock.picture(raw, track) };
            return Ok(Some(Packet { track: index, ..packet }));
        }
        Ok(None)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::container::{AudioTrack, Codec, Media, PcmKind, PcmLayout, VideoTrack};
    use rstest::rstest;

    fn rounded(n: i64, num: i64, den: i64, scale: i64) -> Vec<i64> {
        (0..n).map(|i| (i * den * scale + num / 2) / num).collect()
    }

    #[rstest]
    #[case(rounded(240, 24_000, 1001, 1000), 1000, None, Some((24_000, 1001)))]
    #[case(rounded(240, 24, 1, 1000), 1000, None, Some((24, 1)))]
    #[case(rounded(50, 30_000, 1001, 90_000), 90_000, None, Some((30_000, 1001)))]
    #[case(rounded(50, 25, 2, 1000), 1000, None, Some((25, 2)))]
    // Too short to tell 24 from 23.976 in milliseconds: what the file states decides.
    #[case(rounded(3, 24, 1, 1000), 1000, Some((24, 1)), Some((24, 1)))]
    #[case(vec![0, 40, 200, 240], 1000, None, None)]
    // A statement that the times contradict counts for nothing.
    #[case(rounded(100, 25, 1, 1000), 1000, Some((60, 1)), Some((25, 1)))]
    #[case(vec![7], 1000, Some((25, 1)), Some((25, 1)))]
    #[case(vec![0, 0, 0], 1000, None, None)]
    fn rates_are_found_behind_rounding(
        #[case] times: Vec<i64>,
        #[case] scale: u32,
        #[case] stated: Option<(u32, u32)>,
        #[case] want: Option<(u32, u32)>,
    ) {
        let ratio = |(num, den)| Ratio { num, den };
        assert_eq!(rate_of(&times, scale, stated.map(ratio)), want.map(ratio));
    }

    struct List {
        raw: Vec<Raw>,
        next: usize,
    }
    impl Parts for List {
        fn next(&mut self) -> Result<Option<Raw>> {
            self.next += 1;
            Ok(self.raw.get(self.next - 1).cloned())
        }
        fn rewind(&mut self) {
            self.next = 0;
        }
        fn at(&self) -> u64 {
            self.next as u64
        }
    }

    fn open(described: Vec<Described>, raw: Vec<Raw>, from_zero: bool) -> Streamed<List> {
        let look = Look { format: "list", bytes: u64::MAX, from_zero };
        Streamed::open(List { raw, next: 0 }, described, About::default(), look).unwrap()
    }
    fn pictures() -> Described {
        Described::new(Track::new(1, Codec::H264, Media::Video(VideoTrack::sized(16, 16)), 1000), 1000)
    }
    fn sound(rate: u32) -> Described {
        let pcm = PcmLayout { bits: 8, bytes: 1, big_endian: false, kind: PcmKind::Unsigned };
        let media = Media::Audio(AudioTrack { rate, channels: 1, profile: None });
        Described::new(Track::new(2, Codec::Pcm(pcm), media, rate), 1000)
    }
    fn raw(track: usize, pts: i64, bytes: usize) -> Raw {
        Raw { track, pts: Some(pts), key: true, data: vec![0; bytes], ..Raw::default() }
    }

    #[test]
    fn rounded_picture_times_become_exact_and_out_of_order_is_fine() {
        let mut times = rounded(8, 24_000, 1001, 1000);
        times.swap(1, 3);
        let mut d = open(vec![pictures()], times.iter().map(|&t| raw(0, t + 500, 1)).collect(), true);
        let t = &d.tracks()[0];
        assert_eq!((t.timescale, t.duration, t.shown), (24_000, Time::new(8 * 1001, 24_000), Some(8)));
        let got: Vec<i64> = std::iter::from_fn(|| d.next_packet().unwrap()).map(|p| p.pts / 1001).collect();
        assert_eq!(got, [0, 3, 2, 1, 4, 5, 6, 7]);
    }

    #[test]
    fn sound_is_counted_in_samples_and_holes_are_seen() {
        let raws = vec![raw(0, 0, 1001), raw(0, 125, 1000), raw(0, 250, 1000), raw(0, 1000, 500)];
        let mut d = open(vec![sound(8000)], raws, false);
        assert_eq!(d.tracks()[0].duration, Time::new(8500, 8000));
        let got: Vec<i64> = std::iter::from_fn(|| d.next_packet().unwrap()).map(|p| p.pts).collect();
        assert_eq!(got, [0, 1001, 2001, 8000]);
    }

    /// Times at the ends of their range, in every scale: found by mutation.
    #[rstest]
    fn impossible_times_do_no_harm(#[values(1, 1000, u32::MAX)] scale: u32, #[values(0, 1)] kind: usize) {
        let times = [i64::MIN, i64::MAX, 0, -1, i64::MAX - 1, i64::MIN + 1, 1 << 59];
        let raws: Vec<Raw> = times
            .iter()
            .map(|&t| Raw { pts: Some(t), duration: Some(t), key: true, data: vec![0; 9], ..Raw::default() })
            .collect();
        let mut described = if kind == 0 { pictures() } else { sound(8000) };
        (described.scale, described.lead) = (scale, i64::from(u32::MAX));
        let mut d = open(vec![described], raws, true);
        assert_eq!(std::iter::from_fn(|| d.next_packet().unwrap()).count(), times.len());
    }

    #[test]
    fn priming_and_padding_are_not_heard() {
        let mut last = raw(0, 150, 1000);
        last.drop_end = 300;
        let mut d = open(vec![sound(8000)], vec![raw(0, -100, 1000), raw(0, 25, 1000), last], false);
        assert_eq!(
            (d.tracks()[0].start, d.tracks()[0].duration),
            (Time::new(0, 8000), Time::new(1900, 8000))
        );
        let got: Vec<_> = std::iter::from_fn(|| d.next_packet().unwrap())
            .map(|p| (p.pts, p.trim_start, p.keep, p.shown))
            .collect();
        assert_eq!(got, [(0, 800, None, true), (200, 0, None, true), (1200, 0, Some(700), true)]);
    }
}
