//! What the sweep makes of drives with real volumes and real damage.

use std::fs;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::support::{Bench, MIB, files, ground, swept};
use keel_core::job::{Cancel, Desk};
use keel_core::sweep::{Grade, Reach, SweepOptions, SweepProgress, SweepState, sweep};
use keel_core::{files as core_files, layout};
use keel_format::clue::Clues;
use keel_format::table;
use keel_source::{ByteOffset, ByteRange, Identity, MemorySource, ReadError, SharedSource, Source};

/// An NTFS volume and a FAT32 one behind it, no table.
fn pair() -> Bench {
    let bench = Bench::new(220 * MIB);
    bench.ntfs(MIB, 64 * MIB, "ENGINE", &files(3));
    bench.fat(65 * MIB, 128 * MIB, "32", "SPARES", &files(5));
    bench
}

#[test]
fn landmarks_find_both_volumes_of_a_drive_without_a_table() {
    let bench = pair();
    let sweep = swept(&bench.open(), Reach::Landmarks);
    let found = ground(&sweep);
    assert_eq!(found[0], ("n1".into(), "NTFS", MIB, 64 * MIB, "ENGINE".into()));
    assert_eq!((found[1].1, found[1].2, found[1].4.as_str()), ("FAT32", 65 * MIB, "SPARES"));
    assert_eq!(found.len(), 2);
    assert!(sweep.finds.iter().all(|find| find.grade == Grade::Certain));
}

#[test]
fn an_ntfs_without_any_boot_sector_is_found_with_exact_start_and_length() {
    let bench = pair();
    bench.zero(MIB, 512);
    bench.zero(65 * MIB - 512, 512);
    for reach in [Reach::Doubt, Reach::Surface] {
        let sweep = swept(&bench.open(), reach);
        assert_eq!(ground(&sweep)[0], ("n1".into(), "NTFS", MIB, 64 * MIB, "ENGINE".into()));
        assert_eq!(sweep.finds[0].grade, Grade::Strong);
    }
}

#[test]
fn an_ntfs_without_boot_sectors_mft_start_and_mirror_start_is_found_by_its_indexes() {
    let bench = Bench::new(100 * MIB);
    let mut many = files(3);
    for folder in 0..12 {
        for number in 0..60 {
            many.insert(format!("Folder {folder}/a file with a name long enough to fill an index {number}.txt"), b"x".to_vec());
        }
    }
    bench.ntfs(3 * MIB, 64 * MIB, "ENGINE", &many);
    let source = bench.open();
    let before = swept(&source, Reach::Surface);
    let keel_format::Geometry::Ntfs(geometry) = before.finds[0].geometry else { panic!("NTFS") };
    bench.zero(3 * MIB, 512);
    bench.zero(67 * MIB - 512, 512);
    bench.zero(3 * MIB + geometry.cluster_at(geometry.mft_lcn).0, 4096);
    bench.zero(3 * MIB + geometry.cluster_at(geometry.mirror_lcn).0, 4096);
    let sweep = swept(&bench.open(), Reach::Surface);
    assert_eq!(ground(&sweep)[0].2, 3 * MIB, "{:?}", ground(&sweep));
    assert_eq!(sweep.finds[0].bytes, 64 * MIB);
    assert!(sweep.finds[0].witnesses.iter().any(|witness| witness.says.contains("meet at this start")));
}

#[test]
fn a_fat32_without_boot_sector_and_backup_is_found_with_exact_start_and_length() {
    let bench = pair();
    let exact = ground(&swept(&bench.open(), Reach::Landmarks))[1].clone();
    for sector in [0, 6] {
        bench.zero(65 * MIB + sector * 512, 512);
    }
    let sweep = swept(&bench.open(), Reach::Doubt);
    assert_eq!(ground(&sweep)[1], exact);
    assert_eq!(sweep.finds[1].grade, Grade::Strong);
    // Its files read through the inferred geometry.
    let volume = core_files::open(&bench.open(), &sweep.finds[1]).unwrap();
    let picture = core_files::resolve(volume.as_ref(), "Pictures/quay.png").unwrap();
    let mut stream = volume.open(picture.entry.id, "").unwrap();
    assert_eq!(keel_format::read_whole(stream.as_mut(), 1 << 20), (files(5)["Pictures/quay.png"].clone(), true));
    // Even with the whole reserved area gone.
    bench.zero(65 * MIB, 32 * 512);
    let sweep = swept(&bench.open(), Reach::Doubt);
    assert_eq!((sweep.finds[1].start_byte.0, sweep.finds[1].kind.word()), (65 * MIB, "FAT32"));
}

