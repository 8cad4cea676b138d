//! A bar for each output, while a person looks on.

use std::io::{IsTerminal, Write};
use std::time::Instant;

const WIDTH: usize = 24;

pub struct Bars {
    names: Vec<String>,
    totals: Vec<Option<u64>>,
    /// How long the source plays.
    seconds: Option<f64>,
    start: Instant,
    /// Lines that stand there now.
    lines: usize,
    seen: bool,
}

impl Bars {
    pub fn new(names: &[String], totals: &[Option<u64>], seconds: Option<f64>, wanted: bool) -> Bars {
        Bars {
            names: names.to_vec(),
            totals: totals.to_vec(),
            seconds,
            start: Instant::now(),
            lines: 0,
            seen: wanted && std::io::stderr().is_terminal(),
        }
    }

    pub fn show(&mut self, done: &[u64]) {
        if !self.seen {
            return;
        }
        let mut text = self.up();
        let took = self.start.elapsed().as_secs_f64();
        let wide = self.names.iter().map(|n| n.chars().count()).max().unwrap_or(0);
        for ((name, of), done) in self.names.iter().zip(&self.totals).zip(done) {
            let rest = match of.filter(|of| *of > 0) {
                Some(of) => {
                    let part = (*done as f64 / of as f64).clamp(0.0, 1.0);
                    let filled = (part * WIDTH as f64).round() as usize;
                    let bar = "#".repeat(filled) + &".".repeat(WIDTH - filled);
                    let speed =
                        self.seconds.map_or(String::new(), |s| format!("  {:.1}x", s * part / took.max(0.1)));
                    let left = if part > 0.01 && part < 1.0 {
                        format!("  {} left", super::seconds(took * (1.0 - part) / part))
                    } else {
                        String::new()
                    };
                    format!("[{bar}] {:3.0} %{speed}{left}", part * 100.0)
                }
                None => format!("{done}"),
            };
            text.push_str(&format!("\x1b[K{name:wide$}  {rest}\n"));
        }
        self.lines = self.names.len();
        let _ = std::io::stderr().write_all(text.as_bytes());
    }

    fn up(&self) -> String {
        if self.lines > 0 { format!("\x1b[{}A", self.lines) } else { String::new() }
    }

    /// Makes room for lines of other kinds; they come again behind these.
    pub fn hide(&mut self) {
        if self.seen && self.lines > 0 {
            let _ = write!(std::io::stderr(), "{}\x1b[J", self.up());
        }
        self.lines = 0;
    }

    /// Takes the bars away.
    pub fn take_away(mut self) {
        self.hide();
    }
}
