//! Reading: the head of the segment, then clusters one after the other.

use super::ebml::{self, Head, find, inside, number, signed, unsigned};
use super::tracks::{self, Entry, Packing};
use crate::bits::text;
use crate::codec::{self, h264};
use crate::container::reader::Reader;
use crate::container::stream::{Look, Parts, Raw, Streamed};
use crate::container::{About, Demux, Source};
use crate::error::{Error, Result};
use crate::limits::{MAX_BOXES, MAX_INDEX_BYTES, MAX_PACKET_BYTES, MAX_TRACKS};
use crate::units::{Time, iso_utc};
use std::collections::VecDeque;
use std::io::Read;

const SEGMENT: u32 = 0x1853_8067;
const SEEK_HEAD: u32 = 0x114d_9b74;
const INFO: u32 = 0x1549_a966;
const TRACKS: u32 = 0x1654_ae6b;
const CLUSTER: u32 = 0x1f43_b675;
const CUES: u32 = 0x1c53_bb6b;
const TAGS: u32 = 0x1254_c367;
const EBML: u32 = 0x1a45_dfa3;
/// What stands on the level of clusters, and so ends one of unknown size.
const TOP: [u32; 8] = [SEEK_HEAD, INFO, TRACKS, CLUSTER, CUES, TAGS, 0x1941_a469, 0x1043_a770];

/// Bytes of a file looked through for its rates and counts.
const LOOK: u64 = 8 << 20;
const NANO: u64 = 1_000_000_000;

pub struct Clusters {
    r: Reader,
    /// Where the first cluster starts, and where the segment ends.
    first: u64,
    end: u64,
    segment: u64,
    entries: Vec<Entry>,
    /// Nanoseconds a tick.
    tick: u64,
    cluster: Option<Head>,
    time: i64,
    ready: VecDeque<Raw>,
    cues: Option<u64>,
}

pub fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let mut about = About::default();
    let head = ebml::head(&mut r)?.ok_or_else(|| Error::damaged("Matroska", "the file is cut short"))?;
    let body = r.take(head.size.unwrap_or(0).min(4096), "EBML header")?;
    let kind = find(&body, 0x4282).and_then(text).unwrap_or_else(|| "matroska".into());
    let format = match kind.as_str() {
        "webm" => "WebM",
        "matroska" => "Matroska",
        other => {
            return Err(Error::unsupported(
                "EBML header",
                format!("a document of type '{other}'; matroska and webm can be read"),
            ));
        }
    };
    r.go(head.end(r.len()));
    let segment = loop {
        match ebml::head(&mut r)? {
            Some(h) if h.id == SEGMENT => break h,
            Some(h) if h.size.is_some() => r.go(h.end(r.len())),
            _ => return Err(Error::damaged("Matroska", "no segment, so there is nothing to read")),
        }
    };
    let end = segment.end(r.len());
    if end > r.len() {
        about.damage = Some(format!(
            "cut off, or still being copied: the segment should end at byte {end}, but the file ends at {}",
            r.len()
        ));
    }
    let mut c = Clusters {
        first: r.len(),
        end: end.min(r.len()),
        segment: segment.body,
        r,
        entries: Vec::new(),
        tick: 1_000_000,
        cluster: None,
        time: 0,
        ready: VecDeque::new(),
        cues: None,
    };
    let mut tracks_body = None;
    let (mut stated, mut tags_at) = (None, None);
    for _ in 0..MAX_BOXES {
        let Some(h) = ebml::head(&mut c.r)? else { break };
        match h.id {
            CLUSTER => {
                c.first = h.at;
                break;
            }
            INFO => stated = c.info(&h, &mut about)?,
            TRACKS => tracks_body = Some(c.body(&h)?),
            SEEK_HEAD => {
                let body = c.body(&h)?;
                for (_, seek) in inside(&body).filter(|(id, _)| *id == 0x4dbb) {
                    let at = find(seek, 0x53ac).map(unsigned).and_then(|a| a.checked_add(segment.body));
                    match find(seek, 0x53ab).map(unsigned) {
                        Some(id) if id == u64::from(CUES) => c.cues = at,
                        Some(id) if id == u64::from(TAGS) => tags_at = at,
                        _ => (),
                    }
                }
            }
            TAGS => {
                tags_at = None;
                let body = c.body(&h)?;
                tags(&body, &mut about);
            }
            CUES => c.cues = Some(h.at),
            _ => (),
        }
        if h.size.is_none() {
            return Err(Error::damaged_at(
                "Matroska",
                h.at,
                "an element of unknown size before the first cluster",
            ));
        }
        c.r.go(h.end(c.r.len()));
    }
    let tracks_body =
        tracks_body.ok_or_else(|| Error::damaged("Matroska", "no track is described before the media"))?;
    if let Some(at) = tags_at.filter(|&a| a < c.r.len()) {
        c.r.go(at);
        if let Ok(Some(h)) = ebml::head(&mut c.r)
            && h.id == TAGS
            && let Ok(body) = c.body(&h)
        {
            tags(&body, &mut about);
        }
    }
    c.describe(&tracks_body, stated, &mut about)?;
    c.rewind();
    let described = c.entries.iter_mut().filter_map(|e| e.described.take()).collect();
    let look = Look { format, bytes: LOOK, from_zero: false };
    Ok(Box::new(Streamed::open(c, described, about, look)?))
}

