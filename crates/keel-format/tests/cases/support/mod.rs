//! Volumes made by the system's own formatters and drivers.
#![allow(dead_code, missing_docs, unreachable_pub, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

pub mod shown;

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::ops::ControlFlow;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use keel_format::clue::Clues;
use keel_format::make::{NewVolume, Wanted};
use keel_format::{Compute, Deleted, Existence, Geometry, NodeKind, Repair, Volume, read_whole, registry};
use keel_source::{ByteOffset, FileSource, MemorySource, Overlay, SectorSize, SharedSource};
use proptest::prelude::*;

/// A new HFS+ volume of ours in an image.
pub fn new_hfs_plus(bytes: u64, block_bytes: u32, label: &str, journal: bool) -> Bench {
    let wanted = Wanted {
        bytes,
        sector: SectorSize(512),
        hidden_sectors: 0,
        label: label.into(),
        cluster_bytes: Some(block_bytes),
        serial: 0xBAC,
        journal,
        made_at: 1_773_155_200,
    };
    let bench = Bench::new(bytes);
    bench.lay(&keel_format::hfsplus::make::volume(&wanted).unwrap());
    bench
}

/// A folder with one volume image in it.
pub struct Bench {
    pub folder: tempfile::TempDir,
    pub image: PathBuf,
}

impl Bench {
    /// An empty image of `bytes` bytes.
    pub fn new(bytes: u64) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("volume.img");
        File::create(&image).unwrap().set_len(bytes).unwrap();
        Self { folder, image }
    }

    /// Writes a new volume of ours to the image, whatever stood there before.
    pub fn lay(&self, volume: &NewVolume) {
        let file = File::options().write(true).open(&self.image).unwrap();
        for part in &volume.parts {
            // A hole stays one.
            if part.bytes.is_zeros() && part.bytes.len() > 8 << 20 {
                continue;
            }
            part.bytes.each_piece(|at, piece| file.write_all_at(piece, part.at.0 + at)).unwrap();
        }
    }

    /// Runs a formatter on the image.
    pub fn format(&self, program: &str, arguments: &[&str]) {
        run(Command::new(program).args(arguments).arg(&self.image));
    }

    /// Runs a formatter on a loop device of the image with sectors of `sector` bytes: some take the size from there.
    pub fn format_with_sectors(&self, sector: u32, program: &str, arguments: &[&str]) {
        self.on_loop(sector, |device| run(Command::new(program).args(arguments).arg(device)));
    }

    /// Attaches the image to a loop device while `work` runs.
    fn on_loop(&self, sector: u32, work: impl FnOnce(&str)) {
        let size = format!("--sector-size={sector}");
        let output = Command::new("losetup").args(["--find", "--show", &size]).arg(&self.image).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        let device = String::from_utf8(output.stdout).unwrap().trim().to_string();
        work(&device);
        run(Command::new("losetup").args(["--detach", &device]));
    }

    /// Mounts the image through a loop device by `driver` and its arguments, lets `fill` write into it, unmounts it.
    pub fn fill(&self, driver: &[&str], fill: impl FnOnce(&Path)) {
        self.on_loop(512, |device| self.fill_from(Path::new(device), driver, fill));
    }

    fn fill_from(&self, what: &Path, driver: &[&str], fill: impl FnOnce(&Path)) {
        let point = self.folder.path().join("mounted");
        fs::create_dir_all(&point).unwrap();
        let (program, arguments) = driver.split_first().unwrap();
        run(Command::new(program).args(arguments).arg(what).arg(&point));
        fill(&point);
        unmount(&point);
    }

    /// Fills an NTFS image through the system's driver.
    pub fn fill_ntfs(&self, fill: impl FnOnce(&Path)) {
        self.fill_from(&self.image, &["ntfs-3g", "-o", "streams_interface=windows,compression"], fill);
    }

    /// The image as a source.
    pub fn source(&self, sector: u32) -> SharedSource {
        Arc::new(FileSource::open(&self.image, SectorSize(sector)).unwrap())
    }

    /// The volume by its boot sector.
    pub fn open(&self, sector: u32) -> (Geometry, Box<dyn Volume>) {
        let source = self.source(sector);
        let geometry = registry::boot_sector(source.as_ref(), ByteOffset(0)).expect("a boot sector");
        let volume = geometry.open(source).unwrap();
        (geometry, volume)
    }
}

