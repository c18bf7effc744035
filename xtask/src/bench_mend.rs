//! `cargo xtask bench --mend`: every kind of volume, every damage, twenty seeds each: found, mended, mounted by a driver that
//! is not ours, every file intact by its hash.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Instant;

use anyhow::{Context, ensure};
use keel_format::table::mbr::make::{NewEntry, mbr_sector};
use keel_format::{Geometry, registry};
use keel_source::{ByteOffset, FileSource, SectorSize};
use sha2::{Digest, Sha256};

use crate::content::{self, Dice, Item};
use crate::guest::{self, Filling, root, run};
use crate::{drives, qemu, setup};

/// Volumes of each kind.
const SEEDS: u64 = 20;
/// Where the volume begins on its drive.
const START: u64 = 1 << 20;
/// Drives that one guest has slots for.
const SLOTS: usize = 20;

/// A kind, its bytes, the type of its table entry, and the driver that judges it.
struct Kind {
    name: &'static str,
    bytes: u64,
    os_type: u8,
    judge: Judge,
}

#[derive(Clone, Copy)]
enum Judge {
    /// A driver of this machine: its arguments.
    Here(&'static [&'static str]),
    /// The guest's kernel.
    Guest,
}

const KINDS: [Kind; 8] = [
    Kind { name: "ntfs", bytes: 64 << 20, os_type: 0x07, judge: Judge::Here(&["ntfs-3g", "-o", "ro"]) },
    Kind { name: "fat16", bytes: 32 << 20, os_type: 0x0E, judge: Judge::Guest },
    Kind { name: "fat32", bytes: 64 << 20, os_type: 0x0C, judge: Judge::Guest },
    Kind { name: "exfat", bytes: 64 << 20, os_type: 0x07, judge: Judge::Here(&["mount.exfat-fuse", "-o", "ro"]) },
    Kind { name: "ext4", bytes: 64 << 20, os_type: 0x83, judge: Judge::Here(&["mount", "-t", "ext4", "-o", "ro,noload"]) },
    Kind {
        name: "xfs",
        bytes: 320 << 20,
        os_type: 0x83,
        judge: Judge::Here(&["mount", "-t", "xfs", "-o", "ro,norecovery,nouuid"]),
    },
    Kind { name: "btrfs", bytes: 160 << 20, os_type: 0x83, judge: Judge::Here(&["mount", "-t", "btrfs", "-o", "ro"]) },
    Kind { name: "hfsplus", bytes: 64 << 20, os_type: 0xAF, judge: Judge::Guest },
];

