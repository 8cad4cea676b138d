//! The table of codecs: one row says all that is known of one. To add a decoder: a file here that implements a trait, and a
//! row.

use super::{
    DecodeAudio, DecodeVideo, aac, adpcm, amr, av1, ffv1, gif, gsm, h264, hevc, mjpeg, mpeg_video, mpeg2,
    opus, pcm, prores, raw, single::Single, symphonia, theora, vpx,
};
use crate::error::{Error, Result};
use crate::formats::Tried;
use crate::frame::Pool;
use crate::track::{AudioTrack, Codec, Track, VideoTrack};

/// How a codec is decoded.
pub enum Decode {
    Video(fn(&Track, &VideoTrack, Pool) -> Result<Box<dyn DecodeVideo>>),
    Audio(fn(&Track, &AudioTrack) -> Result<Box<dyn DecodeAudio>>),
}

/// One codec that is read.
pub struct Row {
    /// What people call it, in a list of those that can be decoded; empty where it is no codec of its own to them.
    pub name: &'static str,
    /// On what it was tried.
    pub tried: Tried,
    pub covers: fn(&Codec) -> bool,
    /// Why a track of this codec cannot be decoded all the same.
    pub refuse: fn(&Track) -> Result<()>,
    pub decode: Decode,
    /// Fills in what a track's first packet says and its container does not.
    pub look: fn(&[u8], &Codec, &mut VideoTrack),
}

fn nothing(_: &Track) -> Result<()> {
    Ok(())
}

fn no_look(_: &[u8], _: &Codec, _: &mut VideoTrack) {}

fn by_library(t: &Track, a: &AudioTrack) -> Result<Box<dyn DecodeAudio>> {
    Ok(Box::new(symphonia::Decoder::new(&t.codec, &t.setup, a.rate)?))
}

