//! WAVE: RIFF (Multimedia Programming Interface 1.0, 1991), RF64 and BW64 (EBU Tech 3306; ITU-R BS.2088-1),
//! with the broadcast extension (EBU Tech 3285).

mod long;
mod mux;

pub use long::FORMAT as LONG_FORMAT;
pub use mux::Writer;

use super::codes;
use super::reader::Reader;
use super::sound::frames::Frames;
use super::sound::samples::{Place, Samples};
use super::stream::{Described, Look, Streamed};
use super::timing::block;
use super::{About, AudioTrack, Codec, Demux, Format, Media, Source, Track, Tried};
use crate::bits::{le32, le64, text};
use crate::codec::mpeg_audio::Header;
use crate::error::{Error, Result};
use crate::limits::{MAX_CHANNELS, MAX_SAMPLE_RATE, MIN_SAMPLE_RATE};
use crate::units::Time;

pub static FORMAT: Format = Format { name: "WAV", score, open, tried: Tried::Files };

fn score(head: &[u8]) -> u8 {
    match (head.get(..4), head.get(8..12)) {
        (Some(b"RIFF" | b"RF64" | b"BW64"), Some(b"WAVE")) => 100,
        _ => 0,
    }
}

/// Longest description chunk that is read.
const MAX_CHUNK: u64 = 1 << 16;
const MAX_CHUNKS: usize = 10_000;

#[derive(Default)]
struct Chunks {
    format: Option<Vec<u8>>,
    data: Option<(u64, u64)>,
    /// The sound data's size in a file of more than 4 GB.
    long: Option<u64>,
    /// How many samples there are, where that cannot be told from bytes.
    samples: Option<u64>,
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let mut about = About::default();
    let chunks = read(&mut r, &mut about)?;
    demux(FORMAT.name, r, about, chunks)
}

/// What the chunks describe, whatever form they lie in.
fn demux(name: &'static str, mut r: Reader, about: About, chunks: Chunks) -> Result<Box<dyn Demux>> {
    let fmt = chunks.format.ok_or_else(|| Error::damaged("WAV", "no 'fmt ' chunk"))?;
    let (at, len) = chunks.data.ok_or_else(|| Error::damaged("WAV", "no 'data' chunk"))?;
    let w = codes::wave(&fmt).ok_or_else(|| Error::damaged("WAV/fmt", "the chunk is cut short"))?;
    if w.channels == 0 || w.channels > MAX_CHANNELS {
        return Err(Error::damaged("WAV/fmt", format!("{} channels; 1 to {MAX_CHANNELS}", w.channels)));
    }
    if !(MIN_SAMPLE_RATE..=MAX_SAMPLE_RATE).contains(&w.rate) {
        return Err(Error::damaged(
            "WAV/fmt",
            format!("sample rate {} Hz; {MIN_SAMPLE_RATE} to {MAX_SAMPLE_RATE}", w.rate),
        ));
    }
    let media = Media::Audio(AudioTrack { rate: w.rate, channels: w.channels, profile: None });
    let mut track = Track::new(1, w.codec, media, w.rate);
    track.setup = w.setup;
    let bytes = match &track.codec {
        Codec::Pcm(p) => Some(u64::from(p.bytes) * u64::from(w.channels)),
        _ => None,
    };
    if bytes.is_some_and(|b| b != u64::from(w.block)) {
        return Err(Error::damaged(
            "WAV/fmt",
            format!("{} bytes for a sample of {} channels", w.block, w.channels),
        ));
    }
    if let Codec::MpegAudio(_) = track.codec {
        use super::sound::mpeg::parse;
        r.go(at);
        Frames::sync(&mut r, parse, Header::BYTES, 1 << 20)?;
        let first = r.at();
        let frames = Frames::new(r, parse, Header::BYTES, first, at + len);
        let look = Look { format: name, bytes: 1 << 30, from_zero: false };
        return Ok(Box::new(Streamed::open(frames, vec![Described::new(track, w.rate)], about, look)?));
    }
    let frame = bytes.unwrap_or(u64::from(w.block));
    let each = block(&track.codec, w.channels).map_or(1, |(_, n)| n.into());
    let place = Place { at, len, frame, each };
    let seconds = match bytes {
        // Of blocks it is known how much is in them.
        None if each > 1 => None,
        None if w.bytes_per_second > 0 => Some(len as f64 / f64::from(w.bytes_per_second)),
        _ => None,
    };
    let mut samples = Samples::new(name, r.into_source(), track, about, place);
    if let Some(n) = chunks.samples.filter(|_| each > 1) {
        samples.set_heard(n);
    }
    if let Some(s) = seconds {
        // Coded sound is as long as its bytes take at the stated rate.
        samples.set_duration(Time::new((s * 1000.0) as i64, 1000));
    }
    Ok(Box::new(samples))
}

