//! A sequential JPEG in an eighth, a quarter or half of its size: of each block of 64 only the low frequencies are brought back, as
//! 1, 2 by 2 or 4 by 4 points (the cosine transform of that length over the same coefficients, ITU-T T.81, A.3.3). A large
//! picture that is wanted small costs little more than reading its codes.

use super::super::Limit;
use super::scan::{self, Block, Component, Takes};
use crate::error::Result;
use crate::filter::video::fit;
use crate::units::Ratio;
use image::metadata::Orientation;
use image::{DynamicImage, GrayImage, RgbImage};

/// Points that an edge of a block becomes, if the picture is wanted within sizes only: at least twice as many as are needed are left
/// for the scaler. `None`: all of them.
pub fn points((w, h): (u32, u32), orientation: Orientation, wanted: &[Limit]) -> Option<usize> {
    use Orientation::{Rotate90, Rotate90FlipH, Rotate270, Rotate270FlipH};
    let lies = matches!(orientation, Rotate90 | Rotate270 | Rotate90FlipH | Rotate270FlipH);
    // The sizes that come out must not change with the size that went in.
    let is_enough = |(sw, sh): (u32, u32), limit: &Limit| {
        let limit = if lies { (limit.1, limit.0) } else { *limit };
        let is_smaller = (limit.0 > 0 && w > limit.0) || (limit.1 > 0 && h > limit.1);
        let to = fit(w, h, Ratio::ONE, limit);
        is_smaller && sw >= to.0 * 2 && sh >= to.1 * 2 && fit(sw, sh, Ratio::ONE, limit) == to
    };
    let fits = |n: &usize| {
        let small = (side(w, *n as u32), side(h, *n as u32));
        wanted.iter().all(|limit| is_enough(small, limit))
    };
    [1, 2, 4].into_iter().find(fits).filter(|_| !wanted.is_empty())
}

fn side(of: u32, points: u32) -> u32 {
    (of * points).div_ceil(8)
}

/// The picture of a known size with so many points for an edge of a block; `None` where it is of a form that is not read so.
pub fn decode(bytes: &[u8], size: (u32, u32), points: usize) -> Result<Option<DynamicImage>> {
    match points {
        1 => small::<1>(bytes, size),
        2 => small::<2>(bytes, size),
        _ => small::<4>(bytes, size),
    }
}

fn small<const N: usize>(bytes: &[u8], size: (u32, u32)) -> Result<Option<DynamicImage>> {
    let waves = waves::<N>();
    let mut picture = Small { size, steps: [[0.0; 64]; 4], planes: Vec::new(), waves, is_plain: true };
    scan::walk(bytes, &mut picture)?;
    Ok(picture.image())
}

struct Small<const N: usize> {
    size: (u32, u32),
    steps: [[f32; 64]; 4],
    planes: Vec<Plane>,
    waves: [[f32; N]; N],
    /// Of 8 bits, in gray or in the colours of JFIF (ITU-T T.871).
    is_plain: bool,
}

struct Plane {
    about: Component,
    /// In blocks.
    across: u32,
    down: u32,
    points: Vec<u8>,
    seen: bool,
}

/// For each frequency, how much of it each point has.
fn waves<const N: usize>() -> [[f32; N]; N] {
    std::array::from_fn(|k| {
        std::array::from_fn(|n| {
            let angle = (2 * n + 1) as f32 * k as f32 * std::f32::consts::PI / (2 * N) as f32;
            0.5 * angle.cos() * if k == 0 { std::f32::consts::FRAC_1_SQRT_2 } else { 1.0 }
        })
    })
}

impl<const N: usize> Takes for Small<N> {
    const VALUES: bool = true;
    const ALL: bool = N > 1;

