//! The draft in work.

use std::sync::Arc;

use keel_core::CoreError;
use keel_core::job::Job;
use keel_core::ladder::Ladder;
use keel_core::mend::Edit;
use keel_core::renew::which::Reader;
use keel_core::renew::{Content, Draft, Fitted, Gate, Made, Step};
use keel_core::wipe::{WipeProgress, Wiped};
use keel_format::table::TableReading;
use keel_source::{ByteOffset, ByteRange, Lba, SharedSource};

/// A step as it was asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Asked {
    /// As it was typed, for whoever changes it.
    pub(crate) text: String,
    pub(crate) step: Step,
}

/// What a draft comes to.
pub(crate) struct Drafted {
    pub(super) draft: Draft,
    /// Steps that could be taken.
    pub(super) asked: Vec<Asked>,
    /// Why another one could not.
    pub(super) refused: Option<String>,
    /// What it makes of the drive; none where nothing is asked for, with the reason where it cannot be staged.
    pub(super) staged: Option<Result<Change, String>>,
}

/// A draft as edits.
#[derive(Clone)]
pub(crate) struct Change {
    pub(super) edits: Arc<[Edit]>,
    pub(super) made: Vec<Made>,
    pub(super) fitted: Vec<Fitted>,
    pub(super) planned: TableReading,
    pub(super) gate: Gate,
    pub(super) now: Ladder,
}

/// What was seen in the drive as it would be.
pub(crate) struct Seen {
    pub(super) after: Ladder,
    pub(super) against: Vec<String>,
}

/// A draft that is handed to the plan.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Renewal {
    /// What stands against it.
    pub(crate) against: Vec<String>,
    /// The words that it wants.
    pub(crate) words: Option<&'static str>,
}

/// A row of the stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Row {
    /// The table.
    Table,
    /// An entry of the draft, by its place in it.
    Entry(usize),
    /// Free ground: first sector and the one behind the last.
    Free(u64, u64),
    /// Signatures of what is not kept.
    Leftovers,
    /// The usual ways.
    Recipe,
    /// Whom it serves.
    Serves,
    /// Ground that is overwritten.
    Wipe,
}

/// The state of the Renew stage.
pub(crate) struct State {
    /// What is asked for, in its order.
    pub(crate) asked: Vec<Asked>,
    /// True where signatures of what is not kept are cleared.
    pub(crate) clears: bool,
    /// The draft as it came of that.
    pub(crate) draft: Option<Draft>,
    pub(super) change: Option<Result<Change, String>>,
    pub(super) seen: Option<Seen>,
    /// Why the last step could not be taken.
    pub(super) refused: Option<String>,
    pub(crate) drafting: Option<Job<(), Option<Drafted>>>,
    pub(crate) proving: Option<Job<(), Option<Seen>>>,
    /// True where the plan is gone to as soon as the draft was looked into.
    pub(super) goes_on: bool,
    pub(crate) selected: usize,
    /// Who is to use it.
    pub(super) readers: Vec<Reader>,
    pub(crate) wiping: Option<Job<WipeProgress, Result<Wiped, CoreError>>>,
    pub(crate) wipe_progress: Option<WipeProgress>,
    pub(crate) wiped: Option<Wiped>,
}

impl State {
    pub(in crate::stage) fn of(_source: &SharedSource) -> Self {
        Self {
            asked: Vec::new(),
            clears: false,
            draft: None,
            change: None,
            seen: None,
            refused: None,
            drafting: None,
            proving: None,
            goes_on: false,
            selected: 0,
            readers: vec![Reader::Windows, Reader::Macos, Reader::Linux],
            wiping: None,
            wipe_progress: None,
            wiped: None,
        }
    }

    /// True where the draft asks for anything.
    pub(crate) fn is_asked(&self) -> bool {
        !self.asked.is_empty() || self.clears
    }

    /// The change, where it can be staged.
    pub(super) fn change(&self) -> Option<&Change> {
        self.change.as_ref()?.as_ref().ok()
    }

