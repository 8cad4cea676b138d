//! A picture of 8 bits of red, green and blue that others are set into.

use super::{StillCodec, encode};
use crate::error::Result;
use crate::frame::video::check_size;
use crate::text::Mask;
use std::io::{Seek, Write};

pub struct Canvas {
    width: u32,
    height: u32,
    ground: [u8; 3],
    bytes: Vec<u8>,
}

impl Canvas {
    pub fn new(width: u32, height: u32, ground: [u8; 3]) -> Result<Canvas> {
        check_size("sheet", width, height)?;
        let bytes = ground.repeat(width as usize * height as usize);
        Ok(Canvas { width, height, ground, bytes })
    }

    pub fn clear(&mut self) {
        self.bytes.chunks_exact_mut(3).for_each(|p| p.copy_from_slice(&self.ground));
    }

    /// The upper rows of it.
    pub fn cut(&self, rows: u32) -> Canvas {
        let height = rows.min(self.height);
        let bytes = self.bytes[..self.width as usize * height as usize * 3].to_vec();
        Canvas { width: self.width, height, ground: self.ground, bytes }
    }

    fn at(&self, x: u32, y: u32) -> usize {
        (y as usize * self.width as usize + x as usize) * 3
    }

    /// Sets a picture in; what goes over the edge is left out.
    pub fn set(&mut self, rgb: &[u8], (w, h): (u32, u32), (x, y): (u32, u32)) {
        let fits = w.min(self.width.saturating_sub(x)) as usize * 3;
        for row in 0..h.min(self.height.saturating_sub(y)) {
            let (to, from) = (self.at(x, y + row), row as usize * w as usize * 3);
            if let Some(line) = rgb.get(from..from + fits) {
                self.bytes[to..to + fits].copy_from_slice(line);
            }
        }
    }

    pub fn write(&mut self, mask: &Mask, (x, y): (u32, u32), ink: [u8; 3]) {
        for row in 0..mask.height.min(self.height.saturating_sub(y) as usize) {
            for (n, c) in mask.row(row).iter().enumerate().take(self.width.saturating_sub(x) as usize) {
                let at = self.at(x + n as u32, y + row as u32);
                for (p, i) in self.bytes[at..at + 3].iter_mut().zip(ink) {
                    *p = (i32::from(*p) + (i32::from(i) - i32::from(*p)) * i32::from(*c) / 255) as u8;
                }
            }
        }
    }

    /// Points of one column, both ends with them.
    pub fn column(&mut self, x: u32, from: u32, to: u32, ink: [u8; 3]) {
        for y in from..=to.min(self.height.saturating_sub(1)) {
            let at = self.at(x, y);
            self.bytes[at..at + 3].copy_from_slice(&ink);
        }
    }

    pub fn encode(&self, codec: StillCodec, out: &mut (impl Write + Seek)) -> Result<(u32, u32)> {
        encode(&self.bytes, (self.width, self.height), codec, out)?;
        Ok((self.width, self.height))
    }
}
