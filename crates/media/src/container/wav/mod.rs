//! WAVE: RIFF (Multimedia Programming Interface 1.0, 1991), RF64 and BW64 (EBU Tech 3306; ITU-R BS.2088-1),
//! with the broadcast extension (EBU Tech 3285).

use super::block::BlockReader;
use super::{About, AudioTrack, Codec, Demux, Format, Media, Packet, PcmKind, PcmLayout, Source, Track};
use crate::error::{Error, Result};
use crate::limits::{MAX_CHANNELS, MAX_SAMPLE_RATE, MIN_SAMPLE_RATE};
use crate::units::Time;
use std::io::SeekFrom;

pub static FORMAT: Format = Format { name: "WAV", score, open };

fn score(head: &[u8]) -> u8 {
    match (head.get(..4), head.get(8..12)) {
        (Some(b"RIFF" | b"RF64" | b"BW64"), Some(b"WAVE")) => 100,
        _ => 0,
    }
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    Ok(Box::new(WavReader::open(source)?))
}

/// Samples of all channels in a packet.
const RUN: u64 = 4096;
/// Longest description chunk that is read.
const MAX_CHUNK: u64 = 1 << 16;
const MAX_CHUNKS: usize = 10_000;

struct WavReader {
    source: BlockReader,
    tracks: Vec<Track>,
    about: About,
    data_at: u64,
    frame: u64,
    total: u64,
    next: u64,
    chosen: bool,
}

fn le16(b: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(b.get(at..at + 2)?.try_into().ok()?))
}
fn le32(b: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(b.get(at..at + 4)?.try_into().ok()?))
}
fn le64(b: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_le_bytes(b.get(at..at + 8)?.try_into().ok()?))
}

impl WavReader {
    fn open(mut source: Box<dyn Source>) -> Result<Self> {
        let file_end = source.seek(SeekFrom::End(0))?;
        let mut about = About::default();
        let (mut fmt, mut data, mut long_data) = (None, None, None);
        let mut at = 12u64;
        for _ in 0..MAX_CHUNKS {
            if at + 8 > file_end {
                break;
            }
            source.seek(SeekFrom::Start(at))?;
            let mut head = [0u8; 8];
            source.read_exact(&mut head)?;
            let mut size = u64::from(le32(&head, 4).unwrap_or(0));
            let body = at + 8;
            let mut read = |most: u64| -> Result<Vec<u8>> {
                let n = size.min(most).min(file_end - body);
                let mut b = vec![0; n as usize];
                source.read_exact(&mut b)?;
                Ok(b)
            };
            match &head[..4] {
                b"fmt " => fmt = Some(read(MAX_CHUNK)?),
                b"ds64" => long_data = read(28)?.get(8..).and_then(|b| le64(b, 0)),
                b"bext" => broadcast(&read(MAX_CHUNK)?, &mut about),
                b"data" => {
                    if size == u64::from(u32::MAX)
                        && let Some(n) = long_data
                    {
                        size = n;
                    }
                    // A writer that never came back to fill in the size leaves 0 or all ones.
                    let open_end = size == 0 || size == u64::from(u32::MAX);
                    let there = file_end - body;
                    if !open_end && size > there {
                        about.damage = Some(format!(
                            "cut off, or still being copied: the sound data should have {size} bytes, but the file ends after {there}"
                        ));
                    }
                    let len = if open_end { there } else { size.min(there) };
                    data = data.or(Some((body, len)));
                }
                _ => (),
            }
            // Chunks stand at even offsets.
            at = body.saturating_add(size).saturating_add(size & 1);
        }
        let fmt = fmt.ok_or_else(|| Error::damaged("WAV", "no 'fmt ' chunk"))?;
        let (data_at, len) = data.ok_or_else(|| Error::damaged("WAV", "no 'data' chunk"))?;
        let (codec, rate, channels, frame) = describe(&fmt)?;
        let total = len / frame;
        let track = Track {
            id: 1,
            media: Media::Audio(AudioTrack { rate, channels, profile: None }),
            codec,
            timescale: rate,
            setup: Vec::new(),
            start: Time::new(0, rate),
            duration: Time::new(total.min(i64::MAX as u64) as i64, rate),
            packets: None,
            shown: None,
            language: None,
            bytes: Some(len),
        };
        let source = BlockReader::new(source);
        Ok(WavReader { source, tracks: vec![track], about, data_at, frame, total, next: 0, chosen: true })
    }
}

