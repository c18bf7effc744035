use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::sync::Arc;

use proptest::prelude::*;

use super::*;

fn pattern(len: usize) -> Vec<u8> {
    (0..len).map(|at| (at / 512 * 7 + at % 251) as u8).collect()
}

#[test]
fn an_image_reads_at_any_position_and_names_what_lies_behind_its_end() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.img");
    let bytes = pattern(5000);
    fs::write(&path, &bytes).unwrap();
    let source = open(&path, OpenOptions::default()).unwrap();
    let mut buf = vec![0xAA; 1000];
    source.read_at(ByteOffset(777), &mut buf).unwrap();
    assert_eq!(buf, bytes[777..1777]);
    let error = source.read_at(ByteOffset(4900), &mut buf).unwrap_err();
    assert_eq!(error.bad, [ByteRange::new(ByteOffset(5000), ByteOffset(5900))]);
    assert_eq!(error.cause, ReadCause::PastEnd);
    assert_eq!(buf[..100], bytes[4900..]);
    assert!(buf[100..].iter().all(|byte| *byte == 0));
}

#[test]
fn an_image_that_shrinks_is_an_error_of_the_missing_bytes() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.img");
    fs::write(&path, pattern(4096)).unwrap();
    let source = open(&path, OpenOptions::default()).unwrap();
    File::options().write(true).open(&path).unwrap().set_len(1024).unwrap();
    let mut buf = vec![0; 2048];
    let error = source.read_at(ByteOffset(0), &mut buf).unwrap_err();
    assert_eq!(error.bad, [ByteRange::new(ByteOffset(1024), ByteOffset(2048))]);
    assert_eq!(buf[..1024], pattern(1024));
}

#[test]
fn holes_of_a_sparse_image_are_known() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("sparse.img");
    let file = File::create(&path).unwrap();
    file.set_len(1 << 30).unwrap();
    file.write_all_at(&[1; 4096], 64 << 20).unwrap();
    let source = open(&path, OpenOptions::default()).unwrap();
    let data = source.next_data(ByteOffset(0)).unwrap();
    assert!(data.contains(ByteOffset(64 << 20)) && data.len() < 1 << 20, "{data:?}");
    assert_eq!(source.next_data(data.end), None);
    let window = Window::new(Arc::clone(&source), ByteRange::sized(ByteOffset(32 << 20), 64 << 20));
    assert!(window.next_data(ByteOffset(0)).unwrap().contains(ByteOffset(32 << 20)));
}

#[test]
fn what_is_no_source_is_refused_with_its_name() {
    let folder = tempfile::tempdir().unwrap();
    let small = folder.path().join("small.img");
    fs::write(&small, [0; 511]).unwrap();
    let empty = folder.path().join("empty.img");
    fs::write(&empty, []).unwrap();
    let text = |path| match open(path, OpenOptions::default()) {
        Ok(_) => panic!("opened"),
        Err(error) => error.to_string(),
    };
    assert!(text(&small).contains("small.img holds 511 bytes"));
    assert!(text(&empty).contains("empty.img holds 0 bytes"));
    assert!(text(folder.path()).contains("is a folder"));
    assert!(text(&folder.path().join("none.img")).contains("cannot open"));
    assert!(matches!(
        open(&small, OpenOptions { sector_size: Some(500), ..OpenOptions::default() }),
        Err(SourceError::SectorSize(500))
    ));
}

#[test]
fn split_parts_read_and_write_as_one_drive() {
    let folder = tempfile::tempdir().unwrap();
    let bytes = pattern(512 * 9);
    let name = |number: usize| folder.path().join(format!("drive.{number:03}"));
    fs::write(name(1), &bytes[..1024]).unwrap();
    fs::write(name(2), &bytes[1024..1536]).unwrap();
    fs::write(name(3), &bytes[1536..]).unwrap();
    let source = open(&name(1), OpenOptions::default()).unwrap();
    assert_eq!(source.len(), bytes.len() as u64);
    let mut buf = vec![0; 2000];
    source.read_at(ByteOffset(700), &mut buf).unwrap();
    assert_eq!(buf, bytes[700..2700]);
    let mut target = source.open_target(&Leave::without_code(source.identity()).unwrap()).unwrap();
    target.write_at(ByteOffset(1000), &[9; 600]).unwrap();
    target.flush().unwrap();
    source.read_at(ByteOffset(999), &mut buf[..602]).unwrap();
    assert_eq!((buf[0], buf[1], buf[600], buf[601]), (bytes[999], 9, 9, bytes[1600]));
    assert!(target.write_at(ByteOffset(512 * 9 - 1), &[0; 2]).is_err());
}

