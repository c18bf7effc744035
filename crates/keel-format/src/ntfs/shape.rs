//! NTFS structures that are known by their own bytes.

use super::mend::{BOOT, RECORD};
use crate::shape::{Base, Lead, Shape, fixed, lead, little, no_leads};

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
        fields: |_| RECORD.to_vec(),
        leads: no_leads,
    },
];

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
