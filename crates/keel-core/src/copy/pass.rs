//! The passes of a copy.

use std::sync::Arc;
use std::time::{Duration, Instant};

use keel_source::{ByteOffset, ByteRange, CopyMap, CopyState, ReadCause, SharedSource};

use super::dest::Dest;
use super::heads::{Heads, Trouble};
use super::{COPY_PARTS, CopyOptions, CopyProgress, Pass, Stopped, part_bytes};
use crate::CoreError;
use crate::ground::{self, GroundMap};
use crate::job::Desk;

/// Bytes asked for at once while all is well.
const LARGE: u64 = 1 << 20;
/// Bytes asked for at once beside trouble.
const SMALL: u64 = 64 << 10;
/// The widest step over trouble.
const WIDEST: u64 = 256 << 20;
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
/// How long a resting copy sleeps between two looks.
const REST: Duration = Duration::from_millis(50);
/// How often the health page is asked, by the drive's clock.
const HEALTH_EVERY: Duration = Duration::from_secs(10);
/// How often the listener hears.
const TELL_EVERY: Duration = Duration::from_millis(100);

/// What came of one request that is asked until the link carries it.
enum Answer {
    Got(Got),
    Stopped(Stopped),
}

/// What the drive answered.
struct Got {
    /// Bytes delivered from its start, whole sectors.
    delivered: u64,
    whole: bool,
    slow: bool,
}

/// What a run came to.
pub(super) struct Tally {
    pub(super) map: CopyMap,
    pub(super) errors: u64,
    pub(super) link_drops: u64,
    pub(super) took: Duration,
}

/// A copy that runs.
pub(super) struct Copier {
    pub(super) source: SharedSource,
    dest: Dest,
    options: CopyOptions,
    desk: Desk<CopyProgress>,
    pass: Pass,
    /// What the sound parts begin with.
    pub(super) first: Vec<ByteRange>,
    /// Bytes of the smallest request while nothing is known to be bad: the drive's own sector.
    unit: u64,
    /// Bytes that can be lost by themselves: the logical sector.
    sector: u64,
    buf: Vec<u8>,
    copied: u64,
    errors: u64,
    link_drops: u64,
    /// The drive was waited for in vain, or is another one now.
    gone: Option<Stopped>,
    /// What the health page counted at the start, and when it was asked last.
    grown_from: Option<(u64, Duration)>,
    /// Copied bytes and the drive's time when the rate was taken last.
    rated: (u64, Duration, u64),
    last: Duration,
    /// The longest request of each part, in microseconds.
    slowest_us: Vec<u64>,
    /// What the surface holds.
    ground: GroundMap,
    /// Where the bands of a dead head come.
    heads: Heads,
    /// The pass that runs is to end.
    skipping: bool,
    usual: Duration,
    sound_reads: u32,
    started: Instant,
    clock_at_start: Duration,
    told: Option<Instant>,
}

/// A pass ends through, or stopped, or failed.
type Way = Result<Option<Stopped>, CoreError>;

/// Hands a stop on to the caller.
macro_rules! unless_stopped {
    ($way:expr) => {
        if let Some(stopped) = $way {
            return Ok(Some(stopped));
        }
    };
}

/// The answer, or the stop handed on to the caller.
macro_rules! answered {
    ($answer:expr) => {
        match $answer {
            Answer::Got(got) => got,
            Answer::Stopped(stopped) => return Ok(Some(stopped)),
        }
    };
}

/// Whole microseconds.
fn micros(time: Duration) -> u64 {
    u64::try_from(time.as_micros()).unwrap_or(u64::MAX)
}

impl Copier {
    pub(super) fn new(source: &SharedSource, dest: Dest, options: &CopyOptions, desk: &Desk<CopyProgress>) -> Self {
        let identity = source.identity();
        let unit = identity.logical_sector.bytes().max(identity.physical_sector.bytes());
        Self {
            source: SharedSource::clone(source),
            copied: dest.map.bytes(CopyState::Copied),
            dest,
            options: options.clone(),
            desk: desk.clone(),
            first: Vec::new(),
            pass: Pass::Sound,
            unit,
            sector: identity.logical_sector.bytes(),
            buf: vec![0; usize::try_from(LARGE.max(unit)).unwrap_or(0)],
            errors: 0,
            link_drops: 0,
            gone: None,
            grown_from: None,
            rated: (0, Duration::ZERO, 0),
            last: Duration::ZERO,
            slowest_us: vec![0; COPY_PARTS],
            ground: GroundMap::new(source.len()),
            heads: Heads::default(),
            skipping: false,
            usual: Duration::ZERO,
            sound_reads: 0,
            started: Instant::now(),
            clock_at_start: source.elapsed().unwrap_or_default(),
            told: None,
        }
    }

