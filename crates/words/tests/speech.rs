//! The recogniser on real clips, against what the model's own folder says it must give.

use serde_json::Value;
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicBool;
use std::sync::{LazyLock, OnceLock};
use words::Model;
use words::model::Files;
use words::recognise::assemble::Heard;
use words::recognise::engine::{self, Effort, Settings};
use words::recognise::greedy::{self, Sound};
use words::score::{Score, normal, score};

fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../models/speech-en")
}

fn model() -> &'static Model {
    static MODEL: OnceLock<Model> = OnceLock::new();
    MODEL.get_or_init(|| Model::load(Files::in_folder(&folder()).unwrap()).unwrap())
}

static EXPECTED: LazyLock<Value> = LazyLock::new(|| {
    serde_json::from_slice(&std::fs::read(folder().join("samples/expected.json")).unwrap()).unwrap()
});

fn clip(name: &str) -> Vec<f32> {
    let wav = std::fs::read(folder().join("samples").join(name)).unwrap();
    wav[44..].chunks_exact(2).map(|b| f32::from(i16::from_le_bytes([b[0], b[1]])) / 32768.0).collect()
}

fn hear(sound: &[f32], threads: usize) -> Heard {
    let mut pieces = sound.chunks(7000).map(<[f32]>::to_vec);
    let settings = Settings { threads, effort: Effort::Careful };
    engine::recognise(model(), &settings, || Ok(pieces.next()), |_| (), &AtomicBool::new(false)).unwrap()
}

fn text(h: &Heard) -> String {
    h.segments.iter().map(|s| s.text.as_str()).collect::<Vec<_>>().join(" ")
}

#[test]
fn regression_values_hold() {
    for (name, want) in EXPECTED.as_object().unwrap() {
        let sound = clip(name);
        assert_eq!(sound.len() as u64, want["samples"].as_u64().unwrap());
        let rows = greedy::encoded(model(), &sound);
        assert_eq!(rows.len() as u64, want["frames"].as_u64().unwrap());
        for (row, key) in [(rows[0], "encoder_frame0_first4"), (rows[rows.len() - 1], "encoder_last_first4")]
        {
            for (got, want) in row.iter().zip(want[key].as_array().unwrap()) {
                assert!(
                    (f64::from(*got) - want.as_f64().unwrap()).abs() < 1e-3,
                    "{name} {key}: {got} {want}"
                );
            }
        }
        let tokens = greedy::decode(model(), &[Sound { samples: &sound, speech: true }]).remove(0);
        let ids: Vec<u64> = tokens.ids.iter().map(|&t| t.into()).chain([2]).collect();
        let wanted: Vec<u64> =
            want["tokens"].as_array().unwrap().iter().map(|v| v.as_u64().unwrap()).collect();
        assert_eq!(ids, wanted, "{name}");
        let mean = want["mean_logprob"].as_f64().unwrap();
        assert!((f64::from(tokens.mean_log()) - mean).abs() < 2e-3, "{name}: {} {mean}", tokens.mean_log());
        let words = words::recognise::align::words(&tokens, &model().vocabulary, &sound);
        for (got, want) in words.iter().zip(want["words"].as_array().unwrap()) {
            assert_eq!(got.text, want[0].as_str().unwrap());
            assert!((got.start - want[1].as_f64().unwrap()).abs() < 0.03, "{got:?} {want}");
        }
    }
}

#[test]
fn a_recording_gives_the_words_of_its_clips() {
    let names = ["austen-0880.wav", "austen-0890.wav", "austen-0930.wav"];
    let mut sound = vec![0.0; 9000];
    for name in names.iter().cycle().take(7) {
        sound.extend(clip(name));
        sound.extend(vec![0.0; 16_000]);
    }
    let one = hear(&sound, 1);
    println!("{}", text(&one));
    assert_eq!(one, hear(&sound, 3), "the number of threads must not matter");
    let said = text(&one).to_lowercase();
    assert_eq!(said.matches("selfish").count(), 2, "{said}");
    assert_eq!(said.matches("amiable himself").count(), 2, "{said}");
    assert_eq!(said.matches("young man").count(), 3, "{said}");
}

fn fixture(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures").join(name)
}

fn file(bytes: Vec<u8>) -> words::Transcript {
    let source = Box::new(std::io::Cursor::new(bytes));
    let options = words::transcribe::Options { threads: 2, ..Default::default() };
    words::transcribe(model(), source, "clip", &options, |_, _| (), &AtomicBool::new(false)).unwrap()
}

/// At most three words in a hundred of the real clips, by the scorer that says how it counts.
#[test]
fn real_speech_is_heard_right() {
    let mut all = Score::default();
    for name in EXPECTED.as_object().unwrap().keys() {
        let path = folder().join("samples").join(name);
        let said = std::fs::read_to_string(path.with_extension("txt")).unwrap();
        all = all + score(&said, &file(std::fs::read(&path).unwrap()).text());
    }
    println!("{all:?}");
    assert!(all.words == 30 && all.rate() <= 0.03, "{all:?}");
}

