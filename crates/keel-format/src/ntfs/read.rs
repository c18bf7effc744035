//! The tree and the files of an NTFS volume.

use std::collections::HashMap;
use std::ops::ControlFlow;
use std::sync::OnceLock;

use keel_source::{ByteOffset, SharedSource};

use super::attribute::{FileName, name_and_size, other_names, standard_times};
use super::index::IndexedName;
use super::layout::{
    DATA, FILE_NAME, FIRST_USER, IN_USE, IS_DIRECTORY, NUMBER_MASK, REPARSE_POINT, ROOT, VOLUME_INFORMATION, VOLUME_NAME,
};
use super::names::{self, Kept, Lost, Names};
use super::paths::Paths;
use super::stream::StreamMap;
use super::wof::{self, PackedStream, Packing};
use super::{FormerNtfs, LooseBlock, MftMap, NtfsGeometry, Record, index, interix, reparse, stream};
use crate::device::{hold, step};
use crate::{
    Allocation, Checked, Deleted, Entry, Existence, Extent, Finding, FormatError, NodeId, NodeKind, Problem, Severity,
    StreamInfo, StreamReader, Times, Volume, VolumeKind, VolumeSummary, WalkEntry, read_bytes, read_lenient,
};

/// Bytes of the MFT that a scan reads at once.
const SCAN_STEP: u64 = 1 << 20;
/// Bytes that a folder takes in the map of folders, beside its name.
const IN_MEMORY: u64 = 64;
/// The most deleted records that are remembered for listings.
const MOST_DELETED: usize = 1 << 18;
/// The most findings one walk reports.
const MOST_FINDINGS: usize = 200;
/// The file system's own folder; its files are nobody's.
const EXTEND: &str = "$Extend";
/// Names of a folder that are handed on together, once their records were looked at.
const NAMES_AT_ONCE: usize = 1024;
/// Records that are read at once for them.
const RECORDS_AT_ONCE: usize = 64;
/// The bit of a name's `file_attributes` that says it is a directory's.
const DIRECTORY_ATTRIBUTE: u32 = 0x1000_0000;
/// The most extension records that names of one file are read from.
const MOST_EXTENSIONS: usize = 256;

/// An NTFS volume.
pub struct NtfsVolume {
    source: SharedSource,
    geometry: NtfsGeometry,
    mft: MftMap,
    summary: VolumeSummary,
    deleted: OnceLock<HashMap<u64, Vec<Entry>>>,
    /// Index blocks of a former volume, met on the surface.
    loose: Vec<LooseBlock>,
}

/// One record as a scan of the MFT sees it.
struct Scanned {
    number: u64,
    name: FileName,
    /// Other names of a hard link.
    others: Vec<FileName>,
    /// The times that drivers tell: a name keeps those of when it was given.
    times: Times,
    bytes: u64,
    in_use: bool,
    directory: bool,
    sequence: u16,
    /// It leads elsewhere, by a reparse point or by its content.
    is_link: bool,
}

impl Scanned {
    fn parent(&self) -> u64 {
        self.name.raw.parent.get() & NUMBER_MASK
    }

    fn entry(&self) -> Entry {
        self.entry_of(&self.name)
    }

    fn entry_of(&self, name: &FileName) -> Entry {
        Entry {
            id: node(self.number, self.sequence),
            name: name.name.clone(),
            kind: kind(self.is_link, self.directory),
            bytes: if self.directory { 0 } else { self.bytes },
            times: self.times,
            existence: if self.in_use { Existence::Present } else { Existence::Deleted },
        }
    }
}

fn node(number: u64, sequence: u16) -> NodeId {
    NodeId(number & NUMBER_MASK | u64::from(sequence) << 48)
}

/// How the main stream of `record` is packed, and which of its streams `maps` holds that.
fn packed(record: &Record, maps: &[(String, StreamMap)]) -> Option<(Packing, usize)> {
    let packing = reparse::packing(record.attribute(REPARSE_POINT, "")?.resident()?)?;
    Some((packing, maps.iter().position(|(name, _)| name == wof::STREAM)?))
}

