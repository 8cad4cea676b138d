//! Fragmented files (14496-12, 8.8): what each fragment says of its samples becomes plain sample tables, so
//! that everything behind this point reads one kind of file.

use super::boxes::{Builder, FileBox, be32, be64, find, find_path, inside, version};
use super::tables::Tables;
use crate::container::Source;
use crate::error::{Error, Result, SPOILT};
use crate::limits::{MAX_INDEX_BYTES, MAX_TRACKS};
use std::io::{Read, SeekFrom};
use std::sync::Arc;

/// Most samples in all fragments. Ours: 24 hours of 60 frames a second and sound fit twice.
const MAX_SAMPLES: usize = 20 << 20;

#[derive(Clone, Copy, Default)]
struct Sample {
    size: u32,
    duration: u32,
    shift: i32,
    key: bool,
}

/// Samples that lie one behind the other.
struct Run {
    offset: u64,
    first: usize,
}

#[derive(Default)]
struct Track {
    id: u32,
    scale: u32,
    /// Defaults (8.8.3): duration, size, flags.
    defaults: [u32; 3],
    samples: Vec<Sample>,
    runs: Vec<Run>,
    /// Moment of the first sample, and of the next.
    start: Option<u64>,
    next: u64,
}

/// The index with sample tables that hold the samples of all fragments.
pub fn plain(
    index: &Arc<[u8]>,
    top: &[FileBox],
    source: &mut dyn Source,
    file_end: u64,
) -> Result<Arc<[u8]>> {
    let mut tracks = Vec::new();
    for trak in inside(index).filter(|b| &b.kind == b"trak").take(MAX_TRACKS) {
        tracks.push(start(index, trak.body));
    }
    let mvex = find(index, b"mvex").unwrap_or(&[]);
    for trex in inside(mvex).filter(|b| &b.kind == b"trex") {
        let id = be32(trex.body, 4);
        if let Some(t) = tracks.iter_mut().find(|t| Some(t.id) == id) {
            t.defaults = [12, 16, 20].map(|at| be32(trex.body, at).unwrap_or(0));
        }
    }
    let mut total = 0;
    for moof in top.iter().filter(|b| &b.kind == b"moof" && !b.cut) {
        let size = moof.end - moof.body;
        if size > MAX_INDEX_BYTES {
            return Err(Error::damaged_at(
                "moof",
                moof.start,
                format!("a fragment's index of {size} bytes; up to {MAX_INDEX_BYTES}"),
            ));
        }
        source.seek(SeekFrom::Start(moof.body))?;
        let mut body = vec![0; size as usize];
        source.read_exact(&mut body)?;
        let mut behind = None;
        for traf in inside(&body).filter(|b| &b.kind == b"traf") {
            behind = fragment(traf.body, moof.start, behind, file_end, &mut tracks, &mut total)?;
        }
    }
    Ok(rebuild(index, &tracks).into())
}

/// What the index itself says: samples may stand in it as well.
fn start(index: &Arc<[u8]>, trak: &[u8]) -> Track {
    let id = find(trak, b"tkhd").and_then(|b| be32(b, if version(b) == 1 { 20 } else { 12 })).unwrap_or(0);
    let scale = find_path(trak, &[b"mdia", b"mdhd"])
        .and_then(|b| be32(b, if version(b) == 1 { 20 } else { 12 }))
        .unwrap_or(1)
        .max(1);
    let mut t = Track { id, scale, ..Track::default() };
    let tables = find_path(trak, &[b"mdia", b"minf", b"stbl"]).and_then(|s| Tables::parse(index, s).ok());
    if let Some(tables) = tables.filter(|t| t.samples > 0) {
        let mut cursor = tables.cursor();
        let mut end = None;
        while let Some(s) = cursor.next(&tables).filter(|_| t.samples.len() < MAX_SAMPLES) {
            if end != Some(s.offset) {
                t.runs.push(Run { offset: s.offset, first: t.samples.len() });
            }
            end = Some(s.offset + u64::from(s.size));
            let shift = (s.pts - s.dts).clamp(i32::MIN.into(), i32::MAX.into()) as i32;
            t.samples.push(Sample { size: s.size, duration: s.duration, shift, key: s.key });
            t.next += u64::from(s.duration);
        }
        t.start = Some(0);
    }
    t
}

