//! A text service that makes the summary: what it is asked, and its answers as one [`Summary`].

use crate::error::{Error, Result};
use crate::summary::{Line, Name, NameKind, Reference, ReferenceKind, Summary, VERSION};
use crate::transcript::{Ms, Transcript};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Somewhere that reads text. Waiting and trying again are its own affair; an error is final.
pub trait TextService {
    fn name(&self) -> &str;
    /// Most bytes of one request.
    fn most(&self) -> u64;
    fn read(&self, request: &TextRequest) -> Result<TextAnswer>;
}

/// What is asked.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Want {
    #[default]
    Summary,
}

/// A transcript, or a part of a long one, to be summarised.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TextRequest {
    pub want: Want,
    /// Language code (BCP 47) of the text.
    pub language: String,
    /// Name of the recording.
    pub source: String,
    #[serde(deserialize_with = "whole")]
    pub duration_ms: Ms,
    pub segments: Vec<TextSegment>,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TextSegment {
    #[serde(deserialize_with = "whole")]
    pub start_ms: Ms,
    #[serde(deserialize_with = "whole")]
    pub end_ms: Ms,
    pub text: String,
}

/// A summary of what was sent. Every part may be left out.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct TextAnswer {
    pub title: String,
    /// A few sentences.
    pub summary: Vec<At>,
    pub points: Vec<At>,
    pub actions: Vec<At>,
    pub questions: Vec<At>,
    pub names: Vec<NameAt>,
    pub references: Vec<ReferenceAt>,
    /// What made it, for the record.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct At {
    /// Where in the recording this is said.
    #[serde(deserialize_with = "whole")]
    pub at_ms: Ms,
    pub text: String,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct NameAt {
    #[serde(deserialize_with = "whole")]
    pub at_ms: Ms,
    pub name: String,
    pub kind: NameKind,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ReferenceAt {
    #[serde(deserialize_with = "whole")]
    pub at_ms: Ms,
    pub text: String,
    pub kind: ReferenceKind,
}

/// Milliseconds: a whole number, which some write as 5.0.
fn whole<'de, D: serde::Deserializer<'de>>(d: D) -> std::result::Result<Ms, D::Error> {
    Ok(Ms(f64::deserialize(d)?.round() as i64))
}

/// Least that [`TextService::most`] may be.
pub const MIN_MOST: u64 = 10_000;
/// Lines of a kind that are kept.
const MOST_LINES: usize = 40;

impl TextRequest {
    /// The transcript as it is shown to readers, in requests of at most so many bytes of JSON.
    pub fn of(t: &Transcript, most: u64) -> Vec<TextRequest> {
        let empty = || TextRequest {
            want: Want::Summary,
            language: t.language.clone(),
            source: t.source.name.clone(),
            duration_ms: t.source.duration_ms,
            segments: Vec::new(),
        };
        let size = |v: &TextSegment| serde_json::to_vec(v).map_or(0, |j| j.len() as u64 + 1);
        let frame = serde_json::to_vec(&empty()).map_or(0, |j| j.len() as u64);
        let most = most.max(MIN_MOST);
        let (mut out, mut open, mut bytes) = (Vec::new(), empty(), frame);
        for s in &t.for_readers().segments {
            let segment = TextSegment { start_ms: s.start_ms, end_ms: s.end_ms, text: s.text.clone() };
            let more = size(&segment);
            if bytes + more > most && !open.segments.is_empty() {
                out.push(std::mem::replace(&mut open, empty()));
                bytes = frame;
            }
            bytes += more;
            open.segments.push(segment);
        }
        out.push(open);
        out
    }
}

impl TextAnswer {
    pub fn parse(json: &[u8]) -> Result<TextAnswer> {
        let answer: TextAnswer = serde_json::from_slice(json)
            .map_err(|e| Error::Service(format!("its answer is not what was agreed: {e}")))?;
        if answer == TextAnswer::default() {
            return Err(Error::Service("its answer has nothing of a summary in it".into()));
        }
        Ok(answer)
    }
}

/// The summary that a service writes. Long transcripts go in several requests, and the answers follow each other.
pub fn summarise(service: &dyn TextService, t: &Transcript) -> Result<Summary> {
    let answers = TextRequest::of(t, service.most())
        .iter()
        .map(|request| service.read(request))
        .collect::<Result<Vec<_>>>()?;
    Ok(joined(t, service.name(), answers))
}

fn joined(t: &Transcript, service: &str, answers: Vec<TextAnswer>) -> Summary {
    let parts = answers.len();
    let place = |at: Ms| Ms(at.0.clamp(0, t.source.duration_ms.0.max(0)));
    let lines = |of: fn(&TextAnswer) -> &[At]| -> Vec<Line> {
        answers
            .iter()
            .flat_map(of)
            .filter(|l| !l.text.trim().is_empty())
            .take(MOST_LINES)
            .map(|l| Line {
                at_ms: place(l.at_ms),
                at: t.moment(place(l.at_ms)),
                text: l.text.trim().to_owned(),
            })
            .collect()
    };
    let model = answers.iter().find_map(|a| a.model.as_deref());
    let mut names: Vec<Name> = Vec::new();
    for n in answers.iter().flat_map(|a| &a.names) {
        if let Some(known) = names.iter_mut().find(|k| k.name == n.name) {
            known.times += 1;
        } else if names.len() < MOST_LINES {
            let at_ms = place(n.at_ms);
            names.push(Name { name: n.name.clone(), kind: n.kind, times: 1, at_ms, at: t.moment(at_ms) });
        }
    }
    let references = answers.iter().flat_map(|a| &a.references).take(MOST_LINES).map(|r| {
        let at_ms = place(r.at_ms);
        Reference { kind: r.kind, text: r.text.clone(), at_ms, at: t.moment(at_ms) }
    });
    let mut notes = t.notes.clone();
    if parts > 1 {
        notes.push(format!("the transcript went to the service in {parts} parts"));
    }
    let titled = answers.iter().map(|a| a.title.trim()).find(|t| !t.is_empty());
    Summary {
        version: VERSION,
        source: t.source.name.clone(),
        duration_ms: t.source.duration_ms,
        method: format!(
            "Written by the text service \"{service}\"{}, not taken word for word from the recording. Check what matters against it.",
            model.map_or(String::new(), |m| format!(" ({m})"))
        ),
        title: titled.map_or_else(|| t.source.stem().to_owned(), String::from),
        summary: lines(|a| &a.summary),
        points: lines(|a| &a.points),
        actions: lines(|a| &a.actions),
        questions: lines(|a| &a.questions),
        names,
        references: references.collect(),
        notes,
    }
}

/// An extractive summary as a service would answer it: what the stand-in says.
impl From<Summary> for TextAnswer {
    fn from(s: Summary) -> TextAnswer {
        let lines = |l: Vec<Line>| l.into_iter().map(|l| At { at_ms: l.at_ms, text: l.text }).collect();
        let name = |n: Name| NameAt { at_ms: n.at_ms, name: n.name, kind: n.kind };
        let reference = |r: Reference| ReferenceAt { at_ms: r.at_ms, text: r.text, kind: r.kind };
        TextAnswer {
            title: s.title,
            summary: lines(s.summary),
            points: lines(s.points),
            actions: lines(s.actions),
            questions: lines(s.questions),
            names: s.names.into_iter().map(name).collect(),
            references: s.references.into_iter().map(reference).collect(),
            model: None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::transcript::{Segment, Source, Word};
    use std::cell::RefCell;

    fn transcript(segments: usize) -> Transcript {
        let segment = |i: usize| {
            let at = Ms(i as i64 * 10_000);
            let word = |w: &str| Word { text: w.into(), start_ms: at, end_ms: at, ..Word::default() };
            Segment::of("the tide came in over the salt marsh".split(' ').map(word).collect(), false)
        };
        Transcript {
            source: Source { name: "warden.mov".into(), duration_ms: Ms(600_000), timecode: None },
            language: "en".into(),
            segments: (0..segments).filter_map(segment).collect(),
            ..Transcript::default()
        }
    }

    /// Says of each request how much it was asked.
    struct Counting(RefCell<Vec<usize>>);
    impl TextService for Counting {
        fn name(&self) -> &str {
            "desk"
        }
        fn most(&self) -> u64 {
            MIN_MOST
        }
        fn read(&self, request: &TextRequest) -> Result<TextAnswer> {
            assert!(serde_json::to_vec(request).unwrap().len() as u64 <= MIN_MOST);
            self.0.borrow_mut().push(request.segments.len());
            let at_ms = request.segments[0].start_ms;
            TextAnswer::parse(
                format!(
                    r#"{{"title":" ","points":[{{"at_ms":{},"text":"From here."}},{{"at_ms":5.0,"text":"  "}}],
                    "names":[{{"at_ms":99999999,"name":"Dunmere","kind":"place"}}],"model":"m1"}}"#,
                    at_ms.0
                )
                .as_bytes(),
            )
        }
    }

    #[test]
    fn a_long_transcript_goes_in_parts_and_comes_back_as_one() {
        let (t, service) = (transcript(300), Counting(RefCell::default()));
        let s = summarise(&service, &t).unwrap();
        let parts = service.0.into_inner();
        assert!(parts.len() > 1 && parts.iter().sum::<usize>() == 300, "{parts:?}");
        assert_eq!(s.title, "warden");
        assert_eq!(s.points.len(), parts.len());
        assert_eq!(s.points[1].at_ms, Ms(parts[0] as i64 * 10_000).min(Ms(600_000)));
        assert_eq!((s.names[0].times, s.names[0].at.as_str()), (parts.len(), "00:10:00"));
        assert!(s.method.contains("\"desk\" (m1)") && s.notes[0].contains("parts"), "{s:?}");
    }

    #[test]
    fn an_answer_with_nothing_in_it_is_none() {
        assert!(TextAnswer::parse(b"{\"text\":\"hello\"}").is_err());
        assert!(TextAnswer::parse(b"<html>").is_err());
    }
}
