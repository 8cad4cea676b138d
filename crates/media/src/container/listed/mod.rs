//! What lies in several files of a folder and is one stream: a playlist with its segments, and a fragment whose beginning lies
//! beside it. The pieces are read as one file, one behind the other.
//!
//! `hls.rs` and `dash.rs` read the lists, `pieces.rs` reads the pieces. To add a kind of list: a file here, and a line in
//! [`LISTS`].

mod dash;
mod hls;
mod near;
mod pieces;

pub use near::{Folder, Near, Parts, State, relative};

use super::mp4;
use super::timing::PacketLength;
use super::with_sound::WithSound;
use super::{About, Demux, Media, Packet, Source, Track, probe_bytes};
use crate::error::{Error, Result};
use crate::join::Joined;
use crate::units::Time;
use pieces::{Piece, Pieces};
use std::io::SeekFrom;
use std::path::Path;
use std::sync::Arc;

/// Longest list that is read, and most pieces in one.
const MOST_BYTES: u64 = 16 << 20;
const MOST_PIECES: usize = 200_000;

/// One stream of a list: pieces that are one file together.
#[derive(Debug, Default, PartialEq)]
struct Stream {
    pieces: Vec<Piece>,
    /// What is odd about the list.
    remarks: Vec<String>,
}

/// What a list says is to be played at once: pictures (or sound alone), and sound that lies by itself.
#[derive(Debug, Default, PartialEq)]
struct Listed {
    main: Stream,
    sound: Option<Stream>,
}

/// What is to be played one behind the other, most often one.
type Lists = Vec<Listed>;

struct List {
    name: &'static str,
    is: fn(&[u8]) -> bool,
    /// The text, the file's own name, and where other lists are.
    read: fn(&str, &str, &dyn Near) -> Result<Lists>,
}

static LISTS: &[List] = &[
    List { name: "an HLS playlist", is: hls::is, read: hls::read },
    List { name: "a DASH manifest", is: dash::is, read: dash::read },
];

/// What is read of one file and those that belong to it.
pub struct Opened {
    pub demux: Box<dyn Demux>,
    /// Of all files.
    pub bytes: u64,
    /// The files, to see whether they change; none where it is one by itself.
    pub parts: Option<Parts>,
}

/// Opens a file that is of several by what lies near it; `None`: it is none of these.
pub fn open(source: &mut dyn Source, name: &str, near: &Arc<dyn Near>) -> Result<Option<Opened>> {
    let head = probe_bytes(source)?;
    if let Some(list) = LISTS.iter().find(|l| (l.is)(&head)) {
        let bytes = source.seek(SeekFrom::End(0))?;
        source.seek(SeekFrom::Start(0))?;
        if bytes > MOST_BYTES {
            let why = format!("a list of {bytes} bytes; up to {MOST_BYTES} are read");
            return Err(Error::limit(list.name, why));
        }
        let mut text = Vec::new();
        source.read_to_end(&mut text)?;
        let listed = (list.read)(&String::from_utf8_lossy(&text), name, near.as_ref())?;
        return open_listed(listed, list.name, near).map(Some);
    }
    if !mp4::is_part(&head, source)? {
        return Ok(None);
    }
    let Some(beginning) = beginning(source, name, near)? else { return Ok(None) };
    let mut main = Stream { pieces: with_beginning(&beginning, name), remarks: Vec::new() };
    main.remarks.push(format!("read with its beginning, which lies beside it: {beginning}"));
    open_listed(vec![Listed { main, sound: None }], FRAGMENT, near).map(Some)
}

/// The same of a file by its path: whatever it is.
pub fn open_path(path: &Path) -> Result<Opened> {
    let mut file = std::fs::File::open(path)?;
    let bytes = file.metadata()?.len();
    if let Some(opened) = near_path(&mut file, path)? {
        return Ok(opened);
    }
    Ok(Opened { demux: super::open(Box::new(file))?, bytes, parts: None })
}

/// Opens a file that is of several, and leaves any other for who knows what it is.
pub fn near_path(file: &mut dyn Source, path: &Path) -> Result<Option<Opened>> {
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    // A name that is no text stands in no list.
    let name = path.file_name().and_then(|n| n.to_str()).unwrap_or_default();
    let near: Arc<dyn Near> = Arc::new(Folder(folder.to_owned()));
    let opened = open(file, name, &near)?;
    file.seek(SeekFrom::Start(0))?;
    Ok(opened)
}

