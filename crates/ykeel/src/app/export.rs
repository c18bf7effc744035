//! The list of a stage as a file.

use std::path::PathBuf;

use keel_core::job::{Job, Message};
use keel_source::SharedSource;

use super::App;
use super::effect::{show, tell};

impl App {
    /// Writes the list that the stage shows.
    pub(super) fn export(&mut self, path: PathBuf) {
        let Some(table) = self.stage.stage().table(self) else { return };
        let source = self.drive.as_ref().map(|drive| SharedSource::clone(&drive.source));
        self.export_job = Some(Job::start(move |_| {
            let written = table.write(&path, source.as_ref());
            written.map(|()| path).map_err(|error| keel_core::chain(&error))
        }));
    }

    /// Takes what became of it.
    pub(crate) fn take_export(&mut self) {
        for message in self.export_job.as_mut().map(Job::drain).unwrap_or_default() {
            let effects = match message {
                Message::Progress(()) => continue,
                Message::Done(Ok(path)) => tell(format!("{} is written", path.display())),
                Message::Done(Err(why)) | Message::Died(why) => vec![show("The list was not written", why)],
            };
            self.export_job = None;
            self.run(effects);
        }
    }
}
