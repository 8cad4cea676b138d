//! What we make, played in headless Chromium, a player that is not ours: size, duration, frames decoded,
//! pixels at moments, sound.

use crate::support::{self, House, make_clip};
use media::container::Demux;
use media::container::wrap::Target;
use media::recipe::{BitRecipe, Recipe, VideoCodec, VideoRecipe};
use media::testkit::Clip;
use media::units::Ratio;
use rstest::rstest;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const PAGE: &str = r#"<!doctype html><meta charset=utf-8><body><script>
const wait = (t, e) => new Promise((ok, no) => { t.addEventListener(e, ok, {once: true});
  t.addEventListener('error', () => no(t.error ? t.error.message : 'error'), {once: true}); });
(async () => { const r = {}; try {
  const v = document.createElement('video'); v.muted = true; v.preload = 'auto'; document.body.append(v);
  const ready = wait(v, 'loadeddata'); v.src = '/media'; await ready;
  Object.assign(r, {width: v.videoWidth, height: v.videoHeight, duration: v.duration, luma: []});
  const c = document.createElement('canvas'); c.width = 64; c.height = 36; const g = c.getContext('2d', {willReadFrequently: true});
  for (let i = 0; i < 4; i++) { const s = wait(v, 'seeked'); v.currentTime = v.duration * (i + 0.5) / 4; await s;
    g.drawImage(v, 0, 0, 64, 36); const d = g.getImageData(0, 0, 64, 36).data; const cells = [];
    for (let y = 0; y < 2; y++) { let a = 0; for (let p = 0; p < 64 * 18; p++) { const k = 4 * (p + y * 64 * 18); a += (d[k] * 0.2126 + d[k+1] * 0.7152 + d[k+2] * 0.0722); } cells.push(a / (64 * 18)); }
    r.luma.push(cells); }
  const s = wait(v, 'seeked'); v.currentTime = 0; await s; const before = v.getVideoPlaybackQuality().totalVideoFrames;
  const end = wait(v, 'ended'); v.playbackRate = v.duration > 20 ? 4 : 1; await v.play(); await end; r.frames = v.getVideoPlaybackQuality().totalVideoFrames - before;
  const b = await (await fetch('/media')).arrayBuffer();
  try { const a = await new OfflineAudioContext(1, 1, 48000).decodeAudioData(b);
    r.sound = {seconds: a.duration, channels: a.numberOfChannels}; } catch (e) { r.no_sound = String(e); }
} catch (e) { r.error = String(e); } await fetch('/said', {method: 'POST', body: JSON.stringify(r)}); })();
</script>"#;

/// `None`, with a word, where there is no Chromium; never in .ci/run.
fn chromium() -> Option<&'static str> {
    let there = Command::new("chromium").arg("--version").output().is_ok();
    if !there {
        support::skipped("chromium is not installed");
    }
    there.then_some("chromium")
}

fn play(file: &Path) -> Option<serde_json::Value> {
    ask(PAGE, &std::fs::read(file).unwrap())
}

/// What a page says, which finds these bytes at /media.
fn ask(page: &str, media: &[u8]) -> Option<serde_json::Value> {
    ask_of(page, &|path| (path == "/media").then(|| ("video/mp4", media.to_vec())))
}

