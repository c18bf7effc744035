//! What is known of the place that is looked at, and the jobs that read it.

use keel_core::job::{Job, Message};
use keel_core::place::{self, Around, Found, Owner, Pattern, SearchProgress, View, Way};
use keel_source::{ByteOffset, SharedSource};

use super::Bytes;
use crate::app::effect::{Effect, Effects, change, job, show, tell};
use crate::stage::{Drive, Running, Weight, runs, stop};

/// Bytes of a view: what a large terminal shows, and a page more each way is another read.
const VIEW: u64 = 4096;
/// The most places that the way back remembers.
const MOST_BACK: usize = 256;

/// A place, and who holds it.
type Whose = (ByteOffset, Option<Owner>);

/// The state of the place.
#[derive(Default)]
pub(crate) struct State {
    /// The byte that is looked at.
    pub(crate) at: ByteOffset,
    /// What stands there; none while it is read.
    pub(crate) view: Option<View>,
    view_job: Option<Job<(), Option<View>>>,
    /// The field that is selected in the structure.
    pub(super) field: usize,
    /// Where it was come from, by pointers, searches and jumps.
    pub(super) back: Vec<ByteOffset>,
    /// Who holds a place, where that was asked.
    pub(super) owner: Option<Whose>,
    owner_job: Option<Job<(), Option<Result<Whose, String>>>>,
    /// What was searched for last, as it was typed.
    pub(super) wanted: String,
    search_job: Option<Job<SearchProgress, Found>>,
    searching: Option<SearchProgress>,
    /// Where what was searched for stands, and how many bytes long it is there.
    pub(super) found: Option<(ByteOffset, usize)>,
}

impl State {
    /// True while the bytes are on their way.
    pub(super) fn is_reading(&self) -> bool {
        self.view_job.is_some()
    }
}

/// Moves to a place; nothing is read.
pub(super) fn move_to(at: ByteOffset) -> Effect {
    change("move to a place", move |drive| {
        drive.place.at = ByteOffset(at.0.min(drive.source.len().saturating_sub(1)));
    })
}

/// Moves to a place and reads it; the way back leads to where it was come from.
pub(super) fn jump_to(at: ByteOffset) -> Effects {
    let remember = change("remember a place", |drive| {
        let place = &mut drive.place;
        if place.back.len() >= MOST_BACK {
            place.back.remove(0);
        }
        place.back.push(place.at);
    });
    vec![remember, move_to(at), read()]
}

/// Reads what stands at the place.
pub(super) fn read() -> Effect {
    job("read a place", |drive| {
        let (at, finds, table) = (drive.place.at, drive.sweep.finds.clone(), drive.plan.table.clone());
        drive.place.field = 0;
        drive.place.view_job = Some(Job::reading(&drive.source, move |source, _| {
            place::look(source, at, VIEW, Around { finds: &finds, table: &table })
        }));
    })
}

/// Opens the bytes at a place, from wherever it is selected.
pub(crate) fn show_bytes(at: ByteOffset) -> Effects {
    let mut effects = jump_to(at);
    effects.push(Effect::Over(Box::new(Bytes)));
    effects
}

/// Asks who holds the place.
pub(super) fn ask_owner() -> Effect {
    job("ask who holds a place", |drive| {
        let at = drive.place.at;
        let Some(find) = drive.find_at(at).cloned() else { return };
        drive.place.owner_job = Some(Job::reading(&drive.source, move |source, _| {
            place::owner(source, &find, at).map(|owner| (at, owner)).map_err(|error| keel_core::chain(&error))
        }));
    })
}

/// Searches for what was typed last, from the place on.
pub(super) fn search(way: Way) -> Effects {
    vec![crate::app::effect::work("search", move |drive| {
        let place = &mut drive.place;
        let pattern = match Pattern::typed(&place.wanted) {
            Ok(pattern) => pattern,
            Err(wrong) => return tell(wrong.to_string()),
        };
        let source = SharedSource::clone(&drive.source);
        // What stands at the place itself was found before.
        let here = place.found.is_some_and(|(at, _)| at == place.at);
        let from = if way == Way::Forward && here { place.at + 1 } else { place.at };
        place.search_job = Some(Job::start(move |desk| place::search(&source, &pattern, from, way, desk)));
        Vec::new()
    })]
}

/// Takes what the jobs told.
pub(crate) fn reports(drive: &mut Drive) -> Effects {
    let mut effects = take_view(&mut drive.place);
    effects.extend(take_owner(&mut drive.place));
    effects.extend(take_search(&mut drive.place));
    effects
}

fn take_view(place: &mut State) -> Effects {
    for message in place.view_job.as_mut().map(Job::drain).unwrap_or_default() {
        place.view_job = match message {
            Message::Progress(()) => continue,
            Message::Done(view) => {
                place.view = view;
                None
            }
            Message::Died(text) => {
                place.view_job = None;
                return vec![show("The reading died", text)];
            }
        };
    }
    Vec::new()
}

fn take_owner(place: &mut State) -> Effects {
    let mut effects = Vec::new();
    for message in place.owner_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(Some(Ok(owner))) => place.owner = Some(owner),
            Message::Done(Some(Err(error))) => effects.extend(tell(format!("whose it is cannot be told: {error}"))),
            Message::Done(None) => effects.extend(tell("stopped: whose it is was not found yet")),
            Message::Died(text) => effects.push(show("The reading died", text)),
        }
        place.owner_job = None;
    }
    effects
}

fn take_search(place: &mut State) -> Effects {
    let mut effects = Vec::new();
    for message in place.search_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(progress) => {
                place.searching = Some(progress);
                continue;
            }
            Message::Done(Found { at: Some(at), bytes, .. }) => {
                place.found = Some((at, bytes));
                effects.extend(jump_to(at));
                effects.extend(tell(format!("stands at byte {}", at.0)));
            }
            Message::Done(found) => effects.extend(tell(nowhere(&found))),
            Message::Died(text) => effects.push(show("The search died", text)),
        }
        (place.search_job, place.searching) = (None, None);
    }
    effects
}

/// What is told of a search that found nothing.
fn nowhere(found: &Found) -> String {
    match (found.stopped, found.unread) {
        (true, _) => "the search was stopped; n goes on from the place".into(),
        (false, 0) => "it does not stand there, from here to the end".into(),
        (false, unread) => format!("it does not stand in what reads; {unread} bytes on the way do not"),
    }
}

/// What runs.
pub(crate) fn running(drive: &Drive) -> Vec<Running> {
    let place = &drive.place;
    let search = runs(place.search_job.is_some(), Weight::Long, "searching").map(|running| match &place.searching {
        Some(progress) => running.at(progress.done, progress.total, 0),
        None => running,
    });
    let owner = runs(place.owner_job.is_some(), Weight::Short, "looking whose this is");
    let view = runs(place.view_job.is_some(), Weight::Short, "reading a place");
    search.into_iter().chain(owner).chain(view).collect()
}

/// Stops what runs.
pub(crate) fn cancel(drive: &Drive) {
    stop(drive.place.search_job.as_ref());
    stop(drive.place.owner_job.as_ref());
    stop(drive.place.view_job.as_ref());
}
