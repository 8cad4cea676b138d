//! The libraries called directly, with nothing of ours between them: the yardstick for `make bench`.
#![allow(unsafe_code)]

use super::{Coded, EncodeAudio, PictureForm, aac, h264};
use crate::error::{Error, Result};
use fast_image_resize as fir;
use fir::images::{TypedImage, TypedImageRef};
use fir::pixels::U8;
use openh264_sys2 as sys;
use openh264_sys2::{
    API, SBufferInfo, SDecodingParam, SEncParamExt, SFrameBSInfo, SSourcePicture, source::APILoader,
};
use std::ptr;

/// What the bare calls work on: Annex B packets, and AAC packets with their setup.
pub struct Work {
    pub pictures: Vec<Vec<u8>>,
    pub sound: Vec<Vec<u8>>,
    pub sound_setup: Vec<u8>,
    pub form: PictureForm,
    pub quantiser: u8,
    pub key_every: u32,
}

/// Decodes every picture; `each` gets the planes and their strides.
pub fn decode(packets: &[Vec<u8>], mut each: impl FnMut([*mut u8; 3], [i32; 2], (u32, u32))) -> Result<u64> {
    let mut frames = 0;
    // SAFETY: the calls follow the library's documented order; planes are used before the next call.
    unsafe {
        let mut raw = ptr::null_mut();
        APILoader::new().WelsCreateDecoder(&mut raw);
        let vt = &**raw;
        let mut param = SDecodingParam::default();
        param.sVideoProperty.eVideoBsType = sys::VIDEO_BITSTREAM_AVC;
        param.eEcActiveIdc = sys::ERROR_CON_SLICE_COPY;
        vt.Initialize.map(|f| f(raw, &param));
        let (Some(run), Some(flush)) = (vt.DecodeFrame2, vt.FlushFrame) else {
            return Err(Error::limit("bare", "no decoder"));
        };
        let mut take = |planes: [*mut u8; 3], info: &SBufferInfo| {
            if info.iBufferStatus == 1 {
                let m = info.UsrData.sSystemBuffer;
                each(planes, m.iStride, (m.iWidth as u32, m.iHeight as u32));
                frames += 1;
            }
        };
        for p in packets {
            for (at, len) in [(p.as_ptr(), p.len() as i32), (ptr::null(), 0)] {
                let (mut planes, mut info) = ([ptr::null_mut(); 3], SBufferInfo::default());
                run(raw, at, len, planes.as_mut_ptr(), &mut info);
                take(planes, &info);
            }
        }
        for _ in 0..17 {
            let (mut planes, mut info) = ([ptr::null_mut(); 3], SBufferInfo::default());
            flush(raw, planes.as_mut_ptr(), &mut info);
            take(planes, &info);
        }
        vt.Uninitialize.map(|f| f(raw));
        APILoader::new().WelsDestroyDecoder(raw);
    }
    Ok(frames)
}

/// One H.264 output of the bare calls.
struct Output {
    size: (u32, u32),
    planes: Vec<Vec<u8>>,
    resizer: fir::Resizer,
    raw: *mut sys::ISVCEncoder,
    info: Box<SFrameBSInfo>,
    clock: i64,
    bytes: u64,
}

impl Output {
    /// Set up exactly as ours is, through our own constructor's settings.
    fn new(work: &Work, size: (u32, u32)) -> Output {
        let (w, h) = size;
        let planes = [(w, h), (w / 2, h / 2), (w / 2, h / 2)].map(|(w, h)| vec![0; (w * h) as usize]);
        let mut raw = ptr::null_mut();
        let form = PictureForm { width: w, height: h, ..work.form.clone() };
        // SAFETY: as in `decode`.
        unsafe {
            APILoader::new().WelsCreateSVCEncoder(&mut raw);
            let vt = &**raw;
            let mut p = SEncParamExt::default();
            vt.GetDefaultParams.map(|f| f(raw, &mut p));
            h264::set_up(&mut p, &form, h264::Rate::Quantiser(work.quantiser), work.key_every);
            vt.InitializeExt.map(|f| f(raw, &p));
        }
        let planes = planes.to_vec();
        Output { size, planes, resizer: fir::Resizer::new(), raw, info: Box::default(), clock: 0, bytes: 0 }
    }

