//! Reading and decoding, once for all outputs.

use super::film::within;
use super::tree::Takers;
use super::{Control, Line, Message};
use crate::codec::h264::control::{Ahead, Looker};
use crate::container::Demux;
use crate::error::{Error, Result};
use crate::filter::audio::meter::Meter;
use crate::filter::audio::{AudioChain, AudioForm, AudioStep, Timeline};
use crate::filter::video::Shown;
use crate::frame::{AudioFrame, Pool, VideoFrame};
use crate::plan::{AudioPlan, MadePlan, Plan, Span, VideoPlan};
use crate::read::{Count, Got, Reader};
use crate::track::Packet;
use crate::units::Time;
use std::sync::Arc;
use std::sync::mpsc::SyncSender;

/// What was odd in the source.
#[derive(Default)]
pub struct Said {
    pub picture: Vec<String>,
    pub sound: Vec<String>,
    /// What could not even be read: of everybody who took something.
    pub unread: Option<String>,
}

/// Outputs that take sound: for each place of the plan's list, who takes it.
pub struct Sounds {
    to: Vec<(Vec<usize>, Option<SyncSender<Message>>)>,
}

impl Sounds {
    pub fn of(lines: &[&MadePlan], outputs: &[SyncSender<Message>]) -> Sounds {
        let to = lines.iter().zip(outputs).filter_map(|(line, to)| {
            let places = line.places();
            (!places.is_empty()).then(|| (places, Some(to.clone())))
        });
        Sounds { to: to.collect() }
    }

    fn send(&mut self, place: usize, frame: AudioFrame) -> Result<()> {
        let frame = Arc::new(frame);
        for (places, to) in &mut self.to {
            let gone =
                |t: &SyncSender<Message>| t.send(Message::Sound { place, frame: frame.clone() }).is_err();
            if places.contains(&place) && to.as_ref().is_some_and(gone) {
                *to = None;
            }
        }
        if self.to.iter().all(|(_, to)| to.is_none()) { Err(Error::Stopped) } else { Ok(()) }
    }

    fn end(self) {
        for to in self.to.into_iter().filter_map(|(_, to)| to) {
            let _ = to.send(Message::End(Line::Sound));
        }
    }
}

/// Outputs that take packets as they are: each with the tracks that it wants.
pub struct Packets {
    to: Vec<(Vec<usize>, Option<SyncSender<Message>>)>,
}

impl Packets {
    pub fn of(lines: &[&MadePlan], outputs: &[SyncSender<Message>]) -> Packets {
        let to = lines.iter().zip(outputs).map(|(line, to)| (line.copied(), Some(to.clone())));
        Packets { to: to.filter(|(tracks, _)| !tracks.is_empty()).collect() }
    }

    fn send(&mut self, packet: Packet) {
        let (track, packet) = (packet.track, Arc::new(packet));
        for (tracks, to) in &mut self.to {
            let gone = |t: &SyncSender<Message>| t.send(Message::Packet(packet.clone())).is_err();
            if tracks.contains(&track) && to.as_ref().is_some_and(gone) {
                *to = None;
            }
        }
    }

    fn nobody(&self) -> bool {
        self.to.iter().all(|(_, to)| to.is_none())
    }

    fn end(self) {
        for to in self.to.into_iter().filter_map(|(_, to)| to) {
            let _ = to.send(Message::End(Line::Packets));
        }
    }
}

/// Where work goes on, so many seconds before are decoded as well: some filters look back.
const AHEAD: f64 = 1.0;

