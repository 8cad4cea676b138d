//! The reading page: one file with the player, the transcript beside it, and nothing to fetch. A click on a word goes
//! there; the word that is being said is marked; the text can be searched, copied with timecodes, and printed.

use crate::markup::quoted;
use crate::transcript::Transcript;
use crate::write::paragraphs;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use std::fmt::Write;

const SCRIPT: &str = include_str!("page.js");
const STYLE: &str = include_str!("page.css");

/// What the page plays.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Player {
    /// An address, or the media itself as a `data:` address.
    pub address: String,
    pub picture: bool,
}

impl Player {
    /// Media that becomes a part of the page. `kind` is its media type, `video/mp4`.
    pub fn inside(media: &[u8], kind: &str) -> Player {
        Player {
            address: format!("data:{kind};base64,{}", STANDARD.encode(media)),
            picture: kind.starts_with("video/"),
        }
    }
}

pub fn html(t: &Transcript, player: Option<&Player>) -> String {
    let t = &*t.for_readers();
    let mut out = format!(
        "<!doctype html>\n<html lang=\"{}\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width\">\n<title>{}</title>\n<style>\n{STYLE}</style>\n</head>\n<body>\n",
        quoted(&t.language),
        quoted(&t.source.name)
    );
    out += "<header>\n";
    let _ = writeln!(
        out,
        "<h1>{}</h1>\n<p class=\"about\">{}, {} words</p>",
        quoted(&t.source.name),
        t.source.duration_ms.short(),
        t.words().count()
    );
    if let Some(p) = player {
        let tag = if p.picture { "video" } else { "audio" };
        let _ = writeln!(
            out,
            "<{tag} id=\"player\" controls preload=\"auto\" src=\"{}\"></{tag}>",
            quoted(&p.address)
        );
    }
    out += "<div class=\"tools\"><input id=\"search\" type=\"search\" placeholder=\"Search the words\" aria-label=\"Search the words\"><button id=\"before\" title=\"The one before\">&uarr;</button><button id=\"next\" title=\"The next one\">&darr;</button><span id=\"count\" role=\"status\"></span><button id=\"copy\" title=\"What is selected, or all of it\">Copy with timecodes</button></div>\n";
    for note in &t.notes {
        let _ = writeln!(out, "<p class=\"note\">{}</p>", quoted(note));
    }
    out += "</header>\n<main id=\"words\">\n";
    for p in paragraphs(t) {
        let Some(first) = p.first() else { continue };
        let at = t.moment(first.start_ms);
        let doubt = if first.doubtful {
            " class=\"doubtful\" title=\"The recogniser was not sure here\""
        } else {
            ""
        };
        let _ = write!(
            out,
            "<p{doubt} data-at=\"{at}\"><a class=\"at\" data-ms=\"{}\">{at}</a>",
            first.start_ms.0
        );
        for w in p.iter().flat_map(|s| &s.words) {
            let heard =
                w.heard.as_ref().map_or(String::new(), |h| format!(" title=\"heard: {}\"", quoted(h)));
            let _ = write!(
                out,
                " <span data-ms=\"{}\" data-end=\"{}\"{heard}>{}</span>",
                w.start_ms.0,
                w.end_ms.0,
                quoted(&w.text)
            );
        }
        out += "</p>\n";
    }
    if t.segments.is_empty() {
        out += "<p class=\"note\">No words.</p>\n";
    }
    let _ = writeln!(out, "</main>\n<script>\n{SCRIPT}</script>\n</body>\n</html>");
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::transcript::{Ms, Segment, Source, Word};

    #[test]
    fn the_page_is_whole_and_holds_text_as_text() {
        let word = |text: &str, at| Word {
            text: text.into(),
            start_ms: Ms(at),
            end_ms: Ms(at + 200),
            ..Word::default()
        };
        let t = Transcript {
            source: Source { name: "a\"<b>.mov".into(), duration_ms: Ms(9000), timecode: None },
            segments: Segment::of(vec![word("Salt", 0), word("</script><x>", 400)], false)
                .into_iter()
                .collect(),
            ..Transcript::default()
        };
        let page = html(&t, Some(&Player::inside(b"abcd", "video/mp4")));
        assert!(
            page.contains("<title>a&quot;&lt;b&gt;.mov</title>") && page.contains("&lt;/script&gt;&lt;x&gt;"),
            "{page}"
        );
        assert!(page.contains(
            "<video id=\"player\" controls preload=\"auto\" src=\"data:video/mp4;base64,YWJjZA==\">"
        ));
        assert_eq!(page.matches("<script>").count(), 1);
        assert!(!page.contains("http"), "nothing is fetched");
        assert!(html(&Transcript::default(), None).contains("No words."));
    }
}
