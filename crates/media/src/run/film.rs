//! One file of pictures and sound: filter, encode, write.

use super::{Control, Line, Made, Message};
use crate::codec::coders::SoundForm;
use crate::codec::{Coded, EncodeAudio, EncodeVideo, PictureForm};
use crate::container::mp4::fragment_mux::FragmentWriter;
use crate::container::wrap::{Ending, Mux, OutTrack, OutTrackKind, Sink};
use crate::error::{Error, Result};
use crate::filter::audio::{AudioChain, AudioForm, Timeline};
use crate::filter::video::{Chain, Converter, Scaler, Shown, convert};
use crate::frame::{AudioFrame, Pool};
use crate::plan::{AudioPlan, FilmPlan, Span, VideoPlan};
use crate::track::Codec;
use crate::units::{Ratio, Time, rescale};
use std::sync::Arc;
use std::sync::mpsc::Receiver;

pub fn make(
    number: usize,
    plan: &FilmPlan,
    mut chain: Chain,
    sink: Box<dyn Sink>,
    pool: Pool,
    from: Receiver<Message>,
    control: &Control,
) -> Result<Made> {
    let mut film = Film::new(plan, sink, pool)?;
    let mut ready = Vec::new();
    let (mut pictures, mut sounds) = (plan.video.is_some(), plan.audio.iter().any(|a| a.source.is_some()));
    for message in from {
        if control.stopping() {
            return Err(Error::Stopped);
        }
        match message {
            Message::Picture(shown) => chain.push(shown, &mut ready)?,
            Message::Sound { place, frame } => {
                for sound in film.sounds.iter_mut().filter(|s| s.plan.place() == Some(place)) {
                    if plan.video.is_none() && Some(place) == plan.audio[0].place() {
                        control.add(number, frame.len() as u64);
                    }
                    sound.take(&frame, film.writer.as_mut())?;
                }
            }
            Message::End(Line::Pictures) => {
                chain.finish(&mut ready)?;
                pictures = false;
            }
            Message::End(Line::Sound) => sounds = false,
        }
        for shown in ready.drain(..) {
            if let Some(video) = &mut film.video {
                video.take(shown, film.writer.as_mut())?;
                control.add(number, 1);
                let end = Time::new(video.end, video.timescale);
                for silent in film.sounds.iter_mut().filter(|s| s.plan.source.is_none()) {
                    silent.keep_up(end, film.writer.as_mut())?;
                }
            }
        }
        if !pictures && !sounds {
            return film.finish();
        }
    }
    Err(Error::Stopped)
}

struct Film {
    video: Option<Video>,
    sounds: Vec<Sound>,
    timecode: Option<usize>,
    start_frame: u32,
    scales: Vec<u32>,
    writer: Box<dyn Mux>,
}

impl Film {
    fn new(plan: &FilmPlan, sink: Box<dyn Sink>, pool: Pool) -> Result<Film> {
        let mut tracks = Vec::new();
        let video = plan
            .video
            .as_ref()
            .map(|v| Video::new(v, plan.fragments.is_some(), pool, &mut tracks))
            .transpose()?;
        let starts = plan.wrapper.starts;
        let sounds =
            plan.audio.iter().map(|a| Sound::new(a, starts, &mut tracks)).collect::<Result<Vec<_>>>()?;
        let timecode = plan.timecode.as_ref().map(|tc| {
            tracks.push(OutTrack {
                codec: Codec::Timecode,
                kind: OutTrackKind::Timecode(tc.clone()),
                timescale: tc.rate.num,
                language: None,
                expected: 1,
                skip: 0,
            });
            tracks.len() - 1
        });
        let start_frame = plan.timecode.as_ref().map_or(0, |tc| tc.start);
        let scales = tracks.iter().map(|t| t.timescale).collect();
        let writer: Box<dyn Mux> = match plan.fragments {
            Some(seconds) => Box::new(FragmentWriter::new(sink, tracks, seconds)?),
            None => (plan.wrapper.open)(sink, tracks)?,
        };
        Ok(Film { video, sounds, timecode, start_frame, scales, writer })
    }

    fn finish(mut self) -> Result<Made> {
        let mut made = Made::default();
        let mut endings = Vec::new();
        let mut end = Time::new(0, 1);
        if let Some(v) = self.video {
            let scale = v.timescale;
            let ending = v.finish(self.writer.as_mut(), &mut made)?;
            end = ending.start.checked_add(Time::new(ending.length, scale)).unwrap_or(end);
            endings.push(ending);
        }
        for mut sound in self.sounds {
            if sound.plan.source.is_none() {
                sound.keep_up(end, self.writer.as_mut())?;
            }
            endings.push(sound.finish(self.writer.as_mut(), &mut made)?);
        }
        if let Some(track) = self.timecode {
            // One sample that holds the first frame's number, for as long as the pictures last.
            let Some(video) = endings.first().cloned() else { return Ok(made) };
            let length = Time::new(video.length, self.scales[0])
                .ticks_at(self.scales[track])
                .clamp(1, u32::MAX.into());
            let data = self.start_frame.to_be_bytes().to_vec();
            self.writer.write(track, &Coded { pts: 0, duration: length, key: true, data })?;
            endings.push(Ending { setup: Vec::new(), start: video.start, skip: 0, length });
        }
        for (ending, scale) in endings.iter().zip(&self.scales) {
            if let Some(end) = ending.start.checked_add(Time::new(ending.length, *scale)) {
                made.seconds = made.seconds.max(end.seconds());
            }
        }
        made.fragments = self.writer.finish(&endings)?;
        made.setup = endings.into_iter().next().map(|e| e.setup).unwrap_or_default();
        Ok(made)
    }
}

