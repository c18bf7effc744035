//! An exFAT volume of another length. Bitmap and up-case table stay in one piece each, as drivers read them so; a file that was in one
//! piece and is not any more gets a chain.

use std::collections::BTreeMap;

use keel_source::SharedSource;

use super::layout::{BITMAP, DIRECTORY, FILE, IN_USE, NO_FAT_CHAIN, REGION_SECTORS, UPCASE, boot_checksum, set_checksum};
use super::{ExFatGeometry, ExFatVolume};
use crate::relocate::{Entries, FIRST, Relocation, runs};
use crate::resize::{NotResized, Resized, Sheet, Units};
use crate::{Allocation, Geometry, Volume};

/// Most clusters (§3.1.9).
const MOST_CLUSTERS: u64 = 0xFFFF_FFF5;
/// The largest FAT that is held, in bytes.
const MOST_HELD: u64 = 512 << 20;
/// The largest directory that the specification allows, in bytes.
const LARGEST_DIRECTORY: u64 = 256 << 20;
/// Entries of the FAT that are no next cluster (§4.1.3).
const BAD: u32 = 0xFFFF_FFF7;
const LAST: u32 = 0xFFFF_FFFF;
/// Bytes of a directory entry.
const ENTRY: usize = 32;
/// Bit of `GeneralSecondaryFlags`: the entry may hold clusters (§6.4.2.1).
const ALLOCATION_POSSIBLE: u8 = 1;
/// Bit of `EntryType`: a secondary entry (§6.2.1.3).
const SECONDARY: u8 = 0x40;

/// The fewest bytes that the volume in `window` can be made to take.
pub(super) fn least(window: &SharedSource, any: &Geometry) -> Result<u64, NotResized> {
    let (old, allocation) = opened(window, any)?;
    let used = allocation.used().iter().map(|units| units.end - units.start).sum::<u64>().max(1);
    let sectors = u64::from(old.cluster_heap_offset) + used * u64::from(old.sectors_per_cluster);
    Ok(sectors * u64::from(old.bytes_per_sector))
}

/// The volume in `window` with at most `bytes` bytes.
pub(super) fn to(window: &SharedSource, any: &Geometry, bytes: u64) -> Result<Resized, NotResized> {
    let (old, allocation) = opened(window, any)?;
    let new = fitted(&old, bytes)?;
    let sheet = Sheet::new(window);
    let fat_bytes = u64::from(old.fat_length) * u64::from(old.bytes_per_sector);
    if fat_bytes.max(u64::from(new.fat_length) * u64::from(new.bytes_per_sector)) > MOST_HELD {
        return Err(NotResized(format!("a FAT of {fat_bytes} bytes is more than is held here")));
    }
    let fat = Entries::new(32, sheet.read(old.fat_at().0, usize::try_from(fat_bytes).unwrap_or(0))?);
    let shift = (new.cluster_heap_offset - old.cluster_heap_offset) / old.sectors_per_cluster.max(1);
    let is_taken = |cluster: u32| allocation.is_used(u64::from(cluster - FIRST)) || fat.get(cluster) == BAD;
    let moves = Relocation::new(old.cluster_count, new.cluster_count, shift, &is_taken);
    let mut work = Work { old, new, fat, moves, sheet, links: BTreeMap::new(), bitmap: None };
    let found = work.objects()?;
    let room = work.place(&found, &allocation);
    room.map_err(|no_room| least(window, any).map_or(no_room, |least| NotResized::too_small(bytes, least)))?;
    work.move_all(&found)?;
    work.tables(&found, &allocation)?;
    work.boot_regions()?;
    let geometry = ExFatGeometry { root_cluster: work.moves.of(old.root_cluster), ..new };
    work.sheet.parts(Geometry::ExFat(geometry))
}

