//! Streams in several files: playlists and manifests beside their segments, and fragments beside their beginning.

use crate::support::{House, PROGRAM, clip, text};
use serde_json::Value;
use std::path::Path;
use std::process::{Command, Output};

fn run(args: &[&str], dir: &Path) -> Output {
    Command::new(PROGRAM).args(args).current_dir(dir).output().unwrap()
}

fn inspect(name: &str, dir: &Path) -> Value {
    let out = run(&["inspect", "--json", "--deep", name], dir);
    serde_json::from_slice(&out.stdout).unwrap_or_else(|e| panic!("{e}: {}", text(&out)))
}

/// What every track decodes to.
fn digests(of: &Value) -> Vec<String> {
    let tracks = of["deep"]["tracks"].as_array().unwrap_or_else(|| panic!("{of}"));
    tracks.iter().map(|t| t["digest"].as_str().unwrap().to_owned()).collect()
}

/// A stream as the program makes it: a file for each rung, with the places of segments in lists.
fn stream(dir: &Path) -> std::path::PathBuf {
    std::fs::write(dir.join("clip.mp4"), clip()).unwrap();
    let out = run(&["convert", "clip.mp4", "--preset", "stream", "--to", "."], dir);
    assert!(out.status.success(), "{}", text(&out));
    dir.join("clip_stream")
}

/// The same with each segment as a file, in a folder below, as many servers have them.
fn divided(from: &Path, list: &str, to: &Path) {
    std::fs::create_dir_all(to.join("parts")).unwrap();
    let lines = std::fs::read_to_string(from.join(list)).unwrap();
    let (mut out, mut range, mut number) = (String::new(), (0, 0), 0);
    let stem = list.trim_end_matches(".m3u8");
    let media = std::fs::read(from.join(format!("{stem}.mp4"))).unwrap();
    let place = |text: &str| {
        let (n, at) = text.trim_matches('"').split_once('@').unwrap();
        (n.parse::<usize>().unwrap(), at.parse::<usize>().unwrap())
    };
    for line in lines.lines() {
        if let Some(map) = line.strip_prefix("#EXT-X-MAP:") {
            let (n, at) = place(map.split_once("BYTERANGE=").unwrap().1);
            std::fs::write(to.join(format!("parts/{stem} head.mp4")), &media[at..at + n]).unwrap();
            out += &format!("#EXT-X-MAP:URI=\"parts/{stem}%20head.mp4\"\n");
        } else if let Some(part) = line.strip_prefix("#EXT-X-BYTERANGE:") {
            range = place(part);
        } else if !line.starts_with('#') {
            number += 1;
            let bytes = &media[range.1..range.1 + range.0];
            std::fs::write(to.join(format!("parts/{stem}-{number}.m4s")), bytes).unwrap();
            out += &format!("parts/{stem}-{number}.m4s\n");
        } else {
            out += &format!("{line}\n");
        }
    }
    std::fs::write(to.join(list), out).unwrap();
}

#[test]
fn lists_beside_their_segments_are_one_clip() {
    let dir = tempfile::tempdir().unwrap();
    let made = stream(dir.path());
    let lists: Vec<String> = std::fs::read_dir(&made)
        .unwrap()
        .map(|e| e.unwrap().file_name().into_string().unwrap())
        .filter(|n| n.ends_with(".m3u8") && n != "master.m3u8")
        .collect();
    let best = lists.iter().filter(|n| n.starts_with("video")).max().unwrap();
    let picture = digests(&inspect(&best.replace("m3u8", "mp4"), &made));
    let sound = digests(&inspect("sound-1.mp4", &made));
    let whole = [picture.clone(), sound].concat();
    for list in ["master.m3u8", "manifest.mpd"] {
        let seen = inspect(list, &made);
        assert_eq!(digests(&seen), whole, "{list}");
        assert!(seen["damage"].is_null(), "{seen}");
    }
    assert_eq!(digests(&inspect(best, &made)), picture);
    // Each segment a file.
    let to = dir.path().join("divided");
    lists.iter().for_each(|list| divided(&made, list, &to));
    std::fs::copy(made.join("master.m3u8"), to.join("master.m3u8")).unwrap();
    assert_eq!(digests(&inspect("master.m3u8", &to)), whole);
    // A fragment by itself is read with its own beginning, not with another that lies there as well.
    let stem = best.trim_end_matches(".m3u8");
    let first = format!("parts/{stem}-1.m4s");
    let seen = inspect(&first, &to);
    assert!(seen["remarks"][0].as_str().unwrap().contains(&format!("{stem} head.mp4")), "{seen}");
    assert_eq!(seen["video"][0]["codec"], "H.264");
    for list in &lists {
        let head = to.join(format!("parts/{} head.mp4", list.trim_end_matches(".m3u8")));
        if list.starts_with("video") {
            std::fs::remove_file(head).unwrap();
        }
    }
    let out = run(&["inspect", &first], &to);
    assert!(!out.status.success() && text(&out).contains("a part of something else"), "{}", text(&out));
    // What is missing is told, and with it all of it.
    let seen = text(&run(&["inspect", "master.m3u8"], &to));
    assert!(seen.contains("parts are missing") || seen.contains("cannot be used"), "{seen}");
}

