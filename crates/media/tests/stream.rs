//! Streams: several sizes cut at the same moments, with their playlists.

mod room;

use media::container::{self, Demux};
use media::filter::video::{Came, Spoken};
use media::recipe::*;
use media::testkit::Clip;
use media::units::Ratio;
use room::Room;
use rstest::rstest;
use std::fs::File;
use std::path::Path;

fn stream(rungs: &[(u32, u32)], sound: bool) -> Recipe {
    let rungs = rungs.iter().map(|&fit| Rung { fit, bits: 400_000 }).collect();
    Recipe {
        stream: Some(StreamRecipe { segment_ms: 2000, rungs, captions: None }),
        audio: sound.then(AudioRecipe::default),
        ..Recipe::default()
    }
}

fn names(folder: &Path) -> Vec<String> {
    let mut all: Vec<String> =
        std::fs::read_dir(folder).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
    all.sort();
    all
}

/// Byte ranges and lengths of a playlist.
fn fragments(playlist: &Path) -> Vec<(u64, u64, f64)> {
    let text = std::fs::read_to_string(playlist).unwrap();
    let lines: Vec<&str> = text.lines().collect();
    assert_eq!((lines[0], lines[lines.len() - 1]), ("#EXTM3U", "#EXT-X-ENDLIST"));
    let each = lines.windows(2).filter_map(|w| {
        let seconds = w[0].strip_prefix("#EXTINF:")?.strip_suffix(',')?.parse().unwrap();
        let (bytes, at) = w[1].strip_prefix("#EXT-X-BYTERANGE:")?.split_once('@')?;
        Some((at.parse().unwrap(), bytes.parse().unwrap(), seconds))
    });
    each.collect()
}

#[rstest]
#[case::constant(Ratio { num: 25, den: 1 }, 130)]
#[case::ntsc(Ratio { num: 30_000, den: 1001 }, 200)]
fn rungs_are_cut_at_the_same_moments_and_the_lists_cover_every_byte(
    #[case] rate: Ratio,
    #[case] frames: u32,
) {
    let room = Room::with(&Clip { width: 320, height: 180, rate, frames, ..Clip::default() });
    let made = room.make(&[stream(&[(640, 360), (320, 180), (160, 90)], true)]);
    let folder = room.path(0);
    let want = "manifest.mpd master.m3u8 sound-1.m3u8 sound-1.mp4 video-180.m3u8 video-180.mp4 video-90.m3u8 video-90.mp4";
    assert_eq!(names(&folder).join(" "), want);
    assert!(made[0].notes[0].contains("no smaller than the source"), "{:?}", made[0].notes);
    assert_eq!((made[0].size, made[0].frames), (Some((320, 180)), u64::from(frames)));
    let mut cuts = Vec::new();
    for name in ["video-180", "video-90", "sound-1"] {
        let all = fragments(&folder.join(format!("{name}.m3u8")));
        let mut at = 2048;
        for (from, bytes, _) in &all {
            assert_eq!(*from, at, "{name}");
            at += bytes;
        }
        assert_eq!(at, std::fs::metadata(folder.join(format!("{name}.mp4"))).unwrap().len(), "{name}");
        // Each fragment by itself, behind the head, is a file that can be read.
        let bytes = std::fs::read(folder.join(format!("{name}.mp4"))).unwrap();
        for (from, len, seconds) in &all {
            let mut one = bytes[..2048].to_vec();
            one.extend(&bytes[*from as usize..(*from + *len) as usize]);
            let mut demux = container::open(Box::new(std::io::Cursor::new(one))).unwrap();
            let scale = f64::from(demux.tracks()[0].timescale);
            let first = demux.next_packet().unwrap().unwrap();
            assert!(first.key, "{name}");
            let mut length = first.duration as f64 + f64::from(first.trim_start);
            while let Some(p) = demux.next_packet().unwrap() {
                length += p.duration as f64;
            }
            assert!(
                name.starts_with("sound") || (length / scale - seconds).abs() < 0.001,
                "{name}: {length}"
            );
        }
        if name.starts_with("video") {
            cuts.push(all.iter().map(|f| f.2).collect::<Vec<_>>());
        }
    }
    assert_eq!(cuts[0], cuts[1]);
    let whole: f64 = cuts[0].iter().sum();
    assert!((whole - f64::from(frames) / rate.value()).abs() < 0.001 && cuts[0].len() > 2, "{cuts:?}");
    let manifest = std::fs::read_to_string(folder.join("manifest.mpd")).unwrap();
    assert_eq!(
        manifest.matches("<SegmentURL ").count(),
        cuts[0].len() * 2 + fragments(&folder.join("sound-1.m3u8")).len()
    );
}

#[test]
fn a_film_without_sound_becomes_a_stream_of_pictures() {
    let room = Room::with(&Clip::default());
    let silent = Recipe { video: Some(VideoRecipe::default()), ..Recipe::default() };
    room.make(&[silent]);
    std::fs::rename(room.path(0), &room.source).unwrap();
    room.make(&[stream(&[(160, 0)], true)]);
    let master = std::fs::read_to_string(room.path(0).join("master.m3u8")).unwrap_or_default();
    assert!(master.contains("video-90.m3u8") && !master.contains("AUDIO"), "{master}");
    let demux = container::open(Box::new(File::open(room.path(0).join("video-90.mp4")).unwrap())).unwrap();
    assert_eq!(demux.tracks().len(), 1);
}

