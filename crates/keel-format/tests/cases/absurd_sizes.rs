//! Every number of the structures that readers begin with, made absurd one after the other: 0, 1, the largest, the largest that is
//! not negative. Nothing may panic, hang, or hold more than a reader may.

use std::ops::ControlFlow;
use std::sync::Arc;
use std::time::{Duration, Instant};

use crate::support::{Bench, prose, write_tree};
use keel_format::{Deleted, VolumeKind, read_whole, registry};
use keel_source::{ByteOffset, MemorySource, Overlay, SharedSource};

/// What looking into one such volume takes at most, in a build that is not tuned and on a machine that has other things to do.
const LONGEST: Duration = Duration::from_secs(10);

/// A volume, and the structures whose numbers are changed: their places and lengths.
struct Case {
    drive: SharedSource,
    kind: VolumeKind,
    places: Vec<(u64, usize)>,
    /// Makes checksums hold again over what was changed: only then are the numbers believed.
    seal: Option<fn(&SharedSource) -> SharedSource>,
    /// Entries that it lists before it is damaged.
    entries: usize,
}

fn small(bytes: u64, program: &str, arguments: &[&str], fill: impl FnOnce(&Bench)) -> (SharedSource, VolumeKind) {
    let bench = Bench::new(bytes);
    bench.format(program, arguments);
    fill(&bench);
    let (geometry, _) = bench.open(512);
    let drive: SharedSource = Arc::new(MemorySource::new("absurd", std::fs::read(&bench.image).unwrap(), 512));
    (drive, geometry.kind())
}

fn some_files() -> std::collections::BTreeMap<String, Vec<u8>> {
    [("Log/crossing.txt", 3000), ("Log/tide.txt", 70_000), ("quay.txt", 12)]
        .map(|(name, len)| (name.to_string(), prose(len, len)))
        .into()
}

fn by_loop(bench: &Bench) {
    bench.fill(&["mount"], |point| write_tree(point, &some_files()));
}

/// Where a structure stands that begins with `magic`, at a multiple of `step`.
fn find(drive: &SharedSource, step: u64, magic: &[u8]) -> u64 {
    let mut piece = vec![0; magic.len()];
    let is_there = |at: &u64| {
        drive.read_at(ByteOffset(*at), &mut piece).unwrap();
        piece == magic
    };
    (0..drive.len() / step).map(|index| index * step).find(is_there).unwrap()
}

/// Fields of `place` one after the other, as numbers of 1, 2, 4 and 8 bytes.
fn each_number(place: (u64, usize), each: &mut dyn FnMut(u64, &[u8])) {
    let (at, len) = place;
    for width in [1usize, 2, 4, 8] {
        for offset in (0..len - width + 1).step_by(width) {
            for value in [0u64, 1, u64::MAX, u64::MAX >> 1] {
                let own = value.to_le_bytes();
                let mut bytes = own[..width].to_vec();
                if value == u64::MAX >> 1 {
                    // The largest that is not negative, in either order of bytes.
                    bytes.fill(0xFF);
                    bytes[if offset % (2 * width) == 0 { width - 1 } else { 0 }] = 0x7F;
                }
                each(at + offset as u64, &bytes);
            }
        }
    }
}

