//! Writing MP4 with the index first.
//!
//! Room for the index is kept at the head from an estimate; what is left over becomes a `free` box. If the
//! estimate was too small the media moves back, in place. So a file is written once and memory holds only
//! the tables.

use super::boxes::Builder;
use crate::codec::Coded;
use crate::container::wrap::{Ending, Fragment, Mux, OutTrack, OutTrackKind, Sink};
use crate::error::{Error, Result};
use crate::frame::Colour;
use crate::track::{Codec, PcmLayout};
use crate::units::{Ratio, common_scale, rescale};
use std::io::SeekFrom;

/// A chunk is closed when it holds this much time or this many bytes.
const CHUNK_PARTS_OF_A_SECOND: i64 = 2;
const CHUNK_BYTES: usize = 1 << 20;
const MDAT_HEADER: u64 = 16;
/// Packets that one may be shown before (16 in H.264 and HEVC).
const MOST_REORDERED: usize = 32;

#[derive(Default)]
pub(super) struct Tables {
    /// (count, delta)
    times: Vec<(u32, u32)>,
    sizes: Vec<u32>,
    /// All of one size, and how many, where no sizes are listed.
    uniform: Option<(u32, u32)>,
    sync: Vec<u32>,
    /// When each packet is shown, where that is not the order in which they come.
    shown: Vec<i64>,
    /// How much later than decoded each is shown (14496-12, 8.6.1.3), in runs.
    offsets: Vec<(u32, u32)>,
    /// Ticks from the beginning of the media to when the first packet is shown.
    lead: i64,
    /// Offset from the start of the media data, and how many packets.
    chunks: Vec<(u64, u32)>,
    ticks: i64,
    /// How long the packet is shown that is shown last.
    last_ticks: i64,
    open: Vec<u8>,
    open_count: u32,
    open_ticks: i64,
}

pub struct Mp4Writer {
    out: Box<dyn Sink>,
    tracks: Vec<OutTrack>,
    tables: Vec<Tables>,
    created: Option<u64>,
    comment: Option<String>,
    head: Vec<u8>,
    /// Where media data starts now.
    media_at: u64,
    media_len: u64,
}

impl Mp4Writer {
    /// `created`: seconds since 1904, for the header.
    pub fn new(out: Box<dyn Sink>, tracks: Vec<OutTrack>, created: Option<u64>) -> Result<Self> {
        Self::branded(out, tracks, created, b"mp42", b"mp42isomavc1")
    }

    /// The older form of the same (Apple, QuickTime File Format), which holds uncompressed sound as well.
    pub fn quicktime(out: Box<dyn Sink>, tracks: Vec<OutTrack>) -> Result<Self> {
        Self::branded(out, tracks, None, b"qt  ", b"qt  ")
    }

    fn branded(
        mut out: Box<dyn Sink>,
        tracks: Vec<OutTrack>,
        created: Option<u64>,
        brand: &[u8; 4],
        compatible: &[u8],
    ) -> Result<Self> {
        let mut head = Builder::new();
        head.put(b"ftyp", |b| {
            b.raw(brand);
            b.u32(0);
            b.raw(compatible);
        });
        let head = head.bytes;
        let room = tracks.iter().map(index_room).sum::<u64>() + 1024;
        let media_at = head.len() as u64 + room + MDAT_HEADER;
        out.seek(SeekFrom::Start(0))?;
        out.write_all(&head)?;
        // Until the end the file says itself that nothing in it counts yet.
        out.write_all(&filler(room + MDAT_HEADER))?;
        out.seek(SeekFrom::Start(media_at))?;
        let tables = tracks.iter().map(|_| Tables::default()).collect();
        Ok(Mp4Writer { out, tracks, tables, created, head, media_at, media_len: 0, comment: None })
    }

