//! Ground: what the surface holds at a place, as it was seen by whoever read it. A sweep, a copy and a reading of the whole surface look
//! at the same few sectors on their way and add to one map, which is kept for the drive.

use std::path::PathBuf;
use std::sync::Arc;

use keel_format::clue::Marks;
use keel_source::{ByteOffset, ByteRange, Identity, RangeSet, SharedSource};
use serde::{Deserialize, Serialize};

use crate::case;
use crate::error::CoreError;
use crate::reads::latency::Latency;
use crate::whose::{self, Print};

/// Parts of a drive that are told apart.
const CELLS: u64 = 4096;
/// Bytes of the smallest part.
const LEAST_CELL: u64 = EVERY;
/// One sector of 512 bytes is looked at in so many bytes.
const EVERY: u64 = 128 << 10;
/// Bytes of a sector that is looked at.
const SECTOR: usize = 512;
/// Different bytes in a sector that is packed: one of noise holds 221 of the 256 there are, give or take fifteen.
const PACKED: u32 = 192;
/// One sector in so many that holds something makes ground that of what it holds: few drives are full.
const HELD: u32 = 32;
/// One in so many of these that stands for a structure makes it that of structures: most sectors of a table begin none.
const STRUCTURES: u32 = 8;

/// What a sector holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Holds {
    /// Nothing but zeros.
    Zeros,
    /// One byte all over, and that is not zero: what some erase with, and what an empty flash cell reads as.
    Repeated,
    /// Characters: plain text, markup, source, UTF-16.
    Text,
    /// Structured data: tables, programs, documents that are not packed.
    Data,
    /// Compressed or encrypted, by the statistics of its bytes.
    Packed,
    /// A structure of a file system or a table begins here.
    Structure,
}

impl Holds {
    /// All of them, in the order in which they are counted.
    pub const ALL: [Self; 6] = [Self::Zeros, Self::Repeated, Self::Text, Self::Data, Self::Packed, Self::Structure];

    /// In words.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Zeros => "zeros",
            Self::Repeated => "one byte repeated",
            Self::Text => "text",
            Self::Data => "structured data",
            Self::Packed => "compressed or encrypted",
            Self::Structure => "structures of a file system or table",
        }
    }

    /// What one sector holds, by its bytes alone.
    #[must_use]
    pub fn of(sector: &[u8; SECTOR]) -> Self {
        let mut met = [0u64; 4];
        for byte in sector {
            if let Some(word) = met.get_mut(usize::from(byte >> 6)) {
                *word |= 1 << (byte & 63);
            }
        }
        let different: u32 = met.iter().map(|word| word.count_ones()).sum();
        match different {
            1 if met.first().is_some_and(|low| low & 1 == 1) => Self::Zeros,
            1 => Self::Repeated,
            _ if !Marks::of(sector).is_empty() => Self::Structure,
            PACKED.. => Self::Packed,
            _ if is_text(met) || is_wide_text(sector) => Self::Text,
            _ => Self::Data,
        }
    }
}

/// No control characters but those of texts, and not more of the rest than a text has.
fn is_text(met: [u64; 4]) -> bool {
    // Tab, line feed, form feed, carriage return.
    const ALLOWED: u64 = 1 << 9 | 1 << 10 | 1 << 12 | 1 << 13;
    let [low, letters, ..] = met;
    low & 0xFFFF_FFFF & !ALLOWED == 0 && letters.count_ones() + (low >> 32).count_ones() >= 4
}

/// UTF-16 of a script below U+0100, either order: every other byte is zero, the others are a text's.
fn is_wide_text(sector: &[u8; SECTOR]) -> bool {
    let (pairs, _) = sector.as_chunks::<2>();
    let written = |byte: u8| byte >= 0x20 || matches!(byte, b'\t' | b'\n' | b'\r');
    pairs.iter().all(|[first, second]| *second == 0 && written(*first))
        || pairs.iter().all(|[first, second]| *first == 0 && written(*second))
}

/// What of one part of a drive is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
struct Cell {
    /// Sectors by what they hold, in the order of [`Holds::ALL`].
    sectors: [u32; 6],
    /// Whose structures stand in it.
    marks: Marks,
    /// A read failed in it.
    failed: bool,
    /// The longest read, in microseconds; 0 where no time was taken.
    slowest_us: u64,
}

impl Cell {
    fn looked_at(&self) -> u32 {
        self.sectors.iter().fold(0, |sum, count| sum.saturating_add(*count))
    }

