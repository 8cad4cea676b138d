//! Word error rate: how far a transcript is from what was said.
//!
//! Both texts are brought to one form first: lower case; numbers in digits spelled out in English (up to 999,999;
//! "1810" as "one thousand eight hundred ten"); hyphens and dashes part words; all other marks but the apostrophe
//! inside a word are dropped. Then the fewest words that must be changed, left out or put in are counted, over the
//! number of words in the reference.

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Score {
    pub errors: usize,
    pub words: usize,
}

impl Score {
    pub fn rate(self) -> f64 {
        self.errors as f64 / self.words.max(1) as f64
    }
}

impl std::ops::Add for Score {
    type Output = Score;
    fn add(self, o: Score) -> Score {
        Score { errors: self.errors + o.errors, words: self.words + o.words }
    }
}

pub fn score(reference: &str, heard: &str) -> Score {
    let (reference, heard) = (normal(reference), normal(heard));
    let mut row: Vec<usize> = (0..=heard.len()).collect();
    for (i, r) in reference.iter().enumerate() {
        let mut corner = row[0];
        row[0] = i + 1;
        for (j, h) in heard.iter().enumerate() {
            let change = corner + usize::from(r != h);
            corner = row[j + 1];
            row[j + 1] = change.min(corner + 1).min(row[j] + 1);
        }
    }
    Score { errors: row[heard.len()], words: reference.len() }
}

/// The words of a text in one form.
pub fn normal(text: &str) -> Vec<String> {
    let apart = text.to_lowercase().replace(['-', '–', '—', '/'], " ");
    let mut out = Vec::new();
    for word in apart.split_whitespace() {
        let plain: String = word.chars().filter(|c| c.is_alphanumeric() || matches!(c, '\'' | '’')).collect();
        let plain = plain.replace('’', "'");
        let plain = plain.trim_matches('\'');
        match plain.parse::<u32>() {
            Ok(n) if n < 1_000_000 => out.extend(spelled(n).split(' ').map(String::from)),
            _ if plain.is_empty() => (),
            _ => out.push(plain.to_owned()),
        }
    }
    out
}

fn spelled(n: u32) -> String {
    const ONES: [&str; 20] = [
        "zero",
        "one",
        "two",
        "three",
        "four",
        "five",
        "six",
        "seven",
        "eight",
        "nine",
        "ten",
        "eleven",
        "twelve",
        "thirteen",
        "fourteen",
        "fifteen",
        "sixteen",
        "seventeen",
        "eighteen",
        "nineteen",
    ];
    const TENS: [&str; 10] =
        ["", "", "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety"];
    let with = |head: String, rest: u32| if rest == 0 { head } else { format!("{head} {}", spelled(rest)) };
    match n {
        0..20 => ONES[n as usize].into(),
        20..100 => with(TENS[n as usize / 10].into(), n % 10),
        100..1000 => with(format!("{} hundred", ONES[n as usize / 100]), n % 100),
        _ => with(format!("{} thousand", spelled(n / 1000)), n % 1000),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(
        "He wasn't ill-disposed, in 1810.",
        "he WASN’T ill disposed in one thousand eight hundred ten",
        0,
        10
    )]
    #[case("the tide comes in", "the tide in", 1, 4)]
    #[case("the tide", "and the tides", 2, 2)]
    #[case("42 birds", "forty two birds", 0, 3)]
    #[case("", "two words", 2, 0)]
    fn errors_are_counted(
        #[case] said: &str,
        #[case] heard: &str,
        #[case] errors: usize,
        #[case] words: usize,
    ) {
        assert_eq!(score(said, heard), Score { errors, words });
    }
}
