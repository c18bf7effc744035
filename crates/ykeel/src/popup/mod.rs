//! What may lie over a stage: each popup holds its text, its keys and what they do in one place. The frame around it is drawn by
//! [`frame`].

mod ask;
mod commands;
pub(crate) mod frame;
mod jobs;
mod leaving;
mod text;

use crossterm::event::KeyEvent;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

pub(crate) use ask::Ask;
pub(crate) use commands::Commands;
pub(crate) use jobs::Jobs;
pub(crate) use leaving::Leaving;
pub(crate) use text::Text;

use crate::app::{App, Effects};
use crate::keys::{self, Binding};

/// What a popup shows.
#[derive(Debug, Default)]
pub(crate) struct Content {
    /// Lines that always stand.
    pub(crate) head: Vec<String>,
    /// Rows below them, with how each is drawn.
    pub(crate) rows: Vec<(String, Tone)>,
    /// The selected row, which stays in sight.
    pub(crate) selected: Option<usize>,
    /// The first row shown, where none is selected.
    pub(crate) from: usize,
}

/// How a row is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Tone {
    Plain,
    Dim,
}

/// What becomes of a popup after a key.
pub(crate) enum Answer {
    /// It stays, and this is set off.
    Stay(Effects),
    /// It goes, and this is set off.
    Close(Effects),
}

/// A key of a popup of type `P`.
pub(crate) type PopupKey<P> = Binding<fn(&mut P, &App) -> Answer>;

/// A key of a popup: what it does to it, and its words.
pub(crate) const fn key<P>(keys: &'static str, does: fn(&mut P, &App) -> Answer, short: &'static str) -> PopupKey<P> {
    Binding { keys, does, short, long: short }
}

/// Where a popup stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Place {
    /// In the middle, as large as what it holds.
    Middle,
    /// Over the right side: the keel and the stage stay in sight, and the keel has a cursor.
    Side,
    /// Over nearly all of the terminal.
    Whole,
}

/// Something over the stage.
pub(crate) trait Popup: Send {
    fn title(&self, app: &App) -> String;

    /// Where it stands.
    fn place(&self) -> Place {
        Place::Middle
    }

    /// What it shows, in lines of at most `width` columns.
    fn content(&self, app: &App, width: usize) -> Content;

    /// Draws what is no list of lines; for one that stands over all of the terminal.
    fn paint(&self, _app: &App, _area: Rect, _buf: &mut Buffer) {}

    /// Its keys, with a word for each.
    fn keys(&self) -> Vec<(&'static str, &'static str)>;

    /// Takes a key. `esc` is not among them: it closes every popup.
    fn press(&mut self, key: KeyEvent, app: &App) -> Answer;

    /// Takes pasted text, where it takes text at all.
    fn paste(&mut self, _text: &str) {}
}

/// The words of a table of keys, each with the first of its keys; one that goes two ways stands for both.
pub(crate) fn words<P>(table: &[PopupKey<P>]) -> Vec<(&'static str, &'static str)> {
    let first = |keys: &'static str| match keys.split(' ').next().unwrap_or(keys) {
        "up" => "↑↓",
        "left" => "←→",
        "pageup" => "page ↑↓",
        key => key,
    };
    table.iter().filter(|binding| !binding.short.is_empty()).map(|binding| (first(binding.keys), binding.short)).collect()
}

/// What a key of `table` does to `popup`; none for a key that is not in it.
pub(crate) fn pressed<P>(popup: &mut P, table: &[PopupKey<P>], key: KeyEvent, app: &App) -> Option<Answer> {
    keys::find(table.iter(), key).map(|binding| (binding.does)(popup, app))
}

/// The selection of a list after a step.
pub(crate) fn moved(selected: usize, by: isize, count: usize) -> usize {
    selected.saturating_add_signed(by).min(count.saturating_sub(1))
}
