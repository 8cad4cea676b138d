//! Calls into libde265 through `shim.c`: what rust_h265 leaves out.
#![allow(unsafe_code)]

use super::decode::Engine;
use super::{NAL_PPS, NAL_SPS, NAL_VPS, Sps, unit};
use crate::bits::{Bits, unescape};
use crate::error::{Error, Result};
use crate::frame::{Chroma, Pool, VideoFrame};
use crate::limits::MAX_PICTURE_AREA;
use std::collections::{BTreeMap, VecDeque};
use std::ffi::CStr;
use std::os::raw::{c_char, c_int, c_longlong, c_void};
use std::ptr;

#[repr(C)]
struct Picture {
    key: c_longlong,
    chroma: c_int,
    width: [c_int; 3],
    height: [c_int; 3],
    bits: [c_int; 3],
    stride: [c_int; 3],
    plane: [*const u8; 3],
}

unsafe extern "C" {
    fn porter_de265_open(threads: c_int) -> *mut c_void;
    fn porter_de265_push(d: *mut c_void, nal: *const u8, len: c_int, key: c_longlong) -> c_int;
    fn porter_de265_end(d: *mut c_void) -> c_int;
    fn porter_de265_step(d: *mut c_void) -> c_int;
    fn porter_de265_warning(d: *mut c_void) -> c_int;
    fn porter_de265_text(code: c_int) -> *const c_char;
    fn porter_de265_picture(d: *mut c_void, out: *mut Picture) -> c_int;
    fn porter_de265_close(d: *mut c_void);
}

pub struct Wide {
    raw: *mut c_void,
    pool: Pool,
    ready: VecDeque<(i64, VideoFrame)>,
    /// Errors that it went on behind.
    wrong: VecDeque<c_int>,
    /// Parameter sets that it has, by kind and number.
    sets: BTreeMap<(u8, u32), Vec<u8>>,
}

// SAFETY: one owner at a time; what the library shares between decoders has a lock of its own.
unsafe impl Send for Wide {}

/// The library's own words for a code.
fn text(code: c_int) -> String {
    // SAFETY: a text of the library's that stays, or null.
    let said = unsafe { porter_de265_text(code) };
    if said.is_null() {
        return format!("code {code}");
    }
    // SAFETY: not null; it ends with a zero.
    unsafe { CStr::from_ptr(said) }.to_string_lossy().into_owned()
}

impl Wide {
    pub fn new(threads: usize, pool: Pool) -> Result<Self> {
        // SAFETY: null is checked.
        let raw = unsafe { porter_de265_open(threads.min(32) as c_int) };
        if raw.is_null() {
            return Err(Error::limit("HEVC", "the decoder could not be started"));
        }
        Ok(Wide { raw, pool, ready: VecDeque::new(), wrong: VecDeque::new(), sets: BTreeMap::new() })
    }

    /// Lets it work on what it has, and takes what is ready.
    fn work(&mut self) -> Result<()> {
        // A step decodes a picture or fails: more steps without either are a decoder that turns in a circle.
        const IDLE: usize = 1_000;
        let mut idle = 0;
        while idle < IDLE {
            // SAFETY: `raw` is open.
            let step = unsafe { porter_de265_step(self.raw) };
            if step < 0 {
                self.wrong.push_back(-step);
            }
            let mut came = false;
            while let Some(picture) = self.take()? {
                self.ready.push_back(picture);
                came = true;
            }
            if step <= 0 && !came {
                return Ok(());
            }
            idle = if came { 0 } else { idle + 1 };
        }
        Err(Error::damaged("HEVC", "the decoder came to no end with it"))
    }

