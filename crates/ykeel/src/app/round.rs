//! A look at all drives of the yard: each is opened, asked rung by rung, and let go, a few at a time, while the technician works on
//! others. What was seen is kept.

use std::collections::VecDeque;
use std::path::{Path, PathBuf};

use keel_core::job::Message;
use keel_core::yard::Berth;

use super::App;
use super::effect::tell;
use super::opening::Opening;
use crate::stage::{Drive, ladder};

/// Drives that are asked at once: each of them waits for its own device most of the time.
const AT_ONCE: usize = 2;

/// Drives that wait for their turn, and those that are asked.
#[derive(Default)]
pub(crate) struct Round {
    pub(crate) waiting: VecDeque<PathBuf>,
    opening: Vec<Opening>,
    /// Those among the others that are asked and let go when they have answered.
    asked: Vec<PathBuf>,
    total: usize,
}

impl Round {
    /// True while drives wait or are asked.
    pub(crate) fn is_busy(&self) -> bool {
        !(self.waiting.is_empty() && self.opening.is_empty() && self.asked.is_empty())
    }

    /// How many drives have answered, and of how many.
    pub(crate) fn share(&self) -> (usize, usize) {
        let open = self.waiting.len() + self.opening.len() + self.asked.len();
        (self.total.saturating_sub(open), self.total)
    }

    /// True for a drive that waits or is asked.
    pub(crate) fn has(&self, path: &Path) -> bool {
        self.waiting.iter().chain(&self.asked).chain(self.opening.iter().map(|opening| &opening.path)).any(|own| own == path)
    }

    /// Asks no more of them.
    pub(crate) fn cancel(&mut self) {
        self.waiting.clear();
        self.opening.iter().for_each(|opening| opening.job.cancel().cancel());
    }
}

impl App {
    /// Asks every drive of the yard that is not open for its ladder. The devices of this machine are opened one by one, by the
    /// technician: they may be the machine's own.
    pub(crate) fn begin_round(&mut self) {
        let open = |path: &PathBuf| self.drives().any(|drive| drive.is_at(path)) || self.round.has(path);
        let asked = |berth: &&Berth| berth.problem.is_none() && berth.device.is_none();
        let paths: Vec<PathBuf> = self.berths.iter().filter(asked).map(|berth| berth.path.clone()).collect();
        let wanted: Vec<PathBuf> = paths.into_iter().filter(|path| !open(path)).collect();
        if wanted.is_empty() {
            self.run(tell("every drive that opens is open or being asked"));
            return;
        }
        if !self.round.is_busy() {
            self.round.total = 0;
        }
        self.round.total += wanted.len();
        self.round.waiting.extend(wanted);
    }

    /// Takes what the drives of the round told; the next ones come to their turn.
    pub(crate) fn take_round(&mut self) {
        let mut opening = std::mem::take(&mut self.round.opening);
        opening.retain_mut(|one| {
            let ended = one.job.drain().into_iter().find(|message| !matches!(message, Message::Progress(())));
            // One that was opened to be looked at meanwhile is asked there.
            if self.is_open(&one.path) {
                return false;
            }
            if let Some(Message::Done(Ok((opened, false)))) = ended {
                self.round.asked.push(one.path.clone());
                self.others.push(*opened.drive);
                self.behind(self.others.len() - 1, |app| app.run(vec![ladder::ask_ground()]));
                return false;
            }
            ended.is_none()
        });
        self.round.opening = opening;
        self.let_go();
        while self.round.opening.len() + self.round.asked.len() < AT_ONCE {
            let Some(path) = self.round.waiting.pop_front() else { break };
            if self.is_open(&path) {
                continue;
            }
            self.round.opening.push(Opening::begin(&path, self.sector_size, None));
        }
    }

    /// True for a drive that is open, or about to be.
    fn is_open(&self, path: &Path) -> bool {
        self.opening.as_ref().is_some_and(|opening| opening.path == path) || self.drives().any(|drive| drive.is_at(path))
    }

    /// Drives that have answered are let go; one that is looked at meanwhile, or has work of its own, stays.
    fn let_go(&mut self) {
        let mut asked = std::mem::take(&mut self.round.asked);
        asked.retain(|path| {
            let Some(index) = self.others.iter().position(|drive| drive.is_at(path)) else { return false };
            if self.others.get(index).is_some_and(Drive::is_busy) {
                return true;
            }
            self.others.remove(index);
            false
        });
        self.round.asked = asked;
    }
}
