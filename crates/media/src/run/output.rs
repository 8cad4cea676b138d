//! One output: scale, encode, write.

use super::decode::Message;
use super::{Control, Made};
use crate::codec::{Coded, EncodeAudio, EncodeVideo, PictureForm, aac, h264};
use crate::container::mp4::{Ending, Mp4Writer, OutTrack, OutTrackKind, Sink};
use crate::error::{Error, Result};
use crate::filter::audio::{Resampler, Timeline, mix_down};
use crate::filter::video::Scaler;
use crate::filter::video::convert::{self, Converter};
use crate::frame::{AudioFrame, Pool, VideoFrame};
use crate::plan::{AudioPlan, OutputPlan, VideoPlan};
use crate::units::{Ratio, Time};
use std::sync::mpsc::Receiver;

pub fn make(
    number: usize,
    plan: &OutputPlan,
    sink: Box<dyn Sink>,
    pool: Pool,
    from: Receiver<Message>,
    control: &Control,
) -> Result<Made> {
    let mut output = Output::new(plan, sink, pool)?;
    for message in from {
        if control.stopping() {
            return Err(Error::Stopped);
        }
        match message {
            Message::Picture { frame, pts, duration } => {
                if let Some(video) = &mut output.video {
                    video.take(&frame, pts, duration, &mut output.writer)?;
                    control.add(number, 1);
                }
            }
            Message::Sound { place, frame } => {
                if let Some(sound) = output.sounds.get_mut(place) {
                    if output.video.is_none() && place == 0 {
                        control.add(number, frame.len() as u64);
                    }
                    sound.take(&frame, &mut output.writer)?;
                }
            }
            Message::End => return output.finish(),
        }
    }
    Err(Error::Stopped)
}

struct Output {
    video: Option<Video>,
    sounds: Vec<Sound>,
    timecode: Option<usize>,
    start_frame: u32,
    writer: Mp4Writer,
}

impl Output {
    fn new(plan: &OutputPlan, sink: Box<dyn Sink>, pool: Pool) -> Result<Output> {
        let mut tracks = Vec::new();
        let video = plan.video.as_ref().map(|v| Video::new(v, pool, &mut tracks)).transpose()?;
        let sounds = plan.audio.iter().map(|a| Sound::new(a, &mut tracks)).collect::<Result<Vec<_>>>()?;
        let timecode = plan.timecode.as_ref().map(|tc| {
            tracks.push(OutTrack {
                kind: OutTrackKind::Timecode(tc.clone()),
                timescale: tc.rate.num,
                language: None,
                expected: 1,
            });
            tracks.len() - 1
        });
        let start_frame = plan.timecode.as_ref().map_or(0, |tc| tc.start);
        let writer = Mp4Writer::new(sink, tracks, None)?;
        Ok(Output { video, sounds, timecode, start_frame, writer })
    }

    fn finish(mut self) -> Result<Made> {
        let mut made = Made::default();
        let mut endings = Vec::new();
        if let Some(v) = self.video {
            endings.push(v.finish(&mut self.writer, &mut made)?);
        }
        for sound in self.sounds {
            endings.push(sound.finish(&mut self.writer, &mut made)?);
        }
        if self.timecode.is_some() {
            endings.push(Ending { setup: Vec::new(), start: Time::ZERO, skip: 0, length: 0 });
        }
        if let Some(track) = self.timecode {
            write_timecode(&mut self.writer, track, self.start_frame, &mut endings)?;
        }
        for (ending, scale) in endings.iter().zip(self.writer.timescales()) {
            if let Some(end) = ending.start.checked_add(Time::new(ending.length, scale)) {
                made.seconds = made.seconds.max(end.seconds());
            }
        }
        self.writer.finish(&endings)?;
        Ok(made)
    }
}

