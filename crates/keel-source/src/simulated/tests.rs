use std::path::Path;

use super::*;
use crate::LinkKind;

const HEAD: &str = "version = 1\nclaimed_bytes = 65536\nidentity = { model = \"Mudlark 2\", serial = \"BL-0700\" }\n";

fn drive(folder: &Path, more: &str) -> SimulatedDrive {
    described(folder, &format!("{HEAD}{more}")).unwrap()
}

fn described(folder: &Path, text: &str) -> Result<SimulatedDrive, SourceError> {
    let path = folder.join("m.drive.toml");
    let _ = fs::remove_file(path.with_extension("spill"));
    fs::write(&path, text).unwrap();
    SimulatedDrive::open(&path, None)
}

fn sector(number: u64) -> [u8; 512] {
    [number as u8 + 1; 512]
}

/// Writes every claimed sector, from the first to the last, and reads all of them: which sector's bytes each one holds.
fn written_and_read(drive: &SimulatedDrive) -> Vec<Option<u64>> {
    let mut target = drive.open_target(&Leave::without_code(drive.identity()).unwrap()).unwrap();
    for number in 0..128 {
        target.write_at(ByteOffset(number * 512), &sector(number)).unwrap();
    }
    drop(target);
    (0..128)
        .map(|number| {
            let mut buf = [0; 512];
            drive.read_at(ByteOffset(number * 512), &mut buf).unwrap();
            assert!(buf.iter().all(|byte| *byte == buf[0]), "a sector is never mixed");
            (1..=128).contains(&buf[0]).then(|| u64::from(buf[0]) - 1)
        })
        .collect()
}

#[test]
fn a_drive_that_wraps_keeps_what_was_written_last_to_each_place() {
    let folder = tempfile::tempdir().unwrap();
    let seen = written_and_read(&drive(folder.path(), "capacity = { real_bytes = 15360, lie = \"wraps\" }\n"));
    // 30 real sectors: the last writer of each place is the highest address that leads there.
    assert!((0..128).all(|number| seen[number as usize] == Some(number % 30 + (127 - number % 30) / 30 * 30)));
    let two = "capacity = { real_bytes = 15360, lie = \"wraps\", wraps = [{ from_byte = 15360, modulus = 5120 }, { from_byte = 40960, modulus = 15360 }] }\n";
    let seen = written_and_read(&drive(folder.path(), two));
    assert_eq!(seen[0], seen[30], "sector 30 leads to 0, modulo 10");
    assert_eq!(seen[90], seen[0], "sector 90 leads to 0, modulo 30");
    assert_eq!(seen[29], Some(119), "119 is the last one that leads to 29");
}

#[test]
fn a_drive_that_drops_or_repeats_answers_in_its_own_way() {
    let folder = tempfile::tempdir().unwrap();
    let answers = |word: &str| {
        let text = format!("capacity = {{ real_bytes = 15360, lie = \"drops\", answers = \"{word}\" }}\n");
        let drive = drive(folder.path(), &text);
        let seen = written_and_read(&drive);
        assert!((0..30).all(|number| seen[number as usize] == Some(number)));
        let mut buf = [7; 512];
        drive.read_at(ByteOffset(20000 / 512 * 512), &mut buf).unwrap();
        (seen[30], buf[0])
    };
    assert_eq!(answers("zeros"), (None, 0));
    assert_eq!(answers("ones"), (None, 0xFF));
    assert_eq!(answers("stale").0, Some(29), "what went over the link last");
    let last = written_and_read(&drive(folder.path(), "capacity = { real_bytes = 15360, lie = \"repeats_last\" }\n"));
    assert!(last[29..].iter().all(|seen| *seen == Some(127)) && last[28] == Some(28));
}

