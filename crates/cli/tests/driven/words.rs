//! Transcripts and captions as their users meet them: commands, watch folders, search, and readers that are not
//! ours.

use crate::support::{House, PROGRAM, published, python, text};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

fn samples() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../models/speech-en/samples")
}

fn porter(args: &[&str]) -> Output {
    Command::new(PROGRAM).args(args).output().unwrap()
}

fn names(dir: &Path) -> Vec<String> {
    let mut all: Vec<String> =
        std::fs::read_dir(dir).unwrap().map(|e| e.unwrap().file_name().to_string_lossy().into()).collect();
    all.sort();
    all
}

#[test]
fn a_file_is_transcribed_into_every_form_and_read_by_others() {
    let dir = tempfile::tempdir().unwrap();
    let wav = samples().join("austen-0890.wav");
    let args = ["transcribe", wav.to_str().unwrap(), "--to", dir.path().to_str().unwrap()];
    let forms = ["--as", "json,txt,md,srt,vtt,ttml,csv,summary.json,summary.html", "--word-times"];
    let out = porter(&[&args[..], &forms[..]].concat());
    assert!(out.status.success(), "{}", text(&out));
    let file = |ext: &str| dir.path().join(format!("austen-0890.{ext}"));
    let said = std::fs::read_to_string(file("txt")).unwrap();
    assert!(said.starts_with("Unless to be rather cold-hearted and rather selfish"), "{said}");
    // A second time: nothing is overwritten, and the forms keep one name.
    let again = porter(&[&args[..], &["--as", "txt,srt", "--json"]].concat());
    assert!(again.status.success());
    let told: serde_json::Value = serde_json::from_slice(&again.stdout).unwrap();
    assert_eq!((told["what"].as_str(), told["words"].as_u64()), (Some("heard"), Some(12)), "{told}");
    let written = told["written"].as_array().unwrap();
    assert!(written.len() == 2 && written.iter().all(|p| Path::new(p.as_str().unwrap()).exists()), "{told}");
    assert_eq!(names(dir.path()).iter().filter(|n| n.contains("_2.")).count(), 2);

    let schema = published("transcript.json", &["transcribe", "--schema"]);
    let json: serde_json::Value = serde_json::from_slice(&std::fs::read(file("json")).unwrap()).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    assert!(
        validator.is_valid(&json),
        "{:?}",
        validator.iter_errors(&json).map(|e| e.to_string()).collect::<Vec<_>>()
    );
    assert_eq!(json["segments"][0]["words"].as_array().unwrap().len(), 12);

    let summary: serde_json::Value =
        serde_json::from_slice(&std::fs::read(file("summary.json")).unwrap()).unwrap();
    assert_eq!(summary["points"][0]["text"], said.trim());
    let page = std::fs::read_to_string(file("summary.html")).unwrap();
    assert!(page.contains("nothing was written anew") && page.contains("rather selfish is to be"), "{page}");

    let read = python(
        "import sys, csv, json, webvtt, pysrt\n\
         from ttconv.imsc import reader\nimport xml.etree.ElementTree as et\n\
         srt, vtt, ttml, table = sys.argv[1:]\n\
         doc = reader.to_model(et.parse(ttml))\n\
         def text(n):\n    return (n.get_text() if type(n).__name__ == 'Text' else '') + ' '.join(text(c) for c in n)\n\
         print(json.dumps([[c.text for c in pysrt.open(srt)], [c.text for c in webvtt.read(vtt)], \
         text(doc.get_body()).split(), list(csv.reader(open(table, newline='')))]))",
        &[&file("srt"), &file("vtt"), &file("ttml"), &file("csv")],
    );
    if let Some(read) = read {
        let read: serde_json::Value = serde_json::from_str(&read).unwrap();
        let flat = |v: &serde_json::Value| {
            let all: Vec<&str> = v.as_array().unwrap().iter().map(|c| c.as_str().unwrap()).collect();
            all.join(" ").split_whitespace().collect::<Vec<_>>().join(" ")
        };
        assert_eq!(flat(&read[0]), said.trim());
        assert_eq!(flat(&read[1]), said.trim());
        assert_eq!(flat(&read[2]), said.trim());
        assert_eq!(read[3][1][7], said.trim());
    }
}

