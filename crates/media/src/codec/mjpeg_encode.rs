//! Motion JPEG: every picture a JPEG of its own (ITU-T T.81, baseline), 4:2:2. The arithmetic is jpeg-encoder's.

use super::{Coded, EncodeVideo, PictureForm};
use crate::error::{Error, Result};
use crate::frame::{Chroma, VideoFrame};
use crate::recipe::{BitRecipe, Plain};
use jpeg_encoder::{Encoder as Jpeg, ImageBuffer, JpegColorType, SamplingFactor};

pub struct Encoder {
    size: (u32, u32),
    quality: u8,
}

/// JPEG's quality of 1 to 100 for a quantiser on H.264's scale: 18 is 90, as good as the eye asks for.
fn quality(quantiser: u8) -> u8 {
    (100.0 - (f64::from(quantiser) - 10.0) * 1.25).round().clamp(1.0, 100.0) as u8
}

impl Encoder {
    pub fn new(form: &PictureForm, rate: BitRecipe) -> Result<Encoder> {
        let Plain::Quantiser(q) = rate.plain() else {
            return Err(Error::setting("bitrate", "a quantiser: every picture stands by itself"));
        };
        if form.width > u32::from(u16::MAX) || form.height > u32::from(u16::MAX) {
            return Err(Error::setting("video size", "sides up to 65535 for JPEG"));
        }
        Ok(Encoder { size: (form.width, form.height), quality: quality(q) })
    }
}

/// A picture of 4:2:2 as the library asks for it: chroma twice, of which it takes the mean again.
struct Rows<'a>(&'a VideoFrame);

impl ImageBuffer for Rows<'_> {
    fn get_jpeg_color_type(&self) -> JpegColorType {
        JpegColorType::Ycbcr
    }

    fn width(&self) -> u16 {
        self.0.width as u16
    }

    fn height(&self) -> u16 {
        self.0.height as u16
    }

    fn fill_buffers(&self, y: u16, buffers: &mut [Vec<u8>; 4]) {
        let w = self.0.width as usize;
        for (i, to) in buffers.iter_mut().enumerate().take(3) {
            let plane = &self.0.planes[i];
            let Some(bytes) = plane.bytes() else { continue };
            let at = usize::from(y) * plane.stride;
            let row = &bytes[at..at + plane.width as usize];
            if i == 0 {
                to.extend_from_slice(row);
            } else {
                to.extend(row.iter().flat_map(|v| [*v, *v]).take(w));
            }
        }
    }
}

impl EncodeVideo for Encoder {
    fn encode(&mut self, f: &VideoFrame, pts: i64, duration: i64, out: &mut Vec<Coded>) -> Result<()> {
        if (f.width, f.height, f.chroma, f.depth) != (self.size.0, self.size.1, Chroma::C422, 8) {
            return Err(Error::unsupported("Motion JPEG", "a picture of another form than was planned"));
        }
        let mut data = Vec::new();
        let mut jpeg = Jpeg::new(&mut data, self.quality);
        jpeg.set_sampling_factor(SamplingFactor::R_4_2_2);
        jpeg.encode_image(Rows(f)).map_err(|e| Error::limit("Motion JPEG", e.to_string()))?;
        out.push(Coded::new(pts, duration, true, data));
        Ok(())
    }

    fn flush(&mut self, _out: &mut Vec<Coded>) -> Result<()> {
        Ok(())
    }

    fn setup(&self) -> Vec<u8> {
        Vec::new()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::mjpeg::{Decoder, chroma};
    use crate::codec::single::OnePicture;
    use crate::frame::Pool;
    use crate::track::VideoTrack;
    use crate::units::Ratio;
    use rstest::rstest;

    #[rstest]
    fn a_picture_comes_back_nearly(#[values((64, 48), (66, 50))] size: (u32, u32)) {
        let (w, h) = size;
        let mut f = VideoFrame::new(&Pool::new(), w, h, Chroma::C422, 8).unwrap();
        for (n, p) in f.planes.iter_mut().enumerate() {
            let (pw, ph) = (p.width, p.height);
            for (y, x) in (0..ph).flat_map(|y| (0..pw).map(move |x| (y, x))) {
                p.put(x as usize, y as usize, (40 + 60 * n as u32 + x + y) as u16);
            }
        }
        let form =
            PictureForm { chroma: Chroma::C422, ..PictureForm::plain(w, h, Ratio { num: 25, den: 1 }) };
        let mut out = Vec::new();
        Encoder::new(&form, BitRecipe::Quantiser(10)).unwrap().encode(&f, 0, 1, &mut out).unwrap();
        assert_eq!(chroma(&out[0].data), Some((Chroma::C422, w as u16, h as u16)));
        let back = Decoder::new(&VideoTrack::sized(w, h), Pool::new()).picture(&out[0].data).unwrap();
        for (p, q) in f.planes.iter().zip(&back.planes) {
            assert!((0..p.height).all(|y| (0..p.width).all(|x| p.at(x, y).abs_diff(q.at(x, y)) <= 3)));
        }
        assert!(Encoder::new(&form, BitRecipe::Average(9)).is_err());
    }
}
