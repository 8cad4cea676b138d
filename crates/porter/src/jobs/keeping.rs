//! How long the record is kept: jobs that ended long ago are forgotten, with all that happened to them, but for those whose
//! original still lies where it arrived. It is known by the record alone, and would arrive once more.

use super::Porter;
use crate::clock;
use crate::error::Result;
use crate::files::many::Many;
use crate::store::{Change, Job, JobId};
use std::collections::HashMap;
use std::path::Path;

/// Jobs that are looked at in one turn, and forgotten in one change.
const AT_ONCE: u32 = 500;

impl Porter {
    /// Forgets some of what is old enough; gives behind which job it goes on, `None` when all was looked at.
    pub fn forget_some(&self, after: JobId) -> Result<Option<JobId>> {
        let house = self.house();
        let Some(keep) = house.keep_records else { return Ok(None) };
        let before = clock::now() - keep.as_micros() as i64;
        let jobs = self.store.read(|v| v.ended_before(before, after, AT_ONCE))?;
        let mut folders = HashMap::new();
        let mut gone = Vec::new();
        for job in &jobs {
            let folder = folders
                .entry(job.watch.clone())
                .or_insert_with(|| house.watch(&job.watch).map(|w| self.open_watch(w)));
            let lies_there = match folder {
                // Of a watch that is not there any more nothing can arrive; of one that is away nothing can be said.
                None => false,
                Some(Err(_)) => true,
                Some(Ok(folder)) => lies_there(folder, job),
            };
            if !lies_there {
                gone.push(job.id);
            }
        }
        if !gone.is_empty() {
            self.store.commit([Change::Forgotten { jobs: gone }])?;
        }
        Ok(jobs.last().filter(|_| jobs.len() == AT_ONCE as usize).map(|j| j.id))
    }
}

/// Something is under the original's path: whatever it is, the record says what was done with it.
fn lies_there(folder: &crate::files::Dir, job: &Job) -> bool {
    let found = match &job.many {
        Some(Many::Run(frames)) => {
            let above = job.path.parent().unwrap_or(Path::new(""));
            folder.look_at(&above.join(frames.name(frames.first)))
        }
        _ => folder.look_at(&job.path),
    };
    !matches!(found, Ok(None))
}
