//! From clues to ext volumes: every superblock says which group it stands in, and so where the volume starts. Where none
//! is left the group descriptors lead to the root directory.

use std::collections::{BTreeMap, BTreeSet};

use keel_source::{ByteOffset, ByteRange, SharedSource};
use zerocopy::FromBytes;

use super::clue::DescriptorClue;
use super::descriptors::from_descriptors;
use super::verify::verify;
use crate::clue::Clues;
use crate::ext::ExtGeometry;
use crate::ext::kept::{BACKUP_OF_BLOCKS, EXTENT_MAGIC};
use crate::ext::layout::RawSuperblock;
use crate::{FoundVolume, Geometry, View, Witness, WitnessKind, read_bytes};

/// Stands behind every group: a superblock in the journal is taken where none in a group speaks for the volume.
const KEPT: u32 = u32::MAX;
/// The most blocks before a superblock that are looked at for those of a journal.
const MOST_BEFORE: u64 = 64;
/// The most extents that an inode names without blocks of their own.
const MOST_EXTENTS: usize = 4;
/// The most tables of group descriptors that are tried where no superblock is left.
const MOST_TABLES: usize = 256;

/// Turns clues into verified ext volumes, one for each start.
#[must_use]
pub fn infer(drive: &SharedSource, clues: &Clues) -> Vec<FoundVolume> {
    let mut starts: BTreeMap<ByteOffset, Vec<(u32, ExtGeometry)>> = BTreeMap::new();
    let mut floating: Vec<(ByteOffset, ExtGeometry)> = Vec::new();
    for clue in &clues.ext.supers {
        let Ok(bytes) = read_bytes(drive.as_ref(), clue.at, 1024, "superblock") else { continue };
        let Ok((geometry, group)) = ExtGeometry::parse(View::new("superblock", clue.at, &bytes)) else { continue };
        if let Some((start, geometry)) = in_journal(clue.at, &bytes, &geometry, clues) {
            starts.entry(start).or_default().push((KEPT, geometry));
        } else if let Some(start) = clue.at.0.checked_sub(geometry.superblock_at(group).0) {
            if group == 0 && stands_in_log(drive, clue.at, &geometry) {
                floating.push((clue.at, geometry));
            }
            starts.entry(ByteOffset(start)).or_default().push((group, geometry));
        }
    }
    let mut found: Vec<FoundVolume> = Vec::new();
    for (start, mut copies) in starts {
        // A filesystem made anew in the same place leaves copies of the former one: each identity is tried.
        copies.sort_by_key(|(group, _)| *group);
        copies.dedup_by_key(|(_, geometry)| geometry.uuid);
        let volumes = copies.into_iter().filter_map(|(_, geometry)| {
            let mut volume = verify(drive, start, geometry, clues)?;
            if geometry.kept_superblock != 0 && volume.has(WitnessKind::RootDirectory) {
                let at = start + geometry.kept_superblock;
                let says = "a superblock of this volume stands in its journal, which says where in the volume it lies";
                volume.witnesses.push(Witness::at(WitnessKind::SizeRecord, at, 25, says).start(start).length(volume.bytes));
            }
            Some(volume)
        });
        // Where the journal of a volume stands that is not known, none begins unless more than that superblock says so.
        let in_log = floating.iter().any(|(at, geometry)| start + geometry.superblock_at(0).0 == *at);
        let stands = |volume: &FoundVolume| volume.score() > 0 && !(in_log && is_floating(volume));
        found.extend(volumes.filter(stands).max_by_key(FoundVolume::score));
    }
    // A table goes on in the sectors behind its first one.
    let tables: BTreeSet<ByteOffset> = clues.ext.descriptors.iter().map(|clue| clue.at).collect();
    let is_first = |clue: &&DescriptorClue| !tables.contains(&ByteOffset(clue.at.0.wrapping_sub(512)));
    let mut left = MOST_TABLES;
    for clue in clues.ext.descriptors.iter().filter(is_first) {
        let known = |volume: &FoundVolume| volume.range().contains(clue.at) && volume.has(WitnessKind::RootDirectory);
        if left == 0 || found.iter().any(known) {
            continue;
        }
        left -= 1;
        let Some((start, geometry, witness)) = from_descriptors(drive, clue, clues) else { continue };
        // A superblock that stands in the volume's own journal states what would have to be computed.
        if let Some(volume) = by_floating(drive, start, &geometry, (&found, &floating), clues) {
            found.push(volume);
        } else if let Some(mut volume) = verify(drive, start, geometry, clues) {
            volume.witnesses.push(witness);
            found.push(volume);
        }
    }
    drop_floating(found)
}

