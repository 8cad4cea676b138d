//! The text beside a file that was turned away: when, what was found, what was expected, and with which settings.

use super::Desk;
use super::original::shortened;
use crate::clock;
use crate::report::told;
use media::show;
use std::ffi::{OsStr, OsString};

/// What a reason's file is called behind the original's name.
pub const ENDING: &str = ".why.txt";
/// The last line of every reason; with it a reason that comes back into a watch folder is known.
pub const LAST_LINE: &str = "To try again, move the file back into the watch folder.";

pub fn reason_name(name: &OsStr) -> OsString {
    shortened(name, OsStr::new(ENDING))
}

pub fn reason_text(d: &Desk<'_>) -> String {
    let (house, watch, job) = (&d.porter.house, d.watch, d.job);
    let mut text = format!("{}\n\n", show::text(job.reason.as_deref().unwrap_or("turned away")));
    let mut line = |name: &str, value: String| text.push_str(&format!("{name:<10} {value}\n"));
    line("file:", show::path(&job.path));
    line("found:", format!("{} bytes, arrived {}", job.seen.size, clock::local(job.arrived)));
    let formats: Vec<&str> = media::container::FORMATS
        .iter()
        .map(|f| f.name)
        .chain(media::still::FORMATS.iter().map(|f| f.name))
        .collect();
    line(
        "expected:",
        format!("a whole file ({}) that a rule holds for and this program can decode", formats.join(", ")),
    );
    line("settings:", format!("{}, job {}", show::path(&house.file), job.id));
    line("", format!("watch \"{}\" on {}", watch.name, show::path(&watch.folder)));
    line("", format!("steady {:?}, second look after {:?}", watch.steady, watch.second_look));
    for rule in house.rules.iter().filter(|r| r.is_for(&watch.name)) {
        let makes: Vec<String> =
            rule.make.iter().map(|m| format!("{} (version {})", m.preset.name, m.preset.version)).collect();
        line("", format!("rule \"{}\": {} makes {}", rule.name, rule.when.text(), makes.join(", ")));
    }
    text.push_str("\nWhat happened\n");
    for e in d.porter.store.read(|v| v.events(job.id)).unwrap_or_default() {
        let (what, detail) = told(&e.change);
        let detail = detail.map_or(String::new(), |d| format!(": {}", show::text(&d)));
        text.push_str(&format!("  {}  {what}{detail}\n", clock::local(e.at)));
    }
    text.push_str(&format!("\n{LAST_LINE}\n"));
    text
}

#[cfg(test)]
mod tests {
    use super::super::original::{MAX_NAME, numbered_file};
    use super::*;

    #[test]
    fn long_and_odd_names_stay_within_what_a_disk_takes() {
        let name = OsString::from("鷺".repeat(85)); // 255 bytes
        for n in [numbered_file(&name, 12), reason_name(&name)] {
            assert!(n.len() <= MAX_NAME && n.to_str().is_some());
        }
        assert_eq!(numbered_file(OsStr::new("a.tar.gz"), 2), "a.tar_2.gz");
        assert_eq!(numbered_file(OsStr::new("-rf"), 1), "-rf");
        assert_eq!(reason_name(OsStr::new("a.mp4")), "a.mp4.why.txt");
    }
}
