//! The house's word list: names, places and terms that the recogniser cannot know. Words that are nearly one of
//! them get its spelling; what was heard is kept beside it.

use crate::transcript::{Segment, Transcript, Word};

pub struct Terms {
    /// As written, and in plain form.
    list: Vec<(String, String)>,
}

/// Words of a term, at most.
const MAX_WORDS: usize = 4;

impl Terms {
    pub fn new(terms: &[String]) -> Terms {
        let list = terms.iter().map(|t| (t.trim().to_owned(), plain(t)));
        Terms { list: list.filter(|t| !t.1.is_empty()).collect() }
    }

    pub fn apply(&self, transcript: &mut Transcript) {
        if self.list.is_empty() {
            return;
        }
        for s in &mut transcript.segments {
            let words = std::mem::take(&mut s.words);
            let doubtful = s.doubtful;
            if let Some(new) = Segment::of(self.words(words), doubtful) {
                *s = Segment { start_ms: s.start_ms, end_ms: s.end_ms, ..new };
            }
        }
    }

    fn words(&self, words: Vec<Word>) -> Vec<Word> {
        let mut out = Vec::new();
        let mut rest = words.as_slice();
        while !rest.is_empty() {
            // The longest run of words that is nearly a term.
            let found = (1..=MAX_WORDS.min(rest.len())).rev().find_map(|n| {
                let heard: String = rest[..n].iter().map(|w| plain(&w.text)).collect();
                Some((n, self.nearest(&heard, n)?))
            });
            let Some((n, term)) = found else {
                out.push(rest[0].clone());
                rest = &rest[1..];
                continue;
            };
            let heard = rest[..n].iter().map(|w| w.text.as_str()).collect::<Vec<_>>().join(" ");
            let last = &rest[n - 1];
            let text = format!("{}{}{}", before(&rest[0].text), term, behind(&last.text));
            let same = text == heard;
            let least = |a: Option<f32>, b: Option<f32>| Some(a?.min(b?));
            out.push(Word {
                text,
                start_ms: rest[0].start_ms,
                end_ms: last.end_ms,
                confidence: rest[..n].iter().map(|w| w.confidence).reduce(least).flatten(),
                heard: (!same).then_some(heard),
            });
            rest = &rest[n..];
        }
        out
    }

    /// A term that sounds and is spelt nearly so. Short words must fit exactly: too many are near to others.
    fn nearest(&self, heard: &str, words: usize) -> Option<&str> {
        let length = heard.chars().count();
        let near = |term: &str| match length.min(term.chars().count()) {
            0..=4 => 0,
            5..=7 => 1,
            8..=11 => 2,
            _ => 3,
        };
        let known =
            |t: &&(String, String)| t.0.split_whitespace().count() >= words || t.1.chars().count() >= 5;
        self.list
            .iter()
            .filter(known)
            .map(|t| (distance(heard, &t.1), t))
            .filter(|(d, t)| *d <= near(&t.1) && (*d == 0 || sounds(heard) == sounds(&t.1)))
            .min_by_key(|(d, _)| *d)
            .map(|(_, t)| t.0.as_str())
    }
}

fn plain(text: &str) -> String {
    text.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect()
}

/// Marks in front of and behind a word's letters.
fn before(text: &str) -> &str {
    &text[..text.find(char::is_alphanumeric).unwrap_or(0)]
}
fn behind(text: &str) -> &str {
    text.rfind(char::is_alphanumeric).map_or("", |i| {
        let end = i + text[i..].chars().next().map_or(0, char::len_utf8);
        &text[end..]
    })
}

/// Letters to change, leave out or put in (Levenshtein's distance).
fn distance(a: &str, b: &str) -> usize {
    let b: Vec<char> = b.chars().collect();
    let mut row: Vec<usize> = (0..=b.len()).collect();
    for (i, ca) in a.chars().enumerate() {
        let mut corner = row[0];
        row[0] = i + 1;
        for (j, cb) in b.iter().enumerate() {
            let change = corner + usize::from(ca != *cb);
            corner = row[j + 1];
            row[j + 1] = change.min(corner + 1).min(row[j] + 1);
        }
    }
    row[b.len()]
}

/// A rough key of how a word sounds in English: consonants by kind, repeated ones once, vowels left out behind the
/// first letter.
fn sounds(word: &str) -> String {
    let simple =
        word.replace("ph", "f").replace("ck", "k").replace("gh", "").replace("wh", "w").replace("kn", "n");
    let mut out = String::new();
    for (i, c) in simple.chars().enumerate() {
        let kind = match c {
            'a' | 'e' | 'i' | 'o' | 'u' | 'y' if i == 0 => 'a',
            'a' | 'e' | 'i' | 'o' | 'u' | 'y' | 'h' => continue,
            'w' if i > 0 => continue,
            'c' | 'k' | 'q' | 'x' => 'k',
            's' | 'z' => 's',
            'f' | 'v' => 'f',
            'd' | 't' => 't',
            'b' | 'p' => 'p',
            'g' | 'j' => 'g',
            'm' | 'n' => 'n',
            c => c,
        };
        if !out.ends_with(kind) {
            out.push(kind);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::transcript::Ms;
    use rstest::rstest;

    #[rstest]
    #[case("Salt Marsh pictures made it.", "Saltmarsh Pictures made it.")]
    #[case("the salt marsh at Avacet point,", "the salt marsh at Avocet Point,")]
    #[case("a warden, (Wardin Nan)", "a warden, (Wardin Nan)")]
    #[case("we met Mister Penhallo.", "we met Mister Penhallow.")]
    #[case("an heron", "an heron")]
    fn near_words_get_the_houses_spelling(#[case] said: &str, #[case] want: &str) {
        let terms = ["Saltmarsh Pictures", "Avocet Point", "Penhallow", "Ann"].map(String::from);
        let words = said.split(' ').enumerate().map(|(i, w)| Word {
            text: w.into(),
            start_ms: Ms(i as i64),
            end_ms: Ms(i as i64 + 1),
            confidence: Some(0.9),
            heard: None,
        });
        let got = Terms::new(&terms).words(words.collect());
        assert_eq!(got.iter().map(|w| w.text.as_str()).collect::<Vec<_>>().join(" "), want);
        let heard: Vec<String> = got.iter().map(|w| w.heard.clone().unwrap_or(w.text.clone())).collect();
        assert_eq!(heard.join(" "), said);
        assert_eq!(got.last().unwrap().end_ms, Ms(said.split(' ').count() as i64));
    }

    #[test]
    fn distances() {
        assert_eq!((distance("kitten", "sitting"), distance("", "abc"), distance("abc", "abc")), (3, 3, 0));
        assert_eq!(sounds("avacet"), sounds("avocet"));
        assert_ne!(sounds("marsh"), sounds("harsh"));
    }
}
