//! Places of drives that the system's own formatters and drivers made: structures, where they lead, whose bytes these are.

use std::fs::{self, File};
use std::process::Command;

use crate::support::{Bench, MIB, files, run, swept};
use keel_core::job::{Cancel, Desk};
use keel_core::place::{self, Around, Decoded, Pattern, Way};
use keel_core::sweep::{Reach, Sweep};
use keel_source::{ByteOffset, SharedSource};

/// The structure at a byte, as far as one is known there.
fn structure(source: &SharedSource, sweep: &Sweep, at: u64) -> Option<Decoded> {
    place::look(source, ByteOffset(at), 512, Around { finds: &sweep.finds, table: &sweep.table }).structure
}

/// Where a field of the structure at a byte leads, and what stands there.
fn follow(source: &SharedSource, sweep: &Sweep, at: u64, field: &str) -> (u64, Option<&'static str>) {
    let from = structure(source, sweep, at).unwrap_or_else(|| panic!("a structure at {at}"));
    let lead = from.fields.iter().find(|own| own.name == field).unwrap_or_else(|| panic!("{field} in {}", from.name));
    let to = lead.leads_to.unwrap_or_else(|| panic!("{field} leads somewhere")).0;
    (to, structure(source, sweep, to).map(|there| there.name))
}

/// NTFS, FAT32, ext4, exFAT and XFS one behind the other under a GPT.
fn bench() -> (Bench, [u64; 5]) {
    let starts = [MIB, 65 * MIB, 129 * MIB, 193 * MIB, 257 * MIB];
    let bench = Bench::new(600 * MIB);
    bench.gpt(
        600 * MIB,
        &[(starts[0], 64 * MIB, 0), (starts[1], 64 * MIB, 0), (starts[2], 64 * MIB, 0), (starts[3], 64 * MIB, 0)],
    );
    bench.ntfs(starts[0], 64 * MIB, "PURSER", &files(3));
    bench.fat(starts[1], 64 * MIB, "32", "TICKETS", &files(5));
    bench.ext4(starts[2], 64 * MIB, "ENGINE", &files(7));
    bench.exfat(starts[3], 64 * MIB, "CHARTS", &files(9));
    let volume = bench.folder.path().join("xfs.vol");
    File::create(&volume).unwrap().set_len(320 * MIB).unwrap();
    run(Command::new("mkfs.xfs").args(["-q", "-f", "-L", "LOG"]).arg(&volume));
    bench.place(&volume, starts[4]);
    (bench, starts)
}

#[test]
fn structures_are_known_where_they_stand_and_their_pointers_lead_to_structures() {
    let (bench, [ntfs, fat, ext, exfat, xfs]) = bench();
    let source = bench.open();
    let sweep = swept(&source, Reach::Landmarks);
    let at = |at: u64| structure(&source, &sweep, at).map(|own| own.name);
    let to = |from: u64, field: &str| follow(&source, &sweep, from, field);

    assert_eq!(at(0), Some("MBR"));
    assert_eq!(at(512), Some("GPT header"));
    let (other, name) = to(512, "AlternateLBA");
    assert_eq!((other, name), (600 * MIB - 512, Some("GPT header")));
    assert_eq!(to(other, "AlternateLBA").0, 512, "and back again");
    assert_eq!(to(0, "1 StartingLBA"), (512, Some("GPT header")), "the protective entry covers the GPT");

    assert_eq!(at(ntfs), Some("NTFS boot sector"));
    let (mft, name) = to(ntfs, "MftStartLcn");
    assert_eq!(name, Some("NTFS file record"));
    let second_half = structure(&source, &sweep, mft + 512).unwrap();
    assert_eq!((second_half.name, second_half.at.0), ("NTFS file record", mft), "a record is two sectors long");
    let (backup, name) = to(ntfs, "TotalSectors");
    assert_eq!((backup, name), (ntfs + 64 * MIB - 512, Some("NTFS boot sector")));
    assert_eq!(to(backup, "MftStartLcn").0, mft, "a backup counts from the volume's start as well");

    assert_eq!(at(fat), Some("FAT boot sector"));
    assert_eq!(to(fat, "BPB_FSInfo").1, Some("FAT32 FSInfo"));
    let (copy, name) = to(fat, "BPB_BkBootSec");
    assert_eq!((copy, name), (fat + 6 * 512, Some("FAT boot sector")));
    assert_eq!(to(copy, "BPB_RootClus").0, to(fat, "BPB_RootClus").0);
    let label = bench.read(to(fat, "BPB_RootClus").0, 11);
    assert_eq!(label, b"TICKETS    ", "the root begins with the label");

    assert_eq!(at(ext + 1024), Some("ext superblock"));
    let (copy, name) = to(ext + 1024, "s_blocks_per_group");
    assert_eq!(name, Some("ext superblock"));
    assert_eq!(to(copy, "s_first_data_block").0, to(ext + 1024, "s_first_data_block").0);

    assert_eq!(at(exfat), Some("exFAT boot sector"));
    let root = to(exfat, "FirstClusterOfRootDirectory").0;
    assert_eq!(bench.read(root, 1), [0x83], "the root begins with the label's entry");

    assert_eq!(at(xfs), Some("XFS superblock"));
    assert_eq!(to(xfs, "sb_agblocks").1, Some("XFS superblock"));
    let root = to(xfs, "sb_rootino").0;
    assert_eq!(bench.read(root, 2), *b"IN", "an inode begins there");
    assert_eq!(at(xfs + 512), Some("XFS header of free space"));
}

