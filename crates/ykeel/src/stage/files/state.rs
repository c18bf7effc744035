//! What the Files stage holds: the volume looked into, the folder, the listing, the preview.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use keel_core::CoreError;
use keel_core::files::{self as core_files, ExtractProgress, Extracted, GroundJudge, Hit, QueryWrong, Weight};
use keel_core::job::{Cancel, Job, Message};
use keel_core::sweep::Find;
use keel_format::{Deleted, Entry, Finding, NodeId, NodeKind, Volume};
use keel_source::{Budgeted, SharedSource};
use ratatui::layout::Size;

use super::order::Order;
use super::preview::{Preview, ViewAs, preview};
use super::search::{self, SearchJob, Searched, WeighJob, weigh_anew};
use super::{adrift, reader, sheet};
use crate::app::effect::{Effect, Effects, job, show, tell};
use crate::config;
use crate::popup::Ask;
use crate::stage::{Drive, StageId, stop};

/// A listing as it comes from a job.
pub(crate) type Listing = Result<(Vec<Entry>, Vec<Finding>), CoreError>;

/// A volume as it comes from a job, with the ground that present volumes have of it.
pub(crate) type Opened = Result<(Arc<dyn Volume>, Option<Arc<core_files::Taken>>), CoreError>;

/// State of the Files stage.
#[derive(Default)]
pub(crate) struct State {
    pub(crate) volume: Option<Arc<dyn Volume>>,
    /// The ground that present volumes use of an older generation's.
    pub(crate) taken: Option<Arc<core_files::Taken>>,
    pub(crate) find: Option<Find>,
    /// The folders from the root down: number, name, and the row selected when it was left.
    pub(crate) trail: Vec<(NodeId, String, usize)>,
    /// What the folder holds, as it was listed, or what was found.
    pub(super) all: Vec<Hit>,
    /// The rows of it that are shown, in their order.
    pub(super) entries: Vec<usize>,
    pub(crate) order: Order,
    /// Why what is typed narrows nothing down.
    pub(super) wrong: Option<QueryWrong>,
    /// A search over the whole volume.
    pub(super) searched: Option<Searched>,
    pub(super) search_job: Option<SearchJob>,
    pub(crate) findings: Vec<Finding>,
    pub(crate) selected: usize,
    pub(crate) show_deleted: bool,
    /// What is marked, by its path: folders with all that is below them.
    pub(crate) marked: BTreeMap<String, Entry>,
    /// What they come to.
    pub(super) weight: Option<Weight>,
    pub(super) weigh_job: Option<WeighJob>,
    pub(super) reader: reader::State,
    pub(super) sheet: sheet::State,
    /// What no volume holds any more.
    pub(crate) adrift: adrift::State,
    pub(crate) view: ViewAs,
    pub(crate) preview: Option<Preview>,
    pub(crate) problem: Option<String>,
    /// Stops what is read of the volume.
    stop: Cancel,
    pub(crate) open_job: Option<Job<(), Option<Opened>>>,
    pub(crate) list_job: Option<Job<(), Listing>>,
    pub(crate) preview_job: Option<Job<(), Preview>>,
    pub(crate) extract_job: Option<Job<ExtractProgress, Result<Extracted, CoreError>>>,
    pub(crate) extract_progress: Option<ExtractProgress>,
}

impl State {
    pub(in crate::stage) fn of(_source: &SharedSource) -> Self {
        Self::default()
    }

    /// True while anything is read for the screen.
    pub(super) fn is_reading(&self) -> bool {
        let listing = self.open_job.is_some() || self.list_job.is_some() || self.preview_job.is_some();
        listing || self.weigh_job.is_some() || self.reader.is_reading() || self.sheet.is_reading()
    }

    /// Stops what runs. A volume whose listing was stopped is opened anew when it is looked into again.
    pub(super) fn cancel(&mut self) {
        stop(self.extract_job.as_ref());
        stop(self.search_job.as_ref());
        stop(self.weigh_job.as_ref());
        self.reader.cancel();
        self.sheet.cancel();
        self.adrift.cancel();
        if let Some(job) = &self.open_job {
            job.cancel().cancel();
            self.stop.cancel();
        }
        if self.list_job.is_some() {
            self.stop.cancel();
            (self.list_job, self.preview_job, self.volume) = (None, None, None);
            self.problem = Some("stopped: the folder was not listed to its end".into());
        }
    }

    /// Lets go of what is listed, for a volume or for what is adrift. What is being taken out goes on.
    pub(super) fn begin_anew(&mut self, is_adrift: bool) {
        let order = self.order.whole();
        let extracting = (self.extract_job.take(), self.extract_progress.take());
        let mut adrift = std::mem::take(&mut self.adrift);
        adrift.show(is_adrift);
        *self = Self { show_deleted: self.show_deleted, view: self.view, order, adrift, ..Self::default() };
        (self.extract_job, self.extract_progress) = extracting;
    }

