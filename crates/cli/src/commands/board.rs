//! `board`: the house on a whole terminal, kept up to date.

use super::jobs::have_done;
use crate::args;
use crate::ui::board::{Key, Over, View, Wish};
use crate::ui::{self, events};
use anyhow::{Context, Result, bail};
use porter::config::House;
use porter::control::Order;
use porter::jobs::schedule::FIRST;
use porter::{report, web};
use ratatui::crossterm::event::{self, Event, KeyCode, KeyEventKind, KeyModifiers};
use std::io::IsTerminal;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// How often the house is looked at.
const LOOK: Duration = Duration::from_millis(500);
const MOST_ENDED: u32 = 100;

pub fn board(a: &args::Board) -> Result<ExitCode> {
    let at = a.house.find();
    let (house, _) = House::load_to_look(&at)?;
    if a.web {
        return in_browser(a, at, house);
    }
    if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        bail!("the board needs a terminal; 'deft-porter status' prints what is going on");
    }
    let colour = std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty());
    let mut view = View { colour, ..View::default() };
    let mut status = report::status(&house, MOST_ENDED)?;
    let mut terminal = ratatui::try_init().context("this terminal cannot be drawn on")?;
    let result = (|| -> Result<()> {
        let mut looked = Instant::now();
        loop {
            terminal.draw(|f| view.draw(f, &status))?;
            if event::poll(LOOK.saturating_sub(looked.elapsed()))? {
                if let Event::Key(k) = event::read()?
                    && k.kind == KeyEventKind::Press
                {
                    if k.modifiers.contains(KeyModifiers::CONTROL) && k.code == KeyCode::Char('c') {
                        return Ok(());
                    }
                    let wish = key(k.code).map_or(Wish::Nothing, |k| view.key(k, &status));
                    if wish == Wish::Leave {
                        return Ok(());
                    }
                    grant(&at, &house, &mut view, wish);
                }
                // Keys that wait are taken before the next look.
                if looked.elapsed() < LOOK {
                    continue;
                }
            }
            looked = Instant::now();
            match report::status(&house, MOST_ENDED) {
                Ok(now) => status = now,
                Err(e) => view.said = e.to_string(),
            }
        }
    })();
    ratatui::restore();
    result.map(|()| ExitCode::SUCCESS)
}

/// The same for a browser, until the program is ended.
fn in_browser(a: &args::Board, at: PathBuf, house: House) -> Result<ExitCode> {
    let listener = web::listen(a.listen)?;
    let token = a.control.then(web::token).transpose()?;
    let address = listener.local_addr()?;
    let secret = token.as_ref().map_or(String::new(), |t| format!("#token={t}"));
    crate::say!("The board of {} is at http://{address}/{secret}", house.name);
    if token.is_some() {
        crate::say!("Whoever has this address can give orders. Ctrl-C ends the board; the porter goes on.");
    } else {
        crate::say!(
            "It is for reading (--control takes orders as well). Ctrl-C ends it; the porter goes on."
        );
    }
    let house = Arc::new(house);
    let (one, all) = (house.clone(), house);
    let words = |e: &dyn std::fmt::Display| e.to_string();
    let desk = web::Desk {
        status: Box::new(move || {
            let status = report::status(&all, MOST_ENDED).map_err(|e| words(&e))?;
            serde_json::to_string(&status).map_err(|e| words(&e))
        }),
        job: Box::new(move |job| {
            let told = report::history(&one, job).map_err(|e| words(&e))?;
            let json = told.map(|(job, events)| serde_json::json!({ "job": job, "events": events }));
            Ok(json.map(|j| j.to_string()))
        }),
        token,
        order: Box::new(move |order| match have_done(&at, order) {
            Ok((said, false)) => Ok(said.join(" ")),
            Ok((said, true)) => Err(said.join(" ")),
            Err(e) => Err(ui::errors::line(&e)),
        }),
    };
    web::serve(listener, desk)?;
    Ok(ExitCode::SUCCESS)
}

fn key(code: KeyCode) -> Option<Key> {
    Some(match code {
        KeyCode::Up | KeyCode::Char('k') => Key::Up,
        KeyCode::Down | KeyCode::Char('j') => Key::Down,
        KeyCode::PageUp => Key::PageUp,
        KeyCode::PageDown => Key::PageDown,
        KeyCode::Home => Key::Top,
        KeyCode::End => Key::End,
        KeyCode::Enter => Key::Enter,
        KeyCode::Esc => Key::Escape,
        KeyCode::Char(c) => Key::Letter(c),
        _ => return None,
    })
}

fn grant(at: &std::path::Path, house: &House, view: &mut View, wish: Wish) {
    let order = match wish {
        Wish::Nothing | Wish::Leave => return,
        Wish::Details(job) => {
            let told = report::history(house, job).map(|h| {
                h.map(|(job, history)| {
                    let events: String = history.iter().map(|e| format!("{}\n", events::dated(e))).collect();
                    format!("{}\nWhat happened\n{events}", ui::status::one(&job))
                })
            });
            match told {
                Ok(Some(text)) => view.over = Over::Details { text, top: 0 },
                Ok(None) => view.said = format!("there is no job {job} any more"),
                Err(e) => view.said = e.to_string(),
            }
            return;
        }
        Wish::Cancel(job) => Order::Cancel { jobs: vec![job] },
        Wish::Hold(job) => Order::Hold { jobs: vec![job] },
        Wish::Release(job) => Order::Release { jobs: vec![job] },
        Wish::First(job) => Order::Rank { jobs: vec![job], priority: FIRST },
        Wish::Again(job) => Order::Again { jobs: vec![job] },
        Wish::Pause => Order::Pause,
        Wish::Resume => Order::Resume,
    };
    view.said = match have_done(at, order) {
        Ok((said, _)) => said.join(" "),
        Err(e) => ui::errors::line(&e),
    };
}
