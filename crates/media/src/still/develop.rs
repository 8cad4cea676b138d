//! A camera's own colours as those of sRGB (Digital Negative 1.7, chapter 6), and the colours between those that a sensor saw.

use super::dng::Levels;

pub type Matrix = [[f64; 3]; 3];

/// x and y of the white that profiles are joined at (ISO 15076-1: D50).
const D50: [f64; 3] = [0.964_22, 1.0, 0.825_21];

/// What adapts the eye (Bradford; ISO 15076-1, annex E).
const EYE: Matrix = [[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]];

/// From D50, adapted, to the linear primaries of sRGB (IEC 61966-2-1).
const TO_SRGB: Matrix = [
    [3.133_856_1, -1.616_866_7, -0.490_614_6],
    [-0.978_768_4, 1.916_141_5, 0.033_454],
    [0.071_945_3, -0.228_991_4, 1.405_242_7],
];

pub fn product(a: &Matrix, b: &Matrix) -> Matrix {
    std::array::from_fn(|r| std::array::from_fn(|c| (0..3).map(|i| a[r][i] * b[i][c]).sum()))
}

fn times(m: &Matrix, v: [f64; 3]) -> [f64; 3] {
    m.map(|row| row[0] * v[0] + row[1] * v[1] + row[2] * v[2])
}

fn diagonal(v: [f64; 3]) -> Matrix {
    std::array::from_fn(|r| std::array::from_fn(|c| if r == c { v[r] } else { 0.0 }))
}

/// `None` for one that cannot be turned round.
fn inverse(m: &Matrix) -> Option<Matrix> {
    let minor = |r: usize, c: usize| {
        let (r0, r1, c0, c1) = ((r + 1) % 3, (r + 2) % 3, (c + 1) % 3, (c + 2) % 3);
        m[r0][c0] * m[r1][c1] - m[r0][c1] * m[r1][c0]
    };
    let det: f64 = (0..3).map(|c| m[0][c] * minor(0, c)).sum();
    let largest = m.iter().flatten().fold(0f64, |a, b| a.max(b.abs()));
    (det.is_finite() && det.abs() > largest.powi(3) * 1e-9)
        .then(|| std::array::from_fn(|r| std::array::from_fn(|c| minor(c, r) / det)))
}

/// What is known of a camera under one light.
#[derive(Clone)]
pub struct Calibration {
    pub degrees: Option<f64>,
    /// From XYZ.
    pub to_camera: Matrix,
    /// From the camera's colours, balanced, to XYZ under D50.
    pub forward: Option<Matrix>,
    /// Of this one camera, with the gains of its parts.
    pub own: Matrix,
}

impl Calibration {
    fn between(&self, other: &Calibration, share: f64) -> Calibration {
        let mix = |a: &Matrix, b: &Matrix| -> Matrix {
            std::array::from_fn(|r| std::array::from_fn(|c| share * a[r][c] + (1.0 - share) * b[r][c]))
        };
        let forward = match (&self.forward, &other.forward) {
            (Some(a), Some(b)) => Some(mix(a, b)),
            (a, b) => a.or(*b),
        };
        Calibration {
            degrees: None,
            to_camera: mix(&self.to_camera, &other.to_camera),
            forward,
            own: mix(&self.own, &other.own),
        }
    }
}

/// The white of the picture: what is neutral to the camera, or the light's x and y.
pub enum White {
    Neutral([f64; 3]),
    Light(f64, f64),
}

pub struct Camera {
    /// What is neutral, the highest of it 1: above that nothing is told apart.
    neutral: [f32; 3],
    /// From colours in which white is 1, 1, 1 to linear sRGB, with the exposure that the file asks for.
    to_srgb: [[f32; 3]; 3],
    exposure: f32,
}

/// Degrees of a light (C. S. McCamy, 1992, from its place between those of black bodies).
fn degrees(x: f64, y: f64) -> f64 {
    let n = (x - 0.3320) / (0.1858 - y);
    ((449.0 * n + 3525.0) * n + 6823.3) * n + 5520.33
}

fn xyz(x: f64, y: f64) -> [f64; 3] {
    [x / y, 1.0, (1.0 - x - y) / y]
}