/// One track fragment (8.8.6 to 8.8.8). `behind` is where the data of the fragment before it ended.
fn fragment(
    traf: &[u8],
    moof: u64,
    behind: Option<u64>,
    file_end: u64,
    tracks: &mut [Track],
    total: &mut usize,
) -> Result<Option<u64>> {
    let Some(tfhd) = find(traf, b"tfhd") else { return Ok(behind) };
    let id = be32(tfhd, 4).unwrap_or(0);
    let Some(t) = tracks.iter_mut().find(|t| t.id == id) else { return Ok(behind) };
    let flags = be32(tfhd, 0).unwrap_or(0) & 0xff_ffff;
    let mut at = 8;
    let mut base = if flags & 0x2_0000 != 0 { moof } else { behind.unwrap_or(moof) };
    if flags & 1 != 0 {
        base = be64(tfhd, at).unwrap_or(base);
        at += 8;
    }
    if flags & 2 != 0 {
        at += 4;
    }
    let mut defaults = t.defaults;
    for (bit, value) in [8, 0x10, 0x20].into_iter().zip(&mut defaults) {
        if flags & bit != 0 {
            *value = be32(tfhd, at).unwrap_or(*value);
            at += 4;
        }
    }
    if let Some(tfdt) = find(traf, b"tfdt") {
        let when = if version(tfdt) == 1 { be64(tfdt, 4) } else { be32(tfdt, 4).map(u64::from) };
        if let Some(when) = when {
            match (t.start, t.samples.last_mut()) {
                // A hole between fragments: the sample before it stays for that long.
                (Some(_), Some(last)) if when > t.next => {
                    let gap = u32::try_from(when - t.next).unwrap_or(u32::MAX);
                    last.duration = last.duration.saturating_add(gap);
                    t.next += u64::from(gap);
                }
                (None, _) => (t.start, t.next) = (Some(when), when),
                _ => (),
            }
        }
    }
    t.start.get_or_insert(t.next);
    let mut place = base;
    for trun in inside(traf).filter(|b| &b.kind == b"trun") {
        place = run(trun.body, base, place, file_end, t, defaults, total)?;
    }
    Ok(Some(place))
}

fn run(
    b: &[u8],
    base: u64,
    place: u64,
    file_end: u64,
    t: &mut Track,
    defaults: [u32; 3],
    total: &mut usize,
) -> Result<u64> {
    let flags = be32(b, 0).unwrap_or(0);
    let signed = version(b) == 1;
    let count = be32(b, 4).unwrap_or(0) as usize;
    let mut at = 8;
    let mut place = place;
    if flags & 1 != 0 {
        place = base.saturating_add_signed(i64::from(be32(b, at).unwrap_or(0) as i32));
        at += 4;
    }
    let mut first = None;
    if flags & 4 != 0 {
        first = be32(b, at);
        at += 4;
    }
    let each = 4 * [0x100, 0x200, 0x400, 0x800].into_iter().filter(|bit| flags & bit != 0).count();
    // A count takes no bytes where everything has its default: the file's own length holds it then.
    let most = match each {
        0 => (file_end.saturating_sub(place) / u64::from(defaults[1].max(1))) as usize,
        n => b.len().saturating_sub(at) / n,
    };
    let count = count.min(most);
    *total += count;
    if *total > MAX_SAMPLES {
        return Err(Error::limit("moof", format!("more than {MAX_SAMPLES} samples in fragments")));
    }
    t.runs.push(Run { offset: place, first: t.samples.len() });
    for i in 0..count {
        let mut field = |bit: u32, or: u32| {
            if flags & bit == 0 {
                return or;
            }
            at += 4;
            be32(b, at - 4).unwrap_or(or)
        };
        let duration = field(0x100, defaults[0]);
        let size = field(0x200, defaults[1]);
        let own = field(0x400, if i == 0 { first.unwrap_or(defaults[2]) } else { defaults[2] });
        let shift = field(0x800, 0);
        let shift = if signed { shift as i32 } else { shift.min(i32::MAX as u32) as i32 };
        // 8.8.3.1: the bit says that it is no sync sample.
        t.samples.push(Sample { size, duration, shift, key: own & 0x1_0000 == 0 });
        t.next += u64::from(duration);
        place = place.saturating_add(size.into());
    }
    Ok(place)
}

/// The index with its boxes as they were, but for the tables and, where a track starts late, its edits.
fn rebuild(index: &[u8], tracks: &[Track]) -> Vec<u8> {
    let movie_scale =
        find(index, b"mvhd").and_then(|b| be32(b, if version(b) == 1 { 20 } else { 12 })).unwrap_or(1).max(1);
    // The first sample of all is moment 0.
    let ahead = |t: &Track| t.start.map(|s| s as f64 / f64::from(t.scale));
    let zero =
        tracks.iter().filter(|t| !t.samples.is_empty()).filter_map(ahead).fold(f64::INFINITY, f64::min);
    let mut b = Builder::new();
    let mut number = 0;
    for part in inside(index) {
        match &part.kind {
            b"trak" => {
                if let Some(t) = tracks.get(number) {
                    let late = ahead(t).filter(|_| zero.is_finite()).map_or(0.0, |s| (s - zero).max(0.0));
                    let late = (late * f64::from(movie_scale)).round() as u32;
                    b.put(b"trak", |b| trak(b, part.body, t, late));
                }
                number += 1;
            }
            b"mvex" => (),
            kind => b.put(kind, |b| b.raw(part.body)),
        }
    }
    b.bytes
}

