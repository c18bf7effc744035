//! The tree and the files of an exFAT volume.

use std::ops::ControlFlow;
use std::sync::{Arc, OnceLock};

use keel_source::{ByteOffset, SharedSource};

use super::ExFatGeometry;
use super::directory::{ENTRY_BYTES, FileSet, Sets, Step};
use super::layout::{
    BITMAP, IN_USE, LABEL, NO_FAT_CHAIN, RawAllocation, RawStream, STREAM, UPCASE, VOLUME_DIRTY, table_checksum,
};
use super::upcase::UpCase;
use crate::chain::{Chain, LINKS_A_STEP, Link, LinkTable};
use crate::device::step;
use crate::pages::Pages;
use crate::{
    Allocation, Checked, Deleted, Entry, Extent, ExtentStream, Finding, FormatError, LeftOpen, MemoryStream, NodeId, Problem,
    Severity, StreamInfo, StreamReader, View, Volume, VolumeKind, VolumeSummary, WalkEntry, tree,
};

/// The largest directory that the specification allows, in bytes.
const LARGEST_DIRECTORY: u64 = 256 << 20;
/// The largest up-case table: 65,536 units.
const LARGEST_UPCASE: u64 = 128 << 10;
/// The most findings one listing reports.
const MOST_FINDINGS: usize = 200;

/// The entries of the root that are about the volume.
#[derive(Debug, Clone, Copy, Default)]
pub struct Core {
    /// The allocation bitmap.
    pub bitmap: Option<RawAllocation>,
    /// The up-case table.
    pub upcase: Option<RawAllocation>,
}

/// An exFAT volume. The root folder has number 0, every other node the byte offset of its stream extension entry.
pub struct ExFatVolume {
    pages: Pages,
    geometry: ExFatGeometry,
    core: Core,
    summary: VolumeSummary,
    upcase: OnceLock<Option<UpCase>>,
    used: OnceLock<Option<Allocation>>,
    /// True for what is left of an older generation: its FAT and bitmap may be anything.
    is_former: bool,
}

impl ExFatVolume {
    /// Opens the volume in `source` with `geometry`. The boot sector is not read.
    ///
    /// # Errors
    /// [`FormatError`] when the root directory cannot be read.
    pub fn open(source: SharedSource, geometry: ExFatGeometry) -> Result<Self, FormatError> {
        let mut volume = Self::unread(source, geometry, false);
        let (mut core, mut label) = (Core::default(), None);
        volume.entries(&volume.root_chain(), &mut |entry, at| {
            let allocation = || View::new("directory entry", at, entry).at::<RawAllocation>(0, "entry").ok().copied();
            match entry[0] {
                LABEL => label = label_of(entry),
                BITMAP => core.bitmap = core.bitmap.or_else(allocation),
                UPCASE => core.upcase = core.upcase.or_else(allocation),
                0 => return ControlFlow::Break(()),
                _ => {}
            }
            ControlFlow::Continue(())
        })?;
        volume.core = core;
        volume.summary.label = label;
        Ok(volume)
    }

    /// What is left of a volume that another one was made over. Its root is not read.
    pub(super) fn former(source: SharedSource, geometry: ExFatGeometry) -> Self {
        Self::unread(source, geometry, true)
    }

    fn unread(source: SharedSource, geometry: ExFatGeometry, is_former: bool) -> Self {
        let summary = VolumeSummary {
            kind: Some(VolumeKind::ExFat),
            label: None,
            serial: (geometry.serial != 0).then(|| format!("{:04X}-{:04X}", geometry.serial >> 16, geometry.serial & 0xFFFF)),
            bytes: geometry.volume_bytes(),
            cluster_bytes: geometry.cluster_bytes(),
        };
        let (upcase, used) = (OnceLock::new(), OnceLock::new());
        Self { pages: Pages::new(source), geometry, core: Core::default(), summary, upcase, used, is_former }
    }

    /// The geometry it is read with.
    #[must_use]
    pub fn geometry(&self) -> &ExFatGeometry {
        &self.geometry
    }

    /// What it is read from.
    #[must_use]
    pub fn source(&self) -> &SharedSource {
        self.pages.source()
    }

    /// Bitmap and up-case table as the root names them.
    #[must_use]
    pub fn core(&self) -> &Core {
        &self.core
    }

