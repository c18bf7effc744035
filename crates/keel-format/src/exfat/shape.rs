//! exFAT structures that are known by their own bytes.

use super::mend::BOOT;
use crate::shape::{Base, Lead, Shape, each_at, fixed, lead, little, no_leads, power};
use crate::structure::{Field, Form};

/// What is recognised.
pub(crate) const SHAPES: &[Shape] = &[
    Shape {
        name: "exFAT boot sector",
        standard: "the exFAT file system specification, 3.1",
        bytes: 512,
        reach: fixed::<512>,
        is: |bytes, _| bytes.get(3..11) == Some(b"EXFAT   ") && bytes.get(510..512) == Some(&[0x55, 0xAA]),
        fields: |_| BOOT.to_vec(),
        leads,
    },
    Shape {
        name: "exFAT directory",
        standard: "the exFAT file system specification, 7",
        bytes: 512,
        reach: |bytes| bytes.len().min(4096),
        is: |bytes, _| {
            let set = bytes.first() == Some(&0x85) && bytes.get(32) == Some(&0xC0) && matches!(bytes.get(1), Some(2..=18));
            // A root begins with the label, the bitmap and the up-case table.
            let root = matches!(bytes.first(), Some(0x81 | 0x83)) && matches!(bytes.get(32), Some(0x81 | 0x82));
            set || root
        },
        fields: directory_fields,
        leads: no_leads,
    },
];

const FILE: [Field; 4] = [
    Field::new("EntryType", 0, 1, Form::Little, "the file is not listed"),
    Field::new("SecondaryCount", 1, 1, Form::Little, "the file is not listed"),
    Field::new("SetChecksum", 2, 2, Form::Little, "the file is not listed"),
    Field::new("FileAttributes", 4, 2, Form::Little, "a folder is taken for a file, or a file for a folder"),
];
const STREAM: [Field; 6] = [
    Field::new("EntryType", 0, 1, Form::Little, "the file is not listed"),
    Field::new("GeneralSecondaryFlags", 1, 1, Form::Little, "clusters are looked for in the FAT, or not"),
    Field::new("NameLength", 3, 1, Form::Little, "the name is cut"),
    Field::new("ValidDataLength", 8, 8, Form::Little, "content reads as zeros"),
    Field::new("FirstCluster", 20, 4, Form::Little, "another's content is read"),
    Field::new("DataLength", 24, 8, Form::Little, "the file is cut, or garbage is read"),
];
const OTHER: [Field; 3] = [
    Field::new("EntryType", 0, 1, Form::Little, ""),
    Field::new("FirstCluster", 20, 4, Form::Little, "the bitmap or the up-case table is not found"),
    Field::new("DataLength", 24, 8, Form::Little, "the bitmap or the up-case table is cut"),
];
const NAME: [Field; 2] = [
    Field::new("EntryType", 0, 1, Form::Little, "the name is cut"),
    Field::new("FileName", 2, 30, Form::Text, "the name is another"),
];

/// Each entry of 32 bytes by its type; the first one of type 0 ends the directory.
fn directory_fields(bytes: &[u8]) -> Vec<Field> {
    let entries = bytes.chunks_exact(32).take(4096 / 32).enumerate().take_while(|(_, entry)| entry.first() != Some(&0));
    let of = |(index, entry): (usize, &[u8])| {
        let fields: &[Field] = match entry.first().map(|kind| kind | 0x80) {
            Some(0x85) => &FILE,
            Some(0xC0) => &STREAM,
            Some(0xC1) => &NAME,
            _ => &OTHER,
        };
        each_at(fields, [index * 32])
    };
    entries.flat_map(of).collect()
}

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
