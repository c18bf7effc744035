//! The search over the whole volume, and what the marks come to.

use std::sync::Arc;

use keel_core::CoreError;
use keel_core::files::{self as core_files, Hit, Hits, Query, Weight};
use keel_core::job::{Job, Message};
use keel_format::{Deleted, Entry, NodeId, NodeKind};
use keel_source::counted;

use super::State;
use crate::app::effect::{Effect, Effects, job, show, tell};
use crate::popup::Ask;
use crate::stage::Drive;

/// How a query is typed.
const SYNTAX: &str = "Words of the name, or a pattern of all of it: *.jpg. Beside them: sort:pictures (films, sound, documents, mail, text, \
archives, databases, disk, programs), >10M, <4K, since:2024-05, until:2024-06-30, is:deleted (file, folder, link); of files adrift state:whole, pixels:640x480, volume:n1 or none, from:1G, before:2G. A ! before one turns it around.";

/// A search over the whole volume.
pub(crate) struct Searched {
    /// What is searched for.
    pub(super) wanted: String,
    /// What was found.
    pub(super) hits: Vec<Hit>,
    /// Entries that were looked at so far.
    pub(super) looked_at: u64,
    /// Entries that meet it and are not kept.
    pub(super) untold: u64,
    /// True when it was stopped before its end.
    pub(super) stopped: bool,
    /// The folders from the root to where it was begun, and the row there.
    trail: Vec<(NodeId, String, usize)>,
    /// True while a folder that was found is looked into.
    pub(super) is_left: bool,
}

impl State {
    /// True while what was found in the whole volume is listed.
    pub(super) fn shows_found(&self) -> bool {
        self.searched.as_ref().is_some_and(|searched| !searched.is_left)
    }

    /// Lists what was found.
    pub(super) fn show_found(&mut self) {
        let Some(searched) = &mut self.searched else { return };
        searched.is_left = false;
        self.all.clone_from(&searched.hits);
        self.order = self.order.whole();
        self.show_in_order();
    }

    /// Goes into a folder that was found: the way up leads back to what was found.
    pub(super) fn leave_found(&mut self, folder: &Hit) {
        if let Some(searched) = &mut self.searched {
            searched.is_left = true;
            let root = self.volume.as_ref().map(|volume| (volume.root(), String::new(), 0));
            self.trail = root.into_iter().chain([(folder.entry.id, folder.path(), 0)]).collect();
        }
    }

    /// Lets go of what was found: the folder of before is the one to be listed.
    pub(super) fn end_search(&mut self) {
        self.search_job = None;
        if let Some(searched) = self.searched.take() {
            self.selected = searched.trail.last().map_or(0, |(_, _, row)| *row);
            self.trail = searched.trail;
        }
    }

    /// Weighs what is marked, anew.
    fn weigh(&mut self) {
        (self.weight, self.weigh_job) = (None, None);
        // What files come to is known: only below a folder the volume has to be read.
        if self.marked.values().all(|entry| entry.kind != NodeKind::Directory) {
            self.weight = Some(Weight::of(self.marked.values()));
            return;
        }
        let Some(volume) = self.volume.as_ref().filter(|_| !self.marked.is_empty()) else { return };
        let (volume, paths) = (Arc::clone(volume), self.marked.keys().cloned().collect::<Vec<_>>());
        self.weigh_job = Some(Job::start(move |desk| core_files::weigh(volume.as_ref(), &paths, desk.cancel())));
    }

    fn search(&mut self, wanted: &str, query: Query) {
        let Some(volume) = self.volume.as_ref().map(Arc::clone) else { return };
        self.end_search();
        let mut trail = self.trail.clone();
        trail.last_mut().into_iter().for_each(|last| last.2 = self.selected);
        let wanted = wanted.trim().to_string();
        self.searched =
            Some(Searched { wanted, hits: Vec::new(), looked_at: 0, untold: 0, stopped: false, trail, is_left: false });
        (self.all, self.entries, self.selected, self.preview) = (Vec::new(), Vec::new(), 0, None);
        self.order = self.order.whole();
        let deleted = if self.show_deleted { Deleted::Show } else { Deleted::Hide };
        let shelf = self.adrift.shelf();
        self.search_job = Some(Job::start(move |desk| {
            let told = |entry: &Entry| shelf.as_ref().and_then(|shelf| shelf.told(entry));
            core_files::search(volume.as_ref(), (&query, &told), deleted, desk)
        }));
    }
}

