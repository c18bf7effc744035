//! The drive in work: what is known of it, what is staged, what runs.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use keel_core::CoreError;
use keel_core::advice::Swept;
use keel_core::files::{ExtractProgress, Extracted};
use keel_core::job::Job;
use keel_core::ladder::{self, Ground, Ladder, Rung, VolumeLadder};
use keel_core::layout::{self, Choices, Layout};
use keel_core::mend::{self, Edit, Look, Proven, Staged, Withheld};
use keel_core::plan::{Applied, Plan, Step};
use keel_core::reads::{ReadsProgress, Survey};
use keel_core::sweep::{Find, Reach, RootLook, Seen, Sweep, SweepProgress};
use keel_format::table::{self, TableReading};
use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::copy::CopyState;
use super::fathom::FathomState;
use super::files::FilesState;
use super::mend::MendState;

/// An apply, and what read before it.
pub(crate) type Witnessed = (Applied, BTreeMap<String, Look>);

/// What a settling comes to: the layout, and what is staged for it.
pub(crate) struct Settled {
    table: TableReading,
    layout: Layout,
    staged: Staged,
    planned: Option<TableReading>,
}

/// A survey, and why it could not be kept.
pub(crate) type Surveyed = (Survey, Option<String>);

/// Work that writes.
pub(crate) enum Writing {
    /// A plan is applied.
    Apply(Job<Step, Result<Witnessed, CoreError>>),
    /// An apply is finished or rolled back; true when the plan stands on the drive then.
    Recover(Job<Step, Result<bool, CoreError>>),
    /// A repaired copy is saved.
    Save(Job<u64, Result<Vec<ByteRange>, CoreError>>),
}

/// The drive in work.
pub(crate) struct Drive {
    /// The drive as the stages see it: as far as it stores, without what is missing of a copy.
    pub(crate) source: SharedSource,
    /// The drive as it claims to be.
    pub(crate) claimed: SharedSource,
    /// Its own rungs, once they were asked.
    pub(crate) ground: Option<Ground>,
    pub(crate) ground_job: Option<Job<Rung, Ground>>,
    /// Rungs that are known while others are still asked.
    pub(crate) live: Vec<Rung>,
    pub(crate) copy: CopyState,
    pub(crate) fathom: FathomState,
    /// The reading of the whole surface.
    pub(crate) survey: Option<Survey>,
    pub(crate) survey_job: Option<Job<ReadsProgress, Surveyed>>,
    pub(crate) surveying: Option<ReadsProgress>,
    pub(crate) table: TableReading,
    pub(crate) ladder: Option<Ladder>,
    pub(crate) after: Option<Ladder>,
    pub(crate) finds: Vec<Find>,
    pub(crate) swept: Swept,
    /// Volumes that were inferred and are not among the finds: they are too many.
    pub(crate) untold: usize,
    /// The ground of which every sector was looked at.
    pub(crate) looked_at: Vec<ByteRange>,
    pub(crate) reach: Reach,
    pub(crate) progress: Option<SweepProgress>,
    pub(crate) bad: Vec<ByteRange>,
    pub(crate) choices: Choices,
    pub(crate) layout: Option<Layout>,
    pub(crate) edits: Arc<[Edit]>,
    /// What is broken and has no edit.
    pub(crate) withheld: Vec<Withheld>,
    /// True when a core structure cannot be read.
    pub(crate) copy_first: bool,
    pub(crate) mend: MendState,
    /// What was proven of each volume after the last apply.
    pub(crate) proof: Vec<Proven>,
    pub(crate) proof_job: Option<Job<(), Option<Vec<Proven>>>>,
    pub(crate) planned: Option<TableReading>,
    pub(crate) files: FilesState,
    /// The last bundle that was written or found.
    pub(crate) bundle: Option<PathBuf>,
    /// True after an apply, until something new is staged.
    pub(crate) applied: bool,
    pub(crate) override_words: Option<String>,

