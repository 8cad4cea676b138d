//! Bytes that no writer wrote: no panic, no hang, no allocation by a false count. Mutations are seeded, so
//! that a failure can be had again.

use media::testkit::hostile::use_file;
use media::testkit::layout::with_index_last;
use media::testkit::{Clip, write_clip};
use rstest::rstest;
use std::fs::File;
use std::path::PathBuf;
use std::time::{Duration, Instant};

/// xorshift: the same numbers everywhere.
struct Dice(u64);
impl Dice {
    fn roll(&mut self, n: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % n as u64) as usize
    }
}

fn clip() -> Vec<u8> {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("clip.mp4");
    let file = File::options().read(true).write(true).create_new(true).open(&path).unwrap();
    write_clip(&Clip { width: 64, height: 48, frames: 20, ..Clip::default() }, Box::new(file)).unwrap();
    std::fs::read(path).unwrap()
}

fn wav() -> Vec<u8> {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/media/dawn-north-sluice.wav");
    std::fs::read(path).unwrap()[..20_000].to_vec()
}

/// Changes bytes where the index is, for most of a file is media that the readers never look into.
fn mutate(dice: &mut Dice, bytes: &mut Vec<u8>, from: usize) {
    for _ in 0..1 + dice.roll(6) {
        let at = from + dice.roll(bytes.len() - from);
        match dice.roll(6) {
            0 => bytes[at] ^= 1 << dice.roll(8),
            1 => bytes[at] = [0, 1, 0x7f, 0x80, 0xff][dice.roll(5)],
            2 => bytes.iter_mut().skip(at).take(4).for_each(|b| *b = 0xff),
            3 => bytes.iter_mut().skip(at).take(4).for_each(|b| *b = 0),
            4 => bytes.truncate(at.max(64)),
            _ => {
                let n = dice.roll(64).min(bytes.len() - at);
                let part = bytes[at..at + n].to_vec();
                bytes.splice(at..at, part);
            }
        }
        if bytes.len() <= from + 16 {
            return;
        }
    }
}

#[rstest]
#[case::mp4_index_last(true)]
#[case::mp4_index_first(false)]
fn mutated_mp4_files_do_no_harm(#[case] last: bool) {
    let whole = clip();
    let (head, index, _) = with_index_last(&whole, None);
    let (bytes, from) =
        if last { ([head.as_slice(), &index].concat(), head.len()) } else { (whole[..8192].to_vec(), 0) };
    storm(&bytes, from, 0x5eed_0001 + u64::from(last));
}

#[test]
fn mutated_wav_files_do_no_harm() {
    storm(&wav()[..4000], 0, 0x5eed_0007);
}

/// Every fixture: small files of every format.
#[rstest]
fn mutated_files_of_every_format_do_no_harm(
    #[files("tests/fixtures/*")]
    #[files("tests/found/*")]
    path: PathBuf,
) {
    let bytes = std::fs::read(&path).unwrap();
    let seed = path.to_string_lossy().bytes().fold(7, |h: u64, b| h.wrapping_mul(31).wrapping_add(b.into()));
    use_file(&bytes);
    // Most of what can go wrong stands in front.
    storm(&bytes[..bytes.len().min(20_000)], 0, seed);
}

fn storm(bytes: &[u8], from: usize, seed: u64) {
    let rounds: u64 = std::env::var("HOSTILE_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(150);
    let mut slowest = Duration::ZERO;
    for round in 0..rounds {
        let mut dice = Dice(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ (round + 1) << 20 | 1);
        let mut bad = bytes.to_vec();
        mutate(&mut dice, &mut bad, from);
        let start = Instant::now();
        use_file(&bad);
        slowest = slowest.max(start.elapsed());
        assert!(
            start.elapsed() < Duration::from_secs(10),
            "round {round} of seed {seed:#x} took {:?}",
            start.elapsed()
        );
    }
    eprintln!("{rounds} rounds, slowest {slowest:?}");
}

/// Any bytes at all behind each format's own first bytes.
#[rstest]
#[case(b"\0\0\0\x10ftypmp42\0\0\0\0".as_slice())]
#[case(b"RIFF\xff\xff\xff\xffWAVE")]
#[case(b"\x89PNG\r\n\x1a\n")]
#[case(&[0xff, 0xd8, 0xff])]
#[case(&[0x1a, 0x45, 0xdf, 0xa3, 0x80, 0x18, 0x53, 0x80, 0x67, 0xff])]
#[case(&[0, 0, 1, 0xba, 0x44, 0, 4, 0, 4, 1, 0, 0, 3, 0xf8])]
#[case(&[0, 0, 1, 0xb3, 0x0b, 0x00, 0x90, 0x12])]
#[case(b"RIFF\xff\xff\xff\xffAVI LIST\x40\0\0\0hdrl")]
#[case(b"OggS\0\x02")]
#[case(b"fLaC\x80\0\0\x22")]
#[case(b"FORM\0\0\x04\0AIFC")]
#[case(b"caff\0\x01\0\0desc\0\0\0\0\0\0\0\x20")]
#[case(b"ID3\x03\0\0\0\0\0\x20")]
#[case(b"GIF89a")]
#[case(b"DKIF\0\0\x20\0VP80")]
#[case(b"YUV4MPEG2 W16 H16 F25:1\n")]
#[case(b"SDPX")]
#[case(b"\0\0\0\x10ftypavif\0\0\0\0")]
fn noise_behind_a_true_start_does_no_harm(#[case] start: &[u8]) {
    let mut dice = Dice(99);
    for _ in 0..300 {
        let mut bytes = start.to_vec();
        let n = dice.roll(3000);
        bytes.extend((0..n).map(|_| dice.roll(256) as u8));
        use_file(&bytes);
    }
}
