//! The speech model: its files, and the networks in them.
//!
//! A model folder holds `model.safetensors`, `vad.safetensors`, `vocab.txt` and `checksums.txt` (SHA-256, as
//! `sha256sum` writes them). The shapes are fixed: what MODEL.md beside them describes.

pub mod activity;
pub mod decoder;
pub mod encoder;
pub mod tensors;
pub mod vocabulary;

use crate::error::{Error, Result};
use sha2::{Digest, Sha256};
use std::path::Path;
use tensors::{Bytes, Tensors};
use vocabulary::Vocabulary;

/// Samples a second of all sound that the model hears.
pub const RATE: u32 = 16_000;
pub const WIDTH: usize = 416;
pub const HEADS: usize = 8;
pub const HEAD: usize = WIDTH / HEADS;
pub const LAYERS: usize = 8;
pub const HIDDEN: usize = 1664;
pub const TOKENS: usize = 32_768;
/// Samples from one frame of the encoder to the next.
pub const STEP: usize = 384;
/// Samples that the first frame needs.
pub const LEAST: usize = 895;

pub struct Model {
    pub tensors: Tensors,
    pub encoder: encoder::Encoder,
    pub decoder: decoder::Decoder,
    pub activity: activity::Activity,
    pub vocabulary: Vocabulary,
    pub name: String,
    /// Of the weights: with the settings it tells which words come out.
    pub digest: String,
}

/// The files of a model as bytes.
pub struct Files {
    pub name: String,
    pub weights: Bytes,
    pub activity: Bytes,
    pub vocabulary: Bytes,
    pub checksums: Bytes,
}

impl Files {
    /// The English model that is part of the program.
    pub fn built_in() -> Files {
        Files {
            name: "speech-en".into(),
            weights: Bytes::Built(include_bytes!("../../../../models/speech-en/model.safetensors")),
            activity: Bytes::Built(include_bytes!("../../../../models/speech-en/vad.safetensors")),
            vocabulary: Bytes::Built(include_bytes!("../../../../models/speech-en/vocab.txt")),
            checksums: Bytes::Built(include_bytes!("../../../../models/speech-en/checksums.txt")),
        }
    }

    pub fn in_folder(folder: &Path) -> Result<Files> {
        let name = folder.file_name().map_or("model".into(), |n| n.to_string_lossy().into_owned());
        Ok(Files {
            name,
            weights: Bytes::map(&folder.join("model.safetensors"))?,
            activity: Bytes::map(&folder.join("vad.safetensors"))?,
            vocabulary: Bytes::map(&folder.join("vocab.txt"))?,
            checksums: Bytes::map(&folder.join("checksums.txt"))?,
        })
    }
}

impl Model {
    /// The model in this folder, or the one that is part of the program.
    pub fn open(folder: Option<&Path>) -> Result<Model> {
        Model::load(folder.map_or_else(|| Ok(Files::built_in()), Files::in_folder)?)
    }

    /// Files that are part of the program were built with it and are not summed again.
    pub fn load(files: Files) -> Result<Model> {
        let text = |b: &Bytes, name| {
            std::str::from_utf8(b.as_ref())
                .map(str::to_owned)
                .map_err(|_| Error::model(name, "it is not UTF-8"))
        };
        let sums = text(&files.checksums, "checksums.txt")?;
        let stated = |name: &str| {
            let line = sums.lines().find_map(|l| l.strip_suffix(name)?.split_whitespace().next());
            line.ok_or_else(|| Error::model("checksums.txt", format!("no line for {name}")))
        };
        for (name, bytes) in [
            ("model.safetensors", &files.weights),
            ("vad.safetensors", &files.activity),
            ("vocab.txt", &files.vocabulary),
        ] {
            let want = stated(name)?;
            if let Bytes::Mapped(m) = bytes {
                let got = hex(&Sha256::digest(m));
                if got != want {
                    return Err(Error::model(
                        name,
                        format!("its SHA-256 is {got}, and checksums.txt says {want}"),
                    ));
                }
            }
        }
        let digest = stated("model.safetensors")?.to_owned();
        let vocabulary = Vocabulary::read(&text(&files.vocabulary, "vocab.txt")?)?;
        let tensors = Tensors::new(files.weights, "model.safetensors")?;
        let activity = activity::Activity::load(&Tensors::new(files.activity, "vad.safetensors")?)?;
        Ok(Model {
            encoder: encoder::Encoder::load(&tensors)?,
            decoder: decoder::Decoder::load(&tensors)?,
            activity,
            vocabulary,
            tensors,
            name: files.name,
            digest,
        })
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// The sines and cosines of rotary positions on the first 32 values of each head (pairs side by side).
pub(crate) fn rotate(row: &mut [f32], position: usize) {
    const PAIRS: usize = 16;
    let mut turns = [(0.0f32, 0.0f32); PAIRS];
    for (i, t) in turns.iter_mut().enumerate() {
        let angle = position as f64 * 10_000f64.powf(-2.0 * i as f64 / (2 * PAIRS) as f64);
        *t = (angle.sin() as f32, angle.cos() as f32);
    }
    for head in row.chunks_exact_mut(HEAD) {
        for (pair, (sin, cos)) in head[..2 * PAIRS].chunks_exact_mut(2).zip(turns) {
            (pair[0], pair[1]) = (pair[0] * cos - pair[1] * sin, pair[1] * cos + pair[0] * sin);
        }
    }
}

pub(crate) fn add(to: &mut [f32], from: &[f32]) {
    to.iter_mut().zip(from).for_each(|(t, f)| *t += f);
}

/// Adds a bias to every row of its length.
pub(crate) fn add_bias(rows: &mut [f32], bias: &[f32]) {
    rows.chunks_exact_mut(bias.len()).for_each(|r| add(r, bias));
}
