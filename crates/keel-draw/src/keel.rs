//! The keel: the whole drive from its first sector to its last, in lanes.

use keel_source::ByteRange;

use crate::Head;
use crate::canvas::{Anchor, BELOW_HEAD, Drawing, MARGIN, SHEET_HEIGHT, SHEET_WIDTH, Tone};
use crate::phrases::Phrases;

/// One lane of the keel: blocks with a name each.
#[derive(Debug, Clone)]
pub struct Lane {
    /// What it shows, in a word or two.
    pub name: String,
    /// Ground and name of each block.
    pub blocks: Vec<(ByteRange, String)>,
}

/// A drive as the keel shows it.
#[derive(Debug, Clone)]
pub struct KeelDrawing {
    /// Length of the drive in bytes.
    pub bytes: u64,
    /// Bytes that it really stores, where it was shown to be less.
    pub stored: Option<u64>,
    /// The lanes, left to right.
    pub lanes: Vec<Lane>,
    /// Places that cannot be read.
    pub bad: Vec<ByteRange>,
}

/// Where the lanes begin: the scale stands before them.
const LEFT: f64 = MARGIN + 58.0;
/// Room for a lane's name.
const NAMES: f64 = 18.0;
/// Blocks are never thinner than this, so that a small one is seen.
const LEAST: f64 = 11.0;
/// Text that is set into a block at most, in signs.
const MOST_SIGNS: usize = 26;

/// The keel as a sheet, in the words of `phrases`.
#[must_use]
pub fn keel(head: &Head, drawing: &KeelDrawing, phrases: &Phrases) -> Drawing {
    let mut sheet = Drawing::sheet(head, phrases.get("sheet_keel"));
    let top = BELOW_HEAD + NAMES;
    let height = SHEET_HEIGHT - top - MARGIN - 20.0;
    let right = SHEET_WIDTH - MARGIN;
    let place = |at: u64| top + height * (at as f64) / (drawing.bytes.max(1) as f64);
    let lane_width = (right - LEFT) / drawing.lanes.len().max(1) as f64;
    for step in 0..=8u64 {
        let at = drawing.bytes / 8 * step;
        sheet.line([LEFT - 6.0, place(at), right, place(at)], Tone::RULE, 0.6);
        sheet.put_text([LEFT - 10.0, place(at) + 3.0], 8.5, Tone::DIM, Anchor::End, &phrases.size(at));
    }
    for (index, lane) in drawing.lanes.iter().enumerate() {
        let left = LEFT + lane_width * index as f64;
        sheet.text([left + 6.0, top - 7.0], 10.0, &lane.name);
        for (range, name) in &lane.blocks {
            let (from, to) = (place(range.start.0.min(drawing.bytes)), place(range.end.0.min(drawing.bytes)));
            let tall = (to - from).max(LEAST);
            sheet.rect([left + 5.0, from, lane_width - 12.0, tall], Some(Tone::PALE), Some(1.0));
            let name: String = name.chars().take(MOST_SIGNS).collect();
            sheet.text([left + 10.0, from + 9.0], 8.0, &name);
        }
    }
    if let Some(stored) = drawing.stored.filter(|stored| *stored < drawing.bytes) {
        let y = place(stored);
        sheet.dashed([LEFT - 6.0, y, right, y], Tone::BLACK, 2.0);
        let end = phrases.say("keel_end", &[("size", &phrases.size(stored)), ("bytes", &stored.to_string())]);
        sheet.text([LEFT + 4.0, y + 11.0], 8.5, &end);
    }
    for range in &drawing.bad {
        sheet.cross(LEFT - 3.0, place(range.start.0), 2.6);
    }
    if !drawing.bad.is_empty() {
        let words = phrases.say("keel_bad", &[("count", &drawing.bad.len().to_string())]);
        sheet.dim([LEFT, SHEET_HEIGHT - MARGIN], 8.5, &words);
    }
    sheet
}
