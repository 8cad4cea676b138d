//! Lines to standard output and error from a program whose work must not wait for whoever reads them: a pipe that
//! nobody reads, a terminal that was stopped. What cannot be taken is left out, and how much is said.

use std::io::Write;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::time::Duration;

/// Lines that may wait.
const MOST_WAITING: usize = 4096;
/// At the end, what still waits gets this long.
const PATIENCE: Duration = Duration::from_millis(400);

enum Line {
    Out(String),
    Error(Vec<u8>),
    End,
}

pub struct Printer {
    to: SyncSender<Line>,
    ended: Receiver<()>,
    left_out: Arc<AtomicU64>,
}

impl Printer {
    pub fn start() -> Printer {
        let (to, lines) = sync_channel(MOST_WAITING);
        let (tell, ended) = sync_channel(1);
        let left_out = Arc::new(AtomicU64::new(0));
        let missing = left_out.clone();
        std::thread::spawn(move || {
            for line in lines {
                let n = missing.swap(0, Ordering::Relaxed);
                if n > 0 {
                    crate::say!("({n} lines were left out: nobody read them)");
                }
                match line {
                    Line::Out(text) => crate::say!("{text}"),
                    Line::Error(bytes) => _ = std::io::stderr().write_all(&bytes),
                    Line::End => break,
                }
            }
            let _ = tell.send(());
        });
        Printer { to, ended, left_out }
    }

    pub fn line(&self, text: String) {
        if self.to.try_send(Line::Out(text)).is_err() {
            self.left_out.fetch_add(1, Ordering::Relaxed);
        }
    }

    /// Where warnings go.
    pub fn errors(&self) -> impl Fn() -> Errors + Send + Sync + 'static {
        let to = self.to.clone();
        move || Errors(to.clone())
    }

    /// Lets what still waits be written, for a moment.
    pub fn end(&self) {
        if self.to.try_send(Line::End).is_ok() {
            let _ = self.ended.recv_timeout(PATIENCE);
        }
    }
}

pub struct Errors(SyncSender<Line>);

impl Write for Errors {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let _ = self.0.try_send(Line::Error(bytes.to_vec()));
        Ok(bytes.len())
    }
    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}
