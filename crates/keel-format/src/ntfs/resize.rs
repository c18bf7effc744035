//! An NTFS volume of another length. Clusters behind the end move, and the mapping pairs of what they belong to with them; `$Bitmap` and
//! `$BadClus` count the clusters that there are, and both boot sectors say so.

use std::ops::ControlFlow;

use keel_source::SharedSource;

use super::layout::{DATA, IN_USE};
use super::record::redo_fixups;
use super::runs::{Run, encode};
use super::{Body, NtfsGeometry, NtfsVolume, Record};
use crate::resize::{NotResized, Resized, Sheet, Units};
use crate::{Allocation, Geometry, Volume};

/// Numbers of the records of `$MFT`, `$MFTMirr`, `$Bitmap` and `$BadClus`.
const MFT: u64 = 0;
const MIRROR: u64 = 1;
const CLUSTER_BITMAP: u64 = 6;
const BAD_CLUSTERS: u64 = 8;
/// Name of the stream of `$BadClus`.
const BAD: &str = "$Bad";
/// Records that the mirror holds at the least.
const MIRRORED: u64 = 4;
/// Fewest clusters that a volume is shortened to.
const FEWEST: u64 = 16;

fn opened(window: &SharedSource, any: &Geometry) -> Result<(NtfsVolume, Allocation), NotResized> {
    let Geometry::Ntfs(geometry) = any else { return Err(NotResized("it is no NTFS".into())) };
    let volume = NtfsVolume::open(SharedSource::clone(window), *geometry).map_err(|why| NotResized(why.to_string()))?;
    let allocation = volume.allocation().ok_or_else(|| NotResized("its $Bitmap cannot be read".into()))?;
    Ok((volume, allocation))
}

/// The fewest bytes that the volume in `window` can be made to take.
pub(super) fn least(window: &SharedSource, any: &Geometry) -> Result<u64, NotResized> {
    let (volume, allocation) = opened(window, any)?;
    let geometry = volume.geometry();
    let used: u64 = allocation.used().iter().map(|units| units.end.min(geometry.clusters()) - units.start).sum();
    let sectors = used.max(FEWEST) * u64::from(geometry.cluster_bytes / geometry.bytes_per_sector.max(1)) + 1;
    Ok(sectors * u64::from(geometry.bytes_per_sector))
}

/// The volume in `window` with at most `bytes` bytes.
pub(super) fn to(window: &SharedSource, any: &Geometry, bytes: u64) -> Result<Resized, NotResized> {
    let (volume, allocation) = opened(window, any)?;
    let old = *volume.geometry();
    let sectors = (bytes / u64::from(old.bytes_per_sector)).saturating_sub(1);
    let new = NtfsGeometry { total_sectors: sectors, ..old };
    if new.clusters() < FEWEST {
        return Err(NotResized::too_small(bytes, least(window, any)?));
    }
    let mut ground = Units::new(new.clusters());
    allocation.used().iter().for_each(|units| ground.take(units.start..units.end.min(new.clusters())));
    let mut work = Work {
        volume: &volume,
        old,
        new,
        ground,
        sheet: Sheet::new(window),
        moves: Vec::new(),
        changed: Vec::new(),
        mft: Vec::new(),
    };
    let room = work.records();
    room.map_err(|why| match least(window, any) {
        Ok(least) if least > bytes => NotResized::too_small(bytes, least),
        _ => why,
    })?;
    work.write_records()?;
    work.bitmap()?;
    work.mirror()?;
    let geometry = work.boot_sectors()?;
    work.sheet.parts(Geometry::Ntfs(geometry))
}

/// A record as it becomes, fixups undone.
struct Changed {
    number: u64,
    bytes: Vec<u8>,
}

struct Work<'a> {
    volume: &'a NtfsVolume,
    old: NtfsGeometry,
    new: NtfsGeometry,
    ground: Units,
    sheet: Sheet<'a>,
    /// Clusters of the MFT that move: from, to, count.
    moves: Vec<(u64, u64, u64)>,
    changed: Vec<Changed>,
    /// Runs of the MFT as they become.
    mft: Vec<Run>,
}

