//! Words burnt into the picture: a running timecode, a name, whatever is written. They are blended into the picture in its
//! own form; the box behind them is a darkening of what is there.

use super::{Form, Shown, VideoFilter};
use crate::error::Result;
use crate::frame::{Chroma, Plane, Pool, Samples, VideoFrame};
use crate::text::{Mask, letters};
use crate::timecode;
use crate::track::TimecodeTrack;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// The field of a text that becomes the timecode of each picture.
pub const TIMECODE: &str = "{timecode}";

/// One piece of writing.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Burn {
    pub text: String,
    pub across: Side,
    pub down: Side,
    /// Height of a line, in hundredths of the picture's height.
    pub size: f32,
    /// Red, green, blue.
    pub colour: [u8; 3],
    /// How much darker the box behind it is, 0 (none) to 1 (black).
    pub shade: f32,
}

/// What is burnt in, and how the timecode counts: from where the pictures begin.
#[derive(Clone, Debug, PartialEq)]
pub struct Burning {
    pub burn: Burn,
    pub code: TimecodeTrack,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Side {
    Start,
    Middle,
    End,
}

impl Burn {
    pub const SIZES: std::ops::RangeInclusive<f32> = 1.0..=50.0;

    /// White in a half dark box, at the bottom in the middle.
    pub fn plain(text: &str) -> Burn {
        Burn {
            text: text.to_owned(),
            across: Side::Middle,
            down: Side::End,
            size: 5.0,
            colour: [255; 3],
            shade: 0.5,
        }
    }

    pub fn words(&self) -> String {
        format!("burn in \"{}\"", self.text.replace('\n', " / "))
    }
}

/// Distance from the picture's edges, in hundredths of its height: the safe title area of EBU R 95 is 5.
const MARGIN: f32 = 5.0;

/// Least height of a line, in points.
const LEAST: f32 = 6.0;

pub struct Burner {
    burn: Burn,
    code: TimecodeTrack,
    timescale: u32,
    pool: Pool,
    /// So much farther from the edge, in hundredths of the picture's height.
    pub inwards: f32,
    /// What was drawn last.
    drawn: Option<(String, u32, Mask)>,
}

impl Burner {
    /// `code` tells what frame the first picture is.
    pub fn new(burn: Burn, code: TimecodeTrack, form: &Form, pool: Pool) -> Burner {
        Burner { burn, code, timescale: form.timescale, pool, inwards: 0.0, drawn: None }
    }

    fn text(&self, pts: i64) -> String {
        if !self.burn.text.contains(TIMECODE) {
            return self.burn.text.clone();
        }
        // A little later than its start: times are rounded.
        let seconds = pts as f64 / f64::from(self.timescale.max(1));
        let frames = (seconds * self.code.rate.value() + 0.01).floor().max(0.0) as u32;
        let number = self.code.start.saturating_add(frames);
        let label = timecode::label(number, self.code.frames_per_count, self.code.drop_frame);
        self.burn.text.replace(TIMECODE, &label)
    }

