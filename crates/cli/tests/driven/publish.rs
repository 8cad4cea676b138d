//! Publishing on a platform (the stand-in), and what waits for a person before it goes.

use crate::support::{self, House, PROGRAM, StandIn, clip, text};
use rstest::rstest;
use std::os::unix::fs::PermissionsExt;
use std::process::{Command, Output};
use std::time::{Duration, Instant};

fn porter(house: &House, args: &[&str]) -> Output {
    Command::new(PROGRAM).args(args).arg("--house").arg(house.path("")).output().unwrap()
}

/// A house that publishes its proxies, and the platform.
fn publishing(platform: &[&str], more: &str) -> (House, StandIn) {
    let house = House::with("original = \"move\"\ndone = \"done\"\nsidecars = [\"*.json\", \"*.md\"]", "");
    let keep = house.path("platform");
    let mut args = vec!["platform", "--port", "0", "--keep", keep.to_str().unwrap()];
    args.extend(platform);
    let stand_in = StandIn::start(&args);
    house.reconfigure(
        "folder = \"out\"",
        &format!("address = \"{}\"\nprotocol = \"publish\"", stand_in.address),
    );
    let make = format!("{{ preset = \"proxy\", name = \"{{stem}}\", to = [\"editors\"], {more} }}");
    house.reconfigure("{ preset = \"proxy\", name = \"{stem}_proxy\", to = [\"editors\"] }", &make);
    house.reconfigure("name = \"recordings\"", "name = \"recordings\"\nwatch = []");
    house.reconfigure(
        "make = [{ preset = \"sound\", to = [\"editors\"] }]",
        "make = [{ preset = \"sound\", to = [\"editors\"], item = {} }]",
    );
    (house, stand_in)
}

const TITLED: &str =
    "item = { title = \"{stem} at {width}\", tags = [\"sea\", \"{watch}\"], visibility = \"unlisted\" }";

fn items(house: &House) -> Vec<serde_json::Value> {
    let text = std::fs::read_to_string(house.path("platform/items.json")).unwrap_or_else(|_| "[]".into());
    serde_json::from_str(&text).unwrap()
}