struct Video {
    encoder: Box<dyn EncodeVideo>,
    track: usize,
    timescale: u32,
    size: (u32, u32),
    /// For a stream that changes its form midway.
    converter: Converter,
    scaler: Option<Scaler>,
    pool: Pool,
    first: Option<i64>,
    /// How long a picture is shown is known when the next one comes.
    held: Option<Shown>,
    coded: Vec<Coded>,
    frames: u64,
    end: i64,
}

impl Video {
    /// `steady_keys`: key pictures at equal distances only.
    fn new(plan: &VideoPlan, steady_keys: bool, pool: Pool, tracks: &mut Vec<OutTrack>) -> Result<Video> {
        let f = &plan.form;
        let rate = f.rate.unwrap_or(Ratio { num: 25, den: 1 });
        let form = PictureForm { width: f.width, height: f.height, rate, colour: f.colour, steady_keys };
        let encoder = (plan.coder.open)(&form, plan.rate, plan.key_every)?;
        tracks.push(OutTrack {
            codec: plan.coder.coded.clone(),
            kind: OutTrackKind::Video {
                width: f.width,
                height: f.height,
                rotation: f.rotation,
                pixel_shape: Ratio::ONE,
                colour: f.colour,
                rate: f.rate,
            },
            timescale: f.timescale,
            language: None,
            expected: plan.frames,
            skip: 0,
        });
        Ok(Video {
            encoder,
            track: tracks.len() - 1,
            timescale: f.timescale,
            size: (f.width, f.height),
            converter: Converter::new(pool.clone()),
            scaler: None,
            pool,
            first: None,
            held: None,
            coded: Vec::new(),
            frames: 0,
            end: 0,
        })
    }

    fn take(&mut self, shown: Shown, writer: &mut dyn Mux) -> Result<()> {
        // A picture that does not come after the one before it cannot be shown.
        if self.held.as_ref().is_some_and(|h| shown.pts <= h.pts) {
            return Ok(());
        }
        self.release(shown.pts, writer)?;
        self.first.get_or_insert(shown.pts);
        self.held = Some(shown);
        Ok(())
    }

    /// Codes and writes the held picture: it is shown until `next`.
    fn release(&mut self, next: i64, writer: &mut dyn Mux) -> Result<()> {
        let Some(held) = self.held.take() else { return Ok(()) };
        let mut frame = held.frame;
        if !convert::is_plain(&frame) {
            frame = Arc::new(self.converter.convert(&frame)?);
        }
        if (frame.width, frame.height) != self.size {
            let (w, h) = self.size;
            let scaler = self.scaler.get_or_insert_with(|| Scaler::new(w, h, self.pool.clone()));
            frame = Arc::new(scaler.scale(&frame)?);
        }
        self.end = next;
        self.frames += 1;
        self.encoder.encode(&frame, held.pts, next - held.pts, &mut self.coded)?;
        self.write(writer)
    }

    fn write(&mut self, writer: &mut dyn Mux) -> Result<()> {
        self.coded.drain(..).try_for_each(|c| writer.write(self.track, &c))
    }

