//! Files of other encoders with content that can be computed, and of a browser whose own decoders say what the
//! frames are: lossless formats must agree bit for bit. `tools/fixtures` wrote them.

use media::container::{self, Demux};
use media::facts::{self, Facts, Kind};
use media::frame::{Chroma, Pool, Samples, VideoFrame};
use media::testkit::compare::luma_difference;
use media::units::{Ratio, Time};
use media::{codec, still};
use rstest::rstest;
use sha2::{Digest, Sha256};
use std::fs::File;
use std::path::{Path, PathBuf};

fn fixture(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures").join(name)
}

fn open(name: &str) -> Box<dyn Demux> {
    container::open(Box::new(File::open(fixture(name)).unwrap())).unwrap_or_else(|e| panic!("{name}: {e}"))
}

fn facts_of(name: &str) -> Facts {
    facts::of(Box::new(File::open(fixture(name)).unwrap())).unwrap_or_else(|e| panic!("{name}: {e}"))
}

fn samples(name: &str) -> Vec<f32> {
    let mut d = open(name);
    let i = d.tracks().iter().position(|t| t.audio().is_some()).unwrap();
    let mut decoder = codec::audio_decoder(&d.tracks()[i]).unwrap();
    d.choose(&[i]);
    let mut out = Vec::new();
    while let Some(p) = d.next_packet().unwrap() {
        let mut f = decoder.decode(&p).unwrap();
        f.trim(p.trim_start as usize, 0);
        f.trim(0, f.len().saturating_sub(p.keep.map_or(f.len(), |k| k as usize)));
        out.extend(f.samples);
    }
    out
}

/// What tools/fixtures/make.py put in, as whole numbers of 24 bits.
fn value(i: usize, c: usize, bits: u8) -> i32 {
    let v = ((i * (37 + 11 * c) % 4001) as i32 - 2000) * 16;
    v * 256 + if bits == 24 { (i % 251) as i32 } else { 0 }
}

#[rstest]
#[case("sound-16.flac", 16)]
#[case("sound-24.flac", 24)]
#[case("sound-16.aiff", 16)]
#[case("sound-24.aiff", 24)]
#[case("sound-float.aifc", 16)]
#[case("sound-24.caf", 24)]
#[case("sound-float.caf", 16)]
#[case("sound-alac-16.caf", 16)]
#[case("sound-alac-24.caf", 24)]
#[case("sound-24.wav", 24)]
#[case("sound-16.rf64", 16)]
#[case("sound-16.au", 16)]
#[case("sound-24.au", 24)]
#[case("sound-16.w64", 16)]
#[case("sound-24.w64", 24)]
fn lossless_sound_is_the_same_to_the_bit(#[case] name: &str, #[case] bits: u8) {
    let got = samples(name);
    assert_eq!(got.len(), 6000, "{name}");
    for (n, s) in got.iter().enumerate() {
        let whole = (f64::from(*s) * 8_388_608.0) as i32;
        assert_eq!(whole, value(n / 2, n % 2, bits), "{name}, sample {n}");
    }
    let f = facts_of(name);
    assert_eq!((f.kind, f.audio[0].rate, f.audio[0].channels), (Kind::Audio, 44_100, 2));
    assert_eq!(f.duration.unwrap().exact, Time::new(3000, 44_100));
    assert_eq!(f.damage, None);
}

#[rstest]
#[case("sound-alaw.wav", 0.012)]
#[case("sound-ulaw.caf", 0.012)]
fn companded_sound_is_as_near_as_its_steps(#[case] name: &str, #[case] most: f32) {
    let got = samples(name);
    assert_eq!(got.len(), 6000);
    for (n, s) in got.iter().enumerate() {
        let want = value(n / 2, n % 2, 16) as f32 / 8_388_608.0;
        assert!((s - want).abs() < most.max(want.abs() * 0.04), "{name}, sample {n}: {s}, not {want}");
    }
}

