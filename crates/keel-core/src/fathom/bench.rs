//! The bench that probe and fill work on: a drive opened for writing, its clock, tags written and read, what stood there
//! kept.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::{Duration, Instant};

use keel_source::{ByteOffset, ByteRange, Leave, SharedSource, WriteTarget};

use super::{FathomProgress, Phase, PlotPoint, Seen};
use crate::CoreError;
use crate::job::Desk;
use crate::leave::Reopened;
use crate::saved::{self, Restored, Saved};
use crate::tag;

/// Bytes written or read at once.
pub(super) const PIECE: u64 = 1 << 20;
/// Writes that may fail before the drive is left alone.
const MOST_FAILED: usize = 32;
/// Reads that may fail in a row, and in all, before the rest counts as unreadable.
const MOST_UNREADABLE: usize = 256;
/// Odd places that are asked twice, to see whether the answer is the drive's or the link's.
const ASKED_TWICE: usize = 6;
/// How often the listener hears.
const TELL_EVERY: Duration = Duration::from_millis(100);
/// The most points that are told at once.
const MOST_POINTS: usize = 2000;

/// A drive under measurement.
pub(super) struct Bench<'a> {
    source: &'a SharedSource,
    target: Reopened,
    saved: Option<Saved>,
    desk: &'a Desk<FathomProgress>,
    pub(super) sector: u64,
    pub(super) len: u64,
    /// Seed of the run: tags of an earlier one are none.
    seed: u64,
    pub(super) unwritable: Vec<ByteRange>,
    pub(super) unreadable: Vec<ByteRange>,
    points: Vec<PlotPoint>,
    told: Option<Instant>,
    begun: Instant,
    clock: Duration,
    phase: (Option<Phase>, Duration),
}

/// The work was cancelled.
pub(super) struct Cancelled;

/// How a step of the work ended.
pub(super) type Step<T> = Result<Result<T, Cancelled>, CoreError>;

impl<'a> Bench<'a> {
    /// Opens `source` for writing; with `saved`, what is touched is kept there first.
    pub(super) fn open(
        source: &'a SharedSource,
        leave: Leave,
        saved: Option<&Path>,
        desk: &'a Desk<FathomProgress>,
    ) -> Result<Self, CoreError> {
        let identity = source.identity();
        let target = Reopened::open(source, leave)?;
        let saved = saved.map(|path| Saved::create(path, source)).transpose()?;
        let start = blake3::hash(format!("{} {:?}", identity.key(), std::time::SystemTime::now()).as_bytes());
        let seed = start.as_bytes().first_chunk::<8>().map_or(1, |bytes| u64::from_le_bytes(*bytes));
        Ok(Self {
            source,
            target,
            saved,
            desk,
            sector: identity.logical_sector.bytes(),
            len: source.len() / identity.logical_sector.bytes() * identity.logical_sector.bytes(),
            seed,
            unwritable: Vec::new(),
            unreadable: Vec::new(),
            points: Vec::new(),
            told: None,
            begun: Instant::now(),
            clock: source.elapsed().unwrap_or_default(),
            phase: (None, Duration::ZERO),
        })
    }

    /// How long the work took so far, by the drive's own clock where it keeps one.
    pub(super) fn took(&self) -> Duration {
        self.source.elapsed().map_or_else(|| self.begun.elapsed(), |now| now.saturating_sub(self.clock))
    }

    /// Tags written from now on are told apart from those written before.
    pub(super) fn new_run(&mut self) {
        self.seed = self.seed.wrapping_mul(0x5851_F42D_4C95_7F2D).wrapping_add(0x1405_7B7E_F767_814F);
    }

    fn target(&mut self) -> Result<&mut dyn WriteTarget, CoreError> {
        self.target.target()
    }

    /// Tells how far it is; true when the work shall stop.
    pub(super) fn tell(&mut self, phase: Phase, at: u64, done: u64, total: u64) -> bool {
        if self.phase.0 != Some(phase) {
            self.phase = (Some(phase), self.took());
        }
        if self.told.is_none_or(|told| told.elapsed() >= TELL_EVERY) {
            self.told = Some(Instant::now());
            let took = self.took().saturating_sub(self.phase.1).as_micros().max(1);
            let rate = u64::try_from(u128::from(done) * 1_000_000 / took).unwrap_or(u64::MAX);
            let points = std::mem::take(&mut self.points);
            self.desk.tell(FathomProgress { phase, done, total, at: ByteOffset(at), points, rate });
        }
        self.desk.cancel().is_cancelled()
    }

