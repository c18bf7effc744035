//! The bytes at a place, with the structure that they are beside them: field, value, and where it points. Nothing is written here.

use crossterm::event::KeyEvent;
use keel_core::place::{Decoded, DecodedField, View, Way};
use keel_source::{ByteOffset, ByteRange, printable};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::go::ask_jump;
use super::state::{ask_owner, jump_to, move_to, read, search};
use crate::app::effect::{Effect, change, job, tell};
use crate::app::{App, Effects};
use crate::popup::{Answer, Ask, Content, Place, Popup, PopupKey, key, moved, pressed, words};
use crate::stage::Drive;
use crate::widget::{bar, first_shown, hex, put, wrap};

/// Bytes of a step: the sectors that structures begin in.
const STEP: u64 = 512;
/// Columns of the structure at least, beside the bytes.
const LEAST_FIELDS: u16 = 44;
/// Columns of a field's name.
const NAME: usize = 30;
/// Rows above the bytes, and those below the fields that explain the selected one.
const HEAD: u16 = 2;
const FOOT: u16 = 4;

/// The bytes. Which, the drive knows.
#[derive(Debug)]
pub(crate) struct Bytes;

const KEYS: &[PopupKey<Bytes>] = &[
    key("up k", |_, _| stay(vec![step_field(-1)]), "field"),
    key("down j", |_, _| stay(vec![step_field(1)]), ""),
    key("enter", |_, app| with(app, follow), "follows"),
    key("backspace", |_, app| with(app, go_back), "back"),
    key("pageup left", |_, app| by_sectors(app, false), "sector"),
    key("pagedown right", |_, app| by_sectors(app, true), ""),
    key("home", |_, _| stay(vec![move_to(ByteOffset(0)), read()]), ""),
    key("end", |_, _| stay(vec![move_to(ByteOffset(u64::MAX)), read()]), ""),
    key("g", |_, _| stay(vec![ask_jump()]), "go to"),
    key("/", |_, app| with(app, ask_search), "search"),
    key("n", |_, app| with(app, |drive| search_on(drive, Way::Forward)), "next"),
    key("N", |_, app| with(app, |drive| search_on(drive, Way::Back)), "before"),
    key("o", |_, _| stay(vec![ask_owner()]), "whose"),
    key("m", |_, app| with(app, ask_mark), "mark"),
    key("x", |_, _| stay(vec![job("stop", Drive::cancel)]), ""),
    key("b", |_, _| Answer::Close(Vec::new()), ""),
];

fn stay(effects: Effects) -> Answer {
    Answer::Stay(effects)
}

fn with(app: &App, what: impl FnOnce(&Drive) -> Answer) -> Answer {
    app.drive.as_ref().map_or_else(|| Answer::Close(Vec::new()), what)
}

fn structure(drive: &Drive) -> Option<&Decoded> {
    drive.place.view.as_ref()?.structure.as_ref()
}

fn selected(drive: &Drive) -> Option<&DecodedField> {
    structure(drive)?.fields.get(drive.place.field)
}

fn step_field(by: isize) -> Effect {
    change("select a field", move |drive| {
        let count = structure(drive).map_or(0, |structure| structure.fields.len());
        drive.place.field = moved(drive.place.field, by, count);
    })
}

fn follow(drive: &Drive) -> Answer {
    match selected(drive).and_then(|field| field.leads_to) {
        Some(at) => stay(jump_to(at)),
        None => stay(tell("this field points nowhere on the drive")),
    }
}

fn go_back(drive: &Drive) -> Answer {
    if drive.place.back.is_empty() {
        return stay(tell("there is nothing to go back to"));
    }
    let back = change("go back", |drive| {
        if let Some(at) = drive.place.back.pop() {
            drive.place.at = at;
        }
    });
    stay(vec![back, read()])
}

/// A sector up or down.
fn by_sectors(app: &App, forward: bool) -> Answer {
    with(app, |drive| {
        let at = drive.place.at.0 / STEP * STEP;
        let next = if forward { at.saturating_add(STEP) } else { at.saturating_sub(STEP) };
        stay(vec![move_to(ByteOffset(next)), read()])
    })
}

fn ask_search(drive: &Drive) -> Answer {
    let text = "Text, in any case, which is searched for as UTF-8 and UTF-16; or bytes: hex: eb 52 90. From here to the end; N goes back.";
    let ask = Ask::new("Search the surface", text, drive.place.wanted.clone(), |_, line| {
        let line = line.to_string();
        let mut effects = vec![change("remember what is searched for", move |drive| drive.place.wanted = line)];
        effects.extend(search(Way::Forward));
        effects
    });
    stay(vec![Effect::Over(Box::new(ask))])
}

fn search_on(drive: &Drive, way: Way) -> Answer {
    if drive.place.wanted.is_empty() { ask_search(drive) } else { stay(search(way)) }
}

/// Asks for a note on the place; it goes to the case.
fn ask_mark(drive: &Drive) -> Answer {
    let at = drive.place.at;
    let text = format!("A note on byte {} for the case of this drive. An empty one takes the mark away.", at.0);
    let ask = Ask::new("Mark this place", text, "", move |_, line| {
        let note = line.to_string();
        vec![Effect::Case(Box::new(move |case| {
            case.set_mark(at, &note)?;
            Ok(Some(if note.trim().is_empty() { "the mark is gone".into() } else { format!("byte {} is marked", at.0) }))
        }))]
    });
    stay(vec![Effect::Over(Box::new(ask))])
}

