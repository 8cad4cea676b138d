//! Media that lies in other files: data references (ISO/IEC 14496-12, 8.7.2) and reference movies (QuickTime File Format,
//! "Movie Reference"). They are named, and nothing of this file is taken for theirs.

use super::boxes::{be16, be32, find, inside};
use crate::error::{Error, Result};

/// Most names that are told, and characters of one.
const MOST: usize = 8;
const LONGEST: usize = 200;
/// An alias record of version 2: the file's name, and where what follows the fixed part begins.
const ALIAS_NAME: usize = 50;
const ALIAS_MORE: usize = 150;
/// What follows: the whole path, from the top of its volume.
const POSIX_PATH: u16 = 18;

/// Refuses a track whose samples are not in this file.
pub fn refuse_elsewhere(minf: &[u8], stsd: &[u8]) -> Result<()> {
    let Some(dref) = find(minf, b"dinf").and_then(|d| find(d, b"dref")).and_then(|d| d.get(8..)) else {
        return Ok(());
    };
    for entry in inside(stsd.get(8..).unwrap_or_default()) {
        // Numbers begin at 1; one that names nothing means this file, as many readers have it.
        let number = be16(entry.body, 6).unwrap_or(0);
        let Some(named) = usize::from(number).checked_sub(1).and_then(|n| inside(dref).nth(n)) else {
            continue;
        };
        let is_here = be32(named.body, 0).is_some_and(|flags| flags & 1 == 1);
        let at = named.body.get(4..).unwrap_or_default();
        if !is_here && let Some(name) = name(&named.kind, at) {
            let why =
                format!("it is a part of something else: what it plays lies in another file, \"{name}\"");
            return Err(Error::unsupported("moov/trak/mdia/minf/dinf", why));
        }
    }
    Ok(())
}

/// Refuses a movie that only names others.
pub fn refuse_reference(index: &[u8]) -> Result<()> {
    let Some(all) = find(index, b"rmra").filter(|_| find(index, b"trak").is_none()) else { return Ok(()) };
    let each = inside(all).filter(|b| &b.kind == b"rmda").filter_map(|b| find(b.body, b"rdrf"));
    let mut names: Vec<String> = each
        .filter_map(|r| name(&r.get(4..8)?.try_into().ok()?, r.get(12..)?))
        .take(MOST)
        .map(|n| format!("\"{n}\""))
        .collect();
    names.dedup();
    let what = if names.is_empty() { "files that it does not name".into() } else { names.join(", ") };
    let why = format!(
        "it is a part of something else: a reference movie, which has nothing to play itself; what it plays is {what}"
    );
    Err(Error::unsupported("moov/rmra", why))
}

/// What a reference names; nothing where it is empty.
fn name(kind: &[u8; 4], at: &[u8]) -> Option<String> {
    let text = match kind {
        b"url " | b"urn " => {
            // Of two texts of an URN the second says where.
            let texts: Vec<&[u8]> = at.split(|b| *b == 0).filter(|t| !t.is_empty()).collect();
            String::from_utf8_lossy(texts.last()?).into_owned()
        }
        b"alis" => alias(at)?,
        _ => return Some(format!("of a kind that is not known, '{}'", super::boxes::show(*kind))),
    };
    let text: String = text.chars().filter(|c| !c.is_control()).take(LONGEST).collect();
    (!text.is_empty()).then_some(text)
}

/// The path in an alias record, or the name alone.
fn alias(record: &[u8]) -> Option<String> {
    let mut at = ALIAS_MORE;
    while let (Some(tag), Some(len)) = (be16(record, at), be16(record, at + 2)) {
        let data = record.get(at + 4..at + 4 + usize::from(len))?;
        match tag {
            POSIX_PATH => return Some(String::from_utf8_lossy(data).into_owned()),
            0xffff => break,
            _ => at += 4 + data.len().next_multiple_of(2),
        }
    }
    let len = usize::from(*record.get(ALIAS_NAME)?).min(63);
    // In the letters of old Macs, of which those of ASCII are told.
    let letter = |b: &u8| if b.is_ascii() { char::from(*b) } else { '\u{fffd}' };
    Some(record.get(ALIAS_NAME + 1..ALIAS_NAME + 1 + len)?.iter().map(letter).collect())
}

#[cfg(test)]
mod tests {
    use super::super::boxes::Builder;
    use super::*;
    use rstest::rstest;

