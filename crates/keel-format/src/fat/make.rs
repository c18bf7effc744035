//! Making a FAT boot sector from a geometry.

use zerocopy::IntoBytes;
use zerocopy::little_endian::{U16, U32};

use super::FatGeometry;
use super::layout::{RawBpb, RawBpb32, RawTail};
use crate::VolumeKind;

/// A boot sector of 512 bytes that states `geometry` for a volume whose first sector is `hidden` sectors into the
/// drive. It carries no boot code.
#[must_use]
pub fn boot_sector(geometry: &FatGeometry, hidden: u32, label: &[u8; 11]) -> Vec<u8> {
    let wide = geometry.kind == VolumeKind::Fat32;
    let small = u16::try_from(geometry.total_sectors).ok().filter(|_| !wide);
    let bpb = RawBpb {
        jmp_boot: [0xEB, if wide { 0x58 } else { 0x3C }, 0x90],
        oem_name: *b"YKEEL   ",
        byts_per_sec: U16::new(u16::try_from(geometry.bytes_per_sector).unwrap_or(512)),
        sec_per_clus: u8::try_from(geometry.sectors_per_cluster).unwrap_or(1),
        rsvd_sec_cnt: U16::new(u16::try_from(geometry.reserved_sectors).unwrap_or(1)),
        num_fats: u8::try_from(geometry.fats).unwrap_or(2),
        root_ent_cnt: U16::new(u16::try_from(geometry.root_entries).unwrap_or(0)),
        tot_sec_16: U16::new(small.unwrap_or(0)),
        media: geometry.media,
        fat_sz_16: U16::new(if wide { 0 } else { u16::try_from(geometry.fat_sectors).unwrap_or(0) }),
        sec_per_trk: U16::new(63),
        num_heads: U16::new(255),
        hidd_sec: U32::new(hidden),
        tot_sec_32: U32::new(if small.is_some() { 0 } else { u32::try_from(geometry.total_sectors).unwrap_or(u32::MAX) }),
    };
    let tail = RawTail {
        drv_num: 0x80,
        reserved1: 0,
        boot_sig: 0x29,
        vol_id: U32::new(geometry.serial),
        vol_lab: *label,
        fil_sys_type: match geometry.kind {
            VolumeKind::Fat12 => *b"FAT12   ",
            VolumeKind::Fat16 => *b"FAT16   ",
            _ => *b"FAT32   ",
        },
    };
    let mut sector = bpb.as_bytes().to_vec();
    if wide {
        let more = RawBpb32 {
            fat_sz_32: U32::new(geometry.fat_sectors),
            ext_flags: U16::new(0),
            fs_ver: U16::new(0),
            root_clus: U32::new(geometry.root_cluster),
            fs_info: U16::new(geometry.fs_info),
            bk_boot_sec: U16::new(geometry.backup),
            reserved: [0; 12],
        };
        sector.extend_from_slice(more.as_bytes());
    }
    sector.extend_from_slice(tail.as_bytes());
    sector.resize(510, 0);
    sector.extend_from_slice(&[0x55, 0xAA]);
    sector
}
