//! Tags in front of sound: ID3 version 2 (the informal standard at id3.org, 2.2 to 2.4).

use crate::bits::be32;
use crate::container::About;

/// Bytes of the whole tag that starts these bytes; 0 if there is none.
pub fn size(b: &[u8]) -> u64 {
    match b {
        [b'I', b'D', b'3', 2..=4, _, flags, a, c, d, e, ..] if (a | c | d | e) & 0x80 == 0 => {
            let n = [a, c, d, e].iter().fold(0u64, |v, &&x| v << 7 | u64::from(x));
            10 + n + if flags & 0x10 != 0 { 10 } else { 0 }
        }
        _ => 0,
    }
}

/// Reads text frames of a whole tag.
pub fn read(b: &[u8], about: &mut About) {
    let Some(&version) = b.get(3) else { return };
    let (name_len, head) = if version == 2 { (3, 6) } else { (4, 10) };
    let flags = b.get(5).copied().unwrap_or(0);
    // Up to 2.3 all of it, behind the head, has zeros put in behind each 0xff (2.3, 5).
    let plain;
    let b = if flags & 0x80 != 0 && version < 4 {
        let (head, rest) = b.split_at(b.len().min(10));
        plain = [head, &without_zeros(rest)].concat();
        &plain
    } else {
        b
    };
    let mut at = 10;
    if flags & 0x40 != 0 && version > 2 {
        // A second head; its length counts itself in 2.4.
        let size = be32(b, at).unwrap_or(0) as usize;
        at += if version == 3 { size.saturating_add(4) } else { size };
    }
    while let Some(h) = b.get(at..at + head) {
        let size = match version {
            2 => usize::from(h[3]) << 16 | usize::from(h[4]) << 8 | usize::from(h[5]),
            3 => be32(h, 4).unwrap_or(0) as usize,
            _ => h[4..8].iter().fold(0, |v, &x| v << 7 | usize::from(x & 0x7f)),
        };
        let Some(mut body) = b.get(at + head..at + head + size) else { return };
        at += head + size;
        let of_frame;
        if version == 4 {
            // Its length as it is read may stand in front of it (2.4, 4.1.2).
            body = body.get(usize::from(h[9] & 1) * 4..).unwrap_or(&[]);
            if h[9] & 2 != 0 {
                of_frame = without_zeros(body);
                body = &of_frame;
            }
        }
        let key = match &h[..name_len] {
            b"TIT2" | b"TT2" => "title",
            b"TPE1" | b"TP1" => "artist",
            b"TALB" | b"TAL" => "album",
            b"TDRC" | b"TYER" | b"TYE" => "date",
            b"TCON" | b"TCO" => "genre",
            b"TRCK" | b"TRK" => "track",
            b"TSSE" | b"TSS" => "encoder",
            b"APIC" | b"PIC" => {
                about.remarks.push("a cover picture is inside".into());
                continue;
            }
            b"COMM" | b"COM" => {
                if let Some(t) = comment(body) {
                    about.note("comment", t);
                }
                continue;
            }
            [0, ..] => return,
            _ => continue,
        };
        if let Some(t) = text(body) {
            about.note(key, t);
        }
    }
}

/// Undoes the zeros that were put in so that nothing in a tag looks like the beginning of sound.
fn without_zeros(b: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(b.len());
    for (n, &byte) in b.iter().enumerate() {
        if byte != 0 || n == 0 || b[n - 1] != 0xff {
            out.push(byte);
        }
    }
    out
}

/// A comment: encoding, language, what it is called, and its text (2.4, 4.10). One with a name of its own is a program's.
fn comment(b: &[u8]) -> Option<String> {
    let (&encoding, rest) = b.split_first()?;
    let rest = rest.get(3..)?;
    let name = match encoding {
        1 | 2 => rest.chunks_exact(2).position(|c| c == [0, 0])? * 2 + 2,
        _ => rest.iter().position(|c| *c == 0)? + 1,
    };
    // A mark of the order of bytes is no name.
    if name > 4 || name > 1 && !matches!(encoding, 1 | 2) {
        return None;
    }
    text(&[&[encoding], &rest[name..]].concat())
}

/// Text with its encoding in front (2.4, 4).
fn text(b: &[u8]) -> Option<String> {
    let (&encoding, rest) = b.split_first()?;
    let rest = &rest[..rest.len().min(4096)];
    let wide = |little: bool, b: &[u8]| {
        let units = b.chunks_exact(2).map(|c| {
            let pair = [c[0], c[1]];
            if little { u16::from_le_bytes(pair) } else { u16::from_be_bytes(pair) }
        });
        String::from_utf16_lossy(&units.collect::<Vec<_>>())
    };
    let t = match (encoding, rest) {
        (1, [0xff, 0xfe, more @ ..]) => wide(true, more),
        (1, [0xfe, 0xff, more @ ..]) => wide(false, more),
        (2, more) => wide(false, more),
        (3, more) => String::from_utf8_lossy(more).into_owned(),
        (_, more) => more.iter().map(|&c| c as char).collect(),
    };
    let t = t.trim_matches(['\0', ' ']).replace('\0', " / ");
    (!t.is_empty()).then_some(t)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_in_every_encoding_is_read() {
        let mut tag = b"ID3\x03\0\0\0\0\0\x7f".to_vec();
        for (key, body) in [(b"TIT2", &b"\x01\xff\xfeD\0a\0"[..]), (b"TPE1", b"\0Warden\0"), (b"APIC", b"\0")]
        {
            tag.extend(key);
            tag.extend((body.len() as u32).to_be_bytes());
            tag.extend([0, 0]);
            tag.extend(body);
        }
        let mut about = About::default();
        read(&tag, &mut about);
        assert_eq!(
            about.tags,
            [("title".to_owned(), "Da".to_owned()), ("artist".to_owned(), "Warden".to_owned())]
        );
        assert_eq!((about.remarks.len(), size(&tag), size(b"ID3")), (1, 137, 0));
    }

    #[test]
    fn zeros_that_were_put_in_are_taken_out() {
        // "\x01 ff fe D 0 a 0" with a zero behind 0xff, which the lengths in 2.3 do not count.
        let frame = |len: u8, flags: u8, body: &[u8]| [&b"TIT2\0\0\0"[..], &[len, 0, flags], body].concat();
        let spread = b"\x01\xff\0\xfeD\0a\0";
        let head = |version, flags| [&b"ID3"[..], &[version, 0, flags, 0, 0, 0, 0x7f]].concat();
        let old = [head(3, 0xc0), vec![0, 0, 0, 6, 0, 0, 0, 0, 0, 0], frame(7, 0, spread)].concat();
        let new = [head(4, 0x80), frame(12, 3, &[&[0, 0, 0, 7][..], spread].concat())].concat();
        // Cut anywhere, as a chunk of another file can hold it.
        for n in 0..old.len() {
            read(&old[..n], &mut About::default());
        }
        for tag in [old, new] {
            let mut about = About::default();
            read(&tag, &mut about);
            assert_eq!(about.tags, [("title".to_owned(), "Da".to_owned())], "{tag:?}");
        }
    }
}
