//! `verify`: files held against their manifest.

use crate::args;
use crate::ui::bytes_line::BytesLine;
use crate::ui::{self, bytes, errors};
use anyhow::Result;
use porter::offload::{Verified, verify as verify_path};
use std::process::ExitCode;

const MOST: usize = 50;

pub fn verify(a: &args::Verify) -> Result<ExitCode> {
    let line = BytesLine::start(0)?;
    let result = verify_path(&a.path, &line);
    line.end();
    let v = result?;
    // What is in no manifest is told, and is no fault of what is.
    let good = v.is_good() && (v.extra.is_empty() || !a.strict);
    if a.json {
        ui::print_json(&v)?;
    } else {
        tell(&v, good);
    }
    Ok(ExitCode::from(if good { 0 } else { errors::FAILED }))
}

fn tell(v: &Verified, good: bool) {
    for against in &v.against {
        crate::say!("held against {against}");
    }
    let list = |what: &str, all: &mut dyn Iterator<Item = String>, count: usize| {
        for line in all.take(MOST) {
            crate::say!("  {what:<9} {line}");
        }
        if count > MOST {
            crate::say!("  {what:<9} and {} more (--json lists all)", count - MOST);
        }
    };
    list("MISSING", &mut v.missing.iter().cloned(), v.missing.len());
    list("CHANGED", &mut v.changed.iter().map(|c| format!("{}: {}", c.path, c.why)), v.changed.len());
    list("extra", &mut v.extra.iter().cloned(), v.extra.len());
    v.remarks.iter().for_each(|r| crate::say!("  {r}"));
    let size = if v.bytes > 0 { format!(" ({})", bytes(v.bytes)) } else { String::new() };
    crate::say!(
        "{}: {} as they were{size}, {} missing, {} changed, {} in no manifest",
        if good { "ok" } else { "NOT OK" },
        v.good,
        v.missing.len(),
        v.changed.len(),
        v.extra.len()
    );
}
