//! The sound track of a file as the recogniser wants it: one channel of 16,000 samples a second, on an unbroken
//! line from moment 0 of the presentation.

use super::Mixer;
use crate::error::Result;
use crate::model::RATE;
use crate::transcript::{Gap, Ms, Timecode};
use media::codec;
use media::container::{self, Demux, Source};
use media::filter::audio::{Resampler, Timeline};
use media::frame::{AudioFrame, Pool};
use media::read::{Got, Reader};

/// Samples of silence put in at once, so that a long hole takes no memory.
const AT_ONCE: u64 = 48_000;
/// Places that are named; more are only counted.
const MAX_PLACES: usize = 100;

pub struct SoundTrack {
    reader: Reader<Box<dyn Demux>>,
    /// Number among the sound tracks, from 1.
    pub number: usize,
    pub duration: Ms,
    pub timecode: Option<Timecode>,
    track: usize,
    rate: u32,
    channels: u16,
    line: Timeline,
    mixer: Mixer,
    resampler: Option<Resampler>,
    /// Silence still to be given, in samples of the source.
    silence: u64,
    after: Vec<f32>,
    ended: bool,
    /// Sound of another form than the track's.
    strange: u64,
    first_strange: Option<String>,
    /// Places without sound inside the track.
    pub holes: Vec<Gap>,
    given: u64,
    loudest: f32,
}

impl SoundTrack {
    /// The sound track with this number (from 1), or the first that can be decoded.
    pub fn open(source: Box<dyn Source>, wanted: Option<usize>) -> Result<SoundTrack> {
        SoundTrack::of(container::open(source)?, wanted)
    }

    /// The same of what is open.
    pub fn of(demux: Box<dyn Demux>, wanted: Option<usize>) -> Result<SoundTrack> {
        let tracks = demux.tracks();
        let sounds: Vec<usize> = (0..tracks.len()).filter(|&i| tracks[i].audio().is_some()).collect();
        let unsupported = |why: String| media::Error::unsupported("", why);
        if sounds.is_empty() {
            return Err(unsupported("the file has no sound track, so there is nothing to hear".into()).into());
        }
        let place = match wanted {
            Some(n) if n == 0 || n > sounds.len() => {
                return Err(unsupported(format!(
                    "sound track {n} is wanted, and the file has {}",
                    sounds.len()
                ))
                .into());
            }
            Some(n) => n - 1,
            None => sounds.iter().position(|&i| codec::why_not(&tracks[i]).is_none()).unwrap_or(0),
        };
        let track = sounds[place];
        let t = &tracks[track];
        let (rate, channels) = t.audio().map_or((RATE, 1), |a| (a.rate, a.channels));
        let end = t.start.checked_add(t.duration).map_or(0.0, media::units::Time::seconds);
        let timecode = tracks.iter().find_map(|t| t.timecode()).map(|t| Timecode {
            start_frame: t.start,
            rate: t.rate,
            frames_per_count: t.frames_per_count,
            drop_frame: t.drop_frame,
        });
        let reader = Reader::new(demux, &[track], &Pool::new())?;
        Ok(SoundTrack {
            reader,
            number: place + 1,
            duration: Ms::from_seconds(end),
            timecode,
            track,
            rate,
            channels,
            line: Timeline::default(),
            mixer: Mixer::new(rate, channels),
            resampler: (rate != RATE).then(|| Resampler::new(rate, RATE, 1)).transpose()?,
            silence: 0,
            after: Vec::new(),
            ended: false,
            strange: 0,
            first_strange: None,
            holes: Vec::new(),
            given: 0,
            loudest: 0.0,
        })
    }

