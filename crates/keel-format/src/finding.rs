//! What an examination found: damage is data, not a log line.

use keel_source::ByteOffset;
use serde::{Deserialize, Serialize};

/// How much a finding weighs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Severity {
    /// Good to know.
    Note,
    /// Something is not as it should be; it may still work.
    Doubt,
    /// An operating system will not get past this.
    Broken,
}

/// One finding: what, where, and how it is known.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// What was found, as a sentence.
    pub what: String,
    /// Byte offset on the drive, where there is one.
    pub at_byte: Option<ByteOffset>,
    /// How it is known: what was read and compared.
    pub how: String,
    /// How much it weighs.
    pub severity: Severity,
}

impl Finding {
    /// A finding at a place.
    #[must_use]
    pub fn at(severity: Severity, at: ByteOffset, what: impl Into<String>, how: impl Into<String>) -> Self {
        Self { what: what.into(), at_byte: Some(at), how: how.into(), severity }
    }

    /// A finding of the whole.
    #[must_use]
    pub fn of_all(severity: Severity, what: impl Into<String>, how: impl Into<String>) -> Self {
        Self { what: what.into(), at_byte: None, how: how.into(), severity }
    }

    /// The same finding with its place moved up by `bytes`: from a volume's own offsets to the drive's.
    #[must_use]
    pub fn moved(mut self, bytes: u64) -> Self {
        self.at_byte = self.at_byte.map(|at| at + bytes);
        self
    }
}
