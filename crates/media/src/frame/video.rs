//! A decoded picture: planes of 8 to 16 bits, with all that is needed to show it right.

use super::pool::{Buffer, Pool};
use crate::error::{Error, Result};
use crate::limits::{MAX_PICTURE_AREA, MAX_PICTURE_SIDE};
use crate::units::Ratio;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How colour difference is sampled against luma, or that there is none.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub enum Chroma {
    /// Luma only.
    #[serde(rename = "4:0:0")]
    Gray,
    #[serde(rename = "4:2:0")]
    C420,
    #[serde(rename = "4:2:2")]
    C422,
    #[serde(rename = "4:4:4")]
    C444,
    /// Planes are red, green, blue.
    #[serde(rename = "rgb")]
    Rgb,
    /// Planes are red, green, blue and coverage (straight, not multiplied in).
    #[serde(rename = "rgba")]
    Rgba,
}

impl Chroma {
    pub fn planes(self) -> usize {
        match self {
            Chroma::Gray => 1,
            Chroma::C420 | Chroma::C422 | Chroma::C444 | Chroma::Rgb => 3,
            Chroma::Rgba => 4,
        }
    }

    /// Size of plane `index` in a picture of `width` x `height`.
    pub fn plane_size(self, index: usize, width: u32, height: u32) -> (u32, u32) {
        match (self, index) {
            (Chroma::C420, 1 | 2) => (width.div_ceil(2), height.div_ceil(2)),
            (Chroma::C422, 1 | 2) => (width.div_ceil(2), height),
            _ => (width, height),
        }
    }
}

/// Order of the two fields in a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Fields {
    #[default]
    Progressive,
    TopFirst,
    BottomFirst,
    /// Two fields, order not stated.
    Interlaced,
}

/// Colour description by the code points of ITU-T H.273 (2021), clause 8. 2 is "not stated".
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Colour {
    pub primaries: u8,
    pub transfer: u8,
    pub matrix: u8,
    pub full_range: bool,
}

impl Colour {
    /// Of the same light, as red, green and blue.
    pub fn of_rgb(self) -> Colour {
        Colour { matrix: 0, full_range: true, ..self }
    }
}

impl Default for Colour {
    fn default() -> Self {
        Colour { primaries: 2, transfer: 2, matrix: 2, full_range: false }
    }
}

/// Samples of one plane. 16-bit samples hold their value in the low `depth` bits.
#[derive(Debug)]
pub enum Samples {
    U8(Buffer<u8>),
    U16(Buffer<u16>),
}

/// One plane. `stride` counts samples from one row to the next.
#[derive(Debug)]
pub struct Plane {
    pub width: u32,
    pub height: u32,
    pub stride: usize,
    pub samples: Samples,
}

/// Of one size and with the same samples; what lies behind the ends of rows is none of it.
impl PartialEq for Plane {
    fn eq(&self, other: &Plane) -> bool {
        fn rows<T: PartialEq>((p, a): (&Plane, &[T]), (q, b): (&Plane, &[T])) -> bool {
            let w = p.width as usize;
            let row = |y: usize| a[y * p.stride..y * p.stride + w] == b[y * q.stride..y * q.stride + w];
            (0..p.height as usize).all(row)
        }
        (self.width, self.height) == (other.width, other.height)
            && match (&self.samples, &other.samples) {
                (Samples::U8(a), Samples::U8(b)) => rows((self, a), (other, b)),
                (Samples::U16(a), Samples::U16(b)) => rows((self, a), (other, b)),
                _ => false,
            }
    }
}

