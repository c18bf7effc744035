//! ext volumes made by the system's formatter and filled by the kernel's driver.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::ops::ControlFlow;
use std::os::unix::ffi::OsStrExt;
use std::process::Command;
use std::sync::{Arc, LazyLock};

use crate::support::shown::{Seen, as_read};
use crate::support::{Bench, contents, deleted, many_files, noise, prose, run, surface, write_tree};
use keel_format::{Deleted, Existence, Geometry, NodeKind, VolumeKind, WitnessKind, ext, read_whole, registry};
use keel_source::{ByteOffset, ByteRange, FileSource, MemorySource, Overlay, SectorSize, SharedSource, Window};
use proptest::prelude::*;

const DRIVER: &[&str] = &["mount", "-t", "ext4"];

#[test]
fn every_set_of_features_reads_as_written() {
    let sets: [(&str, u64, &[&str], VolumeKind); 12] = [
        ("ext2 with blocks of 1024", 48 << 20, &["-t", "ext2", "-b", "1024"], VolumeKind::Ext2),
        ("ext3 with blocks of 2048", 96 << 20, &["-t", "ext3", "-b", "2048"], VolumeKind::Ext3),
        ("ext3 with small inodes", 96 << 20, &["-t", "ext3", "-I", "128"], VolumeKind::Ext3),
        ("ext4 as it comes", 400 << 20, &["-t", "ext4"], VolumeKind::Ext4),
        ("ext4 with blocks of 1024", 96 << 20, &["-t", "ext4", "-b", "1024"], VolumeKind::Ext4),
        ("32-bit, no checksums", 96 << 20, &["-t", "ext4", "-O", "^64bit,^metadata_csum"], VolumeKind::Ext4),
        ("two copies of the superblock", 300 << 20, &["-t", "ext4", "-O", "sparse_super2"], VolumeKind::Ext4),
        ("meta block groups", 600 << 20, &["-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode"], VolumeKind::Ext4),
        ("clusters of 64 KiB", 300 << 20, &["-t", "ext4", "-O", "bigalloc", "-C", "65536"], VolumeKind::Ext4),
        ("content in inodes", 96 << 20, &["-t", "ext4", "-O", "inline_data"], VolumeKind::Ext4),
        ("no journal", 96 << 20, &["-t", "ext4", "-O", "^has_journal"], VolumeKind::Ext4),
        ("seed of its own", 96 << 20, &["-t", "ext4", "-O", "metadata_csum_seed"], VolumeKind::Ext4),
    ];
    for (name, bytes, options, kind) in sets {
        let bench = Bench::new(bytes);
        bench.format("mkfs.ext4", &[options, &["-q", "-F", "-L", "STOREROOM"]].concat());
        let files = many_files();
        bench.fill(DRIVER, |folder| write_tree(folder, &files));
        let (geometry, volume) = bench.open(512);
        assert_eq!((geometry.kind(), geometry.bytes()), (kind, bytes), "{name}");
        assert_eq!(volume.summary().label.as_deref(), Some("STOREROOM"), "{name}");
        assert!(contents(volume.as_ref()) == files, "{name}");
        assert_eq!(volume.examine(), [], "{name}");
    }
}