    /// Both know of the same sectors: the one that saw more of them stands.
    fn merge(&mut self, other: &Self) {
        if other.looked_at() > self.looked_at() {
            self.sectors = other.sectors;
        }
        self.marks = self.marks.and(other.marks);
        self.failed |= other.failed;
        self.slowest_us = self.slowest_us.max(other.slowest_us);
    }
}

/// What was seen in pieces of a drive, by a thread of its own: [`GroundMap::add`] takes it.
#[derive(Debug, Clone, Default)]
pub struct Looks {
    places: Arc<[u64]>,
    sectors: Vec<(ByteOffset, Holds, Marks)>,
    print: Print,
}

impl Looks {
    /// Looks at the few sectors of `bytes`, which were read at `at`, that stand for all of them.
    pub fn see(&mut self, at: ByteOffset, bytes: &[u8]) {
        let end = at + bytes.len() as u64;
        for index in at.0 / EVERY..end.0.div_ceil(EVERY) {
            // Not always the first of its stretch: files begin there, and what they begin with is not what they hold.
            let sector = index.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 56;
            let place = index * EVERY + sector * SECTOR as u64;
            let inside = place.checked_sub(at.0).and_then(|inside| usize::try_from(inside).ok());
            let found = inside.and_then(|inside| bytes.get(inside..)?.first_chunk::<SECTOR>());
            self.sectors.extend(found.map(|found| {
                let holds = Holds::of(found);
                let marks = if holds == Holds::Structure { Marks::of(found) } else { Marks::default() };
                (ByteOffset(place), holds, marks)
            }));
        }
        self.print.add_read(&self.places, at, bytes);
    }
}

/// What the surface of a drive holds, part by part.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(from = "Stored", into = "Stored")]
pub struct GroundMap {
    bytes: u64,
    cells: Vec<Cell>,
    /// Samples of what was read on the way: the map is of the drive that holds them, and no other read is needed to know it.
    print: Print,
    /// Where these are taken.
    places: Arc<[u64]>,
}

/// What is known of a stretch of ground.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stretch {
    /// What most of it holds, where more than a little of it is not zero; `None` where none of it was looked at.
    pub holds: Option<Holds>,
    /// How much of what was looked at holds that, in percent.
    pub percent: u32,
    /// Whose structures stand in it.
    pub marks: Marks,
    /// A read failed in it.
    pub failed: bool,
    /// A read took more than ten times what is usual for this drive, and more than a twentieth of a second.
    pub late: bool,
    /// The longest read, in microseconds; 0 where no time was taken.
    pub slowest_us: u64,
}

impl GroundMap {
    /// The map of a drive of `bytes` bytes of which nothing was looked at.
    #[must_use]
    pub fn new(bytes: u64) -> Self {
        Self { bytes, places: whose::places_of(bytes).into(), ..Self::default() }
    }

    /// Bytes of one part.
    #[must_use]
    pub fn cell_bytes(&self) -> u64 {
        self.bytes.div_ceil(CELLS).next_multiple_of(512).max(LEAST_CELL)
    }

