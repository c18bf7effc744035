//! Volumes of the system's formatters that the benches of recovery are made of, and what becomes of them.

use std::fs;
use std::path::Path;
use std::process::{Command, Output};
use std::time::Duration;

use anyhow::{Context, ensure};

use crate::bench_mend::{fill_mounted, on_loop, plant};
use crate::content::Item;
use crate::guest::{root, run};

pub(crate) const MIB: u64 = 1 << 20;

/// A volume of the matrix: what the formatter is told, its bytes, and the type of its entry.
pub(crate) struct Made {
    pub(crate) kind: &'static str,
    pub(crate) options: &'static [&'static str],
    pub(crate) bytes: u64,
    pub(crate) os_type: u8,
}

/// What became of the drives of a class.
#[derive(Default)]
pub(crate) struct Tally {
    pub(crate) drives: u64,
    pub(crate) exact: u64,
    pub(crate) false_finds: u64,
    pub(crate) files: u64,
    pub(crate) files_back: u64,
    pub(crate) mended: u64,
    pub(crate) taken: u64,
    /// Mended volumes that a kernel was given to write to, and those of which it said nothing.
    pub(crate) asked: u64,
    pub(crate) silent: u64,
    /// Files called whole that are not what was written.
    pub(crate) wrong: u64,
    pub(crate) slowest: Duration,
}

/// Formats `volume` (which keeps what stood there) and fills it.
pub(crate) fn make(made: &Made, items: &[Item], volume: &Path, work: &Path) -> anyhow::Result<()> {
    let path = volume.to_string_lossy().into_owned();
    let point = work.join("mounted").to_string_lossy().into_owned();
    let with = |fixed: &[&str]| -> Vec<String> {
        fixed.iter().chain(made.options).map(|word| (*word).to_string()).chain([path.clone()]).collect()
    };
    // Formatters talk; the table is what is wanted.
    let call = |program: &str, arguments: Vec<String>| -> anyhow::Result<()> {
        let output = Command::new(program).args(&arguments).output().with_context(|| format!("cannot start {program}"))?;
        ensure!(output.status.success(), "{program} {}: {}", arguments.join(" "), String::from_utf8_lossy(&output.stderr));
        Ok(())
    };
    let fill = |command: &[&str]| fill_mounted(items, &point, command);
    match made.kind {
        "ntfs" => {
            call("mkfs.ntfs", with(&["-Q", "-F", "-q"]))?;
            fill(&["ntfs-3g", &path, &point])
        }
        "ext4" => {
            call("mkfs.ext4", with(&["-q", "-F", "-E", "nodiscard"]))?;
            fill(&["mount", "-t", "ext4", "-o", "loop", &path, &point])
        }
        "xfs" => {
            call("mkfs.xfs", with(&["-q", "-f", "-K"]))?;
            fill(&["mount", "-t", "xfs", "-o", "loop", &path, &point])
        }
        "exfat" => {
            call("mkfs.exfat", with(&[]))?;
            on_loop(&path, &[], |device| fill(&["mount.exfat-fuse", "-o", "rw", device, &point]))
        }
        fat => {
            call("mkfs.vfat", with(&["-F", &fat[3..]]))?;
            let tree = work.join("tree");
            let _ = fs::remove_dir_all(&tree);
            plant(items, &tree)?;
            let tops: Vec<String> =
                fs::read_dir(&tree)?.flatten().map(|entry| entry.path().to_string_lossy().into_owned()).collect();
            let arguments: Vec<&str> =
                ["-s", "-i", &path].into_iter().chain(tops.iter().map(String::as_str)).chain(["::"]).collect();
            run("mcopy", &arguments)
        }
    }
}

/// Runs the program as on a machine that has not seen the drive.
pub(crate) fn ykeel(work: &Path, arguments: &[&str]) -> anyhow::Result<Output> {
    let _ = fs::remove_dir_all(work.join("state"));
    ykeel_again(work, arguments)
}

/// Runs the program with what it kept of the run before.
pub(crate) fn ykeel_again(work: &Path, arguments: &[&str]) -> anyhow::Result<Output> {
    let state = work.join("state");
    Ok(Command::new(root().join("target/release/ykeel")).args(arguments).env("YKEEL_STATE", state).output()?)
}

pub(crate) fn document(output: &Output) -> serde_json::Value {
    serde_json::from_slice(&output.stdout).unwrap_or_default()
}
