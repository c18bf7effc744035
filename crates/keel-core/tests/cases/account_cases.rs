//! What there is to tell of a drive: what was wrong and is mended, what its volumes hold and lack, what was taken out.

use std::fs;
use std::ops::ControlFlow;
use std::sync::OnceLock;

use crate::support::{Bench, MIB, files, swept};
use keel_core::account::{Account, Counted, Deed, From};
use keel_core::case::{self, JournalLine};
use keel_core::files::{self as taking, Sort};
use keel_core::job::{Cancel, Desk};
use keel_core::ladder::{self, Ground, RungName};
use keel_core::layout::{self, Choices};
use keel_core::mend::{self, Only};
use keel_core::plan::{self, ApplyOptions, Confirmation, Plan};
use keel_core::sweep::{Reach, Sweep};
use keel_format::{Deleted, table};
use keel_source::{ByteOffset, ByteRange, SharedSource};

fn account(source: &SharedSource, sweep: &Sweep, journal: &[JournalLine]) -> Account {
    static STATE: OnceLock<tempfile::TempDir> = OnceLock::new();
    case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
    let cancel = Cancel::default();
    let ground = Ground::ask(source, &cancel, &mut |_| {});
    let ladder = ladder::examine_on(&ground, source, sweep, &cancel);
    Account::of(From { source, swept: sweep, ground: &ground, ladder: &ladder, journal, cancel: &cancel })
}

fn sum(account: &Account) -> Counted {
    account.counted()
}

fn line(event: &str, detail: serde_json::Value) -> JournalLine {
    JournalLine { number: 0, at: "2026-11-25T10:00:00Z".into(), event: event.into(), detail, before: String::new() }
}

/// Applies what the evidence asks for; the bundle goes where it usually does.
fn apply(source: &SharedSource, sweep: &Sweep) {
    let table = table::read(source.as_ref());
    let layout = layout::settle(source, &table, &sweep.finds, &Choices::default());
    let edits = mend::stage(source, &table, &sweep.finds, &layout, &Only::All.into()).edits;
    let plan = Plan::new(source, edits, false);
    let options = ApplyOptions { confirmation: Confirmation::Yes, override_words: None, bundle: None, stamp: "20261125".into() };
    plan::apply(source, &plan, &options, &mut |_| {}).unwrap();
}

#[test]
fn a_table_and_a_boot_sector_that_were_put_back_are_told_as_what_was_wrong_and_is_mended() {
    let bench = Bench::new(160 * MIB);
    let (engine, spares) = (files(3), files(5));
    bench.ntfs(MIB, 64 * MIB, "ENGINE", &engine);
    bench.fat(65 * MIB, 80 * MIB, "32", "SPARES", &spares);
    bench.zero(MIB, 512);
    let source = bench.open();
    let sweep = swept(&source, Reach::Doubt);
    let before = account(&source, &sweep, &[]);
    assert!(before.before.is_none() && before.done.is_empty() && before.taken.is_empty());
    let wrong = |account: &Account| -> Vec<(RungName, bool)> {
        account.wrong.iter().map(|wrong| (wrong.rung, wrong.is_mended)).collect()
    };
    assert!(wrong(&before).contains(&(RungName::Table, false)) && wrong(&before).contains(&(RungName::BootSector, false)));
    // What the volumes hold is told before they stand.
    let all = engine.len() + spares.len();
    assert_eq!(sum(&before).whole, all as u64, "{:?}", before.volumes);
    apply(&source, &sweep);
    let source = bench.open();
    let sweep = swept(&source, Reach::Doubt);
    let after = account(&source, &sweep, &[]);
    let was = after.before.as_ref().expect("its bundle leads back");
    assert!(was.table.partitions.is_empty() && was.places >= 2, "{:?}", was.table);
    let told = wrong(&after);
    assert!(told.contains(&(RungName::Table, true)) && told.contains(&(RungName::BootSector, true)), "{told:?}");
    assert!(told.iter().all(|(_, mended)| *mended), "{told:?}");
    let bytes: usize = engine.values().chain(spares.values()).map(Vec::len).sum();
    let expected = Counted { whole: all as u64, bytes: bytes as u64, whole_bytes: bytes as u64, ..Counted::default() };
    assert_eq!(sum(&after), expected);
    for volume in &after.volumes {
        assert_eq!(volume.sorts[&Sort::Text].whole, 40, "{}", volume.name);
        assert_eq!(volume.sorts[&Sort::Picture].whole, 1);
        let tree: Vec<(&str, u64)> = volume.tree.iter().map(|branch| (branch.path.as_str(), branch.files)).collect();
        let folders = [("Crossings", 14), ("Engine room", 13), ("Letters", 13), ("Letters/Sent", 13), ("Pictures", 1)];
        assert_eq!(tree, folders, "{}", volume.name);
        assert_eq!(volume.pictures.iter().map(|picture| picture.name.as_str()).collect::<Vec<_>>(), ["quay.png"]);
    }
    assert_eq!(after.volumes[1].pictures[0].bytes, spares["Pictures/quay.png"]);
}

