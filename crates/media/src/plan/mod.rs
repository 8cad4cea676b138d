//! From settings and tracks to an explicit graph: which tracks are decoded, which filters stand between them and the
//! outputs, and what each output does with what comes. Equal beginnings of two outputs are one: a picture is scaled once
//! for all who want that size. Everything that can be refused is refused here, before any work.

mod copy;
mod part;
mod picture;
mod sound;
mod split;
pub mod stream;
pub mod words;

use crate::codec::coders::{AudioCoder, Rates, VideoCoder};
use crate::codec::h264::control::{Ahead, Guide};
use crate::codec::{self};
use crate::container::wrap::{self, Wrapper};
use crate::container::{Media, TimecodeTrack, Track};
use crate::error::{Error, Result};
use crate::filter::audio::{AudioForm, AudioStep};
use crate::filter::video::{Came, Form, Step};
use crate::recipe::{
    AudioCodec, AudioRecipe, BitRecipe, PicturesKind, Recipe, StillChoice, VideoCodec, WaveRecipe,
};
use crate::run::kept::SEGMENT_SECONDS;
pub use copy::{CopyPlan, plain_pcm};
pub use part::Span;
use std::sync::Arc;
pub use stream::{CaptionsPlan, RungPlan, StreamPlan};

/// The whole graph for one source.
#[derive(Clone, Debug, Default)]
pub struct Plan {
    /// The picture track that is decoded, and what its pictures look like.
    pub video: Option<usize>,
    pub source: Option<Form>,
    /// Sound tracks to decode.
    pub audio: Vec<usize>,
    /// Tracks whose packets are taken as they are.
    pub copied: Vec<usize>,
    pub nodes: Vec<Node>,
    pub outputs: Vec<OutputPlan>,
    /// What of the source any output needs, in seconds: nothing before the one, nothing from the other on.
    pub needed: (f64, Option<f64>),
    /// Frames (or, for sound alone, samples) that will pass, where the index tells.
    pub total: Option<u64>,
}

/// One filter on pictures.
#[derive(Clone, Debug, PartialEq)]
pub struct Node {
    /// The node it takes from; `None` is the source.
    pub from: Option<usize>,
    pub step: Step,
    /// What comes out of it.
    pub form: Form,
}

/// What one output does.
#[derive(Clone, Debug)]
pub struct OutputPlan {
    pub made: MadePlan,
    /// What it is made of, where that is not the whole source.
    pub span: Option<Span>,
    pub notes: Vec<String>,
}

#[derive(Clone, Debug)]
pub enum MadePlan {
    Film(FilmPlan),
    Still(StillPlan),
    Pictures(PicturesPlan),
    Wave(WavePlan),
    Stream(StreamPlan),
}

/// Several pictures of the film.
#[derive(Clone, Debug)]
pub struct PicturesPlan {
    pub node: Option<usize>,
    pub form: Form,
    pub kind: PicturesKind,
    pub format: StillChoice,
    /// How many there will be, as far as it is known.
    pub count: Option<u64>,
    /// Seconds of the source that they are of.
    pub seconds: f64,
}

/// A picture of the sound.
#[derive(Clone, Debug)]
pub struct WavePlan {
    pub track: usize,
    /// Its place among [`Plan::audio`].
    pub place: usize,
    pub span: Option<Span>,
    pub look: WaveRecipe,
}

/// A file of pictures, of sound or of both.
#[derive(Clone, Debug)]
pub struct FilmPlan {
    pub wrapper: &'static Wrapper,
    pub video: Option<VideoPlan>,
    pub audio: Vec<AudioPlan>,
    /// Tracks that are taken as they are: pictures in front of the sound that is coded, sound behind it.
    pub copies: Vec<CopyPlan>,
    pub timecode: Option<TimecodeTrack>,
    /// Written in fragments of so many seconds.
    pub fragments: Option<f64>,
    /// A word on the file for its own metadata.
    pub comment: Option<String>,
}

#[derive(Clone, Debug)]
pub struct VideoPlan {
    /// The node whose pictures are coded.
    pub node: Option<usize>,
    pub form: Form,
    pub coder: &'static VideoCoder,
    pub rate: BitRecipe,
    pub key_every: u32,
    pub frames: u64,
    /// The seconds of the source that it shows, where it shows them as fast.
    pub shows: Option<(f64, f64)>,
    /// The source, where it was gone through before.
    pub ahead: Option<Arc<Ahead>>,
}

