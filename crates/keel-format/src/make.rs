//! New volumes: what is asked of one, and what it is made of. Each format makes its own in its room `make`; nothing is written here.

use keel_source::{ByteOffset, Payload, SectorSize};

use crate::Geometry;

/// What a new volume shall be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    /// Bytes that it may take.
    pub bytes: u64,
    /// Logical sector of the drive.
    pub sector: SectorSize,
    /// Sectors of that size before it on the drive.
    pub hidden_sectors: u64,
    /// Its label; empty for none.
    pub label: String,
    /// Bytes of a cluster or block, where they are chosen by hand; else by the standard's table.
    pub cluster_bytes: Option<u32>,
    /// Its serial number or identifier, as many bits of it as the format keeps.
    pub serial: u128,
    /// Whether it keeps a journal, where its format leaves that open (HFS+).
    pub journal: bool,
    /// When it is made: seconds since 1970-01-01, UTC.
    pub made_at: u32,
}

/// One structure of a new volume.
#[derive(Debug, Clone)]
pub struct Part {
    /// The structure, in the standard's words.
    pub what: &'static str,
    /// Its first byte in the volume.
    pub at: ByteOffset,
    /// What stands there.
    pub bytes: Payload,
    /// True for a copy of another part: it is written first.
    pub is_copy: bool,
}

impl Part {
    /// A part that is no copy.
    #[must_use]
    pub fn new(what: &'static str, at: u64, bytes: impl Into<Payload>) -> Self {
        Self { what, at: ByteOffset(at), bytes: bytes.into(), is_copy: false }
    }

    /// A structure of `bytes` bytes that begins with `content`, in whole sectors of `sector` bytes: what is held, and a run of zeros behind it.
    #[must_use]
    pub fn padded(what: &'static str, at: u64, mut content: Vec<u8>, bytes: u64, sector: u32) -> [Self; 2] {
        content.resize(content.len().next_multiple_of(sector as usize), 0);
        let held = content.len() as u64;
        [Self::new(what, at, content), Self::new(what, at + held, Payload::zeros(bytes.saturating_sub(held)))]
    }

    /// A copy of another part.
    #[must_use]
    pub fn copy(what: &'static str, at: u64, bytes: impl Into<Payload>) -> Self {
        Self { is_copy: true, ..Self::new(what, at, bytes) }
    }
}

/// A new volume: whatever its parts do not cover may stay as it is.
#[derive(Debug, Clone)]
pub struct NewVolume {
    /// How it is looked into.
    pub geometry: Geometry,
    /// Its parts, ascending and without overlap.
    pub parts: Vec<Part>,
}

impl NewVolume {
    /// A volume of `parts`, in any order.
    #[must_use]
    pub fn of(geometry: Geometry, mut parts: Vec<Part>) -> Self {
        parts.retain(|part| !part.bytes.is_empty());
        parts.sort_by_key(|part| part.at);
        Self { geometry, parts }
    }
}

/// Why a volume cannot be made as it is wanted, as a sentence.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct NotMade(pub String);

/// The cluster size that is wanted, where it is a power of two from `least` to `most` bytes and no smaller than a sector.
///
/// # Errors
/// [`NotMade`] for any other.
pub(crate) fn cluster_by_hand(wanted: &Wanted, least: u32, most: u32) -> Result<Option<u32>, NotMade> {
    let Some(bytes) = wanted.cluster_bytes else { return Ok(None) };
    let least = least.max(wanted.sector.0);
    match bytes.is_power_of_two() && (least..=most).contains(&bytes) {
        true => Ok(Some(bytes)),
        false => Err(NotMade(format!("a cluster of {bytes} bytes: a power of two from {least} to {most} is wanted"))),
    }
}
