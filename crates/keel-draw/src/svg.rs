//! A sheet as SVG.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use svg::Document;
use svg::node::element::{Image, Line, Rectangle, Text};

use crate::canvas::{Anchor, Drawing, Shape, Thumb, Tone};

fn grey(tone: Tone) -> String {
    let value = (u32::from(tone.0.min(100)) * 255 / 100) as u8;
    format!("#{value:02x}{value:02x}{value:02x}")
}

/// The sheet as an SVG document.
#[must_use]
pub fn svg(drawing: &Drawing) -> String {
    let mut document = Document::new()
        .set("viewBox", (0, 0, drawing.width, drawing.height))
        .set("width", format!("{}pt", drawing.width))
        .set("height", format!("{}pt", drawing.height))
        .set("font-family", "DejaVu Sans, sans-serif");
    let paper = Rectangle::new().set("x", 0).set("y", 0).set("width", drawing.width).set("height", drawing.height);
    document = document.add(paper.set("fill", "#ffffff"));
    for shape in &drawing.shapes {
        document = match shape {
            Shape::Rect { frame: [x, y, width, height], fill, outline } => {
                let rect = Rectangle::new().set("x", *x).set("y", *y).set("width", *width).set("height", *height);
                let rect = rect.set("fill", fill.map_or("none".into(), grey));
                document.add(match outline {
                    Some(thick) => rect.set("stroke", "#000000").set("stroke-width", *thick),
                    None => rect,
                })
            }
            Shape::Patch { frame: [x, y, width, height], colour: [red, green, blue] } => {
                let rect = Rectangle::new().set("x", *x).set("y", *y).set("width", *width).set("height", *height);
                document.add(rect.set("fill", format!("#{red:02x}{green:02x}{blue:02x}")))
            }
            Shape::Picture { frame: [x, y, width, height], thumb } => {
                let image = Image::new().set("x", *x).set("y", *y).set("width", *width).set("height", *height);
                document.add(image.set("href", embedded(thumb)))
            }
            Shape::Line { points: [x1, y1, x2, y2], tone, width, dash } => {
                let line = Line::new().set("x1", *x1).set("y1", *y1).set("x2", *x2).set("y2", *y2);
                let line = line.set("stroke", grey(*tone)).set("stroke-width", *width);
                document.add(match dash {
                    Some([on, off]) => line.set("stroke-dasharray", format!("{on} {off}")),
                    None => line,
                })
            }
            Shape::Text { at: [x, y], size, tone, anchor, text } => {
                let text = Text::new(text.clone()).set("x", *x).set("y", *y).set("font-size", *size).set("fill", grey(*tone));
                document.add(match anchor {
                    Anchor::Start => text,
                    Anchor::End => text.set("text-anchor", "end"),
                })
            }
        };
    }
    document.to_string()
}

/// A picture as an address that holds it.
pub(crate) fn embedded(thumb: &Thumb) -> String {
    format!("data:image/jpeg;base64,{}", STANDARD.encode(&thumb.jpeg))
}
