//! Reads SubRip (SRT), WebVTT and TTML, in any encoding they come in. Which it is, the text itself says.

use super::Cue;
use crate::error::{Error, Result};
use crate::transcript::Ms;

/// A file of captions is at most this long.
pub const MAX_BYTES: usize = 64 << 20;

/// The text of a file: a byte order mark decides; without one it is UTF-8 if it can be, UTF-16 if every second byte
/// is 0, and otherwise Windows-1252, which older tools wrote.
pub fn text(bytes: &[u8]) -> String {
    use encoding_rs::{Encoding, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};
    let zeros = |odd: usize| {
        let part = &bytes[..bytes.len().min(200)];
        let all = part.iter().skip(odd).step_by(2).count();
        all > 2 && part.iter().skip(odd).step_by(2).filter(|&&b| b == 0).count() * 10 > all * 8
    };
    let encoding = match Encoding::for_bom(bytes) {
        Some((e, _)) => e,
        None if zeros(1) => UTF_16LE,
        None if zeros(0) => UTF_16BE,
        None if std::str::from_utf8(bytes).is_ok() => UTF_8,
        None => WINDOWS_1252,
    };
    encoding.decode(bytes).0.replace("\r\n", "\n").replace('\r', "\n")
}

/// What was read, and what had to be passed over.
#[derive(Debug, Default, PartialEq)]
pub struct Read {
    pub format: &'static str,
    pub cues: Vec<Cue>,
    pub notes: Vec<String>,
}

pub fn read(bytes: &[u8]) -> Result<Read> {
    if bytes.len() > MAX_BYTES {
        return Err(bad("captions", 1, format!("{} bytes; up to {MAX_BYTES} are read", bytes.len())));
    }
    let text = text(bytes);
    let start = text.trim_start();
    let mut read = if start.starts_with("WEBVTT") {
        blocks(&text, "WebVTT")?
    } else if start.starts_with('<') {
        ttml(&text)?
    } else if start.lines().take(50).any(|l| l.contains("-->")) {
        blocks(&text, "SubRip")?
    } else if start.is_empty() {
        return Err(bad("captions", 1, "the file is empty".into()));
    } else {
        return Err(bad("captions", 1, "this is neither SubRip (SRT), WebVTT nor TTML".into()));
    };
    if !read.cues.is_sorted_by_key(|c| c.start) {
        read.notes.push("the cues were not in order of time".into());
        read.cues.sort_by_key(|c| c.start);
    }
    Ok(read)
}

fn bad(format: &'static str, line: usize, why: String) -> Error {
    Error::Text { format, line, why }
}

/// `hh:mm:ss,mmm`, with hours left out or a point: what both formats and their careless writers use.
fn clock(s: &str) -> Option<Ms> {
    let mut parts = s.trim().rsplit(':');
    let seconds = parts.next()?.replace(',', ".");
    let (whole, fraction) = seconds.split_once('.').unwrap_or((&seconds, "0"));
    let number =
        |s: &str| (!s.is_empty() && s.len() < 9).then(|| s.parse::<i64>().ok()).flatten().filter(|&n| n >= 0);
    let mut ms =
        number(whole)? * 1000 + number(&format!("{fraction:0<3}").chars().take(3).collect::<String>())?;
    ms += number(parts.next()?)? * 60_000;
    if let Some(h) = parts.next() {
        ms += number(h)? * 3_600_000;
    }
    parts.next().is_none().then_some(Ms(ms))
}

