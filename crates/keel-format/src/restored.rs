//! Structures put back from their copies.

use keel_source::{ByteOffset, ByteRange};

/// A structure that can be put back from a sound copy.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Restored {
    /// Where it goes, in bytes of the volume.
    pub at: ByteOffset,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Where the copy stands, in bytes of the volume.
    pub copy: ByteRange,
}