    /// The next piece; `None` at the end.
    pub fn piece(&mut self) -> Result<Option<Vec<f32>>> {
        let mut mixed = Vec::new();
        while mixed.is_empty() {
            if self.silence > 0 {
                let n = self.silence.min(AT_ONCE);
                self.silence -= n;
                self.mixer.push(&vec![0.0; n as usize * usize::from(self.channels)], &mut mixed);
            } else if !self.after.is_empty() {
                self.mixer.push(&std::mem::take(&mut self.after), &mut mixed);
            } else if self.ended {
                return Ok(None);
            } else {
                match self.frame()? {
                    Some(frame) => self.place(frame)?,
                    None => {
                        self.ended = true;
                        self.mixer.finish(&mut mixed);
                        let mut out = self.resampled(mixed)?;
                        if let Some(r) = &mut self.resampler {
                            out.extend(r.finish()?);
                        }
                        return Ok(Some(self.count(out)));
                    }
                }
            }
        }
        let out = self.resampled(mixed)?;
        Ok(Some(self.count(out)))
    }

    fn count(&mut self, out: Vec<f32>) -> Vec<f32> {
        self.given += out.len() as u64;
        self.loudest = out.iter().fold(self.loudest, |m, v| m.max(v.abs()));
        out
    }

    fn resampled(&mut self, mixed: Vec<f32>) -> Result<Vec<f32>> {
        Ok(match &mut self.resampler {
            Some(r) => r.push(&mixed)?,
            None => mixed,
        })
    }

    fn place(&mut self, frame: AudioFrame) -> Result<()> {
        let first = self.line.start.is_none();
        let at = frame.pts;
        let (silence, mut sound) = self.line.place(frame)?;
        // What the decoder makes of damage may be no number at all.
        sound.iter_mut().filter(|v| !v.is_finite()).for_each(|v| *v = 0.0);
        if silence > 0 && self.holes.len() < MAX_PLACES {
            let ms = |samples: i64| Ms(samples * 1000 / i64::from(self.rate.max(1)));
            self.holes.push(Gap { start_ms: ms(at - silence as i64), end_ms: ms(at) });
        }
        let lead = if first { self.line.start.unwrap_or(0).max(0) as u64 } else { 0 };
        // A lead longer than a day is no lead.
        self.silence = silence + lead.min(u64::from(self.rate) * 86_400);
        self.after = sound;
        Ok(())
    }

    fn frame(&mut self) -> Result<Option<AudioFrame>> {
        loop {
            match self.reader.next_one()? {
                Some(Got::Sound { frame, .. })
                    if (frame.rate, frame.channels) == (self.rate, self.channels) =>
                {
                    return Ok(Some(frame));
                }
                Some(Got::Sound { frame, .. }) => {
                    self.strange += 1;
                    self.first_strange.get_or_insert_with(|| {
                        format!(
                            "{} channels at {} Hz in a track of {} at {}",
                            frame.channels, frame.rate, self.channels, self.rate
                        )
                    });
                }
                Some(_) => (),
                None => break,
            }
        }
        match self.undecoded() {
            Some((_, first)) if self.reader.count(self.track).good == 0 => {
                Err(media::Error::damaged("sound track", format!("not one packet could be decoded: {first}"))
                    .into())
            }
            _ => Ok(None),
        }
    }

    /// Packets that gave nothing to hear, and why the first did not.
    fn undecoded(&self) -> Option<(u64, String)> {
        let count = self.reader.count(self.track);
        let first = count.first_bad.map(|b| b.why).or_else(|| self.reader.first_unreadable.clone());
        let first = first.or_else(|| self.first_strange.clone())?;
        Some((count.bad + self.reader.unreadable + self.strange, first))
    }

    /// What a reader of the transcript should know of the sound.
    pub fn notes(&self) -> Vec<String> {
        let mut notes = Vec::new();
        if let Some((n, first)) = self.undecoded() {
            notes.push(format!("{n} packets of sound could not be decoded and are silent; first: {first}"));
        }
        for hole in self.holes.iter().take(10) {
            notes.push(format!("no sound from {} to {}", hole.start_ms.clock('.'), hole.end_ms.clock('.')));
        }
        if self.given > 0 && self.loudest < 1e-5 {
            notes.push("the sound track is silent from start to end".into());
        }
        notes
    }
}
