//! Inclusive limits. Where one is tighter than a standard's, it says so.

/// Largest picture side read or written. H.264 level 6.2 ends at 16,888 (ITU-T H.264, table A-1 and A.3.1).
pub const MAX_PICTURE_SIDE: u32 = 16_384;
/// Largest picture area, in pixels: 8192 x 8192. Ours: a frame of it in 4:2:0 takes 96 MiB.
pub const MAX_PICTURE_AREA: u64 = 8192 * 8192;
/// Largest still picture area, in pixels. Ours: 256 megapixels.
pub const MAX_STILL_AREA: u64 = 256 << 20;
/// Smallest side the H.264 encoder takes.
pub const MIN_ENCODED_SIDE: u32 = 16;
/// Largest index (`moov`) kept in memory. Ours: about 24 hours of 60 frames a second with sound.
pub const MAX_INDEX_BYTES: u64 = 128 << 20;
/// Largest single packet. Ours: an uncompressed 8K 4:4:4 16-bit frame is under it.
pub const MAX_PACKET_BYTES: u64 = 256 << 20;
/// Largest codec setup record (`avcC`, AudioSpecificConfig and their like). Ours.
pub const MAX_SETUP_BYTES: usize = 1 << 20;
/// Most tracks looked at in one file. Ours.
pub const MAX_TRACKS: usize = 64;
/// Most boxes looked at on the top level of a file or inside one container box. Ours.
pub const MAX_BOXES: usize = 1 << 20;
/// Deepest nesting of container boxes that is followed. Ours.
pub const MAX_DEPTH: usize = 12;
/// Most sound channels in a track. Ours.
pub const MAX_CHANNELS: u16 = 64;
/// Sample rates that are taken for real, in hertz. Ours.
pub const MIN_SAMPLE_RATE: u32 = 1_000;
pub const MAX_SAMPLE_RATE: u32 = 768_000;
/// Longest stretch of silence put in where a sound track has a hole. Ours.
pub const MAX_SOUND_GAP_SECONDS: u32 = 24 * 3600;

/// Bytes of a still picture's file: what a scan of a large format has in 16 bits, and much more than any camera's.
pub const MAX_STILL_BYTES: u64 = 1_500_000_000;