#[test]
fn holes_links_large_directories_and_names_that_are_no_text_read() {
    let bench = Bench::new(200 << 20);
    bench.format("mkfs.ext4", &["-q", "-F", "-N", "20000"]);
    let holes = [vec![0; 1 << 20], noise(5, 70_000), vec![0; 3 << 20], prose(1, 5000)].concat();
    bench.fill(DRIVER, |folder| {
        let mut file = fs::File::create(folder.join("holes.bin")).unwrap();
        std::os::unix::fs::FileExt::write_all_at(&file, &holes[1 << 20..(1 << 20) + 70_000], 1 << 20).unwrap();
        let tail = holes.len() - 5000;
        std::os::unix::fs::FileExt::write_all_at(&file, &holes[tail..], tail as u64).unwrap();
        file.flush().unwrap();
        fs::create_dir(folder.join("Many")).unwrap();
        (0..12_000).for_each(|number| fs::write(folder.join(format!("Many/crossing {number:05}.txt")), b"").unwrap());
        std::os::unix::fs::symlink("Many/crossing 00007.txt", folder.join("short link")).unwrap();
        std::os::unix::fs::symlink("x".repeat(300), folder.join("long link")).unwrap();
        fs::write(folder.join(std::ffi::OsStr::from_bytes(b"not \xff text")), b"it is").unwrap();
        fs::hard_link(folder.join("holes.bin"), folder.join("same again.bin")).unwrap();
    });
    let (_, volume) = bench.open(512);
    let (mut files, mut links) = (BTreeMap::new(), BTreeMap::new());
    let findings = volume
        .walk(Deleted::Hide, &mut |found| {
            let list = if found.entry.kind == NodeKind::Link { &mut links } else { &mut files };
            list.insert(format!("{}/{}", found.folder, found.entry.name), found.entry.id);
            ControlFlow::Continue(())
        })
        .unwrap();
    assert_eq!(findings, []);
    assert_eq!(files.keys().filter(|path| path.starts_with("Many/")).count(), 12_000);
    let read = |id| read_whole(volume.open(id, "").unwrap().as_mut(), 1 << 26).0;
    assert!(read(files["/holes.bin"]) == holes && files["/holes.bin"] == files["/same again.bin"]);
    assert_eq!(read(files["/not \\xFF text"]), b"it is");
    assert_eq!(
        (read(links["/short link"]).as_slice(), read(links["/long link"]).len()),
        (b"Many/crossing 00007.txt".as_slice(), 300)
    );
}

#[test]
fn names_that_moved_when_their_block_was_split_are_not_taken_for_deleted() {
    let bench = Bench::new(96 << 20);
    bench.format("mkfs.ext4", &["-q", "-F"]);
    bench.fill(DRIVER, |folder| {
        write_tree(folder, &many_files());
        fs::remove_file(folder.join("SHORT.TXT")).unwrap();
    });
    let (_, volume) = bench.open(512);
    let names = deleted(volume.as_ref());
    // Whether the name of the deleted file is left depends on the kernel: since 5.13 it is wiped.
    assert!(names.iter().all(|name| name == "SHORT.TXT"), "{names:?}");
    assert_eq!(contents(volume.as_ref()).len(), many_files().len() - 1);
}

#[test]
fn files_whose_inodes_are_gone_keep_their_names_and_are_never_called_whole() {
    for options in [&["-t", "ext4"][..], &["-t", "ext2", "-O", "^filetype"], &["-t", "ext4", "-O", "inline_data,^metadata_csum"]]
    {
        let bench = Bench::new(96 << 20);
        bench.format("mkfs.ext4", &[options, &["-q", "-F"]].concat());
        let files = many_files();
        bench.fill(DRIVER, |folder| {
            write_tree(folder, &files);
            run(Command::new("mkfifo").arg(folder.join("Crossings/pipe")));
        });
        let (Geometry::Ext(own), volume) = bench.open(512) else { panic!("another kind") };
        let mut states: BTreeMap<String, Existence> = BTreeMap::new();
        let mut number = None;
        volume
            .list(volume.root(), Deleted::Hide, &mut |entry| {
                number = number.or((entry.name == "SHORT.TXT").then_some(entry.id.0 as u32));
                ControlFlow::Continue(())
            })
            .unwrap();
        // The block of inodes that its inode stands in is zeros.
        let at = ext::ExtVolume::open(bench.source(512), own).unwrap().inode(number.unwrap()).unwrap().at.0;
        let unit = u64::from(volume.summary().cluster_bytes);
        let mut drive = Overlay::new(bench.source(512));
        drive.lay(ByteOffset(at / unit * unit), &vec![0; unit as usize]);
        let drive: SharedSource = Arc::new(drive);
        let geometry = registry::boot_sector(drive.as_ref(), ByteOffset(0)).unwrap();
        let volume = geometry.open(drive).unwrap();
        volume
            .walk(Deleted::Hide, &mut |found| {
                states.insert(found.path(), found.entry.existence);
                if found.entry.existence == Existence::Named && found.entry.kind == NodeKind::File {
                    let content = volume.open(found.entry.id, "").map(|mut stream| read_whole(stream.as_mut(), 1 << 20).0.len());
                    assert!(content.as_ref().is_ok_and(|len| *len == 0) || content.is_err(), "{options:?}");
                }
                ControlFlow::Continue(())
            })
            .unwrap();
        let missing: Vec<&String> = files.keys().filter(|path| !states.contains_key(*path)).collect();
        // What lay in a folder of that block has no folder any more.
        let named = states.values().filter(|state| **state == Existence::Named).count();
        assert!(named >= 2 && states["SHORT.TXT"] == Existence::Named, "{options:?}: {named}");
        assert!(missing.iter().all(|path| path.contains('/')) && missing.len() < 20, "{options:?}: {missing:?}");
        assert!(!states.contains_key("Crossings/pipe"), "{options:?}: a pipe is no file");
    }
}

