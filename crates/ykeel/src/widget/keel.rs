//! The keel: a vertical map of the whole drive, first sector at the top, four lanes: now, found, plan, ground.

use keel_core::sweep::outer;
use keel_format::VolumeKind;
use keel_format::table::TableReading;
use keel_source::{ByteOffset, ByteRange, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::{ground, put, times};
use crate::app::App;
use crate::popup::Place;
use crate::stage::renew::Row;
use crate::stage::{Drive, StageId};

/// Columns before the first lane: the scale and the marks.
const SCALE: u16 = 9;
/// Columns of a lane.
const LANE: u16 = 6;
/// Columns of the ground before the times that its places took, and those of their bars.
const TIMES: u16 = 3;
const BAR: u16 = 4;
/// Row of the first byte: the lanes' names stand above.
const TOP: u16 = 1;

/// Maps bytes of the drive to rows.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Rows {
    window: ByteRange,
    height: u16,
}

impl Rows {
    /// The rows that show `window` in an area `height` rows high.
    pub(crate) fn new(window: ByteRange, height: u16) -> Self {
        Self { window, height: height.saturating_sub(TOP) }
    }

    /// First and behind-last row of `range`, below the head of the area; at least one row. `None` when it lies outside.
    pub(crate) fn of(&self, range: ByteRange) -> Option<(u16, u16)> {
        let both = range.overlap(self.window)?;
        let row = |at: ByteOffset, up: bool| {
            let bytes = u128::from(at - self.window.start) * u128::from(self.height);
            let len = u128::from(self.window.len().max(1));
            let row = if up { bytes.div_ceil(len) } else { bytes / len };
            u16::try_from(row).unwrap_or(self.height).min(self.height)
        };
        let first = row(both.start, false).min(self.height.saturating_sub(1));
        // The end rounds down, so that a block does not lie over its neighbour's first row.
        let end = if both.end == self.window.end { row(both.end, true) } else { row(both.end, false) };
        Some((first + TOP, end.max(first + 1) + TOP))
    }

    /// Bytes of a row; one at least.
    pub(crate) fn row_bytes(&self) -> u64 {
        (self.window.len() / u64::from(self.height.max(1))).max(1)
    }

    /// The byte at a row below the head.
    pub(crate) fn byte(&self, row: u16) -> ByteOffset {
        let row = u128::from(row.saturating_sub(TOP));
        let bytes = row * u128::from(self.window.len()) / u128::from(self.height.max(1));
        self.window.start + u64::try_from(bytes).unwrap_or(0)
    }
}

/// A block on a lane.
struct Block {
    range: ByteRange,
    letters: &'static str,
    kind: Option<VolumeKind>,
}

/// The ground that is selected in the stage.
fn selection(app: &App) -> Option<ByteRange> {
    app.drive.as_ref().and_then(|drive| app.stage.stage().selection(drive))
}

/// The place of the cursor, while the keel is walked.
fn cursor(app: &App) -> Option<ByteOffset> {
    let walks = app.popups.iter().any(|popup| popup.place() == Place::Side);
    app.drive.as_ref().filter(|_| walks).map(|drive| drive.place.at)
}

/// The rows of the keel in `area`.
pub(crate) fn rows(app: &App, area: Rect) -> Option<Rows> {
    let drive = app.drive.as_ref()?;
    let middle = cursor(app).or_else(|| selection(app).map(|range| range.start + range.len() / 2)).unwrap_or(ByteOffset(0));
    Some(Rows::new(drive.keel_window(middle), area.height))
}

/// The byte of the drive at a row of the terminal.
pub(crate) fn byte_at(app: &App, area: Rect, row: u16) -> Option<ByteOffset> {
    rows(app, area).map(|rows| rows.byte(row - area.y))
}

/// The bytes of the row that is nearest to a row of the terminal.
pub(crate) fn row_at(app: &App, area: Rect, row: u16) -> Option<ByteRange> {
    let row = row.saturating_sub(area.y).clamp(TOP, area.height.saturating_sub(1).max(TOP));
    rows(app, area).map(|rows| ByteRange::new(rows.byte(row), rows.byte(row + 1)))
}

