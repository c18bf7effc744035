//! The list of all commands, searched by any of their words.

use crossterm::event::KeyEvent;

use super::{Answer, Content, Popup, PopupKey, Tone, key, moved, pressed, words};
use crate::app::{App, Effect};
use crate::keys::{StageKey, shown};
use crate::line_edit::LineEdit;
use crate::stage::StageId;

/// The list, and what was typed to search it.
#[derive(Debug, Default)]
pub(crate) struct Commands {
    line: LineEdit,
    selected: usize,
}

/// Rows of a page.
const PAGE: isize = 12;

const KEYS: &[PopupKey<Commands>] = &[
    key("enter", Commands::run, "runs"),
    key("up", |list, app| list.step(app, -1), ""),
    key("down", |list, app| list.step(app, 1), ""),
    key("pageup", |list, app| list.step(app, -PAGE), ""),
    key("pagedown", |list, app| list.step(app, PAGE), ""),
];

/// A command, and the stages that know it.
struct Command {
    binding: &'static StageKey,
    stages: Vec<StageId>,
}

/// Every command once, those that have all words of `filter` in their key or sentence: what works in `here` comes first.
fn matching(filter: &str, here: StageId) -> Vec<Command> {
    let words: Vec<String> = filter.split_whitespace().map(str::to_lowercase).collect();
    let mut commands: Vec<Command> = Vec::new();
    for stage in StageId::ALL {
        for binding in stage.bindings() {
            let said = format!("{} {} {}", binding.keys, binding.short, binding.long).to_lowercase();
            if !words.iter().all(|word| said.contains(word)) {
                continue;
            }
            match commands.iter_mut().find(|command| (command.binding.keys, command.binding.long) == (binding.keys, binding.long))
            {
                Some(command) => command.stages.push(stage),
                None => commands.push(Command { binding, stages: vec![stage] }),
            }
        }
    }
    let own = |command: &Command| here.stage().keys().iter().any(|own| own.long == command.binding.long);
    commands.sort_by_key(|command| (!command.stages.contains(&here), !own(command)));
    commands
}

impl Commands {
    fn step(&mut self, app: &App, by: isize) -> Answer {
        self.selected = moved(self.selected, by, matching(self.line.text(), app.stage).len());
        Answer::Stay(Vec::new())
    }

    /// Runs the selected command, or goes to the first stage that knows it.
    fn run(&mut self, app: &App) -> Answer {
        Answer::Close(match matching(self.line.text(), app.stage).into_iter().nth(self.selected) {
            Some(command) if command.stages.contains(&app.stage) => vec![Effect::Do(command.binding.does)],
            Some(command) => command.stages.first().map(|stage| Effect::GoTo(*stage)).into_iter().collect(),
            None => Vec::new(),
        })
    }
}

impl Popup for Commands {
    fn title(&self, _app: &App) -> String {
        "Commands".into()
    }

    fn content(&self, app: &App, _width: usize) -> Content {
        let (before, behind) = self.line.parts();
        let row = |command: Command| {
            let here = command.stages.contains(&app.stage);
            let place = command.stages.first().filter(|_| !here).map(|stage| format!("  ({})", stage.stage().word()));
            let text = format!("{:<14}{}{}", shown(command.binding.keys), command.binding.long, place.unwrap_or_default());
            (text, if here { Tone::Plain } else { Tone::Dim })
        };
        Content {
            head: vec![format!("search: {before}▏{behind}"), String::new()],
            rows: matching(self.line.text(), app.stage).into_iter().map(row).collect(),
            selected: Some(self.selected),
            from: 0,
        }
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, KEYS, key, app).unwrap_or_else(|| {
            if self.line.press(key) {
                self.selected = 0;
            }
            Answer::Stay(Vec::new())
        })
    }

    fn paste(&mut self, text: &str) {
        self.line.insert(text);
        self.selected = 0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_works_here_comes_first_and_everything_is_there() {
        for here in StageId::ALL {
            let all = matching("", here);
            let first = all.iter().take_while(|command| command.stages.contains(&here)).count();
            assert!(all.iter().skip(first).all(|command| !command.stages.contains(&here)), "{here:?}");
            let own = here.stage().keys();
            assert!(all.iter().take(own.len()).all(|command| own.iter().any(|own| own.long == command.binding.long)), "{here:?}");
            assert_eq!(all.len(), matching("", StageId::Yard).len());
        }
        assert!(matching("undo", StageId::Yard).iter().any(|command| command.stages.contains(&StageId::Plan)));
    }
}
