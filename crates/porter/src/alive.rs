//! Telling a service manager that the porter is ready, and that it lives: datagrams to the socket that it names in
//! NOTIFY_SOCKET (sd_notify(3), an open protocol that several managers speak).

use std::os::linux::net::SocketAddrExt;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::net::{SocketAddr, UnixDatagram};
use std::time::{Duration, Instant};

pub struct Alive {
    to: Option<(UnixDatagram, SocketAddr)>,
    /// How often it wants to hear.
    every: Option<Duration>,
    told: Instant,
}

impl Alive {
    /// To whoever started this program, if that wants to hear.
    pub fn new() -> Alive {
        let every =
            std::env::var("WATCHDOG_USEC").ok().and_then(|t| t.parse().ok()).map(Duration::from_micros);
        let path = std::env::var_os("NOTIFY_SOCKET");
        let address = path.and_then(|p| match p.as_bytes() {
            [b'@', name @ ..] => SocketAddr::from_abstract_name(name).ok(),
            [] => None,
            _ => SocketAddr::from_pathname(&p).ok(),
        });
        let to = address.and_then(|a| Some((UnixDatagram::unbound().ok()?, a)));
        Alive { to, every: every.map(|e| e / 3), told: Instant::now() }
    }

    fn tell(&self, text: &str) {
        if let Some((socket, address)) = &self.to {
            let _ = socket.send_to_addr(text.as_bytes(), address);
        }
    }

    pub fn ready(&self) {
        self.tell("READY=1\nSTATUS=watching");
    }

    pub fn stopping(&self) {
        self.tell("STOPPING=1");
    }

    /// Called at every turn; tells as often as is wanted.
    pub fn turn(&mut self) {
        if self.every.is_some_and(|every| self.told.elapsed() >= every) {
            self.told = Instant::now();
            self.tell("WATCHDOG=1");
        }
    }

    /// Whether somebody manages this program: then a hang-up asks for a look at the configuration, which it has anyway.
    pub fn is_managed() -> bool {
        std::env::var_os("NOTIFY_SOCKET").is_some()
    }
}

impl Default for Alive {
    fn default() -> Alive {
        Alive::new()
    }
}
