//! Events of the record, a line each.

use porter::clock;
use porter::store::Event;

pub fn print(e: &Event) {
    crate::say!("{}  {}", clock::local_time(e.at), line(e));
}

pub fn print_dated(e: &Event) {
    let mut e = e.clone();
    e.job = None;
    crate::say!("  {}  {}", clock::local(e.at), line(&e));
}

fn line(e: &Event) -> String {
    let job = e.job.map_or(String::new(), |j| format!("job {j:<4} "));
    let detail = e.detail.as_deref().unwrap_or("");
    format!("{job}{:<16} {detail}", e.what).trim_end().to_owned()
}