/// Where the volume starts whose journal holds the superblock at `at` (its `bytes`), and its geometry: `s_jnl_blocks` says where in the
/// volume the journal begins, and a journal of that block size begins before it. None for one that stands in no journal.
fn in_journal(at: ByteOffset, bytes: &[u8], geometry: &ExtGeometry, clues: &Clues) -> Option<(ByteOffset, ExtGeometry)> {
    let raw = RawSuperblock::read_from_prefix(bytes).ok()?.0;
    let runs = journal_runs(&raw)?;
    let unit = u64::from(geometry.block_bytes);
    let after = clues.ext.journals.partition_point(|journal| journal.at < at);
    // The nearest one before it, in what is nearly always one piece: journals hold no journals.
    let journal = after.checked_sub(1).and_then(|index| clues.ext.journals.get(index))?;
    let start = ByteOffset(journal.at.0.checked_sub(runs.first()?.0.checked_mul(unit)?)?);
    let kept_superblock = at - start;
    let block = kept_superblock / unit;
    let is_own =
        u64::from(journal.block_bytes) == unit && runs.iter().any(|(first, count)| block >= *first && block - first < *count);
    // In a block it stands where it stands in the volume.
    let fits = kept_superblock % unit == geometry.superblock_at(0).0 % unit;
    // Of small blocks the volume's own superblock is one by itself.
    let is_main = kept_superblock == geometry.superblock_at(0).0;
    (is_own && fits && !is_main).then_some((start, ExtGeometry { kept_superblock, ..*geometry }))
}

/// True where blocks of a journal (their magic at the same distance) stand right before what would be a main superblock's block.
fn stands_in_log(drive: &SharedSource, at: ByteOffset, geometry: &ExtGeometry) -> bool {
    let unit = u64::from(geometry.block_bytes);
    let block = at.0 - geometry.superblock_at(0).0 % unit.min(at.0 + 1);
    let is_log = |back: u64| {
        let place = block.checked_sub(back * unit)?;
        let head = read_bytes(drive.as_ref(), ByteOffset(place), 12, "journal block").ok()?;
        matches!(head.as_slice(), [0xC0, 0x3B, 0x39, 0x98, 0, 0, 0, 1..=5, ..]).then_some(())
    };
    // Every transaction that holds a superblock begins with a descriptor, which names as many blocks as fit it.
    (1..=MOST_BEFORE).any(|back| is_log(back).is_some())
}

/// The journal's pieces in the volume, first block and count of blocks, by what the superblock keeps of the journal's inode.
fn journal_runs(raw: &RawSuperblock) -> Option<Vec<(u64, u64)>> {
    if raw.s_jnl_backup_type != BACKUP_OF_BLOCKS {
        return None;
    }
    let word = |at: usize| raw.s_jnl_blocks.get(at..at + 4).and_then(<[u8]>::first_chunk).map(|word| u32::from_le_bytes(*word));
    let half = |at: usize| raw.s_jnl_blocks.get(at..at + 2).and_then(<[u8]>::first_chunk).map(|half| u16::from_le_bytes(*half));
    let bytes = u64::from(word(60)?) << 32 | u64::from(word(64)?);
    let unit = 1024_u64.checked_shl(raw.s_log_block_size.get())?;
    let runs: Vec<(u64, u64)> = match raw.s_jnl_blocks.starts_with(&EXTENT_MAGIC) {
        // `eh_entries` extents of twelve bytes: `ee_len`, `ee_start_hi`, `ee_start_lo`; a tree is of journals in very many pieces.
        true if half(6)? == 0 => (0..usize::from(half(2)?).min(MOST_EXTENTS))
            .map(|index| 12 + index * 12)
            .map(|at| Some((u64::from(half(at + 6)?) << 32 | u64::from(word(at + 8)?), u64::from(half(at + 4)?))))
            .collect::<Option<_>>()?,
        true => return None,
        // The blocks of its map lie between its own.
        false => vec![(u64::from(word(0)?), bytes / unit + bytes / unit / 64 + 3)],
    };
    runs.iter().all(|(first, count)| *first > 0 && *count > 0).then_some(runs)
}

