//! Search over as many words as a house hears in years.

use super::{Anyhow, Bench, figure, quiet, wall};
use porter::store::{Said, Store};
use std::process::Command;
use words::Transcript;
use words::transcript::{Ms, Segment, Source, Word};

/// Hours that the figure is for, and of how many each transcript is; words an hour as people speak.
const HOURS: u64 = 10_000;
const LONG: u64 = 20;
const WORDS: usize = 9_000;
/// Different words; the n-th is said 1/n as often as the first (Zipf), as in any language.
const VOCABULARY: usize = 40_000;

/// Numbers that look like chance and are always the same (Knuth's MMIX constants).
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 11) as f64 / (1u64 << 53) as f64
    }
}

fn vocabulary() -> Vec<String> {
    const PARTS: [&str; 40] = [
        "ba", "re", "lo", "ti", "su", "ma", "den", "kor", "vi", "sha", "no", "pel", "ga", "mi", "tor", "es",
        "wen", "hal", "di", "ru", "che", "bo", "lan", "fi", "ste", "ko", "ra", "mun", "ti", "os", "jel",
        "pa", "gri", "vo", "nus", "ha", "tri", "ke", "sol", "an",
    ];
    let mut all: Vec<String> = (0..VOCABULARY)
        .map(|mut n| {
            let mut word = String::new();
            while word.is_empty() || n > 0 {
                word += PARTS[n % 40];
                n /= 40;
            }
            word
        })
        .collect();
    for (place, word) in
        [(0, "the"), (1, "and"), (2, "of"), (300, "tide"), (800, "salt"), (1500, "marsh"), (30_000, "avocet")]
    {
        all[place] = word.into();
    }
    all
}

fn transcript(n: u64, chance: &mut Chance, vocabulary: &[String], upto: &[f64]) -> Transcript {
    let total = upto[upto.len() - 1];
    let mut at = 0;
    let mut segments = Vec::new();
    let mut left = WORDS * LONG as usize;
    while left > 0 {
        let many = (6 + (chance.next() * 18.0) as usize).min(left);
        left -= many;
        let mut words: Vec<Word> = (0..many)
            .map(|_| {
                let place = chance.next() * total;
                let rank = upto.partition_point(|&u| u < place).min(vocabulary.len() - 1);
                at += 400;
                let (start_ms, end_ms) = (Ms(at - 400), Ms(at - 50));
                Word { text: vocabulary[rank].clone(), start_ms, end_ms, ..Word::default() }
            })
            .collect();
        // Said as people say it, now and then.
        if chance.next() < 0.001 && many > 1 {
            (words[0].text, words[1].text) = ("salt".into(), "marsh".into());
        }
        words[many - 1].text.push('.');
        segments.extend(Segment::of(words, false));
        at += if chance.next() < 0.2 { 3000 } else { 300 };
    }
    let name = format!("day-{n}.mov");
    Transcript {
        source: Source { name, duration_ms: Ms(at), timecode: None },
        segments,
        ..Transcript::default()
    }
}

fn fill(said: &Said) -> Result<(), Anyhow> {
    let vocabulary = vocabulary();
    let mut sum = 0.0;
    let upto: Vec<f64> = (0..VOCABULARY)
        .map(|n| {
            sum += 1.0 / (n as f64 + 1.0);
            sum
        })
        .collect();
    let mut chance = Chance(7);
    for n in 0..HOURS / LONG {
        let t = transcript(n, &mut chance, &vocabulary, &upto);
        let watch = if n % 10 == 0 { "interviews" } else { "cards" };
        said.keep(n as i64 + 1, watch, n as i64, &[t])?;
    }
    Ok(())
}

/// The whole command, as it is typed, for words that are rare, common, begun, together and near each other.
pub fn search(b: &Bench) -> Result<(), Anyhow> {
    let house = b.dir.join("search");
    quiet(Command::new(&b.program).arg("init").arg(&house))?;
    let loaded = porter::config::House::load(&house)?;
    drop(Store::open(&loaded.store_file())?);
    let said = Said::open(&loaded.said_file(), &loaded.store_file())?;
    let start = std::time::Instant::now();
    fill(&said)?;
    drop(said);
    eprintln!(
        "{} words from {HOURS} hours kept in {:.0} s, {:.1} GB",
        HOURS * WORDS as u64,
        start.elapsed().as_secs_f64(),
        std::fs::metadata(loaded.said_file())?.len() as f64 / 1e9
    );
    let kinds: [(&str, &[&str]); 9] = [
        ("a rare word", &["avocet"]),
        ("a phrase", &["salt marsh"]),
        ("a word said in every passage", &["the"]),
        ("the beginning of a word", &["tid*"]),
        ("a letter that words begin with", &["s*"]),
        ("the beginning of the commonest word", &["the*"]),
        ("two words, near", &["tide", "marsh", "--near", "5"]),
        ("a phrase of the commonest words", &["and of the"]),
        ("a word, in one watch", &["tide", "--watch", "interviews"]),
    ];
    let mut slowest = ("", 0.0);
    for (what, words) in kinds {
        let find = || {
            let mut c = Command::new(&b.program);
            c.arg("find").args(words).arg("--house").arg(&house);
            c
        };
        let out = find().arg("--json").output()?;
        let hits = serde_json::from_slice::<serde_json::Value>(&out.stdout)?;
        if hits.as_array().is_none_or(Vec::is_empty) && hits["hits"].as_array().is_none_or(Vec::is_empty) {
            return Err(format!("{what} was not found: {hits}").into());
        }
        let ms = wall(|| quiet(&mut find()), 9)?;
        eprintln!("  {what}: {ms:.1} ms");
        if ms > slowest.1 {
            slowest = (what, ms);
        }
    }
    figure(&format!("find, 10,000 hours, slowest of 9 kinds: {}", slowest.0), slowest.1, "ms", 50.0, true);
    Ok(())
}
