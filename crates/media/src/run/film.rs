//! One file of pictures and sound: filter, encode, write.

use super::copy::Copy;
use super::kept::{Keeps, Kept};
use super::{Control, Line, Made, Message};
use crate::codec::coders::SoundForm;
use crate::codec::parts::InParts;
use crate::codec::{Coded, EncodeAudio, EncodeVideo, PictureForm};
use crate::container::mp4::fragment_mux::FragmentWriter;
use crate::container::wrap::{Ending, Mux, OutTrack, OutTrackKind, Sink, Wrapper};
use crate::error::{Error, Result};
use crate::filter::audio::{AudioChain, AudioForm, Timeline};
use crate::filter::video::{Chain, Converter, Scaler, Shown, Wanted};
use crate::frame::{AudioFrame, Pool};
use crate::plan::{AudioPlan, FilmPlan, Span, VideoPlan};
use crate::track::Codec;
use crate::units::{Ratio, Time, rescale};
use std::sync::Arc;
use std::sync::mpsc::Receiver;

pub fn make(
    number: usize,
    plan: &FilmPlan,
    (mut chain, kept): (Chain, Keeps),
    sink: Box<dyn Sink>,
    pool: Pool,
    from: Receiver<Message>,
    control: &Control,
) -> Result<Made> {
    let mut copies: Vec<Copy> = plan.copies.iter().map(Copy::new).collect();
    let mut ready = Vec::new();
    let (mut pictures, mut sounds) = (plan.video.is_some(), plan.audio.iter().any(|a| a.source.is_some()));
    let mut packets = !copies.is_empty();
    let (mut ended, mut kept) = (false, Some(kept));
    // The file begins when the first packet of every track that is copied is known.
    let (mut sink, mut film, mut early, mut held) = (Some(sink), None, Vec::new(), 0usize);
    let mut from = from.into_iter();
    let mut coming = std::collections::VecDeque::new();
    while let Some(message) = coming.pop_front().or_else(|| from.next()) {
        if control.stopping() {
            return Err(Error::Stopped);
        }
        let message = match message {
            Message::Packet(packet) => {
                held += packet.data.len();
                let mine = copies.iter_mut().find(|c| c.of() == packet.track);
                if let Some(copy) = mine {
                    let before = copy.shown;
                    copy.take(&packet);
                    if copy.is_picture() || plan.video.is_none() {
                        control.add(number, copy.shown - before);
                    }
                }
                None
            }
            Message::End(Line::Packets) => {
                packets = false;
                None
            }
            other => Some(other),
        };
        let Some(film) = &mut film else {
            early.extend(message);
            if !packets || held > MOST_EARLY || copies.iter().all(Copy::has_begun) {
                let Some(sink) = sink.take() else { return Err(Error::Stopped) };
                let new = Film::new(plan, &copies, (sink, kept.take().unwrap_or_default()), pool.clone())?;
                control.add(number, new.video.as_ref().map_or(0, |v| v.frames));
                film = Some(new);
                coming.extend(early.drain(..));
                // What came early is taken up, and where nothing did, what ends it.
                if !packets {
                    coming.push_back(Message::End(Line::Packets));
                }
            }
            continue;
        };
        film.copy(&mut copies)?;
        match message.unwrap_or(Message::End(Line::Packets)) {
            Message::Packet(_) => (),
            Message::End(Line::Packets) => (),
            Message::Picture(shown) => chain.push(shown, &mut ready)?,
            Message::Sound { place, frame } => {
                if let Some(video) = &mut film.video {
                    // What was kept of the pictures is written beside the sound of the same time.
                    let from = plan.audio.iter().find_map(|a| a.span).map_or(0.0, |s| s.from);
                    let at = frame.pts as f64 / f64::from(frame.rate.max(1)) - from;
                    video.give_kept(Some((at * f64::from(video.timescale)) as i64), film.writer.as_mut())?;
                }
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
                let is_new = shown.pts >= video.from;
                video.take(shown, film.writer.as_mut())?;
                control.add(number, u64::from(is_new));
                let end = Time::new(video.end, video.timescale);
                for silent in film.sounds.iter_mut().filter(|s| s.plan.source.is_none()) {
                    silent.keep_up(end, film.writer.as_mut())?;
                }
            }
        }
        if !pictures && !sounds && !packets {
            ended = true;
            break;
        }
    }
    match film {
        Some(film) if ended => film.finish(copies),
        _ => Err(Error::Stopped),
    }
}

/// Bytes of packets that may come before every track that is copied has begun.
const MOST_EARLY: usize = 64 << 20;

struct Film {
    video: Option<Video>,
    sounds: Vec<Sound>,
    /// In front of the sound that is coded, and behind it: tracks that are copied.
    first_copy: usize,
    copied_pictures: usize,
    timecode: Option<usize>,
    start_frame: u32,
    scales: Vec<u32>,
    writer: Box<dyn Mux>,
}