/// Draws the keel.
pub(crate) fn draw(app: &App, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let (Some(drive), Some(rows)) = (&app.drive, rows(app, area)) else {
        put(buf, area, 1, 0, "no drive is open", theme.dim());
        return;
    };
    let lanes = Lanes::of(area);
    for lane in Lane::ALL {
        lanes.x(lane).into_iter().for_each(|x| put(buf, area, x, 0, lanes.name(lane), theme.strong()));
    }
    for row in TOP..area.height {
        if lanes.has_scale && (row - TOP).is_multiple_of(5) {
            put(buf, area, 0, row, &format!("{:>7}", size_decimal(rows.byte(row).0)), theme.dim());
        }
        for lane in [Lane::Now, Lane::Found, Lane::Plan] {
            lanes.x(lane).into_iter().for_each(|x| put(buf, area, x, row, "┆", theme.line()));
        }
    }
    draw_ground(app, drive, area, &rows, buf);
    let selected = selection(app);
    let blocks = [
        (Lane::Now, table_blocks(drive, &drive.plan.table)),
        (Lane::Found, find_blocks(drive)),
        (Lane::Plan, planned_blocks(app, drive)),
    ];
    for (lane, blocks) in &blocks {
        for block in blocks {
            let style =
                if selected.is_some_and(|range| range.start == block.range.start) { theme.accent() } else { theme.text() };
            draw_block(buf, area, (&lanes, *lane), &rows, block, style);
        }
    }
    draw_marks(app, drive, area, &rows, selected, buf);
    draw_cursor(app, area, &rows, buf);
}

/// The drive as it would be: the draft, where it is looked at, or the table of the plan.
fn planned_blocks(app: &App, drive: &Drive) -> Vec<Block> {
    let is_drafted = drive.renew.is_asked() || app.held.is_some();
    let drafted = drive.renew.draft.as_ref().filter(|_| app.stage == StageId::Renew && is_drafted);
    let Some(draft) = drafted else {
        return drive.plan.planned.as_ref().map(|table| table_blocks(drive, table)).unwrap_or_default();
    };
    let held = app.held.and_then(|(from, to)| drive.renew.held(from, to));
    let block = |(index, entry): (usize, &keel_core::renew::Drafted)| {
        let kind = entry.kind();
        let range = match held {
            Some((Row::Entry(own), range)) if own == index => range,
            _ => entry.range(draft.sector),
        };
        Block { range, letters: kind.map_or("??", VolumeKind::letters), kind }
    };
    let fresh = held.filter(|(row, _)| matches!(row, Row::Free(..)));
    let fresh = fresh.map(|(_, range)| Block { range, letters: "+ ", kind: None });
    draft.entries.iter().enumerate().map(block).chain(fresh).collect()
}

/// The cursor, and the places that were marked.
fn draw_cursor(app: &App, area: Rect, rows: &Rows, buf: &mut Buffer) {
    let marks = Lanes::of(area).marks();
    for mark in app.case.iter().flat_map(|case| &case.record.marks) {
        if let Some((row, _)) = rows.of(ByteRange::sized(mark.at, 1)) {
            put(buf, area, marks, row, "•", app.theme.strong());
        }
    }
    if let Some((row, _)) = cursor(app).and_then(|at| rows.of(ByteRange::sized(at, 1))) {
        put(buf, area, marks, row, "▸", app.theme.accent());
        put(buf, area, area.width.saturating_sub(1), row, "◂", app.theme.accent());
    }
}

/// The lane of the ground, and the times where they were taken and there is room.
fn draw_ground(app: &App, drive: &Drive, area: Rect, rows: &Rows, buf: &mut Buffer) {
    let theme = app.theme;
    let lanes = Lanes::of(area);
    let Some(x) = lanes.x(Lane::Ground) else { return };
    let usual = drive.ground.usual_us();
    let has_times = lanes.has_scale && usual > 0;
    for row in TOP..area.height {
        let stretch = drive.ground.stretch(ByteRange::new(rows.byte(row), rows.byte(row + 1)), usual);
        let (sign, style) = ground::sign(&stretch, theme);
        put(buf, area, x, row, sign, style);
        if has_times {
            put(buf, area, x + TIMES, row, &times::bar(stretch.slowest_us, BAR), style);
        }
    }
}

/// A lane of the keel.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Lane {
    Now,
    Found,
    Plan,
    Ground,
}

impl Lane {
    const ALL: [Self; 4] = [Self::Now, Self::Found, Self::Plan, Self::Ground];
}

/// Where the lanes stand: beside a scale, or on a strip that has room for two of them.
struct Lanes {
    has_scale: bool,
}

impl Lanes {
    fn of(area: Rect) -> Self {
        Self { has_scale: area.width > SCALE + 3 * LANE }
    }

    fn name(&self, lane: Lane) -> &'static str {
        match lane {
            Lane::Now => "now",
            Lane::Found if self.has_scale => "found",
            Lane::Found => "fo",
            Lane::Plan => "plan",
            Lane::Ground if self.has_scale => "ground",
            Lane::Ground => "gr",
        }
    }

    /// The column of the marks.
    fn marks(&self) -> u16 {
        if self.has_scale { SCALE - 1 } else { 0 }
    }

    /// The column of a lane; none where there is no room for it.
    fn x(&self, lane: Lane) -> Option<u16> {
        match (self.has_scale, lane) {
            (true, lane) => Some(SCALE + 1 + lane as u16 * LANE),
            (false, Lane::Found) => Some(2),
            (false, Lane::Ground) => Some(5),
            (false, Lane::Now | Lane::Plan) => None,
        }
    }
}

