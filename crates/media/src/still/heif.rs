//! HEIF (ISO/IEC 23008-12): one picture, or a grid of tiles, found through the item boxes and decoded as HEVC (HEIC) or
//! AV1 (AVIF, AV1 Image File Format 1.1). To add a coding: its kind of item and its record in [`CODINGS`].

use super::{StillFacts, check_area, colour};
use crate::bits::{be16, be32, be64, text};
use crate::codec::{self, av1, hevc};
use crate::container::Source;
use crate::container::mp4::boxes::{Inner, find, inside, top_level, version};
use crate::error::{Error, Result};
use crate::filter::video::{Scaler, fit};
use crate::frame::{Chroma, Colour, Pool, VideoFrame};
use crate::limits::MAX_PACKET_BYTES;
use crate::track::{Codec, Media, Packet, Track, VideoTrack};
use crate::units::Ratio;
use image::{DynamicImage, ImageBuffer};
use std::collections::HashMap;
use std::io::SeekFrom;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard};

/// Largest item index that is read.
const MAX_META: u64 = 4 << 20;
const MAX_TILES: usize = 4096;

/// How an item is coded.
struct Coding {
    kinds: &'static [&'static [u8; 4]],
    record: &'static [u8; 4],
    codec: Codec,
    describe: fn(&[u8], &mut VideoTrack),
}

static CODINGS: &[Coding] = &[
    Coding { kinds: &[b"av01"], record: b"av1C", codec: Codec::Av1, describe: av1::describe },
    Coding { kinds: &[b"hvc1", b"hev1"], record: b"hvcC", codec: Codec::Hevc, describe: hevc::describe },
];

fn coding(kind: [u8; 4]) -> Option<&'static Coding> {
    CODINGS.iter().find(|c| c.kinds.contains(&&kind))
}

/// Whether these first bytes are of a picture with one of these brands, or of a file that may be read as one; sequences
/// are read as clips.
fn is_of(head: &[u8], own: &[&[u8; 4]]) -> u8 {
    if head.get(4..8) != Some(b"ftyp") {
        return 0;
    }
    let size = be32(head, 0).unwrap_or(0) as usize;
    let mut brands = head.get(8..size.min(head.len())).unwrap_or(&[]).chunks_exact(4);
    let major = brands.next().unwrap_or(&[]);
    let mut others = brands.skip(1);
    let general = matches!(major, b"mif1" | b"mif2" | b"miaf");
    if own.iter().any(|b| *b == major) || general && others.any(|b| own.iter().any(|o| *o == b)) {
        110
    } else {
        0
    }
}

pub fn score_avif(head: &[u8]) -> u8 {
    is_of(head, &[b"avif"])
}

pub fn score_heic(head: &[u8]) -> u8 {
    is_of(head, &[b"heic", b"heix", b"heim", b"heis"])
}

/// What is done to a picture behind decoding, in the order that the file states.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Change {
    /// Quarter turns, counter-clockwise.
    Turn(u8),
    /// About a lying axis, otherwise about a standing one.
    Mirror(bool),
    /// Left, top, width, height.
    Crop(u32, u32, u32, u32),
}

#[derive(Clone)]
struct Item {
    data: Vec<(u64, u64)>,
    in_meta: bool,
    width: u32,
    height: u32,
    setup: Vec<u8>,
    colour: Option<Colour>,
    profile: Option<Vec<u8>>,
    changes: Vec<Change>,
    /// What an auxiliary picture is of.
    auxiliary: Option<String>,
    kind: [u8; 4],
}

struct Picture {
    meta: Vec<u8>,
    primary: Item,
    /// Tiles of a grid, row by row.
    tiles: Vec<Item>,
    /// Its coverage.
    alpha: Option<Box<(Item, Vec<Item>)>>,
    /// Why it has none here, though the file has.
    uncovered: Option<String>,
}

fn damaged(what: &str) -> Error {
    Error::damaged("HEIF", what.to_owned())
}