impl Camera {
    /// `None` where the matrices tell nothing.
    pub fn new(
        first: Calibration,
        second: Option<Calibration>,
        white: White,
        exposure: f64,
    ) -> Option<Camera> {
        let under = |x: f64, y: f64| match second.as_ref().map(|s| (s, first.degrees, s.degrees)) {
            Some((s, Some(a), Some(b))) if a != b => {
                let share = (1.0 / degrees(x, y) - 1.0 / b) / (1.0 / a - 1.0 / b);
                first.between(s, if share.is_finite() { share.clamp(0.0, 1.0) } else { 1.0 })
            }
            _ => first.clone(),
        };
        let (mut at, mut known) = ((0.3457, 0.3585), None);
        match white {
            White::Light(x, y) => at = (x, y),
            White::Neutral(n) => {
                known = Some(n);
                // Which light it is tells the matrix, which tells which light it is.
                for _ in 0..30 {
                    let c = under(at.0, at.1);
                    let v = times(&inverse(&product(&c.own, &c.to_camera))?, n);
                    let sum: f64 = v.iter().sum();
                    let next = (v[0] / sum, v[1] / sum);
                    let good = next.0 > 0.0 && next.1 > 0.0 && next.0 + next.1 < 1.0;
                    if !good {
                        return None;
                    }
                    let moved = (next.0 - at.0).abs() + (next.1 - at.1).abs();
                    at = next;
                    if moved < 1e-7 {
                        break;
                    }
                }
            }
        }
        let c = under(at.0, at.1);
        let camera = product(&c.own, &c.to_camera);
        let neutral = known.unwrap_or_else(|| times(&camera, xyz(at.0, at.1)));
        let most = neutral.iter().fold(0f64, |a, b| a.max(*b));
        let neutral = neutral.map(|v| v / most);
        if !neutral.iter().all(|v| v.is_finite() && *v > 1e-3) {
            return None;
        }
        let balanced = match c.forward {
            Some(forward) => {
                let own = inverse(&c.own)?;
                let reference = times(&own, neutral);
                let scale = diagonal(reference.map(|v| 1.0 / v));
                product(&product(&forward, &scale), &product(&own, &diagonal(neutral)))
            }
            None => {
                let back = product(&inverse(&camera)?, &diagonal(neutral));
                let white = times(&back, [1.0; 3]);
                let eye = |v: [f64; 3]| times(&EYE, v);
                let (from, to) = (eye(white), eye(D50));
                let adapt = diagonal(std::array::from_fn(|i| to[i] / from[i]));
                let adapt = product(&inverse(&EYE)?, &product(&adapt, &EYE));
                product(&adapt, &back)
            }
        };
        let to_srgb = product(&TO_SRGB, &balanced);
        let exposure = 2f64.powf(exposure.clamp(0.0, 8.0));
        let usable = to_srgb.iter().flatten().all(|v| v.is_finite());
        usable.then(|| Camera {
            neutral: neutral.map(|v| v as f32),
            to_srgb: to_srgb.map(|row| row.map(|v| v as f32)),
            exposure: exposure as f32,
        })
    }

    /// What the camera saw, balanced, in red, green and blue as they are shown.
    #[inline(always)]
    fn shown(&self, [r, g, b]: [f32; 3], curve: &Curve) -> [u16; 3] {
        let (r, g, b) = (r.clamp(0.0, 1.0), g.clamp(0.0, 1.0), b.clamp(0.0, 1.0));
        let one = |m: &[f32; 3]| curve.of((m[0] * r + m[1] * g + m[2] * b) * self.exposure);
        [one(&self.to_srgb[0]), one(&self.to_srgb[1]), one(&self.to_srgb[2])]
    }
}

/// The curve of sRGB by a table: fine enough near black for 16 bits.
struct Curve(Vec<u16>);

impl Curve {
    const STEPS: usize = 1 << 16;

    fn new() -> Curve {
        let at = |n: usize| super::colour::curve(n as f32 / Self::STEPS as f32) * 65_535.0;
        Curve((0..=Self::STEPS).map(|n| at(n).round() as u16).collect())
    }

    #[inline(always)]
    fn of(&self, linear: f32) -> u16 {
        self.0[(linear.clamp(0.0, 1.0) * Self::STEPS as f32 + 0.5) as usize]
    }
}

/// What a sensor saw, and which part of it is the picture.
pub struct Mosaic<'a> {
    pub stored: &'a [u16],
    pub stride: usize,
    pub samples: usize,
    pub active: (usize, usize, usize, usize),
    pub crop: (usize, usize, usize, usize),
    pub levels: &'a Levels,
}

