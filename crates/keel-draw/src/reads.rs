//! Reads: where time and errors go.

use keel_core::reads::{Latency, Survey};
use keel_source::size_decimal;

use crate::Head;
use crate::canvas::{Anchor, BELOW_HEAD, Drawing, MARGIN, SHEET_WIDTH, Tone};

/// Height of the plot.
const HEIGHT: f64 = 330.0;
/// Where the plot begins.
const LEFT: f64 = MARGIN + 52.0;

/// Latency and errors over the surface, as a sheet.
#[must_use]
pub fn reads(head: &Head, survey: &Survey) -> Drawing {
    let what = if survey.full { "Reads: the whole surface" } else { "Reads: samples over the surface" };
    let mut sheet = Drawing::sheet(head, what);
    let (top, right) = (BELOW_HEAD + 24.0, SHEET_WIDTH - MARGIN);
    let bottom = top + HEIGHT;
    // Time on a logarithmic scale: a place that takes a thousand times longer must not flatten all others.
    let longest = survey.picture.iter().map(|cell| cell.longest_us).max().unwrap_or(1).max(1000);
    let decades = (longest as f64).log10().ceil().max(3.0);
    let level = |us: u64| bottom - HEIGHT * ((us.max(1) as f64).log10() / decades).clamp(0.0, 1.0);
    for decade in 0..=decades as u32 {
        let us = 10u64.pow(decade);
        let words = match us {
            0..1000 => format!("{us} µs"),
            1000..1_000_000 => format!("{} ms", us / 1000),
            _ => format!("{} s", us / 1_000_000),
        };
        sheet.line([LEFT, level(us), right, level(us)], Tone::RULE, 0.5);
        sheet.put_text([LEFT - 5.0, level(us) + 3.0], 8.0, Tone::DIM, Anchor::End, &words);
    }
    let width = (right - LEFT) / survey.picture.len().max(1) as f64;
    for (index, cell) in survey.picture.iter().enumerate() {
        let x = LEFT + width * index as f64;
        let tone = match cell.worst {
            Latency::Unread => continue,
            Latency::Usual => Tone(72),
            Latency::Late => Tone(50),
            Latency::Slow | Latency::Passing => Tone(28),
            Latency::Stuck | Latency::Failed => Tone::BLACK,
        };
        let y = level(cell.longest_us);
        sheet.rect([x, y, (width - 0.3).max(0.5), bottom - y], Some(tone), None);
        match cell.worst {
            Latency::Failed => sheet.cross(x + width / 2.0, top - 8.0, 2.6),
            Latency::Passing => sheet.rect([x + width / 2.0 - 2.0, top - 10.0, 4.0, 4.0], None, Some(0.9)),
            _ => {}
        }
    }
    let bytes = survey.picture.get(1).map_or(0, |cell| cell.at.0) * survey.picture.len() as u64;
    for step in 0..=4u64 {
        let x = LEFT + (right - LEFT) * step as f64 / 4.0;
        sheet.line([x, bottom, x, bottom + 4.0], Tone::DIM, 0.8);
        let anchor = if step == 4 { Anchor::End } else { Anchor::Start };
        sheet.put_text([x, bottom + 15.0], 8.0, Tone::DIM, anchor, &size_decimal(bytes / 4 * step));
    }
    let mut y = bottom + 40.0;
    let mut say = |text: String| {
        sheet.text([MARGIN, y], 9.5, &text);
        y += 15.0;
    };
    say(format!("{} of {} reads came at once; usual for this drive: {} µs", survey.came, survey.asked, survey.median_us));
    for (class, count) in survey.classes.iter().filter(|(class, count)| *count > 0 && *class > Latency::Usual) {
        say(format!("{count} {}", class.word()));
    }
    if survey.link_lost + survey.interface_errors > 0 {
        say(format!(
            "{} requests without an answer, {} transfers that failed on their way",
            survey.link_lost, survey.interface_errors
        ));
    }
    for failed in survey.failed.iter().take(14) {
        let came = if failed.came { "came" } else { "did not come" };
        say(format!("{}: {came} in {} tries", failed.range.start, failed.tries));
    }
    if let Some(left) = survey.left {
        say(format!("not all was read: {}", left.word()));
    }
    say("× does not read   □ came when it was asked for again   the darker, the later".into());
    sheet
}
