//! Manifests of DASH (ISO/IEC 23009-1), of what lies in files: segments by a template, by a list, or a file for each stream.

use super::near::{folder_of, resolve};
use super::pieces::Piece;
use super::{Listed, Lists, MOST_PIECES, Near, Stream};
use crate::error::{Error, Result};
use roxmltree::{Document, Node, ParsingOptions};

const WHAT: &str = "a DASH manifest";

pub fn is(head: &[u8]) -> bool {
    let head = head.strip_prefix(b"\xef\xbb\xbf").unwrap_or(head);
    head.trim_ascii_start().starts_with(b"<") && head.windows(4).any(|w| w == b"<MPD")
}

/// One representation, with the elements that hold for it from the outside in: period, set, itself.
struct Choice<'a> {
    around: [Node<'a, 'a>; 3],
    bits: u64,
    /// Of the period, in seconds.
    length: Option<f64>,
}

pub fn read(text: &str, name: &str, _: &dyn Near) -> Result<Lists> {
    const MOST_PERIODS: usize = 1_000;
    let options = ParsingOptions { nodes_limit: 2_000_000, ..ParsingOptions::default() };
    let document = Document::parse_with_options(text, options).map_err(|e| {
        let at = e.pos();
        Error::damaged(WHAT, format!("it is no whole XML from line {}, column {} on", at.row, at.col))
    })?;
    let mpd = document.root_element();
    let periods: Vec<Node<'_, '_>> = elements(mpd, "Period").collect();
    if periods.len() > MOST_PERIODS {
        return Err(Error::limit(WHAT, format!("{} periods; up to {MOST_PERIODS}", periods.len())));
    }
    let all = (0..periods.len()).map(|n| of_period(mpd, &periods, n, folder_of(name)));
    let mut lists = all.collect::<Result<Lists>>()?;
    let Some(first) = lists.first_mut() else { return Err(Error::damaged(WHAT, "no period in it")) };
    if mpd.attribute("type") == Some("dynamic") {
        first.main.remarks.push("the manifest is of a broadcast that goes on: more may come".into());
    }
    Ok(lists)
}

/// The best pictures of a period, and the best sound.
fn of_period<'a>(mpd: Node<'a, 'a>, periods: &[Node<'a, 'a>], n: usize, folder: &str) -> Result<Listed> {
    let period = periods[n];
    let length = length_of(mpd, periods, n);
    let (mut pictures, mut sounds) = (Vec::new(), Vec::new());
    for set in elements(period, "AdaptationSet") {
        for one in elements(set, "Representation") {
            let said = |key: &str| one.attribute(key).or(set.attribute(key));
            let kind = said("contentType").or(said("mimeType")).unwrap_or_default();
            let bits = one.attribute("bandwidth").and_then(|b| b.parse().ok()).unwrap_or(0);
            let choice = Choice { around: [period, set, one], bits, length };
            match kind.split('/').next() {
                Some("video") => pictures.push(choice),
                Some("audio") => sounds.push(choice),
                _ => (),
            }
        }
    }
    let count = pictures.len();
    let best = |all: Vec<Choice<'_>>| -> Result<Option<Stream>> {
        let best = all.into_iter().rev().max_by_key(|c| c.bits);
        best.map(|c| c.stream(mpd, folder)).transpose()
    };
    let (main, sound) = (best(pictures)?, best(sounds)?);
    let (mut main, sound) = match (main, sound) {
        (Some(main), sound) => (main, sound),
        (None, Some(sound)) => (sound, None),
        (None, None) => return Err(Error::damaged(WHAT, "no pictures and no sound in it")),
    };
    if count > 1 {
        main.remarks.push(format!("the best of {count} streams of pictures"));
    }
    Ok(Listed { main, sound })
}

/// How long a period is, in seconds: as it says, or until the next one begins or all ends (5.3.2.1).
fn length_of<'a>(mpd: Node<'a, 'a>, periods: &[Node<'a, 'a>], n: usize) -> Option<f64> {
    let said = |node: Node<'a, 'a>, key| node.attribute(key).and_then(seconds);
    let own = said(periods[n], "duration");
    own.or_else(|| {
        let begins = said(periods[n], "start").or((n == 0).then_some(0.0));
        let ends = match periods.get(n + 1) {
            Some(next) => said(*next, "start"),
            None => said(mpd, "mediaPresentationDuration"),
        };
        Some(ends? - begins?).filter(|l| *l > 0.0)
    })
}

