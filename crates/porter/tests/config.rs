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
    assert_eq!(house.rules[0].make[0].to.as_deref(), Some(&["editors".to_owned()][..]));
}

#[test]
fn a_preset_version_changes_with_its_settings_only() {
    let version = |text: &str| House::parse(Path::new("/h/x.toml"), text).unwrap().presets[0].version.clone();
    assert_eq!(version(GOOD), version(&GOOD.replace("Estuary", "Other")));
    assert_ne!(version(GOOD), version(&GOOD.replace("960x540", "640x360")));
}

/// The place of [`GOOD`] is one of a network, with these lines.
fn placed(lines: &str) -> porter::error::Result<House> {
    House::parse(std::path::Path::new("/h/deft-porter.toml"), &GOOD.replace("folder = \"out\"", lines))
}

#[rstest]
#[case(
    "address = \"sftp://nas.example/in/coming/\"\nuser = \"anna\"",
    "nas.example",
    22,
    "/in/coming",
    false
)]
#[case("address = \"ftps://nas.example:2121\"", "nas.example", 2121, "", true)]
#[case("address = \"https://[::1]/a%20b\"\nprotocol = \"webdav\"", "::1", 443, "/a b", true)]
#[case(
    "address = \"http://nas.example/out/day\"\nprotocol = \"s3\"\nuser = \"k\"\npassword_env = \"S\"",
    "nas.example",
    80,
    "/out/day",
    false
)]
fn an_address_is_taken_apart(
    #[case] lines: &str,
    #[case] host: &str,
    #[case] port: u16,
    #[case] base: &str,
    #[case] tls: bool,
) {
    let house = placed(lines).unwrap();
    let remote = house.places[0].remote().unwrap();
    assert_eq!(
        (remote.host.as_str(), remote.port, remote.base.as_str(), remote.tls),
        (host, port, base, tls)
    );
    assert!(house.places[0].folder().is_none());
}

