//! The way of sound to one output.

use super::{AudioPlan, Planner};
use crate::codec::coders::{self, AudioCoder};
use crate::container::Track;
use crate::container::wrap::Wrapper;
use crate::error::{Error, Result};
use crate::recipe::AudioRecipe;

impl Planner<'_> {
    /// A track of sound for each of the source's, as many as the container takes.
    pub(super) fn sounds(
        &self,
        recipe: &AudioRecipe,
        wrapper: &'static Wrapper,
        notes: &mut Vec<String>,
    ) -> Result<Vec<AudioPlan>> {
        let coder = coders::audio(recipe.codec)?;
        let all = &self.plan.audio;
        if all.len() > wrapper.most_sounds {
            notes.push(format!(
                "{} of {} sound tracks are in it: \"{}\" holds no more",
                wrapper.most_sounds,
                all.len(),
                wrapper.name
            ));
        }
        all.iter()
            .enumerate()
            .take(wrapper.most_sounds)
            .map(|(place, &i)| plan_track(place, i, &self.tracks[i], recipe, coder, notes))
            .collect()
    }
}

fn plan_track(
    place: usize,
    index: usize,
    track: &Track,
    recipe: &AudioRecipe,
    coder: &'static AudioCoder,
    notes: &mut Vec<String>,
) -> Result<AudioPlan> {
    let Some(a) = track.audio() else { return Err(Error::unsupported("track", "not a sound track")) };
    let rate = match recipe.rate {
        Some(r) if !coder.rates.is_empty() && !coder.rates.contains(&r) => {
            return Err(Error::setting(
                "audio rate",
                format!("{r} Hz; {} is made at {:?}", coder.name, coder.rates),
            ));
        }
        Some(r) => r,
        None => coder.rate_for(a.rate),
    };
    let channels = a.channels.min(recipe.channels).min(coder.most_channels).max(1);
    if channels < a.channels && a.channels > 2 {
        notes.push(format!(
            "sound track {}: {} channels were mixed down to {channels}",
            index + 1,
            a.channels
        ));
    }
    let samples = track.duration.ticks_at(rate).max(0) as u64;
    Ok(AudioPlan {
        track: index,
        place,
        rate_in: a.rate,
        channels_in: a.channels,
        rate,
        channels,
        bits: if channels == 1 { (recipe.bits / 2).max(AudioRecipe::MIN_BITS) } else { recipe.bits },
        coder,
        loudness: recipe.loudness,
        gain: None,
        language: track.language.clone(),
        expected_packets: samples / u64::from(coder.frame) + 4,
    })
}