impl Clusters {
    fn body(&mut self, h: &Head) -> Result<Vec<u8>> {
        let size = h.size.unwrap_or(u64::MAX);
        if size > MAX_INDEX_BYTES {
            return Err(Error::damaged_at(
                "Matroska",
                h.at,
                format!("an element of {size} bytes; up to {MAX_INDEX_BYTES}"),
            ));
        }
        self.r.go(h.body);
        self.r.take(size, "Matroska")
    }

    /// 5.1.2.
    fn info(&mut self, h: &Head, about: &mut About) -> Result<Option<f64>> {
        let body = self.body(h)?;
        let mut stated = None;
        for (id, b) in inside(&body) {
            match id {
                0x2a_d7b1 => self.tick = unsigned(b).clamp(1, NANO),
                0x4489 => stated = Some(ebml::float(b)).filter(|d| d.is_finite() && *d > 0.0),
                // Nanoseconds since 2001.
                0x4461 => {
                    let seconds = signed(b).div_euclid(NANO as i64) + 978_307_200;
                    about.created = u64::try_from(seconds).ok().filter(|&s| s < 1 << 36).map(iso_utc);
                }
                0x7ba9 => {
                    if let Some(t) = text(b) {
                        about.note("title", t);
                    }
                }
                _ => (),
            }
        }
        Ok(stated)
    }

    fn describe(&mut self, body: &[u8], stated: Option<f64>, about: &mut About) -> Result<()> {
        let scale = (NANO / self.tick).clamp(1, u32::MAX.into()) as u32;
        let mut first = None;
        for (n, (_, entry)) in inside(body).filter(|(id, _)| *id == 0xae).take(MAX_TRACKS).enumerate() {
            match tracks::parse(entry, scale) {
                Ok(mut e) => {
                    if let (Some(ticks), Some(d)) = (stated, &mut e.described) {
                        let micros = (ticks * self.tick as f64 / 1000.0).clamp(0.0, 1e15) as i64;
                        d.stated = Some(Time::new(micros, 1_000_000));
                    }
                    self.entries.push(e);
                }
                Err(e) => {
                    about.remarks.push(format!("track {} cannot be used: {e}", n + 1));
                    first.get_or_insert(e);
                }
            }
        }
        match (self.entries.is_empty(), first) {
            (false, _) => self.parameter_sets(),
            (true, Some(e)) => Err(e),
            (true, None) => Err(Error::damaged("Matroska", "no track is described")),
        }
    }

    /// Tracks whose blocks hold byte streams get their setup record from the first of them.
    fn parameter_sets(&mut self) -> Result<()> {
        if !self.entries.iter().any(|e| e.annex_b) {
            return Ok(());
        }
        self.rewind();
        for _ in 0..1000 {
            match self.next() {
                Ok(Some(raw)) => {
                    let e = &mut self.entries[raw.track];
                    if e.annex_b
                        && let Some(track) = e.described.as_mut().map(|d| &mut d.track)
                        && codec::take_setup(track, &raw.data)
                    {
                        return Ok(());
                    }
                }
                Ok(None) => break,
                Err(_) => (),
            }
        }
        Ok(())
    }

