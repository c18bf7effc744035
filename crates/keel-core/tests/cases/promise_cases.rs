//! What was checked is what is written, and what is kept of a drive is taken for that drive alone.

use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use crate::support::{Bench, MIB, files, run, told};
use keel_core::job::{Cancel, Desk};
use keel_core::layout::Choices;
use keel_core::leave::Confirmation;
use keel_core::mend::Only;
use keel_core::plan::{self, ApplyOptions, Bundle, Condition, Direction, Plan, Side, Step};
use keel_core::{CoreError, Refusal, case, copy, fathom};
use keel_source::{ByteOffset, ByteRange, Leave, Masked, OpenOptions, SharedSource, SourceError};

/// A volume whose boot sector is gone, under a valid table.
fn harmed(seed: u64) -> Bench {
    let bench = Bench::new(70 * MIB);
    bench.ntfs(MIB, 64 * MIB, "ENGINE", &files(seed));
    bench.mbr(&[(0x07, MIB, 64 * MIB)]);
    bench.zero(MIB, 512);
    bench
}

fn staged(source: &SharedSource) -> Plan {
    let told = told(source, &Choices::default(), &Only::All.into());
    assert!(!told.staged.edits.is_empty());
    Plan::new(source, told.staged.edits, false)
}

fn options(bundle: &Path) -> ApplyOptions {
    ApplyOptions {
        confirmation: Confirmation::Yes,
        override_words: None,
        bundle: Some(bundle.into()),
        stamp: format!("{}", std::process::id()),
    }
}

fn state() -> PathBuf {
    let folder = std::env::temp_dir().join(format!("ykeel-promises-{}", std::process::id()));
    case::keep_state_in(&folder);
    folder
}

fn replaced(error: &CoreError) -> bool {
    matches!(error, CoreError::Source(SourceError::Replaced { .. }))
}

#[test]
fn an_image_that_was_replaced_since_it_was_looked_at_is_not_written() {
    state();
    let bench = harmed(3);
    let source = bench.open();
    let plan = staged(&source);
    let other = bench.folder.path().join("other.img");
    run(Command::new("cp").arg("--sparse=always").arg(&bench.image).arg(&other));
    let before = fs::read(&other).unwrap();
    fs::rename(&other, &bench.image).unwrap();
    let error = plan::apply(&source, &plan, &options(&bench.folder.path().join("u.ykundo")), &mut |_| {}).unwrap_err();
    assert!(replaced(&error), "{error}");
    assert_eq!(fs::read(&bench.image).unwrap(), before, "even one that holds the very same bytes");
    // A link in its place leads somewhere else.
    let (moved, source) = (bench.folder.path().join("moved.img"), bench.open());
    fs::rename(&bench.image, &moved).unwrap();
    std::os::unix::fs::symlink(&moved, &bench.image).unwrap();
    let error = plan::apply(&source, &plan, &options(&bench.folder.path().join("v.ykundo")), &mut |_| {}).unwrap_err();
    assert!(replaced(&error), "{error}");
    assert_eq!(fs::read(&moved).unwrap(), before);
}

#[test]
fn an_image_that_goes_away_or_is_cut_while_it_is_written_is_never_called_applied() {
    state();
    for cut in [true, false] {
        let bench = harmed(5);
        let source = bench.open();
        let plan = staged(&source);
        let image = bench.image.clone();
        let result = plan::apply(&source, &plan, &options(&bench.folder.path().join("u.ykundo")), &mut |step| match step {
            Step::Written(0) if cut => File::options().write(true).open(&image).unwrap().set_len(2 * MIB).unwrap(),
            Step::Written(0) => fs::remove_file(&image).unwrap(),
            _ => {}
        });
        assert!(replaced(&result.unwrap_err()), "cut: {cut}");
    }
}

