//! The tree and the files of a FAT volume.

use std::ops::ControlFlow;
use std::sync::{Arc, OnceLock};

use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::directory::{RawSlot, Slots};
use super::layout::RawDirEntry;
use super::{FatGeometry, FatTable};
use crate::{
    Allocation, Chain, Checked, Deleted, Entry, Extent, ExtentStream, Finding, FormatError, LeftOpen, MemoryStream, NodeId,
    Problem, Repair, Severity, StreamInfo, StreamReader, View, Volume, VolumeKind, VolumeSummary, WalkEntry, read_bytes,
    read_lenient, tree,
};

/// The most findings that one examination reports.
const MOST_FINDINGS: usize = 200;

/// A FAT12, FAT16 or FAT32 volume. The root folder has number 0, every other node the byte offset of its short entry.
pub struct FatVolume {
    source: SharedSource,
    geometry: FatGeometry,
    table: FatTable,
    summary: VolumeSummary,
    chains: Chains,
    /// Chains that are left of folders; see [`super::lost`].
    pub(super) heads: OnceLock<Vec<u32>>,
}

/// What the FATs of a volume are worth.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Chains {
    /// They are its own.
    Kept,
    /// Another volume was made over it: a chain counts that is as long as its file asks.
    Former,
    /// Nobody knows where they were.
    Gone,
}

impl FatVolume {
    /// Opens the volume in `source` with `geometry`. The boot sector is not read.
    ///
    /// # Errors
    /// [`FormatError`] when the start of the root directory cannot be read.
    pub fn open(source: SharedSource, geometry: FatGeometry) -> Result<Self, FormatError> {
        let mut volume = Self::unread(source, geometry, Chains::Kept);
        let mut label = None;
        volume.slots(0, &mut |slot| {
            if slot.is_label() && !slot.deleted {
                let raw: String = slot.raw.name.iter().map(|byte| super::oem::decode(*byte)).collect();
                label = Some(raw.trim_end().to_string());
                return ControlFlow::Break(());
            }
            ControlFlow::Continue(())
        })?;
        volume.summary.label = label;
        Ok(volume)
    }

    /// What is left of a volume that another one was made over; `knows_fats` where its FATs may be left in part.
    pub(super) fn former(source: SharedSource, geometry: FatGeometry, knows_fats: bool) -> Self {
        Self::unread(source, geometry, if knows_fats { Chains::Former } else { Chains::Gone })
    }

    fn unread(source: SharedSource, geometry: FatGeometry, chains: Chains) -> Self {
        let table = FatTable::new(Arc::clone(&source), geometry);
        let summary = VolumeSummary {
            kind: Some(geometry.kind),
            label: None,
            serial: (geometry.serial != 0).then(|| format!("{:04X}-{:04X}", geometry.serial >> 16, geometry.serial & 0xFFFF)),
            bytes: geometry.volume_bytes(),
            cluster_bytes: geometry.cluster_bytes(),
        };
        Self { source, geometry, table, summary, chains, heads: OnceLock::new() }
    }

    /// The geometry it is read with.
    #[must_use]
    pub fn geometry(&self) -> &FatGeometry {
        &self.geometry
    }

    /// What it is read from.
    #[must_use]
    pub fn source(&self) -> &SharedSource {
        &self.source
    }

    /// Its FATs.
    #[must_use]
    pub fn table(&self) -> &FatTable {
        &self.table
    }

    /// Hands every slot of the directory that starts at `first` (0: the root) to `each`, labels and dots included.
    fn slots(&self, first: u32, each: &mut dyn FnMut(RawSlot) -> ControlFlow<()>) -> Result<Vec<Finding>, FormatError> {
        let mut findings = Vec::new();
        let pieces = self.directory_pieces(first, &mut findings)?;
        let mut buffers: Vec<(Vec<u8>, ByteOffset)> = Vec::new();
        for (at, len) in pieces {
            let (bytes, missing) = read_lenient(self.source.as_ref(), at, len, "directory")?;
            if missing > 0 {
                let what = format!("{missing} bytes of a directory cannot be read: its entries there are missing");
                findings.push(Finding::at(Severity::Broken, at, what, "read of the directory's cluster"));
            }
            buffers.push((bytes, at));
        }
        let mut slots = Slots::new(&[], ByteOffset(0));
        for (bytes, at) in &buffers {
            slots = slots.resume(bytes, *at);
            for slot in slots.by_ref() {
                if each(slot).is_break() {
                    return Ok(findings);
                }
            }
            if slots.ended() {
                break;
            }
        }
        Ok(findings)
    }