/// A kind of content and the bytes, for a path.
type Found = Option<(&'static str, Vec<u8>)>;

/// What a page says that finds files under their paths.
fn ask_of(page: &str, files: &dyn Fn(&str) -> Found) -> Option<serde_json::Value> {
    let program = chromium()?;
    let server = TcpListener::bind("127.0.0.1:0").unwrap();
    server.set_nonblocking(true).unwrap();
    let profile = tempfile::tempdir().unwrap();
    let mut browser = Command::new(program)
        .args([
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--mute-audio",
        ])
        .args(["--disable-background-networking", "--disable-component-update", "--disable-sync"])
        .args(["--autoplay-policy=no-user-gesture-required", "--disable-dev-shm-usage"])
        .arg(format!("--user-data-dir={}", profile.path().display()))
        .arg(format!("http://{}/", server.local_addr().unwrap()))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let start = Instant::now();
    let said = loop {
        assert!(start.elapsed() < Duration::from_secs(90), "Chromium said nothing");
        match server.accept() {
            Ok((stream, _)) => {
                if let Some(said) = answer(stream, page, files) {
                    break said;
                }
            }
            Err(_) => std::thread::sleep(Duration::from_millis(10)),
        }
    };
    browser.kill().unwrap();
    browser.wait().unwrap();
    Some(said)
}

/// One request; the page's report ends the play.
fn answer(stream: TcpStream, page: &str, files: &dyn Fn(&str) -> Found) -> Option<serde_json::Value> {
    stream.set_nonblocking(false).unwrap();
    let mut reader = BufReader::new(stream);
    let (mut first, mut length, mut range) = (String::new(), 0, None);
    reader.read_line(&mut first).ok()?;
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).ok()?;
        let line = line.trim().to_ascii_lowercase();
        if line.is_empty() {
            break;
        }
        if let Some(n) = line.strip_prefix("content-length: ") {
            length = n.parse().unwrap();
        }
        if let Some(r) = line.strip_prefix("range: bytes=") {
            let (from, to) = r.split_once('-').unwrap();
            range = Some((from.parse::<usize>().unwrap(), to.parse::<usize>().ok()));
        }
    }
    let mut body = vec![0; length];
    reader.read_exact(&mut body).ok()?;
    let mut out = reader.into_inner();
    let mut send = |status: &str, kind: &str, extra: &str, body: &[u8]| {
        let head = format!(
            "HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {}\r\nConnection: close\r\n{extra}\r\n",
            body.len()
        );
        let _ = out.write_all(head.as_bytes()).and_then(|()| out.write_all(body));
    };
    if first.starts_with("POST /said") {
        send("204 No Content", "text/plain", "", b"");
        return serde_json::from_slice(&body).ok();
    }
    let path = first.split(' ').nth(1).unwrap_or("/");
    match (files(path), range) {
        (Some((kind, media)), Some((from, to))) => {
            let to = to.unwrap_or(usize::MAX).min(media.len() - 1);
            let extra =
                format!("Accept-Ranges: bytes\r\nContent-Range: bytes {from}-{to}/{}\r\n", media.len());
            send("206 Partial Content", kind, &extra, &media[from..=to]);
        }
        (Some((kind, media)), None) => send("200 OK", kind, "Accept-Ranges: bytes\r\n", &media),
        (None, _) => send("200 OK", "text/html", "", page.as_bytes()),
    }
    None
}

fn real(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/real").join(name)
}

/// Compares what Chromium saw with the source's facts. The player may miss a few frames at its start.
fn check(house: &House, source: &str, proxy: &str) {
    let (facts, out) = (house.facts(source), house.facts(proxy));
    let Some(seen) = play(&house.path(proxy)) else { return };
    assert!(seen["error"].is_null(), "{seen}");
    let (a, b) = (facts.picture().unwrap(), out.picture().unwrap());
    assert_eq!(
        (seen["width"].as_u64().unwrap() as u32, seen["height"].as_u64().unwrap() as u32),
        (b.width, b.height)
    );
    let seconds = facts.duration.unwrap().seconds;
    assert!((seen["duration"].as_f64().unwrap() - seconds).abs() < 0.045, "{seen} {seconds}");
    let (frames, want) = (seen["frames"].as_u64().unwrap(), a.frames.unwrap());
    assert!(frames <= want + 1 && frames + 8 >= want, "{frames} of {want} frames");
    if let Some(sound) = facts.audio.first() {
        let heard = seen["sound"]["seconds"].as_f64().unwrap_or_else(|| panic!("{seen}"));
        assert!(
            (heard - (sound.start.seconds + sound.duration.seconds)).abs() < 0.06,
            "{heard} {:?}",
            sound.duration
        );
    }
}