    /// Keeps what stands in `ranges`, as far as it reads and is not kept yet. What does not read is not touched: the
    /// parts that may be come back.
    pub(super) fn keep(&mut self, ranges: &[ByteRange]) -> Step<Vec<ByteRange>> {
        let total: u64 = ranges.iter().map(|range| range.len()).sum();
        let (mut free, mut done, mut failed) = (Vec::new(), 0, 0);
        let mut buf = vec![0; PIECE as usize];
        for range in ranges {
            let lacking = match &self.saved {
                Some(saved) => saved.lacking(*range),
                None => Vec::new(),
            };
            let mut taboo = Vec::new();
            for piece in lacking.into_iter().flat_map(pieces) {
                if self.tell(Phase::Keep, piece.start.0, done, total) {
                    return Ok(Err(Cancelled));
                }
                let slot = buf.get_mut(..piece.len() as usize).unwrap_or_default();
                let bad = if failed > MOST_UNREADABLE {
                    Some(vec![piece])
                } else {
                    self.source.read_at(piece.start, slot).err().map(|error| error.bad)
                };
                failed += usize::from(bad.is_some());
                let saved = self.saved.as_mut();
                if let (None, Some(saved)) = (&bad, saved) {
                    saved.keep(piece.start, slot)?;
                } else if let Some(bad) = bad {
                    // Only whole pieces are kept: around a bad place nothing is written.
                    self.unreadable.extend(bad);
                    taboo.push(piece);
                }
                done += piece.len();
            }
            free.extend(without(*range, &taboo));
        }
        if let Some(saved) = &mut self.saved {
            saved.flush()?;
        }
        Ok(Ok(free))
    }

    /// Writes tags over `ranges`, in their order. What takes no write is noted.
    pub(super) fn write(&mut self, ranges: &[ByteRange], phase: Phase) -> Step<()> {
        let total: u64 = ranges.iter().map(|range| range.len()).sum();
        let mut done = 0;
        let mut buf = vec![0; PIECE as usize];
        for piece in ranges.iter().copied().flat_map(pieces) {
            if self.tell(phase, piece.start.0, done, total) {
                return Ok(Err(Cancelled));
            }
            let slot = buf.get_mut(..piece.len() as usize).unwrap_or_default();
            tag::put_all(self.seed, piece.start.0, slot, self.sector as usize);
            self.write_piece(piece, slot)?;
            done += piece.len();
        }
        Ok(Ok(()))
    }

    fn write_piece(&mut self, piece: ByteRange, bytes: &[u8]) -> Result<(), CoreError> {
        if self.unwritable.len() >= MOST_FAILED {
            return Ok(());
        }
        if self.target()?.write_at(piece.start, bytes).is_ok() {
            return Ok(());
        }
        // A failed write closes the target; around the place the sectors are tried one by one.
        self.target.let_go();
        let sector = self.sector as usize;
        for (index, bytes) in bytes.chunks(sector).enumerate() {
            let at = piece.start + (index * sector) as u64;
            if self.unwritable.len() >= MOST_FAILED {
                break;
            }
            if self.target()?.write_at(at, bytes).is_err() {
                self.target.let_go();
                self.unwritable.push(ByteRange::sized(at, bytes.len() as u64));
            }
        }
        Ok(())
    }

    /// True when so many writes failed that the drive is left alone.
    pub(super) fn gave_up_writing(&self) -> bool {
        self.unwritable.len() >= MOST_FAILED
    }

    /// Writes down what the system and, as far as it obeys, the drive hold in memory.
    pub(super) fn flush(&mut self) -> Result<(), CoreError> {
        let target = self.target()?;
        let flushed = target.flush();
        target.forget();
        if flushed.is_err() {
            self.target.let_go();
        }
        Ok(())
    }

