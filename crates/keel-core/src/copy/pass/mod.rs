//! The passes of a copy: what they share, and when they end. `ask` asks the drive, `ways` are the ways over it.

mod ask;
mod ways;

use std::sync::Arc;
use std::time::{Duration, Instant};

use keel_source::{ByteOffset, ByteRange, CopyMap, CopyState, SharedSource};

use super::dest::Dest;
use super::heads::Heads;
use super::{COPY_PARTS, CopyOptions, CopyProgress, Pass, Stopped};
use crate::CoreError;
use crate::ground::{self, GroundMap};
use crate::job::Desk;

/// Bytes asked for at once while all is well.
const LARGE: u64 = 1 << 20;
/// How long a resting copy sleeps between two looks.
const REST: Duration = Duration::from_millis(50);
/// How often the health page is asked, by the drive's clock.
const HEALTH_EVERY: Duration = Duration::from_secs(10);
/// How often the listener hears.
const TELL_EVERY: Duration = Duration::from_millis(100);

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
use unless_stopped;

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

    /// Makes durable what is known, so that the copy can be looked into.
    pub(super) fn flush(&mut self) -> Result<(), CoreError> {
        self.dest.flush()
    }

    /// Sets the pass that is told of.
    pub(super) fn set_pass(&mut self, pass: Pass) {
        self.pass = pass;
    }
}
