//! The Mend stage's own state: the structures of one volume in all versions, and what a check of it found.

use std::collections::{BTreeMap, BTreeSet};

use keel_core::job::{Job, Message};
use keel_core::layout::Layout;
use keel_core::mend::{self, ByCheck, Checks, Report, Request, Subject, Taken, Wishes};
use keel_core::sweep::{Find, outer};
use keel_format::table::TableReading;
use keel_format::{Checked, Compute, Field, Row, Structure, Take};
use keel_source::SharedSource;

use crate::app::effect::{Effect, Effects, job, show, tell, work};
use crate::popup::Ask;
use crate::stage::{Drive, plan};

/// What a look at one volume gives.
pub(crate) struct Looked {
    /// Its structures.
    pub(crate) structures: Vec<Structure>,
    /// Every rule, or why the volume could not be checked.
    pub(crate) report: Result<Report, String>,
}

/// One row of the stage's list.
pub(crate) enum Item<'a> {
    /// A structure.
    Structure(&'a Structure),
    /// A rule of the check.
    Rule(&'a Checked),
}

/// The state of the stage.
#[derive(Default)]
pub(crate) struct State {
    /// Whose structures are looked at.
    pub(crate) subject: Option<Subject>,
    pub(crate) looked: Option<Looked>,
    pub(super) look_job: Option<Job<(), Option<Looked>>>,
    /// Selected row of the list.
    pub(crate) row: usize,
    /// Selected field, when the selection is among the fields.
    pub(crate) field: Option<usize>,
    /// Versions that the technician took.
    pub(crate) takes: BTreeMap<(Subject, String), Taken>,
    /// What is mended on request.
    pub(crate) also: BTreeSet<Request>,
    /// Repairs that follow from checks, by find.
    pub(crate) known: BTreeMap<String, ByCheck>,
    pub(super) known_job: Option<Job<(), Option<BTreeMap<String, ByCheck>>>>,
}

impl State {
    pub(in crate::stage) fn of(_source: &SharedSource) -> Self {
        Self::default()
    }

    /// True while the finds are checked.
    pub(super) fn is_asking(&self) -> bool {
        self.known_job.is_some()
    }

    /// True while the volume is looked at.
    pub(crate) fn is_looking(&self) -> bool {
        self.look_job.is_some()
    }

    /// What is known of structures and checks is of before a write; what was chosen is done.
    pub(crate) fn forget(&mut self) {
        self.subject = None;
        self.takes.clear();
        self.also.clear();
        self.known.clear();
    }

    /// Up and down: among the fields where one is selected, else among the rows.
    pub(super) fn step(&mut self, by: isize) {
        let moved = |at: usize, count: usize| at.saturating_add_signed(by).min(count.saturating_sub(1));
        let fields = self.structure().map_or(0, |structure| structure.fields.len());
        match self.field {
            Some(field) => self.field = Some(moved(field, fields)),
            None => self.row = moved(self.row, self.items().len()),
        }
    }

    /// Looks at a find: structures, and every rule.
    fn look(&mut self, source: &SharedSource, find: &Find) {
        self.subject = Some(Subject::Volume(find.id.clone()));
        self.looked = None;
        (self.row, self.field) = (0, None);
        let find = find.clone();
        self.look_job = Some(Job::reading(source, move |source, _| {
            let structures = mend::structures(source, &find, Compute::All);
            let report = match find.kind.why_closed() {
                Some(why) => Err(why.to_string()),
                None => mend::report(source, &find).map_err(|error| keel_core::chain(&error)),
            };
            Looked { structures, report }
        }));
    }

    /// Looks at the table's structures.
    fn look_at_table(&mut self, source: &SharedSource, table: TableReading, layout: Layout) {
        self.subject = Some(Subject::Table);
        self.looked = None;
        (self.row, self.field) = (0, None);
        self.look_job = Some(Job::reading(source, move |source, _| Looked {
            structures: mend::table_structures(source, &table, &layout),
            report: Err("a table has no rules of its own: the ladder tells".into()),
        }));
    }

    /// True when the volume of this find is looked at.
    pub(super) fn is_of(&self, find: &str) -> bool {
        matches!(&self.subject, Some(Subject::Volume(own)) if own == find)
    }

    /// True when what this rule found is mended on request.
    pub(super) fn asks(&self, rule: &str) -> bool {
        let Some(Subject::Volume(find)) = &self.subject else { return false };
        self.also.contains(&Request::RuleOf { find: find.clone(), rule: rule.to_string() })
    }

    /// Makes a request, or takes it back.
    fn toggle(&mut self, request: Request) {
        if !self.also.remove(&request) {
            self.also.insert(request);
        }
    }

    /// True when the table is looked at, not a volume.
    pub(crate) fn is_table(&self) -> bool {
        self.subject == Some(Subject::Table)
    }

    /// Asks every find what a check of it would mend.
    fn ask(&mut self, source: &SharedSource, finds: &[Find]) {
        let finds = finds.to_vec();
        let wishes = Wishes { also: self.also.clone(), ..Wishes::default() };
        self.known_job = Some(Job::reading(source, move |source, cancel| {
            let asked = outer(&finds).take_while(|_| !cancel.is_cancelled());
            asked.map(|find| (find.id.clone(), mend::repairs_by_check(source, find, &wishes))).collect()
        }));
    }

    /// What the technician wants beside what the evidence says.
    pub(crate) fn wishes(&self) -> Wishes {
        Wishes {
            takes: self.takes.clone(),
            also: self.also.clone(),
            checks: Checks::Known(self.known.clone()),
            ..Wishes::default()
        }
    }

    /// Takes what the jobs told; true when the plan is to be staged anew, or the text of a death.
    fn take_reports(&mut self) -> Result<bool, String> {
        let mut changed = false;
        for message in self.look_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Done(None) => {
                    // Stopped: what was not looked at is looked at when the stage is entered again.
                    (self.look_job, self.subject) = (None, None);
                }
                Message::Done(Some(looked)) => {
                    // The first thing that is not as it should be is what the technician came for.
                    let broken = looked.structures.iter().position(|structure| !structure.main.holds());
                    self.looked = Some(looked);
                    self.look_job = None;
                    self.row = broken.or_else(|| self.first_bad_rule()).unwrap_or(0);
                }
                Message::Died(text) => {
                    self.look_job = None;
                    return Err(text);
                }
                Message::Progress(()) => {}
            }
        }
        for message in self.known_job.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Done(None) => self.known_job = None,
                Message::Done(Some(known)) => {
                    changed = self.known != known;
                    self.known = known;
                    self.known_job = None;
                }
                Message::Died(text) => {
                    self.known_job = None;
                    return Err(text);
                }
                Message::Progress(()) => {}
            }
        }
        Ok(changed)
    }

    fn first_bad_rule(&self) -> Option<usize> {
        let items = self.items();
        let first =
            |wanted: &dyn Fn(&Checked) -> bool| items.iter().position(|item| matches!(item, Item::Rule(rule) if wanted(rule)));
        first(&|rule| rule.mending.is_some()).or_else(|| first(&|rule| rule.worst().is_some()))
    }

    /// The rows: structures, then rules.
    pub(crate) fn items(&self) -> Vec<Item<'_>> {
        let Some(looked) = &self.looked else { return Vec::new() };
        let rules = looked.report.iter().flat_map(|report| &report.rules);
        looked.structures.iter().map(Item::Structure).chain(rules.map(Item::Rule)).collect()
    }

    /// The structure of the selected row.
    pub(crate) fn structure(&self) -> Option<&Structure> {
        self.looked.as_ref()?.structures.get(self.row)
    }

    /// The rule of the selected row.
    pub(crate) fn rule(&self) -> Option<&Checked> {
        match self.items().into_iter().nth(self.row)? {
            Item::Rule(rule) => Some(rule),
            Item::Structure(_) => None,
        }
    }

    /// The selected field of the selected structure, in all versions.
    pub(crate) fn selected_row(&self) -> Option<Row> {
        self.structure()?.rows().into_iter().nth(self.field?)
    }

    /// The version that the plan takes for a structure: as chosen, or by the evidence.
    pub(crate) fn taken(&self, structure: &Structure) -> Option<Take> {
        let key = (self.subject.clone()?, structure.name.clone());
        self.takes.get(&key).map(|taken| taken.whole).or_else(|| structure.best())
    }

    /// Where a field is taken from, when it is taken by itself.
    pub(crate) fn field_taken(&self, structure: &Structure, field: &Field) -> Option<Take> {
        let key = (self.subject.clone()?, structure.name.clone());
        self.takes.get(&key)?.fields.iter().rev().find(|(own, _)| own == field).map(|(_, take)| *take)
    }

    /// Takes a version for the selected structure, or for the selected field of it; the same again lets it go. False
    /// where that version is not there.
    fn take(&mut self, take: Take) -> bool {
        let Some(structure) = self.structure() else { return false };
        if structure.bytes(take).is_none() {
            return false;
        }
        let (name, base) = (structure.name.clone(), structure.best().unwrap_or(Take::Main));
        let field = self.field.and_then(|field| structure.fields.get(field)).copied();
        let Some(subject) = self.subject.clone() else { return false };
        let key = (subject, name);
        match field {
            None => match self.takes.get(&key) {
                Some(taken) if taken.whole == take && taken.fields.is_empty() && taken.by_hand.is_empty() => {
                    self.takes.remove(&key);
                }
                _ => {
                    self.takes.insert(key, Taken { whole: take, fields: Vec::new(), by_hand: Vec::new() });
                }
            },
            Some(field) => {
                let taken =
                    self.takes.entry(key).or_insert_with(|| Taken { whole: base, fields: Vec::new(), by_hand: Vec::new() });
                let same = taken.fields.contains(&(field, take));
                taken.fields.retain(|(own, _)| *own != field);
                taken.by_hand.retain(|(own, _)| *own != field);
                if !same {
                    taken.fields.push((field, take));
                }
            }
        }
        true
    }

    /// The value that was set by hand for a field.
    pub(crate) fn set_by_hand(&self, structure: &Structure, field: &Field) -> Option<&[u8]> {
        let key = (self.subject.clone()?, structure.name.clone());
        self.takes.get(&key)?.by_hand.iter().find(|(own, _)| own == field).map(|(_, value)| value.as_slice())
    }

    /// Sets the selected field by hand, or lets it go; false where the value does not fit it.
    fn set(&mut self, text: &str) -> bool {
        let Some((structure, subject)) = self.structure().zip(self.subject.clone()) else { return false };
        let Some(field) = self.field.and_then(|field| structure.fields.get(field)).copied() else { return false };
        let (key, base) = ((subject, structure.name.clone()), structure.best().unwrap_or(Take::Main));
        let value = field.typed(text);
        if value.is_none() && !text.trim().is_empty() {
            return false;
        }
        let taken = self.takes.entry(key).or_insert_with(|| Taken { whole: base, fields: Vec::new(), by_hand: Vec::new() });
        taken.fields.retain(|(own, _)| *own != field);
        taken.by_hand.retain(|(own, _)| *own != field);
        taken.by_hand.extend(value.map(|value| (field, value)));
        true
    }

    /// Asks for the mending of the selected rule, or lets it go; false where it has none.
    fn ask_rule(&mut self) -> bool {
        let Some(name) = self.rule().filter(|rule| rule.mending.is_some()).map(|rule| rule.rule.to_string()) else {
            return false;
        };
        let Some(Subject::Volume(find)) = self.subject.clone() else { return false };
        self.toggle(Request::RuleOf { find, rule: name });
        true
    }
}

