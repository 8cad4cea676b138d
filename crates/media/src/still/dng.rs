//! What a camera's sensor saw, as a Digital Negative (DNG 1.7; tags of chapters 4 to 6) holds it: found, unpacked and brought to
//! linear values between black and white. Read are whole numbers of 8 to 16 bits, as they are, by Deflate or by lossless JPEG, of
//! sensors with a filter of red, green and blue in squares of four, and of pictures that are linear already.

use super::check_area;
use super::develop::{Calibration, Camera, Mosaic, White, product};
use super::directory::Directory;
use super::pieces::{self, Form};
use crate::error::{Error, Result};

pub const NAME: &str = "DNG";

const CFA: u64 = 32_803;
const LINEAR: u64 = 34_892;

/// A file that can be developed.
pub struct Negative<'a> {
    data: Directory<'a>,
    form: Form,
    /// Of what its sensor saw: left, top, width, height of what counts.
    active: (usize, usize, usize, usize),
    /// Of that, what is the picture.
    crop: (usize, usize, usize, usize),
    pattern: Option<[usize; 4]>,
    camera: Option<Camera>,
    pub turn: u8,
    /// It lists corrections that are not made here.
    pub uncorrected: bool,
}

/// The directory of the picture itself, if there is one: in colours of the sensor, and of full size.
fn main<'a>(first: Directory<'a>) -> Option<Directory<'a>> {
    let inner = first.inner();
    let is = |d: &Directory<'_>| d.one(254).unwrap_or(0) == 0 && matches!(d.one(262), Some(CFA | LINEAR));
    std::iter::once(first).chain(inner).find(is)
}

fn matrix(d: &Directory<'_>, tag: u16) -> Option<[[f64; 3]; 3]> {
    let v = d.reals(tag)?;
    let row = |n: usize| v.get(n * 3..n * 3 + 3)?.try_into().ok();
    (v.len() == 9).then_some([row(0)?, row(1)?, row(2)?])
}

fn triple(d: &Directory<'_>, tag: u16) -> Option<[f64; 3]> {
    d.reals(tag)?.try_into().ok()
}

/// Degrees of what a light is called (Exif 3.0, LightSource), as light sources of that name have.
fn degrees(light: u64) -> Option<f64> {
    Some(match light {
        1 | 4 | 9 | 18 | 20 => 5500.0,
        2 | 14 => 4150.0,
        3 | 17 => 2850.0,
        10 | 19 | 21 => 6500.0,
        11 | 22 => 7500.0,
        12 => 6430.0,
        13 | 23 => 5000.0,
        15 => 3450.0,
        16 => 2940.0,
        24 => 3200.0,
        _ => return None,
    })
}

/// What colours mean (chapter 6), from the first directory; `None` where that is not told.
fn camera(d: &Directory<'_>) -> Option<Camera> {
    const SIGNATURES: (u16, u16) = (50_931, 50_932);
    let text = |tag| d.raw(tag).map(|b| b.strip_suffix(&[0]).unwrap_or(b)).unwrap_or_default();
    let calibrated = text(SIGNATURES.0) == text(SIGNATURES.1);
    let analog = triple(d, 50_727).unwrap_or([1.0; 3]);
    let analog = std::array::from_fn(|r| std::array::from_fn(|c| if r == c { analog[r] } else { 0.0 }));
    let one = |light: u16, colour: u16, own: u16, forward: u16| {
        let own = matrix(d, own).filter(|_| calibrated);
        Some(Calibration {
            degrees: d.one(light).and_then(degrees),
            to_camera: matrix(d, colour)?,
            forward: matrix(d, forward),
            own: own.map_or(analog, |own| product(&analog, &own)),
        })
    };
    let first = one(50_778, 50_721, 50_723, 50_964)?;
    let second = one(50_779, 50_722, 50_724, 50_965);
    let positive = |v: &[f64; 3]| v.iter().all(|v| *v > 0.0);
    let white = match triple(d, 50_728).filter(positive) {
        Some(neutral) => White::Neutral(neutral),
        None => match d.reals(50_729).as_deref() {
            Some(&[x, y]) if x > 0.0 && y > 0.0 => White::Light(x, y),
            _ => White::Light(0.3324, 0.3474),
        },
    };
    Camera::new(first, second, white, d.one_real(50_730).unwrap_or(0.0))
}

/// The negative in a file; none: it is no DNG, or holds nothing of that kind. What cannot be developed says why.
pub fn find(bytes: &[u8]) -> Option<std::result::Result<Negative<'_>, String>> {
    const VERSION: u16 = 50_706;
    let first = Directory::read(bytes)?;
    if !first.has(VERSION) {
        return None;
    }
    let camera = camera(&first);
    let turn = first.turn().unwrap_or(1);
    Some(negative(main(first)?, camera, turn))
}

