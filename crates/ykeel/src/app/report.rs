//! The report of the drive in work.

use std::path::Path;

use keel_core::job::{Desk, Job, Message};
use keel_core::sweep::{self, SweepOptions};
use keel_draw::{Asked, Audience};
use keel_source::SharedSource;

use super::App;
use super::effect::{Effect, show, tell};
use crate::config;

impl App {
    /// Writes the report for whom it is meant, in the language of the config.
    pub(crate) fn write_report(&mut self, path: &Path, audience: Audience) {
        let Some(drive) = &mut self.drive else { return };
        if !path.extension().is_some_and(|end| end == "pdf" || end == "html") {
            return self.run(vec![show("No report", "A report is written as FILE.pdf or FILE.html.")]);
        }
        let phrases = match config::phrases(None) {
            Ok(phrases) => phrases,
            Err(error) => return self.run(vec![show("No report", keel_core::chain(&error))]),
        };
        let (case, path) = (self.case.clone(), path.to_path_buf());
        let source = SharedSource::clone(&drive.source);
        // How the drive delivers is asked of itself: it cannot be asked through anything.
        drive.report_job = Some(Job::start(move |desk| {
            let state = keel_core::case::drive_folder(source.identity()).join("sweep.json");
            let options = SweepOptions { state: Some(state), ..SweepOptions::default() };
            let sweep = || {
                let swept = sweep::sweep(&source, &options, &Desk::new(desk.cancel().clone()).0);
                (!swept.cancelled).then_some(swept)
            };
            let cancel = desk.cancel();
            let asked = Asked { source: &source, case: case.as_ref(), sweep: &sweep, audience, phrases: &phrases, cancel };
            let written = keel_draw::hand_over(&asked, &path, None);
            (!desk.cancel().is_cancelled()).then(|| written.map(|()| path).map_err(|error| keel_core::chain(&error)))
        }));
    }

    /// Takes what became of it.
    pub(crate) fn take_report(&mut self) {
        let job = self.drive.as_mut().and_then(|drive| drive.report_job.as_mut());
        for message in job.map(Job::drain).unwrap_or_default() {
            let effects = match message {
                Message::Progress(()) => continue,
                Message::Done(Some(Ok(path))) => {
                    let written = format!("{} is written.", path.display());
                    vec![Effect::Note("report", serde_json::json!(path)), show("Report", written)]
                }
                Message::Done(Some(Err(text))) => vec![show("No report", text)],
                Message::Done(None) => tell("the report was stopped"),
                Message::Died(text) => vec![show("The report died", text)],
            };
            if let Some(drive) = &mut self.drive {
                drive.report_job = None;
            }
            self.run(effects);
        }
    }
}
