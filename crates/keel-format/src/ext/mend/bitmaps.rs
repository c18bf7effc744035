//! Bitmaps of groups whose own were overwritten, counted anew from the inodes and the ground that they hold.

use std::ops::Range;

use keel_source::{ByteOffset, ByteRange, RangeSet};

use super::super::{ExtGeometry, ExtVolume};
use super::census::Census;
use crate::read_bytes;

/// A bitmap with fewer changes between free and used than one in this many bits is one that a file system wrote; noise and text change
/// at every second to fourth.
const BITS_A_CHANGE: usize = 8;

/// The bitmaps of `group` that cannot be its own: block, what it is called, and its bytes as they should be.
pub(super) fn lost(volume: &ExtVolume, group: u32, census: &Census) -> Vec<(u64, String, Vec<u8>)> {
    let geometry = volume.geometry();
    let Ok(raw) = volume.best_descriptor(group) else { return Vec::new() };
    let wide = |low: u32, high: u32| u64::from(low) | u64::from(high) << 32;
    let places = [
        (wide(raw.bg_inode_bitmap_lo.get(), raw.bg_inode_bitmap_hi.get()), "inode bitmap", inodes(geometry, group, census)),
        (wide(raw.bg_block_bitmap_lo.get(), raw.bg_block_bitmap_hi.get()), "block bitmap", blocks(geometry, group, census)),
    ];
    let stands = |block: u64, wanted: &[u8]| {
        let at = geometry.block_at(block)?;
        let found = read_bytes(volume.source().as_ref(), at, wanted.len(), "bitmap").ok()?;
        let counts = found.iter().zip(wanted).all(|(found, wanted)| found & wanted == *wanted);
        Some(counts && changes(&found) <= found.len() * 8 / BITS_A_CHANGE)
    };
    places
        .into_iter()
        .filter(|(block, _, wanted)| *block != 0 && stands(*block, wanted) != Some(true))
        .map(|(block, name, wanted)| (block, format!("{name} of group {group}"), wanted))
        .collect()
}

/// How often a bit differs from the one before it.
fn changes(bits: &[u8]) -> usize {
    let inside: u32 = bits.iter().map(|byte| ((byte ^ (byte >> 1)) & 0x7F).count_ones()).sum();
    let between = bits.windows(2).filter(|pair| matches!(pair, [one, next] if one >> 7 != next & 1)).count();
    inside as usize + between
}

fn inodes(geometry: &ExtGeometry, group: u32, census: &Census) -> Vec<u8> {
    let mut bits = vec![0; geometry.block_bytes as usize];
    let first = u64::from(group) * u64::from(geometry.inodes_per_group);
    for inside in 0..geometry.inodes_per_group {
        if census.is_used(first + u64::from(inside) + 1) {
            set(&mut bits, u64::from(inside)..u64::from(inside) + 1);
        }
    }
    let all = bits.len() as u64 * 8;
    set(&mut bits, u64::from(geometry.inodes_per_group)..all);
    bits
}

fn blocks(geometry: &ExtGeometry, group: u32, census: &Census) -> Vec<u8> {
    let mut bits = vec![0; geometry.block_bytes as usize];
    let (unit, cluster) = (u64::from(geometry.block_bytes), u64::from(geometry.cluster_bytes.max(geometry.block_bytes)));
    let first = geometry.first_block(group) * unit;
    let end = (geometry.first_block(group) + u64::from(geometry.blocks_per_group)).min(geometry.blocks) * unit;
    for held in overlapping(&census.held, ByteRange::new(ByteOffset(first), ByteOffset(end))) {
        set(&mut bits, (held.start.0 - first) / cluster..(held.end.0 - first).div_ceil(cluster));
    }
    let all = bits.len() as u64 * 8;
    set(&mut bits, (end - first).div_ceil(cluster)..all);
    bits
}

/// The parts of `range` that are in `set`.
fn overlapping(set: &RangeSet, range: ByteRange) -> impl Iterator<Item = ByteRange> {
    let from = set.ranges().partition_point(|own| own.end <= range.start);
    set.ranges().iter().skip(from).map_while(move |own| own.overlap(range))
}

fn set(bits: &mut [u8], range: Range<u64>) {
    for bit in range {
        let byte = usize::try_from(bit / 8).ok().and_then(|index| bits.get_mut(index));
        byte.into_iter().for_each(|byte| *byte |= 1 << (bit % 8));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bits_that_change_are_counted_inside_of_bytes_and_between_them() {
        assert_eq!(changes(&[0b0000_1111, 0xFF, 0x00]), 3, "inside of a byte, at the next one, and at the one behind");
        assert_eq!(changes(&[0x55; 4]), 31);
        assert_eq!((changes(&[]), changes(&[0xFF; 9])), (0, 0));
    }
}
