//! Copy: an image of a sick drive, sound parts first, around its bad places. A copy can be stopped, cancelled or killed at
//! any time and goes on where it was; what did not come over is unreadable in the copy, never zeros.

mod dest;
mod pass;
mod touched;
mod volumes;

pub use touched::{Touched, touched};

use std::path::{Path, PathBuf};
use std::time::Duration;

use keel_source::{ByteOffset, ByteRange, CopyState, SharedSource};
use serde::Serialize;

use crate::CoreError;
use crate::job::Desk;
use dest::Dest;
use pass::{Copier, Tally};

/// How long a drive that is off the link is waited for: time to look after the cable.
const LINK_WAIT: Duration = Duration::from_secs(600);

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
}

impl Default for CopyOptions {
    fn default() -> Self {
        Self { log: None, passes: Pass::USUAL.into(), again: 3, most_errors: None, most_time: None, link_wait: LINK_WAIT }
    }
}

/// How far a copy is.
#[derive(Debug, Clone, Copy)]
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
    let dest = Dest::open(source, path, options.log.as_deref())?;
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