/// Cuts in the film must not move the cuts of the segments: a player changes sizes at any of them.
#[test]
fn cuts_of_the_film_do_not_move_the_segments() {
    let room = Room::with(&Clip::default());
    let mut bytes = b"YUV4MPEG2 W320 H180 F25:1 Ip A1:1 C420jpeg\n".to_vec();
    let mut seed = 7u32;
    for n in 0..200u32 {
        // Another picture every 33: noise that nothing before it foretells.
        if n.is_multiple_of(33) {
            seed = n + 7;
        }
        let mut value = seed;
        bytes.extend(b"FRAME\n");
        bytes.extend((0..320 * 180).map(|_| {
            value = value.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (value >> 25) as u8 + 60
        }));
        bytes.extend([128; 160 * 90 * 2]);
    }
    std::fs::write(&room.source, bytes).unwrap();
    room.make(&[stream(&[(320, 180), (160, 90)], false)]);
    for name in ["video-180", "video-90"] {
        let cuts: Vec<f64> =
            fragments(&room.path(0).join(format!("{name}.m3u8"))).iter().map(|f| f.2).collect();
        assert_eq!(cuts, [2.0, 2.0, 2.0, 2.0], "{name}");
    }
}

/// A part of a stream is told as one, and no film that was broken off.
#[test]
fn a_fragment_by_itself_is_a_part_of_something_else() {
    let room = Room::with(&Clip::default());
    room.make(&[stream(&[(160, 90)], false)]);
    let folder = room.path(0);
    let rung = names(&folder).into_iter().find(|n| n.ends_with(".mp4")).unwrap();
    let bytes = std::fs::read(folder.join(rung)).unwrap();
    let at = bytes.windows(4).position(|w| w == b"moof").unwrap() - 4;
    let open = |bytes: &[u8]| container::open(Box::new(std::io::Cursor::new(bytes.to_vec())));
    let e = open(&bytes[at..]).err().unwrap();
    assert!(e.to_string().starts_with("not supported: it is a part of something else"), "{e}");
    // Cut off in the middle it is still told as that.
    let e = open(&bytes[at..bytes.len() - 700]).err().unwrap();
    assert!(e.to_string().contains("cut off"), "{e}");
}

/// Captions that came along are a rung: in WebVTT, from the part's beginning on, in both lists. Such that cannot be read are
/// left out, and that is said.
#[test]
fn captions_go_along() {
    let room = Room::with(&Clip { width: 320, height: 180, frames: 150, ..Clip::default() });
    let spoken = |from, to, text: &str| Spoken { from, to, text: text.into() };
    let all = vec![
        spoken(0, 900, "Before it"),
        spoken(1_500, 2_500, "The tide <turns> & \n\nnobody --> sees it"),
        spoken(4_000, 9_000, "Until the end"),
    ];
    let mut recipe = stream(&[(320, 180)], true);
    let at = |ms| Some(Moment::Ms(ms));
    recipe.part = Some(Part { from: at(1_000), to: at(5_000) });
    let with = |captions: Option<(&str, Came)>, recipe: &Recipe| {
        let mut recipe = recipe.clone();
        recipe.stream.as_mut().unwrap().captions = captions.map(|(l, c)| (l.to_owned(), c));
        recipe
    };
    let read = Came::Read { spoken: all, notes: vec!["a cue without a time".into()] };
    let broken = Came::Broken("no cue in it".into());
    let made = room.make(&[with(Some(("en", read)), &recipe), with(Some(("", broken)), &recipe), recipe]);
    let text = |n: usize, name: &str| std::fs::read_to_string(room.path(n).join(name)).unwrap();
    let want = "WEBVTT\n\n00:00:00.500 --> 00:00:01.500\nThe tide &lt;turns&gt; &amp;\nnobody --&gt; sees it\n\n\
                00:00:03.000 --> 00:00:04.000\nUntil the end\n";
    assert_eq!(text(0, "captions-1.vtt"), want);
    let master = text(0, "master.m3u8");
    assert!(
        master.contains("TYPE=SUBTITLES,GROUP-ID=\"captions\",NAME=\"Captions\",LANGUAGE=\"en\""),
        "{master}"
    );
    assert!(master.contains("AUDIO=\"sound\",SUBTITLES=\"captions\"\nvideo-180.m3u8"), "{master}");
    assert!(text(0, "captions-1.m3u8").contains("#EXTINF:4.0"), "{}", text(0, "captions-1.m3u8"));
    assert!(text(0, "manifest.mpd").contains("mimeType=\"text/vtt\" lang=\"en\""));
    assert!(made[0].notes.iter().any(|n| n.contains("a cue without a time")), "{:?}", made[0].notes);
    assert!(made[1].notes.iter().any(|n| n.contains("left out: no cue in it")), "{:?}", made[1].notes);
    for n in [1, 2] {
        assert!(!names(&room.path(n)).iter().any(|f| f.starts_with("captions")));
        assert!(!text(n, "master.m3u8").contains("SUBTITLES") && !text(n, "manifest.mpd").contains("vtt"));
    }
}
