#![no_main]
//! A list (or a fragment), and files beside it that are its own rest.
use libfuzzer_sys::fuzz_target;
use media::container::listed::{self, Near};
use media::container::Source;
use std::io::Cursor;
use std::sync::Arc;

struct Same(Vec<u8>);
impl Near for Same {
    fn open(&self, name: &str) -> media::Result<Box<dyn Source>> {
        listed::relative(name)?;
        Ok(Box::new(Cursor::new(self.0.clone())))
    }
    fn names(&self) -> media::Result<Vec<String>> {
        Ok(vec!["beside.mp4".into()])
    }
    fn state(&self, name: &str) -> media::Result<listed::State> {
        listed::relative(name)?;
        Ok(listed::State { bytes: self.0.len() as u64, modified: None })
    }
}

fuzz_target!(|data: &[u8]| {
    media::testkit::hostile::only_uncaught();
    let (list, rest) = match data.windows(4).position(|w| w == b"\0\0\0\0") {
        Some(at) => (&data[..at], &data[at + 4..]),
        None => (data, data),
    };
    let near: Arc<dyn Near> = Arc::new(Same(rest.to_vec()));
    if let Ok(Some(mut opened)) = listed::open(&mut Cursor::new(list.to_vec()), "list.m3u8", &near) {
        for _ in 0..2_000 {
            if !matches!(opened.demux.next_packet(), Ok(Some(_))) {
                break;
            }
        }
    }
});
