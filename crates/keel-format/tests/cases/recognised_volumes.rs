//! Volumes of recognised kinds, made by the system's own formatters.

use std::fs;
use std::process::Command;
use std::sync::Arc;

use crate::support::{Bench, run, surface};
use keel_format::{FoundVolume, VolumeKind, WitnessKind, recognised};
use keel_source::{ByteOffset, Overlay, SharedSource};

const MIB: u64 = 1 << 20;

fn found(drive: &SharedSource, kind: VolumeKind) -> Vec<FoundVolume> {
    recognised::infer(drive, &surface(drive)).into_iter().filter(|volume| volume.kind == kind).collect()
}

/// One volume of `kind` from byte 0 on, `bytes` long, with its label; and how its first structure was seen.
fn is_one(bench: &Bench, kind: VolumeKind, bytes: u64, label: Option<&str>) -> FoundVolume {
    let mut volumes = found(&bench.source(512), kind);
    assert_eq!(volumes.len(), 1, "{kind:?}: {volumes:?}");
    let volume = volumes.remove(0);
    assert_eq!((volume.start, volume.bytes, volume.label.as_deref()), (ByteOffset(0), bytes, label), "{kind:?}");
    assert!(volume.score() >= 35, "{kind:?}: {:?}", volume.witnesses);
    volume
}

/// The same volume with its first `gone` bytes zeroed is still found with its start and length.
fn is_found_by_copies(bench: &Bench, kind: VolumeKind, bytes: u64, gone: usize) {
    let mut overlay = Overlay::new(bench.source(512));
    overlay.lay(ByteOffset(0), &vec![0; gone]);
    let drive: SharedSource = Arc::new(overlay);
    let volumes = found(&drive, kind);
    assert_eq!(volumes.len(), 1, "{kind:?} by its copies: {volumes:?}");
    assert_eq!((volumes[0].start, volumes[0].bytes), (ByteOffset(0), bytes), "{kind:?} by its copies");
    assert!(!volumes[0].has(WitnessKind::BootSector));
}

#[test]
fn btrfs() {
    let bench = Bench::new(256 * MIB);
    bench.format("mkfs.btrfs", &["-q", "-f", "-L", "MOORINGS"]);
    is_one(&bench, VolumeKind::Btrfs, 256 * MIB, Some("MOORINGS"));
    is_found_by_copies(&bench, VolumeKind::Btrfs, 256 * MIB, 128 << 10);
}

#[test]
fn f2fs() {
    let bench = Bench::new(128 * MIB);
    bench.format("mkfs.f2fs", &["-q", "-f", "-l", "CABIN"]);
    is_one(&bench, VolumeKind::F2fs, 128 * MIB, Some("CABIN"));
}

#[test]
fn apfs() {
    let bench = Bench::new(600 * MIB);
    bench.format("mkapfs", &["-L", "BRIDGE"]);
    is_one(&bench, VolumeKind::Apfs, 600 * MIB, None);
    is_found_by_copies(&bench, VolumeKind::Apfs, 600 * MIB, 4096);
}

#[test]
fn swap() {
    let bench = Bench::new(40 * MIB);
    bench.format("mkswap", &["-q", "-L", "SPARE"]);
    is_one(&bench, VolumeKind::Swap, 40 * MIB, Some("SPARE"));
}

#[test]
fn luks_of_both_versions() {
    for (version, checked) in [("luks1", false), ("luks2", true)] {
        let bench = Bench::new(40 * MIB);
        let key = bench.folder.path().join("key");
        fs::write(&key, b"made up").unwrap();
        run(Command::new("cryptsetup")
            .args(["luksFormat", "-q", "--type", version, "--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000", "--key-file"])
            .arg(&key)
            .arg(&bench.image));
        let volume = is_one(&bench, VolumeKind::Luks, 0, None);
        assert_eq!(volume.witnesses[0].says.contains("checksum holds"), checked, "{version}");
        if checked {
            is_found_by_copies(&bench, VolumeKind::Luks, 0, 4096);
        }
    }
}

#[test]
fn lvm() {
    let bench = Bench::new(64 * MIB);
    bench.format_with_sectors(
        512,
        "pvcreate",
        &["-y", "-qq", "--devicesfile", "", "--config", "global{locking_type=0} devices{scan=\"/dev\"}"],
    );
    let volume = is_one(&bench, VolumeKind::Lvm, 64 * MIB, None);
    assert!(volume.witnesses[0].says.contains("checksum holds"));
}

#[test]
fn udf_and_iso_9660() {
    let bench = Bench::new(64 * MIB);
    bench.format("mkudffs", &["--label=CHARTS", "--media-type=hd", "--blocksize=512"]);
    let volume = is_one(&bench, VolumeKind::Udf, 64 * MIB, Some("CHARTS"));
    assert!(volume.witnesses.len() >= 2);
    let bench = Bench::new(MIB);
    let tree = bench.folder.path().join("tree");
    fs::create_dir(&tree).unwrap();
    fs::write(tree.join("tides.txt"), vec![b'x'; 100_000]).unwrap();
    run(Command::new("genisoimage").args(["-quiet", "-V", "TIDES", "-o"]).arg(&bench.image).arg(&tree));
    let bytes = fs::metadata(&bench.image).unwrap().len();
    is_one(&bench, VolumeKind::Iso9660, bytes, Some("TIDES"));
}

/// The superblock of a filled volume is lost, found by its copies, put back, and the kernel lists every file.
fn superblock_comes_back(bench: &Bench, kind: VolumeKind, driver: &[&str], (at, len): (u64, usize)) {
    use std::os::unix::fs::FileExt;
    let files = crate::support::many_files();
    bench.fill(driver, |folder| crate::support::write_tree(folder, &files));
    let file = fs::File::options().write(true).open(&bench.image).unwrap();
    for damage in [vec![0; len], crate::support::noise(9, len)] {
        file.write_all_at(&damage, at).unwrap();
        let drive = bench.source(512);
        let volumes = found(&drive, kind);
        assert_eq!(volumes.len(), 1, "{kind:?}");
        let structures = volumes[0].geometry.structures(&drive, ByteOffset(0), keel_format::Compute::All);
        let [structure] = structures.as_slice() else { panic!("{kind:?}: {} structures", structures.len()) };
        assert!(!structure.main.holds() && structure.copies.iter().any(keel_format::Version::holds), "{kind:?}");
        let repairs = crate::support::main_repairs(&volumes[0].geometry, &drive);
        assert_eq!((repairs.len(), repairs[0].at), (1, ByteOffset(at)), "{kind:?}");
        let rows = structure.rows();
        assert!(rows.iter().any(|row| row.differs) && rows.iter().all(|row| row.copy.is_some()), "{kind:?}");
        file.write_all_at(&repairs[0].bytes, at).unwrap();
        bench.fill(driver, |folder| {
            for (path, content) in &files {
                assert!(&fs::read(folder.join(path)).unwrap() == content, "{kind:?}: {path}");
            }
        });
    }
    let sound = found(&bench.source(512), kind);
    assert!(crate::support::main_repairs(&sound[0].geometry, &bench.source(512)).is_empty(), "{kind:?}");
}

#[test]
fn the_superblock_of_a_btrfs_comes_back_from_its_mirror() {
    let bench = Bench::new(256 * MIB);
    bench.format("mkfs.btrfs", &["-q", "-f", "-L", "MOORINGS"]);
    superblock_comes_back(&bench, VolumeKind::Btrfs, &["mount", "-t", "btrfs"], (64 << 10, 4096));
}