    fn begin(&mut self, depth: u8, size: (u32, u32), components: &[Component]) {
        // A second header may state another size, which nobody has looked at.
        let same = size == self.size && self.planes.is_empty();
        let named = components.len() == 3 && components.iter().zip(b"RGB").all(|(c, id)| c.id == *id);
        self.is_plain &= same && depth == 8 && !named && matches!(components.len(), 1 | 3);
        if !self.is_plain {
            self.planes.clear();
            return;
        }
        let most = |f: fn(&Component) -> u32| components.iter().map(f).max().unwrap_or(1).max(1);
        let (h, v) = (most(|c| c.h), most(|c| c.v));
        let (units, rows) = (size.0.div_ceil(8 * h), size.1.div_ceil(8 * v));
        self.planes = components
            .iter()
            .map(|c| {
                let (across, down) = (units * c.h, rows * c.v);
                let points = vec![0; across as usize * down as usize * N * N];
                Plane { about: *c, across, down, points, seen: false }
            })
            .collect();
    }

    fn transformed(&mut self, how: u8) {
        self.is_plain &= how == 1;
    }

    fn steps(&mut self, table: usize, steps: &Block) {
        self.steps[table] = steps.map(|s| s as f32);
    }

    #[inline]
    fn block(&mut self, component: usize, at: (u32, u32), block: &Block) {
        let Some(plane) = self.planes.get_mut(component) else { return };
        let steps = &self.steps[plane.about.steps];
        plane.seen = true;
        if at.0 >= plane.across || at.1 >= plane.down {
            return;
        }
        let width = plane.across as usize * N;
        let first = at.1 as usize * N * width + at.0 as usize * N;
        if N == 1 {
            plane.points[first] = point(block[0] as f32 * steps[0] / 8.0);
            return;
        }
        let lines = plane.points[first..].chunks_mut(width).take(N);
        // Most blocks of what is smooth, or of colours, have one value.
        let is_one = (0..N).all(|k| block[k * 8 + usize::from(k == 0)..k * 8 + N].iter().all(|v| *v == 0));
        if is_one {
            let value = point(block[0] as f32 * steps[0] / 8.0);
            lines.for_each(|line| line[..N].fill(value));
            return;
        }
        // Across, then down, all points of a line at once.
        let mut rows = [[0f32; N]; N];
        for (k, row) in rows.iter_mut().enumerate() {
            for (x, wave) in self.waves.iter().enumerate() {
                let value = block[k * 8 + x] as f32 * steps[k * 8 + x];
                row.iter_mut().zip(wave).for_each(|(v, w)| *v += w * value);
            }
        }
        for (n, line) in lines.enumerate() {
            let mut sums = [0f32; N];
            for (wave, row) in self.waves.iter().zip(&rows) {
                sums.iter_mut().zip(row).for_each(|(sum, v)| *sum += wave[n] * v);
            }
            line[..N].iter_mut().zip(sums).for_each(|(to, sum)| *to = point(sum));
        }
    }
}

/// Each sample so many times.
fn repeat(from: &[u8], times: usize, to: &mut [u8]) {
    match times {
        1 => to.copy_from_slice(&from[..to.len()]),
        n => to.chunks_mut(n).zip(from).for_each(|(to, v)| to.fill(*v)),
    }
}

fn byte(v: i32) -> u8 {
    ((v + (1 << 15)) >> 16).clamp(0, 255) as u8
}

fn point(v: f32) -> u8 {
    (v + 128.5).clamp(0.0, 255.0) as u8
}