pub fn feed(
    demux: &mut dyn Demux,
    plan: &Plan,
    pool: &Pool,
    (pictures, mut sounds, mut packets): (Takers, Sounds, Packets),
    resume: f64,
    control: &Control,
) -> Result<Said> {
    let wanted: Vec<usize> = plan.audio.iter().copied().chain(plan.video).collect();
    let (from, to) = plan.needed;
    let mut reader = Reader::with_packets(demux, &wanted, &plan.copied, pool)?;
    reader.begin_at(from)?;
    if resume > from + AHEAD {
        reader.pictures_from(resume - AHEAD);
        let rate = plan.source.as_ref().and_then(|f| f.rate).map_or(0.0, |r| r.value());
        control.read(((resume - AHEAD - from) * rate) as u64);
    }
    let mut pictures =
        Pictures { to: pictures, last: None, early: Vec::new(), sent: 0, lost: 0, nobody: false };
    let mut deaf = false;
    while let Some(got) = reader.next_one()? {
        if control.stopping() {
            return Err(Error::Stopped);
        }
        if to.is_some_and(|to| reader.is_behind(to)) {
            break;
        }
        match got {
            Got::Picture { frame, .. } => {
                pictures.take(frame)?;
                control.read(1);
            }
            Got::Lost { pts, duration, .. } => pictures.early.push((pts, duration)),
            Got::Sound { track, frame } => {
                let Some(place) = plan.audio.iter().position(|&t| t == track) else { continue };
                if plan.video.is_none() && place == 0 {
                    control.read(frame.len() as u64);
                }
                if !deaf && matches!(sounds.send(place, frame), Err(Error::Stopped)) {
                    deaf = true;
                }
            }
            Got::Packet(packet) => {
                if wanted.is_empty() && plan.copied.first() == Some(&packet.track) {
                    control.read(1);
                }
                packets.send(packet);
            }
        }
        // Every output has ended with an error of its own.
        if (deaf || plan.audio.is_empty()) && (pictures.nobody || pictures.to.is_empty()) && packets.nobody()
        {
            break;
        }
    }
    // Lost at the very end: the last picture stays.
    pictures.repeat(i64::MAX)?;
    let mut said = Said::default();
    if let Some(track) = plan.video {
        pictures.report(&reader.count(track), &mut said.picture)?;
    }
    for (i, &track) in plan.audio.iter().enumerate() {
        report_sound(&reader.count(track), i + 1, &mut said.sound)?;
    }
    if let Some(first) = &reader.first_unreadable {
        said.unread = Some(format!("{} packets could not be read; first: {first}", reader.unreadable));
    }
    pictures.to.end();
    sounds.end();
    packets.end();
    Ok(said)
}

struct Pictures {
    to: Takers,
    last: Option<Arc<VideoFrame>>,
    /// Lost pictures that were not yet shown for.
    early: Vec<(i64, i64)>,
    sent: u64,
    lost: u64,
    nobody: bool,
}

impl Pictures {
    fn take(&mut self, frame: VideoFrame) -> Result<()> {
        let (pts, duration) = (frame.pts, frame.duration);
        let frame = Arc::new(frame);
        // Nothing came before: the first picture stands in for those lost before it.
        self.last.get_or_insert_with(|| frame.clone());
        self.repeat(pts)?;
        self.sent += 1;
        self.last = Some(frame.clone());
        self.send(Shown { frame, pts, duration })
    }

    fn send(&mut self, shown: Shown) -> Result<()> {
        if !self.nobody && !self.to.is_empty() && matches!(self.to.send(&shown), Err(Error::Stopped)) {
            self.nobody = true;
        }
        Ok(())
    }

    /// Shows the last picture again for those lost before `until`, so that frame count and times hold.
    fn repeat(&mut self, until: i64) -> Result<()> {
        let Some(last) = self.last.clone() else { return Ok(()) };
        self.early.sort_unstable();
        let due = self.early.iter().take_while(|(pts, _)| *pts < until).count();
        for (pts, duration) in self.early.drain(..due).collect::<Vec<_>>() {
            self.lost += 1;
            self.send(Shown { frame: last.clone(), pts, duration })?;
        }
        Ok(())
    }

