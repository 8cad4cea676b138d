//! The porter's side: start a child, feed it, watch it.

use super::{Finished, Order, Said};
use crate::config::MakerLimits;
use crate::error::{Error, Result};
use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::Path;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::{Duration, Instant};

/// The hidden command of the program that runs [`super::child::main`].
pub const COMMAND: &str = "make-in-child";

/// How far a job's making is.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Progress {
    pub done: u64,
    pub total: Option<u64>,
    /// Bytes of the outputs read back so far.
    pub checked: u64,
    /// Grows while a service is waited for.
    pub waited: u64,
}

/// What came of a child.
#[derive(Debug)]
pub enum Outcome {
    Made(Vec<Finished>),
    /// The child said why not: a class of [`media::Error::class`], and a message.
    Failed {
        class: String,
        message: String,
    },
    /// The child ended without a word, or had to be ended.
    Broke(String),
}

/// Longest part of a child's error output that is kept.
const MAX_COMPLAINT: usize = 4096;
const LOOK_EVERY: Duration = Duration::from_millis(100);

/// Makes an order in a child of `program`. `progress` is called as it goes on, `stop` asked now and then.
pub fn make(
    program: &Path,
    order: &Order,
    limits: &MakerLimits,
    mut progress: impl FnMut(Progress),
    stop: impl Fn() -> bool,
) -> Result<Outcome> {
    let mut command = Command::new(program);
    command.arg(COMMAND).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    // Ctrl-C in a terminal is for the porter, which then ends its children in order.
    command.process_group(0);
    let mut child = Kept(command.spawn().map_err(Error::path("cannot start", program))?);
    let mut line = serde_json::to_vec(order).map_err(|e| Error::Maker(e.to_string()))?;
    line.push(b'\n');
    let mut input = child.0.stdin.take();
    if let Some(input) = &mut input {
        // A child that died at once breaks the pipe; its exit status tells more.
        let _ = input.write_all(&line).and_then(|()| input.flush());
    }
    let (Some(output), Some(complaints)) = (child.0.stdout.take(), child.0.stderr.take()) else {
        return Err(Error::Maker("the child has no output".into()));
    };
    let (tell, told) = channel();
    std::thread::spawn(move || {
        for line in BufReader::new(output).lines().map_while(std::result::Result::ok) {
            if let Ok(said) = serde_json::from_str::<Said>(&line)
                && tell.send(said).is_err()
            {
                return;
            }
        }
    });
    let complaints = std::thread::spawn(move || tail(complaints));

    let start = Instant::now();
    let mut moved = (start, Progress::default());
    let mut result = None;
    let broke = loop {
        match told.recv_timeout(LOOK_EVERY) {
            Ok(Said::Progress { done, total, checked, waited }) => {
                let now = Progress { done, total, checked, waited };
                if now != moved.1 {
                    moved = (Instant::now(), now);
                }
                progress(now);
            }
            Ok(Said::Made(finished)) => result = Some(Outcome::Made(finished)),
            Ok(Said::Failed { class, message }) => result = Some(Outcome::Failed { class, message }),
            Err(RecvTimeoutError::Disconnected) => break None,
            Err(RecvTimeoutError::Timeout) => (),
        }
        if stop() {
            return Err(Error::Stopped);
        }
        if moved.0.elapsed() > limits.stall {
            break Some(format!(
                "making stood still for {} s at frame {} of {} and was ended (setting house.maker.stall)",
                limits.stall.as_secs(),
                moved.1.done,
                moved.1.total.map_or("an unknown number".into(), |t| t.to_string()),
            ));
        }
        if start.elapsed() > limits.longest {
            break Some(format!(
                "making took longer than {} s and was ended (setting house.maker.longest)",
                limits.longest.as_secs()
            ));
        }
    };
    if let Some(why) = broke {
        return Ok(Outcome::Broke(why));
    }
    let status = child.0.wait().map_err(Error::path("cannot wait for", program))?;
    drop(input);
    let complaint = complaints.join().unwrap_or_default();
    Ok(result.unwrap_or_else(|| Outcome::Broke(ended(status, &complaint, limits))))
}

/// A child that does not outlive its job.
struct Kept(Child);

impl Drop for Kept {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn tail(mut from: impl Read) -> String {
    let mut kept = Vec::new();
    let mut block = [0u8; 1024];
    while let Ok(n @ 1..) = from.read(&mut block) {
        kept.extend_from_slice(&block[..n]);
        if kept.len() > MAX_COMPLAINT {
            kept.drain(..kept.len() - MAX_COMPLAINT);
        }
    }
    String::from_utf8_lossy(&kept).trim().to_owned()
}

fn ended(status: ExitStatus, complaint: &str, limits: &MakerLimits) -> String {
    if complaint.contains("memory allocation of") {
        return format!(
            "making needed more than {} MB of memory (setting house.maker.memory)",
            limits.memory / 1_000_000
        );
    }
    let last = complaint
        .lines()
        .rev()
        .find(|l| !l.trim().is_empty())
        .map_or(String::new(), |l| format!("; last words: {}", l.trim()));
    match (status.signal(), status.code()) {
        (Some(n), _) => {
            format!("making crashed: the child was ended by signal {n} ({}){last}", signal_name(n))
        }
        (_, Some(code)) => format!("making ended without a result, exit status {code}{last}"),
        _ => format!("making ended without a result{last}"),
    }
}

fn signal_name(n: i32) -> &'static str {
    match n {
        4 => "illegal instruction",
        6 => "abort",
        7 => "bus error",
        8 => "arithmetic error",
        9 => "killed",
        11 => "invalid memory access",
        15 => "terminated",
        _ => "signal",
    }
}
