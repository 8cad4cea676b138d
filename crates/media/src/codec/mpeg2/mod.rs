//! MPEG-1 and MPEG-2 pictures (ISO/IEC 11172-2, ISO/IEC 13818-2), decoded by this program's own code.

mod blocks;
mod header;
mod motion;
mod slice;
mod vlc;

pub use header::{Structure, structure_of};

use super::DecodeVideo;
use super::waiting::Waiting;
use crate::bits::{start_code, unit_of};
use crate::error::{Error, Result};
use crate::frame::{Chroma, Fields, Pool, VideoFrame};
use crate::limits::MAX_PICTURE_AREA;
use crate::track::{Codec, Packet, Track};
use header::{Kind, Matrices, Picture, Sequence};
use motion::Planes;
use slice::{References, Slices, sub};
use std::sync::Arc;

/// Whether a codec has this name.
pub fn covers(codec: &Codec, of: &str) -> bool {
    matches!(codec, Codec::Other { name: Some(name), .. } if *name == of)
}

pub fn refuse(track: &Track) -> Result<()> {
    match track.video().and_then(|v| v.chroma) {
        // No profile has it.
        Some(Chroma::C444) => Err(Error::unsupported(track.codec.name(), "in 4:4:4")),
        _ => Ok(()),
    }
}

/// A picture that was made, and its packet.
struct Made {
    planes: Arc<Planes>,
    key: i64,
    fields: Fields,
}

/// A frame of which one field is there.
struct Half {
    made: Made,
    structure: Structure,
    kind: Kind,
}

pub struct Decoder {
    sequence: Option<Sequence>,
    matrices: Matrices,
    /// The two latest pictures that others stand on: the one before, and the last, which is not shown yet.
    before: Option<Arc<Planes>>,
    last: Option<Arc<Planes>>,
    held: Option<Made>,
    half: Option<Half>,
    spare: Vec<Arc<Planes>>,
    waiting: Waiting,
    pool: Pool,
    given: i64,
    concealed: u64,
    why: Option<String>,
}

/// One unit behind its start code.
fn units(bytes: &[u8]) -> impl Iterator<Item = (u8, &[u8])> {
    let mut at = start_code(bytes, 0);
    std::iter::from_fn(move || {
        let from = at? + 3;
        let code = *bytes.get(from)?;
        at = start_code(bytes, from);
        Some((code, &bytes[from + 1..at.unwrap_or(bytes.len()).max(from + 1)]))
    })
}

impl Decoder {
    pub fn new(track: &Track, pool: Pool) -> Result<Decoder> {
        let mut decoder = Decoder {
            sequence: None,
            matrices: Matrices::default(),
            before: None,
            last: None,
            held: None,
            half: None,
            spare: Vec::new(),
            waiting: Waiting::new(track.decode_times),
            pool,
            given: 0,
            concealed: 0,
            why: None,
        };
        // Some containers have the header of the sequence beside the pictures.
        if !track.setup.is_empty() {
            decoder.take_sequence(&track.setup, &mut Vec::new())?;
        }
        Ok(decoder)
    }

    fn take_sequence(&mut self, bytes: &[u8], out: &mut Vec<VideoFrame>) -> Result<()> {
        let mut matrices = Matrices::default();
        let Some(sequence) = Sequence::parse(bytes, &mut matrices) else { return Ok(()) };
        let (w, h) = (sequence.width, sequence.height);
        if w == 0 || h == 0 {
            return Err(Error::damaged("MPEG video", "its pictures have no size"));
        }
        if w as u64 * h as u64 > MAX_PICTURE_AREA {
            return Err(Error::limit("MPEG video", format!("pictures of {w}x{h}")));
        }
        self.matrices = matrices;
        let form = |s: &Sequence| (s.width, s.height, s.chroma, s.progressive);
        if self.sequence.as_ref().is_some_and(|s| form(s) != form(&sequence)) {
            self.finish(out)?;
            self.spare.clear();
        }
        self.sequence = Some(sequence);
        Ok(())
    }

