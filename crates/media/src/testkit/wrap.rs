//! Packets wrapped into containers that this program reads but does not write: transport streams, AVI and
//! Matroska, as small as they can be. For tests and fuzzing.

/// A packet: moment in 90 kHz, bytes.
pub type Timed = (u64, Vec<u8>);

/// A transport stream: pictures as an H.264 byte stream on 0x100, sound as MPEG audio on 0x101. `step` is the
/// length of a packet: 188, 192 or 204.
pub fn transport(pictures: &[Timed], sound: &[Timed], step: usize) -> Vec<u8> {
    let mut out = Ts { bytes: Vec::new(), step, counters: [0; 8192] };
    out.section(0, &[0x00, 0xb0, 0x0d, 0, 1, 0xc1, 0, 0, 0, 1, 0xe0, 0x20, 0, 0, 0, 0]);
    let map = [
        0x02, 0xb0, 0x1d, 0, 1, 0xc1, 0, 0, 0xe1, 0x00, 0xf0, 0x00, // heads
        0x1b, 0xe1, 0x00, 0xf0, 0x00, // H.264
        0x03, 0xe1, 0x01, 0xf0, 0x06, 0x0a, 0x04, b'e', b'n', b'g', 0, // MPEG audio, English
        0, 0, 0, 0,
    ];
    out.section(0x20, &map);
    let mut all: Vec<(u16, u8, &Timed)> = pictures.iter().map(|p| (0x100, 0xe0, p)).collect();
    all.extend(sound.iter().map(|p| (0x101, 0xc0, p)));
    all.sort_by_key(|(_, _, p)| p.0);
    for (pid, stream, (pts, data)) in all {
        let mut pes = vec![0, 0, 1, stream];
        let len = if stream == 0xe0 { 0 } else { data.len() + 8 };
        pes.extend((len as u16).to_be_bytes());
        pes.extend([0x80, 0x80, 5]);
        pes.extend(moment(*pts));
        pes.extend(data);
        out.packets(pid, &pes);
    }
    out.bytes
}

/// 33 bits between marker bits (13818-1, 2.4.3.6).
fn moment(t: u64) -> [u8; 5] {
    [
        0x21 | (t >> 29) as u8 & 0x0e,
        (t >> 22) as u8,
        1 | (t >> 14) as u8 & 0xfe,
        (t >> 7) as u8,
        1 | (t << 1) as u8,
    ]
}

struct Ts {
    bytes: Vec<u8>,
    step: usize,
    counters: [u8; 8192],
}

impl Ts {
    fn section(&mut self, pid: u16, section: &[u8]) {
        let mut body = vec![0];
        body.extend(section);
        body.resize(184, 0xff);
        self.packets(pid, &body);
    }
    fn packets(&mut self, pid: u16, mut rest: &[u8]) {
        let mut start = 0x40;
        while !rest.is_empty() {
            if self.step == 192 {
                self.bytes.extend([0; 4]);
            }
            let n = rest.len().min(184);
            let counter = &mut self.counters[usize::from(pid)];
            let fill = 184 - n;
            self.bytes.extend([
                0x47,
                start | (pid >> 8) as u8,
                pid as u8,
                if fill > 0 { 0x30 } else { 0x10 } | *counter,
            ]);
            *counter = (*counter + 1) & 15;
            if fill > 0 {
                self.bytes.push(fill as u8 - 1);
                if fill > 1 {
                    self.bytes.push(0);
                    self.bytes.resize(self.bytes.len() + fill - 2, 0xff);
                }
            }
            self.bytes.extend(&rest[..n]);
            if self.step == 204 {
                self.bytes.extend([0; 16]);
            }
            rest = &rest[n..];
            start = 0;
        }
    }
}

/// A program stream of the second generation: pictures as MPEG video, sound as MPEG audio; each packet of theirs is
/// cut into pieces of at most `piece` bytes, and only the first piece has the moment.
pub fn program(pictures: &[Timed], sound: &[Timed], piece: usize) -> Vec<u8> {
    let mut all: Vec<(u8, &Timed)> = pictures.iter().map(|p| (0xe0, p)).collect();
    all.extend(sound.iter().map(|p| (0xc0, p)));
    all.sort_by_key(|(_, p)| p.0);
    let mut out = Vec::new();
    for (stream, (pts, data)) in all {
        out.extend([0, 0, 1, 0xba, 0x44, 0, 4, 0, 4, 1, 0, 0, 3, 0xf8]);
        for (n, part) in data.chunks(piece).enumerate() {
            out.extend([0, 0, 1, stream]);
            let head = if n == 0 { 8 } else { 3 };
            out.extend(((part.len() + head) as u16).to_be_bytes());
            if n == 0 {
                out.extend([0x80, 0x80, 5]);
                out.extend(moment(*pts));
            } else {
                out.extend([0x80, 0, 0]);
            }
            out.extend(part);
        }
    }
    out.extend([0, 0, 1, 0xb9]);
    out
}

