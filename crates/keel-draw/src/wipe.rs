//! The certificate of a wipe: what was written over, how, what was read back, and what overwriting does not reach.

use keel_core::wipe::{BEYOND, Wiped, troubles};
use keel_source::{ByteRange, counted, size_decimal};

use crate::Head;
use crate::canvas::{Anchor, BELOW_HEAD, Drawing, MARGIN, SHEET_HEIGHT, SHEET_WIDTH, Tone};
use crate::font::{Font, FontError};

/// Width of what is written.
const WIDTH: f64 = SHEET_WIDTH - 2.0 * MARGIN;
/// Where values begin behind their names.
const VALUES: f64 = 104.0;
/// Height of the plot of speed.
const PACE_HEIGHT: f64 = 60.0;
/// Height of the drive's strip.
const STRIP: f64 = 16.0;
/// The most places that are listed.
const MOST_LISTED: usize = 40;
/// Lowest line of a sheet.
const FOOT: f64 = SHEET_HEIGHT - 40.0;

/// The certificate, as many sheets as it takes. `who` is the case and the technician, where there is a case.
///
/// # Errors
/// [`FontError`] when the carried font does not read.
pub fn certificate(head: &Head, who: &str, wiped: &Wiped) -> Result<Vec<Drawing>, FontError> {
    let mut page = Page::begin(head)?;
    page.line(14.0, if wiped.is_whole() { "Overwritten" } else { "Not overwritten as a whole" });
    page.line(10.5, &wiped.line());
    page.gap(6.0);
    let pieces = counted(wiped.pieces, "piece", "pieces");
    let ground = match wiped.ground.first() {
        Some(range) if wiped.pieces == 1 && range.len() == wiped.drive_bytes => format!("the whole drive, {} bytes", wiped.bytes),
        Some(range) if wiped.pieces == 1 => format!("bytes {} to {}, {} bytes", range.start.0, range.end.0, wiped.bytes),
        _ => format!("{pieces} of the drive, {} bytes together", wiped.bytes),
    };
    let took = format!("{:.1} s", wiped.took_ms as f64 / 1000.0);
    page.row("drive", &format!("{} bytes; {}", wiped.drive_bytes, wiped.drive));
    page.row("ground", &ground);
    page.row("method", &wiped.method());
    page.row("read back", &format!("{}; {}", wiped.verify.word(), wiped.verified_line()));
    page.row("begun", &readable(&wiped.begun));
    page.row("ended", &format!("{}; the work took {took}", readable(&wiped.ended)));
    if !who.is_empty() {
        page.row("case", who);
    }
    for trouble in troubles(wiped) {
        page.row("failed", &trouble);
    }
    page.gap(10.0);
    strip(&mut page, wiped);
    pace(&mut page, wiped);
    if !wiped.samples.is_empty() {
        page.line(10.5, "What stands at some places now (SHA-256)");
        for sample in &wiped.samples {
            page.line(7.5, &format!("byte {}, {} bytes  {}", sample.at, sample.bytes, sample.sha256));
        }
        page.gap(8.0);
    }
    let lists = [
        ("took no write", &wiped.unwritable),
        ("did not read back", &wiped.unreadable),
        ("read back otherwise than it was written", &wiped.other),
    ];
    for (what, places) in lists {
        for place in places.iter().take(MOST_LISTED) {
            page.line(9.0, &format!("bytes {} to {} {what}", place.start.0, place.end.0));
        }
        if places.len() > MOST_LISTED {
            page.line(9.0, &format!("and {} more places {what}", places.len() - MOST_LISTED));
        }
    }
    page.gap(8.0);
    page.line(9.5, BEYOND);
    if wiped.zeroed_by_device > 0 {
        let bytes = size_decimal(wiped.zeroed_by_device);
        page.line(
            9.5,
            &format!("{bytes} of this are the drive's own word: it was asked to make them read zeros, and was not written to."),
        );
    }
    Ok(page.end())
}

/// A time as people write it.
fn readable(stamp: &str) -> String {
    stamp.replace('T', " ").replace('Z', " UTC")
}

/// Sheets that are filled from top to bottom.
struct Page<'a> {
    head: &'a Head,
    font: Font,
    sheets: Vec<Drawing>,
    sheet: Drawing,
    y: f64,
}