impl Plane {
    /// The 8-bit samples, or `None` for a deeper plane.
    pub fn bytes(&self) -> Option<&[u8]> {
        match &self.samples {
            Samples::U8(b) => Some(b),
            Samples::U16(_) => None,
        }
    }
    pub fn bytes_mut(&mut self) -> Option<&mut [u8]> {
        match &mut self.samples {
            Samples::U8(b) => Some(b),
            Samples::U16(_) => None,
        }
    }
    pub fn words(&self) -> Option<&[u16]> {
        match &self.samples {
            Samples::U16(w) => Some(w),
            Samples::U8(_) => None,
        }
    }
    /// One value everywhere.
    pub fn fill(&mut self, v: u16) {
        match &mut self.samples {
            Samples::U8(b) => b.fill(v as u8),
            Samples::U16(w) => w.fill(v),
        }
    }
    /// Copies rows of `stride` bytes in; samples over 8 bits are two bytes, low one first. What is missing
    /// at the end stays as it was.
    pub fn fill_rows(&mut self, rows: &[u8], stride: usize) {
        let (w, own) = (self.width as usize, self.stride);
        let each = if matches!(self.samples, Samples::U8(_)) { 1 } else { 2 };
        for y in 0..self.height as usize {
            let Some(row) = rows.get(y * stride..y * stride + w * each) else { return };
            match &mut self.samples {
                Samples::U8(b) => b[y * own..y * own + w].copy_from_slice(row),
                Samples::U16(d) => {
                    for (to, from) in d[y * own..y * own + w].iter_mut().zip(row.chunks_exact(2)) {
                        *to = u16::from_le_bytes([from[0], from[1]]);
                    }
                }
            }
        }
    }
    /// The same of samples that are words already.
    pub fn fill_words(&mut self, rows: &[u16], stride: usize) {
        let (w, own) = (self.width as usize, self.stride);
        let Samples::U16(to) = &mut self.samples else { return };
        for y in 0..self.height as usize {
            let Some(row) = rows.get(y * stride..y * stride + w) else { return };
            to[y * own..y * own + w].copy_from_slice(row);
        }
    }
    /// Sets the sample at (x, y), which must be inside.
    pub fn put(&mut self, x: usize, y: usize, v: u16) {
        let i = y * self.stride + x;
        match &mut self.samples {
            Samples::U8(b) => b[i] = v as u8,
            Samples::U16(w) => w[i] = v,
        }
    }
    /// The sample at (x, y) whatever the depth; 0 outside.
    pub fn at(&self, x: u32, y: u32) -> u16 {
        if x >= self.width || y >= self.height {
            return 0;
        }
        let i = y as usize * self.stride + x as usize;
        match &self.samples {
            Samples::U8(b) => u16::from(b[i]),
            Samples::U16(w) => w[i],
        }
    }
}

impl VideoFrame {
    /// Lays another picture of the same form onto this one, its corner here; what goes over the edge is left out.
    pub fn lay(&mut self, other: &VideoFrame, x: u32, y: u32) {
        for (i, (to, from)) in self.planes.iter_mut().zip(&other.planes).enumerate() {
            let (px, py) = self.chroma.plane_size(i, x, y);
            let (wide, tall) = (
                from.width.min(to.width.saturating_sub(px)) as usize,
                from.height.min(to.height.saturating_sub(py)),
            );
            for row in 0..tall as usize {
                let (a, b) = ((py as usize + row) * to.stride + px as usize, row * from.stride);
                match (&mut to.samples, &from.samples) {
                    (Samples::U8(to), Samples::U8(from)) => {
                        to[a..a + wide].copy_from_slice(&from[b..b + wide])
                    }
                    (Samples::U16(to), Samples::U16(from)) => {
                        to[a..a + wide].copy_from_slice(&from[b..b + wide])
                    }
                    _ => return,
                }
            }
        }
    }
}

/// A picture. Times are ticks of the track it came from.
#[derive(Debug)]
pub struct VideoFrame {
    pub width: u32,
    pub height: u32,
    pub chroma: Chroma,
    /// Bits a sample, 8 to 16.
    pub depth: u8,
    pub planes: Vec<Plane>,
    pub colour: Colour,
    pub fields: Fields,
    /// Width of a pixel over its height.
    pub pixel_shape: Ratio,
    pub pts: i64,
    pub duration: i64,
}

