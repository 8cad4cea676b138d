//! Signals made in code, for tests, benches and the sample production.

pub mod clip;
pub mod compare;
pub mod heic;
pub mod hostile;
pub mod layout;
pub mod likeness;
pub mod wrap;

pub use clip::{Clip, write_clip};

use crate::frame::{Chroma, Pool, VideoFrame};

/// Strokes of the ten digits, colon and semicolon on a grid of 3 by 5, a row a number of three bits.
const GLYPHS: [[u8; 5]; 12] = [
    [7, 5, 5, 5, 7],
    [2, 6, 2, 2, 7],
    [7, 1, 7, 4, 7],
    [7, 1, 7, 1, 7],
    [5, 5, 7, 1, 1],
    [7, 4, 7, 1, 7],
    [7, 4, 7, 5, 7],
    [7, 1, 1, 1, 1],
    [7, 5, 7, 5, 7],
    [7, 5, 7, 1, 7],
    [0, 2, 0, 2, 0],
    [0, 2, 0, 2, 4],
];

/// Writes digits, `:` and `;` in white on black, each cell `scale` pixels.
pub fn draw_digits(frame: &mut VideoFrame, x: u32, y: u32, scale: u32, text: &str) {
    let (w, h, stride) = (frame.width, frame.height, frame.planes[0].stride);
    let Some(luma) = frame.planes[0].bytes_mut() else { return };
    for (i, c) in text.chars().enumerate() {
        let glyph = match c {
            '0'..='9' => GLYPHS[c as usize - '0' as usize],
            ';' => GLYPHS[11],
            _ => GLYPHS[10],
        };
        for row in 0..7 * scale {
            for col in 0..5 * scale {
                let (gx, gy) = ((col / scale).wrapping_sub(1), (row / scale).wrapping_sub(1));
                let on = gx < 3 && gy < 5 && glyph[gy as usize] >> (2 - gx) & 1 == 1;
                let (px, py) = (x + i as u32 * 4 * scale + col, y + row);
                if px < w && py < h {
                    luma[py as usize * stride + px as usize] = if on { 235 } else { 16 };
                }
            }
        }
    }
}

/// A landscape that moves: sky over water, reeds that sway, a bird that flies across, and the timecode.
/// `t` is the frame number of `rate` frames a second.
pub fn estuary(pool: &Pool, width: u32, height: u32, t: u32, rate: u32, timecode: &str) -> VideoFrame {
    let mut frame = VideoFrame::new(pool, width, height, Chroma::C420, 8).unwrap_or_else(|e| panic!("{e}"));
    let phase = t as f32 / rate as f32;
    let horizon = height * 11 / 20;
    let bird = ((phase * 0.11).fract() * 1.2 - 0.1, 0.22 + 0.05 * (phase * 1.7).sin());
    let (bx, by) = (bird.0 * width as f32, bird.1 * height as f32);
    let wing = (phase * 9.0).sin() * height as f32 * 0.03;
    for (i, plane) in frame.planes.iter_mut().enumerate() {
        let (pw, ph, stride) = (plane.width, plane.height, plane.stride);
        let Some(bytes) = plane.bytes_mut() else { continue };
        let step = width.div_ceil(pw);
        for y in 0..ph {
            let sy = y * step;
            let row = &mut bytes[(y as usize * stride)..][..pw as usize];
            let ripple =
                (sy as f32 * 0.9 - phase * 5.0).sin() * 7.0 + (sy as f32 * 0.23 + phase * 2.0).sin() * 9.0;
            for (x, v) in row.iter_mut().enumerate() {
                let sx = x as u32 * step;
                let colour = if sy < horizon {
                    let down = sy as f32 / horizon as f32;
                    [
                        200.0 - 60.0 * (1.0 - down),
                        128.0 + 14.0 * (1.0 - down),
                        128.0 - 10.0 * (1.0 - down) + 14.0 * down,
                    ]
                } else {
                    let glint = ((sx as f32 * 0.05 + phase * 1.3).sin() * ripple).max(0.0);
                    [92.0 + ripple + glint * 3.0, 138.0, 118.0]
                };
                *v = colour[i] as u8;
            }
        }
    }
    reeds(&mut frame, phase);
    // The bird: two strokes that beat.
    let span = width as f32 * 0.045;
    let stroke = (height / 180).max(1) as i32;
    for s in -100..=100 {
        let along = s as f32 / 100.0;
        let x = bx + along * span;
        let y = by - (1.0 - along.abs()) * wing * 0.2 - along.abs() * wing;
        dot(&mut frame, x as i32, y as i32, stroke, 24);
    }
    let scale = (height / 120).max(2);
    draw_digits(&mut frame, width / 20, height - 9 * scale, scale, timecode);
    frame
}

