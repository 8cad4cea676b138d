//! Speech and text services, with the stand-ins that ship with the program.

use crate::support::{House, PROGRAM, StandIn, published, python, text};
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use words::service::hear::wav;

fn samples() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../models/speech-en/samples")
}

fn porter(args: &[&str]) -> Output {
    Command::new(PROGRAM).args(args).output().unwrap()
}

/// The sample clips behind each other, with a second between them.
fn recording(clips: usize) -> Vec<u8> {
    let names = ["austen-0880.wav", "austen-0890.wav", "austen-0930.wav"];
    let mut all = Vec::new();
    for name in names.iter().cycle().take(clips) {
        let clip = std::fs::read(samples().join(name)).unwrap();
        all.extend(clip[44..].chunks_exact(2).map(|b| f32::from(i16::from_le_bytes([b[0], b[1]])) / 32768.0));
        all.extend(vec![0.0; 16_000]);
    }
    wav(&all)
}

fn transcript(file: &Path, more: &[&str]) -> (Value, String) {
    let dir = tempfile::tempdir().unwrap();
    let to = dir.path().to_str().unwrap();
    let out = porter(&[&["transcribe", file.to_str().unwrap(), "--as", "json", "--to", to], more].concat());
    assert!(out.status.success(), "{}", text(&out));
    let json = std::fs::read(std::fs::read_dir(to).unwrap().next().unwrap().unwrap().path()).unwrap();
    (serde_json::from_slice(&json).unwrap(), text(&out))
}

fn said(t: &Value) -> Vec<(String, i64)> {
    let segments = t["segments"].as_array().unwrap().iter();
    segments
        .flat_map(|s| s["words"].as_array().unwrap())
        .map(|w| (w["text"].as_str().unwrap().to_owned(), w["start_ms"].as_i64().unwrap()))
        .collect()
}

fn text_of(t: &Value) -> String {
    said(t).into_iter().map(|w| w.0).collect::<Vec<_>>().join(" ")
}

#[test]
fn a_service_gives_the_words_that_this_machine_gives() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("hide.wav");
    std::fs::write(&file, recording(8)).unwrap();
    let (here, _) = transcript(&file, &[]);
    // The service takes less than the porter sends, and is busy at first.
    let desk = StandIn::start(&["speech", "--port", "0", "--most", "600 kB", "--busy", "1"]);
    let (there, shown) = transcript(&file, &["--service", &desk.address]);
    let log = desk.end();
    assert!(log.iter().any(|l| l.contains("503")) && log.iter().any(|l| l.contains("413")), "{log:?}");
    let heard = log.iter().filter(|l| l.ends_with("200")).count();
    assert!(heard >= 2, "{log:?}");
    assert_eq!(text_of(&there), text_of(&here));
    for ((word, here), (_, there)) in said(&here).iter().zip(said(&there)) {
        assert!((here - there).abs() <= 60, "{word}: {here} {there}");
    }
    assert_eq!(there["made_by"]["settings"], format!("sound track 1, {heard} parts"));
    let model = there["made_by"]["model"].as_str().unwrap();
    assert!(model.starts_with("service 127.0.0.1:") && shown.contains("hide.wav"), "{model} {shown}");
    assert!(there["made_by"].get("digest").is_none() && there["segments"][0]["confidence"].is_number());
}

#[test]
fn times_that_a_service_does_not_give_are_spread_and_said_so() {
    let file = samples().join("austen-0930.wav");
    let (here, _) = transcript(&file, &[]);
    for (times, note) in [("segments", "times of segments only"), ("none", "gave no times")] {
        let desk = StandIn::start(&["speech", "--port", "0", "--times", times]);
        let (there, _) = transcript(&file, &["--service", &desk.address]);
        assert_eq!(text_of(&there), text_of(&here));
        assert!(there["notes"][0].as_str().unwrap().contains(note), "{there}");
        let starts: Vec<i64> = said(&there).iter().map(|w| w.1).collect();
        assert!(starts.is_sorted() && starts[0] < 1500, "{starts:?}");
        assert!(there["segments"][0].get("confidence").is_none());
        // Roughly right is all that can be said of them.
        let off = said(&here).iter().zip(&starts).map(|(a, b)| (a.1 - b).abs()).max();
        assert!(off.unwrap() < 1500, "{off:?}");
    }
}

