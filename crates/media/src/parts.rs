//! Which parts this build has, and how to get those it lacks.

/// A part of the program that depends on what was there when it was built.
pub struct Part {
    pub name: &'static str,
    pub present: bool,
    /// What it costs to be without, and what to do.
    pub without: &'static str,
}

impl Part {
    pub fn state(&self) -> String {
        if self.present { "in".into() } else { format!("missing: {}", self.without) }
    }
}

pub fn all() -> [Part; 6] {
    [
        Part {
            name: "fast H.264",
            present: env!("DEFT_PORTER_NASM") == "yes",
            without: "H.264 takes two to three times as long; install nasm and build again",
        },
        Part {
            name: "VP8 and VP9",
            present: crate::codec::vpx::PRESENT,
            without: "VP8 and VP9 pictures are not decoded; install libvpx with its development files and build again",
        },
        Part {
            name: "Theora",
            present: crate::codec::theora::PRESENT,
            without: "Theora pictures are not decoded; install libtheora with its development files and build again",
        },
        Part {
            name: "HEVC in 4:2:2",
            present: crate::codec::hevc::WIDE_PRESENT,
            without: "HEVC in 4:2:2 and without colour is not decoded; install libde265 with its development files and build again",
        },
        Part {
            name: "AMR",
            present: crate::codec::amr::PRESENT,
            without: "AMR sound is not decoded; install opencore-amrnb and opencore-amrwb with their development files and build again",
        },
        Part {
            name: "making AV1",
            present: crate::codec::av1_encode::PRESENT,
            without: "no AV1 and no AVIF is made; install libsvtav1enc with its development files and build again, or build with `--features rav1e`",
        },
    ]
}
