//! A picture laid over pictures: a logo with its coverage.

use super::burn::Side;
use super::frame::{shared, values_of};
use super::scale::{Kernel, Scaler};
use crate::error::{Error, Result};
use crate::frame::{Chroma, Pool, VideoFrame};
use crate::recipe::Needed;
use crate::still;
use serde::{Deserialize, Serialize};
use std::io::Cursor;
use std::sync::Arc;

/// What is laid over, and where.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Overlay {
    pub picture: Needed,
    pub across: Side,
    pub down: Side,
    /// Its height, in hundredths of the picture's.
    pub size: f32,
    /// 1 is solid.
    pub solid: f32,
}

impl Overlay {
    pub const SIZES: std::ops::RangeInclusive<f32> = 1.0..=100.0;
    /// Bytes of its file.
    pub const MOST_BYTES: u64 = 20_000_000;

    pub fn words(&self) -> String {
        format!("lay {} over it", self.picture.file)
    }

    /// The picture as red, green, blue and coverage.
    pub fn picture(&self) -> Result<Arc<VideoFrame>> {
        let f = still::frame_of(&mut Cursor::new(self.picture.bytes.clone()), &Pool::new())
            .map_err(|e| Error::setting("picture", format!("a picture; {}: {e}", self.picture.file)))?;
        if !matches!(f.chroma, Chroma::Rgb | Chroma::Rgba) {
            let why = format!("a picture of red, green and blue (PNG); {} is not", self.picture.file);
            return Err(Error::setting("picture", why));
        }
        Ok(Arc::new(f))
    }
}

/// Distance from the picture's edges, in hundredths of its height: the safe action area of EBU R 95 is 3.5.
const MARGIN: f32 = 3.5;

pub struct Layer {
    pub overlay: Overlay,
    pub picture: Arc<VideoFrame>,
    pub pool: Pool,
    /// In the size and form of the pictures that come: its corner, for each plane values and coverage.
    drawn: Option<Drawn>,
}

struct Drawn {
    form: (u32, u32, Chroma, u8, crate::frame::Colour),
    corner: (usize, usize),
    planes: Vec<DrawnPlane>,
}

/// Width, and for each sample its value and how much it covers, 0 to 1.
type DrawnPlane = (usize, Vec<(f32, f32)>);

impl Layer {
    pub fn new(overlay: Overlay, picture: Arc<VideoFrame>, pool: Pool) -> Layer {
        Layer { overlay, picture, pool, drawn: None }
    }

    fn draw(&self, f: &VideoFrame) -> Result<Drawn> {
        let p = &self.picture;
        let wanted = (f.height as f32 * self.overlay.size / 100.0).max(1.0);
        // Not wider than the picture.
        let by = (wanted / p.height as f32).min(f.width as f32 / p.width as f32);
        let side = |v: u32| ((v as f32 * by).round() as u32).max(1);
        let (w, h) = (side(p.width).min(f.width), side(p.height).min(f.height));
        let small = Scaler::with(w, h, Kernel::CatmullRom, Pool::new()).scale(p)?;
        let most = ((1u32 << small.depth) - 1) as f32;
        let margin = (f.height as f32 * MARGIN / 100.0) as u32;
        let at = |side: Side, whole: u32, part: u32| {
            let free = whole - part;
            let v = match side {
                Side::Start => margin.min(free),
                Side::Middle => free / 2,
                Side::End => free.saturating_sub(margin),
            };
            // Shared chroma stays with its pixels.
            v as usize & !1
        };
        let (x0, y0) = (at(self.overlay.across, f.width, w), at(self.overlay.down, f.height, h));
        let value = |plane: usize, x: u32, y: u32| f32::from(small.planes[plane].at(x, y)) / most;
        let planes = (0..f.chroma.planes()).map(|n| {
            let (sx, sy) = shared(f.chroma, n);
            let (pw, ph) = ((w as usize).div_ceil(sx), (h as usize).div_ceil(sy));
            let samples = (0..ph).flat_map(|y| (0..pw).map(move |x| (x, y))).map(|(x, y)| {
                let (mut sum, mut covered, mut count) = (0.0f32, 0.0f32, 0);
                for (dx, dy) in (0..sx).flat_map(|dx| (0..sy).map(move |dy| (dx, dy))) {
                    let (px, py) = (((x * sx + dx) as u32).min(w - 1), ((y * sy + dy) as u32).min(h - 1));
                    let a = if small.planes.len() > 3 { value(3, px, py) } else { 1.0 };
                    let rgb = [0, 1, 2].map(|c| (value(c, px, py) * 255.0).round() as u8);
                    let own = if f.chroma.planes() == 4 && n == 3 {
                        ((1u32 << f.depth) - 1) as u16
                    } else {
                        values_of(rgb, f.chroma, f.colour, f.depth)[n]
                    };
                    sum += f32::from(own) * a;
                    covered += a;
                    count += 1;
                }
                let mean = if covered > 0.0 { sum / covered } else { 0.0 };
                (mean, covered / count as f32 * self.overlay.solid)
            });
            (pw, samples.collect())
        });
        Ok(Drawn {
            form: (f.width, f.height, f.chroma, f.depth, f.colour),
            corner: (x0, y0),
            planes: planes.collect(),
        })
    }

