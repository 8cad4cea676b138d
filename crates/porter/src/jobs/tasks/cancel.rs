//! A person does not want a job any more. What was delivered stays, what was begun is cleared away, and the original stays
//! where it is, known as worked on.

use super::{Desk, Next, carry};
use crate::error::Result;
use crate::store::Change;

pub fn cancel(d: &Desk<'_>) -> Result<Next> {
    if let Some(wait) = carry::give_up(d)? {
        return Ok(wait);
    }
    d.commit(Change::Cancelled { job: d.job.id })?;
    Ok(Next::Moved)
}
