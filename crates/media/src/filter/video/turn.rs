//! Pictures turned by quarters.

use crate::error::{Error, Result};
use crate::frame::{Chroma, Plane, Pool, Samples, VideoFrame};
use crate::units::Ratio;

/// Turned clockwise by 0, 90, 180 or 270 degrees. 4:2:2 that is turned by a quarter becomes 4:4:4: its chroma would lie the
/// other way, which no layout has.
pub fn turn(f: &VideoFrame, by: u16, pool: &Pool) -> Result<VideoFrame> {
    let quarter = match by {
        0 | 180 => false,
        90 | 270 => true,
        _ => return Err(Error::setting("turn", format!("{by} degrees; 0, 90, 180 or 270 can be made"))),
    };
    let (w, h) = if quarter { (f.height, f.width) } else { (f.width, f.height) };
    let chroma = if quarter && f.chroma == Chroma::C422 { Chroma::C444 } else { f.chroma };
    let mut out = VideoFrame::new(pool, w, h, chroma, f.depth)?;
    out.describe_like(f);
    if quarter {
        let p = f.pixel_shape;
        out.pixel_shape = Ratio::new(p.den.into(), p.num.into()).unwrap_or(Ratio::ONE);
    }
    for (i, (from, to)) in f.planes.iter().zip(&mut out.planes).enumerate() {
        // Chroma of half width, shown for each of its two columns.
        let across = if chroma != f.chroma && (1..3).contains(&i) { 2 } else { 1 };
        let Plane { width, height, stride, samples } = to;
        let size = (*width as usize, *height as usize, *stride);
        match (&from.samples, samples) {
            (Samples::U8(a), Samples::U8(b)) => plane(a, from, across, by, b, size),
            (Samples::U16(a), Samples::U16(b)) => plane(a, from, across, by, b, size),
            _ => (),
        }
    }
    Ok(out)
}

fn plane<T: Copy>(
    from: &[T],
    about: &Plane,
    across: usize,
    by: u16,
    to: &mut [T],
    (w, h, stride): (usize, usize, usize),
) {
    let (fw, fh) = (about.width as usize, about.height as usize);
    let at = |x: usize, y: usize| from[y.min(fh - 1) * about.stride + (x / across).min(fw - 1)];
    for y in 0..h {
        for (x, t) in to[y * stride..y * stride + w].iter_mut().enumerate() {
            *t = match by {
                90 => at(y, (fh - 1).saturating_sub(x)),
                180 => at((fw - 1).saturating_sub(x), (fh - 1).saturating_sub(y)),
                270 => at((fw * across - 1).saturating_sub(y), x),
                _ => at(x, y),
            };
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(90, (3, 0))]
    #[case(180, (5, 3))]
    #[case(270, (0, 5))]
    fn the_upper_left_goes_where_it_must(
        #[case] by: u16,
        #[case] want: (u32, u32),
        #[values(8, 12)] depth: u8,
        #[values(Chroma::C420, Chroma::C422, Chroma::C444, Chroma::Rgba, Chroma::Gray)] chroma: Chroma,
    ) {
        let pool = Pool::new();
        let mut f = VideoFrame::new(&pool, 6, 4, chroma, depth).unwrap();
        for p in &mut f.planes {
            (0..p.height as usize).for_each(|y| (0..p.width as usize).for_each(|x| p.put(x, y, 20)));
            p.put(0, 0, 200);
        }
        let out = turn(&f, by, &pool).unwrap();
        assert_eq!((out.width, out.height), if by == 180 { (6, 4) } else { (4, 6) });
        assert_eq!(out.planes[0].at(want.0, want.1), 200);
        // And back.
        let back = turn(&out, 360 - by, &pool).unwrap();
        for (p, q) in f.planes.iter().zip(&back.planes).take(if chroma == Chroma::C422 { 1 } else { 4 }) {
            assert!(p == q);
        }
    }
}
