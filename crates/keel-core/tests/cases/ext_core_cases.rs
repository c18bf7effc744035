//! ext volumes whose first groups are overwritten: read by their journal or by what is left of their folders, put together again, and
//! taken by the kernel without a complaint.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::support::{MIB, run, told, unmount};
use keel_core::layout::Choices;
use keel_core::mend::{self, Only};
use keel_core::plan;
use keel_source::{OpenOptions, SharedSource};
use sha2::{Digest, Sha256};

/// Where `s_error_count` stands in the volume: the kernel counts there what it complained about.
const ERROR_COUNT_AT: u64 = 1024 + 404;

struct Drive {
    folder: tempfile::TempDir,
    image: PathBuf,
    content: BTreeMap<String, Vec<u8>>,
}

impl Drive {
    /// A volume over the whole drive, filled by the kernel; with `running` as it stands before it is unmounted.
    fn new(mib: u64, options: &[&str], running: bool) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("volume.img");
        File::create(&image).unwrap().set_len(mib * MIB).unwrap();
        run(Command::new("mkfs.ext4").args(["-q", "-F", "-L", "ROPES"]).args(options).arg(&image));
        let content: BTreeMap<String, Vec<u8>> = (0..90u32)
            .map(|number| {
                let folder = ["Crossings", "Crossings/2024/east", "Pictures", "Mail/old"][number as usize % 4];
                let line = format!("Brackwater Line, sheet {number}\n");
                (format!("{folder}/sheet {number}.txt"), line.repeat(1 + number as usize * 13 % 700).into_bytes())
            })
            .collect();
        let point = folder.path().join("mounted");
        fs::create_dir_all(&point).unwrap();
        run(Command::new("mount").args(["-o", if running { "loop,commit=300" } else { "loop" }]).arg(&image).arg(&point));
        crate::support::plant(&point, &content);
        run(&mut Command::new("sync"));
        let kept = folder.path().join("kept.img");
        if running {
            fs::write(point.join("Mail/late.txt"), b"cast off").unwrap();
            // The transaction is committed to the journal; nothing of it is in its place.
            File::open(point.join("Mail/late.txt")).unwrap().sync_all().unwrap();
            run(Command::new("cp").arg("--sparse=always").arg(&image).arg(&kept));
        }
        unmount(&point);
        let mut content = content;
        if running {
            fs::rename(kept, &image).unwrap();
            content.insert("Mail/late.txt".into(), b"cast off".to_vec());
        }
        Self { folder, image, content }
    }

    fn harm(&self, at: u64, bytes: &[u8]) {
        File::options().write(true).open(&self.image).unwrap().write_all_at(bytes, at).unwrap();
    }

    fn open(&self) -> SharedSource {
        keel_source::open(&self.image, OpenOptions::default()).unwrap()
    }

    /// The drive as the plan would leave it.
    fn mended(&self) -> PathBuf {
        let source = self.open();
        let told = told(&source, &Choices::default(), &Only::All.into());
        assert_eq!(told.staged.withheld, [], "nothing is held back");
        assert!(told.after.lowest_broken.is_none(), "{:?}", told.after.lowest_broken);
        let path = self.folder.path().join("mended.img");
        plan::save_as(&mend::overlay(&source, &told.staged.edits), &path, &mut |_| {}).unwrap();
        path
    }

    /// Lets the kernel mount what was mended, read all, and write; by hash of the content, every file that came back and where it is.
    fn taken_by_kernel(&self) -> BTreeMap<Vec<u8>, String> {
        let image = self.mended();
        let point = self.folder.path().join("mounted");
        run(Command::new("mount").args(["-t", "ext4", "-o", "loop"]).arg(&image).arg(&point));
        let mut found = BTreeMap::new();
        gather(&point, &point, &mut found);
        fs::create_dir(point.join("new")).unwrap();
        fs::write(point.join("new/log.txt"), vec![b'k'; 3 << 20]).unwrap();
        fs::remove_file(point.join("new/log.txt")).unwrap();
        unmount(&point);
        let mut count = [0xFF; 4];
        File::open(&image).unwrap().read_exact_at(&mut count, ERROR_COUNT_AT).unwrap();
        assert_eq!(u32::from_le_bytes(count), 0, "the kernel complained of the volume");
        found
    }
}

