//! Writing transport streams (ISO/IEC 13818-1, 2.4): one programme of one track of H.264 and tracks of AAC.
//!
//! Packets are written in the order of their times, so that none comes long before another that is due; the programme's
//! clock goes with the first track and lies a little before what is decoded.

use crate::codec::{Coded, aac, h264};
use crate::container::wrap::{Ending, Fragment, Mux, OutTrack, OutTrackKind, Sink};
use crate::error::{Error, Result};
use crate::track::Codec;
use crate::units::rescale;
use std::collections::VecDeque;

const PACKET: usize = 188;
const SCALE: u32 = 90_000;
const PMT: u16 = 0x1000;
const FIRST: u16 = 0x100;
/// Times begin here, and the clock so much earlier: decoders have that long to gather what they need.
const BASE: i64 = 90_000;
const EARLY: i64 = 45_000;
/// Tables come again after this time at the latest; 2.7.2 asks for clock samples every 100 ms.
const TABLES_EVERY: i64 = 22_500;
/// So much of a track waits at most for packets of others.
const MOST_WAITING: i64 = 5 * 90_000;

/// What waits of one track: packets with their times, in ticks of 90 kHz.
struct Line {
    coded: Codec,
    is_picture: bool,
    timescale: u32,
    rate: u32,
    channels: u16,
    waiting: VecDeque<(i64, bool, Vec<u8>)>,
    counter: u8,
    ended: bool,
}

impl Line {
    fn is_long(&self) -> bool {
        let ends = self.waiting.front().zip(self.waiting.back());
        ends.is_some_and(|(first, last)| last.0 - first.0 > MOST_WAITING)
    }
}

pub struct Writer {
    out: Box<dyn Sink>,
    lines: Vec<Line>,
    languages: Vec<Option<String>>,
    tables_at: Option<i64>,
    counters: [u8; 2],
    /// The setup of pictures is known at the end; until then packets wait for it in memory only if it is not told before.
    setup: Option<Vec<u8>>,
}

impl Writer {
    pub fn new(out: Box<dyn Sink>, tracks: Vec<OutTrack>) -> Result<Writer> {
        let lines = tracks.iter().map(|t| {
            let (rate, channels) = match t.kind {
                OutTrackKind::Audio { rate, channels, .. } => (rate, channels),
                _ => (0, 0),
            };
            if !matches!(t.codec, Codec::H264 | Codec::Aac) {
                return Err(Error::setting(
                    "container",
                    format!("a transport stream without {}", t.codec.name()),
                ));
            }
            Ok(Line {
                coded: t.codec.clone(),
                is_picture: matches!(t.kind, OutTrackKind::Video { .. }),
                timescale: t.timescale,
                rate,
                channels,
                waiting: VecDeque::new(),
                counter: 0,
                ended: false,
            })
        });
        Ok(Writer {
            out,
            lines: lines.collect::<Result<_>>()?,
            languages: tracks.into_iter().map(|t| t.language).collect(),
            tables_at: None,
            counters: [0; 2],
            setup: None,
        })
    }

    /// Writes what is due: the earliest packet, as long as every track that goes on has one. One that has none for long is not
    /// waited for: sound may end before the pictures do.
    fn pass_on(&mut self) -> Result<()> {
        while self.lines.iter().all(|l| l.ended || !l.waiting.is_empty())
            || self.lines.iter().any(Line::is_long)
        {
            let first =
                self.lines.iter().enumerate().filter_map(|(n, l)| Some((l.waiting.front()?.0, n))).min();
            let Some((at, n)) = first else { return Ok(()) };
            let Some((_, key, data)) = self.lines[n].waiting.pop_front() else { return Ok(()) };
            let due = self.tables_at.is_none_or(|t| at - t >= TABLES_EVERY);
            if due || (key && self.lines[n].is_picture) {
                self.tables()?;
                self.tables_at = Some(at);
            }
            self.packet(n, at, key, &data)?;
        }
        Ok(())
    }

