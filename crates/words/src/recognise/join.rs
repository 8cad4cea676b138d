//! Two windows heard the sound around a cut: each word there is kept once.

use super::align::Placed;

/// Words further apart than this many seconds are not the same one.
const SAME: f64 = 0.4;

fn plain(word: &str) -> String {
    word.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect()
}

/// Joins words before and behind a cut; all times count from one place. A word that both have is where they are
/// joined; if they share none, each keeps its own side of the cut.
pub fn join(before: &mut Vec<Placed>, mut after: Vec<Placed>, cut: f64) {
    let near = |w: &Placed| (w.start - cut).abs() < 2.0;
    let mut best: Option<(f64, usize, usize)> = None;
    for (i, a) in before.iter().enumerate().filter(|(_, w)| near(w)) {
        for (j, b) in after.iter().enumerate().filter(|(_, w)| near(w)) {
            let apart = (a.start - b.start).abs();
            if apart < SAME && plain(&a.text) == plain(&b.text) && !plain(&a.text).is_empty() {
                let rank = (a.start - cut).abs() + apart;
                if best.is_none_or(|(r, ..)| rank < r) {
                    best = Some((rank, i, j));
                }
            }
        }
    }
    match best {
        Some((_, i, j)) => {
            before.truncate(i + 1);
            after.drain(..=j);
        }
        None => {
            before.retain(|w| (w.start + w.end) / 2.0 < cut);
            after.retain(|w| (w.start + w.end) / 2.0 >= cut);
        }
    }
    if let (Some(last), Some(first)) = (before.last_mut(), after.first_mut()) {
        last.end = last.end.min(first.start).max(last.start);
        first.start = first.start.max(last.start);
    }
    before.extend(after);
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn words(list: &str) -> Vec<Placed> {
        let word = |w: &str| {
            let (text, at) = w.split_once('@').unwrap();
            let start: f64 = at.parse().unwrap();
            Placed { text: text.into(), start, end: start + 0.2, confidence: None }
        };
        list.split_whitespace().map(word).collect()
    }

    #[rstest]
    #[case("the@9 tide@9.5 came@10 in@10.4", "tide@9.4 Came@10.1 in,@10.5 late@11", "the tide came in late")]
    // A half word at each end is lost where the other heard it whole.
    #[case("the@9 tide@9.5 cam@10.2", "ide@9.6 came@10.2 in@10.6", "the tide came in")]
    #[case("one@9", "two@11", "one two")]
    #[case("", "two@11", "two")]
    #[case("one@9 one@9.4 one@9.8 one@10.2", "one@9.8 one@10.2 two@10.6", "one one one one two")]
    fn each_word_once(#[case] before: &str, #[case] after: &str, #[case] want: &str) {
        let mut got = words(before);
        join(&mut got, words(after), 10.0);
        let text: Vec<String> = got.iter().map(|w| plain(&w.text)).collect();
        assert_eq!(text.join(" "), want);
        assert!(got.windows(2).all(|p| p[0].end <= p[1].start));
    }
}