#[test]
fn a_cache_hides_the_lie_until_it_is_flushed_or_pushed_out() {
    let folder = tempfile::tempdir().unwrap();
    for (empties, hides) in [(true, false), (false, true)] {
        let text = format!(
            "capacity = {{ real_bytes = 15360, lie = \"drops\" }}\ncache = {{ bytes = 2048, flush_empties = {empties} }}\n"
        );
        let drive = drive(folder.path(), &text);
        let mut target = drive.open_target(&Leave::without_code(drive.identity()).unwrap()).unwrap();
        let far = ByteOffset(100 * 512);
        let seen = |target: &mut Box<dyn WriteTarget>| {
            let mut buf = [0; 512];
            target.read_back(far, &mut buf).unwrap();
            buf[0] != 0
        };
        target.write_at(far, &sector(100)).unwrap();
        assert!(seen(&mut target), "the cache answers");
        target.flush().unwrap();
        assert_eq!(seen(&mut target), hides);
        for number in 0..4 {
            target.write_at(ByteOffset(number * 512), &sector(number)).unwrap();
        }
        assert!(!seen(&mut target), "pushed out");
    }
}

#[test]
fn stripes_chance_and_growth_fail_alike_in_every_run() {
    let folder = tempfile::tempdir().unwrap();
    let bad = |more: &str| -> Vec<u64> {
        let drive = drive(folder.path(), more);
        let mut buf = [0; 512];
        (0..128).filter(|number| drive.read_at(ByteOffset(number * 512), &mut buf).is_err()).collect()
    };
    let stripes = "stripes = [{ first_lba = 10, sectors = 50, every = 20, width = 3 }]\n";
    assert_eq!(bad(stripes), [10, 11, 12, 30, 31, 32, 50, 51, 52]);
    let striped = drive(folder.path(), stripes);
    assert_eq!(striped.next_data(ByteOffset(13 * 512)), Some(ByteRange::sized(ByteOffset(30 * 512), 1536)));
    let share = bad("flaky = [{ first_lba = 0, sectors = 128, fails = 0.5, seed = 3 }]\n");
    assert!(
        (40..90).contains(&share.len()) && share == bad("flaky = [{ first_lba = 0, sectors = 128, fails = 0.5, seed = 3 }]\n")
    );
    let grown = drive(folder.path(), "grown = { after_reads = 20, one_in = 10, sectors = 1, seed = 1 }\n");
    let mut buf = [0; 512];
    let failed = |from: u64, to: u64, buf: &mut [u8; 512]| {
        (from..to).filter(|at| grown.read_at(ByteOffset(at * 512), buf).is_err()).count()
    };
    assert_eq!(failed(0, 20, &mut buf), 0);
    assert!(failed(20, 128, &mut buf) > 2, "places went bad while they were read");
}

#[test]
fn what_a_slow_place_costs_grows_with_each_request() {
    let folder = tempfile::tempdir().unwrap();
    let drive = drive(folder.path(), "slow = [{ first_lba = 0, sectors = 8, ms = 1, grows_ms = 10 }]\n");
    let mut buf = [0; 512];
    let mut took = Vec::new();
    for _ in 0..4 {
        let before = drive.elapsed().unwrap();
        drive.read_at(ByteOffset(0), &mut buf).unwrap();
        took.push((drive.elapsed().unwrap() - before).as_millis());
    }
    assert_eq!(took, [1, 11, 21, 31]);
}

#[test]
fn a_write_protected_drive_and_an_unwritable_place_refuse() {
    let folder = tempfile::tempdir().unwrap();
    let text = |drive: &SimulatedDrive, at| {
        drive
            .open_target(&Leave::without_code(drive.identity()).unwrap())
            .unwrap()
            .write_at(ByteOffset(at), &sector(1))
            .unwrap_err()
            .to_string()
    };
    assert!(text(&drive(folder.path(), "write_protected = true\n"), 0).contains("write-protected"));
    let spotty = drive(folder.path(), "unwritable = [{ first_lba = 4, sectors = 1 }]\n");
    assert!(text(&spotty, 2048).contains("medium error") && spotty.read_at(ByteOffset(2048), &mut [0; 512]).is_ok());
}

