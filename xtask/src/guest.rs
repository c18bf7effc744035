//! The guest: Debian's kernel and drivers under qemu, to fill volumes through real drivers.

use std::path::{Path, PathBuf};
use std::process::Command;

use anyhow::{Context, bail, ensure};

/// The folder of this workspace.
pub(crate) fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().map_or_else(PathBuf::new, Path::to_path_buf)
}

/// Runs a command and fails with its name when it does.
pub(crate) fn run(program: &str, arguments: &[&str]) -> anyhow::Result<()> {
    let status =
        Command::new(program).args(arguments).current_dir(root()).status().with_context(|| format!("cannot start {program}"))?;
    ensure!(status.success(), "{program} {} failed", arguments.join(" "));
    Ok(())
}

/// Builds the guest below `target/guest` when it is not there, and answers with its folder.
pub(crate) fn build() -> anyhow::Result<PathBuf> {
    let folder = root().join("target/guest");
    run("bash", &["xtask/guest/build.sh", &folder.to_string_lossy()])?;
    Ok(folder)
}

/// A freshly formatted volume and the tar that goes into it.
pub(crate) struct Filling<'a> {
    /// `vfat` or `ntfs`.
    pub(crate) kind: &'a str,
    pub(crate) volume: &'a Path,
    pub(crate) tar: &'a Path,
}

/// Boots the guest once and has it unpack each tar into its volume. At most twelve at a time: the machine has no more
/// slots.
pub(crate) fn fill(fillings: &[Filling<'_>]) -> anyhow::Result<()> {
    let folder = build()?;
    for batch in fillings.chunks(12) {
        let kinds: Vec<&str> = batch.iter().map(|filling| filling.kind).collect();
        let mut qemu = Command::new("qemu-system-x86_64");
        qemu.args([
            "-accel",
            "tcg,thread=multi",
            "-m",
            "1024",
            "-nographic",
            "-no-reboot",
            "-nodefaults",
            "-serial",
            "stdio",
            "-monitor",
            "none",
            "-net",
            "none",
        ]);
        qemu.arg("-kernel").arg(folder.join("vmlinuz")).arg("-initrd").arg(folder.join("initrd.gz"));
        qemu.args(["-append", &format!("console=ttyS0 quiet loglevel=1 panic=1 fill={}", kinds.join(","))]);
        let mut number = 0;
        for filling in batch {
            for (path, options) in [(filling.volume, ""), (filling.tar, ",readonly=on")] {
                qemu.arg("-drive").arg(format!("file={},format=raw,if=none,id=d{number}{options}", path.display()));
                qemu.arg("-device").arg(format!("virtio-blk-pci,drive=d{number}"));
                number += 1;
            }
        }
        let output = qemu.stdin(std::process::Stdio::null()).output().context("cannot start qemu")?;
        let text = String::from_utf8_lossy(&output.stdout);
        let filled = text.matches("@@FILLED").count();
        if filled != batch.len() {
            bail!("the guest filled {filled} of {} volumes:\n{text}\n{}", batch.len(), String::from_utf8_lossy(&output.stderr));
        }
    }
    Ok(())
}
