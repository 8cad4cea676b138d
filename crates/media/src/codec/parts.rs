//! Sound that is coded in parts, each by an encoder of its own that begins a little before the one in front of it ends:
//! where the two say the same of a packet's window, the second goes on. A run that was broken off takes the parts that are
//! whole from what it kept, and codes what is behind them: the packets are those of an unbroken run.
//!
//! A packet of a transform codec stands by itself but for its window, which must go together with the one before
//! (ISO/IEC 14496-3, 4.5.2.3): encoders that heard the same for a while choose the same.

use super::coders::{AudioCoder, Joint, SoundForm};
use super::{Coded, EncodeAudio};
use crate::error::Result;
use crate::run::kept::Kept;

/// Packets of a part, 40 s at 48 kHz.
const PART: u64 = 1875;
/// So many packets before a part its encoder begins to hear.
const LEAD: u64 = 16;
/// So many packets behind its beginning the two must be of one mind.
const PATIENCE: u64 = 200;

/// An encoder that began at a packet, and packets of it that were not given yet.
struct Voice {
    encoder: Box<dyn EncodeAudio>,
    from: u64,
    /// The next packet that comes out of it.
    next: u64,
    out: Vec<Coded>,
}

pub struct InParts {
    coder: &'static AudioCoder,
    form: SoundForm,
    joint: Joint,
    /// It is told of before the first packet.
    setup: Vec<u8>,
    priming: u32,
    voice: Voice,
    successor: Option<Voice>,
    /// Whole packets of sound that came in, and what came behind them.
    heard: u64,
    waiting: Vec<f32>,
    /// Packets that were given out.
    given: u64,
    kept: Option<Kept>,
    /// Packets that were kept.
    whole: u64,
}

impl InParts {
    pub fn new(
        coder: &'static AudioCoder,
        form: SoundForm,
        joint: Joint,
        kept: Option<Kept>,
    ) -> Result<InParts> {
        let whole = kept.as_ref().map_or(0, |k| k.whole().frames);
        // The encoder that the part behind them began with heard what it heard then.
        let from = if whole > 0 { (whole / PART * PART).saturating_sub(LEAD) } else { 0 };
        let encoder = (coder.open)(&form)?;
        let (setup, priming) = (encoder.setup(), encoder.priming());
        Ok(InParts {
            coder,
            form,
            joint,
            setup,
            priming,
            voice: Voice { encoder, from, next: from, out: Vec::new() },
            successor: None,
            heard: 0,
            waiting: Vec::new(),
            given: 0,
            kept,
            whole,
        })
    }

    fn frame(&self) -> usize {
        self.coder.frame as usize * usize::from(self.form.channels)
    }

    /// One packet's worth of sound.
    fn hear(&mut self, samples: &[f32], out: &mut Vec<Coded>) -> Result<()> {
        let part = self.heard + LEAD;
        if part.is_multiple_of(PART) && part > self.whole {
            let (encoder, from) = ((self.coder.open)(&self.form)?, self.heard);
            self.successor = Some(Voice { encoder, from, next: from, out: Vec::new() });
        }
        for voice in [Some(&mut self.voice), self.successor.as_mut()].into_iter().flatten() {
            if self.heard >= voice.from {
                voice.encoder.encode(samples, &mut voice.out)?;
            }
        }
        self.heard += 1;
        self.give_kept(self.heard, out)?;
        self.give(out)
    }

    /// What was kept, up to this packet.
    fn give_kept(&mut self, before: u64, out: &mut Vec<Coded>) -> Result<()> {
        while self.given < self.whole.min(before) {
            match self.kept.as_mut().map(|k| k.next(None)).transpose()?.flatten() {
                Some(c) => {
                    out.push(c);
                    self.given += 1;
                }
                None => break,
            }
        }
        Ok(())
    }

    fn give(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        let coder = i64::from(self.coder.frame);
        for c in std::mem::take(&mut self.voice.out) {
            let n = self.voice.next;
            self.voice.next += 1;
            if n < self.whole {
                continue;
            }
            let next = match &mut self.successor {
                Some(s) => {
                    // What came in front of the part is of no use.
                    let at = n.saturating_sub(s.next) as usize;
                    (n >= (s.from + LEAD))
                        .then(|| s.out.get(at))
                        .flatten()
                        .map(|other| (at, (self.joint)(&c.data, &other.data)))
                }
                None => None,
            };
            let begins = self.successor.as_ref().map_or(0, |s| s.from + LEAD);
            match next {
                Some((at, same)) if same || n >= begins + PATIENCE => {
                    self.end_part(n);
                    let Some(mut s) = self.successor.take() else { continue };
                    s.out.drain(..at);
                    s.next = n;
                    self.voice = s;
                    return self.give(out);
                }
                _ => self.put(Coded { pts: c.pts + self.voice.from as i64 * coder, ..c }, out),
            }
        }
        Ok(())
    }

    fn put(&mut self, c: Coded, out: &mut Vec<Coded>) {
        if self.kept.as_mut().is_some_and(|k| k.add(&c).is_err()) {
            self.kept = None;
        }
        self.given += 1;
        out.push(c);
    }