    /// Uncompressed sound: every sample of all channels is one of the table's, all of one size.
    fn write_pcm(&mut self, track: usize, layout: PcmLayout, packet: &Coded) -> Result<()> {
        let channels = match self.tracks[track].kind {
            OutTrackKind::Audio { channels, .. } => u32::from(channels),
            _ => 1,
        };
        let t = &mut self.tables[track];
        let frame = channels * u32::from(layout.bytes);
        let count = packet.data.len() as u32 / frame.max(1);
        match t.times.last_mut() {
            Some((n, _)) => *n += count,
            None => t.times.push((count, 1)),
        }
        t.uniform = Some((frame, t.uniform.map_or(0, |(_, n)| n) + count));
        t.ticks += i64::from(count);
        let from = t.open.len();
        t.open.extend_from_slice(&packet.data);
        if layout.bytes > 2 {
            // Its code in the table says: high byte first.
            t.open[from..].chunks_exact_mut(layout.bytes.into()).for_each(|s| s.reverse());
        }
        t.open_count += count;
        t.open_ticks += i64::from(count);
        let full = t.open_ticks * CHUNK_PARTS_OF_A_SECOND >= i64::from(self.tracks[track].timescale);
        if full || t.open.len() >= CHUNK_BYTES { self.close_chunk(track) } else { Ok(()) }
    }

    /// Times of decoding, for packets of which it is known when they are shown: the same moments in their order, and early
    /// enough for each.
    fn order(&mut self, track: usize) {
        let t = &mut self.tables[track];
        let mut sorted = t.shown.clone();
        sorted.sort_unstable();
        let late = sorted.iter().zip(&t.shown).map(|(decoded, shown)| decoded - shown).max().unwrap_or(0);
        let mut times: Vec<(u32, u32)> = Vec::new();
        let mut offsets: Vec<(u32, u32)> = Vec::new();
        let put = |runs: &mut Vec<(u32, u32)>, v: i64| {
            let v = v.clamp(0, u32::MAX.into()) as u32;
            match runs.last_mut() {
                Some((n, last)) if *last == v => *n += 1,
                _ => runs.push((1, v)),
            }
        };
        for (i, (decoded, shown)) in sorted.iter().zip(&t.shown).enumerate() {
            let next = sorted.get(i + 1).copied().unwrap_or(decoded + t.last_ticks);
            put(&mut times, next - decoded);
            put(&mut offsets, shown + late - decoded);
        }
        t.ticks = sorted.first().zip(sorted.last()).map_or(0, |(a, b)| b - a + t.last_ticks);
        (t.times, t.lead) = (times, late);
        if late > 0 || offsets.len() > 1 {
            t.offsets = offsets;
        }
    }

    fn close_chunk(&mut self, track: usize) -> Result<()> {
        let t = &mut self.tables[track];
        if t.open_count > 0 {
            self.out.write_all(&t.open)?;
            t.chunks.push((self.media_len, t.open_count));
            self.media_len += t.open.len() as u64;
            t.open.clear();
            (t.open_count, t.open_ticks) = (0, 0);
        }
        Ok(())
    }

    /// Moves all media `by` bytes back, from the end on.
    fn move_media(&mut self, by: u64) -> Result<()> {
        let mut block = vec![0u8; 1 << 20];
        let mut left = self.media_len;
        while left > 0 {
            let n = left.min(block.len() as u64);
            left -= n;
            let part = &mut block[..n as usize];
            self.out.seek(SeekFrom::Start(self.media_at + left))?;
            self.out.read_exact(part)?;
            self.out.seek(SeekFrom::Start(self.media_at + left + by))?;
            self.out.write_all(part)?;
        }
        self.media_at += by;
        Ok(())
    }

    fn index(&self, endings: &[Ending]) -> Vec<u8> {
        let (tracks, tables, created) = (&self.tracks, &self.tables, self.created.unwrap_or(0));
        let comment = self.comment.as_deref();
        Index { tracks, tables, created, comment, media_at: self.media_at, in_fragments: false }
            .bytes(endings)
    }
}

/// What `moov` is written from.
pub(super) struct Index<'a> {
    pub tracks: &'a [OutTrack],
    pub tables: &'a [Tables],
    pub created: u64,
    pub comment: Option<&'a str>,
    /// Where media data starts.
    pub media_at: u64,
    /// The packets stand in fragments behind it, and none in its tables (14496-12, 8.8).
    pub in_fragments: bool,
}

