//! Plans applied to real drives, killed at every step, undone.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use crate::support::{Bench, MIB, files, swept};
use keel_core::job::Cancel;
use keel_core::ladder::{self, RungName, RungState};
use keel_core::layout::{self, Choices};
use keel_core::mend::{self, Only};
use keel_core::plan::{self, ApplyOptions, Bundle, Condition, Confirmation, Direction, Plan};
use keel_core::sweep::{Find, Reach};
use keel_core::{CoreError, Refusal};
use keel_format::table::{self, Scheme};
use keel_source::{ByteOffset, ByteRange, MemorySource, OpenOptions, SharedSource};

/// Two volumes and nothing of the table that pointed at them.
fn lost_pair() -> Bench {
    let bench = Bench::new(160 * MIB);
    bench.ntfs(MIB, 64 * MIB, "ENGINE", &files(3));
    bench.fat(65 * MIB, 80 * MIB, "32", "SPARES", &files(5));
    bench
}

fn staged(source: &SharedSource, scheme: Option<Scheme>, only: Only) -> (Vec<Find>, Plan) {
    let finds = swept(source, Reach::Doubt).finds;
    let table = table::read(source.as_ref());
    let layout = layout::settle(source, &table, &finds, &Choices { scheme, ..Choices::default() });
    let edits = mend::stage(source, &table, &finds, &layout, &only.into()).edits;
    let copy_first = ladder::examine(source, &finds, &Cancel::default()).reads_fail();
    (finds, Plan::new(source, edits, copy_first))
}

fn options(bundle: &Path) -> ApplyOptions {
    ApplyOptions { confirmation: Confirmation::Yes, override_words: None, bundle: Some(bundle.into()), stamp: "t".into() }
}

fn hash(path: &Path) -> blake3::Hash {
    let mut hasher = blake3::Hasher::new();
    std::io::copy(&mut fs::File::open(path).unwrap(), &mut hasher).unwrap();
    hasher.finalize()
}

#[test]
fn an_applied_table_holds_every_rung_and_undo_gives_the_identical_drive() {
    for scheme in [Scheme::Mbr, Scheme::Gpt] {
        let bench = lost_pair();
        let before = hash(&bench.image);
        let source = bench.open();
        let (finds, plan) = staged(&source, Some(scheme), Only::All);
        let now = ladder::examine(&source, &finds, &Cancel::default());
        assert_eq!(now.lowest_broken.unwrap().rung, RungName::Table);
        let view: SharedSource = Arc::new(mend::overlay(&source, &plan.edits));
        let planned = ladder::examine(&view, &finds, &Cancel::default());
        assert_eq!((planned.lowest_broken.clone(), hash(&bench.image)), (None, before));
        let bundle = bench.folder.path().join("undo.ykundo");
        plan::apply(&source, &plan, &options(&bundle), &mut |_| {}).unwrap();
        let after = ladder::examine(&source, &finds, &Cancel::default());
        assert_eq!((after.rungs, after.volumes), (planned.rungs, planned.volumes));
        assert!(staged(&source, None, Only::All).1.edits.is_empty(), "nothing is left to mend");
        let read = Bundle::read(&bundle).unwrap();
        assert_eq!(plan::condition(&source, &read).unwrap(), Condition::Applied);
        plan::recover(&source, (&bundle, &read), Direction::RollBack, &Confirmation::Yes, &mut |_| {}).unwrap();
        assert_eq!(hash(&bench.image), before);
    }
}

