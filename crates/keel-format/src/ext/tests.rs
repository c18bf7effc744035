use keel_source::ByteOffset;

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