    /// Runs the passes that are asked for.
    pub(super) fn run(&mut self) -> Way {
        for pass in Pass::ALL {
            if !self.options.passes.contains(&pass) {
                continue;
            }
            self.pass = pass;
            self.skipping = false;
            let way = match pass {
                // What it takes was read before the passes began.
                Pass::Volumes => self.stop(),
                Pass::Sound => self.sound()?,
                Pass::Edges => self.edges()?,
                Pass::Inner => self.inner()?,
                Pass::Again => self.again()?,
            };
            if self.skipping {
                continue;
            }
            unless_stopped!(way);
        }
        Ok(None)
    }

    /// Makes everything durable, and tells what it came to.
    pub(super) fn end(mut self) -> Result<Tally, CoreError> {
        // The last word, so that a picture does not stay behind.
        self.told = None;
        self.tell(ByteOffset(self.source.len()));
        let took = self.took();
        // Where it cannot be kept, whoever reads the drive next sees it again.
        let _ = ground::keep(&self.source, &self.ground);
        Ok(Tally { map: self.dest.end()?, errors: self.errors, link_drops: self.link_drops, took })
    }

    fn took(&self) -> Duration {
        self.source.elapsed().map_or_else(|| self.started.elapsed(), |now| now.saturating_sub(self.clock_at_start))
    }

    /// Asked before every request: whether to go on.
    pub(super) fn stop(&mut self) -> Option<Stopped> {
        self.skipping |= self.options.control.take_skip();
        if self.skipping {
            // Ends the pass, and not the copy: the loop over the passes knows.
            Some(Stopped::Cancelled)
        } else if self.desk.cancel().is_cancelled() {
            Some(Stopped::Cancelled)
        } else if self.gone.is_some() {
            self.gone
        } else if self.options.most_errors.is_some_and(|most| self.errors >= most) {
            Some(Stopped::Errors)
        } else if self.options.most_time.is_some_and(|most| self.took() >= most) {
            Some(Stopped::Time)
        } else {
            None
        }
    }

    fn tell(&mut self, at: ByteOffset) {
        if self.told.is_some_and(|told| told.elapsed() < TELL_EVERY) {
            return;
        }
        self.told = Some(Instant::now());
        let now = self.took();
        let spent = now.saturating_sub(self.rated.1);
        // Over less than this, one large request would be the whole rate.
        if spent >= Duration::from_millis(400) {
            let bytes = self.copied.saturating_sub(self.rated.0);
            let rate = u64::try_from(u128::from(bytes) * 1_000_000 / spent.as_micros().max(1)).unwrap_or(u64::MAX);
            self.rated = (self.copied, now, rate);
        }
        let parts = self.dest.map.parts(COPY_PARTS);
        let mut states = [0; 5];
        for part in &parts {
            states.iter_mut().zip(part).for_each(|(all, bytes)| *all += bytes);
        }
        self.desk.tell(CopyProgress {
            pass: self.pass,
            at,
            copied: self.copied,
            total: self.source.len(),
            errors: self.errors,
            link_drops: self.link_drops,
            rate: self.rated.2,
            last_us: micros(self.last),
            usual_us: micros(self.usual),
            states,
            slowest_us: Arc::new(self.slowest_us.get(..parts.len()).unwrap_or_default().to_vec()),
            parts: Arc::new(parts),
            ground: Arc::new(self.ground.clone()),
        });
    }

    /// Rests while it is asked to, and looks after the drive's health page now and then.
    fn rest(&mut self) {
        while self.options.control.is_paused() && !self.desk.cancel().is_cancelled() {
            std::thread::sleep(REST);
        }
        if self.options.most_grown.is_none() && self.options.most_celsius.is_none() {
            return;
        }
        let now = self.took();
        if self.grown_from.is_some_and(|(_, asked)| now.saturating_sub(asked) < HEALTH_EVERY) {
            return;
        }
        let Ok(verdict) = crate::health::ask(self.source.as_ref()) else { return };
        let most = self.options.most_grown.unwrap_or(u64::MAX);
        if self.options.most_celsius.is_some_and(|most| verdict.celsius().is_some_and(|celsius| celsius >= most)) {
            self.gone = Some(Stopped::Heat);
        }
        let count = verdict.media_count();
        let from = self.grown_from.map_or(count, |(from, _)| from);
        self.grown_from = Some((from, now));
        if count.saturating_sub(from) >= most {
            self.gone = Some(Stopped::Health);
        }
    }