#[test]
fn a_volume_that_was_not_unmounted_reads_as_its_journal_would_leave_it() {
    for options in [["-t", "ext3"], ["-t", "ext4"]] {
        let bench = Bench::new(128 << 20);
        bench.format("mkfs.ext4", &[&options[..], &["-q", "-F"]].concat());
        let copy = bench.folder.path().join("torn out.img");
        bench.fill(&["mount", "-o", "commit=300"], |folder| {
            write_tree(folder, &many_files());
            fs::remove_file(folder.join("SHORT.TXT")).unwrap();
            run(Command::new("sync").arg("-f").arg(folder));
            // What the loop device has written by now is what is left when the cable is pulled.
            run(Command::new("cp").arg("--sparse=always").arg(&bench.image).arg(&copy));
        });
        let source: SharedSource = Arc::new(FileSource::open(&copy, SectorSize(512)).unwrap());
        let geometry = keel_format::registry::boot_sector(source.as_ref(), ByteOffset(0)).unwrap();
        let volume = geometry.open(source).unwrap();
        let findings: String = volume.examine().into_iter().map(|finding| finding.what).collect();
        assert!(findings.contains("the journal holds"), "{options:?}: {findings}");
        let mut wanted = many_files();
        wanted.remove("SHORT.TXT");
        assert!(contents(volume.as_ref()) == wanted, "{options:?}");
        // With the superblock gone, what is put back must not let the journal be emptied unread.
        let mut lost = Overlay::new(Arc::new(FileSource::open(&copy, SectorSize(512)).unwrap()));
        lost.lay(ByteOffset(0), &[0; 2048]);
        let lost: SharedSource = Arc::new(lost);
        let restored = crate::support::main_repairs(&geometry, &lost).swap_remove(0);
        assert_eq!(restored.bytes[96] & 4, 4, "{options:?}: INCOMPAT_RECOVER");
        let mut mended = Overlay::new(lost);
        mended.lay(restored.at, &restored.bytes);
        let mended: SharedSource = Arc::new(mended);
        let found = keel_format::registry::boot_sector(mended.as_ref(), ByteOffset(0)).unwrap();
        assert!(contents(found.open(mended).unwrap().as_ref()) == wanted, "{options:?}");
    }
}

