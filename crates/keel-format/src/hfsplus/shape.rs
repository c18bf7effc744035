//! HFS+ structures that are known by their own bytes.

use super::mend::HEADER;
use crate::shape::{Base, Lead, Shape, big, fixed, lead};

/// Where the volume header stands in its volume, in bytes.
const HEADER_AT: u64 = 1024;

/// What is recognised.
pub(crate) const SHAPES: &[Shape] = &[Shape {
    name: "HFS+ volume header",
    standard: "Technical Note 1150",
    bytes: 512,
    reach: fixed::<512>,
    is: |bytes, _| {
        let version = match bytes {
            [b'H', b'+', ..] => 4,
            [b'H', b'X', ..] => 5,
            _ => return false,
        };
        big(bytes, 2, 2) == version && big(bytes, 40, 4).is_power_of_two() && big(bytes, 40, 4) >= 512
    },
    fields: |_| HEADER.to_vec(),
    leads,
}];

fn leads(bytes: &[u8], base: Base) -> Vec<Lead> {
    let block = big(bytes, 40, 4);
    let start = base.volume_or(HEADER_AT);
    let file = |field: &'static str, what: &'static str, offset: usize| lead(field, what, start, big(bytes, offset, 4), block);
    let alternate =
        lead("totalBlocks", "the end of the volume: the alternate header 1024 bytes before", start, big(bytes, 44, 4), block);
    let leads = [
        file("journalInfoBlock", "where the journal lies", 12),
        alternate,
        file("allocationFile.startBlock", "the allocation file", 128),
        file("extentsFile.startBlock", "the extents overflow file", 208),
        file("catalogFile.startBlock", "the catalog file", 288),
        file("attributesFile.startBlock", "the attributes file", 368),
    ];
    leads.into_iter().flatten().collect()
}