fn read(r: &mut Reader, about: &mut About) -> Result<Chunks> {
    let mut c = Chunks::default();
    r.go(12);
    for _ in 0..MAX_CHUNKS {
        let Some(head) = r.array::<8>()? else { break };
        let mut size = u64::from(le32(&head, 4).unwrap_or(0));
        let body = r.at();
        let there = r.left();
        let some = size.min(MAX_CHUNK).min(there);
        match &head[..4] {
            b"fmt " => c.format = Some(r.take(some, "fmt")?),
            b"ds64" => c.long = r.take(size.min(28).min(there), "ds64")?.get(8..).and_then(|b| le64(b, 0)),
            b"fact" => c.samples = r.take(some, "fact")?.get(..4).and_then(|b| le32(b, 0)).map(u64::from),
            b"bext" => broadcast(&r.take(some, "bext")?, about),
            b"iXML" => production(&String::from_utf8_lossy(&r.take(some, "iXML")?), about),
            b"LIST" => list(&r.take(some, "LIST")?, about),
            b"data" => {
                if size == u64::from(u32::MAX)
                    && let Some(n) = c.long
                {
                    size = n;
                }
                // A writer that never came back to fill in the size leaves 0 or all ones.
                let open_end = size == 0 || size == u64::from(u32::MAX);
                if !open_end && size > there {
                    about.damage = Some(format!(
                        "cut off, or still being copied: the sound data should have {size} bytes, but the file ends after {there}"
                    ));
                }
                let len = if open_end { there } else { size.min(there) };
                c.data = c.data.or(Some((body, len)));
            }
            _ => (),
        }
        // Chunks stand at even offsets.
        r.go(body.saturating_add(size).saturating_add(size & 1));
    }
    Ok(c)
}

/// The INFO list of RIFF files.
fn list(b: &[u8], about: &mut About) {
    let Some(mut b) = b.strip_prefix(b"INFO") else { return };
    while let Some((kind, rest)) = b.split_first_chunk::<4>() {
        let Some(size) = le32(rest, 0).map(|n| n as usize) else { return };
        let body = &rest[4..];
        let key = match kind {
            b"INAM" => Some("title"),
            b"IART" => Some("artist"),
            b"ICMT" => Some("comment"),
            b"ICRD" => Some("date"),
            b"ISFT" => Some("software"),
            _ => None,
        };
        if let (Some(key), Some(t)) = (key, text(&body[..size.min(body.len())])) {
            about.note(key, t);
        }
        b = body.get(size.saturating_add(size & 1)..).unwrap_or(&[]);
    }
}

/// What location recorders write beside the sound (iXML specification, 1.61): the fields a coordinator asks for.
fn production(xml: &str, about: &mut About) {
    for (element, key) in
        [("PROJECT", "project"), ("SCENE", "scene"), ("TAKE", "take"), ("TAPE", "reel"), ("NOTE", "note")]
    {
        let found = xml.split_once(&format!("<{element}>")).and_then(|(_, rest)| rest.split_once("</"));
        if let Some((value, _)) = found.filter(|(v, _)| !v.trim().is_empty() && v.len() < 4096) {
            about.note(key, value.trim().to_owned());
        }
    }
}