/// What the index of a folder says of a file.
pub(super) fn entry_of_index(found: IndexedName, is_link: bool) -> Entry {
    let directory = found.name.raw.file_attributes.get() & DIRECTORY_ATTRIBUTE != 0;
    Entry {
        id: node(found.number, found.sequence),
        kind: kind(is_link, directory),
        bytes: if directory { 0 } else { found.name.raw.data_size.get() },
        times: found.name.times(),
        existence: Existence::Present,
        name: found.name.name,
    }
}

fn kind(is_link: bool, directory: bool) -> NodeKind {
    match directory {
        _ if is_link => NodeKind::Link,
        true => NodeKind::Directory,
        false => NodeKind::File,
    }
}

/// `ReparseTag` of a record's reparse point.
fn tag_of(record: &Record) -> Option<u32> {
    record.attribute(REPARSE_POINT, "")?.resident()?.u32(0, "ReparseTag").ok()
}

impl NtfsVolume {
    /// Opens the volume in `source` with `geometry`. The boot sector is not read.
    ///
    /// # Errors
    /// [`FormatError`] when neither copy of MFT record 0 gives a map of the MFT.
    pub fn open(source: SharedSource, geometry: NtfsGeometry) -> Result<Self, FormatError> {
        let mft = MftMap::read(&source, &geometry)?;
        Ok(Self::with_map(source, geometry, mft))
    }

    /// Opens what is left of a volume that another one was made over.
    ///
    /// # Errors
    /// [`FormatError`] when no record of it is left.
    pub fn open_former(source: SharedSource, former: &FormerNtfs) -> Result<Self, FormatError> {
        let mft = MftMap::of_pieces(former);
        if mft.records == 0 {
            return Err(FormatError::new("file record", ByteOffset(0), Problem::Missing("record of a former MFT")));
        }
        Ok(Self { loose: former.loose.clone(), ..Self::with_map(source, former.geometry, mft) })
    }

