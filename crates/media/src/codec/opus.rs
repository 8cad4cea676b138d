//! Opus (RFC 6716; RFC 7845 for the header record). Coding itself is libopus, turned into Rust.
#![allow(unsafe_code)]

use super::{Coded, DecodeAudio, EncodeAudio};
use crate::error::{Error, Result};
use crate::frame::AudioFrame;
use crate::track::Packet;
use unsafe_libopus::{
    OPUS_APPLICATION_AUDIO, OPUS_GET_LOOKAHEAD_REQUEST, OPUS_SET_BITRATE_REQUEST, OpusEncoder, OpusMSDecoder,
    opus_encode_float, opus_encoder_create, opus_encoder_destroy, opus_multistream_decode_float,
    opus_multistream_decoder_create, opus_multistream_decoder_destroy,
};

/// All Opus is decoded at this rate.
pub const RATE: u32 = 48_000;
/// Longest packet: 120 ms (RFC 6716, 3.2.5).
const MAX_SAMPLES: usize = 5760;

/// The identification header (RFC 7845, 5.1), which is the setup record everywhere.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Head {
    pub channels: u8,
    /// Samples of 48 kHz at the start that are not heard.
    pub skip: u16,
    /// In 1/256 dB.
    pub gain: i16,
    pub family: u8,
    pub streams: u8,
    pub coupled: u8,
    pub mapping: Vec<u8>,
}

impl Head {
    pub fn parse(b: &[u8]) -> Result<Head> {
        let cut = || Error::damaged("OpusHead", "the record is cut short");
        if !b.starts_with(b"OpusHead") {
            return Err(Error::damaged("OpusHead", "the record does not start with its name"));
        }
        let byte = |at: usize| b.get(at).copied().ok_or_else(cut);
        let (channels, family) = (byte(9)?, byte(18)?);
        let (streams, coupled, mapping) = match family {
            0 => (1, channels.saturating_sub(1), vec![0, 1]),
            _ => (byte(19)?, byte(20)?, b.get(21..21 + usize::from(channels)).ok_or_else(cut)?.to_vec()),
        };
        let most = if family == 0 { 2 } else { 255 };
        if channels == 0 || channels > most || streams == 0 || coupled > streams {
            return Err(Error::damaged(
                "OpusHead",
                format!("{channels} channels in {streams} streams, {coupled} of them coupled"),
            ));
        }
        let head = Head {
            channels,
            skip: u16::from_le_bytes([byte(10)?, byte(11)?]),
            gain: i16::from_le_bytes([byte(16)?, byte(17)?]),
            family,
            streams,
            coupled,
            mapping,
        };
        Ok(head)
    }

    pub fn write(&self, rate: u32) -> Vec<u8> {
        let mut out = b"OpusHead\x01".to_vec();
        out.push(self.channels);
        out.extend(self.skip.to_le_bytes());
        out.extend(rate.to_le_bytes());
        out.extend(self.gain.to_le_bytes());
        out.push(self.family);
        if self.family != 0 {
            out.extend([self.streams, self.coupled]);
            out.extend(&self.mapping);
        }
        out
    }
}

/// Samples at 48 kHz in a packet (RFC 6716, 3.1 and 3.2).
pub fn samples(packet: &[u8]) -> Option<u32> {
    let toc = *packet.first()?;
    let frame = match toc >> 3 {
        n @ 0..=11 => [480, 960, 1920, 2880][usize::from(n & 3)],
        n @ 12..=15 => [480, 960][usize::from(n & 1)],
        n => 120 << (n & 3),
    };
    let frames = match toc & 3 {
        0 => 1,
        1 | 2 => 2,
        _ => u32::from(*packet.get(1)? & 0x3f),
    };
    Some(frame * frames).filter(|&n| n as usize <= MAX_SAMPLES)
}

pub struct Decoder {
    raw: *mut OpusMSDecoder,
    channels: u16,
    gain: f32,
}

// SAFETY: the state is plain memory, used by one owner at a time.
unsafe impl Send for Decoder {}