#[derive(Clone, Debug)]
pub struct AudioPlan {
    /// The track it is of, and its place among [`Plan::audio`]; none for silence.
    pub source: Option<(usize, usize)>,
    /// What comes in, what is done to it, and what comes out of that.
    pub form_in: AudioForm,
    pub steps: Vec<AudioStep>,
    pub form: AudioForm,
    pub span: Option<Span>,
    pub bits: u32,
    pub coder: &'static AudioCoder,
    pub language: Option<String>,
    /// When it was recorded, by the source's timecode.
    pub began: Option<(f64, TimecodeTrack)>,
    /// Samples of the source by which it is heard later.
    pub delay: i64,
    pub expected_packets: u64,
}

/// One picture of the film.
#[derive(Clone, Debug)]
pub struct StillPlan {
    pub node: Option<usize>,
    pub form: Form,
    pub format: StillChoice,
}

impl AudioPlan {
    /// Its place among [`Plan::audio`].
    pub fn place(&self) -> Option<usize> {
        self.source.map(|(_, place)| place)
    }
}

impl MadePlan {
    pub fn film(&self) -> Option<&FilmPlan> {
        match self {
            MadePlan::Film(f) => Some(f),
            _ => None,
        }
    }

    /// The node whose pictures it takes, if it takes any.
    pub fn node(&self) -> Option<Option<usize>> {
        match self {
            MadePlan::Film(f) => f.video.as_ref().map(|v| v.node),
            MadePlan::Still(s) => Some(s.node),
            MadePlan::Pictures(p) => Some(p.node),
            MadePlan::Wave(_) => None,
            MadePlan::Stream(s) => s.rungs.first().and_then(|r| r.made.node()),
        }
    }

    /// What is made side by side for it: itself, or the rungs of a stream.
    pub fn lines(&self) -> Vec<&MadePlan> {
        match self {
            MadePlan::Stream(s) => s.rungs.iter().map(|r| &r.made).collect(),
            one => vec![one],
        }
    }

    pub fn lines_mut(&mut self) -> Vec<&mut MadePlan> {
        match self {
            MadePlan::Stream(s) => s.rungs.iter_mut().map(|r| &mut r.made).collect(),
            one => vec![one],
        }
    }

    /// The sound it takes, as places among [`Plan::audio`].
    pub fn places(&self) -> Vec<usize> {
        match self {
            MadePlan::Film(f) => f.audio.iter().filter_map(AudioPlan::place).collect(),
            MadePlan::Wave(w) => vec![w.place],
            MadePlan::Stream(s) => s.rungs.iter().flat_map(|r| r.made.places()).collect(),
            MadePlan::Still(_) | MadePlan::Pictures(_) => Vec::new(),
        }
    }

    /// The tracks of which it takes the packets.
    pub fn copied(&self) -> Vec<usize> {
        self.film().map_or_else(Vec::new, |f| f.copies.iter().map(|c| c.track).collect())
    }

    fn places_mut(&mut self) -> Vec<&mut usize> {
        match self {
            MadePlan::Film(f) => {
                f.audio.iter_mut().filter_map(|a| a.source.as_mut()).map(|(_, place)| place).collect()
            }
            MadePlan::Wave(w) => vec![&mut w.place],
            MadePlan::Stream(s) => s.rungs.iter_mut().flat_map(|r| r.made.places_mut()).collect(),
            MadePlan::Still(_) | MadePlan::Pictures(_) => Vec::new(),
        }
    }
}

impl VideoPlan {
    /// Where its pictures lie in what was gone through before.
    pub fn guide(&self) -> Option<Guide> {
        let (ahead, (from, to)) = (self.ahead.clone()?, self.shows?);
        Some(Guide { ahead, timescale: self.form.timescale, from, to })
    }

    /// Pictures that one encoder codes before the next one goes on: whole distances of key pictures. None where every
    /// picture stands by itself anyway.
    pub fn segment(&self) -> Option<u64> {
        let rate = self.form.rate.map_or(25.0, |r| r.value());
        let keys = u64::from(self.key_every.max(1));
        let wanted = (SEGMENT_SECONDS * rate).ceil() as u64;
        matches!(self.coder.rates, Rates::All | Rates::QuantiserOrBits).then(|| wanted.div_ceil(keys) * keys)
    }
}

