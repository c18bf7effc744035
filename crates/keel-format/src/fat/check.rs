//! The rules of FAT: copies that agree, chains as long as files, counts, and the clean bit.

use std::collections::BTreeMap;
use std::ops::ControlFlow;

use super::directory::RawSlot;
use super::{FatGeometry, FatVolume, lost};
use crate::check::{Allocation, BitOrder, Checked, Mending};
use crate::{Extent, Finding, LinkTable, Repair, Severity, VolumeKind, read_lenient};

/// Bytes of a FAT that are decided for as one.
const REGION: u64 = 512;
/// The most regions that are decided for.
const MOST_REGIONS: usize = 1 << 16;
/// The most findings that one rule reports.
const MOST_FINDINGS: usize = 50;
/// The most clusters whose count is taken from the FAT.
const MOST_CLUSTERS: u64 = 1 << 29;

/// What the FAT's own bits say of the volume: clean, no read errors. FAT12 has none.
fn clean_bits(kind: VolumeKind) -> Option<u32> {
    match kind {
        VolumeKind::Fat32 => Some(0x0C00_0000),
        VolumeKind::Fat16 => Some(0xC000),
        _ => None,
    }
}

/// Which copy each region of the FAT is read from, where they differ.
type Choice = BTreeMap<u64, u32>;

/// Votes for the copies of each region that differs.
type Votes = BTreeMap<u64, Vec<u64>>;

pub(super) fn rules(volume: &FatVolume) -> Vec<Checked> {
    vec![copies(volume), lost::chains(volume), sizes(volume), free_count(volume), marks(volume)]
}

/// The regions in which the copies are not all equal.
fn different(volume: &FatVolume) -> Vec<u64> {
    const STEP: u64 = 64 << 10;
    let geometry = volume.geometry();
    let mut regions = Vec::new();
    let there = geometry.fat_bytes().min(volume.source().len());
    for at in (0..there).step_by(65_536) {
        let len = usize::try_from(STEP.min(there - at)).unwrap_or(0);
        let read = |copy| read_lenient(volume.source().as_ref(), geometry.fat_at(copy) + at, len, "FAT").map(|(bytes, _)| bytes);
        let Ok(first) = read(0) else { continue };
        for other in (1..geometry.fats).filter_map(|copy| read(copy).ok()) {
            let pairs = first.chunks(512).zip(other.chunks(512)).enumerate();
            let own = pairs.filter(|(_, (one, two))| one != two).map(|(index, _)| at / REGION + index as u64);
            regions.extend(own);
        }
        if regions.len() > MOST_REGIONS {
            break;
        }
    }
    regions.sort_unstable();
    regions.dedup();
    regions.truncate(MOST_REGIONS);
    regions
}

/// The region of the FAT that holds the entry of `cluster`.
fn region_of(geometry: &FatGeometry, cluster: u32) -> u64 {
    u64::from(cluster) * geometry.entry_bits() / 8 / REGION
}

/// For each region that differs, the copy whose chains end where the directories say files end.
fn decide(volume: &FatVolume, regions: &[u64]) -> (Choice, Votes) {
    let geometry = volume.geometry();
    // Where every entry of one copy alone can be one, the others are garbage: chains are followed through that copy.
    let valid: Choice = regions.iter().filter_map(|region| Some((*region, by_validity(volume, *region)?))).collect();
    let mut choice = valid.clone();
    let mut votes: Votes = regions.iter().map(|region| (*region, vec![0; geometry.fats as usize])).collect();
    // The second round follows chains through regions that the first one decided.
    for _ in 0..2 {
        votes.values_mut().for_each(|votes| votes.fill(0));
        for copy in 0..geometry.fats {
            let fitting = |clusters: &[u32]| {
                for region in clusters.iter().map(|cluster| region_of(geometry, *cluster)) {
                    // A region that is decided for was read from the copy chosen.
                    let read = choice.get(&region).copied().unwrap_or(copy);
                    if let Some(slot) = votes.get_mut(&region).and_then(|votes| votes.get_mut(read as usize)) {
                        *slot += 1;
                    }
                }
            };
            each_chain(volume, &choice, copy, fitting);
        }
        for (region, votes) in &votes {
            let best = votes.iter().enumerate().max_by_key(|(copy, count)| (**count, std::cmp::Reverse(*copy)));
            let tie = votes.iter().filter(|count| Some(*count) == best.map(|(_, count)| count)).count() > 1;
            match best.filter(|(_, count)| **count > 0 && !tie) {
                Some((copy, _)) => choice.insert(*region, u32::try_from(copy).unwrap_or(0)),
                None => match valid.get(region) {
                    Some(copy) => choice.insert(*region, *copy),
                    None => choice.remove(region),
                },
            };
        }
    }
    (choice, votes)
}

