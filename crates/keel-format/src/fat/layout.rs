//! FAT boot sector, FSInfo and directory entries as stored. Field names are the specification's; little-endian.

use keel_source::ByteOffset;
use serde::{Deserialize, Serialize};
use zerocopy::little_endian::{U16, U32};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

use crate::{FormatError, View, VolumeKind};

/// The part of the boot sector that all three kinds share, 36 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawBpb {
    /// `BS_jmpBoot`.
    pub jmp_boot: [u8; 3],
    /// `BS_OEMName`.
    pub oem_name: [u8; 8],
    /// `BPB_BytsPerSec`.
    pub byts_per_sec: U16,
    /// `BPB_SecPerClus`.
    pub sec_per_clus: u8,
    /// `BPB_RsvdSecCnt`, in sectors.
    pub rsvd_sec_cnt: U16,
    /// `BPB_NumFATs`.
    pub num_fats: u8,
    /// `BPB_RootEntCnt`, in 32-byte entries; 0 on FAT32.
    pub root_ent_cnt: U16,
    /// `BPB_TotSec16`, in sectors.
    pub tot_sec_16: U16,
    /// `BPB_Media`.
    pub media: u8,
    /// `BPB_FATSz16`, in sectors.
    pub fat_sz_16: U16,
    /// `BPB_SecPerTrk`.
    pub sec_per_trk: U16,
    /// `BPB_NumHeads`.
    pub num_heads: U16,
    /// `BPB_HiddSec`, in sectors.
    pub hidd_sec: U32,
    /// `BPB_TotSec32`, in sectors.
    pub tot_sec_32: U32,
}
const _: () = assert!(size_of::<RawBpb>() == 36);

/// What follows on FAT32, 28 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawBpb32 {
    /// `BPB_FATSz32`, in sectors.
    pub fat_sz_32: U32,
    /// `BPB_ExtFlags`.
    pub ext_flags: U16,
    /// `BPB_FSVer`.
    pub fs_ver: U16,
    /// `BPB_RootClus`.
    pub root_clus: U32,
    /// `BPB_FSInfo`, in sectors from the start.
    pub fs_info: U16,
    /// `BPB_BkBootSec`, in sectors from the start.
    pub bk_boot_sec: U16,
    /// `BPB_Reserved`.
    pub reserved: [u8; 12],
}
const _: () = assert!(size_of::<RawBpb32>() == 28);

/// The tail that all kinds share, at 36 (FAT12/16) or 64 (FAT32), 26 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawTail {
    /// `BS_DrvNum`.
    pub drv_num: u8,
    /// `BS_Reserved1`.
    pub reserved1: u8,
    /// `BS_BootSig`: 0x29 when the next three are there.
    pub boot_sig: u8,
    /// `BS_VolID`.
    pub vol_id: U32,
    /// `BS_VolLab`.
    pub vol_lab: [u8; 11],
    /// `BS_FilSysType`.
    pub fil_sys_type: [u8; 8],
}
const _: () = assert!(size_of::<RawTail>() == 26);

/// A short directory entry, 32 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawDirEntry {
    /// `DIR_Name`: 8 + 3 OEM characters.
    pub name: [u8; 11],
    /// `DIR_Attr`.
    pub attr: u8,
    /// `DIR_NTRes`: bits 3 and 4 say that base and extension are lower case.
    pub nt_res: u8,
    /// `DIR_CrtTimeTenth`.
    pub crt_time_tenth: u8,
    /// `DIR_CrtTime`.
    pub crt_time: U16,
    /// `DIR_CrtDate`.
    pub crt_date: U16,
    /// `DIR_LstAccDate`.
    pub lst_acc_date: U16,
    /// `DIR_FstClusHI`.
    pub fst_clus_hi: U16,
    /// `DIR_WrtTime`.
    pub wrt_time: U16,
    /// `DIR_WrtDate`.
    pub wrt_date: U16,
    /// `DIR_FstClusLO`.
    pub fst_clus_lo: U16,
    /// `DIR_FileSize`, in bytes.
    pub file_size: U32,
}
const _: () = assert!(size_of::<RawDirEntry>() == 32);

/// A long-name entry, 32 bytes.
#[repr(C)]
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, Immutable, KnownLayout, Unaligned)]
pub struct RawLongEntry {
    /// `LDIR_Ord`: number from 1, bit 6 on the last.
    pub ord: u8,
    /// `LDIR_Name1`: 5 UTF-16 units.
    pub name1: [u8; 10],
    /// `LDIR_Attr`: 0x0F.
    pub attr: u8,
    /// `LDIR_Type`.
    pub kind: u8,
    /// `LDIR_Chksum` of the short name.
    pub chksum: u8,
    /// `LDIR_Name2`: 6 units.
    pub name2: [u8; 12],
    /// `LDIR_FstClusLO`: zero.
    pub fst_clus_lo: U16,
    /// `LDIR_Name3`: 2 units.
    pub name3: [u8; 4],
}
const _: () = assert!(size_of::<RawLongEntry>() == 32);

