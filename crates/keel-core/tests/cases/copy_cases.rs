//! Copies of simulated drives that fail, stall and get better, stopped and gone on with.
#![allow(clippy::single_range_in_vec_init)]

use std::fs;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use crate::support::{Bench, MIB, files as some_files, swept};
use keel_core::copy::{Copied, CopyOptions, Pass, Stopped, copy, known_of, part_bytes, touched};
use keel_core::job::{Cancel, Desk};
use keel_core::layout::Choices;
use keel_core::mend::{self, Wishes};
use keel_core::sweep::Reach;
use keel_core::{CoreError, Refusal, files, plan};
use keel_source::{ByteOffset, ByteRange, CopyLog, CopyState, OpenOptions, SharedSource, Source, copy_log_of};
use proptest::prelude::*;

/// A drive of `len` bytes that never repeat, described by `faults`.
struct Sick {
    folder: tempfile::TempDir,
    bytes: Vec<u8>,
}

impl Sick {
    fn new(len: u64, faults: &str) -> Self {
        let bytes: Vec<u8> = (0..len / 8).flat_map(|at| (at * 0x9E37_79B9 + 1).to_le_bytes()).collect();
        let sick = Self { folder: tempfile::tempdir().unwrap(), bytes };
        fs::write(sick.at("surface.img"), &sick.bytes).unwrap();
        sick.describe("BL-0731", faults);
        sick
    }