fn parse(source: &mut dyn Source) -> Result<Picture> {
    let top = top_level(source)?;
    let meta = top.iter().find(|b| &b.kind == b"meta").ok_or_else(|| damaged("no 'meta' box"))?;
    let size = meta.end - meta.body;
    if size > MAX_META || meta.cut {
        return Err(damaged("cut off, or the 'meta' box is too large"));
    }
    source.seek(SeekFrom::Start(meta.body))?;
    let mut meta = vec![0; size as usize];
    source.read_exact(&mut meta)?;
    let body = meta.get(4..).unwrap_or(&[]);
    let pitm = find(body, b"pitm").ok_or_else(|| damaged("no primary item"))?;
    let id = if version(pitm) == 0 { be16(pitm, 4).map(u32::from) } else { be32(pitm, 4) };
    let id = id.ok_or_else(|| damaged("no primary item"))?;
    let index = Index::of(body)?;
    let (primary, tiles) = whole(&index, id)?;
    // An auxiliary picture points at what it belongs to.
    let (mut alpha, mut uncovered) = (None, None);
    for (from, to) in references(body, b"auxl") {
        if to.contains(&id)
            && let Ok(found) = whole(&index, from)
            && found.0.auxiliary.as_deref().is_some_and(is_alpha)
        {
            let coded = found.1.first().unwrap_or(&found.0);
            match codec_of(coded, VideoTrack::sized(coded.width, coded.height)) {
                Ok(_) => alpha = Some(Box::new(found)),
                Err(e) => uncovered = Some(format!("its coverage is left out: {e}")),
            }
        }
    }
    Ok(Picture { meta, primary, tiles, alpha, uncovered })
}

/// Names of coverage (HEIF, 6.6.2.1.1, and its use with HEVC).
fn is_alpha(kind: &str) -> bool {
    kind == "urn:mpeg:mpegB:cicp:systems:auxiliary:alpha" || kind == "urn:mpeg:hevc:2015:auxid:1"
}

/// An item with the tiles that it is made of, if any.
fn whole(index: &Index<'_>, id: u32) -> Result<(Item, Vec<Item>)> {
    let primary = index.item(id)?;
    let mut tiles = Vec::new();
    if &primary.kind == b"grid" {
        let from = references(index.meta, b"dimg").into_iter().find(|r| r.0 == id);
        let from = from.map_or_else(Vec::new, |r| r.1);
        if from.len() > MAX_TILES {
            return Err(Error::limit("HEIF", format!("{} tiles; up to {MAX_TILES}", from.len())));
        }
        tiles = from.into_iter().map(|tile| index.item(tile)).collect::<Result<_>>()?;
    }
    Ok((primary, tiles))
}

/// References of one kind between items: from which, to which (14496-12, 8.11.12).
fn references(meta: &[u8], kind: &[u8; 4]) -> Vec<(u32, Vec<u32>)> {
    let Some(iref) = find(meta, b"iref") else { return Vec::new() };
    let wide = version(iref) != 0;
    let read = |b: &[u8], at: usize| if wide { be32(b, at) } else { be16(b, at).map(u32::from) };
    let step = if wide { 4 } else { 2 };
    let all = inside(iref.get(4..).unwrap_or(&[])).filter(|r| &r.kind == kind);
    all.filter_map(|r| {
        let n = be16(r.body, step).unwrap_or(0) as usize;
        let to = (0..n).map_while(|i| read(r.body, step + 2 + i * step)).collect();
        Some((read(r.body, 0)?, to))
    })
    .collect()
}

/// What the boxes say of all items, gone through once: a picture of thousands of tiles has as many of them.
struct Index<'a> {
    meta: &'a [u8],
    kinds: HashMap<u32, [u8; 4]>,
    places: HashMap<u32, Located>,
    /// All properties, and which of them each item has.
    all: Vec<Inner<'a>>,
    of: HashMap<u32, Vec<u16>>,
}

/// Where an item's bytes are: from where, how many.
#[derive(Default)]
struct Located {
    data: Vec<(u64, u64)>,
    in_meta: bool,
}

