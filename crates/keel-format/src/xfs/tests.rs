//! Rooms of XFS on structures made by hand.

use std::ops::ControlFlow;
use std::sync::Arc;

use keel_source::{ByteOffset, MemorySource};
use proptest::prelude::*;
use zerocopy::FromZeros;

use super::directory::{block_entries, short_entries};
use super::layout::{RawSuperblock, SB_CRC_AT, checksum, checksum_holds, seal_superblock};
use super::map::{RawExtent, left_behind};
use super::tree::{FREE_BY_BLOCK, walk_group};
use super::{Fork, Inode, XfsGeometry};
use crate::pages::Pages;
use crate::{NodeKind, Severity, View};

const BLOCK: usize = 1024;

/// A volume of two groups of 2000 and 1500 blocks of 1024 bytes.
pub(super) fn geometry(version: u8) -> XfsGeometry {
    XfsGeometry {
        uuid: [7; 16],
        meta_uuid: [7; 16],
        block_bytes: 1024,
        blocks: 3500,
        group_blocks: 2000,
        groups: 2,
        sector_bytes: 512,
        inode_bytes: 512,
        group_log: 11,
        directory_log: 0,
        root: 128,
        log_start: 0,
        log_blocks: 0,
        version,
        has_types: true,
        ro_compat: 0,
        incompat: 0,
    }
}

fn superblock() -> Vec<u8> {
    use zerocopy::IntoBytes;
    let mut raw = RawSuperblock::new_zeroed();
    raw.sb_magicnum = *b"XFSB";
    raw.sb_blocksize.set(1024);
    raw.sb_blocklog = 10;
    raw.sb_dblocks.set(3500);
    raw.sb_uuid = [7; 16];
    raw.sb_rootino.set(128);
    raw.sb_agblocks.set(2000);
    raw.sb_agcount.set(2);
    raw.sb_agblklog = 11;
    raw.sb_versionnum.set(0x8005);
    raw.sb_sectsize.set(512);
    raw.sb_inodesize.set(512);
    raw.sb_features_incompat.set(1);
    let mut bytes = raw.as_bytes().to_vec();
    bytes.resize(512, 0);
    seal_superblock(&mut bytes);
    bytes
}

#[test]
fn a_superblock_states_its_volume_and_every_absurd_size_is_refused() {
    let bytes = superblock();
    let parse = |bytes: &[u8]| XfsGeometry::parse(View::new("superblock", ByteOffset(0), bytes));
    assert_eq!(parse(&bytes), Ok(XfsGeometry { incompat: 1, ..geometry(5) }));
    assert!(checksum_holds(&bytes, SB_CRC_AT));
    for (offset, value, field) in [
        (0, &b"XFSA"[..], "sb_magicnum"),
        (4, &[0, 0, 4, 1], "sb_blocksize"),
        (4, &[0, 0, 8, 0], "sb_blocksize"),
        (8, &[0, 1, 0, 0, 0, 0, 0, 0], "sb_dblocks"),
        (84, &[0, 0, 0, 0], "sb_dblocks"),
        (88, &[0, 0, 0, 9], "sb_dblocks"),
        (100, &[0x80, 3], "sb_versionnum"),
        (102, &[1, 1], "sb_sectsize"),
        (104, &[8, 0], "sb_inodesize"),
        (124, &[60], "sb_agblklog"),
        (192, &[250], "sb_dirblklog"),
    ] {
        let mut wrong = bytes.clone();
        wrong[offset..offset + value.len()].copy_from_slice(value);
        let error = parse(&wrong).unwrap_err().to_string();
        assert!(error.contains(field), "{field}: {error}");
    }
    assert!(parse(&bytes[..200]).is_err());
    // A group larger than any power of two that 32 bits hold.
    let mut vast = bytes.clone();
    vast[84..88].fill(0xFF);
    vast[88..92].copy_from_slice(&1u32.to_be_bytes());
    assert!(parse(&vast).unwrap_err().to_string().contains("sb_agblklog"));
    // Folders of metadata are said to be what is not read, not a volume without files.
    let mut other = bytes;
    other[218] = 1;
    assert!(parse(&other).unwrap_err().to_string().contains("not read yet"));
}

