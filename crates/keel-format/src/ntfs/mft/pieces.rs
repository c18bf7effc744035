//! Pieces of an MFT that no run list names any more: records say their numbers, and stand on clusters that the cluster bitmap counts
//! and no other record claims.

use std::ops::Range;

use keel_source::{ByteOffset, SharedSource};

use super::MftMap;
use crate::ntfs::runs::Run;
use crate::ntfs::{NtfsGeometry, NtfsVolume, Record, check};
use crate::read_bytes;

/// How often pieces are looked for: what records in one claim is no place of another.
const MOST_ROUNDS: usize = 6;
/// The most clusters that are looked at in each round.
const MOST_CLUSTERS: u64 = 1 << 18;

/// Adds to `map` what is found; where a piece is not found a hole stays.
pub(super) fn add(source: &SharedSource, geometry: &NtfsGeometry, map: &mut MftMap) {
    if geometry.cluster_bytes == 0 || geometry.record_bytes == 0 {
        return;
    }
    for _ in 0..MOST_ROUNDS {
        let volume = NtfsVolume::with_map(SharedSource::clone(source), *geometry, map.clone());
        let Some(unclaimed) = check::unclaimed(&volume) else { return };
        let found = pieces_in(source, geometry, map, unclaimed);
        if found.is_empty() {
            return;
        }
        map.runs.retain(|run| run.lcn.is_some());
        map.runs.extend(found);
        map.runs.sort_by_key(|run| run.vcn);
        fill_holes(&mut map.runs);
        let end = map.runs.last().map_or(0, |run| run.vcn + run.clusters);
        map.records = end.saturating_mul(u64::from(geometry.cluster_bytes)) / u64::from(geometry.record_bytes);
    }
}

/// Pieces on clusters that nothing claims, of records whose place is not known.
fn pieces_in(source: &SharedSource, geometry: &NtfsGeometry, map: &MftMap, ground: Vec<Range<u64>>) -> Vec<Run> {
    let (unit, size) = (u64::from(geometry.cluster_bytes), u64::from(geometry.record_bytes));
    // What one step takes: a cluster, or the clusters of one record.
    let step = size.div_ceil(unit);
    let known = |vcn: u64| map.runs.iter().any(|run| run.lcn.is_some() && run.vcn <= vcn && vcn < run.vcn + run.clusters);
    let mut found: Vec<Run> = Vec::new();
    let mut left = MOST_CLUSTERS;
    for run in ground {
        let mut lcn = run.start;
        while lcn + step <= run.end && left > 0 {
            left -= 1;
            let vcn = number_at(source, geometry, lcn).map(|number| number * size / unit);
            let fresh =
                vcn.filter(|vcn| !known(*vcn) && !found.iter().any(|run| run.vcn <= *vcn && *vcn < run.vcn + run.clusters));
            let Some(vcn) = fresh else {
                lcn += 1;
                continue;
            };
            match found
                .last_mut()
                .filter(|last| last.vcn + last.clusters == vcn && last.lcn.map(|at| at + last.clusters) == Some(lcn))
            {
                Some(last) => last.clusters += step,
                None => found.push(Run { vcn, lcn: Some(lcn), clusters: step }),
            }
            lcn += step;
        }
    }
    found
}

/// The number of the record that begins at cluster `lcn`, when it is the first of a cluster of the MFT.
fn number_at(source: &SharedSource, geometry: &NtfsGeometry, lcn: u64) -> Option<u64> {
    let at: ByteOffset = geometry.cluster_at(lcn);
    let bytes = read_bytes(source.as_ref(), at, geometry.record_bytes as usize, "file record").ok()?;
    let number = Record::parse(bytes, at).ok()?.number()?;
    let place = number.checked_mul(u64::from(geometry.record_bytes))?;
    (place.is_multiple_of(u64::from(geometry.cluster_bytes)) || geometry.cluster_bytes < geometry.record_bytes).then_some(number)
}

fn fill_holes(runs: &mut Vec<Run>) {
    let mut whole: Vec<Run> = Vec::with_capacity(runs.len());
    let mut next = 0;
    for run in std::mem::take(runs) {
        if run.vcn < next {
            continue;
        }
        if run.vcn > next {
            whole.push(Run { vcn: next, lcn: None, clusters: run.vcn - next });
        }
        next = run.vcn.saturating_add(run.clusters);
        match whole.last_mut().filter(|last| last.lcn.zip(run.lcn).is_some_and(|(one, other)| one + last.clusters == other)) {
            Some(last) => last.clusters += run.clusters,
            None => whole.push(run),
        }
    }
    *runs = whole;
}
