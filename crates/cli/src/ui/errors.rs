//! Errors: what, where, and what to do next.

use porter::Error;
use porter::config::Problem;

/// Exit statuses, in every command. (2: the arguments are wrong.)
pub const FAILED: u8 = 1;
/// `status`: no porter works on the house.
pub const NOT_RUNNING: u8 = 3;
/// `status`: something waits for a person to mend it.
pub const HELD: u8 = 4;
/// The same for manual pages.
pub const STATUSES: &str = "Exit status:
  0    all is well
  1    it could not be done, or something was found: turned away, held, damaged, not found
  2    the arguments are wrong
  3    status: no porter works on the house
  4    status: something waits for a person
  130  run: stopped at once by a second signal; convert: stopped
";

pub fn show(e: &anyhow::Error) {
    match e.downcast_ref::<Error>() {
        Some(Error::Config { file, text, problems }) => {
            for p in problems {
                let (file, text) = match &p.part {
                    Some(part) => (&part.file, &part.text),
                    None => (file, text),
                };
                eprintln!("{}", problem(&media::show::path(file), text, p));
            }
            let n = problems.len();
            eprintln!(
                "{n} problem{} in the configuration; nothing was started.",
                if n == 1 { "" } else { "s" }
            );
        }
        Some(house) => {
            eprintln!("error: {house}");
            if let Some(next) = what_next(house) {
                eprintln!("  {next}");
            }
        }
        None => eprintln!("error: {}", line(e)),
    }
}

/// An error with what is behind it, on one line: a reason that an error states by itself is not told once more.
pub fn line(e: &anyhow::Error) -> String {
    let mut told = String::new();
    for cause in e.chain().map(ToString::to_string) {
        let reason = cause.split(" (os error").next().unwrap_or_default();
        if told.is_empty() {
            told = cause;
        } else if !told.ends_with(reason) {
            told = format!("{told}: {cause}");
        }
    }
    told
}

/// File, line and key, the line itself with the place marked, what was found and what would be right.
fn problem(file: &str, text: &str, p: &Problem) -> String {
    let key = if p.place.is_empty() { "the file" } else { &p.place };
    let mut out = if p.line == 0 {
        format!("{file}: {key}\n")
    } else {
        format!("{file}:{}:{}: {key}\n", p.line, p.column)
    };
    if let Some(line) = text.lines().nth(p.line.wrapping_sub(1)) {
        let gutter = p.line.to_string();
        let (line, column) = window(line, p.column);
        out.push_str(&format!("  {gutter} | {}\n", media::show::text(&line)));
        let width = p.width.min(line.chars().count().saturating_sub(column - 1)).max(1);
        out.push_str(&format!(
            "  {} | {}{}\n",
            " ".repeat(gutter.len()),
            " ".repeat(column - 1),
            "^".repeat(width)
        ));
    }
    let found: String = media::show::text(&p.found).chars().take(MOST_SHOWN * 2).collect();
    out.push_str(&format!("  found:  {found}\n  wanted: {}\n", p.wanted));
    out
}

/// Longest part of a line that is shown.
const MOST_SHOWN: usize = 120;

/// The part of a line around a column, and where that column is in it.
fn window(line: &str, column: usize) -> (String, usize) {
    if line.chars().count() <= MOST_SHOWN {
        return (line.to_owned(), column);
    }
    let start = (column - 1).saturating_sub(MOST_SHOWN / 2);
    (line.chars().skip(start).take(MOST_SHOWN).collect(), column - start)
}

fn what_next(e: &Error) -> Option<&'static str> {
    match e {
        Error::Path { doing: "cannot read", path, source }
            if source.kind() == std::io::ErrorKind::NotFound =>
        {
            path.ends_with(porter::config::FILE_NAME)
                .then_some("Give the house's folder, or make a house with 'deft-porter init'.")
        }
        Error::Locked(_) => Some("'deft-porter status' shows what it is doing."),
        Error::Store { .. } => Some("Is the disk full, or the state folder not writable?"),
        Error::StateOpen { .. } => {
            Some("Make it the porter's own: chown it to the porter's user, and chmod 700 it.")
        }
        Error::StateGone(_) => Some(
            "Put it back from a backup before the next start: without it nobody knows what was delivered.",
        ),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use anyhow::Context;

    #[test]
    fn a_reason_is_told_once() {
        let gone = || std::io::Error::from_raw_os_error(2);
        let own: anyhow::Error = Error::path("cannot read", std::path::Path::new("clip.mp4"))(gone()).into();
        assert_eq!(line(&own), "cannot read clip.mp4: No such file or directory");
        let around = Err::<(), _>(gone()).context("cannot read clip.mp4").unwrap_err();
        assert_eq!(line(&around), "cannot read clip.mp4: No such file or directory (os error 2)");
    }
}
