//! The guest: Debian's kernel and drivers under qemu, to fill volumes through real drivers.

use std::path::{Path, PathBuf};
use std::process::Command;

use anyhow::{Context, bail, ensure};

use crate::qemu::qemu;

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
        let drives = batch.iter().flat_map(|filling| [(filling.volume, ""), (filling.tar, ",readonly=on")]);
        let output = qemu(&folder, &format!("fill={}", kinds.join(",")), drives).output().context("cannot start qemu")?;
        let text = String::from_utf8_lossy(&output.stdout);
        let filled = text.matches("@@FILLED").count();
        if filled != batch.len() {
            bail!("the guest filled {filled} of {} volumes:\n{text}\n{}", batch.len(), String::from_utf8_lossy(&output.stderr));
        }
    }
    Ok(())
}
