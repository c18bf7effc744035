//! The case of the drive that is meant.

use std::path::{Path, PathBuf};

use keel_core::case::Case;
use keel_core::yard::Group;
use serde_json::Value;

use super::App;
use super::effect::{CaseChange, show, tell};
use crate::stage::StageId;

impl App {
    /// The path whose case is meant: the open drive's, in the Yard the selected one's.
    fn case_path(&self) -> Option<PathBuf> {
        let open = self.drive.as_ref().and_then(|drive| drive.source.identity().path.clone());
        let selected = self.berths.get(self.berth).map(|berth| berth.path.clone());
        if self.stage == StageId::Yard { selected } else { open.or(selected) }
    }

    /// Looks up the case of the drive that is meant.
    pub(crate) fn look_up_case(&mut self) {
        let path = self.case_path();
        let identity =
            self.berths.iter().find(|berth| Some(&berth.path) == path.as_ref()).and_then(|berth| berth.identity.clone());
        self.case = path.and_then(|path| Case::of(&path, identity.as_ref()).ok().flatten());
    }

    /// Changes the case, which is opened for it where there is none.
    pub(crate) fn change_case(&mut self, change: CaseChange) {
        let Some(path) = self.case_path() else { return };
        let identity = self.berths.iter().find(|berth| berth.path == path).and_then(|berth| berth.identity.clone());
        let changed = Case::open(&path, identity.as_ref(), "").and_then(|mut case| Ok((change(&mut case)?, case)));
        match changed {
            Ok((told, case)) => {
                if let Some(berth) = self.berths.iter_mut().find(|berth| berth.path == path) {
                    berth.case = Some(case.record.name.clone());
                }
                self.case = Some(case);
                self.run(told.map(tell).unwrap_or_default());
            }
            Err(error) => self.run(vec![show("The case cannot be written", keel_core::chain(&error))]),
        }
    }

    /// Notes an event in the case of the open drive, where there is one.
    pub(crate) fn note(&mut self, event: &str, detail: &Value) {
        let path = self.drive.as_ref().and_then(|drive| drive.source.identity().path.clone());
        let Some(Ok(Some(mut case))) = path.map(|path| Case::of(&path, None)) else { return };
        if let Err(error) = case.write_down(event, detail) {
            self.run(tell(format!("the journal could not be written: {}", keel_core::chain(&error))));
        }
        if !self.is_behind {
            self.case = Some(case);
        }
    }

    /// The copy that the case works on from now on, where there is a case.
    pub(crate) fn works_on(&mut self, copy: &Path) {
        if self.is_behind {
            let path = self.drive.as_ref().and_then(|drive| drive.source.identity().path.clone());
            if let Some(Ok(Some(mut case))) = path.map(|path| Case::of(&path, None)) {
                let _ = case.work_on(copy);
            }
        } else if let Some(case) = &mut self.case {
            let _ = case.work_on(copy);
        }
    }

    /// Keeps what is seen of the drive, and says it in the yard.
    pub(crate) fn keep_sight(&mut self) {
        let Some(drive) = &self.drive else { return };
        let Some(sight) = drive.sight() else { return };
        // Keeping reads nothing of the drive. Where nothing can be kept the row is right as long as this runs.
        let _ = sight.keep(&drive.source);
        let path = drive.source.identity().path.clone();
        if let Some(berth) = self.berths.iter_mut().find(|berth| Some(&berth.path) == path.as_ref()) {
            if berth.group == Group::Waiting && (sight.applied || sight.copy.is_some()) {
                berth.group = Group::InWork;
            }
            berth.sight = Some(sight);
        }
    }
}
