//! The finds, what the technician chose of them, and the jobs that look for them.

use std::collections::BTreeSet;
use std::sync::Arc;

use keel_core::adrift::Starts;
use keel_core::advice::Swept;
use keel_core::case;
use keel_core::job::{Job, Message};
use keel_core::layout::{ByHand, Choices};
use keel_core::sweep::{self, Find, Reach, RootLook, Sweep, SweepOptions, SweepProgress, rival};
use keel_format::table::Scheme;
use keel_source::{ByteRange, SectorSize, SharedSource, counted};

use crate::app::effect::{Effect, Effects, change, job, show, tell};
use crate::popup::Ask;
use crate::stage::narrowed::{Column, Narrowed};
use crate::stage::{Drive, ladder, mend, plan};

/// What is typed to have another table than a sound one.
const OTHER_TABLE: &str = "another table";

/// The state of the Sweep.
pub(crate) struct State {
    pub(crate) finds: Vec<Find>,
    pub(crate) swept: Swept,
    /// Volumes that were inferred and are not among the finds: they are too many.
    pub(crate) untold: usize,
    /// Where files may begin, on all ground that was looked at sector by sector.
    pub(crate) starts: Arc<Starts>,
    /// The ground of which every sector was looked at.
    pub(crate) looked_at: Vec<ByteRange>,
    reach: Reach,
    pub(crate) progress: Option<SweepProgress>,
    pub(crate) bad: Vec<ByteRange>,
    pub(crate) job: Option<Job<SweepProgress, Sweep>>,
    /// What the technician holds, drops and sets.
    pub(crate) choices: Choices,
    /// Selected find.
    pub(crate) selected: usize,
    /// Which finds are listed, and in which order.
    pub(super) list: Narrowed,
    /// The finds that are compared, by their ids.
    pub(crate) comparing: Option<(String, String)>,
    /// Their roots, as far as they are read.
    pub(crate) looks: Vec<RootLook>,
    pub(crate) looks_job: Option<Job<(), Option<Vec<RootLook>>>>,
}

impl State {
    pub(in crate::stage) fn of(_source: &SharedSource) -> Self {
        Self {
            finds: Vec::new(),
            swept: Swept::No,
            untold: 0,
            starts: Arc::default(),
            looked_at: Vec::new(),
            reach: Reach::Landmarks,
            progress: None,
            bad: Vec::new(),
            job: None,
            choices: Choices::default(),
            selected: 0,
            list: Narrowed::default(),
            comparing: None,
            looks: Vec::new(),
            looks_job: None,
        }
    }

    /// The two finds that are compared.
    pub(super) fn compared(&self) -> Option<(&Find, &Find)> {
        let (one, other) = self.comparing.as_ref()?;
        let find = |id: &str| self.finds.iter().find(|find| find.id == id);
        Some((find(one)?, find(other)?))
    }

    /// New finds may have other numbers: selection and choices stay on the same ground.
    fn take_finds(&mut self, finds: Vec<Find>) {
        let selected = self.finds.get(self.selected).map(|find| find.start_byte);
        let rename = |ids: &BTreeSet<String>| -> BTreeSet<String> {
            let starts = self.finds.iter().filter(|find| ids.contains(&find.id)).map(|find| find.start_byte);
            starts.filter_map(|start| finds.iter().find(|find| find.start_byte == start).map(|find| find.id.clone())).collect()
        };
        let (hold, dropped) = (rename(&self.choices.hold), rename(&self.choices.drop));
        (self.choices.hold, self.choices.drop) = (hold, dropped);
        self.selected = finds.iter().position(|find| Some(find.start_byte) == selected).unwrap_or(0);
        self.finds = finds;
        self.choose_rows();
    }

    /// Chooses anew which finds are listed; the selected one stays where it can.
    pub(crate) fn choose_rows(&mut self) {
        let Self { list, finds, .. } = self;
        list.choose(finds, COLUMNS, |find| {
            let grade = find.grade.word();
            format!("{} {} {} {grade} {} {}", find.id, find.kind.word(), find.name(), find.start_lba, find.bytes)
        });
        self.selected = self.list.kept(self.selected);
    }
}

/// What the finds are ordered by.
pub(super) const COLUMNS: &[Column<Find>] = &[
    ("place", |one, other| one.start_byte.cmp(&other.start_byte)),
    ("grade", |one, other| other.score.cmp(&one.score)),
    ("kind", |one, other| one.kind.word().cmp(other.kind.word())),
    ("name", |one, other| one.name().cmp(other.name())),
    ("size", |one, other| other.bytes.cmp(&one.bytes)),
];