impl OutputPlan {
    /// Making it takes so long that what is whole of it is worth keeping.
    pub fn is_long(&self) -> bool {
        let film = self.film().filter(|f| f.fragments.is_none());
        let video = film.and_then(|f| f.video.as_ref());
        video.is_some_and(|v| v.segment().is_some_and(|segment| v.frames > segment * 2))
    }

    pub fn film(&self) -> Option<&FilmPlan> {
        self.made.film()
    }

    pub fn node(&self) -> Option<Option<usize>> {
        self.made.node()
    }

    /// It is a folder of files.
    pub fn is_folder(&self) -> bool {
        match &self.made {
            MadePlan::Pictures(p) => p.kind.is_folder(),
            MadePlan::Stream(_) => true,
            _ => false,
        }
    }

    /// Pictures (or samples) that it will have.
    pub fn total(&self) -> Option<u64> {
        match &self.made {
            MadePlan::Film(FilmPlan { video: Some(v), .. }) => Some(v.frames).filter(|n| *n > 0),
            MadePlan::Film(f) => f.copies.iter().find(|c| c.is_picture()).map(|c| c.expected),
            MadePlan::Pictures(p) => p.count,
            MadePlan::Stream(s) => match &s.rungs.first()?.made {
                MadePlan::Film(FilmPlan { video: Some(v), .. }) => Some(v.frames).filter(|n| *n > 0),
                _ => None,
            },
            _ => None,
        }
    }
}

/// Plans all of these recipes, or says why one of them cannot be.
pub fn plan(tracks: &[Track], recipes: &[Recipe]) -> Result<Plan> {
    let (plan, ends) = plan_each(tracks, recipes);
    ends.into_iter().collect::<Result<Vec<_>>>()?;
    Ok(plan)
}

/// Plans what can be: for each recipe the number of its output in the plan, or why there is none.
pub fn plan_each(tracks: &[Track], recipes: &[Recipe]) -> (Plan, Vec<Result<usize>>) {
    let mut planner = Planner::new(tracks, recipes);
    let ends = recipes
        .iter()
        .map(|r| {
            let nodes = planner.plan.nodes.len();
            let output = planner.output(r).inspect_err(|_| planner.plan.nodes.truncate(nodes))?;
            planner.plan.outputs.push(output);
            Ok(planner.plan.outputs.len() - 1)
        })
        .collect();
    planner.leave_out_unused();
    let plan = planner.plan;
    (plan, ends)
}

struct Planner<'a> {
    tracks: &'a [Track],
    plan: Plan,
    /// The picture track, or why it cannot be decoded.
    picture: Result<Option<usize>>,
    /// Sound that cannot be decoded.
    left_out: Vec<String>,
}

impl<'a> Planner<'a> {
    fn new(tracks: &'a [Track], recipes: &[Recipe]) -> Self {
        let decodes = |a: &AudioRecipe| a.codec != AudioCodec::Copy;
        let wants_sound =
            recipes.iter().any(|r| r.audio.as_ref().is_some_and(decodes) || r.waveform.is_some());
        let found = tracks.iter().position(|t| matches!(t.media, Media::Video(_)));
        let picture = match found.and_then(|i| codec::why_not(&tracks[i])) {
            Some(why) => Err(Error::unsupported("the picture track", why)),
            None => Ok(found),
        };
        let (mut audio, mut left_out) = (Vec::new(), Vec::new());
        for (i, t) in tracks.iter().enumerate().filter(|(_, t)| wants_sound && t.audio().is_some()) {
            match codec::why_not(t) {
                None => audio.push(i),
                Some(why) => left_out.push(format!("sound track {} was left out: {why}", i + 1)),
            }
        }
        Planner { tracks, plan: Plan { audio, ..Plan::default() }, picture, left_out }
    }

