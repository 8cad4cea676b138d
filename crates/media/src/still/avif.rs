//! AVIF (AV1 Image File Format 1.1; HEIF, ISO/IEC 23008-12): one picture, or a grid of tiles, found through the
//! item boxes and decoded as AV1.

use super::{StillFacts, check_area, colour};
use crate::bits::{be16, be32, be64};
use crate::codec::{DecodeVideo, av1};
use crate::container::Source;
use crate::container::mp4::boxes::{find, inside, top_level, version};
use crate::error::{Error, Result};
use crate::frame::{Colour, Pool};
use crate::limits::MAX_PACKET_BYTES;
use crate::track::{Packet, VideoTrack};
use image::DynamicImage;
use std::io::SeekFrom;

/// Largest item index that is read.
const MAX_META: u64 = 4 << 20;

pub fn score(head: &[u8]) -> u8 {
    if head.get(4..8) != Some(b"ftyp") {
        return 0;
    }
    let size = be32(head, 0).unwrap_or(0) as usize;
    let brands = head.get(8..size.min(head.len())).unwrap_or(&[]);
    // A picture, or a file that may be read as one; sequences are read as clips.
    match brands.get(..4) {
        Some(b"avif") => 110,
        Some(b"avis") => 0,
        Some(b"mif1" | b"miaf") if brands.chunks_exact(4).skip(2).any(|b| b == b"avif") => 110,
        _ => 0,
    }
}

#[derive(Clone)]
struct Item {
    data: Vec<(u64, u64)>,
    in_meta: bool,
    width: u32,
    height: u32,
    setup: Vec<u8>,
    colour: Option<Colour>,
    /// Quarter turns, counter-clockwise.
    turns: u8,
    mirror: Option<u8>,
    kind: [u8; 4],
}

struct Picture {
    meta: Vec<u8>,
    primary: Item,
    /// Tiles of a grid, row by row.
    tiles: Vec<Item>,
}

fn damaged(what: &str) -> Error {
    Error::damaged("AVIF", what.to_owned())
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
    let primary = item(body, id)?;
    let mut tiles = Vec::new();
    if &primary.kind == b"grid" {
        for tile in references(body, id) {
            tiles.push(item(body, tile)?);
            if tiles.len() > 1024 {
                return Err(Error::limit("AVIF", "more than 1024 tiles"));
            }
        }
    }
    Ok(Picture { meta, primary, tiles })
}

/// Items that this one is derived from (14496-12, 8.11.12).
fn references(meta: &[u8], id: u32) -> Vec<u32> {
    let Some(iref) = find(meta, b"iref") else { return Vec::new() };
    let wide = version(iref) != 0;
    let read = |b: &[u8], at: usize| if wide { be32(b, at) } else { be16(b, at).map(u32::from) };
    let step = if wide { 4 } else { 2 };
    for r in inside(iref.get(4..).unwrap_or(&[])).filter(|r| &r.kind == b"dimg") {
        if read(r.body, 0) == Some(id) {
            let n = be16(r.body, step).unwrap_or(0) as usize;
            return (0..n).map_while(|i| read(r.body, step + 2 + i * step)).collect();
        }
    }
    Vec::new()
}

fn item(meta: &[u8], id: u32) -> Result<Item> {
    let mut out = Item {
        data: Vec::new(),
        in_meta: false,
        width: 0,
        height: 0,
        setup: Vec::new(),
        colour: None,
        turns: 0,
        mirror: None,
        kind: [0; 4],
    };
    // Kind of the item (8.11.6).
    let iinf = find(meta, b"iinf").unwrap_or(&[]);
    let entries = iinf.get(if version(iinf) == 0 { 6 } else { 8 }..).unwrap_or(&[]);
    for e in inside(entries).filter(|e| &e.kind == b"infe") {
        let (found, at) = match version(e.body) {
            2 => (be16(e.body, 4).map(u32::from), 8),
            3 => (be32(e.body, 4), 10),
            _ => (None, 0),
        };
        if found == Some(id)
            && let Some(k) = e.body.get(at..at + 4)
        {
            out.kind.copy_from_slice(k);
        }
    }
    if &out.kind != b"av01" && &out.kind != b"grid" {
        return Err(Error::unsupported(
            "AVIF",
            format!("an item of the kind '{}'", crate::container::codes::show(&out.kind)),
        ));
    }
    locate(meta, id, &mut out)?;
    properties(meta, id, &mut out);
    check_area("AVIF", out.width, out.height)?;
    Ok(out)
}

/// Item locations (8.11.3).
fn locate(meta: &[u8], id: u32, out: &mut Item) -> Result<()> {
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
    for _ in 0..count.min(65_536) {
        let found = take(wide)?;
        let method = if v >= 1 { take(2)? & 15 } else { 0 };
        take(2)?;
        let base = take(base_size)?;
        let extents = take(2)?;
        for _ in 0..extents {
            if v >= 1 {
                take(index_size)?;
            }
            let (o, l) = (take(offset_size)?, take(length_size)?);
            if found == u64::from(id) {
                out.data.push((base.saturating_add(o), l));
                out.in_meta = method == 1;
            }
        }
    }
    Ok(())
}

