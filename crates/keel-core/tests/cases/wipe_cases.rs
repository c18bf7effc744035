//! Ground written over: every pattern, whole drives, ranges and free ground, drives that fail on the way, and work that was cut off.

use std::fs::{self, File};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::PathBuf;

use crate::support::{Bench, MIB, files};
use keel_core::job::{Cancel, Desk};
use keel_core::leave::Confirmation;
use keel_core::wipe::{self, NotWiped, Pattern, Verify, WORDS, Wanted, Wiped};
use keel_core::{CoreError, Refusal};
use keel_format::table;
use keel_source::{ByteOffset, ByteRange, OpenOptions, SharedSource};

fn state() {
    static STATE: std::sync::OnceLock<tempfile::TempDir> = std::sync::OnceLock::new();
    keel_core::case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
}

fn range(from: u64, to: u64) -> ByteRange {
    ByteRange::new(ByteOffset(from), ByteOffset(to))
}

fn wanted(bench: &Bench, source: &SharedSource, ground: ByteRange, pattern: &str) -> Wanted {
    Wanted {
        ground: wipe::ground_of(source, ground).unwrap(),
        pattern: Pattern::typed(pattern, 0xB0A7).unwrap(),
        verify: Verify::All,
        by_device: false,
        record: bench.folder.path().join("wipe.jsonl"),
    }
}

fn wiped(source: &SharedSource, wanted: &Wanted) -> Result<Wiped, CoreError> {
    wipe::wipe(source, (&Confirmation::Yes, WORDS), (wanted, true), &Desk::new(Cancel::default()).0)
}

/// An image whose every byte says that it was not written.
fn marked(mib: u64) -> (Bench, SharedSource) {
    state();
    let bench = Bench::new(mib * MIB);
    let file = File::options().write(true).open(&bench.image).unwrap();
    (0..mib).for_each(|at| file.write_all_at(&vec![0xEE; MIB as usize], at * MIB).unwrap());
    let source = bench.open();
    (bench, source)
}

#[test]
fn every_pattern_stands_on_just_the_ground_that_was_meant() {
    for pattern in ["zeros", "55aa01", "random"] {
        for (from, to) in [(0, 24 * MIB), (512, 1024), (5 * MIB + 512, 17 * MIB + 1536)] {
            let (bench, source) = marked(24);
            let wanted = wanted(&bench, &source, range(from, to), pattern);
            let done = wiped(&source, &wanted).unwrap();
            assert!(done.is_whole(), "{pattern} {from} {to}: {}", done.line());
            assert_eq!((done.overwritten, done.verified, done.failed()), (to - from, to - from, 0));
            let mut meant = vec![0xEE; 24 * MIB as usize];
            wanted.pattern.fill(from, &mut meant[from as usize..to as usize]);
            assert!(fs::read(&bench.image).unwrap() == meant, "{pattern} {from} {to}");
            assert!(!done.samples.is_empty() && done.pace.iter().map(|pace| pace.bytes).sum::<u64>() == to - from);
            assert_eq!(done.seed.is_some(), pattern == "random");
        }
    }
}

#[test]
fn nothing_is_written_without_words_and_code_or_to_ground_that_is_none() {
    let (bench, source) = marked(4);
    let whole = wanted(&bench, &source, range(0, 4 * MIB), "zeros");
    let asked = |confirmation: Confirmation, words: &str| {
        wipe::wipe(&source, (&confirmation, words), (&whole, true), &Desk::new(Cancel::default()).0)
    };
    for words in ["", "overwrite", "Overwrite it!", "I give up what is on it"] {
        assert!(matches!(asked(Confirmation::Yes, words), Err(CoreError::Wipe(NotWiped::Words))), "{words}");
    }
    assert!(matches!(asked(Confirmation::Code("AAA-AAA".into()), WORDS), Err(CoreError::Refused(Refusal::Code))));
    for (from, to, what) in
        [(0, 0, "no byte"), (100, 1024, "whole sectors"), (0, 700, "whole sectors"), (0, 5 * MIB, "behind the end")]
    {
        let said = wipe::ground_of(&source, range(from, to)).unwrap_err().to_string();
        assert!(said.contains(what), "{said}");
    }
    assert!(!whole.record.exists() && fs::read(&bench.image).unwrap().iter().all(|byte| *byte == 0xEE));
    assert!(asked(Confirmation::Code(source.identity().code()), WORDS).unwrap().is_whole());
}