const DRIVE: &str = r#"
version = 1
claimed_bytes = 1048576
logical_sector = 512
physical_sector = 4096
identity = { model = "Mudlark 1", serial = "BL-0001", firmware = "0.9" }
backing = [{ file = "a.img", at_byte = 0 }, { file = "b.img", at_byte = 524288 }]
unreadable = [{ first_lba = 2, sectors = 2 }]
clock = { read_us = 100, bytes_per_second = 1000000, unreadable_ms = 700 }
"#;

fn simulated(folder: &std::path::Path, text: &str) -> Result<SimulatedDrive, SourceError> {
    fs::write(folder.join("a.img"), pattern(8192)).unwrap();
    fs::write(folder.join("b.img"), pattern(4096)).unwrap();
    let path = folder.join("m.drive.toml");
    fs::write(&path, text).unwrap();
    SimulatedDrive::open(&path, None)
}

#[test]
fn a_simulated_drive_has_backing_holes_faults_and_a_clock() {
    let folder = tempfile::tempdir().unwrap();
    let drive = simulated(folder.path(), DRIVE).unwrap();
    assert_eq!(drive.identity().serial.as_deref(), Some("BL-0001"));
    assert_eq!(drive.identity().physical_sector.0, 4096);
    let mut buf = vec![1; 4096];
    let error = drive.read_at(ByteOffset(0), &mut buf).unwrap_err();
    assert_eq!(error.bad, [ByteRange::new(ByteOffset(1024), ByteOffset(2048))]);
    assert_eq!(buf[2048..], pattern(4096)[2048..]);
    assert!(buf[1024..2048].iter().all(|byte| *byte == 0));
    assert_eq!(drive.elapsed().unwrap().as_micros(), 100 + 4096 + 1_400_000);
    drive.read_at(ByteOffset(524_288), &mut buf).unwrap();
    assert_eq!(buf, pattern(4096));
    drive.read_at(ByteOffset(100_000), &mut buf).unwrap();
    assert!(buf.iter().all(|byte| *byte == 0));
}

#[test]
fn a_simulated_drive_keeps_what_is_written_also_into_its_holes() {
    let folder = tempfile::tempdir().unwrap();
    let drive = simulated(folder.path(), DRIVE).unwrap();
    let mut target = drive.open_target(&Leave::without_code(drive.identity()).unwrap()).unwrap();
    target.write_at(ByteOffset(8000), &[5; 1000]).unwrap();
    target.write_at(ByteOffset(1_048_576 - 512), &[6; 512]).unwrap();
    assert!(matches!(target.write_at(ByteOffset(1024), &[5; 10]), Err(SourceError::Write { .. })));
    drop(target);
    drop(drive);
    let again = SimulatedDrive::open(&folder.path().join("m.drive.toml"), None).unwrap();
    let mut buf = vec![0; 1002];
    again.read_at(ByteOffset(7999), &mut buf).unwrap();
    assert_eq!((buf[0], buf[1], buf[1000], buf[1001]), (pattern(8192)[7999], 5, 5, 0));
    again.read_at(ByteOffset(1_048_576 - 512), &mut buf[..512]).unwrap();
    assert_eq!(buf[..512], [6; 512]);
    assert!(again.next_data(ByteOffset(600_000)).unwrap().end.0 == 1_048_576);
}

#[test]
fn a_wrong_description_is_refused_with_line_and_key() {
    let folder = tempfile::tempdir().unwrap();
    let refused = |text: &str| match simulated(folder.path(), text) {
        Ok(_) => panic!("opened: {text}"),
        Err(error) => error.to_string(),
    };
    let wrong_key = refused(&DRIVE.replace("logical_sector", "logicl_sector"));
    assert!(wrong_key.contains("line 4") && wrong_key.contains("logicl_sector"), "{wrong_key}");
    let wrong_size = refused(&DRIVE.replace("logical_sector = 512", "logical_sector = 500"));
    assert!(wrong_size.contains("line 4") && wrong_size.contains("500"), "{wrong_size}");
    assert!(refused(&DRIVE.replace("1048576", "9000")).contains("claimed_bytes"));
    assert!(refused("version = 1").contains("identity"));
    assert!(refused(&DRIVE.replace("524288", "100")).contains("overlap"));
}

