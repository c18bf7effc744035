use std::sync::Arc;

use keel_format::Geometry;
use keel_format::table::{self, Role, Scheme, TypeCode};
use keel_source::{MemorySource, SharedSource};
use proptest::prelude::*;

use super::*;
use crate::testing::find;

const MIB: u64 = 1 << 20;

fn drive() -> SharedSource {
    Arc::new(MemorySource::new("d", vec![0; 64 << 20], 512))
}

fn settled(finds: &[Find], choices: &Choices) -> Layout {
    let drive = drive();
    settle(&drive, &table::read(drive.as_ref()), finds, choices)
}

fn chosen(layout: &Layout) -> Vec<&str> {
    layout.entries.iter().filter_map(|entry| entry.find.as_deref()).collect()
}

#[test]
fn two_small_ones_beat_one_large_one_with_less_evidence_than_both() {
    // Greedy by weight would take the large one.
    let finds = [find(1, MIB, 10 * MIB, 60), find(2, 4 * MIB, 20 * MIB, 90), find(3, 12 * MIB, 20 * MIB, 60)];
    let layout = settled(&finds, &Choices::default());
    assert_eq!(chosen(&layout), ["n1", "n3"]);
    assert!(
        layout.left_out[0].why.contains("overlaps n1 and n3: more evidence there (weight 120 against 90)"),
        "{}",
        layout.left_out[0].why
    );
}

#[test]
fn holding_and_dropping_re_solves_the_rest() {
    let finds = [find(1, MIB, 10 * MIB, 60), find(2, 4 * MIB, 20 * MIB, 90), find(3, 12 * MIB, 20 * MIB, 60)];
    let hold = Choices { hold: ["n2".to_string()].into(), ..Choices::default() };
    let layout = settled(&finds, &hold);
    assert_eq!(chosen(&layout), ["n2"]);
    assert!(layout.left_out.iter().all(|left| left.why.contains("the technician holds")));
    let dropped = Choices { drop: ["n1".to_string()].into(), ..Choices::default() };
    let layout = settled(&finds, &dropped);
    assert_eq!(chosen(&layout), ["n2"]);
    assert!(layout.left_out.iter().any(|left| left.find == "n1" && left.why.contains("dropped")));
}

#[test]
fn more_than_four_volumes_get_a_gpt_or_logicals_with_room_for_their_ebrs() {
    let finds: Vec<Find> = (0..6).map(|index| find(index + 1, MIB + index as u64 * 8 * MIB, 7 * MIB, 80)).collect();
    assert_eq!(settled(&finds, &Choices::default()).scheme, Scheme::Gpt);
    let layout = settled(&finds, &Choices { scheme: Some(Scheme::Mbr), ..Choices::default() });
    let roles: Vec<Role> = layout.entries.iter().map(|entry| entry.role).collect();
    assert_eq!(roles, [Role::Primary, Role::Primary, Role::Primary, Role::Logical, Role::Logical, Role::Logical]);
    let tight: Vec<Find> = (0..6).map(|index| find(index + 1, MIB + index as u64 * 8 * MIB, 8 * MIB, 80)).collect();
    let layout = settled(&tight, &Choices { scheme: Some(Scheme::Mbr), ..Choices::default() });
    assert!(layout.left_out.iter().any(|left| left.why.contains("EBR")), "{:?}", layout.left_out);
}

#[test]
fn what_lies_on_the_table_or_behind_the_end_is_left_out_with_its_reason() {
    let finds = [find(1, 2048, MIB, 60), find(2, 60 * MIB, 10 * MIB, 60), find(3, 10 * MIB, MIB, 60)];
    let layout = settled(&finds, &Choices { scheme: Some(Scheme::Gpt), ..Choices::default() });
    assert_eq!(chosen(&layout), ["n3"]);
    let why: String = layout.left_out.iter().map(|left| left.why.clone()).collect();
    assert!(why.contains("sectors that the table itself needs") && why.contains("behind the end"), "{why}");
}