    /// Reads the sectors of `ranges` back and hands each address with what it held to `each`. With `between`, that sector
    /// is read before each of them.
    pub(super) fn read(
        &mut self,
        ranges: &[ByteRange],
        between: Option<u64>,
        phase: Phase,
        each: &mut dyn FnMut(ByteOffset, Seen),
    ) -> Step<()> {
        let total: u64 = ranges.iter().map(|range| range.len()).sum();
        let (mut done, mut failed) = (0, 0);
        let mut buf = vec![0; PIECE as usize];
        let sector = self.sector as usize;
        for piece in ranges.iter().copied().flat_map(pieces) {
            if self.tell(phase, piece.start.0, done, total) {
                return Ok(Err(Cancelled));
            }
            if let Some(at) = between {
                let mut before = vec![0; sector];
                let _ = self.target()?.read_back(ByteOffset(at), &mut before);
            }
            let slot = buf.get_mut(..piece.len() as usize).unwrap_or_default();
            let sound = failed < MOST_UNREADABLE && self.target()?.read_back(piece.start, slot).is_ok();
            for index in 0..slot.len() / sector {
                let at = piece.start + (index * sector) as u64;
                let bytes = slot.get_mut(index * sector..(index + 1) * sector).unwrap_or_default();
                let reads = sound
                    || (failed < MOST_UNREADABLE
                        && (0..2).any(|_| self.target.open_now().is_some_and(|target| target.read_back(at, bytes).is_ok())));
                let seen = match reads {
                    false => {
                        failed += 1;
                        self.unreadable.push(ByteRange::sized(at, self.sector));
                        Seen::Unreadable
                    }
                    true => match tag::get(self.seed, bytes) {
                        Some(own) if own == at.0 => Seen::Own,
                        Some(other) => Seen::Other(ByteOffset(other)),
                        None => Seen::Nothing,
                    },
                };
                let taken = !self.unwritable.iter().any(|range| range.contains(at));
                let seen = if taken || seen == Seen::Own { seen } else { Seen::Unwritable };
                if (piece.len() == self.sector || index == 0) && self.points.len() < MOST_POINTS {
                    self.points.push(PlotPoint { at, seen });
                }
                each(at, seen);
            }
            done += piece.len();
        }
        Ok(Ok(()))
    }

    /// Whether odd places answer with what was read just before.
    pub(super) fn is_stale(&mut self, evidence: &Evidence) -> Step<bool> {
        let odd: Vec<u64> =
            evidence.odd.iter().filter(|(_, seen)| matches!(seen, Seen::Other(_))).map(|(at, _)| *at).take(ASKED_TWICE).collect();
        let Some(mut one) = evidence.two_own() else { return Ok(Ok(false)) };
        let mut as_before = 0;
        for _ in 0..2 {
            let before = one.0;
            let mut each = |_: ByteOffset, seen: Seen| as_before += usize::from(seen == Seen::Other(ByteOffset(before)));
            let places: Vec<ByteRange> = odd.iter().map(|at| ByteRange::sized(ByteOffset(*at), self.sector)).collect();
            if let Err(cancelled) = self.read(&places, Some(before), Phase::Read, &mut each)? {
                return Ok(Err(cancelled));
            }
            one = (one.1, one.0);
        }
        Ok(Ok(as_before == odd.len() * 2))
    }

    /// Puts everything back that was kept.
    pub(super) fn restore(mut self, path: &Path, true_end: u64) -> Result<Restored, CoreError> {
        if let Some(mut saved) = self.saved.take() {
            saved.flush()?;
        }
        self.target.let_go();
        let identity = self.source.identity();
        let desk = self.desk;
        let mut told: Option<Instant> = None;
        let restored = saved::restore(
            &mut || self.source.open_target(self.target.leave()),
            identity,
            path,
            true_end,
            &mut |done, total| {
                if told.is_none_or(|told| told.elapsed() >= TELL_EVERY) {
                    told = Some(Instant::now());
                    desk.tell(FathomProgress {
                        phase: Phase::Restore,
                        done,
                        total,
                        at: ByteOffset(0),
                        points: Vec::new(),
                        rate: 0,
                    });
                }
            },
        )?;
        Ok(restored)
    }
}

/// `range` in pieces of at most [`PIECE`] bytes, on its own borders.
fn pieces(range: ByteRange) -> impl Iterator<Item = ByteRange> {
    let mut at = range.start;
    std::iter::from_fn(move || {
        let end = ByteOffset((at.0 / PIECE + 1) * PIECE).min(range.end);
        let piece = ByteRange::new(at, end);
        at = end;
        (!piece.is_empty()).then_some(piece)
    })
}

