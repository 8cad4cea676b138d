//! What one output is made of: pictures, sound and stills by [`media`], transcripts by [`words`].

use serde::{Deserialize, Serialize};
use std::path::PathBuf;
use words::transcribe::Options;
use words::write::{Form, Writing};

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Recipe {
    #[serde(flatten)]
    pub media: media::recipe::Recipe,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub transcript: Option<TranscriptRecipe>,
}

/// A transcript in one form. Outputs with the same hearing share one pass over the sound.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct TranscriptRecipe {
    pub form: Form,
    pub hearing: Hearing,
    #[serde(default)]
    pub writing: Writing,
}

#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hearing {
    #[serde(flatten)]
    pub options: Options,
    /// Folder of another speech model than the built-in one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<PathBuf>,
}

impl From<media::recipe::Recipe> for Recipe {
    fn from(media: media::recipe::Recipe) -> Recipe {
        Recipe { media, transcript: None }
    }
}
