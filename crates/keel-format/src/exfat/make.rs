//! Making the boot region of an exFAT volume from its geometry.

use zerocopy::IntoBytes;
use zerocopy::little_endian::{U16, U32, U64};

use super::ExFatGeometry;
use super::layout::{RawBoot, boot_checksum};

/// The twelve sectors of a boot region that states `geometry` for a volume whose first sector is `hidden` sectors into
/// the drive: boot sector without boot code, eight empty extended boot sectors, empty parameters, a reserved sector and
/// the checksum.
#[must_use]
pub fn boot_region(geometry: &ExFatGeometry, hidden: u64) -> Vec<u8> {
    let raw = RawBoot {
        jump_boot: [0xEB, 0x76, 0x90],
        file_system_name: *b"EXFAT   ",
        must_be_zero: [0; 53],
        partition_offset: U64::new(hidden),
        volume_length: U64::new(geometry.volume_length),
        fat_offset: U32::new(geometry.fat_offset),
        fat_length: U32::new(geometry.fat_length),
        cluster_heap_offset: U32::new(geometry.cluster_heap_offset),
        cluster_count: U32::new(geometry.cluster_count),
        first_cluster_of_root_directory: U32::new(geometry.root_cluster),
        volume_serial_number: U32::new(geometry.serial),
        file_system_revision: [0, 1],
        volume_flags: U16::new(0),
        bytes_per_sector_shift: u8::try_from(geometry.bytes_per_sector.trailing_zeros()).unwrap_or(9),
        sectors_per_cluster_shift: u8::try_from(geometry.sectors_per_cluster.trailing_zeros()).unwrap_or(0),
        number_of_fats: geometry.fats,
        drive_select: 0x80,
        percent_in_use: 0xFF,
        reserved: [0; 7],
    };
    let size = geometry.bytes_per_sector as usize;
    let mut sector = raw.as_bytes().to_vec();
    // The boot code is a halt, as the specification asks where none is wanted.
    sector.resize(510, 0xF4);
    sector.extend_from_slice(&[0x55, 0xAA]);
    sector.resize(size, 0);
    let mut region = sector;
    for _ in 0..8 {
        let mut extended = vec![0; size.saturating_sub(4)];
        extended.extend_from_slice(&0xAA55_0000u32.to_le_bytes());
        region.extend(extended);
    }
    region.resize(11 * size, 0);
    let checksum = boot_checksum(&region).to_le_bytes();
    region.extend(checksum.iter().cycle().take(size));
    region
}