#[test]
fn a_film_is_published_with_its_fields_and_what_goes_with_it() {
    let with = format!("{TITLED}, with = [\"poster\", \"words\"]");
    let (house, _platform) = publishing(&[], &with);
    house.append(
        "[[preset]]\nname = \"poster\"\n[preset.still]\nfit = \"80x*\"\n[[preset]]\nname = \"words\"\n[preset.transcript]\nas = [\"vtt\"]\n",
    );
    house.reconfigure(
        &format!("{with} }}]"),
        &format!("{with} }}, {{ preset = \"poster\", to = [] }}, {{ preset = \"words\", to = [] }}]"),
    );
    house.drop_in("cup.mp4", clip());
    house.drop_in("cup.json", br#"{"title":"Low tide","tags":["mud","birds"],"language":"en","age":3}"#);
    house.drop_in("cup.md", b"What the ebb leaves behind.\n");
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let all = items(&house);
    assert_eq!(all.len(), 1);
    let about = &all[0]["about"];
    assert_eq!((about["title"].as_str(), about["language"].as_str()), (Some("Low tide"), Some("en")));
    assert_eq!(about["tags"], serde_json::json!(["mud", "birds"]));
    assert_eq!(about["description"], "What the ebb leaves behind.");
    assert_eq!((&all[0]["state"], &about["visibility"]), (&"published".into(), &"unlisted".into()));
    let parts: Vec<&str> = all[0]["parts"].as_object().unwrap().keys().map(String::as_str).collect();
    assert_eq!(parts, ["captions-en", "picture"]);
    // What is there is a film, by its own bytes and checksum.
    let media = std::fs::read(house.path("platform/1.media")).unwrap();
    assert_eq!(about["media"]["bytes"].as_u64(), Some(media.len() as u64));
    assert!(house.facts("platform/1.media").picture().is_some());
    // The address is in the record, and answers.
    let status = house.status();
    let delivery = &status["ended"][0]["outputs"][0]["deliveries"][0];
    let address = delivery["address"].as_str().unwrap();
    let page = ureq::get(address).call().unwrap().body_mut().read_to_string().unwrap();
    assert!(page.contains("<h1>Low tide") && page.contains("srclang=\"en\""), "{page}");
    let listed = porter(&house, &["review", "list", "--all", "--json"]);
    let listed: serde_json::Value = serde_json::from_slice(&listed.stdout).unwrap();
    assert_eq!((&listed[0]["state"], &listed[0]["addresses"][0]), (&"published".into(), &address.into()));
    assert_eq!(house.list("done"), ["cup.json", "cup.md", "cup.mp4"]);
}

#[rstest]
#[case::breaks(&["--break-after", "3 kB"])]
#[case::busy(&["--busy", "4"])]
#[case::slow(&["--delay", "300 ms"])]
fn an_unsteady_platform_gets_everything_once(#[case] how: &[&str]) {
    let (house, _platform) = publishing(how, TITLED);
    house.drop_in("cup.mp4", clip());
    let porter = house.start();
    house.wait_until("is published", |s| s["ended"][0]["state"] == "done");
    drop(porter);
    let all = items(&house);
    assert_eq!((all.len(), &all[0]["state"]), (1, &"published".into()));
    assert_eq!(
        std::fs::metadata(house.path("platform/1.media")).unwrap().len(),
        all[0]["about"]["media"]["bytes"]
    );
}

#[rstest]
fn a_kill_publishes_each_film_once(#[values("staged", "published", "made, not recorded")] moment: &str) {
    let (house, _platform) = publishing(&[], TITLED);
    house.drop_in("cup.mp4", clip());
    house.killed_at(moment);
    assert!(house.run_once().status.success());
    let all = items(&house);
    assert_eq!((all.len(), &all[0]["state"]), (1, &"published".into()), "{all:#?}");
}

#[rstest]
#[case::quota(&["--quota", "0"], "the quota is used up")]
#[case::refused(&["--refuse", "not on this channel"], "not on this channel")]
fn a_platform_that_says_no_is_told_with_its_words(#[case] how: &[&str], #[case] words: &str) {
    let (house, _platform) = publishing(how, TITLED);
    house.drop_in("cup.mp4", clip());
    let out = house.run_once();
    assert!(!out.status.success());
    let held = house.status();
    assert!(held["open"][0]["held"].as_str().unwrap().contains(words), "{held:#}");
    assert!(items(&house).iter().all(|i| i["state"] == "draft"));
    // What a person does not want any more goes there as well.
    assert!(porter(&house, &["jobs", "cancel", "1"]).status.success());
    assert!(house.run_once().status.success());
    assert!(items(&house).is_empty());
}

#[test]
fn a_token_is_asked_for_and_never_shown() {
    let house = House::new();
    let file = house.path("token");
    std::fs::write(&file, "neap-and-spring").unwrap();
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o600)).unwrap();
    let (house, platform) = publishing(&["--token-file", file.to_str().unwrap()], TITLED);
    house.drop_in("cup.mp4", clip());
    assert!(!house.run_once().status.success());
    assert!(house.status()["open"][0]["held"].as_str().unwrap().contains("token"));
    let address = format!("address = \"{}\"", platform.address);
    house.reconfigure(&address, &format!("{address}\ntoken_file = \"{}\"", file.display()));
    let out = house.run_once();
    assert!(out.status.success(), "{}", text(&out));
    let log = text(&porter(&house, &["log", "--last", "200"])) + &text(&out);
    assert!(!log.contains("neap-and-spring"), "{log}");
}

