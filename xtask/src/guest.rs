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
    /// An image of the volume, or of the drive that it is on.
    pub(crate) volume: &'a Path,
    /// First byte and length in bytes of the volume on that drive.
    pub(crate) place: Option<(u64, u64)>,
    pub(crate) tar: &'a Path,
}

/// Volumes that one boot takes: the machine has no more slots.
pub(crate) const AT_ONCE: usize = 12;
/// What the kernel says of every volume that is mounted so, whatever stands on it.
const ALWAYS: [&str; 1] = ["utf8 is not a recommended IO charset"];

/// Boots the guest for every [`AT_ONCE`] volumes and has it unpack each tar into its volume.
pub(crate) fn fill(fillings: &[Filling<'_>]) -> anyhow::Result<()> {
    for batch in fillings.chunks(AT_ONCE) {
        let (filled, text) = boot(batch)?;
        if filled.iter().any(Option::is_none) {
            bail!("the guest did not fill every volume:\n{text}");
        }
    }
    Ok(())
}

/// Has the guest's kernel write to at most [`AT_ONCE`] volumes. For each: what the kernel said of it meanwhile, or none where it did
/// not mount or write.
pub(crate) fn write(fillings: &[Filling<'_>]) -> anyhow::Result<Vec<Option<String>>> {
    Ok(boot(fillings)?.0)
}

/// What became of each volume of one boot, and everything that the guest printed.
fn boot(batch: &[Filling<'_>]) -> anyhow::Result<(Vec<Option<String>>, String)> {
    let folder = build()?;
    let kinds: Vec<&str> = batch.iter().map(|filling| filling.kind).collect();
    let places: Vec<String> = batch.iter().map(|filling| filling.place.map_or_else(String::new, place)).collect();
    let drives = batch.iter().zip(&places);
    let drives = drives.flat_map(|(filling, place)| [(filling.volume, place.as_str()), (filling.tar, ",readonly=on")]);
    let output = qemu(&folder, &format!("fill={}", kinds.join(",")), drives).output().context("cannot start qemu")?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let told = told(&text, batch.len());
    let errors = String::from_utf8_lossy(&output.stderr);
    Ok((told, format!("{text}\n{errors}")))
}

/// What the guest printed of each of `count` volumes; none for those that it did not fill.
fn told(text: &str, count: usize) -> Vec<Option<String>> {
    let mut told: Vec<Option<String>> = Vec::new();
    for line in text.lines() {
        // The first line stands behind what the machine itself printed.
        if line.contains("@@FILLED") || line.contains("@@NOTFILLED") {
            told.push(line.contains("@@FILLED").then(String::new));
        } else if let (Some((_, said)), Some(Some(last))) = (line.split_once("@@SAID "), told.last_mut())
            && !ALWAYS.iter().any(|always| said.contains(always))
        {
            last.push_str(said.trim_end());
        }
    }
    told.resize(count, None);
    told
}

fn place((at, bytes): (u64, u64)) -> String {
    format!(",offset={at},size={bytes}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_kernel_said_belongs_to_the_volume_before_it() {
        let text = "SeaBIOS\nBooting from ROM..c\u{1b}[2J@@FILLED vfat\n\
            @@SAID [ 6.0] FAT-fs (vdc): utf8 is not a recommended IO charset for FAT filesystems\n\
            mount: mounting /dev/vde failed\n@@NOTFILLED exfat\n@@SAID [ 7.1] exfat: nobody's\n\
            @@FILLED vfat\n@@SAID [ 8.0] FAT-fs (vdg): error, corrupted directory\r\n@@SAID [ 8.1] read-only\n";
        let wanted = [
            Some(String::new()),
            None,
            Some("[ 8.0] FAT-fs (vdg): error, corrupted directory[ 8.1] read-only".to_string()),
            None,
        ];
        assert_eq!(told(text, 4), wanted, "and the last one was never reached");
        assert_eq!(told("", 2), [None, None]);
        assert_eq!(told(text, 3).len(), 3);
    }

    #[test]
    fn a_volume_on_a_drive_is_told_to_the_machine_by_its_place() {
        assert_eq!(place((1_048_576, 99)), ",offset=1048576,size=99");
    }
}
