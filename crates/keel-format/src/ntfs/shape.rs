//! NTFS structures that are known by their own bytes.

use super::mend::{BOOT, RECORD};
use crate::shape::{Base, Lead, Shape, each_at, fixed, lead, little, no_leads, walked};
use crate::structure::{Field, Form};

/// Bytes of the header of a file record.
const RECORD_HEADER: usize = 42;

const STANDARD: &str = "NTFS, as customarily documented";

/// What is recognised.
pub(crate) const SHAPES: &[Shape] = &[
    Shape {
        name: "NTFS boot sector",
        standard: STANDARD,
        bytes: 512,
        reach: fixed::<512>,
        is: |bytes, _| bytes.get(3..11) == Some(b"NTFS    ") && bytes.get(510..512) == Some(&[0x55, 0xAA]),
        fields: |_| BOOT.to_vec(),
        leads: boot_leads,
    },
    Shape {
        name: "NTFS file record",
        standard: STANDARD,
        bytes: 512,
        // `AllocatedSize`: the record itself says how long it is.
        reach: |bytes| usize::try_from(little(bytes, 28, 4)).unwrap_or(0).clamp(512, 4096),
        is: |bytes, _| bytes.starts_with(b"FILE") && matches!(little(bytes, 4, 2), 0x2A..=0x40),
        fields: record_fields,
        leads: no_leads,
    },
    Shape {
        name: "NTFS index block",
        standard: STANDARD,
        bytes: 512,
        // `BytesAvailable` counts from the header of the index.
        reach: |bytes| usize::try_from(little(bytes, 32, 4)).unwrap_or(0).saturating_add(24).clamp(512, 4096),
        is: |bytes, _| bytes.starts_with(b"INDX") && matches!(little(bytes, 4, 2), 0x28..=0x40),
        fields: index_fields,
        leads: no_leads,
    },
];

/// The header of each attribute in a file record.
const ATTRIBUTE: [Field; 6] = [
    Field::new("TypeCode", 0, 4, Form::Little, "the attribute is not what it is taken for"),
    Field::new("RecordLength", 4, 4, Form::Little, "the attributes behind it are not found"),
    Field::new("FormCode", 8, 1, Form::Little, "content is looked for where it is not"),
    Field::new("NameLength", 9, 1, Form::Little, ""),
    Field::new("AttributeFlags", 12, 2, Form::Little, "packed or sparse content reads as garbage"),
    Field::new("Instance", 14, 2, Form::Little, ""),
];
/// The header of an index block.
const INDEX: [Field; 9] = [
    Field::new("Signature", 0, 4, Form::Text, "the folder does not list"),
    Field::new("UpdateSequenceOffset", 4, 2, Form::Little, "the block does not read"),
    Field::new("UpdateSequenceSize", 6, 2, Form::Little, "the block does not read"),
    Field::new("Lsn", 8, 8, Form::Little, ""),
    Field::new("ThisBlock", 16, 8, Form::Little, "the folder's tree does not hold"),
    Field::new("FirstIndexEntry", 24, 4, Form::Little, "the entries are not found"),
    Field::new("FirstFreeByte", 28, 4, Form::Little, "entries are lost or garbage is listed"),
    Field::new("BytesAvailable", 32, 4, Form::Little, "nothing can be added"),
    Field::new("Flags", 36, 1, Form::Little, "the blocks below are not found"),
];
/// An entry of it.
const INDEX_ENTRY: [Field; 4] = [
    Field::new("FileReference", 0, 8, Form::Little, "the name leads to another file, or to none"),
    Field::new("Length", 8, 2, Form::Little, "the entries behind it are not found"),
    Field::new("AttributeLength", 10, 2, Form::Little, "the name does not read"),
    Field::new("Flags", 12, 2, Form::Little, "the folder seems to end here, or the tree below is lost"),
];

fn record_fields(bytes: &[u8]) -> Vec<Field> {
    let first = usize::try_from(little(bytes, 20, 2)).unwrap_or(0);
    let end = usize::try_from(little(bytes, 24, 4)).unwrap_or(0).min(bytes.len());
    let len = |at: usize| match little(bytes, at, 4) {
        // The end of the attributes.
        0xFFFF_FFFF => 0,
        _ => usize::try_from(little(bytes, at + 4, 4)).unwrap_or(0),
    };
    let attributes = walked(first.max(RECORD_HEADER), end, len, 16);
    let whole = attributes.into_iter().filter(|at| little(bytes, *at, 4) != 0xFFFF_FFFF);
    [RECORD.to_vec(), each_at(&ATTRIBUTE, whole)].concat()
}

fn index_fields(bytes: &[u8]) -> Vec<Field> {
    let at = |offset: usize| usize::try_from(little(bytes, offset, 4)).unwrap_or(0).saturating_add(24);
    let entries =
        walked(at(24).max(40), at(28).min(bytes.len()), |at| usize::try_from(little(bytes, at + 8, 2)).unwrap_or(0), 16);
    [INDEX.to_vec(), each_at(&INDEX_ENTRY, entries)].concat()
}

fn boot_leads(bytes: &[u8], base: Base) -> Vec<Lead> {
    let (sector, per_cluster) = (little(bytes, 11, 2), little(bytes, 13, 1));
    // Above 128 it is a power of two, negated.
    let per_cluster = if per_cluster > 128 { crate::shape::power(256 - per_cluster) } else { per_cluster };
    let cluster = sector * per_cluster;
    let start = base.volume_or(0);
    let leads = [
        lead("TotalSectors", "the boot sector's backup", start, little(bytes, 40, 8), sector),
        lead("MftStartLcn", "$MFT", start, little(bytes, 48, 8), cluster),
        lead("Mft2StartLcn", "$MFTMirr", start, little(bytes, 56, 8), cluster),
    ];
    leads.into_iter().flatten().collect()
}