    /// Makes the packets of a block (10.2, with lacing as in 10.3).
    fn block(
        &mut self,
        b: &[u8],
        duration: Option<u64>,
        padding: i64,
        key: Option<bool>,
        at: u64,
    ) -> Result<()> {
        let bad = |what: &str| Error::damaged_at("Matroska block", at, what.to_owned());
        let (track, n) = number(b, false).ok_or_else(|| bad("no track number"))?;
        let Some(&[t0, t1, flags]) = b.get(n..n + 3) else { return Err(bad("it is cut short")) };
        let Some(index) = self.entries.iter().position(|e| e.number == track) else { return Ok(()) };
        let content = &b[n + 3..];
        let frames =
            lacing(content, flags >> 1 & 3).ok_or_else(|| bad("its lacing does not fit its size"))?;
        let e = &self.entries[index];
        let time = self.time.saturating_add(i16::from_be_bytes([t0, t1]).into());
        let pts = time - (e.delay / self.tick) as i64;
        let last = frames.len().saturating_sub(1);
        let frame_ticks = e.frame.map(|f| (f / self.tick) as i64);
        let mut raws = Vec::new();
        for (i, frame) in frames.into_iter().enumerate() {
            let mut data = match &e.packing {
                Packing::None => frame.to_vec(),
                Packing::Stripped(lead) => [lead, frame].concat(),
                Packing::Zlib => {
                    inflate(frame).ok_or_else(|| bad("its compressed content cannot be read"))?
                }
            };
            if e.annex_b {
                data = h264::with_lengths(&data);
            }
            let drop_end = match e.sound_rate {
                Some(rate) if i == last && padding > 0 => {
                    let samples =
                        (padding as u128 * u128::from(rate) + u128::from(NANO) / 2) / u128::from(NANO);
                    samples.min(u128::from(u32::MAX)) as u32
                }
                _ => 0,
            };
            // RFC 6386, 9.1: the bit that says whether a frame is shown.
            let hidden = e.vp8 && data.first().is_some_and(|f| f & 0x10 == 0);
            raws.push(Raw {
                track: index,
                pts: (i == 0).then_some(pts),
                duration: duration.map(|d| d as i64 / (last as i64 + 1)).or(frame_ticks).filter(|&d| d > 0),
                key: key.unwrap_or(flags & 0x80 != 0),
                hidden: hidden || flags & 0x08 != 0,
                drop_end,
                data,
                beside: Vec::new(),
                left_out: 0,
            });
        }
        self.ready.extend(raws);
        Ok(())
    }

    fn group(&mut self, b: &[u8], at: u64) -> Result<()> {
        let block =
            find(b, 0xa1).ok_or_else(|| Error::damaged_at("Matroska block group", at, "no block in it"))?;
        let duration = find(b, 0x9b).map(unsigned);
        let key = find(b, 0xfb).is_none();
        let before = self.ready.len();
        self.block(block, duration, find(b, 0x75a2).map_or(0, signed), Some(key), at)?;
        // 5.1.3.5.2: coverage is what has number 1, which is the usual one.
        let more =
            find(b, 0x75a1).into_iter().flat_map(inside).filter(|(id, _)| *id == 0xa6).map(|(_, more)| more);
        let coverage = more.filter(|m| find(m, 0xee).map_or(1, unsigned) == 1).find_map(|m| find(m, 0xa5));
        if let (Some(coverage), Some(raw)) = (coverage, self.ready.get_mut(before))
            && self.entries[raw.track].coverage
        {
            raw.beside = coverage.to_vec();
        }
        Ok(())
    }

    /// Goes to the next cluster behind damage, by its ID.
    fn resync(&mut self) -> Result<()> {
        self.cluster = None;
        self.r.skip(1);
        let id = CLUSTER.to_be_bytes();
        self.r.find(4, u64::MAX, |b| b == id)?;
        Ok(())
    }

    fn step(&mut self) -> Result<bool> {
        let end = self.end;
        if self.r.at() >= end {
            return Ok(false);
        }
        let at = self.r.at();
        let Some(h) = ebml::head(&mut self.r)? else { return Ok(false) };
        let outside =
            self.cluster.is_none_or(|c| at >= c.end(end) || (c.size.is_none() && TOP.contains(&h.id)));
        if outside {
            self.cluster = None;
            match h.id {
                CLUSTER => self.cluster = Some(h),
                EBML | SEGMENT => (),
                _ if h.size.is_none() => {
                    return Err(Error::damaged_at(
                        "Matroska",
                        at,
                        "an element of unknown size between clusters",
                    ));
                }
                _ => self.r.go(h.end(end)),
            }
            return Ok(true);
        }
        let Some(size) = h.size else {
            return Err(Error::damaged_at("Matroska", at, "an element of unknown size in a cluster"));
        };
        match h.id {
            0xe7 => {
                self.time =
                    unsigned(&self.r.take(size.min(8), "cluster time")?).min(i64::MAX as u64 >> 1) as i64
            }
            0xa3 | 0xa0 => {
                if size > MAX_PACKET_BYTES {
                    return Err(Error::damaged_at(
                        "Matroska block",
                        at,
                        format!("{size} bytes; up to {MAX_PACKET_BYTES}"),
                    ));
                }
                let body = self.r.take(size, "Matroska block")?;
                if h.id == 0xa3 {
                    self.block(&body, None, 0, None, at)?;
                } else {
                    self.group(&body, at)?;
                }
            }
            _ => self.r.skip(size),
        }
        Ok(true)
    }
}

