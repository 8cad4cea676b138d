//! `captions`: convert, move and check caption files.

use crate::args::Captions;
use crate::ui;
use anyhow::{Context, Result, bail};
use serde::Serialize;
use std::io::Write;
use std::path::Path;
use std::process::ExitCode;
use words::captions::{Offence, Style, change_rate, check, read, shift};
use words::transcript::Ms;
use words::write::{Form, captions as written};

#[derive(Serialize)]
struct Told {
    format: &'static str,
    cues: usize,
    notes: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    offences: Option<Vec<Offence>>,
}

pub fn captions(a: &Captions) -> Result<ExitCode> {
    let style = Style::from(&a.style);
    style.validate()?;
    let bytes =
        std::fs::read(&a.file).with_context(|| format!("cannot read {}", media::show::path(&a.file)))?;
    let read::Read { format, mut cues, mut notes } =
        read::read(&bytes).with_context(|| media::show::path(&a.file))?;
    if let (Some(from), Some(to)) = (a.from_rate, a.to_rate) {
        change_rate(&mut cues, from, to);
    }
    if !(-1e7..=1e7).contains(&a.shift) {
        bail!("--shift {}: up to 10,000,000 seconds either way", a.shift);
    }
    let lost = shift(&mut cues, Ms::from_seconds(a.shift));
    if lost > 0 {
        notes.push(format!("{lost} cues would end before the start and were left out"));
    }
    if let Some(to) = &a.to {
        let form = to.extension().and_then(|e| e.to_str()).and_then(|e| e.parse::<Form>().ok());
        let Some(text) = form.and_then(|f| written(&cues, f)) else {
            bail!("{}: captions are written as .srt, .vtt or .ttml", media::show::path(to));
        };
        save(to, &text)?;
    }
    let offences = a.check.then(|| check(&cues, &style));
    let bad = offences.as_ref().is_some_and(|o| !o.is_empty());
    if a.json {
        ui::print_json(&Told { format, cues: cues.len(), notes, offences })?;
        return Ok(ExitCode::from(u8::from(bad)));
    }
    let span = cues.last().map_or(String::new(), |c| format!(", up to {}", c.end.clock('.')));
    crate::say!("{}: {format}, {} cues{span}", media::show::path(&a.file), cues.len());
    notes.iter().for_each(|n| crate::say!("  note: {n}"));
    for o in offences.iter().flatten() {
        crate::say!("  {o}");
    }
    if let Some(o) = &offences {
        crate::say!(
            "{}",
            if o.is_empty() {
                "nothing offends against the style".into()
            } else {
                format!("{} offences", o.len())
            }
        );
    }
    if let Some(to) = &a.to {
        crate::say!("written: {}", media::show::path(to));
    }
    Ok(ExitCode::from(u8::from(bad)))
}

/// Over nothing that is there.
fn save(to: &Path, text: &str) -> Result<()> {
    let mut file = std::fs::File::create_new(to)
        .with_context(|| format!("cannot write {} (nothing is overwritten)", media::show::path(to)))?;
    file.write_all(text.as_bytes()).with_context(|| format!("cannot write {}", media::show::path(to)))
}
