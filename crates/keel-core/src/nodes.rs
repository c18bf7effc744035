//! Volumes that appear: what the system makes of a device whose table was written.

use std::path::PathBuf;
use std::time::Instant;

use keel_format::table;
use keel_source::{Node, NodeWanted, Renewal, SharedSource};
use serde::Serialize;

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
                words.push(format!("the system does not know of it yet: {why}; unplug the drive and plug it in again"))
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

fn why_not(error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::PermissionDenied => "only root may have it read the table anew".into(),
        std::io::ErrorKind::Unsupported | std::io::ErrorKind::InvalidInput => "it keeps no volumes for this device".into(),
        _ => error.to_string(),
    }
}
