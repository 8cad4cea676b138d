//! A transcript: what was said, and when.

use media::units::Ratio;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// Milliseconds from the start of the recording.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
pub struct Ms(pub i64);

impl Ms {
    pub fn from_seconds(s: f64) -> Ms {
        Ms((s * 1000.0).round() as i64)
    }
    pub fn of_samples(samples: u64, rate: u32) -> Ms {
        Ms((samples as i128 * 1000 / i128::from(rate.max(1))) as i64)
    }
    pub fn seconds(self) -> f64 {
        self.0 as f64 / 1000.0
    }
    /// Hours, minutes, seconds and milliseconds with this mark before the last.
    pub fn clock(self, mark: char) -> String {
        let ms = self.0.max(0);
        let (s, ms) = (ms / 1000, ms % 1000);
        format!("{:02}:{:02}:{:02}{mark}{ms:03}", s / 3600, s / 60 % 60, s % 60)
    }
    /// For people: minutes and seconds, hours where there are any.
    pub fn short(self) -> String {
        let s = self.0.max(0) / 1000;
        if s < 3600 {
            format!("{}:{:02}", s / 60, s % 60)
        } else {
            format!("{}:{:02}:{:02}", s / 3600, s / 60 % 60, s % 60)
        }
    }
}

impl std::ops::Sub for Ms {
    type Output = Ms;
    fn sub(self, other: Ms) -> Ms {
        Ms(self.0 - other.0)
    }
}
impl std::ops::Add for Ms {
    type Output = Ms;
    fn add(self, other: Ms) -> Ms {
        Ms(self.0 + other.0)
    }
}

/// The form of this value: raised when a field changes its meaning.
pub const VERSION: u32 = 1;

/// Stands for speech that could not be made out.
const UNCLEAR: &str = "[unclear speech]";

/// What was said in one recording.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Transcript {
    pub version: u32,
    pub source: Source,
    /// Language code (BCP 47) of what the model can hear.
    pub language: String,
    pub made_by: MadeBy,
    pub segments: Vec<Segment>,
    /// Stretches of at least a second in which nobody speaks.
    pub gaps: Vec<Gap>,
    /// Most of it is doubtful, as another language is: forms for readers leave the doubtful passages out.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unsure: bool,
    /// What a reader should know: doubts, damaged places.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Source {
    /// Name of the file, without its folders.
    pub name: String,
    pub duration_ms: Ms,
    /// Timecode of moment 0, where the source has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timecode: Option<Timecode>,
}

impl Source {
    /// The name without its extension.
    pub fn stem(&self) -> &str {
        self.name.rsplit_once('.').map_or(self.name.as_str(), |(stem, _)| stem)
    }
}

/// The first frame's timecode and how it counts (SMPTE ST 12-1).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Timecode {
    pub start_frame: u32,
    pub rate: Ratio,
    pub frames_per_count: u32,
    pub drop_frame: bool,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct MadeBy {
    pub model: String,
    /// SHA-256 of the model's weights; empty for a service.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub digest: String,
    pub settings: String,
}

/// Words between two pauses.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Segment {
    pub start_ms: Ms,
    pub end_ms: Ms,
    pub text: String,
    /// Mean likelihood of its words, 0 to 1; absent if it is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f32>,
    /// The recogniser itself was not sure.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub doubtful: bool,
    pub words: Vec<Word>,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Word {
    pub text: String,
    pub start_ms: Ms,
    pub end_ms: Ms,
    /// Likelihood, 0 to 1; absent if it is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f32>,
    /// As it was heard, where the house's word list put another spelling.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heard: Option<String>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Gap {
    pub start_ms: Ms,
    pub end_ms: Ms,
}

impl Transcript {
    pub fn words(&self) -> impl Iterator<Item = &Word> {
        self.segments.iter().flat_map(|s| &s.words)
    }
    pub fn text(&self) -> String {
        self.segments.iter().map(|s| s.text.as_str()).collect::<Vec<_>>().join(" ")
    }
    /// The source's timecode at a moment, or the time from its start where it has none.
    pub fn moment(&self, at: Ms) -> String {
        self.source.timecode.as_ref().map_or_else(|| at.clock('.')[..8].to_owned(), |tc| tc.at(at))
    }
    /// As it is shown to readers: where the whole is unsure, a mark stands for each doubtful passage, because a guess
    /// that looks like a transcript is worse than none.
    pub fn for_readers(&self) -> Cow<'_, Transcript> {
        if !self.unsure {
            return Cow::Borrowed(self);
        }
        let mut shown = self.clone();
        for s in shown.segments.iter_mut().filter(|s| s.doubtful) {
            s.text = UNCLEAR.into();
            s.words = vec![Word {
                text: UNCLEAR.into(),
                start_ms: s.start_ms,
                end_ms: s.end_ms,
                confidence: s.confidence,
                heard: None,
            }];
        }
        Cow::Owned(shown)
    }
    /// The JSON Schema of this value.
    pub fn schema() -> serde_json::Value {
        let mut schema = schemars::schema_for!(Transcript).to_value();
        schema["title"] = "Deft Porter transcript".into();
        schema
    }
}

