//! Wipe: ground that is overwritten, read back, and vouched for. There is no way back, and it says so.

mod free;
mod pattern;
mod record;
mod work;

use std::path::PathBuf;

use keel_source::{ByteRange, RangeSet, SharedSource, SourceError, counted, size_decimal};
use serde::{Deserialize, Serialize};

pub use free::{Free, free};
pub use pattern::{Pattern, PatternWrong};
pub use record::{Record, place as record_place};
pub use work::wipe;

/// The words by which a wipe is armed.
pub const WORDS: &str = "overwrite it";
/// What overwriting does not reach, wherever it is done.
pub const BEYOND: &str = "Overwriting reaches the sectors that the drive shows. It does not reach sectors that the drive took out of use \
                          itself (remapped), spare cells of flash memory, and ground behind the end that the drive claims.";

/// How much is read back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Verify {
    /// Every sector.
    All,
    /// Both ends of the ground, and a thousand places spread over it.
    Sample,
    /// Nothing.
    None,
}

impl Verify {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::All => "every sector was read back",
            Self::Sample => "a sample was read back: both ends, and a thousand places spread evenly",
            Self::None => "nothing was read back",
        }
    }
}

/// What a wipe shall be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    /// The ground, in whole sectors.
    pub ground: RangeSet,
    /// What is written.
    pub pattern: Pattern,
    /// How much of it is read back.
    pub verify: Verify,
    /// True where the drive itself is asked for zeros, as far as it knows how: quicker, and no overwriting.
    pub by_device: bool,
    /// Where it is written down how far it is: what was cut off goes on from there.
    pub record: PathBuf,
}

impl Wanted {
    /// Why what is wanted does not go together, as half a sentence; none where it does.
    #[must_use]
    pub fn problem(&self) -> Option<&'static str> {
        (self.by_device && self.pattern != Pattern::Zeros)
            .then_some("a drive makes zeros by itself: another pattern has to be written")
    }
}

/// Part of a wipe.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Phase {
    /// The ground is written over.
    Overwrite,
    /// It is read back.
    Verify,
}

impl Phase {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Overwrite => "overwriting",
            Self::Verify => "reading back",
        }
    }
}

/// How far a wipe is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WipeProgress {
    /// What is done now.
    pub phase: Phase,
    /// Bytes done of this phase.
    pub done: u64,
    /// Bytes of this phase.
    pub total: u64,
    /// Where the drive works, in bytes.
    pub at: u64,
    /// Bytes per second, by the drive's clock.
    pub rate: u64,
    /// Bytes that failed so far.
    pub failed: u64,
}

/// Speed at a stretch of the ground.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pace {
    /// Its first byte.
    pub at: u64,
    /// Bytes that were written in it.
    pub bytes: u64,
    /// Microseconds that this took.
    pub micros: u64,
}

impl Pace {
    /// Bytes per second.
    #[must_use]
    pub fn rate(self) -> u64 {
        u64::try_from(u128::from(self.bytes) * 1_000_000 / u128::from(self.micros.max(1))).unwrap_or(u64::MAX)
    }
}

/// What stands at a place after the wipe.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sample {
    /// Its first byte.
    pub at: u64,
    /// Its length in bytes.
    pub bytes: u64,
    /// SHA-256 of what was read back, in hexadecimal.
    pub sha256: String,
}

/// What came of a wipe.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Wiped {
    /// Key of the drive's identity.
    pub drive: String,
    /// Bytes of the drive.
    pub drive_bytes: u64,
    /// Pieces of the ground.
    pub pieces: usize,
    /// The first of them.
    pub ground: Vec<ByteRange>,
    /// Bytes of the ground.
    pub bytes: u64,
    /// What was written, in words.
    pub pattern: String,
    /// Seed of random bytes, in hexadecimal.
    pub seed: Option<String>,
    /// How much was to be read back.
    pub verify: Verify,
    /// True where the drive itself was asked for zeros.
    pub by_device: bool,
    /// Bytes that were handed to the drive and taken.
    pub overwritten: u64,
    /// Bytes that the drive zeroed by itself when it was asked to.
    pub zeroed_by_device: u64,
    /// Bytes that were read back and are as they were written.
    pub verified: u64,
    /// Places that took no write.
    pub unwritable: Vec<ByteRange>,
    /// Places that do not read back.
    pub unreadable: Vec<ByteRange>,
    /// Places that read back otherwise than they were written.
    pub other: Vec<ByteRange>,
    /// What stands at some places now.
    pub samples: Vec<Sample>,
    /// Speed over the ground, while it was written.
    pub pace: Vec<Pace>,
    /// When it was begun, in UTC.
    pub begun: String,
    /// When it ended, or was stopped, in UTC.
    pub ended: String,
    /// Milliseconds that the work took, over all goes, by the drive's own clock where it keeps one.
    pub took_ms: u64,
    /// True when it was stopped before its end.
    pub cancelled: bool,
    /// Where it is written down.
    pub record: PathBuf,
}