/// Follows the chain of every file and folder in FAT `copy` (in decided regions: in the one chosen) and hands those that
/// end where they should to `fitting`.
fn each_chain(volume: &FatVolume, choice: &Choice, copy: u32, mut fitting: impl FnMut(&[u32])) {
    let geometry = volume.geometry();
    let from = |cluster: u32| choice.get(&region_of(geometry, cluster)).copied().unwrap_or(copy);
    let link = |cluster: u32| super::table::link_of(volume.table().entry_in(from(cluster), cluster));
    let table = LinkTable {
        clusters: geometry.cluster_count(),
        link: &link,
        entry_at: &|_| geometry.fat_at(copy),
        source: volume.source().as_ref(),
    };
    volume.each_slot(&mut |_, slot| {
        let cluster_bytes = u64::from(geometry.cluster_bytes()).max(1);
        let wanted = u64::from(slot.raw.file_size.get()).div_ceil(cluster_bytes);
        let first = slot.first_cluster();
        if first < 2 || (wanted == 0 && !slot.is_directory()) {
            return;
        }
        let limit = if slot.is_directory() { 1 << 16 } else { wanted + 1 };
        let chain = crate::Chain::follow(&table, first, limit);
        let ends = chain.finding.is_none() && (slot.is_directory() || chain.clusters == wanted);
        if ends {
            let clusters: Vec<u32> = chain.runs.iter().flat_map(|(first, count)| *first..first.saturating_add(*count)).collect();
            fitting(&clusters);
        }
    });
}

/// FAT copies: which one the directories support, region by region.
fn copies(volume: &FatVolume) -> Checked {
    const RULE: (&str, &str) = ("FAT copies", "the copies of the FAT are equal");
    let geometry = volume.geometry();
    let regions = different(volume);
    if regions.is_empty() {
        return Checked::new(RULE.0, RULE.1, Vec::new());
    }
    let (choice, votes) = decide(volume, &regions);
    let mut findings = Vec::new();
    let mut repairs = Vec::new();
    for region in &regions {
        let at = region * REGION;
        let said = votes.get(region).map(|votes| votes.iter().map(u64::to_string).collect::<Vec<_>>().join(" against "));
        let how = format!("clusters of chains that end where the directories say: {}", said.unwrap_or_default());
        let chosen = choice.get(region).copied();
        let (severity, what) = match chosen {
            Some(copy) => (Severity::Doubt, format!("the copies differ here; the directories support copy {}", copy + 1)),
            None => (Severity::Doubt, "the copies differ here, and no file tells which is right".to_string()),
        };
        if findings.len() < MOST_FINDINGS {
            findings.push(Finding::at(severity, geometry.fat_at(0) + at, what, how));
        }
        let Some(copy) = chosen else { continue };
        let len = usize::try_from(REGION.min(geometry.fat_bytes() - at)).unwrap_or(0);
        let read =
            |copy| read_lenient(volume.source().as_ref(), geometry.fat_at(copy) + at, len, "FAT").ok().map(|(bytes, _)| bytes);
        let Some(right) = read(copy) else { continue };
        for other in (0..geometry.fats).filter(|other| *other != copy && read(*other).as_ref() != Some(&right)) {
            let name = format!("FAT copy {}", other + 1);
            let reason = format!("copy {} is the one that the directories support here", copy + 1);
            let repair = Repair::computed(name, geometry.fat_at(other) + at, right.clone(), reason);
            repairs.push(Repair { from: crate::Take::Copy(copy as usize), is_main: other == 0, ..repair });
        }
    }
    Checked::new(RULE.0, RULE.1, findings)
        .mended_by(Some(Mending::safe("each region is taken from the copy that is right", repairs)))
}

