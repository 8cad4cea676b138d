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

    #[rstest]
    #[case(3.52, "3.5 s")]
    #[case(59.96, "1:00.0")]
    #[case(3723.5, "1:02:03.5")]
    fn times(#[case] s: f64, #[case] want: &str) {
        assert_eq!(seconds(s), want);
    }
}
