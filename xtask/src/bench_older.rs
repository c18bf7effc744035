//! The rows of `cargo xtask bench --recovery` about older generations: a volume of each kind made over one of each kind, and what
//! comes out of the older one. Asked for are the files whose bytes still stand and whose record or folder entry still names them.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::ops::ControlFlow;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use anyhow::Context;
use keel_format::ext::ExtVolume;
use keel_format::hfsplus::{self, HfsVolume};
use keel_format::make::Wanted;
use keel_format::ntfs::NtfsVolume;
use keel_format::{Deleted, Geometry, NodeId, NodeKind, read_whole, registry};
use keel_source::{ByteOffset, ByteRange, FileSource, SectorSize, SharedSource};
use sha2::{Digest, Sha256};

use crate::bench_mend::hex;
use crate::content::{self, Item};
use crate::drives;
use crate::guest::{self, Filling};
use crate::matrix::{MIB, Made, Tally, document, make, ykeel, ykeel_again};

/// Length of every volume.
const BYTES: u64 = 320 * MIB;
/// Volumes of each pair.
const SEEDS: u64 = 2;

/// What is made, and over what: the same options and others.
const KINDS: [(&str, &[&str]); 9] = [
    ("ntfs", &[]),
    ("ntfs", &["-c", "16384"]),
    ("fat32", &[]),
    ("fat32", &["-s", "2"]),
    ("exfat", &[]),
    ("exfat", &["-c", "64K"]),
    ("ext4", &[]),
    ("ext4", &["-b", "4096"]),
    ("hfsplus", &[]),
];

/// A file of the older volume as it was.
struct Was {
    path: String,
    hash: String,
    /// Where its content, its record, and its folder stand in the volume.
    ground: Vec<ByteRange>,
}

/// Runs every pair; with `only`, those of which one of its kinds (separated by commas) is the older one, each with a line of its own.
pub(crate) fn rows(work: &Path, tallies: &mut BTreeMap<String, Tally>, only: Option<&str>) -> anyhow::Result<()> {
    for seed in 0..SEEDS {
        for (index, (old, options)) in KINDS.into_iter().enumerate() {
            if only.is_some_and(|only| !only.split(',').any(|kind| kind == old)) {
                continue;
            }
            let base = work.join("older.img");
            let was = Made { kind: old, options, bytes: BYTES, os_type: 0 };
            let items = files(seed * 31 + index as u64)?;
            fresh(&base)?;
            put(&was, &items, &base, work)?;
            let before = read_all(&base, &items)?;
            for (new, options) in KINDS.into_iter().filter(|(new, options)| *new != "hfsplus" || options.is_empty()) {
                let is = Made { kind: new, options, bytes: BYTES, os_type: 0 };
                let said = pair(&before, &base, (&was, &is), work, tallies)?;
                only.iter().for_each(|_| println!("{said}"));
            }
        }
    }
    Ok(())
}

fn fresh(image: &Path) -> anyhow::Result<()> {
    let _ = fs::remove_file(image);
    Ok(File::create(image)?.set_len(BYTES)?)
}

/// The files of an older volume: some seventy, and a folder of three hundred small ones, which takes several clusters.
fn files(seed: u64) -> anyhow::Result<Vec<Item>> {
    let mut items: Vec<Item> = content::volume(seed + 700)?.into_iter().filter(|item| !content::is_deleted(&item.path)).collect();
    for number in 0..300u64 {
        let text = format!("Tally {number} of the quay, {seed}: {} ropes, {} fenders\n", number * 7 % 41, number * 13 % 29);
        items.push(Item {
            path: format!("Tallies/tally sheet {number:03}.txt"),
            bytes: text.repeat(20 + number as usize % 60).into_bytes(),
        });
    }
    Ok(items)
}

