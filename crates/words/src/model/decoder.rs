//! Frames to tokens, one step at a time (MODEL.md, "step"). Several recordings can take their steps together: the
//! weights are then brought from memory once for all.

use super::tensors::{Tensors, Weights};
use super::{HEAD, HEADS, HIDDEN, LAYERS, TOKENS, WIDTH, add, add_bias, encoder, rotate};
use crate::error::Result;
use crate::math::{across, dot, layer_norm, sigmoid, softmax, times};

struct Layer {
    self_norm: Vec<f32>,
    q: Weights,
    k: Weights,
    v: Weights,
    out: Weights,
    cross_norm: Vec<f32>,
    cross_q: Weights,
    cross_k: Weights,
    cross_v: Weights,
    cross_out: Weights,
    mlp_norm: Vec<f32>,
    up: Weights,
    up_bias: Vec<f32>,
    down: Weights,
    down_bias: Vec<f32>,
}

pub struct Decoder {
    embed: Weights,
    layers: Vec<Layer>,
    norm: Vec<f32>,
}

/// The heads (layer, head) whose attention follows the sound: their mean gives word times.
const ALIGNED: [(usize, usize); 4] = [(0, 7), (1, 0), (5, 6), (6, 5)];

/// One recording on its way through the decoder.
pub struct Path {
    frames: usize,
    /// Of each layer, from the encoder: made once. Keys lie across: value `d` of all frames side by side.
    cross_k: Vec<Vec<f32>>,
    cross_v: Vec<Vec<f32>>,
    /// Of each layer, grown by a row each step.
    k: Vec<Vec<f32>>,
    v: Vec<Vec<f32>>,
    position: usize,
    /// For each step, how much each frame was looked at.
    pub looked: Vec<f32>,
}

impl Decoder {
    pub fn load(t: &Tensors) -> Result<Decoder> {
        let layer = |n: usize| {
            let f = |name: &str, size| t.floats(&format!("decoder.layers.{n}.{name}"), &[size]);
            let w = |name: &str, out, inner| {
                t.weights(&format!("decoder.layers.{n}.{name}.weight"), &[out, inner])
            };
            let square = |name: &str| w(name, WIDTH, WIDTH);
            Ok(Layer {
                self_norm: f("self_attn_norm.weight", WIDTH)?,
                q: square("self_attn.q_proj")?,
                k: square("self_attn.k_proj")?,
                v: square("self_attn.v_proj")?,
                out: square("self_attn.out_proj")?,
                cross_norm: f("cross_attn_norm.weight", WIDTH)?,
                cross_q: square("cross_attn.q_proj")?,
                cross_k: square("cross_attn.k_proj")?,
                cross_v: square("cross_attn.v_proj")?,
                cross_out: square("cross_attn.out_proj")?,
                mlp_norm: f("mlp_norm.weight", WIDTH)?,
                up: w("mlp.up_proj", 2 * HIDDEN, WIDTH)?,
                up_bias: f("mlp.up_proj.bias", 2 * HIDDEN)?,
                down: w("mlp.down_proj", WIDTH, HIDDEN)?,
                down_bias: f("mlp.down_proj.bias", WIDTH)?,
            })
        };
        Ok(Decoder {
            embed: t.weights("decoder.embed.weight", &[TOKENS, WIDTH])?,
            layers: (0..LAYERS).map(layer).collect::<Result<_>>()?,
            norm: t.floats("decoder.norm.weight", &[WIDTH])?,
        })
    }

    /// Begins with what the encoder gave.
    pub fn begin(&self, t: &Tensors, encoded: &[f32]) -> Path {
        let make = |w: &Weights| {
            let mut out = vec![0.0; encoded.len()];
            encoder::linear(t, w, encoded, WIDTH, WIDTH, &mut out);
            out
        };
        let frames = encoded.len() / WIDTH;
        let across = |rows: Vec<f32>| {
            let mut out = vec![0.0; rows.len()];
            for (f, row) in rows.chunks_exact(WIDTH).enumerate() {
                row.iter().enumerate().for_each(|(d, &v)| out[d * frames + f] = v);
            }
            out
        };
        Path {
            frames,
            cross_k: self.layers.iter().map(|l| across(make(&l.cross_k))).collect(),
            cross_v: self.layers.iter().map(|l| make(&l.cross_v)).collect(),
            k: vec![Vec::new(); LAYERS],
            v: vec![Vec::new(); LAYERS],
            position: 0,
            looked: Vec::new(),
        }
    }

