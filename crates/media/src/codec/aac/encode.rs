//! Encoding through fdk-aac.

use crate::codec::{Coded, EncodeAudio};
use crate::error::{Error, Result};
use fdk_aac::enc::{AudioObjectType, BitRate, ChannelMode, Encoder as Fdk, EncoderParams, Transport};

/// Samples of each channel in a packet.
pub const FRAME: usize = 1024;
/// Sample rates that are encoded as they are.
pub const RATES: [u32; 9] = [8_000, 11_025, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 96_000];

/// AAC-LC, one or two channels.
pub struct Encoder {
    inner: Fdk,
    channels: usize,
    setup: Vec<u8>,
    priming: u32,
    waiting: Vec<i16>,
    samples_in: u64,
    packets: i64,
    buffer: Vec<u8>,
}

impl Encoder {
    /// `bits` a second for all channels together.
    pub fn new(rate: u32, channels: u16, bits: u32) -> Result<Self> {
        let mode = match channels {
            1 => ChannelMode::Mono,
            2 => ChannelMode::Stereo,
            n => return Err(Error::setting("audio", format!("{n} channels; AAC is made with one or two"))),
        };
        if !RATES.contains(&rate) {
            return Err(Error::setting("audio", format!("sample rate {rate} Hz; AAC is made at {RATES:?}")));
        }
        let refused = |e: &dyn std::fmt::Display| {
            Error::setting("audio", format!("AAC at {rate} Hz, {channels} channels, {bits} bit/s: {e}"))
        };
        let inner = Fdk::new(EncoderParams {
            bit_rate: BitRate::Cbr(bits),
            sample_rate: rate,
            transport: Transport::Raw,
            channels: mode,
            audio_object_type: AudioObjectType::Mpeg4LowComplexity,
        })
        .map_err(|e| refused(&e))?;
        let info = inner.info().map_err(|e| refused(&e))?;
        let setup = info.confBuf[..(info.confSize as usize).min(info.confBuf.len())].to_vec();
        Ok(Encoder {
            inner,
            channels: usize::from(channels),
            setup,
            priming: info.nDelay,
            waiting: Vec::new(),
            samples_in: 0,
            packets: 0,
            buffer: vec![0; 8192],
        })
    }

    fn run(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        let frame = FRAME * self.channels;
        let mut at = 0;
        while self.waiting.len() - at >= frame {
            let said = self
                .inner
                .encode(&self.waiting[at..at + frame], &mut self.buffer)
                .map_err(|e| Error::limit("AAC encoder", e.to_string()))?;
            if said.input_consumed == 0 && said.output_size == 0 {
                return Err(Error::limit("AAC encoder", "it takes no more samples"));
            }
            at += said.input_consumed;
            if said.output_size > 0 {
                let pts = self.packets * FRAME as i64 - i64::from(self.priming);
                self.packets += 1;
                let data = self.buffer[..said.output_size].to_vec();
                out.push(Coded::new(pts, FRAME as i64, true, data));
            }
        }
        self.waiting.drain(..at);
        Ok(())
    }
}

/// The windows of the first element of a packet, if all its channels have the same (ISO/IEC 14496-3, 4.4.2.1 and 4.4.2.7).
fn windows(packet: &[u8]) -> Option<u8> {
    let bits = u64::from_be_bytes(packet.get(..8)?.try_into().ok()?);
    let take = |from: u32, count: u32| (bits << from >> (64 - count)) as u8;
    // What stands in front of the windows: kind and number of the element, and of one channel its gain.
    let from = match take(0, 3) {
        0 => 3 + 4 + 8,
        1 if take(7, 1) == 1 => 8,
        _ => return None,
    };
    Some(take(from + 1, 3))
}

/// Two encoders chose the same windows for a packet.
pub fn same_windows(a: &[u8], b: &[u8]) -> bool {
    windows(a).is_some() && windows(a) == windows(b)
}

impl EncodeAudio for Encoder {
    fn encode(&mut self, samples: &[f32], out: &mut Vec<Coded>) -> Result<()> {
        self.samples_in += (samples.len() / self.channels) as u64;
        self.waiting.extend(samples.iter().map(|s| (s * 32_767.0).round().clamp(-32_768.0, 32_767.0) as i16));
        self.run(out)
    }

    /// Silence pushes out what the encoder holds back, until all that came in is covered.
    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        let wanted = (self.samples_in + u64::from(self.priming)).div_ceil(FRAME as u64) as i64;
        while self.packets < wanted {
            let frame = FRAME * self.channels;
            let fill = frame - self.waiting.len() % frame;
            self.waiting.resize(self.waiting.len() + fill, 0);
            self.run(out)?;
        }
        Ok(())
    }

    fn setup(&self) -> Vec<u8> {
        self.setup.clone()
    }

    fn priming(&self) -> u32 {
        self.priming
    }
}

#[cfg(test)]
mod tests {
    use super::super::Decoder;
    use super::*;
    use crate::codec::DecodeAudio;
    use crate::track::Packet;

    /// A tone through encoder and decoder comes back at the same moment, to the sample.
    #[test]
    fn the_stated_priming_is_the_real_one() {
        let sound: Vec<f32> =
            (0..48_000)
                .map(|i| {
                    if (20_000..20_400).contains(&i) { ((i - 20_000) as f32 * 0.13).sin() * 0.5 } else { 0.0 }
                })
                .collect();
        let mut e = Encoder::new(48_000, 1, 128_000).unwrap();
        let mut coded = Vec::new();
        e.encode(&sound, &mut coded).unwrap();
        e.flush(&mut coded).unwrap();
        let mut d = Decoder::new(&e.setup()).unwrap();
        let mut back = Vec::new();
        for c in &coded {
            back.extend(d.decode(&Packet { data: c.data.clone(), ..Packet::default() }).unwrap().samples);
        }
        let back = &back[e.priming() as usize..];
        assert!(back.len() >= sound.len());
        let likeness = |shift: i64| -> f32 {
            (19_900..20_500i64).map(|i| sound[i as usize] * back[(i + shift) as usize]).sum()
        };
        let best = (-60..=60).max_by(|a, b| likeness(*a).total_cmp(&likeness(*b))).unwrap();
        assert_eq!(best, 0);
    }

    #[test]
    fn impossible_settings_are_refused() {
        assert!(Encoder::new(44_101, 2, 128_000).is_err());
        assert!(Encoder::new(48_000, 6, 128_000).is_err());
    }
}