/// Sound of four bits a sample is, sample for sample, what another decoder makes of it.
#[rstest]
#[case("four-ima.wav")]
#[case("four-ms.wav")]
#[case("four-ima.w64")]
#[case("four-ima.aifc")]
#[case::gsm("voice.wav")]
#[case::gsm_plain("voice.aifc")]
#[case::gsm_long("voice.w64")]
fn coded_sound_is_what_others_hear(#[case] name: &str) {
    let theirs = std::fs::read(fixture(&format!("{name}.s16"))).unwrap();
    let theirs: Vec<i32> = theirs.chunks_exact(2).map(|b| i16::from_le_bytes([b[0], b[1]]).into()).collect();
    let got = samples(name);
    // Of WAV theirs gives the last block whole, where ours ends with the sound that was put in.
    let given = if name.starts_with("voice") { 8_000 } else { 18_000 };
    assert!(got.len() == theirs.len() || got.len() == given, "{} and {}", got.len(), theirs.len());
    for (n, (a, b)) in got.iter().zip(&theirs).enumerate() {
        assert_eq!((a * 32_768.0) as i32, *b, "{name}, sample {n}");
    }
    let want = if name.starts_with("voice") { ("GSM", 8_000, 1) } else { ("ADPCM", 22_050, 2) };
    let a = &facts_of(name).audio[0];
    assert_eq!((a.codec.as_str(), a.rate, a.channels), want);
}

/// Speech by other encoders sounds like what they were given, after the delay that the codec has.
#[rstest]
#[case("voice.amr", "AMR", 8_000)]
#[case("voice-wide.amr", "AMR-WB", 16_000)]
fn speech_of_telephones_is_heard(#[case] name: &str, #[case] codec: &str, #[case] rate: u32) {
    let a = &facts_of(name).audio[0];
    assert_eq!((a.codec.as_str(), a.rate, a.channels, a.duration.seconds), (codec, rate, 1, 1.0));
    let raw = std::fs::read(fixture("voice.s16")).unwrap();
    let each = rate as usize / 8_000;
    let given = raw.chunks_exact(2).flat_map(|b| vec![f32::from(i16::from_le_bytes([b[0], b[1]])); each]);
    let given: Vec<f32> = given.map(|s| s / 32_768.0).collect();
    let got = samples(name);
    assert_eq!(got.len(), given.len());
    let alike = |delay: usize| {
        let pairs = || got[delay..].iter().zip(&given);
        let of = |f: fn((&f32, &f32)) -> f32| pairs().map(f).sum::<f32>();
        of(|(a, b)| a * b) / (of(|(a, _)| a * a) * of(|(_, b)| b * b)).sqrt()
    };
    let (delay, best) = (0..300).map(|d| (d, alike(d))).max_by(|a, b| a.1.total_cmp(&b.1)).unwrap();
    eprintln!("{name}: {best:.3} after {delay} samples");
    assert!(best > 0.85, "{name}: {best}");
}

/// Pictures of one bit, plain and coded as fax machines do.
#[rstest]
#[case("one-bit.tiff")]
#[case("group3.tiff")]
#[case("group4.tiff")]
#[case("one-bit.pbm")]
fn pictures_of_one_bit(#[case] name: &str) {
    let f = picture(name);
    assert_eq!((f.width, f.height), (48, 32));
    for x in 0..48 {
        assert_eq!(f.planes[0].at(x, 9) > 127, (5 * x) % 256 > 100, "{name} at {x}");
    }
}

/// Priming and padding gone: what went in comes out, as long and at its place.
#[rstest]
#[case("tone.ogg", 44_100, 44_100)]
#[case("tone.mp3", 44_100, 44_100)]
#[case("tone.opus", 48_000, 40_000)]
fn lossy_sound_keeps_its_place_and_length(#[case] name: &str, #[case] rate: u32, #[case] length: usize) {
    let f = facts_of(name);
    assert_eq!(f.audio[0].rate, rate);
    let got = samples(name);
    assert_eq!(got.len() / 2, length, "{name}");
    let tone = |i: usize| 0.4 * (i as f32 * 0.02).sin();
    let first = |i: usize| got[2 * i];
    let worst = (2000..length - 4000).map(|i| (first(i) - tone(i)).abs()).fold(0.0, f32::max);
    assert!(worst < 0.03, "{name}: {worst} off at worst");
}

fn colour(x: u32, y: u32) -> [u16; 3] {
    [5 * x % 256, 7 * y % 256, (3 * x + 5 * y) % 256].map(|v| v as u16)
}

fn picture(name: &str) -> VideoFrame {
    still::frame_of(&mut File::open(fixture(name)).unwrap(), &Pool::new())
        .unwrap_or_else(|e| panic!("{name}: {e}"))
}

