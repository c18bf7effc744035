//! `cargo xtask demo-drives`: makes the demo's drives with the system's formatters and drivers, breaks them, packs them.

mod table;

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::Context;
use keel_format::make::{NewVolume, Wanted};
use keel_format::table::gpt::make::{NewEntry as NewGptEntry, NewTable};
use keel_format::table::mbr::make::{NewEntry, NewLogical, ebr_sectors, mbr_sector, protective_sector};
use keel_format::{Geometry, VolumeKind, hfsplus};
use keel_source::{Lba, SectorCount, SectorSize, SharedSource, pack};
use sha2::{Digest, Sha256};
use uuid::Uuid;

use self::table::{DRIVES, Drive, Fill, MIB, Place, Volume};
use crate::content::{self, Item};
use crate::guest::{self, Filling, root, run};

const SECTOR: u64 = 512;

/// Builds the drives of these names (all without any) into `demo/NAME.pack`, and the hashes of their files into
/// `demo/expected.json`.
pub(crate) fn build(names: &[String]) -> anyhow::Result<()> {
    let work = root().join("target/demo-drives");
    let _ = fs::remove_dir_all(&work);
    fs::create_dir_all(&work)?;
    let folder = root().join("demo");
    fs::create_dir_all(&folder)?;
    let list = folder.join("expected.json");
    let mut expected: Expected = fs::read(&list).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default();
    let drives: Vec<&Drive> =
        DRIVES.iter().filter(|drive| names.is_empty() || names.iter().any(|name| name == drive.name)).collect();
    let mut made: Vec<(&Volume, PathBuf, PathBuf)> = Vec::new();
    for drive in &drives {
        expected.remove(drive.name);
        for volume in drive.volumes {
            let items = items(volume, &work)?;
            let hashes = items.iter().filter(|item| !content::is_deleted(&item.path));
            let hashes = hashes
                .map(|item| (item.path.clone(), Sha256::digest(&item.bytes).iter().map(|byte| format!("{byte:02x}")).collect()));
            expected.entry(drive.name.into()).or_default().insert(volume.label.into(), hashes.collect());
            let image = work.join(format!("{}.vol", volume.label));
            if volume.fill == Fill::Few {
                fill_few(volume, &items, &image)?;
                continue;
            }
            let tar = work.join(format!("{}.tar", volume.label));
            let year = if volume.place == Place::Older { 2019 } else { 2026 };
            content::write_tar(&items, &tar, year)?;
            format(volume.kind, volume.label, volume.sectors, &image, (volume.first, drive.sector))?;
            made.push((volume, image, tar));
        }
    }
    let fillings: Vec<Filling<'_>> =
        made.iter().map(|(volume, image, tar)| Filling { kind: volume.kind, volume: image, place: None, tar }).collect();
    guest::fill(&fillings)?;
    for drive in drives {
        let image = work.join(format!("{}.img", drive.name));
        assemble(drive, &work, &image)?;
        let packed = folder.join(format!("{}.pack", drive.name));
        pack::pack(&image, &mut File::create(&packed)?)?;
        println!("{}  {} bytes", packed.display(), fs::metadata(&packed)?.len());
    }
    fs::write(list, serde_json::to_string_pretty(&expected)? + "\n")?;
    fs::remove_dir_all(&work)?;
    Ok(())
}

/// Hashes by drive, volume and path.
type Expected = BTreeMap<String, BTreeMap<String, BTreeMap<String, String>>>;

fn items(volume: &Volume, work: &Path) -> anyhow::Result<Vec<Item>> {
    let mut items = content::volume(volume.seed)?;
    match volume.fill {
        Fill::Whole => {}
        Fill::Few => items.retain(|item| content::is_brief(&item.path)),
        Fill::WithImage => {
            let inner = Volume::new("vfat", "STICK", 0, 24 * MIB, volume.seed + 50).few();
            let image = work.join("inner.vol");
            fill_few(&inner, &self::items(&inner, work)?, &image)?;
            items.push(Item { path: "Backups/old stick.img".into(), bytes: fs::read(&image)? });
        }
    }
    Ok(items)
}

