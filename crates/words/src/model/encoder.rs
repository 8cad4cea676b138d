//! Sound to frames: three convolutions and eight layers of attention (MODEL.md, "encode").

use super::tensors::{Tensors, Weights};
use super::{HEAD, HEADS, HIDDEN, LAYERS, LEAST, WIDTH, add, add_bias, rotate};
use crate::error::Result;
use crate::math::{Columns, Rows, gelu, layer_norm, product, softmax, tanh_all};

struct Layer {
    attention_norm: Vec<f32>,
    q: Weights,
    k: Weights,
    v: Weights,
    out: Weights,
    mlp_norm: Vec<f32>,
    fc1: Weights,
    fc1_bias: Vec<f32>,
    fc2: Weights,
    fc2_bias: Vec<f32>,
}

pub struct Encoder {
    conv1: Weights,
    group_weight: Vec<f32>,
    group_bias: Vec<f32>,
    conv2: Weights,
    conv2_bias: Vec<f32>,
    conv3: Weights,
    conv3_bias: Vec<f32>,
    layers: Vec<Layer>,
    norm: Vec<f32>,
}

/// Rows of attention that are worked on together.
const ROWS: usize = 64;

impl Encoder {
    pub fn load(t: &Tensors) -> Result<Encoder> {
        let f = |name: &str, shape: &[usize]| t.floats(&format!("encoder.{name}"), shape);
        let w = |name: &str, shape: &[usize]| t.weights(&format!("encoder.{name}.weight"), shape);
        let layer = |n: usize| {
            let f = |name: &str, size| f(&format!("layers.{n}.{name}"), &[size]);
            let w = |name: &str, out, inner| w(&format!("layers.{n}.{name}"), &[out, inner]);
            Ok(Layer {
                attention_norm: f("self_attn_norm.weight", WIDTH)?,
                q: w("self_attn.q_proj", WIDTH, WIDTH)?,
                k: w("self_attn.k_proj", WIDTH, WIDTH)?,
                v: w("self_attn.v_proj", WIDTH, WIDTH)?,
                out: w("self_attn.out_proj", WIDTH, WIDTH)?,
                mlp_norm: f("mlp_norm.weight", WIDTH)?,
                fc1: w("mlp.fc1", HIDDEN, WIDTH)?,
                fc1_bias: f("mlp.fc1.bias", HIDDEN)?,
                fc2: w("mlp.fc2", WIDTH, HIDDEN)?,
                fc2_bias: f("mlp.fc2.bias", WIDTH)?,
            })
        };
        Ok(Encoder {
            conv1: w("conv1", &[WIDTH, 1, 127])?,
            group_weight: f("groupnorm.weight", &[WIDTH])?,
            group_bias: f("groupnorm.bias", &[WIDTH])?,
            conv2: w("conv2", &[2 * WIDTH, WIDTH, 7])?,
            conv2_bias: f("conv2.bias", &[2 * WIDTH])?,
            conv3: w("conv3", &[WIDTH, 2 * WIDTH, 3])?,
            conv3_bias: f("conv3.bias", &[WIDTH])?,
            layers: (0..LAYERS).map(layer).collect::<Result<_>>()?,
            norm: f("norm.weight", &[WIDTH])?,
        })
    }

    /// Frames of this many samples; 0 if they are too few for one.
    pub fn frames(samples: usize) -> usize {
        if samples < LEAST { 0 } else { (((samples - 127) / 64 + 1 - 7) / 3 + 1 - 3) / 2 + 1 }
    }

    /// Rows of `WIDTH` values, one a frame. Empty where there are fewer samples than one frame needs.
    pub fn encode(&self, t: &Tensors, sound: &[f32]) -> Vec<f32> {
        let frames = Self::frames(sound.len());
        if frames == 0 {
            return Vec::new();
        }
        let mut x = self.front(t, sound, frames);
        let mut h = vec![0.0; x.len()];
        let mut part = vec![0.0; x.len()];
        for layer in &self.layers {
            layer_norm(&x, &layer.attention_norm, &mut h);
            let line = |w: &Weights, from: &[f32], to: &mut [f32]| linear(t, w, from, WIDTH, WIDTH, to);
            let (mut q, mut k, mut v) = (vec![0.0; x.len()], vec![0.0; x.len()], vec![0.0; x.len()]);
            line(&layer.q, &h, &mut q);
            line(&layer.k, &h, &mut k);
            line(&layer.v, &h, &mut v);
            for rows in [&mut q, &mut k] {
                rows.chunks_exact_mut(WIDTH).enumerate().for_each(|(i, r)| rotate(r, i));
            }
            attention(&q, &k, &v, frames, &mut h);
            line(&layer.out, &h, &mut part);
            add(&mut x, &part);
            layer_norm(&x, &layer.mlp_norm, &mut h);
            drop((q, k, v));
            let mut inner = vec![0.0; frames * HIDDEN];
            linear(t, &layer.fc1, &h, WIDTH, HIDDEN, &mut inner);
            add_bias(&mut inner, &layer.fc1_bias);
            gelu(&mut inner);
            linear(t, &layer.fc2, &inner, HIDDEN, WIDTH, &mut part);
            add_bias(&mut part, &layer.fc2_bias);
            add(&mut x, &part);
        }
        layer_norm(&x, &self.norm, &mut h);
        h
    }