/// A region that no file goes through: the copy of which every entry can be one, when that is only one of them.
fn by_validity(volume: &FatVolume, region: u64) -> Option<u32> {
    let geometry = volume.geometry();
    let per = |byte: u64| u32::try_from(byte * 8 / geometry.entry_bits()).ok();
    let clusters = per(region * REGION)?.max(2)..per((region + 1) * REGION)?;
    let last = u32::try_from(geometry.cluster_count()).ok()?.checked_add(2)?;
    let holds = |copy: &u32| {
        clusters.clone().filter(|cluster| *cluster < last).all(|cluster| match volume.table().entry_in(*copy, cluster) {
            Some(0 | 0x0FFF_FFF7..) => true,
            Some(next) => (2..last).contains(&next),
            None => false,
        })
    };
    let mut right = (0..geometry.fats).filter(holds);
    right.next().filter(|_| right.next().is_none())
}

/// Every file has as many clusters as its size asks.
fn sizes(volume: &FatVolume) -> Checked {
    const RULE: (&str, &str) = ("file sizes", "every chain is as long as the size in its directory entry");
    let geometry = volume.geometry();
    let cluster_bytes = u64::from(geometry.cluster_bytes()).max(1);
    let (mut findings, mut repairs) = (Vec::new(), Vec::new());
    volume.each_slot(&mut |path, slot| {
        let size = u64::from(slot.raw.file_size.get());
        let wanted = size.div_ceil(cluster_bytes);
        if slot.is_directory() || wanted == 0 || findings.len() >= MOST_FINDINGS {
            return;
        }
        let chain = volume.table().chain(slot.first_cluster(), wanted);
        if chain.clusters >= wanted {
            return;
        }
        let there = chain.clusters * cluster_bytes;
        let what = format!("{}: {size} bytes by its entry, its chain holds {there}", keel_source::printable(path));
        let how = chain.finding.map_or_else(|| "the chain ends".to_string(), |finding| finding.what);
        findings.push(Finding::at(Severity::Broken, slot.at, what, how));
        let bytes = u32::try_from(there).unwrap_or(0).to_le_bytes().to_vec();
        repairs.push(Repair::computed("DIR_FileSize", slot.at + 28, bytes, "the size is set to what the chain holds"));
    });
    let mending =
        Mending::costly("sizes are set to what the chains hold", "the end of these files, where it is known at all", repairs);
    Checked::new(RULE.0, RULE.1, findings).mended_by(Some(mending))
}

/// The count of free clusters in the FSInfo sector.
fn free_count(volume: &FatVolume) -> Checked {
    const RULE: (&str, &str) = ("free clusters", "the FSInfo sector counts the free clusters that the FAT has");
    let geometry = volume.geometry();
    let at = u64::from(geometry.fs_info) * u64::from(geometry.bytes_per_sector);
    let stored = crate::read_bytes(volume.source().as_ref(), keel_source::ByteOffset(at), 512, "FSInfo");
    let stored = stored.ok().filter(|bytes| geometry.fs_info > 0 && bytes.starts_with(b"RRaA"));
    let stored = stored.and_then(|bytes| bytes.get(488..492)?.first_chunk().map(|count| u32::from_le_bytes(*count)));
    let (Some(stored), Some(counted)) = (stored, volume.free_clusters()) else { return Checked::new(RULE.0, RULE.1, Vec::new()) };
    // All ones say that the count is not known.
    if stored == counted || stored == u32::MAX {
        return Checked::new(RULE.0, RULE.1, Vec::new());
    }
    let place = keel_source::ByteOffset(at + 488);
    let what = format!("FSI_Free_Count is {stored}, the FAT has {counted} free clusters");
    let finding = Finding::at(Severity::Doubt, place, what, "every entry of the FAT");
    let repair = Repair::computed("FSI_Free_Count", place, counted.to_le_bytes().to_vec(), "counted in the FAT");
    Checked::new(RULE.0, RULE.1, vec![finding])
        .mended_by(Some(Mending::safe("the count is set to what the FAT has", vec![repair])))
}

