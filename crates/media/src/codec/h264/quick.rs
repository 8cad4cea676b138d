//! Decoding through openh264: progressive pictures in 8-bit 4:2:0.
#![allow(unsafe_code)]

use super::{Config, is_picture_unit, nal_units};
use crate::codec::DecodeVideo;
use crate::error::{Error, Result};
use crate::frame::{Chroma, Colour, Pool, VideoFrame};
use crate::track::Packet;
use crate::units::Ratio;
use openh264_sys2 as sys;
use openh264_sys2::{API, ISVCDecoder, ISVCDecoderVtbl, SBufferInfo, SDecodingParam, source::APILoader};
use std::collections::BTreeMap;
use std::os::raw::{c_int, c_void};
use std::ptr;

/// Bits of the library's decoding state.
const NO_PARAMETER_SETS: i32 = 0x10;
const CONCEALED: i32 = 0x20;
const OUT_OF_MEMORY: i32 = 0x4000;
/// A reference, slice or layer was missing or broken.
const BROKEN: i32 = 0x02 | 0x04 | 0x08;

/// H.264, 8-bit progressive 4:2:0, to pictures.
pub struct Quick {
    raw: *mut ISVCDecoder,
    config: Config,
    pool: Pool,
    /// Packets given to the library by running number: start, duration, shown.
    pending: BTreeMap<u64, (i64, i64, bool)>,
    given: u64,
    /// Parameter sets must go in front of the next packet.
    start: bool,
    annex_b: Vec<u8>,
    lost: Vec<(i64, i64)>,
    last_pts: i64,
    concealed: u64,
    colour: Colour,
    pixel_shape: Ratio,
    /// Packets have times of decoding only: pictures take the earliest that is free.
    relabel: bool,
}

// SAFETY: the library object is used by one owner at a time and keeps no thread of its own (its threaded
// decoding is never turned on).
unsafe impl Send for Quick {}

impl Quick {
    pub fn new(setup: &[u8], pool: Pool) -> Result<Self> {
        let config = Config::parse(setup)?;
        let (mut colour, mut pixel_shape) = (Colour::default(), Ratio::ONE);
        if let Some(sps) = config.first_sps()? {
            (colour, pixel_shape) = (sps.colour, sps.pixel_shape);
        }
        let mut raw = ptr::null_mut();
        // SAFETY: `raw` receives an object that lives until `WelsDestroyDecoder` in `drop`.
        let code = unsafe { APILoader::new().WelsCreateDecoder(&mut raw) };
        if code != 0 || raw.is_null() {
            return Err(Error::limit("H.264 decoder", "no memory to start it"));
        }
        let decoder = Quick {
            raw,
            config,
            pool,
            pending: BTreeMap::new(),
            given: 0,
            start: true,
            annex_b: Vec::new(),
            lost: Vec::new(),
            last_pts: i64::MIN,
            concealed: 0,
            colour,
            pixel_shape,
            relabel: false,
        };
        let mut param = SDecodingParam::default();
        param.sVideoProperty.eVideoBsType = sys::VIDEO_BITSTREAM_AVC;
        param.eEcActiveIdc = sys::ERROR_CON_SLICE_COPY;
        let mut quiet: c_int = 0;
        // SAFETY: `raw` is valid; the parameters outlive both calls, which copy them.
        let code = unsafe {
            let vt = decoder.vtable();
            if let Some(set) = vt.SetOption {
                set(raw, sys::DECODER_OPTION_TRACE_LEVEL, ptr::addr_of_mut!(quiet).cast::<c_void>());
            }
            vt.Initialize.map_or(1, |init| init(raw, &param))
        };
        if code != 0 {
            return Err(Error::limit("H.264 decoder", format!("it did not start (code {code})")));
        }
        Ok(decoder)
    }

    /// Sets whether packets have times of decoding only.
    pub fn in_order(mut self, yes: bool) -> Self {
        self.relabel = yes;
        self
    }

    fn vtable(&self) -> &ISVCDecoderVtbl {
        // SAFETY: the object starts with a pointer to its table of functions, both valid until `drop`.
        unsafe { &**self.raw }
    }

    /// One call into the library; a finished picture is copied out at once, for the next call reuses it.
    fn feed(&mut self, number: u64, data: Option<&[u8]>, out: &mut Vec<VideoFrame>) -> Result<i32> {
        let mut planes: [*mut u8; 3] = [ptr::null_mut(); 3];
        let mut info = SBufferInfo { uiInBsTimeStamp: number, ..Default::default() };
        let (at, len) = data.map_or((ptr::null(), 0), |d| (d.as_ptr(), d.len() as c_int));
        let decode = self.vtable().DecodeFrame2.ok_or_else(missing)?;
        // SAFETY: `at` points to `len` readable bytes (or is null with 0, which the library takes as "no
        // more data for now"); `planes` and `info` are written by the call.
        let state = unsafe { decode(self.raw, at, len, planes.as_mut_ptr(), &mut info) };
        self.collect(&planes, &info, out)?;
        Ok(state as i32)
    }

