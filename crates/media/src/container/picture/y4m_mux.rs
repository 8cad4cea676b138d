//! Writing YUV4MPEG2: a line that describes the pictures, then each of them uncompressed behind a line of its own.

use crate::codec::Coded;
use crate::container::wrap::{Ending, Fragment, Mux, OutTrack, OutTrackKind, Sink};
use crate::error::{Error, Result};
use crate::frame::Fields;

pub struct Writer {
    out: Box<dyn Sink>,
    /// The first line, but for how the samples lie.
    head: String,
    /// As the encoder tells it.
    kind: String,
    full_range: bool,
    begun: bool,
}

impl Writer {
    pub fn new(out: Box<dyn Sink>, tracks: &[OutTrack]) -> Result<Writer> {
        let [
            OutTrack {
                kind: OutTrackKind::Video { width, height, pixel_shape, colour, fields, rate, .. },
                ..
            },
        ] = tracks
        else {
            return Err(Error::setting("Y4M", "one track of pictures is written"));
        };
        let rate = rate.ok_or_else(|| {
            Error::unsupported("Y4M", "pictures at uneven times: it knows one rate only; state a frame_rate")
        })?;
        let fields = match fields {
            Fields::TopFirst => 't',
            Fields::BottomFirst => 'b',
            Fields::Interlaced => 'm',
            _ => 'p',
        };
        let head = format!(
            "YUV4MPEG2 W{width} H{height} F{}:{} I{fields} A{}:{}",
            rate.num, rate.den, pixel_shape.num, pixel_shape.den
        );
        Ok(Writer { out, head, kind: String::new(), full_range: colour.full_range, begun: false })
    }

    fn begin(&mut self) -> Result<()> {
        if !std::mem::replace(&mut self.begun, true) {
            let range = if self.full_range { " XCOLORRANGE=FULL" } else { "" };
            self.out.write_all(format!("{} C{}{range}\n", self.head, self.kind).as_bytes())?;
        }
        Ok(())
    }
}

impl Mux for Writer {
    fn setup(&mut self, _track: usize, setup: &[u8]) {
        self.kind = String::from_utf8_lossy(setup).into_owned();
    }

    fn write(&mut self, _track: usize, packet: &Coded) -> Result<()> {
        self.begin()?;
        self.out.write_all(b"FRAME\n")?;
        self.out.write_all(&packet.data)?;
        Ok(())
    }

    fn finish(mut self: Box<Self>, _endings: &[Ending]) -> Result<Vec<Fragment>> {
        self.begin()?;
        self.out.flush()?;
        Ok(Vec::new())
    }
}
