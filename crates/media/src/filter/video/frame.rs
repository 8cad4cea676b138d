//! A part of a picture, and a picture set into a larger frame.

use super::scale::{Kernel, Scaler};
use crate::error::{Error, Result};
use crate::frame::{Chroma, Colour, Plane, Pool, Samples, VideoFrame};
use serde::{Deserialize, Serialize};

/// A part of a picture, in pixels.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rect {
    pub x: u32,
    pub y: u32,
    pub width: u32,
    pub height: u32,
}

impl Rect {
    pub fn is_inside(&self, width: u32, height: u32) -> bool {
        let within = |at: u32, len: u32, of: u32| len > 0 && at.checked_add(len).is_some_and(|e| e <= of);
        within(self.x, self.width, width) && within(self.y, self.height, height)
    }

    /// The middle part of the largest size with the shape of `shape`; sides and corner are even.
    pub fn of_shape(width: u32, height: u32, shape: (u32, u32)) -> Rect {
        let even = |v: f64, most: u32| ((v / 2.0).round() as u32 * 2).clamp(2.min(most), most.max(1));
        let by = (f64::from(width) / f64::from(shape.0)).min(f64::from(height) / f64::from(shape.1));
        let (w, h) = (even(f64::from(shape.0) * by, width), even(f64::from(shape.1) * by, height));
        Rect { x: middle(width, w), y: middle(height, h), width: w, height: h }
    }
}

/// Where a part begins that lies in the middle: even, so that shared chroma stays with its pixels.
fn middle(whole: u32, part: u32) -> u32 {
    ((whole - part) / 2) & !1
}

impl std::fmt::Display for Rect {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}x{} from {}, {}", self.width, self.height, self.x, self.y)
    }
}

/// How many pixels share one sample of plane `i`, across and down.
pub fn shared(chroma: Chroma, i: usize) -> (usize, usize) {
    match (chroma, i) {
        (Chroma::C420, 1 | 2) => (2, 2),
        (Chroma::C422, 1 | 2) => (2, 1),
        _ => (1, 1),
    }
}

/// Where chroma is shared, the corner moves up and left to the next shared sample.
pub fn crop(f: &VideoFrame, r: Rect, pool: &Pool) -> Result<VideoFrame> {
    // A stream that became smaller is cropped as far as there is picture.
    let x = r.x.min(f.width - 1);
    let y = r.y.min(f.height - 1);
    let (w, h) = (r.width.min(f.width - x), r.height.min(f.height - y));
    let mut out = VideoFrame::new(pool, w, h, f.chroma, f.depth)?;
    out.describe_like(f);
    for (i, (from, to)) in f.planes.iter().zip(&mut out.planes).enumerate() {
        let (sx, sy) = shared(f.chroma, i);
        copy(from, (x as usize / sx, y as usize / sy), to, (0, 0));
    }
    Ok(out)
}

/// Copies as much as fits of a plane from one corner to another.
fn copy(from: &Plane, (fx, fy): (usize, usize), to: &mut Plane, (tx, ty): (usize, usize)) {
    let w = (from.width as usize).saturating_sub(fx).min((to.width as usize).saturating_sub(tx));
    let h = (from.height as usize).saturating_sub(fy).min((to.height as usize).saturating_sub(ty));
    let (fs, ts) = (from.stride, to.stride);
    for y in 0..h {
        let (a, b) = ((fy + y) * fs + fx, (ty + y) * ts + tx);
        match (&from.samples, &mut to.samples) {
            (Samples::U8(s), Samples::U8(d)) => d[b..b + w].copy_from_slice(&s[a..a + w]),
            (Samples::U16(s), Samples::U16(d)) => d[b..b + w].copy_from_slice(&s[a..a + w]),
            _ => (),
        }
    }
}

/// What is beside a picture in its frame.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Fill {
    #[default]
    Black,
    /// Red, green and blue of 0 to 255.
    Colour([u8; 3]),
    /// The picture itself, filling the frame and blurred.
    Blur,
}

/// A picture in the middle of a frame.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Place {
    pub width: u32,
    pub height: u32,
    pub fill: Fill,
}

impl Place {
    pub fn words(&self) -> String {
        let beside = match self.fill {
            Fill::Black => "black".to_owned(),
            Fill::Colour([r, g, b]) => format!("#{r:02x}{g:02x}{b:02x}"),
            Fill::Blur => "its own blur".to_owned(),
        };
        format!("set into {}x{}, {beside} beside it", self.width, self.height)
    }
}

/// How much smaller the blurred copy is made before it is enlarged again.
const BLUR: u32 = 24;

pub struct Placer {
    place: Place,
    pool: Pool,
    small: Option<Scaler>,
    large: Option<Scaler>,
}

impl Placer {
    pub fn new(place: Place, pool: Pool) -> Placer {
        let (w, h) = (place.width, place.height);
        let blurs = place.fill == Fill::Blur;
        let scaler = |w: u32, h: u32| Scaler::with(w.max(1), h.max(1), Kernel::Bilinear, pool.clone());
        Placer {
            place,
            small: blurs.then(|| scaler(w / BLUR, h / BLUR)),
            large: blurs.then(|| scaler(w, h)),
            pool,
        }
    }

