//! AV1 (AV1 Bitstream & Decoding Process Specification, 2019 with errata 1). Decoding is done by re_rav1d.

use super::DecodeVideo;
use crate::bits::Bits;
use crate::error::{Error, Result, SPOILT};
use crate::frame::{Chroma, Colour, Pool, VideoFrame};
use crate::limits::MAX_PICTURE_AREA;
use crate::track::{Packet, VideoTrack};
use re_rav1d::dav1d::{self, PixelLayout, PlanarImageComponent as Part};

pub struct Decoder {
    inner: dav1d::Decoder,
    pool: Pool,
    /// Shown packets that have given no picture yet.
    waiting: Vec<(i64, i64)>,
    lost: Vec<(i64, i64)>,
    colour: Colour,
}

impl Decoder {
    pub fn new(track: &VideoTrack, pool: Pool) -> Result<Self> {
        let mut settings = dav1d::Settings::new();
        settings.set_n_threads(1);
        settings.set_max_frame_delay(1);
        settings.set_frame_size_limit(MAX_PICTURE_AREA as u32);
        let inner = dav1d::Decoder::with_settings(&settings)
            .map_err(|e| Error::limit("AV1 decoder", format!("it did not start: {e}")))?;
        Ok(Decoder { inner, pool, waiting: Vec::new(), lost: Vec::new(), colour: track.colour })
    }

    fn drain(&mut self, out: &mut Vec<VideoFrame>) -> Result<()> {
        loop {
            match self.inner.get_picture() {
                Ok(picture) => {
                    let pts = picture.timestamp().unwrap_or(0);
                    let at = self.waiting.iter().position(|w| w.0 == pts);
                    let Some((pts, duration)) = at.map(|i| self.waiting.remove(i)) else { continue };
                    let mut frame = copy(&picture, &self.pool)?;
                    (frame.pts, frame.duration) = (pts, duration);
                    frame.colour = self.colour;
                    self.lost.extend(self.waiting.extract_if(.., |w| w.0 < pts));
                    out.push(frame);
                }
                Err(dav1d::Error::Again) => return Ok(()),
                Err(_) => return Err(Error::damaged("AV1", SPOILT)),
            }
        }
    }
}

fn copy(p: &dav1d::Picture, pool: &Pool) -> Result<VideoFrame> {
    let (chroma, parts): (_, &[Part]) = match p.pixel_layout() {
        PixelLayout::I400 => (Chroma::Gray, &[Part::Y]),
        PixelLayout::I420 => (Chroma::C420, &[Part::Y, Part::U, Part::V]),
        PixelLayout::I422 => (Chroma::C422, &[Part::Y, Part::U, Part::V]),
        PixelLayout::I444 => (Chroma::C444, &[Part::Y, Part::U, Part::V]),
    };
    let mut frame = VideoFrame::new(pool, p.width(), p.height(), chroma, p.bit_depth() as u8)?;
    for (plane, &part) in frame.planes.iter_mut().zip(parts) {
        let data = p.plane(part);
        plane.fill_rows(&data, p.stride(part) as usize);
    }
    Ok(frame)
}

impl DecodeVideo for Decoder {
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        if packet.shown {
            self.waiting.push((packet.pts, packet.duration));
        }
        // An empty packet is an error to the library.
        if packet.data.is_empty() {
            return Err(Error::damaged("AV1", "an empty packet"));
        }
        let mut sent =
            self.inner.send_data(packet.data.clone(), None, Some(packet.pts), Some(packet.duration));
        loop {
            self.drain(out)?;
            match sent {
                Ok(()) => return Ok(()),
                Err(dav1d::Error::Again) => sent = self.inner.send_pending_data(),
                Err(_) => return Err(Error::damaged("AV1", SPOILT)),
            }
        }
    }

    fn flush(&mut self, out: &mut Vec<VideoFrame>) -> Result<()> {
        let _ = self.drain(out);
        self.inner.flush();
        self.lost.append(&mut self.waiting);
        Ok(())
    }

    fn take_lost(&mut self) -> Vec<(i64, i64)> {
        std::mem::take(&mut self.lost)
    }
}

