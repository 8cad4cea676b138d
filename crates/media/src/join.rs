//! Several files as one: a reader that gives their pictures and sound one behind the other, decoded and in one form, so
//! that whatever is made of a file can be made of several.
//!
//! The form is the first file's. Pictures of another size are set into its frame whole, those of another frame rate are
//! repeated or left out, fields are made whole, colours that differ are all brought to ITU-R BT.709. A file is as long as
//! its pictures: sound that goes on is cut there, and what is missing of it is silent.

use crate::codec::raw_encode::Planes;
use crate::codec::{self, EncodeVideo, PictureForm};
use crate::container::{About, Demux, Track};
use crate::error::{Error, Result};
use crate::filter::audio::{AudioChain, AudioForm, AudioStep, Timeline};
use crate::filter::video::convert::HD;
use crate::filter::video::scale::enlarged;
use crate::filter::video::{
    Chain, Deinterlacing, Fill, Form, Grading, Kernel, Place, Shown, Step, VideoFilter, Wanted,
};
use crate::frame::{AudioFrame, Chroma, Fields, Pool};
use crate::read::{Got, Reader};
use crate::track::{AudioTrack, Codec, Media, Packet, Packing, PcmKind, PcmLayout, RawPicture, VideoTrack};
use crate::units::{Ratio, Time, rescale};
use std::collections::VecDeque;
use std::sync::Arc;

/// A rate where no file gives one.
const UNKNOWN_RATE: Ratio = Ratio { num: 25, den: 1 };
/// Samples of silence that are given at once.
const SILENCE: i64 = 48_000;

/// One of the files, not yet begun.
struct File {
    name: String,
    demux: Box<dyn Demux>,
    /// Its pictures, and its tracks of sound in the order of those of the whole.
    picture: Option<usize>,
    sounds: Vec<usize>,
}

impl File {
    fn track(&self, n: usize) -> &Track {
        &self.demux.tracks()[n]
    }

    /// How long it is, as far as it tells.
    fn seconds(&self) -> f64 {
        let ends = self.picture.into_iter().chain(self.sounds.iter().copied());
        let of = if self.picture.is_some() { 1 } else { usize::MAX };
        ends.take(of).map(|t| end_of(self.track(t))).fold(0.0, f64::max)
    }
}

fn end_of(track: &Track) -> f64 {
    track.start.seconds() + track.duration.seconds()
}

pub struct Joined {
    tracks: Vec<Track>,
    about: About,
    /// Place of the pictures in `tracks`; the sounds stand behind it.
    picture: Option<Form>,
    sounds: Vec<AudioForm>,
    chosen: Vec<bool>,
    to_hd: bool,
    files: VecDeque<File>,
    of: usize,
    pool: Pool,
    now: Option<Now>,
    /// When the file that is read begins.
    base: Time,
    ready: VecDeque<Packet>,
    quiet: VecDeque<Quiet>,
    odd: VecDeque<Error>,
}

/// The file that is being read.
struct Now {
    name: String,
    reader: Reader<Box<dyn Demux>>,
    picture: Option<(usize, Pictures)>,
    sounds: Vec<(usize, Sound)>,
    /// Sounds of the whole that it has not: silent as long as its pictures are shown.
    absent: Vec<Quiet>,
    /// Where it says that its pictures end, in seconds.
    until: Option<f64>,
}

/// A sound of the whole that is silent from one moment to another, in its samples.
struct Quiet {
    place: usize,
    channels: u16,
    rate: u32,
    from: i64,
    to: i64,
}

impl Quiet {
    /// What of it lies before a moment, and was not given yet.
    fn up_to(&mut self, moment: Time) -> Option<Quiet> {
        let to = moment.ticks_at(self.rate);
        let piece = Quiet { to, ..*self };
        (to > self.from).then(|| {
            self.from = to;
            piece
        })
    }

    /// A piece of it, and what is left.
    fn next(&mut self) -> Option<Packet> {
        let n = (self.to - self.from).min(SILENCE);
        let data = vec![0; usize::try_from(n).ok().filter(|n| *n > 0)? * usize::from(self.channels) * 4];
        let packet = Packet { track: self.place, pts: self.from, duration: n, data, ..whole() };
        self.from += n;
        Some(packet)
    }
}

