//! Children come from a process that waits: it may end at any time, and is another one after a while.

use crate::support::{self, House, children_of, family_of, is_alive, mothers_of};
use media::still::{self, StillCodec};
use media::testkit::Clip;
use rstest::rstest;
use std::time::{Duration, Instant};

const STILLS: &str = r#"
[[preset]]
name = "small"
[preset.still]
fit = "16x16"

[[rule]]
name = "pictures"
when = 'kind == "image"'
make = [{ preset = "small", to = ["editors"] }]
"#;

fn picture(n: u32) -> Vec<u8> {
    let mut out = std::io::Cursor::new(Vec::new());
    still::convert(&still::Decoded::new_rgb8(40, 30), (0, 0), StillCodec::Jpeg(90), &mut out).unwrap();
    let mut bytes = out.into_inner();
    bytes.extend(n.to_le_bytes());
    bytes
}

/// A house into which so many pictures came.
fn with_pictures(many: u32) -> House {
    let house = House::new();
    house.append(STILLS);
    (0..many).for_each(|n| house.drop_in(format!("{n:03}.jpg"), &picture(n)));
    house
}

fn delivered(house: &House) -> usize {
    house.list("out").iter().filter(|n| n.ends_with(".jpg")).count()
}

fn patiently(what: &str, mut is_so: impl FnMut() -> bool) {
    let start = Instant::now();
    while !is_so() {
        assert!(start.elapsed() < Duration::from_secs(60), "{what}");
        std::thread::sleep(Duration::from_millis(5));
    }
}

#[test]
fn one_that_is_killed_is_replaced_and_nothing_is_lost() {
    let house = with_pictures(60);
    let running = house.start();
    let mut killed = Vec::new();
    // Three times, at any moment of the work.
    for after in [1, 15, 30] {
        patiently("the work does not go on", || delivered(&house) >= after);
        let mother = *mothers_of(running.pid()).last().expect("children are borne");
        rustix::process::kill_process(
            rustix::process::Pid::from_raw(mother as i32).unwrap(),
            rustix::process::Signal::KILL,
        )
        .unwrap();
        killed.push(mother);
    }
    patiently("all are delivered", || delivered(&house) == 60 && house.list("done").len() >= 60);
    let now = mothers_of(running.pid());
    assert!(now.iter().filter(|m| is_alive(**m)).all(|m| !killed.contains(m)), "{now:?} {killed:?}");
    assert_eq!(house.list("away"), [""; 0]);
    let family = family_of(running.pid());
    running.interrupt();
    patiently("what bears children outlives the porter", || !family.iter().any(|p| is_alive(*p)));
}

/// Where a rule can put what it looked at in front of others, looks go ahead: a child looks and another one makes.
#[rstest]
#[case("", true)]
#[case("priority = 3\n", false)]
fn a_still_has_one_child_and_after_two_hundred_their_mother_is_another(
    #[case] more: &str,
    #[case] one: bool,
) {
    let house = with_pictures(120);
    house.append(more);
    let running = house.start();
    patiently("the work does not begin", || delivered(&house) > 0);
    let first = mothers_of(running.pid());
    patiently("all are delivered", || delivered(&house) == 120 && house.list("done").len() >= 120);
    if one {
        assert!(first.iter().all(|p| is_alive(*p)), "a picture had more than one child");
    } else {
        patiently("the first one goes", || !first.iter().any(|p| is_alive(*p)));
    }
    patiently("none stays for long", || children_of(running.pid()).is_empty());
    assert_eq!(mothers_of(running.pid()).iter().filter(|m| is_alive(**m)).count(), 1);
    assert_eq!(children_of(running.pid()), [0u32; 0]);
    running.kill();
}

#[test]
fn a_child_that_breaks_is_told_with_its_signal() {
    let house = House::new();
    let clip = Clip { frames: 1500, width: 640, height: 360, ..Clip::default() };
    house.drop_in("long.mp4", &support::make_clip(&clip));
    let running = house.start();
    let mut last = 0;
    for _ in 0..2 {
        let mut child = 0;
        patiently("it is made", || {
            child = children_of(running.pid()).first().copied().unwrap_or_default();
            let goes_on = |s: serde_json::Value| s["open"][0]["progress"]["done"].as_u64() > Some(0);
            child != 0 && child != last && goes_on(house.status()) && is_alive(child)
        });
        let pid = rustix::process::Pid::from_raw(child as i32).unwrap();
        rustix::process::kill_process(pid, rustix::process::Signal::ABORT).unwrap();
        patiently("the child is gone", || !is_alive(child));
        last = child;
    }
    let why = || house.list("away").into_iter().find(|n| n.ends_with(".why.txt"));
    patiently("it is turned away, with a reason", || why().is_some());
    let why = why().unwrap();
    let text = std::fs::read_to_string(house.path("away").join(why)).unwrap();
    assert!(text.contains("signal 6 (abort)"), "{text}");
    running.kill();
}
