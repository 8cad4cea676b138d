//! Motion JPEG: each packet is a JPEG picture (ITU-T T.81), or two of them where it holds two fields. One
//! picture is decoded by zune-jpeg.

use super::single::OnePicture;
use crate::error::{Error, Result, SPOILT};
use crate::frame::{Chroma, Colour, Fields, Pool, VideoFrame};
use crate::limits::MAX_PICTURE_SIDE;
use crate::track::VideoTrack;
use zune_jpeg::JpegDecoder;
use zune_jpeg::zune_core::bytestream::ZCursor;
use zune_jpeg::zune_core::colorspace::ColorSpace;
use zune_jpeg::zune_core::options::DecoderOptions;

/// JPEG's own colours: those of ITU-R BT.601 in full range (JFIF, ITU-T T.871).
const COLOUR: Colour = Colour { primaries: 2, transfer: 2, matrix: 5, full_range: true };

pub struct Decoder {
    pool: Pool,
    height: u32,
    fields: Fields,
    colour: Colour,
}

impl Decoder {
    pub fn new(track: &VideoTrack, pool: Pool) -> Self {
        let colour = if track.colour.matrix == 2 { COLOUR } else { track.colour };
        Decoder { pool, height: track.height, fields: track.fields, colour }
    }

    fn whole(&self, data: &[u8]) -> Result<VideoFrame> {
        let first = one(data, &self.pool)?;
        // Half as high as the track: the second field follows.
        let field = first.height < self.height && first.height.abs_diff(self.height / 2) <= 8;
        let second =
            data.get(2..).and_then(|d| d.windows(3).position(|w| w == [0xff, 0xd8, 0xff])).map(|i| i + 2);
        let (true, Some(at)) = (field, second.filter(|&a| a > 2)) else { return Ok(first) };
        let Some(other) = second_field(&data[at..], &self.pool) else { return Ok(first) };
        let order = if self.fields == Fields::BottomFirst { [&other, &first] } else { [&first, &other] };
        weave(order, self.height, self.fields, &self.pool)
    }
}

fn second_field(data: &[u8], pool: &Pool) -> Option<VideoFrame> {
    one(data, pool).ok()
}

/// Two fields, the upper one first, as the rows of one picture.
fn weave(fields: [&VideoFrame; 2], height: u32, order: Fields, pool: &Pool) -> Result<VideoFrame> {
    let [top, bottom] = fields;
    let height = height.min(top.height + bottom.height);
    let mut f = VideoFrame::new(pool, top.width, height, top.chroma, top.depth)?;
    f.describe_like(top);
    f.fields = if order == Fields::Progressive { Fields::TopFirst } else { order };
    for (i, plane) in f.planes.iter_mut().enumerate() {
        for y in 0..plane.height {
            let from = &fields[y as usize % 2].planes[i];
            for x in 0..plane.width {
                plane.put(x as usize, y as usize, from.at(x, (y / 2).min(from.height - 1)));
            }
        }
    }
    Ok(f)
}

/// How chroma is sampled, from the frame header (T.81, B.2.2): `None` where there is no such header, or an
/// arrangement that this program has no name for.
pub fn chroma(data: &[u8]) -> Option<(Chroma, u16, u16)> {
    let mut at = 2;
    loop {
        let &[0xff, marker] = data.get(at..at + 2)? else { return None };
        if marker == 0xff {
            at += 1;
            continue;
        }
        let len = usize::from(u16::from_be_bytes([*data.get(at + 2)?, *data.get(at + 3)?]));
        if matches!(marker, 0xc0..=0xc3 | 0xc5..=0xc7 | 0xc9..=0xcb | 0xcd..=0xcf) {
            let body = data.get(at + 4..at + 2 + len)?;
            let side = |i: usize| Some(u16::from_be_bytes([*body.get(i)?, *body.get(i + 1)?]));
            let factors = |i: usize| body.get(7 + i * 3).copied();
            let chroma = match (*body.get(5)?, factors(0)?) {
                (1, _) => Chroma::Gray,
                (3, 0x22) => Chroma::C420,
                (3, 0x21) => Chroma::C422,
                (3, 0x11) => Chroma::C444,
                _ => return None,
            };
            if chroma != Chroma::Gray && (factors(1)?, factors(2)?) != (0x11, 0x11) {
                return None;
            }
            return Some((chroma, side(3)?, side(1)?));
        }
        at += 2 + len;
    }
}

