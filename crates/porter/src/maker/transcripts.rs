//! Transcripts among a job's outputs: those with the same hearing are written from one pass over the sound.

use super::OrderedOutput;
use crate::error::{Error, Result};
use crate::recipe::Hearing;
use media::run::Made;
use std::fs::File;
use std::io::Write;
use std::path::Path;
use std::sync::atomic::AtomicBool;
use words::transcript::Ms;
use words::{Model, Transcript, transcribe, write};

/// Makes all of them, in order. The first of each hearing brings the transcript itself along.
pub fn make(
    source: &Path,
    outputs: &[&OrderedOutput],
    mut passed: impl FnMut(Ms, Ms),
) -> Result<Vec<(Made, Option<Box<Transcript>>)>> {
    let mut heard: Vec<(&Hearing, Transcript)> = Vec::new();
    let mut made = Vec::new();
    for o in outputs {
        let Some(recipe) = &o.recipe.transcript else { continue };
        let known = heard.iter().position(|(h, _)| *h == &recipe.hearing);
        let place = match known {
            Some(place) => place,
            None => {
                let file = File::open(source).map_err(Error::path("cannot read", source))?;
                let name = source.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
                let model = Model::open(recipe.hearing.model.as_deref())?;
                let stop = AtomicBool::new(false);
                let options = &recipe.hearing.options;
                heard.push((
                    &recipe.hearing,
                    transcribe(&model, Box::new(file), &name, options, &mut passed, &stop)?,
                ));
                heard.len() - 1
            }
        };
        let transcript = &heard[place].1;
        let bytes = write::write(transcript, recipe.form, &recipe.writing)?;
        let fail = |e| Error::path("cannot write", &o.path)(e);
        let mut file = File::create(&o.path).map_err(fail)?;
        file.write_all(&bytes).and_then(|()| file.sync_all()).map_err(fail)?;
        let seconds = transcript.source.duration_ms.seconds();
        made.push((
            Made { seconds, notes: transcript.notes.clone(), ..Made::default() },
            known.is_none().then(|| Box::new(transcript.clone())),
        ));
    }
    Ok(made)
}