    fn record(path: bool) -> Vec<u8> {
        let mut b = vec![0; ALIAS_MORE];
        b[ALIAS_NAME] = 9;
        b[ALIAS_NAME + 1..ALIAS_NAME + 10].copy_from_slice(b"heron.mov");
        for (tag, data) in [(9u16, &b"odd"[..]), (POSIX_PATH, b"/cards/heron.mov")] {
            if path {
                b.extend(tag.to_be_bytes());
                b.extend((data.len() as u16).to_be_bytes());
                b.extend(data);
                b.resize(b.len().next_multiple_of(2), 0);
            }
        }
        b.extend([0xff, 0xff, 0, 0]);
        b
    }

    fn parts(kind: &[u8; 4], flags: u32, data: &[u8], number: u16) -> (Vec<u8>, Vec<u8>) {
        let (mut minf, mut stsd) = (Builder::new(), Builder::new());
        minf.put(b"dinf", |b| {
            b.full(b"dref", 0, 0, |b| {
                b.u32(2);
                b.full(b"url ", 0, 1, |_| ());
                b.full(kind, 0, flags, |b| b.raw(data));
            })
        });
        stsd.zeros(8);
        stsd.put(b"avc1", |b| {
            b.zeros(6);
            b.u16(number);
            b.zeros(20);
        });
        (minf.bytes, stsd.bytes)
    }

    #[rstest]
    #[case::here(b"url ", 1, b"", 2, None)]
    #[case::here_with_a_name(b"alis", 1, &record(true), 2, None)]
    #[case::empty(b"url ", 0, b"\0", 2, None)]
    #[case::the_first(b"url ", 0, b"a.mov\0", 1, None)]
    #[case::none(b"url ", 0, b"a.mov\0", 0, None)]
    #[case::too_high(b"url ", 0, b"a.mov\0", 9, None)]
    #[case::address(b"url ", 0, b"file:///cards/a.mov\0", 2, Some("\"file:///cards/a.mov\""))]
    #[case::two_texts(b"urn ", 0, b"urn:x\0a.mov\0", 2, Some("\"a.mov\""))]
    #[case::alias(b"alis", 0, &record(false), 2, Some("\"heron.mov\""))]
    #[case::path(b"alis", 0, &record(true), 2, Some("\"/cards/heron.mov\""))]
    #[case::cut(b"alis", 0, &[1, 2, 3], 2, None)]
    #[case::marks(b"url ", 0, b"a\x1b[2J\n.mov\0", 2, Some("\"a[2J.mov\""))]
    #[case::unknown(b"rsrc", 0, b"", 2, Some("'rsrc'"))]
    fn media_elsewhere_is_named(
        #[case] kind: &[u8; 4],
        #[case] flags: u32,
        #[case] data: &[u8],
        #[case] number: u16,
        #[case] want: Option<&str>,
    ) {
        let (minf, stsd) = parts(kind, flags, data, number);
        match (refuse_elsewhere(&minf, &stsd), want) {
            (Ok(()), None) => (),
            (Err(Error::Unsupported(why)), Some(want)) => {
                assert!(why.to_string().contains(want), "{why}");
            }
            (other, want) => panic!("{other:?}, {want:?}"),
        }
        // However the tables are cut, nothing breaks.
        for n in 0..minf.len() {
            let _ = refuse_elsewhere(&minf[..n], &stsd);
        }
        (0..stsd.len()).for_each(|n| _ = refuse_elsewhere(&minf, &stsd[..n]));
    }

    #[test]
    fn a_reference_movie_names_what_it_plays() {
        let mut b = Builder::new();
        b.put(b"rmra", |b| {
            for name in ["high.mov", "low.mov"] {
                b.put(b"rmda", |b| {
                    b.full(b"rdrf", 0, 0, |b| {
                        b.raw(b"url ");
                        b.u32(name.len() as u32 + 1);
                        b.raw(name.as_bytes());
                        b.u8(0);
                    })
                });
            }
        });
        let Err(Error::Unsupported(why)) = refuse_reference(&b.bytes) else { panic!("it was taken") };
        assert!(why.to_string().contains("what it plays is \"high.mov\", \"low.mov\""), "{why}");
        (0..b.bytes.len()).for_each(|n| _ = refuse_reference(&b.bytes[..n]));
        // One that has tracks of its own is played.
        b.put(b"trak", |_| ());
        assert!(refuse_reference(&b.bytes).is_ok());
    }
}
