//! A whole file to be read: as text or bytes, from any place on, and searched.

use std::sync::Arc;

use crossterm::event::KeyEvent;
use keel_core::files::{Content as FileContent, Form, Page, ROW, decoded, page};
use keel_core::job::{Job, Message};
use keel_core::place::{Found, Pattern, SearchProgress, Way, search};
use keel_format::Entry;
use keel_source::{Budgeted, ByteOffset, SharedSource, printable};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::app::App;
use crate::app::effect::{Effect, Effects, change, job, show, tell, work};
use crate::popup::{Answer, Ask, Content, Place, Popup, PopupKey, frame, key, pressed, words};
use crate::widget::{hex, put};

/// Bytes by which the form of a text is told.
const HEAD: usize = 64 << 10;

/// What the reader knows of the file that is read.
#[derive(Default)]
pub(crate) struct State {
    name: String,
    content: Option<SharedSource>,
    /// How it reads as text, where it does.
    text: Option<Form>,
    as_bytes: bool,
    page: Page,
    open_job: Option<Job<(), Result<Opened, String>>>,
    page_job: Option<Job<(), Option<Page>>>,
    /// Where the next page begins that was asked for while one was read.
    next: Option<(Option<u64>, i64)>,
    wanted: String,
    found: Option<(u64, usize)>,
    search_job: Option<Job<SearchProgress, Found>>,
    size: (usize, usize),
}

/// A file that was opened.
struct Opened {
    content: SharedSource,
    text: Option<Form>,
}

impl State {
    pub(super) fn is_reading(&self) -> bool {
        self.open_job.is_some() || self.page_job.is_some()
    }

    pub(super) fn is_searching(&self) -> bool {
        self.search_job.is_some()
    }

    pub(super) fn cancel(&self) {
        crate::stage::stop(self.open_job.as_ref());
        crate::stage::stop(self.search_job.as_ref());
        crate::stage::stop(self.page_job.as_ref());
    }

    /// Pages are this wide and high from now on.
    pub(super) fn fit(&mut self, size: (usize, usize)) {
        self.size = size;
    }

    fn form(&self) -> Form {
        self.text.filter(|_| !self.as_bytes).unwrap_or(Form::Bytes)
    }

    /// Reads the page `by` rows from byte `from`, or from the one shown.
    fn turn(&mut self, from: Option<u64>, by: i64) {
        if self.page_job.is_some() {
            let (last, before) = self.next.take().unwrap_or_default();
            self.next = Some(if from.is_some() { (from, by) } else { (last, before.saturating_add(by)) });
            return;
        }
        let Some(content) = &self.content else { return };
        let (at, form, size) = (from.unwrap_or(self.page.at), self.form(), self.size);
        self.page_job = Some(Job::reading(content, move |content, _| page(content, at, by, form, size)));
    }
}

/// Opens the selected file in the reader.
pub(super) fn open(entry: &Entry) -> Effects {
    let entry = entry.clone();
    let begin = job("open a file", move |drive| {
        let files = &mut drive.files;
        let Some(volume) = files.volume.as_ref().map(Arc::clone) else { return };
        let (wanted, size) = (std::mem::take(&mut files.reader.wanted), files.reader.size);
        files.reader = State { name: entry.name.clone(), wanted, size, ..State::default() };
        files.reader.open_job = Some(Job::start(move |desk| {
            let content: SharedSource =
                Arc::new(FileContent::open(volume.as_ref(), &entry).map_err(|error| keel_core::chain(&error))?);
            let mut head = vec![0; usize::try_from(content.len()).unwrap_or(HEAD).min(HEAD)];
            // What does not read is no text.
            let _ = Budgeted::until(SharedSource::clone(&content), desk.cancel()).read_at(ByteOffset(0), &mut head);
            Ok(Opened { content, text: decoded(&head).map(|(_, encoding)| Form::Text(encoding)) })
        }));
    });
    vec![begin, Effect::Over(Box::new(Reader))]
}

/// The file. Which, the drive knows.
#[derive(Debug)]
struct Reader;

