//! Pictures that can be seen through: red, green and blue of 12-bit 4:4:4 or 10-bit 4:2:2 (H.273, 8.3), with their coverage.

use crate::error::Result;
use crate::filter::video::frame::weights;
use crate::frame::{Chroma, Pool, Samples, VideoFrame};

/// Row by row without gaps.
pub struct Coverage {
    pub samples: Vec<u16>,
    /// Of a sample.
    pub bits: u32,
}

pub fn joined(f: &VideoFrame, coverage: &Coverage, pool: &Pool) -> Result<VideoFrame> {
    let mut out = VideoFrame::new(pool, f.width, f.height, Chroma::Rgba, f.depth)?;
    out.describe_like(f);
    out.colour = f.colour.of_rgb();
    let (kr, kb) = weights(f.colour.matrix);
    let (kr, kb) = (kr as f32, kb as f32);
    let green = 1.0 - kr - kb;
    let (unit, most) = ((1u32 << (f.depth - 8)) as f32, ((1u32 << f.depth) - 1) as f32);
    let (red, blue) = (2.0 * (1.0 - kr), 2.0 * (1.0 - kb));
    let narrow = usize::from(f.chroma == Chroma::C422);
    let from: Vec<_> = f.planes.iter().filter_map(|p| Some((p.words()?, p.stride))).collect();
    let wide = (1u32 << coverage.bits) - 1;
    let full = (1u32 << f.depth) - 1;
    let width = f.width as usize;
    let strides: Vec<usize> = out.planes.iter().map(|p| p.stride).collect();
    let mut to = out.planes.iter_mut().filter_map(|p| match &mut p.samples {
        Samples::U16(w) => Some(w),
        Samples::U8(_) => None,
    });
    let (Some(r), Some(g), Some(b), Some(a)) = (to.next(), to.next(), to.next(), to.next()) else {
        return Ok(out);
    };
    for line in 0..f.height as usize {
        for x in 0..width {
            let at = |n: usize, x: usize| f32::from(from[n].0[line * from[n].1 + x]);
            let y = (at(0, x) - 16.0 * unit) / (219.0 * unit);
            let middle = 128.0 * unit;
            let cb = (at(1, x >> narrow) - middle) / (224.0 * unit);
            let cr = (at(2, x >> narrow) - middle) / (224.0 * unit);
            let put = |v: f32| (v * most + 0.5).clamp(0.0, most) as u16;
            let place = |n: usize| line * strides[n] + x;
            r[place(0)] = put(y + red * cr);
            g[place(1)] = put(y - (red * kr * cr + blue * kb * cb) / green);
            b[place(2)] = put(y + blue * cb);
            let covered = u32::from(coverage.samples[line * width + x]);
            a[place(3)] =
                ((u64::from(covered) * u64::from(full) + u64::from(wide) / 2) / u64::from(wide)) as u16;
        }
    }
    Ok(out)
}
