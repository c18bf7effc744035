//! The rule of staging: what is planned may leave no rung lower than it stands now.

use keel_format::table;
use keel_source::{ByteOffset, SharedSource};

use super::{Ladder, Rung, RungName, RungState, VolumeLadder, drive, volume};
use crate::find::Find;

/// A rung that would stand lower than it does now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lowered {
    /// Which.
    pub rung: RungName,
    /// The volume, for rungs 6 to 9.
    pub volume: Option<String>,
    /// How it stands now, and how it would.
    pub states: [RungState; 2],
}

impl Lowered {
    /// What would happen, as a sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        let of = self.volume.as_ref().map(|volume| format!(" of {volume}")).unwrap_or_default();
        let [now, then] = self.states;
        format!("rung {} {}{of} would be {} instead of {}", self.rung.number(), self.rung.word(), then.word(), now.word())
    }
}

/// The rungs that stand lower in `after` than in `now`. Volumes of which `left_out` is true are not asked: the technician
/// decided against them.
#[must_use]
pub fn lowered(now: &Ladder, after: &Ladder, left_out: &dyn Fn(&VolumeLadder) -> bool) -> Vec<Lowered> {
    let mut lowered = compare(None, &now.rungs, &after.rungs);
    for volume in now.volumes.iter().filter(|volume| !left_out(volume)) {
        lowered.extend(lowered_volume(volume, &after.volumes));
    }
    lowered
}

/// The rungs of the table and of the entries alone, now and as they would be: quick, since nothing is opened.
pub(crate) fn lowered_table(
    source: &SharedSource,
    view: &SharedSource,
    finds: &[Find],
    left_out: &dyn Fn(&VolumeLadder) -> bool,
) -> Vec<Lowered> {
    let rungs = |source: &SharedSource| {
        let table = table::read(source.as_ref());
        (drive::table_rung(source, &table, finds), volume::entries(source, &table, finds))
    };
    let ((now, entries), (then, planned)) = (rungs(source), rungs(view));
    let mut lowered = compare(None, &[now], &[then]);
    for volume in entries.iter().filter(|volume| !left_out(volume)) {
        lowered.extend(lowered_volume(volume, &planned));
    }
    lowered
}

fn lowered_volume(volume: &VolumeLadder, planned: &[VolumeLadder]) -> Vec<Lowered> {
    // An entry without a find may get another number; its ground tells it.
    let same = |other: &&VolumeLadder| match volume.kind {
        Some(_) => other.id == volume.id,
        None => (other.start_byte, other.bytes) == (volume.start_byte, volume.bytes),
    };
    let Some(then) = planned.iter().find(same) else { return vanished(volume, planned) };
    compare(Some(&volume.id), &volume.rungs, &then.rungs)
}

/// An entry that would be no more: nothing is lost where it led nowhere, or where another one takes its ground.
fn vanished(volume: &VolumeLadder, planned: &[VolumeLadder]) -> Vec<Lowered> {
    let end = ByteOffset(volume.start_byte.0.saturating_add(volume.bytes));
    let taken = planned.iter().any(|other| {
        let other_end = ByteOffset(other.start_byte.0.saturating_add(other.bytes));
        other.start_byte < end && volume.start_byte < other_end
    });
    let entry = volume.rungs.iter().find(|rung| rung.rung == RungName::Entry && rung.state == RungState::Sound);
    let lost = entry.filter(|_| !taken);
    let lowered =
        |rung: &Rung| Lowered { rung: rung.rung, volume: Some(volume.id.clone()), states: [rung.state, RungState::Broken] };
    lost.map(lowered).into_iter().collect()
}

/// The rungs of one volume, or of the drive, that stand lower in `after` than in `now`.
pub(crate) fn compare(volume: Option<&str>, now: &[Rung], after: &[Rung]) -> Vec<Lowered> {
    let pairs = now.iter().filter_map(|rung| Some((rung, after.iter().find(|other| other.rung == rung.rung)?)));
    // What nobody could examine before may turn out to be anything.
    let lower = pairs.filter(|(now, then)| then.state > now.state && now.state != RungState::Untested);
    lower
        .map(|(now, then)| Lowered { rung: now.rung, volume: volume.map(str::to_string), states: [now.state, then.state] })
        .collect()
}
