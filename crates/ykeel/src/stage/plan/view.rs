//! Plan: the staged edits byte by byte, and the ladder now beside the ladder as it would be.

use std::collections::BTreeSet;

use keel_core::mend::{Edit, Order};
use keel_source::{counted, printable, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};

use super::{outlook, proof};
use crate::app::App;
use crate::stage::Drive;
use crate::widget::why::Why;
use crate::widget::{bar, first_shown, hex, put, rule, wrap};

/// Row of the first edit.
const TOP: u16 = 1;

/// Rows of the list of edits.
fn list_rows(area: Rect, edits: usize) -> u16 {
    u16::try_from(edits).unwrap_or(u16::MAX).clamp(2, area.height / 4)
}

pub(super) fn draw(app: &App, area: Rect, buf: &mut Buffer) -> Why {
    let Some(drive) = &app.drive else { return Why::default() };
    let rows = list_rows(area, drive.plan.edits.len() + drive.plan.dropped.len());
    draw_list(app, drive, Rect { height: rows + TOP, ..area }, buf);
    let below = Rect { y: area.y + rows + TOP + 1, height: area.height.saturating_sub(rows + TOP + 1), ..area };
    let line = "─".repeat(usize::from(area.width));
    put(buf, area, 0, rows + TOP, &line, app.theme.line());
    let bytes = hex::WIDTH.min(below.width);
    let beside = below.width.saturating_sub(bytes + 1) >= 40;
    let (left, right) = if beside {
        (Rect { width: bytes, ..below }, Rect { x: below.x + bytes + 1, width: below.width - bytes - 1, ..below })
    } else {
        let half = below.height / 2;
        (Rect { height: half, ..below }, Rect { y: below.y + half, height: below.height - half, ..below })
    };
    if let Some((edit, _)) = drive.plan.selected_edit() {
        draw_edit(app, drive, edit, left, buf);
    } else {
        proof::draw(app, drive, left, buf);
    }
    if beside {
        rule(buf, right, app.theme.line());
    }
    draw_ladders(app, drive, right, buf);
    why(app, drive)
}

fn draw_list(app: &App, drive: &Drive, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    if drive.plan.edits.is_empty() && drive.plan.dropped.is_empty() {
        let text = if drive.plan.applied {
            "The plan was applied; nothing more is staged. u puts the drive back."
        } else {
            "The plan is empty: nothing that was looked at needs a repair that the evidence supports."
        };
        for (y, line) in wrap(text, usize::from(area.width.saturating_sub(2))).iter().enumerate() {
            put(buf, area, 1, u16::try_from(y).unwrap_or(0), line, theme.strong());
        }
        return;
    }
    let plan = drive.staged_plan();
    let (list, all) = (&drive.plan.list, plan.edits.len() + drive.plan.dropped.len());
    let dropped = match drive.plan.dropped.len() {
        0 => String::new(),
        count => format!(", {count} dropped"),
    };
    put(
        buf,
        area,
        1,
        0,
        &format!("{}, {}{dropped}{}", counted(plan.edits.len(), "edit", "edits"), size_decimal(plan.bytes()), list.said(all)),
        theme.strong(),
    );
    let height = usize::from(area.height.saturating_sub(TOP));
    let first = first_shown(list.place(drive.plan.selected), list.rows().len(), height);
    for (y, row) in (TOP..).zip(list.rows().iter().copied().skip(first).take(height)) {
        let Some((edit, dropped)) = drive.plan.row(row) else { continue };
        let order = if edit.order == Order::Copy { "copy" } else { "" };
        let (number, style) = if dropped { ("×".to_string(), theme.dim()) } else { ((row + 1).to_string(), theme.text()) };
        put(
            buf,
            area,
            1,
            y,
            &format!(
                "{:<3}{:<38}{:>9}  {order:<6}byte {}",
                number,
                edit.structure,
                size_decimal(edit.after.len()),
                edit.at_byte.0
            ),
            style,
        );
        if row == drive.plan.selected {
            bar(buf, area, y, theme.selected());
        }
    }
}

/// The bytes before and after, line under line where they differ.
fn draw_edit(app: &App, drive: &Drive, edit: &Edit, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    put(buf, area, 1, 0, "bytes: − now, + as planned; ←→ scrolls", theme.dim());
    let Some(held) = edit.after.held() else { return draw_run(app, drive, edit, area, buf) };
    if edit.before.is_empty() {
        put(buf, area, 1, 1, "what stands there now cannot be read", theme.bad());
    }
    let mut y = 2;
    let mut same = 0usize;
    for (index, after) in held.chunks(16).enumerate().skip(drive.plan.line) {
        if y + 2 >= area.height {
            put(buf, area, 1, y, "… more: →", theme.dim());
            return;
        }
        let at = edit.at_byte.0 + index as u64 * 16;
        let before = edit.before.get(index * 16..index * 16 + after.len()).unwrap_or_default();
        if before == after {
            same += 1;
            // Long stretches that stay as they are would hide what changes.
            match same {
                1 => hex::line(buf, area, y, at, after, theme, |_| false),
                2 => put(buf, area, 12, y, "⋮ unchanged", theme.dim()),
                _ => continue,
            }
            y += 1;
            continue;
        }
        same = 0;
        hex::line(buf, area, y, at, before, theme, |_| false);
        put(buf, area, 0, y, "−", theme.bad());
        hex::line(buf, area, y + 1, at, after, theme, |column| before.get(column) != after.get(column));
        put(buf, area, 0, y + 1, "+", theme.staged());
        y += 2;
    }
}

