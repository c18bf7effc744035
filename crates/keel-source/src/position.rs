//! Positions and lengths on a drive, each with its unit in its type.

use std::fmt;
use std::ops::{Add, Sub};

use serde::{Deserialize, Serialize};

/// A position in bytes from the start of a source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ByteOffset(pub u64);

impl ByteOffset {
    /// `self + bytes`, or `None` past 2⁶⁴: drive fields are hostile, so sums of them are checked.
    #[must_use]
    pub fn checked_add(self, bytes: u64) -> Option<Self> {
        self.0.checked_add(bytes).map(Self)
    }

    /// The LBA that holds this byte.
    #[must_use]
    pub fn lba(self, sector: SectorSize) -> Lba {
        Lba(self.0 / u64::from(sector.0.max(1)))
    }
}

impl Add<u64> for ByteOffset {
    type Output = Self;
    /// Saturates: an offset past 2⁶⁴ stays past the end of every drive.
    fn add(self, bytes: u64) -> Self {
        Self(self.0.saturating_add(bytes))
    }
}

impl Sub<ByteOffset> for ByteOffset {
    type Output = u64;
    /// Bytes between two positions; 0 when `other` lies behind.
    fn sub(self, other: Self) -> u64 {
        self.0.saturating_sub(other.0)
    }
}

impl fmt::Display for ByteOffset {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "byte {} (0x{:x})", self.0, self.0)
    }
}

/// A logical block address: a position in logical sectors of the drive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Lba(pub u64);

impl Lba {
    /// First byte of the sector; saturates.
    #[must_use]
    pub fn offset(self, sector: SectorSize) -> ByteOffset {
        ByteOffset(self.0.saturating_mul(u64::from(sector.0)))
    }
}

impl fmt::Display for Lba {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "LBA {}", self.0)
    }
}

/// A length in logical sectors of the drive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct SectorCount(pub u64);

impl SectorCount {
    /// The same length in bytes; saturates.
    #[must_use]
    pub fn bytes(self, sector: SectorSize) -> u64 {
        self.0.saturating_mul(u64::from(sector.0))
    }
}

/// A sector size in bytes; 512 to 65536, a power of two.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct SectorSize(pub u32);

impl SectorSize {
    /// Checks that `bytes` is a power of two from 512 to 65536.
    #[must_use]
    pub fn new(bytes: u32) -> Option<Self> {
        (bytes.is_power_of_two() && (512..=65536).contains(&bytes)).then_some(Self(bytes))
    }

    /// The size as a `u64`, for arithmetic with offsets.
    #[must_use]
    pub fn bytes(self) -> u64 {
        u64::from(self.0)
    }
}

impl Default for SectorSize {
    fn default() -> Self {
        Self(512)
    }
}

/// A half-open range of bytes: `start` belongs to it, `end` does not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct ByteRange {
    /// First byte.
    pub start: ByteOffset,
    /// First byte behind.
    pub end: ByteOffset,
}

impl ByteRange {
    /// The range from `start` to `end`; empty when `end` lies before `start`.
    #[must_use]
    pub fn new(start: ByteOffset, end: ByteOffset) -> Self {
        Self { start, end: end.max(start) }
    }

    /// The range of `bytes` bytes from `start` on; saturates.
    #[must_use]
    pub fn sized(start: ByteOffset, bytes: u64) -> Self {
        Self { start, end: start + bytes }
    }

    /// Length in bytes.
    #[must_use]
    pub fn len(self) -> u64 {
        self.end - self.start
    }

    /// True for a range of no bytes.
    #[must_use]
    pub fn is_empty(self) -> bool {
        self.len() == 0
    }

    /// True when `at` lies inside.
    #[must_use]
    pub fn contains(self, at: ByteOffset) -> bool {
        self.start <= at && at < self.end
    }

    /// True when all of `other` lies inside.
    #[must_use]
    pub fn covers(self, other: Self) -> bool {
        self.start <= other.start && other.end <= self.end
    }

    /// The common part, when there is one.
    #[must_use]
    pub fn overlap(self, other: Self) -> Option<Self> {
        let both = Self::new(self.start.max(other.start), self.end.min(other.end));
        (!both.is_empty()).then_some(both)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sums_that_no_drive_reaches_stay_behind_every_end() {
        assert_eq!(ByteOffset(u64::MAX) + 5, ByteOffset(u64::MAX));
        assert_eq!(ByteOffset(7).checked_add(u64::MAX), None);
        assert_eq!(ByteOffset(5) - ByteOffset(9), 0, "nothing lies between a place and one before it");
        assert_eq!(Lba(u64::MAX).offset(SectorSize(4096)), ByteOffset(u64::MAX));
        assert_eq!(SectorCount(u64::MAX).bytes(SectorSize(512)), u64::MAX);
        assert_eq!(ByteRange::sized(ByteOffset(u64::MAX - 1), 9).len(), 1);
    }

    #[test]
    fn a_range_whose_end_lies_before_its_start_is_empty() {
        let empty = ByteRange::new(ByteOffset(9), ByteOffset(5));
        assert!(
            empty.is_empty() && !empty.contains(ByteOffset(7)) && empty.overlap(ByteRange::sized(ByteOffset(0), 99)).is_none()
        );
    }

    #[test]
    fn only_powers_of_two_that_drives_have_are_sector_sizes() {
        for bytes in [512, 1024, 2048, 4096, 65_536] {
            assert_eq!(SectorSize::new(bytes), Some(SectorSize(bytes)));
        }
        for bytes in [0, 1, 256, 513, 520, 131_072, u32::MAX] {
            assert_eq!(SectorSize::new(bytes), None, "{bytes}");
        }
        assert_eq!(ByteOffset(4097).lba(SectorSize(512)), Lba(8));
        assert_eq!(ByteOffset(4097).lba(SectorSize(0)), Lba(4097), "a size of 0 divides by nothing");
        assert_eq!((ByteOffset(255).to_string(), Lba(3).to_string()), ("byte 255 (0xff)".into(), "LBA 3".into()));
    }
}
