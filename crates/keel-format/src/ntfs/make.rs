//! Making an NTFS boot sector from a geometry.

use zerocopy::IntoBytes;
use zerocopy::little_endian::{U16, U32, U64};

use super::NtfsGeometry;
use super::layout::RawBootSector;

/// How a block size is written: a count of clusters, or the negative power of two of its bytes.
fn block_code(bytes: u32, cluster_bytes: u32) -> i8 {
    if bytes >= cluster_bytes {
        i8::try_from(bytes / cluster_bytes).unwrap_or(1)
    } else {
        -i8::try_from(bytes.trailing_zeros()).unwrap_or(10)
    }
}

/// A boot sector of 512 bytes that states `geometry` for a volume `hidden` sectors into the drive. It carries no boot
/// code.
#[must_use]
pub fn boot_sector(geometry: &NtfsGeometry, hidden: u32) -> Vec<u8> {
    let sectors = geometry.cluster_bytes / geometry.bytes_per_sector.max(1);
    let code = u8::try_from(sectors).ok().filter(|code| *code <= 0x80);
    let raw = RawBootSector {
        jump: [0xEB, 0x52, 0x90],
        oem_id: *b"NTFS    ",
        bytes_per_sector: U16::new(u16::try_from(geometry.bytes_per_sector).unwrap_or(512)),
        sectors_per_cluster: code.unwrap_or_else(|| 0u8.wrapping_sub(u8::try_from(sectors.trailing_zeros()).unwrap_or(0))),
        reserved_sectors: U16::new(0),
        unused: [0; 5],
        media: 0xF8,
        unused2: [0; 2],
        sectors_per_track: U16::new(63),
        number_of_heads: U16::new(255),
        hidden_sectors: U32::new(hidden),
        unused3: U32::new(0),
        drive: U32::new(0x0080_0080),
        total_sectors: U64::new(geometry.total_sectors),
        mft_lcn: U64::new(geometry.mft_lcn),
        mirror_lcn: U64::new(geometry.mirror_lcn),
        clusters_per_record: block_code(geometry.record_bytes, geometry.cluster_bytes),
        unused4: [0; 3],
        clusters_per_index: block_code(geometry.index_bytes, geometry.cluster_bytes),
        unused5: [0; 3],
        serial: U64::new(geometry.serial),
        checksum: U32::new(0),
    };
    let mut sector = raw.as_bytes().to_vec();
    sector.resize(510, 0);
    sector.extend_from_slice(&[0x55, 0xAA]);
    sector
}