/// Fills in what a packet's frame header says.
pub fn look(packet: &[u8], v: &mut VideoTrack) {
    v.depth = Some(8);
    if let Some((chroma, w, h)) = chroma(packet) {
        v.chroma = Some(chroma);
        if v.width == 0 || v.height == 0 {
            (v.width, v.height) = (w.into(), h.into());
        } else if u32::from(h) < v.height
            && u32::from(h).abs_diff(v.height / 2) <= 8
            && v.fields == Fields::Progressive
        {
            v.fields = Fields::Interlaced;
        }
    }
    if v.colour == Colour::default() {
        v.colour = COLOUR;
    }
}

fn one(data: &[u8], pool: &Pool) -> Result<VideoFrame> {
    let bad = |_: &dyn std::fmt::Debug| Error::damaged("JPEG", SPOILT);
    let options = DecoderOptions::default()
        .set_max_width(MAX_PICTURE_SIDE as usize)
        .set_max_height(MAX_PICTURE_SIDE as usize)
        .set_strict_mode(false);
    let mut d = JpegDecoder::new_with_options(ZCursor::new(data), options);
    d.decode_headers().map_err(|e| bad(&e))?;
    let (space, sampled) = match d.input_colorspace() {
        Some(ColorSpace::Luma) => (ColorSpace::Luma, Chroma::Gray),
        Some(ColorSpace::YCbCr) => (ColorSpace::YCbCr, chroma(data).map_or(Chroma::C444, |c| c.0)),
        _ => (ColorSpace::RGB, Chroma::Rgb),
    };
    d.set_options(options.jpeg_set_out_colorspace(space));
    let (w, h) = d.dimensions().ok_or_else(|| Error::damaged("JPEG", "no frame header"))?;
    crate::frame::video::check_size("JPEG", w as u32, h as u32)?;
    let pixels = d.decode().map_err(|e| bad(&e))?;
    let mut f = VideoFrame::new(pool, w as u32, h as u32, sampled, 8)?;
    let n = sampled.planes();
    // The library gives chroma for every pixel: it is brought back to the samples that are there.
    let (sx, sy) = match sampled {
        Chroma::C420 => (2, 2),
        Chroma::C422 => (2, 1),
        _ => (1, 1),
    };
    for (c, plane) in f.planes.iter_mut().enumerate() {
        let (sx, sy) = if c == 0 { (1, 1) } else { (sx, sy) };
        let (pw, ph, stride) = (plane.width as usize, plane.height as usize, plane.stride);
        let Some(to) = plane.bytes_mut() else { continue };
        for y in 0..ph {
            for x in 0..pw {
                let mut sum = 0u32;
                let mut count = 0;
                for yy in y * sy..((y + 1) * sy).min(h) {
                    for xx in x * sx..((x + 1) * sx).min(w) {
                        sum += u32::from(pixels[(yy * w + xx) * n + c]);
                        count += 1;
                    }
                }
                to[y * stride + x] = ((sum + count / 2) / count.max(1)) as u8;
            }
        }
    }
    Ok(f)
}

impl OnePicture for Decoder {
    fn picture(&mut self, data: &[u8]) -> Result<VideoFrame> {
        let mut f = self.whole(data)?;
        f.colour = if f.chroma == Chroma::Rgb { Colour { matrix: 0, ..COLOUR } } else { self.colour };
        Ok(f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn jpeg(value: u8) -> Vec<u8> {
        let mut out = Vec::new();
        let pixels = vec![value; 32 * 16 * 3];
        image::codecs::jpeg::JpegEncoder::new_with_quality(&mut out, 95)
            .encode(&pixels, 32, 16, image::ExtendedColorType::Rgb8)
            .unwrap();
        out
    }

    #[test]
    fn two_fields_in_a_packet_become_one_picture() {
        let mut v = VideoTrack::sized(32, 32);
        let packet = [jpeg(40), jpeg(200)].concat();
        look(&packet, &mut v);
        assert_eq!(v.fields, Fields::Interlaced);
        let f = Decoder::new(&v, Pool::new()).picture(&packet).unwrap();
        let y = &f.planes[0];
        assert_eq!(f.height, 32);
        assert!(y.at(5, 10).abs_diff(40) < 3 && y.at(5, 11).abs_diff(200) < 3);
    }

    #[test]
    fn a_cut_picture_is_damaged() {
        let mut d = Decoder::new(&VideoTrack::sized(32, 16), Pool::new());
        assert_eq!(d.picture(&jpeg(90)[..40]).unwrap_err().class(), "damaged");
    }
}
