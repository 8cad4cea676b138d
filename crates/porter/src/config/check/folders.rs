//! Folders of a house that must not lie in each other, and those that may.

use super::{Checker, at, key};
use crate::config::locate::Step;
use crate::config::{Place, Rule, Watch};
use ::media::show;
use std::path::Path;

/// What lies in the state folder is the porter's to sweep away, and what lies in a watch is its to take.
pub fn state_apart(c: &mut Checker<'_>, state: &Path, watches: &[Watch]) {
    for (i, w) in watches.iter().enumerate() {
        let here = at(&[Step::Key("watch"), Step::Index(i)]);
        let all =
            [("folder", Some(&w.folder)), ("done", w.done.as_ref()), ("turned_away", Some(&w.turned_away))];
        for (name, folder) in all {
            if let Some(folder) = folder.filter(|f| f.starts_with(state)) {
                c.fault(
                    key(&here, name),
                    format!("\"{}\", which lies in the state folder", show::path(folder)),
                    "a folder outside the state folder: what lies there is the porter's own, and cleared away",
                );
            }
        }
        if state.starts_with(&w.folder) && state != w.folder {
            let found = format!("\"{}\", which lies in watch folder \"{}\"", show::path(state), w.name);
            c.fault(
                at(&[Step::Key("house"), Step::Key("state")]),
                found,
                "a folder outside every watch folder",
            );
        }
    }
}

/// Folders that files are moved to must not be watched, and no file may be in two watches.
pub fn apart(c: &mut Checker<'_>, watches: &[Watch]) {
    for (i, w) in watches.iter().enumerate() {
        let here = at(&[Step::Key("watch"), Step::Index(i)]);
        let targets = [("done", w.done.as_ref()), ("turned_away", Some(&w.turned_away))];
        for (name, target) in targets {
            let Some(target) = target else { continue };
            if let Some(other) = watches.iter().find(|o| o.sees(target)) {
                c.fault(
                    key(&here, name),
                    format!("\"{}\", which lies in watch folder \"{}\"", show::path(target), other.name),
                    "a folder outside every watch folder: what is moved there would arrive again",
                );
            }
        }
        if let Some(other) = watches[..i].iter().find(|o| o.sees(&w.folder) || w.sees(&o.folder)) {
            c.fault(
                key(&here, "folder"),
                format!("\"{}\", which overlaps watch \"{}\"", show::path(&w.folder), other.name),
                "folders that do not lie in each other, or subfolders = false for the outer one",
            );
        }
    }
}

/// What gathers in a watch may go on to another, but none comes round to where it was.
pub fn no_circle(c: &mut Checker<'_>, watches: &[Watch], places: &[Place], rules: &[Rule]) {
    let next = |name: &str| {
        let mut out: Vec<(&str, &Rule)> = Vec::new();
        let own = watches.iter().find(|w| w.name == name).map_or(&[][..], |w| &w.to);
        for r in rules.iter().filter(|r| r.watches.iter().any(|w| w == name)) {
            let to = r.make.iter().flat_map(|m| m.to.as_deref().unwrap_or(own));
            for folder in places.iter().filter(|p| to.clone().any(|t| *t == p.name)).filter_map(Place::folder)
            {
                out.extend(watches.iter().filter(|w| w.gathers(folder)).map(|w| (w.name.as_str(), r)));
            }
        }
        out
    };
    for (i, start) in watches.iter().enumerate() {
        let mut reached: Vec<&str> = Vec::new();
        let mut open = next(&start.name);
        while let Some((name, rule)) = open.pop() {
            if name == start.name {
                let here = at(&[Step::Key("watch"), Step::Index(i), Step::Key("folder")]);
                let found = format!(
                    "\"{}\", where rule \"{}\" delivers what comes of this watch",
                    start.name, rule.name
                );
                let wanted = "rules with 'watch', so that what this watch takes goes to other places: it would arrive again and again";
                c.fault(here, found, wanted);
                break;
            }
            if !reached.contains(&name) {
                reached.push(name);
                open.extend(next(name));
            }
        }
    }
}
