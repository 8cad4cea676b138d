//! From the configuration as written to the house: every value checked, every name resolved. All faults
//! are collected, so that one look mends the file.

mod bits;
mod folders;
mod item;
mod media;
mod notice;
mod place;
mod words;

use super::locate::{Fault, Step};
use super::{
    Hours, House, Make, MakerLimits, Original, Part, Pattern, Place, Preset, Rule, Since, Watch, kinds, raw,
    values,
};
use crate::jobs::schedule::MAX_PRIORITY;
use crate::naming::Template;
use crate::offload::sums::Kind;
use crate::package::{Form, SUMS};
use crate::recipe::Recipe;
use crate::route::Condition;
use crate::services::Service;
use crate::store::IfTaken;
use crate::watch::beside::Belonging;
use crate::watch::folder::MAX_DEPTH;
use crate::watch::gather::Gathering;
use crate::watch::steady::UNFINISHED;
use ::media::show;
use ::media::units::Ratio;
use std::net::SocketAddr;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use xxhash_rust::xxh3::xxh3_64;

pub const MAX_JOBS_AT_ONCE: i64 = 64;
pub const MIN_MEMORY: u64 = 64_000_000;
const MAX_TIME: Duration = Duration::from_secs(30 * 24 * 3600);

struct Checker<'a> {
    base: &'a Path,
    faults: Vec<Fault>,
}

type At = Vec<Step>;

fn at(steps: &[Step]) -> At {
    steps.to_vec()
}

fn key(path: &At, name: &'static str) -> At {
    let mut p = path.clone();
    p.push(Step::Key(name));
    p
}

impl Checker<'_> {
    fn fault(&mut self, path: At, found: impl Into<String>, wanted: impl Into<String>) {
        self.faults.push(Fault { path, found: found.into(), wanted: wanted.into() });
    }

    fn duration(&mut self, path: At, text: Option<&str>, usual: &str, least: Duration) -> Duration {
        let found = text.unwrap_or(usual);
        match values::duration(found) {
            Some(d) if d >= least && d <= MAX_TIME => d,
            Some(_) => {
                self.fault(
                    path,
                    format!("\"{found}\""),
                    format!("at least {} ms and at most 30 days", least.as_millis()),
                );
                least
            }
            None => {
                self.fault(
                    path,
                    format!("\"{found}\""),
                    "a time such as \"500 ms\", \"5 s\", \"2 min\" or \"1 h\"",
                );
                least
            }
        }
    }

    fn path(&mut self, path: At, text: &str) -> PathBuf {
        if text.trim().is_empty() {
            self.fault(path, "an empty path", "a folder; relative paths start from this file's folder");
        } else if text.contains("://") {
            self.fault(
                path,
                format!("\"{text}\""),
                "a folder of this machine; a place of a network is written as address = \"...\"",
            );
        }
        normal(&self.base.join(text))
    }

    fn size(&mut self, path: At, text: Option<&str>) -> (u32, u32) {
        let Some(text) = text else { return (0, 0) };
        let most = ::media::limits::MAX_PICTURE_SIDE;
        match values::size(text) {
            Some((w, h)) if w <= most && h <= most => (w, h),
            _ => {
                self.fault(
                    path,
                    format!("\"{text}\""),
                    format!("a size such as \"960x540\" or \"*x720\", sides up to {most}"),
                );
                (0, 0)
            }
        }
    }

    fn one_of(&mut self, path: At, found: Option<&str>, allowed: &[&str]) {
        if let Some(found) = found
            && !allowed.contains(&found)
        {
            let list: Vec<String> = allowed.iter().map(|a| format!("\"{a}\"")).collect();
            self.fault(path, format!("\"{found}\""), list.join(" or "));
        }
    }

    fn number(&mut self, path: At, found: i64, least: i64, most: i64) -> i64 {
        if !(least..=most).contains(&found) {
            self.fault(path, found.to_string(), format!("{least} to {most}"));
        }
        found.clamp(least, most)
    }

    fn hours(&mut self, path: At, text: Option<&str>) -> Option<Hours> {
        let found = Hours::parse(text?);
        if found.is_none() {
            self.fault(path, format!("\"{}\"", text.unwrap_or("")), Hours::FORM);
        }
        found
    }

    /// Names are used in tables, messages and file names.
    fn name(&mut self, path: At, name: &str, earlier: &[String]) {
        let plain = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | ' ' | '.');
        if name.trim().is_empty()
            || name.chars().count() > 80
            || !name.chars().all(plain)
            || name.starts_with('.')
        {
            self.fault(
                path,
                format!("\"{name}\""),
                "1 to 80 letters, digits, spaces, '-', '_' or '.', not starting with a dot",
            );
        } else if earlier.iter().any(|e| e == name) {
            self.fault(path, format!("\"{name}\" a second time"), "a name that is used once");
        }
    }
}