    /// The rows, from the first sector to the last, and what can be done beside.
    pub(crate) fn rows(&self) -> Vec<Row> {
        let mut rows = vec![Row::Table];
        if let Some(draft) = &self.draft {
            let entries = draft.entries.iter().enumerate().map(|(index, entry)| (entry.ground().start, Row::Entry(index)));
            let free = draft.free().into_iter().filter(|free| free.end - free.start >= draft.align);
            // A drive without a table is free as a whole, or taken as a whole.
            let is_open = draft.scheme.is_some() || (draft.is_fresh && draft.entries.is_empty());
            let free = free.filter(|_| is_open).map(|free| (free.start, Row::Free(free.start, free.end)));
            let mut ground: Vec<(u64, Row)> = entries.chain(free).collect();
            ground.sort_by_key(|(at, _)| *at);
            rows.extend(ground.into_iter().map(|(_, row)| row));
        }
        rows.extend([Row::Leftovers, Row::Recipe, Row::Serves, Row::Wipe]);
        rows
    }

    pub(super) fn row(&self) -> Row {
        self.rows().get(self.selected).copied().unwrap_or(Row::Table)
    }

    /// The ground of the selected row.
    pub(crate) fn selected_ground(&self) -> Option<ByteRange> {
        let draft = self.draft.as_ref()?;
        match self.row() {
            Row::Entry(index) => draft.entries.get(index).map(|entry| entry.range(draft.sector)),
            Row::Free(from, to) => Some(ByteRange::new(Lba(from).offset(draft.sector), Lba(to).offset(draft.sector))),
            _ => None,
        }
    }

    /// What is taken hold of at row `from` of the keel, and the ground that it comes to where the mouse is at row `to`: an entry
    /// with its end there, as far as free ground reaches, or a stretch of free ground.
    pub(crate) fn held(&self, from: ByteRange, to: ByteRange) -> Option<(Row, ByteRange)> {
        let draft = self.draft.as_ref()?;
        let bytes = |sectors: u64| Lba(sectors).offset(draft.sector);
        let grid = draft.align.max(1) * draft.sector.bytes();
        let ground = |row: Row| match row {
            Row::Entry(index) => draft.entries.get(index).map(|entry| entry.range(draft.sector)),
            Row::Free(first, end) => Some(ByteRange::new(bytes(first), bytes(end))),
            _ => None,
        };
        let under = |row: Row| ground(row)?.overlap(from).map(|both| (row, both.len()));
        // Of several in one row of the keel the selected one is meant, then the longest.
        let row = under(self.row()).or_else(|| self.rows().into_iter().filter_map(under).max_by_key(|(_, bytes)| *bytes))?.0;
        let own = ground(row)?;
        if from == to {
            return Some((row, own));
        }
        let down = |at: u64| at / grid * grid;
        let range = match row {
            Row::Entry(_) => {
                let behind = draft.free().into_iter().map(|free| ByteRange::new(bytes(free.start), bytes(free.end)));
                let mut behind = behind.filter(|free| free.start >= own.end && free.start - own.end < grid);
                let most = behind.next().map_or(own.end.0, |free| free.end.0);
                let least = own.start.0.saturating_add(grid).min(most);
                ByteRange::new(own.start, ByteOffset(down(to.end.0).clamp(least, most)))
            }
            _ => {
                let (first, last) = (from.start.min(to.start).max(own.start), from.end.max(to.end).min(own.end));
                let first = ByteOffset(first.0.next_multiple_of(grid).min(last.0));
                let last = ByteOffset(if last == own.end { last.0 } else { down(last.0).max(first.0) });
                ByteRange::new(first, last)
            }
        };
        Some((row, range))
    }

    /// The asked step that made entry `index`, where it is new.
    pub(super) fn asked_for(&self, index: usize) -> Option<usize> {
        let draft = self.draft.as_ref()?;
        let entry = draft.entries.get(index).filter(|entry| entry.number.is_none())?;
        let Content::New(wish) = &entry.content else { return None };
        // Of several that are alike the one in the same place among them.
        let alike = |other: &keel_core::renew::Drafted| other.number.is_none() && other.content == entry.content;
        let before = draft.entries.iter().take(index).filter(|other| alike(other)).count();
        let mut same = self.asked.iter().enumerate().filter(|(_, asked)| matches!(&asked.step, Step::Add(own) if own == wish));
        same.nth(before).map(|(at, _)| at)
    }
}