#[test]
fn apply_takes_the_lock_alone() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.img");
    fs::write(&path, pattern(4096)).unwrap();
    let first = open(&path, OpenOptions::default()).unwrap();
    let second = open(&path, OpenOptions::default()).unwrap();
    assert!(matches!(first.open_target(&Leave::without_code(first.identity()).unwrap()), Err(SourceError::Locked { .. })));
    drop(second);
    let target = first.open_target(&Leave::without_code(first.identity()).unwrap()).unwrap();
    assert!(matches!(open(&path, OpenOptions::default()), Err(SourceError::Locked { .. })));
    drop(target);
    assert!(open(&path, OpenOptions::default()).is_ok());
}

#[test]
fn an_overlay_cures_a_bad_sector_that_it_covers() {
    let bad = ByteRange::sized(ByteOffset(512), 1024);
    let below: SharedSource = Arc::new(MemorySource::new("m", pattern(4096), 512).with_bad(bad));
    let mut overlay = Overlay::new(below);
    overlay.lay(ByteOffset(512), &[3; 512]);
    let mut buf = vec![0; 4096];
    let error = overlay.read_at(ByteOffset(0), &mut buf).unwrap_err();
    assert_eq!(error.bad, [ByteRange::sized(ByteOffset(1024), 512)]);
    assert_eq!(buf[512..1024], [3; 512]);
    assert!(overlay.read_at(ByteOffset(0), &mut buf[..1024]).is_ok());
}

#[test]
fn a_failed_write_blocks_all_later_ones() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.img");
    fs::write(&path, pattern(4096)).unwrap();
    let source = open(&path, OpenOptions::default()).unwrap();
    let mut target = source.open_target(&Leave::without_code(source.identity()).unwrap()).unwrap();
    assert!(target.write_at(ByteOffset(4000), &[0; 200]).is_err());
    let mut memory = MemoryTarget::new(vec![0; 1024]);
    memory.fail_after = Some(1);
    memory.write_at(ByteOffset(0), &[1]).unwrap();
    assert!(memory.write_at(ByteOffset(1), &[1]).is_err() && memory.flush().is_err());
}

#[test]
fn sizes_are_decimal_and_control_characters_visible() {
    assert_eq!(size_decimal(15_931_539_456), "15.9 GB");
    assert_eq!(size_decimal(512), "512 B");
    assert_eq!(size_decimal(500_107_862_016), "500 GB");
    assert_eq!(printable("a\u{1b}[31m\u{202e}b\n"), "a␛[31m\u{fffd}b␊");
}

#[test]
fn a_code_depends_on_the_drive_and_has_no_look_alikes() {
    let one = Identity::bare("a", 1, LinkKind::Image);
    let two = Identity::bare("a", 2, LinkKind::Image);
    assert_ne!(one.code(), two.code());
    assert_eq!(one.code().len(), 7);
    assert!(!one.code().contains(['0', 'O', '1', 'I']));
}

/// Each byte says where it stands.
#[derive(Debug)]
struct Places;

impl Generate for Places {
    fn name(&self) -> &'static str {
        "places"
    }

    fn fill(&self, at: u64, buf: &mut [u8]) {
        buf.iter_mut().zip(at..).for_each(|(slot, place)| *slot = (place % 251) as u8 + 1);
    }
}

/// Bytes that are held, zeros, or made.
fn payload() -> impl Strategy<Value = Payload> {
    prop_oneof![
        proptest::collection::vec(any::<u8>(), 1..900).prop_map(Payload::from),
        (1u64..900).prop_map(Payload::zeros),
        (1u64..900).prop_map(|bytes| Payload::Run(bytes, Arc::new(Places))),
    ]
}

