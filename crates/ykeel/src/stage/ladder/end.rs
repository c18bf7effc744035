//! The end of a drive that shows less than it has: what is hidden, and the codes that open it.

use keel_core::chain;
use keel_core::job::{Job, Message};
use keel_core::leave::Confirmation;
use keel_core::widen::{self, Former, Opening};
use keel_source::{Lasts, SharedSource};

use crate::app::effect::{Effect, Effects, job, show, tell};
use crate::popup::Ask;
use crate::stage::Drive;

/// What stands above a drive whose end was set: it is opened anew then.
pub(super) const SET: &str = "The end was set";

/// What a drive hides, and what it hid before it was told otherwise.
pub(crate) type Hidden = Job<(), (Option<Opening>, Option<Former>)>;

/// Says what is hidden behind the end of the drive, and asks for the code that opens it.
pub(super) fn ask(drive: &mut Drive) -> Effects {
    if drive.ladder.shown_job.is_some() {
        return Vec::new();
    }
    if let [running, ..] = drive.running().as_slice() {
        return tell(format!("{}: its end is set when nothing runs on it", running.line()));
    }
    vec![job("what is hidden", move |drive| {
        let source = SharedSource::clone(&drive.source);
        drive.ladder.end_job = Some(Job::start(move |_| (widen::opening(source.as_ref()), widen::former(source.identity()))));
    })]
}

/// Takes what is hidden, and asks.
pub(super) fn take(drive: &mut Drive) -> Effects {
    let mut effects = Effects::new();
    for message in drive.ladder.end_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done((None, None)) => {
                effects.push(show("Nothing is hidden", widen::NOTHING_HIDDEN));
            }
            Message::Done((Some(opening), _)) => effects.push(Effect::Over(Box::new(asked(&opening)))),
            Message::Done((None, Some(former))) => {
                let code = widen::code_back(drive.source.identity(), &former);
                let says = format!("{}\ntype {code} to tell it its former end again", former.words());
                let ask = Ask::new("Its former end", says, "", move |_, line| set_end(None, line));
                effects.push(Effect::Over(Box::new(ask.once())));
            }
            Message::Died(text) => effects.push(show("It died", text)),
        }
        drive.ladder.end_job = None;
    }
    effects
}

/// The question that opens what is hidden.
fn asked(opening: &Opening) -> Ask {
    let (code, lasting) = (opening.code.clone(), opening.lasting_code.clone());
    let until = if opening.can_pass { format!("type {code} to open it until its power is cut\n") } else { String::new() };
    let says = format!("{}\n{until}type {lasting} to open it for good", opening.words().join("\n"));
    let lasts = move |line: &str| match () {
        () if line.trim().eq_ignore_ascii_case(&lasting) => Some(Lasts::ForGood),
        () if line.trim().eq_ignore_ascii_case(&code) => Some(Lasts::UntilPowerIsCut),
        () => None,
    };
    Ask::new("Open what is hidden", says, "", move |_, line| match lasts(line) {
        Some(lasts) => set_end(Some(lasts), line),
        None => tell("that is none of the two codes"),
    })
    .once()
}

/// Widens the drive, or tells it its former end without a `lasts`.
fn set_end(lasts: Option<Lasts>, code: &str) -> Effects {
    let confirmation = Confirmation::Code(code.to_string());
    vec![job("the end of the drive", move |drive| {
        let source = SharedSource::clone(&drive.source);
        drive.ladder.shown_job = Some(Job::start(move |_| {
            let set =
                lasts.map_or_else(|| widen::back(&source, &confirmation), |lasts| widen::widen(&source, lasts, &confirmation));
            match set {
                Ok(widened) => (SET, widened.words().join("\n")),
                Err(error) => ("The end was not set", chain(&error)),
            }
        }));
    })]
}
