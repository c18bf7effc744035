//! What is handed over, as parts in order: set as sheets for print, or as one page for a browser.

mod html;
mod sheets;

pub use html::html;
pub use sheets::sheets;

use crate::Head;
use crate::canvas::{Drawing, Texture, Thumb};

/// A document.
#[derive(Debug, Clone, PartialEq)]
pub struct Document {
    /// What stands at the top of each sheet.
    pub head: Head,
    /// Its language, as browsers know it (BCP 47).
    pub language: String,
    /// The parts.
    pub parts: Vec<Part>,
}

/// A part of a document.
#[derive(Debug, Clone, PartialEq)]
pub enum Part {
    /// A new sheet, with what it is about in its head.
    Sheet(String),
    /// Parts that stay on one sheet: set smaller where they are many.
    OnePage(Vec<Part>),
    /// What the whole comes to.
    Title(String),
    /// What follows.
    Heading(String),
    /// A paragraph.
    Text(String),
    /// A point of a list.
    Point(String),
    /// Something in small print, indented so many steps.
    Fine(usize, String),
    /// Room.
    Gap,
    /// Names of columns and rows; all but the first column hold numbers.
    Table {
        /// The columns.
        heads: Vec<String>,
        /// The rows.
        rows: Vec<Vec<String>>,
    },
    /// Rows of bars, as long as their three numbers: plain, hatched, crossed.
    Bars {
        /// What the textures mean.
        legend: Vec<(Texture, String)>,
        /// Name and numbers of each.
        rows: Vec<(String, [u64; 3])>,
    },
    /// Folders: depth, name, what they hold.
    Tree(Vec<(usize, String, String)>),
    /// Pictures with their names.
    Pictures(Vec<(String, Thumb)>),
    /// A drawing on a sheet of its own.
    Drawing(Drawing),
}

/// Textures in the order of the numbers of [`Part::Bars`].
pub(crate) const TEXTURES: [Texture; 3] = [Texture::Plain, Texture::Hatched, Texture::Crossed];

#[cfg(test)]
mod tests;
