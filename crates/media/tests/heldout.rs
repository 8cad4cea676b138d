//! Files of other people's making that were once read wrongly. (Made with the flac and twolame tools, tifffile and
//! pillow-heif; the MP4 around the layer II frames was laid out by hand.)

use media::{deep, facts, still};
use rstest::rstest;
use std::io::Cursor;
use std::path::Path;

fn file(name: &str) -> Vec<u8> {
    std::fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests").join(name)).unwrap()
}

fn facts_of(bytes: &[u8]) -> media::Result<facts::Facts> {
    facts::of(Box::new(Cursor::new(bytes.to_vec())))
}

fn deep_of(bytes: &[u8]) -> media::Result<deep::Deep> {
    deep::of(Box::new(Cursor::new(bytes.to_vec())))
}

#[test]
fn a_flac_that_ends_in_digital_silence_is_whole() {
    let bytes = file("fixtures/silent-end.flac");
    let f = facts_of(&bytes).unwrap();
    assert_eq!((f.damage, f.duration.unwrap().seconds), (None, 1.25));
    let d = deep_of(&bytes).unwrap();
    assert!(d.is_clean() && d.tracks[0].decoded == 20_000, "{d:?}");
    // And one that is cut inside its last frames is not.
    assert!(facts_of(&bytes[..bytes.len() - 40]).unwrap().damage.is_some());
}

#[test]
fn layer_two_in_mp4_is_told_and_heard_as_what_it_is() {
    let bytes = file("fixtures/layer-2.mp4");
    assert_eq!(facts_of(&bytes).unwrap().audio[0].codec, "MPEG audio layer 2");
    let d = deep_of(&bytes).unwrap();
    assert!(d.is_clean() && d.tracks[0].decoded > 40_000, "{d:?}");
}

#[rstest]
#[case("refused/raw.dng", "DNG")]
#[case("refused/raw.nef", "NEF")]
fn a_picture_that_is_not_read_is_named_and_its_thumbnail_not_taken_for_it(
    #[case] name: &str,
    #[case] what: &str,
) {
    let e = facts_of(&file(name)).unwrap_err();
    assert!(e.class() == "unsupported" && e.to_string().contains(what), "{e}");
    assert!(!deep_of(&file(name)).is_ok_and(|d| d.is_clean()));
}

#[test]
fn a_picture_of_one_tiny_block_is_read() {
    let f = facts_of(&file("found/tiny.heic")).unwrap();
    assert_eq!((f.format.as_str(), f.damage), ("HEIC", None));
    assert!(deep_of(&file("found/tiny.heic")).unwrap().is_clean());
}

#[test]
fn a_tiled_picture_with_planes_apart_is_read_or_refused_but_never_wrong() {
    let bytes = file("refused/tiled-planar.tiff");
    let picture = match still::decode(&still::FORMATS[2], &mut Cursor::new(bytes)) {
        Ok(picture) => picture.to_rgb8(),
        Err(e) => return assert!(e.class() == "unsupported" && e.to_string().contains("TIFF"), "{e}"),
    };
    for (x, y) in [(0, 0), (99, 69), (40, 3), (3, 40), (64, 32)] {
        let want = |c: u32| ((c + x + y) * 3 % 250) as u8;
        assert_eq!(picture.get_pixel(x, y).0, [want(0), want(1), want(2)], "at {x}, {y}");
    }
}

/// Cut at half and near the end: no format shows what there is of a picture as the whole of it.
#[rstest]
fn a_cut_picture_is_damaged_in_every_format(
    #[values(
        "picture.jpg",
        "turned.jpg",
        "picture.png",
        "gray-16.png",
        "picture.tiff",
        "picture-deflate.tiff",
        "gray-16.tiff",
        "float.tiff",
        "picture.webp",
        "picture.bmp",
        "picture.avif",
        "still.gif"
    )]
    name: &str,
    #[values(50, 75, 95)] percent: usize,
) {
    let whole = file(&format!("fixtures/{name}"));
    assert!(deep_of(&whole).unwrap().is_clean(), "{name}");
    let cut = &whole[..whole.len() * percent / 100];
    let is_clean = deep_of(cut).is_ok_and(|d| d.is_clean());
    assert!(!is_clean, "{name} cut at {percent} % passes");
}

#[test]
fn a_jpeg_with_a_spoilt_scan_is_damaged() {
    let whole = file("fixtures/picture.jpg");
    let mut found = 0;
    let tried = 20;
    for n in 0..tried {
        let mut bytes = whole.clone();
        let at = whole.len() / 3 + n * whole.len() / 40;
        bytes[at..at + 12].fill(0xff);
        found += usize::from(!deep_of(&bytes).is_ok_and(|d| d.is_clean()));
    }
    // Codes of variable length find their way back by themselves now and then: then the picture has a streak, and nothing
    // in its file says so.
    assert!(found * 10 >= tried * 8, "{found} of {tried}");
}