/// Fills in what the configuration record (AV1 Codec ISO Media File Format Binding, 2.3.3) says.
pub fn describe(record: &[u8], v: &mut VideoTrack) {
    let &[marker, profile, flags, ..] = record else { return };
    if marker != 0x81 {
        return;
    }
    apply(v, profile >> 5, flags & 0x40 != 0, flags & 0x20 != 0, flags & 0x10 != 0, flags >> 2 & 3);
    let level = profile & 31;
    if level < 24 {
        v.level = Some(format!("{}.{}", 2 + level / 4, level % 4));
    }
    if let Some(obus) = record.get(4..) {
        look(obus, v);
    }
}

fn apply(v: &mut VideoTrack, profile: u8, high: bool, twelve: bool, gray: bool, sampling: u8) {
    v.profile =
        Some(["Main", "High", "Professional"].get(usize::from(profile)).unwrap_or(&"unknown").to_string());
    v.depth = Some(if twelve {
        12
    } else if high {
        10
    } else {
        8
    });
    v.chroma = Some(match (gray, sampling) {
        (true, _) => Chroma::Gray,
        (_, 3) => Chroma::C420,
        (_, 2) => Chroma::C422,
        _ => Chroma::C444,
    });
}

/// Open bitstream units (5.3): kind, the whole unit, and what is in it.
fn units(mut b: &[u8]) -> impl Iterator<Item = (u8, &[u8], &[u8])> {
    std::iter::from_fn(move || {
        let [header, rest @ ..] = b else { return None };
        let rest = if header & 4 != 0 { rest.get(1..)? } else { rest };
        let (size, rest) = if header & 2 != 0 {
            let (n, used) = leb128(rest)?;
            (n, &rest[used..])
        } else {
            (rest.len(), rest)
        };
        let (body, behind) = rest.split_at(size.min(rest.len()));
        let whole = &b[..b.len() - behind.len()];
        b = behind;
        Some((header >> 3 & 15, whole, body))
    })
}

/// Kinds of units (6.2.2).
const SEQUENCE: u8 = 1;
const DELIMITER: u8 = 2;

/// Reads the sequence header (5.5) in a packet, if there is one.
pub fn look(b: &[u8], v: &mut VideoTrack) {
    if let Some((_, _, body)) = units(b).find(|u| u.0 == SEQUENCE) {
        let _ = sequence(body, v);
    }
}

/// A packet as files hold it: without the marks between two moments, which their own tables give (ISO Media File Format
/// Binding, 2.4).
pub fn undelimited(packet: &[u8]) -> Vec<u8> {
    units(packet).filter(|u| u.0 != DELIMITER).flat_map(|u| u.1).copied().collect()
}

/// The configuration record (the same, 2.3.3) of a stream that begins with such units.
pub fn record(packet: &[u8]) -> Option<Vec<u8>> {
    let (_, unit, body) = units(packet).find(|u| u.0 == SEQUENCE)?;
    let mut v = VideoTrack::sized(0, 0);
    let (profile, level, high_tier) = sequence(body, &mut v)?;
    let depth = v.depth?;
    let chroma = match v.chroma? {
        Chroma::Gray => 0b1_11,
        Chroma::C420 => 0b0_11,
        Chroma::C422 => 0b0_10,
        _ => 0b0_00,
    };
    let flags = u8::from(high_tier) << 7 | u8::from(depth > 8) << 6 | u8::from(depth > 10) << 5 | chroma << 2;
    Some([&[0x81, profile << 5 | level, flags, 0], unit].concat())
}

fn leb128(b: &[u8]) -> Option<(usize, usize)> {
    let mut n = 0u64;
    for (i, &byte) in b.iter().take(8).enumerate() {
        n |= u64::from(byte & 0x7f) << (7 * i);
        if byte & 0x80 == 0 {
            return Some((usize::try_from(n).ok()?, i + 1));
        }
    }
    None
}

