//! A recipe: what to make from one source, as settings. [`crate::plan`] turns it into a graph.

use serde::{Deserialize, Serialize};

/// One output. At least one of the three parts is there.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Recipe {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub video: Option<VideoRecipe>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audio: Option<AudioRecipe>,
    /// A still from a still.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub still: Option<StillRecipe>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct VideoRecipe {
    /// Largest size; the shape is kept and nothing is enlarged. 0 leaves a side free.
    pub fit: (u32, u32),
    pub rate: BitRecipe,
    /// Milliseconds from one key picture to the next, at most.
    pub key_every_ms: u32,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum BitRecipe {
    /// The same H.264 quantiser for every picture.
    Quantiser(u8),
    /// Bits a second on average.
    Average(u32),
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AudioRecipe {
    /// Bits a second for each sound track.
    pub bits: u32,
    /// Most channels a track keeps: 1 or 2.
    pub channels: u16,
    /// Samples a second; the source's if the codec has it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<u32>,
}

impl AudioRecipe {
    pub const MIN_BITS: u32 = 16_000;
    pub const MAX_BITS: u32 = 512_000;
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StillRecipe {
    pub fit: (u32, u32),
    pub format: StillChoice,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum StillChoice {
    /// JPEG with a quality of 1 to 100.
    Jpeg(u8),
    Png,
}
