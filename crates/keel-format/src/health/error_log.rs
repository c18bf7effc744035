//! The errors that a drive remembers: SMART summary error log (ATA8-ACS, 7.52.6.8.3, log address 01h) and the NVMe error information log (NVM
//! Express Base Specification, log identifier 01h).

use keel_source::ErrorLog;
use serde::{Deserialize, Serialize};

/// Bytes of an error data structure of the ATA log; five stand behind two bytes.
const ATA_ENTRY: usize = 90;
const ATA_ENTRIES: usize = 5;
/// Where its error data stand, behind the five commands that led to it.
const ATA_ERROR: usize = 60;
/// Where the ATA log counts all errors.
const ATA_COUNT: usize = 452;
/// Bytes of an entry of the NVMe log.
const NVME_ENTRY: usize = 64;

/// One error.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LoggedError {
    /// What it was, in the standard's words.
    pub what: String,
    /// Power-on hours of the drive then, where the log keeps them.
    pub at_hours: Option<u64>,
    /// The sector, in logical sectors, where the error is of one.
    pub lba: Option<u64>,
}

/// The errors that a drive remembers.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct LoggedErrors {
    /// How many there were.
    pub count: u64,
    /// The last of them, the newest first.
    pub errors: Vec<LoggedError>,
}

impl LoggedErrors {
    /// Reads a log.
    #[must_use]
    pub fn read(log: &ErrorLog) -> Self {
        match log {
            ErrorLog::Ata { log } => of_ata(log),
            ErrorLog::Nvme { log } => of_nvme(log),
        }
    }
}

/// The bits of the error register (ACS-4, 6.2), those that name a place first.
const ATA_BITS: [(u8, &str, bool); 5] = [
    (0x40, "uncorrectable data", true),
    (0x10, "id not found", true),
    (0x80, "interface CRC", false),
    (0x08, "media change request", false),
    (0x04, "command aborted", false),
];

fn of_ata(log: &[u8]) -> LoggedErrors {
    let word =
        |at: usize| log.get(at..at + 2).and_then(<[u8]>::first_chunk).map_or(0, |pair| u64::from(u16::from_le_bytes(*pair)));
    let newest = log.get(1).map_or(0, |newest| usize::from(*newest));
    let Some(newest) = newest.checked_sub(1).filter(|newest| *newest < ATA_ENTRIES) else { return LoggedErrors::default() };
    let count = word(ATA_COUNT);
    let mut errors = Vec::new();
    for back in 0..ATA_ENTRIES.min(usize::try_from(count).unwrap_or(ATA_ENTRIES)) {
        let index = (newest + ATA_ENTRIES - back) % ATA_ENTRIES;
        let from = 2 + index * ATA_ENTRY + ATA_ERROR;
        let Some(&[_, error, _, low, middle, high, device, ..]) = log.get(from..from + 30) else { break };
        let met = ATA_BITS.iter().filter(|(bit, ..)| error & bit != 0);
        let words: Vec<&str> = met.clone().map(|(_, word, _)| *word).collect();
        let names_place = met.clone().any(|(.., names)| *names);
        // Of a command of 48 bits only the lower 28 stand here.
        let lba = u64::from(low) | u64::from(middle) << 8 | u64::from(high) << 16 | u64::from(device & 0x0F) << 24;
        errors.push(LoggedError {
            what: if words.is_empty() { format!("error register {error:02X}h") } else { words.join(", ") },
            at_hours: Some(word(from + 28)),
            lba: names_place.then_some(lba),
        });
    }
    LoggedErrors { count, errors }
}

