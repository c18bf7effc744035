//! Health: the verdict, and what the page says.

use keel_core::health::HealthVerdict;
use keel_format::health::{ErrorCounters, HealthReading, attribute_word};

use crate::Head;
use crate::canvas::{Anchor, BELOW_HEAD, Drawing, MARGIN, SHEET_WIDTH, Tone};
use crate::font::{Font, FontError};

/// Width of the bar of an attribute.
const BAR: f64 = 150.0;

/// The health page as a sheet.
///
/// # Errors
/// [`FontError`] when the carried font does not read.
pub fn health(head: &Head, verdict: &HealthVerdict) -> Result<Drawing, FontError> {
    let font = Font::load()?;
    let mut sheet = Drawing::sheet(head, "Health: what the drive says of itself");
    let width = SHEET_WIDTH - 2.0 * MARGIN;
    let mut y = BELOW_HEAD + 12.0;
    sheet.text([MARGIN, y], 14.0, verdict.standing.word());
    y += 22.0;
    for finding in &verdict.findings {
        for line in font.wrap(&format!("{} ({})", finding.what, finding.how), 9.5, width) {
            sheet.text([MARGIN, y], 9.5, &line);
            y += 13.0;
        }
    }
    for advice in &verdict.advice {
        for line in font.wrap(&format!("→ {advice}"), 9.5, width) {
            sheet.text([MARGIN, y], 9.5, &line);
            y += 13.0;
        }
    }
    y += 14.0;
    match &verdict.reading {
        HealthReading::Ata(ata) => {
            let right = SHEET_WIDTH - MARGIN;
            sheet.dim([MARGIN, y], 8.5, "attribute");
            sheet.dim([right - BAR - 120.0, y], 8.5, "raw");
            sheet.dim([right - BAR, y], 8.5, "value (bar), threshold (line)");
            for attribute in &ata.attributes {
                y += 15.0;
                sheet.text([MARGIN, y], 9.0, &format!("{:>3}  {}", attribute.id, attribute_word(attribute.id)));
                sheet.put_text([right - BAR - 20.0, y], 9.0, Tone::BLACK, Anchor::End, &attribute.raw.to_string());
                let level = |value: u8| BAR * f64::from(value.min(200)) / 200.0;
                let tone = if attribute.has_failed() { Tone::BLACK } else { Tone(70) };
                sheet.rect([right - BAR, y - 8.0, level(attribute.value), 9.0], Some(tone), None);
                sheet.rect([right - BAR, y - 8.0, BAR, 9.0], None, Some(0.5));
                if let Some(threshold) = attribute.threshold.filter(|threshold| *threshold > 0) {
                    let x = right - BAR + level(threshold);
                    sheet.line([x, y - 10.0, x, y + 3.0], Tone::BLACK, 1.2);
                }
            }
        }
        HealthReading::Nvme(nvme) => {
            let rows = [
                ("Available Spare", format!("{} %, threshold {} %", nvme.available_spare, nvme.available_spare_threshold)),
                ("Percentage Used", format!("{} %", nvme.percentage_used)),
                ("Power On Hours", nvme.power_on_hours.to_string()),
                ("Power Cycles", nvme.power_cycles.to_string()),
                ("Unsafe Shutdowns", nvme.unsafe_shutdowns.to_string()),
                ("Media and Data Integrity Errors", nvme.media_errors.to_string()),
                ("Error Information Log Entries", nvme.error_log_entries.to_string()),
                ("Composite Temperature", nvme.celsius.map_or_else(|| "not told".into(), |celsius| format!("{celsius} °C"))),
            ];
            put_rows(&mut sheet, y, &rows);
        }
        HealthReading::Scsi(scsi) => {
            let celsius = |told: Option<i64>| told.map_or_else(|| "not told".into(), |celsius| format!("{celsius} °C"));
            let counters = |counters: Option<ErrorCounters>| {
                counters.map_or_else(
                    || "not told".into(),
                    |counters| format!("{} corrected, {} not", counters.corrected, counters.uncorrected),
                )
            };
            let rows = [
                ("Read Error Counters", counters(scsi.read)),
                ("Write Error Counters", counters(scsi.write)),
                ("Verify Error Counters", counters(scsi.verify)),
                ("Non-Medium Errors", scsi.non_medium.map_or_else(|| "not told".into(), |count| count.to_string())),
                ("Temperature", celsius(scsi.celsius)),
                ("Reference Temperature", celsius(scsi.reference_celsius)),
            ];
            put_rows(&mut sheet, y, &rows);
        }
    }
    Ok(sheet)
}

/// Names and values, a line each from `y` on.
fn put_rows(sheet: &mut Drawing, y: f64, rows: &[(&str, String)]) {
    for (index, (name, value)) in rows.iter().enumerate() {
        let y = y + 16.0 * index as f64;
        sheet.text([MARGIN, y], 9.5, name);
        sheet.text([MARGIN + 240.0, y], 9.5, value);
    }
}