impl Index<'_> {
    pub fn bytes(&self, endings: &[Ending]) -> Vec<u8> {
        // A movie scale that holds every track's times exactly, if there is one.
        let scale = self.tracks.iter().try_fold(1, |s, t| common_scale(s, t.timescale)).unwrap_or(90_000);
        let ends: Vec<i64> = self
            .tracks
            .iter()
            .zip(endings)
            .map(|(t, e)| e.start.ticks_at(scale) + rescale(e.length, t.timescale, scale))
            .collect();
        let created = self.created;
        let whole = ends.iter().copied().max().unwrap_or(0) as u64;
        let mut b = Builder::new();
        b.put(b"moov", |b| {
            b.full(b"mvhd", 1, 0, |b| {
                b.u64(created);
                b.u64(created);
                b.u32(scale);
                b.u64(if self.in_fragments { 0 } else { whole });
                b.u32(0x10000);
                b.u16(0x100);
                b.zeros(10);
                matrix(b, 0, 0, 0);
                b.zeros(24);
                b.u32(self.tracks.len() as u32 + 1);
            });
            for (i, (track, ending)) in self.tracks.iter().zip(endings).enumerate() {
                let end = if self.in_fragments { 0 } else { ends[i] };
                b.put(b"trak", |b| self.track(b, i, track, ending, scale, end, created));
            }
            if let Some(words) = self.comment {
                b.put(b"udta", |b| comment(b, words));
            }
            if self.in_fragments {
                b.put(b"mvex", |b| {
                    b.full(b"mehd", 1, 0, |b| b.u64(whole));
                    for i in 0..self.tracks.len() {
                        b.full(b"trex", 0, 0, |b| [i as u32 + 1, 1, 0, 0, 0].iter().for_each(|v| b.u32(*v)));
                    }
                });
            }
        });
        b.bytes
    }

    #[allow(clippy::too_many_arguments)]
    fn track(
        &self,
        b: &mut Builder,
        i: usize,
        track: &OutTrack,
        ending: &Ending,
        scale: u32,
        end: i64,
        created: u64,
    ) {
        let tables = &self.tables[i];
        // Enabled, in the movie; the second and later sound tracks are alternatives to the first.
        let sound_before = self.tracks[..i].iter().any(|t| matches!(t.kind, OutTrackKind::Audio { .. }));
        let is_sound = matches!(track.kind, OutTrackKind::Audio { .. });
        let extra_sound = is_sound && sound_before;
        let enabled = !extra_sound && !matches!(track.kind, OutTrackKind::Timecode(_));
        b.full(b"tkhd", 1, if enabled { 3 } else { 2 }, |b| {
            b.u64(created);
            b.u64(created);
            b.u32(i as u32 + 1);
            b.u32(0);
            b.u64(end as u64);
            b.zeros(8);
            b.u16(0);
            b.u16(u16::from(is_sound));
            b.u16(if is_sound { 0x100 } else { 0 });
            b.u16(0);
            match &track.kind {
                OutTrackKind::Video { width, height, rotation, pixel_shape, .. } => {
                    matrix(b, *rotation, *width, *height);
                    let shown =
                        (u64::from(*width) << 16) * u64::from(pixel_shape.num) / u64::from(pixel_shape.den);
                    b.u32(shown.min(u64::from(u32::MAX)) as u32);
                    b.u32(height << 16);
                }
                _ => {
                    matrix(b, 0, 0, 0);
                    b.zeros(8);
                }
            }
        });
        if matches!(track.kind, OutTrackKind::Video { .. })
            && let Some(tc) = self.tracks.iter().position(|t| matches!(t.kind, OutTrackKind::Timecode(_)))
        {
            b.put(b"tref", |b| b.put(b"tmcd", |b| b.u32(tc as u32 + 1)));
        }
        b.put(b"edts", |b| {
            let late = ending.start.ticks_at(scale).max(0);
            b.full(b"elst", 1, 0, |b| {
                b.u32(1 + u32::from(late > 0));
                if late > 0 {
                    b.u64(late as u64);
                    b.u64(u64::MAX);
                    b.u32(0x10000);
                }
                b.u64((end - late).max(0) as u64);
                b.u64((ending.skip + tables.lead) as u64);
                b.u32(0x10000);
            });
        });
        b.put(b"mdia", |b| {
            b.full(b"mdhd", 1, 0, |b| {
                b.u64(created);
                b.u64(created);
                b.u32(track.timescale);
                b.u64(tables.ticks as u64);
                b.u16(pack_language(track.language.as_deref()));
                b.u16(0);
            });
            let (handler, name): (&[u8; 4], &[u8]) = match track.kind {
                OutTrackKind::Video { .. } => (b"vide", b"Picture\0"),
                OutTrackKind::Audio { .. } => (b"soun", b"Sound\0"),
                OutTrackKind::Timecode(_) => (b"tmcd", b"Timecode\0"),
            };
            b.full(b"hdlr", 0, 0, |b| {
                b.u32(0);
                b.raw(handler);
                b.zeros(12);
                b.raw(name);
            });
            b.put(b"minf", |b| {
                match &track.kind {
                    OutTrackKind::Video { .. } => b.full(b"vmhd", 0, 1, |b| b.zeros(8)),
                    OutTrackKind::Audio { .. } => b.full(b"smhd", 0, 0, |b| b.zeros(4)),
                    OutTrackKind::Timecode(_) => b.put(b"gmhd", |b| {
                        b.full(b"gmin", 0, 0, |b| {
                            b.u16(0x40);
                            [0x8000, 0x8000, 0x8000, 0, 0].iter().for_each(|v| b.u16(*v));
                        });
                        b.put(b"tmcd", |b| {
                            b.full(b"tcmi", 0, 0, |b| {
                                b.zeros(4);
                                b.u16(12);
                                b.zeros(14);
                                b.u8(0);
                            })
                        });
                    }),
                }
                b.put(b"dinf", |b| {
                    b.full(b"dref", 0, 0, |b| {
                        b.u32(1);
                        b.full(b"url ", 0, 1, |_| ());
                    })
                });
                b.put(b"stbl", |b| {
                    b.full(b"stsd", 0, 0, |b| {
                        b.u32(1);
                        sample_entry(b, track, &ending.setup);
                    });
                    tables.write(b, self.media_at);
                });
            });
        });
    }
}

