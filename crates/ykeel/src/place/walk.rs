//! The walk along the keel: a cursor on its rows, and what lies there at the right.

use crossterm::event::KeyEvent;
use keel_core::sweep::{Find, outer};
use keel_format::table::TableReading;
use keel_source::{ByteOffset, ByteRange, size_decimal};

use super::state::{ask_owner, move_to, show_bytes};
use crate::app::effect::{Effect, change, job, tell};
use crate::app::{App, Effects};
use crate::popup::{Answer, Content, Place, Popup, PopupKey, Tone, key, pressed, words};
use crate::stage::{Drive, zoom};
use crate::widget::{ground, keel, times, wrap};

/// Rows of a page.
const PAGE: i64 = 10;

/// The walk. Where it is, the drive knows.
#[derive(Debug)]
pub(crate) struct Walk;

const KEYS: &[PopupKey<Walk>] = &[
    key("up k", |_, app| by_rows(app, -1), "walks"),
    key("down j", |_, app| by_rows(app, 1), ""),
    key("pageup", |_, app| by_rows(app, -PAGE), ""),
    key("pagedown", |_, app| by_rows(app, PAGE), ""),
    key("home", |_, _| stay(vec![move_to(ByteOffset(0))]), ""),
    key("end", |_, _| stay(vec![move_to(ByteOffset(u64::MAX))]), ""),
    key("left [", |_, app| boundary(app, false), "boundary"),
    key("right ]", |_, app| boundary(app, true), ""),
    key("+ =", |_, _| stay(vec![zoomed(1)]), "zoom"),
    key("-", |_, _| stay(vec![zoomed(-1)]), ""),
    key("g", |_, _| Answer::Close(vec![Effect::Do(crate::keys::Does::Drive(super::ask_place))]), "go to"),
    key("b", |_, app| with(app, |drive| Answer::Close(show_bytes(drive.place.at))), "bytes"),
    key("o", |_, _| stay(vec![ask_owner()]), "whose"),
    key("enter", |_, app| with(app, select), "select"),
    key("x", |_, _| stay(vec![job("stop", Drive::cancel)]), ""),
    key("K", |_, _| Answer::Close(Vec::new()), ""),
];

fn stay(effects: Effects) -> Answer {
    Answer::Stay(effects)
}

fn zoomed(by: i32) -> Effect {
    change("zoom the keel", move |drive| zoom(drive, by))
}

fn with(app: &App, what: impl FnOnce(&Drive) -> Answer) -> Answer {
    app.drive.as_ref().map_or_else(|| Answer::Close(Vec::new()), what)
}

/// Selects what lies at the place in the stage.
fn select(drive: &Drive) -> Answer {
    match drive.find_at(drive.place.at) {
        Some(_) => Answer::Close(vec![change("select what lies here", |drive| drive.select_at(drive.place.at))]),
        None => Answer::Stay(tell("no find lies here")),
    }
}

/// So many rows of the keel up or down.
fn by_rows(app: &App, rows: i64) -> Answer {
    let Some(shown) = app.parts().and_then(|parts| keel::rows(app, parts.keel)) else { return stay(Vec::new()) };
    with(app, |drive| {
        let by = shown.row_bytes().saturating_mul(rows.unsigned_abs());
        let at = drive.place.at.0;
        stay(vec![move_to(ByteOffset(if rows < 0 { at.saturating_sub(by) } else { at.saturating_add(by) }))])
    })
}

/// The next boundary, or the one before: where an entry, a find or a staged entry begins or ends, and where something does not read.
fn boundary(app: &App, forward: bool) -> Answer {
    with(app, |drive| {
        let sector = drive.source.sector_size();
        let entries = |table: &TableReading| table.partitions.iter().map(|entry| entry.range(sector)).collect::<Vec<_>>();
        let mut ranges = entries(&drive.plan.table);
        ranges.extend(drive.plan.planned.iter().flat_map(entries));
        ranges.extend(outer(&drive.sweep.finds).map(Find::range));
        ranges.extend(drive.sweep.bad.iter().chain(drive.source.missing()));
        let last = drive.source.len().saturating_sub(1);
        let bounds = ranges.iter().flat_map(|range| [range.start.0, range.end.0]).chain([0, last]).filter(|at| *at <= last);
        let here = drive.place.at.0;
        let next = if forward { bounds.filter(|at| *at > here).min() } else { bounds.filter(|at| *at < here).max() };
        next.map_or_else(|| stay(tell("no boundary lies that way")), |at| stay(vec![move_to(ByteOffset(at))]))
    })
}

