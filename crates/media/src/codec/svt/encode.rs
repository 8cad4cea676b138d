//! AV1 through SVT-AV1 and `shim.c`.
#![allow(unsafe_code)]

use crate::codec::waiting::Numbered;
use crate::codec::{Coded, EncodeVideo, PictureForm, av1};
use crate::error::{Error, Result};
use crate::frame::{Chroma, Samples, VideoFrame};
use crate::recipe::{BitRecipe, Plain};
use std::os::raw::{c_int, c_longlong, c_uchar, c_uint, c_void};
use std::ptr;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};

/// The library (1.4) keeps tables for all its encoders in one place. Two that are opened or closed at the same moment end the
/// program; so does, now and then, one of a still beside one of a film.
static OPENING: Mutex<()> = Mutex::new(());

fn alone() -> MutexGuard<'static, ()> {
    OPENING.lock().unwrap_or_else(PoisonError::into_inner)
}

/// What an encoder is for.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Use {
    Film,
    Still,
}

/// Encoders there are: of films, of stills.
static THERE: Mutex<[usize; 2]> = Mutex::new([0; 2]);
static FEWER: Condvar = Condvar::new();

/// Encoders of one use at a time: those of the other wait for it.
struct Turn(Use);

impl Turn {
    fn take(of: Use) -> Turn {
        let mut there = THERE.lock().unwrap_or_else(PoisonError::into_inner);
        while there[1 - of as usize] > 0 {
            there = FEWER.wait(there).unwrap_or_else(PoisonError::into_inner);
        }
        there[of as usize] += 1;
        Turn(of)
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        THERE.lock().unwrap_or_else(PoisonError::into_inner)[self.0 as usize] -= 1;
        FEWER.notify_all();
    }
}

#[repr(C)]
struct Settings {
    width: c_uint,
    height: c_uint,
    rate_num: c_uint,
    rate_den: c_uint,
    depth: c_uint,
    key_every: c_uint,
    bits: c_uint,
    quantiser: c_uint,
    speed: c_int,
    processors: c_uint,
    layers: c_uint,
    primaries: c_uchar,
    transfer: c_uchar,
    matrix: c_uchar,
    full_range: c_uchar,
}

unsafe extern "C" {
    fn porter_svt_quiet();
    fn porter_svt_open(settings: *const Settings) -> *mut c_void;
    fn porter_svt_header(
        coder: *mut c_void,
        data: *mut *const u8,
        len: *mut c_uint,
        keep: *mut *mut c_void,
    ) -> c_int;
    fn porter_svt_free_header(keep: *mut c_void);
    fn porter_svt_code(
        coder: *mut c_void,
        depth: c_uint,
        width: c_uint,
        height: c_uint,
        plane: *const *const u8,
        stride: *const c_uint,
        number: c_longlong,
    ) -> c_int;
    fn porter_svt_packet(
        coder: *mut c_void,
        wait: c_int,
        data: *mut *const u8,
        len: *mut usize,
        number: *mut c_longlong,
        key: *mut c_int,
    ) -> c_int;
    fn porter_svt_close(coder: *mut c_void);
}

/// 0 is best and slowest, 13 the quickest; this is what a house can wait for.
const SPEED: c_int = 10;
const SPEED_OF_STILLS: c_int = 8;
/// With a quantiser the result is the same for any number; with a bit rate it hangs on which of several was quicker, so that
/// one works alone.
const PROCESSORS: c_uint = 4;
const PROCESSORS_WITH_BITS: c_uint = 1;
/// Pictures that look ahead to one another are 2 to the power of this. The usual 5 need half as much memory again and save
/// nothing; a picture larger than this many samples is content with less.
const LAYERS: c_uint = 4;
const LARGE: u64 = 1920 * 1088;
const LAYERS_OF_LARGE: c_uint = 3;

pub fn quiet() {
    // SAFETY: called while there is one thread.
    unsafe { porter_svt_quiet() }
}

#[derive(Clone, Copy, Debug)]
enum Amount {
    /// 1 to 63.
    Quantiser(u32),
    /// A second.
    Bits(u32),
}

pub struct Encoder {
    raw: *mut c_void,
    size: (u32, u32),
    depth: u8,
    setup: Vec<u8>,
    inside: Numbered,
    /// Given back when the library's encoder is closed.
    _turn: Turn,
}

// SAFETY: one owner at a time; the library's own threads work on its own memory.
unsafe impl Send for Encoder {}

impl Encoder {
    pub fn new(form: &PictureForm, rate: BitRecipe, key_every: u32) -> Result<Self> {
        let amount = match rate.plain() {
            // H.264's scale of 52 steps on AV1's of 64.
            Plain::Quantiser(q) => Amount::Quantiser(u32::from(q.min(51)) * 63 / 51),
            Plain::Bits(b) => Amount::Bits(b.max(1000)),
        };
        let large = u64::from(form.width) * u64::from(form.height) > LARGE;
        let layers = if large { LAYERS_OF_LARGE } else { LAYERS };
        Encoder::open(form, amount, key_every, (SPEED, layers))
    }

    /// For one picture by itself.
    pub fn of_still(form: &PictureForm, quantiser: u32) -> Result<Self> {
        Encoder::open(form, Amount::Quantiser(quantiser), 1, (SPEED_OF_STILLS, 0))
    }