impl<'a> Index<'a> {
    fn of(meta: &'a [u8]) -> Result<Index<'a>> {
        let (all, of) = properties(meta);
        Ok(Index { meta, kinds: kinds(meta), places: locate(meta)?, all, of })
    }

    fn item(&self, id: u32) -> Result<Item> {
        let mut out = Item {
            data: Vec::new(),
            in_meta: false,
            width: 0,
            height: 0,
            setup: Vec::new(),
            colour: None,
            profile: None,
            changes: Vec::new(),
            auxiliary: None,
            kind: self.kinds.get(&id).copied().unwrap_or_default(),
        };
        if coding(out.kind).is_none() && &out.kind != b"grid" {
            let kind = crate::container::codes::show(&out.kind);
            let what = match &out.kind {
                b"jpeg" => "a picture coded as JPEG inside HEIF".to_owned(),
                b"avc1" => "a picture coded as H.264 inside HEIF".to_owned(),
                b"iovl" => "a picture laid over others".to_owned(),
                _ => format!("an item of the kind '{kind}'"),
            };
            let why = format!("{what} cannot be decoded; HEVC and AV1 pictures can");
            return Err(Error::unsupported("", why));
        }
        if let Some(at) = self.places.get(&id) {
            (out.data, out.in_meta) = (at.data.clone(), at.in_meta);
        }
        for index in self.of.get(&id).into_iter().flatten() {
            if let Some(p) = usize::from(*index).checked_sub(1).and_then(|i| self.all.get(i)) {
                out.take(p);
            }
        }
        check_area("HEIF", out.width, out.height)?;
        Ok(out)
    }
}

/// Kinds of the items (8.11.6).
fn kinds(meta: &[u8]) -> HashMap<u32, [u8; 4]> {
    let iinf = find(meta, b"iinf").unwrap_or(&[]);
    let entries = iinf.get(if version(iinf) == 0 { 6 } else { 8 }..).unwrap_or(&[]);
    let one = |e: Inner<'_>| {
        let (id, at) = match version(e.body) {
            2 => (be16(e.body, 4).map(u32::from), 8),
            3 => (be32(e.body, 4), 10),
            _ => (None, 0),
        };
        Some((id?, e.body.get(at..at + 4)?.try_into().ok()?))
    };
    inside(entries).filter(|e| &e.kind == b"infe").filter_map(one).collect()
}

/// Item locations (8.11.3).
fn locate(meta: &[u8]) -> Result<HashMap<u32, Located>> {
    let iloc = find(meta, b"iloc").ok_or_else(|| damaged("no 'iloc' box"))?;
    let v = version(iloc);
    let sizes = be16(iloc, 4).ok_or_else(|| damaged("'iloc' is cut short"))?;
    let [offset_size, length_size, base_size, index_size] =
        [12, 8, 4, 0].map(|s| usize::from(sizes >> s & 15));
    let mut at = 6;
    let mut take = |n: usize| -> Result<u64> {
        let v = match n {
            0 => Some(0),
            2 => be16(iloc, at).map(u64::from),
            4 => be32(iloc, at).map(u64::from),
            8 => be64(iloc, at),
            _ => None,
        };
        at += n;
        v.ok_or_else(|| damaged("'iloc' is cut short"))
    };
    let wide = if v < 2 { 2 } else { 4 };
    let count = take(wide)?;
    let mut out: HashMap<u32, Located> = HashMap::new();
    for _ in 0..count.min(65_536) {
        let id = take(wide)? as u32;
        let method = if v >= 1 { take(2)? & 15 } else { 0 };
        take(2)?;
        let base = take(base_size)?;
        // Parts that take no bytes here are all the same one.
        let told = take(2)?;
        let parts = if offset_size + length_size == 0 { told.min(1) } else { told };
        let here = out.entry(id).or_default();
        here.in_meta |= parts > 0 && method == 1;
        for _ in 0..parts {
            if v >= 1 {
                take(index_size)?;
            }
            let (o, l) = (take(offset_size)?, take(length_size)?);
            here.data.push((base.saturating_add(o), l));
        }
    }
    Ok(out)
}

/// Item properties (8.11.14; HEIF, 6.5): all, and the numbers of those that each item has.
fn properties(meta: &[u8]) -> (Vec<Inner<'_>>, HashMap<u32, Vec<u16>>) {
    let mut of: HashMap<u32, Vec<u16>> = HashMap::new();
    let Some(iprp) = find(meta, b"iprp") else { return (Vec::new(), of) };
    let all = find(iprp, b"ipco").map(|b| inside(b).collect()).unwrap_or_default();
    for ipma in inside(iprp).filter(|b| &b.kind == b"ipma").map(|b| b.body) {
        let (wide_id, wide_index) = (version(ipma) >= 1, ipma.get(3).is_some_and(|f| f & 1 != 0));
        let mut at = 8;
        for _ in 0..be32(ipma, 4).unwrap_or(0).min(65_536) {
            let id = if wide_id { be32(ipma, at) } else { be16(ipma, at).map(u32::from) };
            at += if wide_id { 4 } else { 2 };
            let (Some(id), Some(&n)) = (id, ipma.get(at)) else { break };
            at += 1;
            for _ in 0..n {
                let index = match wide_index {
                    true => be16(ipma, at).map(|v| v & 0x7fff),
                    false => ipma.get(at).map(|v| u16::from(v & 0x7f)),
                };
                at += if wide_index { 2 } else { 1 };
                of.entry(id).or_default().extend(index);
            }
        }
    }
    (all, of)
}