#[rstest]
#[case("picture.png")]
#[case("picture.bmp")]
#[case("picture.tiff")]
#[case("picture-deflate.tiff")]
#[case("picture.webp")]
#[case("picture.ppm")]
#[case("picture.jxl")]
#[case("covered.jxl")]
#[case("picture.jp2")]
#[case("picture-packbits.tiff")]
fn lossless_pictures_are_the_same_to_the_bit(#[case] name: &str) {
    let f = picture(name);
    assert_eq!((f.width, f.height, f.depth), (48, 32, 8));
    for y in 0..32 {
        for x in 0..48 {
            assert_eq!([0, 1, 2].map(|p| f.planes[p].at(x, y)), colour(x, y), "{name} at {x},{y}");
        }
    }
}

#[rstest]
#[case("gray-16.png")]
#[case("gray-16.tiff")]
#[case("gray-16.pgm")]
#[case("gray-16.jxl")]
#[case("gray-16.jp2")]
fn sixteen_bits_stay_sixteen(#[case] name: &str) {
    let f = picture(name);
    assert_eq!((f.depth, f.chroma), (16, Chroma::Gray));
    for x in 0..48 {
        assert_eq!(f.planes[0].at(x, 7), (5 * x % 256 * 256 + x) as u16);
    }
    assert_eq!(facts_of(name).video[0].depth, Some(16));
}

#[rstest]
#[case("picture.jpg", 32.0)]
#[case("picture.avif", 40.0)]
#[case("profile.png", 45.0)]
#[case("wide.png", 38.0)]
#[case("still.gif", 28.0)]
#[case("palette.tiff", 28.0)]
#[case("picture-jpeg.tiff", 32.0)]
#[case("lossy.jxl", 36.0)]
#[case("cmyk.tiff", 36.0)]
fn other_pictures_are_near(#[case] name: &str, #[case] least: f64) {
    let alike = luma_difference(&picture("picture.png"), &picture(name));
    assert!(alike > least, "{name}: {alike} dB");
    assert_eq!(facts_of(name).kind, Kind::Image);
}

/// A linear picture is shown through the sRGB curve.
#[test]
fn floating_point_is_taken_for_linear_light() {
    let f = picture("float.tiff");
    let got = f64::from(f.planes[0].at(20, 3)) / 65_535.0;
    let linear = 100.0f64 / 255.0;
    assert!((got - (1.055 * linear.powf(1.0 / 2.4) - 0.055)).abs() < 0.001, "{got}");
}

#[test]
fn a_picture_taken_on_its_side_is_shown_upright() {
    let f = facts_of("turned.jpg");
    assert_eq!((f.video[0].width, f.video[0].height, f.video[0].rotation), (32, 48, 90));
    let (upright, turned) = (picture("picture.jpg"), picture("turned.jpg"));
    assert_eq!((turned.width, turned.height), (32, 48));
    // The left column from below became the top row.
    assert!(upright.planes[2].at(3, 20).abs_diff(turned.planes[2].at(31 - 20, 3)) < 12);
}

#[test]
fn a_gif_of_several_frames_is_a_clip() {
    let f = facts_of("moving.gif");
    let v = f.picture().unwrap();
    assert_eq!((f.kind, v.frames, v.rate, v.constant_rate), (Kind::Video, Some(5), Ratio::new(25, 1), true));
    assert_eq!(f.duration.unwrap().exact, Time::new(1, 5));
}

/// Every plane of a frame in one piece, two bytes a sample over 8 bits.
fn packed(f: &VideoFrame) -> Vec<u8> {
    let mut out = Vec::new();
    for p in &f.planes {
        for y in 0..p.height as usize {
            let row = y * p.stride..y * p.stride + p.width as usize;
            match &p.samples {
                Samples::U8(b) => out.extend_from_slice(&b[row]),
                Samples::U16(w) => w[row].iter().for_each(|v| out.extend(v.to_le_bytes())),
            }
        }
    }
    out
}

fn frames(d: &mut dyn Demux) -> Vec<VideoFrame> {
    let i = d.tracks().iter().position(|t| t.video().is_some()).unwrap();
    let mut decoder = codec::video_decoder(&d.tracks()[i], &Pool::new()).unwrap();
    d.choose(&[i]);
    let mut out = Vec::new();
    while let Some(p) = d.next_packet().unwrap() {
        decoder.decode(&p, &mut out).unwrap();
    }
    decoder.flush(&mut out).unwrap();
    out
}

