//! Where an ATA drive's addresses end, and the commands that set it: read before anything is set, never on its own account.

use std::fs::File;
use std::time::Duration;

use super::ata::{block, block_out, is_done, registers};
use crate::sys::{self, Passed, Transfer};
use crate::{EndMeans, FurtherEnd, Lasts};

/// How long a drive may take for one of these commands.
const LIMIT: Duration = Duration::from_secs(15);
/// `READ NATIVE MAX ADDRESS` and, for 48 bits, `… EXT` (ATA8-ACS, 7.33 and 7.34): the last sector that there is.
const READ_NATIVE_MAX: u8 = 0xF8;
const READ_NATIVE_MAX_EXT: u8 = 0x27;
/// `SET MAX ADDRESS` and `… EXT` (ATA8-ACS, 7.54 and 7.55), taken right behind the command above only.
const SET_MAX: u8 = 0xF9;
const SET_MAX_EXT: u8 = 0x37;
/// `ACCESSIBLE MAX ADDRESS CONFIGURATION` (ACS-4, 7.1): `GET NATIVE MAX ADDRESS EXT` and `SET ACCESSIBLE MAX ADDRESS EXT` by their feature.
const ACCESSIBLE_MAX: u8 = 0x78;
const GET_NATIVE: u8 = 0;
const SET_ACCESSIBLE: u8 = 1;
/// `DEVICE CONFIGURATION` (ATA8-ACS, 7.8): `RESTORE`, `IDENTIFY` and `SET` by their feature.
const CONFIGURATION: u8 = 0xB1;
const RESTORE: u8 = 0xC0;
const CONFIGURATION_IDENTIFY: u8 = 0xC2;
const CONFIGURATION_SET: u8 = 0xC3;
/// The maximum LBA in device configuration data: words 3 to 6.
const CONFIGURATION_LBA: std::ops::Range<usize> = 6..14;
/// The signature in the lower byte of word 255; the upper one makes the sum of all 512 bytes zero.
const SIGNATURE: u8 = 0xA5;

/// What IDENTIFY data says of the ways to set the end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Knows {
    host_protected: bool,
    extended: bool,
    accessible_max: bool,
    configuration: bool,
    /// Sectors that can be addressed as it stands: what a bridge shows of them is another matter.
    addressed: u64,
    /// Bytes of the drive's own logical sector.
    sector_bytes: u64,
}

impl Knows {
    /// Sectors of so many bytes: those of the drive, whatever a bridge makes of them.
    pub(super) fn sectors(self, bytes: u64) -> u64 {
        bytes / self.sector_bytes
    }

    /// The ends that the drive could have behind the one that it has, of `native` and `made` sectors. A drive that cannot be addressed to
    /// its end is not one whose bridge cuts it off.
    pub(super) fn further(self, native: Option<u64>, made: Option<u64>) -> Vec<FurtherEnd> {
        let means = if self.accessible_max { EndMeans::AccessibleMax } else { EndMeans::HostProtected };
        let ends = [native.map(|sectors| (sectors, means)), made.map(|sectors| (sectors, EndMeans::DeviceConfiguration))];
        let behind = ends.into_iter().flatten().filter(|(sectors, _)| *sectors > self.addressed);
        let mut ends: Vec<FurtherEnd> = behind
            .filter_map(|(sectors, means)| Some(FurtherEnd { bytes: sectors.checked_mul(self.sector_bytes)?, means }))
            .collect();
        // What the configuration holds back begins behind the native maximum.
        ends.dedup_by_key(|end| end.bytes);
        ends
    }

    pub(super) fn of(identify: &[u8]) -> Self {
        let word = |at: usize| {
            identify.get(at * 2..at * 2 + 2).and_then(<[u8]>::first_chunk).map_or(0, |pair| u16::from_le_bytes(*pair))
        };
        // Words 83, 106 and 119 say themselves whether they hold: bit 15 off, bit 14 on.
        let bit = |at: usize, bit: u32| (at == 82 || word(at) >> 14 == 1) && word(at) >> bit & 1 != 0;
        let joined = |at: usize, count: usize| (0..count).fold(0, |sum, index| sum | u64::from(word(at + index)) << (16 * index));
        let wide = Some(joined(100, 4)).filter(|sectors| *sectors > 0 && bit(83, 10));
        Self {
            addressed: wide.unwrap_or_else(|| joined(60, 2)),
            sector_bytes: if bit(106, 12) { (joined(117, 2) * 2).max(512) } else { 512 },
            host_protected: bit(82, 10),
            extended: bit(83, 10),
            accessible_max: bit(119, 8),
            configuration: bit(83, 11),
        }
    }
}