/// Item properties (8.11.14; HEIF, 6.5).
fn properties(meta: &[u8], id: u32, out: &mut Item) {
    let Some(iprp) = find(meta, b"iprp") else { return };
    let all: Vec<_> = find(iprp, b"ipco").map(|b| inside(b).collect()).unwrap_or_default();
    for ipma in inside(iprp).filter(|b| &b.kind == b"ipma").map(|b| b.body) {
        let (wide_id, wide_index) = (version(ipma) >= 1, ipma.get(3).is_some_and(|f| f & 1 != 0));
        let mut at = 8;
        for _ in 0..be32(ipma, 4).unwrap_or(0).min(65_536) {
            let found = if wide_id { be32(ipma, at) } else { be16(ipma, at).map(u32::from) };
            at += if wide_id { 4 } else { 2 };
            let Some(&n) = ipma.get(at) else { return };
            at += 1;
            for _ in 0..n {
                let index = if wide_index {
                    be16(ipma, at).map(|v| v & 0x7fff)
                } else {
                    ipma.get(at).map(|v| u16::from(v & 0x7f))
                };
                at += if wide_index { 2 } else { 1 };
                let Some(p) =
                    index.and_then(|i| all.get(usize::from(i).checked_sub(1)?)).filter(|_| found == Some(id))
                else {
                    continue;
                };
                match &p.kind {
                    b"ispe" => {
                        (out.width, out.height) = (be32(p.body, 4).unwrap_or(0), be32(p.body, 8).unwrap_or(0))
                    }
                    b"av1C" => out.setup = p.body.to_vec(),
                    b"irot" => out.turns = p.body.first().copied().unwrap_or(0) & 3,
                    b"imir" => out.mirror = p.body.first().map(|b| b & 1),
                    b"colr" if p.body.starts_with(b"nclx") => {
                        let code = |at| be16(p.body, at).unwrap_or(2).min(255) as u8;
                        let full_range = p.body.get(10).is_some_and(|b| b & 0x80 != 0);
                        out.colour = Some(Colour {
                            primaries: code(4),
                            transfer: code(6),
                            matrix: code(8),
                            full_range,
                        });
                    }
                    _ => (),
                }
            }
        }
    }
}

pub fn facts(source: &mut dyn Source) -> Result<StillFacts> {
    let p = parse(source)?;
    let mut v = VideoTrack::sized(p.primary.width, p.primary.height);
    let setup = p.tiles.first().map_or(&p.primary.setup, |t| &t.setup);
    av1::describe(setup, &mut v);
    let turned = p.primary.turns % 2 == 1;
    let (w, h) =
        if turned { (p.primary.height, p.primary.width) } else { (p.primary.width, p.primary.height) };
    let chroma = v.chroma.unwrap_or(crate::frame::Chroma::C420);
    let mut f = StillFacts::new("AVIF", w, h, v.depth.unwrap_or(8), chroma);
    f.rotation = [0, 270, 180, 90][usize::from(p.primary.turns)];
    f.colour = p.primary.colour.unwrap_or(v.colour);
    if matches!(f.colour.transfer, 16 | 18) {
        f.remarks.push("high dynamic range; its curve is not converted when it is shown".into());
    }
    Ok(f)
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

fn one(source: &mut dyn Source, meta: &[u8], i: &Item, colour_of: &Item) -> Result<DynamicImage> {
    let mut v = VideoTrack::sized(i.width, i.height);
    av1::describe(&i.setup, &mut v);
    if let Some(c) = colour_of.colour.or(i.colour) {
        v.colour = c;
    }
    let data = bytes_of(source, meta, i)?;
    let mut d = av1::Decoder::new(&v, Pool::new())?;
    let mut out = Vec::new();
    d.decode(&Packet { data, shown: true, key: true, ..Packet::default() }, &mut out)?;
    d.flush(&mut out)?;
    let frame = out.pop().ok_or_else(|| damaged("no picture in its AV1 data"))?;
    colour::to_picture(&frame)
}

pub fn decode(source: &mut dyn Source) -> Result<DynamicImage> {
    let p = parse(source)?;
    let mut picture = if &p.primary.kind == b"grid" {
        // HEIF, 6.6.2.3: rows, columns, size.
        let g = bytes_of(source, &p.meta, &p.primary)?;
        let &[_, _, rows, columns, ..] = g.as_slice() else { return Err(damaged("its grid is cut short")) };
        let columns = usize::from(columns) + 1;
        if p.tiles.len() != columns * (usize::from(rows) + 1) {
            return Err(damaged("its grid has another number of tiles"));
        }
        let mut whole = DynamicImage::new_rgb16(p.primary.width, p.primary.height);
        for (n, t) in p.tiles.iter().enumerate() {
            let tile = one(source, &p.meta, t, &p.primary)?;
            let (x, y) =
                ((n % columns) as i64 * i64::from(t.width), (n / columns) as i64 * i64::from(t.height));
            image::imageops::overlay(&mut whole, &DynamicImage::ImageRgb16(tile.to_rgb16()), x, y);
        }
        whole
    } else {
        one(source, &p.meta, &p.primary, &p.primary)?
    };
    // Turned first, then mirrored (MIAF, 7.3.6.7).
    picture = match p.primary.turns {
        1 => picture.rotate270(),
        2 => picture.rotate180(),
        3 => picture.rotate90(),
        _ => picture,
    };
    Ok(match p.primary.mirror {
        Some(0) => picture.flipv(),
        Some(_) => picture.fliph(),
        None => picture,
    })
}