/// True for what a superblock states that stands where no volume begins: in a journal, or in a file.
fn is_floating(volume: &FoundVolume) -> bool {
    !volume.has(WitnessKind::RootDirectory) && !volume.has(WitnessKind::BackupBootSector)
}

/// The volume at `start` by a superblock that stands elsewhere on its ground and says what its descriptors say.
fn by_floating(
    drive: &SharedSource,
    start: ByteOffset,
    inferred: &ExtGeometry,
    (found, floating): (&[FoundVolume], &[(ByteOffset, ExtGeometry)]),
    clues: &Clues,
) -> Option<FoundVolume> {
    let ground = ByteRange::sized(start, inferred.volume_bytes().max(1));
    let inside = found.iter().filter(|volume| is_floating(volume) && ground.contains(volume.start));
    let stated = inside.filter_map(|volume| match volume.geometry {
        Geometry::Ext(stated) => Some((volume.start + stated.superblock_at(0).0, stated)),
        _ => None,
    });
    let logged = floating.iter().copied().filter(|(at, _)| ground.contains(*at));
    let alike = stated.chain(logged).filter(|(_, stated)| {
        (stated.block_bytes, stated.inodes_per_group, stated.descriptor_bytes, stated.inode_bytes)
            == (inferred.block_bytes, inferred.inodes_per_group, inferred.descriptor_bytes, inferred.inode_bytes)
    });
    alike
        .filter_map(|(at, stated)| {
            let mut volume = verify(drive, start, stated, clues).filter(|volume| volume.has(WitnessKind::RootDirectory))?;
            let says = "a superblock of this volume stands in its journal";
            volume.witnesses.push(Witness::at(WitnessKind::SizeRecord, at, 15, says).start(start).length(volume.bytes));
            Some(volume)
        })
        .max_by_key(FoundVolume::score)
}