/// SubRip and WebVTT: blocks with a line of times.
fn blocks(text: &str, format: &'static str) -> Result<Read> {
    let vtt = format == "WebVTT";
    let mut read = Read { format, ..Read::default() };
    let lines: Vec<&str> = text.trim_start_matches('\u{feff}').lines().collect();
    let mut i = 0;
    while i < lines.len() {
        // A comment or a style of WebVTT goes up to the next empty line.
        if vtt && ["NOTE", "STYLE", "REGION"].iter().any(|k| lines[i].starts_with(k)) {
            while i < lines.len() && !lines[i].trim().is_empty() {
                i += 1;
            }
            continue;
        }
        let Some((from, to)) = lines[i].split_once("-->") else {
            i += 1;
            continue;
        };
        // Settings follow the second time.
        let (start, end) = (clock(from), clock(to.split_whitespace().next().unwrap_or("")));
        let at = i + 1;
        i += 1;
        let mut body = Vec::new();
        while i < lines.len() && !lines[i].contains("-->") {
            if lines[i].trim().is_empty() {
                // SubRip's text may hold an empty line: it goes on unless a number and a time follow.
                let next = lines[i + 1..].iter().position(|l| !l.trim().is_empty()).map(|n| i + 1 + n);
                let ends = vtt
                    || next.is_none_or(|n| {
                        lines[n].contains("-->")
                            || lines[n].trim().parse::<u64>().is_ok()
                                && lines.get(n + 1).is_some_and(|l| l.contains("-->"))
                    });
                if ends {
                    break;
                }
                i += 1;
                continue;
            }
            body.push(plain(lines[i], vtt));
            i += 1;
        }
        // The number of the next cue stands right behind this one's text where the empty line was forgotten.
        if i < lines.len()
            && lines[i].contains("-->")
            && body.len() > 1
            && body.last().is_some_and(|l| l.parse::<u64>().is_ok())
        {
            body.pop();
        }
        let (Some(start), Some(end)) = (start, end) else {
            if read.cues.is_empty() && read.notes.len() > 20 {
                return Err(bad(format, at, "no time in it can be read".into()));
            }
            read.notes.push(format!(
                "line {at}: the times \"{}\" cannot be read; the cue was left out",
                lines[at - 1].trim()
            ));
            continue;
        };
        body.retain(|l| !l.is_empty());
        read.cues.push(Cue { start, end, lines: body, words: Vec::new() });
    }
    Ok(read)
}

/// A line without its tags, and with its characters as meant.
fn plain(line: &str, vtt: bool) -> String {
    let mut out = String::new();
    let mut rest = line;
    while let Some(c) = rest.chars().next() {
        if c == '<'
            && let Some(end) = rest.find('>')
            && rest[1..].starts_with(|c: char| c.is_alphanumeric() || c == '/')
        {
            rest = &rest[end + 1..];
            continue;
        }
        if c == '{'
            && rest.starts_with("{\\")
            && let Some(end) = rest.find('}')
        {
            rest = &rest[end + 1..];
            continue;
        }
        let named = [
            ("&amp;", "&"),
            ("&lt;", "<"),
            ("&gt;", ">"),
            ("&nbsp;", "\u{a0}"),
            ("&lrm;", ""),
            ("&rlm;", ""),
        ];
        if vtt && let Some((name, means)) = named.iter().find(|(n, _)| rest.starts_with(n)) {
            out.push_str(means);
            rest = &rest[name.len()..];
            continue;
        }
        out.push(c);
        rest = &rest[c.len_utf8()..];
    }
    out.trim().to_owned()
}