#[test]
fn what_holds_no_words_says_so() {
    let dir = tempfile::tempdir().unwrap();
    let to = dir.path().to_str().unwrap();
    let put = |name: &str, bytes: &[u8]| {
        let path = dir.path().join(name);
        std::fs::write(&path, bytes).unwrap();
        path.to_str().unwrap().to_owned()
    };
    let wav = |rate: u32, channels: u16, samples: &[i16]| {
        let size = samples.len() as u32 * 2;
        let mut w = b"RIFF".to_vec();
        w.extend((36 + size).to_le_bytes());
        w.extend(b"WAVEfmt \x10\0\0\0\x01\0");
        w.extend(channels.to_le_bytes());
        w.extend(rate.to_le_bytes());
        w.extend((rate * u32::from(channels) * 2).to_le_bytes());
        w.extend((channels * 2).to_le_bytes());
        w.extend(b"\x10\0data");
        w.extend(size.to_le_bytes());
        w.extend(samples.iter().flat_map(|s| s.to_le_bytes()));
        w
    };
    let silent = put("silent.wav", &wav(8000, 2, &[0; 80_000]));
    let tone: Vec<i16> = (0..192_000 * 2).map(|i| ((i as f32 * 0.02).sin() * 9000.0) as i16).collect();
    let tone = put("tone.wav", &wav(192_000, 1, &tone));
    let none = put("none.txt", b"no media");
    let out = porter(&["transcribe", &silent, &tone, &none, "--to", to, "--as", "txt"]);
    assert_eq!(out.status.code(), Some(1));
    let said = text(&out);
    assert!(said.contains("silent from start to end") && said.contains("no speech was found"), "{said}");
    assert!(said.contains("none.txt: not supported: this is text, not media"), "{said}");
    assert_eq!(std::fs::read(dir.path().join("silent.txt")).unwrap(), b"");
    assert_eq!(std::fs::read(dir.path().join("tone.txt")).unwrap(), b"");
    // One voice in one of sixteen channels.
    let voice = std::fs::read(samples().join("austen-0930.wav")).unwrap();
    let voice: Vec<i16> = voice[44..].chunks_exact(2).map(|b| i16::from_le_bytes([b[0], b[1]])).collect();
    let spread: Vec<i16> =
        voice.iter().flat_map(|&v| (0..16).map(move |c| if c == 11 { v } else { 0 })).collect();
    let many = put("many.wav", &wav(16_000, 16, &spread));
    let out = porter(&["transcribe", &many, "--to", to]);
    assert!(out.status.success(), "{}", text(&out));
    let said = std::fs::read_to_string(dir.path().join("many.txt")).unwrap();
    assert_eq!(said.trim(), "He might even have been made amiable himself.");
}

const WORDS: &str = r#"
[[preset]]
name = "words"
[preset.transcript]
as = ["txt", "vtt", "json"]
terms = ["Amyable"]

[[rule]]
name = "spoken"
when = 'kind == "audio"'
make = [{ preset = "words", name = "{stem}/{stem}", to = ["editors"] }]
"#;