    pub(super) fn with_map(source: SharedSource, geometry: NtfsGeometry, mft: MftMap) -> Self {
        let mut summary = VolumeSummary {
            kind: VolumeKind::Ntfs,
            label: None,
            serial: (geometry.serial != 0)
                .then(|| format!("{:04X}-{:04X}", geometry.serial >> 16 & 0xFFFF, geometry.serial & 0xFFFF)),
            bytes: geometry.volume_bytes(),
            cluster_bytes: geometry.cluster_bytes,
        };
        if let Ok(record) = mft.record(&source, &geometry, 3) {
            let label = record.attribute(VOLUME_NAME, "").and_then(|attribute| attribute.resident());
            summary.label = label
                .map(|view| super::utf16_text(view.bytes().as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair))))
                .filter(|label| !label.is_empty());
        }
        Self { source, geometry, mft, summary, deleted: OnceLock::new(), loose: Vec::new() }
    }

    /// The geometry it is read with.
    #[must_use]
    pub fn geometry(&self) -> &NtfsGeometry {
        &self.geometry
    }

    /// What it is read from.
    #[must_use]
    pub fn source(&self) -> &SharedSource {
        &self.source
    }

    /// The map of its MFT.
    #[must_use]
    pub fn mft(&self) -> &MftMap {
        &self.mft
    }

    /// Record `number`.
    ///
    /// # Errors
    /// [`FormatError`] when it does not read or does not hold.
    pub fn record(&self, number: u64) -> Result<Record, FormatError> {
        self.mft.record(&self.source, &self.geometry, number)
    }

    fn record_of(&self, node: NodeId) -> Result<(u64, Record), FormatError> {
        let number = node.0 & NUMBER_MASK;
        self.record(number).map(|record| (number, record))
    }

    /// Hands every record of the MFT that passes `wanted` (given its flags) to `each`, reading a megabyte at a time.
    pub(super) fn scan(
        &self,
        wanted: &dyn Fn(u16) -> bool,
        each: &mut dyn FnMut(u64, Record) -> ControlFlow<()>,
    ) -> Vec<Finding> {
        self.scan_for(wanted, &mut Lost::default(), each)
    }

    /// As [`Self::scan`]; which of the records do not stand is noted in `lost`.
    fn scan_for(
        &self,
        wanted: &dyn Fn(u16) -> bool,
        lost: &mut Lost,
        each: &mut dyn FnMut(u64, Record) -> ControlFlow<()>,
    ) -> Vec<Finding> {
        let mut findings = Vec::new();
        let size = u64::from(self.geometry.record_bytes);
        let mut damaged = 0u64;
        let mut number = 0;
        'runs: for (first, start, run_bytes) in self.mft.stretches(&self.geometry) {
            // Holes have numbers too.
            number = number.max(first);
            let mut at = 0;
            while at < run_bytes {
                let len = SCAN_STEP.min(run_bytes - at);
                let place = start + at;
                let Ok((bytes, missing)) = read_lenient(self.source.as_ref(), place, len as usize, "MFT") else { break };
                if missing > 0 && findings.len() < MOST_FINDINGS {
                    findings.push(Finding::at(
                        Severity::Broken,
                        place,
                        format!("{missing} bytes of the MFT cannot be read"),
                        "read of the MFT",
                    ));
                }
                for (index, raw) in bytes.chunks_exact(size as usize).enumerate() {
                    if number >= self.mft.records {
                        break 'runs;
                    }
                    let this = number;
                    number += 1;
                    lost.place(this..number);
                    if step(self.source.as_ref(), place, "file record", 1).is_err() {
                        break 'runs;
                    }
                    let flags =
                        raw.get(22..24).and_then(|flags| flags.first_chunk::<2>()).map_or(0, |flags| u16::from_le_bytes(*flags));
                    if !raw.starts_with(b"FILE") {
                        damaged += u64::from(raw.starts_with(b"BAAD"));
                        lost.gone(this, missing == 0 && raw.iter().all(|byte| *byte == 0));
                        continue;
                    }
                    lost.stands(this);
                    if !wanted(flags) {
                        continue;
                    }
                    match Record::parse(raw.to_vec(), place + index as u64 * size) {
                        Ok(record) => {
                            if each(this, record).is_break() {
                                return findings;
                            }
                        }
                        Err(error) if findings.len() < MOST_FINDINGS && flags & IN_USE != 0 => {
                            lost.gone(this, false);
                            let what = format!("MFT record {this} is damaged");
                            findings.push(Finding::at(Severity::Broken, error.at, what, error.to_string()));
                        }
                        Err(_) => {
                            lost.gone(this, false);
                            damaged += 1;
                        }
                    }
                }
                at += len;
            }
        }
        if damaged > 0 {
            findings.push(Finding::of_all(Severity::Doubt, format!("{damaged} more MFT records are damaged"), "scan of the MFT"));
        }
        findings
    }

    fn scanned(&self, number: u64, record: &Record) -> Option<Scanned> {
        if record.header().base_record.get() != 0 {
            return None;
        }
        let (mut name, mut size, has_list) = name_and_size(record);
        if has_list && (name.is_none() || size.is_none()) {
            // Name or sizes moved into an extension record.
            let maps = stream::maps(&self.source, &self.geometry, &self.mft, number, record, DATA).unwrap_or_default();
            size = size.or(maps.iter().find(|(stream, _)| stream.is_empty()).map(|(_, map)| map.bytes));
            for part in stream::list_entries(&self.source, &self.geometry, record).unwrap_or_default() {
                if name.is_some() || part.record == number {
                    continue;
                }
                name = self.record(part.record).ok().and_then(|extension| name_and_size(&extension).0);
            }
        }
        let header = record.header();
        let name = name?;
        let mut others = if header.link_count.get() > 1 { other_names(record, &name) } else { Vec::new() };
        if has_list && header.link_count.get() > 1 {
            let parts = stream::list_entries(&self.source, &self.geometry, record).unwrap_or_default();
            let mut seen: Vec<u64> = vec![number];
            for part in parts.iter().filter(|part| part.type_code == FILE_NAME) {
                if !seen.contains(&part.record) && seen.len() < MOST_EXTENSIONS {
                    seen.push(part.record);
                    others.extend(self.record(part.record).map(|found| other_names(&found, &name)).unwrap_or_default());
                }
            }
        }
        Some(Scanned {
            number,
            times: standard_times(record).unwrap_or_else(|| name.times()),
            name,
            others,
            bytes: size.unwrap_or(0),
            in_use: header.flags.get() & IN_USE != 0,
            directory: header.flags.get() & IS_DIRECTORY != 0,
            sequence: header.sequence_number.get(),
            is_link: self.is_link(number, record),
        })
    }

    /// True for the record of what leads elsewhere.
    fn is_link(&self, number: u64, record: &Record) -> bool {
        let directory = record.header().flags.get() & IS_DIRECTORY != 0;
        tag_of(record).is_some_and(reparse::is_link) || !directory && interix::is_link(self, number, record)
    }

    /// Deleted entries by the record number of their former folder.
    fn deleted(&self) -> &HashMap<u64, Vec<Entry>> {
        self.deleted.get_or_init(|| {
            let mut map: HashMap<u64, Vec<Entry>> = HashMap::new();
            let mut count = 0;
            self.scan(&|flags| flags & IN_USE == 0, &mut |number, record| {
                let mut fits = true;
                if let Some(scanned) = self.scanned(number, &record) {
                    fits = self.holds(&scanned.name.name);
                    map.entry(scanned.parent()).or_default().push(scanned.entry());
                    count += 1;
                }
                if fits && count < MOST_DELETED { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
            });
            map
        })
    }

    /// Says of entries whose records do not stand that only their names are left.
    fn mark_named(&self, entries: &mut [Entry]) {
        let number = |entry: &Entry| entry.id.0 & NUMBER_MASK;
        let mut order: Vec<usize> = (0..entries.len()).collect();
        order.sort_unstable_by_key(|index| entries.get(*index).map(number));
        let size = u64::from(self.geometry.record_bytes);
        let mut piece: (ByteOffset, Vec<u8>) = (ByteOffset(0), Vec::new());
        for index in order {
            let Some(entry) = entries.get_mut(index) else { continue };
            let stands = self.mft.position(&self.geometry, number(entry)).is_some_and(|at| {
                let inside = |piece: &(ByteOffset, Vec<u8>)| {
                    let from = usize::try_from(at.0.checked_sub(piece.0.0)?).ok()?;
                    piece.1.get(from..from.checked_add(size as usize)?).map(<[u8]>::to_vec)
                };
                if inside(&piece).is_none() {
                    let (bytes, _) =
                        read_lenient(self.source.as_ref(), at, RECORDS_AT_ONCE * size as usize, "MFT").unwrap_or_default();
                    piece = (at, bytes);
                }
                // Records that lie in pieces are put together.
                inside(&piece).is_some_and(|bytes| Record::parse(bytes, at).is_ok()) || self.record(number(entry)).is_ok()
            });
            if !stands {
                entry.existence = Existence::Named;
            }
        }
    }

    /// Lists folder `number`, whose own record does not hold, by the records that name it as their parent.
    fn list_by_parent(
        &self,
        number: u64,
        error: FormatError,
        deleted: Deleted,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        let mut count = 0u64;
        let wanted = move |flags: u16| flags & IN_USE != 0 || deleted == Deleted::Show;
        let mut findings = self.scan(&wanted, &mut |child, record| {
            let scanned = self.scanned(child, &record).filter(|found| found.parent() == number && child >= FIRST_USER);
            let Some(scanned) = scanned else { return ControlFlow::Continue(()) };
            count += 1;
            each(scanned.entry())
        });
        let is_lost = |child: u64| self.record(child).is_err();
        let mut names = Names::new(self, &is_lost);
        self.loose.iter().filter(|loose| loose.folder == number).for_each(|loose| names.of_loose(loose, &HashMap::new()));
        for kept in names.into_kept().into_iter().filter(|kept| kept.parent == number) {
            count += 1;
            if each(kept.entry).is_break() {
                break;
            }
        }
        if count == 0 {
            return Err(error);
        }
        let what = "the record of this folder is damaged; it is listed by the files that name it as their folder";
        findings.push(Finding::at(Severity::Broken, error.at, what, error.to_string()));
        Ok(findings)
    }

    /// Every folder of the volume: record number to parent and name. One pass over the MFT.
    fn folders(&self, lost: &mut Lost) -> HashMap<u64, (u64, String)> {
        let mut folders = HashMap::new();
        self.scan_for(&|flags| flags & IS_DIRECTORY != 0, lost, &mut |number, record| {
            let Some(scanned) = self.scanned(number, &record) else { return ControlFlow::Continue(()) };
            let fits = self.holds(&scanned.name.name);
            folders.insert(number, (scanned.parent(), scanned.name.name));
            if fits { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
        });
        if lost.ends_blank() {
            let used = super::check::record_allocation(self);
            lost.close_end(self.mft.records, &|number| used.as_ref().is_some_and(|used| used.is_used(number)));
        }
        folders
    }

    /// The names that the indexes of `folders` and loose blocks keep of records that do not stand.
    fn names_of(&self, folders: &HashMap<u64, (u64, String)>, is_lost: &dyn Fn(u64) -> bool) -> Vec<Kept> {
        let mut names = Names::new(self, is_lost);
        // In the order of their records: they are read as they lie.
        let mut numbers: Vec<u64> = folders.keys().copied().chain([ROOT]).collect();
        numbers.sort_unstable();
        numbers.dedup();
        numbers.into_iter().for_each(|number| names.of_folder(number));
        self.loose.iter().for_each(|loose| names.of_loose(loose, folders));
        names.into_kept()
    }

    /// Keeps an entry of this name in memory; false when the budget has no room for it.
    fn holds(&self, name: &str) -> bool {
        hold(self.source.as_ref(), ByteOffset(0), "file record", name.len() as u64 + IN_MEMORY).is_ok()
    }
}

impl Volume for NtfsVolume {
    fn summary(&self) -> &VolumeSummary {
        &self.summary
    }

    fn root(&self) -> NodeId {
        NodeId(ROOT)
    }

    fn list(
        &self,
        dir: NodeId,
        deleted: Deleted,
        each: &mut dyn FnMut(Entry) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        let (number, record) = match self.record_of(dir) {
            Ok(found) => found,
            // A folder whose own record is gone is listed by what its children say.
            Err(error) => return self.list_by_parent(dir.0 & NUMBER_MASK, error, deleted, each),
        };
        if !record.is_directory() {
            return Err(FormatError::new("file record", record.position(), Problem::Missing("directory of that number")));
        }
        let mut stopped = false;
        // Records are asked for many names at a time, in the order in which they lie.
        let mut waiting: Vec<Entry> = Vec::new();
        let mut hand_on = |waiting: &mut Vec<Entry>| {
            self.mark_named(waiting);
            let flow = waiting.drain(..).try_for_each(&mut *each);
            stopped |= flow.is_break();
            flow
        };
        let findings = index::each_name(&self.source, &self.geometry, &self.mft, number, &record, &mut |found| {
            // The file system's own records stand in the root; they are no files of anybody.
            if found.name.is_dos_alias() || (number == ROOT && found.number < FIRST_USER) {
                return ControlFlow::Continue(());
            }
            let attributes = found.name.raw.file_attributes.get();
            let stated = Some(found.name.raw.reparse.get()).filter(|tag| *tag != 0 && attributes & reparse::ATTRIBUTE != 0);
            let own = || self.record(found.number).is_ok_and(|record| self.is_link(found.number, &record));
            let asks = attributes & (reparse::ATTRIBUTE | interix::SYSTEM) != 0;
            let is_link = stated.map_or_else(|| asks && own(), reparse::is_link);
            waiting.push(entry_of_index(found, is_link));
            if waiting.len() < NAMES_AT_ONCE { ControlFlow::Continue(()) } else { hand_on(&mut waiting) }
        })?;
        let _ = hand_on(&mut waiting);
        if deleted == Deleted::Show && !stopped {
            for entry in self.deleted().get(&number).into_iter().flatten() {
                if each(entry.clone()).is_break() {
                    break;
                }
            }
        }
        Ok(findings)
    }

    fn walk(
        &self,
        deleted: Deleted,
        each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>,
    ) -> Result<Vec<Finding>, FormatError> {
        let mut findings = self.mft.findings.clone();
        let mut lost = Lost::default();
        // What is wrong with records is told by the pass over all of them.
        let mut folders = self.folders(&mut lost);
        let has_gaps = lost.is_any() || !self.mft.pieces.is_empty() || !self.mft.findings.is_empty();
        let is_lost = |number: u64| has_gaps && lost.is_lost(number);
        let kept = if has_gaps { self.names_of(&folders, &is_lost) } else { Vec::new() };
        folders.extend(names::folders_of(&kept));
        let mut paths = Paths::new(&folders, self.source.as_ref());
        let wanted = move |flags: u16| flags & IN_USE != 0 || deleted == Deleted::Show;
        let mut damaged = Lost::default();
        let mut stopped = false;
        findings.extend(self.scan_for(&wanted, &mut damaged, &mut |number, record| {
            if number < FIRST_USER {
                return ControlFlow::Continue(());
            }
            let Some(scanned) = self.scanned(number, &record) else { return ControlFlow::Continue(()) };
            let folder = paths.of(scanned.parent());
            if folder.split('/').next() == Some(EXTEND) {
                return ControlFlow::Continue(());
            }
            let mut flow = each(WalkEntry { folder: &folder, entry: &scanned.entry() });
            for name in &scanned.others {
                if flow.is_break() {
                    break;
                }
                let folder = paths.of(name.raw.parent.get() & NUMBER_MASK);
                flow = each(WalkEntry { folder: &folder, entry: &scanned.entry_of(name) });
            }
            stopped = flow.is_break();
            flow
        }));
        // Records that looked like files until they were read whole.
        let is_damaged = |number: u64| damaged.is_lost(number) && !is_lost(number);
        let later = if damaged.is_any() && !stopped { self.names_of(&folders, &is_damaged) } else { Vec::new() };
        let count = kept.iter().chain(&later).filter(|kept| kept.entry.kind != NodeKind::Directory).count();
        if count > 0 && !stopped {
            let what = format!(
                "{count} files are listed by the names that folders keep of them: nothing says any more where their content is"
            );
            findings.truncate(MOST_FINDINGS - 1);
            findings.push(Finding::of_all(Severity::Broken, what, "records that do not stand, and the indexes of folders"));
        }
        for kept in kept.iter().chain(&later) {
            if stopped || each(WalkEntry { folder: &paths.of(kept.parent), entry: &kept.entry }).is_break() {
                break;
            }
        }
        findings.truncate(MOST_FINDINGS);
        Ok(findings)
    }

    fn streams(&self, file: NodeId) -> Result<Vec<StreamInfo>, FormatError> {
        let (number, record) = self.record_of(file)?;
        let mut maps = stream::maps(&self.source, &self.geometry, &self.mft, number, &record, DATA)?;
        let is_packed = packed(&record, &maps).is_some();
        // What is packed is the main stream's content, in other words.
        maps.retain(|(name, _)| !(is_packed && name == wof::STREAM));
        let storage = |name: &str, map: &StreamMap| if is_packed && name.is_empty() { "compressed" } else { map.storage() };
        Ok(maps.into_iter().map(|(name, map)| StreamInfo { bytes: map.bytes, storage: storage(&name, &map), name }).collect())
    }

    fn open(&self, file: NodeId, stream: &str) -> Result<Box<dyn StreamReader>, FormatError> {
        let (number, record) = self.record_of(file)?;
        let mut maps = stream::maps(&self.source, &self.geometry, &self.mft, number, &record, DATA)?;
        let missing = FormatError::new("file record", record.position(), Problem::Missing("stream of that name"));
        let index = maps.iter().position(|(name, _)| name == stream).ok_or(missing)?;
        if stream.is_empty()
            && let Some((packing, at)) = packed(&record, &maps)
        {
            let (bytes, own) = (maps.get(index).map_or(0, |(_, map)| map.bytes), maps.swap_remove(at).1);
            let own = stream::open(&self.source, &self.geometry, own, record.position())?;
            return Ok(Box::new(PackedStream::open(own, packing, bytes, record.position())?));
        }
        let (_, map) = maps.swap_remove(index);
        let elsewhere = || reparse::content_elsewhere(record.attribute(REPARSE_POINT, "")?.resident()?);
        let is_hole = || map.resident.is_none() && map.extents(&self.geometry).iter().all(|extent| extent.volume_at.is_none());
        if stream.is_empty()
            && map.bytes > 0
            && let Some(why) = elsewhere()
            && is_hole()
        {
            return Err(FormatError::new("file record", record.position(), Problem::Coding(why)));
        }
        stream::open(&self.source, &self.geometry, map, record.position())
    }

    fn extents(&self, file: NodeId) -> Result<Vec<Extent>, FormatError> {
        let (number, record) = self.record_of(file)?;
        let maps = stream::maps(&self.source, &self.geometry, &self.mft, number, &record, DATA)?;
        let Some((_, main)) = maps.iter().find(|(name, _)| name.is_empty()) else { return Ok(Vec::new()) };
        let Some((_, own)) = packed(&record, &maps).and_then(|(_, at)| maps.get(at)) else {
            return Ok(main.extents(&self.geometry));
        };
        // What is packed lies in its own stream; what packing spared lies nowhere.
        let mut extents = own.extents(&self.geometry);
        let held = extents.iter().map(|extent| extent.bytes).sum::<u64>();
        if held < main.bytes {
            extents.push(Extent { stream_at: held, volume_at: None, bytes: main.bytes - held });
        }
        Ok(extents)
    }

    fn link_target(&self, link: NodeId) -> Option<String> {
        let (number, record) = self.record_of(link).ok()?;
        let point = record.attribute(REPARSE_POINT, "").and_then(|attribute| attribute.resident());
        point.map_or_else(|| interix::target(self, number, &record), reparse::target)
    }

    fn allocation(&self) -> Option<Allocation> {
        super::check::allocation(self)
    }

    fn claims(&self, each: &mut dyn FnMut(&str, &[Extent])) -> Result<(), FormatError> {
        super::check::claims(self, each);
        Ok(())
    }

    fn rules(&self) -> Vec<Checked> {
        super::check::rules(self)
    }

    fn examine(&self) -> Vec<Finding> {
        let mut findings = self.mft.findings.clone();
        findings.extend(self.examine_mirror());
        for (number, what) in [(1, "$MFTMirr"), (3, "$Volume"), (ROOT, "the root directory"), (6, "$Bitmap"), (7, "$Boot")] {
            if let Err(error) = self.record(number) {
                let text = format!("MFT record {number} ({what}) is damaged");
                findings.push(Finding::at(Severity::Broken, error.at, text, error.to_string()));
            }
        }
        if let Ok(record) = self.record(3)
            && let Some(view) = record.attribute(VOLUME_INFORMATION, "").and_then(|attribute| attribute.resident())
            && view.u16(10, "flags").is_ok_and(|flags| flags & 1 != 0)
        {
            let what = "the volume is marked dirty: it was not cleanly unmounted";
            findings.push(Finding::at(Severity::Note, record.position(), what, "bit 0 of the flags in $VOLUME_INFORMATION"));
        }
        match self.list(NodeId(ROOT), Deleted::Hide, &mut |_| ControlFlow::Continue(())) {
            Ok(more) => findings.extend(more),
            Err(error) => {
                findings.push(Finding::at(Severity::Broken, error.at, "the root directory cannot be read", error.to_string()));
            }
        }
        findings
    }
}

impl NtfsVolume {
    /// Compares the first four records with the mirror.
    fn examine_mirror(&self) -> Vec<Finding> {
        let size = self.geometry.record_bytes as usize;
        let mirror_at = self.geometry.cluster_at(self.geometry.mirror_lcn);
        let mut findings = Vec::new();
        for number in 0..4u64 {
            let at = mirror_at + number * size as u64;
            let main = self
                .mft
                .position(&self.geometry, number)
                .and_then(|at| read_bytes(self.source.as_ref(), at, size, "file record").ok());
            let copy = read_bytes(self.source.as_ref(), at, size, "mirror record").ok();
            let Some(copy) = copy.filter(|copy| copy.starts_with(b"FILE")) else {
                let what = format!("record {number} of the MFT mirror is not there: drivers refuse the volume");
                findings.push(Finding::at(Severity::Doubt, at, what, "the mirror's clusters were read"));
                continue;
            };
            let used = |bytes: Vec<u8>| Record::parse(bytes, at).ok().map(|record| record.used().to_vec());
            let main = main.and_then(used);
            if main.is_some() && main != used(copy) {
                let what =
                    format!("record {number} of the MFT mirror is of another time than the record: drivers refuse the volume");
                findings.push(Finding::at(Severity::Doubt, at, what, "what is in use of both was read and compared"));
            }
        }
        findings
    }

    /// First byte of the cluster where the volume's own records say the volume starts: `$Boot` lies in cluster 0.
    #[must_use]
    pub fn boot_place(&self) -> Option<ByteOffset> {
        let record = self.record(7).ok()?;
        let run = record.attribute(DATA, "")?.runs(self.geometry.clusters()).ok()?.first().copied()?;
        run.lcn.map(|lcn| self.geometry.cluster_at(lcn))
    }
}
