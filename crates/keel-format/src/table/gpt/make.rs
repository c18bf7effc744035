//! Making a GPT. Source: UEFI Specification 2.10, chapter 5.

use keel_source::{Lba, SectorCount, SectorSize};
use uuid::Uuid;
use zerocopy::IntoBytes;
use zerocopy::little_endian::{U32, U64};

use super::layout::{LEAST_ARRAY_BYTES, REVISION, RawEntry, RawHeader, SIGNATURE};

/// One entry to be written.
#[derive(Debug, Clone)]
pub struct NewEntry {
    /// `PartitionTypeGUID`.
    pub type_guid: Uuid,
    /// `UniquePartitionGUID`.
    pub unique: Uuid,
    /// First sector.
    pub first: Lba,
    /// Length in sectors.
    pub sectors: SectorCount,
    /// `Attributes`.
    pub attributes: u64,
    /// `PartitionName`; what does not fit 36 UTF-16 units is cut.
    pub name: String,
}

/// A whole table to be written.
#[derive(Debug, Clone)]
pub struct NewTable {
    /// `DiskGUID`.
    pub disk: Uuid,
    /// The entries, in slot order; one with a nil type stays unused.
    pub entries: Vec<NewEntry>,
    /// `NumberOfPartitionEntries`: at least 128 is customary.
    pub count: u32,
    /// `SizeOfPartitionEntry`: 128.
    pub entry_bytes: u32,
}

/// The sectors of both copies.
#[derive(Debug, Clone)]
pub struct TableSectors {
    /// Primary header at LBA 1, then its array at LBA 2: place and bytes.
    pub primary: [(Lba, Vec<u8>); 2],
    /// Backup array, then backup header at the last LBA.
    pub backup: [(Lba, Vec<u8>); 2],
    /// First usable LBA.
    pub first_usable: Lba,
    /// Last usable LBA, inclusive.
    pub last_usable: Lba,
}

/// Sectors one array takes: at least 16,384 bytes, as the standard demands.
#[must_use]
pub fn array_sectors(count: u32, entry_bytes: u32, sector: SectorSize) -> u64 {
    (u64::from(count) * u64::from(entry_bytes)).max(LEAST_ARRAY_BYTES).div_ceil(sector.bytes())
}

impl NewTable {
    /// The sectors of both copies for a drive of `drive_sectors` sectors. `None` when the drive is too small, or the
    /// entries do not fit the count or the usable ground.
    #[must_use]
    pub fn sectors(&self, drive_sectors: u64, sector: SectorSize) -> Option<TableSectors> {
        let array_len = array_sectors(self.count, self.entry_bytes, sector);
        let last = drive_sectors.checked_sub(1)?;
        let first_usable = Lba(2 + array_len);
        let last_usable = Lba(last.checked_sub(array_len + 1)?);
        let fits = |entry: &NewEntry| {
            if entry.type_guid.is_nil() {
                return true;
            }
            entry.sectors.0 > 0
                && entry.first >= first_usable
                && entry.first.0.checked_add(entry.sectors.0 - 1).is_some_and(|end| end <= last_usable.0)
        };
        if first_usable > last_usable || self.entries.len() > self.count as usize || !self.entries.iter().all(fits) {
            return None;
        }
        let array = self.array(usize::try_from(array_len * sector.bytes()).ok()?);
        let used = self.count as usize * self.entry_bytes as usize;
        let crc = crc32fast::hash(array.get(..used)?);
        let header = |my: Lba, alternate: Lba, array: Lba| {
            let mut raw = RawHeader {
                signature: *SIGNATURE,
                revision: U32::new(REVISION),
                header_size: U32::new(92),
                header_crc32: U32::new(0),
                reserved: U32::new(0),
                my_lba: U64::new(my.0),
                alternate_lba: U64::new(alternate.0),
                first_usable_lba: U64::new(first_usable.0),
                last_usable_lba: U64::new(last_usable.0),
                disk_guid: self.disk.to_bytes_le(),
                partition_entry_lba: U64::new(array.0),
                number_of_partition_entries: U32::new(self.count),
                size_of_partition_entry: U32::new(self.entry_bytes),
                partition_entry_array_crc32: U32::new(crc),
            };
            raw.header_crc32 = U32::new(crc32fast::hash(raw.as_bytes()));
            let mut bytes = raw.as_bytes().to_vec();
            bytes.resize(sector.0 as usize, 0);
            bytes
        };
        let backup_array = Lba(last - array_len);
        Some(TableSectors {
            primary: [(Lba(1), header(Lba(1), Lba(last), Lba(2))), (Lba(2), array.clone())],
            backup: [(backup_array, array), (Lba(last), header(Lba(last), Lba(1), backup_array))],
            first_usable,
            last_usable,
        })
    }

    fn array(&self, len: usize) -> Vec<u8> {
        let mut array = Vec::with_capacity(len);
        for entry in &self.entries {
            let mut partition_name = [0; 72];
            let pairs = partition_name.as_chunks_mut::<2>().0;
            for (pair, unit) in pairs.iter_mut().zip(entry.name.encode_utf16()) {
                *pair = unit.to_le_bytes();
            }
            let raw = RawEntry {
                partition_type_guid: entry.type_guid.to_bytes_le(),
                unique_partition_guid: entry.unique.to_bytes_le(),
                starting_lba: U64::new(entry.first.0),
                ending_lba: U64::new((entry.first.0 + entry.sectors.0).saturating_sub(1)),
                attributes: U64::new(entry.attributes),
                partition_name,
            };
            array.extend_from_slice(raw.as_bytes());
            array.resize(array.len() + (self.entry_bytes as usize).saturating_sub(128), 0);
        }
        array.resize(len, 0);
        array
    }
}