/// Puts `lba` where an ATA PASS-THROUGH (16) has it: pairs of upper and lower bytes.
fn with_lba(mut block: [u8; 16], lba: u64, extended: bool) -> [u8; 16] {
    let [a, b, c, d, e, f, ..] = lba.to_le_bytes();
    (block[8], block[10], block[12]) = (a, b, c);
    match extended {
        true => (block[7], block[9], block[11]) = (d, e, f),
        // The upper four bits of 28 stand in DEVICE.
        false => block[13] |= d & 0x0F,
    }
    block
}

fn feature_block(command: u8, feature: u8, extended: bool) -> [u8; 16] {
    let mut block = block(command, false, extended);
    block[4] = feature;
    block
}

/// Reads the native maximum address, by whatever command the drive knows for it.
fn native_block(knows: Knows) -> Option<[u8; 16]> {
    match knows {
        Knows { accessible_max: true, .. } => Some(feature_block(ACCESSIBLE_MAX, GET_NATIVE, true)),
        Knows { host_protected: true, extended: true, .. } => Some(block(READ_NATIVE_MAX_EXT, false, true)),
        Knows { host_protected: true, .. } => Some(block(READ_NATIVE_MAX, false, false)),
        _ => None,
    }
}

/// Sets the last address to `last`.
fn set_block(knows: Knows, means: EndMeans, last: u64, lasts: Lasts) -> Option<[u8; 16]> {
    match means {
        EndMeans::HostProtected if knows.host_protected => {
            let command = if knows.extended { SET_MAX_EXT } else { SET_MAX };
            let mut block = with_lba(block(command, false, knows.extended), last, knows.extended);
            // Bit 0 of the count: the value outlives the power.
            block[6] = u8::from(lasts == Lasts::ForGood);
            Some(block)
        }
        EndMeans::AccessibleMax if knows.accessible_max && lasts == Lasts::ForGood => {
            Some(with_lba(feature_block(ACCESSIBLE_MAX, SET_ACCESSIBLE, true), last, true))
        }
        _ => None,
    }
}

/// The last address that the registers give.
fn last_of(passed: &Passed, extended: bool) -> Option<u64> {
    let registers = registers(&passed.sense).filter(|registers| passed.host_status == 0 && !registers.failed)?;
    Some(match extended {
        true => registers.lba,
        false => registers.lba & 0xFF_FFFF | u64::from(registers.device & 0x0F) << 24,
    })
}

/// True where a command without data was carried out.
fn is_carried_out(passed: &Passed) -> bool {
    let failed = registers(&passed.sense).map(|registers| registers.failed);
    passed.host_status == 0 && failed.map_or(passed.status == 0, |failed| !failed)
}

/// Sectors that the drive `file` has in truth, where it tells; `identify` says how it is asked.
pub(super) fn native_sectors(file: &File, knows: Knows) -> Option<u64> {
    let mut command = native_block(knows)?;
    let passed = sys::scsi_command(file, &mut command, Transfer::Nothing, LIMIT).ok()?;
    last_of(&passed, knows.extended || knows.accessible_max)?.checked_add(1).filter(|sectors| *sectors > 1)
}

/// True for device configuration data whose signature and sum hold.
fn is_whole(data: &[u8]) -> bool {
    data.len() == 512 && data[510] == SIGNATURE && data.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)) == 0
}

/// Device configuration data as the drive was made, which is what it tells whatever was set.
fn configuration(file: &File, knows: Knows) -> Option<Vec<u8>> {
    let mut command = block(CONFIGURATION, true, false);
    command[4] = CONFIGURATION_IDENTIFY;
    let mut data = vec![0; 512];
    let passed = sys::scsi_command(file, &mut command, Transfer::In(&mut data), LIMIT).ok().filter(|_| knows.configuration)?;
    (is_done(&passed) && is_whole(&data)).then_some(data)
}

fn sectors_in(data: &[u8]) -> Option<u64> {
    let last = u64::from_le_bytes(*data.get(CONFIGURATION_LBA)?.first_chunk()?);
    last.checked_add(1).filter(|sectors| *sectors > 1)
}

/// `data` with another maximum, and the sum that it has then.
fn with_sectors(mut data: Vec<u8>, sectors: u64) -> Vec<u8> {
    if let Some(field) = data.get_mut(CONFIGURATION_LBA) {
        field.copy_from_slice(&sectors.saturating_sub(1).to_le_bytes());
    }
    if let [rest @ .., sum] = data.as_mut_slice() {
        *sum = rest.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)).wrapping_neg();
    }
    data
}

/// Sectors that the drive was made with, where a device configuration holds some back.
pub(super) fn made_sectors(file: &File, knows: Knows) -> Option<u64> {
    sectors_in(&configuration(file, knows)?)
}

