//! The work: ground written over at the drive's own rate, and read back.

use std::time::{Duration, Instant};

use crossbeam_channel::bounded;
use keel_source::{ByteOffset, ByteRange, PageBuf, SharedSource, WriteTarget};
use sha2::{Digest, Sha256};

use super::record::{Line, Record};
use super::{NotWiped, Pace, Pattern, Phase, Sample, Verify, WORDS, Wanted, WipeProgress, Wiped, is_of_a_place};
use crate::case;
use crate::error::CoreError;
use crate::job::Desk;
use crate::leave::{Confirmation, Purpose, Reopened, leave};

/// Bytes that are written or read at once.
const PIECE: u64 = 4 << 20;
/// Buffers between the making of bytes and their writing.
const BUFFERS: usize = 2;
/// Bytes that are asked of the drive itself at once.
const ASKED: u64 = 1 << 30;
/// What at most is written again after a power loss, in bytes and in time.
const FLUSH_BYTES: u64 = 8 << 30;
const FLUSH_EVERY: Duration = Duration::from_secs(20);
/// Sectors in a row that fail before only one of so many is asked.
const MOST_IN_A_ROW: usize = 16;
/// Pieces in a row of which not one sector works before the drive is left alone.
const MOST_DEAD: usize = 8;
/// How often the listener hears.
const TELL_EVERY: Duration = Duration::from_millis(100);
/// Parts of the ground whose speed is told apart.
const PARTS: u64 = 256;
/// Places of a sample, and bytes of each.
const SAMPLES: u64 = 1000;
const SAMPLE_BYTES: u64 = 64 << 10;
/// Bytes at either end of the ground that belong to every sample.
const END_BYTES: u64 = 1 << 20;
/// Places whose hashes are kept.
const HASHES: u64 = 16;
/// Places that a result lists.
const MOST_LISTED: usize = 256;

/// Writes over the ground that is wanted. **There is no way back.**
///
/// # Errors
/// [`CoreError::Refused`] without the drive's code, while the drive is in use or something waits to be put back; [`CoreError::Wipe`]
/// without the words, and where the record is another one's; [`CoreError::Source`] when the drive goes away.
pub fn wipe(
    source: &SharedSource,
    (confirmation, words): (&Confirmation, &str),
    (wanted, anew): (&Wanted, bool),
    desk: &Desk<WipeProgress>,
) -> Result<Wiped, CoreError> {
    if wanted.ground.bytes() == 0 {
        return Err(NotWiped::Ground("the ground has no byte: nothing would be overwritten".into()).into());
    }
    if words.trim() != WORDS {
        return Err(NotWiped::Words.into());
    }
    let leave = leave(source, confirmation, Purpose::Wipe)?;
    let target = Reopened::open(source, leave)?;
    crate::whose::not_on_its_own_medium(source.as_ref(), &wanted.record)?;
    let record = Record::open(source, wanted, anew)?;
    let mut work = Work {
        source,
        target,
        record,
        wanted,
        desk,
        begun: Instant::now(),
        clock: source.elapsed().unwrap_or_default(),
        told: None,
        phase: (Phase::Overwrite, Duration::ZERO, 0),
    };
    let done = work.run();
    let wiped = work.result(done.as_ref().is_ok_and(|stopped| *stopped));
    match &done {
        Ok(_) => case::note(source.as_ref(), "wipe", &noted(&wiped)),
        Err(error) => {
            case::note(source.as_ref(), "wipe", &serde_json::json!({ "error": crate::chain(error), "so_far": noted(&wiped) }));
        }
    }
    done.map(|_| wiped)
}

/// What the journal keeps of it.
fn noted(wiped: &Wiped) -> serde_json::Value {
    serde_json::json!({
        "line": wiped.line(), "method": wiped.method(), "bytes": wiped.bytes, "overwritten": wiped.overwritten,
        "zeroed_by_device": wiped.zeroed_by_device, "verified": wiped.verified, "failed": wiped.failed(), "cancelled": wiped.cancelled,
    })
}

/// True where the work was stopped.
type Stopped = bool;

struct Work<'a> {
    source: &'a SharedSource,
    target: Reopened,
    record: Record,
    wanted: &'a Wanted,
    desk: &'a Desk<WipeProgress>,
    begun: Instant,
    clock: Duration,
    told: Option<Instant>,
    /// The phase, when it began, and what was done of it by then.
    phase: (Phase, Duration, u64),
}

