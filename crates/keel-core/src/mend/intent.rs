//! What is asked of a plan before it may be written: each intent of an edit has a proof of its own.

use keel_source::{ByteOffset, ByteRange, RangeSet};

use crate::edit::{Edit, Intent};
use crate::ladder::{self, Ladder, Lowered, VolumeLadder};
use crate::rung::{RungName, RungState};

/// Sectors at the start of a drive that tables stand in: an MBR, the header of a GPT and its entries.
const TABLE_SECTORS: u64 = 34;

/// The ground of the edits of `intent`.
fn ground(edits: &[Edit], intent: Intent) -> RangeSet {
    edits.iter().filter(|edit| edit.intent == intent).map(Edit::range).collect()
}

/// True when some of `range` is in `ground`.
fn touches(ground: &RangeSet, range: ByteRange) -> bool {
    ground.lacking(range).iter().map(|range| range.len()).sum::<u64>() < range.len()
}

/// True when `volume` has some of `ground`.
fn is_on(ground: &RangeSet, volume: &VolumeLadder) -> bool {
    touches(ground, ByteRange::sized(volume.start_byte, volume.bytes))
}

fn broken(volume: &VolumeLadder) -> Option<RungName> {
    volume.rungs.iter().find(|rung| rung.state == RungState::Broken).map(|rung| rung.rung)
}

/// Why a plan of `edits` must not be written, by the ladder of the drive `now` and of the drive `after` it, each as a sentence. Of
/// repairs: what would stand lower. Of what is created: what would not be whole. Of what is erased: what would still stand. Volumes
/// that are `decided` about were left out by choice.
#[must_use]
pub fn objections(edits: &[Edit], now: &Ladder, after: &Ladder, decided: &dyn Fn(&VolumeLadder) -> bool) -> Vec<String> {
    let (created, erased) = (ground(edits, Intent::Create), ground(edits, Intent::Erase));
    let asked_to_go = |volume: &VolumeLadder| is_on(&created, volume) || is_on(&erased, volume);
    let lowered = ladder::lowered(now, after, &|volume| decided(volume) || asked_to_go(volume));
    // A table that goes, or that another one takes the place of, was asked to.
    let tables = ByteRange::sized(ByteOffset(0), TABLE_SECTORS * now.drive.logical_sector.bytes());
    let renewed = [&created, &erased].into_iter().any(|ground| touches(ground, tables));
    let counts = |lowered: &&Lowered| !(renewed && lowered.volume.is_none() && lowered.rung == RungName::Table);
    let mut objections: Vec<String> = lowered.iter().filter(counts).map(Lowered::sentence).collect();
    for volume in after.volumes.iter().filter(|volume| !decided(volume)) {
        let was = now.volumes.iter().any(|old| old.id == volume.id);
        if let Some(rung) = broken(volume).filter(|_| is_on(&created, volume) && !was) {
            let (number, word) = (rung.number(), rung.word());
            objections
                .push(format!("{}, which is created, would not be whole: rung {number} {word} would be broken", volume.name()));
        }
        if is_on(&erased, volume) && !is_on(&created, volume) && broken(volume).is_none() && volume.kind.is_some() {
            objections.push(format!("{}, which is to be erased, would still stand", volume.name()));
        }
    }
    objections
}
