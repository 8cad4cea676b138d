//! `convert`, `plan` and `presets` on real files, and what other programs say of what comes out.

use crate::support::{self, House, PROGRAM, clip, python, text};
use media::frame::Pool;
use media::still::{self, Decoded};
use rstest::rstest;
use std::path::Path;
use std::process::{Command, Output};

fn porter(args: &[&str], dir: &Path) -> Output {
    Command::new(PROGRAM).args(args).current_dir(dir).output().unwrap()
}

fn desk() -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    std::fs::write(dir.path().join("clip.mp4"), clip()).unwrap();
    dir
}

fn list(dir: &Path) -> Vec<String> {
    let mut names: Vec<String> = std::fs::read_dir(dir)
        .unwrap()
        .map(|e| e.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    names
}

#[test]
fn several_presets_are_made_in_one_pass_under_free_names() {
    let desk = desk();
    let args =
        ["convert", "clip.mp4", "--preset", "edit-proxy-720", "podcast", "poster", "speech", "--to", "out"];
    let out = porter(&args, desk.path());
    assert!(out.status.success(), "{}", text(&out));
    let want = ["clip_edit-proxy-720.mp4", "clip_podcast.m4a", "clip_poster.jpg", "clip_speech.opus"];
    assert_eq!(list(&desk.path().join("out")), want);
    // Again: nothing is written over, and nothing half made lies there.
    let before = std::fs::read(desk.path().join("out/clip_podcast.m4a")).unwrap();
    assert!(porter(&args, desk.path()).status.success());
    assert_eq!(list(&desk.path().join("out")).len(), 8);
    assert_eq!(std::fs::read(desk.path().join("out/clip_podcast.m4a")).unwrap(), before);
    assert!(desk.path().join("out/clip_podcast_2.m4a").exists());
}

/// Many pictures are made side by side: each gets what is its own, names that are taken go on in the order of the files, and
/// what cannot be made fails by itself.
#[test]
fn many_pictures_keep_their_own_names() {
    let desk = tempfile::tempdir().unwrap();
    let mut files = Vec::new();
    // As many reds as there are pictures; every third has the name of the one before, in a folder of its own.
    for n in 0..150u32 {
        let (folder, name) = (n % 3 / 2, n - n % 3 / 2);
        let path = format!("{folder}/{name:03}.png");
        std::fs::create_dir_all(desk.path().join(folder.to_string())).unwrap();
        let mut picture = Decoded::new_rgb8(900 + n, 40);
        picture.as_mut_rgb8().unwrap().pixels_mut().for_each(|p| p.0 = [100 + n as u8, 10, 10]);
        picture.save(desk.path().join(&path)).unwrap();
        files.push(path);
    }
    std::fs::write(desk.path().join("0/broken.jpg"), b"\xff\xd8\xff no picture").unwrap();
    files.insert(70, "0/broken.jpg".into());
    let mut args = vec!["convert"];
    args.extend(files.iter().map(String::as_str));
    args.extend(["--preset", "thumbnail", "--to", "out"]);
    let out = porter(&args, desk.path());
    assert!(!out.status.success(), "one is broken");
    assert!(
        text(&out).contains("0/broken.jpg: ") && list(&desk.path().join("out")).len() == 150,
        "{}",
        text(&out)
    );
    for n in 0..150u32 {
        let (second, name) = (n % 3 == 2, n - n % 3 / 2);
        let end = if second { "_2" } else { "" };
        let made = desk.path().join(format!("out/{name:03}_thumbnail{end}.jpg"));
        let made = still::frame_of(&mut std::fs::File::open(made).unwrap(), &Pool::new()).unwrap();
        let red = made.planes[0].at(10, 3);
        assert!(red.abs_diff(100 + n as u16) <= 2, "picture {n}: {red}");
    }
}

/// One film of several, as long as all together, named after the first; a picture by itself is none.
#[test]
fn several_files_become_one() {
    let desk = desk();
    std::fs::copy(desk.path().join("clip.mp4"), desk.path().join("second.mp4")).unwrap();
    let args = [
        "convert",
        "--join",
        "clip.mp4",
        "second.mp4",
        "--preset",
        "web-720",
        "podcast",
        "poster",
        "--to",
        "out",
    ];
    let out = porter(&args, desk.path());
    assert!(out.status.success(), "{}", text(&out));
    assert!(text(&out).contains("clip.mp4 and 1 more"), "{}", text(&out));
    let want = ["clip_podcast.m4a", "clip_poster.jpg", "clip_web-720.mp4"];
    assert_eq!(list(&desk.path().join("out")), want);
    let facts = |name: &str| -> serde_json::Value {
        let out = porter(&["inspect", "--json", name], desk.path());
        serde_json::from_slice(&out.stdout).unwrap()
    };
    let (one, both) = (facts("clip.mp4"), facts("out/clip_web-720.mp4"));
    let seconds = |f: &serde_json::Value| f["duration"]["seconds"].as_f64().unwrap();
    assert!((seconds(&both) - 2.0 * seconds(&one)).abs() < 0.05, "{} and {}", seconds(&both), seconds(&one));
    assert_eq!(both["video"][0]["frames"].as_u64().unwrap(), 2 * one["video"][0]["frames"].as_u64().unwrap());
    let args = ["convert", "--join", "clip.mp4", "out/clip_poster.jpg", "--preset", "web-720", "--to", "no"];
    let out = porter(&args, desk.path());
    assert!(!out.status.success() && text(&out).contains("are not joined"), "{}", text(&out));
}

#[test]
fn names_come_from_the_template_and_events_are_lines_of_json() {
    let desk = desk();
    let args = [
        "convert",
        "clip.mp4",
        "nothing.mp4",
        "--preset",
        "web-720",
        "--to",
        "out",
        "--name",
        "{preset}/{stem}",
        "--json",
    ];
    let out = porter(&args, desk.path());
    assert_eq!(out.status.code(), Some(1), "one of the files is not there");
    let lines: Vec<serde_json::Value> =
        text(&out).lines().map(|l| serde_json::from_str(l).unwrap_or_else(|e| panic!("{l}: {e}"))).collect();
    let whats: Vec<&str> = lines.iter().map(|l| l["what"].as_str().unwrap()).collect();
    assert_eq!(
        whats.iter().filter(|w| **w != "progress").collect::<Vec<_>>(),
        [&"planned", &"made", &"failed"]
    );
    let made = lines.iter().find(|l| l["what"] == "made").unwrap();
    assert_eq!(
        (made["path"].as_str(), made["made"]["frames"].as_u64()),
        (Some("out/web-720/clip.mp4"), Some(30))
    );
}

#[test]
fn what_does_not_apply_says_why_and_the_rest_is_made() {
    let desk = desk();
    std::fs::write(
        desk.path().join("bird.jpg"),
        include_bytes!("../../../../demo/media/avocet-by-the-sluice.jpg"),
    )
    .unwrap();
    std::fs::write(desk.path().join("notes.mp4"), "call sheet").unwrap();
    let out = porter(
        &["convert", "bird.jpg", "notes.mp4", "--preset", "thumbnail", "web-720", "--to", "out"],
        desk.path(),
    );
    let said = text(&out);
    assert_eq!(out.status.code(), Some(1), "{said}");
    assert!(
        said.contains("web-720: not made") && said.contains("notes.mp4: not supported: this is text"),
        "{said}"
    );
    assert_eq!(list(&desk.path().join("out")), ["bird_thumbnail.jpg"]);
}

#[test]
fn a_plan_tells_what_is_shared_and_makes_nothing() {
    let desk = desk();
    let args = ["plan", "clip.mp4", "--preset", "poster", "thumbnail", "phone-4x3", "speech"];
    let out = porter(&args, desk.path());
    let said = text(&out);
    assert!(out.status.success(), "{said}");
    for words in [
        "decoded once: track 1: H.264, 320x180",
        "one picture every 1 s -> 320x180  (once, also for 2)",
        "scale to 640x360, Catmull-Rom -> 640x360",
        "set into 640x480, black beside it",
        "Opus 48000 Hz, 1 channels, 32 kbit/s, 2 channels to 1",
    ] {
        assert!(said.contains(words), "no \"{words}\" in:\n{said}");
    }
    assert_eq!(list(desk.path()), ["clip.mp4"]);
    let json = porter(&[&args[..], &["--json"]].concat(), desk.path());
    let v: serde_json::Value = serde_json::from_slice(&json.stdout).unwrap();
    assert_eq!(v["outputs"][0]["pictures"][0]["shared_with"], serde_json::json!([2]));
    // Of sound alone there is no poster.
    std::fs::write(
        desk.path().join("dawn.wav"),
        include_bytes!("../../../../demo/media/dawn-north-sluice.wav"),
    )
    .unwrap();
    let out = porter(&["plan", "dawn.wav", "--preset", "poster"], desk.path());
    assert!(out.status.code() == Some(1) && text(&out).contains("no picture track"), "{}", text(&out));
}

#[test]
fn a_preset_is_shown_changed_checked_and_used() {
    let desk = desk();
    let shown = porter(&["presets", "show", "web-720"], desk.path());
    let text_of = text(&shown).replace("1280x720", "160x90").replace("web-720", "tiny");
    std::fs::write(desk.path().join("ours.toml"), &text_of).unwrap();
    assert!(
        text(&porter(&["presets", "check", "ours.toml"], desk.path()))
            .contains("1 presets, all of them valid")
    );
    let args = ["convert", "clip.mp4", "--preset", "tiny", "--from", "ours.toml", "--to", "out"];
    assert!(porter(&args, desk.path()).status.success());
    let bytes = std::fs::File::open(desk.path().join("out/clip_tiny.mp4")).unwrap();
    assert_eq!(media::facts::of(Box::new(bytes)).unwrap().picture().unwrap().width, 160);
    std::fs::write(desk.path().join("ours.toml"), text_of.replace("160x90", "wide")).unwrap();
    let wrong = porter(&["presets", "check", "ours.toml"], desk.path());
    assert!(wrong.status.code() == Some(1) && text(&wrong).contains("ours.toml:"), "{}", text(&wrong));
    let near = porter(&["plan", "clip.mp4", "--preset", "web-72"], desk.path());
    assert!(text(&near).contains("is \"web-720\" meant?"), "{}", text(&near));
}

#[test]
fn a_rule_uses_a_shipped_preset_by_name() {
    let house = House::new();
    house.reconfigure("preset = \"proxy\"", "preset = \"phone-4x3\"");
    house.drop_in("a.mp4", clip());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let f = house.facts("out/a_proxy.mp4");
    assert_eq!((f.picture().unwrap().width, f.picture().unwrap().height), (640, 480));
}

/// Ctrl-C: within a second, and nothing half made is left.
#[test]
fn stopping_leaves_nothing() {
    let desk = desk();
    let long = support::make_clip(&media::testkit::Clip {
        frames: 1500,
        width: 640,
        height: 360,
        ..Default::default()
    });
    std::fs::write(desk.path().join("long.mp4"), long).unwrap();
    let mut c = Command::new(PROGRAM);
    c.args(["convert", "long.mp4", "--preset", "edit-proxy-1080", "podcast", "--to", "out"])
        .current_dir(desk.path());
    let mut child =
        c.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap();
    let start = std::time::Instant::now();
    while list(&desk.path().join("out").canonicalize().unwrap_or(desk.path().into())).len() < 2 {
        assert!(start.elapsed().as_secs() < 20, "never begun");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    std::thread::sleep(std::time::Duration::from_millis(300));
    let pid = rustix::process::Pid::from_raw(child.id() as i32).unwrap();
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    let start = std::time::Instant::now();
    let status = child.wait().unwrap();
    assert!(start.elapsed().as_millis() < 1500, "{:?}", start.elapsed());
    assert_eq!((status.code(), list(&desk.path().join("out")).len()), (Some(130), 0));
}

/// Readers that are not ours agree on length, channels and rate.
#[rstest]
#[case("sound-master", "wav", "wave")]
#[case("speech", "opus", "mutagen")]
#[case("podcast", "m4a", "mutagen")]
#[case("podcast-mp3", "mp3", "mutagen")]
#[case("sound-archive", "flac", "mutagen")]
fn sound_files_read_elsewhere(#[case] preset: &str, #[case] extension: &str, #[case] reader: &str) {
    let desk = desk();
    assert!(
        porter(&["convert", "clip.mp4", "--preset", preset, "--to", "out"], desk.path()).status.success()
    );
    let path = desk.path().join(format!("out/clip_{preset}.{extension}"));
    let script = match reader {
        "wave" => {
            "import sys, struct\nb = open(sys.argv[1], 'rb').read()\nat = b.index(b'fmt ') + 8\n\
             tag, ch, rate, _, block, bits = struct.unpack('<HHIIHH', b[at:at + 16])\n\
             n = struct.unpack('<I', b[b.index(b'data') + 4:][:4])[0]\n\
             assert len(b) - 8 == struct.unpack('<I', b[4:8])[0]\nprint(n / block / rate, ch, rate)"
        }
        _ => {
            "import sys, mutagen\nf = mutagen.File(sys.argv[1]).info\n\
             print(f.length, f.channels, getattr(f, 'sample_rate', 48000))"
        }
    };
    let Some(said) = python(script, &[&path]) else { return };
    let values: Vec<f64> = said.split_whitespace().map(|v| v.parse().unwrap()).collect();
    let channels = if preset == "speech" { 1.0 } else { 2.0 };
    // In MP4 this reader counts the priming, which the edit list takes off for players.
    let slack = if preset == "podcast" { 0.07 } else { 0.01 };
    assert!((values[0] - 1.2).abs() < slack, "{said}");
    assert_eq!(values[1..], [channels, 48_000.0], "{said}");
}

/// Outputs that are folders: free names, whole, and nothing of an earlier one is touched.
#[test]
fn folders_get_free_names_as_files_do() {
    let desk = desk();
    let args = ["convert", "clip.mp4", "--preset", "stream", "thumbnails", "stills", "--to", "out"];
    for _ in 0..2 {
        let out = porter(&args, desk.path());
        assert!(out.status.success(), "{}", text(&out));
    }
    let want = [
        "clip_stills",
        "clip_stills_2",
        "clip_stream",
        "clip_stream_2",
        "clip_thumbnails",
        "clip_thumbnails_2",
    ];
    assert_eq!(list(&desk.path().join("out")), want);
    for pair in want.chunks(2) {
        let (a, b) = (desk.path().join("out").join(pair[0]), desk.path().join("out").join(pair[1]));
        assert_eq!(list(&a), list(&b));
        for file in list(&a) {
            assert_eq!(
                std::fs::read(a.join(&file)).unwrap(),
                std::fs::read(b.join(&file)).unwrap(),
                "{file}"
            );
        }
    }
    // Others may read what was made.
    use std::os::unix::fs::PermissionsExt;
    let mode = std::fs::metadata(desk.path().join("out/clip_stream")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o755);
}

/// What stands under the name is never put aside, whatever it is.
#[rstest]
#[case::a_file(false)]
#[case::a_folder(true)]
fn a_folder_does_not_take_anothers_name(#[case] is_folder: bool) {
    let desk = desk();
    let taken = desk.path().join("out/clip_stills");
    std::fs::create_dir(desk.path().join("out")).unwrap();
    match is_folder {
        true => {
            std::fs::create_dir(&taken).unwrap();
            std::fs::write(taken.join("mine.txt"), "mine").unwrap();
        }
        false => std::fs::write(&taken, "mine").unwrap(),
    }
    let out = porter(&["convert", "clip.mp4", "--preset", "stills", "--to", "out"], desk.path());
    assert!(out.status.success(), "{}", text(&out));
    let mine = if is_folder { taken.join("mine.txt") } else { taken.clone() };
    assert_eq!(std::fs::read_to_string(mine).unwrap(), "mine");
    assert_eq!(list(&desk.path().join("out/clip_stills_2")), ["000001.jpg"]);
    assert_eq!(list(&desk.path().join("out")).len(), 2, "nothing half made lies there");
}

/// A preset of one's own: a part by timecode, with the name and the running timecode in the picture.
#[test]
fn a_part_with_writing_in_it() {
    let desk = desk();
    let preset = r#"
[[preset]]
name = "piece"
[preset.part]
from = "10:00:00:10"
to = "800 ms"
[preset.video]
[[preset.burn]]
text = "{stem} {timecode}"
[[preset]]
name = "late"
[preset.part]
from = "11:00:00:00"
[preset.video]
"#;
    std::fs::write(desk.path().join("own.toml"), preset).unwrap();
    let with = ["--from", "own.toml", "--preset", "piece", "late"];
    let plan = porter(&[&["plan", "clip.mp4"][..], &with].concat(), desk.path());
    let said = text(&plan);
    for words in
        ["only from 0.400 s to 0.800 s", "burn in \"clip {timecode}\"", "not made: the part begins 3600"]
    {
        assert!(said.contains(words), "no {words} in {said}");
    }
    let out = porter(&[&["convert", "clip.mp4", "--to", "out", "--json"][..], &with].concat(), desk.path());
    assert_eq!(out.status.code(), Some(1), "one could not be made: {}", text(&out));
    assert_eq!(list(&desk.path().join("out")), ["clip_piece.mp4"]);
    let seen = porter(&["inspect", "--json", "out/clip_piece.mp4"], desk.path());
    let facts: serde_json::Value = serde_json::from_slice(&seen.stdout).unwrap();
    assert_eq!(facts["timecode"]["start"], "10:00:00:10");
    assert_eq!(facts["video"][0]["frames"], 10);
}

/// The lists of a stream as others read them.
#[test]
fn playlists_are_read_by_others() {
    let desk = desk();
    assert!(
        porter(&["convert", "clip.mp4", "--preset", "stream", "--to", "out"], desk.path()).status.success()
    );
    let folder = desk.path().join("out/clip_stream");
    let script = "import sys, m3u8\nfrom mpegdash.parser import MPEGDASHParser\nd = sys.argv[1]\n\
        m = m3u8.load(d + '/master.m3u8')\nassert m.is_variant and m.media[0].uri == 'sound-1.m3u8'\n\
        for p in m.playlists:\n    v = m3u8.load(d + '/' + p.uri)\n    assert v.is_endlist and v.segments[0].init_section.byterange\n    \
            print(p.uri, p.stream_info.codecs, round(sum(s.duration for s in v.segments), 2))\n\
        x = MPEGDASHParser.parse(d + '/manifest.mpd')\n\
        for a in x.periods[0].adaptation_sets:\n    for r in a.representations:\n        print(r.id, r.codecs, len(r.segment_lists[0].segment_urls))";
    let Some(said) = python(script, &[&folder]) else { return };
    let lines: Vec<&str> = said.lines().collect();
    assert!(lines[0].starts_with("video-180.m3u8 avc1.4d") && lines[0].ends_with("mp4a.40.2 1.2"), "{said}");
    assert!(lines[1].starts_with("sound-1.m3u8 mp4a.40.2 1.24"), "{said}");
    assert!(lines[2].starts_with("video-180 avc1.4d") && lines[3] == "sound-1 mp4a.40.2 1", "{said}");
}
