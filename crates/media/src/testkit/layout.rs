//! MP4 files laid out in other ways than we write them.

/// Moves the index behind the media. With `media_bytes` the media box is said to be that long, for a file
/// that is then made sparse: gives what stands at the start, the index, and the offset the index goes to.
pub fn with_index_last(bytes: &[u8], media_bytes: Option<u64>) -> (Vec<u8>, Vec<u8>, u64) {
    let (ftyp, moov, mdat) = (top_box(bytes, b"ftyp"), top_box(bytes, b"moov"), top_box(bytes, b"mdat"));
    let shift = (mdat.start - ftyp.end) as u32;
    let mut index = bytes[moov].to_vec();
    let be = |b: &[u8], at: usize| u32::from_be_bytes([b[at], b[at + 1], b[at + 2], b[at + 3]]);
    for i in 0..index.len().saturating_sub(12) {
        if &index[i..i + 4] == b"stco" {
            for k in 0..be(&index, i + 8) as usize {
                let at = i + 12 + k * 4;
                let offset = be(&index, at) - shift;
                index[at..at + 4].copy_from_slice(&offset.to_be_bytes());
            }
        }
    }
    let mut head = [&bytes[..ftyp.end], &bytes[mdat]].concat();
    if let Some(n) = media_bytes {
        // Our media boxes have a 64-bit size.
        head[ftyp.end + 8..ftyp.end + 16].copy_from_slice(&n.to_be_bytes());
    }
    let end = media_bytes.map_or(head.len() as u64, |n| ftyp.end as u64 + n);
    (head, index, end)
}

fn top_box(bytes: &[u8], kind: &[u8; 4]) -> std::ops::Range<usize> {
    let mut at = 0;
    loop {
        let short = u32::from_be_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]) as usize;
        let long = || bytes[at + 8..at + 16].iter().fold(0usize, |n, b| n << 8 | usize::from(*b));
        let size = if short == 1 { long() } else { short };
        if &bytes[at + 4..at + 8] == kind {
            return at..at + size;
        }
        at += size;
    }
}
