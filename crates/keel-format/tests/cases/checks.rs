//! The check of a whole volume, on volumes of the system's formatters and drivers: silent on sound ones, and on damaged
//! ones it names the damage and mends it.

use std::collections::BTreeMap;
use std::os::unix::fs::FileExt;
use std::sync::Arc;

use crate::support::{Bench, contents, many_files, noise, write_tree};
use keel_format::check::{Checked, check};
use keel_format::{Geometry, Severity, Volume};
use keel_source::{ByteOffset, Overlay, SharedSource};

const EXT: &[&str] = &["mount", "-t", "ext4"];
const EXFAT: &[&str] = &["mount.exfat-fuse", "-o", "rw"];

/// Files of every size, a large one among them.
fn files() -> BTreeMap<String, Vec<u8>> {
    let mut files = many_files();
    files.insert("big picture.bin".into(), noise(4, 1_500_000));
    files
}

fn fat(bits: &str, bytes: u64) -> Bench {
    let bench = Bench::new(bytes);
    bench.format("mkfs.vfat", &["-F", bits, "-n", "CHECKED"]);
    let tree = bench.folder.path().join("tree");
    write_tree(&tree, &files());
    let mut items: Vec<_> = std::fs::read_dir(&tree).unwrap().map(|entry| entry.unwrap().path()).collect();
    items.sort();
    for item in items {
        crate::support::run(std::process::Command::new("mcopy").args(["-s", "-i"]).arg(&bench.image).arg(item).arg("::"));
    }
    bench
}

fn volumes() -> Vec<(&'static str, Bench)> {
    let made = |program: &str, bytes: u64, options: &[&str]| {
        let bench = Bench::new(bytes);
        bench.format(program, options);
        bench
    };
    let filled = |bench: Bench, driver: &[&str]| {
        bench.fill(driver, |folder| write_tree(folder, &files()));
        bench
    };
    let ntfs = made("mkfs.ntfs", 80 << 20, &["-Q", "-F", "-q"]);
    ntfs.fill_ntfs(|folder| write_tree(folder, &files()));
    vec![
        ("fat12", fat("12", 8 << 20)),
        ("fat16", fat("16", 40 << 20)),
        ("fat32", fat("32", 80 << 20)),
        ("exfat", filled(made("mkfs.exfat", 80 << 20, &["-c", "4096"]), EXFAT)),
        ("ntfs", ntfs),
        ("ext2", filled(made("mkfs.ext4", 80 << 20, &["-q", "-F", "-t", "ext2"]), EXT)),
        ("ext4", filled(made("mkfs.ext4", 400 << 20, &["-q", "-F"]), EXT)),
        ("ext4 bigalloc", filled(made("mkfs.ext4", 300 << 20, &["-q", "-F", "-O", "bigalloc"]), EXT)),
    ]
}

fn opened(source: &SharedSource) -> Box<dyn Volume> {
    keel_format::registry::boot_sector(source.as_ref(), ByteOffset(0)).unwrap().open(Arc::clone(source)).unwrap()
}

fn told(checked: &[Checked], least: Severity) -> Vec<String> {
    let findings = checked.iter().flat_map(|rule| rule.findings.iter().map(move |finding| (rule.rule, finding)));
    findings.filter(|(_, finding)| finding.severity >= least).map(|(rule, finding)| format!("{rule}: {}", finding.what)).collect()
}

/// The volume with every safe mending made, one after the other: what one writes another may count.
fn mended(source: &SharedSource) -> SharedSource {
    let mut view = Arc::clone(source);
    let mut done: Vec<&str> = Vec::new();
    loop {
        let checked = check(opened(&view).as_ref());
        let next = checked
            .iter()
            .find(|rule| rule.mending.as_ref().is_some_and(|mending| mending.is_safe) && !done.contains(&rule.rule));
        let Some(rule) = next else { return view };
        let mut overlay = Overlay::new(view);
        rule.mending.iter().flat_map(|mending| &mending.repairs).for_each(|repair| overlay.lay(repair.at, &repair.bytes));
        view = Arc::new(overlay);
        done.push(rule.rule);
    }
}

#[test]
fn a_sound_volume_of_every_kind_passes_every_rule() {
    for (name, bench) in volumes() {
        let source = bench.source(512);
        let checked = check(opened(&source).as_ref());
        assert!(checked.len() >= 4, "{name}: {} rules", checked.len());
        assert_eq!(told(&checked, Severity::Note), Vec::<String>::new(), "{name}");
    }
}

