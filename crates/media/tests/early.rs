//! Packets of Vorbis that end before all of a block was said: allowed by its specification (Vorbis I, 4.3.2 and 8.6.2).

use media::codec;
use media::container;
use std::fs::File;
use std::path::Path;

#[test]
fn packets_that_end_early_are_heard_as_far_as_they_go() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/fixtures/tone.ogg");
    let mut demux = container::open(Box::new(File::open(path).unwrap())).unwrap();
    demux.choose(&[0]);
    let track = demux.tracks()[0].clone();
    let mut packets = Vec::new();
    while let Some(p) = demux.next_packet().unwrap() {
        packets.push(p);
    }
    let mut whole = codec::audio_decoder(&track).unwrap();
    let lengths: Vec<usize> = packets.iter().map(|p| whole.decode(p).unwrap().len()).collect();
    for part in (1usize..24).chain([40, 80]) {
        let mut decoder = codec::audio_decoder(&track).unwrap();
        for (p, want) in packets.iter().zip(&lengths) {
            let mut cut = p.clone();
            cut.data.truncate(part.min(p.data.len()));
            let frame = decoder.decode(&cut);
            assert!(frame.is_ok(), "{part} bytes of {}: {}", p.data.len(), frame.unwrap_err());
            assert_eq!(frame.unwrap().len(), *want, "{part} bytes");
        }
    }
}