/// A drive whose MBR has an extended partition over `ground` and nothing else left of the chain.
fn with_container(first: u32, sectors: u32) -> SharedSource {
    use keel_format::table::mbr::make::{NewEntry, mbr_sector};
    let entry = NewEntry { os_type: 0x0F, boot_indicator: 0, starting_lba: first, size_in_lba: sectors };
    let mut bytes = vec![0; 64 << 20];
    bytes[..512].copy_from_slice(&mbr_sector(&[], 7, &[entry]));
    Arc::new(MemorySource::new("d", bytes, 512))
}

#[test]
fn volumes_in_the_extended_partition_come_back_as_logicals_even_when_there_is_room_for_primaries() {
    let finds = [find(1, MIB, 7 * MIB, 80), find(2, 17 * MIB, 7 * MIB, 80), find(3, 25 * MIB, 7 * MIB, 80)];
    let drive = with_container(16 * 2048, 30 * 2048);
    let layout = settle(&drive, &table::read(drive.as_ref()), &finds, &Choices::default());
    let roles: Vec<(u32, Role)> = layout.entries.iter().map(|entry| (entry.slot, entry.role)).collect();
    assert_eq!(roles, [(2, Role::Primary), (5, Role::Logical), (6, Role::Logical)]);
    assert!(layout.entries[1].why.contains("lies in the extended partition"));
}

#[test]
fn leaving_one_out_makes_room_for_the_ebr_of_the_next() {
    let tight: Vec<Find> =
        (0..6).map(|index| find(index + 1, MIB + index as u64 * 8 * MIB, 8 * MIB, 60 + index as i32)).collect();
    let layout = settled(&tight, &Choices { scheme: Some(Scheme::Mbr), ..Choices::default() });
    // Only the first has a free sector before it. Without n2 so has n3: two logicals and three primaries.
    assert_eq!(chosen(&layout), ["n1", "n3", "n4", "n5", "n6"]);
    let logicals: Vec<bool> = layout.entries.iter().map(|entry| entry.role == Role::Logical).collect();
    assert_eq!(logicals, [true, true, false, false, false]);
    assert_eq!(layout.left_out.len(), 1);
    assert!(layout.left_out[0].why.contains("choose GPT"), "{:?}", layout.left_out);
}

#[test]
fn the_technician_changes_a_type() {
    let finds = [find(1, MIB, 7 * MIB, 80)];
    let types = [("n1".to_string(), TypeCode::Mbr(0x27))].into();
    let layout = settled(&finds, &Choices { scheme: Some(Scheme::Mbr), types, ..Choices::default() });
    assert_eq!(layout.entries[0].type_code, TypeCode::Mbr(0x27));
    assert!(layout.entries[0].why.contains("chosen by the technician"));
}

#[test]
fn a_volume_that_starts_inside_a_sector_is_left_out_and_the_copy_offered() {
    let drive: SharedSource = Arc::new(MemorySource::new("d", vec![0; 64 << 20], 4096));
    let mut finds = [find(1, MIB + 512, 7 * MIB, 80), find(2, 9 * MIB, 7 * MIB, 80)];
    for find in &mut finds {
        if let Geometry::Ntfs(geometry) = &mut find.geometry {
            geometry.bytes_per_sector = 4096;
        }
    }
    let layout = settle(&drive, &table::read(drive.as_ref()), &finds, &Choices::default());
    assert_eq!(chosen(&layout), ["n2"]);
    assert!(layout.left_out[0].why.contains("inside a sector of 4096 bytes") && layout.left_out[0].why.contains("copy it"));
}

proptest! {
    #[test]
    fn the_solver_finds_the_best_set(spans in proptest::collection::vec((2u64..50, 1u64..12, 1i32..100), 1..11)) {
        let finds: Vec<Find> = spans.iter().enumerate().map(|(index, (start, len, score))| find(index + 1, start * MIB, len * MIB, *score)).collect();
        let layout = settled(&finds, &Choices { scheme: Some(Scheme::Gpt), ..Choices::default() });
        let weight = |set: &[&Find]| set.iter().map(|find| i64::from(find.score)).sum::<i64>();
        let best = (0u32..1 << finds.len())
            .map(|bits| finds.iter().enumerate().filter(|(index, _)| bits >> index & 1 == 1).map(|(_, find)| find).collect::<Vec<_>>())
            .filter(|set| set.iter().all(|one| set.iter().all(|two| one.id == two.id || one.range().overlap(two.range()).is_none())))
            .map(|set| weight(&set))
            .max()
            .unwrap();
        let got: Vec<&Find> = finds.iter().filter(|find| chosen(&layout).contains(&find.id.as_str())).collect();
        prop_assert_eq!(weight(&got), best);
        prop_assert_eq!(got.len() + layout.left_out.len(), finds.len());
    }
}