const KEYS: &[PopupKey<Reader>] = &[
    key("up k", |_, app| by_rows(app, -1), "line"),
    key("down j", |_, app| by_rows(app, 1), ""),
    key("pageup", |_, app| by_pages(app, -1), "page"),
    key("pagedown space", |_, app| by_pages(app, 1), ""),
    key("home", |_, app| to(app, 0), ""),
    key("end", |_, app| to(app, u64::MAX), ""),
    key("v", |_, app| toggled(app), "text/bytes"),
    key("/", |_, app| ask_search(app), "search"),
    key("n", |_, app| search_on(app, Way::Forward), "next"),
    key("N", |_, app| search_on(app, Way::Back), "before"),
    key("x", |_, _| Answer::Stay(vec![change("stop reading", |drive| drive.files.reader.cancel())]), ""),
    key("enter backspace q", |_, _| Answer::Close(Vec::new()), ""),
];

/// Columns and rows of the file in a terminal of this size.
pub(super) fn size_in(app: &App) -> (usize, usize) {
    let room = frame::whole(app.area);
    (usize::from(room.width), usize::from(room.height.saturating_sub(1)))
}

fn turned(app: &App, from: Option<u64>, by: i64) -> Answer {
    let size = size_in(app);
    Answer::Stay(vec![job("read a page", move |drive| {
        drive.files.reader.size = size;
        drive.files.reader.turn(from, by);
    })])
}

fn by_rows(app: &App, by: i64) -> Answer {
    turned(app, None, by)
}

fn by_pages(app: &App, by: i64) -> Answer {
    let rows = i64::try_from(size_in(app).1).unwrap_or(1);
    turned(app, None, by * (rows - 1).max(1))
}

fn to(app: &App, at: u64) -> Answer {
    // The last page is full of what comes before the end.
    let rows = i64::try_from(size_in(app).1).unwrap_or(1);
    turned(app, Some(at), if at == 0 { 0 } else { 1 - rows })
}

fn toggled(app: &App) -> Answer {
    let Answer::Stay(turn) = turned(app, None, 0) else { return Answer::Stay(Vec::new()) };
    let mut effects = vec![change("text or bytes", |drive| drive.files.reader.as_bytes ^= true)];
    effects.extend(turn);
    Answer::Stay(effects)
}

fn ask_search(app: &App) -> Answer {
    let Some(drive) = &app.drive else { return Answer::Close(Vec::new()) };
    let text = "Text, in any case, which is searched for as UTF-8 and UTF-16; or bytes: hex: eb 52 90.";
    Answer::Stay(vec![Effect::Over(Box::new(Ask::new("Search the file", text, drive.files.reader.wanted.clone(), |_, line| {
        let line = line.to_string();
        let mut effects = vec![change("remember what is searched for", move |drive| drive.files.reader.wanted = line)];
        effects.push(searching(Way::Forward));
        effects
    })))])
}

fn search_on(app: &App, way: Way) -> Answer {
    match app.drive.as_ref().is_some_and(|drive| drive.files.reader.wanted.is_empty()) {
        true => ask_search(app),
        false => Answer::Stay(vec![searching(way)]),
    }
}

fn searching(way: Way) -> Effect {
    work("search a file", move |drive| {
        let reader = &mut drive.files.reader;
        let Some(content) = reader.content.as_ref().map(Arc::clone) else { return Vec::new() };
        let pattern = match Pattern::typed(&reader.wanted) {
            Ok(pattern) => pattern,
            Err(wrong) => return tell(wrong.to_string()),
        };
        // On from where it stood last, while that is in sight.
        let seen = reader.found.map(|(at, _)| at).filter(|at| (reader.page.at..reader.page.end).contains(at));
        let from = match (seen, way) {
            (Some(at), Way::Forward) => at + 1,
            (Some(at), Way::Back) => at,
            (None, _) => reader.page.at,
        };
        reader.search_job = Some(Job::start(move |desk| search(&content, &pattern, ByteOffset(from), way, desk)));
        Vec::new()
    })
}