/// Every codec that is decoded; the order is that in which they are named.
pub static CODECS: &[Row] = &[
    Row {
        name: "H.264",
        tried: Tried::Files,
        covers: |c| matches!(c, Codec::H264),
        refuse: h264::refuse,
        decode: Decode::Video(|t, v, pool| Ok(Box::new(h264::Decoder::new(t, v, pool)?))),
        look: no_look,
    },
    Row {
        name: "HEVC",
        tried: Tried::Writers,
        covers: |c| matches!(c, Codec::Hevc),
        refuse: hevc::refuse,
        decode: Decode::Video(|t, v, pool| Ok(Box::new(hevc::Decoder::new(t, v, pool)?))),
        look: no_look,
    },
    Row {
        name: "AV1",
        tried: Tried::Writers,
        covers: |c| matches!(c, Codec::Av1),
        refuse: nothing,
        decode: Decode::Video(|_, v, pool| Ok(Box::new(av1::Decoder::new(v, pool)?))),
        look: |packet, _, v| av1::look(packet, v),
    },
    Row {
        name: "VP9",
        tried: Tried::Files,
        covers: |c| matches!(c, Codec::Vp9),
        refuse: |t| needs(&t.codec.name(), vpx::PRESENT, "libvpx"),
        decode: Decode::Video(vpx_decoder),
        look: |packet, _, v| vpx::look_vp9(packet, v),
    },
    Row {
        name: "VP8",
        tried: Tried::Writers,
        covers: |c| matches!(c, Codec::Vp8),
        refuse: |t| needs(&t.codec.name(), vpx::PRESENT, "libvpx"),
        decode: Decode::Video(vpx_decoder),
        look: |packet, _, v| vpx::look_vp8(packet, v),
    },
    Row {
        name: "Motion JPEG",
        tried: Tried::Made,
        covers: |c| matches!(c, Codec::MotionJpeg),
        refuse: nothing,
        decode: Decode::Video(|_, v, pool| Ok(Box::new(Single::new(mjpeg::Decoder::new(v, pool))))),
        look: |packet, _, v| mjpeg::look(packet, v),
    },
    Row {
        name: "FFV1",
        tried: Tried::Made,
        covers: |c| matches!(c, Codec::Ffv1),
        refuse: |t| ffv1::describe(&t.setup, &mut VideoTrack::sized(1, 1)),
        decode: Decode::Video(|t, v, pool| {
            Ok(Box::new(Single::new(ffv1::Decoder::new(&t.setup, &mut v.clone(), pool)?)))
        }),
        look: no_look,
    },
    Row {
        name: "Theora",
        tried: Tried::Files,
        covers: |c| matches!(c, Codec::Theora),
        refuse: |t| needs(&t.codec.name(), theora::PRESENT, "libtheora"),
        decode: Decode::Video(theora_decoder),
        look: no_look,
    },
    Row {
        name: "MPEG-2",
        tried: Tried::Files,
        covers: |c| mpeg2::covers(c, "MPEG-2"),
        refuse: mpeg2::refuse,
        decode: Decode::Video(|t, _, pool| Ok(Box::new(mpeg2::Decoder::new(t, pool)?))),
        look: |packet, _, v| mpeg_video::complete(packet, v),
    },
    Row {
        name: "MPEG-1",
        tried: Tried::Files,
        covers: |c| mpeg2::covers(c, "MPEG-1 video"),
        refuse: mpeg2::refuse,
        decode: Decode::Video(|t, _, pool| Ok(Box::new(mpeg2::Decoder::new(t, pool)?))),
        look: |packet, _, v| mpeg_video::complete(packet, v),
    },
    Row {
        name: "ProRes",
        tried: Tried::Writers,
        covers: prores::covers,
        refuse: nothing,
        decode: Decode::Video(|_, v, pool| Ok(Box::new(Single::new(prores::Decoder::new(v, pool))))),
        look: |packet, _, v| prores::look(packet, v),
    },
    Row {
        name: "uncompressed pictures",
        tried: Tried::Made,
        covers: |c| matches!(c, Codec::Raw(_)),
        refuse: nothing,
        decode: Decode::Video(|t, v, pool| match &t.codec {
            Codec::Raw(layout) => Ok(Box::new(Single::new(raw::Decoder::new(*layout, v, pool)?))),
            _ => Err(no_decoder(t)),
        }),
        look: |_, c, v| {
            if let Codec::Raw(r) = c {
                (v.chroma, v.depth) = (Some(r.chroma()), Some(r.depth()));
            }
        },
    },
    Row {
        name: "",
        tried: Tried::Files,
        covers: |c| matches!(c, Codec::Gif),
        refuse: nothing,
        decode: Decode::Video(|t, _, pool| Ok(Box::new(Single::new(gif::Decoder::new(&t.setup, pool)?)))),
        look: no_look,
    },
    Row {
        name: "",
        tried: Tried::Files,
        covers: |c| matches!(c, Codec::Stills),
        refuse: nothing,
        decode: Decode::Video(|_, _, pool| Ok(Box::new(Single::new(crate::still::run::Decoder { pool })))),
        look: no_look,
    },
    Row {
        name: "PCM",
        tried: Tried::Files,
        covers: |c| matches!(c, Codec::Pcm(_)),
        refuse: |t| match &t.codec {
            Codec::Pcm(layout) => pcm::check(*layout),
            _ => Ok(()),
        },
        decode: Decode::Audio(|t, a| match &t.codec {
            Codec::Pcm(layout) => Ok(Box::new(pcm::Decoder::new(*layout, a.rate, a.channels)?)),
            _ => Err(no_decoder(t)),
        }),
        look: no_look,
    },
    Row {
        name: "ADPCM",
        tried: Tried::Writers,
        covers: |c| matches!(c, Codec::Adpcm { .. }),
        refuse: nothing,
        decode: Decode::Audio(|t, a| match t.codec {
            Codec::Adpcm { kind, block } => {
                Ok(Box::new(adpcm::Decoder::new(kind, block, &t.setup, a.rate, a.channels)?))
            }
            _ => Err(no_decoder(t)),
        }),
        look: no_look,
    },
    Row {
        name: "AMR",
        tried: Tried::Writers,
        covers: |c| matches!(c, Codec::Amr { .. }),
        refuse: |t| needs(&t.codec.name(), amr::PRESENT, "opencore-amr"),
        decode: Decode::Audio(amr_decoder),
        look: no_look,
    },
    Row {
        name: "GSM",
        tried: Tried::Writers,
        covers: |c| matches!(c, Codec::Gsm { .. }),
        refuse: nothing,
        decode: Decode::Audio(|t, a| match t.codec {
            Codec::Gsm { block } => Ok(Box::new(gsm::Decoder::new(block, a.rate, a.channels)?)),
            _ => Err(no_decoder(t)),
        }),
        look: no_look,
    },
    Row {
        name: "FLAC",
        tried: Tried::Writers,
        covers: |c| matches!(c, Codec::Flac),
        refuse: nothing,
        decode: Decode::Audio(by_library),
        look: no_look,
    },
    Row {
        name: "ALAC",
        tried: Tried::Writers,
        covers: |c| matches!(c, Codec::Alac),
        refuse: nothing,
        decode: Decode::Audio(by_library),
        look: no_look,
    },
    Row {
        name: "AAC",
        tried: Tried::Files,
        covers: |c| matches!(c, Codec::Aac),
        refuse: |t| aac::Config::parse(&t.setup).and_then(|c| c.refuse()),
        decode: Decode::Audio(|t, _| Ok(Box::new(aac::Decoder::new(&t.setup)?))),
        look: no_look,
    },
    Row {
        name: "MP3",
        tried: Tried::Files,
        covers: |c| matches!(c, Codec::MpegAudio(_)),
        refuse: nothing,
        decode: Decode::Audio(by_library),
        look: no_look,
    },
    Row {
        name: "Vorbis",
        tried: Tried::Files,
        covers: |c| matches!(c, Codec::Vorbis),
        refuse: nothing,
        decode: Decode::Audio(by_library),
        look: no_look,
    },
    Row {
        name: "Opus",
        tried: Tried::Files,
        covers: |c| matches!(c, Codec::Opus),
        refuse: |t| opus::Head::parse(&t.setup).map(|_| ()),
        decode: Decode::Audio(|t, _| Ok(Box::new(opus::Decoder::new(&t.setup)?))),
        look: no_look,
    },
];

