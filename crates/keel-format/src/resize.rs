//! Volumes whose length changes: their structures fitted to it, their content moved where its ground is given up. Each format has its own
//! in its room `resize`; nothing is written here.

use std::collections::BTreeMap;
use std::ops::Range;

use keel_source::{ByteOffset, Payload, SharedSource, size_decimal};

use crate::Geometry;
use crate::make::Part;

/// Content that a plan moves at the most, in bytes: it is held, and so is what stands where it goes.
const MOST_MOVED: u64 = 1 << 30;
/// Structures that a plan changes at the most, in bytes.
const MOST_CHANGED: u64 = 512 << 20;
/// Bytes of a block of a sheet: as large as the largest sector.
const BLOCK: u64 = 4096;

/// Fits volumes of a kind to another length.
#[derive(Debug, Clone, Copy)]
pub struct Resizer {
    /// The fewest bytes that the volume in a window can be made to take.
    pub least: fn(&SharedSource, &Geometry) -> Result<u64, NotResized>,
    /// The volume in a window, with at most so many bytes.
    pub to: fn(&SharedSource, &Geometry, u64) -> Result<Resized, NotResized>,
}

/// A volume of another length.
#[derive(Debug, Clone)]
pub struct Resized {
    /// How it is looked into then.
    pub geometry: Geometry,
    /// What changes, ascending and without overlap, in whole sectors.
    pub parts: Vec<Part>,
    /// Bytes of content that move.
    pub moved: u64,
}

/// Why a volume cannot be fitted, as a sentence.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct NotResized(pub String);

impl NotResized {
    /// So much of it is in use that it does not become that small.
    pub(crate) fn too_small(bytes: u64, least: u64) -> Self {
        Self(format!(
            "it does not become {} small: {} is the least that its content and its kind allow",
            size_decimal(bytes),
            size_decimal(least)
        ))
    }
}

impl Geometry {
    /// The fewest bytes that the volume in `window` can be made to take.
    ///
    /// # Errors
    /// [`NotResized`] for kinds whose volumes are not fitted here, and where its structures do not allow it.
    pub fn least(&self, window: &SharedSource) -> Result<u64, NotResized> {
        (self.resizer()?.least)(window, self)
    }

    /// The volume in `window` with at most `bytes` bytes, which have to be there.
    ///
    /// # Errors
    /// As [`Geometry::least`].
    pub fn resized(&self, window: &SharedSource, bytes: u64) -> Result<Resized, NotResized> {
        if bytes > window.len() {
            return Err(NotResized(format!("{} bytes are wanted, and {} are there", bytes, window.len())));
        }
        (self.resizer()?.to)(window, self, bytes)
    }

    fn resizer(&self) -> Result<Resizer, NotResized> {
        let facts = self.kind().facts();
        facts.resize.ok_or_else(|| NotResized(format!("a volume of {} is not made longer or shorter here", facts.word)))
    }
}

/// A block that was written to.
struct Block {
    bytes: Vec<u8>,
    what: &'static str,
}

/// The volume as it becomes: what is written to the sheet is read from it, everything else from the source.
pub(crate) struct Sheet<'a> {
    source: &'a SharedSource,
    sector: u64,
    blocks: BTreeMap<u64, Block>,
    /// Content that goes elsewhere: from, to, bytes.
    carried: Vec<(u64, u64, u64)>,
    /// Ground that becomes zeros.
    zeros: Vec<Part>,
    moved: u64,
}

impl<'a> Sheet<'a> {
    /// A clean sheet over the volume in `source`.
    pub(crate) fn new(source: &'a SharedSource) -> Self {
        let sector = source.sector_size().bytes().clamp(512, BLOCK);
        Self { source, sector, blocks: BTreeMap::new(), carried: Vec::new(), zeros: Vec::new(), moved: 0 }
    }

    fn stands_at(&self, at: u64, len: usize) -> Result<Vec<u8>, NotResized> {
        let mut bytes = vec![0; len];
        // Behind the end of the window nothing stands.
        let there = usize::try_from(self.source.len().saturating_sub(at)).unwrap_or(usize::MAX).min(len);
        let read = bytes.get_mut(..there).map_or(Ok(()), |there| self.source.read_at(ByteOffset(at), there));
        read.map_err(|why| NotResized(format!("what stands at byte {at} of the volume cannot be read ({why})")))?;
        Ok(bytes)
    }

