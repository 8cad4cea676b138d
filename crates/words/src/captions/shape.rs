//! Words to cues. Every way of cutting a run of words into cues has a cost, and the cheapest is taken: cuts belong
//! at the ends of sentences and phrases and at pauses, cues should be neither orphans nor crammed.

use super::{Cue, Style};
use crate::transcript::{Ms, Word};

/// A pause that a cue never bridges.
const PAUSE: i64 = 2000;
/// A cue may stay this long behind its last word, if nothing follows.
const STAY: i64 = 1000;

/// What a sentence that ends within a line costs, and how much of a cut's cost a break between lines has.
const WITHIN: f64 = 15.0;
const BREAK: f64 = 0.4;

/// Words that belong to what follows them: a line should not end with one.
const LEADING: [&str; 40] = [
    "a", "an", "the", "and", "or", "but", "of", "to", "in", "on", "at", "by", "for", "with", "from", "as",
    "that", "which", "who", "if", "when", "because", "so", "my", "your", "his", "her", "its", "our", "their",
    "this", "these", "those", "is", "are", "was", "were", "be", "not", "very",
];

fn ends_sentence(word: &Word) -> bool {
    let text = word.text.trim_end_matches(['"', '\'', ')', '\u{201d}', '\u{2019}']);
    text.ends_with(['.', '?', '!', '…'])
}

/// What cutting behind this word costs.
fn cut_cost(word: &Word, next: Option<&Word>) -> f64 {
    let Some(next) = next else { return 0.0 };
    let text = word.text.trim_end_matches(['"', '\'', ')', '\u{201d}', '\u{2019}']);
    let pause = (next.start_ms - word.end_ms).0 as f64 / 1000.0;
    let base = if ends_sentence(word) {
        0.0
    } else if text.ends_with([',', ';', ':']) {
        8.0
    } else {
        let plain = text.to_lowercase();
        if LEADING.contains(&plain.as_str()) {
            40.0
        } else if LEADING.contains(&next.text.to_lowercase().as_str()) {
            14.0
        } else {
            20.0
        }
    };
    2.0 * (base - (pause * 20.0).min(base * 0.7))
}

/// The lines of some words and what reading them so costs, or `None` if they do not fit. The best break is at a phrase,
/// with the lines alike.
fn lines(words: &[Word], style: &Style) -> Option<(f64, Vec<String>)> {
    let lengths: Vec<usize> = words.iter().map(|w| w.text.chars().count()).collect();
    let length = |a: usize, b: usize| lengths[a..b].iter().sum::<usize>() + (b - a).saturating_sub(1);
    let text = |a: usize, b: usize| words[a..b].iter().map(|w| w.text.as_str()).collect::<Vec<_>>().join(" ");
    let n = words.len();
    // A sentence that ends within a line is read as if it went on.
    let within = |a: usize, b: usize| {
        words[a..b].iter().rev().skip(1).filter(|w| ends_sentence(w)).count() as f64 * WITHIN
    };
    if length(0, n) <= style.line {
        return Some((within(0, n), vec![text(0, n)]));
    }
    // Cheapest way to set the words from `a` in at most `left` lines.
    fn best(
        a: usize,
        n: usize,
        left: usize,
        words: &[Word],
        style: &Style,
        length: &dyn Fn(usize, usize) -> usize,
    ) -> Option<(f64, Vec<usize>)> {
        // Lines that are alike cost least.
        let uneven = |length: usize| ((style.line - length) as f64).powi(2) / style.line as f64;
        if length(a, n) <= style.line {
            return Some((uneven(length(a, n)), vec![n]));
        }
        if left <= 1 {
            return None;
        }
        let mut found: Option<(f64, Vec<usize>)> = None;
        for b in a + 1..n {
            if length(a, b) > style.line {
                break;
            }
            let Some((cost, mut ends)) = best(b, n, left - 1, words, style, length) else { continue };
            let cost = cost + cut_cost(&words[b - 1], Some(&words[b])) + uneven(length(a, b));
            if found.as_ref().is_none_or(|f| cost < f.0) {
                ends.insert(0, b);
                found = Some((cost, ends));
            }
        }
        found
    }
    let (_, ends) = best(0, n, style.lines, words, style, &length)?;
    let (mut from, mut cost, mut out) = (0, 0.0, Vec::new());
    for to in ends {
        cost += within(from, to) + BREAK * cut_cost(&words[to - 1], words.get(to));
        out.push(text(from, to));
        from = to;
    }
    Some((cost, out))
}