/// Spoilt, not cut: a dozen bytes of the picture's data that are others. Formats with checksums find every one; those whose
/// compression notices find most; plain samples say nothing, and of them nothing is claimed (docs/reliability.md has the
/// counts).
#[rstest]
#[case::png("picture.png", 20)]
#[case::png_16("gray-16.png", 20)]
#[case::tiff_deflate("picture-deflate.tiff", 20)]
#[case::gif("still.gif", 8)]
#[case::webp("picture.webp", 15)]
#[case::avif("picture.avif", 0)]
#[case::bmp("picture.bmp", 0)]
#[case::tiff("picture.tiff", 8)]
fn a_spoilt_picture_is_damaged_where_its_format_can_tell(#[case] name: &str, #[case] at_least: usize) {
    let whole = file(&format!("fixtures/{name}"));
    let mut found = 0;
    for n in 0..20 {
        let mut bytes = whole.clone();
        let at = whole.len() / 3 + n * whole.len() / 40;
        for b in &mut bytes[at..(at + 12).min(whole.len() - 12)] {
            *b ^= 0x5a;
        }
        found += usize::from(!deep_of(&bytes).is_ok_and(|d| d.is_clean()));
    }
    println!("{name}: {found} of 20 found");
    assert!(found >= at_least, "{name}: {found} of 20");
}

/// Every packet of a Vorbis file cut anywhere is a block of some sound or of silence, and never damage (Vorbis I, 4.3.2 and
/// 8.6.2); what is not cut comes out as before.
#[test]
fn vorbis_packets_that_end_early_are_sound() {
    let bytes = file("fixtures/tone.ogg");
    let mut demux = media::container::open(Box::new(Cursor::new(bytes))).unwrap();
    demux.choose(&[0]);
    let track = demux.tracks()[0].clone();
    let mut packets = Vec::new();
    while let Some(p) = demux.next_packet().unwrap() {
        packets.push(p);
    }
    assert!(packets.len() > 10);
    for keep in [2, 3, 5, 9, 17, 40] {
        let mut decoder = media::codec::audio_decoder(&track).unwrap();
        let mut whole = media::codec::audio_decoder(&track).unwrap();
        for (n, p) in packets.iter().enumerate() {
            let mut cut = p.clone();
            if n % 5 == 3 {
                cut.data.truncate(keep);
            }
            let (got, want) = (decoder.decode(&cut).unwrap(), whole.decode(p).unwrap());
            assert_eq!(got.samples.len(), want.samples.len(), "packet {n} cut to {keep}");
            if n % 5 == 1 || n % 5 == 2 {
                assert_eq!(got.samples, want.samples, "packet {n} beside one cut to {keep}");
            }
        }
    }
}

#[rstest]
fn junk_in_front_of_the_first_frame_is_skipped(
    #[values("tone.mp3", "adts")] which: &str,
    #[values(1, 70, 700)] junk: usize,
) {
    let sound = if which == "adts" { adts() } else { file("fixtures/tone.mp3") };
    let clean = facts_of(&sound).unwrap();
    let mut bytes: Vec<u8> =
        b"ICY 200 OK\r\nicy-name: Estuary Radio\r\n\r\n".iter().cycle().take(junk).copied().collect();
    bytes.extend(&sound);
    let f = facts_of(&bytes).unwrap();
    assert_eq!((f.format, f.duration.map(|d| d.exact)), (clean.format, clean.duration.map(|d| d.exact)));
    assert!(deep_of(&bytes).unwrap().is_clean());
}

/// AAC frames with their heads, as our own encoder makes them.
fn adts() -> Vec<u8> {
    use media::codec::{EncodeAudio, aac};
    let mut encoder = aac::Encoder::new(48_000, 2, 128_000).unwrap();
    let sound: Vec<f32> = (0..96_000).map(|n| (n as f32 * 0.03).sin() * 0.3).collect();
    let mut packets = Vec::new();
    encoder.encode(&sound, &mut packets).unwrap();
    encoder.flush(&mut packets).unwrap();
    let mut out = Vec::new();
    for p in packets {
        let len = p.data.len() + 7;
        // MPEG-4, no checksum, AAC-LC, 48 kHz, two channels (ISO/IEC 14496-3, 1.A.2.2).
        out.extend([
            0xff,
            0xf1,
            0x4c,
            0x80 | (len >> 11) as u8,
            (len >> 3) as u8,
            (len << 5) as u8 | 0x1f,
            0xfc,
        ]);
        out.extend(p.data);
    }
    out
}

