//! The next step on a drive: one place decides it. Screens and commands say it with their own keys and words behind it.

use keel_source::{LinkKind, SharedSource, size_decimal};
use serde::{Deserialize, Serialize};

use crate::case::Case;
use crate::fathom;
use crate::find::{Find, Grade, outer};
use crate::intake::{self, Symptom};
use crate::ladder::{Ground, Ladder};
use crate::rung::{RungName, RungState};

/// How far a drive was swept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Swept {
    /// Not yet.
    #[default]
    No,
    /// Landmarks only.
    Landmarks,
    /// The surface, and stopped before the end.
    Stopped,
    /// To the end.
    Done,
}

/// What is known of a drive when the next step is asked for.
#[derive(Debug, Clone, Copy)]
pub struct Known<'a> {
    /// The ladder as it stands.
    pub ladder: &'a Ladder,
    /// The ladder as it would be by what is staged.
    pub planned: Option<&'a Ladder>,
    /// The finds.
    pub finds: &'a [Find],
    /// How far it was swept.
    pub swept: Swept,
    /// Edits that are staged.
    pub edits: usize,
    /// True when a plan was applied.
    pub applied: bool,
    /// True for a copy of another drive, with places that are missing.
    pub is_copy: bool,
    /// True when a copy of it was taken.
    pub copied: bool,
    /// True when its health page counts bad sectors.
    pub counts_bad: bool,
    /// True when a probe of it was interrupted and not put back.
    pub probe_open: bool,
    /// What the client sees, by the ids of [`crate::intake::SYMPTOMS`].
    pub symptoms: &'a [String],
}

/// The next step.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Advice {
    /// The drive shows no bytes: what can be checked outside of the computer.
    CheckOutside,
    /// Its link does not hold as it should.
    CheckCable,
    /// It fails, or says so.
    CopyFirst {
        /// True when only its page says so.
        by_page: bool,
    },
    /// It fails, and was copied.
    WorkOnCopy,
    /// A probe was interrupted.
    PutBack,
    /// A sweep was stopped.
    GoOnSweeping,
    /// So many bytes that nothing explains.
    SweepOpen(u64),
    /// What stands is broken and nothing was swept.
    Sweep,
    /// What is staged mends every broken rung.
    Apply,
    /// Something is staged.
    ReadPlan,
    /// Finds stand against one another.
    Settle,
    /// Its capacity is in doubt: nothing is written before it is known.
    Measure,
    /// Nothing is broken, and this rung is in doubt.
    ReadDoubt(RungName),
    /// Nothing that was looked at explains what the client sees.
    Unexplained(&'static str),
    /// Nothing is broken.
    Look,
    /// A plan was applied.
    Prove,
    /// Nothing can be mended.
    TakeOut,
}

impl Advice {
    /// What to do, as half a sentence.
    #[must_use]
    pub fn says(self) -> String {
        match self {
            Self::CheckOutside => "check outside the computer".into(),
            Self::CheckCable => "check the cable first".into(),
            Self::CopyFirst { by_page: false } => "copy it first".into(),
            Self::CopyFirst { by_page: true } => "its page counts bad sectors; copy it first".into(),
            Self::WorkOnCopy => "work on its copy".into(),
            Self::PutBack => "put back what the probe touched".into(),
            Self::GoOnSweeping => "go on with the sweep".into(),
            Self::SweepOpen(bytes) => format!("sweep the {} that nothing explains", size_decimal(bytes)),
            Self::Sweep => "sweep: landmarks and what they leave in doubt".into(),
            Self::Apply => "the plan mends every broken rung: read it, then apply".into(),
            Self::ReadPlan => "read the plan, then apply".into(),
            Self::Settle => "settle the layout: hold or drop finds".into(),
            Self::Measure => "its capacity is in doubt: measure it before anything is written".into(),
            Self::ReadDoubt(rung) => format!("no rung is broken; {} {} is in doubt: read why", rung.number(), rung.word()),
            Self::Unexplained(words) => format!("no rung explains \u{201c}{words}\u{201d}: check outside the computer"),
            Self::Look => "no rung is broken; look into the files".into(),
            Self::Prove => "take files out and prove them".into(),
            Self::TakeOut => "nothing can be mended here yet; take the files out".into(),
        }
    }
}

