//! Small drives for the damage runs: every format as the system's formatters and drivers make it, with and without a table.
#![allow(dead_code, missing_docs, unreachable_pub, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::path::Path;
use std::process::Command;

use super::support::{Bench, MIB, files, plant, run, unmount};

/// A formatter with its arguments, and the driver that fills what it made; none for what is read and not filled.
struct Recipe {
    name: &'static str,
    bytes: u64,
    format: &'static [&'static str],
    driver: &'static [&'static str],
}

const LOOP: &[&str] = &["mount", "-o", "loop"];
const NTFS: &[&str] = &["ntfs-3g", "-o", "streams_interface=windows,compression"];

const RECIPES: &[Recipe] = &[
    Recipe { name: "ntfs", bytes: 8 * MIB, format: &["mkfs.ntfs", "-Q", "-F", "-q"], driver: NTFS },
    Recipe { name: "ntfs-512", bytes: 6 * MIB, format: &["mkfs.ntfs", "-Q", "-F", "-q", "-c", "512"], driver: NTFS },
    Recipe { name: "ntfs-64k", bytes: 40 * MIB, format: &["mkfs.ntfs", "-Q", "-F", "-q", "-c", "65536"], driver: NTFS },
    Recipe { name: "ext2", bytes: 8 * MIB, format: &["mkfs.ext2", "-q", "-F", "-b", "1024"], driver: LOOP },
    Recipe { name: "ext3", bytes: 12 * MIB, format: &["mkfs.ext3", "-q", "-F"], driver: LOOP },
    Recipe {
        name: "ext4-unsummed",
        bytes: 24 * MIB,
        format: &["mkfs.ext4", "-q", "-F", "-b", "1024", "-O", "^metadata_csum,inline_data"],
        driver: LOOP,
    },
    Recipe { name: "ext4", bytes: 24 * MIB, format: &["mkfs.ext4", "-q", "-F"], driver: LOOP },
    Recipe {
        name: "ext4-bigalloc",
        bytes: 48 * MIB,
        format: &["mkfs.ext4", "-q", "-F", "-O", "^metadata_csum,bigalloc,meta_bg,^resize_inode"],
        driver: LOOP,
    },
    Recipe { name: "xfs", bytes: 320 * MIB, format: &["mkfs.xfs", "-q", "-f"], driver: &[] },
    Recipe { name: "btrfs", bytes: 128 * MIB, format: &["mkfs.btrfs", "-q", "-f"], driver: &[] },
    Recipe { name: "f2fs", bytes: 64 * MIB, format: &["mkfs.f2fs", "-q", "-f"], driver: &[] },
    Recipe { name: "udf", bytes: 16 * MIB, format: &["mkudffs"], driver: &[] },
    Recipe { name: "swap", bytes: 8 * MIB, format: &["mkswap"], driver: &[] },
];

/// Makes every drive in `folder`: `NAME.img`, with sectors of 4096 bytes where the name ends in `4k`.
pub fn make(folder: &Path) {
    fs::create_dir_all(folder).unwrap();
    for recipe in RECIPES {
        bare(recipe, &folder.join(format!("{}.img", recipe.name)), folder);
    }
    with_tables(folder);
}

fn bare(recipe: &Recipe, image: &Path, folder: &Path) {
    File::create(image).unwrap().set_len(recipe.bytes).unwrap();
    run(Command::new(recipe.format[0]).args(&recipe.format[1..]).arg(image));
    let Some((program, arguments)) = recipe.driver.split_first() else { return };
    let point = folder.join("mounted");
    fs::create_dir_all(&point).unwrap();
    run(Command::new(program).args(arguments).arg(image).arg(&point));
    plant(&point, &more_files());
    // Something in pieces, holes, a second name, a link, and something deleted.
    for piece in 0..12u64 {
        for name in ["in pieces.bin", "between.bin"] {
            let mut file = File::options().append(true).create(true).open(point.join(name)).unwrap();
            std::io::Write::write_all(&mut file, &vec![piece as u8 + 1; 5000]).unwrap();
            file.sync_all().unwrap();
        }
    }
    File::create(point.join("holes.bin")).unwrap().set_len(300_000).unwrap();
    let _ = fs::hard_link(point.join("in pieces.bin"), point.join("second name.bin"));
    let _ = std::os::unix::fs::symlink("in pieces.bin", point.join("a link"));
    if recipe.driver == NTFS {
        fs::write(point.join("in pieces.bin:note"), "ticket 4711").unwrap();
        let squeezed = point.join("squeezed");
        fs::create_dir(&squeezed).unwrap();
        let flag = ["-h", "-n", "system.ntfs_attrib_be", "-v", "0x00000810"];
        run(Command::new("setfattr").args(flag).arg(&squeezed));
        fs::write(squeezed.join("text.txt"), "Brackwater Line\n".repeat(9000)).unwrap();
    }
    fs::remove_file(point.join("between.bin")).unwrap();
    unmount(&point);
}