/// Streams of two sizes in one list, and two periods in one manifest: what is made of them is what is made of their files
/// joined.
#[test]
fn streams_one_behind_the_other_are_one_clip() {
    let dir = tempfile::tempdir().unwrap();
    let made = stream(dir.path());
    let list = |name: &str| std::fs::read_to_string(made.join(name)).unwrap();
    let out = run(&["convert", "clip.mp4", "--preset", "phone-4x3", "--to", "."], dir.path());
    assert!(out.status.success(), "{}", text(&out));
    let out = run(&["convert", "clip_phone-4x3.mp4", "--preset", "stream", "--to", "."], dir.path());
    assert!(out.status.success(), "{}", text(&out));
    for name in ["video-480.mp4", "video-480.m3u8"] {
        std::fs::copy(dir.path().join("clip_phone-4x3_stream").join(name), made.join(name)).unwrap();
    }
    let (large, small) = ("video-480.m3u8", "video-180.m3u8");
    let (first, second) = (list(large), list(small));
    let first = first.trim_end().trim_end_matches("#EXT-X-ENDLIST");
    let map = second.find("#EXT-X-MAP").unwrap();
    std::fs::write(made.join("both.m3u8"), format!("{first}#EXT-X-DISCONTINUITY\n{}", &second[map..]))
        .unwrap();
    let manifest = list("manifest.mpd");
    let (from, to) = (manifest.find("<Period").unwrap(), manifest.find("</MPD>").unwrap());
    let twice = format!("{}{}{}", &manifest[..to], &manifest[from..to], "</MPD>");
    std::fs::write(made.join("twice.mpd"), twice).unwrap();

    let film = |name: &str| name.replace("m3u8", "mp4");
    let made_of = |args: &[&str], file: &str| {
        let args = [&["convert"], args, &["--preset", "web-720", "--to", "out"]].concat();
        let out = run(&args, &made);
        assert!(out.status.success(), "{}", text(&out));
        inspect(&format!("out/{file}"), &made)
    };
    for (list, parts, file) in [
        ("both.m3u8", [film(large), film(small)], "both_web-720.mp4"),
        ("twice.mpd", ["manifest.mpd".into(), "manifest.mpd".into()], "twice_web-720.mp4"),
    ] {
        let seen = inspect(list, &made);
        assert!(
            seen["damage"].is_null()
                && seen["remarks"].to_string().contains("2 streams one behind the other (the first: H.264"),
            "{seen}"
        );
        let one = inspect(&parts[0], &made);
        let frames = |v: &Value| v["deep"]["tracks"][0]["decoded"].as_u64().unwrap();
        assert_eq!(frames(&seen), 2 * frames(&one), "{list}");
        let got = made_of(&[list], file);
        let wanted = made_of(
            &["--join", &parts[0], &parts[1]],
            &format!("{}_web-720.mp4", parts[0].split('.').next().unwrap()),
        );
        assert_eq!(digests(&got), digests(&wanted), "{list}");
    }
}

