//! A summary made of sentences that were said: ranked and chosen, never written anew. Every line has its time, so that
//! it can be checked.
//!
//! Sentences are ranked by the words that the whole comes back to (Luhn, "The automatic creation of literature
//! abstracts", 1958), each chosen one lowering the worth of what resembles it (maximal marginal relevance). Actions and
//! questions are found by how they are said, names by their capitals, links, dates and numbers by their form.

use crate::markup::quoted;
use crate::transcript::{Ms, Transcript, Word};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap, HashSet};

pub const VERSION: u32 = 1;

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Summary {
    pub version: u32,
    /// Name of the recording.
    pub source: String,
    pub duration_ms: Ms,
    /// How it was made, for whoever reads it.
    pub method: String,
    /// The words that the recording comes back to; the file's name where it comes back to none.
    pub title: String,
    /// A few sentences, in the order in which they were said.
    pub summary: Vec<Line>,
    pub points: Vec<Line>,
    pub actions: Vec<Line>,
    pub questions: Vec<Line>,
    pub names: Vec<Name>,
    pub references: Vec<Reference>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

/// A sentence as it was said.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Line {
    pub at_ms: Ms,
    /// The source's timecode, or the time from its start.
    pub at: String,
    pub text: String,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum NameKind {
    Person,
    Place,
    /// It cannot be told which.
    Other,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Name {
    pub name: String,
    pub kind: NameKind,
    pub times: usize,
    /// Where it is said first.
    pub at_ms: Ms,
    pub at: String,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum ReferenceKind {
    Link,
    Date,
    Number,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Reference {
    pub kind: ReferenceKind,
    pub text: String,
    pub at_ms: Ms,
    pub at: String,
}

const MOST_SUMMARY: usize = 3;
const MOST_POINTS: usize = 7;
const MOST_LISTED: usize = 20;
/// Sentences of fewer words say too little by themselves.
const LEAST_WORDS: usize = 5;

const METHOD: &str = "Made of sentences from the transcript, chosen by rules on this machine; nothing was written anew. Check what matters against the recording.";

/// Words that say nothing of what a text is about.
const COMMON: &str = "a about above after again all also am an and any are as at back be because been before being \
    but by can come comes could did do does doing don't down each even every few first for from get gets go goes going \
    good got had has have he her here hers him his how i i'd i'll i'm i've if in into is it it's its just know like \
    little long look made make makes many may me might more most much must my never no not now of off oh ok okay on \
    once one only or other our out over own people put quite rather really right said same say see she should so some \
    something still such take than that that's the their them then there these they they're thing things think this \
    those three through time to too two under until up us very want was way we we'll we're we've well were what when \
    where which while who will with would yeah year years yes yet you you're your";

/// How people say that something is to be done.
const ACTIONS: [&str; 22] = [
    "we need to",
    "we must",
    "we should",
    "we have to",
    "you need to",
    "you should",
    "you must",
    "i will",
    "i'll",
    "let's",
    "let us",
    "please",
    "make sure",
    "don't forget",
    "remember to",
    "we're going to",
    "has to be",
    "needs to be",
    "must be",
    "can you",
    "could you",
    "by tomorrow",
];

const MONTHS: [&str; 12] = [
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
];
const DAYS: [&str; 9] =
    ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday", "tomorrow", "yesterday"];

struct Sentence<'a> {
    words: Vec<&'a Word>,
    text: String,
    /// Words that count, without their endings.
    stems: Vec<String>,
}

fn plain(word: &str) -> String {
    let word = word.to_lowercase().replace('\u{2019}', "'");
    word.trim_matches(|c: char| !c.is_alphanumeric()).to_owned()
}

/// Without the endings of number and tense, roughly.
fn stem(word: &str) -> String {
    let word = word.strip_suffix("'s").unwrap_or(word);
    for (end, put) in [("ies", "y"), ("sses", "ss"), ("ing", ""), ("ed", ""), ("es", "e"), ("s", "")] {
        if let Some(s) = word.strip_suffix(end)
            && s.chars().count() >= 3
            && !(end == "s" && s.ends_with(['s', 'u', 'i']))
        {
            return format!("{s}{put}");
        }
    }
    word.to_owned()
}

pub fn summarise(t: &Transcript) -> Summary {
    let shown = t.for_readers();
    let common: HashSet<&str> = COMMON.split_whitespace().collect();
    let sentences = sentences(&shown, &common);
    let line = |s: &Sentence<'_>| Line {
        at_ms: s.words[0].start_ms,
        at: shown.moment(s.words[0].start_ms),
        text: s.text.clone(),
    };
    let mut often: HashMap<&str, f64> = HashMap::new();
    for s in sentences.iter().flat_map(|s| &s.stems) {
        *often.entry(s).or_default() += 1.0;
    }
    let chosen = choose(&sentences, &often, MOST_POINTS);
    let in_order = |n: usize| {
        let mut part: Vec<usize> = chosen.iter().copied().take(n).collect();
        part.sort_unstable();
        part.into_iter().map(|i| line(&sentences[i])).collect::<Vec<Line>>()
    };
    let listed = |want: &dyn Fn(&Sentence<'_>) -> bool| {
        sentences.iter().filter(|s| want(s)).take(MOST_LISTED).map(line).collect::<Vec<Line>>()
    };
    let mut notes = t.notes.clone();
    if sentences.is_empty() {
        notes.push("there is nothing to summarise".into());
    }
    Summary {
        version: VERSION,
        source: t.source.name.clone(),
        duration_ms: t.source.duration_ms,
        method: METHOD.into(),
        title: title(&sentences, &common).unwrap_or_else(|| t.source.stem().to_owned()),
        summary: in_order(MOST_SUMMARY),
        points: in_order(MOST_POINTS),
        actions: listed(&|s| is_action(&s.text)),
        questions: listed(&|s| s.text.ends_with('?') && s.words.len() >= 3),
        names: names(&sentences, &shown, &common),
        references: references(&shown),
        notes,
    }
}

fn sentences<'a>(t: &'a Transcript, common: &HashSet<&str>) -> Vec<Sentence<'a>> {
    let mut out = Vec::new();
    let mut open: Vec<&Word> = Vec::new();
    let all: Vec<&Word> = t.words().collect();
    for (i, w) in all.iter().enumerate() {
        open.push(w);
        let pause = all.get(i + 1).map_or(i64::MAX, |n| (n.start_ms - w.end_ms).0);
        if w.text.trim_end_matches(['"', '\u{201d}', ')']).ends_with(['.', '?', '!', '…']) || pause > 2500 {
            let words = std::mem::take(&mut open);
            let text = words.iter().map(|w| w.text.as_str()).collect::<Vec<_>>().join(" ");
            let stems = words
                .iter()
                .map(|w| plain(&w.text))
                .filter(|w| w.chars().count() > 2 && !common.contains(w.as_str()))
                .map(|w| stem(&w))
                .collect();
            out.push(Sentence { words, text, stems });
        }
    }
    out
}

