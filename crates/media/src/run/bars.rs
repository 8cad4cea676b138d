//! Black bars: what of the pictures is never anything but black at its sides.

use super::Control;
use crate::codec;
use crate::container::Demux;
use crate::error::{Error, Result};
use crate::filter::video::Rect;
use crate::frame::{Chroma, Plane, Pool, VideoFrame};
use crate::read::{Got, Reader};

/// Moments that are looked at, spread over the source.
const LOOKS: u32 = 12;
/// Parts of the range above black that are black still, for the mean of a line and for its brightest.
const MEAN: f64 = 0.02;
const BRIGHTEST: f64 = 0.10;
/// Bars that leave less than this of a side are no bars.
const LEAST: f64 = 0.3;
/// Seconds that are looked at of a source that has to be decoded from its beginning.
const DECODED: f64 = 30.0;

/// The part of the pictures inside black bars, if there are any.
pub fn bars(open: &mut dyn FnMut() -> Result<Box<dyn Demux>>, control: &Control) -> Result<Option<Rect>> {
    let mut seen: Option<(u32, u32, u32, u32)> = None;
    let mut size = (0, 0);
    for n in 0..LOOKS {
        if control.stopping() {
            return Err(Error::Stopped);
        }
        let mut demux = open()?;
        let Some(track) = demux.tracks().iter().position(|t| t.video().is_some()) else { return Ok(None) };
        let (seconds, scale) = (demux.tracks()[track].duration.seconds(), demux.tracks()[track].timescale);
        let part = (f64::from(n) + 0.5) / f64::from(LOOKS);
        // What cannot be decoded has no bars: whoever wants its pictures is told why they are not made.
        if codec::why_not(&demux.tracks()[track]).is_some() {
            return Ok(None);
        }
        let mut reader = Reader::new(demux.as_mut(), &[track], &Pool::new())?;
        // Where a container cannot be gone into, all that lies before is decoded: its beginning has to do.
        let long = if reader.begin_at(seconds * part)? { seconds } else { seconds.min(DECODED) };
        let at = long * part;
        while let Some(got) = reader.next_one()? {
            let Got::Picture { frame, .. } = got else { continue };
            if (frame.pts as f64) < at * f64::from(scale) - 1.0 && n > 0 {
                continue;
            }
            size = (frame.width, frame.height);
            // A picture that is black all over says nothing.
            if let Some((l, t, r, b)) = inside(&frame) {
                seen = Some(seen.map_or((l, t, r, b), |s| (s.0.min(l), s.1.min(t), s.2.max(r), s.3.max(b))));
            }
            break;
        }
    }
    let Some((l, t, r, b)) = seen else { return Ok(None) };
    // Even, inwards: no black line stays.
    let (l, t, r, b) = (l.next_multiple_of(2), t.next_multiple_of(2), r & !1, b & !1);
    let enough = |len: u32, of: u32| f64::from(len) >= f64::from(of) * LEAST;
    let some = l > 0 || t > 0 || size.0 - r > 1 || size.1 - b > 1;
    let good = r > l && b > t && enough(r - l, size.0) && enough(b - t, size.1);
    Ok((some && good).then(|| Rect { x: l, y: t, width: r - l, height: b - t }))
}

/// Left, top, and behind right and bottom of what is not black.
fn inside(f: &VideoFrame) -> Option<(u32, u32, u32, u32)> {
    // Green is enough of red, green and blue.
    let rgb = matches!(f.chroma, Chroma::Rgb | Chroma::Rgba);
    let plane = &f.planes[if rgb { 1 } else { 0 }];
    let most = f64::from((1u32 << f.depth) - 1);
    let black = if rgb || f.colour.full_range { 0.0 } else { 16.0 * f64::from(1u32 << (f.depth - 8)) };
    let (mean, brightest) = (black + most * MEAN, black + most * BRIGHTEST);
    let is_black = |values: &mut dyn Iterator<Item = u16>| {
        let (mut sum, mut count, mut top) = (0u64, 0u64, 0u16);
        values.for_each(|v| {
            sum += u64::from(v);
            count += 1;
            top = top.max(v);
        });
        sum as f64 / count.max(1) as f64 <= mean && f64::from(top) <= brightest
    };
    let (w, h) = (plane.width, plane.height);
    let row = |p: &Plane, y: u32| is_black(&mut (0..w).map(|x| p.at(x, y)));
    let top = (0..h).find(|y| !row(plane, *y))?;
    let bottom = (0..h).rev().find(|y| !row(plane, *y))? + 1;
    let column = |x: u32| is_black(&mut (top..bottom).map(|y| plane.at(x, y)));
    let left = (0..w).find(|x| !column(*x))?;
    let right = (0..w).rev().find(|x| !column(*x))? + 1;
    Some((left, top, right, bottom))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    fn what_is_not_black_is_found(
        #[values(Chroma::C420, Chroma::Rgb)] chroma: Chroma,
        #[values(8, 10)] depth: u8,
        #[values((0, 0, 64, 48), (8, 0, 56, 48), (0, 6, 64, 40))] part: (u32, u32, u32, u32),
    ) {
        let mut f = VideoFrame::new(&Pool::new(), 64, 48, chroma, depth).unwrap();
        let one = 1u16 << (depth - 8);
        let black = if chroma == Chroma::Rgb { 0 } else { 16 * one };
        for p in &mut f.planes {
            (0..p.height as usize).for_each(|y| (0..p.width as usize).for_each(|x| p.put(x, y, black + one)));
        }
        assert_eq!(inside(&f), None);
        for (y, x) in (part.1..part.3).flat_map(|y| (part.0..part.2).map(move |x| (y, x))) {
            f.planes[1].put(
                x as usize / if chroma == Chroma::C420 { 2 } else { 1 },
                y as usize / if chroma == Chroma::C420 { 2 } else { 1 },
                120 * one,
            );
            f.planes[0].put(x as usize, y as usize, 90 * one);
        }
        assert_eq!(inside(&f), Some(part));
    }
}