impl Work<'_> {
    fn took(&self) -> Duration {
        self.source.elapsed().map_or_else(|| self.begun.elapsed(), |now| now.saturating_sub(self.clock))
    }

    fn run(&mut self) -> Result<Stopped, CoreError> {
        let ended = self.overwrite().and_then(|stopped| if stopped { Ok(true) } else { self.verify() });
        let took = u64::try_from(self.took().as_millis()).unwrap_or(u64::MAX);
        self.record.note(Line::Took(took));
        if matches!(ended, Ok(false)) {
            self.record.note(Line::Ended(case::now()));
        }
        self.record.flush()?;
        ended
    }

    fn target(&mut self) -> Result<&mut dyn WriteTarget, CoreError> {
        self.target.target()
    }

    /// Tells how far it is; true when the work shall stop.
    fn tell(&mut self, phase: Phase, at: u64, (done, total): (u64, u64)) -> Stopped {
        if self.phase.0 != phase || self.told.is_none() {
            self.phase = (phase, self.took(), done);
        }
        if self.told.is_none_or(|told| told.elapsed() >= TELL_EVERY) {
            self.told = Some(Instant::now());
            let micros = self.took().saturating_sub(self.phase.1).as_micros().max(1);
            let rate = u128::from(done - self.phase.2.min(done)) * 1_000_000 / micros;
            let failed = self.record.unwritable.bytes() + self.record.unreadable.bytes() + self.record.other.bytes();
            let rate = u64::try_from(rate).unwrap_or(u64::MAX);
            self.desk.tell(WipeProgress { phase, done, total, at, rate, failed });
        }
        self.desk.cancel().is_cancelled()
    }

    /// The ground in pieces on their own borders, as far as `left` names it.
    fn pieces(&self, left: impl Fn(&Record, ByteRange) -> Vec<ByteRange>, piece: u64) -> Vec<ByteRange> {
        let ground = self.wanted.ground.ranges().iter();
        ground.flat_map(|range| left(&self.record, *range)).flat_map(|range| cut(range, piece)).collect()
    }

    fn overwrite(&mut self) -> Result<Stopped, CoreError> {
        if self.wanted.by_device && self.ask_device()? {
            return Ok(true);
        }
        let total = self.wanted.ground.bytes();
        let pieces = self.pieces(Record::to_write, PIECE);
        let mut done = total - pieces.iter().map(|piece| piece.len()).sum::<u64>().min(total);
        let step = (total / PARTS).max(PIECE);
        let (mut pace, mut dead) = (Pace { at: pieces.first().map_or(0, |piece| piece.start.0), bytes: 0, micros: 0 }, 0);
        let (mut written, mut since, mut flushed) = (Vec::new(), 0, Instant::now());
        let pattern = self.record.pattern().clone();
        let ended = std::thread::scope(|scope| {
            // One buffer is made while the other is written.
            let (full, filled) = bounded::<(ByteRange, PageBuf)>(BUFFERS);
            let (give_back, empty) = bounded::<PageBuf>(BUFFERS);
            for _ in 0..BUFFERS {
                let _ = give_back.send(PageBuf::new(usize::try_from(PIECE).unwrap_or(0)));
            }
            let (made, of) = (&pieces, &pattern);
            scope.spawn(move || {
                for piece in made {
                    let Ok(mut buf) = empty.recv() else { return };
                    // A new buffer holds zeros, and nothing else is put into it.
                    if *of != Pattern::Zeros {
                        of.fill(piece.start.0, part(&mut buf, piece.len()));
                    }
                    if full.send((*piece, buf)).is_err() {
                        return;
                    }
                }
            });
            for (piece, mut buf) in filled {
                if self.tell(Phase::Overwrite, piece.start.0, (done, total)) {
                    return Ok(true);
                }
                let before = self.took();
                let worked = self.write(piece, part(&mut buf, piece.len()), &mut written)?;
                let _ = give_back.send(buf);
                dead = if worked { 0 } else { dead + 1 };
                if dead >= MOST_DEAD {
                    return Ok(false);
                }
                pace.micros += u64::try_from(self.took().saturating_sub(before).as_micros()).unwrap_or(u64::MAX);
                pace.bytes += piece.len();
                done += piece.len();
                since += piece.len();
                if pace.bytes >= step {
                    self.record.note(Line::Pace(pace));
                    pace = Pace { at: piece.end.0, bytes: 0, micros: 0 };
                }
                if since >= FLUSH_BYTES || flushed.elapsed() >= FLUSH_EVERY {
                    self.durable(&mut written)?;
                    (since, flushed) = (0, Instant::now());
                }
            }
            Ok(false)
        });
        if pace.bytes > 0 {
            self.record.note(Line::Pace(pace));
        }
        if ended.is_ok() {
            self.durable(&mut written)?;
        }
        if dead >= MOST_DEAD {
            // What was not tried took no write: nothing is said of it that was not seen.
            for range in self.pieces(Record::to_write, u64::MAX) {
                self.record.note(Line::Unwritable(range.start.0, range.end.0));
            }
            self.record.flush()?;
        }
        ended
    }

    /// Asks the drive itself for zeros, as far as it knows how.
    fn ask_device(&mut self) -> Result<Stopped, CoreError> {
        let total = self.wanted.ground.bytes();
        let pieces = self.pieces(Record::to_write, ASKED);
        let mut done = total - pieces.iter().map(|piece| piece.len()).sum::<u64>().min(total);
        for piece in pieces {
            if self.tell(Phase::Overwrite, piece.start.0, (done, total)) {
                return Ok(true);
            }
            match self.target()?.zero_itself(piece.start, piece.len()) {
                Ok(true) => {
                    self.target()?.flush()?;
                    self.record.note(Line::Zeroed(piece.start.0, piece.end.0));
                    self.record.flush()?;
                    done += piece.len();
                }
                // It does not know how: what is left is written.
                Ok(false) => return Ok(false),
                Err(error) if is_of_a_place(&error) => {
                    self.target.let_go();
                    return Ok(false);
                }
                Err(error) => return Err(error.into()),
            }
        }
        Ok(false)
    }

    /// Writes a piece; around a place that fails its sectors are written one by one. True when any of them was taken.
    fn write(&mut self, piece: ByteRange, bytes: &[u8], written: &mut Vec<ByteRange>) -> Result<bool, CoreError> {
        match self.target()?.write_direct(piece.start, bytes) {
            Ok(()) => {
                written.push(piece);
                return Ok(true);
            }
            Err(error) if is_of_a_place(&error) => self.target.let_go(),
            Err(error) => return Err(error.into()),
        }
        let sector = self.source.sector_size().bytes() as usize;
        let count = bytes.len().div_ceil(sector);
        let (mut worked, mut in_a_row, mut next) = (false, 0, 0);
        while next < count {
            if in_a_row < MOST_IN_A_ROW {
                let took = self.write_sector(piece, bytes, next, written)?;
                (worked, in_a_row) = (worked || took, if took { 0 } else { in_a_row + 1 });
                next += 1;
                continue;
            }
            // Of many that fail one behind the other only some are asked, until one works; then all before it.
            let probe = (next + MOST_IN_A_ROW - 1).min(count - 1);
            if self.write_sector(piece, bytes, probe, written)? {
                for index in next..probe {
                    self.write_sector(piece, bytes, index, written)?;
                }
                (worked, in_a_row) = (true, 0);
            } else {
                let at = |index: usize| piece.start.0 + (index * sector) as u64;
                self.record.note(Line::Unwritable(at(next), at(probe)));
            }
            next = probe + 1;
        }
        Ok(worked)
    }

    /// Writes sector `index` of a piece; false where it takes no write.
    fn write_sector(
        &mut self,
        piece: ByteRange,
        bytes: &[u8],
        index: usize,
        written: &mut Vec<ByteRange>,
    ) -> Result<bool, CoreError> {
        let sector = self.source.sector_size().bytes() as usize;
        let Some(bytes) = bytes.chunks(sector).nth(index) else { return Ok(false) };
        let range = ByteRange::sized(piece.start + (index * sector) as u64, bytes.len() as u64);
        match self.target()?.write_at(range.start, bytes) {
            Ok(()) => {
                written.push(range);
                Ok(true)
            }
            Err(error) if is_of_a_place(&error) => {
                self.target.let_go();
                self.record.note(Line::Unwritable(range.start.0, range.end.0));
                Ok(false)
            }
            Err(error) => Err(error.into()),
        }
    }

    /// Makes what was written durable, and says so in the record.
    fn durable(&mut self, written: &mut Vec<ByteRange>) -> Result<(), CoreError> {
        let flushed = self.target()?.flush();
        match flushed {
            Ok(()) => {}
            // What a drive did not keep is found when it is read back; it counts as written no more than what failed.
            Err(error) if is_of_a_place(&error) => {
                self.target.let_go();
                for range in written.drain(..) {
                    self.record.note(Line::Unwritable(range.start.0, range.end.0));
                }
            }
            Err(error) => return Err(error.into()),
        }
        let mut all = keel_source::RangeSet::default();
        written.drain(..).for_each(|range| all.add(range));
        all.ranges().iter().for_each(|range| self.record.note(Line::Written(range.start.0, range.end.0)));
        self.record.flush()
    }

    /// The places that are read back.
    fn asked_for(&self) -> Vec<ByteRange> {
        if self.wanted.verify == Verify::None {
            return Vec::new();
        }
        if self.wanted.verify == Verify::All || self.wanted.ground.bytes() <= 2 * END_BYTES + SAMPLES * SAMPLE_BYTES {
            return self.pieces(Record::to_verify, PIECE);
        }
        let ground = self.wanted.ground.bytes();
        let mut sample = keel_source::RangeSet::default();
        let sector = self.source.sector_size().bytes();
        let ends = [(0, END_BYTES), (ground - END_BYTES, END_BYTES)];
        let spread = (0..SAMPLES).map(|number| (spread(ground, number) / sector * sector, SAMPLE_BYTES));
        for (at, bytes) in ends.into_iter().chain(spread) {
            within(self.wanted.ground.ranges(), at, bytes).into_iter().for_each(|range| sample.add(range));
        }
        let left = sample.ranges().iter().flat_map(|range| self.record.to_verify(*range));
        left.flat_map(|range| cut(range, PIECE)).collect()
    }

    fn verify(&mut self) -> Result<Stopped, CoreError> {
        let pieces = self.asked_for();
        if pieces.is_empty() {
            return Ok(false);
        }
        // What is compared comes from the drive, not from the system's memory.
        self.target()?.forget();
        let total: u64 = pieces.iter().map(|piece| piece.len()).sum();
        let (mut done, mut dead, mut flushed) = (0, 0, Instant::now());
        let [mut buf, mut wanted] = [(); 2].map(|()| PageBuf::new(usize::try_from(PIECE).unwrap_or(0)));
        let pattern = self.record.pattern().clone();
        for piece in pieces {
            if self.tell(Phase::Verify, piece.start.0, (done, total)) {
                self.record.flush()?;
                return Ok(true);
            }
            let (read, meant) = (part(&mut buf, piece.len()), part(&mut wanted, piece.len()));
            pattern.fill(piece.start.0, meant);
            if self.record.zeroed.contains(piece.start) {
                meant.fill(0);
            }
            dead = if self.compare(piece, read, meant)? { 0 } else { dead + 1 };
            if dead >= MOST_DEAD {
                let left = self.asked_for();
                left.iter().for_each(|range| self.record.note(Line::Unreadable(range.start.0, range.end.0)));
                break;
            }
            done += piece.len();
            if flushed.elapsed() >= FLUSH_EVERY {
                self.record.flush()?;
                flushed = Instant::now();
            }
        }
        self.hash_some()?;
        self.record.flush()?;
        Ok(false)
    }

    /// Reads a piece and compares it; true when any of it was read.
    fn compare(&mut self, piece: ByteRange, read: &mut [u8], meant: &[u8]) -> Result<bool, CoreError> {
        let sound = match self.target()?.read_direct(piece.start, read) {
            Ok(()) => true,
            Err(error) if is_of_a_place(&error) => false,
            Err(error) => return Err(error.into()),
        };
        if sound && read == meant {
            self.record.note(Line::Verified(piece.start.0, piece.end.0));
            return Ok(true);
        }
        let sector = self.source.sector_size().bytes() as usize;
        let (mut worked, mut in_a_row) = (sound, 0);
        let mut sets = [keel_source::RangeSet::default(), keel_source::RangeSet::default(), keel_source::RangeSet::default()];
        let sectors = (piece.start.0..).step_by(sector).zip(read.chunks_mut(sector).zip(meant.chunks(sector)));
        for (at, (read, meant)) in sectors {
            let range = ByteRange::sized(ByteOffset(at), meant.len() as u64);
            let reads = sound || (in_a_row < MOST_IN_A_ROW && self.target()?.read_back(range.start, read).is_ok());
            in_a_row = if reads { 0 } else { in_a_row + 1 };
            worked |= reads;
            let [same, unreadable, other] = &mut sets;
            match (reads, read == meant) {
                (false, _) => unreadable.add(range),
                (true, true) => same.add(range),
                (true, false) => other.add(range),
            }
        }
        let lines: [fn(u64, u64) -> Line; 3] = [Line::Verified, Line::Unreadable, Line::Other];
        for (set, line) in sets.iter().zip(lines) {
            set.ranges().iter().for_each(|range| self.record.note(line(range.start.0, range.end.0)));
        }
        Ok(worked)
    }

    /// Keeps hashes of what stands at some places, for whoever wants to look later.
    fn hash_some(&mut self) -> Result<(), CoreError> {
        let ground = self.wanted.ground.bytes();
        let sector = self.source.sector_size().bytes();
        for number in 0..HASHES {
            let at = ground / HASHES * number / sector * sector;
            let Some(range) = within(self.wanted.ground.ranges(), at, SAMPLE_BYTES).first().copied() else { continue };
            let mut bytes = vec![0; usize::try_from(range.len()).unwrap_or(0)];
            if self.target()?.read_back(range.start, &mut bytes).is_ok() {
                let sha256 = Sha256::digest(&bytes).iter().map(|byte| format!("{byte:02x}")).collect();
                self.record.note(Line::Sample(Sample { at: range.start.0, bytes: range.len(), sha256 }));
            }
        }
        Ok(())
    }

    fn result(&self, cancelled: bool) -> Wiped {
        let (record, wanted) = (&self.record, self.wanted);
        let first = |ranges: &[ByteRange]| ranges.iter().take(MOST_LISTED).copied().collect();
        let seed = match record.pattern() {
            Pattern::Random(seed) => Some(format!("{seed:016x}")),
            _ => None,
        };
        Wiped {
            drive: self.source.identity().key(),
            drive_bytes: self.source.len(),
            pieces: wanted.ground.ranges().len(),
            ground: first(wanted.ground.ranges()),
            bytes: wanted.ground.bytes(),
            pattern: record.pattern().words(),
            seed,
            verify: wanted.verify,
            by_device: wanted.by_device,
            overwritten: record.written.bytes(),
            zeroed_by_device: record.zeroed.bytes(),
            verified: record.verified.bytes(),
            unwritable: first(record.unwritable.ranges()),
            unreadable: first(record.unreadable.ranges()),
            other: first(record.other.ranges()),
            samples: record.samples.clone(),
            pace: record.pace.clone(),
            begun: record.begun().into(),
            ended: record.ended().map_or_else(case::now, Into::into),
            took_ms: record.took_ms,
            cancelled,
            record: wanted.record.clone(),
        }
    }
}

