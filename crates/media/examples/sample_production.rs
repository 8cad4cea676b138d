//! Makes the media of the sample production "Estuary Hours" (made up, like Saltmarsh Pictures who make it):
//! drawn and synthesised here, spoken by the espeak-ng speech synthesiser.
//!
//! usage: cargo run --release -p media --features testkit --example sample_production -- demo/media

use media::codec::{DecodeAudio, pcm};
use media::container::{self, Demux, Media, Packet};
use media::filter::audio::{Resampler, mix_down};
use media::frame::Pool;
use media::still::{StillCodec, convert};
use media::testkit::{Clip, estuary, marsh_sound, write_clip};
use media::units::Ratio;
use std::fs::File;
use std::path::Path;
use std::process::Command;

const RATE: u32 = 48_000;
/// 2026-05-14T04:30:00Z, in seconds since 1904.
const DAWN: u64 = 2_082_844_800 + 1_778_733_000;

type Anyhow = Box<dyn std::error::Error>;

fn main() -> Result<(), Anyhow> {
    let dir = std::env::args().nth(1).ok_or("give the folder to write into")?;
    let dir = Path::new(&dir);
    std::fs::create_dir_all(dir)?;
    let clips = [
        (
            "hide-camera-A014.mp4",
            Clip {
                width: 640,
                height: 360,
                frames: 150,
                timecode: 4 * 3600 * 25 + 30 * 60 * 25,
                reel: Some("A014".into()),
                sound: Some(voice(
                    "en-gb",
                    150,
                    50,
                    6.0,
                    "Hide camera three. The tide is rising over the salt marsh, and two avocets are feeding.",
                )?),
                ..Clip::default()
            },
        ),
        (
            "warden-interview.mp4",
            Clip {
                width: 854,
                height: 480,
                rate: Ratio { num: 30_000, den: 1001 },
                frames: 423,
                timecode: 107_892,
                drop_frame: true,
                reel: Some("B002".into()),
                sound: Some(voice(
                    "en-gb-x-rp+f4",
                    135,
                    50,
                    14.1,
                    "I have watched this salt marsh for twenty two years. The birds came back when we let the reeds grow. The tide floods the mud twice a day. We need to repair the bridge before Friday.",
                )?),
                ..Clip::default()
            },
        ),
    ];
    for (name, clip) in clips {
        let clip = Clip { quantiser: 30, created: Some(DAWN), ..clip };
        let file = File::options().read(true).write(true).create(true).truncate(true).open(dir.join(name))?;
        write_clip(&clip, Box::new(file))?;
    }
    // A card that failed: the file ends before the index says it does.
    let whole = std::fs::read(dir.join("hide-camera-A014.mp4"))?;
    std::fs::write(dir.join("card-2-damaged.mp4"), &whole[..whole.len() * 2 / 5])?;

    let spoken = voice("en-gb", 150, 50, 4.0, "Field recording, dawn, at the north sluice.")?;
    write_wav(&dir.join("dawn-north-sluice.wav"), &mix_down(spoken, 2, 1))?;
    write_still(&dir.join("avocet-by-the-sluice.jpg"))?;
    std::fs::write(
        dir.join("call-sheet-day-3.txt"),
        "ESTUARY HOURS - Saltmarsh Pictures\nCall sheet, day 3\n\n04:15  Hide 3, tide at 05:02\n06:30  Warden interview, north sluice\n09:00  Breakfast\n",
    )?;
    Ok(())
}

