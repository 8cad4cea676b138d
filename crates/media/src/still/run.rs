//! A numbered run of pictures as a clip: each file is a packet.

use crate::codec::single::OnePicture;
use crate::container::{About, Codec, Demux, Media, Packet, Source, Track, VideoTrack};
use crate::error::{Error, Result};
use crate::frame::{Pool, VideoFrame};
use crate::limits::MAX_PACKET_BYTES;
use crate::units::{Ratio, Time};
use std::io::{Cursor, Read, SeekFrom};
use std::path::PathBuf;

/// Most pictures of a run: eleven hours at 25 a second.
pub const MAX_FRAMES: u64 = 1_000_000;

/// Opens the picture with this place in the run.
pub type OpenOne = Box<dyn Fn(u64) -> Result<Box<dyn Source>> + Send>;

pub struct Run {
    open: OpenOne,
    /// Of each picture, counted from the first.
    numbers: Vec<u64>,
    next: usize,
    each: i64,
    tracks: Vec<Track>,
    about: About,
    chosen: bool,
}

impl Run {
    /// A clip of `count` pictures, each shown for one frame of `rate`. The first tells size and form.
    pub fn open(open: OpenOne, count: u64, rate: Ratio) -> Result<Run> {
        Self::with_numbers(open, (0..count.min(MAX_FRAMES + 1)).collect(), rate)
    }

    /// The same with the numbers of the pictures, in order: one in front of missing ones stays on for them.
    pub fn with_numbers(open: OpenOne, mut numbers: Vec<u64>, rate: Ratio) -> Result<Run> {
        let (Some(&from), Some(&to)) = (numbers.first(), numbers.last()) else {
            return Err(Error::damaged("numbered run", "no pictures"));
        };
        let all = to.saturating_sub(from).saturating_add(1);
        if all > MAX_FRAMES || !numbers.is_sorted() {
            let why = format!("pictures from number {from} to {to}; up to {MAX_FRAMES} of them, in order");
            return Err(Error::limit("numbered run", why));
        }
        let mut about = About::default();
        let missing = all - numbers.len() as u64;
        if missing > 0 {
            about.remarks.push(format!(
                "{missing} of pictures {from} to {to} are missing: those in front of them stay on"
            ));
        }
        numbers.iter_mut().for_each(|n| *n -= from);
        let count = all;
        let mut first = open(0)?;
        let facts = super::facts_of(&mut first)?;
        let turned = facts.rotation == 90 || facts.rotation == 270;
        let (w, h) = if turned { (facts.height, facts.width) } else { (facts.width, facts.height) };
        // Decoding turns the picture already.
        let mut v = VideoTrack::sized(if turned { h } else { w }, if turned { w } else { h });
        (v.rate, v.constant_rate) = (Some(rate), true);
        (v.chroma, v.depth, v.colour) = (Some(facts.chroma), Some(facts.depth), facts.colour);
        v.profile = Some(facts.format.into());
        let mut track = Track::new(1, Codec::Stills, Media::Video(v), rate.num);
        let length = i64::try_from(count).ok().and_then(|n| n.checked_mul(rate.den.into()));
        track.duration =
            Time::new(length.ok_or_else(|| Error::limit("numbered run", "too many pictures"))?, rate.num);
        (track.packets, track.shown) = (Some(numbers.len() as u64), Some(numbers.len() as u64));
        Ok(Run { open, numbers, next: 0, each: rate.den.into(), tracks: vec![track], about, chosen: true })
    }
}

/// Groups paths that differ only in the last number of their names, if that has the same number of digits (or
/// no zeros in front) and counts on without a hole; each group in the order of its numbers, groups in the order
/// of their first path. Only pictures by name are grouped; other files stay alone.
pub fn numbered(paths: Vec<PathBuf>) -> Vec<Vec<PathBuf>> {
    const ENDINGS: [&str; 12] =
        ["dpx", "exr", "tif", "tiff", "png", "jpg", "jpeg", "bmp", "webp", "avif", "gif", "tga"];
    type Key = (String, String, usize);
    let split = |p: &PathBuf| -> Option<(Key, u64)> {
        let ending = p.extension()?.to_str()?.to_lowercase();
        if !ENDINGS.contains(&ending.as_str()) {
            return None;
        }
        let text = p.to_str()?;
        let stem = &text[..text.len() - ending.len() - 1];
        let digits = stem.len() - stem.trim_end_matches(|c: char| c.is_ascii_digit()).len();
        let (head, number) = stem.split_at(stem.len() - digits);
        let width = if number.starts_with('0') { digits } else { 0 };
        Some(((head.to_owned(), ending, width), number.parse().ok()?))
    };
    type Keyed = (Option<(Key, u64)>, usize, PathBuf);
    let mut keyed: Vec<Keyed> = paths.into_iter().enumerate().map(|(i, p)| (split(&p), i, p)).collect();
    // 0009 and 0010 belong together: both have four digits.
    let widths: std::collections::HashSet<(String, String, usize)> =
        keyed.iter().filter_map(|(k, ..)| k.as_ref().map(|k| k.0.clone())).filter(|k| k.2 > 0).collect();
    for (k, _, p) in &mut keyed {
        if let Some(((head, ending, width), number)) = k
            && *width == 0
        {
            let digits = number.to_string().len();
            if widths.contains(&(head.clone(), ending.clone(), digits)) && p.to_str().is_some() {
                *width = digits;
            }
        }
    }
    keyed.sort();
    let mut groups: Vec<(usize, Vec<PathBuf>)> = Vec::new();
    let mut before: Option<(Key, u64)> = None;
    for (k, i, p) in keyed {
        let follows = match (&before, &k) {
            (Some(b), Some(k)) => b.0 == k.0 && b.1.checked_add(1) == Some(k.1),
            _ => false,
        };
        match groups.last_mut() {
            Some(g) if follows => {
                g.0 = g.0.min(i);
                g.1.push(p);
            }
            _ => groups.push((i, vec![p])),
        }
        before = k;
    }
    groups.sort();
    groups.into_iter().map(|g| g.1).collect()
}

