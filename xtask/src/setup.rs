//! `cargo xtask test`: installs what the tests need, then runs Cargo's runner.

use std::process::Command;

use anyhow::Context;

use crate::guest::{self, root, run};

/// What the tests need beside Rust: a terminal to drive, formatters and drivers, a machine to run a kernel in.
pub(crate) const PACKAGES: &[&str] = &[
    "tmux",
    "dosfstools",
    "ntfs-3g",
    "exfatprogs",
    "exfat-fuse",
    "e2fsprogs",
    "xfsprogs",
    "btrfs-progs",
    "f2fs-tools",
    "apfsprogs",
    "cryptsetup-bin",
    "lvm2",
    "udftools",
    "genisoimage",
    "util-linux",
    "mtools",
    "qemu-system-x86",
    "cpio",
    "kmod",
    "attr",
    "fuse3",
    "wimtools",
    // Encoders, whose files are known by their content.
    "ffmpeg",
    "imagemagick",
    "librsvg2-bin",
    "p7zip-full",
    "gcab",
    "sqlite3",
    "zip",
    "bzip2",
    "xz-utils",
    "zstd",
    "fonts-dejavu-core",
];

/// Installs Debian packages that are not there yet.
pub(crate) fn install(packages: &[&str]) -> anyhow::Result<()> {
    let there = |package: &&str| {
        let output = Command::new("dpkg-query").args(["-W", "-f", "${Status}", package]).output();
        output.is_ok_and(|output| String::from_utf8_lossy(&output.stdout).contains("install ok installed"))
    };
    let missing: Vec<&str> = packages.iter().filter(|package| !there(package)).copied().collect();
    if missing.is_empty() {
        return Ok(());
    }
    run("apt-get", &["update", "-qq"])?;
    let mut arguments = vec!["install", "-y", "-qq", "--no-install-recommends"];
    arguments.extend(missing);
    let status = Command::new("apt-get")
        .args(&arguments)
        .env("DEBIAN_FRONTEND", "noninteractive")
        .status()
        .context("cannot start apt-get")?;
    anyhow::ensure!(status.success(), "apt-get could not install {}", arguments.join(" "));
    Ok(())
}

/// Installs what is needed, checks format and lints, then runs every test.
pub(crate) fn test(rest: &[String]) -> anyhow::Result<()> {
    install(PACKAGES)?;
    let guest = guest::build()?;
    let mut cargo = Command::new("cargo");
    cargo.args(["test", "--workspace"]).args(rest).current_dir(root()).env("YKEEL_GUEST", guest);
    let status = cargo.status().context("cannot start cargo")?;
    anyhow::ensure!(status.success(), "tests failed");
    Ok(())
}

/// Points of an apply at which a drive is pulled by [`bench_guest`].
const PULLS: &str = "30";

/// Runs the bench of emulated drives by itself, with as many pulls as the tests have no time for.
pub(crate) fn bench_guest() -> anyhow::Result<()> {
    install(PACKAGES)?;
    let guest = guest::build()?;
    let mut cargo = Command::new("cargo");
    cargo.args(["test", "--package", "ykeel", "--test", "guests", "devices::", "--", "--test-threads=1"]);
    cargo.current_dir(root()).env("YKEEL_GUEST", guest).env("YKEEL_PULLS", PULLS);
    let status = cargo.status().context("cannot start cargo")?;
    anyhow::ensure!(status.success(), "the bench failed");
    Ok(())
}
