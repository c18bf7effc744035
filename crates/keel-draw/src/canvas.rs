//! A sheet with shapes.

use keel_source::printable;

use crate::Head;

/// Width of a sheet in points: A4.
pub(crate) const SHEET_WIDTH: f64 = 595.0;
/// Height of a sheet in points: A4.
pub(crate) const SHEET_HEIGHT: f64 = 842.0;
/// Margin left and right.
pub(crate) const MARGIN: f64 = 42.0;
/// Where a drawing begins below its head.
pub(crate) const BELOW_HEAD: f64 = 110.0;

/// Distance of the lines of a hatch, along its edge, and the most of them.
const HATCH_STEP: f64 = 6.0;
const MOST_HATCHED: usize = 400;

/// A grey, from 0 (black) to 100 (white).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Tone(pub u8);

impl Tone {
    pub(crate) const BLACK: Self = Self(0);
    pub(crate) const DIM: Self = Self(40);
    pub(crate) const RULE: Self = Self(75);
    pub(crate) const PALE: Self = Self(92);
}

/// Which end of a text stands at its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Anchor {
    /// Its left end.
    Start,
    /// Its right end.
    End,
}

/// A colour with a texture of its own: a print in grey loses nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Texture {
    /// Plain: what holds.
    Plain,
    /// Hatched in one direction: what holds in part.
    Hatched,
    /// Hatched in both: what is lost.
    Crossed,
}

impl Texture {
    /// Red, green and blue.
    #[must_use]
    pub fn colour(self) -> [u8; 3] {
        match self {
            Self::Plain => [0xF2, 0xCF, 0x63],
            Self::Hatched => [0xB9, 0xD3, 0xDC],
            Self::Crossed => [0xDD, 0xA3, 0x94],
        }
    }
}

/// A small picture: a JPEG file with its width and height in pixels.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Thumb {
    /// The file.
    pub jpeg: Vec<u8>,
    /// Width and height.
    pub pixels: (u32, u32),
}

/// A shape; lengths in points, the origin at the top left.
#[derive(Debug, Clone, PartialEq)]
pub enum Shape {
    /// A rectangle.
    Rect {
        /// Left, top, width, height.
        frame: [f64; 4],
        /// Filled with this.
        fill: Option<Tone>,
        /// Outlined in black, so thick.
        outline: Option<f64>,
    },
    /// A rectangle in colour; its texture is lines over it.
    Patch {
        /// Left, top, width, height.
        frame: [f64; 4],
        /// Red, green and blue.
        colour: [u8; 3],
    },
    /// A picture.
    Picture {
        /// Left, top, width, height.
        frame: [f64; 4],
        /// The picture.
        thumb: Thumb,
    },
    /// A straight line.
    Line {
        /// From x, y to x, y.
        points: [f64; 4],
        /// Its grey.
        tone: Tone,
        /// Its thickness.
        width: f64,
        /// Lengths of dash and gap; none for a whole line.
        dash: Option<[f64; 2]>,
    },
    /// A text on one line.
    Text {
        /// Place of its base line.
        at: [f64; 2],
        /// Height of the font.
        size: f64,
        /// Its grey.
        tone: Tone,
        /// Which end stands at the place.
        anchor: Anchor,
        /// The text.
        text: String,
    },
}

/// A sheet.
#[derive(Debug, Clone, PartialEq)]
pub struct Drawing {
    /// Width in points.
    pub width: f64,
    /// Height in points.
    pub height: f64,
    /// The shapes, the first ones below.
    pub shapes: Vec<Shape>,
}

