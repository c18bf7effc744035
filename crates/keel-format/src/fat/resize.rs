//! A FAT volume of another length. Clusters stay where they are as far as their ground stays; where longer FATs take ground at the front,
//! all of them are numbered anew, and every folder entry with them.

use keel_source::SharedSource;
use zerocopy::FromBytes;

use super::layout::{ATTR_DIRECTORY, ATTR_LONG_NAME, LEAST_FAT16, LEAST_FAT32, RawDirEntry};
use super::{FatGeometry, FatTable};
use crate::relocate::{Entries, FIRST, Relocation, runs};
use crate::resize::{NotResized, Resized, Sheet};
use crate::{Geometry, VolumeKind};

/// Most clusters of each kind.
const MOST_FAT12: u64 = LEAST_FAT16 - 1;
const MOST_FAT16: u64 = LEAST_FAT32 - 1;
const MOST_FAT32: u64 = 0x0FFF_FFF4;
/// The largest FAT that is held, in bytes.
const MOST_HELD: u64 = 512 << 20;
/// First entries that mean something else than a next cluster, widened to 28 bits.
const BAD: u32 = 0x0FFF_FFF7;

fn geometry(any: &Geometry) -> Result<FatGeometry, NotResized> {
    match any {
        Geometry::Fat(fat) => Ok(*fat),
        _ => Err(NotResized("it is no FAT".into())),
    }
}

/// What kinds allow, in clusters.
fn allowed(kind: VolumeKind) -> (u64, u64) {
    match kind {
        VolumeKind::Fat12 => (1, MOST_FAT12),
        VolumeKind::Fat16 => (LEAST_FAT16, MOST_FAT16),
        _ => (LEAST_FAT32, MOST_FAT32),
    }
}

/// The fewest bytes that the volume in `window` can be made to take.
pub(super) fn least(window: &SharedSource, any: &Geometry) -> Result<u64, NotResized> {
    let fat = geometry(any)?;
    let table = Table::read(window, &fat)?;
    let used = table.clusters().filter(|cluster| table.is_used(*cluster)).count() as u64;
    let sectors = fat.data_sector() + used.max(allowed(fat.kind).0) * u64::from(fat.sectors_per_cluster);
    Ok(sectors * u64::from(fat.bytes_per_sector))
}

/// The volume in `window` with at most `bytes` bytes.
pub(super) fn to(window: &SharedSource, any: &Geometry, bytes: u64) -> Result<Resized, NotResized> {
    let fat = geometry(any)?;
    let table = Table::read(window, &fat)?;
    let new = fitted(&fat, bytes)?;
    let shift = (new.data_sector() - fat.data_sector()) / u64::from(fat.sectors_per_cluster);
    let (before, count) = (narrow(fat.cluster_count())?, narrow(new.cluster_count())?);
    let mut moves = Relocation::new(before, count, narrow(shift)?, &|cluster| table.is_used(cluster));
    let gone: Vec<u32> = table.clusters().filter(|cluster| table.is_used(*cluster) && moves.has_to_go(*cluster)).collect();
    let bad = |cluster: &u32| table.get(*cluster) == BAD;
    if gone.iter().any(|cluster| bad(cluster) && u64::from(*cluster) < shift + u64::from(FIRST)) {
        return Err(NotResized("a cluster that is marked bad lies where the longer FAT would stand".into()));
    }
    let room = moves.place(&runs(gone.iter().copied().filter(|cluster| !bad(cluster))));
    room.map_err(|no_room| least(window, any).map_or(no_room, |least| NotResized::too_small(bytes, least)))?;
    let mut work = Work { fat: &fat, new: &new, table: &table, moves: &moves, sheet: Sheet::new(window) };
    work.folders(&gone)?;
    work.fats()?;
    work.boot_sectors()?;
    let root_cluster = if fat.kind == VolumeKind::Fat32 { moves.of(fat.root_cluster) } else { 0 };
    work.sheet.parts(Geometry::Fat(FatGeometry { root_cluster, ..new }))
}

fn narrow(count: u64) -> Result<u32, NotResized> {
    u32::try_from(count).map_err(|_| NotResized(format!("{count} clusters are more than a FAT counts")))
}