/// Without `.` and `..`, by the text alone: folders need not be there yet.
fn normal(path: &Path) -> PathBuf {
    let mut out = PathBuf::new();
    for part in path.components() {
        match part {
            Component::CurDir => (),
            Component::ParentDir => {
                out.pop();
            }
            other => out.push(other),
        }
    }
    out
}

/// `others`: presets of files of their own, each with its file.
pub fn house(
    raw: raw::House,
    file: &Path,
    base: &Path,
    stated: &[toml::Table],
    others: Vec<(PathBuf, Arc<Preset>)>,
) -> Result<House, Vec<Fault>> {
    let mut c = Checker { base, faults: Vec::new() };
    let top = at(&[Step::Key("house")]);
    if raw.house.name.trim().is_empty() {
        c.fault(key(&top, "name"), "an empty name", "the name of the house or production");
    }
    let state = c.path(key(&top, "state"), raw.house.state.as_deref().unwrap_or(super::USUAL_STATE));
    let jobs = c.number(key(&top, "jobs_at_once"), raw.house.jobs_at_once.unwrap_or(1), 1, MAX_JOBS_AT_ONCE);
    let retry_after = c.duration(
        key(&top, "retry_after"),
        raw.house.retry_after.as_deref(),
        "10 s",
        Duration::from_millis(100),
    );
    let hand_work = raw.house.hand_work.as_deref();
    let hand_work =
        hand_work.map(|t| c.duration(key(&top, "hand_work"), Some(t), "10 min", Duration::from_secs(1)));
    let metrics = raw.house.metrics.as_deref().and_then(|text| {
        let at = text.parse::<SocketAddr>().ok().filter(|a| a.ip().is_loopback() && a.port() > 0);
        if at.is_none() {
            let wanted = "an address of this machine alone with a port, such as \"127.0.0.1:9680\"";
            c.fault(key(&top, "metrics"), format!("\"{text}\""), wanted);
        }
        at
    });
    let disk_low = raw.house.disk_low.as_deref().and_then(|text| {
        let size = values::bytes(text);
        if size.is_none() {
            c.fault(key(&top, "disk_low"), format!("\"{text}\""), "a size such as \"50 GB\"");
        }
        size
    });
    let keep_records = raw.house.keep_records.as_deref().and_then(|text| {
        let days =
            text.strip_suffix("days").or(text.strip_suffix("day")).and_then(|n| n.trim().parse::<u64>().ok());
        let kept = days.filter(|n| (1..=36_500).contains(n));
        if kept.is_none() {
            c.fault(
                key(&top, "keep_records"),
                format!("\"{text}\""),
                "a number of days such as \"400 days\"",
            );
        }
        kept.map(|n| Duration::from_secs(n * 24 * 3600))
    });
    let name_parts = raw.house.name_parts.as_deref().and_then(|text| {
        const WANTED: &str =
            "a pattern with named groups, such as \"EP(?<episode>[0-9]+)_SC(?<scene>[0-9]+)\"";
        let found = crate::route::script::pattern(text).map_err(|e| format!("{WANTED} ({e})"));
        let found = found.and_then(|p| match p.capture_names().flatten().next() {
            Some(_) => Ok(p),
            None => Err(format!("{WANTED}; this one has no group with a name")),
        });
        found.map_err(|wanted| c.fault(key(&top, "name_parts"), format!("\"{text}\""), wanted)).ok()
    });
    let maker = maker(&mut c, &key(&top, "maker"), &raw.house.maker.unwrap_or_default());

    let mut names = Vec::new();
    let mut watches = Vec::new();
    for (i, w) in raw.watch.iter().enumerate() {
        let here = at(&[Step::Key("watch"), Step::Index(i)]);
        c.name(key(&here, "name"), &w.name, &names);
        names.push(w.name.clone());
        watches.push(watch(&mut c, &here, w));
    }
    if watches.is_empty() {
        c.fault(at(&[Step::Key("watch")]), "no watch folder", "at least one [[watch]] table");
    }
    folders::apart(&mut c, &watches);
    folders::state_apart(&mut c, &state, &watches);

    let mut names = Vec::new();
    let mut places = Vec::new();
    for (i, p) in raw.place.iter().enumerate() {
        let here = at(&[Step::Key("place"), Step::Index(i)]);
        c.name(key(&here, "name"), &p.name, &names);
        names.push(p.name.clone());
        places.extend(place::place(&mut c, &here, p, &watches, &state));
    }

    let mut names = Vec::new();
    let mut services = Vec::new();
    for (i, s) in raw.service.iter().enumerate() {
        let here = at(&[Step::Key("service"), Step::Index(i)]);
        c.name(key(&here, "name"), &s.name, &names);
        names.push(s.name.clone());
        services.push(words::service(&mut c, &here, s));
    }

    let mut names = Vec::new();
    let mut presets = Vec::new();
    for (i, p) in raw.preset.iter().enumerate() {
        let here = at(&[Step::Key("preset"), Step::Index(i)]);
        c.name(key(&here, "name"), &p.name, &names);
        names.push(p.name.clone());
        let version = stated.get(i).map_or_else(String::new, version);
        presets.push(Arc::new(preset(&mut c, &here, p, &services, version)));
    }
    for (from, p) in others {
        if let Some(i) = presets.iter().position(|own: &Arc<Preset>| own.name == p.name) {
            let mut here = at(&[Step::Key("preset")]);
            if i < raw.preset.len() {
                here.push(Step::Index(i));
            }
            let found = format!("\"{}\" a second time, in {}", p.name, show::path(&from));
            c.fault(here, found, "a name that is used once");
        } else {
            presets.push(p);
        }
    }
    // The shipped ones, unless the house has one of that name.
    for p in super::presets::shipped() {
        if !presets.iter().any(|own| own.name == p.name) {
            presets.push(p.clone());
        }
    }

    for (i, w) in raw.watch.iter().enumerate() {
        let here = at(&[Step::Key("watch"), Step::Index(i)]);
        let to = to(&mut c, &here, w.to.as_deref().unwrap_or_default(), &places);
        if let Some(watch) = watches.iter_mut().find(|x: &&mut Watch| x.name == w.name) {
            watch.to = to;
        }
    }

    let mut names = Vec::new();
    let mut rules = Vec::new();
    for (i, r) in raw.rule.iter().enumerate() {
        let here = at(&[Step::Key("rule"), Step::Index(i)]);
        c.name(key(&here, "name"), &r.name, &names);
        names.push(r.name.clone());
        rules.extend(rule(&mut c, &here, r, &watches, &places, &presets));
    }
    let rule_names = names;
    if raw.rule.is_empty() {
        c.fault(at(&[Step::Key("rule")]), "no rule", "at least one [[rule]] table");
    }
    folders::no_circle(&mut c, &watches, &places, &rules);
    let mut names = Vec::new();
    let mut notices = Vec::new();
    for (i, n) in raw.notice.iter().enumerate() {
        let here = at(&[Step::Key("notice"), Step::Index(i)]);
        c.name(key(&here, "name"), &n.name, &names);
        names.push(n.name.clone());
        notices.extend(notice::notice(&mut c, &here, n, &watches, &rule_names));
    }
    if !c.faults.is_empty() {
        return Err(c.faults);
    }
    Ok(House {
        file: file.to_owned(),
        name: raw.house.name,
        state,
        looked: None,
        jobs_at_once: jobs as usize,
        retry_after,
        hand_work,
        disk_low,
        name_parts,
        keep_records,
        metrics,
        maker,
        watches,
        places,
        services,
        presets,
        rules,
        notices,
    })
}

