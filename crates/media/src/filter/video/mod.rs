//! Filters on pictures. Each takes pictures of every depth and chroma layout and gives none, one or several for each.
//!
//! To add one: a file here with a type that implements [`VideoFilter`], a variant of [`Step`], and its lines in `form`,
//! `start` and `words`. `contract.rs` then checks it with all the others.

pub mod burn;
pub mod captions;
pub mod convert;
pub mod deinterlace;
pub mod fade;
pub mod flatten;
pub mod frame;
pub mod grade;
pub mod halve;
mod lattice;
mod matrix;
pub mod overlay;
pub mod pick;
pub mod pulldown;
pub mod rate;
pub(crate) mod resize;
pub mod scale;
pub mod soften;
pub mod turn;
mod wide;

#[cfg(test)]
mod contract;

pub use burn::{Burn, Burner, Burning, Side};
pub use captions::{Came, Captions, Spoken};
pub use convert::{Converter, Wanted};
pub use deinterlace::{Deinterlacer, Deinterlacing};
pub use fade::Fading;
pub use frame::{Fill, Place, Rect};
pub use grade::Grading;
pub use overlay::Overlay;
pub use rate::Pace;
pub use scale::{Kernel, Scaler, fit};

use crate::error::{Error, Result};
use crate::frame::{Chroma, Colour, Fields, Pool, VideoFrame};
use crate::track::Track;
use crate::units::Ratio;
use std::sync::Arc;

/// A picture, and when it is shown.
#[derive(Clone, Debug)]
pub struct Shown {
    pub frame: Arc<VideoFrame>,
    pub pts: i64,
    pub duration: i64,
}

/// What pictures look like at one point of the graph, as far as it is known before the first one came: a stream may change
/// its mind, and every filter looks at the picture it has.
#[derive(Clone, Debug, PartialEq)]
pub struct Form {
    pub width: u32,
    pub height: u32,
    pub chroma: Chroma,
    pub depth: u8,
    pub colour: Colour,
    pub fields: Fields,
    pub pixel_shape: Ratio,
    /// Clockwise turn that is still to be made for showing.
    pub rotation: u16,
    pub rate: Option<Ratio>,
    /// Ticks a second of all times.
    pub timescale: u32,
}

impl Form {
    /// Of a picture track; what is not stated is taken to be 8 bits of 4:2:0.
    pub fn of(track: &Track) -> Option<Form> {
        let v = track.video()?;
        let (chroma, depth) = (v.chroma.unwrap_or(Chroma::C420), v.depth.unwrap_or(8).clamp(8, 16));
        let (chroma, depth, colour) = match v.coverage {
            true => (Chroma::Rgba, 8, v.colour.of_rgb()),
            false => (chroma, depth, v.colour),
        };
        Some(Form {
            width: v.width,
            height: v.height,
            chroma,
            depth,
            colour,
            fields: v.fields,
            pixel_shape: v.pixel_shape,
            rotation: v.rotation,
            rate: v.rate.filter(|r| r.value() <= 1000.0),
            timescale: track.timescale,
        })
    }
}

/// Pictures in, pictures out.
pub trait VideoFilter: Send {
    /// Takes one picture; what became ready is appended, in the order of showing.
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()>;
    /// Gives what is held back.
    fn finish(&mut self, out: &mut Vec<Shown>) -> Result<()> {
        let _ = out;
        Ok(())
    }
}

