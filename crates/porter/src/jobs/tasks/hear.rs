//! Transcripts, in a child. A service that is away holds the transcripts that need it, and nothing else.

use super::make::{Made, failed, unexpected};
use super::{Desk, Next, wait_after};
use crate::error::Result;
use crate::maker::{Class, End, Outcome, Work};
use crate::store::{Cause, Output, OutputEnd, Task};
use std::time::Instant;

pub fn hear(d: &Desk<'_>, task: &Task) -> Result<Next> {
    let start = Instant::now();
    let all = d.porter.store.read(|v| v.outputs(d.job.id))?;
    let folder = d.work_folder()?;
    let open = all.iter().filter(|o| o.heard && o.end == OutputEnd::Open);
    let (packages, open): (Vec<&Output>, Vec<&Output>) = open.partition(|o| o.is_package());
    if open.is_empty()
        && let Some(package) = packages.first()
    {
        return super::pack::pack(d, &all, package, task.tries);
    }
    let outputs = d.ordered(&folder, open.into_iter())?;
    let made = |o: &&Output| !o.heard && !o.is_original() && matches!(o.end, OutputEnd::Made { .. });
    let media = d.ordered(&folder, all.iter().filter(made))?;
    let numbers: Vec<u32> = outputs.iter().map(|o| o.number).collect();
    match d.in_child(Work::Hear { outputs, media }, &folder)? {
        Made::Gone(next) => Ok(next),
        Made::Did(Outcome::Ended(ends, heard)) => {
            d.record_heard(&ends, &heard)?;
            let away = ends.iter().find_map(|(_, e)| match e {
                End::Failed { class: Class::Service, why } => Some(why.clone()),
                _ => None,
            });
            Ok(match away {
                Some(why) => Next::wait(
                    Cause::Service { why },
                    wait_after(start.elapsed(), d.house.retry_after, d.job.id),
                ),
                None => Next::Moved,
            })
        }
        Made::Did(Outcome::Failed { class, message }) => failed(d, task, class, &message, &numbers),
        Made::Did(Outcome::Broke(why)) => d.child_broke(&numbers, why),
        Made::Did(_) => Err(unexpected()),
    }
}
