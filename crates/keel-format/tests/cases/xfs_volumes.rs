//! XFS volumes made by the system's formatter and filled by the kernel's driver, or by the formatter itself where the driver no longer
//! takes their version.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs::{self, File};
use std::ops::ControlFlow;
use std::os::unix::fs::{FileExt, MetadataExt, symlink};
use std::path::Path;
use std::process::Command;
use std::sync::{Arc, LazyLock};

use crate::support::shown::{Seen, agree, as_read, as_the_driver, attributes, everything, large_attributes};
use crate::support::{Bench, contents, deleted, many_files, noise, prose, run, surface, write_tree};
use keel_format::{
    Deleted, Existence, Geometry, NodeKind, Severity, Volume, VolumeKind, WitnessKind, check, is_nameless, read_whole, xfs,
};
use keel_source::{ByteOffset, FileSource, Overlay, SectorSize, SharedSource};
use proptest::prelude::*;

const DRIVER: &[&str] = &["mount", "-t", "xfs"];
const MIB: u64 = 1 << 20;

#[test]
fn every_set_of_features_reads_as_the_driver_shows_it() {
    let sets: [&[&str]; 9] = [
        &[],
        &["-i", "nrext64=1"],
        &["-m", "bigtime=0,inobtcount=0"],
        &["-m", "rmapbt=1,reflink=1"],
        &["-m", "reflink=0,finobt=0"],
        &["-i", "sparse=0"],
        &["-i", "size=2048", "-d", "agcount=7"],
        &["-b", "size=1024", "-n", "size=8192"],
        &["-s", "size=4096", "-n", "size=65536"],
    ];
    for options in sets {
        let bench = Bench::new(600 * MIB);
        bench.format("mkfs.xfs", &[options, &["-q", "-f", "-L", "STOREROOM"]].concat());
        let mut wanted = BTreeMap::new();
        bench.fill(DRIVER, |folder| {
            everything(folder);
            attributes(folder, &large_attributes());
            wanted = as_the_driver(folder);
        });
        let (geometry, volume) = bench.open(512);
        assert_eq!((geometry.kind(), geometry.bytes()), (VolumeKind::Xfs, 600 * MIB), "{options:?}");
        assert_eq!(volume.summary().label.as_deref(), Some("STOREROOM"), "{options:?}");
        let seen = as_read(volume.as_ref());
        agree(&wanted, &seen, &format!("{options:?}"));
        assert_eq!(volume.examine(), [], "{options:?}");
        is_sound(volume.as_ref(), &format!("{options:?}"));
    }
}

#[test]
fn folders_and_files_whose_extents_stand_in_trees_of_several_levels_read() {
    let bench = Bench::new(600 * MIB);
    bench.format("mkfs.xfs", &["-q", "-f", "-b", "size=1024", "-i", "maxpct=80"]);
    let mut wanted = BTreeMap::new();
    let inodes = std::cell::RefCell::new(Vec::new());
    bench.fill(DRIVER, |folder| {
        // Folders that grow in turns, with content between their blocks, lie in many pieces.
        for number in 0..4500 {
            for name in ["quay", "mole"] {
                fs::create_dir_all(folder.join(name)).unwrap();
                let path = folder.join(format!("{name}/a crossing with a rather long name, number {number:05}.txt"));
                fs::write(path, noise(number, if number % 16 == 0 { 1500 } else { 0 })).unwrap();
            }
        }
        // Some thousand pieces need a tree of two levels in blocks of this size.
        let file = File::create(folder.join("pieces.bin")).unwrap();
        (0..9000u64).for_each(|number| file.write_all_at(&number.to_le_bytes(), number * 4096).unwrap());
        inodes.borrow_mut().extend(["quay", "mole", "pieces.bin"].map(|name| fs::metadata(folder.join(name)).unwrap().ino()));
        wanted = as_the_driver(folder);
    });
    let (geometry, volume) = bench.open(512);
    assert!(as_read(volume.as_ref()) == wanted);
    is_sound(volume.as_ref(), "trees");
    let Geometry::Xfs(geometry) = geometry else { panic!() };
    let own = xfs::XfsVolume::open(bench.source(512), geometry).unwrap();
    for number in inodes.into_inner() {
        let inode = own.inode(number).unwrap();
        let fork = inode.data();
        assert_eq!(fork.format, 3, "inode {number} has a tree");
        if inode.kind() == Some(NodeKind::File) {
            assert!(fork.bytes[1] >= 2, "of several levels");
        }
    }
}