impl Wiped {
    /// True when all of the ground was written over and nothing that was read back differs.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        !self.cancelled
            && self.unwritable.is_empty()
            && self.unreadable.is_empty()
            && self.other.is_empty()
            && self.overwritten + self.zeroed_by_device == self.bytes
    }

    /// Bytes that failed, in one way or another.
    #[must_use]
    pub fn failed(&self) -> u64 {
        let mut failed = RangeSet::default();
        [&self.unwritable, &self.unreadable, &self.other].into_iter().flatten().for_each(|range| failed.add(*range));
        failed.bytes()
    }

    /// What came of it, in a line.
    #[must_use]
    pub fn line(&self) -> String {
        let done = size_decimal(self.overwritten + self.zeroed_by_device);
        let of = size_decimal(self.bytes);
        match (self.cancelled, self.is_whole()) {
            (true, _) => format!("stopped: {done} of {of} are written over"),
            (_, true) if self.zeroed_by_device == self.bytes => {
                format!("the drive was asked for zeros on {of}, and says that it is done")
            }
            (_, true) => format!("{of} are written over"),
            _ => {
                let failed = size_decimal(self.failed());
                format!("{done} of {of} are written over; {failed} failed: what stood there may be readable still")
            }
        }
    }

    /// What was read back, in a line.
    #[must_use]
    pub fn verified_line(&self) -> String {
        if self.verified == 0 && self.verify == Verify::None {
            return "nothing was read back: that it stands so is not proven".into();
        }
        let share = 100.0 * self.verified as f64 / self.bytes.max(1) as f64;
        format!("{} were read back and are as they were written ({share:.1} % of the ground)", size_decimal(self.verified))
    }

    /// How it was done, in a line.
    #[must_use]
    pub fn method(&self) -> String {
        let seed = self.seed.as_ref().map_or(String::new(), |seed| format!(" (seed {seed})"));
        match (self.zeroed_by_device, self.overwritten) {
            (0, _) => format!("every sector was written over once with {}{seed}", self.pattern),
            (_, 0) => {
                "the drive itself was asked to make its sectors read zeros; they were not written over by this computer".into()
            }
            _ => format!(
                "the drive was asked for zeros; where it does not know how, sectors were written over once with {}",
                self.pattern
            ),
        }
    }
}

/// The bytes that are wrong with places, in words; empty where nothing is.
#[must_use]
pub fn troubles(wiped: &Wiped) -> Vec<String> {
    let of = |places: &[ByteRange], what: &str| {
        (!places.is_empty()).then(|| {
            let bytes: u64 = places.iter().map(|place| place.len()).sum();
            format!("{} ({}) {what}", counted(places.len(), "place", "places"), size_decimal(bytes))
        })
    };
    [
        of(&wiped.unwritable, "took no write"),
        of(&wiped.unreadable, "did not read back"),
        of(&wiped.other, "read back otherwise than they were written"),
    ]
    .into_iter()
    .flatten()
    .collect()
}

/// Why ground cannot be wiped.
#[derive(Debug, thiserror::Error)]
pub enum NotWiped {
    /// There is no such ground.
    #[error("{0}")]
    Ground(String),
    /// It is written down otherwise.
    #[error("{} tells of another overwriting ({what}): name another file", path.display())]
    OtherRecord {
        /// The file.
        path: PathBuf,
        /// What differs.
        what: String,
    },
    /// The words were not said.
    #[error("overwriting cannot be undone: say in words: {WORDS:?}")]
    Words,
}

/// The ground of `range`, where it lies on the drive in whole sectors.
///
/// # Errors
/// [`NotWiped::Ground`] with the reason.
pub fn ground_of(source: &SharedSource, range: ByteRange) -> Result<RangeSet, NotWiped> {
    let sector = source.sector_size().bytes();
    let wrong = |what: String| Err(NotWiped::Ground(what));
    if range.is_empty() {
        return wrong("the ground has no byte: nothing would be overwritten".into());
    }
    if range.end.0 > source.len() {
        return wrong(format!("byte {} lies behind the end of the drive ({} bytes)", range.end.0, source.len()));
    }
    // What a drive holds behind its last whole sector is none of it.
    if !range.start.0.is_multiple_of(sector) || !range.end.0.is_multiple_of(sector) && range.end.0 != source.len() {
        return wrong(format!("bytes {} to {} are no whole sectors of {sector} bytes", range.start.0, range.end.0));
    }
    let mut ground = RangeSet::default();
    ground.add(range);
    Ok(ground)
}

/// An error of the source as one that the work goes on after: it is about a place, and the drive is there still.
fn is_of_a_place(error: &SourceError) -> bool {
    matches!(error, SourceError::Write { .. })
}