/// Presets alone, as a file of them holds them.
pub fn presets(raw: &[raw::Preset], stated: &[toml::Table], base: &Path) -> Result<Vec<Preset>, Vec<Fault>> {
    let mut c = Checker { base, faults: Vec::new() };
    let (mut names, mut out) = (Vec::new(), Vec::new());
    for (i, p) in raw.iter().enumerate() {
        let here = at(&[Step::Key("preset"), Step::Index(i)]);
        c.name(key(&here, "name"), &p.name, &names);
        names.push(p.name.clone());
        let version = stated.get(i).map_or_else(String::new, version);
        out.push(preset(&mut c, &here, p, &[], version));
    }
    if c.faults.is_empty() { Ok(out) } else { Err(c.faults) }
}

fn listed(names: Vec<&str>) -> String {
    if names.is_empty() { "none is defined".to_owned() } else { names.join(", ") }
}

fn maker(c: &mut Checker<'_>, here: &At, m: &raw::Maker) -> MakerLimits {
    let text = m.memory.as_deref().unwrap_or("2 GB");
    let memory = match values::bytes(text) {
        Some(n) if n >= MIN_MEMORY => n,
        _ => {
            c.fault(
                key(here, "memory"),
                format!("\"{text}\""),
                "a size such as \"2 GB\", at least \"64 MB\"",
            );
            MIN_MEMORY
        }
    };
    let second = Duration::from_secs(1);
    MakerLimits {
        memory,
        stall: c.duration(key(here, "stall"), m.stall.as_deref(), "2 min", second),
        longest: c.duration(key(here, "longest"), m.longest.as_deref(), "24 h", second),
    }
}

