//! Files of sound as they come: tags in front and behind, cut, joined, damaged, without the frame that counts.

use media::codec::aac::{self, adts};
use media::codec::{EncodeAudio, mpeg_audio};
use media::container::{self, Demux, Packet};
use media::error::Result;
use media::testkit::wrap::program;
use media::units::{Ratio, Time};
use rstest::rstest;
use std::io::Cursor;
use std::path::Path;

fn fixture(name: &str) -> Vec<u8> {
    std::fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures").join(name)).unwrap()
}

fn open(bytes: Vec<u8>) -> Result<Box<dyn Demux>> {
    container::open(Box::new(Cursor::new(bytes)))
}

/// Whole packets, and how many places were damaged.
fn packets(d: &mut dyn Demux) -> (Vec<Packet>, usize) {
    let (mut out, mut bad) = (Vec::new(), 0);
    loop {
        match d.next_packet() {
            Ok(Some(p)) => out.push(p),
            Ok(None) => return (out, bad),
            Err(e) => {
                assert_eq!(e.class(), "damaged", "{e}");
                bad += 1;
            }
        }
    }
}

/// Half a second of a tone as AAC frames with their headers.
fn adts_frames() -> Vec<Vec<u8>> {
    let mut encoder = aac::Encoder::new(44_100, 2, 128_000).unwrap();
    let tone: Vec<f32> = (0..44_100).map(|i| ((i / 2) as f32 * 0.05).sin() * 0.3).collect();
    let mut coded = Vec::new();
    encoder.encode(&tone, &mut coded).unwrap();
    encoder.flush(&mut coded).unwrap();
    let framed = |data: &[u8]| {
        let len = data.len() + 7;
        let head =
            [0xff, 0xf1, 0x50, 0x80 | (len >> 11) as u8, (len >> 3) as u8, (len << 5) as u8 | 0x1f, 0xfc];
        [&head[..], data].concat()
    };
    coded.iter().map(|c| framed(&c.data)).collect()
}

#[test]
fn adts_is_read_frame_by_frame() {
    let frames = adts_frames();
    let mut d = open(frames.concat()).unwrap();
    let t = &d.tracks()[0];
    assert_eq!((d.format(), t.codec.name().as_str(), t.timescale), ("ADTS", "AAC", 44_100));
    assert_eq!(t.audio().unwrap().profile.as_deref(), Some("AAC-LC"));
    assert_eq!(t.duration, Time::new(frames.len() as i64 * 1024, 44_100));
    let (got, bad) = packets(d.as_mut());
    assert_eq!((got.len(), bad), (frames.len(), 0));
    assert!(got.iter().zip(&frames).all(|(p, f)| p.data == f[7..]));
}

#[rstest]
#[case::noise_between(|f: &mut Vec<Vec<u8>>| f.insert(5, vec![0x55; 300]), 0, 1)]
#[case::a_frame_without_its_head(|f: &mut Vec<Vec<u8>>| f[7] = vec![0; 90], 1, 1)]
#[case::zeros_at_the_end(|f: &mut Vec<Vec<u8>>| f.push(vec![0; 5000]), 0, 0)]
fn damage_in_adts_costs_only_itself(
    #[case] harm: fn(&mut Vec<Vec<u8>>),
    #[case] lost: usize,
    #[case] places: usize,
) {
    let whole = adts_frames().len();
    let mut frames = adts_frames();
    harm(&mut frames);
    let (got, bad) = packets(open(frames.concat()).unwrap().as_mut());
    assert_eq!((got.len(), bad), (whole - lost, places));
}

#[test]
fn a_cut_adts_file_says_so() {
    let mut bytes = adts_frames().concat();
    bytes.truncate(bytes.len() - 20);
    let d = open(bytes).unwrap();
    assert!(d.about().damage.as_ref().unwrap().contains("cut off"), "{:?}", d.about());
    assert_eq!(d.tracks()[0].packets, Some(adts_frames().len() as u64 - 1));
}

#[test]
fn headers_with_a_checksum_are_longer() {
    let h = adts::Header::parse(&[0xff, 0xf0, 0x50, 0x80, 0x02, 0x1f, 0xfc]).unwrap();
    assert_eq!((h.header, h.len), (9, 16));
}

/// Bytes of the frames of the fixture, its information frame first.
fn mp3() -> (Vec<u8>, Vec<Vec<u8>>) {
    let bytes = fixture("tone.mp3");
    let start = (0..bytes.len()).find(|&i| mpeg_audio::Header::parse(&bytes[i..]).is_some()).unwrap();
    let mut frames = Vec::new();
    let mut at = start;
    while let Some(h) = mpeg_audio::Header::parse(&bytes[at..]) {
        if at + h.len > bytes.len() {
            break;
        }
        frames.push(bytes[at..at + h.len].to_vec());
        at += h.len;
    }
    (bytes, frames)
}