    /// All packets before this one need not be made again.
    fn end_part(&mut self, packets: u64) {
        if let Some(kept) = &mut self.kept
            && kept.end_segment(packets, 0, (&self.setup, &[])).is_err()
        {
            // Nothing is kept then, and nothing else is amiss.
            self.kept = None;
        }
    }
}

impl EncodeAudio for InParts {
    fn encode(&mut self, samples: &[f32], out: &mut Vec<Coded>) -> Result<()> {
        let mut waiting = std::mem::take(&mut self.waiting);
        waiting.extend_from_slice(samples);
        let whole = waiting.len() / self.frame() * self.frame();
        waiting[..whole].chunks_exact(self.frame()).try_for_each(|one| self.hear(one, out))?;
        waiting.drain(..whole);
        self.waiting = waiting;
        Ok(())
    }

    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        // Whoever came last has to say all that is left.
        self.give_kept(u64::MAX, out)?;
        let rest = std::mem::take(&mut self.waiting);
        for voice in [Some(&mut self.voice), self.successor.as_mut()].into_iter().flatten() {
            if self.heard >= voice.from {
                voice.encoder.encode(&rest, &mut voice.out)?;
                voice.encoder.flush(&mut voice.out)?;
            }
        }
        self.give(out)
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
    use super::*;
    use crate::codec::{DecodeAudio, aac, coders};
    use crate::recipe::AudioCodec;
    use crate::track::Packet;

    const RATE: u32 = 48_000;

    /// Tones that come and go, with clicks, which make an encoder change its windows.
    fn sound(seconds: usize) -> Vec<f32> {
        let mut noise = 1u32;
        (0..seconds * RATE as usize)
            .map(|n| {
                noise = noise.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                let t = n as f32 / RATE as f32;
                let click = if n % 7_919 < 40 { (noise >> 16) as f32 / 65_536.0 - 0.5 } else { 0.0 };
                (t * 440.0 * std::f32::consts::TAU).sin() * 0.3 * (t * 0.7).sin()
                    + (t * 3_100.0 * std::f32::consts::TAU).sin() * 0.1
                    + click
            })
            .collect()
    }

    fn coded(parts: bool) -> (Vec<Coded>, u32) {
        let coder = coders::audio(AudioCodec::Aac).unwrap();
        let form = SoundForm { rate: RATE, channels: 1, bits: 96_000 };
        let mut e: Box<dyn EncodeAudio> = match parts {
            true => Box::new(InParts::new(coder, form, aac::same_windows, None).unwrap()),
            false => (coder.open)(&form).unwrap(),
        };
        let mut out = Vec::new();
        // In pieces of an odd size, as they come.
        sound(85).chunks(1_601).for_each(|piece| e.encode(piece, &mut out).unwrap());
        e.flush(&mut out).unwrap();
        (out, e.priming())
    }

    /// Decibels of what came back over what is wrong of it, for each packet.
    fn likeness(all: &[Coded], priming: u32) -> Vec<f64> {
        let coder = coders::audio(AudioCodec::Aac).unwrap();
        let setup = (coder.open)(&SoundForm { rate: RATE, channels: 1, bits: 96_000 }).unwrap().setup();
        let mut d = aac::Decoder::new(&setup).unwrap();
        let mut back = Vec::new();
        for c in all {
            back.extend(d.decode(&Packet { data: c.data.clone(), ..Packet::default() }).unwrap().samples);
        }
        let pairs: Vec<(f32, f32)> =
            sound(85).into_iter().zip(back.into_iter().skip(priming as usize)).collect();
        let level = |p: &[(f32, f32)]| {
            let (signal, wrong) = p.iter().fold((0.0, 1e-12), |(s, w), (a, b)| {
                (s + f64::from(a * a), w + f64::from((a - b) * (a - b)))
            });
            10.0 * (signal / wrong).log10()
        };
        pairs.chunks(1_024).map(level).collect()
    }

    #[test]
    fn parts_go_together_as_if_they_were_one() {
        let ((whole, priming), (parts, same)) = (coded(false), coded(true));
        assert_eq!((whole.len(), priming), (parts.len(), same));
        let times = |all: &[Coded]| all.iter().map(|c| (c.pts, c.duration)).collect::<Vec<_>>();
        assert_eq!(times(&whole), times(&parts));
        // Up to the first part's end they are the same, and behind it not worse: not at the joint, and not later.
        assert!(whole.iter().zip(&parts).take(PART as usize).all(|(a, b)| a.data == b.data));
        let (a, b) = (likeness(&whole, priming), likeness(&parts, priming));
        for joint in [PART as usize, 2 * PART as usize] {
            let span = joint - 3..(joint + 250).min(a.len()).min(b.len());
            let worst =
                a[span.clone()].iter().zip(&b[span]).map(|(a, b)| b - a).fold(f64::INFINITY, f64::min);
            assert!(worst > -6.0, "{worst} dB at packet {joint}");
        }
        let mean = |all: &[f64]| all.iter().sum::<f64>() / all.len() as f64;
        assert!((mean(&a) - mean(&b)).abs() < 0.5, "{} and {} dB", mean(&a), mean(&b));
    }
}