impl Joined {
    /// Files by their names, in their order. All must have pictures if one has.
    pub fn new(files: Vec<(String, Box<dyn Demux>)>) -> Result<Joined> {
        let mut all = VecDeque::new();
        for (name, demux) in files {
            let tracks = demux.tracks();
            let picture = tracks.iter().position(|t| t.video().is_some());
            if let Some(why) = picture.and_then(|p| codec::why_not(&tracks[p])) {
                return Err(Error::unsupported("", format!("{name} cannot be joined: {why}")));
            }
            let heard = |t: &Track| t.audio().is_some() && codec::why_not(t).is_none();
            let sounds = (0..tracks.len()).filter(|n| heard(&tracks[*n])).collect();
            all.push_back(File { name, demux, picture, sounds });
        }
        let Some(first) = all.front() else { return Err(Error::setting("files", "none to join")) };
        let with = |p: &File| p.picture.is_some();
        if let (Some(a), Some(b)) = (all.iter().find(|f| with(f)), all.iter().find(|f| !with(f))) {
            let why = format!("{} has pictures, and {} has none that can be joined to them", a.name, b.name);
            return Err(Error::unsupported("", why));
        }
        if first.picture.is_none() && first.sounds.is_empty() {
            return Err(Error::unsupported("", format!("{} has nothing that can be joined", first.name)));
        }
        // What the first says of itself is said of all; what is missing of any of them is missing.
        let mut about = first.demux.about().clone();
        let damage = |f: &File| Some(format!("{}: {}", f.name, f.demux.about().damage.as_ref()?));
        about.damage = all.iter().find_map(damage);
        let of = all.len();
        let mut joined = Joined {
            tracks: Vec::new(),
            about,
            picture: None,
            sounds: Vec::new(),
            chosen: Vec::new(),
            to_hd: false,
            files: all,
            of,
            pool: Pool::new(),
            now: None,
            base: Time::ZERO,
            ready: VecDeque::new(),
            quiet: VecDeque::new(),
            odd: VecDeque::new(),
        };
        joined.describe()?;
        Ok(joined)
    }

    /// The tracks of the whole.
    fn describe(&mut self) -> Result<()> {
        let seconds: f64 = self.files.iter().map(File::seconds).sum();
        let forms: Vec<Form> = self.files.iter().filter_map(|f| Form::of(f.track(f.picture?))).collect();
        let colour = |f: &Form| (f.colour.primaries, f.colour.transfer, f.colour.matrix);
        self.to_hd = forms.iter().any(|f| colour(f) != colour(&forms[0]));
        if let Some(first) = forms.first() {
            let form = way(first, None, self.to_hd)?.1;
            let mut track = Track::new(1, raw(&form), Media::Video(described(&form)), form.timescale);
            let rate = form.rate.unwrap_or(UNKNOWN_RATE);
            track.duration = length(seconds, form.timescale);
            track.shown = Some((seconds * rate.value()).round() as u64);
            self.tracks.push(track);
            self.picture = Some(form);
        }
        let most = self.files.iter().map(|f| f.sounds.len()).max().unwrap_or(0);
        for n in 0..most {
            let found = self.files.iter().find_map(|f| Some(f.track(*f.sounds.get(n)?)));
            let Some((track, a)) = found.and_then(|t| Some((t, t.audio()?))) else { continue };
            let form = AudioForm { rate: a.rate, channels: a.channels };
            let layout = PcmLayout { bits: 32, bytes: 4, big_endian: false, kind: PcmKind::Float };
            let media = Media::Audio(AudioTrack { rate: a.rate, channels: a.channels, profile: None });
            let mut sound = Track::new(self.tracks.len() as u32 + 1, Codec::Pcm(layout), media, a.rate);
            sound.duration = length(seconds, a.rate);
            sound.language = track.language.clone();
            self.tracks.push(sound);
            self.sounds.push(form);
        }
        let timecode = self.files[0].demux.tracks().iter().find(|t| matches!(t.media, Media::Timecode(_)));
        self.tracks.extend(timecode.cloned());
        self.chosen = vec![true; self.tracks.len()];
        Ok(())
    }

