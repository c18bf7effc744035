//! What is asked of the drive in work as a whole.

use keel_core::job::Job;
use keel_core::ladder::{self, Ladder};
use keel_core::sweep::{Find, Seen};
use keel_source::{ByteOffset, ByteRange, SharedSource};

use super::{Drive, Running, StageId, Weight, runs, stop};

/// The least that the keel shows, in bytes.
const LEAST_WINDOW: u64 = 1 << 20;

impl Drive {
    /// What runs, each job in words: what weighs most first.
    pub(crate) fn running(&self) -> Vec<Running> {
        let report = runs(self.report_job.is_some(), Weight::Long, "writing the report  x stops");
        let mut running: Vec<Running> = StageId::ALL.iter().flat_map(|id| id.stage().running(self)).chain(report).collect();
        running.sort_by_key(|running| std::cmp::Reverse(running.weight));
        running
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
        StageId::ALL.iter().for_each(|id| id.stage().cancel(self));
    }

    /// Its name without the ending of an image.
    pub(crate) fn plain_name(&self) -> String {
        self.source.identity().name.replace(".img", "")
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
