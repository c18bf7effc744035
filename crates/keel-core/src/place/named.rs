//! Places as a technician types them.

use keel_source::{ByteOffset, SectorSize, size_decimal};

/// Why a place is none.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NamedWrong {
    /// It is no number with a unit that is known.
    #[error("`{0}` is no place: type a byte (1048576, 0x100000, 1.5 GB, 64 MiB), a sector (lba 2048) or a share (37.5 %)")]
    NoPlace(String),
    /// It lies behind the end.
    #[error("byte {at} lies behind the end of the drive, which has {bytes} bytes")]
    PastEnd {
        /// Where it would be.
        at: u64,
        /// Bytes of the drive.
        bytes: u64,
    },
}

/// Units of bytes: decimal and binary ones.
const UNITS: [(&str, u64); 13] = [
    ("b", 1),
    ("k", 1000),
    ("kb", 1000),
    ("m", 1_000_000),
    ("mb", 1_000_000),
    ("g", 1_000_000_000),
    ("gb", 1_000_000_000),
    ("t", 1_000_000_000_000),
    ("tb", 1_000_000_000_000),
    ("kib", 1 << 10),
    ("mib", 1 << 20),
    ("gib", 1 << 30),
    ("tib", 1 << 40),
];

/// The byte of a drive of `bytes` bytes that `text` names: a byte, decimal or hexadecimal, with a unit or without; `lba` and a number of
/// a sector of `sector` bytes; or a share with `%`.
///
/// # Errors
/// [`NamedWrong`] when it names none.
pub fn named(text: &str, bytes: u64, sector: SectorSize) -> Result<ByteOffset, NamedWrong> {
    let plain: String = text.trim().to_ascii_lowercase().replace(['_', '\''], "");
    let wrong = || NamedWrong::NoPlace(text.trim().to_string());
    let at = if let Some(lba) = plain.strip_prefix("lba") {
        whole(lba.trim()).and_then(|lba| lba.checked_mul(sector.bytes())).ok_or_else(wrong)?
    } else if let Some(share) = plain.strip_suffix('%') {
        let share: f64 = share.trim().parse().map_err(|_| wrong())?;
        if !(0.0..=100.0).contains(&share) {
            return Err(wrong());
        }
        // The last byte is a hundred percent of the way.
        ((share / 100.0 * bytes as f64) as u64).min(bytes.saturating_sub(1))
    } else if let Some(whole) = whole(&plain) {
        whole
    } else {
        with_unit(&plain).ok_or_else(wrong)?
    };
    if at >= bytes { Err(NamedWrong::PastEnd { at, bytes }) } else { Ok(ByteOffset(at)) }
}

/// The bytes that `text` names: a number, with a unit or without. None where it names none.
#[must_use]
pub fn size_named(text: &str) -> Option<u64> {
    let plain: String = text.trim().to_ascii_lowercase().replace(['_', '\''], "");
    whole(&plain).or_else(|| with_unit(&plain))
}

/// What is said of a note that names a drive's label; none for any other.
#[must_use]
pub fn label_told(text: &str) -> Option<String> {
    let bytes = label_named(text)?;
    Some(format!("its label says {}: rung 4 holds that against what it shows", size_decimal(bytes)))
}

/// The bytes that a note of a drive's label names: `label 2 TB`, `the label says 500GB`. None where no line of it does.
#[must_use]
pub fn label_named(text: &str) -> Option<u64> {
    let of_line = |line: &str| {
        let line = line.to_ascii_lowercase();
        let (_, behind) = line.split_once("label")?;
        let from = behind.find(|sign: char| sign.is_ascii_digit())?;
        let number = behind.get(from..)?;
        let until = number.find(|sign: char| !sign.is_ascii_digit() && !matches!(sign, '.' | ',')).unwrap_or(number.len());
        let (digits, unit) = number.split_at_checked(until)?;
        let unit: String = unit.trim_start().chars().take_while(char::is_ascii_alphabetic).collect();
        // A number alone may be anything: a label has a unit.
        with_unit(&format!("{} {unit}", digits.trim_end_matches(['.', ',']).replace(',', "."))).filter(|_| !unit.is_empty())
    };
    text.lines().find_map(of_line)
}

/// A whole number, decimal or hexadecimal.
fn whole(text: &str) -> Option<u64> {
    match text.strip_prefix("0x") {
        Some(digits) => u64::from_str_radix(digits, 16).ok(),
        None => text.replace(' ', "").parse().ok(),
    }
}

fn with_unit(text: &str) -> Option<u64> {
    let digits = text.find(|sign: char| !sign.is_ascii_digit() && sign != '.')?;
    let (number, unit) = text.split_at(digits);
    let factor = UNITS.iter().find(|(name, _)| *name == unit.trim())?.1;
    match number.parse::<u64>() {
        Ok(number) => number.checked_mul(factor),
        // A part of a unit is as exact as the number says; 2^53 bytes are more than any drive has.
        Err(_) => number.parse::<f64>().ok().map(|number| number * factor as f64).filter(|at| *at < 9e15).map(|at| at as u64),
    }
}