/// Asks for the value of the selected field.
pub(super) fn ask_by_hand(drive: &mut Drive) -> Effects {
    let Some((structure, row)) = drive.mend.structure().zip(drive.mend.selected_row()) else {
        return tell("select a field first: → goes to the fields");
    };
    let now = drive.mend.set_by_hand(structure, &row.field).map(|bytes| {
        let whole = Field { offset: 0, ..row.field };
        whole.text(bytes).unwrap_or_default()
    });
    let versions = [("main", &row.main), ("copy", &row.copy), ("computed", &row.computed)];
    let said = versions.iter().filter_map(|(word, text)| Some(format!("{word} says {}", text.as_ref()?))).collect::<Vec<_>>();
    let witness = row.witness.as_ref().map(|witness| format!(" Computed from this: {witness}.")).unwrap_or_default();
    let breaks = if row.field.breaks.is_empty() { String::new() } else { format!(" When it is wrong: {}.", row.field.breaks) };
    let text = keel_source::printable(&format!(
        "{}, {} bytes: {}.{witness}{breaks} A number (decimal, or 0x…), characters or bytes, as the field has them; empty goes back to the \
         evidence. What would not open, or would stand lower by it, is withheld.",
        row.field.name,
        row.field.len,
        said.join("; ")
    ));
    let start = now.unwrap_or_default().split(" (0x").next().unwrap_or_default().to_string();
    vec![Effect::Over(Box::new(Ask::new("Set the field by hand", text, start, |_, line| {
        let line = line.to_string();
        vec![work("set a field by hand", move |drive| match drive.mend.set(&line) {
            true => plan::stage_anew(),
            false => tell("that does not fit the field: it stays as it is"),
        })]
    })))]
}

