//! YUV4MPEG2: a line that describes, then uncompressed frames with a line each (the mjpegtools manual page
//! yuv4mpeg(5); letters for more depths as its readers and writers agree).

use crate::container::reader::Reader;
use crate::container::stream::{Described, Look, Parts, Raw, Streamed};
use crate::container::{
    About, Codec, Demux, Format, Media, Packing, RawPicture, Source, Track, Tried, VideoTrack,
};
use crate::error::{Error, Result};
use crate::frame::video::check_size;
use crate::frame::{Chroma, Fields};
use crate::units::{Ratio, Time};

pub static FORMAT: Format = Format { name: "YUV4MPEG2", score, open, tried: Tried::Made };

const LOOK: u64 = 16 << 20;
/// Longest line, in bytes.
const MAX_LINE: usize = 1024;

fn score(head: &[u8]) -> u8 {
    if head.starts_with(b"YUV4MPEG2 ") { 100 } else { 0 }
}

struct Y4m {
    r: Reader,
    first: u64,
    frame: u64,
    each: i64,
    next: i64,
    cut: Option<String>,
}

fn line(r: &mut Reader) -> Result<Option<Vec<u8>>> {
    let mut b = r.peek(MAX_LINE)?;
    let Some(end) = b.iter().position(|&c| c == b'\n') else { return Ok(None) };
    b.truncate(end);
    r.skip(end as u64 + 1);
    Ok(Some(b))
}

/// `420jpeg`, `422p10`, `mono` and their like.
fn chroma(name: &str) -> Option<(Chroma, u8)> {
    let (sampling, rest) = if let Some(rest) = name.strip_prefix("mono") {
        (Chroma::Gray, rest)
    } else {
        let chroma = match name.get(..3)? {
            "420" => Chroma::C420,
            "422" => Chroma::C422,
            "444" => Chroma::C444,
            _ => return None,
        };
        (chroma, &name[3..])
    };
    let depth = match rest {
        "" | "jpeg" | "mpeg2" | "paldv" => 8,
        _ => rest.trim_start_matches('p').parse().ok().filter(|d| (8..=16).contains(d))?,
    };
    Some((sampling, depth))
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let head = line(&mut r)?.ok_or_else(|| Error::damaged(FORMAT.name, "its first line has no end"))?;
    let head = String::from_utf8_lossy(&head).into_owned();
    let (mut w, mut h, mut rate, mut kind) = (0, 0, None, (Chroma::C420, 8));
    let mut v = VideoTrack::sized(0, 0);
    let pair = |t: &str| {
        let (a, b) = t.split_once(':')?;
        Ratio::new(a.parse().ok()?, b.parse().ok()?)
    };
    for word in head.split(' ').skip(1) {
        let Some((key, value)) = word.split_at_checked(1) else { continue };
        match key {
            "W" => w = value.parse().unwrap_or(0),
            "H" => h = value.parse().unwrap_or(0),
            "F" => rate = pair(value),
            "A" => v.pixel_shape = pair(value).unwrap_or(Ratio::ONE),
            "I" => {
                v.fields = match value {
                    "t" => Fields::TopFirst,
                    "b" => Fields::BottomFirst,
                    "m" => Fields::Interlaced,
                    _ => Fields::Progressive,
                }
            }
            "C" => {
                kind = chroma(value).ok_or_else(|| {
                    Error::unsupported(FORMAT.name, format!("pictures of the kind '{value}' cannot be read"))
                })?
            }
            "X" if value == "COLORRANGE=FULL" => v.colour.full_range = true,
            _ => (),
        }
    }
    check_size(FORMAT.name, w, h)?;
    let rate = rate.ok_or_else(|| Error::damaged(FORMAT.name, format!("no frame rate in '{head}'")))?;
    (v.width, v.height, v.rate, v.constant_rate) = (w, h, Some(rate), true);
    (v.chroma, v.depth) = (Some(kind.0), Some(kind.1));
    let raw = RawPicture::new(Packing::Planar { chroma: kind.0, depth: kind.1, red_first: false });
    let frame =
        raw.frame_bytes(w, h).ok_or_else(|| Error::damaged(FORMAT.name, "frames too large to count"))?;
    let first = r.at();
    let mut d = Described::new(Track::new(1, Codec::Raw(raw), Media::Video(v), rate.num), rate.num);
    // Every frame takes as much, when none has parameters of its own.
    let frames = r.left() / (frame + 6);
    d.stated_frames = Some(frames);
    d.stated = Some(Time::new((frames.min(1 << 40) as i64).saturating_mul(rate.den.into()), rate.num));
    let y4m = Y4m { r, first, frame, each: rate.den.into(), next: 0, cut: None };
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: false };
    Ok(Box::new(Streamed::open(y4m, vec![d], About::default(), look)?))
}

impl Parts for Y4m {
    fn next(&mut self) -> Result<Option<Raw>> {
        let at = self.r.at();
        if self.r.left() == 0 {
            return Ok(None);
        }
        if self.r.peek(5)? != b"FRAME" {
            let start = at + 1;
            self.r.go(start);
            self.r.find(5, u64::MAX, |b| b == b"FRAME")?;
            return Err(Error::damaged_at(
                FORMAT.name,
                at,
                format!("{} bytes that are no frame", self.r.at() - at),
            ));
        }
        let whole = line(&mut self.r)?.is_some();
        if !whole || self.r.left() < self.frame {
            self.cut.get_or_insert(format!(
                "cut off, or still being copied: a frame of {} bytes at byte {at}, but the file ends after {}",
                self.frame,
                self.r.left()
            ));
            self.r.go(self.r.len());
            return Ok(None);
        }
        let data = self.r.take(self.frame, "frame")?;
        let pts = self.next * self.each;
        self.next += 1;
        Ok(Some(Raw { pts: Some(pts), duration: Some(self.each), key: true, data, ..Raw::default() }))
    }
    fn rewind(&mut self) {
        self.r.go(self.first);
        self.next = 0;
    }
    fn at(&self) -> u64 {
        self.r.at()
    }
    fn cut(&self) -> Option<String> {
        self.cut.clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("420jpeg", Some((Chroma::C420, 8)))]
    #[case("422p10", Some((Chroma::C422, 10)))]
    #[case("mono16", Some((Chroma::Gray, 16)))]
    #[case("444", Some((Chroma::C444, 8)))]
    #[case("411", None)]
    #[case("420p99", None)]
    fn kinds(#[case] name: &str, #[case] want: Option<(Chroma, u8)>) {
        assert_eq!(chroma(name), want);
    }
}
