//! Containers that this program only reads, laid out by the testkit: what went in must come out.

use media::codec;
use media::container::{self, Demux, Media, Packet};
use media::error::Result;
use media::facts;
use media::frame::{Fields, Pool};
use media::testkit::layout::with_index_last;
use media::testkit::wrap::{avi, element, matroska, transport};
use media::testkit::{Clip, write_clip};
use media::units::{Ratio, Time};
use rstest::rstest;
use std::io::{Cursor, Read, Write};
use std::path::Path;

fn fixture(name: &str) -> Vec<u8> {
    std::fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures").join(name)).unwrap()
}

fn open(bytes: Vec<u8>) -> Result<Box<dyn Demux>> {
    container::open(Box::new(Cursor::new(bytes)))
}

fn packets(d: &mut dyn Demux) -> Vec<Packet> {
    let mut out = Vec::new();
    loop {
        match d.next_packet() {
            Ok(Some(p)) => out.push(p),
            Ok(None) => return out,
            Err(e) => assert_eq!(e.class(), "damaged", "{e}"),
        }
    }
}

fn all_of(name: &str) -> Vec<Vec<u8>> {
    packets(open(fixture(name)).unwrap().as_mut()).into_iter().map(|p| p.data).collect()
}

/// Lengths in front become start codes.
fn stream(packet: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    let mut rest = packet;
    while let Some((len, more)) = rest.split_first_chunk::<4>() {
        let (unit, more) = more.split_at(u32::from_be_bytes(*len) as usize);
        out.extend([0, 0, 0, 1]);
        out.extend(unit);
        rest = more;
    }
    out
}

/// Twelve pictures and 1.5 s of sound; the moments start late and run over their 33 bits.
fn broadcast(step: usize) -> (Vec<u8>, Vec<Vec<u8>>, Vec<Vec<u8>>) {
    let (pictures, sound) = (all_of("browser.h264"), all_of("tone.mp3"));
    let start = (1u64 << 33) - 20_000;
    let round = |t: u64| t & ((1 << 33) - 1);
    let timed = |list: &[Vec<u8>], each: f64, change: fn(&[u8]) -> Vec<u8>| -> Vec<(u64, Vec<u8>)> {
        let moment = |i: usize| start + (i as f64 * each).round() as u64;
        list.iter().enumerate().map(|(i, p)| (moment(i), change(p))).collect()
    };
    let mut v = timed(&pictures, 3600.0, stream);
    let mut a = timed(&sound, 90_000.0 * 1152.0 / 44_100.0, <[u8]>::to_vec);
    // The order is by time before it runs over.
    let mut order: Vec<(u64, bool, usize)> = v
        .iter()
        .enumerate()
        .map(|(i, p)| (p.0, false, i))
        .chain(a.iter().enumerate().map(|(i, p)| (p.0, true, i)))
        .collect();
    order.sort_unstable();
    v.iter_mut().chain(&mut a).for_each(|p| p.0 = round(p.0));
    let mut bytes = transport(&[], &[], step);
    for (_, is_sound, i) in order {
        let one = if is_sound { transport(&[], &a[i..=i], step) } else { transport(&v[i..=i], &[], step) };
        // The tables come once.
        bytes.extend(&one[2 * step..]);
    }
    (bytes, pictures, sound)
}

#[rstest]
fn a_transport_stream_gives_what_went_in(#[values(188, 192, 204)] step: usize) {
    let (bytes, pictures, sound) = broadcast(step);
    let mut d = open(bytes).unwrap();
    let (v, a) = (&d.tracks()[0], &d.tracks()[1]);
    assert_eq!((v.codec.name().as_str(), v.video().unwrap().rate), ("H.264", Ratio::new(25, 1)));
    assert_eq!((v.shown, v.duration, v.start), (Some(12), Time::new(12, 25), Time::new(0, 1)));
    assert_eq!((a.codec.name().as_str(), a.language.as_deref()), ("MP3", Some("eng")));
    assert_eq!(a.duration, Time::new(sound.len() as i64 * 1152, 44_100));
    let got = packets(d.as_mut());
    let of = |t: usize| got.iter().filter(|p| p.track == t).map(|p| p.data.clone()).collect::<Vec<_>>();
    assert_eq!(of(0), pictures);
    assert_eq!(of(1), sound);
    let times: Vec<i64> = got.iter().filter(|p| p.track == 0).map(|p| p.pts).collect();
    assert_eq!(times, (0..12).collect::<Vec<_>>());
}