/// The bits by which a system marks the volume as in use, or as one that had errors.
fn marks(volume: &FatVolume) -> Checked {
    const RULE: (&str, &str) = ("clean bit", "the volume was cleanly unmounted, without read errors");
    let geometry = volume.geometry();
    let entry = volume.table().entry(1);
    let (Some(bits), Some(entry)) = (clean_bits(geometry.kind), entry) else { return Checked::new(RULE.0, RULE.1, Vec::new()) };
    // Values near the top are widened when they are read: their upper bits are set.
    if entry & bits == bits {
        return Checked::new(RULE.0, RULE.1, Vec::new());
    }
    let at = geometry.entry_bits() / 8;
    let finding = Finding::at(Severity::Note, geometry.fat_at(0) + at, "a clean bit is 0", format!("FAT entry 1 is 0x{entry:x}"));
    let bytes = match geometry.kind {
        VolumeKind::Fat32 => (entry | bits).to_le_bytes().to_vec(),
        _ => (u16::try_from(entry & 0xFFFF).unwrap_or(u16::MAX) | 0xC000).to_le_bytes().to_vec(),
    };
    let repairs = (0..geometry.fats)
        .map(|copy| Repair::computed("FAT entry 1", geometry.fat_at(copy) + at, bytes.clone(), "both clean bits are set"))
        .collect();
    Checked::new(RULE.0, RULE.1, vec![finding]).mended_by(Some(Mending::safe("the clean bits are set", repairs)))
}

/// A bit for each cluster that the FAT does not count as free.
pub(super) fn allocation(volume: &FatVolume) -> Option<Allocation> {
    let geometry = volume.geometry();
    // What the source has no entries of counts as nothing.
    let units = volume.table().clusters_there();
    if units > MOST_CLUSTERS {
        return None;
    }
    let mut bits = vec![0u8; usize::try_from(units.div_ceil(8)).ok()?];
    for (index, byte) in bits.iter_mut().enumerate() {
        for bit in 0..8u32 {
            let cluster = u32::try_from(index).ok()?.checked_mul(8)?.checked_add(bit + 2)?;
            if !volume.table().goes_on(cluster) {
                return None;
            }
            let used = u64::from(cluster) < units + 2 && !matches!(volume.table().entry(cluster), Some(0 | 0x0FFF_FFF7));
            *byte |= u8::from(used) << bit;
        }
    }
    Some(Allocation {
        unit: "cluster",
        unit_bytes: u64::from(geometry.cluster_bytes()),
        first_at: geometry.cluster_at(2)?,
        first_number: 2,
        units,
        bits,
        order: BitOrder::LowFirst,
        places: Vec::new(),
        knows_all: true,
    })
}

/// Entries of the FAT set to free, in every copy. A chain cannot be made up: nothing is marked as used.
pub(super) fn freed(volume: &FatVolume, units: &[std::ops::Range<u64>]) -> Vec<Repair> {
    let clusters = units.iter().flat_map(Clone::clone).filter_map(|unit| u32::try_from(unit + 2).ok());
    lost::written(volume, &clusters.map(|cluster| (cluster, 0)).collect(), false, "clusters of no file are counted as free")
}

impl FatVolume {
    /// Hands every present file and folder, with its path, to `each`.
    pub(super) fn each_slot(&self, each: &mut dyn FnMut(&str, &RawSlot)) {
        let _ = crate::Volume::walk(self, crate::Deleted::Hide, &mut |found| {
            if let Ok(slot) = self.slot_of(found.entry.id) {
                each(&found.path(), &slot);
            }
            ControlFlow::Continue(())
        });
    }

    /// The ground of a file or folder; of the root by first cluster 0.
    pub(super) fn whole_ground(&self, slot: Option<&RawSlot>) -> Vec<Extent> {
        let first = slot.map_or(self.geometry().root_cluster, RawSlot::first_cluster);
        if first < 2 {
            return Vec::new();
        }
        // A file's chain may be longer than its size: the whole chain is its ground.
        self.table().extents(&self.table().chain(first, self.geometry().cluster_count()))
    }
}
