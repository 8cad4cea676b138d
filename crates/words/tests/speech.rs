//! The recogniser on real clips, against what the model's own folder says it must give.

use serde_json::Value;
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicBool;
use std::sync::{LazyLock, OnceLock};
use words::Model;
use words::model::Files;
use words::recognise::engine::{self, Effort, Heard, Settings};
use words::recognise::greedy::{self, Sound};

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
            println!(
                "{:14} {:.3} {:.3}   {:.3} {:.3}",
                got.text,
                got.start,
                got.end,
                want[1].as_f64().unwrap(),
                want[2].as_f64().unwrap()
            );
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
