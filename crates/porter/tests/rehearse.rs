//! What a house would make of a file: told, and nothing of it done.

use porter::config::House;
use porter::rehearse::{Rehearsed, Stage};
use rstest::rstest;
use std::path::{Path, PathBuf};

const CONFIG: &str = r#"
[house]
name = "Estuary Hours"

[[watch]]
name = "cards"
folder = "in"
sidecars = ["*.srt", "*.json"]
original = "leave"
turned_away = "away"

[[watch]]
name = "boom"
folder = "sound"
to = ["editors"]
original = "leave"
turned_away = "away"

[[place]]
name = "editors"
folder = "out"

[[place]]
name = "partner"
folder = "far"

[[preset]]
name = "proxy"
[preset.video]
fit = "160x90"
bitrate = "1 Mbit/s"
[preset.audio]

[[rule]]
name = "clips"
watch = ["cards"]
when = 'kind == "video" && width > 100'
make = [{ preset = "proxy", name = "{stem}_proxy", to = ["editors", "partner"] }]

[[rule]]
name = "large ones"
watch = ["cards"]
when = 'width > 10000'
make = [{ preset = "proxy", name = "{stem}_large", to = ["editors"] }]

[[rule]]
name = "kept as it is"
watch = ["boom"]
make = [{ original = true, name = "{stem}", to = ["editors"], if_taken = "skip" }]
"#;

struct Desk {
    dir: tempfile::TempDir,
    house: House,
}

impl Desk {
    fn new() -> Desk {
        let dir = tempfile::tempdir().unwrap();
        for folder in ["in/day 1", "sound", "out", "far"] {
            std::fs::create_dir_all(dir.path().join(folder)).unwrap();
        }
        let file = dir.path().join("house.toml");
        std::fs::write(&file, CONFIG).unwrap();
        let house = House::load(&file).unwrap();
        Desk { dir, house }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.dir.path().canonicalize().unwrap().join(name)
    }

    fn put(&self, demo: &str, name: &str) -> PathBuf {
        let from = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/media").join(demo);
        std::fs::copy(from, self.path(name)).unwrap();
        self.path(name)
    }

    fn all(&self) -> Vec<PathBuf> {
        let mut out = Vec::new();
        let mut open = vec![self.path("")];
        while let Some(dir) = open.pop() {
            for path in std::fs::read_dir(dir).unwrap().map(|e| e.unwrap().path()) {
                if path.is_dir() { open.push(path) } else { out.push(path) }
            }
        }
        out.sort();
        out
    }
}

fn names(of: &Rehearsed) -> Vec<(String, bool)> {
    of.outputs.iter().flat_map(|o| &o.to).map(|d| (format!("{}: {}", d.place, d.name), d.taken)).collect()
}

#[test]
fn rules_names_and_sizes_are_told_and_nothing_is_done() {
    let desk = Desk::new();
    let file = desk.put("hide-camera-A014.mp4", "in/day 1/A014.mp4");
    let before = desk.all();
    let told = Stage::new(&desk.house).unwrap().rehearse(&file, None).unwrap();
    assert_eq!((told.watch.as_str(), told.path.as_str()), ("cards", "day 1/A014.mp4"));
    let rules: Vec<(&str, bool)> = told.rules.iter().map(|r| (r.rule.as_str(), r.holds)).collect();
    assert_eq!(rules, [("clips", true), ("large ones", false)]);
    let compared: Vec<&str> = told.rules[0].compared.iter().map(|c| c.field.as_str()).collect();
    assert_eq!(compared, ["kind", "width"]);
    let want = ["editors: A014_proxy.mp4", "partner: A014_proxy.mp4"].map(|n| (n.to_owned(), false));
    assert_eq!(names(&told), want);
    // A megabit and the sound, for as long as it is.
    let seconds = told.facts.as_ref().unwrap().duration.unwrap().seconds;
    let about = told.outputs[0].about_bytes.unwrap() as f64;
    assert!((about / (seconds * 140_000.0) - 1.0).abs() < 0.2, "{about} for {seconds} s");
    assert!(told.unreadable.is_none() && told.turned_away.is_none());
    assert_eq!(desk.all(), before);
}

