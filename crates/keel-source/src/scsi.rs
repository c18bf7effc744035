//! Reading by commands of the SCSI block standard (SBC-3), which USB bridges and the kernel's ATA translation take as well: a command
//! is carried out once, and the drive's own sense data (SPC-4, 4.5) says which sector failed, and how.

use std::fs::File;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use crate::error::{ReadCause, ReadError};
use crate::sys::{self, Passed, Transfer};
use crate::{ByteOffset, ByteRange, NotReady};

/// `READ (10)` and `READ (16)`.
const READ_10: u8 = 0x28;
const READ_16: u8 = 0x88;
/// `CHECK CONDITION`: sense data tells why.
const CHECK_CONDITION: u8 = 2;
/// Bytes of one command at the most: more pieces of memory than most adapters take would be needed.
const MOST: u64 = 512 << 10;

/// The command block that reads `sectors` logical sectors from `lba` on: the shorter one wherever it serves, which every bridge knows.
fn read_command(lba: u64, sectors: u32) -> Vec<u8> {
    match (u32::try_from(lba), u16::try_from(sectors)) {
        (Ok(lba), Ok(sectors)) => {
            let [a, b, c, d] = lba.to_be_bytes();
            let [e, f] = sectors.to_be_bytes();
            vec![READ_10, 0, a, b, c, d, 0, e, f, 0]
        }
        _ => {
            let mut command = vec![READ_16, 0];
            command.extend(lba.to_be_bytes());
            command.extend(sectors.to_be_bytes());
            command.extend([0, 0]);
            command
        }
    }
}

/// What sense data says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Sense {
    /// `SENSE KEY`.
    pub(crate) key: u8,
    /// `ADDITIONAL SENSE CODE` and its qualifier.
    pub(crate) code: (u8, u8),
    /// `INFORMATION`, where it is valid: the sector that failed.
    pub(crate) information: Option<u64>,
}

impl Sense {
    /// Decodes fixed and descriptor sense data.
    pub(crate) fn decode(bytes: &[u8]) -> Option<Self> {
        let byte = |at: usize| bytes.get(at).copied();
        match byte(0)? & 0x7F {
            0x70 | 0x71 => {
                let information = bytes.get(3..7).and_then(<[u8]>::first_chunk::<4>).filter(|_| bytes[0] & 0x80 != 0);
                Some(Self {
                    key: byte(2)? & 0x0F,
                    code: (byte(12).unwrap_or(0), byte(13).unwrap_or(0)),
                    information: information.map(|bytes| u64::from(u32::from_be_bytes(*bytes))),
                })
            }
            0x72 | 0x73 => {
                // The information descriptor (0), with its valid bit.
                let is_valid = |descriptor: &&[u8]| descriptor.len() == 12 && descriptor[0] == 0 && descriptor[2] & 0x80 != 0;
                let field = descriptors(bytes).find(is_valid).and_then(|descriptor| descriptor.get(4..12)?.first_chunk::<8>());
                let information = field.map(|field| u64::from_be_bytes(*field));
                Some(Self { key: byte(1)? & 0x0F, code: (byte(2)?, byte(3)?), information })
            }
            _ => None,
        }
    }

    /// In words: the standard's own for what is met, with the codes.
    pub(crate) fn words(self) -> String {
        let key = match self.key {
            1 => "recovered error",
            2 => "not ready",
            3 => "medium error",
            4 => "hardware error",
            5 => "illegal request",
            6 => "unit attention",
            7 => "data protect",
            8 => "blank check",
            0xB => "aborted command",
            _ => "sense",
        };
        let what = match self.code {
            (0x04, _) => ", logical unit not ready",
            (0x08, _) => ", logical unit communication failure",
            (0x10, _) => ", id CRC or ECC error",
            (0x11, _) => ", unrecovered read error",
            (0x14, _) => ", recorded entity not found",
            (0x15, _) => ", random positioning error",
            (0x21, _) => ", logical block address out of range",
            (0x29, _) => ", power on or reset",
            (0x3A, _) => ", medium not present",
            (0x44, _) => ", internal target failure",
            (0x47, _) => ", CRC error of the transfer",
            _ => "",
        };
        format!("{key}{what} ({:X}h/{:02X}h/{:02X}h)", self.key, self.code.0, self.code.1)
    }