/// Has the drive `file` show `sectors` sectors.
///
/// # Errors
/// What the system answers; [`std::io::ErrorKind::Unsupported`] where the drive does not know the command, or refuses it.
pub(super) fn set(file: &File, knows: Knows, means: EndMeans, sectors: u64, lasts: Lasts) -> std::io::Result<()> {
    let refused = || std::io::Error::new(std::io::ErrorKind::Unsupported, "the drive does not take the command");
    let carried = |command: &mut [u8; 16], transfer: Transfer<'_>| match sys::scsi_command(file, command, transfer, LIMIT) {
        Ok(passed) if is_carried_out(&passed) => Ok(()),
        Ok(_) => Err(refused()),
        Err(errno) => Err(errno.into()),
    };
    if means == EndMeans::DeviceConfiguration {
        let data = configuration(file, knows).ok_or_else(refused)?;
        return match sectors_in(&data) == Some(sectors) {
            true => carried(&mut feature_block(CONFIGURATION, RESTORE, false), Transfer::Nothing),
            false => {
                let mut command = block_out(CONFIGURATION);
                command[4] = CONFIGURATION_SET;
                carried(&mut command, Transfer::Out(&with_sectors(data, sectors)))
            }
        };
    }
    let mut command = set_block(knows, means, sectors.saturating_sub(1), lasts).ok_or_else(refused)?;
    // Without it right before, a drive aborts the other.
    if means == EndMeans::HostProtected {
        native_sectors(file, knows).ok_or_else(refused)?;
    }
    carried(&mut command, Transfer::Nothing)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn knows(set: &[(usize, u16)]) -> Knows {
        let mut identify = vec![0u8; 512];
        set.iter().for_each(|(at, word)| identify[at * 2..at * 2 + 2].copy_from_slice(&word.to_le_bytes()));
        Knows::of(&identify)
    }

    #[test]
    fn identify_data_says_which_commands_there_are() {
        let none = knows(&[]);
        assert!(!none.host_protected && !none.extended && !none.accessible_max && !none.configuration);
        assert_eq!(Knows::of(&[]), none);
        assert_eq!(knows(&[(83, 0xFFFF), (119, 0xFFFF)]), none, "words that do not hold");
        assert_eq!(
            knows(&[(82, 0x0400), (83, 0x4C00)]),
            Knows { host_protected: true, extended: true, configuration: true, ..none }
        );
        assert_eq!(knows(&[(119, 0x4100)]), Knows { accessible_max: true, ..none });
    }

    #[test]
    fn what_is_hidden_lies_behind_what_can_be_addressed_and_not_behind_what_a_bridge_shows() {
        let drive = knows(&[(82, 0x400), (83, 0x4C00), (100, 1000)]);
        let end = |sectors: u64, means| FurtherEnd { bytes: sectors * 512, means };
        assert_eq!(drive.further(Some(2000), None), [end(2000, EndMeans::HostProtected)]);
        let both = [end(2000, EndMeans::HostProtected), end(3000, EndMeans::DeviceConfiguration)];
        assert_eq!(drive.further(Some(2000), Some(3000)), both);
        assert_eq!(drive.further(Some(2000), Some(2000)), both[..1], "one is enough");
        // Whatever a bridge shows of these thousand sectors: the drive hides nothing.
        assert_eq!(drive.further(Some(1000), Some(1000)), []);
        assert_eq!(drive.further(None, None), []);
        let large = knows(&[(83, 0x4400), (100, 1000), (106, 0x5000), (117, 2048), (119, 0x4100)]);
        assert_eq!(large.further(Some(2000), None), [FurtherEnd { bytes: 2000 * 4096, means: EndMeans::AccessibleMax }]);
        assert_eq!((large.sectors(2000 * 4096), drive.sectors(2000 * 512)), (2000, 2000));
        let small = knows(&[(82, 0x400), (60, 500)]);
        assert_eq!(small.further(Some(600), None), [end(600, EndMeans::HostProtected)]);
        assert_eq!(large.further(Some(u64::MAX), None), [], "no drive has so many");
    }

    #[test]
    fn each_command_is_laid_out_as_its_standard_says() {
        let (wide, narrow, new) = (knows(&[(82, 0x400), (83, 0x4400)]), knows(&[(82, 0x400)]), knows(&[(119, 0x4100)]));
        assert_eq!(native_block(wide), Some([0x85, 0x07, 0x20, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x40, 0x27, 0]));
        assert_eq!(native_block(narrow), Some([0x85, 0x06, 0x20, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x40, 0xF8, 0]));
        assert_eq!(native_block(new), Some([0x85, 0x07, 0x20, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x40, 0x78, 0]));
        assert_eq!(native_block(knows(&[])), None);
        let last = 0x0605_0403_0201;
        let set = |knows, means, last, lasts| set_block(knows, means, last, lasts);
        let (passes, stays) = (Lasts::UntilPowerIsCut, Lasts::ForGood);
        assert_eq!(
            set(wide, EndMeans::HostProtected, last, passes),
            Some([0x85, 0x07, 0x20, 0, 0, 0, 0, 4, 1, 5, 2, 6, 3, 0x40, 0x37, 0])
        );
        assert_eq!(
            set(wide, EndMeans::HostProtected, last, stays),
            Some([0x85, 0x07, 0x20, 0, 0, 0, 1, 4, 1, 5, 2, 6, 3, 0x40, 0x37, 0])
        );
        assert_eq!(
            set(narrow, EndMeans::HostProtected, 0x0A03_0201, passes),
            Some([0x85, 0x06, 0x20, 0, 0, 0, 0, 0, 1, 0, 2, 0, 3, 0x4A, 0xF9, 0])
        );
        assert_eq!(
            set(new, EndMeans::AccessibleMax, last, stays),
            Some([0x85, 0x07, 0x20, 0, 1, 0, 0, 4, 1, 5, 2, 6, 3, 0x40, 0x78, 0])
        );
        assert_eq!(set(new, EndMeans::AccessibleMax, last, passes), None, "it would remember");
        assert_eq!(set(new, EndMeans::HostProtected, last, stays), None, "it does not know that one");
        assert_eq!(feature_block(CONFIGURATION, RESTORE, false), [0x85, 6, 0x20, 0, 0xC0, 0, 0, 0, 0, 0, 0, 0, 0, 0x40, 0xB1, 0]);
        assert_eq!(block_out(CONFIGURATION), [0x85, 0x0A, 0x06, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0x40, 0xB1, 0]);
    }

    #[test]
    fn what_the_registers_say_is_believed_where_the_command_was_carried_out() {
        let passed = |status: u8, ata_status: u8| {
            let mut sense = vec![0x72, 1, 0, 0x1D, 0, 0, 0, 14];
            sense.extend([0x09, 12, 1, 0, 0, 0, 4, 1, 5, 2, 6, 3, 0x4A, ata_status]);
            Passed { status, host_status: 0, sense, residual: 0 }
        };
        assert_eq!(last_of(&passed(2, 0x50), true), Some(0x0605_0403_0201));
        assert_eq!(last_of(&passed(2, 0x50), false), Some(0x0A03_0201));
        assert!(is_carried_out(&passed(2, 0x50)), "the registers come with a check condition");
        assert!(last_of(&passed(2, 0x51), true).is_none() && !is_carried_out(&passed(2, 0x51)));
        let bare = |status, host_status| Passed { status, host_status, sense: Vec::new(), residual: 0 };
        assert!(is_carried_out(&bare(0, 0)) && !is_carried_out(&bare(2, 0)) && !is_carried_out(&bare(0, 1)));
    }

    #[test]
    fn configuration_data_holds_by_signature_and_sum_and_keeps_all_but_the_maximum() {
        let mut made = vec![0u8; 512];
        made[..6].copy_from_slice(&[2, 0, 7, 0, 0x7F, 0]);
        made[510] = SIGNATURE;
        let made = with_sectors(made, 0x1_0000_0000);
        assert!(is_whole(&made));
        assert_eq!(sectors_in(&made), Some(0x1_0000_0000));
        assert_eq!(made[6..14], [0xFF, 0xFF, 0xFF, 0xFF, 0, 0, 0, 0]);
        let set = with_sectors(made.clone(), 1000);
        assert!(is_whole(&set) && sectors_in(&set) == Some(1000));
        assert_eq!((&set[..6], &set[14..511]), (&made[..6], &made[14..511]));
        let mut torn = made.clone();
        torn[7] ^= 1;
        assert!(!is_whole(&torn) && !is_whole(&made[..511]) && !is_whole(&[0; 512]));
    }

    #[test]
    fn what_is_no_drive_takes_none_of_them() {
        let file = tempfile::tempfile().unwrap();
        for knows in [knows(&[]), knows(&[(82, 0x400), (83, 0x4C00), (119, 0x4100)])] {
            assert_eq!((native_sectors(&file, knows), made_sectors(&file, knows)), (None, None));
            for means in [EndMeans::HostProtected, EndMeans::AccessibleMax, EndMeans::DeviceConfiguration] {
                assert!(set(&file, knows, means, 1000, Lasts::ForGood).is_err());
            }
        }
    }
}