#[rstest]
#[case::slow(Ratio { num: 24_000, den: 1001 }, 0)]
#[case::fast(Ratio { num: 50, den: 1 }, 0)]
#[case::turned(Ratio { num: 25, den: 1 }, 90)]
fn our_proxies_play_in_chromium(#[case] rate: Ratio, #[case] rotation: u16) {
    let house = House::new();
    house.drop_in("a.mp4", &make_clip(&Clip { rate, rotation, frames: 60, ..Clip::default() }));
    assert!(house.run_once().status.success());
    check(&house, "done/a.mp4", "out/a_proxy.mp4");
    let Some(seen) = play(&house.path("out/a_proxy.mp4")).filter(|_| rotation == 0) else { return };
    for cells in seen["luma"].as_array().unwrap() {
        // Sky over water, as drawn.
        let (sky, water) = (cells[0].as_f64().unwrap(), cells[1].as_f64().unwrap());
        assert!(
            (150.0..230.0).contains(&sky) && (70.0..150.0).contains(&water) && sky > water + 30.0,
            "{sky} {water}"
        );
    }
}

#[rstest]
#[case("same-clip/demo.mp4")]
#[case("same-clip/demo.mov")]
#[case("same-clip/demo.webm")]
#[case("timecode/linear_speed_effects_aaf.mov")]
#[case("timecode/misc_speed_effects_aaf.mov")]
fn proxies_of_real_clips_play_in_chromium(#[case] name: &str) {
    let source = real(name);
    let house = House::with("original = \"leave\"", "");
    let target = house.path("in").join(source.file_name().unwrap());
    std::fs::copy(&source, &target).unwrap();
    let out = house.run_once();
    assert!(out.status.success(), "{}", support::text(&out));
    let stem = source.file_stem().unwrap().to_str().unwrap();
    check(
        &house,
        &format!("in/{}", target.file_name().unwrap().to_str().unwrap()),
        &format!("out/{stem}_proxy.mp4"),
    );
}

const CAPTIONS: &str = r#"<!doctype html><meta charset=utf-8><body><video><track id=t kind=captions srclang=en src="/media"></video><script>
const t = document.getElementById('t'); t.track.mode = 'hidden';
const say = r => fetch('/said', {method: 'POST', body: JSON.stringify(r)});
t.addEventListener('error', () => say({error: 'not a caption file'}), {once: true});
t.addEventListener('load', () => say({cues: [...t.track.cues].map(c => [c.startTime, c.endTime, c.text])}), {once: true});
</script>"#;

/// The browser reads WebVTT as we wrote it, times and marks of words included.
/// What presets make of one clip, in one pass: size, length, every frame, pixels, sound.
#[rstest]
#[case("web-open-720", "webm", (320, 180))]
#[case("vertical-1080", "mp4", (1080, 1920))]
#[case("square-1080", "mp4", (1080, 1080))]
#[case("phone-4x3", "mp4", (640, 480))]
#[case("sound-master", "wav", (0, 0))]
#[case("speech", "opus", (0, 0))]
#[case("review", "mp4", (320, 180))]
#[case("podcast-mp3", "mp3", (0, 0))]
#[case("sound-archive", "flac", (0, 0))]
fn presets_play_in_chromium(#[case] preset: &str, #[case] extension: &str, #[case] size: (u64, u64)) {
    let desk = tempfile::tempdir().unwrap();
    std::fs::write(desk.path().join("clip.mp4"), make_clip(&Clip { frames: 75, ..Clip::default() })).unwrap();
    let mut c = Command::new(support::PROGRAM);
    c.args(["convert", "clip.mp4", "--preset", preset, "--to", "."]).current_dir(desk.path());
    let out = c.output().unwrap();
    assert!(out.status.success(), "{}", support::text(&out));
    let made = desk.path().join(format!("clip_{preset}.{extension}"));
    let (Some(said), Some(source)) = (play(&made), play(&desk.path().join("clip.mp4"))) else { return };
    assert!(said["error"].is_null(), "{preset}: {said}");
    assert_eq!((said["width"].as_u64(), said["height"].as_u64()), (Some(size.0), Some(size.1)), "{said}");
    let near = |a: &serde_json::Value, b: f64, by: f64| (a.as_f64().unwrap_or(-9.0) - b).abs() <= by;
    // Opus in Ogg: this player counts its priming into the duration it states, and not into what it decodes.
    assert!(near(&said["duration"], 3.0, 0.012), "{preset}: {said}");
    assert!(near(&said["sound"]["seconds"], 3.0, 0.03), "{preset}: {said}");
    if size.0 > 0 {
        // The player may miss a few at its start.
        assert!(said["frames"].as_u64().unwrap().abs_diff(75) <= 8, "{preset}: {said}");
    }
    // The same picture in the same form: the same brightness at the same moments.
    if preset == "web-open-720" {
        for n in 0..4 {
            for half in 0..2 {
                let want = source["luma"][n][half].as_f64().unwrap();
                assert!(near(&said["luma"][n][half], want, 2.5), "{said} for {source}");
            }
        }
    }
}

