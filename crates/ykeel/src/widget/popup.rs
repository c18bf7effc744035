//! What lies over a stage.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::widgets::{Clear, Widget};

use super::{first_shown, put, wrap};
use crate::app::App;
use keel_core::intake::{CHECKS, Outcome, SYMPTOMS};
use keel_core::plan::Direction;

use crate::app::popup::{Popup, Question, matching};
use crate::{keymap, screen};

/// Draws a popup in the middle of `area`.
pub(crate) fn draw(app: &App, popup: &Popup, area: Rect, buf: &mut Buffer) {
    let width = area.width.saturating_sub(16).min(96);
    let text = usize::from(width.saturating_sub(6));
    let (title, lines) = match popup {
        Popup::Help => help(app, text),
        Popup::Symptoms { selected } => ("What the client sees".to_string(), symptoms(app, *selected)),
        Popup::Checks { selected } => ("Checks outside the computer".to_string(), checks(app, *selected)),
        Popup::Commands { filter, .. } => ("Commands".to_string(), vec![format!("search: {filter}▏")]),
        Popup::Message { title, text: body } => (title.clone(), wrap(body, text)),
        Popup::Interrupted { bundle } => (
            "An apply was interrupted".to_string(),
            wrap(
                &format!(
                    "Part of a plan stands on this drive. f finishes the apply, r puts everything back; both lead to a known state.\n{}",
                    bundle.display()
                ),
                text,
            ),
        ),
        Popup::Ask { question, line } => ask(app, question, line, text),
    };
    let rows = if let Popup::Commands { .. } = popup { 22 } else { lines.len() };
    let height = u16::try_from(rows + 4).unwrap_or(area.height).min(area.height.saturating_sub(4));
    let frame = Rect::new(area.x + (area.width - width) / 2, area.y + (area.height - height) / 2, width, height);
    Clear.render(frame.intersection(buf.area), buf);
    draw_frame(app, frame, &title, buf);
    let inner = Rect::new(frame.x + 3, frame.y + 2, frame.width.saturating_sub(6), frame.height.saturating_sub(3));
    for (y, line) in lines.iter().enumerate().take(usize::from(inner.height)) {
        put(buf, inner, 0, u16::try_from(y).unwrap_or(0), line, app.theme.text());
    }
    if let Popup::Commands { filter, selected } = popup {
        commands(app, filter, *selected, Rect { y: inner.y + 2, height: inner.height.saturating_sub(2), ..inner }, buf);
    }
}

fn draw_frame(app: &App, frame: Rect, title: &str, buf: &mut Buffer) {
    let style = app.theme.strong();
    let line = "─".repeat(usize::from(frame.width.saturating_sub(2)));
    put(buf, frame, 0, 0, &format!("╭{line}╮"), style);
    for y in 1..frame.height.saturating_sub(1) {
        put(buf, frame, 0, y, "│", style);
        put(buf, frame, frame.width.saturating_sub(1), y, "│", style);
    }
    put(buf, frame, 0, frame.height.saturating_sub(1), &format!("╰{line}╯"), style);
    put(buf, frame, 3, 0, &format!(" {title} "), style);
    put(buf, frame, frame.width.saturating_sub(14), frame.height.saturating_sub(1), " esc closes ", app.theme.dim());
}

fn help(app: &App, width: usize) -> (String, Vec<String>) {
    let mut lines = wrap(screen::about(app.stage), width);
    lines.push(String::new());
    for binding in
        keymap::bindings(app.stage).filter(|binding| !binding.stages.is_empty() || binding.short.is_empty() || binding.foot)
    {
        lines.push(format!("{:<12}{}", binding.keys, binding.long));
    }
    (format!("Help: {}", app.stage.word()), lines)
}

fn symptoms(app: &App, selected: usize) -> Vec<String> {
    let told = app.case.as_ref().map(|case| case.record.told.symptoms.as_slice()).unwrap_or_default();
    let mut lines: Vec<String> = SYMPTOMS
        .iter()
        .enumerate()
        .map(|(row, symptom)| {
            let mark = if told.iter().any(|id| id == symptom.id) { "●" } else { "○" };
            let rungs: Vec<String> = symptom.rungs.iter().map(|rung| rung.number().to_string()).collect();
            format!("{} {mark} {:<52} rungs {}", pointer(row == selected), symptom.words, rungs.join(" "))
        })
        .collect();
    lines.extend([String::new(), "space  sees it, or not".into()]);
    lines
}

