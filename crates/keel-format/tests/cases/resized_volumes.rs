//! Volumes of the system's formatters and drivers, made longer and shorter: every file reads the same, every rule holds, and a kernel goes
//! on writing to them.

use std::collections::BTreeMap;
use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use crate::support::{Bench, contents, new_hfs_plus, noise, run, write_tree};
use keel_format::check::check;
use keel_format::{Geometry, Severity, Volume, VolumeKind};
use keel_source::{ByteOffset, Overlay, SharedSource};

const MIB: u64 = 1 << 20;

type Files = BTreeMap<String, Vec<u8>>;

/// Files of some sizes in folders, different for each seed.
fn tree(seed: u64, count: usize, longest: usize) -> Files {
    let file = |number: usize| {
        let path = format!("{seed}/{:02}/crossing {}/sheet {number:04} of the summer timetable.txt", number % 13, number % 7);
        (path, noise(seed * 1000 + number as u64, number * 7919 % longest))
    };
    (0..count).map(file).collect()
}

/// How a volume is made, and how it is filled.
struct Case {
    name: &'static str,
    kind: VolumeKind,
    bytes: u64,
    format: (&'static str, Vec<&'static str>),
    driver: Vec<&'static str>,
}

fn case(name: &'static str, kind: VolumeKind, mib: u64, format: &[&'static str], driver: &[&'static str]) -> Case {
    Case { name, kind, bytes: mib * MIB, format: (format[0], format[1..].to_vec()), driver: driver.to_vec() }
}

fn cases() -> Vec<Case> {
    let (fat, exfat, ext) = (&["mcopy"][..], &["mount.exfat-fuse", "-o", "rw"][..], &["mount", "-t", "ext4"][..]);
    vec![
        case("FAT12", VolumeKind::Fat12, 8, &["mkfs.vfat", "-F", "12", "-s", "8"], fat),
        case("FAT16", VolumeKind::Fat16, 120, &["mkfs.vfat", "-F", "16"], fat),
        case("FAT32", VolumeKind::Fat32, 200, &["mkfs.vfat", "-F", "32", "-s", "2"], fat),
        case("FAT32 one sector a cluster", VolumeKind::Fat32, 120, &["mkfs.vfat", "-F", "32", "-s", "1"], fat),
        case("exFAT", VolumeKind::ExFat, 160, &["mkfs.exfat"], exfat),
        case("exFAT of small clusters", VolumeKind::ExFat, 100, &["mkfs.exfat", "-c", "512"], exfat),
        case("NTFS", VolumeKind::Ntfs, 160, &["mkfs.ntfs", "-F", "-Q", "-q"], &["ntfs-3g"]),
        case("NTFS of small clusters", VolumeKind::Ntfs, 100, &["mkfs.ntfs", "-F", "-Q", "-q", "-c", "512"], &["ntfs-3g"]),
        case("NTFS of large clusters", VolumeKind::Ntfs, 200, &["mkfs.ntfs", "-F", "-Q", "-q", "-c", "65536"], &["ntfs-3g"]),
        case("ext2", VolumeKind::Ext2, 200, &["mkfs.ext2", "-q", "-F", "-b", "1024"], ext),
        case("ext3", VolumeKind::Ext3, 300, &["mkfs.ext3", "-q", "-F", "-b", "1024"], ext),
        case("ext4", VolumeKind::Ext4, 400, &["mkfs.ext4", "-q", "-F", "-b", "1024"], ext),
        case("ext4 of 4 KiB", VolumeKind::Ext4, 700, &["mkfs.ext4", "-q", "-F", "-b", "4096"], ext),
        case("ext4 without reserve", VolumeKind::Ext4, 300, &["mkfs.ext4", "-q", "-F", "-b", "1024", "-O", "^resize_inode"], ext),
        case(
            "ext4 without checksums",
            VolumeKind::Ext4,
            300,
            &["mkfs.ext4", "-q", "-F", "-b", "1024", "-O", "^metadata_csum,^flex_bg"],
            ext,
        ),
    ]
}