    /// Planes to write to.
    fn fresh(&mut self, s: &Sequence) -> Planes {
        let at = self.spare.iter().position(|p| Arc::strong_count(p) == 1);
        if let Some(Ok(planes)) = at.map(|at| Arc::try_unwrap(self.spare.swap_remove(at))) {
            return planes;
        }
        let rows = if s.progressive { s.height.div_ceil(16) } else { s.height.div_ceil(32) * 2 };
        Planes::new(s.width.div_ceil(16), rows, sub(s.chroma))
    }

    /// One picture of a packet: a frame or a field.
    fn picture(
        &mut self,
        picture: &Picture,
        slices: &[(u8, &[u8])],
        key: i64,
        out: &mut Vec<VideoFrame>,
    ) -> Result<()> {
        let Some(sequence) = self.sequence.clone() else {
            return Err(Error::damaged("MPEG video", "it comes before the header of its sequence"));
        };
        let is_field = picture.structure != Structure::Frame;
        // The second field goes into the frame of the first.
        let pairs = |h: &Half| {
            is_field && h.structure != picture.structure && (h.kind == Kind::B) == (picture.kind == Kind::B)
        };
        let first = self.half.take();
        let (first, alone) = match first {
            Some(h) if pairs(&h) => (Some(h), None),
            other => (None, other),
        };
        if let Some(h) = alone {
            self.conceal("a field is missing");
            self.keep(h.made, h.kind, out)?;
        }
        let refs = match picture.kind {
            // Of those that stand by themselves, for what is missing.
            Kind::I | Kind::P => [self.last.clone(), None],
            Kind::B => [self.before.clone(), self.last.clone()],
        };
        // A second field stands on the first one, too: as it was when it was whole.
        let before = first.as_ref().map(|h| (h.made.planes.clone(), h.structure == Structure::Bottom));
        let mut planes = match &first {
            Some(h) => Planes::clone(&h.made.planes),
            None => self.fresh(&sequence),
        };
        let rows = planes.heights[0] / 16 / if is_field { 2 } else { 1 };
        let mut came = vec![false; sequence.width.div_ceil(16) * rows];
        let mut work = Slices {
            sequence: &sequence,
            picture,
            matrices: &self.matrices,
            references: References {
                ways: [refs[0].as_deref(), refs[1].as_deref()],
                first: before.as_ref().map(|b| (b.0.as_ref(), b.1)),
            },
            to: &mut planes,
            came: &mut came,
            missed: false,
        };
        let mut broken = false;
        for (code, bytes) in slices {
            broken |= work.read(usize::from(*code) - 1, bytes).is_none();
        }
        let missed = work.missed;
        work.fill();
        if came.iter().all(|c| !c) {
            return Err(Error::damaged("MPEG video", "nothing of it can be read"));
        }
        if missed {
            // As at the start of what was cut out of something: it is told as lost.
            self.why.get_or_insert_with(|| "pictures stand on others that are not there".into());
            return Ok(());
        }
        if broken || came.iter().any(|c| !c) {
            self.conceal("parts of it are damaged and were filled from before");
        }
        let fields = match picture.structure {
            Structure::Frame if sequence.progressive || picture.progressive => Fields::Progressive,
            Structure::Frame if picture.top_first => Fields::TopFirst,
            Structure::Frame => Fields::BottomFirst,
            // Of the second field the first one says it.
            Structure::Top if first.is_none() => Fields::TopFirst,
            Structure::Bottom if first.is_none() => Fields::BottomFirst,
            Structure::Top => Fields::BottomFirst,
            Structure::Bottom => Fields::TopFirst,
        };
        let key = first.as_ref().map_or(key, |h| h.made.key);
        let made = Made { planes: Arc::new(planes), key, fields };
        if is_field && first.is_none() {
            let (structure, kind) = (picture.structure, picture.kind);
            self.half = Some(Half { made, structure, kind });
            return Ok(());
        }
        self.keep(made, picture.kind, out)
    }

