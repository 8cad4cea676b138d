//! Several pictures of one film: a sheet, a run of files, small ones with an index for players, a moving preview.

use super::{Control, Line, Made, Message};
use crate::container::wrap::{Folder, Sink, Target};
use crate::error::{Error, Result};
use crate::filter::video::{Chain, Shown};
use crate::plan::PicturesPlan;
use crate::recipe::{Moving, PicturesKind};
use crate::still::{self, Canvas, StillCodec, colour, webp};
use crate::text;
use std::io::Write;
use std::sync::mpsc::Receiver;

pub fn make(
    number: usize,
    plan: &PicturesPlan,
    chain: Chain,
    to: Target,
    from: Receiver<Message>,
    control: &Control,
) -> Result<Made> {
    let maker: Box<dyn Collect> = match &plan.kind {
        PicturesKind::Sheet { columns, rows, title } => {
            Box::new(Sheet::new(plan, *columns, *rows, title.clone(), to.file()?)?)
        }
        PicturesKind::Run { .. } => {
            let size = (plan.form.width, plan.form.height);
            Box::new(Run { format: plan.format, size, count: 0, to: to.folder()? })
        }
        PicturesKind::Strip { columns, rows, .. } => {
            Box::new(Strip::new(plan, *columns, *rows, to.folder()?)?)
        }
        PicturesKind::Preview { rate, form, .. } => Box::new(Preview::new(plan, *rate, *form, to.file()?)?),
    };
    let mut made = collect(maker, number, chain, from, control)?;
    if let PicturesKind::Preview { rate, form, .. } = &plan.kind {
        made.seconds = made.frames as f64 * f64::from(shown_for(*rate, *form)) / 1000.0;
    }
    Ok(made)
}

/// Gives the pictures that come to whoever makes something of them.
pub fn collect(
    mut maker: Box<dyn Collect>,
    number: usize,
    mut chain: Chain,
    from: Receiver<Message>,
    control: &Control,
) -> Result<Made> {
    let (mut ready, mut made, mut ended) = (Vec::new(), Made::default(), false);
    while !ended {
        let Ok(message) = from.recv() else { return Err(Error::Stopped) };
        if control.stopping() {
            return Err(Error::Stopped);
        }
        match message {
            Message::Picture(shown) => chain.push(shown, &mut ready)?,
            Message::Sound { .. } | Message::Packet(_) => (),
            Message::End(line) => {
                chain.finish(&mut ready)?;
                ended = line == Line::Pictures;
            }
        }
        for shown in ready.drain(..) {
            maker.take(&shown)?;
            made.frames += 1;
            control.add(number, 1);
        }
    }
    // Whoever sends more need not wait for what is written now.
    drop(from);
    if made.frames == 0 {
        return Err(Error::damaged("picture track", "it has no picture"));
    }
    made.size = Some(maker.finish()?);
    Ok(made)
}

/// Makes something of several pictures.
pub trait Collect {
    fn take(&mut self, shown: &Shown) -> Result<()>;
    /// The size of the pictures that were written.
    fn finish(self: Box<Self>) -> Result<(u32, u32)>;
}

/// Points between two pictures of a sheet, in hundredths of a picture's width.
const GAP: u32 = 4;
/// Dark, not black: dark pictures stay seen.
const GROUND: [u8; 3] = [28, 30, 33];
const INK: [u8; 3] = [232, 232, 232];

struct Sheet {
    canvas: Canvas,
    cell: (u32, u32),
    gap: u32,
    top: u32,
    columns: u32,
    count: u32,
    codec: StillCodec,
    to: Box<dyn Sink>,
}

