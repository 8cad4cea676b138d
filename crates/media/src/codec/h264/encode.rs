//! Encoding through openh264.
#![allow(unsafe_code)]

use super::control::{Aim, Cap, Control};
use super::{Config, NAL_PPS, NAL_SPS};
use crate::codec::{Coded, EncodeVideo, PictureForm};
use crate::error::{Error, Result};
use crate::frame::{Chroma, VideoFrame};
use crate::limits::MIN_ENCODED_SIDE;
use openh264_sys2 as sys;
use openh264_sys2::{
    API, ISVCEncoder, ISVCEncoderVtbl, SEncParamExt, SFrameBSInfo, SSourcePicture, source::APILoader,
};
use std::os::raw::{c_int, c_void};
use std::ptr;

/// How many bits pictures get.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Rate {
    /// The same quantiser for every picture: [`Rate::MIN_QUANTISER`] (best) to [`Rate::MAX_QUANTISER`].
    Quantiser(u8),
    /// By what is wanted of the whole.
    Aimed(Aim, Option<Cap>),
}

impl Rate {
    pub const MIN_QUANTISER: u8 = 10;
    pub const MAX_QUANTISER: u8 = 51;
    pub const MIN_AVERAGE: u32 = 32_000;
    pub const MAX_AVERAGE: u32 = 200_000_000;
}

/// Slices of a picture, and from how many macroblocks on (1280x720): smaller ones are quick enough whole.
const PARTS: u32 = 4;
const PARTS_FROM: u32 = 3600;

/// The largest picture of level 5.2, in macroblocks (ITU-T H.264, table A-1).
const MAX_MACROBLOCKS: u32 = 36_864;

pub struct Encoder {
    raw: *mut ISVCEncoder,
    width: u32,
    height: u32,
    config: Config,
    info: Box<SFrameBSInfo>,
    clock_ms: f64,
    step_ms: f64,
    /// With the settings, of which it changes one from picture to picture.
    control: Option<(Control, Box<SEncParamExt>)>,
    begun: bool,
}

// SAFETY: used by one owner at a time; the library's own threads work within its calls only.
unsafe impl Send for Encoder {}

impl Encoder {
    /// Sides must be even and at least [`MIN_ENCODED_SIDE`]. `key_every` is in pictures.
    pub fn new(form: &PictureForm, rate: Rate, key_every: u32) -> Result<Self> {
        let (w, h) = (form.width, form.height);
        if w % 2 != 0 || h % 2 != 0 || w < MIN_ENCODED_SIDE || h < MIN_ENCODED_SIDE {
            return Err(Error::setting(
                "video size",
                format!("{w}x{h}; both sides must be even and at least {MIN_ENCODED_SIDE}"),
            ));
        }
        let blocks = w.div_ceil(16) * h.div_ceil(16);
        if blocks > MAX_MACROBLOCKS {
            return Err(Error::setting("video size", format!("{w}x{h} is over H.264 level 5.2 (4096x2304)")));
        }
        let mut raw = ptr::null_mut();
        // SAFETY: `raw` receives an object that lives until `drop`.
        let code = unsafe { APILoader::new().WelsCreateSVCEncoder(&mut raw) };
        if code != 0 || raw.is_null() {
            return Err(Error::limit("H.264 encoder", "no memory to start it"));
        }
        let fps = form.rate.value();
        let mut encoder = Encoder {
            raw,
            width: w,
            height: h,
            config: Config { length_size: 4, sps: Vec::new(), pps: Vec::new() },
            info: Box::default(),
            clock_ms: 0.0,
            step_ms: 1000.0 / fps,
            control: None,
            begun: false,
        };
        let mut p = SEncParamExt::default();
        let mut quiet: c_int = 0;
        // SAFETY: `raw` is valid; `p` is filled in by the call.
        unsafe {
            let vt = encoder.vtable();
            if let Some(set) = vt.SetOption {
                set(raw, sys::ENCODER_OPTION_TRACE_LEVEL, ptr::addr_of_mut!(quiet).cast::<c_void>());
            }
            vt.GetDefaultParams.map(|f| f(raw, &mut p));
        }
        set_up(&mut p, form, rate, key_every);
        // SAFETY: `p` is a whole parameter set that the call copies.
        let code = unsafe { encoder.vtable().InitializeExt.map_or(1, |f| f(raw, &p)) };
        if code != 0 {
            return Err(Error::setting(
                "video",
                format!("the H.264 encoder refused {w}x{h} with {rate:?} (code {code})"),
            ));
        }
        if let Rate::Aimed(aim, cap) = rate {
            let (guide, memory) = (form.guide.as_ref(), &form.memory);
            let keys = (fps, key_every, form.steady_keys);
            encoder.control = Some((Control::new((aim, cap), (w, h), keys, guide, memory), Box::new(p)));
        }
        Ok(encoder)
    }

