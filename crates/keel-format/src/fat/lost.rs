//! Chains whose entries no copy of the FAT knows any more: they go on over clusters that follow one another, as files are read, and
//! their entries are written so. Without them a system takes the ground of such files for free and writes over it.

use std::collections::{BTreeMap, HashSet};

use keel_source::printable;

use super::directory::{LARGEST_DIRECTORY, Slots};
use super::layout::DELETED;
use super::{FatGeometry, FatVolume, oem};
use crate::check::{Checked, Mending};
use crate::{Chain, Finding, Repair, Severity, VolumeKind, read_bytes, read_lenient};

/// Bytes of a FAT that are written as one.
const REGION: u64 = 512;
/// The most findings that the rule reports.
const MOST_FINDINGS: usize = 50;
/// Clusters ahead in which a folder is looked for that goes on.
const FARTHEST: u32 = 1024;
/// The most beginnings of chains that are looked at for folders.
const MOST_HEADS: usize = 1 << 16;
/// Entries of the largest FAT that is looked through for who leads where.
const MOST_LOOKED_THROUGH: u32 = 4 << 20;
/// The most entries that are written.
const MOST_ENTRIES: usize = 1 << 20;

/// The value of the last entry of a chain.
fn end_of_chain(geometry: &FatGeometry) -> u32 {
    match geometry.kind {
        VolumeKind::Fat12 => 0xFFF,
        VolumeKind::Fat16 => 0xFFFF,
        _ => 0x0FFF_FFFF,
    }
}

/// The entries of the clusters in `entries`, with their new values, as repairs of every copy. The top four bits of an entry of FAT32 are
/// reserved, and kept unless the entry `is_lost` with them.
pub(super) fn written(volume: &FatVolume, entries: &BTreeMap<u32, u32>, is_lost: bool, reason: &str) -> Vec<Repair> {
    let geometry = volume.geometry();
    let mut sectors: BTreeMap<(u32, u64), Vec<u8>> = BTreeMap::new();
    for (cluster, value) in entries {
        let bit = u64::from(*cluster) * geometry.entry_bits();
        for copy in 0..geometry.fats {
            for half in 0..(geometry.entry_bits() / 4).min(if is_lost { 8 } else { 7 }) {
                let place = bit + half * 4;
                let (sector, inside) = (place / 8 / REGION, place / 8 % REGION);
                let bytes = sectors.entry((copy, sector)).or_insert_with(|| {
                    let at = geometry.fat_at(copy) + sector * REGION;
                    read_lenient(volume.source().as_ref(), at, 512, "FAT").map(|(bytes, _)| bytes).unwrap_or_default()
                });
                let nibble = u8::try_from(value >> (half * 4) & 0xF).unwrap_or(0);
                if let Some(byte) = usize::try_from(inside).ok().and_then(|inside| bytes.get_mut(inside)) {
                    *byte = if place.is_multiple_of(8) { *byte & 0xF0 | nibble } else { *byte & 0x0F | nibble << 4 };
                }
            }
        }
    }
    let repair = |((copy, sector), bytes): ((u32, u64), Vec<u8>)| {
        let name = format!("FAT copy {}", copy + 1);
        let repair = Repair::computed(name, geometry.fat_at(copy) + sector * REGION, bytes, reason);
        Repair { is_main: copy == 0, ..repair }
    };
    sectors.into_iter().map(repair).collect()
}

/// Entries that chains of files and folders need and that no copy knows.
#[derive(Default)]
struct Lost {
    entries: BTreeMap<u32, u32>,
    findings: Vec<Finding>,
    /// Some chain could not be put together.
    is_cut: bool,
}

impl Lost {
    /// Adds what `chain` lacks, when none of its clusters is one that another chain needs (`firsts` are where those of others begin).
    fn add(&mut self, volume: &FatVolume, (path, chain): (&str, &Chain), firsts: &HashSet<u32>) {
        let (geometry, table) = (volume.geometry(), volume.table());
        let clusters = || chain.runs.iter().flat_map(|(first, count)| *first..first.saturating_add(*count));
        let count = clusters().filter(|cluster| table.is_unknown(*cluster)).count();
        if count == 0 {
            return;
        }
        let room = self.entries.len() + count <= MOST_ENTRIES;
        let is_others =
            |(index, cluster): (usize, u32)| self.entries.contains_key(&cluster) || (index > 0 && firsts.contains(&cluster));
        let shared = clusters().enumerate().any(is_others);
        if self.findings.len() < MOST_FINDINGS {
            let first = clusters().next().unwrap_or(2);
            let at = geometry.fat_at(0) + u64::from(first) * geometry.entry_bits() / 8;
            let what = match shared {
                true => format!("{}: where it goes on is lost, and what follows is another one's", printable(path)),
                false => format!("{}: {count} entries of its chain are lost", printable(path)),
            };
            let how = "no copy of the FAT says what they were; clusters that follow one another are taken";
            self.findings.push(Finding::at(Severity::Broken, at, what, how));
        }
        if shared || !room {
            self.is_cut = true;
            return;
        }
        let followers = clusters().skip(1).chain([end_of_chain(geometry)]);
        self.entries.extend(clusters().zip(followers).filter(|(cluster, _)| table.is_unknown(*cluster)));
    }
}