#[test]
fn an_item_waits_for_its_fields_and_for_a_person() {
    let (house, _platform) = publishing(
        &[],
        "item = { title = \"{stem}\" }, required = [\"title\", \"description\"], hold = true",
    );
    for name in ["cup.mp4", "saucer.mp4"] {
        house.drop_in(name, clip());
    }
    let running = house.start();
    let state = |house: &House| -> Vec<(String, String)> {
        let out = porter(house, &["review", "list", "--all", "--json"]);
        let all: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
        let s = |v: &serde_json::Value| v.as_str().unwrap_or_default().to_owned();
        all.as_array().unwrap().iter().map(|i| (s(&i["id"]), s(&i["state"]))).collect()
    };
    house.wait_until("both are made", |s| {
        let open = s["open"].as_array().unwrap();
        open.len() == 2 && open.iter().all(|j| j["held"].is_string())
    });
    assert!(state(&house).iter().all(|s| s.1 == "waits for fields"), "{:?}", state(&house));
    assert!(items(&house).is_empty());
    let wrong = porter(&house, &["review", "set", "1", "visibility=secret"]);
    assert!(!wrong.status.success() && text(&wrong).contains("\"unlisted\""), "{}", text(&wrong));
    let set = porter(&house, &["review", "set", "1", "description=What the ebb leaves.", "--by", "Anna"]);
    assert!(set.status.success(), "{}", text(&set));
    house.wait_until("waits for release", |s| {
        s["open"][0]["held"].as_str().is_some_and(|h| h.contains("release"))
    });
    let began = Instant::now();
    assert!(porter(&house, &["review", "release", "1", "--by", "Anna"]).status.success());
    house.wait_until("is published", |s| s["ended"][0]["job"] == 1);
    assert!(began.elapsed() < Duration::from_secs(20), "{:?}", began.elapsed());
    let refuse = porter(&house, &["review", "refuse", "2", "--why", "the wrong take", "--by", "Anna"]);
    assert!(refuse.status.success(), "{}", text(&refuse));
    let ended = house.wait_until("is over", |s| s["ended"][0]["job"] == 2);
    assert_eq!(ended["ended"][0]["state"], "done");
    drop(running);
    let all = state(&house);
    assert_eq!(all, [("2".into(), "refused".into()), ("1".into(), "published".into())]);
    assert_eq!(items(&house).len(), 1);
    let log = text(&porter(&house, &["log", "--job", "2"]));
    assert!(log.contains("by Anna: the wrong take"), "{log}");
    let late = porter(&house, &["review", "release", "1"]);
    assert!(!late.status.success() && text(&late).contains("it ended already"), "{}", text(&late));
}

#[test]
fn fields_go_out_and_in_as_a_table() {
    let (house, _platform) = publishing(&[], "item = { title = \"\" }, hold = true");
    for name in ["cup.mp4", "saucer.mp4", "plate.mp4"] {
        house.drop_in(name, clip());
    }
    assert!(!house.run_once().status.success());
    let table = house.path("items.csv");
    let out = porter(&house, &["review", "export", table.to_str().unwrap()]);
    assert!(out.status.success(), "{}", text(&out));
    // Filled in by another program.
    let script = "import csv,sys\nrows=list(csv.DictReader(open(sys.argv[1])))\n\
        for r in rows:\n r['title']='Film '+r['id']; r['release']='yes' if r['id']!='3' else ''\n\
        rows[0]['visibility']='hidden'\nrows.append(dict(rows[0],id='77'))\n\
        w=csv.DictWriter(open(sys.argv[1],'w'),rows[0].keys()); w.writeheader(); w.writerows(rows)";
    assert!(Command::new("python3").args(["-c", script]).arg(&table).status().unwrap().success());
    let back = porter(&house, &["review", "import", table.to_str().unwrap(), "--by", "Anna"]);
    assert_eq!(back.status.code(), Some(1));
    let told = text(&back);
    assert!(told.contains("2 of 4 rows done"), "{told}");
    assert!(told.contains("visibility \"hidden\"") && told.contains("there is no item 77"), "{told}");
    assert!(!house.run_once().status.success());
    let mut titles: Vec<String> =
        items(&house).iter().map(|i| i["about"]["title"].as_str().unwrap().to_owned()).collect();
    titles.sort();
    assert_eq!(titles.len(), 2, "{titles:?}");
}

#[test]
fn a_folder_waits_for_its_time_as_well() {
    let house = House::new();
    let at = Instant::now() + Duration::from_secs(12);
    let when = Command::new("date").args(["-d", "12 seconds", "+%Y-%m-%dT%H:%M:%S%:z"]).output().unwrap();
    let make = format!(
        "{{ preset = \"proxy\", name = \"{{stem}}\", to = [\"editors\"], item = {{ title = \"x\", publish_at = \"{}\" }} }}",
        text(&when).trim()
    );
    house.reconfigure("{ preset = \"proxy\", name = \"{stem}_proxy\", to = [\"editors\"] }", &make);
    house.drop_in("cup.mp4", clip());
    assert!(!house.run_once().status.success());
    let held = house.status();
    assert!(held["open"][0]["held"].as_str().unwrap().contains("goes at"), "{held:#}");
    std::thread::sleep(at.saturating_duration_since(Instant::now()) + Duration::from_millis(1200));
    assert!(house.run_once().status.success());
    assert_eq!(house.list("out"), ["cup.mp4"]);
}

