//! Transcripts as files beside each other: written whole or not at all, and over nothing.

use crate::error::{Error, Result};
use crate::files::Dir;
use crate::files::dir::rename_if_free;
use crate::files::fitting::fitting;
use std::io::Write;
use std::path::{Path, PathBuf};
use words::Transcript;
use words::write::{Form, Writing, write};

/// Most names that are tried for one transcript.
const MAX_TRIES: u32 = 100_000;

/// Writes every form under the same name, numbered where a file of that name is there already.
pub fn save(
    t: &Transcript,
    folder: &Path,
    stem: &str,
    forms: &[Form],
    how: &Writing,
) -> Result<Vec<PathBuf>> {
    let fail = |e| Error::path("cannot write in", folder)(e);
    let stem = Dir::open(folder).and_then(|d| fitting(&d, Path::new(stem))).map_err(fail)?;
    let stem = stem.to_string_lossy();
    let made = forms.iter().map(|&f| Ok((f.extension(), write(t, f, how)?))).collect::<Result<Vec<_>>>()?;
    'names: for n in 1..MAX_TRIES {
        let number = if n > 1 { format!("_{n}") } else { String::new() };
        let paths: Vec<PathBuf> =
            made.iter().map(|(ext, _)| folder.join(format!("{stem}{number}.{ext}"))).collect();
        if paths.iter().any(|p| p.exists()) {
            continue;
        }
        for (i, (path, (_, bytes))) in paths.iter().zip(&made).enumerate() {
            if !publish(folder, path, bytes)? {
                // Someone was quicker: the next name, for all of them.
                paths[..i].iter().for_each(|p| _ = std::fs::remove_file(p));
                continue 'names;
            }
        }
        return Ok(paths);
    }
    Err(Error::path("no free name for", folder)(std::io::Error::other(format!(
        "{stem}: {MAX_TRIES} names are taken"
    ))))
}

/// False if the name was taken.
fn publish(folder: &Path, path: &Path, bytes: &[u8]) -> Result<bool> {
    let fail = |e| Error::path("cannot write", path)(e);
    let mut file = tempfile::Builder::new().prefix(".transcript").tempfile_in(folder).map_err(fail)?;
    file.write_all(bytes).and_then(|()| file.as_file().sync_all()).map_err(fail)?;
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o644);
    // Not every disk keeps rights.
    let _ = file.as_file().set_permissions(mode);
    let named = rename_if_free(file.path(), path).map_err(fail)?;
    if named {
        // It is not there any more under the name that would be taken away.
        let _ = file.into_temp_path().keep();
    }
    Ok(named)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_overwritten_and_forms_keep_together() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::write(dir.path().join("hide.srt"), "precious").unwrap();
        let forms = [Form::Txt, Form::Srt];
        let saved = save(&Transcript::default(), dir.path(), "hide", &forms, &Writing::default()).unwrap();
        let names: Vec<String> =
            saved.iter().map(|p| p.file_name().unwrap().to_string_lossy().into()).collect();
        assert_eq!(names, ["hide_2.txt", "hide_2.srt"]);
        assert_eq!(std::fs::read(dir.path().join("hide.srt")).unwrap(), b"precious");
        let all = std::fs::read_dir(dir.path()).unwrap().count();
        assert_eq!(all, 3);
    }
}
