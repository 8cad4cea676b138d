//! What bits buy: every encoder at four rates on a real clip, held against what it was given. The lines are a table of
//! docs/quality.md.

use super::{Anyhow, Bench, figure};
use media::codec::coders;
use media::codec::h264::control::{Ahead, Guide, Looker};
use media::codec::{self, PictureForm};
use media::container::{self, Demux};
use media::filter::video::{Converter, Wanted};
use media::frame::{Pool, VideoFrame};
use media::read::{Got, Reader};
use media::recipe::{BitRecipe, Steered, VideoCodec};
use media::testkit::{likeness, psnr};
use media::track::{Media, Packet, Track, VideoTrack};
use media::units::Ratio;
use std::fs::File;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

/// Pictures between two that structure is compared of.
const EVERY: usize = 6;

/// What came of one encode.
struct Came {
    kilobits: f64,
    /// Mean of the pictures', and of the worst twentieth of them.
    psnr: f64,
    worst: f64,
    ssim: f64,
    ms_ssim: f64,
    per_second: f64,
}

fn clip() -> Option<(Vec<VideoFrame>, Ratio)> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../../shared/real-media/same-clip/demo.mp4");
    let demux = container::open(Box::new(File::open(path).ok()?)).ok()?;
    let track = demux.tracks().iter().position(|t| t.video().is_some())?;
    let rate = demux.tracks()[track].video()?.rate?;
    let mut reader = Reader::new(demux, &[track], &Pool::new()).ok()?;
    let mut all = Vec::new();
    while let Some(got) = reader.next_one().ok()? {
        if let Got::Picture { frame, .. } = got {
            all.push(Converter::to(Wanted::PLAIN, Pool::new()).convert(&frame).ok()?);
        }
    }
    Some((all, rate))
}

fn encode(all: &[VideoFrame], fps: Ratio, codec: VideoCodec, rate: BitRecipe) -> Result<Came, Anyhow> {
    let (first, coder) = (&all[0], coders::video(codec)?);
    let (w, h) = (first.width, first.height);
    let mut form = PictureForm { colour: first.colour, ..PictureForm::plain(w, h, fps) };
    let start = Instant::now();
    if rate.is_twice() {
        let (mut looker, mut ahead) = (Looker::default(), Ahead::default());
        let second = |n: usize| n as f64 / fps.value();
        ahead.pictures = all.iter().enumerate().map(|(n, f)| (second(n), looker.look(f))).collect();
        let guide = Guide { ahead: Arc::new(ahead), timescale: fps.num, from: 0.0, to: second(all.len()) };
        form.guide = Some(guide);
    }
    let step = i64::from(fps.den);
    let mut encoder = (coder.open)(&form, rate, (fps.value() * 2.0) as u32)?;
    let mut coded = Vec::new();
    for (n, f) in all.iter().enumerate() {
        encoder.encode(f, n as i64 * step, step, &mut coded)?;
    }
    encoder.flush(&mut coded)?;
    let took = start.elapsed().as_secs_f64();
    let mut track = Track::new(1, coder.coded.clone(), Media::Video(VideoTrack::sized(w, h)), fps.num);
    track.setup = encoder.setup();
    let mut decoder = codec::video_decoder(&track, &Pool::new())?;
    let mut back = Vec::new();
    for c in &coded {
        let packet = Packet {
            pts: c.pts,
            duration: step,
            key: c.key,
            shown: true,
            data: c.data.clone(),
            ..Packet::default()
        };
        decoder.decode(&packet, &mut back)?;
    }
    decoder.flush(&mut back)?;
    if back.len() != all.len() {
        return Err(format!("{}: {} pictures of {}", coder.name, back.len(), all.len()).into());
    }
    let mut each: Vec<f64> = back.iter().zip(all).map(|(a, b)| psnr(a, b).min(60.0)).collect();
    each.sort_by(f64::total_cmp);
    let mean = |all: &[f64]| all.iter().sum::<f64>() / all.len().max(1) as f64;
    let alike = |f: fn(&VideoFrame, &VideoFrame) -> f64| {
        mean(&back.iter().zip(all).step_by(EVERY).map(|(a, b)| f(a, b)).collect::<Vec<_>>())
    };
    let bytes: usize = coded.iter().map(|c| c.data.len()).sum();
    Ok(Came {
        kilobits: bytes as f64 * 8.0 * fps.value() / all.len() as f64 / 1000.0,
        psnr: mean(&each),
        worst: mean(&each[..(each.len() / 20).max(1)]),
        ssim: alike(likeness::ssim),
        ms_ssim: alike(likeness::ms_ssim),
        per_second: all.len() as f64 / took,
    })
}

pub fn quality(_: &Bench) -> Result<(), Anyhow> {
    let Some((all, fps)) = clip() else {
        println!("quality: the real clips are not beside the checkout");
        return Ok(());
    };
    println!("| encoder | kbit/s | PSNR, dB | of the worst 5 % | SSIM | MS-SSIM | pictures a second |");
    println!("|---|---|---|---|---|---|---|");
    let line = |name: &str, came: &Came| {
        let Came { kilobits, psnr, worst, ssim, ms_ssim, per_second } = came;
        println!(
            "| {name} | {kilobits:.1} | {psnr:.2} | {worst:.2} | {ssim:.4} | {ms_ssim:.4} | {per_second:.0} |"
        );
    };
    let (mut ratios, mut gains) = (Vec::new(), Vec::new());
    for q in [20, 26, 32, 38] {
        let same = encode(&all, fps, VideoCodec::H264, BitRecipe::Quantiser(q))?;
        line(&format!("H.264, quantiser {q}"), &same);
        let bits = (same.kilobits * 1000.0) as u32;
        let twice = Steered { average: Some(bits), quality: None, most: None, twice: true };
        let others = [
            ("H.264, average", VideoCodec::H264, BitRecipe::Average(bits)),
            ("H.264, average, two passes", VideoCodec::H264, BitRecipe::Steered(twice)),
            ("VP9, average", VideoCodec::Vp9, BitRecipe::Average(bits)),
            ("AV1, average", VideoCodec::Av1, BitRecipe::Average(bits)),
            ("AV1, quantiser", VideoCodec::Av1, BitRecipe::Quantiser(q)),
        ];
        for (name, codec, rate) in others {
            if coders::video(codec).is_err() {
                continue;
            }
            let came = encode(&all, fps, codec, rate)?;
            line(name, &came);
            if rate == BitRecipe::Steered(twice) {
                ratios.push(came.kilobits / same.kilobits);
                gains.push(came.ssim - same.ssim);
            }
        }
    }
    let off = ratios.iter().map(|r| (r - 1.0).abs()).fold(0.0, f64::max);
    figure("H.264 in two passes: off the rate that was asked for", off * 100.0, "%", 2.0, true);
    let least = gains.into_iter().fold(f64::INFINITY, f64::min);
    figure("its SSIM less that of one quantiser at the same rate", least, "", 0.0, false);
    Ok(())
}