    /// True where nothing was looked at.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.cells.is_empty()
    }

    fn index(&self, at: ByteOffset) -> usize {
        usize::try_from(at.0 / self.cell_bytes()).unwrap_or(usize::MAX)
    }

    fn cell(&mut self, index: usize) -> Option<&mut Cell> {
        if self.cells.is_empty() {
            let count = usize::try_from(self.bytes.div_ceil(self.cell_bytes())).unwrap_or(0);
            self.cells = vec![Cell::default(); count];
        }
        self.cells.get_mut(index)
    }

    /// What another thread is to look with.
    #[must_use]
    pub fn looks(&self) -> Looks {
        Looks { places: Arc::clone(&self.places), ..Looks::default() }
    }

    /// Adds what was seen.
    pub fn add(&mut self, looks: &Looks) {
        for (at, holds, marks) in &looks.sectors {
            let index = self.index(*at);
            let Some(cell) = self.cell(index) else { continue };
            cell.marks = cell.marks.and(*marks);
            if let Some(count) = cell.sectors.get_mut(*holds as usize) {
                *count = count.saturating_add(1);
            }
        }
        self.print.merge(&looks.print);
    }

    /// Adds what was read at `at`.
    pub fn see(&mut self, at: ByteOffset, bytes: &[u8]) {
        let mut looks = self.looks();
        looks.see(at, bytes);
        self.add(&looks);
    }

    /// Adds a hole: nobody has to read it to know that it is zero.
    pub fn see_hole(&mut self, hole: ByteRange) {
        let width = self.cell_bytes();
        let Some(hole) = hole.overlap(ByteRange::sized(ByteOffset(0), self.bytes)).filter(|hole| !hole.is_empty()) else {
            return;
        };
        for index in self.index(hole.start)..=self.index(ByteOffset(hole.end.0 - 1)) {
            let own = ByteRange::sized(ByteOffset(index as u64 * width), width);
            let sectors = own.overlap(hole).map_or(0, |part| part.len().div_ceil(EVERY));
            if let Some([zeros, ..]) = self.cell(index).map(|cell| &mut cell.sectors) {
                *zeros = zeros.saturating_add(u32::try_from(sectors).unwrap_or(u32::MAX));
            }
        }
    }

    /// Notes that `range` did not read.
    pub fn fail(&mut self, range: ByteRange) {
        self.each_of(range, |cell| cell.failed = true);
    }

    /// Notes how long the read of `range` took.
    pub fn time(&mut self, range: ByteRange, took_us: u64) {
        self.each_of(range, |cell| cell.slowest_us = cell.slowest_us.max(took_us.max(1)));
    }

    fn each_of(&mut self, range: ByteRange, mut change: impl FnMut(&mut Cell)) {
        let Some(range) = range.overlap(ByteRange::sized(ByteOffset(0), self.bytes)).filter(|range| !range.is_empty()) else {
            return;
        };
        for index in self.index(range.start)..=self.index(ByteOffset(range.end.0 - 1)) {
            if let Some(cell) = self.cell(index) {
                change(cell);
            }
        }
    }

    /// Takes over what another map of the same drive knows more of. Doing so twice changes nothing.
    pub fn merge(&mut self, other: &Self) {
        if other.bytes != self.bytes || other.is_empty() {
            return;
        }
        self.print.merge(&other.print);
        if self.is_empty() {
            self.cells.clone_from(&other.cells);
            return;
        }
        self.cells.iter_mut().zip(&other.cells).for_each(|(own, other)| own.merge(other));
    }

    /// What is usual for a part of this drive, in microseconds: the median of the longest reads of all parts. 0 where no time was taken.
    #[must_use]
    pub fn usual_us(&self) -> u64 {
        let mut times: Vec<u64> = self.cells.iter().map(|cell| cell.slowest_us).filter(|time| *time > 0).collect();
        let middle = times.len() / 2;
        if times.is_empty() { 0 } else { *times.select_nth_unstable(middle).1 }
    }

    /// What is known of a stretch, with what is [usual](GroundMap::usual_us) for the drive.
    #[must_use]
    pub fn stretch(&self, range: ByteRange, usual_us: u64) -> Stretch {
        let mut all = Cell::default();
        let last = self.index(ByteOffset(range.end.0.saturating_sub(1)));
        for cell in self.cells.get(self.index(range.start)..self.cells.len().min(last.saturating_add(1))).unwrap_or_default() {
            all.failed |= cell.failed;
            all.marks = all.marks.and(cell.marks);
            all.slowest_us = all.slowest_us.max(cell.slowest_us);
            all.sectors.iter_mut().zip(cell.sectors).for_each(|(sum, count)| *sum = sum.saturating_add(count));
        }
        let looked_at = all.looked_at();
        let [zeros, .., structures] = all.sectors;
        let held = looked_at.saturating_sub(zeros);
        let most_held = Holds::ALL.into_iter().zip(all.sectors).skip(1).max_by_key(|(_, count)| *count);
        let holds = match looked_at {
            0 => None,
            _ if held == 0 || held < looked_at / HELD => Some((Holds::Zeros, zeros)),
            _ if structures > 0 && structures >= held / STRUCTURES => Some((Holds::Structure, structures)),
            _ => most_held,
        };
        Stretch {
            holds: holds.map(|(holds, _)| holds),
            percent: holds
                .map_or(0, |(_, count)| u32::try_from(u64::from(count) * 100 / u64::from(looked_at.max(1))).unwrap_or(0)),
            marks: all.marks,
            failed: all.failed,
            late: all.slowest_us > 0 && Latency::of(all.slowest_us, usual_us) >= Latency::Slow,
            slowest_us: all.slowest_us,
        }
    }
}