/// A TIFF of 64x64 pixels: red, half seen through, and on the right not there at all.
fn half_seen() -> Vec<u8> {
    let entries: [(u16, u16, u32, u32); 11] = [
        (256, 3, 1, 64),
        (257, 3, 1, 64),
        (258, 3, 4, 146),
        (259, 3, 1, 1),
        (262, 3, 1, 2),
        (273, 4, 1, 154),
        (277, 3, 1, 4),
        (278, 3, 1, 64),
        (279, 4, 1, 64 * 64 * 4),
        (284, 3, 1, 1),
        (338, 3, 1, 2),
    ];
    let mut out = b"II*\0\x08\0\0\0".to_vec();
    out.extend((entries.len() as u16).to_le_bytes());
    for (tag, kind, count, value) in entries {
        out.extend([tag.to_le_bytes(), kind.to_le_bytes()].concat());
        out.extend([count.to_le_bytes(), value.to_le_bytes()].concat());
    }
    out.extend([0; 4]);
    out.extend([8u16; 4].iter().flat_map(|b| b.to_le_bytes()));
    let pixel = |x: u32| if x < 32 { [200, 30, 30, 128] } else { [0, 0, 0, 0] };
    out.extend((0..64).flat_map(|_| (0..64).flat_map(pixel)));
    out
}

/// What is behind a film that can be seen through is seen in a page, as much as it should be.
#[test]
fn a_film_that_can_be_seen_through_lies_over_a_page() {
    let frame = |_| -> media::Result<Box<dyn media::container::Source>> {
        Ok(Box::new(std::io::Cursor::new(half_seen())))
    };
    let rate = Ratio { num: 25, den: 1 };
    let mut demux = media::still::run::Run::with_numbers(Box::new(frame), (1..=50).collect(), rate).unwrap();
    let video =
        VideoRecipe { codec: VideoCodec::Vp9, rate: BitRecipe::Quantiser(16), ..VideoRecipe::default() };
    let plan =
        media::plan::plan(demux.tracks(), &[Recipe { video: Some(video), ..Recipe::default() }]).unwrap();
    let desk = tempfile::tempdir().unwrap();
    let path = desk.path().join("title.webm");
    let file = std::fs::File::options().read(true).write(true).create_new(true).open(&path).unwrap();
    let control = media::run::Control::new(1);
    let made = media::run::run(&mut demux, &plan, vec![Target::File(Box::new(file))], &control).unwrap();
    assert!(made.into_iter().all(|m| m.is_ok()));
    let page =
        PAGE.replace("{willReadFrequently: true});", "{willReadFrequently: true}); g.fillStyle = '#00ff00';");
    let page = page.replace("g.drawImage(v", "g.fillRect(0, 0, 64, 36); g.drawImage(v").replace(
        "const cells = [];",
        "const cells = []; r.seen = [...g.getImageData(8, 18, 1, 1).data, ...g.getImageData(56, 18, 1, 1).data];",
    );
    let Some(said) = ask(&page, &std::fs::read(&path).unwrap()) else { return };
    assert!(
        said["error"].is_null() && (said["width"].as_u64(), said["height"].as_u64()) == (Some(64), Some(64)),
        "{said}"
    );
    let seen: Vec<i64> = said["seen"].as_array().unwrap().iter().map(|v| v.as_i64().unwrap()).collect();
    // Half of the red, and half of the green behind it; and on the right nothing but green.
    let want = [100, 142, 15, 255, 0, 255, 0, 255];
    assert!(seen.iter().zip(want).all(|(a, b)| (a - b).abs() < 8), "{said}");
}

