//! The state of the screens.

use std::collections::BTreeMap;
use std::path::PathBuf;

use keel_core::case::Case;
use keel_core::job::Job;
use keel_core::yard::Berth;
use keel_source::ByteRange;
use ratatui::layout::Rect;

use super::WRITING;
use super::effect::{Effect, Effects, tell};
use super::keeper::Keeper;
use super::opening::{Opening, Yard};
use super::round::Round;
use crate::config;
use crate::keys::Does;
use crate::log;
use crate::place;
use crate::popup::{Leaving, Popup};
use crate::stage::yard::Board;
use crate::stage::{Drive, StageId, Weight};
use crate::theme::Theme;
use crate::widget;

/// Everything the screens show.
pub(crate) struct App {
    pub(crate) stage: StageId,
    pub(crate) berths: Vec<Berth>,
    pub(crate) berth: usize,
    /// What the yard is made of, and what was added to it by hand.
    pub(crate) yard: Yard,
    pub(crate) added: Vec<PathBuf>,
    /// How the yard is looked at.
    pub(crate) board: Board,
    /// The drive that is looked at.
    pub(crate) drive: Option<Drive>,
    /// Drives whose work goes on while another one is looked at.
    pub(crate) others: Vec<Drive>,
    /// True while what an effect is about is one of the others.
    pub(super) is_behind: bool,
    /// A drive that is being opened, to be looked at.
    pub(crate) opening: Option<Opening>,
    /// Drives that are asked for their ladders, one after the other.
    pub(crate) round: Round,
    /// The drives of the yard are being asked.
    pub(crate) yard_job: Option<Job<(), Vec<Berth>>>,
    /// Tells the devices of this machine as they come and go.
    pub(super) device_watch: Option<Job<Vec<Berth>, ()>>,
    /// Writes what is kept of drives and cases.
    pub(super) keeper: Keeper,
    /// The case of the drive that is meant.
    pub(crate) case: Option<Case>,
    pub(crate) popups: Vec<Box<dyn Popup>>,
    /// The last thing that was told, in the foot.
    pub(crate) told: Option<String>,
    pub(crate) theme: Theme,
    /// True while clicks and the wheel are ours, and not the terminal's.
    pub(crate) mouse: bool,
    /// The rows of the keel at which the button was pressed and the mouse is, while it is held.
    pub(crate) held: Option<(ByteRange, ByteRange)>,
    /// Nothing but ASCII is drawn.
    pub(crate) is_ascii: bool,
    pub(crate) sector_size: Option<u32>,
    /// The terminal's size at the last frame.
    pub(crate) area: Rect,
    /// On a small terminal: the right side lies over the stage.
    pub(crate) shows_why: bool,
    /// Long work ended, or somebody is wanted: the terminal's bell.
    pub(crate) rings: bool,
    /// What was answered to each question, the last one at the end.
    pub(crate) typed: BTreeMap<&'static str, Vec<String>>,
    /// What the terminal is to put on its clipboard.
    pub(crate) clip: Option<String>,
    /// The list that is written to a file.
    pub(super) export_job: Option<Job<(), Result<PathBuf, String>>>,
    pub(crate) quit: bool,
}

impl App {
    pub(crate) fn new(berths: Vec<Berth>, sector_size: Option<u32>) -> Self {
        let paths = berths.iter().map(|berth| berth.path.clone()).collect();
        Self {
            stage: StageId::Yard,
            berths,
            berth: 0,
            yard: Yard::Named(paths),
            added: Vec::new(),
            board: Board::default(),
            drive: None,
            others: Vec::new(),
            is_behind: false,
            opening: None,
            round: Round::default(),
            yard_job: None,
            device_watch: None,
            keeper: Keeper::default(),
            case: None,
            popups: Vec::new(),
            told: None,
            mouse: config::get().mouse.unwrap_or(true),
            held: None,
            is_ascii: config::is_ascii(),
            theme: Theme::new(config::get().theme, config::get().color),
            sector_size,
            area: Rect::new(0, 0, 160, 45),
            shows_why: false,
            rings: false,
            typed: BTreeMap::new(),
            clip: None,
            export_job: None,
            quit: false,
        }
    }

    pub(crate) fn is_busy(&self) -> bool {
        self.opening.is_some()
            || self.keeper.is_busy()
            || self.export_job.is_some()
            || self.yard_job.is_some()
            || self.round.is_busy()
            || self.drives().any(Drive::is_busy)
    }

