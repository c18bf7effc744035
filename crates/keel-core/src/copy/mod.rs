//! Copy: an image of a sick drive, sound parts first, around its bad places. A copy can be stopped, cancelled or killed at
//! any time and goes on where it was; what did not come over is unreadable in the copy, never zeros.

mod dest;
mod heads;
mod pass;
mod touched;
mod verify;
mod volumes;
mod writer;

pub use touched::{Touched, touched};
pub use verify::{CopyVerified, VerifyProgress, verify};

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use keel_source::{ByteOffset, ByteRange, CopyLog, CopyMap, CopyState, Identity, Masked, SettingsWanted, SharedSource};
use serde::Serialize;

use crate::CoreError;
use crate::ground::GroundMap;
use crate::job::Desk;
use crate::kernel_words::KernelWatch;
use crate::leave::Confirmation;
use crate::settings;
use dest::Dest;
use pass::{Copier, Tally};

/// How long a drive that is off the link is waited for: time to look after the cable.
const LINK_WAIT: Duration = Duration::from_secs(600);

/// The most words of the kernel that a copy leaves in the journal.
const MOST_WORDS: usize = 100;

/// One way over the drive. They run in this order, each over what the ones before it left.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Pass {
    /// What has to be read to list every file of every volume, then the ground that the volumes count as used.
    Volumes,
    /// Large reads; trouble and slowness are passed over in growing steps.
    Sound,
    /// From both sides into what was passed over, up to the first place that does not read.
    Edges,
    /// What lies between the edges, down to single sectors.
    Inner,
    /// Single sectors that failed, again and again, with all the others in between.
    Again,
}

impl Pass {
    /// All of them, in order.
    pub const ALL: [Self; 5] = [Self::Volumes, Self::Sound, Self::Edges, Self::Inner, Self::Again];
    /// Those that run unless it is asked for otherwise.
    pub const USUAL: [Self; 4] = [Self::Sound, Self::Edges, Self::Inner, Self::Again];

    /// The word shown to the technician.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Volumes => "what the volumes need",
            Self::Sound => "sound parts",
            Self::Edges => "edges",
            Self::Inner => "inner parts",
            Self::Again => "once more",
        }
    }
}

/// Parts of the picture that progress carries.
pub const COPY_PARTS: usize = 1536;

/// Bytes of a part of the picture of a drive of `total` bytes.
#[must_use]
pub fn part_bytes(total: u64) -> u64 {
    total.div_ceil(COPY_PARTS as u64).max(1)
}

/// The technician's hand on a copy that runs. Clones share it.
#[derive(Debug, Clone, Default)]
pub struct CopyControl {
    paused: Arc<AtomicBool>,
    skip: Arc<AtomicBool>,
}

impl CopyControl {
    /// Lets the copy rest before its next request, or go on.
    pub fn pause(&self, rest: bool) {
        self.paused.store(rest, Ordering::Relaxed);
    }

    /// True while it rests.
    #[must_use]
    pub fn is_paused(&self) -> bool {
        self.paused.load(Ordering::Relaxed)
    }

    /// Ends the pass that runs; the next one begins.
    pub fn skip_pass(&self) {
        self.skip.store(true, Ordering::Relaxed);
    }

    /// Whether the pass shall end; asked once.
    fn take_skip(&self) -> bool {
        self.skip.swap(false, Ordering::Relaxed)
    }
}

/// How to copy.
#[derive(Debug, Clone)]
pub struct CopyOptions {
    /// Where the log is kept; by default beside the copy.
    pub log: Option<PathBuf>,
    /// The passes to run.
    pub passes: Vec<Pass>,
    /// How often a sector that failed is asked for again.
    pub again: u32,
    /// Stop after this many reads that failed.
    pub most_errors: Option<u64>,
    /// Stop after this time, by the drive's own clock where it keeps one.
    pub most_time: Option<Duration>,
    /// How long a drive that is off the link is waited for.
    pub link_wait: Duration,
    /// Stop when the errors and sectors that the drive's health page counts grew by so many.
    pub most_grown: Option<u64>,
    /// Stop when the drive tells that it is so warm, in degrees Celsius.
    pub most_celsius: Option<i64>,
    /// How long the drive is left alone before a sector that failed is asked for again.
    pub rest: Duration,
    /// Whether bad bands that come back in even steps, as a dead head leaves them, are learnt and gone around.
    pub heads: bool,
    /// What the kernel reads the drive with while it is copied; put back afterwards.
    pub settings: SettingsWanted,
    /// The code of the destination, where that is a device.
    pub confirmation: Option<Confirmation>,
    /// The technician's hand on it.
    pub control: CopyControl,
}