#[rstest]
#[case("", "folder = ")]
#[case("folder = \"out\"\naddress = \"sftp://nas.example\"", "one of the two")]
#[case("folder = \"out\"\nuser = \"anna\"", "this key with an address only")]
#[case("folder = \"sftp://nas.example/in\"", "address = ")]
#[case("address = \"nas.example\"", "a whole address")]
#[case("address = \"gopher://nas.example\"", "sftp://, ftp://")]
#[case("address = \"sftp://anna:x@nas.example\"", "without a login")]
#[case("address = \"sftp://nas.example\"", "the user's name")]
#[case("address = \"sftp://nas.example/a/../b\"\nuser = \"a\"", "without \"..\"")]
#[case("address = \"https://nas.example\"", "\"s3\" or \"webdav\" or \"tus\"")]
#[case("address = \"https://nas.example\"\nprotocol = \"sftp\"", "\"s3\" or")]
#[case(
    "address = \"https://nas.example/\"\nprotocol = \"s3\"\nuser = \"k\"\npassword_env = \"S\"",
    "a bucket"
)]
#[case(
    "address = \"https://nas.example/out\"\nprotocol = \"s3\"\nuser = \"k\"",
    "password_file or password_env"
)]
#[case("address = \"ftp://nas.example\"\nuser = \"k\"", "password_file or password_env")]
#[case("address = \"ftp://nas.example\"\nkey_file = \"k\"", "no such key")]
#[case("address = \"sftp://nas.example\"\nuser = \"a\"\nhost_key = \"ab:cd\"", "SHA256")]
#[case("address = \"sftp://nas.example\"\nuser = \"a\"\npace = \"fast\"", "20 MB/s")]
#[case("folder = \"out\"\nat_once = 0", "1 to 32")]
fn a_false_place_says_what_is_right(#[case] lines: &str, #[case] wanted: &str) {
    let porter::error::Error::Config { problems, .. } = placed(lines).unwrap_err() else {
        panic!("another error")
    };
    assert!(problems.iter().any(|p| p.wanted.contains(wanted)), "{problems:#?}");
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

/// What a preset can be told, and what is no value of it: by key, with words that help.
#[rstest]
#[case::codec("fit = \"960x540\"", "codec = \"h265\"", "preset[0].video.codec", "\"h264\" or \"vp9\"")]
#[case::framing("fit = \"960x540\"", "framing = \"zoom\"", "preset[0].video.framing", "\"within\"")]
#[case::half_a_frame(
    "fit = \"960x540\"",
    "fit = \"960x*\"\nframing = \"pad\"",
    "preset[0].video.fit",
    "both sides"
)]
#[case::no_frame("fit = \"960x540\"", "framing = \"crop\"", "preset[0].video.fit", "both sides")]
#[case::fill(
    "fit = \"960x540\"",
    "fit = \"960x540\"\nframing = \"pad\"\nfill = \"#12345\"",
    "preset[0].video.fill",
    "\"#203040\""
)]
#[case::fill_alone("fit = \"960x540\"", "fill = \"blur\"", "preset[0].video.fill", "framing = \"pad\"")]
#[case::rate("fit = \"960x540\"", "frame_rate = \"fast\"", "preset[0].video.frame_rate", "\"30000/1001\"")]
#[case::rate_too_high("fit = \"960x540\"", "frame_rate = \"1000\"", "preset[0].video.frame_rate", "\"240\"")]
#[case::fields("fit = \"960x540\"", "deinterlace = \"yes\"", "preset[0].video.deinterlace", "\"frames\"")]
#[case::kernel("fit = \"960x540\"", "kernel = \"soft\"", "preset[0].video.kernel", "\"lanczos\"")]
#[case::both_rates(
    "fit = \"960x540\"",
    "quantiser = 20\nbitrate = \"2 Mbit/s\"",
    "preset[0].video.bitrate",
    "one of the two"
)]
#[case::three_rates(
    "fit = \"960x540\"",
    "quality = 60\nquantiser = 20",
    "preset[0].video.quality",
    "one of the two"
)]
#[case::quality("fit = \"960x540\"", "quality = 0", "preset[0].video.quality", "1 to 100")]
#[case::passes("fit = \"960x540\"", "quality = 60\npasses = 2", "preset[0].video.passes", "'bitrate'")]
#[case::three_passes(
    "fit = \"960x540\"",
    "bitrate = \"2 Mbit/s\"\npasses = 3",
    "preset[0].video.passes",
    "1 to 2"
)]
#[case::buffer_alone("fit = \"960x540\"", "buffer = \"1 s\"", "preset[0].video.buffer", "both, or neither")]
#[case::buffer(
    "fit = \"960x540\"",
    "quality = 60\nmost_bitrate = \"2 Mbit/s\"\nbuffer = \"1 min\"",
    "preset[0].video.buffer",
    "30 s"
)]
#[case::limit(
    "fit = \"960x540\"",
    "bitrate = \"2 Mbit/s\"\nmost_bitrate = \"1 Mbit/s\"",
    "preset[0].video.most_bitrate",
    "not less than 'bitrate'"
)]
#[case::limit_of_a_quantiser(
    "fit = \"960x540\"",
    "quantiser = 20\nmost_bitrate = \"1 Mbit/s\"",
    "preset[0].video.most_bitrate",
    "stays as it is"
)]
#[case::limit_of_another(
    "fit = \"960x540\"",
    "codec = \"vp9\"\nbitrate = \"1 Mbit/s\"\nmost_bitrate = \"2 Mbit/s\"",
    "preset[0].video.most_bitrate",
    "it is for H.264"
)]
#[case::sound_codec(
    "[preset.audio]",
    "[preset.audio]\ncodec = \"ac3\"",
    "preset[0].audio.codec",
    "\"pcm24\""
)]
#[case::sound_rate("[preset.audio]", "[preset.audio]\nrate = 12345", "preset[0].audio.rate", "48000")]
#[case::opus_rate(
    "[preset.audio]",
    "[preset.audio]\ncodec = \"opus\"\nrate = 44100",
    "preset[0].audio.rate",
    "48000"
)]
#[case::channels("[preset.audio]", "[preset.audio]\nchannels = 6", "preset[0].audio.channels", "1 to 2")]
#[case::pcm_bits(
    "[preset.audio]",
    "[preset.audio]\ncodec = \"pcm16\"\nbitrate = \"128 kbit/s\"",
    "preset[0].audio.bitrate",
    "no 'bitrate'"
)]
#[case::too_loud("[preset.audio]", "[preset.audio]\nloudness = 3.0", "preset[0].audio.loudness", "LUFS")]
#[case::peak_alone(
    "[preset.audio]",
    "[preset.audio]\ntrue_peak = -2.0",
    "preset[0].audio.true_peak",
    "both, or neither"
)]
#[case::peak(
    "[preset.audio]",
    "[preset.audio]\nloudness = -16.0\ntrue_peak = 3.0",
    "preset[0].audio.true_peak",
    "dBTP"
)]
#[case::gain("[preset.audio]", "[preset.audio]\ngain = 60.0", "preset[0].audio.gain", "decibels")]
#[case::dynamics(
    "[preset.audio]",
    "[preset.audio]\ndynamics = \"loud\"",
    "preset[0].audio.dynamics",
    "\"narrow\""
)]
#[case::fade("[preset.audio]", "[preset.audio]\nfade_in = \"40 s\"", "preset[0].audio.fade_in", "30 s")]
#[case::missing(
    "[preset.audio]",
    "[preset.audio]\nif_missing = \"hum\"",
    "preset[0].audio.if_missing",
    "silence"
)]
#[case::moment(
    "[preset.video]",
    "[preset.part]\nfrom = \"soon\"\n[preset.video]",
    "preset[0].part.from",
    "a timecode"
)]
#[case::order(
    "[preset.video]",
    "[preset.part]\nfrom = \"5 s\"\nto = \"5 s\"\n[preset.video]",
    "preset[0].part.to",
    "behind 'from'"
)]
#[case::container("[preset.video]", "container = \"mxf\"\n[preset.video]", "preset[0].container", "\"webm\"")]
#[case::does_not_hold(
    "[preset.video]",
    "container = \"webm\"\n[preset.video]",
    "preset[0].container",
    "one of mp4"
)]
#[case::no_container("fit = \"960x540\"", "codec = \"vp9\"", "preset[0].container", "VP9 with Opus")]
fn a_preset_takes_no_other_values(
    #[case] from: &str,
    #[case] to: &str,
    #[case] key: &str,
    #[case] wanted: &str,
) {
    let text = GOOD.replacen(from, to, 1);
    let got = problems(&text);
    let hit = got.iter().find(|p| p.key == key);
    assert!(hit.is_some_and(|p| p.wanted.contains(wanted) && p.line > 10), "{got:#?}");
}

