//! A question that wants a line of text.

use crossterm::event::KeyEvent;

use super::{Answer, Content, Popup, PopupKey, key, pressed, words};
use crate::app::{App, Effects};
use crate::line_edit::LineEdit;
use crate::widget::wrap;

/// What a line that was typed leads to.
type Answered = Box<dyn Fn(&App, &str) -> Effects + Send>;

/// A question: what it is about, the line typed so far, and what the line leads to.
pub(crate) struct Ask {
    title: &'static str,
    text: String,
    line: LineEdit,
    answered: Answered,
    /// What is asked for is a path: tab completes it.
    is_path: bool,
}

const KEYS: &[PopupKey<Ask>] = &[
    key("tab", |ask, _| ask.complete(), ""),
    key("enter", |ask, app| Answer::Close((ask.answered)(app, ask.line.text())), "answers"),
];

impl Ask {
    /// A question; `line` stands there already.
    pub(crate) fn new(
        title: &'static str,
        text: impl Into<String>,
        line: impl Into<String>,
        answered: impl Fn(&App, &str) -> Effects + Send + 'static,
    ) -> Self {
        Self { title, text: text.into(), line: LineEdit::new(line), answered: Box::new(answered), is_path: false }
    }

    /// A question for a path.
    pub(crate) fn path(
        title: &'static str,
        text: impl Into<String>,
        line: impl Into<String>,
        answered: impl Fn(&App, &str) -> Effects + Send + 'static,
    ) -> Self {
        Self { is_path: true, ..Self::new(title, text, line, answered) }
    }

    /// Completes the path as far as all that it may become agree.
    fn complete(&mut self) -> Answer {
        if self.is_path {
            let longer = completed(self.line.text());
            self.line = LineEdit::new(longer);
        }
        Answer::Stay(Vec::new())
    }
}

impl Popup for Ask {
    fn title(&self, _app: &App) -> String {
        self.title.into()
    }

    fn content(&self, _app: &App, width: usize) -> Content {
        let mut head = wrap(&self.text, width);
        head.push(String::new());
        let (before, behind) = self.line.parts();
        // The cursor stays in sight: of a long line its last part before it is shown.
        let room = width.saturating_sub(4).max(8);
        let skipped = before.chars().count().saturating_sub(room);
        let shown: String = before.chars().skip(skipped).collect();
        let mark = if skipped > 0 { '…' } else { '›' };
        let rest: String = behind.chars().take(room.saturating_sub(shown.chars().count())).collect();
        head.push(format!("{mark} {shown}▏{rest}"));
        Content { head, ..Content::default() }
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, KEYS, key, app).unwrap_or_else(|| {
            self.line.press(key);
            Answer::Stay(Vec::new())
        })
    }

    fn paste(&mut self, text: &str) {
        self.line.insert(text);
    }
}

/// The path that all entries beginning like `text` share; a folder ends with its separator.
fn completed(text: &str) -> String {
    let (folder, begun) =
        text.rsplit_once('/').map_or((".", text), |(folder, begun)| (if folder.is_empty() { "/" } else { folder }, begun));
    let Ok(entries) = std::fs::read_dir(folder) else { return text.to_string() };
    let name = |entry: std::fs::DirEntry| {
        let mut name = entry.file_name().into_string().ok()?;
        name.push_str(if entry.path().is_dir() { "/" } else { "" });
        (name.starts_with(begun) && (!name.starts_with('.') || begun.starts_with('.'))).then_some(name)
    };
    let mut names = entries.flatten().filter_map(name);
    let Some(mut shared) = names.next() else { return text.to_string() };
    for name in names {
        let same =
            shared.chars().zip(name.chars()).take_while(|(one, other)| one == other).map(|(sign, _)| sign.len_utf8()).sum();
        shared.truncate(same);
    }
    format!("{}{shared}", &text[..text.len() - begun.len()])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_completed_as_far_as_they_agree() {
        let folder = tempfile::tempdir().unwrap();
        for name in ["purser-stick.img", "purser-box.img", "quay.img", ".hidden"] {
            std::fs::write(folder.path().join(name), "").unwrap();
        }
        std::fs::create_dir(folder.path().join("copies")).unwrap();
        let within = |text: &str| completed(&format!("{}/{text}", folder.path().display()));
        let ends = |text: &str| within(text).strip_prefix(&format!("{}/", folder.path().display())).unwrap().to_string();
        assert_eq!(ends("p"), "purser-");
        assert_eq!(ends("purser-s"), "purser-stick.img");
        assert_eq!(ends("c"), "copies/");
        assert_eq!(ends("none"), "none");
        assert_eq!(ends("."), ".hidden");
        assert_eq!(completed("/no/such/folder/x"), "/no/such/folder/x");
    }
}
