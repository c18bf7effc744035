//! What is known of a drive when something is handed over: asked once, told in any of the ways.

use std::sync::Arc;

use keel_core::CoreError;
use keel_core::account::{Account, From};
use keel_core::advice::{self, Staging, Swept};
use keel_core::case::{self, JournalLine};
use keel_core::copy;
use keel_core::ladder::{self, Ground, Ladder};
use keel_core::layout::{self, Choices};
use keel_core::mend::{self, Edit};
use keel_core::reads::{self, Survey};
use keel_core::sweep::{Sweep, outer};
use keel_format::table::{self, TableReading};
use keel_source::{ByteRange, CopyMap, SharedSource, counted};

use super::{Asked, HandoverError, head};
use crate::{Head, KeelDrawing, Lane, Report};

/// What is known.
pub(super) struct Facts<'a> {
    pub(super) asked: &'a Asked<'a>,
    pub(super) head: Head,
    pub(super) swept: Sweep,
    pub(super) ground: Ground,
    /// The rungs as the drive stands.
    pub(super) ladder: Ladder,
    /// The edits that the evidence asks for.
    pub(super) edits: Vec<Edit>,
    /// The rungs by them, where there are any.
    pub(super) planned: Option<Ladder>,
    /// The next step, as half a sentence.
    pub(super) next: String,
    /// How the drive delivers.
    pub(super) survey: Option<Survey>,
    /// What is in its copy.
    pub(super) map: Option<CopyMap>,
    /// The journal, and whether it is whole.
    pub(super) journal: Option<(Vec<JournalLine>, String)>,
}

impl<'a> Facts<'a> {
    pub(super) fn ask(asked: &'a Asked<'a>) -> Result<Self, HandoverError> {
        let (source, swept) = (asked.source, asked.swept()?);
        let ground = Ground::ask(source, asked.cancel, &mut |_| {});
        let ladder = ladder::examine_on(&ground, source, &swept, asked.cancel);
        let edits = staged(source, &swept);
        let view: SharedSource = Arc::new(mend::overlay(source, &edits));
        let planned = (!edits.is_empty()).then(|| ladder::examine_on(&ground, &view, &swept, asked.cancel));
        let plan = Staging { edits: edits.len(), planned: planned.as_ref(), applied: false };
        let next = advice::next(source, &ground, &ladder, &swept.finds, Swept::Done, plan).says();
        // A survey that was asked for says more than the ladder's samples.
        let survey = reads::known(source).or_else(|| ground.survey.clone());
        let facts = Self {
            asked,
            head: head(source),
            swept,
            ground,
            ladder,
            edits,
            planned,
            next,
            survey,
            map: copy_of(asked),
            journal: journal(asked)?,
        };
        asked.goes_on().map(|()| facts)
    }

    /// What there is to tell of its files and of what was done.
    pub(super) fn account(&self) -> Result<Account, HandoverError> {
        let account = Account::of(From {
            source: self.asked.source,
            swept: &self.swept,
            ground: &self.ground,
            ladder: &self.ladder,
            journal: self.journal.as_ref().map_or(&[], |(lines, _)| lines.as_slice()),
            cancel: self.asked.cancel,
        });
        self.asked.goes_on().map(|()| account)
    }

