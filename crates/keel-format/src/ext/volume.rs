//! An ext volume as every volume is asked: tree, streams, what it says of itself, its rules.

use std::collections::HashSet;
use std::ops::ControlFlow;
use std::sync::Arc;

use keel_source::{Budget, ByteOffset};

use super::attributes::Value;
use super::layout::{FLAG_ENCRYPT, ROOT_INODE, SUPERBLOCK_AT};
use super::{ExtVolume, attributes, check, read};
use crate::device::hold;
use crate::{
    Allocation, Checked, Deleted, Entry, Extent, ExtentStream, Finding, FormatError, LeftOpen, MemoryStream, NodeId, NodeKind,
    Problem, Repair, Severity, StreamInfo, StreamReader, Volume, VolumeSummary, WalkEntry, tree,
};

impl Volume for ExtVolume {
    fn summary(&self) -> &VolumeSummary {
        &self.summary
    }

    fn root(&self) -> NodeId {
        NodeId(u64::from(ROOT_INODE))
    }

    fn list(
        &self,
        dir: NodeId,
        deleted: Deleted,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        let inode = self.live_inode(dir)?;
        if inode.kind() != Some(NodeKind::Directory) {
            return Err(FormatError::new("inode", inode.at, Problem::Missing("directory of that number")));
        }
        let mut listed: HashSet<(u32, Vec<u8>)> = HashSet::new();
        let _while = self.pages.source().budget().map(Budget::passing);
        let mut stopped = false;
        let findings = self.names(&inode, &mut |name| {
            let shown = (name.present || deleted == Deleted::Show) && name.name != b"." && name.name != b"..";
            let Some(entry) = self.entry(&name).filter(|_| shown) else { return ControlFlow::Continue(()) };
            if deleted == Deleted::Show {
                // What was listed is kept in mind; where that does not fit the listing ends, and says so.
                let bytes = (name.name.len() + size_of::<(u32, Vec<u8>)>()) as u64;
                if hold(self.pages.source().as_ref(), inode.at, "directory", bytes).is_err() {
                    stopped = true;
                    return ControlFlow::Break(());
                }
                listed.insert((name.inode, name.name));
            }
            let flow = each(entry);
            stopped = flow.is_break();
            flow
        })?;
        if deleted == Deleted::Show && !stopped {
            self.former_names(&inode, &mut listed, each);
        }
        Ok(findings)
    }

    fn walk(
        &self,
        deleted: Deleted,
        each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        tree::walk(self, self.pages.source().as_ref(), &|entry| Ok(entry.id.0), deleted, each)
    }

    fn streams(&self, file: NodeId) -> Result<Vec<StreamInfo>, FormatError> {
        let inode = self.live_inode(file)?;
        let mut streams = vec![StreamInfo { name: String::new(), bytes: inode.bytes(), storage: inode.storage() }];
        let kept = attributes::read(&self.pages, &self.geometry, &inode);
        streams.extend(kept.into_iter().map(|found| StreamInfo { name: found.name, bytes: found.bytes, storage: "resident" }));
        Ok(streams)
    }

    fn open(&self, file: NodeId, stream: &str) -> Result<Box<dyn StreamReader>, FormatError> {
        let inode = self.live_inode(file)?;
        if !stream.is_empty() {
            let found = attributes::read(&self.pages, &self.geometry, &inode).into_iter().find(|found| found.name == stream);
            let found = found.ok_or(FormatError::new("inode", inode.at, Problem::Missing("stream of that name")))?;
            return match found.value {
                Value::Here(value) => Ok(Box::new(MemoryStream(value))),
                Value::Inode(number) => {
                    let extents = self.inode(number)?.extents(&self.pages, &self.geometry)?;
                    Ok(Box::new(ExtentStream::new(Arc::clone(self.pages.source()), extents, found.bytes, found.bytes)))
                }
            };
        }
        if inode.has_flag(FLAG_ENCRYPT) {
            return Err(FormatError::new("inode", inode.at, Problem::Coding("the content is encrypted")));
        }
        if let Some(content) = inode.inline() {
            return Ok(Box::new(MemoryStream(content)));
        }
        let bytes = inode.bytes();
        let extents = inode.extents(&self.pages, &self.geometry)?;
        Ok(Box::new(ExtentStream::new(Arc::clone(self.pages.source()), extents, bytes, bytes)))
    }

    fn extents(&self, file: NodeId) -> Result<Vec<Extent>, FormatError> {
        self.live_inode(file)?.extents(&self.pages, &self.geometry)
    }

    fn mode(&self, node: NodeId) -> Option<u32> {
        self.live_inode(node).ok().map(|inode| u32::from(inode.raw.i_mode.get()) & 0o7777)
    }

    fn allocation(&self) -> Option<Allocation> {
        check::allocation(self)
    }

    fn claims(&self, each: &mut dyn FnMut(&str, &[Extent])) -> Result<(), FormatError> {
        check::claims(self, each);
        Ok(())
    }

    fn mark(&self, allocation: &Allocation, units: &[std::ops::Range<u64>], used: bool) -> Vec<Repair> {
        check::marked(self, allocation, units, used)
    }

    fn rules(&self) -> Vec<Checked> {
        check::rules(self)
    }

    fn left_open(&self) -> Vec<LeftOpen> {
        let errors = read::superblock(&self.pages, &self.geometry).is_some_and(|raw| raw.s_state.get() & 2 != 0);
        let marks = [(self.has_pending_journal(), LeftOpen::Journal), (errors, LeftOpen::Errors)];
        marks.into_iter().filter(|(is_so, _)| *is_so).map(|(_, left)| left).collect()
    }

    fn examine(&self) -> Vec<Finding> {
        let mut findings = self.replay.clone();
        if self.left_open().contains(&LeftOpen::Errors) {
            let what = "the operating system noted errors on this volume";
            findings.push(Finding::at(Severity::Doubt, ByteOffset(SUPERBLOCK_AT + 58), what, "bit 1 of s_state is set"));
        }
        self.examine_groups(&mut findings);
        match self.inode(ROOT_INODE) {
            Ok(root) if !root.checksum_holds(&self.geometry) => {
                let what = "the checksum of the root directory's inode does not hold";
                findings.push(Finding::at(Severity::Doubt, root.at, what, "CRC-32C over the inode"));
            }
            Ok(root) => match self.names(&root, &mut |_| ControlFlow::Continue(())) {
                Ok(more) => findings.extend(more),
                Err(error) => {
                    findings.push(Finding::at(
                        Severity::Broken,
                        error.at,
                        "the root directory cannot be read",
                        error.to_string(),
                    ));
                }
            },
            Err(error) => {
                findings.push(Finding::at(Severity::Broken, error.at, "the root inode cannot be read", error.to_string()));
            }
        }
        findings
    }
}
