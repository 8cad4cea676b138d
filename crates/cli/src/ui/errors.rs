//! Errors: what, where, and what to do next.

use porter::Error;
use porter::config::Problem;

/// Exit status of a command that could not do its work.
pub const FAILED: u8 = 1;

pub fn show(e: &anyhow::Error) {
    match e.downcast_ref::<Error>() {
        Some(Error::Config { file, text, problems }) => {
            for p in problems {
                eprintln!("{}", problem(&file.display().to_string(), text, p));
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
        None => eprintln!("error: {e:#}"),
    }
}

/// File, line and key, the line itself with the place marked, what was found and what would be right.
fn problem(file: &str, text: &str, p: &Problem) -> String {
    let mut out =
        format!("{file}:{}:{}: {}\n", p.line, p.column, if p.key.is_empty() { "the file" } else { &p.key });
    if let Some(line) = text.lines().nth(p.line.wrapping_sub(1)) {
        let gutter = p.line.to_string();
        out.push_str(&format!("  {gutter} | {line}\n"));
        let width = p.width.min(line.chars().count().saturating_sub(p.column - 1)).max(1);
        out.push_str(&format!(
            "  {} | {}{}\n",
            " ".repeat(gutter.len()),
            " ".repeat(p.column - 1),
            "^".repeat(width)
        ));
    }
    out.push_str(&format!("  found:  {}\n  wanted: {}\n", p.found, p.wanted));
    out
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
        _ => None,
    }
}