/// A map as it is kept: the parts of which something is known, each with its number.
#[derive(Serialize, Deserialize)]
struct Stored {
    bytes: u64,
    cells: Vec<(u32, [u32; 6], bool, u64)>,
    /// Whose structures stand in a part, in words, by its number.
    #[serde(default)]
    marks: Vec<(u32, Vec<String>)>,
    #[serde(default)]
    print: Print,
}

impl From<GroundMap> for Stored {
    fn from(map: GroundMap) -> Self {
        let known = map.cells.iter().zip(0..).filter(|(cell, _)| **cell != Cell::default());
        let cells = known.map(|(cell, at)| (at, cell.sectors, cell.failed, cell.slowest_us)).collect();
        let marked = map.cells.iter().zip(0..).filter(|(cell, _)| !cell.marks.is_empty());
        let words = |cell: &Cell| cell.marks.words().into_iter().map(ToString::to_string).collect();
        let marks = marked.map(|(cell, at)| (at, words(cell))).collect();
        Self { bytes: map.bytes, cells, marks, print: map.print }
    }
}

impl From<Stored> for GroundMap {
    /// Whatever the file says, a map has as many parts as its drive.
    fn from(stored: Stored) -> Self {
        let mut map = Self { print: stored.print, ..Self::new(stored.bytes) };
        for (index, sectors, failed, slowest_us) in stored.cells {
            if let Some(cell) = map.cell(usize::try_from(index).unwrap_or(usize::MAX)) {
                *cell = Cell { sectors, marks: Marks::default(), failed, slowest_us };
            }
        }
        for (index, words) in stored.marks {
            if let Some(cell) = map.cell(usize::try_from(index).unwrap_or(usize::MAX)) {
                cell.marks = Marks::named(words.iter().map(String::as_str));
            }
        }
        map
    }
}

fn path(identity: &Identity) -> PathBuf {
    case::drive_folder(identity).join("ground.json")
}

/// The map that is kept for a drive of this name and length, whoever it is of.
fn kept(identity: &Identity) -> Option<GroundMap> {
    let map: GroundMap = serde_json::from_slice(&std::fs::read(path(identity)).ok()?).ok()?;
    (map.bytes == identity.bytes).then_some(map)
}

/// What earlier runs saw of `source`; an empty map where none did, or the drive holds something else now.
#[must_use]
pub fn known(source: &SharedSource) -> GroundMap {
    let own = kept(source.identity()).filter(|map| map.print.may_be(source, &RangeSet::default()));
    own.unwrap_or_else(|| GroundMap::new(source.len()))
}

