//! A file of named tensors: the open "safetensors" layout. Eight bytes of length, a JSON table, and the values.

use crate::error::{Error, Result};
use serde::Deserialize;
use std::collections::HashMap;
use std::fs::File;
use std::path::Path;

/// The table is at most this long; the largest there is has 51 kB.
const MAX_TABLE: usize = 4 << 20;

/// Bytes that stay where they are: part of the program, or a file that the system maps into memory.
pub enum Bytes {
    Built(&'static [u8]),
    Mapped(memmap2::Mmap),
}

impl Bytes {
    pub fn map(path: &Path) -> Result<Bytes> {
        let fail = |e: std::io::Error| Error::model(media::show::path(path), e);
        let file = File::open(path).map_err(fail)?;
        // SAFETY: a model that is changed while it is used gives wrong words or ends the process, never more: no
        // value of it is used as an address or length after the table was checked.
        #[allow(unsafe_code)]
        let map = unsafe { memmap2::Mmap::map(&file) }.map_err(fail)?;
        Ok(Bytes::Mapped(map))
    }
}

impl AsRef<[u8]> for Bytes {
    fn as_ref(&self) -> &[u8] {
        match self {
            Bytes::Built(b) => b,
            Bytes::Mapped(m) => m,
        }
    }
}

#[derive(Deserialize)]
struct Entry {
    dtype: String,
    shape: Vec<usize>,
    data_offsets: (usize, usize),
}

pub struct Tensors {
    bytes: Bytes,
    start: usize,
    table: HashMap<String, Entry>,
    name: String,
}

/// 8-bit weights: where they are in the file and what they mean: `q * scale + zero`.
#[derive(Clone, Debug)]
pub struct Weights {
    at: (usize, usize),
    pub scale: f32,
    pub zero: f32,
}

impl Tensors {
    pub fn new(bytes: Bytes, name: &str) -> Result<Tensors> {
        let fail = |why: String| Error::model(name, why);
        let all = bytes.as_ref();
        if all.starts_with(b"version https://git-lfs") {
            return Err(fail(
                "only a pointer to it is there: the checkout did not bring its large files".into(),
            ));
        }
        let length = all.first_chunk::<8>().map_or(u64::MAX, |b| u64::from_le_bytes(*b));
        let length = usize::try_from(length).ok().filter(|&n| n <= MAX_TABLE);
        let table = length
            .and_then(|n| all.get(8..8 + n))
            .ok_or_else(|| fail("it does not begin with a table of tensors".into()))?;
        let start = 8 + table.len();
        let mut table: HashMap<String, serde_json::Value> =
            serde_json::from_slice(table).map_err(|e| fail(format!("its table cannot be read: {e}")))?;
        table.remove("__metadata__");
        let table = table
            .into_iter()
            .map(|(k, v)| Ok((k, serde_json::from_value(v)?)))
            .collect::<serde_json::Result<HashMap<String, Entry>>>()
            .map_err(|e| fail(format!("its table cannot be read: {e}")))?;
        let room = all.len() - start;
        for (k, e) in &table {
            let (from, to) = e.data_offsets;
            let width = match e.dtype.as_str() {
                "I8" => 1,
                "F32" => 4,
                other => return Err(fail(format!("{k} is {other}; I8 and F32 are read"))),
            };
            let count = e.shape.iter().try_fold(width, |n: usize, &d| n.checked_mul(d));
            if from > to || to > room || count != Some(to - from) {
                return Err(fail(format!(
                    "{k} lies at {from} to {to} of {room} bytes, which its shape contradicts"
                )));
            }
        }
        Ok(Tensors { bytes, start, table, name: name.to_owned() })
    }

    fn find(&self, name: &str, dtype: &str, shape: &[usize]) -> Result<(usize, usize)> {
        let fail = |why: String| Err(Error::model(&self.name, why));
        match self.table.get(name) {
            None => fail(format!("{name} is missing")),
            Some(e) if e.dtype != dtype || e.shape != shape => {
                fail(format!("{name} is {} {:?} where {dtype} {shape:?} is needed", e.dtype, e.shape))
            }
            Some(e) => Ok((self.start + e.data_offsets.0, self.start + e.data_offsets.1)),
        }
    }

    pub fn floats(&self, name: &str, shape: &[usize]) -> Result<Vec<f32>> {
        let (from, to) = self.find(name, "F32", shape)?;
        let bytes = &self.bytes.as_ref()[from..to];
        Ok(bytes.chunks_exact(4).map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]])).collect())
    }

    pub fn weights(&self, name: &str, shape: &[usize]) -> Result<Weights> {
        let one = |end: &str| Ok::<_, Error>(self.floats(&format!("{name}.{end}"), &[1])?[0]);
        Ok(Weights { at: self.find(name, "I8", shape)?, scale: one("scale")?, zero: one("zero_point")? })
    }

    pub fn values(&self, w: &Weights) -> &[i8] {
        bytemuck::cast_slice(&self.bytes.as_ref()[w.at.0..w.at.1])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn file(table: &str, values: &[u8]) -> Result<Tensors> {
        let mut all = (table.len() as u64).to_le_bytes().to_vec();
        all.extend(table.as_bytes());
        all.extend(values);
        Tensors::new(Bytes::Built(all.leak()), "test")
    }

    #[test]
    fn values_are_found_by_name_and_shape() {
        let t = file(
            r#"{"__metadata__":{"a":"b"},"w":{"dtype":"I8","shape":[2,1],"data_offsets":[8,10]},
               "w.scale":{"dtype":"F32","shape":[1],"data_offsets":[0,4]},
               "w.zero_point":{"dtype":"F32","shape":[1],"data_offsets":[4,8]}}"#,
            &[0, 0, 0, 63, 0, 0, 128, 191, 1, 255],
        )
        .unwrap();
        let w = t.weights("w", &[2, 1]).unwrap();
        assert_eq!((t.values(&w), w.scale, w.zero), (&[1i8, -1][..], 0.5, -1.0));
        let e = t.weights("w", &[1, 2]).unwrap_err().to_string();
        assert!(e.contains("w is I8 [2, 1] where I8 [1, 2] is needed"), "{e}");
        assert!(t.floats("x", &[1]).unwrap_err().to_string().contains("x is missing"));
    }

    #[rstest]
    #[case(r#"{"w":{"dtype":"I8","shape":[3],"data_offsets":[0,9]}}"#, "contradicts")]
    #[case(r#"{"w":{"dtype":"I8","shape":[99999999999,99999999999],"data_offsets":[0,2]}}"#, "contradicts")]
    #[case(r#"{"w":{"dtype":"F16","shape":[1],"data_offsets":[0,2]}}"#, "F16")]
    #[case("[]", "table cannot be read")]
    fn tables_that_do_not_fit_are_refused(#[case] table: &str, #[case] why: &str) {
        let e = file(table, &[0; 4]).err().unwrap().to_string();
        assert!(e.contains(why), "{e}");
        assert!(Tensors::new(Bytes::Built(b"version https://git-lfs.github.com/spec"), "m").is_err());
        assert!(Tensors::new(Bytes::Built(&[255; 12]), "m").is_err());
    }
}
