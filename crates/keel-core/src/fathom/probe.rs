//! The probe: tagged sectors over the whole drive, a window of them at its start, and more behind them to push them out of
//! the drive's cache. What they hold when they are read back tells where addresses really lead.
//!
//! A drive that wraps must lead some of the chosen places into the window, which is as long as they lie apart; one that
//! drops or repeats shows it at every place behind its end. Then the true end is closed in on: places are written, then
//! those that would be the same one, then the places are read.

use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource, counted};

use super::bench::{Bench, Evidence, PIECE, Step};
use super::{FathomProgress, Fathomed, Method, Nature, Phase, PlotPoint, Seen, Sureness, allowed, saved_path};
use crate::case;
use crate::error::{CoreError, Refusal};
use crate::job::Desk;
use crate::leave::{Confirmation, Purpose, leave};
use crate::saved::{self, Restored};
use crate::whose::not_on_its_own_medium;

/// Places over the drive, about.
const PLACES: u64 = 4096;
/// The widest that they lie apart, and the longest window, in bytes.
const WIDEST: u64 = 256 << 20;
/// What is tried first to push tags out of the cache where a lie is known already, in bytes: most caches are small.
const PUSHES: [u64; 4] = [0, 8 << 20, 72 << 20, 300 << 20];
/// What is written beyond the largest cache, in bytes.
const BEYOND: u64 = 32 << 20;
/// Places of one round of closing in.
const ROUND: u64 = 256;
/// Parts of a distance that are tried as its modulus: a distance may be several turns.
const PARTS: u64 = 8;
/// A drive may lie in several ways, each below the one before; more than so many are not looked for.
const MOST_LIES: usize = 5;
/// Points that the plot keeps.
const MOST_POINTS: usize = 3000;

/// How to probe.
#[derive(Debug, Clone, Copy)]
pub struct ProbeOptions {
    /// The largest cache, in bytes, that the drive may hide its lie in: so much is written, and put back, to see behind it.
    pub largest_cache: u64,
}

impl Default for ProbeOptions {
    fn default() -> Self {
        Self { largest_cache: 1 << 30 }
    }
}

/// Measures what `source` stores, by writing to chosen places and putting back what stood there. What is touched is kept
/// in [`saved_path`] first, durable; a cancelled probe puts everything back before it returns, an interrupted one is
/// recognised by [`super::interrupted`].
///
/// # Errors
/// [`CoreError::Refused`] without the drive's code, after an interrupted probe, or while the drive is in use;
/// [`CoreError::File`] when what is touched cannot be kept: nothing was written then.
pub fn probe(
    source: &SharedSource,
    confirmation: &Confirmation,
    options: ProbeOptions,
    desk: &Desk<FathomProgress>,
) -> Result<Fathomed, CoreError> {
    let measured = probed(source, confirmation, options, desk);
    super::note_writing(source, Method::Probe, &measured);
    measured
}

fn probed(
    source: &SharedSource,
    confirmation: &Confirmation,
    options: ProbeOptions,
    desk: &Desk<FathomProgress>,
) -> Result<Fathomed, CoreError> {
    let leave = allowed(source, confirmation, Purpose::Probe)?;
    let path = saved_path(source.identity());
    not_on_its_own_medium(source.as_ref(), &path)?;
    let mut verdict = Fathomed::begun(source, Method::Probe);
    let mut bench = Bench::open(source, leave, Some(&path), desk)?;
    let measured = measure(&mut bench, options, &mut verdict);
    verdict.cancelled = matches!(measured, Ok(Err(_)));
    (verdict.unreadable, verdict.unwritable) = (listed(&bench.unreadable), listed(&bench.unwritable));
    let true_end = if verdict.nature.is_lie() { verdict.proven_bytes } else { source.len() };
    let took = bench.took();
    let before = source.elapsed();
    let restored = bench.restore(&path, true_end);
    let more = source.elapsed().zip(before).map_or(std::time::Duration::ZERO, |(now, before)| now.saturating_sub(before));
    verdict.took_ms = u64::try_from((took + more).as_millis()).unwrap_or(u64::MAX);
    measured?.ok();
    match restored {
        Ok(restored) => {
            if verdict.cancelled || verdict.nature.is_lie() {
                saved::set_aside(&path)?;
            }
            verdict.restored = Some(restored);
        }
        Err(error) => {
            verdict.restored = Some(Restored::default());
            verdict.reasons.push(format!("what was touched could not be put back ({error}); it is kept in {}", path.display()));
        }
    }
    Ok(verdict)
}