    /// Tells the library how the next picture is to be coded.
    fn steer(&mut self, frame: &VideoFrame, pts: i64) -> Result<()> {
        let first = !std::mem::replace(&mut self.begun, true);
        let Some((control, settings)) = &mut self.control else { return Ok(()) };
        let (quantiser, key) = control.next(frame, pts, first);
        let changes = settings.sSpatialLayers[0].iDLayerQp != c_int::from(quantiser);
        settings.sSpatialLayers[0].iDLayerQp = c_int::from(quantiser);
        let settings = ptr::from_mut(settings.as_mut()).cast::<c_void>();
        let raw = self.raw;
        // SAFETY: a whole parameter set, as it was begun with but for the quantiser, that the call copies.
        let code = unsafe {
            let vt = self.vtable();
            let set = vt.SetOption.filter(|_| changes);
            let code = set.map_or(0, |f| f(raw, sys::ENCODER_OPTION_SVC_ENCODE_PARAM_EXT, settings));
            match vt.ForceIntraFrame.filter(|_| key && code == 0) {
                Some(f) => f(raw, true),
                None => code,
            }
        };
        if code != 0 {
            return Err(Error::limit(
                "H.264 encoder",
                format!("it took no quantiser at {pts} (code {code})"),
            ));
        }
        Ok(())
    }

    fn vtable(&self) -> &ISVCEncoderVtbl {
        // SAFETY: as for the decoder.
        unsafe { &**self.raw }
    }
}

/// All settings of the library, on top of its own usual ones.
pub(crate) fn set_up(p: &mut SEncParamExt, form: &PictureForm, rate: Rate, key_every: u32) {
    let (w, h, fps) = (form.width, form.height, form.rate.value());
    p.iUsageType = sys::CAMERA_VIDEO_REAL_TIME;
    (p.iPicWidth, p.iPicHeight) = (w as c_int, h as c_int);
    p.fMaxFrameRate = fps.clamp(1.0, 60.0) as f32;
    p.uiIntraPeriod = key_every.max(1);
    p.eSpsPpsIdStrategy = sys::CONSTANT_ID;
    p.iEntropyCodingModeFlag = 1;
    p.bEnableFrameSkip = false;
    // Parts of a picture that are coded side by side, always as many: what comes out does not hang on the machine.
    let parts = if w.div_ceil(16) * h.div_ceil(16) >= PARTS_FROM { PARTS } else { 1 };
    p.iMultipleThreadIdc = parts as u16;
    p.bUseLoadBalancing = false;
    p.bEnableDenoise = false;
    p.bEnableAdaptiveQuant = false;
    p.bEnableBackgroundDetection = false;
    p.bEnableSceneChangeDetect = !form.steady_keys;
    p.iComplexityMode = sys::LOW_COMPLEXITY;
    p.iTemporalLayerNum = 1;
    p.iSpatialLayerNum = 1;
    let layer = &mut p.sSpatialLayers[0];
    (layer.iVideoWidth, layer.iVideoHeight, layer.fFrameRate) = (w as c_int, h as c_int, p.fMaxFrameRate);
    layer.uiProfileIdc = sys::PRO_MAIN;
    layer.sSliceArgument.uiSliceMode =
        if parts > 1 { sys::SM_FIXEDSLCNUM_SLICE } else { sys::SM_SINGLE_SLICE };
    layer.sSliceArgument.uiSliceNum = parts;
    layer.bVideoSignalTypePresent = true;
    layer.uiVideoFormat = 5;
    layer.bFullRange = form.colour.full_range;
    layer.bColorDescriptionPresent = true;
    layer.uiColorPrimaries = form.colour.primaries;
    layer.uiTransferCharacteristics = form.colour.transfer;
    layer.uiColorMatrix = form.colour.matrix;
    match rate {
        Rate::Quantiser(q) => {
            p.iRCMode = sys::RC_OFF_MODE;
            layer.iDLayerQp = c_int::from(q);
            p.iTargetBitrate = 10_000_000;
            layer.iSpatialBitrate = 10_000_000;
        }
        // The quantiser comes with each picture, and so do key pictures.
        Rate::Aimed(..) => {
            p.iRCMode = sys::RC_OFF_MODE;
            p.uiIntraPeriod = 0;
            p.bEnableSceneChangeDetect = false;
            layer.iDLayerQp = 26;
            p.iTargetBitrate = 10_000_000;
            layer.iSpatialBitrate = 10_000_000;
        }
    }
}

