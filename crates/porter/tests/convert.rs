//! Files made by presets without a house: what is planned, what is made, and what stays behind.

use media::run::Control;
use porter::config::Preset;
use porter::config::presets;
use porter::convert::{self, Converted, USUAL_NAME};
use porter::naming::Template;
use rstest::rstest;
use std::path::{Path, PathBuf};
use std::sync::Arc;

fn demo(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/media").join(name)
}

const PRESETS: &str = r#"
[[preset]]
name = "small"
[preset.video]
fit = "96x54"
[preset.audio]

[[preset]]
name = "sound"
[preset.audio]
codec = "pcm16"

[[preset]]
name = "frame"
[preset.still]
format = "png"
fit = "64x64"

[[preset]]
name = "rungs"
[preset.stream]
rungs = [{ fit = "96x54", bitrate = "200 kbit/s" }]
[preset.audio]

[[preset]]
name = "as-it-is"
container = "mp4"
[preset.video]
codec = "copy"

[[preset]]
name = "words"
[preset.transcript]
as = ["txt"]
"#;

fn preset(name: &str) -> Arc<Preset> {
    let all = presets::parse(Path::new("/presets.toml"), PRESETS).unwrap();
    all.into_iter().find(|p| p.name == name).unwrap()
}

fn some(names: &[&str]) -> Vec<Arc<Preset>> {
    names.iter().map(|n| preset(n)).collect()
}

