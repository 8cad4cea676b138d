//! What a speech service answers, and where its words belong.

use crate::error::{Error, Result};
use crate::listen::{Span, Window};
use crate::model::RATE;
use crate::recognise::align::Placed;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What was said in the sound of one request. Times count from the start of that sound. The finest that is given
/// counts: words in segments, words, segments, text.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Answer {
    /// All of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub segments: Option<Vec<AnswerSegment>>,
    /// For services that know words but no segments.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub words: Option<Vec<AnswerWord>>,
    /// Language code (BCP 47) of what was heard.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    /// What heard it, for the record.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
}

/// When: in milliseconds, or in seconds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Moments {
    /// Milliseconds from the start of the sound.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start_ms: Option<f64>,
    /// Milliseconds from the start of the sound.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end_ms: Option<f64>,
    /// Seconds; read where there is no `start_ms`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<f64>,
    /// Seconds; read where there is no `end_ms`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end: Option<f64>,
}

/// Words between two pauses.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AnswerSegment {
    #[serde(flatten)]
    pub when: Moments,
    pub text: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub words: Vec<AnswerWord>,
}

/// One word.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AnswerWord {
    #[serde(flatten)]
    pub when: Moments,
    /// With the punctuation that belongs to it. `word` is read as well.
    #[serde(alias = "word")]
    pub text: String,
    /// Likelihood, 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f32>,
}

/// How closely a service says when something was said.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum Closeness {
    #[default]
    Words,
    Segments,
    Text,
}

impl Moments {
    pub fn of(start: i64, end: i64) -> Moments {
        Moments { start_ms: Some(start as f64), end_ms: Some(end as f64), ..Moments::default() }
    }

    /// In seconds.
    fn seconds(&self) -> Option<(f64, f64)> {
        let start = self.start_ms.map(|v| v / 1000.0).or(self.start)?;
        let end = self.end_ms.map(|v| v / 1000.0).or(self.end).unwrap_or(start);
        (start.is_finite() && end.is_finite()).then_some((start, end.max(start)))
    }
}

impl Answer {
    pub fn parse(json: &[u8]) -> Result<Answer> {
        let answer: Answer = serde_json::from_slice(json)
            .map_err(|e| Error::Service(format!("its answer is not what was agreed: {e}")))?;
        if answer.text.is_none() && answer.segments.is_none() && answer.words.is_none() {
            return Err(Error::Service("its answer has neither text, segments nor words".into()));
        }
        Ok(answer)
    }

    /// Its words on the line of the recording, and how closely their times were given.
    pub fn place(&self, window: &Window) -> (Vec<Placed>, Closeness) {
        let second = |at: u64| at as f64 / f64::from(RATE);
        let (base, end) = (second(window.start), second(window.end()));
        let moved = |m: &Moments| {
            m.seconds().map(|(a, b)| ((base + a).clamp(base, end), (base + b).clamp(base, end)))
        };
        let mut out = Vec::new();
        let mut closeness = Closeness::Words;
        let timed = |words: &[AnswerWord], out: &mut Vec<Placed>| {
            let all: Option<Vec<_>> = words.iter().map(|w| moved(&w.when)).collect();
            for (w, (start, end)) in words.iter().zip(all.iter().flatten()) {
                let confidence = w.confidence.filter(|c| c.is_finite()).map(|c| c.clamp(0.0, 1.0));
                let text = w.text.trim().to_owned();
                out.push(Placed { text, start: *start, end: *end, confidence });
            }
            all.is_some() && !words.is_empty()
        };
        let whole = [(base, end)];
        match (&self.segments, &self.words) {
            (Some(segments), _) if !segments.is_empty() => {
                for s in segments {
                    if timed(&s.words, &mut out) {
                        continue;
                    }
                    let (stretch, how) = match moved(&s.when) {
                        Some(when) => ([when], Closeness::Segments),
                        None => (whole, Closeness::Text),
                    };
                    closeness = closeness.max(how);
                    spread(&s.text, &speech(window, stretch[0]), &mut out);
                }
            }
            (_, Some(words)) if timed(words, &mut out) => (),
            (_, words) => {
                closeness = Closeness::Text;
                let said = match (&self.text, words) {
                    (Some(text), _) => text.clone(),
                    (None, Some(words)) => words.iter().map(|w| w.text.trim()).collect::<Vec<_>>().join(" "),
                    (None, None) => String::new(),
                };
                spread(&said, &speech(window, whole[0]), &mut out);
            }
        }
        out.retain(|w| !w.text.is_empty());
        out.sort_by(|a, b| a.start.total_cmp(&b.start));
        for i in 1..out.len() {
            let next = out[i].start;
            let before = &mut out[i - 1];
            before.end = before.end.min(next).max(before.start);
        }
        (out, closeness)
    }
}