#[test]
fn boot_sectors_come_back_from_their_backups() {
    let bench = lost_pair();
    bench.mbr(&[(0x07, MIB, 64 * MIB), (0x0C, 65 * MIB, 80 * MIB)]);
    let (ntfs, fat) = (bench.read(MIB, 512), bench.read(65 * MIB, 512));
    bench.zero(MIB, 512);
    bench.zero(65 * MIB, 512);
    let source = bench.open();
    let (finds, plan) = staged(&source, None, Only::All);
    assert_eq!(
        plan.edits.iter().map(|edit| edit.structure.as_str()).collect::<Vec<_>>(),
        ["NTFS boot sector of n1", "FAT32 boot sector of n2"]
    );
    let broken = ladder::examine(&source, &finds, &Cancel::default()).lowest_broken.unwrap();
    assert_eq!((broken.rung, broken.volume.as_deref()), (RungName::BootSector, Some("n1")));
    plan::apply(&source, &plan, &options(&bench.folder.path().join("u.ykundo")), &mut |_| {}).unwrap();
    assert_eq!((bench.read(MIB, 512), bench.read(65 * MIB, 512)), (ntfs, fat));
    assert!(staged(&source, None, Only::Table).1.edits.is_empty());
}

#[test]
fn every_safety_rule_refuses_before_anything_is_written() {
    let bench = lost_pair();
    let source = bench.open();
    let (_, plan) = staged(&source, None, Only::All);
    let before = hash(&bench.image);
    let bundle = bench.folder.path().join("u.ykundo");
    let refused =
        |source: &SharedSource, plan: &Plan, options: &ApplyOptions| match plan::apply(source, plan, options, &mut |_| {}) {
            Err(CoreError::Refused(refusal)) => refusal,
            other => panic!("not refused: {other:?}"),
        };
    let code = ApplyOptions { confirmation: Confirmation::Code("AAA-AAA".into()), ..options(&bundle) };
    assert_eq!(refused(&source, &plan, &code), Refusal::Code);
    let sick = Plan { copy_first: true, ..plan.clone() };
    assert!(matches!(refused(&source, &sick, &options(&bundle)), Refusal::NoCopy { .. }));
    let other = bench.open();
    let locked = plan::apply(&source, &plan, &options(&bundle), &mut |_| {}).unwrap_err();
    assert!(locked.to_string().contains("has it open"), "{locked}");
    drop(other);
    bench.write(0, &[1]);
    assert_eq!(refused(&source, &plan, &options(&bundle)), Refusal::Changed { at: ByteOffset(0) });
    bench.write(0, &[0]);
    assert_eq!((hash(&bench.image), bundle.exists()), (before, false));
    let code = ApplyOptions { confirmation: Confirmation::Code(plan.code.to_lowercase()), ..options(&bundle) };
    plan::apply(&source, &plan, &code, &mut |_| {}).unwrap();
}

#[test]
fn what_cannot_be_read_is_not_overwritten() {
    let bench = lost_pair();
    let bytes = fs::read(&bench.image).unwrap();
    let source: SharedSource = Arc::new(MemorySource::new("m", bytes, 512).with_bad(ByteRange::sized(ByteOffset(0), 512)));
    let (finds, plan) = staged(&source, None, Only::All);
    assert!(plan.copy_first && plan.edits[0].before.is_empty());
    assert_eq!(ladder::examine(&source, &finds, &Cancel::default()).lowest_broken.unwrap().rung, RungName::Reads);
    let refused = plan::apply(&source, &plan, &options(&bench.folder.path().join("u")), &mut |_| {});
    assert!(matches!(refused, Err(CoreError::Refused(Refusal::Unsaved { at: ByteOffset(0) }))));
    let copy = bench.folder.path().join("copy.img");
    let bad = plan::save_as(&mend::overlay(&source, &plan.edits), &copy, &mut |_| {}).unwrap();
    assert_eq!(bad, []);
    let repaired = keel_source::open(&copy, OpenOptions::default()).unwrap();
    let healed = ladder::examine(&repaired, &swept(&repaired, Reach::Doubt).finds, &Cancel::default());
    assert_eq!(healed.lowest_broken, None);
    assert_eq!(healed.rung(RungName::Link).unwrap().state, RungState::Untested);
}