    /// Looks into `find`.
    fn open(&mut self, source: &SharedSource, finds: &[Find], find: &Find) {
        if self.find.as_ref().is_some_and(|open| open.id == find.id && open.start_byte == find.start_byte)
            && self.volume.is_some()
        {
            return;
        }
        self.begin_anew(false);
        self.find = Some(find.clone());
        // What the volume reads later is stopped by a flag of its own.
        let below = Budgeted::until(SharedSource::clone(source), &self.stop);
        let (find, finds) = (find.clone(), finds.to_vec());
        self.open_job = Some(Job::reading(source, move |source, _| {
            let volume = core_files::open(&below, &find)?;
            Ok((volume, core_files::taken(source, &finds, &find).map(Arc::new)))
        }));
    }

    /// Takes the volume that was opened; false where it did not open.
    fn take_opened(&mut self, opened: Opened) -> bool {
        match opened {
            Ok((volume, taken)) => {
                self.trail = vec![(volume.root(), String::new(), 0)];
                (self.volume, self.taken) = (Some(volume), taken);
                true
            }
            Err(error) => {
                self.problem = Some(keel_core::chain(&error));
                false
            }
        }
    }

    /// Lists the folder at the end of the trail.
    fn list(&mut self) {
        let (Some(volume), Some((dir, _, _))) = (&self.volume, self.trail.last()) else { return };
        let (volume, dir) = (Arc::clone(volume), *dir);
        let deleted = if self.show_deleted { Deleted::Show } else { Deleted::Hide };
        self.preview = None;
        self.list_job = Some(Job::start(move |_| core_files::entries(volume.as_ref(), dir, deleted)));
    }

    /// Path of the folder that is listed, without leading separator.
    pub(crate) fn folder(&self) -> String {
        let names: Vec<&str> = self.trail.iter().skip(1).map(|(_, name, _)| name.as_str()).collect();
        names.join("/")
    }

    /// What is listed, row by row.
    pub(super) fn rows(&self) -> impl ExactSizeIterator<Item = &Hit> {
        self.entries.iter().map(|row| &self.all[*row])
    }

    /// How many rows are listed.
    pub(super) fn count(&self) -> usize {
        self.entries.len()
    }

    pub(crate) fn selected_entry(&self) -> Option<&Hit> {
        self.entries.get(self.selected).map(|row| &self.all[*row])
    }

    /// True where a path is marked, or a folder above it.
    pub(super) fn is_marked(&self, path: &str) -> bool {
        self.marked.contains_key(path) || self.marked_above(path).is_some()
    }

    /// The folder above a path that is marked.
    fn marked_above<'a>(&self, path: &'a str) -> Option<&'a str> {
        let mut above = path.match_indices('/').map(|(at, _)| &path[..at]);
        above.find(|folder| self.marked.contains_key(*folder))
    }

    /// Marks a path, or unmarks it.
    pub(super) fn mark(&mut self, hit: &Hit) {
        let path = hit.path();
        if self.marked.remove(&path).is_none() {
            // What lies below a folder is marked with it.
            self.marked.retain(|own, _| !own.strip_prefix(&path).is_some_and(|rest| rest.starts_with('/')));
            self.marked.insert(path, hit.entry.clone());
        }
    }

    /// Entries of the folder, whatever is searched for.
    pub(super) fn listed(&self) -> usize {
        self.all.len()
    }

    /// Shows the folder in its order; the row stays selected where it was.
    pub(super) fn show_in_order(&mut self) {
        (self.entries, self.wrong) = self.order.apply(&self.all, &|entry| self.adrift.told(entry));
        self.selected = self.selected.min(self.entries.len().saturating_sub(1));
    }

    /// True when the selected file has no preview yet, and none is being read.
    fn needs_preview(&self) -> bool {
        let Some(Hit { entry, .. }) = self.selected_entry().filter(|_| self.volume.is_some()) else { return false };
        let stale = self.preview.as_ref().is_none_or(|preview| preview.id != entry.id);
        entry.kind == NodeKind::File && stale && self.preview_job.is_none()
    }

    /// Reads a preview of the selected file, fitted into `size`.
    fn look(&mut self, size: Size) {
        let (Some(volume), Some(entry)) = (&self.volume, self.selected_entry()) else { return };
        let (volume, entry, taken) = (Arc::clone(volume), entry.entry.clone(), self.taken.clone());
        self.preview_job = Some(Job::start(move |desk| {
            let ground = judge(volume.as_ref(), taken.as_deref()).of(&entry);
            preview(volume.as_ref(), &entry, ground, (size, desk.cancel()))
        }));
    }

    /// What is to be taken out: the marked paths, or the selected one.
    pub(crate) fn wanted(&self) -> Vec<String> {
        if self.marked.is_empty() {
            return self.selected_entry().map(Hit::path).into_iter().collect();
        }
        self.marked.keys().cloned().collect()
    }

    /// Where files go by default: a folder named after drive and volume.
    pub(crate) fn default_target(&self, drive: &str) -> PathBuf {
        let other = if self.adrift.is_open() { "adrift" } else { "volume" };
        let name = self.find.as_ref().map_or(other, |find| find.label.as_deref().unwrap_or(&find.id));
        let folder = config::get().folders.files.clone().unwrap_or_else(|| PathBuf::from("taken-out"));
        folder.join(core_files::safe_component(&format!("{drive} {name}")))
    }
}

