//! An independent kernel judges repaired drives: finds the partitions, mounts them, hashes every file.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "../../../xtask/guest/qemu.rs"]
mod qemu;
mod support;

use std::path::{Path, PathBuf};
use std::process::Command;

use support::{Bench, expected, text};

/// The guest, built when it is not there yet (`cargo xtask test` does it before).
fn guest() -> PathBuf {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let folder = std::env::var_os("YKEEL_GUEST").map_or_else(|| root.join("target/guest"), PathBuf::from);
    let status = Command::new("bash").arg(root.join("xtask/guest/build.sh")).arg(&folder).status().unwrap();
    assert!(status.success(), "the guest could not be built; run the tests by `cargo xtask test`");
    folder
}

/// What the kernel says of the drives, line by line.
fn judge(drives: &[&Path]) -> Vec<String> {
    let output = qemu::qemu(&guest(), "", drives.iter().map(|drive| (*drive, ",snapshot=on"))).output().unwrap();
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
fn a_kernel_mounts_the_repaired_mbr_and_gpt_drives_with_every_file_intact() {
    let bench = Bench::new();
    let (stick, office, camera) =
        (bench.copy("purser-stick.img"), bench.copy("ticket-office.img"), bench.copy("harbour-camera.img"));
    for drive in [&stick, &office, &camera] {
        assert_eq!(bench.run(&["mend", text(drive), "--apply", "--yes"]).status.code(), Some(0));
    }
    let lines = judge(&[&stick, &office, &camera]);
    holds(&lines, "vda1", "vfat", 2048, &expected("purser-stick", "TICKETS"));
    holds(&lines, "vda2", "ntfs", 3001 * 2048, &expected("purser-stick", "PURSER"));
    holds(&lines, "vdb1", "ntfs", 2048, &expected("ticket-office", "OFFICE"));
    holds(&lines, "vdb2", "ntfs", 40_001 * 2048, &expected("ticket-office", "ARCHIVE"));
    holds(&lines, "vdc1", "vfat", 4 * 2048, &expected("harbour-camera", "CAMERA"));
}
