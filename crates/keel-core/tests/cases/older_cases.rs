//! What lies under a volume that was made later on the same ground: an older generation, never the present one's, and never put back.

use std::collections::BTreeMap;
use std::fs;
use std::ops::ControlFlow;
use std::process::Command;

use crate::support::{Bench, MIB, by_name, files as some_files, run, swept};
use keel_core::files::{self, FileGround, GroundJudge};
use keel_core::job::Cancel;
use keel_core::layout::{self, Choices};
use keel_core::mend::{self, Only};
use keel_core::sweep::{Find, Grade, Reach, outer, readable};
use keel_core::{coverage::Coverage, ladder};
use keel_format::{Deleted, NodeKind, read_whole, table};
use keel_source::SharedSource;

const START: u64 = MIB;

/// Makes a volume of the whole image quickly, whatever stands there, and fills it through its driver.
fn make_over(bench: &Bench, (kind, options): (&str, &[&str]), content: &BTreeMap<String, Vec<u8>>) {
    let point = bench.folder.path().join("mounted");
    let tree = bench.folder.path().join("tree");
    let _ = fs::remove_dir_all(&tree);
    fs::create_dir_all(&point).unwrap();
    let image = &bench.image;
    let format = |program: &str, fixed: &[&str]| run(Command::new(program).args(fixed).args(options).arg(image));
    let mut device = None;
    match kind {
        "ntfs" => {
            format("mkfs.ntfs", &["-Q", "-F", "-q"]);
            run(Command::new("ntfs-3g").arg(image).arg(&point));
        }
        "ext4" => {
            format("mkfs.ext4", &["-q", "-F", "-E", "nodiscard"]);
            run(Command::new("mount").args(["-t", "ext4", "-o", "loop"]).arg(image).arg(&point));
        }
        "exfat" => {
            format("mkfs.exfat", &[]);
            let output = Command::new("losetup").args(["--find", "--show"]).arg(image).output().unwrap();
            let path = String::from_utf8(output.stdout).unwrap().trim().to_string();
            run(Command::new("mount.exfat-fuse").args(["-o", "rw", &path]).arg(&point));
            device = Some(path);
        }
        _ => format("mkfs.vfat", &["-F", "32"]),
    }
    let root = if kind == "fat" { &tree } else { &point };
    crate::support::plant(root, content);
    if kind == "fat" {
        let tops = fs::read_dir(&tree).unwrap().map(|entry| entry.unwrap().path());
        let mut copy = Command::new("mcopy");
        copy.env("MTOOLS_SKIP_CHECK", "1").env("LC_ALL", "C.UTF-8").arg("-s").arg("-i").arg(image).args(tops).arg("::");
        return run(&mut copy);
    }
    crate::support::unmount(&point);
    device.iter().for_each(|path| run(Command::new("losetup").args(["--detach", path])));
}