/// A run of an attribute and where it goes: `None` where it stays.
type Placed = (Run, Option<Vec<std::ops::Range<u64>>>);

impl Work<'_> {
    /// Places what lies behind the end, and changes the records that it belongs to.
    fn records(&mut self) -> Result<(), NotResized> {
        let mut numbers: Vec<u64> = Vec::new();
        let findings = self.volume.scan(&|flags| flags & IN_USE != 0, &mut |number, record| {
            if self.touches(number, &record) {
                numbers.push(number);
            }
            ControlFlow::Continue(())
        });
        if let Some(wrong) = findings.first() {
            return Err(NotResized(format!("its MFT is not whole ({})", wrong.what)));
        }
        for number in numbers {
            let record = self.volume.record(number).map_err(|why| NotResized(why.to_string()))?;
            let mut bytes = record.bytes().to_vec();
            self.change(number, &record, &mut bytes)?;
            self.changed.push(Changed { number, bytes });
        }
        self.mft = self.mft_as_it_becomes();
        Ok(())
    }

    /// True for a record of which something has to be written anew.
    fn touches(&self, number: u64, record: &Record) -> bool {
        let limit = self.old.clusters();
        let behind = |run: &Run| run.lcn.is_some_and(|lcn| lcn + run.clusters > self.new.clusters());
        matches!(number, CLUSTER_BITMAP | BAD_CLUSTERS)
            || record.attributes().flatten().any(|attribute| attribute.runs(limit).unwrap_or_default().iter().any(behind))
    }

    fn change(&mut self, number: u64, record: &Record, bytes: &mut [u8]) -> Result<(), NotResized> {
        let limit = self.old.clusters();
        // By their places: the length of one may change.
        for index in 0..record.attributes().flatten().count() {
            let Some(attribute) = record.attributes().flatten().nth(index) else { continue };
            let Body::NonResident { header, .. } = &attribute.body else { continue };
            let runs = attribute.runs(limit).map_err(|why| NotResized(why.to_string()))?;
            let is_main = attribute.type_code == DATA && attribute.name.is_empty();
            if number == BAD_CLUSTERS && attribute.type_code == DATA && attribute.name == BAD {
                let whole = header.lowest_vcn.get() == 0 && runs.last().is_none_or(|run| run.vcn + run.clusters >= limit);
                if !whole {
                    return Err(NotResized("its list of bad clusters is in pieces".into()));
                }
                self.bad_clusters(bytes, index, &runs)?;
                continue;
            }
            let grows = number == CLUSTER_BITMAP && is_main;
            if grows
                && (header.lowest_vcn.get() != 0
                    || header.highest_vcn.get() + 1 != runs.iter().map(|run| run.clusters).sum::<u64>())
            {
                return Err(NotResized("its $Bitmap is in pieces over several records".into()));
            }
            let behind = runs.iter().any(|run| run.lcn.is_some_and(|lcn| lcn + run.clusters > self.new.clusters()));
            if !behind && !grows {
                continue;
            }
            let mut placed = self.placed(&runs)?;
            let more = if grows { self.more_for_bitmap(&runs)? } else { Vec::new() };
            let mut becomes = runs_of(&placed, &more);
            let what =
                || NotResized(format!("record {number} has no room for the places of what has to move: a smaller step may do"));
            if !set_pairs(bytes, index, &encode(&becomes)).ok_or_else(what)? {
                // In one piece it takes the fewest bytes.
                placed = self.placed_whole(&placed).ok_or_else(what)?;
                becomes = runs_of(&placed, &more);
                if !set_pairs(bytes, index, &encode(&becomes)).ok_or_else(what)? {
                    return Err(what());
                }
            }
            if grows {
                self.bitmap_sizes(bytes, index, &becomes)?;
            }
            // Mirror and bitmap are written anew.
            if !(is_main && matches!(number, MIRROR | CLUSTER_BITMAP)) {
                self.carry(&placed, is_main && (number == MFT || record.extends(MFT)))?;
            }
        }
        Ok(())
    }

    /// Where the MFT lies then.
    fn mft_as_it_becomes(&self) -> Vec<Run> {
        let mut runs = Vec::new();
        for run in &self.volume.mft().runs {
            let Some(lcn) = run.lcn else { continue };
            let mut done = 0;
            while done < run.clusters {
                let (to, count) = self.moved_to(lcn + done, run.clusters - done);
                runs.push(Run { vcn: run.vcn + done, lcn: Some(to), clusters: count });
                done += count;
            }
        }
        runs
    }

    /// Where cluster `lcn` goes, and how many of the `most` behind it go with it.
    fn moved_to(&self, lcn: u64, most: u64) -> (u64, u64) {
        let moved = self.moves.iter().find(|(from, _, count)| (*from..from + count).contains(&lcn));
        if let Some((from, to, count)) = moved {
            return (to + lcn - from, most.min(from + count - lcn));
        }
        let next = self.moves.iter().map(|(from, ..)| *from).filter(|from| *from > lcn).min();
        (lcn, next.map_or(most, |next| most.min(next - lcn)))
    }

    /// Runs with places for what lies behind the end.
    fn placed(&mut self, runs: &[Run]) -> Result<Vec<Placed>, NotResized> {
        let mut placed: Vec<Placed> = Vec::new();
        for run in runs {
            let Some(lcn) = run.lcn.filter(|lcn| lcn + run.clusters > self.new.clusters()) else {
                placed.push((*run, None));
                continue;
            };
            let stays = self.new.clusters().saturating_sub(lcn);
            if stays > 0 {
                placed.push((Run { clusters: stays, ..*run }, None));
            }
            let goes = Run { vcn: run.vcn + stays, lcn: Some(lcn + stays), clusters: run.clusters - stays };
            let pieces = self.ground.take_pieces(goes.clusters).ok_or_else(no_room)?;
            placed.push((goes, Some(pieces)));
        }
        Ok(placed)
    }

    /// The same with all of it in one piece; what had a place gives it back.
    fn placed_whole(&mut self, placed: &[Placed]) -> Option<Vec<Placed>> {
        let total = placed.iter().filter(|(run, _)| run.lcn.is_some()).map(|(run, _)| run.clusters).sum();
        placed.iter().filter_map(|(_, pieces)| pieces.as_ref()).flatten().for_each(|piece| self.ground.free(piece.clone()));
        let mut at = self.ground.take_run(total)?;
        let mut whole = Vec::new();
        for (run, pieces) in placed {
            let Some(lcn) = run.lcn else {
                whole.push((*run, None));
                continue;
            };
            if pieces.is_none() {
                self.ground.free(lcn..lcn + run.clusters);
            }
            whole.push((*run, Some(std::iter::once(at..at + run.clusters).collect())));
            at += run.clusters;
        }
        Some(whole)
    }

    /// Clusters that `$Bitmap` needs beside those that it has.
    fn more_for_bitmap(&mut self, runs: &[Run]) -> Result<Vec<std::ops::Range<u64>>, NotResized> {
        let has: u64 = runs.iter().map(|run| run.clusters).sum();
        let wanted = bitmap_bytes(self.new.clusters()).div_ceil(u64::from(self.new.cluster_bytes));
        match wanted.checked_sub(has).filter(|more| *more > 0) {
            Some(more) => self.ground.take_pieces(more).ok_or_else(no_room),
            None => Ok(Vec::new()),
        }
    }

    fn bitmap_sizes(&self, bytes: &mut [u8], index: usize, runs: &[Run]) -> Result<(), NotResized> {
        let clusters: u64 = runs.iter().map(|run| run.clusters).sum();
        let content = bitmap_bytes(self.new.clusters());
        let at = attribute_at(bytes, index).ok_or_else(|| NotResized("the record of $Bitmap is not whole".into()))?.0;
        put(bytes, at + 24, clusters - 1);
        put(bytes, at + 40, clusters * u64::from(self.new.cluster_bytes));
        put(bytes, at + 48, content);
        put(bytes, at + 56, content);
        Ok(())
    }

    /// `$Bad`: as long as the volume, a hole but for its bad clusters.
    fn bad_clusters(&mut self, bytes: &mut [u8], index: usize, runs: &[Run]) -> Result<(), NotResized> {
        let count = self.new.clusters();
        let mut becomes: Vec<Run> = Vec::new();
        let mut next = 0;
        for run in runs.iter().filter(|run| run.lcn.is_some_and(|lcn| lcn < count)) {
            if run.vcn > next {
                becomes.push(Run { vcn: next, lcn: None, clusters: run.vcn - next });
            }
            becomes.push(Run { clusters: run.clusters.min(count - run.vcn), ..*run });
            next = run.vcn + run.clusters;
        }
        if next < count {
            becomes.push(Run { vcn: next, lcn: None, clusters: count - next });
        }
        if set_pairs(bytes, index, &encode(&becomes)) != Some(true) {
            return Err(NotResized("the record of $BadClus has no room for its places".into()));
        }
        let at = attribute_at(bytes, index).ok_or_else(|| NotResized("the record of $BadClus is not whole".into()))?.0;
        put(bytes, at + 24, count - 1);
        let length = count * u64::from(self.new.cluster_bytes);
        put(bytes, at + 40, length);
        put(bytes, at + 48, length);
        let initialized = number(bytes, at + 56).min(length);
        put(bytes, at + 56, initialized);
        Ok(())
    }

    /// Moves what was placed; the MFT as structures, of which records are changed then.
    fn carry(&mut self, placed: &[Placed], is_mft: bool) -> Result<(), NotResized> {
        let cluster = u64::from(self.old.cluster_bytes);
        for (run, pieces) in placed {
            let (Some(lcn), Some(pieces)) = (run.lcn, pieces) else { continue };
            let mut from = lcn;
            for piece in pieces {
                let count = piece.end - piece.start;
                let (at, to, len) = (from * cluster, piece.start * cluster, count * cluster);
                if is_mft {
                    self.sheet.copy("MFT", at, to, len)?;
                    self.moves.push((from, piece.start, count));
                } else {
                    self.sheet.carry(at, to, len)?;
                }
                from += count;
            }
        }
        Ok(())
    }

    /// Writes `bytes` into the file whose runs are `runs`, from byte 0 of it on.
    fn write_through(&mut self, what: &'static str, runs: &[Run], from: u64, bytes: &[u8]) -> Result<(), NotResized> {
        let cluster = u64::from(self.new.cluster_bytes);
        let mut done = 0;
        while done < bytes.len() {
            let at = from + done as u64;
            let vcn = at / cluster;
            let run = runs.iter().find(|run| run.vcn <= vcn && vcn < run.vcn + run.clusters);
            let lost = || NotResized(format!("{what}: byte {at} of it lies nowhere"));
            let (run, lcn) = run.and_then(|run| Some((run, run.lcn?))).ok_or_else(lost)?;
            let place = (lcn + vcn - run.vcn) * cluster + at % cluster;
            let room = (run.vcn + run.clusters) * cluster - at;
            let count = usize::try_from(room).unwrap_or(usize::MAX).min(bytes.len() - done);
            self.sheet.write(what, place, bytes.get(done..done + count).unwrap_or_default())?;
            done += count;
        }
        Ok(())
    }

    fn write_records(&mut self) -> Result<(), NotResized> {
        let runs = std::mem::take(&mut self.mft);
        for Changed { number, mut bytes } in std::mem::take(&mut self.changed) {
            if !redo_fixups(&mut bytes) {
                return Err(NotResized(format!("record {number} has no room for its update sequence")));
            }
            self.write_through("file record", &runs, number * u64::from(self.new.record_bytes), &bytes)?;
        }
        self.mft = runs;
        Ok(())
    }

    /// The record as it becomes.
    fn record_now(&self, number: u64) -> Result<Record, NotResized> {
        let bytes = self.mft_bytes(number * u64::from(self.new.record_bytes), self.new.record_bytes as usize)?;
        Record::parse(bytes, keel_source::ByteOffset(0)).map_err(|why| NotResized(why.to_string()))
    }

    fn mft_bytes(&self, at: u64, len: usize) -> Result<Vec<u8>, NotResized> {
        let cluster = u64::from(self.new.cluster_bytes);
        let mut bytes = Vec::with_capacity(len);
        while bytes.len() < len {
            let here = at + bytes.len() as u64;
            let vcn = here / cluster;
            let run = self.mft.iter().find(|run| run.vcn <= vcn && vcn < run.vcn + run.clusters);
            let place = run.and_then(|run| Some((run.lcn? + vcn - run.vcn) * cluster + here % cluster));
            let place = place.ok_or_else(|| NotResized("the MFT has a hole".into()))?;
            let count = (len - bytes.len()).min(usize::try_from(cluster - here % cluster).unwrap_or(1));
            bytes.extend(self.sheet.read(place, count)?);
        }
        Ok(bytes)
    }

    fn main_runs(&self, number: u64) -> Result<Vec<Run>, NotResized> {
        let record = self.record_now(number)?;
        let data = record.attribute(DATA, "").ok_or_else(|| NotResized(format!("record {number} has no $DATA")))?;
        data.runs(self.new.clusters()).map_err(|why| NotResized(why.to_string()))
    }

    /// The content of `$Bitmap`: bits behind the last cluster are set.
    fn bitmap(&mut self) -> Result<(), NotResized> {
        let count = self.new.clusters();
        let mut bits = self.ground.bytes();
        bits.resize(usize::try_from(bitmap_bytes(count)).unwrap_or(0), 0xFF);
        for bit in count..bitmap_bytes(count) * 8 {
            bits.get_mut((bit / 8) as usize).into_iter().for_each(|byte| *byte |= 1 << (bit % 8));
        }
        let runs = self.main_runs(CLUSTER_BITMAP)?;
        self.write_through("$Bitmap", &runs, 0, &bits)
    }

    /// The mirror of the first records.
    fn mirror(&mut self) -> Result<(), NotResized> {
        let record = self.record_now(MIRROR)?;
        let data = record.attribute(DATA, "").ok_or_else(|| NotResized("$MFTMirr has no content".into()))?;
        let len = data.bytes().min(
            MIRRORED.max(u64::from(self.new.cluster_bytes / self.new.record_bytes.max(1))) * u64::from(self.new.record_bytes),
        );
        let runs = data.runs(self.new.clusters()).map_err(|why| NotResized(why.to_string()))?;
        let bytes = self.mft_bytes(0, usize::try_from(len).unwrap_or(0))?;
        self.write_through("MFT mirror", &runs, 0, &bytes)
    }

    /// Both boot sectors; the former backup is one no more.
    fn boot_sectors(&mut self) -> Result<NtfsGeometry, NotResized> {
        let first = |runs: &[Run]| runs.first().and_then(|run| run.lcn);
        let none = || NotResized("the MFT or its mirror has no first cluster".into());
        let mft_lcn = first(&self.mft).ok_or_else(none)?;
        let mirror_lcn = first(&self.main_runs(MIRROR)?).ok_or_else(none)?;
        let geometry = NtfsGeometry { mft_lcn, mirror_lcn, ..self.new };
        let size = self.new.bytes_per_sector as usize;
        let mut boot = self.sheet.read(0, size)?;
        put(&mut boot, 40, geometry.total_sectors);
        put(&mut boot, 48, mft_lcn);
        put(&mut boot, 56, mirror_lcn);
        let (former, now) = (self.old.backup_at().0, geometry.backup_at().0);
        let is_free = !self.ground.is_taken(former / u64::from(self.new.cluster_bytes));
        if former < now && is_free && self.sheet.read(former, 512)?.get(3..7) == Some(b"NTFS") {
            self.sheet.write("former backup boot sector", former, &vec![0; size])?;
        }
        self.sheet.write("backup boot sector", now, &boot)?;
        self.sheet.write("boot sector", 0, &boot)?;
        Ok(geometry)
    }
}

