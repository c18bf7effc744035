//! What follows from a false capacity: volumes of the system's own formatters on a drive that stores less than it claims.

use std::fs;
use std::sync::Arc;

use keel_core::job::{Cancel, Desk};
use keel_core::ladder::{self, RungName, RungState};
use keel_core::layout::{self, Choices};
use keel_core::leave::Confirmation;
use keel_core::mend::{self, Only};
use keel_core::plan::{self, ApplyOptions, Bundle, Direction, Plan};
use keel_core::sweep::Reach;
use keel_core::{fathom, files, yard};
use keel_format::table;
use keel_source::{ByteOffset, SharedSource, Stored};

use crate::support::{Bench, MIB, files as some_files, swept};

/// A drive with one volume over almost all of it, as far as it stores `stored` bytes.
fn liar(kind: &str, stored: u64) -> (Bench, SharedSource) {
    let (at, bytes) = (MIB, 590 * MIB);
    let bench = Bench::new(600 * MIB);
    let os_type = match kind {
        "vfat" => {
            bench.fat(at, bytes, "32", "QUAY", &some_files(7));
            0x0C
        }
        "ntfs" => {
            bench.ntfs(at, bytes, "QUAY", &some_files(7));
            0x07
        }
        "exfat" => {
            bench.exfat(at, bytes, "QUAY", &some_files(7));
            0x07
        }
        _ => {
            bench.ext4(at, bytes, "QUAY", &some_files(7));
            0x83
        }
    };
    bench.mbr(&[(os_type, at, bytes)]);
    let drive = bench.open();
    (bench, Arc::new(Stored::new(drive, stored)))
}

/// As far as the driver put something on the drive, and a little more; the last cluster of a volume holds a copy that moves.
fn just_enough(whole: &SharedSource) -> u64 {
    let find = swept(whole, Reach::Doubt).finds[0].clone();
    let volume = files::open(whole, &find).unwrap();
    let allocation = volume.allocation().unwrap();
    let used = allocation.used().into_iter().map(|units| allocation.range(&units).end.0);
    let last = used.filter(|end| *end < find.bytes - 65_536).max().unwrap();
    (MIB + last.div_ceil(MIB) * MIB).max(350 * MIB) + 512
}

#[test]
fn volumes_whose_used_ground_lies_before_the_true_end_are_fitted_to_it_and_read_on() {
    for kind in ["vfat", "exfat", "ntfs"] {
        let (bench, whole) = liar(kind, 600 * MIB);
        let stored = just_enough(&whole);
        let drive: SharedSource = Arc::new(Stored::new(bench.open(), stored));
        let sweep = swept(&drive, Reach::Doubt);
        let find = sweep.finds.first().unwrap_or_else(|| panic!("{kind}: nothing found"));
        let behind = find.behind.as_ref().unwrap();
        assert_eq!((behind.why.as_deref(), behind.cut_files), (None, 0), "{kind}: {}", behind.sentence());
        assert!(behind.whole_files as usize >= some_files(7).len() && behind.made_bytes > stored, "{kind}");
        assert!(find.range().end.0 <= stored, "{kind}");
        let reading = table::read(drive.as_ref());
        let layout = layout::settle(&drive, &reading, &sweep.finds, &Choices::default());
        let staged = mend::stage(&drive, &reading, &sweep.finds, &layout, &Only::All.into());
        assert!(!staged.edits.is_empty() && staged.edits.iter().all(|edit| edit.range().end.0 <= stored), "{kind}");
        let view: SharedSource = Arc::new(mend::overlay(&drive, &staged.edits));
        let after = ladder::examine(&view, &sweep.finds, &Cancel::default());
        for rung in after.volumes.iter().flat_map(|volume| &volume.rungs) {
            assert_ne!(rung.state, RungState::Broken, "{kind}: {rung:?}");
        }
        assert_eq!(after.rung(RungName::Table).unwrap().state, RungState::Sound, "{kind}");
        // The fitted volume, cut off where the drive ends, is one that the system's own checker and driver take.
        let image = bench.folder.path().join("fitted.img");
        keel_core::plan::save_as(view.as_ref(), &image, &mut |_| {}).unwrap();
        let again = keel_source::open(&image, keel_source::OpenOptions::default()).unwrap();
        let entry = table::read(again.as_ref()).partitions[0].range(again.sector_size());
        assert!(entry.end.0 <= again.len() && again.len() == stored, "{kind}");
        crate::support::accepted_by_driver(kind, &image, entry, &some_files(7));
    }
}

#[test]
fn a_volume_that_loses_files_is_told_with_what_survives_and_left_alone() {
    let (_bench, drive) = liar("ntfs", 350 * MIB);
    let sweep = swept(&drive, Reach::Doubt);
    let find = &sweep.finds[0];
    let behind = find.behind.as_ref().unwrap();
    assert!(behind.why.is_some() && behind.cut_files > 0, "{}", behind.sentence());
    let reading = table::read(drive.as_ref());
    let layout = layout::settle(&drive, &reading, &sweep.finds, &Choices::default());
    assert!(
        layout.left_out.iter().any(|left| left.find == find.id && left.why.contains("lose something")),
        "{:?}",
        layout.left_out
    );
    let (_bench, drive) = liar("ext4", 350 * MIB);
    let sweep = swept(&drive, Reach::Doubt);
    assert!(sweep.finds[0].behind.as_ref().unwrap().why.is_some());
}