/// What a command or a report knows of a drive beside its ladder, and the next step that follows: its case, its copy and an open probe
/// are looked up.
#[must_use]
pub fn next(source: &SharedSource, ground: &Ground, ladder: &Ladder, finds: &[Find], swept: Swept, plan: Staging<'_>) -> Advice {
    let identity = source.identity();
    let case = identity.path.as_ref().and_then(|path| Case::of(path, Some(identity)).ok().flatten());
    advise(&Known {
        ladder,
        planned: plan.planned,
        finds,
        swept,
        edits: plan.edits,
        applied: plan.applied,
        is_copy: !source.missing().is_empty(),
        copied: case.as_ref().is_some_and(|case| case.record.copy.is_some()),
        counts_bad: ground.counts_bad(),
        probe_open: fathom::interrupted_of(source).is_some(),
        symptoms: case.as_ref().map_or(&[], |case| &case.record.told.symptoms),
    })
}

/// What is staged, or was applied.
#[derive(Debug, Clone, Copy, Default)]
pub struct Staging<'a> {
    /// Edits.
    pub edits: usize,
    /// The ladder as it would be by them.
    pub planned: Option<&'a Ladder>,
    /// True when they were applied.
    pub applied: bool,
}

/// The next step on a drive: what keeps it alive before all else, then ground that nobody looked at, then what is broken.
#[must_use]
pub fn advise(known: &Known<'_>) -> Advice {
    if let Some(advice) = for_the_drive(known) {
        return advice;
    }
    let ladder = known.ladder;
    // Ground that nothing explains is swept before a plan is called whole or a ladder sound.
    if !ladder.coverage.is_whole() {
        return match known.swept {
            Swept::Stopped => Advice::GoOnSweeping,
            _ => Advice::SweepOpen(ladder.coverage.unexplained_bytes()),
        };
    }
    if is_in_doubt(known) && (known.edits > 0 || ladder.lowest_broken.is_none()) && !known.applied {
        return Advice::Measure;
    }
    let weak = outer(known.finds).any(|find| find.grade < Grade::Strong);
    let broken = ladder.lowest_broken.is_some();
    let is_broken = |state: RungState| state == RungState::Broken;
    let nobodys =
        |volume: &crate::ladder::VolumeLadder| volume.kind.is_none() && volume.rungs.iter().any(|rung| is_broken(rung.state));
    match known.swept {
        _ if known.edits > 0 && known.planned.is_some_and(|planned| planned.lowest_broken.is_none()) => Advice::Apply,
        _ if known.applied => Advice::Prove,
        Swept::Stopped => Advice::GoOnSweeping,
        Swept::No | Swept::Landmarks if broken => Advice::Sweep,
        _ if !broken => sound(known),
        _ if weak || ladder.volumes.iter().any(nobodys) => Advice::Settle,
        _ if known.edits > 0 => Advice::ReadPlan,
        _ => Advice::TakeOut,
    }
}

/// Symptoms that a drive gives which claims more than it stores.
const OF_A_LIE: [&str; 2] = ["wrong_size", "files_garbled"];

/// True where the capacity is in doubt: by what was measured, or by what the client sees of a drive that was not.
fn is_in_doubt(known: &Known<'_>) -> bool {
    let link = known.ladder.drive.link;
    let state = known.ladder.rung(RungName::Capacity).map(|rung| rung.state);
    let can_lie = !matches!(link, LinkKind::Image | LinkKind::Derived);
    let told = known.symptoms.iter().any(|symptom| OF_A_LIE.contains(&symptom.as_str()));
    state == Some(RungState::Doubtful) || (can_lie && told && state == Some(RungState::Untested))
}

/// The next step where no rung is broken: what is in doubt, then what the client sees and nothing explains, then the files.
fn sound(known: &Known<'_>) -> Advice {
    let ladder = known.ladder;
    let all = || ladder.rungs.iter().chain(ladder.volumes.iter().flat_map(|volume| &volume.rungs));
    let doubtful = all().filter(|rung| rung.state == RungState::Doubtful).map(|rung| rung.rung).min();
    // What keeps the drive alive was asked before; a copy of one that wears out is there.
    if let Some(rung) = doubtful.filter(|rung| !matches!(rung, RungName::Link | RungName::Health)) {
        return Advice::ReadDoubt(rung);
    }
    let is_shown = |symptom: &&Symptom| all().any(|rung| symptom.rungs.contains(&rung.rung) && rung.state >= RungState::Doubtful);
    let told = known.symptoms.iter().filter_map(|id| intake::symptom(id));
    told.filter(|symptom| !is_shown(symptom)).map(|symptom| Advice::Unexplained(symptom.words)).next().unwrap_or(Advice::Look)
}