/// One sample that holds the first frame's number, for as long as the pictures last.
fn write_timecode(writer: &mut Mp4Writer, track: usize, frame: u32, endings: &mut [Ending]) -> Result<()> {
    let Some(video) = endings.first().cloned() else { return Ok(()) };
    let scales: Vec<u32> = writer.timescales().collect();
    let length = Time::new(video.length, scales[0]).ticks_at(scales[track]).clamp(1, u32::MAX.into());
    let data = frame.to_be_bytes().to_vec();
    writer.write(track, &Coded { pts: 0, duration: length, key: true, data })?;
    endings[track] = Ending { setup: Vec::new(), start: video.start, skip: 0, length };
    Ok(())
}

struct Video {
    scaler: Option<Scaler>,
    converter: Converter,
    encoder: h264::Encoder,
    track: usize,
    timescale: u32,
    size: (u32, u32),
    first: Option<i64>,
    /// Coded, but its length is not known before the next picture's time.
    held: Option<Coded>,
    coded: Vec<Coded>,
    frames: u64,
    end: i64,
}

impl Video {
    fn new(plan: &VideoPlan, pool: Pool, tracks: &mut Vec<OutTrack>) -> Result<Video> {
        let size = (plan.width, plan.height);
        let form = PictureForm { width: size.0, height: size.1, rate: plan.rate, colour: plan.colour };
        let encoder = h264::Encoder::new(&form, plan.bits, plan.key_every)?;
        let converter = Converter::new(pool.clone());
        let scaler = (size != plan.from).then(|| Scaler::new(size.0, size.1, pool));
        tracks.push(OutTrack {
            kind: OutTrackKind::Video {
                width: size.0,
                height: size.1,
                rotation: plan.rotation,
                pixel_shape: Ratio::ONE,
                colour: plan.colour,
            },
            timescale: plan.timescale,
            language: None,
            expected: plan.frames,
        });
        Ok(Video {
            scaler,
            converter,
            encoder,
            track: tracks.len() - 1,
            timescale: plan.timescale,
            size,
            first: None,
            held: None,
            coded: Vec::new(),
            frames: 0,
            end: 0,
        })
    }

    fn take(&mut self, frame: &VideoFrame, pts: i64, duration: i64, writer: &mut Mp4Writer) -> Result<()> {
        // A picture that does not come after the one before it cannot be shown.
        if self.held.as_ref().is_some_and(|h| pts <= h.pts) {
            return Ok(());
        }
        self.release(pts, writer)?;
        self.first.get_or_insert(pts);
        let plain;
        let frame = if convert::is_plain(frame) {
            frame
        } else {
            plain = self.converter.convert(frame)?;
            &plain
        };
        let same = (frame.width, frame.height) == self.size;
        if self.scaler.is_none() && !same {
            // The stream changed its size midway.
            self.scaler = Some(Scaler::new(self.size.0, self.size.1, Pool::new()));
        }
        match self.scaler.as_mut().filter(|_| !same) {
            Some(s) => self.encoder.encode(&s.scale(frame)?, pts, duration, &mut self.coded)?,
            None => self.encoder.encode(frame, pts, duration, &mut self.coded)?,
        }
        self.frames += 1;
        self.held = self.coded.pop();
        Ok(())
    }

    /// Writes the held picture: it is shown until `next`.
    fn release(&mut self, next: i64, writer: &mut Mp4Writer) -> Result<()> {
        if let Some(mut held) = self.held.take() {
            held.duration = next - held.pts;
            self.end = next;
            writer.write(self.track, &held)?;
        }
        Ok(())
    }

    fn finish(mut self, writer: &mut Mp4Writer, made: &mut Made) -> Result<Ending> {
        if let Some(held) = &self.held {
            let end = held.pts + held.duration.max(1);
            self.release(end, writer)?;
        }
        let first = self.first.unwrap_or(0);
        made.size = Some(self.size);
        made.frames = self.frames;
        Ok(Ending {
            setup: self.encoder.setup(),
            start: Time::new(first.max(0), self.timescale),
            skip: 0,
            length: self.end - first,
        })
    }
}