#[test]
fn a_file_on_a_place_that_does_not_read_is_no_whole_one() {
    let bench = Bench::new(100 * MIB);
    let own = files(7);
    bench.ntfs(MIB, 64 * MIB, "ENGINE", &own);
    bench.mbr(&[(7, MIB, 64 * MIB)]);
    let source = bench.open();
    let mut sweep = swept(&source, Reach::Doubt);
    let find = sweep.finds[0].clone();
    let volume = taking::open(&source, &find).unwrap();
    let mut place = None;
    volume
        .walk(Deleted::Hide, &mut |found| {
            if found.entry.name == "quay.png" {
                place = volume.extents(found.entry.id).unwrap().first().and_then(|extent| extent.volume_at);
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    sweep.bad = vec![ByteRange::sized(ByteOffset(find.start_byte.0 + place.unwrap().0 + 4096), 512)];
    let told = account(&source, &sweep, &[]);
    let counted = sum(&told);
    assert_eq!((counted.whole, counted.damaged, counted.missing), (own.len() as u64 - 1, 1, 0));
    assert_eq!(told.volumes[0].hurt, ["Pictures/quay.png"]);
    assert!(told.volumes[0].pictures.is_empty(), "what is not whole is no sample");
    assert_eq!(told.bad, sweep.bad);
}

#[test]
fn what_was_taken_out_is_told_by_its_manifest_as_long_as_that_is_the_one_of_the_journal() {
    let bench = Bench::new(100 * MIB);
    let own = files(9);
    bench.fat(MIB, 80 * MIB, "16", "SPARES", &own);
    let source = bench.open();
    let sweep = swept(&source, Reach::Doubt);
    let volume = taking::open(&source, &sweep.finds[0]).unwrap();
    let to = bench.folder.path().join("out");
    fs::create_dir(&to).unwrap();
    let desk = Desk::new(Cancel::default()).0;
    let judge = taking::GroundJudge::new(volume.as_ref());
    let extracted = taking::take_out(&source, (volume.as_ref(), judge), &[], &to, &desk).unwrap();
    let manifest = extracted.manifest.clone();
    let blake3 = blake3::hash(&fs::read(&manifest).unwrap()).to_hex().to_string();
    let detail = serde_json::json!({"manifest": manifest, "blake3": blake3, "whole": own.len(), "failed": 0});
    let journal = [line("extract", detail.clone()), line("note", serde_json::json!("of no deed")), line("extract", detail)];
    let told = account(&source, &sweep, &journal);
    assert_eq!(told.done.len(), 2);
    assert!(matches!(&told.done[0].deed, Deed::TakenOut { whole, failed: 0, .. } if *whole == own.len() as u64));
    assert_eq!(told.taken.len(), 1, "each manifest once");
    let taken = &told.taken[0];
    assert_eq!((taken.stands, taken.sorts[&Sort::Text].whole, taken.sorts[&Sort::Picture].whole), (Some(true), 40, 1));
    assert_eq!(taken.pictures[0].bytes, own["Pictures/quay.png"]);
    assert!(taken.tree.iter().any(|branch| branch.path == "Letters/Sent" && branch.files == 13), "{:?}", taken.tree);
    // A manifest that was changed is told as such, and one that is gone too.
    let mut changed = fs::read_to_string(&manifest).unwrap();
    changed = changed.replacen("\"whole\"", "\"failed\"", 1);
    fs::write(&manifest, changed).unwrap();
    let told = account(&source, &sweep, &journal);
    assert_eq!(told.taken[0].stands, Some(false));
    assert_eq!(told.taken[0].hurt.len(), 1);
    fs::remove_file(&manifest).unwrap();
    let told = account(&source, &sweep, &journal);
    assert!(told.taken[0].stands.is_none() && told.taken[0].sorts.is_empty());
}

#[test]
fn a_manifest_that_leads_out_of_its_folder_shows_nothing_of_there() {
    let bench = Bench::new(100 * MIB);
    bench.fat(MIB, 80 * MIB, "16", "SPARES", &files(2));
    let source = bench.open();
    let sweep = swept(&source, Reach::Doubt);
    let folder = bench.folder.path().join("out");
    fs::create_dir(&folder).unwrap();
    fs::write(bench.folder.path().join("secret.png"), b"\x89PNG\r\n\x1a\nsecret").unwrap();
    let manifest = folder.join("manifest.jsonl");
    let row = |saved: &str| serde_json::json!({"path": saved, "saved_as": saved, "bytes": 14, "state": "whole"}).to_string();
    fs::write(&manifest, format!("{}\n{}\n{{\"state\": 3}}\nnot a line\n", row("../secret.png"), row("/etc/hostname.png")))
        .unwrap();
    let told = account(&source, &sweep, &[line("extract", serde_json::json!({"manifest": manifest}))]);
    assert!(told.taken[0].pictures.is_empty());
    assert_eq!(told.taken[0].sorts[&Sort::Picture].whole, 2);
}

#[test]
fn what_broke_off_is_not_told_as_done_and_what_may_have_written_leaves_no_drive_untouched() {
    let bench = Bench::new(100 * MIB);
    bench.fat(MIB, 80 * MIB, "16", "SPARES", &files(2));
    let source = bench.open();
    let sweep = swept(&source, Reach::Doubt);
    let of = |event: &str, detail: serde_json::Value| {
        let told = account(&source, &sweep, &[line(event, detail)]);
        (told.done.into_iter().map(|line| line.deed).next(), told.is_untouched)
    };
    let written = "written, read back and compared";
    let applied = |result: &str| serde_json::json!({"edits": [], "of": 3, "result": result});
    assert_eq!(of("apply", applied(written)), (Some(Deed::Repaired { places: 3 }), false));
    assert_eq!(of("finish", applied(written)), (Some(Deed::Finished), false));
    assert_eq!(of("undo", applied(written)), (Some(Deed::Undone), false));
    for event in ["apply", "finish", "undo"] {
        assert_eq!(of(event, applied("sector 63 does not take it")), (Some(Deed::BrokenOff), false), "{event}");
    }
    let wiped = |cancelled: bool, failed: u64| serde_json::json!({"cancelled": cancelled, "failed": failed});
    for (detail, is_whole) in [
        (wiped(false, 0), true),
        (wiped(true, 0), false),
        (wiped(false, 2), false),
        (serde_json::json!({"error": "gone", "so_far": {}}), false),
    ] {
        assert_eq!(of("wipe", detail.clone()), (Some(Deed::Wiped { is_whole }), false), "{detail}");
    }
    assert_eq!(of("fathom", serde_json::json!({"error": "gone"})), (None, false));
    assert_eq!(of("ladder", serde_json::json!({})), (None, true));
}
