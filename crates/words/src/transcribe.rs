//! One file: its sound to a transcript.

use crate::error::Result;
use crate::listen::SoundTrack;
use crate::model::activity::Activity;
use crate::model::{Model, RATE};
use crate::recognise::engine::{self, Effort, Settings};
use crate::service::answer::Closeness;
use crate::service::{self, SpeechService};
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

/// What hears.
#[derive(Clone, Copy)]
pub enum Engine<'a> {
    Here(&'a Model),
    /// A service; this machine finds where someone speaks.
    Service(&'a dyn SpeechService, &'a Activity),
}

impl<'a> From<&'a Model> for Engine<'a> {
    fn from(model: &'a Model) -> Engine<'a> {
        Engine::Here(model)
    }
}

/// Hears a file. `passed` is told how far it is, of how much.
pub fn transcribe<'a>(
    engine: impl Into<Engine<'a>>,
    source: Box<dyn media::container::Source>,
    name: &str,
    options: &Options,
    passed: impl FnMut(Ms, Ms),
    stop: &AtomicBool,
) -> Result<Transcript> {
    transcribe_sound(engine, SoundTrack::open(source, options.track)?, name, options, passed, stop)
}

/// The same of a sound track that is open.
pub fn transcribe_sound<'a>(
    engine: impl Into<Engine<'a>>,
    mut sound: SoundTrack,
    name: &str,
    options: &Options,
    mut passed: impl FnMut(Ms, Ms),
    stop: &AtomicBool,
) -> Result<Transcript> {
    let length = sound.duration;
    let next = || sound.piece();
    let passed = |n| passed(Ms::of_samples(n, RATE), length);
    let mut language = "en".to_owned();
    let mut told = Vec::new();
    let (heard, mut made_by) = match engine.into() {
        Engine::Here(model) => {
            let threads = match options.threads {
                0 => std::thread::available_parallelism().map_or(1, usize::from),
                n => n,
            };
            let settings = Settings { threads, effort: options.effort };
            let heard = engine::recognise(model, &settings, next, passed, stop)?;
            let effort = match options.effort {
                Effort::Quick => "quick",
                Effort::Careful => "careful",
            };
            (
                heard,
                MadeBy {
                    model: model.name.clone(),
                    digest: model.digest.clone(),
                    settings: format!("{effort} effort"),
                },
            )
        }
        Engine::Service(service, activity) => {
            let (heard, said) = service::recognise(service, activity, &options.terms, next, passed, stop)?;
            told.extend(match said.closeness {
                Closeness::Words => None,
                Closeness::Segments => Some("the service gave times of segments only; those of words are spread evenly over the speech in them"),
                Closeness::Text => Some("the service gave no times; those of words are spread evenly over the speech"),
            });
            if let Some(heard) = said.language {
                language = heard;
            }
            let model = said.model.map_or(String::new(), |m| format!(" ({m})"));
            (
                heard,
                MadeBy {
                    model: format!("service {}{model}", service.name()),
                    digest: String::new(),
                    settings: format!("{} part{}", said.parts, if said.parts == 1 { "" } else { "s" }),
                },
            )
        }
    };
    made_by.settings = format!("sound track {}, {}", sound.number, made_by.settings);
    if !options.terms.is_empty() {
        let n = options.terms.len();
        made_by.settings += &format!(", {n} term{}", if n == 1 { "" } else { "s" });
    }
    let mut notes = sound.notes();
    notes.extend(told.into_iter().map(String::from));
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
    let logs: f32 = heard
        .segments
        .iter()
        .flat_map(|s| &s.words)
        .filter_map(|w| w.confidence)
        .map(|c| c.max(1e-4).ln())
        .sum();
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
        language,
        made_by,
        segments: heard.segments,
        gaps: heard.gaps,
        unsure,
        notes,
    };
    Terms::new(&options.terms).apply(&mut transcript);
    Ok(transcript)
}