    fn burn(&mut self, f: &VideoFrame, pts: i64) -> Result<VideoFrame> {
        let mut out = f.copy(&self.pool)?;
        let text = self.text(pts);
        let known = self.drawn.as_ref().is_some_and(|(t, h, _)| *t == text && *h == f.height);
        if !known {
            let height = (f.height as f32 * self.burn.size / 100.0).max(LEAST);
            let mut mask = letters(&text, height);
            // What is too wide is set smaller, as far as it can be read.
            let room = f.width as f32 - 2.0 * f.height as f32 * (MARGIN + self.burn.size / 4.0) / 100.0;
            if mask.width as f32 > room {
                mask = letters(&text, (height * room / mask.width as f32).max(LEAST));
            }
            self.drawn = Some((text.clone(), f.height, mask));
        }
        let Some((_, _, mask)) = self.drawn.as_ref().filter(|d| !d.0.is_empty()) else { return Ok(out) };
        let pad = (f.height as f32 * self.burn.size / 400.0).ceil() as i64;
        let (w, h) = (mask.width as i64 + 2 * pad, mask.height as i64 + 2 * pad);
        let margin = (f.height as f32 * MARGIN / 100.0) as i64;
        let at = |side: Side, whole: i64, part: i64| match side {
            Side::Start => margin,
            Side::Middle => (whole - part) / 2,
            Side::End => whole - part - margin,
        };
        let left = at(self.burn.across, f.width.into(), w).max(0);
        let inwards = (f.height as f32 * self.inwards / 100.0) as i64;
        let top = at(self.burn.down, f.height.into(), h);
        let top = if self.burn.down == Side::Start { top + inwards } else { top - inwards }.max(0);
        let values = levels(f, self.burn.colour);
        for (n, plane) in out.planes.iter_mut().enumerate() {
            let Some((ink, black)) = values.get(n).copied() else { continue };
            // Coverage, which is written to as well: words are solid.
            let solid = f.chroma == Chroma::Rgba && n == 3;
            let (sx, sy) = (f.width.div_ceil(plane.width.max(1)), f.height.div_ceil(plane.height.max(1)));
            let (sx, sy) = (i64::from(sx.max(1)), i64::from(sy.max(1)));
            for y in top / sy..((top + h).min(f.height.into()) / sy).min(plane.height.into()) {
                for x in left / sx..((left + w).min(f.width.into()) / sx).min(plane.width.into()) {
                    // The mean of the points that the sample stands for.
                    let mut sum = 0u32;
                    for (dx, dy) in (0..sx).flat_map(|dx| (0..sy).map(move |dy| (dx, dy))) {
                        let (mx, my) = (x * sx + dx - left - pad, y * sy + dy - top - pad);
                        let inside =
                            (0..mask.width as i64).contains(&mx) && (0..mask.height as i64).contains(&my);
                        sum += if inside {
                            mask.covered[my as usize * mask.width + mx as usize].into()
                        } else {
                            0
                        };
                    }
                    let covered = sum as f32 / (sx * sy) as f32 / 255.0;
                    let shade = if solid { covered.max(self.burn.shade) } else { self.burn.shade };
                    change(plane, x as usize, y as usize, |was| {
                        let dark = was + (black - was) * shade;
                        dark + (ink - dark) * if solid { 0.0 } else { covered }
                    });
                }
            }
        }
        Ok(out)
    }
}

/// For each plane: the value of a colour in it, and that of black. The planes of a picture are luma and two colour
/// differences, or red, green and blue (and coverage).
fn levels(f: &VideoFrame, [r, g, b]: [u8; 3]) -> Vec<(f32, f32)> {
    let most = ((1u32 << f.depth) - 1) as f32;
    let part = |v: u8| f32::from(v) / 255.0;
    let (r, g, b) = (part(r), part(g), part(b));
    match f.chroma {
        Chroma::Rgb | Chroma::Rgba => {
            vec![(r * most, 0.0), (g * most, 0.0), (b * most, 0.0), (most, most)]
        }
        Chroma::Gray | Chroma::C420 | Chroma::C422 | Chroma::C444 => {
            // ITU-R BT.709-6, item 3.2; the difference to the others' weights is not seen in writing.
            let y = 0.2126 * r + 0.7152 * g + 0.0722 * b;
            let (cb, cr) = ((b - y) / 1.8556, (r - y) / 1.5748);
            let one = (1u32 << (f.depth - 8)) as f32;
            let (floor, range, chroma) =
                if f.colour.full_range { (0.0, most, most) } else { (16.0 * one, 219.0 * one, 224.0 * one) };
            let middle = 128.0 * one;
            vec![(floor + y * range, floor), (middle + cb * chroma, middle), (middle + cr * chroma, middle)]
        }
    }
}

fn change(plane: &mut Plane, x: usize, y: usize, to: impl Fn(f32) -> f32) {
    let at = y * plane.stride + x;
    match &mut plane.samples {
        Samples::U8(b) => b[at] = to(f32::from(b[at])).round() as u8,
        Samples::U16(w) => w[at] = to(f32::from(w[at])).round() as u16,
    }
}

impl VideoFilter for Burner {
    fn push(&mut self, shown: Shown, out: &mut Vec<Shown>) -> Result<()> {
        let frame = Arc::new(self.burn(&shown.frame, shown.pts)?);
        out.push(Shown { frame, ..shown });
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::units::Ratio;
    use rstest::rstest;

    fn burner(text: &str, across: Side, down: Side, form: &Form) -> Burner {
        let burn = Burn { text: text.into(), across, down, size: 10.0, colour: [255; 3], shade: 0.5 };
        let rate = Ratio { num: 25, den: 1 };
        let code =
            TimecodeTrack { rate, frames_per_count: 25, drop_frame: false, start: 900_000, reel: None };
        Burner::new(burn, code, form, Pool::new())
    }

    fn grey(form: &Form) -> VideoFrame {
        let mut f = VideoFrame::new(&Pool::new(), form.width, form.height, form.chroma, form.depth).unwrap();
        let middle = 1u16 << (form.depth - 1);
        for p in &mut f.planes {
            (0..p.height as usize).for_each(|y| (0..p.width as usize).for_each(|x| p.put(x, y, middle)));
        }
        f
    }

    /// In every form: white letters in a darker box where they are asked for, and nothing changed elsewhere.
    #[rstest]
    fn letters_stand_in_their_corner(
        #[values(Chroma::Gray, Chroma::C420, Chroma::C422, Chroma::C444, Chroma::Rgb, Chroma::Rgba)]
        chroma: Chroma,
        #[values(8, 10, 16)] depth: u8,
        #[values((Side::Start, Side::End), (Side::Middle, Side::Start), (Side::End, Side::Middle))] at: (
            Side,
            Side,
        ),
    ) {
        let form = super::super::contract::form(321, 181, chroma, depth);
        let from = grey(&form);
        let out = burner("TIDE", at.0, at.1, &form).burn(&from, 0).unwrap();
        let middle = 1u16 << (depth - 1);
        let (mut low, mut high, mut box_of) = (middle, middle, (u32::MAX, 0, u32::MAX, 0));
        for (y, x) in (0..181).flat_map(|y| (0..321).map(move |x| (y, x))) {
            let v = out.planes[0].at(x, y);
            if v != middle {
                box_of = (box_of.0.min(x), box_of.1.max(x), box_of.2.min(y), box_of.3.max(y));
                (low, high) = (low.min(v), high.max(v));
            }
        }
        let unit = 1u16 << (depth - 8);
        assert!(low < 100 * unit && high > 220 * unit, "{low} to {high}");
        let middle_of = |a: u32, b: u32, whole: u32| f64::from(a + b) / 2.0 / f64::from(whole);
        for (side, found) in
            [(at.0, middle_of(box_of.0, box_of.1, 321)), (at.1, middle_of(box_of.2, box_of.3, 181))]
        {
            let good = match side {
                Side::Start => found < 0.4,
                Side::Middle => (found - 0.5).abs() < 0.02,
                Side::End => found > 0.6,
            };
            assert!(good, "{side:?}: its middle is at {found}");
        }
    }

    #[test]
    fn what_is_too_wide_is_set_smaller() {
        let form = super::super::contract::form(320, 180, Chroma::Gray, 8);
        let text = "a long line that would not fit in eighteen points";
        let out = burner(text, Side::Middle, Side::End, &form).burn(&grey(&form), 0).unwrap();
        let changed = |x: u32| (0..180).any(|y| out.planes[0].at(x, y) != 128);
        assert!(!changed(3) && !changed(316), "the edges are free");
        assert!(changed(40) && changed(280), "it is as wide as there is room");
    }

    #[test]
    fn the_timecode_runs() {
        let form = super::super::contract::form(64, 64, Chroma::C420, 8);
        let b = burner("A {timecode}", Side::Start, Side::Start, &form);
        let tick = i64::from(form.timescale);
        assert_eq!(b.text(0), "A 10:00:00:00");
        assert_eq!(b.text(tick * 61), "A 10:01:01:00");
        assert_eq!(b.text(tick / 25 * 26), "A 10:00:01:01");
    }
}
