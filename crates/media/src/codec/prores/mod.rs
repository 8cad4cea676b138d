//! ProRes 422 and 4444 in all their kinds (SMPTE RDD 36): every picture by itself, whole or in two fields, in slices that stand
//! by themselves. 422 gives 10 bits, 4444 12; with coverage beside it, it becomes red, green, blue and coverage.

mod cover;
mod header;
mod slice;

use super::single::OnePicture;
use crate::error::Result;
use crate::frame::{Chroma, Colour, Pool, Samples, VideoFrame};
use crate::track::{Codec, VideoTrack};
use crate::units::Ratio;
use cover::Coverage;
use header::{Frame, Slice, bad, slices};

/// Whether a codec is one of them; the raw one is another.
pub fn covers(codec: &Codec) -> bool {
    matches!(codec, Codec::Other { name: Some(name), .. } if name.starts_with("ProRes") && *name != "ProRes RAW")
}

fn depth(chroma: Chroma) -> u8 {
    if chroma == Chroma::C422 { 10 } else { 12 }
}

/// Fills in what a packet's header says.
pub fn look(packet: &[u8], v: &mut VideoTrack) {
    let Ok((f, _)) = Frame::parse(packet) else { return };
    if v.width == 0 || v.height == 0 {
        (v.width, v.height) = (f.width, f.height);
    }
    v.depth = Some(depth(f.chroma));
    v.chroma = Some(if f.coverage.is_some() { Chroma::Rgba } else { f.chroma });
    v.fields = f.fields;
    if v.colour == Colour::default() {
        v.colour = f.colour;
    }
}

pub struct Decoder {
    pool: Pool,
    colour: Colour,
    pixel_shape: Ratio,
}

impl Decoder {
    pub fn new(track: &VideoTrack, pool: Pool) -> Decoder {
        Decoder { pool, colour: track.colour, pixel_shape: track.pixel_shape }
    }
}

impl OnePicture for Decoder {
    fn picture(&mut self, data: &[u8]) -> Result<VideoFrame> {
        let (picture, coverage) = self.planes(data)?;
        match coverage {
            Some(coverage) => cover::joined(&picture, &coverage, &self.pool),
            None => Ok(picture),
        }
    }
}

impl Decoder {
    /// Luma and chroma, and coverage beside them.
    fn planes(&self, data: &[u8]) -> Result<(VideoFrame, Option<Coverage>)> {
        let (frame, mut rest) = Frame::parse(data)?;
        let depth = depth(frame.chroma);
        let mut out = VideoFrame::new(&self.pool, frame.width, frame.height, frame.chroma, depth)?;
        (out.fields, out.pixel_shape) = (frame.fields, self.pixel_shape);
        out.colour = if self.colour == Colour::default() { frame.colour } else { self.colour };
        let area = frame.width as usize * frame.height as usize;
        let mut covered = vec![0u16; if frame.coverage.is_some() { area } else { 0 }];
        for picture in 0..frame.pictures() {
            let (found, behind) = slices(&frame, picture, rest)?;
            rest = behind;
            fill(&frame, picture, &found, &mut out, &mut covered)?;
        }
        Ok((out, frame.coverage.map(|bits| Coverage { samples: covered, bits })))
    }
}

/// The lines of one row of macroblocks in each plane, from the first that its picture has there.
struct Band<'a> {
    planes: Vec<&'a mut [u16]>,
    strides: Vec<usize>,
    widths: Vec<usize>,
    coverage: &'a mut [u16],
    /// Lines from one of the picture to its next.
    step: usize,
}

impl slice::Put for Band<'_> {
    fn block(&mut self, component: usize, x: usize, y: usize, samples: &[[u16; 8]; 8]) {
        let (stride, width) = (self.strides[component], self.widths[component]);
        let many = width.saturating_sub(x).min(8);
        for (i, row) in samples.iter().enumerate() {
            let at = (y + i) * self.step * stride + x;
            let Some(to) = self.planes[component].get_mut(at..at + many) else { return };
            to.copy_from_slice(&row[..many]);
        }
    }

    fn coverage(&mut self, x: usize, y: usize, samples: &[u16]) {
        let width = self.widths[0];
        let many = width.saturating_sub(x).min(samples.len());
        let at = y * self.step * width + x;
        if let Some(to) = self.coverage.get_mut(at..at + many) {
            to.copy_from_slice(&samples[..many]);
        }
    }
}