fn chunk(kind: &[u8; 4], body: &[u8]) -> Vec<u8> {
    let mut out = kind.to_vec();
    out.extend((body.len() as u32).to_le_bytes());
    out.extend(body);
    if body.len() % 2 == 1 {
        out.push(0);
    }
    out
}

fn list(kind: &[u8; 4], parts: &[Vec<u8>]) -> Vec<u8> {
    chunk(b"LIST", &[kind.to_vec(), parts.concat()].concat())
}

/// An AVI of pictures at 25 a second and, where there are any, chunks of MP3 of 44.1 kHz. What comes after
/// `split` pictures lies in a second part, as in files over a gigabyte.
pub fn avi(
    code: &[u8; 4],
    bits: u16,
    size: (u32, i32),
    pictures: &[Vec<u8>],
    sound: &[Vec<u8>],
    split: usize,
) -> Vec<u8> {
    let words = |v: &[u32]| v.iter().flat_map(|n| n.to_le_bytes()).collect::<Vec<u8>>();
    let stream = |kind: &[u8; 4], handler: &[u8; 4], scale: u32, rate: u32, length: u32, format: Vec<u8>| {
        let head =
            [kind.to_vec(), handler.to_vec(), words(&[0, 0, 0, scale, rate, 0, length, 0, 0, 0, 0, 0])]
                .concat();
        list(b"strl", &[chunk(b"strh", &head), chunk(b"strf", &format)])
    };
    let mut bitmap = words(&[40, size.0, size.1 as u32]);
    bitmap.extend([1, 0]);
    bitmap.extend(bits.to_le_bytes());
    bitmap.extend(code);
    bitmap.extend(words(&[0, 0, 0, 0, 0]));
    let mut heads =
        vec![chunk(b"avih", &[0; 56]), stream(b"vids", code, 1, 25, pictures.len() as u32, bitmap)];
    if !sound.is_empty() {
        let mut wave = vec![0x55, 0, 2, 0];
        wave.extend(words(&[44_100, 16_000]));
        wave.extend([1, 0, 0, 0, 0, 0]);
        heads.push(stream(b"auds", &[0; 4], 1152, 44_100, sound.len() as u32, wave));
    }
    let mut parts = [Vec::new(), Vec::new()];
    for i in 0..pictures.len().max(sound.len()) {
        let part = &mut parts[usize::from(i >= split)];
        if let Some(p) = pictures.get(i) {
            part.push(chunk(b"00dc", p));
        }
        if let Some(s) = sound.get(i) {
            part.push(chunk(b"01wb", s));
        }
    }
    let [first, second] = parts;
    let body =
        [b"AVI ".to_vec(), list(b"hdrl", &heads), chunk(b"JUNK", &[0; 9]), list(b"movi", &first)].concat();
    let mut out = chunk(b"RIFF", &body);
    if !second.is_empty() {
        out.extend(chunk(b"RIFF", &[b"AVIX".to_vec(), list(b"movi", &second)].concat()));
    }
    out
}

/// An element of Matroska with a size of eight bytes.
pub fn element(id: u32, body: &[u8]) -> Vec<u8> {
    let bytes = id.to_be_bytes();
    let mut out = bytes[bytes.iter().take_while(|&&b| b == 0).count()..].to_vec();
    out.push(1);
    out.extend(&(body.len() as u64).to_be_bytes()[1..]);
    out.extend(body);
    out
}

/// A Matroska file with one track (its entry's content given) and clusters of blocks: for each cluster its time
/// and the blocks' bytes from the track number on.
pub fn matroska(entry: &[u8], clusters: &[(u64, Vec<Vec<u8>>)]) -> Vec<u8> {
    let mut segment = element(0x1549_a966, &element(0x2a_d7b1, &1_000_000u32.to_be_bytes()));
    segment.extend(element(0x1654_ae6b, &element(0xae, entry)));
    for (time, blocks) in clusters {
        let mut body = element(0xe7, &time.to_be_bytes());
        blocks.iter().for_each(|b| body.extend(element(0xa3, b)));
        segment.extend(element(0x1f43_b675, &body));
    }
    let head = element(0x1a45_dfa3, &element(0x4282, b"matroska"));
    [head, element(0x1853_8067, &segment)].concat()
}