#[test]
fn damage_in_a_transport_stream_costs_only_itself() {
    let (mut bytes, ..) = broadcast(188);
    let middle = bytes.len() / 2;
    bytes.drain(middle..middle + 77);
    bytes[middle + 400..middle + 420].fill(0x11);
    let mut d = open(bytes).unwrap();
    assert!(d.about().remarks.iter().any(|r| r.contains("damaged place")), "{:?}", d.about());
    let got = packets(d.as_mut());
    assert!(got.iter().filter(|p| p.track == 0).count() >= 10);
    assert!(got.iter().filter(|p| p.track == 1).count() >= 30);
}

#[test]
fn a_part_cut_from_the_middle_of_a_broadcast_is_read() {
    let (bytes, ..) = broadcast(188);
    // Tables, then from the middle of some packet on.
    let mut part = bytes[5 * 188 + 50..].to_vec();
    part.extend(&bytes[..2 * 188]);
    let mut d = open(part).unwrap();
    assert!(packets(d.as_mut()).len() > 20);
}

fn jpegs(n: usize) -> Vec<Vec<u8>> {
    vec![fixture("picture.jpg"); n]
}

#[rstest]
#[case::one_part(100)]
#[case::a_second_part_behind(6)]
fn an_avi_of_motion_jpeg_and_mp3_is_read(#[case] split: usize) {
    let sound = all_of("tone.mp3");
    // Chunks that do not keep to the frames.
    let cut: Vec<Vec<u8>> = sound.concat().chunks(331).map(<[u8]>::to_vec).collect();
    let bytes = avi(b"MJPG", 24, (48, 32), &jpegs(10), &cut, split);
    let mut d = open(bytes.clone()).unwrap();
    let v = d.tracks()[0].video().unwrap();
    assert_eq!(
        (d.tracks()[0].codec.name().as_str(), v.rate, v.width),
        ("Motion JPEG", Ratio::new(25, 1), 48)
    );
    assert_eq!((d.tracks()[0].shown, d.tracks()[0].duration), (Some(10), Time::new(10, 25)));
    let got = packets(d.as_mut());
    assert_eq!(got.iter().filter(|p| p.track == 1).map(|p| p.data.clone()).collect::<Vec<_>>(), sound);
    let mut decoder = codec::video_decoder(&d.tracks()[0], &Pool::new()).unwrap();
    let mut frames = Vec::new();
    got.iter().filter(|p| p.track == 0).for_each(|p| decoder.decode(p, &mut frames).unwrap());
    assert_eq!(frames.len(), 10);
    assert!(frames[9].colour.full_range && frames[9].planes[0].at(47, 31) > 0);
    // Cut short: said, and what is there is read.
    let cut = open(bytes[..bytes.len() / 2].to_vec()).unwrap();
    assert!(cut.about().damage.as_ref().unwrap().contains("cut off"));
}

#[test]
fn an_empty_chunk_shows_the_picture_before_it_for_longer() {
    let mut pictures = jpegs(6);
    pictures[3].clear();
    let mut d = open(avi(b"MJPG", 24, (48, 32), &pictures, &[], 100)).unwrap();
    let v = d.tracks()[0].video().unwrap();
    assert_eq!((v.rate, v.constant_rate), (Ratio::new(25, 1), false));
    assert_eq!((d.tracks()[0].shown, d.tracks()[0].duration), (Some(5), Time::new(6, 25)));
    assert_eq!(packets(d.as_mut()).iter().map(|p| p.pts).collect::<Vec<_>>(), [0, 1, 2, 4, 5]);
}

#[test]
fn uncompressed_avi_pictures_stand_upright() {
    let rows: Vec<u8> = (0..32u8).flat_map(|y| [[y, 0, 200]; 48].concat()).collect();
    let mut d = open(avi(&[0; 4], 24, (48, 32), &vec![rows; 3], &[], 100)).unwrap();
    let p = packets(d.as_mut());
    let mut decoder = codec::video_decoder(&d.tracks()[0], &Pool::new()).unwrap();
    let mut frames = Vec::new();
    decoder.decode(&p[0], &mut frames).unwrap();
    // Blue comes first, and the lowest row.
    assert_eq!([0, 1, 2].map(|c| frames[0].planes[c].at(5, 0)), [200, 0, 31]);
}

/// Track entry of PCM sound in Matroska, and one block of each kind of lacing.
fn pcm_entry(extra: &[u8]) -> Vec<u8> {
    let sound = [element(0xb5, &8000f64.to_be_bytes()), element(0x9f, &[1]), element(0x6264, &[16])].concat();
    [
        element(0xd7, &[1]),
        element(0x83, &[2]),
        element(0x86, b"A_PCM/INT/LIT"),
        element(0xe1, &sound),
        extra.to_vec(),
    ]
    .concat()
}

