//! Children that begin at once. To start this program costs two milliseconds and more (its libraries are joined to it, and
//! eighty thousand places of it are set right), before a child has done anything: for a picture that is much. So one
//! process of it waits, ready and with nothing in it, and each child is a copy of that one. It never sees an order or a
//! source: those go from the porter to the child itself, on files that it only hands on.
//!
//! Copies have the same addresses, by which one could be told from another what to attack: after [`MOST`] of them the
//! one that waits is another.

use super::{child, sandbox};
use rustix::event::{PollFd, PollFlags, poll};
use rustix::net::{
    RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendAncillaryBuffer, SendAncillaryMessage,
    SendFlags, recvmsg, sendmsg,
};
use rustix::process::{
    Pid, PidfdFlags, Signal, WaitId, WaitIdOptions, getpid, pidfd_open, pidfd_send_signal, waitid,
};
use std::io::{self, IoSlice, IoSliceMut, Read, Write};
use std::mem::MaybeUninit;
use std::net::Shutdown;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::{Mutex, MutexGuard};
use std::time::Duration;

/// The hidden command of the program that runs [`main`].
pub const COMMAND: &str = "bear-children";
/// Copies of one process.
const MOST: u32 = 200;
/// The source, the connection, the error output, and how it ended.
const FILES: usize = 4;
/// A child that was told to end is waited for this long, and a process that is to bear children until it says that it can.
const PATIENCE: Duration = Duration::from_secs(5);
const READY: u8 = 1;

/// The porter's side.
pub struct Nursery {
    program: PathBuf,
    now: Mutex<Waiting>,
}

#[derive(Default)]
struct Waiting {
    mother: Option<Mother>,
    /// Those that nothing more is asked of; each ends when its children have.
    retired: Vec<Child>,
    /// This system has none: children are started one by one.
    barren: bool,
}

struct Mother {
    asked: UnixStream,
    process: Child,
    bore: u32,
}

/// A child: how it ends is told by its mother, which ends it when this is dropped.
#[derive(Debug)]
pub struct Borne(UnixStream);

impl Nursery {
    pub fn new(program: &Path) -> Nursery {
        Nursery { program: program.to_owned(), now: Mutex::default() }
    }

    fn now(&self) -> MutexGuard<'_, Waiting> {
        self.now.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// A child with these as its three standard files.
    pub fn bear(&self, files: [BorrowedFd<'_>; 3]) -> io::Result<Borne> {
        let mut now = self.now();
        if now.barren {
            return Err(io::ErrorKind::Unsupported.into());
        }
        now.retired.retain_mut(|old| !matches!(old.try_wait(), Ok(Some(_))));
        let (ours, its) = UnixStream::pair()?;
        let [source, talk, complaints] = files;
        let files = [source, talk, complaints, its.as_fd()];
        // One that ended (somebody killed it) is noticed when it is asked.
        for _ in 0..2 {
            let mother = match &mut now.mother {
                Some(mother) => mother,
                none => match Mother::start(&self.program) {
                    Ok(mother) => none.insert(mother),
                    Err(e) => {
                        now.barren = true;
                        return Err(e);
                    }
                },
            };
            let sent = mother.ask(&files);
            if mother.bore >= MOST || sent.is_err() {
                let old = now.mother.take();
                now.retired.extend(old.map(|m| m.process));
            }
            if sent.is_ok() {
                return Ok(Borne(ours));
            }
        }
        Err(io::ErrorKind::BrokenPipe.into())
    }
}

impl Drop for Nursery {
    fn drop(&mut self) {
        let mut now = self.now();
        if let Some(mother) = now.mother.take() {
            drop(mother.asked);
            now.retired.push(mother.process);
        }
        for old in &mut now.retired {
            let _ = old.wait();
        }
    }
}

impl Mother {
    fn start(program: &Path) -> io::Result<Mother> {
        let (asked, its) = UnixStream::pair()?;
        let mut command = Command::new(program);
        command.arg(COMMAND).stdin(Stdio::null()).stdout(OwnedFd::from(its)).stderr(Stdio::null());
        // Ctrl-C in a terminal is for the porter, which then ends its children in order.
        command.env_clear().current_dir("/").process_group(0);
        let mut process = command.spawn()?;
        // Its own end is here no more: this ends when that process does.
        drop(command);
        asked.set_read_timeout(Some(PATIENCE))?;
        let mut said = [0];
        match (&asked).read_exact(&mut said) {
            Ok(()) => Ok(Mother { asked, process, bore: 0 }),
            Err(e) => {
                let _ = process.kill();
                let _ = process.wait();
                Err(e)
            }
        }
    }

    fn ask(&mut self, files: &[BorrowedFd<'_>; FILES]) -> io::Result<()> {
        self.bore += 1;
        let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(FILES))];
        let mut along = SendAncillaryBuffer::new(&mut space);
        along.push(SendAncillaryMessage::ScmRights(files));
        sendmsg(&self.asked, &[IoSlice::new(&[0])], &mut along, SendFlags::NOSIGNAL)?;
        Ok(())
    }
}

impl Borne {
    /// How it ended, when it has.
    pub fn wait(&mut self) -> io::Result<ExitStatus> {
        let mut raw = [0; 4];
        self.0.read_exact(&mut raw)?;
        Ok(ExitStatus::from_raw(i32::from_le_bytes(raw)))
    }
}

impl Drop for Borne {
    fn drop(&mut self) {
        // Its mother sees that nobody waits for more, and ends it; its end closes this.
        let _ = self.0.shutdown(Shutdown::Write);
        let _ = self.0.set_read_timeout(Some(PATIENCE));
        while matches!(self.0.read(&mut [0; 16]), Ok(n) if n > 0) {}
    }
}