/// Puts back what an interrupted probe of `source` touched.
///
/// # Errors
/// [`CoreError::Refused`] without leave, [`CoreError::Nothing`] when none was interrupted; otherwise as restoring: [`CoreError::Saved`], [`CoreError::Source`].
pub fn restore_interrupted(
    source: &SharedSource,
    confirmation: &Confirmation,
    each: &mut dyn FnMut(u64, u64),
) -> Result<Restored, CoreError> {
    let path = super::interrupted(source.identity()).ok_or(CoreError::Nothing("no probe of this drive was interrupted"))?;
    if !saved::is_of(&path, source) {
        return Err(Refusal::OtherDrive { path }.into());
    }
    let leave = leave(source, confirmation, Purpose::PutBack)?;
    let restored = saved::restore(&mut || source.open_target(&leave), source.identity(), &path, source.len(), each)?;
    saved::set_aside(&path)?;
    case::note(source.as_ref(), "put back", &serde_json::json!({ "restored": restored, "file": path }));
    Ok(restored)
}

fn listed(ranges: &[ByteRange]) -> Vec<ByteRange> {
    let mut set = RangeSet::default();
    ranges.iter().for_each(|range| set.add(*range));
    set.ranges().iter().take(64).copied().collect()
}

/// Hands a cancellation on to the caller.
macro_rules! unless_cancelled {
    ($step:expr) => {
        match $step? {
            Ok(value) => value,
            Err(cancelled) => return Ok(Err(cancelled)),
        }
    };
}

fn measure(bench: &mut Bench<'_>, options: ProbeOptions, verdict: &mut Fathomed) -> Step<()> {
    let mut end = bench.len;
    let most_push = options.largest_cache.saturating_add(BEYOND);
    let mut known = Known { nature: Nature::Honest, stale: false, push: most_push, most_push };
    for lies in 0..=MOST_LIES {
        let evidence = unless_cancelled!(grid(bench, end, &mut known, &mut verdict.plot));
        let Some(bad) = evidence.least_bad.filter(|_| !bench.gave_up_writing() && evidence.own > 0) else {
            conclude(bench, verdict, &evidence, end, known.nature);
            if verdict.nature == Nature::Honest && bench.len < most_push {
                verdict.reasons.push(format!(
                    "the drive is smaller than the {most_push} bytes that empty the largest cache: one as large as what lies behind a true end could answer for it"
                ));
            }
            return Ok(Ok(()));
        };
        if lies == MOST_LIES {
            break;
        }
        let mut closed = None;
        let mut natures = natures_of(&evidence, known.stale);
        // What looks like one way of lying may be another: the first one that shows its lie again is the right one.
        while let (None, Some(nature)) = (closed, natures.pop()) {
            known.nature = nature;
            // Where all is one sector, the address written last holds its own tag and is none of its own all the same.
            let bad = match (nature, evidence.one_other) {
                (Nature::RepeatsLast, Some(Some(one))) => bad.min(one).min(evidence.least_odd().unwrap_or(bad)),
                _ => bad,
            };
            closed = unless_cancelled!(close_in(bench, &mut known, &evidence, bad, &mut verdict.plot));
        }
        verdict.reasons.push(format!(
            "byte {bad} {}",
            match evidence.odd.get(&bad) {
                Some(Seen::Other(other)) => format!("held what was written to byte {}", other.0),
                Some(Seen::Nothing) => "held nothing that was written".into(),
                _ => "is the same place as one before it".into(),
            }
        ));
        let Some((good, first_bad)) = closed else {
            verdict
                .reasons
                .push("closing in on the true end gave no answer that holds: the places answer differently each time".into());
            (verdict.nature, verdict.proven_bytes, verdict.sureness) = (known.nature, 0, Sureness::Weak);
            return Ok(Ok(()));
        };
        // The last sector of a drive that repeats it is overwritten by all behind it, and yet its own.
        end = if known.nature == Nature::RepeatsLast { first_bad + bench.sector } else { first_bad };
        verdict.exact = first_bad - good <= bench.sector;
        (verdict.nature, verdict.proven_bytes) = (known.nature, end);
        verdict.reasons.push(format!("byte {good} keeps what is written to it, byte {end} does not"));
    }
    Ok(Ok(()))
}

