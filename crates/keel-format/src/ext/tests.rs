use keel_source::ByteOffset;

use super::layout::{FLAG_ENCRYPT, FLAG_EXTENTS, FLAG_INLINE_DATA, RawInode, RawSuperblock, kind_of};
use super::*;
use crate::View;

fn entry(inode: u32, length: u16, kind: u8, name: &[u8]) -> Vec<u8> {
    let mut bytes = inode.to_le_bytes().to_vec();
    bytes.extend(length.to_le_bytes());
    bytes.extend([u8::try_from(name.len()).unwrap(), kind]);
    bytes.extend(name);
    bytes.resize(usize::from(length), 0);
    bytes
}

#[test]
fn a_deleted_entry_in_the_slack_of_the_one_before_is_listed_as_deleted() {
    let mut block = [entry(2, 12, 2, b"."), entry(2, 12, 2, b".."), entry(12, 1000, 1, b"kept.txt")].concat();
    let gone = entry(13, 20, 1, b"gone.txt");
    block[40..60].copy_from_slice(&gone[..20]);
    let (names, finding) = entries(&block, ByteOffset(0), 100);
    assert_eq!(finding, None);
    let shown: Vec<_> = names.iter().map(|name| (name.text(), name.inode, name.present)).collect();
    assert_eq!(
        shown,
        [(".".into(), 2, true), ("..".into(), 2, true), ("kept.txt".into(), 12, true), ("gone.txt".into(), 13, false)]
    );
}

#[test]
fn a_block_with_an_entry_that_cannot_be_is_read_up_to_it() {
    for (at, bytes, field) in [(28, vec![7, 0], "rec_len"), (30, vec![250], "name_len"), (24, vec![0xFF, 0xFF], "inode")] {
        let mut block = [entry(2, 12, 2, b"."), entry(2, 12, 2, b".."), entry(12, 40, 1, b"kept.txt")].concat();
        block[at..at + bytes.len()].copy_from_slice(&bytes);
        let (names, finding) = entries(&block, ByteOffset(4096), 100);
        assert_eq!(names.len(), 2);
        let how = finding.unwrap().how;
        assert!(how.contains(field) && how.contains("41"), "{how}");
    }
}

#[test]
fn names_that_are_no_text_stay_apart() {
    let name = |bytes: &[u8]| RawName { inode: 1, name: bytes.to_vec(), file_type: 1, present: true }.text();
    assert_eq!(name("Überfahrt".as_bytes()), "Überfahrt");
    assert_ne!(name(b"a\xffb"), name(b"a\xfeb"));
}

#[test]
fn a_superblock_with_an_absurd_field_names_it() {
    let mut good = vec![0; 1024];
    for (at, value) in [(0, 1024u32), (4, 8192), (20, 1), (24, 0), (32, 8192), (40, 1024), (76, 1), (88, 128)] {
        good[at..at + 4].copy_from_slice(&value.to_le_bytes());
    }
    good[56..58].copy_from_slice(&[0x53, 0xEF]);
    let parse = |bytes: &[u8]| ExtGeometry::parse(View::new("superblock", ByteOffset(1024), bytes));
    assert_eq!(parse(&good).unwrap().0.groups(), 1);
    for (at, bytes, field) in [
        (56, vec![0], "s_magic"),
        (24, vec![9], "s_log_block_size"),
        (32, vec![0, 0], "s_blocks_per_group"),
        (40, vec![1], "s_inodes"),
        (20, vec![5], "s_blocks_count"),
        (88, vec![100], "s_inode_size"),
        (96, vec![8], "s_feature_incompat"),
        (101, vec![4], "s_checksum"),
        (90, vec![9], "s_block_group_nr"),
    ] {
        let mut sector = good.clone();
        sector[at..at + bytes.len()].copy_from_slice(&bytes);
        let error = parse(&sector).unwrap_err().to_string();
        assert!(error.contains(field), "{field}: {error}");
    }
    assert!(parse(&good[..1000]).is_err());
}