    /// The up-case table, when it can be read and its checksum holds.
    pub fn upcase(&self) -> Option<&UpCase> {
        self.upcase.get_or_init(|| self.read_upcase().ok()).as_ref()
    }

    fn read_upcase(&self) -> Result<UpCase, FormatError> {
        let missing = || FormatError::new("root directory", ByteOffset(0), Problem::Missing("up-case table entry"));
        let entry = self.core.upcase.ok_or_else(missing)?;
        let bytes = self.whole(&entry, LARGEST_UPCASE, "up-case table")?;
        let computed = table_checksum(&bytes);
        if computed != entry.table_checksum.get() {
            let at = self.geometry.cluster_at(entry.first_cluster.get()).unwrap_or_default();
            let problem = Problem::Checksum { field: "TableChecksum", found: entry.table_checksum.get(), computed };
            return Err(FormatError::new("up-case table", at, problem));
        }
        Ok(UpCase::unpack(&bytes))
    }

    /// All bytes of bitmap or up-case table, up to `limit`.
    fn whole(&self, entry: &RawAllocation, limit: u64, structure: &'static str) -> Result<Vec<u8>, FormatError> {
        let bytes = entry.data_length.get();
        let at = self.geometry.cluster_at(entry.first_cluster.get()).unwrap_or_default();
        if bytes > limit {
            return Err(FormatError::value(structure, at, "DataLength", bytes, "a length that such a table can have"));
        }
        let chain = self.chain(entry.first_cluster.get(), bytes, false);
        let mut out = Vec::new();
        for extent in self.extents_of(&chain) {
            let Some(at) = extent.volume_at else { break };
            let left = bytes - out.len() as u64;
            let len = usize::try_from(extent.bytes.min(left)).unwrap_or(0);
            out.extend(self.pages.bytes(at, len, structure)?);
        }
        if (out.len() as u64) < bytes {
            return Err(FormatError::new(structure, at, Problem::Unreadable { bytes: bytes - out.len() as u64 }));
        }
        Ok(out)
    }

    /// The allocation bitmap, up to 8 MiB of it.
    ///
    /// # Errors
    /// [`FormatError`] when the root names none or it cannot be read.
    pub fn bitmap(&self) -> Result<Vec<u8>, FormatError> {
        let missing = || FormatError::new("root directory", ByteOffset(0), Problem::Missing("allocation bitmap entry"));
        let mut entry = self.core.bitmap.ok_or_else(missing)?;
        entry.data_length.set(entry.data_length.get().min(8 << 20));
        self.whole(&entry, 8 << 20, "allocation bitmap")
    }

    /// Where the allocation bitmap stands.
    pub(super) fn bitmap_ground(&self) -> Option<Vec<Extent>> {
        let entry = self.core.bitmap?;
        Some(self.extents_of(&self.chain(entry.first_cluster.get(), entry.data_length.get(), false)))
    }

    fn link(&self, cluster: u32) -> Link {
        let at = self.geometry.fat_at() + u64::from(cluster) * 4;
        let mut entry = [0; 4];
        if self.pages.read(at, &mut entry, "FAT").is_err() {
            return Link::Unreadable;
        }
        match u32::from_le_bytes(entry) {
            0xFFFF_FFFF => Link::End,
            0xFFFF_FFF7 => Link::Bad,
            0 => Link::Free,
            next => Link::Next(next),
        }
    }

    /// The clusters of `bytes` bytes from cluster `first` on, by the FAT or, when `contiguous`, one after the other.
    fn chain(&self, first: u32, bytes: u64, contiguous: bool) -> Chain {
        let wanted = bytes.div_ceil(u64::from(self.geometry.cluster_bytes()).max(1));
        if wanted == 0 || first == 0 {
            return Chain::default();
        }
        if contiguous {
            let end = u64::from(self.geometry.cluster_count) + 2;
            return Chain::straight(first, wanted.min(end.saturating_sub(u64::from(first))));
        }
        let table = LinkTable {
            clusters: u64::from(self.geometry.cluster_count),
            link: &|cluster| self.link(cluster),
            entry_at: &|cluster| self.geometry.fat_at() + u64::from(cluster) * 4,
            source: self.pages.source().as_ref(),
        };
        Chain::follow(&table, first, wanted)
    }

    fn root_chain(&self) -> Chain {
        self.chain(self.geometry.root_cluster, LARGEST_DIRECTORY, false)
    }

