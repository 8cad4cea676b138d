//! Writing WebP with loss (RFC 9649): one VP8 key picture (RFC 6386) in a RIFF file, or several as a moving picture. It is read
//! by the image crate.

use crate::codec::vpx;
use crate::container::Source;
use crate::error::{Error, Result};
use crate::frame::{Chroma, Pool, VideoFrame};
use std::io::{Seek, SeekFrom, Write};

/// Sides of a VP8 picture are told in 14 bits.
const MOST_SIDE: u32 = (1 << 14) - 1;

/// The file ends before its RIFF chunk does.
pub fn is_cut(source: &mut dyn Source) -> Result<bool> {
    let all = source.seek(SeekFrom::End(0))?;
    let mut head = [0; 8];
    source.seek(SeekFrom::Start(0))?;
    Ok(source.read_exact(&mut head).is_err()
        || crate::bits::le32(&head, 4).is_some_and(|n| all < u64::from(n) + 8))
}

/// Red, green and blue of 8 bits as one file.
pub fn write(rgb: &[u8], size: (u32, u32), quality: u8, out: &mut dyn Write) -> Result<()> {
    let picture = coded(rgb, size, quality)?;
    out.write_all(b"RIFF")?;
    out.write_all(&(4 + picture.len() as u32).to_le_bytes())?;
    out.write_all(b"WEBP")?;
    Ok(out.write_all(&picture)?)
}

/// A picture as a chunk.
fn coded(rgb: &[u8], (w, h): (u32, u32), quality: u8) -> Result<Vec<u8>> {
    if w > MOST_SIDE || h > MOST_SIDE {
        return Err(Error::limit("WebP", format!("{w}x{h}; a side has up to {MOST_SIDE} points")));
    }
    let frame = as_601(rgb, (w, h))?;
    Ok(chunk(b"VP8 ", &vpx::still(&frame, quantiser(quality))?))
}

fn chunk(name: &[u8; 4], data: &[u8]) -> Vec<u8> {
    let mut out = name.to_vec();
    out.extend((data.len() as u32).to_le_bytes());
    out.extend(data);
    // Chunks begin at even places (2.3).
    out.extend(std::iter::repeat_n(0, data.len() % 2));
    out
}

/// VP8's quantiser of 0 to 63 for qualities of 1 to 100.
fn quantiser(quality: u8) -> u32 {
    (100 - u32::from(quality.clamp(1, 100))) * 63 / 99
}

/// What the format has: the limited range and the matrix of ITU-R BT.601 (RFC 6386, 9.2), each colour difference the mean of its
/// four pixels.
fn as_601(rgb: &[u8], (w, h): (u32, u32)) -> Result<VideoFrame> {
    let mut f = VideoFrame::new(&Pool::new(), w, h, Chroma::C420, 8)?;
    let (width, height) = (w as usize, h as usize);
    let pixel = |x: usize, y: usize| -> [i32; 3] {
        let at = (y * width + x) * 3;
        [0, 1, 2].map(|c| i32::from(rgb.get(at + c).copied().unwrap_or(0)))
    };
    let mixed = |[r, g, b]: [i32; 3], by: [i32; 3], base: i32| -> u16 {
        ((by[0] * r + by[1] * g + by[2] * b + (base << 16) + (1 << 15)) >> 16) as u16
    };
    for y in 0..height {
        for x in 0..width {
            f.planes[0].put(x, y, mixed(pixel(x, y), [16_829, 33_039, 6_416], 16));
        }
    }
    for y in 0..height.div_ceil(2) {
        for x in 0..width.div_ceil(2) {
            // At the end of an odd side the last one counts twice.
            let across = [2 * x, (2 * x + 1).min(width - 1)];
            let down = [2 * y, (2 * y + 1).min(height - 1)];
            let four = down.iter().flat_map(|y| across.iter().map(|x| pixel(*x, *y)));
            let sum = four.fold([0; 3], |s, p| [s[0] + p[0], s[1] + p[1], s[2] + p[2]]);
            let mean = sum.map(|v| (v + 2) >> 2);
            f.planes[1].put(x, y, mixed(mean, [-9_714, -19_071, 28_784], 128));
            f.planes[2].put(x, y, mixed(mean, [28_784, -24_103, -4_681], 128));
        }
    }
    Ok(f)
}

/// Pictures of one size, one after the other, again and again.
pub struct Moving<W> {
    out: W,
    size: (u32, u32),
    quality: u8,
    /// Bytes behind the first eight.
    written: u64,
}