/// All slices of a picture, rows of macroblocks side by side.
fn fill(
    frame: &Frame,
    picture: usize,
    found: &[Slice<'_>],
    out: &mut VideoFrame,
    covered: &mut [u16],
) -> Result<()> {
    let (first, step, depth) = (frame.first_line(picture), frame.pictures(), out.depth);
    let strides: Vec<usize> = out.planes.iter().map(|p| p.stride).collect();
    let widths: Vec<usize> = out.planes.iter().map(|p| p.width as usize).collect();
    let height = frame.height as usize;
    let lines = 16 * step;
    let mut rows: Vec<Band<'_>> = Vec::new();
    let mut covers = covered.chunks_mut((lines * widths[0]).max(1));
    let mut planes: Vec<_> = out
        .planes
        .iter_mut()
        .map(|p| match &mut p.samples {
            Samples::U16(w) => w[..p.stride * height].chunks_mut(lines * p.stride),
            Samples::U8(_) => [].chunks_mut(1),
        })
        .collect();
    loop {
        let mut band: Vec<&mut [u16]> = planes.iter_mut().filter_map(Iterator::next).collect();
        if band.len() != strides.len() {
            break;
        }
        for (plane, stride) in band.iter_mut().zip(&strides) {
            let whole = std::mem::take(plane);
            *plane = whole.get_mut(first * stride..).unwrap_or_default();
        }
        let coverage = covers.next().unwrap_or_default();
        let coverage = coverage.get_mut(first * widths[0]..).unwrap_or_default();
        rows.push(Band { planes: band, strides: strides.clone(), widths: widths.clone(), coverage, step });
    }
    let work = |bands: &mut [Band<'_>], from: usize| -> Result<()> {
        let rows = from..from + bands.len();
        let mut own = found.iter().filter(|s| rows.contains(&s.row));
        own.try_for_each(|s| slice::decode(frame, depth, s, &mut bands[s.row - from]))
    };
    let cores = std::thread::available_parallelism().map_or(1, usize::from).min(8);
    let each = rows.len().div_ceil(cores).max(1);
    if cores == 1 || rows.len() < 8 {
        return work(&mut rows, 0);
    }
    std::thread::scope(|scope| {
        let threads: Vec<_> = rows
            .chunks_mut(each)
            .enumerate()
            .map(|(n, bands)| scope.spawn(move || work(bands, n * each)))
            .collect();
        threads.into_iter().try_for_each(|t| t.join().unwrap_or_else(|_| Err(bad("a slice is spoilt"))))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bits::le32;
    use crate::frame::Fields;

    /// One of tools/fixtures/prores: a frame, what another decoder made of it (chroma of two columns a sample or one), and the
    /// bits of its coverage.
    struct Other<'a> {
        size: (usize, usize),
        chroma: Chroma,
        coverage: Option<u32>,
        frame: &'a [u8],
        planes: Vec<u16>,
    }

    fn others(mut all: &[u8]) -> Vec<Other<'_>> {
        let mut found = Vec::new();
        while !all.is_empty() {
            let n = |i: usize| le32(all, i * 4).unwrap() as usize;
            let (frame, planes) = all[32..32 + n(5) + n(6)].split_at(n(5));
            found.push(Other {
                size: (n(0), n(1)),
                chroma: if n(2) == 422 { Chroma::C422 } else { Chroma::C444 },
                coverage: Some(n(4) as u32).filter(|c| *c > 0),
                frame,
                planes: planes.chunks_exact(2).map(|b| u16::from_le_bytes([b[0], b[1]])).collect(),
            });
            all = &all[32 + n(5) + n(6)..];
        }
        found
    }

    fn decoder() -> Decoder {
        Decoder::new(&VideoTrack::sized(1, 1), Pool::new())
    }

    /// Where that encoder has a sample: it and its decoder count the four blocks of chroma row by row. Those who are read
    /// everywhere count them column by column.
    fn place(other: &Other<'_>, plane: usize, x: usize, y: usize) -> (usize, usize) {
        let rows = if matches!(look_at(other).fields, Fields::Progressive) { 1 } else { 2 };
        let line = y / rows;
        let swapped = plane > 0 && other.chroma == Chroma::C444 && (x / 8 + line / 8) % 2 == 1;
        let (right, low) = (x / 8 % 2, line / 8 % 2);
        if !swapped {
            return (x, y);
        }
        (x - right * 8 + low * 8, y + right * 8 * rows - low * 8 * rows)
    }

    fn look_at(other: &Other<'_>) -> Frame {
        Frame::parse(other.frame).unwrap().0
    }

    /// How far the samples of luma and chroma are off at most, and whether coverage is the same.
    fn apart(other: &Other<'_>) -> (u16, bool) {
        let (f, coverage) = decoder().planes(other.frame).unwrap();
        assert_eq!(
            (f.width as usize, f.height as usize, f.chroma),
            (other.size.0, other.size.1, other.chroma)
        );
        let mut rest = &other.planes[..];
        let mut most = 0;
        for (n, p) in f.planes.iter().enumerate() {
            let (w, h, words) = (p.width as usize, p.height as usize, p.words().unwrap());
            let (theirs, behind) = rest.split_at(w * h);
            for (x, y) in (0..h).flat_map(|y| (0..w).map(move |x| (x, y))) {
                let (u, v) = place(other, n, x, y);
                most = words[y * p.stride + x].abs_diff(theirs[v * w + u]).max(most);
            }
            rest = behind;
        }
        assert_eq!(coverage.as_ref().map(|c| c.bits), other.coverage);
        let same = coverage.is_none_or(|Coverage { samples: ours, bits }| {
            let (from, to) = (f64::from((1u32 << bits) - 1), f64::from((1u32 << f.depth) - 1));
            let near = |a: u16, b: u16| (f64::from(a) / from * to - f64::from(b)).abs() <= 1.0;
            ours.len() == rest.len() && ours.iter().zip(rest).all(|(a, b)| near(*a, *b))
        });
        (most, same)
    }

    #[test]
    fn pictures_of_another_encoder_are_what_another_decoder_makes_of_them() {
        let all = others(include_bytes!("../../../tests/fixtures/prores.frames"));
        assert_eq!(all.len(), 7);
        for (n, other) in all.iter().enumerate() {
            let (most, same) = apart(other);
            assert!(most <= 1 && same, "picture {n}: {most} off, coverage the same: {same}");
        }
    }

    /// `DICE=FILE cargo test ... -- --ignored dice`, with a file of the same form.
    #[test]
    #[ignore = "for trials by hand: it wants a file of tools/fixtures/prores"]
    fn dice_thrown_by_hand() {
        let path = std::env::var("DICE").expect("DICE names the file");
        let bytes = std::fs::read(path).unwrap();
        let all = others(&bytes);
        let far = all.iter().map(apart).fold((0, 0, 0), |(most, one, wrong), (m, same)| {
            (m.max(most), one + u32::from(m > 0), wrong + u32::from(!same))
        });
        println!(
            "{} pictures: {} off at most, {} with a difference, {} coverages wrong",
            all.len(),
            far.0,
            far.1,
            far.2
        );
        assert!(far.0 <= 1 && far.2 == 0);
    }

    #[test]
    fn what_can_be_seen_through_is_red_green_blue_and_coverage() {
        let all = others(include_bytes!("../../../tests/fixtures/prores.frames"));
        let deep = all.iter().find(|o| o.coverage == Some(16)).unwrap();
        let f = decoder().picture(deep.frame).unwrap();
        assert_eq!((f.chroma, f.depth, f.colour.matrix, f.colour.full_range), (Chroma::Rgba, 12, 0, true));
        let (w, h) = deep.size;
        let plane = |n: usize, x: usize, y: usize| f64::from(deep.planes[n * w * h + y * w + x]);
        for (x, y) in [(3, 2), (26, 11), (44, 29), (35, 20)] {
            // H.273, 8.3, with the weights of BT.709.
            let luma = (plane(0, x, y) - 256.0) / 3504.0;
            let (cb, cr) = ((plane(1, x, y) - 2048.0) / 3584.0, (plane(2, x, y) - 2048.0) / 3584.0);
            let want = [luma + 1.5748 * cr, luma - 0.187_324 * cb - 0.468_124 * cr, luma + 1.8556 * cb];
            for (n, want) in want.iter().enumerate() {
                let want = (want * 4095.0).clamp(0.0, 4095.0);
                let ours = f64::from(f.planes[n].at(x as u32, y as u32));
                assert!((ours - want).abs() < 4.0, "{n} at {x}, {y}: {ours}, not {want}");
            }
            assert!((f64::from(f.planes[3].at(x as u32, y as u32)) - plane(3, x, y)).abs() <= 1.0);
        }
    }

    #[test]
    fn spoilt_pictures_are_refused_or_decoded_and_never_end_the_program() {
        let all = others(include_bytes!("../../../tests/fixtures/prores.frames"));
        let mut noise = 7u32;
        let (mut refused, mut made) = (0, 0);
        for round in 0..700 {
            let mut bytes = all[round % all.len()].frame.to_vec();
            for _ in 0..1 + round % 4 {
                noise ^= noise << 13;
                noise ^= noise >> 17;
                noise ^= noise << 5;
                let at = noise as usize % bytes.len().min(if round % 2 == 0 { 200 } else { usize::MAX });
                bytes[at] ^= (noise >> 24) as u8 | 1;
            }
            if round % 5 == 0 {
                bytes.truncate(noise as usize % bytes.len());
            }
            match decoder().picture(&bytes) {
                Ok(_) => made += 1,
                Err(_) => refused += 1,
            }
        }
        assert!(refused > 100 && made > 50, "{refused} refused, {made} made");
    }

    #[test]
    fn the_header_says_what_the_pictures_are() {
        let all = others(include_bytes!("../../../tests/fixtures/prores.frames"));
        let seen = all.iter().map(|o| {
            let mut v = VideoTrack::sized(0, 0);
            look(o.frame, &mut v);
            (v.width, v.chroma, v.depth, v.fields)
        });
        use Fields::*;
        let want = [
            (64, Some(Chroma::C422), Some(10), Progressive),
            (100, Some(Chroma::C422), Some(10), Progressive),
            (70, Some(Chroma::C422), Some(10), TopFirst),
            (71, Some(Chroma::C422), Some(10), BottomFirst),
            (64, Some(Chroma::C444), Some(12), Progressive),
            (48, Some(Chroma::Rgba), Some(12), Progressive),
            (48, Some(Chroma::Rgba), Some(12), TopFirst),
        ];
        assert_eq!(seen.collect::<Vec<_>>(), want);
    }
}
