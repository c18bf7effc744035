//! What an edit is for, long runs, and plans of very many edits.

use std::fs::{self, File};
use std::io::Read;
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::Path;
use std::sync::Arc;

use crate::support::{Bench, MIB, files, swept};
use keel_core::job::Cancel;
use keel_core::ladder::{self, Ladder, VolumeLadder};
use keel_core::mend::{self, Belongs, Edit, Intent, Order};
use keel_core::plan::{self, ApplyOptions, Bundle, Condition, Confirmation, Direction, Plan};
use keel_core::sweep::Reach;
use keel_source::{ByteOffset, ByteRange, Generate, OpenOptions, Payload, SharedSource};

fn state() {
    static STATE: std::sync::OnceLock<tempfile::TempDir> = std::sync::OnceLock::new();
    keel_core::case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
}

/// Bytes that no packer makes smaller.
fn noise(seed: u64, len: usize) -> Vec<u8> {
    let word = |at: u64| (at + 1).wrapping_mul(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1).rotate_left(17) ^ at;
    (0..len as u64 / 8 + 1).flat_map(|at| word(at).to_le_bytes()).take(len).collect()
}

fn options(bundle: &Path) -> ApplyOptions {
    ApplyOptions { confirmation: Confirmation::Yes, override_words: None, bundle: Some(bundle.into()), stamp: "t".into() }
}

fn edit(source: &SharedSource, at: u64, after: impl Into<Payload>, intent: Intent) -> Edit {
    let after = after.into();
    let mut before = vec![0; after.held().map_or(0, <[u8]>::len)];
    source.read_at(ByteOffset(at), &mut before).unwrap();
    Edit {
        structure: "ground".into(),
        at_byte: ByteOffset(at),
        before,
        after,
        intent,
        belongs: Belongs::default(),
        order: Order::Primary,
        reason: "a test".into(),
    }
}

/// The hash of every block of an image that is not all zeros, with its place.
fn hash(path: &Path) -> blake3::Hash {
    const BLOCK: u64 = 4096;
    let source = keel_source::open(path, OpenOptions::default()).unwrap();
    let (mut hasher, mut next) = (blake3::Hasher::new(), 0);
    while let Some(data) = source.next_data(ByteOffset(next)) {
        for at in (data.start.0 / BLOCK * BLOCK..data.end.0).step_by(BLOCK as usize) {
            let mut block = vec![0; BLOCK.min(source.len() - at) as usize];
            source.read_at(ByteOffset(at), &mut block).unwrap();
            if at >= next / BLOCK * BLOCK && block.iter().any(|byte| *byte != 0) {
                hasher.update(&at.to_le_bytes());
                hasher.update(&block);
            }
        }
        next = data.end.0.next_multiple_of(BLOCK);
    }
    hasher.finalize()
}

/// Each eight bytes hold their own place in the run.
#[derive(Debug)]
struct Numbered;

impl Generate for Numbered {
    fn name(&self) -> &'static str {
        "numbers"
    }

    fn fill(&self, at: u64, buf: &mut [u8]) {
        for (slot, place) in buf.iter_mut().zip(at..) {
            *slot = (place / 8).to_le_bytes()[(place % 8) as usize];
        }
    }
}