/// Cues for words in order, in this style.
pub fn shape<'a>(words: impl IntoIterator<Item = &'a Word>, style: &Style) -> Vec<Cue> {
    let words: Vec<Word> = words.into_iter().flat_map(|w| fitting(w, style.line)).collect();
    let mut cues = Vec::new();
    let mut from = 0;
    for i in 1..=words.len() {
        let ends = i == words.len() || (words[i].start_ms - words[i - 1].end_ms).0 >= PAUSE;
        if ends {
            run(&words[from..i], style, &mut cues);
            from = i;
        }
    }
    stretch(&mut cues, style);
    cues
}

/// A word that is longer than a line, in pieces.
fn fitting(word: &Word, line: usize) -> Vec<Word> {
    let chars: Vec<char> = word.text.chars().collect();
    if chars.len() <= line {
        return vec![word.clone()];
    }
    let at = |n: usize| word.start_ms + Ms((word.end_ms - word.start_ms).0 * n as i64 / chars.len() as i64);
    let piece = |(i, c): (usize, &[char])| Word {
        text: c.iter().collect(),
        start_ms: at(i * line),
        end_ms: at(i * line + c.len()),
        ..word.clone()
    };
    chars.chunks(line).enumerate().map(piece).collect()
}

/// One run of words without a long pause.
fn run(words: &[Word], style: &Style, cues: &mut Vec<Cue>) {
    let n = words.len();
    // Cheapest cost of the words up to here, and where its last cue begins.
    let mut best: Vec<(f64, usize)> = vec![(f64::INFINITY, 0); n + 1];
    best[0].0 = 0.0;
    let most = style.line * style.lines + style.lines;
    for end in 1..=n {
        let mut characters = 0;
        for start in (0..end).rev() {
            characters += words[start].text.chars().count() + 1;
            let time = (words[end - 1].end_ms - words[start].start_ms).0;
            if characters > most || time > style.longest && start + 1 < end {
                break;
            }
            let Some((unclear, _)) = lines(&words[start..end], style) else { continue };
            let orphan = if end - start == 1 && n > 1 { 30.0 } else { 0.0 };
            let short = if time < style.shortest { 12.0 } else { 0.0 };
            let empty = (most - characters) as f64 / most as f64 * 12.0;
            let until =
                words.get(end).map_or(words[end - 1].end_ms + Ms(STAY), |w| w.start_ms - Ms(style.gap));
            let room = (until - words[start].start_ms).0;
            let fast = (style.reading(characters.saturating_sub(1)).0 - room).max(0) as f64 / 100.0;
            let cost = best[start].0
                + 4.0
                + orphan
                + short
                + empty
                + fast
                + unclear
                + cut_cost(&words[end - 1], words.get(end));
            if cost < best[end].0 {
                best[end] = (cost, start);
            }
        }
    }
    let first = cues.len();
    let mut end = n;
    while end > 0 {
        let start = best[end].1;
        let part = &words[start..end];
        cues.push(Cue {
            start: part[0].start_ms,
            end: part[part.len() - 1].end_ms,
            lines: lines(part, style).map_or_else(|| vec![part[0].text.clone()], |l| l.1),
            words: part.iter().map(|w| w.start_ms).collect(),
        });
        end = start;
    }
    cues[first..].reverse();
}

