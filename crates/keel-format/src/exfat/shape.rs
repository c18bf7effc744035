//! exFAT structures that are known by their own bytes.

use super::mend::BOOT;
use crate::shape::{Base, Lead, Shape, fixed, lead, little, power};

/// What is recognised.
pub(crate) const SHAPES: &[Shape] = &[Shape {
    name: "exFAT boot sector",
    standard: "the exFAT file system specification, 3.1",
    bytes: 512,
    reach: fixed::<512>,
    is: |bytes, _| bytes.get(3..11) == Some(b"EXFAT   ") && bytes.get(510..512) == Some(&[0x55, 0xAA]),
    fields: |_| BOOT.to_vec(),
    leads,
}];

fn leads(bytes: &[u8], base: Base) -> Vec<Lead> {
    let sector = power(little(bytes, 108, 1));
    let cluster = power(little(bytes, 109, 1));
    let start = base.volume_or(0);
    let heap = little(bytes, 88, 4);
    let root = little(bytes, 96, 4).saturating_sub(2).saturating_mul(cluster).saturating_add(heap);
    let leads = [
        lead("FatOffset", "the first FAT", start, little(bytes, 80, 4), sector),
        lead("ClusterHeapOffset", "cluster 2", start, heap, sector),
        lead("FirstClusterOfRootDirectory", "the root directory", start, root, sector),
    ];
    leads.into_iter().flatten().collect()
}