#[test]
fn numbers_lead_to_places_inside_their_groups_and_nowhere_else() {
    let geometry = geometry(5);
    assert_eq!(geometry.inode_at(128), Some(ByteOffset(64 * 1024)));
    assert_eq!(geometry.inode_of(ByteOffset(64 * 1024 + 512)), Some(129));
    let second = geometry.inode_number(1, 6);
    assert_eq!(geometry.inode_at(second), Some(ByteOffset((2000 + 3) * 1024)));
    assert_eq!(geometry.inode_of(geometry.inode_at(second).unwrap()), Some(second));
    assert_eq!(geometry.inode_at(geometry.inode_number(2, 0)), None);
    assert_eq!(geometry.inode_at(u64::MAX), None);
    assert_eq!(geometry.run_at(1 << 11 | 1499, 1), Some(ByteOffset(3499 * 1024)));
    assert_eq!(geometry.run_at(1 << 11 | 1499, 2), None);
    assert_eq!(geometry.run_at(1999, 1), Some(ByteOffset(1999 * 1024)));
    assert_eq!(geometry.run_at(2000, 1), None, "a block between two groups");
    assert_eq!(geometry.run_at(3, u64::MAX), None);
}

fn record(offset: u64, block: u64, count: u64, written: bool) -> [u8; 16] {
    let high = u64::from(!written) << 63 | offset << 9 | block >> 43;
    let low = block << 21 | count;
    let mut bytes = [0; 16];
    bytes[..8].copy_from_slice(&high.to_be_bytes());
    bytes[8..].copy_from_slice(&low.to_be_bytes());
    bytes
}

proptest! {
    #[test]
    fn extents_come_back_from_their_128_bits(
        offset in 0u64..1 << 54, block in 0u64..1 << 52, count in 0u64..1 << 21, written: bool
    ) {
        let bytes = record(offset, block, count, written);
        let raw = RawExtent::parse(View::new("extent", ByteOffset(0), &bytes)).unwrap();
        prop_assert_eq!(raw, RawExtent { offset, block, count, written });
    }

    #[test]
    fn any_bytes_may_stand_in_a_directory_block(bytes in proptest::collection::vec(any::<u8>(), BLOCK), mark in 0usize..5, version in 4u8..6) {
        let mut bytes = bytes;
        if let Some(mark) = [b"XD2B", b"XD2D", b"XDB3", b"XDD3"].get(mark) {
            bytes[..4].copy_from_slice(*mark);
        }
        let geometry = geometry(version);
        let (names, _) = block_entries(&geometry, &bytes, ByteOffset(0));
        prop_assert!(names.iter().all(|name| geometry.inode_at(name.inode).is_some()));
        let (names, _) = short_entries(&geometry, &bytes[..300], ByteOffset(0));
        prop_assert!(names.iter().all(|name| geometry.inode_at(name.inode).is_some()));
    }
}

#[test]
fn what_a_freed_inode_left_ends_at_the_first_extent_that_cannot_be() {
    let geometry = geometry(5);
    let left = |records: &[[u8; 16]]| {
        let bytes = records.concat();
        let map = left_behind(&geometry, &Fork { format: 2, bytes: &bytes, at: ByteOffset(0), extents: 0 });
        map.held
    };
    let good = [record(0, 100, 5, true), record(5, 200, 5, true)];
    assert_eq!(left(&good), [100..105, 200..205]);
    assert_eq!(left(&[good[0], record(2, 200, 5, true)]).len(), 1, "it overlaps");
    assert_eq!(left(&[good[0], record(5, 1998, 5, true)]).len(), 1, "over the end of its group");
    assert_eq!(left(&[good[0], [0; 16], good[1]]).len(), 1);
    assert_eq!(left(&[good[0], record((1 << 54) - 1, 300, 5, true)]).len(), 1, "behind the largest file");
    assert!(left(&[record(0, 0, 5, true)]).is_empty(), "the superblock");
}

/// A block of a directory with entries of the fourth version: `(name, inode)`, and room behind them.
fn directory(names: &[(&str, u64)]) -> Vec<u8> {
    let mut bytes = vec![0; BLOCK];
    bytes[..4].copy_from_slice(b"XD2D");
    let mut at = 16;
    for (name, inode) in names {
        bytes[at..at + 8].copy_from_slice(&inode.to_be_bytes());
        bytes[at + 8] = u8::try_from(name.len()).unwrap();
        bytes[at + 9..at + 9 + name.len()].copy_from_slice(name.as_bytes());
        bytes[at + 9 + name.len()] = 1;
        let next = (at + 12 + name.len()).next_multiple_of(8);
        bytes[next - 2..next].copy_from_slice(&u16::try_from(at).unwrap().to_be_bytes());
        at = next;
    }
    room(&mut bytes, at, BLOCK - at);
    bytes
}

fn room(bytes: &mut [u8], at: usize, len: usize) {
    bytes[at..at + 2].fill(0xFF);
    bytes[at + 2..at + 4].copy_from_slice(&u16::try_from(len).unwrap().to_be_bytes());
    bytes[at + len - 2..at + len].copy_from_slice(&u16::try_from(at).unwrap().to_be_bytes());
}