/// Looks into what `drive` says it is: all names, the beginning of some files, and what a quick look finds.
fn look(drive: &SharedSource) -> usize {
    let Some(geometry) = registry::boot_sector(drive.as_ref(), ByteOffset(0)) else { return 0 };
    let Ok(volume) = geometry.open(Arc::clone(drive)) else { return 0 };
    let mut nodes = Vec::new();
    let _ = volume.walk(Deleted::Show, &mut |found| {
        nodes.push(found.entry.id);
        if nodes.len() < 200 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    for node in nodes.iter().take(4) {
        if let Ok(mut stream) = volume.open(*node, "") {
            let _ = read_whole(stream.as_mut(), 1 << 14);
        }
    }
    let _ = volume.examine();
    nodes.len()
}

fn survives(case: &Case) {
    assert!(look(&case.drive) >= case.entries, "{:?} lists before it is damaged", case.kind);
    let mut tried = 0;
    for place in &case.places {
        each_number(*place, &mut |at, bytes| {
            let mut overlay = Overlay::new(Arc::clone(&case.drive));
            overlay.lay(ByteOffset(at), bytes);
            let changed: SharedSource = Arc::new(overlay);
            let drive = case.seal.map_or_else(|| Arc::clone(&changed), |seal| seal(&changed));
            let began = Instant::now();
            look(&drive);
            assert!(began.elapsed() < LONGEST, "{:?}: {bytes:02x?} at {at}: {:?}", case.kind, began.elapsed());
            tried += 1;
        });
    }
    assert!(tried > 1000, "{:?}: {tried}", case.kind);
}

#[test]
fn of_ntfs() {
    let fill = |bench: &Bench| bench.fill_ntfs(|point| write_tree(point, &some_files()));
    let (drive, kind) = small(8 << 20, "mkfs.ntfs", &["-F", "-Q", "-q"], fill);
    let mut sector = [0; 512];
    drive.read_at(ByteOffset(0), &mut sector).unwrap();
    let mft = u64::from_le_bytes(sector[48..56].try_into().unwrap()) * u64::from(sector[13]) * 512;
    // The boot sector, the record of the MFT itself and that of the root.
    survives(&Case { drive, kind, places: vec![(0, 90), (mft + 24, 470), (mft + 5 * 1024, 460)], seal: None, entries: 4 });
}

#[test]
fn of_fat() {
    for (bits, bytes) in [("12", 4u64 << 20), ("16", 16 << 20), ("32", 40 << 20)] {
        let fill = |bench: &Bench| {
            crate::support::run(std::process::Command::new("mmd").arg("-i").arg(&bench.image).arg("::LOG"));
            for name in ["one.txt", "two.txt", "LOG/three.txt"] {
                let file = bench.folder.path().join("file");
                std::fs::write(&file, prose(name.len(), 5000)).unwrap();
                let to = format!("::{name}");
                crate::support::run(std::process::Command::new("mcopy").arg("-i").arg(&bench.image).arg(&file).arg(to));
            }
        };
        let (drive, kind) = small(bytes, "mkfs.vfat", &["-F", bits, "-n", "QUAY"], fill);
        survives(&Case { drive, kind, places: vec![(0, 96), (0, 512)], seal: None, entries: 4 });
    }
}

#[test]
fn of_ext() {
    // Without checksums: what is changed is believed.
    let (drive, kind) = small(8 << 20, "mkfs.ext4", &["-q", "-F", "-b", "1024", "-O", "^metadata_csum,^has_journal"], by_loop);
    // The superblock, and the descriptor of the first group.
    survives(&Case { drive, kind, places: vec![(1024, 420), (2048, 32)], seal: None, entries: 4 });
}

#[test]
fn of_xfs() {
    let arguments = ["--unsupported", "-q", "-f", "-m", "crc=0", "-p"];
    let list = tempfile::NamedTempFile::new().unwrap();
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), prose(3, 9000)).unwrap();
    let path = file.path().display();
    let lines = format!(
        "/\n0 0\nd--755 0 0\nquay.txt ---644 0 0 {path}\nlog d--755 0 0\none ---644 0 0 {path}\ntwo ---644 0 0 {path}\n$\n$\n"
    );
    std::fs::write(list.path(), lines).unwrap();
    let all = [&arguments[..], &[list.path().to_str().unwrap()]].concat();
    let (drive, kind) = small(20 << 20, "mkfs.xfs", &all, |_| {});
    let root = find(&drive, 256, b"IN\x41\xed");
    // The superblock, the header of the first group's inodes, and the inode of the root.
    survives(&Case { drive, kind, places: vec![(0, 264), (1024, 64), (root, 256)], seal: None, entries: 4 });
}

/// The boot checksum of exFAT over the first eleven sectors, in every word of the twelfth. Specification §3.4.
fn seal_exfat(changed: &SharedSource) -> SharedSource {
    let mut sectors = vec![0; 11 * 512];
    changed.read_at(ByteOffset(0), &mut sectors).unwrap();
    let counted = sectors.iter().enumerate().filter(|(at, _)| ![106, 107, 112].contains(at));
    let sum = counted.fold(0u32, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u32::from(*byte)));
    let mut sealed = Overlay::new(Arc::clone(changed));
    sealed.lay(ByteOffset(11 * 512), &sum.to_le_bytes().repeat(128));
    Arc::new(sealed)
}

#[test]
fn of_exfat() {
    let fill = |bench: &Bench| bench.fill(&["mount.exfat-fuse", "-o", "rw"], |point| write_tree(point, &some_files()));
    let (drive, kind) = small(8 << 20, "mkfs.exfat", &["-c", "4096", "-L", "CAMERA"], fill);
    let mut sector = [0; 512];
    drive.read_at(ByteOffset(0), &mut sector).unwrap();
    let number = |at: usize| u64::from(u32::from_le_bytes(sector[at..at + 4].try_into().unwrap()));
    let root = number(88) * 512 + (number(96) - 2) * 4096;
    survives(&Case { drive, kind, places: vec![(64, 56), (root, 320)], seal: Some(seal_exfat), entries: 4 });
}

#[test]
fn of_hfs_plus() {
    let bytes = std::fs::read(&crate::support::new_hfs_plus(8 << 20, 4096, "QUAY", false).image).unwrap();
    let drive: SharedSource = Arc::new(MemorySource::new("absurd", bytes, 512));
    let kind = registry::boot_sector(drive.as_ref(), ByteOffset(0)).unwrap().kind();
    // The volume header, and the header node of the catalog, which the header's fork leads to.
    let mut start = [0; 4];
    drive.read_at(ByteOffset(1024 + 0x110 + 16), &mut start).unwrap();
    let catalog = u64::from(u32::from_be_bytes(start)) * 4096;
    survives(&Case { drive, kind, places: vec![(1024, 512), (catalog, 256)], seal: None, entries: 0 });
}
