//! Whole clips, through our own encoders and writer.

use super::{estuary, marsh_sound};
use crate::codec::{EncodeAudio, EncodeVideo, PictureForm, aac, h264};
use crate::container::TimecodeTrack;
use crate::container::mp4::Mp4Writer;
use crate::container::wrap::{Ending, Mux, OutTrack, OutTrackKind, Sink};
use crate::error::Result;
use crate::frame::{Colour, Pool};
use crate::timecode::label;
use crate::track::Codec;
use crate::units::{Ratio, Time};

/// What to draw and sound.
#[derive(Clone, Debug)]
pub struct Clip {
    pub width: u32,
    pub height: u32,
    pub rate: Ratio,
    pub frames: u32,
    pub quantiser: u8,
    /// First frame number of the timecode; drop frame counts so.
    pub timecode: u32,
    pub drop_frame: bool,
    pub reel: Option<String>,
    /// Interleaved stereo at 48 kHz; the marsh if there is none.
    pub sound: Option<Vec<f32>>,
    pub created: Option<u64>,
    pub rotation: u16,
    /// The same pictures and sound this many times, for long clips that are quick to make.
    pub times: u32,
}

impl Default for Clip {
    fn default() -> Self {
        Clip {
            width: 320,
            height: 180,
            rate: Ratio { num: 25, den: 1 },
            frames: 50,
            quantiser: 28,
            timecode: 900_000,
            drop_frame: false,
            reel: None,
            sound: None,
            created: None,
            rotation: 0,
            times: 1,
        }
    }
}

const SOUND_RATE: u32 = 48_000;

/// Writes a clip with picture, stereo sound and a timecode track.
pub fn write_clip(clip: &Clip, sink: Box<dyn Sink>) -> Result<()> {
    let per_second = clip.rate.value().round() as u32;
    let (scale, delta) = (clip.rate.num, i64::from(clip.rate.den));
    let colour = Colour { primaries: 1, transfer: 1, matrix: 1, full_range: false };
    let form = PictureForm { colour, ..PictureForm::plain(clip.width, clip.height, clip.rate) };
    let mut pictures = h264::Encoder::new(&form, h264::Rate::Quantiser(clip.quantiser), per_second * 2)?;
    let mut sounds = aac::Encoder::new(SOUND_RATE, 2, 128_000)?;
    let seconds = f64::from(clip.frames) / clip.rate.value();
    let wanted = (seconds * f64::from(SOUND_RATE)).round() as usize * 2;
    let mut sound = clip.sound.clone().unwrap_or_else(|| marsh_sound(SOUND_RATE, 2, seconds as f32));
    sound.resize(wanted, 0.0);

    let timecode = TimecodeTrack {
        rate: clip.rate,
        frames_per_count: per_second,
        drop_frame: clip.drop_frame,
        start: clip.timecode,
        reel: clip.reel.clone(),
    };
    let kinds = [
        OutTrackKind::Video {
            fields: crate::frame::Fields::Progressive,
            width: clip.width,
            height: clip.height,
            rotation: clip.rotation,
            pixel_shape: Ratio::ONE,
            colour,
            rate: Some(clip.rate),
        },
        OutTrackKind::Audio { rate: SOUND_RATE, channels: 2, bits: 128_000 },
        OutTrackKind::Timecode(timecode),
    ];
    let scales = [scale, SOUND_RATE, scale];
    let codecs = [Codec::H264, Codec::Aac, Codec::Timecode];
    let tracks = kinds.into_iter().zip(scales).zip(codecs).map(|((kind, timescale), codec)| OutTrack {
        codec,
        skip: 0,
        reordered: false,
        began: None,
        kind,
        timescale,
        language: Some("eng".into()),
        expected: u64::from(clip.frames) * u64::from(clip.times) * 2,
    });
    let mut writer = Mp4Writer::new(sink, tracks.collect(), clip.created)?;
    let pool = Pool::new();
    let (mut coded, mut packets) = (Vec::new(), Vec::new());
    let per_frame = |n: u32| (f64::from(n) / clip.rate.value() * f64::from(SOUND_RATE)).round() as usize * 2;
    let (mut all_coded, mut all_packets) = (Vec::new(), Vec::new());
    for n in 0..clip.frames {
        let text = label(clip.timecode + n, per_second, clip.drop_frame);
        let frame = estuary(&pool, clip.width, clip.height, n, per_second, &text);
        pictures.encode(&frame, i64::from(n) * delta, delta, &mut coded)?;
        sounds.encode(&sound[per_frame(n).min(wanted)..per_frame(n + 1).min(wanted)], &mut packets)?;
        for c in coded.drain(..) {
            writer.write(0, &c)?;
            all_coded.push(c);
        }
        for p in packets.drain(..) {
            writer.write(1, &p)?;
            all_packets.push(p);
        }
    }
    for _ in 1..clip.times {
        all_coded.iter().try_for_each(|c| writer.write(0, c))?;
        all_packets.iter().try_for_each(|p| writer.write(1, p))?;
    }
    sounds.flush(&mut packets)?;
    packets.drain(..).try_for_each(|c| writer.write(1, &c))?;
    let length = i64::from(clip.frames) * i64::from(clip.times) * delta;
    let sound_length = if clip.times == 1 {
        wanted as i64 / 2
    } else {
        all_packets.len() as i64 * 1024 * i64::from(clip.times)
    };
    writer.write(2, &crate::codec::Coded::new(0, length, true, clip.timecode.to_be_bytes().to_vec()))?;
    let ending = |setup, skip, length| Ending { setup, start: Time::ZERO, skip, length };
    Box::new(writer).finish(&[
        ending(pictures.setup(), 0, length),
        ending(sounds.setup(), i64::from(sounds.priming()), sound_length),
        ending(Vec::new(), 0, length),
    ])?;
    Ok(())
}