/// Who says what is left of a file's ground.
fn judge<'a>(volume: &'a dyn Volume, taken: Option<&'a core_files::Taken>) -> GroundJudge<'a> {
    taken.map_or_else(|| GroundJudge::new(volume), |taken| GroundJudge::under(volume, taken))
}

/// Looks into a find, or says why that cannot be.
pub(crate) fn look_into(find: Option<&Find>) -> Effects {
    let Some(find) = find.cloned() else { return tell("no volume is selected that could be looked into") };
    if let Some(why) = find.kind.why_closed() {
        return vec![show(format!("{} cannot be looked into", find.kind.word()), why)];
    }
    let mut effects = open(&find);
    effects.push(Effect::GoTo(StageId::Files));
    effects
}

/// Opens a find's volume.
pub(super) fn open(find: &Find) -> Effects {
    let find = find.clone();
    vec![job("open the volume", move |drive| {
        let source = SharedSource::clone(&drive.source);
        drive.files.open(&source, &drive.sweep.finds, &find);
    })]
}

/// Lists the folder anew.
pub(super) fn list() -> Effects {
    vec![job("list the folder", |drive| drive.files.list())]
}

/// Goes into the selected folder, or opens the selected file to be read.
pub(super) fn enter(drive: &mut Drive) -> Effects {
    let Some(hit) = drive.files.selected_entry().cloned() else { return Vec::new() };
    match hit.entry.kind {
        NodeKind::Directory => enter_folder(&mut drive.files, &hit),
        NodeKind::File => reader::open(&hit.entry),
        NodeKind::Link => tell("a link: where it leads stands at the right"),
    }
}

fn enter_folder(files: &mut State, hit: &Hit) -> Effects {
    if files.shows_found() {
        files.leave_found(hit);
    } else {
        // The row is that of the whole folder: what is searched for is let go.
        let (whole, _) = files.order.whole().apply(&files.all, &|_| None);
        let row = whole.iter().position(|row| files.all[*row].entry.id == hit.entry.id).unwrap_or(files.selected);
        files.trail.last_mut().into_iter().for_each(|last| last.2 = row);
        files.trail.push((hit.entry.id, hit.entry.name.clone(), 0));
    }
    files.selected = 0;
    files.entries.clear();
    files.order = files.order.whole();
    list()
}

/// Goes up a folder, back to what was found, or back to the volumes.
pub(super) fn leave(drive: &mut Drive) -> Effects {
    let files = &mut drive.files;
    if files.shows_found() {
        files.end_search();
    } else if files.trail.len() <= 2 && files.searched.is_some() {
        files.show_found();
        return Vec::new();
    } else if files.trail.len() <= 1 {
        return vec![Effect::GoTo(StageId::Sweep)];
    } else {
        files.trail.pop();
        files.selected = files.trail.last().map_or(0, |(_, _, row)| *row);
    }
    files.entries.clear();
    files.order = files.order.whole();
    list()
}

/// Marks the selected entry for taking out, or unmarks it, and goes on to the next.
pub(super) fn mark(drive: &mut Drive) -> Effects {
    let files = &mut drive.files;
    let Some(hit) = files.selected_entry().cloned() else { return Vec::new() };
    if let Some(folder) = files.marked_above(&hit.path()) {
        return tell(format!("its folder {} is marked, with all that is below it", keel_source::printable(folder)));
    }
    files.mark(&hit);
    files.selected = (files.selected + 1).min(files.count().saturating_sub(1));
    weigh_anew()
}

/// Lists deleted entries too, or hides them.
pub(super) fn toggle_deleted(drive: &mut Drive) -> Effects {
    drive.files.show_deleted = !drive.files.show_deleted;
    list()
}

/// Sorts by the next column.
pub(super) fn sort_next(drive: &mut Drive) -> Effects {
    drive.files.order.by = drive.files.order.by.next();
    drive.files.show_in_order();
    tell(format!("sorted by {}", drive.files.order.by.word()))
}

