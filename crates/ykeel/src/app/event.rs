//! Keys, clicks and pastes find what they are for.

use crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Position;

use super::{App, Effect};
use crate::popup::Answer;
use crate::{keys, widget};

impl App {
    /// Takes a key, a click, a paste or a resize.
    pub(crate) fn take_event(&mut self, event: &Event) {
        match event {
            Event::Key(key) if key.kind != KeyEventKind::Release => self.take_key(*key),
            Event::Mouse(mouse) => self.take_mouse(*mouse),
            Event::Paste(text) => self.take_paste(text),
            _ => {}
        }
    }

    fn take_key(&mut self, key: KeyEvent) {
        // Nobody sees what a key would do.
        if self.area.width > 0 && self.parts().is_none() {
            self.quit |= matches!(key.code, KeyCode::Char('q')) && !self.is_writing();
            return;
        }
        if let Some(mut popup) = self.popups.pop() {
            if key.code == KeyCode::Esc {
                return;
            }
            let effects = match popup.press(key, self) {
                Answer::Close(effects) => effects,
                Answer::Stay(effects) => {
                    self.popups.push(popup);
                    effects
                }
            };
            self.run(effects);
        } else if let Some(line) = self.stage.stage().typing(self) {
            let effects = match key.code {
                KeyCode::Enter => self.stage.stage().typed(self, true),
                KeyCode::Esc => self.stage.stage().typed(self, false),
                KeyCode::Up => self.stage.stage().step(self, -1),
                KeyCode::Down => self.stage.stage().step(self, 1),
                _ => {
                    line.press(key);
                    self.stage.stage().searched(self)
                }
            };
            self.run(effects);
        } else if let Some(binding) = keys::find_set(self.stage.bindings(), key) {
            self.told = None;
            self.run(vec![Effect::Do(binding.does)]);
        }
    }

    /// What is pasted is text: where none is asked for, it is nothing.
    fn take_paste(&mut self, text: &str) {
        if let Some(popup) = self.popups.last_mut() {
            popup.paste(text);
            return;
        }
        match self.stage.stage().typing(self) {
            Some(line) => {
                line.insert(text);
                let effects = self.stage.stage().searched(self);
                self.run(effects);
            }
            None => self.told = Some("what was pasted is not taken for keys: open a question for it first".into()),
        }
    }

    fn take_mouse(&mut self, mouse: MouseEvent) {
        let at = Position::new(mouse.column, mouse.row);
        if !self.popups.is_empty() {
            self.held = None;
            return;
        }
        let effects = match mouse.kind {
            MouseEventKind::ScrollUp => self.stage.stage().step(self, -1),
            MouseEventKind::ScrollDown => self.stage.stage().step(self, 1),
            MouseEventKind::Down(MouseButton::Left) => self.click(at),
            MouseEventKind::Drag(MouseButton::Left) => {
                self.drag(at);
                return;
            }
            MouseEventKind::Up(MouseButton::Left) => self.drop_held(),
            _ => return,
        };
        self.run(effects);
    }

    fn drag(&mut self, at: Position) {
        let Some(keel) = self.parts().map(|parts| parts.keel) else { return };
        if let (Some((from, _)), Some(to)) = (self.held, widget::keel::row_at(self, keel, at.y)) {
            self.held = Some((from, to));
        }
    }

    fn drop_held(&mut self) -> Vec<Effect> {
        let Some((from, to)) = self.held.take() else { return Vec::new() };
        self.stage.stage().dragged(self, from, to)
    }

    fn click(&mut self, at: Position) -> Vec<Effect> {
        self.held = None;
        let Some(parts) = self.parts() else { return Vec::new() };
        if parts.course.contains(at) {
            return widget::course::stage_at(parts.course, at.x).map(Effect::GoTo).into_iter().collect();
        }
        if parts.keel.contains(at) {
            self.held = widget::keel::row_at(self, parts.keel, at.y).map(|row| (row, row));
            if let Some(place) = widget::keel::byte_at(self, parts.keel, at.y)
                && let Some(drive) = &mut self.drive
            {
                drive.select_at(place);
            }
            return Vec::new();
        }
        if parts.middle.contains(at) {
            let inside = Position::new(at.x - parts.middle.x, at.y - parts.middle.y);
            return self.stage.stage().click(self, parts.middle, inside);
        }
        Vec::new()
    }
}
