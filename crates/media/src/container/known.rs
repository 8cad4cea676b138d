//! Formats that are known by their first bytes, but not read: so that a refusal can say what a file is, and
//! what would work instead.

/// What these first bytes are, and what to do with such a file.
pub fn name(head: &[u8]) -> Option<(&'static str, &'static str)> {
    const MEDIA: &str = "a copy in MP4, MOV, Matroska or MPEG-TS can be read";
    const SOUND: &str = "a copy in WAV, AIFF, FLAC, MP3 or M4A can be read";
    const PICTURE: &str = "a copy in JPEG, PNG, TIFF, WebP, AVIF, JPEG XL, EXR or DPX can be read";
    const OTHER: &str = "it is not media";
    let at = |n: usize, what: &[u8]| head.get(n..).is_some_and(|h| h.starts_with(what));
    if let Some(name) = picture_brand(head) {
        return Some((name, PICTURE));
    }
    Some(match head {
        _ if at(0, &[0x06, 0x0e, 0x2b, 0x34, 0x02, 0x05, 0x01, 0x01]) => ("MXF", MEDIA),
        _ if at(0, &[0x30, 0x26, 0xb2, 0x75, 0x8e, 0x66, 0xcf, 0x11]) => ("ASF (Windows Media)", MEDIA),
        _ if at(0, b".RMF") => ("RealMedia", MEDIA),
        _ if at(0, &[0x1f, 0x07, 0x00]) && head.len() >= 4 => ("a plain DV stream", MEDIA),
        _ if at(0, b"RIFF") && at(8, b"RMID") => ("MIDI", SOUND),
        _ if at(0, b"MThd") => ("MIDI", SOUND),
        _ if at(0, b"wvpk") => ("WavPack", SOUND),
        _ if at(0, b"MAC ") => ("Monkey's Audio", SOUND),
        _ if at(0, b"TTA1") => ("True Audio", SOUND),
        _ if at(0, b"MPCK") || at(0, b"MP+") => ("Musepack", SOUND),
        _ if at(0, b"DSD ") || at(0, b"FRM8") => ("DSD sound", SOUND),
        _ if at(0, b"#!AMR") => ("AMR", SOUND),
        _ if at(0, &[0x0b, 0x77]) => ("a plain AC-3 stream", SOUND),
        _ if at(0, &[0x7f, 0xfe, 0x80, 0x01]) => ("a plain DTS stream", SOUND),
        _ if at(0, b"8BPS") => ("a PSD of a form that is not read", PICTURE),
        _ if at(0, b"<svg") => ("SVG", PICTURE),
        _ if at(0, b"%PDF") => ("PDF", OTHER),
        _ if at(0, b"PK\x03\x04") => ("a ZIP archive (or an office document)", OTHER),
        _ if at(0, &[0x1f, 0x8b]) => ("a gzip file", OTHER),
        _ if at(0, b"7z\xbc\xaf\x27\x1c") => ("a 7z archive", OTHER),
        _ if at(0, b"Rar!") => ("a RAR archive", OTHER),
        _ if at(257, b"ustar") => ("a tar archive", OTHER),
        _ if at(0, b"\x7fELF") || at(0, b"MZ") => ("a program", OTHER),
        _ if at(0, b"SQLite format 3") => ("a database", OTHER),
        _ if at(0, &[0xd0, 0xcf, 0x11, 0xe0]) => ("an office document", OTHER),
        _ => return None,
    })
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
        b"crx " => Some("a camera's raw picture (CR3)"),
        b"mif1" | b"msf1" | b"mif2" | b"miaf" => {
            let read = [b"avif", b"avis", b"heic", b"heix", b"heim", b"heis", b"hevc", b"hevx"];
            if read.iter().any(|b| has(b)) { None } else { Some("HEIF") }
        }
        b"jpeg" | b"j2ki" | b"avci" => Some("HEIF"),
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