fn negative(d: Directory<'_>, camera: Option<Camera>, turn: u8) -> std::result::Result<Negative<'_>, String> {
    let form = Form::of(&d)?;
    let &Form { samples, bits, compression, predictor, .. } = &form;
    let linear = d.one(262) == Some(LINEAR);
    match compression {
        1 | 8 | pieces::LOSSLESS => (),
        34_892 => return Err("packed as JPEG with loss".into()),
        52_546 => return Err("packed as JPEG XL".into()),
        other => return Err(format!("packed in a way of number {other}")),
    }
    if d.all(339).is_some_and(|f| f.iter().any(|f| *f != 1)) {
        return Err("of floating-point samples".into());
    }
    if !(8..=16).contains(&bits) || compression == 8 && !matches!(bits, 8 | 16) {
        return Err(format!("of samples of {bits} bits"));
    }
    if compression == 8 && predictor > 2 {
        return Err(format!("with predictor {predictor}"));
    }
    let pattern = match (linear, samples) {
        (true, 1 | 3) => None,
        (false, 1) => Some(pattern(&d)?),
        _ => return Err(format!("of {samples} colours")),
    };
    if camera.is_none() && samples + pattern.map_or(0, |_| 2) == 3 {
        return Err("without a matrix that tells what its colours are".into());
    }
    let scale = d.reals(50_718).unwrap_or_default();
    if matches!(scale[..], [across, down] if (across / down - 1.0).abs() > 0.01) {
        return Err("of pixels that are not square".into());
    }
    let (w, h) = (form.width as usize, form.height as usize);
    let active = match d.all(50_829).as_deref() {
        Some(&[top, left, bottom, right])
            if top < bottom && left < right && bottom <= h as u64 && right <= w as u64 =>
        {
            (left as usize, top as usize, (right - left) as usize, (bottom - top) as usize)
        }
        _ => (0, 0, w, h),
    };
    let side = |v: Option<&f64>| v.copied().unwrap_or(-1.0).round();
    let (from, size) = (d.reals(50_719).unwrap_or_default(), d.reals(50_720).unwrap_or_default());
    let (x, y, cw, ch) = (side(from.first()), side(from.get(1)), side(size.first()), side(size.get(1)));
    let inside = x >= 0.0
        && y >= 0.0
        && cw >= 1.0
        && ch >= 1.0
        && x + cw <= active.2 as f64
        && y + ch <= active.3 as f64;
    let crop =
        if inside { (x as usize, y as usize, cw as usize, ch as usize) } else { (0, 0, active.2, active.3) };
    if pattern.is_some() && (active.2 < 4 || active.3 < 4) {
        return Err("of less than four pixels".into());
    }
    const LISTS: [u16; 3] = [51_008, 51_009, 51_022];
    let uncorrected = LISTS.iter().any(|t| d.raw(*t).is_some_and(|b| b.iter().take(4).any(|n| *n > 0)));
    Ok(Negative { form, active, crop, pattern, camera, turn, uncorrected, data: d })
}

/// The colours of a square of four: 0 red, 1 green, 2 blue.
fn pattern(d: &Directory<'_>) -> std::result::Result<[usize; 4], String> {
    let square = d.all(33_421).is_none_or(|s| s == [2, 2]);
    let layout = d.one(50_711).unwrap_or(1);
    let planes = d.all(50_710).unwrap_or_else(|| vec![0, 1, 2]);
    let place =
        |code: &u64| planes.iter().position(|p| p == code).filter(|p| *p < 3 && planes[*p] == *p as u64);
    let colours: Option<Vec<usize>> = d.all(33_422).unwrap_or_default().iter().map(place).collect();
    let colours: Option<[usize; 4]> = colours.and_then(|c| c.try_into().ok());
    match colours {
        // Green where two corners meet, red and blue in the others.
        Some(c)
            if square
                && layout == 1
                && matches!(c, [0, 1, 1, 2] | [2, 1, 1, 0] | [1, 0, 2, 1] | [1, 2, 0, 1]) =>
        {
            Ok(c)
        }
        _ => Err("of a sensor with another filter than red, green and blue in squares of four".into()),
    }
}

impl Negative<'_> {
    /// Its size before it is turned.
    pub fn size(&self) -> (u32, u32) {
        (self.crop.2 as u32, self.crop.3 as u32)
    }

    pub fn gray(&self) -> bool {
        self.form.samples == 1 && self.pattern.is_none()
    }

    /// Red, green and blue of sRGB, or gray, of 16 bits.
    pub fn develop(&self) -> Result<Vec<u16>> {
        check_area(NAME, self.form.width, self.form.height)?;
        let stored = pieces::values(&self.data, &self.form)?;
        let levels = self.levels();
        let mosaic = Mosaic {
            stored: &stored,
            stride: self.form.width as usize,
            samples: self.form.samples,
            active: self.active,
            crop: self.crop,
            levels: &levels,
        };
        match (&self.pattern, &self.camera) {
            (Some(pattern), Some(camera)) => Ok(mosaic.coloured(pattern, camera)),
            (None, Some(camera)) if self.form.samples == 3 => Ok(mosaic.linear(camera)),
            (None, _) if self.form.samples == 1 => Ok(mosaic.gray()),
            _ => Err(Error::unsupported(NAME, "colours that are not told")),
        }
    }

    /// How stored values become light (chapter 5): table, black and white.
    fn levels(&self) -> Levels {
        let d = &self.data;
        let samples = self.form.samples;
        let sides = d.all(50_713).and_then(|v| <[u64; 2]>::try_from(v).ok()).unwrap_or([1, 1]);
        let (rows, columns) = (sides[0].clamp(1, 64) as usize, sides[1].clamp(1, 64) as usize);
        let mut black = d.reals(50_714).unwrap_or_default();
        black.resize(rows * columns * samples, black.last().copied().unwrap_or(0.0));
        let mut white = d.reals(50_717).unwrap_or_default();
        white.resize(samples, white.last().copied().unwrap_or(f64::from((1u32 << self.form.bits) - 1)));
        let words = |tag| d.reals(tag).unwrap_or_default().iter().map(|v| *v as f32).collect();
        let table = d.all(50_712).unwrap_or_default().iter().map(|v| *v as u16).collect();
        // The scale is from the highest black of a colour (chapter 5).
        let most = |s: usize| black.iter().skip(s).step_by(samples).fold(f64::MIN, |m, b| m.max(*b));
        let scale = (0..samples).map(|s| (1.0 / (white[s] - most(s)).max(1.0)) as f32).collect();
        let black = black.iter().map(|b| *b as f32).collect();
        Levels { table, rows, columns, black, scale, across: words(50_715), down: words(50_716) }
    }
}

