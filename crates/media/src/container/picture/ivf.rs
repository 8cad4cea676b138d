//! IVF: a header of 32 bytes, then frames of VP8, VP9 or AV1 with 12 bytes each in front. The format has no
//! standard; its fields are those that libvpx's own tools write.

use crate::bits::{le16, le32, le64};
use crate::container::codes;
use crate::container::reader::Reader;
use crate::container::stream::{Described, Look, Parts, Raw, Streamed};
use crate::container::{About, Demux, Format, Media, Source, Track, Tried, VideoTrack};
use crate::error::{Error, Result};
use crate::frame::video::check_size;
use crate::units::Ratio;

pub static FORMAT: Format = Format { name: "IVF", score, open, tried: Tried::Writers };

const LOOK: u64 = 64 << 20;

fn score(head: &[u8]) -> u8 {
    if head.starts_with(b"DKIF\0\0") { 100 } else { 0 }
}

struct Ivf {
    r: Reader,
    first: u64,
    vp8: bool,
    /// Times count in units of this many ticks.
    each: i64,
    cut: Option<String>,
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let head = r.take(32, "IVF header")?;
    let cut = || Error::damaged("IVF header", "it is cut short");
    let code: [u8; 4] = head[8..12].try_into().map_err(|_| cut())?;
    let (w, h) = (le16(&head, 12).ok_or_else(cut)?, le16(&head, 14).ok_or_else(cut)?);
    let (num, den) = (le32(&head, 16).ok_or_else(cut)?, le32(&head, 20).ok_or_else(cut)?);
    let codec = codes::picture(&code);
    check_size("IVF header", w.into(), h.into())?;
    let ticks = Ratio::new(num.into(), den.into())
        .ok_or_else(|| Error::damaged("IVF header", format!("{num} ticks in {den} s")))?;
    let mut v = VideoTrack::sized(w.into(), h.into());
    (v.rate, v.constant_rate) = (Some(ticks), true);
    let first = u64::from(le16(&head, 6).unwrap_or(32).max(32));
    let vp8 = codec == crate::container::Codec::Vp8;
    let mut d = Described::new(Track::new(1, codec, Media::Video(v), ticks.num), ticks.num);
    d.stated_frames = le32(&head, 24).map(u64::from).filter(|&n| n > 0);
    let mut ivf = Ivf { r, first, vp8, each: ticks.den.into(), cut: None };
    ivf.rewind();
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: true };
    Ok(Box::new(Streamed::open(ivf, vec![d], About::default(), look)?))
}

impl Parts for Ivf {
    fn next(&mut self) -> Result<Option<Raw>> {
        let at = self.r.at();
        let Some(h) = self.r.array::<12>()? else { return Ok(None) };
        let size = u64::from(le32(&h, 0).unwrap_or(0));
        if size > self.r.left() {
            self.cut.get_or_insert(format!(
                "cut off, or still being copied: a frame of {size} bytes at byte {at}, but the file ends after {}",
                self.r.left()
            ));
            self.r.go(self.r.len());
            return Ok(None);
        }
        let data = self.r.take(size, "IVF frame")?;
        let pts = (le64(&h, 4).unwrap_or(0) as i64).saturating_mul(self.each);
        // RFC 6386, 9.1: the first byte tells key frames and frames that are not shown.
        let first = data.first().copied().filter(|_| self.vp8);
        let hidden = first.is_some_and(|b| b & 0x10 == 0);
        let key = first.is_some_and(|b| b & 1 == 0);
        Ok(Some(Raw { pts: Some(pts), duration: Some(self.each), key, hidden, data, ..Raw::default() }))
    }
    fn rewind(&mut self) {
        self.r.go(self.first);
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
    fn cut(&self) -> Option<String> {
        self.cut.clone()
    }
}