/// What comes before everything else: a link that does not hold, a drive that fails, one that was left half measured.
fn for_the_drive(known: &Known<'_>) -> Option<Advice> {
    let ladder = known.ladder;
    let state = |name| ladder.rung(name).map(|rung| rung.state);
    let broken = |name| state(name) == Some(RungState::Broken);
    if ladder.drive.bytes == 0 {
        return Some(Advice::CheckOutside);
    }
    if !known.is_copy && (broken(RungName::Reads) || broken(RungName::Health) || broken(RungName::Link)) {
        return Some(if known.copied { Advice::WorkOnCopy } else { Advice::CopyFirst { by_page: false } });
    }
    // What its page counts may not show in the samples.
    if !known.is_copy && known.counts_bad && !known.copied {
        return Some(Advice::CopyFirst { by_page: true });
    }
    if known.probe_open {
        return Some(Advice::PutBack);
    }
    let loose = state(RungName::Link) == Some(RungState::Doubtful) && ladder.lowest_broken.is_none();
    loose.then_some(Advice::CheckCable)
}

#[cfg(test)]
mod tests {
    use keel_source::{ByteOffset, ByteRange, Identity};

    use super::*;
    use crate::coverage::Coverage;
    use crate::ladder::{LowestBroken, Rung};

    /// A ladder with one rung in a state, of a drive of 1 GB of which `open` bytes are not explained.
    fn ladder(rung: RungName, state: RungState, open: u64) -> Ladder {
        let rung = Rung { rung, state, note: String::new(), findings: Vec::new(), next: Vec::new() };
        let broken = state == RungState::Broken;
        let unexplained = if open > 0 { vec![ByteRange::sized(ByteOffset(0), open)] } else { Vec::new() };
        Ladder {
            drive: Identity::bare("quay.img", 1_000_000_000, LinkKind::Image),
            lowest_broken: broken.then_some(LowestBroken { rung: rung.rung, volume: None }),
            rungs: vec![rung],
            volumes: Vec::new(),
            coverage: Coverage { bytes: 1_000_000_000, unexplained, ..Coverage::default() },
        }
    }