/// TTML (W3C TTML2, 8 and 12): the `p` elements with their times, those of the elements around them added.
fn ttml(text: &str) -> Result<Read> {
    const FORMAT: &str = "TTML";
    let options =
        roxmltree::ParsingOptions { allow_dtd: false, nodes_limit: 4_000_000, ..Default::default() };
    let doc = roxmltree::Document::parse_with_options(text.trim_start_matches('\u{feff}'), options)
        .map_err(|e| bad(FORMAT, e.pos().row as usize, e.to_string()))?;
    let root = doc.root_element();
    if root.tag_name().name() != "tt" {
        return Err(bad(FORMAT, 1, format!("its root is <{}>, not <tt>", root.tag_name().name())));
    }
    let parameter = |name: &str| root.attributes().find(|a| a.name() == name).map(|a| a.value());
    let whole: f64 = parameter("frameRate").and_then(|v| v.parse().ok()).unwrap_or(30.0);
    let multiplier = parameter("frameRateMultiplier")
        .and_then(|v| {
            let (a, b) = v.split_once(' ')?;
            Some(a.parse::<f64>().ok()? / b.parse::<f64>().ok()?)
        })
        .unwrap_or(1.0);
    let frames = Some(whole * multiplier).filter(|f| f.is_finite() && *f > 0.0).unwrap_or(30.0);
    let ticks: f64 = parameter("tickRate").and_then(|v| v.parse().ok()).filter(|t| *t > 0.0).unwrap_or(1.0);
    let time = |s: &str| offset(s, frames, ticks);
    let mut read = Read { format: FORMAT, ..Read::default() };
    for p in root.descendants().filter(|n| n.is_element() && n.tag_name().name() == "p") {
        let line = doc.text_pos_at(p.range().start).row;
        // What stands around it moves it.
        let around: i64 = p
            .ancestors()
            .skip(1)
            .filter_map(|a| a.attribute("begin").and_then(time))
            .map(|t| t.0)
            .fold(0, i64::saturating_add);
        let begin = p.attribute("begin").and_then(time);
        let end = p.attribute("end").and_then(time);
        let length = p.attribute("dur").and_then(time);
        let (Some(begin), Some(end)) = (begin, end.or_else(|| Some(begin? + length?))) else {
            if p.descendants().any(|d| d.is_text() && d.text().is_some_and(|t| !t.trim().is_empty())) {
                read.notes.push(format!("line {line}: a paragraph without readable times was left out"));
            }
            continue;
        };
        let mut text = String::new();
        for d in p.descendants() {
            if d.is_element() && d.tag_name().name() == "br" {
                text.push('\n');
            } else if d.is_text() {
                // White space is one space, as XML in this format means it.
                let t = d.text().unwrap_or("");
                let words = t.split_whitespace().collect::<Vec<_>>().join(" ");
                let lead =
                    t.starts_with(char::is_whitespace) && !text.is_empty() && !text.ends_with([' ', '\n']);
                text.push_str(if lead { " " } else { "" });
                text.push_str(&words);
                if t.ends_with(char::is_whitespace) && !words.is_empty() {
                    text.push(' ');
                }
            }
        }
        let lines = text.lines().map(|l| l.trim().to_owned()).filter(|l| !l.is_empty()).collect();
        let at = |t: Ms| Ms(t.0.saturating_add(around));
        read.cues.push(Cue { start: at(begin), end: at(end), lines, words: Vec::new() });
    }
    Ok(read)
}