#[rstest]
#[case("browser-vp8.ivf", "browser.json", "VP8", 8, Chroma::C420)]
#[case("browser-vp9.ivf", "browser.json", "VP9", 8, Chroma::C420)]
#[case("browser-vp9-10.ivf", "browser.json", "VP9", 10, Chroma::C420)]
#[case("browser-av1.ivf", "browser.json", "AV1", 8, Chroma::C420)]
#[case("browser.h264", "browser.json", "H.264", 8, Chroma::C420)]
#[case("av1-10.ivf", "av1.json", "AV1", 10, Chroma::C420)]
#[case("av1-422-10.ivf", "av1.json", "AV1", 10, Chroma::C422)]
#[case("av1-444-12.ivf", "av1.json", "AV1", 12, Chroma::C444)]
#[case("camera-slices.h264", "camera.json", "H.264", 8, Chroma::C420)]
#[case("camera-fields.h264", "camera.json", "H.264", 8, Chroma::C420)]
#[case("camera-10.h264", "camera.json", "H.264", 10, Chroma::C420)]
#[case("camera-422-8.h264", "camera.json", "H.264", 8, Chroma::C422)]
#[case("camera-422-10.h264", "camera.json", "H.264", 10, Chroma::C422)]
#[case("camera-422-10-fields.h264", "camera.json", "H.264", 10, Chroma::C422)]
#[case("camera-422-10-intra.h264", "camera.json", "H.264", 10, Chroma::C422)]
#[case("camera-8.h265", "camera.json", "HEVC", 8, Chroma::C420)]
#[case("camera-open.h265", "camera.json", "HEVC", 8, Chroma::C420)]
#[case("camera-10.h265", "camera.json", "HEVC", 10, Chroma::C420)]
#[case("camera-12.h265", "camera.json", "HEVC", 12, Chroma::C420)]
#[case("camera-444-10.h265", "camera.json", "HEVC", 10, Chroma::C444)]
#[case("camera-422-open.h265", "camera.json", "HEVC", 8, Chroma::C422)]
#[case("camera-422-10.h265", "camera.json", "HEVC", 10, Chroma::C422)]
#[case("camera-422-12.h265", "camera.json", "HEVC", 12, Chroma::C422)]
#[case("camera-gray-10.h265", "camera.json", "HEVC", 10, Chroma::Gray)]
fn frames_are_those_of_other_decoders_to_the_bit(
    #[case] name: &str,
    #[case] digests: &str,
    #[case] codec: &str,
    #[case] depth: u8,
    #[case] chroma: Chroma,
) {
    let expected: serde_json::Value =
        serde_json::from_str(&std::fs::read_to_string(fixture(digests)).unwrap()).unwrap();
    let wanted: Vec<String> = serde_json::from_value(expected[name]["frames"].clone()).unwrap();
    let mut d = open(name);
    let v = d.tracks()[0].video().unwrap().clone();
    assert_eq!((d.tracks()[0].codec.name().as_str(), v.depth, v.chroma), (codec, Some(depth), Some(chroma)));
    let got = frames(d.as_mut());
    assert!(got.windows(2).all(|w| w[0].pts < w[1].pts));
    let digests: Vec<String> =
        got.iter().map(|f| Sha256::digest(packed(f)).iter().map(|b| format!("{b:02x}")).collect()).collect();
    assert_eq!(digests, wanted, "{name}");
    let facts = facts_of(name);
    assert_eq!((facts.video[0].frames, facts.video[0].rate), (Some(wanted.len() as u64), Ratio::new(25, 1)));
}

/// Every kind of macroblock, thrown by dice (`tools/fixtures/mpeg.py`), and what libmpeg2 makes of it. Its transform is another
/// one, so that samples may be off by one, and by a little more where pictures stand on pictures.
#[test]
fn mpeg_pictures_are_those_of_another_decoder() {
    let told = std::fs::read(fixture("every.planes")).unwrap();
    let mut told = told.as_slice();
    for (name, codec, chroma) in [
        ("p1", "MPEG-1 video", Chroma::C420),
        ("p2", "MPEG-2", Chroma::C420),
        ("i2", "MPEG-2", Chroma::C420),
        ("f2", "MPEG-2", Chroma::C420),
        ("m2", "MPEG-2", Chroma::C420),
        ("c2", "MPEG-2", Chroma::C422),
    ] {
        let mut d = open(&format!("every-{name}.m2v"));
        let v = d.tracks()[0].video().unwrap().clone();
        assert_eq!((d.tracks()[0].codec.name().as_str(), v.chroma), (codec, Some(chroma)));
        let got = frames(d.as_mut());
        assert_eq!(got.len(), 4, "{name}");
        assert!(got.windows(2).all(|w| w[0].pts < w[1].pts), "{name}");
        let (mut off, mut count) = (0, 0);
        for f in got {
            let ours = packed(&f);
            let (theirs, rest) = told.split_at(ours.len());
            told = rest;
            for (a, b) in ours.iter().zip(theirs) {
                assert!(a.abs_diff(*b) <= 2, "{name}: {a} and {b}");
                off += usize::from(a != b);
                count += 1;
            }
        }
        assert!(off * 20 < count, "{name}: {off} of {count} are off");
    }
    assert!(told.is_empty());
}

