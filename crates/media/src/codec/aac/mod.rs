//! AAC (ISO/IEC 14496-3, 2019). Plain stereo is decoded by symphonia, all else (bands
//! replicated, more channels) by fdk-aac, which also encodes.

pub mod adts;
mod decode;
mod encode;
#[cfg(test)]
mod foreign_tests;

pub use decode::Decoder;
pub use encode::{Encoder, FRAME, RATES, same_windows};

use crate::error::{Error, Result};

/// Sampling frequencies by index (table 1.18).
pub(crate) const FREQUENCIES: [u32; 13] =
    [96_000, 88_200, 64_000, 48_000, 44_100, 32_000, 24_000, 22_050, 16_000, 12_000, 11_025, 8_000, 7_350];

/// The parts of an AudioSpecificConfig (1.6.2.1) that say what a stream is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Config {
    pub object_type: u8,
    /// Rate of the sound that comes out, after any band replication.
    pub rate: u32,
    /// `None` if a program config element tells.
    pub channels: Option<u16>,
    pub profile: &'static str,
}

impl Config {
    pub fn parse(setup: &[u8]) -> Result<Config> {
        let mut at = 0usize;
        let mut take = |n: usize| -> Result<u32> {
            let mut v = 0;
            for _ in 0..n {
                let byte = setup.get(at / 8).ok_or_else(|| Error::damaged("AAC setup", "it is cut short"))?;
                v = v << 1 | u32::from(byte >> (7 - at % 8) & 1);
                at += 1;
            }
            Ok(v)
        };
        let object = |take: &mut dyn FnMut(usize) -> Result<u32>| -> Result<u32> {
            let t = take(5)?;
            if t == 31 { Ok(32 + take(6)?) } else { Ok(t) }
        };
        let frequency = |take: &mut dyn FnMut(usize) -> Result<u32>| -> Result<u32> {
            let i = take(4)? as usize;
            match FREQUENCIES.get(i) {
                Some(&f) => Ok(f),
                None if i == 15 => take(24),
                None => {
                    Err(Error::damaged("AAC setup", format!("sampling frequency index {i}; 0 to 12 or 15")))
                }
            }
        };
        let mut object_type = object(&mut take)?;
        let mut rate = frequency(&mut take)?;
        let channel_config = take(4)?;
        let mut profile = "";
        if object_type == 5 || object_type == 29 {
            profile = if object_type == 5 { "HE-AAC" } else { "HE-AAC v2" };
            rate = frequency(&mut take)?;
            object_type = object(&mut take)?;
        }
        if profile.is_empty() {
            profile = match object_type {
                1 => "AAC Main",
                2 => "AAC-LC",
                3 => "AAC SSR",
                4 => "AAC LTP",
                23 => "AAC-LD",
                39 => "AAC-ELD",
                42 => "xHE-AAC",
                _ => "AAC of another kind",
            };
        }
        let channels = match channel_config {
            0 => None,
            // Parametric stereo makes two of one.
            1 if profile == "HE-AAC v2" => Some(2),
            7 => Some(8),
            11 => Some(7),
            12 | 14 => Some(8),
            n @ 1..=6 => Some(n as u16),
            n => return Err(Error::damaged("AAC setup", format!("channel configuration {n}"))),
        };
        Ok(Config { object_type: object_type as u8, rate, channels, profile })
    }

    /// What neither decoder decodes.
    pub fn refuse(&self) -> Result<()> {
        match self.profile {
            "AAC-LC" | "HE-AAC" | "HE-AAC v2" | "AAC-LD" | "AAC-ELD" => Ok(()),
            other => Err(Error::unsupported("", format!("{other} cannot be decoded; AAC-LC and HE-AAC can"))),
        }
    }

    /// Samples that a packet decodes to, at `rate`.
    pub fn frame(&self) -> u32 {
        match self.profile {
            "HE-AAC" | "HE-AAC v2" => 2048,
            "AAC-LD" | "AAC-ELD" => 512,
            _ => 1024,
        }
    }

    /// One or two channels of low complexity: symphonia's decoder gives full float precision.
    fn plain(&self) -> bool {
        self.profile == "AAC-LC" && matches!(self.channels, Some(1 | 2))
    }

    /// The setup record for low complexity (or another plain object type) at a rate of the table.
    pub fn write(object_type: u8, rate_index: u8, channel_config: u8) -> Vec<u8> {
        let bits = u16::from(object_type) << 11 | u16::from(rate_index) << 7 | u16::from(channel_config) << 3;
        bits.to_be_bytes().to_vec()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[0x11, 0x90], 48_000, Some(2), "AAC-LC")]
    #[case(&[0x2b, 0x92, 0x08, 0x00], 44_100, Some(2), "HE-AAC")]
    #[case(&[0x17, 0x80, 0x5d, 0xc0, 0x08], 48_000, Some(1), "AAC-LC")]
    fn setups_are_told(#[case] b: &[u8], #[case] rate: u32, #[case] ch: Option<u16>, #[case] profile: &str) {
        let c = Config::parse(b).unwrap();
        assert_eq!((c.rate, c.channels, c.profile), (rate, ch, profile));
        assert!(c.refuse().is_ok());
        assert_eq!(c.frame(), if profile == "AAC-LC" { 1024 } else { 2048 });
    }

    #[test]
    fn a_cut_or_impossible_setup_is_refused() {
        assert!(Config::parse(&[0x11]).is_err());
        assert!(Config::parse(&[0x16, 0x90]).is_err());
    }
}