/// One filter with its numbers: a node of the plan's graph.
#[derive(Clone, Debug)]
pub enum Step {
    /// Only what is shown from one moment to another, in ticks; its times then begin at 0.
    Part {
        from: i64,
        to: Option<i64>,
    },
    /// Two fields become one picture (or two).
    Deinterlace(Deinterlacing),
    /// Film out of video: four pictures of five.
    Unpull,
    /// Pictures are repeated and left out until so many come in a second.
    Rate(Ratio),
    /// The same, with mixtures of neighbours.
    Blend(Ratio),
    /// Times run faster, or slower.
    Pace(Pace),
    /// Noise taken out, in thousandths of the strongest.
    Denoise(u32),
    /// Edges brought out, in thousandths.
    Sharpen(u32),
    Fade(Fading),
    Grade(Grading),
    /// What can be seen through is laid over a ground of red, green and blue, or without one left out.
    Flatten(Option<[u8; 3]>),
    /// A picture laid over, and what it was read as.
    Lay(Box<(Overlay, Arc<VideoFrame>)>),
    /// A part of the picture.
    Crop(Rect),
    /// Both sides halved: what everything that shrinks a lot begins with.
    Halve,
    Scale {
        width: u32,
        height: u32,
        kernel: Kernel,
    },
    /// Turned clockwise by 90, 180 or 270 degrees.
    Turn(u16),
    /// Set into a larger frame.
    Place(Place),
    /// Words, in the picture.
    Burn(Box<Burning>),
    /// What is said, and the second of the source that times count from.
    Captions(Box<(Captions, f64)>),
    /// In the form that an encoder takes.
    As(Wanted),
    /// The pictures of several moments, in ticks.
    Moments(Vec<i64>),
    /// One picture each time so many ticks have passed.
    Sample(i64),
    /// The picture of one moment, in ticks.
    At(i64),
}

impl PartialEq for Step {
    /// By what is done: numbers and names.
    fn eq(&self, other: &Step) -> bool {
        match (self, other) {
            (Step::Lay(a), Step::Lay(b)) => a.0 == b.0,
            (a, b) => {
                std::mem::discriminant(a) == std::mem::discriminant(b) && format!("{a:?}") == format!("{b:?}")
            }
        }
    }
}

impl Step {
    /// What comes out of it.
    pub fn form(&self, from: &Form) -> Result<Form> {
        let mut to = from.clone();
        match self {
            Step::Deinterlace(d) => {
                to.fields = Fields::Progressive;
                if d.every_field {
                    to.rate = from.rate.and_then(|r| Ratio::new(u64::from(r.num) * 2, r.den.into()));
                    to.timescale = from.timescale.saturating_mul(2);
                }
            }
            Step::Unpull => {
                to.fields = Fields::Progressive;
                to.rate = from.rate.and_then(pulldown::film_rate);
                to.timescale = to.rate.map_or(from.timescale, |r| rate::timescale(from.timescale, r));
            }
            Step::Rate(r) | Step::Blend(r) => {
                to.rate = Some(*r);
                to.timescale = rate::timescale(from.timescale, *r);
            }
            Step::Pace(p) => {
                to.rate = from.rate.and_then(|r| p.rate(r));
                to.timescale = p.timescale(from.timescale);
            }
            Step::Grade(g) => to.colour = g.colour_after(from.colour, from.chroma),
            Step::Crop(r) => {
                if !r.is_inside(from.width, from.height) {
                    let (w, h) = (from.width, from.height);
                    return Err(Error::setting("crop", format!("{r} is not inside a picture of {w}x{h}")));
                }
                (to.width, to.height) = (r.width, r.height);
            }
            Step::Halve => (to.width, to.height) = (from.width.div_ceil(2), from.height.div_ceil(2)),
            Step::Scale { width, height, .. } => {
                (to.width, to.height, to.pixel_shape) = (*width, *height, Ratio::ONE);
            }
            Step::Turn(by) => {
                if by % 180 == 90 {
                    (to.width, to.height) = (from.height, from.width);
                    to.pixel_shape = Ratio::new(from.pixel_shape.den.into(), from.pixel_shape.num.into())
                        .unwrap_or(Ratio::ONE);
                }
                to.rotation = (from.rotation + 360 - by) % 360;
            }
            Step::Place(p) => (to.width, to.height) = (p.width, p.height),
            Step::Flatten(_) => {
                to.chroma = if from.chroma == Chroma::Rgba { Chroma::Rgb } else { from.chroma };
            }
            Step::Part { .. } | Step::Burn(_) | Step::Denoise(_) | Step::Sharpen(_) => (),
            Step::Fade(_) | Step::Lay(_) | Step::Captions(_) => (),
            Step::Sample(_) | Step::At(_) | Step::Moments(_) => to.rate = None,
            Step::As(wanted) => {
                (to.chroma, to.depth) = (wanted.chroma, wanted.depth);
                to.colour = wanted.colour_after(from.colour, from.chroma);
            }
        }
        Ok(to)
    }

