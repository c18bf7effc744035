//! What is asked of the drive in work as a whole.

use std::path::Path;

use keel_core::advice::{Known, advise};
use keel_core::job::Job;
use keel_core::ladder::{self, Ground, Ladder};
use keel_core::sweep::{Find, Seen, outer};
use keel_core::yard::{Sight, Work};
use keel_source::{ByteOffset, ByteRange, SharedSource, size_decimal};

use super::{Drive, Running, StageId, Weight, runs, stop};
use crate::place;

/// The least that the keel shows, in bytes.
const LEAST_WINDOW: u64 = 1 << 20;

impl Drive {
    /// What runs, each job in words: what weighs most first.
    pub(crate) fn running(&self) -> Vec<Running> {
        self.running_in_stages().into_iter().map(|(_, running)| running).collect()
    }

    /// What runs, with the stage that shows it.
    pub(crate) fn running_in_stages(&self) -> Vec<(StageId, Running)> {
        let report = runs(self.report_job.is_some(), Weight::Long, "writing the report");
        let of = |id: StageId| id.stage().running(self).into_iter().map(move |running| (id, running));
        let of_drive = place::running(self).into_iter().chain(report).map(|running| (StageId::Ladder, running));
        let mut running: Vec<(StageId, Running)> = StageId::ALL.into_iter().flat_map(of).chain(of_drive).collect();
        running.sort_by_key(|(_, running)| std::cmp::Reverse(running.weight));
        running
    }

    /// True while something is in work that would be lost with it: a job, staged edits, choices, marks.
    pub(crate) fn is_in_work(&self) -> bool {
        let chosen = &self.sweep.choices;
        let is_chosen = !chosen.hold.is_empty() || !chosen.drop.is_empty() || !chosen.types.is_empty();
        let is_staged = !self.plan.edits.is_empty() || !self.files.marked.is_empty();
        self.is_busy() || is_staged || is_chosen || !self.notices.is_empty()
    }

    /// True while anything runs.
    pub(crate) fn is_busy(&self) -> bool {
        !self.running().is_empty()
    }

    /// True while something is written to it, or about to be.
    pub(crate) fn is_written(&self) -> bool {
        self.running().iter().any(|running| running.weight == Weight::Writes)
    }

    /// Stops whatever runs and may be stopped.
    pub(crate) fn cancel(&mut self) {
        stop(self.report_job.as_ref());
        place::cancel(self);
        StageId::ALL.iter().for_each(|id| id.stage().cancel(self));
    }

    /// True for the drive at this path.
    pub(crate) fn is_at(&self, path: &Path) -> bool {
        self.source.identity().path.as_deref() == Some(path)
    }

    /// What is known of it when the next step is asked for; none before its ladder was examined.
    pub(crate) fn known(&self) -> Option<Known<'_>> {
        Some(Known {
            ladder: self.ladder.now.as_ref()?,
            planned: self.plan.after.as_ref(),
            finds: &self.sweep.finds,
            swept: self.sweep.swept,
            edits: self.plan.edits.len(),
            applied: self.plan.applied,
            is_copy: !self.source.missing().is_empty(),
            copied: self.copy.is_there(),
            counts_bad: self.ladder.ground.as_ref().is_some_and(Ground::counts_bad),
            probe_open: self.fathom.interrupted,
            symptoms: &self.symptoms,
        })
    }

    /// What the yard says of it from now on.
    pub(crate) fn sight(&self) -> Option<Sight> {
        let known = self.known()?;
        let copy = self.copy.dest.as_ref().and_then(|dest| std::path::absolute(dest).ok());
        let work = Work { swept: self.sweep.swept, applied: self.plan.applied, copy };
        Some(Sight::of(known.ladder, advise(&known).says(), work))
    }

    /// Its name without the ending of an image.
    pub(crate) fn plain_name(&self) -> String {
        self.source.identity().name.replace(".img", "")
    }

    /// Which drive it is, for whoever is about to write to it: name, model, serial number, size.
    pub(crate) fn who(&self) -> String {
        let identity = self.source.identity();
        let model = identity.model.as_deref().filter(|model| *model != identity.name);
        let serial = identity.serial.as_deref().map(|serial| format!("serial {serial}"));
        let facts = [model.map(str::to_string), serial, Some(size_decimal(identity.bytes))];
        let facts: Vec<String> = facts.into_iter().flatten().collect();
        format!("{} ({})", identity.name, facts.join(", "))
    }

    /// True where `line` is the drive's code.
    pub(crate) fn is_code(&self, line: &str) -> bool {
        line.trim().eq_ignore_ascii_case(&self.source.identity().code())
    }

    /// The find selected on the sweep.
    pub(crate) fn selected_find(&self) -> Option<&Find> {
        self.sweep.finds.get(self.sweep.selected)
    }

    /// The find of the volume selected on the ladder.
    pub(crate) fn selected_volume_find(&self) -> Option<&Find> {
        let volume = self.ladder.now.as_ref()?.volumes.get(self.ladder.volume)?;
        self.sweep.finds.iter().find(|find| find.id == volume.id)
    }

    /// The find that lies at a byte of the drive, where one does.
    pub(crate) fn find_at(&self, place: ByteOffset) -> Option<&Find> {
        outer(&self.sweep.finds).find(|find| find.range().contains(place))
    }

    /// Selects what lies at a byte of the drive: its find, and its volume on the ladder.
    pub(crate) fn select_at(&mut self, place: ByteOffset) {
        let Some(index) = self.sweep.finds.iter().position(|find| find.range().contains(place)) else { return };
        self.sweep.selected = index;
        let id = self.selected_find().map(|find| find.id.clone());
        let volumes = self.ladder.now.iter().flat_map(|ladder| &ladder.volumes);
        if let Some(volume) = volumes.into_iter().position(|volume| Some(&volume.id) == id.as_ref()) {
            self.ladder.volume = volume;
        }
    }

    /// The stretch of the drive that the keel shows: all of it, or a part around the middle of the selection.
    pub(crate) fn keel_window(&self, around: ByteOffset) -> ByteRange {
        let len = self.source.len();
        let width = (len >> self.zoom.min(20)).max(LEAST_WINDOW).min(len);
        let start = around.0.saturating_sub(width / 2).min(len - width);
        ByteRange::sized(ByteOffset(start), width)
    }

    /// Begins to examine `view`: the drive, or the drive as it would be.
    pub(super) fn examine(&self, view: &SharedSource) -> Job<(), Option<Ladder>> {
        let (finds, looked_at) = (self.sweep.finds.clone(), self.sweep.looked_at.clone());
        let (ground, asked) = (self.ladder.ground.clone(), SharedSource::clone(view));
        Job::reading(view, move |view, cancel| {
            let seen = Seen { finds: &finds, looked_at: &looked_at };
            match ground {
                Some(ground) => ladder::examine_on(&ground, view, seen, cancel),
                // How the drive delivers is asked of itself.
                None => ladder::examine(&asked, seen, cancel),
            }
        })
    }
}
