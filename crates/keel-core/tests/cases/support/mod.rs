//! Drives made of volumes of the system's own formatters and drivers.
#![allow(dead_code, missing_docs, unreachable_pub, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use keel_core::job::{Cancel, Desk};
use keel_core::ladder::{self, Ladder};
use keel_core::layout::{self, Choices, Layout};
use keel_core::mend::{self, Staged, Wishes};
use keel_core::plan;
use keel_core::sweep::{Reach, Sweep, SweepOptions, sweep};
use keel_format::Geometry;
use keel_format::ntfs::NtfsGeometry;
use keel_format::table::gpt::make::{NewEntry as GptEntry, NewTable};
use keel_format::table::mbr::make::{NewEntry, mbr_sector, protective_sector};
use keel_format::table::{self, gpt};
use keel_source::{ByteOffset, Lba, OpenOptions, SectorCount, SectorSize, SharedSource};

pub const MIB: u64 = 1 << 20;

/// A drive image in a folder of its own.
pub struct Bench {
    pub folder: tempfile::TempDir,
    pub image: PathBuf,
    pub sector: u32,
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

/// Files for a volume: texts, a picture's first bytes, folders.
pub fn files(seed: u64) -> BTreeMap<String, Vec<u8>> {
    let mut files = BTreeMap::new();
    for number in 0..40u64 {
        let folder = ["Crossings", "Engine room", "Letters/Sent"][number as usize % 3];
        let text = format!("Brackwater Line, sheet {number} of {seed}\n").repeat(3 + (number * seed % 90) as usize);
        files.insert(format!("{folder}/sheet {number:02}.txt"), text.into_bytes());
    }
    let mut picture = b"\x89PNG\r\n\x1a\n".to_vec();
    picture.extend((0..20_000u64).map(|at| (at * seed % 251) as u8));
    files.insert("Pictures/quay.png".into(), picture);
    files
}

impl Bench {
    pub fn new(bytes: u64) -> Self {
        Self::with_sectors(bytes, 512)
    }

    pub fn with_sectors(bytes: u64, sector: u32) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("drive.img");
        File::create(&image).unwrap().set_len(bytes).unwrap();
        Self { folder, image, sector }
    }

    pub fn write(&self, at: u64, bytes: &[u8]) {
        File::options().write(true).open(&self.image).unwrap().write_all_at(bytes, at).unwrap();
    }

    pub fn read(&self, at: u64, len: usize) -> Vec<u8> {
        let mut bytes = vec![0; len];
        File::open(&self.image).unwrap().read_exact_at(&mut bytes, at).unwrap();
        bytes
    }

    pub fn zero(&self, at: u64, len: usize) {
        self.write(at, &vec![0; len]);
    }

    /// Copies a bare volume to byte `at` of the drive.
    pub fn place(&self, volume: &Path, at: u64) {
        let bytes = fs::read(volume).unwrap();
        for (index, piece) in bytes.chunks(1 << 16).enumerate().filter(|(_, piece)| piece.iter().any(|byte| *byte != 0)) {
            self.write(at + (index << 16) as u64, piece);
        }
    }

    /// Formats and fills an NTFS volume of `bytes` bytes at byte `at`.
    pub fn ntfs(&self, at: u64, bytes: u64, label: &str, files: &BTreeMap<String, Vec<u8>>) {
        let volume = self.folder.path().join("ntfs.vol");
        File::create(&volume).unwrap().set_len(bytes).unwrap();
        run(Command::new("mkfs.ntfs").args(["-Q", "-F", "-q", "-s", &self.sector.to_string(), "-L", label]).arg(&volume));
        let point = self.folder.path().join("mounted");
        fs::create_dir_all(&point).unwrap();
        run(Command::new("ntfs-3g").arg(&volume).arg(&point));
        plant(&point, files);
        unmount(&point);
        self.place(&volume, at);
    }

    /// Formats and fills a FAT volume of `bytes` bytes at byte `at`.
    pub fn fat(&self, at: u64, bytes: u64, bits: &str, label: &str, files: &BTreeMap<String, Vec<u8>>) {
        let volume = self.folder.path().join("fat.vol");
        let _ = fs::remove_file(&volume);
        File::create(&volume).unwrap().set_len(bytes).unwrap();
        run(Command::new("mkfs.vfat").args(["-F", bits, "-S", &self.sector.to_string(), "-n", label]).arg(&volume));
        let tree = self.folder.path().join(format!("tree-{label}"));
        plant(&tree, files);
        let tops = fs::read_dir(&tree).unwrap().map(|entry| entry.unwrap().path());
        run(Command::new("mcopy")
            .env("MTOOLS_SKIP_CHECK", "1")
            .env("LC_ALL", "C.UTF-8")
            .arg("-s")
            .arg("-i")
            .arg(&volume)
            .args(tops)
            .arg("::"));
        self.place(&volume, at);
    }

