//! Containers: what is in a file, and its packets.
//!
//! A reader returns packets, never frames. To add a container: a folder here with a [`Format`] in its
//! `mod.rs`, and one line in [`FORMATS`].

pub mod asf;
pub mod avi;
pub(crate) mod block;
pub(crate) mod codes;
mod flv;
pub mod known;
pub mod listed;
pub mod mkv;
pub mod mp4;
pub mod mpeg;
pub(crate) mod mpeg_frames;
pub mod ogg;
pub mod picture;
pub(crate) mod reader;
pub mod real;
pub mod sound;
pub(crate) mod stream;
pub(crate) mod timing;
pub mod wav;
pub mod with_sound;
pub mod wrap;

pub use crate::formats::Tried;
pub use crate::track::*;

use crate::error::Result;
use std::io::{Read, Seek, SeekFrom};

/// Where bytes come from.
pub trait Source: Read + Seek + Send {}
impl<T: Read + Seek + Send> Source for T {}

/// Statements of a file about itself.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct About {
    /// ISO 8601, UTC.
    pub created: Option<String>,
    pub maker: Option<String>,
    pub model: Option<String>,
    /// Other tags: key as the file has it, value.
    pub tags: Vec<(String, String)>,
    /// Timecode of the first frame or sample where it is not in a track: samples since midnight.
    pub start_samples: Option<u64>,
    /// What is odd about the file without making it unreadable.
    pub remarks: Vec<String>,
    /// Part of the media is missing: what, and how that shows.
    pub damage: Option<String>,
    /// Values that are only stated by the file, where others are measured.
    pub stated: Vec<&'static str>,
}

impl About {
    pub(crate) fn note_stated(&mut self, value: &'static str) {
        if !self.stated.contains(&value) {
            self.stated.push(value);
        }
    }
    /// Adds a tag, up to a sensible number. What has a field of its own goes there, and what only speaks of the
    /// file's making is left out.
    pub(crate) fn note(&mut self, key: &str, value: String) {
        let key = match key {
            "nam" => "title",
            "ART" => "artist",
            "cmt" => "comment",
            "day" => "date",
            "too" | "swr" => "encoder",
            "des" => "description",
            "gen" => "genre",
            "alb" => "album",
            other => other.rsplit("com.apple.quicktime.").next().unwrap_or(other),
        };
        match key {
            "make" | "mak" => self.maker = Some(value),
            "model" | "mod" => self.model = Some(value),
            "creation_time" | "creationdate" => {
                self.created.get_or_insert(value);
            }
            "major_brand" | "minor_version" | "compatible_brands" | "handler_name" | "vendor_id"
            | "language" => (),
            _ if self.tags.len() < 200 && !self.tags.iter().any(|(k, v)| k == key && *v == value) => {
                self.tags.push((key.to_owned(), value));
            }
            _ => (),
        }
    }
}

/// A reader of one file.
pub trait Demux: Send {
    /// Short name of the container.
    fn format(&self) -> &'static str;
    fn tracks(&self) -> &[Track];
    fn about(&self) -> &About;
    /// Only packets of these tracks are returned from now on (all, before the first call).
    fn choose(&mut self, tracks: &[usize]);
    /// The next packet, by time of decoding across the chosen tracks; `None` at the end. `Damaged` is not
    /// fatal: the packet is lost and the next call goes on behind it.
    fn next_packet(&mut self) -> Result<Option<Packet>>;
    /// Goes on at the last key picture at or before this moment, in seconds (sound a little before it): before the first
    /// packet was read, and where the container has an index that tells. Gives whether it did.
    fn seek(&mut self, seconds: f64) -> Result<bool> {
        let _ = seconds;
        Ok(false)
    }
}