    pub(crate) sweep_job: Option<Job<SweepProgress, Sweep>>,
    pub(crate) settle_job: Option<Job<(), Option<Settled>>>,
    pub(crate) ladder_job: Option<Job<(), Option<Ladder>>>,
    pub(crate) after_job: Option<Job<(), Option<Ladder>>>,
    pub(crate) report_job: Option<Job<(), Option<Result<PathBuf, String>>>>,
    pub(crate) writing: Option<Writing>,
    pub(crate) written: u64,
    pub(crate) extract_job: Option<Job<ExtractProgress, Result<Extracted, CoreError>>>,
    pub(crate) extract_progress: Option<ExtractProgress>,

    /// Selected rung on the ladder, 1 to 9.
    pub(crate) rung: u32,
    /// The finds that are compared, by their ids.
    pub(crate) comparing: Option<(String, String)>,
    /// Their roots, as far as they are read.
    pub(crate) looks: Vec<RootLook>,
    pub(crate) looks_job: Option<Job<(), Option<Vec<RootLook>>>>,
    /// Selected volume on the ladder.
    pub(crate) volume: usize,
    /// Selected find on the sweep.
    pub(crate) find: usize,
    /// Selected edit of the plan.
    pub(crate) edit: usize,
    /// First line of bytes shown of the selected edit.
    pub(crate) edit_line: usize,
    /// How often the keel was zoomed in: each time halves what it shows.
    pub(crate) zoom: u32,
}

impl Drive {
    pub(crate) fn new(source: SharedSource) -> Self {
        let table = table::read(source.as_ref());
        Self {
            claimed: SharedSource::clone(&source),
            ground: None,
            ground_job: None,
            live: Vec::new(),
            copy: CopyState::default(),
            fathom: FathomState { verdict: keel_core::fathom::known(&source), ..FathomState::default() },
            survey: keel_core::reads::known(&source),
            survey_job: None,
            surveying: None,
            table,
            ladder: None,
            after: None,
            finds: Vec::new(),
            swept: Swept::No,
            untold: 0,
            looked_at: Vec::new(),
            reach: Reach::Landmarks,
            progress: None,
            bad: Vec::new(),
            choices: Choices::default(),
            layout: None,
            edits: Arc::default(),
            withheld: Vec::new(),
            copy_first: false,
            mend: MendState::default(),
            proof: Vec::new(),
            proof_job: None,
            planned: None,
            files: FilesState::default(),
            bundle: None,
            applied: false,
            override_words: None,
            sweep_job: None,
            settle_job: None,
            ladder_job: None,
            after_job: None,
            report_job: None,
            writing: None,
            written: 0,
            extract_job: None,
            extract_progress: None,
            rung: 5,
            comparing: None,
            looks: Vec::new(),
            looks_job: None,
            volume: 0,
            find: 0,
            edit: 0,
            edit_line: 0,
            zoom: 0,
            source,
        }
    }

    /// Settles the layout and stages the edits anew, on a thread of its own: after new finds, and after every choice. What is asked
    /// for later takes the place of what is not done yet.
    pub(crate) fn settle(&mut self) {
        let (finds, choices, wishes) = (self.finds.clone(), self.choices.clone(), self.mend.wishes());
        self.settle_job = Some(Job::reading(&self.source, move |source, _| {
            let table = table::read(source.as_ref());
            let layout = layout::settle(source, &table, &finds, &choices);
            let staged = mend::stage(source, &table, &finds, &layout, &wishes);
            let view: SharedSource = Arc::new(mend::overlay(source, &staged.edits));
            let planned = (!staged.edits.is_empty()).then(|| table::read(view.as_ref()));
            Settled { table, layout, staged, planned }
        }));
    }

    /// Takes what was settled.
    pub(crate) fn take_settled(&mut self, settled: Settled) {
        let staged = settled.staged;
        (self.edits, self.withheld, self.copy_first) = (staged.edits.into(), staged.withheld, staged.copy_first);
        (self.table, self.planned, self.layout) = (settled.table, settled.planned, Some(settled.layout));
        self.after = None;
        self.edit = self.edit.min(self.edits.len().saturating_sub(1));
        self.find = self.find.min(self.finds.len().saturating_sub(1));
    }

    /// Looks at the table's structures in the Mend stage.
    pub(crate) fn look_at_table(&mut self) {
        let Some(layout) = self.layout.clone() else { return };
        self.mend.look_at_table(&self.source, self.table.clone(), layout);
    }

