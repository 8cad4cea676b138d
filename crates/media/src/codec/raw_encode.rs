//! Uncompressed 10-bit 4:2:2: three samples in a word of 32 bits, in the order Cb Y Cr Y (Apple, "Uncompressed Y'CbCr Video in
//! QuickTime Files", v210). Rows are filled up to 48 pixels.

use super::{Coded, EncodeVideo, PictureForm};
use crate::error::{Error, Result};
use crate::frame::{Chroma, VideoFrame};

pub struct V210 {
    size: (u32, u32),
}

impl V210 {
    pub fn new(form: &PictureForm) -> V210 {
        V210 { size: (form.width, form.height) }
    }
}

impl EncodeVideo for V210 {
    fn encode(&mut self, f: &VideoFrame, pts: i64, duration: i64, out: &mut Vec<Coded>) -> Result<()> {
        let [Some(y), Some(cb), Some(cr)] = [0, 1, 2].map(|i| f.planes.get(i).and_then(|p| p.words())) else {
            return Err(Error::unsupported("v210", "a picture of another form than was planned"));
        };
        if (f.width, f.height, f.chroma, f.depth) != (self.size.0, self.size.1, Chroma::C422, 10) {
            return Err(Error::unsupported("v210", "a picture of another form than was planned"));
        }
        let (w, h) = (f.width as usize, f.height as usize);
        let row = w.div_ceil(48) * 128;
        let mut data = vec![0u8; row * h];
        let mut line = vec![0u16; w.div_ceil(6) * 12];
        for (n, to) in data.chunks_exact_mut(row).enumerate() {
            let at = |i: usize| n * f.planes[i].stride;
            for (x, four) in line.chunks_exact_mut(4).take(w.div_ceil(2)).enumerate() {
                let (ya, c) = (at(0) + 2 * x, at(1) + x);
                four[0] = cb[c];
                four[1] = y[ya];
                four[2] = cr[at(2) + x];
                four[3] = if 2 * x + 1 < w { y[ya + 1] } else { y[ya] };
            }
            for (word, three) in to.chunks_exact_mut(4).zip(line.chunks_exact(3)) {
                let v = u32::from(three[0]) | u32::from(three[1]) << 10 | u32::from(three[2]) << 20;
                word.copy_from_slice(&v.to_le_bytes());
            }
        }
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

/// Planes one after the other, luma first; samples of more than 8 bits in two bytes, low one first.
pub struct Planes {
    form: PictureForm,
}

impl Planes {
    pub fn new(form: &PictureForm) -> Result<Planes> {
        match form.chroma {
            Chroma::Gray | Chroma::C420 | Chroma::C422 | Chroma::C444 => Ok(Planes { form: form.clone() }),
            other => Err(Error::unsupported(
                "Y4M",
                format!("pictures of the form {other:?}: it holds luma and chroma"),
            )),
        }
    }
}

impl EncodeVideo for Planes {
    fn encode(&mut self, f: &VideoFrame, pts: i64, duration: i64, out: &mut Vec<Coded>) -> Result<()> {
        let w = &self.form;
        if (f.width, f.height, f.chroma, f.depth) != (w.width, w.height, w.chroma, w.depth) {
            return Err(Error::unsupported("Y4M", "a picture of another form than was planned"));
        }
        let mut data = Vec::new();
        for p in &f.planes {
            let (pw, ph) = (p.width as usize, p.height as usize);
            if let Some(words) = p.words() {
                let rows = words.chunks(p.stride).take(ph);
                rows.for_each(|r| r[..pw].iter().for_each(|v| data.extend(v.to_le_bytes())));
            } else if let Some(bytes) = p.bytes() {
                bytes.chunks(p.stride).take(ph).for_each(|r| data.extend_from_slice(&r[..pw]));
            }
        }
        out.push(Coded::new(pts, duration, true, data));
        Ok(())
    }

    fn flush(&mut self, _out: &mut Vec<Coded>) -> Result<()> {
        Ok(())
    }

    /// How the samples lie, as the container names it.
    fn setup(&self) -> Vec<u8> {
        let depth = match (self.form.chroma, self.form.depth) {
            (Chroma::Gray, 8) => String::new(),
            (Chroma::Gray, depth) => depth.to_string(),
            // Chroma lies at the left pixels, as in all that is coded here.
            (Chroma::C420, 8) => "mpeg2".into(),
            (_, 8) => String::new(),
            (_, depth) => format!("p{depth}"),
        };
        let chroma = match self.form.chroma {
            Chroma::Gray => "mono",
            Chroma::C420 => "420",
            Chroma::C422 => "422",
            _ => "444",
        };
        format!("{chroma}{depth}").into_bytes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::raw::Decoder;
    use crate::codec::single::OnePicture;
    use crate::frame::Pool;
    use crate::track::{Packing, RawPicture, VideoTrack};
    use crate::units::Ratio;
    use rstest::rstest;

    #[rstest]
    fn what_is_written_is_read(#[values(2, 48, 50, 1280)] w: u32) {
        let mut f = VideoFrame::new(&Pool::new(), w, 6, Chroma::C422, 10).unwrap();
        for (n, p) in f.planes.iter_mut().enumerate() {
            let (pw, ph) = (p.width, p.height);
            for (y, x) in (0..ph).flat_map(|y| (0..pw).map(move |x| (y, x))) {
                p.put(x as usize, y as usize, ((x * 7 + y * 131 + n as u32 * 400) % 1016 + 4) as u16);
            }
        }
        let form = PictureForm {
            chroma: Chroma::C422,
            depth: 10,
            ..PictureForm::plain(w, 6, Ratio { num: 25, den: 1 })
        };
        let mut out = Vec::new();
        V210::new(&form).encode(&f, 0, 1, &mut out).unwrap();
        assert_eq!(out[0].data.len() as u32, w.div_ceil(48) * 128 * 6);
        let layout = RawPicture::new(Packing::V210);
        let mut d = Decoder::new(layout, &VideoTrack::sized(w, 6), Pool::new()).unwrap();
        let back = d.picture(&out[0].data).unwrap();
        assert!(f.planes == back.planes);
    }
}
