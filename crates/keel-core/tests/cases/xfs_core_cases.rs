//! XFS volumes through the stages: found, planned, proven, taken by the kernel, and what lies under or over them.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::Command;

use crate::support::{Bench, MIB, files, ground, plant, run, swept, told, unmount};
use keel_core::layout::Choices;
use keel_core::mend::{self, Only};
use keel_core::plan;
use keel_core::sweep::{Grade, Reach};

/// An XFS volume of 400 MiB with files, as a file.
fn volume(bench: &Bench, name: &str, label: &str, options: &[&str], files: &BTreeMap<String, Vec<u8>>) -> std::path::PathBuf {
    let image = bench.folder.path().join(name);
    File::create(&image).unwrap().set_len(400 * MIB).unwrap();
    run(Command::new("mkfs.xfs").args(["-q", "-f", "-L", label]).args(options).arg(&image));
    mounted(&image, bench, |point| plant(point, files));
    image
}

fn mounted(image: &Path, bench: &Bench, work: impl FnOnce(&Path)) {
    let point = bench.folder.path().join("mounted");
    fs::create_dir_all(&point).unwrap();
    run(Command::new("mount").args(["-t", "xfs", "-o", "loop,nouuid"]).arg(image).arg(&point));
    work(&point);
    unmount(&point);
}

/// The drive as the plan would leave it; the kernel mounts its volume, reads every file and writes.
fn taken_by_kernel(bench: &Bench, files: &BTreeMap<String, Vec<u8>>) {
    let source = bench.open();
    let told = told(&source, &Choices::default(), &Only::All.into());
    assert_eq!(told.staged.withheld, [], "nothing is held back");
    assert!(told.now.lowest_broken.is_some() && told.after.lowest_broken.is_none(), "{:?}", told.after.lowest_broken);
    let (drive, cut) = (bench.folder.path().join("mended.img"), bench.folder.path().join("cut.img"));
    let _ = fs::remove_file(&drive);
    plan::save_as(&mend::overlay(&source, &told.staged.edits), &drive, &mut |_| {}).unwrap();
    run(Command::new("dd")
        .args(["bs=1M", "skip=1", "count=400", "conv=sparse", "status=none"])
        .args([format!("if={}", drive.display()), format!("of={}", cut.display())]));
    mounted(&cut, bench, |point| {
        for (path, content) in files {
            assert!(&fs::read(point.join(path)).unwrap() == content, "{path}");
        }
        fs::write(point.join("written after mending.bin"), vec![7; 3 << 20]).unwrap();
    });
}

#[test]
fn a_volume_whose_start_and_table_are_gone_comes_back_through_the_plan() {
    let files = files(4);
    for (name, gone) in [("the superblock", 512), ("superblock and headers", 2048), ("a table written over it", 0)] {
        let bench = Bench::new(420 * MIB);
        let image = volume(&bench, "berths.vol", "BERTHS", &[], &files);
        bench.place(&image, MIB);
        match gone {
            0 => bench.write(MIB, &[0x55; 512]),
            bytes => bench.zero(MIB, bytes),
        }
        let sweep = swept(&bench.open(), Reach::Doubt);
        assert_eq!(ground(&sweep), [("n1".into(), "XFS", MIB, 400 * MIB, "BERTHS".into())], "{name}");
        assert_eq!(sweep.finds[0].grade, Grade::Certain, "{name}");
        taken_by_kernel(&bench, &files);
    }
}

#[test]
fn a_sound_volume_behind_a_sound_entry_asks_for_nothing() {
    for options in [&[][..], &["-m", "rmapbt=1"], &["-s", "size=4096"]] {
        let bench = Bench::new(420 * MIB);
        let image = volume(&bench, "berths.vol", "BERTHS", options, &files(2));
        bench.place(&image, MIB);
        bench.mbr(&[(0x83, MIB, 400 * MIB)]);
        let told = told(&bench.open(), &Choices::default(), &Only::All.into());
        assert_eq!((told.staged.edits.len(), told.now.lowest_broken), (0, None), "{options:?}");
        assert_eq!(told.staged.withheld, [], "{options:?}");
    }
}

#[test]
fn a_volume_that_runs_is_sound_and_its_superblock_comes_back_with_its_log_left_alone() {
    let bench = Bench::new(420 * MIB);
    let image = volume(&bench, "berths.vol", "BERTHS", &[], &files(2));
    let torn = bench.folder.path().join("torn.vol");
    let later = files(9);
    mounted(&image, &bench, |point| {
        plant(&point.join("later"), &later);
        run(Command::new("sync").arg("-f").arg(point));
        run(Command::new("cp").arg("--sparse=always").arg(&image).arg(&torn));
    });
    bench.place(&torn, MIB);
    bench.mbr(&[(0x83, MIB, 400 * MIB)]);
    let sound = told(&bench.open(), &Choices::default(), &Only::All.into());
    assert_eq!((sound.staged.edits.len(), sound.now.lowest_broken), (0, None));
    bench.zero(MIB, 512);
    let all: BTreeMap<String, Vec<u8>> = later.iter().map(|(path, bytes)| (format!("later/{path}"), bytes.clone())).collect();
    // What only the log holds is there for the kernel too.
    taken_by_kernel(&bench, &all);
}

#[test]
fn what_another_volume_was_made_over_is_told_with_the_files_that_are_left() {
    let bench = Bench::new(420 * MIB);
    let many: BTreeMap<String, Vec<u8>> = (0..120)
        .map(|number| (format!("folder {}/day {number}.txt", number % 12), format!("day {number}\n").repeat(900).into_bytes()))
        .collect();
    let image = volume(&bench, "berths.vol", "BERTHS", &["-d", "agcount=4"], &many);
    run(Command::new("mkfs.vfat").args(["-F", "32", "-n", "TICKETS"]).arg(&image));
    bench.place(&image, MIB);
    bench.mbr(&[(0x0C, MIB, 400 * MIB)]);
    let sweep = swept(&bench.open(), Reach::Surface);
    let kinds: Vec<(&str, bool)> = sweep.finds.iter().map(|find| (find.kind.word(), find.is_former())).collect();
    assert_eq!(kinds, [("FAT32", false), ("XFS", true)], "{:?}", ground(&sweep));
    let volume = keel_core::files::open(&bench.open(), &sweep.finds[1]).unwrap();
    let (mut named, mut right) = (0, 0);
    volume
        .walk(keel_format::Deleted::Hide, &mut |found| {
            if let Some((_, bytes)) = many.iter().find(|(path, _)| path.ends_with(&format!("/{}", found.entry.name))) {
                named += 1;
                let content =
                    volume.open(found.entry.id, "").map(|mut stream| keel_format::read_whole(stream.as_mut(), 1 << 20).0);
                right += usize::from(content.is_ok_and(|content| content == *bytes));
            }
            std::ops::ControlFlow::Continue(())
        })
        .unwrap();
    assert!(named >= 60 && right >= named * 9 / 10, "{right} of {named}");
    let mut first = [0; 512];
    File::open(&bench.image).unwrap().read_exact_at(&mut first, MIB).unwrap();
    assert!(first.ends_with(&[0x55, 0xAA]), "nothing was written");
}
