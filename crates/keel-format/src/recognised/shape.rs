//! Structures of recognised kinds that are known by their own bytes.

use super::mend::BTRFS;
use crate::shape::{Base, Lead, Shape, fixed, lead, little};

/// Where the mirrors of the superblock stand, in bytes of the volume.
const MIRROR: u64 = 64 << 20;

/// What is recognised.
pub(crate) const SHAPES: &[Shape] = &[Shape {
    name: "Btrfs superblock",
    standard: "the Btrfs documentation, On-disk Format",
    bytes: 512,
    reach: fixed::<512>,
    is: |bytes, _| bytes.get(64..72) == Some(b"_BHRfS_M"),
    fields: |_| BTRFS.to_vec(),
    leads,
}];

fn leads(bytes: &[u8], base: Base) -> Vec<Lead> {
    let start = base.volume_or(little(bytes, 48, 8));
    lead("bytenr", "the superblock's first mirror", start, MIRROR, 1).into_iter().collect()
}