/// Turns the order around.
pub(super) fn reverse(drive: &mut Drive) -> Effects {
    drive.files.order.reversed = !drive.files.order.reversed;
    drive.files.show_in_order();
    Vec::new()
}

/// Searches the folder as it is typed.
pub(super) fn search(drive: &mut Drive) -> Effects {
    drive.files.order.typing = drive.files.volume.is_some();
    Vec::new()
}

/// Shows the preview by its content, or as bytes.
pub(super) fn toggle_view(drive: &mut Drive) -> Effects {
    drive.files.view = if drive.files.view == ViewAs::Hex { ViewAs::Content } else { ViewAs::Hex };
    Vec::new()
}

/// Asks where the files go.
pub(super) fn ask_extract(drive: &mut Drive) -> Effects {
    if drive.files.wanted().is_empty() {
        return tell("nothing is selected");
    }
    let to = drive.files.default_target(&drive.source.identity().name).to_string_lossy().into_owned();
    let marks = search::weighed(&drive.files);
    let what = if marks.is_empty() { "What is selected".into() } else { marks };
    let text = format!(
        "{what}. Folder to put the files into: what is there already with the same content is not taken again, nothing is \
         overwritten, and whether there is room is asked first. A manifest with hashes is written beside them."
    );
    vec![Effect::Over(Box::new(Ask::path("Take out", text, to, |_, line| {
        let to = PathBuf::from(line.trim());
        vec![job("take files out", move |drive| extract(drive, to))]
    })))]
}

fn extract(drive: &mut Drive, to: PathBuf) {
    if drive.files.adrift.is_open() {
        return adrift::extract(drive, to);
    }
    let Some(find) = drive.files.find.clone() else { return };
    let (wanted, taken) = (drive.files.wanted(), drive.files.taken.clone());
    let source = SharedSource::clone(&drive.source);
    drive.files.extract_job = Some(Job::start(move |desk| {
        // A volume of its own: stopping the listing beside it is nothing that did not read.
        let volume = core_files::open(&source, &find)?;
        let judge = judge(volume.as_ref(), taken.as_deref());
        core_files::take_out(&source, (volume.as_ref(), judge), &wanted, &to, desk)
    }));
}

/// Takes what the jobs told; a preview of at most `preview` cells is read where the stage is shown.
pub(super) fn reports(drive: &mut Drive, preview: Option<Size>) -> Effects {
    let mut effects = adrift::reports(drive, preview.is_some());
    let files = &mut drive.files;
    effects.extend(take_opened(files));
    take_listing(files);
    for message in files.preview_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(preview) => files.preview = Some(preview),
            Message::Died(text) => files.problem = Some(text),
        }
        files.preview_job = None;
    }
    if let Some(size) = preview.filter(|_| files.needs_preview()) {
        effects.push(job("read a preview", move |drive| drive.files.look(size)));
    }
    effects.extend(take_extracted(files));
    effects.extend(search::reports(files));
    effects.extend(reader::reports(&mut files.reader));
    effects.extend(sheet::reports(&mut files.sheet));
    effects
}

fn take_opened(files: &mut State) -> Effects {
    let mut effects = Vec::new();
    for message in files.open_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(Some(opened)) => {
                if files.take_opened(opened) {
                    effects.extend(list());
                }
            }
            Message::Done(None) => files.problem = Some("stopped: the volume was not opened".into()),
            Message::Died(text) => files.problem = Some(text),
        }
        files.open_job = None;
    }
    effects
}

fn take_listing(files: &mut State) {
    for message in files.list_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(Ok((entries, findings))) => {
                let folder = files.folder();
                files.all = entries.into_iter().map(|entry| Hit { folder: folder.clone(), entry }).collect();
                files.findings = findings;
                files.show_in_order();
            }
            Message::Done(Err(error)) => {
                files.entries.clear();
                files.problem = Some(keel_core::chain(&error));
            }
            Message::Died(text) => files.problem = Some(text),
        }
        files.list_job = None;
    }
}

fn take_extracted(files: &mut State) -> Effects {
    let mut effects = Vec::new();
    for message in files.extract_job.as_mut().map(Job::drain).unwrap_or_default() {
        effects.push(match message {
            Message::Progress(progress) => {
                files.extract_progress = Some(progress);
                continue;
            }
            Message::Done(Ok(done)) => show("Taken out", super::view::summary(&done)),
            Message::Done(Err(error)) => show("Nothing was taken out", keel_core::chain(&error)),
            Message::Died(text) => show("The extraction died", text),
        });
        (files.extract_job, files.extract_progress) = (None, None);
    }
    effects
}