#[test]
fn names_that_are_taken_are_numbered_as_they_would_be() {
    let desk = Desk::new();
    let file = desk.put("hide-camera-A014.mp4", "in/A014.mp4");
    // Taken in another case, as many file systems see it.
    std::fs::write(desk.path("out/a014_PROXY.mp4"), b"theirs").unwrap();
    let mut stage = Stage::new(&desk.house).unwrap();
    let first = stage.rehearse(&file, None).unwrap();
    let want = [("editors: A014_proxy_2.mp4", true), ("partner: A014_proxy.mp4", false)];
    assert_eq!(names(&first), want.map(|(n, t)| (n.to_owned(), t)));
    // The next of the same name gets what is left after the first.
    let other = desk.put("hide-camera-A014.mp4", "in/day 1/A014.mp4");
    let second = names(&stage.rehearse(&other, None).unwrap());
    let want = ["editors: A014_proxy_3.mp4", "partner: A014_proxy_2.mp4"];
    assert_eq!(second.iter().map(|n| n.0.as_str()).collect::<Vec<_>>(), want);
}

#[test]
fn what_its_rule_leaves_out_says_so() {
    let desk = Desk::new();
    let file = desk.put("dawn-north-sluice.wav", "sound/dawn.wav");
    std::fs::write(desk.path("out/dawn.wav"), b"theirs").unwrap();
    let told = Stage::new(&desk.house).unwrap().rehearse(&file, None).unwrap();
    assert_eq!(told.watch, "boom");
    let delivery = &told.outputs[0].to[0];
    assert!(delivery.taken && delivery.left_out.is_some(), "{delivery:?}");
}

#[test]
fn a_place_that_is_gone_is_told_and_the_other_is_not() {
    let desk = Desk::new();
    let file = desk.put("hide-camera-A014.mp4", "in/A014.mp4");
    std::fs::remove_dir(desk.path("far")).unwrap();
    let told = Stage::new(&desk.house).unwrap().rehearse(&file, None).unwrap();
    let away: Vec<bool> = told.outputs[0].to.iter().map(|d| d.away.is_some()).collect();
    assert_eq!(away, [false, true]);
}

#[rstest]
#[case::text("call-sheet-day-3.txt", "not media")]
#[case::cut("card-2-damaged.mp4", "damaged")]
fn what_would_be_turned_away_before_any_rule(#[case] demo: &str, #[case] words: &str) {
    let desk = Desk::new();
    let file = desk.put(demo, &format!("in/{demo}"));
    let told = Stage::new(&desk.house).unwrap().rehearse(&file, None).unwrap();
    let why = told.unreadable.unwrap();
    assert!(why.contains(words) && told.rules.is_empty() && told.outputs.is_empty(), "{why}");
}

#[test]
fn a_file_from_elsewhere_needs_to_be_told_as_which_it_is_taken() {
    let desk = Desk::new();
    let file = desk.put("dawn-north-sluice.wav", "elsewhere.wav");
    let mut stage = Stage::new(&desk.house).unwrap();
    let e = stage.rehearse(&file, None).unwrap_err().to_string();
    assert!(e.contains("--watch") && e.contains("\"cards\", \"boom\""), "{e}");
    assert_eq!(
        names(&stage.rehearse(&file, Some("boom")).unwrap()),
        [("editors: elsewhere.wav".to_owned(), false)]
    );
    // No rule is for sound of the cards.
    let told = stage.rehearse(&file, Some("cards")).unwrap();
    assert!(told.turned_away.is_some() && told.outputs.is_empty());
    let e = stage.rehearse(&file, Some("boat")).unwrap_err().to_string();
    assert!(e.contains("no watch \"boat\""), "{e}");
    let e = stage.rehearse(&desk.path("gone.mp4"), None).unwrap_err().to_string();
    assert!(e.contains("gone.mp4"), "{e}");
    // A folder, where files are taken.
    let e = stage.rehearse(&desk.path("in/day 1"), None).unwrap_err().to_string();
    assert!(e.contains("whole_folders"), "{e}");
}
