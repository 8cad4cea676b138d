//! One output to one place.

use super::{Desk, Next, go_on};
use crate::config::Where;
use crate::control::Rests;
use crate::deliver::pace::Paced;
use crate::deliver::remote::Protocol;
use crate::deliver::{Cargo, FolderPlace, Place, Proof, Published, Ticket, Trouble, Whose, With};
use crate::error::{Error, Result};
use crate::files::Watching;
use crate::files::known::Role;
use crate::item::Fields;
use crate::naming;
use crate::progress::{Progress, Stage, Unit};
use crate::store::{Cause, Change, Delivery, IfTaken, MadeFile, Output, OutputEnd};
use std::path::Path;
use std::time::Duration;

/// An output that was not what was made is made again this often.
const MAX_REMADE: usize = 3;
/// A name that somebody else takes so often in between is left for a while.
const MOST_TURNS: u32 = 8;
/// How many times as long a task waits that a place refused.
const REFUSED_WAITS: u32 = 6;

pub fn carry(d: &Desk<'_>, output: u32, place: &str) -> Result<Next> {
    let job = d.job.id;
    let (outputs, deliveries) = d.porter.store.read(|v| Ok((v.outputs(job)?, v.deliveries(job)?)))?;
    let wanted = |x: &&Delivery| x.output == output && x.place == place;
    let (Some(made), Some(delivery)) =
        (outputs.iter().find(|o| o.number == output), deliveries.iter().find(wanted))
    else {
        return Err(Error::Unreadable(format!(
            "what was planned of output {} is not in the store",
            output + 1
        )));
    };
    // A person may have said no meanwhile.
    if delivery.left_out.is_some() || delivery.delivered.is_some() {
        return Ok(Next::Moved);
    }
    if let Some(wait) = outside_hours(d, place) {
        return Ok(wait);
    }
    let (item, with) = match goes(d, made, &outputs, place) {
        Ok(goes) => goes,
        Err(cause @ Cause::Sibling { .. }) => return Ok(Next::wait(cause, LOOK_AT_SIBLINGS)),
        Err(cause) => return Ok(Next::wait(cause, LOOK_AT_HOURS)),
    };
    let carried = Carried { d, output: made, delivery, item, with };
    match carried.carry() {
        Ok(next) => Ok(next),
        Err(Broken::Error(e)) => Err(e),
        Err(Broken::Trouble(Trouble::Stopped)) => Err(Error::Stopped),
        Err(Broken::Trouble(Trouble::Changed(why))) => carried.make_again(&why),
        Err(Broken::Trouble(t)) => {
            let rests = match t {
                Trouble::Away(_) => Some(Rests::Away),
                Trouble::Full(_) => Some(Rests::Full),
                _ => None,
            };
            let cause = Cause::Place { name: place.to_owned(), why: t.to_string() };
            // What is refused stays so until a person acts: it is not tried as often.
            let factor = if rests.is_some() { 1 } else { REFUSED_WAITS };
            Ok(Next::Wait { cause, wait: d.house.retry_after * factor, rests })
        }
    }
}

/// What is published with an output, and the files that go with it; or why it does not go yet.
fn goes(
    d: &Desk<'_>,
    output: &Output,
    all: &[Output],
    place: &str,
) -> std::result::Result<(Fields, Vec<With>), Cause> {
    let Some(item) = &output.item else { return Ok(Default::default()) };
    let remote = d.house.place(place).and_then(|p| p.remote());
    let publishes = remote.is_some_and(|r| r.protocol == Protocol::Publish);
    if let Some(waits) = item.waits(crate::clock::now(), publishes) {
        return Err(Cause::Review { why: waits.words() });
    }
    let folder = d.porter.work_folder(d.job.id);
    let mut with = Vec::new();
    for number in item.with.iter().filter(|_| publishes) {
        let Some(o) = all.iter().find(|o| o.number == *number) else { continue };
        match &o.end {
            OutputEnd::Open => {
                let why = format!("waits for \"{}\", which goes with it", o.preset);
                return Err(Cause::Sibling { why });
            }
            // What there is none of does not go.
            OutputEnd::NotMade { .. } => (),
            OutputEnd::Made { .. } => {
                let language = item.fields.get("language").filter(|l| !l.is_empty());
                with.push(With {
                    path: d.made_file(&folder, o),
                    extension: o.extension.clone(),
                    language: language.cloned().unwrap_or_else(|| "und".into()),
                });
            }
        }
    }
    Ok((item.fields.clone(), with))
}

/// The place is not carried to at this time of day.
fn outside_hours(d: &Desk<'_>, place: &str) -> Option<Next> {
    let hours = d.house.place(place)?.hours?;
    if hours.is_open_now() {
        return None;
    }
    let why = format!("nothing is carried there outside {}", hours.text());
    let cause = Cause::Hours { name: place.to_owned(), why };
    Some(Next::Wait { cause, wait: LOOK_AT_HOURS, rests: Some(Rests::Hours) })
}