fn open_listed(lists: Lists, what: &str, near: &Arc<dyn Near>) -> Result<Opened> {
    let streams = lists.iter().flat_map(|l| [Some(&l.main), l.sound.as_ref()]).flatten();
    let parts = Some(Parts::of(streams.flat_map(|s| &s.pieces).map(|p| p.name.as_str()), near)?);
    let (mut bytes, count) = (0, lists.len());
    let mut all = Vec::new();
    for (n, listed) in lists.into_iter().enumerate() {
        all.push((
            format!("part {} of {count}", n + 1),
            open_one(listed, what, near, (n, count), &mut bytes)?,
        ));
    }
    let demux = match <[_; 1]>::try_from(all) {
        Ok([(_, one)]) => one,
        Err(all) => Box::new(Joined::new(all)?),
    };
    Ok(Opened { demux, bytes, parts })
}

/// What is played at once. What `follows` another begins with its first picture or sound, whatever time that has.
fn open_one(
    listed: Listed,
    what: &str,
    near: &Arc<dyn Near>,
    (n, count): (usize, usize),
    bytes: &mut u64,
) -> Result<Box<dyn Demux>> {
    let mut about = About::default();
    let mut one = |stream: Stream| -> Result<Box<dyn Demux>> {
        let count = stream.pieces.len();
        let pieces = Pieces::open(stream.pieces, near.clone(), what)?;
        *bytes += pieces.bytes;
        about.remarks.extend(stream.remarks);
        if !pieces.missing.is_empty() {
            let names = pieces.missing.iter().take(3).cloned().collect::<Vec<_>>().join(", ");
            let more = pieces.missing.len().saturating_sub(3);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let why = format!("{} of {count} parts are missing: {names}{more}", pieces.missing.len());
            about.damage.get_or_insert(why);
        }
        super::open(Box::new(pieces))
    };
    let main = one(listed.main)?;
    let sound = listed.sound.map(&mut one).transpose()?;
    let inner: Box<dyn Demux> = match sound {
        Some(sound) => Box::new(WithSound::new(main, vec![("its sound".into(), sound)])?),
        None => main,
    };
    let mut own = inner.about().clone();
    own.remarks.splice(0..0, about.remarks);
    own.damage = about.damage.or(own.damage);
    if count > 1 && n == 0 {
        let names = inner.tracks().iter().map(|t| t.codec.name()).collect::<Vec<_>>().join(", ");
        let why = format!(
            "{count} streams one behind the other (the first: {names}): they are decoded and put together in its form"
        );
        own.remarks.insert(0, why);
    }
    Ok(Box::new(FromZero::new(inner, own, n > 0)))
}

/// A stream that was cut out of a longer one begins at its first picture.
struct FromZero {
    inner: Box<dyn Demux>,
    about: About,
    tracks: Vec<Track>,
    shifts: Vec<i64>,
}

impl FromZero {
    fn new(inner: Box<dyn Demux>, about: About, follows: bool) -> FromZero {
        let played = |t: &&Track| matches!(t.media, Media::Video(_) | Media::Audio(_));
        let first = inner.tracks().iter().filter(played).map(|t| t.start).min().unwrap_or(Time::ZERO);
        // A shift of a few frames is how sound and pictures belong together.
        let first = if follows || first.seconds() > 1.0 { first } else { Time::ZERO };
        let shifts: Vec<i64> = inner.tracks().iter().map(|t| first.ticks_at(t.timescale)).collect();
        let moved = inner.tracks().iter().zip(&shifts).map(|(t, by)| {
            let start = Time::new(t.start.ticks_at(t.timescale) - by, t.timescale);
            Track { start, ..t.clone() }
        });
        let tracks = moved.collect();
        FromZero { inner, about, tracks, shifts }
    }
}

impl Demux for FromZero {
    fn format(&self) -> &'static str {
        self.inner.format()
    }
    fn tracks(&self) -> &[Track] {
        &self.tracks
    }
    fn about(&self) -> &About {
        &self.about
    }
    fn choose(&mut self, tracks: &[usize]) {
        self.inner.choose(tracks);
    }
    fn next_packet(&mut self) -> Result<Option<Packet>> {
        let packet = self.inner.next_packet()?;
        Ok(packet.map(|p| Packet { pts: p.pts.saturating_sub(*self.shifts.get(p.track).unwrap_or(&0)), ..p }))
    }
    fn seek(&mut self, seconds: f64) -> Result<bool> {
        let shift = self.tracks.iter().zip(&self.shifts).map(|(t, s)| *s as f64 / f64::from(t.timescale));
        self.inner.seek(seconds + shift.fold(0.0, f64::max))
    }
}

const FRAGMENT: &str = "a fragment";

fn with_beginning(beginning: &str, fragment: &str) -> Vec<Piece> {
    vec![Piece::whole(beginning), Piece::whole(fragment)]
}