impl Mux for Mp4Writer {
    fn comment(&mut self, words: &str) -> Result<()> {
        self.comment = Some(words.to_owned());
        Ok(())
    }

    fn write(&mut self, track: usize, packet: &Coded) -> Result<()> {
        if let Some(layout) = pcm(&self.tracks[track]) {
            return self.write_pcm(track, layout, packet);
        }
        let t = &mut self.tables[track];
        let size =
            u32::try_from(packet.data.len()).map_err(|_| Error::limit("MP4", "a packet of 4 GiB or more"))?;
        let delta = u32::try_from(packet.duration)
            .map_err(|_| Error::limit("MP4", format!("a packet that lasts {} ticks", packet.duration)))?;
        match t.times.last_mut() {
            _ if self.tracks[track].reordered => {
                if t.shown.iter().rev().take(MOST_REORDERED).all(|s| *s < packet.pts) {
                    t.last_ticks = packet.duration;
                }
                t.shown.push(packet.pts);
            }
            Some((n, d)) if *d == delta => *n += 1,
            _ => t.times.push((1, delta)),
        }
        t.sizes.push(size);
        if packet.key {
            t.sync.push(t.sizes.len() as u32);
        }
        t.ticks += packet.duration;
        t.open.extend_from_slice(&packet.data);
        t.open_count += 1;
        t.open_ticks += packet.duration;
        let full = t.open_ticks * CHUNK_PARTS_OF_A_SECOND >= i64::from(self.tracks[track].timescale);
        if full || t.open.len() >= CHUNK_BYTES { self.close_chunk(track) } else { Ok(()) }
    }