fn draw_marks(app: &App, drive: &Drive, area: Rect, rows: &Rows, selected: Option<ByteRange>, buf: &mut Buffer) {
    let theme = app.theme;
    let marks = Lanes::of(area).marks();
    for range in drive.files.adrift.places().filter(|_| app.stage == StageId::Files) {
        if let Some((row, _)) = rows.of(range) {
            put(buf, area, marks, row, "◦", theme.text());
        }
    }
    if let Some((first, end)) = selected.and_then(|range| rows.of(range)) {
        for row in first..end {
            put(buf, area, marks, row, "▎", theme.accent());
        }
    }
    let sampled = drive.ladder.now.as_ref().and_then(|ladder| ladder.rung(keel_core::ladder::RungName::Reads));
    let bad = sampled
        .into_iter()
        .flat_map(|rung| &rung.findings)
        .filter_map(|finding| finding.at_byte)
        .map(|at| ByteRange::sized(at, 512));
    let missing = drive.source.missing().iter().copied().take(4096);
    for range in drive.sweep.bad.iter().copied().chain(bad).chain(missing) {
        if let Some((row, _)) = rows.of(range) {
            put(buf, area, marks, row, "×", theme.bad());
        }
    }
    let copied = drive.copy.progress.as_ref().filter(|_| drive.copy.job.is_some()).map(|progress| progress.at);
    let measured = drive.fathom.progress.as_ref().filter(|_| drive.fathom.job.is_some()).map(|progress| progress.at);
    let read = drive.ladder.surveying.as_ref().map(|progress| progress.at);
    for head in copied.into_iter().chain(measured).chain(read) {
        if let Some((row, _)) = rows.of(ByteRange::sized(head, 1)) {
            put(buf, area, marks, row, "▶", theme.strong());
        }
    }
    if let (Some(_), Some(progress)) = (&drive.sweep.job, &drive.sweep.progress)
        && progress.total > 0
        && let Some((row, _)) = rows.of(ByteRange::sized(progress.head, 1))
    {
        put(buf, area, marks, row, "▶", theme.strong());
    }
}

fn draw_block(buf: &mut Buffer, area: Rect, (lanes, lane): (&Lanes, Lane), rows: &Rows, block: &Block, style: Style) {
    let Some((first, end)) = rows.of(block.range) else { return };
    let Some(x) = lanes.x(lane) else { return };
    let texture = block.kind.map_or("  ", |kind| kind.facts().texture);
    if !lanes.has_scale {
        put(buf, area, x, first, block.letters, style);
        let fill = if texture.trim().is_empty() { "║ " } else { texture };
        (first + 1..end).for_each(|row| put(buf, area, x, row, fill, style));
        return;
    }
    match end - first {
        0 | 1 => put(buf, area, x, first, &format!("╺{}╸", block.letters), style),
        2 => {
            put(buf, area, x, first, &format!("┏{}┓", block.letters), style);
            put(buf, area, x, first + 1, "┗━━┛", style);
        }
        _ => {
            put(buf, area, x, first, "┏━━┓", style);
            for row in first + 1..end - 1 {
                let fill = if row == first + 1 { block.letters } else { texture };
                put(buf, area, x, row, &format!("┃{fill}┃"), style);
            }
            put(buf, area, x, end - 1, "┗━━┛", style);
        }
    }
}

/// What a table says, each entry with the letters of what is known to stand there, or of its type.
fn table_blocks(drive: &Drive, table: &TableReading) -> Vec<Block> {
    let sector = drive.source.sector_size();
    let blocks = table.partitions.iter().map(|entry| {
        let range = entry.range(sector);
        let find = outer(&drive.sweep.finds).find(|find| find.start_byte == range.start);
        let typed = match entry.type_code.word() {
            "NTFS/exFAT" => "Nt",
            "FAT12" | "FAT16" | "FAT32" => "Fa",
            "basic data" => "da",
            word if word.starts_with("Linux") => "Li",
            word if word.starts_with("HFS") => "H+",
            _ => "??",
        };
        Block { range, letters: find.map_or(typed, |find| find.kind.letters()), kind: find.map(|find| find.kind) }
    });
    blocks.collect()
}

fn find_blocks(drive: &Drive) -> Vec<Block> {
    outer(&drive.sweep.finds)
        .map(|find| Block { range: find.range(), letters: find.kind.letters(), kind: Some(find.kind) })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_that_follow_one_another_do_not_share_rows() {
        let rows = Rows::new(ByteRange::sized(ByteOffset(0), 1_000_000), 41);
        let (_, end) = rows.of(ByteRange::sized(ByteOffset(1000), 249_000)).unwrap();
        let (first, last) = rows.of(ByteRange::sized(ByteOffset(250_000), 750_000)).unwrap();
        assert!(end <= first && last == 41);
        assert_eq!(rows.of(ByteRange::sized(ByteOffset(2_000_000), 5)), None);
        assert_eq!(rows.byte(1), ByteOffset(0));
    }
}