fn more_files() -> BTreeMap<String, Vec<u8>> {
    let mut all = files(7);
    for number in 0..90 {
        all.insert(
            format!("Many/a rather long name, so that a folder takes more than one block {number:03}.txt"),
            vec![b'x'; number],
        );
    }
    all
}

/// Drives with tables, FAT and exFAT in all widths, on both sizes of sectors.
fn with_tables(folder: &Path) {
    let keep = |bench: Bench, name: &str| fs::copy(&bench.image, folder.join(format!("{name}.img"))).map(|_| ()).unwrap();
    for (name, bits, bytes) in [("fat12", "12", 4 * MIB), ("fat16", "16", 18 * MIB), ("fat32", "32", 40 * MIB)] {
        let bench = Bench::new(bytes + 2 * MIB);
        bench.fat(MIB, bytes, bits, "TICKETS", &more_files());
        bench.mbr(&[(0x0C, MIB, bytes)]);
        keep(bench, name);
    }
    let bench = Bench::new(20 * MIB);
    bench.exfat(0, 20 * MIB, "CAMERA", &more_files());
    keep(bench, "exfat");
    let bench = Bench::new(60 * MIB);
    bench.exfat(2 * MIB, 16 * MIB, "CAMERA", &more_files());
    bench.ntfs(20 * MIB, 10 * MIB, "PURSER", &more_files());
    bench.gpt(60 * MIB, &[(2 * MIB, 16 * MIB, 0), (20 * MIB, 10 * MIB, 0), (32 * MIB, 20 * MIB, 0)]);
    keep(bench, "gpt");
    let bench = Bench::with_sectors(60 * MIB, 4096);
    bench.ntfs(4 * MIB, 16 * MIB, "WIDE", &more_files());
    bench.gpt(60 * MIB, &[(4 * MIB, 16 * MIB, 0)]);
    keep(bench, "gpt-4k");
    // A chain of EBRs: each names the next by its place behind the first.
    let bench = Bench::new(50 * MIB);
    bench.mbr(&[(0x0E, MIB, 8 * MIB), (0x05, 10 * MIB, 40 * MIB)]);
    bench.fat(MIB, 8 * MIB, "12", "FIRST", &files(2));
    for number in 0..4u64 {
        let at = 10 * MIB + number * 9 * MIB;
        bench.fat(at + 32_256, 6 * MIB, "12", &format!("LOG{number}"), &files(number + 3));
        bench.write(at, &ebr(number));
    }
    keep(bench, "ebr");
}

fn ebr(number: u64) -> Vec<u8> {
    let mut sector = vec![0; 512];
    let mut entry = |slot: usize, os_type: u8, at: u64, bytes: u64| {
        let place = 446 + slot * 16;
        sector[place + 4] = os_type;
        sector[place + 8..place + 12].copy_from_slice(&u32::try_from(at / 512).unwrap().to_le_bytes());
        sector[place + 12..place + 16].copy_from_slice(&u32::try_from(bytes / 512).unwrap().to_le_bytes());
    };
    entry(0, 0x01, 32_256, 6 * MIB);
    if number < 3 {
        entry(1, 0x05, (number + 1) * 9 * MIB, 9 * MIB);
    }
    sector[510..].copy_from_slice(&[0x55, 0xAA]);
    sector
}
