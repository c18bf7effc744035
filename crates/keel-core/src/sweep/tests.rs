use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use keel_format::VolumeKind;
use keel_source::{ByteOffset, ByteRange, Cancel, Identity, MemorySource, OpenOptions, ReadError, SharedSource, Source};

use super::state::{Keeper, SweepState};
use super::{Find, Grade, Reach, Sweep, SweepOptions, inside, sweep};
use crate::job::Desk;
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

/// A drive at which somebody presses stop while so many reads are still to come, and that counts those behind it.
struct StoppedAt {
    below: SharedSource,
    cancel: Cancel,
    to_come: AtomicU64,
    behind: AtomicU64,
}

impl Source for StoppedAt {
    fn identity(&self) -> &Identity {
        self.below.identity()
    }

    fn change_mark(&self) -> Option<String> {
        self.below.change_mark()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        match self.to_come.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |left| left.checked_sub(1)) {
            Ok(1) => self.cancel.cancel(),
            Ok(_) => {}
            Err(_) => drop(self.behind.fetch_add(1, Ordering::SeqCst)),
        }
        self.below.read_at(at, buf)
    }
}

/// Sweeps `below` until so many reads were made, with a state at `path`.
fn stopped_at(below: &SharedSource, to_come: u64, reach: Reach, path: &Path) -> (Arc<StoppedAt>, Sweep) {
    let cancel = Cancel::default();
    let drive = Arc::new(StoppedAt {
        below: Arc::clone(below),
        cancel: cancel.clone(),
        to_come: AtomicU64::new(to_come),
        behind: AtomicU64::new(0),
    });
    let source: SharedSource = Arc::<StoppedAt>::clone(&drive);
    let options = SweepOptions { reach, state: Some(path.to_path_buf()) };
    let swept = sweep(&source, &options, &Desk::new(cancel).0);
    (drive, swept)
}

/// How many reads it takes to sweep `below`, whatever is kept of it.
fn reads_of(below: &SharedSource, reach: Reach, kept: &Path) -> u64 {
    let most = u64::MAX;
    let beside = kept.with_extension("beside");
    let _ = std::fs::copy(kept, &beside);
    let (drive, swept) = stopped_at(below, most, reach, &beside);
    assert!(!swept.cancelled);
    most - drive.to_come.load(Ordering::SeqCst)
}

#[test]
fn a_scan_that_is_stopped_asks_nothing_more_either_and_what_it_saw_is_kept() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("quay.img");
    std::fs::write(&path, vec![7; 96 * MIB as usize]).unwrap();
    let below = keel_source::open(&path, OpenOptions::default()).unwrap();
    let state = folder.path().join("sweep.json");
    let mut seen = 0;
    // Some reads before the end: who it is takes some, each piece of the surface one, and what was seen is looked into at last.
    for left in [90, 50] {
        let to_come = reads_of(&below, Reach::Surface, &state) - left;
        let (drive, swept) = stopped_at(&below, to_come, Reach::Surface, &state);
        // What another worker had asked for already comes.
        let workers = std::thread::available_parallelism().map_or(2, usize::from) as u64;
        assert!(swept.cancelled && drive.behind.load(Ordering::SeqCst) < workers, "{to_come}: {:?}", drive.behind);
        let done = SweepState::load(&state, &below).unwrap().done.bytes();
        assert!(done > seen && done < 96 * MIB, "{to_come}: {done} after {seen}");
        seen = done;
    }
}

#[test]
fn a_sweep_that_is_stopped_asks_the_drive_nothing_more_and_loses_nothing_that_was_kept() {
    let folder = tempfile::tempdir().unwrap();
    let below = image(&folder, "quay.img", 1);
    let path = folder.path().join("sweep.json");
    let mut kept = SweepState::new(&below);
    kept.done.add(range(MIB, 2 * MIB));
    kept.save(&path).unwrap();
    for reach in [Reach::Landmarks, Reach::Doubt] {
        // While what was kept is compared, while the table is read, while landmarks are looked at.
        for to_come in (1..reads_of(&below, reach, &path)).step_by(5) {
            let (drive, swept) = stopped_at(&below, to_come, reach, &path);
            assert!(swept.cancelled, "{reach:?}, {to_come}");
            // On the surface another worker may have asked already.
            let most = if reach == Reach::Doubt { 7 } else { 0 };
            assert!(drive.behind.load(Ordering::SeqCst) <= most, "{reach:?}, {to_come}: {:?}", drive.behind);
            let done = SweepState::load(&path, &below).unwrap().done;
            assert!(done.lacking(range(MIB, 2 * MIB)).is_empty(), "{reach:?}, {to_come}");
            assert!(reach == Reach::Doubt || done == kept.done, "{reach:?}, {to_come}");
        }
    }
}