#[test]
fn a_watch_folder_gives_transcripts_that_can_be_found() {
    let house = House::new();
    let config = house.path("deft-porter.toml");
    let all = std::fs::read_to_string(&config).unwrap() + WORDS;
    std::fs::write(&config, all).unwrap();
    let at = house.path("");
    let at = at.to_str().unwrap();
    let find = |words: &[&str]| porter(&[&["find", "--house", at], words].concat());
    assert!(text(&find(&["himself"])).contains("no transcripts yet"));
    house.drop_in("hide talk.wav", &std::fs::read(samples().join("austen-0930.wav")).unwrap());
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(house.list("out"), ["hide talk", "hide talk.m4a"]);
    assert_eq!(names(&house.path("out/hide talk")), ["hide talk.json", "hide talk.txt", "hide talk.vtt"]);
    let said = std::fs::read_to_string(house.path("out/hide talk/hide talk.txt")).unwrap();
    assert_eq!(said.trim(), "He might even have been made Amyable himself.");

    let out = find(&["been made"]);
    assert!(out.status.success(), "{}", text(&out));
    let shown = text(&out);
    assert!(shown.contains("hide talk.wav  (watch cards, job 1)"), "{shown}");
    assert!(shown.contains("00:00:01  He might even have [been made] Amyable himself."), "{shown}");
    assert!(shown.contains("editors: hide talk.m4a, hide talk/hide talk.txt"), "{shown}");
    for (words, hits) in [
        (&["him*", "might"][..], 1),
        (&["amyable", "--watch", "cards", "--from", "2020-01-01"][..], 1),
        (&["amyable", "--until", "2020-01-01"][..], 0),
        (&["might", "himself", "--near", "2"][..], 0),
        (&["might", "himself", "--near", "6"][..], 1),
        (&["made been"][..], 0),
    ] {
        let out = find(&[words, &["--json"]].concat());
        let got: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
        assert_eq!(got.as_array().unwrap().len(), hits, "{words:?}: {got}");
        assert_eq!(out.status.code(), Some(i32::from(hits == 0)));
    }
    assert_eq!(find(&["x", "--from", "soon"]).status.code(), Some(1));
    let unknown = find(&["amyable", "--watch", "others"]);
    assert!(
        text(&unknown).contains("no watch \"others\" in this house; it has: cards"),
        "{}",
        text(&unknown)
    );
}

#[test]
fn a_file_without_sound_is_turned_away_with_the_reason() {
    let house = House::new();
    let config = house.path("deft-porter.toml");
    let words = WORDS.replace("'kind == \"audio\"'", "'true'");
    let all = std::fs::read_to_string(&config).unwrap().split("[[rule]]").next().unwrap().to_owned() + &words;
    std::fs::write(&config, all).unwrap();
    let mut pictures = b"YUV4MPEG2 W16 H16 F25:1 C420jpeg\n".to_vec();
    for _ in 0..3 {
        pictures.extend(b"FRAME\n");
        pictures.extend([128; 384]);
    }
    house.drop_in("mute.y4m", &pictures);
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1), "{}", text(&out));
    assert_eq!(house.list("away"), ["mute.y4m", "mute.y4m.why.txt"]);
    let why = std::fs::read_to_string(house.path("away/mute.y4m.why.txt")).unwrap();
    assert!(why.contains("no sound track, so there is nothing to hear"), "{why}");
}

#[test]
fn captions_are_converted_moved_and_checked() {
    let dir = tempfile::tempdir().unwrap();
    let path = |name: &str| dir.path().join(name).to_str().unwrap().to_owned();
    let srt = "1\n00:00:01,000 --> 00:00:03,000\nThe tide comes in.\n\n2\n00:00:02,900 --> 00:00:03,000\nFar too long to be read in so short a time, and on one line.\n";
    std::fs::write(path("a.srt"), srt).unwrap();
    let out = porter(&["captions", &path("a.srt"), "--check"]);
    assert_eq!(out.status.code(), Some(1));
    let shown = text(&out);
    for part in
        ["SubRip, 2 cues", "overlaps the next by 100 ms", "a line of 60 characters, 42 allowed", "4 offences"]
    {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    let args = ["--shift", "-0.5", "--from-rate", "24", "--to-rate", "25", "--to"];
    for to in ["b.vtt", "b.ttml"] {
        let out = porter(&[&["captions", &path("a.srt")], &args[..], &[&path(to)]].concat());
        assert!(out.status.success(), "{}", text(&out));
        let out = porter(&["captions", &path(to), "--json"]);
        assert_eq!(serde_json::from_slice::<serde_json::Value>(&out.stdout).unwrap()["cues"], 2);
    }
    assert!(std::fs::read_to_string(path("b.vtt")).unwrap().contains("00:00:00.460 --> 00:00:02.380"));
    let again = porter(&["captions", &path("a.srt"), "--to", &path("b.vtt")]);
    assert!(!again.status.success() && text(&again).contains("nothing is overwritten"), "{}", text(&again));
    assert!(!porter(&["captions", &path("a.srt"), "--to", &path("b.json")]).status.success());
    std::fs::write(path("bad.srt"), "hello").unwrap();
    assert!(text(&porter(&["captions", &path("bad.srt")])).contains("neither SubRip (SRT), WebVTT nor TTML"));
}
