//! The house plan, and the licences of what is built in, held true over `cargo metadata`.

use serde_json::Value;
use std::collections::BTreeMap;
use std::process::Command;

fn metadata() -> Value {
    let mut c = Command::new(env!("CARGO"));
    let out = c.args(["metadata", "--format-version", "1", "--locked", "--all-features"]).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    serde_json::from_slice(&out.stdout).unwrap()
}

/// Dependencies run downward only: cli -> porter -> words -> media.
#[test]
fn crates_depend_downward_only() {
    let floors = ["media", "words", "porter", "deft-porter"];
    for p in metadata()["packages"].as_array().unwrap() {
        let Some(floor) = floors.iter().position(|f| p["name"] == *f && p["source"].is_null()) else {
            continue;
        };
        for d in p["dependencies"].as_array().unwrap().iter().filter(|d| d["source"].is_null()) {
            let below = floors.iter().position(|f| d["name"] == *f).unwrap();
            let own_features = below == floor && d["kind"] == "dev";
            assert!(below < floor || own_features, "{} depends on {}", p["name"], d["name"]);
        }
        let outside: Vec<&str> = p["dependencies"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|d| d["kind"].is_null())
            .filter_map(|d| d["name"].as_str())
            .collect();
        if floor < 3 {
            assert!(
                !outside.iter().any(|n| n.starts_with("clap") || n.starts_with("comfy")),
                "{} knows the interface",
                p["name"]
            );
        }
    }
}

#[test]
fn third_party_licences_are_recorded() {
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/third-party.md");
    let mut found = BTreeMap::new();
    for p in metadata()["packages"].as_array().unwrap().iter().filter(|p| !p["source"].is_null()) {
        let licence =
            p["license"].as_str().map_or_else(|| format!("see {}", p["license_file"]), str::to_owned);
        found.insert(format!("{} {}", p["name"].as_str().unwrap(), p["version"].as_str().unwrap()), licence);
    }
    let rows: String = found.iter().map(|(name, licence)| format!("| {name} | {licence} |\n")).collect();
    let text = std::fs::read_to_string(file).unwrap();
    let (head, _) = text.split_once("| package | licence |\n|---|---|\n").expect("the table's head");
    let want = format!("{head}| package | licence |\n|---|---|\n{rows}");
    if std::env::var_os("UPDATE_THIRD_PARTY").is_some() {
        std::fs::write(file, &want).unwrap();
    } else {
        assert!(
            text == want,
            "docs/third-party.md is not of today: run UPDATE_THIRD_PARTY=1 cargo test --test house_plan and read what changed"
        );
    }
}
