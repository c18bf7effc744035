//! An NTFS volume as every volume is asked: tree, streams, what it says of itself, its rules.

use std::ops::ControlFlow;

use keel_source::ByteOffset;

use super::index::entry_of_index;
use super::layout::{DATA, FIRST_USER, IN_USE, NUMBER_MASK, REPARSE_POINT, ROOT, VOLUME_INFORMATION};
use super::names::{self, Lost};
use super::paths::Paths;
use super::read::MOST_FINDINGS;
use super::stream::StreamMap;
use super::wof::{self, PackedStream, Packing};
use super::{NtfsVolume, Record, check, index, interix, reparse, stream};
use crate::{
    Allocation, Checked, Deleted, Entry, Extent, Finding, FormatError, LeftOpen, NodeId, NodeKind, Problem, Severity, StreamInfo,
    StreamReader, Volume, VolumeSummary, WalkEntry,
};

/// The file system's own folder; its files are nobody's.
const EXTEND: &str = "$Extend";
/// Names of a folder that are handed on together, once their records were looked at.
const NAMES_AT_ONCE: usize = 1024;

/// How the main stream of `record` is packed, and which of its streams `maps` holds that.
fn packed(record: &Record, maps: &[(String, StreamMap)]) -> Option<(Packing, usize)> {
    let packing = reparse::packing(record.attribute(REPARSE_POINT, "")?.resident()?)?;
    Some((packing, maps.iter().position(|(name, _)| name == wof::STREAM)?))
}

/// The file in the root that a sleeping system keeps its memory in, and the word that it begins with while it sleeps.
const SLEEP_FILE: &str = "hiberfil.sys";
const SLEEPS: &[u8] = b"hibr";

impl NtfsVolume {
    /// Where the record stands that marks the volume as dirty.
    fn is_dirty(&self) -> Option<ByteOffset> {
        let record = self.record(3).ok()?;
        let view = record.attribute(VOLUME_INFORMATION, "").and_then(|attribute| attribute.resident())?;
        view.u16(10, "flags").is_ok_and(|flags| flags & 1 != 0).then(|| record.position())
    }

    /// True while a system sleeps on it.
    fn sleeps(&self) -> bool {
        let mut file = None;
        let listed = self.list(NodeId(ROOT), Deleted::Hide, &mut |entry| {
            if entry.name.eq_ignore_ascii_case(SLEEP_FILE) {
                file = Some(entry.id);
            }
            if file.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        let stream = file.filter(|_| listed.is_ok()).and_then(|file| self.open(file, "").ok());
        stream.is_some_and(|mut stream| crate::read_whole(stream.as_mut(), SLEEPS.len()).0.eq_ignore_ascii_case(SLEEPS))
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
            let own = || self.record(found.number).is_ok_and(|record| self.is_link(found.number, &record, true));
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
        check::allocation(self)
    }

    fn claims(&self, each: &mut dyn FnMut(&str, &[Extent])) -> Result<(), FormatError> {
        check::claims(self, each);
        Ok(())
    }

    fn rules(&self) -> Vec<Checked> {
        check::rules(self)
    }

    fn left_open(&self) -> Vec<LeftOpen> {
        let marks = [(self.is_dirty().is_some(), LeftOpen::Unclean), (self.sleeps(), LeftOpen::Asleep)];
        marks.into_iter().filter(|(is_so, _)| *is_so).map(|(_, left)| left).collect()
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
        if let Some(at) = self.is_dirty() {
            let what = "the volume is marked dirty: it was not cleanly unmounted";
            findings.push(Finding::at(Severity::Note, at, what, "bit 0 of the flags in $VOLUME_INFORMATION"));
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
