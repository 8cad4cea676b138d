//! Pictures that can be seen through, as WebM has them: two streams of the same codec, side by side in each block, of which the
//! luma of the second is the coverage, 0 to 255 (WebM Container Guidelines, "Alpha Channel"; RFC 9559, 5.1.4.1.28.4).

use super::{decode, encode};
use crate::codec::{Coded, DecodeVideo, EncodeVideo, PictureForm};
use crate::error::{Error, Result};
use crate::filter::video::flatten::flatten;
use crate::filter::video::frame::weights;
use crate::filter::video::{Converter, Wanted};
use crate::frame::{Chroma, Colour, Plane, Pool, Samples, VideoFrame};
use crate::recipe::BitRecipe;
use crate::track::{Packet, VideoTrack};

/// Both streams at once; what comes out is red, green, blue and coverage.
pub struct Decoder {
    colours: decode::Decoder,
    coverage: decode::Decoder,
    pool: Pool,
    both: [Vec<VideoFrame>; 2],
}

impl Decoder {
    pub fn new(nine: bool, track: &VideoTrack, pool: Pool) -> Result<Decoder> {
        let one = || decode::Decoder::new(nine, track, pool.clone());
        Ok(Decoder { colours: one()?, coverage: one()?, pool, both: Default::default() })
    }
}

impl DecodeVideo for Decoder {
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        let [colours, coverage] = &mut self.both;
        colours.clear();
        coverage.clear();
        // Where a picture has none beside it, all of it is solid.
        if !packet.beside.is_empty() {
            let beside = Packet { data: packet.beside.clone(), ..packet.clone() };
            // What is lost of it is told by the picture.
            let given = self.coverage.decode(&beside, coverage);
            self.coverage.take_lost();
            given
                .map_err(|_| Error::damaged("coverage", format!("that of the picture at {}", packet.pts)))?;
        }
        self.colours.decode(packet, colours)?;
        for picture in colours.drain(..) {
            out.push(joined(&picture, coverage.first(), &self.pool)?);
        }
        Ok(())
    }

    fn flush(&mut self, out: &mut Vec<VideoFrame>) -> Result<()> {
        self.colours.flush(out)
    }

    fn take_lost(&mut self) -> Vec<(i64, i64)> {
        self.colours.take_lost()
    }
}

/// A plane that is solid everywhere, or what is told of it.
fn covered(to: &mut Plane, from: Option<&VideoFrame>) {
    let luma = from.and_then(|f| f.planes.first()).filter(|p| (p.width, p.height) == (to.width, to.height));
    match luma.and_then(|p| Some((p.bytes()?, p.stride))) {
        Some((bytes, stride)) => to.fill_rows(bytes, stride),
        None => to.fill(255),
    }
}