    fn directory_pieces(&self, first: u32, findings: &mut Vec<Finding>) -> Result<Vec<(ByteOffset, usize)>, FormatError> {
        let geometry = &self.geometry;
        if first == 0 && geometry.kind != VolumeKind::Fat32 {
            let len = usize::try_from(u64::from(geometry.root_entries) * 32).unwrap_or(0);
            return Ok(vec![(geometry.root_at(), len)]);
        }
        let first = if first == 0 { geometry.root_cluster } else { first };
        let chain = self.folder_chain(first);
        findings.extend(chain.finding.clone());
        if chain.runs.is_empty() {
            let at = geometry.fat_at(0);
            return Err(FormatError::value("directory", at, "first cluster", u64::from(first), "a cluster of the volume"));
        }
        let extents = self.table.extents(&chain);
        let piece = |extent: &Extent| Some((extent.volume_at?, usize::try_from(extent.bytes).ok()?));
        Ok(extents.iter().filter_map(piece).collect())
    }

    /// The short entry of `node`.
    pub(super) fn slot_of(&self, node: NodeId) -> Result<RawSlot, FormatError> {
        let at = ByteOffset(node.0);
        let bytes = read_bytes(self.source.as_ref(), at, 32, "directory entry")?;
        let raw: RawDirEntry = *View::new("directory entry", at, &bytes).at(0, "entry")?;
        let deleted = raw.name.first() == Some(&super::layout::DELETED);
        Ok(RawSlot { raw, name: String::new(), at, deleted })
    }

    fn directory_start(&self, dir: NodeId) -> Result<u32, FormatError> {
        if dir.0 == 0 {
            return Ok(0);
        }
        let slot = self.slot_of(dir)?;
        if !slot.is_directory() {
            return Err(FormatError::new("directory", slot.at, Problem::Missing("directory of that number")));
        }
        // A `..` that leads to the root says 0.
        Ok(slot.first_cluster())
    }

    /// Where a file lies by its chain alone, up to one cluster more than its size asks: a chain that is longer shows.
    ///
    /// # Errors
    /// [`FormatError`] when its entry cannot be read.
    pub(super) fn recorded_extents(&self, file: NodeId) -> Result<Vec<Extent>, FormatError> {
        let slot = self.slot_of(file)?;
        let wanted = u64::from(slot.raw.file_size.get()).div_ceil(u64::from(self.geometry.cluster_bytes()).max(1));
        let chain = self.table.chain(slot.first_cluster(), wanted + 1);
        Ok(if chain.finding.is_some() { Vec::new() } else { self.table.extents(&chain) })
    }

    /// The clusters of a file. A deleted file's chain is gone: free clusters are taken as they follow one another from its first
    /// one on, and none where that one is another file's now.
    pub(super) fn file_chain(&self, slot: &RawSlot) -> Chain {
        let size = u64::from(slot.raw.file_size.get());
        let wanted = size.div_ceil(u64::from(self.geometry.cluster_bytes()).max(1));
        let first = slot.first_cluster();
        if wanted == 0 || first == 0 {
            return Chain::default();
        }
        if self.chains != Chains::Kept {
            return self.former_chain(first, wanted);
        }
        if slot.deleted {
            return self.free_run(first, wanted);
        }
        let chain = self.table.chain(first, wanted);
        if chain.clusters >= wanted || chain.finding.is_none() { chain } else { self.bridged(chain, wanted) }
    }

    /// The chain of an older generation's file where the old FAT has it whole, else clusters as they follow one another.
    fn former_chain(&self, first: u32, wanted: u64) -> Chain {
        let recorded = |wanted: u64| {
            let chain = self.table.chain(first, wanted + 1);
            (chain.finding.is_none() && chain.clusters == wanted).then_some(chain)
        };
        let room = (self.geometry.cluster_count() + 2).saturating_sub(u64::from(first));
        let known = (self.chains == Chains::Former).then(|| recorded(wanted)).flatten();
        known.unwrap_or_else(|| Chain::straight(first, wanted.min(room)))
    }

