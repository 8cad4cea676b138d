//! The configuration: every problem with its line, key, what was found and what would be right.

use porter::Error;
use porter::config::{House, Problem};
use rstest::rstest;
use std::path::Path;

const GOOD: &str = r#"
[house]
name = "Estuary Hours"

[[watch]]
name = "cards"
folder = "in"
done = "done"
turned_away = "away"

[[place]]
name = "editors"
folder = "out"

[[preset]]
name = "proxy"
[preset.video]
fit = "960x540"
[preset.audio]

[[rule]]
name = "clips"
when = 'kind == "video"'
make = [{ preset = "proxy", to = ["editors"] }]
"#;

fn problems(text: &str) -> Vec<Problem> {
    match House::parse(Path::new("/house/deft-porter.toml"), text) {
        Err(Error::Config { problems, .. }) => problems,
        Ok(_) => Vec::new(),
        Err(e) => panic!("{e}"),
    }
}

#[test]
fn a_good_file_is_taken_with_absolute_paths_and_usual_values() {
    let house = House::parse(Path::new("/house/deft-porter.toml"), GOOD).unwrap();
    assert_eq!(house.watches[0].folder, Path::new("/house/in"));
    assert_eq!(house.state, Path::new("/house/porter-state"));
    assert_eq!(house.watches[0].steady.as_secs(), 5);
    assert_eq!(house.presets[0].parts[0].extension, "mp4");
    assert_eq!(house.rules[0].make[0].to, ["editors"]);
}

#[test]
fn a_preset_version_changes_with_its_settings_only() {
    let version = |text: &str| House::parse(Path::new("/h/x.toml"), text).unwrap().presets[0].version.clone();
    assert_eq!(version(GOOD), version(&GOOD.replace("Estuary", "Other")));
    assert_ne!(version(GOOD), version(&GOOD.replace("960x540", "640x360")));
}

#[rstest]
#[case::syntax("name = \"cards\"", "name = cards", 6, "", "")]
#[case::unknown_key("folder = \"in\"", "foldr = \"in\"", 7, "watch[0].foldr", "unknown field 'foldr'")]
#[case::type_("folder = \"out\"", "folder = 5", 13, "place[0].folder", "integer `5`")]
#[case::missing("turned_away = \"away\"\n", "", 5, "watch[0]", "turned_away")]
#[case::time("done = \"done\"", "done = \"done\"\nsteady = \"soon\"", 9, "watch[0].steady", "\"soon\"")]
#[case::size("960x540", "960", 18, "preset[0].video.fit", "\"960\"")]
#[case::preset("preset = \"proxy\"", "preset = \"poxy\"", 24, "rule[0].make[0].preset", "\"poxy\"")]
#[case::place("[\"editors\"]", "[\"editors\", \"moon\"]", 24, "rule[0].make[0].to[1]", "\"moon\"")]
#[case::condition("kind ==", "kynd ==", 23, "rule[0].when", "kynd")]
#[case::watched_place(
    "folder = \"out\"",
    "folder = \"in/out\"",
    13,
    "place[0].folder",
    "watch folder \"cards\""
)]
#[case::watched_done("done = \"done\"", "done = \"in/done\"", 8, "watch[0].done", "watch folder \"cards\"")]
#[case::no_done("done = \"done\"\n", "", 5, "watch[0].done", "no key 'done'")]
#[case::twice(
    "[preset.audio]",
    "[preset.audio]\n[[preset]]\nname = \"proxy\"\n[preset.audio]",
    21,
    "preset[1].name",
    "second time"
)]
#[case::nothing("[preset.video]\nfit = \"960x540\"\n[preset.audio]", "", 15, "preset[0]", "makes nothing")]
#[case::template(
    "preset = \"proxy\",",
    "preset = \"proxy\", name = \"../x\",",
    24,
    "rule[0].make[0].name",
    "../x"
)]
#[case::quantiser("fit = \"960x540\"", "quantiser = 99", 18, "preset[0].video.quantiser", "99")]
fn a_problem_is_told_with_its_place(
    #[case] from: &str,
    #[case] to: &str,
    #[case] line: usize,
    #[case] key: &str,
    #[case] found: &str,
) {
    let text = GOOD.replacen(from, to, 1);
    assert_ne!(text, GOOD);
    let got = problems(&text);
    let words = found.replace('`', "'");
    let hit = got.iter().find(|p| p.line == line && p.key == key && p.found.contains(&words));
    assert!(hit.is_some_and(|p| !p.wanted.is_empty()), "{got:#?}");
}

#[test]
fn an_unknown_key_hides_no_other_problem() {
    let text = GOOD
        .replace("folder = \"in\"", "foldr = \"in\"\nfolder = \"in\"\nsteady = \"soon\"")
        .replace("fit = \"960x540\"", "fit = 5\nfitt = \"960x540\"")
        .replace("kind ==", "kint ==");
    let got = problems(&text);
    let places: Vec<&str> = got.iter().map(|p| p.place.as_str()).collect();
    let want = [
        "watch \"cards\": foldr",
        "watch \"cards\": steady",
        "preset \"proxy\": video fit",
        "preset \"proxy\": video fitt",
        "rule \"clips\": when",
    ];
    assert_eq!(places, want, "{got:#?}");
    assert!(got[0].wanted.starts_with("'folder'"), "{}", got[0].wanted);
}