    fn conceal(&mut self, why: &str) {
        self.concealed += 1;
        self.why.get_or_insert_with(|| why.to_owned());
    }

    /// What others stand on is shown after those between.
    fn keep(&mut self, made: Made, kind: Kind, out: &mut Vec<VideoFrame>) -> Result<()> {
        if kind == Kind::B {
            return self.show(made, out);
        }
        self.before = self.last.replace(made.planes.clone());
        if let Some(held) = self.held.take() {
            self.show(held, out)?;
        }
        if self.sequence.as_ref().is_some_and(|s| s.low_delay) {
            return self.show(made, out);
        }
        self.held = Some(made);
        Ok(())
    }

    /// Shows what is held, and knows of no pictures any more.
    fn finish(&mut self, out: &mut Vec<VideoFrame>) -> Result<()> {
        if let Some(h) = self.half.take() {
            self.conceal("a field is missing");
            self.keep(h.made, h.kind, out)?;
        }
        if let Some(held) = self.held.take() {
            self.show(held, out)?;
        }
        (self.before, self.last) = (None, None);
        Ok(())
    }

    fn show(&mut self, made: Made, out: &mut Vec<VideoFrame>) -> Result<()> {
        let Some((pts, duration)) = self.waiting.came(made.key) else { return Ok(()) };
        let Some(s) = &self.sequence else { return Ok(()) };
        let mut frame = VideoFrame::new(&self.pool, s.width as u32, s.height as u32, s.chroma, 8)?;
        for (n, to) in frame.planes.iter_mut().enumerate() {
            to.fill_rows(&made.planes.samples[n], made.planes.strides[n]);
        }
        (frame.colour, frame.pixel_shape, frame.fields) = (s.colour, s.pixel_shape, made.fields);
        (frame.pts, frame.duration) = (pts, duration);
        out.push(frame);
        self.spare.push(made.planes);
        self.spare.truncate(6);
        Ok(())
    }
}

impl DecodeVideo for Decoder {
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        let data = packet.data.as_slice();
        if let Some(at) = unit_of(data, 0xb3) {
            let end = unit_of(&data[at..], 0).map_or(data.len(), |n| at + n);
            self.take_sequence(&data[at..end], out)?;
        }
        // The second field of a frame may come in a packet of its own.
        let goes_on = match (&self.half, structure_of(data)) {
            (Some(h), Some((structure, _))) => structure != Structure::Frame && structure != h.structure,
            _ => false,
        };
        self.given += 1;
        let key = self.given;
        if !goes_on {
            self.waiting.given(key, packet.pts, packet.duration, packet.shown);
        }
        let spoilt = |why: &str| {
            Error::damaged(
                "MPEG video",
                format!("the picture at {} could not be decoded ({why})", packet.pts),
            )
        };
        let (mut picture, mut slices) = (None, Vec::new());
        let mut result = None;
        for (code, unit) in units(data) {
            match code {
                0 => {
                    if let Some(p) = picture.take() {
                        result = Some(self.picture(&p, &slices, key, out));
                        slices.clear();
                    }
                    picture = Some(Picture::parse(unit).ok_or_else(|| spoilt("its header is damaged"))?);
                }
                0xb5 => {
                    if let Some(p) = &mut picture
                        && p.extend(unit, &mut self.matrices).is_none()
                    {
                        return Err(spoilt("its header is damaged"));
                    }
                }
                1..=0xaf => slices.push((code, unit)),
                _ => (),
            }
        }
        if let Some(p) = picture {
            result = Some(self.picture(&p, &slices, key, out));
        }
        match result {
            None => Err(spoilt("a packet without a picture")),
            Some(Err(Error::Damaged(fault))) => Err(spoilt(&fault.to_string())),
            Some(other) => other,
        }
    }

    fn flush(&mut self, out: &mut Vec<VideoFrame>) -> Result<()> {
        self.finish(out)?;
        self.waiting.end();
        Ok(())
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