fn watch(c: &mut Checker<'_>, here: &At, w: &raw::Watch) -> Watch {
    let folder = c.path(key(here, "folder"), &w.folder);
    let ms = Duration::from_millis;
    let steady = c.duration(key(here, "steady"), w.steady.as_deref(), "5 s", ms(100));
    let look_every = c.duration(key(here, "look_every"), w.look_every.as_deref(), "5 s", ms(100));
    let second_look = c.duration(key(here, "second_look"), w.second_look.as_deref(), "30 s", ms(100));
    let original = w.original.as_deref().unwrap_or("move");
    c.one_of(key(here, "original"), Some(original), &["leave", "move", "move first", "remove"]);
    let moves_first = original == "move first";
    let original = match original {
        "leave" => Original::Leave,
        "remove" => Original::Remove,
        _ => Original::Move,
    };
    let done = w.done.as_deref().map(|d| c.path(key(here, "done"), d));
    if original == Original::Move && done.is_none() {
        c.fault(
            key(here, "done"),
            "no key 'done'",
            format!(
                "the folder for finished originals, because original = \"{}\"",
                w.original.as_deref().unwrap_or("move")
            ),
        );
    }
    let done_name = w.done_name.as_deref().and_then(|text| {
        let found = Template::parse(text).and_then(|t| match t.counts() {
            true => Err("a name without numbers that are counted".into()),
            false => Ok(t),
        });
        found.map_err(|wanted| c.fault(key(here, "done_name"), format!("\"{text}\""), wanted)).ok()
    });
    let turned_away = c.path(key(here, "turned_away"), &w.turned_away);
    let mut patterns = |name: &'static str, all: &Option<Vec<String>>| -> Vec<Pattern> {
        let each = all.iter().flatten().enumerate().filter_map(|(i, text)| {
            let found = Pattern::parse(text);
            if let Err(wanted) = &found {
                let mut path = key(here, name);
                path.push(Step::Index(i));
                c.fault(path, format!("\"{text}\""), wanted.clone());
            }
            found.ok()
        });
        each.collect()
    };
    let (include, exclude) = (patterns("include", &w.include), patterns("exclude", &w.exclude));
    let usual = vec!["*.dpx".to_owned(), "*.exr".to_owned()];
    let frames = patterns("frames", &Some(w.frames.clone().unwrap_or(usual)));
    let usual = UNFINISHED.map(String::from).to_vec();
    let unfinished = patterns("unfinished", &Some(w.unfinished.clone().unwrap_or(usual)));
    let sidecars = patterns("sidecars", &w.sidecars);
    let sounds = patterns("sound_beside", &w.sound_beside);
    let table = w.table.clone();
    if let Some(name) =
        table.as_deref().filter(|n| n.contains(['/', '\\']) || n.starts_with('.') || n.is_empty())
    {
        c.fault(
            key(here, "table"),
            format!("\"{name}\""),
            "the name of a table, such as \"titles.csv\", without a folder",
        );
    }
    let marker = w.marker.clone();
    if let Some(found) = marker.as_deref().filter(|m| !m.starts_with('.') || m.len() < 2 || m.contains('/')) {
        c.fault(key(here, "marker"), format!("\"{found}\""), "the ending of marker files, such as \".done\"");
    }
    let most_at_once = w.most_at_once.map(|n| c.number(key(here, "most_at_once"), n, 1, 1_000_000) as usize);
    let depth = match (w.depth, w.subfolders.unwrap_or(true)) {
        (Some(_), false) => {
            c.fault(key(here, "depth"), "'depth' beside subfolders = false", "one of the two");
            0
        }
        (None, false) => 0,
        (depth, true) => {
            depth.map_or(MAX_DEPTH, |n| c.number(key(here, "depth"), n, 0, MAX_DEPTH as i64) as usize)
        }
    };
    c.one_of(key(here, "same_content"), w.same_content.as_deref(), &["make again", "version", "skip"]);
    c.one_of(key(here, "check"), w.check.as_deref(), &CHECKS);
    let from = w.from.as_ref().and_then(|f| place::fetch(c, &key(here, "from"), f));
    let hours = c.hours(key(here, "hours"), w.hours.as_deref());
    let since = w.since.as_deref().and_then(|day| {
        if day == "first use" {
            return Some(Since::FirstUse);
        }
        let found = crate::clock::day(day, false);
        if found.is_none() {
            let wanted = "a day such as \"2026-11-23\", or \"first use\"";
            c.fault(key(here, "since"), format!("\"{day}\""), wanted);
        }
        found.map(Since::Moment)
    });
    let kinds = of_kinds(c, &key(here, "kinds"), w.kinds.as_deref().unwrap_or_default());
    let whole_folders = w.whole_folders.unwrap_or(false);
    if whole_folders && depth == 0 {
        c.fault(
            key(here, "whole_folders"),
            "'whole_folders' where no folder is looked into",
            "without 'depth' and 'subfolders'",
        );
    }
    let joins = w.join.unwrap_or(false);
    if joins && !whole_folders {
        c.fault(key(here, "join"), "'join' where files arrive by themselves", "whole_folders = true");
    }
    let rate = w.frame_rate.as_deref().unwrap_or("25");
    let frame_rate = rate.parse::<Ratio>().ok().filter(|r| (1.0..=240.0).contains(&r.value()));
    if frame_rate.is_none() {
        let wanted = "frames a second such as \"25\", \"23.976\" or \"24000/1001\"";
        c.fault(key(here, "frame_rate"), format!("\"{rate}\""), wanted);
    }
    c.one_of(key(here, "holes"), w.holes.as_deref(), &["take", "turn away"]);
    let frames_steady = w.frames_steady.as_deref();
    let gathering = Gathering {
        patterns: frames,
        steady: c.duration(key(here, "frames_steady"), frames_steady, "30 s", ms(100)).max(steady),
        holes: c.duration(key(here, "holes_after"), w.holes_after.as_deref(), "10 min", ms(100)),
    };
    Watch {
        gathering,
        take_holes: w.holes.as_deref() == Some("take"),
        frame_rate: frame_rate.unwrap_or(Ratio::ONE),
        name: w.name.clone(),
        folder,
        depth,
        unfinished,
        belonging: Belonging { sidecars, sounds, marker },
        hours,
        most_at_once,
        from,
        checks_whole: w.check.as_deref() == Some("whole"),
        same_content: match w.same_content.as_deref() {
            Some("skip") => super::SameContent::Skip,
            Some("version") => super::SameContent::Version,
            _ => super::SameContent::MakeAgain,
        },
        remove_empty_folders: w.remove_empty_folders.unwrap_or(false),
        steady,
        look_every,
        second_look,
        priority: w.priority.map_or(0, |n| c.number(key(here, "priority"), n, -MAX_PRIORITY, MAX_PRIORITY)),
        original,
        moves_first,
        done,
        done_name,
        turned_away,
        on: w.on.unwrap_or(true),
        include,
        kinds,
        exclude,
        table,
        since,
        from_file: w.from_file.clone(),
        whole_folders,
        joins,
        to: Vec::new(),
    }
}

