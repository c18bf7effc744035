//! What is staged, and the jobs that stage and examine it.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;

use keel_core::job::{Job, Message};
use keel_core::ladder::{Ladder, VolumeLadder};
use keel_core::layout::{self, Layout};
use keel_core::mend::{self, Edit, Proven, Staged, Wishes, Withheld};
use keel_core::plan::Plan;
use keel_format::table::{self, TableReading};
use keel_source::SharedSource;

use super::Writing;
use crate::app::effect::{Effect, Effects, job, show, tell};
use crate::stage::Drive;
use crate::stage::narrowed::{Column, Narrowed};
use crate::stage::renew::Renewal;

/// What is said of work that was stopped and left things as they were.
const STOPPED: &str = "stopped: layout and plan are those of before the last choice";

/// What a staging comes to: the layout, and what is staged for it.
pub(crate) struct Settled {
    table: TableReading,
    layout: Layout,
    staged: Staged,
    planned: Option<TableReading>,
}

/// The state of the Plan: the table as it is, what is staged, and what came of it.
pub(crate) struct State {
    /// The table as the drive has it.
    pub(crate) table: TableReading,
    /// The table as planned, where something is staged.
    pub(crate) planned: Option<TableReading>,
    pub(crate) layout: Option<Layout>,
    pub(crate) edits: Arc<[Edit]>,
    /// Edits that were dropped, with those that rested on them.
    pub(crate) dropped: Vec<Edit>,
    /// The groups that the technician dropped.
    pub(crate) without: BTreeSet<String>,
    /// Which edits are listed, and in which order: numbers behind the edits are those of dropped ones.
    pub(super) list: Narrowed,
    /// What is broken and has no edit.
    pub(crate) withheld: Vec<Withheld>,
    /// True when a core structure cannot be read.
    pub(crate) copy_first: bool,
    pub(crate) staging: Option<Job<(), Option<Settled>>>,
    /// The ladder as planned.
    pub(crate) after: Option<Ladder>,
    pub(crate) after_job: Option<Job<(), Option<Ladder>>>,
    /// Selected edit.
    pub(crate) selected: usize,
    /// First line of bytes shown of it.
    pub(crate) line: usize,
    pub(crate) override_words: Option<String>,
    pub(crate) writing: Option<Writing>,
    /// Steps or bytes that were written.
    pub(crate) written: u64,
    /// The last bundle that was written or found.
    pub(crate) bundle: Option<PathBuf>,
    /// True after an apply, until something new is staged.
    pub(crate) applied: bool,
    /// What was proven of each volume after the last apply.
    pub(crate) proof: Vec<Proven>,
    pub(crate) proof_job: Option<Job<(), Option<Vec<Proven>>>>,
    /// What is said of it where it is a draft that was handed over.
    pub(crate) renewal: Option<Renewal>,
}

impl State {
    /// Takes a draft in the place of the repairs that were staged.
    pub(in crate::stage) fn take_renewal(&mut self, edits: Arc<[Edit]>, planned: TableReading, after: Ladder, renewal: Renewal) {
        (self.edits, self.planned, self.after, self.renewal) = (edits, Some(planned), Some(after), Some(renewal));
        (self.dropped, self.withheld, self.copy_first, self.override_words) = (Vec::new(), Vec::new(), false, None);
        (self.selected, self.line, self.applied) = (0, 0, false);
        self.choose_rows();
    }

    pub(in crate::stage) fn of(source: &SharedSource) -> Self {
        Self {
            table: table::read(source.as_ref()),
            planned: None,
            layout: None,
            edits: Arc::default(),
            dropped: Vec::new(),
            without: BTreeSet::new(),
            list: Narrowed::default(),
            withheld: Vec::new(),
            copy_first: false,
            staging: None,
            after: None,
            after_job: None,
            selected: 0,
            line: 0,
            override_words: None,
            writing: None,
            written: 0,
            bundle: None,
            applied: false,
            proof: Vec::new(),
            proof_job: None,
            renewal: None,
        }
    }

    /// True while the layout is settled, or what is staged has not been examined: what can be mended is not known then.
    pub(crate) fn is_settling(&self) -> bool {
        self.staging.is_some() || self.after_job.is_some()
    }

    /// The edit in a row of the list, and whether it was dropped.
    pub(super) fn row(&self, row: usize) -> Option<(&Edit, bool)> {
        match row.checked_sub(self.edits.len()) {
            None => self.edits.get(row).map(|edit| (edit, false)),
            Some(dropped) => self.dropped.get(dropped).map(|edit| (edit, true)),
        }
    }

    /// The selected edit, and whether it was dropped.
    pub(super) fn selected_edit(&self) -> Option<(&Edit, bool)> {
        self.row(self.list.kept(self.selected)).filter(|_| !self.list.rows().is_empty())
    }

    /// Chooses anew which edits are listed.
    pub(super) fn choose_rows(&mut self) {
        let rows: Vec<(usize, &Edit)> = self.edits.iter().chain(&self.dropped).enumerate().collect();
        self.list.choose(&rows, &columns(), |(_, edit)| {
            format!("{} {} {} {}", edit.structure, edit.belongs.group, edit.at_byte.0, edit.reason)
        });
        self.selected = self.list.kept(self.selected);
    }
}