impl Default for CopyOptions {
    fn default() -> Self {
        Self {
            log: None,
            passes: Pass::USUAL.into(),
            again: 3,
            most_errors: None,
            most_time: None,
            link_wait: LINK_WAIT,
            most_grown: None,
            most_celsius: None,
            rest: Duration::ZERO,
            heads: false,
            settings: SettingsWanted::default(),
            confirmation: None,
            control: CopyControl::default(),
        }
    }
}

/// How far a copy is.
#[derive(Debug, Clone)]
pub struct CopyProgress {
    /// The pass that runs.
    pub pass: Pass,
    /// Where the drive reads.
    pub at: ByteOffset,
    /// Bytes in the copy.
    pub copied: u64,
    /// Bytes of the drive.
    pub total: u64,
    /// Reads that failed so far.
    pub errors: u64,
    /// Times that the drive dropped off the link.
    pub link_drops: u64,
    /// Bytes per second over the last moments, by the drive's clock.
    pub rate: u64,
    /// How long the last request took, in microseconds.
    pub last_us: u64,
    /// What is usual for a large request of this drive, in microseconds.
    pub usual_us: u64,
    /// Bytes in each state, in the order of [`CopyState::ALL`].
    pub states: [u64; 5],
    /// The picture: bytes in each state for [`COPY_PARTS`] parts of the drive.
    pub parts: Arc<Vec<[u64; 5]>>,
    /// The longest request for any byte of each of the parts in this run, in microseconds by the drive's clock; 0 where it was not
    /// asked.
    pub slowest_us: Arc<Vec<u64>>,
    /// What the surface holds, as far as it came over.
    pub ground: Arc<GroundMap>,
}

/// Why a copy ended before its passes were through.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Stopped {
    /// The technician asked for it.
    Cancelled,
    /// As many reads failed as were allowed.
    Errors,
    /// The time that was allowed is over.
    Time,
    /// The drive went off the link and did not come back.
    Link,
    /// The drive came back, or answers, with another length: another drive, or one that lies.
    OtherLength,
    /// The drive's health page counts more and more.
    Health,
    /// The drive is too warm.
    Heat,
}

impl Stopped {
    /// In words, with what to do next.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Cancelled => "stopped; the same copy goes on from here",
            Self::Errors => "stopped after as many failed reads as were allowed; the same copy goes on",
            Self::Time => "stopped when the time was over; the same copy goes on",
            Self::Link => "the drive went off the link and did not come back: cable, port, power; the same copy goes on",
            Self::OtherLength => "the drive claims another length than before: check that it is the same one, then its capacity",
            Self::Heat => "stopped because the drive is too warm: let it cool, and cool it; the same copy goes on",
            Self::Health => "stopped because the drive's own page counts more and more errors; the same copy goes on",
        }
    }
}

/// What a copy came to.
#[derive(Debug, Clone, Serialize)]
pub struct Copied {
    /// Bytes of the drive.
    pub bytes: u64,
    /// Bytes in the copy.
    pub copied_bytes: u64,
    /// Bytes that failed when they were asked for by themselves.
    pub failed_bytes: u64,
    /// Everything that is not in the copy, joined.
    pub missing: Vec<ByteRange>,
    /// Reads that failed in this run.
    pub errors: u64,
    /// How often the drive dropped off the link and was waited for.
    pub link_drops: u64,
    /// Why it ended early.
    pub stopped: Option<Stopped>,
    /// True when it went on with an earlier run.
    pub resumed: bool,
    /// Where the log stands.
    pub log: PathBuf,
    /// How long this run took, by the drive's own clock where it keeps one.
    pub took_ms: u64,
}