    fn extents_of(&self, chain: &Chain) -> Vec<Extent> {
        chain.extents(u64::from(self.geometry.cluster_bytes()), &|cluster| self.geometry.cluster_at(cluster))
    }

    /// Hands every entry of a directory to `each`, read 64 KiB at a time.
    fn entries(
        &self,
        chain: &Chain,
        each: &mut dyn FnMut(&[u8; ENTRY_BYTES], ByteOffset) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        const STEP: u64 = 64 << 10;
        let mut findings: Vec<Finding> = chain.finding.clone().into_iter().collect();
        let extents = self.extents_of(chain);
        if extents.is_empty() {
            let at = self.geometry.fat_at();
            return Err(FormatError::value("directory", at, "FirstCluster", 0, "a cluster of the volume"));
        }
        // No folder is longer, whatever its entry says.
        let mut left = LARGEST_DIRECTORY;
        for extent in extents {
            let Some(start) = extent.volume_at else { continue };
            let bytes = extent.bytes.min(left);
            left -= bytes;
            let mut done = 0;
            while done < bytes {
                let at = start + done;
                if at.0 >= self.pages.source().len() {
                    findings.push(Finding::at(Severity::Broken, at, "a directory leads behind the end", "its clusters"));
                    findings.truncate(MOST_FINDINGS);
                    break;
                }
                let len = STEP.min(bytes - done);
                done += len;
                let bytes = match self.pages.bytes(at, usize::try_from(len).unwrap_or(0), "directory") {
                    Ok(bytes) => bytes,
                    Err(error) if error.is_spent() => return Err(error),
                    Err(error) => {
                        let what = "a part of a directory cannot be read: its entries there are missing";
                        findings.push(Finding::at(Severity::Broken, at, what, error.to_string()));
                        findings.truncate(MOST_FINDINGS);
                        continue;
                    }
                };
                for (index, entry) in bytes.as_chunks::<ENTRY_BYTES>().0.iter().enumerate() {
                    if each(entry, at + (index * ENTRY_BYTES) as u64).is_break() {
                        return Ok(findings);
                    }
                }
            }
        }
        Ok(findings)
    }

    fn stream_of(&self, node: NodeId) -> Result<RawStream, FormatError> {
        let at = ByteOffset(node.0);
        let bytes = self.pages.bytes(at, ENTRY_BYTES, "stream extension")?;
        let view = View::new("stream extension", at, &bytes);
        let raw: RawStream = *view.at(0, "entry")?;
        if raw.entry_type | IN_USE != STREAM {
            return Err(view.wrong(0, "EntryType", u64::from(raw.entry_type), "0xC0"));
        }
        Ok(raw)
    }

    /// The clusters of a file or folder, and whether they had to be guessed. A deleted one whose chain was recorded may have it
    /// in the FAT still; else free clusters are taken as they follow one another from its first one on.
    fn chain_of(&self, raw: &RawStream) -> Chain {
        self.chain_or_guess(raw).0
    }

    fn chain_or_guess(&self, raw: &RawStream) -> (Chain, bool) {
        let (first, bytes) = (raw.first_cluster.get(), raw.data_length.get());
        let straight = raw.general_secondary_flags & NO_FAT_CHAIN != 0;
        if straight || (raw.entry_type & IN_USE != 0 && !self.is_former) {
            return (self.chain(first, bytes, straight), false);
        }
        let wanted = bytes.div_ceil(u64::from(self.geometry.cluster_bytes()).max(1));
        let recorded = self.chain(first, bytes, false);
        if recorded.finding.is_none() && recorded.clusters == wanted {
            return (recorded, false);
        }
        if self.is_former {
            // A file of one cluster needs no chain.
            return (self.chain(first, bytes, true), wanted > 1);
        }
        let Some(allocation) = self.deleted_ground() else { return (self.chain(first, bytes, true), true) };
        let mut chain = Chain::default();
        // Behind its last byte the bitmap says nothing.
        let said = u32::try_from(allocation.bits.len().saturating_mul(8)).unwrap_or(u32::MAX);
        for cluster in first..self.geometry.cluster_count.min(said).saturating_add(2) {
            let at = ByteOffset(0);
            let spent = u64::from(cluster) % LINKS_A_STEP == 0 && step(self.pages.source().as_ref(), at, "bitmap", 1).is_err();
            if chain.clusters >= wanted || spent {
                break;
            }
            match allocation.is_used(u64::from(cluster).saturating_sub(2)) {
                false => chain.push(cluster),
                true if cluster == first => break,
                true => {}
            }
        }
        (chain, true)
    }