    fn finish(mut self: Box<Self>, endings: &[Ending]) -> Result<Vec<Fragment>> {
        for track in 0..self.tracks.len() {
            self.close_chunk(track)?;
            if self.tracks[track].reordered {
                self.order(track);
            }
        }
        let mut moov = self.index(endings);
        let room = self.media_at - MDAT_HEADER - self.head.len() as u64;
        let left = room as i64 - moov.len() as i64;
        if left != 0 && left < 8 {
            let by = (moov.len() as u64 + 8).saturating_sub(room).next_multiple_of(4096);
            self.move_media(by)?;
            moov = self.index(endings);
        }
        let room = self.media_at - MDAT_HEADER - self.head.len() as u64;
        let left = room - moov.len() as u64;
        moov.extend(filler(left));
        self.out.seek(SeekFrom::Start(self.head.len() as u64))?;
        self.out.write_all(&moov)?;
        let mut mdat = vec![0, 0, 0, 1];
        mdat.extend(b"mdat");
        mdat.extend((self.media_len + MDAT_HEADER).to_be_bytes());
        self.out.write_all(&mdat)?;
        self.out.flush()?;
        Ok(Vec::new())
    }
}

/// The second version of a sound description (Apple, QuickTime File Format, "Sound Sample Description (Version 2)"): for rates
/// that do not go into 16 bits, and for many channels.
fn long_pcm(b: &mut Builder, rate: u32, channels: u16, bytes: u32) {
    const SIGNED: u32 = 4;
    const PACKED: u32 = 8;
    const HIGH_BYTE_FIRST: u32 = 2;
    b.put(b"lpcm", |b| {
        b.zeros(6);
        b.u16(1);
        b.u16(2);
        b.zeros(6);
        [3u16, 16, 0xfffe, 0].iter().for_each(|v| b.u16(*v));
        b.u32(0x10000);
        b.u32(72);
        b.u64(f64::from(rate).to_bits());
        b.u32(channels.into());
        b.u32(0x7f00_0000);
        b.u32(bytes * 8);
        b.u32(SIGNED | PACKED | if bytes > 2 { HIGH_BYTE_FIRST } else { 0 });
        b.u32(bytes * u32::from(channels));
        b.u32(1);
    });
}

/// The layout of a track of uncompressed sound.
fn pcm(track: &OutTrack) -> Option<PcmLayout> {
    match track.codec {
        Codec::Pcm(layout) => Some(layout),
        _ => None,
    }
}

/// Bytes of index that a track may need.
/// Descriptions of the whole file, in the form that players and taggers read (14496-12, 8.11, with a list of items).
fn comment(b: &mut Builder, words: &str) {
    b.full(b"meta", 0, 0, |b| {
        b.full(b"hdlr", 0, 0, |b| {
            b.u32(0);
            b.raw(b"mdir");
            b.zeros(13);
        });
        b.put(b"ilst", |b| {
            b.put(b"\xa9cmt", |b| {
                b.put(b"data", |b| {
                    // A text in UTF-8.
                    b.u32(1);
                    b.u32(0);
                    b.raw(words.as_bytes());
                })
            })
        });
    });
}

fn index_room(t: &OutTrack) -> u64 {
    let n = t.expected;
    match t.kind {
        // Sizes; times if every one differs is not expected; a chunk and a sync sample every half second.
        OutTrackKind::Video { .. } if t.reordered => 1200 + n * 12 + n / 4 * 8 + n / 8 * 4,
        OutTrackKind::Video { .. } => 1200 + n * 4 + n / 4 * 8 + n / 8 * 4,
        OutTrackKind::Audio { .. } => 1200 + n * 4 + n / 8 * 8,
        OutTrackKind::Timecode(_) => 1200,
    }
}

/// A `free` box of `len` bytes in all (0, or 8 and more).
pub(super) fn filler(len: u64) -> Vec<u8> {
    let mut out = Vec::with_capacity(len as usize);
    if len >= 8 {
        out.extend((len as u32).to_be_bytes());
        out.extend(b"free");
        out.resize(len as usize, 0);
    }
    out
}

