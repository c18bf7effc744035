//! Title and course: whose drive this is, and the stages as a route.

use keel_core::ladder::{Ladder, RungName, RungState};
use keel_source::size_decimal;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::{Parts, columns, put};
use crate::app::App;
use crate::app::drive::{Drive, Swept};
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

/// The step to recommend, and why.
pub(crate) fn recommended(app: &App) -> (Stage, String) {
    let Some(drive) = &app.drive else { return (Stage::Yard, "choose a drive and open it: enter".into()) };
    let Some(ladder) = &drive.ladder else { return (Stage::Ladder, "the drive is being asked".into()) };
    if let Some(step) = recommended_for_drive(app, drive, ladder) {
        return step;
    }
    let weak = keel_core::sweep::outer(&drive.finds).any(|find| find.grade < keel_core::sweep::Grade::Strong);
    let broken = ladder.lowest_broken.is_some();
    let entries_broken = ladder
        .volumes
        .iter()
        .any(|volume| volume.kind.is_none() && volume.rungs.iter().any(|rung| rung.state == RungState::Broken));
    if let Some(step) = recommended_for_ground(drive, ladder) {
        return step;
    }
    match drive.swept {
        _ if !drive.edits.is_empty() && drive.after.as_ref().is_some_and(|after| after.lowest_broken.is_none()) => {
            (Stage::Plan, "the plan mends every broken rung: read it, then apply".into())
        }
        _ if drive.applied => (Stage::Files, "take files out and prove them".into()),
        Swept::Stopped if drive.sweep_job.is_none() => (Stage::Sweep, "go on with the sweep: s".into()),
        Swept::No | Swept::Landmarks if broken && drive.sweep_job.is_none() => {
            (Stage::Sweep, "sweep: s, landmarks and what they leave in doubt".into())
        }
        _ if drive.sweep_job.is_some() => (Stage::Sweep, "the sweep is running".into()),
        _ if !broken => (Stage::Files, "no rung is broken; look into the files".into()),
        _ if weak || entries_broken => (Stage::Sweep, "settle the layout: hold or drop finds".into()),
        _ if !drive.edits.is_empty() => (Stage::Plan, "read the plan, then apply".into()),
        _ => (Stage::Files, "nothing can be mended here yet; take the files out".into()),
    }
}

/// Ground that nothing explains is swept before a plan is called whole or a ladder sound.
fn recommended_for_ground(drive: &Drive, ladder: &Ladder) -> Option<(Stage, String)> {
    if ladder.coverage.is_whole() || drive.sweep_job.is_some() {
        return None;
    }
    let open = size_decimal(ladder.coverage.unexplained_bytes());
    let advice = match drive.swept {
        Swept::Stopped => "go on with the sweep: 5, then s".to_string(),
        _ => format!("sweep the {open} that nothing explains: 5, then s"),
    };
    Some((Stage::Sweep, advice))
}

/// What comes before everything else: a link that does not hold, a drive that fails, one that lies.
fn recommended_for_drive(app: &App, drive: &Drive, ladder: &Ladder) -> Option<(Stage, String)> {
    if drive.copy.job.is_some() {
        return Some((Stage::Copy, "the copy is running".into()));
    }
    if drive.fathom.is_busy() {
        return Some((Stage::Fathom, "the capacity is being measured".into()));
    }
    let broken = |name| ladder.rung(name).is_some_and(|rung| rung.state == RungState::Broken);
    let copied = drive.copy.done.as_ref().is_some_and(|done| done.stopped.is_none())
        || app.case.as_ref().is_some_and(|case| case.record.copy.is_some());
    if drive.source.is_empty() {
        return Some((Stage::Yard, "check outside the computer: 1, then c".into()));
    }
    if drive.source.missing().is_empty() && (broken(RungName::Reads) || broken(RungName::Health) || broken(RungName::Link)) {
        let advice = if copied { "work on its copy: 3, then w" } else { "copy it first: 3, then s" };
        return Some((Stage::Copy, advice.into()));
    }
    // What its page counts may not show in the samples.
    let counts = drive.ground.as_ref().and_then(|ground| ground.health.as_ref()).is_some_and(|health| health.media_count() > 0);
    if drive.source.missing().is_empty() && counts && !copied {
        return Some((Stage::Copy, "its page counts bad sectors; copy it first: 3, then s".into()));
    }
    if keel_core::fathom::interrupted(drive.source.identity()).is_some() {
        return Some((Stage::Fathom, "put back what the probe touched: 4, then u".into()));
    }
    let link_doubtful = ladder.rung(RungName::Link).is_some_and(|rung| rung.state == RungState::Doubtful);
    (link_doubtful && ladder.lowest_broken.is_none()).then(|| (Stage::Yard, "check the cable first: 1, then c".into()))
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
