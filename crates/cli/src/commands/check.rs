//! `check`: is the configuration right, are the folders there, what can this build do?

use crate::args;
use anyhow::Result;
use porter::config::House;
use std::path::Path;
use std::process::ExitCode;

pub fn check(a: &args::House) -> Result<ExitCode> {
    let house = House::load(&a.house)?;
    crate::say!("{}: the configuration is valid", house.file.display());
    crate::say!(
        "  {}, {}, {}, {}",
        count(house.watches.len(), "watch folder"),
        count(house.rules.len(), "rule"),
        count(house.presets.len(), "preset"),
        count(house.places.len(), "place"),
    );
    crate::say!("\nFolders");
    let mut good = true;
    let mut folder = |what: &str, path: &Path, needed: bool| {
        let found = look(path);
        let word = match &found {
            Ok(()) => "ok".to_owned(),
            Err(why) if needed => why.clone(),
            Err(_) => "made when needed".to_owned(),
        };
        good &= found.is_ok() || !needed;
        crate::say!("  {word:<20} {what:<28} {}", path.display());
    };
    for w in &house.watches {
        folder(&format!("watch {}", w.name), &w.folder, true);
        if let Some(done) = &w.done {
            folder("  done originals", done, false);
        }
        folder("  turned away", &w.turned_away, false);
    }
    for p in &house.places {
        folder(&format!("place {}", p.name), &p.folder, true);
    }
    folder("state", &house.state, false);
    let mut away = false;
    if !house.services.is_empty() {
        crate::say!("\nServices");
    }
    for s in &house.services {
        let found = s.look();
        away |= found.is_err();
        crate::say!(
            "  {:<20} {:<28} {}",
            if found.is_ok() { "ok" } else { "NOT USABLE NOW" },
            s.name,
            s.address
        );
        if let Err(why) = found {
            crate::say!("  {:<20} {why}", "");
        }
    }
    crate::say!("\nParts of this program");
    for part in media::parts::all() {
        crate::say!("  {:<20} {}", part.name, part.state());
    }
    if !good {
        crate::say!("\nSome folders cannot be used. Make them, mount them or mend their permissions.");
    }
    if away {
        crate::say!(
            "\nA service cannot be used now. Its jobs wait for it, or are done here where if_away = \"here\"."
        );
    }
    Ok(ExitCode::from(u8::from(!good || away)))
}

fn count(n: usize, what: &str) -> String {
    format!("{n} {what}{}", if n == 1 { "" } else { "s" })
}

/// A folder that is there and can be written: tried, not guessed.
fn look(path: &Path) -> std::result::Result<(), String> {
    if !path.is_dir() {
        return Err("MISSING".into());
    }
    let probe = path.join(format!(".deft-porter-check-{}", std::process::id()));
    let written = std::fs::write(&probe, b"");
    let _ = std::fs::remove_file(&probe);
    written.map_err(|_| "NOT WRITABLE".into())
}
