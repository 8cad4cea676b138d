//! Captions of others as a transcript: what is said stands in them already.

use super::Cue;
use super::read::{Read, read};
use crate::error::{Error, Result};
use crate::transcript::{MadeBy, Ms, Segment, Source, Transcript, VERSION, Word};

/// Words without the marks of captions (`<i>`, `{\an8}`).
fn plain(text: &str) -> String {
    let (mut out, mut inside) = (String::new(), None);
    for c in text.chars() {
        match (inside, c) {
            (None, '<') => inside = Some('>'),
            (None, '{') => inside = Some('}'),
            (Some(end), c) if c == end => inside = None,
            (Some(_), _) => (),
            (None, c) => out.push(c),
        }
    }
    out
}

/// A cue's words, each with its share of the time by its letters.
fn segment(cue: &Cue) -> Option<Segment> {
    let text = plain(&cue.lines.join(" "));
    let words: Vec<&str> = text.split_whitespace().collect();
    let letters: i64 = words.iter().map(|w| w.chars().count() as i64).sum();
    let (mut done, span) = (0, (cue.end - cue.start).0.max(0));
    let at = |done: i64| Ms(cue.start.0 + span * done / letters.max(1));
    let timed = words.iter().map(|w| {
        let from = done;
        done += w.chars().count() as i64;
        Word { text: (*w).into(), start_ms: at(from), end_ms: at(done), ..Word::default() }
    });
    Segment::of(timed.collect(), false)
}

/// Reads captions and gives them as what was said. `name` is of the recording, `file` of the captions.
pub fn transcript(bytes: &[u8], name: &str, file: &str, language: &str) -> Result<Transcript> {
    let Read { format, cues, mut notes } = read(bytes)?;
    let segments: Vec<Segment> = cues.iter().filter_map(segment).collect();
    let Some(last) = segments.iter().map(|s| s.end_ms).max() else {
        return Err(Error::Text { format, line: 1, why: "no words stand in it".into() });
    };
    notes.push(format!(
        "the words are those of {file}, and were not heard; times within a caption are estimated"
    ));
    Ok(Transcript {
        version: VERSION,
        source: Source { name: name.into(), duration_ms: last, timecode: None },
        language: language.into(),
        made_by: MadeBy { model: format!("{format} captions"), ..MadeBy::default() },
        segments,
        notes,
        ..Transcript::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cues_become_words_with_their_times() {
        let srt = b"1\n00:00:01,000 --> 00:00:03,000\n<i>Salt</i> {\\an8}marsh\nebb\n\n2\n00:00:05,000 --> 00:00:06,000\n<b></b>\n";
        let t = transcript(srt, "cup.mp4", "cup.srt", "en").unwrap();
        assert_eq!((t.text().as_str(), t.segments.len()), ("Salt marsh ebb", 1));
        let times: Vec<(i64, i64)> = t.words().map(|w| (w.start_ms.0, w.end_ms.0)).collect();
        assert_eq!(times, [(1000, 1666), (1666, 2500), (2500, 3000)]);
        assert!(t.notes.iter().any(|n| n.contains("cup.srt")));
        assert!(transcript(b"no captions", "a", "a.srt", "en").is_err());
        assert!(transcript(b"WEBVTT\n\n00:01.000 --> 00:02.000\n<i></i>\n", "a", "a.vtt", "en").is_err());
    }
}