#[rstest]
#[case("recorded-vp8.webm", "VP8", "WebM")]
#[case("recorded-av1.webm", "AV1", "WebM")]
#[case("recorded-avc1.mkv", "H.264", "Matroska")]
#[case("recorded-vp9.mp4", "VP9", "MP4")]
fn clips_of_a_browsers_recorder_are_read_whole(
    #[case] name: &str,
    #[case] codec: &str,
    #[case] format: &str,
) {
    let f = facts_of(name);
    let v = f.picture().unwrap();
    assert_eq!((f.format.as_str(), v.codec.as_str(), v.width, v.height), (format, codec, 64, 48));
    assert_eq!((f.audio[0].codec.as_str(), f.damage.as_deref()), ("Opus", None));
    let seconds = f.duration.unwrap().seconds;
    assert!((0.9..1.8).contains(&seconds), "{seconds}");
    let got = frames(open(name).as_mut());
    assert_eq!(Some(got.len() as u64), v.frames);
    assert!(got.len() >= 20, "{} frames", got.len());
    let sound = samples(name);
    let heard = sound.len() as f64 / f64::from(f.audio[0].channels) / 48_000.0;
    let stated = f.audio[0].duration.seconds;
    // A recorder writes the times of its clock: the last packet may be longer than it says.
    assert!((heard - stated).abs() < 0.05, "{heard} s are heard of {stated} s");
    assert!(sound.iter().any(|s| s.abs() > 0.1));
}

/// The same contract for every reader of a container.
#[rstest]
fn every_reader_keeps_the_contract(#[files("tests/fixtures/*")] path: PathBuf) {
    let bytes = std::fs::read(&path).unwrap();
    let cursor = |n: usize| Box::new(std::io::Cursor::new(bytes[..n].to_vec()));
    let Ok(mut d) = container::open(cursor(bytes.len())) else { return };
    let tracks = d.tracks().to_vec();
    let mut all = Vec::new();
    while let Some(p) = d.next_packet().unwrap() {
        all.push(p);
    }
    assert!(!all.is_empty());
    assert_eq!(d.next_packet().unwrap(), None, "the end stays the end");
    for (i, t) in tracks.iter().enumerate() {
        let mine: Vec<_> = all.iter().filter(|p| p.track == i).collect();
        if let Some(n) = t.packets {
            assert_eq!(mine.len() as u64, n, "packets are as many as stated");
        }
        let mut one = container::open(cursor(bytes.len())).unwrap();
        one.choose(&[i]);
        for want in &mine {
            assert_eq!(
                one.next_packet().unwrap().as_ref(),
                Some(*want),
                "one track alone gives the same packets"
            );
        }
        assert_eq!(one.next_packet().unwrap(), None);
        let shown = mine.iter().filter(|p| p.shown);
        let end = shown.map(|p| p.pts + p.duration).max().unwrap();
        let stated = t.start.ticks_at(t.timescale) + t.duration.ticks_at(t.timescale);
        assert!(
            (end - stated).abs() <= i64::from(t.timescale / 50).max(1),
            "{end} and {stated} of {}",
            t.timescale
        );
    }
    d = container::open(cursor(bytes.len())).unwrap();
    d.choose(&[]);
    assert_eq!(d.next_packet().unwrap(), None);
    // Cut anywhere: an error or fewer packets, but never one that was not there.
    for k in 1..40 {
        let Ok(mut d) = container::open(cursor(bytes.len() * k / 40)) else { continue };
        let mut n = 0;
        for _ in 0..2 * all.len() + 100 {
            match d.next_packet() {
                Ok(Some(_)) => n += 1,
                Ok(None) => break,
                Err(_) => (),
            }
        }
        assert!(n <= all.len() + 1, "cut at {k}/40: {n} packets of {}", all.len());
    }
}