/// A volume of `groups` groups of 8192 blocks of 1024 bytes.
fn geometry(groups: u32, change: impl FnOnce(&mut RawSuperblock)) -> ExtGeometry {
    use zerocopy::{FromZeros, IntoBytes};
    let mut raw = RawSuperblock::new_zeroed();
    raw.s_magic.set(0xEF53);
    raw.s_inodes_count.set(1024 * groups);
    raw.s_blocks_count_lo.set(1 + 8192 * groups);
    raw.s_first_data_block.set(1);
    raw.s_blocks_per_group.set(8192);
    raw.s_clusters_per_group.set(8192);
    raw.s_inodes_per_group.set(1024);
    raw.s_rev_level.set(1);
    raw.s_inode_size.set(256);
    change(&mut raw);
    let bytes = raw.as_bytes();
    ExtGeometry::parse(View::new("superblock", ByteOffset(1024), bytes)).unwrap().0
}

#[test]
fn copies_stand_in_the_groups_that_the_features_name() {
    let all = geometry(60, |_| {});
    assert!((0..60).all(|group| all.has_superblock(group)));
    let sparse = geometry(60, |raw| raw.s_feature_ro_compat.set(1));
    let keep: Vec<u32> = (0..60).filter(|group| sparse.has_superblock(*group)).collect();
    assert_eq!(keep, [0, 1, 3, 5, 7, 9, 25, 27, 49]);
    assert_eq!(sparse.backup_groups(), keep[1..]);
    let two = geometry(60, |raw| {
        raw.s_feature_compat.set(0x200);
        raw.s_backup_bgs = [1.into(), 59.into()];
    });
    assert_eq!(two.backup_groups(), [1, 59]);
    assert_eq!(sparse.superblock_at(0), ByteOffset(1024));
    assert_eq!(sparse.superblock_at(3), ByteOffset((1 + 3 * 8192) * 1024));
}

#[test]
fn descriptors_stand_together_or_with_their_meta_group() {
    let plain = geometry(100, |raw| raw.s_feature_ro_compat.set(1));
    // Thirty-two of 32 bytes in a block, behind the superblock.
    assert_eq!(plain.descriptor_at(0), ByteOffset(2 * 1024));
    assert_eq!(plain.descriptor_at(33), ByteOffset(3 * 1024 + 32));
    assert_eq!(plain.descriptor_copy_at(33, 3), Some(ByteOffset((1 + 3 * 8192 + 2) * 1024 + 32)));
    assert_eq!(plain.descriptor_keepers(33), plain.backup_groups());
    let meta = geometry(100, |raw| {
        raw.s_feature_ro_compat.set(1);
        raw.s_feature_incompat.set(0x10);
    });
    // The first group of a meta group keeps its block, behind a superblock where that group has one.
    assert_eq!(meta.descriptor_at(40), ByteOffset((1 + 32 * 8192) * 1024 + 8 * 32));
    assert_eq!(meta.descriptor_keepers(40), [33, 63]);
    assert_eq!(meta.descriptor_copy_at(40, 33), Some(ByteOffset((1 + 33 * 8192) * 1024 + 8 * 32)));
    assert_eq!(meta.descriptor_copy_at(40, 34), None, "only the second and the last");
    assert_eq!(meta.descriptor_copy_at(99, 127), None, "no such group");
    // Up to a meta group that the superblock names the descriptors stand together.
    let from = geometry(100, |raw| {
        raw.s_feature_incompat.set(0x10);
        raw.s_first_meta_bg.set(2);
    });
    assert_eq!(from.descriptor_at(40), ByteOffset(3 * 1024 + 8 * 32));
    assert_eq!(from.descriptor_at(70), ByteOffset((1 + 64 * 8192 + 1) * 1024 + 6 * 32));
}

