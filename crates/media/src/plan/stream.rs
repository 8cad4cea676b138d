//! Streams: the same pictures in several sizes, and the sound, cut at the same moments.

use super::{FilmPlan, MadePlan, OutputPlan, Planner, Span, no_pictures};
use crate::container::wrap::RUNG;
use crate::error::{Error, Result};
use crate::filter::video::{Came, Spoken};
use crate::recipe::{AudioRecipe, BitRecipe, StreamRecipe, VideoRecipe};

#[derive(Clone, Debug)]
pub struct StreamPlan {
    /// Pictures from the largest on, then sound.
    pub rungs: Vec<RungPlan>,
    /// Of each file.
    pub extension: &'static str,
    /// With playlists, for players.
    pub lists: bool,
    pub captions: Option<CaptionsPlan>,
}

/// Captions as a file of a stream.
#[derive(Clone, Debug, PartialEq)]
pub struct CaptionsPlan {
    pub language: String,
    /// From the stream's beginning on.
    pub spoken: Vec<Spoken>,
}

/// One file of a stream.
#[derive(Clone, Debug)]
pub struct RungPlan {
    /// Its name, without the ending.
    pub name: String,
    pub made: MadePlan,
}

impl Planner<'_> {
    pub(super) fn stream(
        &mut self,
        recipe: &StreamRecipe,
        audio: Option<&AudioRecipe>,
        span: Option<Span>,
    ) -> Result<OutputPlan> {
        let track = self.picture()?.ok_or_else(no_pictures)?;
        let seconds = f64::from(recipe.segment_ms) / 1000.0;
        let film = |video, audio| {
            let (wrapper, timecode, fragments) = (&RUNG, None, Some(seconds));
            let copies = Vec::new();
            MadePlan::Film(FilmPlan { wrapper, video, audio, copies, timecode, fragments, comment: None })
        };
        let mut notes = if audio.is_some() { self.left_out.clone() } else { Vec::new() };
        let mut rungs: Vec<RungPlan> = Vec::new();
        for rung in &recipe.rungs {
            let video = VideoRecipe {
                fit: rung.fit,
                rate: BitRecipe::Average(rung.bits),
                key_every_ms: recipe.segment_ms,
                ..VideoRecipe::default()
            };
            let video = self.video(track, &video, span, &RUNG)?;
            let size = (video.form.width, video.form.height);
            // Nothing is enlarged: of rungs that come out alike the one for the slowest line is enough.
            let alike = rungs.iter().position(|r| {
                let film = r.made.film().and_then(|f| f.video.as_ref());
                film.is_some_and(|v| (v.form.width, v.form.height) == size)
            });
            if let Some(at) = alike {
                rungs.remove(at);
                notes.push(format!(
                    "one rung is {}x{} for several that are no smaller than the source",
                    size.0, size.1
                ));
            }
            rungs.push(RungPlan {
                name: format!("video-{}", size.1.min(size.0)),
                made: film(Some(video), Vec::new()),
            });
        }
        notes.dedup();
        if rungs.is_empty() {
            return Err(Error::setting("rungs", "at least one rung"));
        }
        number_alike(&mut rungs);
        let silent = |a: &&AudioRecipe| a.silence || !self.plan.audio.is_empty();
        if let Some(recipe) = audio.filter(silent) {
            for (n, sound) in self.sounds(recipe, span, &RUNG, &mut notes)?.into_iter().enumerate() {
                rungs.push(RungPlan { name: format!("sound-{}", n + 1), made: film(None, vec![sound]) });
            }
        }
        let captions = recipe.captions.as_ref().and_then(|(language, came)| match came {
            Came::Read { spoken, notes: read } => {
                notes.extend(read.iter().cloned());
                let spoken = spoken_in(spoken, span);
                (!spoken.is_empty()).then(|| CaptionsPlan { language: language.clone(), spoken })
            }
            Came::Broken(why) => {
                notes.push(format!("the captions that came with it are left out: {why}"));
                None
            }
        });
        Ok(OutputPlan {
            made: MadePlan::Stream(StreamPlan { rungs, extension: "mp4", lists: true, captions }),
            span,
            notes,
        })
    }
}

/// What is said in a part of the source, from its beginning on.
fn spoken_in(all: &[Spoken], span: Option<Span>) -> Vec<Spoken> {
    let ms = |seconds: f64| (seconds * 1000.0).round().max(0.0) as u64;
    let (from, to) = span.map_or((0, u64::MAX), |s| (ms(s.from), s.to.map_or(u64::MAX, ms)));
    let inside = all.iter().filter(|s| s.to > from && s.from < to);
    inside
        .map(|s| Spoken { from: s.from.saturating_sub(from), to: s.to.min(to) - from, text: s.text.clone() })
        .collect()
}

/// Files have names of their own.
fn number_alike(rungs: &mut [RungPlan]) {
    for i in 1..rungs.len() {
        let alike = rungs[..i].iter().filter(|r| r.name.starts_with(&rungs[i].name)).count();
        if alike > 0 {
            rungs[i].name = format!("{}-{}", rungs[i].name, alike + 1);
        }
    }
}