/// The first place in a volume where a structure of this name begins, at a multiple of `step`, with its fields.
fn first_of(source: &SharedSource, sweep: &Sweep, (start, name): (u64, &str), step: u64) -> Option<Decoded> {
    let places = (start..start + 64 * MIB).step_by(usize::try_from(step).unwrap());
    places.filter_map(|at| structure(source, sweep, at).filter(|found| found.at.0 == at)).find(|found| found.name == name)
}

#[test]
fn folders_indexes_extents_and_inodes_are_decoded_where_they_stand() {
    let (bench, [ntfs, fat, ext, exfat, xfs]) = bench();
    let source = bench.open();
    let sweep = swept(&source, Reach::Landmarks);
    let values = |found: &Decoded, field: &str| -> Vec<String> {
        found.fields.iter().filter(|own| own.name == field).map(|own| own.value.clone()).collect()
    };
    let record = first_of(&source, &sweep, (ntfs, "NTFS file record"), 1024).unwrap();
    let types = values(&record, "TypeCode");
    assert!(
        types.first().is_some_and(|kind| kind.starts_with("16 ")) && types.iter().any(|kind| kind.starts_with("128 ")),
        "{types:?}"
    );
    let index = first_of(&source, &sweep, (ntfs, "NTFS index block"), 4096).unwrap();
    assert!(values(&index, "FileReference").len() > 1, "{index:?}");
    let folder = first_of(&source, &sweep, (fat, "FAT directory"), 512).unwrap();
    let names = values(&folder, "DIR_Name");
    assert!(names.first().map(String::as_str) == Some(".") && names.len() > 2, "{names:?}");
    let folder = first_of(&source, &sweep, (ext, "ext directory block"), 1024).unwrap();
    let inodes = values(&folder, "inode");
    assert!(inodes.len() > 2 && inodes[0].starts_with('2'), "the root's own number: {inodes:?}");
    let folder = first_of(&source, &sweep, (exfat, "exFAT directory"), 512).unwrap();
    assert!(!values(&folder, "FirstCluster").is_empty(), "{folder:?}");
    let inode = first_of(&source, &sweep, (xfs, "XFS inode"), 512).unwrap();
    assert!(values(&inode, "di_mode")[0].contains("(0x4"), "the root is a folder: {inode:?}");
    assert!(first_of(&source, &sweep, (xfs, "XFS tree block"), 4096).is_some_and(|tree| !values(&tree, "bb_numrecs").is_empty()));
}

#[test]
fn no_field_of_noise_or_of_wild_numbers_leads_behind_the_end() {
    let bench = Bench::new(8 * MIB);
    let mut state = 0x9E37_79B9_7F4A_7C15u64;
    let mut noise = |len: usize| -> Vec<u8> {
        let mut next = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            (state >> 56) as u8
        };
        (0..len).map(|_| next()).collect()
    };
    let marks: [(usize, &[u8]); 13] = [
        (3, b"NTFS    "),
        (3, b"EXFAT   "),
        (0, b"\xEB\x58\x90"),
        (0, b"EFI PART"),
        (0, b"XFSB"),
        (56, b"\x53\xEF"),
        (0, b"H+\x00\x04"),
        (64, b"_BHRfS_M"),
        (0, b"INDX\x28\0"),
        (0, b"IN\x41\xed\x03"),
        (0, &[0x0A, 0xF3, 0, 1, 0xFF, 1, 1, 0]),
        (0, b"\x02\0\0\0\x0c\0\x01\x02.\0\0\0\x02\0\0\0\xf4\0\x02\x02.."),
        (0, b".          \x10"),
    ];
    for round in 0..400u64 {
        let mut sector = noise(1024);
        let (at, mark) = marks[round as usize % marks.len()];
        sector[at..at + mark.len()].copy_from_slice(mark);
        sector[510..512].copy_from_slice(&[0x55, 0xAA]);
        bench.write(round % 64 * 4096, &sector);
        let source = bench.open();
        let sweep = swept(&source, Reach::Landmarks);
        let place = round % 64 * 4096;
        let fields = structure(&source, &sweep, place).map(|own| own.fields).unwrap_or_default();
        assert!(fields.iter().filter_map(|field| field.leads_to).all(|to| to.0 < 8 * MIB), "round {round}");
    }
}

#[test]
fn a_byte_is_its_files_and_what_is_searched_for_is_found_in_it() {
    let (bench, starts) = bench();
    let source = bench.open();
    let sweep = swept(&source, Reach::Landmarks);
    for (seed, start) in [(3, starts[0]), (5, starts[1]), (7, starts[2]), (9, starts[3])] {
        let find = sweep.finds.iter().find(|find| find.start_byte.0 == start).unwrap();
        let text = format!("sheet 17 of {seed}\n");
        let pattern = Pattern::typed(&text).unwrap();
        let found = place::search(&source, &pattern, ByteOffset(start), Way::Forward, &Desk::new(Cancel::default()).0);
        let at = found.at.unwrap_or_else(|| panic!("{text:?} in {}", find.kind.word()));
        let owner = place::owner(&source, find, at).unwrap().unwrap_or_else(|| panic!("{at} is somebody's"));
        assert!(owner.path.ends_with("sheet 17.txt") && !owner.deleted, "{}: {owner:?}", find.kind.word());
        assert_eq!((owner.extent, owner.at), (1, "Brackwater Line, ".len() as u64), "{owner:?}");
        // Behind the last file of a volume nobody is.
        let free = place::owner(&source, find, ByteOffset(start + find.bytes - 3 * MIB)).unwrap();
        assert!(free.is_none_or(|owner| !owner.path.contains("sheet")), "{}", find.kind.word());
    }
    fs::remove_file(&bench.image).unwrap();
}
