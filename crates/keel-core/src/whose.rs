//! Whose state is it? A few samples of a drive's content, kept with everything that is kept of the drive: another card in the same
//! reader, or another image under the same path, calls itself alike and holds something else.

use std::path::Path;

use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource, Source};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::case;
use crate::error::{CoreError, Refusal};

/// Bytes of a sample.
pub(crate) const SAMPLE: usize = 4096;
/// Samples spread over the drive, and those near each of its ends.
const SPREAD: u64 = 32;
const NEAR: u64 = 4;
/// Samples of a copy that are compared with its drive at most.
const MOST_COMPARED: usize = 64;
/// The most stretches between holes that are told apart.
const MOST_STRETCHES: usize = 4096;
/// Samples that may fail before no more are asked for: a sick drive takes its time over each.
const MOST_FAILED: usize = 3;
/// One sample in so many that is alike is enough of what a drive held.
const HARDLY: usize = 8;
/// Samples that have to be alike before one drive is taken for another one that calls itself otherwise, or to be otherwise before one is
/// not taken for itself.
const LEAST_ALIKE: usize = 4;

/// One sample.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sample {
    /// Its first byte on the drive.
    pub at: u64,
    /// The first eight bytes of its BLAKE3 hash; 0 for a place that holds one byte all over.
    pub hash: u64,
}

/// Samples of a drive's content.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Print(pub Vec<Sample>);

/// What samples say of a drive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Alike {
    /// So many that hold something are alike, more than twice as many as are not.
    Yes(usize),
    /// Too many are otherwise.
    No,
    /// Nothing that was sampled holds anything.
    Unknown,
}

impl Alike {
    fn by(alike: usize, other: usize) -> Self {
        match (alike, other) {
            (0, 0) => Self::Unknown,
            // What all volumes of a kind hold alike does not outvote what is otherwise.
            (alike, other) if alike > 2 * other => Self::Yes(alike),
            _ => Self::No,
        }
    }
}

impl Print {
    /// Samples of `source`. Places that do not read are left out.
    #[must_use]
    pub fn of(source: &SharedSource) -> Self {
        Self::in_places(source, places(&held(source)))
    }

    /// Samples of `source` as it lies, whatever is known of holes.
    #[must_use]
    pub fn as_it_lies(source: &SharedSource) -> Self {
        let all = ByteRange::new(ByteOffset(0), ByteOffset(source.len()));
        Self::in_places(source, places(&[all]))
    }

    fn in_places(source: &SharedSource, places: Vec<u64>) -> Self {
        let (mut samples, mut failed) = (Vec::new(), 0);
        for at in places {
            match sample(source, at) {
                Some(hash) => samples.push(Sample { at, hash }),
                None => failed += 1,
            }
            if failed >= MOST_FAILED {
                break;
            }
        }
        Self(samples)
    }

    /// Whether `source` holds what these are samples of. What lies in `except` was written since.
    #[must_use]
    pub fn tells(&self, source: &SharedSource, except: &RangeSet) -> Alike {
        let (alike, other) = self.compare(source, except);
        Alike::by(alike, other)
    }

    /// Samples of `bytes` that were read at `at` on a drive whose samples are taken at `places`.
    pub(crate) fn add_read(&mut self, places: &[u64], at: ByteOffset, bytes: &[u8]) {
        for place in places.get(places.partition_point(|place| *place < at.0)..).unwrap_or_default() {
            let inside = usize::try_from(place - at.0).unwrap_or(usize::MAX);
            let Some(block) = bytes.get(inside..).and_then(<[u8]>::first_chunk) else { return };
            if self.0.iter().all(|own| own.at != *place) {
                self.0.push(Sample { at: *place, hash: hash_of(block) });
            }
        }
    }

    /// Takes over samples of the same drive at places where this has none.
    pub(crate) fn merge(&mut self, other: &Self) {
        let new = other.0.iter().filter(|sample| self.0.iter().all(|own| own.at != sample.at)).copied().collect::<Vec<_>>();
        self.0.extend(new);
    }

