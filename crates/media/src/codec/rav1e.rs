//! AV1 through rav1e, for programs that are built with it: all of it is Rust, without assembler.

use super::waiting::Numbered;
use super::{Coded, EncodeVideo, PictureForm, av1};
use crate::error::{Error, Result};
use crate::frame::{Chroma, Samples, VideoFrame};
use crate::recipe::{BitRecipe, Plain};
use ::rav1e::config::{Config, EncoderConfig, SpeedSettings};
use ::rav1e::prelude::{
    ChromaSampling, ColorDescription, Context, EncoderStatus, FrameType, Pixel, PixelRange, Rational,
    SceneDetectionSpeed,
};
use num_traits::FromPrimitive;

/// The smallest side that the library takes.
pub const LEAST: u32 = 16;
/// 0 is best and slowest, 10 the quickest.
const SPEED: u8 = 10;
const SPEED_OF_STILLS: u8 = 6;
/// Its own scale of quantisers ends here.
const COARSEST: usize = 255;
/// The same for any number of processors, so that the result is.
const TILES: usize = 4;

pub fn encoder(form: &PictureForm, rate: BitRecipe, key_every: u32) -> Result<Box<dyn EncodeVideo>> {
    let with = |c: &mut EncoderConfig| match rate.plain() {
        Plain::Quantiser(q) => c.quantizer = usize::from(q.min(51)) * COARSEST / 51,
        Plain::Bits(b) => c.bitrate = b.clamp(1000, i32::MAX as u32) as i32,
    };
    open(form, with, key_every, SPEED)
}

/// For one picture by itself, with a quantiser of 1 to 63.
pub fn of_still(form: &PictureForm, quantiser: u32) -> Result<Box<dyn EncodeVideo>> {
    let with = |c: &mut EncoderConfig| {
        c.quantizer = quantiser.clamp(1, 63) as usize * COARSEST / 63;
        c.still_picture = true;
    };
    open(form, with, 1, SPEED_OF_STILLS)
}

fn open(
    form: &PictureForm,
    with: impl FnOnce(&mut EncoderConfig),
    key_every: u32,
    speed: u8,
) -> Result<Box<dyn EncodeVideo>> {
    let mut c = EncoderConfig {
        width: form.width as usize,
        height: form.height as usize,
        time_base: Rational::new(form.rate.den.into(), form.rate.num.into()),
        bit_depth: form.depth.into(),
        chroma_sampling: ChromaSampling::Cs420,
        pixel_range: if form.colour.full_range { PixelRange::Full } else { PixelRange::Limited },
        // What is not in its lists is not told.
        color_description: Some(ColorDescription {
            color_primaries: FromPrimitive::from_u8(form.colour.primaries).unwrap_or_default(),
            transfer_characteristics: FromPrimitive::from_u8(form.colour.transfer).unwrap_or_default(),
            matrix_coefficients: FromPrimitive::from_u8(form.colour.matrix).unwrap_or_default(),
        }),
        // Key pictures at equal distances, and at no cut, as the other encoder has them.
        min_key_frame_interval: key_every.max(1).into(),
        max_key_frame_interval: key_every.max(1).into(),
        tiles: TILES,
        speed_settings: SpeedSettings::from_preset(speed),
        ..EncoderConfig::default()
    };
    c.speed_settings.scene_detection_mode = SceneDetectionSpeed::None;
    with(&mut c);
    let refused = |e: &dyn std::fmt::Display| {
        Error::setting("video", format!("the AV1 encoder refused {}x{} ({e})", form.width, form.height))
    };
    let config = Config::new().with_encoder_config(c);
    if form.depth == 8 {
        Ok(Box::new(Encoder::<u8>::new(config.new_context().map_err(|e| refused(&e))?, form)))
    } else {
        Ok(Box::new(Encoder::<u16>::new(config.new_context().map_err(|e| refused(&e))?, form)))
    }
}

struct Encoder<T: Pixel> {
    inner: Context<T>,
    size: (u32, u32),
    depth: u8,
    setup: Vec<u8>,
    inside: Numbered,
}

impl<T: Pixel> Encoder<T> {
    fn new(inner: Context<T>, form: &PictureForm) -> Self {
        let setup = inner.container_sequence_header();
        let size = (form.width, form.height);
        Encoder { inner, size, depth: form.depth, setup, inside: Numbered::default() }
    }

    /// Takes what is ready.
    fn packets(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        loop {
            match self.inner.receive_packet() {
                Ok(packet) => {
                    if let Some((pts, duration)) = self.inside.left(packet.input_frameno as i64) {
                        let key = packet.frame_type == FrameType::KEY;
                        out.push(Coded::new(pts, duration, key, av1::undelimited(&packet.data)));
                    }
                }
                Err(EncoderStatus::Encoded) => (),
                Err(EncoderStatus::NeedMoreData | EncoderStatus::LimitReached) => return Ok(()),
                Err(e) => return Err(Error::limit("AV1 encoder", format!("it stopped ({e})"))),
            }
        }
    }
}