#[test]
fn long_runs_are_written_kept_and_put_back_without_being_held_in_memory() {
    state();
    let bytes = 2u64 << 30;
    let bench = Bench::new(bytes);
    let file = File::options().write(true).open(&bench.image).unwrap();
    for number in 0..24u64 {
        file.write_all_at(&noise(number + 1, 300_000), number * 80 * MIB + 4096 * number).unwrap();
    }
    drop(file);
    let before = hash(&bench.image);
    let source = bench.open();
    let edits = vec![
        edit(&source, 0, Payload::zeros(1 << 30), Intent::Erase),
        edit(&source, (1 << 30) + 512, Payload::Run(40 * MIB + 512, Arc::new(Numbered)), Intent::Create),
        edit(&source, bytes - 512, vec![7; 512], Intent::Create),
    ];
    let view = mend::overlay(&source, &edits);
    let held = keel_source::Source::next_data(&view, ByteOffset(0)).unwrap();
    assert_eq!(held.start, ByteOffset((1 << 30) + 512), "what is zeros in the plan is a hole in the view");
    let plan = Plan::new(&source, edits, false);
    assert_eq!(plan.bytes(), (1 << 30) + 40 * MIB + 1024);
    let path = bench.folder.path().join("u.ykundo");
    plan::apply(&source, &plan, &options(&path), &mut |_| {}).unwrap();
    assert!(fs::metadata(&path).unwrap().len() < 64 * MIB, "what is zeros costs nothing");
    let mut now = vec![1; 4096];
    source.read_at(ByteOffset(80 * MIB + 4096), &mut now).unwrap();
    assert!(now.iter().all(|byte| *byte == 0));
    source.read_at(ByteOffset((1 << 30) + 512 + 8 * 1000), &mut now).unwrap();
    assert_eq!(now[..8], 1000u64.to_le_bytes());
    let on_disk = fs::metadata(&bench.image).unwrap().blocks() * 512;
    assert!(on_disk < 60 * MIB, "a run of zeros takes no room in an image: {on_disk}");
    let bundle = Bundle::read(&path).unwrap();
    assert_eq!(plan::condition(&source, &bundle).unwrap(), Condition::Applied);
    // Half of it put back by hand, as an interruption would leave it: both ways on work.
    let half = bundle.ranges[0].pieces().nth(80).unwrap().0;
    let mut former = vec![0; MIB as usize];
    bundle.ranges[0].read(plan::Side::Former, half, &mut former).unwrap();
    File::options().write(true).open(&bench.image).unwrap().write_all_at(&former, half).unwrap();
    assert_eq!(plan::condition(&source, &bundle).unwrap(), Condition::Between);
    for (direction, then) in [(Direction::Finish, Condition::Applied), (Direction::RollBack, Condition::Former)] {
        plan::recover(&source, (&path, &bundle), direction, &Confirmation::Yes, &mut |_| {}).unwrap();
        assert_eq!(plan::condition(&source, &bundle).unwrap(), then);
    }
    drop(source);
    assert_eq!(hash(&bench.image), before);
}

#[test]
fn a_long_run_over_a_place_that_does_not_read_is_refused_and_nothing_is_written() {
    state();
    let folder = tempfile::tempdir().unwrap();
    let drive = folder.path().join("deck.drive.toml");
    fs::write(folder.path().join("deck.img"), noise(3, 8 << 20)).unwrap();
    fs::write(
        &drive,
        "version = 1\nclaimed_bytes = 8388608\nidentity = { model = \"Mudlark 3\", serial = \"BL-8\" }\n\
         backing = [{ file = \"deck.img\", at_byte = 0 }]\nunreadable = [{ first_lba = 9000, sectors = 1 }]\n",
    )
    .unwrap();
    let source = keel_source::open(&drive, OpenOptions::default()).unwrap();
    let before = fs::read(folder.path().join("deck.img")).unwrap();
    let erase = Edit {
        structure: "ground".into(),
        at_byte: ByteOffset(0),
        before: Vec::new(),
        after: Payload::zeros(8 << 20),
        intent: Intent::Erase,
        belongs: Belongs::default(),
        order: Order::Primary,
        reason: "a test".into(),
    };
    let plan = Plan::new(&source, vec![erase], false);
    let path = folder.path().join("u.ykundo");
    let error = plan::apply(&source, &plan, &options(&path), &mut |_| {}).unwrap_err().to_string();
    assert!(error.contains("could not be put back"), "{error}");
    assert!(!path.exists() && fs::read(folder.path().join("deck.img")).unwrap() == before);
}

#[test]
fn tens_of_thousands_of_edits_are_laid_applied_and_undone() {
    state();
    let bench = Bench::new(64 * MIB);
    fs::write(&bench.image, noise(5, 64 << 20)).unwrap();
    let before = hash(&bench.image);
    let source = bench.open();
    // Every other sector, in an order that is not that of the drive.
    let count = 60_000u64;
    let place = |number: u64| number * 7919 % count * 1024;
    let edits: Vec<Edit> =
        (0..count).map(|number| edit(&source, place(number), vec![number as u8; 512], Intent::Repair)).collect();
    let view = mend::overlay(&source, &edits);
    assert_eq!(view.edited().count(), 60_000);
    let plan = Plan::new(&source, edits, false);
    let path = bench.folder.path().join("u.ykundo");
    plan::apply(&source, &plan, &options(&path), &mut |_| {}).unwrap();
    let mut now = [0; 512];
    source.read_at(ByteOffset(place(4321)), &mut now).unwrap();
    assert_eq!(now, [4321u64 as u8; 512]);
    let bundle = Bundle::read(&path).unwrap();
    assert_eq!((bundle.ranges.len(), plan::condition(&source, &bundle).unwrap()), (60_000, Condition::Applied));
    plan::recover(&source, (&path, &bundle), Direction::RollBack, &Confirmation::Yes, &mut |_| {}).unwrap();
    drop(source);
    assert_eq!(hash(&bench.image), before);
}

