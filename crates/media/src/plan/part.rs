//! Parts of a source: moments as they are asked for, as seconds of it.

use super::Planner;
use crate::container::TimecodeTrack;
use crate::error::{Error, Result};
use crate::recipe::{Moment, Part};
use crate::timecode;

/// Seconds of the source, from its beginning: from the one to (not with) the other.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Span {
    pub from: f64,
    pub to: Option<f64>,
}

impl Span {
    /// As ticks of a scale.
    pub fn ticks(self, scale: u32) -> (i64, Option<i64>) {
        let at = |s: f64| (s * f64::from(scale)).round() as i64;
        (at(self.from), self.to.map(at))
    }

    /// The part of a whole of `length` seconds that it is.
    pub fn share_of(self, length: f64) -> f64 {
        if length <= 0.0 {
            return 1.0;
        }
        ((self.to.unwrap_or(length).min(length) - self.from) / length).clamp(0.0, 1.0)
    }
}

impl Planner<'_> {
    pub(super) fn span(&self, part: Option<&Part>) -> Result<Option<Span>> {
        let Some(part) = part else { return Ok(None) };
        let from = part.from.as_ref().map(|m| self.moment("from", m)).transpose()?.unwrap_or(0.0);
        let to = part.to.as_ref().map(|m| self.moment("to", m)).transpose()?;
        // Pictures begin on their own grid, and the sound with them.
        let (from, to) = (self.on_grid(from), to.map(|to| self.on_grid(to)));
        let length = self.tracks.iter().map(|t| t.duration.seconds()).fold(0.0, f64::max);
        if to.is_some_and(|to| to <= from) {
            return Err(Error::setting("to", format!("a moment behind 'from', which is {from:.3} s in")));
        }
        if length > 0.0 && from >= length {
            let why = format!("the part begins {from:.3} s in, and the file is {length:.3} s long");
            return Err(Error::unsupported("", why));
        }
        Ok(Some(Span { from, to }))
    }

    /// The nearest moment that a picture can begin at.
    fn on_grid(&self, seconds: f64) -> f64 {
        let grid = self.tracks.iter().find_map(|t| {
            let v = t.video()?;
            let rate = v.rate.filter(|_| v.constant_rate).map(|r| (t.start.seconds(), r.value()));
            Some(rate.unwrap_or((0.0, f64::from(t.timescale))))
        });
        grid.map_or(seconds, |(start, rate)| start + ((seconds - start) * rate).round() / rate).max(0.0)
    }

    /// Seconds from the beginning.
    pub(super) fn moment(&self, what: &str, moment: &Moment) -> Result<f64> {
        let text = match moment {
            Moment::Ms(ms) => return Ok(*ms as f64 / 1000.0),
            Moment::Timecode(text) => text,
        };
        let track = self.tracks.iter().find_map(|t| t.timecode());
        let rate = self.tracks.iter().find_map(|t| t.video()?.rate);
        let Some(rate) = track.map(|t| t.rate).or(rate) else {
            return Err(Error::unsupported(
                "",
                format!("'{what}' is a timecode, and the file states no frame rate"),
            ));
        };
        let count = track.map_or_else(|| rate.value().round() as u32, |t| t.frames_per_count);
        let drop = track.is_some_and(|t| t.drop_frame);
        let number = timecode::frame(text, count.max(1), drop).ok_or_else(|| {
            Error::setting(
                what,
                format!("a timecode with fewer than {count} frames a second, not \"{text}\""),
            )
        })?;
        let start = track.map_or(0, |t| t.start);
        let Some(frames) = number.checked_sub(start) else {
            let begins = timecode::label(start, count.max(1), drop);
            return Err(Error::unsupported(
                "",
                format!("'{what}' is {text}, and the file begins at {begins}"),
            ));
        };
        Ok(f64::from(frames) / rate.value())
    }

    /// The source's timecode, as it counts from where a part begins.
    pub(super) fn timecode(&self, span: Option<Span>) -> Option<TimecodeTrack> {
        let mut track = self.tracks.iter().find_map(|t| t.timecode().cloned())?;
        let frames = span.map_or(0.0, |s| (s.from * track.rate.value()).round());
        track.start = track.start.saturating_add(frames as u32);
        Some(track)
    }
}
