//! Events of the record, a line each.

use porter::clock;
use porter::report::{EventStatus, told};
use porter::store::Event;

pub fn line(e: &Event) -> String {
    let (what, detail) = told(&e.change);
    let job = e.job.map_or(String::new(), |j| format!("job {j:<4} "));
    row(&clock::local_time(e.at), &job, &what, detail.as_deref())
}

/// With the day and the job.
pub fn whole(e: &EventStatus) -> String {
    let at = e.at.get(..19).unwrap_or(&e.at).replace('T', " ");
    let job = e.job.map_or(String::new(), |j| format!("job {j:<4} "));
    row(&at, &job, &e.what, e.detail.as_deref())
}

/// With the day, for a record that is read later.
pub fn dated(e: &EventStatus) -> String {
    let at = e.at.get(..19).unwrap_or(&e.at).replace('T', " ");
    format!("  {}", row(&at, "", &e.what, e.detail.as_deref()))
}

fn row(at: &str, job: &str, what: &str, detail: Option<&str>) -> String {
    let detail = media::show::text(detail.unwrap_or(""));
    format!("{at}  {job}{what:<16} {detail}").trim_end().to_owned()
}
