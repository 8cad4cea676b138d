//! A look at every frame: everything is decoded, counted and digested.

use crate::codec::{self, DecodeAudio, DecodeVideo};
use crate::container::{Demux, Media, Packet, Source, Track};
use crate::error::{Error, Result};
use crate::frame::{AudioFrame, Pool, Samples, VideoFrame};
use crate::still;
use crate::units::Time;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use xxhash_rust::xxh3::Xxh3;

/// What decoding a whole file showed.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Deep {
    pub tracks: Vec<DeepTrack>,
    /// Packets that could not be read.
    pub unreadable: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_unreadable: Option<String>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum DeepKind {
    Picture,
    Sound,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct DeepTrack {
    /// Its place among the file's tracks, from 1.
    pub track: usize,
    pub kind: DeepKind,
    pub packets: u64,
    /// Pictures decoded, or samples of each channel that are heard.
    pub decoded: u64,
    /// Packets that gave no picture or no sound.
    pub bad: u64,
    /// Pictures in which missing parts were filled from their neighbours.
    pub concealed: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_bad: Option<Bad>,
    /// XXH3 of 128 bits over all pictures (plane by plane, row by row; samples over 8 bits as two bytes, low one
    /// first) or all sound that is heard (interleaved 32-bit floating-point numbers, low byte first).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
    /// Why nothing was decoded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub not_decoded: Option<String>,
}

/// The first packet that could not be decoded.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Bad {
    /// Number of the packet in its track, from 1.
    pub number: u64,
    /// When it would be shown or heard.
    pub seconds: f64,
    pub why: String,
}

impl DeepTrack {
    fn new(track: usize, kind: DeepKind) -> Self {
        DeepTrack {
            track,
            kind,
            packets: 0,
            decoded: 0,
            bad: 0,
            concealed: 0,
            first_bad: None,
            digest: None,
            not_decoded: None,
        }
    }
    fn note_bad(&mut self, packet: &Packet, track: &Track, e: &Error) {
        self.bad += 1;
        let seconds = Time::new(packet.pts, track.timescale).seconds();
        self.first_bad.get_or_insert(Bad { number: self.packets, seconds, why: e.to_string() });
    }
}

enum Work {
    Pictures(Box<dyn DecodeVideo>),
    Sound(Box<dyn DecodeAudio>),
    Nothing,
}

impl Deep {
    /// Whether all of it could be decoded, and there was something to decode.
    pub fn is_clean(&self) -> bool {
        let good = |t: &DeepTrack| t.bad == 0 && t.concealed == 0 && t.not_decoded.is_none() && t.decoded > 0;
        self.unreadable == 0 && self.tracks.iter().all(good)
    }
}

/// Packets that may fail one after the other before the rest is given up.
const MAX_BAD_IN_A_ROW: u32 = 5_000;