    fn finish(mut self, writer: &mut dyn Mux, made: &mut Made) -> Result<Ending> {
        if let Some(held) = &self.held {
            let end = held.pts + held.duration.max(1);
            self.release(end, writer)?;
        }
        self.encoder.flush(&mut self.coded)?;
        self.write(writer)?;
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

/// Samples of silence put in in one piece.
const SILENCE_AT_ONCE: u64 = 48_000;

struct Sound {
    plan: AudioPlan,
    line: Timeline,
    chain: AudioChain,
    encoder: Box<dyn EncodeAudio>,
    track: usize,
    coded: Vec<Coded>,
    samples: u64,
    /// Samples that went into the chain.
    taken: u64,
    /// The container cannot say that a track starts late: silence says it.
    from_zero: bool,
    begun: bool,
}

impl Sound {
    fn new(plan: &AudioPlan, starts: bool, tracks: &mut Vec<OutTrack>) -> Result<Sound> {
        let AudioForm { rate, channels } = plan.form;
        let encoder = (plan.coder.open)(&SoundForm { rate, channels, bits: plan.bits })?;
        tracks.push(OutTrack {
            codec: plan.coder.coded.clone(),
            kind: OutTrackKind::Audio { rate, channels, bits: plan.bits },
            timescale: rate,
            language: plan.language.clone(),
            expected: plan.expected_packets,
            skip: encoder.priming().into(),
        });
        Ok(Sound {
            plan: plan.clone(),
            line: Timeline::default(),
            chain: AudioChain::new(&plan.steps, plan.form_in)?,
            encoder,
            track: tracks.len() - 1,
            coded: Vec::new(),
            samples: 0,
            taken: 0,
            from_zero: !starts,
            begun: false,
        })
    }

    fn take(&mut self, frame: &AudioFrame, writer: &mut dyn Mux) -> Result<()> {
        let form = self.plan.form_in;
        if (frame.channels, frame.rate) != (form.channels, form.rate) {
            return Err(Error::damaged(
                "sound track",
                format!(
                    "{} channels at {} Hz where {} at {} Hz were stated",
                    frame.channels, frame.rate, form.channels, form.rate
                ),
            ));
        }
        let Some(frame) = within(frame, self.plan.span) else { return Ok(()) };
        let (mut silence, sound) = self.line.place(frame)?;
        if self.from_zero && !std::mem::replace(&mut self.begun, true) {
            // A lead longer than a day is no lead.
            let day = u64::from(form.rate) * 86_400;
            silence += (self.line.start.unwrap_or(0).max(0) as u64).min(day);
        }
        self.be_silent(silence, writer)?;
        self.pass_on(sound, writer)
    }

    fn be_silent(&mut self, mut samples: u64, writer: &mut dyn Mux) -> Result<()> {
        while samples > 0 {
            let n = samples.min(SILENCE_AT_ONCE);
            samples -= n;
            self.pass_on(vec![0.0; n as usize * usize::from(self.plan.form_in.channels)], writer)?;
        }
        Ok(())
    }

    /// Of a source without sound: silent as far as its pictures go.
    fn keep_up(&mut self, pictures_end: Time, writer: &mut dyn Mux) -> Result<()> {
        self.line.start.get_or_insert(0);
        let wanted = pictures_end.ticks_at(self.plan.form_in.rate).max(0) as u64;
        self.be_silent(wanted.saturating_sub(self.taken), writer)
    }

    fn pass_on(&mut self, samples: Vec<f32>, writer: &mut dyn Mux) -> Result<()> {
        self.taken += (samples.len() / usize::from(self.plan.form_in.channels)) as u64;
        let samples = self.chain.push(samples)?;
        self.encode(&samples, writer)
    }

    fn encode(&mut self, samples: &[f32], writer: &mut dyn Mux) -> Result<()> {
        self.samples += (samples.len() / usize::from(self.plan.form.channels)) as u64;
        self.encoder.encode(samples, &mut self.coded)?;
        self.write(writer)
    }

    fn write(&mut self, writer: &mut dyn Mux) -> Result<()> {
        let start = self.start();
        let track = self.track;
        self.coded.drain(..).try_for_each(|mut c| {
            c.pts += start;
            writer.write(track, &c)
        })
    }

    /// When the first sample is heard, in ticks of what is written.
    fn start(&self) -> i64 {
        if self.from_zero {
            return 0;
        }
        rescale(self.line.start.unwrap_or(0), self.plan.form_in.rate, self.plan.form.rate)
    }

    fn finish(mut self, writer: &mut dyn Mux, made: &mut Made) -> Result<Ending> {
        let rest = self.chain.finish()?;
        self.encode(&rest, writer)?;
        self.encoder.flush(&mut self.coded)?;
        self.write(writer)?;
        let AudioForm { rate, channels } = self.plan.form;
        if let Some((track, _)) = self.plan.source {
            let n = track + 1;
            let mut note = |count: u64, words: &str| {
                if count > 0 {
                    made.notes.push(format!("sound track {n}: {words}").replace("{}", &count.to_string()));
                }
            };
            note(self.line.filled, "holes of {} samples in all are silent");
            note(self.line.cut, "{} overlapping samples were left out");
        }
        made.sound.push((self.samples, rate, channels));
        let start = if self.from_zero { 0 } else { self.line.start.unwrap_or(0) };
        Ok(Ending {
            setup: self.encoder.setup(),
            start: Time::new(start, self.plan.form_in.rate),
            skip: i64::from(self.encoder.priming()),
            length: self.samples as i64,
        })
    }
}

/// What of a frame lies in the part that is wanted, with times counted from there.
pub fn within(frame: &AudioFrame, span: Option<Span>) -> Option<AudioFrame> {
    let mut frame = frame.clone();
    let Some(span) = span else { return Some(frame) };
    let (from, to) = span.ticks(frame.rate);
    let end = frame.pts.saturating_add(frame.len() as i64);
    let clamp = |n: i64| usize::try_from(n.max(0)).unwrap_or(usize::MAX).min(frame.len());
    let (before, behind) = (clamp(from - frame.pts), clamp(to.map_or(0, |to| end - to)));
    if before + behind >= frame.len() {
        return None;
    }
    frame.trim(before, behind);
    frame.pts -= from;
    Some(frame)
}
