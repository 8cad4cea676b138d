//! Files of AMR and AMR-WB (RFC 4867, 5): a word, then frames that tell their length.

use super::frames::{Frame, Frames, Parse};
use crate::codec::amr;
use crate::container::reader::Reader;
use crate::container::stream::{Described, Look, Streamed};
use crate::container::{About, AudioTrack, Codec, Demux, Format, Media, Source, Track, Tried};
use crate::error::{Error, Result};

pub static FORMAT: Format = Format { name: "AMR", score, open, tried: Tried::Writers };

const LOOK: u64 = 1 << 30;
const NARROW: &[u8] = b"#!AMR\n";
const WIDE: &[u8] = b"#!AMR-WB\n";

fn score(head: &[u8]) -> u8 {
    if head.starts_with(b"#!AMR") { 100 } else { 0 }
}

fn parse(b: &[u8], wide: bool) -> Option<Frame> {
    amr::frame(b, wide).map(|len| Frame { header: 0, len, samples: amr::samples(wide).0 })
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let r = Reader::new(source)?;
    let mut r = r;
    let head = r.peek(16)?;
    let (wide, start) = match &head {
        h if h.starts_with(NARROW) => (false, NARROW.len()),
        h if h.starts_with(WIDE) => (true, WIDE.len()),
        _ => return Err(Error::unsupported("", "AMR of several channels cannot be decoded; of one it can")),
    };
    let (_, rate) = amr::samples(wide);
    let media = Media::Audio(AudioTrack { rate, channels: 1, profile: None });
    let track = Track::new(1, Codec::Amr { wide }, media, rate);
    let end = r.len();
    let parse: Parse = if wide { |b| parse(b, true) } else { |b| parse(b, false) };
    let frames = Frames::new(r, parse, 1, start as u64, end);
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: false };
    Ok(Box::new(Streamed::open(frames, vec![Described::new(track, rate)], About::default(), look)?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;

    #[test]
    fn frames_of_every_kind_are_counted_and_a_cut_one_is_told() {
        // The shortest first as well: what follows it is not taken for its own.
        for (word, wide, kinds) in [
            (NARROW, false, [7u8, 8, 15]),
            (WIDE, true, [2, 9, 14]),
            (NARROW, false, [15, 8, 7]),
            (WIDE, true, [14, 9, 2]),
        ] {
            let mut bytes = word.to_vec();
            for kind in kinds {
                bytes.push(kind << 3 | 4);
                let size = amr::frame(&[kind << 3 | 4], wide).unwrap();
                bytes.extend(vec![0; size - 1]);
            }
            let d = crate::container::open(Box::new(Cursor::new(bytes.clone()))).unwrap();
            assert_eq!((d.format(), d.tracks()[0].duration.seconds()), ("AMR", 0.06));
            assert!(d.about().damage.is_none());
            bytes.extend([4 << 3, 1, 2]);
            let d = crate::container::open(Box::new(Cursor::new(bytes))).unwrap();
            assert!(d.about().damage.is_some());
        }
        let e =
            crate::container::open(Box::new(Cursor::new(b"#!AMR_MC1.0\n\0\0\0\x02".to_vec()))).err().unwrap();
        assert!(e.to_string().contains("several channels"), "{e}");
    }
}
