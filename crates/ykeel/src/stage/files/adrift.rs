//! What is adrift, as a source of its own beside the volumes: looked at, searched, marked and taken out as the files of a volume are.

use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use keel_core::CoreError;
use keel_core::adrift::{self as core, AdriftProgress, AdriftState, Cuts, Shelf, Start, TakeOutProgress, TakenOut, TakenState};
use keel_core::advice::Swept;
use keel_core::files::Told;
use keel_core::job::{Job, Message};
use keel_format::{Entry, NodeId, NodeKind, Volume};
use keel_source::{ByteRange, SharedSource, counted, printable, size_decimal};

use super::State as Files;
use crate::app::effect::{Effects, job, show, tell};
use crate::stage::{Drive, Running, Weight, runs, stop};
use crate::theme::Theme;
use crate::widget::why::Why;

/// How long a look rests at least before the next one, while the sweep goes on; and as a multiple of what the last one took.
const REST: Duration = Duration::from_secs(2);
const REST_FOR: u32 = 4;

/// The most files whose places the keel is told.
const MOST_PLACES: usize = 10_000;

/// What a look came to: the shelf, how long it took, and whether it was stopped.
type Looked = (Shelf, Duration, bool);

/// What the Files stage knows of it.
#[derive(Default)]
pub(crate) struct State {
    /// True while it is shown.
    is_open: bool,
    /// True where the pieces of what is cut are looked for.
    joins: bool,
    shelf: Option<Arc<Shelf>>,
    /// How many starts and finds it was made of.
    made_of: (usize, usize),
    /// When the next look may begin.
    next: Option<Instant>,
    look_job: Option<Job<AdriftProgress, Looked>>,
    progress: Option<AdriftProgress>,
    take_job: Option<Job<TakeOutProgress, Result<TakenOut, CoreError>>>,
    taking: Option<TakeOutProgress>,
}

impl State {
    /// True while what is adrift is shown, or looked for.
    pub(super) fn is_open(&self) -> bool {
        self.is_open
    }

    /// The shelf, while it is shown.
    pub(super) fn shelf(&self) -> Option<Arc<Shelf>> {
        self.shelf.clone().filter(|_| self.is_open)
    }

    /// The file with this number.
    pub(super) fn file(&self, id: NodeId) -> Option<&core::Adrift> {
        self.shelf.as_ref().filter(|_| self.is_open).and_then(|shelf| shelf.file(id))
    }

    /// What is known of an entry beside what a volume tells.
    pub(super) fn told(&self, entry: &Entry) -> Option<Told<'_>> {
        self.shelf.as_ref().filter(|_| self.is_open).and_then(|shelf| shelf.told(entry))
    }

    /// The ground of a file, from its first byte to the end of its first piece.
    pub(super) fn ground(&self, id: NodeId) -> Option<ByteRange> {
        self.file(id)?.extents.first().map(|(at, bytes)| ByteRange::sized(*at, *bytes))
    }

    /// Where files lie, for the keel; of very many of them some.
    pub(crate) fn places(&self) -> impl Iterator<Item = ByteRange> {
        let shelf = self.shelf.as_ref().filter(|_| self.is_open);
        let files = shelf.map(|shelf| shelf.files().as_ref()).unwrap_or_default();
        let every = files.len() / MOST_PLACES + 1;
        files.iter().step_by(every).map(|file| ByteRange::sized(file.at_byte, file.bytes.max(1)))
    }

    /// What a folder or a file comes to, for a row of the list: how it stands, and its bytes.
    pub(super) fn row(&self, entry: &Entry) -> (String, String) {
        match (&self.shelf, self.file(entry.id)) {
            (_, Some(file)) => (file.state.word().to_string(), file.bytes.to_string()),
            (Some(shelf), None) if entry.kind == NodeKind::Directory => {
                let (count, bytes) = shelf.below(entry.id);
                (counted(count, "file", "files"), bytes.to_string())
            }
            _ => Default::default(),
        }
    }

    pub(super) fn cancel(&self) {
        stop(self.look_job.as_ref());
        stop(self.take_job.as_ref());
    }

    /// The jobs that run.
    pub(super) fn running(&self) -> impl Iterator<Item = Running> {
        let found = self.progress.map(|progress| counted(progress.found, "file", "files")).unwrap_or_default();
        let looking = runs(self.look_job.is_some(), Weight::Long, format!("looking for files adrift  {found}"));
        let looking = looking.map(|running| match self.progress {
            Some(progress) => running.at(progress.done as u64, progress.total.max(1) as u64, 0),
            None => running,
        });
        let out = self.taking.map_or_else(
            || "taking out".to_string(),
            |taking| format!("taking out  {} of {}  {}", taking.files, taking.of, size_decimal(taking.bytes)),
        );
        looking.into_iter().chain(runs(self.take_job.is_some(), Weight::Long, out))
    }

    /// Why nothing is listed yet, in a sentence.
    pub(super) fn waits(&self) -> Option<String> {
        self.is_open.then(|| match self.progress {
            Some(progress) => format!(
                "Looking at what begins on the surface: {} of {} places, {} so far.",
                progress.done,
                progress.total,
                counted(progress.found, "file", "files")
            ),
            None => "Looking at what begins on the surface.".to_string(),
        })
    }

    /// Shows it, or not; what runs goes on.
    pub(super) fn show(&mut self, is_open: bool) {
        self.is_open = is_open;
    }
}

