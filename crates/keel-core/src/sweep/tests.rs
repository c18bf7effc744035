use std::sync::Arc;

use keel_format::VolumeKind;
use keel_source::{ByteOffset, ByteRange, MemorySource, OpenOptions, SharedSource};

use super::state::{Keeper, SweepState};
use super::{Find, Grade, inside};
use crate::testing::find;

const MIB: u64 = 1 << 20;

fn range(start: u64, end: u64) -> ByteRange {
    ByteRange::new(ByteOffset(start), ByteOffset(end))
}

fn image(folder: &tempfile::TempDir, name: &str, byte: u8) -> SharedSource {
    let path = folder.path().join(name);
    std::fs::write(&path, vec![byte; 4 * MIB as usize]).unwrap();
    keel_source::open(&path, OpenOptions::default()).unwrap()
}

#[test]
fn what_was_looked_at_is_not_looked_at_again_and_what_is_left_is_told_piece_by_piece() {
    let folder = tempfile::tempdir().unwrap();
    let source = image(&folder, "quay.img", 1);
    let mut state = SweepState::new(&source);
    state.done.add(range(MIB, 2 * MIB));
    assert_eq!(state.left(&[range(0, 4 * MIB)]), [range(0, MIB), range(2 * MIB, 4 * MIB)]);
    assert_eq!(state.left(&[range(MIB, 2 * MIB)]), []);
    assert_eq!(state.left(&[range(MIB / 2, MIB), range(3 * MIB, 4 * MIB)]), [range(MIB / 2, MIB), range(3 * MIB, 4 * MIB)]);
    let path = folder.path().join("state/sweep.json");
    state.save(&path).unwrap();
    assert!(SweepState::is_of(&path, &source));
    assert_eq!(SweepState::load(&path, &source), Some(state));
}

#[test]
fn the_state_of_another_drive_or_of_one_that_changed_is_not_taken() {
    let folder = tempfile::tempdir().unwrap();
    let source = image(&folder, "quay.img", 1);
    let kept = folder.path().join("sweep.json");
    SweepState::new(&source).save(&kept).unwrap();
    assert!(SweepState::load(&kept, &image(&folder, "other.img", 1)).is_none(), "another drive that holds the same");
    drop(source);
    // The same name, another card: its edges are the same, its middle is not.
    let mut bytes = vec![1; 4 * MIB as usize];
    bytes[2 * MIB as usize..3 * MIB as usize].fill(9);
    std::fs::write(folder.path().join("quay.img"), bytes).unwrap();
    let changed = keel_source::open(&folder.path().join("quay.img"), OpenOptions::default()).unwrap();
    assert!(SweepState::load(&kept, &changed).is_none() && !SweepState::is_of(&kept, &changed));
    for text in ["", "{}", "[1, 2", "{\"version\": 4}"] {
        std::fs::write(&kept, text).unwrap();
        assert!(SweepState::load(&kept, &changed).is_none() && !SweepState::is_of(&kept, &changed), "{text:?}");
    }
    assert!(SweepState::load(&folder.path().join("none.json"), &changed).is_none());
}

#[test]
fn what_cannot_be_kept_is_said_once_and_the_scan_needs_nothing_of_it() {
    let folder = tempfile::tempdir().unwrap();
    let source = image(&folder, "quay.img", 1);
    let state = SweepState::new(&source);
    // A file stands where a folder would have to be.
    let blocked = folder.path().join("quay.img/sweep.json");
    let mut keeper = Keeper::new(&source, Some(&blocked));
    assert!(keeper.keeps());
    keeper.save(&state);
    assert!(!keeper.keeps(), "it is not tried again");
    keeper.save(&state);
    assert!(keeper.into_problem().is_some_and(|problem| problem.contains("quay.img")));
    let none = Keeper::new(&source, None);
    assert!(!none.keeps() && none.into_problem().is_none());
    let path = folder.path().join("sweep.json");
    let mut keeper = Keeper::new(&source, Some(&path));
    keeper.save(&state);
    assert!(path.exists());
    keeper.forget();
    assert!(!path.exists());
    keeper.forget();
}

#[test]
fn what_lies_in_a_container_is_a_part_of_what_it_holds() {
    let source: SharedSource = Arc::new(MemorySource::new("quay", vec![0; 64 * MIB as usize], 512));
    let container = Find { kind: VolumeKind::Lvm, ..find(1, MIB, 40 * MIB, 90) };
    let guest = find(2, 4 * MIB, 8 * MIB, 50);
    let across = find(3, 38 * MIB, 8 * MIB, 50);
    let beside = find(4, 50 * MIB, 8 * MIB, 50);
    let at_its_start = find(5, MIB, 8 * MIB, 50);
    let mut finds = vec![container, guest, across, beside, at_its_start];
    inside::mark(&source, &mut finds);
    let marks: Vec<Option<&str>> = finds.iter().map(|find| find.inside.as_deref()).collect();
    assert_eq!(marks, [None, Some("n1"), None, None, None]);
    assert!(finds[1].inside_file.is_none(), "by its ground, not by a file");
}

#[test]
fn of_volumes_with_one_ground_none_is_inside_the_other() {
    let source: SharedSource = Arc::new(MemorySource::new("quay", vec![0; 64 * MIB as usize], 512));
    let mut finds = vec![find(1, MIB, 20 * MIB, 50), Find { grade: Grade::Weak, ..find(2, MIB, 20 * MIB, 10) }];
    inside::mark(&source, &mut finds);
    assert!(finds.iter().all(|find| find.inside.is_none()));
}