#[test]
fn no_number_of_blocks_or_groups_leads_out_of_the_volume() {
    let geometry = geometry(3, |_| {});
    assert_eq!(geometry.block_at(3 * 8192), Some(ByteOffset(3 * 8192 * 1024)));
    assert_eq!(geometry.block_at(3 * 8192 + 1), None);
    assert_eq!(geometry.block_at(u64::MAX), None);
    assert!(geometry.fits(96) && !geometry.fits(95));
    assert_eq!(geometry.volume_bytes(), (1 + 3 * 8192) * 1024);
}

fn raw_inode(mode: u16, change: impl FnOnce(&mut RawInode)) -> RawInode {
    use zerocopy::FromZeros;
    let mut raw = RawInode::new_zeroed();
    raw.i_mode.set(mode);
    raw.i_links_count.set(1);
    raw.i_ctime.set(1_700_000_000);
    raw.i_extra_isize.set(32);
    change(&mut raw);
    raw
}

fn inode(raw: &RawInode) -> Inode {
    use zerocopy::IntoBytes;
    let mut bytes = raw.as_bytes().to_vec();
    bytes.resize(256, 0);
    Inode::parse(12, ByteOffset(0), bytes).unwrap()
}

#[test]
fn an_inode_says_what_it_is_and_whether_it_is_in_use() {
    use crate::NodeKind;
    for (mode, kind) in [
        (0x41ED, Some(NodeKind::Directory)),
        (0x81A4, Some(NodeKind::File)),
        (0xA1FF, Some(NodeKind::Link)),
        (0x2180, None),
        (0xC1ED, None),
    ] {
        let one = inode(&raw_inode(mode, |_| {}));
        assert_eq!(one.kind(), kind, "{mode:x}");
        assert!(one.is_plausible(), "{mode:x}: devices and sockets are in use as well");
    }
    assert!(!inode(&raw_inode(0x31A4, |_| {})).is_plausible(), "no such type");
    assert!(inode(&raw_inode(0x81A4, |raw| raw.i_links_count.set(0))).is_deleted());
    assert!(inode(&raw_inode(0x81A4, |raw| raw.i_dtime.set(1))).is_deleted());
    assert!(!inode(&raw_inode(0x81A4, |raw| raw.i_links_count.set(0xFFFF))).is_plausible());
    assert!(!inode(&raw_inode(0x81A4, |raw| raw.i_ctime.set(0))).is_plausible());
    let old = inode(&raw_inode(0x81A4, |_| {}));
    assert!(old.is_before(1_700_000_000) && !old.is_before(1_699_999_999));
    assert!(Inode::parse(12, ByteOffset(0), vec![0; 127]).is_err());
}

#[test]
fn lengths_and_times_take_their_high_halves() {
    let one = inode(&raw_inode(0x81A4, |raw| {
        raw.i_size_lo.set(5);
        raw.i_size_high.set(3);
        raw.i_mtime.set(0xFFFF_FFFF);
        // One more turn of 32 bits of seconds, and 500 nanoseconds.
        raw.i_mtime_extra.set(500 << 2 | 1);
        raw.i_atime.set(0xFFFF_FFFF);
    }));
    assert_eq!(one.bytes(), 3 << 32 | 5);
    let times = one.times();
    assert_eq!(times.modified.unwrap().to_string(), "2106-02-07 06:28:15Z");
    assert_eq!(times.accessed.unwrap().to_string(), "1969-12-31 23:59:59Z");
    // An inode of 128 bytes keeps no extra words: what stands behind it is the next inode.
    let mut bytes = vec![0xAA; 128];
    bytes[..2].copy_from_slice(&0x81A4u16.to_le_bytes());
    let small = Inode::parse(12, ByteOffset(0), bytes).unwrap();
    assert_eq!(small.raw.i_crtime.get(), 0);
}