/// Looks at the structures of the selected find, and checks it; at the table where nothing was found.
pub(super) fn look_at_selected(drive: &mut Drive) -> Effects {
    let Some(find) = drive.selected_find().cloned() else { return look_at_table() };
    vec![job("read the structures", move |drive| drive.mend.look(&drive.source, &find))]
}

/// Looks at the table's structures.
fn look_at_table() -> Effects {
    vec![job("read the table's structures", |drive| {
        let Some(layout) = drive.plan.layout.clone() else { return };
        drive.mend.look_at_table(&drive.source, drive.plan.table.clone(), layout);
    })]
}

/// Asks what a check of each find would mend.
pub(crate) fn ask_checks() -> Effect {
    job("check the volumes", |drive| drive.mend.ask(&drive.source, &drive.sweep.finds))
}

/// Goes to the next volume; behind the last one comes the table, and then the first one again.
pub(super) fn next_volume(drive: &mut Drive) -> Effects {
    let from = if drive.mend.is_table() { 0 } else { drive.sweep.selected + 1 };
    let outer = |index: &usize| drive.sweep.finds.get(*index).is_some_and(Find::is_outer);
    match (from..drive.sweep.finds.len()).find(outer) {
        Some(next) => {
            drive.sweep.selected = next;
            look_at_selected(drive)
        }
        None => look_at_table(),
    }
}

/// Takes a version of what is selected.
pub(super) fn take(drive: &mut Drive, take: Take) -> Effects {
    if drive.mend.take(take) { plan::stage_anew() } else { tell(format!("there is no such version here: {}", take.word())) }
}

/// Mends what the selected rule found, or lets it be.
pub(super) fn mend_rule(drive: &mut Drive) -> Effects {
    if drive.mend.ask_rule() { vec![ask_checks()] } else { tell("this rule has nothing that could be mended") }
}

/// Erases what is left of former structures, or lets it be.
pub(super) fn erase_leftovers(drive: &mut Drive) -> Effects {
    drive.mend.toggle(Request::Leftovers);
    plan::stage_anew()
}

/// Takes what the jobs told.
pub(super) fn reports(drive: &mut Drive) -> Effects {
    match drive.mend.take_reports() {
        Ok(false) => Vec::new(),
        Ok(true) => plan::stage_anew(),
        Err(text) => vec![show("The check died", text)],
    }
}