    fn not_ready(self) -> Option<NotReady> {
        match (self.key, self.code) {
            (2, (0x04, 0x01)) => Some(NotReady::Becoming),
            (2, (0x04, 0x02 | 0x11)) => Some(NotReady::StandsBy),
            (2, (0x04, 0x03)) => Some(NotReady::ByHand),
            // No medium is told by the system.
            (2, (0x3A, _)) => None,
            (2, _) => Some(NotReady::Other),
            _ => None,
        }
    }

    fn cause(self) -> ReadCause {
        match (self.key, self.code.0) {
            (2, _) => ReadCause::LinkLost,
            (0xB, 0x47 | 0x08 | 0x4B) | (4, 0x47) => ReadCause::Interface,
            _ => ReadCause::Medium,
        }
    }

    /// A drive that was reset or whose medium was changed says so once, to whatever is asked first.
    fn is_told_once(self) -> bool {
        self.key == 6
    }
}

/// Why the drive `file` is not ready, by `TEST UNIT READY` (SPC-4, 6.48).
pub(crate) fn not_ready(file: &File, limit: Duration) -> Option<NotReady> {
    let ask = || sys::scsi_command(file, &mut [0; 6], Transfer::Nothing, limit).ok();
    let told = |passed: &Passed| Sense::decode(&passed.sense).filter(|_| passed.status == CHECK_CONDITION);
    let mut sense = told(&ask()?);
    // What is told once stands before what is so.
    if sense.is_some_and(Sense::is_told_once) {
        sense = told(&ask()?);
    }
    sense.and_then(Sense::not_ready)
}

/// The descriptors of descriptor sense data (SPC-4, 4.5.2), each with its head of two bytes: type and length behind it. None of other data,
/// and none that does not fit.
pub(crate) fn descriptors(sense: &[u8]) -> impl Iterator<Item = &[u8]> {
    let is_of_them = matches!(sense.first().map(|code| code & 0x7F), Some(0x72 | 0x73));
    let end = 8 + sense.get(7).map_or(0, |length| usize::from(*length));
    let mut rest = sense.get(8..end.min(sense.len())).filter(|_| is_of_them).unwrap_or_default();
    std::iter::from_fn(move || {
        let (descriptor, behind) = rest.split_at_checked(2 + usize::from(*rest.get(1)?))?;
        rest = behind;
        Some(descriptor)
    })
}

/// A drive that takes read commands.
pub(crate) struct ScsiReads {
    /// Logical sector in bytes.
    sector: u64,
    /// Bytes of one command at the most.
    most: u64,
    limit: Duration,
    /// It did not take one, or the system did not let it: nothing more is tried this way.
    refused: AtomicBool,
}

/// What came of one command.
enum Came {
    Whole,
    Failed(Sense),
    /// The adapter's word, and what it means.
    Lost(ReadCause, String),
    Refused,
}

impl ScsiReads {
    /// For a drive of logical sectors of `sector` bytes whose adapter takes `most` bytes at once; each command may take `limit`.
    pub(crate) fn new(sector: u64, most: u64, limit: Duration) -> Self {
        let most = (most.min(MOST) / sector * sector).max(sector);
        Self { sector, most, limit, refused: AtomicBool::new(false) }
    }

    /// Reads `buf` from byte `at` on, asking for each sector once. `None` where this way is not open, and for what is not whole sectors.
    pub(crate) fn read(&self, file: &File, at: ByteOffset, buf: &mut [u8]) -> Option<Result<(), ReadError>> {
        let whole = at.0.is_multiple_of(self.sector) && (buf.len() as u64).is_multiple_of(self.sector) && !buf.is_empty();
        if !whole || self.refused.load(Ordering::Relaxed) {
            return None;
        }
        let wanted = ByteRange::sized(at, buf.len() as u64);
        let mut here = at;
        for piece in buf.chunks_mut(usize::try_from(self.most).unwrap_or(512)) {
            let bytes = piece.len() as u64;
            match self.once(file, here, piece) {
                Came::Whole => {}
                Came::Refused if here == at => {
                    self.refused.store(true, Ordering::Relaxed);
                    return None;
                }
                Came::Refused => return Some(Err(ReadError::of(ByteRange::new(here, wanted.end), "the command was not taken"))),
                Came::Lost(cause, words) => {
                    return Some(Err(ReadError::of(ByteRange::new(here, wanted.end), words).because(cause)));
                }
                Came::Failed(sense) => {
                    let bad = self.failed_at(sense, here, bytes);
                    // What lies before it is asked for by itself: a transfer that broke off proves nothing.
                    let before = piece.get_mut(..usize::try_from(bad - here).unwrap_or(0)).unwrap_or_default();
                    let from = match before.is_empty() || matches!(self.once(file, here, before), Came::Whole) {
                        true => bad,
                        false => here,
                    };
                    let error = ReadError::of(ByteRange::new(from, wanted.end), sense.words());
                    return Some(Err(error.because(sense.cause())));
                }
            }
            here = here + bytes;
        }
        Some(Ok(()))
    }

