//! The ladder as it is beside the ladder as planned: a column for each volume, the drive below, as on the ladder.

use keel_core::ladder::{Ladder, Rung, RungName, RungState, VolumeLadder};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::theme::Theme;
use crate::widget::{cut, put};

/// Width of the rungs' names.
const NAMES: u16 = 17;
/// Width of a column: `doubtful → doubtful` and a space.
const COLUMN: u16 = 20;
const VOLUME_RUNGS: [RungName; 4] = [RungName::Files, RungName::FileSystem, RungName::BootSector, RungName::Entry];

/// Draws both ladders; `after` is none while it is not known. Volumes that change or do not hold come first; the rest
/// is counted where there is no room.
pub(super) fn draw(now: &Ladder, after: Option<&Ladder>, theme: Theme, area: Rect, buf: &mut Buffer) {
    let shown = after.unwrap_or(now);
    let mut volumes: Vec<(Option<&VolumeLadder>, &VolumeLadder)> =
        shown.volumes.iter().map(|volume| (now.volumes.iter().find(|old| old.start_byte == volume.start_byte), volume)).collect();
    volumes.sort_by_key(|(before, then)| is_quiet(*before, then));
    let room = usize::from(area.width.saturating_sub(NAMES) / COLUMN).max(1);
    let more = volumes.len().saturating_sub(room);
    for (row, rung) in VOLUME_RUNGS.into_iter().enumerate() {
        put(buf, area, 1, line(row + 2), &format!("{} {}", rung.number(), rung.word()), theme.text());
    }
    for (column, (before, then)) in volumes.into_iter().take(room).enumerate() {
        let x = NAMES + COLUMN * u16::try_from(column).unwrap_or(0);
        let name = cut(then.name(), usize::from(COLUMN) - 1);
        put(buf, area, x, 0, &name, theme.strong());
        put(buf, area, x, 1, then.kind.map_or("?", |kind| kind.word()), theme.dim());
        for (row, rung) in VOLUME_RUNGS.into_iter().enumerate() {
            let of = |volume: &VolumeLadder| volume.rungs.iter().find(|found| found.rung == rung).map(|found| found.state);
            cell(buf, area, (x, line(row + 2)), before.and_then(of), after.and(of(then)), theme);
        }
    }
    let mut y = line(VOLUME_RUNGS.len() + 2);
    if more > 0 {
        put(buf, area, NAMES, y, &format!("and {more} more volumes"), theme.dim());
        y += 1;
    }
    y += 1;
    let tested = |rung: &Rung| rung.state != RungState::Untested;
    for rung in shown.rungs.iter().rev() {
        let before = now.rung(rung.rung);
        if tested(rung) || before.is_some_and(tested) {
            put(buf, area, 1, y, &format!("{} {}", rung.rung.number(), rung.rung.word()), theme.text());
            cell(buf, area, (NAMES, y), before.map(|rung| rung.state), after.map(|_| rung.state), theme);
            y += 1;
        }
    }
}

fn line(row: usize) -> u16 {
    u16::try_from(row).unwrap_or(u16::MAX)
}

/// False for a volume that changes or has a rung that does not hold.
fn is_quiet(before: Option<&VolumeLadder>, then: &VolumeLadder) -> bool {
    let holds = |volume: &VolumeLadder| volume.rungs.iter().all(|rung| rung.state <= RungState::Untested);
    holds(then) && before.is_some_and(holds)
}

fn cell(buf: &mut Buffer, area: Rect, (x, y): (u16, u16), before: Option<RungState>, then: Option<RungState>, theme: Theme) {
    let (word, style) = before.map_or(("-", theme.dim()), |state| (state.word(), theme.rung(state)));
    put(buf, area, x, y, word, style);
    if let Some(then) = then.filter(|then| before != Some(*then)) {
        put(buf, area, x + 9, y, &format!("→ {}", then.word()), theme.rung(then));
    }
}
