//! Secrets: where they are, and what is done so that they get nowhere else.

use super::sign_in::SignIn;
use media::show;
use serde::{Deserialize, Serialize};
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;
use std::sync::OnceLock;

/// Where a secret is: only this stands in configurations and stores.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Secret {
    Env(String),
    File(PathBuf),
    /// What comes of signing in.
    Signed(Box<SignIn>),
}

/// What stands in texts where a secret stood.
const COVER: &str = "(secret)";
/// A shorter secret is not looked for in texts: it stands in too many words.
const LEAST_LOOKED_FOR: usize = 6;

/// A secret itself. It shows itself to nobody who does not ask for it.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Hidden(String);

impl Hidden {
    pub fn new(text: impl Into<String>) -> Hidden {
        Hidden(text.into())
    }

    /// For the one place that sends it.
    pub fn tell(&self) -> &str {
        &self.0
    }

    /// Text from outside, or on its way there, without this secret in it.
    pub fn cover(&self, text: &str) -> String {
        if self.0.len() < LEAST_LOOKED_FOR {
            return text.to_owned();
        }
        text.replace(&self.0, COVER)
    }
}

impl std::fmt::Debug for Hidden {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(COVER)
    }
}

/// In a child: what the porter gave it.
static GIVEN: OnceLock<Vec<(Secret, Hidden)>> = OnceLock::new();

/// Secrets that this process can read nowhere itself.
pub fn give(secrets: Vec<(Secret, Hidden)>) {
    let _ = GIVEN.set(secrets);
}

impl Secret {
    pub fn read(&self) -> Result<Hidden, String> {
        if let Some((_, hidden)) = GIVEN.get().and_then(|all| all.iter().find(|(s, _)| s == self)) {
            return Ok(hidden.clone());
        }
        let text = match self {
            Secret::Env(name) => {
                std::env::var(name).map_err(|_| format!("the variable {name} is not in the environment"))?
            }
            Secret::Signed(sign_in) => return sign_in.token(),
            Secret::File(path) => {
                let cannot = |e| format!("cannot read {}: {e}", show::path(path));
                let about = std::fs::metadata(path).map_err(cannot)?;
                if about.is_file() && about.mode() & 0o077 != 0 {
                    let at = show::path(path);
                    return Err(format!(
                        "{at} can be read or changed by others: 'chmod 600' it, and change the secret"
                    ));
                }
                std::fs::read_to_string(path).map_err(cannot)?
            }
        };
        let text = text.trim();
        match text.is_empty() || text.chars().any(char::is_control) {
            true => Err(format!("{self} is empty, or more than one line")),
            false => Ok(Hidden::new(text)),
        }
    }
}

impl std::fmt::Display for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Secret::Env(name) => write!(f, "the variable {name}"),
            Secret::File(path) => f.write_str(&show::path(path)),
            Secret::Signed(s) => write!(f, "what was signed in at {}", s.issuer),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn a_secret_is_covered_in_every_text() {
        let s = Hidden::new("tide-and-time");
        assert_eq!(s.cover("401: tide-and-time is no token"), "401: (secret) is no token");
        assert_eq!(format!("{s:?}"), "(secret)");
        assert_eq!(Hidden::new("ab").cover("a table"), "a table");
    }

    #[rstest::rstest]
    #[case(0o600, true)]
    #[case(0o400, true)]
    #[case(0o644, false)]
    #[case(0o620, false)]
    fn a_file_that_others_can_use_is_no_place_for_a_secret(#[case] mode: u32, #[case] good: bool) {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), "tide-and-time\n").unwrap();
        file.as_file().set_permissions(std::fs::Permissions::from_mode(mode)).unwrap();
        let read = Secret::File(file.path().to_owned()).read();
        assert_eq!(read.is_ok(), good, "{read:?}");
        if let Err(why) = read {
            assert!(why.contains("chmod 600"), "{why}");
        }
    }
}