/// How often it is asked whether a place is carried to again: its hours may have been changed.
const LOOK_AT_HOURS: Duration = Duration::from_secs(30);

/// How often what waits for another output of its job looks whether that is there.
const LOOK_AT_SIBLINGS: Duration = Duration::from_millis(300);

/// A job is given up: what was published without a record of it is recorded, what was staged is cleared away. A place
/// that is away is waited for.
pub fn give_up(d: &Desk<'_>) -> Result<Option<Next>> {
    let job = d.job.id;
    let (outputs, deliveries) = d.porter.store.read(|v| Ok((v.outputs(job)?, v.deliveries(job)?)))?;
    for delivery in deliveries.iter().filter(|x| x.delivered.is_none() && x.left_out.is_none()) {
        let (Some(name), Some(ticket)) = (&delivery.name, &delivery.ticket) else { continue };
        let Some(output) = outputs.iter().find(|o| o.number == delivery.output) else { continue };
        let carried = Carried { d, output, delivery, item: Default::default(), with: Vec::new() };
        let path = d.made_file(&d.porter.work_folder(job), output);
        let ours = d.ours(output);
        let cargo = Cargo { path, files: output.files().to_vec(), ours, ..Cargo::default() };
        let cleared = carried.place().and_then(|place| {
            match place.whose(name, ticket, &cargo)? {
                Whose::Ours => carried.record(name, place.about().proof, place.address(name, ticket)?)?,
                Whose::Nothing | Whose::Other => place.discard(name, ticket)?,
            }
            Ok(())
        });
        match cleared {
            Ok(()) => (),
            // A place that is not in the configuration any more cannot be cleared.
            Err(Broken::Error(Error::NotConfigured(why))) => tracing::warn!("job {job}: {why}"),
            Err(Broken::Error(e)) => return Err(e),
            Err(Broken::Trouble(Trouble::Stopped)) => return Err(Error::Stopped),
            Err(Broken::Trouble(t)) => {
                let cause = Cause::Place { name: delivery.place.clone(), why: t.to_string() };
                return Ok(Some(Next::wait(cause, d.house.retry_after)));
            }
        }
    }
    Ok(None)
}

enum Broken {
    Error(Error),
    Trouble(Trouble),
}

impl From<Error> for Broken {
    fn from(e: Error) -> Broken {
        Broken::Error(e)
    }
}

impl From<Trouble> for Broken {
    fn from(t: Trouble) -> Broken {
        Broken::Trouble(t)
    }
}

/// The name of a delivery.
enum Named {
    This(String),
    /// It gets none, and where the task goes instead.
    Not(Next),
}

struct Carried<'a> {
    d: &'a Desk<'a>,
    output: &'a Output,
    delivery: &'a Delivery,
    item: Fields,
    with: Vec<With>,
}

