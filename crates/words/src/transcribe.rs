//! One file: its sound to a transcript.

use crate::error::Result;
use crate::listen::SoundTrack;
use crate::model::{Model, RATE};
use crate::recognise::engine::{self, Effort, Settings};
use crate::terms::Terms;
use crate::transcript::{MadeBy, Ms, Source, Transcript, VERSION};
use serde::{Deserialize, Serialize};
use std::sync::atomic::AtomicBool;

/// What a transcript is to be made with.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Options {
    /// 0: as many as the machine has processors.
    #[serde(default)]
    pub threads: usize,
    #[serde(default)]
    pub effort: Effort,
    /// Sound track, from 1; the first that can be decoded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub track: Option<usize>,
    /// Spellings that the house wants.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub terms: Vec<String>,
}

/// Share of doubtful words from which the whole is in doubt.
const MOSTLY: f64 = 0.5;
/// Mean log-likelihood of words below which it is: English under noise as loud as the voice has -0.44 to -0.65, other
/// languages had -0.77 and less.
const UNSURE: f32 = -0.7;

/// Hears a file. `passed` is told how far it is, of how much.
pub fn transcribe(
    model: &Model,
    source: Box<dyn media::container::Source>,
    name: &str,
    options: &Options,
    mut passed: impl FnMut(Ms, Ms),
    stop: &AtomicBool,
) -> Result<Transcript> {
    let mut sound = SoundTrack::open(source, options.track)?;
    let threads = match options.threads {
        0 => std::thread::available_parallelism().map_or(1, usize::from),
        n => n,
    };
    let settings = Settings { threads, effort: options.effort };
    let length = sound.duration;
    let heard = engine::recognise(
        model,
        &settings,
        || sound.piece(),
        |n| passed(Ms::of_samples(n, RATE), length),
        stop,
    )?;
    let mut notes = sound.notes();
    for at in &heard.broken {
        notes.push(format!(
            "near {} the recogniser repeated itself; words may be missing there",
            at.clock('.')
        ));
    }
    let (all, doubtful) = heard
        .segments
        .iter()
        .fold((0, 0), |(a, d), s| (a + s.words.len(), d + if s.doubtful { s.words.len() } else { 0 }));
    let logs: f32 = heard.segments.iter().flat_map(|s| &s.words).map(|w| w.confidence.max(1e-4).ln()).sum();
    let unsure = doubtful as f64 > MOSTLY * all as f64 && logs < UNSURE * all as f32;
    if all == 0 {
        notes.push("no speech was found".into());
    } else if unsure {
        notes.push(format!(
            "unsure: {doubtful} of {all} words are doubtful; it may be another language than English, or speech under noise. The guesses are in the JSON only"
        ));
    } else if doubtful > 0 {
        notes.push(format!("{doubtful} of {all} words are in passages marked as doubtful"));
    }
    let mut transcript = Transcript {
        version: VERSION,
        source: Source {
            name: name.to_owned(),
            duration_ms: Ms::of_samples(heard.samples, RATE),
            timecode: sound.timecode.clone(),
        },
        language: "en".into(),
        made_by: MadeBy {
            model: model.name.clone(),
            digest: model.digest.clone(),
            settings: format!(
                "sound track {}, {} effort{}",
                sound.number,
                match options.effort {
                    Effort::Quick => "quick",
                    Effort::Careful => "careful",
                },
                if options.terms.is_empty() {
                    String::new()
                } else {
                    format!(", {} terms", options.terms.len())
                }
            ),
        },
        segments: heard.segments,
        gaps: heard.gaps,
        unsure,
        notes,
    };
    Terms::new(&options.terms).apply(&mut transcript);
    Ok(transcript)
}
