//! Calls into the OpenCORE decoders through `shim.c`.
#![allow(unsafe_code)]

use super::{frame, samples};
use crate::codec::DecodeAudio;
use crate::error::{Error, Result};
use crate::frame::AudioFrame;
use crate::track::Packet;
use std::os::raw::{c_int, c_short, c_void};

unsafe extern "C" {
    fn porter_amr_open(wide: c_int) -> *mut c_void;
    fn porter_amr_decode(ctx: *mut c_void, wide: c_int, frame: *const u8, out: *mut c_short, bad: c_int);
    fn porter_amr_close(ctx: *mut c_void, wide: c_int);
}

/// More than any frame has: the libraries read by the kind of a frame, which was checked.
const MOST: usize = 64;

pub struct Decoder {
    raw: *mut c_void,
    wide: bool,
}

// SAFETY: one owner at a time; the libraries have no threads and no state of their own.
unsafe impl Send for Decoder {}

impl Decoder {
    pub fn new(wide: bool) -> Result<Decoder> {
        // SAFETY: no arguments that could be wrong; null is checked.
        let raw = unsafe { porter_amr_open(wide.into()) };
        if raw.is_null() {
            return Err(Error::limit("AMR decoder", "it did not start"));
        }
        Ok(Decoder { raw, wide })
    }
}

impl DecodeAudio for Decoder {
    fn decode(&mut self, packet: &Packet) -> Result<AudioFrame> {
        let (each, rate) = samples(self.wide);
        let mut out = Vec::new();
        let mut rest = packet.data.as_slice();
        while !rest.is_empty() {
            let size = frame(rest, self.wide).filter(|n| *n <= rest.len());
            let Some(size) = size else {
                return Err(Error::damaged(
                    "AMR",
                    format!("no frame begins with {:#04x}, or it is cut short", rest[0]),
                ));
            };
            let mut bytes = [0; MOST];
            bytes[..size].copy_from_slice(&rest[..size]);
            let mut pcm = [0; 320];
            // SAFETY: the kind of the frame has fewer bytes than `bytes`, and gives at most 320 samples.
            unsafe { porter_amr_decode(self.raw, self.wide.into(), bytes.as_ptr(), pcm.as_mut_ptr(), 0) };
            out.extend(pcm[..each as usize].iter().map(|s| f32::from(*s) / 32_768.0));
            rest = &rest[size..];
        }
        Ok(AudioFrame { rate, channels: 1, pts: packet.pts, samples: out })
    }
}

impl Drop for Decoder {
    fn drop(&mut self) {
        // SAFETY: opened in `new`, closed once.
        unsafe { porter_amr_close(self.raw, self.wide.into()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whatever_a_frame_holds_it_gives_its_samples() {
        for wide in [false, true] {
            let mut d = Decoder::new(wide).unwrap();
            let mut dice = 1u32;
            for n in 0..3_000u32 {
                let kind = (n % 16) as u8;
                let Some(size) = frame(&[kind << 3 | 4], wide) else { continue };
                let mut data = vec![kind << 3 | 4];
                data.extend((1..size).map(|_| {
                    dice = dice.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                    (dice >> 24) as u8
                }));
                let sound = d.decode(&Packet { data: data.clone(), ..Packet::default() }).unwrap();
                assert_eq!(sound.len(), samples(wide).0 as usize);
                data.pop();
                let cut = d.decode(&Packet { data, ..Packet::default() });
                assert!(size == 1 || matches!(cut, Err(Error::Damaged(_))));
            }
        }
    }
}