fn list(dir: &Path) -> Vec<String> {
    let Ok(all) = std::fs::read_dir(dir) else { return Vec::new() };
    let mut names: Vec<String> = all.map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

fn make(file: &Path, of: &[&str], to: &Path, name: &str) -> Vec<Converted> {
    let planned = convert::plan(file, &some(of)).unwrap();
    let control = Control::new(planned.outputs().len());
    planned.run(to, &Template::parse(name).unwrap(), &control).unwrap()
}

fn clip(dir: &Path) -> PathBuf {
    let path = dir.join("take 4.mp4");
    std::fs::copy(demo("hide-camera-A014.mp4"), &path).unwrap();
    path
}

#[test]
fn one_pass_makes_all_and_what_cannot_be_made_says_why() {
    let dir = tempfile::tempdir().unwrap();
    let file = clip(dir.path());
    let wanted = ["small", "words", "sound", "frame", "rungs"];
    let planned = convert::plan(&file, &some(&wanted)).unwrap();
    let ends: Vec<bool> = planned.each.iter().map(|(_, end)| end.is_ok()).collect();
    assert_eq!(ends, [true, false, true, true, true]);
    let why = planned.each[1].1.as_ref().unwrap_err();
    assert!(why.contains("transcribe"), "{why}");
    let outputs: Vec<String> = planned.outputs().iter().map(|p| p.name.clone()).collect();
    assert_eq!(outputs, ["small", "sound", "frame", "rungs"]);
    assert!(planned.decoded().iter().any(|d| d.contains("H.264")), "{:?}", planned.decoded());
    // Every output knows what its pictures go through.
    let told = planned.told(0).unwrap();
    assert!(told.picture.iter().any(|s| s.contains("96x54")), "{told:?}");

    let to = dir.path().join("made/deep");
    let made = make(&file, &wanted, &to, USUAL_NAME);
    let ends: Vec<bool> = made.iter().map(|c| c.end.is_ok()).collect();
    assert_eq!(ends, [true, false, true, true, true]);
    assert_eq!(list(&to), ["take 4_frame.png", "take 4_rungs", "take 4_small.mp4", "take 4_sound.wav"]);
    assert!(list(&to.join("take 4_rungs")).contains(&"master.m3u8".to_owned()));
    // What is told of it is what lies there.
    let (path, told) = made[0].end.as_ref().unwrap();
    let facts = porter::jobs::facts_of(path).unwrap();
    let (source, v) = (porter::jobs::facts_of(&file).unwrap(), &facts.video[0]);
    assert_eq!((Some((v.width, v.height)), v.frames), (told.size, Some(told.frames)));
    assert_eq!(v.frames, source.video[0].frames);
}

#[test]
fn nothing_is_written_over_and_the_source_stays_as_it_is() {
    let dir = tempfile::tempdir().unwrap();
    let file = clip(dir.path());
    let before = std::fs::read(&file).unwrap();
    let first = dir.path().join("take 4_sound.wav");
    std::fs::write(&first, b"somebody's own").unwrap();
    for n in 2..4 {
        let made = make(&file, &["sound"], dir.path(), USUAL_NAME);
        let (path, _) = made[0].end.as_ref().unwrap();
        assert_eq!(path.file_name().unwrap().to_str().unwrap(), format!("take 4_sound_{n}.wav"));
    }
    assert_eq!(std::fs::read(&first).unwrap(), b"somebody's own");
    assert_eq!(std::fs::read(&file).unwrap(), before);
    // A folder is not written into, either.
    std::fs::create_dir(dir.path().join("take 4_rungs")).unwrap();
    let made = make(&file, &["rungs"], dir.path(), USUAL_NAME);
    assert!(made[0].end.as_ref().unwrap().0.ends_with("take 4_rungs_2"));
    assert!(list(&dir.path().join("take 4_rungs")).is_empty());
}

#[test]
fn names_are_filled_and_make_folders_but_lead_nowhere_else() {
    let dir = tempfile::tempdir().unwrap();
    let to = dir.path().join("to");
    let made = make(&clip(dir.path()), &["sound"], &to, "{kind}/{stem}-{preset}");
    assert!(made[0].end.as_ref().unwrap().0.ends_with("to/video/take 4-sound.wav"));
    let up = dir.path().join("..up.mp4");
    std::fs::copy(demo("hide-camera-A014.mp4"), &up).unwrap();
    make(&up, &["sound"], &to, "{stem}");
    assert!(list(dir.path()).iter().all(|n| !n.ends_with(".wav")), "{:?}", list(dir.path()));
}

#[test]
fn stopped_in_the_middle_nothing_is_left() {
    let dir = tempfile::tempdir().unwrap();
    let file = clip(dir.path());
    for of in [&["small", "rungs"][..], &["frame"], &["sound"]] {
        let planned = convert::plan(&file, &some(of)).unwrap();
        let control = Control::new(planned.outputs().len());
        control.stop();
        let to = dir.path().join("to");
        let ended = planned.run(&to, &Template::parse(USUAL_NAME).unwrap(), &control);
        let stopped = match &ended {
            Err(e) => e.to_string().contains("stopped"),
            Ok(all) => all.iter().all(|c| c.end.is_err()),
        };
        assert!(stopped && list(&to).is_empty(), "{of:?}: {:?}", list(&to));
    }
}

#[test]
fn a_picture_by_itself_makes_stills_only() {
    let dir = tempfile::tempdir().unwrap();
    let made = make(&demo("avocet-by-the-sluice.jpg"), &["frame", "small"], dir.path(), USUAL_NAME);
    let (path, told) = made[0].end.as_ref().unwrap();
    let facts = porter::jobs::facts_of(path).unwrap();
    assert_eq!(
        (facts.format.as_str(), told.size),
        ("PNG", Some((facts.video[0].width, facts.video[0].height)))
    );
    assert!(facts.video[0].width.max(facts.video[0].height) == 64);
    let why = made[1].end.as_ref().unwrap_err().to_string();
    assert!(why.contains("one picture"), "{why}");
    assert_eq!(list(dir.path()), ["avocet-by-the-sluice_frame.png"]);
}

#[rstest]
#[case::text("call-sheet-day-3.txt", "text, not media")]
#[case::gone("not-there.mp4", "cannot read")]
fn what_cannot_be_read_says_so(#[case] name: &str, #[case] words: &str) {
    let e = convert::plan(&demo(name), &some(&["small"])).err().unwrap().to_string();
    assert!(e.contains(words), "{e}");
}

#[test]
fn a_target_that_cannot_be_written_says_where() {
    let dir = tempfile::tempdir().unwrap();
    let file = clip(dir.path());
    let taken = dir.path().join("to");
    std::fs::write(&taken, b"a file").unwrap();
    let planned = convert::plan(&file, &some(&["sound"])).unwrap();
    let ended = planned.run(&taken, &Template::parse(USUAL_NAME).unwrap(), &Control::new(1));
    let e = ended.err().unwrap().to_string();
    assert!(e.contains("cannot make the folder") && e.contains("to"), "{e}");
}

#[test]
fn several_are_one_in_the_order_given() {
    let dir = tempfile::tempdir().unwrap();
    let (a, b) = (clip(dir.path()), demo("warden-interview.mp4"));
    let length = |p: &Path| porter::jobs::facts_of(p).unwrap().duration.unwrap().seconds;
    let sources = [a.clone(), b.clone()];
    let planned = convert::plan_joined(&sources, &some(&["sound", "as-it-is"])).unwrap();
    let why = planned.each[1].1.as_ref().unwrap_err();
    assert!(why.contains("joined are decoded"), "{why}");
    let made = planned.run(dir.path(), &Template::parse("{stem}").unwrap(), &Control::new(1)).unwrap();
    let (path, _) = made[0].end.as_ref().unwrap();
    assert!(path.ends_with("take 4.wav"));
    assert!((length(path) - length(&a) - length(&b)).abs() < 0.1);
    for (other, words) in
        [("avocet-by-the-sluice.jpg", "are not joined"), ("call-sheet-day-3.txt", "text, not")]
    {
        let e = convert::plan_joined(&[a.clone(), demo(other)], &some(&["sound"])).err().unwrap().to_string();
        assert!(e.contains(words) && (words != "text, not" || e.contains(other)), "{e}");
    }
    assert!(convert::plan_joined(&[], &some(&["sound"])).is_err());
}

/// Captions beside the file go into a stream; ones that are none are told.
#[test]
fn captions_beside_a_file_are_a_rung() {
    let dir = tempfile::tempdir().unwrap();
    let file = clip(dir.path());
    let captions = file.with_extension("srt");
    std::fs::write(&captions, "1\n00:00:00,200 --> 00:00:01,000\nLow water\n").unwrap();
    let made = make(&file, &["rungs"], dir.path(), USUAL_NAME);
    let (folder, _) = made[0].end.as_ref().unwrap();
    let text = std::fs::read_to_string(folder.join("captions-1.vtt")).unwrap();
    assert!(text.contains("00:00:00.200 --> 00:00:01.000\nLow water"), "{text}");
    std::fs::write(&captions, "nothing of the kind").unwrap();
    let made = make(&file, &["rungs"], dir.path(), USUAL_NAME);
    let (folder, told) = made[0].end.as_ref().unwrap();
    assert!(!folder.join("captions-1.vtt").exists());
    assert!(told.notes.iter().any(|n| n.contains("left out")), "{:?}", told.notes);
}