/// The geometry of the volume in `bytes` bytes: clusters and root as they are, longer FATs where they are wanted.
fn fitted(fat: &FatGeometry, bytes: u64) -> Result<FatGeometry, NotResized> {
    let (least, most) = allowed(fat.kind);
    let sector = u64::from(fat.bytes_per_sector);
    let per_cluster = u64::from(fat.sectors_per_cluster);
    let mut new = *fat;
    new.total_sectors = (bytes / sector).min(u64::from(u32::MAX));
    // A longer FAT takes ground from the clusters, which then need less of it: until it stays.
    loop {
        let clusters = new.cluster_count().min(most);
        if (clusters + 2) * new.entry_bits() <= u64::from(new.fat_sectors) * sector * 8 {
            break;
        }
        let wanted = ((clusters + 2) * new.entry_bits()).div_ceil(8).div_ceil(sector);
        new.fat_sectors = u32::try_from(wanted).map_err(|_| NotResized("its FAT would be longer than one can be".into()))?;
        // Clusters stay on their borders: what lacks to a whole one is reserved.
        let data = u64::from(fat.reserved_sectors) + u64::from(new.fats) * wanted + new.root_sectors();
        let gap = (data - fat.data_sector()).next_multiple_of(per_cluster) - (data - fat.data_sector());
        let reserved = u64::from(fat.reserved_sectors) + gap;
        new.reserved_sectors = u32::try_from(reserved)
            .ok()
            .filter(|count| *count <= 0xFFFF)
            .ok_or_else(|| NotResized("so many sectors before its FATs are more than its boot sector counts".into()))?;
        if new.data_sector() >= new.total_sectors {
            return Err(NotResized("its FATs alone would be longer than the volume".into()));
        }
    }
    // Behind the last cluster that its kind counts, nothing is of use.
    let last = new.data_sector() + most * per_cluster;
    new.total_sectors = new.total_sectors.min(last + per_cluster - 1);
    let clusters = new.cluster_count();
    if clusters < least {
        let bytes_least = (new.data_sector() + least * per_cluster) * sector;
        return Err(NotResized::too_small(bytes, bytes_least));
    }
    if bytes > fat.volume_bytes() && new.total_sectors <= fat.total_sectors {
        let kind = fat.kind.word();
        return Err(NotResized(format!(
            "it does not become longer: a {kind} counts at most {most} clusters, and it has {}; with larger clusters it would have to be \
             made anew",
            fat.cluster_count()
        )));
    }
    Ok(new)
}

/// The FAT that counts, held whole.
struct Table {
    entries: Entries,
    bits: u64,
    clusters: u32,
}

impl Table {
    fn read(window: &SharedSource, fat: &FatGeometry) -> Result<Self, NotResized> {
        if fat.fat_bytes() > MOST_HELD {
            return Err(NotResized(format!("a FAT of {} bytes is more than is held here", fat.fat_bytes())));
        }
        let lead = FatTable::new(SharedSource::clone(window), *fat).lead();
        let sheet = Sheet::new(window);
        let bytes = sheet.read(fat.fat_at(lead).0, usize::try_from(fat.fat_bytes()).unwrap_or(0))?;
        Ok(Self {
            entries: Entries::new(fat.entry_bits(), bytes),
            bits: fat.entry_bits(),
            clusters: narrow(fat.cluster_count())?,
        })
    }

    /// What the entry of `cluster` says, widened to 28 bits.
    fn get(&self, cluster: u32) -> u32 {
        match (self.bits, self.entries.get(cluster)) {
            (12, entry @ 0xFF0..) => 0x0FFF_F000 | entry,
            (16, entry @ 0xFFF0..) => 0x0FFF_0000 | entry,
            (32, entry) => entry & 0x0FFF_FFFF,
            (_, entry) => entry,
        }
    }

    fn is_used(&self, cluster: u32) -> bool {
        self.get(cluster) != 0
    }

    fn is_cluster(&self, cluster: u32) -> bool {
        (FIRST..self.clusters + FIRST).contains(&cluster)
    }

    fn clusters(&self) -> impl Iterator<Item = u32> {
        FIRST..self.clusters + FIRST
    }