    /// `len` bytes from byte `at` of the volume on, as they become.
    pub(crate) fn read(&self, at: u64, len: usize) -> Result<Vec<u8>, NotResized> {
        let mut bytes = self.stands_at(at, len)?;
        let end = at + len as u64;
        for (start, block) in self.blocks.range(at / BLOCK * BLOCK..end) {
            let (from, to) = (at.max(*start), end.min(start + BLOCK));
            let held = block.bytes.get((from - start) as usize..(to - start) as usize);
            let slot = bytes.get_mut((from - at) as usize..(to - at) as usize);
            if let (Some(held), Some(slot)) = (held, slot) {
                slot.copy_from_slice(held);
            }
        }
        Ok(bytes)
    }

    /// Writes `bytes` at byte `at` of the volume; `what` names the structure.
    pub(crate) fn write(&mut self, what: &'static str, at: u64, bytes: &[u8]) -> Result<(), NotResized> {
        let mut done = 0;
        while done < bytes.len() {
            let here = at + done as u64;
            let (start, from) = (here / BLOCK * BLOCK, (here % BLOCK) as usize);
            let count = (BLOCK as usize - from).min(bytes.len() - done);
            if !self.blocks.contains_key(&start) {
                // What stands as it shall is not held.
                if self.stands_at(here, count)?.as_slice() == bytes.get(done..done + count).unwrap_or_default() {
                    done += count;
                    continue;
                }
                if (self.blocks.len() as u64 + 1) * BLOCK > MOST_CHANGED {
                    let most = size_decimal(MOST_CHANGED);
                    return Err(NotResized(format!("its structures change in more than {most}: more than a plan holds")));
                }
                let held = self.stands_at(start, BLOCK as usize)?;
                self.blocks.insert(start, Block { bytes: held, what });
            }
            let Some(block) = self.blocks.get_mut(&start) else { break };
            block.what = what;
            if let (Some(slot), Some(new)) = (block.bytes.get_mut(from..from + count), bytes.get(done..done + count)) {
                slot.copy_from_slice(new);
            }
            done += count;
        }
        Ok(())
    }

    /// Structures that go elsewhere, to be changed there.
    pub(crate) fn copy(&mut self, what: &'static str, from: u64, to: u64, len: u64) -> Result<(), NotResized> {
        self.weigh(len)?;
        let mut done = 0;
        while done < len {
            let count = (len - done).min(1 << 20);
            let bytes = self.read(from + done, usize::try_from(count).unwrap_or(0))?;
            self.write(what, to + done, &bytes)?;
            done += count;
        }
        Ok(())
    }

    /// Content that goes elsewhere as it is.
    pub(crate) fn carry(&mut self, from: u64, to: u64, len: u64) -> Result<(), NotResized> {
        self.weigh(len)?;
        match self.carried.last_mut() {
            Some(last) if last.0 + last.2 == from && last.1 + last.2 == to => last.2 += len,
            _ => self.carried.push((from, to, len)),
        }
        Ok(())
    }

    /// `len` bytes from byte `at` on become zeros; nothing is written to them on this sheet.
    pub(crate) fn zero(&mut self, what: &'static str, at: u64, len: u64) {
        self.zeros.push(Part::new(what, at, Payload::zeros(len)));
    }

    fn weigh(&mut self, len: u64) -> Result<(), NotResized> {
        self.moved += len;
        if self.moved > MOST_MOVED {
            let most = size_decimal(MOST_MOVED);
            return Err(NotResized(format!(
                "more than {most} of content would have to move, which is more than a plan holds: a smaller step may do"
            )));
        }
        Ok(())
    }

