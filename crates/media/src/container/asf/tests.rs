use super::*;
use crate::container::{Codec, open};
use std::io::Cursor;

const PACKET: usize = 240;

fn object(name: [u8; 16], body: &[u8]) -> Vec<u8> {
    [&name[..], &(body.len() as u64 + 24).to_le_bytes(), body].concat()
}

fn utf16(text: &str) -> Vec<u8> {
    text.encode_utf16().chain([0]).flat_map(u16::to_le_bytes).collect()
}

fn stream(number: u16, kind: [u8; 16], own: &[u8]) -> Vec<u8> {
    let mut b = [&kind[..], &[0; 16], &[0; 8]].concat();
    b.extend((own.len() as u32).to_le_bytes());
    b.extend([0; 4]);
    b.extend(number.to_le_bytes());
    b.extend([0; 4]);
    b.extend(own);
    object(guid::STREAM, &b)
}

/// A head with sound of 16 bits at 8 kHz as stream 1 and Motion JPEG as stream 2, behind it these packets.
pub(crate) fn file(packets: &[Vec<u8>], more: &[u8]) -> Vec<u8> {
    let wave = [1, 0, 1, 0, 0x40, 0x1f, 0, 0, 0x80, 0x3e, 0, 0, 2, 0, 16, 0, 0, 0];
    let mut bitmap = vec![0u8; 40];
    bitmap[0] = 40;
    bitmap[4] = 64;
    bitmap[8] = 48;
    bitmap[14] = 24;
    bitmap[16..20].copy_from_slice(b"MJPG");
    let picture = [&[64, 0, 0, 0, 48, 0, 0, 0, 2, 40, 0][..], &bitmap].concat();
    let title = utf16("The gate at low water");
    let content = [&(title.len() as u16).to_le_bytes()[..], &[0; 8], &title].concat();
    let mut properties = vec![0u8; 80];
    // 2026-11-27 00:00 UTC, two seconds and a preroll of three.
    properties[24..32].copy_from_slice(&((11_644_473_600u64 + 1_795_737_600) * 10_000_000).to_le_bytes());
    properties[40..48].copy_from_slice(&50_000_000u64.to_le_bytes());
    properties[56..64].copy_from_slice(&3_000u64.to_le_bytes());
    for at in [68, 72] {
        properties[at..at + 4].copy_from_slice(&(PACKET as u32).to_le_bytes());
    }
    let body = [
        object(guid::FILE, &properties),
        object(guid::CONTENT, &content),
        stream(1, guid::SOUND, &wave),
        stream(2, guid::PICTURES, &picture),
        more.to_vec(),
    ]
    .concat();
    let head = [&(4u32).to_le_bytes()[..], &[1, 2], &body].concat();
    let count = packets.len() as u64;
    let data = [&[0; 16][..], &count.to_le_bytes(), &[1, 1], &packets.concat()].concat();
    [object(guid::HEADER, &head), object(guid::DATA, &data)].concat()
}

/// A piece of an object, as one of several in a packet: lengths in two bytes, offsets in four.
pub(crate) fn piece(stream: u8, number: u8, offset: u32, size: u32, ms: u32, data: &[u8]) -> Vec<u8> {
    let mut b = vec![0x80 | stream, number];
    b.extend(offset.to_le_bytes());
    b.push(8);
    b.extend(size.to_le_bytes());
    b.extend((ms + 3_000).to_le_bytes());
    b.extend((data.len() as u16).to_le_bytes());
    b.extend(data);
    b
}

/// Several pieces in one packet, filled up to its size.
pub(crate) fn packet(pieces: &[Vec<u8>]) -> Vec<u8> {
    let body: Vec<u8> = pieces.concat();
    // Error correction of two bytes; several payloads, padding in two bytes.
    let mut b = vec![0x82, 0, 0, 0x01 | 2 << 3, 0x01 | 3 << 2 | 1 << 4 | 1 << 6];
    let padding = PACKET - b.len() - 2 - 6 - 1 - body.len();
    b.extend((padding as u16).to_le_bytes());
    b.extend([0; 6]);
    b.push(pieces.len() as u8 | 2 << 6);
    b.extend(body);
    b.resize(PACKET, 0);
    b
}

/// Two pictures in pieces, sound between.
pub(crate) fn sample() -> Vec<u8> {
    let (one, two) = (vec![1u8; 150], vec![2u8; 90]);
    let sound = |n: u8| vec![n; 60];
    file(
        &[
            packet(&[piece(2, 0, 0, 150, 0, &one[..100]), piece(1, 0, 0, 60, 0, &sound(10))]),
            packet(&[piece(2, 0, 100, 150, 0, &one[100..]), piece(1, 1, 0, 60, 4, &sound(11))]),
            packet(&[piece(2, 1, 0, 90, 40, &two), piece(1, 2, 0, 60, 8, &sound(12))]),
        ],
        &[],
    )
}

fn read(bytes: Vec<u8>) -> Vec<(usize, i64, Vec<u8>)> {
    let mut d = open(Box::new(Cursor::new(bytes))).unwrap();
    std::iter::from_fn(|| d.next_packet().unwrap()).map(|p| (p.track, p.pts, p.data)).collect()
}

