//! QCOW2 (QEMU's `docs/interop/qcow2.rst`): the counts of references say which clusters are used.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

/// The most entries of the table of counts.
const MOST_ENTRIES: u64 = 1 << 17;

/// Walks a disk.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (version, bits) = (walk.be32(4)?, walk.be32(20)?);
    if !(2..=3).contains(&version) || !(9..=21).contains(&bits) {
        return wrong("its header is none");
    }
    let cluster = 1u64 << bits;
    let (table, clusters) = (walk.be64(48)?, u64::from(walk.be32(56)?));
    let order = if version == 3 { walk.be32(96)? } else { 4 };
    let entries = clusters.saturating_mul(cluster / 8);
    if table == 0 || !table.is_multiple_of(cluster) || entries > MOST_ENTRIES || !(3..=6).contains(&order) {
        return wrong("its table of counts is none");
    }
    walk.hold(104);
    // A block of counts is a cluster; one count has 2^order bits, at least a byte here.
    let (width, each) = (1u64 << (order - 3), cluster >> (order - 3));
    let mut last = None;
    for entry in 0..entries {
        let block = walk.be64(table + 8 * entry)? & !0x1FF;
        if block > 0 {
            last = Some((entry, block));
        }
    }
    let Some((entry, block)) = last else { return wrong("no cluster of it is used") };
    if !block.is_multiple_of(cluster) {
        return wrong("its table of counts leads nowhere");
    }
    let counts = block_of(walk, block, cluster)?;
    let used = counts.chunks(usize::try_from(width).unwrap_or(1)).rposition(|count| count.iter().any(|byte| *byte != 0));
    let Some(used) = used else { return wrong("its last block of counts is empty") };
    let end = (entry * each + used as u64 + 1).checked_mul(cluster).ok_or(Broken::End)?;
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "its counts of references say which cluster is its last"))
}

fn block_of(walk: &mut Walk<'_>, at: u64, cluster: u64) -> Step<Vec<u8>> {
    let mut all = Vec::new();
    walk.pieces(at, at.checked_add(cluster).ok_or(Broken::End)?, &mut |piece| all.extend_from_slice(piece))?;
    Ok(all)
}