    /// Begins the next file; false where there is none.
    fn begin(&mut self) -> Result<bool> {
        let Some(file) = self.files.pop_front() else { return Ok(false) };
        let picture = file.picture.filter(|_| self.chosen[0]);
        let before = usize::from(self.picture.is_some());
        let sounds: Vec<(usize, usize)> =
            file.sounds.iter().copied().enumerate().filter(|(n, _)| self.chosen[before + n]).collect();
        let end = file.picture.map(|p| end_of(file.track(p))).filter(|e| *e > 0.0);
        let pictures = match (picture, &self.picture) {
            (Some(p), Some(whole)) => {
                let form = Form::of(file.track(p)).unwrap_or_else(|| whole.clone());
                Some((p, Pictures::new(&form, whole, self.to_hd, &self.pool)?))
            }
            _ => None,
        };
        let sounds = sounds.into_iter().map(|(n, track)| {
            let t = file.track(track);
            let a = t.audio().ok_or_else(|| Error::unsupported("track", "not a sound track"))?;
            let from = AudioForm { rate: a.rate, channels: a.channels };
            Ok((track, Sound::new(before + n, from, self.sounds[n], end)?))
        });
        let sounds: Vec<(usize, Sound)> = sounds.collect::<Result<_>>()?;
        let has = |place: usize| sounds.iter().any(|(_, s)| s.place == place);
        let absent =
            self.sounds.iter().enumerate().filter(|(n, _)| self.chosen[before + n] && !has(before + n));
        let absent = absent.map(|(n, form)| {
            let from = self.base.ticks_at(form.rate);
            Quiet { place: before + n, channels: form.channels, rate: form.rate, from, to: from }
        });
        let absent = absent.collect();
        let tracks: Vec<usize> = picture.into_iter().chain(sounds.iter().map(|s| s.0)).collect();
        let reader = Reader::new(file.demux, &tracks, &self.pool)?;
        self.now = Some(Now { name: file.name, reader, picture: pictures, sounds, absent, until: end });
        Ok(true)
    }

    /// One step of reading; false at the end of the last file.
    fn step(&mut self) -> Result<bool> {
        let Some(now) = &mut self.now else { return self.begin() };
        let got = match now.reader.next_one() {
            Ok(got) => got,
            // The rest of a file is given up, and the next one follows.
            Err(e @ Error::Damaged(_)) => {
                self.odd.push_back(Error::damaged(now.name.clone(), e.to_string()));
                None
            }
            Err(e) => return Err(e),
        };
        match got {
            Some(Got::Picture { frame, .. }) => {
                if let Some((_, pictures)) = &mut now.picture {
                    let (pts, duration) = (frame.pts, frame.duration);
                    let shown = Shown { frame: Arc::new(frame), pts, duration };
                    pictures.take(shown, self.base, &mut self.ready)?;
                    let end = self.base.checked_add(pictures.end());
                    let silent = now.absent.iter_mut().filter_map(|q| q.up_to(end?));
                    self.quiet.extend(silent);
                }
            }
            Some(Got::Lost { pts, duration, .. }) => {
                if let Some((_, pictures)) = &mut now.picture {
                    pictures.lost(pts, duration);
                    let at = pictures.seconds(pts);
                    self.odd.push_back(Error::damaged(
                        now.name.clone(),
                        format!("the picture at {at:.3} s could not be decoded"),
                    ));
                }
            }
            Some(Got::Sound { track, frame }) => {
                if let Some((_, sound)) = now.sounds.iter_mut().find(|s| s.0 == track) {
                    sound.take(frame, self.base, &mut self.ready)?;
                }
            }
            Some(Got::Packet(_)) => (),
            None => self.end()?,
        }
        Ok(true)
    }

