//! Attributes, file records, names and index entries of a new volume, as bytes.

use zerocopy::IntoBytes;
use zerocopy::little_endian::{U16, U32, U64};

use super::ground::Stretch;
use crate::ntfs::NtfsGeometry;
use crate::ntfs::layout::{
    DATA, END, FILE_NAME, INDEX_ROOT, RawAttribute, RawFileName, RawIndexEntry, RawIndexHeader, RawNonResident, RawRecord,
    RawResident, STANDARD_INFORMATION,
};
use crate::ntfs::record::redo_fixups;
use crate::ntfs::runs::{Run, encode};

/// Record flag: in `$Extend`.
const IN_EXTEND: u16 = 4;
/// Record flag: holds an index that is no directory.
const HAS_VIEW_INDEX: u16 = 8;
/// `FileAttributes`: hidden and system.
const HIDDEN_SYSTEM: u32 = 0x06;
/// `FileAttributes` of what lies in `$Extend`: archive as well.
const ARCHIVE: u32 = 0x20;
/// `FileAttributes` of a name: its file is a directory.
const DIRECTORY: u32 = 0x1000_0000;
/// `FileAttributes`: its file holds an index that is no directory.
const VIEW_INDEX: u32 = 0x2000_0000;
/// Offset of the update sequence array in a record.
const RECORD_ARRAY: usize = size_of::<RawRecord>();
/// The same in an index block.
const BLOCK_ARRAY: usize = 40;
/// Bytes that one word of an update sequence protects.
const STRIDE: usize = 512;
/// Index entry and index header flag: there is a block below.
pub(super) const HAS_BELOW: u16 = 1;
/// Index entry flag: the last one, without a key.
pub(super) const IS_LAST: u16 = 2;

/// A value in whole units of eight bytes.
fn in_eights(mut bytes: Vec<u8>) -> Vec<u8> {
    bytes.resize(bytes.len().next_multiple_of(8), 0);
    bytes
}

fn short(value: usize) -> U16 {
    U16::new(u16::try_from(value).unwrap_or(u16::MAX))
}

fn long(value: usize) -> U32 {
    U32::new(u32::try_from(value).unwrap_or(u32::MAX))
}

/// What a file of the system is, beside its attributes.
#[derive(Debug, Clone, Copy)]
pub(super) struct File {
    /// Number of its record.
    pub(super) number: u32,
    /// Its name; none for records that are kept for later.
    pub(super) name: Option<&'static str>,
    /// Number of the folder that names it.
    pub(super) folder: u32,
    /// `SecurityId`.
    pub(super) security: u32,
    /// True for one with an index of names.
    pub(super) is_directory: bool,
    /// True for one with another index.
    pub(super) has_view_index: bool,
    /// Allocated bytes and bytes of its content.
    pub(super) bytes: [u64; 2],
}

impl File {
    /// Sequence number of its record.
    pub(super) fn sequence(&self) -> u16 {
        match self.number {
            0 => 1,
            number @ 1..16 => u16::try_from(number).unwrap_or(1),
            _ => 1,
        }
    }

    fn attributes(&self) -> u32 {
        let of = |set: bool, bits: u32| if set { bits } else { 0 };
        HIDDEN_SYSTEM | of(self.number >= 16, ARCHIVE) | of(self.has_view_index, VIEW_INDEX)
    }

    /// Reference of its record.
    pub(super) fn reference(&self) -> u64 {
        u64::from(self.sequence()) << 48 | u64::from(self.number)
    }

    /// The value of `$FILE_NAME`. `folder_sequence` is that of the record of its folder.
    pub(super) fn file_name(&self, ticks: u64) -> Vec<u8> {
        let units: Vec<u16> = self.name.unwrap_or_default().encode_utf16().collect();
        let [allocated, bytes] = self.bytes;
        let time = U64::new(ticks);
        let raw = RawFileName {
            // The folders of the system have the sequence of their number.
            parent: U64::new(u64::from(self.folder) << 48 | u64::from(self.folder)),
            created: time,
            modified: time,
            changed: time,
            accessed: time,
            allocated_size: U64::new(allocated),
            data_size: U64::new(bytes),
            file_attributes: U32::new(self.attributes() | if self.is_directory { DIRECTORY } else { 0 }),
            reparse: U32::new(0),
            name_length: u8::try_from(units.len()).unwrap_or(0),
            // Both a long name and a short one.
            namespace: 3,
        };
        [raw.as_bytes().to_vec(), units.iter().flat_map(|unit| unit.to_le_bytes()).collect()].concat()
    }

    /// `$STANDARD_INFORMATION` of NTFS 3.1.
    fn standard(&self, ticks: u64) -> Vec<u8> {
        let mut value: Vec<u8> = [ticks; 4].iter().flat_map(|time| time.to_le_bytes()).collect();
        value.extend(self.attributes().to_le_bytes());
        // Versions and class; then the owner of quotas.
        value.extend([0; 16]);
        value.extend(self.security.to_le_bytes());
        value.extend([0; 16]);
        value
    }
}