    /// Everything that changes.
    pub(crate) fn parts(self, geometry: Geometry) -> Result<Resized, NotResized> {
        let mut parts = self.zeros.clone();
        for (from, to, len) in &self.carried {
            let mut done = 0;
            while done < *len {
                let count = (len - done).min(8 << 20);
                let bytes = self.stands_at(from + done, usize::try_from(count).unwrap_or(0))?;
                parts.push(Part::copy("content that moves", to + done, bytes));
                done += count;
            }
        }
        let mut run: Option<(&'static str, u64, Vec<u8>)> = None;
        let sector = usize::try_from(self.sector).unwrap_or(512);
        for (start, block) in &self.blocks {
            let stands = self.stands_at(*start, BLOCK as usize)?;
            let sectors = (*start..).step_by(sector).zip(block.bytes.chunks(sector).zip(stands.chunks(sector)));
            for (at, (new, old)) in sectors {
                let follows =
                    run.as_ref().is_some_and(|(what, from, bytes)| *what == block.what && from + bytes.len() as u64 == at);
                if new == old || at >= self.source.len() {
                    continue;
                }
                if !follows {
                    parts.extend(run.take().map(|(what, at, bytes)| Part::new(what, at, bytes)));
                }
                run.get_or_insert_with(|| (block.what, at, Vec::new())).2.extend_from_slice(new);
            }
        }
        parts.extend(run.map(|(what, at, bytes)| Part::new(what, at, bytes)));
        parts.sort_by_key(|part| part.at);
        Ok(Resized { geometry, parts, moved: self.moved })
    }
}

/// The ground of a volume in units, as it becomes: which are taken.
pub(crate) struct Units {
    bits: Vec<u64>,
    count: u64,
    /// Below it every unit is taken.
    first_free: u64,
    /// For so many units that follow one another: below it there are none. What was looked for once is not looked for again.
    none_below: BTreeMap<u64, u64>,
}

impl Units {
    /// `count` units, all free.
    pub(crate) fn new(count: u64) -> Self {
        Self {
            bits: vec![0; usize::try_from(count.div_ceil(64)).unwrap_or(0)],
            count,
            first_free: 0,
            none_below: BTreeMap::new(),
        }
    }

    pub(crate) fn is_taken(&self, unit: u64) -> bool {
        let word = usize::try_from(unit / 64).ok().and_then(|index| self.bits.get(index));
        unit >= self.count || word.is_none_or(|word| word >> (unit % 64) & 1 == 1)
    }

    pub(crate) fn take(&mut self, units: Range<u64>) {
        for unit in units.start..units.end.min(self.count) {
            if let Some(word) = usize::try_from(unit / 64).ok().and_then(|index| self.bits.get_mut(index)) {
                *word |= 1 << (unit % 64);
            }
        }
    }

    pub(crate) fn free(&mut self, units: Range<u64>) {
        self.first_free = self.first_free.min(units.start);
        self.none_below.clear();
        for unit in units.start..units.end.min(self.count) {
            if let Some(word) = usize::try_from(unit / 64).ok().and_then(|index| self.bits.get_mut(index)) {
                *word &= !(1 << (unit % 64));
            }
        }
    }

    /// How many are taken.
    pub(crate) fn taken(&self) -> u64 {
        self.bits.iter().map(|word| u64::from(word.count_ones())).sum()
    }

    /// The first free unit from `unit` on.
    fn next_free(&self, mut unit: u64) -> Option<u64> {
        while unit < self.count {
            let word = self.bits.get(usize::try_from(unit / 64).ok()?)? | ((1u64 << (unit % 64)) - 1);
            if word != u64::MAX {
                let found = unit / 64 * 64 + u64::from(word.trailing_ones());
                return (found < self.count).then_some(found);
            }
            unit = (unit / 64 + 1) * 64;
        }
        None
    }

    /// Free units from `from` on, up to `most`, that follow one another.
    fn run_at(&self, from: u64, most: u64) -> u64 {
        (from..self.count.min(from.saturating_add(most))).take_while(|unit| !self.is_taken(*unit)).count() as u64
    }

    /// Takes the first `wanted` free units that follow one another.
    pub(crate) fn take_run(&mut self, wanted: u64) -> Option<u64> {
        self.first_free = self.next_free(self.first_free).unwrap_or(self.count);
        let known = self.none_below.range(..=wanted).map(|(_, at)| *at).max().unwrap_or(0);
        let found = self.run_from(known.max(self.first_free), self.count, wanted);
        self.none_below.insert(wanted, found.unwrap_or(self.count));
        let at = found?;
        self.take(at..at + wanted);
        Some(at)
    }

    /// The first of `wanted` free units that follow one another, from `at` on and before `end`.
    fn run_from(&self, mut at: u64, end: u64, wanted: u64) -> Option<u64> {
        loop {
            at = self.next_free(at).filter(|at| at.saturating_add(wanted) <= end)?;
            let run = self.run_at(at, wanted);
            if run == wanted {
                return Some(at);
            }
            at += run.max(1);
        }
    }

    /// A bit for each unit, the first one lowest; those behind the last unit are zero.
    pub(crate) fn bytes(&self) -> Vec<u8> {
        self.bits.iter().flat_map(|word| word.to_le_bytes()).collect()
    }

