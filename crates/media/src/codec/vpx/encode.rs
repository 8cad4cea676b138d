//! VP9, and single pictures of VP8, through libvpx and `shim.c`.
#![allow(unsafe_code)]

use crate::codec::waiting::Numbered;
use crate::codec::{Coded, EncodeVideo, PictureForm};
use crate::error::{Error, Result};
use crate::frame::{Chroma, VideoFrame};
use crate::recipe::{BitRecipe, Plain};
use std::os::raw::{c_int, c_longlong, c_uint, c_void};
use std::ptr;

#[repr(C)]
struct Settings {
    width: c_uint,
    height: c_uint,
    rate_num: c_uint,
    rate_den: c_uint,
    key_every: c_uint,
    kilobits: c_uint,
    quantiser: c_uint,
    threads: c_int,
    speed: c_int,
    tile_columns: c_int,
    colour_space: c_int,
    full_range: c_int,
}

unsafe extern "C" {
    fn porter_vpx_coder_open(settings: *const Settings) -> *mut c_void;
    fn porter_vpx_still_open(width: c_uint, height: c_uint, quantiser: c_uint) -> *mut c_void;
    fn porter_vpx_code(
        coder: *mut c_void,
        width: c_uint,
        height: c_uint,
        plane: *const *const u8,
        stride: *const c_int,
        number: c_longlong,
        key: c_int,
    ) -> c_int;
    fn porter_vpx_packet(
        coder: *mut c_void,
        data: *mut *const u8,
        len: *mut usize,
        number: *mut c_longlong,
        key: *mut c_int,
    ) -> c_int;
    fn porter_vpx_coder_close(coder: *mut c_void);
}

/// 0 is best and slowest; this is what a house can wait for.
const SPEED: c_int = 5;

pub struct Encoder {
    raw: *mut c_void,
    size: (u32, u32),
    inside: Numbered,
}

// SAFETY: one owner at a time; the library's own threads do not outlive a call.
unsafe impl Send for Encoder {}

impl Encoder {
    pub fn new(form: &PictureForm, rate: BitRecipe, key_every: u32) -> Result<Self> {
        let (quantiser, kilobits) = match rate.plain() {
            // H.264's scale of 52 steps on VP9's of 64.
            Plain::Quantiser(q) => (u32::from(q.min(51)) * 63 / 51, 0),
            Plain::Bits(b) => (64, (b / 1000).max(1)),
        };
        // 7.2.2 of the specification: colour_space, in the terms of H.273.
        let colour_space = match form.colour.matrix {
            5 | 6 => 1,
            1 => 2,
            7 => 4,
            9 | 10 => 5,
            _ => 0,
        };
        let settings = Settings {
            width: form.width,
            height: form.height,
            rate_num: form.rate.num,
            rate_den: form.rate.den,
            key_every,
            kilobits,
            quantiser,
            // The same for any number of processors, so that the result is.
            threads: 4,
            speed: SPEED,
            tile_columns: if form.width >= 1024 { 2 } else { 1 },
            colour_space,
            full_range: form.colour.full_range.into(),
        };
        // SAFETY: a whole record; null is checked.
        let raw = unsafe { porter_vpx_coder_open(&settings) };
        if raw.is_null() {
            let (w, h) = (form.width, form.height);
            return Err(Error::setting("video", format!("the VP9 encoder refused {w}x{h} with {rate:?}")));
        }
        Ok(Encoder { raw, size: (form.width, form.height), inside: Numbered::default() })
    }

    /// For one VP8 picture by itself.
    pub fn of_still((w, h): (u32, u32), quantiser: u32) -> Result<Self> {
        // SAFETY: numbers only; null is checked.
        let raw = unsafe { porter_vpx_still_open(w, h, quantiser.min(63)) };
        if raw.is_null() {
            return Err(Error::limit("VP8 encoder", format!("it refused a picture of {w}x{h}")));
        }
        Ok(Encoder { raw, size: (w, h), inside: Numbered::default() })
    }

    /// Codes a picture, as a key picture if it has to be one.
    pub fn encode_as(
        &mut self,
        frame: &VideoFrame,
        (pts, duration, key): (i64, i64, bool),
        out: &mut Vec<Coded>,
    ) -> Result<()> {
        if frame.chroma != Chroma::C420 || frame.depth != 8 || (frame.width, frame.height) != self.size {
            return Err(Error::unsupported("VP9 encoder", "a picture of another form than was planned"));
        }
        let mut plane = [ptr::null(); 3];
        let mut stride = [0; 3];
        for (i, p) in frame.planes.iter().enumerate() {
            let Some(bytes) = p.bytes() else { continue };
            (plane[i], stride[i]) = (bytes.as_ptr(), p.stride as c_int);
        }
        let number = self.inside.enters(pts, duration);
        let (w, h) = self.size;
        // SAFETY: the planes hold width x height samples by the check above and are only read.
        let code = unsafe {
            porter_vpx_code(self.raw, w, h, plane.as_ptr(), stride.as_ptr(), number, c_int::from(key))
        };
        if code != 0 {
            return Err(Error::limit(
                "VP9 encoder",
                format!("it stopped at the picture at {pts} (code {code})"),
            ));
        }
        self.packets(out);
        Ok(())
    }

    fn packets(&mut self, out: &mut Vec<Coded>) {
        loop {
            let (mut data, mut len, mut number, mut key) = (ptr::null(), 0usize, 0, 0);
            // SAFETY: all four are written where a packet is told.
            if unsafe { porter_vpx_packet(self.raw, &mut data, &mut len, &mut number, &mut key) } != 1 {
                return;
            }
            // SAFETY: valid until the next picture is coded.
            let data = unsafe { std::slice::from_raw_parts(data, len) }.to_vec();
            if let Some((pts, duration)) = self.inside.left(number) {
                out.push(Coded::new(pts, duration, key != 0, data));
            }
        }
    }
}

impl EncodeVideo for Encoder {
    fn encode(&mut self, frame: &VideoFrame, pts: i64, duration: i64, out: &mut Vec<Coded>) -> Result<()> {
        self.encode_as(frame, (pts, duration, false), out)
    }

    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        // It says by giving nothing that there is no more.
        loop {
            let before = out.len();
            // SAFETY: no picture: it gives what it holds back.
            let code = unsafe { porter_vpx_code(self.raw, 0, 0, ptr::null(), ptr::null(), 0, 0) };
            self.packets(out);
            if code != 0 {
                return Err(Error::limit("VP9 encoder", format!("it stopped at the end (code {code})")));
            }
            if out.len() == before {
                return Ok(());
            }
        }
    }

    fn setup(&self) -> Vec<u8> {
        Vec::new()
    }
}

impl Drop for Encoder {
    fn drop(&mut self) {
        // SAFETY: opened in `new`, closed once.
        unsafe { porter_vpx_coder_close(self.raw) }
    }
}