#[test]
fn ground_that_is_counted_as_free_is_told_and_counted_again() {
    for (name, bench) in volumes() {
        let whole = bench.source(512);
        let volume = opened(&whole);
        let allocation = volume.allocation().unwrap();
        if allocation.places.is_empty() {
            continue;
        }
        // Every bit of a file's second half is cleared.
        let mut overlay = Overlay::new(Arc::clone(&whole));
        let (mut path, mut units) = (String::new(), 0..0);
        volume
            .claims(&mut |own, extents| {
                if let Some(extent) = extents.iter().find(|extent| extent.bytes >= 8 * allocation.unit_bytes)
                    && own.contains("big")
                {
                    let first = (extent.volume_at.unwrap().0 - allocation.first_at.0) / allocation.unit_bytes;
                    (path, units) = (own.to_string(), first + 3..first + 7);
                }
            })
            .unwrap();
        assert!(!path.is_empty(), "{name}: no file of eight units");
        for repair in allocation.marked(&[units], false) {
            overlay.lay(repair.at, &repair.bytes);
        }
        let damaged: SharedSource = Arc::new(overlay);
        let checked = check(opened(&damaged).as_ref());
        let said = told(&checked, Severity::Broken).join("; ");
        assert!(said.contains("counted as used: 4 "), "{name}: {said}");
        let again = check(opened(&mended(&damaged)).as_ref());
        assert_eq!(told(&again, Severity::Doubt), Vec::<String>::new(), "{name}");
    }
}

#[test]
fn of_fat_copies_each_region_is_taken_from_the_one_that_the_directories_support() {
    for bits in ["16", "32"] {
        let bench = fat(bits, 80 << 20);
        let whole = bench.source(512);
        let Some(Geometry::Fat(geometry)) = keel_format::registry::boot_sector(whole.as_ref(), ByteOffset(0)) else { panic!() };
        let files = contents(opened(&whole).as_ref());
        // Garbage in the front of the first copy, zeros further on in the second.
        let mut overlay = Overlay::new(Arc::clone(&whole));
        overlay.lay(geometry.fat_at(0) + 512, &noise(7, 1024));
        overlay.lay(geometry.fat_at(1) + 2048, &[0; 512]);
        let damaged: SharedSource = Arc::new(overlay);
        let checked = check(opened(&damaged).as_ref());
        let said = told(&checked, Severity::Doubt);
        let count = |copy: &str| said.iter().filter(|what| what.ends_with(copy)).count();
        assert!(count("copy 2") == 2 && count("copy 1") <= 1, "FAT{bits}: {said:?}");
        let mended = mended(&damaged);
        let fats = |source: &SharedSource| {
            [0, 1].map(|copy| {
                let mut bytes = vec![0; geometry.fat_bytes() as usize];
                source.read_at(geometry.fat_at(copy), &mut bytes).unwrap();
                bytes
            })
        };
        for (mended, whole) in fats(&mended).iter().zip(fats(&whole)) {
            let different: Vec<usize> = (0..whole.len()).filter(|at| mended[*at] != whole[*at]).collect();
            assert_eq!(different, Vec::<usize>::new(), "FAT{bits}: {said:?}");
        }
        assert!(contents(opened(&mended).as_ref()) == files, "FAT{bits}");
    }
}