/// Fills a volume so that its files lie spread: what was written before them is gone.
fn fill(case: &Case, bench: &Bench, files: &Files) {
    let ballast = tree(9, 60, usize::try_from(case.bytes / 200).unwrap().min(1 << 20));
    let written = |folder: &Path| {
        write_tree(folder, &ballast);
        write_tree(folder, files);
        std::fs::remove_dir_all(folder.join("9")).unwrap();
    };
    match case.driver.as_slice() {
        ["mcopy"] => {
            for (files, gone) in [(&ballast, None), (files, Some("::9"))] {
                let tree = tempfile::tempdir().unwrap();
                write_tree(tree.path(), files);
                let tops = std::fs::read_dir(tree.path()).unwrap().map(|entry| entry.unwrap().path());
                run(Command::new("mcopy").env("LC_ALL", "C.UTF-8").args(["-s", "-i"]).arg(&bench.image).args(tops).arg("::"));
                gone.into_iter().for_each(|gone| run(Command::new("mdeltree").arg("-i").arg(&bench.image).arg(gone)));
            }
        }
        ["ntfs-3g"] => bench.fill_ntfs(written),
        driver => bench.fill(driver, written),
    }
}

fn made(case: &Case) -> (Bench, Files) {
    let bench = Bench::new(case.bytes);
    bench.format(case.format.0, &case.format.1);
    let longest = usize::try_from(case.bytes / 250).unwrap().min(700_000);
    let files = tree(1, 90, longest);
    fill(case, &bench, &files);
    (bench, files)
}

fn wrong(volume: &dyn Volume) -> Vec<String> {
    let findings = check(volume).into_iter().flat_map(|rule| rule.findings);
    findings.filter(|finding| finding.severity > Severity::Note).map(|finding| finding.what).collect()
}

/// The image with the volume in it of another length; none where that is refused.
fn resize(bench: &Bench, name: &str, to: u64, files: &Files) -> Result<(), String> {
    let image = File::options().read(true).write(true).open(&bench.image).unwrap();
    let before = image.metadata().unwrap().len();
    image.set_len(before.max(to)).unwrap();
    let source = bench.source(512);
    let geometry = keel_format::registry::boot_sector(source.as_ref(), ByteOffset(0)).unwrap();
    let resized = geometry.resized(&source, to).map_err(|why| {
        image.set_len(before).unwrap();
        why.0
    })?;
    let mut overlay = Overlay::new(SharedSource::clone(&source));
    let mut end = 0;
    for part in &resized.parts {
        assert!(part.at.0 >= end && part.at.0 % 512 == 0 && part.bytes.len() % 512 == 0, "{name}: {} at {}", part.what, part.at);
        end = part.at.0 + part.bytes.len();
        assert!(end <= to, "{name}: {} at {} lies behind the end", part.what, part.at);
        overlay.lay_payload(part.at, part.bytes.clone());
    }
    let view: SharedSource = Arc::new(overlay);
    let stated = keel_format::registry::boot_sector(view.as_ref(), ByteOffset(0)).unwrap();
    assert!(resized.geometry.bytes() <= to, "{name}");
    assert_eq!(stated, resized.geometry, "{name}: {before} to {to}");
    for part in &resized.parts {
        part.bytes.each_piece(|at, piece| image.write_all_at(piece, part.at.0 + at)).unwrap();
    }
    image.set_len(to).unwrap();
    let (_, volume) = bench.open(512);
    assert_eq!(wrong(volume.as_ref()), Vec::<String>::new(), "{name}: {before} to {to}");
    assert!(contents(volume.as_ref()) == *files, "{name}: {before} to {to}");
    Ok(())
}

fn geometry(bench: &Bench) -> (SharedSource, Geometry) {
    let source = bench.source(512);
    let geometry = keel_format::registry::boot_sector(source.as_ref(), ByteOffset(0)).unwrap();
    (source, geometry)
}

/// The least that the volume can be made to take, in whole steps of 64 KiB, a little more where that is too tight.
fn to_least(bench: &Bench, name: &str, files: &Files) -> u64 {
    let (source, found) = geometry(bench);
    let least = found.least(&source).unwrap();
    for step in 0..40 {
        let to = (least + found.bytes() / 64 * step).next_multiple_of(65_536);
        if to >= found.bytes() {
            return found.bytes();
        }
        match resize(bench, name, to, files) {
            Ok(()) => return to,
            Err(why) => assert!(!why.is_empty()),
        }
    }
    panic!("{name}: {least} of {}", found.bytes());
}

