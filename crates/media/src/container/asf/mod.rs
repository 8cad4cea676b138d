//! ASF ("Advanced Systems Format (ASF) Specification", revision 01.20.03): a head of objects that are named by GUIDs, and
//! packets of one size with pieces of media objects in them.
//!
//! `head.rs` reads the head, `packets.rs` puts the pieces together.

mod head;
mod packets;
#[cfg(test)]
pub(crate) mod tests;

use super::stream::{Look, Streamed, take_setups};
use super::{Demux, Format, Source, Tried};
use crate::error::{Error, Result};

pub static FORMAT: Format = Format { name: "ASF", score, open, tried: Tried::Made };

const LOOK: u64 = 8 << 20;

/// Objects by their names, as they stand in the file (section 10).
mod guid {
    pub const HEADER: [u8; 16] = of(0x75b2_2630, 0x668e, 0x11cf, 0xa6d9_00aa_0062_ce6c);
    pub const DATA: [u8; 16] = of(0x75b2_2636, 0x668e, 0x11cf, 0xa6d9_00aa_0062_ce6c);
    pub const FILE: [u8; 16] = of(0x8cab_dca1, 0xa947, 0x11cf, 0x8ee4_00c0_0c20_5365);
    pub const STREAM: [u8; 16] = of(0xb7dc_0791, 0xa9b7, 0x11cf, 0x8ee6_00c0_0c20_5365);
    pub const EXTENSION: [u8; 16] = of(0x5fbf_03b5, 0xa92e, 0x11cf, 0x8ee3_00c0_0c20_5365);
    pub const MORE_OF_STREAM: [u8; 16] = of(0x14e6_a5cb, 0xc672, 0x4332, 0x8399_a969_5206_5b5a);
    pub const CONTENT: [u8; 16] = of(0x75b2_2633, 0x668e, 0x11cf, 0xa6d9_00aa_0062_ce6c);
    pub const MORE_CONTENT: [u8; 16] = of(0xd2d0_a440, 0xe307, 0x11d2, 0x97f0_00a0_c95e_a850);
    pub const ENCRYPTION: [u8; 16] = of(0x2211_b3fb, 0xbd23, 0x11d2, 0xb4b7_00a0_c955_fc6e);
    pub const MORE_ENCRYPTION: [u8; 16] = of(0x298a_e614, 0x2622, 0x4c17, 0xb935_dae0_7ee9_289c);
    pub const SOUND: [u8; 16] = of(0xf869_9e40, 0x5b4d, 0x11cf, 0xa8fd_0080_5f5c_442b);
    pub const PICTURES: [u8; 16] = of(0xbc19_efc0, 0x5b4d, 0x11cf, 0xa8fd_0080_5f5c_442b);

    /// The first three numbers lie with their low bytes first.
    const fn of(a: u32, b: u16, c: u16, d: u64) -> [u8; 16] {
        let (a, b, c, d) = (a.to_le_bytes(), b.to_le_bytes(), c.to_le_bytes(), d.to_be_bytes());
        [a[0], a[1], a[2], a[3], b[0], b[1], c[0], c[1], d[0], d[1], d[2], d[3], d[4], d[5], d[6], d[7]]
    }
}

fn score(head: &[u8]) -> u8 {
    if head.starts_with(&guid::HEADER) { 100 } else { 0 }
}

fn open(source: Box<dyn Source>) -> Result<Box<dyn Demux>> {
    let mut head = head::Head::read(source)?;
    if head.described.is_empty() {
        let why = head.about.remarks.first().cloned().unwrap_or_else(|| "no stream is described".into());
        return Err(Error::damaged(FORMAT.name, why));
    }
    let mut described = std::mem::take(&mut head.described);
    let about = std::mem::take(&mut head.about);
    let mut packets = packets::Packets::new(head);
    take_setups(&mut packets, &mut described);
    let look = Look { format: FORMAT.name, bytes: LOOK, from_zero: true };
    Ok(Box::new(Streamed::open(packets, described, about, look)?))
}