/// A single FAT, or the same places of both, of which a stretch is gone.
#[test]
fn entries_that_no_fat_knows_any_more_are_written_as_the_files_are_read() {
    let folder: BTreeMap<String, Vec<u8>> =
        (0..120).map(|number| (format!("Tallies/a tally of the quay, number {number}.txt"), noise(number, 900))).collect();
    for (bits, bytes, options) in [
        ("32", 80 << 20, &["-s", "1", "-f", "1"][..]),
        ("32", 80 << 20, &["-s", "2"]),
        ("16", 40 << 20, &["-f", "1"]),
        ("16", 40 << 20, &["-s", "2"]),
        ("12", 8 << 20, &["-f", "1", "-s", "8"]),
    ] {
        let bench = Bench::new(bytes);
        bench.format("mkfs.vfat", &[&["-F", bits, "-n", "CHECKED"], options].concat());
        let tree = bench.folder.path().join("tree");
        let wanted: BTreeMap<String, Vec<u8>> = folder.clone().into_iter().chain(files()).collect();
        write_tree(&tree, &wanted);
        let mut items: Vec<_> = std::fs::read_dir(&tree).unwrap().map(|entry| entry.unwrap().path()).collect();
        items.sort();
        for item in items {
            crate::support::run(std::process::Command::new("mcopy").args(["-s", "-i"]).arg(&bench.image).arg(item).arg("::"));
        }
        let source = bench.source(512);
        let Some(Geometry::Fat(geometry)) = keel_format::registry::boot_sector(source.as_ref(), ByteOffset(0)) else {
            panic!("another kind")
        };
        // An entry of FAT12 may lie in two sectors: of one that lost half of itself nothing says so.
        let stretches = [(0, 512), (0, 2048), (1024, 512), (512, 1536)];
        for (from, len) in stretches.into_iter().filter(|(from, _)| bits != "12" || *from == 0) {
            let mut drive = Overlay::new(Arc::clone(&source));
            // Entries of 32 bits that are anything are hardly ever such that can be.
            let lost = if bits == "32" && from > 0 { noise(len as u64, len) } else { vec![0; len] };
            (0..geometry.fats).for_each(|copy| drive.lay(geometry.fat_at(copy) + from, &lost));
            let drive: SharedSource = Arc::new(drive);
            let said = format!("FAT{bits} {options:?} {from}");
            let before = told(&check(opened(&drive).as_ref()), Severity::Broken);
            assert!(before.iter().any(|what| what.starts_with("chains: ")), "{said}: {before:?}");
            let view = mended(&drive);
            let left = told(&check(opened(&view).as_ref()), Severity::Doubt);
            assert_eq!(left, Vec::<String>::new(), "{said}");
            let found = contents(opened(&view).as_ref());
            let differs = wanted.iter().find(|(path, bytes)| found.get(*path) != Some(bytes)).map(|(path, _)| path);
            assert_eq!((differs, found.len()), (None, wanted.len()), "{said}");
            // The system's tools read it so too.
            let image = bench.folder.path().join("mended.img");
            let mut all = vec![0; bytes as usize];
            view.read_at(ByteOffset(0), &mut all).unwrap();
            std::fs::write(&image, &all).unwrap();
            let out = bench.folder.path().join("out");
            let _ = std::fs::remove_dir_all(&out);
            std::fs::create_dir_all(&out).unwrap();
            let mut tool = std::process::Command::new("mcopy");
            tool.env("LC_ALL", "C.UTF-8").args(["-s", "-n", "-Q", "-i"]).arg(&image).arg("::*").arg(&out);
            crate::support::run(&mut tool);
            for (path, content) in &wanted {
                assert!(std::fs::read(out.join(path)).is_ok_and(|bytes| bytes == *content), "{said}: {path}");
            }
        }
    }
}

#[test]
fn marks_of_an_unclean_unmount_are_told_and_cleared() {
    for (name, bench) in volumes() {
        let whole = bench.source(512);
        let geometry = keel_format::registry::boot_sector(whole.as_ref(), ByteOffset(0)).unwrap();
        let (at, bytes): (ByteOffset, Vec<u8>) = match geometry {
            Geometry::Fat(fat) if fat.kind == keel_format::VolumeKind::Fat32 => (fat.fat_at(0) + 4, vec![0xFF, 0xFF, 0xFF, 0x07]),
            Geometry::ExFat(_) => (ByteOffset(106), vec![2, 0]),
            Geometry::Ext(_) => (ByteOffset(1024 + 12), vec![1, 0, 0, 0]),
            _ => continue,
        };
        let mut overlay = Overlay::new(Arc::clone(&whole));
        overlay.lay(at, &bytes);
        let damaged: SharedSource = Arc::new(overlay);
        if matches!(geometry, Geometry::Ext(_)) {
            continue;
        }
        let checked = check(opened(&damaged).as_ref());
        assert!(!told(&checked, Severity::Note).is_empty(), "{name}");
        assert_eq!(told(&check(opened(&mended(&damaged)).as_ref()), Severity::Note), Vec::<String>::new(), "{name}");
    }
}

fn ntfs() -> Bench {
    let bench = Bench::new(80 << 20);
    bench.format("mkfs.ntfs", &["-Q", "-F", "-q"]);
    bench.fill_ntfs(|folder| write_tree(folder, &files()));
    bench
}

