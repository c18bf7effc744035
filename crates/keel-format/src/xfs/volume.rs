//! An XFS volume as every volume is asked: tree, streams, what it says of itself, its rules.

use std::collections::HashSet;
use std::ops::ControlFlow;
use std::sync::Arc;

use keel_source::Budget;

use super::read::DELETED_NODE;
use super::{XfsVolume, attributes, check, log};
use crate::device::hold;
use crate::{
    Allocation, Checked, Deleted, Entry, Extent, ExtentStream, Finding, FormatError, LeftOpen, MemoryStream, NodeId, NodeKind,
    Problem, Repair, Severity, StreamInfo, StreamReader, Volume, VolumeSummary, WalkEntry, tree,
};

impl Volume for XfsVolume {
    fn summary(&self) -> &VolumeSummary {
        &self.summary
    }

    fn root(&self) -> NodeId {
        NodeId(self.geometry.root)
    }

    fn list(
        &self,
        dir: NodeId,
        deleted: Deleted,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        let inode = self.node_inode(dir)?;
        if inode.kind() != Some(NodeKind::Directory) {
            return Err(FormatError::new("inode", inode.at, Problem::Missing("directory of that number")));
        }
        let _while = self.pages.source().budget().map(Budget::passing);
        // A name that was deleted and made again may stand in several places: it is told once.
        let mut gone: HashSet<(u64, Vec<u8>)> = HashSet::new();
        self.names(&inode, &mut |name| {
            let shown = (name.present || deleted == Deleted::Show) && !name.is_dot();
            let Some(entry) = self.entry(&name).filter(|_| shown) else { return ControlFlow::Continue(()) };
            if !name.present {
                let bytes = (name.name.len() + size_of::<(u64, Vec<u8>)>()) as u64;
                if hold(self.pages.source().as_ref(), inode.at, "directory", bytes).is_err() {
                    return ControlFlow::Break(());
                }
                if !gone.insert((name.inode, name.name)) {
                    return ControlFlow::Continue(());
                }
            }
            each(entry)
        })
    }

    fn walk(
        &self,
        deleted: Deleted,
        each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        tree::walk(self, self.pages.source().as_ref(), &|entry| Ok(entry.id.0), deleted, each)
    }

    fn streams(&self, file: NodeId) -> Result<Vec<StreamInfo>, FormatError> {
        let inode = self.node_inode(file)?;
        if inode.is_free() {
            let bytes = self.content(&inode)?.1;
            return Ok(vec![StreamInfo { name: String::new(), bytes, storage: "plain" }]);
        }
        let mut streams = vec![StreamInfo { name: String::new(), bytes: inode.bytes(), storage: inode.storage() }];
        streams.extend(attributes::read(&self.pages, &self.geometry, &inode).into_iter().map(|found| StreamInfo {
            name: found.name,
            bytes: found.value.len() as u64,
            storage: "resident",
        }));
        Ok(streams)
    }

    fn open(&self, file: NodeId, stream: &str) -> Result<Box<dyn StreamReader>, FormatError> {
        let inode = self.node_inode(file)?;
        if !stream.is_empty() {
            let all = attributes::read(&self.pages, &self.geometry, &inode);
            let missing = FormatError::new("inode", inode.at, Problem::Missing("stream of that name"));
            let found = all.into_iter().find(|found| found.name == stream);
            return found.map(|found| Box::new(MemoryStream(found.value)) as Box<dyn StreamReader>).ok_or(missing);
        }
        if inode.kind() == Some(NodeKind::Link) {
            return Ok(Box::new(MemoryStream(self.target(&inode)?)));
        }
        if let Some(inline) = inode.inline().filter(|_| !inode.is_free()) {
            return Ok(Box::new(MemoryStream(inline.to_vec())));
        }
        let (map, bytes) = self.content(&inode)?;
        Ok(Box::new(ExtentStream::new(Arc::clone(self.pages.source()), map.extents, bytes, bytes)))
    }

    fn extents(&self, file: NodeId) -> Result<Vec<Extent>, FormatError> {
        Ok(self.content(&self.node_inode(file)?)?.0.extents)
    }

    fn mode(&self, node: NodeId) -> Option<u32> {
        let inode = self.node_inode(node).ok().filter(|_| node.0 & DELETED_NODE == 0)?;
        Some(u32::from(inode.raw.di_mode.get()) & 0o7777)
    }

    fn allocation(&self) -> Option<Allocation> {
        check::allocation(self)
    }

    fn claims(&self, each: &mut dyn FnMut(&str, &[Extent])) -> Result<(), FormatError> {
        check::claims(self, each)
    }

    fn mark(&self, _allocation: &Allocation, _units: &[std::ops::Range<u64>], _used: bool) -> Vec<Repair> {
        // Free space is kept in two trees, and whoever holds what in a third: there is no bit to set.
        Vec::new()
    }

    fn rules(&self) -> Vec<Checked> {
        check::rules(self)
    }

    fn left_open(&self) -> Vec<LeftOpen> {
        match self.log {
            log::LogState::Pending | log::LogState::Replayed(..) => vec![LeftOpen::Journal],
            log::LogState::Clean | log::LogState::Elsewhere | log::LogState::Unknown(_) => Vec::new(),
        }
    }

    fn examine(&self) -> Vec<Finding> {
        let mut findings: Vec<Finding> = self.log.finding(log::place(&self.geometry)).into_iter().collect();
        check::examine_groups(self, &mut findings);
        match self.inode(self.geometry.root) {
            Ok(root) => {
                if !root.checksum_holds() {
                    let what = "the checksum of the root directory's inode does not hold";
                    findings.push(Finding::at(Severity::Doubt, root.at, what, "CRC-32C over the inode"));
                }
                match self.names(&root, &mut |_| ControlFlow::Continue(())) {
                    Ok(more) => findings.extend(more),
                    Err(error) => {
                        let what = "the root directory cannot be read";
                        findings.push(Finding::at(Severity::Broken, error.at, what, error.to_string()));
                    }
                }
            }
            Err(error) => {
                findings.push(Finding::at(Severity::Broken, error.at, "the root inode cannot be read", error.to_string()));
            }
        }
        findings
    }
}