    /// An MBR with entries of these types, starts and lengths in bytes.
    pub fn mbr(&self, entries: &[(u8, u64, u64)]) {
        let unit = u64::from(self.sector);
        let entries: Vec<NewEntry> = entries
            .iter()
            .map(|(os_type, at, bytes)| NewEntry {
                os_type: *os_type,
                boot_indicator: 0,
                starting_lba: (at / unit) as u32,
                size_in_lba: (bytes / unit) as u32,
            })
            .collect();
        self.write(0, &mbr_sector(&[], 0xB0A7, &entries));
    }

    /// Formats and fills an ext4 volume of `bytes` bytes at byte `at`.
    pub fn ext4(&self, at: u64, bytes: u64, label: &str, files: &BTreeMap<String, Vec<u8>>) {
        let volume = self.folder.path().join("ext.vol");
        let tree = self.folder.path().join(format!("tree-{label}"));
        plant(&tree, files);
        File::create(&volume).unwrap().set_len(bytes).unwrap();
        run(Command::new("mkfs.ext4").args(["-q", "-F", "-L", label, "-d"]).arg(&tree).arg(&volume));
        self.place(&volume, at);
    }

    /// Formats and fills an exFAT volume of `bytes` bytes at byte `at`.
    pub fn exfat(&self, at: u64, bytes: u64, label: &str, files: &BTreeMap<String, Vec<u8>>) {
        let volume = self.folder.path().join("exfat.vol");
        File::create(&volume).unwrap().set_len(bytes).unwrap();
        run(Command::new("mkfs.exfat").args(["-c", "4096", "-L", label]).arg(&volume));
        let output = Command::new("losetup").args(["--find", "--show"]).arg(&volume).output().unwrap();
        let device = String::from_utf8(output.stdout).unwrap().trim().to_string();
        let point = self.folder.path().join("mounted");
        fs::create_dir_all(&point).unwrap();
        run(Command::new("mount.exfat-fuse").args(["-o", "rw", &device]).arg(&point));
        plant(&point, files);
        unmount(&point);
        run(Command::new("losetup").args(["--detach", &device]));
        self.place(&volume, at);
    }

    /// Both copies of a GPT, for a drive of `bytes` bytes, with entries of these starts, lengths and attributes.
    pub fn gpt(&self, bytes: u64, entries: &[(u64, u64, u64)]) {
        let sector = SectorSize(self.sector);
        let unit = u64::from(self.sector);
        let entries = entries.iter().enumerate().map(|(index, (at, len, attributes))| GptEntry {
            type_guid: gpt::BASIC_DATA,
            unique: uuid::Uuid::from_u128(0xB0A7_0000 + index as u128),
            first: Lba(at / unit),
            sectors: SectorCount(len / unit),
            attributes: *attributes,
            name: format!("part {}", index + 1),
        });
        let table = NewTable { disk: uuid::Uuid::from_u128(0xB0A7), entries: entries.collect(), count: 128, entry_bytes: 128 };
        let made = table.sectors(bytes / unit, sector).unwrap();
        self.write(0, &protective_sector(&[], bytes / unit));
        for (lba, bytes) in made.primary.iter().chain(&made.backup) {
            self.write(lba.0 * unit, bytes);
        }
    }

    /// Makes the image longer or shorter: a clone to a drive of another size.
    pub fn resize(&self, bytes: u64) {
        File::options().write(true).open(&self.image).unwrap().set_len(bytes).unwrap();
    }

    /// Writes files to the volume of `bytes` bytes at byte `at` by the driver of its kind.
    pub fn fill_at(&self, at: u64, bytes: u64, kind: keel_format::VolumeKind, files: &BTreeMap<String, Vec<u8>>) {
        use keel_format::VolumeKind;
        let point = self.folder.path().join("mounted");
        fs::create_dir_all(&point).unwrap();
        if matches!(kind, VolumeKind::Fat12 | VolumeKind::Fat16 | VolumeKind::Fat32) {
            let tree = self.folder.path().join(format!("tree-at-{at}"));
            plant(&tree, files);
            let tops = fs::read_dir(&tree).unwrap().map(|entry| entry.unwrap().path());
            let image = format!("{}@@{at}", self.image.display());
            run(Command::new("mcopy").env("LC_ALL", "C.UTF-8").args(["-s", "-i", &image]).args(tops).arg("::"));
            return;
        }
        let (at, bytes) = (at.to_string(), bytes.to_string());
        let output = Command::new("losetup")
            .args(["--find", "--show", "--offset", &at, "--sizelimit", &bytes])
            .arg(&self.image)
            .output()
            .unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        let device = String::from_utf8(output.stdout).unwrap().trim().to_string();
        let driver: &[&str] = match kind {
            VolumeKind::Ntfs => &["ntfs-3g"],
            VolumeKind::ExFat => &["mount.exfat-fuse"],
            _ => &["mount", "-t", "ext4"],
        };
        run(Command::new(driver[0]).args(&driver[1..]).arg(&device).arg(&point));
        plant(&point, files);
        unmount(&point);
        run(Command::new("losetup").args(["--detach", &device]));
    }