impl Tables {
    fn write(&self, b: &mut Builder, media_at: u64) {
        b.full(b"stts", 0, 0, |b| {
            b.u32(self.times.len() as u32);
            for (n, d) in &self.times {
                b.u32(*n);
                b.u32(*d);
            }
        });
        if !self.offsets.is_empty() {
            b.full(b"ctts", 0, 0, |b| {
                b.u32(self.offsets.len() as u32);
                for (n, d) in &self.offsets {
                    b.u32(*n);
                    b.u32(*d);
                }
            });
        }
        if self.sync.len() < self.sizes.len() {
            b.full(b"stss", 0, 0, |b| {
                b.u32(self.sync.len() as u32);
                self.sync.iter().for_each(|n| b.u32(*n));
            });
        }
        let mut runs: Vec<(u32, u32)> = Vec::new();
        for (i, (_, n)) in self.chunks.iter().enumerate() {
            if runs.last().is_none_or(|(_, last)| last != n) {
                runs.push((i as u32 + 1, *n));
            }
        }
        b.full(b"stsc", 0, 0, |b| {
            b.u32(runs.len() as u32);
            for (first, n) in runs {
                b.u32(first);
                b.u32(n);
                b.u32(1);
            }
        });
        if let Some((size, count)) = self.uniform {
            b.full(b"stsz", 0, 0, |b| {
                b.u32(size);
                b.u32(count);
            });
        } else {
            b.full(b"stsz", 0, 0, |b| {
                b.u32(0);
                b.u32(self.sizes.len() as u32);
                self.sizes.iter().for_each(|n| b.u32(*n));
            });
        }
        let furthest = self.chunks.last().map_or(0, |c| c.0) + media_at;
        let wide = u32::try_from(furthest).is_err();
        b.full(if wide { b"co64" } else { b"stco" }, 0, 0, |b| {
            b.u32(self.chunks.len() as u32);
            for (at, _) in &self.chunks {
                if wide { b.u64(at + media_at) } else { b.u32((at + media_at) as u32) }
            }
        });
    }
}

/// The transformation matrix (14496-12, 6.2.2) of a clockwise turn, with the move that brings the picture
/// back to the origin.
fn matrix(b: &mut Builder, rotation: u16, width: u32, height: u32) {
    let one = 0x10000i32;
    let (w, h) = ((width << 16) as i32, (height << 16) as i32);
    let m = match rotation {
        90 => [0, one, 0, -one, 0, 0, h, 0],
        180 => [-one, 0, 0, 0, -one, 0, w, h],
        270 => [0, -one, 0, one, 0, 0, 0, w],
        _ => [one, 0, 0, 0, one, 0, 0, 0],
    };
    m.iter().for_each(|v| b.u32(*v as u32));
    b.u32(0x4000_0000);
}

fn pack_language(code: Option<&str>) -> u16 {
    let code = code.filter(|c| c.len() == 3 && c.bytes().all(|b| b.is_ascii_lowercase())).unwrap_or("und");
    code.bytes().fold(0, |n, b| n << 5 | u16::from(b - 0x60))
}

