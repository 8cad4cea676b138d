//! What every reader and our own decoders do with any bytes at all: fuzzing and the mutation tests share it.

use crate::codec::{self, DecodeAudio, DecodeVideo};
use crate::container::{Demux, Media, Open};
use crate::frame::Pool;
use crate::{facts, still};
use std::io::Cursor;

/// Packets asked for at most: more work than any small file may cause.
const MOST: usize = 20_000;

/// Facts, every packet, and what the decoders that are no large library's make of it.
pub fn use_file(bytes: &[u8]) {
    let _ = facts::of(Box::new(Cursor::new(bytes.to_vec())));
    if let Ok(d) = crate::container::open(Box::new(Cursor::new(bytes.to_vec()))) {
        use_reader(d);
    }
    let mut source = Cursor::new(bytes);
    if let Ok(Some(format)) = still::recognise(&bytes[..bytes.len().min(4096)], &mut Cursor::new(bytes)) {
        let _ = still::facts(format, &mut source);
        // A picture that claims to be large is not worth the time here.
        if still::facts(format, &mut source).is_ok_and(|f| f.width.saturating_mul(f.height) < 1 << 20) {
            let _ = still::decode(format, &mut source);
        }
    }
}

/// For the fuzzer, which otherwise takes a panic for a finding that a decoder's wrapper catches: only what nobody
/// catches counts.
pub fn only_uncaught() {
    static ONCE: std::sync::Once = std::sync::Once::new();
    ONCE.call_once(|| std::panic::set_hook(Box::new(|info| eprintln!("{info}"))));
}

/// One reader on bytes that may not even start like its format.
pub fn use_format(open: Open, bytes: &[u8]) {
    if let Ok(d) = open(Box::new(Cursor::new(bytes.to_vec()))) {
        use_reader(d);
    }
}

enum Decoder {
    Picture(Box<dyn DecodeVideo>),
    Sound(Box<dyn DecodeAudio>),
    None,
}

fn use_reader(mut d: Box<dyn Demux>) {
    let pool = Pool::new();
    let _ = facts::of_tracks(d.as_ref(), 0);
    let mut decoders: Vec<Decoder> = d
        .tracks()
        .iter()
        .map(|t| match &t.media {
            // Small pictures only, so that a second is enough for many files.
            Media::Video(v) if v.width.saturating_mul(v.height) < 1 << 16 => {
                codec::video_decoder(t, &pool).map_or(Decoder::None, Decoder::Picture)
            }
            Media::Audio(_) => codec::audio_decoder(t).map_or(Decoder::None, Decoder::Sound),
            _ => Decoder::None,
        })
        .collect();
    let mut frames = Vec::new();
    for _ in 0..MOST {
        match d.next_packet() {
            Ok(Some(p)) => {
                assert!(p.track < decoders.len(), "a packet of a track that is not described");
                match &mut decoders[p.track] {
                    Decoder::Picture(v) => _ = v.decode(&p, &mut frames),
                    Decoder::Sound(s) => _ = s.decode(&p),
                    Decoder::None => (),
                }
                frames.clear();
            }
            Ok(None) => break,
            Err(_) => (),
        }
    }
}
