//! Transcripts and captions as files: one function a form.
//!
//! To add a form: a file here with its function, and a line in [`Form`]'s tables.

mod caption_files;
mod reading;

pub use caption_files::{srt, ttml, vtt};
pub use reading::paragraphs;

use crate::captions::{Cue, Style, shape};
use crate::error::{Error, Result};
use crate::page::{self, Player};
use crate::summary::{self, Summary, summarise};
use crate::transcript::Transcript;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::str::FromStr;

/// What a transcript can be written as.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum Form {
    Json,
    Txt,
    Md,
    Srt,
    Vtt,
    Ttml,
    Csv,
    /// The reading page.
    Html,
    /// The summary for programs.
    #[serde(rename = "summary.json")]
    SummaryJson,
    /// The summary as a page that stands in a mail.
    #[serde(rename = "summary.html")]
    SummaryHtml,
}

impl Form {
    pub const ALL: [Form; 10] = [
        Form::Json,
        Form::Txt,
        Form::Md,
        Form::Srt,
        Form::Vtt,
        Form::Ttml,
        Form::Csv,
        Form::Html,
        Form::SummaryJson,
        Form::SummaryHtml,
    ];

    pub fn is_summary(self) -> bool {
        matches!(self, Form::SummaryJson | Form::SummaryHtml)
    }

    /// Its name in settings, and the extension of its files.
    pub fn extension(self) -> &'static str {
        match self {
            Form::Json => "json",
            Form::Txt => "txt",
            Form::Md => "md",
            Form::Srt => "srt",
            Form::Vtt => "vtt",
            Form::Ttml => "ttml",
            Form::Csv => "csv",
            Form::Html => "html",
            Form::SummaryJson => "summary.json",
            Form::SummaryHtml => "summary.html",
        }
    }
}

impl FromStr for Form {
    type Err = String;
    fn from_str(s: &str) -> std::result::Result<Form, String> {
        Form::ALL.into_iter().find(|f| f.extension() == s).ok_or_else(|| {
            let all: Vec<&str> = Form::ALL.iter().map(|f| f.extension()).collect();
            format!("\"{s}\" is no form of a transcript; there are {}", all.join(", "))
        })
    }
}

/// How forms are written.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Writing {
    pub style: Style,
    /// WebVTT gives each word its time.
    pub word_times: bool,
    /// What the reading page plays: known only when the page is made.
    #[serde(skip)]
    pub player: Option<Player>,
    /// A summary from elsewhere; without it, one is made of what was said.
    #[serde(skip)]
    pub summary: Option<Summary>,
}

pub fn write(t: &Transcript, form: Form, how: &Writing) -> Result<Vec<u8>> {
    how.style.validate()?;
    let shown = t.for_readers();
    let cues = || shape(shown.words(), &how.style);
    let summary = || how.summary.as_ref().map_or_else(|| Cow::Owned(summarise(t)), Cow::Borrowed);
    Ok(match form {
        Form::Json => json(t)?,
        Form::Html => page::html(t, how.player.as_ref()).into_bytes(),
        Form::SummaryJson => json(summary().as_ref())?,
        Form::SummaryHtml => summary::html(summary().as_ref()).into_bytes(),
        Form::Txt => reading::text(&shown).into_bytes(),
        Form::Md => reading::markdown(&shown).into_bytes(),
        Form::Csv => reading::csv(&shown).into_bytes(),
        Form::Srt => srt(&cues()).into_bytes(),
        Form::Vtt => vtt(&cues(), how.word_times).into_bytes(),
        Form::Ttml => ttml(&cues(), &t.language).into_bytes(),
    })
}

fn json(value: &impl Serialize) -> Result<Vec<u8>> {
    let mut json = serde_json::to_vec_pretty(value).map_err(|e| Error::setting("transcript", e))?;
    json.push(b'\n');
    Ok(json)
}

/// Cues as a caption file; `None` if the form is none for captions.
pub fn captions(cues: &[Cue], form: Form) -> Option<String> {
    match form {
        Form::Srt => Some(srt(cues)),
        Form::Vtt => Some(vtt(cues, false)),
        Form::Ttml => Some(ttml(cues, "")),
        _ => None,
    }
}
