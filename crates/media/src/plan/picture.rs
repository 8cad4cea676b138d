//! The way of pictures to one output.

use super::{PicturesPlan, Planner, Span, StillPlan, VideoPlan, frames};
use crate::codec::coders::{self, Takes};
use crate::container::wrap::Wrapper;
use crate::error::{Error, Result};
use crate::filter::audio::fade::Fade;
use crate::filter::video::frame::{Place, Rect};
use crate::filter::video::grade::Table;
use crate::filter::video::pulldown;
use crate::filter::video::scale::{enlarged, fit};
use crate::filter::video::{
    Burn, Burning, Came, Deinterlacing, Fading, Form, Grading, Kernel, Pace, Step, Wanted,
};
use crate::frame::{Chroma, Colour, Fields};
use crate::recipe::{Deinterlace, Framing, PicturesKind, PicturesRecipe, StillRecipe, VideoRecipe};
use crate::track::TimecodeTrack;
use crate::units::Ratio;
use std::sync::Arc;

/// A rate for the encoder where the file gives none.
const UNKNOWN_RATE: Ratio = Ratio { num: 25, den: 1 };
/// From how many times the wanted size on a picture is halved first, and how many times on it is halved again: what was
/// halved is small enough already that another kernel would not be told from it, and outputs share it.
const HALVE_FROM: u32 = 3;
const HALVE_AGAIN_FROM: u32 = 2;

