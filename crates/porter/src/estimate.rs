//! What making an output is expected to take: by what its recipe states, and by what its preset made before.

use crate::error::Result;
use crate::forecast::median;
use crate::recipe::Recipe;
use crate::store::{Change, Store};
use media::codec::coders;
use media::recipe::{AudioRecipe, BitRecipe};

/// How many outputs of the record an estimate is from, at most.
const MOST_PAST: u32 = 25;

/// What a preset made before, each by the length of its source in seconds where it has one.
#[derive(Debug, Default)]
pub struct Past {
    pub bytes: Vec<f64>,
    pub seconds: Vec<f64>,
}

/// Bytes of an output whose recipe says how many bits a second it has; `None`: it does not, and of a quantiser, or of sound
/// without loss, nobody can say what it gives.
pub fn stated_bytes(recipe: &Recipe, seconds: f64) -> Option<u64> {
    let media = &recipe.media;
    let mut picture = media.video.as_ref().map(|v| match v.rate {
        BitRecipe::Average(bits) => Some(u64::from(bits)),
        BitRecipe::Steered(s) => s.average.map(u64::from),
        BitRecipe::Quantiser(_) | BitRecipe::Quality(_) => None,
    });
    let has_bits = |a: &AudioRecipe| coders::audio(a.codec).is_ok_and(|c| c.has_bits);
    if media.audio.as_ref().is_some_and(|a| !has_bits(a)) {
        picture = Some(None);
    }
    let sound = media.audio.as_ref().map(|a| u64::from(a.bits));
    let bits = match (picture, sound) {
        (Some(None), _) | (None, None) => None,
        (picture, sound) => Some(picture.flatten().unwrap_or(0) + sound.unwrap_or(0)),
    };
    bits.filter(|_| seconds > 0.0).map(|b| (b as f64 / 8.0 * seconds) as u64)
}

/// What stands in the record of a preset, sizes alone.
pub fn past_bytes(store: &Store, preset: &str, version: &str) -> Result<Vec<f64>> {
    let all = store.read(|v| v.made_by(preset, version, MOST_PAST))?;
    Ok(all.into_iter().map(|(_, _, bytes, length)| per(bytes as f64, length)).collect())
}

/// The same with how long each took.
pub fn past(store: &Store, preset: &str, version: &str) -> Result<Past> {
    let mut out = Past::default();
    for (job, output, bytes, length) in store.read(|v| v.made_by(preset, version, MOST_PAST))? {
        out.bytes.push(per(bytes as f64, length));
        let events = store.read(|v| v.events(job))?;
        let planned = events.iter().rev().find(|e| matches!(e.change, Change::Planned { .. })).map(|e| e.at);
        let made =
            events.iter().rev().find(|e| matches!(e.change, Change::Made { output: o, .. } if o == output));
        if let (Some(from), Some(to)) = (planned, made.map(|e| e.at)) {
            out.seconds.push(per((to - from).max(0) as f64 / 1e6, length));
        }
    }
    Ok(out)
}

fn per(x: f64, length: f64) -> f64 {
    if length > 0.0 { x / length } else { x }
}

/// Of a source of this length, by what was made of others.
pub fn of_length(past: Vec<f64>, seconds: f64) -> Option<f64> {
    median(past).map(|each| if seconds > 0.0 { each * seconds } else { each })
}

#[cfg(test)]
mod tests {
    use super::*;
    use media::recipe::VideoRecipe;

    #[test]
    fn what_is_stated_is_counted_and_nothing_is_guessed() {
        let recipe = |rate: Option<BitRecipe>, sound: bool| {
            let mut recipe = Recipe::default();
            recipe.media.video = rate.map(|rate| VideoRecipe { rate, ..VideoRecipe::default() });
            recipe.media.audio = sound.then(|| AudioRecipe { bits: 128_000, ..AudioRecipe::default() });
            recipe
        };
        let average = Some(BitRecipe::Average(872_000));
        assert_eq!(stated_bytes(&recipe(average, true), 8.0), Some(1_000_000));
        assert_eq!(stated_bytes(&recipe(None, true), 8.0), Some(128_000));
        assert_eq!(stated_bytes(&recipe(Some(BitRecipe::Quantiser(26)), true), 8.0), None);
        assert_eq!(stated_bytes(&recipe(average, true), 0.0), None, "its length is not known");
        assert_eq!(stated_bytes(&recipe(None, false), 8.0), None);
    }

    #[test]
    fn the_middle_of_what_was_made_counts() {
        assert_eq!(of_length(vec![per(50.0, 10.0), per(9.0, 0.0), per(400.0, 10.0)], 3.0), Some(27.0));
        assert_eq!(of_length(vec![7.0], 0.0), Some(7.0));
        assert_eq!(of_length(Vec::new(), 3.0), None);
    }
}