#[test]
fn a_damaged_bundle_is_refused_and_changes_nothing() {
    let bench = lost_pair();
    let source = bench.open();
    let (_, plan) = staged(&source, None, Only::All);
    let path = bench.folder.path().join("u.ykundo");
    plan::apply(&source, &plan, &options(&path), &mut |_| {}).unwrap();
    let bytes = fs::read(&path).unwrap();
    for (name, damaged) in [
        ("cut", bytes[..bytes.len() / 2].to_vec()),
        ("empty", Vec::new()),
        ("flipped", {
            let mut b = bytes.clone();
            b[200] ^= 4;
            b
        }),
    ] {
        fs::write(&path, damaged).unwrap();
        let error = Bundle::read(&path).unwrap_err().to_string();
        assert!(error.contains("u.ykundo is no sound undo bundle"), "{name}: {error}");
    }
}

const CHILD: &str = "YKEEL_TEST_CHILD";

/// Runs as the child of the test below: applies, and is killed at a step.
#[test]
fn child_that_is_killed() {
    let Ok(order) = std::env::var(CHILD) else { return };
    let (image, step) = order.rsplit_once(' ').unwrap();
    let step: usize = step.parse().unwrap();
    let source = keel_source::open(Path::new(image), OpenOptions::default()).unwrap();
    let (_, plan) = staged(&source, Some(Scheme::Gpt), Only::All);
    let mut count = 0;
    let bundle = PathBuf::from(format!("{image}.ykundo"));
    plan::apply(&source, &plan, &options(&bundle), &mut |_| {
        if count == step {
            let own = rustix::process::getpid();
            rustix::process::kill_process(own, rustix::process::Signal::KILL).unwrap();
        }
        count += 1;
    })
    .unwrap();
    println!("steps: {count}");
}

#[test]
fn an_apply_killed_at_any_step_is_finished_or_rolled_back() {
    let bench = lost_pair();
    // The boot sector of one volume is staged too: copies and primaries in one plan.
    bench.zero(MIB, 512);
    let before = hash(&bench.image);
    let exe = std::env::current_exe().unwrap();
    let run = |image: &Path, step: usize| {
        let order = format!("{} {step}", image.display());
        Command::new(&exe)
            .args(["--exact", "apply_cases::child_that_is_killed", "--nocapture"])
            .env(CHILD, order)
            .output()
            .unwrap()
    };
    let copy = |name: &str| {
        let path = bench.folder.path().join(name);
        crate::support::run(Command::new("cp").arg("--sparse=always").arg(&bench.image).arg(&path));
        path
    };
    // New GUIDs derive from the path: the same one every time.
    let whole = copy("killed.img");
    let output = String::from_utf8(run(&whole, usize::MAX).stdout).unwrap();
    let steps: usize = output.lines().find_map(|line| line.split("steps: ").nth(1)).unwrap().trim().parse().unwrap();
    let after = hash(&whole);
    fs::remove_file(format!("{}.ykundo", whole.display())).unwrap();
    assert!(steps > 10 && after != before, "{output}");
    let (mut conditions, mut recognised) = (Vec::new(), 0);
    for step in 0..steps {
        let image = copy("killed.img");
        assert!(!run(&image, step).status.success(), "killed at {step}");
        let bundle_path = PathBuf::from(format!("{}.ykundo", image.display()));
        if step == 0 {
            assert!(!bundle_path.exists() && hash(&image) == before, "nothing is written before the bundle");
            continue;
        }
        let bundle = Bundle::read(&bundle_path).unwrap();
        let killed = fs::read(&image).unwrap();
        for (direction, wanted) in [(Direction::RollBack, before), (Direction::Finish, after)] {
            fs::write(&image, &killed).unwrap();
            let source = keel_source::open(&image, OpenOptions::default()).unwrap();
            let condition = plan::condition(&source, &bundle).unwrap();
            recognised += usize::from(!matches!(condition, Condition::Foreign(_)));
            conditions.push(condition);
            plan::recover(&source, (&bundle_path, &bundle), direction, &Confirmation::Yes, &mut |_| {}).unwrap();
            drop(source);
            assert_eq!(hash(&image), wanted, "killed at step {step}, {direction:?}");
        }
        fs::remove_file(&bundle_path).unwrap();
    }
    assert_eq!(recognised, conditions.len());
    for expected in [Condition::Former, Condition::Between, Condition::Applied] {
        assert!(conditions.contains(&expected), "{expected:?} never came up");
    }
}