fn put(made: &Made, items: &[Item], volume: &Path, work: &Path) -> anyhow::Result<()> {
    if made.kind != "hfsplus" {
        return make(made, items, volume, work);
    }
    let tar = work.join("fill.tar");
    content::write_tar(items, &tar, 2026)?;
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH)?.as_secs();
    let wanted = Wanted {
        bytes: BYTES,
        sector: SectorSize(512),
        hidden_sectors: 0,
        label: "OLDER".into(),
        cluster_bytes: Some(4096),
        serial: u128::from(now),
        journal: false,
        made_at: u32::try_from(now)?,
    };
    let file = File::options().write(true).open(volume)?;
    drives::lay(&hfsplus::make::volume(&wanted)?, &file)?;
    guest::fill(&[Filling { kind: "hfsplus", volume, place: None, tar: &tar }])
}

/// Every file of the volume in `image` with what it stands on.
fn read_all(image: &Path, items: &[Item]) -> anyhow::Result<Vec<Was>> {
    let source: SharedSource = Arc::new(FileSource::open(image, SectorSize(512))?);
    let geometry = registry::boot_sector(source.as_ref(), ByteOffset(0)).context("the older volume stands")?;
    let volume = geometry.open(SharedSource::clone(&source))?;
    let record = record_place(&source, &geometry)?;
    let ground_of = |node: NodeId| -> Vec<ByteRange> {
        let extents = volume.extents(node).unwrap_or_default();
        let places = extents.iter().filter_map(|extent| Some(ByteRange::sized(extent.volume_at?, extent.bytes)));
        places.chain(record(node)).collect()
    };
    let mut folders: BTreeMap<String, Vec<ByteRange>> = BTreeMap::new();
    let wanted: BTreeMap<&str, &Item> = items.iter().map(|item| (item.path.as_str(), item)).collect();
    let mut all = Vec::new();
    volume.walk(Deleted::Hide, &mut |found| {
        let path = found.path();
        let own = ground_of(found.entry.id);
        match (found.entry.kind, wanted.get(path.as_str())) {
            (NodeKind::Directory, _) => {
                folders.insert(path, own);
            }
            (_, Some(item)) => {
                let read = volume.open(found.entry.id, "").map(|mut stream| read_whole(stream.as_mut(), 64 << 20).0);
                if read.is_ok_and(|bytes| bytes == item.bytes) {
                    // Names of ext stand in the folder alone.
                    let named = matches!(geometry, Geometry::Ext(_)).then(|| folders.get(found.folder).cloned());
                    let ground = own.into_iter().chain(named.flatten().unwrap_or_default()).collect();
                    all.push(Was { path, hash: hex(&Sha256::digest(&item.bytes)), ground });
                }
            }
            _ => {}
        }
        ControlFlow::Continue(())
    })?;
    Ok(all)
}

type Placed = Box<dyn Fn(NodeId) -> Option<ByteRange>>;

/// Where the record or folder entry of a node stands.
fn record_place(source: &SharedSource, geometry: &Geometry) -> anyhow::Result<Placed> {
    let source = SharedSource::clone(source);
    Ok(match geometry {
        Geometry::Ntfs(ntfs) => {
            let (volume, ntfs) = (NtfsVolume::open(source, *ntfs)?, *ntfs);
            Box::new(move |node| {
                let at = volume.mft().position(&ntfs, node.0 & 0xFFFF_FFFF_FFFF)?;
                Some(ByteRange::sized(at, u64::from(ntfs.record_bytes)))
            })
        }
        Geometry::Fat(_) => Box::new(|node| Some(ByteRange::sized(ByteOffset(node.0), 32))),
        Geometry::ExFat(_) => Box::new(|node| Some(ByteRange::sized(ByteOffset(node.0.checked_sub(32)?), 96))),
        Geometry::Ext(ext) => {
            let (volume, size) = (ExtVolume::open(source, *ext)?, u64::from(ext.inode_bytes));
            Box::new(move |node| Some(ByteRange::sized(volume.inode(u32::try_from(node.0).ok()?).ok()?.at, size)))
        }
        Geometry::HfsPlus(hfs) => {
            let volume = HfsVolume::open(source, *hfs)?;
            Box::new(move |node| {
                let size = u64::from(volume.catalog().header().node_size.get());
                Some(ByteRange::sized(volume.catalog().node_at(u32::try_from(node.0 >> 16).ok()?)?, size))
            })
        }
        _ => Box::new(|_| None),
    })
}