impl Film {
    fn new(
        plan: &FilmPlan,
        copies: &[Copy],
        (sink, mut kept): (Box<dyn Sink>, Keeps),
        pool: Pool,
    ) -> Result<Film> {
        let mut tracks = Vec::new();
        let video = plan
            .video
            .as_ref()
            .map(|v| Video::new(v, plan, (pool, kept.pictures.take()), &mut tracks))
            .transpose()?;
        let first_copy = tracks.len();
        tracks.extend(copies.iter().filter(|c| c.is_picture()).map(Copy::out_track));
        let copied_pictures = tracks.len() - first_copy;
        let sounds = plan
            .audio
            .iter()
            .enumerate()
            .map(|(n, a)| Sound::new(a, plan.wrapper, kept.sound(n), &mut tracks))
            .collect::<Result<Vec<_>>>()?;
        tracks.extend(copies.iter().filter(|c| !c.is_picture()).map(Copy::out_track));
        let timecode = plan.timecode.as_ref().map(|tc| {
            tracks.push(OutTrack {
                codec: Codec::Timecode,
                kind: OutTrackKind::Timecode(tc.clone()),
                timescale: tc.rate.num,
                language: None,
                expected: 1,
                skip: 0,
                reordered: false,
                began: None,
            });
            tracks.len() - 1
        });
        let start_frame = plan.timecode.as_ref().map_or(0, |tc| tc.start);
        let scales = tracks.iter().map(|t| t.timescale).collect();
        let mut writer: Box<dyn Mux> = match plan.fragments {
            Some(seconds) => Box::new(FragmentWriter::new(sink, tracks, seconds)?),
            None => (plan.wrapper.open)(sink, tracks)?,
        };
        if let Some(words) = &plan.comment {
            writer.comment(words)?;
        }
        Ok(Film { video, sounds, first_copy, copied_pictures, timecode, start_frame, scales, writer })
    }

    /// Writes what is ready of the tracks that are copied: pictures stand first among them.
    fn copy(&mut self, copies: &mut [Copy]) -> Result<()> {
        let behind = self.first_copy + self.copied_pictures + self.sounds.len();
        let mut place = [self.first_copy, behind];
        for copy in copies {
            let place = &mut place[usize::from(!copy.is_picture())];
            while let Some(coded) = copy.next() {
                self.writer.write(*place, &coded)?;
            }
            *place += 1;
        }
        Ok(())
    }