/// Files are found by descriptors whose checksums hold; by one that does not nothing is computed, and nothing else is written.
#[test]
fn a_descriptor_that_leads_elsewhere_is_read_from_its_copy_and_alone_put_back() {
    for options in [&["-t", "ext4"][..], &["-t", "ext4", "-O", "^64bit"], &["-t", "ext4", "-O", "^metadata_csum,uninit_bg"]] {
        let bench = Bench::new(48 << 20);
        bench.format("mkfs.ext4", &[options, &["-q", "-F", "-b", "1024"]].concat());
        let files = many_files();
        bench.fill(DRIVER, |folder| write_tree(folder, &files));
        let source = bench.source(512);
        let (Geometry::Ext(geometry), _) = bench.open(512) else { panic!("another kind") };
        let mut own = [0; 12];
        source.read_at(geometry.descriptor_at(0), &mut own).unwrap();
        // Block bitmap, inode bitmap, inode table: a block on, a block back, and where another group's is.
        for (offset, by) in [(8usize, 1i32), (8, -1), (8, 3), (4, 1), (0, 1), (8, 200)] {
            let number = u32::from_le_bytes(*own[offset..].first_chunk().unwrap()).wrapping_add_signed(by);
            let at = geometry.descriptor_at(0) + offset as u64;
            let mut overlay = Overlay::new(Arc::clone(&source));
            overlay.lay(at, &number.to_le_bytes());
            let drive: SharedSource = Arc::new(overlay);
            let said = format!("{options:?}: {offset} by {by}");
            // Before anything is mended the files are read by the copy.
            let volume = Geometry::Ext(geometry).open(Arc::clone(&drive)).unwrap_or_else(|error| panic!("{said}: {error}"));
            assert!(contents(volume.as_ref()) == files, "{said}");
            let repairs = crate::support::main_repairs(&Geometry::Ext(geometry), &drive);
            let names: Vec<&str> = repairs.iter().map(|repair| repair.name.as_str()).collect();
            assert!(names.len() == 1 && names[0].starts_with("group descriptors 0"), "{said}: {names:?}");
            let mended = crate::support::mended(&Geometry::Ext(geometry), &drive);
            let mut now = [0; 12];
            mended.read_at(geometry.descriptor_at(0), &mut now).unwrap();
            assert_eq!(now, own, "{said}");
            let volume = Geometry::Ext(geometry).open(mended).unwrap();
            assert!(contents(volume.as_ref()) == files && volume.examine().is_empty(), "{said}");
        }
    }
}

/// Copies of descriptors keep the counts of the day on which the volume was made.
#[test]
fn descriptors_from_a_copy_count_blocks_inodes_and_folders_anew() {
    for options in [&["-t", "ext4"][..], &["-t", "ext4", "-O", "^64bit,^metadata_csum,uninit_bg"], &["-t", "ext2"]] {
        let bench = Bench::new(200 << 20);
        bench.format("mkfs.ext4", &[options, &["-q", "-F", "-b", "1024", "-I", "256"]].concat());
        bench.fill(DRIVER, |folder| {
            write_tree(folder, &many_files());
            for number in 0..90 {
                fs::create_dir_all(folder.join(format!("Quay {}/Berth {number}", number % 7))).unwrap();
            }
            fs::remove_dir_all(folder.join("Quay 3")).unwrap();
        });
        let (Geometry::Ext(geometry), _) = bench.open(512) else { panic!("another kind") };
        let size = usize::from(geometry.descriptor_bytes);
        let len = size * geometry.groups() as usize;
        let table = |drive: &SharedSource| {
            let mut bytes = vec![0; len];
            drive.read_at(geometry.descriptor_at(0), &mut bytes).unwrap();
            bytes
        };
        let source = bench.source(512);
        let own = table(&source);
        let mut drive = Overlay::new(source);
        drive.lay(geometry.descriptor_at(0), &vec![0xE5; len]);
        let drive: SharedSource = Arc::new(drive);
        let mended = table(&crate::support::mended(&Geometry::Ext(geometry), &drive));
        // Free blocks, free inodes, folders; inodes that were never used may be counted as fewer.
        for (group, (own, mended)) in own.chunks(size).zip(mended.chunks(size)).enumerate() {
            assert_eq!(own[..18], mended[..18], "{options:?}: group {group}");
        }
        let folders: u32 = mended.chunks(size).map(|raw| u32::from(u16::from_le_bytes([raw[16], raw[17]]))).sum();
        assert!(folders > 80, "{options:?}: {folders}");
    }
}