#[test]
fn what_is_set_by_hand_is_weighed_and_refused_where_there_is_no_room() {
    let finds = [find(1, MIB, 10 * MIB, 60), find(2, 20 * MIB, 10 * MIB, 90)];
    let set = |text: &str| {
        let by_hand = ByHand::typed(text, SectorSize(512)).unwrap();
        settled(&finds, &Choices { by_hand: [("n1".to_string(), by_hand)].into(), ..Choices::default() })
    };
    let entry = |layout: &Layout| {
        let entry = layout.entries.iter().find(|entry| entry.find.as_deref() == Some("n1")).unwrap().clone();
        (entry.first.0, entry.sectors.0, entry.type_code)
    };
    let (first, sectors, type_code) = entry(&settled(&finds, &Choices::default()));
    assert_eq!((first, sectors), (2048, 20_480));
    // Longer than the volume, up to its neighbour: taken.
    let longer = set("length 12 MiB");
    assert_eq!(entry(&longer), (2048, 24_576, type_code));
    assert!(longer.by_hand[0].refused.is_none() && longer.by_hand[0].speaks[0].for_it, "{:?}", longer.by_hand);
    // Shorter: taken, and what it cuts off is said.
    let shorter = set("length=20000");
    assert!(shorter.by_hand[0].speaks.iter().any(|speaks| !speaks.for_it && speaks.what.contains("the last 480 sectors")));
    // Another start: both what speaks against it.
    let moved = set("start 2049");
    assert_eq!(entry(&moved).0, 2049);
    assert_eq!(moved.by_hand[0].speaks.iter().filter(|speaks| !speaks.for_it).count(), 2, "{:?}", moved.by_hand);
    for (text, why) in [
        ("length 40MiB", "reaches into entry"),
        ("start 0 length 64", "does not lie between"),
        ("start 18446744073709551615", "no end"),
        ("length 0", "no length"),
        ("type 0fc63daf-8483-4772-8e79-3d69d8477de4", "no such type"),
    ] {
        let layout = set(text);
        assert_eq!(entry(&layout), (first, sectors, type_code), "{text}: it stands as the evidence has it");
        assert!(layout.by_hand[0].refused.as_ref().unwrap().contains(why), "{text}: {:?}", layout.by_hand);
    }
    assert!(set("type 0x83").by_hand[0].speaks.iter().any(|speaks| !speaks.for_it || speaks.what.contains("look for")));
    for wrong in ["begin 5", "start", "start 1.3 KiB", "type x", "start 5 5 5"] {
        assert!(ByHand::typed(wrong, SectorSize(512)).is_err(), "{wrong}");
    }
    assert!(ByHand::typed(" ", SectorSize(512)).unwrap().is_empty());
}

proptest! {
    #[test]
    fn entries_set_by_hand_never_overlap_or_leave_the_drive(first in 0u64..140_000, sectors in 0u64..140_000) {
        let finds = [find(1, MIB, 10 * MIB, 60), find(2, 20 * MIB, 10 * MIB, 90), find(3, 40 * MIB, 8 * MIB, 90)];
        let by_hand = ByHand { first: Some(Lba(first)), sectors: Some(SectorCount(sectors)), type_code: None };
        let choices = Choices { by_hand: [("n2".to_string(), by_hand)].into(), ..Choices::default() };
        for scheme in [Scheme::Mbr, Scheme::Gpt] {
            let layout = settled(&finds, &Choices { scheme: Some(scheme), ..choices.clone() });
            let sector = SectorSize(512);
            prop_assert!(layout.entries.iter().all(|entry| entry.range(sector).end.0 <= 64 * MIB && entry.sectors.0 > 0));
            prop_assert!(layout.entries.windows(2).all(|pair| pair[0].range(sector).end <= pair[1].range(sector).start));
        }
    }
}