/// Entries of nobody in the sectors of those that are written, where they hold what no entry can be, count as free.
fn free_garbage(volume: &FatVolume, entries: &mut BTreeMap<u32, u32>) {
    let (geometry, table) = (volume.geometry(), volume.table());
    let sectors: std::collections::BTreeSet<u64> =
        entries.keys().map(|cluster| u64::from(*cluster) * geometry.entry_bits() / 8 / REGION).collect();
    let last = u32::try_from(geometry.cluster_count() + 2).unwrap_or(u32::MAX);
    for sector in sectors {
        let first = (sector * REGION * 8).div_ceil(geometry.entry_bits());
        let end = (sector + 1) * REGION * 8 / geometry.entry_bits();
        let clusters = u32::try_from(first).unwrap_or(last).max(2)..u32::try_from(end).unwrap_or(last).min(last);
        let is_garbage = |cluster: &u32| {
            let holds = (0..geometry.fats).any(|copy| table.entry_in(copy, *cluster).is_some_and(|entry| entry != 0));
            holds && table.is_unknown(*cluster)
        };
        for cluster in clusters.filter(is_garbage) {
            entries.entry(cluster).or_insert(0);
        }
    }
}

/// Where chains of files and folders begin; none where there are too many to be held.
fn firsts(volume: &FatVolume) -> Option<HashSet<u32>> {
    let mut firsts: HashSet<u32> = HashSet::from([volume.geometry().root_cluster]);
    let mut fits = true;
    volume.each_slot(&mut |_, slot| {
        fits &= firsts.len() < MOST_ENTRIES;
        if fits && slot.first_cluster() >= 2 {
            firsts.insert(slot.first_cluster());
        }
    });
    fits.then_some(firsts)
}

/// Every chain has its entries.
pub(super) fn chains(volume: &FatVolume) -> Checked {
    const RULE: (&str, &str) = ("chains", "every file and folder has its entries in the FAT");
    let geometry = volume.geometry();
    let mut is_lost = geometry.kind == VolumeKind::Fat32 && volume.table().is_unknown(geometry.root_cluster);
    // A chain that begins with a free entry was not left so by any system: the others are looked at then.
    volume.each_slot(&mut |_, slot| is_lost |= slot.first_cluster() >= 2 && volume.table().is_unknown(slot.first_cluster()));
    let Some(firsts) = is_lost.then(|| firsts(volume)).flatten() else { return Checked::new(RULE.0, RULE.1, Vec::new()) };
    let mut lost = Lost::default();
    if geometry.kind == VolumeKind::Fat32 {
        lost.add(volume, ("the root folder", &volume.folder_chain(geometry.root_cluster)), &firsts);
    }
    // Folders first: whose they are is certain.
    for folders in [true, false] {
        volume.each_slot(&mut |path, slot| {
            let first = slot.first_cluster();
            if slot.is_directory() != folders || first < 2 {
                return;
            }
            let chain = if folders { volume.folder_chain(first) } else { volume.file_chain(slot) };
            let wanted = u64::from(slot.raw.file_size.get()).div_ceil(u64::from(geometry.cluster_bytes()).max(1));
            lost.is_cut |= chain.clusters < wanted;
            lost.add(volume, (path, &chain), &firsts);
        });
    }
    let (mut entries, is_cut) = (lost.entries, lost.is_cut);
    // The first two entries are no clusters': the media byte, and the end mark with its clean bits.
    let ends = end_of_chain(geometry);
    if volume.table().entry(0).is_none_or(|entry| entry & 0xFF != u32::from(geometry.media)) {
        entries.extend([(0, ends & !0xFF | u32::from(geometry.media)), (1, ends)]);
    }
    let reason = "chains go on over clusters that follow one another where their entries are lost";
    if !is_cut {
        free_garbage(volume, &mut entries);
    }
    let repairs = written(volume, &entries, true, reason);
    Checked::new(RULE.0, RULE.1, lost.findings)
        .mended_by(Some(Mending::safe("entries that no copy knows are written as the files are read", repairs)))
}

impl FatVolume {
    /// The clusters of a folder. Where its entries are lost and its last cluster is full, it goes on in the nearest cluster ahead that
    /// holds what a folder holds and that nobody leads to: one of which nothing is known either, or the first of a chain.
    pub(super) fn folder_chain(&self, first: u32) -> Chain {
        let most = LARGEST_DIRECTORY.div_ceil(u64::from(self.geometry().cluster_bytes()).max(1));
        let mut chain = self.table().chain(first, most);
        if chain.finding.is_none() {
            return chain;
        }
        while let Some(last) = chain.runs.last().and_then(|(first, count)| Some(first.checked_add(*count)? - 1)) {
            if chain.clusters >= most || !self.table().is_unknown(last) || !self.is_full(last) {
                break;
            }
            let end = last.saturating_add(FARTHEST);
            let mut near = (last + 1..end).take_while(|next| self.table().is_unknown(*next) && self.table().goes_on(*next));
            let near = near.find(|next| self.holds_entries(*next) && self.follows(last, *next));
            let heads = self.heads.get_or_init(|| self.left_heads());
            let head = heads.iter().copied().find(|head| *head > last && self.follows(last, *head));
            let Some(next) = near.into_iter().chain(head).min() else { break };
            // Behind what is lost the entries are there again.
            let rest = if Some(next) == head { self.table().chain(next, most - chain.clusters) } else { Chain::default() };
            if rest.runs.is_empty() {
                chain.push(next);
            }
            rest.runs.iter().flat_map(|(first, count)| *first..first.saturating_add(*count)).for_each(|one| chain.push(one));
        }
        chain
    }