fn of_kinds(c: &mut Checker<'_>, here: &At, wanted: &[String]) -> Vec<Pattern> {
    let mut out = Vec::new();
    for (i, kind) in wanted.iter().enumerate() {
        let mut path = here.clone();
        path.push(Step::Index(i));
        c.one_of(path, Some(kind), &kinds::NAMES);
        out.extend(kinds::endings(kind).filter_map(|ending| Pattern::parse(&format!("*.{ending}")).ok()));
    }
    out
}

fn preset(c: &mut Checker<'_>, here: &At, p: &raw::Preset, services: &[Service], version: String) -> Preset {
    // What makes one output; pictures and sound of a film are one.
    let kinds = [
        ("still", p.still.is_some()),
        ("sheet", p.sheet.is_some()),
        ("frames", p.frames.is_some()),
        ("thumbnails", p.thumbnails.is_some()),
        ("preview", p.preview.is_some()),
        ("waveform", p.waveform.is_some()),
        ("stream", p.stream.is_some()),
    ];
    let mut asked = kinds.iter().filter(|(_, there)| *there).map(|(name, _)| *name);
    // A stream has sound beside its rungs.
    let with_sound = p.audio.is_some() && p.stream.is_none();
    let (first, film) = (asked.next(), p.video.is_some() || with_sound);
    if let Some(second) = asked.next().or(first.filter(|_| film)) {
        let found = format!("'{second}' beside another kind of output");
        c.fault(
            key(here, second),
            found,
            "a preset of its own for each; only 'video' and 'audio' go together",
        );
    }
    let makes = first.is_some() || film;
    match &p.transcript {
        Some(_) if makes => {
            let wanted = "a preset of its own for transcripts";
            c.fault(key(here, "transcript"), "'transcript' beside another kind of output", wanted);
        }
        Some(t) => {
            let parts = words::transcript(c, &key(here, "transcript"), t, services);
            return Preset {
                name: p.name.clone(),
                about: p.about.clone().unwrap_or_default(),
                parts,
                version,
            };
        }
        None if !makes => c.fault(
            here.clone(),
            "a preset that makes nothing",
            "a table such as [preset.video], [preset.audio], [preset.still], [preset.sheet] or [preset.transcript]",
        ),
        None => (),
    }
    let recipe = media::recipe(c, here, p);
    let extension = media::extension(c, here, &recipe);
    let unmarked = p.comment == Some(false);
    let recipe = Recipe { unmarked, ..recipe.into() };
    let parts = vec![Part { recipe, extension: extension.into() }];
    Preset { name: p.name.clone(), about: p.about.clone().unwrap_or_default(), parts, version }
}

