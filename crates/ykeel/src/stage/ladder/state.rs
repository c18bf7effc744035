//! What is known of the rungs, and the jobs that ask them.

use std::time::Duration;

use keel_core::job::{Desk, Job, Message};
use keel_core::ladder::{Ground, Ladder, Rung};
use keel_core::reads::{self, Left, ReadsOptions, ReadsProgress, Survey};
use keel_core::sweep::Reach;
use keel_source::{SharedSource, counted};

use super::end::{self, Hidden};
use super::shown::{self, Shown};
use crate::app::effect::{Effect, Effects, job, show, tell};
use crate::stage::{Drive, sweep};

/// The most time that a reading of the whole surface may take, in the screens.
const SURFACE_BUDGET: Duration = Duration::from_secs(24 * 3600);

/// A survey, and why it could not be kept.
type Surveyed = (Survey, Option<String>);

/// The state of the Ladder.
pub(crate) struct State {
    /// The drive's own rungs, once they were asked.
    pub(crate) ground: Option<Ground>,
    pub(crate) ground_job: Option<Job<Rung, Ground>>,
    /// Rungs that are known while others are still asked.
    pub(crate) live: Vec<Rung>,
    /// The ladder as the drive is now.
    pub(crate) now: Option<Ladder>,
    pub(crate) job: Option<Job<(), Option<Ladder>>>,
    /// The reading of the whole surface.
    pub(crate) survey: Option<Survey>,
    pub(crate) survey_job: Option<Job<ReadsProgress, Surveyed>>,
    pub(crate) surveying: Option<ReadsProgress>,
    /// Volumes on their way to be shown by this system, or away from it.
    pub(crate) shown_job: Option<Shown>,
    /// Asks what is hidden behind its end.
    pub(crate) end_job: Option<Hidden>,
    /// An earlier run swept it to the end: what that saw is taken up again.
    pub(crate) was_swept: bool,
    /// Selected rung, 1 to 9.
    pub(crate) rung: u32,
    /// Selected volume.
    pub(crate) volume: usize,
}

impl State {
    pub(in crate::stage) fn of(source: &SharedSource) -> Self {
        Self {
            ground: None,
            ground_job: None,
            live: Vec::new(),
            now: None,
            job: None,
            survey: reads::known(source),
            survey_job: None,
            surveying: None,
            shown_job: None,
            end_job: None,
            was_swept: false,
            rung: 5,
            volume: 0,
        }
    }
}

/// Asks the drive for its own rungs; the landmarks are swept when they are known.
pub(crate) fn ask_ground() -> Effect {
    job("ask the drive's own rungs", |drive| {
        drive.ladder.live.clear();
        let source = SharedSource::clone(&drive.source);
        drive.ladder.ground_job =
            Some(Job::start(move |desk: &Desk<Rung>| Ground::ask(&source, desk.cancel(), &mut |rung| desk.tell(rung.clone()))));
    })
}

/// Examines the ladder, of the drive as it is.
pub(crate) fn examine_drive() -> Effect {
    job("examine the ladder", |drive| drive.ladder.job = Some(drive.examine(&drive.source)))
}

/// Reads the whole surface.
pub(super) fn read_surface(drive: &mut Drive) -> Effects {
    if drive.ladder.survey_job.is_some() || drive.source.is_empty() {
        return Vec::new();
    }
    vec![job("read the surface", |drive| {
        let source = SharedSource::clone(&drive.source);
        drive.ladder.survey_job = Some(Job::start(move |desk| {
            let survey = reads::survey(&source, ReadsOptions::full(SURFACE_BUDGET), desk);
            let whole = survey.left != Some(Left::Cancelled);
            let kept = if whole { reads::keep(&source, &survey) } else { Ok(()) };
            (survey, kept.err().map(|error| keel_core::chain(&error)))
        }));
    })]
}

/// Takes what the jobs told.
pub(super) fn reports(drive: &mut Drive) -> Effects {
    let mut effects = take_ground(drive);
    let before = drive.ladder.now.clone();
    effects.extend(take_ladder(drive));
    if drive.ladder.now != before {
        effects.push(Effect::Seen);
    }
    effects.extend(take_survey(drive));
    effects.extend(shown::take(drive));
    effects.extend(end::take(drive));
    effects
}

fn take_ladder(drive: &mut Drive) -> Effects {
    let state = &mut drive.ladder;
    for message in state.job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(None) => {}
            Message::Done(Some(ladder)) => {
                if let (None, Some(lowest)) = (&state.now, &ladder.lowest_broken) {
                    state.rung = lowest.rung.number();
                    let index = lowest.volume.as_ref().and_then(|id| ladder.volumes.iter().position(|volume| volume.id == *id));
                    state.volume = index.unwrap_or(0);
                }
                state.now = Some(ladder);
            }
            Message::Died(text) => {
                state.job = None;
                return vec![show("The examination died", text)];
            }
        }
        state.job = None;
    }
    Vec::new()
}

/// Takes the rungs of the drive itself as they come; with all of them the landmarks are swept.
fn take_ground(drive: &mut Drive) -> Effects {
    let state = &mut drive.ladder;
    let mut effects = Vec::new();
    for message in state.ground_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(rung) => state.live.push(rung),
            // The drive is to be left alone: the next sweep asks again.
            Message::Done(_) if state.ground_job.as_ref().is_some_and(|job| job.cancel().is_cancelled()) => {
                state.ground_job = None;
                effects.extend(tell("stopped; s asks the drive and sweeps"));
            }
            Message::Done(ground) => {
                (state.ground, state.ground_job) = (Some(ground), None);
                effects.extend(sweep::begin(if state.was_swept { Reach::Doubt } else { Reach::Landmarks }));
            }
            Message::Died(text) => {
                state.ground_job = None;
                effects.push(show("The examination died", text));
            }
        }
    }
    effects
}

fn take_survey(drive: &mut Drive) -> Effects {
    let state = &mut drive.ladder;
    let mut effects = Vec::new();
    for message in state.survey_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(progress) => {
                drive.ground.merge(&progress.ground);
                state.surveying = Some(progress);
                continue;
            }
            Message::Done((_, Some(problem))) => effects.push(show("The survey cannot be kept", problem)),
            Message::Done((survey, None)) => {
                let failed = survey.failed.len();
                let told = format!(
                    "{} of {} reads came at once, {} failed",
                    survey.came,
                    survey.asked,
                    counted(failed, "place", "places")
                );
                state.survey = Some(survey);
                effects.push(Effect::Note("reads", told.clone().into()));
                effects.extend(tell(told));
            }
            Message::Died(text) => effects.push(show("The reading died", text)),
        }
        (state.survey_job, state.surveying) = (None, None);
    }
    effects
}