#[test]
fn a_fat16_without_its_boot_sector_is_found_from_its_fats_and_folders() {
    let bench = Bench::new(64 * MIB);
    bench.fat(2 * MIB, 40 * MIB, "16", "MENUS", &files(9));
    let exact = ground(&swept(&bench.open(), Reach::Landmarks))[0].clone();
    bench.zero(2 * MIB, 512);
    let sweep = swept(&bench.open(), Reach::Doubt);
    assert_eq!(
        (sweep.finds[0].start_byte.0, sweep.finds[0].kind.word(), sweep.finds[0].name()),
        (2 * MIB, "FAT16", exact.4.as_str())
    );
    let volume = core_files::open(&bench.open(), &sweep.finds[0]).unwrap();
    assert!(core_files::resolve(volume.as_ref(), "Letters/Sent/sheet 02.txt").is_ok());
}

#[test]
fn a_disk_image_kept_as_a_file_is_inside_and_never_in_a_layout() {
    let inner = Bench::new(40 * MIB);
    inner.fat(MIB, 36 * MIB, "32", "INNER", &files(2));
    inner.mbr(&[(0x0C, MIB, 36 * MIB)]);
    let mut outer = files(4);
    outer.insert("Backups/old stick.img".into(), fs::read(&inner.image).unwrap());
    let bench = Bench::new(150 * MIB);
    bench.ntfs(MIB, 128 * MIB, "OFFICE", &outer);
    bench.mbr(&[(0x07, MIB, 128 * MIB)]);
    let source = bench.open();
    let sweep = swept(&source, Reach::Surface);
    let nested: Vec<_> = sweep.finds.iter().filter(|find| find.inside.is_some()).collect();
    assert_eq!(
        (nested.len(), nested[0].inside.as_deref(), nested[0].inside_file.as_deref()),
        (1, Some("n1"), Some("Backups/old stick.img"))
    );
    let layout = layout::settle(&source, &table::read(source.as_ref()), &sweep.finds, &layout::Choices::default());
    assert_eq!(layout.entries.len(), 1);
    assert!(layout.left_out[0].why.contains("disk image"));
}

#[test]
fn drives_of_nothing_hold_no_finds() {
    let noise: Vec<u8> = (0..8u64 << 20).map(|at| (at.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 40) as u8).collect();
    for bytes in [vec![0; 8 << 20], vec![0xFF; 8 << 20], noise] {
        let source: SharedSource = Arc::new(MemorySource::new("m", bytes, 512));
        assert_eq!(swept(&source, Reach::Doubt).finds.len(), 0);
    }
}

#[test]
fn unreadable_places_are_reported_and_the_rest_is_found() {
    let bench = pair();
    let bad = [ByteRange::sized(ByteOffset(MIB), 4096), ByteRange::sized(ByteOffset(30 * MIB), 65_536)];
    let bytes = fs::read(&bench.image).unwrap();
    let memory = bad.iter().fold(MemorySource::new("m", bytes, 512), |memory, range| memory.with_bad(*range));
    let sweep = swept(&(Arc::new(memory) as SharedSource), Reach::Surface);
    assert_eq!(ground(&sweep)[0], ("n1".into(), "NTFS", MIB, 64 * MIB, "ENGINE".into()));
    assert_eq!(sweep.bad.iter().map(|range| range.len()).sum::<u64>(), 4096 + 65_536);
}