fn ramp(from: u8, n: usize) -> Vec<u8> {
    (0..n).map(|i| from.wrapping_add(i as u8)).collect()
}

#[rstest]
#[case::none(0, vec![], vec![40])]
#[case::xiph(2, vec![2, 10, 12], vec![10, 12, 18])]
#[case::ebml(6, vec![2, 0x8a, 0xc1], vec![10, 12, 18])]
#[case::same(4, vec![3], vec![10, 10, 10, 10])]
fn laced_blocks_come_apart(#[case] flags: u8, #[case] head: Vec<u8>, #[case] sizes: Vec<usize>) {
    let block = [vec![0x81, 0, 0, 0x80 | flags], head, ramp(0, 40)].concat();
    let mut d = open(matroska(&pcm_entry(&[]), &[(0, vec![block])])).unwrap();
    let got = packets(d.as_mut());
    assert_eq!(got.iter().map(|p| p.data.len()).collect::<Vec<_>>(), sizes);
    assert_eq!(got.iter().flat_map(|p| p.data.clone()).collect::<Vec<_>>(), ramp(0, 40));
    assert_eq!(got.last().unwrap().pts + got.last().unwrap().duration, 20);
}

#[test]
fn what_was_left_out_of_blocks_is_put_back() {
    let settings = element(0x5034, &[element(0x4254, &[3]), element(0x4255, &[9, 9])].concat());
    let encodings = element(0x6d80, &element(0x6240, &settings));
    let block = [vec![0x81, 0, 0, 0x80], ramp(0, 38)].concat();
    let mut d = open(matroska(&pcm_entry(&encodings), &[(0, vec![block])])).unwrap();
    assert_eq!(packets(d.as_mut())[0].data, [vec![9, 9], ramp(0, 38)].concat());
}

#[test]
fn damage_between_clusters_is_passed_over() {
    let block = |n: u8| [vec![0x81, 0, 0, 0x80], ramp(n, 160)].concat();
    let clusters: Vec<_> = (0..6u8).map(|n| (u64::from(n) * 10, vec![block(n)])).collect();
    let mut bytes = matroska(&pcm_entry(&[]), &clusters);
    let starts: Vec<usize> =
        (0..bytes.len() - 4).filter(|&i| bytes[i..i + 4] == [0x1f, 0x43, 0xb6, 0x75]).collect();
    bytes[starts[3]..starts[3] + 20].fill(0);
    let mut d = open(bytes).unwrap();
    assert!(d.about().remarks.iter().any(|r| r.contains("damaged")), "{:?}", d.about());
    let got = packets(d.as_mut());
    assert_eq!(got.len(), 5);
    assert_eq!(got.last().unwrap().data, ramp(5, 160));
}

fn clip() -> Vec<u8> {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("clip.mp4");
    let file = std::fs::File::options().read(true).write(true).create_new(true).open(&path).unwrap();
    write_clip(&Clip { width: 64, height: 48, frames: 20, ..Clip::default() }, Box::new(file)).unwrap();
    std::fs::read(path).unwrap()
}

#[test]
fn a_compressed_index_is_read_like_a_plain_one() {
    let (head, index, _) = with_index_last(&clip(), None);
    let mut packed = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::default());
    packed.write_all(&index).unwrap();
    let packed = packed.finish().unwrap();
    let boxed = |kind: &[u8], body: &[u8]| [&(body.len() as u32 + 8).to_be_bytes()[..], kind, body].concat();
    let cmvd = boxed(b"cmvd", &[&(index.len() as u32).to_be_bytes()[..], &packed].concat());
    let moov = boxed(b"moov", &boxed(b"cmov", &[boxed(b"dcom", b"zlib"), cmvd].concat()));
    let (mut plain, mut small) =
        (open([head.clone(), index].concat()).unwrap(), open([head, moov].concat()).unwrap());
    assert_eq!(plain.tracks(), small.tracks());
    assert_eq!(packets(plain.as_mut()), packets(small.as_mut()));
}

/// The browser's fragments hold what its other containers hold: one picture each 40 ms and sound beside it.
#[test]
fn fragments_become_one_line() {
    let mut d = open(fixture("recorded-vp9.mp4")).unwrap();
    let v = d.tracks().iter().find(|t| t.video().is_some()).unwrap().clone();
    let got = packets(d.as_mut());
    let mine: Vec<&Packet> = got.iter().filter(|p| d.tracks()[p.track].video().is_some()).collect();
    assert_eq!(Some(mine.len() as u64), v.packets);
    assert!(mine.windows(2).all(|w| w[0].pts + w[0].duration == w[1].pts), "no holes");
    assert!(mine[0].key && mine[0].data.len() > mine[1].data.len());
}