    /// As [`Print::may_be`], of what another print says: without a look at a drive.
    pub(crate) fn may_be_that_of(&self, now: &Self) -> bool {
        let at = |own: &Sample| now.0.iter().find(|sample| sample.at == own.at).map(|sample| sample.hash);
        let common = self.0.iter().filter_map(|own| Some((own.hash, at(own)?)));
        let (mut alike, mut other) = (0, 0);
        common.for_each(|(own, now)| if own == now { alike += usize::from(now != 0) } else { other += 1 });
        hardly_otherwise(alike, other)
    }

    /// Samples that hold something and are alike, and those that are otherwise.
    fn compare(&self, source: &SharedSource, except: &RangeSet) -> (usize, usize) {
        let (mut alike, mut other, mut failed) = (0, 0, 0);
        // A drive that was shown to claim more than it stores may be open as far as it stores.
        for former in self.0.iter().filter(|former| former.at.saturating_add(SAMPLE as u64) <= source.len()) {
            let range = ByteRange::sized(ByteOffset(former.at), SAMPLE as u64);
            if except.lacking(range) != [range] {
                continue;
            }
            match sample(source, former.at) {
                Some(now) if now == former.hash => alike += usize::from(now != 0),
                Some(_) => other += 1,
                None => failed += 1,
            }
            if failed >= MOST_FAILED {
                break;
            }
        }
        (alike, other)
    }

    /// True unless hardly anything is left of what the drive held: one that was used since, formatted too, keeps some of it.
    #[must_use]
    pub fn may_be(&self, source: &SharedSource, except: &RangeSet) -> bool {
        let (alike, other) = self.compare(source, except);
        hardly_otherwise(alike, other)
    }

    /// Whether what was kept of the drive with `key` and `bytes` is of `source`: one that calls itself so and does not hold something
    /// else, or one of that length that holds the same.
    #[must_use]
    pub fn is_of(&self, (key, bytes): (&str, u64), source: &SharedSource, except: &RangeSet) -> bool {
        let (alike, other) = self.compare(source, except);
        let told = Alike::by(alike, other);
        match source.identity().key() == key {
            // Few samples say nothing against its own word.
            true => told != Alike::No || other < LEAST_ALIKE,
            false => source.identity().bytes == bytes && matches!(told, Alike::Yes(count) if count >= LEAST_ALIKE),
        }
    }
}

/// Whether `source` reads as what was copied of it does, in samples of the copied `stretches`: as often as not, or more often. `copy` reads
/// the copy.
pub(crate) fn holds_the_same(
    copy: &dyn Fn(ByteOffset, &mut [u8]) -> bool,
    stretches: &[ByteRange],
    source: &SharedSource,
) -> bool {
    let (mut alike, mut other, mut failed) = (0, 0, 0);
    let (mut kept, mut now) = ([0; SAMPLE], [0; SAMPLE]);
    for index in 0..MOST_COMPARED {
        let Some(range) = stretches.get(index * stretches.len() / MOST_COMPARED) else { continue };
        // Spread over the stretches, and inside of each.
        let room = (range.len() / SAMPLE as u64).max(1);
        let at = range.start + index as u64 * room / MOST_COMPARED as u64 * SAMPLE as u64;
        let holds = range.len() >= SAMPLE as u64 && copy(at, &mut kept);
        if !holds || kept.iter().all(|byte| *byte == kept[0]) {
            continue;
        }
        match source.read_once(at, &mut now) {
            Err(_) => failed += 1,
            Ok(()) if kept == now => alike += 1,
            Ok(()) => other += 1,
        }
        if alike >= LEAST_ALIKE || other >= LEAST_ALIKE || failed >= MOST_FAILED {
            break;
        }
    }
    alike >= other
}

/// Something that is kept of a drive, with samples of what the drive held then.
#[derive(Serialize, Deserialize)]
struct Kept<T> {
    #[serde(flatten)]
    what: T,
    #[serde(default, skip_serializing_if = "Print::is_empty")]
    print: Print,
}