/// The first `bytes` of a buffer.
fn part(buf: &mut PageBuf, bytes: u64) -> &mut [u8] {
    buf.get_mut(..usize::try_from(bytes).unwrap_or(0)).unwrap_or_default()
}

/// `range` in pieces of at most `piece` bytes, on borders of their own.
fn cut(range: ByteRange, piece: u64) -> impl Iterator<Item = ByteRange> {
    let mut at = range.start;
    std::iter::from_fn(move || {
        let border = (at.0 / piece + 1).saturating_mul(piece);
        let end = ByteOffset(border).min(range.end);
        let one = ByteRange::new(at, end);
        at = end;
        (!one.is_empty()).then_some(one)
    })
}

/// Byte `number` of the sample's places within ground of `ground` bytes: one in each of as many equal parts, not always at its start.
fn spread(ground: u64, number: u64) -> u64 {
    let part = ground / SAMPLES;
    let shift = number.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 32;
    part * number + shift % part.saturating_sub(SAMPLE_BYTES).max(1)
}

/// The drive's bytes of the ground's bytes `at` to `at + bytes`.
fn within(ground: &[ByteRange], mut at: u64, mut bytes: u64) -> Vec<ByteRange> {
    let mut found = Vec::new();
    for range in ground {
        if at >= range.len() {
            at -= range.len();
            continue;
        }
        let count = bytes.min(range.len() - at);
        found.push(ByteRange::sized(range.start + at, count));
        (at, bytes) = (0, bytes - count);
        if bytes == 0 {
            break;
        }
    }
    found
}
