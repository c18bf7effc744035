//! The nodes that the kernel has for the partitions of a device: read anew after its table was written, all at once, or one by one where
//! one of them is in use.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use rustix::io::Errno;
use serde::Serialize;

use crate::{ByteOffset, ByteRange, sys};

/// The sector in which sysfs counts, in bytes.
const SYSFS_SECTOR: u64 = 512;
/// How long the nodes of what the kernel knows are waited for.
const SETTLED: Duration = Duration::from_secs(2);

/// A partition as the kernel is to know it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NodeWanted {
    /// Its number, from 1, as in the table.
    pub number: u32,
    /// Its ground.
    pub range: ByteRange,
}

/// A partition as the kernel knows it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Node {
    /// Its number, from 1.
    pub number: u32,
    /// Where it can be opened.
    pub path: PathBuf,
    /// Its ground.
    #[serde(flatten)]
    pub range: ByteRange,
}

/// How the kernel's list was made new.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Renewal {
    /// The kernel read the whole table.
    Whole,
    /// A partition is in use: the others were taken out and put in one by one.
    OneByOne,
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Renewed {
    /// How.
    pub way: Renewal,
    /// The nodes that are there now, ascending.
    pub nodes: Vec<Node>,
    /// What could not be done, in words.
    pub left: Vec<String>,
}

/// The partitions below the folder `sysfs` of a whole drive, ascending by number.
pub(crate) fn known(sysfs: &Path, devices: &Path) -> Vec<Node> {
    let number = |path: &Path| fs::read_to_string(path).ok()?.trim().parse::<u64>().ok();
    let entries = fs::read_dir(sysfs).into_iter().flatten().flatten().map(|entry| entry.path());
    let mut nodes: Vec<Node> = entries
        .filter_map(|folder| {
            let own = u32::try_from(number(&folder.join("partition"))?).ok()?;
            let start = number(&folder.join("start"))?.checked_mul(SYSFS_SECTOR)?;
            let bytes = number(&folder.join("size"))?.checked_mul(SYSFS_SECTOR)?;
            let path = devices.join(folder.file_name()?);
            Some(Node { number: own, path, range: ByteRange::sized(ByteOffset(start), bytes) })
        })
        .collect();
    nodes.sort_by_key(|node| node.number);
    nodes
}

/// Makes the kernel's list of the partitions of the drive `file`, described at `sysfs`, that of `wanted`.
pub(crate) fn renew(file: &File, sysfs: &Path, wanted: &[NodeWanted]) -> io::Result<Renewed> {
    let devices = Path::new("/dev");
    let (way, left) = match sys::reread_partitions(file) {
        Ok(()) => (Renewal::Whole, Vec::new()),
        Err(Errno::BUSY) => (Renewal::OneByOne, one_by_one(file, &known(sysfs, devices), wanted)),
        Err(error) => return Err(error.into()),
    };
    let begun = Instant::now();
    loop {
        let nodes = known(sysfs, devices);
        if nodes.iter().all(|node| node.path.exists()) || begun.elapsed() > SETTLED {
            return Ok(Renewed { way, nodes, left });
        }
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// Takes out what is not wanted any more, and puts in what is not there yet; what is in use stays, and is named.
fn one_by_one(file: &File, there: &[Node], wanted: &[NodeWanted]) -> Vec<String> {
    let mut left = Vec::new();
    let is_right = |node: &Node| wanted.iter().any(|wanted| wanted.number == node.number && wanted.range == node.range);
    let mut held = Vec::new();
    for node in there.iter().filter(|node| !is_right(node)) {
        if let Err(error) = sys::remove_partition(file, node.number) {
            held.push(node.number);
            left.push(format!("{} is in use and stays as it was ({})", node.path.display(), io::Error::from(error)));
        }
    }
    let is_there = |wanted: &NodeWanted| there.iter().any(|node| node.number == wanted.number && is_right(node));
    for wanted in wanted.iter().filter(|wanted| !is_there(wanted) && !held.contains(&wanted.number)) {
        if let Err(error) = sys::add_partition(file, wanted.number, (wanted.range.start.0, wanted.range.len())) {
            left.push(format!("partition {} was not taken ({})", wanted.number, io::Error::from(error)));
        }
    }
    left
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_list_is_the_systems_and_odd_folders_are_no_partitions() {
        let root = tempfile::tempdir().unwrap();
        let put = |file: &str, content: &str| {
            let path = root.path().join(file);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, content).unwrap();
        };
        for (name, number, start, size) in
            [("sdq10", "10\n", "4096\n", "8\n"), ("sdq2", "2\n", "2048\n", "16\n"), ("sdq3", "3", "x", "1")]
        {
            put(&format!("{name}/partition"), number);
            put(&format!("{name}/start"), start);
            put(&format!("{name}/size"), size);
        }
        put("queue/nr_requests", "64");
        put(&format!("sdq4/{}", "partition"), "4");
        put("sdq4/start", &u64::MAX.to_string());
        put("sdq4/size", "1");
        let nodes = known(root.path(), Path::new("/dev"));
        let told: Vec<(u32, String, u64, u64)> = nodes
            .iter()
            .map(|node| (node.number, node.path.display().to_string(), node.range.start.0, node.range.len()))
            .collect();
        assert_eq!(told, [(2, "/dev/sdq2".into(), 1 << 20, 8192), (10, "/dev/sdq10".into(), 2 << 20, 4096)]);
    }

    #[test]
    fn what_is_no_device_has_no_nodes() {
        let file = tempfile::tempfile().unwrap();
        assert!(renew(&file, Path::new("/nowhere"), &[]).is_err());
    }
}