/// The elements of a name inside another, whatever their namespace.
fn elements<'a>(of: Node<'a, 'a>, name: &'static str) -> impl Iterator<Item = Node<'a, 'a>> {
    of.children().filter(move |n| n.is_element() && n.tag_name().name() == name)
}

/// `n-m`, both of them in it.
fn range(text: &str) -> Option<(u64, u64)> {
    let (from, to) = text.split_once('-')?;
    let (from, to): (u64, u64) = (from.parse().ok()?, to.parse().ok()?);
    Some((from, to.checked_sub(from)?.checked_add(1)?))
}

impl<'a> Choice<'a> {
    /// An attribute of this element of any level, the innermost first.
    fn said(&self, element: &'static str, key: &str) -> Option<&'a str> {
        self.around.iter().rev().flat_map(|n| elements(*n, element)).find_map(|e| e.attribute(key))
    }

    /// An element inside one of these.
    fn inside(&self, element: &'static str, name: &'static str) -> Option<Node<'a, 'a>> {
        self.around.iter().rev().flat_map(|n| elements(*n, element)).find_map(|e| elements(e, name).next())
    }

    fn stream(&self, mpd: Node<'a, 'a>, folder: &str) -> Result<Stream> {
        // Each level may lead on to another folder (5.6.4); what ends in no slash is the file itself.
        let mut base = folder.to_owned();
        let mut own = None;
        for level in [mpd].iter().chain(&self.around) {
            let Some(text) = elements(*level, "BaseURL").next().and_then(|b| b.text()) else { continue };
            let whole = resolve(&base, text.trim())?;
            base = folder_of(&whole).to_owned();
            own = (!text.trim().ends_with('/')).then_some(whole);
        }
        let has = |element| self.around.iter().any(|n| elements(*n, element).next().is_some());
        let pieces = if has("SegmentTemplate") {
            self.by_template(&base)?
        } else if has("SegmentList") {
            self.by_list(&base, own.as_deref())?
        } else {
            let name = own.ok_or_else(|| Error::damaged(WHAT, "a stream without a name of its file"))?;
            vec![Piece { name, range: None }]
        };
        Ok(Stream { pieces, remarks: Vec::new() })
    }

    fn by_list(&self, base: &str, own: Option<&str>) -> Result<Vec<Piece>> {
        let piece = |name: Option<&str>, part: Option<&str>| -> Result<Piece> {
            let name = match (name, own) {
                (Some(name), _) => resolve(base, name)?,
                (None, Some(own)) => own.to_owned(),
                _ => return Err(Error::damaged(WHAT, "a segment without a name")),
            };
            Ok(Piece { name, range: part.and_then(range) })
        };
        let mut pieces = Vec::new();
        if let Some(first) = self.inside("SegmentList", "Initialization") {
            pieces.push(piece(first.attribute("sourceURL"), first.attribute("range"))?);
        }
        let list = self.around.iter().rev().flat_map(|n| elements(*n, "SegmentList"));
        for segment in list.flat_map(|l| elements(l, "SegmentURL")).take(MOST_PIECES) {
            pieces.push(piece(segment.attribute("media"), segment.attribute("mediaRange"))?);
        }
        Ok(pieces)
    }

    fn by_template(&self, base: &str) -> Result<Vec<Piece>> {
        const TEMPLATE: &str = "SegmentTemplate";
        let number = |key| self.said(TEMPLATE, key).and_then(|n| n.parse::<u64>().ok());
        let fill = |template: &str, n: u64, time: u64| {
            let id = self.around[2].attribute("id").unwrap_or_default();
            resolve(base, &filled(template, id, self.bits, n, time))
        };
        let mut pieces = Vec::new();
        if let Some(first) = self.said(TEMPLATE, "initialization") {
            pieces.push(Piece { name: fill(first, 0, 0)?, range: None });
        }
        let media = self.said(TEMPLATE, "media");
        let media = media.ok_or_else(|| Error::damaged(WHAT, "a template that names no segments"))?;
        let (first, scale) = (number("startNumber").unwrap_or(1), number("timescale").unwrap_or(1).max(1));
        let length = self.length.map(|s| s * scale as f64);
        if let Some(timeline) = self.inside(TEMPLATE, "SegmentTimeline") {
            let (mut n, mut time) = (first, 0u64);
            for s in elements(timeline, "S") {
                let of = |key| s.attribute(key).and_then(|v| v.parse::<i64>().ok());
                time = of("t").and_then(|t| u64::try_from(t).ok()).unwrap_or(time);
                let each = of("d").and_then(|d| u64::try_from(d).ok()).unwrap_or(0);
                let again = match of("r").unwrap_or(0) {
                    r if r >= 0 => r as u64,
                    // Until the end of it all.
                    _ => length
                        .map_or(0, |l| ((l - time as f64) / each.max(1) as f64).ceil() as u64)
                        .saturating_sub(1),
                };
                for _ in 0..=again {
                    if pieces.len() > MOST_PIECES {
                        return Err(Error::limit(WHAT, format!("more than {MOST_PIECES} segments")));
                    }
                    pieces.push(Piece { name: fill(media, n, time)?, range: None });
                    (n, time) = (n.saturating_add(1), time.saturating_add(each));
                }
            }
            return Ok(pieces);
        }
        let each = number("duration").filter(|d| *d > 0);
        let (Some(each), Some(length)) = (each, length) else {
            return Err(Error::damaged(WHAT, "it does not say how many segments there are"));
        };
        // Rounding of what is stated makes no segment more.
        let count = ((length / each as f64) - 0.01).ceil().max(1.0) as usize;
        if count > MOST_PIECES {
            return Err(Error::limit(WHAT, format!("{count} segments; up to {MOST_PIECES}")));
        }
        for n in 0..count as u64 {
            pieces.push(Piece {
                name: fill(media, first.saturating_add(n), n.saturating_mul(each))?,
                range: None,
            });
        }
        Ok(pieces)
    }
}

/// A template with its words filled in (5.3.9.4.4).
fn filled(template: &str, id: &str, bits: u64, number: u64, time: u64) -> String {
    let mut out = String::new();
    let mut parts = template.split('$');
    out.push_str(parts.next().unwrap_or_default());
    while let Some(word) = parts.next() {
        let (name, width) = word.split_once("%0").unwrap_or((word, ""));
        let width = width.trim_end_matches('d').parse::<usize>().unwrap_or(1).min(20);
        match name {
            "" => out.push('$'),
            "RepresentationID" => out.push_str(id),
            "Number" => out.push_str(&format!("{number:0width$}")),
            "Bandwidth" => out.push_str(&format!("{bits:0width$}")),
            "Time" => out.push_str(&format!("{time:0width$}")),
            other => out.push_str(other),
        }
        out.push_str(parts.next().unwrap_or_default());
    }
    out
}

/// A length such as `PT1H2M3.5S` (XML Schema, duration; without months and years).
fn seconds(text: &str) -> Option<f64> {
    let (days, time) = text.strip_prefix('P')?.split_once('T')?;
    let mut all = days.strip_suffix('D').and_then(|d| d.parse().ok()).unwrap_or(0.0) * 86_400.0;
    let mut rest = time;
    for (unit, of) in [('H', 3600.0), ('M', 60.0), ('S', 1.0)] {
        if let Some((n, after)) = rest.split_once(unit) {
            all += n.parse::<f64>().ok()? * of;
            rest = after;
        }
    }
    (rest.is_empty() && all.is_finite()).then_some(all)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("PT1H2M3.5S", Some(3723.5))]
    #[case("P1DT2S", Some(86_402.0))]
    #[case("PT8.4S", Some(8.4))]
    #[case("8 s", None)]
    fn lengths(#[case] text: &str, #[case] want: Option<f64>) {
        assert_eq!(seconds(text), want);
    }