impl Popup for Bytes {
    fn title(&self, app: &App) -> String {
        let Some(drive) = &app.drive else { return "Bytes".into() };
        let at = drive.place.at.0;
        format!("Byte {at} (0x{at:x}), LBA {}", at / drive.source.sector_size().bytes())
    }

    fn place(&self) -> Place {
        Place::Whole
    }

    fn content(&self, _app: &App, _width: usize) -> Content {
        Content::default()
    }

    fn paint(&self, app: &App, area: Rect, buf: &mut Buffer) {
        let Some(drive) = &app.drive else { return };
        let place = &drive.place;
        let Some(view) = &place.view else {
            let text = if place.is_reading() { "is being read" } else { "nothing was read here" };
            put(buf, area, 0, 0, text, app.theme.dim());
            return;
        };
        let fits = area.width >= hex::WIDTH + 2 + LEAST_FIELDS;
        let left = if fits || view.structure.is_none() { hex::WIDTH.min(area.width) } else { area.width };
        let upper = if fits { area.height } else { area.height / 2 };
        draw_bytes(app, drive, view, Rect { width: left, height: upper, ..area }, buf);
        let beside = if fits {
            Rect { x: area.x + left + 2, width: area.width - left - 2, ..area }
        } else {
            Rect { y: area.y + upper, height: area.height - upper, ..area }
        };
        draw_structure(app, drive, view, beside, buf);
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, KEYS, key, app).unwrap_or(Answer::Stay(Vec::new()))
    }
}

/// The bytes from the place's sector on; what the selected field holds, or what was searched for, stands out.
fn draw_bytes(app: &App, drive: &Drive, view: &View, area: Rect, buf: &mut Buffer) {
    let place = &drive.place;
    let head = match (&view.why, view.bad.is_empty()) {
        (Some(why), false) => (format!("does not read: {}", printable(why)), app.theme.bad()),
        _ => (format!("{} bytes from 0x{:x} on", view.bytes.len(), view.at.0), app.theme.dim()),
    };
    put(buf, area, 0, 0, &head.0, head.1);
    let field = structure(drive)
        .zip(selected(drive))
        .map(|(structure, field)| ByteRange::sized(structure.at + field.offset as u64, field.bytes as u64));
    let found = place.found.map(|(at, bytes)| ByteRange::sized(at, bytes as u64));
    let marked = |at: ByteOffset| [field, found].into_iter().flatten().any(|range| range.contains(at));
    for (row, line) in (HEAD..area.height).zip(view.bytes.chunks(16)) {
        let at = view.at + u64::from(row - HEAD) * 16;
        if view.bad.iter().any(|bad| bad.contains(at)) {
            put(buf, area, 0, row, &format!("{:>11x}  does not read", at.0), app.theme.bad());
            continue;
        }
        hex::line(buf, area, row, at.0, line, app.theme, |index| marked(at + index as u64));
    }
}

/// The structure's fields, and below them what the selected one is for.
fn draw_structure(app: &App, drive: &Drive, view: &View, area: Rect, buf: &mut Buffer) {
    let theme = app.theme;
    let Some(structure) = &view.structure else {
        put(buf, area, 0, 0, "no structure that is known here", theme.dim());
        draw_notes(app, drive, None, Rect { y: area.y + 1, height: area.height.saturating_sub(1), ..area }, buf);
        return;
    };
    put(buf, area, 0, 0, structure.name, theme.strong());
    put(buf, area, 0, 1, &format!("at byte {}; {}", structure.at.0, structure.standard), theme.dim());
    let rows = Rect { y: area.y + HEAD, height: area.height.saturating_sub(HEAD + FOOT), ..area };
    let first = first_shown(drive.place.field, structure.fields.len(), usize::from(rows.height));
    for (index, field) in structure.fields.iter().enumerate().skip(first).take(usize::from(rows.height)) {
        let y = u16::try_from(index - first).unwrap_or(0);
        let lead = if field.leads_to.is_some() { "→" } else { " " };
        put(buf, rows, 0, y, &format!("{:<NAME$} {lead} {}", field.name, field.value), theme.text());
        if index == drive.place.field {
            bar(buf, rows, y, theme.selected());
        }
    }
    let foot = Rect { y: area.bottom().saturating_sub(FOOT), height: FOOT.min(area.height), ..area };
    draw_notes(app, drive, structure.fields.get(drive.place.field), foot, buf);
}

/// What the selected field is for, who holds the place, and what was noted on it.
fn draw_notes(app: &App, drive: &Drive, field: Option<&DecodedField>, area: Rect, buf: &mut Buffer) {
    let mut notes = Vec::new();
    if let Some((at, what)) = field.and_then(|field| field.leads_to.zip(field.leads)) {
        notes.push(format!("→ byte {}: {what}; enter follows", at.0));
    }
    notes.extend(field.filter(|field| !field.breaks.is_empty()).map(|field| format!("where it is wrong: {}", field.breaks)));
    let at = drive.place.at;
    if let Some((_, owner)) = drive.place.owner.as_ref().filter(|(of, _)| *of == at) {
        notes.push(match owner {
            None => "nobody's: free, or not told apart".into(),
            Some(owner) => format!("{}: byte {} of it", owner.path, owner.at),
        });
    }
    let mark = app.case.as_ref().and_then(|case| case.record.marks.iter().find(|mark| mark.at == at));
    notes.extend(mark.map(|mark| format!("mark: {}", mark.note)));
    let lines = notes.iter().flat_map(|note| wrap(note, usize::from(area.width)));
    for (y, line) in (0..area.height).zip(lines) {
        put(buf, area, 0, y, &line, app.theme.dim());
    }
}