    /// The drive as it would be.
    pub(crate) fn view(&self) -> SharedSource {
        Arc::new(mend::overlay(&self.source, &self.edits))
    }

    /// Begins to examine `view`: the drive, or the drive as it would be.
    pub(crate) fn examine(&self, view: &SharedSource) -> Job<(), Option<Ladder>> {
        let (finds, looked_at, ground) = (self.finds.clone(), self.looked_at.clone(), self.ground.clone());
        let asked = SharedSource::clone(view);
        Job::reading(view, move |view, cancel| {
            let seen = Seen { finds: &finds, looked_at: &looked_at };
            match ground {
                Some(ground) => ladder::examine_on(&ground, view, seen, cancel),
                // How the drive delivers is asked of itself.
                None => ladder::examine(&asked, seen, cancel),
            }
        })
    }

    /// The plan as it stands.
    pub(crate) fn plan(&self) -> Plan {
        let copy_first = self.copy_first || self.ladder.as_ref().is_some_and(Ladder::reads_fail);
        let lowers = match (&self.ladder, &self.after, &self.layout) {
            (Some(now), Some(after), Some(layout)) => {
                let decided = |volume: &VolumeLadder| mend::is_decided(volume, &self.finds, layout);
                mend::objections(&self.edits, now, after, &decided)
            }
            _ => Vec::new(),
        };
        Plan::new(&self.source, Arc::clone(&self.edits), copy_first).lowering(lowers)
    }

    /// True while anything runs.
    pub(crate) fn is_busy(&self) -> bool {
        self.sweep_job.is_some()
            || self.settle_job.is_some()
            || self.report_job.is_some()
            || self.ladder_job.is_some()
            || self.after_job.is_some()
            || self.writing.is_some()
            || self.extract_job.is_some()
            || self.looks_job.is_some()
            || self.files.is_busy()
            || self.mend.is_busy()
            || self.proof_job.is_some()
            || self.ground_job.is_some()
            || self.survey_job.is_some()
            || self.copy.is_busy()
            || self.fathom.is_busy()
    }

    /// The two finds that are compared.
    pub(crate) fn compared(&self) -> Option<(&Find, &Find)> {
        let (one, other) = self.comparing.as_ref()?;
        let find = |id: &str| self.finds.iter().find(|find| find.id == id);
        Some((find(one)?, find(other)?))
    }

    /// The find selected on the sweep.
    pub(crate) fn selected_find(&self) -> Option<&Find> {
        self.finds.get(self.find)
    }

    /// The find of the volume selected on the ladder.
    pub(crate) fn selected_volume_find(&self) -> Option<&Find> {
        let volume = self.ladder.as_ref()?.volumes.get(self.volume)?;
        self.finds.iter().find(|find| find.id == volume.id)
    }

    /// The stretch of the drive that the keel shows: all of it, or a part around the middle of the selection.
    pub(crate) fn keel_window(&self, around: ByteOffset) -> ByteRange {
        let len = self.source.len();
        let width = (len >> self.zoom.min(20)).max(1 << 20).min(len);
        let start = around.0.saturating_sub(width / 2).min(len - width);
        ByteRange::sized(ByteOffset(start), width)
    }

    /// Stops whatever runs and may be stopped; a write is never stopped half-way.
    pub(crate) fn cancel(&mut self) {
        let flags = [
            flag(self.ground_job.as_ref()),
            flag(self.sweep_job.as_ref()),
            flag(self.settle_job.as_ref()),
            flag(self.ladder_job.as_ref()),
            flag(self.after_job.as_ref()),
            flag(self.looks_job.as_ref()),
            flag(self.report_job.as_ref()),
            flag(self.extract_job.as_ref()),
            flag(self.proof_job.as_ref()),
            flag(self.survey_job.as_ref()),
        ];
        flags.into_iter().flatten().for_each(keel_core::job::Cancel::cancel);
        self.mend.cancel();
        self.files.cancel();
        self.copy.cancel();
        self.fathom.cancel();
    }
}

/// The flag that stops a job.
pub(super) fn flag<P: Send + 'static, R: Send + 'static>(job: Option<&Job<P, R>>) -> Option<&keel_core::job::Cancel> {
    job.map(Job::cancel)
}