impl<const N: usize> Small<N> {
    fn image(self) -> Option<DynamicImage> {
        let (w, h) = (side(self.size.0, N as u32), side(self.size.1, N as u32));
        if !self.is_plain || w == 0 || h == 0 || self.planes.iter().any(|p| !p.seen) {
            return None;
        }
        match self.planes.as_slice() {
            [gray] if gray.across as usize * N >= w as usize => {
                let width = gray.across as usize * N;
                let rows = gray.points.chunks_exact(width.max(1)).take(h as usize);
                let all = rows.flat_map(|r| r[..w as usize].iter().copied()).collect();
                GrayImage::from_raw(w, h, all).map(DynamicImage::ImageLuma8)
            }
            [y, b, r] => {
                let most = (y.about.h.max(b.about.h).max(r.about.h), y.about.v.max(b.about.v).max(r.about.v));
                let all = [y, b, r];
                // Each sample stands for whole points.
                if all.iter().any(|p| {
                    p.about.h == 0 || p.about.v == 0 || most.0 % p.about.h != 0 || most.1 % p.about.v != 0
                }) {
                    return None;
                }
                let mut out = vec![0u8; w as usize * h as usize * 3];
                let mut spread = [(); 3].map(|()| vec![0u8; w as usize]);
                for (line, row) in out.chunks_exact_mut(w as usize * 3).enumerate() {
                    for (p, to) in all.iter().zip(&mut spread) {
                        let width = p.across as usize * N;
                        let from = &p.points[line / (most.1 / p.about.v) as usize * width..][..width];
                        repeat(from, (most.0 / p.about.h) as usize, to);
                    }
                    let [ys, bs, rs] = &spread;
                    for (((to, y), b), r) in row.chunks_exact_mut(3).zip(ys).zip(bs).zip(rs) {
                        let (y, b, r) = (i32::from(*y) << 16, i32::from(*b) - 128, i32::from(*r) - 128);
                        // ITU-T T.871, 7.
                        let rgb = [y + 91_881 * r, y - 22_554 * b - 46_802 * r, y + 116_130 * b];
                        to[0] = byte(rgb[0]);
                        to[1] = byte(rgb[1]);
                        to[2] = byte(rgb[2]);
                    }
                }
                RgbImage::from_raw(w, h, out).map(DynamicImage::ImageRgb8)
            }
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use image::codecs::jpeg::JpegEncoder;
    use rstest::rstest;

    /// Waves of several lengths, and an edge.
    fn picture(w: u32, h: u32) -> RgbImage {
        RgbImage::from_fn(w, h, |x, y| {
            let wave = |by: f32, of: u32| (of as f32 * by).sin() * 50.0;
            let edge = if x > w / 2 { 40.0 } else { 0.0 };
            let v = 120.0 + wave(0.07, x) + wave(0.031, y) + edge;
            image::Rgb([v as u8, (v * 0.8) as u8, (255.0 - v) as u8])
        })
    }

    fn coded(picture: &DynamicImage, quality: u8) -> Vec<u8> {
        let mut out = Vec::new();
        let (size, colour) = ((picture.width(), picture.height()), picture.color().into());
        let mut encoder = JpegEncoder::new_with_quality(&mut out, quality);
        encoder.encode(picture.as_bytes(), size.0, size.1, colour).unwrap();
        out
    }

    /// Each point is about the mean of what another's decoder gives for the pixels that it stands for.
    #[rstest]
    fn a_small_picture_is_the_mean_of_the_large_one(
        #[values(1, 2, 4)] points: usize,
        #[values((64, 48), (333, 187), (16, 8), (9, 9))] size: (u32, u32),
        #[values(true, false)] colours: bool,
    ) {
        let whole: DynamicImage = picture(size.0, size.1).into();
        let whole = if colours { whole } else { whole.to_luma8().into() };
        let bytes = coded(&whole, 92);
        let small = decode(&bytes, size, points).unwrap().unwrap();
        assert_eq!(
            (small.width(), small.height()),
            (side(size.0, points as u32), side(size.1, points as u32))
        );
        assert_eq!(small.color().has_color(), colours);
        let large = image::load_from_memory(&bytes).unwrap().to_rgb8();
        let small = small.to_rgb8();
        let by = 8 / points as u32;
        let (mut sum, mut count) = (0.0, 0.0);
        for (x, y) in (0..size.0 / by).flat_map(|x| (0..size.1 / by).map(move |y| (x, y))) {
            for c in 0..3 {
                let all = (0..by).flat_map(|dx| (0..by).map(move |dy| (x * by + dx, y * by + dy)));
                let mean =
                    all.map(|(x, y)| f64::from(large.get_pixel(x, y)[c])).sum::<f64>() / f64::from(by * by);
                sum += (f64::from(small.get_pixel(x, y)[c]) - mean).powi(2);
                count += 1.0;
            }
        }
        let off = f64::sqrt(sum / count);
        assert!(off < 4.0, "{off:.2} off");
    }

    #[rstest]
    #[case((6000, 4000), (320, 0), Some(1))]
    #[case((6000, 4000), (640, 640), Some(2))]
    #[case((6000, 4000), (1500, 0), Some(4))]
    #[case((6000, 4000), (2000, 0), None)]
    #[case((6000, 4000), (0, 240), Some(1))]
    #[case((320, 240), (640, 0), None)]
    #[case((1280, 960), (320, 240), Some(4))]
    fn so_many_points_are_enough(
        #[case] size: (u32, u32),
        #[case] limit: (u32, u32),
        #[case] want: Option<usize>,
    ) {
        assert_eq!(points(size, Orientation::NoTransforms, &[limit]), want);
        let lying = (size.1, size.0);
        assert_eq!(points(lying, Orientation::Rotate90, &[limit]), want, "turned");
    }

    /// The size of what is made is that of the whole picture made smaller, whatever it is.
    #[test]
    fn sizes_do_not_change() {
        let all = [(320, 0), (160, 160), (0, 99), (64, 0)];
        for w in (700..6100).step_by(37) {
            let size = (w, w * 2 / 3 + w % 7);
            // Each by itself, and all of them from one picture.
            for wanted in all.chunks(1).chain([all.as_slice()]) {
                let Some(n) = points(size, Orientation::NoTransforms, wanted) else { continue };
                let small = (side(size.0, n as u32), side(size.1, n as u32));
                for limit in wanted {
                    let of = |(w, h): (u32, u32)| fit(w, h, Ratio::ONE, *limit);
                    assert_eq!(of(small), of(size));
                }
            }
        }
        assert_eq!(
            points((6000, 4000), Orientation::NoTransforms, &[(320, 0), (0, 0)]),
            None,
            "one wants all of it"
        );
        assert_eq!(points((6000, 4000), Orientation::NoTransforms, &[]), None);
    }

    /// Nothing is kept for a size that a second header states: the decoder of whole pictures says what it is.
    #[test]
    fn a_second_header_is_not_followed() {
        let mut bytes = coded(&picture(64, 48).into(), 90);
        let at = bytes.windows(2).position(|w| w == [0xff, 0xc0]).unwrap();
        let len = 2 + usize::from(bytes[at + 2]) * 256 + usize::from(bytes[at + 3]);
        let mut second = bytes[at..at + len].to_vec();
        second[5..9].copy_from_slice(&[0xff, 0xff, 0xff, 0xff]);
        bytes.splice(at + len..at + len, second);
        assert!(decode(&bytes, (64, 48), 2).is_ok_and(|p| p.is_none()) || scan::check(&bytes).is_err());
    }

    /// What is spoilt is told as it is of a picture that is decoded whole.
    #[test]
    fn a_spoilt_picture_is_told() {
        let bytes = coded(&picture(640, 480).into(), 90);
        let mut told = 0;
        for n in 0..200 {
            let mut spoilt = bytes.clone();
            let at = 700 + n * (spoilt.len() - 800) / 200;
            spoilt[at] ^= 0x55;
            let (small, whole) = (decode(&spoilt, (640, 480), 2), scan::check(&spoilt));
            assert_eq!(
                small.as_ref().err().map(ToString::to_string),
                whole.as_ref().err().map(ToString::to_string)
            );
            told += u32::from(whole.is_err());
        }
        assert!(told > 50, "{told}");
    }
}