impl Decoder {
    pub fn new(setup: &[u8]) -> Result<Self> {
        let head = Head::parse(setup)?;
        let mut code = 0;
        // SAFETY: `mapping` holds `channels` bytes (two at least for the plain family); `code` is written.
        let raw = unsafe {
            opus_multistream_decoder_create(
                RATE as i32,
                head.channels.into(),
                head.streams.into(),
                head.coupled.into(),
                head.mapping.as_ptr(),
                &mut code,
            )
        };
        if raw.is_null() || code != 0 {
            return Err(Error::damaged("OpusHead", format!("a mapping that cannot be (code {code})")));
        }
        let gain = 10f32.powf(f32::from(head.gain) / (20.0 * 256.0));
        Ok(Decoder { raw, channels: head.channels.into(), gain })
    }
}

impl DecodeAudio for Decoder {
    fn decode(&mut self, packet: &Packet) -> Result<AudioFrame> {
        let mut samples = vec![0f32; MAX_SAMPLES * usize::from(self.channels)];
        let len = i32::try_from(packet.data.len()).unwrap_or(0);
        if len == 0 {
            return Err(Error::damaged("Opus", "an empty packet"));
        }
        // SAFETY: `data` has `len` bytes, `samples` room for the longest packet of all channels.
        let n = unsafe {
            opus_multistream_decode_float(
                self.raw,
                packet.data.as_ptr(),
                len,
                samples.as_mut_ptr(),
                MAX_SAMPLES as i32,
                0,
            )
        };
        let Ok(n) = usize::try_from(n) else {
            return Err(Error::damaged("Opus", format!("the packet could not be decoded (code {n})")));
        };
        samples.truncate(n * usize::from(self.channels));
        if self.gain != 1.0 {
            samples.iter_mut().for_each(|s| *s *= self.gain);
        }
        Ok(AudioFrame { rate: RATE, channels: self.channels, pts: packet.pts, samples })
    }
}

impl Drop for Decoder {
    fn drop(&mut self) {
        // SAFETY: created in `new`, freed once.
        unsafe { opus_multistream_decoder_destroy(self.raw) }
    }
}

/// Samples of each channel in a packet that is written: 20 ms.
pub const FRAME: u32 = 960;
/// Room for the largest packet of one frame (RFC 6716, 3.4).
const MAX_PACKET: usize = 1275;

pub struct Encoder {
    raw: *mut OpusEncoder,
    channels: usize,
    priming: u32,
    waiting: Vec<f32>,
    samples_in: u64,
    packets: i64,
}

// SAFETY: as the decoder.
unsafe impl Send for Encoder {}

impl Encoder {
    /// One or two channels at 48 kHz; `bits` a second for all of them.
    pub fn new(channels: u16, bits: u32) -> Result<Self> {
        if !(1..=2).contains(&channels) {
            return Err(Error::setting(
                "audio",
                format!("{channels} channels; Opus is made with one or two"),
            ));
        }
        let mut code = 0;
        // SAFETY: the numbers are checked; `code` is written.
        let raw =
            unsafe { opus_encoder_create(RATE as i32, channels.into(), OPUS_APPLICATION_AUDIO, &mut code) };
        if raw.is_null() || code != 0 {
            return Err(Error::limit("Opus encoder", format!("it did not start (code {code})")));
        }
        let mut encoder = Encoder {
            raw,
            channels: channels.into(),
            priming: 0,
            waiting: Vec::new(),
            samples_in: 0,
            packets: 0,
        };
        let (bits, mut ahead) = (bits as i32, 0i32);
        // SAFETY: the requests take these kinds of values.
        let codes = unsafe {
            [
                unsafe_libopus::opus_encoder_ctl!(raw, OPUS_SET_BITRATE_REQUEST, bits),
                unsafe_libopus::opus_encoder_ctl!(raw, OPUS_GET_LOOKAHEAD_REQUEST, &mut ahead),
            ]
        };
        if codes != [0, 0] {
            return Err(Error::setting("audio", format!("Opus at {bits} bit/s (codes {codes:?})")));
        }
        encoder.priming = ahead.max(0) as u32;
        Ok(encoder)
    }

