//! Recordings through a service: cut into parts that are small enough, and joined again.

use std::cell::RefCell;
use std::io::Cursor;
use std::path::Path;
use std::sync::OnceLock;
use std::sync::atomic::AtomicBool;
use words::score::{normal, score};
use words::service::answer::Moments;
use words::service::{Answer, AnswerWord, Part, Reply, SpeechService, hear};
use words::transcribe::{Engine, Options};
use words::{Error, Model, Result, Transcript};

fn model() -> &'static Model {
    static MODEL: OnceLock<Model> = OnceLock::new();
    MODEL.get_or_init(|| Model::open(None).unwrap())
}

/// The sample clips behind each other, so often, with this many samples of silence between them.
fn recording(times: usize, pause: usize) -> Vec<u8> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../models/speech-en/samples");
    let mut sound = Vec::new();
    for name in ["austen-0880.wav", "austen-0890.wav", "austen-0930.wav"].iter().cycle().take(3 * times) {
        let wav = std::fs::read(folder.join(name)).unwrap();
        let samples = wav[44..].chunks_exact(2);
        sound.extend(samples.map(|b| f32::from(i16::from_le_bytes([b[0], b[1]])) / 32768.0));
        sound.extend(vec![0.0; pause]);
    }
    hear::wav(&sound)
}

fn transcript<'a>(engine: impl Into<Engine<'a>>, wav: Vec<u8>) -> Result<Transcript> {
    let options = Options { threads: 2, terms: vec!["Dunmere".into()], ..Options::default() };
    words::transcribe(
        engine,
        Box::new(Cursor::new(wav)),
        "a.wav",
        &options,
        |_, _| (),
        &AtomicBool::new(false),
    )
}

/// Hears with the built-in model, and keeps to a size.
struct Desk {
    most: u64,
    /// Larger parts are refused, whatever was said of the size.
    takes: usize,
    sizes: RefCell<Vec<usize>>,
}

impl SpeechService for Desk {
    fn name(&self) -> &str {
        "desk"
    }
    fn most(&self) -> u64 {
        self.most
    }
    fn hear(&self, part: &Part<'_>) -> Result<Reply> {
        assert!(part.wav.len() as u64 <= self.most && part.terms == ["Dunmere"], "{}", part.wav.len());
        if part.wav.len() > self.takes {
            return Ok(Reply::TooLarge);
        }
        self.sizes.borrow_mut().push(part.wav.len());
        let heard = transcript(model(), part.wav.clone())?;
        let word = |w: &words::transcript::Word| AnswerWord {
            when: Moments::of(w.start_ms.0, w.end_ms.0),
            text: w.text.clone(),
            confidence: w.confidence,
        };
        let words = Some(heard.words().map(word).collect());
        Ok(Reply::Heard(Answer { words, model: Some("m".into()), ..Answer::default() }))
    }
}

#[test]
fn parts_are_small_enough_and_join_to_the_whole() {
    // Once with pauses to cut at, and once without any; once as large as was said, and once refused.
    for (pause, takes) in [(20_000, usize::MAX), (0, usize::MAX), (20_000, 300_000)] {
        let wav = recording(5, pause);
        let desk = Desk { most: hear::MIN_MOST, takes, sizes: RefCell::default() };
        let engine = Engine::Service(&desk, &model().activity);
        let there = transcript(engine, wav.clone()).unwrap();
        let here = transcript(model(), wav).unwrap();
        let sizes = desk.sizes.into_inner();
        assert!(sizes.len() > 1 && sizes.iter().all(|&n| n <= takes), "{sizes:?}");
        assert_eq!(there.made_by.settings, format!("sound track 1, {} parts, 1 term", sizes.len()));
        let differ = score(&here.text(), &there.text());
        assert!(differ.errors == 0, "{pause} {takes}: {differ:?}\n{}\n{}", here.text(), there.text());
        assert_eq!(normal(&there.text()).iter().filter(|w| *w == "selfish").count(), 5);
        let apart = here.words().zip(there.words()).map(|(a, b)| (a.start_ms.0 - b.start_ms.0).abs()).max();
        assert!(apart.unwrap() < 200, "{apart:?}");
        assert_eq!(there.gaps, here.gaps);
    }
}

#[test]
fn what_cannot_be_cut_further_is_an_error_that_says_how_small() {
    let desk = Desk { most: hear::MIN_MOST, takes: 10_000, sizes: RefCell::default() };
    let e = transcript(Engine::Service(&desk, &model().activity), recording(1, 0)).unwrap_err();
    let Error::Service(why) = e else { panic!("{e:?}") };
    assert!(why.contains("bytes of sound") && why.contains("at least that"), "{why}");
}

#[test]
fn silence_is_not_sent() {
    let desk = Desk { most: hear::MIN_MOST, takes: 0, sizes: RefCell::default() };
    let t =
        transcript(Engine::Service(&desk, &model().activity), hear::wav(&vec![0.0; 16_000 * 40])).unwrap();
    assert_eq!((t.words().count(), t.gaps.len()), (0, 1));
    assert!(t.notes.iter().any(|n| n == "no speech was found"), "{:?}", t.notes);
}
