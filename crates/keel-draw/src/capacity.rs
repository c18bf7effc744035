//! Capacity: the address that was written against the address that was read. An honest drive is the diagonal.

use keel_core::fathom::{Fathomed, Seen};
use keel_source::size_decimal;

use crate::Head;
use crate::canvas::{Anchor, BELOW_HEAD, Drawing, MARGIN, SHEET_WIDTH, Tone};
use crate::font::{Font, FontError};

/// Side of the plot.
const SIDE: f64 = 430.0;
/// Where the plot begins.
const LEFT: f64 = MARGIN + 54.0;

/// The plot as a sheet.
///
/// # Errors
/// [`FontError`] when the carried font does not read.
pub fn capacity(head: &Head, verdict: &Fathomed) -> Result<Drawing, FontError> {
    let font = Font::load()?;
    let mut sheet = Drawing::sheet(head, "Capacity: the address written, and what was read there");
    let top = BELOW_HEAD + 10.0;
    let bottom = top + SIDE;
    let place = |at: u64| SIDE * (at as f64) / (verdict.claimed_bytes.max(1) as f64);
    for step in 0..=4u64 {
        let at = verdict.claimed_bytes / 4 * step;
        sheet.line([LEFT, bottom - place(at), LEFT + SIDE, bottom - place(at)], Tone::RULE, 0.5);
        sheet.line([LEFT + place(at), top, LEFT + place(at), bottom], Tone::RULE, 0.5);
        sheet.put_text([LEFT - 5.0, bottom - place(at) + 3.0], 8.0, Tone::DIM, Anchor::End, &size_decimal(at));
        let anchor = if step == 4 { Anchor::End } else { Anchor::Start };
        sheet.put_text([LEFT + place(at), bottom + 13.0], 8.0, Tone::DIM, anchor, &size_decimal(at));
    }
    sheet.dashed([LEFT, bottom, LEFT + SIDE, top], Tone(60), 0.8);
    for point in &verdict.plot {
        let x = LEFT + place(point.at.0);
        match point.seen {
            Seen::Own => sheet.rect([x - 1.0, bottom - place(point.at.0) - 1.0, 2.0, 2.0], Some(Tone::BLACK), None),
            Seen::Other(other) => sheet.rect([x - 1.4, bottom - place(other.0) - 1.4, 2.8, 2.8], None, Some(0.7)),
            Seen::Nothing => sheet.line([x, bottom + 18.0, x, bottom + 24.0], Tone::BLACK, 0.5),
            Seen::Unreadable => sheet.cross(x, bottom + 32.0, 2.0),
            Seen::Unwritable => sheet.cross(x, bottom + 40.0, 2.0),
        }
    }
    if verdict.nature.is_lie() {
        let x = LEFT + place(verdict.proven_bytes);
        sheet.dashed([x, top, x, bottom], Tone::BLACK, 1.6);
        let anchor = if place(verdict.proven_bytes) > SIDE / 2.0 { Anchor::End } else { Anchor::Start };
        sheet.put_text(
            [x + 4.0, top + 12.0],
            9.0,
            Tone::BLACK,
            anchor,
            &format!("true end: {}", size_decimal(verdict.proven_bytes)),
        );
    }
    let mut y = bottom + 62.0;
    y += pace(&mut sheet, verdict, y);
    let width = SHEET_WIDTH - 2.0 * MARGIN;
    let mut say = |size: f64, text: &str| {
        for line in font.wrap(text, size, width) {
            sheet.text([MARGIN, y], size, &line);
            y += size * 1.45;
        }
    };
    say(13.0, &verdict.line());
    say(
        9.5,
        &format!("claimed {} bytes, proven {} bytes; {}", verdict.claimed_bytes, verdict.proven_bytes, verdict.nature.word()),
    );
    say(9.5, &format!("how sure: {} ({})", verdict.sureness.word(), verdict.method.word()));
    for reason in &verdict.reasons {
        say(9.5, &format!("· {reason}"));
    }
    if let Some(restored) = verdict.restored {
        let words = if restored.whole { "everything stands as it stood" } else { "not everything could be compared" };
        say(9.5, &format!("{} bytes were put back: {words}", restored.bytes));
    }
    say(8.5, "■ its own   □ what was written elsewhere   | nothing that was written   × did not read, or took no write");
    Ok(sheet)
}

/// Height of the plot of speed.
const PACE_HEIGHT: f64 = 70.0;

/// Speed over the surface, of a fill: written as bars, read back as a line. The height that it takes comes back.
fn pace(sheet: &mut Drawing, verdict: &Fathomed, top: f64) -> f64 {
    let most = verdict.pace.iter().map(|pace| pace.write.max(pace.read)).max().unwrap_or(0);
    if most == 0 {
        return 0.0;
    }
    let width = SIDE / verdict.pace.len() as f64;
    let height = |rate: u64| PACE_HEIGHT * rate as f64 / most as f64;
    let foot = top + PACE_HEIGHT;
    for (index, pace) in verdict.pace.iter().enumerate() {
        let x = LEFT + width * index as f64;
        sheet.rect([x, foot - height(pace.write), (width - 0.2).max(0.4), height(pace.write)], Some(Tone(75)), None);
        sheet.line([x, foot - height(pace.read), x + width, foot - height(pace.read)], Tone::BLACK, 1.0);
    }
    sheet.put_text([LEFT - 5.0, top + 6.0], 8.0, Tone::DIM, Anchor::End, &format!("{}/s", size_decimal(most)));
    sheet.dim([LEFT, foot + 12.0], 8.0, "speed over the surface: grey written, black read back");
    PACE_HEIGHT + 30.0
}
