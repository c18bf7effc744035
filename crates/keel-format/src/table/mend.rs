//! The table's structures in all versions: MBR and EBRs, GPT headers and entry arrays, beside what a layout asks for.

use keel_source::{ByteOffset, Lba, SharedSource};

use super::gpt::{self, read_header};
use super::mbr::layout::{RECORDS_AT, SIGNATURE_AT};
use crate::structure::{Computed, Field, Form, Structure};
use crate::{FormatError, Problem, View};

/// The most EBRs that are compared.
const MOST_EBRS: usize = 32;

/// The four fields of one partition record of an MBR or EBR.
macro_rules! record {
    ($name:literal, $at:expr) => {
        [
            Field::new(concat!($name, " BootIndicator"), $at, 1, Form::Little, "starting the operating system from it"),
            Field::new(concat!($name, " OSType"), $at + 4, 1, Form::Little, "the system does not show what lies there"),
            Field::new(concat!($name, " StartingLBA"), $at + 8, 4, Form::Little, "the volume is looked for elsewhere"),
            Field::new(concat!($name, " SizeInLBA"), $at + 12, 4, Form::Little, "the volume is cut, or reaches over its end"),
        ]
    };
}

/// The fields of one entry of a GPT array of 128-byte entries.
macro_rules! entry {
    ($name:literal, $index:expr) => {
        [
            Field::new(concat!($name, " PartitionTypeGUID"), $index * 128, 16, Form::Bytes, "the system does not show it"),
            Field::new(concat!($name, " UniquePartitionGUID"), $index * 128 + 16, 16, Form::Bytes, "it is not found by its name"),
            Field::new(concat!($name, " StartingLBA"), $index * 128 + 32, 8, Form::Little, "the volume is looked for elsewhere"),
            Field::new(concat!($name, " EndingLBA"), $index * 128 + 40, 8, Form::Little, "the volume is cut"),
            Field::new(concat!($name, " Attributes"), $index * 128 + 48, 8, Form::Bytes, "it is hidden, or read-only"),
        ]
    };
}

pub(super) fn mbr_fields() -> Vec<Field> {
    let signature = Field::new("UniqueMBRDiskSignature", 440, 4, Form::Little, "two drives of the same are not both shown");
    let end = Field::new("Signature", SIGNATURE_AT, 2, Form::Bytes, "nothing takes the sector for a table");
    let records =
        [record!("1", RECORDS_AT), record!("2", RECORDS_AT + 16), record!("3", RECORDS_AT + 32), record!("4", RECORDS_AT + 48)];
    [&[signature][..], &records.concat(), &[end]].concat()
}

pub(super) fn ebr_fields() -> Vec<Field> {
    let end = Field::new("Signature", SIGNATURE_AT, 2, Form::Bytes, "the chain is cut here");
    [&record!("own", RECORDS_AT)[..], &record!("next", RECORDS_AT + 16), &[end]].concat()
}

fn array_fields() -> Vec<Field> {
    let entries = [
        entry!("1", 0),
        entry!("2", 1),
        entry!("3", 2),
        entry!("4", 3),
        entry!("5", 4),
        entry!("6", 5),
        entry!("7", 6),
        entry!("8", 7),
    ];
    entries.concat()
}

/// Fields of a GPT header.
pub(super) const HEADER: [Field; 13] = [
    Field::new("Signature", 0, 8, Form::Text, "nothing takes the sector for a GPT"),
    Field::new("Revision", 8, 4, Form::Little, "the header is refused"),
    Field::new("HeaderSize", 12, 4, Form::Little, "the header is refused"),
    Field::new("HeaderCRC32", 16, 4, Form::Little, "the header is refused"),
    Field::new("MyLBA", 24, 8, Form::Little, "the header is refused"),
    Field::new("AlternateLBA", 32, 8, Form::Little, "the other copy is not found"),
    Field::new("FirstUsableLBA", 40, 8, Form::Little, "entries are refused"),
    Field::new("LastUsableLBA", 48, 8, Form::Little, "entries are refused"),
    Field::new("DiskGUID", 56, 16, Form::Bytes, "two drives of the same are not both shown"),
    Field::new("PartitionEntryLBA", 72, 8, Form::Little, "the entries are not found"),
    Field::new("NumberOfPartitionEntries", 80, 4, Form::Little, "the entries do not hold"),
    Field::new("SizeOfPartitionEntry", 84, 4, Form::Little, "every entry is taken wrong"),
    Field::new("PartitionEntryArrayCRC32", 88, 4, Form::Little, "the entries are refused"),
];

/// Sets the checksum of a GPT header.
fn seal_header(bytes: &mut [u8]) {
    let size = bytes.get(12..16).and_then(<[u8]>::first_chunk).map_or(92, |size| u32::from_le_bytes(*size) as usize);
    if let Some(slot) = bytes.get_mut(16..20) {
        slot.fill(0);
    }
    let sum = crc32fast::hash(bytes.get(..size.min(bytes.len())).unwrap_or_default());
    if let Some(slot) = bytes.get_mut(16..20) {
        slot.copy_from_slice(&sum.to_le_bytes());
    }
}

