//! Transcripts among a job's outputs: those with the same hearing are written from one pass over the sound.

use super::OrderedOutput;
use crate::error::{Error, Result};
use crate::recipe::{Away, Hearing, TranscriptRecipe};
use crate::services::{Client, Service};
use media::run::Made;
use std::fs::File;
use std::io::Write;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use words::page::Player;
use words::service;
use words::summary::{Summary, summarise};
use words::transcribe::Engine;
use words::transcript::Ms;
use words::write::{Form, Writing};
use words::{Model, Transcript, transcribe, write};

/// A proxy up to this size becomes a part of the reading page.
const MAX_PLAYER: u64 = 48_000_000;

/// What the reading page plays: the smallest picture output of the same job, or its sound.
fn player(media: &[&OrderedOutput], notes: &mut Vec<String>) -> Result<Option<Player>> {
    let size = |o: &OrderedOutput| std::fs::metadata(&o.path).map_or(u64::MAX, |m| m.len());
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

fn hear(
    source: &Path,
    recipe: &TranscriptRecipe,
    asking: &Arc<AtomicBool>,
    mut passed: impl FnMut(Ms, Ms),
) -> Result<Transcript> {
    let Hearing { options, model, service } = &recipe.hearing;
    let model = Model::open(model.as_deref())?;
    let name = source.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
    let stop = AtomicBool::new(false);
    let mut by = |engine: Engine<'_>| -> Result<Transcript> {
        let file = File::open(source).map_err(Error::path("cannot read", source))?;
        Ok(transcribe(engine, Box::new(file), &name, options, &mut passed, &stop)?)
    };
    let Some(service) = service else { return by(Engine::Here(&model)) };
    let there = Client::new(service)
        .and_then(|client| by(Engine::Service(&client.with_flag(asking), &model.activity)));
    instead(recipe.if_away, there, |why| {
        let mut t = by(Engine::Here(&model))?;
        t.notes.push(format!("heard on this machine instead: {why}"));
        Ok(t)
    })
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

/// Makes all of them, in order. The first of each hearing brings the transcript itself along.
pub fn make(
    source: &Path,
    outputs: &[&OrderedOutput],
    media: &[&OrderedOutput],
    asking: &Arc<AtomicBool>,
    mut passed: impl FnMut(Ms, Ms),
) -> Result<Vec<(Made, Option<Box<Transcript>>)>> {
    let mut heard: Vec<(&Hearing, Transcript)> = Vec::new();
    // Both forms of a summary are one answer.
    let mut summaries = Vec::new();
    let mut made = Vec::new();
    for o in outputs {
        let Some(recipe) = &o.recipe.transcript else { continue };
        let known = heard.iter().position(|(h, _)| *h == &recipe.hearing);
        let place = match known {
            Some(place) => place,
            None => {
                heard.push((&recipe.hearing, hear(source, recipe, asking, &mut passed)?));
                heard.len() - 1
            }
        };
        let transcript = &heard[place].1;
        let mut notes = transcript.notes.clone();
        let player = if recipe.form == Form::Html { player(media, &mut notes)? } else { None };
        let summary = match &recipe.summary {
            None => None,
            Some(service) => {
                let known = summaries.iter().position(|(p, s, _)| (*p, *s) == (place, service));
                let at = match known {
                    Some(at) => at,
                    None => {
                        let by = summary(transcript, service, recipe.if_away, asking)?;
                        summaries.push((place, service, by));
                        summaries.len() - 1
                    }
                };
                let by: &Summary = &summaries[at].2;
                notes.extend(by.notes.iter().filter(|n| !transcript.notes.contains(n)).cloned());
                Some(by.clone())
            }
        };
        let bytes =
            write::write(transcript, recipe.form, &Writing { player, summary, ..recipe.writing.clone() })?;
        let fail = |e| Error::path("cannot write", &o.path)(e);
        let mut file = File::create(&o.path).map_err(fail)?;
        file.write_all(&bytes).and_then(|()| file.sync_all()).map_err(fail)?;
        let seconds = transcript.source.duration_ms.seconds();
        made.push((
            Made { seconds, notes, ..Made::default() },
            known.is_none().then(|| Box::new(transcript.clone())),
        ));
    }
    Ok(made)
}
