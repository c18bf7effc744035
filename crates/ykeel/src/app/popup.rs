//! What may lie over a stage: data, drawn in one place, answered in one place.

use std::path::PathBuf;

use keel_core::leave::Confirmation;
use keel_core::plan::Direction;

use crate::keymap::{BINDINGS, Binding};

/// A question that wants a line of text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Question {
    /// The drive's code, before a plan is applied.
    Code,
    /// The words that let a failing drive be written.
    OverrideWords,
    /// The drive's code, before an apply on a block device is put back or finished; nothing for others.
    RecoverCode { direction: Direction },
    /// The drive's code, before what a probe touched on a block device is put back; nothing for others.
    PutBackCode,
    /// The folder to take files out to.
    ExtractTo,
    /// The image to save the repaired copy as.
    SaveTo,
    /// A text of the client.
    Told,
    /// What to note with the check in this row: which cable, which port and its speed.
    CheckNote { row: usize },
    /// Where the copy goes.
    CopyTo,
    /// The code of a device that a copy goes to.
    DestCode,
    /// The drive's code, before it is probed.
    ProbeCode,
    /// The drive's code, before it is filled.
    FillCode,
    /// The report to write.
    ReportTo,
}

/// What was confirmed by a line that may hold the drive's code.
pub(crate) fn typed(line: &str) -> Confirmation {
    match line.trim() {
        "" => Confirmation::Yes,
        code => Confirmation::Code(code.to_string()),
    }
}

/// Something over the stage.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Popup {
    /// Help of the stage.
    Help,
    /// The searchable command list.
    Commands { filter: String, selected: usize },
    /// A question with the line typed so far.
    Ask { question: Question, line: String },
    /// The symptoms to choose from.
    Symptoms { selected: usize },
    /// The checks made outside the computer.
    Checks { selected: usize },
    /// An interrupted apply was recognised.
    Interrupted { bundle: PathBuf },
    /// Something to be read.
    Message { title: String, text: String },
}

/// The commands that match what was typed.
pub(crate) fn matching(filter: &str) -> Vec<&'static Binding> {
    let filter = filter.to_lowercase();
    BINDINGS.iter().filter(|binding| binding.long.to_lowercase().contains(&filter)).collect()
}