/// Sweeps as far as `reach` says, unless a sweep runs.
pub(crate) fn begin(reach: Reach) -> Effects {
    vec![job("sweep", move |drive| {
        if drive.sweep.job.is_some() {
            return;
        }
        drive.sweep.reach = reach;
        drive.sweep.progress = None;
        // What an earlier sweep saw of a drive that did not change is known from the start.
        let state = Some(case::drive_folder(drive.source.identity()).join("sweep.json"));
        let (source, options) = (SharedSource::clone(&drive.source), SweepOptions { reach, state });
        drive.sweep.job = Some(Job::start(move |desk| sweep::sweep(&source, &options, desk)));
        if reach != Reach::Landmarks {
            drive.sweep.swept = Swept::Stopped;
        }
    })]
}

/// Holds or drops the selected find, or lets it be.
pub(super) fn choose(drive: &mut Drive, hold: bool) -> Effects {
    let Some(id) = drive.selected_find().map(|find| find.id.clone()) else { return Vec::new() };
    let choices = &mut drive.sweep.choices;
    let (own, other) = if hold { (&mut choices.hold, &mut choices.drop) } else { (&mut choices.drop, &mut choices.hold) };
    other.remove(&id);
    if !own.remove(&id) {
        own.insert(id);
    }
    plan::stage_anew()
}

/// Changes the scheme; where a sound table of the other one stands on the drive, that is said first.
pub(super) fn change_scheme(drive: &mut Drive) -> Effects {
    let next = match drive.sweep.choices.scheme {
        None => Some(Scheme::Mbr),
        Some(Scheme::Mbr) => Some(Scheme::Gpt),
        Some(Scheme::Gpt | Scheme::Apm) => None,
    };
    let table = &drive.plan.table;
    let sound = table.scheme.filter(|scheme| table.is_sound() && next.is_some_and(|next| next != *scheme));
    let Some(sound) = sound else {
        drive.sweep.choices.scheme = next;
        return plan::stage_anew();
    };
    let count = counted(table.partitions.len(), "entry", "entries");
    let text = format!(
        "A sound {} stands on this drive, with {count}: nothing asks for another table. A new one would take its place; numbers, \
         names and what starts from it change. Type `{OTHER_TABLE}` to stage it all the same, or esc.",
        sound.word()
    );
    vec![Effect::Over(Box::new(
        Ask::new("Another table", text, "", move |_, line| {
            if line.trim() != OTHER_TABLE {
                return tell("the table stays as it is");
            }
            let mut effects = vec![change("take another scheme", move |drive| drive.sweep.choices.scheme = next)];
            effects.extend(plan::stage_anew());
            effects
        })
        .once(),
    ))]
}

/// Asks for start, length and type of the selected find's entry.
pub(super) fn ask_by_hand(drive: &mut Drive) -> Effects {
    let Some(find) = drive.selected_find().cloned() else { return tell("no find is selected") };
    let entries = drive.plan.layout.iter().flat_map(|layout| &layout.entries);
    let Some(entry) = entries.into_iter().find(|entry| entry.find.as_ref() == Some(&find.id)) else {
        return tell("the find has no entry in the layout; space holds it");
    };
    let now = format!("start {} length {} type {}", entry.first.0, entry.sectors.0, entry.type_code);
    let text = "Start and length in sectors, or in bytes with a unit (1MiB, 200 MB), and the type (0x0c, or a GUID). What speaks for it and \
                against it is said then; where there is no room it is refused. An empty line goes back to the evidence.";
    vec![Effect::Over(Box::new(Ask::new("Set the entry by hand", text, now.clone(), move |app, line| {
        let sector = app.drive.as_ref().map_or(SectorSize(512), |drive| drive.source.sector_size());
        let set = match ByHand::typed(line, sector) {
            Ok(set) => set,
            Err(wrong) => return vec![show("The entry stays as it is", wrong.to_string())],
        };
        let id = find.id.clone();
        let is_same = line.trim() == now;
        let mut effects = vec![change("set an entry by hand", move |drive| {
            let by_hand = &mut drive.sweep.choices.by_hand;
            if set.is_empty() {
                by_hand.remove(&id);
            } else if !is_same {
                by_hand.insert(id, set);
            }
        })];
        effects.extend(plan::stage_anew());
        effects
    })))]
}

/// Lists the finds in the order of the next column.
pub(super) fn order_next(drive: &mut Drive) -> Effects {
    let word = drive.sweep.list.next_column(COLUMNS);
    drive.sweep.choose_rows();
    tell(format!("finds by {word}"))
}

/// Turns the order of the finds around.
pub(super) fn reverse(drive: &mut Drive) -> Effects {
    drive.sweep.list.reverse();
    drive.sweep.choose_rows();
    Vec::new()
}