/// Shows what is adrift, or goes back to the volumes.
pub(super) fn toggle(drive: &mut Drive) -> Effects {
    if drive.files.adrift.is_open {
        drive.files.begin_anew(false);
        return match drive.selected_find().filter(|find| find.kind.why_closed().is_none()).cloned() {
            Some(find) => super::state::open(&find),
            None => tell("no volume is selected"),
        };
    }
    if drive.sweep.starts.count() == 0 {
        return tell(match (&drive.sweep.swept, drive.sweep.job.is_some()) {
            (_, true) => "the sweep met no beginning of a file so far",
            (Swept::Done, _) => "no file begins on the ground that was swept sector by sector; S in the Sweep takes in all of it",
            _ => "files adrift are met where the surface is swept: S in the Sweep",
        });
    }
    drive.files.begin_anew(true);
    let is_known = drive.files.adrift.made_of == there_is(&drive.sweep);
    match drive.files.adrift.shelf.clone().filter(|_| is_known) {
        Some(shelf) => place(&mut drive.files, &shelf),
        None => look(),
    }
}

/// Looks for the pieces of what is cut, or tells it as it is again.
pub(super) fn toggle_join(drive: &mut Drive) -> Effects {
    let adrift = &mut drive.files.adrift;
    if !adrift.is_open {
        return tell("pieces are looked for among files adrift: ~ shows them");
    }
    if adrift.look_job.is_some() {
        return tell("what is adrift is being looked at");
    }
    adrift.joins = !adrift.joins;
    look()
}

/// How many starts and finds there are by now: more of either may change what is adrift.
fn there_is(sweep: &crate::stage::sweep::State) -> (usize, usize) {
    (sweep.starts.count(), sweep.finds.len())
}

/// Looks at what begins on the surface.
fn look() -> Effects {
    vec![job("look for files adrift", |drive| {
        let (source, finds) = (SharedSource::clone(&drive.source), drive.sweep.finds.clone());
        let (starts, adrift) = (Arc::clone(&drive.sweep.starts), &mut drive.files.adrift);
        let joins = adrift.joins;
        (adrift.made_of, adrift.progress) = (there_is(&drive.sweep), None);
        adrift.look_job = Some(Job::start(move |desk| {
            let begun = Instant::now();
            let held = core::held(&source, &finds, desk.cancel());
            let cuts = if joins { Cuts::Joined(core::rasters(&source, &finds)) } else { Cuts::Told };
            let starts: Vec<Start> = starts.sorted();
            let found = core::adrift(&source, &starts, (&held, &finds), &cuts, desk);
            (Shelf::new(&source, found.files.into()), begun.elapsed(), found.cancelled)
        }));
    })]
}

/// Puts the shelf where the volume stands; the folder stays where it is.
fn place(files: &mut Files, shelf: &Arc<Shelf>) -> Effects {
    let root = shelf.root();
    let stands = files.trail.iter().all(|(id, ..)| shelf.below(*id).0 > 0);
    files.volume = Some(Arc::<Shelf>::clone(shelf));
    if files.trail.is_empty() || !stands {
        files.trail = vec![(root, String::new(), 0)];
        files.selected = 0;
    }
    files.preview = None;
    if files.shows_found() { Vec::new() } else { super::state::list() }
}

/// Takes what the jobs told, and looks again where the sweep met more.
pub(super) fn reports(drive: &mut Drive, is_shown: bool) -> Effects {
    let mut effects = take_look(&mut drive.files);
    effects.extend(take_taken(&mut drive.files.adrift));
    let adrift = &drive.files.adrift;
    let has_more = there_is(&drive.sweep) != adrift.made_of;
    let may = adrift.next.is_none_or(|next| Instant::now() >= next);
    if is_shown && adrift.is_open && has_more && may && adrift.look_job.is_none() && effects.is_empty() {
        effects.extend(look());
    }
    effects
}

fn take_look(files: &mut Files) -> Effects {
    let mut effects = Vec::new();
    for message in files.adrift.look_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(progress) => {
                files.adrift.progress = Some(progress);
                continue;
            }
            Message::Done((shelf, took, is_stopped)) => {
                let shelf = Arc::new(shelf);
                files.adrift.next = Some(Instant::now() + REST.max(took * REST_FOR));
                files.adrift.shelf = Some(Arc::clone(&shelf));
                if is_stopped {
                    effects.extend(tell("stopped: there may be more files adrift; ~ twice looks again"));
                }
                if files.adrift.is_open {
                    effects.extend(place(files, &shelf));
                }
            }
            Message::Died(text) => effects.push(show("The look for files adrift died", text)),
        }
        (files.adrift.look_job, files.adrift.progress) = (None, None);
    }
    effects
}

