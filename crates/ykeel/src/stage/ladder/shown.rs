//! Volumes shown by this system, and the drive made ready to be pulled.

use keel_core::attach::{self, Attaching};
use keel_core::job::{Job, Message};
use keel_core::sweep::Find;
use keel_core::{chain, health};
use keel_source::{SelfTestOrder, SharedSource, counted, printable};

use super::end;
use crate::app::effect::{Effect, Effects, job, show, tell};
use crate::popup::Ask;
use crate::stage::Drive;

/// What such a job comes to: a title and a text.
pub(crate) type Shown = Job<(), (&'static str, String)>;

fn begin(what: &'static str, work: fn(&SharedSource, &[Find]) -> (&'static str, String)) -> Effects {
    vec![job(what, move |drive| {
        let (source, finds) = (SharedSource::clone(&drive.source), drive.sweep.finds.clone());
        drive.ladder.shown_job = Some(Job::start(move |_| work(&source, &finds)));
    })]
}

/// Shows every volume that was found; takes them away again where they are shown.
pub(super) fn attach_or_detach(drive: &mut Drive) -> Effects {
    if drive.ladder.shown_job.is_some() {
        return Vec::new();
    }
    begin("attach or detach the volumes", |source, finds| {
        let meant: Vec<&Find> = finds.iter().filter(|find| !find.is_former()).collect();
        if !attach::kept(source.identity()).is_empty() {
            return detach_all(source);
        }
        if meant.is_empty() {
            return ("Not attached", "No volume was found yet: sweep first.".into());
        }
        match attach::attach(source, &meant, None) {
            Ok(attaching) => ("Attached, read-only", told(&attaching)),
            Err(error) => ("Not attached", chain(&error)),
        }
    })
}

fn detach_all(source: &SharedSource) -> (&'static str, String) {
    match attach::detach(source.identity(), None) {
        Ok(detached) if detached.not.is_empty() => {
            ("Detached", format!("{} taken away.", counted(detached.attached.len(), "volume was", "volumes were")))
        }
        Ok(detached) => ("Not all detached", told(&detached)),
        Err(error) => ("Nothing to detach", chain(&error)),
    }
}

/// Makes the drive ready to be pulled.
pub(super) fn release(drive: &mut Drive) -> Effects {
    if drive.ladder.shown_job.is_some() {
        return Vec::new();
    }
    begin("release the drive", |source, _| match attach::release(source) {
        Ok(released) if released.can_be_pulled() => {
            ("It can be pulled now", released.done.iter().map(|done| format!("· {done}")).collect::<Vec<_>>().join("\n"))
        }
        Ok(released) => {
            let why: Vec<String> = released.not_yet.iter().map(|why| format!("· {}", printable(why))).collect();
            ("Do not pull it yet", format!("In use:\n{}", why.join("\n")))
        }
        Err(error) => ("Not released", chain(&error)),
    })
}

/// Asks which test the drive shall make of itself.
pub(super) fn ask_test(_drive: &mut Drive) -> Effects {
    let says = "The drive tests itself while you work.\nshort: a few minutes; extended: its whole surface, hours; stop: the one that runs.";
    let ask = Ask::new("Self-test", says, "short", |_, line| match line.trim() {
        "short" => order_test(SelfTestOrder::Short, "The short test runs: a few minutes."),
        "extended" => order_test(SelfTestOrder::Extended, "The extended test runs: hours, on a large drive."),
        "stop" => order_test(SelfTestOrder::Stop, "The test was stopped."),
        _ => tell("short, extended or stop is wanted"),
    });
    vec![Effect::Over(Box::new(ask))]
}

fn order_test(order: SelfTestOrder, said: &'static str) -> Effects {
    vec![job("the drive's own test", move |drive| {
        let source = SharedSource::clone(&drive.source);
        drive.ladder.shown_job = Some(Job::start(move |_| match health::order_self_test(source.as_ref(), order) {
            Ok(()) => ("The drive tests itself", format!("{said}\n{}", tests(&source))),
            Err(error) => ("The drive does not test itself", error.to_string()),
        }));
    })]
}

/// The tests that the drive remembers, a line each.
fn tests(source: &SharedSource) -> String {
    health::self_tests(source.as_ref()).map(|tests| tests.words().join("\n")).unwrap_or_default()
}

fn told(attaching: &Attaching) -> String {
    let lines = attaching.words().join("\n");
    format!("{lines}\n\nNothing is written to the drive while a volume is attached; U takes them away again.")
}

/// Takes what became of it.
pub(super) fn take(drive: &mut Drive) -> Effects {
    let mut effects = Effects::new();
    for message in drive.ladder.shown_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done((title, text)) => {
                let path = drive.source.identity().path.clone().filter(|_| title == end::SET);
                effects.extend(path.map(Effect::OpenAnew));
                effects.push(show(title, text));
            }
            Message::Died(text) => effects.push(show("It died", text)),
        }
        drive.ladder.shown_job = None;
    }
    effects
}