/// Where someone speaks within a stretch of a window, in seconds; the stretch itself if nobody seems to.
fn speech(window: &Window, (from, to): (f64, f64)) -> Vec<(f64, f64)> {
    let second = |at: u64| at as f64 / f64::from(RATE);
    let clipped = |s: &Span| (second(s.start).clamp(from, to), second(s.end).clamp(from, to));
    let spoken: Vec<_> = window.spans.iter().map(clipped).filter(|(a, b)| b > a).collect();
    if spoken.is_empty() { vec![(from, to)] } else { spoken }
}

/// Words evenly over stretches of speech, longer words for longer.
fn spread(text: &str, over: &[(f64, f64)], out: &mut Vec<Placed>) {
    let words: Vec<&str> = text.split_whitespace().collect();
    let weight = |w: &str| w.chars().count() as f64 + 1.0;
    let all: f64 = words.iter().map(|w| weight(w)).sum();
    let length: f64 = over.iter().map(|(a, b)| b - a).sum();
    // A moment of the speech on the line of the recording, and the end of its stretch.
    let at = |mut share: f64| {
        for &(a, b) in over {
            if share < b - a {
                return (a + share, b);
            }
            share -= b - a;
        }
        over.last().map_or((0.0, 0.0), |&(_, b)| (b, b))
    };
    let mut before = 0.0;
    for w in words {
        let long = weight(w) / all * length;
        let (start, stretch_end) = at(before);
        out.push(Placed {
            text: w.to_owned(),
            start,
            end: (start + long).min(stretch_end),
            confidence: None,
        });
        before += long;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Ten seconds from second 100 on, with speech from 101 to 103 and from 107 to 109.
    fn window() -> Window {
        let rate = u64::from(RATE);
        let span = |a: u64, b: u64| Span { start: a * rate, end: b * rate };
        Window {
            start: 100 * rate,
            sound: vec![0.0; 10 * RATE as usize],
            spans: vec![span(101, 103), span(107, 109)],
            cut_before: None,
            cut_after: None,
        }
    }

    fn placed(json: &str) -> (Vec<(String, f64, f64)>, Closeness) {
        let (words, how) = Answer::parse(json.as_bytes()).unwrap().place(&window());
        let round = |v: f64| (v * 100.0).round() / 100.0;
        (words.into_iter().map(|w| (w.text, round(w.start), round(w.end))).collect(), how)
    }

    #[rstest]
    #[case::words_in_segments(
        r#"{"segments":[{"start_ms":1000,"end_ms":2000,"text":"Low tide.","words":[{"text":"Low","start_ms":1000,"end_ms":1400},{"text":"tide.","start_ms":1500,"end_ms":2000}]}]}"#,
        Closeness::Words, &[("Low", 101.0, 101.4), ("tide.", 101.5, 102.0)])]
    #[case::words_in_seconds(
        r#"{"words":[{"word":" tide","start":1.5,"end":2},{"word":"Low","start":1,"end":1.7}]}"#,
        Closeness::Words, &[("Low", 101.0, 101.5), ("tide", 101.5, 102.0)])]
    #[case::segments(
        r#"{"text":"x","segments":[{"start":0.5,"end":3.0,"text":"one one"},{"start":7,"end":9,"text":"two"}]}"#,
        Closeness::Segments, &[("one", 101.0, 102.0), ("one", 102.0, 103.0), ("two", 107.0, 109.0)])]
    #[case::text(r#"{"text":" one two  six ten "}"#, Closeness::Text,
        &[("one", 101.0, 102.0), ("two", 102.0, 103.0), ("six", 107.0, 108.0), ("ten", 108.0, 109.0)])]
    #[case::words_without_times(r#"{"words":[{"text":"one"},{"text":"two"}]}"#, Closeness::Text,
        &[("one", 101.0, 103.0), ("two", 107.0, 109.0)])]
    #[case::out_of_the_sound(r#"{"words":[{"text":"late","start_ms":9000,"end_ms":1e12},{"text":"early","start_ms":-5,"end_ms":-9}]}"#,
        Closeness::Words, &[("early", 100.0, 100.0), ("late", 109.0, 110.0)])]
    #[case::nothing(r#"{"text":""}"#, Closeness::Text, &[])]
    fn words_find_their_place(#[case] json: &str, #[case] how: Closeness, #[case] want: &[(&str, f64, f64)]) {
        let (got, closeness) = placed(json);
        let want: Vec<_> = want.iter().map(|&(w, a, b)| (w.to_owned(), a, b)).collect();
        assert_eq!((got, closeness), (want, how));
    }

    #[rstest]
    #[case(b"<html>", "not what was agreed")]
    #[case(b"{}", "neither text, segments nor words")]
    #[case(br#"{"segments": "all"}"#, "not what was agreed")]
    fn what_is_no_answer_is_said_so(#[case] json: &[u8], #[case] want: &str) {
        assert!(Answer::parse(json).unwrap_err().to_string().contains(want));
    }
}