    fn at(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn describe(&self, serial: &str, faults: &str) {
        let text = format!(
            "version = 1\nclaimed_bytes = {}\nidentity = {{ model = \"Mudlark 3\", serial = \"{serial}\" }}\n\
             backing = [{{ file = \"surface.img\", at_byte = 0 }}]\n\
             clock = {{ read_us = 100, bytes_per_second = 100000000, unreadable_ms = 1000 }}\n{faults}\n",
            self.bytes.len()
        );
        fs::write(self.at("s.drive.toml"), text).unwrap();
    }

    fn open(&self) -> SharedSource {
        keel_source::open(&self.at("s.drive.toml"), OpenOptions::default()).unwrap()
    }

    fn copy(&self, source: &SharedSource, options: &CopyOptions) -> Result<Copied, CoreError> {
        copy(source, &self.at("c.img"), options, &Desk::new(Cancel::default()).0)
    }

    /// Checks that the copy opens with `missing` (in sectors) unreadable and everything else as on the drive.
    fn holds_but(&self, missing: &[Range<u64>]) {
        let copied = keel_source::open(&self.at("c.img"), OpenOptions::default()).unwrap();
        assert_eq!(sectors(copied.missing()), missing);
        let mut buf = vec![0; self.bytes.len()];
        let bad = copied.read_at(ByteOffset(0), &mut buf).map_or_else(|error| error.bad, |()| Vec::new());
        assert_eq!(sectors(&bad), missing, "what is missing is an error");
        let mut wanted = self.bytes.clone();
        missing.iter().for_each(|gap| wanted[gap.start as usize * 512..gap.end as usize * 512].fill(0));
        assert!(buf == wanted, "what is there is what the drive holds");
    }
}

fn sectors(ranges: &[ByteRange]) -> Vec<Range<u64>> {
    ranges.iter().map(|range| range.start.0 / 512..range.end.0.div_ceil(512)).collect()
}

fn only(passes: &[Pass]) -> CopyOptions {
    CopyOptions { passes: passes.into(), ..CopyOptions::default() }
}

const FAULTS: &str = "unreadable = [{ first_lba = 9000, sectors = 3 }, { first_lba = 9500, sectors = 40 }]\n\
                      flaky = [{ first_lba = 30000, sectors = 5, tries = 3 }]";

#[test]
fn everything_that_reads_comes_over_and_the_rest_is_missing_not_zero() {
    let sick = Sick::new(40 * MIB, FAULTS);
    let copied = sick.copy(&sick.open(), &CopyOptions::default()).unwrap();
    assert_eq!((copied.stopped, copied.resumed, copied.failed_bytes), (None, false, 43 * 512));
    assert_eq!(copied.copied_bytes, 40 * MIB - 43 * 512);
    sick.holds_but(&[9000..9003, 9500..9540]);
    let again = sick.copy(&sick.open(), &CopyOptions { again: 1, ..CopyOptions::default() }).unwrap();
    assert_eq!((again.resumed, again.errors, again.missing), (true, 43, copied.missing));
    sick.holds_but(&[9000..9003, 9500..9540]);
}

#[test]
fn sound_parts_come_first_and_each_pass_leaves_its_part_to_the_next() {
    let sick = Sick::new(64 * MIB, "unreadable = [{ first_lba = 20000, sectors = 30000 }]");
    let sound = sick.copy(&sick.open(), &only(&[Pass::Sound])).unwrap();
    // 15 MB do not read: with growing steps only few requests are spent on them, a second each.
    assert!(sound.errors <= 15 && sound.took_ms < 20_000, "{sound:?}");
    assert!(sound.copied_bytes >= 64 * MIB - 30_000 * 512 - 3 * MIB, "{sound:?}");
    let (_, map) = CopyLog::read(&sound.log).unwrap();
    assert_eq!((map.bytes(CopyState::Untried), map.bytes(CopyState::Failed)), (0, 0));
    let edges = sick.copy(&sick.open(), &only(&[Pass::Edges])).unwrap();
    let (_, map) = CopyLog::read(&edges.log).unwrap();
    assert_eq!((map.bytes(CopyState::PassedOver), map.bytes(CopyState::Failed)), (0, 0));
    assert!(edges.errors <= 2 * sound.errors && edges.copied_bytes > sound.copied_bytes, "{edges:?}");
    sick.copy(&sick.open(), &only(&[Pass::Inner])).unwrap();
    sick.holds_but(&[20_000..50_000]);
}

#[test]
fn places_that_take_their_time_wait_until_the_sound_ones_are_over() {
    let sick = Sick::new(64 * MIB, "slow = [{ first_lba = 60000, sectors = 8000, ms = 5 }]");
    let sound = sick.copy(&sick.open(), &only(&[Pass::Sound])).unwrap();
    assert!(sound.errors == 0 && sound.took_ms < 30_000, "the slow part alone takes 40 s: {sound:?}");
    assert!(sound.missing.iter().all(|gap| gap.start.0 / 512 >= 58_000 && gap.end.0 / 512 <= 76_000), "{sound:?}");
    assert!(!sound.missing.is_empty());
    sick.copy(&sick.open(), &CopyOptions::default()).unwrap();
    sick.holds_but(&[]);
}

#[test]
fn the_time_of_each_place_is_told_where_it_was_asked_and_only_there() {
    let faults = "slow = [{ first_lba = 60000, sectors = 64, ms = 5 }]\nunreadable = [{ first_lba = 20000, sectors = 4 }]";
    let sick = Sick::new(64 * MIB, faults);
    let (desk, hears) = Desk::new(Cancel::default());
    let done = copy(&sick.open(), &sick.at("c.img"), &CopyOptions::default(), &desk).unwrap();
    assert_eq!(done.missing.len(), 1);
    drop(desk);
    let last = hears.into_iter().last().unwrap();
    assert_eq!(last.slowest_us.len(), last.parts.len());
    let part = |lba: u64| last.slowest_us[usize::try_from(lba * 512 / part_bytes(64 * MIB)).unwrap()];
    assert!(part(20_000) >= 1_000_000, "the drive takes a second over what it does not read: {}", part(20_000));
    assert!((5_000..1_000_000).contains(&part(60_000)), "{}", part(60_000));
    assert!(last.slowest_us.iter().all(|us| *us > 0), "every part was asked");
    assert!(part(100_000) < 50_000, "a sound place takes what is usual: {}", part(100_000));
    // A run that has nothing left to read asks nowhere.
    let (desk, hears) = Desk::new(Cancel::default());
    let options = CopyOptions { passes: vec![Pass::Sound], ..CopyOptions::default() };
    copy(&sick.open(), &sick.at("c.img"), &options, &desk).unwrap();
    drop(desk);
    assert!(hears.into_iter().flat_map(|told| told.slowest_us.to_vec()).all(|us| us == 0));
}

#[test]
fn a_copy_is_known_for_its_own_drive_and_not_for_another_one_that_calls_itself_alike() {
    let sick = Sick::new(16 * MIB, "");
    sick.copy(&sick.open(), &CopyOptions::default()).unwrap();
    assert_eq!(known_of(&sick.at("c.img"), &sick.open()).unwrap().bytes(CopyState::Copied), 16 * MIB);
    assert!(known_of(&sick.at("none.img"), &sick.open()).is_none());
    // A drive that answers no more is not another one, and is not asked over and over.
    sick.describe("BL-0731", "unreadable = [{ first_lba = 0, sectors = 32768 }]");
    let dead = sick.open();
    assert!(known_of(&sick.at("c.img"), &dead).is_some());
    assert!(dead.elapsed().unwrap() < Duration::from_secs(10), "{:?}", dead.elapsed());
    // The same reader with another card in it.
    sick.describe("BL-0731", "");
    let other: Vec<u8> = sick.bytes.iter().map(|byte| byte ^ 0x5A).collect();
    fs::write(sick.at("surface.img"), other).unwrap();
    assert!(known_of(&sick.at("c.img"), &sick.open()).is_none());
}

#[test]
fn stop_rules_and_cancel_stop_and_the_next_run_goes_on() {
    let sick = Sick::new(40 * MIB, FAULTS);
    let source = sick.open();
    let stopped = sick.copy(&source, &CopyOptions { most_errors: Some(2), ..CopyOptions::default() }).unwrap();
    assert_eq!((stopped.stopped, stopped.errors), (Some(Stopped::Errors), 2));
    let short = CopyOptions { most_time: Some(Duration::from_secs(3)), ..CopyOptions::default() };
    let stopped = sick.copy(&source, &short).unwrap();
    assert!(stopped.stopped == Some(Stopped::Time) && stopped.took_ms < 45_000, "{stopped:?}");
    let cancel = Cancel::default();
    cancel.cancel();
    let (desk, _hears) = Desk::new(cancel);
    let cancelled = copy(&source, &sick.at("c.img"), &CopyOptions::default(), &desk).unwrap();
    assert_eq!((cancelled.stopped, cancelled.errors), (Some(Stopped::Cancelled), 0));
    assert_eq!(cancelled.copied_bytes, stopped.copied_bytes);
    sick.copy(&source, &CopyOptions::default()).unwrap();
    sick.holds_but(&[9000..9003, 9500..9540]);
}

#[test]
fn a_power_loss_after_any_line_of_the_log_loses_nothing_that_it_names() {
    let sick = Sick::new(
        12 * MIB,
        "unreadable = [{ first_lba = 9000, sectors = 3 }]\nflaky = [{ first_lba = 20000, sectors = 2, tries = 2 }]",
    );
    for passes in [&[Pass::Sound][..], &[Pass::Edges], &[Pass::Inner], &[Pass::Again]] {
        sick.copy(&sick.open(), &only(passes)).unwrap();
    }
    let log = copy_log_of(&sick.at("c.img"));
    let (whole, text) = (fs::read(sick.at("c.img")).unwrap(), fs::read_to_string(&log).unwrap());
    let lines: Vec<&str> = text.split_inclusive('\n').collect();
    assert!(lines.len() > 6, "{text}");
    for kept in 1..=lines.len() {
        // What the log does not name was not durable: it may be there, half there, or anything else.
        for torn in ["", "{\"at\":0,\"bytes\":99", "\u{0}\u{0}\u{0}\n"] {
            fs::write(&log, lines[..kept].concat() + torn).unwrap();
            let (_, map) = CopyLog::read(&log).unwrap();
            let mut image = whole.clone();
            for gap in map.missing() {
                image[gap.start.0 as usize..gap.end.0 as usize].fill(if torn.is_empty() { 0 } else { 0xA5 });
            }
            fs::write(sick.at("c.img"), image).unwrap();
            let copied = sick.copy(&sick.open(), &CopyOptions::default()).unwrap();
            assert!(copied.resumed && copied.stopped.is_none());
            sick.holds_but(&[9000..9003]);
        }
    }
}

#[test]
fn zeros_stay_holes_and_what_a_power_loss_left_in_them_goes() {
    use std::os::unix::fs::MetadataExt;
    let mut sick = Sick::new(16 * MIB, "knows_holes = false");
    sick.bytes[4 << 20..12 << 20].fill(0);
    fs::write(sick.at("surface.img"), &sick.bytes).unwrap();
    sick.describe("BL-0731", "");
    sick.copy(&sick.open(), &CopyOptions::default()).unwrap();
    assert!(fs::metadata(sick.at("c.img")).unwrap().blocks() * 512 <= 9 * MIB);
    let log = copy_log_of(&sick.at("c.img"));
    let head = fs::read_to_string(&log).unwrap().lines().next().unwrap().to_string() + "\n";
    fs::write(&log, head).unwrap();
    fs::write(sick.at("c.img"), vec![0xA5; 16 << 20]).unwrap();
    sick.copy(&sick.open(), &CopyOptions::default()).unwrap();
    sick.holds_but(&[]);
}

#[test]
fn a_copy_is_refused_onto_the_drive_over_a_file_and_over_another_copy() {
    let sick = Sick::new(MIB, "");
    let source = sick.open();
    let refused = |source: &SharedSource, dest: &Path| {
        let result = copy(source, dest, &CopyOptions::default(), &Desk::new(Cancel::default()).0);
        let Err(CoreError::Refused(refusal)) = result else { panic!("{result:?}") };
        refusal
    };
    assert_eq!(refused(&source, &sick.at("s.drive.toml")), Refusal::CopyOntoItself);
    fs::write(sick.at("mine.img"), b"ten years of work").unwrap();
    assert_eq!(refused(&source, &sick.at("mine.img")), Refusal::CopyExists { path: sick.at("mine.img") });
    assert_eq!(fs::read(sick.at("mine.img")).unwrap(), b"ten years of work");
    sick.copy(&source, &CopyOptions::default()).unwrap();
    let log = copy_log_of(&sick.at("c.img"));
    let before = fs::read(&log).unwrap();
    sick.describe("BL-0732", "");
    assert_eq!(refused(&sick.open(), &sick.at("c.img")), Refusal::OtherCopy { log: log.clone() });
    assert_eq!(fs::read(&log).unwrap(), before, "the log of another copy stays as it is");
    sick.holds_but(&[]);
}

#[test]
fn a_log_kept_elsewhere_is_still_known_beside_the_copy() {
    let sick = Sick::new(8 * MIB, "unreadable = [{ first_lba = 9000, sectors = 3 }]");
    let options = CopyOptions { log: Some(sick.at("logs.ykcopy")), ..CopyOptions::default() };
    sick.copy(&sick.open(), &options).unwrap();
    sick.holds_but(&[9000..9003]);
    assert!(sick.copy(&sick.open(), &options).unwrap().resumed);
    fs::write(sick.at("other.img"), vec![7; 8 << 20]).unwrap();
    let other = copy(&sick.open(), &sick.at("other.img"), &options, &Desk::new(Cancel::default()).0);
    assert!(matches!(other, Err(CoreError::Refused(Refusal::CopyExists { .. }))), "the log is of another file: {other:?}");
    assert!(fs::read(sick.at("other.img")).unwrap().iter().all(|byte| *byte == 7));
    fs::remove_file(sick.at("logs.ykcopy")).unwrap();
    let lost = keel_source::open(&sick.at("c.img"), OpenOptions::default());
    assert!(lost.is_err(), "without its log nobody knows which zeros are none");
}

#[test]
fn a_copy_that_was_killed_before_its_first_byte_begins() {
    let sick = Sick::new(MIB, "");
    let elsewhere = CopyOptions { log: Some(sick.at("logs.ykcopy")), ..CopyOptions::default() };
    let (image, beside, log) = (sick.at("c.img"), copy_log_of(&sick.at("c.img")), sick.at("logs.ykcopy"));
    // The files come in this order: the name of the log, the log, the image, its length.
    for stage in 0..4 {
        sick.copy(&sick.open(), &CopyOptions { passes: Vec::new(), ..elsewhere.clone() }).unwrap();
        match stage {
            0 => [&log, &image].into_iter().for_each(|path| fs::remove_file(path).unwrap()),
            1 => fs::remove_file(&image).unwrap(),
            2 => fs::write(&image, []).unwrap(),
            _ => {}
        }
        sick.copy(&sick.open(), &elsewhere).unwrap();
        sick.holds_but(&[]);
        [&beside, &log, &image].into_iter().for_each(|path| fs::remove_file(path).unwrap());
    }
}

#[test]
fn a_copy_is_looked_into_repaired_and_names_the_files_that_it_lacks() {
    let bench = Bench::new(64 * MIB);
    bench.ntfs(MIB, 48 * MIB, "PURSER", &some_files(7));
    let whole = bench.open();
    let find = swept(&whole, Reach::Surface).finds.remove(0);
    let volume = files::open(&whole, &find).unwrap();
    let picture = files::resolve(volume.as_ref(), "Pictures/quay.png").unwrap().entry;
    let extent = volume.extents(picture.id).unwrap().remove(0);
    let at = find.start_byte + extent.volume_at.unwrap().0 + 4096;
    let toml = bench.folder.path().join("p.drive.toml");
    let text = format!(
        "version = 1\nclaimed_bytes = {}\nidentity = {{ model = \"Mudlark 3\", serial = \"BL-0733\" }}\n\
         backing = [{{ file = \"drive.img\", at_byte = 0 }}]\nunreadable = [{{ first_lba = {}, sectors = 2 }}]\n",
        64 * MIB,
        at.0 / 512
    );
    fs::write(&toml, text).unwrap();
    let dest = bench.folder.path().join("copy.img");
    let drive = keel_source::open(&toml, OpenOptions::default()).unwrap();
    let copied = copy(&drive, &dest, &CopyOptions::default(), &Desk::new(Cancel::default()).0).unwrap();
    assert_eq!(copied.missing, [ByteRange::sized(at, 1024)]);
    let image = keel_source::open(&dest, OpenOptions::default()).unwrap();
    let finds = swept(&image, Reach::Doubt).finds;
    let lacking = touched(&image, &finds[0]).unwrap();
    let told: Vec<(&str, u64, ByteOffset)> =
        lacking.iter().map(|file| (file.path.as_str(), file.missing_bytes, file.first_at)).collect();
    assert_eq!(told, [("Pictures/quay.png", 1024, at)]);
    assert_eq!(touched(&whole, &find).unwrap(), [], "what is no copy lacks nothing");
    // The copy is the copy that the rule about sick drives asks for.
    let table = keel_format::table::read(image.as_ref());
    let layout = keel_core::layout::settle(&image, &table, &finds, &Choices::default());
    let staged = mend::stage(&image, &table, &finds, &layout, &Wishes::default());
    let staged = plan::Plan::new(&image, staged.edits, true);
    assert!(!staged.copy_first && !staged.edits.is_empty());
    let saved = bench.folder.path().join("saved.img");
    let bad = plan::save_as(&mend::overlay(&image, &staged.edits), &saved, &mut |_| {}).unwrap();
    assert_eq!(bad, copied.missing);
    let saved_as = keel_source::open(&saved, OpenOptions::default()).unwrap();
    assert_eq!(saved_as.missing(), copied.missing, "a repaired copy of a copy lacks the same places");
    let over = copy(&drive, &saved, &CopyOptions::default(), &Desk::new(Cancel::default()).0);
    assert!(matches!(over, Err(CoreError::Refused(Refusal::OtherCopy { .. }))), "{over:?}");
}

#[test]
fn with_volumes_first_every_file_is_listed_and_whole_long_before_the_rest_comes_over() {
    let bench = Bench::new(512 * MIB);
    let some = some_files(11);
    bench.ntfs(MIB, 60 * MIB, "TIDES", &some);
    bench.fat(400 * MIB, 40 * MIB, "16", "SLIPS", &some_files(12));
    bench.mbr(&[(7, MIB, 60 * MIB), (6, 400 * MIB, 40 * MIB)]);
    // Ground that no volume has any more: it comes last.
    for at in (70..390).chain(450..510) {
        bench.write(at * MIB, &[0x5A; 1 << 20]);
    }
    let whole = bench.open();
    let finds = swept(&whole, Reach::Surface).finds;
    let record = {
        // A place in the middle of the MFT that does not read must not keep the other files back.
        let volume = files::open(&whole, &finds[0]).unwrap();
        let mft = files::resolve(volume.as_ref(), "$MFT").map(|resolved| volume.extents(resolved.entry.id).unwrap());
        mft.ok().and_then(|extents| extents.first()?.volume_at).map_or(4 << 20, |at| at.0)
    };
    let toml = bench.folder.path().join("p.drive.toml");
    let first = (MIB + record) / 512 + 2 * 70;
    let text = format!(
        "version = 1\nclaimed_bytes = {}\nknows_holes = false\nidentity = {{ model = \"Mudlark 3\", serial = \"BL-0734\" }}\n\
         backing = [{{ file = \"drive.img\", at_byte = 0 }}]\nclock = {{ read_us = 100, bytes_per_second = 1000000, unreadable_ms = 900 }}\n\
         unreadable = [{{ first_lba = {first}, sectors = 2 }}]\n",
        512 * MIB
    );
    fs::write(&toml, text).unwrap();
    let drive = keel_source::open(&toml, OpenOptions::default()).unwrap();
    let dest = bench.folder.path().join("copy.img");
    let run = |options: &CopyOptions| copy(&drive, &dest, options, &Desk::new(Cancel::default()).0).unwrap();
    let listed = run(&only(&[Pass::Volumes]));
    assert!(listed.copied_bytes < 64 * MIB && listed.stopped.is_none(), "{listed:?}");
    let names = |source: &SharedSource| -> Vec<Vec<String>> {
        let of = |find: &keel_core::sweep::Find| {
            let (volume, mut names) = (files::open(source, find).unwrap(), Vec::new());
            let mut each = |found: keel_format::WalkEntry<'_>| {
                names.push(found.path());
                std::ops::ControlFlow::Continue(())
            };
            volume.walk(keel_format::Deleted::Hide, &mut each).unwrap();
            names.sort();
            names
        };
        finds.iter().map(of).collect()
    };
    let image = keel_source::open(&dest, OpenOptions::default()).unwrap();
    let (there, all) = (names(&image), names(&drive));
    assert!(there == all, "what the drive lists, the copy lists");
    assert!(all.iter().all(|names| names.len() > 40), "{all:?}");
    drop(image);
    // The time that the used ground takes, and a little more: the rest would take nine minutes.
    let used = run(&CopyOptions {
        passes: vec![Pass::Volumes, Pass::Sound],
        most_time: Some(Duration::from_secs(60)),
        ..CopyOptions::default()
    });
    assert_eq!(used.stopped, Some(Stopped::Time));
    let image = keel_source::open(&dest, OpenOptions::default()).unwrap();
    let volume = files::open(&image, &finds[0]).unwrap();
    let mut read = 0;
    for (path, bytes) in &some {
        let Ok(resolved) = files::resolve(volume.as_ref(), path) else { continue };
        let mut stream = volume.open(resolved.entry.id, "").unwrap();
        let mut buf = vec![0; bytes.len()];
        let lost = stream.read(0, &mut buf);
        assert!(lost.is_empty() && buf == *bytes, "{path}: {lost:?}");
        read += 1;
    }
    assert!(read >= some.len() - 2, "{read} of {}", some.len());
    drop(volume);
    let through = run(&CopyOptions::default());
    assert_eq!(sectors(&through.missing), [first..first + 2]);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn whatever_fails_the_copy_lacks_exactly_what_never_reads(
        bad in proptest::collection::vec((0u64..16_384, 1u64..300), 0..6),
        flaky in proptest::collection::vec((0u64..16_384, 1u64..50, 1u32..3), 0..4),
        stops in proptest::collection::vec(1u64..40, 0..4),
        volumes in any::<bool>(),
    ) {
        let mut faults = String::new();
        for (first, count) in &bad {
            faults += &format!("[[unreadable]]\nfirst_lba = {first}\nsectors = {count}\n");
        }
        for (first, count, tries) in &flaky {
            faults += &format!("[[flaky]]\nfirst_lba = {first}\nsectors = {count}\ntries = {tries}\n");
        }
        let sick = Sick::new(8 * MIB, &faults);
        let source = sick.open();
        let options = only(if volumes { &Pass::ALL } else { &Pass::USUAL });
        for most in stops {
            sick.copy(&source, &CopyOptions { most_errors: Some(most), ..options.clone() }).unwrap();
        }
        sick.copy(&source, &options).unwrap();
        let never = |lba: u64| bad.iter().any(|(first, count)| (*first..first + count).contains(&lba));
        let mut wanted: Vec<Range<u64>> = Vec::new();
        for lba in (0..16_384).filter(|lba| never(*lba)) {
            match wanted.last_mut() {
                Some(last) if last.end == lba => last.end += 1,
                _ => wanted.push(lba..lba + 1),
            }
        }
        sick.holds_but(&wanted);
    }
}

