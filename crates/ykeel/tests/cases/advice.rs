//! The rules of the next step, over every demo drive in every state that it may be in.

use std::path::PathBuf;
use std::sync::Arc;

use keel_core::advice::{Advice, Known, Swept, advise};
use keel_core::intake;
use keel_core::job::{Cancel, Desk};
use keel_core::ladder::{self, Ground, Ladder, RungName, RungState};
use keel_core::layout::{self, Choices};
use keel_core::mend::{self, Edit, Only};
use keel_core::sweep::{self, Reach, Sweep, SweepOptions};
use keel_core::yard;
use keel_source::{OpenOptions, SharedSource};

/// A demo drive, asked and swept.
struct Asked {
    name: String,
    source: SharedSource,
    ground: Ground,
    /// By reach: landmarks, and where they leave doubt.
    swept: [(Sweep, Ladder); 2],
    edits: Vec<Edit>,
    planned: Option<Ladder>,
}

fn asked(path: &std::path::Path) -> Option<Asked> {
    let source = yard::as_seen(yard::open(path, OpenOptions::default()).ok()?).ok()?;
    let ground = Ground::ask(&source, &Cancel::default(), &mut |_| {});
    let swept = [Reach::Landmarks, Reach::Doubt].map(|reach| {
        let swept = sweep::sweep(&source, &SweepOptions { reach, state: None }, &Desk::new(Cancel::default()).0);
        let ladder = ladder::examine_on(&ground, &source, &swept, &Cancel::default());
        (swept, ladder)
    });
    let last = &swept[1].0;
    let layout = layout::settle(&source, &last.table, &last.finds, &Choices::default());
    let edits = mend::stage(&source, &last.table, &last.finds, &layout, &Only::All.into()).edits;
    let view: SharedSource = Arc::new(mend::overlay(&source, &edits));
    let planned = (!edits.is_empty()).then(|| ladder::examine_on(&ground, &view, last, &Cancel::default()));
    let name = path.file_name().unwrap().to_string_lossy().into_owned();
    Some(Asked { name, source, ground, swept, edits, planned })
}

impl Asked {
    /// What is known of it after a sweep.
    fn known(&self, which: usize, swept: Swept) -> Known<'_> {
        let (sweep, ladder) = &self.swept[which];
        Known {
            ladder,
            planned: None,
            finds: &sweep.finds,
            swept,
            edits: 0,
            applied: false,
            is_copy: !self.source.missing().is_empty(),
            copied: false,
            counts_bad: self.ground.counts_bad(),
            probe_open: false,
            symptoms: &[],
        }
    }

    /// What is known of it in each of its states, with the word for that.
    fn states(&self) -> Vec<(&'static str, Known<'_>)> {
        let (fresh, swept) = (self.known(0, Swept::Landmarks), self.known(1, Swept::Done));
        let staged = Known { edits: self.edits.len(), planned: self.planned.as_ref(), ..swept };
        let mut states = vec![
            ("fresh", fresh),
            ("swept", swept),
            ("sweep stopped", Known { swept: Swept::Stopped, ..fresh }),
            ("copied", Known { copied: true, ..swept }),
            ("copied, fresh", Known { copied: true, ..fresh }),
            ("probe interrupted", Known { probe_open: true, ..fresh }),
            ("staged", staged),
        ];
        // After the apply the ladder is the planned one.
        states.extend(self.planned.as_ref().map(|planned| ("mended", Known { ladder: planned, applied: true, ..swept })));
        states
    }
}