/// Decodes every picture and sound track. Memory does not grow with the file's length.
pub fn examine(demux: &mut dyn Demux) -> Result<Deep> {
    let tracks = demux.tracks().to_vec();
    let pool = Pool::new();
    let mut deep = Deep::default();
    let mut works: Vec<(Work, Option<usize>, Xxh3)> = Vec::new();
    for (i, t) in tracks.iter().enumerate() {
        let (kind, work) = match &t.media {
            Media::Video(_) => (DeepKind::Picture, codec::video_decoder(t, &pool).map(Work::Pictures)),
            Media::Audio(_) => (DeepKind::Sound, codec::audio_decoder(t).map(Work::Sound)),
            _ => {
                works.push((Work::Nothing, None, Xxh3::new()));
                continue;
            }
        };
        let mut d = DeepTrack::new(i + 1, kind);
        let work = work.unwrap_or_else(|e| {
            d.not_decoded = Some(e.to_string());
            Work::Nothing
        });
        works.push((work, Some(deep.tracks.len()), Xxh3::new()));
        deep.tracks.push(d);
    }
    demux
        .choose(&works.iter().enumerate().filter(|(_, w)| w.1.is_some()).map(|(i, _)| i).collect::<Vec<_>>());
    let mut ready = Vec::new();
    let mut in_a_row = 0;
    loop {
        let packet = match demux.next_packet() {
            Ok(Some(p)) => p,
            Ok(None) => break,
            Err(Error::Damaged(f)) => {
                deep.unreadable += 1;
                deep.first_unreadable.get_or_insert(f.to_string());
                in_a_row += 1;
                if in_a_row > MAX_BAD_IN_A_ROW {
                    break;
                }
                continue;
            }
            Err(e) => return Err(e),
        };
        in_a_row = 0;
        let Some((work, Some(place), digest)) = works.get_mut(packet.track) else { continue };
        let (d, track) = (&mut deep.tracks[*place], &tracks[packet.track]);
        d.packets += 1;
        match work {
            Work::Pictures(decoder) => {
                match decoder.decode(&packet, &mut ready) {
                    Ok(()) => (),
                    Err(e @ Error::Damaged(_)) => d.note_bad(&packet, track, &e),
                    Err(e) => return Err(e),
                }
                pictures(d, digest, &mut ready);
            }
            Work::Sound(decoder) => match decoder.decode(&packet) {
                Ok(frame) => sound(d, digest, frame, &packet),
                Err(e @ Error::Damaged(_)) => d.note_bad(&packet, track, &e),
                Err(e) => return Err(e),
            },
            Work::Nothing => (),
        }
    }
    for (work, place, mut digest) in works {
        let Some(d) = place.map(|p| &mut deep.tracks[p]) else { continue };
        if let Work::Pictures(mut decoder) = work {
            decoder.flush(&mut ready)?;
            pictures(d, &mut digest, &mut ready);
            d.concealed = decoder.concealed();
            // What was lost without an error of its own.
            d.bad = d.bad.max(decoder.take_lost().len() as u64);
        }
        if d.decoded > 0 {
            d.digest = Some(format!("xxh3-128:{:032x}", digest.digest128()));
        }
    }
    Ok(deep)
}

fn pictures(d: &mut DeepTrack, digest: &mut Xxh3, ready: &mut Vec<VideoFrame>) {
    for f in ready.drain(..) {
        d.decoded += 1;
        add_picture(digest, &f);
    }
}

fn add_picture(digest: &mut Xxh3, f: &VideoFrame) {
    let mut row = Vec::new();
    for p in &f.planes {
        for y in 0..p.height as usize {
            let at = y * p.stride..y * p.stride + p.width as usize;
            match &p.samples {
                Samples::U8(b) => digest.update(&b[at]),
                Samples::U16(w) => {
                    row.clear();
                    row.extend(w[at].iter().flat_map(|v| v.to_le_bytes()));
                    digest.update(&row);
                }
            }
        }
    }
}

fn sound(d: &mut DeepTrack, digest: &mut Xxh3, frame: AudioFrame, packet: &Packet) {
    let Some(frame) = frame.heard(packet) else { return };
    d.decoded += frame.len() as u64;
    digest.update(&frame.samples.iter().flat_map(|s| s.to_le_bytes()).collect::<Vec<_>>());
}

/// Decodes one picture file.
pub fn examine_still(format: &'static still::StillFormat, source: &mut dyn Source) -> Result<Deep> {
    let mut d = DeepTrack { packets: 1, ..DeepTrack::new(1, DeepKind::Picture) };
    match still::decode_frame(format, source, &Pool::new()) {
        Ok(f) => {
            let mut digest = Xxh3::new();
            add_picture(&mut digest, &f);
            d.decoded = 1;
            d.digest = Some(format!("xxh3-128:{:032x}", digest.digest128()));
        }
        Err(e @ (Error::Damaged(_) | Error::System(_))) => {
            d.bad = 1;
            d.first_bad = Some(Bad { number: 1, seconds: 0.0, why: e.to_string() });
        }
        Err(e) => d.not_decoded = Some(e.to_string()),
    }
    Ok(Deep { tracks: vec![d], ..Deep::default() })
}

/// Decodes all of a file, whichever format it is.
pub fn of(mut source: Box<dyn Source>) -> Result<Deep> {
    let head = crate::container::probe_bytes(&mut source)?;
    match still::recognise(&head, &mut source)? {
        Some(format) => examine_still(format, &mut source),
        None => examine(crate::container::open(source)?.as_mut()),
    }
}
