//! Drawings from the core's plain data. Deterministic: the same data gives the same text.
#![forbid(unsafe_code)]

use keel_source::{ByteRange, printable, size_decimal};
use svg::Document;
use svg::node::element::{Group, Line, Rectangle, Text};

/// One lane of the keel: blocks with a name each.
pub struct Lane {
    /// `now`, `found`, `plan`.
    pub name: &'static str,
    /// Ground and name of each block.
    pub blocks: Vec<(ByteRange, String)>,
}

/// A drive as the keel shows it.
pub struct KeelDrawing {
    /// Title: name and size.
    pub title: String,
    /// Serial number, or empty.
    pub identity: String,
    /// Length of the drive in bytes.
    pub bytes: u64,
    /// The lanes, left to right.
    pub lanes: Vec<Lane>,
    /// Places that cannot be read.
    pub bad: Vec<ByteRange>,
}

/// Height of the keel, in drawing units.
const HEIGHT: f64 = 900.0;
/// Where the keel begins.
const TOP: f64 = 110.0;
/// Width of a lane.
const LANE: f64 = 220.0;
/// Left edge of the first lane; the scale stands before it.
const LEFT: f64 = 110.0;
/// Blocks are never thinner than this, so that a small one is seen.
const LEAST: f64 = 14.0;

/// The keel as an SVG document, legible printed in grey.
#[must_use]
pub fn svg(drawing: &KeelDrawing) -> String {
    let place = |at: u64| TOP + HEIGHT * (at as f64) / (drawing.bytes.max(1) as f64);
    let width = LEFT + LANE * drawing.lanes.len() as f64 + 40.0;
    let mut document = Document::new().set("viewBox", (0, 0, width, TOP + HEIGHT + 60.0)).set("font-family", "sans-serif");
    document = document.add(text(&drawing.title, 24.0, 44.0, 22.0)).add(text(&drawing.identity, 24.0, 70.0, 14.0));
    for step in 0..=8u64 {
        let at = drawing.bytes / 8 * step;
        let y = place(at);
        let rule = Line::new().set("x1", LEFT - 8.0).set("x2", width - 40.0).set("y1", y).set("y2", y).set("stroke", "#bbbbbb");
        document = document.add(rule).add(text(&size_decimal(at), 24.0, y + 5.0, 13.0));
    }
    for (index, lane) in drawing.lanes.iter().enumerate() {
        let left = LEFT + LANE * index as f64;
        let mut group = Group::new().add(text(lane.name, left + 10.0, TOP - 14.0, 15.0));
        for (range, name) in &lane.blocks {
            let (from, to) = (place(range.start.0), place(range.end.0.min(drawing.bytes)));
            let height = (to - from).max(LEAST);
            let block = Rectangle::new().set("x", left + 10.0).set("y", from).set("width", LANE - 30.0).set("height", height);
            group = group.add(block.set("fill", "#eeeeee").set("stroke", "#222222").set("stroke-width", 1.5)).add(text(
                name,
                left + 18.0,
                from + 12.0,
                12.0,
            ));
        }
        document = document.add(group);
    }
    for range in &drawing.bad {
        let y = place(range.start.0);
        let mark = Line::new().set("x1", LEFT).set("x2", width - 40.0).set("y1", y).set("y2", y);
        document = document.add(mark.set("stroke", "#000000").set("stroke-width", 3).set("stroke-dasharray", "2 3"));
    }
    document.to_string()
}

fn text(content: &str, x: f64, y: f64, size: f64) -> Text {
    Text::new(printable(content)).set("x", x).set("y", y).set("font-size", size)
}

#[cfg(test)]
mod tests {
    use keel_source::ByteOffset;

    use super::*;

    #[test]
    fn a_drawing_names_its_blocks_and_escapes_what_a_drive_says() {
        let blocks = vec![(ByteRange::sized(ByteOffset(1 << 20), 1 << 30), "NTFS <b>\u{1b}".to_string())];
        let drawing = KeelDrawing {
            title: "purser, 15.9 GB".into(),
            identity: "BL-0417".into(),
            bytes: 15_931_539_456,
            lanes: vec![Lane { name: "found", blocks }],
            bad: vec![ByteRange::sized(ByteOffset(0), 512)],
        };
        let text = svg(&drawing);
        assert!(text.contains("NTFS &lt;b&gt;␛") && text.contains("BL-0417") && text.contains("stroke-dasharray"));
        assert_eq!(text, svg(&drawing));
    }
}
