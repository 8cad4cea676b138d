//! Luma and colour difference of one matrix as those of another (ITU-T H.273, table 4), of which one follows from the other
//! by numbers alone: gray stays, and what is added to luma, and both differences, follow from the differences.

use super::wide::{self, Machine, Work};
use crate::frame::{Plane, Samples};

/// Bits of fraction.
const FRACTION: u32 = 12;

/// What luma gets of both differences, and each of them of both.
#[derive(Clone, Copy, Debug)]
pub struct Between {
    luma: [i32; 2],
    first: [i32; 2],
    second: [i32; 2],
}

impl Between {
    /// From what becomes of luma and the differences, where a difference of one and nothing is `change`d.
    pub fn of(change: impl Fn([f32; 3]) -> [f32; 3]) -> Between {
        let none = change([0.0; 3]);
        let [first, second] = [[0.0, 1.0, 0.0], [0.0, 0.0, 1.0]].map(&change);
        let of = |part: usize| {
            [first, second].map(|v| ((v[part] - none[part]) * (1 << FRACTION) as f32).round() as i32)
        };
        Between { luma: of(0), first: of(1), second: of(2) }
    }

    /// One picture's planes as another's; `across` and `down` are samples of luma for one of the differences.
    pub fn run(&self, from: &[Plane], to: &mut [Plane], depth: u8, (across, down): (usize, usize)) {
        let [y, cb, cr] = from else { return };
        let [to_y, to_cb, to_cr] = to else { return };
        let one = |samples: &Samples| matches!(samples, Samples::U8(_));
        // All of a picture have one kind of samples.
        if one(&y.samples) {
            let planes = [y, cb, cr].map(|p| p.bytes().unwrap_or_default());
            let strides = [y, cb, cr].map(|p| p.stride);
            let size = [(y.width, y.height), (cb.width, cb.height)].map(|(w, h)| (w as usize, h as usize));
            let to_strides = [to_y.stride, to_cb.stride, to_cr.stride];
            let outs = [to_y, to_cb, to_cr].map(|p| p.bytes_mut().unwrap_or_default());
            let (by, steps) = (*self, (across, down));
            wide::run(Planes { by, planes, strides, size, outs, to_strides, depth, steps });
        } else {
            let planes = [y, cb, cr].map(|p| p.words().unwrap_or_default());
            let strides = [y, cb, cr].map(|p| p.stride);
            let size = [(y.width, y.height), (cb.width, cb.height)].map(|(w, h)| (w as usize, h as usize));
            let to_strides = [to_y.stride, to_cb.stride, to_cr.stride];
            let outs = [to_y, to_cb, to_cr].map(|p| match &mut p.samples {
                Samples::U16(w) => &mut w[..],
                Samples::U8(_) => &mut [],
            });
            let (by, steps) = (*self, (across, down));
            wide::run(Planes { by, planes, strides, size, outs, to_strides, depth, steps });
        }
    }
}

struct Planes<'a, T> {
    by: Between,
    planes: [&'a [T]; 3],
    strides: [usize; 3],
    /// Of luma, and of the differences.
    size: [(usize, usize); 2],
    outs: [&'a mut [T]; 3],
    to_strides: [usize; 3],
    depth: u8,
    steps: (usize, usize),
}

impl<T: Copy + Into<i32> + TryFrom<i32> + Default> Work for Planes<'_, T> {
    #[inline(always)]
    fn work(self, _: impl Machine) {
        let Planes { by, planes, strides, size, outs, to_strides, depth, steps: (across, down) } = self;
        let [out_y, out_b, out_r] = outs;
        let (top, middle) = ((1i32 << depth) - 1, 1i32 << (depth - 1));
        let ((w, h), (cw, ch)) = (size[0], size[1]);
        let half = 1i32 << (FRACTION - 1);
        // Negative numbers are rounded down by the shift, and half is added before: to the nearest.
        let mixed = |[a, b]: [i32; 2], cb: i32, cr: i32| (a * cb + b * cr + half) >> FRACTION;
        let code = |v: i32| T::try_from(v.clamp(0, top)).unwrap_or_default();
        let mut more = vec![0i32; cw];
        for c in 0..ch {
            let cb = &planes[1][c * strides[1]..][..cw];
            let cr = &planes[2][c * strides[2]..][..cw];
            let (to_b, to_r) = (&mut out_b[c * to_strides[1]..][..cw], &mut out_r[c * to_strides[2]..][..cw]);
            for i in 0..cw {
                let (b, r) = (cb[i].into() - middle, cr[i].into() - middle);
                more[i] = mixed(by.luma, b, r);
                to_b[i] = code(middle + mixed(by.first, b, r));
                to_r[i] = code(middle + mixed(by.second, b, r));
            }
            for y in c * down..((c + 1) * down).min(h) {
                let from = &planes[0][y * strides[0]..][..w];
                let to = &mut out_y[y * to_strides[0]..][..w];
                if across == 2 {
                    let pairs = from.chunks_exact(2).zip(to.chunks_exact_mut(2)).zip(&more);
                    for ((from, to), more) in pairs {
                        to[0] = code(from[0].into() + more);
                        to[1] = code(from[1].into() + more);
                    }
                    if w % 2 == 1 {
                        to[w - 1] = code(from[w - 1].into() + more[cw - 1]);
                    }
                } else {
                    for ((from, to), more) in from.iter().zip(to).zip(&more) {
                        *to = code((*from).into() + more);
                    }
                }
            }
        }
    }
}
