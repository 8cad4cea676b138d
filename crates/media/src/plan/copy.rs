//! Tracks whose packets go into another file as they are.

use super::{Planner, Span};
use crate::codec;
use crate::container::wrap::{OutTrackKind, WRAPPERS, Wrapper};
use crate::container::{Media, Track};
use crate::error::{Error, Result};
use crate::recipe::{AudioCodec, Recipe, VideoCodec};
use crate::track::{Codec, PcmKind, PcmLayout};

/// One track that is taken over.
#[derive(Clone, Debug)]
pub struct CopyPlan {
    pub track: usize,
    /// What it is in the file that is written: samples of uncompressed sound are turned round where it needs that.
    pub codec: Codec,
    pub swapped: bool,
    pub kind: OutTrackKind,
    pub setup: Vec<u8>,
    pub timescale: u32,
    pub language: Option<String>,
    pub expected: u64,
    /// It can be decoded here: what is written is tried so.
    pub decodes: bool,
    pub span: Option<Span>,
}

impl CopyPlan {
    pub fn is_picture(&self) -> bool {
        matches!(self.kind, OutTrackKind::Video { .. })
    }
}

impl Planner<'_> {
    /// The tracks that a recipe takes as they are: those it would code, where it asks for a copy of them.
    pub(super) fn copies(
        &self,
        r: &Recipe,
        span: Option<Span>,
        wrapper: &'static Wrapper,
    ) -> Result<Vec<CopyPlan>> {
        let pictures = r.video.as_ref().is_some_and(|v| v.codec == VideoCodec::Copy);
        let sounds = r.audio.as_ref().is_some_and(|a| a.codec == AudioCodec::Copy);
        let mut seen = false;
        let mut wanted = |t: &Track| match t.media {
            Media::Video(_) => pictures && !std::mem::replace(&mut seen, true),
            Media::Audio(_) => sounds,
            _ => false,
        };
        let all: Vec<usize> = (0..self.tracks.len()).filter(|i| wanted(&self.tracks[*i])).collect();
        let heard = all.iter().filter(|i| self.tracks[**i].audio().is_some()).count();
        if heard > wrapper.most_sounds {
            let why = format!("{heard} sound tracks; \"{}\" holds {}", wrapper.name, wrapper.most_sounds);
            return Err(Error::unsupported("", why));
        }
        if span.is_some() && pictures && !wrapper.edits {
            let why = format!(
                "a part of pictures that are copied begins at a key picture before it, and \"{}\" cannot say so",
                wrapper.name
            );
            return Err(Error::setting("container", why));
        }
        all.into_iter().map(|i| self.copied(i, span, wrapper)).collect()
    }

    fn copied(&self, i: usize, span: Option<Span>, wrapper: &'static Wrapper) -> Result<CopyPlan> {
        let t = &self.tracks[i];
        let place = format!("track {}", i + 1);
        if t.decode_times {
            let why = "it cannot be copied: its file does not say when pictures are shown";
            return Err(Error::unsupported(place, why));
        }
        let (codec, swapped) = match t.codec {
            Codec::Pcm(layout) => {
                let same = PcmLayout { big_endian: false, ..layout };
                (Codec::Pcm(same), layout.big_endian && layout.bytes > 1)
            }
            ref other => (other.clone(), false),
        };
        if !(wrapper.copies)(&codec) {
            let holds = WRAPPERS.iter().filter(|w| (w.copies)(&codec)).map(|w| w.name);
            let holds: Vec<&str> = holds.collect();
            let name = t.codec.name();
            let instead = match holds.is_empty() {
                true => "no container that is written here holds it as it is".to_owned(),
                false => format!("{} would hold it", holds.join(", ")),
            };
            let why = format!("\"{}\" does not hold {name} as it is; {instead}", wrapper.name);
            return Err(Error::unsupported(place, why));
        }
        let kind = match &t.media {
            Media::Video(v) if v.rotation != 0 && !wrapper.turns => {
                let why = format!(
                    "its pictures are to be turned by {} degrees for showing, which \"{}\" cannot say",
                    v.rotation, wrapper.name
                );
                return Err(Error::unsupported(place, why));
            }
            Media::Video(v) => OutTrackKind::Video {
                width: v.width,
                height: v.height,
                rotation: v.rotation,
                pixel_shape: v.pixel_shape,
                colour: v.colour,
                fields: v.fields,
                // What is not even is not told to be.
                rate: v.rate.filter(|_| v.constant_rate),
            },
            Media::Audio(a) => OutTrackKind::Audio { rate: a.rate, channels: a.channels, bits: bits_of(t) },
            _ => return Err(Error::unsupported(place, "it is neither pictures nor sound")),
        };
        Ok(CopyPlan {
            track: i,
            codec,
            swapped,
            kind,
            setup: t.setup.clone(),
            timescale: t.timescale,
            language: t.language.clone(),
            expected: t.packets.unwrap_or(0),
            decodes: codec::why_not(t).is_none(),
            span,
        })
    }
}

/// Bits a second on average, where the index tells.
fn bits_of(t: &Track) -> u32 {
    let seconds = t.duration.seconds();
    let bits = t.bytes.filter(|_| seconds > 0.0).map_or(0.0, |b| b as f64 * 8.0 / seconds);
    bits.round().clamp(0.0, f64::from(u32::MAX)) as u32
}

/// Uncompressed sound as MOV, Matroska and WAV hold it: 16 or 24 bits, signed.
pub fn plain_pcm(codec: &Codec) -> bool {
    matches!(codec, Codec::Pcm(PcmLayout { bits: 16, bytes: 2, kind: PcmKind::Signed, .. }))
        || matches!(codec, Codec::Pcm(PcmLayout { bits: 24, bytes: 3, kind: PcmKind::Signed, .. }))
}
