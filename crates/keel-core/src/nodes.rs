//! Volumes that appear: what the system makes of a device whose table was written.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;

use keel_format::{Finding, Severity, table};
use keel_source::{LinkKind, Node, NodeWanted, Renewal, SharedSource, printable};
use serde::Serialize;

use crate::find::Find;

/// What the system made of a device.
#[derive(Debug, Clone, Serialize)]
pub struct Appeared {
    /// The device.
    pub device: PathBuf,
    /// How its list was made new; none where the system did not.
    pub way: Option<Renewal>,
    /// Why not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why_not: Option<String>,
    /// The nodes that are there now.
    pub nodes: Vec<Node>,
    /// What could not be done.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub left: Vec<String>,
    /// How long it took until they were there, in milliseconds.
    pub took_ms: u64,
}

impl Appeared {
    /// In words, a line each.
    #[must_use]
    pub fn words(&self) -> Vec<String> {
        let mut words = Vec::new();
        match (self.way, &self.why_not) {
            (_, Some(why)) => {
                words.push(format!("the system does not know of it yet: {why}; unplug the drive and plug it in again"));
            }
            (Some(Renewal::Whole), None) => words.push(format!("the system read the table anew, in {} ms", self.took_ms)),
            (_, None) => words.push("a volume is in use: the others were made known one by one".into()),
        }
        for node in &self.nodes {
            let (at, bytes) = (node.range.start.0, keel_source::size_decimal(node.range.len()));
            words.push(format!("  {}  byte {at}, {bytes}", node.path.display()));
        }
        words.extend(self.left.iter().map(|left| format!("  {left}")));
        words
    }
}

/// Has the system know the volumes of `source` as its table has them now. `None` for what is no device of this system.
#[must_use]
pub fn renew(source: &SharedSource) -> Option<Appeared> {
    let identity = source.identity();
    source.attachment()?;
    let begun = Instant::now();
    let reading = table::read(source.as_ref());
    let sector = identity.logical_sector;
    let wanted: Vec<NodeWanted> =
        reading.partitions.iter().map(|entry| NodeWanted { number: entry.slot, range: entry.range(sector) }).collect();
    let mut appeared = Appeared {
        device: identity.path.clone().unwrap_or_default(),
        way: None,
        why_not: None,
        nodes: Vec::new(),
        left: Vec::new(),
        took_ms: 0,
    };
    match source.renew_nodes(&wanted) {
        Ok(renewed) => {
            let is_there = |wanted: &&NodeWanted| renewed.nodes.iter().any(|node| node.range == wanted.range);
            let missing = wanted.iter().filter(|wanted| !is_there(wanted));
            let missing = missing.map(|wanted| format!("the system made no node for entry {} of the table", wanted.number));
            appeared.left = renewed.left.iter().cloned().chain(missing).collect();
            (appeared.way, appeared.nodes) = (Some(renewed.way), renewed.nodes);
        }
        Err(error) => appeared.why_not = Some(why_not(&error)),
    }
    appeared.took_ms = u64::try_from(begun.elapsed().as_millis()).unwrap_or(u64::MAX);
    crate::case::note(source.as_ref(), "appeared", &serde_json::json!(appeared));
    Some(appeared)
}