fn inflate(b: &[u8]) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    flate2::read::ZlibDecoder::new(b).take(MAX_PACKET_BYTES).read_to_end(&mut out).ok()?;
    Some(out)
}

/// The frames of a block's content.
fn lacing(b: &[u8], kind: u8) -> Option<Vec<&[u8]>> {
    if kind == 0 {
        return Some(vec![b]);
    }
    let (&count, mut rest) = b.split_first()?;
    let count = usize::from(count) + 1;
    let mut sizes = Vec::new();
    match kind {
        1 => {
            for _ in 1..count {
                let n = rest.iter().take_while(|&&v| v == 255).count();
                sizes.push(n * 255 + usize::from(*rest.get(n)?));
                rest = &rest[n + 1..];
            }
        }
        3 => {
            let (first, n) = number(rest, false)?;
            let mut size = i64::try_from(first).ok()?;
            rest = &rest[n..];
            if count > 1 {
                sizes.push(usize::try_from(size).ok()?);
            }
            for _ in 2..count {
                let (v, n) = number(rest, false)?;
                // Differences are centred (10.3.3).
                size = size.checked_add(v as i64 - ((1i64 << (7 * n - 1)) - 1))?;
                sizes.push(usize::try_from(size).ok()?);
                rest = &rest[n..];
            }
        }
        _ => {
            if !rest.len().is_multiple_of(count) {
                return None;
            }
            sizes = vec![rest.len() / count; count - 1];
        }
    }
    let mut out = Vec::new();
    for size in sizes {
        let (frame, more) = rest.split_at_checked(size)?;
        out.push(frame);
        rest = more;
    }
    out.push(rest);
    Some(out)
}

/// 5.1.8: simple tags that hold for the whole file.
fn tags(body: &[u8], about: &mut About) {
    for (_, tag) in inside(body).filter(|(id, _)| *id == 0x7373).take(200) {
        let target = find(tag, 0x63c0).is_some_and(|t| find(t, 0x63c5).is_some_and(|u| unsigned(u) != 0));
        for (_, simple) in inside(tag).filter(|(id, _)| *id == 0x67c8 && !target).take(200) {
            let (name, value) = (find(simple, 0x45a3).and_then(text), find(simple, 0x4487).and_then(text));
            if let (Some(name), Some(value)) = (name, value) {
                about.note(&name.to_lowercase(), value);
            }
        }
    }
}

impl Parts for Clusters {
    fn next(&mut self) -> Result<Option<Raw>> {
        loop {
            if let Some(raw) = self.ready.pop_front() {
                return Ok(Some(raw));
            }
            let before = self.r.at();
            match self.step() {
                Ok(true) => (),
                Ok(false) => return Ok(None),
                Err(e @ Error::Damaged(_)) => {
                    if self.r.at() <= before {
                        self.r.go(before);
                    }
                    self.resync()?;
                    return Err(e);
                }
                Err(e) => return Err(e),
            }
        }
    }
    fn rewind(&mut self) {
        self.r.go(self.first);
        (self.cluster, self.time) = (None, 0);
        self.ready.clear();
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
    /// The last cluster, by the cues; without them, the last one that can be found near the end.
    fn to_tail(&mut self) -> Result<bool> {
        self.rewind();
        let mut last = None;
        if let Some(at) = self.cues {
            self.r.go(at);
            if let Ok(Some(h)) = ebml::head(&mut self.r)
                && h.id == CUES
                && let Ok(body) = self.body(&h)
            {
                let points = inside(&body).filter(|(id, _)| *id == 0xbb);
                let places = points.filter_map(|(_, p)| find(find(p, 0xb7)?, 0xf1).map(unsigned));
                last = places.max().and_then(|p| p.checked_add(self.segment)).filter(|&p| p >= self.first);
            }
        }
        self.r.go(last.unwrap_or(self.end.saturating_sub(LOOK).max(self.first)));
        let id = CLUSTER.to_be_bytes();
        self.r.find(4, u64::MAX, |b| b == id)
    }
}
