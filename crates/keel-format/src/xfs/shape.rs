//! XFS structures that are known by their own bytes.

use keel_source::ByteOffset;

use super::mend::FIELDS;
use super::mend::headers::{AGF, AGFL, AGI};
use crate::shape::{Base, Lead, Shape, big, fixed, lead, no_leads, power};

const STANDARD: &str = "XFS Algorithms & Data Structures, third edition";

/// What is recognised.
pub(crate) const SHAPES: &[Shape] = &[
    Shape {
        name: "XFS superblock",
        standard: STANDARD,
        bytes: 512,
        reach: fixed::<512>,
        is: |bytes, _| bytes.starts_with(b"XFSB"),
        fields: |_| FIELDS.to_vec(),
        leads,
    },
    header("XFS header of free space", |bytes, _| bytes.starts_with(b"XAGF"), |_| AGF.to_vec()),
    header("XFS header of inodes", |bytes, _| bytes.starts_with(b"XAGI"), |_| AGI.to_vec()),
    header("XFS list of spare blocks", |bytes, _| bytes.starts_with(b"XAFL"), |_| AGFL.to_vec()),
];

const fn header(
    name: &'static str,
    is: fn(&[u8], ByteOffset) -> bool,
    fields: fn(&[u8]) -> Vec<crate::structure::Field>,
) -> Shape {
    Shape { name, standard: STANDARD, bytes: 512, reach: fixed::<512>, is, fields, leads: no_leads }
}

fn leads(bytes: &[u8], base: Base) -> Vec<Lead> {
    let (block, in_group) = (big(bytes, 4, 4), big(bytes, 84, 4));
    let start = base.volume_or(0);
    // Numbers of blocks and inodes hold the group above the place in it.
    let (group_bits, inode_bits) = (big(bytes, 124, 1), big(bytes, 123, 1));
    let place = |number: u64, shift: u64| {
        let (group, inside) = (number >> shift.min(63), number & power(shift).saturating_sub(1));
        group.saturating_mul(in_group).saturating_add(inside)
    };
    let root = big(bytes, 56, 8) >> inode_bits.min(63);
    let leads = [
        lead("sb_logstart", "the log", start, place(big(bytes, 48, 8), group_bits), block),
        lead("sb_rootino", "the block of the root's inode", start, place(root, group_bits), block),
        lead("sb_agblocks", "the superblock's first copy", start, in_group, block),
    ];
    leads.into_iter().flatten().collect()
}
