//! The text beside a file that was turned away: when, what was found, what was expected, and with which settings.

use super::Desk;
use super::original::shortened;
use crate::clock;
use crate::files::Dir;
use crate::report::told;
use media::show;
use std::ffi::{OsStr, OsString};
use std::io::Read;
use std::path::Path;

/// What a reason's file is called behind the original's name.
pub const ENDING: &str = ".why.txt";
/// The last line of every reason; with it a reason that comes back into a watch folder is known.
pub const LAST_LINE: &str = "To try again, move the file back into the watch folder.";

pub fn reason_name(name: &OsStr) -> OsString {
    shortened(name, OsStr::new(ENDING))
}

pub fn reason_text(d: &Desk<'_>) -> String {
    let (house, watch, job) = (d.house, d.watch, d.job);
    let mut text = format!("{}\n\n", show::text(job.reason.as_deref().unwrap_or("turned away")));
    let mut line = |name: &str, value: String| text.push_str(&format!("{name:<10} {value}\n"));
    line("file:", show::path(&job.path));
    line("found:", format!("{} bytes, arrived {}", job.seen.size, clock::local(job.arrived)));
    if let Some(expected) = expected(&job.path) {
        line("expected:", expected);
    }
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

/// A file that was turned away and is back in its watch folder: its reason, which lies alone now, is of the past. Only
/// what we wrote about this very file of this watch goes; whatever hinders it is no trouble of the job.
pub fn take_back(d: &Desk<'_>) {
    let inside = &d.job.path;
    let taken = || -> std::io::Result<()> {
        let folder = Dir::open(&d.watch.turned_away)?;
        let (dir, name) = folder.holder(inside, false)?;
        let reason = reason_name(name);
        if dir.look(name)?.is_some() || dir.look(&reason)?.is_none() {
            return Ok(());
        }
        let mut text = String::new();
        dir.read(&reason)?.take(1_000_000).read_to_string(&mut text)?;
        let of_file = text.contains(&format!("file:      {}\n", show::path(inside)));
        let of_watch = text.contains(&format!("watch \"{}\" on ", d.watch.name));
        if of_file && of_watch && text.trim_end().ends_with(LAST_LINE) {
            dir.remove(&reason)?;
        }
        Ok(())
    };
    let _ = taken();
}

/// What would have been right for a file of this kind; nothing for what is no media by its name either.
fn expected(path: &Path) -> Option<String> {
    let ending = path.extension()?.to_str()?.to_ascii_lowercase();
    let (what, formats): (&str, Vec<&str>) = match ending.as_str() {
        "jpg" | "jpeg" | "png" | "tif" | "tiff" | "webp" | "bmp" | "avif" | "exr" | "dpx" | "heic"
        | "heif" | "dng" | "nef" | "cr2" | "cr3" | "arw" => {
            ("picture", media::still::FORMATS.iter().map(|f| f.name).collect())
        }
        "wav" | "mp3" | "m4a" | "aac" | "flac" | "aif" | "aiff" | "caf" | "opus" | "ogg" | "oga" | "wma"
        | "bwf" => {
            let sound = ["WAV", "AIFF", "CAF", "FLAC", "MPEG audio", "ADTS", "Ogg", "MP4"];
            ("sound file", sound.to_vec())
        }
        "mp4" | "mov" | "m4v" | "mxf" | "mkv" | "webm" | "avi" | "mpg" | "mpeg" | "ts" | "m2ts" | "mts"
        | "vob" | "ogv" | "wmv" | "y4m" | "ivf" | "gif" | "part" => {
            let film = ["MP4", "Matroska", "MPEG transport stream", "MPEG program stream", "AVI", "Ogg"];
            ("clip", film.to_vec())
        }
        _ => return None,
    };
    Some(format!("a whole {what} ({}) that a rule holds for and this program can decode", formats.join(", ")))
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