    fn output(&mut self, r: &Recipe) -> Result<OutputPlan> {
        if let Some(still) = &r.still {
            let track = self.picture()?.ok_or_else(no_pictures)?;
            let (made, span) = self.still(track, still)?;
            return Ok(OutputPlan { made: MadePlan::Still(made), span, notes: Vec::new() });
        }
        let span = self.span(r.part.as_ref())?;
        if let Some(pictures) = &r.pictures {
            let track = self.picture()?.ok_or_else(no_pictures)?;
            let made = MadePlan::Pictures(self.pictures(track, span, pictures)?);
            return Ok(OutputPlan { made, span, notes: Vec::new() });
        }
        if let Some(look) = &r.waveform {
            let Some(&track) = self.plan.audio.first() else {
                let why =
                    self.left_out.first().map_or("the preset draws sound, and the file has none", |w| w);
                return Err(Error::unsupported("", why));
            };
            let made = MadePlan::Wave(WavePlan { track, place: 0, span, look: look.clone() });
            return Ok(OutputPlan { made, span, notes: Vec::new() });
        }
        if let Some(stream) = &r.stream {
            return self.stream(stream, r.audio.as_ref(), span);
        }
        let copies_pictures = r.video.as_ref().is_some_and(|v| v.codec == VideoCodec::Copy);
        let copies_sound = r.audio.as_ref().is_some_and(|a| a.codec == AudioCodec::Copy);
        if copies_pictures || copies_sound {
            return self.copy(r, span, copies_pictures, copies_sound);
        }
        if let Some(a) = r.audio.as_ref().filter(|a| a.split && r.video.is_none()) {
            return self.split(r, a, span);
        }
        let mut notes = if r.audio.is_some() { self.left_out.clone() } else { Vec::new() };
        let track = match &r.video {
            Some(_) => self.picture()?,
            None => None,
        };
        if r.video.is_some() && track.is_none() && r.audio.is_none() {
            return Err(no_pictures());
        }
        let codec = r.video.as_ref().filter(|_| track.is_some()).map(|v| v.codec);
        // Silence goes with pictures only.
        let silent = |a: &&AudioRecipe| a.silence && codec.is_some();
        let sounds = r.audio.as_ref().filter(|a| !self.plan.audio.is_empty() || silent(a)).map(|a| a.codec);
        if codec.is_none() && sounds.is_none() {
            let why = notes
                .first()
                .cloned()
                .unwrap_or_else(|| "the file has no track this preset could use".into());
            return Err(Error::unsupported("", why));
        }
        // The container is that of the whole preset, whatever this source has of it.
        let wrapper = wrap::wrapper(
            r.wrap,
            r.video.as_ref().map(|v| v.codec).filter(|_| r.wrap.is_some() || codec.is_some()),
            r.audio.as_ref().map(|a| a.codec),
        )?;
        let video = match (&r.video, track) {
            (Some(v), Some(track)) => Some(self.video(track, v, span, wrapper)?),
            _ => None,
        };
        let came = r.video.as_ref().and_then(|v| v.captions.as_ref()).and_then(|c| c.came.as_ref());
        if let (Some(Came::Read { notes: said, .. }), Some(_)) = (came, &video) {
            notes.extend(said.iter().map(|n| format!("captions: {n}")));
        }
        let paced = r.video.as_ref().and_then(|v| v.pace).is_some_and(|p| p != 1000) && video.is_some();
        if paced && sounds.is_some() {
            notes.push("the sound was left out: the pictures run at another pace".into());
        }
        let audio = match &r.audio {
            Some(a) if sounds.is_some() && !paced => self.sounds(a, span, wrapper, &mut notes)?,
            _ => Vec::new(),
        };
        let timecode = self.timecode(span).filter(|_| video.is_some() && wrapper.timecode && !paced);
        Ok(OutputPlan {
            made: MadePlan::Film(FilmPlan {
                wrapper,
                video,
                audio,
                copies: Vec::new(),
                timecode,
                fragments: None,
                comment: r.comment.clone(),
            }),
            span,
            notes,
        })
    }

    /// Some of it as it is, and the rest coded.
    fn copy(
        &mut self,
        r: &Recipe,
        span: Option<Span>,
        copies_pictures: bool,
        copies_sound: bool,
    ) -> Result<OutputPlan> {
        let (video, audio) = (r.video.as_ref().map(|v| v.codec), r.audio.as_ref().map(|a| a.codec));
        let wrapper = wrap::wrapper(r.wrap, video, audio)?;
        let copies = self.copies(r, span, wrapper)?;
        let mut notes = if r.audio.is_some() && !copies_sound { self.left_out.clone() } else { Vec::new() };
        let coded = match &r.video {
            Some(v) if !copies_pictures => {
                self.picture()?.map(|track| self.video(track, v, span, wrapper)).transpose()?
            }
            _ => None,
        };
        let has_pictures = coded.is_some() || copies.iter().any(CopyPlan::is_picture);
        if r.video.is_some() && !has_pictures && r.audio.is_none() {
            return Err(no_pictures());
        }
        let audio = match &r.audio {
            Some(a) if !copies_sound && (!self.plan.audio.is_empty() || (a.silence && coded.is_some())) => {
                self.sounds(a, span, wrapper, &mut notes)?
            }
            _ => Vec::new(),
        };
        if !has_pictures && audio.is_empty() && copies.is_empty() {
            return Err(Error::unsupported("", "the file has no track this preset could use"));
        }
        let timecode = self.timecode(span).filter(|_| has_pictures && wrapper.timecode);
        for t in copies.iter().map(|c| c.track) {
            if !self.plan.copied.contains(&t) {
                self.plan.copied.push(t);
            }
        }
        Ok(OutputPlan {
            made: MadePlan::Film(FilmPlan {
                wrapper,
                video: coded,
                audio,
                copies,
                timecode,
                fragments: None,
                comment: r.comment.clone(),
            }),
            span,
            notes,
        })
    }