impl Mosaic<'_> {
    /// A row of what counts, as light.
    fn row(&self, y: usize, to: &mut [f32]) {
        let (left, top, width, _) = self.active;
        let from = ((top + y) * self.stride + left) * self.samples;
        self.levels.light(y, &self.stored[from..from + width * self.samples], to);
    }

    /// The picture in bands of rows side by side, each of which is told its first row and gets where its rows go.
    fn bands(&self, values: usize, band: impl Fn(usize, &mut [u16]) + Sync) -> Vec<u16> {
        let (_, first, w, h) = self.crop;
        let mut all = vec![0u16; w * h * values];
        let threads = std::thread::available_parallelism().map_or(1, usize::from).min(8);
        let rows = h.div_ceil(threads).max(64);
        std::thread::scope(|s| {
            for (n, part) in all.chunks_mut(rows * w * values).enumerate() {
                let band = &band;
                s.spawn(move || band(first + n * rows, part));
            }
        });
        all
    }

    /// The picture's part of each row.
    fn each(&self, values: usize, one: impl Fn(&[f32], &mut [u16]) + Sync) -> Vec<u16> {
        let (x, _, w, _) = self.crop;
        self.bands(values, |first, part| {
            let mut row = vec![0.0; self.active.2 * self.samples];
            for (n, to) in part.chunks_exact_mut(w * values).enumerate() {
                self.row(first + n, &mut row);
                one(&row[x * self.samples..(x + w) * self.samples], to);
            }
        })
    }

    pub fn gray(&self) -> Vec<u16> {
        let curve = Curve::new();
        self.each(1, |row, to| to.iter_mut().zip(row).for_each(|(t, v)| *t = curve.of(*v)))
    }

    /// Linear already, in the camera's colours.
    pub fn linear(&self, camera: &Camera) -> Vec<u16> {
        let curve = Curve::new();
        let n = camera.neutral;
        self.each(3, |row, to| {
            for (t, p) in to.chunks_exact_mut(3).zip(row.chunks_exact(3)) {
                t.copy_from_slice(&camera.shown([p[0] / n[0], p[1] / n[1], p[2] / n[2]], &curve));
            }
        })
    }

    /// Of each pixel one colour: the others from its neighbours, helped by how the one that is known changes there
    /// (H. S. Malvar, L. He, R. Cutler, "High-quality linear interpolation for demosaicing of Bayer-patterned color images", 2004).
    pub fn coloured(&self, pattern: &[usize; 4], camera: &Camera) -> Vec<u16> {
        let curve = Curve::new();
        let (_, _, width, height) = self.active;
        let (left, _, w, _) = self.crop;
        let colour = |x: usize, y: usize| pattern[(y & 1) * 2 + (x & 1)];
        // Two more at each side, mirrored so that a colour stays at its place.
        let mirrored = |n: isize| n.unsigned_abs().min((2 * (height - 1)).saturating_sub(n.unsigned_abs()));
        let wide = width + 4;
        let read = |y: isize, to: &mut Vec<f32>| {
            let y = mirrored(y);
            to.resize(wide, 0.0);
            self.row(y, &mut to[2..2 + width]);
            let gain = [1.0 / camera.neutral[colour(0, y)], 1.0 / camera.neutral[colour(1, y)]];
            for (i, v) in to[2..2 + width].iter_mut().enumerate() {
                *v = (*v * gain[i & 1]).clamp(0.0, 1.0);
            }
            (to[0], to[1], to[wide - 2], to[wide - 1]) = (to[4], to[3], to[wide - 4], to[wide - 5]);
        };
        self.bands(3, |first, part| {
            let mut window: [Vec<f32>; 5] = Default::default();
            window.iter_mut().enumerate().for_each(|(n, row)| read((first + n) as isize - 2, row));
            for (n, to) in part.chunks_exact_mut(w * 3).enumerate() {
                let y = first + n;
                if n > 0 {
                    window.rotate_left(1);
                    read(y as isize + 2, &mut window[4]);
                }
                // A neighbour in the row is of the other colour that its row has.
                let other = pattern[(y & 1) * 2] + pattern[(y & 1) * 2 + 1] - 1;
                let rows: Window<'_> = std::array::from_fn(|r| &window[r][left..left + w + 4]);
                for (x, to) in to.chunks_exact_mut(3).enumerate() {
                    let here = |r: usize, c: usize| rows[r][x + c];
                    let mut rgb = [0.0; 3];
                    if colour(left + x, y) == 1 {
                        rgb[1] = here(2, 2);
                        rgb[other] = across(here);
                        rgb[2 - other] = across(|r, c| here(c, r));
                    } else {
                        rgb[other] = here(2, 2);
                        rgb[1] = green(here);
                        rgb[2 - other] = opposite(here);
                    }
                    to.copy_from_slice(&camera.shown(rgb, &curve));
                }
            }
        })
    }
}

type Window<'a> = [&'a [f32]; 5];

/// Green at red or blue (the paper's figure 2, first).
#[inline(always)]
fn green(at: impl Fn(usize, usize) -> f32) -> f32 {
    let near = at(1, 2) + at(2, 1) + at(2, 3) + at(3, 2);
    let far = at(0, 2) + at(2, 0) + at(2, 4) + at(4, 2);
    (4.0 * at(2, 2) + 2.0 * near - far) / 8.0
}