proptest! {
    #[test]
    fn an_overlay_reads_like_a_patched_copy_and_tells_its_holes(
        edits in proptest::collection::vec((0usize..5000, payload()), 0..12),
        from in 0usize..4096, len in 1usize..2000,
    ) {
        let mut model = pattern(4096);
        let mut overlay = Overlay::new(Arc::new(MemorySource::new("m", model.clone(), 512)));
        for (at, payload) in &edits {
            overlay.lay_payload(ByteOffset(*at as u64), payload.clone());
            let mut bytes = vec![0; payload.len() as usize];
            payload.fill(0, &mut bytes);
            for (index, byte) in bytes.iter().enumerate() {
                if let Some(slot) = model.get_mut(at + index) {
                    *slot = *byte;
                }
            }
        }
        let mut buf = vec![0xEE; len];
        let result = overlay.read_at(ByteOffset(from as u64), &mut buf);
        let inside = len.min(4096 - from);
        prop_assert_eq!(&buf[..inside], &model[from..from + inside]);
        prop_assert_eq!(result.is_err(), inside < len);
        // Parts stand in order and apart, and what is told as a hole is zeros.
        let edited: Vec<ByteRange> = overlay.edited().collect();
        prop_assert!(edited.windows(2).all(|pair| pair[0].end <= pair[1].start) && edited.iter().all(|range| !range.is_empty()));
        let (mut at, mut told) = (0, vec![false; 4096]);
        while let Some(data) = overlay.next_data(ByteOffset(at)) {
            prop_assert!(data.start.0 >= at && data.end.0 > data.start.0 && data.end.0 <= 4096);
            told[data.start.0 as usize..data.end.0 as usize].fill(true);
            at = data.end.0;
        }
        prop_assert!(model.iter().zip(&told).all(|(byte, told)| *told || *byte == 0));
    }
}

#[test]
fn the_same_bytes_are_seen_in_sectors_of_another_size() {
    let inner: SharedSource =
        Arc::new(MemorySource::new("m", pattern(10_240), 512).with_bad(ByteRange::sized(ByteOffset(8192), 512)));
    let view = Resectored::new(Arc::clone(&inner), SectorSize(4096));
    assert_eq!((view.sector_size(), view.len(), view.identity().link), (SectorSize(4096), 10_240, LinkKind::Derived));
    let mut buf = vec![0; 2048];
    // What lies behind the last whole sector stays readable, and a bad sector keeps its own size.
    let error = view.read_at(ByteOffset(8192), &mut buf).unwrap_err();
    assert_eq!(error.bad, [ByteRange::sized(ByteOffset(8192), 512)]);
    assert_eq!(buf[512..], pattern(10_240)[8704..]);
    assert_eq!(view.next_data(ByteOffset(0)), inner.next_data(ByteOffset(0)));
    assert!(matches!(view.open_target(&Leave::without_code(view.identity()).unwrap()), Err(SourceError::NotWritable { .. })));
}

#[test]
fn an_image_tells_when_it_was_changed_and_stays_quiet_when_it_was_read() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.img");
    fs::write(&path, pattern(4096)).unwrap();
    let mark = || open(&path, OpenOptions::default()).unwrap().change_mark().unwrap();
    let before = mark();
    let mut buf = vec![0; 4096];
    open(&path, OpenOptions::default()).unwrap().read_at(ByteOffset(0), &mut buf).unwrap();
    assert_eq!(mark(), before);
    std::thread::sleep(std::time::Duration::from_millis(20));
    File::options().write(true).open(&path).unwrap().write_all_at(b"changed", 100).unwrap();
    assert_ne!(mark(), before);
    // Another file under the same name, even of the same bytes, is another image.
    let now = mark();
    fs::copy(&path, folder.path().join("b.img")).unwrap();
    fs::rename(folder.path().join("b.img"), &path).unwrap();
    assert_ne!(mark(), now);
}

#[test]
fn a_simulated_drive_tells_of_writes_beside_its_backing_images() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("a.img"), pattern(4096)).unwrap();
    let text = "version = 1\nclaimed_bytes = 1048576\n[identity]\nmodel = \"Mudlark\"\nserial = \"BL-1\"\n\
                [[backing]]\nfile = \"a.img\"\nat_byte = 0\n";
    let drive = simulated(folder.path(), text).unwrap();
    let before = drive.change_mark().unwrap();
    assert_eq!(drive.change_mark().unwrap(), before);
    let mut target = drive.open_target(&Leave::without_code(drive.identity()).unwrap()).unwrap();
    target.write_at(ByteOffset(512 << 10), &[7; 512]).unwrap();
    target.flush().unwrap();
    drop(target);
    assert_ne!(drive.change_mark().unwrap(), before);
}