#[test]
fn what_was_cut_off_goes_on_where_it_was_and_with_its_seed() {
    let (bench, source) = marked(400);
    let first = wanted(&bench, &source, range(0, 400 * MIB), "random");
    let cancel = Cancel::default();
    let (desk, told) = Desk::<wipe::WipeProgress>::new(cancel.clone());
    let stopper = std::thread::spawn(move || {
        for progress in told {
            if progress.done > 0 {
                cancel.cancel();
            }
        }
    });
    let cut = wipe::wipe(&source, (&Confirmation::Yes, WORDS), (&first, false), &desk).unwrap();
    drop(desk);
    stopper.join().unwrap();
    assert!(cut.cancelled && !cut.is_whole() && cut.overwritten > 0 && cut.overwritten < 400 * MIB, "{}", cut.overwritten);
    // What stood there while nobody worked is not written again.
    File::options().write(true).open(&bench.image).unwrap().write_all_at(&[0xAB; 512], 0).unwrap();
    let other = Wanted { pattern: Pattern::Random(99), ..first.clone() };
    let on = |wanted: &Wanted| wipe::wipe(&source, (&Confirmation::Yes, WORDS), (wanted, false), &Desk::new(Cancel::default()).0);
    let done = on(&other).unwrap();
    assert_eq!((done.overwritten, done.seed.as_deref()), (400 * MIB, Some("000000000000b0a7")));
    assert_eq!((done.other.as_slice(), done.verified), (&[range(0, 512)][..], 400 * MIB - 512), "and it is seen that it was");
    assert!(!done.is_whole());
    for wanted in [
        first.clone(),
        Wanted { pattern: Pattern::Zeros, ..first.clone() },
        Wanted { verify: Verify::None, ..first.clone() },
        Wanted { ground: wipe::ground_of(&source, range(0, MIB)).unwrap(), ..first.clone() },
    ] {
        assert!(matches!(on(&wanted), Err(CoreError::Wipe(NotWiped::OtherRecord { .. }))));
    }
    fs::write(&first.record, "not a record\n").unwrap();
    assert!(matches!(on(&first), Err(CoreError::Wipe(NotWiped::OtherRecord { .. }))));
    // A record that a crash cut in its last line is one all the same.
    fs::remove_file(&first.record).unwrap();
    on(&Wanted { ground: wipe::ground_of(&source, range(0, MIB)).unwrap(), ..first.clone() }).unwrap();
    let text = fs::read_to_string(&first.record).unwrap();
    let lines: Vec<&str> = text.lines().collect();
    fs::write(&first.record, format!("{}\n{}\n{{\"verif", lines[0], lines[1])).unwrap();
    let again = on(&Wanted { ground: wipe::ground_of(&source, range(0, MIB)).unwrap(), ..first.clone() }).unwrap();
    assert!(again.is_whole() && again.verified == MIB);
}

#[test]
fn a_sample_is_a_sample_and_nothing_read_back_proves_nothing() {
    let (bench, source) = marked(300);
    let all = wanted(&bench, &source, range(0, 300 * MIB), "zeros");
    let sampled = wiped(&source, &Wanted { verify: Verify::Sample, ..all.clone() }).unwrap();
    assert!(sampled.is_whole() && sampled.verified > 40 * MIB && sampled.verified < 100 * MIB, "{}", sampled.verified);
    let blind = wiped(&source, &Wanted { verify: Verify::None, ..all.clone() }).unwrap();
    assert_eq!((blind.verified, blind.is_whole()), (0, true));
    assert!(blind.verified_line().contains("not proven") && sampled.verified_line().contains('%'));
    let asked = wiped(&source, &Wanted { by_device: true, ..all }).unwrap();
    assert_eq!((asked.overwritten, asked.zeroed_by_device, asked.verified), (0, 300 * MIB, 300 * MIB));
    assert!(asked.is_whole() && asked.method().contains("not written over by this computer"));
    assert!(fs::metadata(&bench.image).unwrap().blocks() < 8192, "the image gave its ground up");
}

#[test]
fn a_drive_that_fails_on_the_way_is_named_place_by_place_and_written_around() {
    state();
    let folder = tempfile::tempdir().unwrap();
    let image = folder.path().join("sick.bin");
    let file = File::create(&image).unwrap();
    (0..64).for_each(|at| file.write_all_at(&vec![0xEE; MIB as usize], at * MIB).unwrap());
    let path: PathBuf = folder.path().join("sick.drive.toml");
    let text = "version = 1\nclaimed_bytes = 67108864\nidentity = { model = \"Mudlark\", serial = \"BL-sick\" }\n\
                backing = [{ file = \"sick.bin\", at_byte = 0 }]\n\
                clock = { read_us = 200, bytes_per_second = 40000000, write_bytes_per_second = 20000000 }\n\
                unwritable = [{ first_lba = 3000, sectors = 3 }, { first_lba = 40000, sectors = 400 }]\n\
                unreadable = [{ first_lba = 90000, sectors = 2 }]\n";
    fs::write(&path, text).unwrap();
    let source = keel_source::open(&path, OpenOptions::default()).unwrap();
    let wanted = Wanted {
        ground: wipe::ground_of(&source, range(0, 64 * MIB)).unwrap(),
        pattern: Pattern::Zeros,
        verify: Verify::All,
        by_device: false,
        record: folder.path().join("wipe.jsonl"),
    };
    let done = wiped(&source, &wanted).unwrap();
    assert!(!done.is_whole() && !done.cancelled);
    let sectors = |range: &ByteRange| (range.start.0 / 512, range.end.0 / 512);
    let unwritable: Vec<(u64, u64)> = done.unwritable.iter().map(sectors).collect();
    // A sector that does not read takes no write on this drive either.
    assert_eq!(unwritable, [(3000, 3003), (40_000, 40_400), (90_000, 90_002)]);
    assert_eq!((done.overwritten, done.verified), (64 * MIB - 405 * 512, 64 * MIB - 405 * 512));
    assert!(done.line().contains("may be readable still"), "{}", done.line());
    assert_eq!(wipe::troubles(&done).len(), 1);
    let stands = fs::read(&image).unwrap();
    let left = stands.iter().filter(|byte| **byte == 0xEE).count() as u64;
    assert_eq!(left, 405 * 512);
}