/// What the last round showed.
fn conclude(bench: &Bench<'_>, verdict: &mut Fathomed, evidence: &Evidence, end: u64, nature: Nature) {
    if nature.is_lie() {
        // Behind the true end a tag is some other place's that nothing overwrote.
        verdict.plot.retain(|point| point.seen != Seen::Own || point.at.0 < end);
        verdict.sureness = if verdict.exact { Sureness::Certain } else { Sureness::Strong };
        verdict
            .reasons
            .push(format!("{} below the true end kept what was written there", counted(evidence.own, "place", "places")));
        return;
    }
    verdict.proven_bytes =
        if evidence.unreadable + evidence.unwritable == 0 { end } else { (evidence.most_own + bench.sector).min(end) };
    verdict.sureness = Sureness::Strong;
    if evidence.own == 0 {
        (verdict.nature, verdict.proven_bytes) = (Nature::TakesNoWrites, 0);
        verdict.reasons.push("no place kept what was written to it, from the first sector on".into());
    } else if bench.gave_up_writing() || evidence.unwritable > 0 {
        verdict.nature = Nature::FailsWrites;
        verdict.reasons.push(format!("{} writes failed; what was written elsewhere is kept", bench.unwritable.len()));
    } else if evidence.unreadable > 0 || !bench.unreadable.is_empty() {
        verdict.nature = Nature::FailsReads;
        verdict.reasons.push(format!(
            "{} did not read; none held what was written to another",
            counted(bench.unreadable.len(), "place", "places")
        ));
    } else {
        (verdict.nature, verdict.exact) = (Nature::Honest, true);
        verdict.reasons.push(format!(
            "{} places over the whole drive kept what was written to them, the last sector among them",
            evidence.own
        ));
        verdict.reasons.push("a fill would write every sector; the probe writes to chosen ones".into());
    }
}

/// What is known of the drive while it is closed in on.
struct Known {
    nature: Nature,
    /// Behind its end the drive answers with what went over the link last.
    stale: bool,
    /// Bytes that push a tag out of its cache.
    push: u64,
    /// Bytes that push a tag out of any cache.
    most_push: u64,
}

impl Known {
    fn modulus(&self) -> Option<u64> {
        match self.nature {
            Nature::Wraps { modulus } => Some(modulus),
            _ => None,
        }
    }
}

/// One sector at each of `places`.
fn sectors(places: &[u64], sector: u64) -> Vec<ByteRange> {
    places.iter().map(|at| ByteRange::sized(ByteOffset(*at), sector)).collect()
}

/// Writes tags over the drive up to byte `end`, pushes them out of the cache, and reads them back.
fn grid(bench: &mut Bench<'_>, end: u64, known: &mut Known, plot: &mut Vec<PlotPoint>) -> Step<Evidence> {
    let step = (end / PLACES).next_power_of_two().clamp(PIECE, WIDEST);
    let window = ByteRange::sized(ByteOffset(0), step.min(end));
    let mut places: Vec<u64> = (1..end.div_ceil(step)).map(|index| index * step).filter(|at| at + bench.sector <= end).collect();
    let last = end.saturating_sub(bench.sector);
    if last >= window.end.0 && places.last() != Some(&last) {
        places.push(last);
    }
    let mut all = sectors(&places, bench.sector);
    bench.new_run();
    let push = if known.nature.is_lie() {
        all.push(window);
        // Behind a repeated last sector every write goes to that one.
        let high = (known.nature != Nature::RepeatsLast).then_some(end);
        let push = push_ranges(bench, known, high, end, &all);
        all.pop();
        push
    } else {
        let start = window.end.0;
        let stop = start.saturating_add(known.most_push);
        let mut push = vec![ByteRange::new(ByteOffset(start), ByteOffset(stop.min(bench.len)))];
        if stop > bench.len && start < bench.len {
            // The end of a small drive would stay in the cache: it is pushed out by a second pass over the first half.
            let half = (bench.len - start) / 2 / bench.sector * bench.sector;
            push.push(ByteRange::new(ByteOffset(start), ByteOffset(start + half)));
        }
        push
    };
    let windows = unless_cancelled!(bench.keep(&[window]));
    let mut points = unless_cancelled!(bench.keep(&all));
    let push = unless_cancelled!(bench.keep(&push));
    // From the last to the first: the lower address wins where two are one place.
    points.reverse();
    unless_cancelled!(put(bench, Phase::Write, &points, &windows, &push));
    points.reverse();
    // The window's sectors are many; the plot shows some of them.
    let few = (window.len() / 32).max(bench.sector) / bench.sector * bench.sector;
    let every = (places.len() as u64 / (MOST_POINTS as u64 / 2)).max(1);
    plot.retain(|point| point.at.0 >= end);
    let mut evidence = Evidence::default();
    let mut note = |at: ByteOffset, seen: Seen| {
        let shown = match at.0 {
            at if at < window.end.0 => at.is_multiple_of(few),
            // Evenly over the whole drive; the last sector always.
            at => (at / step).is_multiple_of(every) || at == last,
        };
        if shown {
            plot.push(PlotPoint { at, seen });
        }
        // What was written behind the known end may have come to lie here: that it is no place of its own is known.
        if !matches!(seen, Seen::Other(other) if other.0 >= end) {
            evidence.note(at, seen);
        }
    };
    unless_cancelled!(bench.read(&windows, None, Phase::Read, &mut note));
    unless_cancelled!(bench.read(&points, None, Phase::Read, &mut note));
    if evidence.others > 0 && !known.stale {
        known.stale = unless_cancelled!(bench.is_stale(&evidence));
    }
    if known.stale {
        evidence.least_bad =
            evidence.odd.iter().find(|(_, seen)| matches!(seen, Seen::Other(_) | Seen::Nothing)).map(|(at, _)| *at);
    }
    Ok(Ok(evidence))
}