fn of_nvme(log: &[u8]) -> LoggedErrors {
    let number = |entry: &[u8], at: usize| {
        entry.get(at..at + 8).and_then(<[u8]>::first_chunk).map_or(0, |field| u64::from_le_bytes(*field))
    };
    let entries = log.chunks_exact(NVME_ENTRY).filter(|entry| number(entry, 0) > 0);
    let errors: Vec<(u64, LoggedError)> = entries
        .map(|entry| {
            let status = entry.get(12..14).and_then(<[u8]>::first_chunk).map_or(0, |field| u16::from_le_bytes(*field)) >> 1;
            let (kind, code) = (status >> 8 & 7, status & 0xFF);
            let what = match (kind, code) {
                (2, 0x80) => "write fault".to_string(),
                (2, 0x81) => "unrecovered read error".to_string(),
                (2, 0x82..=0x84) => "end-to-end check error".to_string(),
                (2, 0x85) => "compare failure".to_string(),
                (2, 0x86) => "access denied".to_string(),
                (0, 0x80) => "LBA out of range".to_string(),
                (0, 0x06) => "internal error".to_string(),
                _ => format!("status type {kind}h, code {code:02X}h"),
            };
            // Only an error of the medium is of a sector.
            let error = LoggedError { what, at_hours: None, lba: (kind == 2).then(|| number(entry, 16)) };
            (number(entry, 0), error)
        })
        .collect();
    LoggedErrors {
        count: errors.iter().map(|(count, _)| *count).max().unwrap_or(0),
        errors: errors.into_iter().map(|(_, error)| error).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_ata_log_gives_its_last_five_the_newest_first() {
        let mut log = vec![0u8; 512];
        (log[1], log[452]) = (2, 9);
        let mut put = |index: usize, bytes: &[(usize, u8)]| {
            bytes.iter().for_each(|(at, byte)| log[2 + index * 90 + 60 + at] = *byte);
        };
        put(1, &[(1, 0x40), (3, 0x10), (4, 0x32), (5, 0x54), (6, 0xE6), (28, 0x39), (29, 0x30)]);
        put(0, &[(1, 0x84), (3, 9)]);
        put(4, &[(1, 0x00)]);
        let found = LoggedErrors::read(&ErrorLog::Ata { log });
        assert_eq!((found.count, found.errors.len()), (9, 5));
        let first = LoggedError { what: "uncorrectable data".into(), at_hours: Some(12_345), lba: Some(0x0654_3210) };
        assert_eq!(found.errors[0], first);
        assert_eq!((found.errors[1].what.as_str(), found.errors[1].lba), ("interface CRC, command aborted", None));
        assert_eq!(found.errors[2].what, "error register 00h");
    }

    #[test]
    fn an_nvme_log_names_the_sector_of_errors_of_the_medium() {
        let mut log = vec![0u8; 256];
        log[0] = 7;
        log[12..14].copy_from_slice(&(0x281u16 << 1 | 1).to_le_bytes());
        log[16..24].copy_from_slice(&99_999_999_999_u64.to_le_bytes());
        log[64] = 6;
        log[76..78].copy_from_slice(&(0x002u16 << 1).to_le_bytes());
        let found = LoggedErrors::read(&ErrorLog::Nvme { log });
        assert_eq!((found.count, found.errors.len()), (7, 2));
        assert_eq!((found.errors[0].what.as_str(), found.errors[0].lba), ("unrecovered read error", Some(99_999_999_999)));
        assert_eq!((found.errors[1].what.as_str(), found.errors[1].lba), ("status type 0h, code 02h", None));
    }

    #[test]
    fn logs_of_any_bytes_and_lengths_are_read() {
        for length in [0, 1, 2, 63, 64, 300, 454, 512] {
            for byte in [0u8, 1, 5, 6, 0x7F, 0xFF] {
                let log = vec![byte; length];
                let _ = LoggedErrors::read(&ErrorLog::Ata { log: log.clone() });
                let _ = LoggedErrors::read(&ErrorLog::Nvme { log });
            }
        }
        assert_eq!(LoggedErrors::read(&ErrorLog::Ata { log: vec![0; 512] }), LoggedErrors::default());
    }
}
