//! Sizes as they are typed for new entries.

use keel_source::SectorSize;

use crate::place::size_named;

/// How large something shall be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Size {
    /// So many bytes.
    Bytes(u64),
    /// So many hundredths of a percent of the drive.
    Share(u32),
    /// All that is free there.
    Rest,
    /// As small as its content allows.
    Least,
}

/// A text that names no size.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no size: 500 MB, 1.5 GiB, 2048s (sectors), 25% (of the drive) or rest is wanted")]
pub struct SizeWrong(pub String);

impl Size {
    /// What was typed: bytes, a number with a unit, sectors of `sector` bytes (`2048s`), a share of the drive (`25%`), `rest` or `least`.
    ///
    /// # Errors
    /// [`SizeWrong`] for anything else, and for nothing at all.
    pub fn typed(text: &str, sector: SectorSize) -> Result<Self, SizeWrong> {
        let wrong = || SizeWrong(keel_source::printable(text));
        let plain = text.trim().to_ascii_lowercase();
        let above = |bytes: u64| if bytes > 0 { Ok(Self::Bytes(bytes)) } else { Err(wrong()) };
        match plain.as_str() {
            "rest" => return Ok(Self::Rest),
            "least" => return Ok(Self::Least),
            _ => {}
        }
        if let Some(share) = plain.strip_suffix('%') {
            let share: f64 = share.trim().parse().map_err(|_| wrong())?;
            return if share > 0.0 && share <= 100.0 { Ok(Self::Share((share * 100.0).round() as u32)) } else { Err(wrong()) };
        }
        if let Some(count) = plain.strip_suffix('s').and_then(|count| count.trim().parse::<u64>().ok()) {
            return above(count.checked_mul(sector.bytes()).ok_or_else(wrong)?);
        }
        above(size_named(&plain).ok_or_else(wrong)?)
    }

    /// Sectors of `sector` bytes that it asks for on a drive of `drive` sectors, rounded up to whole ones; none where the ground decides.
    #[must_use]
    pub fn sectors(self, drive: u64, sector: SectorSize) -> Option<u64> {
        match self {
            Self::Bytes(bytes) => Some(bytes.div_ceil(sector.bytes())),
            Self::Share(share) => {
                let part = u128::from(drive) * u128::from(share) / 10_000;
                Some(u64::try_from(part).unwrap_or(drive).max(1))
            }
            Self::Rest | Self::Least => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_way_to_say_a_size_is_understood_and_nothing_else() {
        let sector = SectorSize(4096);
        let typed = |text: &str| Size::typed(text, sector);
        for (text, bytes) in [("1", 1), ("500 MB", 500_000_000), ("1.5GiB", 3 << 29), ("10s", 40_960), ("64 KiB", 65_536)] {
            assert_eq!(typed(text), Ok(Size::Bytes(bytes)), "{text}");
        }
        assert_eq!((typed("25%"), typed("0.5 %"), typed("Rest")), (Ok(Size::Share(2500)), Ok(Size::Share(50)), Ok(Size::Rest)));
        for text in ["", "0", "0s", "-1", "101%", "0%", "NaN%", "1 XB", "9999999999999999999s", "s", "%", "rest of it"] {
            assert!(typed(text).is_err(), "{text}");
        }
        assert_eq!(Size::Share(2500).sectors(1000, sector), Some(250));
        assert_eq!((Size::Bytes(4097).sectors(10, sector), Size::Rest.sectors(10, sector)), (Some(2), None));
    }
}