/// What this system makes of a volume on a device, and why it does not show it: a node or none, a driver or none. Notes: the volume itself
/// is no worse for it.
#[must_use]
pub fn shown(source: &SharedSource, find: &Find) -> Vec<Finding> {
    // What is no device is not shown by itself.
    if source.identity().link != LinkKind::BlockDevice || find.is_former() {
        return Vec::new();
    }
    let note = |what: String, how: &str| Finding::at(Severity::Note, find.start_byte, what, how);
    let nodes = source.nodes();
    let node = nodes.iter().find(|node| node.range.start == find.start_byte);
    let mut findings = Vec::new();
    match node {
        Some(node) => {
            let at = keel_source::mount_points_of(&node.path);
            let at = at.first().map(|at| format!(", mounted at {}", printable(&at.display().to_string()))).unwrap_or_default();
            findings.push(note(format!("this system shows it as {}{at}", node.path.display()), "the system's list of volumes"));
        }
        None if find.start_byte.0 > 0 => {
            let what = "this system has no node for it: no entry leads there, or its table was not read since it was written";
            findings.push(note(format!("{what}; ykeel attach shows it all the same"), "the system's list of volumes"));
        }
        None => {}
    }
    let drivers = find.kind.facts().drivers;
    if !drivers.is_empty() && !drivers.iter().any(|driver| has_driver(driver.name, driver.is_program)) {
        let names: Vec<&str> = drivers.iter().map(|driver| driver.name).collect();
        let what = format!(
            "this system has no driver for {} ({}): it does not mount it, another one may",
            find.kind.word(),
            names.join(", ")
        );
        findings.push(note(what, "the kernel's file systems and modules"));
    }
    findings
}

/// Whether the running kernel mounts volumes under `name`: built in, or by a module that is there; or by a program.
fn has_driver(name: &str, is_program: bool) -> bool {
    if is_program {
        let folders = ["/sbin", "/usr/sbin", "/bin", "/usr/bin"];
        return folders
            .iter()
            .any(|folder| Path::new(folder).join(format!("mount.{name}")).exists() || Path::new(folder).join(name).exists());
    }
    let listed = fs::read_to_string("/proc/filesystems").unwrap_or_default();
    if listed.lines().any(|line| line.split_whitespace().last() == Some(name)) {
        return true;
    }
    let release = fs::read_to_string("/proc/sys/kernel/osrelease").unwrap_or_default();
    let modules = Path::new("/lib/modules").join(release.trim());
    let is_in = |file: &str| {
        let list = fs::read_to_string(modules.join(file)).unwrap_or_default();
        let module = format!("/{name}.ko");
        list.lines().any(|line| line.split(':').next().is_some_and(|path| path.contains(&module)))
    };
    is_in("modules.dep") || is_in("modules.builtin")
}

fn why_not(error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::PermissionDenied => "only root may have it read the table anew".into(),
        std::io::ErrorKind::Unsupported | std::io::ErrorKind::InvalidInput => "it keeps no volumes for this device".into(),
        _ => error.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use keel_source::{ByteOffset, ByteRange, MemorySource};

    use super::*;

    #[test]
    fn drivers_are_looked_for_where_the_kernel_keeps_them() {
        assert!(has_driver("proc", false), "every kernel that lists its file systems has this one");
        assert!(!has_driver("no-such-file-system", false) && !has_driver("no-such-program", true));
        assert!(!has_driver("", false));
    }

    #[test]
    fn what_is_no_device_has_nothing_to_appear() {
        let source: SharedSource = Arc::new(MemorySource::new("quay", vec![0; 4096], 512));
        assert!(renew(&source).is_none());
    }

    #[test]
    fn what_appeared_is_told_with_what_did_not() {
        let node = Node { number: 1, path: "/dev/sdq1".into(), range: ByteRange::sized(ByteOffset(1 << 20), 64_000_000) };
        let appeared = Appeared {
            device: "/dev/sdq".into(),
            way: Some(Renewal::OneByOne),
            why_not: None,
            nodes: vec![node],
            left: vec!["/dev/sdq2 is in use and stays as it was".into()],
            took_ms: 7,
        };
        let words = appeared.words();
        assert_eq!(words[1], "  /dev/sdq1  byte 1048576, 64.0 MB");
        assert!(words[0].contains("one by one") && words[2].contains("sdq2"));
        let refused = Appeared { way: None, why_not: Some(why_not(&std::io::ErrorKind::PermissionDenied.into())), ..appeared };
        assert!(refused.words()[0].contains("only root"), "{:?}", refused.words());
    }
}