/// Keeps what was seen of `source`, beside what earlier runs saw of it. The drive is asked nothing: who it is, what was read of it says.
///
/// # Errors
/// [`CoreError::File`] when it cannot be written; [`crate::Refusal::OwnMedium`] where it would lie on the drive itself.
pub fn keep(source: &SharedSource, map: &GroundMap) -> Result<(), CoreError> {
    if map.is_empty() {
        return Ok(());
    }
    let path = path(source.identity());
    whose::not_on_its_own_medium(source.as_ref(), &path)?;
    let mut all = map.clone();
    kept(source.identity()).iter().filter(|former| former.print.may_be_that_of(&map.print)).for_each(|former| all.merge(former));
    case::write_whole(&path, &serde_json::to_vec(&all).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU64, Ordering};

    use keel_source::{MemorySource, ReadError, Source};
    use proptest::prelude::*;

    use super::*;

    const MIB: u64 = 1 << 20;

    fn noise(seed: u64, len: usize) -> Vec<u8> {
        let mut state = seed;
        let mut next = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 56) as u8
        };
        (0..len).map(|_| next()).collect()
    }

    fn sector(bytes: &[u8]) -> [u8; SECTOR] {
        let mut sector = [0; SECTOR];
        sector.iter_mut().zip(bytes.iter().cycle()).for_each(|(own, byte)| *own = *byte);
        sector
    }

    fn sector_at(at: u64, holds: Holds) -> Looks {
        Looks { sectors: vec![(ByteOffset(at), holds, Marks::default())], ..Looks::default() }
    }

    fn all_of(map: &GroundMap) -> Stretch {
        map.stretch(ByteRange::sized(ByteOffset(0), u64::MAX), map.usual_us())
    }

    #[test]
    fn a_sector_is_told_by_its_bytes_alone() {
        let wide: Vec<u8> = "The ferry leaves Brackwater at seven. ".encode_utf16().flat_map(u16::to_le_bytes).collect();
        let table: Vec<u8> = (0u32..128).flat_map(|at| (at * 3).to_le_bytes()).collect();
        let mut boot = sector(&noise(3, SECTOR));
        boot[510..].copy_from_slice(&[0x55, 0xAA]);
        for (bytes, holds) in [
            (sector(&[0]), Holds::Zeros),
            (sector(&[0xFF]), Holds::Repeated),
            (sector(b"06:40  Brackwater - Sallow Point, 14 cars\r\n"), Holds::Text),
            (sector("Überfahrt nach Sällö: sjötrafik ".as_bytes()), Holds::Text),
            (sector(&wide), Holds::Text),
            (sector(&table), Holds::Data),
            (sector(&noise(1, SECTOR)), Holds::Packed),
            (boot, Holds::Structure),
            (sector(b"FILE0\0\x03\0\0\0\0\0"), Holds::Structure),
        ] {
            assert_eq!(Holds::of(&bytes), holds, "{:?}", &bytes[..16]);
        }
    }

    #[test]
    fn what_is_packed_and_what_is_text_is_told_from_real_ones() {
        let (packed, tables) =
            (noise(7, 256 * SECTOR), noise(9, 256 * SECTOR).iter().map(|byte| byte & 0x3F).collect::<Vec<_>>());
        let share = |bytes: &[u8], wanted: Holds| {
            let sectors = bytes.as_chunks::<SECTOR>().0;
            sectors.iter().filter(|sector| Holds::of(sector) == wanted).count() * 100 / sectors.len()
        };
        assert!(share(&packed, Holds::Packed) >= 99 && share(&tables, Holds::Data) >= 99);
    }

    #[test]
    fn whoever_reads_adds_the_same_and_in_any_pieces() {
        let bytes = [vec![0; 2 * MIB as usize], noise(5, 3 * MIB as usize), vec![b'a'; MIB as usize], vec![0x20; 1000]].concat();
        let mut whole = GroundMap::new(bytes.len() as u64);
        whole.see(ByteOffset(0), &bytes);
        for piece in [512, 4096, 65_536, 1 << 20, 3 * 512 * 7] {
            let mut map = GroundMap::new(bytes.len() as u64);
            bytes.chunks(piece).enumerate().for_each(|(at, part)| map.see(ByteOffset((at * piece) as u64), part));
            assert_eq!(map.cells, whole.cells, "in pieces of {piece}");
            // Samples are of whole blocks.
            assert!(piece % 4096 != 0 || map.print == whole.print, "in pieces of {piece}");
        }
        let mut twice = whole.clone();
        twice.merge(&whole);
        assert_eq!(twice, whole, "what is known is not counted again");
        let holds = |start: u64, end: u64| whole.stretch(ByteRange::new(ByteOffset(start), ByteOffset(end)), 0).holds;
        assert_eq!((holds(0, 2 * MIB), holds(2 * MIB, 5 * MIB)), (Some(Holds::Zeros), Some(Holds::Packed)));
        assert_eq!(holds(5 * MIB, 6 * MIB), Some(Holds::Repeated));
    }

    /// A drive that counts what is asked of it.
    struct Counted {
        below: MemorySource,
        reads: AtomicU64,
    }

    impl Source for Counted {
        fn identity(&self) -> &Identity {
            self.below.identity()
        }

        fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
            self.reads.fetch_add(1, Ordering::SeqCst);
            self.below.read_at(at, buf)
        }
    }

    #[test]
    fn a_map_is_of_the_drive_that_holds_what_was_read_and_keeping_it_asks_nothing() {
        let drive = |seed: u64| {
            let below = MemorySource::new("ground-card", noise(seed, 4 * MIB as usize), 512);
            Arc::new(Counted { below, reads: AtomicU64::new(0) })
        };
        let (one, other) = (drive(1), drive(2));
        let seen = |drive: &Arc<Counted>, from: u64| {
            let mut map = GroundMap::new(4 * MIB);
            let mut bytes = vec![0; (4 * MIB - from) as usize];
            drive.below.read_at(ByteOffset(from), &mut bytes).unwrap();
            map.see(ByteOffset(from), &bytes);
            map
        };
        let (first, second): (SharedSource, SharedSource) = (Arc::<Counted>::clone(&one), Arc::<Counted>::clone(&other));
        let whole = seen(&one, 0);
        keep(&first, &whole).unwrap();
        assert_eq!(one.reads.load(Ordering::SeqCst), 0);
        assert_eq!(all_of(&known(&first)), all_of(&whole));
        assert!(known(&second).is_empty(), "another card in the same reader");
        // What was seen of a part comes beside what is known; what another one holds takes its place.
        keep(&first, &seen(&one, 3 * MIB)).unwrap();
        assert_eq!(all_of(&known(&first)), all_of(&whole));
        keep(&second, &seen(&other, 0)).unwrap();
        assert!(known(&first).is_empty() && !known(&second).is_empty());
        assert!(other.reads.load(Ordering::SeqCst) > 0, "only who opens it compares");
    }

    #[test]
    fn holes_are_zeros_and_failed_and_late_places_are_marked_where_they_lie() {
        let mut map = GroundMap::new(1 << 40);
        let part = map.cell_bytes();
        map.see_hole(ByteRange::new(ByteOffset(0), ByteOffset(3 * part)));
        map.fail(ByteRange::sized(ByteOffset(5 * part + 512), 512));
        (10..20).for_each(|at| map.time(ByteRange::sized(ByteOffset(at * part), MIB), 9000));
        map.time(ByteRange::sized(ByteOffset(20 * part), MIB), 300_000);
        let usual = map.usual_us();
        assert_eq!(usual, 9000);
        let at = |index: u64| map.stretch(ByteRange::sized(ByteOffset(index * part), part), usual);
        assert_eq!((at(1).holds, at(1).percent, at(4).holds), (Some(Holds::Zeros), 100, None));
        assert_eq!([4, 5, 6].map(|index| at(index).failed), [false, true, false]);
        assert_eq!([12, 20, 21].map(|index| at(index).late), [false, true, false]);
        assert!(all_of(&map).failed && all_of(&map).late);
        assert_eq!(GroundMap::new(0).stretch(ByteRange::new(ByteOffset(0), ByteOffset(0)), 0).holds, None);
    }

    #[test]
    fn ground_is_zeros_where_hardly_anything_else_is_and_else_what_most_of_the_rest_is() {
        for (texts, datas, holds) in
            [(0, 0, Holds::Zeros), (10, 5, Holds::Zeros), (20, 5, Holds::Text), (5, 20, Holds::Data), (400, 100, Holds::Text)]
        {
            let mut map = GroundMap::new(64 * MIB);
            for index in 0..512u64 {
                let own = match index {
                    index if index < texts => Holds::Text,
                    index if index < texts + datas => Holds::Data,
                    _ => Holds::Zeros,
                };
                map.add(&sector_at(index * EVERY, own));
            }
            assert_eq!(all_of(&map).holds, Some(holds), "{texts} {datas}");
        }
    }

    #[test]
    fn few_sectors_of_structures_make_ground_theirs() {
        let mut map = GroundMap::new(64 * MIB);
        for index in 0..512u64 {
            let holds = if index % 7 == 0 { Holds::Structure } else { Holds::Data };
            map.add(&sector_at(index * EVERY, holds));
        }
        assert_eq!(all_of(&map).holds, Some(Holds::Structure));
        map.add(&sector_at(u64::MAX, Holds::Text));
        assert_eq!(all_of(&map).holds, Some(Holds::Structure), "what lies behind the end is nobody's");
    }

    proptest! {
        #[test]
        fn a_kept_map_comes_back_and_a_damaged_one_harms_nothing(seed in any::<u64>(), len in 0u64..6, cut in 0usize..4000) {
            let bytes = noise(seed, (len * MIB / 8) as usize);
            let mut map = GroundMap::new(bytes.len() as u64);
            map.see(ByteOffset(0), &bytes);
            map.fail(ByteRange::sized(ByteOffset(seed % (len + 1) * MIB / 8), 512));
            let text = serde_json::to_string(&map).unwrap();
            let back: GroundMap = serde_json::from_str(&text).unwrap();
            prop_assert_eq!(all_of(&back), all_of(&map));
            let _ = serde_json::from_str::<GroundMap>(&text[..cut.min(text.len())]);
            let wild: GroundMap = serde_json::from_str("{\"bytes\":1000,\"cells\":[[4294967295,[9,9,9,9,9,9],true,7]]}").unwrap();
            prop_assert_eq!(all_of(&wild).holds, None);
        }
    }
}