/// Which rule an advice breaks, where it does.
fn broken_rule(known: &Known<'_>, advice: Advice) -> Option<&'static str> {
    use Advice::{
        Apply, CheckCable, CheckOutside, CopyFirst, GoOnSweeping, Look, Measure, Prove, PutBack, ReadDoubt, ReadPlan, SweepOpen,
        TakeOut, Unexplained, WorkOnCopy,
    };
    let ladder = known.ladder;
    let state = |rung: RungName| ladder.rung(rung).map(|rung| rung.state);
    let all = || ladder.rungs.iter().chain(ladder.volumes.iter().flat_map(|volume| &volume.rungs));
    let sick = [RungName::Link, RungName::Health, RungName::Reads].iter().any(|rung| state(*rung) == Some(RungState::Broken));
    let keeps_alive = matches!(advice, CheckOutside | CheckCable | CopyFirst { .. } | WorkOnCopy | PutBack);
    let writes = matches!(advice, Apply | ReadPlan);
    let calls_sound = matches!(advice, Look | Unexplained(_) | ReadDoubt(_));
    let doubtful =
        |rung: &ladder::Rung| rung.state == RungState::Doubtful && !matches!(rung.rung, RungName::Link | RungName::Health);
    match () {
        () if sick && !known.is_copy && !keeps_alive => {
            Some("a drive that fails is copied, or its copy worked on, before all else")
        }
        () if known.copied && matches!(advice, CopyFirst { .. }) => Some("a copy that exists is worked on and not made again"),
        () if ladder.lowest_broken.is_some() && calls_sound => Some("the lowest broken rung comes first"),
        () if advice == Look && all().any(doubtful) => Some("what is doubtful comes before the files"),
        () if !ladder.coverage.is_whole() && !keeps_alive && !matches!(advice, SweepOpen(_) | GoOnSweeping) => {
            Some("unexplained ground is swept before a plan is complete or a drive sound")
        }
        () if known.probe_open && !keeps_alive => Some("what a probe touched is put back first"),
        () if writes && state(RungName::Capacity) == Some(RungState::Doubtful) => {
            Some("a capacity in doubt is measured before anything is written")
        }
        () if advice == Apply && known.planned.is_none_or(|planned| planned.lowest_broken.is_some()) => {
            Some("a plan that leaves a rung broken mends not every one")
        }
        () if writes && known.edits == 0 => Some("nothing is staged"),
        () if advice == TakeOut && ladder.lowest_broken.is_none() => Some("nothing is broken"),
        () if advice == Prove && !known.applied => Some("nothing was applied"),
        () if advice == Measure && known.applied => Some("what is written is written"),
        () => None,
    }
}

/// Asks for the next step in every state of a drive, whatever its client sees; notes what was said.
fn keeps_the_rules(drive: &Asked, said: &mut Vec<String>) {
    for (word, known) in drive.states() {
        let advice = advise(&known);
        assert_eq!(broken_rule(&known, advice), None, "{} {word}: {advice:?}", drive.name);
        assert!(!advice.says().is_empty());
        said.push(format!("{advice:?}"));
        // Whatever the client sees changes nothing that comes before, and where nothing explains it it is said.
        for symptom in intake::SYMPTOMS {
            let symptoms = [symptom.id.to_string()];
            let told = Known { symptoms: &symptoms, ..known };
            let with = advise(&told);
            assert_eq!(broken_rule(&told, with), None, "{} {word} {}: {with:?}", drive.name, symptom.id);
            if with == Advice::Look {
                let all = known.ladder.rungs.iter().chain(known.ladder.volumes.iter().flat_map(|volume| &volume.rungs));
                let explained =
                    all.into_iter().any(|rung| symptom.rungs.contains(&rung.rung) && rung.state >= RungState::Doubtful);
                assert!(explained, "{} {word}: {} is forgotten", drive.name, symptom.id);
            }
        }
    }
}

#[test]
fn the_next_step_keeps_every_rule_on_every_demo_drive_in_every_state() {
    let state = tempfile::tempdir().unwrap();
    keel_core::case::keep_state_in(state.path());
    let paths = yard::paths(crate::support::yard()).unwrap();
    let (even, odd): (Vec<_>, Vec<_>) = paths.into_iter().enumerate().partition(|(index, _)| index % 2 == 0);
    let of = |paths: Vec<(usize, PathBuf)>| {
        let (mut drives, mut said) = (0, Vec::new());
        for (_, path) in paths {
            let Some(drive) = asked(&path) else { continue };
            drives += 1;
            keeps_the_rules(&drive, &mut said);
        }
        (drives, said)
    };
    let [(one, said), (other, more)] = std::thread::scope(|scope| {
        let both = [even, odd].map(|paths| scope.spawn(|| of(paths)));
        both.map(|part| part.join().unwrap())
    });
    let all: Vec<String> = said.into_iter().chain(more).collect();
    assert!(one + other > 25 && all.len() > 180, "{one} {other} {}", all.len());
    // The drives are many enough that most of it is said of one.
    let kinds: std::collections::BTreeSet<&str> = all.iter().filter_map(|said| said.split(['(', ' ']).next()).collect();
    assert!(kinds.len() >= 9, "{kinds:?}");
}
