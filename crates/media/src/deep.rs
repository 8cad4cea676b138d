//! A look at every frame: everything is decoded, counted and digested.

use crate::container::{Demux, Media, Source, Track};
use crate::error::{Error, Result};
use crate::frame::{Pool, Samples, VideoFrame};
pub use crate::read::Bad;
use crate::read::{Got, Reader};
use crate::still;
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
}

impl Deep {
    /// What of it is spoilt, in words; a track that nobody here can decode is not.
    pub fn spoilt(&self) -> Option<String> {
        if self.unreadable > 0 {
            let first = self.first_unreadable.as_deref().unwrap_or_default();
            return Some(format!("{} packets cannot be read, first: {first}", self.unreadable));
        }
        self.tracks.iter().find(|t| t.bad > 0 || t.concealed > 0).map(|t| {
            let what = if t.kind == DeepKind::Picture { "picture" } else { "sound" };
            let first = t.first_bad.as_ref().map_or(String::new(), |b| {
                format!(", the first at {:.2} s (number {}): {}", b.seconds, b.number, b.why)
            });
            format!(
                "{what} track {}: {} of {} packets are spoilt{first}",
                t.track,
                t.bad.max(t.concealed),
                t.packets
            )
        })
    }

    /// Whether all of it could be decoded, and there was something to decode.
    pub fn is_clean(&self) -> bool {
        let good = |t: &DeepTrack| t.bad == 0 && t.concealed == 0 && t.not_decoded.is_none() && t.decoded > 0;
        self.unreadable == 0 && self.tracks.iter().all(good)
    }
}

/// Decodes every picture and sound track. Memory does not grow with the file's length.
pub fn examine(demux: &mut dyn Demux) -> Result<Deep> {
    let tracks = demux.tracks().to_vec();
    let wanted: Vec<usize> = (0..tracks.len()).filter(|&i| kind(&tracks[i]).is_some()).collect();
    let (mut reader, others) = Reader::of_all(demux, &wanted, &Pool::new());
    let mut all: Vec<(DeepTrack, Xxh3)> = wanted
        .iter()
        .filter_map(|&i| Some((DeepTrack::new(i + 1, kind(&tracks[i])?), Xxh3::new())))
        .collect();
    for (track, e) in others {
        all.iter_mut()
            .filter(|(d, _)| d.track == track + 1)
            .for_each(|(d, _)| d.not_decoded = Some(e.to_string()));
    }
    loop {
        let got = match reader.next_one() {
            Ok(Some(got)) => got,
            Ok(None) | Err(Error::Damaged(_)) => break,
            Err(e) => return Err(e),
        };
        let track = match &got {
            Got::Picture { track, .. } | Got::Lost { track, .. } | Got::Sound { track, .. } => *track,
            Got::Packet(packet) => packet.track,
        };
        let Some((d, digest)) = all.iter_mut().find(|(d, _)| d.track == track + 1) else { continue };
        match got {
            Got::Picture { frame, .. } => {
                d.decoded += 1;
                add_picture(digest, &frame);
            }
            Got::Sound { frame, .. } => {
                d.decoded += frame.len() as u64;
                digest.update(&frame.samples.iter().flat_map(|s| s.to_le_bytes()).collect::<Vec<_>>());
            }
            Got::Lost { .. } | Got::Packet(_) => (),
        }
    }
    let mut deep = Deep {
        unreadable: reader.unreadable,
        first_unreadable: reader.first_unreadable.clone(),
        ..Deep::default()
    };
    for (mut d, digest) in all {
        let count = reader.count(d.track - 1);
        d.packets = count.packets;
        // What was lost without an error of its own.
        d.bad = count.bad.max(count.lost);
        d.concealed = count.concealed;
        d.first_bad = count.first_bad;
        if d.decoded > 0 {
            d.digest = Some(format!("xxh3-128:{:032x}", digest.digest128()));
        }
        deep.tracks.push(d);
    }
    Ok(deep)
}

fn kind(track: &Track) -> Option<DeepKind> {
    match &track.media {
        Media::Video(_) => Some(DeepKind::Picture),
        Media::Audio(_) => Some(DeepKind::Sound),
        _ => None,
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

/// The same as [`of`] by a path, with what lies near it where it is only a part or a list.
pub fn of_path(path: &std::path::Path) -> Result<Deep> {
    let mut file = std::fs::File::open(path)?;
    match crate::container::listed::near_path(&mut file, path)? {
        Some(mut opened) => examine(opened.demux.as_mut()),
        None => of(Box::new(file)),
    }
}

/// Decodes all of a file, whichever format it is.
pub fn of(mut source: Box<dyn Source>) -> Result<Deep> {
    let head = crate::container::probe_bytes(&mut source)?;
    match still::recognise(&head, &mut source)? {
        Some(format) => examine_still(format, &mut source),
        None => examine(crate::container::open(source)?.as_mut()),
    }
}