impl Item {
    /// One of its properties.
    fn take(&mut self, p: &Inner<'_>) {
        match &p.kind {
            b"ispe" => {
                (self.width, self.height) = (be32(p.body, 4).unwrap_or(0), be32(p.body, 8).unwrap_or(0));
            }
            k if CODINGS.iter().any(|c| c.record == k) => self.setup = p.body.to_vec(),
            b"irot" => self.changes.push(Change::Turn(p.body.first().copied().unwrap_or(0) & 3)),
            b"imir" => self.changes.push(Change::Mirror(p.body.first().is_some_and(|b| b & 1 == 0))),
            b"clap" => {
                let (w, h) = if self.lies() { (self.height, self.width) } else { (self.width, self.height) };
                self.changes.extend(clean(p.body, w, h));
            }
            b"auxC" => {
                let kind = p.body.get(4..).unwrap_or(&[]);
                self.auxiliary = kind.split(|b| *b == 0).next().and_then(text);
            }
            b"colr" if p.body.starts_with(b"prof") || p.body.starts_with(b"rICC") => {
                self.profile = p.body.get(4..).map(<[u8]>::to_vec);
            }
            b"colr" if p.body.starts_with(b"nclx") => {
                let code = |at| be16(p.body, at).unwrap_or(2).min(255) as u8;
                let full_range = p.body.get(10).is_some_and(|b| b & 0x80 != 0);
                self.colour =
                    Some(Colour { primaries: code(4), transfer: code(6), matrix: code(8), full_range });
            }
            _ => (),
        }
    }

    /// Its sides are exchanged when it is shown.
    fn lies(&self) -> bool {
        self.changes.iter().filter(|c| matches!(c, Change::Turn(n) if n % 2 == 1)).count() % 2 == 1
    }
}

/// The part to show (14496-12, 12.1.4): width, height and the distance of the middles, as fractions.
fn clean(b: &[u8], width: u32, height: u32) -> Option<Change> {
    let part = |at: usize| -> Option<f64> {
        let (n, d) = (be32(b, at)? as i32, be32(b, at + 4)? as i32);
        (d > 0).then(|| f64::from(n) / f64::from(d))
    };
    let (w, h) = (part(0)?, part(8)?);
    let along = |whole: u32, size: f64, off: f64| -> Option<(u32, u32)> {
        let start = ((f64::from(whole) - size) / 2.0 + off).round();
        let (start, size) = (start.max(0.0) as u32, size.round().max(1.0) as u32);
        (start < whole).then(|| (start, size.min(whole - start)))
    };
    let ((x, w), (y, h)) = (along(width, w, part(16)?)?, along(height, h, part(24)?)?);
    Some(Change::Crop(x, y, w, h))
}

/// Facts of a picture file of this name.
pub fn facts(name: &'static str, source: &mut dyn Source) -> Result<StillFacts> {
    let p = parse(source)?;
    let coded = p.tiles.first().unwrap_or(&p.primary);
    let mut v = VideoTrack::sized(p.primary.width, p.primary.height);
    if let Some(coding) = coding(coded.kind) {
        (coding.describe)(&coded.setup, &mut v);
        codec_of(coded, v.clone())?;
    }
    let (mut w, mut h, mut turns) = (p.primary.width, p.primary.height, 0);
    for change in &p.primary.changes {
        match change {
            Change::Turn(n) => {
                turns = (turns + n) % 4;
                if n % 2 == 1 {
                    (w, h) = (h, w);
                }
            }
            Change::Crop(_, _, cw, ch) => (w, h) = (*cw, *ch),
            Change::Mirror(_) => (),
        }
    }
    let chroma = match v.chroma.unwrap_or(Chroma::C420) {
        _ if p.alpha.is_some() => Chroma::Rgba,
        chroma => chroma,
    };
    let mut f = StillFacts::new(name, w, h, v.depth.unwrap_or(8), chroma);
    f.rotation = [0, 270, 180, 90][usize::from(turns)];
    f.colour = p.primary.colour.or(coded.colour).unwrap_or(v.colour);
    if p.primary.profile.is_some() || coded.profile.is_some() {
        f.remarks
            .push("a colour profile is inside; pictures made from this one are converted to sRGB".into());
    }
    f.remarks.extend(p.uncovered);
    if matches!(f.colour.transfer, 16 | 18) {
        f.remarks.push("high dynamic range; its curve is not converted when it is shown".into());
    }
    Ok(f)
}

