//! Title and course: whose drive this is, and the stages as a route.

use keel_core::advice::{Advice, Known, Swept, advise};
use keel_core::ladder::{Ground, Ladder};
use keel_source::size_decimal;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::{Parts, columns, put};
use crate::app::App;
use crate::app::drive::Drive;
use crate::keymap::Stage;

/// Columns of one stage on the course: its word and the way to the next.
fn step(width: u16) -> u16 {
    if width >= 130 { 12 } else { 11 }
}

/// How a stage stands.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Standing {
    Done,
    Doubt,
    Open,
}

fn standing(drive: &Drive, stage: Stage) -> Standing {
    match stage {
        Stage::Yard => Standing::Done,
        Stage::Ladder => match &drive.ladder {
            None => Standing::Open,
            Some(ladder) if ladder.lowest_broken.is_some() => Standing::Doubt,
            Some(_) => Standing::Done,
        },
        Stage::Copy => match (&drive.copy.done, drive.source.missing().is_empty()) {
            (_, false) => Standing::Doubt,
            (Some(done), _) if done.copied_bytes == done.bytes => Standing::Done,
            (Some(_), _) => Standing::Doubt,
            (None, _) => Standing::Open,
        },
        Stage::Fathom => match &drive.fathom.verdict {
            None => Standing::Open,
            Some(verdict) if verdict.nature == keel_core::fathom::Nature::Honest => Standing::Done,
            Some(_) => Standing::Doubt,
        },
        Stage::Sweep => match drive.swept {
            Swept::No => Standing::Open,
            Swept::Landmarks | Swept::Stopped => Standing::Doubt,
            Swept::Done => Standing::Done,
        },
        Stage::Mend => match (drive.mend.find.is_some(), drive.withheld.is_empty()) {
            (_, false) => Standing::Doubt,
            (true, true) => Standing::Done,
            (false, true) => Standing::Open,
        },
        Stage::Files => {
            if drive.files.volume.is_some() {
                Standing::Done
            } else {
                Standing::Open
            }
        }
        Stage::Plan => match (drive.applied, drive.edits.is_empty()) {
            (true, _) => Standing::Done,
            (false, true) => Standing::Open,
            (false, false) => Standing::Doubt,
        },
    }
}

/// The step to recommend, and why: what runs, else what the core advises, with the keys that lead there.
pub(crate) fn recommended(app: &App) -> (Stage, String) {
    let Some(drive) = &app.drive else { return (Stage::Yard, "choose a drive and open it: enter".into()) };
    let Some(ladder) = &drive.ladder else { return (Stage::Ladder, "the drive is being asked".into()) };
    if drive.copy.job.is_some() {
        return (Stage::Copy, "the copy is running".into());
    }
    if drive.fathom.is_busy() {
        return (Stage::Fathom, "the capacity is being measured".into());
    }
    let advice = advise(&known(app, drive, ladder));
    let (stage, keys) = keys(advice);
    // What follows from a sweep is said when it is over.
    let waits = matches!(stage, Stage::Sweep | Stage::Files) || advice == Advice::ReadPlan;
    if drive.sweep_job.is_some() && waits && advice != Advice::Prove {
        return (Stage::Sweep, "the sweep is running".into());
    }
    (stage, format!("{}{keys}", advice.says()))
}

/// What the core is told of the drive.
fn known<'a>(app: &'a App, drive: &'a Drive, ladder: &'a Ladder) -> Known<'a> {
    Known {
        ladder,
        planned: drive.after.as_ref(),
        finds: &drive.finds,
        swept: drive.swept,
        edits: drive.edits.len(),
        applied: drive.applied,
        is_copy: !drive.source.missing().is_empty(),
        copied: drive.copy.done.as_ref().is_some_and(|done| done.stopped.is_none())
            || app.case.as_ref().is_some_and(|case| case.record.copy.is_some()),
        counts_bad: drive.ground.as_ref().is_some_and(Ground::counts_bad),
        probe_open: keel_core::fathom::interrupted(drive.source.identity()).is_some(),
    }
}

