//! The porter's side: start a child, feed it, watch it.

use super::nursery::{Borne, Nursery};
use super::{Bounds, Class, End, Order, Said, Work, sandbox};
use crate::config::MakerLimits;
use crate::error::{Error, Result};
use crate::progress::Progress;
use media::facts::Facts;
use rustix::event::{PollFd, PollFlags};
use rustix::time::Timespec;
use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::Path;
use std::process::{Child, Command, ExitStatus};
use std::time::{Duration, Instant};
use words::Transcript;

/// The hidden command of the program that runs [`super::child::main`].
pub const COMMAND: &str = "make-in-child";

/// What came of a child.
#[derive(Debug)]
pub enum Outcome {
    Looked(Box<Facts>),
    /// Every output came to an end, and this was heard.
    Ended(Vec<(u32, End)>, Vec<Transcript>),
    Tried(sandbox::Parts, Vec<(String, bool)>),
    /// The child said why not, for all it was to do.
    Failed {
        class: Class,
        message: String,
    },
    /// The child ended without a word, or had to be ended.
    Broke(String),
}

/// Longest part of a child's error output that is kept, and of what is shown of its last line.
const MAX_COMPLAINT: usize = 4096;
const MAX_SHOWN: usize = 300;
/// Longest line a child may say.
const MAX_LINE: usize = 512_000_000;
const LOOK_EVERY: Duration = Duration::from_millis(100);

/// A child that did what it was told to, and waits for more.
pub struct Waits {
    child: Kept,
    ears: Ears,
}

/// A child to be started.
pub struct Run<'a> {
    pub program: &'a Path,
    /// Where children begin at once; without it the program is started for each.
    pub nursery: Option<&'a Nursery>,
    pub limits: &'a MakerLimits,
    /// The open source; none for trying the walls.
    pub source: Option<File>,
    pub order: Order,
}

impl Run<'_> {
    fn start(&mut self) -> Result<Waits> {
        let wrong = |e: std::io::Error| Error::Maker(e.to_string());
        let (ours, its) = UnixStream::pair().map_err(wrong)?;
        let (complaints, to) = std::io::pipe().map_err(wrong)?;
        let complaints = Some(File::from(OwnedFd::from(complaints)));
        let ears = Ears { talk: ours, complaints, line: Vec::new(), kept: Vec::new() };
        let source = match self.source.take() {
            Some(source) => source,
            None => File::open("/dev/null").map_err(wrong)?,
        };
        if let Some(nursery) = self.nursery {
            match nursery.bear([source.as_fd(), its.as_fd(), to.as_fd()]) {
                Ok(borne) => return Ok(Waits { child: Kept::Borne(borne), ears }),
                Err(e) => tracing::debug!("no child could be borne ({e}): it is started"),
            }
        }
        // Nothing has to be done between the fork and the program (no file moved to a number), so that the system's fast
        // way to start a program is taken.
        let mut command = Command::new(self.program);
        command.arg(COMMAND).stdin(source).stdout(OwnedFd::from(its)).stderr(to);
        command.env_clear().current_dir(&self.order.folder);
        // Ctrl-C in a terminal is for the porter, which then ends its children in order.
        command.process_group(0);
        let child = command.spawn().map_err(Error::path("cannot start", self.program))?;
        Ok(Waits { child: Kept::Started(child), ears })
    }
}

/// Has an order done in a child. `progress` is called as it goes on, `stop` asked now and then.
pub fn run(run: Run<'_>, progress: impl FnMut(Progress), stop: impl Fn() -> bool) -> Result<Outcome> {
    run_on(run, None, progress, stop).map(|(outcome, _)| outcome)
}

/// The same, in a child that is there already; gives the child back if it stays.
pub fn run_on(
    mut run: Run<'_>,
    child: Option<Waits>,
    mut progress: impl FnMut(Progress),
    stop: impl Fn() -> bool,
) -> Result<(Outcome, Option<Waits>)> {
    let limits = run.limits;
    run.order.bounds = Bounds { memory: limits.memory, ..run.order.bounds };
    let looking = matches!(run.order.work, Work::Look | Work::Try);
    let Waits { mut child, mut ears } = match child {
        Some(child) => child,
        None => run.start()?,
    };
    let mut line = serde_json::to_vec(&run.order).map_err(|e| Error::Maker(e.to_string()))?;
    line.push(b'\n');
    // A child that died at once breaks it; its exit status tells more.
    let _ = ears.talk.write_all(&line);

    let start = Instant::now();
    let mut moved = (start, Progress::default());
    let (mut result, mut heard, mut refused) = (None, Vec::new(), None);
    let doing = if looking { "reading it" } else { "making" };
    let broke = loop {
        let Some(all) = ears.hear(LOOK_EVERY) else { break None };
        for said in all {
            match said {
                Said::Progress(now) => {
                    if now != moved.1 {
                        moved = (Instant::now(), now);
                    }
                    progress(now);
                }
                Said::Refused(bytes) => refused = Some(bytes),
                Said::Facts(facts) => result = Some(Outcome::Looked(facts)),
                Said::Heard(t) => heard.push(*t),
                Said::Ended(ends) => result = Some(Outcome::Ended(ends, std::mem::take(&mut heard))),
                Said::Tried { parts, tried } => result = Some(Outcome::Tried(parts, tried)),
                Said::Failed { class, message } => result = Some(Outcome::Failed { class, message }),
            }
        }
        if run.order.stays
            && let Some(Outcome::Looked(facts)) = result
        {
            return Ok((Outcome::Looked(facts), Some(Waits { child, ears })));
        }
        if stop() {
            return Err(Error::Stopped);
        }
        if moved.0.elapsed() > limits.stall {
            let at = moved.1;
            break Some(format!(
                "{doing} stood still for {} s at {} {} of {} and was ended (setting house.maker.stall)",
                limits.stall.as_secs(),
                at.unit,
                at.done,
                at.of.map_or("an unknown number".into(), |t| t.to_string()),
            ));
        }
        if start.elapsed() > limits.longest {
            break Some(format!(
                "{doing} took longer than {} s and was ended (setting house.maker.longest)",
                limits.longest.as_secs()
            ));
        }
    };
    if let Some(why) = broke {
        return Ok((Outcome::Broke(why), None));
    }
    let status = child.wait().map_err(Error::path("cannot wait for", run.program))?;
    let complaint = ears.complaint();
    let outcome = result.unwrap_or_else(|| match refused {
        Some(bytes) => Outcome::Broke(format!(
            "{doing} needed more than {} MB of memory ({bytes} bytes more were asked for; setting house.maker.memory)",
            limits.memory / 1_000_000
        )),
        None => Outcome::Broke(ended(doing, status, &complaint)),
    });
    Ok((outcome, None))
}