fn tag(body: &[u8]) -> Vec<u8> {
    let n = body.len();
    let mut out = b"ID3\x03\0\0".to_vec();
    out.extend([(n >> 21) as u8 & 127, (n >> 14) as u8 & 127, (n >> 7) as u8 & 127, n as u8 & 127]);
    out.extend(body);
    out
}

fn text_frame(key: &[u8; 4], text: &str) -> Vec<u8> {
    let mut out = key.to_vec();
    out.extend((text.len() as u32 + 1).to_be_bytes());
    out.extend([0, 0, 0]);
    out.extend(text.as_bytes());
    out
}

#[test]
fn tags_around_an_mp3_are_told_and_are_no_sound() {
    let (_, frames) = mp3();
    let plain = open(frames.concat()).unwrap().tracks()[0].clone();
    let front = tag(&[text_frame(b"TIT2", "Dawn"), text_frame(b"TPE1", "Warden"), vec![0; 700]].concat());
    let mut ape = b"APETAGEX".to_vec();
    ape.extend([0xd0, 7, 0, 0, 32, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
    let behind = [b"TAG".to_vec(), vec![b' '; 125]].concat();
    let mut d = open([front, frames.concat(), ape, behind].concat()).unwrap();
    assert_eq!((d.tracks()[0].duration, d.tracks()[0].packets), (plain.duration, plain.packets));
    assert_eq!(
        d.about().tags,
        [("title".to_owned(), "Dawn".to_owned()), ("artist".to_owned(), "Warden".to_owned())]
    );
    assert_eq!((packets(d.as_mut()).1, d.about().damage.clone()), (0, None));
}

#[test]
fn without_the_frame_that_counts_everything_is_heard() {
    let (_, frames) = mp3();
    let d = open(frames[1..].concat()).unwrap();
    assert_eq!(d.tracks()[0].duration.ticks, (frames.len() as i64 - 1) * 1152);
    assert_eq!(d.tracks()[0].packets, Some(frames.len() as u64 - 1));
}

#[test]
fn an_mp3_with_a_hole_goes_on_behind_it() {
    let (_, mut frames) = mp3();
    frames[9] = vec![0; 200];
    let (got, bad) = packets(open(frames.concat()).unwrap().as_mut());
    assert_eq!((got.len(), bad), (frames.len() - 2, 1));
}

#[rstest]
#[case("tone.mp3", "MP3")]
#[case("sound-16.flac", "FLAC")]
fn a_tag_in_front_hides_no_format(#[case] name: &str, #[case] format: &str) {
    let bytes = [tag(&[0; 3000]), fixture(name)].concat();
    let mut d = open(bytes).unwrap();
    assert_eq!(d.format(), format);
    assert!(!packets(d.as_mut()).0.is_empty());
}

#[rstest]
#[case::cut(|b: &mut Vec<u8>| b.truncate(b.len() / 2))]
#[case::cut_by_a_little(|b: &mut Vec<u8>| b.truncate(b.len() - 1600))]
fn a_flac_that_is_cut_says_how_much_is_missing(#[case] cut: fn(&mut Vec<u8>)) {
    let mut bytes = fixture("sound-24.flac");
    cut(&mut bytes);
    match open(bytes) {
        Ok(d) => {
            // One frame holds all of this short sound: what is left of it cannot be told from a whole one.
            assert!(d.tracks()[0].packets.is_some());
        }
        Err(e) => assert!(e.to_string().contains("FLAC"), "{e}"),
    }
}

/// Pages of an Ogg file: where each begins, and its granule.
fn pages(b: &[u8]) -> Vec<(usize, i64)> {
    let mut out = Vec::new();
    let mut at = 0;
    while b.get(at..at + 4) == Some(b"OggS") {
        let granule = i64::from_le_bytes(b[at + 6..at + 14].try_into().unwrap());
        out.push((at, granule));
        let n = usize::from(b[at + 26]);
        at += 27 + n + b[at + 27..at + 27 + n].iter().map(|&v| usize::from(v)).sum::<usize>();
    }
    out
}

#[rstest]
#[case("tone.ogg", 44_100)]
#[case("tone.opus", 48_000)]
fn an_ogg_without_its_last_pages_ends_where_they_begin(#[case] name: &str, #[case] rate: u32) {
    let bytes = fixture(name);
    let all = pages(&bytes);
    assert!(all.len() >= 3, "{} pages", all.len());
    let whole = open(bytes.clone()).unwrap().tracks()[0].duration;
    let (last, _) = all[all.len() - 1];
    match open(bytes[..last].to_vec()) {
        Ok(d) => assert!(d.tracks()[0].duration < whole && d.tracks()[0].timescale == rate),
        Err(e) => panic!("{e}"),
    }
    // Half of a page: said.
    let cut = open(bytes[..last + 40].to_vec()).unwrap();
    assert!(cut.about().damage.as_ref().unwrap().contains("cut off"));
}

#[test]
fn noise_between_pages_is_passed_over() {
    let bytes = fixture("tone.opus");
    let all = pages(&bytes);
    let middle = all[all.len() - 1].0;
    let mut d = open([&bytes[..middle], &[7; 99], &bytes[middle..]].concat()).unwrap();
    assert!(d.about().remarks.iter().any(|r| r.contains("99 bytes that are no page")), "{:?}", d.about());
    let clean = packets(open(bytes).unwrap().as_mut()).0;
    assert_eq!(packets(d.as_mut()), (clean, 1));
}

/// A second stream joined behind the first is not taken for a part of it.
#[test]
fn what_is_chained_behind_does_no_harm() {
    let (a, b) = (fixture("tone.ogg"), fixture("tone.opus"));
    let alone = packets(open(a.clone()).unwrap().as_mut()).0;
    let mut d = open([a, b].concat()).unwrap();
    assert_eq!(d.tracks().len(), 1);
    assert_eq!(packets(d.as_mut()).0, alone);
}

#[rstest]
#[case(b"sound-16.aiff".as_slice(), b"SSND".as_slice())]
#[case(b"sound-24.wav", b"data")]
#[case(b"sound-24.caf", b"data")]
fn a_cut_file_of_samples_says_so_and_gives_what_is_there(#[case] name: &[u8], #[case] chunk: &[u8]) {
    let mut bytes = fixture(std::str::from_utf8(name).unwrap());
    assert!(bytes.windows(4).any(|w| w == chunk));
    bytes.truncate(bytes.len() - 6000);
    let mut d = open(bytes).unwrap();
    assert!(d.about().damage.as_ref().unwrap().contains("cut off"), "{:?}", d.about());
    let (got, bad) = packets(d.as_mut());
    assert!(bad == 0 && got.iter().map(|p| p.duration).sum::<i64>() == d.tracks()[0].duration.ticks);
}

/// MPEG video of one slice a picture: a header of 176x144 at 25 frames a second in front of every fourth.
fn pictures(n: u8) -> Vec<Vec<u8>> {
    let one = |i: u8| {
        let mut p = Vec::new();
        if i.is_multiple_of(4) {
            p.extend([0, 0, 1, 0xb3, 0x0b, 0x00, 0x90, 0x13, 0xff, 0xff, 0xe0, 0x18]);
        }
        p.extend([0, 0, 1, 0, i, 0x4f, 0xff, 0xf8, 0, 0, 1, 1]);
        p.extend((0..200u8).map(|k| k | 1));
        p
    };
    (0..n).map(one).collect()
}

#[rstest]
fn a_program_stream_gives_what_went_in(#[values(64, 150, 60_000)] piece: usize) {
    let (_, frames) = mp3();
    let frames = &frames[1..];
    let timed = |list: &[Vec<u8>], each: f64| -> Vec<(u64, Vec<u8>)> {
        list.iter().enumerate().map(|(i, p)| (90_000 + (i as f64 * each) as u64, p.clone())).collect()
    };
    let video = pictures(20);
    let bytes = program(&timed(&video, 3600.0), &timed(frames, 90_000.0 * 1152.0 / 44_100.0), piece);
    let mut d = open(bytes.clone()).unwrap();
    let v = d.tracks()[0].clone();
    assert_eq!((d.format(), v.codec.name().as_str()), ("MPEG program stream", "MPEG-1 video"));
    assert_eq!(
        (v.video().unwrap().rate, v.shown, v.duration),
        (Ratio::new(25, 1), Some(20), Time::new(20, 25))
    );
    assert_eq!(d.tracks()[1].duration, Time::new(frames.len() as i64 * 1152, 44_100));
    let (got, bad) = packets(d.as_mut());
    assert_eq!(bad, 0);
    let of = |t: usize| got.iter().filter(|p| p.track == t).map(|p| p.data.clone()).collect::<Vec<_>>();
    assert_eq!(of(0), video);
    assert_eq!(of(1), frames);
    // Noise in the middle costs only itself.
    let mut harmed = bytes;
    let middle = harmed.len() / 2;
    harmed[middle..middle + 60].fill(0xee);
    let (left, _) = packets(open(harmed).unwrap().as_mut());
    assert!(left.len() + 6 >= got.len(), "{} of {}", left.len(), got.len());
}