    /// Reads for somebody who looks into the drive while it is copied: from the copy where it is there, else from the drive,
    /// once, and into the copy. `Err` for the ranges that neither has.
    pub(super) fn read_through(&mut self, wanted: ByteRange, buf: &mut [u8]) -> Result<Vec<ByteRange>, CoreError> {
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

    /// Makes durable what is known, so that the copy can be looked into.
    pub(super) fn flush(&mut self) -> Result<(), CoreError> {
        self.dest.flush()
    }

    /// Sets the pass that is told of.
    pub(super) fn set_pass(&mut self, pass: Pass) {
        self.pass = pass;
    }

    /// Asks once for `range`, at most [`LARGE`] bytes, and keeps what is delivered. A drive that is off the link is waited
    /// for; what it was asked for stays as it is.
    fn ask(&mut self, range: ByteRange) -> Result<Answer, CoreError> {
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
    fn leave_alone(&self) {
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

    fn sound(&mut self) -> Way {
        for wanted in std::mem::take(&mut self.first).into_iter().chain([ByteRange::sized(ByteOffset(0), u64::MAX)]) {
            let mut at = wanted.start;
            while let Some((state, end)) = self.dest.map.at(at).filter(|_| at < wanted.end) {
                if state == CopyState::Untried {
                    unless_stopped!(self.sound_in(ByteRange::new(at, end.min(wanted.end)))?);
                }
                at = end;
            }
        }
        Ok(None)
    }

    fn sound_in(&mut self, range: ByteRange) -> Way {
        let widest = (range.len() / 64).clamp(LARGE, WIDEST) / LARGE * LARGE;
        let (mut at, mut step, mut data) = (range.start, LARGE, ByteRange::new(range.start, range.start));
        let mut around = None;
        while at < range.end {
            unless_stopped!(self.stop());
            if at >= data.end {
                // What the source knows to be a hole is one in the copy, too.
                data = self.source.next_data(at).unwrap_or(ByteRange::new(range.end, range.end));
                let hole = ByteRange::new(at, data.start.clamp(at, range.end));
                self.dest.hole(hole)?;
                self.ground.see_hole(hole);
                self.copied += hole.len();
                at = hole.end;
                continue;
            }
            let band = self.heads.next(at);
            if let Some(band) = band.filter(|band| band.start <= at) {
                // Gone around: the passes behind this one look into it.
                let over = ByteRange::new(at, band.end.min(range.end));
                self.dest.set_state(over, CopyState::PassedOver)?;
                (at, around) = (over.end, Some(over));
                continue;
            }
            let until = band.map_or(range.end, |band| band.start.min(range.end));
            let piece = ByteRange::new(at, data.end.min(until).min(at + LARGE));
            let got = answered!(self.ask(piece)?);
            at = at + got.delivered;
            if got.whole && !got.slow {
                step = (step / 2).max(LARGE);
                continue;
            }
            if self.options.heads && !got.whole {
                let trouble = self.heads.trouble(at, around);
                if trouble == Trouble::Early {
                    self.heads.begins(at);
                    continue;
                }
                let behind = match self.far_side(ByteRange::new(at, range.end))? {
                    Ok(behind) => behind,
                    Err(stopped) => return Ok(Some(stopped)),
                };
                match trouble {
                    Trouble::Late => self.heads.ends(behind),
                    _ if self.heads.next(at).is_some() => self.heads.forget(),
                    _ if behind < range.end => self.heads.note(ByteRange::new(at, behind)),
                    _ => {}
                }
                at = behind;
                continue;
            }
            let over = ByteRange::new(at, (piece.end + step).min(range.end));
            self.dest.set_state(over, CopyState::PassedOver)?;
            at = over.end;
            step = (step * 2).min(widest);
        }
        Ok(None)
    }

    /// Finds the other side of the bad band that `range` begins with, to within a small request: where to go on.
    fn far_side(&mut self, range: ByteRange) -> Result<Result<ByteOffset, Stopped>, CoreError> {
        let unit = self.unit;
        let one = |at: ByteOffset| ByteRange::new(at, range.end.min(at + unit));
        // The last place that failed, and the first behind it that came.
        let (mut bad, mut good, mut step) = (range.start, range.end, SMALL);
        while let Some(at) = bad.checked_add(step).filter(|at| *at < good) {
            if let Some(stopped) = self.stop() {
                return Ok(Err(stopped));
            }
            match self.ask(one(ByteOffset(at.0 / unit * unit)))? {
                Answer::Stopped(stopped) => return Ok(Err(stopped)),
                Answer::Got(got) if got.whole => good = at,
                Answer::Got(_) => bad = at,
            }
            // Outwards until a place comes, then inwards.
            step = if good == range.end { (step * 2).min(WIDEST) } else { ((good - bad) / 2).max(SMALL) };
            if good - bad <= SMALL {
                break;
            }
        }
        self.dest.set_state(ByteRange::new(range.start, good), CopyState::PassedOver)?;
        Ok(Ok(good))
    }

    fn edges(&mut self) -> Way {
        for range in self.dest.map.ranges(&[CopyState::PassedOver]) {
            let (mut start, mut end) = (range.start, range.end);
            while start < end {
                unless_stopped!(self.stop());
                let got = answered!(self.ask(ByteRange::new(start, end.min(start + SMALL)))?);
                start = start + got.delivered;
                if !got.whole {
                    break;
                }
            }
            while start < end {
                unless_stopped!(self.stop());
                let piece = ByteRange::new(start.max(ByteOffset(end.0.saturating_sub(SMALL))), end);
                let got = answered!(self.ask(piece)?);
                if got.whole {
                    end = piece.start;
                    continue;
                }
                self.dest.set_state(ByteRange::new(piece.start + got.delivered, end), CopyState::Inner)?;
                end = piece.start;
                break;
            }
            self.dest.set_state(ByteRange::new(start, end), CopyState::Inner)?;
        }
        Ok(None)
    }

    fn inner(&mut self) -> Way {
        // Without the pass before it, what was passed over is gone through here.
        let (mut near, mut far) = (Vec::new(), Vec::new());
        for range in self.dest.map.ranges(&[CopyState::Inner, CopyState::PassedOver]) {
            if range.len() <= 2 * SMALL {
                near.push(range);
                continue;
            }
            // Sound sectors lie beside the edges; the middle of a large place is most likely lost.
            let (left, right) = (range.start + SMALL, ByteOffset(range.end.0 - SMALL));
            near.extend([ByteRange::new(range.start, left), ByteRange::new(right, range.end)]);
            far.push(ByteRange::new(left, right));
        }
        for range in near.into_iter().chain(far) {
            let (mut at, mut step) = (range.start, self.unit);
            while at < range.end {
                unless_stopped!(self.stop());
                let piece = ByteRange::new(at, range.end.min(at + step));
                let got = answered!(self.ask(piece)?);
                at = at + got.delivered;
                if got.whole {
                    step = (step * 2).min(SMALL.max(self.unit));
                    continue;
                }
                if piece.len() <= self.unit {
                    unless_stopped!(self.singly(ByteRange::new(at, piece.end))?);
                    at = piece.end;
                }
                step = self.unit;
            }
        }
        Ok(None)
    }

    /// Asks for each logical sector of `range`, which did not come at once: a drive whose own sectors are larger may hold some of them,
    /// as what could not be written there whole.
    fn singly(&mut self, range: ByteRange) -> Way {
        let mut at = range.start;
        while at < range.end {
            unless_stopped!(self.stop());
            let piece = ByteRange::new(at, range.end.min(at + self.sector));
            if piece == range || !answered!(self.ask(piece)?).whole {
                self.dest.set_state(piece, CopyState::Failed)?;
            }
            at = piece.end;
        }
        Ok(None)
    }

    fn again(&mut self) -> Way {
        for turn in 0..self.options.again {
            let mut failed = self.dest.map.ranges(&[CopyState::Failed]);
            // The other way round each time: some heads find a place from one side only.
            if turn % 2 == 0 {
                failed.reverse();
            }
            for range in failed {
                let sectors = range.len().div_ceil(self.sector);
                for index in 0..sectors {
                    let index = if turn % 2 == 0 { sectors - 1 - index } else { index };
                    let start = range.start + index * self.sector;
                    self.leave_alone();
                    unless_stopped!(self.stop());
                    answered!(self.ask(ByteRange::new(start, range.end.min(start + self.sector)))?);
                }
            }
        }
        Ok(None)
    }
}