    /// Free clusters from `first` on; what others use is passed over. Nothing when `first` itself is used.
    fn free_run(&self, first: u32, wanted: u64) -> Chain {
        let mut chain = Chain::default();
        let end = u32::try_from(self.table.clusters_there() + 2).unwrap_or(u32::MAX);
        for cluster in first..end {
            if chain.clusters >= wanted || !self.table.goes_on(cluster) {
                break;
            }
            match self.table.entry(cluster) {
                Some(0) => chain.push(cluster),
                _ if cluster == first => break,
                _ => {}
            }
        }
        chain
    }

    /// A chain that is cut because its entries are gone, gone on with over the clusters that follow one another as long as
    /// no entry says that another file has them. Its finding stays: this is guessed.
    fn bridged(&self, mut chain: Chain, wanted: u64) -> Chain {
        while chain.clusters < wanted {
            let Some(next) = chain.runs.last().and_then(|(first, count)| first.checked_add(*count)) else { break };
            let inside = u64::from(next) < self.geometry.cluster_count() + 2;
            if !inside || !self.table.is_unknown(next) || !self.table.goes_on(next) {
                break;
            }
            chain.push(next);
        }
        // Behind the gap the entries may be there again.
        let next = chain.runs.last().and_then(|(first, count)| first.checked_add(*count));
        if let Some(next) = next.filter(|_| chain.clusters < wanted) {
            let rest = self.table.chain(next, wanted - chain.clusters);
            if rest.finding.is_none() && chain.clusters + rest.clusters == wanted {
                for (first, count) in rest.runs {
                    (0..count).for_each(|index| chain.push(first.saturating_add(index)));
                }
            }
        }
        chain
    }
}

impl Volume for FatVolume {
    fn summary(&self) -> &VolumeSummary {
        &self.summary
    }

    fn root(&self) -> NodeId {
        NodeId(0)
    }

    fn list(
        &self,
        dir: NodeId,
        deleted: Deleted,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        self.slots(self.directory_start(dir)?, &mut |slot| {
            if slot.is_label() || slot.is_dot() || (slot.deleted && deleted == Deleted::Hide) {
                return ControlFlow::Continue(());
            }
            each(slot.entry())
        })
    }

    fn walk(
        &self,
        deleted: Deleted,
        each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        tree::walk(self, self.source.as_ref(), &|entry| self.directory_start(entry.id).map(u64::from), deleted, each)
    }

    fn streams(&self, file: NodeId) -> Result<Vec<StreamInfo>, FormatError> {
        let slot = self.slot_of(file)?;
        Ok(vec![StreamInfo { name: String::new(), bytes: u64::from(slot.raw.file_size.get()), storage: "plain" }])
    }

    fn open(&self, file: NodeId, stream: &str) -> Result<Box<dyn StreamReader>, FormatError> {
        if !stream.is_empty() {
            return Err(FormatError::new("directory entry", ByteOffset(file.0), Problem::Missing("stream of that name")));
        }
        let slot = self.slot_of(file)?;
        let size = u64::from(slot.raw.file_size.get());
        if size == 0 {
            return Ok(Box::new(MemoryStream(Vec::new())));
        }
        let extents = self.table.extents(&self.file_chain(&slot));
        Ok(Box::new(ExtentStream::new(Arc::clone(&self.source), extents, size, size)))
    }

    fn extents(&self, file: NodeId) -> Result<Vec<Extent>, FormatError> {
        let slot = self.slot_of(file)?;
        Ok(self.table.extents(&self.file_chain(&slot)))
    }

    fn is_guessed(&self, file: NodeId) -> bool {
        let Ok(slot) = self.slot_of(file) else { return false };
        if self.chains == Chains::Kept {
            return slot.deleted || self.file_chain(&slot).finding.is_some();
        }
        // A file of one cluster needs no chain.
        let wanted = u64::from(slot.raw.file_size.get()).div_ceil(u64::from(self.geometry.cluster_bytes()).max(1));
        let chain = self.table.chain(slot.first_cluster(), wanted + 1);
        let recorded = self.chains == Chains::Former && chain.finding.is_none() && chain.clusters == wanted;
        wanted > 1 && !recorded
    }