/// Red, green and blue of 8-bit 4:2:0 (H.273, 8.3), with its coverage.
fn joined(f: &VideoFrame, coverage: Option<&VideoFrame>, pool: &Pool) -> Result<VideoFrame> {
    if (f.chroma, f.depth) != (Chroma::C420, 8) {
        return Err(Error::unsupported("", "VP9 with coverage is read in 8-bit 4:2:0"));
    }
    let mut out = VideoFrame::new(pool, f.width, f.height, Chroma::Rgba, 8)?;
    out.describe_like(f);
    out.colour = f.colour.of_rgb();
    let (kr, kb) = weights(f.colour.matrix);
    let full = f.colour.full_range;
    // In 65536ths: what a step of luma is worth, and of each difference in each colour.
    let one = |v: f64| (v * 65_536.0).round() as i32;
    let (step, wide) = if full { (1.0, 1.0) } else { (255.0 / 219.0, 255.0 / 224.0) };
    let (black, luma) = (if full { 0 } else { 16 }, one(step));
    let (red, blue) = (one(2.0 * (1.0 - kr) * wide), one(2.0 * (1.0 - kb) * wide));
    let green = 1.0 - kr - kb;
    let (green_red, green_blue) =
        (one(2.0 * (1.0 - kr) * kr / green * wide), one(2.0 * (1.0 - kb) * kb / green * wide));
    let planes: Vec<_> = f.planes.iter().filter_map(|p| Some((p.bytes()?, p.stride))).collect();
    let (width, height) = (f.width as usize, f.height as usize);
    let [r, g, b, a] = &mut out.planes[..] else { return Ok(out) };
    let strides = [r.stride, g.stride, b.stride];
    if let ([y, u, v], Samples::U8(r), Samples::U8(g), Samples::U8(b)) =
        (&planes[..], &mut r.samples, &mut g.samples, &mut b.samples)
    {
        for line in 0..height {
            let luma_row = &y.0[line * y.1..][..width];
            let half = width.div_ceil(2);
            let (u, v) = (&u.0[line / 2 * u.1..][..half], &v.0[line / 2 * v.1..][..half]);
            let r = r[line * strides[0]..][..width].chunks_mut(2);
            let g = g[line * strides[1]..][..width].chunks_mut(2);
            let b = b[line * strides[2]..][..width].chunks_mut(2);
            let byte = |v: i32| ((v + 32_768) >> 16).clamp(0, 255) as u8;
            for (((((r, g), b), y), u), v) in r.zip(g).zip(b).zip(luma_row.chunks(2)).zip(u).zip(v) {
                let (cb, cr) = (i32::from(*u) - 128, i32::from(*v) - 128);
                let (dr, dg, db) = (red * cr, -green_red * cr - green_blue * cb, blue * cb);
                for (((r, g), b), y) in r.iter_mut().zip(g).zip(b).zip(y) {
                    let y = (i32::from(*y) - black) * luma;
                    (*r, *g, *b) = (byte(y + dr), byte(y + dg), byte(y + db));
                }
            }
        }
    }
    covered(a, coverage);
    Ok(out)
}

/// Both streams; key pictures are those of both.
pub struct Encoder {
    colours: encode::Encoder,
    coverage: encode::Encoder,
    convert: Converter,
    pool: Pool,
    beside: Vec<Coded>,
}

impl Encoder {
    pub fn new(form: &PictureForm, rate: BitRecipe, key_every: u32) -> Result<Encoder> {
        let form = PictureForm { chroma: Chroma::C420, depth: 8, ..form.clone() };
        let flat = PictureForm { colour: Colour { full_range: true, ..Colour::default() }, ..form.clone() };
        let pool = Pool::new();
        Ok(Encoder {
            colours: encode::Encoder::new(&form, rate, key_every)?,
            coverage: encode::Encoder::new(&flat, rate, key_every)?,
            convert: Converter::to(Wanted::PLAIN, pool.clone()),
            pool,
            beside: Vec::new(),
        })
    }
}

