//! Finds from what the formats inferred.

use keel_format::table::TableReading;
use keel_format::{FoundVolume, Witness, WitnessKind};
use keel_source::{ByteOffset, ByteRange, SectorCount, SharedSource, printable};

use super::{inside, stored};
use crate::find::{Find, Grade};

/// Gives a length to volumes whose format records none: to the end of the table entry that starts there, else to the
/// next volume, else to the end of the drive less what a GPT needs there.
fn close_open_ends(source: &SharedSource, table: &TableReading, found: &mut [FoundVolume]) {
    const CUSTOMARY: u64 = 1 << 20;
    let starts: Vec<ByteOffset> = found.iter().map(|volume| volume.start).collect();
    let open = found.iter_mut().filter(|volume| volume.bytes == 0);
    for volume in open {
        let sector = source.sector_size();
        let entry = table.partitions.iter().map(|entry| entry.range(sector)).find(|range| range.start == volume.start);
        let next = starts.iter().copied().filter(|start| *start > volume.start).min();
        let last = ByteOffset(source.len().saturating_sub(34 * sector.bytes()) / CUSTOMARY * CUSTOMARY);
        let (end, how) = match (entry, next) {
            (Some(range), _) => (range.end, "a table entry that starts here gives the end"),
            (None, Some(next)) => (next, "the end is taken where the next volume starts"),
            (None, None) => (last, "the end is taken at the last customary boundary of the drive"),
        };
        volume.bytes = end - volume.start;
        volume.witnesses.push(Witness::at(WitnessKind::SizeRecord, volume.start, 0, how).length(volume.bytes));
    }
}

/// Names for each find of an older generation the present one that was made over it.
fn mark_older(finds: &mut [Find]) {
    let present: Vec<(String, ByteRange)> =
        finds.iter().filter(|find| !find.is_former()).map(|find| (find.id.clone(), find.range())).collect();
    for find in finds.iter_mut().filter(|find| find.is_former()) {
        let ground = find.range();
        let shared = |range: &ByteRange| range.overlap(ground).map_or(0, ByteRange::len);
        let host = present.iter().filter(|(_, range)| shared(range) > 0).max_by_key(|(_, range)| shared(range));
        find.older_than = host.map(|(id, _)| id.clone());
    }
}

/// Finds from what the formats inferred: sorted, numbered, graded, nested ones marked.
pub(super) fn make(source: &SharedSource, table: &TableReading, mut found: Vec<FoundVolume>) -> Vec<Find> {
    found.retain(|volume| volume.start.0 < source.len());
    found.sort_by_key(|volume| (volume.start, volume.kind));
    close_open_ends(source, table, &mut found);
    found.retain(|volume| volume.bytes > 0);
    let sector = source.sector_size();
    let mut finds: Vec<Find> = found
        .into_iter()
        .enumerate()
        .map(|(index, volume)| {
            let grade = Grade::of(&volume);
            let score = volume.score();
            let mut witnesses = volume.witnesses;
            witnesses.sort_by_key(|witness| std::cmp::Reverse(witness.weight));
            Find {
                id: format!("n{}", index + 1),
                kind: volume.kind,
                start_byte: volume.start,
                bytes: volume.bytes,
                start_lba: volume.start.lba(sector),
                sectors: SectorCount(volume.bytes.div_ceil(sector.bytes())),
                label: volume.label.map(|label| printable(&label)),
                grade,
                score,
                witnesses,
                inside: None,
                inside_file: None,
                older_than: None,
                newest: volume.newest,
                behind: None,
                geometry: volume.geometry,
            }
        })
        .collect();
    mark_older(&mut finds);
    inside::mark(source, &mut finds);
    stored::fit(source, &mut finds);
    finds
}
