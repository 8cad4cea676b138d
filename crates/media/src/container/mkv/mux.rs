//! Writing Matroska and WebM (RFC 9559). Room for what is known at the end only (length, tracks, index) is kept at the head;
//! what is left of it is a `Void` element.

use crate::codec::Coded;
use crate::container::wrap::{Ending, Fragment, Mux, OutTrack, OutTrackKind, Sink};
use crate::error::{Error, Result};
use crate::frame::Fields;
use crate::plan::plain_pcm;
use crate::track::{Codec, PcmLayout};
use crate::units::{Time, rescale};
use std::io::SeekFrom;

/// Ticks a second: one is a millisecond, as the usual scale of a million nanoseconds has it.
const SCALE: u32 = 1000;
/// A cluster is closed at a key picture after this time, and in any case before its times do not fit any more.
const CLUSTER_MS: i64 = 2_000;
const MAX_CLUSTER_MS: i64 = 30_000;
/// Room at the head for places, length and tracks.
const ROOM: usize = 8_192;

/// What is special about the last packet of a track.
enum Last {
    No,
    /// So many nanoseconds at its end are not heard.
    Cut(i64),
    /// It is shown for so many milliseconds.
    Shown(u64),
}

pub struct Writer {
    out: Box<dyn Sink>,
    tracks: Vec<OutTrack>,
    kind: &'static str,
    /// Where the segment's content starts, and where its clusters do.
    body: u64,
    at: u64,
    cluster: Vec<u8>,
    cluster_at: Option<i64>,
    /// Time, track and place of each key picture's cluster.
    cues: Vec<(i64, usize, u64)>,
    /// The last packet of each track: it may have to be cut.
    held: Vec<Option<Coded>>,
    /// Which tracks have coverage beside their pictures.
    coverage: Vec<bool>,
    comment: String,
}

impl Writer {
    pub fn new(mut out: Box<dyn Sink>, tracks: Vec<OutTrack>, kind: &'static str) -> Result<Writer> {
        let mut head = Vec::new();
        element(&mut head, 0x1a45_dfa3, |b| {
            for (id, v) in [(0x4286, 1), (0x42f7, 1), (0x42f2, 4), (0x42f3, 8)] {
                unsigned(b, id, v);
            }
            text(b, 0x4282, kind);
            unsigned(b, 0x4287, 4);
            unsigned(b, 0x4285, 2);
        });
        // The segment, of a size that is written at the end.
        head.extend([0x18, 0x53, 0x80, 0x67, 0x01, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff]);
        out.seek(SeekFrom::Start(0))?;
        out.write_all(&head)?;
        let body = head.len() as u64;
        let room = ROOM + tracks.len() * 1024;
        out.write_all(&void(room))?;
        let held = tracks.iter().map(|_| None).collect();
        let coverage = vec![false; tracks.len()];
        Ok(Writer {
            out,
            tracks,
            kind,
            body,
            at: body + room as u64,
            cluster: Vec::new(),
            cluster_at: None,
            cues: Vec::new(),
            held,
            coverage,
            comment: String::new(),
        })
    }

    fn put(&mut self, track: usize, packet: &Coded, end: Last) -> Result<()> {
        let t = &self.tracks[track];
        // Priming is taken off again by who plays it.
        let ms = rescale(packet.pts + t.skip, t.timescale, SCALE).max(0);
        let lasts = rescale(packet.duration, t.timescale, SCALE);
        let is_picture = matches!(t.kind, OutTrackKind::Video { .. });
        let pictures = self.tracks.iter().any(|t| matches!(t.kind, OutTrackKind::Video { .. }));
        let may = packet.key && (is_picture || !pictures);
        let begin = match self.cluster_at {
            None => true,
            // What is shown before what it came behind is told by a time before the cluster's.
            Some(at) => {
                (may && ms - at >= CLUSTER_MS) || ms - at >= MAX_CLUSTER_MS || at - ms > MAX_CLUSTER_MS
            }
        };
        if begin {
            self.close()?;
            self.cluster_at = Some(ms);
            unsigned(&mut self.cluster, 0xe7, ms as u64);
        }
        if may && self.cues.last().is_none_or(|c| begin || c.2 != self.at) {
            self.cues.push((ms, track, self.at));
        }
        let relative = (ms - self.cluster_at.unwrap_or(ms)) as i16;
        let block = |b: &mut Vec<u8>, flags: u8| {
            b.push(0x80 | (track as u8 + 1));
            b.extend(relative.to_be_bytes());
            b.push(flags);
            b.extend(&packet.data);
        };
        if matches!(end, Last::No) && packet.beside.is_empty() {
            element(&mut self.cluster, 0xa3, |b| block(b, if packet.key { 0x80 } else { 0 }));
            return Ok(());
        }
        self.coverage[track] |= !packet.beside.is_empty();
        element(&mut self.cluster, 0xa0, |b| {
            element(b, 0xa1, |b| block(b, 0));
            if !packet.beside.is_empty() {
                element(b, 0x75a1, |b| {
                    element(b, 0xa6, |b| {
                        unsigned(b, 0xee, 1);
                        element(b, 0xa5, |b| b.extend(&packet.beside));
                    });
                });
            }
            if let Last::Shown(ms) = end {
                unsigned(b, 0x9b, ms);
            }
            if is_picture && !packet.key {
                // It leans on another: the one before it.
                element(b, 0xfb, |b| b.push(-(lasts.clamp(1, 100) as i8) as u8));
            }
            if let Last::Cut(nanoseconds) = end {
                element(b, 0x75a2, |b| b.extend(nanoseconds.to_be_bytes()));
            }
        });
        Ok(())
    }

