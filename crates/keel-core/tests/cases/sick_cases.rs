//! Rungs 1 to 4 on drives that misbehave, and what a copy does when the drive changes under it.

use std::fs;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::process::Command;
use std::time::Duration;

use crate::support::MIB;
use keel_core::case::Case;
use keel_core::copy::{self, Copied, CopyOptions, Pass, Stopped, copy};
use keel_core::health;
use keel_core::intake::Outcome;
use keel_core::job::{Cancel, Desk};
use keel_core::ladder::{Ground, RungName, RungState};
use keel_core::plan::Confirmation;
use keel_core::reads::{self, Latency, Left, ReadsOptions, Survey};
use keel_core::{CoreError, Refusal, yard};
use keel_source::{ByteOffset, CopyLog, OpenOptions, SharedSource, copy_log_of};

/// A drive of 16 MiB that never repeats.
struct Sick {
    folder: tempfile::TempDir,
    bytes: Vec<u8>,
}

impl Sick {
    fn new(faults: &str) -> Self {
        static STATE: std::sync::OnceLock<tempfile::TempDir> = std::sync::OnceLock::new();
        keel_core::case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
        let bytes: Vec<u8> = (0..16 * MIB / 8).flat_map(|at| (at * 0x9E37_79B9 + 1).to_le_bytes()).collect();
        let sick = Self { folder: tempfile::tempdir().unwrap(), bytes };
        fs::write(sick.at("surface.img"), &sick.bytes).unwrap();
        sick.describe(16 * MIB, faults);
        sick
    }

    fn describe(&self, claimed: u64, faults: &str) {
        let serial = self.folder.path().file_name().unwrap().to_string_lossy().into_owned();
        let text = format!(
            "version = 1\nclaimed_bytes = {claimed}\nidentity = {{ model = \"Mudlark 4\", serial = \"{serial}\" }}\n\
             backing = [{{ file = \"surface.img\", at_byte = 0 }}]\n\
             clock = {{ read_us = 100, bytes_per_second = 100000000, unreadable_ms = 1000 }}\n{faults}\n"
        );
        fs::write(self.at("s.drive.toml"), text).unwrap();
    }