    pub fn start(&self, from: &Form, pool: &Pool) -> Result<Box<dyn VideoFilter>> {
        let pool = pool.clone();
        Ok(match self.clone() {
            Step::Part { from, to } => Box::new(pick::Part { from, to }),
            Step::Deinterlace(d) => Box::new(Deinterlacer::new(d, from, pool)),
            Step::Unpull => Box::new(pulldown::Unpulled::new(from, pool)),
            Step::Rate(r) => Box::new(rate::Rate::new(r, from.timescale)),
            Step::Blend(r) => Box::new(rate::Blend::new(r, from.timescale, pool)),
            Step::Pace(p) => Box::new(pick::Paced { pace: p, old: from.timescale }),
            Step::Denoise(by) => each(move |f| soften::denoise(f, by as f32 / 1000.0, &pool)),
            Step::Sharpen(by) => each(move |f| soften::sharpen(f, by as f32 / 1000.0, &pool)),
            Step::Fade(fading) => Box::new(fade::Fader { fading, pool, first: None }),
            Step::Grade(g) => {
                let mut grader = grade::Grader::new(g, pool);
                each(move |f| grader.grade(f))
            }
            Step::Flatten(ground) => each(move |f| flatten::flatten(f, ground, &pool)),
            Step::Lay(what) => {
                let mut layer = overlay::Layer::new(what.0, what.1, pool);
                each(move |f| layer.lay(f))
            }
            Step::Crop(r) => each(move |f| frame::crop(f, r, &pool)),
            Step::Halve => each(move |f| halve::halve(f, &pool)),
            Step::Scale { width, height, kernel } => {
                let mut scaler = Scaler::with(width, height, kernel, pool);
                each(move |f| scaler.scale(f))
            }
            Step::Turn(by) => each(move |f| turn::turn(f, by, &pool)),
            Step::Place(p) => {
                let mut placer = frame::Placer::new(p, pool);
                each(move |f| placer.place(f))
            }
            Step::Sample(every) => Box::new(pick::Sample { every, next: None }),
            Step::At(at) => Box::new(pick::Moments::new(vec![at])),
            Step::Moments(all) => Box::new(pick::Moments::new(all)),
            Step::Burn(b) => Box::new(Burner::new(b.burn, b.code, from, pool)),
            Step::Captions(c) => Box::new(captions::Captioner::new(c.0, c.1, from, pool)),
            Step::As(wanted) => {
                let mut converter = Converter::to(wanted, pool);
                Box::new(Each(
                    move |f: &Arc<VideoFrame>| {
                        if wanted.is(f) { Ok(f.clone()) } else { converter.convert(f).map(Arc::new) }
                    },
                ))
            }
        })
    }

    /// What comes out at a moment follows from the picture of that moment alone, whatever came before.
    pub fn is_local(&self) -> bool {
        match self {
            Step::Part { .. }
            | Step::Denoise(_)
            | Step::Sharpen(_)
            | Step::Grade(_)
            | Step::Flatten(_)
            | Step::Lay(_)
            | Step::Crop(_)
            | Step::Halve
            | Step::Scale { .. }
            | Step::Turn(_)
            | Step::Place(_)
            | Step::Burn(_)
            | Step::Captions(_)
            | Step::As(_) => true,
            Step::Deinterlace(_)
            | Step::Unpull
            | Step::Rate(_)
            | Step::Blend(_)
            | Step::Pace(_)
            | Step::Fade(_)
            | Step::Moments(_)
            | Step::Sample(_)
            | Step::At(_) => false,
        }
    }