/// A track as the decoder of an item wants it, if it can be decoded.
fn codec_of(i: &Item, mut v: VideoTrack) -> Result<Track> {
    let coding = coding(i.kind).ok_or_else(|| damaged("a tile that is no picture"))?;
    (coding.describe)(&i.setup, &mut v);
    let mut track = Track::new(1, coding.codec.clone(), Media::Video(v), 1);
    track.setup = i.setup.clone();
    match codec::why_not(&track) {
        Some(why) => Err(Error::unsupported("", why)),
        None => Ok(track),
    }
}

fn bytes_of(source: &mut dyn Source, meta: &[u8], i: &Item) -> Result<Vec<u8>> {
    let mut out = Vec::new();
    let file_end = source.seek(SeekFrom::End(0))?;
    for &(at, len) in &i.data {
        if i.in_meta {
            let idat = find(meta.get(4..).unwrap_or(&[]), b"idat").unwrap_or(&[]);
            let part = usize::try_from(at)
                .ok()
                .and_then(|a| idat.get(a..a.checked_add(usize::try_from(len).ok()?)?));
            out.extend_from_slice(part.ok_or_else(|| damaged("an item's data lies outside its box"))?);
            continue;
        }
        let len = if len == 0 { file_end.saturating_sub(at) } else { len };
        if len > MAX_PACKET_BYTES || at.saturating_add(len) > file_end {
            return Err(damaged("cut off: the picture's data lies past the end of the file"));
        }
        source.seek(SeekFrom::Start(at))?;
        let from = out.len();
        out.resize(from + len as usize, 0);
        source.read_exact(&mut out[from..])?;
    }
    Ok(out)
}

/// Decodes one coded picture.
fn decoded(i: &Item, data: Vec<u8>, pool: &Pool) -> Result<VideoFrame> {
    let track = codec_of(i, VideoTrack::sized(i.width, i.height))?;
    let mut d = codec::video_decoder(&track, pool)?;
    let mut out = Vec::new();
    d.decode(&Packet { data, shown: true, key: true, ..Packet::default() }, &mut out)?;
    d.flush(&mut out)?;
    if d.concealed() > 0 {
        return Err(damaged("a part of its coded picture cannot be read"));
    }
    out.pop().ok_or_else(|| damaged("no picture in its data"))
}

fn lock<T>(m: &Mutex<T>) -> MutexGuard<'_, T> {
    m.lock().unwrap_or_else(|e| e.into_inner())
}

/// An item's picture: its own, or put together from its tiles, which are decoded beside one another.
fn frame(source: &mut dyn Source, meta: &[u8], i: &Item, tiles: &[Item]) -> Result<VideoFrame> {
    if &i.kind != b"grid" {
        let data = bytes_of(source, meta, i)?;
        return decoded(i, data, &Pool::new());
    }
    // HEIF, 6.6.2.3: rows, columns, size.
    let g = bytes_of(source, meta, i)?;
    let &[_, _, rows, columns, ..] = g.as_slice() else { return Err(damaged("its grid is cut short")) };
    let columns = usize::from(columns) + 1;
    if tiles.len() != columns * (usize::from(rows) + 1) {
        return Err(damaged("its grid has another number of tiles"));
    }
    let threads = std::thread::available_parallelism().map_or(1, usize::from).min(8);
    let (source, next) = (Mutex::new(source), AtomicUsize::new(0));
    let whole: Mutex<Option<(VideoFrame, (u32, u32))>> = Mutex::new(None);
    let one = |n: usize, tile: &Item, pool: &Pool| -> Result<()> {
        let data = bytes_of(*lock(&source), meta, tile)?;
        let tile = decoded(tile, data, pool)?;
        let mut whole = lock(&whole);
        let (whole, (w, h)) = match &mut *whole {
            Some(begun) => begun,
            empty => {
                let frame = VideoFrame::new(&Pool::new(), i.width, i.height, tile.chroma, tile.depth)?;
                empty.insert((frame, (tile.width, tile.height)))
            }
        };
        // HEIF, 6.6.2.3.1: all have the same size.
        if (tile.chroma, tile.depth, tile.width, tile.height) != (whole.chroma, whole.depth, *w, *h) {
            return Err(damaged("its tiles are of different forms"));
        }
        if n == 0 {
            whole.colour = tile.colour;
        }
        whole.lay(&tile, (n % columns) as u32 * *w, (n / columns) as u32 * *h);
        Ok(())
    };
    let work = || -> Result<()> {
        let pool = Pool::new();
        while let Some((n, tile)) =
            Some(next.fetch_add(1, Ordering::Relaxed)).and_then(|n| Some((n, tiles.get(n)?)))
        {
            // What is wrong with one is wrong with all of it.
            one(n, tile, &pool).inspect_err(|_| next.store(tiles.len(), Ordering::Relaxed))?;
        }
        Ok(())
    };
    let broke = || Err(damaged("a tile cannot be decoded"));
    std::thread::scope(|s| {
        let all: Vec<_> = (0..threads.min(tiles.len())).map(|_| s.spawn(work)).collect();
        all.into_iter().map(|t| t.join().unwrap_or_else(|_| broke())).fold(Ok(()), Result::and)
    })?;
    let whole = whole.into_inner().unwrap_or_else(|e| e.into_inner()).map(|(frame, _)| frame);
    whole.ok_or_else(|| damaged("its grid has no tiles"))
}