    fn run(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        let frame = FRAME as usize * self.channels;
        let mut at = 0;
        while self.waiting.len() - at >= frame {
            let mut data = vec![0u8; MAX_PACKET];
            // SAFETY: a whole frame of samples, and `data` is as long as is said.
            let n = unsafe {
                opus_encode_float(
                    self.raw,
                    self.waiting[at..].as_ptr(),
                    FRAME as i32,
                    data.as_mut_ptr(),
                    MAX_PACKET as i32,
                )
            };
            let n = usize::try_from(n)
                .map_err(|_| Error::limit("Opus encoder", format!("it stopped (code {n})")))?;
            data.truncate(n);
            at += frame;
            let pts = self.packets * i64::from(FRAME) - i64::from(self.priming);
            self.packets += 1;
            out.push(Coded::new(pts, FRAME.into(), true, data));
        }
        self.waiting.drain(..at);
        Ok(())
    }
}

impl EncodeAudio for Encoder {
    fn encode(&mut self, samples: &[f32], out: &mut Vec<Coded>) -> Result<()> {
        self.samples_in += (samples.len() / self.channels) as u64;
        self.waiting.extend_from_slice(samples);
        self.run(out)
    }

    /// Silence pushes out what the encoder holds back.
    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        let wanted = (self.samples_in + u64::from(self.priming)).div_ceil(FRAME.into()) as i64;
        let frame = FRAME as usize * self.channels;
        while self.packets < wanted {
            let fill = frame - self.waiting.len() % frame;
            self.waiting.resize(self.waiting.len() + fill, 0.0);
            self.run(out)?;
        }
        Ok(())
    }

    fn setup(&self) -> Vec<u8> {
        let channels = self.channels as u8;
        let head = Head {
            channels,
            skip: self.priming as u16,
            gain: 0,
            family: 0,
            streams: 1,
            coupled: channels.saturating_sub(1),
            mapping: vec![0, 1],
        };
        head.write(RATE)
    }

    fn priming(&self) -> u32 {
        self.priming
    }
}

impl Drop for Encoder {
    fn drop(&mut self) {
        // SAFETY: created in `new`, freed once.
        unsafe { opus_encoder_destroy(self.raw) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[0b1111_1000], Some(960))]
    #[case(&[0b0000_0001, 0], Some(960))]
    #[case(&[0b1111_1011, 3], Some(2880))]
    #[case(&[0b0001_1011, 63], None)]
    #[case(&[], None)]
    fn lengths(#[case] b: &[u8], #[case] want: Option<u32>) {
        assert_eq!(samples(b), want);
    }

    #[test]
    fn heads_come_back_and_impossible_ones_are_refused() {
        let surround = Head {
            channels: 6,
            skip: 312,
            gain: -256,
            family: 1,
            streams: 4,
            coupled: 2,
            mapping: vec![0, 4, 1, 2, 3, 5],
        };
        assert_eq!(Head::parse(&surround.write(48_000)).unwrap(), surround);
        assert!(Decoder::new(&surround.write(48_000)).is_ok());
        let mut bad = surround.write(48_000);
        bad[20] = 9;
        assert!(Head::parse(&bad).is_err() && Head::parse(b"OpusHead").is_err());
    }

    #[test]
    fn noise_is_damaged_or_sound_but_never_a_crash() {
        let head =
            Head { channels: 2, skip: 0, gain: 0, family: 0, streams: 1, coupled: 1, mapping: vec![0, 1] };
        let mut d = Decoder::new(&head.write(48_000)).unwrap();
        let mut seed = 7u32;
        for n in 0..400 {
            let data = (0..n % 90)
                .map(|_| {
                    seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                    (seed >> 24) as u8
                })
                .collect();
            let _ = d.decode(&Packet { data, ..Packet::default() });
        }
    }
}