#[test]
fn every_kind_shrinks_and_grows_and_every_file_stays() {
    for case in cases() {
        let (bench, files) = made(&case);
        let (_, volume) = bench.open(512);
        assert_eq!((wrong(volume.as_ref()), contents(volume.as_ref()) == files), (Vec::new(), true), "{}", case.name);
        drop(volume);
        // A little shorter, longer again, as short as can be, and much longer.
        resize(&bench, case.name, case.bytes / 10 * 8 / 4096 * 4096, &files).unwrap_or_else(|why| panic!("{}: {why}", case.name));
        resize(&bench, case.name, case.bytes, &files).unwrap_or_else(|why| panic!("{}: {why}", case.name));
        let least = to_least(&bench, case.name, &files);
        assert!(least < case.bytes / 10 * 9, "{}: {least} of {}", case.name, case.bytes);
        let most = match case.kind {
            VolumeKind::Fat12 => case.bytes * 3 / 2,
            VolumeKind::Fat16 => case.bytes * 11 / 10,
            _ => case.bytes * 9 + 12_345 * 4096,
        };
        resize(&bench, case.name, most / 4096 * 4096, &files).unwrap_or_else(|why| panic!("{}: {why}", case.name));
        let (_, found) = geometry(&bench);
        assert!(found.bytes() + 16 * MIB > most, "{}: {} of {most}", case.name, found.bytes());
    }
}

#[test]
fn a_journal_moves_with_its_volume_and_is_found_again() {
    for (bytes, block, to) in [(160 * MIB, 4096, 40 * MIB), (600 * MIB, 512, 60 * MIB), (2000 * MIB, 8192, 5000 * MIB)] {
        let bench = new_hfs_plus(bytes, block, "SLIPWAY", true);
        let hidden = contents(bench.open(512).1.as_ref());
        resize(&bench, "HFS+ with a journal", to, &hidden).unwrap();
        let least = to_least(&bench, "HFS+ with a journal", &hidden);
        assert!(least <= to.min(bytes), "{least}");
        resize(&bench, "HFS+ with a journal", bytes, &hidden).unwrap();
        assert!(bench.open(512).1.left_open().is_empty());
    }
}

/// A tar of `files`, in whole blocks, and what runs behind its unpacking.
fn tar(files: &Files, after: &str) -> tempfile::NamedTempFile {
    let tree = tempfile::tempdir().unwrap();
    write_tree(tree.path(), files);
    if !after.is_empty() {
        std::fs::write(tree.path().join(".after.sh"), after).unwrap();
    }
    let tar = tempfile::NamedTempFile::new().unwrap();
    run(Command::new("tar").args(["--format=pax", "-C"]).arg(tree.path()).arg("-cf").arg(tar.path()).arg("."));
    let len = std::fs::metadata(tar.path()).unwrap().len();
    File::options().write(true).open(tar.path()).unwrap().set_len(len.next_multiple_of(4096)).unwrap();
    tar
}

/// Lets the guest's kernel unpack `tar` into each volume; it has nothing to say against any.
fn unpacked(built: &Path, volumes: &[(&str, &Bench)], tar: &Path) {
    let kinds: Vec<&str> = volumes.iter().map(|(driver, _)| *driver).collect();
    let drives = volumes.iter().flat_map(|(_, bench)| [(bench.image.as_path(), ""), (tar, ",readonly=on")]);
    let output = crate::qemu::qemu(built, &format!("fill={}", kinds.join(",")), drives).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout);
    assert_eq!(text.matches("@@FILLED").count(), volumes.len(), "{text}");
    let said: Vec<&str> = text.lines().filter_map(|line| line.split_once("@@SAID ").map(|(_, said)| said)).collect();
    let complaint = |line: &&&str| {
        let line = line.to_lowercase();
        ["error", "warn", "corrupt", "invalid", "not properly", "bad ", "recover"].iter().any(|word| line.contains(word))
    };
    assert_eq!(said.iter().find(complaint), None, "{said:#?}");
}