    fn report(&self, count: &Count, notes: &mut Vec<String>) -> Result<()> {
        let first = count.first_bad.as_ref().map(|b| b.why.clone());
        if self.sent == 0 {
            let why = first.unwrap_or_else(|| "the track has no packets".into());
            return Err(Error::damaged("picture track", format!("not one picture could be decoded: {why}")));
        }
        if self.lost > 0 {
            let all = self.lost + self.sent;
            let first = first.map_or(String::new(), |f| format!("; first: {f}"));
            notes.push(format!("{} of {all} pictures could not be decoded, and the one before was shown in their place{first}", self.lost));
        }
        if count.concealed > 0 {
            notes.push(format!(
                "{} pictures had damaged parts, which were filled from the picture before",
                count.concealed
            ));
        }
        Ok(())
    }
}

fn report_sound(count: &Count, number: usize, notes: &mut Vec<String>) -> Result<()> {
    let Some(first) = &count.first_bad else { return Ok(()) };
    if count.good == 0 {
        return Err(Error::damaged(
            format!("sound track {number}"),
            format!("not one packet could be decoded: {}", first.why),
        ));
    }
    // The hole it leaves is filled with silence.
    notes.push(format!(
        "sound track {number}: {} packets could not be decoded and are silent; first: {}",
        count.bad, first.why
    ));
    Ok(())
}

/// The gains that were measured, in the order of the plan.
pub fn levels(plan: &Plan) -> Vec<Option<f32>> {
    let films = plan.outputs.iter().flat_map(|o| o.made.lines()).filter_map(MadePlan::film);
    let steps = films.flat_map(|f| &f.audio).flat_map(|a| &a.steps);
    let gains =
        steps.filter_map(|s| if let AudioStep::Level { factor, .. } = s { Some(*factor) } else { None });
    gains.collect()
}

/// Sets what an earlier run of the same plan measured; false, and nothing is set, where it is of another one.
pub fn set_levels(plan: &mut Plan, gains: &[Option<f32>]) -> bool {
    if levels(plan).len() != gains.len() || !gains.iter().flatten().all(|g| g.is_finite()) {
        return false;
    }
    let mut gains = gains.iter();
    for line in plan.outputs.iter_mut().flat_map(|o| o.made.lines_mut()) {
        let MadePlan::Film(film) = line else { continue };
        for step in film.audio.iter_mut().flat_map(|a| &mut a.steps) {
            if let (AudioStep::Level { factor, .. }, Some(gain)) = (step, gains.clone().next()) {
                *factor = *gain;
                gains.next();
            }
        }
    }
    true
}

/// Measures the sound that is to be brought to a loudness, with a reader of its own over the same source, and sets the
/// gains of the plan. Nothing is read if no output asks for it.
pub fn measure(
    open: &mut dyn FnMut() -> Result<Box<dyn Demux>>,
    plan: &mut Plan,
    control: &Control,
) -> Result<()> {
    let mut asked: Vec<Measured> = Vec::new();
    let lines = plan.outputs.iter().flat_map(|o| o.made.lines());
    for a in lines.filter_map(MadePlan::film).flat_map(|f| &f.audio) {
        if let Some(key) = Key::of(a)
            && asked.iter().all(|m| m.key != key)
        {
            asked.push(Measured::new(key)?);
        }
    }
    if asked.is_empty() {
        return Ok(());
    }
    let tracks: Vec<usize> = plan.audio.clone();
    let mut demux = open()?;
    let mut reader = Reader::new(demux.as_mut(), &tracks, &Pool::new())?;
    while let Some(got) = reader.next_one()? {
        if control.stopping() {
            return Err(Error::Stopped);
        }
        let Got::Sound { track, frame } = got else { continue };
        for m in asked.iter_mut().filter(|m| tracks.get(m.key.place) == Some(&track)) {
            m.take(&frame)?;
        }
    }
    for line in plan.outputs.iter_mut().flat_map(|o| o.made.lines_mut()) {
        let MadePlan::Film(film) = line else { continue };
        for a in &mut film.audio {
            let Some(key) = Key::of(a) else { continue };
            let Some(m) = asked.iter_mut().find(|m| m.key == key) else { continue };
            m.finish()?;
            for step in &mut a.steps {
                if let AudioStep::Level { to, factor } = step {
                    *factor = m.meter.gain(*to);
                }
            }
        }
    }
    Ok(())
}