impl Planner<'_> {
    pub(super) fn video(
        &mut self,
        track: usize,
        recipe: &VideoRecipe,
        span: Option<Span>,
        wrapper: &'static Wrapper,
    ) -> Result<VideoPlan> {
        let coder = coders::video(recipe.codec)?;
        let source = self.form(None)?;
        let part = self.part(span)?;
        let part = self.flat(part, recipe.alpha.flat(coder.coverage))?;
        let mut at = self.deinterlaced(part, recipe.deinterlace)?;
        let before = self.form(at)?.rate;
        let slower = |r: &Ratio| before.is_none_or(|b| r.value() < b.value());
        let changed = recipe.frame_rate.filter(|r| before != Some(*r));
        // Fewer pictures are fewer to scale; more are the same ones several times.
        let rate = |r: Ratio| if recipe.blend { Step::Blend(r) } else { Step::Rate(r) };
        if let Some(r) = changed.filter(slower) {
            at = Some(self.node(at, rate(r))?);
        }
        // A time lapse leaves most of them out.
        let pace = recipe.pace.map(Pace).filter(|p| p.0 != 1000);
        let usual = self.form(at)?.rate.unwrap_or(UNKNOWN_RATE);
        if let Some(r) = pace.filter(|p| p.0 > 1000).and_then(|p| p.sparse(usual)) {
            at = Some(self.node(at, Step::Rate(r))?);
        }
        if recipe.denoise > 0 {
            at = Some(self.node(at, Step::Denoise(recipe.denoise))?);
        }
        if let Some(r) = recipe.crop {
            at = Some(self.node(at, Step::Crop(r))?);
        }
        at = self.framed(at, recipe, !wrapper.turns)?;
        at = self.graded(at, recipe)?;
        if recipe.sharpen > 0 {
            at = Some(self.node(at, Step::Sharpen(recipe.sharpen))?);
        }
        if let Some(r) = changed.filter(|r| !slower(r)) {
            at = Some(self.node(at, rate(r))?);
        }
        at = self.burnt(at, &recipe.burn, span)?;
        if let Some(captions) = &recipe.captions {
            match &captions.came {
                Some(Came::Read { .. }) => (),
                Some(Came::Broken(why)) => {
                    return Err(Error::damaged("the captions that came with it", why.clone()));
                }
                None => {
                    let why = "the preset burns captions in, and none came with the file";
                    return Err(Error::unsupported("", why));
                }
            }
            let from = span.map_or(0.0, |s| s.from);
            at = Some(self.node(at, Step::Captions(Box::new((captions.clone(), from))))?);
        }
        for overlay in &recipe.overlays {
            let picture = overlay.picture()?;
            at = Some(self.node(at, Step::Lay(Box::new((overlay.clone(), picture))))?);
        }
        let long = self.tracks[track].duration.seconds();
        let long = span.map_or(long, |s| s.to.unwrap_or(long).min(long) - s.from);
        if recipe.fade != Fade::default() {
            let scale = f64::from(self.form(at)?.timescale);
            let ticks = |seconds: f64| (seconds * scale).round() as i64;
            let ms = |ms: u32| ticks(f64::from(ms) / 1000.0);
            let fading = Fading { up: ms(recipe.fade.in_ms), down: ms(recipe.fade.out_ms), end: ticks(long) };
            at = Some(self.node(at, Step::Fade(fading))?);
        }
        if let Some(p) = pace {
            at = Some(self.node(at, Step::Pace(p))?);
            if p.0 < 1000 {
                at = Some(self.node(at, Step::Rate(usual))?);
            }
        }
        if let Some(wanted) = coder.wants(self.form(at)?.chroma) {
            let dither = recipe.dither && self.form(at)?.depth > wanted.depth;
            at = Some(self.node(at, Step::As(Wanted { dither, ..wanted }))?);
        }
        let mut form = self.form(at)?;
        // Coverage is coded beside the picture, by who parts them.
        if let (Takes::One(wanted), None) = (coder.takes, coder.wants(form.chroma)) {
            form.colour = wanted.colour_after(form.colour, form.chroma);
        }
        let (w, h) = (form.width, form.height);
        let odd = coder.even && (w % 2 != 0 || h % 2 != 0);
        if w < coder.least || h < coder.least || odd {
            return Err(Error::unsupported(
                "the picture track",
                format!(
                    "{}x{} would become {w}x{h}; {} is made from {least}x{least} on",
                    source.width,
                    source.height,
                    coder.name,
                    least = coder.least
                ),
            ));
        }
        let rate = form.rate.unwrap_or(UNKNOWN_RATE);
        let key_every =
            (f64::from(recipe.key_every_ms) / 1000.0 * rate.value()).round().clamp(1.0, 10_000.0) as u32;
        let here = frames(&self.tracks[track]).unwrap_or(0) as f64;
        let here = here * span.map_or(1.0, |s| s.share_of(self.tracks[track].duration.seconds()));
        let frames = match (source.rate, form.rate) {
            (Some(a), Some(b)) if a != b => here * b.value() / a.value(),
            _ => here,
        } / pace.map_or(1.0, |p| f64::from(p.0) / 1000.0);
        let frames = frames.round() as u64;
        let from = span.map_or(0.0, |s| s.from);
        let shows = pace.is_none().then_some((from, from + long));
        let rate = recipe.rate;
        Ok(VideoPlan { node: at, form, coder, rate, key_every, frames, shows, ahead: None })
    }

    /// The plan of a still, and what it needs of the source.
    pub(super) fn still(&mut self, track: usize, recipe: &StillRecipe) -> Result<(StillPlan, Option<Span>)> {
        recipe.format.missing()?;
        // A picture now and then to choose from, or the one of a moment.
        let scale = self.tracks[track].timescale;
        let at = recipe.at.as_ref().map(|m| self.moment("at", m)).transpose()?;
        let (pick, span) = match at {
            Some(seconds) => {
                let span = Span { from: seconds, to: Some(seconds) };
                (Step::At(span.ticks(scale).0), Some(span))
            }
            None => (Step::Sample(i64::from(scale)), None),
        };
        // Fields are made whole before: that needs their neighbours.
        let at = self.deinterlaced(None, Deinterlace::Auto)?;
        let at = Some(self.node(at, pick)?);
        let at = self.flat(at, recipe.alpha.flat(recipe.format.holds_alpha()))?;
        let wanted = VideoRecipe { fit: recipe.fit, ..VideoRecipe::default() };
        let node = self.framed(at, &wanted, true)?;
        Ok((StillPlan { node, form: self.form(node)?, format: recipe.format }, span))
    }

    /// Several pictures, at moments that are spread over the source.
    pub(super) fn pictures(
        &mut self,
        track: usize,
        span: Option<Span>,
        recipe: &PicturesRecipe,
    ) -> Result<PicturesPlan> {
        recipe.format.missing()?;
        let length = self.tracks[track].duration.seconds();
        let from = span.map_or(0.0, |s| s.from);
        let seconds = (span.and_then(|s| s.to).unwrap_or(length).min(length) - from).max(0.0);
        let scale = f64::from(self.tracks[track].timescale);
        let start = self.tracks[track].start.seconds().max(0.0);
        let ticks = |s: f64| ((s + start) * scale).round() as i64;
        let part = self.part(span)?;
        let spread = |count: u32, pieces: &dyn Fn(f64) -> Vec<f64>| -> Vec<i64> {
            let middle = |n: u32| seconds * (f64::from(n) + 0.5) / f64::from(count);
            (0..count).flat_map(|n| pieces(middle(n))).map(ticks).collect()
        };
        let pick = match &recipe.kind {
            PicturesKind::Sheet { columns, rows, .. } => {
                Some(Step::Moments(spread(columns * rows, &|m| vec![m])))
            }
            PicturesKind::Run { every_ms: None } => None,
            PicturesKind::Run { every_ms: Some(ms) } | PicturesKind::Strip { every_ms: ms, .. } => {
                Some(Step::Sample(ticks(*ms as f64 / 1000.0) - ticks(0.0)))
            }
            PicturesKind::Preview { pieces, piece_ms, rate, .. } => {
                let each = (*piece_ms as f64 / 1000.0).min(seconds / f64::from(*pieces));
                let frames = ((each * f64::from(*rate)).round() as u32).max(1);
                let piece = |middle: f64| {
                    let from = (middle - each / 2.0).max(0.0);
                    (0..frames).map(|k| from + f64::from(k) / f64::from(*rate)).collect()
                };
                Some(Step::Moments(spread(*pieces, &piece)))
            }
        };
        let count = match (&pick, &recipe.kind) {
            (Some(Step::Moments(all)), _) => Some(all.len() as u64),
            (_, PicturesKind::Run { every_ms: Some(ms) } | PicturesKind::Strip { every_ms: ms, .. }) => {
                Some((seconds * 1000.0 / *ms as f64).ceil() as u64)
            }
            _ => frames(&self.tracks[track]),
        };
        let mut at = self.deinterlaced(part, Deinterlace::Auto)?;
        if let Some(pick) = pick {
            at = Some(self.node(at, pick)?);
        }
        // Sheets and moving pictures have a ground of their own.
        let holds = matches!(recipe.kind, PicturesKind::Run { .. }) && recipe.format.holds_alpha();
        at = self.flat(at, recipe.alpha.flat(holds))?;
        let wanted = VideoRecipe { fit: recipe.fit, ..VideoRecipe::default() };
        at = self.framed(at, &wanted, true)?;
        let node = self.burnt(at, &recipe.burn, span)?;
        let (form, kind) = (self.form(node)?, recipe.kind.clone());
        Ok(PicturesPlan { node, form, kind, format: recipe.format, count, seconds })
    }

    /// Words in the picture; a timecode is that of the source.
    fn burnt(&mut self, at: Option<usize>, burns: &[Burn], span: Option<Span>) -> Result<Option<usize>> {
        let mut at = at;
        for burn in burns {
            let rate = self.form(None)?.rate.unwrap_or(UNKNOWN_RATE);
            let code = self.timecode(span).unwrap_or_else(|| {
                let mut code = TimecodeTrack::counting(rate);
                code.start = span.map_or(0, |s| (s.from * rate.value()).round() as u32);
                code
            });
            let burning = Burning { burn: burn.clone(), code };
            at = Some(self.node(at, Step::Burn(Box::new(burning)))?);
        }
        Ok(at)
    }

    /// The pictures of a part of the source.
    fn part(&mut self, span: Option<Span>) -> Result<Option<usize>> {
        let Some(span) = span else { return Ok(None) };
        let (from, to) = span.ticks(self.form(None)?.timescale);
        self.node(None, Step::Part { from, to }).map(Some)
    }

    /// Other colours.
    fn graded(&mut self, at: Option<usize>, recipe: &VideoRecipe) -> Result<Option<usize>> {
        let colour = self.form(at)?.colour;
        let hd = Colour { primaries: 1, transfer: 1, matrix: 1, full_range: colour.full_range };
        let form = self.form(at)?;
        // What is not stated of a large picture is taken for high definition.
        let unstated = colour.matrix == 2 && colour.transfer == 2 && form.height >= 720;
        let to_hd = recipe.to_hd && colour != hd && !unstated;
        let look = recipe.look.as_ref().map(|n| -> Result<_> {
            let text = String::from_utf8_lossy(&n.bytes);
            let table = Table::parse(&text).map_err(|e| match e {
                Error::Setting(fault) => {
                    Error::setting("look", format!("a table of colours; {}: {fault}", n.file))
                }
                e => e,
            })?;
            Ok((n.file.clone(), Arc::new(table)))
        });
        let look = look.transpose()?;
        if !to_hd && look.is_none() {
            return Ok(at);
        }
        self.node(at, Step::Grade(Grading { to_hd, look })).map(Some)
    }

    /// What can be seen through over a ground, where that is asked for.
    fn flat(&mut self, at: Option<usize>, over: Option<Option<[u8; 3]>>) -> Result<Option<usize>> {
        match over {
            Some(ground) if self.form(at)?.chroma == Chroma::Rgba => {
                self.node(at, Step::Flatten(ground)).map(Some)
            }
            _ => Ok(at),
        }
    }

    fn deinterlaced(&mut self, at: Option<usize>, how: Deinterlace) -> Result<Option<usize>> {
        let how = match how {
            Deinterlace::Never => None,
            Deinterlace::Always(how) => Some(how),
            Deinterlace::Film => {
                let rate = self.form(at)?.rate;
                if !pulldown::may_hold_film(rate) {
                    let rate = rate.map_or("an unknown rate".into(), |r| format!("{r} frames a second"));
                    let why =
                        format!("2:3 pulldown is taken out of 30000/1001 frames a second, not of {rate}");
                    return Err(Error::unsupported("", why));
                }
                return self.node(at, Step::Unpull).map(Some);
            }
            Deinterlace::Auto if self.form(at)?.fields == Fields::Progressive => None,
            Deinterlace::Auto => Some(Deinterlacing::default()),
        };
        match how {
            Some(how) => self.node(at, Step::Deinterlace(how)).map(Some),
            None => Ok(at),
        }
    }

    /// Brought to the size and shape that is asked for.
    fn framed(&mut self, at: Option<usize>, recipe: &VideoRecipe, turned: bool) -> Result<Option<usize>> {
        let (mut at, form) = (at, self.form(at)?);
        if recipe.keep_pixels && recipe.framing == Framing::Within && recipe.fit == (0, 0) {
            let turn = form.rotation != 0 && turned;
            return if turn { self.node(at, Step::Turn(form.rotation)).map(Some) } else { Ok(at) };
        }
        let exact = recipe.framing != Framing::Within;
        if exact && (recipe.fit.0 == 0 || recipe.fit.1 == 0) {
            return Err(Error::setting(
                "fit",
                "a size with both sides, because the frame is to have it exactly",
            ));
        }
        // The limit is for the picture as shown; the coded picture may lie on its side.
        let lies = form.rotation % 180 == 90;
        let frame = if lies { (recipe.fit.1, recipe.fit.0) } else { recipe.fit };
        let size = match recipe.framing {
            Framing::Within => fit(form.width, form.height, form.pixel_shape, frame),
            Framing::Pad(_) => enlarged(form.width, form.height, form.pixel_shape, frame),
            Framing::Stretch => frame,
            Framing::Crop => {
                // The shape of the frame in the source's own pixels.
                let p = form.pixel_shape;
                let shape = (frame.0 * p.den.min(1 << 12), frame.1 * p.num.min(1 << 12));
                let part = Rect::of_shape(form.width, form.height, shape);
                if (part.width, part.height) != (form.width, form.height) {
                    at = Some(self.node(at, Step::Crop(part))?);
                }
                frame
            }
        };
        let same = |f: &Form| (f.width, f.height) == size && f.pixel_shape == Ratio::ONE;
        let mut from = HALVE_FROM;
        while recipe.kernel != Kernel::Lanczos && self.is_larger(at, size, from)? {
            at = Some(self.node(at, Step::Halve)?);
            from = HALVE_AGAIN_FROM;
        }
        if !same(&self.form(at)?) {
            let step = Step::Scale { width: size.0, height: size.1, kernel: recipe.kernel };
            at = Some(self.node(at, step)?);
        }
        let frame_differs = matches!(recipe.framing, Framing::Pad(_)) && size != frame;
        if form.rotation != 0 && (turned || frame_differs) {
            at = Some(self.node(at, Step::Turn(form.rotation))?);
        }
        if let Framing::Pad(fill) = recipe.framing
            && frame_differs
        {
            let (width, height) = recipe.fit;
            at = Some(self.node(at, Step::Place(Place { width, height, fill }))?);
        }
        Ok(at)
    }

    /// Whether it is at least so many times as large, and can be halved.
    fn is_larger(&self, at: Option<usize>, size: (u32, u32), times: u32) -> Result<bool> {
        let form = self.form(at)?;
        let even = |v: u32| v.is_multiple_of(4);
        let larger = |is: u32, wanted: u32| is / times >= wanted && even(is);
        let plain = !matches!(form.chroma, Chroma::Rgba);
        Ok(plain && larger(form.width, size.0) && larger(form.height, size.1))
    }
}
