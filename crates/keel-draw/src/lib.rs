//! Drawings and reports from the core's plain data, as SVG and PDF. Deterministic: the same data gives the same bytes; the date
//! is handed in.
//!
//! A drawing is a list of shapes on a sheet ([`Drawing`]); [`svg`] and [`pdf`] set it in either form. Everything is told by
//! shape and grey: a print without colours loses nothing.
#![forbid(unsafe_code)]

mod canvas;
mod capacity;
mod copy;
mod document;
mod font;
mod handover;
mod health;
mod keel;
mod pdf;
mod phrases;
mod picture;
mod reads;
mod report;
mod svg;
mod wipe;

pub use canvas::{Anchor, Drawing, Shape, Texture, Thumb, Tone};
pub use capacity::capacity;
pub use copy::copy;
pub use document::{Document, Part, html, sheets};
pub use font::FontError;
pub use handover::{Asked, Audience, HandoverError, Which, certify, hand_over};
pub use health::health;
pub use keel::{KeelDrawing, Lane, keel};
pub use pdf::pdf;
pub use phrases::{Phrases, PhrasesError};
pub use picture::{decode, thumb};
pub use reads::reads;
pub use report::{Report, report};
pub use svg::svg;
pub use wipe::certificate;

/// What stands at the top of every drawing.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Head {
    /// The drive: name and size.
    pub title: String,
    /// Model, serial, link.
    pub identity: String,
    /// When it was drawn.
    pub date: String,
}

#[cfg(test)]
mod tests;