    fn finish(mut self, mut copies: Vec<Copy>) -> Result<Made> {
        let mut made = Made { copied: !copies.is_empty(), ..Made::default() };
        let mut endings = Vec::new();
        let mut end = Time::new(0, 1);
        // In the order of their tracks: sound that is coded lies between pictures and sound that are copied.
        let copied: Vec<(bool, Ending)> =
            copies.iter_mut().map(|c| (c.is_picture(), c.finish(&mut made))).collect();
        self.copy(&mut copies)?;
        let heard = std::mem::take(&mut made.sound);
        if let Some(v) = self.video {
            let scale = v.timescale;
            let ending = v.finish(self.writer.as_mut(), &mut made)?;
            end = ending.start.checked_add(Time::new(ending.length, scale)).unwrap_or(end);
            endings.push(ending);
        }
        endings.extend(copied.iter().filter(|c| c.0).map(|c| c.1.clone()));
        for mut sound in self.sounds {
            if sound.plan.source.is_none() {
                sound.keep_up(end, self.writer.as_mut())?;
            }
            endings.push(sound.finish(self.writer.as_mut(), &mut made)?);
        }
        endings.extend(copied.into_iter().filter(|c| !c.0).map(|c| c.1));
        made.sound.extend(heard);
        if let Some(track) = self.timecode {
            // One sample that holds the first frame's number, for as long as the pictures last.
            let Some(video) = endings.first().cloned() else { return Ok(made) };
            let length = Time::new(video.length, self.scales[0])
                .ticks_at(self.scales[track])
                .clamp(1, u32::MAX.into());
            let data = self.start_frame.to_be_bytes().to_vec();
            self.writer.write(track, &Coded::new(0, length, true, data))?;
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
    plan: VideoPlan,
    form: PictureForm,
    encoder: Box<dyn EncodeVideo>,
    /// Pictures that an encoder codes, and how many this one has.
    segment: Option<u64>,
    in_segment: u64,
    /// The setup that the first encoder told.
    setup: Option<Vec<u8>>,
    kept: Option<Kept>,
    /// Pictures before this moment were kept.
    from: i64,
    track: usize,
    timescale: u32,
    size: (u32, u32),
    /// For a stream that changes its form midway.
    converter: Option<(Wanted, Converter)>,
    scaler: Option<Scaler>,
    pool: Pool,
    first: Option<i64>,
    /// The container knows no times, one rate only: a picture that is shown longer is written more often.
    counted: Option<Ratio>,
    /// How long a picture is shown is known when the next one comes.
    held: Option<Shown>,
    coded: Vec<Coded>,
    /// The container knows the setup.
    told: bool,
    frames: u64,
    /// Of them those that were written once more.
    repeated: u64,
    end: i64,
}

impl Video {
    fn new(
        plan: &VideoPlan,
        film: &FilmPlan,
        (pool, kept): (Pool, Option<Kept>),
        tracks: &mut Vec<OutTrack>,
    ) -> Result<Video> {
        let f = &plan.form;
        let rate = f.rate.unwrap_or(Ratio { num: 25, den: 1 });
        // Key pictures at equal distances only.
        let steady_keys = film.fragments.is_some();
        let form = PictureForm {
            width: f.width,
            height: f.height,
            rate,
            colour: f.colour,
            chroma: f.chroma,
            depth: f.depth,
            steady_keys,
            guide: plan.guide(),
            memory: kept.as_ref().map(|k| k.whole().memory.clone()).unwrap_or_default(),
        };
        let encoder = (plan.coder.open)(&form, plan.rate, plan.key_every)?;
        tracks.push(OutTrack {
            codec: plan.coder.coded.clone(),
            kind: OutTrackKind::Video {
                width: f.width,
                height: f.height,
                rotation: f.rotation,
                pixel_shape: f.pixel_shape,
                colour: f.colour,
                fields: f.fields,
                rate: f.rate,
            },
            timescale: f.timescale,
            language: None,
            expected: plan.frames,
            skip: 0,
            reordered: false,
            began: None,
        });
        // Fragments are cut by their own encoder.
        let segment = plan.segment().filter(|_| !steady_keys);
        let kept = kept.filter(|_| segment.is_some());
        let whole = kept.as_ref().map(|k| k.whole().clone()).filter(|w| w.frames > 0);
        let has = whole.is_some();
        let whole = whole.unwrap_or_default();
        Ok(Video {
            plan: plan.clone(),
            form,
            encoder,
            segment,
            in_segment: 0,
            setup: has.then_some(whole.setup),
            kept,
            from: if has { whole.end } else { i64::MIN },
            track: tracks.len() - 1,
            timescale: f.timescale,
            size: (f.width, f.height),
            converter: plan.coder.wants(f.chroma).map(|w| (w, Converter::to(w, pool.clone()))),
            scaler: None,
            pool,
            first: has.then_some(whole.first),
            counted: f.rate.filter(|_| !film.wrapper.starts),
            held: None,
            coded: Vec::new(),
            told: false,
            frames: whole.frames,
            repeated: 0,
            end: whole.end,
        })
    }

    /// Writes what was kept and is shown before a moment; all of it without one.
    fn give_kept(&mut self, before: Option<i64>, writer: &mut dyn Mux) -> Result<()> {
        let Some(kept) = &mut self.kept else { return Ok(()) };
        while let Some(coded) = kept.next(before)? {
            if !std::mem::replace(&mut self.told, true) {
                writer.setup(self.track, self.setup.as_deref().unwrap_or_default());
            }
            writer.write(self.track, &coded)?;
        }
        Ok(())
    }

    /// The next encoder goes on behind what this one coded.
    fn end_segment(&mut self, writer: &mut dyn Mux) -> Result<()> {
        self.encoder.flush(&mut self.coded)?;
        self.write(writer)?;
        let setup = self.encoder.setup();
        if self.setup.get_or_insert_with(|| setup.clone()) != &setup {
            return Err(apart());
        }
        self.form.memory = self.encoder.memory();
        let memory = &self.form.memory;
        if let Some(kept) = &mut self.kept
            && kept.end_segment(self.frames, self.end, (&setup, memory)).is_err()
        {
            // Nothing is kept then, and nothing else is amiss.
            self.kept = None;
        }
        self.encoder = (self.plan.coder.open)(&self.form, self.plan.rate, self.plan.key_every)?;
        self.in_segment = 0;
        Ok(())
    }

    fn take(&mut self, shown: Shown, writer: &mut dyn Mux) -> Result<()> {
        if shown.pts < self.from {
            return Ok(());
        }
        self.give_kept(None, writer)?;
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
        if let Some((wanted, converter)) = &mut self.converter
            && !wanted.is(&frame)
        {
            frame = Arc::new(converter.convert(&frame)?);
        }
        if (frame.width, frame.height) != self.size {
            let (w, h) = self.size;
            let scaler = self.scaler.get_or_insert_with(|| Scaler::new(w, h, self.pool.clone()));
            frame = Arc::new(scaler.scale(&frame)?);
        }
        if self.segment == Some(self.in_segment) {
            self.end_segment(writer)?;
        }
        self.in_segment += 1;
        self.end = next;
        let times = self.counted.map_or(Ok(1), |rate| times(next - held.pts, self.timescale, rate))?;
        for _ in 0..times {
            self.frames += 1;
            self.encoder.encode(&frame, held.pts, next - held.pts, &mut self.coded)?;
            self.write(writer)?;
        }
        self.repeated += times - 1;
        Ok(())
    }

    fn write(&mut self, writer: &mut dyn Mux) -> Result<()> {
        if !self.coded.is_empty() && !std::mem::replace(&mut self.told, true) {
            writer.setup(self.track, &self.encoder.setup());
        }
        for c in self.coded.drain(..) {
            if self.kept.as_mut().is_some_and(|k| k.add(&c).is_err()) {
                self.kept = None;
            }
            writer.write(self.track, &c)?;
        }
        Ok(())
    }

    fn finish(mut self, writer: &mut dyn Mux, made: &mut Made) -> Result<Ending> {
        self.give_kept(None, writer)?;
        if let Some(held) = &self.held {
            let end = held.pts + held.duration.max(1);
            self.release(end, writer)?;
        }
        self.encoder.flush(&mut self.coded)?;
        self.write(writer)?;
        let first = self.first.unwrap_or(0);
        made.size = Some(self.size);
        made.frames = self.frames;
        let setup = match self.setup {
            Some(setup) if self.in_segment == 0 => setup,
            Some(setup) if setup != self.encoder.setup() => return Err(apart()),
            _ => self.encoder.setup(),
        };
        let mut ending = Ending {
            setup,
            start: Time::new(first.max(0), self.timescale),
            skip: 0,
            length: self.end - first,
        };
        if let Some(rate) = self.counted {
            let lead = std::mem::replace(&mut ending.start, Time::new(0, self.timescale)).seconds();
            let length = (self.frames as i64).saturating_mul(rate.den.into());
            ending.length = Time::new(length, rate.num).ticks_at(self.timescale);
            if lead > 0.0005 {
                made.notes.push(format!(
                    "the first picture is shown {lead:.3} s after the beginning: here it is the beginning"
                ));
            }
            if self.repeated > 0 {
                made.notes.push(format!("{} pictures were repeated where some are missing", self.repeated));
            }
        }
        Ok(ending)
    }
}

/// How often a picture that is shown for so long is written where one stands for a time of the rate.
fn times(shown: i64, timescale: u32, rate: Ratio) -> Result<u64> {
    const LONGEST: f64 = 60.0;
    let seconds = Time::new(shown, timescale).seconds();
    if seconds > LONGEST {
        let message = format!(
            "{seconds:.0} s without a new picture, which the container could only hold as repetitions"
        );
        return Err(Error::limit("pictures", message));
    }
    Ok((seconds * rate.value()).round().max(1.0) as u64)
}

fn apart() -> Error {
    Error::limit("pictures", "two encoders of the same form give streams that do not go together")
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
    /// Ticks of packets that were written, and that only whole ones can be told.
    written: i64,
    whole: bool,
    /// The container cannot say that a track starts late: silence says it.
    from_zero: bool,
    begun: bool,
}

impl Sound {
    fn new(
        plan: &AudioPlan,
        wrapper: &Wrapper,
        kept: Option<Kept>,
        tracks: &mut Vec<OutTrack>,
    ) -> Result<Sound> {
        let AudioForm { rate, channels } = plan.form;
        let form = SoundForm { rate, channels, bits: plan.bits };
        let encoder = match plan.coder.parts {
            Some(joint) => Box::new(InParts::new(plan.coder, form, joint, kept)?),
            None => (plan.coder.open)(&form)?,
        };
        tracks.push(OutTrack {
            codec: plan.coder.coded.clone(),
            kind: OutTrackKind::Audio { rate, channels, bits: plan.bits },
            timescale: rate,
            language: plan.language.clone(),
            expected: plan.expected_packets,
            skip: encoder.priming().into(),
            reordered: false,
            began: plan.began.clone(),
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
            written: 0,
            whole: wrapper.whole_packets,
            from_zero: !wrapper.starts,
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
        let Some(mut frame) = within(frame, self.plan.span) else { return Ok(()) };
        frame.pts += self.plan.delay;
        if frame.pts < 0 && self.plan.delay < 0 {
            // Brought forward: what would be heard before the beginning is not.
            let before = usize::try_from(-frame.pts).unwrap_or(usize::MAX).min(frame.len());
            frame.trim(before, 0);
            if frame.is_empty() {
                return Ok(());
            }
        }
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
        self.written += self.coded.iter().map(|c| c.duration).sum::<i64>();
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
            length: if self.whole {
                self.written - i64::from(self.encoder.priming())
            } else {
                self.samples as i64
            },
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
