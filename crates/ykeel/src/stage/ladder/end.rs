//! The end of a drive that shows less than it has: what is hidden, and the codes that open it.

use keel_core::chain;
use keel_core::job::{Job, Message};
use keel_core::leave::Confirmation;
use keel_core::widen::{self, Former, Opening};
use keel_source::{Lasts, SharedSource, size_decimal};

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
                effects.push(show("Nothing is hidden", "The drive shows all that it has, as far as it tells."));
            }
            Message::Done((Some(opening), _)) => effects.push(Effect::Over(Box::new(asked(&opening)))),
            Message::Done((None, Some(former))) => {
                let code = widen::code_back(drive.source.identity(), &former);
                let says = format!(
                    "The drive showed {} before it was told to show all that it has.\nThe code {code} tells it its former end again.",
                    size_decimal(former.bytes)
                );
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
    let passing = match opening.can_pass {
        true => format!("Type {code} to open it until its power is cut, {lasting} to open it for good."),
        false => format!("By these means the drive remembers what it is told: {lasting} opens it for good."),
    };
    let hidden = opening.hidden_bytes();
    let says = format!(
        "{} of {} are hidden ({hidden} bytes), by its {}.\n{passing}\nNothing on its medium is written; > tells it its former end again.",
        size_decimal(hidden),
        size_decimal(opening.whole_bytes),
        opening.means.word()
    );
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
