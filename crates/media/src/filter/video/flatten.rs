//! Pictures that can be seen through, made solid.

use crate::error::Result;
use crate::frame::{Chroma, Plane, Pool, Samples, VideoFrame};

/// Over a ground of red, green and blue; without one the colours are as they are. Others than [`Chroma::Rgba`] stay.
pub fn flatten(f: &VideoFrame, ground: Option<[u8; 3]>, pool: &Pool) -> Result<VideoFrame> {
    let chroma = if f.chroma == Chroma::Rgba { Chroma::Rgb } else { f.chroma };
    let mut out = VideoFrame::new(pool, f.width, f.height, chroma, f.depth)?;
    out.describe_like(f);
    let top = (1u32 << f.depth) - 1;
    let cover = f.planes.get(3).filter(|_| f.chroma == Chroma::Rgba);
    for (n, (from, to)) in f.planes.iter().zip(&mut out.planes).enumerate() {
        let behind = ground.map(|g| (u32::from(g[n.min(2)]) * top + 127) / 255);
        let (w, stride) = (from.width as usize, to.stride);
        for y in 0..from.height as usize {
            let line = y * stride..y * stride + w;
            let seen = cover.zip(behind);
            match (&from.samples, &mut to.samples) {
                (Samples::U8(a), Samples::U8(b)) => {
                    let a = &a[y * from.stride..][..w];
                    match seen.and_then(|(c, g)| Some((c.bytes()?, c.stride, g))) {
                        Some((c, stride, g)) => mix(a, &c[y * stride..][..w], g, top, &mut b[line]),
                        None => b[line].copy_from_slice(a),
                    }
                }
                (Samples::U16(a), Samples::U16(b)) => {
                    let a = &a[y * from.stride..][..w];
                    match seen.and_then(|(c, g)| Some((c.words()?, c.stride, g))) {
                        Some((c, stride, g)) => mix(a, &c[y * stride..][..w], g, top, &mut b[line]),
                        None => b[line].copy_from_slice(a),
                    }
                }
                _ => (),
            }
        }
    }
    Ok(out)
}

fn mix<T: Copy + Into<u32> + TryFrom<u32>>(from: &[T], cover: &[T], behind: u32, top: u32, to: &mut [T]) {
    for ((to, v), c) in to.iter_mut().zip(from).zip(cover) {
        let (v, c) = (u64::from((*v).into()), u64::from((*c).into().min(top)));
        let top = u64::from(top);
        let mixed = (v * c + u64::from(behind) * (top - c) + top / 2) / top;
        if let Ok(v) = T::try_from(mixed as u32) {
            *to = v;
        }
    }
}

/// Colours multiplied by their coverage, or divided by it again: what is scaled in between takes nothing of colours that are not
/// seen.
pub fn premultiply(f: &mut VideoFrame, back: bool) {
    let top = (1u64 << f.depth) - 1;
    let Some((cover, colours)) = f.planes.split_last_mut() else { return };
    let cover: &Plane = cover;
    for p in colours {
        for y in 0..p.height {
            for x in 0..p.width {
                let (v, c) = (u64::from(p.at(x, y)), u64::from(cover.at(x, y)));
                let v = match (back, c) {
                    (false, _) => (v * c + top / 2) / top,
                    (true, 0) => 0,
                    (true, c) => ((v * top + c / 2) / c).min(top),
                };
                p.put(x as usize, y as usize, v as u16);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn frame(depth: u8, values: [u16; 4]) -> VideoFrame {
        let mut f = VideoFrame::new(&Pool::new(), 5, 3, Chroma::Rgba, depth).unwrap();
        for (p, v) in f.planes.iter_mut().zip(values) {
            (0..3).for_each(|y| (0..5).for_each(|x| p.put(x, y, v << (depth - 8))));
        }
        f
    }

    #[rstest]
    #[case(Some([0, 0, 0]), [100, 50, 10])]
    #[case(Some([255, 100, 0]), [228, 100, 10])]
    #[case(None, [200, 100, 20])]
    fn what_is_behind_is_seen(
        #[case] ground: Option<[u8; 3]>,
        #[case] want: [i32; 3],
        #[values(8, 10, 16)] depth: u8,
    ) {
        let out = flatten(&frame(depth, [200, 100, 20, 128]), ground, &Pool::new()).unwrap();
        assert_eq!(out.chroma, Chroma::Rgb);
        for (p, want) in out.planes.iter().zip(want) {
            let got = i32::from(p.at(4, 2)) >> (depth - 8);
            assert!((got - want).abs() <= 1, "{got}, not {want}");
        }
    }

    #[rstest]
    fn what_is_multiplied_is_divided_again(#[values(8, 12)] depth: u8) {
        let mut f = frame(depth, [200, 100, 20, 128]);
        premultiply(&mut f, false);
        assert!((i32::from(f.planes[0].at(1, 1)) - (100 << (depth - 8))).abs() <= 2 << (depth - 8));
        premultiply(&mut f, true);
        for (p, want) in f.planes.iter().zip([200, 100, 20, 128]) {
            assert!((i32::from(p.at(2, 2)) - (want << (depth - 8))).abs() <= 1 << (depth - 8));
        }
    }
}
