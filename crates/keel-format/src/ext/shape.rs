//! ext structures that are known by their own bytes.

use super::mend::SUPERBLOCK;
use crate::shape::{Base, Lead, Shape, each_at, fixed, lead, little, no_leads, power, walked};
use crate::structure::{Field, Form};

/// Where the first superblock stands in its volume, in bytes.
const SUPERBLOCK_AT: u64 = 1024;

/// What is recognised.
pub(crate) const SHAPES: &[Shape] = &[
    Shape {
        name: "ext superblock",
        standard: STANDARD,
        bytes: 1024,
        reach: fixed::<1024>,
        is: |bytes, _| bytes.get(56..58) == Some(&[0x53, 0xEF]) && little(bytes, 24, 4) < 7 && little(bytes, 32, 4) > 0,
        fields: |_| SUPERBLOCK.to_vec(),
        leads,
    },
    Shape {
        name: "ext directory block",
        standard: STANDARD,
        bytes: 512,
        reach: |bytes| bytes.len().min(4096),
        // The first two entries of every directory.
        is: |bytes, _| {
            let dot = little(bytes, 4, 2) == 12 && bytes.get(6) == Some(&1) && bytes.get(8) == Some(&b'.');
            dot && bytes.get(18) == Some(&2) && bytes.get(20..22) == Some(b"..") && little(bytes, 0, 4) > 0
        },
        fields: directory_fields,
        leads: no_leads,
    },
    Shape {
        name: "ext extent block",
        standard: STANDARD,
        bytes: 512,
        reach: |bytes| bytes.len().min(4096),
        is: |bytes, _| {
            let (entries, most) = (little(bytes, 2, 2), little(bytes, 4, 2));
            little(bytes, 0, 2) == 0xF30A && entries <= most && (1..=5461).contains(&most) && little(bytes, 6, 2) <= 5
        },
        fields: extent_fields,
        leads: no_leads,
    },
];

const STANDARD: &str = "ext4 Data Structures and Algorithms";

/// An entry of a directory; its name follows it.
const DIRECTORY_ENTRY: [Field; 4] = [
    Field::new("inode", 0, 4, Form::Little, "the name leads to another file, or to none"),
    Field::new("rec_len", 4, 2, Form::Little, "the entries behind it are not found"),
    Field::new("name_len", 6, 1, Form::Little, "the name is cut or has garbage behind it"),
    Field::new("file_type", 7, 1, Form::Little, ""),
];
/// The header of a node of an extent tree.
const EXTENT_HEADER: [Field; 5] = [
    Field::new("eh_magic", 0, 2, Form::Little, "the file does not open"),
    Field::new("eh_entries", 2, 2, Form::Little, "the file is cut, or garbage is read"),
    Field::new("eh_max", 4, 2, Form::Little, "the file does not open"),
    Field::new("eh_depth", 6, 2, Form::Little, "nodes are taken for data, or data for nodes"),
    Field::new("eh_generation", 8, 4, Form::Little, ""),
];
const EXTENT: [Field; 4] = [
    Field::new("ee_block", 0, 4, Form::Little, "content stands at the wrong place in the file"),
    Field::new("ee_len", 4, 2, Form::Little, "the file is cut, or another's content is read"),
    Field::new("ee_start_hi", 6, 2, Form::Little, "another's content is read"),
    Field::new("ee_start_lo", 8, 4, Form::Little, "another's content is read"),
];
const EXTENT_INDEX: [Field; 3] = [
    Field::new("ei_block", 0, 4, Form::Little, "a part of the file is not found"),
    Field::new("ei_leaf_lo", 4, 4, Form::Little, "a part of the file is not found"),
    Field::new("ei_leaf_hi", 8, 2, Form::Little, "a part of the file is not found"),
];

fn directory_fields(bytes: &[u8]) -> Vec<Field> {
    each_at(&DIRECTORY_ENTRY, walked(0, bytes.len().min(4096), |at| usize::try_from(little(bytes, at + 4, 2)).unwrap_or(0), 8))
}

fn extent_fields(bytes: &[u8]) -> Vec<Field> {
    let entries = usize::try_from(little(bytes, 2, 2)).unwrap_or(0);
    let own: &[Field] = if little(bytes, 6, 2) == 0 { &EXTENT } else { &EXTENT_INDEX };
    [EXTENT_HEADER.to_vec(), each_at(own, (1..=entries).map(|entry| entry * 12))].concat()
}

fn leads(bytes: &[u8], base: Base) -> Vec<Lead> {
    let block = SUPERBLOCK_AT * power(little(bytes, 24, 4));
    let (first, per_group) = (little(bytes, 20, 4), little(bytes, 32, 4));
    let own_group = little(bytes, 90, 2);
    // A copy stands at the first byte of its group, the first superblock 1024 bytes into the volume.
    let inside = match own_group {
        0 => SUPERBLOCK_AT,
        group => group.saturating_mul(per_group).saturating_add(first).saturating_mul(block),
    };
    let start = base.volume_or(inside);
    let leads = [
        lead("s_first_data_block", "the group descriptors", start, first + 1, block),
        lead("s_blocks_per_group", "the superblock's first copy", start, per_group.saturating_add(first), block),
    ];
    leads.into_iter().flatten().collect()
}