/// Writes the tags of `first`, those of `then`, and pushes both out of the cache.
fn put(bench: &mut Bench<'_>, phase: Phase, first: &[ByteRange], then: &[ByteRange], push: &[ByteRange]) -> Step<()> {
    unless_cancelled!(bench.write(first, phase));
    unless_cancelled!(bench.write(then, phase));
    bench.flush()?;
    unless_cancelled!(bench.write(push, Phase::Push));
    bench.flush()?;
    Ok(Ok(()))
}

/// The ways of lying that the evidence speaks for, the likeliest last.
fn natures_of(evidence: &Evidence, stale: bool) -> Vec<Nature> {
    let wraps = Nature::Wraps { modulus: evidence.distance };
    match evidence.one_other {
        _ if stale || evidence.others == 0 => vec![Nature::Drops],
        Some(Some(one)) if evidence.repeats(one) => vec![wraps, Nature::RepeatsLast],
        Some(Some(_)) => vec![Nature::RepeatsLast, wraps],
        _ => vec![wraps],
    }
}

/// Closes in on the first address below `bad` that is no place of its own: the last good address and the first bad one.
/// `None` when `bad` does not show its lie again.
fn close_in(
    bench: &mut Bench<'_>,
    known: &mut Known,
    evidence: &Evidence,
    bad: u64,
    plot: &mut Vec<PlotPoint>,
) -> Step<Option<(u64, u64)>> {
    let mut shown = false;
    let most = known.most_push;
    for push in PUSHES.into_iter().filter(|push| *push < most).chain([most]) {
        known.push = push;
        let seen = unless_cancelled!(ask(bench, known, &[bad], bad));
        if is_bad(seen.first().copied()) {
            shown = true;
            break;
        }
    }
    if !shown {
        return Ok(Ok(None));
    }
    let sector = bench.sector;
    // What held its own tag may yet be one place with another, on a drive that wraps.
    let mut good = match known.nature {
        Nature::Wraps { .. } => 0,
        _ => evidence.highest_own_below(bad),
    };
    let mut first_bad = bad;
    while first_bad - good > sector {
        let room = (first_bad - good) / sector - 1;
        let few = known.modulus().map_or(ROUND, |modulus| (modulus / PIECE / 8).clamp(8, ROUND));
        let count = few.min(room);
        let mut places: Vec<u64> = (1..=count)
            .map(|index| {
                good + u64::try_from(u128::from(first_bad - good) * u128::from(index) / u128::from(count + 1)).unwrap_or(0)
                    / sector
                    * sector
            })
            .collect();
        places.retain(|at| *at > good && *at < first_bad);
        places.dedup();
        let seen = unless_cancelled!(ask(bench, known, &places, first_bad));
        let told: Vec<(u64, Seen)> = places.into_iter().zip(seen).collect();
        plot.extend(
            told.iter()
                .take(MOST_POINTS.saturating_sub(plot.len()))
                .map(|(at, seen)| PlotPoint { at: ByteOffset(*at), seen: *seen }),
        );
        let before = (good, first_bad);
        first_bad = told.iter().find(|(_, seen)| is_bad(Some(*seen))).map_or(first_bad, |(at, _)| *at);
        good = told.iter().filter(|(at, seen)| *at < first_bad && *seen == Seen::Own).map(|(at, _)| *at).max().unwrap_or(good);
        if (good, first_bad) == before {
            break;
        }
    }
    Ok(Ok(Some((good, first_bad))))
}