fn sample_entry(b: &mut Builder, track: &OutTrack, setup: &[u8]) {
    match &track.kind {
        OutTrackKind::Video { width, height, pixel_shape, colour, .. } => {
            b.put(picture_code(&track.codec).0, |b| {
                b.zeros(6);
                b.u16(1);
                b.zeros(16);
                b.u16(*width as u16);
                b.u16(*height as u16);
                b.u32(0x0048_0000);
                b.u32(0x0048_0000);
                b.u32(0);
                b.u16(1);
                b.zeros(32);
                b.u16(24);
                b.u16(0xffff);
                if let Some(record) = picture_code(&track.codec).1 {
                    b.put(record, |b| b.raw(setup));
                }
                if *pixel_shape != Ratio::ONE {
                    b.put(b"pasp", |b| {
                        b.u32(pixel_shape.num);
                        b.u32(pixel_shape.den);
                    });
                }
                if *colour != Colour::default() {
                    b.put(b"colr", |b| {
                        b.raw(b"nclx");
                        b.u16(colour.primaries.into());
                        b.u16(colour.transfer.into());
                        b.u16(colour.matrix.into());
                        b.u8(u8::from(colour.full_range) << 7);
                    });
                }
            })
        }
        OutTrackKind::Audio { rate, channels, .. } if pcm(track).is_some() => {
            let bytes = pcm(track).map_or(2, |l| u32::from(l.bytes));
            if *rate >= 0x10000 || *channels > 2 {
                return long_pcm(b, *rate, *channels, bytes);
            }
            b.put(if bytes > 2 { b"in24" } else { b"sowt" }, |b| {
                b.zeros(6);
                b.u16(1);
                b.zeros(8);
                b.u16(*channels);
                b.u16(16);
                b.u32(0);
                b.u32(rate << 16);
            })
        }
        OutTrackKind::Audio { rate, channels, .. }
            if matches!(track.codec, Codec::Opus | Codec::Flac | Codec::Alac) =>
        {
            record_entry(b, &track.codec, *rate, *channels, setup);
        }
        OutTrackKind::Audio { rate, channels, bits } => b.put(b"mp4a", |b| {
            b.zeros(6);
            b.u16(1);
            b.zeros(8);
            b.u16(*channels);
            b.u16(16);
            b.u32(0);
            // 16.16 holds rates below 65,536; above, the setup record tells.
            b.u32(if *rate < 0x10000 { rate << 16 } else { 0 });
            // Descriptors of 14496-1, 7.2.6, with one-byte lengths.
            b.full(b"esds", 0, 0, |b| {
                // MP3 says all in its packets.
                let is_aac = track.codec == Codec::Aac;
                let setup = if is_aac { setup } else { &[] };
                let inner = if is_aac { 2 + setup.len() as u8 } else { 0 };
                b.raw(&[3, 21 + inner, 0, 0, 0]);
                b.raw(&[4, 13 + inner, if is_aac { 0x40 } else { 0x6b }, 0x15, 0, 0, 0]);
                b.u32(*bits);
                b.u32(*bits);
                if is_aac {
                    b.raw(&[5, setup.len() as u8]);
                    b.raw(setup);
                }
                b.raw(&[6, 1, 2]);
            });
        }),
        OutTrackKind::Timecode(tc) => b.put(b"tmcd", |b| {
            b.zeros(6);
            b.u16(1);
            b.u32(0);
            b.u32(u32::from(tc.drop_frame) | 2);
            b.u32(tc.rate.num);
            b.u32(tc.rate.den);
            b.u8(tc.frames_per_count.min(255) as u8);
            b.u8(0);
            if let Some(reel) = &tc.reel {
                b.put(b"name", |b| {
                    b.u16(reel.len().min(255) as u16);
                    b.u16(0);
                    b.raw(&reel.as_bytes()[..reel.len().min(255)]);
                });
            }
        }),
    }
}

/// The code of a kind of pictures, and the box of its setup record.
fn picture_code(codec: &Codec) -> (&'static [u8; 4], Option<&'static [u8; 4]>) {
    match codec {
        Codec::Hevc => (b"hvc1", Some(b"hvcC")),
        Codec::Av1 => (b"av01", Some(b"av1C")),
        Codec::MotionJpeg => (b"jpeg", None),
        Codec::Raw(_) => (b"v210", None),
        _ => (b"avc1", Some(b"avcC")),
    }
}