/// `ATTR_DIRECTORY`.
pub const ATTR_DIRECTORY: u8 = 0x10;
/// `ATTR_VOLUME_ID`.
pub const ATTR_VOLUME_ID: u8 = 0x08;
/// `ATTR_ARCHIVE`.
pub const ATTR_ARCHIVE: u8 = 0x20;
/// `ATTR_LONG_NAME`.
pub const ATTR_LONG_NAME: u8 = 0x0F;
/// First byte of a deleted entry.
pub const DELETED: u8 = 0xE5;
/// Fewest clusters of a FAT16.
pub const LEAST_FAT16: u64 = 4085;
/// Fewest clusters of a FAT32.
pub const LEAST_FAT32: u64 = 65_525;

/// What the boot sector of a FAT volume says, or what was inferred in its place. Every number is checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct FatGeometry {
    /// FAT12, FAT16 or FAT32, by the count of clusters.
    pub kind: VolumeKind,
    /// `BPB_BytsPerSec`.
    pub bytes_per_sector: u32,
    /// `BPB_SecPerClus`.
    pub sectors_per_cluster: u32,
    /// `BPB_RsvdSecCnt`.
    pub reserved_sectors: u32,
    /// `BPB_NumFATs`.
    pub fats: u32,
    /// Sectors of one FAT.
    pub fat_sectors: u32,
    /// `BPB_RootEntCnt`.
    pub root_entries: u32,
    /// `BPB_RootClus`; 0 on FAT12/16.
    pub root_cluster: u32,
    /// Total sectors of the volume.
    pub total_sectors: u64,
    /// `BPB_Media`.
    pub media: u8,
    /// `BS_VolID`.
    pub serial: u32,
    /// `BPB_FSInfo`; 0 on FAT12/16.
    pub fs_info: u16,
    /// `BPB_BkBootSec`; 0 on FAT12/16.
    pub backup: u16,
}

impl FatGeometry {
    /// Reads and checks a boot sector of at least 512 bytes. The mark 55 AA is not asked for here.
    ///
    /// # Errors
    /// [`FormatError`] of the first field that cannot be.
    pub fn parse(view: View<'_>) -> Result<Self, FormatError> {
        let raw: &RawBpb = view.at(0, "BPB")?;
        let bytes_per_sector = u32::from(raw.byts_per_sec.get());
        if !bytes_per_sector.is_power_of_two() || !(512..=4096).contains(&bytes_per_sector) {
            return Err(view.wrong(11, "BPB_BytsPerSec", u64::from(bytes_per_sector), "512, 1024, 2048 or 4096"));
        }
        let sectors_per_cluster = u32::from(raw.sec_per_clus);
        if !sectors_per_cluster.is_power_of_two() {
            return Err(view.wrong(13, "BPB_SecPerClus", u64::from(sectors_per_cluster), "a power of two"));
        }
        let reserved_sectors = u32::from(raw.rsvd_sec_cnt.get());
        if reserved_sectors == 0 {
            return Err(view.wrong(14, "BPB_RsvdSecCnt", 0, "at least 1"));
        }
        let fats = u32::from(raw.num_fats);
        if !(1..=4).contains(&fats) {
            return Err(view.wrong(16, "BPB_NumFATs", u64::from(fats), "1 or 2"));
        }
        if raw.media != 0xF0 && raw.media < 0xF8 {
            return Err(view.wrong(21, "BPB_Media", u64::from(raw.media), "0xF0 or 0xF8 to 0xFF"));
        }
        let wide: Option<&RawBpb32> = if raw.fat_sz_16.get() == 0 { Some(view.at(36, "FAT32 fields")?) } else { None };
        let tail: &RawTail = view.at(if wide.is_some() { 64 } else { 36 }, "tail")?;
        let total_sectors = match raw.tot_sec_16.get() {
            0 => u64::from(raw.tot_sec_32.get()),
            small => u64::from(small),
        };
        let geometry = Self {
            kind: VolumeKind::Fat32,
            bytes_per_sector,
            sectors_per_cluster,
            reserved_sectors,
            fats,
            fat_sectors: wide.map_or(u32::from(raw.fat_sz_16.get()), |wide| wide.fat_sz_32.get()),
            root_entries: u32::from(raw.root_ent_cnt.get()),
            root_cluster: wide.map_or(0, |wide| wide.root_clus.get()),
            total_sectors,
            media: raw.media,
            serial: tail.vol_id.get(),
            fs_info: wide.map_or(0, |wide| wide.fs_info.get()),
            backup: wide.map_or(0, |wide| wide.bk_boot_sec.get()),
        };
        geometry.checked(view)
    }