#[test]
fn names_that_were_deleted_are_read_from_the_room_they_left() {
    let geometry = geometry(4);
    let mut bytes = directory(&[("anchor.txt", 130), ("berth.txt", 131), ("cable.txt", 132)]);
    let read = |bytes: &[u8]| {
        let (names, findings) = block_entries(&geometry, bytes, ByteOffset(0));
        assert_eq!(findings, []);
        names.iter().map(|name| (name.text(), name.inode, name.present)).collect::<Vec<_>>()
    };
    let named = |name: &str, inode, present| (name.to_string(), inode, present);
    assert_eq!(read(&bytes), [named("anchor.txt", 130, true), named("berth.txt", 131, true), named("cable.txt", 132, true)]);
    room(&mut bytes, 40, 24);
    assert_eq!(read(&bytes), [named("anchor.txt", 130, true), named("berth.txt", 131, false), named("cable.txt", 132, true)]);
    // Deleting the next one as well makes one room of both and of what is free behind them.
    room(&mut bytes, 40, BLOCK - 40);
    assert_eq!(read(&bytes), [named("anchor.txt", 130, true), named("berth.txt", 131, false), named("cable.txt", 132, false)]);
}

#[test]
fn a_damaged_entry_ends_its_block_and_is_told() {
    let geometry = geometry(4);
    let mut bytes = directory(&[("anchor.txt", 130), ("berth.txt", 131)]);
    bytes[40..48].copy_from_slice(&u64::MAX.wrapping_sub(1 << 60).to_be_bytes());
    let (names, findings) = block_entries(&geometry, &bytes, ByteOffset(4096));
    assert_eq!(names.len(), 1);
    assert!(
        findings.len() == 1 && findings[0].severity == Severity::Broken && findings[0].at_byte == Some(ByteOffset(4096 + 40))
    );
}

#[test]
fn short_directories_have_numbers_of_four_or_of_eight_bytes() {
    let geometry = geometry(4);
    for wide in [false, true] {
        let mut bytes = vec![1, u8::from(wide)];
        let number = |value: u64| if wide { value.to_be_bytes().to_vec() } else { value.to_be_bytes()[4..].to_vec() };
        bytes.extend(number(128));
        bytes.extend([5, 0, 96]);
        bytes.extend(b"berth\x02");
        bytes.extend(number(140));
        let (names, finding) = short_entries(&geometry, &bytes, ByteOffset(0));
        assert_eq!(finding, None);
        assert_eq!((names.len(), names[0].inode, names[0].file_type, names[0].text().as_str()), (1, 140, 2, "berth"));
        let (names, finding) = short_entries(&geometry, &bytes[..bytes.len() - 1], ByteOffset(0));
        assert!(names.is_empty() && finding.is_some());
    }
}

/// A block of the tree of free space of the fourth version.
fn tree_block(level: u16, records: &[(u32, u32)]) -> Vec<u8> {
    let mut bytes = vec![0; BLOCK];
    bytes[..4].copy_from_slice(b"ABTB");
    bytes[4..6].copy_from_slice(&level.to_be_bytes());
    bytes[6..8].copy_from_slice(&u16::try_from(records.len()).unwrap().to_be_bytes());
    let most = (BLOCK - 16) / 12;
    for (index, (first, second)) in records.iter().enumerate() {
        if level == 0 {
            bytes[16 + index * 8..20 + index * 8].copy_from_slice(&first.to_be_bytes());
            bytes[20 + index * 8..24 + index * 8].copy_from_slice(&second.to_be_bytes());
        } else {
            bytes[16 + index * 8..20 + index * 8].copy_from_slice(&first.to_be_bytes());
            let pointer = 16 + most * 8 + index * 4;
            bytes[pointer..pointer + 4].copy_from_slice(&second.to_be_bytes());
        }
    }
    bytes
}