/// Every file of a find: name, content, and what is said of its ground.
fn listed(source: &SharedSource, finds: &[Find], find: &Find) -> Vec<(String, Vec<u8>, FileGround)> {
    let volume = files::open(source, find).unwrap();
    let taken = files::taken(source, finds, find);
    let judge =
        taken.as_ref().map_or_else(|| GroundJudge::new(volume.as_ref()), |taken| GroundJudge::under(volume.as_ref(), taken));
    let mut listed = Vec::new();
    volume
        .walk(Deleted::Hide, &mut |found| {
            if found.entry.kind == NodeKind::File {
                let read = volume.open(found.entry.id, "").map(|mut stream| read_whole(stream.as_mut(), 1 << 20).0);
                listed.push((found.entry.name.clone(), read.unwrap_or_default(), judge.of(found.entry)));
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    listed
}

type Kind = (&'static str, &'static [&'static str]);

/// Makes `new` over `old` and asks: one present volume that is itself alone, and an older one of which at least `least` files come out
/// right, and none that is called whole is anything else.
fn under(old: Kind, new: Kind, least: usize) {
    let said = format!("{old:?} under {new:?}");
    let bench = Bench::new(100 * MIB);
    let before = some_files(11);
    make_over(&bench, old, &before);
    let few = BTreeMap::from([("n.txt".to_string(), b"made over\n".repeat(30))]);
    make_over(&bench, new, &few);
    let source = bench.open();
    let sweep = swept(&source, Reach::Surface);
    let (older, present): (Vec<&Find>, Vec<&Find>) = sweep.finds.iter().partition(|find| find.is_former());
    assert_eq!(present.len(), 1, "{said}: {:?}", crate::support::ground(&sweep));
    assert_eq!(present[0].grade, Grade::Certain, "{said}");
    let own: BTreeMap<String, Vec<u8>> =
        listed(&source, &sweep.finds, present[0]).into_iter().map(|(name, bytes, _)| (name, bytes)).collect();
    assert_eq!(own, by_name(&few), "{said}: the present one is itself");
    let find = older.first().unwrap_or_else(|| panic!("{said}: nothing older"));
    assert_eq!(find.older_than.as_ref(), Some(&present[0].id), "{said}");
    let wanted = by_name(&before);
    let files = listed(&source, &sweep.finds, find);
    let is_right = |name: &String, bytes: &Vec<u8>| wanted.get(name) == Some(bytes);
    let wrong: Vec<&String> = files
        .iter()
        .filter(|(name, bytes, ground)| *ground == FileGround::Whole && wanted.contains_key(name) && !is_right(name, bytes))
        .map(|(name, ..)| name)
        .collect();
    assert!(wrong.is_empty(), "{said}: called whole and not what was written: {wrong:?}");
    let right = files.iter().filter(|(name, bytes, ground)| *ground != FileGround::Gone && is_right(name, bytes)).count();
    assert!(right >= least, "{said}: {right} of {}", before.len());
    never_put_back(&source, &sweep.finds, &sweep.looked_at, find, &said);
    // A sweep that reads landmarks alone meets traces, and says that there may be more.
    let quick = swept(&source, Reach::Doubt);
    let met: Vec<&str> = quick.traces().iter().map(|find| find.id.as_str()).collect();
    assert!(quick.finds.iter().any(Find::is_former) && !met.is_empty(), "{said}: {:?}", crate::support::ground(&quick));
}

/// An older generation is in no layout, no plan, no rung that is lowest, and explains no ground.
fn never_put_back(source: &SharedSource, finds: &[Find], looked_at: &[keel_source::ByteRange], find: &Find, said: &str) {
    let table = table::read(source.as_ref());
    let layout = layout::settle(source, &table, finds, &Choices::default());
    let left = layout.left_out.iter().find(|left| left.find == find.id).unwrap_or_else(|| panic!("{said}: in the layout"));
    assert!(left.why.contains("older generation"), "{said}: {}", left.why);
    assert!(!layout.holds(find), "{said}");
    let staged = mend::stage(source, &table, finds, &layout, &Only::All.into());
    assert!(staged.edits.is_empty(), "{said}: {:?}", staged.edits.iter().map(|edit| &edit.structure).collect::<Vec<_>>());
    let seen = keel_core::sweep::Seen { finds, looked_at };
    let ladder = ladder::examine(source, seen, &Cancel::default());
    assert_eq!(
        ladder.lowest_broken.as_ref().and_then(|lowest| lowest.volume.as_ref()).filter(|id| **id == find.id),
        None,
        "{said}"
    );
    // What stands by itself is the present volume alone, for commands as for advice.
    assert!(outer(finds).chain(readable(finds)).all(|other| other.id != find.id), "{said}");
    let alone: Vec<Find> = vec![find.clone()];
    let whole = keel_source::ByteRange::sized(keel_source::ByteOffset(0), source.len());
    assert_eq!(Coverage::of(source, &table, &alone, &[]).unexplained, [whole], "{said}: an older one explains no ground");
}

// What the newer volume writes first takes the ground of one of the older folders, and the names in it with it: at most fourteen.

#[test]
fn an_older_ntfs_comes_back() {
    under(("ntfs", &[]), ("ntfs", &[]), 25);
    under(("ntfs", &["-c", "16384"]), ("ntfs", &[]), 25);
}

/// Of files whose records the newer volume or anything else overwrote, the names are left where an index block is.
#[test]
fn names_of_an_older_ntfs_are_left_where_its_records_are_not() {
    for over in [("ntfs", &[][..]), ("ext4", &[])] {
        let bench = Bench::new(100 * MIB);
        let many: BTreeMap<String, Vec<u8>> = (0..400)
            .map(|number| (format!("Tallies/tally {number:03}.txt"), format!("{number} ropes\n").repeat(400).into_bytes()))
            .collect();
        make_over(&bench, ("ntfs", &[]), &many);
        // The records of most of the files are overwritten, as the newer volume's own files would do it.
        let file = fs::read(&bench.image).unwrap();
        let number = |at: usize| u32::from_le_bytes(*file[at + 44..].first_chunk().unwrap());
        let is_record = |at: &usize| file[*at..].starts_with(b"FILE") && number(*at) >= 64 && number(*at) % 8 > 2;
        let records: Vec<usize> = (0..file.len()).step_by(1024).filter(is_record).collect();
        assert!(records.len() > 200, "{}", records.len());
        records.iter().for_each(|at| bench.write(*at as u64, &[0x5A; 1024]));
        make_over(&bench, over, &BTreeMap::from([("n.txt".to_string(), b"made over\n".repeat(30))]));
        let source = bench.open();
        let sweep = swept(&source, Reach::Surface);
        let Some(find) = sweep.finds.iter().find(|find| find.is_former()) else { panic!("{over:?}: nothing older") };
        let files = listed(&source, &sweep.finds, find);
        let (gone, left): (Vec<_>, Vec<_>) = files.iter().partition(|(_, _, ground)| *ground == FileGround::Gone);
        let names: std::collections::BTreeSet<&str> = files.iter().map(|(name, ..)| name.as_str()).collect();
        assert_eq!(names.len(), files.len(), "{over:?}: each once");
        let missing = (0..400).filter(|number| !names.contains(format!("tally {number:03}.txt").as_str())).count();
        assert!(
            missing <= 60 && gone.len() >= 150,
            "{over:?}: {missing} names missing, {} gone, {} left",
            gone.len(),
            left.len()
        );
        assert!(gone.iter().all(|(_, bytes, _)| bytes.is_empty()), "{over:?}");
    }
}

#[test]
fn an_older_fat_comes_back_with_the_folders_that_go_on_elsewhere() {
    under(("fat", &[]), ("ntfs", &[]), 27);
    under(("fat", &[]), ("fat", &[]), 27);
    under(("fat", &["-s", "1"]), ("ext4", &["-b", "4096"]), 14);
}

#[test]
fn an_older_exfat_comes_back_by_its_sets_alone() {
    under(("exfat", &["-c", "4K"]), ("exfat", &["-c", "4K"]), 27);
    under(("exfat", &["-c", "4K"]), ("exfat", &["-c", "32K"]), 14);
    under(("exfat", &["-c", "32K"]), ("fat", &[]), 27);
    under(("exfat", &["-c", "4K"]), ("ntfs", &[]), 27);
}

#[test]
fn an_older_ext_comes_back_by_copies_of_its_superblock_or_from_tables_that_were_not_cleared() {
    under(("ext4", &[]), ("ext4", &[]), 27);
    under(("ext4", &["-b", "1024"]), ("ntfs", &[]), 27);
}

/// A folder of more clusters than one, whose entries break in the middle of a long name.
#[test]
fn a_folder_of_many_clusters_is_put_together_from_pieces_that_lie_apart() {
    let bench = Bench::new(64 * MIB);
    let many: BTreeMap<String, Vec<u8>> = (0..200)
        .map(|number| {
            (format!("Tallies/tally sheet number {number:03}.txt"), format!("{number} ropes\n").repeat(90).into_bytes())
        })
        .collect();
    make_over(&bench, ("fat", &["-s", "1"]), &many);
    make_over(&bench, ("ntfs", &[]), &BTreeMap::from([("n.txt".to_string(), b"made over\n".to_vec())]));
    let source = bench.open();
    let sweep = swept(&source, Reach::Surface);
    let find = sweep.finds.iter().find(|find| find.is_former()).unwrap();
    let files = listed(&source, &sweep.finds, find);
    let wanted = by_name(&many);
    let right = files.iter().filter(|(name, bytes, _)| wanted.get(name) == Some(bytes)).count();
    assert!(right >= 198, "{right} of 200");
}

#[test]
fn a_weak_older_volume_asks_for_no_layout_and_is_looked_into_by_nobody_who_did_not_ask() {
    let bench = Bench::new(100 * MIB);
    make_over(&bench, ("ntfs", &[]), &some_files(11));
    make_over(&bench, ("ntfs", &[]), &BTreeMap::from([("n.txt".to_string(), b"made over\n".to_vec())]));
    let source = bench.open();
    let mut finds = swept(&source, Reach::Surface).finds;
    finds.iter_mut().filter(|find| find.is_former()).for_each(|find| find.grade = Grade::Weak);
    assert!(finds.iter().any(Find::is_former));
    assert!(outer(&finds).all(|find| find.grade == Grade::Certain));
    assert_eq!(readable(&finds).count(), 1);
}

/// What formatters of other kinds leave of a superblock is stale: the volume that reads is the present one, and it is mended.
#[test]
fn a_superblock_that_nobody_reads_makes_no_volume_that_reads_an_older_one() {
    for before in ["mkfs.btrfs", "mkfs.xfs"] {
        let bench = Bench::new(320 * MIB);
        run(Command::new(before).args(["-q", "-f"]).arg(&bench.image));
        let content = some_files(37);
        make_over(&bench, ("ntfs", &[]), &content);
        // Both boot sectors are lost.
        bench.zero(0, 512);
        bench.zero(320 * MIB - 512, 512);
        let source = bench.open();
        let sweep = swept(&source, Reach::Surface);
        let find = sweep.finds.iter().find(|find| find.kind == keel_format::VolumeKind::Ntfs).unwrap();
        assert!(!find.is_former() && find.grade >= Grade::Strong, "{before}: {:?}", crate::support::ground(&sweep));
        let table = table::read(source.as_ref());
        let layout = layout::settle(&source, &table, &sweep.finds, &Choices::default());
        let staged = mend::stage(&source, &table, &sweep.finds, &layout, &Only::All.into());
        let boot = staged.edits.iter().any(|edit| edit.structure.contains("NTFS boot sector") && edit.at_byte.0 == 0);
        assert!(boot, "{before}: {:?}", staged.edits.iter().map(|edit| &edit.structure).collect::<Vec<_>>());
    }
}

#[test]
fn a_mirror_of_more_than_four_records_is_no_volume() {
    let bench = Bench::new(100 * MIB);
    make_over(&bench, ("ntfs", &["-c", "16384"]), &some_files(11));
    let sweep = swept(&bench.open(), Reach::Surface);
    assert_eq!(sweep.finds.len(), 1, "{:?}", crate::support::ground(&sweep));
}

#[test]
fn deleted_folders_of_a_volume_are_its_own_and_no_older_generation() {
    let bench = Bench::new(80 * MIB);
    bench.fat(START, 70 * MIB, "32", "ROPES", &some_files(13));
    bench.mbr(&[(0x0C, START, 70 * MIB)]);
    let place = format!("{}@@{START}", bench.image.display());
    for folder in ["::Crossings", "::Engine room", "::Letters"] {
        run(Command::new("mdeltree").env("MTOOLS_SKIP_CHECK", "1").args(["-i", &place, folder]));
    }
    let sweep = swept(&bench.open(), Reach::Surface);
    assert_eq!(sweep.finds.len(), 1, "{:?}", crate::support::ground(&sweep));
}