/// What the edits are ordered by.
fn columns<'a>() -> [Column<(usize, &'a Edit)>; 4] {
    [
        ("order of writing", |one, other| one.0.cmp(&other.0)),
        ("place", |one, other| one.1.at_byte.cmp(&other.1.at_byte)),
        ("structure", |one, other| one.1.structure.cmp(&other.1.structure)),
        ("size", |one, other| other.1.after.len().cmp(&one.1.after.len())),
    ]
}

/// Drops the selected edit with all that is written with it or rests on it, or takes it back.
pub(super) fn drop_edit(drive: &mut Drive) -> Effects {
    if drive.plan.renewal.is_some() {
        return tell("the edits of a draft belong together: change it in Renew (9)");
    }
    let Some((edit, dropped)) = drive.plan.selected_edit() else { return tell("no edit is selected") };
    let belongs = edit.belongs.clone();
    if !dropped {
        drive.plan.without.insert(belongs.group);
    } else if !drive.plan.without.remove(&belongs.group) {
        // It went with something that it rests on: that comes back first.
        let Some(need) = belongs.needs.into_iter().find(|need| drive.plan.without.contains(need)) else { return Vec::new() };
        drive.plan.without.remove(&need);
    }
    stage_anew()
}

/// Lists the edits in the order of the next column.
pub(super) fn order_next(drive: &mut Drive) -> Effects {
    let word = drive.plan.list.next_column(&columns());
    drive.plan.choose_rows();
    tell(format!("edits by {word}"))
}

/// Turns the order of the edits around.
pub(super) fn reverse(drive: &mut Drive) -> Effects {
    drive.plan.list.reverse();
    drive.plan.choose_rows();
    Vec::new()
}

/// Settles the layout and stages the edits anew: after new finds, and after every choice. What is asked for later takes the place of
/// what is not done yet.
pub(crate) fn stage_anew() -> Effects {
    vec![job("stage anew", |drive| {
        let (finds, choices) = (drive.sweep.finds.clone(), drive.sweep.choices.clone());
        let wishes = Wishes { without: drive.plan.without.clone(), ..drive.mend.wishes() };
        drive.plan.staging = Some(Job::reading(&drive.source, move |source, _| {
            let table = table::read(source.as_ref());
            let layout = layout::settle(source, &table, &finds, &choices);
            let staged = mend::stage(source, &table, &finds, &layout, &wishes);
            let view: SharedSource = Arc::new(mend::overlay(source, &staged.edits));
            let planned = (!staged.edits.is_empty()).then(|| table::read(view.as_ref()));
            Settled { table, layout, staged, planned }
        }));
    })]
}

/// Examines the ladder as planned.
pub(crate) fn examine() -> Effect {
    job("examine the plan", |drive| {
        (drive.plan.after, drive.plan.after_job) = (None, None);
        if !drive.plan.edits.is_empty() {
            drive.plan.after_job = Some(drive.examine(&drive.planned_view()));
        }
    })
}

impl Drive {
    /// The drive as it would be.
    pub(crate) fn planned_view(&self) -> SharedSource {
        Arc::new(mend::overlay(&self.source, &self.plan.edits))
    }

    /// The plan as it stands.
    pub(crate) fn staged_plan(&self) -> Plan {
        if let Some(renewal) = &self.plan.renewal {
            let plan = Plan::new(&self.source, Arc::clone(&self.plan.edits), false);
            return plan.lowering(renewal.against.clone()).wanting(renewal.words);
        }
        let copy_first = self.plan.copy_first || self.ladder.now.as_ref().is_some_and(Ladder::reads_fail);
        let lowers = match (&self.ladder.now, &self.plan.after, &self.plan.layout) {
            (Some(now), Some(after), Some(layout)) => {
                let decided = |volume: &VolumeLadder| mend::is_decided(volume, &self.sweep.finds, layout);
                mend::objections(&self.plan.edits, now, after, &decided)
            }
            _ => Vec::new(),
        };
        Plan::new(&self.source, Arc::clone(&self.plan.edits), copy_first).lowering(lowers)
    }

    fn take_settled(&mut self, settled: Settled) {
        let (plan, staged) = (&mut self.plan, settled.staged);
        (plan.edits, plan.withheld, plan.copy_first) = (staged.edits.into(), staged.withheld, staged.copy_first);
        plan.dropped = staged.dropped;
        plan.renewal = None;
        (plan.table, plan.planned, plan.layout) = (settled.table, settled.planned, Some(settled.layout));
        plan.after = None;
        plan.choose_rows();
        self.sweep.selected = self.sweep.selected.min(self.sweep.finds.len().saturating_sub(1));
    }
}

/// Takes what was staged, and the ladder that follows from it.
pub(super) fn reports(drive: &mut Drive) -> Effects {
    let mut effects = Vec::new();
    for message in drive.plan.staging.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(Some(settled)) => {
                drive.take_settled(settled);
                // While the drive is swept it is read for that alone; what is staged at its end is examined.
                effects.extend(drive.sweep.job.is_none().then(examine));
            }
            Message::Done(None) => effects.extend(tell(STOPPED)),
            Message::Died(text) => effects.push(show("The staging died", text)),
        }
        drive.plan.staging = None;
    }
    for message in drive.plan.after_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(ladder) => drive.plan.after = ladder,
            Message::Died(text) => effects.push(show("The examination died", text)),
        }
        drive.plan.after_job = None;
    }
    effects
}