#[test]
fn a_tree_that_leads_to_itself_ends_and_a_damaged_leaf_hides_no_other() {
    let geometry = geometry(4);
    let mut drive = vec![0; 3500 * BLOCK];
    let mut put = |block: usize, bytes: Vec<u8>| drive[block * BLOCK..(block + 1) * BLOCK].copy_from_slice(&bytes);
    put(10, tree_block(1, &[(5, 11), (100, 12), (500, 13)]));
    put(11, tree_block(0, &[(5, 3), (20, 1)]));
    put(12, vec![0xEE; BLOCK]);
    put(13, tree_block(0, &[(500, 40)]));
    // Every child of this one is a node of the same level as itself.
    put(20, tree_block(2, &[(5, 21), (6, 21)]));
    put(21, tree_block(1, &[(5, 20), (6, 21)]));
    let pages = Pages::new(Arc::new(MemorySource::new("tree", drive, 512)));
    let walk = |root, levels| {
        let mut seen = Vec::new();
        let walked = walk_group(&pages, &geometry, &FREE_BY_BLOCK, (0, root, levels), &mut |view| {
            seen.push((view.u32_be(0, "block").unwrap(), view.u32_be(4, "count").unwrap()));
            ControlFlow::Continue(())
        });
        (seen, walked)
    };
    let (seen, walked) = walk(10, 2);
    assert_eq!(seen, [(5, 3), (20, 1), (500, 40)]);
    assert_eq!((walked.errors.len(), walked.blocks.len(), walked.is_whole()), (1, 4, false));
    let (seen, walked) = walk(20, 3);
    assert!(seen.is_empty() && walked.errors.len() == 4, "{:?}", walked.errors);
    assert_eq!(walk(10, 0).1.errors.len(), 1);
    assert_eq!(walk(10, u32::MAX).1.errors.len(), 1);
    assert_eq!(walk(1999, 1).1.errors.len(), 1);
}

/// An inode of the fifth version in use, sealed.
fn inode(change: impl FnOnce(&mut [u8])) -> Vec<u8> {
    let mut bytes = vec![0; 512];
    bytes[..2].copy_from_slice(b"IN");
    bytes[2..4].copy_from_slice(&0x81A4u16.to_be_bytes());
    bytes[4..6].copy_from_slice(&[3, 2]);
    bytes[19] = 1;
    bytes[152..160].copy_from_slice(&130u64.to_be_bytes());
    bytes[160..176].fill(7);
    change(&mut bytes);
    let sum = checksum(&bytes, 100).unwrap();
    bytes[100..104].copy_from_slice(&sum.to_le_bytes());
    bytes
}

#[test]
fn an_inode_is_believed_where_it_says_that_it_is_itself() {
    let geometry = geometry(5);
    let parse = |number, bytes: Vec<u8>| Inode::parse(&geometry, number, ByteOffset(0), bytes);
    let own = parse(130, inode(|_| {})).unwrap();
    assert!(own.checksum_holds() && own.is_plausible() && own.kind() == Some(NodeKind::File) && !own.is_free());
    assert!(parse(131, inode(|_| {})).is_err(), "another number");
    assert!(parse(130, inode(|bytes| bytes[170] = 9)).is_err(), "another volume");
    assert!(parse(130, inode(|bytes| bytes[4] = 2)).is_err(), "another version");
    assert!(parse(130, inode(|_| {})[..100].to_vec()).is_err());
    let mut flipped = inode(|_| {});
    flipped[300] ^= 1;
    assert!(!parse(130, flipped).unwrap().checksum_holds());
    // Wide counts stand elsewhere.
    let wide = parse(
        130,
        inode(|bytes| {
            bytes[127] = 1 << 4;
            bytes[24..32].copy_from_slice(&77u64.to_be_bytes());
            bytes[79] = 5;
            bytes[82] = 20;
        }),
    );
    let wide = wide.unwrap();
    assert_eq!((wide.data().extents, wide.attributes().unwrap().extents), (77, 5));
    assert_eq!((wide.data().bytes.len(), wide.attributes().unwrap().bytes.len()), (160, 512 - 176 - 160));
    // A fork that begins behind the inode has no bytes.
    assert!(parse(130, inode(|bytes| bytes[82] = 255)).unwrap().attributes().is_none());
}

#[test]
fn times_count_seconds_or_the_nanoseconds_since_1901() {
    let geometry = geometry(5);
    let modified = |big: bool, time: [u8; 8]| {
        let bytes = inode(|bytes| {
            bytes[127] = u8::from(big) << 3;
            bytes[40..48].copy_from_slice(&time);
        });
        Inode::parse(&geometry, 130, ByteOffset(0), bytes).unwrap().times().modified.map(|stamp| stamp.to_string())
    };
    let plain = [1_700_000_000u32.to_be_bytes(), 5u32.to_be_bytes()].concat().try_into().unwrap();
    let seconds = 1_700_000_000u64 + (1 << 31);
    assert_eq!(modified(false, plain).as_deref(), Some("2023-11-14 22:13:20Z"));
    assert_eq!(modified(true, (seconds * 1_000_000_000 + 5).to_be_bytes()).as_deref(), Some("2023-11-14 22:13:20Z"));
    assert_eq!(modified(true, [0xFF; 8]).as_deref(), Some("2486-07-02 20:20:25Z"));
}