impl<'a> Page<'a> {
    fn begin(head: &'a Head) -> Result<Self, FontError> {
        Ok(Self { head, font: Font::load()?, sheets: Vec::new(), sheet: new_sheet(head), y: BELOW_HEAD + 12.0 })
    }

    /// Begins another sheet where `height` does not fit on this one.
    fn room(&mut self, height: f64) {
        if self.y + height > FOOT {
            let full = std::mem::replace(&mut self.sheet, new_sheet(self.head));
            self.sheets.push(full);
            self.y = BELOW_HEAD + 12.0;
        }
    }

    fn gap(&mut self, height: f64) {
        self.y += height;
    }

    fn line(&mut self, size: f64, text: &str) {
        for line in self.font.wrap(text, size, WIDTH) {
            self.room(size * 1.45);
            self.sheet.text([MARGIN, self.y], size, &line);
            self.y += size * 1.45;
        }
    }

    fn row(&mut self, name: &str, value: &str) {
        let lines = self.font.wrap(value, 9.5, WIDTH - VALUES);
        for (index, line) in lines.iter().enumerate() {
            self.room(13.8);
            if index == 0 {
                self.sheet.dim([MARGIN, self.y], 9.5, name);
            }
            self.sheet.text([MARGIN + VALUES, self.y], 9.5, line);
            self.y += 13.8;
        }
    }

    fn end(mut self) -> Vec<Drawing> {
        self.sheets.push(self.sheet);
        self.sheets
    }
}

fn new_sheet(head: &Head) -> Drawing {
    Drawing::sheet(head, "Certificate of overwriting")
}

/// The drive from its first byte to its last: what was written over is grey, what failed is black.
fn strip(page: &mut Page<'_>, wiped: &Wiped) {
    page.room(STRIP + 34.0);
    let place = |at: u64| MARGIN + WIDTH * at as f64 / wiped.drive_bytes.max(1) as f64;
    let top = page.y;
    let drawn = |range: &ByteRange| (place(range.start.0), (place(range.end.0) - place(range.start.0)).max(0.6));
    for range in &wiped.ground {
        let (x, width) = drawn(range);
        page.sheet.rect([x, top, width, STRIP], Some(Tone(78)), None);
    }
    for range in wiped.unwritable.iter().chain(&wiped.unreadable).chain(&wiped.other) {
        let (x, width) = drawn(range);
        page.sheet.rect([x, top - 3.0, width.max(1.2), STRIP + 6.0], Some(Tone::BLACK), None);
    }
    page.sheet.rect([MARGIN, top, WIDTH, STRIP], None, Some(0.5));
    page.sheet.dim(
        [MARGIN, top + STRIP + 14.0],
        8.0,
        "the drive from its first byte to its last: grey written over, black failed, white left alone",
    );
    page.y += STRIP + 34.0;
}

/// Speed over the ground, while it was written.
fn pace(page: &mut Page<'_>, wiped: &Wiped) {
    let most = wiped.pace.iter().map(|pace| pace.rate()).max().unwrap_or(0);
    if most == 0 {
        return;
    }
    page.room(PACE_HEIGHT + 34.0);
    let mut pace = wiped.pace.clone();
    pace.sort_by_key(|pace| pace.at);
    let (top, foot, width) = (page.y, page.y + PACE_HEIGHT, WIDTH / pace.len() as f64);
    for (index, pace) in pace.iter().enumerate() {
        let height = PACE_HEIGHT * pace.rate() as f64 / most as f64;
        page.sheet.rect([MARGIN + width * index as f64, foot - height, (width - 0.2).max(0.4), height], Some(Tone(75)), None);
    }
    page.sheet.line([MARGIN, foot, MARGIN + WIDTH, foot], Tone::BLACK, 0.5);
    page.sheet.put_text([MARGIN + WIDTH, top - 2.0], 8.0, Tone::DIM, Anchor::End, &format!("at most {}/s", size_decimal(most)));
    page.sheet.dim([MARGIN, foot + 12.0], 8.0, "speed over the ground, while it was written");
    page.y += PACE_HEIGHT + 34.0;
}