#[test]
fn sectors_of_4096_bytes_are_swept_alike() {
    let bench = Bench::with_sectors(400 * MIB, 4096);
    bench.ntfs(MIB, 64 * MIB, "ENGINE", &files(3));
    bench.zero(MIB, 4096);
    bench.zero(65 * MIB - 4096, 4096);
    let sweep = swept(&bench.open(), Reach::Doubt);
    assert_eq!(ground(&sweep)[0], ("n1".into(), "NTFS", MIB, 64 * MIB, "ENGINE".into()));
    assert_eq!(sweep.finds[0].start_lba.0, 256);
}

/// The same drive, slower.
struct Slow(SharedSource);

impl Source for Slow {
    fn identity(&self) -> &Identity {
        self.0.identity()
    }

    fn change_mark(&self) -> Option<String> {
        self.0.change_mark()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        std::thread::sleep(std::time::Duration::from_millis(12));
        self.0.read_at(at, buf)
    }
}

/// A drive that counts the bytes read from it in pieces of a surface scan.
struct Counted {
    inner: SharedSource,
    bytes: AtomicU64,
}

impl Source for Counted {
    fn identity(&self) -> &Identity {
        self.inner.identity()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.bytes.fetch_add(if buf.len() > 1 << 19 { buf.len() as u64 } else { 0 }, Ordering::Relaxed);
        self.inner.read_at(at, buf)
    }

    fn change_mark(&self) -> Option<String> {
        self.inner.change_mark()
    }
}

#[test]
fn a_cancelled_sweep_goes_on_where_it_was_and_finds_the_same() {
    let bench = pair();
    bench.zero(MIB, 512);
    bench.zero(65 * MIB - 512, 512);
    let source = bench.open();
    let state = bench.folder.path().join("sweep.json");
    let options = SweepOptions { reach: Reach::Surface, state: Some(state.clone()) };
    let whole = swept(&source, Reach::Surface);
    // Stopped in the middle of the surface, on a drive slow enough for that.
    let (desk, progress) = Desk::<SweepProgress>::new(Cancel::default());
    let flag = desk.cancel().clone();
    let watcher = std::thread::spawn(move || {
        for told in progress {
            if told.done > 8 * MIB {
                flag.cancel();
            }
        }
    });
    let slow: SharedSource = Arc::new(Slow(Arc::clone(&source)));
    let stopped = sweep(&slow, &options, &desk);
    drop(desk);
    watcher.join().unwrap();
    let kept = SweepState::load(&state, &source).unwrap();
    assert!(!kept.done.ranges().is_empty() && kept.done.bytes() < source.len());
    assert!(stopped.cancelled && state.exists());
    let (desk, _progress) = Desk::new(Cancel::default());
    let resumed = sweep(&source, &options, &desk);
    assert!(!resumed.cancelled && state.exists());
    assert_eq!(ground(&resumed), ground(&whole));
    // The map is kept: while the image does not change, a second sweep reads nothing of the surface.
    let counted = Arc::new(Counted { inner: Arc::clone(&source), bytes: AtomicU64::new(0) });
    let (desk, _progress) = Desk::new(Cancel::default());
    let again = sweep(&(Arc::clone(&counted) as SharedSource), &options, &desk);
    assert_eq!(ground(&again), ground(&whole));
    assert!(counted.bytes.load(Ordering::Relaxed) < source.len() / 2, "{} bytes read", counted.bytes.load(Ordering::Relaxed));
    bench.zero(100 * MIB, 512);
    assert!(SweepState::load(&state, &bench.open()).is_none(), "a changed image is read anew");
}

/// A drive whose reader stops its work at a read of its choice, and that counts what it is asked for after that.
struct StopsAt {
    inner: SharedSource,
    asked: AtomicU64,
    at: u64,
    cancel: Cancel,
}

impl StopsAt {
    fn asked(&self) -> u64 {
        let asked = self.asked.fetch_add(1, Ordering::Relaxed);
        if asked == self.at {
            self.cancel.cancel();
        }
        asked
    }
}

impl Source for StopsAt {
    fn identity(&self) -> &Identity {
        self.inner.identity()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.asked();
        self.inner.read_at(at, buf)
    }

    fn next_data(&self, at: ByteOffset) -> Option<ByteRange> {
        self.asked();
        (at.0 < self.len()).then(|| ByteRange::new(at, ByteOffset(self.len())))
    }
}