/// Speech over the sound of the marsh: stereo at 48 kHz, `seconds` long.
fn voice(voice: &str, speed: u32, pitch: u32, seconds: f32, text: &str) -> Result<Vec<f32>, Anyhow> {
    let wav = std::env::temp_dir().join(format!("estuary-hours-{}.wav", std::process::id()));
    let status = Command::new("espeak-ng")
        .args(["-v", voice, "-s", &speed.to_string(), "-p", &pitch.to_string(), "-w"])
        .arg(&wav)
        .arg(text)
        .status()
        .map_err(|e| format!("espeak-ng: {e}; install it (apt-get install espeak-ng)"))?;
    if !status.success() {
        return Err("espeak-ng failed".into());
    }
    let mut demux = container::open(Box::new(File::open(&wav)?))?;
    let (layout, rate) = match (&demux.tracks()[0].codec, &demux.tracks()[0].media) {
        (container::Codec::Pcm(layout), Media::Audio(a)) => (*layout, a.rate),
        _ => return Err("unexpected speech format".into()),
    };
    let mut decoder = pcm::Decoder::new(layout, rate, 1)?;
    let mut resampler = Resampler::new(rate, RATE, 1)?;
    let mut speech = Vec::new();
    while let Some(packet) = next(demux.as_mut())? {
        speech.extend(resampler.push(&decoder.decode(&packet)?.samples)?);
    }
    speech.extend(resampler.finish()?);
    std::fs::remove_file(&wav)?;
    let mut sound = marsh_sound(RATE, 2, seconds);
    let lead = RATE as usize * 3 / 10;
    for (frame, s) in sound.chunks_exact_mut(2).skip(lead).zip(&speech) {
        frame.iter_mut().for_each(|v| *v = (*v * 0.15 + s * 0.8).clamp(-1.0, 1.0));
    }
    Ok(sound)
}

fn next(demux: &mut dyn Demux) -> Result<Option<Packet>, Anyhow> {
    Ok(demux.next_packet()?)
}

fn write_wav(path: &Path, samples: &[f32]) -> Result<(), Anyhow> {
    let bytes = samples.len() as u32 * 2;
    let mut out = Vec::from(*b"RIFF");
    out.extend((bytes + 36 + 610).to_le_bytes());
    out.extend(b"WAVEbext");
    out.extend(602u32.to_le_bytes());
    let mut bext = vec![0u8; 602];
    let mut put = |at: usize, text: &str| bext[at..at + text.len()].copy_from_slice(text.as_bytes());
    put(0, "Estuary Hours, dawn chorus at the north sluice");
    put(256, "Saltmarsh Pictures");
    put(320, "2026-05-14");
    put(330, "05:12:00");
    bext[338..346].copy_from_slice(&((5 * 3600 + 12 * 60) * u64::from(RATE)).to_le_bytes());
    out.extend(bext);
    out.extend(b"fmt ");
    for v in [16u32, 0x0001_0001, RATE, RATE * 2, 0x0010_0002] {
        out.extend(v.to_le_bytes());
    }
    out.extend(b"data");
    out.extend(bytes.to_le_bytes());
    out.extend(samples.iter().flat_map(|s| ((s * 32_767.0) as i16).to_le_bytes()));
    std::fs::write(path, out)?;
    Ok(())
}

/// One frame of the marsh as a colour still.
fn write_still(path: &Path) -> Result<(), Anyhow> {
    let (w, h) = (1600u32, 900u32);
    let frame = estuary(&Pool::new(), w, h, 118, 25, "14:05:26");
    let picture = image::RgbImage::from_fn(w, h, |x, y| {
        let [l, b, r] = [0, 1, 2].map(|p| {
            let plane = &frame.planes[p];
            f32::from(plane.at(x * plane.width / w, y * plane.height / h))
        });
        // ITU-R BT.709-6, limited range.
        let (l, b, r) =
            ((l - 16.0) * 255.0 / 219.0, (b - 128.0) * 255.0 / 224.0, (r - 128.0) * 255.0 / 224.0);
        image::Rgb(
            [l + 1.5748 * r, l - 0.1873 * b - 0.4681 * r, l + 1.8556 * b].map(|v| v.clamp(0.0, 255.0) as u8),
        )
    });
    let mut file = File::options().read(true).write(true).create(true).truncate(true).open(path)?;
    convert(&image::DynamicImage::ImageRgb8(picture), (0, 0), StillCodec::Jpeg(88), &mut file)?;
    Ok(())
}
