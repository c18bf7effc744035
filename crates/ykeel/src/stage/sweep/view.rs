//! Sweep: finds as lanes on the keel's scale, their list, and the layout they settle into.

use std::collections::BTreeMap;

use keel_core::advice::Swept;
use keel_core::sweep::{Find, Grade, rival};
use keel_source::{ByteOffset, RangeSet, counted, printable, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

use super::{compare, layout};
use crate::app::App;
use crate::stage::Drive;
use crate::widget::why::Why;
use crate::widget::{bar, cut, first_shown, keel, put, rule};

/// Columns of one lane of finds.
const LANE: u16 = 14;
/// Least columns of the list.
const LIST: u16 = 44;

/// The left part with the lanes and the right one with list and layout.
fn split(area: Rect) -> (Rect, Rect) {
    let list = (area.width * 13 / 20).max(LIST).min(area.width);
    let lanes = area.width - list;
    (Rect { width: lanes.saturating_sub(1), ..area }, Rect { x: area.x + lanes, width: list, ..area })
}

/// Rows of the list with its head: what the finds need, half of the height at most.
fn list_rows(area: Rect, finds: usize) -> u16 {
    u16::try_from(finds + 4).unwrap_or(u16::MAX).clamp(8, area.height / 2)
}

pub(super) fn draw(app: &App, area: Rect, buf: &mut Buffer) -> Why {
    let Some(drive) = &app.drive else { return Why::default() };
    let (lanes, list) = split(area);
    draw_lanes(app, drive, lanes, buf);
    rule(buf, list, app.theme.line());
    if let Some(pair) = drive.sweep.compared() {
        compare::draw(app, drive, pair, list, buf);
        return why(app, drive);
    }
    draw_list(app, drive, list, buf);
    let top = list_rows(list, drive.sweep.finds.len());
    let below = Rect { y: list.y + top, height: list.height.saturating_sub(top), ..list };
    layout::draw(app, drive, below, buf);
    why(app, drive)
}

fn grade_style(app: &App, grade: Grade) -> Style {
    match grade {
        Grade::Certain | Grade::Strong => app.theme.text(),
        Grade::Weak => app.theme.doubt(),
        Grade::Contradicted => app.theme.bad(),
    }
}

/// The lane of each find: the first one whose finds leave its ground free.
fn lanes_of(finds: &[Find]) -> Vec<u16> {
    let mut ends: Vec<u64> = Vec::new();
    let mut lanes = vec![0; finds.len()];
    let mut order: Vec<usize> = (0..finds.len()).collect();
    order.sort_by_key(|index| (finds[*index].start_byte, std::cmp::Reverse(finds[*index].bytes)));
    for index in order {
        let range = finds[index].range();
        let lane = ends.iter().position(|end| *end <= range.start.0).unwrap_or(ends.len());
        if lane == ends.len() {
            ends.push(range.end.0);
        } else {
            ends[lane] = range.end.0;
        }
        lanes[index] = u16::try_from(lane).unwrap_or(u16::MAX);
    }
    lanes
}

fn draw_lanes(app: &App, drive: &Drive, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    put(buf, area, 1, 0, "finds, on the keel's scale", theme.dim());
    let Some(rows) = keel::rows(app, area) else { return };
    for (place, head) in heads(drive, &rows) {
        let (Some(find), (first, lane)) = (drive.sweep.finds.get(head.index), place) else { continue };
        let x = 1 + lane.saturating_mul(LANE);
        let chosen = drive
            .plan
            .layout
            .as_ref()
            .is_some_and(|layout| layout.entries.iter().any(|entry| entry.find.as_ref() == Some(&find.id)));
        let style = if head.index == drive.sweep.selected { theme.accent() } else { grade_style(app, find.grade) };
        let (corner, side, bottom) = if chosen { ("┏", "┃", "┗") } else { ("╭", "╎", "╰") };
        let word = match (head.more, find.inside.is_some()) {
            (0, true) => "inside".to_string(),
            (0, false) => find.grade.word().to_string(),
            (more, _) => format!("and {more}"),
        };
        let room = usize::from(LANE) - 1;
        put(buf, area, x, first, &cut(&format!("{corner}{} {word}", find.id), room), style);
        let end = head.end;
        for row in first + 1..end.saturating_sub(1) {
            put(buf, area, x, row, side, style);
        }
        if end > first + 1 {
            put(buf, area, x, end - 1, &format!("{bottom}╸"), style);
        }
        if end > first + 2 {
            put(buf, area, x + 1, first + 1, &format!(" {}", cut(find.name(), room - 2)), style);
        }
    }
}

/// A find in a lane, and how many more begin on the same row.
struct Head {
    index: usize,
    end: u16,
    more: usize,
}

/// The finds by row and lane. Where several begin on one row the selected one stands for them, else the first.
fn heads(drive: &Drive, rows: &keel::Rows) -> BTreeMap<(u16, u16), Head> {
    let mut heads: BTreeMap<(u16, u16), Head> = BTreeMap::new();
    for (index, (find, lane)) in drive.sweep.finds.iter().zip(lanes_of(&drive.sweep.finds)).enumerate() {
        let Some((first, end)) = rows.of(find.range()) else { continue };
        let head = heads.entry((first, lane)).or_insert(Head { index, end, more: 0 });
        if head.index != index {
            head.more += 1;
            head.index = if index == drive.sweep.selected { index } else { head.index };
        }
    }
    // One that reaches over the beginning of the next in its lane ends there.
    let starts: Vec<(u16, u16)> = heads.keys().copied().collect();
    for (place, head) in &mut heads {
        let next = starts.iter().filter(|start| start.1 == place.1 && start.0 > place.0).map(|start| start.0).min();
        head.end = next.map_or(head.end, |next| head.end.min(next));
    }
    heads
}

fn draw_list(app: &App, drive: &Drive, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let in_layout = match &drive.plan.layout {
        Some(layout) if drive.plan.staging.is_none() => format!("{} in the layout", layout.entries.len()),
        _ if drive.sweep.finds.is_empty() => "0 in the layout".into(),
        _ => "being laid out".into(),
    };
    let state = match (drive.sweep.swept, drive.sweep.job.is_some()) {
        (_, true) => "sweeping",
        (Swept::No, _) => "not swept yet",
        (Swept::Landmarks, _) => "landmarks only",
        (Swept::Stopped, _) => "stopped; s goes on",
        (Swept::Done, _) => "swept",
    };
    let told = drive.sweep.finds.len();
    let count = if drive.sweep.untold > 0 {
        format!("{told} of {} finds", told + drive.sweep.untold)
    } else {
        counted(told, "find", "finds")
    };
    let narrowed = drive.sweep.list.said(told);
    let count = if narrowed.is_empty() { count } else { narrowed.trim_start().to_string() };
    put(buf, area, 1, 0, &format!("{count}, {in_layout}; {state}"), theme.strong());
    let height = usize::from(list_rows(area, drive.sweep.finds.len()).saturating_sub(2));
    let list = drive.sweep.list.rows();
    let first = first_shown(drive.sweep.list.place(drive.sweep.selected), list.len(), height);
    for (y, row) in (1..).zip(list.iter().copied().skip(first).take(height)) {
        let Some(find) = drive.sweep.finds.get(row) else { continue };
        let choice = match (drive.sweep.choices.hold.contains(&find.id), drive.sweep.choices.drop.contains(&find.id)) {
            (true, _) => "held",
            (_, true) => "dropped",
            _ => "",
        };
        let label = cut(find.name(), 12);
        let line = format!(
            "{:<5}{:<6}{label:<13}{:>8}  {:<13}{choice}",
            find.id,
            find.kind.word(),
            size_decimal(find.bytes),
            find.grade.word()
        );
        put(buf, area, 1, y, &line, grade_style(app, find.grade));
        if row == drive.sweep.selected {
            bar(buf, area, y, theme.selected());
        }
    }
    if drive.sweep.finds.is_empty() {
        put(buf, area, 1, 2, "Nothing was found yet.", theme.text());
        put(buf, area, 1, 3, "s sweeps landmarks and what they leave in doubt.", theme.dim());
    }
}

fn why(app: &App, drive: &Drive) -> Why {
    let theme = app.theme;
    let mut why = Why::default();
    let Some(find) = drive.selected_find() else {
        why.say("Why", theme.strong());
        why.gap();
        why.say("A find needs witnesses, not one magic number: boot sector, its backup, core metadata and its copy, references that meet, a root directory that lists.", theme.text());
        return why;
    };
    why.say(format!("Why {}", find.id), theme.strong());
    why.say(
        format!("{}: {} {}, {} long", find.grade.word(), find.kind.word(), find.name(), size_decimal(find.bytes)),
        theme.strong(),
    );
    why.say(format!("from {}", find.start_byte), theme.dim());
    why.say(
        format!("LBA {} to {}, {} bytes", find.start_lba.0, (find.start_lba.0 + find.sectors.0).saturating_sub(1), find.bytes),
        theme.dim(),
    );
    if let Some(newest) = find.newest {
        why.say(format!("newest name in its root: {newest}"), theme.dim());
    }
    match (&find.inside, &find.inside_file) {
        (Some(outer), Some(file)) => why.say(format!("lies inside {outer}: {file} is a disk image"), theme.doubt()),
        (Some(outer), None) => why.say(format!("lies inside {outer}, which holds other volumes by design"), theme.doubt()),
        (None, _) => {}
    }
    if let Some(present) = &find.older_than {
        let mut seen = RangeSet::default();
        drive.sweep.looked_at.iter().for_each(|range| seen.add(*range));
        let more = if seen.lacking(find.range()).is_empty() { "" } else { "; S sweeps the whole surface for more of it" };
        why.say(format!("what is left of an older generation under {present}{more}"), theme.doubt());
    }
    if let Some(closed) = find.kind.why_closed() {
        why.say(closed, theme.doubt());
    }
    let entry = drive.plan.layout.iter().flat_map(|layout| &layout.entries).find(|entry| entry.find.as_ref() == Some(&find.id));
    if let Some(entry) = entry {
        why.say(format!("in the layout: {}", printable(&entry.why)), theme.text());
    }
    for set in drive.plan.layout.iter().flat_map(|layout| &layout.by_hand).filter(|set| set.find == find.id) {
        why.gap();
        match &set.refused {
            None => why.say("Set by hand", theme.strong()),
            Some(refused) => why.say(format!("What was set by hand is refused: {}", printable(refused)), theme.bad()),
        }
        for speaks in &set.speaks {
            let (mark, style) = if speaks.for_it { ("+", theme.text()) } else { ("−", theme.bad()) };
            why.say(format!("{mark} {}", printable(&speaks.what)), style);
        }
    }
    why.gap();
    why.say("Witnesses", theme.strong());
    for witness in &find.witnesses {
        let (mark, style) = match witness.weight {
            ..0 => ("−", theme.bad()),
            0 => ("·", theme.dim()),
            _ => ("+", theme.text()),
        };
        why.say(format!("{mark} {}", witness.says), style);
    }
    why.gap();
    why.say("Next", theme.strong());
    if find.kind.why_closed().is_none() {
        why.say("· enter: see whose files these are", theme.text());
    }
    if rival(&drive.sweep.finds, find).is_some() {
        why.say("· V: compare it with the one on its ground", theme.text());
    }
    why.say("· space holds it, d drops it", theme.text());
    if !drive.plan.edits.is_empty() {
        why.say(format!("· p: read the plan of {}", counted(drive.plan.edits.len(), "edit", "edits")), theme.text());
    }
    why
}

/// Selects the find that was clicked at: in the list, or the one at byte `place` among the lanes.
pub(super) fn click(drive: &mut Drive, area: Rect, at: Position, place: Option<ByteOffset>) {
    let (lanes, list) = split(area);
    let finds = &drive.sweep.finds;
    if at.x < lanes.width {
        let found = finds.iter().position(|find| place.is_some_and(|place| find.range().contains(place)));
        drive.sweep.selected = found.unwrap_or(drive.sweep.selected);
        return;
    }
    let rows = list_rows(list, finds.len());
    let shown = &drive.sweep.list;
    let first = first_shown(shown.place(drive.sweep.selected), shown.rows().len(), usize::from(rows.saturating_sub(2)));
    let row = shown.rows().get(first + usize::from(at.y.saturating_sub(1))).copied();
    if at.y >= 1 && at.y < rows {
        drive.sweep.selected = row.unwrap_or(drive.sweep.selected);
    }
}