    /// Takes the first `wanted` free units within `range` that follow one another.
    pub(crate) fn take_run_in(&mut self, range: Range<u64>, wanted: u64) -> Option<u64> {
        let at = self.run_from(range.start, range.end, wanted)?;
        self.take(at..at + wanted);
        Some(at)
    }

    /// Takes `wanted` free units: in one piece where there is one, else in as many as it takes. None where there are too few.
    pub(crate) fn take_pieces(&mut self, wanted: u64) -> Option<Vec<Range<u64>>> {
        if let Some(at) = self.take_run(wanted) {
            return Some(std::iter::once(at..at + wanted).collect());
        }
        let (mut pieces, mut left, mut at) = (Vec::new(), wanted, self.first_free);
        while left > 0 {
            at = self.next_free(at)?;
            let run = self.run_at(at, left);
            self.take(at..at + run);
            pieces.push(at..at + run);
            (left, at) = (left - run, at + run);
        }
        Some(pieces)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use keel_source::MemorySource;

    use super::*;

    fn any_geometry() -> Geometry {
        let boot = crate::VolumeKind::Fat16.make(&crate::make::Wanted {
            bytes: 32 << 20,
            sector: keel_source::SectorSize(512),
            hidden_sectors: 0,
            label: String::new(),
            cluster_bytes: None,
            serial: 1,
            journal: false,
            made_at: 0,
        });
        boot.unwrap().geometry
    }

    #[test]
    fn what_is_written_is_read_back_and_only_what_differs_becomes_a_part() {
        let stands: Vec<u8> = (0..64_u32 << 10).map(|at| (at / 512) as u8).collect();
        let source: SharedSource = Arc::new(MemorySource::new("quay", stands.clone(), 512));
        let mut sheet = Sheet::new(&source);
        sheet.write("one", 1000, &[0xAA; 100]).unwrap();
        sheet.write("two", 8192, &stands[8192..8192 + 4096]).unwrap();
        sheet.copy("three", 1000, 20_000, 100).unwrap();
        sheet.carry(30_720, 40_960, 1024).unwrap();
        assert_eq!(sheet.read(999, 3).unwrap(), [1, 0xAA, 0xAA]);
        assert_eq!(sheet.read(20_000, 100).unwrap(), [0xAA; 100]);
        assert_eq!(sheet.read(65_530, 10).unwrap()[6..], [0; 4], "nothing stands behind the end");
        let resized = sheet.parts(any_geometry()).unwrap();
        let parts: Vec<(&str, u64, u64)> = resized.parts.iter().map(|part| (part.what, part.at.0, part.bytes.len())).collect();
        assert_eq!(parts, [("one", 512, 1024), ("three", 19_968, 512), ("content that moves", 40_960, 1024)]);
        assert_eq!(resized.parts[2].bytes.held(), Some(&stands[30_720..31_744]));
        assert_eq!(resized.moved, 1124);
    }

    #[test]
    fn more_than_a_plan_holds_is_refused() {
        let source: SharedSource = Arc::new(MemorySource::new("quay", vec![0; 4096], 512));
        let mut sheet = Sheet::new(&source);
        assert!(sheet.carry(0, 1 << 40, MOST_MOVED).is_ok());
        assert!(sheet.carry(0, 1 << 41, 512).unwrap_err().0.contains("more than a plan holds"));
    }

    #[test]
    fn units_are_taken_in_runs_and_in_pieces_where_there_is_no_run() {
        let mut units = Units::new(200);
        units.take(0..10);
        units.take(20..130);
        assert_eq!((units.taken(), units.is_taken(9), units.is_taken(10), units.is_taken(200)), (120, true, false, true));
        assert_eq!(units.take_run(11), Some(130));
        assert_eq!(units.take_run(10), Some(10));
        assert_eq!(units.take_run(100), None);
        units.free(3..5);
        assert_eq!(units.take_pieces(4).and_then(|pieces| pieces.first().cloned()), Some(141..145));
        assert_eq!(units.take_pieces(57), Some(vec![3..5, 145..200]));
        assert_eq!((units.take_pieces(1), units.taken()), (None, 200));
        units.free(64..66);
        assert_eq!((units.take_run_in(0..65, 2), units.take_run_in(0..66, 2)), (None, Some(64)));
        units.free(199..200);
        assert_eq!((units.bytes().len(), units.bytes()[24], units.bytes()[31]), (32, 0x7F, 0));
    }
}