fn no_room() -> NotResized {
    NotResized("what would have to move finds no room: too little of the volume is free".into())
}

/// Bytes of `$Bitmap` for so many clusters: whole words of eight bytes.
fn bitmap_bytes(clusters: u64) -> u64 {
    clusters.div_ceil(64) * 8
}

fn number(bytes: &[u8], at: usize) -> u64 {
    bytes.get(at..at + 8).and_then(<[u8]>::first_chunk).map_or(0, |bytes| u64::from_le_bytes(*bytes))
}

fn put(bytes: &mut [u8], at: usize, value: u64) {
    bytes.get_mut(at..at + 8).into_iter().for_each(|slot| slot.copy_from_slice(&value.to_le_bytes()));
}

fn small(bytes: &[u8], at: usize) -> usize {
    bytes.get(at..at + 4).and_then(<[u8]>::first_chunk).map_or(0, |bytes| u32::from_le_bytes(*bytes) as usize)
}

fn word(bytes: &[u8], at: usize) -> Option<u16> {
    bytes.get(at..at + 2).and_then(<[u8]>::first_chunk).map(|word| u16::from_le_bytes(*word))
}

/// First byte and length of attribute `index` of a record.
fn attribute_at(bytes: &[u8], index: usize) -> Option<(usize, usize)> {
    let mut at = usize::from(word(bytes, 20)?);
    for _ in 0..index {
        at = at.checked_add(small(bytes, at + 4).max(8))?;
    }
    let length = small(bytes, at + 4);
    (at + length <= bytes.len() && length >= 64).then_some((at, length))
}

