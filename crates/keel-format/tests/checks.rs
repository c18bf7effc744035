//! The check of a whole volume, on volumes of the system's formatters and drivers: silent on sound ones, and on damaged
//! ones it names the damage and mends it.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use std::collections::BTreeMap;
use std::sync::Arc;

use keel_format::check::{Checked, check};
use keel_format::{Geometry, Severity, Volume};
use keel_source::{ByteOffset, Overlay, SharedSource};
use support::{Bench, contents, many_files, noise, write_tree};

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
        support::run(std::process::Command::new("mcopy").args(["-s", "-i"]).arg(&bench.image).arg(item).arg("::"));
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
        volume.claims(&mut |own, extents| {
            if let Some(extent) = extents.iter().find(|extent| extent.bytes >= 8 * allocation.unit_bytes)
                && own.contains("big")
            {
                let first = (extent.volume_at.unwrap().0 - allocation.first_at.0) / allocation.unit_bytes;
                (path, units) = (own.to_string(), first + 3..first + 7);
            }
        });
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
