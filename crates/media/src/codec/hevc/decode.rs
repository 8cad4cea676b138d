//! Packets to pictures: the library's part behind [`Engine`], times and losses here.

use super::order::Order;
use super::usual::Usual;
use super::{Config, Sps, nal_units};
use crate::codec::DecodeVideo;
use crate::codec::waiting::Waiting;
use crate::error::{Error, Result};
use crate::frame::{Colour, Pool, VideoFrame};
use crate::guard;
use crate::track::{Packet, Track, VideoTrack};
use crate::units::Ratio;

/// A library that decodes it.
pub(super) trait Engine: Send {
    /// Takes a unit, without the mark or length in front of it; a picture that begins with it has this place in the order of
    /// showing. Damage leaves it going on; any other error ends the film.
    fn feed(&mut self, nal: &[u8], order: i32) -> Result<()>;
    /// The next picture that is ready, with its place.
    fn picture(&mut self) -> Result<Option<(i64, VideoFrame)>>;
    /// Nothing follows: every picture is ready.
    fn end(&mut self) -> Result<()>;
    /// What was damaged since it was asked, one at a time.
    fn trouble(&mut self) -> Option<String>;
}

pub struct Decoder {
    /// `None`: parameter sets must go in front of the next packet.
    inner: Option<Box<dyn Engine>>,
    begin: fn(usize, &Pool) -> Result<Box<dyn Engine>>,
    threads: usize,
    config: Config,
    pool: Pool,
    order: Order,
    waiting: Waiting,
    concealed: u64,
    why: Option<String>,
    colour: Colour,
    pixel_shape: Ratio,
}

fn usual(threads: usize, pool: &Pool) -> Result<Box<dyn Engine>> {
    Ok(Box::new(Usual::new(threads, pool.clone())))
}

#[cfg(de265)]
fn wide(threads: usize, pool: &Pool) -> Result<Box<dyn Engine>> {
    Ok(Box::new(super::wide::Wide::new(threads, pool.clone())?))
}

/// It refuses by itself what it cannot decode.
#[cfg(not(de265))]
use usual as wide;

impl Decoder {
    pub fn new(track: &Track, v: &VideoTrack, pool: Pool) -> Result<Self> {
        let config = Config::parse(&track.setup)?;
        let sps = config.first_sps().and_then(|s| Sps::parse(s));
        let pixel_shape = sps.map_or(Ratio::ONE, |s| s.pixel_shape);
        Ok(Decoder {
            inner: None,
            begin: if super::is_wide(v) { wide } else { usual },
            threads: threads(v),
            config,
            pool,
            order: Order::new(),
            waiting: Waiting::new(track.decode_times),
            concealed: 0,
            why: None,
            colour: v.colour,
            pixel_shape,
        })
    }

    /// What is ready.
    fn collect(&mut self, out: &mut Vec<VideoFrame>) -> Result<()> {
        let Some(inner) = &mut self.inner else { return Ok(()) };
        while let Some((place, mut picture)) = inner.picture()? {
            let Some((pts, duration)) = self.waiting.came(place) else { continue };
            (picture.colour, picture.pixel_shape) = (self.colour, self.pixel_shape);
            (picture.pts, picture.duration) = (pts, duration);
            out.push(picture);
        }
        Ok(())
    }
}

/// Threads of one decoder: small pictures (tiles of a still, which are decoded beside one another) are not worth more than
/// one.
fn threads(v: &VideoTrack) -> usize {
    const MOST: usize = 8;
    const SMALL: u64 = 300_000;
    if u64::from(v.width) * u64::from(v.height) < SMALL {
        return 1;
    }
    std::thread::available_parallelism().map_or(1, usize::from).min(MOST)
}

impl DecodeVideo for Decoder {
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        // The library may break on damage: then it begins anew with the next key picture.
        match guard::catch(|| self.take(packet, out)) {
            Some(done) => done,
            None => {
                self.begin_anew();
                Err(Error::damaged("HEVC", "the decoder broke on it"))
            }
        }
    }

    fn flush(&mut self, out: &mut Vec<VideoFrame>) -> Result<()> {
        let rest = guard::catch(|| {
            if let Some(inner) = &mut self.inner {
                inner.end()?;
                self.collect(out)?;
            }
            while let Some(e) = self.trouble() {
                self.went_on(e);
            }
            Ok(())
        });
        self.waiting.end();
        self.begin_anew();
        rest.unwrap_or(Ok(()))
    }

    fn take_lost(&mut self) -> Vec<(i64, i64)> {
        self.waiting.take_lost()
    }

    fn concealed(&self) -> u64 {
        self.concealed
    }

    fn why(&self) -> Option<&str> {
        self.why.as_deref()
    }
}

impl Decoder {
    fn begin_anew(&mut self) {
        (self.inner, self.order) = (None, Order::new());
    }

    fn went_on(&mut self, behind: String) {
        self.concealed += 1;
        self.why.get_or_insert(behind);
    }

    fn trouble(&mut self) -> Option<String> {
        self.inner.as_mut()?.trouble()
    }

    /// The library, with the parameter sets in it.
    fn ready(&mut self) -> Result<&mut Box<dyn Engine>> {
        let inner = match self.inner.take() {
            Some(inner) => inner,
            None => {
                let mut inner = (self.begin)(self.threads, &self.pool)?;
                for nal in &self.config.units {
                    self.order.take(nal);
                    let _ = inner.feed(nal, 0);
                }
                inner
            }
        };
        Ok(self.inner.insert(inner))
    }

    fn take(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        self.ready()?;
        let (mut wrong, mut began, mut order) = (None::<String>, false, 0);
        for nal in nal_units(&packet.data, self.config.length_size) {
            let nal = match nal {
                Ok(nal) => nal,
                Err(e) => {
                    wrong.get_or_insert(e.to_string());
                    break;
                }
            };
            if let Some(place) = self.order.take(nal)
                && !began
            {
                (began, order) = (true, place.order);
                let shown = packet.shown && !place.skipped;
                self.waiting.given(order.into(), packet.pts, packet.duration, shown);
            }
            match self.ready()?.feed(nal, order) {
                Ok(()) => (),
                Err(Error::Damaged(fault)) => _ = wrong.get_or_insert(fault.what),
                Err(e) => return Err(e),
            }
        }
        self.collect(out)?;
        while let Some(e) = self.trouble() {
            wrong.get_or_insert(e);
        }
        match wrong {
            // Nothing of it can come out.
            Some(why) if !began => Err(Error::damaged("HEVC", why)),
            Some(why) => {
                self.went_on(why);
                Ok(())
            }
            None if !began && packet.shown => Err(Error::damaged("HEVC", "a packet without a picture")),
            None => Ok(()),
        }
    }
}