impl Print {
    fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

/// Keeps `what` of `source` at `path`, in a folder of our own. Without `samples` it counts for every drive that calls itself so: where
/// the drive holds nothing of its own.
///
/// # Errors
/// [`CoreError::File`] when it cannot be written; [`Refusal::OwnMedium`] where it would lie on the drive itself.
pub fn keep<T: Serialize>(path: &Path, source: &SharedSource, what: &T, samples: Samples) -> Result<(), CoreError> {
    not_on_its_own_medium(source.as_ref(), path)?;
    let print = if samples == Samples::Taken { Print::of(source) } else { Print::default() };
    case::write_whole(path, &serde_json::to_vec(&Kept { what, print }).unwrap_or_default())
}

/// Whether samples are kept with something.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Samples {
    /// They are taken.
    Taken,
    /// Nothing that the drive holds is worth one.
    None,
}

/// What is kept at `path`, and whether it is of `source`: false when that holds something else.
#[must_use]
pub fn kept<T: DeserializeOwned>(path: &Path, source: &SharedSource) -> Option<(T, bool)> {
    let kept: Kept<T> = serde_json::from_slice(&std::fs::read(path).ok()?).ok()?;
    let own = kept.print.may_be(source, &RangeSet::default());
    Some((kept.what, own))
}

/// True unless hardly anything is left.
fn hardly_otherwise(alike: usize, other: usize) -> bool {
    // Few samples say nothing: the start of a drive alone is written by every repair.
    other < LEAST_ALIKE || alike * HARDLY >= other
}

/// Where samples are taken of a drive of `bytes` bytes as it lies, ascending.
pub(crate) fn places_of(bytes: u64) -> Vec<u64> {
    places(&[ByteRange::sized(ByteOffset(0), bytes)])
}

/// Where samples are taken of what is `held`: spread over it, and ever closer together towards its start, where most drives hold
/// most. Holes that are known are left out. Ascending, whole sectors of any size.
fn places(held: &[ByteRange]) -> Vec<u64> {
    let size = SAMPLE as u64;
    let blocks: u64 = held.iter().map(|range| range.len() / size).sum();
    let last = blocks.saturating_sub(1);
    let spread = (0..SPREAD).map(|index| last * index / SPREAD);
    let closer = std::iter::successors(Some(1u64), |block| block.checked_mul(3)?.checked_div(2).map(|next| next.max(block + 1)));
    let near = (0..NEAR).flat_map(|index| [index, last.saturating_sub(index)]);
    let wanted = spread.chain(closer.take_while(|block| *block < last)).chain(near).filter(|block| *block < blocks);
    let place = |mut block: u64| {
        held.iter().find_map(|range| {
            let here = range.len() / size;
            if block < here {
                return Some(range.start.0 + block * size);
            }
            block -= here;
            None
        })
    };
    let mut places: Vec<u64> = wanted.filter_map(place).collect();
    places.sort_unstable();
    places.dedup();
    places
}

/// What of `source` can hold anything, in whole samples; the first stretches of one with very many holes.
fn held(source: &SharedSource) -> Vec<ByteRange> {
    let (size, mut at, mut held) = (SAMPLE as u64, ByteOffset(0), Vec::new());
    while let Some(data) = source.next_data(at).filter(|_| held.len() < MOST_STRETCHES) {
        let (start, end) = (data.start.0.next_multiple_of(size), data.end.0.min(source.len()) / size * size);
        if start < end {
            held.push(ByteRange::new(ByteOffset(start), ByteOffset(end)));
        }
        at = data.end;
    }
    held
}

fn sample(source: &SharedSource, at: u64) -> Option<u64> {
    let mut bytes = [0; SAMPLE];
    source.read_once(ByteOffset(at), &mut bytes).ok()?;
    Some(hash_of(&bytes))
}

/// What is kept of a sample: 0 where it holds one byte all over.
fn hash_of(bytes: &[u8; SAMPLE]) -> u64 {
    let [first, ..] = bytes;
    if bytes.iter().all(|byte| byte == first) {
        return 0;
    }
    let hash = blake3::hash(bytes);
    hash.as_bytes().first_chunk::<8>().map_or(1, |head| u64::from_le_bytes(*head).max(1))
}