fn trak(b: &mut Builder, body: &[u8], t: &Track, late: u32) {
    let has_edits = find(body, b"edts").is_some();
    if late > 0 && !has_edits {
        b.put(b"edts", |b| {
            b.full(b"elst", 0, 0, |b| {
                [2, late, u32::MAX, 0x10000, 0, 0, 0x10000].iter().for_each(|v| b.u32(*v))
            });
        });
    }
    for part in inside(body) {
        match &part.kind {
            b"mdia" => b.put(b"mdia", |b| {
                for p in inside(part.body) {
                    if &p.kind == b"minf" {
                        b.put(b"minf", |b| {
                            for q in inside(p.body) {
                                if &q.kind == b"stbl" {
                                    b.put(b"stbl", |b| tables(b, q.body, t))
                                } else {
                                    b.put(&q.kind, |b| b.raw(q.body))
                                }
                            }
                        });
                    } else {
                        b.put(&p.kind, |b| b.raw(p.body));
                    }
                }
            }),
            kind => b.put(kind, |b| b.raw(part.body)),
        }
    }
}

/// Run lengths of equal values.
fn runs_of(values: impl Iterator<Item = u32>) -> Vec<(u32, u32)> {
    let mut out: Vec<(u32, u32)> = Vec::new();
    for v in values {
        match out.last_mut() {
            Some((n, last)) if *last == v => *n += 1,
            _ => out.push((1, v)),
        }
    }
    out
}

fn tables(b: &mut Builder, stbl: &[u8], t: &Track) {
    if let Some(stsd) = find(stbl, b"stsd") {
        b.put(b"stsd", |b| b.raw(stsd));
    }
    let pairs = |b: &mut Builder, kind: &[u8; 4], list: Vec<(u32, u32)>| {
        b.full(kind, u8::from(kind == b"ctts"), 0, |b| {
            b.u32(list.len() as u32);
            for (n, v) in list {
                b.u32(n);
                b.u32(v);
            }
        });
    };
    pairs(b, b"stts", runs_of(t.samples.iter().map(|s| s.duration)));
    if t.samples.iter().any(|s| s.shift != 0) {
        pairs(b, b"ctts", runs_of(t.samples.iter().map(|s| s.shift as u32)));
    }
    if t.samples.iter().any(|s| !s.key) {
        let keys: Vec<u32> = (1u32..).zip(&t.samples).filter(|(_, s)| s.key).map(|(n, _)| n).collect();
        b.full(b"stss", 0, 0, |b| {
            b.u32(keys.len() as u32);
            keys.iter().for_each(|k| b.u32(*k));
        });
    }
    b.full(b"stsz", 0, 0, |b| {
        b.u32(0);
        b.u32(t.samples.len() as u32);
        t.samples.iter().for_each(|s| b.u32(s.size));
    });
    // A run is a chunk.
    let ends = t.runs.iter().skip(1).map(|r| r.first).chain([t.samples.len()]);
    let chunks: Vec<(u64, u32)> = t
        .runs
        .iter()
        .zip(ends)
        .map(|(r, end)| (r.offset, (end - r.first) as u32))
        .filter(|c| c.1 > 0)
        .collect();
    let mut entries: Vec<(u32, u32)> = Vec::new();
    for (n, (_, count)) in (1u32..).zip(&chunks) {
        if entries.last().is_none_or(|e| e.1 != *count) {
            entries.push((n, *count));
        }
    }
    b.full(b"stsc", 0, 0, |b| {
        b.u32(entries.len() as u32);
        for (n, count) in entries {
            b.u32(n);
            b.u32(count);
            b.u32(1);
        }
    });
    b.full(b"co64", 0, 0, |b| {
        b.u32(chunks.len() as u32);
        chunks.iter().for_each(|c| b.u64(c.0));
    });
}

/// The index inside a compressed one (QuickTime File Format, "Compressed movie resources").
pub fn inflate(cmov: &[u8]) -> Result<Vec<u8>> {
    let method = find(cmov, b"dcom").and_then(|b| b.get(..4)).unwrap_or(&[]);
    if method != b"zlib" {
        return Err(Error::unsupported("moov/cmov", "an index compressed by another method than zlib"));
    }
    let packed = find(cmov, b"cmvd").and_then(|b| b.get(4..));
    let packed = packed.ok_or_else(|| Error::damaged("moov/cmov", "no compressed index in it"))?;
    let mut out = Vec::new();
    flate2::read::ZlibDecoder::new(packed)
        .take(MAX_INDEX_BYTES + 1)
        .read_to_end(&mut out)
        .map_err(|_| Error::damaged("moov/cmov", SPOILT))?;
    if out.len() as u64 > MAX_INDEX_BYTES {
        return Err(Error::limit("moov/cmov", format!("an index of more than {MAX_INDEX_BYTES} bytes")));
    }
    let inner =
        find(&out, b"moov").ok_or_else(|| Error::damaged("moov/cmov", "what is compressed is no index"))?;
    Ok(inner.to_vec())
}
