//! `plan`: what presets would do to a file.

use super::presets::chosen;
use crate::args::Plan;
use crate::ui;
use anyhow::{Context, Result};
use porter::convert;
use serde::Serialize;
use std::process::ExitCode;

#[derive(Serialize)]
struct Told {
    file: String,
    decoded: Vec<String>,
    outputs: Vec<Output>,
}

#[derive(Serialize)]
struct Output {
    preset: String,
    version: String,
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    way: Option<media::plan::words::Told>,
    #[serde(skip_serializing_if = "Option::is_none")]
    not_made: Option<String>,
}

pub fn plan(a: &Plan) -> Result<ExitCode> {
    let presets = chosen(&a.presets)?;
    let planned = convert::plan(&a.file, &presets).with_context(|| media::show::path(&a.file))?;
    let outputs = planned.each.iter().map(|(p, end)| Output {
        preset: p.name.clone(),
        version: p.version.clone(),
        way: end.as_ref().ok().and_then(|n| planned.told(*n)),
        not_made: end.as_ref().err().cloned(),
    });
    let told =
        Told { file: media::show::path(&a.file), decoded: planned.decoded(), outputs: outputs.collect() };
    let nothing = told.outputs.iter().all(|o| o.not_made.is_some());
    if a.json {
        ui::print_json(&told)?;
    } else {
        print(&told);
    }
    Ok(ExitCode::from(u8::from(nothing)))
}

fn print(told: &Told) {
    crate::say!("{}", told.file);
    told.decoded.iter().for_each(|d| crate::say!("  decoded once: {d}"));
    for (n, o) in told.outputs.iter().enumerate() {
        crate::say!("\n{}. {} (version {})", n + 1, o.preset, o.version);
        if let Some(why) = &o.not_made {
            crate::say!("   not made: {why}");
            continue;
        }
        let Some(way) = &o.way else {
            crate::say!("   a still of the picture");
            continue;
        };
        for step in &way.pictures {
            let with: Vec<String> = step.shared_with.iter().map(usize::to_string).collect();
            let shared = if with.is_empty() {
                String::new()
            } else {
                format!("  (once, also for {})", with.join(", "))
            };
            crate::say!("   {} -> {}x{}{shared}", step.does, step.width, step.height);
        }
        way.picture.iter().for_each(|p| crate::say!("   picture  {p}"));
        way.sounds.iter().for_each(|s| crate::say!("   sound    {s}"));
        crate::say!("   in       {}", way.container);
        way.notes.iter().for_each(|n| crate::say!("   note     {n}"));
    }
}