impl Popup for Walk {
    fn title(&self, _app: &App) -> String {
        "What lies here".into()
    }

    fn place(&self) -> Place {
        Place::Side
    }

    fn content(&self, app: &App, width: usize) -> Content {
        let Some(drive) = &app.drive else { return Content::default() };
        let mut rows = Vec::new();
        for (text, tone) in lines(app, drive) {
            rows.extend(wrap(&text, width).into_iter().map(|line| (line, tone)));
        }
        Content { rows, ..Content::default() }
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, KEYS, key, app).unwrap_or(Answer::Stay(Vec::new()))
    }
}

/// What lies at the place, line by line.
fn lines(app: &App, drive: &Drive) -> Vec<(String, Tone)> {
    let at = drive.place.at;
    let (len, sector) = (drive.source.len().max(1), drive.source.sector_size());
    // A tenth of a percent of any drive fits.
    let share = u128::from(at.0) * 1000 / u128::from(len);
    let mut lines = vec![
        (format!("byte {} (0x{:x})", at.0, at.0), Tone::Plain),
        (format!("LBA {}, {}.{} % of {}", at.0 / sector.bytes(), share / 10, share % 10, size_decimal(len)), Tone::Plain),
        (String::new(), Tone::Plain),
    ];
    let row = app.parts().and_then(|parts| keel::rows(app, parts.keel)).map_or(1, |rows| rows.row_bytes());
    let stretch = drive.ground.stretch(ByteRange::sized(at, row), drive.ground.usual_us());
    lines.push((format!("ground: {}", ground::words(&stretch)), Tone::Plain));
    if stretch.slowest_us > 0 {
        lines.push((format!("longest read here: {}", times::words(stretch.slowest_us)), Tone::Plain));
    }
    let entry = |table: &TableReading| {
        let own = table.partitions.iter().find(|entry| entry.range(sector).contains(at));
        own.map_or_else(
            || "no entry".into(),
            |entry| {
                let last = entry.first.0.saturating_add(entry.sectors.0).saturating_sub(1);
                format!("{}, LBA {} to {last}", entry.type_code.word(), entry.first.0)
            },
        )
    };
    lines.push((format!("now: {}", entry(&drive.plan.table)), Tone::Plain));
    let found = drive.find_at(at).map_or_else(|| "no find".into(), |find| found(find, at));
    lines.push((format!("found: {found}"), Tone::Plain));
    if let Some(planned) = &drive.plan.planned {
        lines.push((format!("plan: {}", entry(planned)), Tone::Plain));
    }
    if let Some((of, owner)) = drive.place.owner.as_ref().filter(|(of, _)| *of == at) {
        let whose = match owner {
            None => "nobody's: free, or not told apart".to_string(),
            Some(owner) => {
                let deleted = if owner.deleted { ", deleted" } else { "" };
                format!("{}{deleted}: extent {} of {}, byte {} of it", owner.path, owner.extent, owner.extents, owner.at)
            }
        };
        lines.push((format!("whose (byte {}): {whose}", of.0), Tone::Plain));
    }
    if let Some(mark) = app.case.as_ref().and_then(|case| case.record.marks.iter().find(|mark| mark.at == at)) {
        lines.push((format!("mark: {}", mark.note), Tone::Plain));
    }
    lines
}

fn found(find: &Find, at: ByteOffset) -> String {
    let label = find.label.as_deref().map(|label| format!(" {label}")).unwrap_or_default();
    format!("{} {}{label}, {}; byte {} of it", find.id, find.kind.word(), find.grade.word(), at - find.start_byte)
}