#[test]
fn a_login_is_brought_or_asked_for() {
    let dir = tempfile::tempdir().unwrap();
    let token = dir.path().join("token");
    std::fs::write(&token, "low-tide\n").unwrap();
    std::fs::set_permissions(&token, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    let file = samples().join("austen-0890.wav");
    let desk = StandIn::start(&["speech", "--port", "0", "--token-file", token.to_str().unwrap()]);
    let (t, _) = transcript(&file, &["--service", &desk.address, "--token-file", token.to_str().unwrap()]);
    assert!(text_of(&t).contains("selfish"));
    let to = dir.path().to_str().unwrap();
    let out = porter(&["transcribe", file.to_str().unwrap(), "--to", to, "--service", &desk.address]);
    assert_eq!(out.status.code(), Some(1));
    assert!(
        text(&out).contains("401 Unauthorized: Unauthorized: the token is missing or wrong"),
        "{}",
        text(&out)
    );
    let out = porter(&["transcribe", file.to_str().unwrap(), "--service", "desk", "--house", to]);
    assert!(text(&out).contains("is no address, so it is taken for the name"), "{}", text(&out));
    let out = porter(&["transcribe", file.to_str().unwrap(), "--service", "ftp://x/y"]);
    assert!(text(&out).contains("no address of a service"), "{}", text(&out));
}

/// A house whose transcripts and summaries are made elsewhere.
fn house(speech: &str, summary: &str, more: &str) -> House {
    let house = House::new();
    let preset = format!(
        "[[service]]\nname = \"desk\"\naddress = \"{speech}\"\ntries = 1\ntimeout = \"60 s\"\n\
         [[service]]\nname = \"reader\"\naddress = \"{summary}\"\ntries = 1\n\
         [[preset]]\nname = \"sound\"\n[preset.transcript]\nas = [\"txt\", \"summary.json\", \"summary.html\"]\n\
         service = \"desk\"\nsummary_service = \"reader\"\n{more}"
    );
    house.reconfigure("[[preset]]\nname = \"sound\"\n[preset.audio]\n", &preset);
    house
}

#[test]
fn a_house_waits_for_its_service_and_goes_on_by_itself() {
    let text_desk = StandIn::start(&["text", "--port", "0"]);
    // A port that is free now.
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let speech = format!("http://127.0.0.1:{port}/speech");
    let house = house(&speech, &text_desk.address, "");
    house.drop_in("warden.wav", &recording(2));
    let out = porter(&["check", house.path("").to_str().unwrap()]);
    assert_eq!(out.status.code(), Some(1));
    assert!(
        text(&out).contains("nobody answers at 127.0.0.1") && text(&out).contains("reader"),
        "{}",
        text(&out)
    );
    let out = house.run_once();
    assert_eq!(out.status.code(), Some(1), "{}", text(&out));
    let held = house.status()["open"][0]["held"].as_str().unwrap().to_owned();
    assert!(held.contains("service \"desk\"") && held.contains("cannot be reached"), "{held}");
    assert_eq!(house.list("in"), ["warden.wav"]);

    let desk = StandIn::start(&["speech", "--port", &port.to_string(), "--delay", "1500 ms"]);
    // Waiting for a service is not standing still.
    house.reconfigure("[[watch]]", "[house.maker]\nstall = \"1 s\"\n[[watch]]");
    assert!(house.run_once().status.success());
    assert_eq!(house.list("out"), ["warden.summary.html", "warden.summary.json", "warden.txt"]);
    let summary: Value =
        serde_json::from_slice(&std::fs::read(house.path("out/warden.summary.json")).unwrap()).unwrap();
    let method = summary["method"].as_str().unwrap();
    assert!(method.contains("text service \"reader\" (extractive, as without a service)"), "{method}");
    assert!(summary["points"][0]["text"].as_str().unwrap().len() > 10);
    // Both forms of the summary are one request.
    assert_eq!((desk.end().len(), text_desk.end().len()), (1, 1));
}

#[test]
fn a_house_may_hear_for_itself_when_its_service_is_away() {
    let away = "http://127.0.0.1:9/speech";
    let house = house(away, away, "if_away = \"here\"\n");
    house.drop_in("warden.wav", &recording(1));
    assert!(house.run_once().status.success());
    let said = std::fs::read_to_string(house.path("out/warden.txt")).unwrap();
    assert!(said.len() > 20, "{said}");
    let page = std::fs::read_to_string(house.path("out/warden.summary.html")).unwrap();
    assert!(page.contains("heard on this machine instead: service &quot;desk&quot;"), "{page}");
    assert!(page.contains("summarised on this machine instead"), "{page}");
}

#[test]
fn the_description_is_published_and_true() {
    let document = published("services.openapi.json", &["stand-in", "--openapi"]);
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema/services.openapi.json");
    let script = "import json, sys, openapi_spec_validator as v; v.validate(json.load(open(sys.argv[1])))";
    python(script, &[&path]);
    // What the stand-ins answer is what the document says.
    let desk = StandIn::start(&["text", "--port", "0"]);
    let ask = |json: &str| {
        let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
        let mut response = agent.post(&desk.address).content_type("application/json").send(json).unwrap();
        let said = response.body_mut().read_to_string().unwrap();
        serde_json::from_str::<Value>(&said).unwrap_or_else(|e| panic!("{e}: {said}"))
    };
    let fits = |name: &str, value: &Value| {
        let mut schema = document["components"]["schemas"][name].clone();
        schema["components"] = document["components"].clone();
        let validator = jsonschema::validator_for(&schema).unwrap();
        let wrong: Vec<String> = validator.iter_errors(value).map(|e| e.to_string()).collect();
        assert!(wrong.is_empty(), "{wrong:?}: {value}");
    };
    let good = r#"{"want":"summary","language":"en","source":"a.mov","duration_ms":9000,
        "segments":[{"start_ms":0,"end_ms":4000,"text":"The tide comes in over the salt marsh."}]}"#;
    let answer = ask(good);
    fits("TextRequest", &serde_json::from_str(good).unwrap());
    fits("TextAnswer", &answer);
    assert_eq!(answer["points"][0]["text"], "The tide comes in over the salt marsh.");
    let problem = ask(r#"{"want":"poem"}"#);
    fits("Problem", &problem);
    assert_eq!(problem["status"], 400);
}