fn reeds(frame: &mut VideoFrame, phase: f32) {
    let (w, h) = (frame.width as f32, frame.height as f32);
    let thick = (frame.height / 240).max(1) as i32;
    for i in 0..40 {
        let at = (i * 37 % 100) as f32 / 100.0 * w;
        let tall = h * (0.18 + (i * 53 % 17) as f32 / 100.0);
        let sway = (phase * 1.1 + i as f32 * 0.7).sin() * w * 0.012;
        let steps = tall as i32;
        for s in 0..steps {
            let up = s as f32 / steps as f32;
            dot(
                frame,
                (at + sway * up * up) as i32,
                (h - s as f32) as i32 - 1,
                thick,
                48 + (i as u8 % 5) * 6,
            );
        }
    }
}

fn dot(frame: &mut VideoFrame, x: i32, y: i32, size: i32, value: u8) {
    let (w, h, stride) = (frame.width as i32, frame.height as i32, frame.planes[0].stride);
    let Some(luma) = frame.planes[0].bytes_mut() else { return };
    for dy in 0..size {
        for dx in 0..size {
            let (px, py) = (x + dx, y + dy);
            if (0..w).contains(&px) && (0..h).contains(&py) {
                luma[py as usize * stride + px as usize] = value;
            }
        }
    }
}

/// Peak signal to noise ratio of two 8-bit planes' common area, in dB.
pub fn psnr(a: &VideoFrame, b: &VideoFrame) -> f64 {
    let (pa, pb) = (&a.planes[0], &b.planes[0]);
    let (w, h) = (pa.width.min(pb.width), pa.height.min(pb.height));
    let mut sum = 0u64;
    for y in 0..h {
        for x in 0..w {
            let d = i64::from(pa.at(x, y)) - i64::from(pb.at(x, y));
            sum += (d * d) as u64;
        }
    }
    if sum == 0 {
        return f64::INFINITY;
    }
    let mean = sum as f64 / (f64::from(w) * f64::from(h));
    10.0 * (255.0 * 255.0 / mean).log10()
}

/// Sound of the marsh: wind as filtered noise, and a chirp each second. Deterministic.
pub fn marsh_sound(rate: u32, channels: u16, seconds: f32) -> Vec<f32> {
    let n = (seconds * rate as f32) as usize;
    let mut seed = 0x2545_f491u32;
    let mut wind = 0.0f32;
    let mut out = Vec::with_capacity(n * usize::from(channels));
    for i in 0..n {
        seed ^= seed << 13;
        seed ^= seed >> 17;
        seed ^= seed << 5;
        let noise = seed as f32 / u32::MAX as f32 * 2.0 - 1.0;
        wind += (noise - wind) * 0.02;
        let t = i as f32 / rate as f32;
        let within = t.fract();
        let chirp = if within < 0.12 {
            let envelope = (within / 0.12 * std::f32::consts::PI).sin();
            ((2600.0 + 4000.0 * within) * within * std::f32::consts::TAU).sin() * envelope * 0.25
        } else {
            0.0
        };
        for c in 0..channels {
            let side = if c % 2 == 0 { 1.0 } else { 0.6 };
            out.push(wind * 0.6 + chirp * side);
        }
    }
    out
}
