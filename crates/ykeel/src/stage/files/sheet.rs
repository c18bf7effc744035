//! The contact sheet: the pictures of a folder, or of what was found, side by side.

use std::collections::BTreeMap;
use std::sync::Arc;

use crossterm::event::KeyEvent;
use keel_core::files::{Hit, Sort};
use keel_core::job::{Job, Message};
use keel_format::{NodeId, NodeKind};
use keel_source::printable;
use ratatui::buffer::Buffer;
use ratatui::layout::{Rect, Size};
use ratatui::widgets::Widget;
use ratatui_image::Image;
use ratatui_image::protocol::Protocol;

use super::preview::picture_of;
use super::search::weigh_anew;
use crate::app::App;
use crate::app::effect::{Effect, Effects, change, job, show, tell};
use crate::popup::{Answer, Content, Place, Popup, PopupKey, frame, key, moved, pressed, words};
use crate::stage::Drive;
use crate::widget::{cut, put};

/// Columns and rows of a picture with its name, and a free column and row between two.
const CELL: Size = Size { width: 24, height: 10 };
/// The most pictures whose small forms are kept.
const MOST_KEPT: usize = 600;

/// A small picture, or why there is none.
type Small = Result<Protocol, String>;

/// The state of the sheet.
#[derive(Default)]
pub(crate) struct State {
    pictures: Vec<Hit>,
    selected: usize,
    small: BTreeMap<NodeId, Small>,
    job: Option<Job<(NodeId, Small), ()>>,
}

impl State {
    pub(super) fn is_reading(&self) -> bool {
        self.job.is_some()
    }

    pub(super) fn cancel(&self) {
        crate::stage::stop(self.job.as_ref());
    }

    /// The pictures of the page with the selected one.
    fn page(&self, (across, down): (usize, usize)) -> &[Hit] {
        let per = (across * down).max(1);
        let first = self.selected / per * per;
        self.pictures.get(first..(first + per).min(self.pictures.len())).unwrap_or_default()
    }
}

/// The sheet. Of which pictures, the drive knows.
#[derive(Debug)]
struct Sheet;

const KEYS: &[PopupKey<Sheet>] = &[
    key("left h", |_, app| step(app, |_| -1), "picture"),
    key("right l", |_, app| step(app, |_| 1), ""),
    key("up k", |_, app| step(app, |(across, _)| -across), ""),
    key("down j", |_, app| step(app, |(across, _)| across), ""),
    key("pageup", |_, app| step(app, |(across, down)| -across * down), "page"),
    key("pagedown", |_, app| step(app, |(across, down)| across * down), ""),
    key("home", |_, app| step(app, |_| isize::MIN / 2), ""),
    key("end", |_, app| step(app, |_| isize::MAX / 2), ""),
    key("space", |_, _| Answer::Stay(mark()), "mark"),
    key("x", |_, _| Answer::Stay(vec![change("stop the sheet", |drive| drive.files.sheet.cancel())]), ""),
    key("enter", |_, _| Answer::Close(vec![change("go to the picture", go_to)]), "goes to it"),
    key("# q", |_, _| Answer::Close(Vec::new()), ""),
];

/// Pictures across and down in a terminal of this size.
fn grid(area: Rect) -> (usize, usize) {
    let room = frame::whole(area);
    (usize::from((room.width / CELL.width).max(1)), usize::from((room.height / CELL.height).max(1)))
}

/// Opens the sheet of what is listed.
pub(super) fn open(app: &mut App) -> Effects {
    let grid = grid(app.area);
    let Some(drive) = &mut app.drive else { return Vec::new() };
    let files = &mut drive.files;
    let is_picture = |hit: &&Hit| hit.entry.kind == NodeKind::File && Sort::of(&hit.entry.name) == Sort::Picture;
    let pictures: Vec<Hit> = files.rows().filter(is_picture).cloned().collect();
    let Some(selected) = (!pictures.is_empty()).then(|| {
        let here = files.selected_entry().map(|hit| hit.entry.id);
        pictures.iter().position(|hit| Some(hit.entry.id) == here).unwrap_or(0)
    }) else {
        return tell("no pictures are listed here; * searches the whole volume: sort:pictures");
    };
    files.sheet = State { pictures, selected, ..State::default() };
    vec![read(grid), Effect::Over(Box::new(Sheet))]
}

