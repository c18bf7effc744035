//! The state of the screens.

use keel_core::case::Case;
use keel_core::job::Job;
use keel_core::yard::Berth;
use ratatui::layout::Rect;

use super::WRITING;
use super::effect::{Effects, tell};
use super::opening::Opening;
use crate::keys::Does;
use crate::popup::Popup;
use crate::stage::{Drive, StageId};
use crate::theme::Theme;
use crate::widget;

/// Everything the screens show.
pub(crate) struct App {
    pub(crate) stage: StageId,
    pub(crate) berths: Vec<Berth>,
    pub(crate) berth: usize,
    pub(crate) drive: Option<Drive>,
    /// A drive that is being opened; true with it when it was stopped meanwhile.
    pub(crate) opening: Option<Job<(), Opening>>,
    /// What is told when it is open.
    pub(crate) told_when_open: Option<&'static str>,
    /// The drives of the yard are being asked.
    pub(crate) yard_job: Option<Job<(), Vec<Berth>>>,
    /// The case of the drive that is meant.
    pub(crate) case: Option<Case>,
    pub(crate) popups: Vec<Box<dyn Popup>>,
    /// The last thing that was told, in the foot.
    pub(crate) told: Option<String>,
    pub(crate) theme: Theme,
    pub(crate) sector_size: Option<u32>,
    /// The terminal's size at the last frame.
    pub(crate) area: Rect,
    pub(crate) quit: bool,
}

impl App {
    pub(crate) fn new(berths: Vec<Berth>, sector_size: Option<u32>) -> Self {
        Self {
            stage: StageId::Yard,
            berths,
            berth: 0,
            drive: None,
            opening: None,
            told_when_open: None,
            yard_job: None,
            case: None,
            popups: Vec::new(),
            told: None,
            theme: Theme::of_environment(),
            sector_size,
            area: Rect::new(0, 0, 160, 45),
            quit: false,
        }
    }

    pub(crate) fn is_busy(&self) -> bool {
        self.opening.is_some() || self.yard_job.is_some() || self.drive.as_ref().is_some_and(Drive::is_busy)
    }

    /// True while something is written to the drive in work.
    pub(crate) fn is_writing(&self) -> bool {
        self.drive.as_ref().is_some_and(Drive::is_written)
    }

    /// Takes what the jobs told since the last frame.
    pub(crate) fn take_reports(&mut self) {
        self.take_opening();
        self.take_yard();
        self.take_report();
        for id in StageId::ALL {
            let shown = (id == self.stage).then(|| widget::parts(self.area).map(|parts| parts.middle)).flatten();
            let effects = self.drive.as_mut().map(|drive| id.stage().reports(drive, shown)).unwrap_or_default();
            self.run(effects);
        }
    }

    /// Does what a key does.
    pub(crate) fn does(&mut self, does: Does) -> Effects {
        match does {
            Does::Bench(does) => does(self),
            Does::Drive(does) => self.drive.as_mut().map(does).unwrap_or_default(),
        }
    }

    /// Goes to a stage.
    pub(crate) fn go_to(&mut self, stage: StageId) {
        if stage != StageId::Yard && self.drive.is_none() {
            self.run(tell("open a drive first: enter"));
            return;
        }
        self.stage = stage;
        let effects = stage.stage().entered(self);
        self.run(effects);
    }

    /// Stops whatever runs and may be stopped.
    pub(crate) fn cancel(&mut self) -> Effects {
        if let Some(opening) = &self.opening {
            opening.cancel().cancel();
        }
        if let Some(drive) = &mut self.drive {
            drive.cancel();
        }
        Vec::new()
    }

    /// Leaves, unless the drive is being written.
    pub(crate) fn quit_or_warn(&mut self) {
        if self.is_writing() {
            self.run(tell(WRITING));
        } else {
            self.quit = true;
        }
    }
}
