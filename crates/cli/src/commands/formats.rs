//! What this program reads and writes, from the tables that do it.

use crate::args::Formats;
use crate::ui;
use anyhow::Result;
use media::formats;
use std::process::ExitCode;

/// Widest line of a list.
const WIDTH: usize = 100;

pub fn formats(a: &Formats) -> Result<ExitCode> {
    let all = formats::all();
    if a.json {
        ui::print_json(&all)?;
        return Ok(ExitCode::SUCCESS);
    }
    let mut text = String::from("Reads\n");
    let reads = &all.reads;
    let lists = [
        ("containers", &reads.containers),
        ("moving pictures", &reads.pictures),
        ("sound", &reads.sound),
        ("stills", &reads.stills),
    ];
    lists.iter().for_each(|(what, names)| list(&mut text, what, &names.join(", ")));
    text.push_str("\nTried on\n");
    for t in all.tried.iter().filter(|t| !t.names.is_empty()) {
        list(&mut text, t.on.words(), &t.names.join(", "));
    }
    text.push_str("\nWrites\n");
    for c in &all.writes.containers {
        let parts = [&c.pictures, &c.sound].map(|names| names.join(", "));
        let parts: Vec<&str> = parts.iter().map(String::as_str).filter(|p| !p.is_empty()).collect();
        list(&mut text, c.name, &parts.join("; "));
    }
    list(&mut text, "stills", &all.writes.stills.join(", "));
    text.push_str("\nKnows by name, and says what would work instead\n");
    let known: Vec<&str> = all.known.iter().map(|k| k.name).collect();
    list(&mut text, "", &known.join(", "));
    crate::say!("{}", text.trim_end());
    Ok(ExitCode::SUCCESS)
}

/// A list behind its heading; what does not fit on a line goes on under its beginning.
fn list(text: &mut String, heading: &str, names: &str) {
    const INDENT: usize = 18;
    let mut line = format!("  {heading:<width$}", width = INDENT - 2);
    let words: Vec<&str> = names.split(", ").collect();
    for (n, word) in words.iter().enumerate() {
        let end = if n + 1 == words.len() { "" } else { "," };
        if line.chars().count() + word.chars().count() + 1 > WIDTH {
            text.push_str(line.trim_end());
            text.push('\n');
            line = " ".repeat(INDENT);
        }
        line.push_str(&format!("{word}{end} "));
    }
    text.push_str(line.trim_end());
    text.push('\n');
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lists_go_on_under_their_beginning() {
        let mut text = String::new();
        let names: Vec<String> = (0..40).map(|n| format!("name {n}")).collect();
        list(&mut text, "these", &names.join(", "));
        let lines: Vec<&str> = text.lines().collect();
        assert!(lines.len() > 2 && lines.iter().all(|l| l.chars().count() <= WIDTH), "{text}");
        assert!(lines[0].starts_with("  these           name 0, name 1,"), "{text}");
        assert!(lines[1].starts_with("                  name ") && text.ends_with("name 39\n"), "{text}");
        let joined = lines.iter().map(|l| l.trim()).collect::<Vec<_>>().join(" ");
        assert_eq!(joined.replace("these           ", ""), names.join(", "));
    }
}
