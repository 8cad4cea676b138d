#![no_main]
//! Any file by its own first bytes: recognition, facts, stills and our own decoders.
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    media::testkit::hostile::only_uncaught();
    media::testkit::hostile::use_file(data)
});
