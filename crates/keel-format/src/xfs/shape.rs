//! XFS structures that are known by their own bytes.

use keel_source::ByteOffset;

use super::mend::FIELDS;
use super::mend::headers::{AGF, AGFL, AGI};
use crate::shape::{Base, Lead, Shape, big, fixed, lead, no_leads, power};
use crate::structure::{Field, Form};

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
    header("XFS inode", |bytes, _| bytes.starts_with(b"IN") && matches!(big(bytes, 4, 1), 1..=3), |_| INODE.to_vec()),
    header("XFS directory block", |bytes, _| DIRECTORY_MARKS.iter().any(|mark| bytes.starts_with(*mark)), |_| DIRECTORY.to_vec()),
    header("XFS tree block", |bytes, _| TREE_MARKS.iter().any(|mark| bytes.starts_with(*mark)), |_| TREE.to_vec()),
];

/// Data blocks of directories: of one block, and of more.
const DIRECTORY_MARKS: [&[u8; 4]; 4] = [b"XD2B", b"XDB3", b"XD2D", b"XDD3"];
/// B+trees of free space, of inodes and of extents.
const TREE_MARKS: [&[u8; 4]; 10] = [b"ABTB", b"AB3B", b"ABTC", b"AB3C", b"IABT", b"IAB3", b"FIBT", b"FIB3", b"BMAP", b"BMA3"];

const INODE: [Field; 12] = [
    Field::new("di_magic", 0, 2, Form::Text, "the file does not open"),
    Field::new("di_mode", 2, 2, Form::Big, "a folder is taken for a file, or a file for a folder"),
    Field::new("di_version", 4, 1, Form::Big, "the file does not open"),
    Field::new("di_format", 5, 1, Form::Big, "content is looked for where it is not"),
    Field::new("di_uid", 8, 4, Form::Big, ""),
    Field::new("di_gid", 12, 4, Form::Big, ""),
    Field::new("di_nlink", 16, 4, Form::Big, "the file is given up, or never freed"),
    Field::new("di_size", 56, 8, Form::Big, "the file is cut, or garbage is read"),
    Field::new("di_nblocks", 64, 8, Form::Big, ""),
    Field::new("di_nextents", 76, 4, Form::Big, "the file is cut, or does not open"),
    Field::new("di_forkoff", 82, 1, Form::Big, "attributes are read as extents"),
    Field::new("di_gen", 92, 4, Form::Big, ""),
];
const DIRECTORY: [Field; 2] = [
    Field::new("hdr.magic", 0, 4, Form::Text, "the folder does not list"),
    Field::new("hdr.crc", 4, 4, Form::Little, "the folder does not list (with crc)"),
];
const TREE: [Field; 5] = [
    Field::new("bb_magic", 0, 4, Form::Text, "the tree does not hold"),
    Field::new("bb_level", 4, 2, Form::Big, "nodes are taken for leaves, or leaves for nodes"),
    Field::new("bb_numrecs", 6, 2, Form::Big, "records are lost"),
    Field::new("bb_leftsib", 8, 4, Form::Big, "the tree does not hold"),
    Field::new("bb_rightsib", 12, 4, Form::Big, "the tree does not hold"),
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