#[test]
fn a_drive_of_no_bytes_opens_and_one_that_comes_back_shorter_is_another_length() {
    let folder = tempfile::tempdir().unwrap();
    let none = described(folder.path(), &HEAD.replace("65536", "0")).unwrap();
    assert!(none.is_empty() && none.next_data(ByteOffset(0)).is_none());
    assert_eq!(none.read_at(ByteOffset(0), &mut [0; 512]).unwrap_err().cause, ReadCause::PastEnd);
    let short = drive(folder.path(), "link = { drop_after_reads = 2, away_reads = 2, comes_back_bytes = 32768 }\n");
    let mut buf = [0; 512];
    let causes: Vec<Option<ReadCause>> =
        (0..6).map(|_| short.read_at(ByteOffset(60000 / 512 * 512), &mut buf).err().map(|error| error.cause)).collect();
    let (lost, end) = (Some(ReadCause::LinkLost), Some(ReadCause::PastEnd));
    assert_eq!(causes, [None, None, lost, lost, end, end]);
    assert_eq!(short.look_up_anew().err().map(|error| error.to_string()), Some("m is not there any more".into()), "away again");
    short.read_at(ByteOffset(0), &mut buf).unwrap_err();
    short.read_at(ByteOffset(0), &mut buf).unwrap_err();
    assert_eq!(short.look_up_anew().unwrap().len(), 32768);
}

#[test]
fn health_pages_count_what_happened_and_their_checksums_hold() {
    let folder = tempfile::tempdir().unwrap();
    let text = "grown = { one_in = 1, sectors = 1 }\n[health.ata]\nattributes = [{ id = 5, value = 90, threshold = 36, raw = 12, flags = 1 }, { id = 197, raw = 3 }]\n";
    let drive = drive(folder.path(), text);
    let pending = || {
        let Ok(HealthPage::Ata { data, thresholds, .. }) = drive.health_page() else { panic!("no ATA page") };
        for page in [&data, &thresholds] {
            assert_eq!(page.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)), 0);
        }
        assert_eq!((data[2], data[5], thresholds[3], data[7]), (5, 90, 36, 12));
        data[14 + 5]
    };
    assert_eq!(pending(), 3);
    let _ = drive.read_at(ByteOffset(0), &mut [0; 512]);
    assert_eq!(pending(), 4);
    let nvme =
        described(folder.path(), &format!("{HEAD}[health.nvme]\ntemperature = 41\nmedia_errors = 7\navailable_spare = 3\n"));
    let Ok(HealthPage::Nvme { log }) = nvme.unwrap().health_page() else { panic!("no NVMe log") };
    assert_eq!((u16::from_le_bytes([log[1], log[2]]), log[3], log[160]), (314, 3, 7));
}

#[test]
fn nonsense_in_a_description_is_named_with_its_line() {
    let folder = tempfile::tempdir().unwrap();
    let refused = |more: &str, key: &str| {
        let error = described(folder.path(), &format!("{HEAD}{more}\n")).err().unwrap_or_else(|| panic!("opened: {more}"));
        let text = error.to_string();
        assert!(text.contains("line 4") && text.contains(key), "{more}: {text}");
    };
    refused("capacity = { real_bytes = 70000, lie = \"wraps\" }", "real_bytes");
    refused("capacity = { real_bytes = 1000, lie = \"wraps\" }", "real_bytes");
    refused("capacity = { real_bytes = 512, lie = \"wraps\", answers = \"ones\" }", "answers");
    refused("capacity = { real_bytes = 1024, lie = \"wraps\", wraps = [{ from_byte = 1024, modulus = 0 }] }", "wraps");
    refused("capacity = { real_bytes = 1024, lie = \"wraps\", wraps = [{ from_byte = 2048, modulus = 512 }] }", "wraps");
    refused("flaky = [{ first_lba = 0, sectors = 1 }]", "flaky");
    refused("flaky = [{ first_lba = 0, sectors = 1, fails = 7.0 }]", "fails");
    refused("stripes = [{ first_lba = 0, sectors = 9, every = 0, width = 0 }]", "every");
    refused("grown = { one_in = 0, sectors = 1 }", "grown");
    refused("link = { drop_after_reads = 1, comes_back_bytes = 100 }", "comes_back_bytes");
    refused("capacity = { real_bytes = 512, lie = \"shrinks\" }", "shrinks");
}

const HIDES: &str = "native_bytes = 131072\n";

fn order(bytes: u64, lasts: Lasts) -> EndOrder {
    EndOrder { bytes, means: EndMeans::HostProtected, lasts }
}