/// The best sentences, best first: what the whole comes back to, without saying the same twice.
fn choose(sentences: &[Sentence<'_>], often: &HashMap<&str, f64>, most: usize) -> Vec<usize> {
    let worth = |s: &Sentence<'_>| {
        let sum: f64 = s.stems.iter().map(|w| often[w.as_str()].ln_1p()).sum();
        sum / (s.words.len() as f64 + 4.0).powf(0.6)
    };
    let mut left: Vec<(usize, f64)> = sentences
        .iter()
        .enumerate()
        .filter(|(_, s)| s.words.len() >= LEAST_WORDS && !s.text.ends_with('?'))
        .map(|(i, s)| (i, worth(s)))
        .collect();
    let mut out: Vec<usize> = Vec::new();
    while out.len() < most && !left.is_empty() {
        let alike = |i: usize| {
            let of: HashSet<&String> = sentences[i].stems.iter().collect();
            let shared = |j: &usize| {
                let other: HashSet<&String> = sentences[*j].stems.iter().collect();
                of.intersection(&other).count() as f64 / of.union(&other).count().max(1) as f64
            };
            out.iter().map(shared).fold(0.0, f64::max)
        };
        let best = left
            .iter()
            .enumerate()
            .map(|(n, &(i, w))| (n, w * (1.0 - alike(i))))
            .max_by(|a, b| a.1.total_cmp(&b.1).then(b.0.cmp(&a.0)));
        match best {
            Some((n, w)) if w > 0.0 => out.push(left.remove(n).0),
            _ => break,
        }
    }
    out
}

