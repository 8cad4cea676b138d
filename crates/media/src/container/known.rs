//! Formats that are known by their first bytes, but not read: so that a refusal can say what a file is, and
//! what would work instead.

const MEDIA: &str = "a copy in MP4, MOV, Matroska or MPEG-TS can be read";
const SOUND: &str = "a copy in WAV, AIFF, FLAC, MP3 or M4A can be read";
const PICTURE: &str = "a copy in JPEG, PNG, TIFF, WebP, AVIF, JPEG XL, EXR or DPX can be read";
const OTHER: &str = "it is not media";

/// One that is known.
pub struct Known {
    pub name: &'static str,
    /// What would work instead.
    pub instead: &'static str,
    is: fn(&[u8]) -> bool,
}

const fn known(name: &'static str, instead: &'static str, is: fn(&[u8]) -> bool) -> Known {
    Known { name, instead, is }
}

fn at(head: &[u8], n: usize, what: &[u8]) -> bool {
    head.get(n..).is_some_and(|h| h.starts_with(what))
}

/// To add one: a line here. The first that holds is told.
pub static KNOWN: &[Known] = &[
    known("MXF", MEDIA, |h| at(h, 0, &[0x06, 0x0e, 0x2b, 0x34, 0x02, 0x05, 0x01, 0x01])),
    known("a plain DV stream", MEDIA, |h| at(h, 0, &[0x1f, 0x07, 0x00]) && h.len() >= 4),
    known("MIDI", SOUND, |h| at(h, 0, b"RIFF") && at(h, 8, b"RMID")),
    known("MIDI", SOUND, |h| at(h, 0, b"MThd")),
    known("WavPack", SOUND, |h| at(h, 0, b"wvpk")),
    known("Monkey's Audio", SOUND, |h| at(h, 0, b"MAC ")),
    known("OptimFROG", SOUND, |h| at(h, 0, b"OFR ")),
    known("TAK", SOUND, |h| at(h, 0, b"tBaK")),
    known("AAC in ADIF", SOUND, |h| at(h, 0, b"ADIF")),
    known("True Audio", SOUND, |h| at(h, 0, b"TTA1")),
    known("Musepack", SOUND, |h| at(h, 0, b"MPCK") || at(h, 0, b"MP+")),
    known("DSD sound", SOUND, |h| at(h, 0, b"DSD ") || at(h, 0, b"FRM8")),
    // The number of the syntax (ETSI TS 102 366, E.1.3.1.6) tells the two apart.
    known("a plain E-AC-3 stream", SOUND, |h| {
        at(h, 0, &[0x0b, 0x77]) && h.get(5).is_some_and(|b| b >> 3 > 10)
    }),
    known("a plain AC-3 stream", SOUND, |h| at(h, 0, &[0x0b, 0x77])),
    known("a plain DTS stream", SOUND, |h| at(h, 0, &[0x7f, 0xfe, 0x80, 0x01])),
    known("a PSD of a form that is not read", PICTURE, |h| at(h, 0, b"8BPS")),
    known("SVG", PICTURE, |h| at(h, 0, b"<svg")),
    known("PDF", OTHER, |h| at(h, 0, b"%PDF")),
    known("a ZIP archive (or an office document)", OTHER, |h| at(h, 0, b"PK\x03\x04")),
    known("a gzip file", OTHER, |h| at(h, 0, &[0x1f, 0x8b])),
    known("a 7z archive", OTHER, |h| at(h, 0, b"7z\xbc\xaf\x27\x1c")),
    known("a RAR archive", OTHER, |h| at(h, 0, b"Rar!")),
    known("a tar archive", OTHER, |h| at(h, 257, b"ustar")),
    known("a program", OTHER, |h| at(h, 0, b"\x7fELF") || at(h, 0, b"MZ")),
    known("a database", OTHER, |h| at(h, 0, b"SQLite format 3")),
    known("an office document", OTHER, |h| at(h, 0, &[0xd0, 0xcf, 0x11, 0xe0])),
    known(HEIF, PICTURE, |h| picture_brand(h) == Some(HEIF)),
];

const HEIF: &str = "HEIF";
const CR3: &str = "a camera's raw picture (CR3)";

/// What these first bytes are, and what to do with such a file.
pub fn name(head: &[u8]) -> Option<(&'static str, &'static str)> {
    // Of that one the preview is read, as a still, where there is one.
    let raw = (picture_brand(head) == Some(CR3)).then_some((CR3, PICTURE));
    raw.or_else(|| KNOWN.iter().find(|k| (k.is)(head)).map(|k| (k.name, k.instead)))
}

/// Pictures that lie in the boxes of ISO files (ISO/IEC 23008-12, and camera makers after it), by the brand of the file.
/// AVIF and HEIC are read, and not told here.
pub fn picture_brand(head: &[u8]) -> Option<&'static str> {
    if head.get(4..8)? != b"ftyp" {
        return None;
    }
    let end = crate::bits::be32(head, 0)? as usize;
    let major: [u8; 4] = head.get(8..12)?.try_into().ok()?;
    let rest = head.get(16..end.min(head.len())).unwrap_or(&[]);
    let has = |brand: &[u8; 4]| rest.chunks_exact(4).any(|b| b == brand);
    match &major {
        b"crx " => Some(CR3),
        b"mif1" | b"msf1" | b"mif2" | b"miaf" => {
            let read = [b"avif", b"avis", b"heic", b"heix", b"heim", b"heis", b"hevc", b"hevx"];
            if read.iter().any(|b| has(b)) { None } else { Some(HEIF) }
        }
        b"jpeg" | b"j2ki" | b"avci" => Some(HEIF),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[0x06, 0x0e, 0x2b, 0x34, 0x02, 0x05, 0x01, 0x01, 0x0d], Some("MXF"))]
    #[case(b"%PDF-1.7", Some("PDF"))]
    #[case(b"\0\0\0\x18ftypheic\0\0\0\0mif1heic", None)]
    #[case(b"\0\0\0\x18ftypmif1\0\0\0\0mif1heic", None)]
    #[case(b"\0\0\0\x18ftypmif1\0\0\0\0mif1jpeg", Some("HEIF"))]
    #[case(b"\0\0\0\x18ftypmif1\0\0\0\0mif1avif", None)]
    #[case(b"\0\0\0\x18ftypcrx \0\0\0\x01crx isom", Some("a camera's raw picture (CR3)"))]
    #[case(b"\0\0\0\x18ftypisom\0\0\0\0isomavc1", None)]
    #[case(b"anything", None)]
    fn first_bytes_are_named(#[case] head: &[u8], #[case] want: Option<&str>) {
        assert_eq!(name(head).map(|n| n.0), want);
    }
}
