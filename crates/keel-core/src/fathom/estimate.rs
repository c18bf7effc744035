//! The estimate: nothing is written. A drive that wraps shows the content of its start again, a modulus further on.

use std::collections::HashMap;

use keel_source::{ByteOffset, SharedSource};

use super::{FathomProgress, Fathomed, Method, Nature, Phase, PlotPoint, Seen, Sureness};
use crate::job::Desk;

/// The widest that places lie apart, and the longest window at the start, in bytes.
const WIDEST: u64 = 64 << 20;
/// Places over the drive, about.
const PLACES: u64 = 2048;
/// Bytes read at once.
const PIECE: usize = 1 << 20;
/// Sectors of the start that must be found again before a modulus is spoken of.
const LEAST_AGREE: u64 = 8;
/// Sectors that are compared at most.
const MOST_COMPARED: usize = 64;

/// Estimates what `source` stores by content that repeats. Reads only; what it finds is weak evidence, since a drive may
/// hold the same content twice, and nothing speaks of a drive that drops what is written behind its end.
#[must_use]
pub fn estimate(source: &SharedSource, desk: &Desk<FathomProgress>) -> Fathomed {
    let verdict = estimated(source, desk);
    super::note(source, &verdict);
    verdict
}

fn estimated(source: &SharedSource, desk: &Desk<FathomProgress>) -> Fathomed {
    let mut verdict = Fathomed::begun(source, Method::Estimate);
    let sector = source.sector_size().bytes();
    let len = source.len() / sector * sector;
    let clock = source.elapsed();
    let begun = std::time::Instant::now();
    let step = (len / PLACES).next_power_of_two().clamp(PIECE as u64, WIDEST);
    let window = step.min(len / 2) / sector * sector;
    let tell = |done: u64, at: u64| {
        desk.tell(FathomProgress { phase: Phase::Compare, done, total: len, at: ByteOffset(at), points: Vec::new(), rate: 0 });
        desk.cancel().is_cancelled()
    };
    let places = window_content(source, window, sector);
    let mut shown: HashMap<u64, u64> = HashMap::new();
    let mut at = window.max(step);
    let mut buf = vec![0; usize::try_from(sector).unwrap_or(512)];
    while at < len {
        if tell(at, at) {
            verdict.cancelled = true;
            return verdict;
        }
        let same = source.read_at(ByteOffset(at), &mut buf).ok().and_then(|()| places.get(&key(&buf))).copied().flatten();
        let seen = same.map_or(Seen::Own, |place| Seen::Other(ByteOffset(place)));
        if let Some(place) = same {
            *shown.entry(at - place).or_default() += 1;
        }
        verdict.plot.push(PlotPoint { at: ByteOffset(at), seen });
        at += step;
    }
    // Turns of one modulus: the smallest distance that holds when it is looked at closely.
    let mut distances: Vec<u64> = shown.into_keys().collect();
    distances.sort_unstable();
    let repeats = distances.into_iter().take(32).find_map(|distance| {
        let (agree, asked) = compare(source, &places, distance, sector);
        (asked >= LEAST_AGREE && agree == asked).then_some((distance, agree))
    });
    match repeats {
        Some((distance, agree)) => {
            (verdict.nature, verdict.proven_bytes) = (Nature::Wraps { modulus: distance }, distance);
            verdict.reasons.push(format!("{agree} of {agree} sectors from the start stand again {distance} bytes further on"));
            verdict.reasons.push("a probe would write there and decide it".into());
        }
        None => {
            (verdict.nature, verdict.proven_bytes) = (Nature::Unknown, len);
            verdict
                .reasons
                .push("no content of the start repeats behind it; a drive that drops writes would look the same".into());
        }
    }
    verdict.sureness = Sureness::Weak;
    let took = source.elapsed().zip(clock).map_or_else(|| begun.elapsed(), |(now, before)| now.saturating_sub(before));
    verdict.took_ms = u64::try_from(took.as_millis()).unwrap_or(u64::MAX);
    verdict
}

fn key(bytes: &[u8]) -> [u8; 16] {
    blake3::hash(bytes).as_bytes().first_chunk::<16>().copied().unwrap_or_default()
}

/// Sectors of the window with content that cannot be chance, by their hash; none for a content that stands there twice.
fn window_content(source: &SharedSource, window: u64, sector: u64) -> HashMap<[u8; 16], Option<u64>> {
    let mut places: HashMap<[u8; 16], Option<u64>> = HashMap::new();
    let mut buf = vec![0; PIECE];
    let mut at = 0;
    while at < window {
        let len = usize::try_from((window - at).min(PIECE as u64)).unwrap_or(PIECE);
        let piece = buf.get_mut(..len).unwrap_or_default();
        if source.read_at(ByteOffset(at), piece).is_ok() {
            for (index, bytes) in piece.chunks_exact(usize::try_from(sector).unwrap_or(512)).enumerate() {
                // Few different bytes are filling, not content.
                let first = bytes.first().copied().unwrap_or(0);
                if bytes.iter().filter(|byte| **byte != first).count() < 16 {
                    continue;
                }
                let place = at + index as u64 * sector;
                places.entry(key(bytes)).and_modify(|own| *own = None).or_insert(Some(place));
            }
        }
        at += len as u64;
    }
    places
}

/// How many of the window's sectors stand again `distance` further on, of how many that were asked.
fn compare(source: &SharedSource, places: &HashMap<[u8; 16], Option<u64>>, distance: u64, sector: u64) -> (u64, u64) {
    let mut known: Vec<(u64, [u8; 16])> = places.iter().filter_map(|(key, at)| Some(((*at)?, *key))).collect();
    known.sort_unstable();
    let every = (known.len() / MOST_COMPARED).max(1);
    let mut buf = vec![0; usize::try_from(sector).unwrap_or(512)];
    let (mut agree, mut asked) = (0, 0);
    for (at, wanted) in known.into_iter().step_by(every) {
        if source.read_at(ByteOffset(at + distance), &mut buf).is_ok() {
            asked += 1;
            agree += u64::from(key(&buf) == wanted);
        }
    }
    (agree, asked)
}