#[test]
fn a_bundle_is_taken_for_its_own_drive_alone() {
    state();
    let bench = harmed(7);
    let source = bench.open();
    let plan = staged(&source);
    let bundle_path = bench.folder.path().join("u.ykundo");
    plan::apply(&source, &plan, &options(&bundle_path), &mut |_| {}).unwrap();
    let bundle = Bundle::read(&bundle_path).unwrap();
    drop(source);
    // A blank image of the same size, and the image of another drive, under names of their own.
    let blank = bench.folder.path().join("blank.img");
    File::create(&blank).unwrap().set_len(70 * MIB).unwrap();
    let other = harmed(8);
    for image in [&blank, &other.image] {
        let before = fs::read(image).unwrap();
        let error = plan::source_of(&bundle_path, &bundle, Some(image)).err().unwrap();
        assert!(matches!(error, CoreError::Refused(Refusal::OtherDrive { .. })), "{error}");
        let source = keel_source::open(image, keel_source::OpenOptions::default()).unwrap();
        for direction in [Direction::RollBack, Direction::Finish] {
            let result = plan::recover(&source, (&bundle_path, &bundle), direction, &Confirmation::Yes, &mut |_| {});
            assert!(matches!(result, Err(CoreError::Refused(Refusal::OtherDrive { .. }))), "{result:?}");
        }
        assert!(fs::read(image).unwrap() == before, "{image:?}");
    }
    // The drive itself is known under another name.
    let moved = bench.folder.path().join("moved.img");
    fs::rename(&bench.image, &moved).unwrap();
    let source = plan::source_of(&bundle_path, &bundle, Some(&moved)).unwrap();
    plan::recover(&source, (&bundle_path, &bundle), Direction::RollBack, &Confirmation::Yes, &mut |_| {}).unwrap();
    assert_eq!(plan::condition(&source, &bundle).unwrap(), Condition::Former);
}

#[test]
fn an_interrupted_apply_is_found_wherever_its_bundle_lies_and_on_its_own_drive_alone() {
    state();
    let bench = harmed(11);
    let source = bench.open();
    let plan = staged(&source);
    let elsewhere = bench.folder.path().join("deep/in/a/folder");
    fs::create_dir_all(&elsewhere).unwrap();
    let bundle_path = elsewhere.join("way back.ykundo");
    plan::apply(&source, &plan, &options(&bundle_path), &mut |_| {}).unwrap();
    assert_eq!(plan::interrupted(&source), None, "it is whole");
    // As a kill would leave it: the last half of what was written is not there.
    let bundle = Bundle::read(&bundle_path).unwrap();
    let range = &bundle.ranges[0];
    let (former, new) = (range.all(Side::Former).unwrap(), range.all(Side::New).unwrap());
    let half = new.len() / 2;
    let file = File::options().write(true).open(&bench.image).unwrap();
    file.write_all_at(&former[half..], range.at.0 + half as u64).unwrap();
    assert_eq!(plan::interrupted(&source).as_deref(), Some(bundle_path.as_path()));
    let refused = plan::apply(&source, &plan, &options(&elsewhere.join("second.ykundo")), &mut |_| {}).unwrap_err();
    assert!(matches!(refused, CoreError::Refused(Refusal::Interrupted { .. })), "{refused}");
    drop(source);
    // Another image comes under the same path: it has nothing to do with that apply, whatever stands in its first sectors.
    let other = harmed(12);
    let mut bytes = fs::read(&other.image).unwrap();
    let at = range.at.0 as usize;
    bytes[at..at + half].copy_from_slice(&new[..half]);
    bytes[at + half..at + former.len()].copy_from_slice(&former[half..]);
    fs::write(&bench.image, bytes).unwrap();
    let source = bench.open();
    assert_eq!(plan::condition(&source, &bundle).unwrap(), Condition::Between, "its bytes alone would say so");
    assert_eq!(plan::interrupted(&source), None);
}