/// What the porter sends and what the stand-in answers is what the published document says.
#[test]
fn the_interface_is_published_and_true() {
    let document = support::published("publish.openapi.json", &["stand-in", "platform", "--openapi"]);
    let path =
        std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema/publish.openapi.json");
    let script = "import json, sys, openapi_spec_validator as v; v.validate(json.load(open(sys.argv[1])))";
    support::python(script, &[&path]);
    let fits = |name: &str, value: &serde_json::Value| {
        let mut schema = document["components"]["schemas"][name].clone();
        schema["components"] = document["components"].clone();
        let validator = jsonschema::validator_for(&schema).unwrap();
        let wrong: Vec<String> = validator.iter_errors(value).map(|e| e.to_string()).collect();
        assert!(wrong.is_empty(), "{wrong:?}: {value}");
    };
    let (house, platform) = publishing(&[], TITLED);
    house.drop_in("cup.mp4", clip());
    assert!(house.run_once().status.success());
    let kept = items(&house);
    fits("Item", &kept[0]["about"]);
    assert_eq!(kept[0]["about"]["visibility"], "unlisted");
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let ask = |path: &str| {
        let mut answer = agent.get(format!("{}{path}", platform.address)).call().unwrap();
        let text = answer.body_mut().read_to_string().unwrap();
        (answer.status().as_u16(), serde_json::from_str::<serde_json::Value>(&text).unwrap())
    };
    let (status, told) = ask("/items/1");
    assert_eq!((status, &told["state"]), (200, &serde_json::json!("published")));
    fits("Told", &told);
    let (status, problem) = ask("/items/99");
    assert_eq!(status, 404);
    fits("Problem", &problem);
    assert_eq!(ask("").1["publish"], 1);
    // Every path of the document is one that it answers.
    let paths = document["paths"].as_object().unwrap();
    assert_eq!(paths.len(), 7);
    for path in paths.keys().filter(|p| *p != "/") {
        let path = path.replace("{id}", "1").replace("{language}", "en");
        let answer = agent.get(format!("{}{path}", platform.address)).call().unwrap();
        assert_ne!(answer.status().as_u16(), 404, "{path}");
    }
}

/// A person says yes in a browser; tokens end after a few seconds and are renewed without anybody; nothing of them is in the
/// record or the log.
#[test]
fn a_person_signs_in_and_tokens_are_renewed() {
    let (house, platform) = publishing(&["--sign-in", "61 s"], "item = { title = \"Ebb\" }");
    let root = platform.address.replace("/publish", "");
    let config = std::fs::read_to_string(house.path("deft-porter.toml")).unwrap();
    let place = config.find("protocol = \"publish\"").unwrap();
    let (before, behind) = config.split_at(place);
    std::fs::write(house.path("deft-porter.toml"), format!("{before}sign_in = \"{root}\"\n{behind}"))
        .unwrap();
    house.drop_in("cup.mp4", clip());
    let early = house.run_once();
    assert!(!early.status.success());
    let held = house.status()["open"][0]["held"].to_string();
    assert!(held.contains("nobody signed in") && held.contains("sign-in"), "{held}");
    let mut sign_in = Command::new(PROGRAM)
        .args(["sign-in", "editors", "--house"])
        .arg(house.path(""))
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(sign_in.stdout.take().unwrap()));
    let code = lines
        .find_map(|l| {
            l.unwrap().split_once("the code ").map(|(_, rest)| rest.split(' ').next().unwrap().to_owned())
        })
        .unwrap();
    let say = |code: &str| {
        let form = format!("code={code}&say=yes");
        let out = Command::new("curl").args(["-s", "-d", &form, &format!("{root}/device")]).output().unwrap();
        text(&out)
    };
    assert!(say("BBBB-CCCC").contains("no such code"));
    assert!(say(&code).contains("let in"));
    assert!(sign_in.wait().unwrap().success());
    let kept = house.path("porter-state/sign-in/editors.json");
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&kept).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    let first: serde_json::Value = serde_json::from_slice(&std::fs::read(&kept).unwrap()).unwrap();
    // Good for a second more than what is taken for good: the next use renews it.
    std::thread::sleep(Duration::from_millis(1500));
    assert!(house.run_once().status.success(), "{:#}", house.status());
    assert_eq!(items(&house).len(), 1);
    let renewed: serde_json::Value = serde_json::from_slice(&std::fs::read(&kept).unwrap()).unwrap();
    assert_ne!(first["access_token"], renewed["access_token"]);
    assert_ne!(first["refresh_token"], renewed["refresh_token"]);
    let log = text(&porter(&house, &["log", "--json"])) + &text(&porter(&house, &["check"]));
    for secret in [&first, &renewed].iter().flat_map(|h| [&h["access_token"], &h["refresh_token"]]) {
        assert!(!log.contains(secret.as_str().unwrap()));
    }
}