#[test]
fn a_window_reads_its_part_and_names_places_by_its_own_offsets() {
    let inner: SharedSource =
        Arc::new(MemorySource::new("m", pattern(8192), 512).with_bad(ByteRange::sized(ByteOffset(2048), 512)));
    let window = Window::new(Arc::clone(&inner), ByteRange::sized(ByteOffset(1024), 4096));
    let mut buf = vec![0; 1536];
    let error = window.read_at(ByteOffset(512), &mut buf).unwrap_err();
    assert_eq!(error.bad, [ByteRange::sized(ByteOffset(1024), 512)]);
    assert_eq!(buf[..512], pattern(8192)[1536..2048]);
    let error = window.read_at(ByteOffset(3584), &mut buf).unwrap_err();
    assert_eq!(error.bad, [ByteRange::sized(ByteOffset(4096), 1024)]);
    // A window that begins behind the end is empty, and one that reaches over it is cut.
    assert_eq!(Window::new(Arc::clone(&inner), ByteRange::sized(ByteOffset(9000), 10)).len(), 0);
    assert_eq!(Window::new(inner, ByteRange::sized(ByteOffset(8000), 1000)).len(), 192);
}

proptest! {
    #[test]
    fn ranges_overlap_as_their_bytes_do(one in (0u64..60, 0u64..20), other in (0u64..60, 0u64..20)) {
        let (one, other) = (ByteRange::sized(ByteOffset(one.0), one.1), ByteRange::sized(ByteOffset(other.0), other.1));
        let bytes = |range: ByteRange| (range.start.0..range.end.0).collect::<std::collections::BTreeSet<_>>();
        let both: Vec<u64> = bytes(one).intersection(&bytes(other)).copied().collect();
        prop_assert_eq!(one.overlap(other).map_or(0, ByteRange::len), both.len() as u64);
        prop_assert_eq!(one.overlap(other).map(|range| range.start.0), both.first().copied());
        if !other.is_empty() {
            prop_assert_eq!(one.covers(other), bytes(other).is_subset(&bytes(one)));
        }
    }
}

#[test]
fn flaky_places_read_at_last_slow_ones_take_their_time_and_one_request_ends_at_its_first_bad_sector() {
    let folder = tempfile::tempdir().unwrap();
    let text = format!(
        "{DRIVE}flaky = [{{ first_lba = 1, sectors = 1, tries = 2 }}]\nslow = [{{ first_lba = 8, sectors = 100, ms = 20 }}]\n"
    );
    let drive = simulated(folder.path(), &text).unwrap();
    let (mut buf, byte) = (vec![0; 4096], |at| ByteOffset(at));
    for (from, first) in [(0, 512), (0, 512), (0, 1024), (1536, 1536)] {
        let before = drive.elapsed().unwrap();
        let error = drive.read_once(byte(from), &mut buf).unwrap_err();
        assert_eq!(error.bad, [ByteRange::new(byte(first), byte(from + 4096))]);
        assert_eq!(buf[..(first - from) as usize], pattern(8192)[from as usize..first as usize]);
        let took = (drive.elapsed().unwrap() - before).as_micros() as u64;
        assert_eq!(took, 100 + (first - from + 512) + 700_000, "only the first bad sector costs");
    }
    let before = drive.elapsed().unwrap();
    drive.read_once(byte(2048), &mut buf).unwrap();
    assert_eq!((drive.elapsed().unwrap() - before).as_micros(), 100 + 4096 + 4 * 20_000);
    assert_eq!(buf, pattern(8192)[2048..6144]);
}

#[test]
fn a_link_drops_and_comes_back_and_its_interface_errors_are_the_same_in_every_run() {
    let folder = tempfile::tempdir().unwrap();
    let outcomes = |link: &str| -> Vec<Option<(bool, String)>> {
        let drive = simulated(folder.path(), &format!("{DRIVE}link = {{ {link} }}\n")).unwrap();
        let mut buf = vec![0; 512];
        (0..60)
            .map(|_| {
                drive.read_once(ByteOffset(0), &mut buf).err().map(|error| (error.cause == ReadCause::LinkLost, error.reason))
            })
            .collect()
    };
    let dropping = outcomes("drop_after_reads = 3, away_reads = 2, timeout_ms = 10");
    for (number, outcome) in dropping.iter().enumerate() {
        assert_eq!(outcome.as_ref().is_some_and(|(lost, _)| *lost), number % 5 >= 3, "{number}");
    }
    let cable = outcomes("interface_error_one_in = 6, seed = 4");
    let failed = cable.iter().flatten().filter(|(lost, reason)| !lost && reason.contains("interface error")).count();
    assert!((3..25).contains(&failed), "{failed} of 60");
    assert_eq!(cable, outcomes("interface_error_one_in = 6, seed = 4"));
    assert_ne!(cable, outcomes("interface_error_one_in = 6, seed = 5"));
}