/// True where every byte of `ground` is the same in both images.
fn stands(ground: &[ByteRange], base: &dyn keel_source::Source, now: &dyn keel_source::Source) -> bool {
    ground.iter().all(|range| {
        let len = usize::try_from(range.len()).unwrap_or(0);
        let read = |source: &dyn keel_source::Source| {
            let mut bytes = vec![0; len];
            source.read_at(range.start, &mut bytes).map(|_| bytes).ok()
        };
        read(base).is_some_and(|before| read(now).is_some_and(|after| before == after))
    })
}

fn pair(
    before: &[Was],
    base: &Path,
    (was, is): (&Made, &Made),
    work: &Path,
    tallies: &mut BTreeMap<String, Tally>,
) -> anyhow::Result<String> {
    let image = work.join("volume.img");
    fresh(&image)?;
    drives::copy_data(base, &File::options().write(true).open(&image)?, 0)?;
    let later = vec![Item { path: "n.txt".into(), bytes: b"made over\n".to_vec() }];
    put(is, &later, &image, work)?;
    let path = image.to_string_lossy().into_owned();
    let began = Instant::now();
    let swept = document(&ykeel(work, &["sweep", &path, "--reach", "surface", "--json"])?);
    let took = began.elapsed();
    let finds = swept["finds"].as_array().cloned().unwrap_or_default();
    let tally = tallies.entry(format!("older: {} under {}", was.kind, is.kind)).or_default();
    tally.drives += 1;
    tally.slowest = tally.slowest.max(took);
    let present = |find: &serde_json::Value| find["older_than"].is_null() && find["grade"] == "certain";
    tally.exact += u64::from(finds.iter().filter(|find| present(find)).count() == 1);
    tally.false_finds += finds.iter().filter(|find| find["older_than"].is_null() && !present(find)).count() as u64;
    let (one, other) = (FileSource::open(base, SectorSize(512))?, FileSource::open(&image, SectorSize(512))?);
    let standing: Vec<&Was> = before.iter().filter(|file| stands(&file.ground, &one, &other)).collect();
    tally.files += standing.len() as u64;
    let hashes: BTreeMap<&str, &str> = before.iter().map(|file| (file.path.as_str(), file.hash.as_str())).collect();
    let mut right: BTreeMap<String, u64> = BTreeMap::new();
    for find in finds.iter().filter(|find| !find["older_than"].is_null()) {
        let id = find["id"].as_str().unwrap_or_default();
        let to = work.join("out");
        let _ = fs::remove_dir_all(&to);
        let output = ykeel_again(work, &["extract", &path, "--volume", id, "--to", &to.to_string_lossy(), "--json"])?;
        for line in document(&output)["files"].as_array().into_iter().flatten() {
            let Some(hash) = line["sha256"].as_str() else { continue };
            *right.entry(hash.to_string()).or_default() += 1;
            // Called whole and not what was written.
            let told = line["path"].as_str().unwrap_or_default();
            let same = hashes.iter().find(|(path, _)| told.ends_with(path.rsplit('/').next().unwrap_or(path)));
            tally.wrong += u64::from(line["ground"] == "whole" && same.is_some_and(|(_, wanted)| *wanted != hash));
        }
    }
    let back = standing.iter().filter(|file| right.contains_key(&file.hash)).count() as u64;
    tally.files_back += back;
    // A present volume stands: nothing is to be mended.
    let mended = ykeel(work, &["mend", "--json", &path])?;
    tally.mended += u64::from(mended.status.code() == Some(5));
    let lost: Vec<&str> =
        standing.iter().filter(|file| !right.contains_key(&file.hash)).map(|file| file.path.as_str()).take(3).collect();
    Ok(format!(
        "{} {:?} under {} {:?}: {back} of {} that stand ({} files), {took:.1?}, not back: {lost:?}",
        was.kind,
        was.options,
        is.kind,
        is.options,
        standing.len(),
        before.len()
    ))
}
