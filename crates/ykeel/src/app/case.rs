//! The case of the drive that is meant.

use std::path::{Path, PathBuf};

use keel_core::CoreError;
use keel_core::case::Case;
use keel_core::yard::Group;
use keel_source::{Identity, SharedSource};
use serde_json::Value;

use super::App;
use super::effect::{CaseChange, show, tell};
use super::keeper::Kept;
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
        self.keeper.put(move || {
            let case = Case::open(&path, identity.as_ref(), "").and_then(|mut case| {
                let told = change(&mut case)?;
                Ok((case, told))
            });
            Some(Kept { path, is_asked: true, case })
        });
    }

    /// Changes the case of the open drive, where there is one.
    fn change_own_case(&mut self, change: impl FnOnce(&mut Case) -> Result<(), CoreError> + Send + 'static) {
        let Some(identity) = self.drive.as_ref().map(|drive| drive.source.identity().clone()) else { return };
        let Some(path) = identity.path.clone() else { return };
        self.keeper.put(move || {
            let mut case = Case::of(&path, Some(&identity)).ok().flatten()?;
            let changed = change(&mut case);
            Some(Kept { path, is_asked: false, case: changed.map(|()| (case, None)) })
        });
    }

    /// Notes an event in the case of the open drive, where there is one.
    pub(crate) fn note(&mut self, event: &'static str, detail: Value) {
        self.change_own_case(move |case| case.write_down(event, &detail));
    }

    /// The copy that the case works on from now on, where there is a case.
    pub(crate) fn works_on(&mut self, copy: PathBuf) {
        self.change_own_case(move |case| case.work_on(&copy));
    }

    /// What the open drive says of itself, where there is a case and that is news.
    pub(super) fn identify(&mut self, identity: Identity) {
        self.change_own_case(move |case| case.identify(&identity));
    }

    /// Takes what was written of cases.
    pub(super) fn take_kept(&mut self) {
        for kept in self.keeper.take() {
            match kept {
                Ok(Kept { path, case: Ok((case, told)), .. }) => {
                    self.take_case(&path, case);
                    self.run(told.map(tell).unwrap_or_default());
                }
                Ok(Kept { is_asked: true, case: Err(error), .. }) => {
                    self.run(vec![show("The case cannot be written", keel_core::chain(&error))]);
                }
                Ok(Kept { case: Err(error), .. }) => {
                    self.run(tell(format!("the journal could not be written: {}", keel_core::chain(&error))));
                }
                Err(text) => self.run(vec![show("The keeping died", text)]),
            }
        }
    }

    /// The case of the drive at `path` is another one now.
    fn take_case(&mut self, path: &Path, case: Case) {
        if let Some(berth) = self.berths.iter_mut().find(|berth| berth.path == path) {
            berth.case = Some(case.record.name.clone());
            berth.client = Some(case.record.client.clone()).filter(|client| !client.is_empty());
            if case.record.closed.is_some() != (berth.group == Group::Done) {
                self.ask_yard();
            }
        }
        let of_path = self.drive.iter_mut().chain(&mut self.others).find(|drive| drive.is_at(path));
        if let Some(drive) = of_path {
            drive.symptoms.clone_from(&case.record.told.symptoms);
        }
        if self.case_path().as_deref() == Some(path) {
            self.case = Some(case);
        }
    }

    /// Keeps what is seen of the drive, and says it in the yard.
    pub(crate) fn keep_sight(&mut self) {
        let Some(drive) = &self.drive else { return };
        let Some(sight) = drive.sight() else { return };
        let (seen, source) = (sight.clone(), SharedSource::clone(&drive.source));
        let path = source.identity().path.clone();
        self.keeper.put(move || {
            // Where nothing can be kept the row is right as long as this runs.
            let _ = seen.keep(&source);
            None
        });
        if let Some(berth) = self.berths.iter_mut().find(|berth| Some(&berth.path) == path.as_ref()) {
            if berth.group == Group::Waiting && (sight.applied || sight.copy.is_some()) {
                berth.group = Group::InWork;
            }
            berth.sight = Some(sight);
        }
    }
}
