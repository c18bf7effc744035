//! Structures of partition tables that are known by their own bytes.

use super::mbr::layout::RECORDS_AT;
use super::mend::{HEADER, ebr_fields, mbr_fields};
use crate::shape::{Base, Lead, Shape, fixed, lead, little};
use keel_source::ByteOffset;

/// What is recognised.
pub(crate) const SHAPES: &[Shape] = &[
    Shape {
        name: "GPT header",
        standard: "UEFI Specification 2.10, 5.3.2",
        bytes: 512,
        reach: fixed::<512>,
        is: |bytes, _| bytes.starts_with(b"EFI PART"),
        fields: |_| HEADER.to_vec(),
        leads: header_leads,
    },
    Shape {
        name: "EBR",
        standard: "the customary chain of logical partitions",
        bytes: 512,
        reach: fixed::<512>,
        // A table without code and with one entry looks like a link of a chain; the first sector is none.
        is: |bytes, at| at.0 > 0 && is_table(bytes) && is_chained(bytes),
        fields: |_| ebr_fields(),
        leads: ebr_leads,
    },
    Shape {
        name: "MBR",
        standard: "UEFI Specification 2.10, 5.2.1",
        bytes: 512,
        reach: fixed::<512>,
        is: |bytes, _| is_table(bytes),
        fields: |_| mbr_fields(),
        leads: mbr_leads,
    },
];

/// The names of the fields that point, in the order of the records.
const STARTS: [&str; 4] = ["1 StartingLBA", "2 StartingLBA", "3 StartingLBA", "4 StartingLBA"];
/// Types of extended partitions.
const EXTENDED: [u64; 3] = [0x05, 0x0F, 0x85];

fn record(bytes: &[u8], index: usize) -> (u64, u64, u64, u64) {
    let at = RECORDS_AT + index * 16;
    (little(bytes, at, 1), little(bytes, at + 4, 1), little(bytes, at + 8, 4), little(bytes, at + 12, 4))
}

/// Four records that may be ones, of which one says something.
fn is_table(bytes: &[u8]) -> bool {
    let records = [0, 1, 2, 3].map(|index| record(bytes, index));
    let may_be = |(boot, os_type, start, size): (u64, u64, u64, u64)| {
        let is_empty = os_type == 0 && size == 0;
        matches!(boot, 0 | 0x80) && (is_empty || (os_type != 0 && start > 0 && size > 0))
    };
    bytes.get(510..512) == Some(&[0x55, 0xAA]) && records.into_iter().all(may_be) && records.iter().any(|record| record.1 != 0)
}

/// No code, at most two records, the second of which goes on with the chain.
fn is_chained(bytes: &[u8]) -> bool {
    let [_, next, third, fourth] = [0, 1, 2, 3].map(|index| record(bytes, index).1);
    let no_code = bytes.get(..RECORDS_AT).is_some_and(|code| code.iter().all(|byte| *byte == 0));
    no_code && (third, fourth) == (0, 0) && (next == 0 || EXTENDED.contains(&next))
}

fn header_leads(bytes: &[u8], base: Base) -> Vec<Lead> {
    let lba = |field: &'static str, what: &'static str, offset: usize| {
        lead(field, what, ByteOffset(0), little(bytes, offset, 8), base.sector)
    };
    let leads = [
        lba("AlternateLBA", "the other copy of the header", 32),
        lba("FirstUsableLBA", "the first sector for partitions", 40),
        lba("LastUsableLBA", "the last sector for partitions", 48),
        lba("PartitionEntryLBA", "the array of entries", 72),
    ];
    leads.into_iter().flatten().collect()
}

fn mbr_leads(bytes: &[u8], base: Base) -> Vec<Lead> {
    let entry = |(index, field): (usize, &&'static str)| {
        let (_, os_type, start, _) = record(bytes, index);
        let what = if EXTENDED.contains(&os_type) { "the first EBR" } else { "the start of the partition" };
        lead(field, what, ByteOffset(0), start, base.sector)
    };
    STARTS.iter().enumerate().filter_map(entry).collect()
}

/// The own record counts from the EBR itself, the next one from the start of the extended partition.
fn ebr_leads(bytes: &[u8], base: Base) -> Vec<Lead> {
    let own = lead("own StartingLBA", "the start of the logical partition", base.at, record(bytes, 0).2, base.sector);
    let next =
        base.extended.and_then(|extended| lead("next StartingLBA", "the next EBR", extended, record(bytes, 1).2, base.sector));
    own.into_iter().chain(next).collect()
}
