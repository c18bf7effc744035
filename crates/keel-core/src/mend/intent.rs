//! What is asked of a plan before it may be written: each intent of an edit has a proof of its own.

use keel_source::{ByteRange, RangeSet};

use crate::edit::{Edit, Intent};
use crate::ladder::{self, Ladder, Lowered, VolumeLadder};
use crate::rung::{RungName, RungState};

/// The ground of the edits of `intent`.
fn ground(edits: &[Edit], intent: Intent) -> RangeSet {
    let mut ground = RangeSet::default();
    edits.iter().filter(|edit| edit.intent == intent).for_each(|edit| ground.add(edit.range()));
    ground
}

/// True when `volume` has some of `ground`.
fn is_on(ground: &RangeSet, volume: &VolumeLadder) -> bool {
    let own = ByteRange::sized(volume.start_byte, volume.bytes);
    ground.lacking(own).iter().map(|range| range.len()).sum::<u64>() < own.len()
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
    let renews = created.bytes() + erased.bytes() > 0;
    let asked_to_go = |volume: &VolumeLadder| is_on(&created, volume) || is_on(&erased, volume);
    let lowered = ladder::lowered(now, after, &|volume| decided(volume) || asked_to_go(volume));
    // A table that goes, or that another one takes the place of, was asked to.
    let counts = |lowered: &&Lowered| !(renews && lowered.volume.is_none() && lowered.rung == RungName::Table);
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