    /// The file that was read is at its end.
    fn end(&mut self) -> Result<()> {
        let Some(mut now) = self.now.take() else { return Ok(()) };
        let mut end = now.until.map_or(Time::ZERO, |s| length(s, 90_000));
        if let Some((_, pictures)) = &mut now.picture {
            end = pictures.finish(self.base, &mut self.ready)?;
        }
        for (_, sound) in &mut now.sounds {
            sound.finish(self.base, &mut self.ready)?;
            if now.until.is_none() && now.picture.is_none() {
                end = end.max(sound.end());
            }
        }
        let next = self.base.checked_add(end).ok_or_else(|| Error::limit("joined files", "too long"))?;
        let short = now.sounds.iter().map(|(_, s)| s.rest(self.base));
        self.quiet.extend(short.chain(now.absent).filter_map(|mut q| q.up_to(next)));
        for (track, _) in &now.sounds {
            let count = now.reader.count(*track);
            if let Some(bad) = count.first_bad {
                let words =
                    format!("{} packets of sound could not be decoded; first: {}", count.bad, bad.why);
                self.odd.push_back(Error::damaged(now.name.clone(), words));
            }
        }
        if let Some(why) = now.reader.first_unreadable {
            self.odd.push_back(Error::damaged(now.name, why));
        }
        self.base = next;
        Ok(())
    }
}

impl Demux for Joined {
    fn format(&self) -> &'static str {
        "joined files"
    }
    fn tracks(&self) -> &[Track] {
        &self.tracks
    }
    fn about(&self) -> &About {
        &self.about
    }
    fn choose(&mut self, tracks: &[usize]) {
        for (n, chosen) in self.chosen.iter_mut().enumerate() {
            *chosen = tracks.contains(&n);
        }
    }
    fn next_packet(&mut self) -> Result<Option<Packet>> {
        loop {
            if let Some(packet) = self.ready.pop_front() {
                return Ok(Some(packet));
            }
            if let Some(quiet) = self.quiet.front_mut() {
                match quiet.next() {
                    Some(packet) => return Ok(Some(packet)),
                    None => drop(self.quiet.pop_front()),
                }
                continue;
            }
            if let Some(odd) = self.odd.pop_front() {
                return Err(odd);
            }
            let which = self.of - self.files.len();
            let more = self.step().map_err(|e| match e {
                Error::Damaged(fault) => {
                    Error::damaged(format!("file {which} of {}", self.of), fault.to_string())
                }
                e => e,
            })?;
            if !more {
                return Ok(None);
            }
        }
    }
}

fn length(seconds: f64, scale: u32) -> Time {
    Time::new((seconds * f64::from(scale)).round() as i64, scale)
}

fn raw(form: &Form) -> Codec {
    let packing = Packing::Planar { chroma: form.chroma, depth: form.depth, red_first: false };
    Codec::Raw(RawPicture { packing, bottom_up: false, align: 1 })
}

fn described(form: &Form) -> VideoTrack {
    VideoTrack {
        pixel_shape: form.pixel_shape,
        chroma: Some(form.chroma),
        depth: Some(form.depth),
        colour: form.colour,
        rate: form.rate,
        constant_rate: form.rate.is_some(),
        ..VideoTrack::sized(form.width, form.height)
    }
}