/// Every value that the documents name is taken, and gives the file ending it should.
#[rstest]
#[case("codec = \"vp9\"", "codec = \"opus\"", None, "webm")]
#[case("codec = \"h264\"", "codec = \"opus\"", None, "mkv")]
#[case("codec = \"h264\"", "codec = \"pcm24\"", Some("mov"), "mov")]
#[case("codec = \"vp9\"", "codec = \"flac24\"", None, "mkv")]
#[case("codec = \"vp9\"", "codec = \"pcm24\"\nchannels = 8", Some("mkv"), "mkv")]
#[case("framing = \"crop\"\nkernel = \"lanczos\"", "loudness = -23.0\ntrue_peak = -2", None, "mp4")]
#[case("framing = \"pad\"\nfill = \"#ffcc00\"", "rate = 48000", Some("mp4"), "mp4")]
#[case("framing = \"stretch\"\nframe_rate = \"24000/1001\"", "channels = 1", None, "mp4")]
#[case("deinterlace = \"fields\"\nkernel = \"bilinear\"", "", None, "mp4")]
#[case(
    "",
    "gain = -6\ndynamics = \"narrow\"\nfade_in = \"500 ms\"\nfade_out = \"2 s\"\nif_missing = \"silence\"",
    None,
    "mp4"
)]
fn values_of_the_documents_are_taken(
    #[case] video: &str,
    #[case] audio: &str,
    #[case] container: Option<&str>,
    #[case] extension: &str,
) {
    let container = container.map_or(String::new(), |c| format!("container = \"{c}\"\n"));
    let text = GOOD
        .replace("[preset.video]", &format!("{container}[preset.video]\n{video}"))
        .replace("[preset.audio]", &format!("[preset.audio]\n{audio}"));
    let house = House::parse(Path::new("/h/x.toml"), &text);
    let house = house.unwrap_or_else(|_| panic!("{:#?}", problems(&text)));
    assert_eq!(house.presets[0].parts[0].extension, extension);
}