/// What is not asked for any more once the sweep is stopped must not be gone through as if it were zeros.
#[test]
fn a_sweep_stopped_at_any_moment_asks_for_next_to_nothing_more() {
    let bench = Bench::new(180 * MIB);
    bench.fat(100 * MIB, 64 * MIB, "32", "SPARES", &files(5));
    for sector in [0, 6] {
        bench.zero(100 * MIB + sector * 512, 512);
    }
    let source = bench.open();
    let run = |at: u64| {
        let (desk, _progress) = Desk::new(Cancel::default());
        let inner = Arc::clone(&source);
        let drive = Arc::new(StopsAt { inner, asked: AtomicU64::new(0), at, cancel: desk.cancel().clone() });
        let stopped = sweep(&(Arc::clone(&drive) as SharedSource), &SweepOptions { reach: Reach::Surface, state: None }, &desk);
        (stopped, drive.asked.load(Ordering::Relaxed))
    };
    let (whole, asked) = run(u64::MAX);
    assert!(!whole.cancelled && ground(&whole)[0].4 == "SPARES", "{:?}", ground(&whole));
    // Two threads do not ask in the same order twice: the last moments may not come.
    for at in (0..asked * 9 / 10).step_by(asked as usize / 48) {
        let (stopped, asked) = run(at);
        assert!(stopped.cancelled, "stopped at {at}");
        assert!(asked - at < 64, "asked {} times after the stop at {at}", asked - at);
    }
}

#[test]
fn the_same_clues_come_from_chunks_of_every_size() {
    let bench = pair();
    let bytes = bench.read(0, 80 << 20);
    let look = |chunk: usize| {
        let mut clues = Clues::default();
        for at in (0..bytes.len()).step_by(chunk) {
            let end = (at + chunk + 4096).min(bytes.len());
            clues.look(ByteOffset(at as u64), &bytes[at..end], chunk);
        }
        clues.tidy();
        clues
    };
    let whole = look(bytes.len());
    assert!(whole.ntfs.boots.len() == 2 && !whole.fat.dots.is_empty());
    assert!(whole.ntfs.streaks.iter().any(|streak| streak.count > 40));
    for chunk in [512, 4096, 1 << 20] {
        assert_eq!(look(chunk), whole, "chunks of {chunk}");
    }
}

#[test]
fn a_volume_that_fills_the_drive_needs_no_table() {
    let bench = Bench::new(64 * MIB);
    bench.fat(0, 64 * MIB, "32", "STICK", &files(6));
    let source = bench.open();
    let sweep = swept(&source, Reach::Doubt);
    let layout = layout::settle(&source, &table::read(source.as_ref()), &sweep.finds, &layout::Choices::default());
    assert!(layout.whole_drive && layout.entries.is_empty());
}

#[test]
fn two_finds_on_the_same_ground_are_compared_by_their_roots() {
    let bench = Bench::new(200 * MIB);
    bench.ntfs(40 * MIB, 100 * MIB, "OLD", &files(3));
    bench.fat(MIB, 60 * MIB, "32", "NEW", &files(5));
    let source = bench.open();
    let finds = swept(&source, Reach::Surface).finds;
    let find = |label: &str| finds.iter().find(|find| find.name() == label).unwrap();
    assert_eq!(keel_core::sweep::rival(&finds, find("OLD")).unwrap().name(), "NEW");
    assert_eq!(keel_core::sweep::rival(&finds, find("NEW")).unwrap().name(), "OLD");
    for label in ["OLD", "NEW"] {
        let look = keel_core::sweep::root_look(&source, find(label));
        assert_eq!((look.count, look.problem.clone()), (4, None), "{label}");
        assert!(look.names.iter().all(|name| name.folder) && look.newest.is_some(), "{label}");
    }
    let alone: Vec<_> = finds.iter().filter(|find| find.name() == "NEW").cloned().collect();
    assert!(keel_core::sweep::rival(&alone, &alone[0]).is_none());
}

