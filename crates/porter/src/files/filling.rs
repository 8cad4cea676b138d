//! Files that have their whole length before they have their content: some programs that copy to shares make the room first, and the
//! size and the time of such a file may stand still until all of it is there.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;

/// So much at the end of a file is nothing but zeros where it was not written yet.
const END: u64 = 64 << 10;
/// A shorter file is there in a moment.
const SHORTEST: u64 = 2 * END;
/// Places that are looked at to find how far it is.
const PLACES: u64 = 64;

/// How far a file is written, as it seems; `None`: its end holds something.
pub fn upto(file: &File, size: u64) -> io::Result<Option<u64>> {
    if size < SHORTEST || !is_empty(file, size - END, END)? {
        return Ok(None);
    }
    // From the end on back to a place that holds something, then closer.
    let step = (size / PLACES).max(END);
    let mut empty = size - END;
    let mut full = loop {
        let Some(at) = empty.checked_sub(step) else { break 0 };
        if !is_empty(file, at, 4096)? {
            break at;
        }
        empty = at;
    };
    while empty - full > END {
        let middle = full + (empty - full) / 2;
        if is_empty(file, middle, 4096)? { empty = middle } else { full = middle }
    }
    Ok(Some(full))
}

fn is_empty(file: &File, at: u64, length: u64) -> io::Result<bool> {
    let mut bytes = vec![0; length as usize];
    file.read_exact_at(&mut bytes, at)?;
    Ok(bytes.iter().all(|b| *b == 0))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn how_far_a_file_is_written_is_found() {
        let file = tempfile::tempfile().unwrap();
        let size = 9_000_000;
        file.set_len(size).unwrap();
        for written in [0u64, 1, 100_000, 4_321_000, 8_900_000] {
            file.write_all_at(&vec![7; written as usize], 0).unwrap();
            let found = upto(&file, size).unwrap().unwrap();
            assert!(found <= written && written - found <= END + 4096, "{written}: {found}");
        }
        file.write_all_at(&[1], size - 1).unwrap();
        assert_eq!(upto(&file, size).unwrap(), None);
        assert_eq!(upto(&file, 1000).unwrap(), None, "a short one is not looked into");
    }
}