/// Words that were put in their places one by one: how far off the times are.
#[test]
fn words_are_timed() {
    let truth: Vec<(String, f64, f64)> =
        serde_json::from_slice(&std::fs::read(fixture("spliced.json")).unwrap()).unwrap();
    let heard = file(std::fs::read(fixture("spliced.flac")).unwrap());
    let heard: Vec<(String, f64)> =
        heard.words().map(|w| (normal(&w.text).join(""), w.start_ms.seconds())).collect();
    // Each true word, if a word of that spelling is near.
    let mut off: Vec<f64> = truth
        .iter()
        .filter_map(|(word, start, _)| {
            let same = heard.iter().filter(|h| h.0 == *word && (h.1 - start).abs() < 0.5);
            same.map(|h| (h.1 - start).abs()).min_by(f64::total_cmp)
        })
        .collect();
    off.sort_by(f64::total_cmp);
    let mean = off.iter().sum::<f64>() / off.len() as f64;
    let most = off[off.len() * 95 / 100];
    println!("{} of {} words, {mean:.3} s off, 95 % within {most:.3} s", off.len(), truth.len());
    assert!(off.len() * 10 >= truth.len() * 6, "{} of {}", off.len(), truth.len());
    assert!(mean <= 0.040 && most <= 0.120, "{mean} {most}");
}

/// Ten minutes in which nobody speaks.
#[test]
fn nothing_is_invented() {
    let mut dice = 7u32;
    let mut noise = move || {
        dice = dice.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (dice >> 8) as f32 / (1 << 23) as f32 - 1.0
    };
    let minute = 60 * 16_000;
    let wave = |f: f32, i: usize| (i as f32 * f * std::f32::consts::TAU / 16_000.0).sin();
    let mut low = 0.0;
    let mut sound: Vec<f32> = Vec::new();
    for part in 0..10 {
        sound.extend((0..minute).map(|i| {
            let n = noise();
            low = 0.98 * low + 0.02 * n;
            match part {
                0 => 0.0,
                1 => n * 0.001,
                2 => n * 0.2,
                3 => low * 2.0,
                4 => wave(50.0, i) * 0.3 + wave(150.0, i) * 0.1,
                5 => wave(1000.0, i) * 0.5,
                // Sweeps, clicks, and two kinds of music: held chords, and a tune with plucked notes.
                6 => wave(200.0 + (i % 80_000) as f32 / 40.0, i) * 0.3,
                7 => f32::from(u8::from(i % 12_000 < 20)) * 0.9,
                8 => [220.0, 277.2, 329.6, 440.0].iter().map(|f| wave(*f, i)).sum::<f32>() * 0.15,
                _ => {
                    let note = [262.0, 294.0, 330.0, 392.0, 440.0, 392.0, 330.0, 294.0][i / 6000 % 8];
                    let fade = (-((i % 6000) as f32) / 2500.0).exp();
                    (wave(note, i) + 0.5 * wave(note * 2.0, i) + 0.3 * wave(note * 3.0, i)) * fade * 0.3
                }
            }
        }));
    }
    let heard = hear(&sound, 2);
    assert_eq!(text(&heard), "");
    assert_eq!(heard.samples, 10 * minute as u64);
}

#[test]
fn another_language_is_not_passed_off_as_english() {
    let t = file(std::fs::read(fixture("german.flac")).unwrap());
    assert!(t.unsure && t.notes.iter().any(|n| n.starts_with("unsure: ")), "{:?}", t.notes);
    let shown = words::write::write(&t, words::write::Form::Txt, &Default::default()).unwrap();
    let shown = String::from_utf8(shown).unwrap();
    assert_eq!(normal(&shown).concat().replace("unclearspeech", ""), "", "{shown}");
    assert!(t.words().count() > 5, "the guesses stay in the value");
}

/// Damage in the middle: what is before and behind it is heard, and the place is named.
#[test]
fn damage_in_the_middle_is_marked() {
    let mut flac = std::fs::read(fixture("three.flac")).unwrap();
    let whole = file(flac.clone()).text();
    assert!(whole.contains("young man") && whole.contains("amiable himself"), "{whole}");
    let (a, b) = (flac.len() * 42 / 100, flac.len() * 58 / 100);
    flac[a..b].iter_mut().enumerate().for_each(|(i, v)| *v = (i * 37 % 251) as u8);
    let t = file(flac);
    let said = t.text();
    assert!(said.contains("young man") && said.contains("amiable himself"), "{said} {:?}", t.notes);
    assert!(
        t.notes.iter().any(|n| n.starts_with("no sound from 00:00:0") || n.contains("could not be decoded")),
        "{:?}",
        t.notes
    );
}

/// A stretch of speech longer than any window, without a pause to cut at: joined without losing or doubling words.
#[test]
fn speech_without_pauses_is_joined() {
    // Each clip is cut to its voice, so that the detector hears one long span.
    let cut = |name: &str, from: f64, to: f64| {
        let s = clip(name);
        s[(from * 16_000.0) as usize..(to * 16_000.0) as usize].to_vec()
    };
    let parts = [
        cut("austen-0880.wav", 0.26, 2.9),
        cut("austen-0890.wav", 0.24, 5.06),
        cut("austen-0930.wav", 0.27, 2.87),
    ];
    let sound: Vec<f32> = parts.iter().cycle().take(12).flatten().copied().collect();
    let heard = hear(&sound, 2);
    let said = [
        "he was not an ill disposed young man",
        "unless to be rather cold hearted and rather selfish is to be ill disposed",
        "he might even have been made amiable himself",
    ];
    let want = said.iter().cycle().take(12).copied().collect::<Vec<_>>().join(" ");
    let got = score(&want, &text(&heard));
    println!("{got:?}\n{}", text(&heard));
    assert!(got.rate() <= 0.05, "{got:?}: {}", text(&heard));
    let words: Vec<_> = heard.segments.iter().flat_map(|s| &s.words).collect();
    assert!(words.windows(2).all(|p| p[0].start_ms <= p[1].start_ms && p[0].end_ms <= p[1].start_ms));
}