/// Gives the entry of the selected find the next type behind which systems look for its kind; behind the last one
/// comes the customary one again.
pub(super) fn change_type(drive: &mut Drive) -> Effects {
    let Some((id, kind)) = drive.selected_find().map(|find| (find.id.clone(), find.kind)) else { return Vec::new() };
    let entries = drive.plan.layout.iter().flat_map(|layout| &layout.entries);
    let entry = entries.into_iter().find(|entry| entry.find.as_ref() == Some(&id)).map(|entry| entry.type_code);
    // What was chosen a moment ago counts, staged or not.
    let chosen = drive.sweep.choices.types.get(&id).copied();
    let Some(now) = entry.and(chosen).or(entry) else { return tell("the find has no entry in the layout") };
    let choices = now.alike(kind);
    let next = choices.iter().position(|code| *code == now).and_then(|at| choices.get(at + 1));
    match next.or(choices.first().filter(|_| choices.len() > 1)) {
        Some(next) => drive.sweep.choices.types.insert(id, *next),
        None => return tell(format!("{} has one type only: {}", kind.word(), now.word())),
    };
    plan::stage_anew()
}

/// Opens the comparison of the selected find with its rival, or leaves it.
pub(super) fn compare(drive: &mut Drive) -> Effects {
    if drive.sweep.comparing.take().is_some() {
        return Vec::new();
    }
    let finds = &drive.sweep.finds;
    let pair = drive.selected_find().and_then(|find| Some((find.clone(), rival(finds, find)?.clone())));
    let Some((one, other)) = pair else { return tell("nothing else claims the ground of this find") };
    drive.sweep.comparing = Some((one.id.clone(), other.id.clone()));
    drive.sweep.looks.clear();
    vec![job("read two roots", move |drive| {
        let pair = [one, other];
        drive.sweep.looks_job =
            Some(Job::reading(&drive.source, move |source, _| pair.iter().map(|find| sweep::root_look(source, find)).collect()));
    })]
}

/// Takes what the jobs told.
pub(super) fn reports(drive: &mut Drive) -> Effects {
    let mut effects = take_sweep(drive);
    effects.extend(take_looks(drive));
    effects
}

fn take_sweep(drive: &mut Drive) -> Effects {
    let mut effects = Vec::new();
    for message in drive.sweep.job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(mut progress) => {
                if let Some(finds) = progress.finds.take() {
                    drive.sweep.take_finds(finds);
                    effects.extend(plan::stage_anew());
                }
                if let Some(starts) = progress.starts.take() {
                    drive.sweep.starts = starts;
                }
                drive.sweep.bad.clone_from(&progress.bad);
                drive.ground.merge(&progress.ground);
                drive.sweep.progress = Some(progress);
            }
            Message::Done(sweep) => effects.extend(take_end(drive, sweep)),
            Message::Died(text) => {
                drive.sweep.job = None;
                effects.push(show("The sweep died", text));
            }
        }
    }
    effects
}

fn take_end(drive: &mut Drive, sweep: Sweep) -> Effects {
    drive.ground.merge(&sweep.ground);
    let state = &mut drive.sweep;
    let mut effects = Vec::new();
    // One that was stopped at once found nothing, and says nothing against what is known.
    if !sweep.cancelled || !sweep.finds.is_empty() {
        state.take_finds(sweep.finds);
    }
    state.job = None;
    (state.bad, state.untold, state.looked_at) = (sweep.bad, sweep.untold, sweep.looked_at);
    state.starts = Arc::new(sweep.starts);
    state.swept = match (sweep.cancelled, state.reach) {
        (true, _) => Swept::Stopped,
        (false, Reach::Landmarks) => Swept::Landmarks,
        (false, _) => Swept::Done,
    };
    match sweep.not_kept {
        Some(why) => effects.extend(tell(format!("what was seen is not kept for the next sweep: {why}"))),
        None if state.swept == Swept::Stopped => effects.extend(tell("sweep stopped; s goes on from there")),
        None => {}
    }
    // Who stops the landmarks wants the drive left alone.
    if sweep.cancelled && state.reach == Reach::Landmarks {
        return effects;
    }
    // Other numbers may stand for the finds now.
    drive.mend.subject = None;
    effects.extend(plan::stage_anew());
    effects.extend([ladder::examine_drive(), plan::examine(), mend::ask_checks(), Effect::Seen]);
    effects
}

fn take_looks(drive: &mut Drive) -> Effects {
    let state = &mut drive.sweep;
    for message in state.looks_job.as_mut().map(Job::drain).unwrap_or_default() {
        let died = match message {
            Message::Progress(()) => continue,
            Message::Done(Some(looks)) => {
                state.looks = looks;
                None
            }
            Message::Done(None) => {
                state.comparing = None;
                None
            }
            Message::Died(text) => {
                state.comparing = None;
                Some(show("The comparison died", text))
            }
        };
        state.looks_job = None;
        return died.into_iter().collect();
    }
    Vec::new()
}