    #[test]
    fn templates_are_filled() {
        assert_eq!(filled("v$RepresentationID$/s-$Number%05d$.m4s", "7", 900, 12, 0), "v7/s-00012.m4s");
        assert_eq!(filled("$Bandwidth$-$Time$$$.m4s", "7", 900, 12, 48), "900-48$.m4s");
    }

    struct Nothing;
    impl Near for Nothing {
        fn open(&self, name: &str) -> Result<Box<dyn crate::container::Source>> {
            Err(Error::damaged(name, "not here"))
        }
        fn names(&self) -> Result<Vec<String>> {
            Ok(Vec::new())
        }
        fn state(&self, name: &str) -> Result<super::super::State> {
            Err(Error::damaged(name, "not here"))
        }
    }

    fn names(body: &str) -> Result<(Vec<String>, usize)> {
        let text = format!(
            r#"<?xml version="1.0"?><MPD xmlns="urn:mpeg:dash:schema:mpd:2011" mediaPresentationDuration="PT10S"><Period>{body}</Period></MPD>"#
        );
        assert!(is(text.as_bytes()));
        let [listed] = &read(&text, "manifest.mpd", &Nothing)?[..] else { panic!("one period") };
        let names = listed.main.pieces.iter().map(|p| p.name.clone()).collect();
        Ok((names, listed.sound.as_ref().map_or(0, |s| s.pieces.len())))
    }

