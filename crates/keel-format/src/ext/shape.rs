//! ext structures that are known by their own bytes.

use super::mend::SUPERBLOCK;
use crate::shape::{Base, Lead, Shape, fixed, lead, little, power};

/// Where the first superblock stands in its volume, in bytes.
const SUPERBLOCK_AT: u64 = 1024;

/// What is recognised.
pub(crate) const SHAPES: &[Shape] = &[Shape {
    name: "ext superblock",
    standard: "ext4 Data Structures and Algorithms",
    bytes: 1024,
    reach: fixed::<1024>,
    is: |bytes, _| bytes.get(56..58) == Some(&[0x53, 0xEF]) && little(bytes, 24, 4) < 7 && little(bytes, 32, 4) > 0,
    fields: |_| SUPERBLOCK.to_vec(),
    leads,
}];

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
