//! A command of the house: its arguments are a list and never go through a shell, the message comes in as JSON, and it has
//! a time in which to end.

use super::Message;
use std::io::{Read, Write};
use std::os::unix::process::CommandExt;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const LIMIT: Duration = Duration::from_secs(30);
/// Most of what it says of a failure.
const MOST: u64 = 2000;

pub fn run(command: &[String], message: &Message) -> Result<(), String> {
    run_within(command, message, LIMIT)
}

fn run_within(command: &[String], message: &Message, limit: Duration) -> Result<(), String> {
    let body = serde_json::to_vec(message).map_err(|e| e.to_string())?;
    let [program, arguments @ ..] = command else { return Err("no command".into()) };
    let arguments =
        arguments.iter().map(|a| a.replace("{summary}", &message.summary).replace("{house}", &message.house));
    let mut c = Command::new(program);
    // Secrets of this process are none of its.
    c.env_clear();
    for name in ["PATH", "HOME", "LANG", "LC_ALL", "TZ", "USER", "DISPLAY", "DBUS_SESSION_BUS_ADDRESS"] {
        if let Some(value) = std::env::var_os(name) {
            c.env(name, value);
        }
    }
    c.args(arguments).stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped()).process_group(0);
    let mut child = c.spawn().map_err(|e| format!("{program}: {e}"))?;
    let (stdin, stderr) = (child.stdin.take(), child.stderr.take());
    // One that reads nothing must not keep us.
    std::thread::spawn(move || stdin.map(|mut s| s.write_all(&body)));
    let said = std::thread::spawn(move || {
        let mut text = String::new();
        let _ = stderr.map(|s| s.take(MOST).read_to_string(&mut text));
        text
    });
    let start = Instant::now();
    loop {
        match child.try_wait() {
            Ok(Some(status)) if status.success() => return Ok(()),
            Ok(Some(status)) => {
                let said = said.join().unwrap_or_default();
                return Err(format!("{program}: {status}: {}", media::show::text(said.trim())));
            }
            Ok(None) if start.elapsed() < limit => std::thread::sleep(Duration::from_millis(20)),
            Ok(None) => {
                // With all that it started.
                if let Some(group) = rustix::process::Pid::from_raw(child.id() as i32) {
                    let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
                }
                let _ = child.wait();
                return Err(format!("{program}: not done in {} s", limit.as_secs()));
            }
            Err(e) => return Err(format!("{program}: {e}")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn message() -> Message {
        let (house, summary) = ("Estuary $(hours)".to_owned(), "2 done; rm -rf".to_owned());
        Message { version: 1, house, notice: "n".into(), summary, events: Vec::new(), id: "n-1".into() }
    }

    fn command(words: &[&str]) -> Vec<String> {
        words.iter().map(|w| (*w).to_owned()).collect()
    }

    #[test]
    fn it_gets_the_message_and_its_arguments_as_they_are() {
        let dir = tempfile::tempdir().unwrap();
        let out = dir.path().join("out").display().to_string();
        let script = "printf '%s\\n' \"$2\" >\"$1\"; cat >>\"$1\"";
        let c = command(&["/bin/sh", "-c", script, "sh", &out, "{house}: {summary}"]);
        run(&c, &message()).unwrap();
        let got = std::fs::read_to_string(&out).unwrap();
        let (first, json) = got.split_once('\n').unwrap();
        assert_eq!(first, "Estuary $(hours): 2 done; rm -rf");
        assert_eq!(serde_json::from_str::<serde_json::Value>(json).unwrap()["notice"], "n");
    }

    #[rstest]
    #[case(&["/no/such/program"], "No such file")]
    #[case(&["/bin/sh", "-c", "echo no line >&2; exit 3"], "no line")]
    #[case(&["/bin/sh", "-c", "sleep 60 & sleep 60"], "not done in 1 s")]
    #[case(&["/bin/false"], "exit status: 1")]
    fn a_command_that_fails_says_why(#[case] words: &[&str], #[case] wanted: &str) {
        let start = Instant::now();
        let why = run_within(&command(words), &message(), Duration::from_secs(1)).unwrap_err();
        assert!(why.contains(wanted), "{why}");
        assert!(start.elapsed() < Duration::from_secs(10));
    }
}