    /// Chains that no entry leads to and that begin with entries of a folder, but with no folder's first: what is left of folders.
    /// None where the FAT is too large to be looked through.
    fn left_heads(&self) -> Vec<u32> {
        let table = self.table();
        let Some(last) = u32::try_from(table.clusters_there()).ok().filter(|count| *count <= MOST_LOOKED_THROUGH) else {
            return Vec::new();
        };
        let mut named = vec![0u64; last as usize / 64 + 1];
        let mut used = Vec::new();
        for cluster in (2..last + 2).take_while(|cluster| table.goes_on(*cluster)) {
            match table.entry(cluster) {
                Some(next) if (2..last + 2).contains(&next) => {
                    named.iter_mut().skip(next as usize / 64).take(1).for_each(|word| *word |= 1 << (next % 64));
                    used.push(cluster);
                }
                Some(0x0FFF_FFF8..) => used.push(cluster),
                _ => {}
            }
        }
        let is_named = |cluster: u32| named.get(cluster as usize / 64).is_some_and(|word| word >> (cluster % 64) & 1 == 1);
        let heads = used.into_iter().filter(|cluster| !is_named(*cluster)).take(MOST_HEADS);
        heads.filter(|head| table.goes_on(*head) && self.holds_entries(*head)).collect()
    }

    fn cluster(&self, cluster: u32) -> Option<Vec<u8>> {
        let at = self.geometry().cluster_at(cluster)?;
        read_bytes(self.source().as_ref(), at, self.geometry().cluster_bytes() as usize, "directory").ok()
    }

    /// True for a cluster of a folder without an end mark.
    fn is_full(&self, cluster: u32) -> bool {
        self.cluster(cluster).is_some_and(|bytes| {
            let mut slots = Slots::new(&bytes, keel_source::ByteOffset(0));
            slots.by_ref().for_each(drop);
            !slots.ended()
        })
    }

    /// True where the entries of `next` go on those of `last`: a long name that breaks off goes on, and none begins in its middle.
    fn follows(&self, last: u32, next: u32) -> bool {
        let (Some(before), Some(behind)) = (self.cluster(last), self.cluster(next)) else { return false };
        let (Some(end), Some(start)) = (before.chunks_exact(32).last(), behind.get(..32)) else { return false };
        let part = |entry: &[u8]| match entry {
            [order, rest @ ..] if *order != DELETED && rest.get(10) == Some(&0x0F) => Some((*order, rest.get(12).copied())),
            _ => None,
        };
        match (part(end), part(start)) {
            // Parts of a long name count down to 1; all have the checksum of the short one that follows.
            (Some((order, sum)), Some((next, own))) => order & 0x3F > 1 && next == (order & 0x3F) - 1 && sum == own,
            (Some((order, sum)), None) => order & 0x3F == 1 && start.first_chunk().map(oem::checksum) == sum,
            (None, Some((order, _))) => order & 0x40 != 0,
            (None, None) => true,
        }
    }

    /// True for a cluster that goes on a folder: entries of names that can be, and no folder's first.
    fn holds_entries(&self, cluster: u32) -> bool {
        let Some(bytes) = self.cluster(cluster) else { return false };
        let entries = bytes.chunks_exact(32).take_while(|entry| entry.first() != Some(&0));
        let number = |entry: &[u8], at: usize| {
            entry.get(at..at + 2).and_then(<[u8]>::first_chunk).map_or(0, |half| u16::from_le_bytes(*half))
        };
        let can_be = |entry: &[u8]| match entry.get(11..14) {
            Some([0x0F, 0, _]) => number(entry, 26) == 0,
            // `DIR_NTRes` has two bits, `DIR_CrtTimeTenth` two hundred values; `DIR_WrtDate` a month and a day.
            Some([attributes, reserved, tenth]) => {
                let (name, date) = (entry.get(..11).unwrap_or_default(), number(entry, 24));
                let dated = (1..=12).contains(&(date >> 5 & 15)) && date & 31 > 0;
                attributes & 0xC0 == 0
                    && reserved & !0x18 == 0
                    && *tenth < 200
                    && dated
                    && !name.starts_with(b". ")
                    && name.iter().skip(1).all(|sign| *sign >= 0x20)
            }
            _ => false,
        };
        let mut count = 0;
        let all = entries.into_iter().all(|entry| {
            count += 1;
            can_be(entry)
        });
        all && count > 0
    }
}