    /// The allocation bitmap, read once for all deleted files.
    fn deleted_ground(&self) -> Option<&Allocation> {
        self.used.get_or_init(|| super::check::allocation(self)).as_ref()
    }

    /// Hands every set of the folder `dir` to `each`.
    ///
    /// # Errors
    /// [`FormatError`] when the folder has no clusters that can be read.
    pub fn sets(&self, dir: NodeId, each: &mut dyn FnMut(FileSet) -> ControlFlow<()>) -> Result<Vec<Finding>, FormatError> {
        let chain = match dir.0 {
            0 => self.root_chain(),
            _ => {
                let raw = self.stream_of(dir)?;
                if raw.first_cluster.get() == 0 || raw.data_length.get() == 0 {
                    return Ok(Vec::new());
                }
                self.chain_of(&raw)
            }
        };
        let mut sets = Sets::default();
        let mut broken = Vec::new();
        let mut findings = self.entries(&chain, &mut |entry, at| match sets.take(entry, at) {
            Step::End => ControlFlow::Break(()),
            Step::More | Step::Other => ControlFlow::Continue(()),
            Step::Broken(finding) => {
                broken.push(finding);
                broken.truncate(MOST_FINDINGS);
                ControlFlow::Continue(())
            }
            Step::Set(set) => {
                if !set.checksum_holds && !set.deleted {
                    let what = "SetChecksum of a directory entry set does not hold";
                    broken.push(Finding::at(Severity::Doubt, set.stream_at, what, "computed over the set"));
                    broken.truncate(MOST_FINDINGS);
                }
                each(*set)
            }
        })?;
        findings.extend(broken);
        Ok(findings)
    }
}

fn label_of(entry: &[u8; ENTRY_BYTES]) -> Option<String> {
    let count = usize::from(entry[1]).min(11);
    let units = entry.as_chunks::<2>().0.iter().skip(1).take(count).map(|pair| u16::from_le_bytes(*pair));
    Some(crate::ntfs::utf16_text(units)).filter(|label| !label.is_empty())
}

