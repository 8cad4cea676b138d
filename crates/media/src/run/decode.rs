//! Reading and decoding, once for all outputs.

use super::Control;
use crate::codec::{self, DecodeAudio, DecodeVideo};
use crate::container::{Demux, Packet};
use crate::error::{Error, Result};
use crate::frame::{AudioFrame, Pool, VideoFrame};
use crate::plan::Plan;
use std::sync::Arc;
use std::sync::mpsc::SyncSender;

/// What goes to an output.
#[derive(Clone)]
pub enum Message {
    /// A picture, and when it is shown. The same picture comes twice where the source lost one.
    Picture { frame: Arc<VideoFrame>, pts: i64, duration: i64 },
    /// Sound of the plan's audio track with this place in its list.
    Sound { place: usize, frame: Arc<AudioFrame> },
    /// All has been sent: an output that sees its channel close without this was let down.
    End,
}

/// What was odd in the source.
#[derive(Default)]
pub struct Said {
    pub picture: Vec<String>,
    pub sound: Vec<String>,
}

/// Packets that may fail one after the other before the file is given up.
const MAX_BAD_IN_A_ROW: u32 = 5_000;

pub fn feed(
    demux: &mut dyn Demux,
    plan: &Plan,
    pool: &Pool,
    to: &[SyncSender<Message>],
    control: &Control,
) -> Result<Said> {
    let mut wanted = plan.audio.clone();
    wanted.extend(plan.video);
    demux.choose(&wanted);
    let mut pictures = match plan.video {
        Some(i) => Some(Pictures::new(codec::video_decoder(&demux.tracks()[i], pool)?)),
        None => None,
    };
    let mut sounds = plan
        .audio
        .iter()
        .map(|&i| {
            Ok(Sound { decoder: codec::audio_decoder(&demux.tracks()[i])?, bad: 0, good: 0, first: None })
        })
        .collect::<Result<Vec<_>>>()?;
    let (mut unread, mut in_a_row, mut first_unread) = (0u64, 0, None);
    loop {
        if control.stopping() {
            return Err(Error::Stopped);
        }
        let packet = match demux.next_packet() {
            Ok(Some(packet)) => packet,
            Ok(None) => break,
            Err(e @ (Error::Damaged(_) | Error::System(_))) => {
                unread += 1;
                in_a_row += 1;
                if matches!(e, Error::System(_)) || in_a_row > MAX_BAD_IN_A_ROW {
                    return Err(e);
                }
                first_unread.get_or_insert(e.to_string());
                continue;
            }
            Err(e) => return Err(e),
        };
        in_a_row = 0;
        if Some(packet.track) == plan.video {
            if let Some(p) = &mut pictures {
                p.take(&packet, to)?;
            }
        } else if let Some(place) = plan.audio.iter().position(|&t| t == packet.track)
            && let Some(frame) = sounds[place].take(&packet)?
        {
            send(to, Message::Sound { place, frame: Arc::new(frame) })?;
        }
    }
    let mut said = Said::default();
    if let Some(p) = &mut pictures {
        p.finish(to)?;
        p.report(&mut said.picture)?;
    }
    for (i, s) in sounds.iter().enumerate() {
        s.report(i + 1, &mut said.sound)?;
    }
    if let Some(first) = first_unread {
        said.picture.push(format!("{unread} packets could not be read; first: {first}"));
    }
    send(to, Message::End)?;
    Ok(said)
}

/// A closed channel means that the output has ended with an error of its own.
fn send(to: &[SyncSender<Message>], message: Message) -> Result<()> {
    to.iter().try_for_each(|t| t.send(message.clone())).map_err(|_| Error::Stopped)
}

struct Pictures {
    decoder: Box<dyn DecodeVideo>,
    ready: Vec<VideoFrame>,
    last: Option<Arc<VideoFrame>>,
    /// Lost pictures from before the first good one.
    early: Vec<(i64, i64)>,
    sent: u64,
    lost: u64,
    first_lost: Option<String>,
}