/// Gives each cue the time to be read, as far as the next leaves room, and keeps the gap between them.
fn stretch(cues: &mut [Cue], style: &Style) {
    for i in 0..cues.len() {
        let next = cues.get(i + 1).map(|c| c.start);
        let cue = &mut cues[i];
        let wanted = style.reading(cue.characters()).0.max(style.shortest);
        let mut end =
            cue.end.max(cue.start + Ms(wanted)).min(cue.end.max(cue.start + Ms(style.shortest)) + Ms(STAY));
        end = end.min((cue.start + Ms(style.longest)).max(Ms(0)));
        if let Some(next) = next {
            end = end.min(next - Ms(style.gap));
        }
        // Words that follow each other at once leave no gap; a cue is never shorter than its gap.
        cue.end = end.max(cue.start + Ms(1));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::captions::check;

    fn words(text: &str, each: i64) -> Vec<Word> {
        let mut at = 0;
        let mut out = Vec::new();
        for w in text.split_whitespace() {
            if let Some(pause) = w.strip_prefix('#') {
                at += pause.parse::<i64>().unwrap();
                continue;
            }
            let (start, end) = (Ms(at), Ms(at + each - 20));
            out.push(Word { text: w.into(), start_ms: start, end_ms: end, confidence: None, heard: None });
            at += each;
        }
        out
    }

    const TALE: &str = "The tide comes in twice a day, and with it come the birds. You can hear them long before you \
        see them; they settle on the mud below the old sluice. #3000 In winter, when the wind is in the north, nobody \
        walks out to the point. #400 Yes. We count them from the hide.";

    #[test]
    fn cues_hold_to_their_style_and_lose_no_word() {
        for (line, lines) in [(42, 2), (32, 2), (37, 1)] {
            let style = Style { line, lines, ..Style::default() };
            let words = words(TALE, 330);
            let cues = shape(&words, &style);
            let said: Vec<String> = cues
                .iter()
                .flat_map(|c| c.lines.join(" ").split(' ').map(String::from).collect::<Vec<_>>())
                .collect();
            let want: Vec<&str> = words.iter().map(|w| w.text.as_str()).collect();
            assert_eq!(said, want);
            assert_eq!(check(&cues, &style), [], "{cues:#?}");
            assert!(cues.iter().all(|c| c.lines.join(" ").contains(' ')), "an orphan: {cues:#?}");
        }
    }

    #[test]
    fn cuts_are_at_phrases() {
        let cues = shape(&words(TALE, 330), &Style::default());
        let ends: Vec<String> = cues.iter().map(|c| c.lines.last().unwrap().clone()).collect();
        assert!(ends.iter().all(|e| e.ends_with(['.', ',', ';'])), "{ends:?}");
        // No line ends with a word that leads to the next.
        for line in cues.iter().flat_map(|c| &c.lines) {
            let last = line.rsplit(' ').next().unwrap().to_lowercase();
            assert!(!LEADING.contains(&last.as_str()), "{line}");
        }
    }

    #[test]
    fn a_sentence_ends_with_its_line() {
        let said = "The birds came back when we let the reeds grow. The tide floods the mud twice a day.";
        let lines: Vec<Vec<String>> =
            shape(&words(said, 300), &Style::default()).into_iter().map(|c| c.lines).collect();
        assert_eq!(
            lines,
            [
                vec!["The birds came back", "when we let the reeds grow."],
                vec!["The tide floods the mud twice a day."]
            ]
        );
    }

    #[test]
    fn fast_speech_and_long_words_still_become_cues() {
        let style = Style::default();
        let cues = shape(&words(&format!("{} end", "x".repeat(100)), 50), &style);
        assert!(cues.iter().flat_map(|c| &c.lines).all(|l| l.chars().count() <= 42), "{cues:?}");
        assert!(cues.windows(2).all(|p| p[0].end <= p[1].start));
        assert_eq!(shape(&[], &style), []);
    }
}
