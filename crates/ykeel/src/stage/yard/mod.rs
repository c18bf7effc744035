//! Yard: the drives on the bench, and what their owners told.

mod intake;
mod lists;
mod view;

use keel_core::advice::Advice;
use keel_core::case::Case;
use keel_core::intake::CHECKS;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};

use super::{Drive, Stage, Standing};
use crate::app::App;
use crate::app::effect::{Effect, Effects};
use crate::keys::{StageKey, bench};
use crate::popup::Ask;
use crate::widget::why::Why;

/// The stage.
pub(crate) struct Yard;

const KEYS: &[StageKey] = &[
    bench("enter", open, ("open", "Open the drive that is selected")),
    bench(
        "i",
        |_| vec![Effect::Over(Box::new(lists::Symptoms::default()))],
        ("symptoms", "Say what the client sees: choose from the symptoms"),
    ),
    bench("c", ask_checks, ("checks", "Note the checks made outside the computer, and see which one comes next")),
    bench("t", ask_text, ("text", "Keep a text of the client: an error message as pasted is led to the rungs it comes from")),
];

fn open(app: &mut App) -> Effects {
    app.berths.get(app.berth).map(|berth| Effect::Open(berth.path.clone(), None)).into_iter().collect()
}

fn ask_checks(app: &mut App) -> Effects {
    let next = app.case.as_ref().and_then(Case::next_check);
    let row = next.and_then(|next| CHECKS.iter().position(|check| check.id == next.id)).unwrap_or(0);
    vec![Effect::Over(Box::new(lists::Checks::at(row)))]
}

fn ask_text(_app: &mut App) -> Effects {
    let text = "An error message as pasted, its code, or a note. Known errors are led to the rungs they come from.";
    vec![Effect::Over(Box::new(Ask::new("A text of the client", text, "", |_, line| {
        let text = line.to_string();
        vec![Effect::Case(Box::new(move |case| {
            let known = case.tell(&text)?;
            let words: Vec<&str> = known.iter().map(|known| known.means).collect();
            Ok(Some(if words.is_empty() { "kept; no known error is in it".into() } else { words.join("; ") }))
        }))]
    })))]
}

impl Stage for Yard {
    fn word(&self) -> &'static str {
        "Yard"
    }

    fn about(&self) -> &'static str {
        "The drives on the bench, with what their owners told. Below stands the case of the selected one: what the client sees, error messages as pasted and the rungs they may come from, the checks made outside the computer, and the cheapest one that still tells something. Open a drive to see which of its rungs hold."
    }

    fn keys(&self) -> &'static [StageKey] {
        KEYS
    }

    fn draw(&self, app: &App, area: Rect, buf: &mut Buffer) -> Why {
        view::draw(app, area, buf)
    }

    fn entered(&self, _app: &mut App) -> Effects {
        vec![Effect::AskYard, Effect::LookUpCase]
    }

    fn step(&self, app: &mut App, by: isize) -> Effects {
        app.berth = app.berth.saturating_add_signed(by).min(app.berths.len().saturating_sub(1));
        vec![Effect::LookUpCase]
    }

    fn click(&self, app: &mut App, area: Rect, at: Position) -> Effects {
        match view::row_at(app, area, at) {
            Some(row) => {
                app.berth = row;
                vec![Effect::LookUpCase]
            }
            None => Vec::new(),
        }
    }

    fn carries_out(&self, advice: Advice) -> Option<&'static str> {
        matches!(advice, Advice::CheckOutside | Advice::CheckCable).then_some("c")
    }

    fn standing(&self, _drive: &Drive) -> Standing {
        Standing::Done
    }
}

#[cfg(test)]
mod tests;
