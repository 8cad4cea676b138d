//! What one output is made of: pictures, sound and stills by [`media`], transcripts by [`words`].

use crate::error::{Error, Result};
use crate::package::Package;
use crate::services::Service;
use media::filter::video::{Came, Spoken};
use media::recipe::Needed;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use words::transcribe::Options;
use words::write::{Form, Writing};

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Recipe {
    #[serde(flatten)]
    pub media: media::recipe::Recipe,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub transcript: Option<TranscriptRecipe>,
    /// It is the original as it arrived, and nothing is made.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub original: bool,
    /// A folder goes with a manifest of what is in it (ASC MHL).
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub manifest: bool,
    /// It is decoded whole before it goes anywhere.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub checked: bool,
    /// It does not say in its own metadata what it was made of.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unmarked: bool,
    /// Others of the job in one file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<Package>,
    /// Or a file that belongs to it, by its name.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "crate::bytes::option")]
    pub beside: Option<PathBuf>,
}

/// A transcript in one form. Outputs with the same hearing share one pass over the sound.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct TranscriptRecipe {
    pub form: Form,
    pub hearing: Hearing,
    #[serde(default)]
    pub writing: Writing,
    /// A text service that writes the summary.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub summary: Option<Service>,
    #[serde(default, skip_serializing_if = "Away::is_wait")]
    pub if_away: Away,
}

/// What to do when a service cannot be used.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Away {
    /// The job waits and tries again.
    #[default]
    Wait,
    /// This machine does it, and the transcript says so.
    Here,
}

impl Away {
    fn is_wait(&self) -> bool {
        *self == Away::Wait
    }
}

#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hearing {
    #[serde(flatten)]
    pub options: Options,
    /// Folder of another speech model than the built-in one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<PathBuf>,
    /// A service that hears instead of this machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub service: Option<Service>,
    /// Captions that came with the file are taken for what was said.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub from_captions: bool,
}

impl Recipe {
    /// Of pictures or sound, by this program.
    pub fn is_made(&self) -> bool {
        !self.original && self.package.is_none() && self.transcript.is_none()
    }
}

impl From<media::recipe::Recipe> for Recipe {
    fn from(media: media::recipe::Recipe) -> Recipe {
        Recipe { media, ..Recipe::default() }
    }
}

/// Reads what a recipe needs beside the source: a logo, a table of colours.
pub fn read_needed(needed: &mut Needed) -> Result<()> {
    let path = Path::new(&needed.file);
    let size = std::fs::metadata(path).map_err(Error::path("cannot read", path))?;
    if !size.is_file() || size.len() > Needed::MOST_BYTES {
        let why = std::io::Error::other(format!("no file of up to {} MB", Needed::MOST_BYTES / 1_000_000));
        return Err(Error::path("cannot use", path)(why));
    }
    needed.bytes = std::fs::read(path).map_err(Error::path("cannot read", path))?;
    // For people its name is enough from here on.
    if let Some(name) = path.file_name() {
        needed.file = name.to_string_lossy().into_owned();
    }
    Ok(())
}

/// Whether captions that come with a source are of use to it.
pub fn takes_captions(recipe: &media::recipe::Recipe) -> bool {
    recipe.stream.is_some() || recipe.video.as_ref().is_some_and(|v| v.captions.is_some())
}

/// Puts captions that came with a source where pictures ask for them, and into streams. `language` may be unknown: "und".
pub fn put_captions(recipes: &mut [media::recipe::Recipe], name: &str, language: &str, bytes: &[u8]) {
    if !recipes.iter().any(takes_captions) {
        return;
    }
    let came = came(bytes).unwrap_or_else(|why| Came::Broken(format!("{name}: {why}")));
    let language = if language == "und" { "" } else { language };
    for recipe in recipes {
        if let Some(captions) = recipe.video.as_mut().and_then(|v| v.captions.as_mut()) {
            captions.came = Some(came.clone());
        }
        if let Some(stream) = &mut recipe.stream {
            stream.captions = Some((language.to_owned(), came.clone()));
        }
    }
}

fn came(bytes: &[u8]) -> std::result::Result<Came, String> {
    let read = words::captions::read::read(bytes).map_err(|e| e.to_string())?;
    if read.cues.is_empty() {
        let why = read.notes.first().map_or(String::new(), |n| format!(": {n}"));
        return Err(format!("no caption in it can be read{why}"));
    }
    let spoken = |c: &words::captions::Cue| Spoken {
        from: c.start.0.max(0) as u64,
        to: c.end.0.max(0) as u64,
        text: c.text(),
    };
    Ok(Came::Read { spoken: read.cues.iter().map(spoken).collect(), notes: read.notes })
}
