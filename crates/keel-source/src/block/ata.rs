//! ATA commands by way of SCSI (SAT-4, ATA PASS-THROUGH): who the drive is, and how large it is in truth.

use std::fs::File;
use std::time::Duration;

use crate::health::HEALTH_PAGE_BYTES;
use crate::scsi::descriptors;
use crate::sys::{self, Passed, Transfer};

/// How long a drive may take to say something of itself.
const LIMIT: Duration = Duration::from_secs(5);
/// `ATA PASS-THROUGH (16)`.
const PASS_THROUGH: u8 = 0x85;
/// Protocols of it: without data, PIO data-in and PIO data-out.
const NO_DATA: u8 = 3;
const PIO_IN: u8 = 4;
const PIO_OUT: u8 = 5;
/// `IDENTIFY DEVICE`.
const IDENTIFY_DEVICE: u8 = 0xEC;
/// `SMART`, and of its features those that are used.
const SMART: u8 = 0xB0;
pub(super) const SMART_READ_DATA: u8 = 0xD0;
pub(super) const SMART_READ_THRESHOLDS: u8 = 0xD1;
const SMART_READ_LOG: u8 = 0xD5;
const SMART_EXECUTE_OFF_LINE: u8 = 0xD4;

/// The command block for `command`: one block of data in, or none and the registers back. Commands of 48 bits are `extended`.
pub(super) fn block(command: u8, reads: bool, extended: bool) -> [u8; 16] {
    let mut block = [0u8; 16];
    block[0] = PASS_THROUGH;
    block[1] = if reads { PIO_IN } else { NO_DATA } << 1 | u8::from(extended);
    // T_LENGTH in the count, BYT_BLOK, T_DIR; or CK_COND, so that the registers come back.
    block[2] = if reads { 0x0E } else { 0x20 };
    block[6] = u8::from(reads);
    // LBA mode.
    block[13] = 0x40;
    block[14] = command;
    block
}

/// The registers that came back (SAT-4, 12.2.7: ATA status return descriptor, in descriptor sense data).
pub(super) struct Registers {
    /// The LBA of a 48-bit command.
    pub(super) lba: u64,
    /// `DEVICE`: its lower half holds the upper four bits of the LBA of a 28-bit command.
    pub(super) device: u8,
    /// `STATUS`, bit 0: the command failed.
    pub(super) failed: bool,
}

/// The registers in `sense`.
pub(super) fn registers(sense: &[u8]) -> Option<Registers> {
    let field = descriptors(sense).find(|descriptor| descriptor.len() == 14 && descriptor[0] == 0x09)?;
    let bytes = [field[7], field[9], field[11], field[6], field[8], field[10]];
    let lba = bytes.iter().rev().fold(0, |sum, byte| sum << 8 | u64::from(*byte));
    Some(Registers { lba, device: field[12], failed: field[13] & 1 != 0 })
}

/// The command block of `command`, which hands 512 bytes of data to the drive.
pub(super) fn block_out(command: u8) -> [u8; 16] {
    let mut block = block(command, true, false);
    (block[1], block[2]) = (PIO_OUT << 1, 0x06);
    block
}

/// The command block of `SMART` (B0h) with `feature`, for `low` in the first byte of the LBA; the others carry its signature.
fn smart_block(feature: u8, low: u8, reads: bool) -> [u8; 16] {
    let mut block = block(SMART, reads, false);
    (block[4], block[8], block[10], block[12], block[13]) = (feature, low, 0x4F, 0xC2, 0);
    // No registers are asked for: how it ended is in the status.
    if !reads {
        block[2] = 0;
    }
    block
}

/// A SMART page of the drive `file`: the data (`SMART READ DATA`), or the thresholds.
pub(super) fn smart_page(file: &File, feature: u8) -> rustix::io::Result<Box<[u8; HEALTH_PAGE_BYTES]>> {
    let mut page = Box::new([0; HEALTH_PAGE_BYTES]);
    let passed = sys::scsi_command(file, &mut smart_block(feature, 0, true), Transfer::In(page.as_mut_slice()), LIMIT)?;
    if is_done(&passed) { Ok(page) } else { Err(rustix::io::Errno::IO) }
}

/// SMART log `address` of the drive `file`, its first sector (`SMART READ LOG`).
pub(super) fn smart_log(file: &File, address: u8) -> rustix::io::Result<Vec<u8>> {
    let mut log = vec![0; 512];
    let passed = sys::scsi_command(file, &mut smart_block(SMART_READ_LOG, address, true), Transfer::In(&mut log), LIMIT)?;
    if is_done(&passed) { Ok(log) } else { Err(rustix::io::Errno::IO) }
}

/// `SMART EXECUTE OFF-LINE IMMEDIATE` with subcommand `code`.
pub(super) fn execute_off_line(file: &File, code: u8) -> rustix::io::Result<()> {
    let passed = sys::scsi_command(file, &mut smart_block(SMART_EXECUTE_OFF_LINE, code, false), Transfer::Nothing, LIMIT)?;
    if passed.status == 0 && passed.host_status == 0 { Ok(()) } else { Err(rustix::io::Errno::IO) }
}

/// `IDENTIFY DEVICE` data of the drive `file`, through whatever bridge.
pub(super) fn identify(file: &File) -> Option<Vec<u8>> {
    let mut data = vec![0; 512];
    let passed = sys::scsi_command(file, &mut block(IDENTIFY_DEVICE, true, false), Transfer::In(&mut data), LIMIT).ok()?;
    (is_done(&passed) && data.iter().any(|byte| *byte != 0)).then_some(data)
}

pub(super) fn is_done(passed: &Passed) -> bool {
    passed.status == 0 && passed.host_status == 0 && passed.residual < 512
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_are_laid_out_as_the_standard_says() {
        assert_eq!(block(IDENTIFY_DEVICE, true, false), [0x85, 0x08, 0x0E, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0x40, 0xEC, 0]);
        assert_eq!(smart_block(SMART_READ_LOG, 6, true), [0x85, 0x08, 0x0E, 0, 0xD5, 0, 1, 0, 6, 0, 0x4F, 0, 0xC2, 0, 0xB0, 0]);
        assert_eq!(
            smart_block(SMART_EXECUTE_OFF_LINE, 0x7F, false),
            [0x85, 0x06, 0, 0, 0xD4, 0, 0, 0, 0x7F, 0, 0x4F, 0, 0xC2, 0, 0xB0, 0]
        );
    }

    #[test]
    fn the_registers_give_the_last_sector() {
        // Descriptor 09h: extend, error, count, LBA in pairs of upper and lower bytes, device, status.
        let mut sense = vec![0x72, 1, 0, 0x1D, 0, 0, 0, 14];
        sense.extend([0x09, 12, 1, 0, 0, 0, 0x01, 0xAF, 0x00, 0x6D, 0x00, 0x70, 0x40, 0x50]);
        let lba = |sense: &[u8]| registers(sense).filter(|registers| !registers.failed).map(|registers| registers.lba);
        assert_eq!(lba(&sense), Some(0x01_70_6D_AF));
        sense[8 + 8] = 0x02;
        assert_eq!(lba(&sense), Some(0x02_01_70_6D_AF));
        sense[8 + 13] = 0x51;
        assert_eq!(lba(&sense), None, "the command failed");
        for cut in 0..sense.len() {
            let _ = registers(&sense[..cut]);
        }
        assert!(registers(&[0x70; 18]).is_none());
    }

    #[test]
    fn what_is_no_drive_does_not_identify_itself() {
        assert_eq!(identify(&tempfile::tempfile().unwrap()), None);
    }
}