/// A drive with a table and two volumes.
fn pair() -> Bench {
    let bench = Bench::new(160 * MIB);
    bench.ntfs(MIB, 64 * MIB, "ENGINE", &files(3));
    bench.fat(65 * MIB, 80 * MIB, "32", "SPARES", &files(5));
    bench.mbr(&[(7, MIB, 64 * MIB), (0x0C, 65 * MIB, 80 * MIB)]);
    bench
}

fn objections(source: &SharedSource, edits: &[Edit]) -> Vec<String> {
    let swept = swept(source, Reach::Doubt);
    let ladder = |view: &SharedSource| -> Ladder { ladder::examine(view, &swept.finds, &Cancel::default()) };
    let (now, after) = (ladder(source), ladder(&(Arc::new(mend::overlay(source, edits)) as SharedSource)));
    let decided = |_: &VolumeLadder| false;
    mend::objections(edits, &now, &after, &decided)
}

#[test]
fn each_intent_is_asked_for_its_own_proof() {
    let bench = pair();
    let source = bench.open();
    let zeros = |at: u64, bytes: u64, intent| edit(&source, at, Payload::zeros(bytes), intent);
    // A repair may not take a volume away.
    let said = objections(&source, &[zeros(MIB, MIB, Intent::Repair)]);
    assert!(said.iter().any(|what| what.contains("ENGINE") || what.contains("n1")), "{said:?}");
    let said = objections(&source, &[zeros(0, 512, Intent::Repair)]);
    assert!(!said.is_empty(), "nor a table");
    // Erasing all of it is what was asked for.
    assert_eq!(objections(&source, &[zeros(0, 160 * MIB, Intent::Erase)]), Vec::<String>::new());
    assert_eq!(objections(&source, &[zeros(MIB, 64 * MIB, Intent::Erase)]), Vec::<String>::new());
    // Whose entry goes with the table was not asked to go.
    let said = objections(&source, &[zeros(0, 512, Intent::Erase), zeros(MIB, 64 * MIB, Intent::Erase)]);
    assert!(said.len() == 1 && said[0].contains("Entry of n2"), "{said:?}");
    // Erasing what leaves the volume whole erases nothing of it.
    let free = ByteRange::sized(ByteOffset(40 * MIB), 4096);
    let said = objections(&source, &[zeros(free.start.0, free.len(), Intent::Erase)]);
    assert!(said.iter().any(|what| what.contains("would still stand")), "{said:?}");
    // The neighbour was not asked to go.
    let said = objections(&source, &[zeros(MIB, 70 * MIB, Intent::Repair), zeros(0, 512, Intent::Erase)]);
    assert!(!said.is_empty(), "{said:?}");
    // What is erased elsewhere gives no leave to break the table.
    let said = objections(&source, &[zeros(0, 512, Intent::Repair), zeros(150 * MIB, MIB, Intent::Erase)]);
    assert!(said.iter().any(|what| what.starts_with("rung 5 Table")), "{said:?}");
    // A new table over the old one, with an entry behind which nothing stands.
    let mut sector = vec![0; 512];
    source.read_at(ByteOffset(0), &mut sector).unwrap();
    sector[446..510].fill(0);
    sector[446 + 4] = 7;
    sector[446 + 8..446 + 12].copy_from_slice(&(150 * MIB as u32 / 512).to_le_bytes());
    sector[446 + 12..446 + 16].copy_from_slice(&(8 * MIB as u32 / 512).to_le_bytes());
    let create = [edit(&source, 0, sector, Intent::Create), zeros(150 * MIB, MIB, Intent::Create)];
    let said = objections(&source, &create);
    assert!(said.iter().any(|what| what.contains("would not be whole")), "{said:?}");
}

#[test]
fn a_plan_shows_a_run_by_its_name_and_what_each_edit_is_for() {
    let bench = Bench::new(MIB);
    let source = bench.open();
    let plan = Plan::new(
        &source,
        vec![edit(&source, 512, Payload::zeros(1 << 19), Intent::Erase), edit(&source, 0, vec![0xA5; 4], Intent::Repair)],
        false,
    );
    let json = serde_json::to_value(&plan).unwrap();
    let field = |index: usize, name: &str| json["edits"][index][name].clone();
    assert_eq!((field(0, "run"), field(0, "bytes"), field(0, "intent")), ("zeros".into(), (1 << 19).into(), "erase".into()));
    assert_eq!((field(0, "after"), field(0, "before")), ("".into(), "".into()));
    assert_eq!(
        (field(1, "run"), field(1, "after"), field(1, "before")),
        (serde_json::Value::Null, "a5a5a5a5".into(), "00000000".into())
    );
    let mut image = Vec::new();
    File::open(&bench.image).unwrap().read_to_end(&mut image).unwrap();
    assert!(image.iter().all(|byte| *byte == 0), "nothing was written");
}