/// From the settings as stated: another form in which a program keeps them changes nothing.
fn version(stated: &toml::Table) -> String {
    let mut settings = stated.clone();
    for told in ["name", "about", "version"] {
        settings.remove(told);
    }
    // A table keeps its keys sorted, and JSON has one form for each value.
    let text = serde_json::to_vec(&settings).unwrap_or_default();
    let number = stated.get("version").and_then(toml::Value::as_integer);
    let number = number.map_or(String::new(), |n| format!("{n}-"));
    format!("{number}{:08x}", xxh3_64(&text) as u32)
}

/// What an entry of a rule makes: by a preset, or the original as it is.
fn made_by(c: &mut Checker<'_>, here: &At, m: &raw::Make, presets: &[Arc<Preset>]) -> Option<Arc<Preset>> {
    let named = |name: &str| presets.iter().find(|p| p.name == name).cloned();
    let wanted = "one of these: what a preset makes, the original as it arrived, or a package";
    match (&m.preset, m.original.unwrap_or(false), &m.package) {
        (None, true, None) => Some(super::as_it_is(m.manifest.unwrap_or(false))),
        (None, false, Some(form)) => {
            c.one_of(key(here, "package"), Some(form), &Form::NAMES);
            let (of, all) = (m.of.clone().unwrap_or_default(), SUMS.map(Kind::name));
            if let Some(sums) = &m.sums {
                c.one_of(key(here, "sums"), Some(sums), &all);
            }
            let sums = m.sums.as_deref().and_then(|s| SUMS.into_iter().find(|k| k.name() == s));
            Form::from_name(form).map(|form| super::packed(form, sums.unwrap_or(SUMS[0]), of))
        }
        (Some(name), false, None) => named(name).or_else(|| {
            let all = listed(presets.iter().map(|p| p.name.as_str()).collect());
            c.fault(key(here, "preset"), format!("\"{name}\""), format!("the name of a preset: {all}"));
            None
        }),
        (None, false, None) => {
            let wanted = "preset = \"...\", original = true for the file as it arrived, or package = \"zip\"";
            c.fault(here.clone(), "an entry that makes nothing", wanted);
            None
        }
        (_, true, _) => {
            c.fault(key(here, "original"), "'original' beside another", wanted);
            None
        }
        (Some(_), false, Some(_)) => {
            c.fault(key(here, "package"), "'package' beside 'preset'", wanted);
            None
        }
    }
}