fn describe(fmt: &[u8]) -> Result<(Codec, u32, u16, u64)> {
    let cut = || Error::damaged("WAV/fmt", "the chunk is cut short");
    let mut tag = le16(fmt, 0).ok_or_else(cut)?;
    let channels = le16(fmt, 2).ok_or_else(cut)?;
    let rate = le32(fmt, 4).ok_or_else(cut)?;
    let frame = le16(fmt, 12).ok_or_else(cut)?;
    let bits = le16(fmt, 14).ok_or_else(cut)?;
    let mut valid = bits;
    if tag == 0xfffe {
        valid = le16(fmt, 18).filter(|&v| v > 0 && v <= bits).unwrap_or(bits);
        tag = le16(fmt, 24).ok_or_else(cut)?;
    }
    if channels == 0 || channels > MAX_CHANNELS {
        return Err(Error::damaged("WAV/fmt", format!("{channels} channels; 1 to {MAX_CHANNELS}")));
    }
    if !(MIN_SAMPLE_RATE..=MAX_SAMPLE_RATE).contains(&rate) {
        return Err(Error::damaged(
            "WAV/fmt",
            format!("sample rate {rate} Hz; {MIN_SAMPLE_RATE} to {MAX_SAMPLE_RATE}"),
        ));
    }
    let bytes = (frame / channels).max(1);
    let pcm = |kind| {
        Codec::Pcm(PcmLayout {
            bits: valid.min(64) as u8,
            bytes: bytes.min(255) as u8,
            big_endian: false,
            kind,
        })
    };
    let codec = match tag {
        1 if bytes == 1 => pcm(PcmKind::Unsigned),
        1 => pcm(PcmKind::Signed),
        3 => pcm(PcmKind::Float),
        6 => pcm(PcmKind::Alaw),
        7 => pcm(PcmKind::Mulaw),
        0x50 => Codec::Other { code: "0x0050".into(), name: Some("MPEG-1 layer II") },
        0x55 => Codec::Other { code: "0x0055".into(), name: Some("MP3") },
        2 => Codec::Other { code: "0x0002".into(), name: Some("ADPCM") },
        n => Codec::Other { code: format!("{n:#06x}"), name: None },
    };
    if matches!(codec, Codec::Pcm(_)) && u64::from(bytes) * u64::from(channels) != u64::from(frame) {
        return Err(Error::damaged("WAV/fmt", format!("{frame} bytes for a sample of {channels} channels")));
    }
    Ok((codec, rate, channels, u64::from(frame.max(1))))
}

/// EBU Tech 3285, table 1.
fn broadcast(b: &[u8], about: &mut About) {
    let text = |from: usize, len: usize| {
        let raw = b.get(from..from + len)?;
        let raw = &raw[..raw.iter().position(|&c| c == 0).unwrap_or(len)];
        let t = String::from_utf8_lossy(raw).trim().to_owned();
        (!t.is_empty()).then_some(t)
    };
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

impl Demux for WavReader {
    fn format(&self) -> &'static str {
        FORMAT.name
    }
    fn tracks(&self) -> &[Track] {
        &self.tracks
    }
    fn about(&self) -> &About {
        &self.about
    }
    fn choose(&mut self, tracks: &[usize]) {
        self.chosen = tracks.contains(&0);
    }
    fn next_packet(&mut self) -> Result<Option<Packet>> {
        let n = RUN.min(self.total - self.next);
        if n == 0 || !self.chosen {
            return Ok(None);
        }
        let data = self.source.read(self.data_at + self.next * self.frame, (n * self.frame) as usize)?;
        let pts = self.next as i64;
        self.next += n;
        Ok(Some(Packet { pts, duration: n as i64, key: true, shown: true, data, ..Packet::default() }))
    }
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
    fn read(bytes: Vec<u8>) -> Result<WavReader> {
        WavReader::open(Box::new(Cursor::new(bytes)))
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
        assert_eq!(r.tracks[0].duration, Time::new(samples, 8000));
        assert_eq!(r.about.damage.is_some(), damage.is_some());
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
        assert_eq!((r.total, r.about.start_samples), (100, Some(172_800_000)));
        assert_eq!(r.about.tags[0].1, "Marsh");
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