/// Sets the mapping pairs of attribute `index` of a record; false where the record has no room for them.
fn set_pairs(bytes: &mut [u8], index: usize, pairs: &[u8]) -> Option<bool> {
    let (at, length) = attribute_at(bytes, index)?;
    let offset = usize::from(word(bytes, at + 32)?);
    let wanted = (offset + pairs.len()).next_multiple_of(8);
    let used = small(bytes, 24);
    let size = bytes.len();
    if wanted > length {
        let more = wanted - length;
        if used + more > size {
            return Some(false);
        }
        let behind = bytes.get(at + length..used)?.to_vec();
        bytes.get_mut(at + wanted..used + more)?.copy_from_slice(&behind);
        bytes.get_mut(at + 4..at + 8)?.copy_from_slice(&u32::try_from(wanted).ok()?.to_le_bytes());
        bytes.get_mut(24..28)?.copy_from_slice(&u32::try_from(used + more).ok()?.to_le_bytes());
    }
    let room = bytes.get_mut(at + offset..at + wanted.max(length))?;
    room.fill(0);
    room.get_mut(..pairs.len())?.copy_from_slice(pairs);
    Some(true)
}

/// Runs as they become, `more` clusters behind them; what follows one another is one.
fn runs_of(placed: &[Placed], more: &[std::ops::Range<u64>]) -> Vec<Run> {
    let mut runs: Vec<Run> = Vec::new();
    let mut push = |lcn: Option<u64>, clusters: u64| {
        let vcn = runs.last().map_or_else(|| placed.first().map_or(0, |(run, _)| run.vcn), |run| run.vcn + run.clusters);
        match runs.last_mut() {
            Some(last) if last.lcn.zip(lcn).is_some_and(|(before, now)| before + last.clusters == now) => {
                last.clusters += clusters;
            }
            _ => runs.push(Run { vcn, lcn, clusters }),
        }
    };
    for (run, pieces) in placed {
        match pieces {
            None => push(run.lcn, run.clusters),
            Some(pieces) => pieces.iter().for_each(|piece| push(Some(piece.start), piece.end - piece.start)),
        }
    }
    more.iter().for_each(|piece| push(Some(piece.start), piece.end - piece.start));
    runs
}