/// An attribute without its id: the record numbers them.
#[derive(Debug)]
pub(super) struct Made {
    type_code: u32,
    bytes: Vec<u8>,
}

impl Made {
    /// An attribute whose value stands in the record.
    pub(super) fn resident(type_code: u32, name: &str, value: &[u8]) -> Self {
        let units: Vec<u8> = name.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let head = size_of::<RawAttribute>() + size_of::<RawResident>();
        let name_bytes = in_eights(units);
        let raw = RawResident {
            value_length: long(value.len()),
            value_offset: short(head + name_bytes.len()),
            flags: U16::new(u16::from(type_code == FILE_NAME)),
        };
        let rest = in_eights([raw.as_bytes(), &name_bytes, value].concat());
        Self::new(type_code, false, name, head, &rest)
    }

    /// An attribute whose value of `bytes` bytes lies in `stretch`, as a hole of so many clusters where that is none.
    pub(super) fn outside(type_code: u32, name: &str, stretch: Result<Stretch, u64>, bytes: u64, cluster_bytes: u64) -> Self {
        let units: Vec<u8> = name.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let head = size_of::<RawAttribute>() + size_of::<RawNonResident>();
        let name_bytes = in_eights(units);
        let (lcn, clusters) = match stretch {
            Ok(stretch) => (Some(stretch.first), stretch.clusters),
            Err(hole) => (None, hole),
        };
        let raw = RawNonResident {
            lowest_vcn: U64::new(0),
            highest_vcn: U64::new(clusters.wrapping_sub(1)),
            mapping_pairs_offset: short(head + name_bytes.len()),
            compression_unit: 0,
            reserved: [0; 5],
            allocated_size: U64::new(clusters.saturating_mul(cluster_bytes)),
            data_size: U64::new(bytes),
            initialized_size: U64::new(if lcn.is_some() { bytes } else { 0 }),
        };
        let pairs = encode(&[Run { vcn: 0, lcn, clusters }]);
        let rest = in_eights([raw.as_bytes(), &name_bytes, &pairs].concat());
        Self::new(type_code, true, name, head, &rest)
    }

    fn new(type_code: u32, is_outside: bool, name: &str, name_offset: usize, rest: &[u8]) -> Self {
        let count = name.encode_utf16().count();
        let head = RawAttribute {
            type_code: U32::new(type_code),
            length: long(size_of::<RawAttribute>() + rest.len()),
            non_resident: u8::from(is_outside),
            name_length: u8::try_from(count).unwrap_or(0),
            name_offset: short(if count == 0 { 0 } else { name_offset }),
            flags: U16::new(0),
            id: U16::new(0),
        };
        Self { type_code, bytes: [head.as_bytes(), rest].concat() }
    }

    /// An empty `$DATA`.
    pub(super) fn nothing() -> Self {
        Self::resident(DATA, "", &[])
    }

    /// An `$INDEX_ROOT` of `entries`, the last one among them, in blocks of `geometry`.
    pub(super) fn index(name: &str, collation: (u32, u32), entries: &[u8], flags: u16, geometry: &NtfsGeometry) -> Self {
        let (indexed, rule) = collation;
        let per_block = match geometry.index_bytes / geometry.cluster_bytes.max(1) {
            0 => geometry.index_bytes / STRIDE as u32,
            clusters => clusters,
        };
        let mut value =
            [indexed, rule, geometry.index_bytes, per_block].iter().flat_map(|word| word.to_le_bytes()).collect::<Vec<_>>();
        let length = long(size_of::<RawIndexHeader>() + entries.len());
        let header = RawIndexHeader {
            entries_offset: long(size_of::<RawIndexHeader>()),
            index_length: length,
            allocated_size: length,
            flags: U32::new(u32::from(flags)),
        };
        value.extend(header.as_bytes());
        value.extend(entries);
        Self::resident(INDEX_ROOT, name, &value)
    }
}

/// A record of `file` with `attributes` beside its standard information and name.
pub(super) fn record(file: &File, attributes: Vec<Made>, ticks: u64, record_bytes: u32) -> Vec<u8> {
    let in_extend = file.number >= 16;
    let flags = 1
        | if file.is_directory { crate::ntfs::layout::IS_DIRECTORY } else { 0 }
        | if in_extend { IN_EXTEND } else { 0 }
        | if file.has_view_index { HAS_VIEW_INDEX } else { 0 };
    let mut all = vec![Made::resident(STANDARD_INFORMATION, "", &file.standard(ticks))];
    all.extend(file.name.map(|_| Made::resident(FILE_NAME, "", &file.file_name(ticks))));
    all.extend(attributes);
    // By type; within one, as they were handed over: by name.
    all.sort_by_key(|made| made.type_code);
    sealed_record((file.number, file.sequence()), flags, u16::from(file.name.is_some()), &all, record_bytes)
}