#[test]
fn a_volume_is_found_by_the_copies_of_its_superblock() {
    for (name, bytes, options, gone) in [
        ("superblock gone", 400u64 << 20, ["-t", "ext4"], 4096),
        ("descriptors gone too", 400 << 20, ["-t", "ext4"], 40_000),
        ("ext2 with blocks of 1024", 64 << 20, ["-b", "1024"], 4096),
    ] {
        let bench = Bench::new(bytes);
        bench.format("mkfs.ext4", &[&options[..], &["-q", "-F", "-L", "LOST"]].concat());
        bench.fill(DRIVER, |folder| write_tree(folder, &many_files()));
        let (whole, _) = bench.open(512);
        let mut overlay = Overlay::new(bench.source(512));
        overlay.lay(ByteOffset(0), &vec![0; gone]);
        let drive: SharedSource = Arc::new(overlay);
        let volumes = ext::infer(&drive, &surface(&drive));
        assert_eq!(volumes.len(), 1, "{name}");
        let volume = &volumes[0];
        assert_eq!((volume.start, volume.bytes, volume.label.as_deref()), (ByteOffset(0), bytes, Some("LOST")), "{name}");
        assert!(volume.has(WitnessKind::BackupBootSector) && !volume.has(WitnessKind::BootSector), "{name}");
        assert!(contents(volume.geometry.open(Arc::clone(&drive)).unwrap().as_ref()) == many_files(), "{name}");
        let mended = crate::support::mended(&volume.geometry, &drive);
        assert_eq!(keel_format::registry::boot_sector(mended.as_ref(), ByteOffset(0)), Some(whole.clone()), "{name}");
        assert_eq!(whole.open(mended).unwrap().examine(), [], "{name}");
    }
}

/// A volume of one group keeps no copy of its superblock: its journal does, and says where in the volume it lies.
#[test]
fn a_volume_of_one_group_is_found_by_the_superblock_in_its_journal() {
    for (options, bytes) in [
        (&["-t", "ext4", "-b", "4096"][..], 100 << 20),
        (&["-t", "ext4", "-b", "1024"], 8 << 20),
        (&["-t", "ext3", "-b", "4096"], 64 << 20),
        (&["-t", "ext4", "-b", "2048", "-O", "^metadata_csum,^64bit"], 30 << 20),
    ] {
        let bench = Bench::new(bytes);
        bench.format("mkfs.ext4", &[options, &["-q", "-F"]].concat());
        bench.fill(DRIVER, |folder| write_tree(folder, &many_files()));
        let (Geometry::Ext(own), _) = bench.open(512) else { panic!("another kind") };
        assert_eq!(own.groups(), 1, "{options:?}");
        let start = ByteOffset(1 << 20);
        let mut bytes = vec![0; 1 << 20];
        bytes.extend(fs::read(&bench.image).unwrap());
        // The superblock, and in the second round all before the first inodes: the journal keeps the descriptors too.
        let block = own.block_bytes as usize;
        let first = if block == 1024 { 2 } else { 1 };
        let table = u32::from_le_bytes(*bytes[(1 << 20) + first * block + 8..].first_chunk().unwrap()) as usize;
        let is_log = |at: &usize| bytes[(1 << 20) + at..].starts_with(&[0xC0, 0x3B, 0x39, 0x98, 0, 0, 0, 4]);
        let journal = (0..own.volume_bytes() as usize).step_by(block).find(is_log).expect("a journal");
        for harm in [first * block, journal.min(table * block)] {
            bytes[1 << 20..][..harm].fill(0);
            let drive: SharedSource = Arc::new(MemorySource::new("harmed", bytes.clone(), 512));
            let found = ext::infer(&drive, &surface(&drive));
            let said: Vec<_> = found.iter().map(|volume| (volume.start, volume.bytes)).collect();
            assert_eq!(said, [(start, own.volume_bytes())], "{options:?}: {harm} bytes");
            assert!(found[0].has(WitnessKind::SizeRecord) && found[0].has(WitnessKind::RootDirectory), "{options:?}");
            let Geometry::Ext(geometry) = found[0].geometry else { panic!("another kind") };
            let window: SharedSource = Arc::new(Window::new(Arc::clone(&drive), ByteRange::sized(start, own.volume_bytes())));
            let mended = crate::support::mended(&Geometry::Ext(geometry), &window);
            let Some(Geometry::Ext(parsed)) = registry::boot_sector(mended.as_ref(), ByteOffset(0)) else {
                panic!("no superblock")
            };
            assert_eq!(parsed, own, "{options:?}: {harm} bytes");
            let listed = as_read(Geometry::Ext(parsed).open(mended).unwrap().as_ref());
            let files = many_files();
            let read = files
                .iter()
                .filter(|(path, content)| matches!(listed.get(*path), Some(Seen::File { content: own, .. }) if own == *content));
            assert_eq!(read.count(), files.len(), "{options:?}: {harm} bytes");
        }
    }
}

