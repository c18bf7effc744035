//! The fill: every sector is written and read back. It destroys what is on the drive.

use keel_source::{ByteOffset, ByteRange, RangeSet, SharedSource, counted};

use super::bench::{Bench, Evidence, Step};
use super::{FathomProgress, Fathomed, Method, Nature, Pace, Phase, PlotPoint, Seen, Sureness, allowed};
use crate::CoreError;
use crate::job::Desk;
use crate::leave::{Confirmation, Purpose};

/// Parts of the surface whose speed is told apart.
const PARTS: u64 = 256;
/// What is written once more before reading, so that the last writes leave the drive's cache.
const PUSH: u64 = (1 << 30) + (32 << 20);
/// Points that the plot keeps.
const MOST_POINTS: u64 = 2000;

/// Writes tags to every sector of `source` and reads all of them back. **Everything on the drive is lost.**
///
/// # Errors
/// [`CoreError::Refused`] without the drive's code or while the drive is in use; [`CoreError::Source`] when it does not open
/// for writing.
pub fn fill(source: &SharedSource, confirmation: &Confirmation, desk: &Desk<FathomProgress>) -> Result<Fathomed, CoreError> {
    let measured = filled(source, confirmation, desk);
    super::note_writing(source, Method::Fill, &measured);
    measured
}

fn filled(source: &SharedSource, confirmation: &Confirmation, desk: &Desk<FathomProgress>) -> Result<Fathomed, CoreError> {
    let leave = allowed(source, confirmation, Purpose::Fill)?;
    let mut verdict = Fathomed::begun(source, Method::Fill);
    let mut bench = Bench::open(source, leave, None, desk)?;
    verdict.cancelled = run(&mut bench, &mut verdict)?.is_err();
    verdict.took_ms = u64::try_from(bench.took().as_millis()).unwrap_or(u64::MAX);
    let listed = |ranges: &[ByteRange]| {
        let mut set = RangeSet::default();
        ranges.iter().for_each(|range| set.add(*range));
        set.ranges().iter().take(64).copied().collect()
    };
    (verdict.unreadable, verdict.unwritable) = (listed(&bench.unreadable), listed(&bench.unwritable));
    Ok(verdict)
}

fn rate(bytes: u64, before: std::time::Duration, now: std::time::Duration) -> u64 {
    let micros = now.saturating_sub(before).as_micros().max(1);
    u64::try_from(u128::from(bytes) * 1_000_000 / micros).unwrap_or(u64::MAX)
}

fn run(bench: &mut Bench<'_>, verdict: &mut Fathomed) -> Step<()> {
    let step = (bench.len / PARTS).max(bench.sector).div_ceil(bench.sector) * bench.sector;
    let parts: Vec<ByteRange> = (0..bench.len.div_ceil(step))
        .map(|index| ByteRange::new(ByteOffset(index * step), ByteOffset(((index + 1) * step).min(bench.len))))
        .collect();
    for part in &parts {
        let before = bench.took();
        if let Err(cancelled) = bench.write(&[*part], Phase::Write)? {
            return Ok(Err(cancelled));
        }
        verdict.pace.push(Pace { at: part.start, write: rate(part.len(), before, bench.took()), read: 0 });
        if bench.tell(Phase::Write, part.start.0, part.end.0, bench.len) {
            return Ok(Err(super::bench::Cancelled));
        }
    }
    bench.flush()?;
    // The same tags to the same places: only what the cache holds of the last ones has to go.
    if let Err(cancelled) = bench.write(&[ByteRange::sized(ByteOffset(0), PUSH.min(bench.len))], Phase::Push)? {
        return Ok(Err(cancelled));
    }
    bench.flush()?;
    let (mut evidence, mut held) = (Evidence::default(), Held::new(bench.sector));
    let every = (bench.len / MOST_POINTS).max(bench.sector) / bench.sector * bench.sector;
    for (index, part) in parts.iter().enumerate() {
        let before = bench.took();
        let plot = &mut verdict.plot;
        let mut each = |at: ByteOffset, seen: Seen| {
            evidence.note(at, seen);
            held.note(at, seen);
            if at.0.is_multiple_of(every) {
                plot.push(PlotPoint { at, seen });
            }
        };
        if let Err(cancelled) = bench.read(&[*part], None, Phase::Read, &mut each)? {
            return Ok(Err(cancelled));
        }
        if let Some(pace) = verdict.pace.get_mut(index) {
            pace.read = rate(part.len(), before, bench.took());
        }
        if bench.tell(Phase::Read, part.start.0, part.end.0, bench.len) {
            return Ok(Err(super::bench::Cancelled));
        }
    }
    let stale = match if evidence.others > 0 { bench.is_stale(&evidence)? } else { Ok(false) } {
        Ok(stale) => stale,
        Err(cancelled) => return Ok(Err(cancelled)),
    };
    conclude(bench, verdict, &evidence, held, stale);
    Ok(Ok(()))
}

