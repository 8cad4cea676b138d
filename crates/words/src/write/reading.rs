//! Forms for people and tables: plain text, Markdown and CSV.

use crate::transcript::{Segment, Transcript};
use std::fmt::Write;

/// A pause that begins a new paragraph.
const PARAGRAPH: i64 = 1500;
/// A paragraph of this many characters ends with its sentence.
const LONG: usize = 700;

/// Segments that are read as one paragraph.
pub fn paragraphs(t: &Transcript) -> Vec<Vec<&Segment>> {
    let mut out: Vec<Vec<&Segment>> = Vec::new();
    let mut length = 0;
    for s in &t.segments {
        let ends = out.last().and_then(|p| p.last()).is_none_or(|last| {
            (s.start_ms - last.end_ms).0 >= PARAGRAPH
                || length > LONG && last.text.ends_with(['.', '?', '!'])
                || last.doubtful != s.doubtful
        });
        if ends {
            out.push(Vec::new());
            length = 0;
        }
        length += s.text.len() + 1;
        if let Some(p) = out.last_mut() {
            p.push(s);
        }
    }
    out
}

fn joined(paragraph: &[&Segment]) -> String {
    paragraph.iter().map(|s| s.text.as_str()).collect::<Vec<_>>().join(" ")
}

/// Paragraphs at pauses, an empty line between them.
pub fn text(t: &Transcript) -> String {
    let mut out = paragraphs(t).iter().map(|p| joined(p)).collect::<Vec<_>>().join("\n\n");
    if !out.is_empty() {
        out.push('\n');
    }
    out
}

/// Markdown (CommonMark): a title, what a reader should know, and paragraphs with their timecode.
pub fn markdown(t: &Transcript) -> String {
    let mut out = format!("# {}\n\n", marked(&t.source.name));
    let _ = writeln!(out, "Length {}, {} words.\n", t.source.duration_ms.short(), t.words().count());
    for note in &t.notes {
        let _ = writeln!(out, "> {}\n", marked(note));
    }
    for p in paragraphs(t) {
        let Some(first) = p.first() else { continue };
        let doubt = if first.doubtful { " *(doubtful)*" } else { "" };
        let _ = writeln!(out, "**{}**{doubt} {}\n", t.moment(first.start_ms), marked(&joined(&p)));
    }
    out
}

/// Signs that would mean something in Markdown stay signs.
fn marked(text: &str) -> String {
    text.chars().fold(String::new(), |mut out, c| {
        if matches!(c, '\\' | '`' | '*' | '_' | '[' | ']' | '<' | '>' | '#' | '|' | '~') {
            out.push('\\');
        }
        out.push(c);
        out
    })
}

/// A table of segments (RFC 4180): times from the start and as timecode, confidence, text.
pub fn csv(t: &Transcript) -> String {
    let mut out = String::from("number,start,end,timecode in,timecode out,confidence,doubtful,text\r\n");
    for (i, s) in t.segments.iter().enumerate() {
        let timecode = |at| t.source.timecode.as_ref().map_or(String::new(), |tc| tc.at(at));
        let _ = write!(
            out,
            "{},{},{},{},{},{},{},\"{}\"\r\n",
            i + 1,
            s.start_ms.clock('.'),
            s.end_ms.clock('.'),
            timecode(s.start_ms),
            timecode(s.end_ms),
            s.confidence.map_or(String::new(), |c| format!("{c:.3}")),
            if s.doubtful { "yes" } else { "no" },
            s.text.replace('"', "\"\"")
        );
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::transcript::{Ms, Source, Timecode, Word};
    use media::units::Ratio;

    fn transcript() -> Transcript {
        let segment = |start: i64, text: &str| Segment {
            start_ms: Ms(start),
            end_ms: Ms(start + 1000),
            text: text.into(),
            confidence: Some(0.5),
            doubtful: false,
            words: text.split(' ').map(|w| Word { text: w.into(), ..Word::default() }).collect(),
        };
        Transcript {
            source: Source {
                name: "hide_01.mov".into(),
                duration_ms: Ms(61_000),
                timecode: Some(Timecode {
                    start_frame: 25 * 3600,
                    rate: Ratio { num: 25, den: 1 },
                    frames_per_count: 25,
                    drop_frame: false,
                }),
            },
            segments: vec![
                segment(0, "They said \"go\"."),
                segment(1200, "So we went."),
                segment(9_960, "Later."),
            ],
            notes: vec!["unsure: *all*".into()],
            ..Transcript::default()
        }
    }

    #[test]
    fn paragraphs_at_pauses() {
        assert_eq!(text(&transcript()), "They said \"go\". So we went.\n\nLater.\n");
        assert_eq!(text(&Transcript::default()), "");
    }

    #[test]
    fn markdown_has_the_sources_timecode() {
        let md = markdown(&transcript());
        assert!(
            md.starts_with(
                "# hide\\_01.mov\n\nLength 1:01, 7 words.\n\n> unsure: \\*all\\*\n\n**01:00:00:00** They"
            ),
            "{md}"
        );
        assert!(md.contains("**01:00:09:24** Later."), "{md}");
    }

    #[test]
    fn tables_quote_their_text() {
        let rows: Vec<String> = csv(&transcript()).split("\r\n").map(String::from).collect();
        assert_eq!(
            rows[1],
            "1,00:00:00.000,00:00:01.000,01:00:00:00,01:00:01:00,0.500,no,\"They said \"\"go\"\".\""
        );
        assert_eq!(rows.len(), 5);
    }
}