#[test]
fn short_content_is_kept_inside_and_the_rest_of_it_among_the_attributes() {
    use zerocopy::IntoBytes;
    let link = inode(&raw_inode(0xA1FF, |raw| {
        raw.i_size_lo.set(9);
        raw.i_block[..9].copy_from_slice(b"../harbor");
    }));
    assert_eq!((link.inline().as_deref(), link.storage()), (Some(&b"../harbor"[..]), "resident"));
    let raw = raw_inode(0x81A4, |raw| {
        raw.i_flags.set(FLAG_INLINE_DATA);
        raw.i_size_lo.set(66);
        raw.i_block.fill(b'a');
    });
    let mut bytes = raw.as_bytes().to_vec();
    bytes.resize(256, 0);
    // system.data behind the fields: magic, one entry, its value.
    bytes[160..164].copy_from_slice(&0xEA02_0000u32.to_le_bytes());
    bytes[164..168].copy_from_slice(&[4, 7, 40, 0]);
    bytes[172..176].copy_from_slice(&6u32.to_le_bytes());
    bytes[180..184].copy_from_slice(b"data");
    bytes[204..210].copy_from_slice(b"bbbbbb");
    let content = Inode::parse(12, ByteOffset(0), bytes.clone()).unwrap().inline().unwrap();
    assert_eq!(content, [vec![b'a'; 60], vec![b'b'; 6]].concat());
    // A value that leads out of the inode is none; what stands in the map itself is kept.
    bytes[172..176].copy_from_slice(&u32::MAX.to_le_bytes());
    assert_eq!(Inode::parse(12, ByteOffset(0), bytes).unwrap().inline().unwrap(), [b'a'; 60]);
    let plain = inode(&raw_inode(0x81A4, |raw| raw.i_flags.set(FLAG_ENCRYPT)));
    assert_eq!((plain.inline(), plain.storage()), (None, "encrypted"));
}

/// A drive of one group whose blocks hold what `blocks` says.
fn pages(blocks: &[(u64, Vec<u8>)]) -> crate::pages::Pages {
    let mut bytes = vec![0; 8 << 20];
    for (block, content) in blocks {
        let at = usize::try_from(block * 1024).unwrap();
        bytes[at..at + content.len()].copy_from_slice(content);
    }
    crate::pages::Pages::new(std::sync::Arc::new(keel_source::MemorySource::new("quay", bytes, 512)))
}

fn tree_node(depth: u16, entries: &[[u8; 12]]) -> Vec<u8> {
    let mut bytes = 0xF30Au16.to_le_bytes().to_vec();
    bytes.extend(u16::try_from(entries.len()).unwrap().to_le_bytes());
    bytes.extend([4, 0]);
    bytes.extend(depth.to_le_bytes());
    bytes.extend([0; 4]);
    entries.iter().for_each(|entry| bytes.extend(entry));
    bytes
}

fn leaf(block: u32, len: u16, start: u32) -> [u8; 12] {
    let mut bytes = [0; 12];
    bytes[..4].copy_from_slice(&block.to_le_bytes());
    bytes[4..6].copy_from_slice(&len.to_le_bytes());
    bytes[8..].copy_from_slice(&start.to_le_bytes());
    bytes
}

fn index(block: u32, leaf: u32) -> [u8; 12] {
    let mut bytes = [0; 12];
    bytes[..4].copy_from_slice(&block.to_le_bytes());
    bytes[4..8].copy_from_slice(&leaf.to_le_bytes());
    bytes
}

fn mapped(flags: u32, bytes: u32, block: &[u8]) -> Inode {
    inode(&raw_inode(0x81A4, |raw| {
        raw.i_flags.set(flags);
        raw.i_size_lo.set(bytes);
        raw.i_block[..block.len()].copy_from_slice(block);
    }))
}

#[test]
fn an_extent_tree_leads_to_its_blocks_with_holes_and_what_was_never_written() {
    let geometry = geometry(1, |_| {});
    let below = tree_node(0, &[leaf(0, 2, 100), leaf(4, 32_768 + 3, 200), leaf(9, 1, 300)]);
    let tree = mapped(FLAG_EXTENTS, 10 * 1024, &tree_node(1, &[index(0, 50)]));
    let extents = tree.extents(&pages(&[(50, below)]), &geometry).unwrap();
    let shown: Vec<(u64, Option<u64>, u64)> =
        extents.iter().map(|one| (one.stream_at / 1024, one.volume_at.map(|at| at.0 / 1024), one.bytes / 1024)).collect();
    assert_eq!(shown, [(0, Some(100), 2), (2, None, 5), (7, None, 2), (9, Some(300), 1)]);
    let held = tree.held(&pages(&[(50, tree_node(0, &[leaf(0, 2, 100)]))]), &geometry).unwrap();
    assert!(held.contains(&(50..51)) && held.contains(&(100..102)), "{held:?}");
}

