//! Drives on which little is left: what a verdict rests on, what is found without boot sectors, what lies under a volume that
//! was made later, and what is never undone.

use std::collections::BTreeMap;
use std::fs;
use std::ops::ControlFlow;
use std::process::Command;
use std::sync::Arc;

use crate::support::{Bench, MIB, Told, by_name, files as some_files, run, swept};
use keel_core::coverage::Coverage;
use keel_core::files::{self, FileGround, GroundJudge};
use keel_core::job::{Cancel, Desk};
use keel_core::ladder::{self, RungName, RungState};
use keel_core::layout::Choices;
use keel_core::mend::{Only, Request, Wishes};
use keel_core::plan::{self, ApplyOptions, Confirmation, Plan};
use keel_core::sweep::{Find, Reach};
use keel_core::{CoreError, Refusal};
use keel_format::table::mbr::make::{NewLogical, ebr_sectors};
use keel_format::table::{self, Role};
use keel_format::{Deleted, Existence, Geometry, NodeKind};
use keel_source::{ByteOffset, Lba, SectorCount, SharedSource};

const START: u64 = MIB;

fn told(source: &SharedSource, wishes: &Wishes) -> Told {
    crate::support::told(source, &Choices::default(), wishes)
}

/// Every file that comes out of a find, by the name of the file alone.
fn contents(source: &SharedSource, find: &Find) -> BTreeMap<String, Vec<u8>> {
    let volume = files::open(source, find).unwrap();
    let mut nodes = Vec::new();
    volume
        .walk(Deleted::Hide, &mut |found| {
            if found.entry.kind == NodeKind::File {
                nodes.push((found.entry.name.clone(), found.entry.id));
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    let read = |id| keel_format::read_whole(volume.open(id, "").unwrap().as_mut(), 1 << 20).0;
    nodes.into_iter().map(|(name, id)| (name, read(id))).collect()
}

#[test]
fn logicals_whose_extended_entry_is_gone_are_unexplained_ground_until_they_are_swept() {
    let bench = Bench::new(220 * MIB);
    bench.ntfs(MIB, 32 * MIB, "ENGINE", &some_files(3));
    let logicals = [(41 * MIB, 48 * MIB), (90 * MIB, 48 * MIB), (139 * MIB, 48 * MIB)];
    for (index, (at, bytes)) in logicals.iter().enumerate() {
        bench.fat(*at, *bytes, "16", &format!("LOG{index}"), &some_files(7 + index as u64));
    }
    let chain: Vec<NewLogical> = logicals
        .iter()
        .map(|(at, bytes)| NewLogical {
            ebr: Lba((at - MIB) / 512),
            first: Lba(at / 512),
            sectors: SectorCount(bytes / 512),
            os_type: 0x0E,
        })
        .collect();
    for (lba, bytes) in ebr_sectors(Lba(40 * 2048), &chain).unwrap() {
        bench.write(lba.0 * 512, &bytes);
    }
    bench.mbr(&[(0x07, MIB, 32 * MIB)]);
    let source = bench.open();
    let table = table::read(source.as_ref());
    let ntfs_alone: Vec<Find> = swept(&source, Reach::Landmarks).finds.into_iter().take(1).collect();
    let coverage = Coverage::of(&source, &table, &ntfs_alone, &[]);
    assert!(!coverage.is_whole() && coverage.percent() < 20, "{}", coverage.sentence());
    assert!(coverage.next().unwrap().contains("sweep"), "{:?}", coverage.next());
    let told = told(&source, &Only::All.into());
    assert!(told.now.coverage.is_whole(), "{}", told.now.coverage.sentence());
    let roles: Vec<(Role, u64)> = told.layout.entries.iter().map(|entry| (entry.role, entry.first.0 * 512)).collect();
    let wanted = [(Role::Primary, MIB), (Role::Logical, 41 * MIB), (Role::Logical, 90 * MIB), (Role::Logical, 139 * MIB)];
    assert_eq!(roles, wanted, "the EBRs that are left say that they were logical");
    assert_eq!(told.after.lowest_broken, None);
}

#[test]
fn no_verdict_is_whole_on_ground_that_nobody_looked_at() {
    let bench = Bench::new(200 * MIB);
    bench.ntfs(MIB, 40 * MIB, "ENGINE", &some_files(3));
    bench.mbr(&[(0x07, MIB, 40 * MIB)]);
    bench.write(120 * MIB, &[0x5A; 4096]);
    let source = bench.open();
    let landmarks = swept(&source, Reach::Landmarks);
    let now = ladder::examine(&source, &landmarks, &Cancel::default());
    assert_eq!(now.lowest_broken, None);
    assert!(!now.coverage.is_whole() && now.verdict().contains("% of the drive"), "{}", now.verdict());
    let whole = ladder::examine(&source, &swept(&source, Reach::Doubt), &Cancel::default());
    assert_eq!(whole.verdict(), "no rung is broken");
    assert_eq!(whole.coverage.percent(), 100);
}

#[test]
fn an_entry_behind_which_nothing_states_a_volume_is_not_sound() {
    let bench = Bench::new(100 * MIB);
    bench.mbr(&[(0x0C, MIB, 90 * MIB)]);
    bench.write(MIB, &b"minutes of the harbour board\n".repeat(2000));
    let now = ladder::examine(&bench.open(), &Vec::new(), &Cancel::default());
    let lowest = now.lowest_broken.clone().unwrap();
    assert_eq!(lowest.rung, RungName::BootSector, "{:?}", now.volumes);
}

#[test]
fn a_boot_image_with_a_table_inside_is_whole_and_nothing_of_it_is_a_leftover() {
    let bench = Bench::new(64 * MIB);
    let tree = bench.folder.path().join("tree");
    for (path, bytes) in some_files(5) {
        let full = tree.join(path);
        fs::create_dir_all(full.parent().unwrap()).unwrap();
        fs::write(full, bytes).unwrap();
    }
    let image = bench.folder.path().join("boot.iso");
    run(Command::new("genisoimage").args(["-quiet", "-J", "-R", "-V", "QUAY", "-o"]).arg(&image).arg(&tree));
    let bytes = fs::read(&image).unwrap();
    bench.write(0, &bytes);
    for entries in [vec![], vec![(0x17, 512, 600 * 1024)]] {
        if !entries.is_empty() {
            bench.mbr(&entries);
        }
        let source = bench.open();
        let also: Wishes = Wishes { also: [Request::Leftovers].into(), ..Wishes::default() };
        for wishes in [Only::All.into(), also] {
            let told = told(&source, &wishes);
            assert_eq!(told.staged.edits, [], "{entries:?}");
            assert_eq!(told.now.rung(RungName::Table).unwrap().state, RungState::Sound, "{:?}", told.now.rungs);
        }
    }
}

#[test]
fn a_sector_0_that_holds_anything_is_no_table_and_the_volumes_come_back() {
    let bench = Bench::new(200 * MIB);
    bench.ntfs(MIB, 64 * MIB, "ENGINE", &some_files(3));
    bench.fat(70 * MIB, 80 * MIB, "32", "SPARES", &some_files(5));
    for seed in 1..8u64 {
        let mut state = seed;
        let mut next = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 33) as u8
        };
        let mut sector: Vec<u8> = (0..510).map(|_| next()).collect();
        sector.extend([0x55, 0xAA]);
        if seed % 2 == 0 {
            // An entry of the protective type in the wrong place, and one of an extended partition.
            sector[450] = 0xEE;
            sector[466] = 0x05;
        }
        bench.write(0, &sector);
        let told = told(&bench.open(), &Only::All.into());
        let starts: Vec<u64> = told.layout.entries.iter().map(|entry| entry.first.0 * 512).collect();
        assert_eq!(starts, [MIB, 70 * MIB], "seed {seed}: {:?}", told.layout);
        assert_eq!(told.after.lowest_broken, None, "seed {seed}: {:?}", told.after.rungs);
    }
}

/// A FAT volume under a right entry, without boot sectors and with more of it gone.
fn harmed_fat(
    bits: &str,
    bytes: u64,
    harm: impl Fn(&Bench, keel_format::fat::FatGeometry),
) -> (Bench, BTreeMap<String, Vec<u8>>) {
    let bench = Bench::new(bytes + 4 * MIB);
    let content = some_files(7);
    bench.fat(START, bytes, bits, "ROPES", &content);
    bench.mbr(&[(if bits == "32" { 0x0C } else { 0x0E }, START, bytes)]);
    let Some(Geometry::Fat(fat)) = keel_format::registry::boot_sector(bench.open().as_ref(), ByteOffset(START)) else {
        panic!("a FAT volume")
    };
    bench.zero(START, 512);
    if fat.backup > 0 {
        bench.zero(START + 512, 512);
        bench.zero(START + u64::from(fat.backup) * 512, 1024);
    }
    harm(&bench, fat);
    (bench, content)
}

#[test]
fn a_fat_volume_without_boot_sectors_is_found_with_either_fat_or_neither_start_and_mended() {
    type Harm = fn(&Bench, keel_format::fat::FatGeometry);
    let nothing: Harm = |_, _| {};
    let first_start: Harm = |bench, fat| bench.zero(START + fat.fat_at(0).0, 512);
    let first_whole: Harm = |bench, fat| bench.zero(START + fat.fat_at(0).0, fat.fat_bytes() as usize);
    let second_start: Harm = |bench, fat| bench.zero(START + fat.fat_at(1).0, 512);
    for (bits, bytes) in [("32", 70 * MIB), ("32", 300 * MIB), ("16", 60 * MIB)] {
        for (what, harm) in
            [("boots", nothing), ("first start", first_start), ("first FAT", first_whole), ("second start", second_start)]
        {
            let (bench, content) = harmed_fat(bits, bytes, harm);
            let source = bench.open();
            let told = told(&source, &Only::All.into());
            let find = told.sweep.finds.first().unwrap_or_else(|| panic!("{bits} {what}: nothing found"));
            assert_eq!((find.start_byte.0, find.bytes), (START, bytes), "{bits} {what}");
            assert_eq!(contents(&source, find), by_name(&content), "{bits} {what}");
            assert_eq!(told.after.lowest_broken, None, "{bits} {what}: {:?}", told.staged.withheld);
            let mended = crate::support::mended(&bench, &source, &told);
            crate::support::accepted_by_driver("vfat", &mended, find.range(), &content);
        }
    }
}

#[test]
fn both_fat_starts_gone_leave_files_that_are_called_guessed() {
    let (bench, content) = harmed_fat("32", 300 * MIB, |bench, fat| {
        bench.zero(START + fat.fat_at(0).0, 512);
        bench.zero(START + fat.fat_at(1).0, 512);
    });
    let source = bench.open();
    let sweep = swept(&source, Reach::Doubt);
    let find = &sweep.finds[0];
    assert_eq!((find.start_byte.0, find.bytes), (START, 300 * MIB));
    assert_eq!(contents(&source, find), by_name(&content), "what follows one another is the file, on a volume written once");
    let volume = files::open(&source, find).unwrap();
    let judge = GroundJudge::new(volume.as_ref());
    let mut states = BTreeMap::new();
    volume
        .walk(Deleted::Hide, &mut |found| {
            if found.entry.kind == NodeKind::File {
                *states.entry(judge.of(found.entry)).or_insert(0) += 1;
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    assert!(states.get(&FileGround::Guessed).is_some_and(|count| *count > 0), "{states:?}");
}

#[test]
fn an_ntfs_without_its_first_records_and_their_mirror_lists_reads_and_is_mended() {
    let bench = Bench::new(100 * MIB);
    let content = some_files(9);
    bench.ntfs(START, 80 * MIB, "ROPES", &content);
    bench.mbr(&[(0x07, START, 80 * MIB)]);
    let ntfs = crate::support::ntfs_at(&bench, START);
    let records = 4 * ntfs.record_bytes as usize;
    for at in [ntfs.mft_lcn, ntfs.mirror_lcn] {
        bench.zero(START + ntfs.cluster_at(at).0, records);
    }
    for without_boots in [false, true] {
        if without_boots {
            bench.zero(START, 512);
            bench.zero(START + ntfs.backup_at().0, 512);
        }
        let source = bench.open();
        let sweep = swept(&source, Reach::Surface);
        let find = &sweep.finds[0];
        assert_eq!((find.start_byte.0, find.bytes, sweep.finds.len()), (START, 80 * MIB, 1), "{without_boots}");
        assert_eq!(contents(&source, find), by_name(&content), "{without_boots}");
        // What the root's index and the ground that nobody claims say is enough for a driver.
        let told = told(&source, &Only::All.into());
        let mended = crate::support::mended(&bench, &source, &told);
        crate::support::accepted_by_driver("ntfs", &mended, find.range(), &content);
    }
}

#[test]
fn a_stale_mirror_is_staged_by_itself_and_the_driver_takes_the_volume_again() {
    let bench = Bench::new(100 * MIB);
    let content = some_files(9);
    bench.ntfs(START, 80 * MIB, "ROPES", &content);
    bench.mbr(&[(0x07, START, 80 * MIB)]);
    let ntfs = crate::support::ntfs_at(&bench, START);
    let other = Bench::new(100 * MIB);
    other.ntfs(START, 80 * MIB, "BEFORE", &some_files(2));
    let mirror = START + ntfs.cluster_at(ntfs.mirror_lcn).0;
    bench.write(mirror, &other.read(mirror, 4 * ntfs.record_bytes as usize));
    let source = bench.open();
    let told = told(&source, &Only::All.into());
    assert!(told.now.volumes[0].rungs.iter().any(|rung| rung.state == RungState::Doubtful), "{:?}", told.now.volumes[0].rungs);
    assert!(!told.staged.edits.is_empty());
    let mended = crate::support::mended(&bench, &source, &told);
    crate::support::accepted_by_driver("ntfs", &mended, told.sweep.finds[0].range(), &content);
}

#[test]
fn deleted_files_are_whole_guessed_overwritten_or_gone_by_what_their_clusters_are_now() {
    let bench = Bench::new(80 * MIB);
    let content = some_files(13);
    bench.fat(START, 70 * MIB, "32", "ROPES", &content);
    bench.mbr(&[(0x0C, START, 70 * MIB)]);
    let place = format!("{}@@{START}", bench.image.display());
    let names = ["::Crossings/sheet 00.txt", "::Crossings/sheet 09.txt", "::Crossings/sheet 30.txt"];
    for name in names {
        run(Command::new("mdel").env("MTOOLS_SKIP_CHECK", "1").args(["-i", &place, name]));
    }
    let states = |bench: &Bench| {
        let source = bench.open();
        let find = swept(&source, Reach::Doubt).finds[0].clone();
        let volume = files::open(&source, &find).unwrap();
        let judge = GroundJudge::new(volume.as_ref());
        let mut states = Vec::new();
        volume
            .walk(Deleted::Show, &mut |found| {
                if found.entry.existence == Existence::Deleted {
                    states.push((found.entry.name.clone(), judge.of(found.entry)));
                }
                ControlFlow::Continue(())
            })
            .unwrap();
        states
    };
    let before = states(&bench);
    assert_eq!(before.len(), 3, "{before:?}");
    assert!(before.iter().all(|(_, ground)| *ground == FileGround::Guessed), "nothing records their clusters: {before:?}");
    // Until the volume is full, with ever smaller files: the last of a size does not fit any more.
    let filler = bench.folder.path().join("filler.bin");
    for (bytes, most) in [(1 << 20, 80), (64 << 10, 20), (4 << 10, 20), (512, 12)] {
        fs::write(&filler, vec![0x31; bytes]).unwrap();
        for number in 0..most {
            let name = format!("::filler{bytes}-{number}.bin");
            let mut copy = Command::new("mcopy");
            copy.env("MTOOLS_SKIP_CHECK", "1").args(["-i", &place]).arg(&filler).arg(name);
            if !copy.output().unwrap().status.success() {
                break;
            }
        }
    }
    let after = states(&bench);
    assert!(after.iter().any(|(_, ground)| *ground == FileGround::Gone), "their clusters are another file's now: {after:?}");
}

#[test]
fn deleted_files_of_an_ext4_come_back_from_its_journal() {
    let folder = tempfile::tempdir().unwrap();
    let (image, point) = (folder.path().join("volume.img"), folder.path().join("mounted"));
    fs::File::create(&image).unwrap().set_len(80 * MIB).unwrap();
    run(Command::new("mkfs.ext4").args(["-q", "-F", "-L", "ROPES"]).arg(&image));
    fs::create_dir_all(&point).unwrap();
    let content = some_files(17);
    run(Command::new("mount").args(["-o", "loop"]).arg(&image).arg(&point));
    for (path, bytes) in &content {
        let full = point.join(path);
        fs::create_dir_all(full.parent().unwrap()).unwrap();
        fs::write(full, bytes).unwrap();
    }
    run(&mut Command::new("sync"));
    let gone = ["Pictures/quay.png", "Crossings/sheet 30.txt"];
    gone.iter().for_each(|path| fs::remove_file(point.join(path)).unwrap());
    run(Command::new("umount").arg(&point));
    let source = keel_source::open(&image, keel_source::OpenOptions::default()).unwrap();
    let find = swept(&source, Reach::Doubt).finds[0].clone();
    let volume = files::open(&source, &find).unwrap();
    let judge = GroundJudge::new(volume.as_ref());
    for path in gone {
        let found = files::resolve(volume.as_ref(), path).unwrap();
        assert_eq!((found.entry.existence, judge.of(&found.entry)), (Existence::Deleted, FileGround::Whole), "{path}");
        let bytes = keel_format::read_whole(volume.open(found.entry.id, "").unwrap().as_mut(), 1 << 20).0;
        assert_eq!(bytes, content[path], "{path}");
    }
}

#[test]
fn hard_links_streams_and_odd_names_come_out() {
    let folder = tempfile::tempdir().unwrap();
    let (image, point, to) = (folder.path().join("volume.img"), folder.path().join("mounted"), folder.path().join("out"));
    fs::File::create(&image).unwrap().set_len(60 * MIB).unwrap();
    run(Command::new("mkfs.ntfs").args(["-Q", "-F", "-q"]).arg(&image));
    fs::create_dir_all(&point).unwrap();
    run(Command::new("ntfs-3g").args(["-o", "streams_interface=windows"]).arg(&image).arg(&point));
    fs::create_dir_all(point.join("quay/empty")).unwrap();
    fs::write(point.join("quay/100% sure.txt"), b"yes\n").unwrap();
    fs::write(point.join("quay/rope.txt"), b"hemp\n").unwrap();
    fs::write(point.join("quay/rope.txt:origin"), b"the chandler's").unwrap();
    fs::hard_link(point.join("quay/rope.txt"), point.join("line.txt")).unwrap();
    for _ in 0..50 {
        if Command::new("umount").arg(&point).output().unwrap().status.success() {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    let source = keel_source::open(&image, keel_source::OpenOptions::default()).unwrap();
    let find = swept(&source, Reach::Doubt).finds[0].clone();
    let volume = files::open(&source, &find).unwrap();
    let desk = Desk::new(Cancel::default()).0;
    let extracted =
        files::take_out(&source, (volume.as_ref(), files::GroundJudge::new(volume.as_ref())), &[], &to, &desk).unwrap();
    assert_eq!((extracted.failed, extracted.compared), (0, true), "{:?}", extracted.files);
    for (path, bytes) in [
        ("quay/100% sure.txt", &b"yes\n"[..]),
        ("quay/rope.txt", b"hemp\n"),
        ("line.txt", b"hemp\n"),
        ("quay/rope.txt.origin.stream", b"the chandler's"),
    ] {
        assert_eq!(fs::read(to.join(path)).unwrap(), bytes, "{path}");
    }
    assert!(to.join("quay/empty").is_dir(), "a folder that holds nothing is made too");
}

#[test]
fn a_plan_that_lowers_a_rung_is_refused_before_anything_is_written() {
    let bench = Bench::new(100 * MIB);
    bench.ntfs(MIB, 64 * MIB, "ENGINE", &some_files(3));
    let source = bench.open();
    let told = told(&source, &Only::All.into());
    let plan = Plan::new(&source, told.staged.edits.clone(), false).lowering(vec!["rung 6 Entry of n1 would be broken".into()]);
    let options = ApplyOptions { confirmation: Confirmation::Yes, override_words: None, bundle: None, stamp: "test".into() };
    let before = bench.read(0, 512);
    let error = plan::apply(&source, &plan, &options, &mut |_| {}).unwrap_err();
    assert!(matches!(error, CoreError::Refused(Refusal::Lowers { .. })), "{error}");
    assert_eq!(bench.read(0, 512), before);
    // The ladder itself tells what a plan would lower: here the other way round.
    let lowered = ladder::lowered(&told.after, &told.now, &|_| false);
    assert!(lowered.iter().any(|lowered| lowered.rung == RungName::Table), "{lowered:?}");
    assert!(ladder::lowered(&told.now, &told.after, &|_| false).is_empty());
}

/// Everything before the data is gone: boot sector, both FATs, and the fixed root.
#[test]
fn a_fat16_of_which_folders_alone_are_left_is_placed_by_them_and_its_files_come_out() {
    for (noise, bits, bytes) in [(false, "16", 80 * MIB), (true, "16", 80 * MIB), (true, "12", 10 * MIB)] {
        let bench = Bench::new(bytes + 4 * MIB);
        let content = some_files(19);
        bench.fat(START, bytes, bits, "ROPES", &content);
        bench.mbr(&[(if bits == "16" { 0x0E } else { 0x01 }, START, bytes)]);
        let Some(Geometry::Fat(fat)) = keel_format::registry::boot_sector(bench.open().as_ref(), ByteOffset(START)) else {
            panic!("FAT")
        };
        let head = fat.cluster_at(2).unwrap().0;
        let byte = |at: u64| if noise { (at.wrapping_mul(0x9E37_79B9) >> 13) as u8 } else { 0 };
        bench.write(START, &(0..head).map(byte).collect::<Vec<u8>>());
        let source = bench.open();
        let told = told(&source, &Only::All.into());
        let find = told.sweep.finds.iter().find(|find| find.is_outer()).unwrap_or_else(|| panic!("FAT{bits}, {noise}: nothing"));
        assert_eq!((find.start_byte.0, find.bytes), (START, bytes), "FAT{bits}, {noise}: the entry states the length");
        assert!(find.grade < keel_core::sweep::Grade::Certain, "FAT{bits}, {noise}");
        let mut found = contents(&source, find);
        let mut wanted = by_name(&content);
        // The root is gone, and with it the names of its files; folders keep theirs.
        found.retain(|name, _| wanted.contains_key(name));
        wanted.retain(|name, _| found.contains_key(name));
        assert!(wanted.len() >= 41 && found == wanted, "FAT{bits}, {noise}: {} of {}", wanted.len(), content.len());
        // No boot sector is computed for a volume that would not list by it.
        assert!(told.staged.edits.is_empty(), "FAT{bits}, {noise}: {:?}", told.staged.edits.first().map(|edit| &edit.structure));
        assert!(told.staged.withheld.iter().any(|withheld| withheld.find == find.id), "FAT{bits}, {noise}");
    }
}

/// The boot sector is gone, and anything stands where the second FAT began: together they look like one FAT of twice the length.
#[test]
fn a_small_fat_whose_second_copy_begins_with_anything_keeps_the_length_that_its_entry_states() {
    for (bits, bytes, seed) in [("12", 8 * MIB, 1u64), ("12", 8 * MIB, 77), ("12", 14 * MIB, 5), ("16", 20 * MIB, 3)] {
        let bench = Bench::new(bytes + 5 * MIB);
        let content: BTreeMap<String, Vec<u8>> = some_files(23).into_iter().filter(|(_, bytes)| bytes.len() < 40_000).collect();
        bench.fat(START, bytes, bits, "ROPES", &content);
        bench.mbr(&[(if bits == "16" { 0x0E } else { 0x01 }, START, bytes)]);
        let Some(Geometry::Fat(fat)) = keel_format::registry::boot_sector(bench.open().as_ref(), ByteOffset(START)) else {
            panic!("FAT")
        };
        let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15);
        let noise: Vec<u8> = (0..512)
            .map(|_| {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                (state >> 56) as u8
            })
            .collect();
        bench.write(START, &noise);
        bench.write(START + fat.fat_at(1).0, &noise);
        let source = bench.open();
        let told = told(&source, &Only::All.into());
        let find = told.sweep.finds.iter().find(|find| find.is_outer()).unwrap_or_else(|| panic!("FAT{bits}: nothing"));
        assert_eq!((find.start_byte.0, find.bytes), (START, bytes), "FAT{bits} of {bytes}, {seed}");
        assert_eq!(contents(&source, find), by_name(&content), "FAT{bits} of {bytes}, {seed}");
    }
}

/// Files of one cluster each: a FAT12 of nothing but end marks begins as FATs of the other widths do, and the other way round.
#[test]
fn a_fat_whose_first_chains_look_like_another_width_is_of_its_own() {
    for (bits, bytes, of) in
        [("12", 8 * MIB, 1usize), ("12", 30 * MIB, 1), ("12", 8 * MIB, 3), ("16", 40 * MIB, 1), ("32", 80 * MIB, 1)]
    {
        let bench = Bench::new(bytes + 5 * MIB);
        let files =
            (0..90).map(|number| (format!("Notes/note {number}.txt"), format!("{number} ropes\n").repeat(8 * of).into_bytes()));
        let content: BTreeMap<String, Vec<u8>> = files.collect();
        bench.fat(START, bytes, bits, "ROPES", &content);
        let os_type = if bits == "12" {
            0x01
        } else if bits == "16" {
            0x0E
        } else {
            0x0C
        };
        bench.mbr(&[(os_type, START, bytes)]);
        // Every boot sector is gone, and FSInfo with them.
        let reserved = match keel_format::registry::boot_sector(bench.open().as_ref(), ByteOffset(START)) {
            Some(Geometry::Fat(fat)) => fat.fat_at(0).0,
            _ => panic!("FAT"),
        };
        bench.zero(START, reserved as usize);
        let source = bench.open();
        let told = told(&source, &Only::All.into());
        let find = told.sweep.finds.iter().find(|find| find.is_outer()).unwrap_or_else(|| panic!("FAT{bits}: nothing"));
        assert_eq!(find.kind.word(), format!("FAT{bits}"), "{bytes} bytes");
        assert_eq!((find.start_byte.0, find.bytes), (START, bytes), "FAT{bits} of {bytes}");
        assert_eq!(contents(&source, find), by_name(&content), "FAT{bits} of {bytes}");
    }
}

#[test]
fn an_ext_whose_root_is_gone_lists_what_its_tables_still_hold() {
    let bench = Bench::new(310 * MIB);
    let content = some_files(29);
    bench.ext4(START, 300 * MIB, "ROPES", &content);
    bench.mbr(&[(0x83, START, 300 * MIB)]);
    let source = bench.open();
    let find = swept(&source, Reach::Doubt).finds[0].clone();
    assert_eq!(contents(&source, &find), by_name(&content));
    // The block of the root alone: inodes and folders stand.
    let root = {
        let Geometry::Ext(geometry) = &find.geometry else { panic!("ext") };
        let window: SharedSource = Arc::new(keel_source::Window::new(Arc::clone(&source), find.range()));
        let volume = keel_format::ext::ExtVolume::open(window, *geometry).unwrap();
        keel_format::Volume::extents(&volume, keel_format::NodeId(2)).unwrap()[0].volume_at.unwrap()
    };
    bench.zero(START + root.0, 1024);
    let source = bench.open();
    let told = told(&source, &Only::All.into());
    let find = &told.sweep.finds[0];
    assert_eq!(contents(&source, find), by_name(&content), "every folder has a parent that is gone, and its files");
    let rungs = &told.now.volumes[0].rungs;
    let system = rungs.iter().find(|rung| rung.rung == RungName::FileSystem).unwrap();
    assert_eq!(system.state, RungState::Broken, "{system:?}");
}

#[test]
fn ground_of_groups_that_were_never_written_counts_what_their_copies_take() {
    let bench = Bench::new(310 * MIB);
    bench.ext4(START, 300 * MIB, "ROPES", &some_files(31));
    bench.mbr(&[(0x83, START, 300 * MIB)]);
    let source = bench.open();
    let find = swept(&source, Reach::Doubt).finds[0].clone();
    let volume = files::open(&source, &find).unwrap();
    let allocation = volume.allocation().unwrap();
    for at in find.geometry.copies() {
        let unit = (at.0 - allocation.first_at.0) / allocation.unit_bytes;
        assert!(allocation.is_used(unit), "the copy of the superblock at {at} stands on ground that counts as free");
    }
}
