//! A line that is typed: a cursor, and the keys of a shell.

use crossterm::event::KeyEvent;

use crate::keys;

/// Most bytes of a line.
const MOST: usize = 4096;

/// A line as it is typed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct LineEdit {
    text: String,
    /// The byte before which the next sign goes.
    at: usize,
    /// What was cut last.
    cut: String,
}

impl LineEdit {
    /// A line with `text`, the cursor behind it.
    pub(crate) fn new(text: impl Into<String>) -> Self {
        let text = text.into();
        Self { at: text.len(), text, cut: String::new() }
    }

    pub(crate) fn text(&self) -> &str {
        &self.text
    }

    /// The text before the cursor, and behind it.
    pub(crate) fn parts(&self) -> (&str, &str) {
        self.text.split_at(self.at)
    }

    /// Puts `text` at the cursor; signs that steer become spaces.
    pub(crate) fn insert(&mut self, text: &str) {
        for sign in text.trim_end_matches(['\r', '\n']).chars() {
            let sign = if sign.is_control() { ' ' } else { sign };
            if self.text.len() + sign.len_utf8() > MOST {
                return;
            }
            self.text.insert(self.at, sign);
            self.at += sign.len_utf8();
        }
    }

    /// Takes a key; false where it is none of a line's.
    pub(crate) fn press(&mut self, key: KeyEvent) -> bool {
        match keys::name(key).as_str() {
            "left" | "ctrl-b" => self.at = self.before(1),
            "right" | "ctrl-f" => self.at = self.behind(1),
            "home" | "ctrl-a" => self.at = 0,
            "end" | "ctrl-e" => self.at = self.text.len(),
            "alt-b" | "ctrl-left" | "alt-left" => self.at = self.word_before(),
            "alt-f" | "ctrl-right" | "alt-right" => self.at = self.word_behind(),
            "backspace" | "ctrl-h" => self.remove(self.before(1), self.at),
            "delete" | "ctrl-d" => self.remove(self.at, self.behind(1)),
            "ctrl-w" | "alt-backspace" => self.take(self.word_before(), self.at),
            "alt-d" => self.take(self.at, self.word_behind()),
            "ctrl-u" => self.take(0, self.at),
            "ctrl-k" => self.take(self.at, self.text.len()),
            "ctrl-y" => self.insert(&self.cut.clone()),
            "space" => self.insert(" "),
            name if name.chars().count() == 1 => self.insert(name),
            _ => return false,
        }
        true
    }

    fn remove(&mut self, from: usize, to: usize) {
        self.text.replace_range(from..to, "");
        self.at = from;
    }

    fn take(&mut self, from: usize, to: usize) {
        if from < to {
            self.cut = self.text[from..to].to_string();
            self.remove(from, to);
        }
    }

    fn before(&self, signs: usize) -> usize {
        self.text[..self.at].char_indices().rev().nth(signs - 1).map_or(0, |(at, _)| at)
    }

    fn behind(&self, signs: usize) -> usize {
        self.text[self.at..].char_indices().nth(signs).map_or(self.text.len(), |(at, _)| self.at + at)
    }

    /// The beginning of the word before the cursor.
    fn word_before(&self) -> usize {
        let head = self.text[..self.at].trim_end_matches(is_between);
        head.rfind(is_between).map_or(0, |at| at + head[at..].chars().next().map_or(1, char::len_utf8))
    }

    /// The end of the word behind the cursor.
    fn word_behind(&self) -> usize {
        let tail = &self.text[self.at..];
        let word = tail.trim_start_matches(is_between);
        self.at + (tail.len() - word.len()) + word.find(is_between).unwrap_or(word.len())
    }
}

/// True for what stands between words: in paths and texts alike.
fn is_between(sign: char) -> bool {
    !sign.is_alphanumeric()
}

#[cfg(test)]
mod tests {
    use crossterm::event::{KeyCode, KeyModifiers};
    use proptest::prelude::*;

    use super::*;

    fn pressed(line: &mut LineEdit, keys: &[(KeyModifiers, KeyCode)]) {
        for (modifiers, code) in keys {
            line.press(KeyEvent::new(*code, *modifiers));
        }
    }

    const PLAIN: KeyModifiers = KeyModifiers::NONE;
    const CONTROL: KeyModifiers = KeyModifiers::CONTROL;

    #[test]
    fn words_are_cut_and_put_back() {
        let mut line = LineEdit::new("copies/quay-copy.img");
        pressed(&mut line, &[(CONTROL, KeyCode::Char('w'))]);
        assert_eq!(line.text(), "copies/quay-copy.");
        pressed(&mut line, &[(PLAIN, KeyCode::Home), (PLAIN, KeyCode::Delete), (CONTROL, KeyCode::Char('y'))]);
        assert_eq!((line.text(), line.parts().0), ("imgopies/quay-copy.", "img"));
        pressed(&mut line, &[(KeyModifiers::ALT, KeyCode::Char('f')), (CONTROL, KeyCode::Char('k'))]);
        assert_eq!(line.text(), "imgopies");
        pressed(&mut line, &[(CONTROL, KeyCode::Char('u'))]);
        assert_eq!(line.text(), "");
    }

    #[test]
    fn what_is_pasted_is_text_and_never_keys() {
        let mut line = LineEdit::default();
        line.insert("error 483\nq\u{1b}[2J\r\n");
        assert_eq!(line.text(), "error 483 q [2J");
        line.insert(&"ä".repeat(10_000));
        assert!(line.text().len() <= MOST);
    }

    proptest! {
        #[test]
        fn no_keys_leave_the_cursor_inside_a_sign(text in "\\PC{0,20}", keys in proptest::collection::vec(0usize..14, 0..40)) {
            let mut line = LineEdit::new(text);
            for key in keys {
                let (modifiers, code) = [
                    (PLAIN, KeyCode::Left), (PLAIN, KeyCode::Right), (PLAIN, KeyCode::Backspace), (PLAIN, KeyCode::Delete),
                    (CONTROL, KeyCode::Char('w')), (CONTROL, KeyCode::Char('k')), (CONTROL, KeyCode::Char('y')),
                    (KeyModifiers::ALT, KeyCode::Char('b')), (KeyModifiers::ALT, KeyCode::Char('f')),
                    (KeyModifiers::ALT, KeyCode::Char('d')), (PLAIN, KeyCode::Home), (PLAIN, KeyCode::End),
                    (PLAIN, KeyCode::Char('é')), (PLAIN, KeyCode::Char(' ')),
                ][key];
                line.press(KeyEvent::new(code, modifiers));
                let (head, tail) = line.parts();
                prop_assert_eq!(format!("{head}{tail}"), line.text());
            }
        }
    }
}