impl Carried<'_> {
    fn place(&self) -> std::result::Result<Box<dyn Place>, Broken> {
        let porter = self.d.porter;
        let name = &self.delivery.place;
        let Some(place) = self.d.house.place(name) else {
            let why = format!("place \"{name}\" is not in the configuration any more");
            return Err(Error::NotConfigured(why).into());
        };
        let folder = match &place.at {
            Where::Folder(folder) => folder,
            Where::Remote(remote) => return Ok(porter.remotes.open(remote)?),
        };
        let dir =
            porter.folders.open(&porter.store, Role::Place, name, folder, false).map_err(|e| match e {
                Error::Away(why) => Broken::Trouble(Trouble::Away(why)),
                e => e.into(),
            })?;
        let at = if place.read_back { FolderPlace::new } else { FolderPlace::trusted };
        Ok(Box::new(at(dir)))
    }

    fn carry(&self) -> std::result::Result<Next, Broken> {
        let (d, delivery) = (self.d, self.delivery);
        let path = d.made_file(&d.porter.work_folder(d.job.id), self.output);
        let (item, with) = (self.item.clone(), self.with.clone());
        let ours = d.ours(self.output);
        let cargo = Cargo { path, files: self.output.files().to_vec(), ours, item, with };
        let bytes = cargo.files.iter().map(|f| f.bytes).sum::<u64>();
        let place = self.place()?;
        let place = place.as_ref();
        let replaces = delivery.if_taken == IfTaken::Replace;
        let mut known = delivery.name.clone().zip(delivery.ticket.clone());
        // A name from before a restart: was it published, and only the record of it lost?
        if let Some((name, ticket)) = &known {
            match place.whose(name, ticket, &cargo)? {
                Whose::Ours => {
                    let address = place.address(name, ticket)?;
                    return Ok(self.delivered(name, place.about().proof, address)?);
                }
                Whose::Nothing => (),
                // It goes aside when ours is staged.
                Whose::Other if replaces => (),
                Whose::Other => {
                    place.discard(name, ticket)?;
                    known = None;
                }
            }
        }
        if !self.is_whole(&cargo) {
            return Err(Trouble::Changed("an output is gone from where it was made".into()).into());
        }
        let begin = || -> std::result::Result<Ticket, Broken> {
            let tag = format!("{}-{}-{}", d.porter.tag(d.job.id), self.output.number, crate::clock::nonce());
            Ok(place.begin(&tag)?)
        };
        let (mut name, mut ticket) = match known {
            Some(known) => known,
            None => {
                let ticket = begin()?;
                match self.name(place, &ticket)? {
                    Named::This(name) => (name, ticket),
                    Named::Not(next) => return Ok(next),
                }
            }
        };
        let pace = d.house.place(&delivery.place).and_then(|p| d.porter.pace(p));
        let watching = Paced { watching: d.worker, pace: pace.as_deref() };
        loop {
            let prepared = place.prepare(&cargo, &name, &ticket)?;
            if prepared != ticket {
                self.carrying(&name, &prepared, delivery.aside.clone())?;
                ticket = prepared;
            }
            // Written once, read back once.
            let of = Some(bytes * 2);
            let output = Some(self.output.number);
            d.worker.tell(Progress { stage: Stage::Carrying, output, done: 0, of, unit: Unit::Bytes });
            let proof = place.stage(&cargo, &name, &ticket, &watching)?;
            crate::stops::here("staged");
            let mut turns = 0;
            loop {
                if replaces {
                    self.clear_name(place, &name, &ticket)?;
                }
                if place.publish(&ticket, &name)? == Published::Done {
                    crate::stops::here("published");
                    let address = place.address(&name, &ticket)?;
                    return Ok(self.delivered(&name, proof, address)?);
                }
                if replaces {
                    turns += 1;
                    if turns > MOST_TURNS {
                        return Err(Trouble::Away(format!("{name} is taken again and again")).into());
                    }
                    continue;
                }
                // Someone else put a file there since: ours gets the next name, in the same folder.
                let again = place.about().staged_by_name;
                if again || !delivery.if_taken.finds_another() {
                    place.discard(&name, &ticket)?;
                }
                if again {
                    ticket = begin()?;
                }
                match self.name(place, &ticket)? {
                    Named::This(next) => name = next,
                    Named::Not(next) => return Ok(next),
                }
                if again {
                    break;
                }
            }
        }
    }

    /// What has the name gets another one beside it, which is recorded first.
    fn clear_name(&self, place: &dyn Place, name: &str, ticket: &Ticket) -> std::result::Result<(), Broken> {
        let mut planned = self.delivery.aside.clone();
        let mut turns = 0;
        while place.has(name)? {
            turns += 1;
            if turns > MOST_TURNS {
                return Err(Trouble::Away(format!("{name} is taken again and again")).into());
            }
            if self.d.worker.stopping() {
                return Err(Trouble::Stopped.into());
            }
            let aside = match planned.take() {
                Some(aside) if !place.has(&aside)? => aside,
                _ => {
                    let aside = self.free_aside(place, name)?;
                    self.carrying(name, ticket, Some(aside.clone()))?;
                    aside
                }
            };
            crate::stops::here("about to set aside");
            place.set_aside(name, &aside)?;
            crate::stops::here("set aside");
        }
        Ok(())
    }

    fn free_aside(&self, place: &dyn Place, name: &str) -> std::result::Result<String, Broken> {
        let now = crate::clock::now();
        let when = format!("{}-{}", crate::clock::local_date(now), crate::clock::local_time(now));
        let marked = naming::marked(name, &format!("_before_{}", when.replace(':', "")));
        for n in 1.. {
            let aside = naming::numbered(&marked, n);
            let given = self.d.porter.store.read(|v| v.name_is_given(&self.delivery.place, &aside))?;
            if !given && !place.has(&aside)? {
                return Ok(aside);
            }
        }
        unreachable!("numbers do not end")
    }

    /// Records a ticket for a name that is given already.
    fn carrying(&self, name: &str, ticket: &Ticket, aside: Option<String>) -> Result<()> {
        let (job, x) = (self.d.job.id, self.delivery);
        let (name, place, ticket) = (name.to_owned(), x.place.clone(), ticket.clone());
        let preset = self.output.preset.clone();
        self.d.commit(Change::Carrying { job, output: x.output, preset, place, name, ticket, aside })
    }

    fn is_whole(&self, cargo: &Cargo) -> bool {
        let there = |f: &MadeFile| std::fs::metadata(cargo.at(f)).is_ok_and(|m| m.len() == f.bytes);
        !cargo.files.is_empty() && cargo.files.iter().all(there)
    }

    /// The name for this delivery, recorded as its own: the first that nothing at the place has and no other job was
    /// given, or what is to be done where that is taken.
    fn name(&self, place: &dyn Place, ticket: &Ticket) -> std::result::Result<Named, Broken> {
        let (job, x) = (self.d.job.id, self.delivery);
        let store = &self.d.porter.store;
        for n in 1.. {
            if self.d.worker.stopping() {
                return Err(Trouble::Stopped.into());
            }
            let name = naming::candidate_by(x.if_taken, &x.wanted, n);
            let folder = self.d.house.place(&x.place).and_then(|p| p.folder());
            if let Some(folder) = folder {
                let lies = self.d.house.may_lie(folder, Path::new(&name));
                lies.map_err(Trouble::Refused)?;
            }
            let is_there = place.has(&name)?;
            // To many systems a name that differs only in case is the same.
            let is_like = !is_there && self.d.porter.listed.has_like(&x.place, place, &name)?;
            match x.if_taken {
                IfTaken::Replace if is_like => continue,
                IfTaken::Replace => {
                    let other = store.read(|v| v.carries_name(&x.place, &name))?;
                    if let Some(other) = other.filter(|other| *other != job) {
                        let why = format!("job {other} is just delivering {name}");
                        let cause = Cause::Place { name: x.place.clone(), why };
                        return Ok(Named::Not(Next::wait(cause, self.d.house.retry_after)));
                    }
                }
                policy => {
                    let taken = is_there || is_like || store.read(|v| v.name_is_given(&x.place, &name))?;
                    match policy {
                        _ if !taken => (),
                        IfTaken::Skip | IfTaken::Refuse => {
                            return Ok(Named::Not(self.left_out(&name, policy == IfTaken::Refuse)?));
                        }
                        _ => continue,
                    }
                }
            }
            let replaces = x.if_taken == IfTaken::Replace;
            let (given, _) = store.change(|tx| {
                // Another job may have been faster.
                let taken = match replaces {
                    true => tx.carries_name(&x.place, &name)?.is_some_and(|other| other != job),
                    false => tx.name_is_given(&x.place, &name)?,
                };
                if taken {
                    return Ok(false);
                }
                let (name, place, ticket) = (name.clone(), x.place.clone(), ticket.clone());
                let (preset, aside) = (self.output.preset.clone(), None);
                tx.put(Change::Carrying { job, output: x.output, preset, place, name, ticket, aside })?;
                Ok(true)
            })?;
            if given {
                return Ok(Named::This(name));
            }
        }
        unreachable!("numbers do not end")
    }

    /// It does not go there: the rule wants it so.
    fn left_out(&self, name: &str, failed: bool) -> Result<Next> {
        let (job, x) = (self.d.job.id, self.delivery);
        self.d.porter.store.change(|tx| {
            let (place, preset) = (x.place.clone(), self.output.preset.clone());
            let why = format!("there is a {name} already");
            tx.put(Change::LeftOut { job, output: x.output, preset, place, failed, why })?;
            go_on(tx, job)
        })?;
        Ok(Next::Moved)
    }

    /// Records a delivery of a job that is given up.
    fn record(&self, name: &str, proof: Proof, address: Option<String>) -> Result<()> {
        let (job, x) = (self.d.job.id, self.delivery);
        let (name, place, preset) = (name.to_owned(), x.place.clone(), self.output.preset.clone());
        self.d.commit(Change::Delivered { job, output: x.output, preset, place, name, proof, address })
    }

    fn delivered(&self, name: &str, proof: Proof, address: Option<String>) -> Result<Next> {
        let (job, x) = (self.d.job.id, self.delivery);
        self.d.porter.store.change(|tx| {
            let (name, place, preset) = (name.to_owned(), x.place.clone(), self.output.preset.clone());
            tx.put(Change::Delivered { job, output: x.output, preset, place, name, proof, address })?;
            go_on(tx, job)
        })?;
        Ok(Next::Moved)
    }

    /// What was made is not there any more, or not what was made; the source is.
    fn make_again(&self, why: &str) -> Result<Next> {
        let job = self.d.job.id;
        let events = self.d.porter.store.read(|v| v.events(job))?;
        let remade = events.iter().filter(|e| matches!(e.change, Change::Remade { .. })).count();
        if remade >= MAX_REMADE {
            let why =
                format!("{why}; it was made again {remade} times. Is the disk of the state folder good?");
            return Ok(Next::wait(Cause::System { why }, self.d.house.retry_after));
        }
        let (output, preset) = (self.output.number, self.output.preset.clone());
        self.d.commit(Change::Remade { job, output, preset, why: why.to_owned() })?;
        Ok(Next::Moved)
    }
}
