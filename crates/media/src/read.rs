//! Reading and decoding: the one loop of everybody who wants pictures or sound of a file. It counts what is damaged, trims
//! what is not to be heard, and goes on behind what cannot be read.

use crate::codec::{self, DecodeAudio, DecodeVideo};
use crate::container::{Demux, Packet, Track};
use crate::error::{Error, Result};
use crate::frame::{AudioFrame, Pool, VideoFrame};
use crate::units::Time;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;

/// Packets that may fail one after the other before the file is given up.
pub const MAX_BAD_IN_A_ROW: u32 = 5_000;

/// Seconds that are read behind the end of what is wanted.
const MARGIN: f64 = 0.5;

/// What comes of a file, in the order in which it becomes ready.
#[derive(Debug)]
pub enum Got {
    Picture {
        track: usize,
        frame: VideoFrame,
    },
    /// A picture that will never come: when it would have been shown.
    Lost {
        track: usize,
        pts: i64,
        duration: i64,
    },
    /// Sound that is to be heard.
    Sound {
        track: usize,
        frame: AudioFrame,
    },
    /// A packet of a track that is taken as it is.
    Packet(Packet),
}

/// The first packet that could not be decoded, or not all of it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Bad {
    /// Number of the packet in its track, from 1.
    pub number: u64,
    /// When it would be shown or heard.
    pub seconds: f64,
    pub why: String,
}

/// How the packets of one track went.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Count {
    pub packets: u64,
    /// Packets that gave sound.
    pub good: u64,
    /// Packets that gave an error.
    pub bad: u64,
    /// Pictures that will never come.
    pub lost: u64,
    /// Pictures in which missing parts were filled from their neighbours.
    pub concealed: u64,
    pub first_bad: Option<Bad>,
}

enum Decoder {
    Pictures(Box<dyn DecodeVideo>),
    Sound(Box<dyn DecodeAudio>),
}

struct Line {
    track: usize,
    timescale: u32,
    decoder: Decoder,
    count: Count,
    /// How far its pictures or sound were given, in seconds.
    given: f64,
    /// What comes before is read only so that decoders are ready, in seconds.
    begin: f64,
    /// Packets before the key picture that decoding begins with.
    skip: Option<Skip>,
}

/// Pictures are wanted from a moment on: the packets from the last key picture at or before it are held until it comes.
struct Skip {
    until: f64,
    held: Vec<Packet>,
    bytes: usize,
}

/// Bytes of packets that are held at most; with more between two key pictures all of them are decoded.
const MOST_HELD: usize = 64 << 20;

/// Reads the chosen tracks of a file.
pub struct Reader<D: Demux> {
    demux: D,
    lines: Vec<Line>,
    /// Tracks whose packets are given as they are, and how far they were, in seconds.
    raw: Vec<(usize, f64)>,
    ready: VecDeque<Got>,
    pictures: Vec<VideoFrame>,
    ended: bool,
    in_a_row: u32,
    /// Packets that could not be read.
    pub unreadable: u64,
    pub first_unreadable: Option<String>,
}

impl<D: Demux> Reader<D> {
    /// Decoders for all of `tracks`, or why one of them cannot be decoded.
    pub fn new(demux: D, tracks: &[usize], pool: &Pool) -> Result<Self> {
        let decoders = tracks
            .iter()
            .map(|&t| Ok((t, Self::decoder(&demux.tracks()[t], pool)?)))
            .collect::<Result<_>>()?;
        Ok(Self::with(demux, decoders))
    }

    /// The same, with the packets of some tracks as they are.
    pub fn with_packets(demux: D, tracks: &[usize], raw: &[usize], pool: &Pool) -> Result<Self> {
        let mut reader = Self::new(demux, tracks, pool)?;
        reader.raw = raw.iter().map(|t| (*t, 0.0)).collect();
        let all: Vec<usize> = tracks.iter().chain(raw).copied().collect();
        reader.demux.choose(&all);
        Ok(reader)
    }

    fn decoder(track: &Track, pool: &Pool) -> Result<Decoder> {
        Ok(match track.video() {
            Some(_) => Decoder::Pictures(codec::video_decoder(track, pool)?),
            None => Decoder::Sound(codec::audio_decoder(track)?),
        })
    }