    fn close(&mut self) -> Result<()> {
        if self.cluster_at.take().is_some() {
            let mut head = Vec::new();
            element_head(&mut head, 0x1f43_b675, self.cluster.len());
            self.out.write_all(&head)?;
            self.out.write_all(&self.cluster)?;
            self.at += (head.len() + self.cluster.len()) as u64;
            self.cluster.clear();
        }
        Ok(())
    }

    fn head(&self, endings: &[Ending], cues_at: u64) -> Vec<u8> {
        let length =
            self.tracks.iter().zip(endings).filter_map(|(t, e)| {
                e.start.checked_add(Time::new(e.length, t.timescale)).map(Time::seconds)
            });
        let ms = length.fold(0.0f64, f64::max) * f64::from(SCALE);
        let mut info = Vec::new();
        element(&mut info, 0x1549_a966, |b| {
            unsigned(b, 0x2ad7b1, 1_000_000);
            element(b, 0x4489, |b| b.extend(ms.to_be_bytes()));
            text(b, 0x4d80, "Deft Porter");
            text(b, 0x5741, "Deft Porter");
        });
        let mut tracks = Vec::new();
        element(&mut tracks, 0x1654_ae6b, |b| {
            for (n, (t, e)) in self.tracks.iter().zip(endings).enumerate() {
                element(b, 0xae, |b| track(b, n as u64 + 1, (t, self.coverage[n]), e));
            }
        });
        // Where the others are: 8-byte places, so that its own size is known.
        let seek = |places: [u64; 3]| {
            let mut b = Vec::new();
            element(&mut b, 0x114d_9b74, |b| {
                for (id, at) in [0x1549_a966u32, 0x1654_ae6b, 0x1c53_bb6b].into_iter().zip(places) {
                    element(b, 0x4dbb, |b| {
                        element(b, 0x53ab, |b| b.extend(id.to_be_bytes()));
                        element(b, 0x53ac, |b| b.extend(at.to_be_bytes()));
                    });
                }
            });
            b
        };
        let len = seek([0; 3]).len() as u64;
        let mut out = seek([len, len + info.len() as u64, cues_at]);
        out.extend(info);
        out.extend(tracks);
        out
    }
}

impl Mux for Writer {
    fn comment(&mut self, words: &str) -> Result<()> {
        self.comment = words.to_owned();
        Ok(())
    }

    fn write(&mut self, track: usize, packet: &Coded) -> Result<()> {
        let before = self.held.get_mut(track).and_then(|h| h.replace(packet.clone()));
        match before {
            Some(before) => self.put(track, &before, Last::No),
            None => Ok(()),
        }
    }

