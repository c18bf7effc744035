//! An independent kernel judges repaired drives: finds the partitions, mounts them, hashes every file.

use std::fs;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use crate::guest::{alone, guest};
use crate::support::{Bench, expected, text};

/// What the kernel says of the drives, line by line.
fn judge(drives: &[(&Path, u32)]) -> Vec<String> {
    let options = |sector: u32| match sector {
        512 => ",snapshot=on".to_string(),
        size => format!(",snapshot=on;,logical_block_size={size},physical_block_size={size}"),
    };
    let _alone = alone();
    let drives: Vec<(&Path, String)> = drives.iter().map(|(drive, sector)| (*drive, options(*sector))).collect();
    let output =
        crate::qemu::qemu(&guest(), "", drives.iter().map(|(drive, options)| (*drive, options.as_str()))).output().unwrap();
    let lines: Vec<String> = String::from_utf8_lossy(&output.stdout)
        .lines()
        .map(|line| line.trim_end().to_string())
        .filter(|line| line.starts_with("@@"))
        .collect();
    assert!(lines.iter().any(|line| line == "@@END"), "the guest did not finish: {output:?}");
    lines
}

fn holds(lines: &[String], device: &str, kind: &str, start: u64, files: &[(String, String)]) {
    assert!(lines.iter().any(|line| line.starts_with(&format!("@@PART {device} start={start} "))), "{device}: {lines:?}");
    assert!(lines.contains(&format!("@@MOUNT {device} {kind}")), "{device} does not mount");
    let prefix = format!("@@FILE {device} ");
    assert_eq!(lines.iter().filter(|line| line.starts_with(&prefix)).count(), files.len(), "{device}");
    for (path, hash) in files {
        assert!(lines.contains(&format!("{prefix}{hash} ./{path}")), "{device}: {path}");
    }
}

#[test]
fn a_kernel_mounts_the_repaired_drives_with_every_file_intact() {
    let bench = Bench::new();
    let names = [
        "purser-stick",
        "ticket-office",
        "harbour-camera",
        "timetable-desk",
        "chart-table",
        "skipper-archive",
        "stores-box",
        "engine-spare",
        "fleet-register",
        "lookout-camera",
        "dry-dock",
        "wheelhouse",
        "deck-camera",
        "linen-store",
        "skipper-mirror",
        "deck-recorder",
    ];
    let drives: Vec<PathBuf> = names.iter().map(|name| bench.copy(&format!("{name}.img"))).collect();
    for drive in &drives {
        let output = bench.run(&["mend", text(drive), "--also", "journal", "--apply", "--yes"]);
        assert_eq!(output.status.code(), Some(0), "{drive:?}: {output:?}");
    }
    // The same disk as it was behind its dock, in sectors of 4096 bytes, with the first copy of its GPT gone.
    let docked = bench.copy_as("chart-table.img", "docked.img");
    fs::File::options().write(true).open(&docked).unwrap().write_all_at(&[0; 8192], 4096).unwrap();
    assert_eq!(bench.run(&["mend", "--sector-size", "4096", text(&docked), "--apply", "--yes"]).status.code(), Some(0));
    let judged: Vec<(&Path, u32)> = drives.iter().map(|drive| (drive.as_path(), 512)).chain([(docked.as_path(), 4096)]).collect();
    let lines = judge(&judged);
    let mib = 2048;
    for (device, kind, start, drive, label) in [
        ("vda1", "vfat", mib, "purser-stick", "TICKETS"),
        ("vda2", "ntfs", 3001 * mib, "purser-stick", "PURSER"),
        ("vdb1", "ntfs", mib, "ticket-office", "OFFICE"),
        ("vdb2", "ntfs", 40_001 * mib, "ticket-office", "ARCHIVE"),
        ("vdc1", "vfat", 4 * mib, "harbour-camera", "CAMERA"),
        ("vdd1", "ntfs", mib, "timetable-desk", "COUNTER"),
        ("vdd5", "vfat", 3002 * mib, "timetable-desk", "WINTER"),
        ("vdd6", "exfat", 6003 * mib, "timetable-desk", "SUMMER"),
        ("vdd7", "ext4", 10_004 * mib, "timetable-desk", "DRAFTS"),
        ("vde1", "vfat", 2 * mib, "chart-table", "CHARTS"),
        ("vde2", "ntfs", 8002 * mib, "chart-table", "SOUNDINGS"),
        ("vdf1", "hfsplus", 40, "skipper-archive", "SKIPPER"),
        ("vdg1", "ext4", mib, "stores-box", "STORES"),
        ("vdh1", "ext4", mib, "engine-spare", "PISTON"),
        ("vdh2", "ntfs", 3001 * mib, "engine-spare", "VALVE"),
        ("vdi24", "ext4", mib + 23 * 100 * mib, "fleet-register", "SHELDUCK"),
        ("vdj1", "vfat", mib, "lookout-camera", "LOOKOUT"),
        ("vdk1", "ntfs", mib, "dry-dock", "DRYDOCK"),
        ("vdl1", "vfat", mib, "wheelhouse", "WHEEL"),
        ("vdm1", "exfat", mib, "deck-camera", "DECKCAM"),
        ("vdn1", "ext4", mib, "linen-store", "LINEN"),
        ("vdo1", "hfsplus", 40, "skipper-mirror", "MIRROR"),
        ("vdp1", "hfsplus", 40, "deck-recorder", "RECORDER"),
        ("vdq1", "vfat", 2 * mib, "chart-table", "CHARTS"),
        ("vdq2", "ntfs", 8002 * mib, "chart-table", "SOUNDINGS"),
    ] {
        holds(&lines, device, kind, start, &expected(drive, label));
    }
}