/// A house that takes lists: what they name is read with them, and nothing from elsewhere.
#[test]
fn a_house_makes_one_job_of_a_list() {
    let dir = tempfile::tempdir().unwrap();
    let made = stream(dir.path());
    let house = House::new();
    house.reconfigure(
        "second_look",
        "include = [\"*.m3u8\"]\nexclude = [\"video*\", \"sound*\"]\nsecond_look",
    );
    for entry in std::fs::read_dir(&made).unwrap().flatten() {
        house.drop_in(entry.file_name().to_str().unwrap(), &std::fs::read(entry.path()).unwrap());
    }
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let status = house.status();
    assert_eq!(status["ended"].as_array().unwrap().len(), 1, "{status}");
    assert_eq!(status["ended"][0]["state"], "done", "{status}");
    // One that leads out of the folder is turned away, and what it leads to was not read.
    let secret = house.path("secret.ts");
    std::fs::write(&secret, b"G").unwrap();
    let list = "#EXTM3U\n#EXT-X-TARGETDURATION:4\n#EXTINF:4,\n../secret.ts\n#EXT-X-ENDLIST\n";
    house.drop_in("out.m3u8", list.as_bytes());
    std::os::unix::fs::symlink(&secret, house.path("in/linked.ts")).unwrap();
    house.drop_in("link.m3u8", list.replace("../secret", "linked").as_bytes());
    house.run_once();
    let status = house.status();
    let ended = status["ended"].as_array().unwrap();
    let why = |name: &str| {
        let job = ended.iter().chain(status["waiting"].as_array().into_iter().flatten());
        let job = job.into_iter().find(|j| j["file"].as_str().is_some_and(|f| f.ends_with(name)));
        job.map_or(status.to_string(), Value::to_string)
    };
    assert!(why("out.m3u8").contains("does not lie in the list's folder"), "{}", why("out.m3u8"));
    assert!(why("link.m3u8").contains("none of the parts it names is there"), "{}", why("link.m3u8"));
}

/// The list is small and there at once, and its segments come slowly: nothing is made before the last one is whole.
#[test]
fn segments_that_are_still_copied_are_waited_for() {
    let dir = tempfile::tempdir().unwrap();
    let made = stream(dir.path());
    let house = House::new();
    house.reconfigure(
        "second_look",
        "include = [\"*.m3u8\"]\nexclude = [\"video*\", \"sound*\"]\nsecond_look",
    );
    let all: Vec<_> = std::fs::read_dir(&made).unwrap().map(|e| e.unwrap().path()).collect();
    let (lists, media): (Vec<_>, Vec<_>) =
        all.iter().partition(|p| p.extension().is_some_and(|e| e == "m3u8"));
    let copy = |path: &Path| std::fs::read(path).unwrap();
    let name = |path: &Path| path.file_name().unwrap().to_str().unwrap().to_owned();
    lists.iter().for_each(|p| house.drop_in(name(p), &copy(p)));
    let porter = house.start();
    for path in media {
        let (bytes, to) = (copy(path), house.path("in").join(name(path)));
        let mut file = std::fs::File::create(to).unwrap();
        for part in bytes.chunks(bytes.len() / 12 + 1) {
            std::io::Write::write_all(&mut file, part).unwrap();
            std::thread::sleep(std::time::Duration::from_millis(150));
        }
    }
    let status = house.wait_until("is done", |s| s["ended"].as_array().is_some_and(|e| e.len() == 1));
    porter.interrupt();
    assert_eq!(status["ended"][0]["state"], "done", "{status:#}");
    let output = &status["ended"][0]["outputs"][0]["made"];
    assert_eq!(output["frames"], 30, "{status:#}");
    assert!(house.list("away").is_empty(), "{:?}", house.list("away"));
}

/// A fragment in a house: its beginning is looked for beside it.
#[test]
fn a_house_reads_a_fragment_with_its_beginning() {
    let dir = tempfile::tempdir().unwrap();
    let made = stream(dir.path());
    let to = dir.path().join("divided");
    divided(&made, "video-180.m3u8", &to);
    let house = House::new();
    house.reconfigure("second_look", "include = [\"*.m4s\"]\nsecond_look");
    for name in ["video-180 head.mp4", "video-180-1.m4s"] {
        house.drop_in(name, &std::fs::read(to.join("parts").join(name)).unwrap());
    }
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let status = house.status();
    assert_eq!(status["ended"][0]["state"], "done", "{status:#}");
    assert!(status["ended"][0]["outputs"][0]["made"]["frames"].as_u64().unwrap() > 0, "{status:#}");
}