/// How far arrivals and outputs are looked at.
const CHECKS: [&str; 2] = ["quick", "whole"];

/// What goes into a package is made by the same rule.
fn packages(c: &mut Checker<'_>, here: &At, makes: &[raw::Make]) {
    let names: Vec<&str> = makes
        .iter()
        .filter_map(|m| match m.original {
            Some(true) => Some(super::ORIGINAL),
            _ => m.preset.as_deref(),
        })
        .collect();
    for (i, m) in makes.iter().enumerate() {
        let mut at = key(here, "make");
        at.push(Step::Index(i));
        if m.package.is_none() && m.of.is_some() {
            c.fault(key(&at, "of"), "'of' without 'package'", "both, or neither");
        }
        if m.package.is_none() && m.sums.is_some() {
            c.fault(key(&at, "sums"), "'sums' without 'package'", "both, or neither");
        }
        if m.original != Some(true) && m.manifest.is_some() {
            let wanted = "both, or neither: a manifest is of a folder that goes as it arrived";
            c.fault(key(&at, "manifest"), "'manifest' without 'original'", wanted);
        }
        if m.package.is_some() && names.is_empty() {
            c.fault(at.clone(), "a package of nothing", "other outputs beside it, of which it is made");
        }
        for (n, wanted) in m.of.iter().flatten().enumerate() {
            if !names.contains(&wanted.as_str()) {
                let mut path = key(&at, "of");
                path.push(Step::Index(n));
                let all = listed(names.clone());
                c.fault(path, format!("\"{wanted}\""), format!("what this rule makes: {all}"));
            }
        }
        let is_packed = |m: &raw::Make| {
            let own = if m.original == Some(true) { Some(super::ORIGINAL) } else { m.preset.as_deref() };
            makes.iter().filter(|p| p.package.is_some()).any(|p| {
                p.of.as_ref().is_none_or(|of| of.is_empty() || own.is_some_and(|o| of.iter().any(|n| n == o)))
            })
        };
        let goes_with = makes.iter().any(|p| p.with.iter().flatten().any(|w| Some(w) == m.preset.as_ref()));
        if m.to.as_ref().is_some_and(Vec::is_empty) && !goes_with && (m.package.is_some() || !is_packed(m)) {
            c.fault(key(&at, "to"), "an empty list", "at least one place");
        }
    }
}

/// Names of places.
fn to(c: &mut Checker<'_>, here: &At, names: &[String], places: &[Place]) -> Vec<String> {
    let mut to = Vec::new();
    for (n, place) in names.iter().enumerate() {
        match places.iter().position(|p| p.name == *place) {
            Some(_) if to.contains(place) => (),
            Some(p) => to.push(places[p].name.clone()),
            None => {
                let mut path = key(here, "to");
                path.push(Step::Index(n));
                let all = listed(places.iter().map(|p| p.name.as_str()).collect());
                c.fault(path, format!("\"{place}\""), format!("the name of a place: {all}"));
            }
        }
    }
    to
}

