//! Files laid out as other writers lay them out, box by box.

use super::boxes::Builder;
use crate::container::{self, Codec, Demux, Packet, PcmKind};
use crate::units::Time;
use rstest::rstest;
use std::io::Cursor;

/// An edit: duration in movie ticks, media time.
type Edit = (u32, i32);

struct Sound {
    kind: &'static [u8; 4],
    channels: u16,
    bits: u16,
    /// What `stsz` says of every sample.
    stated_size: u32,
    samples: u32,
    chunk: u32,
    edits: Vec<Edit>,
    bytes: Vec<u8>,
}

impl Default for Sound {
    fn default() -> Self {
        Sound {
            kind: b"sowt",
            channels: 2,
            bits: 16,
            stated_size: 4,
            samples: 1000,
            chunk: 300,
            edits: Vec::new(),
            bytes: Vec::new(),
        }
    }
}

const MOVIE: u32 = 600;
const RATE: u32 = 8000;

/// Which parts stand in which order.
#[derive(Clone, Copy)]
enum Order {
    IndexFirst,
    IndexLast,
    /// Filler, an unknown box, the index, more filler, the media.
    Scattered,
}

fn file(sound: &Sound, order: Order, wide_offsets: bool) -> Vec<u8> {
    let mut ftyp = Builder::new();
    ftyp.put(b"ftyp", |b| b.raw(b"qt  \0\0\0\0qt  "));
    let mut filler = Builder::new();
    filler.put(b"wide", |_| ());
    filler.put(b"free", |b| b.zeros(37));
    filler.put(b"Xyz!", |b| b.raw(b"nobody knows this"));
    let index_len = index(sound, 0, wide_offsets).len() as u64;
    let head = ftyp.bytes.len() as u64;
    let media_at = 8 + match order {
        Order::IndexFirst => head + index_len,
        Order::IndexLast => head,
        Order::Scattered => head + 2 * filler.bytes.len() as u64 + index_len,
    };
    let moov = index(sound, media_at, wide_offsets);
    let mut mdat = Builder::new();
    mdat.put(b"mdat", |b| b.raw(&sound.bytes));
    let parts: Vec<&[u8]> = match order {
        Order::IndexFirst => vec![&ftyp.bytes, &moov, &mdat.bytes],
        Order::IndexLast => vec![&ftyp.bytes, &mdat.bytes, &moov],
        Order::Scattered => vec![&ftyp.bytes, &filler.bytes, &moov, &filler.bytes, &mdat.bytes],
    };
    parts.concat()
}

fn index(s: &Sound, media_at: u64, wide: bool) -> Vec<u8> {
    let mut b = Builder::new();
    b.put(b"moov", |b| {
        b.full(b"mvhd", 0, 0, |b| {
            b.zeros(8);
            b.u32(MOVIE);
            b.zeros(84);
        });
        b.put(b"trak", |b| {
            b.full(b"tkhd", 0, 7, |b| {
                b.zeros(8);
                b.u32(9);
                b.zeros(68);
            });
            if !s.edits.is_empty() {
                b.put(b"edts", |b| {
                    b.full(b"elst", 0, 0, |b| {
                        b.u32(s.edits.len() as u32);
                        for (duration, media) in &s.edits {
                            b.u32(*duration);
                            b.u32(*media as u32);
                            b.u32(0x10000);
                        }
                    })
                });
            }
            b.put(b"mdia", |b| {
                b.full(b"mdhd", 0, 0, |b| {
                    b.zeros(8);
                    b.u32(RATE);
                    b.zeros(8);
                });
                b.full(b"hdlr", 0, 0, |b| {
                    b.u32(0);
                    b.raw(b"soun");
                    b.zeros(13);
                });
                b.put(b"minf", |b| b.put(b"stbl", |b| tables(b, s, media_at, wide)));
            });
        });
    });
    b.bytes
}

