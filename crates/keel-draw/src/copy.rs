//! Copy: what is in it, and what is not.

use keel_source::{CopyMap, CopyState, size_decimal};

use crate::Head;
use crate::canvas::{BELOW_HEAD, Drawing, MARGIN, SHEET_WIDTH, Tone};

/// Cells in a row, and rows.
const COLUMNS: usize = 48;
const ROWS: usize = 40;
/// Side of a cell.
const CELL: f64 = (SHEET_WIDTH - 2.0 * MARGIN) / COLUMNS as f64;
/// The most missing places that are listed.
const MOST_LISTED: usize = 14;

/// The map of a copy as a sheet: row by row, from the first sector to the last.
#[must_use]
pub fn copy(head: &Head, map: &CopyMap) -> Drawing {
    let mut sheet = Drawing::sheet(head, "Copy: what came over, and what did not");
    let parts = map.parts(COLUMNS * ROWS);
    let top = BELOW_HEAD + 4.0;
    for (index, part) in parts.iter().enumerate() {
        let (x, y) = (MARGIN + CELL * (index % COLUMNS) as f64, top + CELL * (index / COLUMNS) as f64);
        let bytes = |state: CopyState| part.get(state as usize).copied().unwrap_or(0);
        let all: u64 = part.iter().sum();
        let frame = [x + 0.5, y + 0.5, CELL - 1.0, CELL - 1.0];
        let share = bytes(CopyState::Copied) as f64 / all.max(1) as f64;
        // The more came over, the more of the cell is grey.
        if share > 0.0 {
            sheet.rect([frame[0], frame[1] + frame[3] * (1.0 - share), frame[2], frame[3] * share], Some(Tone(78)), None);
        }
        if bytes(CopyState::Failed) > 0 {
            sheet.cross(x + CELL / 2.0, y + CELL / 2.0, CELL / 2.0 - 1.6);
        } else if bytes(CopyState::Inner) + bytes(CopyState::PassedOver) > 0 {
            sheet.line([x + 1.5, y + CELL - 1.5, x + CELL - 1.5, y + 1.5], Tone::BLACK, 1.0);
        }
        sheet.rect(frame, None, Some(0.25));
    }
    let mut y = top + CELL * parts.len().div_ceil(COLUMNS) as f64 + 20.0;
    let mut say = |text: &str| {
        sheet.text([MARGIN, y], 9.5, text);
        y += 14.5;
    };
    let missing = map.missing();
    let lost: u64 = missing.iter().map(|range| range.len()).sum();
    let cell = map.len().div_ceil((COLUMNS * ROWS) as u64);
    say(&format!("{} of {} bytes came over; {lost} are missing in {} places", map.len() - lost, map.len(), missing.len()));
    say(&format!("one cell is {}; grey came over, × failed, / is still to be read, empty was not asked for", size_decimal(cell)));
    for range in missing.iter().take(MOST_LISTED) {
        say(&format!("missing: bytes {} to {} ({})", range.start.0, range.end.0 - 1, size_decimal(range.len())));
    }
    if missing.len() > MOST_LISTED {
        say(&format!("and {} more places", missing.len() - MOST_LISTED));
    }
    sheet
}