    /// Takes one step on every path: a token each in, `TOKENS` scores each out.
    pub fn step(&self, t: &Tensors, paths: &mut [&mut Path], tokens: &[u32], scores: &mut Vec<f32>) {
        let n = paths.len();
        let line = |w: &Weights, inner: usize, from: &[f32], to: &mut [f32]| {
            times(t.values(w), w.scale, w.zero, inner, from, to);
        };
        let embed = t.values(&self.embed);
        let mut x: Vec<f32> = tokens
            .iter()
            .flat_map(|&token| &embed[token as usize % TOKENS * WIDTH..][..WIDTH])
            .map(|&q| f32::from(q) * self.embed.scale + self.embed.zero)
            .collect();
        let mut h = vec![0.0; n * WIDTH];
        let mut q = vec![0.0; n * WIDTH];
        let mut part = vec![0.0; n * WIDTH];
        let (mut up, mut gated) = (vec![0.0; n * 2 * HIDDEN], vec![0.0; n * HIDDEN]);
        let mut weights = Vec::new();
        for path in paths.iter_mut() {
            let rows = path.looked.len() + path.frames;
            path.looked.resize(rows, 0.0);
        }
        for (i, layer) in self.layers.iter().enumerate() {
            layer_norm(&x, &layer.self_norm, &mut h);
            line(&layer.q, WIDTH, &h, &mut q);
            let mut keys = vec![0.0; n * WIDTH];
            line(&layer.k, WIDTH, &h, &mut keys);
            line(&layer.v, WIDTH, &h, &mut part);
            for (b, path) in paths.iter_mut().enumerate() {
                let at = b * WIDTH..(b + 1) * WIDTH;
                rotate(&mut q[at.clone()], path.position);
                rotate(&mut keys[at.clone()], path.position);
                path.k[i].extend_from_slice(&keys[at.clone()]);
                path.v[i].extend_from_slice(&part[at.clone()]);
                let rows = path.position + 1;
                attend(
                    &q[at.clone()],
                    Keys::Rows(&path.k[i]),
                    &path.v[i],
                    rows,
                    &mut weights,
                    &mut h[at],
                    |_, _| (),
                );
            }
            line(&layer.out, WIDTH, &h, &mut part);
            add(&mut x, &part);
            layer_norm(&x, &layer.cross_norm, &mut h);
            line(&layer.cross_q, WIDTH, &h, &mut q);
            for (b, path) in paths.iter_mut().enumerate() {
                let at = b * WIDTH..(b + 1) * WIDTH;
                let from = path.looked.len() - path.frames;
                let looked = &mut path.looked[from..];
                let (keys, frames) = (Keys::Across(&path.cross_k[i]), path.frames);
                attend(
                    &q[at.clone()],
                    keys,
                    &path.cross_v[i],
                    frames,
                    &mut weights,
                    &mut h[at],
                    |head, w| {
                        if ALIGNED.contains(&(i, head)) {
                            looked.iter_mut().zip(w).for_each(|(l, w)| *l += w / ALIGNED.len() as f32);
                        }
                    },
                );
            }
            line(&layer.cross_out, WIDTH, &h, &mut part);
            add(&mut x, &part);
            layer_norm(&x, &layer.mlp_norm, &mut h);
            line(&layer.up, WIDTH, &h, &mut up);
            add_bias(&mut up, &layer.up_bias);
            for (u, g) in up.chunks_exact(2 * HIDDEN).zip(gated.chunks_exact_mut(HIDDEN)) {
                let (value, gate) = u.split_at(HIDDEN);
                for ((o, v), g) in g.iter_mut().zip(value).zip(gate) {
                    *o = v * g * sigmoid(*g);
                }
            }
            line(&layer.down, HIDDEN, &gated, &mut part);
            add_bias(&mut part, &layer.down_bias);
            add(&mut x, &part);
        }
        paths.iter_mut().for_each(|p| p.position += 1);
        layer_norm(&x, &self.norm, &mut h);
        scores.resize(n * TOKENS, 0.0);
        line(&self.embed, WIDTH, &h, scores);
    }
}

enum Keys<'a> {
    Rows(&'a [f32]),
    Across(&'a [f32]),
}

/// One row looks at the keys of some rows and takes its share of their values; `seen` is shown each head's shares.
fn attend(
    q: &[f32],
    k: Keys<'_>,
    v: &[f32],
    rows: usize,
    weights: &mut Vec<f32>,
    out: &mut [f32],
    mut seen: impl FnMut(usize, &[f32]),
) {
    let scale = 1.0 / (HEAD as f32).sqrt();
    weights.resize(rows, 0.0);
    for head in 0..HEADS {
        let at = head * HEAD..(head + 1) * HEAD;
        match k {
            Keys::Rows(k) => {
                let keys = k.chunks_exact(WIDTH).map(|k| dot(&q[at.clone()], &k[at.clone()]));
                weights.iter_mut().zip(keys).for_each(|(w, s)| *w = s);
            }
            Keys::Across(k) => across(&q[at.clone()], &k[at.start * rows..], rows, weights),
        }
        softmax(weights, scale);
        across(weights, &v[at.start..], WIDTH, &mut out[at]);
        seen(head, weights);
    }
}