/// Takes what its jobs told.
pub(super) fn reports(reader: &mut State) -> Effects {
    let mut effects = Vec::new();
    for message in reader.open_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(Ok(opened)) => {
                (reader.content, reader.text) = (Some(opened.content), opened.text);
                effects.push(job("read a page", |drive| drive.files.reader.turn(Some(0), 0)));
            }
            Message::Done(Err(why)) | Message::Died(why) => effects.push(show("The file does not open", why)),
        }
        reader.open_job = None;
    }
    for message in reader.page_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(page) => page.into_iter().for_each(|page| reader.page = page),
            Message::Died(text) => effects.push(show("The page was not read", text)),
        }
        reader.page_job = None;
        if let Some((from, by)) = reader.next.take() {
            effects.push(job("read a page", move |drive| drive.files.reader.turn(from, by)));
        }
    }
    effects.extend(take_search(reader));
    effects
}

fn take_search(reader: &mut State) -> Effects {
    let mut effects = Vec::new();
    for message in reader.search_job.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(_) => continue,
            Message::Done(Found { at: Some(at), bytes, .. }) => {
                reader.found = Some((at.0, bytes));
                // A few rows before it say where it stands.
                effects.push(job("read a page", move |drive| drive.files.reader.turn(Some(at.0), -3)));
            }
            Message::Done(Found { stopped: true, .. }) => effects.extend(tell("the search was stopped")),
            Message::Done(Found { unread: 0, .. }) => effects.extend(tell("it does not stand there from here on")),
            Message::Done(Found { unread, .. }) => {
                effects.extend(tell(format!("it was not found; {unread} bytes on the way do not read")));
            }
            Message::Died(text) => effects.push(show("The search died", text)),
        }
        reader.search_job = None;
    }
    effects
}

impl Popup for Reader {
    fn title(&self, app: &App) -> String {
        let Some(reader) = app.drive.as_ref().map(|drive| &drive.files.reader) else { return "File".into() };
        let form = match reader.form() {
            Form::Text(encoding) => format!("text, {}", encoding.0),
            Form::Bytes => "bytes".into(),
        };
        format!("{}  {form}", printable(&reader.name))
    }

    fn place(&self) -> Place {
        Place::Whole
    }

    fn content(&self, _app: &App, _width: usize) -> Content {
        Content::default()
    }

    fn paint(&self, app: &App, area: Rect, buf: &mut Buffer) {
        let Some(reader) = app.drive.as_ref().map(|drive| &drive.files.reader) else { return };
        let theme = app.theme;
        let bytes = reader.content.as_ref().map_or(0, |content| content.len());
        let share = (reader.page.end * 100).checked_div(bytes).unwrap_or(100);
        let head = match reader.content {
            None => "is being opened".to_string(),
            Some(_) if bytes == 0 => "it is empty".to_string(),
            Some(_) => format!("bytes {} to {} of {bytes}, {share} %", reader.page.at, reader.page.end.saturating_sub(1)),
        };
        put(buf, area, 0, 0, &head, theme.dim());
        let inner = Rect { y: area.y + 1, height: area.height.saturating_sub(1), ..area };
        for (y, row) in (0..inner.height).zip(&reader.page.rows) {
            let found =
                reader.found.filter(|(at, len)| *at < row.at + row.bytes.len().max(1) as u64 && row.at < *at + *len as u64);
            match reader.form() {
                Form::Bytes => hex::line(buf, inner, y, row.at, &row.bytes, theme, |index| {
                    found.is_some_and(|(at, len)| (at..at + len as u64).contains(&(row.at + index as u64)))
                }),
                Form::Text(_) => {
                    let next = reader.page.rows.get(usize::from(y) + 1).map_or(reader.page.end, |next| next.at);
                    let holds = reader.found.is_some_and(|(at, _)| (row.at..next).contains(&at));
                    let style = match (row.bad, holds) {
                        (true, _) => theme.bad(),
                        (false, true) => theme.staged(),
                        _ => theme.text(),
                    };
                    put(buf, inner, 0, y, &printable(&row.text), style);
                }
            }
            if row.bad && reader.form() == Form::Bytes {
                put(buf, inner, hex::WIDTH + 1, y, "does not read", theme.bad());
            }
        }
    }

    fn keys(&self) -> Vec<(&'static str, &'static str)> {
        words(KEYS)
    }

    fn press(&mut self, key: KeyEvent, app: &App) -> Answer {
        pressed(self, KEYS, key, app).unwrap_or(Answer::Stay(Vec::new()))
    }
}

const _: () = assert!(ROW == 16, "a row of bytes is a line of the table of bytes");
