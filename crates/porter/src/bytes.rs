//! Paths in stored and sent values: as text where they are text, as a list of bytes where they are not.

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::ffi::OsString;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum Form {
    Text(String),
    Bytes(Vec<u8>),
}

pub fn serialize<S: Serializer>(path: &Path, s: S) -> Result<S::Ok, S::Error> {
    match path.to_str() {
        Some(text) => Form::Text(text.to_owned()),
        None => Form::Bytes(path.as_os_str().as_bytes().to_vec()),
    }
    .serialize(s)
}

pub fn deserialize<'de, D: Deserializer<'de>>(d: D) -> Result<PathBuf, D::Error> {
    Ok(match Form::deserialize(d)? {
        Form::Text(text) => text.into(),
        Form::Bytes(bytes) => OsString::from_vec(bytes).into(),
    })
}

/// The same where there may be none.
pub mod option {
    use super::*;

    #[derive(Serialize, Deserialize)]
    struct One(#[serde(with = "super")] PathBuf);

    pub fn serialize<S: Serializer>(path: &Option<PathBuf>, s: S) -> Result<S::Ok, S::Error> {
        path.clone().map(One).serialize(s)
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(d: D) -> Result<Option<PathBuf>, D::Error> {
        Ok(Option::<One>::deserialize(d)?.map(|p| p.0))
    }
}