/// Nothing of ours may be put at `output` while `source` is worked on, where it would lie on the source's own medium: in a file system
/// on one of its partitions, or mounted out of the image, or on a loop device over it.
///
/// # Errors
/// [`Refusal::OwnMedium`].
pub fn not_on_its_own_medium(source: &dyn Source, output: &Path) -> Result<(), CoreError> {
    let path = source.identity().path.as_deref();
    match path.and_then(|path| keel_source::own_medium(path, output)) {
        Some(how) => Err(Refusal::OwnMedium { path: output.into(), how }.into()),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use keel_source::{MemorySource, Overlay};

    use super::*;

    fn drive(seed: u64) -> SharedSource {
        let mut state = seed;
        let mut next = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            (state >> 56) as u8
        };
        Arc::new(MemorySource::new("card", (0..4 << 20).map(|_| next()).collect(), 512))
    }

    fn blank() -> SharedSource {
        Arc::new(MemorySource::new("card", vec![0; 4 << 20], 512))
    }

    #[test]
    fn another_card_in_the_same_reader_is_told_by_its_content() {
        let (one, other) = (drive(1), drive(2));
        let print = Print::of(&one);
        let none = RangeSet::default();
        assert!(matches!(print.tells(&one, &none), Alike::Yes(count) if count > 30));
        assert_eq!((print.tells(&other, &none), print.tells(&blank(), &none)), (Alike::No, Alike::No));
        assert_eq!(Print::of(&blank()).tells(&one, &none), Alike::No, "a blank one is not any other");
        assert_eq!(Print::of(&blank()).tells(&blank(), &none), Alike::Unknown);
        let key = one.identity().key();
        assert_eq!(other.identity().key(), key, "both call themselves alike");
        assert!(print.is_of((&key, one.len()), &one, &none) && !print.is_of((&key, one.len()), &other, &none));
        assert!(print.is_of(("elsewhere", one.len()), &one, &none), "the same drive under another name");
        assert!(!Print::of(&blank()).is_of(("elsewhere", one.len()), &blank(), &none), "nothing speaks for it");
    }

    #[test]
    fn a_drive_that_is_used_on_stays_itself_and_what_was_written_since_does_not_count() {
        let one = drive(1);
        let print = Print::of(&one);
        let mut overlay = Overlay::new(Arc::clone(&one));
        overlay.lay(ByteOffset(0), &vec![7; 24 << 10]);
        let used: SharedSource = Arc::new(overlay);
        assert!(matches!(print.tells(&used, &RangeSet::default()), Alike::Yes(_)));
        let mut overlay = Overlay::new(Arc::clone(&one));
        overlay.lay(ByteOffset(0), &vec![7; 3 << 20]);
        let used: SharedSource = Arc::new(overlay);
        let mut written = RangeSet::default();
        written.add(ByteRange::sized(ByteOffset(0), 3 << 20));
        assert_eq!(print.tells(&used, &RangeSet::default()), Alike::No);
        assert!(matches!(print.tells(&used, &written), Alike::Yes(_)));
    }

    #[test]
    fn few_samples_say_nothing_against_a_drives_own_word() {
        // One place that holds anything, and that is otherwise now: a drive that was used, as far as can be told.
        let holding = |byte: u8| -> SharedSource {
            let mut bytes = vec![0; 4 << 20];
            bytes[..100].fill(byte);
            Arc::new(MemorySource::new("card", bytes, 512))
        };
        let (one, now, none) = (holding(1), holding(2), RangeSet::default());
        let print = Print::of(&one);
        assert_eq!(print.tells(&now, &none), Alike::No);
        assert!(print.is_of((&now.identity().key(), now.len()), &now, &none));
        assert!(!print.is_of(("elsewhere", now.len()), &now, &none));
    }

    #[test]
    fn places_lie_on_the_drive_whatever_its_length() {
        for len in [0, 512, 4096, 8192, 100_352, 1 << 20, 3 << 20] {
            let source: SharedSource = Arc::new(MemorySource::new("card", vec![0; len], 512));
            let places = places(&held(&source));
            assert!(places.iter().all(|at| at + SAMPLE as u64 <= len as u64), "{len}");
            assert!(places.windows(2).all(|pair| pair[0] < pair[1]), "{len}");
            assert_eq!(places.is_empty(), len < SAMPLE, "{len}");
        }
    }
}