#[test]
fn a_drive_that_holds_its_end_back_shows_it_when_told_and_forgets_that_with_its_power() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("whole.img"), [7; 131_072]).unwrap();
    let backing = "[[backing]]\nfile = \"whole.img\"\n";
    let small = drive(folder.path(), &format!("{HIDES}{backing}"));
    let path = small.path.clone();
    let anew = || SimulatedDrive::open(&path, None).unwrap();
    let leave = |drive: &SimulatedDrive| Leave::without_code(drive.identity()).unwrap();
    let behind = |drive: &SimulatedDrive| drive.read_at(ByteOffset(65_536), &mut [0; 512]);
    assert!(behind(&small).is_err());
    let further = FurtherEnd { bytes: 131_072, means: EndMeans::HostProtected };
    assert_eq!(small.own_size().further, [further]);
    assert_eq!(small.next_data(ByteOffset(0)), Some(ByteRange::sized(ByteOffset(0), 65_536)), "what is not shown is not there");
    assert_eq!(small.set_end(order(131_072, Lasts::UntilPowerIsCut), &leave(&small)).unwrap(), 131_072);
    let whole = anew();
    assert_eq!((whole.len(), small.look_up_anew().unwrap().len()), (131_072, 131_072));
    drop(small);
    assert!(behind(&whole).is_ok() && whole.own_size().further.is_empty());
    // Written where it was hidden, and still there when it is hidden and shown again.
    whole.open_target(&leave(&whole)).unwrap().write_at(ByteOffset(65_536), &[9; 512]).unwrap();
    drop(whole);
    assert_eq!(anew().stop().unwrap().len(), 1);
    let small = anew();
    assert_eq!(small.len(), 65_536, "its power was cut");
    small.set_end(order(131_072, Lasts::ForGood), &leave(&small)).unwrap();
    small.stop().unwrap();
    drop(small);
    let lasting = anew();
    let mut sector = [0; 512];
    lasting.read_at(ByteOffset(65_536), &mut sector).unwrap();
    assert_eq!((lasting.len(), sector), (131_072, [9; 512]));
    lasting.set_end(order(65_536, Lasts::ForGood), &leave(&lasting)).unwrap();
    assert_eq!(anew().len(), 65_536);
}

#[test]
fn an_end_that_the_drive_does_not_have_is_not_set() {
    let folder = tempfile::tempdir().unwrap();
    let hides = drive(folder.path(), HIDES);
    let leave = Leave::without_code(hides.identity()).unwrap();
    let orders = [
        order(131_584, Lasts::UntilPowerIsCut),
        order(1000, Lasts::UntilPowerIsCut),
        order(0, Lasts::ForGood),
        EndOrder { means: EndMeans::AccessibleMax, ..order(131_072, Lasts::ForGood) },
    ];
    for wrong in orders {
        assert!(matches!(hides.set_end(wrong, &leave), Err(SourceError::NotSet { .. })), "{wrong:?}");
    }
    let other = Leave::without_code(&Identity::bare("other", 1, LinkKind::Image)).unwrap();
    assert!(matches!(hides.set_end(order(131_072, Lasts::ForGood), &other), Err(SourceError::NoLeave { .. })));
    assert_eq!(SimulatedDrive::open(&hides.path, None).unwrap().len(), 65_536);
    let remembers = drive(folder.path(), &format!("{HIDES}native_means = \"accessible_max\"\n"));
    let passing = EndOrder { means: EndMeans::AccessibleMax, ..order(131_072, Lasts::UntilPowerIsCut) };
    assert!(remembers.set_end(passing, &leave).is_err(), "it would remember whatever it is told");
    // A drive without more than it shows has nothing to set, and a file beside it that says otherwise is named.
    let plain = drive(folder.path(), "");
    assert!(plain.own_size().further.is_empty() && plain.set_end(order(65_536, Lasts::ForGood), &leave).is_err());
    fs::write(folder.path().join("m.drive.end"), "lasting_bytes = 131072\n").unwrap();
    assert!(matches!(described(folder.path(), HEAD), Err(SourceError::Description { .. })));
}
