//! Transcripts among a job's outputs: those with the same hearing are written from one pass over the sound.

use super::child::{At, end_of, failed};
use super::{Captions, Class, End, Ordered};
use crate::error::{Error, Result};
use crate::progress::{Progress, Stage, Unit};
use crate::recipe::{self, Away, TranscriptRecipe};
use crate::services::{Client, Service};
use media::container::Demux;
use media::run::Made;
use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use words::listen::SoundTrack;
use words::page::Player;
use words::service;
use words::summary::{Summary, summarise};
use words::transcribe::{Engine, transcribe_sound};
use words::transcript::Ms;
use words::write::{Form, Writing};
use words::{Model, Transcript, write};

/// A proxy up to this size becomes a part of the reading page.
const MAX_PLAYER: u64 = 48_000_000;

/// What the reading page plays: the smallest picture output of the same job, or its sound.
fn player(media: &[Ordered], notes: &mut Vec<String>) -> Result<Option<Player>> {
    let size = |o: &Ordered| std::fs::metadata(&o.path).map_or(u64::MAX, |m| m.len());
    let playable = media.iter().filter(|o| o.recipe.media.still.is_none());
    let Some(o) = playable.min_by_key(|o| (o.recipe.media.video.is_none(), size(o))) else { return Ok(None) };
    if size(o) > MAX_PLAYER {
        notes.push(format!(
            "the page has no player: the smallest proxy has {} bytes, up to {MAX_PLAYER} are put in",
            size(o)
        ));
        return Ok(None);
    }
    let bytes = std::fs::read(&o.path).map_err(Error::path("cannot read", &o.path))?;
    Ok(Some(Player::inside(&bytes, if o.recipe.media.video.is_some() { "video/mp4" } else { "audio/mp4" })))
}

/// A service's result, or what this machine makes instead where that is wanted.
fn instead<T>(if_away: Away, there: Result<T>, here: impl FnOnce(&str) -> Result<T>) -> Result<T> {
    match there {
        Err(e) if e.is_of_service() && if_away == Away::Here => here(&e.to_string()),
        result => result,
    }
}

/// The summary by a text service.
fn summary(t: &Transcript, service: &Service, if_away: Away, asking: &Arc<AtomicBool>) -> Result<Summary> {
    let there = Client::new(service)
        .and_then(|client| Ok(service::summary::summarise(&client.with_flag(asking), t)?));
    instead(if_away, there, |why| {
        let mut here = summarise(t);
        here.notes.push(format!("summarised on this machine instead: {why}"));
        Ok(here)
    })
}

/// One pass over what was ordered.
pub struct Hearing<'a> {
    pub name: &'a str,
    /// What was heard is kept here until the job ends: a later try, for a service that was away, need not hear again.
    pub folder: &'a Path,
    pub sound: &'a dyn Fn() -> media::Result<Box<dyn Demux>>,
    pub at: &'a At,
    /// Captions that came with the source.
    pub captions: Option<&'a Captions>,
}

/// What became of all outputs, and what was heard.
type Ends = (Vec<(u32, End)>, Vec<Transcript>);