impl Volume for ExFatVolume {
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
        self.sets(dir, &mut |set| match set.deleted && deleted == Deleted::Hide {
            true => ControlFlow::Continue(()),
            false => each(set.entry()),
        })
    }

    fn walk(
        &self,
        deleted: Deleted,
        each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        tree::walk(
            self,
            self.pages.source().as_ref(),
            &|entry| Ok(u64::from(self.stream_of(entry.id)?.first_cluster.get())),
            deleted,
            each,
        )
    }

    fn streams(&self, file: NodeId) -> Result<Vec<StreamInfo>, FormatError> {
        let raw = self.stream_of(file)?;
        Ok(vec![StreamInfo { name: String::new(), bytes: raw.data_length.get(), storage: "plain" }])
    }

    fn open(&self, file: NodeId, stream: &str) -> Result<Box<dyn StreamReader>, FormatError> {
        let raw = self.stream_of(file)?;
        if !stream.is_empty() {
            return Err(FormatError::new("stream extension", ByteOffset(file.0), Problem::Missing("stream of that name")));
        }
        let bytes = raw.data_length.get();
        if bytes == 0 {
            return Ok(Box::new(MemoryStream(Vec::new())));
        }
        let extents = self.extents_of(&self.chain_of(&raw));
        let written = raw.valid_data_length.get().min(bytes);
        Ok(Box::new(ExtentStream::new(Arc::clone(self.pages.source()), extents, bytes, written)))
    }

    fn extents(&self, file: NodeId) -> Result<Vec<Extent>, FormatError> {
        Ok(self.extents_of(&self.chain_of(&self.stream_of(file)?)))
    }

    fn is_guessed(&self, file: NodeId) -> bool {
        self.stream_of(file).is_ok_and(|raw| self.chain_or_guess(&raw).1)
    }

    fn allocation(&self) -> Option<Allocation> {
        super::check::allocation(self)
    }

    fn claims(&self, each: &mut dyn FnMut(&str, &[Extent])) -> Result<(), FormatError> {
        each("the root folder", &self.extents_of(&self.root_chain()));
        let system = [("the allocation bitmap", self.core.bitmap), ("the up-case table", self.core.upcase)];
        for (name, entry) in system.into_iter().filter_map(|(name, entry)| Some((name, entry?))) {
            each(name, &self.extents_of(&self.chain(entry.first_cluster.get(), entry.data_length.get(), false)));
        }
        let _ = self.walk(Deleted::Hide, &mut |found| {
            let path = found.path();
            each(&path, &self.extents(found.entry.id).unwrap_or_default());
            ControlFlow::Continue(())
        });
        Ok(())
    }

    fn rules(&self) -> Vec<Checked> {
        super::check::rules(self)
    }

    fn left_open(&self) -> Vec<LeftOpen> {
        if self.is_dirty() { vec![LeftOpen::Unclean] } else { Vec::new() }
    }

    fn examine(&self) -> Vec<Finding> {
        let mut findings = Vec::new();
        self.examine_flags(&mut findings);
        self.examine_bitmap(&mut findings);
        if let Err(error) = self.read_upcase() {
            let what = "the up-case table cannot be used: names that differ in case alone could not be told apart";
            findings.push(Finding::at(Severity::Broken, error.at, what, error.to_string()));
        }
        let mut wrong_hashes = 0u64;
        let listed = self.sets(NodeId(0), &mut |set| {
            let hash = self.upcase().map(|table| table.name_hash(&set.units));
            wrong_hashes += u64::from(!set.deleted && hash.is_some_and(|hash| hash != set.stream.name_hash.get()));
            ControlFlow::Continue(())
        });
        match listed {
            Ok(more) => findings.extend(more),
            Err(error) => {
                findings.push(Finding::at(Severity::Broken, error.at, "the root directory cannot be read", error.to_string()));
            }
        }
        if wrong_hashes > 0 {
            let what = format!("NameHash of {wrong_hashes} names in the root does not hold: they cannot be opened by name");
            findings.push(Finding::of_all(Severity::Doubt, what, "computed over the up-cased names"));
        }
        findings
    }
}

impl ExFatVolume {
    fn is_dirty(&self) -> bool {
        let flags = self.pages.bytes(ByteOffset(106), 2, "boot sector");
        flags.is_ok_and(|flags| flags.first().is_some_and(|flags| u16::from(*flags) & VOLUME_DIRTY != 0))
    }

    fn examine_flags(&self, findings: &mut Vec<Finding>) {
        if self.is_dirty() {
            let what = "the volume was not cleanly unmounted";
            findings.push(Finding::at(Severity::Note, ByteOffset(106), what, "bit 1 of VolumeFlags is set"));
        }
    }

    /// The bitmap is there, as long as the cluster count asks, and counts the core's own clusters as used.
    fn examine_bitmap(&self, findings: &mut Vec<Finding>) {
        let bits = match self.bitmap() {
            Ok(bits) => bits,
            Err(error) => {
                let what = "the allocation bitmap cannot be read";
                findings.push(Finding::at(Severity::Broken, error.at, what, error.to_string()));
                return;
            }
        };
        let Some(entry) = self.core.bitmap else { return };
        let at = self.geometry.cluster_at(entry.first_cluster.get()).unwrap_or_default();
        if entry.data_length.get() < self.geometry.bitmap_bytes() {
            let what =
                format!("the allocation bitmap has {} bytes, {} are needed", entry.data_length, self.geometry.bitmap_bytes());
            findings.push(Finding::at(Severity::Broken, at, what, "DataLength against ClusterCount"));
        }
        let upcase = self.core.upcase.map(|entry| entry.first_cluster.get());
        for (name, cluster) in
            [("root", Some(self.geometry.root_cluster)), ("bitmap", Some(entry.first_cluster.get())), ("up-case table", upcase)]
        {
            let Some(index) = cluster.and_then(|cluster| cluster.checked_sub(2)) else { continue };
            let byte = bits.get(index as usize / 8);
            if byte.is_some_and(|byte| byte >> (index % 8) & 1 == 0) {
                let what = format!("the allocation bitmap counts the {name}'s first cluster as free");
                findings.push(Finding::at(
                    Severity::Doubt,
                    at + u64::from(index / 8),
                    what,
                    format!("bit of cluster {}", index + 2),
                ));
            }
        }
    }
}