    pub fn open(&self) -> SharedSource {
        keel_source::open(&self.image, OpenOptions { sector_size: Some(self.sector), ..OpenOptions::default() }).unwrap()
    }
}

/// Writes `files` below `root`.
pub fn plant(root: &Path, files: &BTreeMap<String, Vec<u8>>) {
    for (path, bytes) in files {
        let full = root.join(path);
        fs::create_dir_all(full.parent().unwrap()).unwrap();
        fs::write(full, bytes).unwrap();
    }
}

/// Cuts the volume of `entry` out of `image`, lets its own driver open it, and compares every file.
pub fn accepted_by_driver(kind: &str, image: &Path, entry: keel_source::ByteRange, files: &BTreeMap<String, Vec<u8>>) {
    let folder = tempfile::tempdir().unwrap();
    let volume = folder.path().join("cut.vol");
    let mut bytes = vec![0; entry.len() as usize];
    File::open(image).unwrap().read_exact_at(&mut bytes, entry.start.0).unwrap();
    fs::write(&volume, bytes).unwrap();
    let point = folder.path().join("mounted");
    fs::create_dir_all(&point).unwrap();
    let mut device = None;
    match kind {
        "vfat" => run(Command::new("mcopy").env("LC_ALL", "C.UTF-8").arg("-s").arg("-i").arg(&volume).arg("::/*").arg(&point)),
        "ntfs" => run(Command::new("ntfs-3g").args(["-o", "ro"]).arg(&volume).arg(&point)),
        _ => {
            let output = Command::new("losetup").args(["--read-only", "--find", "--show"]).arg(&volume).output().unwrap();
            let path = String::from_utf8(output.stdout).unwrap().trim().to_string();
            run(Command::new("mount.exfat-fuse").args(["-o", "ro", &path]).arg(&point));
            device = Some(path);
        }
    }
    for (path, bytes) in files {
        assert!(fs::read(point.join(path)).is_ok_and(|read| read == *bytes), "{kind}: {path}");
    }
    if kind != "vfat" {
        unmount(&point);
    }
    device.iter().for_each(|path| run(Command::new("losetup").args(["--detach", path])));
}

/// Sweeps without keeping a state.
pub fn swept(source: &SharedSource, reach: Reach) -> Sweep {
    let (desk, _progress) = Desk::new(Cancel::default());
    sweep(source, &SweepOptions { reach, state: None }, &desk)
}

/// What a sweep found: id, kind, first byte, bytes, label.
pub fn ground(sweep: &Sweep) -> Vec<(String, &'static str, u64, u64, String)> {
    sweep
        .finds
        .iter()
        .map(|find| (find.id.clone(), find.kind.word(), find.start_byte.0, find.bytes, find.name().to_string()))
        .collect()
}

/// What the stages make of a drive: swept where landmarks leave doubt, settled by `choices`, staged by `wishes`.
pub struct Told {
    pub sweep: Sweep,
    pub now: Ladder,
    pub layout: Layout,
    pub staged: Staged,
    pub after: Ladder,
}

pub fn told(source: &SharedSource, choices: &Choices, wishes: &Wishes) -> Told {
    let sweep = swept(source, Reach::Doubt);
    let table = table::read(source.as_ref());
    let now = ladder::examine(source, &sweep, &Cancel::default());
    let layout = layout::settle(source, &table, &sweep.finds, choices);
    let staged = mend::stage(source, &table, &sweep.finds, &layout, wishes);
    let view: SharedSource = Arc::new(mend::overlay(source, &staged.edits));
    let after = ladder::examine(&view, &sweep, &Cancel::default());
    Told { sweep, now, layout, staged, after }
}

/// The drive with its plan, saved beside it.
pub fn mended(bench: &Bench, source: &SharedSource, told: &Told) -> PathBuf {
    let path = tempfile::Builder::new().prefix("mended").tempdir_in(bench.folder.path()).unwrap().keep().join("mended.img");
    let view: SharedSource = Arc::new(mend::overlay(source, &told.staged.edits));
    plan::save_as(view.as_ref(), &path, &mut |_| {}).unwrap();
    path
}

/// The NTFS volume that begins at byte `at`, as its boot sector states it.
pub fn ntfs_at(bench: &Bench, at: u64) -> NtfsGeometry {
    match keel_format::registry::boot_sector(bench.open().as_ref(), ByteOffset(at)) {
        Some(Geometry::Ntfs(ntfs)) => ntfs,
        other => panic!("NTFS, not {other:?}"),
    }
}

/// The files by the last part of their paths.
pub fn by_name(files: &BTreeMap<String, Vec<u8>>) -> BTreeMap<String, Vec<u8>> {
    files.iter().map(|(path, bytes)| (path.rsplit('/').next().unwrap().to_string(), bytes.clone())).collect()
}
