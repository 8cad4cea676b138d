//! Sound of four bits a sample: each says how far the next one is from what was expected. IMA's (Interactive Multimedia
//! Association, "Recommended Practices for Enhancing Digital Audio Compatibility", 1992, revision 3.0) as WAVE and as QuickTime
//! pack it, and Microsoft's (Multimedia Data Standards Update, 1994). Every block begins anew.

use super::DecodeAudio;
use crate::bits::{be16, le16};
use crate::error::{Error, Result};
use crate::frame::AudioFrame;
use crate::track::{Adpcm, Packet};

/// How far one step goes (section 5, table 2).
const STEPS: [i32; 89] = [
    7, 8, 9, 10, 11, 12, 13, 14, 16, 17, 19, 21, 23, 25, 28, 31, 34, 37, 41, 45, 50, 55, 60, 66, 73, 80, 88,
    97, 107, 118, 130, 143, 157, 173, 190, 209, 230, 253, 279, 307, 337, 371, 408, 449, 494, 544, 598, 658,
    724, 796, 876, 963, 1060, 1166, 1282, 1411, 1552, 1707, 1878, 2066, 2272, 2499, 2749, 3024, 3327, 3660,
    4026, 4428, 4871, 5358, 5894, 6484, 7132, 7845, 8630, 9493, 10442, 11487, 12635, 13899, 15289, 16818,
    18500, 20350, 22385, 24623, 27086, 29794, 32767,
];
const INDEX: [i32; 8] = [-1, -1, -1, -1, 2, 4, 6, 8];
/// Microsoft's: what becomes of the step, in 256ths.
const ADAPT: [i32; 16] = [230, 230, 230, 230, 307, 409, 512, 614, 768, 614, 512, 409, 307, 230, 230, 230];
/// Those that every file has, in case it does not say them.
const COEFFICIENTS: [(i32, i32); 7] =
    [(256, 0), (512, -256), (0, 0), (192, 64), (240, 0), (460, -208), (392, -232)];

/// Samples of each channel in a block.
pub fn samples(kind: Adpcm, block: u16, channels: u16) -> Option<u32> {
    let (block, channels) = (u32::from(block), u32::from(channels.max(1)));
    match kind {
        Adpcm::Ima => block.checked_sub(4 * channels).map(|b| b / (4 * channels) * 8 + 1),
        Adpcm::QuickTime => (block == 34 * channels).then_some(64),
        Adpcm::Microsoft => block.checked_sub(7 * channels).map(|b| b * 2 / channels + 2),
    }
}

pub struct Decoder {
    kind: Adpcm,
    block: u16,
    rate: u32,
    channels: u16,
    coefficients: Vec<(i32, i32)>,
}

impl Decoder {
    /// `extra`: what follows the wave format's own fields.
    pub fn new(kind: Adpcm, block: u16, extra: &[u8], rate: u32, channels: u16) -> Result<Decoder> {
        if samples(kind, block, channels).is_none_or(|n| n == 0) {
            return Err(Error::damaged("ADPCM", format!("blocks of {block} bytes for {channels} channels")));
        }
        if channels > 2 && kind == Adpcm::Microsoft {
            return Err(Error::unsupported(
                "",
                format!("Microsoft's ADPCM of {channels} channels cannot be decoded; one or two can"),
            ));
        }
        let mut coefficients = COEFFICIENTS.to_vec();
        if let Some(count) = le16(extra, 2).filter(|n| (1..=256).contains(n)) {
            let one = |n: usize| {
                Some((i32::from(le16(extra, 4 + n * 4)? as i16), i32::from(le16(extra, 6 + n * 4)? as i16)))
            };
            if let Some(all) = (0..usize::from(count)).map(one).collect() {
                coefficients = all;
            }
        }
        Ok(Decoder { kind, block, rate, channels, coefficients })
    }