impl Drawing {
    /// An A4 sheet with its head.
    pub(crate) fn sheet(head: &Head, what: &str) -> Self {
        let mut sheet = Self { width: SHEET_WIDTH, height: SHEET_HEIGHT, shapes: Vec::new() };
        // The keel at the head of every sheet: a stem with three ribs.
        sheet.line([MARGIN, 36.0, MARGIN, 82.0], Tone::BLACK, 3.0);
        for (index, length) in [26.0, 20.0, 12.0].into_iter().enumerate() {
            let y = 42.0 + 14.0 * index as f64;
            sheet.line([MARGIN, y, MARGIN + length, y], Tone::BLACK, 1.6);
        }
        sheet.text([MARGIN + 38.0, 50.0], 17.0, &head.title);
        sheet.dim([MARGIN + 38.0, 66.0], 7.5, &head.identity);
        sheet.dim([MARGIN + 38.0, 80.0], 9.5, what);
        sheet.put_text([SHEET_WIDTH - MARGIN, 50.0], 9.5, Tone::DIM, Anchor::End, &head.date);
        sheet.put_text([SHEET_WIDTH - MARGIN, 80.0], 9.5, Tone::DIM, Anchor::End, "Yellow Keel");
        sheet.line([MARGIN, 92.0, SHEET_WIDTH - MARGIN, 92.0], Tone::RULE, 0.8);
        sheet
    }

    pub(crate) fn text(&mut self, at: [f64; 2], size: f64, text: &str) {
        self.put_text(at, size, Tone::BLACK, Anchor::Start, text);
    }

    pub(crate) fn dim(&mut self, at: [f64; 2], size: f64, text: &str) {
        self.put_text(at, size, Tone::DIM, Anchor::Start, text);
    }

    pub(crate) fn put_text(&mut self, at: [f64; 2], size: f64, tone: Tone, anchor: Anchor, text: &str) {
        let text = printable(text);
        if !text.is_empty() {
            self.shapes.push(Shape::Text { at, size, tone, anchor, text });
        }
    }

    pub(crate) fn line(&mut self, points: [f64; 4], tone: Tone, width: f64) {
        self.shapes.push(Shape::Line { points, tone, width, dash: None });
    }

    pub(crate) fn dashed(&mut self, points: [f64; 4], tone: Tone, width: f64) {
        self.shapes.push(Shape::Line { points, tone, width, dash: Some([3.0, 2.5]) });
    }

    pub(crate) fn rect(&mut self, frame: [f64; 4], fill: Option<Tone>, outline: Option<f64>) {
        self.shapes.push(Shape::Rect { frame, fill, outline });
    }

    pub(crate) fn picture(&mut self, frame: [f64; 4], thumb: Thumb) {
        self.shapes.push(Shape::Picture { frame, thumb });
    }

    /// A rectangle in a texture, outlined.
    pub(crate) fn textured(&mut self, frame: [f64; 4], texture: Texture) {
        let [left, top, width, height] = frame;
        self.shapes.push(Shape::Patch { frame, colour: texture.colour() });
        if texture != Texture::Plain {
            self.hatch(frame, false);
        }
        if texture == Texture::Crossed {
            self.hatch(frame, true);
        }
        self.rect([left, top, width, height], None, Some(0.7));
    }

    /// Slanting lines over a rectangle, `down` to the right or up.
    fn hatch(&mut self, [left, top, width, height]: [f64; 4], down: bool) {
        let steps = ((width + height) / HATCH_STEP) as usize;
        for step in 1..=steps.min(MOST_HATCHED) {
            let reach = HATCH_STEP * step as f64;
            // From the left or lower edge to the upper or right one, as lengths along both.
            let (from_x, from_y) = ((reach - height).max(0.0), reach.min(height));
            let (to_x, to_y) = (reach.min(width), (reach - width).max(0.0));
            let flip = |y: f64| if down { top + height - y } else { top + y };
            self.line([left + from_x, flip(from_y), left + to_x, flip(to_y)], Tone::DIM, 0.5);
        }
    }

    /// A cross: something that does not read.
    pub(crate) fn cross(&mut self, x: f64, y: f64, reach: f64) {
        self.line([x - reach, y - reach, x + reach, y + reach], Tone::BLACK, 1.1);
        self.line([x - reach, y + reach, x + reach, y - reach], Tone::BLACK, 1.1);
    }
}