/// Record `number` of an NTFS volume whose records have 1024 bytes and whose MFT lies in one piece.
fn record_at(source: &SharedSource, number: u64) -> ByteOffset {
    let Some(Geometry::Ntfs(geometry)) = keel_format::registry::boot_sector(source.as_ref(), ByteOffset(0)) else { panic!() };
    let volume = keel_format::ntfs::NtfsVolume::open(Arc::clone(source), geometry).unwrap();
    volume.mft().position(&geometry, number).unwrap()
}

fn bytes_at(source: &SharedSource, at: ByteOffset, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    source.read_at(at, &mut bytes).unwrap();
    bytes
}

#[test]
fn the_dirty_bit_of_an_ntfs_is_told_and_cleared_in_record_and_mirror() {
    let bench = ntfs();
    let whole = bench.source(512);
    let at = record_at(&whole, 3);
    let record = bytes_at(&whole, at, 1024);
    // $VOLUME_INFORMATION has eight reserved bytes, the version 3.1, and the flags.
    let inside = record.windows(6).position(|bytes| bytes[..4] == [0, 0, 3, 1] && bytes[5] == 0).unwrap() + 4;
    let mut overlay = Overlay::new(Arc::clone(&whole));
    overlay.lay(at + inside as u64, &[1]);
    let dirty: SharedSource = Arc::new(overlay);
    let checked = check(opened(&dirty).as_ref());
    let rule = checked.iter().find(|rule| rule.rule == "volume flags").unwrap();
    assert!(rule.findings[0].what.contains("dirty bit is set"), "{:?}", rule.findings);
    assert_eq!(rule.mending.as_ref().unwrap().repairs.len(), 2);
    let clean = mended(&dirty);
    assert_eq!(told(&check(opened(&clean).as_ref()), Severity::Note), Vec::<String>::new());
    assert_eq!(bytes_at(&clean, at + inside as u64, 1), [0]);
    // The fixups of both copies hold: the volume's own driver takes the record.
    let file = std::fs::File::options().write(true).open(&bench.image).unwrap();
    for repair in &rule.mending.as_ref().unwrap().repairs {
        std::os::unix::fs::FileExt::write_all_at(&file, &repair.bytes, repair.at.0).unwrap();
    }
    bench.fill_ntfs(|folder| assert_eq!(std::fs::read(folder.join("SHORT.TXT")).unwrap(), files()["SHORT.TXT"]));
}

#[test]
fn records_in_use_that_the_mft_bitmap_counts_as_free_are_counted_again() {
    let bench = ntfs();
    let whole = bench.source(512);
    let Some(Geometry::Ntfs(geometry)) = keel_format::registry::boot_sector(whole.as_ref(), ByteOffset(0)) else { panic!() };
    let volume = keel_format::ntfs::NtfsVolume::open(Arc::clone(&whole), geometry).unwrap();
    let record = volume.record(0).unwrap();
    let runs = record.attribute(keel_format::ntfs::layout::BITMAP, "").unwrap().runs(geometry.clusters()).unwrap();
    let bitmap = geometry.cluster_at(runs[0].lcn.unwrap());
    let mut overlay = Overlay::new(Arc::clone(&whole));
    // Records 64 to 71 are those of the first files.
    overlay.lay(bitmap + 8, &[0]);
    let damaged: SharedSource = Arc::new(overlay);
    let said = told(&check(opened(&damaged).as_ref()), Severity::Broken).join("; ");
    assert!(said.contains("MFT bitmap: 8 records in use are counted as free, the first is 64"), "{said}");
    assert_eq!(bytes_at(&mended(&damaged), bitmap + 8, 1), [0xFF]);
}

