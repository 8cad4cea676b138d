//! Text that comes from outside (file names, tags, answers of servers), made fit to be shown.
//!
//! Such text may hold escapes that move a terminal's cursor, line breaks that forge a line of a log, marks that
//! turn the direction of writing, and signs nobody sees. Whatever is shown to people passes through here.

use std::path::Path;

/// Stands for what cannot be shown.
pub const HIDDEN: char = '\u{fffd}';

/// A path in one line.
pub fn path(path: impl AsRef<Path>) -> String {
    text(&path.as_ref().to_string_lossy())
}

/// Any text in one line.
pub fn text(text: &str) -> String {
    text.chars().map(|c| if hides(c) { HIDDEN } else { c }).collect()
}

/// True for control characters, marks of direction, and signs without a shape.
pub fn hides(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{ad}' | '\u{34f}' | '\u{61c}' | '\u{115f}' | '\u{1160}' | '\u{17b4}' | '\u{17b5}' | '\u{180e}'
            | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{3164}'
            | '\u{fe00}'..='\u{fe0f}' | '\u{feff}' | '\u{ffa0}' | '\u{fff0}'..='\u{fffb}'
            | '\u{1bca0}'..='\u{1bca3}' | '\u{1d173}'..='\u{1d17a}' | '\u{e0000}'..='\u{e0fff}')
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::ffi::OsStrExt;

    #[test]
    fn nothing_that_moves_or_hides_is_left() {
        let forged = "a.mp4\n07:00:00  job 1 done\r\x1b[2Kx\u{202e}gpj.exe\u{200b}\u{9b}31m";
        let shown = path(forged);
        assert!(shown.chars().all(|c| !hides(c)), "{shown}");
        assert_eq!(shown.lines().count(), 1);
        assert_eq!(path("day 1/鷺 \"x\".mp4"), "day 1/鷺 \"x\".mp4");
        assert_eq!(path(std::ffi::OsStr::from_bytes(b"bad\xff.mp4")), "bad\u{fffd}.mp4");
    }
}
