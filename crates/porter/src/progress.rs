//! How far something is: one value through all layers.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What is being done.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Stage {
    #[default]
    Looking,
    Making,
    Hearing,
    /// A service was asked and has not answered yet; `done` is the time so far.
    Asking,
    /// Reading back what was made.
    Checking,
    /// Others are put into one file.
    Packing,
    Carrying,
    Moving,
    #[serde(other)]
    Unknown,
}

/// What `done` and `of` count. Values of different units are never added.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Unit {
    #[default]
    Bytes,
    Frames,
    Samples,
    Milliseconds,
    #[serde(other)]
    Unknown,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Progress {
    pub stage: Stage,
    /// Where it is about one output.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub output: Option<u32>,
    pub done: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<u64>,
    pub unit: Unit,
}

impl Progress {
    /// 0 to 100.
    pub fn percent(&self) -> Option<f64> {
        let of = self.of.filter(|of| *of > 0)?;
        Some(((self.done as f64 / of as f64 * 1000.0).round() / 10.0).min(100.0))
    }
}

impl std::fmt::Display for Unit {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Unit::Bytes => "bytes",
            Unit::Frames => "frames",
            Unit::Samples => "samples",
            Unit::Milliseconds => "ms",
            Unit::Unknown => "",
        })
    }
}

impl std::fmt::Display for Stage {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Stage::Looking => "looking",
            Stage::Making => "making",
            Stage::Hearing => "hearing",
            Stage::Asking => "asking a service",
            Stage::Checking => "reading back",
            Stage::Packing => "packing",
            Stage::Carrying => "carrying",
            Stage::Moving => "moving the original",
            Stage::Unknown => "working",
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(3, Some(9), Some(33.3))]
    #[case(3, None, None)]
    #[case(3, Some(0), None)]
    #[case(30, Some(9), Some(100.0))]
    fn percents(#[case] done: u64, #[case] of: Option<u64>, #[case] want: Option<f64>) {
        assert_eq!(Progress { done, of, ..Progress::default() }.percent(), want);
    }
}