#[test]
fn names_that_lead_to_dead_records_are_taken_out_on_request() {
    // A folder of many names keeps them in index blocks, one of few names in its own record.
    for (gone, other) in
        [("number 17 of the year.csv", "Crossings/Week number 18 of the year.csv"), ("there.txt", "Deep/er/and deeper/still")]
    {
        let bench = ntfs();
        let whole = bench.source(512);
        let mut number = 0;
        opened(&whole)
            .walk(keel_format::Deleted::Hide, &mut |found| {
                if found.entry.name.contains(gone) {
                    number = found.entry.id.0 & 0xFFFF_FFFF_FFFF;
                }
                std::ops::ControlFlow::Continue(())
            })
            .unwrap();
        let at = record_at(&whole, number);
        let mut overlay = Overlay::new(Arc::clone(&whole));
        // The record counts as free; its name in the folder stays.
        overlay.lay(at + 22, &[0, 0]);
        let damaged: SharedSource = Arc::new(overlay);
        let checked = check(opened(&damaged).as_ref());
        let rule = checked.iter().find(|rule| rule.rule == "names").unwrap();
        assert!(rule.findings[0].what.contains(&format!("{gone} leads to a record that is free")), "{:?}", rule.findings);
        let mending = rule.mending.as_ref().unwrap();
        assert!(!mending.is_safe);
        let mut overlay = Overlay::new(damaged);
        mending.repairs.iter().for_each(|repair| overlay.lay(repair.at, &repair.bytes));
        let mut edits: Vec<(ByteOffset, Vec<u8>)> = overlay
            .edited()
            .map(|range| (range.start, keel_format::read_bytes(&overlay, range.start, range.len() as usize, "edit").unwrap()))
            .collect();
        edits.push((at + 22, vec![0, 0]));
        let without: SharedSource = Arc::new(overlay);
        let again = check(opened(&without).as_ref());
        assert_eq!(again.iter().find(|rule| rule.rule == "names").unwrap().findings, []);
        assert_eq!(told(&again, Severity::Broken), told(&checked, Severity::Broken), "nothing else breaks");
        assert_eq!(contents(opened(&without).as_ref()).len(), files().len() - 1);
        // The driver reads the folder, and goes on writing into it.
        let image = std::fs::File::options().write(true).open(&bench.image).unwrap();
        edits.iter().for_each(|(at, bytes)| image.write_all_at(bytes, at.0).unwrap());
        bench.fill_ntfs(|point| {
            assert!(point.join(other).exists());
            let folder = if point.join(other).is_dir() { point.join(other) } else { point.join("Crossings") };
            let listed: Vec<String> =
                std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
            assert!(!listed.iter().any(|name| name.contains(gone)), "{listed:?}");
            std::fs::write(folder.join("Tide table.txt"), b"high water 06:12").unwrap();
        });
        let after = contents(opened(&bench.source(512)).as_ref());
        let fresh: Vec<&String> = after.keys().filter(|path| !files().contains_key(*path)).collect();
        assert_eq!((after.len(), fresh.len()), (files().len(), 1), "{fresh:?}");
        assert!(after.iter().any(|(path, bytes)| path.ends_with("Tide table.txt") && *bytes == *b"high water 06:12"));
    }
}

#[test]
fn an_up_case_table_and_a_log_that_are_not_what_they_should_be_are_told() {
    let bench = ntfs();
    let whole = bench.source(512);
    let volume = opened(&whole);
    let place = |number: u64| volume.extents(keel_format::NodeId(number)).unwrap()[0].volume_at.unwrap();
    for (at, bytes, rule, what) in [
        (place(10) + 0x61 * 2, vec![0x62, 0], "up-case table", "$UpCase is not the table"),
        (place(2), vec![0x11; 4096], "log file", "does not begin with a restart page"),
    ] {
        let mut overlay = Overlay::new(Arc::clone(&whole));
        overlay.lay(at, &bytes);
        let damaged: SharedSource = Arc::new(overlay);
        let said = told(&check(opened(&damaged).as_ref()), Severity::Doubt);
        assert!(said.iter().any(|said| said.starts_with(rule) && said.contains(what)), "{rule}: {said:?}");
    }
}