/// A long run: what is written, a line at a time. What stands there is not read before the plan is applied.
fn draw_run(app: &App, drive: &Drive, edit: &Edit, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let name = edit.after.run().map_or("bytes", |run| run.name());
    let says = format!("{} of {name}: what stands there is saved when the plan is applied", size_decimal(edit.after.len()));
    put(buf, area, 1, 1, &says, theme.dim());
    for y in 2..area.height {
        let from = (drive.plan.line as u64 + u64::from(y - 2)) * 16;
        let mut line = [0; 16];
        let len = usize::try_from(edit.after.len().saturating_sub(from)).unwrap_or(16).min(16);
        let (line, _) = line.split_at_mut(len);
        if line.is_empty() {
            return;
        }
        edit.after.fill(from, line);
        hex::line(buf, area, y, edit.at_byte.0 + from, line, theme, |_| true);
        put(buf, area, 0, y, "+", theme.staged());
    }
}

fn draw_ladders(app: &App, drive: &Drive, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let Some(now) = &drive.ladder.now else { return };
    let planned = drive.plan.after.is_some();
    let title = match (planned, drive.plan.after_job.is_some()) {
        (true, _) => "the ladder now → as planned",
        (false, true) => "the ladder now; as planned: being asked",
        (false, false) => "the ladder now",
    };
    put(buf, area, 1, 0, title, theme.dim());
    let below = Rect { y: area.y + 1, height: area.height.saturating_sub(1), ..area };
    outlook::draw(now, drive.plan.after.as_ref(), theme, below, buf);
}

/// The structures that are dropped with an edit: those of its group, and those that rest on it.
fn written_with<'a>(drive: &'a Drive, edit: &Edit) -> BTreeSet<&'a str> {
    let group = &edit.belongs.group;
    let with =
        |other: &&Edit| (other.belongs.group == *group || other.belongs.needs.contains(group)) && other.at_byte != edit.at_byte;
    drive.plan.edits.iter().chain(&drive.plan.dropped).filter(with).map(|other| other.structure.as_str()).take(8).collect()
}

fn why(app: &App, drive: &Drive) -> Why {
    let theme = app.theme;
    let mut why = Why::default();
    why.say("Why", theme.strong());
    if let Some((edit, dropped)) = drive.plan.selected_edit() {
        why.say(edit.structure.clone(), theme.strong());
        if dropped {
            why.say("Dropped: it is not written. d takes it back.", theme.doubt());
        }
        let with: BTreeSet<&str> = written_with(drive, edit);
        if !with.is_empty() {
            let with = with.into_iter().collect::<Vec<_>>().join(", ");
            why.say(format!("It goes with: {}.", printable(&with)), theme.dim());
        }
        why.say(format!("{}, {} bytes", edit.at_byte, edit.after.len()), theme.dim());
        why.gap();
        why.say(format!("{}.", printable(&edit.reason)), theme.text());
        why.gap();
        let first = if edit.order == Order::Copy {
            "A copy: written and flushed before any primary is touched."
        } else {
            "A primary: written after its copies are on the drive."
        };
        why.say(first, theme.dim());
        why.gap();
    }
    let plan = drive.staged_plan();
    if !plan.edits.is_empty() {
        why.say(format!("Code of this drive: {}", plan.code), theme.strong());
        why.say("a asks for it and applies the plan.", theme.text());
        for lowers in &plan.lowers {
            why.gap();
            why.say(format!("This plan is refused: {lowers}."), theme.bad());
        }
        if plan.copy_first {
            why.gap();
            why.say("This drive fails. Copy it first (3); I saves a repaired copy and leaves the drive alone.", theme.bad());
        }
        why.gap();
    }
    if let Some(ladder) = drive.ladder.now.as_ref().filter(|ladder| !ladder.coverage.is_whole()) {
        why.say_coverage(&ladder.coverage, theme);
        why.gap();
    }
    if let Some(bundle) = &drive.plan.bundle {
        why.say("Undo bundle", theme.strong());
        why.say(bundle.display().to_string(), theme.dim());
        why.gap();
    }
    why.say("Next", theme.strong());
    match (drive.plan.edits.is_empty(), drive.plan.applied) {
        (true, true) => {
            why.say("· 2: the ladder as the drive is now", theme.text());
            why.say("· 7: take files out, with a manifest", theme.text());
            why.say("· u: put everything back", theme.text());
        }
        (true, false) => why.say("· 7: look into the files", theme.text()),
        _ => {
            why.say("· read each edit: ↑↓", theme.text());
            why.say("· a applies, I saves a repaired copy", theme.text());
        }
    }
    why
}

/// Selects the edit that was clicked at.
pub(super) fn click(drive: &mut Drive, area: Rect, at: Position) {
    let rows = list_rows(area, drive.plan.edits.len() + drive.plan.dropped.len());
    let list = &drive.plan.list;
    let first = first_shown(list.place(drive.plan.selected), list.rows().len(), usize::from(rows));
    let row = list.rows().get(first + usize::from(at.y.saturating_sub(TOP))).copied();
    if let Some(row) = row.filter(|_| at.y >= TOP && at.y < rows + TOP) {
        (drive.plan.selected, drive.plan.line) = (row, 0);
    }
}