    fn take(&mut self, source: [*mut u8; 3], strides: [i32; 2], size: (u32, u32)) {
        let (w, h) = self.size;
        let options = fir::ResizeOptions::new()
            .resize_alg(fir::ResizeAlg::Convolution(fir::FilterType::CatmullRom))
            .use_alpha(false);
        let mut picture = SSourcePicture {
            iColorFormat: sys::videoFormatI420,
            iPicWidth: w as i32,
            iPicHeight: h as i32,
            uiTimeStamp: self.clock,
            ..Default::default()
        };
        self.clock += 40;
        if size == self.size {
            for i in 0..3 {
                picture.iStride[i] = strides[usize::from(i > 0)];
                picture.pData[i] = source[i];
            }
        } else {
            for (i, to) in self.planes.iter_mut().enumerate() {
                let (sw, sh) = if i == 0 { size } else { (size.0 / 2, size.1 / 2) };
                let (tw, th) = if i == 0 { (w, h) } else { (w / 2, h / 2) };
                let stride = strides[usize::from(i > 0)] as u32;
                // SAFETY: the library's plane has `sh` rows, `stride` apart, the last at least `sw` long.
                let rows =
                    unsafe { std::slice::from_raw_parts(source[i], (stride * (sh - 1) + sw) as usize) };
                let mut scaled = || -> std::result::Result<(), Box<dyn std::error::Error>> {
                    // The last row may be short of a whole stride: leave it to the crop of the next-lower height.
                    let view = TypedImageRef::<U8>::from_buffer(stride, sh - 1, rows)?;
                    let view = fir::images::TypedCroppedImage::new(view, 0, 0, sw, sh - 1)?;
                    let mut target = TypedImage::<U8>::from_buffer(tw, th, to)?;
                    Ok(self.resizer.resize_typed(&view, &mut target, &options)?)
                };
                let _ = scaled();
            }
            for (i, plane) in self.planes.iter().enumerate() {
                picture.iStride[i] = if i == 0 { w as i32 } else { (w / 2) as i32 };
                picture.pData[i] = plane.as_ptr().cast_mut();
            }
        }
        // SAFETY: the planes hold the picture and are only read.
        unsafe { (**self.raw).EncodeFrame.map(|f| f(self.raw, &picture, &mut *self.info)) };
        self.bytes += self.info.iFrameSizeInBytes.max(0) as u64;
    }
}

impl Drop for Output {
    fn drop(&mut self) {
        // SAFETY: made above, destroyed once.
        unsafe {
            (**self.raw).Uninitialize.map(|f| f(self.raw));
            APILoader::new().WelsDestroySVCEncoder(self.raw);
        }
    }
}

/// Decodes once, and scales and encodes for each of `sizes`; the sound is decoded once and encoded `sounds` times. All on
/// one thread. Gives frames and bytes made.
pub fn transcode(work: &Work, sizes: &[(u32, u32)], sounds: usize) -> Result<(u64, u64)> {
    let mut outputs: Vec<Output> = sizes.iter().map(|s| Output::new(work, *s)).collect();
    let frames = decode(&work.pictures, |source, strides, size| {
        outputs.iter_mut().for_each(|o| o.take(source, strides, size));
    })?;
    let mut bytes: u64 = outputs.iter().map(|o| o.bytes).sum();
    let mut decoder = aac::Decoder::new(&work.sound_setup)?;
    let mut encoders =
        (0..sounds).map(|_| aac::Encoder::new(48_000, 2, 128_000)).collect::<Result<Vec<_>>>()?;
    let mut out: Vec<Coded> = Vec::new();
    for data in &work.sound {
        let packet = crate::track::Packet { data: data.clone(), ..Default::default() };
        let samples = super::DecodeAudio::decode(&mut decoder, &packet)?.samples;
        for encoder in &mut encoders {
            encoder.encode(&samples, &mut out)?;
            bytes += out.drain(..).map(|c| c.data.len() as u64).sum::<u64>();
        }
    }
    Ok((frames, bytes))
}

/// Pictures of a byte stream of HEVC, one thread.
pub fn hevc(stream: &[u8]) -> u64 {
    let mut d = rust_h265::Decoder::new().with_display_order();
    let mut frames = 0;
    for nal in rust_h265::parse_annex_b(stream) {
        let _ = d.decode_nal(&nal);
        while d.next_output().is_some() {
            frames += 1;
        }
    }
    while d.flush().is_some() {
        frames += 1;
    }
    frames
}

/// Pictures of the one item of a HEIC file.
pub fn hevc_tile(file: &[u8]) -> Option<u64> {
    use crate::container::mp4::boxes::find;
    let meta = find(file, b"meta")?.get(4..)?;
    let record = find(find(find(meta, b"iprp")?, b"ipco")?, b"hvcC")?;
    let config = super::hevc::Config::parse(record).ok()?;
    let mut d = rust_h265::Decoder::new().with_display_order();
    for unit in config.units.iter().filter_map(|u| rust_h265::parse_nal(u)) {
        let _ = d.decode_nal(&unit);
    }
    for unit in rust_h265::parse_hvcc(find(file, b"mdat")?, config.length_size as u8) {
        let _ = d.decode_nal(&unit);
    }
    let mut frames = 0;
    while d.flush().is_some() {
        frames += 1;
    }
    Some(frames)
}

/// Pictures of a byte stream of H.264 through the exact decoder.
pub fn h264_exact(stream: &[u8]) -> u64 {
    let mut d = rust_h264::decoder::OrderedDecoder::new();
    let mut frames = 0;
    for nal in rust_h264::nal::parse_annex_b(stream) {
        frames += d.decode_nal(&nal).map_or(0, |all| all.len() as u64);
    }
    frames + d.flush().len() as u64
}
