//! Making MBR and EBR sectors.

use zerocopy::IntoBytes;
use zerocopy::little_endian::U32;

use super::layout::{DISK_SIGNATURE_AT, PROTECTIVE, RECORDS_AT, RawPartitionRecord, SIGNATURE, SIGNATURE_AT};
use keel_source::{Lba, SectorCount};

/// One entry to be written.
#[derive(Debug, Clone, Copy)]
pub struct NewEntry {
    /// `OSType`.
    pub os_type: u8,
    /// `BootIndicator`: 0x80 when active.
    pub boot_indicator: u8,
    /// `StartingLBA` as it shall stand in the entry: absolute in an MBR, relative in an EBR.
    pub starting_lba: u32,
    /// `SizeInLBA`, in logical sectors.
    pub size_in_lba: u32,
}

/// Cylinder, head and sector of an LBA for the customary 255 heads and 63 sectors, capped at the largest address.
/// `lba` counts from the start of the drive.
fn chs(lba: u64) -> [u8; 3] {
    let cylinder = lba / (255 * 63);
    if cylinder > 1022 {
        return [0xFE, 0xFF, 0xFF];
    }
    let low = |value: u64| u8::try_from(value & 0xFF).unwrap_or(0);
    let (head, sector) = (lba / 63 % 255, lba % 63 + 1);
    [low(head), low(sector | (cylinder >> 2 & 0xC0)), low(cylinder)]
}

fn record(entry: NewEntry, base: u64) -> RawPartitionRecord {
    let first = base + u64::from(entry.starting_lba);
    let last = (first + u64::from(entry.size_in_lba)).saturating_sub(1);
    RawPartitionRecord {
        boot_indicator: entry.boot_indicator,
        starting_chs: chs(first),
        os_type: entry.os_type,
        ending_chs: chs(last),
        starting_lba: U32::new(entry.starting_lba),
        size_in_lba: U32::new(entry.size_in_lba),
    }
}

fn put(sector: &mut [u8], at: usize, bytes: &[u8]) {
    if let Some(place) = sector.get_mut(at..at + bytes.len()) {
        place.copy_from_slice(bytes);
    }
}

/// An MBR: boot code of `former` kept, up to four `entries`, `disk_signature` and 55 AA. 512 bytes; the rest of a
/// larger sector stays as it is.
#[must_use]
pub fn mbr_sector(former: &[u8], disk_signature: u32, entries: &[NewEntry]) -> Vec<u8> {
    let mut sector = former.get(..512).map_or_else(|| vec![0; 512], <[u8]>::to_vec);
    put(&mut sector, DISK_SIGNATURE_AT, &disk_signature.to_le_bytes());
    put(&mut sector, DISK_SIGNATURE_AT + 4, &[0, 0]);
    put(&mut sector, RECORDS_AT, &[0; 64]);
    for (index, entry) in entries.iter().take(4).enumerate() {
        put(&mut sector, RECORDS_AT + index * 16, record(*entry, 0).as_bytes());
    }
    put(&mut sector, SIGNATURE_AT, &SIGNATURE.to_le_bytes());
    sector
}

/// The protective MBR of a drive of `drive_sectors` logical sectors. Source: UEFI 2.10 §5.2.3: one entry from LBA 1
/// over the whole drive, or over 2³² − 1 sectors.
#[must_use]
pub fn protective_sector(former: &[u8], drive_sectors: u64) -> Vec<u8> {
    let size_in_lba = u32::try_from(drive_sectors.saturating_sub(1)).unwrap_or(u32::MAX);
    let entry = NewEntry { os_type: PROTECTIVE, boot_indicator: 0, starting_lba: 1, size_in_lba };
    let mut sector = mbr_sector(former, 0, &[entry]);
    // The standard fixes StartingCHS to 0x000200.
    put(&mut sector, RECORDS_AT + 1, &[0x00, 0x02, 0x00]);
    sector
}

/// A logical partition for an EBR chain.
#[derive(Debug, Clone, Copy)]
pub struct NewLogical {
    /// Where its EBR stands.
    pub ebr: Lba,
    /// First sector of the partition, behind the EBR.
    pub first: Lba,
    /// Length in sectors.
    pub sectors: SectorCount,
    /// `OSType`.
    pub os_type: u8,
}

/// The EBR sectors of a chain inside the extended partition that starts at `container`. `None` when a number does not
/// fit the 32-bit fields.
#[must_use]
pub fn ebr_sectors(container: Lba, logicals: &[NewLogical]) -> Option<Vec<(Lba, Vec<u8>)>> {
    let mut sectors = Vec::with_capacity(logicals.len());
    for (index, logical) in logicals.iter().enumerate() {
        let mut sector = vec![0; 512];
        let own = NewEntry {
            os_type: logical.os_type,
            boot_indicator: 0,
            starting_lba: u32::try_from(logical.first.0.checked_sub(logical.ebr.0)?).ok()?,
            size_in_lba: u32::try_from(logical.sectors.0).ok()?,
        };
        put(&mut sector, RECORDS_AT, record(own, logical.ebr.0).as_bytes());
        if let Some(next) = logicals.get(index + 1) {
            let link = NewEntry {
                os_type: 0x05,
                boot_indicator: 0,
                starting_lba: u32::try_from(next.ebr.0.checked_sub(container.0)?).ok()?,
                size_in_lba: u32::try_from(next.first.0.checked_sub(next.ebr.0)? + next.sectors.0).ok()?,
            };
            put(&mut sector, RECORDS_AT + 16, record(link, container.0).as_bytes());
        }
        put(&mut sector, SIGNATURE_AT, &SIGNATURE.to_le_bytes());
        sectors.push((logical.ebr, sector));
    }
    Some(sectors)
}