#[test]
fn free_ground_is_written_over_and_every_file_stays() {
    state();
    let bench = Bench::new(200 * MIB);
    let [linux, stick, office] =
        [(2048u64, 160_000u64), (180_224, 120_000), (307_200, 80_000)].map(|(first, sectors)| (first * 512, sectors * 512));
    bench.mbr(&[(0x83, linux.0, linux.1), (0x06, stick.0, stick.1), (0x07, office.0, office.1)]);
    bench.ext4(linux.0, linux.1, "LINUX", &files(3));
    bench.fat(stick.0, stick.1, "16", "STICK", &files(4));
    bench.ntfs(office.0, office.1, "OFFICE", &files(5));
    // What was deleted, and what lies between the volumes.
    let source = bench.open();
    let secret = b"the purser's own ledger, not for anybody".repeat(20);
    for at in [170_000 * 512, 199 * MIB, 500_000 / 512 * 512] {
        bench.write(at, &secret);
    }
    let free = wipe::free(&source, &table::read(source.as_ref()), &Cancel::default()).unwrap();
    assert!(free.told.iter().any(|line| line.contains("boot loaders")), "{:?}", free.told);
    let wanted = Wanted {
        ground: free.ground,
        pattern: Pattern::Bytes(vec![0x5A]),
        verify: Verify::All,
        by_device: false,
        record: bench.folder.path().join("wipe.jsonl"),
    };
    let before = keel_core::mend::looks(&source, &crate::support::swept(&source, keel_core::sweep::Reach::Landmarks).finds);
    let done = wiped(&source, &wanted).unwrap();
    assert!(done.is_whole() && done.bytes > 150 * MIB, "{}", done.line());
    let swept = crate::support::swept(&source, keel_core::sweep::Reach::Landmarks);
    let after = keel_core::mend::looks(&source, &swept.finds);
    for (id, look) in before.iter().filter(|(_, look)| look.opens) {
        assert_eq!(after.get(id).map(|after| (after.counted, &after.files)), Some((look.counted, &look.files)), "{id}");
    }
    for find in swept.finds.iter().filter(|find| find.is_outer()) {
        let window = keel_source::Window::new(SharedSource::clone(&source), find.range());
        let volume = find.geometry.open(std::sync::Arc::new(window)).unwrap();
        let wrong: Vec<String> = keel_format::check::check(volume.as_ref())
            .into_iter()
            .flat_map(|rule| rule.findings)
            .map(|found| found.what)
            .collect();
        assert_eq!(wrong, Vec::<String>::new(), "{}", find.id);
    }
    let image = fs::read(&bench.image).unwrap();
    let stays = image[..MIB as usize].windows(40).any(|piece| piece == &secret[..40]);
    assert!(stays, "before the first volume");
    assert!(!image[MIB as usize..].windows(40).any(|piece| piece == &secret[..40]));
    // A volume that was not closed says nothing of its free ground that could be followed.
    let reserved = u64::from(image[stick.0 as usize + 14]);
    let entry = bench.read(stick.0 + reserved * 512, 4);
    bench.write(stick.0 + reserved * 512, &[entry[0], entry[1], entry[2], 0x7F]);
    let dirty = wipe::free(&source, &table::read(source.as_ref()), &Cancel::default()).unwrap();
    assert!(dirty.told.iter().any(|line| line.contains("was not closed")), "{:?}", dirty.told);
    assert!(dirty.ground.ranges().iter().all(|range| range.overlap(ByteRange::sized(ByteOffset(stick.0), stick.1)).is_none()));
}

#[test]
fn where_nothing_says_what_is_in_use_no_ground_counts_as_free() {
    let (_bench, source) = marked(8);
    let said = wipe::free(&source, &table::read(source.as_ref()), &Cancel::default()).unwrap_err().to_string();
    assert!(said.contains("says what is in use"), "{said}");
}