#[test]
fn shipped_presets_are_there_by_name_and_a_house_can_have_its_own() {
    let with = |text: &str| House::parse(Path::new("/h/x.toml"), text).unwrap();
    let house = with(&GOOD.replace("preset = \"proxy\"", "preset = \"web-720\""));
    assert_eq!(house.rules[0].make[0].preset.name, "web-720");
    let own = with(&GOOD.replace("\"proxy\"", "\"web-720\""));
    assert_ne!(own.rules[0].make[0].preset.version, house.rules[0].make[0].preset.version);
    assert_eq!(own.presets.iter().filter(|p| p.name == "web-720").count(), 1);
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
        for (name, end) in [("format", '.'), ("codec", ';')] {
            let begin = format!("- `{name}`: ");
            let (before, after) = text.split_once(&begin).unwrap();
            let (_, after) = after.split_once(end).unwrap();
            text = format!("{before}{begin}{}{end}{after}", list(field(name)));
        }
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

/// A preset of its own, in a file of presets: the faults that are found in it.
fn preset_faults(body: &str) -> Vec<String> {
    let text = format!("[[preset]]\nname = \"p\"\n{body}\n");
    match porter::config::presets::parse(Path::new("/p.toml"), &text) {
        Ok(_) => Vec::new(),
        Err(porter::Error::Config { problems, .. }) => {
            problems.iter().map(|p| format!("{}: found {}, wanted {}", p.key, p.found, p.wanted)).collect()
        }
        Err(e) => vec![e.to_string()],
    }
}

#[rstest]
#[case::sheet(
    "[preset.sheet]\ncolumns = 4\nrows = 3\ntitle = \"{name} {date}\"\nfit = \"240x*\"\nformat = \"png\""
)]
#[case::sheet_by_itself("[preset.sheet]")]
#[case::frames("[preset.frames]\nevery = \"2 s\"\nquality = 70")]
#[case::all_frames("[preset.frames]\nformat = \"png\"")]
#[case::thumbnails("[preset.thumbnails]\nevery = \"5 s\"\ncolumns = 6\nrows = 5\nfit = \"120x*\"")]
#[case::preview("[preset.preview]\npieces = 3\npiece = \"500 ms\"\nrate = 12")]
#[case::waveform("[preset.waveform]\nsize = \"600x100\"\ncolour = \"#000000\"\nground = \"#ffffff\"")]
#[case::stream("[preset.stream]\nrungs = [{ fit = \"640x360\", bitrate = \"700 kbit/s\" }]\n[preset.audio]")]
#[case::burn(
    "[preset.video]\n[[preset.burn]]\ntext = \"{timecode} {stem}\"\nat = \"top-right\"\nsize = 7\ncolour = \"#ffee00\"\nshade = 0"
)]
#[case::part("[preset.part]\nfrom = \"00:00:10:00\"\nto = \"1 h\"\n[preset.audio]")]
#[case::still_at("[preset.still]\nat = \"10:00:00:12\"")]
fn new_kinds_of_output_are_taken(#[case] body: &str) {
    assert_eq!(preset_faults(body), Vec::<String>::new());
}

