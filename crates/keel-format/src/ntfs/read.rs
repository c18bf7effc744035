//! The tree and the files of an NTFS volume.

use std::collections::HashMap;
use std::ops::ControlFlow;
use std::sync::OnceLock;

use keel_source::{ByteOffset, SharedSource};

use super::attribute::{FileName, Gist, other_names};
use super::index::{kind, node};
use super::layout::{DATA, FILE_NAME, FIRST_USER, IN_USE, IS_DIRECTORY, NUMBER_MASK, ROOT, VOLUME_NAME};
use super::names::{Kept, Lost, Names};
use super::{FormerNtfs, LooseBlock, MftMap, NtfsGeometry, Record, interix, reparse, stream};
use crate::device::{hold, step};
use crate::{
    Deleted, Entry, Existence, Finding, FormatError, NodeId, Problem, Severity, Times, VolumeKind, VolumeSummary, read_bytes,
    read_lenient,
};

/// Bytes of the MFT that a scan reads at once.
const SCAN_STEP: u64 = 1 << 20;
/// Bytes that a folder takes in the map of folders, beside its name.
const IN_MEMORY: u64 = 64;
/// The most deleted records that are remembered for listings.
const MOST_DELETED: usize = 1 << 18;
/// The most findings one walk reports.
pub(super) const MOST_FINDINGS: usize = 200;
/// Records that are read at once for them.
const RECORDS_AT_ONCE: usize = 64;
/// The most extension records that names of one file are read from.
const MOST_EXTENSIONS: usize = 256;

/// An NTFS volume.
pub struct NtfsVolume {
    pub(super) source: SharedSource,
    pub(super) geometry: NtfsGeometry,
    pub(super) mft: MftMap,
    pub(super) summary: VolumeSummary,
    pub(super) deleted: OnceLock<HashMap<u64, Vec<Entry>>>,
    /// Index blocks of a former volume, met on the surface.
    pub(super) loose: Vec<LooseBlock>,
}

/// One record as a scan of the MFT sees it.
pub(super) struct Scanned {
    pub(super) number: u64,
    pub(super) name: FileName,
    /// Other names of a hard link.
    pub(super) others: Vec<FileName>,
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
    pub(super) fn parent(&self) -> u64 {
        self.name.raw.parent.get() & NUMBER_MASK
    }

    pub(super) fn entry(&self) -> Entry {
        self.entry_of(&self.name)
    }

    pub(super) fn entry_of(&self, name: &FileName) -> Entry {
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
            kind: Some(VolumeKind::Ntfs),
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

    pub(super) fn record_of(&self, node: NodeId) -> Result<(u64, Record), FormatError> {
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
    pub(super) fn scan_for(
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

    pub(super) fn scanned(&self, number: u64, record: &Record) -> Option<Scanned> {
        if record.header().base_record.get() != 0 {
            return None;
        }
        let Gist { mut name, bytes: mut size, has_list, times, reparse_tag } = Gist::of(record);
        if has_list && (name.is_none() || size.is_none()) {
            // Name or sizes moved into an extension record.
            let maps = stream::maps(&self.source, &self.geometry, &self.mft, number, record, DATA).unwrap_or_default();
            size = size.or(maps.iter().find(|(stream, _)| stream.is_empty()).map(|(_, map)| map.bytes));
            for part in stream::list_entries(&self.source, &self.geometry, record).unwrap_or_default() {
                if name.is_some() || part.record == number {
                    continue;
                }
                name = self.record(part.record).ok().and_then(|extension| Gist::of(&extension).name);
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
        let may_be = name.raw.file_attributes.get() & interix::SYSTEM != 0;
        Some(Scanned {
            number,
            times: times.unwrap_or_else(|| name.times()),
            name,
            others,
            bytes: size.unwrap_or(0),
            in_use: header.flags.get() & IN_USE != 0,
            directory: header.flags.get() & IS_DIRECTORY != 0,
            sequence: header.sequence_number.get(),
            is_link: self.leads_elsewhere(number, record, reparse_tag, may_be),
        })
    }

    /// True for the record of what leads elsewhere. By its content it does only where its name says that it `may_be` so: a system file.
    pub(super) fn is_link(&self, number: u64, record: &Record, may_be: bool) -> bool {
        self.leads_elsewhere(number, record, Gist::of(record).reparse_tag, may_be)
    }

    fn leads_elsewhere(&self, number: u64, record: &Record, tag: Option<u32>, may_be: bool) -> bool {
        let directory = record.header().flags.get() & IS_DIRECTORY != 0;
        tag.is_some_and(reparse::is_link) || may_be && !directory && interix::is_link(self, number, record)
    }

    /// Deleted entries by the record number of their former folder.
    pub(super) fn deleted(&self) -> &HashMap<u64, Vec<Entry>> {
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
    pub(super) fn mark_named(&self, entries: &mut [Entry]) {
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
    pub(super) fn list_by_parent(
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
    pub(super) fn folders(&self, lost: &mut Lost) -> HashMap<u64, (u64, String)> {
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
    pub(super) fn names_of(&self, folders: &HashMap<u64, (u64, String)>, is_lost: &dyn Fn(u64) -> bool) -> Vec<Kept> {
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

impl NtfsVolume {
    /// Compares the first four records with the mirror.
    pub(super) fn examine_mirror(&self) -> Vec<Finding> {
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