/// The structures of the table of `source`. `wanted` are the sectors that a layout asks for: place and bytes.
#[must_use]
pub fn structures(source: &SharedSource, wanted: &[(ByteOffset, Vec<u8>)]) -> Vec<Structure> {
    let sector = source.sector_size();
    let mut structures = vec![sector_structure(source, "MBR", ByteOffset(0), mbr_fields(), wanted)];
    let others =
        wanted.iter().filter(|(at, bytes)| at.0 > 0 && bytes.len() == sector.0 as usize && !bytes.starts_with(b"EFI PART"));
    let ebrs = others.filter(|(_, bytes)| bytes.get(SIGNATURE_AT..SIGNATURE_AT + 2) == Some(&[0x55, 0xAA]));
    structures.extend(
        ebrs.take(MOST_EBRS)
            .map(|(at, _)| sector_structure(source, &format!("EBR at {}", at.lba(sector)), *at, ebr_fields(), wanted)),
    );
    let last = Lba((source.len() / sector.bytes()).saturating_sub(1));
    let asked = wanted.iter().any(|(_, bytes)| bytes.starts_with(b"EFI PART"));
    let there = [Lba(1), last].into_iter().any(|lba| read_header(source.as_ref(), lba).is_ok());
    if asked || there {
        structures.push(header(source, last, wanted));
        structures.extend(array(source, last, wanted));
    }
    structures
}

/// What the layout asks for at a place.
fn asked_for(wanted: &[(ByteOffset, Vec<u8>)], at: ByteOffset) -> Option<Computed> {
    let bytes = wanted.iter().find(|(place, _)| *place == at).map(|(_, bytes)| bytes.clone())?;
    Some(Computed { bytes, witnesses: Vec::new() })
}

/// An MBR or EBR: it stands once, and the layout says what it should be.
fn sector_structure(
    source: &SharedSource,
    name: &str,
    at: ByteOffset,
    fields: Vec<Field>,
    wanted: &[(ByteOffset, Vec<u8>)],
) -> Structure {
    let computed = asked_for(wanted, at).map(|computed| witnessed(computed, &fields));
    let judge = |at: ByteOffset, bytes: &[u8]| -> Result<(), FormatError> {
        let view = View::new("partition table", at, bytes);
        if view.slice(SIGNATURE_AT, 2, "Signature")? != [0x55, 0xAA] {
            return Err(view.wrong(SIGNATURE_AT, "Signature", u64::from(view.u16(SIGNATURE_AT, "Signature")?), "55 AA"));
        }
        let states = computed.as_ref().is_none_or(|computed| said(&computed.bytes) == said(bytes));
        if states { Ok(()) } else { Err(view.error(RECORDS_AT, Problem::Coding("its entries are not those of the layout"))) }
    };
    let read = Structure::read(source, name, source.sector_size().0 as usize, (at, &[]), &judge, &|bytes| bytes);
    Structure { computed, fields, ..read }
}

/// What systems go by: the signature and the records without their places in cylinders, heads and sectors.
fn said(bytes: &[u8]) -> Vec<u8> {
    let records = (0..4).map(|record| RECORDS_AT + record * 16);
    let parts = records.flat_map(|at| [at..at + 1, at + 4..at + 5, at + 8..at + 16]);
    std::iter::once(440..444).chain(parts).filter_map(|part| bytes.get(part)).flatten().copied().collect()
}

fn witnessed(computed: Computed, fields: &[Field]) -> Computed {
    let witnesses =
        fields.iter().map(|field| (field.name, "the layout, which is settled from the volumes".to_string())).collect();
    Computed { witnesses, ..computed }
}

fn header(source: &SharedSource, last: Lba, wanted: &[(ByteOffset, Vec<u8>)]) -> Structure {
    let sector = source.sector_size();
    let judge = |at: ByteOffset, _: &[u8]| read_header(source.as_ref(), at.lba(sector)).map(|_| ());
    // A backup turned into a primary changes places with its alternate; its array lies in front.
    let adapt = |mut bytes: Vec<u8>| {
        let mut set = |at: usize, value: u64| {
            if let Some(slot) = bytes.get_mut(at..at + 8) {
                slot.copy_from_slice(&value.to_le_bytes());
            }
        };
        set(24, 1);
        set(32, last.0);
        set(72, 2);
        seal_header(&mut bytes);
        bytes
    };
    let places = (Lba(1).offset(sector), &[last.offset(sector)][..]);
    let read = Structure::read(source, "GPT header", sector.0 as usize, places, &judge, &adapt);
    let computed = asked_for(wanted, Lba(1).offset(sector)).map(|computed| witnessed(computed, &HEADER));
    Structure { computed, fields: HEADER.to_vec(), seal: seal_header, ..read }
}

fn array(source: &SharedSource, last: Lba, wanted: &[(ByteOffset, Vec<u8>)]) -> Option<Structure> {
    let sector = source.sector_size();
    let header = |lba: Lba| read_header(source.as_ref(), lba).ok();
    let (primary, backup) = (header(Lba(1)), header(last));
    let any = primary.or(backup)?;
    let len = usize::try_from(u64::from(any.count) * u64::from(any.entry_bytes)).ok()?;
    let main = primary.map_or(Lba(2), |header| header.array).offset(sector);
    let copy = backup.map(|header| header.array.offset(sector));
    let judge = |at: ByteOffset, bytes: &[u8]| {
        let view = View::new("GPT entry array", at, bytes);
        let own: Option<gpt::HeaderFields> = if at == main { primary.or(backup) } else { backup };
        let (computed, found) = (crc32fast::hash(bytes), own.map_or(0, |header| header.array_crc));
        match computed == found {
            true => Ok(()),
            false => Err(view.error(0, Problem::Checksum { field: "PartitionEntryArrayCRC32", found, computed })),
        }
    };
    let copies: Vec<ByteOffset> = copy.into_iter().collect();
    let read = Structure::read(source, "GPT entry array", len, (main, &copies), &judge, &|bytes| bytes);
    let fields = if any.entry_bytes == 128 { array_fields() } else { Vec::new() };
    let computed =
        asked_for(wanted, main).filter(|computed| computed.bytes.len() == len).map(|computed| witnessed(computed, &fields));
    Some(Structure { computed, fields, ..read })
}