/// A volume that `program` formats and that holds `files`: written through `driver` (a mount command), by the system's driver for NTFS, or
/// without a driver by the system's tools for FAT.
pub fn filled(bytes: u64, (program, arguments): (&str, &[&str]), driver: &[&str], files: &BTreeMap<String, Vec<u8>>) -> Bench {
    let bench = Bench::new(bytes);
    bench.format(program, arguments);
    match driver {
        [] => {
            let tree = bench.folder.path().join("tree");
            write_tree(&tree, files);
            let tops = fs::read_dir(&tree).unwrap().map(|entry| entry.unwrap().path());
            run(Command::new("mcopy").env("LC_ALL", "C.UTF-8").args(["-s", "-i"]).arg(&bench.image).args(tops).arg("::"));
        }
        ["ntfs-3g"] => bench.fill_ntfs(|folder| write_tree(folder, files)),
        driver => bench.fill(driver, |folder| write_tree(folder, files)),
    }
    bench
}

/// Unmounts what is mounted at `point`; a driver may still be writing for a moment.
pub fn unmount(point: &Path) {
    for _ in 0..50 {
        if Command::new("umount").arg(point).output().unwrap().status.success() {
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    run(Command::new("umount").arg(point));
}

pub fn run(command: &mut Command) {
    let output = command.output().unwrap_or_else(|error| panic!("{command:?}: {error}"));
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
}

/// What a look at every sector of `drive` gives.
pub fn surface(drive: &SharedSource) -> Clues {
    let mut clues = Clues::default();
    let mut buf = vec![0; 1 << 20];
    for at in (0..drive.len()).step_by(buf.len()) {
        let piece = &mut buf[..(drive.len() - at).min(1 << 20) as usize];
        drive.read_at(ByteOffset(at), piece).unwrap();
        clues.look(ByteOffset(at), piece, piece.len());
    }
    clues.tidy();
    clues
}

/// Every present file of a volume by its path, with its bytes.
pub fn contents(volume: &dyn Volume) -> BTreeMap<String, Vec<u8>> {
    let mut files = Vec::new();
    let findings = volume
        .walk(Deleted::Hide, &mut |found| {
            if found.entry.kind == NodeKind::File {
                let path = if found.folder.is_empty() {
                    found.entry.name.clone()
                } else {
                    format!("{}/{}", found.folder, found.entry.name)
                };
                files.push((path, found.entry.id, found.entry.bytes));
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    assert_eq!(findings, []);
    let read = |(path, id, bytes): (String, _, u64)| {
        let mut stream = volume.open(id, "").unwrap_or_else(|error| panic!("{path}: {error}"));
        assert_eq!(stream.bytes(), bytes, "{path}");
        let (content, whole) = read_whole(stream.as_mut(), 1 << 26);
        assert!(whole, "{path}");
        (path, content)
    };
    files.into_iter().map(read).collect()
}

/// Names of the deleted entries that a walk shows.
pub fn deleted(volume: &dyn Volume) -> Vec<String> {
    let mut names = Vec::new();
    volume
        .walk(Deleted::Show, &mut |found| {
            if found.entry.existence == Existence::Deleted {
                names.push(found.entry.name.clone());
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    names.sort();
    names
}

/// A tree of files below folders, with Unicode names and many sizes.
pub fn many_files() -> BTreeMap<String, Vec<u8>> {
    let mut files = BTreeMap::new();
    for number in 0..60 {
        files.insert(format!("Crossings/Week number {number:02} of the year.csv"), prose(number, number * 517));
    }
    for (name, len) in [
        ("Fahrplan Überfahrt.txt", 30_000),
        ("港務局/Письмо ⛴.txt", 9000),
        ("SHORT.TXT", 12),
        ("Deep/er/and deeper/still/there.txt", 4096),
        ("a long name that takes several entries to hold, and then some more.txt", 4096),
    ] {
        files.insert(name.into(), prose(len, len));
    }
    files
}

/// Writes `files` below `folder`.
pub fn write_tree(folder: &Path, files: &BTreeMap<String, Vec<u8>>) {
    for (path, bytes) in files {
        let full = folder.join(path);
        fs::create_dir_all(full.parent().unwrap()).unwrap();
        fs::write(full, bytes).unwrap();
    }
}

/// Text that repeats enough to be compressed, different for each seed.
pub fn prose(seed: usize, len: usize) -> Vec<u8> {
    let mut text = Vec::with_capacity(len + 64);
    let mut line = seed;
    while text.len() < len {
        line = line.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        text.extend_from_slice(format!("crossing {} of the Brackwater Line, boat {}\n", line >> 40, line >> 60).as_bytes());
    }
    text.truncate(len);
    text
}

/// Bytes that no packer makes smaller.
pub fn noise(seed: u64, len: usize) -> Vec<u8> {
    let mut state = seed | 1;
    (0..len)
        .map(|_| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            (state >> 32) as u8
        })
        .collect()
}

/// Reads all that can be read of a volume with `damage` laid over it: bytes at places, counted from the front of the
/// volume's non-zero sectors, so that damage meets structures. Nothing may panic, hang or fill memory.
pub fn survive(volume: &SharedSource, whole: Geometry, damage: &[(usize, u8)]) {
    let data = full_sectors(volume);
    let mut overlay = Overlay::new(Arc::clone(volume));
    for (place, byte) in damage {
        let sector = data[place / 512 % data.len()];
        overlay.lay(ByteOffset(sector + (place % 512) as u64), &[*byte]);
    }
    let drive: SharedSource = Arc::new(overlay);
    let found = registry::FORMATS.iter().flat_map(|format| (format.infer)(&drive, &surface(&drive))).map(|found| found.geometry);
    let geometries: Vec<Geometry> =
        [whole].into_iter().chain(registry::boot_sector(drive.as_ref(), ByteOffset(0))).chain(found).collect();
    for geometry in geometries {
        let Ok(volume) = geometry.open(Arc::clone(&drive)) else { continue };
        let mut ids = Vec::new();
        let _ = volume.walk(Deleted::Show, &mut |found| {
            ids.push(found.entry.id);
            if ids.len() < 3000 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
        });
        for id in ids.into_iter().take(60) {
            let _ = volume.extents(id);
            for stream in volume.streams(id).unwrap_or_default() {
                if let Ok(mut stream) = volume.open(id, &stream.name) {
                    let _ = read_whole(stream.as_mut(), 1 << 16);
                }
            }
        }
        let _ = volume.examine();
        for structure in geometry.structures(&drive, ByteOffset(0), Compute::All) {
            let _ = (structure.rows(), structure.repairs());
        }
    }
}

/// What should be put back in the main places of a volume's structures.
pub fn main_repairs(geometry: &Geometry, drive: &SharedSource) -> Vec<Repair> {
    let structures = geometry.structures(drive, ByteOffset(0), Compute::WhereNeeded);
    structures.iter().flat_map(keel_format::Structure::repairs).filter(|repair| repair.is_main).collect()
}

/// The drive with its main structures put back.
pub fn mended(geometry: &Geometry, drive: &SharedSource) -> SharedSource {
    let mut overlay = Overlay::new(Arc::clone(drive));
    main_repairs(geometry, drive).iter().for_each(|repair| overlay.lay(repair.at, &repair.bytes));
    Arc::new(overlay)
}

/// The sectors of a volume that hold something.
fn full_sectors(volume: &SharedSource) -> Vec<u64> {
    let mut sectors = Vec::new();
    let mut buf = [0; 512];
    for at in (0..volume.len()).step_by(512) {
        volume.read_at(ByteOffset(at), &mut buf).unwrap();
        if buf.iter().any(|byte| *byte != 0) {
            sectors.push(at);
        }
    }
    sectors
}

/// Damage for [`survive`]: mostly near the front, where the structures are.
pub fn damage() -> impl Strategy<Value = Vec<(usize, u8)>> {
    let place = prop_oneof![3 => 0usize..8192, 2 => 0usize..131_072, 1 => any::<usize>()];
    let byte = prop_oneof![Just(0u8), Just(0xFF), any::<u8>()];
    proptest::collection::vec((place, byte), 1..80)
}

/// A small volume in memory with a few files, made by `make` once.
pub fn in_memory(bench: &Bench) -> SharedSource {
    Arc::new(MemorySource::new("small", fs::read(&bench.image).unwrap(), 512))
}
