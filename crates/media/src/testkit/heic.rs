//! A HEIC picture of many tiles, each the picture of another HEIC file.

use crate::container::mp4::boxes::{Builder, find};

/// `file` has one picture of `size`; the result shows it `columns` times `rows` times.
pub fn grid(file: &[u8], size: (u32, u32), columns: u8, rows: u8) -> Option<Vec<u8>> {
    let meta = find(file, b"meta")?.get(4..)?;
    let record = find(find(find(meta, b"iprp")?, b"ipco")?, b"hvcC")?.to_vec();
    let picture = find(file, b"mdat")?;
    let count = u32::from(columns) * u32::from(rows);
    let whole = (size.0 * u32::from(columns), size.1 * u32::from(rows));
    let mut head = Builder::new();
    head.raw(&[0, 1, rows - 1, columns - 1]);
    head.u32(whole.0);
    head.u32(whole.1);
    let index = |start: u32| {
        let mut b = Builder::new();
        b.put(b"ftyp", |b| b.raw(b"heic\0\0\0\0mif1heic"));
        b.full(b"meta", 0, 0, |b| {
            b.full(b"hdlr", 0, 0, |b| {
                b.raw(b"\0\0\0\0pict");
                b.zeros(13);
            });
            b.full(b"pitm", 0, 0, |b| b.u16(1));
            b.full(b"iloc", 0, 0, |b| {
                b.u16(0x4400);
                b.u16(count as u16 + 1);
                for n in 0..=count {
                    b.u16(n as u16 + 1);
                    b.u16(0);
                    b.u16(1);
                    // All tiles are the same bytes.
                    b.u32(if n == 0 { start } else { start + head.bytes.len() as u32 });
                    b.u32(if n == 0 { head.bytes.len() as u32 } else { picture.len() as u32 });
                }
            });
            b.full(b"iinf", 0, 0, |b| {
                b.u16(count as u16 + 1);
                for n in 0..=count {
                    b.full(b"infe", 2, u32::from(n > 0), |b| {
                        b.u16(n as u16 + 1);
                        b.u16(0);
                        b.raw(if n == 0 { b"grid\0" } else { b"hvc1\0" });
                    });
                }
            });
            b.put(b"iprp", |b| {
                b.put(b"ipco", |b| {
                    for (w, h) in [whole, size] {
                        b.full(b"ispe", 0, 0, |b| {
                            b.u32(w);
                            b.u32(h);
                        });
                    }
                    b.put(b"hvcC", |b| b.raw(&record));
                });
                b.full(b"ipma", 0, 0, |b| {
                    b.u32(count + 1);
                    for n in 0..=count {
                        b.u16(n as u16 + 1);
                        b.raw(if n == 0 { &[1, 0x81] } else { &[2, 0x82, 0x83] });
                    }
                });
            });
            b.full(b"iref", 0, 0, |b| {
                b.put(b"dimg", |b| {
                    b.u16(1);
                    b.u16(count as u16);
                    (0..count).for_each(|n| b.u16(n as u16 + 2));
                });
            });
        });
        b.bytes
    };
    let start = index(0).len() as u32 + 8;
    let mut out = Builder { bytes: index(start) };
    out.put(b"mdat", |b| {
        b.raw(&head.bytes);
        b.raw(picture);
    });
    Some(out.bytes)
}