    /// Reads those of `tracks` that can be decoded; gives the others with the reason.
    pub fn of_all(demux: D, tracks: &[usize], pool: &Pool) -> (Self, Vec<(usize, Error)>) {
        let (mut decoders, mut others) = (Vec::new(), Vec::new());
        for &t in tracks {
            match Self::decoder(&demux.tracks()[t], pool) {
                Ok(d) => decoders.push((t, d)),
                Err(e) => others.push((t, e)),
            }
        }
        (Self::with(demux, decoders), others)
    }

    fn with(mut demux: D, decoders: Vec<(usize, Decoder)>) -> Self {
        demux.choose(&decoders.iter().map(|(t, _)| *t).collect::<Vec<_>>());
        let lines = decoders
            .into_iter()
            .map(|(track, decoder)| {
                let timescale = demux.tracks()[track].timescale;
                Line {
                    track,
                    timescale,
                    decoder,
                    count: Count::default(),
                    given: 0.0,
                    begin: 0.0,
                    skip: None,
                }
            })
            .collect();
        Reader {
            demux,
            lines,
            raw: Vec::new(),
            ready: VecDeque::new(),
            pictures: Vec::new(),
            ended: false,
            in_a_row: 0,
            unreadable: 0,
            first_unreadable: None,
        }
    }

    /// How the packets of a track went so far; all zero for one that is not read.
    pub fn count(&self, track: usize) -> Count {
        let Some(line) = self.lines.iter().find(|l| l.track == track) else { return Count::default() };
        let mut count = line.count.clone();
        if let Decoder::Pictures(d) = &line.decoder {
            count.concealed = d.concealed();
        }
        count
    }

    /// Begins at the last key picture at or before this moment, in seconds, where the container can; at the beginning where
    /// it cannot. What comes before the moment comes all the same.
    /// Gives whether it went there.
    pub fn begin_at(&mut self, seconds: f64) -> Result<bool> {
        let went = seconds > 0.0 && self.demux.seek(seconds)?;
        if went {
            self.lines.iter_mut().for_each(|l| l.begin = seconds);
        }
        Ok(went)
    }

    /// Pictures are decoded from the last key picture at or before this moment on, in seconds; all else comes from the
    /// beginning.
    pub fn pictures_from(&mut self, seconds: f64) {
        for line in self.lines.iter_mut().filter(|l| matches!(l.decoder, Decoder::Pictures(_))) {
            line.begin = seconds;
            line.skip = Some(Skip { until: seconds, held: Vec::new(), bytes: 0 });
        }
    }

    /// Whether every track has given all that lies before this moment, in seconds, and some more: pictures come in the
    /// order of showing, but a lost one may be told late.
    pub fn is_behind(&self, seconds: f64) -> bool {
        let raw = self.raw.iter().map(|r| r.1);
        self.lines.iter().map(|l| l.given).chain(raw).all(|given| given > seconds + MARGIN)
    }

    /// What comes next; `None` at the end. `Damaged` means that far too much in a row could not be read: the rest is given
    /// up.
    pub fn next_one(&mut self) -> Result<Option<Got>> {
        loop {
            if let Some(got) = self.ready.pop_front() {
                let (track, pts) = match &got {
                    Got::Picture { track, frame } => (*track, frame.pts),
                    Got::Sound { track, frame } => (*track, frame.pts),
                    Got::Lost { track, pts, .. } => (*track, *pts),
                    Got::Packet(_) => return Ok(Some(got)),
                };
                if let Some(line) = self.lines.iter_mut().find(|l| l.track == track) {
                    line.given = line.given.max(Time::new(pts, line.timescale).seconds());
                }
                return Ok(Some(got));
            }
            if self.ended {
                return Ok(None);
            }
            match self.demux.next_packet() {
                Ok(Some(packet)) => {
                    self.in_a_row = 0;
                    self.take_up(&packet)?;
                    let scale = self.demux.tracks().get(packet.track).map_or(1, |t| t.timescale);
                    if let Some(raw) = self.raw.iter_mut().find(|r| r.0 == packet.track) {
                        raw.1 = raw.1.max(Time::new(packet.pts, scale).seconds());
                        self.ready.push_back(Got::Packet(packet));
                    }
                }
                Ok(None) => self.finish()?,
                Err(e @ Error::Damaged(_)) => {
                    self.unreadable += 1;
                    self.in_a_row += 1;
                    self.first_unreadable.get_or_insert(e.to_string());
                    if self.in_a_row > MAX_BAD_IN_A_ROW {
                        return Err(e);
                    }
                }
                Err(e) => return Err(e),
            }
        }
    }