    pub fn lay(&mut self, f: &VideoFrame) -> Result<VideoFrame> {
        let form = (f.width, f.height, f.chroma, f.depth, f.colour);
        if self.drawn.as_ref().is_none_or(|d| d.form != form) {
            self.drawn = Some(self.draw(f)?);
        }
        let mut out = f.copy(&self.pool)?;
        let Some(drawn) = &self.drawn else { return Ok(out) };
        for (n, (plane, (w, samples))) in out.planes.iter_mut().zip(&drawn.planes).enumerate() {
            let (sx, sy) = shared(f.chroma, n);
            let (x0, y0) = (drawn.corner.0 / sx, drawn.corner.1 / sy);
            for (i, (value, covered)) in samples.iter().enumerate().filter(|(_, s)| s.1 > 0.0) {
                let (x, y) = (x0 + i % w, y0 + i / w);
                if x < plane.width as usize && y < plane.height as usize {
                    let was = f32::from(plane.at(x as u32, y as u32));
                    plane.put(x, y, (was + (value - was) * covered).round() as u16);
                }
            }
        }
        Ok(out)
    }
}

/// A small picture of one colour, half of it covered: for tests.
#[cfg(test)]
pub fn sample(rgb: [u8; 3]) -> Overlay {
    let picture = image::RgbaImage::from_fn(20, 10, |x, _| {
        image::Rgba([rgb[0], rgb[1], rgb[2], if x < 10 { 255 } else { 0 }])
    });
    let mut out = Cursor::new(Vec::new());
    picture.write_to(&mut out, image::ImageFormat::Png).unwrap();
    Overlay {
        picture: Needed { file: "mark.png".into(), bytes: out.into_inner() },
        across: Side::End,
        down: Side::Start,
        size: 20.0,
        solid: 1.0,
    }
}

#[cfg(test)]
mod tests {
    use super::super::convert::HD;
    use super::*;
    use rstest::rstest;

    #[rstest]
    fn a_mark_stands_in_its_corner_in_its_colour(
        #[values(Chroma::C420, Chroma::C422, Chroma::C444, Chroma::Rgb, Chroma::Rgba)] chroma: Chroma,
        #[values(8, 10)] depth: u8,
    ) {
        let pool = Pool::new();
        let mut f = VideoFrame::new(&pool, 200, 100, chroma, depth).unwrap();
        f.colour = HD;
        let grey = values_of([90; 3], chroma, HD, depth);
        for (p, v) in f.planes.iter_mut().zip(grey) {
            (0..p.height as usize).for_each(|y| (0..p.width as usize).for_each(|x| p.put(x, y, v)));
        }
        let overlay = sample([255, 40, 10]);
        let picture = overlay.picture().unwrap();
        let out = Layer::new(overlay, picture, pool).lay(&f).unwrap();
        let want = values_of([255, 40, 10], chroma, HD, depth);
        // 40x20 in the upper right, 3 away from the edges: its left half covers.
        let at = |f: &VideoFrame, n: usize, x: u32, y: u32| {
            let (sx, sy) = shared(chroma, n);
            f.planes[n].at(x / sx as u32, y / sy as u32)
        };
        for n in 0..3 {
            let near = 2 << (depth - 8);
            assert!(at(&out, n, 164, 12).abs_diff(want[n]) <= near, "plane {n}");
            assert_eq!(at(&out, n, 190, 12), grey[n], "what does not cover");
            assert_eq!(at(&out, n, 20, 80), grey[n], "what is far from it");
        }
    }

    #[test]
    fn what_is_no_picture_is_told() {
        let e =
            Overlay { picture: Needed { file: "mark.png".into(), bytes: vec![1, 2, 3] }, ..sample([0; 3]) }
                .picture()
                .unwrap_err();
        assert!(e.to_string().contains("mark.png"), "{e}");
    }
}
