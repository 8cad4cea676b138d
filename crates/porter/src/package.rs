//! Packages: outputs of a job in one ZIP (PKWARE APPNOTE, with Zip64 where it is large) or TAR (POSIX.1-2001) file, with a list
//! of checksums inside that the usual programs of their kind understand. What went in is what was made, and it is read back
//! whole.

use crate::clock::Micros;
use crate::error::{Error, Result};
use crate::files::Watching;
use crate::files::copy::Behind;
use crate::offload::sums::{Kind, Sum};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, sync_channel};
use xxhash_rust::xxh3::Xxh3;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, DateTime, ZipArchive, ZipWriter};

/// The list of checksums inside.
pub fn list_name(sums: Kind) -> String {
    format!("checksums.{}", sums.name())
}

const BLOCK: usize = 1 << 18;
/// Endings of files that become smaller.
const WORDS: [&str; 12] =
    ["txt", "md", "srt", "vtt", "ttml", "json", "csv", "html", "xml", "m3u8", "mpd", "toml"];

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Form {
    Zip,
    Tar,
}

impl Form {
    pub const NAMES: [&str; 2] = ["zip", "tar"];

    pub fn from_name(name: &str) -> Option<Form> {
        match name {
            "zip" => Some(Form::Zip),
            "tar" => Some(Form::Tar),
            _ => None,
        }
    }

    pub fn extension(self) -> &'static str {
        match self {
            Form::Zip => "zip",
            Form::Tar => "tar",
        }
    }
}

/// What a package holds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Package {
    pub form: Form,
    /// In the list inside. Plans of an older program do not say it.
    #[serde(default = "older_sums")]
    pub sums: Kind,
    /// Names of presets, or of the original; all outputs of its rule if there is none.
    #[serde(default)]
    pub of: Vec<String>,
    /// Numbers of outputs of the job, each with its name inside.
    #[serde(default)]
    pub members: Vec<(u32, String)>,
}

fn older_sums() -> Kind {
    Kind::Sha256
}

/// Those whose lists say by themselves what they are; the usual first.
pub const SUMS: [Kind; 3] = [Kind::Xxh64, Kind::Md5, Kind::Sha256];

/// A file that goes in.
#[derive(Clone, Debug)]
pub struct Part {
    pub from: PathBuf,
    /// Its name inside, with `/`.
    pub name: String,
    pub bytes: u64,
    /// What it was when it was made.
    pub digest: String,
}

/// Blocks that another thread reads.
struct Blocks<'a> {
    from: Receiver<Vec<u8>>,
    block: Vec<u8>,
    at: usize,
    watching: &'a dyn Watching,
}

impl Read for Blocks<'_> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        if self.watching.stopping() {
            return Err(io::Error::other("stopped on request"));
        }
        if self.at == self.block.len() {
            match self.from.recv() {
                Ok(block) => (self.block, self.at) = (block, 0),
                Err(_) => return Ok(0),
            }
            self.watching.passed(self.block.len() as u64);
        }
        let n = to.len().min(self.block.len() - self.at);
        to[..n].copy_from_slice(&self.block[self.at..self.at + n]);
        self.at += n;
        Ok(n)
    }
}

/// Blocks that wait between reading and writing.
const WAITING: usize = 8;

/// Passes a file on while another thread reads it and takes its checksums: the one for the list, and what it was when it was
/// made.
fn passed(
    mut file: File,
    sums: Kind,
    watching: &dyn Watching,
    take: impl FnOnce(&mut dyn Read) -> io::Result<()>,
) -> io::Result<(String, String)> {
    let (to, from) = sync_channel(WAITING);
    std::thread::scope(|scope| {
        let reader = scope.spawn(move || -> io::Result<(String, String)> {
            let (mut sum, mut made) = (Sum::new(sums), Xxh3::new());
            loop {
                let mut block = vec![0; BLOCK];
                let n = file.read(&mut block)?;
                block.truncate(n);
                sum.add(&block);
                made.update(&block);
                // Whoever takes them may have given up.
                if n == 0 || to.send(block).is_err() {
                    return Ok((sum.end(), crate::files::copy::show(&made)));
                }
            }
        });
        let mut blocks = Blocks { from, block: Vec::new(), at: 0, watching };
        let taken = take(&mut blocks);
        drop(blocks);
        let sums = reader.join().unwrap_or_else(|_| Err(io::Error::other("the reader broke")));
        taken.and(sums)
    })
}

/// As the checksum programs write it: a name with a line's end or a backslash in it is marked (GNU coreutils).
fn line(sum: &str, name: &str) -> String {
    let odd = name.contains(['\\', '\n', '\r']);
    let name = name.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r");
    format!("{}{sum}  {name}\n", if odd { "\\" } else { "" })
}