/// The picture, in the size that fits within `limit` (a side of 0 is free) where that is smaller and nothing of it is cut
/// away: fewer samples are scaled than of red, green and blue, and fewer are converted.
pub fn decode(source: &mut dyn Source, limit: Option<(u32, u32)>) -> Result<DynamicImage> {
    let p = parse(source)?;
    let mut f = frame(source, &p.meta, &p.primary, &p.tiles)?;
    let is_plain = p.alpha.is_none() && !p.primary.changes.iter().any(|c| matches!(c, Change::Crop(..)));
    if let Some((w, h)) = limit.filter(|_| is_plain) {
        let turned = |(w, h): (u32, u32)| if p.primary.lies() { (h, w) } else { (w, h) };
        let shown = turned((f.width, f.height));
        if (w > 0 && shown.0 > w) || (h > 0 && shown.1 > h) {
            let (w, h) = turned(fit(shown.0, shown.1, Ratio::ONE, (w, h)));
            f = Scaler::new(w, h, Pool::new()).scale(&f)?;
        }
    }
    let coded = p.tiles.first().unwrap_or(&p.primary);
    if let Some(colour) = p.primary.colour.or(coded.colour) {
        f.colour = colour;
    }
    let mut picture = colour::to_picture(&f)?;
    if let Some(alpha) = &p.alpha {
        let a = frame(source, &p.meta, &alpha.0, &alpha.1)?;
        picture = covered(picture, &a);
    }
    if let Some(profile) = p.primary.profile.as_ref().or(coded.profile.as_ref()) {
        picture = colour::to_srgb(picture, profile);
    }
    for change in &p.primary.changes {
        picture = match *change {
            Change::Turn(1) => picture.rotate270(),
            Change::Turn(2) => picture.rotate180(),
            Change::Turn(3) => picture.rotate90(),
            Change::Turn(_) => picture,
            Change::Mirror(true) => picture.flipv(),
            Change::Mirror(false) => picture.fliph(),
            Change::Crop(x, y, w, h) => picture.crop_imm(x, y, w, h),
        };
    }
    Ok(picture)
}

/// A picture with its coverage, which may be of another depth; one of another size is left out.
fn covered(picture: DynamicImage, alpha: &VideoFrame) -> DynamicImage {
    if (picture.width(), picture.height()) != (alpha.width, alpha.height) {
        return picture;
    }
    let most = u32::from(u16::MAX >> (16 - alpha.depth));
    let at = |x: u32, y: u32, top: u32| {
        let v = u32::from(alpha.planes[0].at(x, y));
        let (v, most) = if alpha.colour.full_range {
            (v, most)
        } else {
            let step = 1 << (alpha.depth - 8);
            (v.saturating_sub(16 * step).min(219 * step), 219 * step)
        };
        (v * top + most / 2) / most
    };
    match picture {
        DynamicImage::ImageRgb8(p) => {
            DynamicImage::ImageRgba8(ImageBuffer::from_fn(p.width(), p.height(), |x, y| {
                let [r, g, b] = p.get_pixel(x, y).0;
                image::Rgba([r, g, b, at(x, y, 255) as u8])
            }))
        }
        DynamicImage::ImageRgb16(p) => {
            DynamicImage::ImageRgba16(ImageBuffer::from_fn(p.width(), p.height(), |x, y| {
                let [r, g, b] = p.get_pixel(x, y).0;
                image::Rgba([r, g, b, at(x, y, 65_535) as u16])
            }))
        }
        other => other,
    }
}