/// A superblock in a journal of which nothing else is left begins no volume where it stands.
#[test]
fn a_superblock_in_what_is_left_of_a_journal_is_no_volume() {
    let bench = Bench::new(64 << 20);
    bench.format("mkfs.ext4", &["-q", "-F", "-b", "4096"]);
    bench.fill(DRIVER, |folder| write_tree(folder, &many_files()));
    let mut bytes = fs::read(&bench.image).unwrap();
    let is_kept = |at: &usize| bytes[at + 56..].starts_with(&[0x53, 0xEF]) && *at > 4096;
    let kept = (0..bytes.len() - 1024).step_by(1024).find(is_kept).expect("one in the journal");
    // Everything up to the descriptor of its transaction.
    let is_descriptor = |at: &usize| bytes[*at..].starts_with(&[0xC0, 0x3B, 0x39, 0x98, 0, 0, 0, 1]);
    let descriptor = (0..kept).step_by(4096).rfind(is_descriptor).expect("before it");
    bytes[..descriptor].fill(0);
    let drive: SharedSource = Arc::new(MemorySource::new("harmed", bytes, 512));
    let clues = surface(&drive);
    assert!(clues.ext.supers.iter().any(|clue| clue.at.0 == kept as u64));
    assert_eq!(ext::infer(&drive, &clues).iter().map(|volume| volume.start).collect::<Vec<_>>(), []);
}

#[test]
fn a_volume_without_any_superblock_is_found_by_its_descriptors() {
    let sets: [(&str, u64, &[&str]); 6] = [
        ("ext4 as it comes", 400 << 20, &["-t", "ext4"]),
        ("one group", 100 << 20, &["-t", "ext4"]),
        ("ext4 with blocks of 1024", 96 << 20, &["-t", "ext4", "-b", "1024"]),
        ("32-bit, no checksums", 300 << 20, &["-t", "ext4", "-O", "^64bit,^metadata_csum"]),
        ("ext3 with small inodes", 200 << 20, &["-t", "ext3", "-I", "128"]),
        ("ext2, an end inside a group", (301 << 20) + 20_480, &["-t", "ext2"]),
    ];
    for (name, bytes, options) in sets {
        let bench = Bench::new(bytes);
        bench.format("mkfs.ext4", &[options, &["-q", "-F", "-L", "LOST"]].concat());
        bench.fill(DRIVER, |folder| write_tree(folder, &many_files()));
        let (whole, _) = bench.open(512);
        let Geometry::Ext(geometry) = whole else { panic!() };
        let mut overlay = Overlay::new(bench.source(512));
        groups_of(&geometry).into_iter().for_each(|group| overlay.lay(geometry.superblock_at(group), &[0; 1024]));
        let drive: SharedSource = Arc::new(overlay);
        let volumes = ext::infer(&drive, &surface(&drive));
        assert_eq!(volumes.len(), 1, "{name}");
        let volume = &volumes[0];
        assert_eq!((volume.start, volume.bytes, volume.kind), (ByteOffset(0), bytes / 4096 * 4096, whole.kind()), "{name}");
        let Geometry::Ext(found) = volume.geometry else { panic!() };
        let numbers = |one: &ext::ExtGeometry| (one.block_bytes, one.blocks, one.inodes_per_group, one.inode_bytes);
        assert_eq!(numbers(&found), numbers(&geometry), "{name}");
        let seed = |one: &ext::ExtGeometry| one.has_checksums().then_some(one.checksum_seed);
        assert_eq!(seed(&found), seed(&geometry), "{name}");
        assert!(contents(volume.geometry.open(Arc::clone(&drive)).unwrap().as_ref()) == many_files(), "{name}");
        // The superblock is computed, or the one that the journal keeps, and the kernel takes it.
        let repairs = crate::support::main_repairs(&volume.geometry, &drive);
        assert!(!repairs.is_empty() && repairs.iter().all(|repair| repair.from != keel_format::Take::Main), "{name}");
        let file = fs::File::options().write(true).open(&bench.image).unwrap();
        use std::os::unix::fs::FileExt;
        groups_of(&geometry)
            .into_iter()
            .for_each(|group| file.write_all_at(&[0; 1024], geometry.superblock_at(group).0).unwrap());
        repairs.iter().for_each(|repair| file.write_all_at(&repair.bytes, repair.at.0).unwrap());
        bench.fill(DRIVER, |folder| {
            for (path, content) in many_files() {
                assert!(fs::read(folder.join(&path)).unwrap() == content, "{name}: {path}");
            }
            fs::write(folder.join("written after mending.txt"), prose(3, 90_000)).unwrap();
        });
        let (_, again) = bench.open(512);
        assert_eq!((again.examine(), contents(again.as_ref()).len()), (vec![], many_files().len() + 1), "{name}");
    }
}