/// `range` without the `taboo` pieces in it, which ascend.
fn without(range: ByteRange, taboo: &[ByteRange]) -> Vec<ByteRange> {
    let mut set = keel_source::RangeSet::default();
    taboo.iter().for_each(|piece| set.add(*piece));
    set.lacking(range)
}

/// What was seen of addresses that did not hold their own tag, as far as it matters.
#[derive(Default)]
pub(super) struct Evidence {
    /// Addresses and what they held, by address; at most [`MOST_KEPT`].
    pub(super) odd: BTreeMap<u64, Seen>,
    /// The least address that cannot be a place of its own.
    pub(super) least_bad: Option<u64>,
    /// The greatest common divisor of the distances between addresses that are one place.
    pub(super) distance: u64,
    pub(super) own: u64,
    /// The largest address that held its own tag.
    pub(super) most_own: u64,
    least_own: Option<u64>,
    /// Addresses that held their own tag, ascending; of very many, the last one counts for the rest.
    owns: Vec<u64>,
    pub(super) others: u64,
    pub(super) nothings: u64,
    pub(super) unreadable: u64,
    pub(super) unwritable: u64,
    /// All the others were of one address.
    pub(super) one_other: Option<Option<u64>>,
}

/// The most own addresses that are kept.
const MOST_OWNS: usize = 1 << 20;
/// The most odd addresses that are kept one by one.
const MOST_KEPT: usize = 4096;

impl Evidence {
    pub(super) fn note(&mut self, at: ByteOffset, seen: Seen) {
        let bad = match seen {
            Seen::Own => {
                self.own += 1;
                self.most_own = self.most_own.max(at.0);
                self.least_own.get_or_insert(at.0);
                let full = self.owns.len() >= MOST_OWNS;
                match self.owns.last_mut().filter(|last| at.0 > **last) {
                    Some(last) if full => *last = at.0,
                    _ => self.owns.push(at.0),
                }
                return;
            }
            Seen::Other(other) => {
                self.others += 1;
                self.distance = gcd(self.distance, at.0.abs_diff(other.0));
                self.one_other = Some(match self.one_other {
                    None => Some(other.0),
                    Some(one) => one.filter(|one| *one == other.0),
                });
                Some(at.max(other).0)
            }
            Seen::Nothing => {
                self.nothings += 1;
                Some(at.0)
            }
            Seen::Unreadable => {
                self.unreadable += 1;
                None
            }
            Seen::Unwritable => {
                self.unwritable += 1;
                None
            }
        };
        if let Some(bad) = bad {
            self.least_bad = Some(self.least_bad.map_or(bad, |least| least.min(bad)));
        }
        if self.odd.len() < MOST_KEPT {
            self.odd.insert(at.0, seen);
        }
    }
}

impl Evidence {
    /// The highest address below `bad` that held its own tag.
    pub(super) fn highest_own_below(&self, bad: u64) -> u64 {
        self.owns.iter().copied().filter(|own| *own < bad).max().unwrap_or(0)
    }

    /// The least address that did not hold its own tag.
    pub(super) fn least_odd(&self) -> Option<u64> {
        self.odd.iter().find(|(_, seen)| matches!(seen, Seen::Other(_) | Seen::Nothing)).map(|(at, _)| *at)
    }

    /// Whether the odd addresses, which all held the tag of `one`, are one and the same sector at the end of the drive: fewer
    /// places of their own lie behind it (those that the drive's cache still holds) than odd ones. On a drive that wraps,
    /// `one` is a low address with places of their own all around.
    pub(super) fn repeats(&self, one: u64) -> bool {
        let Some(least) = self.least_odd() else { return false };
        let behind = self.owns.iter().filter(|own| **own > least.min(one)).count() as u64;
        behind < self.others
    }

    /// Two addresses that held their own tags.
    pub(super) fn two_own(&self) -> Option<(u64, u64)> {
        (self.own > 1).then_some((self.least_own?, self.most_own))
    }
}

fn gcd(mut one: u64, mut other: u64) -> u64 {
    while other != 0 {
        (one, other) = (other, one % other);
    }
    one
}

#[cfg(test)]
mod tests {
    use super::*;