impl Sheet {
    fn new(plan: &PicturesPlan, columns: u32, rows: u32, title: String, to: Box<dyn Sink>) -> Result<Sheet> {
        let cell = (plan.form.width, plan.form.height);
        let gap = (cell.0 * GAP / 100).max(2);
        let line = (cell.1 / 8).clamp(12, 40);
        let lines = title.lines().count() as u32;
        let top = if lines > 0 { gap + line * 5 / 4 * lines } else { 0 };
        let side = |cell: u32, n: u32| n * (cell + gap) + gap;
        let mut canvas = Canvas::new(side(cell.0, columns), top + side(cell.1, rows), GROUND)?;
        // A title that is too wide is set smaller.
        let mut mask = text::letters(&title, line as f32);
        let room = side(cell.0, columns) - 2 * gap;
        if mask.width as u32 > room {
            mask = text::letters(&title, line as f32 * room as f32 / mask.width as f32);
        }
        canvas.write(&mask, (gap, gap), INK);
        Ok(Sheet { canvas, cell, gap, top, columns, count: 0, codec: plan.format, to })
    }
}

impl Collect for Sheet {
    fn take(&mut self, shown: &Shown) -> Result<()> {
        let (x, y) = (self.count % self.columns, self.count / self.columns);
        let at = |n: u32, cell: u32| n * (cell + self.gap) + self.gap;
        let f = &shown.frame;
        let place = (at(x, self.cell.0), self.top + at(y, self.cell.1));
        self.canvas.set(&colour::to_rgb8(f)?, (f.width, f.height), place);
        self.count += 1;
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<(u32, u32)> {
        self.canvas.encode(self.codec, &mut self.to)
    }
}

struct Run {
    format: StillCodec,
    size: (u32, u32),
    count: u64,
    to: Box<dyn Folder>,
}

impl Collect for Run {
    fn take(&mut self, shown: &Shown) -> Result<()> {
        self.count += 1;
        let mut file = self.to.create(&format!("{:06}.{}", self.count, self.format.extension()))?;
        still::write_frame(&shown.frame, self.format, &mut file)
    }

    fn finish(self: Box<Self>) -> Result<(u32, u32)> {
        Ok(self.size)
    }
}

/// The index's name, and that of a sheet.
const INDEX: &str = "thumbnails.vtt";

struct Strip {
    canvas: Canvas,
    cell: (u32, u32),
    columns: u32,
    per_sheet: u32,
    codec: StillCodec,
    to: Box<dyn Folder>,
    timescale: f64,
    seconds: f64,
    /// Beginning of each picture, in seconds.
    times: Vec<f64>,
    sheets: u32,
}

impl Strip {
    fn new(plan: &PicturesPlan, columns: u32, rows: u32, to: Box<dyn Folder>) -> Result<Strip> {
        let cell = (plan.form.width, plan.form.height);
        Ok(Strip {
            canvas: Canvas::new(cell.0 * columns, cell.1 * rows, GROUND)?,
            cell,
            columns,
            per_sheet: columns * rows,
            codec: plan.format,
            to,
            timescale: plan.form.timescale.into(),
            seconds: plan.seconds,
            times: Vec::new(),
            sheets: 0,
        })
    }

    fn name(&self, sheet: u32) -> String {
        format!("thumbnails-{sheet:03}.{}", self.codec.extension())
    }

    fn put_away(&mut self) -> Result<()> {
        self.sheets += 1;
        let mut file = self.to.create(&self.name(self.sheets))?;
        let used = (self.times.len() as u32 - 1) % self.per_sheet + 1;
        self.canvas.cut(self.cell.1 * used.div_ceil(self.columns)).encode(self.codec, &mut file)?;
        self.canvas.clear();
        Ok(())
    }
}

impl Collect for Strip {
    fn take(&mut self, shown: &Shown) -> Result<()> {
        if !self.times.is_empty() && (self.times.len() as u32).is_multiple_of(self.per_sheet) {
            self.put_away()?;
        }
        let n = self.times.len() as u32 % self.per_sheet;
        let f = &shown.frame;
        let place = (n % self.columns * self.cell.0, n / self.columns * self.cell.1);
        self.canvas.set(&colour::to_rgb8(f)?, (f.width, f.height), place);
        self.times.push(shown.pts as f64 / self.timescale);
        Ok(())
    }