    /// First byte of the sector that failed, as far as the drive says, of `bytes` bytes from `at` on.
    fn failed_at(&self, sense: Sense, at: ByteOffset, bytes: u64) -> ByteOffset {
        let named = sense.information.and_then(|lba| lba.checked_mul(self.sector)).map(ByteOffset);
        named.filter(|named| *named > at && *named < at + bytes).unwrap_or(at)
    }

    fn once(&self, file: &File, at: ByteOffset, buf: &mut [u8]) -> Came {
        let sectors = u32::try_from(buf.len() as u64 / self.sector).unwrap_or(0);
        let mut turn = 0;
        loop {
            let mut command = read_command(at.0 / self.sector, sectors);
            let passed = sys::scsi_command(file, &mut command, Transfer::In(buf), self.limit);
            let came = passed.map_or(Came::Refused, |passed| Self::came(&passed));
            turn += 1;
            if !matches!(&came, Came::Failed(sense) if sense.is_told_once()) || turn > 2 {
                return came;
            }
        }
    }

    fn came(passed: &Passed) -> Came {
        match passed.host_status {
            0 => {}
            // `DID_NO_CONNECT`, `DID_BAD_TARGET`, `DID_TRANSPORT_…` and what the adapter gave up.
            1 | 4 | 0x0E | 0x0F => return Came::Lost(ReadCause::LinkLost, "the drive is off the link".into()),
            3 => return Came::Lost(ReadCause::Medium, "no answer in time".into()),
            other => return Came::Lost(ReadCause::Interface, format!("the transfer failed (host status {other:02X}h)")),
        }
        match (passed.status, Sense::decode(&passed.sense)) {
            // A transfer that came short is none.
            (0, _) if passed.residual == 0 => Came::Whole,
            (0, _) => Came::Lost(ReadCause::Interface, "the transfer came short".into()),
            (CHECK_CONDITION, Some(sense)) if sense.key == 1 => Came::Whole,
            (CHECK_CONDITION, Some(sense)) if sense.key == 5 => Came::Refused,
            (CHECK_CONDITION, Some(sense)) => Came::Failed(sense),
            (status, _) => Came::Lost(ReadCause::Medium, format!("status {status:02X}h")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_are_the_standards() {
        assert_eq!(read_command(0x0102_0304, 0x0506), [0x28, 0, 1, 2, 3, 4, 0, 5, 6, 0]);
        assert_eq!(read_command(1 << 32, 8), [0x88, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 8, 0, 0], "SBC-3, table 57");
        assert_eq!(read_command(0, 65_536)[0], READ_16, "more sectors than the short one counts");
    }

    #[test]
    fn sense_of_both_forms_names_the_sector() {
        let mut fixed = [0; 18];
        (fixed[0], fixed[2], fixed[12]) = (0xF0, 0x03, 0x11);
        fixed[3..7].copy_from_slice(&20_480_u32.to_be_bytes());
        let wanted = Sense { key: 3, code: (0x11, 0), information: Some(20_480) };
        assert_eq!(Sense::decode(&fixed), Some(wanted));
        fixed[0] = 0x70;
        assert_eq!(Sense::decode(&fixed).unwrap().information, None, "the field is not valid");
        let mut descriptor = vec![0x72, 3, 0x11, 4, 0, 0, 0, 12, 0, 10, 0x80, 0];
        descriptor.extend(0x1_0000_5000_u64.to_be_bytes());
        assert_eq!(Sense::decode(&descriptor).unwrap().information, Some(0x1_0000_5000));
        // Another descriptor before it, and one that claims more than there is.
        let mut two = vec![0x72, 0xB, 0x47, 0, 0, 0, 0, 20, 2, 6, 0, 0, 0, 0, 0, 0, 0, 10, 0x80, 0];
        two.extend(77_u64.to_be_bytes());
        assert_eq!(Sense::decode(&two).unwrap().information, Some(77));
        assert_eq!(Sense::decode(&[0x72, 3, 0x11, 0, 0, 0, 0, 200, 9, 250]).unwrap().information, None);
        assert_eq!(Sense::decode(&[0x72, 3]), None);
        assert_eq!(Sense::decode(&[]), None);
        for length in 0..two.len() {
            let _ = Sense::decode(&two[..length]);
        }
    }

    #[test]
    fn what_failed_is_the_place_the_transfer_or_the_link() {
        let sense = |key, code| Sense { key, code: (code, 0), information: None };
        assert_eq!(sense(3, 0x11).cause(), ReadCause::Medium);
        assert_eq!(sense(0xB, 0x47).cause(), ReadCause::Interface);
        assert_eq!(sense(2, 0x3A).cause(), ReadCause::LinkLost);
        assert_eq!(sense(3, 0x11).words(), "medium error, unrecovered read error (3h/11h/00h)");
        let passed =
            |status, host_status, sense: &[u8], residual| Passed { status, host_status, sense: sense.to_vec(), residual };
        let fixed = |key| [&[0x70, 0, key][..], &[0; 15]].concat();
        assert!(matches!(ScsiReads::came(&passed(0, 0, &[], 0)), Came::Whole));
        assert!(matches!(ScsiReads::came(&passed(0, 0, &[], 512)), Came::Lost(ReadCause::Interface, _)));
        assert!(matches!(ScsiReads::came(&passed(2, 0, &fixed(1), 0)), Came::Whole), "the drive helped itself");
        assert!(matches!(ScsiReads::came(&passed(2, 0, &fixed(5), 0)), Came::Refused));
        assert!(matches!(ScsiReads::came(&passed(2, 0, &fixed(3), 0)), Came::Failed(_)));
        assert!(matches!(ScsiReads::came(&passed(0, 1, &[], 0)), Came::Lost(ReadCause::LinkLost, _)));
        assert!(matches!(ScsiReads::came(&passed(0, 3, &[], 0)), Came::Lost(ReadCause::Medium, _)));
        let drive = ScsiReads::new(512, 120 << 10, Duration::from_secs(1));
        let named = |lba| Sense { information: lba, ..sense(3, 0x11) };
        let (at, bytes) = (ByteOffset(51_200), 8192);
        assert_eq!(drive.failed_at(named(Some(105)), at, bytes), ByteOffset(53_760));
        for lba in [None, Some(0), Some(99), Some(116), Some(u64::MAX)] {
            assert_eq!(drive.failed_at(named(lba), at, bytes), at, "{lba:?} is no sector of the request");
        }
    }

    #[test]
    fn why_a_drive_is_not_ready_is_told_by_its_sense() {
        let told = |key, code| Sense { key, code, information: None }.not_ready();
        assert_eq!(told(2, (0x04, 0x01)), Some(NotReady::Becoming));
        assert_eq!(told(2, (0x04, 0x02)), Some(NotReady::StandsBy));
        assert_eq!(told(2, (0x04, 0x03)), Some(NotReady::ByHand));
        assert_eq!((told(2, (0x04, 0x22)), told(2, (0x3A, 0))), (Some(NotReady::Other), None));
        assert_eq!((told(3, (0x11, 0)), told(6, (0x29, 0))), (None, None));
        assert_eq!(not_ready(&tempfile::tempfile().unwrap(), Duration::from_secs(1)), None, "a file takes no command");
    }

    #[test]
    fn what_is_no_whole_sector_and_what_takes_no_commands_goes_the_other_way() {
        let file = tempfile::tempfile().unwrap();
        let drive = ScsiReads::new(4096, 1 << 20, Duration::from_secs(1));
        assert!(drive.read(&file, ByteOffset(512), &mut [0; 4096]).is_none());
        assert!(drive.read(&file, ByteOffset(0), &mut [0; 512]).is_none());
        assert!(!drive.refused.load(Ordering::Relaxed));
        assert!(drive.read(&file, ByteOffset(0), &mut [0; 4096]).is_none(), "a file takes no command");
        assert!(drive.refused.load(Ordering::Relaxed), "and is not asked again");
    }
}