/// No rule finds anything, and no two files are said to hold the same ground, nor one that is free.
fn is_sound(volume: &dyn Volume, what: &str) {
    assert!(volume.allocation().is_some(), "{what}");
    for checked in check::check(volume) {
        assert_eq!(checked.findings, [], "{what}: {}", checked.rule);
    }
}

/// A list of files for the formatter, which writes them itself.
fn prototype(folder: &Path, files: usize) -> (std::path::PathBuf, BTreeMap<String, Vec<u8>>) {
    let (mut text, mut wanted) = ("/boot\n1 1\nd--755 0 0\n".to_string(), BTreeMap::new());
    let mut add = |text: &mut String, path: String, content: Vec<u8>| {
        let source = folder.join(format!("source{}", wanted.len()));
        fs::write(&source, &content).unwrap();
        writeln!(text, "{} ---644 0 0 {}", path.rsplit('/').next().unwrap(), source.display()).unwrap();
        wanted.insert(path, content);
    };
    for number in 0..12 {
        add(&mut text, format!("tide{number}.txt"), prose(number, number * 3000));
    }
    writeln!(text, "Log d--755 0 0").unwrap();
    for number in 0..files {
        add(&mut text, format!("Log/the-crossing-with-number-{number:05}.txt"), Vec::new());
    }
    text.push_str("$\nShort d--755 0 0\n");
    add(&mut text, "Short/one.txt".into(), prose(77, 10));
    text.push_str("$\nlink l--777 0 0 Log/somewhere\n$\n");
    let list = folder.join("prototype");
    fs::write(&list, text).unwrap();
    (list, wanted)
}

#[test]
fn the_fourth_version_reads_with_and_without_types_of_names() {
    for (options, files) in [
        (&["-m", "crc=0", "-n", "ftype=0"][..], 40),
        (&["-m", "crc=0", "-n", "ftype=1"], 2000),
        (&["-m", "crc=0", "-b", "size=512", "-i", "size=256"], 300),
        (&["-m", "crc=0", "-n", "version=2,ftype=0,size=8192", "-b", "size=1024"], 3000),
        (&["-m", "crc=1"], 2000),
    ] {
        let bench = Bench::new(400 * MIB);
        let (list, wanted) = prototype(bench.folder.path(), files);
        bench.format("mkfs.xfs", &[options, &["-q", "-f", "-p", list.to_str().unwrap()]].concat());
        let (_, volume) = bench.open(512);
        assert!(contents(volume.as_ref()) == wanted, "{options:?}");
        let mut links = Vec::new();
        volume
            .walk(Deleted::Hide, &mut |found| {
                links.extend((found.entry.kind == NodeKind::Link).then_some(found.entry.id));
                ControlFlow::Continue(())
            })
            .unwrap();
        let targets: Vec<_> = links.into_iter().map(|link| volume.link_target(link)).collect();
        assert_eq!(targets, [Some("Log/somewhere".to_string())], "{options:?}");
        is_sound(volume.as_ref(), &format!("{options:?}"));
    }
}