    /// The clusters of a chain, each once.
    fn chain(&self, first: u32) -> Vec<u32> {
        let mut chain = Vec::new();
        let mut next = first;
        while self.is_cluster(next) && chain.len() <= self.clusters as usize {
            chain.push(next);
            next = self.get(next);
        }
        chain
    }
}

struct Work<'a> {
    fat: &'a FatGeometry,
    new: &'a FatGeometry,
    table: &'a Table,
    moves: &'a Relocation,
    sheet: Sheet<'a>,
}

impl Work<'_> {
    fn place(fat: &FatGeometry, cluster: u32) -> Result<u64, NotResized> {
        let place = fat
            .cluster_at(cluster)
            .ok_or_else(|| NotResized(format!("a folder or file leads to cluster {cluster}, which is none")));
        Ok(place?.0)
    }

    /// Moves what has to move, and gives every folder entry its new number.
    fn folders(&mut self, gone: &[u32]) -> Result<(), NotResized> {
        let cluster_bytes = u64::from(self.fat.cluster_bytes());
        let mut seen = crate::resize::Units::new(u64::from(self.table.clusters) + u64::from(FIRST));
        let mut waiting: Vec<Vec<u32>> = Vec::new();
        let mut root = None;
        if self.fat.kind == VolumeKind::Fat32 {
            waiting.push(self.table.chain(self.fat.root_cluster));
        } else {
            let bytes = self.fat.root_sectors() * u64::from(self.fat.bytes_per_sector);
            let mut held = self.sheet.read(self.fat.root_at().0, usize::try_from(bytes).unwrap_or(0))?;
            self.renumber(&mut held, &mut waiting);
            root = Some(held);
        }
        while let Some(chain) = waiting.pop() {
            for cluster in chain {
                if seen.is_taken(u64::from(cluster)) {
                    break;
                }
                seen.take(u64::from(cluster)..u64::from(cluster) + 1);
                let (from, to) = (Self::place(self.fat, cluster)?, Self::place(self.new, self.moves.of(cluster))?);
                if from != to {
                    self.sheet.copy("directory", from, to, cluster_bytes)?;
                }
                let mut held = self.sheet.read(to, usize::try_from(cluster_bytes).unwrap_or(0))?;
                if self.renumber(&mut held, &mut waiting) {
                    self.sheet.write("directory", to, &held)?;
                }
            }
        }
        // Where the root comes to stand, folders of the first clusters may have stood: they are away by now.
        if let Some(held) = root {
            self.sheet.write("root directory", self.new.root_at().0, &held)?;
        }
        // Everything else that has to go is content.
        for cluster in gone.iter().filter(|cluster| !seen.is_taken(u64::from(**cluster)) && self.table.get(**cluster) != BAD) {
            let (from, to) = (Self::place(self.fat, *cluster)?, Self::place(self.new, self.moves.of(*cluster))?);
            self.sheet.carry(from, to, cluster_bytes)?;
        }
        Ok(())
    }

    /// Gives the entries of a piece of a folder their new numbers; chains of folders among them are handed on. True where any changed.
    fn renumber(&self, held: &mut [u8], waiting: &mut Vec<Vec<u32>>) -> bool {
        let mut changed = false;
        for slot in held.chunks_exact_mut(size_of::<RawDirEntry>()) {
            let Ok(entry) = RawDirEntry::mut_from_bytes(slot) else { continue };
            if entry.name.first() == Some(&0) {
                break;
            }
            let old = u32::from(entry.fst_clus_hi.get()) << 16 | u32::from(entry.fst_clus_lo.get());
            let old = if self.fat.kind == VolumeKind::Fat32 { old } else { old & 0xFFFF };
            if entry.attr & ATTR_LONG_NAME == ATTR_LONG_NAME || !self.table.is_cluster(old) {
                continue;
            }
            let is_there = entry.name.first() != Some(&super::layout::DELETED);
            if is_there && entry.attr & ATTR_DIRECTORY != 0 && entry.name.first() != Some(&b'.') {
                waiting.push(self.table.chain(old));
            }
            // What was deleted keeps leading to its ground, as long as that has a number.
            let new = if is_there || !self.moves.has_to_go(old) { self.moves.of(old) } else { old };
            if new != old {
                entry.fst_clus_lo.set((new & 0xFFFF) as u16);
                if self.fat.kind == VolumeKind::Fat32 {
                    entry.fst_clus_hi.set((new >> 16) as u16);
                }
                changed = true;
            }
        }
        changed
    }

    /// The FATs as they become.
    fn fats(&mut self) -> Result<(), NotResized> {
        let bytes = usize::try_from(self.new.fat_bytes()).unwrap_or(0);
        let mut fat = Entries::new(self.new.entry_bits(), vec![0; bytes]);
        for head in 0..FIRST {
            fat.set(head, self.table.entries.get(head));
        }
        for cluster in self.table.clusters() {
            let (entry, raw) = (self.table.get(cluster), self.table.entries.get(cluster));
            if entry == 0 || (entry == BAD && self.moves.has_to_go(cluster)) {
                continue;
            }
            // The four upper bits of a FAT32's entry are kept.
            let kept = if self.table.bits == 32 { raw & 0xF000_0000 } else { 0 };
            let next = if self.table.is_cluster(entry) { self.moves.of(entry) | kept } else { raw };
            fat.set(self.moves.of(cluster), next);
        }
        for copy in (0..self.new.fats).rev() {
            let what = if copy == 0 { "FAT" } else { "second FAT" };
            self.sheet.write(what, self.new.fat_at(copy).0, fat.bytes())?;
        }
        Ok(())
    }

    /// Boot sectors and `FSInfo`, both of them where there are two.
    fn boot_sectors(&mut self) -> Result<(), NotResized> {
        let sector = u64::from(self.fat.bytes_per_sector);
        let wide = self.fat.kind == VolumeKind::Fat32;
        let backup = Some(self.fat.backup).filter(|backup| wide && *backup > 0 && u32::from(*backup) < self.fat.reserved_sectors);
        for at in [Some(0), backup].into_iter().flatten() {
            let at = u64::from(at) * sector;
            let mut boot = self.sheet.read(at, 512)?;
            let mut put = |at: usize, bytes: &[u8]| {
                boot.get_mut(at..at + bytes.len()).into_iter().for_each(|slot| slot.copy_from_slice(bytes));
            };
            let total = u32::try_from(self.new.total_sectors).unwrap_or(u32::MAX);
            let small = u16::try_from(total).ok().filter(|_| !wide);
            put(14, &u16::try_from(self.new.reserved_sectors).unwrap_or(0).to_le_bytes());
            put(19, &small.unwrap_or(0).to_le_bytes());
            put(32, &small.map_or(total, |_| 0).to_le_bytes());
            if wide {
                put(36, &self.new.fat_sectors.to_le_bytes());
                put(44, &self.moves.of(self.fat.root_cluster).to_le_bytes());
            } else {
                put(22, &u16::try_from(self.new.fat_sectors).unwrap_or(0).to_le_bytes());
            }
            self.sheet.write("boot sector", at, &boot)?;
        }
        if !wide || self.fat.fs_info == 0 {
            return Ok(());
        }
        let free = self.new.cluster_count() - self.moves.taken();
        let copies = [Some(self.fat.fs_info), backup.and_then(|backup| backup.checked_add(self.fat.fs_info))];
        for at in copies.into_iter().flatten().filter(|at| u32::from(*at) < self.fat.reserved_sectors) {
            let at = u64::from(at) * sector;
            let mut info = self.sheet.read(at, 512)?;
            // What is no FSInfo stays none.
            if !info.starts_with(b"RRaA") {
                continue;
            }
            let next = (FIRST..).find(|cluster| !self.moves.is_taken(*cluster) || u64::from(*cluster) > self.new.cluster_count());
            let numbers = [(488, u32::try_from(free).unwrap_or(u32::MAX)), (492, next.unwrap_or(u32::MAX))];
            for (at, number) in numbers {
                info.get_mut(at..at + 4).into_iter().for_each(|slot| slot.copy_from_slice(&number.to_le_bytes()));
            }
            self.sheet.write("FSInfo", at, &info)?;
        }
        Ok(())
    }
}