impl<T: Demux + ?Sized> Demux for &mut T {
    fn format(&self) -> &'static str {
        (**self).format()
    }
    fn tracks(&self) -> &[Track] {
        (**self).tracks()
    }
    fn about(&self) -> &About {
        (**self).about()
    }
    fn choose(&mut self, tracks: &[usize]) {
        (**self).choose(tracks);
    }
    fn next_packet(&mut self) -> Result<Option<Packet>> {
        (**self).next_packet()
    }
    fn seek(&mut self, seconds: f64) -> Result<bool> {
        (**self).seek(seconds)
    }
}

impl<T: Demux + ?Sized> Demux for Box<T> {
    fn format(&self) -> &'static str {
        (**self).format()
    }
    fn tracks(&self) -> &[Track] {
        (**self).tracks()
    }
    fn about(&self) -> &About {
        (**self).about()
    }
    fn choose(&mut self, tracks: &[usize]) {
        (**self).choose(tracks);
    }
    fn next_packet(&mut self) -> Result<Option<Packet>> {
        (**self).next_packet()
    }
    fn seek(&mut self, seconds: f64) -> Result<bool> {
        (**self).seek(seconds)
    }
}

/// Reads what a file says of itself, and makes ready to give its packets.
pub type Open = fn(Box<dyn Source>) -> Result<Box<dyn Demux>>;

/// A container this program reads.
pub struct Format {
    pub name: &'static str,
    /// How sure the first bytes make it: 0 is "no", 100 is "certain".
    pub score: fn(&[u8]) -> u8,
    pub open: Open,
    /// On what it was tried.
    pub tried: Tried,
}

/// Every container, in no particular order: the best score wins.
pub static FORMATS: &[&Format] = &[
    &mp4::FORMAT,
    &mkv::FORMAT,
    &mpeg::ts::FORMAT,
    &mpeg::ps::FORMAT,
    &mpeg::plain::FORMAT,
    &avi::FORMAT,
    &asf::FORMAT,
    &real::FORMAT,
    &ogg::FORMAT,
    &wav::FORMAT,
    &wav::LONG_FORMAT,
    &flv::FORMAT,
    &sound::aiff::FORMAT,
    &sound::amr::FORMAT,
    &sound::au::FORMAT,
    &sound::caf::FORMAT,
    &sound::flac::FORMAT,
    &sound::mpeg::FORMAT,
    &sound::adts::FORMAT,
    &picture::y4m::FORMAT,
    &picture::ivf::FORMAT,
    &picture::gif::FORMAT,
];

/// Bytes looked at to tell a format.
pub const PROBE_BYTES: usize = 4096;

/// The first bytes of a source, which is left at its start.
pub fn probe_bytes(source: &mut dyn Source) -> Result<Vec<u8>> {
    let mut head = Vec::with_capacity(PROBE_BYTES);
    source.seek(SeekFrom::Start(0))?;
    (&mut *source).take(PROBE_BYTES as u64).read_to_end(&mut head)?;
    source.seek(SeekFrom::Start(0))?;
    Ok(head)
}

/// The format whose score for these bytes is best.
pub fn recognise(head: &[u8]) -> Option<&'static Format> {
    FORMATS
        .iter()
        .copied()
        .map(|f| ((f.score)(head), f))
        .filter(|(s, _)| *s > 0)
        .max_by_key(|(s, _)| *s)
        .map(|(_, f)| f)
}

/// Opens a container by its content.
pub fn open(mut source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let head = probe_bytes(&mut source)?;
    match recognise(&head) {
        Some(format) => (format.open)(source),
        None => Err(crate::facts::not_media(&head)),
    }
}

/// Turns a stated 3x3 matrix's upper left 2x2 part into a clockwise turn.
pub(crate) fn rotation_of(a: i32, b: i32, c: i32, d: i32) -> u16 {
    match (a.signum(), b.signum(), c.signum(), d.signum()) {
        (0, 1, -1, 0) => 90,
        (-1, 0, 0, -1) => 180,
        (0, -1, 1, 0) => 270,
        _ => 0,
    }
}