    fn at(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn open(&self) -> SharedSource {
        yard::open(&self.at("s.drive.toml"), OpenOptions::default()).unwrap()
    }

    fn survey(&self, options: ReadsOptions) -> Survey {
        reads::survey(&self.open(), options, &Desk::new(Cancel::default()).0)
    }

    fn ground(&self) -> Ground {
        Ground::ask(&self.open(), &Cancel::default(), &mut |_| {})
    }

    fn copy(&self, options: &CopyOptions) -> Result<Copied, CoreError> {
        copy(&self.open(), &self.at("c.img"), options, &Desk::new(Cancel::default()).0)
    }

    /// Throws the copy away.
    fn forget(&self) {
        let _ = fs::remove_file(self.at("c.img"));
        let _ = fs::remove_file(copy_log_of(&self.at("c.img")));
    }

    fn verify(&self) -> copy::CopyVerified {
        copy::verify(&self.at("c.img"), None, &Desk::new(Cancel::default()).0).unwrap()
    }
}

fn state(ground: &Ground, name: RungName) -> RungState {
    ground.rungs.iter().find(|rung| rung.rung == name).unwrap().state
}

#[test]
fn errors_that_pass_are_told_from_those_that_stay_and_late_places_by_the_drives_own_median() {
    let sick = Sick::new(
        "unreadable = [{ first_lba = 8192, sectors = 8 }]\nflaky = [{ first_lba = 16384, sectors = 1, tries = 1 }]\n\
         slow = [{ first_lba = 24576, sectors = 256, ms = 30 }]\n",
    );
    let survey = sick.survey(ReadsOptions::full(Duration::from_secs(3600)));
    assert_eq!(survey.left, None);
    let staying: Vec<u64> = survey.staying().map(|failed| failed.range.start.0 / 512).collect();
    assert_eq!(staying, [8192]);
    let came: Vec<(u64, u32)> =
        survey.failed.iter().filter(|failed| failed.came).map(|failed| (failed.range.start.0 / 512, failed.tries)).collect();
    assert_eq!(came.first().map(|(at, _)| *at), Some(16384));
    assert!(survey.count(Latency::Slow) + survey.count(Latency::Stuck) >= 1, "{:?}", survey.classes);
    let worst = |lba: u64| survey.picture.iter().rfind(|cell| cell.at.0 <= lba * 512).unwrap().worst;
    assert_eq!((worst(8192), worst(16384), worst(0)), (Latency::Failed, Latency::Passing, Latency::Usual));
    assert!(worst(24600) >= Latency::Slow && survey.median_us < 20_000);
}

#[test]
fn a_sick_drive_is_spared_and_a_budget_is_kept() {
    let sick = Sick::new("unreadable = [{ first_lba = 0, sectors = 32768 }]\n");
    let survey = sick.survey(ReadsOptions::sampled());
    assert_eq!(survey.left, Some(Left::Spared));
    assert!(survey.asked <= 12 && survey.took_ms < 60_000, "{} asked in {} ms", survey.asked, survey.took_ms);
    let slow = Sick::new("slow = [{ first_lba = 0, sectors = 32768, ms = 500 }]\n");
    let survey = slow.survey(ReadsOptions { budget: Duration::from_secs(20), ..ReadsOptions::sampled() });
    assert_eq!(survey.left, Some(Left::Budget));
    assert!(survey.took_ms < 30_000);
    let gone = Sick::new("link = { drop_after_reads = 5, away_reads = 100000, timeout_ms = 1000 }\n");
    assert_eq!(gone.survey(ReadsOptions::sampled()).left, Some(Left::LinkLost));
}

#[test]
fn each_of_the_lower_rungs_tells_its_own_trouble() {
    let cable = Sick::new(
        "link = { interface_error_one_in = 12, seed = 3 }\n[health.ata]\nattributes = [{ id = 199, raw = 40 }, { id = 5 }]\n",
    );
    let ground = cable.ground();
    assert_eq!((state(&ground, RungName::Link), state(&ground, RungName::Reads)), (RungState::Doubtful, RungState::Sound));
    assert!(ground.health.unwrap().advice[0].contains("cable"));
    let drops = Sick::new("link = { drop_after_reads = 40, away_reads = 3, timeout_ms = 100 }\n").ground();
    assert_eq!(state(&drops, RungName::Link), RungState::Broken);
    let failing = Sick::new("[health.nvme]\ncritical_warning = 4\n").ground();
    assert_eq!((state(&failing, RungName::Health), state(&failing, RungName::Link)), (RungState::Broken, RungState::Sound));
    let none = Sick::new("");
    none.describe(0, "");
    let ground = none.ground();
    assert_eq!((state(&ground, RungName::Link), state(&ground, RungName::Reads)), (RungState::Broken, RungState::Untested));
    assert!(health::ask(none.open().as_ref()).is_err());
}

#[test]
fn the_link_rung_reads_the_checks_and_proposes_the_next_one() {
    let sick = Sick::new("");
    let mut case = Case::open(&sick.at("s.drive.toml"), Some(sick.open().identity()), "Brackwater Line").unwrap();
    case.set_symptom("comes_and_goes", true).unwrap();
    case.set_check("system_lists", Some(Outcome::Yes), "").unwrap();
    case.set_check("other_cable", Some(Outcome::No), "the short one").unwrap();
    let ground = sick.ground();
    let link = ground.rungs.iter().find(|rung| rung.rung == RungName::Link).unwrap();
    let text: String = link.findings.iter().map(|finding| finding.what.clone() + "\n").collect();
    assert!(text.contains("another cable: no change (the short one)") && text.contains("may still be at fault"), "{text}");
    assert!(!text.contains("at fault: the cable") && link.next[0].contains("another port"), "{:?}", link.next);
}

#[test]
fn a_copy_is_proven_by_its_hashes_and_what_rots_is_fetched_again() {
    let sick = Sick::new("unreadable = [{ first_lba = 9000, sectors = 3 }]\n");
    let copied = sick.copy(&CopyOptions::default()).unwrap();
    assert_eq!(copied.failed_bytes, 1536);
    let verified = sick.verify();
    assert_eq!((verified.verified_bytes, verified.unproven_bytes, verified.rotten.len()), (copied.copied_bytes, 0, 0));
    let image = fs::File::options().write(true).open(sick.at("c.img")).unwrap();
    image.write_all_at(b"rot", 9 << 20).unwrap();
    let rotten = sick.verify().rotten;
    assert!(rotten.len() == 1 && rotten[0].contains(ByteOffset(9 << 20)));
    assert_eq!(sick.copy(&CopyOptions::default()).unwrap().copied_bytes, copied.copied_bytes);
    assert!(sick.verify().rotten.is_empty());
    let mut now = vec![0; sick.bytes.len()];
    fs::File::open(sick.at("c.img")).unwrap().read_exact_at(&mut now, 0).unwrap();
    assert!(now[9 << 20..] == sick.bytes[9 << 20..]);
}

#[test]
fn a_log_of_the_first_version_without_hashes_still_opens_and_goes_on() {
    let sick = Sick::new("");
    sick.copy(&CopyOptions::default()).unwrap();
    let log = copy_log_of(&sick.at("c.img"));
    let head = fs::read_to_string(&log).unwrap().lines().next().unwrap().to_string();
    // As it was written before hashes were kept: CRC-32 over place, length and state alone.
    let (at, bytes, state) = (0u64, 8 * MIB, 1u8);
    let mut crc = crc32fast::Hasher::new();
    crc.update(&at.to_le_bytes());
    crc.update(&bytes.to_le_bytes());
    crc.update(&[state]);
    let line = format!("{{\"at\":{at},\"bytes\":{bytes},\"state\":\"copied\",\"sum\":{}}}", crc.finalize());
    fs::write(&log, format!("{head}\n{line}\n")).unwrap();
    let (_, map) = CopyLog::read(&log).unwrap();
    assert_eq!(map.missing().iter().map(|range| range.start.0).collect::<Vec<_>>(), [8 * MIB]);
    let copied = sick.copy(&CopyOptions::default()).unwrap();
    assert_eq!((copied.copied_bytes, copied.resumed), (16 * MIB, true));
    let verified = sick.verify();
    assert_eq!((verified.verified_bytes, verified.unproven_bytes), (8 * MIB, 8 * MIB));
}

#[test]
fn a_drive_that_comes_back_with_another_length_stops_the_copy_and_a_page_that_grows_does_too() {
    let sick = Sick::new("link = { drop_after_reads = 6, away_reads = 2, comes_back_bytes = 8388608 }\n");
    let copied = sick.copy(&CopyOptions::default()).unwrap();
    assert_eq!(copied.stopped, Some(Stopped::OtherLength));
    assert!(copied.copied_bytes > 0 && copied.copied_bytes < 16 * MIB);
    let grows = Sick::new(
        "grown = { one_in = 2, sectors = 1, seed = 9 }\nslow = [{ first_lba = 0, sectors = 32768, ms = 5 }]\n[health.ata]\nattributes = [{ id = 197, raw = 3 }]\n",
    );
    let copied = grows.copy(&CopyOptions { most_grown: Some(2), ..CopyOptions::default() }).unwrap();
    assert_eq!(copied.stopped, Some(Stopped::Health));
}

/// A drive that is unplugged after so many requests, and found again as another descriptor of the system.
struct Replugged {
    inner: SharedSource,
    left: std::sync::atomic::AtomicI64,
    found: SharedSource,
}

impl keel_source::Source for Replugged {
    fn identity(&self) -> &keel_source::Identity {
        self.inner.identity()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), keel_source::ReadError> {
        let wanted = keel_source::ByteRange::sized(at, buf.len() as u64);
        if self.left.fetch_sub(1, std::sync::atomic::Ordering::Relaxed) <= 0 {
            return Err(keel_source::ReadError::of(wanted, "no such device").because(keel_source::ReadCause::LinkLost));
        }
        self.inner.read_at(at, buf)
    }