    fn open(
        form: &PictureForm,
        amount: Amount,
        key_every: u32,
        (speed, layers): (c_int, c_uint),
    ) -> Result<Self> {
        let (quantiser, bits) = match amount {
            Amount::Quantiser(q) => (q.clamp(1, 63), 0),
            Amount::Bits(b) => (0, b),
        };
        let settings = Settings {
            width: form.width,
            height: form.height,
            rate_num: form.rate.num,
            rate_den: form.rate.den,
            depth: form.depth.into(),
            key_every: key_every.max(1),
            bits,
            quantiser,
            speed,
            processors: if bits > 0 { PROCESSORS_WITH_BITS } else { PROCESSORS },
            layers,
            primaries: form.colour.primaries,
            transfer: form.colour.transfer,
            matrix: form.colour.matrix,
            full_range: form.colour.full_range.into(),
        };
        let turn = Turn::take(if layers == 0 { Use::Still } else { Use::Film });
        let opening = alone();
        // SAFETY: a whole record; null is checked.
        let raw = unsafe { porter_svt_open(&settings) };
        drop(opening);
        let (w, h) = (form.width, form.height);
        if raw.is_null() {
            return Err(Error::setting("video", format!("the AV1 encoder refused {w}x{h} with {amount:?}")));
        }
        let mut encoder = Encoder {
            raw,
            size: (w, h),
            depth: form.depth,
            setup: Vec::new(),
            inside: Numbered::default(),
            _turn: turn,
        };
        let (mut data, mut len, mut keep) = (ptr::null(), 0, ptr::null_mut());
        // SAFETY: all three are written where it gives 0; what it gave is copied before it is freed.
        unsafe {
            if porter_svt_header(raw, &mut data, &mut len, &mut keep) == 0 {
                let header = std::slice::from_raw_parts(data, len as usize).to_vec();
                porter_svt_free_header(keep);
                encoder.setup = av1::record(&header).unwrap_or_default();
            }
        }
        if encoder.setup.is_empty() {
            return Err(Error::limit("AV1 encoder", "it gave no description of its stream"));
        }
        Ok(encoder)
    }

    /// Takes what is ready; to the last packet, if it is `wait`ed for.
    fn packets(&mut self, wait: bool, out: &mut Vec<Coded>) -> Result<()> {
        loop {
            let (mut data, mut len, mut number, mut key) = (ptr::null(), 0usize, 0, 0);
            // SAFETY: all four are written where a packet is told.
            let told = unsafe {
                porter_svt_packet(self.raw, wait.into(), &mut data, &mut len, &mut number, &mut key)
            };
            if told < 0 {
                return Err(Error::limit("AV1 encoder", format!("it stopped at the picture {number}")));
            }
            if told == 1 || told == 3 {
                // SAFETY: valid until the next packet is asked for.
                let data = unsafe { std::slice::from_raw_parts(data, len) };
                if let Some((pts, duration)) = self.inside.left(number) {
                    out.push(Coded::new(pts, duration, key != 0, av1::undelimited(data)));
                }
            }
            if told != 1 {
                return Ok(());
            }
        }
    }
}

impl EncodeVideo for Encoder {
    fn encode(&mut self, frame: &VideoFrame, pts: i64, duration: i64, out: &mut Vec<Coded>) -> Result<()> {
        if frame.chroma != Chroma::C420
            || frame.depth != self.depth
            || (frame.width, frame.height) != self.size
        {
            return Err(Error::unsupported("AV1 encoder", "a picture of another form than was planned"));
        }
        let mut plane = [ptr::null(); 3];
        let mut stride = [0; 3];
        for (i, p) in frame.planes.iter().enumerate().take(3) {
            plane[i] = match &p.samples {
                Samples::U8(b) => b.as_ptr(),
                Samples::U16(w) => w.as_ptr().cast(),
            };
            stride[i] = p.stride as c_uint;
        }
        let number = self.inside.enters(pts, duration);
        let ((w, h), depth) = (self.size, self.depth.into());
        // SAFETY: the planes hold width x height samples of this depth by the check above; they are copied by the call.
        let code = unsafe { porter_svt_code(self.raw, depth, w, h, plane.as_ptr(), stride.as_ptr(), number) };
        if code != 0 {
            return Err(Error::limit(
                "AV1 encoder",
                format!("it stopped at the picture at {pts} (code {code:#x})"),
            ));
        }
        self.packets(false, out)
    }

    fn flush(&mut self, out: &mut Vec<Coded>) -> Result<()> {
        if self.inside.is_empty() {
            return Ok(());
        }
        // SAFETY: no picture: it is told that there are no more.
        let code = unsafe { porter_svt_code(self.raw, 0, 0, 0, ptr::null(), ptr::null(), 0) };
        if code != 0 {
            return Err(Error::limit("AV1 encoder", format!("it stopped at the end (code {code:#x})")));
        }
        self.packets(true, out)
    }

    fn setup(&self) -> Vec<u8> {
        self.setup.clone()
    }
}

impl Drop for Encoder {
    fn drop(&mut self) {
        let _closing = alone();
        // SAFETY: opened in `new`, closed once.
        unsafe { porter_svt_close(self.raw) }
    }
}