/// Sound whose setup record stands in a box of its own: Opus ("Encapsulation of Opus in ISO Base Media File Format", 4.3),
/// FLAC ("Encapsulation of FLAC in ISO Base Media File Format", 3.3) and Apple's lossless one.
fn record_entry(b: &mut Builder, codec: &Codec, rate: u32, channels: u16, setup: &[u8]) {
    let (entry, record) = match codec {
        Codec::Opus => (b"Opus", b"dOps"),
        Codec::Flac => (b"fLaC", b"dfLa"),
        _ => (b"alac", b"alac"),
    };
    b.put(entry, |b| {
        b.zeros(6);
        b.u16(1);
        b.zeros(8);
        b.u16(channels);
        b.u16(16);
        b.u32(0);
        b.u32(if rate < 0x10000 { rate << 16 } else { 0 });
        match codec {
            Codec::Opus => b.put(record, |b| {
                // The head of RFC 7845, 5.1 without its name, in the other order of bytes.
                let byte = |at: usize| setup.get(at).copied().unwrap_or(0);
                b.raw(&[0, byte(9), byte(11), byte(10), byte(15), byte(14), byte(13), byte(12)]);
                b.raw(&[byte(17), byte(16), byte(18)]);
                if byte(18) != 0 {
                    b.raw(setup.get(19..).unwrap_or(&[]));
                }
            }),
            // One block of descriptions, the last: the stream's.
            Codec::Flac => b.full(record, 0, 0, |b| {
                b.raw(&[0x80, 0, 0, setup.len() as u8]);
                b.raw(setup);
            }),
            _ => b.full(record, 0, 0, |b| b.raw(setup)),
        }
    });
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::container::{self, Demux};
    use crate::units::Time;
    use rstest::rstest;
    use std::io::Seek;

    fn audio(expected: u64) -> OutTrack {
        OutTrack {
            codec: Codec::Aac,
            kind: OutTrackKind::Audio { rate: 48_000, channels: 1, bits: 64_000 },
            timescale: 48_000,
            language: Some("eng".into()),
            expected,
            skip: 2048,
            reordered: false,
            began: None,
        }
    }

    fn written(expected: u64, packets: u32) -> Box<dyn Demux> {
        let mut file = tempfile::tempfile().unwrap();
        let mut w = Mp4Writer::new(Box::new(file.try_clone().unwrap()), vec![audio(expected)], None).unwrap();
        for i in 0..packets {
            let data = i.to_be_bytes().repeat(1 + (i % 7) as usize);
            w.write(0, &Coded::new(0, 1024, true, data)).unwrap();
        }
        let ending = Ending {
            setup: vec![0x11, 0x88],
            start: Time::new(1, 4),
            skip: 2048,
            length: i64::from(packets) * 1024 - 2100,
        };
        Box::new(w).finish(&[ending]).unwrap();
        file.seek(SeekFrom::Start(0)).unwrap();
        container::open(Box::new(file)).unwrap()
    }

    #[rstest]
    #[case::room_enough(500)]
    #[case::room_too_small(0)]
    fn what_is_written_is_read(#[case] expected: u64) {
        let mut d = written(expected, 500);
        let t = d.tracks()[0].clone();
        assert_eq!(t.start, Time::new(1, 4));
        assert_eq!(t.duration, Time::new(500 * 1024 - 2100, 48_000));
        assert_eq!(t.language.as_deref(), Some("eng"));
        let mut n = 0u32;
        while let Some(p) = d.next_packet().unwrap() {
            assert_eq!(p.data, n.to_be_bytes().repeat(1 + (n % 7) as usize));
            match n {
                0 | 1 => assert!(!p.shown, "priming"),
                2 => assert_eq!((p.pts, p.trim_start), (12_000, 0)),
                499 => assert_eq!(p.keep, Some(1024 - 52)),
                _ => assert!(p.shown && p.keep.is_none()),
            }
            n += 1;
        }
        assert_eq!(n, 500);
    }

    #[test]
    fn an_unfinished_file_holds_no_media() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("x.mp4");
        let open = || {
            std::fs::File::options().read(true).write(true).create(true).truncate(false).open(&path).unwrap()
        };
        let mut w = Mp4Writer::new(Box::new(open()), vec![audio(9)], None).unwrap();
        w.write(0, &Coded::new(0, 48_000, true, vec![1; 99])).unwrap();
        drop(w);
        assert!(container::open(Box::new(open())).is_err());
    }
}
