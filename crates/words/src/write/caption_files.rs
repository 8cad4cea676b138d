//! SubRip, WebVTT and TTML from cues.

use crate::captions::Cue;
use crate::markup::{escaped, quoted};
use std::fmt::Write;

/// SubRip: no standard, but one habit. Numbers from 1, a comma before the milliseconds, an empty line behind.
pub fn srt(cues: &[Cue]) -> String {
    let mut out = String::new();
    for (i, c) in cues.iter().enumerate() {
        let _ = write!(out, "{}\n{} --> {}\n{}\n\n", i + 1, c.start.clock(','), c.end.clock(','), c.text());
    }
    out
}

/// WebVTT (W3C, 4.1); with `word_times`, each word but the first is preceded by its time (4.2.2).
pub fn vtt(cues: &[Cue], word_times: bool) -> String {
    let mut out = String::from("WEBVTT\n\n");
    for (i, c) in cues.iter().enumerate() {
        let _ = writeln!(out, "{}\n{} --> {}", i + 1, c.start.clock('.'), c.end.clock('.'));
        let mut n = 0;
        for line in &c.lines {
            for (j, word) in line.split(' ').enumerate() {
                let space = if j > 0 { " " } else { "" };
                // Only times inside the cue may stand in it, each later than the one before.
                let before = if n == 0 { c.start } else { c.words.get(n - 1).copied().unwrap_or(c.start) };
                match c.words.get(n).filter(|&&t| word_times && t > before && t < c.end) {
                    Some(t) => _ = write!(out, "{space}<{}>{}", t.clock('.'), escaped(word)),
                    None => _ = write!(out, "{space}{}", escaped(word)),
                }
                n += 1;
            }
            out.push('\n');
        }
        out.push('\n');
    }
    out
}

/// TTML in the text profile of IMSC 1.1 (W3C): one region at the bottom, times on the media's own line.
pub fn ttml(cues: &[Cue], language: &str) -> String {
    let mut out = format!(
        r#"<?xml version="1.0" encoding="UTF-8"?>
<tt xmlns="http://www.w3.org/ns/ttml" xmlns:ttp="http://www.w3.org/ns/ttml#parameter" xmlns:tts="http://www.w3.org/ns/ttml#styling" ttp:contentProfiles="http://www.w3.org/ns/ttml/profile/imsc1.1/text" ttp:timeBase="media" ttp:cellResolution="32 15" xml:lang="{}">
  <head>
    <styling>
      <style xml:id="words" tts:fontFamily="proportionalSansSerif" tts:fontSize="100%" tts:lineHeight="125%" tts:color="white" tts:backgroundColor="black" tts:textAlign="center"/>
    </styling>
    <layout>
      <region xml:id="below" tts:origin="10% 70%" tts:extent="80% 20%" tts:displayAlign="after" tts:showBackground="whenActive"/>
    </layout>
  </head>
  <body style="words" region="below">
    <div>
"#,
        quoted(language)
    );
    for (i, c) in cues.iter().enumerate() {
        let text = c.lines.iter().map(|l| escaped(l)).collect::<Vec<_>>().join("<br/>");
        let _ = writeln!(
            out,
            r#"      <p xml:id="c{}" begin="{}" end="{}">{text}</p>"#,
            i + 1,
            c.start.clock('.'),
            c.end.clock('.')
        );
    }
    out.push_str("    </div>\n  </body>\n</tt>\n");
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::captions::read::read;
    use crate::transcript::Ms;

    fn cues() -> Vec<Cue> {
        let cue = |start, end, lines: &[&str], words: &[i64]| Cue {
            start: Ms(start),
            end: Ms(end),
            lines: lines.iter().map(|l| (*l).to_owned()).collect(),
            words: words.iter().map(|&w| Ms(w)).collect(),
        };
        vec![
            cue(1234, 3000, &["Salt <& mud>", "a --> b"], &[1234, 1500, 1700, 2000, 2200, 2200]),
            cue(3_723_004, 3_725_000, &["\"end\""], &[3_723_004]),
        ]
    }

    #[test]
    fn what_is_written_reads_back() {
        for (name, file) in [
            ("SubRip", srt(&cues())),
            ("WebVTT", vtt(&cues(), false)),
            ("WebVTT", vtt(&cues(), true)),
            ("TTML", ttml(&cues(), "en")),
        ] {
            let back = read(file.as_bytes()).unwrap();
            assert_eq!(back.format, name);
            let plain: Vec<Cue> = cues().into_iter().map(|c| Cue { words: Vec::new(), ..c }).collect();
            if name == "SubRip" {
                // This format cannot say that a text is not a time line.
                continue;
            }
            assert_eq!(back.cues, plain, "{file}");
        }
        let timed = vtt(&cues(), true);
        assert!(
            timed.contains("Salt <00:00:01.500>&lt;&amp; <00:00:01.700>mud&gt;\n<00:00:02.000>a"),
            "{timed}"
        );
    }
}