/// Takes what is wanted out to a folder.
pub(super) fn extract(drive: &mut Drive, to: PathBuf) {
    let wanted = drive.files.wanted();
    let Some(shelf) = drive.files.adrift.shelf.clone() else { return };
    let source = SharedSource::clone(&drive.source);
    drive.files.adrift.take_job = Some(Job::start(move |desk| core::take_out(&source, &shelf.chosen(&wanted), &to, desk)));
}

fn take_taken(adrift: &mut State) -> Effects {
    let mut effects = Vec::new();
    for message in adrift.take_job.as_mut().map(Job::drain).unwrap_or_default() {
        effects.push(match message {
            Message::Progress(progress) => {
                adrift.taking = Some(progress);
                continue;
            }
            Message::Done(Ok(done)) => show("Taken out", summary(&done)),
            Message::Done(Err(error)) => show("Nothing was taken out", keel_core::chain(&error)),
            Message::Died(text) => show("The taking out died", text),
        });
        (adrift.take_job, adrift.taking) = (None, None);
    }
    effects
}

/// What was taken out, in sentences.
fn summary(done: &TakenOut) -> String {
    let count = |state| done.count(state);
    let mut text = format!(
        "{} whole, {} plausible, {} cut, {} damaged; {}.\n",
        counted(count(TakenState::Whole), "file", "files"),
        count(TakenState::Plausible),
        count(TakenState::Cut),
        count(TakenState::Damaged),
        size_decimal(done.bytes)
    );
    if done.was_there > 0 {
        text.push_str(&format!("{} of them were there already, with the same content.\n", done.was_there));
    }
    for file in done.files.iter().filter(|file| file.state == TakenState::Damaged).take(6) {
        let bytes: u64 = file.unreadable.iter().map(|(_, bytes)| bytes).sum();
        text.push_str(&format!("{}: {} of it could not be read\n", printable(&file.saved_as), size_decimal(bytes)));
    }
    if done.cancelled {
        text.push_str("It was stopped: the same folder goes on with it.\n");
    }
    text.push_str(&format!("manifest: {}", done.manifest.display()));
    text
}

/// What stands at the right of it.
pub(super) fn why(files: &Files, untold: u64, theme: Theme) -> Why {
    let mut why = Why::default();
    why.say("Why", theme.strong());
    if let Some(shelf) = &files.adrift.shelf {
        let count = |state| shelf.files().iter().filter(|file| file.state == state).count();
        let bytes: u64 = shelf.files().iter().map(|file| file.bytes).sum();
        why.say(format!("adrift: {}, {}", counted(shelf.files().len(), "file", "files"), size_decimal(bytes)), theme.text());
        let states = [AdriftState::Whole, AdriftState::Plausible, AdriftState::Cut];
        why.say(states.map(|state| format!("{} {}", count(state), state.word())).join(", "), theme.text());
        why.say("on ground that no sound volume uses, and in what files leave of their last clusters", theme.dim());
        if files.adrift.joins {
            why.say("what was cut is joined where the whole proves itself", theme.dim());
        }
        if untold > 0 {
            why.say(format!("{untold} more places where a file may begin found no room"), theme.doubt());
        }
        why.gap();
    }
    let here = files.selected_entry();
    if let Some(file) = here.and_then(|hit| files.adrift.file(hit.entry.id)) {
        let style = match file.state {
            AdriftState::Whole => theme.good(),
            AdriftState::Plausible => theme.text(),
            AdriftState::Cut => theme.doubt(),
        };
        why.say(format!("{}  {}: {}", file.id, file.state.word(), file.why), style);
        why.say(format!("{} bytes from byte {}", file.bytes, file.at_byte.0), theme.text());
        for (at, bytes) in file.extents.iter().skip(1) {
            why.say(format!("then {bytes} bytes from byte {}", at.0), theme.text());
        }
        if let Some((wide, high)) = file.pixels {
            why.say(format!("picture of {wide} x {high}"), theme.dim());
        }
        for (what, told) in [("made", &file.made), ("by", &file.by)] {
            if let Some(told) = told {
                why.say(format!("{what:<8} {}", printable(told)), theme.dim());
            }
        }
        match &file.volume {
            Some(volume) => why.say(format!("on the ground of {volume}"), theme.dim()),
            None => why.say("on ground of no volume", theme.dim()),
        }
        if let (Some(path), Some(find)) = (&file.path, &file.recorded_by) {
            why.say(format!("a record of {find} calls it {}", printable(path)), theme.text());
        }
        if let Some(same) = &file.same_as {
            why.say(format!("the same content as {same}"), theme.doubt());
        }
        why.gap();
    }
    why.say("Next", theme.strong());
    for line in [
        "· space marks a file or a folder, e takes out what is marked",
        "· & looks for the pieces of what is cut",
        "· / state:whole pixels:640x480 >100K narrows the list, * all of it",
        "· # shows the pictures side by side, b where a file lies",
    ] {
        why.say(line, theme.text());
    }
    why
}