    /// The convolutions: each output row is a product with a run of input rows.
    fn front(&self, t: &Tensors, sound: &[f32], frames: usize) -> Vec<f32> {
        let n1 = (sound.len() - 127) / 64 + 1;
        let mut x = vec![0.0; n1 * WIDTH];
        let rows = Rows { data: sound, stride: 64, count: n1 };
        let taps = |w: &Weights, channels| Taps { w: w.clone(), channels };
        product(rows, taps(&self.conv1, 1).columns(t), 127, WIDTH, &mut x, WIDTH);
        tanh_all(&mut x);
        self.group_norm(&mut x);
        let n2 = (n1 - 7) / 3 + 1;
        let mut y = vec![0.0; n2 * 2 * WIDTH];
        let rows = Rows { data: &x, stride: 3 * WIDTH, count: n2 };
        product(rows, taps(&self.conv2, WIDTH).columns(t), 7 * WIDTH, 2 * WIDTH, &mut y, 2 * WIDTH);
        add_bias(&mut y, &self.conv2_bias);
        gelu(&mut y);
        let mut z = vec![0.0; frames * WIDTH];
        let rows = Rows { data: &y, stride: 4 * WIDTH, count: frames };
        product(rows, taps(&self.conv3, 2 * WIDTH).columns(t), 6 * WIDTH, WIDTH, &mut z, WIDTH);
        add_bias(&mut z, &self.conv3_bias);
        gelu(&mut z);
        z
    }

    /// One group: mean and variance over all channels and all time.
    fn group_norm(&self, x: &mut [f32]) {
        let n = x.len() as f64;
        let mean = x.iter().map(|&v| f64::from(v)).sum::<f64>() / n;
        let variance = x.iter().map(|&v| (f64::from(v) - mean).powi(2)).sum::<f64>() / n;
        let share = 1.0 / (variance + 1e-5).sqrt();
        for row in x.chunks_exact_mut(WIDTH) {
            for ((v, w), b) in row.iter_mut().zip(&self.group_weight).zip(&self.group_bias) {
                *v = ((f64::from(*v) - mean) * share) as f32 * w + b;
            }
        }
    }
}

struct Taps {
    w: Weights,
    channels: usize,
}
impl Taps {
    fn columns<'a>(&self, t: &'a Tensors) -> Columns<'a> {
        Columns::Taps {
            q: t.values(&self.w),
            channels: self.channels,
            scale: self.w.scale,
            zero: self.w.zero,
        }
    }
}

/// Rows of `inner` values times the weights: rows of `n`.
pub fn linear(t: &Tensors, w: &Weights, from: &[f32], inner: usize, n: usize, to: &mut [f32]) {
    let rows = Rows { data: from, stride: inner, count: from.len() / inner };
    let columns = Columns::Bytes { q: t.values(w), scale: w.scale, zero: w.zero };
    product(rows, columns, inner, n, to, n);
}

/// Every frame looks at all others; head by head, some rows at a time.
fn attention(q: &[f32], k: &[f32], v: &[f32], frames: usize, out: &mut [f32]) {
    let scale = 1.0 / (HEAD as f32).sqrt();
    let mut scores = vec![0.0; ROWS * frames];
    for head in 0..HEADS {
        let at = head * HEAD;
        for r in (0..frames).step_by(ROWS) {
            let count = ROWS.min(frames - r);
            let rows = Rows { data: &q[r * WIDTH + at..], stride: WIDTH, count };
            product(
                rows,
                Columns::Floats { data: &k[at..], stride: WIDTH },
                HEAD,
                frames,
                &mut scores,
                frames,
            );
            scores[..count * frames].chunks_exact_mut(frames).for_each(|row| softmax(row, scale));
            let rows = Rows { data: &scores, stride: frames, count };
            let columns = Columns::Across { data: &v[at..], stride: WIDTH };
            product(rows, columns, frames, HEAD, &mut out[r * WIDTH + at..], WIDTH);
        }
    }
}
