//! Pictures of one file with the sound of others, which lie beside it: one source with the tracks of all. All begin at the
//! same moment.

use super::{About, Demux, Media, Packet, Track};
use crate::error::{Error, Result};

pub struct WithSound {
    parts: Vec<Part>,
    tracks: Vec<Track>,
    /// For each track: its part, and its number there.
    of: Vec<(usize, usize)>,
    about: About,
}

struct Part {
    demux: Box<dyn Demux>,
    /// The packet that was read ahead, with its track here.
    ahead: Option<Packet>,
    is_over: bool,
}

impl WithSound {
    /// The sound beside the pictures comes in front of their own: it is what was recorded for them. The error says which
    /// one has no sound.
    pub fn new(main: Box<dyn Demux>, sounds: Vec<(String, Box<dyn Demux>)>) -> Result<WithSound> {
        let mut about = main.about().clone();
        let mut parts = vec![main];
        for (name, demux) in sounds {
            if !demux.tracks().iter().any(|t| matches!(t.media, Media::Audio(_))) {
                return Err(Error::damaged(name, "it lies beside pictures as their sound, and has none"));
            }
            if let Some(why) = &demux.about().damage {
                about.damage.get_or_insert(format!("{name}: {why}"));
            }
            parts.push(demux);
        }
        let is_sound = |t: &Track| matches!(t.media, Media::Audio(_));
        let mut of = Vec::new();
        let mut take = |part: usize, wanted: &dyn Fn(&Track) -> bool| {
            let numbers = parts[part].tracks().iter().enumerate().filter(|(_, t)| wanted(t));
            of.extend(numbers.map(|(n, _)| (part, n)));
        };
        take(0, &|t| !is_sound(t));
        (1..parts.len()).for_each(|p| take(p, &is_sound));
        take(0, &is_sound);
        let tracks = of.iter().enumerate().map(|(id, &(part, n))| {
            let track = parts[part].tracks()[n].clone();
            Track { id: id as u32 + 1, ..track }
        });
        let tracks = tracks.collect();
        let part = |demux| Part { demux, ahead: None, is_over: false };
        let mut whole = WithSound { parts: parts.into_iter().map(part).collect(), tracks, of, about };
        let all: Vec<usize> = (0..whole.tracks.len()).collect();
        whole.choose(&all);
        Ok(whole)
    }

    fn fill(&mut self, at: usize) -> Result<()> {
        let part = &mut self.parts[at];
        while part.ahead.is_none() && !part.is_over {
            match part.demux.next_packet()? {
                None => part.is_over = true,
                Some(p) => {
                    let track = self.of.iter().position(|of| *of == (at, p.track));
                    part.ahead = track.map(|track| Packet { track, ..p });
                }
            }
        }
        Ok(())
    }
}

impl Demux for WithSound {
    fn format(&self) -> &'static str {
        self.parts[0].demux.format()
    }

    fn tracks(&self) -> &[Track] {
        &self.tracks
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn choose(&mut self, tracks: &[usize]) {
        for (at, part) in self.parts.iter_mut().enumerate() {
            let own = tracks.iter().filter_map(|t| self.of.get(*t)).filter(|(p, _)| *p == at);
            let own: Vec<usize> = own.map(|(_, n)| *n).collect();
            part.is_over = own.is_empty();
            part.demux.choose(&own);
        }
    }

    fn next_packet(&mut self) -> Result<Option<Packet>> {
        for at in 0..self.parts.len() {
            self.fill(at)?;
        }
        let when = |p: &Packet| {
            let scale = self.tracks.get(p.track).map_or(1, |t| t.timescale.max(1));
            p.pts as f64 / f64::from(scale)
        };
        let next = self.parts.iter().enumerate().filter_map(|(n, p)| Some((n, when(p.ahead.as_ref()?))));
        let next = next.min_by(|a, b| a.1.total_cmp(&b.1)).map(|(n, _)| n);
        Ok(next.and_then(|n| self.parts[n].ahead.take()))
    }

    fn seek(&mut self, seconds: f64) -> Result<bool> {
        if self.parts.iter().any(|p| p.ahead.is_some()) || !self.parts[0].demux.seek(seconds)? {
            return Ok(false);
        }
        // Sound that cannot be gone into is read from its beginning.
        for part in self.parts.iter_mut().skip(1) {
            part.demux.seek(seconds)?;
        }
        Ok(true)
    }
}
