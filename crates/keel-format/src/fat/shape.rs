//! FAT structures that are known by their own bytes.

use super::mend::{COMMON, FS_INFO, NARROW, SIGNATURE, WIDE};
use crate::shape::{Base, Lead, Shape, each_at, fixed, lead, little, no_leads};
use crate::structure::{Field, Form};

const STANDARD: &str = "the FAT file system specification, 1.03";

/// What is recognised.
pub(crate) const SHAPES: &[Shape] = &[
    Shape {
        name: "FAT boot sector",
        standard: STANDARD,
        bytes: 512,
        reach: fixed::<512>,
        is: |bytes, _| is_boot(bytes),
        fields: boot_fields,
        leads: boot_leads,
    },
    Shape {
        name: "FAT32 FSInfo",
        standard: STANDARD,
        bytes: 512,
        reach: fixed::<512>,
        is: |bytes, _| bytes.starts_with(b"RRaA") && bytes.get(484..488) == Some(b"rrAa"),
        fields: |_| FS_INFO.to_vec(),
        leads: no_leads,
    },
    Shape {
        name: "FAT directory",
        standard: STANDARD,
        bytes: 512,
        reach: |bytes| bytes.len().min(4096),
        // The first two entries of every folder but the root.
        is: |bytes, _| {
            let dots = bytes.starts_with(b".          ") && bytes.get(32..43) == Some(b"..         ");
            dots && bytes.get(11).is_some_and(|attributes| attributes & 0x10 != 0)
        },
        fields: directory_fields,
        leads: no_leads,
    },
];

const DIRECTORY_ENTRY: [Field; 6] = [
    Field::new("DIR_Name", 0, 11, Form::Text, "the file is not listed, or under another name"),
    Field::new("DIR_Attr", 11, 1, Form::Little, "a folder is taken for a file, or a file for a folder"),
    Field::new("DIR_FstClusHI", 20, 2, Form::Little, "another's content is read"),
    Field::new("DIR_WrtDate", 24, 2, Form::Little, ""),
    Field::new("DIR_FstClusLO", 26, 2, Form::Little, "another's content is read"),
    Field::new("DIR_FileSize", 28, 4, Form::Little, "the file is cut, or garbage is read"),
];
const LONG_NAME: [Field; 3] = [
    Field::new("LDIR_Ord", 0, 1, Form::Little, "the long name is lost"),
    Field::new("LDIR_Name1", 1, 10, Form::Text, "the long name is another"),
    Field::new("LDIR_Chksum", 13, 1, Form::Little, "the long name is lost"),
];

/// Each entry of 32 bytes; the first one that begins with 0 ends the directory.
fn directory_fields(bytes: &[u8]) -> Vec<Field> {
    let entries = bytes.chunks_exact(32).take(4096 / 32).enumerate().take_while(|(_, entry)| entry.first() != Some(&0));
    let of = |(index, entry): (usize, &[u8])| {
        let fields: &[Field] = if entry.get(11) == Some(&0x0F) { &LONG_NAME } else { &DIRECTORY_ENTRY };
        each_at(fields, [index * 32])
    };
    entries.flat_map(of).collect()
}

/// True where the numbers of a BPB make sense and no other format's name stands in it.
fn is_boot(bytes: &[u8]) -> bool {
    let jump = matches!(bytes, [0xEB, _, 0x90, ..] | [0xE9, ..]);
    let (sector, cluster) = (little(bytes, 11, 2), little(bytes, 13, 1));
    let fats = matches!(little(bytes, 16, 1), 1 | 2);
    let sizes = matches!(sector, 512 | 1024 | 2048 | 4096) && cluster.is_power_of_two();
    let media = matches!(little(bytes, 21, 1), 0xF0 | 0xF8..=0xFF);
    jump && fats && sizes && media && little(bytes, 14, 2) > 0 && bytes.get(510..512) == Some(&[0x55, 0xAA])
}

/// FAT32 counts its FATs in a field of its own.
fn is_wide(bytes: &[u8]) -> bool {
    little(bytes, 22, 2) == 0
}

fn boot_fields(bytes: &[u8]) -> Vec<Field> {
    let tail: &[Field] = if is_wide(bytes) { &WIDE } else { &NARROW };
    [&COMMON, tail, &[SIGNATURE]].concat()
}

fn boot_leads(bytes: &[u8], base: Base) -> Vec<Lead> {
    let sector = little(bytes, 11, 2);
    let (reserved, fats) = (little(bytes, 14, 2), little(bytes, 16, 1));
    let narrow = little(bytes, 22, 2);
    let fat = if is_wide(bytes) { little(bytes, 36, 4) } else { narrow };
    let behind = reserved.saturating_add(fats.saturating_mul(fat));
    let start = base.volume_or(0);
    let mut leads = vec![lead("BPB_RsvdSecCnt", "the first FAT", start, reserved, sector)];
    if is_wide(bytes) {
        let cluster = little(bytes, 44, 4).saturating_sub(2).saturating_mul(little(bytes, 13, 1));
        leads.extend([
            lead("BPB_RootClus", "the root directory", start, behind.saturating_add(cluster), sector),
            lead("BPB_FSInfo", "FSInfo", start, little(bytes, 48, 2), sector),
            lead("BPB_BkBootSec", "the boot sector's backup", start, little(bytes, 50, 2), sector),
        ]);
    } else {
        leads.push(lead("BPB_RootEntCnt", "the root directory", start, behind, sector));
    }
    leads.into_iter().flatten().collect()
}
