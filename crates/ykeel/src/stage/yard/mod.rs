//! Yard: the drives on the bench, and what their owners told.

mod board;
mod intake;
mod lists;
mod view;

use keel_core::advice::Advice;
use keel_core::case::Case;
use keel_core::export::Table;
use keel_core::intake::CHECKS;
use keel_core::place::label_told;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use serde_json::json;

use super::{Drive, Stage, Standing};
use crate::app::App;
use crate::app::effect::{Effect, Effects, tell};
use crate::keys::{StageKey, bench};
use crate::line_edit::LineEdit;
use crate::popup::Ask;
use crate::widget::why::Why;

pub(crate) use board::Board;
use board::Column;

/// The stage.
pub(crate) struct Yard;

const KEYS: &[StageKey] = &[
    bench("enter", open, ("open", "Open the drive that is selected")),
    bench(
        "A",
        |_| vec![Effect::LookAtAll],
        ("ask all", "Ask every drive but this machine's devices for its ladder, while you work on another (look at all)"),
    ),
    bench("/", type_filter, ("find", "Show the drives that have these words: name, client, what is broken, what is next")),
    bench("o", sort_next, ("", "Order the board by its next column (sort)")),
    bench("r", reverse, ("", "Turn the order of the board around")),
    bench("O", ask_path, ("", "Open any path: an image, a device, a folder as the yard")),
    bench("L", |_| vec![Effect::AskYard], ("", "Look which drives are there now")),
    bench(
        "i",
        |_| vec![Effect::Over(Box::new(lists::Symptoms::default()))],
        ("symptoms", "Say what the client sees: choose from the symptoms"),
    ),
    bench("B", ask_checks, ("checks", "Note the checks made outside the computer, and see which one comes next")),
    bench("t", ask_text, ("text", "Keep a text of the client: an error message as pasted is led to the rungs it comes from")),
    bench("W", ask_client, ("", "Say whose drive it is")),
    bench("Z", close, ("done", "Close the case of the drive, or open it again")),
];

fn type_filter(app: &mut App) -> Effects {
    (app.board.typing, app.board.filter) = (true, LineEdit::default());
    Vec::new()
}

fn sort_next(app: &mut App) -> Effects {
    let at = Column::ALL.iter().position(|column| *column == app.board.sort).unwrap_or(0);
    app.board.sort = Column::ALL[(at + 1) % Column::ALL.len()];
    tell(format!("sorted by {}", app.board.sort.word()))
}

fn reverse(app: &mut App) -> Effects {
    app.board.reversed = !app.board.reversed;
    Vec::new()
}

fn ask_path(_app: &mut App) -> Effects {
    let text = "An image, a simulated drive, a device, or a folder to be the yard. tab completes.";
    vec![Effect::Over(Box::new(Ask::path("Open", text, "", |_, line| vec![Effect::OpenAny(line.trim().into())])))]
}

fn ask_client(app: &mut App) -> Effects {
    let client = app.case.as_ref().map(|case| case.record.client.clone()).unwrap_or_default();
    vec![Effect::Over(Box::new(Ask::new("Client", "Whose drive is it?", client, |_, line| {
        let client = line.trim().to_string();
        vec![Effect::Case(Box::new(move |case| case.set_client(&client).map(|()| None)))]
    })))]
}

fn close(_app: &mut App) -> Effects {
    vec![Effect::Case(Box::new(|case| {
        let (changed, told) = match case.record.closed {
            None => (keel_core::yard::close(case), "the case is closed; Z opens it again"),
            Some(_) => (case.open_again(), "the case is open again"),
        };
        changed.map(|()| Some(told.into()))
    }))]
}

fn open(app: &mut App) -> Effects {
    let Some(berth) = app.berths.get(app.berth) else { return Effects::new() };
    match &berth.device {
        Some(device) if device.is_of_system => tell("this system runs from it: it is left alone"),
        Some(device) if !device.attachment.has_medium => tell("there is no medium in it"),
        _ => vec![Effect::Open(berth.path.clone(), None)],
    }
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
            let label = label_told(&text).map(|told| format!("kept; {told}"));
            let words: Vec<String> = label.into_iter().chain(known.iter().map(|known| known.means.to_string())).collect();
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
        let order = board::order(app);
        let at = order.iter().position(|index| *index == app.berth).unwrap_or(0);
        let to = at.saturating_add_signed(by).min(order.len().saturating_sub(1));
        app.berth = order.get(to).copied().unwrap_or(app.berth);
        vec![Effect::LookUpCase]
    }

    fn is_wide(&self) -> bool {
        true
    }

    fn typing<'a>(&self, app: &'a mut App) -> Option<&'a mut LineEdit> {
        Some(&mut app.board).filter(|board| board.typing).map(|board| &mut board.filter)
    }

    fn searched(&self, app: &mut App) -> Effects {
        // What was searched for is selected: the first that is shown.
        app.berth = board::order(app).first().copied().unwrap_or(app.berth);
        vec![Effect::LookUpCase]
    }

    fn typed(&self, app: &mut App, keep: bool) -> Effects {
        app.board.typing = false;
        if !keep {
            app.board.filter = LineEdit::default();
        }
        Vec::new()
    }

    fn click(&self, app: &mut App, area: Rect, at: Position) -> Effects {
        if let Some(column) = view::head_at(area, at) {
            app.board.reversed = app.board.sort == column && !app.board.reversed;
            app.board.sort = column;
            return Vec::new();
        }
        match view::row_at(app, area, at) {
            Some(row) => {
                app.berth = row;
                vec![Effect::LookUpCase]
            }
            None => Vec::new(),
        }
    }

    fn carries_out(&self, advice: Advice) -> Option<&'static str> {
        matches!(advice, Advice::CheckOutside | Advice::CheckCable | Advice::Unexplained(_)).then_some("B")
    }

    fn table(&self, app: &App) -> Option<Table> {
        let row = |index: &usize| {
            let berth = app.berths.get(*index)?;
            let sight = berth.sight.as_ref();
            Some(vec![
                json!(board::name(berth)),
                json!(berth.path),
                json!(board::bytes(berth)),
                json!(board::link(berth)),
                json!(board::told(berth)),
                json!(berth.group.word()),
                json!(sight.map(|sight| &sight.rungs)),
                json!(sight.and_then(|sight| sight.lowest.as_ref())),
                json!(sight.map(|sight| &sight.next)),
                json!(sight.map(|sight| &sight.at)),
            ])
        };
        let columns = ["name", "path", "bytes", "link", "client", "group", "rungs", "lowest broken", "next", "seen at"];
        let order = board::order(app);
        let selected = order.iter().position(|index| *index == app.berth);
        Some(Table { rows: order.iter().filter_map(row).collect(), selected, ..Table::new(&columns) })
    }

    fn standing(&self, _drive: &Drive) -> Standing {
        Standing::Done
    }
}

#[cfg(test)]
mod tests;