#[test]
fn a_drive_that_drops_off_the_link_is_waited_for_and_a_bad_cable_costs_no_data() {
    let link = "link = { drop_after_reads = 25, away_reads = 6, timeout_ms = 5000, interface_error_one_in = 9, seed = 3 }";
    let sick = Sick::new(40 * MIB, &format!("{link}\n{FAULTS}"));
    let copied = sick.copy(&sick.open(), &CopyOptions { again: 6, ..CopyOptions::default() }).unwrap();
    assert!(copied.link_drops >= 2 && copied.stopped.is_none(), "{copied:?}");
    sick.holds_but(&[9000..9003, 9500..9540]);
    let sick = Sick::new(40 * MIB, "link = { drop_after_reads = 10, away_reads = 1000000, timeout_ms = 5000 }");
    let source = sick.open();
    for passes in [&Pass::USUAL[..], &Pass::ALL] {
        let gone = sick.copy(&source, &only(passes)).unwrap();
        assert_eq!((gone.stopped, gone.failed_bytes, gone.copied_bytes), (Some(Stopped::Link), 0, 10 * MIB), "{gone:?}");
        assert!((600_000..700_000).contains(&gone.took_ms), "ten minutes by the drive's clock: {gone:?}");
    }
    sick.describe("BL-0731", "");
    assert!(sick.copy(&sick.open(), &CopyOptions::default()).unwrap().missing.is_empty());
    sick.holds_but(&[]);
}