/// The stage of an advice, and the keys that lead there.
fn keys(advice: Advice) -> (Stage, &'static str) {
    match advice {
        Advice::CheckOutside | Advice::CheckCable => (Stage::Yard, ": 1, then c"),
        Advice::CopyFirst { .. } => (Stage::Copy, ": 3, then s"),
        Advice::WorkOnCopy => (Stage::Copy, ": 3, then w"),
        Advice::PutBack => (Stage::Fathom, ": 4, then u"),
        Advice::GoOnSweeping | Advice::SweepOpen(_) | Advice::Sweep => (Stage::Sweep, ": 5, then s"),
        Advice::Settle => (Stage::Sweep, ""),
        Advice::Apply | Advice::ReadPlan => (Stage::Plan, ""),
        Advice::Look | Advice::Prove | Advice::TakeOut => (Stage::Files, ""),
    }
}

/// Draws title and course.
pub(crate) fn draw(app: &App, parts: &Parts, buf: &mut Buffer) {
    let theme = app.theme;
    let title = parts.title;
    put(buf, title, 1, 0, "YELLOW KEEL", theme.strong());
    let (name, facts) = match &app.drive {
        Some(drive) => {
            let identity = drive.source.identity();
            let serial = identity.serial.as_deref().map(|serial| format!("{serial}  ")).unwrap_or_default();
            let sectors = format!("{}/{} B", identity.logical_sector.0, identity.physical_sector.0);
            let coverage = drive.ladder.as_ref().filter(|ladder| ladder.coverage.bytes > 0);
            let coverage = coverage.map(|ladder| format!("  coverage {} %", ladder.coverage.percent())).unwrap_or_default();
            let facts = format!("{serial}{}  {sectors}  {}{coverage}", size_decimal(identity.bytes), identity.link.word());
            (identity.name.clone(), facts)
        }
        None => (format!("{} drives on the bench", app.berths.len()), String::new()),
    };
    put(buf, title, 14, 0, &name, theme.text());
    let (words, style) = match &app.drive {
        Some(drive) if drive.writing.is_some() => ("APPLYING".to_string(), theme.bad()),
        Some(drive) if drive.fathom.is_busy() => ("MEASURING, WRITES".to_string(), theme.bad()),
        Some(drive) if !drive.edits.is_empty() => (format!("READ ONLY  {} STAGED", drive.edits.len()), theme.staged()),
        _ => ("READ ONLY".to_string(), theme.good()),
    };
    let width = u16::try_from(columns(&words)).unwrap_or(0);
    // The write state is never written over.
    let room = Rect { width: title.width.saturating_sub(width + 2), ..title };
    put(
        buf,
        room,
        u16::try_from(columns(&name) + 18).unwrap_or(60).max(if title.width >= 130 { 56 } else { 32 }),
        0,
        &facts,
        theme.dim(),
    );
    put(buf, title, title.width.saturating_sub(width + 1), 0, &words, style);
    draw_course(app, parts.course, buf);
}

fn draw_course(app: &App, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let (next, advice) = recommended(app);
    let mut x = 1;
    for (index, stage) in Stage::ALL.iter().enumerate() {
        let here = *stage == app.stage;
        let style = match (here, *stage == next) {
            (true, _) => theme.selected().patch(theme.strong()),
            (false, true) => theme.accent(),
            (false, false) => theme.text(),
        };
        let word = format!("{} {}", index + 1, stage.word());
        put(buf, area, x, 0, &word, style);
        let mark = match app.drive.as_ref().map_or(Standing::Open, |drive| standing(drive, *stage)) {
            Standing::Done => "●",
            Standing::Doubt => "◐",
            Standing::Open => "○",
        };
        let after = u16::try_from(columns(&word)).unwrap_or(0) + 1;
        put(buf, area, x + after, 0, mark, theme.text());
        if index + 1 < Stage::ALL.len() {
            let way = "─".repeat(usize::from(step(area.width).saturating_sub(after + 3)));
            put(buf, area, x + after + 2, 0, &way, theme.line());
        }
        x += step(area.width);
    }
    let advice = format!("next: {advice}");
    let width = u16::try_from(columns(&advice)).unwrap_or(0);
    // Half a sentence says nothing: on a narrow terminal the mark on the course has to do.
    if area.width >= x + width.min(40) {
        put(buf, area, area.width.saturating_sub(width + 1).max(x), 0, &advice, theme.accent());
    }
}

/// The stage at a column of the course.
pub(crate) fn stage_at(area: Rect, column: u16) -> Option<Stage> {
    let index = column.checked_sub(area.x + 1)? / step(area.width);
    Stage::ALL.get(usize::from(index)).copied()
}