fn checks(app: &App, selected: usize) -> Vec<String> {
    let case = app.case.as_ref();
    let next = case.and_then(keel_core::case::Case::next_check);
    let mut lines: Vec<String> = CHECKS
        .iter()
        .enumerate()
        .map(|(row, check)| {
            let made = case.and_then(|case| case.record.checks.iter().find(|made| made.check == check.id));
            let result = match made.map(|made| made.outcome) {
                Some(Outcome::Yes) => check.results.0,
                Some(Outcome::No) => check.results.1,
                None if next.is_some_and(|next| next.id == check.id) => "next",
                None => "",
            };
            let words: String = check.words.chars().take(62).collect();
            format!("{} {result:<11} {words:<62} {:>2} min", pointer(row == selected), check.minutes)
        })
        .collect();
    lines.extend([String::new(), "y  yes: it helped, is listed, was found     n  no     e  note     backspace  not made".into()]);
    lines
}

/// Marks the selected row of a list in a popup.
fn pointer(selected: bool) -> &'static str {
    if selected { "▸" } else { " " }
}

fn commands(app: &App, filter: &str, selected: usize, area: Rect, buf: &mut Buffer) {
    let found = matching(filter);
    let first = first_shown(selected, found.len(), usize::from(area.height));
    for (row, binding) in found.iter().skip(first).take(usize::from(area.height)).enumerate() {
        let here = binding.stages.is_empty() || binding.stages.contains(&app.stage);
        let place = if here { String::new() } else { format!("  ({})", binding.stages[0].word()) };
        let style = match (first + row == selected, here) {
            (true, _) => app.theme.selected(),
            (false, true) => app.theme.text(),
            (false, false) => app.theme.dim(),
        };
        put(buf, area, 0, u16::try_from(row).unwrap_or(0), &format!("{:<12}{}{place}", binding.keys, binding.long), style);
    }
}

/// The code of the device that a copy shall go to.
fn dest_code(app: &App) -> String {
    let dest = app.drive.as_ref().and_then(|drive| drive.copy.dest.clone());
    let opened = dest.and_then(|dest| keel_source::open(&dest, keel_source::OpenOptions::default()).ok());
    opened.map(|device| device.identity().code()).unwrap_or_default()
}

fn ask(app: &App, question: &Question, line: &str, width: usize) -> (String, Vec<String>) {
    let code = app.drive.as_ref().map(|drive| drive.source.identity().code()).unwrap_or_default();
    let edits = app.drive.as_ref().map_or(0, |drive| drive.edits.len());
    let (title, text) = match question {
        Question::Code => ("Apply", format!("{edits} edits will be written to this drive. What stands there now is saved first, so that it can be put back.\nType the code of this drive: {code}")),
        Question::OverrideWords => (
            "This drive fails reads",
            "It should be copied first; w saves a repaired copy without touching it. To write all the same, type: I write without a copy".to_string(),
        ),
        Question::RecoverCode { direction: Direction::RollBack } => ("Undo", format!("Every byte that the apply changed is put back as it was.\nFor a block device type the code: {code}. For an image or simulated drive enter is enough.")),
        Question::RecoverCode { direction: Direction::Finish } => ("Finish the apply", format!("What is not written yet of the interrupted apply is written, from its bundle.\nType the code of this drive: {code}")),
        Question::PutBackCode => ("Put back", format!("What the interrupted probe touched is put back as it stood.\nType the code of this drive: {code}")),
        Question::ExtractTo => ("Take out", "Folder to put the files into. Nothing that is there is overwritten; a manifest with hashes is written beside them.".to_string()),
        Question::Told => ("A text of the client", "An error message as pasted, its code, or a note. Known errors are led to the rungs they come from.".to_string()),
        Question::CheckNote { row } => ("A note with the check", CHECKS.get(*row).map(|check| check.words.to_string()).unwrap_or_default()),
        Question::CopyTo => ("Copy", "The image to write: a new file, or one that its log goes on with. A block device works as well, and wants its own code.".to_string()),
        Question::DestCode => ("Copy to a device", format!("Everything on that device is overwritten. Type the code of the destination: {}", dest_code(app))),
        Question::ProbeCode => ("Probe", format!("Tagged sectors are written to chosen places of this drive. What stands there is kept first and put back, also after an interruption. For a failing drive copy it first.\nType the code of this drive: {code}")),
        Question::FillCode => ("Fill", format!("EVERYTHING ON THIS DRIVE WILL BE LOST: every sector is written and read back.\nType the code of this drive: {code}")),
        Question::ReportTo => ("Report", "The PDF to write: ladder, keel, reads, health, capacity, copy, and the journal of the case.".to_string()),
        Question::SaveTo => ("Save a repaired copy", "New image to write. The drive itself is not touched.".to_string()),
    };
    let mut lines = wrap(&text, width);
    lines.push(String::new());
    lines.push(format!("› {line}▏"));
    (title.to_string(), lines)
}