/// Leaves out what floating superblocks state where the volume that they belong to was found.
fn drop_floating(found: Vec<FoundVolume>) -> Vec<FoundVolume> {
    let uuid = |volume: &FoundVolume| match volume.geometry {
        Geometry::Ext(ext) => Some(ext.uuid),
        _ => None,
    };
    let known: Vec<_> = found.iter().filter(|volume| !is_floating(volume)).map(|volume| (volume.range(), uuid(volume))).collect();
    let belongs = |volume: &FoundVolume| {
        known.iter().any(|(range, known)| range.contains(volume.start) && range.start != volume.start && *known == uuid(volume))
    };
    found.into_iter().filter(|volume| !is_floating(volume) || !belongs(volume)).collect()
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use keel_source::MemorySource;
    use zerocopy::{FromZeros, IntoBytes};

    use super::*;
    use crate::ext::witness::clue::JournalClue;

    /// A superblock of a volume of one group, with blocks of `1024 << log` bytes, that keeps `words` of its journal's inode.
    fn raw(log: u32, words: &[u32], bytes: u32) -> RawSuperblock {
        let mut raw = RawSuperblock::new_zeroed();
        raw.s_magic.set(0xEF53);
        raw.s_log_block_size.set(log);
        raw.s_log_cluster_size.set(log);
        raw.s_inodes_count.set(1024);
        raw.s_blocks_count_lo.set(8000);
        raw.s_first_data_block.set(u32::from(log == 0));
        raw.s_blocks_per_group.set(8192);
        raw.s_clusters_per_group.set(8192);
        raw.s_inodes_per_group.set(1024);
        raw.s_rev_level.set(1);
        raw.s_inode_size.set(256);
        raw.s_jnl_backup_type = BACKUP_OF_BLOCKS;
        let stored: Vec<u8> = words.iter().flat_map(|word| word.to_le_bytes()).collect();
        raw.s_jnl_blocks[..stored.len()].copy_from_slice(&stored);
        raw.s_jnl_blocks[64..68].copy_from_slice(&bytes.to_le_bytes());
        raw
    }

    /// `i_block` of a journal in these extents: logical block, length, place.
    fn extents(list: &[(u32, u16, u32)]) -> Vec<u32> {
        let mut words = vec![0xF30A | (list.len() as u32) << 16, 4, 0];
        words.extend(list.iter().flat_map(|(logical, len, at)| [*logical, u32::from(*len), *at]));
        words
    }

    #[test]
    fn the_journals_pieces_are_those_that_the_superblock_keeps() {
        let pieces = |raw: &RawSuperblock| journal_runs(raw);
        let two = raw(0, &extents(&[(0, 2, 80), (2, 900, 120)]), 902 * 1024);
        assert_eq!(pieces(&two), Some(vec![(80, 2), (120, 900)]));
        // The older map: blocks one by one, its own between them.
        let mapped = raw(0, &[300, 301, 302], 1000 * 1024);
        assert_eq!(pieces(&mapped), Some(vec![(300, 1000 + 15 + 3)]));
        let mut tree = raw(0, &extents(&[(0, 2, 80)]), 2048);
        tree.s_jnl_blocks[6] = 1;
        let mut silent = raw(0, &extents(&[(0, 2, 80)]), 2048);
        silent.s_jnl_backup_type = 0;
        for other in [tree, silent, raw(0, &extents(&[(0, 0, 80)]), 2048), raw(0, &[], 2048)] {
            assert_eq!(pieces(&other), None);
        }
    }

    #[test]
    fn a_superblock_in_a_journal_gives_the_start_of_the_volume() {
        for log in [0u32, 2] {
            let unit = 1024u64 << log;
            let own = raw(log, &extents(&[(0, 50, 200)]), (50 * 1024) << log);
            let (geometry, _) = ExtGeometry::parse(View::new("superblock", ByteOffset(0), own.as_bytes())).unwrap();
            let start = 1 << 20;
            let journal = start + 200 * unit;
            let mut clues = Clues::default();
            let clue = JournalClue { at: ByteOffset(journal), block_bytes: 1024 << log, blocks: 50 };
            clues.ext.journals = vec![clue];
            let kept = |block: u64| ByteOffset(journal + block * unit + geometry.superblock_at(0).0 % unit);
            let found = in_journal(kept(7), own.as_bytes(), &geometry, &clues).unwrap();
            assert_eq!((found.0.0, found.1.kept_superblock), (start, kept(7).0 - start), "{log}");
            assert_eq!(found.1, ExtGeometry { kept_superblock: found.1.kept_superblock, ..geometry });
            // Behind the journal, at another place in its block, before any journal, or in one of another block size: none.
            assert!(in_journal(kept(50), own.as_bytes(), &geometry, &clues).is_none());
            assert!(in_journal(kept(7) + 512, own.as_bytes(), &geometry, &clues).is_none());
            assert!(in_journal(ByteOffset(start), own.as_bytes(), &geometry, &clues).is_none());
            clues.ext.journals = vec![JournalClue { block_bytes: 8192 << log, ..clue }];
            assert!(in_journal(kept(7), own.as_bytes(), &geometry, &clues).is_none());
            // A journal so near to the front that the volume would begin before the drive.
            clues.ext.journals = vec![JournalClue { at: ByteOffset(5 * unit), ..clue }];
            assert!(in_journal(ByteOffset(9 * unit), own.as_bytes(), &geometry, &clues).is_none());
        }
    }

    #[test]
    fn blocks_of_a_journal_right_before_it_give_a_superblock_away() {
        let own = raw(2, &[], 0);
        let (geometry, _) = ExtGeometry::parse(View::new("superblock", ByteOffset(0), own.as_bytes())).unwrap();
        let mut bytes = vec![0; 1 << 20];
        let at = ByteOffset(100 * 4096 + 1024);
        let drive = |bytes: &[u8]| -> SharedSource { Arc::new(MemorySource::new("log", bytes.to_vec(), 512)) };
        assert!(!stands_in_log(&drive(&bytes), at, &geometry));
        for (back, kind, is_log) in [(1u64, 1u8, true), (64, 1, true), (65, 1, false), (3, 2, true), (3, 9, false)] {
            let place = ((100 - back) * 4096) as usize;
            bytes[place..place + 8].copy_from_slice(&[0xC0, 0x3B, 0x39, 0x98, 0, 0, 0, kind]);
            assert_eq!(stands_in_log(&drive(&bytes), at, &geometry), is_log, "{back} {kind}");
            bytes[place..place + 8].fill(0);
        }
        assert!(!stands_in_log(&drive(&bytes), ByteOffset(1024), &geometry), "at the front nothing stands before it");
    }
}
