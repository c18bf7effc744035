//! What was done, from the journal's lines.

use std::path::PathBuf;

use serde_json::Value;

use crate::case::{self, JournalLine};
use crate::plan::WRITTEN;

/// Something that changed the drive, or brought something over from it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Deed {
    /// It was copied.
    Copied {
        /// To where.
        to: String,
        /// Bytes that came over.
        over: u64,
        /// Its length in bytes.
        of: u64,
    },
    /// A copy was compared with what had been read.
    Verified {
        /// Bytes that hold.
        bytes: u64,
        /// True where nothing was found that does not.
        is_whole: bool,
    },
    /// Structures were written anew as they had been.
    Repaired {
        /// In so many places.
        places: u64,
    },
    /// A new layout was written.
    Renewed,
    /// What a plan had written was taken back.
    Undone,
    /// What an interrupted plan had begun was written to its end.
    Finished,
    /// The writing of a plan, or of its way back, broke off.
    BrokenOff,
    /// The drive as planned was written to a new image.
    Saved {
        /// Its file.
        to: String,
    },
    /// Ground was overwritten for good.
    Wiped {
        /// True where it went to its end.
        is_whole: bool,
    },
    /// Files were taken out.
    TakenOut {
        /// As they should be.
        whole: u64,
        /// With parts missing or not proven.
        damaged: u64,
        /// Not at all.
        failed: u64,
        /// Their manifest.
        manifest: PathBuf,
    },
    /// How much the drive stores was measured.
    Measured {
        /// What it says, in bytes.
        claimed: u64,
        /// What was proven, in bytes.
        proven: u64,
    },
}

/// A deed with its time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeedLine {
    /// When, in UTC, as the journal has it.
    pub at: String,
    /// What.
    pub deed: Deed,
}

impl DeedLine {
    /// What a line of the journal tells that was done; none for what was only asked or noted, or came to nothing.
    #[must_use]
    pub(super) fn of(line: &JournalLine) -> Option<Self> {
        let detail = &line.detail;
        let number = |name: &str| detail.get(name).and_then(Value::as_u64).unwrap_or(0);
        let text = |name: &str| detail.get(name).and_then(Value::as_str).unwrap_or_default().to_string();
        let of = |outer: &str, name: &str| detail.get(outer).and_then(|inner| inner.get(name)).and_then(Value::as_u64);
        let deed = match line.event.as_str() {
            "copy" => Deed::Copied { to: text("to"), over: of("copied", "copied_bytes")?, of: of("copied", "bytes")? },
            "verify" => Deed::Verified {
                bytes: of("verified", "verified_bytes")?,
                is_whole: detail.get("verified")?.get("rotten")?.as_array()?.is_empty() && of("verified", "unproven_bytes")? == 0,
            },
            "apply" | "finish" | "undo" if text("result") != WRITTEN => Deed::BrokenOff,
            "apply" if has_intent(detail, "create") => Deed::Renewed,
            "apply" => Deed::Repaired { places: number("of") },
            "finish" => Deed::Finished,
            "undo" => Deed::Undone,
            "save" => Deed::Saved { to: text("file") },
            "wipe" => {
                Deed::Wiped { is_whole: detail.get("cancelled").and_then(Value::as_bool) == Some(false) && number("failed") == 0 }
            }
            "extract" => Deed::TakenOut {
                whole: number("whole"),
                damaged: number("plausible") + number("cut") + number("partly_unreadable"),
                failed: number("failed"),
                manifest: PathBuf::from(text("manifest")),
            },
            "fathom" if detail.get("error").is_none() => {
                Deed::Measured { claimed: number("claimed_bytes"), proven: number("proven_bytes") }
            }
            _ => return None,
        };
        Some(Self { at: line.at.clone(), deed })
    }
}

/// True where one of `lines` tells of something that may have written to the drive, however it ended. A measurement puts back what it wrote.
pub(super) fn may_have_written(lines: &[JournalLine]) -> bool {
    case::changed(lines) || lines.iter().any(|line| matches!(line.event.as_str(), "fathom" | "put back"))
}

fn has_intent(detail: &Value, intent: &str) -> bool {
    let edits = detail.get("edits").and_then(Value::as_array);
    edits.into_iter().flatten().any(|edit| edit.get("intent").and_then(Value::as_str) == Some(intent))
}