/// The pattern of tools/fixtures/heif.py.
fn pattern(x: u32, y: u32) -> [i32; 3] {
    [(x * 2) % 256, (y * 2 + 30) % 256, (255 - x) % 256].map(|v| v as i32)
}

/// How far a picture is from what it should be, at points away from the jumps of the pattern.
fn worst(picture: &still::Decoded, want: impl Fn(u32, u32) -> Option<[i32; 3]>) -> i32 {
    let p = picture.to_rgb8();
    let mut worst = 0;
    for (x, y, got) in p.enumerate_pixels() {
        if let Some(want) = want(x, y) {
            worst = worst.max(got.0.iter().zip(want).map(|(g, w)| (i32::from(*g) - w).abs()).max().unwrap());
        }
    }
    worst
}

fn picture_of(name: &str) -> (still::StillFacts, still::Decoded) {
    let bytes = std::fs::read(fixture(name)).unwrap();
    let (format, facts) = still_facts(&bytes);
    (facts, still::decode(format, &mut std::io::Cursor::new(bytes)).unwrap())
}

fn still_facts(bytes: &[u8]) -> (&'static still::StillFormat, still::StillFacts) {
    let mut source = std::io::Cursor::new(bytes.to_vec());
    let format = still::recognise(&bytes[..bytes.len().min(4096)], &mut source).unwrap().unwrap();
    (format, still::facts(format, &mut source).unwrap())
}

#[test]
fn a_phones_picture_is_read() {
    let (f, p) = picture_of("picture.heic");
    assert_eq!((f.format, f.width, f.height, f.depth, f.chroma), ("HEIC", 128, 96, 8, Chroma::C420));
    assert!(worst(&p, |x, y| Some(pattern(x, y))) < 14);
}

/// Coverage lies in HEVC without colour.
#[test]
fn a_phones_picture_with_coverage_is_read() {
    let (f, p) = picture_of("covered.heic");
    assert_eq!((f.width, f.height, f.chroma, &f.remarks[..]), (128, 96, Chroma::Rgba, &[][..]));
    assert!(worst(&p, |x, y| Some(pattern(x, y))) < 14);
    let p = p.to_rgba8();
    for (x, covered) in [(10, 255), (50, 255), (80, 64), (120, 64)] {
        let got = p.get_pixel(x, 40)[3];
        assert!(got.abs_diff(covered) < 4, "{x}: {got}");
    }
}

/// 10 bits in 4:2:2.
#[test]
fn a_cameras_picture_is_read() {
    let (f, p) = picture_of("wide.heic");
    assert_eq!((f.width, f.height, f.depth, f.chroma), (128, 96, 10, Chroma::C422));
    assert!(worst(&p, |x, y| Some(pattern(x, y))) < 14, "{}", worst(&p, |x, y| Some(pattern(x, y))));
}

#[test]
fn a_picture_of_many_tiles_is_put_together() {
    let tile = std::fs::read(fixture("picture.heic")).unwrap();
    let bytes = media::testkit::heic::grid(&tile, (128, 96), 5, 3).unwrap();
    let (format, facts) = still_facts(&bytes);
    assert_eq!((facts.width, facts.height), (640, 288));
    let p = still::decode(format, &mut std::io::Cursor::new(bytes)).unwrap();
    let near_seam = |v: u32, size: u32| v % size < 4 || v % size > size - 5;
    let at = |x, y| (!near_seam(x, 128) && !near_seam(y, 96)).then(|| pattern(x % 128, y % 96));
    assert!(worst(&p, at) < 14, "{}", worst(&p, at));
}

/// Two tiles side by side, turned counter-clockwise, and of that the middle, ten rows lower.
#[test]
fn tiles_of_a_picture_are_put_together_turned_and_cut() {
    let (f, p) = picture_of("grid.heic");
    assert_eq!((f.width, f.height, f.rotation), (64, 100, 270));
    assert_eq!((p.width(), p.height()), (64, 100));
    let wide = |x: u32, y: u32| pattern(if x < 128 { x } else { 255 - x }, y);
    let near_seam = |x: u32| (118..138).contains(&x);
    let at = |x: u32, y: u32| {
        let (x, y) = (x + 16, y + 88);
        // A point of the turned picture in the one before.
        let (x, y) = (255 - y, x);
        (!near_seam(x)).then(|| wide(x, y))
    };
    assert!(worst(&p, at) < 16, "{}", worst(&p, at));
}

