//! `cargo xtask bench --recovery`: a matrix of volumes of the system's formatters, each harmed in the ways that leave the least
//! behind: found exactly, files out, mended, taken by a driver that is not ours; and older generations under newer ones.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use anyhow::Context;
use keel_format::table::mbr::make::{NewEntry, mbr_sector};
use keel_format::{Geometry, registry};
use keel_source::{ByteOffset, FileSource, SectorSize};
use sha2::{Digest, Sha256};

use crate::bench_mend::{hex, on_loop};
use crate::content::{self, Dice, Item};
use crate::guest::{self, Filling, root, run};
use crate::matrix::{MIB, Made, Tally, document, make, ykeel};
use crate::{bench_older, drives, setup};

/// Where the volume begins on its drive, unless a row says otherwise.
const START: u64 = MIB;
/// Volumes of each row, each with other files and noise.
const SEEDS: u64 = 3;

/// What is harmed, in bytes of the volume.
struct Harm {
    name: &'static str,
    ranges: Vec<(u64, u64)>,
}

const VOLUMES: &[Made] = &[
    Made { kind: "fat32", options: &["-s", "1"], bytes: 100 * MIB, os_type: 0x0C },
    Made { kind: "fat32", options: &["-s", "4", "-a"], bytes: 300 * MIB, os_type: 0x0C },
    Made { kind: "fat32", options: &["-s", "8", "-R", "64"], bytes: 600 * MIB, os_type: 0x0C },
    Made { kind: "fat32", options: &["-s", "16", "-f", "1"], bytes: 1200 * MIB, os_type: 0x0C },
    Made { kind: "fat32", options: &["-s", "128"], bytes: 9000 * MIB, os_type: 0x0C },
    Made { kind: "fat16", options: &["-s", "8"], bytes: 100 * MIB, os_type: 0x0E },
    Made { kind: "fat16", options: &["-s", "16", "-r", "1024"], bytes: 120 * MIB, os_type: 0x0E },
    Made { kind: "fat12", options: &["-s", "8", "-a"], bytes: 8 * MIB, os_type: 0x01 },
    Made { kind: "exfat", options: &["-c", "4K"], bytes: 64 * MIB, os_type: 0x07 },
    Made { kind: "exfat", options: &["-c", "128K"], bytes: 300 * MIB, os_type: 0x07 },
    Made { kind: "exfat", options: &["-c", "4M"], bytes: 1200 * MIB, os_type: 0x07 },
    Made { kind: "ext4", options: &[], bytes: 300 * MIB, os_type: 0x83 },
    Made { kind: "ext4", options: &["-O", "bigalloc", "-C", "65536"], bytes: 600 * MIB, os_type: 0x83 },
    Made { kind: "ext4", options: &["-O", "meta_bg,^resize_inode"], bytes: 700 * MIB, os_type: 0x83 },
    Made { kind: "ext4", options: &["-O", "sparse_super2"], bytes: 500 * MIB, os_type: 0x83 },
    Made { kind: "ntfs", options: &[], bytes: 64 * MIB, os_type: 0x07 },
    Made { kind: "ntfs", options: &["-c", "65536"], bytes: 300 * MIB, os_type: 0x07 },
    Made { kind: "xfs", options: &[], bytes: 320 * MIB, os_type: 0x83 },
    Made { kind: "xfs", options: &["-d", "agcount=8"], bytes: 800 * MIB, os_type: 0x83 },
    Made { kind: "xfs", options: &["-s", "size=4096"], bytes: 320 * MIB, os_type: 0x83 },
];

/// What of the table is made.
#[derive(Default)]
pub(crate) struct Rows<'a> {
    /// The rows about older generations of these kinds alone.
    pub(crate) older: Option<&'a str>,
    /// Harmed volumes of these kinds alone.
    pub(crate) kinds: Option<&'a str>,
}