    /// The evidence of it.
    pub(super) fn report(&self) -> Report<'_> {
        Report {
            head: self.head.clone(),
            ladder: &self.ladder,
            next: self.next.clone(),
            keel: keel_of(self.asked.source, &self.swept, &self.edits),
            case: self.asked.case.map(|case| &case.record).zip(self.journal.as_ref().map(|(lines, _)| lines.clone())),
            journal_says: self.journal.as_ref().map(|(_, says)| says.clone()),
            survey: self.survey.as_ref(),
            health: self.ground.health.as_ref(),
            capacity: self.ground.capacity.as_ref(),
            copy: self.map.as_ref(),
        }
    }

    /// The keel as it came, as what was found, and as it stands or will.
    pub(super) fn keel(&self, account: &Account) -> KeelDrawing {
        let (source, phrases) = (self.asked.source, self.asked.phrases);
        let lane = |name: &str, blocks: Vec<(ByteRange, String)>| Lane { name: phrases.get(name).into(), blocks };
        // Clients know their volumes by name, not by a type in a table.
        let entries = |table: &TableReading| -> Vec<(ByteRange, String)> {
            let finds = &self.swept.finds;
            let named = |(range, code): (ByteRange, String)| {
                let find = outer(finds).find(|find| find.start_byte == range.start);
                (range, find.map_or(code, |find| format!("{} {}", find.kind.word(), find.name())))
            };
            entries(source, table).into_iter().map(named).collect()
        };
        let now = entries(&self.swept.table);
        let lanes = match &account.before {
            Some(before) => {
                vec![lane("lane_before", entries(&before.table)), lane("lane_found", found(&self.swept)), lane("lane_after", now)]
            }
            None => vec![lane("lane_after", now), lane("lane_found", found(&self.swept))],
        };
        let mut drawing = KeelDrawing { lanes, ..keel_of(source, &self.swept, &[]) };
        if !self.edits.is_empty() {
            let view: SharedSource = Arc::new(mend::overlay(source, &self.edits));
            drawing.lanes.push(lane("lane_planned", entries(&table::read(view.as_ref()))));
        }
        drawing
    }
}

/// The journal of the case, and whether it is whole, in words.
fn journal(asked: &Asked<'_>) -> Result<Option<(Vec<JournalLine>, String)>, CoreError> {
    let Some(case) = asked.case else { return Ok(None) };
    let verified = case::verify(&case.folder, &case.record.journal)?;
    let says = match verified.problem {
        None => {
            format!("The journal is whole: {}, each with the hash of the one before.", counted(verified.lines, "line", "lines"))
        }
        Some(problem) => format!("The journal is not whole: {problem}."),
    };
    Ok(Some((case::lines(&case.folder)?, says)))
}

/// The edits that the evidence asks for.
pub(super) fn staged(source: &SharedSource, swept: &Sweep) -> Vec<Edit> {
    let layout = layout::settle(source, &swept.table, &swept.finds, &Choices::default());
    mend::stage(source, &swept.table, &swept.finds, &layout, &mend::Only::All.into()).edits
}

/// The map of the copy: of the one that the case names, or of the source where it is a copy itself.
pub(super) fn copy_of(asked: &Asked<'_>) -> Option<CopyMap> {
    let named = asked.case.and_then(|case| case.record.copy.as_deref()).and_then(copy::known);
    named.or_else(|| asked.source.identity().path.as_deref().and_then(copy::known))
}

fn entries(source: &SharedSource, table: &TableReading) -> Vec<(ByteRange, String)> {
    table.partitions.iter().map(|entry| (entry.range(source.sector_size()), entry.type_code.to_string())).collect()
}

fn found(swept: &Sweep) -> Vec<(ByteRange, String)> {
    outer(&swept.finds).map(|find| (find.range(), format!("{} {}", find.kind.word(), find.name()))).collect()
}

/// The keel as the stages name it: now, found, plan.
pub(super) fn keel_of(source: &SharedSource, swept: &Sweep, edits: &[Edit]) -> KeelDrawing {
    let view: SharedSource = Arc::new(mend::overlay(source, edits));
    let lane = |name: &str, blocks| Lane { name: name.into(), blocks };
    KeelDrawing {
        bytes: source.identity().bytes.max(source.len()),
        stored: (source.len() < source.identity().bytes).then_some(source.len()),
        lanes: vec![
            lane("now", entries(source, &swept.table)),
            lane("found", found(swept)),
            lane("plan", entries(source, &table::read(view.as_ref()))),
        ],
        bad: swept.bad.iter().chain(source.missing()).copied().collect(),
    }
}
