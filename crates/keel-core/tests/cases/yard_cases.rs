//! The drives on the bench: what is listed, what is said of each, and which call themselves alike.

use std::fs;
use std::path::Path;

use keel_core::case::{self, Case};
use keel_core::yard;
use keel_format::table::mbr::make::{NewEntry, mbr_sector};
use keel_source::OpenOptions;

use crate::support::MIB;

fn state() {
    static STATE: std::sync::OnceLock<tempfile::TempDir> = std::sync::OnceLock::new();
    case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
}

/// An image with a table of this identifier.
fn image(folder: &Path, name: &str, identifier: u32) {
    let entry = NewEntry { os_type: 0x07, boot_indicator: 0, starting_lba: 2048, size_in_lba: 2048 };
    let mut bytes = vec![0; 4 * MIB as usize];
    bytes[..512].copy_from_slice(&mbr_sector(&[], identifier, &[entry]));
    fs::write(folder.join(name), bytes).unwrap();
}

#[test]
fn drives_are_listed_by_name_with_their_notes_and_nothing_else_is() {
    state();
    let folder = tempfile::tempdir().unwrap();
    image(folder.path(), "b.img", 1);
    image(folder.path(), "a.raw", 2);
    fs::write(folder.path().join("b.note.txt"), "shows as\nraw \u{1b}[31m since the storm").unwrap();
    fs::write(folder.path().join("letter.txt"), "no drive").unwrap();
    fs::create_dir(folder.path().join("folder.img")).unwrap();
    fs::write(
        folder.path().join("c.drive.toml"),
        "version = 1\nclaimed_bytes = 0\nidentity = { model = \"M\", serial = \"S\" }\n",
    )
    .unwrap();
    fs::write(folder.path().join("d.drive.toml"), "this is no description").unwrap();
    let berths = yard::list(folder.path()).unwrap();
    let names: Vec<String> = berths.iter().map(|berth| berth.path.file_name().unwrap().to_string_lossy().into_owned()).collect();
    assert_eq!(names, ["a.raw", "b.img", "c.drive.toml", "d.drive.toml"]);
    let told = berths[1].symptom.as_deref().unwrap();
    assert!(told.starts_with("shows as raw") && !told.contains('\u{1b}'), "{told}");
    assert_eq!(berths[0].symptom, None);
    assert_eq!(berths[2].identity.as_ref().unwrap().bytes, 0);
    // One that does not open is listed, with the reason.
    assert!(berths[3].identity.is_none() && !berths[3].problem.as_ref().unwrap().is_empty());
    assert!(yard::list(&folder.path().join("none")).is_err());
}

#[test]
fn drives_that_call_themselves_alike_are_told_to_one_another() {
    state();
    let folder = tempfile::tempdir().unwrap();
    for (name, identifier) in [("one.img", 0xBAC0), ("two.img", 0xBAC0), ("three.img", 0xBAC1), ("none.img", 0)] {
        image(folder.path(), name, identifier);
    }
    let berths = yard::list(folder.path()).unwrap();
    let alike = |name: &str| {
        let berth = berths.iter().find(|berth| berth.path.ends_with(name)).unwrap();
        berth.same_identifier.iter().map(|path| path.file_name().unwrap().to_string_lossy().into_owned()).collect::<Vec<_>>()
    };
    assert_eq!(alike("one.img"), ["two.img"]);
    assert_eq!(alike("two.img"), ["one.img"]);
    assert!(alike("three.img").is_empty());
}

#[test]
fn a_case_stands_with_its_drive_and_a_note_that_is_too_long_is_cut() {
    state();
    let folder = tempfile::tempdir().unwrap();
    image(folder.path(), "quay.img", 7);
    let path = folder.path().join("quay.img");
    assert_eq!(yard::berth(path.clone()).case, None);
    let case = Case::open(&path, None, "Brackwater Line").unwrap();
    assert_eq!(yard::berth(path.clone()).case, Some(case.record.name));
    fs::write(folder.path().join("quay.note.txt"), "x".repeat(1 << 20)).unwrap();
    assert!(yard::berth(path.clone()).symptom.unwrap().len() < 4096);
    fs::write(folder.path().join("quay.note.txt"), "  \n ").unwrap();
    assert_eq!(yard::berth(path).symptom, None, "an empty note is none");
}

#[test]
fn only_what_is_no_device_is_written_without_its_code() {
    state();
    let folder = tempfile::tempdir().unwrap();
    image(folder.path(), "quay.img", 7);
    let source = keel_source::open(&folder.path().join("quay.img"), OpenOptions::default()).unwrap();
    assert!(yard::takes_yes(source.identity()));
    let device = keel_source::Identity { link: keel_source::LinkKind::BlockDevice, ..source.identity().clone() };
    assert!(!yard::takes_yes(&device));
    // Devices are listed by their names and not opened; there may be none.
    for device in yard::devices() {
        assert!(device.starts_with("/dev") && !device.to_string_lossy().contains("zram"));
    }
}