/// Prints the table, and before it every drive of which not everything came back.
pub(crate) fn run_all(rows: &Rows<'_>) -> anyhow::Result<()> {
    let older = rows.older;
    setup::install(setup::PACKAGES)?;
    run("cargo", &["build", "--release", "--quiet", "--workspace"])?;
    let work = root().join("target/bench-recovery");
    let _ = fs::remove_dir_all(&work);
    fs::create_dir_all(work.join("mounted"))?;
    println!(
        "{:<44}{:>8}{:>8}{:>7}{:>12}{:>7}{:>9}{:>8}{:>14}{:>9}",
        "class", "drives", "exact", "false", "files", "wrong", "mended", "taken", "no complaint", "slowest"
    );
    let mut bench = Bench { work: &work, tallies: BTreeMap::new(), waiting: Vec::new() };
    let wanted = |made: &&Made| older.is_none() && rows.kinds.is_none_or(|kinds| kinds.split(',').any(|kind| kind == made.kind));
    for made in VOLUMES.iter().filter(wanted) {
        for seed in 0..SEEDS {
            bench.harmed_rows(made, seed)?;
        }
    }
    if older.is_none() && rows.kinds.is_none() {
        (0..SEEDS).try_for_each(|seed| bench.tables(seed))?;
    }
    bench.ask_kernel()?;
    let mut tallies = bench.tallies;
    if rows.kinds.is_none() {
        bench_older::rows(&work, &mut tallies, older)?;
    }
    for (class, tally) in &tallies {
        println!(
            "{class:<44}{:>8}{:>8}{:>7}{:>12}{:>7}{:>9}{:>8}{:>14}{:>8.1}s",
            tally.drives,
            tally.exact,
            tally.false_finds,
            format!("{}/{}", tally.files_back, tally.files),
            tally.wrong,
            tally.mended,
            tally.taken,
            if tally.asked == 0 { "-".into() } else { format!("{}/{}", tally.silent, tally.asked) },
            tally.slowest.as_secs_f64()
        );
    }
    fs::remove_dir_all(&work)?;
    Ok(())
}

fn items(made: &Made, seed: u64) -> anyhow::Result<Vec<Item>> {
    let all = content::volume(seed + 900)?;
    let fits = |item: &Item| !content::is_deleted(&item.path) && (!made.kind.starts_with("fat") || content::is_brief(&item.path));
    let small = made.bytes < 16 * MIB;
    Ok(all.into_iter().filter(fits).filter(|item| !small || item.bytes.len() < 40_000).collect())
}

fn hashes(items: &[Item]) -> BTreeMap<String, String> {
    items.iter().map(|item| (item.path.clone(), hex(&Sha256::digest(&item.bytes)))).collect()
}

/// The drive around a volume, with a table or without one.
fn drive(made: &Made, volume: &Path, image: &Path, table: bool) -> anyhow::Result<()> {
    let _ = fs::remove_file(image);
    let file = File::create(image)?;
    file.set_len(START + made.bytes + 3 * MIB)?;
    drives::copy_data(volume, &file, START)?;
    let entry = NewEntry {
        os_type: made.os_type,
        boot_indicator: 0,
        starting_lba: u32::try_from(START / 512)?,
        size_in_lba: u32::try_from(made.bytes / 512)?,
    };
    if table {
        file.write_all_at(&mbr_sector(&[], 0xBAC1_0000, &[entry]), 0)?;
    }
    Ok(())
}

