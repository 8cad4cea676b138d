//! One output to one place.

use super::{Desk, Next, go_on};
use crate::config::Where;
use crate::deliver::pace::Paced;
use crate::deliver::{Cargo, FolderPlace, Place, Proof, Published, Ticket, Trouble, Whose};
use crate::error::{Error, Result};
use crate::files::Watching;
use crate::files::known::Role;
use crate::naming;
use crate::progress::{Progress, Stage, Unit};
use crate::store::{Cause, Change, Delivery, Output};
use std::path::Path;

/// An output that was not what was made is made again this often.
const MAX_REMADE: usize = 3;
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
    let carried = Carried { d, output: made, delivery };
    match carried.carry() {
        Ok(next) => Ok(next),
        Err(Broken::Error(e)) => Err(e),
        Err(Broken::Trouble(Trouble::Stopped)) => Err(Error::Stopped),
        Err(Broken::Trouble(Trouble::Changed(why))) => carried.make_again(&why),
        Err(Broken::Trouble(t)) => {
            let place_is_away = matches!(t, Trouble::Away(_) | Trouble::Full(_));
            let cause = Cause::Place { name: place.to_owned(), why: t.to_string() };
            // What is refused stays so until a person acts: it is not tried as often.
            let factor = if place_is_away { 1 } else { REFUSED_WAITS };
            Ok(Next::Wait { cause, wait: d.house.retry_after * factor, place_is_away })
        }
    }
}

