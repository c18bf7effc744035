use std::sync::Arc;

use keel_source::{ByteOffset, Cancel, MemorySource, SectorSize, SharedSource};

use super::named::label_named;
use super::{Found, NamedWrong, Pattern, PatternWrong, Way, named, search};
use crate::job::Desk;

const MIB: u64 = 1 << 20;

#[test]
fn a_place_is_named_by_byte_sector_unit_or_share() {
    let at = |text: &str| named(text, 4 << 30, SectorSize(512)).map(|at| at.0);
    for (text, byte) in [
        ("0", 0),
        ("1048576", MIB),
        (" 0x100000 ", MIB),
        ("1_048_576", MIB),
        ("1 048 576", MIB),
        ("lba 2048", MIB),
        ("LBA2048", MIB),
        ("lba 0x800", MIB),
        ("1 MiB", MIB),
        ("64mib", 64 * MIB),
        ("1.5 GB", 1_500_000_000),
        ("2gb", 2_000_000_000),
        ("50 %", 2 << 30),
        ("0%", 0),
        ("100 %", (4 << 30) - 1),
    ] {
        assert_eq!(at(text), Ok(byte), "{text}");
    }
    for text in [
        "",
        "abc",
        "12 parsecs",
        "lba",
        "lba x",
        "-1",
        "101 %",
        "-3 %",
        "nan %",
        "1e3 GB",
        "99999999999999999999",
        "lba 99999999999999999",
    ] {
        assert!(matches!(at(text), Err(NamedWrong::NoPlace(_))), "{text}: {:?}", at(text));
    }
    assert_eq!(at("4 GiB"), Err(NamedWrong::PastEnd { at: 4 << 30, bytes: 4 << 30 }));
    let large = named("lba 2048", 64 * MIB, SectorSize(4096));
    assert_eq!(large, Ok(ByteOffset(8 * MIB)), "a sector is the drive's");
    assert_eq!(named("0", 0, SectorSize(512)), Err(NamedWrong::PastEnd { at: 0, bytes: 0 }));
}

fn drive(marks: &[(u64, &[u8])]) -> SharedSource {
    let mut bytes = vec![0u8; 5 * MIB as usize];
    for (at, mark) in marks {
        bytes[*at as usize..*at as usize + mark.len()].copy_from_slice(mark);
    }
    Arc::new(MemorySource::new("quay", bytes, 512))
}

fn find(source: &SharedSource, text: &str, from: u64, way: Way) -> Option<u64> {
    let pattern = Pattern::typed(text).unwrap();
    search(source, &pattern, ByteOffset(from), way, &Desk::new(Cancel::default()).0).at.map(|at| at.0)
}

#[test]
fn text_and_bytes_are_found_forward_and_back_also_across_what_is_read_at_once() {
    let wide: Vec<u8> = "Purser".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let across = MIB - 3;
    let last = 5 * MIB - 6;
    let source = drive(&[(700, b"PURSER"), (across, b"purser"), (3 * MIB + 1, &wide), (last, b"Purser")]);
    let (mut at, mut forward) = (0, Vec::new());
    while let Some(found) = find(&source, "purser", at, Way::Forward) {
        forward.push(found);
        at = found + 1;
    }
    assert_eq!(forward, [700, across, 3 * MIB + 1, last]);
    let (mut at, mut back) = (5 * MIB, Vec::new());
    while let Some(found) = find(&source, "purser", at, Way::Back) {
        back.push(found);
        at = found;
    }
    back.reverse();
    assert_eq!(back, forward);
    let typed = find(&source, "hex: 50 75 72 73 65 72", 0, Way::Forward);
    assert_eq!(typed, Some(last), "bytes are taken as they are typed");
    assert_eq!(find(&source, "hex:00", 700, Way::Forward), Some(706));
    assert_eq!(find(&source, "harbour", 0, Way::Forward), None);
}

#[test]
fn what_cannot_be_searched_for_says_why_and_a_stopped_search_says_so() {
    let wrong = |text: &str| Pattern::typed(text).unwrap_err();
    assert_eq!((wrong(""), wrong("hex: ")), (PatternWrong::Empty, PatternWrong::Empty));
    for text in ["hex: e", "hex: eb 5x", "hex: é"] {
        assert!(matches!(wrong(text), PatternWrong::NoBytes(_)), "{text}");
    }
    assert_eq!(wrong(&"x".repeat(4000)), PatternWrong::TooLong(8000));
    let cancel = Cancel::default();
    cancel.cancel();
    let found = search(&drive(&[]), &Pattern::typed("x").unwrap(), ByteOffset(0), Way::Forward, &Desk::new(cancel).0);
    assert_eq!(found, Found { at: None, bytes: 0, unread: 0, stopped: true });
}

#[test]
fn a_label_is_read_from_a_note_where_it_has_a_unit() {
    for (text, bytes) in [
        ("label 2 TB", 2_000_000_000_000),
        ("The label says 500GB, bought in May", 500_000_000_000),
        ("it clicks\nLabel: 1.5 TB", 1_500_000_000_000),
        ("label: 1,5 TB.", 1_500_000_000_000),
    ] {
        assert_eq!(label_named(text), Some(bytes), "{text}");
    }
    for text in ["", "label", "label 2024", "2 TB", "the label of the volume is QUAY 2", "label 9 moons", "label .5", "label 5."]
    {
        assert_eq!(label_named(text), None, "{text}");
    }
}
