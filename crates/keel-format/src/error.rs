//! The one error enum of this crate.

use keel_source::{ByteOffset, Spent};

/// A structure that could not be read or does not hold: which one, where, and what is wrong.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{structure} at {at}: {problem}")]
pub struct FormatError {
    /// The structure's name in its standard.
    pub structure: &'static str,
    /// Byte offset in the source or volume that was read.
    pub at: ByteOffset,
    /// What is wrong.
    pub problem: Problem,
}

/// What can be wrong with a structure.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Problem {
    /// The structure ends before the field does.
    #[error("field {field} wants {wanted} bytes at {offset}, {available} are there")]
    Truncated {
        /// Field name.
        field: &'static str,
        /// Offset inside the structure.
        offset: usize,
        /// Bytes wanted.
        wanted: usize,
        /// Bytes there.
        available: usize,
    },
    /// A field holds what it cannot hold.
    #[error("field {field} is {found} (0x{found:x}), {expected} expected")]
    Value {
        /// Field name.
        field: &'static str,
        /// The value found.
        found: u64,
        /// What would be right.
        expected: &'static str,
    },
    /// The source does not deliver the bytes.
    #[error("{bytes} bytes cannot be read")]
    Unreadable {
        /// How many of the wanted bytes are unreadable.
        bytes: u64,
    },
    /// A checksum does not match.
    #[error("checksum {field} is 0x{found:08x}, computed 0x{computed:08x}")]
    Checksum {
        /// Field name.
        field: &'static str,
        /// The stored checksum.
        found: u32,
        /// The checksum of the bytes.
        computed: u32,
    },
    /// A chain comes back on itself or is longer than anything it could describe.
    #[error("{field} does not end within {limit} steps")]
    Endless {
        /// The chain.
        field: &'static str,
        /// The bound.
        limit: u64,
    },
    /// Compressed or encrypted data that cannot be unpacked.
    #[error("{0}")]
    Coding(&'static str),
    /// The reader's budget ended first: nothing is said of the structure.
    #[error("stopped here: {}", .0.why())]
    Spent(Spent),
    /// There is no such name or record.
    #[error("there is no {0}")]
    Missing(&'static str),
}

impl FormatError {
    /// An error of `structure` at `at`.
    #[must_use]
    pub fn new(structure: &'static str, at: ByteOffset, problem: Problem) -> Self {
        Self { structure, at, problem }
    }

    /// A field with a value it cannot hold.
    #[must_use]
    pub fn value(structure: &'static str, at: ByteOffset, field: &'static str, found: u64, expected: &'static str) -> Self {
        Self::new(structure, at, Problem::Value { field, found, expected })
    }

    /// True when the bytes were not delivered, as opposed to being wrong.
    #[must_use]
    pub fn is_unreadable(&self) -> bool {
        matches!(self.problem, Problem::Unreadable { .. })
    }

    /// True when the reader's budget ended, so that nothing is known of the structure.
    #[must_use]
    pub fn is_spent(&self) -> bool {
        matches!(self.problem, Problem::Spent(_))
    }
}
