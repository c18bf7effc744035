//! Asking the drive: once each time, until the link carries it.

use std::time::{Duration, Instant};

use keel_source::{ByteOffset, ByteRange, CopyState, ReadCause};

use super::super::{COPY_PARTS, Pass, Stopped, part_bytes};
use super::{Copier, LARGE, REST, micros};
use crate::CoreError;

/// A read is slow that takes this many times the usual…
const SLOW_TIMES: u32 = 10;
/// …and at least this long: below it, waiting costs more than it spares the drive.
const SLOW_LEAST: Duration = Duration::from_millis(250);
/// Sound reads before the usual time is known.
const KNOWN_AFTER: u32 = 8;
/// Reads that may fail within one request of somebody who looks into the drive: the passes come back to the rest.
const MOST_TRIES: u32 = 3;
/// How long a drive that is off the link is left alone between two requests.
const LINK_PAUSE: Duration = Duration::from_millis(500);
/// What came of one request that is asked until the link carries it.
pub(super) enum Answer {
    Got(Got),
    Stopped(Stopped),
}

/// What the drive answered.
pub(super) struct Got {
    /// Bytes delivered from its start, whole sectors.
    pub(super) delivered: u64,
    pub(super) whole: bool,
    pub(super) slow: bool,
}

impl Copier {
    /// Reads for somebody who looks into the drive while it is copied: from the copy where it is there, else from the drive,
    /// once, and into the copy. `Err` for the ranges that neither has.
    pub(in crate::copy) fn read_through(&mut self, wanted: ByteRange, buf: &mut [u8]) -> Result<Vec<ByteRange>, CoreError> {
        let (mut at, mut errors, mut bad) = (wanted.start, 0, Vec::new());
        while at < wanted.end {
            let (state, end) = self.dest.map.at(at).unwrap_or((CopyState::Failed, wanted.end));
            let piece = ByteRange::new(at, end.min(wanted.end));
            let inside = usize::try_from(at - wanted.start).unwrap_or(0);
            let slot = buf.get_mut(inside..inside + usize::try_from(piece.len()).unwrap_or(0)).unwrap_or_default();
            at = match state {
                CopyState::Copied => {
                    self.dest.read(piece.start, slot)?;
                    piece.end
                }
                CopyState::Untried if errors < MOST_TRIES && self.stop().is_none() => {
                    let (unit, len) = (self.unit, self.source.len());
                    let behind = |at: u64| ByteOffset((at / unit + 1).saturating_mul(unit).min(len));
                    let start = ByteOffset(at.0 / unit * unit);
                    let asked = ByteRange::new(start, behind(piece.end.0.saturating_sub(1)).min(start + LARGE.max(unit)));
                    let Answer::Got(got) = self.ask(asked)? else {
                        errors = MOST_TRIES;
                        continue;
                    };
                    if !got.whole {
                        errors += 1;
                        let from = (asked.start + got.delivered).max(at);
                        self.dest.set_state(ByteRange::new(from, behind(from.0)), CopyState::Failed)?;
                    }
                    // What came is in the copy now and looked at again; a map that takes no more must not hold us.
                    if self.dest.map.at(at).is_some_and(|(state, _)| state != CopyState::Untried) {
                        continue;
                    }
                    slot.fill(0);
                    bad.push(piece);
                    piece.end
                }
                _ => {
                    slot.fill(0);
                    bad.push(piece);
                    piece.end
                }
            };
        }
        Ok(bad)
    }

