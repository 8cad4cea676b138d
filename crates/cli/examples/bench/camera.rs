//! What cameras make: HEVC and the H.264 that only the exact decoder takes, beside their libraries alone; a large HEIC.

use super::{Anyhow, Bench, figure, median, quiet, wall};
use media::codec::yardstick as bare;
use media::frame::Pool;
use media::testkit::heic;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Instant;

/// The little streams of the fixtures, one after another.
const TIMES: usize = 150;

fn fixture(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/fixtures").join(name)
}

/// Seconds of one thread for what is done.
fn took(work: impl FnOnce() -> Result<u64, Anyhow>) -> Result<(f64, u64), Anyhow> {
    let start = Instant::now();
    let frames = work()?;
    Ok((start.elapsed().as_secs_f64(), frames))
}

fn ours(path: &Path) -> Result<u64, Anyhow> {
    let mut d = media::container::open(Box::new(std::fs::File::open(path)?))?;
    let mut decoder = media::codec::video_decoder(&d.tracks()[0], &Pool::new())?;
    d.choose(&[0]);
    let (mut out, mut frames) = (Vec::new(), 0);
    while let Some(p) = d.next_packet()? {
        decoder.decode(&p, &mut out)?;
        frames += out.drain(..).count() as u64;
    }
    decoder.flush(&mut out)?;
    Ok(frames + out.len() as u64)
}

type Library = fn(&[u8]) -> u64;

pub fn camera(b: &Bench) -> Result<(), Anyhow> {
    let parts: [(&str, &str, Library); 2] = [
        ("HEVC 10-bit", "camera-10.h265", bare::hevc),
        ("H.264 10-bit 4:2:2 of fields", "camera-422-10-fields.h264", bare::h264_exact),
    ];
    for (name, file, library) in parts {
        let bytes = std::fs::read(fixture(file))?.repeat(TIMES);
        let path = b.dir.join(file);
        std::fs::write(&path, &bytes)?;
        let mut ratios = Vec::new();
        for _ in 0..5 {
            let (alone, a) = took(|| Ok(library(&bytes)))?;
            let (through, c) = took(|| ours(&path))?;
            if a != c {
                return Err(format!("{name}: {a} pictures from the library, {c} from ours").into());
            }
            ratios.push(alone / through);
        }
        figure(
            &format!("{name} through our traits / the bare library, speed"),
            median(ratios),
            "x",
            0.95,
            false,
        );
    }
    // 8064 x 6048.
    let tile = std::fs::read(fixture("picture.heic"))?;
    let path = b.dir.join("large.heic");
    std::fs::write(&path, heic::grid(&tile, (128, 96), 63, 63).ok_or("no such picture")?)?;
    let to = b.dir.join("large");
    let convert = wall(
        || {
            let _ = std::fs::remove_dir_all(&to);
            quiet(
                Command::new(&b.program)
                    .arg("convert")
                    .arg(&path)
                    .args(["--preset", "poster", "--to"])
                    .arg(&to),
            )
        },
        5,
    )?;
    let me = std::env::current_exe()?;
    let alone = wall(|| quiet(Command::new(&me).arg("bare-tiles").arg(&path)), 5)?;
    figure(
        "a HEIC of 48 megapixels to a 1920-pixel JPEG / its bare decode, wall",
        convert / alone,
        "x",
        1.2,
        true,
    );
    Ok(())
}

/// Every tile decoded by the library alone, on as many threads as ours.
pub fn bare_tiles() -> Result<(), Anyhow> {
    let tile = std::fs::read(fixture("picture.heic"))?;
    let threads = std::thread::available_parallelism()?.get();
    std::thread::scope(|s| {
        for t in 0..threads {
            let tile = &tile;
            s.spawn(move || {
                (t..63 * 63).step_by(threads).for_each(|_| assert_eq!(bare::hevc_tile(tile), Some(1)))
            });
        }
    });
    Ok(())
}