/// Copies `source` to the image at `path`, or goes on with it. The copy is sparse: stretches of zeros and the holes of
/// `source` take no room. What the log says is in the copy was made durable before it was said.
///
/// # Errors
/// [`CoreError::Refused`] when `path` is the source, exists without a log, or its log is of another drive;
/// [`CoreError::File`] and [`CoreError::Source`] when copy or log cannot be written: both then stay as they are, and the
/// next run goes on from there. A place that does not read is no error.
pub fn copy(source: &SharedSource, path: &Path, options: &CopyOptions, desk: &Desk<CopyProgress>) -> Result<Copied, CoreError> {
    let mut watch = KernelWatch::begin(source);
    let copied = copied(source, path, options, desk);
    let detail = match &copied {
        Ok(copied) => {
            let mut kernel = watch.as_mut().map(KernelWatch::news).unwrap_or_default();
            kernel.truncate(MOST_WORDS);
            serde_json::json!({ "to": path, "copied": copied, "kernel": kernel })
        }
        // What was refused wrote nothing.
        Err(CoreError::Refused(_)) => return copied,
        Err(error) => serde_json::json!({ "to": path, "error": crate::chain(error) }),
    };
    crate::case::note(source.as_ref(), "copy", &detail);
    copied
}

fn copied(source: &SharedSource, path: &Path, options: &CopyOptions, desk: &Desk<CopyProgress>) -> Result<Copied, CoreError> {
    if let Some(saved) = crate::fathom::interrupted_of(source) {
        return Err(crate::Refusal::ProbeInterrupted { saved }.into());
    }
    let _held = settings::hold(source, options.settings)?;
    let dest = Dest::open(source, path, options)?;
    let (resumed, log) = (dest.resumed, dest.log_path.clone());
    let mut copier = Copier::new(source, dest, options, desk);
    if options.passes.contains(&Pass::Volumes) {
        copier = volumes::first(copier, desk.cancel())?;
    }
    let stopped = copier.run()?;
    let Tally { map, errors, link_drops, took } = copier.end()?;
    Ok(Copied {
        bytes: map.len(),
        copied_bytes: map.bytes(CopyState::Copied),
        failed_bytes: map.bytes(CopyState::Failed),
        missing: map.missing(),
        errors,
        link_drops,
        stopped,
        resumed,
        log,
        took_ms: u64::try_from(took.as_millis()).unwrap_or(u64::MAX),
    })
}

/// `source` with what is missing of it as unreadable places, where it is a device that a copy was written to.
///
/// # Errors
/// [`CoreError::Source`] when the log of that copy cannot be read: the device must not be taken for whole then.
pub fn as_copy(source: SharedSource) -> Result<SharedSource, CoreError> {
    let Some(log) = device_copy(source.identity()) else { return Ok(source) };
    let (head, map, hashes) = CopyLog::read_whole(&log)?;
    // Another card in the same reader calls itself alike.
    if verify::holds_another(source.as_ref(), &hashes) {
        return Ok(source);
    }
    let mut missing = map.missing();
    if head.bytes < source.len() {
        missing.push(ByteRange::new(ByteOffset(head.bytes), ByteOffset(source.len())));
    }
    Ok(Arc::new(Masked::new(source, missing, "the drive did not deliver this place when it was copied")))
}

/// The log of the copy that was written to the device `identity`.
fn device_copy(identity: &Identity) -> Option<PathBuf> {
    let is_device = identity.link == keel_source::LinkKind::BlockDevice;
    Some(dest::device_log(identity)).filter(|log| is_device && log.is_file())
}

/// The state of the copy of `source` at `path`; `None` where there is none yet, or where it holds something else than the drive:
/// another card in the same reader calls itself alike. Reads a few samples of both.
#[must_use]
pub fn known_of(path: &Path, source: &SharedSource) -> Option<CopyMap> {
    let map = known(path).filter(|map| map.len() == source.identity().bytes)?;
    let file = std::fs::File::open(path).ok()?;
    dest::is_of(&file, &map, source).then_some(map)
}

/// The state of the copy at `path`, by its log; `None` where there is none yet.
#[must_use]
pub fn known(path: &Path) -> Option<CopyMap> {
    let log = dest::log_of(path).ok().filter(|log| log.is_file())?;
    CopyLog::read(&log).ok().map(|(_, map)| map)
}
