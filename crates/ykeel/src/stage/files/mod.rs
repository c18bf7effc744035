//! Files: the tree of a volume, previews, and what is taken out.

mod adrift;
mod order;
mod preview;
mod reader;
mod search;
mod sheet;
mod state;
mod view;

use keel_core::advice::Advice;
use keel_core::export::Table;
use keel_core::files::Hit;
use keel_core::sweep::Find;
use keel_source::{ByteOffset, ByteRange, counted, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use serde_json::json;

pub(crate) use state::{State, look_into};

use super::{Drive, Running, Stage, Standing, Weight, runs};
use crate::app::App;
use crate::app::effect::Effects;
use crate::keys::{StageKey, bench, drive};
use crate::line_edit::LineEdit;
use crate::widget::why::Why;

/// The stage.
pub(crate) struct Files;

const KEYS: &[StageKey] = &[
    bench("enter", enter, ("open", "Open the folder that is selected, or read the file: all of it, as text or bytes")),
    drive("space", state::mark, ("mark", "Mark the file or folder for taking out, or unmark it")),
    drive("e", state::ask_extract, ("take out", "Take the marked files (or the selected one) out to a folder, verified")),
    drive("v", state::toggle_view, ("text/hex", "Show the preview as text or picture, or as bytes")),
    drive("D", state::toggle_deleted, ("", "List deleted entries too, or hide them")),
    drive("o", state::sort_next, ("", "Order the list by the next column: name, bytes, date, sort")),
    drive("r", state::reverse, ("", "Turn the order of the folder around")),
    drive(
        "/",
        state::search,
        ("find", "Show the entries that meet this: words, *.jpg, sort:pictures, >10M, since:2024-05, is:deleted"),
    ),
    drive("*", search::ask, ("search all", "Search the whole volume, by the same words")),
    bench("#", sheet::open, ("pictures", "Show the pictures that are listed side by side (contact sheet)")),
    drive(
        "~",
        adrift::toggle,
        ("adrift", "Show the files that no volume holds any more, met while the surface is swept; or the volume again"),
    ),
    drive(
        "&",
        adrift::toggle_join,
        ("", "Unite the pieces of files adrift that are cut, where that proves itself, or tell them as they are again"),
    ),
    drive("backspace", state::leave, ("up", "Go up a folder, or back to the volumes")),
];

/// Goes into the folder, or reads the file, in pages that fit the terminal.
fn enter(app: &mut App) -> Effects {
    let size = reader::size_in(app);
    let Some(drive) = &mut app.drive else { return Vec::new() };
    drive.files.reader.fit(size);
    state::enter(drive)
}

impl Stage for Files {
    fn word(&self) -> &'static str {
        "Files"
    }

    fn about(&self) -> &'static str {
        "The files of a volume or find, read without its boot sector where that is gone. Look at texts, pictures and bytes, and take files out: the manifest beside them holds length, hashes and state of each. Beside the volumes, what no volume holds any more: files found by their content while the surface is swept."
    }

    fn signs(&self) -> &'static [&'static str] {
        &[
            "Before a name: ✓ marked to be taken out, ▸ folder, ↷ link, × deleted, ∅ only its name is left.",
            "At the keel: ◦ files adrift lie here, while they are shown.",
        ]
    }

    fn keys(&self) -> &'static [StageKey] {
        KEYS
    }

    fn draw(&self, app: &App, area: Rect, buf: &mut Buffer) -> Why {
        view::draw(app, area, buf)
    }

    fn entered(&self, app: &mut App) -> Effects {
        let Some(drive) = &app.drive else { return Vec::new() };
        let closed = drive.files.volume.is_none() && drive.files.open_job.is_none() && !drive.files.adrift.is_open();
        match drive.selected_find().filter(|find| closed && find.kind.why_closed().is_none()) {
            Some(find) => state::open(find),
            None => Vec::new(),
        }
    }

    fn step(&self, app: &mut App, by: isize) -> Effects {
        if let Some(drive) = &mut app.drive {
            let last = drive.files.count().saturating_sub(1);
            drive.files.selected = drive.files.selected.saturating_add_signed(by).min(last);
        }
        Vec::new()
    }

    fn sideways(&self, app: &mut App, by: isize) -> Effects {
        if by > 0 {
            return enter(app);
        }
        app.drive.as_mut().map(state::leave).unwrap_or_default()
    }

    fn click(&self, app: &mut App, area: Rect, at: Position) -> Effects {
        if let Some(drive) = &mut app.drive {
            view::click(drive, area, at);
        }
        Vec::new()
    }

    fn typing<'a>(&self, app: &'a mut App) -> Option<&'a mut LineEdit> {
        let order = &mut app.drive.as_mut()?.files.order;
        order.typing.then_some(&mut order.filter)
    }

    fn searched(&self, app: &mut App) -> Effects {
        app.drive.iter_mut().for_each(|drive| drive.files.show_in_order());
        Vec::new()
    }

    fn typed(&self, app: &mut App, keep: bool) -> Effects {
        let Some(drive) = &mut app.drive else { return Vec::new() };
        drive.files.order.typing = false;
        if !keep {
            drive.files.order.filter = LineEdit::default();
        }
        drive.files.show_in_order();
        Vec::new()
    }

    fn selection(&self, drive: &Drive) -> Option<ByteRange> {
        let files = &drive.files;
        let adrift = files.selected_entry().and_then(|hit| files.adrift.ground(hit.entry.id));
        adrift.or_else(|| files.find.as_ref().map(Find::range))
    }

    fn place(&self, drive: &Drive) -> Option<ByteOffset> {
        let files = &drive.files;
        if files.adrift.is_open() {
            return self.selection(drive).map(|range| range.start);
        }
        let find = files.find.as_ref()?;
        let here = files.selected_entry().map(|hit| hit.entry.id);
        let preview = files.preview.as_ref().filter(|preview| Some(preview.id) == here);
        // A file's own first byte, where it has ground of its own.
        Some(preview.and_then(|preview| preview.first_at).map_or(find.start_byte, |at| find.start_byte + at.0))
    }

    fn carries_out(&self, advice: Advice) -> Option<&'static str> {
        matches!(advice, Advice::Look | Advice::Prove | Advice::TakeOut).then_some("")
    }

    fn table(&self, app: &App) -> Option<Table> {
        let files = &app.drive.as_ref()?.files;
        let row = |hit: &Hit| {
            let entry = &hit.entry;
            let times = [entry.times.created, entry.times.modified].map(|time| json!(time));
            let [created, changed] = times;
            let marked = files.is_marked(&hit.path());
            vec![
                json!(hit.path()),
                json!(entry.kind),
                json!(entry.existence),
                json!(entry.bytes),
                created,
                changed,
                json!(marked),
            ]
        };
        let columns = ["path", "kind", "existence", "bytes", "created", "changed", "marked"];
        Some(Table { rows: files.rows().map(row).collect(), selected: Some(files.selected), ..Table::new(&columns) })
    }

    fn standing(&self, drive: &Drive) -> Standing {
        if drive.files.volume.is_some() { Standing::Done } else { Standing::Open }
    }

    fn reports(&self, drive: &mut Drive, shown: Option<Rect>) -> Effects {
        state::reports(drive, shown.map(view::preview_size))
    }

    fn running(&self, drive: &Drive) -> Vec<Running> {
        let files = &drive.files;
        let out = files.extract_progress.as_ref().map_or_else(
            || "taking out".to_string(),
            |progress| format!("taking out  {}  {}", counted(progress.files, "file", "files"), size_decimal(progress.bytes)),
        );
        let taking = runs(files.extract_job.is_some(), Weight::Long, out);
        let searching = runs(files.search_job.is_some(), Weight::Long, "searching the volume");
        let within = runs(files.reader.is_searching(), Weight::Long, "searching a file");
        let adrift = files.adrift.running();
        taking
            .into_iter()
            .chain(adrift)
            .chain(searching)
            .chain(within)
            .chain(runs(files.is_reading(), Weight::Short, "reading"))
            .collect()
    }

    fn cancel(&self, drive: &mut Drive) {
        drive.files.cancel();
    }
}

#[cfg(test)]
mod tests;