/// The pair of words, or the words, that are said most often.
fn title(sentences: &[Sentence<'_>], common: &HashSet<&str>) -> Option<String> {
    let telling =
        |w: &str| w.chars().count() > 2 && !common.contains(w) && !w.chars().all(|c| c.is_ascii_digit());
    let mut pairs: BTreeMap<String, usize> = BTreeMap::new();
    let mut single: BTreeMap<String, (usize, String)> = BTreeMap::new();
    for s in sentences {
        let words: Vec<String> = s.words.iter().flat_map(|w| w.text.split_whitespace()).map(plain).collect();
        for w in words.iter().filter(|w| telling(w)) {
            let entry = single.entry(stem(w)).or_insert((0, w.clone()));
            entry.0 += 1;
        }
        for p in words.windows(2).filter(|p| telling(&p[0]) && telling(&p[1])) {
            *pairs.entry(p.join(" ")).or_default() += 1;
        }
    }
    let first = |text: &str| {
        let mut c = text.chars();
        c.next().map(|f| f.to_uppercase().collect::<String>() + c.as_str())
    };
    if let Some((pair, n)) = pairs.iter().max_by_key(|(_, n)| **n)
        && *n >= 3
    {
        return first(pair);
    }
    let mut ranked: Vec<&(usize, String)> = single.values().filter(|s| s.0 >= 2).collect();
    ranked.sort_by(|a, b| b.0.cmp(&a.0).then(a.1.cmp(&b.1)));
    let words: Vec<&str> = ranked.iter().take(3).map(|s| s.1.as_str()).collect();
    first(&words.join(", "))
}

fn is_action(text: &str) -> bool {
    let text = format!(" {} ", text.to_lowercase().replace('\u{2019}', "'"));
    !text.trim_end().ends_with('?') && ACTIONS.iter().any(|a| text.contains(&format!(" {a} ")))
}

/// Words with a capital that does not begin a sentence, and those that follow each other.
fn names(sentences: &[Sentence<'_>], t: &Transcript, common: &HashSet<&str>) -> Vec<Name> {
    const TITLES: [&str; 7] = ["mr", "mrs", "ms", "miss", "dr", "professor", "sir"];
    const PLACES: [&str; 8] = ["in", "at", "from", "near", "to", "towards", "across", "outside"];
    let capital = |w: &str| {
        let bare = w.trim_matches(|c: char| !c.is_alphanumeric());
        bare.chars().next().is_some_and(char::is_uppercase) && bare.chars().any(char::is_lowercase)
    };
    let mut found: BTreeMap<String, (usize, Ms, [usize; 2])> = BTreeMap::new();
    for s in sentences {
        let mut i = 1;
        while i < s.words.len() {
            let start = i;
            while i < s.words.len() && capital(&s.words[i].text) {
                i += 1;
                if s.words[i - 1].text.ends_with([',', '.', ';', ':']) {
                    break;
                }
            }
            if i == start {
                i += 1;
                continue;
            }
            let said: Vec<String> = s.words[start..i].iter().map(|w| w.text.clone()).collect();
            let name = said.join(" ");
            let name = name.trim_matches(|c: char| !c.is_alphanumeric()).trim_end_matches("'s").to_owned();
            let small = plain(&name);
            let known = common.contains(small.as_str())
                || MONTHS.contains(&small.as_str())
                || DAYS.contains(&small.as_str())
                || TITLES.contains(&small.as_str());
            if known {
                continue;
            }
            let before = plain(&s.words[start - 1].text);
            let after = s.words.get(i).map(|w| plain(&w.text)).unwrap_or_default();
            let titled = TITLES.contains(&before.as_str())
                || TITLES.contains(&plain(&said[0]).as_str())
                || ["said", "says", "told", "asked", "thinks"].contains(&after.as_str());
            let entry = found.entry(name).or_insert((0, s.words[start].start_ms, [0, 0]));
            entry.0 += 1;
            entry.2[0] += usize::from(titled);
            entry.2[1] += usize::from(PLACES.contains(&before.as_str()));
        }
    }
    let mut out: Vec<Name> = found
        .into_iter()
        .map(|(name, (times, at_ms, [person, place]))| {
            let kind = match (person, place) {
                (p, q) if p > q => NameKind::Person,
                (p, q) if q > p => NameKind::Place,
                _ => NameKind::Other,
            };
            Name { name, kind, times, at_ms, at: t.moment(at_ms) }
        })
        .collect();
    out.sort_by(|a, b| b.times.cmp(&a.times).then(a.at_ms.cmp(&b.at_ms)));
    out.truncate(MOST_LISTED * 2);
    out
}

fn references(t: &Transcript) -> Vec<Reference> {
    let words: Vec<&Word> = t.words().collect();
    let mut out = Vec::new();
    let mut i = 0;
    while i < words.len() {
        let bare = |n: usize| words.get(n).map_or(String::new(), |w| plain(&w.text));
        let number = |s: &str| s.starts_with(|c: char| c.is_ascii_digit());
        let word = bare(i);
        let month = MONTHS.contains(&word.as_str())
            && (word != "may" || number(&bare(i + 1)) || i > 0 && number(&bare(i - 1)));
        let (kind, from, to) = if word.contains("://") || word.starts_with("www.") || linked(&word) {
            (ReferenceKind::Link, i, i + 1)
        } else if month {
            // The day before or behind it, and the year.
            let from = if i > 0 && number(&bare(i - 1)) { i - 1 } else { i };
            let mut to = i + 1;
            while to < words.len() && to < i + 3 && number(&bare(to)) {
                to += 1;
            }
            (ReferenceKind::Date, from, to)
        } else if DAYS.contains(&word.as_str()) {
            (ReferenceKind::Date, i, i + 1)
        } else if number(&word) && !MONTHS.contains(&bare(i + 1).as_str()) {
            let year = word.len() == 4 && (word.starts_with("19") || word.starts_with("20"));
            // What is counted stands behind the number.
            let counted = bare(i + 1);
            let with = !year
                && !counted.is_empty()
                && !number(&counted)
                && !words[i].text.ends_with([',', '.', '?', '!', ';']);
            (if year { ReferenceKind::Date } else { ReferenceKind::Number }, i, i + 1 + usize::from(with))
        } else {
            i += 1;
            continue;
        };
        let text = words[from..to].iter().map(|w| w.text.as_str()).collect::<Vec<_>>().join(" ");
        let at_ms = words[from].start_ms;
        out.push(Reference {
            kind,
            text: text
                .trim_matches(|c: char| matches!(c, ',' | '.' | '?' | '!' | ';' | ':' | '"'))
                .to_owned(),
            at_ms,
            at: t.moment(at_ms),
        });
        i = to;
    }
    out.truncate(MOST_LISTED * 2);
    out
}

/// `estuaryhours.example`: a name with a point in it that is no number.
fn linked(word: &str) -> bool {
    word.rsplit_once('.').is_some_and(|(name, end)| {
        name.chars().count() > 1
            && end.len() >= 2
            && end.chars().all(|c| c.is_ascii_lowercase())
            && !name.chars().all(|c| c.is_ascii_digit())
    })
}

/// One page that stands in a mail: no scripts, no files beside it.
pub fn html(s: &Summary) -> String {
    let text = quoted;
    let time = |at: &str| {
        format!("<span style=\"color:#666;font-family:monospace;white-space:nowrap\">{}</span>", text(at))
    };
    let mut out = format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>{0}</title></head>\n<body style=\"font-family:sans-serif;line-height:1.5;max-width:44em;margin:2em auto;padding:0 1em;color:#222;background:#fff\">\n<h1 style=\"font-size:1.5em;margin-bottom:0\">{0}</h1>\n<p style=\"margin-top:0.3em;color:#666\">{1}, {2}</p>\n",
        text(&s.title),
        text(&s.source),
        s.duration_ms.short()
    );
    if !s.summary.is_empty() {
        let all: Vec<String> = s.summary.iter().map(|l| text(&l.text)).collect();
        out += &format!("<p>{}</p>\n", all.join(" "));
    }
    let mut section = |name: &str, rows: Vec<(String, String)>| {
        if rows.is_empty() {
            return;
        }
        out += &format!(
            "<h2 style=\"font-size:1.1em;margin:1.4em 0 0.3em\">{name}</h2>\n<table style=\"border-collapse:collapse\">\n"
        );
        for (at, what) in rows {
            out += &format!(
                "<tr><td style=\"vertical-align:top;padding:0.15em 1em 0.15em 0\">{at}</td><td style=\"padding:0.15em 0\">{what}</td></tr>\n"
            );
        }
        out += "</table>\n";
    };
    let lines = |l: &[Line]| l.iter().map(|l| (time(&l.at), text(&l.text))).collect();
    // Where all was said above, it is not said again.
    if s.points.len() > s.summary.len() {
        section("Main points", lines(&s.points));
    }
    section("To do", lines(&s.actions));
    section("Questions", lines(&s.questions));
    let kind = |k: NameKind| match k {
        NameKind::Person => " (person)",
        NameKind::Place => " (place)",
        NameKind::Other => "",
    };
    let named = |n: &Name| {
        let times = if n.times > 1 { format!(", {} times", n.times) } else { String::new() };
        (time(&n.at), format!("{}{}{times}", text(&n.name), kind(n.kind)))
    };
    section("Names", s.names.iter().map(named).collect());
    section("Links, dates and numbers", s.references.iter().map(|r| (time(&r.at), text(&r.text))).collect());
    let notes: String = s.notes.iter().map(|n| format!("<br>{}", text(n))).collect();
    out += &format!(
        "<p style=\"margin-top:2em;color:#666;font-size:0.85em\">{}{notes}</p>\n</body></html>\n",
        text(&s.method)
    );
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::transcript::{Segment, Source};

    const TALK: &str = "The salt marsh floods twice a day. In winter the salt marsh is full of birds, said Mr Penhallow. \
        We need to mend the hide before Friday. The warden counts the birds on the salt marsh every week. \
        How many avocets came to Avocet Point in 1998? I had soup. There were 240 pairs, and 12 March was the best day. \
        Please send it to estuaryhours.example. My uncle lives in Dunmere. Birds like the mud at Avocet Point.";

    fn talk() -> Transcript {
        let words = TALK.split_whitespace().enumerate().map(|(i, w)| Word {
            text: w.into(),
            start_ms: Ms(i as i64 * 300),
            end_ms: Ms(i as i64 * 300 + 250),
            confidence: Some(1.0),
            heard: None,
        });
        Transcript {
            source: Source { name: "warden.mov".into(), duration_ms: Ms(30_000), timecode: None },
            segments: Segment::of(words.collect(), false).into_iter().collect(),
            ..Transcript::default()
        }
    }

    #[test]
    fn what_was_said_is_sorted_out() {
        let s = summarise(&talk());
        assert_eq!(s.title, "Salt marsh");
        assert!(s.summary.iter().all(|l| TALK.contains(&l.text)), "extractive: {:?}", s.summary);
        assert!(s.summary.iter().any(|l| l.text.contains("warden counts the birds")), "{:?}", s.summary);
        assert!(s.summary.is_sorted_by_key(|l| l.at_ms) && !s.points.iter().any(|l| l.text == "I had soup."));
        let texts = |l: &[Line]| l.iter().map(|l| l.text.clone()).collect::<Vec<_>>();
        assert_eq!(
            texts(&s.actions),
            ["We need to mend the hide before Friday.", "Please send it to estuaryhours.example."]
        );
        assert_eq!(texts(&s.questions), ["How many avocets came to Avocet Point in 1998?"]);
        let named = |n: &str| {
            s.names.iter().find(|x| x.name.contains(n)).unwrap_or_else(|| panic!("{n}: {:?}", s.names))
        };
        assert_eq!((named("Avocet Point").kind, named("Avocet Point").times), (NameKind::Place, 2));
        assert_eq!((named("Penhallow").kind, named("Dunmere").kind), (NameKind::Person, NameKind::Place));
        let refs: Vec<&str> = s.references.iter().map(|r| r.text.as_str()).collect();
        assert_eq!(refs, ["Friday", "1998", "240 pairs", "12 March", "estuaryhours.example"]);
        assert_eq!(s.questions[0].at, "00:00:11");
    }

    #[test]
    fn nothing_said_is_no_summary() {
        let s = summarise(&Transcript {
            source: Source { name: "a.b.wav".into(), ..Source::default() },
            ..Transcript::default()
        });
        assert_eq!((s.title.as_str(), s.summary.len()), ("a.b", 0));
        assert!(html(&s).contains("nothing to summarise"));
    }

    #[test]
    fn the_page_holds_what_it_was_given_as_text() {
        let mut t = talk();
        t.source.name = "<script>alert(1)</script>.mov".into();
        let page = html(&summarise(&t));
        assert!(!page.contains("<script") && page.contains("&lt;script&gt;"), "{page}");
        assert!(page.contains("Main points") && page.contains("To do") && page.contains("Questions"));
    }
}
