#![no_main]
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    media::testkit::hostile::only_uncaught();
    media::testkit::hostile::use_format(media::container::real::FORMAT.open, data)
});