impl Demux for Run {
    fn format(&self) -> &'static str {
        "numbered pictures"
    }
    fn tracks(&self) -> &[Track] {
        &self.tracks
    }
    fn about(&self) -> &About {
        &self.about
    }
    fn choose(&mut self, tracks: &[usize]) {
        self.chosen = tracks.contains(&0);
    }
    fn next_packet(&mut self) -> Result<Option<Packet>> {
        let Some(&n) = self.numbers.get(self.next).filter(|_| self.chosen) else { return Ok(None) };
        let until = self.numbers.get(self.next + 1).map_or(n + 1, |next| *next);
        self.next += 1;
        let mut source = (self.open)(self.next as u64 - 1)?;
        let size = source.seek(SeekFrom::End(0))?;
        if size > MAX_PACKET_BYTES {
            return Err(Error::limit(
                "numbered run",
                format!("picture {n} has {size} bytes; up to {MAX_PACKET_BYTES}"),
            ));
        }
        source.seek(SeekFrom::Start(0))?;
        let mut data = Vec::with_capacity(size as usize);
        source.take(MAX_PACKET_BYTES).read_to_end(&mut data)?;
        Ok(Some(Packet {
            pts: n as i64 * self.each,
            duration: (until - n) as i64 * self.each,
            key: true,
            shown: true,
            data,
            ..Packet::default()
        }))
    }
    fn seek(&mut self, seconds: f64) -> Result<bool> {
        let frame = seconds.max(0.0) * f64::from(self.tracks[0].timescale) / self.each as f64;
        let after = self.numbers.partition_point(|n| *n as f64 <= frame + 1e-6);
        self.next = after.saturating_sub(1);
        Ok(true)
    }
}

/// Whole picture files to frames.
pub struct Decoder {
    pub pool: Pool,
}

impl OnePicture for Decoder {
    fn picture(&mut self, data: &[u8]) -> Result<VideoFrame> {
        // One file that is no picture does not end a run.
        super::frame_of(&mut Cursor::new(data), &self.pool)
            .map_err(|e| Error::damaged("picture", e.to_string()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn grey(n: u64) -> Vec<u8> {
        let mut out = Cursor::new(Vec::new());
        let picture = image::GrayImage::from_pixel(6, 4, image::Luma([n as u8]));
        picture.write_to(&mut out, image::ImageFormat::Png).unwrap();
        out.into_inner()
    }

    #[test]
    fn missing_pictures_are_told_and_those_before_them_stay_on() {
        let numbers = vec![100, 101, 104];
        let rate = Ratio::new(24000, 1001).unwrap();
        let open = |numbers: &[u64]| {
            let one: OpenOne = Box::new(|n| Ok(Box::new(Cursor::new(grey(n)))));
            Run::with_numbers(one, numbers.to_vec(), rate)
        };
        let mut run = open(&numbers).unwrap();
        assert_eq!((run.tracks()[0].duration.seconds() * 24000.0 / 1001.0).round(), 5.0);
        let remark = "2 of pictures 100 to 104 are missing: those in front of them stay on";
        assert_eq!(run.about().remarks, [remark]);
        let times = |run: &mut Run| -> Vec<(i64, i64)> {
            std::iter::from_fn(|| run.next_packet().unwrap().map(|p| (p.pts / 1001, p.duration / 1001)))
                .collect()
        };
        assert_eq!(times(&mut run), [(0, 1), (1, 3), (4, 1)]);
        assert!(run.seek(0.05).unwrap());
        assert_eq!(times(&mut run)[0], (1, 3));
        assert!(open(&[]).is_err() && open(&[2, 1]).is_err() && open(&[0, MAX_FRAMES]).is_err());
    }

    #[rstest]
    #[case("t_0009.png t_0010.png t_0011.png", "t_0009.png t_0010.png t_0011.png")]
    #[case("a9.dpx a10.dpx", "a9.dpx a10.dpx")]
    #[case("a1.png a3.png a1.jpg", "a1.png|a3.png|a1.jpg")]
    #[case("b2.png a.mp4 b1.png", "b1.png b2.png|a.mp4")]
    #[case("take1.mov take2.mov", "take1.mov|take2.mov")]
    fn numbers_that_count_on_belong_together(#[case] names: &str, #[case] want: &str) {
        let groups = numbered(names.split(' ').map(PathBuf::from).collect());
        let group = |g: &Vec<PathBuf>| g.iter().filter_map(|p| p.to_str()).collect::<Vec<_>>().join(" ");
        assert_eq!(groups.iter().map(group).collect::<Vec<_>>().join("|"), want);
    }
}