    /// Takes a packet, or holds it until it is known whether it is needed.
    fn take_up(&mut self, packet: &Packet) -> Result<()> {
        let line = self.lines.iter_mut().find(|l| l.track == packet.track && l.skip.is_some());
        let Some((line, mut skip)) = line.and_then(|l| l.skip.take().map(|s| (l, s))) else {
            return self.take(packet);
        };
        let at = Time::new(packet.pts, line.timescale).seconds();
        if packet.key && at <= skip.until {
            skip.held.clear();
            skip.bytes = 0;
        }
        skip.bytes += packet.data.len();
        skip.held.push(packet.clone());
        if at <= skip.until && skip.bytes <= MOST_HELD {
            line.given = line.given.max(at);
            line.skip = Some(skip);
            return Ok(());
        }
        skip.held.iter().try_for_each(|p| self.take(p))
    }

    fn take(&mut self, packet: &Packet) -> Result<()> {
        let Some(line) = self.lines.iter_mut().find(|l| l.track == packet.track) else { return Ok(()) };
        let track = line.track;
        line.count.packets += 1;
        let done = match &mut line.decoder {
            Decoder::Pictures(d) => d.decode(packet, &mut self.pictures),
            Decoder::Sound(d) => d.decode(packet).map(|frame| {
                line.count.good += 1;
                if let Some(frame) = frame.heard(packet) {
                    self.ready.push_back(Got::Sound { track, frame });
                }
            }),
        };
        let seconds = Time::new(packet.pts, line.timescale).seconds();
        let number = line.count.packets;
        match done {
            Ok(()) => {
                if let Decoder::Pictures(d) = &line.decoder
                    && let Some(why) = d.why()
                    && seconds >= line.begin
                {
                    line.count.first_bad.get_or_insert_with(|| Bad { number, seconds, why: why.into() });
                }
            }
            Err(e @ Error::Damaged(_)) => {
                // Behind a key picture that was gone to, pictures may lean on some that were never read.
                if seconds < line.begin {
                    return Ok(());
                }
                line.count.bad += 1;
                line.count.first_bad.get_or_insert_with(|| Bad { number, seconds, why: e.to_string() });
            }
            Err(e) => return Err(e),
        }
        pass_on(line, &mut self.pictures, &mut self.ready);
        Ok(())
    }

    fn finish(&mut self) -> Result<()> {
        self.ended = true;
        let held: Vec<Packet> =
            self.lines.iter_mut().filter_map(|l| l.skip.take()).flat_map(|s| s.held).collect();
        held.iter().try_for_each(|p| self.take(p))?;
        for line in &mut self.lines {
            if let Decoder::Pictures(d) = &mut line.decoder {
                d.flush(&mut self.pictures)?;
            }
            pass_on(line, &mut self.pictures, &mut self.ready);
        }
        Ok(())
    }
}

/// Pictures that are ready, behind those that are known to be lost.
fn pass_on(line: &mut Line, pictures: &mut Vec<VideoFrame>, ready: &mut VecDeque<Got>) {
    let Decoder::Pictures(d) = &mut line.decoder else { return };
    let track = line.track;
    for (pts, duration) in d.take_lost() {
        if Time::new(pts, line.timescale).seconds() < line.begin {
            continue;
        }
        line.count.lost += 1;
        ready.push_back(Got::Lost { track, pts, duration });
    }
    ready.extend(pictures.drain(..).map(|frame| Got::Picture { track, frame }));
}