fn opened(window: &SharedSource, any: &Geometry) -> Result<(ExFatGeometry, Allocation), NotResized> {
    let Geometry::ExFat(geometry) = any else { return Err(NotResized("it is no exFAT".into())) };
    if geometry.fats != 1 {
        return Err(NotResized("an exFAT with two FATs keeps transactions, which are not followed here".into()));
    }
    let volume = ExFatVolume::open(SharedSource::clone(window), *geometry).map_err(|why| NotResized(why.to_string()))?;
    let allocation = volume.allocation().ok_or_else(|| NotResized("its allocation bitmap cannot be read".into()))?;
    Ok((*geometry, allocation))
}

/// The geometry of the volume in `bytes` bytes: its heap where it is as far as its FAT finds room before it.
fn fitted(old: &ExFatGeometry, bytes: u64) -> Result<ExFatGeometry, NotResized> {
    let (sector, per_cluster) = (u64::from(old.bytes_per_sector), u64::from(old.sectors_per_cluster));
    let volume_length = bytes / sector;
    let mut heap = u64::from(old.cluster_heap_offset);
    loop {
        let room = volume_length.saturating_sub(heap);
        let clusters = (room / per_cluster).min(MOST_CLUSTERS);
        if clusters == 0 {
            return Err(NotResized::too_small(bytes, (heap + per_cluster) * sector));
        }
        let wanted = ((clusters + 2) * 4).div_ceil(sector).max(u64::from(old.fat_length));
        let end = u64::from(old.fat_offset) + wanted;
        if end <= heap {
            let number =
                |value: u64| u32::try_from(value).map_err(|_| NotResized(format!("{value} is more than an exFAT counts")));
            return Ok(ExFatGeometry {
                volume_length,
                fat_length: number(wanted)?,
                cluster_heap_offset: number(heap)?,
                cluster_count: number(clusters)?,
                ..*old
            });
        }
        heap += (end - heap).next_multiple_of(per_cluster);
    }
}

/// What holds clusters: where its entry stands, and which clusters it holds.
struct Object {
    clusters: Vec<u32>,
    /// True where no chain is kept.
    is_straight: bool,
    /// Its parent among the objects, and the byte of the parent's content at which its entry stands; none for the root.
    entry: Option<(usize, usize)>,
    /// First byte of its set in that content.
    set: usize,
    what: What,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum What {
    Folder,
    File,
    Bitmap,
    Upcase,
}

struct Work<'a> {
    old: ExFatGeometry,
    new: ExFatGeometry,
    fat: Entries,
    moves: Relocation,
    sheet: Sheet<'a>,
    /// Entries of the FAT as it becomes.
    links: BTreeMap<u32, u32>,
    /// First cluster of the bitmap as it becomes, and its clusters.
    bitmap: Option<(u32, u32)>,
}

fn number<const N: usize>(bytes: &[u8], at: usize) -> u64 {
    bytes.get(at..at + N).map_or(0, |bytes| bytes.iter().rev().fold(0, |value, byte| value << 8 | u64::from(*byte)))
}

fn put(bytes: &mut [u8], at: usize, value: &[u8]) {
    bytes.get_mut(at..at + value.len()).into_iter().for_each(|slot| slot.copy_from_slice(value));
}