impl VideoFrame {
    /// A picture with unspecified content. Depth over 8 takes two bytes a sample.
    pub fn new(pool: &Pool, width: u32, height: u32, chroma: Chroma, depth: u8) -> Result<Self> {
        check_size("picture", width, height)?;
        if !(8..=16).contains(&depth) {
            return Err(Error::unsupported("picture", format!("{depth} bits a sample; 8 to 16 are handled")));
        }
        let planes = (0..chroma.planes())
            .map(|i| {
                let (w, h) = chroma.plane_size(i, width, height);
                let stride = (w as usize).next_multiple_of(16);
                let len = stride * h as usize;
                let samples =
                    if depth == 8 { Samples::U8(pool.take(len)) } else { Samples::U16(pool.take(len)) };
                Plane { width: w, height: h, stride, samples }
            })
            .collect();
        Ok(VideoFrame {
            width,
            height,
            chroma,
            depth,
            planes,
            colour: Colour::default(),
            fields: Fields::Progressive,
            pixel_shape: Ratio::ONE,
            pts: 0,
            duration: 0,
        })
    }

    /// The same picture in other buffers.
    pub fn copy(&self, pool: &Pool) -> Result<VideoFrame> {
        let mut out = VideoFrame::new(pool, self.width, self.height, self.chroma, self.depth)?;
        out.describe_like(self);
        for (to, from) in out.planes.iter_mut().zip(&self.planes) {
            let w = from.width as usize;
            for y in 0..from.height as usize {
                let (a, b) = (y * from.stride, y * to.stride);
                match (&mut to.samples, &from.samples) {
                    (Samples::U8(to), Samples::U8(from)) => to[b..b + w].copy_from_slice(&from[a..a + w]),
                    (Samples::U16(to), Samples::U16(from)) => to[b..b + w].copy_from_slice(&from[a..a + w]),
                    // Both have the depth of the picture.
                    _ => (),
                }
            }
        }
        Ok(out)
    }

    /// Takes over everything but samples and size.
    pub fn describe_like(&mut self, other: &VideoFrame) {
        self.colour = other.colour;
        self.fields = other.fields;
        self.pixel_shape = other.pixel_shape;
        self.pts = other.pts;
        self.duration = other.duration;
    }
}

/// Refuses sizes of 0 and sizes over the limits.
pub fn check_size(place: &str, width: u32, height: u32) -> Result<()> {
    if width == 0 || height == 0 {
        return Err(Error::damaged(place, format!("picture size {width}x{height}; both must be at least 1")));
    }
    let area = u64::from(width) * u64::from(height);
    if width > MAX_PICTURE_SIDE || height > MAX_PICTURE_SIDE || area > MAX_PICTURE_AREA {
        return Err(Error::limit(
            place,
            format!(
                "picture size {width}x{height}; sides up to {MAX_PICTURE_SIDE} and {MAX_PICTURE_AREA} pixels in all"
            ),
        ));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Chroma::C420, 5, 3, (3, 2))]
    #[case(Chroma::C422, 5, 3, (3, 3))]
    #[case(Chroma::C444, 5, 3, (5, 3))]
    fn odd_sizes_round_chroma_up(
        #[case] c: Chroma,
        #[case] w: u32,
        #[case] h: u32,
        #[case] want: (u32, u32),
    ) {
        assert_eq!(c.plane_size(1, w, h), want);
    }

    #[rstest]
    #[case(0, 10)]
    #[case(20_000, 10)]
    #[case(16_384, 16_384)]
    fn impossible_sizes_are_refused(#[case] w: u32, #[case] h: u32) {
        assert!(VideoFrame::new(&Pool::new(), w, h, Chroma::C420, 8).is_err());
    }

    #[test]
    fn deep_pictures_hold_words() {
        let f = VideoFrame::new(&Pool::new(), 4, 4, Chroma::C422, 10).unwrap();
        assert!(f.planes[0].bytes().is_none() && f.planes[0].words().is_some());
        assert_eq!(f.planes[0].at(9, 9), 0);
    }
}