fn gather(root: &Path, folder: &Path, found: &mut BTreeMap<Vec<u8>, String>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        // Every name leads to something: a dead one would be an error here.
        if fs::symlink_metadata(&path).unwrap().is_dir() {
            gather(root, &path, found);
        } else {
            let hash = Sha256::digest(fs::read(&path).unwrap()).to_vec();
            found.insert(hash, path.strip_prefix(root).unwrap().to_string_lossy().into_owned());
        }
    }
}

fn noise(seed: u64, len: u64) -> Vec<u8> {
    let mut state = seed;
    let mut next = move || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        state.to_be_bytes()
    };
    (0..len.div_ceil(8)).flat_map(|_| next()).take(len as usize).collect()
}

fn hash(bytes: &[u8]) -> Vec<u8> {
    Sha256::digest(bytes).to_vec()
}

#[test]
fn what_the_journal_keeps_brings_every_file_back_under_its_name() {
    let cases: [(u64, &[&str], u64, bool); 4] = [
        (120, &["-b", "1024"], MIB, false),
        (200, &["-b", "4096"], 8 * MIB, false),
        (120, &["-b", "1024", "-O", "^metadata_csum"], MIB, false),
        (120, &["-b", "1024"], MIB, true),
    ];
    for (index, (mib, options, len, running)) in cases.into_iter().enumerate() {
        let drive = Drive::new(mib, options, running);
        let filler = if index == 1 { vec![0; len as usize] } else { noise(7 + index as u64, len) };
        drive.harm(0, &filler);
        let found = drive.taken_by_kernel();
        for (path, bytes) in &drive.content {
            assert_eq!(found.get(&hash(bytes)), Some(path), "{options:?}");
        }
    }
}

#[test]
fn without_a_journal_files_come_back_under_what_is_left_of_their_folders() {
    // Groups of their own for folders: all but the first of them stand, with the inodes of the files.
    let drive = Drive::new(160, &["-b", "1024", "-O", "^has_journal,^flex_bg"], false);
    drive.harm(0, &noise(3, 600 << 10));
    let found = drive.taken_by_kernel();
    let back = drive.content.values().filter(|bytes| found.contains_key(&hash(bytes))).count();
    assert!(back * 10 >= drive.content.len() * 9, "{back} of {}", drive.content.len());
    let named = drive
        .content
        .iter()
        .filter(|(path, bytes)| found.get(&hash(bytes)).is_some_and(|at| at.rsplit('/').next() == path.rsplit('/').next()));
    assert_eq!(named.count(), back, "each has its own name, whatever its folder is called");
}

#[test]
fn a_root_whose_block_stands_gets_its_inode_again() {
    let drive = Drive::new(160, &["-b", "4096", "-O", "^has_journal"], false);
    let source = drive.open();
    let Some(keel_format::Geometry::Ext(geometry)) =
        keel_format::registry::boot_sector(source.as_ref(), keel_source::ByteOffset(0))
    else {
        panic!("ext")
    };
    let volume = keel_format::ext::ExtVolume::open(SharedSource::clone(&source), geometry).unwrap();
    let inodes: Vec<u64> = (1..=11).map(|number| volume.inode(number).unwrap().at.0).collect();
    drop((source, volume));
    inodes.iter().for_each(|at| drive.harm(*at, &noise(*at, 256)));
    let found = drive.taken_by_kernel();
    for (path, bytes) in &drive.content {
        assert_eq!(found.get(&hash(bytes)), Some(path));
    }
}

#[test]
fn a_sound_volume_and_one_whose_journal_waits_are_left_alone() {
    for running in [false, true] {
        let drive = Drive::new(120, &["-b", "1024"], running);
        let source = drive.open();
        let told = told(&source, &Choices::default(), &Only::All.into());
        assert_eq!((told.staged.edits.len(), told.now.lowest_broken.is_none()), (0, true), "running: {running}");
    }
}
