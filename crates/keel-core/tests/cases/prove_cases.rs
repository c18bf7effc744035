//! Proof by an operating system: every kind that this machine's drivers mount, at any place of a drive, and what is said of the others.

use std::collections::BTreeMap;
use std::fs;
use std::process::Command;

use keel_core::mend::{self, Proof};
use keel_core::sweep::{Find, Reach};
use keel_format::VolumeKind;
use keel_source::SharedSource;

use crate::support::{Bench, MIB, files, run, swept};

/// Where the volume begins: a place that no partition tool chooses.
const AT: u64 = 3 * MIB + 512;

fn found(source: &SharedSource, kind: VolumeKind) -> Find {
    let finds = swept(source, Reach::Surface).finds;
    let find = finds.iter().find(|find| find.kind == kind && find.start_byte.0 == AT);
    find.unwrap_or_else(|| panic!("no {kind:?}: {finds:?}")).clone()
}

fn proven(bench: &Bench, kind: VolumeKind) -> Proof {
    let source = bench.open();
    mend::prove(&source, &found(&source, kind)).unwrap()
}

/// A volume by a formatter, filled through the kernel's own driver, at [`AT`].
fn by_kernel(bench: &Bench, bytes: u64, program: &str, arguments: &[&str]) {
    let volume = bench.folder.path().join("one.vol");
    fs::File::create(&volume).unwrap().set_len(bytes).unwrap();
    run(Command::new(program).args(arguments).arg(&volume));
    let point = bench.folder.path().join("mounted");
    fs::create_dir_all(&point).unwrap();
    run(Command::new("mount").args(["-o", "loop"]).arg(&volume).arg(&point));
    crate::support::plant(&point, &files(3));
    crate::support::unmount(&point);
    bench.place(&volume, AT);
}

/// Mounted by `driver`, the same files on both sides, and the samples alike.
fn holds(proof: &Proof, driver: &str) {
    assert!(proof.holds(), "{proof:?}");
    assert!(proof.how.contains(driver), "{proof:?}");
    assert_eq!((proof.files_here, proof.files_there), (files(3).len() as u64, files(3).len() as u64), "{proof:?}");
    assert!(proof.sampled > 0 && proof.same == proof.sampled);
}

#[test]
fn every_ext_is_mounted_by_the_kernel() {
    for (program, kind) in [("mkfs.ext2", VolumeKind::Ext2), ("mkfs.ext3", VolumeKind::Ext3), ("mkfs.ext4", VolumeKind::Ext4)] {
        let bench = Bench::new(40 * MIB);
        by_kernel(&bench, 32 * MIB, program, &["-q", "-F", "-b", "1024"]);
        holds(&proven(&bench, kind), "ext");
    }
}

#[test]
fn an_xfs_is_mounted_without_replaying_its_log() {
    let bench = Bench::new(80 * MIB);
    by_kernel(&bench, 64 * MIB, "mkfs.xfs", &["--unsupported", "-q"]);
    let before = bench.read(0, 80 * MIB as usize);
    holds(&proven(&bench, VolumeKind::Xfs), "xfs");
    assert!(bench.read(0, 80 * MIB as usize) == before, "a proof writes nothing");
}

#[test]
fn kinds_whose_drivers_are_programs_are_mounted_by_those() {
    let ntfs = Bench::new(24 * MIB);
    ntfs.ntfs(AT, 16 * MIB, "QUAY", &files(3));
    holds(&proven(&ntfs, VolumeKind::Ntfs), "ntfs");
    let exfat = Bench::new(24 * MIB);
    exfat.exfat(AT, 16 * MIB, "QUAY", &files(3));
    let proof = proven(&exfat, VolumeKind::ExFat);
    // The driver that this machine has may be the kernel's or a program.
    if proof.mounted {
        holds(&proof, "exfat");
    } else {
        assert!(proof.how.contains("exfat"), "{proof:?}");
    }
}

#[test]
fn a_kind_without_a_driver_here_is_said_to_be_not_mounted_and_never_to_hold() {
    let bench = Bench::new(24 * MIB);
    bench.fat(AT, 16 * MIB, "16", "QUAY", &files(3));
    let proof = proven(&bench, VolumeKind::Fat16);
    let has_driver = fs::read_to_string("/proc/filesystems").unwrap().contains("vfat");
    assert_eq!(proof.mounted, has_driver, "{proof:?}");
    assert_eq!(proof.holds(), has_driver);
    assert!(has_driver || proof.how.contains("no such driver"), "{proof:?}");
    assert!(proof.different.is_empty());
}