    /// WebVTT cues whose text is a part of a picture (W3C Media Fragments URI 1.0, 4.2.2).
    fn finish(mut self: Box<Self>) -> Result<(u32, u32)> {
        self.put_away()?;
        let mut index = String::from("WEBVTT\n");
        for (n, at) in self.times.iter().enumerate() {
            let end = self.times.get(n + 1).copied().unwrap_or(self.seconds.max(at + 0.001));
            let (sheet, n) = (n as u32 / self.per_sheet + 1, n as u32 % self.per_sheet);
            let (w, h) = self.cell;
            let (x, y) = (n % self.columns * w, n / self.columns * h);
            let (from, to) = (clock(*at), clock(end));
            index += &format!("\n{from} --> {to}\n{}#xywh={x},{y},{w},{h}\n", self.name(sheet));
        }
        self.to.create(INDEX)?.write_all(index.as_bytes())?;
        Ok(self.cell)
    }
}

/// As WebVTT writes a moment.
pub(super) fn clock(seconds: f64) -> String {
    let ms = (seconds * 1000.0).round().max(0.0) as u64;
    format!("{:02}:{:02}:{:02}.{:03}", ms / 3_600_000, ms / 60_000 % 60, ms / 1000 % 60, ms % 1000)
}

struct Preview {
    to: Moves,
    size: (u32, u32),
    /// Milliseconds that a picture is shown.
    ms: u32,
}

enum Moves {
    Gif(gif::Encoder<Box<dyn Sink>>),
    Webp(webp::Moving<Box<dyn Sink>>),
}

/// How hard colours are chosen: 1 (best) to 30.
const COLOUR_SPEED: i32 = 10;

impl Preview {
    fn new(plan: &PicturesPlan, rate: u32, form: Moving, to: Box<dyn Sink>) -> Result<Preview> {
        let size = (plan.form.width, plan.form.height);
        let to = match form {
            Moving::Gif => {
                let most = |v: u32| {
                    u16::try_from(v).map_err(|_| Error::limit("fit", format!("{v} points; GIF holds 65535")))
                };
                let mut encoder =
                    gif::Encoder::new(to, most(size.0)?, most(size.1)?, &[]).map_err(written)?;
                encoder.set_repeat(gif::Repeat::Infinite).map_err(written)?;
                Moves::Gif(encoder)
            }
            Moving::Webp(quality) => Moves::Webp(webp::Moving::new(to, size, quality)?),
        };
        Ok(Preview { to, size, ms: shown_for(rate, form) })
    }
}

/// Milliseconds between two pictures. GIF counts hundredths of a second, and players take less than two of these for
/// something else.
fn shown_for(rate: u32, form: Moving) -> u32 {
    match form {
        Moving::Gif => (100 / rate.max(1)).max(2) * 10,
        Moving::Webp(_) => (1000 / rate.max(1)).max(1),
    }
}

fn written(e: gif::EncodingError) -> Error {
    match e {
        gif::EncodingError::Io(e) => Error::System(e),
        e => Error::limit("GIF", e.to_string()),
    }
}

impl Collect for Preview {
    fn take(&mut self, shown: &Shown) -> Result<()> {
        let f = &shown.frame;
        if (f.width, f.height) != self.size {
            return Err(Error::unsupported("preview", "the picture changes its size midway"));
        }
        let rgb = colour::to_rgb8(f)?;
        match &mut self.to {
            Moves::Gif(encoder) => {
                let (w, h) = (f.width as u16, f.height as u16);
                let mut frame = gif::Frame::from_rgb_speed(w, h, &rgb, COLOUR_SPEED);
                frame.delay = (self.ms / 10) as u16;
                encoder.write_frame(&frame).map_err(written)
            }
            Moves::Webp(moving) => moving.add(&rgb, self.ms),
        }
    }

    fn finish(self: Box<Self>) -> Result<(u32, u32)> {
        match self.to {
            Moves::Gif(encoder) => encoder.into_inner().map_err(written)?.flush()?,
            Moves::Webp(moving) => moving.finish()?,
        }
        Ok(self.size)
    }
}