impl<W: Write + Seek> Moving<W> {
    pub fn new(mut out: W, size: (u32, u32), quality: u8) -> Result<Self> {
        vpx::no_still()?;
        // 2.7: it moves; the size, less one.
        let mut about = vec![0b10, 0, 0, 0];
        about.extend(three(size.0 - 1));
        about.extend(three(size.1 - 1));
        // 2.7.1.1: what is behind it, and that it has no end.
        let moves = chunk(b"ANIM", &[0, 0, 0, 0, 0, 0]);
        let head = [b"WEBP".as_slice(), &chunk(b"VP8X", &about), &moves].concat();
        out.write_all(b"RIFF\0\0\0\0")?;
        out.write_all(&head)?;
        Ok(Moving { out, size, quality, written: head.len() as u64 })
    }

    /// Shown for so many milliseconds.
    pub fn add(&mut self, rgb: &[u8], ms: u32) -> Result<()> {
        // 2.7.1.1: where it lies, its size less one, how long; nothing of what was before is seen.
        let mut frame = [0u8; 6].to_vec();
        frame.extend(three(self.size.0 - 1));
        frame.extend(three(self.size.1 - 1));
        frame.extend(three(ms));
        frame.push(0b10);
        frame.extend(coded(rgb, self.size, self.quality)?);
        let chunk = chunk(b"ANMF", &frame);
        self.written += chunk.len() as u64;
        if self.written > u64::from(u32::MAX) {
            return Err(Error::limit("WebP", "more than 4 GB"));
        }
        Ok(self.out.write_all(&chunk)?)
    }

    pub fn finish(mut self) -> Result<()> {
        self.out.seek(SeekFrom::Start(4))?;
        self.out.write_all(&(self.written as u32).to_le_bytes())?;
        self.out.seek(SeekFrom::End(0))?;
        Ok(self.out.flush()?)
    }
}

fn three(v: u32) -> [u8; 3] {
    let [a, b, c, _] = v.to_le_bytes();
    [a, b, c]
}

#[cfg(all(test, vpx))]
mod tests {
    use super::*;
    use image::AnimationDecoder;
    use image::codecs::webp::WebPDecoder;
    use rstest::rstest;
    use std::io::Cursor;

    fn picture((w, h): (u32, u32), n: u32) -> Vec<u8> {
        let pixel = move |x: u32, y: u32| [(x * 3 + n * 40) as u8, (y * 4) as u8, 90];
        (0..h).flat_map(|y| (0..w).flat_map(move |x| pixel(x, y))).collect()
    }

    fn near(got: &[u8], want: &[u8], most: f64) {
        assert_eq!(got.len(), want.len());
        let sum: f64 = got.iter().zip(want).map(|(a, b)| (f64::from(*a) - f64::from(*b)).powi(2)).sum();
        let off = (sum / got.len() as f64).sqrt();
        assert!(off < most, "{off:.2} off");
    }

    /// Another's reader finds the picture, of any size, and lower qualities are smaller.
    #[rstest]
    fn a_picture_is_read_back(#[values((64, 48), (33, 17), (1, 1))] size: (u32, u32)) {
        let rgb = picture(size, 0);
        let mut before = usize::MAX;
        for (quality, most) in [(100, 4.0), (60, 9.0), (5, 30.0)] {
            let mut out = Vec::new();
            write(&rgb, size, quality, &mut out).unwrap();
            let back = image::load_from_memory_with_format(&out, image::ImageFormat::WebP).unwrap().to_rgb8();
            assert_eq!(back.dimensions(), size);
            near(back.as_raw(), &rgb, most);
            assert!(out.len() <= before);
            before = out.len();
        }
    }

    #[test]
    fn moving_pictures_are_read_back() {
        let size = (40, 26);
        let mut out = Cursor::new(Vec::new());
        let mut moving = Moving::new(&mut out, size, 90).unwrap();
        (0..3).for_each(|n| moving.add(&picture(size, n), 100 + n * 20).unwrap());
        moving.finish().unwrap();
        let bytes = out.into_inner();
        assert_eq!(u32::from_le_bytes(bytes[4..8].try_into().unwrap()) as usize, bytes.len() - 8);
        let frames = WebPDecoder::new(Cursor::new(bytes)).unwrap().into_frames().collect_frames().unwrap();
        assert_eq!(frames.len(), 3);
        for (n, f) in frames.into_iter().enumerate() {
            assert_eq!(f.delay().numer_denom_ms(), (100 + n as u32 * 20, 1));
            let rgb: Vec<u8> = f.buffer().pixels().flat_map(|p| [p[0], p[1], p[2]]).collect();
            near(&rgb, &picture(size, n as u32), 8.0);
        }
    }

    #[test]
    fn what_is_too_wide_is_refused() {
        let e = write(&vec![0; 20_000 * 3], (20_000, 1), 80, &mut Vec::new()).unwrap_err();
        assert!(e.to_string().contains("16383"), "{e}");
    }
}