impl Pictures {
    fn new(decoder: Box<dyn DecodeVideo>) -> Self {
        Pictures {
            decoder,
            ready: Vec::new(),
            last: None,
            early: Vec::new(),
            sent: 0,
            lost: 0,
            first_lost: None,
        }
    }

    fn take(&mut self, packet: &Packet, to: &[SyncSender<Message>]) -> Result<()> {
        match self.decoder.decode(packet, &mut self.ready) {
            Ok(()) => (),
            Err(e @ Error::Damaged(_)) => {
                self.first_lost.get_or_insert(e.to_string());
            }
            Err(e) => return Err(e),
        }
        self.pass_on(to)
    }

    fn finish(&mut self, to: &[SyncSender<Message>]) -> Result<()> {
        self.decoder.flush(&mut self.ready)?;
        self.pass_on(to)?;
        // Lost at the very end: the last picture stays.
        self.repeat(i64::MAX, to)
    }

    fn pass_on(&mut self, to: &[SyncSender<Message>]) -> Result<()> {
        self.early.extend(self.decoder.take_lost());
        for frame in std::mem::take(&mut self.ready) {
            let (pts, duration) = (frame.pts, frame.duration);
            let frame = Arc::new(frame);
            let first = self.last.is_none();
            if first {
                // Nothing came before: the first picture stands in for those lost before it.
                self.last = Some(frame.clone());
            }
            self.repeat(pts, to)?;
            self.sent += 1;
            self.last = Some(frame.clone());
            send(to, Message::Picture { frame, pts, duration })?;
        }
        Ok(())
    }

    /// Shows the last picture again for those lost before `until`, so that frame count and times hold.
    fn repeat(&mut self, until: i64, to: &[SyncSender<Message>]) -> Result<()> {
        let Some(last) = self.last.clone() else { return Ok(()) };
        self.early.sort_unstable();
        let due = self.early.iter().take_while(|(pts, _)| *pts < until).count();
        for (pts, duration) in self.early.drain(..due).collect::<Vec<_>>() {
            self.lost += 1;
            send(to, Message::Picture { frame: last.clone(), pts, duration })?;
        }
        Ok(())
    }

    fn report(&self, notes: &mut Vec<String>) -> Result<()> {
        if self.sent == 0 {
            let why = self.first_lost.clone().unwrap_or_else(|| "the track has no packets".into());
            return Err(Error::damaged("picture track", format!("not one picture could be decoded: {why}")));
        }
        if self.lost > 0 {
            let all = self.lost + self.sent;
            let first = self.first_lost.as_ref().map_or(String::new(), |f| format!("; first: {f}"));
            notes.push(format!("{} of {all} pictures could not be decoded, and the one before was shown in their place{first}", self.lost));
        }
        if self.decoder.concealed() > 0 {
            notes.push(format!(
                "{} pictures had damaged parts, which were filled from the picture before",
                self.decoder.concealed()
            ));
        }
        Ok(())
    }
}

struct Sound {
    decoder: Box<dyn DecodeAudio>,
    good: u64,
    bad: u64,
    first: Option<String>,
}

impl Sound {
    fn take(&mut self, packet: &Packet) -> Result<Option<AudioFrame>> {
        match self.decoder.decode(packet) {
            Ok(frame) => {
                self.good += 1;
                Ok(frame.heard(packet))
            }
            Err(e @ Error::Damaged(_)) => {
                // The hole it leaves is filled with silence.
                self.bad += 1;
                self.first.get_or_insert(e.to_string());
                Ok(None)
            }
            Err(e) => Err(e),
        }
    }

    fn report(&self, number: usize, notes: &mut Vec<String>) -> Result<()> {
        let Some(first) = &self.first else { return Ok(()) };
        if self.good == 0 {
            return Err(Error::damaged(
                format!("sound track {number}"),
                format!("not one packet could be decoded: {first}"),
            ));
        }
        notes.push(format!(
            "sound track {number}: {} packets could not be decoded and are silent; first: {first}",
            self.bad
        ));
        Ok(())
    }
}