/// What is decoded for a small size looks as what is decoded whole and made small, turned as it was, and nothing that is
/// cut away is seen.
#[rstest]
#[case::one("picture.heic", false, (40, 0), (40, 30))]
#[case::av1("picture.avif", false, (0, 30), (46, 30))]
#[case::tiles("grid.heic", true, (48, 0), (48, 128))]
#[case::cut("grid.heic", false, (32, 0), (64, 100))]
#[case::small_already("picture.heic", false, (4000, 4000), (128, 96))]
fn a_picture_is_decoded_for_a_size(
    #[case] name: &str,
    #[case] uncut: bool,
    #[case] wanted: (u32, u32),
    #[case] size: (u32, u32),
) {
    let mut bytes = std::fs::read(fixture(name)).unwrap();
    if uncut {
        // A property that nobody knows.
        let at = bytes.windows(4).position(|w| w == b"clap").unwrap();
        bytes[at..at + 4].copy_from_slice(b"none");
    }
    let (format, _) = still_facts(&bytes);
    let source = || std::io::Cursor::new(bytes.clone());
    let got = still::decode_for(format, &mut source(), &[wanted]).unwrap().to_rgb8();
    assert_eq!(got.dimensions(), size);
    let whole = still::decode(format, &mut source()).unwrap();
    let mut small = std::io::Cursor::new(Vec::new());
    still::convert(&whole, size, still::StillCodec::Png, &mut small).unwrap();
    let want = image::load_from_memory(small.get_ref()).unwrap().to_rgb8();
    let apart: u64 = got.iter().zip(want.iter()).map(|(a, b)| u64::from(a.abs_diff(*b))).sum();
    let mean = apart as f64 / got.len() as f64;
    assert!(mean < 2.5, "{mean}");
}

/// Red, green and blue of a camera's negative.
fn developed(name: &str) -> Vec<[u16; 3]> {
    let f = still::frame_of(&mut File::open(fixture(name)).unwrap(), &Pool::new()).unwrap();
    let at = |x, y| [0, 1, 2].map(|p: usize| f.planes[p].at(x, y));
    (0..f.height).flat_map(|y| (0..f.width).map(move |x| (x, y))).map(|(x, y)| at(x, y)).collect()
}

fn told_by_the_reader(name: &str) -> Vec<[u16; 3]> {
    let bytes = std::fs::read(fixture(name)).unwrap();
    let word = |b: &[u8]| u16::from_le_bytes([b[0], b[1]]);
    bytes.chunks_exact(6).map(|p| [word(p), word(&p[2..]), word(&p[4..])]).collect()
}

fn furthest(got: &[[u16; 3]], want: &[[u16; 3]], of: impl Fn(usize) -> bool) -> u16 {
    assert_eq!(got.len(), want.len());
    let pairs = got.iter().zip(want).enumerate().filter(|(n, _)| of(*n));
    pairs.flat_map(|(_, (g, w))| g.iter().zip(w).map(|(g, w)| g.abs_diff(*w))).max().unwrap()
}

/// Linear negatives: all of each picture is what another reader makes of it; packed, by each of the seven ways of telling a
/// sample, to the bit what it is unpacked.
#[test]
fn linear_negatives_are_developed() {
    let got = developed("linear.dng");
    let most = furthest(&got, &told_by_the_reader("linear.rgb16"), |_| true);
    assert!(most < 60, "{most} of 65535");
    assert_eq!(developed("linear-deflate.dng"), got);
    assert_eq!(developed("linear-lossless.dng"), got);
}

/// Of a sensor with a filter: where the picture is flat it is what the other reader makes of it.
#[test]
fn negatives_of_a_sensor_with_a_filter_are_developed() {
    let got = developed("mosaic.dng");
    // Patches of 16 by 16, without what is near an edge of them.
    let inside = |n: usize| (3..13).contains(&(n % 48 % 16)) && (3..13).contains(&(n / 48 % 16));
    let most = furthest(&got, &told_by_the_reader("mosaic.rgb16"), inside);
    assert!(most < 60, "{most} of 65535");
    assert_eq!(developed("mosaic-lossless.dng"), got);
}