#[test]
fn streams_are_told_and_pieces_are_put_together() {
    let d = open(Box::new(Cursor::new(sample()))).unwrap();
    assert_eq!((d.format(), d.tracks().len()), ("ASF", 2));
    let (sound, pictures) = (&d.tracks()[0], &d.tracks()[1]);
    assert_eq!((sound.codec.name().as_str(), sound.timescale), ("PCM 16-bit", 8_000));
    assert_eq!(sound.duration.seconds(), 90.0 / 8_000.0);
    let v = pictures.video().unwrap();
    assert_eq!((&pictures.codec, v.width, v.height), (&Codec::MotionJpeg, 64, 48));
    assert_eq!(v.rate.unwrap().value(), 25.0);
    assert_eq!(d.about().created.as_deref(), Some("2026-11-27T00:00:00Z"));
    assert_eq!(d.about().tags, [("title".to_owned(), "The gate at low water".to_owned())]);
    assert!(d.about().damage.is_none(), "{:?}", d.about());
    let all = read(sample());
    let of =
        |track: usize| all.iter().filter(|p| p.0 == track).map(|p| (p.1, p.2.clone())).collect::<Vec<_>>();
    assert_eq!(of(1), [(0, vec![1; 150]), (1, vec![2; 90])]);
    assert_eq!(of(0), [(0, vec![10; 60]), (30, vec![11; 60]), (60, vec![12; 60])]);
}

#[test]
fn whole_objects_behind_one_head_each_have_their_time() {
    // One payload that reaches to the end of the packet, replicated data of one byte: 20 ms from object to object.
    let mut b = vec![0x82, 0, 0, 2 << 3, 0x01 | 3 << 2 | 1 << 4 | 1 << 6];
    let objects: Vec<u8> = [[40u8; 41], [41; 41]].iter().flat_map(|o| [&[40], &o[1..]].concat()).collect();
    let body = [&[0x82, 0][..], &3_000u32.to_le_bytes(), &[1, 20], &objects].concat();
    b.extend(((PACKET - b.len() - 8 - body.len()) as u16).to_le_bytes());
    b.extend([0; 6]);
    b.extend(body);
    b.resize(PACKET, 0);
    let all = read(file(&[b], &[]));
    assert_eq!(all, [(1, 0, vec![40; 40]), (1, 1, vec![41; 40])]);
}

#[test]
fn a_lost_piece_costs_its_object_and_a_cut_file_is_told() {
    let whole = sample();
    let at = whole.len() - 3 * PACKET;
    // The packet in the middle is spoilt: the picture that had a piece in it is gone, the rest is there.
    let mut spoilt = whole.clone();
    spoilt[at + PACKET..at + 2 * PACKET].fill(0xff);
    let mut d = open(Box::new(Cursor::new(spoilt))).unwrap();
    let mut good = Vec::new();
    let mut bad = 0;
    loop {
        match d.next_packet() {
            Ok(Some(p)) => good.push((p.track, p.data[0])),
            Ok(None) => break,
            Err(e) => {
                assert!(matches!(e, Error::Damaged(_)), "{e}");
                bad += 1;
            }
        }
    }
    assert_eq!((good, bad), (vec![(0, 10), (1, 2), (0, 12)], 1));
    for keep in [whole.len() - 1, whole.len() - PACKET, at + 10] {
        let d = open(Box::new(Cursor::new(whole[..keep].to_vec()))).unwrap();
        let damage = d.about().damage.as_deref().unwrap_or_default();
        assert!(damage.starts_with("cut off, or still being copied"), "{keep}: {damage}");
    }
    let e = open(Box::new(Cursor::new(whole[..240].to_vec()))).err().unwrap();
    assert!(e.to_string().contains("ASF head"), "{e}");
}

#[test]
fn what_is_protected_says_so_and_what_is_of_windows_media_is_named() {
    let locked = file(&[], &object(guid::ENCRYPTION, &[0; 12]));
    let d = open(Box::new(Cursor::new(locked))).unwrap();
    assert_eq!(d.tracks()[0].codec.name(), "encrypted PCM 16-bit");
    // A stream that only stands in what is more of it, with its time for each picture.
    let mut bitmap = vec![0u8; 40];
    (bitmap[4], bitmap[8]) = (32, 16);
    bitmap[16..20].copy_from_slice(b"WMV3");
    let own = stream(5, guid::PICTURES, &[&[0; 11][..], &bitmap].concat());
    let mut more = vec![0u8; 64];
    more[48] = 5;
    more[52..60].copy_from_slice(&333_667u64.to_le_bytes());
    let inside = object(guid::MORE_OF_STREAM, &[more, own].concat());
    let extension = object(guid::EXTENSION, &[&[0; 22][..], &inside].concat());
    let d = open(Box::new(Cursor::new(file(&[], &extension)))).unwrap();
    let v = d.tracks()[2].video().unwrap();
    assert_eq!((d.tracks()[2].codec.name().as_str(), v.width), ("Windows Media Video", 32));
}

#[test]
fn whatever_the_bytes_are_it_ends() {
    let whole = sample();
    for at in 0..whole.len() {
        for value in [0, 0xff, whole[at] ^ 0x80, whole[at].wrapping_add(1)] {
            let mut bytes = whole.clone();
            bytes[at] = value;
            crate::testkit::hostile::use_file(&bytes);
        }
    }
}