/// Samples of silence put into a hole in one piece.
const SILENCE_AT_ONCE: u64 = 48_000;

struct Sound {
    plan: AudioPlan,
    line: Timeline,
    resampler: Option<Resampler>,
    encoder: aac::Encoder,
    track: usize,
    coded: Vec<Coded>,
    samples: u64,
}

impl Sound {
    fn new(plan: &AudioPlan, tracks: &mut Vec<OutTrack>) -> Result<Sound> {
        let resampler = (plan.rate != plan.rate_in)
            .then(|| Resampler::new(plan.rate_in, plan.rate, plan.channels))
            .transpose()?;
        let encoder = aac::Encoder::new(plan.rate, plan.channels, plan.bits)?;
        tracks.push(OutTrack {
            kind: OutTrackKind::Audio { rate: plan.rate, channels: plan.channels, bits: plan.bits },
            timescale: plan.rate,
            language: plan.language.clone(),
            expected: plan.expected_packets,
        });
        let track = tracks.len() - 1;
        Ok(Sound {
            plan: plan.clone(),
            line: Timeline::default(),
            resampler,
            encoder,
            track,
            coded: Vec::new(),
            samples: 0,
        })
    }

    fn take(&mut self, frame: &AudioFrame, writer: &mut Mp4Writer) -> Result<()> {
        if frame.channels != self.plan.channels_in || frame.rate != self.plan.rate_in {
            return Err(Error::damaged(
                "sound track",
                format!(
                    "{} channels at {} Hz where {} at {} Hz were stated",
                    frame.channels, frame.rate, self.plan.channels_in, self.plan.rate_in
                ),
            ));
        }
        let (mut silence, sound) = self.line.place(frame.clone())?;
        while silence > 0 {
            let n = silence.min(SILENCE_AT_ONCE);
            silence -= n;
            self.pass_on(vec![0.0; n as usize * usize::from(self.plan.channels)], writer)?;
        }
        self.pass_on(mix_down(sound, self.plan.channels_in, self.plan.channels), writer)
    }

    fn pass_on(&mut self, samples: Vec<f32>, writer: &mut Mp4Writer) -> Result<()> {
        match &mut self.resampler {
            Some(r) => {
                let samples = r.push(&samples)?;
                self.encode(&samples, writer)
            }
            None => self.encode(&samples, writer),
        }
    }

    fn encode(&mut self, samples: &[f32], writer: &mut Mp4Writer) -> Result<()> {
        self.samples += (samples.len() / usize::from(self.plan.channels)) as u64;
        self.encoder.encode(samples, &mut self.coded)?;
        self.write(writer)
    }

    fn write(&mut self, writer: &mut Mp4Writer) -> Result<()> {
        self.coded.drain(..).try_for_each(|c| writer.write(self.track, &c))
    }

    fn finish(mut self, writer: &mut Mp4Writer, made: &mut Made) -> Result<Ending> {
        if let Some(r) = &mut self.resampler {
            let rest = r.finish()?;
            self.encode(&rest, writer)?;
        }
        self.encoder.flush(&mut self.coded)?;
        self.write(writer)?;
        let n = self.plan.track + 1;
        if self.line.filled > 0 {
            made.notes
                .push(format!("sound track {n}: holes of {} samples in all are silent", self.line.filled));
        }
        if self.line.cut > 0 {
            made.notes.push(format!("sound track {n}: {} overlapping samples were left out", self.line.cut));
        }
        made.sound.push((self.samples, self.plan.rate, self.plan.channels));
        Ok(Ending {
            setup: self.encoder.setup(),
            start: Time::new(self.line.start.unwrap_or(0), self.plan.rate_in),
            skip: i64::from(self.encoder.priming()),
            length: self.samples as i64,
        })
    }
}