impl EncodeVideo for Encoder {
    fn encode(&mut self, frame: &VideoFrame, pts: i64, duration: i64, out: &mut Vec<Coded>) -> Result<()> {
        if frame.chroma != Chroma::C420
            || frame.depth != 8
            || (frame.width, frame.height) != (self.width, self.height)
        {
            return Err(Error::unsupported(
                "H.264 encoder",
                format!(
                    "a {}x{} {:?} {}-bit picture; it takes {}x{} 4:2:0 8-bit",
                    frame.width, frame.height, frame.chroma, frame.depth, self.width, self.height
                ),
            ));
        }
        self.steer(frame, pts)?;
        // Only the order of times matters to the library, at a constant quantiser; real ones are kept outside.
        let mut picture = SSourcePicture {
            iColorFormat: sys::videoFormatI420 as c_int,
            iPicWidth: self.width as c_int,
            iPicHeight: self.height as c_int,
            uiTimeStamp: self.clock_ms.round() as _,
            ..Default::default()
        };
        self.clock_ms += self.step_ms;
        for (i, plane) in frame.planes.iter().enumerate() {
            let Some(bytes) = plane.bytes() else { continue };
            picture.iStride[i] = plane.stride as c_int;
            picture.pData[i] = bytes.as_ptr().cast_mut();
        }
        let encode = self.vtable().EncodeFrame;
        // SAFETY: the planes hold width x height samples by the checks above and are only read.
        let code = unsafe { encode.map_or(1, |f| f(self.raw, &picture, &mut *self.info)) };
        if code != 0 {
            return Err(Error::limit(
                "H.264 encoder",
                format!("it stopped at the picture at {pts} (code {code})"),
            ));
        }
        let mut data = Vec::with_capacity(self.info.iFrameSizeInBytes.max(0) as usize);
        let mut key = false;
        for layer in &self.info.sLayerInfo[..self.info.iLayerNum.clamp(0, 128) as usize] {
            let mut at = 0usize;
            for n in 0..layer.iNalCount.max(0) as usize {
                // SAFETY: the library gives `iNalCount` lengths, and their sum is readable at `pBsBuf`.
                let unit = unsafe {
                    let len = *layer.pNalLengthInByte.add(n) as usize;
                    std::slice::from_raw_parts(layer.pBsBuf.add(at), len)
                };
                at += unit.len();
                // Each unit has a four-byte start code in front.
                let Some(nal) = unit.get(4..).filter(|n| !n.is_empty()) else { continue };
                match nal[0] & 0x1f {
                    NAL_SPS if self.config.sps.is_empty() => self.config.sps.push(nal.to_vec()),
                    NAL_PPS if self.config.pps.is_empty() => self.config.pps.push(nal.to_vec()),
                    NAL_SPS | NAL_PPS => (),
                    kind => {
                        key |= kind == super::NAL_IDR;
                        data.extend((nal.len() as u32).to_be_bytes());
                        data.extend(nal);
                    }
                }
            }
        }
        if let Some((control, _)) = &mut self.control {
            control.took(data.len(), key);
        }
        if data.is_empty() {
            return Err(Error::limit("H.264 encoder", format!("it gave nothing for the picture at {pts}")));
        }
        out.push(Coded::new(pts, duration, key, data));
        Ok(())
    }

    fn flush(&mut self, _out: &mut Vec<Coded>) -> Result<()> {
        // It codes without looking ahead: nothing is held back.
        Ok(())
    }

    fn setup(&self) -> Vec<u8> {
        self.config.write()
    }

    fn memory(&self) -> Vec<u8> {
        self.control.as_ref().map_or_else(Vec::new, |(c, _)| c.memory())
    }
}

impl Drop for Encoder {
    fn drop(&mut self) {
        // SAFETY: created in `new`, destroyed once.
        unsafe {
            if let Some(end) = self.vtable().Uninitialize {
                end(self.raw);
            }
            APILoader::new().WelsDestroySVCEncoder(self.raw);
        }
    }
}
