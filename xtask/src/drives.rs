//! `cargo xtask demo-drives`: makes the demo's drives with the system's formatters and drivers, breaks them, packs them.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use anyhow::Context;
use keel_format::table::gpt::make::{NewEntry as NewGptEntry, NewTable};
use keel_format::table::mbr::make::{NewEntry, mbr_sector, protective_sector};
use keel_source::{Lba, SectorCount, SectorSize, pack};
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::content;
use crate::guest::{self, Filling, root, run};

const SECTOR: u64 = 512;

/// A volume of a demo drive.
struct Volume {
    kind: &'static str,
    label: &'static str,
    first: u64,
    sectors: u64,
    seed: u64,
}

/// A demo drive before it is broken.
struct Drive {
    name: &'static str,
    bytes: u64,
    gpt: bool,
    volumes: &'static [Volume],
    /// Ranges of sectors to be zeroed: first and count; counted from the end when negative.
    lost: &'static [(i64, u64)],
}

const MIB: u64 = 2048;

const DRIVES: &[Drive] = &[
    Drive {
        name: "purser-stick",
        bytes: 15_931_539_456,
        gpt: false,
        volumes: &[
            Volume { kind: "vfat", label: "TICKETS", first: MIB, sectors: 3000 * MIB, seed: 1 },
            Volume { kind: "ntfs", label: "PURSER", first: 3001 * MIB, sectors: 9000 * MIB, seed: 2 },
        ],
        lost: &[(0, 1)],
    },
    Drive {
        name: "ticket-office",
        bytes: 120_034_123_776,
        gpt: true,
        volumes: &[
            Volume { kind: "ntfs", label: "OFFICE", first: MIB, sectors: 40_000 * MIB, seed: 3 },
            Volume { kind: "ntfs", label: "ARCHIVE", first: 40_001 * MIB, sectors: 60_000 * MIB, seed: 4 },
        ],
        lost: &[(1, 33)],
    },
    Drive {
        name: "engine-log",
        bytes: 24_000_000_000,
        gpt: true,
        volumes: &[
            Volume { kind: "ntfs", label: "ENGINE", first: MIB, sectors: 6000 * MIB, seed: 5 },
            Volume { kind: "ntfs", label: "LOGBOOK", first: 6001 * MIB, sectors: 9000 * MIB, seed: 6 },
            Volume { kind: "vfat", label: "SPARES", first: 15_001 * MIB, sectors: 4000 * MIB, seed: 7 },
        ],
        // Both copies of the GPT, and both boot sectors of LOGBOOK.
        lost: &[(1, 33), (-33, 33), (6001 * MIB as i64, 1), ((15_001 * MIB - 1) as i64, 1)],
    },
    Drive {
        name: "harbour-camera",
        bytes: 7_948_206_080,
        gpt: false,
        volumes: &[Volume { kind: "vfat", label: "CAMERA", first: 4 * MIB, sectors: 7500 * MIB, seed: 8 }],
        lost: &[(4 * MIB as i64, 1)],
    },
    Drive {
        name: "winch-room",
        bytes: 4_009_754_624,
        gpt: false,
        volumes: &[Volume { kind: "ntfs", label: "WINCH", first: MIB, sectors: 3000 * MIB, seed: 9 }],
        lost: &[],
    },
    Drive {
        name: "galley",
        bytes: 8_004_304_896,
        gpt: false,
        volumes: &[
            Volume { kind: "ntfs", label: "GALLEY", first: MIB, sectors: 5000 * MIB, seed: 10 },
            Volume { kind: "vfat", label: "MENUS", first: 5001 * MIB, sectors: 2000 * MIB, seed: 11 },
        ],
        lost: &[],
    },
];

