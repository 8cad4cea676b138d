//! Calls into libvpx through `shim.c`.
#![allow(unsafe_code)]

use crate::codec::DecodeVideo;
use crate::error::{Error, Result};
use crate::frame::{Chroma, Colour, Pool, VideoFrame};
use crate::track::{Packet, VideoTrack};
use std::os::raw::{c_int, c_uint, c_void};
use std::ptr;

#[repr(C)]
struct Picture {
    width: c_uint,
    height: c_uint,
    depth: c_uint,
    shift_x: c_uint,
    shift_y: c_uint,
    bytes: c_uint,
    matrix: c_int,
    full_range: c_int,
    stride: [c_int; 3],
    plane: [*const u8; 3],
}

unsafe extern "C" {
    fn porter_vpx_open(nine: c_int) -> *mut c_void;
    fn porter_vpx_decode(ctx: *mut c_void, data: *const u8, len: c_uint) -> c_int;
    fn porter_vpx_picture(ctx: *mut c_void, iter: *mut *mut c_void, out: *mut Picture) -> c_int;
    fn porter_vpx_close(ctx: *mut c_void);
}

pub struct Decoder {
    raw: *mut c_void,
    name: &'static str,
    pool: Pool,
    colour: Colour,
    lost: Vec<(i64, i64)>,
}

// SAFETY: one owner at a time; the library was opened with one thread, its caller's.
unsafe impl Send for Decoder {}

impl Decoder {
    pub fn new(nine: bool, track: &VideoTrack, pool: Pool) -> Result<Self> {
        let name = if nine { "VP9" } else { "VP8" };
        // SAFETY: no arguments that could be wrong; null is checked.
        let raw = unsafe { porter_vpx_open(nine.into()) };
        if raw.is_null() {
            return Err(Error::limit(format!("{name} decoder"), "it did not start"));
        }
        Ok(Decoder { raw, name, pool, colour: track.colour, lost: Vec::new() })
    }

    fn pictures(&mut self, out: &mut Vec<VideoFrame>) -> Result<usize> {
        let mut iter = ptr::null_mut();
        let before = out.len();
        loop {
            let mut p = Picture {
                width: 0,
                height: 0,
                depth: 0,
                shift_x: 0,
                shift_y: 0,
                bytes: 0,
                matrix: 0,
                full_range: 0,
                stride: [0; 3],
                plane: [ptr::null(); 3],
            };
            // SAFETY: `raw` is open; `iter` starts at null as the library wants; `p` is written.
            if unsafe { porter_vpx_picture(self.raw, &mut iter, &mut p) } != 1 {
                return Ok(out.len() - before);
            }
            let chroma = match (p.shift_x, p.shift_y) {
                (1, 1) => Chroma::C420,
                (1, 0) => Chroma::C422,
                (0, 0) => Chroma::C444,
                _ => return Err(Error::unsupported("", format!("{} in 4:4:0 cannot be decoded", self.name))),
            };
            let mut frame = VideoFrame::new(&self.pool, p.width, p.height, chroma, p.depth as u8)?;
            for (i, plane) in frame.planes.iter_mut().enumerate() {
                let (stride, bytes) = (p.stride[i].unsigned_abs() as usize, p.bytes as usize);
                if p.plane[i].is_null() || p.stride[i] <= 0 || plane.height == 0 {
                    continue;
                }
                let len = stride * (plane.height as usize - 1) + plane.width as usize * bytes;
                // SAFETY: the library's plane has `height` rows of at least `width` samples, `stride` apart.
                let rows = unsafe { std::slice::from_raw_parts(p.plane[i], len) };
                plane.fill_rows(rows, stride);
            }
            frame.colour = self.colour;
            out.push(frame);
        }
    }
}

impl DecodeVideo for Decoder {
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        let mut fail = |why: String| {
            if packet.shown {
                self.lost.push((packet.pts, packet.duration));
            }
            Err(Error::damaged(self.name, why))
        };
        let Ok(len) = c_uint::try_from(packet.data.len()) else { return fail("a packet over 4 GB".into()) };
        if len == 0 {
            return fail("an empty packet".into());
        }
        // SAFETY: `data` has `len` bytes.
        let code = unsafe { porter_vpx_decode(self.raw, packet.data.as_ptr(), len) };
        if code != 0 {
            return fail(format!("the picture at {} could not be decoded (code {code})", packet.pts));
        }
        // A packet shows at most one picture; where layers give several, the last is the one to show.
        let before = out.len();
        let got = self.pictures(out)?;
        if got > 1 {
            out.drain(before..before + got - 1);
        }
        if !packet.shown {
            out.truncate(before);
        } else if let Some(frame) = out.get_mut(before) {
            (frame.pts, frame.duration) = (packet.pts, packet.duration);
        }
        Ok(())
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
        unsafe { porter_vpx_close(self.raw) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn noise_gives_damage_and_no_crash() {
        for nine in [false, true] {
            let mut d = Decoder::new(nine, &VideoTrack::sized(64, 64), Pool::new()).unwrap();
            let mut out = Vec::new();
            for n in 0..200u32 {
                let data: Vec<u8> =
                    (0..n).map(|i| (i.wrapping_mul(2_654_435_761) >> (n % 24)) as u8).collect();
                let _ = d.decode(&Packet { data, shown: true, pts: n.into(), ..Packet::default() }, &mut out);
            }
            assert!(!d.take_lost().is_empty());
        }
    }
}