    /// For people, with its numbers.
    pub fn words(&self, from: &Form) -> String {
        let seconds = |ticks: i64| ticks as f64 / f64::from(from.timescale.max(1));
        match self {
            Step::Part { from, to: None } => format!("only from {:.3} s on", seconds(*from)),
            Step::Part { from, to: Some(to) } => {
                format!("only from {:.3} s to {:.3} s", seconds(*from), seconds(*to))
            }
            Step::Deinterlace(d) => d.words(),
            Step::Unpull => "take 2:3 pulldown out: of five pictures the four of film".into(),
            Step::Rate(r) => format!("{r} frames a second, by repeating and leaving out"),
            Step::Blend(r) => format!("{r} frames a second, by mixtures of neighbours"),
            Step::Pace(p) => format!("{} times as fast", f64::from(p.0) / 1000.0),
            Step::Denoise(by) => format!("take out noise, {}", f64::from(*by) / 1000.0),
            Step::Sharpen(by) => format!("sharpen by {}", f64::from(*by) / 1000.0),
            Step::Fade(f) => f.words(from),
            Step::Grade(g) => g.words(from.colour),
            Step::Flatten(Some([r, g, b])) => format!("over a ground of #{r:02x}{g:02x}{b:02x}"),
            Step::Flatten(None) => "without its alpha".into(),
            Step::Lay(what) => what.0.words(),
            Step::Crop(r) => format!("crop to {r}"),
            Step::Halve => "halve both sides".into(),
            Step::Scale { width, height, kernel } => format!("scale to {width}x{height}, {}", kernel.words()),
            Step::Turn(by) => format!("turn {by} degrees clockwise"),
            Step::Place(p) => p.words(),
            Step::Sample(every) => format!("one picture every {} s", seconds(*every)),
            Step::At(at) => format!("the picture at {:.3} s", seconds(*at)),
            Step::Moments(all) => format!("{} pictures", all.len()),
            Step::Burn(b) => b.burn.words(),
            Step::Captions(c) => c.0.words(),
            Step::As(wanted) => wanted.words(),
        }
    }
}

/// A filter that gives one picture for each.
struct Each<F>(F);

fn each<F>(mut work: F) -> Box<dyn VideoFilter>
where
    F: FnMut(&VideoFrame) -> Result<VideoFrame> + Send + 'static,
{
    Box::new(Each(move |f: &Arc<VideoFrame>| work(f).map(Arc::new)))
}

impl<F: FnMut(&Arc<VideoFrame>) -> Result<Arc<VideoFrame>> + Send> VideoFilter for Each<F> {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        out.push(Shown { frame: self.0(&shown.frame)?, ..shown });
        Ok(())
    }
}

/// Filters one behind the other.
pub struct Chain {
    filters: Vec<Box<dyn VideoFilter>>,
}

impl Chain {
    pub fn new(filters: Vec<Box<dyn VideoFilter>>) -> Chain {
        Chain { filters }
    }

    pub fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        run(&mut self.filters, shown, out)
    }

    pub fn finish(&mut self, out: &mut Vec<Shown>) -> Result<()> {
        for n in 0..self.filters.len() {
            let mut rest = Vec::new();
            self.filters[n].finish(&mut rest)?;
            for shown in rest {
                run(&mut self.filters[n + 1..], shown, out)?;
            }
        }
        Ok(())
    }
}

fn run(filters: &mut [Box<dyn VideoFilter>], shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
    let Some((first, rest)) = filters.split_first_mut() else {
        out.push(shown);
        return Ok(());
    };
    let mut ready = Vec::new();
    first.push(shown, &mut ready)?;
    ready.into_iter().try_for_each(|s| run(rest, s, out))
}