fn tables(b: &mut Builder, s: &Sound, media_at: u64, wide: bool) {
    b.full(b"stsd", 0, 0, |b| {
        b.u32(1);
        b.put(s.kind, |b| {
            b.zeros(16);
            b.u16(s.channels);
            b.u16(s.bits);
            b.u32(0);
            b.u32(RATE << 16);
        });
    });
    b.full(b"stts", 0, 0, |b| [1, s.samples, 1].iter().for_each(|v| b.u32(*v)));
    b.full(b"stsz", 0, 0, |b| [s.stated_size, s.samples].iter().for_each(|v| b.u32(*v)));
    let chunks = s.samples.div_ceil(s.chunk);
    let last = s.samples - (chunks - 1) * s.chunk;
    b.full(b"stsc", 0, 0, |b| {
        let runs = if chunks > 1 { vec![2, 1, s.chunk, 1, chunks, last, 1] } else { vec![1, 1, last, 1] };
        runs.iter().for_each(|v| b.u32(*v));
    });
    let frame = u64::from(s.channels) * u64::from(s.bits / 8);
    b.full(if wide { b"co64" } else { b"stco" }, 0, 0, |b| {
        b.u32(chunks);
        for c in 0..u64::from(chunks) {
            let at = media_at + c * u64::from(s.chunk) * frame;
            if wide { b.u64(at) } else { b.u32(at as u32) }
        }
    });
}

fn ramp(frames: u32, frame: u32) -> Vec<u8> {
    (0..frames * frame).map(|i| (i / frame % 251) as u8).collect()
}

fn open(bytes: Vec<u8>) -> Box<dyn Demux> {
    container::open(Box::new(Cursor::new(bytes))).unwrap()
}

fn packets(d: &mut dyn Demux) -> Vec<Packet> {
    std::iter::from_fn(|| d.next_packet().unwrap()).collect()
}

#[rstest]
fn any_order_of_boxes_gives_the_same_sound(
    #[values(Order::IndexFirst, Order::IndexLast, Order::Scattered)] order: Order,
    #[values(false, true)] wide: bool,
) {
    let sound = Sound { bytes: ramp(1000, 4), ..Sound::default() };
    let mut d = open(file(&sound, order, wide));
    assert_eq!(d.tracks()[0].duration, Time::new(1000, RATE));
    let all: Vec<u8> = packets(d.as_mut()).into_iter().flat_map(|p| p.data).collect();
    assert!(all == sound.bytes);
}

/// QuickTime writers state 1, or one channel's bytes, as the size of a sample of uncompressed sound.
#[rstest]
#[case(b"sowt", 16, 1)]
#[case(b"twos", 16, 2)]
#[case(b"in24", 24, 1)]
#[case(b"raw ", 8, 1)]
fn sizes_of_uncompressed_samples_are_known_better(
    #[case] kind: &'static [u8; 4],
    #[case] bits: u16,
    #[case] stated: u32,
) {
    let frame = u32::from(bits / 8) * 2;
    let sound = Sound { kind, bits, stated_size: stated, bytes: ramp(1000, frame), ..Sound::default() };
    let mut d = open(file(&sound, Order::IndexFirst, false));
    let Codec::Pcm(layout) = d.tracks()[0].codec else { panic!() };
    assert_eq!((u16::from(layout.bits), layout.kind == PcmKind::Unsigned), (bits, bits == 8));
    let got = packets(d.as_mut());
    assert_eq!(got.iter().map(|p| p.duration).sum::<i64>(), 1000);
    assert_eq!(got.iter().map(|p| p.data.len() as u32).sum::<u32>(), 1000 * frame);
}

/// What is heard, sample by sample: (moment of presentation, value).
fn heard(edits: Vec<Edit>) -> (Vec<(i64, u8)>, Time, Time) {
    let sound = Sound {
        channels: 1,
        bits: 8,
        kind: b"raw ",
        stated_size: 1,
        edits,
        bytes: ramp(1000, 1),
        ..Sound::default()
    };
    let mut d = open(file(&sound, Order::IndexFirst, false));
    let mut out = Vec::new();
    for p in packets(d.as_mut()).iter().filter(|p| p.shown) {
        let from = p.trim_start as usize;
        let keep = p.keep.map_or(p.data.len() - from, |k| k as usize);
        out.extend(p.data[from..from + keep].iter().enumerate().map(|(i, v)| (p.pts + i as i64, *v)));
    }
    (out, d.tracks()[0].start, d.tracks()[0].duration)
}