#[test]
fn files_whose_inodes_are_gone_keep_their_names() {
    let bench = Bench::new(320 * MIB);
    bench.format("mkfs.xfs", &["-q", "-f"]);
    bench.fill(DRIVER, |folder| write_tree(folder, &many_files()));
    let (geometry, volume) = bench.open(512);
    let mut lost = Vec::new();
    volume
        .walk(Deleted::Hide, &mut |found| {
            if found.path().contains("Week number 1") {
                lost.push(found.entry.id.0);
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    assert_eq!(lost.len(), 10);
    // Inodes say their numbers, big-endian.
    let bytes = fs::read(&bench.image).unwrap();
    let number = |at: usize| u64::from_be_bytes(*bytes[at + 152..].first_chunk().unwrap());
    let mut drive = Overlay::new(bench.source(512));
    for at in (0..bytes.len()).step_by(512).filter(|at| bytes[*at..].starts_with(b"IN") && lost.contains(&number(*at))) {
        drive.lay(ByteOffset(at as u64), &[0; 512]);
    }
    let volume = geometry.open(Arc::new(drive)).unwrap();
    let mut states = BTreeMap::new();
    volume
        .walk(Deleted::Hide, &mut |found| {
            states.insert(found.path(), found.entry.existence);
            ControlFlow::Continue(())
        })
        .unwrap();
    for path in many_files().keys() {
        let wanted = if path.contains("Week number 1") { Existence::Named } else { Existence::Present };
        assert_eq!(states.get(path), Some(&wanted), "{path}");
    }
}

#[test]
fn files_that_share_their_blocks_hold_them_once() {
    let bench = Bench::new(320 * MIB);
    bench.format("mkfs.xfs", &["-q", "-f", "-m", "reflink=1,rmapbt=1"]);
    let content = noise(4, 3 << 20);
    bench.fill(DRIVER, |folder| {
        fs::write(folder.join("chart.bin"), &content).unwrap();
        for name in ["copy.bin", "another.bin"] {
            run(Command::new("cp").arg("--reflink=always").args([folder.join("chart.bin"), folder.join(name)]));
        }
        File::options().write(true).open(folder.join("copy.bin")).unwrap().write_all_at(b"changed", 1 << 20).unwrap();
    });
    let (_, volume) = bench.open(512);
    let files = contents(volume.as_ref());
    assert!(files["chart.bin"] == content && files["another.bin"] == content);
    assert!(files["copy.bin"][1 << 20..].starts_with(b"changed") && files["copy.bin"].len() == content.len());
    is_sound(volume.as_ref(), "shared");
}

#[test]
fn deleted_files_are_listed_where_their_names_are_left_and_read_by_the_maps_they_left() {
    let bench = Bench::new(320 * MIB);
    bench.format("mkfs.xfs", &["-q", "-f"]);
    let gone: BTreeMap<String, Vec<u8>> = (0..5).map(|number| (format!("gone {number}.bin"), noise(number, 40_960))).collect();
    bench.fill(DRIVER, |folder| {
        for number in 0..60 {
            fs::write(folder.join(format!("kept {number}.txt")), prose(number, 900)).unwrap();
        }
        write_tree(folder, &gone);
    });
    // What is deleted at once may never have reached the drive.
    bench.fill(DRIVER, |folder| {
        // A name that moves is none that was deleted.
        fs::rename(folder.join("kept 7.txt"), folder.join("moved.txt")).unwrap();
        gone.keys().for_each(|name| fs::remove_file(folder.join(name)).unwrap());
    });
    let (_, volume) = bench.open(512);
    let names = deleted(volume.as_ref());
    assert!(names.len() >= 4 && names.iter().all(|name| gone.contains_key(name)), "{names:?}");
    let mut whole = 0;
    volume
        .walk(Deleted::Show, &mut |found| {
            if found.entry.existence == Existence::Deleted {
                let mut stream = volume.open(found.entry.id, "").unwrap();
                assert_eq!(stream.bytes(), found.entry.bytes);
                whole += usize::from(read_whole(stream.as_mut(), 1 << 20).0 == gone[&found.entry.name]);
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    assert!(whole >= 4, "{whole} of {names:?}");
}

/// What the driver shows of a torn out image: it replays the log itself, on a copy.
fn as_the_driver_replays(bench: &Bench, torn: &Path) -> BTreeMap<String, Seen> {
    let again = Bench { folder: tempfile::tempdir().unwrap(), image: bench.folder.path().join("replayed.img") };
    run(Command::new("cp").arg("--sparse=always").arg(torn).arg(&again.image));
    let mut seen = BTreeMap::new();
    again.fill(&["mount", "-t", "xfs", "-o", "nouuid"], |folder| seen = as_the_driver(folder));
    seen
}

#[test]
fn a_volume_that_was_not_unmounted_reads_as_its_log_would_leave_it() {
    // The first one has a log so short that it is written round and round.
    let sets: [&[&str]; 4] = [
        &["--unsupported", "-l", "size=6m", "-m", "reflink=0"],
        &["-b", "size=1024", "-m", "rmapbt=1"],
        &["-m", "bigtime=0,inobtcount=0,reflink=0"],
        &["-l", "su=256k", "-i", "nrext64=1"],
    ];
    for options in sets {
        let bench = Bench::new(600 * MIB);
        bench.format("mkfs.xfs", &[options, &["-q", "-f"]].concat());
        let torn = [0, 1, 2].map(|number| bench.folder.path().join(format!("torn {number}.img")));
        let rip = |folder: &Path, number: usize| {
            run(Command::new("sync").arg("-f").arg(folder));
            // What the loop device has written by now is what is left when the cable is pulled.
            run(Command::new("cp").arg("--sparse=always").arg(&bench.image).arg(&torn[number]));
        };
        bench.fill(DRIVER, |folder| {
            write_tree(folder, &many_files());
            rip(folder, 0);
            everything(folder);
            rip(folder, 1);
            // Folders that shrink, files that go and names that move give blocks and inodes back.
            for number in 0..5000 {
                fs::remove_file(folder.join(format!("node/the crossing with number {number:05} of the year.txt"))).unwrap();
            }
            fs::remove_dir_all(folder.join("leaf")).unwrap();
            fs::rename(folder.join("SHORT.TXT"), folder.join("block/moved.txt")).unwrap();
            File::options().write(true).open(folder.join("few pieces.bin")).unwrap().set_len(100).unwrap();
            fs::write(folder.join("after that.bin"), noise(8, 50_000)).unwrap();
            rip(folder, 2);
        });
        for (number, torn) in torn.iter().enumerate() {
            let source: SharedSource = Arc::new(FileSource::open(torn, SectorSize(512)).unwrap());
            let geometry = keel_format::registry::boot_sector(source.as_ref(), ByteOffset(0)).unwrap();
            let volume = geometry.open(source).unwrap();
            let findings = volume.examine();
            assert!(
                findings.iter().any(|finding| finding.what.starts_with("the log holds")),
                "{options:?} {number}: {findings:?}"
            );
            assert!(findings.iter().all(|finding| finding.severity == Severity::Note), "{options:?} {number}: {findings:?}");
            assert!(volume.allocation().is_none(), "nothing is counted as free");
            let (wanted, seen) = (as_the_driver_replays(&bench, torn), as_read(volume.as_ref()));
            let differs = wanted.iter().find(|(path, what)| seen.get(*path) != Some(what)).map(|(path, _)| path);
            assert_eq!((seen.len(), differs), (wanted.len(), None), "{options:?} {number}");
        }
        // The same volume, unmounted, says nothing.
        assert_eq!(bench.open(512).1.examine(), [], "{options:?}");
    }
}

#[test]
fn a_volume_is_found_by_the_copies_of_its_superblock_and_mounts_when_it_is_put_back() {
    for options in [&[][..], &["-s", "size=4096"], &["-d", "agcount=9", "-b", "size=1024"], &["-m", "reflink=0,rmapbt=1"]] {
        let bench = Bench::new(700 * MIB);
        bench.format("mkfs.xfs", &[options, &["-q", "-f", "-L", "LOST"]].concat());
        bench.fill(DRIVER, |folder| write_tree(folder, &many_files()));
        let (whole, _) = bench.open(512);
        let Geometry::Xfs(geometry) = whole else { panic!() };
        let file = File::options().write(true).open(&bench.image).unwrap();
        for damage in [vec![0; geometry.sector_bytes as usize], noise(9, geometry.sector_bytes as usize)] {
            file.write_all_at(&damage, 0).unwrap();
            let drive = bench.source(512);
            let volumes = xfs::infer(&drive, &surface(&drive));
            assert_eq!(volumes.len(), 1, "{options:?}");
            let volume = &volumes[0];
            assert_eq!(
                (volume.start, volume.bytes, volume.label.as_deref()),
                (ByteOffset(0), 700 * MIB, Some("LOST")),
                "{options:?}"
            );
            assert!(volume.has(WitnessKind::BackupBootSector) && !volume.has(WitnessKind::BootSector), "{options:?}");
            assert!(contents(volume.geometry.open(Arc::clone(&drive)).unwrap().as_ref()) == many_files(), "{options:?}");
            let repairs = crate::support::main_repairs(&volume.geometry, &drive);
            assert_eq!((repairs.len(), repairs[0].at), (1, ByteOffset(0)), "{options:?}");
            file.write_all_at(&repairs[0].bytes, 0).unwrap();
            bench.fill(DRIVER, |folder| assert!(as_the_driver(folder).len() > many_files().len()));
            assert_eq!(bench.open(512).1.examine(), [], "{options:?}");
        }
    }
}

#[test]
fn headers_of_groups_are_computed_from_their_trees_and_the_driver_writes_again() {
    let sets: [&[&str]; 4] =
        [&[], &["-m", "rmapbt=1,reflink=1"], &["-m", "finobt=0,reflink=0,inobtcount=0"], &["-s", "size=4096", "-b", "size=4096"]];
    for options in sets {
        let bench = Bench::new(600 * MIB);
        bench.format("mkfs.xfs", &[options, &["-q", "-f", "-d", "agcount=4"]].concat());
        bench.fill(DRIVER, everything);
        let (whole, _) = bench.open(512);
        let Geometry::Xfs(geometry) = whole.clone() else { panic!() };
        let sector = geometry.sector_bytes as usize;
        let file = File::options().write(true).open(&bench.image).unwrap();
        let mut wanted = BTreeMap::new();
        bench.fill(DRIVER, |folder| wanted = as_the_driver(folder));
        // The first four sectors, as a careless hand leaves them, and the headers of another group.
        file.write_all_at(&vec![0; 4 * sector], 0).unwrap();
        file.write_all_at(&noise(3, 3 * sector), geometry.group_at(2).0 + sector as u64).unwrap();
        let drive = bench.source(512);
        let volumes = xfs::infer(&drive, &surface(&drive));
        assert_eq!(volumes.len(), 1, "{options:?}");
        let repairs = crate::support::main_repairs(&volumes[0].geometry, &drive);
        let names: Vec<&str> = repairs.iter().map(|repair| repair.name.as_str()).collect();
        let all = [
            "XFS superblock",
            "AGF of group 0",
            "AGI of group 0",
            "AGFL of group 0",
            "AGF of group 2",
            "AGI of group 2",
            "AGFL of group 2",
        ];
        assert_eq!(names, all, "{options:?}");
        repairs.iter().for_each(|repair| file.write_all_at(&repair.bytes, repair.at.0).unwrap());
        let (again, volume) = bench.open(512);
        assert_eq!((again, volume.examine()), (whole, vec![]), "{options:?}");
        is_sound(volume.as_ref(), &format!("{options:?}"));
        bench.fill(DRIVER, |folder| {
            assert!(as_the_driver(folder) == wanted, "{options:?}");
            fs::remove_dir_all(folder.join("node")).unwrap();
            for number in 0..300 {
                fs::write(folder.join(format!("leaf/written after mending {number}.bin")), noise(number, 90_000)).unwrap();
            }
        });
        bench.fill(DRIVER, |folder| assert!(as_the_driver(folder).len() < wanted.len()));
        is_sound(bench.open(512).1.as_ref(), &format!("{options:?}, written to again"));
    }
}

#[test]
fn a_volume_without_its_first_group_lists_what_the_others_name() {
    let bench = Bench::new(400 * MIB);
    bench.format("mkfs.xfs", &["-q", "-f", "-d", "agcount=4"]);
    // The driver puts every folder into a group of its own.
    let files: BTreeMap<String, Vec<u8>> =
        (0..80).map(|number| (format!("folder {}/day {number}.txt", number % 8), prose(number, 3000 + number))).collect();
    bench.fill(DRIVER, |folder| write_tree(folder, &files));
    let mut overlay = Overlay::new(bench.source(512));
    let gone = noise(3, 1 << 20);
    (0..100u64).for_each(|at| overlay.lay(ByteOffset(at * MIB), &gone));
    let drive: SharedSource = Arc::new(overlay);
    let volumes = xfs::infer(&drive, &surface(&drive));
    assert_eq!(volumes.len(), 1);
    assert_eq!((volumes[0].start, volumes[0].bytes), (ByteOffset(0), 400 * MIB));
    let volume = volumes[0].geometry.open(drive).unwrap();
    let (mut named, mut right) = (0, 0);
    volume
        .walk(Deleted::Hide, &mut |found| {
            if found.entry.kind == NodeKind::File {
                assert!(is_nameless(&found.path()), "{}", found.path());
                named += 1;
                let own = files.iter().find(|(path, _)| path.ends_with(&format!("/{}", found.entry.name)));
                let content = read_whole(volume.open(found.entry.id, "").unwrap().as_mut(), 1 << 20).0;
                right += usize::from(own.is_some_and(|(_, bytes)| *bytes == content));
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    assert!(named >= 40 && right >= named * 9 / 10, "{right} of {named}");
}

/// Small volumes of each version, filled once.
static SMALL: LazyLock<Vec<SharedSource>> = LazyLock::new(|| {
    let five = {
        let bench = Bench::new(24 * MIB);
        bench.format("mkfs.xfs", &["--unsupported", "-q", "-f", "-b", "size=1024", "-m", "rmapbt=1"]);
        bench.fill(DRIVER, |folder| {
            write_tree(folder, &many_files());
            let file = File::create(folder.join("pieces.bin")).unwrap();
            (0..400u64).for_each(|number| file.write_all_at(b"piece", number * 4096).unwrap());
            symlink("y".repeat(900), folder.join("link")).unwrap();
            run(Command::new("setfattr").args(["-n", "user.long", "-v", &"v".repeat(9000)]).arg(folder.join("SHORT.TXT")));
        });
        bench
    };
    let four = Bench::new(24 * MIB);
    let (list, _) = prototype(four.folder.path(), 300);
    four.format("mkfs.xfs", &["--unsupported", "-m", "crc=0", "-q", "-f", "-p", list.to_str().unwrap()]);
    [five, four].iter().map(crate::support::in_memory).collect()
});

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn damaged_volumes_never_panic_hang_or_fill_memory(which in 0usize..2, damage in crate::support::damage()) {
        let volume = &SMALL[which];
        let whole = keel_format::registry::boot_sector(volume.as_ref(), ByteOffset(0)).unwrap();
        crate::support::survive(volume, whole, &damage);
    }
}