#[test]
fn a_journal_is_replayed_by_the_plan_as_the_kernel_would_replay_it() {
    for options in [["-t", "ext3"], ["-t", "ext4"]] {
        let bench = Bench::new(128 << 20);
        bench.format("mkfs.ext4", &[&options[..], &["-q", "-F"]].concat());
        let copy = bench.folder.path().join("torn out.img");
        bench.fill(&["mount", "-o", "commit=300"], |folder| {
            write_tree(folder, &files());
            crate::support::run(std::process::Command::new("sync").arg("-f").arg(folder));
            crate::support::run(std::process::Command::new("cp").arg("--sparse=always").arg(&bench.image).arg(&copy));
        });
        let source: SharedSource = Arc::new(keel_source::FileSource::open(&copy, keel_source::SectorSize(512)).unwrap());
        let checked = check(opened(&source).as_ref());
        let rule = checked.iter().find(|rule| rule.rule == "journal").unwrap();
        let mending = rule.mending.as_ref().unwrap();
        assert!(mending.is_safe && mending.does.contains("replayed"), "{options:?}");
        let file = std::fs::File::options().write(true).open(&copy).unwrap();
        for repair in &mending.repairs {
            std::os::unix::fs::FileExt::write_all_at(&file, &repair.bytes, repair.at.0).unwrap();
        }
        drop(file);
        std::fs::copy(&copy, &bench.image).unwrap();
        // Without its journal the kernel sees what the journal held.
        bench.fill(&["mount", "-o", "ro,noload"], |folder| {
            for (path, content) in files() {
                assert!(std::fs::read(folder.join(&path)).unwrap() == content, "{options:?}: {path}");
            }
        });
        let again = check(opened(&bench.source(512)).as_ref());
        assert_eq!(told(&again, Severity::Note), Vec::<String>::new(), "{options:?}");
        bench.fill(EXT, |folder| std::fs::write(folder.join("after.txt"), b"written after the replay").unwrap());
        assert_eq!(contents(opened(&bench.source(512)).as_ref()).len(), files().len() + 1, "{options:?}");
    }
}

#[test]
fn noted_errors_wrong_counts_and_broken_inodes_of_an_ext_are_told() {
    let bench = Bench::new(80 << 20);
    bench.format("mkfs.ext4", &["-q", "-F"]);
    bench.fill(EXT, |folder| write_tree(folder, &files()));
    let whole = bench.source(512);
    let Some(Geometry::Ext(geometry)) = keel_format::registry::boot_sector(whole.as_ref(), ByteOffset(0)) else { panic!() };
    let structure = Geometry::Ext(geometry).structures(&whole, ByteOffset(0), keel_format::Compute::All).swap_remove(0);
    let with = |offset: usize, bytes: &[u8]| {
        let mut changed = structure.main.bytes.clone();
        changed[offset..offset + bytes.len()].copy_from_slice(bytes);
        (structure.seal)(&mut changed);
        let mut overlay = Overlay::new(Arc::clone(&whole));
        overlay.lay(ByteOffset(1024), &changed);
        Arc::new(overlay) as SharedSource
    };
    let noted = with(58, &[3, 0]);
    let checked = check(opened(&noted).as_ref());
    let state = checked.iter().find(|rule| rule.rule == "state").unwrap();
    assert!(!state.mending.as_ref().unwrap().is_safe && state.findings[0].how == "s_state is 3");
    let orphaned = with(232, &[12, 0, 0, 0]);
    let said = told(&check(opened(&orphaned).as_ref()), Severity::Note);
    assert!(said.iter().any(|said| said.starts_with("orphans: 1 files were deleted or cut")), "{said:?}");
    // An inode whose checksum does not hold.
    let volume = keel_format::ext::ExtVolume::open(Arc::clone(&whole), geometry).unwrap();
    let at = volume.inode(12).unwrap().at;
    let mut overlay = Overlay::new(Arc::clone(&whole));
    overlay.lay(at + 2, &[0xE7]);
    let damaged: SharedSource = Arc::new(overlay);
    let said = told(&check(opened(&damaged).as_ref()), Severity::Doubt);
    assert!(said.iter().any(|said| said.starts_with("inodes: ") && said.contains("does not hold")), "{said:?}");
}

