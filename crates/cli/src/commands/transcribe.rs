//! `transcribe`: what is said in media files.

use crate::args::Transcribe;
use crate::ui::{self, progress::Progress};
use anyhow::{Context, Result, anyhow, bail};
use porter::config::House;
use porter::services::{Client, Login, Secret, Service};
use porter::transcripts::save;
use serde_json::json;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::atomic::AtomicBool;
use words::page::Player;
use words::recognise::engine::Effort;
use words::service::summary::summarise;
use words::transcribe::{Engine, Options, transcribe as hear};
use words::write::Writing;
use words::{Model, Transcript};

pub fn transcribe(a: &Transcribe) -> Result<ExitCode> {
    if a.schema {
        ui::print_json(&Transcript::schema())?;
        return Ok(ExitCode::SUCCESS);
    }
    let how = Writing { style: (&a.style).into(), word_times: a.word_times, ..Writing::default() };
    how.style.validate()?;
    let options = Options {
        threads: a.threads,
        effort: if a.quick { Effort::Quick } else { Effort::Careful },
        track: a.track,
        terms: a.terms.as_deref().map(terms).transpose()?.unwrap_or_default(),
    };
    if let Some(to) = &a.to {
        std::fs::create_dir_all(to)
            .with_context(|| format!("cannot make the folder {}", media::show::path(to)))?;
    }
    let speech = a.service.as_deref().map(|s| service(a, s)).transpose()?;
    let text = a.summary_service.as_deref().map(|s| service(a, s)).transpose()?;
    let model = Model::open(a.model.as_deref())?;
    let engine = match &speech {
        Some(service) => Engine::Service(service, &model.activity),
        None => Engine::Here(&model),
    };
    let mut failed = false;
    for path in &a.files {
        if let Err(e) = one(a, engine, text.as_ref(), &options, &how, path) {
            failed = true;
            if a.json {
                crate::say!(
                    "{}",
                    json!({ "what": "failed", "file": media::show::path(path), "why": ui::errors::line(&e) })
                );
            } else {
                eprintln!("{}: {}", media::show::path(path), ui::errors::line(&e));
            }
        }
    }
    Ok(ExitCode::from(u8::from(failed)))
}

/// The reading page plays the file itself: by its name where the page lies beside it, or by its whole path.
fn player(path: &Path, folder: &Path) -> Option<Player> {
    let real = std::fs::canonicalize(path).ok()?;
    let beside = std::fs::canonicalize(folder).ok().as_deref() == real.parent();
    let encoded = |p: &Path| -> String {
        use std::os::unix::ffi::OsStrExt;
        let plain = |b: u8| b.is_ascii_alphanumeric() || b"-_./~".contains(&b);
        p.as_os_str()
            .as_bytes()
            .iter()
            .map(|&b| if plain(b) { char::from(b).to_string() } else { format!("%{b:02X}") })
            .collect()
    };
    let address =
        if beside { encoded(Path::new(real.file_name()?)) } else { format!("file://{}", encoded(&real)) };
    let facts = porter::jobs::facts_of(&real).ok()?;
    Some(Player { address, picture: facts.picture().is_some() })
}

/// One spelling a line; empty lines and those that start with # are for people.
fn terms(path: &Path) -> Result<Vec<String>> {
    let text =
        std::fs::read_to_string(path).with_context(|| format!("cannot read {}", media::show::path(path)))?;
    Ok(text
        .lines()
        .map(str::trim)
        .filter(|l| !l.is_empty() && !l.starts_with('#'))
        .map(String::from)
        .collect())
}

/// A service by its address, with the usual settings, or by its name in the house.
fn service(a: &Transcribe, wanted: &str) -> Result<Client> {
    let service = if wanted.contains("://") {
        if let Some(right) = Service::wrong_address(wanted) {
            bail!("\"{wanted}\" is no address of a service: wanted is {right}");
        }
        let login = a.token_file.clone().map_or(Login::None, |f| Login::Token(Secret::File(f)));
        let host = wanted.split('/').nth(2).unwrap_or(wanted);
        Service { login, ..Service::at(host, wanted) }
    } else {
        let house = House::load(&a.house.find()).map_err(|e| match e {
            porter::Error::Path { .. } => {
                anyhow!(
                    "\"{wanted}\" is no address, so it is taken for the name of a service in a house: {e}"
                )
            }
            e => e.into(),
        })?;
        let known: Vec<&str> = house.services.iter().map(|s| s.name.as_str()).collect();
        house.service(wanted).cloned().with_context(|| {
            format!("{} has no service \"{wanted}\"; it has: {}", house.file_shown(), known.join(", "))
        })?
    };
    Ok(Client::new(&service)?)
}

fn one(
    a: &Transcribe,
    engine: Engine<'_>,
    text: Option<&Client>,
    options: &Options,
    how: &Writing,
    path: &Path,
) -> Result<()> {
    let file = File::open(path).context("cannot be read")?;
    let name = path.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
    let mut progress = Progress::start(&format!("hearing {name}"));
    let heard =
        hear(engine, Box::new(file), &name, options, |at, of| progress.at(at, of), &AtomicBool::new(false));
    let took = progress.end();
    let t = heard?;
    let folder = match (&a.to, path.parent()) {
        (Some(to), _) => to.clone(),
        (None, Some(p)) if !p.as_os_str().is_empty() => p.to_owned(),
        _ => PathBuf::from("."),
    };
    let stem = path.file_stem().map_or("transcript".into(), |s| s.to_string_lossy());
    let wanted = text.filter(|_| a.forms.iter().any(|f| f.is_summary()));
    let summary = wanted.map(|service| summarise(service, &t)).transpose()?;
    let how = Writing { player: player(path, &folder), summary, ..how.clone() };
    let saved = save(&t, &folder, &stem, &a.forms, &how)?;
    let words = t.words().count();
    if a.json {
        let written: Vec<String> = saved.iter().map(media::show::path).collect();
        crate::say!(
            "{}",
            json!({
                "what": "heard", "file": media::show::path(path), "seconds": t.source.duration_ms.seconds(),
                "words": words, "took": took.as_secs_f64(), "notes": t.notes, "written": written,
            })
        );
        return Ok(());
    }
    crate::say!(
        "{name}: {} of sound, {words} word{}, in {}",
        ui::seconds(t.source.duration_ms.seconds()),
        if words == 1 { "" } else { "s" },
        ui::seconds(took.as_secs_f64())
    );
    for note in &t.notes {
        crate::say!("  note: {note}");
    }
    for path in saved {
        crate::say!("  {}", media::show::path(&path));
    }
    Ok(())
}