#[test]
fn leave_is_asked_for_by_everything_that_writes() {
    state();
    let bench = harmed(13);
    let source = bench.open();
    let plan = staged(&source);
    let wrong = Confirmation::Code("AAA-AAA".into());
    let before = fs::read(&bench.image).unwrap();
    let bundle_path = bench.folder.path().join("u.ykundo");
    let apply = plan::apply(&source, &plan, &ApplyOptions { confirmation: wrong.clone(), ..options(&bundle_path) }, &mut |_| {});
    assert!(matches!(apply, Err(CoreError::Refused(Refusal::Code))), "{apply:?}");
    let (desk, _progress) = Desk::new(Cancel::default());
    let probe = fathom::probe(&source, &wrong, fathom::ProbeOptions::default(), &desk).map(|_| ());
    assert!(matches!(probe, Err(CoreError::Refused(Refusal::Code))), "{probe:?}");
    let fill = fathom::fill(&source, &Confirmation::Yes, &desk).map(|_| ());
    assert!(matches!(fill, Err(CoreError::Refused(Refusal::FillCode))), "a fill never takes --yes: {fill:?}");
    let bundle = Bundle::new(&source, &plan.edits);
    let undo = plan::recover(&source, (&bundle_path, &bundle), Direction::Finish, &wrong, &mut |_| {});
    assert!(matches!(undo, Err(CoreError::Refused(Refusal::Code))), "{undo:?}");
    // Leave for one drive is none for another.
    let other = Bench::new(4 * MIB);
    let leave = Leave::without_code(other.open().identity()).unwrap();
    assert!(matches!(source.open_target(&leave), Err(SourceError::NoLeave { .. })));
    assert!(fs::read(&bench.image).unwrap() == before);
}

#[test]
fn no_crate_above_the_core_opens_a_target() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../ykeel/src");
    let mut folders = vec![root];
    let mut seen = 0;
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            seen += 1;
            let text = fs::read_to_string(&path).unwrap();
            assert!(!text.contains("open_target") && !text.contains("Leave::"), "{path:?}");
        }
    }
    assert!(seen > 50, "{seen} files");
}

#[test]
fn a_probe_that_was_killed_before_it_touched_anything_is_in_nobodys_way() {
    state();
    let bench = Bench::new(8 * MIB);
    bench.zero(0, 512);
    fs::write(&bench.image, vec![0x5A; 8 << 20]).unwrap();
    let source = bench.open();
    let saved = fathom::saved_path(source.identity());
    fs::create_dir_all(saved.parent().unwrap()).unwrap();
    for left in [&b""[..], b"YKSAVED\n", b"YKSAVED\n\x02\0\0\0\0\x02\0\0"] {
        fs::write(&saved, left).unwrap();
        assert_eq!(fathom::interrupted(source.identity()), None, "{left:?}");
    }
    let (desk, _progress) = Desk::new(Cancel::default());
    let verdict = fathom::probe(&source, &Confirmation::Yes, fathom::ProbeOptions::default(), &desk).unwrap();
    assert!(verdict.restored.unwrap().whole);
    assert!(fs::read(&bench.image).unwrap().iter().all(|byte| *byte == 0x5A));
}

#[test]
fn a_copy_goes_on_for_its_own_drive_alone_and_two_never_write_to_one() {
    state();
    let bench = harmed(17);
    let image = bench.folder.path().join("copy.img");
    let (desk, _progress) = Desk::new(Cancel::default());
    copy::copy(&bench.open(), &image, &copy::CopyOptions::default(), &desk).unwrap();
    // One bad byte in the log: it is read up to there, and the rest is copied again.
    let log = keel_source::copy_log_of(&image);
    let mut bytes = fs::read(&log).unwrap();
    let last = bytes.len() - 10;
    bytes[last] = 0xFF;
    fs::write(&log, &bytes).unwrap();
    let again = copy::copy(&bench.open(), &image, &copy::CopyOptions::default(), &desk).unwrap();
    assert!(again.resumed && again.missing.is_empty());
    assert!(fs::read(&image).unwrap() == fs::read(&bench.image).unwrap());
    // Somebody else writes to it.
    let held = File::open(&log).unwrap();
    rustix::fs::flock(&held, rustix::fs::FlockOperation::NonBlockingLockExclusive).unwrap();
    let error = copy::copy(&bench.open(), &image, &copy::CopyOptions::default(), &desk).unwrap_err();
    assert!(matches!(error, CoreError::Source(SourceError::Locked { .. })), "{error}");
    drop(held);
    // Another card in the same reader: same path, same size.
    let other = harmed(18);
    fs::copy(&other.image, &bench.image).unwrap();
    let before = fs::read(&image).unwrap();
    let error = copy::copy(&bench.open(), &image, &copy::CopyOptions::default(), &desk).unwrap_err();
    assert!(matches!(error, CoreError::Refused(Refusal::OtherCopy { .. })), "{error}");
    assert!(fs::read(&image).unwrap() == before, "no mix of two drives");
}