#[test]
fn a_file_that_is_longer_than_its_chain_and_two_that_cross_are_told() {
    let bench = fat("16", 40 << 20);
    let whole = bench.source(512);
    let Some(Geometry::Fat(geometry)) = keel_format::registry::boot_sector(whole.as_ref(), ByteOffset(0)) else { panic!() };
    let volume = opened(&whole);
    let mut first = BTreeMap::new();
    volume
        .claims(&mut |path, extents| {
            if let Some(extent) = extents.first() {
                let cluster =
                    (extent.volume_at.unwrap().0 - geometry.cluster_at(2).unwrap().0) / u64::from(geometry.cluster_bytes()) + 2;
                first.insert(path.to_string(), cluster);
            }
        })
        .unwrap();
    let (big, other) = (first["big picture.bin"], first["Fahrplan Überfahrt.txt"]);
    // The third cluster of the large file leads into the other one.
    let mut overlay = Overlay::new(Arc::clone(&whole));
    for copy in 0..2 {
        overlay.lay(geometry.fat_at(copy) + (big + 2) * 2, &u16::try_from(other).unwrap().to_le_bytes());
    }
    let damaged: SharedSource = Arc::new(overlay);
    let checked = check(opened(&damaged).as_ref());
    let said = told(&checked, Severity::Note).join("\n");
    assert!(said.contains("held once: ") && said.contains("big picture.bin") && said.contains("alike"), "{said}");
    assert!(said.contains("file sizes: big picture.bin: 1500000 bytes by its entry"), "{said}");
    assert!(said.contains("held by a file: "), "the rest of the large file is lost: {said}");
    let sizes = checked.iter().find(|rule| rule.rule == "file sizes").unwrap();
    assert!(!sizes.mending.as_ref().unwrap().is_safe);
    // Cut behind its third cluster instead: the rest is kept as a lost chain and can be freed.
    let mut overlay = Overlay::new(Arc::clone(&whole));
    for copy in 0..2 {
        overlay.lay(geometry.fat_at(copy) + (big + 2) * 2, &[0xFF, 0xFF]);
    }
    let cut: SharedSource = Arc::new(overlay);
    let checked = check(opened(&cut).as_ref());
    let held = checked.iter().find(|rule| rule.rule == "held by a file").unwrap();
    let mut overlay = Overlay::new(cut);
    held.mending.iter().flat_map(|mending| &mending.repairs).for_each(|repair| overlay.lay(repair.at, &repair.bytes));
    let freed: SharedSource = Arc::new(overlay);
    let again = check(opened(&freed).as_ref());
    assert_eq!(again.iter().find(|rule| rule.rule == "held by a file").unwrap().findings, []);
}

#[test]
fn a_lost_journal_is_replaced_on_request_and_the_kernel_mounts_the_volume_again() {
    for options in [["-t", "ext3"], ["-t", "ext4"]] {
        let bench = Bench::new(80 << 20);
        bench.format("mkfs.ext4", &[&options[..], &["-q", "-F"]].concat());
        bench.fill(EXT, |folder| write_tree(folder, &files()));
        let whole = bench.source(512);
        let at = opened(&whole).extents(keel_format::NodeId(8)).unwrap()[0].volume_at.unwrap();
        let file = std::fs::File::options().write(true).open(&bench.image).unwrap();
        std::os::unix::fs::FileExt::write_all_at(&file, &noise(3, 1024), at.0).unwrap();
        let checked = check(opened(&bench.source(512)).as_ref());
        let rule = checked.iter().find(|rule| rule.rule == "journal").unwrap();
        assert!(rule.findings[0].what.contains("a system refuses to mount"), "{options:?}: {:?}", rule.findings);
        let mending = rule.mending.as_ref().unwrap();
        assert!(!mending.is_safe && mending.loses.contains("last seconds"));
        for repair in &mending.repairs {
            std::os::unix::fs::FileExt::write_all_at(&file, &repair.bytes, repair.at.0).unwrap();
        }
        bench.fill(EXT, |folder| {
            assert!(std::fs::read(folder.join("big picture.bin")).unwrap() == files()["big picture.bin"], "{options:?}");
            std::fs::write(folder.join("after.txt"), b"journaled again").unwrap();
        });
        let after = check(opened(&bench.source(512)).as_ref());
        assert_eq!(told(&after, Severity::Note), Vec::<String>::new(), "{options:?}");
    }
}

#[test]
fn a_wrong_count_of_free_clusters_is_set_right() {
    let bench = fat("32", 80 << 20);
    let mut overlay = Overlay::new(bench.source(512));
    overlay.lay(ByteOffset(512 + 488), &7u32.to_le_bytes());
    let damaged: SharedSource = Arc::new(overlay);
    let said = told(&check(opened(&damaged).as_ref()), Severity::Doubt).join("; ");
    assert!(said.contains("free clusters: FSI_Free_Count is 7, the FAT has "), "{said}");
    assert_eq!(told(&check(opened(&mended(&damaged)).as_ref()), Severity::Note), Vec::<String>::new());
    let whole = bench.source(512);
    assert_eq!(bytes_at(&mended(&damaged), ByteOffset(512), 512), bytes_at(&whole, ByteOffset(512), 512));
}
