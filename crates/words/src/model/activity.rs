//! Is someone speaking? A small network that is asked every 32 ms (MODEL.md, "Voice activity detector").

use super::tensors::Tensors;
use crate::error::Result;
use crate::math::{dot, sigmoid, tanh};

/// Samples a question is about.
pub const CHUNK: usize = 512;
const CONTEXT: usize = 64;
const STATE: usize = 128;

struct Conv {
    weight: Vec<f32>,
    bias: Vec<f32>,
    inner: usize,
    stride: usize,
}

pub struct Activity {
    basis: Vec<f32>,
    convs: Vec<Conv>,
    input: Vec<f32>,
    hidden: Vec<f32>,
    bias: Vec<f32>,
    out: Vec<f32>,
    out_bias: f32,
}

/// What the network remembers of one recording.
pub struct Memory {
    context: [f32; CONTEXT],
    h: [f32; STATE],
    c: [f32; STATE],
}

impl Default for Memory {
    fn default() -> Self {
        Memory { context: [0.0; CONTEXT], h: [0.0; STATE], c: [0.0; STATE] }
    }
}

impl Activity {
    pub fn load(t: &Tensors) -> Result<Activity> {
        let f = |name: &str, shape: &[usize]| t.floats(&format!("vad.{name}"), shape);
        let conv = |(n, inner, outer, stride): (usize, usize, usize, usize)| {
            // Taps beside each other become channels beside each other: a step is then one run of values.
            let w = f(&format!("conv{n}.weight"), &[outer, inner, 3])?;
            let weight = (0..w.len())
                .map(|i| w[i / (3 * inner) * 3 * inner + i % inner * 3 + i / inner % 3])
                .collect();
            Ok(Conv { weight, bias: f(&format!("conv{n}.bias"), &[outer])?, inner, stride })
        };
        let mut bias = f("lstm.bias_ih", &[4 * STATE])?;
        super::add(&mut bias, &f("lstm.bias_hh", &[4 * STATE])?);
        Ok(Activity {
            basis: f("stft.basis", &[258, 256])?,
            convs: [(0, 129, 128, 1), (1, 128, 64, 2), (2, 64, 64, 2), (3, 64, 128, 1)]
                .map(conv)
                .into_iter()
                .collect::<Result<_>>()?,
            input: f("lstm.weight_ih", &[4 * STATE, STATE])?,
            hidden: f("lstm.weight_hh", &[4 * STATE, STATE])?,
            bias,
            out: f("out.weight", &[STATE])?,
            out_bias: f("out.bias", &[1])?[0],
        })
    }

    /// How likely it is that someone speaks in this chunk.
    pub fn hear(&self, memory: &mut Memory, chunk: &[f32; CHUNK]) -> f32 {
        const PAD: usize = 64;
        let mut x = [0.0; CONTEXT + CHUNK + PAD];
        x[..CONTEXT].copy_from_slice(&memory.context);
        x[CONTEXT..CONTEXT + CHUNK].copy_from_slice(chunk);
        for i in 0..PAD {
            x[CONTEXT + CHUNK + i] = x[CONTEXT + CHUNK - 2 - i];
        }
        memory.context.copy_from_slice(&chunk[CHUNK - CONTEXT..]);
        // Rows are moments, with a row of zeros before and behind for the taps.
        let mut rows = vec![0.0; 129 * 6];
        for t in 0..4 {
            let part = &x[t * 128..][..256];
            for f in 0..129 {
                let (re, im) = (
                    dot(&self.basis[f * 256..][..256], part),
                    dot(&self.basis[(f + 129) * 256..][..256], part),
                );
                rows[(t + 1) * 129 + f] = (re * re + im * im).sqrt();
            }
        }
        for conv in &self.convs {
            let moments = rows.len() / conv.inner - 2;
            let outer = conv.bias.len();
            let after = (moments - 1) / conv.stride + 1;
            let mut next = vec![0.0; outer * (after + 2)];
            for t in 0..after {
                let part = &rows[t * conv.stride * conv.inner..][..3 * conv.inner];
                for (o, b) in conv.bias.iter().enumerate() {
                    let v = dot(&conv.weight[o * 3 * conv.inner..][..3 * conv.inner], part) + b;
                    next[(t + 1) * outer + o] = v.max(0.0);
                }
            }
            rows = next;
        }
        let seen = &rows[STATE..2 * STATE];
        let gate = |n: usize, i: usize, h: &[f32]| {
            let row = n * STATE + i;
            let at = row * STATE..(row + 1) * STATE;
            dot(&self.input[at.clone()], seen) + dot(&self.hidden[at], h) + self.bias[row]
        };
        let h = memory.h;
        for i in 0..STATE {
            memory.c[i] =
                sigmoid(gate(1, i, &h)) * memory.c[i] + sigmoid(gate(0, i, &h)) * tanh(gate(2, i, &h));
            memory.h[i] = sigmoid(gate(3, i, &h)) * tanh(memory.c[i]);
        }
        let heard: f32 = memory.h.iter().zip(&self.out).map(|(h, w)| h.max(0.0) * w).sum();
        sigmoid(heard + self.out_bias)
    }
}
