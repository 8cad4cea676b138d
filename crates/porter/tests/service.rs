//! The watch service on real folders.

use porter::config::House;
use porter::files::Dir;
use porter::watch::Why;
use porter::watch::service::{News, WatchThread};
use rstest::rstest;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

const CONFIG: &str = r#"
[house]
name = "Estuary Hours"
[[watch]]
name = "cards"
folder = "in"
subfolders = SUB
steady = "300 ms"
look_every = "EVERY"
original = "leave"
turned_away = "away"
[[place]]
name = "out"
folder = "out"
[[preset]]
name = "p"
[preset.audio]
[[rule]]
name = "r"
make = [{ preset = "p", to = ["out"] }]
"#;

struct Desk {
    dir: tempfile::TempDir,
    news: Receiver<News>,
    thread: WatchThread,
}

impl Desk {
    fn start(look_every: &str, subfolders: bool) -> Desk {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir(dir.path().join("in")).unwrap();
        let text = CONFIG.replace("EVERY", look_every).replace("SUB", &subfolders.to_string());
        let house = House::parse(&dir.path().join("deft-porter.toml"), &text).unwrap();
        let (tell, news) = channel();
        let open = |w: &porter::config::Watch| {
            Dir::open(&w.folder).map_err(|e| format!("{}: {e}", w.folder.display()))
        };
        let thread = WatchThread::start(0, house.watches[0].clone(), open, move |n| drop(tell.send(n)));
        let desk = Desk { dir, news, thread };
        desk.wait("the first look", |n| matches!(n, News::Quiet { .. }));
        desk
    }

    fn path(&self, inside: &str) -> PathBuf {
        self.dir.path().join("in").join(inside)
    }

    fn write(&self, inside: &str, bytes: &[u8]) {
        let path = self.path(inside);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, bytes).unwrap();
    }

    fn wait(&self, what: &str, mut good: impl FnMut(&News) -> bool) -> News {
        let start = Instant::now();
        while start.elapsed() < Duration::from_secs(20) {
            if let Ok(n) = self.news.recv_timeout(Duration::from_millis(100))
                && good(&n)
            {
                return n;
            }
        }
        panic!("no news of {what}");
    }

    fn arrival(&self) -> PathBuf {
        match self.wait("an arrival", |n| matches!(n, News::Arrived(_))) {
            News::Arrived(a) => a.path,
            _ => unreachable!(),
        }
    }
}

impl Drop for Desk {
    fn drop(&mut self) {
        self.thread.stop();
    }
}

/// With events a file is found long before the next look; without them the look finds it.
#[rstest]
#[case::by_events("1 h")]
#[case::by_looking("200 ms")]
fn a_file_is_found_once(#[case] look_every: &str) {
    let desk = Desk::start(look_every, true);
    desk.write("a.mp4", b"12345");
    assert_eq!(desk.arrival(), Path::new("a.mp4"));
    desk.wait("quiet", |n| {
        assert!(!matches!(n, News::Arrived(_)), "twice");
        matches!(n, News::Quiet { .. })
    });
}

#[test]
fn folders_inside_are_followed_as_they_come() {
    let desk = Desk::start("400 ms", true);
    desk.write("day 1/card A/a.mp4", b"12345");
    assert_eq!(desk.arrival(), Path::new("day 1/card A/a.mp4"));
}

#[test]
fn without_subfolders_only_the_top_counts() {
    let desk = Desk::start("200 ms", false);
    desk.write("day 1/a.mp4", b"12345");
    desk.write("b.mp4", b"12345");
    assert_eq!(desk.arrival(), Path::new("b.mp4"));
    desk.wait("quiet", |n| {
        assert!(!matches!(n, News::Arrived(_)));
        matches!(n, News::Quiet { .. })
    });
}

#[test]
fn a_file_that_changes_after_it_arrived_arrives_again() {
    let desk = Desk::start("200 ms", true);
    desk.write("a.mp4", b"12345");
    desk.arrival();
    desk.write("a.mp4", b"123456789");
    assert_eq!(desk.arrival(), Path::new("a.mp4"));
}

#[test]
fn what_waits_is_told_with_its_reason() {
    let desk = Desk::start("200 ms", true);
    desk.write("empty.mp4", b"");
    desk.wait(
        "the empty file",
        |n| matches!(n, News::Waiting { files, .. } if files.iter().any(|f| f.why == Why::Empty)),
    );
    std::fs::remove_file(desk.path("empty.mp4")).unwrap();
    desk.wait("nothing waiting", |n| matches!(n, News::Waiting { files, .. } if files.is_empty()));
}

#[test]
fn a_folder_that_goes_away_is_told_once_and_followed_again() {
    let desk = Desk::start("200 ms", true);
    let (here, away) = (desk.dir.path().join("in"), desk.dir.path().join("gone"));
    std::fs::rename(&here, &away).unwrap();
    desk.wait("the loss", |n| matches!(n, News::Lost { why, .. } if why.contains("/in")));
    std::fs::create_dir(&here).unwrap();
    desk.wait("the return", |n| {
        assert!(!matches!(n, News::Lost { .. }), "told twice");
        matches!(n, News::Back { .. })
    });
    desk.write("a.mp4", b"12345");
    assert_eq!(desk.arrival(), Path::new("a.mp4"));
}