    /// Each as long as it says, until the next, or until the end of all.
    #[test]
    fn periods_are_one_behind_the_other() {
        let set = r#"<AdaptationSet contentType="video"><SegmentTemplate media="$Number$" duration="2"/>
            <Representation id="v"/></AdaptationSet>"#;
        let text = format!(
            r#"<MPD mediaPresentationDuration="PT20S"><Period duration="PT4S">{set}</Period><Period start="PT4S">{set}</Period>
            <Period start="PT14S">{set}</Period></MPD>"#
        );
        let lists = read(&text, "m.mpd", &Nothing).unwrap();
        assert_eq!(lists.iter().map(|l| l.main.pieces.len()).collect::<Vec<_>>(), [2, 5, 3]);
    }

    #[test]
    fn segments_by_number_by_time_and_by_range() {
        let by_number = r#"<AdaptationSet contentType="video"><SegmentTemplate media="$RepresentationID$-$Number$.m4s"
            initialization="$RepresentationID$.mp4" duration="4000" timescale="1000" startNumber="3"/>
            <Representation id="low" bandwidth="100"/><Representation id="high" bandwidth="900"/></AdaptationSet>
            <AdaptationSet mimeType="audio/mp4"><BaseURL>sound/</BaseURL><Representation id="a" bandwidth="9">
            <BaseURL>a.mp4</BaseURL></Representation></AdaptationSet>"#;
        let want = ["high.mp4", "high-3.m4s", "high-4.m4s", "high-5.m4s"].map(String::from).to_vec();
        assert_eq!(names(by_number).unwrap(), (want, 1));
        let by_time = r#"<AdaptationSet mimeType="video/mp4"><Representation id="1"><SegmentTemplate media="t$Time$.m4s"
            timescale="10"><SegmentTimeline><S t="5" d="20" r="1"/><S d="30" r="-1"/></SegmentTimeline></SegmentTemplate>
            </Representation></AdaptationSet>"#;
        let want = ["t5.m4s", "t25.m4s", "t45.m4s", "t75.m4s"].map(String::from).to_vec();
        assert_eq!(names(by_time).unwrap(), (want, 0));
        let by_range = r#"<AdaptationSet mimeType="video/mp4"><Representation id="1"><BaseURL>v.mp4</BaseURL><SegmentList>
            <Initialization range="0-99"/><SegmentURL mediaRange="100-199"/></SegmentList></Representation></AdaptationSet>"#;
        assert_eq!(names(by_range).unwrap().0, ["v.mp4", "v.mp4"]);
        for (body, words) in [
            ("", "no pictures"),
            (
                r#"<AdaptationSet mimeType="video/mp4"><Representation id="1"><BaseURL>../v.mp4</BaseURL></Representation></AdaptationSet>"#,
                "does not lie in",
            ),
            (
                r#"<AdaptationSet mimeType="video/mp4"><Representation id="1"><SegmentTemplate media="a$Number$" duration="1" timescale="1000000"/></Representation></AdaptationSet>"#,
                "segments; up to",
            ),
        ] {
            let e = names(body).unwrap_err().to_string();
            assert!(e.contains(words), "{e}");
        }
    }
}
