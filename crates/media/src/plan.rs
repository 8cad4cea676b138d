//! From settings and tracks to an explicit graph: which track is decoded, and what each output does with
//! the frames. Everything that can be refused is refused here, before any work.

use crate::codec::{self, aac, h264};
use crate::container::{Media, TimecodeTrack, Track};
use crate::error::{Error, Result};
use crate::filter::video::convert::colour_after;
use crate::filter::video::fit;
use crate::frame::Colour;
use crate::recipe::{AudioRecipe, BitRecipe, Recipe, VideoRecipe};
use crate::units::{Ratio, Time};

/// The whole graph for one source.
#[derive(Clone, Debug)]
pub struct Plan {
    /// Track indexes to decode.
    pub video: Option<usize>,
    pub audio: Vec<usize>,
    pub outputs: Vec<OutputPlan>,
    /// Frames (or, for sound alone, samples) that will pass, where the index tells.
    pub total: Option<u64>,
}

/// What one output does. `audio` pairs with [`Plan::audio`].
#[derive(Clone, Debug)]
pub struct OutputPlan {
    pub video: Option<VideoPlan>,
    pub audio: Vec<AudioPlan>,
    pub timecode: Option<TimecodeTrack>,
    pub notes: Vec<String>,
}

#[derive(Clone, Debug)]
pub struct VideoPlan {
    pub from: (u32, u32),
    pub width: u32,
    pub height: u32,
    pub rotation: u16,
    pub colour: Colour,
    pub timescale: u32,
    pub rate: Ratio,
    pub bits: h264::Rate,
    pub key_every: u32,
    pub frames: u64,
    pub start: Time,
}

#[derive(Clone, Debug)]
pub struct AudioPlan {
    pub track: usize,
    pub rate_in: u32,
    pub channels_in: u16,
    pub rate: u32,
    pub channels: u16,
    pub bits: u32,
    pub language: Option<String>,
    pub expected_packets: u64,
}

/// A rate for the encoder where the file gives none.
const UNKNOWN_RATE: Ratio = Ratio { num: 25, den: 1 };

pub fn plan(tracks: &[Track], recipes: &[Recipe]) -> Result<Plan> {
    let wants_video = recipes.iter().any(|r| r.video.is_some());
    let wants_audio = recipes.iter().any(|r| r.audio.is_some());
    let find = |want: fn(&Media) -> bool| tracks.iter().position(|t| want(&t.media));
    let video = find(|m| matches!(m, Media::Video(_))).filter(|_| wants_video);
    if let Some(i) = video
        && let Some(why) = codec::why_not(&tracks[i])
    {
        return Err(Error::unsupported(
            "the picture track",
            why.trim_start_matches("not supported: ").to_owned(),
        ));
    }
    let mut notes = Vec::new();
    let mut audio = Vec::new();
    for (i, t) in tracks.iter().enumerate().filter(|(_, t)| wants_audio && t.audio().is_some()) {
        match codec::why_not(t) {
            None => audio.push(i),
            Some(why) => notes.push(format!("sound track {} was left out: {why}", i + 1)),
        }
    }
    let timecode = tracks.iter().find_map(|t| t.timecode().cloned());
    let outputs = recipes
        .iter()
        .map(|r| {
            let mut notes = if r.audio.is_some() { notes.clone() } else { Vec::new() };
            let video = match (&r.video, video) {
                (Some(v), Some(i)) => Some(plan_video(&tracks[i], v)?),
                (Some(_), None) if r.audio.is_none() => {
                    return Err(Error::unsupported(
                        "",
                        "the preset makes pictures, but the file has no picture track",
                    ));
                }
                _ => None,
            };
            let sound = match &r.audio {
                Some(a) => audio
                    .iter()
                    .map(|&i| plan_audio(i, &tracks[i], a, &mut notes))
                    .collect::<Result<Vec<_>>>()?,
                None => Vec::new(),
            };
            if video.is_none() && sound.is_empty() {
                let why = notes
                    .first()
                    .cloned()
                    .unwrap_or_else(|| "the file has no track this preset could use".into());
                return Err(Error::unsupported("", why));
            }
            let timecode = timecode.clone().filter(|_| video.is_some());
            Ok(OutputPlan { video, audio: sound, timecode, notes })
        })
        .collect::<Result<Vec<_>>>()?;
    let total = match video {
        Some(i) => frames(&tracks[i]),
        None => audio.first().map(|&i| tracks[i].duration.ticks_at(tracks[i].timescale).max(0) as u64),
    };
    Ok(Plan { video, audio, outputs, total })
}

/// Pictures of a track: counted, or, where a large file was not looked through, as many as its length and rate
/// make.
fn frames(track: &Track) -> Option<u64> {
    let guess = || {
        let rate = track.video()?.rate?;
        Some((track.duration.seconds() * rate.value()).round().clamp(0.0, 1e12) as u64)
    };
    track.shown.or_else(guess)
}

fn plan_video(track: &Track, recipe: &VideoRecipe) -> Result<VideoPlan> {
    let Some(v) = track.video() else { return Err(Error::unsupported("track", "not a picture track")) };
    // The limit is for the picture as shown; the coded picture may lie on its side.
    let limit = if v.rotation == 90 || v.rotation == 270 { (recipe.fit.1, recipe.fit.0) } else { recipe.fit };
    let (width, height) = fit(v.width, v.height, v.pixel_shape, limit);
    let least = crate::limits::MIN_ENCODED_SIDE;
    if width < least || height < least {
        return Err(Error::unsupported(
            "the picture track",
            format!(
                "{}x{} would become {width}x{height}; H.264 is made from {least}x{least} on",
                v.width, v.height
            ),
        ));
    }
    let rate = v.rate.filter(|r| r.value() <= 1000.0).unwrap_or(UNKNOWN_RATE);
    let key_every =
        (f64::from(recipe.key_every_ms) / 1000.0 * rate.value()).round().clamp(1.0, 10_000.0) as u32;
    let bits = match recipe.rate {
        BitRecipe::Quantiser(q) => h264::Rate::Quantiser(q),
        BitRecipe::Average(b) => h264::Rate::Average(b),
    };
    Ok(VideoPlan {
        from: (v.width, v.height),
        width,
        height,
        rotation: v.rotation,
        colour: colour_after(v.colour, v.chroma),
        timescale: track.timescale,
        rate,
        bits,
        key_every,
        frames: frames(track).unwrap_or(0),
        start: track.start,
    })
}

fn plan_audio(
    index: usize,
    track: &Track,
    recipe: &AudioRecipe,
    notes: &mut Vec<String>,
) -> Result<AudioPlan> {
    let Some(a) = track.audio() else { return Err(Error::unsupported("track", "not a sound track")) };
    let rate = match recipe.rate {
        Some(r) => r,
        None if aac::RATES.contains(&a.rate) => a.rate,
        None => 48_000,
    };
    let channels = a.channels.min(recipe.channels);
    if channels < a.channels && a.channels > 2 {
        notes.push(format!(
            "sound track {}: {} channels were mixed down to {channels}",
            index + 1,
            a.channels
        ));
    }
    let seconds = track.duration.ticks_at(rate).max(0) as u64;
    Ok(AudioPlan {
        track: index,
        rate_in: a.rate,
        channels_in: a.channels,
        rate,
        channels,
        bits: if channels == 1 { (recipe.bits / 2).max(AudioRecipe::MIN_BITS) } else { recipe.bits },
        language: track.language.clone(),
        expected_packets: seconds / aac::FRAME as u64 + 4,
    })
}
