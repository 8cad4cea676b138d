//! How alike two pictures or two sounds are, whatever their format.

use crate::frame::{Chroma, VideoFrame};

/// Luma in 0 to 1 of any frame: from its own plane, or from red, green and blue with the weights of BT.601.
fn luma(f: &VideoFrame, x: u32, y: u32) -> f64 {
    let most = f64::from((1u32 << f.depth) - 1);
    let at = |p: usize| f64::from(f.planes[p].at(x, y)) / most;
    match f.chroma {
        Chroma::Rgb | Chroma::Rgba => 0.299 * at(0) + 0.587 * at(1) + 0.114 * at(2),
        _ if f.colour.full_range => at(0),
        _ => (at(0) - 16.0 / 255.0) * 255.0 / 219.0,
    }
}

/// Peak signal to noise ratio of the luma, in dB.
pub fn luma_difference(a: &VideoFrame, b: &VideoFrame) -> f64 {
    assert_eq!((a.width, a.height), (b.width, b.height));
    let mut sum = 0.0;
    for y in 0..a.height {
        for x in 0..a.width {
            let d = luma(a, x, y) - luma(b, x, y);
            sum += d * d;
        }
    }
    -10.0 * (sum / (f64::from(a.width) * f64::from(a.height))).max(1e-12).log10()
}

/// How many seconds the second sound is late, and the correlation of both then. Sounds of different rates are
/// compared at the lower one's grid, between which is drawn straight.
pub fn alignment(a: &(u32, Vec<f32>), b: &(u32, Vec<f32>)) -> (f64, f64) {
    let rate = 8000.0;
    let resampled = |s: &(u32, Vec<f32>)| -> Vec<f64> {
        let step = f64::from(s.0) / rate;
        // A running mean keeps what is above the grid's band out.
        let wide = (step.ceil() as usize).max(1);
        let n = (s.1.len() as f64 / step) as usize;
        (0..n.saturating_sub(2))
            .map(|i| {
                let from = (i as f64 * step) as usize;
                let part = &s.1[from..(from + wide).min(s.1.len())];
                part.iter().map(|&v| f64::from(v)).sum::<f64>() / part.len() as f64
            })
            .collect()
    };
    let (x, y) = (resampled(a), resampled(b));
    let n = x.len().min(y.len()).min(120_000) as i64;
    let like = |shift: i64, step: usize| {
        let (mut xy, mut xx, mut yy) = (0.0, 0.0, 0.0);
        for i in (1000..n - 1000).step_by(step) {
            let (p, q) = (x[i as usize], y[(i + shift) as usize]);
            (xy, xx, yy) = (xy + p * q, xx + p * p, yy + q * q);
        }
        xy / (xx * yy).sqrt().max(1e-12)
    };
    let best = (-900..=900).map(|s| (s, like(s, 7))).max_by(|p, q| p.1.total_cmp(&q.1)).map_or(0, |b| b.0);
    (best as f64 / rate, like(best, 1))
}
