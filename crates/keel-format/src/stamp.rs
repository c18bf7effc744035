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

    /// From `YYYY-MM-DDThh:mm:ss`, as a file tells of itself; local time. `None` for what is no date.
    #[must_use]
    pub fn from_text(text: &str) -> Option<Self> {
        Some(Self { at: text.parse().ok()?, utc: false })
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

    /// From an exFAT timestamp (date in the upper word), its ten-millisecond byte and its offset from UTC (bit 7: valid;
    /// the rest a signed count of quarter hours). Without an offset it is local time.
    #[must_use]
    pub fn from_exfat(word: u32, tenths: u8, offset: u8) -> Option<Self> {
        let (date, time) = (u16::try_from(word >> 16).ok()?, u16::try_from(word & 0xFFFF).ok()?);
        let local = Self::from_fat(date, time, tenths)?;
        if offset & 0x80 == 0 {
            return Some(local);
        }
        let quarters = i64::from(offset & 0x7F) - if offset & 0x40 == 0 { 0 } else { 128 };
        let at = local.at.checked_sub(jiff::SignedDuration::from_mins(quarters * 15)).ok()?;
        Some(Self { at, utc: true })
    }

    /// From seconds and nanoseconds since 1970-01-01 UTC. `None` for zero and for what no calendar holds.
    #[must_use]
    pub fn from_unix(seconds: i64, nanoseconds: u32) -> Option<Self> {
        if seconds == 0 {
            return None;
        }
        let at = jiff::Timestamp::new(seconds, i32::try_from(nanoseconds.min(999_999_999)).ok()?).ok()?;
        Some(Self { at: jiff::tz::TimeZone::UTC.to_datetime(at), utc: true })
    }

    /// From seconds since 1904-01-01 UTC (HFS+). `None` for zero.
    #[must_use]
    pub fn from_hfs(seconds: u32) -> Option<Self> {
        if seconds == 0 { None } else { Self::from_unix(i64::from(seconds) - 2_082_844_800, 0) }
    }

    /// As FAT date and time words; what lies before 1980 or behind 2107 as the nearest that they hold.
    #[must_use]
    pub fn to_fat(&self) -> (u16, u16) {
        let word = |value: i8| u16::try_from(value).unwrap_or(0);
        let (date, time) = (self.at.date(), self.at.time());
        match date.year() {
            ..1980 => (1 << 5 | 1, 0),
            2108.. => (127 << 9 | 12 << 5 | 31, 23 << 11 | 59 << 5 | 29),
            year => (
                u16::try_from(year - 1980).unwrap_or(0) << 9 | word(date.month()) << 5 | word(date.day()),
                word(time.hour()) << 11 | word(time.minute()) << 5 | (word(time.second()) / 2),
            ),
        }
    }

    /// The calendar date and time as stored, without its zone.
    #[must_use]
    pub fn civil(&self) -> DateTime {
        self.at
    }
}

impl fmt::Display for Stamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // By hand: listings of a million files are made of these.
        let (date, time, zone) = (self.at.date(), self.at.time(), if self.utc { "Z" } else { "" });
        let (year, month, day) = (date.year(), date.month(), date.day());
        write!(f, "{year:04}-{month:02}-{day:02} {:02}:{:02}:{:02}{zone}", time.hour(), time.minute(), time.second())
    }
}

impl Serialize for Stamp {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