/// A record that no file has yet.
pub(super) fn blank(number: u32, record_bytes: u32) -> Vec<u8> {
    // Those that are kept for the system have the sequence of their number, as if they were in use.
    let sequence = if number < 24 { u16::try_from(number).unwrap_or(1) } else { 1 };
    sealed_record((number, sequence), 0, 0, &[], record_bytes)
}

fn sealed_record((number, sequence): (u32, u16), flags: u16, links: u16, attributes: &[Made], record_bytes: u32) -> Vec<u8> {
    let words = record_bytes as usize / STRIDE + 1;
    let first = (RECORD_ARRAY + words * 2).next_multiple_of(8);
    let mut body = Vec::new();
    for (made, id) in attributes.iter().zip(0u16..) {
        let from = body.len();
        body.extend(&made.bytes);
        body.iter_mut().skip(from + 14).zip(id.to_le_bytes()).for_each(|(slot, byte)| *slot = byte);
    }
    body.extend(END.to_le_bytes());
    body.extend([0; 4]);
    let header = RawRecord {
        magic: *b"FILE",
        usa_offset: short(RECORD_ARRAY),
        usa_count: short(words),
        lsn: U64::new(0),
        sequence_number: U16::new(sequence),
        link_count: U16::new(links),
        attributes_offset: short(first),
        flags: U16::new(flags),
        used_size: long(first + body.len()),
        allocated_size: U32::new(record_bytes),
        base_record: U64::new(0),
        next_attribute_id: short(attributes.len()),
        reserved: U16::new(0),
        record_number: U32::new(number),
    };
    sealed(header.as_bytes().to_vec(), first, &body, record_bytes)
}

/// A structure with `body` from byte `first` on, its update sequence set.
fn sealed(mut bytes: Vec<u8>, first: usize, body: &[u8], len: u32) -> Vec<u8> {
    bytes.resize(first, 0);
    bytes.extend(body);
    bytes.resize(len as usize, 0);
    redo_fixups(&mut bytes);
    bytes
}

/// An index block of `entries`, the first of its index.
pub(super) fn index_block(entries: &[u8], geometry: &NtfsGeometry) -> Vec<u8> {
    let len = geometry.index_bytes as usize;
    let words = len / STRIDE + 1;
    let head = 24;
    let first = (BLOCK_ARRAY + words * 2).next_multiple_of(8);
    let header = RawIndexHeader {
        entries_offset: long(first - head),
        index_length: long(first - head + entries.len()),
        allocated_size: long(len - head),
        flags: U32::new(0),
    };
    let mut bytes = b"INDX".to_vec();
    bytes.extend(short(BLOCK_ARRAY).as_bytes());
    bytes.extend(short(words).as_bytes());
    // Log sequence number, and the number of the block.
    bytes.extend([0; 16]);
    bytes.extend(header.as_bytes());
    sealed(bytes, first, entries, geometry.index_bytes)
}

/// An entry that names a file.
pub(super) fn name_entry(file: &File, ticks: u64) -> Vec<u8> {
    let key = file.file_name(ticks);
    let bytes = size_of::<RawIndexEntry>() + key.len();
    let raw = RawIndexEntry {
        file: U64::new(file.reference()),
        length: short(bytes.next_multiple_of(8)),
        key_length: short(key.len()),
        flags: U16::new(0),
        reserved: U16::new(0),
    };
    in_eights([raw.as_bytes(), &key].concat())
}

/// An entry of an index that is no directory: its key, and the data beside it.
pub(super) fn data_entry(key: &[u8], data: &[u8]) -> Vec<u8> {
    let at = size_of::<RawIndexEntry>() + key.len();
    // The offset and length of the data stand where another entry has its file.
    let raw = RawIndexEntry {
        file: U64::new((at | data.len() << 16) as u64),
        length: short((at + data.len()).next_multiple_of(8)),
        key_length: short(key.len()),
        flags: U16::new(0),
        reserved: U16::new(0),
    };
    in_eights([raw.as_bytes(), key, data].concat())
}

/// The entry that ends a node, and leads to block 0 where there is one below.
pub(super) fn last_entry(has_below: bool) -> Vec<u8> {
    let below = if has_below { HAS_BELOW } else { 0 };
    let raw = RawIndexEntry {
        file: U64::new(0),
        length: short(if has_below { 24 } else { 16 }),
        key_length: U16::new(0),
        flags: U16::new(IS_LAST | below),
        reserved: U16::new(0),
    };
    [raw.as_bytes(), if has_below { &[0; 8][..] } else { &[] }].concat()
}
