//! Sparse extents of VMDK (Virtual Disk Format 5.0): a directory of tables of grains.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

const SECTOR: u64 = 512;
/// The most tables.
const MOST_TABLES: u64 = 1 << 20;

/// Walks an extent.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (version, flags) = (walk.le32(4)?, walk.le32(8)?);
    let (capacity, grain) = (walk.le64(12)?, walk.le64(20)?);
    let (per_table, directory, overhead) = (u64::from(walk.le32(44)?), walk.le64(56)?, walk.le64(64)?);
    if !(1..=3).contains(&version) || !grain.is_power_of_two() || per_table != 512 || grain < 8 {
        return wrong("its header is none");
    }
    if flags & 0x1_0000 != 0 {
        // Its grains are packed, one behind the other, and its directory stands at an end that only they lead to.
        walk.hold(SECTOR);
        return wrong("its grains are packed, and nothing at its start leads to its end");
    }
    let tables = capacity.div_ceil(grain).div_ceil(per_table);
    if tables > MOST_TABLES {
        return wrong("it has more tables than any has");
    }
    let mut furthest = overhead;
    for table in 0..tables {
        let at = u64::from(walk.le32(directory.checked_mul(SECTOR).ok_or(Broken::End)? + 4 * table)?);
        if at == 0 {
            continue;
        }
        furthest = furthest.max(at + per_table * 4 / SECTOR);
        for entry in 0..per_table {
            let own = u64::from(walk.le32(at * SECTOR + 4 * entry)?);
            if own > 1 {
                furthest = furthest.max(own + grain);
            }
        }
    }
    let end = furthest.checked_mul(SECTOR).ok_or(Broken::End)?;
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "its tables of grains lead to its end"))
}