    fn finish(mut self: Box<Self>, endings: &[Ending]) -> Result<Vec<Fragment>> {
        // What is left, in its order of time.
        let mut last: Vec<(usize, Coded)> = std::mem::take(&mut self.held)
            .into_iter()
            .enumerate()
            .filter_map(|(n, packet)| Some((n, packet?)))
            .collect();
        last.sort_by(|a, b| {
            let at = |p: &(usize, Coded)| Time::new(p.1.pts, self.tracks[p.0].timescale);
            at(a).partial_cmp(&at(b)).unwrap_or(std::cmp::Ordering::Equal)
        });
        for (n, packet) in last {
            let t = &self.tracks[n];
            let is_sound = matches!(t.kind, OutTrackKind::Audio { .. });
            let end = endings[n].start.ticks_at(t.timescale) + endings[n].length;
            let over = packet.pts + packet.duration - end;
            let end = match is_sound {
                true if over > 0 => Last::Cut(rescale(over, t.timescale, 1_000_000_000)),
                true => Last::No,
                // How long the last picture is shown nothing else says.
                false => Last::Shown(rescale(packet.duration, t.timescale, SCALE).max(0) as u64),
            };
            self.put(n, &packet, end)?;
        }
        self.close()?;
        let mut cues = Vec::new();
        element(&mut cues, 0x1c53_bb6b, |b| {
            for (ms, track, at) in &self.cues {
                element(b, 0xbb, |b| {
                    unsigned(b, 0xb3, *ms as u64);
                    element(b, 0xb7, |b| {
                        unsigned(b, 0xf7, *track as u64 + 1);
                        unsigned(b, 0xf1, at - self.body);
                    });
                });
            }
        });
        self.out.write_all(&cues)?;
        let end = self.at + cues.len() as u64;
        let mut head = self.head(endings, self.at - self.body);
        if !self.comment.is_empty() {
            // Of the whole: no target is named (RFC 9559, 5.1.8).
            element(&mut head, 0x1254_c367, |b| {
                element(b, 0x7373, |b| {
                    element(b, 0x63c0, |_| ());
                    element(b, 0x67c8, |b| {
                        text(b, 0x45a3, "COMMENT");
                        text(b, 0x4487, &self.comment);
                    });
                });
            });
        }
        let room = ROOM + self.tracks.len() * 1024;
        if head.len() + 9 > room {
            return Err(Error::limit(
                self.kind,
                format!("{} bytes of descriptions; room for {room}", head.len()),
            ));
        }
        head.extend(void(room - head.len()));
        self.out.seek(SeekFrom::Start(self.body))?;
        self.out.write_all(&head)?;
        self.out.seek(SeekFrom::Start(self.body - 8))?;
        self.out.write_all(&((end - self.body) | 1 << 56).to_be_bytes())?;
        self.out.flush()?;
        Ok(Vec::new())
    }
}

/// How Matroska names a codec (RFC 9559, 5.1.4.1.23, and draft-ietf-cellar-codec), of those that it is given here.
pub fn codec_id(codec: &Codec) -> Option<&'static str> {
    Some(match codec {
        Codec::H264 => "V_MPEG4/ISO/AVC",
        Codec::Hevc => "V_MPEGH/ISO/HEVC",
        Codec::Av1 => "V_AV1",
        Codec::Vp8 => "V_VP8",
        Codec::Vp9 => "V_VP9",
        Codec::MotionJpeg => "V_MJPEG",
        Codec::Ffv1 => "V_FFV1",
        Codec::Aac => "A_AAC",
        Codec::MpegAudio(3) => "A_MPEG/L3",
        Codec::MpegAudio(2) => "A_MPEG/L2",
        Codec::Vorbis => "A_VORBIS",
        Codec::Opus => "A_OPUS",
        Codec::Flac => "A_FLAC",
        Codec::Alac => "A_ALAC",
        c if plain_pcm(c) => "A_PCM/INT/LIT",
        _ => return None,
    })
}