    fn picture(&mut self) -> Result<Option<usize>> {
        match &self.picture {
            Ok(found) => {
                let found = *found;
                self.plan.video = found;
                self.plan.source = found.and_then(|i| Form::of(&self.tracks[i]));
                Ok(found)
            }
            Err(Error::Unsupported(fault)) => Err(Error::Unsupported(fault.clone())),
            Err(e) => Err(Error::unsupported("the picture track", e.to_string())),
        }
    }

    /// Tracks that no output takes are not decoded.
    fn leave_out_unused(&mut self) {
        let plan = &mut self.plan;
        plan.copied.retain(|t| plan.outputs.iter().any(|o| o.made.copied().contains(t)));
        plan.copied.sort_unstable();
        if plan.outputs.iter().all(|o| o.node().is_none()) {
            (plan.video, plan.source) = (None, None);
        }
        let used: Vec<usize> = (0..plan.audio.len())
            .filter(|place| plan.outputs.iter().any(|o| o.made.places().contains(place)))
            .collect();
        for o in &mut plan.outputs {
            for place in o.made.places_mut() {
                *place = used.iter().position(|p| p == place).unwrap_or(0);
            }
        }
        plan.audio = used.iter().map(|p| plan.audio[*p]).collect();
        let from = plan.outputs.iter().map(|o| o.span.map_or(0.0, |s| s.from)).reduce(f64::min);
        let to = plan.outputs.iter().map(|o| o.span.and_then(|s| s.to)).reduce(|a, b| Some(a?.max(b?)));
        plan.needed = (from.unwrap_or(0.0), to.flatten());
        let (total, track) = match plan.video {
            Some(i) => (frames(&self.tracks[i]), Some(i)),
            None => match (plan.audio.first().copied(), plan.copied.first().copied()) {
                (Some(i), _) => (Some(samples(&self.tracks[i])), Some(i)),
                (None, Some(i)) => (self.tracks[i].packets, Some(i)),
                (None, None) => (None, None),
            },
        };
        let length = track.map_or(0.0, |i| self.tracks[i].duration.seconds());
        let all = Span { from: plan.needed.0, to: plan.needed.1 };
        plan.total = total.map(|n| (n as f64 * all.share_of(length)).round() as u64);
    }

    /// The node that does this to what comes from there: one that is there already, or a new one.
    fn node(&mut self, from: Option<usize>, step: Step) -> Result<usize> {
        if let Some(n) = self.plan.nodes.iter().position(|n| n.from == from && n.step == step) {
            return Ok(n);
        }
        let form = step.form(&self.form(from)?)?;
        self.plan.nodes.push(Node { from, step, form });
        Ok(self.plan.nodes.len() - 1)
    }

    /// What pictures look like behind a node.
    fn form(&self, node: Option<usize>) -> Result<Form> {
        let form = match node {
            Some(n) => self.plan.nodes.get(n).map(|n| n.form.clone()),
            None => self.plan.source.clone(),
        };
        form.ok_or_else(no_pictures)
    }
}

fn no_pictures() -> Error {
    Error::unsupported("", "the preset makes pictures, but the file has no picture track")
}

/// Pictures of a track: counted, or, where a large file was not looked through, as many as its length and rate
/// make.
pub(crate) fn frames(track: &Track) -> Option<u64> {
    let guess = || {
        let rate = track.video()?.rate?;
        Some((track.duration.seconds() * rate.value()).round().clamp(0.0, 1e12) as u64)
    };
    track.shown.or_else(guess)
}

fn samples(track: &Track) -> u64 {
    track.duration.ticks_at(track.timescale).max(0) as u64
}