fn rule(
    c: &mut Checker<'_>,
    here: &At,
    r: &raw::Rule,
    watches: &[Watch],
    places: &[Place],
    presets: &[Arc<Preset>],
) -> Option<Rule> {
    let mut for_watches = Vec::new();
    for (i, name) in r.watch.iter().flatten().enumerate() {
        match watches.iter().position(|w| w.name == *name) {
            Some(w) => for_watches.push(watches[w].name.clone()),
            None => {
                let mut path = key(here, "watch");
                path.push(Step::Index(i));
                c.fault(
                    path,
                    format!("\"{name}\""),
                    format!(
                        "the name of a watch: {}",
                        listed(watches.iter().map(|w| w.name.as_str()).collect())
                    ),
                );
            }
        }
    }
    if r.watch.is_none() {
        for_watches = watches.iter().map(|w| w.name.clone()).collect();
    }
    let when = match Condition::parse(r.when.as_deref().unwrap_or("true")) {
        Ok(when) => Some(when),
        Err(wanted) => {
            c.fault(key(here, "when"), format!("\"{}\"", r.when.as_deref().unwrap_or("")), wanted);
            None
        }
    };
    if r.make.is_empty() {
        c.fault(key(here, "make"), "an empty list", "at least one thing to make");
    }
    packages(c, here, &r.make);
    let mut makes = Vec::new();
    for (i, m) in r.make.iter().enumerate() {
        let mut here = key(here, "make");
        here.push(Step::Index(i));
        let preset = made_by(c, &here, m, presets);
        let text = m.name.as_deref().unwrap_or("{stem}");
        let name = match Template::parse(text) {
            Ok(name) => Some(name),
            Err(wanted) => {
                c.fault(key(&here, "name"), format!("\"{text}\""), wanted);
                None
            }
        };
        let own = m.to.as_ref().map(|to| self::to(c, &here, to, places));
        let of_watches = || watches.iter().filter(|w| for_watches.contains(&w.name));
        if own.is_none()
            && let Some(w) = of_watches().find(|w| w.to.is_empty())
        {
            let wanted =
                format!("names of places here, or in watch \"{}\" for all that is made of its files", w.name);
            c.fault(key(&here, "to"), "no key 'to'", wanted);
        }
        // Wherever it may go.
        let to = own.clone().unwrap_or_else(|| of_watches().flat_map(|w| w.to.clone()).collect());
        let item = item::item(c, &here, m, r, &to, places);
        let policies = IfTaken::ALL.map(IfTaken::name);
        c.one_of(key(&here, "if_taken"), m.if_taken.as_deref(), &policies);
        let if_taken = m.if_taken.as_deref().and_then(IfTaken::from_name).unwrap_or_default();
        let aside = |name: &&String| places.iter().any(|p| p.name == **name && !p.keeps_aside());
        if let Some(place) = to.iter().find(aside).filter(|_| if_taken == IfTaken::Replace) {
            c.fault(
                key(&here, "if_taken"),
                format!("\"replace\" for place \"{place}\", whose protocol cannot give another name to what is there"),
                "\"number\", \"version\", \"skip\" or \"refuse\"",
            );
        }
        c.one_of(key(&here, "check"), m.check.as_deref(), &CHECKS);
        let checks_whole = m.check.as_deref().map(|check| check == "whole");
        if let (Some(preset), Some(name)) = (preset, name) {
            makes.push(Make { preset, name, to: own, if_taken, checks_whole, item });
        }
    }
    let (last, otherwise) = (r.last.unwrap_or(false), r.otherwise.unwrap_or(false));
    let priority = r.priority.map(|n| c.number(key(here, "priority"), n, -MAX_PRIORITY, MAX_PRIORITY));
    let name = r.name.clone();
    Some(Rule { name, watches: for_watches, when: when?, last, otherwise, priority, make: makes })
}
