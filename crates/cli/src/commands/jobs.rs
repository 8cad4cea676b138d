//! `jobs`, `pause`, `resume`: orders to the porter that runs, or, where none does, into the record for the next one.

use super::status::one_job;
use crate::args::{Jobs, JobsWhat, Meant, Which};
use crate::ui::{self, errors};
use anyhow::{Result, bail};
use porter::config::House;
use porter::control::{Answer, Ask, Order, ask};
use porter::jobs::schedule::FIRST;
use porter::jobs::state::is_running;
use porter::jobs::{Porter, Stopper};
use porter::report::{self, Wants};
use std::path::Path;
use std::process::ExitCode;
use std::time::{Duration, Instant};

const STARTING: Duration = Duration::from_secs(5);

pub fn jobs(a: &Jobs) -> Result<ExitCode> {
    match &a.what {
        JobsWhat::List { which, house, most, json } => list(&house.find(), which, *most, *json),
        JobsWhat::Show { job, house, json } => {
            let (house, _) = House::load_to_look(&house.find())?;
            one_job(&house, *job, *json)
        }
        JobsWhat::Cancel(m) => of(m, |jobs| Order::Cancel { jobs }),
        JobsWhat::Again(m) => of(m, |jobs| Order::Again { jobs }),
        JobsWhat::Hold(m) => of(m, |jobs| Order::Hold { jobs }),
        JobsWhat::Release(m) => of(m, |jobs| Order::Release { jobs }),
        JobsWhat::First(m) => of(m, |jobs| Order::Rank { jobs, priority: FIRST }),
        JobsWhat::Priority { priority, meant } => of(meant, |jobs| Order::Rank { jobs, priority: *priority }),
    }
}

/// An order for the jobs that are meant: by number, or all that are like what is said.
fn of(meant: &Meant, make: impl Fn(Vec<i64>) -> Order) -> Result<ExitCode> {
    let at = meant.house.find();
    let wants = wants(&meant.which)?;
    let jobs = match (meant.jobs.is_empty(), wants.is_all()) {
        (false, true) => meant.jobs.clone(),
        (false, false) => bail!("numbers of jobs, or --state, --watch, --name and --since: not both"),
        (true, true) => bail!("which jobs? Give their numbers, or --state, --watch, --name or --since"),
        (true, false) => {
            let (house, _) = House::load_to_look(&at)?;
            report::jobs(&house, &wants, u32::MAX)?.iter().map(|j| j.job).collect()
        }
    };
    if jobs.is_empty() {
        bail!("there are no jobs like that");
    }
    order(&at, make(jobs))
}

fn wants(w: &Which) -> Result<Wants<'_>> {
    let since = w.since.as_deref().map(super::day).transpose()?;
    Ok(Wants { state: w.state.as_deref(), watch: w.watch.as_deref(), name: w.name.as_deref(), since })
}

/// Has an order done. Exit status 1: something of it was not.
pub fn order(at: &Path, order: Order) -> Result<ExitCode> {
    let (said, refused) = have_done(at, order)?;
    said.iter().for_each(|line| crate::say!("{line}"));
    Ok(ExitCode::from(u8::from(refused)))
}

/// What came of an order, and whether something of it was refused.
pub fn have_done(at: &Path, order: Order) -> Result<(Vec<String>, bool)> {
    let (house, _) = House::load_to_look(at)?;
    Ok(match ask_it(&house, &order) {
        Some(Answer::Done { said, refused }) => (said, refused),
        Some(Answer::Refused { why }) => bail!("the porter refused: {why}"),
        Some(Answer::Now(_)) => bail!("the porter answered something else; is it of another version?"),
        None => without_porter(house, &order)?,
    })
}

/// A porter that is just starting holds its lock, and does not answer yet.
fn ask_it(house: &House, order: &Order) -> Option<Answer> {
    let asked = Instant::now();
    loop {
        let answer = ask(&house.state, Ask::Do(order.clone()));
        if answer.is_some() || !is_running(house) || asked.elapsed() > STARTING {
            return answer;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// No porter runs: the order is recorded, and the next one goes by it. A porter that runs and does not answer keeps its
/// house locked, which is said.
fn without_porter(house: House, order: &Order) -> Result<(Vec<String>, bool)> {
    if !house.store_file().exists() {
        bail!("no porter ever worked on this house: there are no jobs yet");
    }
    let porter = Porter::open(house, std::env::current_exe()?, Stopper::default())?;
    let done = porter.order(order)?;
    let mut said = done.said;
    if !done.refused {
        said.push("No porter is running: the next one goes by this.".to_owned());
    }
    Ok((said, done.refused))
}

fn list(at: &Path, which: &Which, most: u32, json: bool) -> Result<ExitCode> {
    let wants = wants(which)?;
    let (house, wrong) = House::load_to_look(at)?;
    if let Some(e) = wrong {
        errors::show(&e.into());
    }
    let all = report::jobs(&house, &wants, most)?;
    if json {
        ui::print_json(&all)?;
        return Ok(ExitCode::SUCCESS);
    }
    if all.is_empty() {
        crate::say!("no jobs{}", if wants.is_all() { " yet" } else { " like that" });
        return Ok(ExitCode::SUCCESS);
    }
    crate::say_part!("{}", ui::status::list(&all));
    Ok(ExitCode::SUCCESS)
}