fn small(name: &str) -> bool {
    let ending = name.rsplit('.').next().unwrap_or_default().to_lowercase();
    WORDS.contains(&ending.as_str())
}

/// A moment as ZIP has it, here and to two seconds; what it cannot say is its first day.
fn here(at: Micros) -> DateTime {
    let (year, [month, day, hour, minute, second]) = crate::clock::civil(at);
    DateTime::from_date_and_time(year, month, day, hour, minute, second).unwrap_or_default()
}

/// What is written goes to the disk while more is written.
struct Out {
    file: File,
    behind: Behind,
}

impl Write for Out {
    fn write(&mut self, block: &[u8]) -> io::Result<usize> {
        let n = self.file.write(block)?;
        self.behind.wrote(&self.file, n);
        Ok(n)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl Seek for Out {
    fn seek(&mut self, to: io::SeekFrom) -> io::Result<u64> {
        self.file.seek(to)
    }
}

/// Takes parts one after another.
enum Writer {
    Zip(Box<ZipWriter<BufWriter<Out>>>),
    Tar(Box<tar::Builder<BufWriter<Out>>>),
}

impl Writer {
    fn put(&mut self, name: &str, bytes: u64, changed: Micros, from: &mut dyn Read) -> io::Result<()> {
        let seconds = changed.max(0) / 1_000_000;
        match self {
            Writer::Zip(zip) => {
                let how = if small(name) { CompressionMethod::Deflated } else { CompressionMethod::Stored };
                let options = SimpleFileOptions::default()
                    .compression_method(how)
                    .large_file(bytes >= u64::from(u32::MAX) - 1_000_000)
                    .last_modified_time(here(changed))
                    .unix_permissions(0o644)
                    .with_extended_timestamp(u32::try_from(seconds).ok(), None, None)
                    .map_err(io::Error::other)?;
                zip.start_file(name, options).map_err(io::Error::other)?;
                let mut block = vec![0; BLOCK];
                loop {
                    match from.read(&mut block)? {
                        0 => return Ok(()),
                        n => zip.write_all(&block[..n])?,
                    }
                }
            }
            Writer::Tar(tar) => {
                let mut header = tar::Header::new_gnu();
                header.set_size(bytes);
                header.set_mode(0o644);
                header.set_mtime(seconds.unsigned_abs());
                tar.append_data(&mut header, name, BufReader::with_capacity(BLOCK, from))
            }
        }
    }

    fn end(self) -> io::Result<File> {
        let out = match self {
            Writer::Zip(zip) => zip.finish().map_err(io::Error::other)?,
            Writer::Tar(tar) => tar.into_inner()?,
        };
        let file = out.into_inner().map_err(|e| e.into_error())?.file;
        file.sync_all()?;
        Ok(file)
    }
}

/// Writes a package and reads it back.
pub fn write(form: Form, sums_of: Kind, at: &Path, parts: &[Part], watching: &dyn Watching) -> Result<()> {
    let fail = |e| Error::path("cannot write", at)(e);
    let file = File::options().read(true).write(true).create(true).truncate(true).open(at).map_err(fail)?;
    let out = BufWriter::with_capacity(BLOCK, Out { file, behind: Behind::default() });
    let mut writer = match form {
        Form::Zip => Writer::Zip(Box::new(ZipWriter::new(out))),
        Form::Tar => Writer::Tar(Box::new(tar::Builder::new(out))),
    };
    let (mut list, mut sums) = (String::new(), BTreeMap::new());
    for p in parts {
        let from = File::open(&p.from).map_err(Error::path("cannot read", &p.from))?;
        let changed = from.metadata().and_then(|m| m.modified()).map_or(0, crate::clock::micros);
        let put = passed(from, sums_of, watching, |blocks| writer.put(&p.name, p.bytes, changed, blocks));
        if watching.stopping() {
            return Err(Error::Stopped);
        }
        let (sum, made) = put.map_err(fail)?;
        if made != p.digest {
            let why = io::Error::other("it is not what was made any more");
            return Err(Error::path("cannot pack", &p.from)(why));
        }
        list.push_str(&line(&sum, &p.name));
        sums.insert(p.name.clone(), made);
    }
    let name = list_name(sums_of);
    let now = crate::clock::now();
    writer.put(&name, list.len() as u64, now, &mut list.as_bytes()).map_err(fail)?;
    let mut of_list = Xxh3::new();
    of_list.update(list.as_bytes());
    sums.insert(name, crate::files::copy::show(&of_list));
    let mut file = writer.end().map_err(fail)?;
    file.rewind().map_err(fail)?;
    let found = read_back(form, file, watching).map_err(|e| match watching.stopping() {
        true => Error::Stopped,
        false => Error::path("cannot read back", at)(e),
    })?;
    match found == sums {
        true => Ok(()),
        false => {
            Err(Error::path("what was packed reads back wrong:", at)(io::Error::other("a checksum differs")))
        }
    }
}

/// The checksum of everything in it.
fn read_back(form: Form, file: File, watching: &dyn Watching) -> io::Result<BTreeMap<String, String>> {
    let mut out = BTreeMap::new();
    let sum = |from: &mut dyn Read| -> io::Result<String> {
        let (mut sum, mut block) = (Xxh3::new(), vec![0; BLOCK]);
        loop {
            if watching.stopping() {
                return Err(io::Error::other("stopped on request"));
            }
            let n = from.read(&mut block)?;
            if n == 0 {
                return Ok(crate::files::copy::show(&sum));
            }
            sum.update(&block[..n]);
            watching.passed(n as u64);
        }
    };
    let file = BufReader::with_capacity(BLOCK, file);
    match form {
        Form::Zip => {
            let mut zip = ZipArchive::new(file).map_err(io::Error::other)?;
            for n in 0..zip.len() {
                let mut part = zip.by_index(n).map_err(io::Error::other)?;
                let name = part.name().map_err(io::Error::other)?.into_owned();
                out.insert(name, sum(&mut part)?);
            }
        }
        Form::Tar => {
            let mut tar = tar::Archive::new(file);
            for part in tar.entries()? {
                let mut part = part?;
                let name = part.path()?.to_string_lossy().into_owned();
                out.insert(name, sum(&mut part)?);
            }
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::files::{Quiet, copy};
    use rstest::rstest;

    fn part(dir: &Path, name: &str, content: &[u8]) -> Part {
        let from = dir.join(name.replace('/', "_"));
        std::fs::write(&from, content).unwrap();
        let digest = copy::digest(&from, false).unwrap();
        Part { from, name: name.into(), bytes: content.len() as u64, digest }
    }

    #[rstest]
    fn what_goes_in_comes_out(
        #[values(Form::Zip, Form::Tar)] form: Form,
        #[values(Kind::Xxh64, Kind::Sha256)] sums: Kind,
    ) {
        let dir = tempfile::tempdir().unwrap();
        let long = format!("{}/{}.mov", "Ebbe und Flut ü".repeat(9), "x".repeat(120));
        let parts = [
            part(dir.path(), "clip.mp4", &[7; 300_000]),
            part(dir.path(), "words/clip.srt", "Tee \n".repeat(3000).as_bytes()),
            Part { name: long.clone(), ..part(dir.path(), "long", b"") },
        ];
        let at = dir.path().join("out");
        write(form, sums, &at, &parts, &Quiet).unwrap();
        let found = read_back(form, File::open(&at).unwrap(), &Quiet).unwrap();
        let mut names: Vec<&str> = found.keys().map(String::as_str).collect();
        names.sort_unstable();
        let list = list_name(sums);
        let mut want = ["clip.mp4", "words/clip.srt", long.as_str(), list.as_str()];
        want.sort_unstable();
        assert_eq!(names, want);
        let size = std::fs::metadata(&at).unwrap().len();
        // Words become smaller in a ZIP, pictures are left as they are.
        assert_eq!(size < 305_000, form == Form::Zip, "{size}");
        assert!(size > 300_000);
    }

    #[test]
    fn what_is_not_what_was_made_is_not_packed() {
        let dir = tempfile::tempdir().unwrap();
        let p = Part { digest: "xxh3-128:0".into(), ..part(dir.path(), "a.mp4", b"changed") };
        let e = write(Form::Zip, Kind::Md5, &dir.path().join("out"), &[p], &Quiet).unwrap_err();
        assert!(e.to_string().contains("not what was made"), "{e}");
    }

    #[test]
    fn a_plan_of_an_older_program_has_the_list_that_it_had() {
        let package: Package = serde_json::from_str(r#"{"form": "zip", "of": ["proxy"]}"#).unwrap();
        assert_eq!(list_name(package.sums), "checksums.sha256");
        let now = Package { sums: Kind::Xxh64, ..package };
        assert!(serde_json::to_string(&now).unwrap().contains(r#""sums":"xxh64""#));
    }

    #[test]
    fn lists_are_as_the_checksum_program_has_them() {
        assert_eq!(line("ab", "a b.mp4"), "ab  a b.mp4\n");
        assert_eq!(line("ab", "a\nb\\c"), "\\ab  a\\nb\\\\c\n");
    }
}