/// 5.5.1 to 5.5.2. Gives profile, level and tier of what plays all of it.
fn sequence(body: &[u8], v: &mut VideoTrack) -> Option<(u8, u8, bool)> {
    let mut b = Bits::new(body);
    let profile = b.take(3)? as u8;
    b.flag()?;
    let reduced = b.flag()?;
    let mut delay_bits = 0;
    let mut decoder_model = false;
    let (mut level, mut high_tier) = (0, false);
    if reduced {
        level = b.take(5)? as u8;
    } else {
        if b.flag()? {
            b.take(32)?;
            b.take(32)?;
            if b.flag()? {
                b.ue()?;
            }
            decoder_model = b.flag()?;
            if decoder_model {
                delay_bits = b.take(5)? + 1;
                b.take(32)?;
                b.take(10)?;
            }
        }
        let display_delay = b.flag()?;
        for point in 0..=b.take(5)? {
            b.take(12)?;
            let its = b.take(5)?;
            let high = its > 7 && b.flag()?;
            if point == 0 {
                (level, high_tier) = (its as u8, high);
            }
            if decoder_model && b.flag()? {
                b.take(delay_bits)?;
                b.take(delay_bits)?;
                b.flag()?;
            }
            if display_delay && b.flag()? {
                b.take(4)?;
            }
        }
    }
    let (wide, tall) = (b.take(4)? + 1, b.take(4)? + 1);
    let (width, height) = (b.take(wide)? + 1, b.take(tall)? + 1);
    if !reduced && b.flag()? {
        b.take(7)?;
    }
    b.take(3)?;
    if !reduced {
        b.take(4)?;
        let order = b.flag()?;
        if order {
            b.take(2)?;
        }
        let tools = if b.flag()? { 2 } else { b.take(1)? };
        if tools > 0 && !b.flag()? {
            b.take(1)?;
        }
        if order {
            b.take(3)?;
        }
    }
    b.take(3)?;
    // 5.5.2: colour.
    let high = b.flag()?;
    let twelve = profile == 2 && high && b.flag()?;
    let gray = profile != 1 && b.flag()?;
    let mut colour = Colour::default();
    if b.flag()? {
        colour.primaries = b.take(8)? as u8;
        colour.transfer = b.take(8)? as u8;
        colour.matrix = b.take(8)? as u8;
    }
    let mut sampling = 3;
    if gray {
        colour.full_range = b.flag()?;
    } else if (colour.primaries, colour.transfer, colour.matrix) == (1, 13, 0) {
        colour.full_range = true;
        sampling = 0;
    } else {
        colour.full_range = b.flag()?;
        sampling = match profile {
            0 => 3,
            1 => 0,
            _ if twelve => match (b.flag()?, ()) {
                (true, ()) => 2 | u8::from(b.flag()?),
                _ => 0,
            },
            _ => 2,
        };
    }
    apply(v, profile, high, twelve, gray, sampling);
    v.colour = colour;
    if v.width == 0 || v.height == 0 {
        (v.width, v.height) = (width, height);
    }
    Some((profile, level, high_tier))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_record_tells_depth_and_sampling() {
        let mut v = VideoTrack::sized(64, 64);
        describe(&[0x81, 0x04, 0x4c, 0x00], &mut v);
        assert_eq!((v.depth, v.chroma, v.profile.as_deref()), (Some(10), Some(Chroma::C420), Some("Main")));
        assert_eq!(v.level.as_deref(), Some("3.0"));
        describe(&[0x81, 0x40, 0x60, 0x00], &mut v);
        assert_eq!((v.depth, v.chroma), (Some(12), Some(Chroma::C444)));
    }

    #[test]
    fn noise_gives_damage_and_no_crash() {
        let mut d = Decoder::new(&VideoTrack::sized(64, 64), Pool::new()).unwrap();
        let mut out = Vec::new();
        for n in 0..200u32 {
            let data: Vec<u8> = (0..n).map(|i| (i.wrapping_mul(2_654_435_761) >> (n % 24)) as u8).collect();
            let mut v = VideoTrack::sized(0, 0);
            look(&data, &mut v);
            let _ = d.decode(&Packet { data, shown: true, pts: n.into(), ..Packet::default() }, &mut out);
        }
        d.flush(&mut out).unwrap();
    }
}