/// Whether the first packets of each track are what its description says: units of pictures that fill their packet, sound
/// that lasts as long as such a packet does.
fn fits(beginning: &str, fragment: &str, near: &Arc<dyn Near>) -> bool {
    let opened = Pieces::open(with_beginning(beginning, fragment), near.clone(), FRAGMENT);
    let Ok(mut demux) = opened.and_then(|p| super::open(Box::new(p))) else { return false };
    let tracks = demux.tracks().to_vec();
    let mut lengths: Vec<PacketLength> = tracks.iter().map(PacketLength::of).collect();
    for _ in 0..FIRST_PACKETS {
        let packet = match demux.next_packet() {
            Ok(Some(packet)) => packet,
            Ok(None) => break,
            Err(_) => return false,
        };
        let track = &tracks[packet.track];
        let good = match lengths[packet.track].samples(&packet.data) {
            _ if track.codec.has_units() => filled_by_units(&track.setup, &packet.data),
            Some(samples) => {
                let rate = track.audio().map_or(1, |a| a.rate);
                let told = packet.duration as f64 / f64::from(track.timescale);
                (told / (f64::from(samples) / f64::from(rate)) - 1.0).abs() < 0.02
            }
            None => true,
        };
        if !good {
            return false;
        }
    }
    true
}

/// Packets of a fragment that are compared with what its beginning says.
const FIRST_PACKETS: usize = 12;

/// Units with their lengths in front, as wide as the setup record says, one behind the other to the very end.
fn filled_by_units(setup: &[u8], packet: &[u8]) -> bool {
    // In both records (ISO/IEC 14496-15, 5.3.3.1 and 8.3.3.1) two bits say it; HEVC's is the longer one.
    let at = if setup.len() > 22 && setup.get(4).is_some_and(|b| b >> 2 != 0x3f) { 21 } else { 4 };
    let wide = usize::from(setup.get(at).copied().unwrap_or(3) & 3) + 1;
    let mut at = 0;
    while let Some(length) = packet.get(at..at + wide) {
        let length = length.iter().fold(0usize, |n, b| n << 8 | usize::from(*b));
        at = at.saturating_add(wide).saturating_add(length);
    }
    at == packet.len()
}

/// Largest file that is looked at as a beginning: it holds descriptions only.
const MOST_BEGINNING: u64 = 4 << 20;
/// Files beside a fragment that are looked at.
const MOST_NEAR: usize = 5_000;

/// The one file near a fragment that can be its beginning. Of several it is the one whose name begins most as the
/// fragment's does; where that is not one, nobody can tell.
fn beginning(source: &mut dyn Source, name: &str, near: &Arc<dyn Near>) -> Result<Option<String>> {
    let wanted = mp4::track_numbers(source)?;
    let mut found = Vec::new();
    for other in near.names()?.into_iter().filter(|n| n != name).take(MOST_NEAR) {
        let mut file = match near.open(&other) {
            Ok(file) => file,
            Err(e) if near::is_gone(&e) => continue,
            Err(e) => return Err(e),
        };
        let size = file.seek(SeekFrom::End(0)).unwrap_or(u64::MAX);
        if !(16..=MOST_BEGINNING).contains(&size) {
            continue;
        }
        let described = mp4::beginning_of(file.as_mut()).unwrap_or_default();
        let has_all = !described.is_empty() && wanted.iter().all(|n| described.contains(n));
        if has_all && fits(&other, name, near) {
            found.push(other);
        }
    }
    let alike = |other: &String| other.chars().zip(name.chars()).take_while(|(a, b)| a == b).count();
    let best = found.iter().map(alike).max();
    let mut of_best = found.iter().filter(|f| Some(alike(f)) == best);
    match (of_best.next(), of_best.next()) {
        (Some(one), None) => Ok(Some(one.clone())),
        (Some(a), Some(b)) => Err(Error::unsupported(
            "",
            format!(
                "it is a part of something else, and more than one file beside it can be its beginning: {a}, {b}; put it in a \
                 folder with the right one alone"
            ),
        )),
        _ => Ok(None),
    }
}

/// What a file with these first bytes is, if it names others that it cannot be read without.
pub fn list_name(head: &[u8]) -> Option<&'static str> {
    LISTS.iter().find(|l| (l.is)(head)).map(|l| l.name)
}

/// Whether a file of this name may be one that is read together with others.
pub fn may_be_of_several(name: &Path) -> bool {
    let ending = name.extension().map(|e| e.to_string_lossy().to_lowercase());
    matches!(ending.as_deref(), Some("m3u8" | "mpd" | "m4s" | "cmfv" | "cmfa" | "m4f"))
}
