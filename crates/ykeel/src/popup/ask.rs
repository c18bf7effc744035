//! A question that wants a line of text.

use crossterm::event::KeyEvent;

use super::{Answer, Content, Popup, PopupKey, key, pressed, words};
use crate::app::{App, Effect, Effects};
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
    /// A confirmation: what is typed is meant for this one time.
    is_once: bool,
    /// How far back in what was answered before, and the line that was begun.
    back: usize,
    begun: LineEdit,
}

const KEYS: &[PopupKey<Ask>] = &[
    key("tab", |ask, _| ask.complete(), ""),
    key("up", |ask, app| ask.recall(app, 1), ""),
    key("down", |ask, app| ask.recall(app, -1), ""),
    key("enter", |ask, app| ask.answer(app), "answers"),
];

impl Ask {
    /// A question; `line` stands there already.
    pub(crate) fn new(
        title: &'static str,
        text: impl Into<String>,
        line: impl Into<String>,
        answered: impl Fn(&App, &str) -> Effects + Send + 'static,
    ) -> Self {
        Self {
            title,
            text: text.into(),
            line: LineEdit::new(line),
            answered: Box::new(answered),
            is_path: false,
            is_once: false,
            back: 0,
            begun: LineEdit::default(),
        }
    }

    /// What is typed is a confirmation: it is neither remembered nor offered again.
    pub(crate) fn once(self) -> Self {
        Self { is_once: true, ..self }
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

    /// Goes on with what was typed, and remembers it.
    fn answer(&self, app: &App) -> Answer {
        let mut effects = (self.answered)(app, self.line.text());
        if !self.is_once && !self.line.text().trim().is_empty() {
            effects.push(Effect::Remember(self.title, self.line.text().to_string()));
        }
        Answer::Close(effects)
    }

    /// What was answered to the same question before, the last one first.
    fn recall(&mut self, app: &App, by: isize) -> Answer {
        let before = app.typed.get(self.title).filter(|_| !self.is_once).map(Vec::as_slice).unwrap_or_default();
        let to = self.back.saturating_add_signed(by).min(before.len());
        if to != self.back {
            if self.back == 0 {
                self.begun = std::mem::take(&mut self.line);
            }
            self.line = match before.len().checked_sub(to).filter(|_| to > 0) {
                Some(at) => LineEdit::new(before[at].clone()),
                None => std::mem::take(&mut self.begun),
            };
            self.back = to;
        }
        Answer::Stay(Vec::new())
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
    use crossterm::event::{KeyCode, KeyModifiers};

    use super::*;
    use crate::app::effect::tell;
    use crate::testing::app;

    fn pressed(ask: &mut Ask, app: &App, code: KeyCode) {
        ask.press(KeyEvent::new(code, KeyModifiers::NONE), app);
    }

    #[test]
    fn what_was_answered_before_comes_back_and_confirmations_do_not() {
        let mut app = app(false);
        let question = || Ask::new("Search", "what?", "", |_, line| tell(line));
        for line in ["quay", "berth", "quay"] {
            let ask = Ask { line: LineEdit::new(line), ..question() };
            let Answer::Close(effects) = ask.answer(&app) else { panic!("an answer closes it") };
            app.run(effects);
        }
        let mut ask = Ask { line: LineEdit::new("begun"), ..question() };
        let mut shown = |codes: &[KeyCode]| {
            codes.iter().for_each(|code| pressed(&mut ask, &app, *code));
            ask.line.text().to_string()
        };
        assert_eq!(shown(&[KeyCode::Up]), "quay");
        assert_eq!(shown(&[KeyCode::Up]), "berth", "each line once, the last one first");
        assert_eq!(shown(&[KeyCode::Up, KeyCode::Down]), "quay");
        assert_eq!(shown(&[KeyCode::Down]), "begun");
        let confirmation = question().once();
        let Answer::Close(effects) = (Ask { line: LineEdit::new("3HK-2QD"), ..confirmation }).answer(&app) else {
            panic!("closes")
        };
        app.run(effects);
        assert!(app.typed["Search"].iter().all(|line| line != "3HK-2QD"));
        let mut once = question().once();
        pressed(&mut once, &app, KeyCode::Up);
        assert_eq!(once.line.text(), "");
    }

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
