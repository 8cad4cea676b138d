//! Named points in the program at which tests kill it. In a program that people run they are nothing.
//!
//! A build with the feature `stops` writes each point's name into the file `DEFT_PORTER_TEST_STOPS` names and, at the
//! point (and the count of its passing) that `DEFT_PORTER_TEST_KILL_AT=name:3` names, ends as by `kill -9`.

/// One moment between two things that a kill may part.
#[inline]
pub fn here(name: &str) {
    #[cfg(feature = "stops")]
    on::here(name);
    #[cfg(not(feature = "stops"))]
    let _ = name;
}

#[cfg(feature = "stops")]
mod on {
    use std::collections::HashMap;
    use std::io::Write;
    use std::sync::{LazyLock, Mutex};

    static SEEN: LazyLock<Mutex<HashMap<String, u32>>> = LazyLock::new(Mutex::default);

    pub fn here(name: &str) {
        let count = {
            let mut seen = SEEN.lock().unwrap_or_else(|e| e.into_inner());
            let n = seen.entry(name.to_owned()).or_default();
            *n += 1;
            *n
        };
        let wanted = std::env::var("DEFT_PORTER_TEST_KILL_AT").unwrap_or_default();
        let hit = wanted == format!("{name}:{count}");
        if let Some(path) = std::env::var_os("DEFT_PORTER_TEST_STOPS")
            && let Ok(mut f) = std::fs::File::options().create(true).append(true).open(path)
        {
            // In one piece: others write to it as well.
            let _ = f.write_all(format!("{name}{}\n", if hit { " KILLED" } else { "" }).as_bytes());
        }
        if hit {
            let me = rustix::process::getpid();
            let _ = rustix::process::kill_process(me, rustix::process::Signal::KILL);
            std::thread::sleep(std::time::Duration::from_secs(60));
        }
    }
}
