//! Keys and their words: raw keys become what they do here, and help, foot, popups and command list are made from the same tables.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use crate::app::{App, Effects};
use crate::config;
use crate::stage::Drive;

/// One line of a table of keys.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Binding<D> {
    /// Keys, as shown, with spaces between those that do the same.
    pub(crate) keys: &'static str,
    /// What they do.
    pub(crate) does: D,
    /// A word or two for foot and popup; empty: not shown there.
    pub(crate) short: &'static str,
    /// A sentence for help and command list.
    pub(crate) long: &'static str,
}

/// What a key of a stage does. It changes the state and says what is to be set off; nothing is read, written or begun by itself.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Does {
    /// Changes the bench.
    Bench(fn(&mut App) -> Effects),
    /// Changes the drive in work; nothing where none is open.
    Drive(fn(&mut Drive) -> Effects),
}

/// A key of a stage.
pub(crate) type StageKey = Binding<Does>;

/// A key of every stage, or of none in particular.
pub(crate) const fn bench(keys: &'static str, does: fn(&mut App) -> Effects, words: (&'static str, &'static str)) -> StageKey {
    Binding { keys, does: Does::Bench(does), short: words.0, long: words.1 }
}

/// A key that is about the drive in work.
pub(crate) const fn drive(keys: &'static str, does: fn(&mut Drive) -> Effects, words: (&'static str, &'static str)) -> StageKey {
    Binding { keys, does: Does::Drive(does), short: words.0, long: words.1 }
}

/// The name of a key, as tables spell it; empty for one that no table names.
pub(crate) fn name(key: KeyEvent) -> String {
    let plain = match key.code {
        KeyCode::Char(' ') => "space".into(),
        KeyCode::Char(sign) => sign.to_string(),
        KeyCode::Enter => "enter".into(),
        KeyCode::Backspace => "backspace".into(),
        KeyCode::Delete => "delete".into(),
        KeyCode::Esc => "esc".into(),
        KeyCode::Up => "up".into(),
        KeyCode::Down => "down".into(),
        KeyCode::Left => "left".into(),
        KeyCode::Right => "right".into(),
        KeyCode::PageUp => "pageup".into(),
        KeyCode::PageDown => "pagedown".into(),
        KeyCode::Home => "home".into(),
        KeyCode::End => "end".into(),
        KeyCode::Tab => "tab".into(),
        KeyCode::BackTab => "backtab".into(),
        _ => return String::new(),
    };
    match () {
        () if key.modifiers.contains(KeyModifiers::CONTROL) => format!("ctrl-{plain}"),
        () if key.modifiers.contains(KeyModifiers::ALT) => format!("alt-{plain}"),
        () => plain,
    }
}

/// The line of a table for a key; earlier lines win.
pub(crate) fn find<'a, D>(table: impl Iterator<Item = &'a Binding<D>>, key: KeyEvent) -> Option<&'a Binding<D>> {
    named(table, &name(key))
}

/// The line of a table for a key of a stage: the settings may let another key stand for it.
pub(crate) fn find_set<'a, D>(table: impl Iterator<Item = &'a Binding<D>>, key: KeyEvent) -> Option<&'a Binding<D>> {
    named(table, config::get().meant(&name(key)))
}

fn named<'a, D>(mut table: impl Iterator<Item = &'a Binding<D>>, name: &str) -> Option<&'a Binding<D>> {
    table.find(|binding| !name.is_empty() && binding.keys.split(' ').any(|key| key == name))
}

/// The keys of a line of a stage's table as they are to be pressed.
pub(crate) fn shown(keys: &'static str) -> String {
    config::get().pressed(keys)
}