/// Places of the volume that are overwritten: name of the damage, and its ranges in bytes of the volume.
type Damage = (&'static str, Vec<(u64, u64)>);

/// What became of the cases of one kind and damage.
#[derive(Default)]
struct Tally {
    cases: u64,
    found: u64,
    mended: u64,
    mounts: u64,
    intact: u64,
    seconds: Vec<f64>,
}

/// A drive that waits for the guest.
struct Waiting {
    image: PathBuf,
    damage: &'static str,
    files: BTreeMap<String, String>,
}

/// Prints the table.
pub(crate) fn run_all() -> anyhow::Result<()> {
    setup::install(setup::PACKAGES)?;
    run("cargo", &["build", "--release", "--quiet", "--workspace"])?;
    let work = root().join("target/bench-mend");
    let _ = fs::remove_dir_all(&work);
    fs::create_dir_all(work.join("mounted"))?;
    println!("{SEEDS} volumes of each kind, each damaged by zeros (even seeds) or noise (odd ones); median time of `ykeel mend`");
    println!("{:<9}{:<28}{:>7}{:>8}{:>8}{:>8}{:>9}", "kind", "damage", "found", "mended", "mounts", "intact", "time");
    let mut failures = 0;
    for kind in &KINDS {
        failures += kind_rows(kind, &work)?;
    }
    fs::remove_dir_all(&work)?;
    ensure!(failures == 0, "{failures} cases did not come back whole");
    Ok(())
}

fn kind_rows(kind: &Kind, work: &Path) -> anyhow::Result<u64> {
    let mut tallies: BTreeMap<&'static str, Tally> = BTreeMap::new();
    let mut waiting: Vec<Waiting> = Vec::new();
    let bases = bases(kind, work)?;
    for (seed, (base, files)) in (0..).zip(&bases) {
        for (damage, ranges) in damages(kind, base)? {
            let image = work.join(format!("{}-{seed}-{}.img", kind.name, damage.replace([' ', ','], "-")));
            run("cp", &["--sparse=always", &base.to_string_lossy(), &image.to_string_lossy()])?;
            harm(&image, &ranges, seed)?;
            let tally = tallies.entry(damage).or_default();
            tally.cases += 1;
            mend(&image, work, tally)?;
            match kind.judge {
                Judge::Here(driver) => {
                    judge_here(&image, kind.bytes, driver, work, (files, tally))?;
                    fs::remove_file(&image)?;
                }
                Judge::Guest => waiting.push(Waiting { image, damage, files: files.clone() }),
            }
        }
    }
    for batch in waiting.chunks(SLOTS) {
        judge_in_guest(batch, &mut tallies)?;
    }
    waiting.iter().try_for_each(|waiting| fs::remove_file(&waiting.image))?;
    bases.iter().try_for_each(|(base, _)| fs::remove_file(base))?;
    let mut failures = 0;
    for (damage, mut tally) in tallies {
        tally.seconds.sort_by(f64::total_cmp);
        let median = tally.seconds.get(tally.seconds.len() / 2).copied().unwrap_or_default();
        let of = |count: u64| format!("{count}/{}", tally.cases);
        println!(
            "{:<9}{damage:<28}{:>7}{:>8}{:>8}{:>8}{median:>8.2} s",
            kind.name,
            of(tally.found),
            of(tally.mended),
            of(tally.mounts),
            of(tally.intact)
        );
        failures += tally.cases - tally.intact;
    }
    Ok(failures)
}

/// The undamaged drives of a kind, and the hashes of their files.
fn bases(kind: &Kind, work: &Path) -> anyhow::Result<Vec<(PathBuf, BTreeMap<String, String>)>> {
    let mut volumes = Vec::new();
    for seed in 0..SEEDS {
        let items: Vec<Item> = content::volume(seed + 500)?
            .into_iter()
            .filter(|item| !content::is_deleted(&item.path) && (!kind.name.starts_with("fat") || content::is_brief(&item.path)))
            .collect();
        let volume = work.join(format!("{}-{seed}.vol", kind.name));
        File::create(&volume)?.set_len(kind.bytes)?;
        make(kind, &items, &volume, work)?;
        let hash = |item: &Item| (item.path.clone(), hex(&Sha256::digest(&item.bytes)));
        volumes.push((volume, items.iter().map(hash).collect::<BTreeMap<_, _>>()));
    }
    if kind.name == "hfsplus" {
        let tars: Vec<PathBuf> = (0..SEEDS).map(|seed| work.join(format!("{seed}.tar"))).collect();
        let fillings: Vec<Filling<'_>> =
            volumes.iter().zip(&tars).map(|((volume, _), tar)| Filling { kind: kind.name, volume, place: None, tar }).collect();
        guest::fill(&fillings)?;
    }
    let mut bases = Vec::new();
    for (volume, files) in volumes {
        let base = volume.with_extension("img");
        let file = File::create(&base)?;
        file.set_len(START + kind.bytes + (1 << 20))?;
        let entry = NewEntry {
            os_type: kind.os_type,
            boot_indicator: 0,
            starting_lba: u32::try_from(START / 512)?,
            size_in_lba: u32::try_from(kind.bytes / 512)?,
        };
        file.write_all_at(&mbr_sector(&[], 0xBAC0_0000 | u32::try_from(bases.len())?, &[entry]), 0)?;
        drives::copy_data(&volume, &file, START)?;
        fs::remove_file(&volume)?;
        bases.push((base, files));
    }
    Ok(bases)
}

/// Mounts by `command`, lays `items` below `point`, and unmounts.
pub(crate) fn fill_mounted(items: &[Item], point: &str, command: &[&str]) -> anyhow::Result<()> {
    let (program, arguments) = command.split_first().context("a mount command")?;
    run(program, arguments)?;
    let filled = plant(items, Path::new(point));
    run("umount", &[point])?;
    filled
}

fn make(kind: &Kind, items: &[Item], volume: &Path, work: &Path) -> anyhow::Result<()> {
    let path = volume.to_string_lossy().into_owned();
    let point = work.join("mounted").to_string_lossy().into_owned();
    let fill = |command: &[&str]| fill_mounted(items, &point, command);
    match kind.name {
        "ntfs" => {
            run("mkfs.ntfs", &["-Q", "-F", "-q", "-p", "2048", "-H", "255", "-S", "63", "-L", "BENCH", &path])?;
            fill(&["ntfs-3g", &path, &point])
        }
        "ext4" => {
            run("mkfs.ext4", &["-q", "-F", "-L", "BENCH", &path])?;
            fill(&["mount", "-t", "ext4", "-o", "loop", &path, &point])
        }
        "xfs" => {
            run("mkfs.xfs", &["-q", "-f", "-L", "BENCH", &path])?;
            fill(&["mount", "-t", "xfs", "-o", "loop", &path, &point])
        }
        "btrfs" => {
            run("mkfs.btrfs", &["-q", "-f", "-L", "BENCH", &path])?;
            fill(&["mount", "-t", "btrfs", "-o", "loop", &path, &point])
        }
        "exfat" => {
            run("mkfs.exfat", &["-c", "4096", "-L", "BENCH", &path])?;
            on_loop(&path, &[], |device| fill(&["mount.exfat-fuse", "-o", "rw", device, &point]))
        }
        "hfsplus" => {
            let number = volume.file_stem().map(|name| name.to_string_lossy().replace("hfsplus-", "")).unwrap_or_default();
            content::write_tar(items, &work.join(format!("{number}.tar")), 2026)?;
            drives::format("hfsplus", "BENCH", kind.bytes / 512, volume, (START / 512, 512))
        }
        fat => {
            run("mkfs.vfat", &["-F", &fat[3..], "-n", "BENCH", &path])?;
            let tree = work.join("tree");
            plant(items, &tree)?;
            let tops: Vec<String> =
                fs::read_dir(&tree)?.flatten().map(|entry| entry.path().to_string_lossy().into_owned()).collect();
            let arguments: Vec<&str> =
                ["-s", "-i", &path].into_iter().chain(tops.iter().map(String::as_str)).chain(["::"]).collect();
            run("mcopy", &arguments)?;
            Ok(fs::remove_dir_all(&tree)?)
        }
    }
}

pub(crate) fn plant(items: &[Item], folder: &Path) -> anyhow::Result<()> {
    for item in items {
        let path = folder.join(&item.path);
        fs::create_dir_all(path.parent().context("a path has a folder")?)?;
        fs::write(&path, &item.bytes)?;
    }
    Ok(())
}

/// The damages of a kind, placed by the volume's own numbers.
fn damages(kind: &Kind, base: &Path) -> anyhow::Result<Vec<Damage>> {
    let source = FileSource::open(base, SectorSize(512))?;
    let end = kind.bytes;
    match (registry::boot_sector(&source, ByteOffset(START)), kind.name) {
        (Some(Geometry::Ntfs(ntfs)), _) => {
            let (boot, copy, mft) = ((0, 512), (ntfs.backup_at().0, 512), (ntfs.cluster_at(ntfs.mft_lcn).0, 2048));
            Ok(vec![
                ("boot sector", vec![boot]),
                ("its copy", vec![copy]),
                ("both", vec![boot, copy]),
                ("first MFT records", vec![mft]),
                ("both and MFT records", vec![boot, copy, mft]),
            ])
        }
        (Some(Geometry::Fat(fat)), _) => {
            let (boot, first, second) = ((0, 512), (fat.fat_at(0).0 + 512, 1024), (fat.fat_at(1).0 + 512, 1024));
            let mut damages = vec![("boot sector", vec![boot]), ("first FAT", vec![first]), ("second FAT", vec![second])];
            if fat.backup > 0 {
                let copy = (u64::from(fat.backup) * 512, 512);
                damages.extend([("its copy", vec![copy]), ("both", vec![boot, copy])]);
            }
            Ok(damages)
        }
        (Some(Geometry::ExFat(exfat)), _) => {
            let (boot, copy) = ((0, 12 * 512), (exfat.backup_at().0, 12 * 512));
            Ok(vec![("boot region", vec![boot]), ("its copy", vec![copy]), ("both", vec![boot, copy])])
        }
        (Some(Geometry::Ext(ext)), _) => {
            let main = (1024, 1024);
            let table = (ext.descriptor_at(0).0, u64::from(ext.groups()) * u64::from(ext.descriptor_bytes));
            let all: Vec<(u64, u64)> =
                std::iter::once(0).chain(ext.backup_groups()).map(|group| (ext.superblock_at(group).0, 1024)).collect();
            Ok(vec![
                ("superblock", vec![main]),
                ("group descriptors", vec![table]),
                ("superblock and descriptors", vec![main, table]),
                ("every superblock", all),
            ])
        }
        (Some(Geometry::HfsPlus(hfs)), _) => {
            let (main, copy) = ((1024, 512), (hfs.alternate_at().0, 512));
            Ok(vec![("volume header", vec![main]), ("its alternate", vec![copy]), ("both", vec![main, copy])])
        }
        (_, "xfs") => Ok(vec![("superblock", vec![(0, 512)])]),
        (_, "btrfs") => Ok(vec![("superblock", vec![(64 << 10, 4096)])]),
        (found, name) => anyhow::bail!("no damages for {name}: {found:?}, {end} bytes"),
    }
}

fn harm(image: &Path, ranges: &[(u64, u64)], seed: u64) -> anyhow::Result<()> {
    let file = File::options().write(true).open(image)?;
    let mut dice = Dice::new(seed + 77);
    for (at, len) in ranges {
        let bytes: Vec<u8> =
            (0..*len).map(|_| if seed.is_multiple_of(2) { 0 } else { u8::try_from(dice.below(256)).unwrap_or(0) }).collect();
        file.write_all_at(&bytes, START + at)?;
    }
    Ok(())
}

fn mend(image: &Path, work: &Path, tally: &mut Tally) -> anyhow::Result<()> {
    let begun = Instant::now();
    let output = Command::new(root().join("target/release/ykeel"))
        .args(["mend", "--apply", "--yes", "--json"])
        .arg(image)
        .env("YKEEL_STATE", work.join("state"))
        .output()?;
    tally.seconds.push(begun.elapsed().as_secs_f64());
    let document: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
    let entries = document["layout"]["entries"].as_array().map_or(0, Vec::len);
    tally.found += u64::from(entries == 1 && document["layout"]["entries"][0]["first"] == START / 512);
    // Nothing to do is right where a system does not need what is damaged.
    tally.mended += u64::from(matches!(output.status.code(), Some(0 | 5)));
    Ok(())
}

/// Attaches the image to a loop device while `work` runs.
pub(crate) fn on_loop<T>(image: &str, options: &[&str], work: impl FnOnce(&str) -> anyhow::Result<T>) -> anyhow::Result<T> {
    let output = Command::new("losetup").args(["--find", "--show"]).args(options).arg(image).output()?;
    ensure!(output.status.success(), "losetup: {}", String::from_utf8_lossy(&output.stderr));
    let device = String::from_utf8_lossy(&output.stdout).trim().to_string();
    let done = work(&device);
    run("losetup", &["--detach", &device])?;
    done
}

fn judge_here(
    image: &Path,
    bytes: u64,
    driver: &[&str],
    work: &Path,
    (files, tally): (&BTreeMap<String, String>, &mut Tally),
) -> anyhow::Result<()> {
    let point = work.join("mounted");
    let (offset, size) = (START.to_string(), bytes.to_string());
    on_loop(&image.to_string_lossy(), &["--read-only", "--offset", &offset, "--sizelimit", &size], |device| {
        let (program, arguments) = driver.split_first().context("a driver")?;
        let mounted = Command::new(program).args(arguments).arg(device).arg(&point).output()?;
        if !mounted.status.success() {
            return Ok(());
        }
        tally.mounts += 1;
        let same = |(path, hash): (&String, &String)| {
            fs::read(point.join(path)).is_ok_and(|bytes| hex(&Sha256::digest(&bytes)) == *hash)
        };
        tally.intact += u64::from(files.iter().all(same));
        run("umount", &[&point.to_string_lossy()])
    })
}

fn judge_in_guest(batch: &[Waiting], tallies: &mut BTreeMap<&'static str, Tally>) -> anyhow::Result<()> {
    let folder = guest::build()?;
    let output = qemu::qemu(&folder, "", batch.iter().map(|waiting| (waiting.image.as_path(), ",snapshot=on"))).output()?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    ensure!(text.contains("@@END"), "the guest did not finish: {text}");
    let lines: std::collections::HashSet<&str> = text.lines().map(str::trim_end).collect();
    for (letter, waiting) in ('a'..='z').zip(batch) {
        let tally = tallies.entry(waiting.damage).or_default();
        let mounted = lines.iter().any(|line| line.starts_with(&format!("@@MOUNT vd{letter}1 ")));
        let there = |(path, hash): (&String, &String)| lines.contains(format!("@@FILE vd{letter}1 {hash} ./{path}").as_str());
        tally.mounts += u64::from(mounted);
        tally.intact += u64::from(mounted && waiting.files.iter().all(there));
    }
    Ok(())
}

pub(crate) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
