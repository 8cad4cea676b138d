//! Speech to text.

use super::{Anyhow, Bench, figure, median, peak_memory, processor, quiet, wall};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use words::Transcript;
use words::score::score;
use words::service::hear::wav;

const SAMPLES: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../models/speech-en/samples");

fn samples(pcm: &[u8]) -> Vec<f32> {
    pcm.chunks_exact(2).map(|b| f32::from(i16::from_le_bytes([b[0], b[1]])) / 32768.0).collect()
}

const CLIPS: [&str; 3] = ["austen-0880.wav", "austen-0890.wav", "austen-0930.wav"];

/// Speech of this many seconds: the sample clips in turn, with pauses between them, as 16 kHz WAV; and how many they are.
fn speech(b: &Bench, name: &str, seconds: usize) -> Result<(PathBuf, usize), Anyhow> {
    let path = b.dir.join(name);
    let clips = CLIPS.map(|n| std::fs::read(Path::new(SAMPLES).join(n)).map(|w| samples(&w[44..])));
    let clips = clips.into_iter().collect::<std::io::Result<Vec<_>>>()?;
    let mut data: Vec<f32> = Vec::new();
    let mut many = 0;
    for clip in clips.iter().cycle() {
        if data.len() >= seconds * 16_000 {
            break;
        }
        data.extend(clip);
        many += 1;
        data.resize(data.len() + 6_400, 0.0);
    }
    std::fs::write(&path, wav(&data))?;
    Ok((path, many))
}

/// Speech to text: processor time, how a second processor helps, memory, and how long a start takes.
pub fn words(b: &Bench) -> Result<(), Anyhow> {
    let hear = |file: &Path, processors: &str, threads: &str| {
        let mut c = Command::new("taskset");
        c.args(["-c", processors]).arg(&b.program).arg("transcribe").arg(file);
        c.args(["--as", "json", "--threads", threads, "--to"]).arg(b.dir.join("words"));
        c.stdout(Stdio::null());
        c
    };
    let (ten, _) = speech(b, "ten.wav", 600)?;
    let spent = processor(&mut hear(&ten, "0", "1"))?;
    figure("speech to text, processor seconds a second of speech", spent / 600.0, "s", 0.10, true);
    // One beside the other, because the machine is not the same from minute to minute.
    let mut ratios = Vec::new();
    for _ in 0..3 {
        let one = wall(|| quiet(&mut hear(&ten, "0", "1")), 1)?;
        let two = wall(|| quiet(&mut hear(&ten, "0,1", "2")), 1)?;
        ratios.push(one / two);
    }
    figure("the same on two processors / on one, speed", median(ratios), "x", 1.8, false);
    let (hour, clips) = speech(b, "hour.wav", 3600)?;
    let peak = peak_memory(&mut hear(&hour, "0,1", "2").spawn()?)?;
    figure("peak memory of an hour's transcript, two threads", peak, "MB", 400.0, true);
    let said = |name: &str| -> Result<String, Anyhow> {
        let json = std::fs::read(b.dir.join("words").join(name).with_extension("json"))?;
        Ok(serde_json::from_slice::<Transcript>(&json)?.text())
    };
    let mut one_by_one = Vec::new();
    for clip in CLIPS {
        quiet(&mut hear(&Path::new(SAMPLES).join(clip), "0", "1"))?;
        one_by_one.push(said(clip)?);
    }
    let all: Vec<&str> = one_by_one.iter().map(String::as_str).cycle().take(clips).collect();
    let differ = score(&all.join(" "), &said("hour.wav")?);
    let name = format!("of the hour's {} words, those that differ from its clips'", differ.words);
    figure(&name, differ.errors as f64, "", 0.0, true);
    let (blink, _) = speech(b, "blink.wav", 0)?;
    let load = wall(|| quiet(&mut hear(&blink, "0", "1")), 5)?;
    figure("starting, loading the model, ending", load / 1000.0, "s", 0.3, true);
    Ok(())
}