    fn known(ladder: &Ladder) -> Known<'_> {
        Known {
            ladder,
            planned: None,
            finds: &[],
            swept: Swept::No,
            edits: 0,
            applied: false,
            is_copy: false,
            copied: false,
            counts_bad: false,
            probe_open: false,
            symptoms: &[],
        }
    }

    #[test]
    fn a_drive_that_fails_is_copied_before_anything_else_is_said() {
        for rung in [RungName::Link, RungName::Health, RungName::Reads] {
            let sick = ladder(rung, RungState::Broken, 900);
            let copy_first = Advice::CopyFirst { by_page: false };
            assert_eq!(advise(&Known { probe_open: true, edits: 3, ..known(&sick) }), copy_first);
            assert_eq!(advise(&Known { copied: true, ..known(&sick) }), Advice::WorkOnCopy);
            // Of a copy the missing places are known: there is nothing more to copy.
            assert_eq!(advise(&Known { is_copy: true, ..known(&sick) }), Advice::SweepOpen(900));
        }
        let counting = ladder(RungName::Health, RungState::Doubtful, 0);
        assert_eq!(advise(&Known { counts_bad: true, ..known(&counting) }), Advice::CopyFirst { by_page: true });
        assert_eq!(advise(&Known { counts_bad: true, copied: true, ..known(&counting) }), Advice::Look);
        let mut silent = ladder(RungName::Link, RungState::Broken, 0);
        silent.drive.bytes = 0;
        assert_eq!(advise(&known(&silent)), Advice::CheckOutside);
    }

    #[test]
    fn what_is_in_doubt_is_read_before_the_files_and_a_capacity_is_measured_before_a_write() {
        fn garbled<'a>(ladder: &'a Ladder, seen: &'a [String]) -> Known<'a> {
            Known { swept: Swept::Done, symptoms: seen, ..known(ladder) }
        }
        let doubt = ladder(RungName::BootSector, RungState::Doubtful, 0);
        let told = Known { swept: Swept::Done, ..known(&doubt) };
        assert_eq!(advise(&told), Advice::ReadDoubt(RungName::BootSector));
        assert!(advise(&told).says().contains("in doubt"));
        // The client's word counts for a drive, and not for an image, which holds what it holds.
        let seen = ["files_garbled".to_string()];
        let mut untested = ladder(RungName::Capacity, RungState::Untested, 0);
        assert_eq!(advise(&garbled(&untested, &seen)), Advice::Unexplained("files open as garbage, or lose their content"));
        untested.drive.link = LinkKind::BlockDevice;
        assert_eq!(advise(&garbled(&untested, &seen)), Advice::Measure);
        assert_eq!(advise(&Known { edits: 3, planned: Some(&untested), ..garbled(&untested, &seen) }), Advice::Measure);
        assert_eq!(advise(&Known { applied: true, ..garbled(&untested, &seen) }), Advice::Prove, "what is written is written");
        let mut measured = ladder(RungName::Capacity, RungState::Sound, 0);
        measured.drive.link = LinkKind::BlockDevice;
        assert_eq!(advise(&Known { edits: 3, planned: Some(&measured), ..garbled(&measured, &seen) }), Advice::Apply);
        let doubted = ladder(RungName::Capacity, RungState::Doubtful, 0);
        assert_eq!(advise(&Known { swept: Swept::Done, ..known(&doubted) }), Advice::Measure);
    }

    #[test]
    fn what_the_client_sees_is_not_forgotten_where_nothing_explains_it() {
        let sound = ladder(RungName::Table, RungState::Sound, 0);
        let slow = ["slow".to_string(), "formatted".to_string()];
        let Advice::Unexplained(words) = advise(&Known { symptoms: &slow, ..known(&sound) }) else { panic!("it is forgotten") };
        assert_eq!(words, "very slow, the computer hangs with it");
        // A rung that it may come from and that does not hold explains it.
        let shown = ladder(RungName::Reads, RungState::Broken, 0);
        assert_eq!(advise(&Known { symptoms: &slow, ..known(&shown) }), Advice::CopyFirst { by_page: false });
        let broken = ladder(RungName::Table, RungState::Broken, 0);
        assert_eq!(advise(&Known { symptoms: &slow, ..known(&broken) }), Advice::Sweep, "what is broken comes first");
        assert_eq!(advise(&Known { symptoms: &["none of ours".into()], ..known(&sound) }), Advice::Look);
    }

    #[test]
    fn a_loose_cable_and_an_open_probe_come_before_the_volumes() {
        let loose = ladder(RungName::Link, RungState::Doubtful, 500);
        assert_eq!(advise(&known(&loose)), Advice::CheckCable);
        assert_eq!(advise(&Known { probe_open: true, ..known(&loose) }), Advice::PutBack);
    }

    #[test]
    fn nothing_is_called_whole_before_all_ground_was_looked_at() {
        let open = ladder(RungName::Table, RungState::Sound, 4_000_000_000);
        assert_eq!(advise(&Known { swept: Swept::Done, ..known(&open) }), Advice::SweepOpen(4_000_000_000));
        assert_eq!(advise(&Known { swept: Swept::Stopped, applied: true, ..known(&open) }), Advice::GoOnSweeping);
        let sound = ladder(RungName::Table, RungState::Sound, 0);
        assert!(advise(&known(&sound)) == Advice::Look && advise(&known(&open)).says().contains("4.0 GB"));
    }

    #[test]
    fn what_is_broken_is_swept_then_settled_then_planned() {
        let broken = ladder(RungName::Table, RungState::Broken, 0);
        let sound = ladder(RungName::Table, RungState::Sound, 0);
        for swept in [Swept::No, Swept::Landmarks] {
            assert_eq!(advise(&Known { swept, ..known(&broken) }), Advice::Sweep);
        }
        let done = Known { swept: Swept::Done, ..known(&broken) };
        assert_eq!(advise(&done), Advice::TakeOut);
        assert_eq!(advise(&Known { edits: 2, planned: Some(&broken), ..done }), Advice::ReadPlan);
        assert_eq!(advise(&Known { edits: 2, planned: Some(&sound), ..done }), Advice::Apply);
        assert_eq!(advise(&Known { applied: true, ..known(&sound) }), Advice::Prove);
        let all = [Advice::Settle, Advice::Look, Advice::TakeOut, Advice::Prove, Advice::Sweep];
        assert!(all.iter().all(|advice| !advice.says().is_empty()));
    }
}