    fn look_up_anew(&self) -> Result<SharedSource, keel_source::SourceError> {
        Ok(SharedSource::clone(&self.found))
    }
}

#[test]
fn a_drive_that_comes_back_under_another_name_is_found_and_the_copy_goes_on() {
    let sick = Sick::new("");
    let replugged =
        |found: SharedSource| -> SharedSource { std::sync::Arc::new(Replugged { inner: sick.open(), left: 5.into(), found }) };
    let copied = |found: SharedSource, name: &str| {
        copy(
            &replugged(found),
            &sick.at(name),
            &CopyOptions { link_wait: Duration::from_millis(900), ..CopyOptions::default() },
            &Desk::new(Cancel::default()).0,
        )
        .unwrap()
    };
    let whole = copied(sick.open(), "same.img");
    assert_eq!((whole.copied_bytes, whole.link_drops, whole.stopped), (16 * MIB, 1, None));
    assert!(fs::read(sick.at("same.img")).unwrap() == sick.bytes);
    // Another drive in its place is not taken for it.
    let other = Sick::new("");
    let stopped = copied(other.open(), "other.img");
    assert!(stopped.stopped == Some(Stopped::Link) && stopped.copied_bytes == 5 * MIB, "{stopped:?}");
}

#[test]
fn a_copy_rests_and_a_pass_is_skipped_on_request() {
    let sick = Sick::new("unreadable = [{ first_lba = 4000, sectors = 2000 }]\n");
    let options = CopyOptions::default();
    let control = options.control.clone();
    control.pause(true);
    let (source, dest) = (sick.open(), sick.at("c.img"));
    let work = std::thread::spawn(move || copy(&source, &dest, &options, &Desk::new(Cancel::default()).0).unwrap());
    std::thread::sleep(Duration::from_millis(150));
    assert!(!work.is_finished() && control.is_paused());
    control.skip_pass();
    control.pause(false);
    let copied = work.join().unwrap();
    assert!(copied.stopped.is_none() && copied.copied_bytes < 16 * MIB - 2000 * 512, "the sound parts were skipped");
    // What a skipped pass left is there for the next run.
    assert_eq!(sick.copy(&CopyOptions::default()).unwrap().copied_bytes, 16 * MIB - 2000 * 512);
}

#[test]
fn a_copy_goes_to_a_device_under_its_own_code_and_opens_there_with_what_it_lacks() {
    let sick = Sick::new("unreadable = [{ first_lba = 9000, sectors = 8 }]\n");
    let device = |bytes: u64| {
        let image = sick.at(&format!("device-{bytes}.img"));
        fs::File::create(&image).unwrap().set_len(bytes).unwrap();
        fs::File::options().write(true).open(&image).unwrap().write_all_at(&[0xEE; 4096], 4 << 20).unwrap();
        let output = Command::new("losetup").args(["--find", "--show"]).arg(&image).output().unwrap();
        PathBuf::from(String::from_utf8(output.stdout).unwrap().trim())
    };
    let (small, large) = (device(8 * MIB), device(20 * MIB));
    let to = |path: &PathBuf, code: Option<String>| {
        let options = CopyOptions {
            confirmation: code.map(Confirmation::Code),
            passes: vec![Pass::Sound, Pass::Edges, Pass::Inner],
            ..CopyOptions::default()
        };
        copy(&sick.open(), path, &options, &Desk::new(Cancel::default()).0)
    };
    let code = |path: &PathBuf| keel_source::open(path, OpenOptions::default()).unwrap().identity().code();
    assert!(matches!(to(&large, None), Err(CoreError::Refused(Refusal::DestinationCode { .. }))));
    assert!(matches!(to(&small, Some(code(&small))), Err(CoreError::Refused(Refusal::DestinationSmall { .. }))));
    let copied = to(&large, Some(code(&large))).unwrap();
    assert_eq!(copied.copied_bytes, 16 * MIB - 8 * 512);
    let seen = yard::open(&large, OpenOptions::default()).unwrap();
    assert_eq!(seen.missing().iter().map(|range| range.start.0).collect::<Vec<_>>(), [9000 * 512, 16 * MIB]);
    let mut now = vec![0; 8 * MIB as usize];
    seen.read_at(ByteOffset(8 << 20), &mut now).unwrap();
    assert!(now == sick.bytes[8 << 20..]);
    let verified = copy::verify(&large, None, &Desk::new(Cancel::default()).0).unwrap();
    assert_eq!((verified.verified_bytes, verified.rotten.len()), (copied.copied_bytes, 0));
    drop(seen);
    for path in [small, large] {
        Command::new("losetup").arg("--detach").arg(path).status().unwrap();
    }
}

#[test]
fn a_full_or_vanished_destination_is_an_error_and_the_copy_goes_on_later() {
    let sick = Sick::new("");
    let point = sick.at("small");
    fs::create_dir_all(&point).unwrap();
    crate::support::run(Command::new("mount").args(["-t", "tmpfs", "-o", "size=6m", "tmpfs"]).arg(&point));
    let dest = point.join("c.img");
    let full = copy(&sick.open(), &dest, &CopyOptions::default(), &Desk::new(Cancel::default()).0);
    assert!(matches!(&full, Err(CoreError::File { action: "write" | "flush", .. })), "{full:?}");
    crate::support::run(Command::new("mount").args(["-o", "remount,size=40m"]).arg(&point));
    let copied = copy(&sick.open(), &dest, &CopyOptions::default(), &Desk::new(Cancel::default()).0).unwrap();
    assert_eq!((copied.copied_bytes, copied.resumed), (16 * MIB, true));
    let mut now = vec![0; sick.bytes.len()];
    fs::File::open(&dest).unwrap().read_exact_at(&mut now, 0).unwrap();
    assert!(now == sick.bytes);
    crate::support::run(Command::new("umount").arg(&point));
    let nowhere =
        copy(&sick.open(), &sick.at("no folder").join("c.img"), &CopyOptions::default(), &Desk::new(Cancel::default()).0);
    assert!(matches!(nowhere, Err(CoreError::Source(_) | CoreError::File { .. })));
}

#[test]
fn a_drive_behind_whose_end_nothing_reads_has_a_capacity_in_doubt() {
    // From 9 MiB on nothing comes.
    let ends = Sick::new("unreadable = [{ first_lba = 18432, sectors = 14336 }]");
    let ground = Ground::ask(&ends.open(), &Cancel::default(), &mut |_| {});
    assert_eq!(state(&ground, RungName::Capacity), RungState::Doubtful);
    let rung = ground.rungs.iter().find(|rung| rung.rung == RungName::Capacity).unwrap();
    let at = rung.findings[0].at_byte.unwrap().0;
    assert!((9 * MIB..10 * MIB).contains(&at), "{at}: {:?}", rung.findings);
    // One that fails in the middle, and one that fails here and there, say nothing of the end.
    for faults in [
        "unreadable = [{ first_lba = 12000, sectors = 4000 }]",
        "unreadable = [{ first_lba = 2000, sectors = 700 }, { first_lba = 18432, sectors = 14336 }]",
        "",
    ] {
        let ground = Ground::ask(&Sick::new(faults).open(), &Cancel::default(), &mut |_| {});
        assert_eq!(state(&ground, RungName::Capacity), RungState::Untested, "{faults}");
    }
}

#[test]
fn a_drive_that_shows_less_than_it_has_says_how_much_is_hidden() {
    let hides = Sick::new("native_bytes = 20971520");
    let ground = Ground::ask(&hides.open(), &Cancel::default(), &mut |_| {});
    let rung = ground.rungs.iter().find(|rung| rung.rung == RungName::Capacity).unwrap();
    assert_eq!((rung.state, rung.note.as_str()), (RungState::Doubtful, "shows less than it has"));
    let told = rung.findings.iter().find(|finding| finding.what.contains("4194304 bytes")).unwrap();
    assert_eq!(told.at_byte.map(|at| at.0), Some(16 * MIB), "{told:?}");
    // One that has what it shows hides nothing; one that has less is no such drive.
    let honest = Sick::new("native_bytes = 16777216");
    assert_eq!(state(&Ground::ask(&honest.open(), &Cancel::default(), &mut |_| {}), RungName::Capacity), RungState::Untested);
    let odd = Sick::new("native_bytes = 512");
    assert!(yard::open(&odd.at("s.drive.toml"), OpenOptions::default()).is_err());
}

#[test]
fn a_copy_stops_when_the_drive_says_that_it_is_too_warm() {
    let warm = Sick::new("health = { ata = { attributes = [{ id = 194, raw = 57 }] } }");
    let copied = warm.copy(&CopyOptions { most_celsius: Some(55), ..CopyOptions::default() }).unwrap();
    assert_eq!(copied.stopped, Some(Stopped::Heat));
    let copied = warm.copy(&CopyOptions { most_celsius: Some(60), ..CopyOptions::default() }).unwrap();
    assert_eq!((copied.stopped, copied.copied_bytes, copied.resumed), (None, 16 * MIB, true));
}

/// What of a copy came over in its first pass alone, and what that cost.
fn first_pass(drive: &Sick, heads: bool) -> Copied {
    drive.forget();
    drive.copy(&CopyOptions { passes: vec![Pass::Sound], heads, ..CopyOptions::default() }).unwrap()
}

#[test]
fn the_bands_of_a_dead_head_are_learnt_and_gone_around() {
    // Even steps; steps that shrink, as tracks do towards the middle; and each twice as wide at last.
    let even = "stripes = [{ first_lba = 1000, sectors = 31000, every = 2048, width = 300 }]".to_string();
    let drifting: Vec<(u64, u64)> = (0..14).map(|band| (1000 + band * 2048 - band * band * 4, 300)).collect();
    let widening: Vec<(u64, u64)> = (0..14).map(|band| (1000 + band * 2048, 300 + band * 8)).collect();
    let listed = |bands: &[(u64, u64)]| {
        let list: Vec<String> = bands.iter().map(|(lba, count)| format!("{{ first_lba = {lba}, sectors = {count} }}")).collect();
        format!("unreadable = [{}]", list.join(", "))
    };
    for faults in [even, listed(&drifting), listed(&widening)] {
        let drive = Sick::new(&faults);
        let (plain, learnt) = (first_pass(&drive, false), first_pass(&drive, true));
        let good = 16 * MIB - 15 * 400 * 512;
        assert!(learnt.copied_bytes > good - MIB, "{faults}: {} of {good} come first", learnt.copied_bytes);
        assert!(learnt.copied_bytes > plain.copied_bytes, "{faults}: {} {}", learnt.copied_bytes, plain.copied_bytes);
        assert!(learnt.errors < 45, "{faults}: {} errors", learnt.errors);
        // The other passes bring what there is, as ever: exactly the bad sectors are missing.
        let all = CopyOptions { again: 0, ..CopyOptions::default() };
        let goes_on = drive.copy(&CopyOptions { heads: true, ..all.clone() }).unwrap();
        drive.forget();
        let afresh = drive.copy(&all).unwrap();
        assert_eq!((goes_on.missing, goes_on.failed_bytes), (afresh.missing, afresh.failed_bytes), "{faults}");
    }
}

#[test]
fn bad_places_out_of_any_step_are_copied_as_ever_though_a_step_is_looked_for() {
    let odd = "unreadable = [{ first_lba = 900, sectors = 40 }, { first_lba = 5000, sectors = 3 }, { first_lba = 5700, sectors = 900 }, { first_lba = 20000, sectors = 40 }, { first_lba = 20500, sectors = 1 }, { first_lba = 32700, sectors = 68 }]";
    // Three in step, and then one that is not; and a band to the end.
    let broken = "unreadable = [{ first_lba = 1000, sectors = 100 }, { first_lba = 3000, sectors = 100 }, { first_lba = 5000, sectors = 100 }, { first_lba = 8200, sectors = 100 }, { first_lba = 9000, sectors = 23768 }]";
    for faults in [odd, broken] {
        let drive = Sick::new(faults);
        let heads = drive.copy(&CopyOptions { heads: true, again: 0, ..CopyOptions::default() }).unwrap();
        drive.forget();
        let plain = drive.copy(&CopyOptions { again: 0, ..CopyOptions::default() }).unwrap();
        assert_eq!((heads.missing, heads.copied_bytes), (plain.missing, plain.copied_bytes), "{faults}");
    }
}

#[test]
fn a_scsi_drives_log_pages_are_judged_like_any_others() {
    let judged = |values: &str| health::ask(Sick::new(&format!("health = {{ scsi = {{ {values} }} }}")).open().as_ref()).unwrap();
    let calm = judged("temperature = 38, read_corrected = 900");
    assert_eq!((calm.standing, calm.celsius(), calm.media_count()), (health::Standing::Sound, Some(38), 0));
    let worn = judged("temperature = 38, read_uncorrected = 3, write_uncorrected = 1");
    assert_eq!((worn.standing, worn.media_count()), (health::Standing::Worn, 4));
    assert!(worn.findings.iter().any(|finding| finding.what.contains("3 errors of reads")), "{:?}", worn.findings);
    let fails = judged("temperature = 61, fails_soon = true");
    assert_eq!(fails.standing, health::Standing::Failing);
    assert!(
        fails.findings.iter().any(|finding| finding.how.contains("5Dh"))
            && fails.findings.iter().any(|finding| finding.what.contains("61 °C"))
    );
}

#[test]
fn a_drive_that_is_not_ready_says_why_on_its_first_rung() {
    for (word, note) in
        [("becoming", "becoming ready"), ("stands_by", "stands by"), ("by_hand", "waits for a hand"), ("other", "not ready")]
    {
        let drive = Sick::new(&format!("link = {{ not_ready = \"{word}\" }}"));
        let ground = Ground::ask(&drive.open(), &Cancel::default(), &mut |_| {});
        let link = ground.rungs.iter().find(|rung| rung.rung == RungName::Link).unwrap();
        assert_eq!((link.state, link.note.as_str()), (RungState::Broken, note));
        assert!(link.findings[0].how.contains("TEST UNIT READY") && !link.next.is_empty());
    }
}

#[test]
fn what_a_drive_shows_is_held_against_its_label() {
    let drive = Sick::new("");
    let source = drive.open();
    let path = drive.at("s.drive.toml");
    let mut case = Case::open(&path, Some(source.identity()), "Brackwater Line").unwrap();
    for (label, state, words) in [
        ("label 17 MB", RungState::Untested, "as its label says"),
        ("label: 32 MB", RungState::Doubtful, "are missing"),
        ("no, the label says 8 MB", RungState::Doubtful, "more than it has"),
    ] {
        case.tell(label).unwrap();
        let ground = Ground::ask(&source, &Cancel::default(), &mut |_| {});
        let rung = ground.rungs.iter().find(|rung| rung.rung == RungName::Capacity).unwrap();
        assert_eq!(rung.state, state, "{label}: {rung:?}");
        assert!(rung.findings.iter().any(|finding| finding.what.contains(words)), "{label}: {:?}", rung.findings);
    }
}