impl Hearing<'_> {
    /// Makes all of them, in order. What cannot be heard or summed up ends the outputs that need it, and no others.
    pub fn make(&self, outputs: &[Ordered], media: &[Ordered]) -> Result<Ends> {
        let mut heard: Vec<(&recipe::Hearing, std::result::Result<Transcript, End>)> = Vec::new();
        // Both forms of a summary are one answer.
        let mut summaries: Vec<(usize, &Service, std::result::Result<Summary, End>)> = Vec::new();
        let mut ends = Vec::new();
        for o in outputs {
            let Some(recipe) = &o.recipe.transcript else {
                ends.push((o.number, End::NotApplicable("the preset writes no transcript".into())));
                continue;
            };
            let place = match heard.iter().position(|(h, _)| *h == &recipe.hearing) {
                Some(place) => place,
                None => {
                    heard.push((&recipe.hearing, stops_all(self.heard(recipe))?));
                    heard.len() - 1
                }
            };
            let transcript = match &heard[place].1 {
                Ok(t) => t,
                Err(end) => {
                    ends.push((o.number, end.clone()));
                    continue;
                }
            };
            let mut notes = transcript.notes.clone();
            let summary = match &recipe.summary {
                None => None,
                Some(service) => {
                    let known = summaries.iter().position(|(p, s, _)| (*p, *s) == (place, service));
                    let at = match known {
                        Some(at) => at,
                        None => {
                            let by = summary(transcript, service, recipe.if_away, &self.at.asking);
                            summaries.push((place, service, stops_all(by)?));
                            summaries.len() - 1
                        }
                    };
                    match &summaries[at].2 {
                        Ok(by) => {
                            notes.extend(by.notes.iter().filter(|n| !transcript.notes.contains(n)).cloned());
                            Some(by.clone())
                        }
                        Err(end) => {
                            ends.push((o.number, end.clone()));
                            continue;
                        }
                    }
                }
            };
            let written = self.written(o, recipe, transcript, summary, notes, media);
            ends.push((o.number, end_of(o, written)));
        }
        Ok((ends, heard.into_iter().filter_map(|(_, t)| t.ok()).collect()))
    }

    fn written(
        &self,
        o: &Ordered,
        recipe: &TranscriptRecipe,
        transcript: &Transcript,
        summary: Option<Summary>,
        mut notes: Vec<String>,
        media: &[Ordered],
    ) -> Result<Made> {
        let player = if recipe.form == Form::Html { player(media, &mut notes)? } else { None };
        let writing = Writing { player, summary, ..recipe.writing.clone() };
        let bytes = write::write(transcript, recipe.form, &writing)?;
        let fail = |e| Error::path("cannot write", &o.path)(e);
        let mut file = File::create(&o.path).map_err(fail)?;
        file.write_all(&bytes).and_then(|()| file.sync_all()).map_err(fail)?;
        Ok(Made { seconds: transcript.source.duration_ms.seconds(), notes, ..Made::default() })
    }

    /// Heard now, or in an earlier try.
    fn heard(&self, recipe: &TranscriptRecipe) -> Result<Transcript> {
        let kept = self.kept(&recipe.hearing);
        let earlier = std::fs::read(&kept).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok());
        if let Some(t) = earlier {
            return Ok(t);
        }
        let t = self.hear(recipe)?;
        // Without it the next try only takes longer.
        let _ = serde_json::to_vec(&t).map(|bytes| std::fs::write(&kept, bytes));
        Ok(t)
    }

    fn kept(&self, hearing: &recipe::Hearing) -> PathBuf {
        let settings = serde_json::to_vec(hearing).unwrap_or_default();
        self.folder.join(format!("heard-{:016x}.json", xxhash_rust::xxh3::xxh3_64(&settings)))
    }

    fn hear(&self, recipe: &TranscriptRecipe) -> Result<Transcript> {
        let recipe::Hearing { options, model, service, from_captions } = &recipe.hearing;
        if let Some(c) = self.captions.filter(|_| *from_captions) {
            let said = words::captions::said::transcript(&c.bytes, self.name, &c.name, &c.language);
            return said.map_err(|e| {
                let why = format!("the captions that came with it ({}): {e}", c.name);
                media::Error::unsupported("", why).into()
            });
        }
        let model = Model::open(model.as_deref())?;
        let stop = AtomicBool::new(false);
        let mut passed = |at: Ms, of: Ms| {
            let ms = |t: Ms| t.0.max(0) as u64;
            let now =
                Progress { stage: Stage::Hearing, done: ms(at), of: Some(ms(of)), ..Progress::default() };
            self.at.set(Progress { unit: Unit::Milliseconds, ..now });
        };
        let mut by = |engine: Engine<'_>| -> Result<Transcript> {
            let sound = SoundTrack::of((self.sound)()?, options.track)?;
            Ok(transcribe_sound(engine, sound, self.name, options, &mut passed, &stop)?)
        };
        let Some(service) = service else { return by(Engine::Here(&model)) };
        let there = Client::new(service)
            .and_then(|client| by(Engine::Service(&client.with_flag(&self.at.asking), &model.activity)));
        instead(recipe.if_away, there, |why| {
            let mut t = by(Engine::Here(&model))?;
            t.notes.push(format!("heard on this machine instead: {why}"));
            Ok(t)
        })
    }
}

/// A result for the outputs that need it; an error that ends everything is passed on.
fn stops_all<T>(result: Result<T>) -> Result<std::result::Result<T, End>> {
    match result {
        Ok(t) => Ok(Ok(t)),
        Err(e) if matches!(Class::of(&e), Class::Damaged | Class::Stopped | Class::System) => Err(e),
        Err(e) => Ok(Err(failed(&e))),
    }
}