fn is_bad(seen: Option<Seen>) -> bool {
    matches!(seen, Some(Seen::Other(_) | Seen::Nothing))
}

/// Asks each of `places`, ascending, whether it is a place of its own: they are written, then those that would be the same
/// one, then they are pushed out of the cache and read. What cannot be told is unreadable. `bad` is known to be none.
fn ask(bench: &mut Bench<'_>, known: &Known, places: &[u64], bad: u64) -> Step<Vec<Seen>> {
    let sector = bench.sector;
    let mut rivals: Vec<u64> = Vec::new();
    for modulus in
        known.modulus().into_iter().flat_map(|whole| (1..=PARTS).map(move |part| whole / part * u64::from(whole % part == 0)))
    {
        if modulus >= sector && modulus % sector == 0 {
            rivals.extend(places.iter().map(|at| at % modulus));
        }
    }
    rivals.sort_unstable();
    rivals.dedup();
    // The tags of the places themselves must not be written once more.
    rivals.retain(|at| places.binary_search(at).is_err());
    if known.nature == Nature::RepeatsLast {
        rivals.push(bench.len - sector);
    }
    bench.new_run();
    let written = sectors(places, sector);
    let push = push_ranges(bench, known, Some(bad + sector), bad, &written);
    let mut free = unless_cancelled!(bench.keep(&written));
    let rivals = unless_cancelled!(bench.keep(&sectors(&rivals, sector)));
    let push = unless_cancelled!(bench.keep(&push));
    free.reverse();
    unless_cancelled!(put(bench, Phase::Close, &free, &rivals, &push));
    free.reverse();
    let mut pushed = RangeSet::default();
    push.iter().for_each(|range| pushed.add(*range));
    let wraps = known.modulus().is_some();
    let mut seen = vec![Seen::Unreadable; places.len()];
    let mut each = |at: ByteOffset, held: Seen| {
        // What pushed may have come to lie over a place of a drive that wraps in a way not known yet.
        let hidden = matches!(held, Seen::Other(other) if wraps && pushed.contains(other));
        if let Some(slot) = places.binary_search(&at.0).ok().and_then(|index| seen.get_mut(index)) {
            *slot = if hidden { Seen::Unreadable } else { held };
        }
    };
    let between = known.stale.then_some(0);
    unless_cancelled!(bench.read(&free, between, Phase::Close, &mut each));
    Ok(Ok(seen))
}

/// Ground to write for pushing: from `high` on first, where nothing is lost, then from the start up to `end`; never ground
/// that is, or may be, one place with what is asked.
fn push_ranges(bench: &Bench<'_>, known: &Known, high: Option<u64>, end: u64, asked: &[ByteRange]) -> Vec<ByteRange> {
    let modulus = known.modulus();
    let mut taboo = RangeSet::default();
    for range in asked {
        taboo.add(*range);
        if let Some(modulus) = modulus {
            let start = range.start.0 % modulus;
            taboo.add(ByteRange::sized(ByteOffset(start), range.len().min(modulus)));
        }
    }
    let (mut left, mut ranges) = (known.push, Vec::new());
    for (mut at, stop) in [(high.unwrap_or(bench.len), bench.len), (0, end.min(bench.len))] {
        while at < stop && left > 0 {
            let turn = modulus.map_or(u64::MAX, |modulus| (at / modulus + 1).saturating_mul(modulus));
            let piece_end = ((at / PIECE + 1) * PIECE).min(stop).min(turn);
            let shift = modulus.map_or(0, |modulus| at - at % modulus);
            let here = ByteRange::new(ByteOffset(at - shift), ByteOffset(piece_end - shift));
            for gap in taboo.lacking(here) {
                let gap = ByteRange::new(gap.start + shift, gap.end + shift);
                for gap in taboo.lacking(gap) {
                    let take = gap.len().min(left / bench.sector * bench.sector + bench.sector);
                    ranges.push(ByteRange::sized(gap.start, take));
                    left = left.saturating_sub(take);
                }
            }
            at = piece_end;
        }
    }
    ranges
}
