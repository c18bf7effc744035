//! The ladder: which rungs hold, and the lowest one that does not. Runs on a drive and on an overlay alike.

mod drive;
mod ground;
mod lower;
mod trouble;
mod volume;

pub use ground::Ground;
pub use lower::{Lowered, lowered};
pub(crate) use lower::{compare, lowered_table};
pub(crate) use volume::{of_volume, samples};

use keel_format::table;
use keel_format::{Finding, Severity, VolumeKind};
use keel_source::{ByteOffset, Identity, SharedSource};
use serde::Serialize;

use crate::coverage::Coverage;
use crate::find::Find;
use crate::job::Cancel;
pub use crate::rung::{RungName, RungState};
use crate::sweep::Seen;

/// One rung.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Rung {
    /// Which.
    pub rung: RungName,
    /// Its state.
    pub state: RungState,
    /// A few words beside it: `10 of 10`, `an image has none`.
    pub note: String,
    /// What was found.
    pub findings: Vec<Finding>,
    /// What can be done next.
    pub next: Vec<String>,
}

impl Rung {
    fn new(rung: RungName, state: RungState, note: impl Into<String>) -> Self {
        Self { rung, state, note: note.into(), findings: Vec::new(), next: Vec::new() }
    }

    fn with(mut self, findings: Vec<Finding>) -> Self {
        self.findings = findings;
        self
    }

    fn then(mut self, next: impl Into<String>) -> Self {
        self.next.push(next.into());
        self
    }
}

/// The worst state that findings speak of.
fn worst(findings: &[Finding]) -> RungState {
    match findings.iter().map(|finding| finding.severity).max() {
        Some(Severity::Broken) => RungState::Broken,
        Some(Severity::Doubt) => RungState::Doubtful,
        _ => RungState::Sound,
    }
}

/// The rungs of one volume.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct VolumeLadder {
    /// Id of its find, or `p` and the slot of a table entry without one.
    pub id: String,
    /// Kind, where it is known.
    pub kind: Option<VolumeKind>,
    /// Label.
    pub label: Option<String>,
    /// First byte.
    pub start_byte: ByteOffset,
    /// Length in bytes.
    pub bytes: u64,
    /// Rungs 6 to 9.
    pub rungs: Vec<Rung>,
}

impl VolumeLadder {
    /// The ladder of a find.
    pub(crate) fn of(find: &Find, rungs: Vec<Rung>) -> Self {
        Self {
            id: find.id.clone(),
            kind: Some(find.kind),
            label: find.label.clone(),
            start_byte: find.start_byte,
            bytes: find.bytes,
            rungs,
        }
    }

    /// The label, or the id.
    #[must_use]
    pub fn name(&self) -> &str {
        self.label.as_deref().unwrap_or(&self.id)
    }
}

/// Where the lowest broken rung is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct LowestBroken {
    /// The rung.
    pub rung: RungName,
    /// The volume, for rungs 6 to 9.
    pub volume: Option<String>,
}

/// The whole ladder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Ladder {
    /// The drive.
    pub drive: Identity,
    /// Rungs 1 to 5.
    pub rungs: Vec<Rung>,
    /// A ladder for each volume.
    pub volumes: Vec<VolumeLadder>,
    /// The lowest broken rung, drive rungs before volume rungs.
    pub lowest_broken: Option<LowestBroken>,
    /// How much of the drive all this rests on.
    pub coverage: Coverage,
}

impl Ladder {
    /// What the ladder comes to, as a sentence: the lowest broken rung, or that none is, with the ground that this rests on.
    #[must_use]
    pub fn verdict(&self) -> String {
        match (&self.lowest_broken, self.coverage.is_whole()) {
            (Some(lowest), _) => {
                let of = lowest.volume.as_ref().map(|volume| format!(" of {volume}")).unwrap_or_default();
                format!("lowest broken: {} {}{of}", lowest.rung.number(), lowest.rung.word())
            }
            (None, true) => "no rung is broken".into(),
            (None, false) => format!("no rung is broken on the {} % of the drive that is explained", self.coverage.percent()),
        }
    }

    /// The drive rung of this name.
    #[must_use]
    pub fn rung(&self, name: RungName) -> Option<&Rung> {
        self.rungs.iter().find(|rung| rung.rung == name)
    }

    /// True when reads fail, the drive says of itself that it fails, or its link drops: the drive is to be copied before
    /// anything is written.
    #[must_use]
    pub fn reads_fail(&self) -> bool {
        let broken = |name| self.rung(name).is_some_and(|rung| rung.state == RungState::Broken);
        broken(RungName::Reads) || broken(RungName::Health) || broken(RungName::Link)
    }
}

/// Examines `source`: its own rungs, and those of every find and table entry. Stops early when cancelled; what was not
/// examined is `untested`.
#[must_use]
pub fn examine<'a>(source: &SharedSource, seen: impl Into<Seen<'a>>, cancel: &Cancel) -> Ladder {
    let ground = Ground::ask(source, cancel, &mut |_| {});
    examine_on(&ground, source, seen, cancel)
}

/// As [`examine`], on ground that was asked already: a drive is not read again for each view of it.
#[must_use]
pub fn examine_on<'a>(ground: &Ground, source: &SharedSource, seen: impl Into<Seen<'a>>, cancel: &Cancel) -> Ladder {
    let seen: Seen<'a> = seen.into();
    let table = table::read(source.as_ref());
    let coverage = Coverage::of(source, &table, seen.finds, seen.looked_at);
    let mut rungs = ground.rungs.clone();
    rungs.push(drive::table_rung(source, &table, seen.finds));
    rungs.sort_by_key(|rung| rung.rung);
    let volumes = volume::ladders(source, &table, seen.finds, cancel);
    let lowest_broken = lowest(&rungs, &volumes);
    Ladder { drive: source.identity().clone(), rungs, volumes, lowest_broken, coverage }
}

fn lowest(rungs: &[Rung], volumes: &[VolumeLadder]) -> Option<LowestBroken> {
    let drive =
        rungs.iter().find(|rung| rung.state == RungState::Broken).map(|rung| LowestBroken { rung: rung.rung, volume: None });
    let volume = || {
        let broken = volumes.iter().flat_map(|volume| volume.rungs.iter().map(move |rung| (rung, volume)));
        broken
            .filter(|(rung, _)| rung.state == RungState::Broken)
            .min_by_key(|(rung, _)| rung.rung)
            .map(|(rung, volume)| LowestBroken { rung: rung.rung, volume: Some(volume.id.clone()) })
    };
    drive.or_else(volume)
}