#[test]
fn recognised_volumes_stand_in_the_layout_and_what_lies_in_a_container_does_not() {
    let bench = Bench::new(400 * MIB);
    let volume = bench.folder.path().join("btrfs.vol");
    fs::File::create(&volume).unwrap().set_len(340 * MIB).unwrap();
    crate::support::run(std::process::Command::new("mkfs.btrfs").args(["-q", "-f", "-L", "RIGGING"]).arg(&volume));
    bench.place(&volume, MIB);
    let source = bench.open();
    let sweep = swept(&source, Reach::Doubt);
    assert_eq!(ground(&sweep), [("n1".into(), "Btrfs", MIB, 340 * MIB, "RIGGING".into())]);
    assert_eq!(sweep.finds[0].grade, Grade::Certain);
    let layout = layout::settle(&source, &table::read(source.as_ref()), &sweep.finds, &layout::Choices::default());
    assert_eq!(layout.entries[0].type_code, table::TypeCode::Mbr(0x83));
    let ladder = keel_core::ladder::examine(&source, &sweep.finds, &Cancel::default());
    let states: Vec<&str> = ladder.volumes[0].rungs.iter().map(|rung| rung.state.word()).collect();
    assert_eq!(states, ["broken", "sound", "untested", "untested"]);
    let closed = core_files::open(&source, &sweep.finds[0]).err().unwrap().to_string();
    assert!(closed.contains("not read yet"), "{closed}");
}

#[test]
fn a_volume_without_a_recorded_length_reaches_to_the_next_one() {
    let bench = Bench::new(200 * MIB);
    let volume = bench.folder.path().join("luks.vol");
    let key = bench.folder.path().join("key");
    fs::write(&key, b"made up").unwrap();
    fs::File::create(&volume).unwrap().set_len(40 * MIB).unwrap();
    crate::support::run(
        std::process::Command::new("cryptsetup")
            .args(["luksFormat", "-q", "--type", "luks2", "--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000", "--key-file"])
            .arg(&key)
            .arg(&volume),
    );
    bench.place(&volume, MIB);
    bench.fat(100 * MIB, 60 * MIB, "32", "SPARES", &files(5));
    let found = ground(&swept(&bench.open(), Reach::Doubt));
    assert_eq!((found[0].1, found[0].2, found[0].3), ("LUKS", MIB, 99 * MIB));
    // With a table entry, the entry gives the length.
    bench.mbr(&[(0x83, MIB, 40 * MIB), (0x0C, 100 * MIB, 60 * MIB)]);
    assert_eq!(ground(&swept(&bench.open(), Reach::Doubt))[0].3, 40 * MIB);
}

#[test]
fn a_crowd_of_boot_sectors_neither_fills_memory_nor_hides_the_volume_behind_it() {
    let bench = Bench::new(96 * MIB);
    bench.ntfs(0, 16 * MIB, "CROWD", &files(3));
    let mut boot = bench.read(0, 512);
    // Ninety thousand boot sectors, each of another volume: the MFT elsewhere, another length.
    let mut crowd = Vec::new();
    for number in 0..90_000u64 {
        boot[40..48].copy_from_slice(&(30_000 + number * 7 % 90_000).to_le_bytes());
        boot[48..56].copy_from_slice(&(4 + number * 31 % 20_000).to_le_bytes());
        crowd.extend_from_slice(&boot);
    }
    bench.write(0, &crowd);
    let told = files(5);
    bench.fat(80 * MIB, 12 * MIB, "16", "REAL", &told);
    let source = bench.open();
    let began = std::time::Instant::now();
    let swept = swept(&source, Reach::Surface);
    assert!(began.elapsed() < std::time::Duration::from_secs(60), "{:?}", began.elapsed());
    assert!(swept.finds.len() <= 1024 + 16, "{}", swept.finds.len());
    let real = swept.finds.iter().find(|find| find.start_byte.0 == 80 * MIB).expect("the volume behind the crowd");
    assert_eq!((real.bytes, real.name()), (12 * MIB, "REAL"));
    assert!(swept.finds.iter().all(|find| find.start_byte == real.start_byte || find.score < real.score));
}