/// A time expression (TTML2, 12.3.1): a clock with a fraction or frames, or a number with its unit.
fn offset(s: &str, frames: f64, ticks: f64) -> Option<Ms> {
    let s = s.trim();
    let ms = |seconds: f64| {
        (seconds.is_finite() && (0.0..1e9).contains(&seconds)).then(|| Ms::from_seconds(seconds))
    };
    if s.contains(':') {
        let parts: Vec<&str> = s.split(':').collect();
        let n = |i: usize| parts[i].parse::<f64>().ok();
        let mut seconds =
            n(0)? * 3600.0 + parts.get(1)?.parse::<f64>().ok()? * 60.0 + parts.get(2)?.parse::<f64>().ok()?;
        if let Some(f) = parts.get(3) {
            seconds += f.parse::<f64>().ok()? / frames;
        }
        return ms(seconds);
    }
    let unit = s.find(|c: char| c.is_ascii_alphabetic())?;
    let n: f64 = s[..unit].parse().ok()?;
    ms(match &s[unit..] {
        "h" => n * 3600.0,
        "m" => n * 60.0,
        "s" => n,
        "ms" => n / 1000.0,
        "f" => n / frames,
        "t" => n / ticks,
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn list(r: &Read) -> Vec<(i64, i64, String)> {
        r.cues.iter().map(|c| (c.start.0, c.end.0, c.lines.join("|"))).collect()
    }

    #[rstest]
    #[case(
        "1\n00:00:01,500 --> 00:00:03,000\n<i>Salt</i> & mud\nand sky\n\n2\n00:00:04,000 --> 00:00:05,000\nTwo\n"
    )]
    #[case(
        "1\r\n00:00:01,500 --> 00:00:03,000\r\n{\\an8}Salt & mud\r\nand sky\r\n2\r\n00:00:04.000 --> 00:00:05.000\r\nTwo"
    )]
    #[case(
        "WEBVTT - x\n\nSTYLE\n::cue{}\n\nNOTE a --> b\n\nid\n00:01.500 --> 00:03.000 line:0\n<v Ann>Salt &amp; mud\nand <00:02.000><c>sky</c>\n\n00:04.000 --> 00:00:05.000\nTwo\n"
    )]
    #[case("<tt xmlns='http://www.w3.org/ns/ttml' xmlns:ttp='http://www.w3.org/ns/ttml#parameter' ttp:frameRate='25'><body><div begin='1s'>
        <p begin='500ms' end='00:00:02.000'>Salt <span>&amp;</span> mud<br/>and sky</p><p begin='00:00:03:00' dur='25f'>Two</p></div></body></tt>")]
    fn the_same_cues_from_every_format(#[case] file: &str) {
        let want = vec![(1500, 3000, "Salt & mud|and sky".to_owned()), (4000, 5000, "Two".to_owned())];
        let utf16 = |big: bool| {
            let unit = |u: u16| if big { u.to_be_bytes() } else { u.to_le_bytes() };
            file.encode_utf16().flat_map(unit).collect::<Vec<u8>>()
        };
        let marked = [&[0xef, 0xbb, 0xbf][..], file.as_bytes()].concat();
        for bytes in [file.as_bytes().to_vec(), marked, utf16(false), utf16(true)] {
            let got = read(&bytes).unwrap();
            assert_eq!((list(&got), &got.notes[..]), (want.clone(), &[][..]), "{}", got.format);
        }
    }

    #[test]
    fn old_encodings_and_careless_files() {
        let mut bytes = b"7\n00:00:01,0 --> 00:00:02,25\nCaf".to_vec();
        bytes.extend([0xe9, b' ', 0x93, b'x', 0x94]);
        bytes.extend(b"\n\n8\nabc --> def\nlost\n\n9\n00:00:00,100 --> 00:00:00,900\nfirst\n\nsecond\n");
        let got = read(&bytes).unwrap();
        assert_eq!(
            list(&got),
            [(100, 900, "first|second".into()), (1000, 2250, "Caf\u{e9} \u{201c}x\u{201d}".into())]
        );
        assert_eq!(got.notes.len(), 2, "{:?}", got.notes);
    }

    #[rstest]
    #[case(b"", "empty")]
    #[case(b"hello", "neither")]
    #[case(b"<html/>", "not <tt>")]
    #[case(b"<tt><p", "TTML, line 1")]
    #[case(b"<!DOCTYPE tt [<!ENTITY a 'b'>]><tt/>", "TTML")]
    fn what_is_no_caption_file_is_refused(#[case] bytes: &[u8], #[case] why: &str) {
        let e = read(bytes).unwrap_err().to_string();
        assert!(e.contains(why), "{e}");
    }

    #[test]
    fn any_bytes_do_no_harm() {
        let seeds: [&[u8]; 3] = [
            b"1\n00:00:01,500 --> 00:00:03,000\nx\n",
            b"WEBVTT\n\n00:01.0 --> 9:99:99.9\n<c",
            b"<tt><p begin='1h' end=':'>a<br/></p></tt>",
        ];
        let mut s = 7u32;
        let mut dice = || {
            s = s.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (s >> 16) as usize
        };
        for _ in 0..3000 {
            let mut bytes = seeds[dice() % 3].to_vec();
            for _ in 0..1 + dice() % 6 {
                let i = dice() % bytes.len();
                bytes[i] = dice() as u8;
            }
            let _ = read(&bytes);
        }
    }
}