/// Which tags were read at all: each storage place holds one, so that together they are what the drive stores.
struct Held {
    tags: RangeSet,
    /// A run of tags that follow one another: mostly there is just one.
    run: ByteRange,
    sector: u64,
}

impl Held {
    fn new(sector: u64) -> Self {
        Self { tags: RangeSet::default(), run: ByteRange::sized(ByteOffset(0), 0), sector }
    }

    fn note(&mut self, at: ByteOffset, seen: Seen) {
        let tag = match seen {
            Seen::Own => at,
            Seen::Other(other) => other,
            _ => return,
        };
        if tag == self.run.end {
            self.run.end = self.run.end + self.sector;
        } else if !self.run.contains(tag) {
            self.tags.add(self.run);
            self.run = ByteRange::sized(tag, self.sector);
        }
    }

    /// Bytes that hold something of their own.
    fn bytes(mut self) -> u64 {
        self.tags.add(self.run);
        self.tags.bytes()
    }
}

fn conclude(bench: &Bench<'_>, verdict: &mut Fathomed, evidence: &Evidence, held: Held, stale: bool) {
    let stored = held.bytes();
    verdict.sureness = Sureness::Certain;
    verdict.reasons.push(format!("every sector was written and read back: {} held their own tag", evidence.own));
    if bench.gave_up_writing() {
        (verdict.nature, verdict.proven_bytes) =
            if evidence.own == 0 { (Nature::TakesNoWrites, 0) } else { (Nature::FailsWrites, stored) };
        verdict.reasons.push(format!(
            "{} took no write, and the drive was left alone then",
            counted(bench.unwritable.len(), "place", "places")
        ));
        return;
    }
    if evidence.others + evidence.nothings == 0 {
        verdict.exact = true;
        (verdict.nature, verdict.proven_bytes) = match (evidence.unwritable, evidence.unreadable) {
            (0, 0) => (Nature::Honest, bench.len),
            (0, _) => (Nature::FailsReads, bench.len),
            _ => (Nature::FailsWrites, bench.len),
        };
        let lost = (evidence.unreadable + evidence.unwritable) * bench.sector;
        if lost > 0 {
            verdict.reasons.push(format!("{lost} bytes did not come back; no sector held what was written to another"));
        }
        return;
    }
    if evidence.own == 0 && evidence.others == 0 {
        (verdict.nature, verdict.proven_bytes) = (Nature::TakesNoWrites, 0);
        return;
    }
    verdict.nature = match (evidence.others, evidence.one_other) {
        (0, _) => Nature::Drops,
        // What is read after another sector and is its content is the link's, not the place's.
        _ if stale => Nature::Drops,
        (_, Some(Some(_))) => Nature::RepeatsLast,
        _ => Nature::Wraps { modulus: evidence.distance },
    };
    (verdict.proven_bytes, verdict.exact) = (stored, evidence.unreadable + evidence.unwritable == 0);
    verdict.reasons.push(format!(
        "{} sectors held what was written elsewhere, {} nothing that was written",
        evidence.others, evidence.nothings
    ));
    verdict.reasons.push(format!("all that was read is {stored} different bytes: that many the drive stores"));
}