#[test]
fn a_copy_never_goes_to_a_device_that_is_the_source_itself() {
    state();
    let bench = harmed(19);
    let before = fs::read(&bench.image).unwrap();
    let (whole, part) = (LoopDevice::over(&bench.image, &[]), LoopDevice::over(&bench.image, &["--offset", "1048576"]));
    let (desk, _progress) = Desk::new(Cancel::default());
    let device = keel_source::open(Path::new(&whole.0), keel_source::OpenOptions::default()).unwrap();
    for (source, dest) in [(bench.open(), &whole.0), (bench.open(), &part.0), (device, &whole.0)] {
        let code = keel_source::open(Path::new(dest), keel_source::OpenOptions::default()).unwrap().identity().code();
        let options = copy::CopyOptions { confirmation: Some(Confirmation::Code(code)), ..copy::CopyOptions::default() };
        let error = copy::copy(&source, Path::new(dest), &options, &desk).unwrap_err();
        let refused = matches!(error, CoreError::Refused(Refusal::OwnMedium { .. } | Refusal::CopyOntoItself));
        assert!(refused, "{dest}: {error}");
    }
    assert!(fs::read(&bench.image).unwrap() == before);
}

/// A loop device over `path`, detached when it is dropped.
struct LoopDevice(String);

impl LoopDevice {
    fn over(path: &Path, more: &[&str]) -> Self {
        let output = Command::new("losetup").args(["--find", "--show"]).args(more).arg(path).output().unwrap();
        assert!(output.status.success(), "{output:?}");
        Self(String::from_utf8(output.stdout).unwrap().trim().to_string())
    }
}

impl Drop for LoopDevice {
    fn drop(&mut self) {
        let _ = Command::new("losetup").args(["--detach", &self.0]).status();
    }
}

#[test]
fn work_on_a_drive_its_partitions_and_the_image_behind_it_exclude_one_another() {
    let bench = Bench::new(16 * MIB);
    bench.mbr(&[(0x83, MIB, 8 * MIB)]);
    let device = LoopDevice::over(&bench.image, &["--partscan"]);
    let open = |path: &Path| keel_source::open(path, OpenOptions::default()).unwrap();
    let locked = |source: &SharedSource| {
        let leave = Leave::by_code(source.identity(), &source.identity().code()).unwrap();
        match source.open_target(&leave) {
            Err(SourceError::Locked { .. }) => true,
            other => other.map(|_| false).unwrap(),
        }
    };
    let whole = open(Path::new(&device.0));
    {
        // Somebody reads the image that the device is made of.
        let _image = open(&bench.image);
        assert!(locked(&whole));
    }
    assert!(!locked(&whole), "nobody else has it open");
    let partition = PathBuf::from(format!("{}p1", device.0));
    if partition.exists() {
        let part = open(&partition);
        assert!(locked(&whole), "its partition is read");
        assert!(locked(&part), "the drive that it is of is read");
        drop(whole);
        assert!(!locked(&part));
    }
}

#[test]
fn a_device_that_holds_nothing_of_a_copy_is_not_taken_for_it() {
    state();
    let bench = Bench::new(8 * MIB);
    for at in 0..8u64 {
        bench.write(at * MIB, &vec![at as u8 + 1; 700_000]);
    }
    let image = bench.folder.path().join("reader.img");
    File::create(&image).unwrap().set_len(8 * MIB).unwrap();
    let device = LoopDevice::over(&image, &[]);
    let target = Path::new(&device.0);
    let code = keel_source::open(target, OpenOptions::default()).unwrap().identity().code();
    let copy_options = copy::CopyOptions { confirmation: Some(Confirmation::Code(code)), ..copy::CopyOptions::default() };
    // A part of the source does not read: the copy lacks it.
    let bad = vec![ByteRange::sized(ByteOffset(4096), 4096)];
    let source: SharedSource = Arc::new(Masked::new(bench.open(), bad, "bad"));
    let (desk, _told) = Desk::new(Cancel::default());
    copy::copy(&source, target, &copy_options, &desk).unwrap();
    let opened = || keel_core::yard::open(target, OpenOptions::default()).unwrap();
    assert!(!opened().missing().is_empty(), "the copy is known again");
    // Another card is put into the same reader.
    File::options().write(true).open(target).unwrap().write_all_at(&vec![0x55; 8 << 20], 0).unwrap();
    assert!(opened().missing().is_empty(), "this one was never copied to");
}