#[test]
fn an_image_that_was_cut_off_is_not_taken_for_a_drive_that_lies() {
    let (bench, _) = liar("vfat", 350 * MIB);
    fs::File::options().write(true).open(&bench.image).unwrap().set_len(350 * MIB).unwrap();
    let drive = bench.open();
    let sweep = swept(&drive, Reach::Doubt);
    let find = &sweep.finds[0];
    assert!(find.range().end > ByteOffset(drive.len()), "it keeps its length");
    let behind = find.behind.as_ref().unwrap();
    assert!(!behind.is_nowhere && behind.missing_bytes == find.range().end.0 - drive.len(), "{}", behind.sentence());
    assert!(behind.whole_files as usize >= some_files(7).len(), "{}", behind.sentence());
}

/// That drive as a simulated one that claims 600 MiB and stores just enough; its capacity was proven.
fn proven_liar(kind: &str) -> (Bench, SharedSource) {
    static STATE: std::sync::OnceLock<tempfile::TempDir> = std::sync::OnceLock::new();
    keel_core::case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
    let (bench, whole) = liar(kind, 600 * MIB);
    let stored = just_enough(&whole);
    drop(whole);
    let folder = bench.folder.path();
    fs::File::options().write(true).open(&bench.image).unwrap().set_len(stored).unwrap();
    let serial = folder.file_name().unwrap().to_string_lossy().into_owned();
    let surface = bench.image.file_name().unwrap().to_string_lossy().into_owned();
    let text = format!(
        "version = 1\nclaimed_bytes = {}\nidentity = {{ model = \"Bargain\", serial = \"{serial}\" }}\n\
         backing = [{{ file = \"{surface}\" }}]\nclock = {{ read_us = 10, bytes_per_second = 500000000 }}\n\
         capacity = {{ real_bytes = {stored}, lie = \"drops\", answers = \"zeros\" }}\n",
        600 * MIB
    );
    let path = folder.join("bargain.drive.toml");
    fs::write(&path, text).unwrap();
    let claimed = keel_source::open(&path, keel_source::OpenOptions::default()).unwrap();
    let code = Confirmation::Code(claimed.identity().code());
    let desk = Desk::new(Cancel::default()).0;
    let verdict = fathom::probe(&claimed, &code, fathom::ProbeOptions::default(), &desk).unwrap();
    assert_eq!((verdict.proven_bytes, verdict.exact), (stored, true), "{:?}", verdict.reasons);
    fathom::keep(&claimed, &verdict).unwrap();
    (bench, yard::as_seen(claimed).unwrap())
}

#[test]
fn a_fitted_drive_is_undone_byte_for_byte_also_when_only_half_was_written() {
    for kind in ["vfat", "exfat", "ntfs"] {
        let (bench, drive) = proven_liar(kind);
        let stored = drive.len();
        assert!(stored < 600 * MIB, "{kind}: every stage sees what it stores");
        let hash = || blake3::hash(&fs::read(&bench.image).unwrap());
        let before = hash();
        let sweep = swept(&drive, Reach::Doubt);
        let reading = table::read(drive.as_ref());
        let layout = layout::settle(&drive, &reading, &sweep.finds, &Choices::default());
        let staged = mend::stage(&drive, &reading, &sweep.finds, &layout, &Only::All.into());
        assert!(!staged.edits.is_empty(), "{kind}: {:?}", layout.left_out);
        let plan = Plan::new(&drive, staged.edits, staged.copy_first);
        let bundle = bench.folder.path().join("fit.ykundo");
        let options = ApplyOptions {
            confirmation: Confirmation::Code(plan.code.clone()),
            override_words: None,
            bundle: Some(bundle.clone()),
            stamp: "2026-11-25T10:00:00Z".into(),
        };
        let applied = plan::apply(&drive, &plan, &options, &mut |_| {}).unwrap();
        assert!(applied.bytes > 0 && hash() != before, "{kind}");
        let entry = table::read(drive.as_ref()).partitions[0].range(drive.sector_size());
        assert!(entry.end.0 <= stored, "{kind}: {entry:?}");
        // Of what was written the half is as before: as a power cut leaves it. The bundle leads to either known state.
        let undo = Bundle::read(&bundle).unwrap();
        plan::recover(&drive, (&bundle, &undo), Direction::RollBack, &Confirmation::Yes, &mut |_| {}).unwrap();
        assert_eq!(hash(), before, "{kind}: rolled back");
        plan::recover(&drive, (&bundle, &undo), Direction::Finish, &Confirmation::Yes, &mut |_| {}).unwrap();
        assert_eq!(plan::condition(&drive, &undo).unwrap(), plan::Condition::Applied, "{kind}");
        drop(drive);
        let again =
            keel_source::open(&bench.folder.path().join("bargain.drive.toml"), keel_source::OpenOptions::default()).unwrap();
        let again = yard::as_seen(again).unwrap();
        plan::recover(&again, (&bundle, &undo), Direction::RollBack, &Confirmation::Yes, &mut |_| {}).unwrap();
        assert_eq!(hash(), before, "{kind}: by another opening of the same drive");
    }
}