    fn tables(&mut self) -> Result<()> {
        // One programme, described in its own table (2.4.4.3).
        let mut pat = vec![0, 1, 0xc1, 0, 0, 0, 1];
        pat.extend((0xe000 | PMT).to_be_bytes());
        self.section(0, 0, 0, &pat)?;
        // 2.4.4.8: the clock's stream, then each with its kind.
        let mut pmt = vec![0, 1, 0xc1, 0, 0];
        pmt.extend((0xe000 | FIRST).to_be_bytes());
        pmt.extend([0xf0, 0]);
        for (n, line) in self.lines.iter().enumerate() {
            pmt.push(if line.is_picture { 0x1b } else { 0x0f });
            pmt.extend((0xe000 | (FIRST + n as u16)).to_be_bytes());
            let language = self.languages[n].as_ref().filter(|l| l.len() == 3 && !line.is_picture);
            match language {
                Some(l) => {
                    pmt.extend([0xf0, 6, 0x0a, 4]);
                    pmt.extend(l.as_bytes());
                    pmt.push(0);
                }
                None => pmt.extend([0xf0, 0]),
            }
        }
        self.section(PMT, 1, 2, &pmt)
    }

    fn section(&mut self, pid: u16, which: usize, table: u8, body: &[u8]) -> Result<()> {
        let len = (body.len() + 4) as u16;
        let mut s = vec![0, table];
        s.extend((0xb000 | len).to_be_bytes());
        s.extend(body);
        let crc = check_sum(&s[1..]);
        s.extend(crc.to_be_bytes());
        let mut p = vec![0x47];
        p.extend((0x4000 | pid).to_be_bytes());
        p.push(0x10 | self.counters[which]);
        self.counters[which] = (self.counters[which] + 1) & 15;
        p.extend(s);
        p.resize(PACKET, 0xff);
        Ok(self.out.write_all(&p)?)
    }

    /// One coded packet as a packetised one (2.4.3.6), in as many of 188 bytes as it takes.
    fn packet(&mut self, n: usize, at: i64, key: bool, data: &[u8]) -> Result<()> {
        let line = &mut self.lines[n];
        let stream = if line.is_picture { 0xe0 } else { 0xc0 + n as u8 };
        let len = if line.is_picture || data.len() + 8 > 0xffff { 0 } else { data.len() + 8 };
        let mut pes = vec![0, 0, 1, stream, (len >> 8) as u8, len as u8, 0x84, 0x80, 5];
        pes.extend(moment(2, at + BASE));
        pes.extend(data);
        let clock = n == 0;
        let (mut rest, mut first) = (pes.as_slice(), true);
        while !rest.is_empty() {
            // Fields in front: the clock, where decoding may begin, and stuffing.
            let mut field: Vec<u8> = Vec::new();
            if first && (clock || key) {
                field.push(if key && line.is_picture { 0x40 } else { 0 });
                if clock {
                    field[0] |= 0x10;
                    let base = (at + BASE - EARLY).max(0) as u64 & ((1 << 33) - 1);
                    field.extend(((base << 15) | 0x7e00).to_be_bytes()[2..].iter());
                }
            }
            let room = PACKET - 4 - if field.is_empty() { 0 } else { field.len() + 1 };
            let take = rest.len().min(room);
            let mut p = vec![0x47];
            let pid = FIRST + n as u16;
            p.extend((pid | if first { 0x4000 } else { 0 }).to_be_bytes());
            let short = PACKET - 4 - take;
            p.push(if short > 0 { 0x30 } else { 0x10 } | line.counter);
            line.counter = (line.counter + 1) & 15;
            if short > 0 {
                p.push((short - 1) as u8);
                if short > 1 {
                    if field.is_empty() {
                        field.push(0);
                    }
                    field.resize(short - 1, 0xff);
                    p.extend(&field);
                }
            }
            p.extend(&rest[..take]);
            self.out.write_all(&p)?;
            (rest, first) = (&rest[take..], false);
        }
        Ok(())
    }
}

/// 33 bits between marker bits.
fn moment(mark: u8, v: i64) -> [u8; 5] {
    let v = v as u64 & ((1 << 33) - 1);
    [
        mark << 4 | (v >> 29) as u8 & 0xe | 1,
        (v >> 22) as u8,
        (v >> 14) as u8 | 1,
        (v >> 7) as u8,
        (v << 1) as u8 | 1,
    ]
}

