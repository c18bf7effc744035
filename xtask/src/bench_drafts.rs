//! `cargo xtask bench --drafts[=COUNT]`: random drafts of a renewal, each taken with what it promises or refused with the reason. Every
//! volume that one of them makes is filled by its system's driver, and every file of every volume that was not given up has to read as
//! it was written after each; some of the drives are judged by a kernel that is not this one's.

use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use anyhow::{Context, ensure};
use serde::Deserialize;

use crate::guest::{self, root};
use crate::{qemu, setup};

/// Drafts, where no other number is asked for.
const COUNT: u64 = 1000;
/// Drives that the guest judges, and how many of them at once.
const JUDGED: usize = 40;
const SLOTS: usize = 20;

/// A volume that was filled: what the tests wrote beside the drive.
#[derive(Deserialize)]
struct Held {
    kind: String,
    bytes: u64,
    files: BTreeMap<String, String>,
}

type Volumes = BTreeMap<u64, Held>;

pub(crate) fn run_all(count: Option<u64>) -> anyhow::Result<()> {
    setup::install(setup::PACKAGES)?;
    let work = root().join("target/bench/drafts");
    let _ = fs::remove_dir_all(&work);
    fs::create_dir_all(&work)?;
    let drafted = Command::new("cargo")
        .args(["test", "--quiet", "--package", "keel-core", "--test", "cases", "random_drafts", "--", "--nocapture"])
        .current_dir(root())
        .env("YKEEL_DRAFTS", count.unwrap_or(COUNT).to_string())
        .env("YKEEL_DRAFTS_TO", &work)
        .status()
        .context("cannot start cargo")?;
    ensure!(drafted.success(), "a draft did not keep what it promised");
    let mut drives: Vec<PathBuf> = fs::read_dir(&work)?.flatten().map(|entry| entry.path()).collect();
    drives.retain(|path| path.extension().is_some_and(|end| end == "img"));
    drives.sort();
    let spread: Vec<PathBuf> = drives.iter().step_by((drives.len() / JUDGED).max(1)).take(JUDGED).cloned().collect();
    let (mut volumes, mut files, mut lost) = (0, 0, Vec::new());
    for batch in spread.chunks(SLOTS) {
        let lines = looked_at(batch)?;
        for (letter, image) in ('a'..='z').zip(batch) {
            let held: Volumes = serde_json::from_slice(&fs::read(image.with_extension("json"))?)?;
            volumes += held.len();
            files += held.values().map(|held| held.files.len()).sum::<usize>();
            lost.extend(held.iter().flat_map(|(at, held)| missing(&lines, &format!("vd{letter}"), *at, held)));
        }
    }
    println!("{} drives judged by the kernel: {volumes} volumes, {files} files, {} of them lost", spread.len(), lost.len());
    lost.iter().for_each(|line| println!("  {line}"));
    fs::remove_dir_all(&work)?;
    ensure!(lost.is_empty(), "{} files were lost", lost.len());
    Ok(())
}

/// What the guest says of the drives.
fn looked_at(drives: &[PathBuf]) -> anyhow::Result<HashSet<String>> {
    let drives = drives.iter().map(|image| (image.as_path() as &Path, ",snapshot=on"));
    let output = qemu::qemu(&guest::build()?, "", drives).output()?;
    let text = String::from_utf8_lossy(&output.stdout);
    ensure!(text.contains("@@END"), "the guest did not finish: {text}");
    Ok(text.lines().map(|line| line.trim_end().to_string()).collect())
}

/// The files of the volume at byte `at` of `drive` that the guest did not read as they were written.
fn missing(lines: &HashSet<String>, drive: &str, at: u64, held: &Held) -> Vec<String> {
    let place = format!(" start={} ", at / 512);
    let entry = lines.iter().find_map(|line| {
        let (name, _) = line.strip_prefix("@@PART ")?.split_once(' ')?;
        (name.starts_with(drive) && line.contains(&place)).then(|| name.to_string())
    });
    let device = entry.unwrap_or_else(|| drive.to_string());
    let is_there = |(path, hash): &(&String, &String)| lines.contains(&format!("@@FILE {device} {hash} ./{path}"));
    let told =
        |(path, _): (&String, &String)| format!("{path} of the {} at byte {at} ({} bytes), {device}", held.kind, held.bytes);
    held.files.iter().filter(|file| !is_there(file)).map(told).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_missing_unless_the_kernel_hashed_it_on_the_device_of_its_volume() {
        let held = |files: &[(&str, &str)]| Held {
            kind: "exFAT".into(),
            bytes: 9,
            files: files.iter().map(|(path, hash)| ((*path).to_string(), (*hash).to_string())).collect(),
        };
        let said = ["@@PART vda2 start=4096 sectors=9", "@@FILE vda2 aa ./one.txt", "@@FILE vdb bb ./two.txt"];
        let lines: HashSet<String> = said.into_iter().map(String::from).collect();
        assert!(missing(&lines, "vda", 4096 * 512, &held(&[("one.txt", "aa")])).is_empty());
        assert!(missing(&lines, "vdb", 0, &held(&[("two.txt", "bb")])).is_empty(), "a volume without a table");
        assert_eq!(missing(&lines, "vda", 4096 * 512, &held(&[("one.txt", "ab"), ("two.txt", "bb")])).len(), 2);
        assert_eq!(missing(&lines, "vda", 8192 * 512, &held(&[("one.txt", "aa")])).len(), 1);
    }
}