    fn one(&self, b: &[u8], out: &mut Vec<f32>) -> Result<()> {
        let channels = usize::from(self.channels);
        let count = samples(self.kind, self.block, self.channels).unwrap_or(0) as usize;
        let mut planes = vec![Vec::with_capacity(count + 8); channels];
        match self.kind {
            Adpcm::Ima => {
                let mut voices = Vec::new();
                for (c, plane) in planes.iter_mut().enumerate() {
                    let head = &b[c * 4..c * 4 + 4];
                    let voice = Voice {
                        value: i32::from(i16::from_le_bytes([head[0], head[1]])),
                        index: i32::from(head[2].min(88)),
                    };
                    plane.push(voice.value);
                    voices.push(voice);
                }
                // Eight samples of each channel in turn.
                for (n, four) in b[channels * 4..].chunks_exact(4).enumerate() {
                    let c = n % channels;
                    for byte in four {
                        planes[c].push(voices[c].next(byte & 15));
                        planes[c].push(voices[c].next(byte >> 4));
                    }
                }
            }
            Adpcm::QuickTime => {
                for (plane, part) in planes.iter_mut().zip(b.chunks_exact(34)) {
                    let head = be16(part, 0).unwrap_or(0);
                    let mut voice = Voice {
                        value: i32::from((head & 0xff80) as i16),
                        index: i32::from(head & 0x7f).min(88),
                    };
                    for byte in &part[2..] {
                        plane.push(voice.next(byte & 15));
                        plane.push(voice.next(byte >> 4));
                    }
                }
            }
            Adpcm::Microsoft => {
                let word = |at: usize| i32::from(le16(b, at).unwrap_or(0) as i16);
                let mut voices = Vec::new();
                for (c, plane) in planes.iter_mut().enumerate() {
                    let Some(&(c1, c2)) = self.coefficients.get(usize::from(b[c])) else {
                        return Err(Error::damaged(
                            "ADPCM",
                            format!("a block with coefficients of number {}", b[c]),
                        ));
                    };
                    let at = |n: usize| word(channels * (1 + 2 * n) + c * 2);
                    let voice = (c1, c2, at(0), at(1), at(2));
                    plane.extend([voice.4, voice.3]);
                    voices.push(voice);
                }
                let nibbles = b[channels * 7..].iter().flat_map(|v| [v >> 4, v & 15]);
                for (n, nibble) in nibbles.enumerate() {
                    let (c1, c2, step, last, before) = &mut voices[n % channels];
                    let signed = if nibble > 7 { i32::from(nibble) - 16 } else { i32::from(nibble) };
                    // The coefficients are the file's: two products of the largest are more than a number holds.
                    let expected = (*last * *c1).saturating_add(*before * *c2) >> 8;
                    let value = (expected + signed * *step).clamp(-32_768, 32_767);
                    *step = ((*step * ADAPT[usize::from(nibble)]) >> 8).clamp(16, i32::MAX / 1024);
                    (*before, *last) = (*last, value);
                    planes[n % channels].push(value);
                }
            }
        }
        for n in 0..count {
            out.extend(planes.iter().map(|p| p.get(n).copied().unwrap_or(0) as f32 / 32_768.0));
        }
        Ok(())
    }
}

struct Voice {
    value: i32,
    index: i32,
}

impl Voice {
    fn next(&mut self, nibble: u8) -> i32 {
        let step = STEPS[self.index as usize];
        let mut by = step >> 3;
        for (bit, part) in [(4, step), (2, step >> 1), (1, step >> 2)] {
            if nibble & bit != 0 {
                by += part;
            }
        }
        self.value = (self.value + if nibble & 8 != 0 { -by } else { by }).clamp(-32_768, 32_767);
        self.index = (self.index + INDEX[usize::from(nibble & 7)]).clamp(0, 88);
        self.value
    }
}

impl DecodeAudio for Decoder {
    fn decode(&mut self, packet: &Packet) -> Result<AudioFrame> {
        let mut samples = Vec::new();
        for block in packet.data.chunks_exact(self.block.into()) {
            self.one(block, &mut samples)?;
        }
        if samples.is_empty() {
            return Err(Error::damaged(
                "ADPCM",
                format!("{} bytes that are no whole block", packet.data.len()),
            ));
        }
        Ok(AudioFrame { rate: self.rate, channels: self.channels, pts: packet.pts, samples })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Adpcm::Ima, 1024, 2, Some(1017))]
    #[case(Adpcm::Ima, 256, 1, Some(505))]
    #[case(Adpcm::QuickTime, 68, 2, Some(64))]
    #[case(Adpcm::QuickTime, 67, 2, None)]
    #[case(Adpcm::Microsoft, 1024, 2, Some(1012))]
    #[case(Adpcm::Microsoft, 6, 1, None)]
    fn blocks_have_so_many_samples(
        #[case] kind: Adpcm,
        #[case] block: u16,
        #[case] channels: u16,
        #[case] want: Option<u32>,
    ) {
        assert_eq!(samples(kind, block, channels), want);
    }

    #[test]
    fn any_block_gives_its_samples() {
        for (kind, block, channels) in
            [(Adpcm::Ima, 256, 2), (Adpcm::QuickTime, 68, 2), (Adpcm::Microsoft, 256, 2)]
        {
            let mut d = Decoder::new(kind, block, &[], 22_050, channels).unwrap();
            for seed in 0..200u32 {
                let mut data: Vec<u8> = (0..u32::from(block) * 3)
                    .map(|n| (n.wrapping_mul(2_654_435_761).wrapping_add(seed * 77) >> 11) as u8)
                    .collect();
                if kind == Adpcm::Microsoft {
                    data.chunks_mut(block.into()).for_each(|b| b[..2].iter_mut().for_each(|v| *v %= 7));
                }
                let f = d.decode(&Packet { data, ..Packet::default() }).unwrap();
                assert_eq!(f.samples.len() as u32, samples(kind, block, channels).unwrap() * 3 * 2);
                assert!(f.samples.iter().all(|v| (-1.0..=1.0).contains(v)));
            }
        }
    }

    /// Coefficients that no writer has.
    #[test]
    fn coefficients_of_any_size_are_borne() {
        let mut extra = vec![0, 0, 1, 0];
        extra.extend([0, 0x80, 0, 0x80]);
        let mut d = Decoder::new(Adpcm::Microsoft, 256, &extra, 22_050, 1).unwrap();
        let mut data = vec![0, 16, 0, 0, 0x80, 0, 0x80];
        data.resize(256, 0x88);
        let f = d.decode(&Packet { data, ..Packet::default() }).unwrap();
        assert!(f.samples.iter().all(|v| (-1.0..=1.0).contains(v)));
    }
}