/// A small volume that is filled without a driver: FAT by copying into it, ext4 by its own formatter.
fn fill_few(volume: &Volume, items: &[Item], image: &Path) -> anyhow::Result<()> {
    let tree = image.with_extension("tree");
    let _ = fs::remove_dir_all(&tree);
    for item in items {
        let path = tree.join(&item.path);
        fs::create_dir_all(path.parent().context("a path has a folder")?)?;
        fs::write(&path, &item.bytes)?;
    }
    let _ = fs::remove_file(image);
    File::create(image)?.set_len(volume.sectors * SECTOR)?;
    let (path, from) = (image.to_string_lossy().into_owned(), tree.to_string_lossy().into_owned());
    if volume.kind == "ext4" {
        run("mkfs.ext4", &["-q", "-F", "-L", volume.label, "-U", &uuid_of(volume.label), "-d", &from, &path])?;
    } else {
        run("mkfs.vfat", &["-n", volume.label, "-i", &format!("{:08x}", crc32(volume.label)), &path])?;
        let tops: Vec<String> = fs::read_dir(&tree)?.flatten().map(|entry| entry.path().to_string_lossy().into_owned()).collect();
        let arguments: Vec<&str> = ["-s", "-i", &path].into_iter().chain(tops.iter().map(String::as_str)).chain(["::"]).collect();
        run("mcopy", &arguments)?;
    }
    fs::remove_dir_all(&tree)?;
    Ok(())
}

fn uuid_of(label: &str) -> String {
    Uuid::from_u64_pair(u64::from(crc32(label)) << 32 | 0x4B4C, 0x8000_0000_0000_0001).to_string()
}

/// Formats a bare volume with the system's own formatter, HFS+ with ours. `hidden` sectors of 512 bytes lie before it on
/// its drive, whose sectors have `sector` bytes.
pub(crate) fn format(kind: &str, label: &str, sectors: u64, image: &Path, (hidden, sector): (u64, u64)) -> anyhow::Result<()> {
    let file = File::create(image)?;
    file.set_len(sectors * SECTOR)?;
    let path = image.to_string_lossy();
    let hidden = (hidden * SECTOR / sector).to_string();
    let (serial, size) = (format!("{:08x}", crc32(label)), sector.to_string());
    match kind {
        "vfat" => run("mkfs.vfat", &["-F", "32", "-S", &size, "-n", label, "-i", &serial, "-h", &hidden, &path]),
        "exfat" => run("mkfs.exfat", &["-L", label, &path]),
        "ext4" => run("mkfs.ext4", &["-q", "-F", "-L", label, "-U", &uuid_of(label), "-E", "lazy_itable_init=1", &path]),
        "hfsplus" => {
            let wanted = Wanted {
                bytes: sectors * SECTOR,
                sector: SectorSize(512),
                hidden_sectors: 0,
                label: label.into(),
                cluster_bytes: Some(4096),
                serial: u128::from(crc32(label)),
                journal: false,
                made_at: 1_773_155_200,
            };
            lay(&hfsplus::make::volume(&wanted)?, &file)
        }
        _ => run("mkfs.ntfs", &["-Q", "-F", "-q", "-s", &size, "-L", label, "-p", &hidden, "-H", "255", "-S", "63", &path]),
    }
}

/// Writes a new volume to the start of `file`.
pub(crate) fn lay(volume: &NewVolume, file: &File) -> anyhow::Result<()> {
    for part in &volume.parts {
        part.bytes.each_piece(|at, piece| file.write_all_at(piece, part.at.0 + at))?;
    }
    Ok(())
}

fn crc32(text: &str) -> u32 {
    text.bytes().fold(0x811C_9DC5, |hash, byte| (hash ^ u32::from(byte)).wrapping_mul(0x0100_0193))
}

fn assemble(drive: &Drive, work: &Path, image: &Path) -> anyhow::Result<()> {
    let file = File::create(image)?;
    file.set_len(drive.bytes)?;
    let sectors = drive.bytes / SECTOR;
    // An older generation comes first, so that the newer one lies over it.
    for volume in drive.volumes {
        copy_data(&work.join(format!("{}.vol", volume.label)), &file, volume.first * SECTOR)?;
    }
    for volume in drive.volumes.iter().filter(|volume| drive.journal == Some(volume.label)) {
        write_bad_journal(&work.join(format!("{}.vol", volume.label)), &file, volume.first * SECTOR)?;
    }
    if drive.gpt {
        write_gpt(drive, &file)?;
    } else {
        write_mbr(drive, &file)?;
    }
    for (first, count) in drive.lost {
        let first = u64::try_from(*first).unwrap_or_else(|_| sectors - first.unsigned_abs());
        for sector in first..first + count {
            file.write_all_at(&[0; SECTOR as usize], sector * SECTOR)?;
        }
    }
    for (first, count) in drive.noise {
        let mut dice = content::Dice::new(*first);
        let bytes: Vec<u8> = (0..count * SECTOR / 8).flat_map(|_| dice.next().to_le_bytes()).collect();
        file.write_all_at(&bytes, first * SECTOR)?;
    }
    for (first, left) in drive.left {
        file.write_all_at(&left.bytes(), first * SECTOR)?;
    }
    file.set_len(drive.grown_to.unwrap_or(drive.bytes))?;
    Ok(())
}

