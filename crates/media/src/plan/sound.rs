//! The way of sound to one output.

use super::{AudioPlan, Planner, Span};
use crate::codec::coders::{self, AudioCoder};
use crate::container::Track;
use crate::container::wrap::Wrapper;
use crate::error::{Error, Result};
use crate::filter::audio::fade::Fade;
use crate::filter::audio::{AudioForm, AudioStep};
use crate::recipe::AudioRecipe;

impl Planner<'_> {
    /// A track of sound for each of the source's, as many as the container takes.
    pub(super) fn sounds(
        &self,
        recipe: &AudioRecipe,
        span: Option<Span>,
        wrapper: &'static Wrapper,
        notes: &mut Vec<String>,
    ) -> Result<Vec<AudioPlan>> {
        let coder = coders::audio(recipe.codec)?;
        let all = &self.plan.audio;
        if all.is_empty() {
            return Ok(vec![silence(recipe, coder)?]);
        }
        if all.len() > wrapper.most_sounds {
            notes.push(format!(
                "{} of {} sound tracks are in it: \"{}\" holds no more",
                wrapper.most_sounds,
                all.len(),
                wrapper.name
            ));
        }
        let mut plans = self.sound_plans(recipe, span, notes)?;
        plans.truncate(wrapper.most_sounds);
        Ok(plans)
    }

    /// Every sound track that can be decoded.
    pub(super) fn sound_plans(
        &self,
        recipe: &AudioRecipe,
        span: Option<Span>,
        notes: &mut Vec<String>,
    ) -> Result<Vec<AudioPlan>> {
        let coder = coders::audio(recipe.codec)?;
        self.plan
            .audio
            .iter()
            .enumerate()
            .map(|(place, &i)| {
                let mut plan = plan_track(i, &self.tracks[i], recipe, coder, notes)?;
                (plan.source, plan.span) = (Some((i, place)), span);
                plan.began = self.timecode(span).map(|t| (f64::from(t.start) / t.rate.value(), t));
                Ok(plan)
            })
            .collect()
    }
}

/// For a source without sound.
fn silence(recipe: &AudioRecipe, coder: &'static AudioCoder) -> Result<AudioPlan> {
    let rate = recipe.rate.unwrap_or(48_000);
    let form = AudioForm { rate: coder.rate_for(rate), channels: recipe.channels.min(2) };
    Ok(AudioPlan {
        source: None,
        form_in: form,
        steps: Vec::new(),
        form,
        span: None,
        bits: recipe.bits,
        coder,
        language: None,
        began: None,
        delay: 0,
        expected_packets: 4,
    })
}

fn plan_track(
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
    // What measures comes behind what changes the level, and before the arithmetic of another rate.
    let steps = [
        (recipe.gain != 0.0).then_some(AudioStep::Gain(recipe.gain)),
        (channels != a.channels).then_some(AudioStep::Mix(channels)),
        recipe.even.then_some(AudioStep::Even),
        recipe.loudness.map(|to| AudioStep::Level { to, factor: None }),
        (recipe.fade != Fade::default()).then_some(AudioStep::Fade(recipe.fade)),
        (rate != a.rate).then_some(AudioStep::Resample(rate)),
    ];
    let samples = track.duration.ticks_at(rate).max(0) as u64;
    Ok(AudioPlan {
        source: None,
        form_in: AudioForm { rate: a.rate, channels: a.channels },
        steps: steps.into_iter().flatten().collect(),
        form: AudioForm { rate, channels },
        span: None,
        bits: if channels == 1 { (recipe.bits / 2).max(AudioRecipe::MIN_BITS) } else { recipe.bits },
        coder,
        language: track.language.clone(),
        began: None,
        delay: recipe.delay_ms * i64::from(a.rate) / 1000,
        expected_packets: samples / u64::from(coder.frame) + 4,
    })
}