    fn collect(
        &mut self,
        planes: &[*mut u8; 3],
        info: &SBufferInfo,
        out: &mut Vec<VideoFrame>,
    ) -> Result<()> {
        if info.iBufferStatus != 1 || planes.iter().any(|p| p.is_null()) {
            return Ok(());
        }
        // SAFETY: with status 1 the library has filled in the system memory variant.
        let mem = unsafe { info.UsrData.sSystemBuffer };
        let (Ok(w), Ok(h)) = (u32::try_from(mem.iWidth), u32::try_from(mem.iHeight)) else { return Ok(()) };
        let mut number = info.uiOutYuvTimeStamp;
        if self.relabel {
            number = self.pending.iter().min_by_key(|(_, p)| p.0).map_or(number, |(&n, _)| n);
        }
        let Some((pts, duration, shown)) = self.pending.remove(&number) else {
            return Ok(());
        };
        if !shown {
            return Ok(());
        }
        let mut frame = VideoFrame::new(&self.pool, w, h, Chroma::C420, 8)?;
        for (i, plane) in frame.planes.iter_mut().enumerate() {
            let stride = mem.iStride[usize::from(i > 0)] as usize;
            let (pw, ph, ps) = (plane.width as usize, plane.height as usize, plane.stride);
            let Some(to) = plane.bytes_mut() else { continue };
            for y in 0..ph {
                // SAFETY: the library's plane has `ph` rows of at least `pw` bytes, `stride` apart.
                let row = unsafe { std::slice::from_raw_parts(planes[i].add(y * stride), pw) };
                to[y * ps..y * ps + pw].copy_from_slice(row);
            }
        }
        frame.colour = self.colour;
        frame.pixel_shape = self.pixel_shape;
        (frame.pts, frame.duration) = (pts, duration);
        self.last_pts = pts;
        out.push(frame);
        // Pictures come out in order of presentation: shown packets from before this one gave none.
        let gone: Vec<u64> = self.pending.iter().filter(|(_, p)| p.0 < pts).map(|(&n, _)| n).collect();
        self.give_up(&gone);
        Ok(())
    }

    fn give_up(&mut self, numbers: &[u64]) {
        for n in numbers {
            if let Some((pts, duration, true)) = self.pending.remove(n) {
                self.lost.push((pts, duration));
            }
        }
    }

    /// Pictures are known to be lost that were not told yet.
    pub fn has_lost(&self) -> bool {
        !self.lost.is_empty()
    }

    fn left_inside(&self) -> i32 {
        let mut left: c_int = 0;
        if let Some(get) = self.vtable().GetOption {
            // SAFETY: this option writes one int.
            unsafe {
                get(
                    self.raw,
                    sys::DECODER_OPTION_NUM_OF_FRAMES_REMAINING_IN_BUFFER,
                    ptr::addr_of_mut!(left).cast::<c_void>(),
                )
            };
        }
        left
    }
}

fn missing() -> Error {
    Error::limit("H.264 decoder", "the library lacks a function")
}

impl DecodeVideo for Quick {
    fn decode(&mut self, packet: &Packet, out: &mut Vec<VideoFrame>) -> Result<()> {
        let mut data = std::mem::take(&mut self.annex_b);
        data.clear();
        let mut put = |nal: &[u8]| {
            data.extend([0, 0, 0, 1]);
            data.extend(nal);
        };
        if self.start {
            self.config.sps.iter().chain(&self.config.pps).for_each(|n| put(n));
            self.start = false;
        }
        let mut cut = None;
        for nal in nal_units(&packet.data, self.config.length_size) {
            match nal {
                Ok(nal) if is_picture_unit(nal) => put(nal),
                Ok(_) => (),
                Err(e) => cut = Some(e),
            }
        }
        self.given += 1;
        let number = self.given;
        self.pending.insert(number, (packet.pts, packet.duration, packet.shown));
        let before = out.len();
        let mut state = self.feed(number, Some(&data), out)?;
        state |= self.feed(number, None, out)?;
        self.annex_b = data;
        // What the library calls so is, as a rule, a size that the bytes seem to state.
        if state & OUT_OF_MEMORY != 0 && out.len() == before {
            return Err(Error::damaged("H.264", "the decoder found no memory for what this packet states"));
        }
        if state & CONCEALED != 0 {
            self.concealed += 1;
        }
        if state & NO_PARAMETER_SETS != 0 {
            self.start = true;
        }
        if out.len() == before && (state & (BROKEN | NO_PARAMETER_SETS) != 0 || cut.is_some()) {
            return Err(cut.unwrap_or_else(|| {
                Error::damaged(
                    "H.264",
                    format!("the picture at {} could not be decoded (state {state:#x})", packet.pts),
                )
            }));
        }
        Ok(())
    }

    fn flush(&mut self, out: &mut Vec<VideoFrame>) -> Result<()> {
        let mut rounds = self.left_inside().clamp(0, 64) + 1;
        while rounds > 0 {
            rounds -= 1;
            let mut planes: [*mut u8; 3] = [ptr::null_mut(); 3];
            let mut info = SBufferInfo::default();
            let flush = self.vtable().FlushFrame.ok_or_else(missing)?;
            // SAFETY: as in `feed`.
            unsafe { flush(self.raw, planes.as_mut_ptr(), &mut info) };
            self.collect(&planes, &info, out)?;
        }
        let rest: Vec<u64> = self.pending.keys().copied().collect();
        self.give_up(&rest);
        self.start = true;
        Ok(())
    }

    fn take_lost(&mut self) -> Vec<(i64, i64)> {
        let mut lost = std::mem::take(&mut self.lost);
        lost.sort_unstable();
        lost
    }

    fn concealed(&self) -> u64 {
        self.concealed
    }
}

impl Drop for Quick {
    fn drop(&mut self) {
        // SAFETY: created in `new`, destroyed once.
        unsafe {
            if let Some(end) = self.vtable().Uninitialize {
                end(self.raw);
            }
            APILoader::new().WelsDestroyDecoder(self.raw);
        }
    }
}