/// Builds every drive into `demo/NAME.pack` and the hashes of their files into `demo/expected.json`.
pub(crate) fn build() -> anyhow::Result<()> {
    let work = root().join("target/demo-drives");
    let _ = fs::remove_dir_all(&work);
    fs::create_dir_all(&work)?;
    let mut expected: BTreeMap<&str, BTreeMap<&str, BTreeMap<String, String>>> = BTreeMap::new();
    let mut made: Vec<(&Volume, PathBuf, PathBuf)> = Vec::new();
    for (drive, volume) in DRIVES.iter().flat_map(|drive| drive.volumes.iter().map(move |volume| (drive, volume))) {
        let items = content::volume(volume.seed)?;
        let image = work.join(format!("{}.vol", volume.label));
        let tar = work.join(format!("{}.tar", volume.label));
        content::write_tar(&items, &tar)?;
        format(volume.kind, volume.label, volume.sectors, &image, volume.first)?;
        let hashes = items.iter().filter(|item| !content::is_deleted(&item.path));
        let hashes = hashes
            .map(|item| (item.path.clone(), Sha256::digest(&item.bytes).iter().map(|byte| format!("{byte:02x}")).collect()));
        expected.entry(drive.name).or_default().insert(volume.label, hashes.collect());
        made.push((volume, image, tar));
    }
    let fillings: Vec<Filling<'_>> =
        made.iter().map(|(volume, image, tar)| Filling { kind: volume.kind, volume: image, tar }).collect();
    guest::fill(&fillings)?;
    let folder = root().join("demo");
    fs::create_dir_all(&folder)?;
    for drive in DRIVES {
        let image = work.join(format!("{}.img", drive.name));
        assemble(drive, &work, &image)?;
        let packed = folder.join(format!("{}.pack", drive.name));
        pack::pack(&image, &mut File::create(&packed)?)?;
        println!("{}  {} bytes", packed.display(), fs::metadata(&packed)?.len());
    }
    fs::write(folder.join("expected.json"), serde_json::to_string_pretty(&expected)? + "\n")?;
    fs::remove_dir_all(&work)?;
    Ok(())
}

/// Formats a bare volume with the system's own formatter. `hidden` sectors lie before it on its drive.
pub(crate) fn format(kind: &str, label: &str, sectors: u64, image: &Path, hidden: u64) -> anyhow::Result<()> {
    File::create(image)?.set_len(sectors * SECTOR)?;
    let path = image.to_string_lossy();
    let hidden = hidden.to_string();
    let serial = format!("{:08x}", crc32(label));
    match kind {
        "vfat" => run("mkfs.vfat", &["-F", "32", "-n", label, "-i", &serial, "-h", &hidden, &path]),
        _ => run("mkfs.ntfs", &["-Q", "-F", "-q", "-L", label, "-p", &hidden, "-H", "255", "-S", "63", &path]),
    }
}

fn crc32(text: &str) -> u32 {
    text.bytes().fold(0x811C_9DC5, |hash, byte| (hash ^ u32::from(byte)).wrapping_mul(0x0100_0193))
}

fn assemble(drive: &Drive, work: &Path, image: &Path) -> anyhow::Result<()> {
    let file = File::create(image)?;
    file.set_len(drive.bytes)?;
    let sectors = drive.bytes / SECTOR;
    for volume in drive.volumes {
        copy_data(&work.join(format!("{}.vol", volume.label)), &file, volume.first * SECTOR)?;
    }
    if drive.gpt {
        write_gpt(drive, &file, sectors)?;
    } else {
        let entries: Vec<NewEntry> = drive
            .volumes
            .iter()
            .map(|volume| {
                let number = |value: u64| u32::try_from(value).context("fits an MBR");
                let os_type = if volume.kind == "ntfs" { 0x07 } else { 0x0C };
                Ok(NewEntry {
                    os_type,
                    boot_indicator: 0,
                    starting_lba: number(volume.first)?,
                    size_in_lba: number(volume.sectors)?,
                })
            })
            .collect::<anyhow::Result<_>>()?;
        file.write_all_at(&mbr_sector(&[], crc32(drive.name), &entries), 0)?;
    }
    for (first, count) in drive.lost {
        let first = u64::try_from(*first).unwrap_or_else(|_| sectors - first.unsigned_abs());
        for sector in first..first + count {
            file.write_all_at(&[0; SECTOR as usize], sector * SECTOR)?;
        }
    }
    Ok(())
}

fn write_gpt(drive: &Drive, file: &File, sectors: u64) -> anyhow::Result<()> {
    let guid = |text: String| {
        Uuid::from_u64_pair(u64::from(crc32(&text)) << 32 | 0x4B4C, 0x8000_0000_0000_0000 | u64::from(crc32(drive.name)))
    };
    let entries = drive.volumes.iter().map(|volume| NewGptEntry {
        type_guid: keel_format::table::gpt::BASIC_DATA,
        unique: guid(format!("part {}", volume.label)),
        first: Lba(volume.first),
        sectors: SectorCount(volume.sectors),
        attributes: 0,
        name: volume.label.to_string(),
    });
    let table = NewTable { disk: guid("disk".into()), entries: entries.collect(), count: 128, entry_bytes: 128 };
    let made = table.sectors(sectors, SectorSize(512)).context("the table fits")?;
    file.write_all_at(&protective_sector(&[], sectors), 0)?;
    for (lba, bytes) in made.primary.iter().chain(&made.backup) {
        file.write_all_at(bytes, lba.0 * SECTOR)?;
    }
    Ok(())
}

/// Copies what is not zero.
fn copy_data(from: &Path, to: &File, at: u64) -> anyhow::Result<()> {
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