#[test]
fn a_tree_that_cannot_be_names_its_field() {
    let geometry = geometry(1, |_| {});
    let own = |entries: &[[u8; 12]]| mapped(FLAG_EXTENTS, 1024, &tree_node(0, entries));
    for (tree, field) in [
        (mapped(FLAG_EXTENTS, 1024, &[0; 12]), "eh_magic"),
        (mapped(FLAG_EXTENTS, 1024, &tree_node(6, &[])), "eh_depth"),
        (own(&[leaf(0, 2, 9000)]), "ee_start"),
        (own(&[leaf(0, 0, 100)]), "ee_len"),
        // More blocks than the volume has, by naming the same again.
        (own(&[leaf(0, 8000, 100), leaf(8000, 8000, 100)]), "extent tree"),
        (mapped(FLAG_EXTENTS, 1024, &tree_node(1, &[index(0, 9000)])), "ei_leaf"),
        // A node whose depth is not one less than that of the one above.
        (mapped(FLAG_EXTENTS, 1024, &tree_node(2, &[index(0, 50)])), "eh_depth"),
    ] {
        let blocks = pages(&[(50, tree_node(0, &[leaf(0, 2, 100)]))]);
        let error = tree.extents(&blocks, &geometry).unwrap_err().to_string();
        assert!(error.contains(field), "{field}: {error}");
    }
}

#[test]
fn a_block_map_reads_its_levels_of_indirection() {
    let geometry = geometry(1, |_| {});
    let words = |numbers: &[u32]| numbers.iter().flat_map(|number| number.to_le_bytes()).collect::<Vec<u8>>();
    // Ten blocks, a hole of two, then one level: 256 pointers, of which two are used; then two levels.
    let mut direct: Vec<u32> = (100..110).collect();
    direct.extend([0, 0, 60, 61, 0]);
    let blocks = pages(&[(60, words(&[200, 201])), (61, words(&[62])), (62, words(&[0, 300]))]);
    let whole = mapped(0, (12 + 256 + 2) * 1024, &words(&direct));
    let extents = whole.extents(&blocks, &geometry).unwrap();
    let placed: Vec<(u64, u64, u64)> =
        extents.iter().filter_map(|one| Some((one.stream_at / 1024, one.volume_at?.0 / 1024, one.bytes / 1024))).collect();
    assert_eq!(placed, [(0, 100, 10), (12, 200, 2), (12 + 256 + 1, 300, 1)]);
    let error = mapped(0, 4096, &words(&[9000])).extents(&blocks, &geometry).unwrap_err().to_string();
    assert!(error.contains("block pointer"), "{error}");
    let mut deep = vec![0u32; 15];
    // The third level leads to a block that is a pointer to itself.
    deep[14] = 70;
    let itself = pages(&[(70, words(&[70]))]);
    // Three levels are three levels: it ends as content, once.
    let extents = mapped(0, u32::MAX, &words(&deep)).extents(&itself, &geometry).unwrap();
    assert_eq!(extents.iter().filter(|one| one.volume_at.is_some()).count(), 1);
}

#[test]
fn features_tell_the_three_versions_apart() {
    use crate::VolumeKind;
    assert_eq!(kind_of(0, 2, 1), VolumeKind::Ext2);
    assert_eq!(kind_of(4, 2, 1), VolumeKind::Ext3);
    assert_eq!(kind_of(4, 0x40, 1), VolumeKind::Ext4, "extents");
    assert_eq!(kind_of(0, 2, 0x400), VolumeKind::Ext4, "metadata checksums");
}