/// The row of a codec.
pub fn row(codec: &Codec) -> Option<&'static Row> {
    CODECS.iter().find(|r| (r.covers)(codec))
}

#[cfg(vpx)]
fn vpx_decoder(t: &Track, v: &VideoTrack, pool: Pool) -> Result<Box<dyn DecodeVideo>> {
    vpx::decoder(t.codec == Codec::Vp9, v, pool)
}

#[cfg(not(vpx))]
fn vpx_decoder(t: &Track, _: &VideoTrack, _: Pool) -> Result<Box<dyn DecodeVideo>> {
    Err(no_decoder(t))
}

#[cfg(theora)]
fn theora_decoder(t: &Track, v: &VideoTrack, pool: Pool) -> Result<Box<dyn DecodeVideo>> {
    Ok(Box::new(theora::Decoder::new(&t.setup, v, pool)?))
}

#[cfg(not(theora))]
fn theora_decoder(t: &Track, _: &VideoTrack, _: Pool) -> Result<Box<dyn DecodeVideo>> {
    Err(no_decoder(t))
}

#[cfg(amr)]
fn amr_decoder(t: &Track, _: &AudioTrack) -> Result<Box<dyn DecodeAudio>> {
    Ok(Box::new(amr::Decoder::new(matches!(t.codec, Codec::Amr { wide: true }))?))
}

#[cfg(not(amr))]
fn amr_decoder(t: &Track, _: &AudioTrack) -> Result<Box<dyn DecodeAudio>> {
    Err(no_decoder(t))
}

/// A library of the system's that this build may lack.
pub fn needs(what: &str, present: bool, library: &str) -> Result<()> {
    if present {
        return Ok(());
    }
    Err(Error::unsupported(
        "",
        format!(
            "{what} needs {library}, which was not there when this program was built; install {library} (its development files) and build again"
        ),
    ))
}

/// Says what would work instead.
pub fn no_decoder(track: &Track) -> Error {
    if let Codec::Encrypted { of, scheme } = &track.codec {
        let why = format!("{} that is encrypted ({scheme}): only who has its key can read it", of.name());
        return Error::unsupported("", why);
    }
    let profile = track.video().and_then(|v| v.profile.clone()).map_or(String::new(), |p| format!(" {p}"));
    let name = format!("{}{profile}", track.codec.name());
    let is_sound = track.audio().is_some();
    let alike = |r: &&Row| !r.name.is_empty() && matches!(r.decode, Decode::Audio(_)) == is_sound;
    let names: Vec<&str> = CODECS.iter().filter(alike).map(|r| r.name).collect();
    let (last, first) = names.split_last().map_or(("", &[][..]), |(l, f)| (*l, f));
    let others = first.join(", ");
    let what = if is_sound { format!("sound as {others} or {last}") } else { format!("{others} and {last}") };
    Error::unsupported("", format!("{name} cannot be decoded; {what} can"))
}