#[test]
fn all_problems_are_told_at_once() {
    let text = GOOD.replace("960x540", "big").replace("kind", "kint").replace("\"editors\"]", "\"moon\"]");
    assert_eq!(problems(&text).len(), 3);
}

const SERVICE: &str = r#"
[[service]]
name = "desk"
address = "https://speech.house.example/hear"
most = "5 MB"
timeout = "90 s"
tries = 3
token_file = "secrets/desk"
fields = { quality = "best" }

[[preset]]
name = "words"
[preset.transcript]
as = ["txt", "summary.html"]
service = "desk"
summary_service = "desk"
if_away = "here"
"#;

#[test]
fn a_service_goes_with_the_transcripts_that_name_it() {
    use porter::recipe::Away;
    use porter::services::{Login, Secret};
    let text = format!("{GOOD}{SERVICE}");
    let house = House::parse(Path::new("/house/deft-porter.toml"), &text).unwrap();
    let desk = house.service("desk").unwrap();
    assert_eq!((desk.most, desk.timeout.as_secs(), desk.tries), (5_000_000, 90, 3));
    assert_eq!(desk.login, Login::Token(Secret::File("/house/secrets/desk".into())));
    assert_eq!((desk.sound_field.as_str(), desk.fields["quality"].as_str()), ("sound", "best"));
    let parts = &house.presets[1].parts;
    let made = |n: usize| parts[n].recipe.transcript.clone().unwrap();
    // Both hear by the service; only the summary is written by one.
    assert_eq!(made(0).hearing.service.as_ref(), Some(desk));
    assert_eq!((made(0).summary, made(1).summary), (None, Some(desk.clone())));
    assert_eq!(made(0).if_away, Away::Here);
    // Where the secret is belongs to the record, what it is does not.
    let recorded = serde_json::to_string(&made(1)).unwrap();
    assert!(recorded.contains("/house/secrets/desk"), "{recorded}");
    assert_eq!(serde_json::from_str::<porter::recipe::TranscriptRecipe>(&recorded).unwrap(), made(1));
}

#[rstest]
#[case::address("https://speech", "ftp://speech", "service[0].address", "ftp://")]
#[case::login_in_the_address("https://speech", "https://me:pw@speech", "service[0].address", "me:pw")]
#[case::size("5 MB", "5 kB", "service[0].most", "5 kB")]
#[case::no_size("5 MB", "much", "service[0].most", "much")]
#[case::too_small_for_speech(
    "most = \"5 MB\"",
    "most = \"20 kB\"",
    "preset[1].transcript.service",
    "at most 20000 bytes"
)]
#[case::tries("tries = 3", "tries = 0", "service[0].tries", "0")]
#[case::two_secrets(
    "token_file",
    "token_env = \"X\"\ntoken_file",
    "service[0].token_file",
    "beside 'token_env'"
)]
#[case::half_a_login("token_file = \"secrets/desk\"", "user = \"me\"", "service[0].user", "not whole")]
#[case::two_logins(
    "token_file",
    "user = \"me\"\npassword_env = \"P\"\ntoken_file",
    "service[0].user",
    "two of them"
)]
#[case::unknown("service = \"desk\"\nsum", "service = \"dusk\"\nsum", "preset[1].transcript.service", "dusk")]
#[case::away("if_away = \"here\"", "if_away = \"never\"", "preset[1].transcript.if_away", "never")]
fn a_wrong_service_is_told_with_its_place(
    #[case] from: &str,
    #[case] to: &str,
    #[case] key: &str,
    #[case] found: &str,
) {
    let good = format!("{GOOD}{SERVICE}");
    let text = good.replacen(from, to, 1);
    assert_ne!(text, good);
    let got = problems(&text);
    let hit = got.iter().find(|p| p.key == key && p.found.contains(found));
    assert!(hit.is_some_and(|p| p.line > 25 && !p.wanted.is_empty()), "{got:#?}");
}

/// docs/config.md lists every field and every word a condition may compare with.
#[test]
fn the_fields_and_words_are_in_the_documents() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/config.md");
    let mut text = std::fs::read_to_string(&path).unwrap();
    let list = |words: Vec<&str>| words.iter().map(|w| format!("`{w}`")).collect::<Vec<_>>().join(", ");
    let field = |name: &str| porter::route::fields::find(name).unwrap().values.unwrap()();
    if std::env::var_os("UPDATE_CONFIG").is_some() {
        text = text.replace("FORMATS.", &format!("{}.", list(field("format"))));
        text = text.replace("CODECS;", &format!("{};", list(field("codec"))));
        std::fs::write(&path, &text).unwrap();
    }
    for f in porter::route::fields::FIELDS {
        assert!(
            text.contains(&format!("| `{}` | {}", f.name, f.help)),
            "{} is not in docs/config.md",
            f.name
        );
    }
    for name in ["format", "codec"] {
        let words = list(field(name));
        assert!(
            text.contains(&words),
            "docs/config.md does not have the words of {name}: UPDATE_CONFIG=1 writes {words}"
        );
    }
}