/// A job is given up: what was published without a record of it is recorded, what was staged is cleared away. A place
/// that is away is waited for.
pub fn give_up(d: &Desk<'_>) -> Result<Option<Next>> {
    let job = d.job.id;
    let (outputs, deliveries) = d.porter.store.read(|v| Ok((v.outputs(job)?, v.deliveries(job)?)))?;
    for delivery in deliveries.iter().filter(|x| x.delivered.is_none()) {
        let (Some(name), Some(ticket)) = (&delivery.name, &delivery.ticket) else { continue };
        let Some(output) = outputs.iter().find(|o| o.number == delivery.output) else { continue };
        let carried = Carried { d, output, delivery };
        let path = d.made_file(&d.porter.work_folder(job), output);
        let cargo = Cargo { path, files: output.files().to_vec() };
        let cleared = carried.place().and_then(|place| {
            match place.whose(name, ticket, &cargo)? {
                Whose::Ours => carried.record(name, place.about().proof)?,
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

struct Carried<'a> {
    d: &'a Desk<'a>,
    output: &'a Output,
    delivery: &'a Delivery,
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
        Ok(Box::new(FolderPlace::new(dir)))
    }

    fn carry(&self) -> std::result::Result<Next, Broken> {
        let (d, delivery) = (self.d, self.delivery);
        let path = d.made_file(&d.porter.work_folder(d.job.id), self.output);
        let cargo = Cargo { path, files: self.output.files().to_vec() };
        let bytes = cargo.files.iter().map(|f| f.bytes).sum::<u64>();
        let place = self.place()?;
        let place = place.as_ref();
        let mut known = delivery.name.clone().zip(delivery.ticket.clone());
        // A name from before a restart: was it published, and only the record of it lost?
        if let Some((name, ticket)) = &known {
            match place.whose(name, ticket, &cargo)? {
                Whose::Ours => return Ok(self.delivered(name, place.about().proof)?),
                Whose::Nothing => (),
                Whose::Other => {
                    place.discard(name, ticket)?;
                    known = None;
                }
            }
        }
        if !self.is_whole(&cargo) {
            return Err(Trouble::Changed("an output is gone from the work folder".into()).into());
        }
        let begin = || -> std::result::Result<Ticket, Broken> {
            let tag = format!("{}-{}-{}", d.porter.tag(d.job.id), self.output.number, crate::clock::nonce());
            Ok(place.begin(&tag)?)
        };
        let (mut name, mut ticket) = match known {
            Some(known) => known,
            None => {
                let ticket = begin()?;
                (self.free_name(place, &ticket)?, ticket)
            }
        };
        let pace = d.house.place(&delivery.place).and_then(|p| d.porter.pace(p));
        let watching = Paced { watching: d.worker, pace: pace.as_deref() };
        loop {
            let prepared = place.prepare(&cargo, &name, &ticket)?;
            if prepared != ticket {
                self.carrying(&name, &prepared)?;
                ticket = prepared;
            }
            // Written once, read back once.
            let of = Some(bytes * 2);
            let output = Some(self.output.number);
            d.worker.tell(Progress { stage: Stage::Carrying, output, done: 0, of, unit: Unit::Bytes });
            let proof = place.stage(&cargo, &name, &ticket, &watching)?;
            crate::stops::here("staged");
            loop {
                if place.publish(&ticket, &name)? == Published::Done {
                    crate::stops::here("published");
                    return Ok(self.delivered(&name, proof)?);
                }
                // Someone else put a file there since: ours gets the next name, in the same folder.
                if place.about().staged_by_name {
                    place.discard(&name, &ticket)?;
                    ticket = begin()?;
                    name = self.free_name(place, &ticket)?;
                    break;
                }
                name = self.free_name(place, &ticket)?;
            }
        }
    }

    /// Records a ticket for a name that is given already.
    fn carrying(&self, name: &str, ticket: &Ticket) -> Result<()> {
        let (job, x) = (self.d.job.id, self.delivery);
        let (name, place, ticket) = (name.to_owned(), x.place.clone(), ticket.clone());
        let preset = self.output.preset.clone();
        self.d.commit(Change::Carrying { job, output: x.output, preset, place, name, ticket })
    }

    fn is_whole(&self, cargo: &Cargo) -> bool {
        let there = |p: &Path, bytes| std::fs::metadata(p).is_ok_and(|m| m.len() == bytes);
        !cargo.files.is_empty()
            && cargo.files.iter().all(|f| match f.inside.as_str() {
                "" => there(&cargo.path, f.bytes),
                inside => there(&cargo.path.join(inside), f.bytes),
            })
    }

    /// The first name that nothing at the place has and no other job was given, recorded as this delivery's.
    fn free_name(&self, place: &dyn Place, ticket: &Ticket) -> std::result::Result<String, Broken> {
        let (job, x) = (self.d.job.id, self.delivery);
        for n in 1.. {
            if self.d.worker.stopping() {
                return Err(Trouble::Stopped.into());
            }
            let name = naming::numbered(&x.wanted, n);
            let store = &self.d.porter.store;
            if store.read(|v| v.name_is_given(&x.place, &name))? || place.has(&name)? {
                continue;
            }
            let (given, _) = store.change(|tx| {
                // Another job may have been faster.
                if tx.name_is_given(&x.place, &name)? {
                    return Ok(false);
                }
                let (name, place, ticket) = (name.clone(), x.place.clone(), ticket.clone());
                let preset = self.output.preset.clone();
                tx.put(Change::Carrying { job, output: x.output, preset, place, name, ticket })?;
                Ok(true)
            })?;
            if given {
                return Ok(name);
            }
        }
        unreachable!("numbers do not end")
    }

    /// Records a delivery of a job that is given up.
    fn record(&self, name: &str, proof: Proof) -> Result<()> {
        let (job, x) = (self.d.job.id, self.delivery);
        let (name, place, preset) = (name.to_owned(), x.place.clone(), self.output.preset.clone());
        self.d.commit(Change::Delivered { job, output: x.output, preset, place, name, proof })
    }

    fn delivered(&self, name: &str, proof: Proof) -> Result<Next> {
        let (job, x) = (self.d.job.id, self.delivery);
        self.d.porter.store.change(|tx| {
            let (name, place, preset) = (name.to_owned(), x.place.clone(), self.output.preset.clone());
            tx.put(Change::Delivered { job, output: x.output, preset, place, name, proof })?;
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
