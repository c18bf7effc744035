//! Title and course: whose drive this is, and the stages as a route.

use keel_core::advice::{Advice, advise};
use keel_source::size_decimal;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::{Parts, columns, put};
use crate::app::App;
use crate::stage::{Drive, StageId, Standing};

/// Columns of one stage on the course: its word and the way to the next.
fn step(width: u16) -> u16 {
    match width {
        130.. => 12,
        100.. => 11,
        _ => 10,
    }
}

/// Columns before the first stage.
fn margin(width: u16) -> u16 {
    if width >= 100 { 1 } else { 0 }
}

/// The step to recommend, and why: what runs, else what the core advises, with the keys that lead there.
pub(crate) fn recommended(app: &App) -> (StageId, String) {
    let Some(drive) = &app.drive else { return (StageId::Yard, "choose a drive and open it: enter".into()) };
    let Some(known) = drive.known() else { return (StageId::Ladder, unasked(drive).into()) };
    if drive.copy.job.is_some() {
        return (StageId::Copy, "the copy is running".into());
    }
    if drive.fathom.is_busy() {
        return (StageId::Fathom, "the capacity is being measured".into());
    }
    let advice = advise(&known);
    let (stage, keys) = StageId::carrying_out(advice);
    // What follows from a sweep is said when it is over.
    let waits = matches!(stage, StageId::Sweep | StageId::Files) || advice == Advice::ReadPlan;
    if drive.sweep.job.is_some() && waits && advice != Advice::Prove {
        return (StageId::Sweep, "the sweep is running".into());
    }
    if drive.plan.is_settling() && waits && advice != Advice::Prove {
        return (StageId::Plan, "what was found is being laid out".into());
    }
    let number = StageId::ALL.iter().position(|id| *id == stage).map_or(0, |at| at + 1);
    let keys = if keys.is_empty() { String::new() } else { format!(": {number}, then {keys}") };
    (stage, format!("{}{keys}", advice.says()))
}

/// What is said of a drive without a ladder.
pub(crate) fn unasked(drive: &Drive) -> &'static str {
    if drive.is_busy() { "the drive is being asked" } else { "the asking was stopped: 5, then s" }
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
            let coverage = drive.ladder.now.as_ref().filter(|ladder| ladder.coverage.bytes > 0);
            let coverage = coverage.map(|ladder| format!("  coverage {} %", ladder.coverage.percent())).unwrap_or_default();
            let facts = format!("{serial}{}  {sectors}  {}{coverage}", size_decimal(identity.bytes), identity.link.word());
            (identity.name.clone(), facts)
        }
        None => {
            let count = app.berths.iter().filter(|berth| berth.device.is_none()).count();
            (format!("{count} {} on the bench", if count == 1 { "drive" } else { "drives" }), String::new())
        }
    };
    put(buf, title, 14, 0, &name, theme.text());
    let (words, style) = match &app.drive {
        Some(drive) if drive.plan.writing.is_some() => ("APPLYING".to_string(), theme.bad()),
        Some(drive) if drive.fathom.is_busy() => ("MEASURING, WRITES".to_string(), theme.bad()),
        Some(drive) if drive.plan.applied && drive.plan.edits.is_empty() => ("WRITTEN, UNDO AT HAND".to_string(), theme.staged()),
        Some(drive) if !drive.plan.edits.is_empty() => (format!("READ ONLY  {} STAGED", drive.plan.edits.len()), theme.staged()),
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
    let mut x = margin(area.width);
    // On a narrow terminal the mark follows its word at once.
    let gap = u16::from(area.width >= 100);
    for (index, stage) in StageId::ALL.iter().enumerate() {
        let here = *stage == app.stage;
        let style = match (here, *stage == next) {
            (true, _) => theme.selected().patch(theme.strong()),
            (false, true) => theme.accent(),
            (false, false) => theme.text(),
        };
        let word = format!("{} {}", index + 1, stage.stage().word());
        put(buf, area, x, 0, &word, style);
        let mark = match app.drive.as_ref().map_or(Standing::Open, |drive| stage.stage().standing(drive)) {
            Standing::Done => "●",
            Standing::Doubt => "◐",
            Standing::Open => "○",
        };
        let after = u16::try_from(columns(&word)).unwrap_or(0) + gap;
        put(buf, area, x + after, 0, mark, theme.text());
        if index + 1 < StageId::ALL.len() && gap > 0 {
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
pub(crate) fn stage_at(area: Rect, column: u16) -> Option<StageId> {
    let index = column.checked_sub(area.x + margin(area.width))? / step(area.width);
    StageId::ALL.get(usize::from(index)).copied()
}
