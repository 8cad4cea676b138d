//! Sound as it is written: without loss where that is said, with its length at every rate.

mod room;

use media::container::wrap::Wrap;
use media::recipe::*;
use room::{Room, all_of};
use rstest::rstest;

/// A WAV of whole numbers that repeats nothing.
fn wav(rate: u32, channels: u16, bits: u16, frames: u32) -> (Vec<u8>, Vec<i32>) {
    let mut value = 12_345u32;
    let samples: Vec<i32> = (0..frames * u32::from(channels))
        .map(|i| {
            value = value.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            let noise = (value >> 20) as i32 - 2048;
            let wave = ((i as f64 * 0.01).sin() * f64::from(1 << (bits - 3))) as i32;
            wave + noise
        })
        .collect();
    let bytes = usize::from(bits / 8);
    let data: Vec<u8> = samples.iter().flat_map(|s| s.to_le_bytes()[..bytes].to_vec()).collect();
    let block = channels * bits / 8;
    let mut b = b"RIFF".to_vec();
    b.extend((36 + data.len() as u32).to_le_bytes());
    b.extend(b"WAVEfmt \x10\0\0\0\x01\0");
    b.extend(channels.to_le_bytes());
    b.extend(rate.to_le_bytes());
    b.extend((rate * u32::from(block)).to_le_bytes());
    b.extend(block.to_le_bytes());
    b.extend(bits.to_le_bytes());
    b.extend(b"data");
    b.extend((data.len() as u32).to_le_bytes());
    b.extend(data);
    (b, samples)
}

fn room_with(bytes: &[u8]) -> Room {
    let room = Room::with(&media::testkit::Clip { frames: 2, ..media::testkit::Clip::default() });
    std::fs::write(&room.source, bytes).unwrap();
    room
}

fn sound(codec: AudioCodec, wrap: Option<Wrap>) -> Recipe {
    let audio = AudioRecipe { codec, channels: 16, ..AudioRecipe::default() };
    Recipe { wrap, audio: Some(audio), ..Recipe::default() }
}

/// Every sample comes back as it was, and FLAC's own checksum is that of the samples.
#[rstest]
fn what_is_kept_without_loss_is_kept_to_the_bit(
    #[values(
        (AudioCodec::Flac16, None, 16),
        (AudioCodec::Flac24, None, 24),
        (AudioCodec::Flac24, Some(Wrap::Mkv), 24),
        (AudioCodec::Pcm16, Some(Wrap::Aiff), 16),
        (AudioCodec::Pcm24, Some(Wrap::Aiff), 24),
        (AudioCodec::Pcm16, Some(Wrap::Mov), 16),
        (AudioCodec::Pcm24, Some(Wrap::Mov), 24),
        (AudioCodec::Pcm24, None, 24)
    )]
    how: (AudioCodec, Option<Wrap>, u16),
    #[values((44_100, 1), (48_000, 2), (96_000, 6))] form: (u32, u16),
) {
    let ((codec, wrap, bits), (rate, channels)) = (how, form);
    // More than one packet of each kind, and a rest.
    let (bytes, samples) = wav(rate, channels, bits, 10_007);
    let room = room_with(&bytes);
    let made = room.make(&[sound(codec, wrap)]);
    assert_eq!(made[0].sound, [(10_007, rate, channels)]);
    let (_, heard, start, found) = all_of(&room.path(0));
    assert_eq!((found, start), (channels, 0.0));
    let full = f64::from(1u32 << (bits - 1));
    let back: Vec<i32> = heard.iter().map(|s| (f64::from(*s) * full).round() as i32).collect();
    assert!(back == samples, "{codec:?} in {wrap:?}: not the same samples");
}

/// The first bytes of FLAC files hold the length and a checksum that others compute in the same way (RFC 9639, 8.2).
#[test]
fn flac_states_its_length_and_checksum() {
    let (bytes, samples) = wav(48_000, 2, 16, 5000);
    let room = room_with(&bytes);
    room.make(&[sound(AudioCodec::Flac16, None)]);
    let made = std::fs::read(room.path(0)).unwrap();
    let info = &made[8..42];
    assert_eq!(u32::from_be_bytes(info[14..18].try_into().unwrap()), 5000);
    assert!(info[18..34].iter().any(|b| *b != 0), "there is a checksum");
    assert!(made.len() < samples.len() * 2, "it is packed");
}

#[rstest]
fn mp3_is_as_long_as_its_source(
    #[values(8_000, 16_000, 22_050, 32_000, 44_100, 48_000, 96_000)] rate: u32,
    #[values(1, 2)] channels: u16,
) {
    let (bytes, _) = wav(rate, channels, 16, rate / 2 + 77);
    let room = room_with(&bytes);
    let made = room.make(&[sound(AudioCodec::Mp3, None)]);
    let to = if rate > 48_000 { 48_000 } else { rate };
    let want = u64::from(rate / 2 + 77) * u64::from(to) / u64::from(rate);
    assert!(made[0].sound[0].0.abs_diff(want) <= 1);
    let (_, heard, _, found) = all_of(&room.path(0));
    assert_eq!(found, channels);
    assert!((heard.len() as u64 / u64::from(channels)).abs_diff(want) <= 1, "{} of {want}", heard.len());
}

#[test]
fn mp3_takes_the_bits_it_is_given() {
    let (bytes, _) = wav(48_000, 2, 16, 48_000 * 3);
    let room = room_with(&bytes);
    let at = |bits| {
        let audio = AudioRecipe { codec: AudioCodec::Mp3, bits, ..AudioRecipe::default() };
        Recipe { audio: Some(audio), ..Recipe::default() }
    };
    room.make(&[at(64_000), at(128_000), at(320_000)]);
    let rate = |n: usize| std::fs::metadata(room.path(n)).unwrap().len() as f64 * 8.0 / 3.0;
    for (n, want) in [64_000.0, 128_000.0, 320_000.0].into_iter().enumerate() {
        assert!((rate(n) / want - 1.0).abs() < 0.06, "{} for {want}", rate(n));
    }
}