impl<T: Pixel> EncodeVideo for Encoder<T> {
    fn encode(&mut self, frame: &VideoFrame, pts: i64, duration: i64, out: &mut Vec<Coded>) -> Result<()> {
        if frame.chroma != Chroma::C420
            || frame.depth != self.depth
            || (frame.width, frame.height) != self.size
        {
            return Err(Error::unsupported("AV1 encoder", "a picture of another form than was planned"));
        }
        let mut picture = self.inner.new_frame();
        for (to, from) in picture.planes.iter_mut().zip(&frame.planes) {
            let (stride, width) = (to.cfg.stride, from.width as usize);
            let rows = to.data_origin_mut().chunks_mut(stride).take(from.height as usize);
            for (y, row) in rows.enumerate() {
                let at = y * from.stride;
                match &from.samples {
                    Samples::U8(b) => {
                        row.iter_mut().zip(&b[at..at + width]).for_each(|(t, v)| *t = T::cast_from(*v));
                    }
                    Samples::U16(w) => {
                        row.iter_mut().zip(&w[at..at + width]).for_each(|(t, v)| *t = T::cast_from(*v));
                    }
                }
            }
        }
        self.inside.enters(pts, duration);
        self.inner
            .send_frame(picture)
            .map_err(|e| Error::limit("AV1 encoder", format!("it stopped at the picture at {pts} ({e})")))?;
        self.packets(out)
    }

    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        if self.inside.is_empty() {
            return Ok(());
        }
        self.inner.flush();
        self.packets(out)
    }

    fn setup(&self) -> Vec<u8> {
        self.setup.clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::Pool;
    use crate::track::{Codec, Media, Packet, Track, VideoTrack};
    use crate::units::Ratio;
    use rstest::rstest;

    fn picture((w, h): (u32, u32), depth: u8, n: u16) -> VideoFrame {
        let mut f = VideoFrame::new(&Pool::new(), w, h, Chroma::C420, depth).unwrap();
        let most = (1u16 << depth) - 1;
        for p in &mut f.planes {
            for y in 0..p.height as usize {
                (0..p.width as usize).for_each(|x| p.put(x, y, (x as u16 * 3 + y as u16 * 2 + n * 5) % most));
            }
        }
        f
    }

    /// What was made is read by the decoder that the program has: every picture, at its time, near to what it was.
    #[rstest]
    #[case(8, 32)]
    #[case(10, 24)]
    fn what_is_made_can_be_read(#[case] depth: u8, #[case] pictures: u16) {
        let form = PictureForm { depth, ..PictureForm::plain(96, 64, Ratio { num: 25, den: 1 }) };
        let mut encoder = encoder(&form, BitRecipe::Quantiser(16), 10).unwrap();
        let mut packets = Vec::new();
        for n in 0..pictures {
            encoder.encode(&picture((96, 64), depth, n), i64::from(n) * 4, 4, &mut packets).unwrap();
        }
        encoder.flush(&mut packets).unwrap();
        assert_eq!(packets.len(), usize::from(pictures));
        let keys: Vec<i64> = packets.iter().filter(|p| p.key).map(|p| p.pts / 4).collect();
        assert_eq!(keys, (0..pictures.into()).step_by(10).collect::<Vec<_>>());
        let mut track = Track::new(1, Codec::Av1, Media::Video(VideoTrack::sized(96, 64)), 100);
        track.setup = encoder.setup();
        let mut decoder = crate::codec::video_decoder(&track, &Pool::new()).unwrap();
        let mut shown = Vec::new();
        for p in packets {
            let p =
                Packet { data: p.data, pts: p.pts, duration: p.duration, shown: true, ..Packet::default() };
            decoder.decode(&p, &mut shown).unwrap();
        }
        decoder.flush(&mut shown).unwrap();
        assert_eq!(shown.len(), usize::from(pictures));
        for (n, f) in shown.iter().enumerate() {
            assert_eq!((f.pts, f.depth), (n as i64 * 4, depth));
            let want = picture((96, 64), depth, n as u16);
            let off = |x, y| f64::from(f.planes[0].at(x, y)) - f64::from(want.planes[0].at(x, y));
            let sum: f64 =
                (0..64).flat_map(|y| (0..96).map(move |x| (x, y))).map(|(x, y)| off(x, y).powi(2)).sum();
            let rms = (sum / 6144.0).sqrt() / f64::from(1u32 << (depth - 8));
            assert!(rms < 6.0, "picture {n}: {rms}");
        }
    }

    #[test]
    fn what_it_cannot_take_is_refused() {
        let form = PictureForm::plain(96, 64, Ratio { num: 25, den: 1 });
        let mut encoder = encoder(&form, BitRecipe::Average(200_000), 25).unwrap();
        assert!(encoder.encode(&picture((64, 64), 8, 0), 0, 1, &mut Vec::new()).is_err());
        assert!(super::encoder(&PictureForm { width: 8, ..form }, BitRecipe::Quantiser(20), 25).is_err());
    }
}