impl Segment {
    pub fn of(words: Vec<Word>, doubtful: bool) -> Option<Segment> {
        let (first, last) = (words.first()?, words.last()?);
        let sum: Option<f32> = words.iter().map(|w| w.confidence).sum();
        let confidence = sum.map(|sum| (sum / words.len() as f32 * 1000.0).round() / 1000.0);
        let text = words.iter().map(|w| w.text.as_str()).collect::<Vec<_>>().join(" ");
        Some(Segment { start_ms: first.start_ms, end_ms: last.end_ms, text, confidence, doubtful, words })
    }
}

impl Timecode {
    /// The timecode at a moment, as `hh:mm:ss:ff`, with `;` before the frames where frame numbers are dropped.
    pub fn at(&self, moment: Ms) -> String {
        let frames = i128::from(moment.0) * i128::from(self.rate.num) / (1000 * i128::from(self.rate.den));
        let day = u32::MAX;
        let frame = i64::from(self.start_frame) + frames.clamp(0, i128::from(day)) as i64;
        media::timecode::label(
            u32::try_from(frame).unwrap_or(day),
            self.frames_per_count.max(1),
            self.drop_frame,
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, "00:00:00.000", "0:00")]
    #[case(61_005, "00:01:01.005", "1:01")]
    #[case(3_600_000, "01:00:00.000", "1:00:00")]
    #[case(360_000_999, "100:00:00.999", "100:00:00")]
    #[case(-5, "00:00:00.000", "0:00")]
    fn times_are_shown(#[case] ms: i64, #[case] clock: &str, #[case] short: &str) {
        assert_eq!((Ms(ms).clock('.').as_str(), Ms(ms).short().as_str()), (clock, short));
    }

    /// SMPTE ST 12-1: two numbers are left out each minute but every tenth.
    #[rstest]
    #[case(25, 1, 25, false, 0, 60_000, "00:01:00:00")]
    #[case(30_000, 1001, 30, true, 0, 60_060, "00:01:00;02")]
    #[case(30_000, 1001, 30, false, 0, 60_060, "00:01:00:00")]
    #[case(24, 1, 24, false, 86_400, 500, "01:00:00:12")]
    fn moments_are_timecodes_of_the_source(
        #[case] num: u32,
        #[case] den: u32,
        #[case] frames_per_count: u32,
        #[case] drop_frame: bool,
        #[case] start_frame: u32,
        #[case] ms: i64,
        #[case] want: &str,
    ) {
        let rate = Ratio { num, den };
        let timecode = Some(Timecode { start_frame, rate, frames_per_count, drop_frame });
        let mut t = Transcript { source: Source { timecode, ..Source::default() }, ..Transcript::default() };
        assert_eq!(t.moment(Ms(ms)), want);
        t.source.timecode = None;
        assert_eq!(t.moment(Ms(61_005)), "00:01:01");
    }

    fn word(text: &str, at: i64, confidence: Option<f32>) -> Word {
        Word { text: text.into(), start_ms: Ms(at), end_ms: Ms(at + 100), confidence, heard: None }
    }

    #[test]
    fn a_segment_is_as_sure_as_its_words_are_known_to_be() {
        let sure = Segment::of(vec![word("low", 0, Some(0.5)), word("tide", 200, Some(1.0))], false).unwrap();
        assert_eq!((sure.text.as_str(), sure.confidence, sure.end_ms), ("low tide", Some(0.75), Ms(300)));
        let unknown = Segment::of(vec![word("low", 0, Some(0.5)), word("tide", 200, None)], false).unwrap();
        assert_eq!(unknown.confidence, None);
        assert_eq!(Segment::of(Vec::new(), false), None);
        let json = serde_json::to_value(&unknown).unwrap();
        assert!(json.get("confidence").is_none() && json["words"][0]["confidence"] == 0.5);
    }

    #[test]
    fn readers_of_an_unsure_transcript_see_no_guesses() {
        let segment = |text: &str, doubtful| Segment::of(vec![word(text, 0, Some(0.2))], doubtful).unwrap();
        let mut t = Transcript {
            segments: vec![segment("sure", false), segment("guess", true)],
            ..Transcript::default()
        };
        assert_eq!(t.for_readers().text(), "sure guess");
        t.unsure = true;
        assert_eq!(t.for_readers().text(), format!("sure {UNCLEAR}"));
        assert_eq!(t.text(), "sure guess");
    }
}
