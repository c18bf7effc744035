//! The one error enum of this crate, and the outcome of a read that did not deliver everything.

use std::io;
use std::path::PathBuf;

use crate::{ByteOffset, ByteRange};

/// A read that could not deliver every byte. What is not listed in [`ReadError::bad`] was delivered.
#[derive(Debug, thiserror::Error)]
#[error("{} unreadable: {reason}", ranges(.bad))]
pub struct ReadError {
    /// The unreadable ranges, ascending, whole sectors where the source has sectors.
    pub bad: Vec<ByteRange>,
    /// Why, in the operating system's or the simulated drive's words.
    pub reason: String,
    /// What kind of failure it was.
    pub cause: ReadCause,
}

/// What kind of failure a read ended in: the rung of the ladder that it speaks of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ReadCause {
    /// A place on the medium does not read, or nobody knows better.
    Medium,
    /// The transfer failed, not the place: cable, port, interference. Asked again, it may well come.
    Interface,
    /// The drive did not answer at all: cable, port, power.
    LinkLost,
    /// The range lies behind the end of the source (also of one that shrank).
    PastEnd,
    /// Nothing was asked of the drive: the reader's budget is spent, or it was asked to stop.
    Stopped,
}

impl ReadError {
    /// A read error of one range, of the medium.
    #[must_use]
    pub fn of(range: ByteRange, reason: impl Into<String>) -> Self {
        Self { bad: vec![range], reason: reason.into(), cause: ReadCause::Medium }
    }

    /// The same error with another cause.
    #[must_use]
    pub fn because(self, cause: ReadCause) -> Self {
        Self { cause, ..self }
    }

    /// A read behind the end of the source.
    #[must_use]
    pub fn past_end(range: ByteRange) -> Self {
        Self::of(range, "behind the end of the source").because(ReadCause::PastEnd)
    }

    /// True when byte range `range` touches an unreadable place.
    #[must_use]
    pub fn touches(&self, range: ByteRange) -> bool {
        self.bad.iter().any(|bad| bad.overlap(range).is_some())
    }

    /// The same error with all ranges moved by `delta` bytes upwards and `minus` downwards.
    #[must_use]
    pub fn moved(mut self, plus: u64, minus: u64) -> Self {
        for range in &mut self.bad {
            range.start = ByteOffset((range.start + plus).0.saturating_sub(minus));
            range.end = ByteOffset((range.end + plus).0.saturating_sub(minus));
        }
        self
    }
}

fn ranges(bad: &[ByteRange]) -> String {
    let mut text: Vec<String> =
        bad.iter().take(4).map(|range| format!("bytes {} to {}", range.start.0, range.end.0.saturating_sub(1))).collect();
    if bad.len() > 4 {
        text.push(format!("{} more ranges", bad.len() - 4));
    }
    text.join(", ")
}

/// What can go wrong when a source is opened, locked or written.
#[derive(Debug, thiserror::Error)]
pub enum SourceError {
    /// The path could not be opened or asked.
    #[error("cannot open {}", path.display())]
    Open {
        /// The path as given.
        path: PathBuf,
        /// The operating system's reason.
        source: io::Error,
    },
    /// A device that this user may not open.
    #[error("{} is not for this user to open: run as root (sudo ykeel …), or become a member of the group `disk` and log in again", path.display())]
    NotAllowed {
        /// The path as given.
        path: PathBuf,
    },
    /// The path is a folder, a pipe or something else that has no bytes at positions.
    #[error("{} is {what}, not an image, a block device or a simulated drive", path.display())]
    NotASource {
        /// The path as given.
        path: PathBuf,
        /// What it is.
        what: &'static str,
    },
    /// Fewer bytes than one sector.
    #[error("{name} holds {bytes} bytes: less than one sector of {sector} bytes")]
    TooSmall {
        /// Name of the source.
        name: String,
        /// Its length in bytes.
        bytes: u64,
        /// The logical sector size in bytes.
        sector: u32,
    },
    /// A simulated drive's description does not fit the schema.
    #[error("{}, line {line}: {reason}", path.display())]
    Description {
        /// The `.drive.toml` file.
        path: PathBuf,
        /// Line, from 1.
        line: usize,
        /// What is wrong, with the key's name.
        reason: String,
    },
    /// The log of a copy could not be read or written.
    #[error("cannot {action} the copy's log {}", path.display())]
    Log {
        /// What was tried: `create`, `read`, `write`, `flush`.
        action: &'static str,
        /// The log.
        path: PathBuf,
        /// The operating system's reason.
        source: io::Error,
    },
    /// A file that should be the log of a copy and is none of a known version.
    #[error("{} is no log of a copy", path.display())]
    LogHead {
        /// The file.
        path: PathBuf,
    },
    /// A drive that is not there any more.
    #[error("{name} is not there any more")]
    Gone {
        /// Name of the source.
        name: String,
    },
    /// Another process holds the source.
    #[error("{name} is in use by another process that {holder}")]
    Locked {
        /// Name of the source.
        name: String,
        /// What the other one does.
        holder: &'static str,
    },
    /// The operating system uses the source.
    #[error("{name} is in use by this system: {how}")]
    Mounted {
        /// Name of the source.
        name: String,
        /// Mount point, swap or holder.
        how: String,
    },
    /// Leave to write is for another drive.
    #[error("{name} is not the drive that may be written")]
    NoLeave {
        /// Name of the source.
        name: String,
    },
    /// A reader without a card, or a drive without a disc.
    #[error("{} has no medium in it: put it in, and it is there", path.display())]
    NoMedium {
        /// The path.
        path: PathBuf,
    },
    /// A drive that does not let its end be set.
    #[error("the end of {name} was not set: {reason}")]
    NotSet {
        /// Name of the source.
        name: String,
        /// The drive's or the system's words.
        reason: String,
    },
    /// What stands under the path is not what was opened and looked at.
    #[error("{} is not any more what was looked at: {what}", path.display())]
    Replaced {
        /// The path.
        path: PathBuf,
        /// What is otherwise.
        what: &'static str,
    },
    /// This kind of source has no way to write.
    #[error("{name} cannot be written")]
    NotWritable {
        /// Name of the source.
        name: String,
    },
    /// A write or flush failed; the target takes no more writes until it is opened again.
    #[error("{action} failed at {at}: {reason}")]
    Write {
        /// `write`, `flush` or `read back`.
        action: &'static str,
        /// Position of the failure.
        at: ByteOffset,
        /// The reason.
        reason: String,
    },
    /// An argument that cannot be: a sector size that is no power of two.
    #[error("{0} is no sector size: a power of two from 512 to 65536 is")]
    SectorSize(u32),
}