    /// Checks the numbers against one another and sets the kind.
    fn checked(mut self, view: View<'_>) -> Result<Self, FormatError> {
        if self.fat_sectors == 0 {
            return Err(view.wrong(22, "BPB_FATSz", 0, "at least 1"));
        }
        if self.data_sector() >= self.total_sectors {
            return Err(view.wrong(32, "BPB_TotSec", self.total_sectors, "more than the sectors before the data"));
        }
        let clusters = self.cluster_count();
        let is_wide = self.root_entries == 0 && self.root_cluster != 0;
        self.kind = match clusters {
            _ if is_wide => VolumeKind::Fat32,
            0 => return Err(view.wrong(32, "BPB_TotSec", self.total_sectors, "at least one cluster")),
            1..LEAST_FAT16 => VolumeKind::Fat12,
            LEAST_FAT16..LEAST_FAT32 => VolumeKind::Fat16,
            _ => return Err(view.wrong(17, "BPB_RootEntCnt", u64::from(self.root_entries), "0 with this many clusters")),
        };
        if self.kind != VolumeKind::Fat32 && self.root_entries == 0 {
            return Err(view.wrong(17, "BPB_RootEntCnt", 0, "at least 1"));
        }
        let room = self.entries_in_fat();
        if clusters + 2 > room {
            return Err(view.wrong(22, "BPB_FATSz", u64::from(self.fat_sectors), "room for every cluster"));
        }
        if is_wide && !(2..clusters + 2).contains(&u64::from(self.root_cluster)) {
            return Err(view.wrong(44, "BPB_RootClus", u64::from(self.root_cluster), "a cluster of the volume"));
        }
        Ok(self)
    }

    /// True when `other` leads to the same structures: serial numbers may differ.
    #[must_use]
    pub fn is_same_volume(&self, other: &Self) -> bool {
        let numbers = |one: &Self| (one.data_sector(), one.cluster_bytes(), one.total_sectors, one.root_cluster);
        numbers(self) == numbers(other)
    }

    /// How many entries one FAT has room for.
    #[must_use]
    pub fn entries_in_fat(&self) -> u64 {
        let bits = u64::from(self.fat_sectors) * u64::from(self.bytes_per_sector) * 8;
        bits / self.entry_bits()
    }

    /// Bits of a FAT entry: 12, 16 or 32.
    #[must_use]
    pub fn entry_bits(&self) -> u64 {
        match self.kind {
            VolumeKind::Fat12 => 12,
            VolumeKind::Fat16 => 16,
            _ => 32,
        }
    }

    /// Cluster size in bytes.
    #[must_use]
    pub fn cluster_bytes(&self) -> u32 {
        self.bytes_per_sector.saturating_mul(self.sectors_per_cluster)
    }

    /// Sectors of the fixed root directory (FAT12/16).
    #[must_use]
    pub fn root_sectors(&self) -> u64 {
        (u64::from(self.root_entries) * 32).div_ceil(u64::from(self.bytes_per_sector))
    }

    /// First sector of the data area, where cluster 2 starts.
    #[must_use]
    pub fn data_sector(&self) -> u64 {
        u64::from(self.reserved_sectors) + u64::from(self.fats) * u64::from(self.fat_sectors) + self.root_sectors()
    }

    /// Count of clusters; their numbers run from 2.
    #[must_use]
    pub fn cluster_count(&self) -> u64 {
        self.total_sectors.saturating_sub(self.data_sector()) / u64::from(self.sectors_per_cluster.max(1))
    }

    /// Length of the volume in bytes.
    #[must_use]
    pub fn volume_bytes(&self) -> u64 {
        self.total_sectors.saturating_mul(u64::from(self.bytes_per_sector))
    }

    /// The same volume in at most `room` bytes: FATs, root and clusters where they are, fewer clusters. `None` where too few
    /// are left for its kind: the kind goes by their count.
    #[must_use]
    pub fn shortened(self, room: u64) -> Option<Self> {
        let total_sectors = (room / u64::from(self.bytes_per_sector.max(1))).min(self.total_sectors);
        let short = Self { total_sectors, ..self };
        let least = match self.kind {
            VolumeKind::Fat32 => LEAST_FAT32,
            VolumeKind::Fat16 => LEAST_FAT16,
            _ => 1,
        };
        (short.cluster_count() >= least).then_some(short)
    }

    /// First byte of FAT number `copy` (from 0) in the volume.
    #[must_use]
    pub fn fat_at(&self, copy: u32) -> ByteOffset {
        let sector = u64::from(self.reserved_sectors) + u64::from(copy) * u64::from(self.fat_sectors);
        ByteOffset(sector * u64::from(self.bytes_per_sector))
    }

    /// Length of one FAT in bytes.
    #[must_use]
    pub fn fat_bytes(&self) -> u64 {
        u64::from(self.fat_sectors) * u64::from(self.bytes_per_sector)
    }

    /// First byte of the fixed root directory (FAT12/16).
    #[must_use]
    pub fn root_at(&self) -> ByteOffset {
        self.fat_at(self.fats)
    }

    /// First byte of `cluster` in the volume; `None` for a number that is no cluster of it.
    #[must_use]
    pub fn cluster_at(&self, cluster: u32) -> Option<ByteOffset> {
        let index = u64::from(cluster).checked_sub(2).filter(|index| *index < self.cluster_count())?;
        Some(ByteOffset(self.data_sector() * u64::from(self.bytes_per_sector) + index * u64::from(self.cluster_bytes())))
    }
}