/// The player finds its way from the list of sizes to the pictures and the sound by itself.
#[test]
fn a_stream_plays_in_chromium() {
    let desk = tempfile::tempdir().unwrap();
    let clip = Clip { frames: 300, width: 640, height: 360, ..Clip::default() };
    std::fs::write(desk.path().join("clip.mp4"), make_clip(&clip)).unwrap();
    let mut c = Command::new(support::PROGRAM);
    c.args(["convert", "clip.mp4", "--preset", "stream", "--to", "."]).current_dir(desk.path());
    let out = c.output().unwrap();
    assert!(out.status.success(), "{}", support::text(&out));
    let folder = desk.path().join("clip_stream");
    let asked = std::sync::Mutex::new(Vec::new());
    let files = |path: &str| {
        let name = path.strip_prefix('/').filter(|n| n.contains('.'))?;
        asked.lock().unwrap().push(name.to_owned());
        let kind = if name.ends_with("m3u8") { "application/vnd.apple.mpegurl" } else { "video/mp4" };
        Some((kind, std::fs::read(folder.join(name)).ok()?))
    };
    let page =
        PAGE.replace("v.src = '/media'", "v.src = '/master.m3u8'").replace("'/media'", "'/sound-1.mp4'");
    let Some(said) = ask_of(&page, &files) else { return };
    assert!(said["error"].is_null(), "{said}");
    assert_eq!((said["width"].as_u64(), said["height"].as_u64()), (Some(640), Some(360)), "{said}");
    let near = |a: &serde_json::Value, b: f64, by: f64| (a.as_f64().unwrap_or(-9.0) - b).abs() <= by;
    assert!(near(&said["duration"], 12.0, 0.06) && near(&said["sound"]["seconds"], 12.0, 0.03), "{said}");
    assert!(said["frames"].as_u64().unwrap().abs_diff(300) <= 8, "{said}");
    let asked = asked.into_inner().unwrap();
    assert!(["video-360.mp4", "sound-1.mp4"].iter().all(|n| asked.contains(&(*n).to_owned())), "{asked:?}");
}

#[test]
fn captions_are_read_by_a_browser() {
    use words::transcript::{Ms, Word};
    let words: Vec<Word> =
        "Salt & mud, <they> said. The tide comes in twice a day, and with it come the birds."
            .split(' ')
            .enumerate()
            .map(|(i, w)| Word {
                text: w.into(),
                start_ms: Ms(i as i64 * 400),
                end_ms: Ms(i as i64 * 400 + 380),
                ..Word::default()
            })
            .collect();
    let cues = words::captions::shape(&words, &words::captions::Style::default());
    let Some(said) = ask(CAPTIONS, words::write::vtt(&cues, true).as_bytes()) else { return };
    let got = said["cues"].as_array().unwrap_or_else(|| panic!("{said}"));
    assert_eq!(got.len(), cues.len());
    for (got, want) in got.iter().zip(&cues) {
        assert_eq!(got[0].as_f64(), Some(want.start.seconds()));
        assert_eq!(got[1].as_f64(), Some(want.end.seconds()));
        let text = got[2].as_str().unwrap();
        assert_eq!(text.matches("<00:").count(), want.words.len() - 1, "{text}");
    }
}

/// Said behind the reading page: it is used as a reader uses it.
const READER: &str = r#"<script>
(async () => { const r = {}; try {
  const player = document.getElementById('player'), words = [...document.querySelectorAll('#words span')];
  const wait = (t, e) => new Promise(ok => t.addEventListener(e, ok, {once: true}));
  player.muted = true;
  if (player.readyState < 1) await wait(player, 'loadedmetadata');
  let done = wait(player, 'seeked'); words[3].click(); await done; r.at = player.currentTime;
  player.pause(); await new Promise(ok => setTimeout(ok, 50));
  r.now = [...document.querySelectorAll('.now')].map(w => w.textContent);
  done = wait(player, 'seeked'); player.currentTime = 1.45; await done; await new Promise(ok => setTimeout(ok, 50));
  r.later = [...document.querySelectorAll('.now')].map(w => w.textContent);
  player.currentTime = 0; await player.play(); await new Promise(ok => setTimeout(ok, 900));
  player.pause(); r.playing = [player.currentTime, document.querySelector('.now')?.textContent];
  const box = document.getElementById('search'); box.value = 'The TIDE'; box.dispatchEvent(new Event('input'));
  r.found = [document.querySelectorAll('.found').length, document.getElementById('count').textContent];
  document.getElementById('next').click(); r.next = document.getElementById('count').textContent;
  box.value = 'heron'; box.dispatchEvent(new Event('input')); r.none = document.getElementById('count').textContent;
  r.copied = window.transcript.withTimes();
} catch (e) { r.error = String(e); } await fetch('/said', {method: 'POST', body: JSON.stringify(r)}); })();
</script></body>"#;

