//! What there is to tell of a drive to whoever gets it back: what was wrong, what was done, what is back and what is not. Facts alone; the
//! words are the report's.

mod before;
mod content;
mod deed;
mod taken;

pub use content::{Branch, Counted, Sample, VolumeAccount};
pub use deed::{Deed, DeedLine};
pub use taken::TakenAccount;

use keel_format::table::TableReading;
use keel_source::{ByteRange, RangeSet, SharedSource};

use crate::bundle::Bundle;
use crate::case::{self, JournalLine};
use crate::job::Cancel;
use crate::ladder::{self, Ground, Ladder};
use crate::rung::{RungName, RungState};
use crate::sweep::Sweep;

/// A rung that did not hold when the drive came in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wrong {
    /// Which.
    pub rung: RungName,
    /// [`RungState::Doubtful`] or [`RungState::Broken`].
    pub state: RungState,
    /// The volume that it is about, by name and kind; none for the drive itself.
    pub volume: Option<String>,
    /// True where it holds now.
    pub is_mended: bool,
}

/// The drive as it was before the plans that were applied to it.
#[derive(Debug, Clone)]
pub struct Before {
    /// What its table places said.
    pub table: TableReading,
    /// Its rungs.
    pub ladder: Ladder,
    /// Places that the plans wrote.
    pub places: u64,
}

/// All that there is to tell.
#[derive(Debug, Clone)]
pub struct Account {
    /// The drive before the plans that were applied and not undone; none where there were none, or too much was written.
    pub before: Option<Before>,
    /// What was wrong, from the ground up.
    pub wrong: Vec<Wrong>,
    /// What was done, in order.
    pub done: Vec<DeedLine>,
    /// True where the journal knows of nothing that may have written to the drive, and no plan stands on it.
    pub is_untouched: bool,
    /// The volumes that stand on the drive, and those of older generations.
    pub volumes: Vec<VolumeAccount>,
    /// What was taken out, as its manifests say, each once.
    pub taken: Vec<TakenAccount>,
    /// Places of the drive that do not read.
    pub bad: Vec<ByteRange>,
}

/// What an account is made from.
#[derive(Clone, Copy)]
pub struct From<'a> {
    /// The drive.
    pub source: &'a SharedSource,
    /// Its sweep.
    pub swept: &'a Sweep,
    /// What was asked of it beside its surface.
    pub ground: &'a Ground,
    /// Its rungs as it stands.
    pub ladder: &'a Ladder,
    /// Its journal; empty without a case.
    pub journal: &'a [JournalLine],
    /// Stops the work: what was not looked at by then is missing.
    pub cancel: &'a Cancel,
}

impl Account {
    /// What there is to tell of a drive.
    #[must_use]
    pub fn of(from: From<'_>) -> Self {
        let From { source, swept, ground, ladder, journal, cancel } = from;
        let bundles: Vec<Bundle> = case::bundles(source.identity()).iter().filter_map(|path| Bundle::read(path).ok()).collect();
        let before = before::view(source, &bundles).map(|view| Before {
            table: keel_format::table::read(view.source.as_ref()),
            ladder: ladder::examine_on(ground, &view.source, swept, cancel),
            places: view.places,
        });
        let wrong = wrong(before.as_ref().map_or(ladder, |before| &before.ladder), ladder);
        let bad: RangeSet = swept.bad.iter().chain(source.missing()).copied().collect();
        let is_untouched = before.is_none() && !deed::may_have_written(journal);
        Self {
            before,
            is_untouched,
            wrong,
            done: journal.iter().filter_map(DeedLine::of).collect(),
            volumes: content::volumes(source, &swept.finds, &bad, cancel),
            taken: taken::taken(journal),
            bad: bad.ranges().to_vec(),
        }
    }

    /// The volumes that stand on the drive, or stood there last.
    pub fn present(&self) -> impl Iterator<Item = &VolumeAccount> {
        self.volumes.iter().filter(|volume| !volume.is_former)
    }

    /// Files of all sorts, of the volumes that stand on the drive.
    #[must_use]
    pub fn counted(&self) -> Counted {
        self.present().flat_map(|volume| volume.sorts.values()).fold(Counted::default(), |sum, own| sum.and(*own))
    }
}

/// What did not hold before, and whether it does now.
fn wrong(before: &Ladder, now: &Ladder) -> Vec<Wrong> {
    let fails = |state: RungState| matches!(state, RungState::Doubtful | RungState::Broken);
    let of_drive = before.rungs.iter().filter(|rung| fails(rung.state)).map(|rung| Wrong {
        rung: rung.rung,
        state: rung.state,
        volume: None,
        is_mended: now.rung(rung.rung).is_some_and(|now| now.state == RungState::Sound),
    });
    let of_volumes = before.volumes.iter().flat_map(|volume| {
        let stands = now.volumes.iter().find(|now| now.start_byte == volume.start_byte && now.kind == volume.kind);
        let name = volume.kind.map_or_else(|| volume.name().to_string(), |kind| format!("{} ({})", volume.name(), kind.word()));
        volume.rungs.iter().filter(|rung| fails(rung.state)).map(move |rung| Wrong {
            rung: rung.rung,
            state: rung.state,
            volume: Some(name.clone()),
            is_mended: stands
                .and_then(|stands| stands.rungs.iter().find(|now| now.rung == rung.rung))
                .is_some_and(|now| now.state == RungState::Sound),
        })
    });
    of_drive.chain(of_volumes).collect()
}