/// What is done to pictures of a form until they are as the whole (or as it will be, where they are the first): the steps,
/// and what comes out.
fn way(from: &Form, whole: Option<&Form>, to_hd: bool) -> Result<(Vec<Step>, Form)> {
    let (mut steps, mut form) = (Vec::new(), from.clone());
    let mut add = |step: Step, form: &mut Form| -> Result<()> {
        *form = step.form(form)?;
        steps.push(step);
        Ok(())
    };
    if form.fields != Fields::Progressive {
        add(Step::Deinterlace(Deinterlacing::default()), &mut form)?;
    }
    if form.rotation != 0 {
        add(Step::Turn(form.rotation), &mut form)?;
    }
    let frame = whole.map(|w| (w.width, w.height));
    let own = (form.width, form.height);
    if form.pixel_shape != Ratio::ONE || frame.is_some_and(|f| f != own) {
        let (width, height) = enlarged(own.0, own.1, form.pixel_shape, frame.unwrap_or((0, 0)));
        add(Step::Scale { width, height, kernel: Kernel::default() }, &mut form)?;
    }
    if let Some((width, height)) = frame.filter(|f| *f != (form.width, form.height)) {
        add(Step::Place(Place { width, height, fill: Fill::Black }), &mut form)?;
    }
    let has = |form: &Form| (form.colour.primaries, form.colour.transfer, form.colour.matrix);
    if to_hd && has(&form) != (HD.primaries, HD.transfer, HD.matrix) {
        add(Step::Grade(Grading { to_hd: true, look: None }), &mut form)?;
    }
    if let Some(rate) = whole.and_then(|w| w.rate).filter(|r| form.rate != Some(*r)) {
        add(Step::Rate(rate), &mut form)?;
    }
    let wanted = match whole {
        Some(w) => {
            Wanted { chroma: w.chroma, depth: w.depth, full_range: w.colour.full_range, dither: false }
        }
        None => match form.chroma {
            c @ (Chroma::C420 | Chroma::C422) => {
                Wanted { chroma: c, depth: form.depth, full_range: form.colour.full_range, dither: false }
            }
            _ => Wanted { depth: form.depth.min(10), ..Wanted::PLAIN },
        },
    };
    add(Step::As(wanted), &mut form)?;
    Ok((steps, form))
}

/// Pictures of one file.
struct Pictures {
    chain: Chain,
    encoder: Planes,
    /// Ticks a second as they come, as they leave the steps, and of the whole.
    scales: (u32, u32, u32),
    rate: Ratio,
    /// Where the last one ends, in ticks of the steps.
    end: i64,
    last: Option<Shown>,
    lost: Vec<(i64, i64)>,
    out: Vec<Shown>,
}

impl Pictures {
    fn new(from: &Form, whole: &Form, to_hd: bool, pool: &Pool) -> Result<Pictures> {
        let (steps, to) = way(from, Some(whole), to_hd)?;
        let mut form = from.clone();
        let mut filters: Vec<Box<dyn VideoFilter>> = Vec::new();
        for step in &steps {
            filters.push(step.start(&form, pool)?);
            form = step.form(&form)?;
        }
        let rate = whole.rate.unwrap_or(UNKNOWN_RATE);
        let encoder = Planes::new(&PictureForm {
            chroma: whole.chroma,
            depth: whole.depth,
            ..PictureForm::plain(whole.width, whole.height, rate)
        })?;
        Ok(Pictures {
            chain: Chain::new(filters),
            encoder,
            scales: (from.timescale, to.timescale, whole.timescale),
            rate,
            end: 0,
            last: None,
            lost: Vec::new(),
            out: Vec::new(),
        })
    }

    fn seconds(&self, pts: i64) -> f64 {
        Time::new(pts, self.scales.0).seconds()
    }

    /// The one before is shown in its place, so that the count holds.
    fn lost(&mut self, pts: i64, duration: i64) {
        self.lost.push((pts, duration));
    }

    fn take(&mut self, shown: Shown, base: Time, ready: &mut VecDeque<Packet>) -> Result<()> {
        let until = shown.pts;
        let stand_in = self.last.get_or_insert_with(|| shown.clone()).frame.clone();
        self.repeat(&stand_in, until)?;
        self.last = Some(shown.clone());
        self.chain.push(shown, &mut self.out)?;
        self.give(base, ready)
    }

    fn repeat(&mut self, frame: &Arc<crate::frame::VideoFrame>, until: i64) -> Result<()> {
        self.lost.sort_unstable();
        let due = self.lost.iter().take_while(|l| l.0 < until).count();
        for (pts, duration) in self.lost.drain(..due) {
            self.chain.push(Shown { frame: frame.clone(), pts, duration }, &mut self.out)?;
        }
        Ok(())
    }

    fn give(&mut self, base: Time, ready: &mut VecDeque<Packet>) -> Result<()> {
        let (_, from, to) = self.scales;
        let base = base.ticks_at(to);
        for shown in self.out.drain(..) {
            let usual = (f64::from(from) / self.rate.value()).round().max(1.0) as i64;
            let long = if shown.duration > 0 { shown.duration } else { usual };
            self.end = self.end.max(shown.pts.saturating_add(long));
            let mut coded = Vec::new();
            self.encoder.encode(&shown.frame, shown.pts, long, &mut coded)?;
            for c in coded {
                let pts = base + rescale(c.pts, from, to);
                let duration = rescale(long, from, to);
                ready.push_back(Packet { track: 0, pts, duration, data: c.data, ..whole() });
            }
        }
        Ok(())
    }