/// Goes through the pictures of the source once, for the outputs whose bits are shared out over all of it.
pub fn look_ahead(
    open: &mut dyn FnMut() -> Result<Box<dyn Demux>>,
    plan: &mut Plan,
    control: &Control,
) -> Result<()> {
    let twice = |v: &VideoPlan| v.rate.is_twice() && v.shows.is_some();
    let films = plan.outputs.iter().flat_map(|o| o.made.lines()).filter_map(MadePlan::film);
    let wanted: Vec<(f64, f64)> =
        films.filter_map(|f| f.video.as_ref().filter(|v| twice(v))?.shows).collect();
    let (Some(track), false) = (plan.video, wanted.is_empty()) else { return Ok(()) };
    let from = wanted.iter().map(|w| w.0).fold(f64::INFINITY, f64::min);
    let to = wanted.iter().map(|w| w.1).fold(0.0, f64::max);
    let mut demux = open()?;
    let scale = demux.tracks()[track].timescale;
    let mut reader = Reader::new(demux.as_mut(), &[track], &Pool::new())?;
    reader.begin_at(from)?;
    let (mut looker, mut ahead) = (Looker::default(), Ahead::default());
    while let Some(got) = reader.next_one()? {
        if control.stopping() {
            return Err(Error::Stopped);
        }
        if reader.is_behind(to) {
            break;
        }
        if let Got::Picture { frame, .. } = got {
            let hard = looker.look(&frame);
            ahead.pictures.push((Time::new(frame.pts, scale).seconds(), hard));
        }
    }
    let ahead = Arc::new(ahead);
    for line in plan.outputs.iter_mut().flat_map(|o| o.made.lines_mut()) {
        let MadePlan::Film(film) = line else { continue };
        for video in film.video.iter_mut().filter(|v| twice(v)) {
            video.ahead = Some(ahead.clone());
        }
    }
    Ok(())
}

/// What is measured: a track's sound, as it comes to where it is levelled.
#[derive(Clone, PartialEq)]
struct Key {
    place: usize,
    span: Option<Span>,
    form: AudioForm,
    before: Vec<AudioStep>,
}

impl Key {
    fn of(a: &AudioPlan) -> Option<Key> {
        let at = a.steps.iter().position(|s| matches!(s, AudioStep::Level { .. }))?;
        Some(Key { place: a.place()?, span: a.span, form: a.form_in, before: a.steps[..at].to_vec() })
    }
}

struct Measured {
    key: Key,
    line: Timeline,
    chain: AudioChain,
    meter: Meter,
    ended: bool,
}

impl Measured {
    fn new(key: Key) -> Result<Measured> {
        let form = key.before.iter().fold(key.form, |form, s| s.form(form));
        let chain = AudioChain::new(&key.before, key.form)?;
        let meter = Meter::new(form.rate, form.channels)?;
        Ok(Measured { key, line: Timeline::default(), chain, meter, ended: false })
    }

    fn take(&mut self, frame: &AudioFrame) -> Result<()> {
        let Some(frame) = within(frame, self.key.span) else { return Ok(()) };
        let (silence, sound) = self.line.place(frame)?;
        self.meter.silence(silence);
        let sound = self.chain.push(sound)?;
        self.meter.add(&sound);
        Ok(())
    }

    fn finish(&mut self) -> Result<()> {
        if !std::mem::replace(&mut self.ended, true) {
            let rest = self.chain.finish()?;
            self.meter.add(&rest);
        }
        Ok(())
    }
}