/// One of its children, as the mother knows it.
struct Born {
    process: OwnedFd,
    told: UnixStream,
    killed: bool,
}

/// The mother's side: bears what it is asked for on its standard output, and tells of each how it ended. Returns the exit
/// status.
pub fn main() -> u8 {
    sandbox::close_inherited();
    // A system that cannot do this has children that are started one by one.
    if pidfd_open(getpid(), PidfdFlags::empty()).is_err() {
        return 1;
    }
    sandbox::prepare();
    super::memory::keep_blocks();
    if rustix::io::write(rustix::stdio::stdout(), &[READY]) != Ok(1) {
        return 1;
    }
    let (mut born, mut open): (Vec<Born>, bool) = (Vec::new(), true);
    while open || !born.is_empty() {
        let asked = rustix::stdio::stdout();
        // What has told its last is not asked again: it would say so without end.
        let mut files = Vec::new();
        files.extend(open.then(|| PollFd::new(&asked, PollFlags::IN)));
        for b in &born {
            files.push(PollFd::new(&b.process, PollFlags::IN));
            files.extend((!b.killed).then(|| PollFd::new(&b.told, PollFlags::IN)));
        }
        match poll(&mut files, None) {
            Ok(_) | Err(rustix::io::Errno::INTR) => (),
            Err(_) => return 1,
        }
        let changed: Vec<bool> = files.iter().map(|f| !f.revents().is_empty()).collect();
        drop(files);
        let mut changed = changed.into_iter();
        let is_asked = open && changed.next() == Some(true);
        born.retain_mut(|b| {
            let ended = changed.next() == Some(true);
            let left = !b.killed && changed.next() == Some(true);
            if ended && let Some(status) = b.status() {
                let _ = b.told.write_all(&status.to_le_bytes());
                return false;
            }
            if left {
                b.killed = true;
                let _ = pidfd_send_signal(&b.process, Signal::KILL);
            }
            true
        });
        if is_asked {
            match asked_for() {
                Some(files) => born.extend(bear(files)),
                None => open = false,
            }
        }
    }
    0
}

/// The files of the next child; `None`: no more is asked for.
fn asked_for() -> Option<[OwnedFd; FILES]> {
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(FILES))];
    let mut along = RecvAncillaryBuffer::new(&mut space);
    let mut one = [0];
    let mut into = [IoSliceMut::new(&mut one)];
    let got = recvmsg(rustix::stdio::stdout(), &mut into, &mut along, RecvFlags::CMSG_CLOEXEC).ok()?;
    if got.bytes == 0 {
        return None;
    }
    let mut files = Vec::new();
    for message in along.drain() {
        if let RecvAncillaryMessage::ScmRights(all) = message {
            files.extend(all);
        }
    }
    files.try_into().ok()
}

/// Makes a copy of this process. In the copy it does not return. Nothing: the system had none, and whoever asked sees
/// its files close.
#[allow(unsafe_code)]
fn bear([source, talk, complaints, told]: [OwnedFd; FILES]) -> Option<Born> {
    // SAFETY: this process has one thread, and no lock is held here: the copy is as whole as this one. What is open in
    // both belongs to the copy as well, which closes it by its number and never comes back to what holds it here.
    match unsafe { libc::fork() } {
        -1 => None,
        0 => {
            let put = || {
                rustix::stdio::dup2_stdin(&source)?;
                rustix::stdio::dup2_stdout(&talk)?;
                rustix::stdio::dup2_stderr(&complaints)
            };
            std::process::exit(if put().is_ok() { child::main().into() } else { 2 })
        }
        pid => {
            let process = pidfd_open(Pid::from_raw(pid)?, PidfdFlags::empty()).ok()?;
            Some(Born { process, told: UnixStream::from(told), killed: false })
        }
    }
}

impl Born {
    /// As wait(2) has it; `None`: it has not ended.
    fn status(&self) -> Option<i32> {
        let ended = waitid(WaitId::PidFd(self.process.as_fd()), WaitIdOptions::EXITED).ok()??;
        match ended.exit_status() {
            Some(code) => Some((code & 0xff) << 8),
            None => Some(ended.terminating_signal().unwrap_or(9)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A program that ends at once, or says nothing, bears nothing; it is not asked again.
    #[test]
    fn where_there_is_none_it_is_said_once() {
        for program in ["/bin/true", "/not/there"] {
            let nursery = Nursery::new(Path::new(program));
            let file = std::fs::File::open("/dev/null").unwrap();
            let ask = || nursery.bear([file.as_fd(), file.as_fd(), file.as_fd()]).unwrap_err().kind();
            let first = ask();
            assert!(matches!(first, io::ErrorKind::UnexpectedEof | io::ErrorKind::NotFound), "{first}");
            assert_eq!(ask(), io::ErrorKind::Unsupported);
        }
    }

    #[test]
    fn how_a_child_ended_comes_over_a_connection() {
        let (ours, mut its) = UnixStream::pair().unwrap();
        let mut child = Borne(ours);
        its.write_all(&(3i32 << 8).to_le_bytes()).unwrap();
        assert_eq!(child.wait().unwrap().code(), Some(3));
        its.write_all(&11i32.to_le_bytes()).unwrap();
        assert_eq!(child.wait().unwrap().signal(), Some(11));
        // Its mother is gone without a word.
        drop(its);
        assert_eq!(child.wait().unwrap_err().kind(), io::ErrorKind::UnexpectedEof);
    }
}