impl EncodeVideo for Encoder {
    fn encode(&mut self, frame: &VideoFrame, pts: i64, duration: i64, out: &mut Vec<Coded>) -> Result<()> {
        if frame.chroma != Chroma::Rgba {
            return Err(Error::unsupported("VP9 encoder", "a picture of another form than was planned"));
        }
        let colours = self.convert.convert(&flatten(frame, None, &self.pool)?)?;
        let mut flat = VideoFrame::new(&self.pool, frame.width, frame.height, Chroma::C420, 8)?;
        let [luma, differences @ ..] = &mut flat.planes[..] else { return Ok(()) };
        match (frame.planes[3].bytes(), frame.planes[3].stride) {
            (Some(bytes), stride) => luma.fill_rows(bytes, stride),
            (None, _) => {
                for y in 0..luma.height {
                    for x in 0..luma.width {
                        luma.put(x as usize, y as usize, frame.planes[3].at(x, y) >> (frame.depth - 8));
                    }
                }
            }
        }
        differences.iter_mut().for_each(|p| p.fill(128));
        let before = out.len();
        self.colours.encode(&colours, pts, duration, out)?;
        self.beside.clear();
        // Whoever begins to read at a picture begins with both.
        let key = out[before..].iter().any(|c| c.key);
        self.coverage.encode_as(&flat, (pts, duration, key), &mut self.beside)?;
        if out.len() - before != self.beside.len() {
            return Err(Error::limit("VP9 encoder", "it gave pictures and coverage that do not go together"));
        }
        out[before..].iter_mut().zip(self.beside.drain(..)).for_each(|(c, b)| c.beside = b.data);
        Ok(())
    }

    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        // Neither holds anything back.
        self.colours.flush(out)
    }

    fn setup(&self) -> Vec<u8> {
        Vec::new()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::units::Ratio;

    fn picture(n: u16) -> VideoFrame {
        let mut f = VideoFrame::new(&Pool::new(), 64, 48, Chroma::Rgba, 8).unwrap();
        for (i, p) in f.planes.iter_mut().enumerate() {
            for y in 0..48u16 {
                for x in 0..64u16 {
                    let v = match i {
                        3 => (x * 4 + n * 8) % 256,
                        i => (40 + 50 * i as u16 + y) % 256,
                    };
                    p.put(x.into(), y.into(), v);
                }
            }
        }
        f.colour = Colour { primaries: 1, transfer: 13, matrix: 0, full_range: true };
        f
    }

    /// What is coded is read again with its coverage; a picture without one beside it is solid.
    #[test]
    fn coverage_goes_with_the_picture() {
        let colour = Wanted::PLAIN.colour_after(picture(0).colour, Chroma::Rgba);
        let form = PictureForm {
            chroma: Chroma::Rgba,
            colour,
            ..PictureForm::plain(64, 48, Ratio { num: 25, den: 1 })
        };
        let mut encoder = Encoder::new(&form, BitRecipe::Quantiser(12), 5).unwrap();
        let mut packets = Vec::new();
        (0..12).for_each(|n| encoder.encode(&picture(n), n.into(), 1, &mut packets).unwrap());
        encoder.flush(&mut packets).unwrap();
        assert_eq!(packets.len(), 12);
        assert!(packets.iter().all(|p| !p.beside.is_empty()));
        let track = VideoTrack { coverage: true, colour, ..VideoTrack::sized(64, 48) };
        // From each key picture on, both can be read.
        for first in packets.iter().enumerate().filter(|p| p.1.key).map(|p| p.0) {
            let mut decoder = Decoder::new(true, &track, Pool::new()).unwrap();
            let mut shown = Vec::new();
            for c in packets[first..].iter().cloned() {
                let p =
                    Packet { data: c.data, beside: c.beside, pts: c.pts, shown: true, ..Packet::default() };
                decoder.decode(&p, &mut shown).unwrap();
            }
            assert_eq!(shown.len(), 12 - first);
            for f in &shown {
                let want = picture(f.pts as u16);
                assert_eq!((f.chroma, f.colour.matrix, f.colour.full_range), (Chroma::Rgba, 0, true));
                for i in 0..4 {
                    let off = |x, y| f.planes[i].at(x, y).abs_diff(want.planes[i].at(x, y));
                    let sum: u32 = (0..48)
                        .flat_map(|y| (0..64).map(move |x| (x, y)))
                        .map(|(x, y)| u32::from(off(x, y)))
                        .sum();
                    assert!(sum < 64 * 48 * 4, "plane {i} of {}: {sum}", f.pts);
                }
            }
        }
        let mut decoder = Decoder::new(true, &track, Pool::new()).unwrap();
        let mut shown = Vec::new();
        let p = Packet { data: packets[0].data.clone(), shown: true, ..Packet::default() };
        decoder.decode(&p, &mut shown).unwrap();
        assert!((0..64).all(|x| shown[0].planes[3].at(x, 20) == 255));
        let broken = Packet { beside: vec![0xff; 9], ..p };
        assert_eq!(decoder.decode(&broken, &mut shown).unwrap_err().class(), "damaged");
    }
}