#[rstest]
#[case::cells("[preset.sheet]\ncolumns = 40\nrows = 40", "sheet.rows", "up to 400")]
#[case::columns("[preset.sheet]\ncolumns = 0", "sheet.columns", "1 to 40")]
#[case::title("[preset.sheet]\ntitle = \"{tide}\"", "sheet.title", "{time}")]
#[case::letters("[preset.sheet]\ntitle = \"潮\"", "sheet.title", "letters of the typeface")]
#[case::format("[preset.frames]\nformat = \"bmp\"", "frames.format", "\"jpeg\" or \"png\"")]
#[case::every("[preset.frames]\nevery = \"often\"", "frames.every", "a time such as")]
#[case::quality("[preset.thumbnails]\nquality = 0", "thumbnails.quality", "1 to 100")]
#[case::piece("[preset.preview]\npiece = \"2 min\"", "preview.piece", "30 s")]
#[case::rate("[preset.preview]\nrate = 100", "preview.rate", "1 to 50")]
#[case::wave_size("[preset.waveform]\nsize = \"600x*\"", "waveform.size", "both sides")]
#[case::wave_colour("[preset.waveform]\ncolour = \"blue\"", "waveform.colour", "#203040")]
#[case::no_rungs("[preset.stream]\nrungs = []", "stream.rungs", "1 to 12")]
#[case::segment(
    "[preset.stream]\nsegment = \"1 min\"\nrungs = [{ fit = \"*x360\", bitrate = \"1 Mbit/s\" }]",
    "stream.segment",
    "20 s"
)]
#[case::rung_rate(
    "[preset.stream]\nrungs = [{ fit = \"*x360\", bitrate = \"1 kbit/s\" }]",
    "stream.rungs[0].bitrate",
    "32 kbit/s"
)]
#[case::stream_sound(
    "[preset.stream]\nrungs = [{ fit = \"*x360\", bitrate = \"1 Mbit/s\" }]\n[preset.audio]\ncodec = \"opus\"",
    "audio.codec",
    "\"aac\""
)]
#[case::stream_container(
    "container = \"mp4\"\n[preset.stream]\nrungs = [{ fit = \"*x360\", bitrate = \"1 Mbit/s\" }]",
    "container",
    "its own files"
)]
#[case::burn_place(
    "[preset.video]\n[[preset.burn]]\ntext = \"a\"\nat = \"corner\"",
    "burn[0].at",
    "\"top-left\""
)]
#[case::burn_size("[preset.video]\n[[preset.burn]]\ntext = \"a\"\nsize = 80", "burn[0].size", "1 to 50")]
#[case::burn_shade("[preset.video]\n[[preset.burn]]\ntext = \"a\"\nshade = 2", "burn[0].shade", "0 (no box)")]
#[case::burn_field("[preset.video]\n[[preset.burn]]\ntext = \"{timecoed}\"", "burn[0].text", "{timecode}")]
#[case::burn_alone("[preset.audio]\n[[preset.burn]]\ntext = \"a\"", "burn", "[preset.video]")]
#[case::two_kinds("[preset.sheet]\n[preset.frames]", "frames", "a preset of its own")]
#[case::still_and_film("[preset.still]\n[preset.video]", "still", "a preset of its own")]
#[case::nothing("", "preset[0]", "[preset.sheet]")]
fn what_new_kinds_of_output_do_not_take_is_said(#[case] body: &str, #[case] key: &str, #[case] words: &str) {
    let faults = preset_faults(body);
    assert!(faults.iter().any(|f| f.contains(key) && f.contains(words)), "{faults:#?}");
}

#[rstest]
#[case("folder = \"out\"", true)]
#[case("folder = \"out\"\nread_back = true", true)]
#[case("folder = \"out\"\nread_back = false", false)]
fn what_was_written_is_read_back_unless_a_place_says_otherwise(#[case] lines: &str, #[case] want: bool) {
    assert_eq!(placed(lines).unwrap().places[0].read_back, want);
}

#[test]
fn nothing_is_removed_that_was_not_read_back() {
    let text = GOOD.replace("folder = \"out\"", "folder = \"out\"\nread_back = false");
    let text = text.replacen("[[watch]]", "[[watch]]\noriginal = \"remove\"", 1);
    let told = |text: &str| problems(text).into_iter().map(|p| p.found).collect::<Vec<_>>();
    assert!(told(&text)[0].contains("removes originals"), "{:?}", told(&text));
    let text = GOOD.replace("folder = \"out\"", "address = \"ftps://nas.example/in\"\nread_back = false");
    assert_eq!(told(&text), ["'read_back' beside 'address'"]);
}