fn track(b: &mut Vec<u8>, number: u64, (t, coverage): (&OutTrack, bool), e: &Ending) {
    unsigned(b, 0xd7, number);
    unsigned(b, 0x73c5, number);
    unsigned(b, 0x9c, 0);
    text(b, 0x22b59c, t.language.as_deref().unwrap_or("und"));
    let mut private = e.setup.clone();
    let nanoseconds = |ticks: i64| rescale(ticks, t.timescale, 1_000_000_000).max(0) as u64;
    match &t.kind {
        OutTrackKind::Video { width, height, pixel_shape, colour, fields, rate, .. } => {
            unsigned(b, 0x83, 1);
            text(b, 0x86, codec_id(&t.codec).unwrap_or("V_UNCOMPRESSED"));
            if let Some(r) = rate {
                unsigned(b, 0x23e383, (1e9 / r.value()).round() as u64);
            }
            if coverage {
                unsigned(b, 0x55ee, 1);
            }
            element(b, 0xe0, |b| {
                if coverage {
                    unsigned(b, 0x53c0, 1);
                }
                unsigned(b, 0xb0, (*width).into());
                unsigned(b, 0xba, (*height).into());
                // 5.1.4.1.28.1 and 5.1.4.1.28.2.
                let order = match fields {
                    Fields::Progressive => None,
                    Fields::TopFirst => Some(1),
                    Fields::BottomFirst => Some(6),
                    Fields::Interlaced => Some(2),
                };
                unsigned(b, 0x9a, if order.is_some() { 1 } else { 2 });
                if let Some(order) = order.filter(|o| *o != 2) {
                    unsigned(b, 0x9d, order);
                }
                if pixel_shape.num != pixel_shape.den {
                    let shown = u64::from(*width) * u64::from(pixel_shape.num) / u64::from(pixel_shape.den);
                    unsigned(b, 0x54b0, shown);
                    unsigned(b, 0x54ba, (*height).into());
                }
                element(b, 0x55b0, |b| {
                    unsigned(b, 0x55b1, colour.matrix.into());
                    unsigned(b, 0x55b9, if colour.full_range { 2 } else { 1 });
                    unsigned(b, 0x55ba, colour.transfer.into());
                    unsigned(b, 0x55bb, colour.primaries.into());
                });
            });
        }
        OutTrackKind::Audio { rate, channels, .. } => {
            unsigned(b, 0x83, 2);
            let bits = match &t.codec {
                Codec::Pcm(PcmLayout { bits, .. }) => Some(*bits),
                _ => None,
            };
            text(b, 0x86, codec_id(&t.codec).unwrap_or("A_PCM/INT/LIT"));
            match t.codec {
                // The beginning of a FLAC file, with its one block of descriptions.
                Codec::Flac => drop(private.splice(0..0, *b"fLaC\x80\0\0\x22")),
                Codec::Pcm(_) => private.clear(),
                _ => {
                    if e.skip > 0 || t.codec == Codec::Opus {
                        unsigned(b, 0x56aa, nanoseconds(e.skip));
                    }
                    if t.codec == Codec::Opus {
                        unsigned(b, 0x56bb, 80_000_000);
                    }
                }
            }
            element(b, 0xe1, |b| {
                element(b, 0xb5, |b| b.extend(f64::from(*rate).to_be_bytes()));
                unsigned(b, 0x9f, (*channels).into());
                if let Some(bits) = bits {
                    unsigned(b, 0x6264, bits.into());
                }
            });
        }
        OutTrackKind::Timecode(_) => unsigned(b, 0x83, 0x11),
    }
    if !private.is_empty() && t.codec != Codec::Vp9 {
        element(b, 0x63a2, |b| b.extend(&private));
    }
}

fn id(b: &mut Vec<u8>, id: u32) {
    let bytes = id.to_be_bytes();
    b.extend(&bytes[(id.leading_zeros() / 8) as usize..]);
}

/// Sizes of eight bytes where four would not do, of four else: simple, and short enough.
fn element_head(b: &mut Vec<u8>, name: u32, len: usize) {
    id(b, name);
    match len {
        0..=0x7e => b.push(0x80 | len as u8),
        0x7f..=0x0fff_fffe => b.extend((len as u32 | 0x1000_0000).to_be_bytes()),
        _ => b.extend((len as u64 | 1 << 56).to_be_bytes()),
    }
}

fn element(b: &mut Vec<u8>, name: u32, content: impl FnOnce(&mut Vec<u8>)) {
    let mut inside = Vec::new();
    content(&mut inside);
    element_head(b, name, inside.len());
    b.extend(inside);
}

fn unsigned(b: &mut Vec<u8>, name: u32, v: u64) {
    let len = (8 - v.leading_zeros() as usize / 8).max(1);
    element(b, name, |b| b.extend(&v.to_be_bytes()[8 - len..]));
}

fn text(b: &mut Vec<u8>, name: u32, v: &str) {
    element(b, name, |b| b.extend(v.as_bytes()));
}

/// Nothing, in so many bytes (9 at least).
fn void(len: usize) -> Vec<u8> {
    let mut out = vec![0xec];
    out.extend(((len - 9) as u64 | 1 << 56).to_be_bytes());
    out.resize(len, 0);
    out
}