const SAID: &str = "The tide comes in. Then the tide, they say, goes out again.";

/// The reading page of a clip in which this is said, a word every fifth of a second.
fn reading_page() -> String {
    use words::page::Player;
    use words::transcript::{Ms, Segment, Source, Transcript, Word};
    let words: Vec<Word> = SAID
        .split(' ')
        .enumerate()
        .map(|(i, w)| Word {
            text: w.into(),
            start_ms: Ms(i as i64 * 200),
            end_ms: Ms(i as i64 * 200 + 180),
            ..Word::default()
        })
        .collect();
    let t = Transcript {
        source: Source { name: "tide.mp4".into(), duration_ms: Ms(3000), timecode: None },
        segments: Segment::of(words, false).into_iter().collect(),
        ..Transcript::default()
    };
    let clip = make_clip(&Clip { frames: 75, ..Clip::default() });
    words::page::html(&t, Some(&Player::inside(&clip, "video/mp4")))
}

/// On paper there are the words with their times, and nothing to click.
#[test]
fn the_reading_page_prints_as_a_text() {
    let Some(program) = chromium() else { return };
    let dir = tempfile::tempdir().unwrap();
    let (page, paper) = (dir.path().join("page.html"), dir.path().join("page.pdf"));
    std::fs::write(&page, reading_page()).unwrap();
    let out = Command::new(program)
        .args([
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-dev-shm-usage",
            "--no-pdf-header-footer",
        ])
        .arg(format!("--user-data-dir={}", dir.path().join("profile").display()))
        .arg(format!("--print-to-pdf={}", paper.display()))
        .arg(format!("file://{}", page.display()))
        .output()
        .unwrap();
    assert!(paper.exists(), "{}", support::text(&out));
    let script = "import sys, pypdf; r = pypdf.PdfReader(sys.argv[1]); \
        print(len(r.pages), ' '.join(' '.join(p.extract_text() for p in r.pages).split()))";
    let Some(text) = support::python(script, &[&paper]) else { return };
    assert!(text.starts_with("1 tide.mp4") && text.contains(SAID) && text.contains("00:00:00"), "{text}");
    assert!(!text.contains("Copy") && !text.contains("Search"), "{text}");
}

#[test]
fn the_reading_page_goes_to_words_marks_them_and_searches() {
    let Some(said) = ask(&reading_page().replace("</body>", READER), b"") else { return };
    assert!(said["error"].is_null(), "{said}");
    // It plays from there on: how long, nobody knows of a busy machine; not longer than the word.
    assert!((0.55..0.78).contains(&said["at"].as_f64().unwrap()), "{said}");
    assert_eq!(
        (said["now"].to_string(), said["later"].to_string()),
        ("[\"in.\"]".into(), "[\"they\"]".into())
    );
    // While it plays, the word at the player's moment is marked.
    let (at, word) = (said["playing"][0].as_f64().unwrap(), said["playing"][1].as_str().unwrap());
    let index = SAID.split(' ').position(|w| w == word).unwrap();
    assert!(at > 0.2 && (at - index as f64 * 0.2).abs() < 0.3, "{said}");
    assert_eq!(said["found"].to_string(), "[4,\"1 of 2\"]");
    assert_eq!((said["next"].as_str(), said["none"].as_str()), (Some("2 of 2"), Some("not found")));
    assert_eq!(said["copied"], format!("00:00:00  {SAID}"));
}