fn in_use(source: &SharedSource) -> String {
    let leave = Leave::by_code(source.identity(), &source.identity().code()).unwrap();
    match source.open_target(&leave) {
        Err(SourceError::Mounted { how, .. }) => how,
        Err(other) => panic!("{other}"),
        Ok(_) => String::new(),
    }
}

#[test]
fn in_use_is_in_use_whatever_the_name_the_offset_or_the_name_space() {
    let bench = Bench::new(64 * MIB);
    let part = LoopDevice::over(&bench.image, &["--offset", "1048576"]);
    run(Command::new("mkfs.ext4").args(["-q", "-F", &part.0]));
    drop(part);
    // A hard link of the image is mounted, from an offset.
    let link = bench.folder.path().join("by another name.img");
    fs::hard_link(&bench.image, &link).unwrap();
    let point = bench.folder.path().join("point");
    fs::create_dir_all(&point).unwrap();
    let part = LoopDevice::over(&link, &["--offset", "1048576"]);
    let source = bench.open();
    assert_eq!(in_use(&source), "", "a loop device alone does nothing");
    run(Command::new("mount").arg(&part.0).arg(&point));
    let how = in_use(&source);
    crate::support::unmount(&point);
    assert!(how.contains("mounted at"), "{how}");
    // Mounted where this process does not see it.
    let mut hidden = Command::new("unshare")
        .args(["--mount", "sh", "-c", &format!("mount {} {} && echo up && read line", part.0, point.display())])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut line = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(hidden.stdout.as_mut().unwrap()), &mut line).unwrap();
    assert_eq!(line, "up\n");
    assert!(!fs::read_to_string("/proc/self/mounts").unwrap().contains(&part.0));
    let device = keel_source::open(Path::new(&part.0), keel_source::OpenOptions::default()).unwrap();
    let told = [in_use(&source), in_use(&device)];
    drop(hidden.stdin.take());
    hidden.wait().unwrap();
    assert!(told.iter().all(|how| how.contains("mounted at")), "{told:?}");
    // And free again afterwards, each while the other is not read.
    drop(source);
    assert_eq!(in_use(&device), "");
    drop(device);
    assert_eq!(in_use(&bench.open()), "");
}

#[test]
fn a_file_system_with_a_number_of_its_own_is_in_use_as_well() {
    let bench = Bench::new(160 * MIB);
    let device = LoopDevice::over(&bench.image, &[]);
    run(Command::new("mkfs.btrfs").args(["-q", "-f", &device.0]));
    let point = bench.folder.path().join("point");
    fs::create_dir_all(&point).unwrap();
    if !Command::new("mount").args(["-t", "btrfs", &device.0]).arg(&point).status().unwrap().success() {
        // This kernel cannot mount it: then nothing can hold the device by it.
        assert!(!fs::read_to_string("/proc/filesystems").unwrap().contains("btrfs"));
        return;
    }
    let source: SharedSource = keel_source::open(Path::new(&device.0), keel_source::OpenOptions::default()).unwrap();
    let told = [in_use(&source), in_use(&bench.open())];
    crate::support::unmount(&point);
    assert!(told.iter().all(|how| !how.is_empty()), "{told:?}");
    let _ = Arc::strong_count(&source);
}

/// What rung 6 of the volume at byte `at` says of how it was left.
fn left(source: &SharedSource, at: u64) -> Vec<String> {
    let swept = crate::support::swept(source, keel_core::sweep::Reach::Landmarks);
    let ladder = keel_core::ladder::examine(source, &swept, &Cancel::default());
    let volume = ladder.volumes.iter().find(|volume| volume.start_byte.0 == at).unwrap();
    let entry = volume.rungs.iter().find(|rung| rung.rung == keel_core::ladder::RungName::Entry).unwrap();
    assert_eq!(entry.state, keel_core::ladder::RungState::Sound, "{entry:?}");
    let of_leaving = entry.findings.iter().filter(|finding| finding.how.contains("left it"));
    let found: Vec<String> = of_leaving.map(|finding| finding.what.clone()).collect();
    assert_eq!(found.len(), entry.next.len(), "each says what can be done: {entry:?}");
    found
}