#[rstest]
#[case::progressive("Ip", Fields::Progressive)]
#[case::top("It", Fields::TopFirst)]
fn y4m_is_read_with_its_depth_and_fields(#[case] fields: &str, #[case] want: Fields) {
    let mut bytes = format!("YUV4MPEG2 W6 H4 F30000:1001 {fields} A1:1 C422p10\n").into_bytes();
    for n in 0..3u8 {
        bytes.extend(b"FRAME\n");
        (0..48u8).for_each(|i| bytes.extend([i + n, 1]));
    }
    let mut d = open(bytes.clone()).unwrap();
    let t = d.tracks()[0].clone();
    let v = t.video().unwrap();
    assert_eq!((v.depth, v.fields, v.rate, t.shown), (Some(10), want, Ratio::new(30_000, 1001), Some(3)));
    let mut decoder = codec::video_decoder(&t, &Pool::new()).unwrap();
    let mut frames = Vec::new();
    packets(d.as_mut()).iter().for_each(|p| decoder.decode(p, &mut frames).unwrap());
    assert_eq!((frames.len(), frames[2].planes[0].at(1, 0), frames[2].fields), (3, 256 + 3, want));
    let cut = open(bytes[..bytes.len() - 5].to_vec()).unwrap();
    assert!(cut.about().damage.is_some() && cut.tracks()[0].shown == Some(2));
}

#[test]
fn mp3_inside_a_wav_is_heard() {
    let sound = all_of("tone.mp3").concat();
    let mut fmt = vec![0x55, 0, 2, 0];
    fmt.extend([44_100u32, 16_000].iter().flat_map(|v| v.to_le_bytes()));
    fmt.extend([1, 0, 0, 0, 0, 0]);
    let chunk = |kind: &[u8], body: &[u8]| [kind, &(body.len() as u32).to_le_bytes(), body].concat();
    let body = [b"WAVE".to_vec(), chunk(b"fmt ", &fmt), chunk(b"data", &sound)].concat();
    let mut d = open(chunk(b"RIFF", &body)).unwrap();
    assert_eq!((d.format(), d.tracks()[0].codec.name().as_str()), ("WAV", "MP3"));
    assert!(packets(d.as_mut()).len() > 30);
}

/// A numbered run is a clip with a given rate; a picture that is none is lost, and the rest is there.
#[test]
fn numbered_pictures_open_as_a_clip() {
    let picture = fixture("picture.png");
    let open_one = move |n: u64| -> Result<Box<dyn container::Source>> {
        Ok(Box::new(Cursor::new(if n == 2 { vec![0; 10] } else { picture.clone() })))
    };
    let mut d = media::still::run::Run::open(Box::new(open_one), 5, Ratio::new(24, 1).unwrap()).unwrap();
    let f = facts::of_tracks(&d, 0);
    assert_eq!((f.picture().unwrap().frames, f.duration.unwrap().exact), (Some(5), Time::new(5, 24)));
    let mut decoder = codec::video_decoder(&d.tracks()[0], &Pool::new()).unwrap();
    let (mut frames, mut bad) = (Vec::new(), 0);
    while let Some(p) = d.next_packet().unwrap() {
        bad += u32::from(decoder.decode(&p, &mut frames).is_err());
    }
    assert_eq!((frames.len(), bad, decoder.take_lost()), (4, 1, vec![(2, 1)]));
    assert_eq!(frames[3].planes[0].at(10, 0), 50);
}

#[rstest]
#[case(b"YUV4MPEG2 W0 H4 F25:1\nFRAME\n".to_vec(), "picture size")]
#[case(b"YUV4MPEG2 W4 H4 F25:0\nFRAME\n".to_vec(), "frame rate")]
#[case(b"YUV4MPEG2 W4 H4 F25:1 C411\nFRAME\n".to_vec(), "'411'")]
#[case(b"DKIF\0\0\x20\0VP80\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0".to_vec(), "picture size")]
#[case([&b"OggS\0\x02"[..], &[0; 60]].concat(), "none of its streams")]
#[case(b"fLaC\x84\0\0\x04\0\0\0\0".to_vec(), "no stream information")]
#[case(b"FORM\0\0\0\x04AIFF".to_vec(), "no 'COMM'")]
#[case(b"caff\0\x01\0\0".to_vec(), "cut short")]
#[case(matroska(&element(0x83, &[1]), &[]), "picture size 0x0")]
#[case(element(0x1a45_dfa3, &element(0x4282, b"other")), "type 'other'")]
#[case(avi(b"MJPG", 24, (0, 0), &[], &[], 1), "picture size 0x0")]
fn impossible_files_are_refused_with_the_reason(#[case] bytes: Vec<u8>, #[case] words: &str) {
    let e = open(bytes).err().unwrap().to_string();
    assert!(e.contains(words), "{e}");
}