fn step(app: &App, by: impl FnOnce((isize, isize)) -> isize) -> Answer {
    let grid = grid(app.area);
    let by = by((grid.0 as isize, grid.1 as isize));
    let select = change("select a picture", move |drive| {
        let sheet = &mut drive.files.sheet;
        sheet.selected = moved(sheet.selected, by, sheet.pictures.len());
    });
    Answer::Stay(vec![select, read(grid)])
}

fn mark() -> Effects {
    let mut effects = vec![change("mark a picture", |drive| {
        let files = &mut drive.files;
        let hit = files.sheet.pictures.get(files.sheet.selected).cloned();
        hit.iter().for_each(|hit| files.mark(hit));
    })];
    effects.extend(weigh_anew());
    effects
}

fn go_to(drive: &mut Drive) {
    let files = &mut drive.files;
    let id = files.sheet.pictures.get(files.sheet.selected).map(|hit| hit.entry.id);
    let row = files.rows().position(|hit| Some(hit.entry.id) == id);
    files.selected = row.unwrap_or(files.selected);
}

/// Reads the pictures of the page that are not known yet.
fn read(grid: (usize, usize)) -> Effect {
    job("read pictures", move |drive| {
        let files = &mut drive.files;
        let Some(volume) = files.volume.as_ref().map(Arc::clone) else { return };
        let sheet = &mut files.sheet;
        if sheet.small.len() > MOST_KEPT {
            sheet.small.clear();
        }
        let wanted: Vec<_> = sheet.page(grid).iter().filter(|hit| !sheet.small.contains_key(&hit.entry.id)).cloned().collect();
        let size = Size::new(CELL.width - 2, CELL.height - 2);
        // The page before is not waited for: dropping a job stops it.
        sheet.job = (!wanted.is_empty()).then(|| {
            Job::start(move |desk| {
                for hit in wanted {
                    if desk.cancel().is_cancelled() {
                        return;
                    }
                    desk.tell((hit.entry.id, picture_of(volume.as_ref(), &hit.entry, size)));
                }
            })
        });
    })
}

/// Takes what its job told.
pub(super) fn reports(sheet: &mut State) -> Effects {
    let mut effects = Vec::new();
    for message in sheet.job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress((id, small)) => {
                sheet.small.insert(id, small);
                continue;
            }
            Message::Done(()) => {}
            Message::Died(text) => effects.push(show("The pictures were not read", text)),
        }
        sheet.job = None;
    }
    effects
}

impl Popup for Sheet {
    fn title(&self, app: &App) -> String {
        let Some(files) = app.drive.as_ref().map(|drive| &drive.files) else { return "Contact sheet".into() };
        let sheet = &files.sheet;
        let marked = super::search::weighed(files);
        let separator = if marked.is_empty() { "" } else { "  " };
        format!("Contact sheet  {} of {}{separator}{marked}", sheet.selected + 1, sheet.pictures.len())
    }

    fn place(&self) -> Place {
        Place::Whole
    }

    fn content(&self, _app: &App, _width: usize) -> Content {
        Content::default()
    }

    fn paint(&self, app: &App, area: Rect, buf: &mut Buffer) {
        let Some(files) = app.drive.as_ref().map(|drive| &drive.files) else { return };
        let (sheet, theme) = (&files.sheet, app.theme);
        let (across, down) = grid(app.area);
        let here = sheet.pictures.get(sheet.selected).map(|hit| hit.entry.id);
        for (index, hit) in sheet.page((across, down)).iter().enumerate() {
            let (x, y) = ((index % across) as u16 * CELL.width, (index / across) as u16 * CELL.height);
            let cell = Rect { x: area.x + x, y: area.y + y, width: CELL.width - 2, height: CELL.height - 2 };
            let inside = cell.intersection(area).intersection(buf.area);
            match sheet.small.get(&hit.entry.id) {
                Some(Ok(small)) => Image::new(small).render(inside, buf),
                Some(Err(why)) => put(buf, inside, 0, 0, &cut(why, usize::from(inside.width)), theme.bad()),
                None => put(buf, inside, 0, 0, "is being read", theme.dim()),
            }
            let mark = if files.is_marked(&hit.path()) { "✓ " } else { "" };
            let name = cut(&format!("{mark}{}", printable(&hit.entry.name)), usize::from(cell.width));
            let style = if Some(hit.entry.id) == here { theme.selected() } else { theme.text() };
            put(buf, area, x, y + CELL.height - 2, &format!("{name:<width$}", width = usize::from(cell.width)), style);
        }
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, KEYS, key, app).unwrap_or(Answer::Stay(Vec::new()))
    }
}