/// A child that does not outlive its task.
enum Kept {
    Started(Child),
    Borne(Borne),
}

impl Kept {
    fn wait(&mut self) -> std::io::Result<ExitStatus> {
        match self {
            Kept::Started(child) => child.wait(),
            Kept::Borne(child) => child.wait(),
        }
    }
}

impl Drop for Kept {
    fn drop(&mut self) {
        if let Kept::Started(child) = self {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// What comes from a child: its words, and what it complains of. Both are read by whoever waits for them.
struct Ears {
    talk: UnixStream,
    /// Until it closes.
    complaints: Option<File>,
    /// The line that is still coming.
    line: Vec<u8>,
    /// The end of the complaints.
    kept: Vec<u8>,
}

impl Ears {
    /// What was said since, after waiting for it a while at most; `None` when the child has no more to say.
    fn hear(&mut self, wait: Duration) -> Option<Vec<Said>> {
        let changed = PollFlags::IN | PollFlags::HUP | PollFlags::ERR;
        let mut both = vec![PollFd::new(&self.talk, PollFlags::IN)];
        both.extend(self.complaints.as_ref().map(|c| PollFd::new(c, PollFlags::IN)));
        let wait = Timespec { tv_sec: 0, tv_nsec: i64::from(wait.subsec_nanos()) };
        match rustix::event::poll(&mut both, Some(&wait)) {
            Ok(_) | Err(rustix::io::Errno::INTR) => (),
            Err(_) => return None,
        }
        let ready: Vec<bool> = both.iter().map(|f| f.revents().intersects(changed)).collect();
        drop(both);
        if ready.get(1) == Some(&true) && !self.read_complaints() {
            self.complaints = None;
        }
        if ready[0] { self.read_words() } else { Some(Vec::new()) }
    }

    fn read_words(&mut self) -> Option<Vec<Said>> {
        let mut block = [0u8; 1 << 16];
        let n = match self.talk.read(&mut block) {
            Ok(0) => return None,
            Ok(n) => n,
            Err(e) if e.kind() == std::io::ErrorKind::Interrupted => 0,
            // As when it has ended in the middle of a word.
            Err(_) => return None,
        };
        let mut said = Vec::new();
        let mut rest = &block[..n];
        while let Some(end) = rest.iter().position(|b| *b == b'\n') {
            self.line.extend_from_slice(&rest[..end]);
            said.extend(serde_json::from_slice::<Said>(&self.line));
            self.line.clear();
            rest = &rest[end + 1..];
        }
        self.line.extend_from_slice(rest);
        if self.line.len() > MAX_LINE {
            self.line = Vec::new();
        }
        Some(said)
    }

    /// False at the end.
    fn read_complaints(&mut self) -> bool {
        let mut block = [0u8; 4096];
        let Some(from) = &mut self.complaints else { return false };
        match from.read(&mut block) {
            Ok(0) | Err(_) => false,
            Ok(n) => {
                self.kept.extend_from_slice(&block[..n]);
                if self.kept.len() > MAX_COMPLAINT {
                    self.kept.drain(..self.kept.len() - MAX_COMPLAINT);
                }
                true
            }
        }
    }

    /// The end of what an ended child complained of.
    fn complaint(mut self) -> String {
        while self.read_complaints() {}
        String::from_utf8_lossy(&self.kept).trim().to_owned()
    }
}

fn ended(doing: &str, status: ExitStatus, complaint: &str) -> String {
    let shown = |l: &str| media::show::text(l.trim()).chars().take(MAX_SHOWN).collect::<String>();
    let lines: Vec<&str> =
        complaint.lines().filter(|l| !l.trim().is_empty() && !l.starts_with("note: ")).collect();
    // A panic says where it was and, on the next line, why.
    let from =
        lines.iter().rposition(|l| l.contains(" panicked at ")).unwrap_or(lines.len().saturating_sub(1));
    let last = lines[from.min(lines.len())..].iter().map(|l| shown(l)).collect::<Vec<_>>().join(" ");
    let last = if last.is_empty() { last } else { format!("; last words: {last}") };
    match (status.signal(), status.code()) {
        (Some(n), _) => {
            format!("{doing} crashed: the child was ended by signal {n} ({}){last}", signal_name(n))
        }
        (_, Some(code)) => format!("{doing} ended without a result, exit status {code}{last}"),
        _ => format!("{doing} ended without a result{last}"),
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
        24 => "its processor time was used up",
        25 => "its file became too large",
        31 => "a call to the system that is not allowed",
        _ => "signal",
    }
}