impl Work<'_> {
    fn chain(&self, first: u32) -> Vec<u32> {
        let is_cluster = |cluster: u32| (FIRST..self.old.cluster_count.saturating_add(FIRST)).contains(&cluster);
        let mut chain = Vec::new();
        let mut next = first;
        while is_cluster(next) && chain.len() <= self.old.cluster_count as usize {
            chain.push(next);
            next = self.fat.get(next);
        }
        chain
    }

    /// Everything that holds clusters, the root first.
    fn objects(&self) -> Result<Vec<Object>, NotResized> {
        let root = self.chain(self.old.root_cluster);
        let mut found = vec![Object { clusters: root, is_straight: false, entry: None, set: 0, what: What::Folder }];
        let mut seen = Units::new(u64::from(self.old.cluster_count));
        let mut next = 0;
        while let Some(folder) = found.get(next) {
            let is_new = |cluster: &u32| !seen.is_taken(u64::from(cluster - FIRST));
            if folder.what == What::Folder && folder.clusters.first().is_some_and(is_new) {
                folder.clusters.iter().for_each(|cluster| seen.take(u64::from(cluster - FIRST)..u64::from(cluster - FIRST) + 1));
                let content = self.content(&folder.clusters, &self.old, &|cluster| cluster)?;
                found.extend(self.entries(&content, next));
            }
            next += 1;
        }
        Ok(found)
    }

    /// All bytes of a folder, each cluster by its number in `geometry`.
    fn content(&self, clusters: &[u32], geometry: &ExFatGeometry, of: &dyn Fn(u32) -> u32) -> Result<Vec<u8>, NotResized> {
        let cluster_bytes = geometry.cluster_bytes() as usize;
        if (clusters.len() * cluster_bytes) as u64 > LARGEST_DIRECTORY {
            return Err(NotResized("a folder is larger than the specification allows".into()));
        }
        let mut content = Vec::with_capacity(clusters.len() * cluster_bytes);
        for cluster in clusters {
            content.extend(self.sheet.read(place(geometry, of(*cluster))?, cluster_bytes)?);
        }
        Ok(content)
    }

    /// What the entries of a folder lead to.
    fn entries(&self, content: &[u8], folder: usize) -> Vec<Object> {
        let mut found = Vec::new();
        let (mut set, mut is_folder) = (0, false);
        for (at, entry) in (0..).step_by(ENTRY).zip(content.chunks_exact(ENTRY)) {
            let kind = entry.first().copied().unwrap_or(0);
            if kind == 0 {
                break;
            }
            if kind & IN_USE == 0 {
                continue;
            }
            let (first, bytes) = (number::<4>(entry, 20) as u32, number::<8>(entry, 24));
            if kind & SECONDARY == 0 {
                set = at;
                is_folder = kind == FILE && number::<2>(entry, 4) & u64::from(DIRECTORY) != 0;
                let what = match kind {
                    BITMAP => What::Bitmap,
                    UPCASE => What::Upcase,
                    _ => continue,
                };
                found.push(Object { clusters: self.chain(first), is_straight: false, entry: Some((folder, at)), set, what });
                continue;
            }
            let flags = entry.get(1).copied().unwrap_or(0);
            if flags & ALLOCATION_POSSIBLE == 0 || first < FIRST || bytes == 0 {
                continue;
            }
            let is_straight = flags & NO_FAT_CHAIN != 0;
            let count = bytes.div_ceil(u64::from(self.old.cluster_bytes()));
            let end = u64::from(first).saturating_add(count).min(u64::from(self.old.cluster_count) + u64::from(FIRST));
            let straight = || (first..u32::try_from(end).unwrap_or(u32::MAX)).collect();
            let clusters = if is_straight { straight() } else { self.chain(first) };
            let what = if is_folder && kind == super::layout::STREAM { What::Folder } else { What::File };
            found.push(Object { clusters, is_straight, entry: Some((folder, at)), set, what });
        }
        found
    }

    /// Gives everything that loses its ground a place.
    fn place(&mut self, found: &[Object], allocation: &Allocation) -> Result<(), NotResized> {
        let mut whole = Units::new(u64::from(self.old.cluster_count));
        for object in found.iter().filter(|object| matches!(object.what, What::Bitmap | What::Upcase)) {
            object.clusters.iter().for_each(|cluster| whole.take(u64::from(cluster - FIRST)..u64::from(cluster - FIRST) + 1));
            let stays = object.clusters.iter().all(|cluster| !self.moves.has_to_go(*cluster));
            let first = object.clusters.first().copied().unwrap_or(FIRST);
            let count = u32::try_from(object.clusters.len()).unwrap_or(u32::MAX);
            if runs(object.clusters.iter().copied()).len() > 1 {
                return Err(NotResized("its allocation bitmap or up-case table is in pieces, which drivers do not read".into()));
            }
            match object.what {
                What::Upcase if !stays => self.moves.place_whole(first, count)?,
                What::Bitmap => {
                    let wanted = self.new.bitmap_bytes().div_ceil(u64::from(self.new.cluster_bytes()));
                    let wanted = u32::try_from(wanted).unwrap_or(u32::MAX);
                    if stays && wanted <= count {
                        let spared = first + wanted..first + count;
                        spared.for_each(|cluster| self.moves.give_back(cluster));
                        self.bitmap = Some((self.moves.of(first), wanted));
                    } else {
                        object.clusters.iter().for_each(|cluster| self.moves.give_back(*cluster));
                        self.bitmap = Some((self.moves.take_run(wanted)?, wanted));
                    }
                }
                _ => {}
            }
        }
        let clusters = FIRST..self.old.cluster_count.saturating_add(FIRST);
        let is_used = |unit: u32| allocation.is_used(u64::from(unit)) && self.fat.get(unit + FIRST) != BAD;
        let gone = runs(clusters.filter(|cluster| {
            let unit = cluster - FIRST;
            is_used(unit) && self.moves.has_to_go(*cluster) && !whole.is_taken(u64::from(unit))
        }));
        self.moves.place(&gone)
    }

    /// Moves content and folders, and gives every entry its new cluster.
    fn move_all(&mut self, found: &[Object]) -> Result<(), NotResized> {
        let cluster_bytes = u64::from(self.old.cluster_bytes());
        let mut folders: BTreeMap<usize, Vec<u8>> = BTreeMap::new();
        for (index, object) in found.iter().enumerate() {
            for cluster in &object.clusters {
                let (from, to) = (place(&self.old, *cluster)?, place(&self.new, self.moves.of(*cluster)));
                match object.what {
                    What::Bitmap => {}
                    What::Folder if from != to.clone()? => self.sheet.copy("directory", from, to?, cluster_bytes)?,
                    What::File | What::Upcase if from != to.clone()? => self.sheet.carry(from, to?, cluster_bytes)?,
                    _ => {}
                }
            }
            if object.what == What::Folder {
                let content = self.content(&object.clusters, &self.new, &|cluster| self.moves.of(cluster))?;
                folders.insert(index, content);
            }
        }
        for object in found {
            let becomes: Vec<u32> = object.clusters.iter().map(|cluster| self.moves.of(*cluster)).collect();
            let is_straight = object.is_straight && runs(becomes.iter().copied()).len() < 2;
            let mut first = becomes.first().copied();
            if object.what == What::Bitmap {
                let (start, count) = self.bitmap.unwrap_or((FIRST, 0));
                first = Some(start);
                self.link(&(start..start + count).collect::<Vec<u32>>());
            } else if !is_straight {
                self.link(&becomes);
            }
            let Some((folder, at)) = object.entry else { continue };
            let (Some(content), Some(first)) = (folders.get_mut(&folder), first) else { continue };
            put(content, at + 20, &first.to_le_bytes());
            if object.is_straight && !is_straight {
                let flags = content.get(at + 1).copied().unwrap_or(0) & !NO_FAT_CHAIN;
                put(content, at + 1, &[flags]);
            }
            if object.what == What::Bitmap {
                put(content, at + 24, &self.new.bitmap_bytes().to_le_bytes());
            }
            if content.get(object.set).copied() == Some(FILE) {
                let entries = usize::from(content.get(object.set + 1).copied().unwrap_or(0)) + 1;
                let sum = content.get(object.set..object.set + entries * ENTRY).map(set_checksum);
                sum.into_iter().for_each(|sum| put(content, object.set + 2, &sum.to_le_bytes()));
            }
        }
        for (index, content) in folders {
            let Some(object) = found.get(index) else { continue };
            for (cluster, bytes) in object.clusters.iter().zip(content.chunks(cluster_bytes as usize)) {
                self.sheet.write("directory", place(&self.new, self.moves.of(*cluster))?, bytes)?;
            }
        }
        Ok(())
    }

    /// Clusters that follow one another in a chain.
    fn link(&mut self, clusters: &[u32]) {
        let next = clusters.iter().skip(1).copied().chain([LAST]);
        self.links.extend(clusters.iter().copied().zip(next));
    }

    /// FAT and bitmap as they become.
    fn tables(&mut self, found: &[Object], allocation: &Allocation) -> Result<(), NotResized> {
        let bytes = usize::try_from(u64::from(self.new.fat_length) * u64::from(self.new.bytes_per_sector)).unwrap_or(0);
        let is_shifted = self.new.cluster_heap_offset != self.old.cluster_heap_offset;
        // What entries of clusters without a chain say is of no meaning, and stays where it is.
        let mut fat = if is_shifted { Vec::new() } else { self.fat.bytes().to_vec() };
        fat.resize(bytes, 0);
        let mut fat = Entries::new(32, fat);
        (0..FIRST).for_each(|head| fat.set(head, self.fat.get(head)));
        for cluster in FIRST..self.old.cluster_count.saturating_add(FIRST) {
            if self.fat.get(cluster) == BAD && !self.moves.has_to_go(cluster) {
                fat.set(self.moves.of(cluster), BAD);
            }
        }
        self.links.iter().for_each(|(cluster, next)| fat.set(*cluster, *next));
        self.sheet.write("FAT", self.new.fat_at().0, fat.bytes())?;
        if found.iter().all(|object| object.what != What::Bitmap) {
            return Err(NotResized("its root names no allocation bitmap".into()));
        }
        let (first, _) = self.bitmap.unwrap_or((FIRST, 0));
        let mut bits = vec![0u8; usize::try_from(self.new.bitmap_bytes()).unwrap_or(0)];
        for unit in 0..self.new.cluster_count {
            let is_bad = || {
                let was = unit.checked_add(self.shift()).filter(|was| *was < self.old.cluster_count);
                was.is_some_and(|was| self.fat.get(was + FIRST) == BAD && !allocation.is_used(u64::from(was)))
            };
            // A bad cluster that the bitmap left free stays so: its entry in the FAT tells.
            if self.moves.is_taken(unit + FIRST) && !is_bad() {
                bits.get_mut((unit / 8) as usize).into_iter().for_each(|byte| *byte |= 1 << (unit % 8));
            }
        }
        self.sheet.write("allocation bitmap", place(&self.new, first)?, &bits)
    }

    fn shift(&self) -> u32 {
        (self.new.cluster_heap_offset - self.old.cluster_heap_offset) / self.old.sectors_per_cluster.max(1)
    }

    /// Both boot regions.
    fn boot_regions(&mut self) -> Result<(), NotResized> {
        let len = usize::try_from(REGION_SECTORS).unwrap_or(12) * self.new.bytes_per_sector as usize;
        let percent = self.moves.taken() * 100 / u64::from(self.new.cluster_count.max(1));
        for (what, at) in [("main boot region", 0), ("backup boot region", self.new.backup_at().0)] {
            let mut region = self.sheet.read(at, len)?;
            put(&mut region, 72, &self.new.volume_length.to_le_bytes());
            put(&mut region, 84, &self.new.fat_length.to_le_bytes());
            put(&mut region, 88, &self.new.cluster_heap_offset.to_le_bytes());
            put(&mut region, 92, &self.new.cluster_count.to_le_bytes());
            put(&mut region, 96, &self.moves.of(self.old.root_cluster).to_le_bytes());
            put(&mut region, 112, &[u8::try_from(percent).unwrap_or(100)]);
            let (counted, sums) = region.split_at_mut(len / 12 * 11);
            let sum = boot_checksum(counted).to_le_bytes();
            sums.iter_mut().zip(sum.iter().cycle()).for_each(|(slot, byte)| *slot = *byte);
            self.sheet.write(what, at, &region)?;
        }
        Ok(())
    }
}

fn place(geometry: &ExFatGeometry, cluster: u32) -> Result<u64, NotResized> {
    let place = geometry.cluster_at(cluster).map(|at| at.0);
    place.ok_or_else(|| NotResized(format!("a folder or file leads to cluster {cluster}, which is none")))
}
