//! Calls into libtheora through `shim.c`.
#![allow(unsafe_code)]

use crate::codec::{DecodeVideo, vorbis};
use crate::error::{Error, Result};
use crate::frame::{Chroma, Colour, Pool, VideoFrame};
use crate::track::{Packet, VideoTrack};
use std::os::raw::{c_int, c_long, c_uint, c_void};
use std::ptr;

#[repr(C)]
struct Picture {
    width: c_uint,
    height: c_uint,
    shift_x: c_uint,
    shift_y: c_uint,
    stride: [c_int; 3],
    plane: [*const u8; 3],
}

unsafe extern "C" {
    fn porter_theora_open(heads: *const *const u8, lens: *const c_long) -> *mut c_void;
    fn porter_theora_decode(ctx: *mut c_void, data: *const u8, len: c_long) -> c_int;
    fn porter_theora_picture(ctx: *mut c_void, out: *mut Picture) -> c_int;
    fn porter_theora_close(ctx: *mut c_void);
}

pub struct Decoder {
    raw: *mut c_void,
    pool: Pool,
    colour: Colour,
    lost: Vec<(i64, i64)>,
    /// A first picture was there: what follows is told from it.
    began: bool,
}

// SAFETY: one owner at a time; the library has no threads and no state of its own.
unsafe impl Send for Decoder {}

impl Decoder {
    /// `setup`: its three heads, laced as those of Vorbis are.
    pub fn new(setup: &[u8], track: &VideoTrack, pool: Pool) -> Result<Self> {
        let heads =
            vorbis::headers(setup).ok_or_else(|| Error::damaged("Theora", "its heads are not whole"))?;
        let lens = heads.map(|h| h.len() as c_long);
        // SAFETY: three pointers with the length of what each points to; null is checked.
        let raw = unsafe { porter_theora_open(heads.map(<[u8]>::as_ptr).as_ptr(), lens.as_ptr()) };
        if raw.is_null() {
            return Err(Error::damaged("Theora", "its heads cannot be read"));
        }
        Ok(Decoder { raw, pool, colour: track.colour, lost: Vec::new(), began: false })
    }

    fn picture(&mut self) -> Result<VideoFrame> {
        let mut p =
            Picture { width: 0, height: 0, shift_x: 0, shift_y: 0, stride: [0; 3], plane: [ptr::null(); 3] };
        // SAFETY: `raw` is open; `p` is written.
        if unsafe { porter_theora_picture(self.raw, &mut p) } != 1 {
            return Err(Error::damaged("Theora", "no picture came of it"));
        }
        let chroma = match (p.shift_x, p.shift_y) {
            (1, 1) => Chroma::C420,
            (1, 0) => Chroma::C422,
            _ => Chroma::C444,
        };
        let mut frame = VideoFrame::new(&self.pool, p.width, p.height, chroma, 8)?;
        for (i, plane) in frame.planes.iter_mut().enumerate() {
            let stride = p.stride[i].unsigned_abs() as usize;
            let len = stride * (plane.height as usize).saturating_sub(1) + plane.width as usize;
            // SAFETY: the shim has checked that the plane has `height` rows of at least `width` samples from here on,
            // `stride` apart.
            let rows = unsafe { std::slice::from_raw_parts(p.plane[i], len) };
            plane.fill_rows(rows, stride);
        }
        frame.colour = self.colour;
        Ok(frame)
    }
}

impl DecodeVideo for Decoder {
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        // A packet without bytes is the picture before once more (7.1).
        let is_key = packet.data.first().is_some_and(|b| b & 0xc0 == 0);
        let mut result = Err(Error::damaged("Theora", "it begins with a picture that needs one before it"));
        if self.began || is_key {
            // SAFETY: `data` has as many bytes as are told.
            let code =
                unsafe { porter_theora_decode(self.raw, packet.data.as_ptr(), packet.data.len() as c_long) };
            self.began |= code == 0;
            result = match code {
                0 | 1 if self.began => self.picture(),
                _ => {
                    let why = format!("the picture at {} could not be decoded (code {code})", packet.pts);
                    Err(Error::damaged("Theora", why))
                }
            };
        }
        match result {
            Ok(mut frame) => {
                (frame.pts, frame.duration) = (packet.pts, packet.duration);
                if packet.shown {
                    out.push(frame);
                }
                Ok(())
            }
            Err(e) => {
                if packet.shown {
                    self.lost.push((packet.pts, packet.duration));
                }
                Err(e)
            }
        }
    }

    fn flush(&mut self, _out: &mut Vec<VideoFrame>) -> Result<()> {
        Ok(())
    }

    fn take_lost(&mut self) -> Vec<(i64, i64)> {
        std::mem::take(&mut self.lost)
    }
}

impl Drop for Decoder {
    fn drop(&mut self) {
        // SAFETY: opened in `new`, closed once.
        unsafe { porter_theora_close(self.raw) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn heads_that_are_none_are_refused() {
        for setup in
            [vec![], vec![2, 1, 1, 0, 0, 0], vorbis::join([b"\x80theora", b"\x81theora", b"\x82theora"])]
        {
            let e = Decoder::new(&setup, &VideoTrack::sized(16, 16), Pool::new()).err().unwrap();
            assert!(matches!(e, Error::Damaged(_)), "{e}");
        }
    }
}
