//! Any number of channels as one that can be understood. A plain mean would make a voice in one of sixteen channels
//! faint, and two channels of opposite polarity cancel; so each channel counts by how loud it is, and is turned
//! over where it opposes the loudest.

/// Parts of a second that share their weights.
const BLOCKS: u32 = 10;
/// How much of what was known of a channel stays from block to block.
const KEPT: f32 = 0.8;

pub struct Mixer {
    channels: usize,
    block: usize,
    waiting: Vec<f32>,
    power: Vec<f32>,
    /// With the loudest channel.
    together: Vec<f32>,
    weights: Vec<f32>,
}

impl Mixer {
    pub fn new(rate: u32, channels: u16) -> Self {
        let channels = usize::from(channels.max(1));
        Mixer {
            channels,
            block: (rate / BLOCKS).max(1) as usize,
            waiting: Vec::new(),
            power: vec![0.0; channels],
            together: vec![0.0; channels],
            weights: vec![1.0 / channels as f32; channels],
        }
    }

    /// Interleaved samples in, those of whole blocks out.
    pub fn push(&mut self, samples: &[f32], out: &mut Vec<f32>) {
        if self.channels == 1 {
            out.extend_from_slice(samples);
            return;
        }
        self.waiting.extend_from_slice(samples);
        let size = self.block * self.channels;
        let whole = self.waiting.len() / size * size;
        let waiting = std::mem::take(&mut self.waiting);
        for block in waiting[..whole].chunks_exact(size) {
            self.mix(block, out);
        }
        self.waiting = waiting[whole..].to_vec();
    }

    pub fn finish(&mut self, out: &mut Vec<f32>) {
        let rest = std::mem::take(&mut self.waiting);
        if !rest.is_empty() {
            self.mix(&rest, out);
        }
    }

    fn mix(&mut self, block: &[f32], out: &mut Vec<f32>) {
        let n = self.channels;
        let frames = block.len() / n;
        if frames == 0 {
            return;
        }
        let power =
            |c: usize, d: usize| block.chunks_exact(n).map(|f| f[c] * f[d]).sum::<f32>() / frames as f32;
        let first = self.power.iter().all(|&p| p == 0.0);
        let kept = if first { 0.0 } else { KEPT };
        for c in 0..n {
            self.power[c] = kept * self.power[c] + (1.0 - kept) * power(c, c);
        }
        let loudest = (0..n).max_by(|&a, &b| self.power[a].total_cmp(&self.power[b])).unwrap_or(0);
        for c in 0..n {
            self.together[c] = kept * self.together[c] + (1.0 - kept) * power(c, loudest);
        }
        let sum: f32 = self.power.iter().map(|p| p.sqrt()).sum();
        let wanted: Vec<f32> = (0..n)
            .map(|c| {
                let opposed = self.together[c] < -0.5 * (self.power[c] * self.power[loudest]).sqrt();
                let share = if sum > 0.0 { self.power[c].sqrt() / sum } else { 1.0 / n as f32 };
                if opposed && self.power[c] > 0.0 { -share } else { share }
            })
            .collect();
        if first {
            self.weights.clone_from(&wanted);
        }
        // From the old weights to the new, without a step.
        for (i, frame) in block.chunks_exact(n).enumerate() {
            let t = (i + 1) as f32 / frames as f32;
            let value =
                frame.iter().zip(self.weights.iter().zip(&wanted)).map(|(v, (a, b))| v * (a + (b - a) * t));
            out.push(value.sum());
        }
        self.weights = wanted;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn wave(i: usize) -> f32 {
        (i as f32 * 0.05).sin() * 0.5
    }

    /// Each case gives the channels of a frame for one value; the voice must come out near its own level.
    #[rstest]
    #[case(2, |v: f32, c: usize| if c == 0 { v } else { 0.0 })]
    #[case(2, |v: f32, c: usize| if c == 0 { v } else { -v })]
    #[case(2, |v: f32, _: usize| v)]
    #[case(16, |v: f32, c: usize| if c == 9 { v } else { 0.0 })]
    #[case(1, |v: f32, _: usize| v)]
    fn the_voice_stays_as_loud_as_it_was(#[case] channels: u16, #[case] put: fn(f32, usize) -> f32) {
        let mut m = Mixer::new(1000, channels);
        let mut out = Vec::new();
        let all: Vec<f32> =
            (0..1050).flat_map(|i| (0..usize::from(channels)).map(move |c| put(wave(i), c))).collect();
        for part in all.chunks(37 * usize::from(channels)) {
            m.push(part, &mut out);
        }
        m.finish(&mut out);
        assert_eq!(out.len(), 1050);
        let power = |x: &[f32]| x.iter().map(|v| v * v).sum::<f32>();
        let want: Vec<f32> = (0..1050).map(wave).collect();
        let ratio = power(&out) / power(&want);
        assert!((0.9..1.1).contains(&ratio), "{ratio}");
    }

    #[test]
    fn silence_stays_silence() {
        let mut out = Vec::new();
        let mut m = Mixer::new(100, 3);
        m.push(&[0.0; 300], &mut out);
        assert!(out.len() == 100 && out.iter().all(|&v| v == 0.0));
    }
}