/// EBU Tech 3285, table 1.
fn broadcast(b: &[u8], about: &mut About) {
    let text = |from: usize, len: usize| b.get(from..from + len).and_then(text);
    for (key, from, len) in
        [("description", 0, 256), ("originator", 256, 32), ("originator reference", 288, 32)]
    {
        if let Some(t) = text(from, len) {
            about.tags.push((key.into(), t));
        }
    }
    if let (Some(date), Some(time)) = (text(320, 10), text(330, 8)) {
        about.created = Some(format!(
            "{}T{}",
            date.replace([':', '_', '/', '.'], "-"),
            time.replace(['-', '_', '/', '.'], ":")
        ));
    }
    about.start_samples = le64(b, 338);
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Cursor;

    fn chunk(out: &mut Vec<u8>, kind: &[u8; 4], size: u32, body: &[u8]) {
        out.extend(kind);
        out.extend(size.to_le_bytes());
        out.extend(body);
        if body.len() % 2 == 1 {
            out.push(0);
        }
    }
    fn fmt(tag: u16, channels: u16, rate: u32, bits: u16) -> Vec<u8> {
        let frame = channels * bits.div_ceil(8);
        let mut b = Vec::new();
        b.extend(tag.to_le_bytes());
        b.extend(channels.to_le_bytes());
        b.extend(rate.to_le_bytes());
        b.extend((rate * u32::from(frame)).to_le_bytes());
        b.extend(frame.to_le_bytes());
        b.extend(bits.to_le_bytes());
        b
    }
    fn wav(riff: &[u8; 4], chunks: &[(&[u8; 4], u32, Vec<u8>)]) -> Vec<u8> {
        let mut out = riff.to_vec();
        out.extend([0xff; 4]);
        out.extend(b"WAVE");
        for (k, s, b) in chunks {
            chunk(&mut out, k, *s, b);
        }
        out
    }
    fn read(bytes: Vec<u8>) -> Result<Box<dyn Demux>> {
        open(Box::new(Cursor::new(bytes)))
    }

    #[rstest]
    #[case::stated(10_000, 5000, None)]
    #[case::never_filled_in(0, 5000, None)]
    #[case::cut(20_000, 5000, Some("cut off"))]
    fn length_comes_from_what_is_there(
        #[case] stated: u32,
        #[case] samples: i64,
        #[case] damage: Option<&str>,
    ) {
        let mut r =
            read(wav(b"RIFF", &[(b"fmt ", 16, fmt(1, 1, 8000, 16)), (b"data", stated, vec![1; 10_000])]))
                .unwrap();
        assert_eq!(r.tracks()[0].duration, Time::new(samples, 8000));
        assert_eq!(r.about().damage.is_some(), damage.is_some());
        let mut bytes = 0;
        while let Some(p) = r.next_packet().unwrap() {
            bytes += p.data.len();
        }
        assert_eq!(bytes, 10_000);
    }

    #[test]
    fn rf64_sizes_and_broadcast_start_are_read() {
        let mut ds64 = vec![0; 8];
        ds64.extend(600u64.to_le_bytes());
        ds64.extend([0; 12]);
        let mut bext = vec![0; 602];
        bext[..5].copy_from_slice(b"Marsh");
        bext[338..346].copy_from_slice(&172_800_000u64.to_le_bytes());
        let r = read(wav(
            b"RF64",
            &[
                (b"ds64", 28, ds64),
                (b"bext", 602, bext),
                (b"fmt ", 16, fmt(1, 2, 48_000, 24)),
                (b"data", u32::MAX, vec![0; 600]),
            ],
        ))
        .unwrap();
        assert_eq!((r.tracks()[0].duration.ticks, r.about().start_samples), (100, Some(172_800_000)));
        assert_eq!(r.about().tags[0].1, "Marsh");
    }

    #[test]
    fn what_recorders_write_beside_the_sound_is_read() {
        let ixml =
            b"<BWFXML><PROJECT>Estuary Hours</PROJECT><SCENE>12A</SCENE><TAPE></TAPE></BWFXML>".to_vec();
        let mut info = b"INFOINAM\x05\0\0\0Marsh\0ISFT\xff\0\0\0cut".to_vec();
        info.push(0);
        let (a, b) = (ixml.len() as u32, info.len() as u32);
        let r = read(wav(
            b"RIFF",
            &[
                (b"fmt ", 16, fmt(1, 1, 8000, 8)),
                (b"iXML", a, ixml),
                (b"LIST", b, info),
                (b"data", 2, vec![0; 2]),
            ],
        ))
        .unwrap();
        let tags: Vec<_> = r.about().tags.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
        assert_eq!(
            tags,
            [("project", "Estuary Hours"), ("scene", "12A"), ("title", "Marsh"), ("software", "cut")]
        );
    }

    #[rstest]
    #[case(fmt(1, 0, 8000, 16), "0 channels")]
    #[case(fmt(1, 1, 9_999_999, 16), "sample rate")]
    #[case(vec![1, 0], "cut short")]
    fn false_descriptions_are_refused(#[case] f: Vec<u8>, #[case] words: &str) {
        let len = f.len() as u32;
        let e = read(wav(b"RIFF", &[(b"fmt ", len, f), (b"data", 2, vec![0; 2])])).err().unwrap();
        assert!(e.to_string().contains(words), "{e}");
    }
}