#[test]
fn a_volume_that_was_not_closed_or_that_a_system_sleeps_on_says_so_on_its_rung() {
    state();
    let bench = Bench::new(400 * MIB);
    let places = [MIB, 80 * MIB, 150 * MIB, 220 * MIB, 300 * MIB];
    let mut asleep = files(4);
    asleep.insert("hiberfil.sys".into(), [b"HIBR".as_slice(), &[7; 9000]].concat());
    bench.ntfs(places[0], 64 * MIB, "WINCH", &asleep);
    // A system that woke left another word, or none.
    let mut awake = files(5);
    awake.insert("hiberfil.sys".into(), [b"wake".as_slice(), &[7; 9000]].concat());
    bench.ntfs(places[1], 64 * MIB, "QUAY", &awake);
    bench.fat(places[2], 64 * MIB, "32", "CARDS", &files(6));
    bench.exfat(places[3], 64 * MIB, "DECK", &files(7));
    bench.ext4(places[4], 64 * MIB, "ENGINE", &files(8));
    bench.mbr(&[
        (0x07, places[0], 64 * MIB),
        (0x07, places[1], 64 * MIB),
        (0x0C, places[2], 64 * MIB),
        (0x07, places[3], 64 * MIB),
    ]);
    bench.gpt(400 * MIB, &places.map(|at| (at, 64 * MIB, 0)));
    let source = bench.open();
    assert!(left(&source, places[0])[0].contains("sleeps on it"));
    for at in &places[1..] {
        assert_eq!(left(&source, *at), Vec::<String>::new(), "{at}");
    }
    // The bits that their standards name, set as a system does that did not unmount.
    let reserved = u64::from(u16::from_le_bytes(bench.read(places[2] + 14, 2).try_into().unwrap())) * 512;
    bench.write(places[2] + reserved + 7, &[bench.read(places[2] + reserved + 7, 1)[0] & 0xF7]);
    bench.write(places[3] + 106, &[2, 0]);
    let mut superblock = bench.read(places[4] + 1024, 1024);
    superblock[58] = 3;
    // Its checksum (CRC-32C over what stands before it) goes along.
    let checksum = superblock[..1020].iter().fold(!0u32, |sum, byte| {
        (0..8).fold(sum ^ u32::from(*byte), |sum, _| sum >> 1 ^ (0x82F6_3B78 & (sum & 1).wrapping_neg()))
    });
    superblock[1020..].copy_from_slice(&checksum.to_le_bytes());
    bench.write(places[4] + 1024, &superblock);
    let source = bench.open();
    for (at, word) in [(places[2], "not cleanly unmounted"), (places[3], "not cleanly unmounted"), (places[4], "noted errors")] {
        let said = left(&source, at);
        assert!(said.len() == 1 && said[0].contains(word), "{at}: {said:?}");
    }
}

#[test]
fn a_volume_without_a_table_that_reaches_behind_the_end_is_not_said_to_fill_the_drive() {
    state();
    let bench = Bench::new(64 * MIB);
    bench.ext4(0, 64 * MIB, "ENGINE", &files(9));
    let entry = |bench: &Bench| {
        let source = bench.open();
        let swept = crate::support::swept(&source, keel_core::sweep::Reach::Landmarks);
        let ladder = keel_core::ladder::examine(&source, &swept, &Cancel::default());
        let rung = ladder.volumes[0].rungs.iter().find(|rung| rung.rung == keel_core::ladder::RungName::Entry).unwrap();
        (
            rung.note.clone(),
            ladder.rungs.iter().flat_map(|rung| &rung.findings).any(|found| found.what.contains("reaches behind")),
        )
    };
    assert_eq!(entry(&bench), ("needs none".into(), false));
    bench.resize(40 * MIB);
    assert_eq!(entry(&bench), ("reaches behind the end".into(), true));
}
