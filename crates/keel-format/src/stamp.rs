//! Timestamps as file systems keep them.

use std::fmt;

use jiff::civil::DateTime;
use serde::{Serialize, Serializer};

/// A moment as stored: date and time, and whether it is UTC (NTFS) or the writing computer's local time (FAT).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Stamp {
    at: DateTime,
    utc: bool,
}

impl Stamp {
    /// From 100-nanosecond steps since 1601-01-01 UTC (NTFS). `None` for zero and for what no calendar holds.
    #[must_use]
    pub fn from_ntfs(ticks: u64) -> Option<Self> {
        if ticks == 0 {
            return None;
        }
        let seconds = i64::try_from(ticks / 10_000_000).ok()?.checked_sub(11_644_473_600)?;
        let nanoseconds = i32::try_from(ticks % 10_000_000 * 100).ok()?;
        let at = jiff::Timestamp::new(seconds, nanoseconds).ok()?;
        Some(Self { at: jiff::tz::TimeZone::UTC.to_datetime(at), utc: true })
    }

    /// From FAT date and time words and the ten-millisecond byte; local time. `None` for a date that cannot be.
    #[must_use]
    pub fn from_fat(date: u16, time: u16, tenths: u8) -> Option<Self> {
        let year = i16::try_from(1980 + (date >> 9)).ok()?;
        let part = |word: u16, shift: u16, mask: u16| i8::try_from(word >> shift & mask).ok();
        let second = i8::try_from((time & 31) * 2 + u16::from(tenths / 100)).ok()?;
        let nanosecond = i32::from(tenths % 100) * 10_000_000;
        let at = DateTime::new(
            year,
            part(date, 5, 15)?,
            part(date, 0, 31)?,
            part(time, 11, 31)?,
            part(time, 5, 63)?,
            second,
            nanosecond,
        );
        Some(Self { at: at.ok()?, utc: false })
    }

    /// The calendar date and time as stored, without its zone.
    #[must_use]
    pub fn civil(&self) -> DateTime {
        self.at
    }
}

impl fmt::Display for Stamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", self.at.strftime("%Y-%m-%d %H:%M:%S"), if self.utc { "Z" } else { "" })
    }
}

impl Serialize for Stamp {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