    /// Every drive in work, the one that is looked at first.
    pub(crate) fn drives(&self) -> impl Iterator<Item = &Drive> {
        self.drive.iter().chain(&self.others)
    }

    /// True while something is written to a drive.
    pub(crate) fn is_writing(&self) -> bool {
        self.drives().any(Drive::is_written)
    }

    /// Takes what the jobs told since the last frame.
    pub(crate) fn take_reports(&mut self) {
        self.take_opening();
        self.take_kept();
        self.take_yard();
        self.take_devices();
        self.take_round();
        self.take_of_drive();
        for _ in 0..self.others.len() {
            self.behind(0, Self::take_of_drive);
            // Each comes once, and they keep their order.
            self.others.rotate_left(1);
        }
    }

    /// Sets off what a job's report leads to; what it tells is written to the log.
    fn run_reported(&mut self, effects: Effects) {
        for effect in &effects {
            if let Effect::Tell(text) = effect {
                log::line("told", text);
            }
        }
        self.run(effects);
    }

    /// Takes what the jobs of the drive told.
    fn take_of_drive(&mut self) {
        let ran = self.long_work();
        self.take_report();
        self.take_export();
        for id in StageId::ALL {
            let shown = (id == self.stage && !self.is_behind).then(|| self.parts().map(|parts| parts.middle));
            let effects = self.drive.as_mut().map(|drive| id.stage().reports(drive, shown.flatten())).unwrap_or_default();
            self.run_reported(effects);
        }
        let effects = self.drive.as_mut().map(place::reports).unwrap_or_default();
        self.run_reported(effects);
        // A bell where long work ended, and nobody stopped it by a key just now.
        self.rings |= ran > self.long_work();
    }

    /// Jobs of the drive that take their time.
    fn long_work(&self) -> usize {
        let running = self.drive.as_ref().map(Drive::running).unwrap_or_default();
        running.iter().filter(|running| running.weight > Weight::Short && running.what != "landmarks").count()
    }

    /// Does `work` on another drive than the one that is looked at.
    pub(crate) fn behind(&mut self, index: usize, work: impl FnOnce(&mut Self)) {
        let Some(slot) = self.others.get_mut(index) else { return };
        let swapped = self.drive.is_some();
        match &mut self.drive {
            Some(front) => std::mem::swap(front, slot),
            None => self.drive = Some(self.others.remove(index)),
        }
        let was_behind = std::mem::replace(&mut self.is_behind, true);
        work(self);
        self.is_behind = was_behind;
        match (swapped, self.drive.as_mut(), self.others.get_mut(index)) {
            (true, Some(front), Some(slot)) => std::mem::swap(front, slot),
            _ => {
                let back = self.drive.take();
                let index = index.min(self.others.len());
                back.into_iter().for_each(|drive| self.others.insert(index, drive));
            }
        }
    }

    /// Looks at a drive: the one before goes on with its work behind it, or is let go where it has none.
    pub(crate) fn look_at(&mut self, drive: Drive) {
        if let Some(former) = self.drive.replace(drive)
            && former.is_in_work()
        {
            self.others.push(former);
        }
        self.stage = StageId::Ladder;
        let notices = self.drive.as_mut().map(|drive| std::mem::take(&mut drive.notices)).unwrap_or_default();
        self.popups.extend(notices);
        self.look_up_case();
        let stale = self.drive.as_ref().filter(|drive| drive.is_stale).and_then(|drive| drive.source.identity().path.clone());
        if let Some(path) = stale {
            self.open_anew(&path);
        }
    }

    /// Where the parts of the frame stand in the terminal as it was drawn last.
    pub(crate) fn parts(&self) -> Option<widget::Parts> {
        widget::parts(self.area, self.stage.stage().is_wide())
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
            opening.job.cancel().cancel();
        }
        self.round.cancel();
        if let Some(drive) = &mut self.drive {
            drive.cancel();
        }
        Vec::new()
    }

    /// Leaves; where work goes on it is asked first, and what writes is never left.
    pub(crate) fn quit_or_ask(&mut self) {
        if self.is_writing() {
            self.run(tell(WRITING));
        } else if self.drives().flat_map(Drive::running).any(|running| running.weight > Weight::Short) {
            self.run(vec![Effect::Over(Box::new(Leaving))]);
        } else {
            self.quit = true;
        }
    }
}