/// Readers take their bytes as they come: a source that gives little at a time changes nothing.
#[test]
fn a_slow_source_gives_the_same() {
    struct Slow(Cursor<Vec<u8>>);
    impl Read for Slow {
        fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
            let n = out.len().min(7);
            self.0.read(&mut out[..n])
        }
    }
    impl std::io::Seek for Slow {
        fn seek(&mut self, to: std::io::SeekFrom) -> std::io::Result<u64> {
            self.0.seek(to)
        }
    }
    for name in ["recorded-vp8.webm", "tone.ogg", "sound-alac-16.caf"] {
        let mut slow = container::open(Box::new(Slow(Cursor::new(fixture(name))))).unwrap();
        let mut fast = open(fixture(name)).unwrap();
        assert!(slow.tracks().iter().all(|t| !matches!(t.media, Media::Other)));
        assert_eq!(packets(slow.as_mut()), packets(fast.as_mut()), "{name}");
    }
}

/// Tags of FLV: pictures with their setup record first, each with what is to be added to its time, and MP3 between them.
fn flash(setup: &[u8], pictures: &[Packet], scale: u32, sound: &[Vec<u8>]) -> Vec<u8> {
    let mut out = b"FLV\x01\x05\0\0\0\x09\0\0\0\0".to_vec();
    let mut put = |kind: u8, ms: i64, body: Vec<u8>| {
        let size = (body.len() as u32).to_be_bytes();
        let time = (ms as u32).to_be_bytes();
        out.push(kind);
        out.extend(&size[1..]);
        out.extend(&time[1..]);
        out.push(time[0]);
        out.extend([0; 3]);
        out.extend(&body);
        out.extend((body.len() as u32 + 11).to_be_bytes());
    };
    put(9, 0, [&[0x17, 0, 0, 0, 0], setup].concat());
    let ms = |t: i64| t * 1000 / i64::from(scale);
    let mut decoded: Vec<i64> = pictures.iter().map(|p| ms(p.pts)).collect();
    decoded.sort_unstable();
    for (n, p) in pictures.iter().enumerate() {
        let at = decoded[n];
        // Never shown before it is decoded: all is late by what the largest step back asks.
        let later = ((ms(p.pts) - at + 500) as u32).to_be_bytes();
        let first = if p.key { 0x17 } else { 0x27 };
        put(9, at, [&[first, 1, later[1], later[2], later[3]], p.data.as_slice()].concat());
        if let Some(s) = sound.get(n) {
            put(8, n as i64 * 26, [&[0x2f], s.as_slice()].concat());
        }
    }
    out
}

#[test]
fn flash_files_are_read() {
    let mut d = open(fixture("recorded-avc1.mkv")).unwrap();
    let n = d.tracks().iter().position(|t| t.video().is_some()).unwrap();
    let (track, scale) = (d.tracks()[n].clone(), d.tracks()[n].timescale);
    d.choose(&[n]);
    let pictures = packets(d.as_mut());
    let sound = all_of("tone.mp3");
    let sound = &sound[..pictures.len().min(sound.len())];
    let bytes = flash(&track.setup, &pictures, scale, sound);
    let mut d = open(bytes.clone()).unwrap();
    assert_eq!(d.format(), "FLV");
    let told: Vec<String> = d.tracks().iter().map(|t| t.codec.name()).collect();
    assert_eq!(told, ["H.264", "MP3"]);
    let (v, want) = (d.tracks()[0].video().unwrap(), track.video().unwrap());
    assert_eq!((v.width, v.height), (want.width, want.height));
    assert_eq!(d.about().damage, None);
    let all = packets(d.as_mut());
    let of = |track: usize| all.iter().filter(move |p| p.track == track);
    assert!(of(0).map(|p| &p.data).eq(pictures.iter().map(|p| &p.data)));
    assert!(of(1).map(|p| &p.data).eq(sound.iter()));
    // It is the source, picture for picture.
    let deep = media::deep::of(Box::new(Cursor::new(bytes.clone()))).unwrap();
    assert!(deep.is_clean() && deep.tracks[0].decoded == pictures.len() as u64, "{deep:?}");
    let cut = open(bytes[..bytes.len() - 40].to_vec()).unwrap();
    assert!(cut.about().damage.as_deref().is_some_and(|d| d.contains("cut off")), "{:?}", cut.about().damage);
}