fn groups_of(geometry: &ext::ExtGeometry) -> Vec<u32> {
    std::iter::once(0).chain(geometry.backup_groups()).collect()
}

/// Small volumes of each sort, filled once.
static SMALL: LazyLock<Vec<SharedSource>> = LazyLock::new(|| {
    let sorts: [&[&str]; 3] =
        [&["-t", "ext2"], &["-t", "ext4", "-J", "size=1"], &["-t", "ext4", "-J", "size=1", "-O", "inline_data"]];
    let make = |options: &&[&str]| {
        let bench = Bench::new(4 << 20);
        bench.format("mkfs.ext4", &[options, &["-q", "-F", "-b", "1024", "-N", "64"][..]].concat());
        bench.fill(DRIVER, |folder| {
            fs::create_dir(folder.join("Log")).unwrap();
            (0..20).for_each(|number| fs::write(folder.join(format!("Log/day {number}.txt")), prose(number, 900)).unwrap());
            fs::write(folder.join("tiny.txt"), b"tiny").unwrap();
            std::os::unix::fs::symlink("Log", folder.join("link")).unwrap();
        });
        crate::support::in_memory(&bench)
    };
    sorts.iter().map(make).collect()
});

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn damaged_volumes_never_panic_hang_or_fill_memory(which in 0usize..3, damage in crate::support::damage()) {
        let volume = &SMALL[which];
        let whole = keel_format::registry::boot_sector(volume.as_ref(), ByteOffset(0)).unwrap();
        crate::support::survive(volume, whole, &damage);
    }
}

/// A quick formatter leaves bitmaps and tables of groups that nothing is in unwritten: what stood on their ground before means nothing.
#[test]
fn groups_that_were_never_written_are_sound_whatever_stood_on_their_ground() {
    for options in [&["-t", "ext4"][..], &["-t", "ext4", "-b", "1024"], &["-t", "ext4", "-O", "^metadata_csum,uninit_bg"]] {
        let bench = Bench::new(300 << 20);
        fs::write(&bench.image, noise(77, 1 << 20).repeat(300)).unwrap();
        bench.format("mkfs.ext4", &[options, &["-q", "-F", "-E", "nodiscard,lazy_itable_init=1"]].concat());
        let wrong = || -> Vec<String> {
            let (_, volume) = bench.open(512);
            let rules = keel_format::check::check(volume.as_ref());
            rules.iter().flat_map(|rule| &rule.findings).map(|finding| finding.what.clone()).collect()
        };
        assert_eq!(wrong(), Vec::<String>::new(), "{options:?}");
        bench.fill(DRIVER, |folder| write_tree(folder, &many_files()));
        assert_eq!(wrong(), Vec::<String>::new(), "{options:?}, filled");
        let (_, volume) = bench.open(512);
        assert!(contents(volume.as_ref()) == many_files(), "{options:?}, filled");
    }
}