/// What is weighed again after the marks changed.
pub(super) fn weigh_anew() -> Effects {
    vec![job("weigh what is marked", |drive| drive.files.weigh())]
}

/// Asks what is searched for in the whole volume.
pub(super) fn ask(drive: &mut Drive) -> Effects {
    if drive.files.volume.is_none() {
        return tell("no volume is open");
    }
    let last = drive.files.searched.as_ref().map(|searched| searched.wanted.clone()).unwrap_or_default();
    vec![Effect::Over(Box::new(Ask::new("Search the whole volume", SYNTAX, last, |_, line| match Query::typed(line) {
        Err(wrong) => vec![show("That cannot be searched for", wrong.to_string())],
        Ok(query) if query.is_empty() => tell("nothing to search for"),
        Ok(query) => {
            let wanted = line.to_string();
            vec![job("search the volume", move |drive| drive.files.search(&wanted, query))]
        }
    })))]
}

/// Takes what the search and the scales told.
pub(super) fn reports(files: &mut State) -> Effects {
    let mut effects = take_search(files);
    for message in files.weigh_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(Ok(weight)) => files.weight = weight,
            Message::Done(Err(error)) => effects.extend(tell(keel_core::chain(&error))),
            Message::Died(text) => effects.push(show("The marks were not weighed", text)),
        }
        files.weigh_job = None;
    }
    effects
}

fn take_search(files: &mut State) -> Effects {
    let mut effects = Vec::new();
    for message in files.search_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(looked_at) => {
                files.searched.iter_mut().for_each(|searched| searched.looked_at = looked_at);
                continue;
            }
            Message::Done(Ok(found)) => take_found(files, found),
            Message::Done(Err(error)) => effects.push(show("The volume was not searched", keel_core::chain(&error))),
            Message::Died(text) => effects.push(show("The search died", text)),
        }
        files.search_job = None;
    }
    effects
}

fn take_found(files: &mut State, found: Hits) {
    let Some(searched) = &mut files.searched else { return };
    (searched.looked_at, searched.untold, searched.stopped) = (found.looked_at, found.untold, found.stopped);
    (searched.hits, files.findings) = (found.hits, found.findings);
    files.show_found();
}

/// What was searched and found, for the head of the list.
pub(super) fn said(files: &State) -> Option<String> {
    let searched = files.searched.as_ref().filter(|searched| !searched.is_left)?;
    let looked_at = counted(searched.looked_at, "entry", "entries");
    let end = match (files.search_job.is_some(), searched.stopped, searched.untold) {
        (true, _, _) => format!("{looked_at} looked at so far"),
        (_, true, _) => format!("stopped after {looked_at}"),
        (_, _, 0) => format!("of {looked_at}"),
        (_, _, untold) => format!("of {looked_at}, and {untold} more that are not listed"),
    };
    Some(format!("found: {}  {end}", searched.wanted))
}

/// What the marks come to, in words.
pub(super) fn weighed(files: &State) -> String {
    let marks = files.marked.len();
    match (&files.weight, marks) {
        (_, 0) => String::new(),
        (None, _) => format!("{marks} marked"),
        (Some(Weight { files, bytes, .. }), _) => {
            format!("{marks} marked: {}, {}", counted(*files, "file", "files"), keel_source::size_decimal(*bytes))
        }
    }
}

/// What a search or the weighing is told with while it runs.
pub(super) type SearchJob = Job<u64, Result<Hits, CoreError>>;
/// The job that weighs.
pub(super) type WeighJob = Job<(), Result<Option<Weight>, CoreError>>;