fn write_mbr(drive: &Drive, file: &File) -> anyhow::Result<()> {
    let number = |value: u64| u32::try_from(value).context("fits an MBR");
    let os_type = |volume: &Volume| match volume.kind {
        "vfat" => 0x0C,
        "ext4" => 0x83,
        _ => 0x07,
    };
    let mut entries: Vec<NewEntry> = Vec::new();
    for volume in drive.volumes.iter().filter(|volume| volume.place == Place::Entry) {
        let (starting_lba, size_in_lba) = (number(volume.first)?, number(volume.sectors)?);
        entries.push(NewEntry { os_type: os_type(volume), boot_indicator: 0, starting_lba, size_in_lba });
    }
    let logicals = drive.volumes.iter().filter(|volume| volume.place == Place::Logical);
    let chain: Vec<NewLogical> = logicals
        .map(|volume| NewLogical {
            ebr: Lba(volume.first - MIB),
            first: Lba(volume.first),
            sectors: SectorCount(volume.sectors),
            os_type: os_type(volume),
        })
        .collect();
    if let (Some(first), Some(last)) = (chain.first(), chain.last()) {
        let end = last.first.0 + last.sectors.0;
        let (starting_lba, size_in_lba) = (number(first.ebr.0)?, number(end - first.ebr.0)?);
        entries.push(NewEntry { os_type: 0x0F, boot_indicator: 0, starting_lba, size_in_lba });
        for (lba, bytes) in ebr_sectors(first.ebr, &chain).context("the chain fits")? {
            file.write_all_at(&bytes, lba.0 * SECTOR)?;
        }
    }
    file.write_all_at(&mbr_sector(&[], crc32(drive.name), &entries), 0)?;
    Ok(())
}

fn write_gpt(drive: &Drive, file: &File) -> anyhow::Result<()> {
    let guid = |text: String| {
        Uuid::from_u64_pair(u64::from(crc32(&text)) << 32 | 0x4B4C, 0x8000_0000_0000_0000 | u64::from(crc32(drive.name)))
    };
    let unit = drive.sector / SECTOR;
    let kind = |volume: &Volume| match volume.kind {
        "ext4" => VolumeKind::Ext4,
        "hfsplus" => VolumeKind::HfsPlus,
        _ => VolumeKind::Ntfs,
    };
    let entries = drive.volumes.iter().filter(|volume| volume.place == Place::Entry).map(|volume| NewGptEntry {
        type_guid: kind(volume).facts().gpt.0,
        unique: guid(format!("part {}", volume.label)),
        first: Lba(volume.first / unit),
        sectors: SectorCount(volume.sectors / unit),
        attributes: drive.attributes,
        name: volume.label.to_string(),
    });
    let table = NewTable { disk: guid("disk".into()), entries: entries.collect(), count: 128, entry_bytes: 128 };
    let sector = SectorSize(u32::try_from(drive.sector)?);
    let sectors = drive.bytes / drive.sector;
    let made = table.sectors(sectors, sector).context("the table fits")?;
    file.write_all_at(&protective_sector(&[], sectors), 0)?;
    for (lba, bytes) in made.primary.iter().chain(&made.backup) {
        file.write_all_at(bytes, lba.0 * drive.sector)?;
    }
    Ok(())
}

/// Switches journaling on, and damages the checksum of the journal's header.
fn write_bad_journal(volume: &Path, to: &File, at: u64) -> anyhow::Result<()> {
    const BYTES: u64 = 8 << 20;
    let source: SharedSource = Arc::new(keel_source::FileSource::open(volume, SectorSize(512))?);
    let found = keel_format::registry::boot_sector(source.as_ref(), keel_source::ByteOffset(0));
    let Some(Geometry::HfsPlus(geometry)) = found else { anyhow::bail!("no HFS+ to give a journal to") };
    let opened = hfsplus::HfsVolume::open(source, geometry)?;
    for (place, mut bytes) in hfsplus::make::journal(&opened, BYTES).context("there is room for a journal")? {
        if bytes.starts_with(b"JNLx") {
            bytes[36] ^= 0x5A;
        }
        to.write_all_at(&bytes, at + place)?;
    }
    Ok(())
}

/// Copies what is not zero.
pub(crate) fn copy_data(from: &Path, to: &File, at: u64) -> anyhow::Result<()> {
    let source = keel_source::FileSource::open(from, SectorSize(512))?;
    let mut buf = vec![0; 1 << 20];
    let mut here = keel_source::ByteOffset(0);
    use keel_source::Source;
    while let Some(data) = source.next_data(here) {
        here = data.start;
        while here < data.end {
            let len = usize::try_from(data.end - here)?.min(buf.len());
            source.read_at(here, &mut buf[..len])?;
            if buf[..len].iter().any(|byte| *byte != 0) {
                to.write_all_at(&buf[..len], at + here.0)?;
            }
            here = here + len as u64;
        }
    }
    Ok(())
}
