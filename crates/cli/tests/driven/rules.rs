//! Rules tried before they work: rehearsals, names, presets of a house, what a watch takes.

use crate::support::{House, PROGRAM, clip, text};
use rstest::rstest;
use std::path::Path;
use std::process::{Command, Output};
use std::time::Duration;

fn porter(house: &House, args: &[&str]) -> Output {
    Command::new(PROGRAM).args(args).arg("--house").arg(house.path("")).output().unwrap()
}

fn json(out: &Output) -> serde_json::Value {
    serde_json::from_slice(&out.stdout).unwrap_or_else(|e| panic!("{e}: {}", text(out)))
}

/// Everything in a house but its state, with sizes.
fn all_files(house: &House) -> Vec<(String, u64)> {
    fn walk(dir: &Path, out: &mut Vec<(String, u64)>) {
        for e in std::fs::read_dir(dir).unwrap().flatten() {
            let path = e.path();
            if path.is_dir() {
                walk(&path, out);
            } else {
                out.push((path.to_string_lossy().into_owned(), e.metadata().unwrap().len()));
            }
        }
    }
    let mut out = Vec::new();
    walk(&house.path(""), &mut out);
    out.sort();
    out
}

#[test]
fn what_a_rehearsal_tells_is_what_happens() {
    let house = House::new();
    house.append("[[rule]]\nname = \"small\"\nwhen = 'kind == \"video\" && height < 200'\nmake = [{ preset = \"sound\", name = '{stem.part(\"_\", 2).upperAscii()}/{stem}', to = [\"editors\"] }]\n");
    house.drop_in("day_cut_1.mp4", clip());
    std::fs::create_dir_all(house.path("out/CUT")).unwrap();
    std::fs::write(house.path("out/day_cut_1_proxy.mp4"), b"there already").unwrap();
    let before = all_files(&house);
    let file = house.path("in/day_cut_1.mp4");
    let out = porter(&house, &["rehearse", "--json", file.to_str().unwrap()]);
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(all_files(&house), before, "nothing is made, moved or recorded");
    let told = &json(&out)[0];
    assert_eq!((told["watch"].as_str(), told["path"].as_str()), (Some("cards"), Some("day_cut_1.mp4")));
    let rules: Vec<(&str, bool)> = told["rules"]
        .as_array()
        .unwrap()
        .iter()
        .map(|r| (r["rule"].as_str().unwrap(), r["holds"].as_bool().unwrap()))
        .collect();
    assert_eq!(rules, [("clips", true), ("recordings", false), ("small", true)]);
    let compared = &told["rules"][2]["compared"];
    assert_eq!((&compared[0]["field"], &compared[0]["value"]), (&"height".into(), &"180".into()));
    let names: Vec<&str> =
        told["outputs"].as_array().unwrap().iter().map(|o| o["to"][0]["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["day_cut_1_proxy_2.mp4", "CUT/day_cut_1.m4a"]);
    assert_eq!(told["outputs"][0]["to"][0]["taken"], true);
    // And now it happens.
    assert!(house.run_once().status.success());
    for name in names {
        assert!(house.path("out").join(name).exists(), "{name}");
    }
    assert_eq!(std::fs::read(house.path("out/day_cut_1_proxy.mp4")).unwrap(), b"there already");
}

#[test]
fn a_rehearsal_says_why_nothing_would_be_made() {
    let house = House::new();
    let elsewhere = tempfile::tempdir().unwrap();
    let (words, picture) = (elsewhere.path().join("words.txt"), elsewhere.path().join("p.png"));
    std::fs::write(&words, b"hello").unwrap();
    std::fs::copy(
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/fixtures/picture.png"),
        &picture,
    )
    .unwrap();
    let out = porter(&house, &["rehearse", words.to_str().unwrap(), picture.to_str().unwrap()]);
    assert_eq!(out.status.code(), Some(1));
    let said = text(&out);
    assert!(said.contains("would be turned away: not"), "{said}");
    assert!(
        said.contains("no rule holds for it (found image") && said.contains("kind is \"image\""),
        "{said}"
    );
    let out = porter(&house, &["rehearse", "--watch", "crads", words.to_str().unwrap()]);
    assert!(text(&out).contains("no watch \"crads\" in this house; it has: \"cards\""), "{}", text(&out));
}

#[test]
fn the_last_rule_that_counts_and_the_one_for_the_rest() {
    let house = House::new();
    house.reconfigure("when = 'kind == \"video\"'", "when = 'kind == \"video\"'\nlast = true");
    house.append("[[rule]]\nname = \"rest\"\notherwise = true\nmake = [{ preset = \"sound\", name = \"rest_{stem}\", to = [\"editors\"] }]\n[[rule]]\nname = \"always\"\nmake = [{ preset = \"sound\", name = \"always_{stem}\", to = [\"editors\"] }]\n");
    house.drop_in("a.mp4", clip());
    let wav = Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/fixtures/sound-24.wav");
    std::fs::copy(wav, house.path("in/b.wav")).unwrap();
    let files = [house.path("in/a.mp4"), house.path("in/b.wav")];
    let out = porter(&house, &["rehearse", files[0].to_str().unwrap(), files[1].to_str().unwrap()]);
    let said = text(&out);
    assert!(said.contains("rule \"rest\" no: rule \"clips\" held, and is the last that counts"), "{said}");
    assert!(
        said.contains("rule \"rest\" no: rule \"recordings\" held; this one is for what no other takes"),
        "{said}"
    );
    assert!(house.run_once().status.success());
    assert_eq!(house.list("out"), ["a_proxy.mp4", "always_b.m4a", "b.m4a"]);
}

#[test]
fn a_template_is_tried_on_names() {
    let house = House::new();
    house.drop_in("EP03_SC12_T4.mp4", clip());
    let file = house.path("in/EP03_SC12_T4.mp4");
    let name = |template: &str| Command::new(PROGRAM).args(["name", template]).arg(&file).output().unwrap();
    let out = name("{stem.find('EP([0-9]+)')}/{stem.part('_', 2).lowerAscii()}_{pad(job, 3)}_{height}p");
    assert!(text(&out).trim_end().ends_with("-> 03/sc12_001_180p.mp4"), "{}", text(&out));
    let out = name("{stem.find('EP(')}");
    assert!(!out.status.success() && text(&out).contains("a pattern in find()"), "{}", text(&out));
    let out = name("{height.slug()}");
    assert!(text(&out).contains("whose parts go together"), "{}", text(&out));
}

#[rstest]
#[case("include = [\"*.mp4\"]", &["a.mp4", "sub/d.mp4"])]
#[case("include = [\"sub/*\"]", &["sub/d.mp4"])]
#[case("exclude = [\"a*\", \"sub/**\"]", &["b.MOV"])]
#[case("include = [\"*.mov\", \"a*\"]\nexclude = [\"a.mp4\"]", &["b.MOV"])]
#[case("since = \"2200-01-01\"", &[])]
#[case("since = \"2001-01-01\"", &["a.mp4", "b.MOV", "sub/d.mp4"])]
#[case("on = false", &[])]
fn a_watch_takes_what_it_is_for_and_leaves_the_rest_alone(#[case] setting: &str, #[case] taken: &[&str]) {
    let house = House::with(&format!("original = \"move\"\ndone = \"done\"\n{setting}"), "");
    std::fs::create_dir(house.path("in/sub")).unwrap();
    let all = ["a.mp4", "b.MOV", "sub/d.mp4"];
    all.iter().for_each(|name| house.drop_in(name, clip()));
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    for name in all {
        assert_eq!(!house.path("in").join(name).exists(), taken.contains(&name), "{name}: {}", text(&out));
    }
    if setting.starts_with("on") {
        let out = Command::new(PROGRAM).arg("check").arg(house.path("")).output().unwrap();
        assert!(out.status.success(), "{}", text(&out));
    }
}

#[test]
fn presets_are_copied_exported_imported_and_used() {
    let house = House::new();
    let out = porter(&house, &["presets", "copy", "podcast-mp3", "evening show"]);
    assert!(out.status.success(), "{}", text(&out));
    let file = house.path("presets/evening show.toml");
    let written = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, written.replace("bitrate = \"", "bitrate = \"0")).unwrap();
    // A second time, and under a name that is there: refused.
    assert!(!porter(&house, &["presets", "copy", "podcast-mp3", "evening show"]).status.success());
    assert!(!porter(&house, &["presets", "copy", "podcast-mp3", "proxy"]).status.success());
    let to = house.path("given.toml");
    let out = porter(&house, &["presets", "export", "evening show", "proxy", "--to", to.to_str().unwrap()]);
    assert!(out.status.success(), "{}", text(&out));

    let other = House::new();
    let out = porter(&other, &["presets", "import", to.to_str().unwrap()]);
    assert!(text(&out).contains("has a preset \"proxy\" already; nothing was imported"), "{}", text(&out));
    assert!(!other.path("presets").exists());
    other.reconfigure("name = \"proxy\"\n[", "name = \"small\"\n[");
    other.reconfigure("preset = \"proxy\"", "preset = \"evening show\"");
    let broken = porter(&other, &["presets", "list"]);
    assert!(text(&broken).contains("\"evening show\""), "{}", text(&broken));
    other.reconfigure("preset = \"evening show\"", "preset = \"small\"");
    let out = porter(&other, &["presets", "import", to.to_str().unwrap()]);
    assert!(out.status.success(), "{}", text(&out));
    other.reconfigure("preset = \"small\"", "preset = \"evening show\"");
    other.drop_in("a.mp4", clip());
    assert!(other.run_once().status.success());
    assert_eq!(other.list("out"), ["a_proxy.mp3"]);
    // One name twice is told with both places.
    std::fs::write(other.path("presets/again.toml"), std::fs::read_to_string(&to).unwrap()).unwrap();
    let out = Command::new(PROGRAM).arg("check").arg(other.path("")).output().unwrap();
    assert!(text(&out).contains("a second time, in"), "{}", text(&out));
}

/// A preset in a file of its own that is changed is taken up by a porter that runs.
#[test]
fn a_changed_preset_file_is_taken_up() {
    let house = House::new();
    assert!(porter(&house, &["presets", "copy", "sound", "extra"]).status.success());
    house.append("[[rule]]\nname = \"more\"\nwhen = 'kind == \"video\"'\nmake = [{ preset = \"extra\", name = \"{stem}_extra\", to = [\"editors\"] }]\n");
    let running = house.start();
    house.drop_in("a.mp4", clip());
    house.wait_until("a is done", |s| s["ended"].as_array().is_some_and(|e| e.len() == 1));
    assert_eq!(house.list("out"), ["a_extra.m4a", "a_proxy.mp4"]);
    let file = house.path("presets/extra.toml");
    let written = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, format!("{}\ncodec = \"mp3\"\n", written.trim_end())).unwrap();
    // It is taken up when it has been at rest for two looks.
    std::thread::sleep(Duration::from_millis(3500));
    house.drop_in("b.mp4", clip());
    house.wait_until("b is done", |s| s["ended"].as_array().is_some_and(|e| e.len() == 2));
    assert!(house.list("out").contains(&"b_extra.mp3".to_owned()), "{:?}", house.list("out"));
    // One that is broken is told, and the one before stays in force, for those who look as well.
    std::fs::write(&file, "[[preset]]\nname = \"extra\"\n[preset.audio]\ncodec = \"mp4\"\n").unwrap();
    let out = Command::new(PROGRAM).arg("status").arg(house.path("")).output().unwrap();
    let said = text(&out);
    assert!(said.contains("presets/extra.toml") && said.contains("in force before"), "{said}");
    assert!(said.contains("b_extra.mp3"), "{said}");
    assert!(running.interrupt().code().is_some());
}

/// A place may lie above a watch, but no name leads from it into the watch: what is delivered there would arrive again,
/// without end. No more do those of originals.
#[rstest]
#[case::outputs("folder = \"out\"", "folder = \".\"", "{stem}_proxy", "in/{stem}_proxy", &[])]
#[case::originals("done = \"done\"", "done = \".\"\ndone_name = \"in/{stem}\"", "", "", &["a_proxy.mp4"])]
fn no_name_leads_into_a_watch(
    #[case] from: &str,
    #[case] to: &str,
    #[case] name: &str,
    #[case] instead: &str,
    #[case] delivered: &[&str],
) {
    let house = House::new();
    house.reconfigure(from, to);
    if !name.is_empty() {
        house.reconfigure(name, instead);
    }
    house.drop_in("a.mp4", clip());
    let said = text(&house.run_once());
    let status = house.status().to_string();
    assert!(status.contains("lies in watch folder \\\"cards\\\""), "{said}\n{status}");
    assert_eq!((house.list("in"), house.list("done")), (vec!["a.mp4".to_owned()], Vec::new()));
    assert_eq!(house.list("out"), delivered);
}
