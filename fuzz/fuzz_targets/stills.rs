#![no_main]
//! Any file by its own first bytes: recognition, facts, stills and our own decoders.
use libfuzzer_sys::fuzz_target;
use media::still;
use std::io::Cursor;

fuzz_target!(|data: &[u8]| {
    media::testkit::hostile::only_uncaught();
    media::testkit::hostile::use_file(data);
    // Where a picture is wanted small, less of it may be decoded.
    let mut source = Cursor::new(data);
    let head = &data[..data.len().min(4096)];
    if let Ok(Some(format)) = still::recognise(head, &mut source) {
        for limit in [(8, 0), (40, 40), (160, 0)] {
            let _ = still::decode_for(format, &mut Cursor::new(data), &[limit]);
        }
    }
});
