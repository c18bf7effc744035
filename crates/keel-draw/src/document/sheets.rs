//! A document on sheets for print.

use keel_source::printable;

use super::{Document, Part, TEXTURES};
use crate::Head;
use crate::canvas::{Anchor, BELOW_HEAD, Drawing, MARGIN, SHEET_HEIGHT, SHEET_WIDTH, Texture, Thumb, Tone};
use crate::font::{Font, FontError};

const WIDTH: f64 = SHEET_WIDTH - 2.0 * MARGIN;
/// Where the numbers of a sheet stand: nothing is set below.
const FOOT: f64 = SHEET_HEIGHT - MARGIN;
/// Height of a line, as a multiple of its font's.
const LEAD: f64 = 1.42;
/// Width of the names before bars.
const NAMES: f64 = 165.0;
/// Width of the numbers behind them.
const NUMBERS: f64 = 90.0;
/// Pictures in a row, and height of the room for one.
const IN_A_ROW: usize = 4;
const PICTURE_HEIGHT: f64 = 84.0;
/// How much smaller parts are set that have to stay on one sheet, in order of trying.
const SMALLER: [f64; 5] = [1.0, 0.92, 0.84, 0.76, 0.68];

/// The sheets of a document.
///
/// # Errors
/// [`FontError`] when the carried font does not read.
pub fn sheets(document: &Document) -> Result<Vec<Drawing>, FontError> {
    let font = Font::load()?;
    let mut flow = Flow { head: &document.head, font: &font, what: "", sheets: Vec::new(), y: 0.0, scale: 1.0 };
    document.parts.iter().for_each(|part| flow.set(part));
    let mut sheets = flow.sheets;
    let count = sheets.len();
    for (index, sheet) in sheets.iter_mut().enumerate() {
        let at = [SHEET_WIDTH - MARGIN, SHEET_HEIGHT - 20.0];
        sheet.put_text(at, 8.0, Tone::DIM, Anchor::End, &format!("{} / {count}", index + 1));
    }
    Ok(sheets)
}

/// What flows over as many sheets as it takes.
struct Flow<'a> {
    head: &'a Head,
    font: &'a Font,
    what: &'a str,
    sheets: Vec<Drawing>,
    y: f64,
    scale: f64,
}

impl<'a> Flow<'a> {
    fn set(&mut self, part: &'a Part) {
        match part {
            Part::Sheet(what) => {
                self.what = what;
                self.turn();
            }
            Part::OnePage(parts) => self.one_page(parts),
            Part::Title(text) => self.say(MARGIN, 15.0, Tone::BLACK, text),
            Part::Heading(text) => {
                self.room(50.0 * self.scale);
                self.y += 7.0 * self.scale;
                self.say(MARGIN, 11.5, Tone::BLACK, text);
                self.y += 1.0;
            }
            Part::Text(text) => self.say(MARGIN, 10.0, Tone::BLACK, text),
            Part::Point(text) => self.point(text),
            Part::Fine(depth, text) => self.say(MARGIN + 16.0 * *depth as f64, 8.5, Tone::DIM, text),
            Part::Gap => self.y += 8.0 * self.scale,
            Part::Table { heads, rows } => self.table(heads, rows),
            Part::Bars { legend, rows } => self.bars(legend, rows),
            Part::Tree(rows) => rows.iter().for_each(|(depth, name, holds)| self.branch(*depth, name, holds)),
            Part::Pictures(pictures) => pictures.chunks(IN_A_ROW).for_each(|row| self.pictures(row)),
            // The next part begins a sheet of its own.
            Part::Drawing(drawing) => {
                self.sheets.push(drawing.clone());
                self.y = FOOT;
            }
        }
    }

    /// Sets parts on the sheet that was just begun, as small as they have to be for it.
    fn one_page(&mut self, parts: &'a [Part]) {
        let (count, y) = (self.sheets.len(), self.y);
        let begun = self.sheets.last().cloned();
        for scale in SMALLER {
            self.scale = scale;
            parts.iter().for_each(|part| self.set(part));
            if self.sheets.len() <= count.max(1) || SMALLER.last() == Some(&scale) {
                break;
            }
            self.sheets.truncate(count.saturating_sub(1));
            self.sheets.extend(begun.clone());
            self.y = y;
        }
        self.scale = 1.0;
    }

    fn turn(&mut self) {
        self.sheets.push(Drawing::sheet(self.head, self.what));
        self.y = BELOW_HEAD + 6.0;
    }

    /// Turns the page where less than `height` is left.
    fn room(&mut self, height: f64) {
        if self.sheets.is_empty() || self.y + height > FOOT {
            self.turn();
        }
    }

    fn text(&mut self, at: [f64; 2], size: f64, tone: Tone, anchor: Anchor, text: &str) {
        if let Some(sheet) = self.sheets.last_mut() {
            sheet.put_text(at, size, tone, anchor, text);
        }
    }

    fn say(&mut self, left: f64, size: f64, tone: Tone, text: &str) {
        let size = size * self.scale;
        for line in self.font.wrap(&printable(text), size, SHEET_WIDTH - MARGIN - left) {
            self.room(size * LEAD);
            self.text([left, self.y + size * 0.3], size, tone, Anchor::Start, &line);
            self.y += size * LEAD;
        }
    }