#[test]
fn folders_of_the_first_clusters_are_away_before_a_longer_fat_moves_the_root_there() {
    for bits in ["12", "16"] {
        let bytes = if bits == "12" { MIB } else { 4 * MIB };
        let bench = Bench::new(bytes);
        bench.format("mkfs.vfat", &["-F", bits, "-s", "1", "-r", "64"]);
        // Written first, the folders hold the first clusters.
        let folder = |number: usize| (format!("slip {number:02}/berth/log.txt"), noise(number as u64, 300 + number * 40));
        let files: Files = (0..20).map(folder).collect();
        let made = tempfile::tempdir().unwrap();
        write_tree(made.path(), &files);
        let mut tops: Vec<_> = std::fs::read_dir(made.path()).unwrap().map(|entry| entry.unwrap().path()).collect();
        tops.sort();
        run(Command::new("mcopy").env("LC_ALL", "C.UTF-8").args(["-s", "-i"]).arg(&bench.image).args(tops).arg("::"));
        for to in [bytes * 5 / 4, bytes * 3 / 2, bytes * 19 / 10] {
            resize(&bench, bits, to, &files).unwrap_or_else(|why| panic!("FAT{bits}: {why}"));
        }
        let (_, volume) = bench.open(512);
        assert_eq!((wrong(volume.as_ref()), contents(volume.as_ref()) == files), (Vec::new(), true), "FAT{bits}");
    }
}

#[test]
fn a_kernel_goes_on_writing_to_volumes_of_another_length_and_says_nothing_against_them() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let built = std::env::var_os("YKEEL_GUEST").map_or_else(|| root.join("target/guest"), PathBuf::from);
    run(Command::new("bash").arg(root.join("xtask/guest/build.sh")).arg(&built));
    let made = |bytes: u64, format: &[&str]| {
        let bench = Bench::new(bytes);
        bench.format(format[0], &format[1..]);
        bench
    };
    // How each is made, by which driver it is filled, and how long it becomes.
    let volumes: Vec<(&str, Bench, u64)> = vec![
        ("vfat", made(120 * MIB, &["mkfs.vfat", "-F", "16"]), 125 * MIB),
        ("vfat", made(200 * MIB, &["mkfs.vfat", "-F", "32", "-s", "1"]), 900 * MIB),
        ("exfat", made(160 * MIB, &["mkfs.exfat"]), 3000 * MIB),
        ("exfat", made(100 * MIB, &["mkfs.exfat", "-c", "4096"]), 900 * MIB),
        ("ntfs", made(160 * MIB, &["mkfs.ntfs", "-F", "-Q", "-q"]), 2000 * MIB),
        ("ext4", made(200 * MIB, &["mkfs.ext2", "-q", "-F", "-b", "1024"]), 700 * MIB),
        ("ext4", made(300 * MIB, &["mkfs.ext4", "-q", "-F", "-b", "1024", "-O", "orphan_file"]), 2000 * MIB),
        ("ext4", made(400 * MIB, &["mkfs.ext4", "-q", "-F", "-b", "4096", "-O", "^resize_inode"]), 40_000 * MIB),
        ("hfsplus", new_hfs_plus(160 * MIB, 4096, "SLIPWAY", false), 900 * MIB),
        ("hfsplus", new_hfs_plus(90 * MIB, 512, "SLIPWAY", false), 300 * MIB),
    ];
    let (ballast, first, second) = (tree(9, 60, 300_000), tree(1, 150, 120_000), tree(2, 150, 90_000));
    let both: Files = [ballast, first.clone()].into_iter().flatten().collect();
    let named: Vec<(&str, &Bench)> = volumes.iter().map(|(driver, bench, _)| (*driver, bench)).collect();
    unpacked(&built, &named, tar(&both, "rm -rf 9").path());
    for (driver, bench, to) in &volumes {
        let (_, volume) = bench.open(512);
        assert!(contents(volume.as_ref()) == first, "{driver} before");
        drop(volume);
        let was = std::fs::metadata(&bench.image).unwrap().len();
        let least = to_least(bench, driver, &first);
        assert!(least < was / 10 * 9, "{driver}: {least} of {was}");
        resize(bench, driver, *to, &first).unwrap_or_else(|why| panic!("{driver}: {why}"));
        // A little shorter again, so that the last step was neither all of the image nor whole groups.
        resize(bench, driver, to - 5 * MIB, &first).unwrap_or_else(|why| panic!("{driver}: {why}"));
    }
    unpacked(&built, &named, tar(&second, "").path());
    let all: Files = [first, second].into_iter().flatten().collect();
    for (driver, bench, _) in &volumes {
        let (_, volume) = bench.open(512);
        assert_eq!(wrong(volume.as_ref()), Vec::<String>::new(), "{driver}");
        assert!(contents(volume.as_ref()) == all, "{driver}");
    }
}
