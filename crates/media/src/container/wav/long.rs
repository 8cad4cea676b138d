//! Wave64 (Sonic Foundry, 1999): WAVE with names of 16 bytes and lengths of 8, for more than 4 GB.

use super::{Chunks, MAX_CHUNK, MAX_CHUNKS, broadcast, demux, list};
use crate::bits::le64;
use crate::container::reader::Reader;
use crate::container::{About, Demux, Format, Source, Tried};
use crate::error::{Error, Result};

pub static FORMAT: Format = Format { name: "Wave64", score, open, tried: Tried::Writers };

/// What stands behind the four letters of a chunk that RIFF has as well.
const TAIL: [u8; 12] = [0xf3, 0xac, 0xd3, 0x11, 0x8c, 0xd1, 0x00, 0xc0, 0x4f, 0x8e, 0xdb, 0x8a];
const RIFF: &[u8] = b"riff\x2e\x91\xcf\x11\xa5\xd6\x28\xdb\x04\xc1\x00\x00";

fn score(head: &[u8]) -> u8 {
    if head.starts_with(RIFF) && head.get(24..28) == Some(b"wave") { 100 } else { 0 }
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut r = Reader::new(source)?;
    let (mut about, mut c) = (About::default(), Chunks::default());
    r.go(40);
    for _ in 0..MAX_CHUNKS {
        let from = r.at();
        let Some(head) = r.array::<24>()? else { break };
        // A length counts its own head.
        let whole = le64(&head, 16).unwrap_or(0);
        let size = whole.checked_sub(24).ok_or_else(|| {
            Error::damaged_at(
                "Wave64",
                from,
                format!("a chunk of {whole} bytes, which is less than its head"),
            )
        })?;
        let (body, there) = (r.at(), r.left());
        let some = size.min(MAX_CHUNK).min(there);
        match (&head[..4], head[4..16] == TAIL) {
            (b"fmt ", true) => c.format = Some(r.take(some, "fmt")?),
            (b"bext", true) => broadcast(&r.take(some, "bext")?, &mut about),
            (b"list", _) => list(&r.take(some, "list")?, &mut about),
            (b"data", true) => {
                if size > there {
                    about.damage = Some(format!(
                        "cut off, or still being copied: the sound data should have {size} bytes, but the file ends after {there}"
                    ));
                }
                c.data = c.data.or(Some((body, size.min(there))));
            }
            _ => (),
        }
        // Chunks stand at multiples of eight.
        r.go(body.saturating_add(size).checked_next_multiple_of(8).unwrap_or(u64::MAX));
    }
    demux(FORMAT.name, r, about, c)
}