    fn point(&mut self, text: &str) {
        let size = 10.0 * self.scale;
        self.room(size * LEAD);
        self.text([MARGIN + 3.0, self.y + size * 0.3], size, Tone::BLACK, Anchor::Start, "–");
        self.say(MARGIN + 16.0, 10.0, Tone::BLACK, text);
        self.y += 1.5;
    }

    fn table(&mut self, heads: &[String], rows: &[Vec<String>]) {
        let wide = (WIDTH - 150.0) / heads.len().saturating_sub(1).max(1) as f64;
        let edge = |column: usize| MARGIN + 150.0 + wide * column as f64;
        let heading = rows.len().min(3) as f64;
        self.room((heading + 1.0) * 14.0);
        let line = |flow: &mut Self, row: &[String], tone: Tone| {
            flow.room(14.0);
            for (column, cell) in row.iter().enumerate() {
                let (at, anchor) = if column == 0 { (MARGIN, Anchor::Start) } else { (edge(column), Anchor::End) };
                let cell = flow.fitted(&printable(cell), 9.5, if column == 0 { 150.0 } else { wide });
                flow.text([at, flow.y + 3.0], 9.5, tone, anchor, &cell);
            }
            flow.y += 14.0;
        };
        line(self, heads, Tone::DIM);
        if let Some(sheet) = self.sheets.last_mut() {
            sheet.line([MARGIN, self.y - 8.0, SHEET_WIDTH - MARGIN, self.y - 8.0], Tone::RULE, 0.6);
        }
        self.y += 2.0;
        rows.iter().for_each(|row| line(self, row, Tone::BLACK));
        self.y += 4.0;
    }

    /// As much of a text as has room.
    fn fitted(&self, text: &str, size: f64, width: f64) -> String {
        let mut text = text.to_string();
        let room = width - 6.0;
        if self.font.width(&text, size) <= room {
            return text;
        }
        while !text.is_empty() && self.font.width(&text, size) + self.font.width("…", size) > room {
            text.pop();
        }
        text + "…"
    }

    fn bars(&mut self, legend: &[(Texture, String)], rows: &[(String, [u64; 3])]) {
        let most = rows.iter().map(|(_, counts)| counts.iter().sum::<u64>()).max().unwrap_or(0).max(1);
        let room = WIDTH - NAMES - NUMBERS;
        for (name, counts) in rows {
            self.room(17.0);
            let y = self.y;
            let name = self.fitted(&printable(name), 9.5, NAMES);
            self.text([MARGIN, y + 3.0], 9.5, Tone::BLACK, Anchor::Start, &name);
            let mut left = MARGIN + NAMES;
            for (texture, count) in TEXTURES.into_iter().zip(counts).filter(|(_, count)| **count > 0) {
                // What is there is seen, however little it is.
                let wide = (room * *count as f64 / most as f64).max(3.0);
                if let Some(sheet) = self.sheets.last_mut() {
                    sheet.textured([left, y - 7.0, wide, 11.0], texture);
                }
                left += wide;
            }
            let said: Vec<String> = counts.iter().map(u64::to_string).collect();
            self.text([SHEET_WIDTH - MARGIN, y + 3.0], 9.5, Tone::BLACK, Anchor::End, &said.join(" · "));
            self.y += 17.0;
        }
        self.room(18.0);
        let mut left = MARGIN + NAMES;
        for (texture, meaning) in legend {
            let y = self.y;
            if let Some(sheet) = self.sheets.last_mut() {
                sheet.textured([left, y - 6.0, 16.0, 9.0], *texture);
            }
            self.text([left + 20.0, y + 2.0], 8.5, Tone::DIM, Anchor::Start, meaning);
            left += 34.0 + self.font.width(meaning, 8.5);
        }
        self.y += 16.0;
    }

    fn branch(&mut self, depth: usize, name: &str, holds: &str) {
        self.room(13.0);
        let left = MARGIN + 16.0 * depth as f64;
        let name = self.fitted(&printable(name), 9.5, WIDTH - 150.0 - 16.0 * depth as f64);
        self.text([left, self.y + 3.0], 9.5, Tone::BLACK, Anchor::Start, &name);
        self.text([SHEET_WIDTH - MARGIN, self.y + 3.0], 8.5, Tone::DIM, Anchor::End, holds);
        self.y += 13.0;
    }

    fn pictures(&mut self, row: &[(String, Thumb)]) {
        self.room(PICTURE_HEIGHT + 16.0);
        let wide = WIDTH / IN_A_ROW as f64;
        for (index, (name, thumb)) in row.iter().enumerate() {
            let (room, left) = ((wide - 8.0, PICTURE_HEIGHT), MARGIN + wide * index as f64);
            let (width, height) = (f64::from(thumb.pixels.0.max(1)), f64::from(thumb.pixels.1.max(1)));
            let scale = f64::min(room.0 / width, room.1 / height);
            let frame = [left, self.y + (room.1 - height * scale), width * scale, height * scale];
            if let Some(sheet) = self.sheets.last_mut() {
                sheet.picture(frame, thumb.clone());
            }
            let name = self.fitted(&printable(name), 7.5, wide - 8.0);
            self.text([left, self.y + PICTURE_HEIGHT + 9.0], 7.5, Tone::DIM, Anchor::Start, &name);
        }
        self.y += PICTURE_HEIGHT + 20.0;
    }
}