    fn allocation(&self) -> Option<Allocation> {
        super::check::allocation(self)
    }

    fn claims(&self, each: &mut dyn FnMut(&str, &[Extent])) -> Result<(), FormatError> {
        each("the root folder", &self.whole_ground(None));
        self.each_slot(&mut |path, slot| each(path, &self.whole_ground(Some(slot))));
        Ok(())
    }

    fn mark(&self, _: &Allocation, units: &[std::ops::Range<u64>], used: bool) -> Vec<Repair> {
        if used { Vec::new() } else { super::check::freed(self, units) }
    }

    fn rules(&self) -> Vec<Checked> {
        super::check::rules(self)
    }

    fn left_open(&self) -> Vec<LeftOpen> {
        let clean = match self.geometry.kind {
            VolumeKind::Fat32 => self.table.entry(1).map(|entry| entry & 0x0800_0000 != 0),
            VolumeKind::Fat16 => self.table.entry(1).map(|entry| entry & 0x8000 != 0),
            _ => None,
        };
        if clean == Some(false) { vec![LeftOpen::Unclean] } else { Vec::new() }
    }

    fn examine(&self) -> Vec<Finding> {
        let mut findings = self.examine_fats();
        if !self.left_open().is_empty() {
            let what = "the volume was not cleanly unmounted";
            findings.push(Finding::at(Severity::Note, self.geometry.fat_at(0), what, "the clean bit of FAT entry 1 is 0"));
        }
        match self.slots(0, &mut |_| ControlFlow::Continue(())) {
            Ok(more) => findings.extend(more),
            Err(error) => {
                findings.push(Finding::at(Severity::Broken, error.at, "the root directory cannot be read", error.to_string()));
            }
        }
        findings
    }
}

impl FatVolume {
    /// Free clusters, counted in the first FAT; `None` where that is too much to count at once.
    #[must_use]
    pub fn free_clusters(&self) -> Option<u32> {
        const MOST: u64 = 4 << 20;
        let last = u32::try_from(self.table.clusters_there()).ok().filter(|count| u64::from(*count) <= MOST)? + 2;
        u32::try_from((2..last).filter(|cluster| self.table.entry(*cluster) == Some(0)).count()).ok()
    }

    /// Compares every FAT copy with the first, 64 KiB at a time, and looks at the media entry.
    fn examine_fats(&self) -> Vec<Finding> {
        const STEP: u64 = 64 << 10;
        let mut findings = Vec::new();
        let media = self.table.entry(0).map(|entry| entry & 0xFF);
        if media != Some(u32::from(self.geometry.media)) {
            let what = format!("FAT entry 0 does not begin with the media byte 0x{:02X}", self.geometry.media);
            findings.push(Finding::at(Severity::Doubt, self.geometry.fat_at(0), what, "first byte of the FAT"));
        }
        for copy in 1..self.geometry.fats {
            let mut different = 0u64;
            let mut first_difference = None;
            let mut at = 0;
            let there = self.geometry.fat_bytes().min(self.source.len());
            while at < there {
                let len = usize::try_from(STEP.min(there - at)).unwrap_or(0);
                let main = read_lenient(self.source.as_ref(), self.geometry.fat_at(0) + at, len, "FAT");
                let other = read_lenient(self.source.as_ref(), self.geometry.fat_at(copy) + at, len, "FAT");
                if let (Ok((main, lost)), Ok((other, also))) = (main, other) {
                    if lost + also > 0 {
                        if findings.len() >= MOST_FINDINGS {
                            break;
                        }
                        let range = ByteRange::sized(self.geometry.fat_at(0) + at, len as u64);
                        findings.push(Finding::at(
                            Severity::Doubt,
                            range.start,
                            "part of a FAT cannot be read",
                            format!("{} bytes", lost + also),
                        ));
                    } else if main != other {
                        different += 1;
                        first_difference.get_or_insert(self.geometry.fat_at(copy) + at);
                    }
                }
                at += STEP;
            }
            if let Some(at) = first_difference {
                let what = format!("FAT copy {} differs from the first in {different} stretches of 64 KiB", copy + 1);
                findings.push(Finding::at(Severity::Doubt, at, what, "both were read and compared"));
            }
        }
        findings
    }
}
