//! What people see: tables, lines, errors. No logic.

pub mod bars;
pub mod board;
pub mod bytes_line;
pub mod errors;
pub mod events;
pub mod facts;
pub mod printer;
pub mod progress;
pub mod status;

/// A line to standard output. Whoever reads it may have gone (`| head`): that is no failure.
#[macro_export]
macro_rules! say {
    ($($t:tt)*) => {{
        use std::io::Write;
        let _ = writeln!(std::io::stdout(), $($t)*);
    }};
}

/// The same without an end of line.
#[macro_export]
macro_rules! say_part {
    ($($t:tt)*) => {{
        use std::io::Write;
        let _ = write!(std::io::stdout(), $($t)*);
    }};
}

use anyhow::Result;
use ratatui::text::Span;
use serde::Serialize;

pub fn print_json(value: &impl Serialize) -> Result<()> {
    crate::say!("{}", serde_json::to_string_pretty(value)?);
    Ok(())
}

pub use porter::page::bytes;

/// `1:02:03.5`, `2:03.5` or `3.5 s`.
pub fn seconds(s: f64) -> String {
    let tenths = (s * 10.0).round() as u64;
    let (h, m, rest) = (tenths / 36_000, tenths / 600 % 60, tenths % 600);
    match (h, m) {
        (0, 0) => format!("{}.{} s", rest / 10, rest % 10),
        (0, m) => format!("{m}:{:02}.{}", rest / 10, rest % 10),
        (h, m) => format!("{h}:{m:02}:{:02}.{}", rest / 10, rest % 10),
    }
}

/// What a line is to those who skim.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    Plain,
    Warn,
    Bad,
}

/// In colour on a terminal, unless NO_COLOR is set (no-color.org).
pub fn paint(tone: Tone, text: &str) -> String {
    use std::io::IsTerminal;
    let wanted = std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty());
    match tone {
        Tone::Warn if wanted && std::io::stdout().is_terminal() => format!("\x1b[35m{text}\x1b[0m"),
        Tone::Bad if wanted && std::io::stdout().is_terminal() => format!("\x1b[1;31m{text}\x1b[0m"),
        _ => text.to_owned(),
    }
}

/// A plain table: no frame, two blanks between columns.
pub fn table(heads: &[&str]) -> comfy_table::Table {
    let mut t = comfy_table::Table::new();
    // A line may be longer than the terminal: a name in pieces cannot be read, or copied.
    t.load_style(comfy_table::presets::NOTHING)
        .set_content_arrangement(comfy_table::ContentArrangement::Disabled);
    t.set_header(heads.iter().map(|h| h.to_string()));
    t
}

/// The least room in which a last column is folded.
const LEAST_COLUMN: usize = 24;

/// The lines of a table, each as one or more: what stands in its last column goes on below, between words, where the terminal
/// is too narrow. No word is taken apart.
pub fn lines(t: &comfy_table::Table) -> Vec<Vec<String>> {
    use std::io::IsTerminal;
    let size = ratatui::crossterm::terminal::size().ok().filter(|_| std::io::stdout().is_terminal());
    let width = size.map_or(usize::MAX, |s| usize::from(s.0));
    let text = t.to_string();
    let last = t.header().and_then(|h| h.cell_iter().last()).map(|cell| cell.content());
    let heads = text.lines().next().unwrap_or("");
    let column = last.and_then(|last| heads.rfind(&last)).unwrap_or(0);
    text.lines().map(|line| folded(line.trim_end(), column, width)).collect()
}

fn folded(line: &str, column: usize, width: usize) -> Vec<String> {
    let wide = |text: &str| Span::raw(text).width();
    if wide(line) <= width || width.saturating_sub(column) < LEAST_COLUMN {
        return vec![line.to_owned()];
    }
    let mut before = 0;
    let cut = line.char_indices().find(|(at, _)| {
        before = wide(&line[..*at]);
        before >= column
    });
    let (head, rest) = line.split_at(cut.map_or(line.len(), |c| c.0));
    let mut all = vec![head.to_owned()];
    let (mut left, mut is_new) = (width - before, true);
    for word in rest.split(' ') {
        let needed = wide(word) + usize::from(!is_new);
        if !is_new && needed > left {
            all.push(" ".repeat(column));
            (left, is_new) = (width - column, true);
        }
        if let Some(now) = all.last_mut() {
            now.push_str(if is_new { "" } else { " " });
            now.push_str(word);
        }
        left = left.saturating_sub(wide(word) + usize::from(!is_new));
        is_new = false;
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(999, "999 B")]
    #[case(1_250_000, "1.2 MB")]
    #[case(5_000_000_000, "5.0 GB")]
    fn sizes(#[case] n: u64, #[case] want: &str) {
        assert_eq!(bytes(n), want);
    }

    #[test]
    fn a_last_column_goes_on_below_between_words() {
        let line = " 8  egret.jpg  place \"archive\": it is not there: is its share mounted?";
        let all = folded(line, 15, 45);
        let want =
            [" 8  egret.jpg  place \"archive\": it is not", "               there: is its share mounted?"];
        assert_eq!(all, want);
        assert!(all.iter().all(|l| l.len() <= 45));
        assert_eq!(folded(line, 15, 80), [line]);
        // A word that has no room stays whole, and a column without room is left alone.
        let long = " 8  egret.jpg  /a/very/long/name/of/a/file/that/has/no/blank it";
        assert_eq!(folded(long, 15, 45)[0], &long[..60]);
        assert_eq!(folded(line, 15, 30), [line]);
        let signs = " 8  \u{6f6e}\u{6f6e}  place \"archive\": it is not there: is its share mounted?";
        assert_eq!(folded(signs, 10, 45)[1], "          is its share mounted?");
    }

    #[rstest]
    #[case(3.52, "3.5 s")]
    #[case(59.96, "1:00.0")]
    #[case(3723.5, "1:02:03.5")]
    fn times(#[case] s: f64, #[case] want: &str) {
        assert_eq!(seconds(s), want);
    }
}