/// The harms of a kind, placed by the volume's own numbers.
fn harms(made: &Made, volume: &Path) -> anyhow::Result<Vec<Harm>> {
    let source = FileSource::open(volume, SectorSize(512))?;
    let harm = |name: &'static str, ranges: Vec<(u64, u64)>| Harm { name, ranges };
    Ok(match (registry::boot_sector(&source, ByteOffset(0)), made.kind) {
        (Some(Geometry::Fat(fat)), _) => {
            let backup = u64::from(fat.backup) * 512;
            let mut boots = vec![(0, 512)];
            if fat.backup > 0 {
                boots.extend([(512, 512), (backup, 512), (backup + 512, 512)]);
            }
            let with = |more: &[(u64, u64)]| boots.iter().copied().chain(more.iter().copied()).collect::<Vec<_>>();
            let mut harms = vec![
                harm("FAT: no boot sector", boots.clone()),
                harm("FAT: none, and the first FAT's start", with(&[(fat.fat_at(0).0, 512)])),
            ];
            if fat.fats > 1 {
                harms.push(harm("FAT: none, and all of the first FAT", with(&[(fat.fat_at(0).0, fat.fat_bytes())])));
                harms.push(harm("FAT: none, and the second FAT's start", with(&[(fat.fat_at(1).0, 512)])));
            }
            harms
        }
        (Some(Geometry::ExFat(_)), _) => vec![harm("exFAT: no boot region", vec![(0, 24 * 512)])],
        (Some(Geometry::Ext(ext)), _) => {
            let groups = std::iter::once(0).chain(ext.backup_groups());
            let all: Vec<(u64, u64)> = groups.map(|group| (ext.superblock_at(group).0, 1024)).collect();
            let mut harms = vec![harm("ext: no superblock", all)];
            if ext.backup_groups().len() > 1 {
                harms.push(harm("ext: first MiB overwritten", vec![(0, MIB)]));
                harms.push(harm("ext: first 16 MiB overwritten", vec![(0, 16 * MIB)]));
            }
            harms
        }
        (Some(Geometry::Ntfs(ntfs)), _) => {
            let (boots, records) = ([(0, 512), (ntfs.backup_at().0, 512)], 4 * u64::from(ntfs.record_bytes));
            let (mft, mirror) = (ntfs.cluster_at(ntfs.mft_lcn).0, ntfs.cluster_at(ntfs.mirror_lcn).0);
            vec![
                harm(
                    "NTFS: no boot sector, no first records",
                    boots.iter().copied().chain([(mft, records), (mirror, records)]).collect(),
                ),
                harm("NTFS: mirror gone", vec![(mirror, records)]),
            ]
        }
        _ => vec![harm("XFS: first superblock gone", vec![(0, if made.options.contains(&"size=4096") { 4096 } else { 512 })])],
    })
}

fn overwrite(image: &Path, ranges: &[(u64, u64)], seed: u64) -> anyhow::Result<()> {
    let file = File::options().write(true).open(image)?;
    let mut dice = Dice::new(seed + 7);
    for (at, len) in ranges {
        let byte = |dice: &mut Dice| if seed.is_multiple_of(2) { 0 } else { u8::try_from(dice.below(256)).unwrap_or(0) };
        let bytes: Vec<u8> = (0..*len).map(|_| byte(&mut dice)).collect();
        file.write_all_at(&bytes, START + at)?;
    }
    Ok(())
}

/// How many of `files` come out of a find with the right content.
fn taken_out(work: &Path, image: &str, find: &str, files: &BTreeMap<String, String>) -> anyhow::Result<u64> {
    let to = work.join("out");
    let _ = fs::remove_dir_all(&to);
    let output = ykeel(work, &["extract", image, "--volume", find, "--to", &to.to_string_lossy(), "--json"])?;
    let lines = document(&output)["files"].as_array().cloned().unwrap_or_default();
    let mut right: BTreeMap<&str, u64> = BTreeMap::new();
    for line in &lines {
        if let Some(hash) = line["sha256"].as_str() {
            *right.entry(hash).or_default() += 1;
        }
    }
    Ok(files.values().filter(|hash| right.contains_key(hash.as_str())).count() as u64)
}

/// True when the system's own driver (or, for FAT, its tools) reads every file of the mended drive.
fn reads(made: &Made, image: &Path, files: &BTreeMap<String, String>, work: &Path) -> anyhow::Result<bool> {
    let point = work.join("mounted");
    let same = |folder: &Path| {
        files.iter().all(|(path, hash)| fs::read(folder.join(path)).is_ok_and(|bytes| hex(&Sha256::digest(&bytes)) == *hash))
    };
    if made.kind.starts_with("fat") {
        let to = work.join("read");
        let _ = fs::remove_dir_all(&to);
        fs::create_dir_all(&to)?;
        let place = format!("{}@@{START}", image.display());
        let status =
            Command::new("mcopy").env("LC_ALL", "C.UTF-8").args(["-s", "-n", "-Q", "-i", &place, "::*"]).arg(&to).output()?;
        return Ok(status.status.success() && same(&to));
    }
    let (offset, size) = (START.to_string(), made.bytes.to_string());
    let mount: &[&str] = match made.kind {
        "ntfs" => &["ntfs-3g", "-o", "rw"],
        "exfat" => &["mount.exfat-fuse", "-o", "rw"],
        "xfs" => &["mount", "-t", "xfs", "-o", "nouuid"],
        _ => &["mount", "-t", "ext4"],
    };
    on_loop(&image.to_string_lossy(), &["--offset", &offset, "--sizelimit", &size], |device| {
        let (program, arguments) = mount.split_first().context("a driver")?;
        let mounted = Command::new(program).args(arguments).arg(device).arg(&point).output()?;
        if !mounted.status.success() {
            return Ok(false);
        }
        // A driver that is a program complains there.
        let silent = made.kind != "ntfs" || mounted.stderr.is_empty();
        let read = same(&point);
        let is_ext = made.kind.starts_with("ext");
        let writes = fs::write(point.join("written.bin"), vec![7; 1 << 20]).is_ok();
        run("umount", &[&point.to_string_lossy()])?;
        Ok(read && silent && writes && !(is_ext && complained(image)?))
    })
}