    fn take(&mut self) -> Result<Option<(i64, VideoFrame)>> {
        let mut p = Picture {
            key: 0,
            chroma: 0,
            width: [0; 3],
            height: [0; 3],
            bits: [0; 3],
            stride: [0; 3],
            plane: [ptr::null(); 3],
        };
        // SAFETY: `raw` is open; `p` is written.
        if unsafe { porter_de265_picture(self.raw, &mut p) } != 1 {
            return Ok(None);
        }
        let chroma = match p.chroma {
            0 => Chroma::Gray,
            1 => Chroma::C420,
            2 => Chroma::C422,
            _ => Chroma::C444,
        };
        let bits = p.bits[0];
        if chroma != Chroma::Gray && (p.bits[1] != bits || p.bits[2] != bits) {
            return Err(Error::unsupported("HEVC", "luma and colour of different depths"));
        }
        let bad = || Error::damaged("HEVC", "a picture of no size that can be");
        let size = |i: usize| Some((u32::try_from(p.width[i]).ok()?, u32::try_from(p.height[i]).ok()?));
        let (w, h) = size(0).ok_or_else(bad)?;
        let depth = u8::try_from(bits).map_err(|_| bad())?;
        let mut picture = VideoFrame::new(&self.pool, w, h, chroma, depth)?;
        let each = if depth > 8 { 2 } else { 1 };
        for (i, plane) in picture.planes.iter_mut().enumerate() {
            let stride = p.stride[i].unsigned_abs() as usize;
            let row = plane.width as usize * each;
            if p.plane[i].is_null() || stride < row || size(i) != Some((plane.width, plane.height)) {
                return Err(bad());
            }
            let len = stride * (plane.height as usize).saturating_sub(1) + row;
            // SAFETY: the library's plane has `height` rows of `stride` bytes each, and a row of ours fits in that.
            plane.fill_rows(unsafe { std::slice::from_raw_parts(p.plane[i], len) }, stride);
        }
        Ok(Some((p.key, picture)))
    }
}

/// Kind and number of a parameter set.
fn set_of(nal: &[u8]) -> Option<(u8, u32)> {
    let kind = unit(nal)?;
    let number = match kind {
        NAL_VPS => u32::from(nal.get(2)? >> 4),
        NAL_SPS => Sps::parse(nal)?.id,
        NAL_PPS => Bits::new(&unescape(nal.get(2..nal.len().min(16))?)).ue()?,
        _ => return None,
    };
    Some((kind, number))
}

impl Wide {
    fn push(&mut self, nal: &[u8], key: i64) -> Result<()> {
        let len = c_int::try_from(nal.len()).map_err(|_| Error::limit("HEVC", "a unit of over 2 GB"))?;
        // SAFETY: `nal` has as many bytes as are told; they are copied.
        match unsafe { porter_de265_push(self.raw, nal.as_ptr(), len, key) } {
            0 => self.work(),
            code => Err(Error::damaged("HEVC", text(code))),
        }
    }

    /// A set that comes again as it was is no news, but the library would take its pictures for those of another film then
    /// (1.0.11: what leans on pictures from before came out wrong); and with a sequence's set it forgets those of pictures.
    fn parameters(&mut self, set: (u8, u32), nal: &[u8]) -> Result<()> {
        if self.sets.get(&set).is_some_and(|have| have == nal) {
            return Ok(());
        }
        self.sets.insert(set, nal.to_vec());
        self.push(nal, 0)?;
        if set.0 == NAL_SPS {
            let of_pictures = self.sets.range((NAL_PPS, 0)..).map(|(_, nal)| nal.clone()).collect::<Vec<_>>();
            for nal in of_pictures {
                self.push(&nal, 0)?;
            }
        }
        Ok(())
    }
}

impl Engine for Wide {
    fn feed(&mut self, nal: &[u8], order: i32) -> Result<()> {
        // The library's own bound is far over ours, and of what it refuses in a set it writes to the terminal.
        if unit(nal) == Some(NAL_SPS) {
            let bad = |why| Error::damaged("HEVC", format!("a sequence's parameters that cannot be: {why}"));
            let sps = Sps::parse(nal).ok_or_else(|| bad("it cannot be read"))?;
            let (w, h) = sps.coded;
            if u64::from(w) * u64::from(h) > MAX_PICTURE_AREA {
                return Err(Error::limit("HEVC picture", format!("{w} x {h} pixels")));
            }
            if let Some(why) = sps.fault() {
                return Err(bad(why));
            }
        }
        match set_of(nal) {
            Some(set) => self.parameters(set, nal),
            None => self.push(nal, order.into()),
        }
    }

    fn picture(&mut self) -> Result<Option<(i64, VideoFrame)>> {
        Ok(self.ready.pop_front())
    }

    fn end(&mut self) -> Result<()> {
        // SAFETY: `raw` is open.
        let code = unsafe { porter_de265_end(self.raw) };
        if code != 0 {
            self.wrong.push_back(code);
        }
        self.work()
    }

    fn trouble(&mut self) -> Option<String> {
        if let Some(code) = self.wrong.pop_front() {
            return Some(text(code));
        }
        // SAFETY: `raw` is open.
        let code = unsafe { porter_de265_warning(self.raw) };
        (code != 0).then(|| text(code))
    }
}

impl Drop for Wide {
    fn drop(&mut self) {
        // SAFETY: opened in `new`, closed once.
        unsafe { porter_de265_close(self.raw) }
    }
}