fn value(sample: i64) -> u8 {
    (sample % 251) as u8
}

#[rstest]
// Movie ticks are 1/600 s, samples 1/8000 s: 30 ticks are 400 samples.
#[case::none(vec![], 0, vec![(0, 0, 1000)])]
#[case::starts_inside(vec![(30, 100)], 0, vec![(0, 100, 400)])]
#[case::starts_late(vec![(15, -1), (30, 0)], 200, vec![(200, 0, 400)])]
#[case::two_pieces(vec![(15, 700), (15, 100)], 0, vec![(0, 700, 200), (200, 100, 200)])]
#[case::twice_the_same(vec![(15, 300), (15, 300)], 0, vec![(0, 300, 200), (200, 300, 200)])]
#[case::a_pause_between(vec![(15, 0), (15, -1), (15, 500)], 0, vec![(0, 0, 200), (400, 500, 200)])]
#[case::to_the_end(vec![(75, 10)], 0, vec![(0, 10, 990)])]
fn edits_say_what_is_heard_when(
    #[case] edits: Vec<Edit>,
    #[case] start: i64,
    #[case] pieces: Vec<(i64, i64, i64)>,
) {
    let (got, at, duration) = heard(edits);
    let want: Vec<(i64, u8)> =
        pieces.iter().flat_map(|(at, from, n)| (0..*n).map(move |i| (at + i, value(from + i)))).collect();
    assert_eq!(got, want);
    assert_eq!(at, Time::new(start, RATE));
    let end = pieces.iter().map(|(at, _, n)| at + n).max().unwrap();
    assert_eq!(duration, Time::new(end - start, RATE));
}

#[test]
fn tracks_that_are_not_chosen_are_not_read() {
    let sound = Sound { bytes: ramp(1000, 4), ..Sound::default() };
    let mut d = open(file(&sound, Order::IndexFirst, false));
    d.choose(&[]);
    assert_eq!(d.next_packet().unwrap(), None);
}

#[rstest]
#[case::media_cut(|b: &mut Vec<u8>| b.truncate(b.len() - 100), "goes past the file's end")]
#[case::index_cut(|b: &mut Vec<u8>| b.truncate(200), "the index goes past")]
#[case::only_the_start(|b: &mut Vec<u8>| b.truncate(20), "no index")]
fn what_is_missing_is_said(#[case] cut: fn(&mut Vec<u8>), #[case] words: &str) {
    let sound = Sound { bytes: ramp(1000, 4), ..Sound::default() };
    let mut bytes = file(&sound, Order::IndexFirst, false);
    cut(&mut bytes);
    let said = match container::open(Box::new(Cursor::new(bytes))) {
        Ok(mut d) => {
            let damage = d.about().damage.clone().unwrap();
            // What is there can still be read; what is not is an error, and no hang.
            let (mut good, mut bad) = (0, 0);
            loop {
                match d.next_packet() {
                    Ok(Some(_)) => good += 1,
                    Ok(None) => break,
                    Err(_) => bad += 1,
                }
            }
            assert!(good > 0 && bad > 0, "{good} {bad}");
            damage
        }
        Err(e) => e.to_string(),
    };
    assert!(said.contains(words), "{said}");
}

#[test]
fn a_file_of_one_sample_is_read() {
    let single = Sound { samples: 1, chunk: 1, bytes: ramp(1, 4), ..Sound::default() };
    let mut d = open(file(&single, Order::IndexLast, false));
    assert_eq!(d.tracks()[0].packets, Some(1));
    assert_eq!(packets(d.as_mut())[0].data.len(), 4);
}