/// True when the kernel noted an error in the superblock of the ext volume (`s_error_count`).
fn complained(image: &Path) -> anyhow::Result<bool> {
    let mut count = [0; 4];
    File::open(image)?.read_exact_at(&mut count, START + 1024 + 404)?;
    Ok(u32::from_le_bytes(count) != 0)
}

/// The table while it is made.
struct Bench<'a> {
    work: &'a Path,
    tallies: BTreeMap<String, Tally>,
    /// Mended drives that a kernel is to be asked about: class, kind of the driver, image, length of the volume.
    waiting: Vec<(String, &'static str, PathBuf, u64)>,
}

/// A drive of the table.
struct Case<'a> {
    made: &'a Made,
    class: &'a str,
    seed: u64,
    files: &'a BTreeMap<String, String>,
}

impl Bench<'_> {
    fn harmed_rows(&mut self, made: &Made, seed: u64) -> anyhow::Result<()> {
        let (volume, image) = (self.work.join("volume.img"), self.work.join("drive.img"));
        let items = items(made, seed)?;
        let _ = fs::remove_file(&volume);
        File::create(&volume)?.set_len(made.bytes)?;
        make(made, &items, &volume, self.work)?;
        let files = hashes(&items);
        for harm in harms(made, &volume)? {
            drive(made, &volume, &image, true)?;
            overwrite(&image, &harm.ranges, seed)?;
            self.judge(&Case { made, class: harm.name, seed, files: &files }, &image)?;
        }
        // The same volume whole, on an image that was cut short: nothing of it may be undone.
        drive(made, &volume, &image, true)?;
        File::options().write(true).open(&image)?.set_len(START + made.bytes * 9 / 10 / 512 * 512)?;
        let before = fs::metadata(&image)?.modified()?;
        let output = ykeel(self.work, &["mend", "--apply", "--yes", "--json", &image.to_string_lossy()])?;
        let untouched = output.status.code() == Some(5) && fs::metadata(&image)?.modified()? == before;
        let tally = self.tallies.entry("an image cut short: nothing staged".into()).or_default();
        tally.drives += 1;
        tally.exact += u64::from(untouched);
        tally.mended += u64::from(untouched);
        if !untouched {
            println!("{} {:?} of seed {seed}, cut short: something was staged", made.kind, made.options);
        }
        Ok(())
    }

    /// Sweeps, takes the files out, mends, and lets a driver or tool of the system read what was mended.
    fn judge(&mut self, case: &Case<'_>, image: &Path) -> anyhow::Result<()> {
        let path = image.to_string_lossy().into_owned();
        let (made, files) = (case.made, case.files);
        let swept = document(&ykeel(self.work, &["sweep", &path, "--json"])?);
        let finds = swept["finds"].as_array().cloned().unwrap_or_default();
        let outer: Vec<&serde_json::Value> =
            finds.iter().filter(|find| find["inside"].is_null() && find["older_than"].is_null()).collect();
        let is_exact = outer.iter().any(|find| find["start_byte"] == START && find["bytes"] == made.bytes);
        let others = outer.iter().filter(|find| find["start_byte"] != START).count() as u64;
        let back = taken_out(self.work, &path, "n1", files)?;
        let mended = ykeel(self.work, &["mend", "--apply", "--yes", "--json", &path])?.status.success();
        // What the kernel is asked about is what was mended, before a driver of this machine writes to it.
        let driver = match made.kind {
            "exfat" => Some("exfat"),
            fat if fat.starts_with("fat") => Some("vfat"),
            "ext2" | "ext3" | "ext4" => Some("ext4"),
            "xfs" => Some("xfs"),
            // What the driver of this one says is its program's: asked beside.
            _ => None,
        };
        if let Some(driver) = driver.filter(|_| mended) {
            let kept = self.work.join(format!("waiting {}.img", self.waiting.len()));
            let _ = fs::remove_file(&kept);
            let file = File::create(&kept)?;
            file.set_len(fs::metadata(image)?.len())?;
            drives::copy_data(image, &file, 0)?;
            self.waiting.push((case.class.to_string(), driver, kept, made.bytes));
        }
        let taken = reads(made, image, files, self.work)?;
        let tally = self.tallies.entry(case.class.into()).or_default();
        tally.drives += 1;
        tally.exact += u64::from(is_exact);
        tally.false_finds += others;
        tally.files += files.len() as u64;
        tally.files_back += back;
        tally.mended += u64::from(mended);
        tally.taken += u64::from(taken);
        if !is_exact || others > 0 || back < files.len() as u64 || !taken {
            let found: Vec<String> = outer.iter().map(|find| format!("{} {}", find["start_byte"], find["bytes"])).collect();
            println!(
                "{}: {} {:?} of seed {}: {found:?} for {START} {}; {back} of {} files, mended {mended}, taken {taken}",
                case.class,
                made.kind,
                made.options,
                case.seed,
                made.bytes,
                files.len()
            );
        }
        if self.waiting.len() == guest::AT_ONCE { self.ask_kernel() } else { Ok(()) }
    }

    /// Has the guest's kernel write to the mended drives that wait.
    fn ask_kernel(&mut self) -> anyhow::Result<()> {
        if self.waiting.is_empty() {
            return Ok(());
        }
        let tar = self.work.join("more.tar");
        let more: Vec<Item> =
            (0..40).map(|number| Item { path: format!("More/sheet {number}.txt"), bytes: vec![b'k'; 300 * number] }).collect();
        content::write_tar(&more, &tar, 2026)?;
        let waiting = std::mem::take(&mut self.waiting);
        let tars: Vec<PathBuf> = (0..waiting.len()).map(|number| self.work.join(format!("more {number}.tar"))).collect();
        tars.iter().try_for_each(|own| fs::copy(&tar, own).map(drop))?;
        let fillings: Vec<Filling<'_>> = waiting
            .iter()
            .zip(&tars)
            .map(|((_, kind, volume, bytes), tar)| Filling { kind, volume, place: Some((START, *bytes)), tar })
            .collect();
        for ((class, kind, image, _), told) in waiting.iter().zip(guest::write(&fillings)?) {
            let tally = self.tallies.entry(class.clone()).or_default();
            tally.asked += 1;
            tally.silent += u64::from(told.as_deref() == Some(""));
            if told.as_deref() != Some("") {
                println!("{class}: the kernel ({kind}): {}", told.as_deref().unwrap_or("did not write"));
            }
            fs::remove_file(image)?;
        }
        Ok(())
    }

    /// Tables that were overwritten by anything, and a chain of logicals whose container is gone.
    fn tables(&mut self, seed: u64) -> anyhow::Result<()> {
        let made = Made { kind: "ntfs", options: &[], bytes: 64 * MIB, os_type: 0x07 };
        let (volume, image) = (self.work.join("volume.img"), self.work.join("drive.img"));
        let items = items(&made, seed)?;
        let _ = fs::remove_file(&volume);
        File::create(&volume)?.set_len(made.bytes)?;
        make(&made, &items, &volume, self.work)?;
        for round in 0..4 {
            drive(&made, &volume, &image, true)?;
            let mut dice = Dice::new(seed * 31 + round);
            let mut sector: Vec<u8> = (0..510).map(|_| u8::try_from(dice.below(256)).unwrap_or(0)).collect();
            sector.extend([0x55, 0xAA]);
            File::options().write(true).open(&image)?.write_all_at(&sector, 0)?;
            let files = hashes(&items);
            self.judge(&Case { made: &made, class: "table: sector 0 holds anything", seed, files: &files }, &image)?;
        }
        Ok(())
    }
}