/// Red or blue at green, of which the two neighbours in its row are.
#[inline(always)]
fn across(at: impl Fn(usize, usize) -> f32) -> f32 {
    let corners = at(1, 1) + at(1, 3) + at(3, 1) + at(3, 3);
    (5.0 * at(2, 2) + 4.0 * (at(2, 1) + at(2, 3)) - at(2, 0) - at(2, 4) - corners
        + 0.5 * (at(0, 2) + at(4, 2)))
        / 8.0
}

/// Red at blue, or blue at red.
#[inline(always)]
fn opposite(at: impl Fn(usize, usize) -> f32) -> f32 {
    let corners = at(1, 1) + at(1, 3) + at(3, 1) + at(3, 3);
    let far = at(0, 2) + at(2, 0) + at(2, 4) + at(4, 2);
    (6.0 * at(2, 2) + 2.0 * corners - 1.5 * far) / 8.0
}

#[cfg(test)]
mod tests {
    use super::*;

    /// XYZ to linear sRGB (IEC 61966-2-1), as a camera that sees so under a light of these degrees.
    fn plain(degrees: f64, forward: Option<Matrix>) -> Calibration {
        let to_camera =
            [[3.240_6, -1.537_2, -0.498_6], [-0.968_9, 1.875_8, 0.041_5], [0.055_7, -0.204, 1.057]];
        Calibration { degrees: Some(degrees), to_camera, forward, own: diagonal([1.0; 3]) }
    }

    fn linear(c: &Camera, v: [f32; 3]) -> [f32; 3] {
        c.to_srgb.map(|m| m[0] * v[0] + m[1] * v[1] + m[2] * v[2])
    }

    fn close(a: [f32; 3], b: [f32; 3], by: f32) -> bool {
        a.iter().zip(b).all(|(a, b)| (a - b).abs() < by)
    }

    #[test]
    fn a_camera_that_sees_as_the_display_shows_changes_nothing() {
        let c = Camera::new(plain(6500.0, None), None, White::Neutral([1.0; 3]), 0.0).unwrap();
        for v in [[1.0; 3], [0.2, 0.5, 0.1], [0.9, 0.0, 0.3]] {
            assert!(close(linear(&c, v), v, 1e-3), "{:?}", linear(&c, v));
        }
    }

    #[test]
    fn neutral_is_neutral_in_every_light() {
        let forward = [[0.4, 0.35, 0.214_22], [0.2, 0.7, 0.1], [0.02, 0.1, 0.705_21]];
        for forward in [None, Some(forward)] {
            for neutral in [[0.3, 1.0, 0.6], [0.7, 1.0, 0.4], [1.0, 0.8, 0.9]] {
                let mut warm = plain(2850.0, forward);
                warm.to_camera[0][0] = 2.9;
                warm.own = diagonal([1.1, 1.0, 0.9]);
                let cold = plain(6500.0, forward);
                let c = Camera::new(warm, Some(cold), White::Neutral(neutral), 1.0).unwrap();
                assert!(close(linear(&c, [1.0; 3]), [1.0; 3], 2e-3), "{:?}", linear(&c, [1.0; 3]));
                assert_eq!(c.exposure, 2.0);
            }
        }
    }

    /// The light's own place tells which neutral it has.
    #[test]
    fn the_light_stands_for_what_is_neutral() {
        let c = Camera::new(plain(6500.0, None), None, White::Light(0.3127, 0.3290), 0.0).unwrap();
        assert!(close(c.neutral, [1.0; 3], 2e-3), "{:?}", c.neutral);
        // McCamy's own examples: daylight of 6500 K and the light of a bulb.
        assert!((degrees(0.3127, 0.3290) - 6504.0).abs() < 5.0);
        assert!((degrees(0.4476, 0.4074) - 2856.0).abs() < 5.0);
    }

    #[test]
    fn between_two_lights_the_matrix_is_between() {
        let mut warm = plain(2850.0, None);
        warm.to_camera = warm.to_camera.map(|r| r.map(|v| v * 2.0));
        let half = warm.between(&plain(6500.0, None), 0.5);
        assert!((half.to_camera[1][1] - 1.5 * 1.875_8).abs() < 1e-9);
    }

    #[test]
    fn matrices_that_tell_nothing_are_none() {
        let mut flat = plain(6500.0, None);
        flat.to_camera = [[1.0; 3]; 3];
        assert!(Camera::new(flat, None, White::Neutral([1.0; 3]), 0.0).is_none());
        assert!(inverse(&[[0.0; 3]; 3]).is_none());
        let m = [[2.0, 0.0, 1.0], [0.0, 3.0, 0.0], [1.0, 0.0, 1.0]];
        let one = product(&m, &inverse(&m).unwrap());
        assert!((0..3).all(|r| (0..3).all(|c| (one[r][c] - f64::from(u8::from(r == c))).abs() < 1e-12)));
    }
}