    pub fn place(&mut self, f: &VideoFrame) -> Result<VideoFrame> {
        let (w, h) = (self.place.width, self.place.height);
        if f.width > w || f.height > h {
            return Err(Error::setting(
                "frame",
                format!("a picture of {}x{} does not go into {w}x{h}", f.width, f.height),
            ));
        }
        let mut out = match (&mut self.small, &mut self.large) {
            (Some(small), Some(large)) => {
                let part = crop(f, Rect::of_shape(f.width, f.height, (w, h)), &self.pool)?;
                large.scale(&small.scale(&part)?)?
            }
            _ => {
                let mut out = VideoFrame::new(&self.pool, w, h, f.chroma, f.depth)?;
                let rgb = if let Fill::Colour(rgb) = self.place.fill { rgb } else { [0; 3] };
                let values = values_of(rgb, f.chroma, f.colour, f.depth);
                out.planes.iter_mut().zip(values).for_each(|(p, v)| p.fill(v));
                out
            }
        };
        out.describe_like(f);
        let (x, y) = (middle(w, f.width), middle(h, f.height));
        for (i, (from, to)) in f.planes.iter().zip(&mut out.planes).enumerate() {
            let (sx, sy) = shared(f.chroma, i);
            copy(from, (0, 0), to, (x as usize / sx, y as usize / sy));
        }
        Ok(out)
    }
}

/// Weights of red and blue in luma, by matrix code (H.273, table 4).
pub fn weights(matrix: u8) -> (f64, f64) {
    match matrix {
        5 | 6 => (0.299, 0.114),
        9 | 10 => (0.2627, 0.0593),
        4 => (0.30, 0.11),
        7 => (0.212, 0.087),
        _ => (0.2126, 0.0722),
    }
}

/// What a colour is in the samples of a picture; coverage is full.
pub fn values_of(rgb: [u8; 3], chroma: Chroma, colour: Colour, depth: u8) -> [u16; 4] {
    let most = f64::from((1u32 << depth) - 1);
    let [r, g, b] = rgb.map(|v| f64::from(v) / 255.0);
    let full = |v: f64| (v * most).round() as u16;
    let scale = f64::from(1u32 << (depth - 8));
    let (kr, kb) = weights(colour.matrix);
    let y = kr * r + (1.0 - kr - kb) * g + kb * b;
    let luma = |y: f64| if colour.full_range { full(y) } else { ((16.0 + 219.0 * y) * scale).round() as u16 };
    let difference = |d: f64| {
        let v = if colour.full_range {
            f64::from(1u32 << (depth - 1)) + d * most
        } else {
            (128.0 + 224.0 * d) * scale
        };
        v.round().clamp(0.0, most) as u16
    };
    match chroma {
        Chroma::Rgb | Chroma::Rgba => [full(r), full(g), full(b), full(1.0)],
        // Matrix 0: the planes are green, blue and red.
        Chroma::C444 if colour.matrix == 0 => [full(g), full(b), full(r), 0],
        _ => [luma(y), difference((b - y) / (2.0 * (1.0 - kb))), difference((r - y) / (2.0 * (1.0 - kr))), 0],
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const HD: Colour = Colour { primaries: 1, transfer: 1, matrix: 1, full_range: false };

    #[rstest]
    #[case(8, [255, 255, 255], [235, 128, 128])]
    #[case(8, [0, 0, 0], [16, 128, 128])]
    #[case(8, [255, 0, 0], [63, 102, 240])]
    #[case(10, [0, 0, 255], [127, 960, 471])]
    fn colours_have_the_standards_values(#[case] depth: u8, #[case] rgb: [u8; 3], #[case] want: [i32; 3]) {
        let got = values_of(rgb, Chroma::C420, HD, depth);
        let apart = got.iter().zip(want).map(|(g, w)| (i32::from(*g) - w).abs()).max();
        assert!(apart <= Some(1), "{got:?}");
    }

    #[rstest]
    #[case((1920, 1080), (1, 1), Rect { x: 420, y: 0, width: 1080, height: 1080 })]
    #[case((1920, 1080), (9, 16), Rect { x: 656, y: 0, width: 608, height: 1080 })]
    #[case((640, 480), (16, 9), Rect { x: 0, y: 60, width: 640, height: 360 })]
    fn the_middle_of_a_shape(#[case] size: (u32, u32), #[case] shape: (u32, u32), #[case] want: Rect) {
        assert_eq!(Rect::of_shape(size.0, size.1, shape), want);
    }

    #[rstest]
    fn a_placed_picture_is_untouched_and_what_is_beside_it_is_its_colour(
        #[values(8, 10)] depth: u8,
        #[values(Chroma::C420, Chroma::C422, Chroma::C444, Chroma::Rgb)] chroma: Chroma,
        #[values(Fill::Black, Fill::Colour([255, 255, 255]), Fill::Blur)] fill: Fill,
    ) {
        let pool = Pool::new();
        let mut f = VideoFrame::new(&pool, 40, 20, chroma, depth).unwrap();
        f.colour = HD;
        for p in &mut f.planes {
            (0..p.height as usize).for_each(|y| (0..p.width as usize).for_each(|x| p.put(x, y, 90)));
        }
        let out = Placer::new(Place { width: 48, height: 48, fill }, pool.clone()).place(&f).unwrap();
        let back = crop(&out, Rect { x: 4, y: 14, width: 40, height: 20 }, &pool).unwrap();
        assert!(f.planes == back.planes);
        let corner = out.planes[0].at(0, 0);
        let want = match fill {
            Fill::Black => values_of([0; 3], chroma, HD, depth)[0],
            Fill::Colour(rgb) => values_of(rgb, chroma, HD, depth)[0],
            Fill::Blur => 90,
        };
        assert_eq!(corner, want);
    }
}