    /// How far it is, from the beginning of the file.
    fn end(&self) -> Time {
        let (_, from, to) = self.scales;
        Time::new(rescale(self.end, from, to).max(0), to)
    }

    /// Gives where the file ends.
    fn finish(&mut self, base: Time, ready: &mut VecDeque<Packet>) -> Result<Time> {
        if let Some(last) = self.last.take() {
            self.repeat(&last.frame, i64::MAX)?;
        }
        self.chain.finish(&mut self.out)?;
        self.give(base, ready)?;
        Ok(self.end())
    }
}

/// A packet by itself.
fn whole() -> Packet {
    Packet { key: true, shown: true, ..Packet::default() }
}

/// One sound of one file.
struct Sound {
    /// Its place among the tracks of the whole.
    place: usize,
    from: AudioForm,
    form: AudioForm,
    line: Timeline,
    chain: AudioChain,
    /// Seconds of the file after which nothing is heard.
    until: Option<f64>,
    /// Samples given of this file, and where they begin in it.
    given: i64,
    start: Option<i64>,
}

impl Sound {
    fn new(place: usize, from: AudioForm, form: AudioForm, until: Option<f64>) -> Result<Sound> {
        let steps = [
            (from.channels != form.channels).then_some(AudioStep::Mix(form.channels)),
            (from.rate != form.rate).then_some(AudioStep::Resample(form.rate)),
        ];
        let steps: Vec<AudioStep> = steps.into_iter().flatten().collect();
        let chain = AudioChain::new(&steps, from)?;
        Ok(Sound { place, from, form, line: Timeline::default(), chain, until, given: 0, start: None })
    }

    fn take(&mut self, mut frame: AudioFrame, base: Time, ready: &mut VecDeque<Packet>) -> Result<()> {
        if let Some(until) = self.until {
            let left = (until * f64::from(frame.rate)).round() as i64 - frame.pts;
            let over = frame.len() as i64 - left.max(0);
            frame.trim(0, usize::try_from(over).unwrap_or(0));
        }
        if frame.is_empty() {
            return Ok(());
        }
        let (silent, sound) = self.line.place(frame)?;
        if let Some(start) = self.line.start {
            self.start.get_or_insert(rescale(start, self.from.rate, self.form.rate));
        }
        let channels = usize::from(self.from.channels);
        let mut rest = silent;
        while rest > 0 {
            let n = rest.min(SILENCE as u64);
            rest -= n;
            let samples = self.chain.push(vec![0.0; n as usize * channels])?;
            self.give(&samples, base, ready);
        }
        let samples = self.chain.push(sound)?;
        self.give(&samples, base, ready);
        Ok(())
    }

    fn give(&mut self, samples: &[f32], base: Time, ready: &mut VecDeque<Packet>) {
        let n = (samples.len() / usize::from(self.form.channels.max(1))) as i64;
        if n == 0 {
            return;
        }
        let pts = base.ticks_at(self.form.rate) + self.start.unwrap_or(0) + self.given;
        self.given += n;
        let data = samples.iter().flat_map(|s| s.to_le_bytes()).collect();
        ready.push_back(Packet { track: self.place, pts, duration: n, data, ..whole() });
    }

    fn finish(&mut self, base: Time, ready: &mut VecDeque<Packet>) -> Result<()> {
        let rest = self.chain.finish()?;
        self.give(&rest, base, ready);
        Ok(())
    }

    fn end(&self) -> Time {
        Time::new(self.start.unwrap_or(0) + self.given, self.form.rate)
    }

    /// What comes behind it.
    fn rest(&self, base: Time) -> Quiet {
        let AudioForm { rate, channels } = self.form;
        let from = base.ticks_at(rate) + self.end().ticks;
        Quiet { place: self.place, channels, rate, from, to: from }
    }
}
