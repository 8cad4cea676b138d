//! What is recorded, in words. To add a change: its line in [`told`].

use crate::store::{Change, NotMade, Step};
use media::show;

impl NotMade {
    pub fn words(self) -> &'static str {
        match self {
            NotMade::NotApplicable => "not applicable",
            NotMade::Failed => "failed",
        }
    }
}

impl Step {
    /// For people.
    pub fn words(&self) -> String {
        match self {
            Step::Look => "looking".into(),
            Step::Make => "making".into(),
            Step::Hear => "hearing".into(),
            Step::Carry { place, .. } => format!("carrying to {place}"),
            Step::Clear => "clearing".into(),
            Step::TurnAway => "turning away".into(),
            Step::Cancel => "cancelling".into(),
            Step::Unknown => "a step of a newer program".into(),
        }
    }
}

/// A change in words: what happened, and more of it.
pub fn told(change: &Change) -> (String, Option<String>) {
    use Change::*;
    let some = |s: String| Some(s);
    let (what, detail): (&str, Option<String>) = match change {
        Named { house } => ("store made", some(format!("house {house}"))),
        Started { house, program } => ("porter started", some(format!("{house}, version {program}"))),
        Stopped => ("porter stopped", None),
        Arrived { watch, path, seen, many, beside, .. } => {
            let many = many.as_ref().map_or(String::new(), |m| format!(", {}", m.words()));
            let beside: Vec<String> = beside.iter().map(|b| show::path(&b.name)).collect();
            let with =
                if beside.is_empty() { String::new() } else { format!(", with {}", beside.join(", ")) };
            ("arrived", some(format!("{watch}: {}, {} bytes{many}{with}", show::path(path), seen.size)))
        }
        Begun { .. } => ("started", None),
        Planned { outputs, configuration, .. } => {
            // A preset with several files is named once.
            let mut list: Vec<&str> = outputs.iter().map(|o| o.preset.as_str()).collect();
            list.dedup();
            let by = configuration.map_or(String::new(), |n| format!(", by configuration {n}"));
            ("planned", some(format!("{}{by}", list.join(", "))))
        }
        Made { preset, files, made, .. } => {
            let notes: String = made.notes.iter().map(|n| format!("; {n}")).collect();
            let what = match files.as_slice() {
                [f] => format!("{} bytes, {}", f.bytes, f.digest),
                all => format!("{} files, {} bytes", all.len(), all.iter().map(|f| f.bytes).sum::<u64>()),
            };
            ("made", some(format!("{preset}: {what}{notes}")))
        }
        NotMade { preset, end, why, .. } => (end.words(), some(format!("{preset}: {why}"))),
        Remade { preset, why, .. } => ("made again", some(format!("{preset}: {why}"))),
        Carrying { preset, place, name, aside, .. } => {
            let aside = aside.as_ref().map_or(String::new(), |a| format!("; what has the name becomes {a}"));
            ("carrying", some(format!("{preset} to {place}: {name}{aside}")))
        }
        LeftOut { preset, place, failed, why, .. } => {
            let what = if *failed { "not delivered" } else { "left out" };
            (what, some(format!("{preset} to {place}: {why}")))
        }
        Counted { counts: c, .. } => (
            "counted",
            some(format!("{} of its watch, {} of its day, {} of its folder", c.watch, c.day, c.folder)),
        ),
        Fetched { watch, path, bytes, .. } => {
            ("fetched", some(format!("{watch}: {}, {bytes} bytes", show::text(path))))
        }
        NotFetched { watch, path, why } => {
            ("not fetched", some(format!("{watch}: {}: {why}", show::text(path))))
        }
        DiskLow { free } => {
            ("disk low", some(format!("{free} bytes are free on the disk of the state folder")))
        }
        RoomAgain { free } => {
            ("room again", some(format!("{free} bytes are free on the disk of the state folder")))
        }
        Tidied { watch, path, .. } => ("tidied there", some(format!("{watch}: {}", show::text(path)))),
        Accepted { number, .. } => ("configuration", some(format!("number {number} is in force"))),
        ItemSet { fields, by, .. } => {
            let names = fields.keys().cloned().collect::<Vec<_>>().join(", ");
            ("fields set", some(format!("{names}, by {by}")))
        }
        Reviewed { yes: true, by, .. } => ("released", some(format!("by {by}"))),
        Reviewed { by, why, .. } => {
            ("refused", some(format!("by {by}: {}", why.as_deref().unwrap_or("no reason was given"))))
        }
        Delivered { preset, place, name, proof, address: Some(address), .. } => {
            ("delivered", some(format!("{preset} at {place}: {name}, {}, {address}", proof.words())))
        }
        Delivered { preset, place, name, proof, .. } => {
            ("delivered", some(format!("{preset} at {place}: {name}, {}", proof.words())))
        }
        AllDelivered { .. } => ("nothing left to carry", None),
        Held { task, cause, .. } => ("held", some(format!("{}: {}", task.step.words(), cause.words()))),
        Broke { task, why } => ("child broke", some(format!("{}: {why}", task.step.words()))),
        MovingOriginal { to, .. } => ("moving original", some(show::path(to))),
        RemovingOriginal { .. } => ("removing original", None),
        Done { note, .. } => ("done", note.clone()),
        TurningAway { reason, .. } => ("turning away", some(reason.clone())),
        TurnedAway { at, .. } => ("turned away", some(show::path(at))),
        Withdrawn { reason, .. } => ("withdrawn", some(reason.clone())),
        OnHold { yes: true, .. } => ("on hold", some("asked for by a person".into())),
        OnHold { yes: false, .. } => ("released", some("asked for by a person".into())),
        Ranked { priority: 10.., .. } => ("first", some("before all others".into())),
        Ranked { priority, .. } => ("priority", some(priority.to_string())),
        Noticed { notice, events: 0, .. } => {
            ("notice begins", some(format!("{notice}: what happens from here on")))
        }
        Noticed { notice, events, .. } => ("notice sent", some(format!("{notice}: {events} events"))),
        NotNoticed { notice, why } => {
            ("notice not sent", some(format!("{notice}: {why}; it is tried again")))
        }
        Cancelling { .. } => ("cancelling", some("asked for by a person".into())),
        Cancelled { .. } => ("cancelled", some("the original stays where it is".into())),
        Again { .. } => ("once more", some("asked for by a person".into())),
        Paused { yes: true } => ("paused", some("nothing more is begun".into())),
        Paused { yes: false } => ("going on", None),
        Touched { path: Some(path), .. } => {
            ("known again", some(format!("it is called {} now", show::path(path))))
        }
        Touched { .. } => ("known again", some("other attributes, the same content".into())),
        Content { content, .. } => ("read", some(content.clone())),
        SameContent { known, version, .. } => {
            let what = if *version { "what is made is a version" } else { "nothing is made again" };
            ("known content", some(format!("job {known} was of the same content: {what}")))
        }
        Configured { refused: None } => ("configuration", some("changed, and taken up".into())),
        Configured { refused: Some(why) } => {
            ("configuration", some(format!("changed, but wrong; the one before stays in force: {why}")))
        }
        TakenIn { to, .. } => ("taken in", some(show::path(to))),
        Forgotten { jobs } => (
            "forgotten",
            some(format!("{} job{} that ended long ago", jobs.len(), if jobs.len() == 1 { "" } else { "s" })),
        ),
        FirstUsed { watch } => ("watch used first", some(watch.clone())),
        WatchLost { watch, why } => ("watch folder lost", some(format!("{watch}: {why}"))),
        WatchBack { watch } => ("watch folder back", some(watch.clone())),
        FolderKnown { role, name, path, identity } => {
            let by = match (&identity.marker, &identity.mount) {
                (Some(id), _) => format!("by marker {id}"),
                (None, Some(mount)) => format!("by its mount, {mount}"),
                (None, None) => "by its path alone".into(),
            };
            ("folder known", some(format!("{} {name}: {}, {by}", role.words(), show::path(path))))
        }
        Told { text, detail } => return (text.clone(), detail.clone()),
        Unknown => ("something only a newer program knows", None),
    };
    (what.to_owned(), detail)
}