/// Annex A.
fn check_sum(bytes: &[u8]) -> u32 {
    bytes.iter().fold(u32::MAX, |crc, b| {
        (0..8).fold(crc ^ u32::from(*b) << 24, |v, _| v << 1 ^ if v >> 31 != 0 { 0x04c1_1db7 } else { 0 })
    })
}

impl Mux for Writer {
    fn write(&mut self, track: usize, packet: &Coded) -> Result<()> {
        let line = &mut self.lines[track];
        // Priming cannot be told: what is not heard is left out.
        if !line.is_picture && packet.pts + packet.duration <= 0 {
            return Ok(());
        }
        let at = rescale(packet.pts, line.timescale, SCALE);
        let data = match line.coded {
            Codec::H264 => {
                let setup = self.setup.as_deref().unwrap_or(&[]);
                // A mark where a picture begins (ITU-T H.264, 7.3.2.4), and its parameters where one may begin.
                let mut data = vec![0, 0, 0, 1, 9, 0xf0];
                if packet.key {
                    let config = h264::Config::parse(setup)?;
                    for set in config.sps.iter().chain(&config.pps) {
                        data.extend([0, 0, 0, 1]);
                        data.extend(set);
                    }
                }
                for unit in h264::nal_units(&packet.data, 4) {
                    data.extend([0, 0, 1]);
                    data.extend(unit?);
                }
                data
            }
            _ => {
                let mut data = aac::adts::write(line.rate, line.channels, packet.data.len())
                    .ok_or_else(|| Error::limit("transport stream", "a packet of sound that is too long"))?;
                data.extend(&packet.data);
                data
            }
        };
        line.waiting.push_back((at, packet.key, data));
        self.pass_on()
    }

    fn setup(&mut self, _track: usize, setup: &[u8]) {
        self.setup.get_or_insert_with(|| setup.to_vec());
    }

    fn finish(mut self: Box<Self>, _endings: &[Ending]) -> Result<Vec<Fragment>> {
        self.lines.iter_mut().for_each(|l| l.ended = true);
        self.pass_on()?;
        self.out.flush()?;
        Ok(Vec::new())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::container::wrap::OutTrackKind;
    use std::io::{Seek, SeekFrom};

    /// Sound that ends long before the pictures do keeps nothing waiting.
    #[test]
    fn a_track_that_ends_early_is_not_waited_for() {
        let kind = OutTrackKind::Audio { rate: 48_000, channels: 2, bits: 128_000 };
        let track = OutTrack {
            codec: Codec::Aac,
            kind,
            timescale: 48_000,
            language: None,
            expected: 0,
            skip: 0,
            reordered: false,
            began: None,
        };
        let mut file = tempfile::tempfile().unwrap();
        let out = Box::new(file.try_clone().unwrap());
        let mut w = Writer::new(out, vec![track.clone(), track]).unwrap();
        for n in 0..2000i64 {
            let packet = Coded::new(n * 1024, 1024, true, vec![7; 100]);
            w.write(0, &packet).unwrap();
            if n < 20 {
                w.write(1, &packet).unwrap();
            }
            assert!(w.lines[0].waiting.len() < 300, "{} packets wait", w.lines[0].waiting.len());
        }
        Box::new(w).finish(&[]).unwrap();
        assert_eq!(file.seek(SeekFrom::End(0)).unwrap() % 188, 0);
    }

    #[test]
    fn moments_are_read_as_they_were_written() {
        for v in [0, 1, 90_000, (1 << 33) - 1, 0x1_2345_6789] {
            let b = moment(2, v);
            let header =
                crate::container::mpeg::pes::parse(&[[0x84, 0x80, 5].as_slice(), &b].concat()).unwrap();
            assert_eq!(header.pts, Some(v as u64));
        }
    }

    #[test]
    fn the_check_sum_is_the_standards() {
        // Over a section and its own sum it is 0 (annex A).
        let mut s = b"\x00\xb0\x0d\x00\x01\xc1\x00\x00\x00\x01\xf0\x00".to_vec();
        s.extend(check_sum(&s).to_be_bytes());
        assert_eq!(check_sum(&s), 0);
    }
}
