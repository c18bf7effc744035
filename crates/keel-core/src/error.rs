//! The one error enum of this crate.

use std::io;
use std::path::PathBuf;

use keel_format::FormatError;
use keel_source::{ByteOffset, SourceError};

/// What can go wrong in a stage.
#[derive(Debug, thiserror::Error)]
pub enum CoreError {
    /// A source could not be opened, locked or written.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// A structure on the drive could not be read.
    #[error(transparent)]
    Format(#[from] FormatError),
    /// A file of ours could not be read or written.
    #[error("cannot {action} {}", path.display())]
    File {
        /// What was tried: `read`, `create`, `write`, `flush`.
        action: &'static str,
        /// The path.
        path: PathBuf,
        /// The reason.
        source: io::Error,
    },
    /// A safety rule stands against it.
    #[error("refused: {0}")]
    Refused(#[from] Refusal),
    /// Ground that cannot be wiped.
    #[error(transparent)]
    Wipe(#[from] crate::wipe::NotWiped),
    /// An undo bundle that is none, or damaged.
    #[error("{} is no sound undo bundle: {reason}", path.display())]
    Bundle {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        reason: &'static str,
    },
    /// A file of what a probe touched that is none, damaged, or of another drive.
    #[error("{} does not hold what a probe touched: {reason}", path.display())]
    Saved {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        reason: &'static str,
    },
    /// A case that is none, or damaged.
    #[error("{} is no sound case: {reason}", path.display())]
    Case {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        reason: String,
    },
    /// There is nothing to do, or no way to do it.
    #[error("{0}")]
    Nothing(&'static str),
    /// Files that would not fit where they shall go.
    #[error("{wanted} bytes are wanted and {} has {free} left: nothing was taken out", path.display())]
    NoRoom {
        /// The folder.
        path: PathBuf,
        /// Bytes of the files.
        wanted: u64,
        /// Bytes that are free there.
        free: u64,
    },
    /// A name that stands for nothing: a volume, find or path that is not there.
    #[error("there is no {what} {name}")]
    Unknown {
        /// `volume`, `find`, `path`.
        what: &'static str,
        /// The name as given.
        name: String,
    },
}

/// A safety rule that stands against a change.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// The drive's bytes are not those the plan was staged on.
    #[error("the drive changed since the plan was staged ({at}): stage it again")]
    Changed {
        /// The first range that differs.
        at: ByteOffset,
    },
    /// The confirmation code is wrong or missing.
    #[error("the confirmation code of this drive was not given (it is shown with the plan)")]
    Code,
    /// `--yes` on a block device.
    #[error("a block device wants its confirmation code; --yes is for images and simulated drives")]
    CodeWanted,
    /// What an edit replaces cannot be read, so it could not be put back.
    #[error("{at} cannot be read, so what stands there could not be put back: save a repaired copy instead")]
    Unsaved {
        /// The unreadable place.
        at: ByteOffset,
    },
    /// The drive fails reads and there is no copy.
    #[error("the drive has unreadable places and no copy of it is known: copy it first, or say in words: {words:?}")]
    NoCopy {
        /// The words that override the rule.
        words: &'static str,
    },
    /// Something would be lost, and nobody gave it up.
    #[error("what is on the drive would be lost, or the drive is not sound: say in words: {words:?}")]
    NotGivenUp {
        /// The words.
        words: &'static str,
    },
    /// The drive would be worse off than it is.
    #[error("the plan would lower what stands now: {what}")]
    Lowers {
        /// The first rung that would.
        what: String,
    },
    /// An apply was interrupted and has to be finished or rolled back first.
    #[error("an earlier apply was interrupted: finish it or roll it back first with the bundle {}", bundle.display())]
    Interrupted {
        /// Its undo bundle.
        bundle: PathBuf,
    },
    /// A probe was interrupted and what it touched has to be put back first.
    #[error("an earlier probe was interrupted: put back what it touched first (ykeel fathom SOURCE --restore); it is kept in {}", saved.display())]
    ProbeInterrupted {
        /// What it touched.
        saved: PathBuf,
    },
    /// A fill without the drive's code.
    #[error("a fill overwrites everything on the drive: it wants the drive's confirmation code, never --yes")]
    FillCode,
    /// Something that a drive keeps for good, without the code for that.
    #[error("what the drive keeps for good wants the code that is shown for it, which is another one than the drive's")]
    LastingCode,
    /// What stands on the drive after writing is not what was written.
    #[error("the drive did not keep what was written at {at}: the bundle puts back what it can")]
    NotKept {
        /// The first place that differs.
        at: ByteOffset,
    },
    /// A file of ours that would lie on the source's own medium.
    #[error("{} would be written onto the drive that is worked on: {how}", path.display())]
    OwnMedium {
        /// The file.
        path: PathBuf,
        /// How it lies there.
        how: &'static str,
    },
    /// What was kept belongs to a drive that holds something else.
    #[error("{} belongs to another drive: what this one holds is otherwise", path.display())]
    OtherDrive {
        /// What was kept.
        path: PathBuf,
    },
    /// A drive that shall be copied onto itself.
    #[error("the copy would be written onto the drive that it is taken of")]
    CopyOntoItself,
    /// A device that a copy shall be written to, without its code.
    #[error("everything on {name} would be overwritten by the copy: its own confirmation code is wanted")]
    DestinationCode {
        /// The device.
        name: String,
    },
    /// A device that is smaller than what shall be copied to it.
    #[error("{name} has {bytes} bytes; the copy needs {wanted}")]
    DestinationSmall {
        /// The device.
        name: String,
        /// Its bytes.
        bytes: u64,
        /// Bytes of the drive.
        wanted: u64,
    },
    /// Something that only root may do.
    #[error("{what} wants root: run the same command with it (sudo ykeel …)")]
    WantsRoot {
        /// What.
        what: &'static str,
    },
    /// A folder that shall become a mount point holds something.
    #[error("{} is no empty folder: what is in it would be hidden", path.display())]
    FolderNotEmpty {
        /// The folder.
        path: PathBuf,
    },
    /// A drive that this system runs from.
    #[error("this system runs from {name}: it is left alone")]
    RunsFromIt {
        /// The drive.
        name: String,
    },
    /// A file that stands where a copy shall begin.
    #[error("{} is there already and no log of a copy belongs to it: nothing is overwritten", path.display())]
    CopyExists {
        /// The file.
        path: PathBuf,
    },
    /// A log that belongs to another copy.
    #[error("the log {} belongs to the copy of another drive, or of another size", log.display())]
    OtherCopy {
        /// The log.
        log: PathBuf,
    },
    /// What a bundle would put back does not fit what the drive holds.
    #[error("{at} holds neither what the plan wrote nor what stood there before: something else changed it")]
    Foreign {
        /// The place.
        at: ByteOffset,
    },
}

/// Wraps an I/O error of one of our own files.
pub(crate) fn file_error(action: &'static str, path: impl Into<PathBuf>) -> impl FnOnce(io::Error) -> CoreError {
    let path = path.into();
    move |source| CoreError::File { action, path, source }
}

/// An error with its causes on one line, fit for a terminal.
#[must_use]
pub fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut source = error.source();
    while let Some(cause) = source {
        let more = cause.to_string();
        // A transparent error repeats its cause.
        if !text.ends_with(&more) {
            text.push_str(": ");
            text.push_str(&more);
        }
        source = cause.source();
    }
    keel_source::printable(&text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, thiserror::Error)]
    #[error("cannot look")]
    struct Outer(#[source] io::Error);

    #[test]
    fn a_chain_names_every_cause_once_and_no_sign_steers_the_terminal() {
        let error = Outer(io::Error::other("no \u{1b}[2J medium"));
        let text = chain(&error);
        assert!(text.starts_with("cannot look: no ") && text.ends_with("medium") && !text.contains('\u{1b}'), "{text}");
        // A transparent error says what its cause says: that stands once.
        let refused = CoreError::from(Refusal::FillCode);
        assert_eq!(chain(&refused).matches("a fill overwrites everything").count(), 1);
    }

    #[test]
    fn a_file_error_says_what_was_done_to_which_file() {
        let text = chain(&file_error("write", "/bench/quay.img")(io::Error::from(io::ErrorKind::PermissionDenied)));
        assert!(text.contains("write") && text.contains("/bench/quay.img") && text.contains("denied"), "{text}");
    }
}