/// A message unit that is no message, in front of every key picture.
#[test]
fn a_broken_message_does_not_spoil_the_picture_behind_it() {
    use media::codec::{self, h264};
    let bytes = file("fixtures/browser.h264");
    let mut demux = media::container::open(Box::new(Cursor::new(bytes))).unwrap();
    demux.choose(&[0]);
    let track = demux.tracks()[0].clone();
    let pool = media::frame::Pool::new();
    let (mut clean, mut spoilt) =
        (codec::video_decoder(&track, &pool).unwrap(), codec::video_decoder(&track, &pool).unwrap());
    let (mut a, mut b) = (Vec::new(), Vec::new());
    while let Some(p) = demux.next_packet().unwrap() {
        clean.decode(&p, &mut a).unwrap();
        let mut q = p.clone();
        // It seems to begin a parameter set of an enormous picture.
        let message = [
            0x06, 0x05, 0xff, 0, 0, 1, 0x67, 0x42, 0, 0x1e, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0, 0, 1,
            0x65, 0xff,
        ];
        let size = h264::Config::parse(&track.setup).unwrap().length_size;
        let mut head = (message.len() as u32).to_be_bytes()[4 - size..].to_vec();
        head.extend(message);
        head.extend(&q.data);
        q.data = head;
        spoilt.decode(&q, &mut b).unwrap();
    }
    clean.flush(&mut a).unwrap();
    spoilt.flush(&mut b).unwrap();
    assert!(a.len() > 5 && a.len() == b.len(), "{} and {}", a.len(), b.len());
    for (x, y) in a.iter().zip(&b) {
        let (p, q) = (&x.planes[0], &y.planes[0]);
        assert!((0..p.height).all(|row| (0..p.width).all(|col| p.at(col, row) == q.at(col, row))));
    }
}

/// What libraries say of a spoilt picture is for those who build with them: people are told that it is cut off, or that its data is spoilt.
#[rstest]
fn spoilt_pictures_are_told_in_our_words(
    #[values(
        "picture.png",
        "wide.png",
        "picture.tiff",
        "picture-deflate.tiff",
        "picture-jpeg.tiff",
        "float.tiff",
        "group4.tiff",
        "cmyk.tiff",
        "picture.webp",
        "picture.bmp",
        "picture.ppm",
        "gray-16.pgm",
        "picture.jp2",
        "picture.jxl",
        "picture.jpg",
        "mosaic-lossless.dng"
    )]
    name: &str,
) {
    let whole = file(&format!("fixtures/{name}"));
    let told = |bytes: Vec<u8>| {
        still::frame_of(&mut Cursor::new(bytes), &media::frame::Pool::new()).map_err(|e| e.to_string())
    };
    let ours = [
        "cut off",
        "spoilt",
        "cannot be decoded",
        "pixels",
        "no marker",
        "unsupported",
        "is missing",
        "damaged",
        "not supported",
    ];
    let theirs = [
        "Format error",
        "whole buffer",
        "unexpected end",
        "Corrupt",
        "CRC",
        "ChunkType",
        "frame error",
        "bitstream",
        "JP2",
        "stream.",
        "invalid",
        "Error",
        "decoder for",
    ];
    for keep in [whole.len() / 2, whole.len() * 9 / 10] {
        let e = told(whole[..keep].to_vec()).unwrap_err();
        // A directory may lie at the end.
        assert!(e.contains("cut off") || name.ends_with("tiff"), "{keep} bytes of it: {e}");
        assert!(!theirs.iter().any(|t| e.contains(t)), "{e}");
    }
    let mut seed = 1u32;
    for _ in 0..60 {
        let mut spoilt = whole.clone();
        for _ in 0..4 {
            seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            let at = 8 + (seed >> 8) as usize % (spoilt.len() - 8);
            spoilt[at] = seed as u8;
        }
        if let Err(e) = told(spoilt) {
            assert!(ours.iter().any(|o| e.contains(o)) && !theirs.iter().any(|t| e.contains(t)), "{e}");
        }
    }
}

/// A file on a share that goes away while it is read.
struct Gone {
    inner: Cursor<Vec<u8>>,
    left: usize,
}

impl std::io::Read for Gone {
    fn read(&mut self, to: &mut [u8]) -> std::io::Result<usize> {
        self.left = self
            .left
            .checked_sub(to.len())
            .ok_or(std::io::Error::from(std::io::ErrorKind::StaleNetworkFileHandle))?;
        self.inner.read(to)
    }
}

impl std::io::Seek for Gone {
    fn seek(&mut self, to: std::io::SeekFrom) -> std::io::Result<u64> {
        self.inner.seek(to)
    }
}

/// It is no damage of the file, for which it would be turned away.
#[rstest]
fn a_share_that_goes_while_a_picture_is_read_is_no_damage(
    #[values(
        "picture.png",
        "picture.webp",
        "picture.bmp",
        "picture-jpeg.tiff",
        "gray-16.pgm",
        "picture.jxl",
        "linear.dng"
    )]
    name: &str,
) {
    // Large enough that no reader has all of it at once.
    let mut bytes = file(&format!("fixtures/{name}"));
    bytes.resize(bytes.len().max(40_000), 0);
    for left in [2_000, 12_000] {
        let mut source = Gone { inner: Cursor::new(bytes.clone()), left };
        let Err(e) = still::frame_of(&mut source, &media::frame::Pool::new()) else { continue };
        assert_eq!(e.class(), "system", "{name}, {left}: {e}");
    }
}