    /// Asks once for `range`, at most [`LARGE`] bytes, and keeps what is delivered. A drive that is off the link is waited
    /// for; what it was asked for stays as it is.
    pub(super) fn ask(&mut self, range: ByteRange) -> Result<Answer, CoreError> {
        self.tell(range.start);
        self.rest();
        let mut buf = std::mem::take(&mut self.buf);
        let piece = buf.get_mut(..usize::try_from(range.len()).unwrap_or(0)).unwrap_or_default();
        let mut gone_since = None;
        let (read, took) = loop {
            let before = self.took();
            let read = self.source.read_once(range.start, piece);
            if !read.as_ref().is_err_and(|error| error.cause == ReadCause::LinkLost) {
                break (read, self.took().saturating_sub(before));
            }
            if let Some(stopped) = self.wait(&mut gone_since) {
                self.buf = buf;
                return Ok(Answer::Stopped(stopped));
            }
        };
        self.note_time(range, took);
        if read.as_ref().is_err_and(|error| error.cause == ReadCause::PastEnd) {
            self.buf = buf;
            self.gone = Some(Stopped::OtherLength);
            return Ok(Answer::Stopped(Stopped::OtherLength));
        }
        let sector = self.sector;
        let delivered = match &read {
            Ok(()) => range.len(),
            Err(error) => {
                self.errors += 1;
                let first = error.bad.iter().map(|bad| bad.start).min().unwrap_or(range.start).max(range.start);
                (first - range.start) / sector * sector
            }
        };
        self.ground.see(range.start, buf.get(..usize::try_from(delivered).unwrap_or(0)).unwrap_or_default());
        if delivered < range.len() {
            self.ground.fail(ByteRange::sized(range.start + delivered, sector));
        }
        self.buf = self.dest.write(range.start, buf, usize::try_from(delivered).unwrap_or(0))?;
        self.copied += delivered;
        let slow = self.is_slow(took, read.is_ok());
        Ok(Answer::Got(Got { delivered, whole: read.is_ok(), slow }))
    }

    /// Leaves the drive alone for as long as it is to be before a further try. A virtual clock does not wait for us.
    pub(super) fn leave_alone(&self) {
        let begun = Instant::now();
        while self.source.elapsed().is_none() && begun.elapsed() < self.options.rest && !self.desk.cancel().is_cancelled() {
            std::thread::sleep(REST.min(self.options.rest));
        }
    }

    /// Keeps how long the request for `range` took, with the parts of the drive that it asked for.
    fn note_time(&mut self, range: ByteRange, took: Duration) {
        self.last = took;
        self.ground.time(range, micros(took));
        let part = |at: u64| usize::try_from(at / part_bytes(self.source.len())).unwrap_or(usize::MAX);
        let (first, last) = (part(range.start.0), part(range.end.0.saturating_sub(1)));
        for slowest in self.slowest_us.get_mut(first..=last.min(COPY_PARTS - 1)).unwrap_or_default() {
            // 0 says that the part was not asked.
            *slowest = (*slowest).max(micros(took).max(1));
        }
    }

    /// Waits a moment for a drive that is off the link since `gone_since`; a stop when that was long enough.
    fn wait(&mut self, gone_since: &mut Option<Duration>) -> Option<Stopped> {
        let now = self.took();
        let since = *gone_since.get_or_insert_with(|| {
            self.link_drops += 1;
            now
        });
        if now.saturating_sub(since) >= self.options.link_wait {
            self.gone = Some(Stopped::Link);
            return self.stop();
        }
        // It may be back under another name of the system, and as another drive.
        if let Ok(found) = self.source.look_up_anew() {
            if found.len() == self.source.len() && found.identity().key() == self.source.identity().key() {
                self.source = found;
            } else if found.identity().serial == self.source.identity().serial {
                self.gone = Some(Stopped::OtherLength);
            }
        }
        // A virtual clock does not wait for us.
        if self.source.elapsed().is_none() {
            std::thread::sleep(LINK_PAUSE);
        }
        self.stop()
    }

    /// Whether a read of [`LARGE`] bytes was slow, by what is usual for this drive.
    fn is_slow(&mut self, took: Duration, whole: bool) -> bool {
        let slow = self.sound_reads >= KNOWN_AFTER && took >= SLOW_LEAST && took > self.usual * SLOW_TIMES;
        if whole && !slow && self.pass == Pass::Sound {
            self.sound_reads = self.sound_reads.saturating_add(1);
            // A running mean over the last reads: a drive is slower inside than outside.
            self.usual = if self.sound_reads == 1 { took } else { (self.usual * 7 + took) / 8 };
        }
        slow
    }
}