#[test]
fn what_the_kernel_lists_otherwise_is_named() {
    let bench = Bench::new(40 * MIB);
    by_kernel(&bench, 32 * MIB, "mkfs.ext4", &["-q", "-F", "-b", "1024", "-O", "^has_journal"]);
    let source = bench.open();
    let find = found(&source, VolumeKind::Ext4);
    // We look at the volume as it was; the kernel at one from which a file was taken and another changed meanwhile.
    let image = fs::read(&bench.image).unwrap();
    let before: SharedSource = std::sync::Arc::new(Remembered { below: source.clone(), bytes: image });
    let volume = bench.folder.path().join("one.vol");
    let point = bench.folder.path().join("mounted");
    run(Command::new("mount").args(["-o", "loop"]).arg(&volume).arg(&point));
    let names: Vec<String> = files(3).keys().cloned().collect();
    fs::remove_file(point.join(&names[0])).unwrap();
    fs::write(point.join(&names[1]), b"another tide table").unwrap();
    crate::support::unmount(&point);
    // Every block of the new state: also those that are zeros now.
    let now = fs::read(&volume).unwrap();
    bench.write(AT, &now);
    let proof = mend::prove(&before, &find).unwrap();
    assert!(proof.mounted && !proof.holds(), "{proof:?}");
    assert!(proof.different.iter().any(|line| line.contains(names[0].rsplit('/').next().unwrap())), "{proof:?}");
    assert!(proof.different.iter().all(|line| !line.chars().any(char::is_control)));
}

/// A drive as it was, under the identity of the image.
struct Remembered {
    below: SharedSource,
    bytes: Vec<u8>,
}

impl keel_source::Source for Remembered {
    fn identity(&self) -> &keel_source::Identity {
        self.below.identity()
    }

    fn read_at(&self, at: keel_source::ByteOffset, buf: &mut [u8]) -> Result<(), keel_source::ReadError> {
        let at = usize::try_from(at.0).unwrap();
        buf.copy_from_slice(&self.bytes[at..at + buf.len()]);
        Ok(())
    }
}

#[test]
fn a_simulated_drive_has_nothing_to_mount_and_says_what_to_do() {
    let bench = Bench::new(24 * MIB);
    bench.ntfs(AT, 16 * MIB, "QUAY", &files(3));
    let source = bench.open();
    let find = found(&source, VolumeKind::Ntfs);
    let memory: SharedSource = std::sync::Arc::new(keel_source::MemorySource::new("quay", vec![0; 1 << 20], 512));
    let error = mend::prove(&memory, &find).unwrap_err().to_string();
    assert!(error.contains("save a repaired copy"), "{error}");
}

#[test]
fn looks_before_and_after_tell_what_a_plan_lost() {
    let bench = Bench::new(24 * MIB);
    bench.ntfs(AT, 16 * MIB, "QUAY", &files(3));
    let source = bench.open();
    let find = found(&source, VolumeKind::Ntfs);
    let finds = std::slice::from_ref(&find);
    let before = mend::looks(&source, finds);
    let same = mend::proven(&source, finds, &before);
    assert_eq!(same.len(), 1);
    assert_eq!(same[0].counted[0], same[0].counted[1]);
    assert!(same[0].lost.is_none() && same[0].sampled[0] == same[0].sampled[1]);
    // The content of every file is overwritten: what was sampled does not read as it did.
    let mut wiped = keel_source::Overlay::new(source.clone());
    let volume = keel_core::files::open(&source, &find).unwrap();
    let mut nodes = BTreeMap::new();
    volume
        .walk(keel_format::Deleted::Hide, &mut |found| {
            nodes.insert(found.entry.id, found.entry.bytes);
            std::ops::ControlFlow::Continue(())
        })
        .unwrap();
    for node in nodes.keys() {
        for extent in volume.extents(*node).unwrap_or_default() {
            if let Some(at) = extent.volume_at {
                wiped.lay(find.start_byte + at.0, &vec![0x2A; usize::try_from(extent.bytes).unwrap()]);
            }
        }
    }
    let wiped: SharedSource = std::sync::Arc::new(wiped);
    let after = mend::proven(&wiped, finds, &before);
    assert!(after[0].lost.is_some(), "{:?}", after[0]);
}
