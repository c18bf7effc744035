//! Keys of every stage.

use keel_draw::Audience;
use keel_source::ByteOffset;

use super::{Drive, StageId};
use crate::app::effect::tell;
use crate::app::{App, Effect, Effects};
use crate::config;
use crate::keys::{StageKey, bench, drive};
use crate::place::{self, Walk};
use crate::popup::{Ask, Commands, Jobs, Text};

/// Lines of a page.
const PAGE: isize = 20;
/// How far the keel is zoomed in at most: each step halves what it shows.
const MOST_ZOOM: u32 = 16;

/// Keys of the stages that are about a drive.
pub(super) const OF_DRIVES: &[StageKey] = &[
    drive("P", ask_report, ("", "Write the report of this drive as a PDF, with drawings and journal")),
    bench("K", walk, ("", "Walk the keel: what lies at each place, whose it is, how it reads")),
    bench("b", bytes, ("", "Show the bytes at what is selected, with the structure that they are")),
    drive("g", place::ask_place, ("", "Go to a byte, a sector or a share of the drive")),
];

/// Keys of all stages.
pub(super) const EVERYWHERE: &[StageKey] = &[
    bench("x", App::cancel, ("", "Stop the running job; a sweep or copy can go on later from where it was")),
    bench("up k", |app| step(app, -1), ("", "Go up")),
    bench("down j", |app| step(app, 1), ("", "Go down")),
    bench("left h", |app| sideways(app, -1), ("", "Go left: the volume before, up a folder, or out of the fields")),
    bench("right l", |app| sideways(app, 1), ("", "Go right: the next volume, into the folder, or into the fields")),
    bench("pageup", |app| step(app, -PAGE), ("", "Go up a page")),
    bench("pagedown", |app| step(app, PAGE), ("", "Go down a page")),
    bench("home", |app| step(app, isize::MIN / 2), ("", "Go to the first line")),
    bench("end", |app| step(app, isize::MAX / 2), ("", "Go to the last line")),
    drive("+ =", |drive| zoomed(drive, 1), ("", "Zoom the keel in on the selection")),
    drive("-", |drive| zoomed(drive, -1), ("", "Zoom the keel out")),
    bench("tab", |app| beside(app, 1), ("", "Go to the next stage")),
    bench("backtab", |app| beside(app, StageId::ALL.len() - 1), ("", "Go to the stage before")),
    bench(
        "J",
        |_| vec![Effect::Over(Box::new(Jobs::default()))],
        ("", "List the jobs of all drives: stop them, let them rest, go to them"),
    ),
    bench("X", ask_export, ("", "Write the list to a file: JSON, CSV or text, by the ending of its name (export)")),
    bench("Y", clip, ("", "Copy the selected line to the terminal's clipboard (yank)")),
    bench(".", show_why, ("", "On a small terminal: show the right side over the stage, or put it away")),
    bench("M", change_mouse, ("", "Leave clicks to the terminal, which selects text with them, or take them back (mouse)")),
    bench("?", help, ("help", "Say what this stage shows and which keys work here")),
    bench(":", |_| vec![Effect::Over(Box::new(Commands::default()))], ("commands", "Search all commands")),
    bench("q ctrl-c", |_| vec![Effect::Quit], ("", "Leave Yellow Keel (quit)")),
];

fn step(app: &mut App, by: isize) -> Effects {
    app.stage.stage().step(app, by)
}

fn sideways(app: &mut App, by: isize) -> Effects {
    app.stage.stage().sideways(app, by)
}

/// Zooms the keel in or out.
pub(crate) fn zoom(drive: &mut Drive, by: i32) {
    drive.zoom = drive.zoom.saturating_add_signed(by).min(MOST_ZOOM);
}

fn zoomed(drive: &mut Drive, by: i32) -> Effects {
    zoom(drive, by);
    Vec::new()
}

/// Where the selection of the stage begins.
fn selected(app: &App) -> Option<ByteOffset> {
    app.drive.as_ref().and_then(|drive| app.stage.stage().place(drive))
}

fn walk(app: &mut App) -> Effects {
    let at = selected(app);
    let Some(drive) = &mut app.drive else { return Vec::new() };
    drive.place.at = at.unwrap_or(drive.place.at);
    vec![Effect::Over(Box::new(Walk))]
}

fn bytes(app: &mut App) -> Effects {
    let at = selected(app);
    let Some(drive) = &app.drive else { return Vec::new() };
    place::show_bytes(at.unwrap_or(drive.place.at))
}

fn beside(app: &mut App, steps: usize) -> Effects {
    let here = StageId::ALL.iter().position(|stage| *stage == app.stage).unwrap_or(0);
    vec![Effect::GoTo(StageId::ALL[(here + steps) % StageId::ALL.len()])]
}

/// Asks where the list of the stage goes.
fn ask_export(app: &mut App) -> Effects {
    if app.stage.stage().table(app).is_none_or(|table| table.rows.is_empty()) {
        return tell("there is no list here");
    }
    let folder = config::get().folders.reports.clone().unwrap_or_default();
    let drive = app.drive.as_ref().filter(|_| app.stage != StageId::Yard).map_or_else(|| "yard".into(), Drive::plain_name);
    let word = app.stage.stage().word().to_lowercase();
    let name = folder.join(format!("{drive}-{word}.csv")).to_string_lossy().into_owned();
    let text = "The file to write; its ending says how: .json, .csv or .txt. Nothing that is there is overwritten.";
    vec![Effect::Over(Box::new(Ask::path("Write the list", text, name, |_, line| vec![Effect::Export(line.trim().into())])))]
}

/// Copies the selected line.
fn clip(app: &mut App) -> Effects {
    let line = app.stage.stage().table(app).and_then(|table| table.selected_line());
    match line {
        Some(line) => {
            let mut effects = tell("the line is on the terminal's clipboard, where the terminal allows that");
            effects.push(Effect::Clip(line));
            effects
        }
        None => tell("nothing is selected here"),
    }
}

fn show_why(app: &mut App) -> Effects {
    app.shows_why = !app.shows_why;
    Vec::new()
}

fn change_mouse(app: &mut App) -> Effects {
    app.mouse = !app.mouse;
    tell(if app.mouse {
        "clicks are taken here again"
    } else {
        "clicks are the terminal's: it selects text with them; M takes them back"
    })
}

fn help(app: &mut App) -> Effects {
    vec![Effect::Over(Box::new(Text::help(app.stage)))]
}

fn ask_report(drive: &mut Drive) -> Effects {
    let name = drive.plain_name();
    let text = "Whom is it for? client: one page in plain words, figures, pictures, the drive before and after. bench: rungs, \
                drawings, journal. court: the client's with all evidence, hashes and the whole journal.";
    vec![Effect::Over(Box::new(Ask::new("Report", text, "client", move |_, line| ask_where(&name, line.trim()))))]
}

/// Where a report goes, once it is known whom it is for.
fn ask_where(drive: &str, whom: &str) -> Effects {
    let audience = match whom {
        "client" => Audience::Client,
        "bench" => Audience::Bench,
        "court" => Audience::Court,
        _ => return tell("a report is for: client, bench, court"),
    };
    let folder = config::get().folders.reports.clone().unwrap_or_default();
    let name = folder.join(format!("{drive}-{whom}.pdf")).to_string_lossy().into_owned();
    let text = "The file to write: FILE.pdf for print, FILE.html for a browser.";
    let ask = Ask::path("Report to write", text, name, move |_, line| vec![Effect::Report(line.trim().into(), audience)]);
    vec![Effect::Over(Box::new(ask))]
}