pub struct Levels {
    table: Vec<u16>,
    rows: usize,
    columns: usize,
    black: Vec<f32>,
    /// Of each colour: what a step is worth.
    scale: Vec<f32>,
    across: Vec<f32>,
    down: Vec<f32>,
}

impl Levels {
    /// A row of stored values as light: black is 0 and white 1. So far over white as the sensor goes is kept.
    pub fn light(&self, y: usize, stored: &[u16], to: &mut [f32]) {
        let samples = self.scale.len();
        let down = self.down.get(y).copied().unwrap_or(0.0);
        // What is taken off is the same every so many values.
        let black = &self.black[y % self.rows * self.columns * samples..][..self.columns * samples];
        let steps = black.iter().cycle().zip(self.scale.iter().cycle());
        for (i, ((t, v), (black, scale))) in to.iter_mut().zip(stored).zip(steps).enumerate() {
            let v = match self.table.is_empty() {
                true => *v,
                false => self.table[usize::from(*v).min(self.table.len() - 1)],
            };
            let across = self.across.get(i / samples).copied().unwrap_or(0.0);
            *t = (f32::from(v) - black - across - down) * scale;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::still::{facts_of, frame_of};
    use rstest::rstest;
    use std::io::Cursor;

    /// Tag, kind, values as they are stored.
    type Entry = (u16, u16, Vec<u8>);

    fn shorts(v: &[u16]) -> Vec<u8> {
        v.iter().flat_map(|v| v.to_le_bytes()).collect()
    }

    fn fractions(v: &[i32]) -> Vec<u8> {
        v.iter().flat_map(|v| [v.to_le_bytes(), 1000i32.to_le_bytes()].concat()).collect()
    }

    /// A camera that sees as sRGB does, in a file with these entries besides or instead.
    fn file(size: (u16, u16), data: &[u8], more: &[Entry]) -> Vec<u8> {
        let to_rgb = [3240, -1537, -499, -969, 1876, 42, 56, -204, 1057];
        let mut entries: Vec<Entry> = vec![
            (256, 3, shorts(&[size.0])),
            (257, 3, shorts(&[size.1])),
            (258, 3, shorts(&[16])),
            (259, 3, shorts(&[1])),
            (262, 3, shorts(&[CFA as u16])),
            (273, 4, vec![0; 4]),
            (277, 3, shorts(&[1])),
            (279, 4, (data.len() as u32).to_le_bytes().to_vec()),
            (33_421, 3, shorts(&[2, 2])),
            (33_422, 1, vec![0, 1, 1, 2]),
            (50_706, 1, vec![1, 4, 0, 0]),
            (50_717, 3, shorts(&[1000])),
            (50_721, 10, fractions(&to_rgb)),
            (50_728, 5, fractions(&[1000, 1000, 1000])),
            (50_778, 3, shorts(&[21])),
        ];
        for new in more {
            entries.retain(|e| e.0 != new.0);
            entries.push(new.clone());
        }
        entries.sort_by_key(|e| e.0);
        let mut at = 8 + 2 + entries.len() * 12 + 4;
        let mut behind = Vec::new();
        let all: usize = entries.iter().filter(|e| e.2.len() > 4).map(|e| e.2.len()).sum();
        let mut out = b"II*\0\x08\0\0\0".to_vec();
        out.extend((entries.len() as u16).to_le_bytes());
        let place = at + all;
        for (tag, kind, value) in entries {
            let size = [1, 1, 1, 2, 4, 8, 1, 1, 2, 4, 8][usize::from(kind)];
            out.extend([tag.to_le_bytes(), kind.to_le_bytes()].concat());
            out.extend(((value.len() / size) as u32).to_le_bytes());
            let value = if tag == 273 { (place as u32).to_le_bytes().to_vec() } else { value };
            if value.len() <= 4 {
                out.extend(value.iter().chain(&[0; 4]).take(4));
            } else {
                out.extend((at as u32).to_le_bytes());
                at += value.len();
                behind.extend(value);
            }
        }
        out.extend([0; 4]);
        out.extend(behind);
        out.extend(data);
        out
    }

    /// What a square of four tells, where each colour is everywhere the same.
    fn flat(w: u16, h: u16, of: impl Fn(u16, u16) -> u16) -> Vec<u8> {
        shorts(&(0..h).flat_map(|y| (0..w).map(move |x| (x, y))).map(|(x, y)| of(x, y)).collect::<Vec<_>>())
    }

    fn rgb(bytes: Vec<u8>) -> (u32, u32, Vec<[u16; 3]>) {
        let f = frame_of(&mut Cursor::new(bytes), &crate::frame::Pool::new()).unwrap();
        let at = |x, y| [0, 1, 2].map(|p: usize| f.planes[p.min(f.planes.len() - 1)].at(x, y));
        (
            f.width,
            f.height,
            (0..f.height).flat_map(|y| (0..f.width).map(move |x| (x, y))).map(|(x, y)| at(x, y)).collect(),
        )
    }

    fn near(got: &[[u16; 3]], want: [f32; 3]) -> bool {
        let want = want.map(|v| crate::still::colour::curve(v) * 65_535.0);
        got.iter().all(|p| p.iter().zip(want).all(|(g, w)| (f32::from(*g) - w).abs() < 150.0))
    }

    /// Red 0.2, green 0.4, blue 0.1 of a thousand steps.
    fn patch(pattern: [u16; 4], x: u16, y: u16) -> u16 {
        [200, 400, 100][usize::from(pattern[usize::from((y & 1) * 2 + (x & 1))])]
    }

    #[rstest]
    #[case([0, 1, 1, 2])]
    #[case([2, 1, 1, 0])]
    #[case([1, 0, 2, 1])]
    #[case([1, 2, 0, 1])]
    fn each_order_of_the_filter_gives_the_same(#[case] pattern: [u16; 4]) {
        let bytes = file(
            (10, 8),
            &flat(10, 8, |x, y| patch(pattern, x, y)),
            &[(33_422, 1, pattern.map(|p| p as u8).to_vec())],
        );
        let facts = facts_of(&mut Cursor::new(bytes.clone())).unwrap();
        assert_eq!((facts.format, facts.width, facts.height, facts.depth), ("camera raw", 10, 8, 16));
        assert!(facts.remarks[0].contains("developed by the matrices"), "{:?}", facts.remarks);
        let (w, h, all) = rgb(bytes);
        assert_eq!((w, h), (10, 8));
        assert!(near(&all, [0.2, 0.4, 0.1]), "{all:?}");
    }

    /// The filter and black are counted from the part that counts, of which the picture is a part again; then it is turned.
    #[test]
    fn margins_are_left_out_and_black_is_taken_off() {
        let black = |x: u16, y: u16| 8 + (y & 1) * 2 + (x & 1);
        let stored = |x: u16, y: u16| match (x.checked_sub(3), y.checked_sub(1)) {
            // Black of 8 to 11 below 1000, which are 989 steps from the highest of it.
            (Some(x), Some(y)) if x < 12 && y < 10 => {
                black(x, y) + (u32::from(patch([0, 1, 1, 2], x, y)) * 989 / 1000) as u16
            }
            _ => 999,
        };
        let more = [
            (274, 3, shorts(&[6])),
            (50_713, 3, shorts(&[2, 2])),
            (50_714, 3, shorts(&[8, 9, 10, 11])),
            (50_829, 3, shorts(&[1, 3, 11, 15])),
            (50_719, 3, shorts(&[1, 2])),
            (50_720, 3, shorts(&[9, 6])),
        ];
        let bytes = file((16, 12), &flat(16, 12, stored), &more);
        let facts = facts_of(&mut Cursor::new(bytes.clone())).unwrap();
        assert_eq!((facts.width, facts.height, facts.rotation), (6, 9, 90));
        let (w, h, all) = rgb(bytes);
        assert_eq!((w, h), (6, 9));
        assert!(near(&all, [0.2, 0.4, 0.1]), "{all:?}");
    }

    #[test]
    fn tables_and_narrow_samples_are_read() {
        // Twelve bits: two values in three bytes; each value stands for four times itself.
        let values: Vec<u16> = (0..64).map(|i| patch([0, 1, 1, 2], i % 8, i / 8) / 4).collect();
        let data: Vec<u8> = values
            .chunks_exact(2)
            .flat_map(|p| [(p[0] >> 4) as u8, (p[0] << 4) as u8 | (p[1] >> 8) as u8, p[1] as u8])
            .collect();
        let table: Vec<u16> = (0..256).map(|v| v * 4).collect();
        let bytes = file((8, 8), &data, &[(258, 3, shorts(&[12])), (50_712, 3, shorts(&table))]);
        let (_, _, all) = rgb(bytes);
        assert!(near(&all, [0.2, 0.4, 0.1]), "{all:?}");
    }

    #[test]
    fn a_linear_one_of_one_colour_is_gray() {
        let bytes = file((5, 3), &flat(5, 3, |_, _| 500), &[(262, 3, shorts(&[LINEAR as u16]))]);
        let facts = facts_of(&mut Cursor::new(bytes.clone())).unwrap();
        assert_eq!(facts.chroma, crate::frame::Chroma::Gray);
        assert!(near(&rgb(bytes).2, [0.5; 3]));
    }

    /// What is brighter than the sensor tells apart is white, in whatever light.
    #[test]
    fn what_is_too_bright_is_white() {
        let bytes = file((6, 6), &flat(6, 6, |_, _| 1000), &[(50_728, 5, fractions(&[400, 1000, 700]))]);
        let (_, _, all) = rgb(bytes);
        assert!(all.iter().flatten().all(|v| *v > 65_400), "{all:?}");
    }

    #[rstest]
    #[case((262, 3, shorts(&[2])), "without a picture")]
    #[case((259, 3, shorts(&[52_546])), "JPEG XL")]
    #[case((259, 3, shorts(&[34_892])), "JPEG with loss")]
    #[case((339, 3, shorts(&[3])), "floating-point")]
    #[case((33_422, 1, vec![0, 1, 2, 1]), "another filter")]
    #[case((33_421, 3, shorts(&[6, 6])), "another filter")]
    #[case((50_721, 10, fractions(&[1000; 9])), "a matrix that tells")]
    #[case((50_718, 3, shorts(&[2, 1])), "not square")]
    #[case((277, 3, shorts(&[4])), "4 colours")]
    #[case((258, 3, shorts(&[32])), "samples of 32 bits")]
    #[case((256, 4, 4_000_000_000u32.to_le_bytes().to_vec()), "pixels in all")]
    fn what_is_not_developed_says_why(#[case] entry: Entry, #[case] why: &str) {
        let bytes = file((8, 8), &flat(8, 8, |_, _| 500), &[entry]);
        let e = facts_of(&mut Cursor::new(bytes)).unwrap_err();
        assert!(e.to_string().contains(why), "{e}");
    }

    #[test]
    fn a_cut_one_is_damaged() {
        let mut bytes = file((8, 8), &flat(8, 8, |_, _| 500), &[]);
        bytes.truncate(bytes.len() - 9);
        let e = frame_of(&mut Cursor::new(bytes), &crate::frame::Pool::new()).unwrap_err();
        assert_eq!(e.class(), "damaged", "{e}");
    }
}