    fn noted(seen: &[(u64, Seen)]) -> Evidence {
        let mut evidence = Evidence::default();
        seen.iter().for_each(|(at, seen)| evidence.note(ByteOffset(*at), *seen));
        evidence
    }

    #[test]
    fn a_drive_that_wraps_shows_its_length_in_the_distances() {
        let real = 4 << 30;
        let other = |at: u64| (at, Seen::Other(ByteOffset(at % real)));
        let evidence = noted(&[(0, Seen::Own), (1 << 30, Seen::Own), other(5 << 30), other(9 << 30), other(17 << 30)]);
        assert_eq!(evidence.distance % real, 0);
        assert_eq!((evidence.least_bad, evidence.least_odd()), (Some(5 << 30), Some(5 << 30)));
        assert_eq!(evidence.highest_own_below(5 << 30), 1 << 30);
        assert_eq!(evidence.one_other, Some(Some(1 << 30)), "all of these lie on one place");
        let more = noted(&[other(5 << 30), other(6 << 30)]);
        assert_eq!((more.distance, more.one_other), (real, Some(None)));
    }

    #[test]
    fn what_was_overwritten_by_a_later_address_makes_that_one_the_bad_one() {
        // The lower of two addresses that are one place holds the tag of the higher: only the higher one is false.
        let evidence = noted(&[(1000, Seen::Other(ByteOffset(9000)))]);
        assert_eq!((evidence.least_bad, evidence.distance), (Some(9000), 8000));
        assert_eq!(noted(&[(70, Seen::Nothing), (30, Seen::Nothing)]).least_bad, Some(30));
        let failing = noted(&[(70, Seen::Unreadable), (30, Seen::Unwritable)]);
        assert_eq!((failing.least_bad, failing.unreadable, failing.unwritable), (None, 1, 1));
        assert_eq!(failing.least_odd(), None, "what fails says nothing about the length");
    }

    #[test]
    fn a_sector_that_repeats_is_told_from_a_wrap_by_what_stands_behind_it() {
        let last = 4000u64;
        let odd: Vec<(u64, Seen)> = (5..15).map(|number| (number * 1000, Seen::Other(ByteOffset(last)))).collect();
        let low: Vec<(u64, Seen)> = (0..4).map(|number| (number * 1000, Seen::Own)).collect();
        let repeats = noted(&[low.clone(), odd.clone()].concat());
        assert!(repeats.repeats(last));
        // Places of their own all around: a wrap onto a low address.
        let wraps: Vec<(u64, Seen)> = (0..40).map(|number| (number * 300 + 7000, Seen::Own)).collect();
        assert!(!noted(&[odd, wraps].concat()).repeats(100));
        assert!(!noted(&low).repeats(0));
    }

    #[test]
    fn two_own_places_are_the_first_and_the_highest() {
        assert_eq!(noted(&[(8, Seen::Own)]).two_own(), None);
        assert_eq!(noted(&[(8, Seen::Own), (900, Seen::Own), (30, Seen::Own)]).two_own(), Some((8, 900)));
    }

    #[test]
    fn very_many_odd_places_take_no_more_room_than_some_thousand() {
        let mut evidence = Evidence::default();
        for number in 0..100_000u64 {
            evidence.note(ByteOffset(number * 512), Seen::Nothing);
        }
        assert_eq!((evidence.nothings, evidence.odd.len()), (100_000, MOST_KEPT));
    }

    #[test]
    fn ranges_are_cut_at_whole_pieces_and_around_what_must_not_be_touched() {
        let range = |start: u64, end: u64| ByteRange::new(ByteOffset(start), ByteOffset(end));
        let cut: Vec<ByteRange> = pieces(range(PIECE - 512, 2 * PIECE + 512)).collect();
        assert_eq!(cut, [range(PIECE - 512, PIECE), range(PIECE, 2 * PIECE), range(2 * PIECE, 2 * PIECE + 512)]);
        assert_eq!(pieces(range(7, 7)).count(), 0);
        let left = without(range(0, 100), &[range(0, 10), range(40, 50), range(90, 200)]);
        assert_eq!(left, [range(10, 40), range(50, 90)]);
        assert_eq!(without(range(0, 100), &[range(0, 100)]), []);
        assert_eq!((gcd(12, 18), gcd(0, 7), gcd(7, 0), gcd(0, 0)), (6, 7, 7, 0));
    }
}