/// A source that is not a simulated drive: an error says nothing of where in the request it lies.
struct Mute {
    inner: keel_source::MemorySource,
    bad: ByteRange,
}

impl Source for Mute {
    fn identity(&self) -> &keel_source::Identity {
        self.inner.identity()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), keel_source::ReadError> {
        let wanted = ByteRange::sized(at, buf.len() as u64);
        if wanted.overlap(self.bad).is_some() {
            return Err(keel_source::ReadError::of(wanted, "input/output error"));
        }
        self.inner.read_at(at, buf)
    }
}

#[test]
fn errors_that_do_not_say_where_are_narrowed_down_to_the_sector() {
    let bytes: Vec<u8> = (0..3 * MIB).map(|at| (at % 251) as u8 + 1).collect();
    let bad = ByteRange::sized(ByteOffset(1_234_432), 1024);
    let source: SharedSource = Arc::new(Mute { inner: keel_source::MemorySource::new("mute", bytes.clone(), 512), bad });
    let folder = tempfile::tempdir().unwrap();
    let dest = folder.path().join("c.img");
    let copied = copy(&source, &dest, &CopyOptions::default(), &Desk::new(Cancel::default()).0).unwrap();
    assert_eq!(copied.missing, [bad]);
    let mut image = fs::read(&dest).unwrap();
    image[bad.start.0 as usize..bad.end.0 as usize].copy_from_slice(&bytes[bad.start.0 as usize..bad.end.0 as usize]);
    assert!(image == bytes);
}
