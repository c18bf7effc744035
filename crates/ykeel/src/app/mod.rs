//! The screens: one loop that takes keys and job reports, changes the state, and draws it.

mod arrivals;
mod case;
pub(crate) mod effect;
mod event;
mod export;
mod keeper;
mod opening;
mod report;
mod round;
mod state;

#[cfg(test)]
mod tests;

use std::path::{Path, PathBuf};
use std::thread;
use std::time::Duration;

use crossbeam_channel::{Receiver, RecvTimeoutError, unbounded};
use crossterm::event::{Event, KeyCode, KeyModifiers, read};
use keel_core::yard;
use ratatui::layout::Rect;
use ratatui::widgets::{Clear, Widget};

pub(crate) use effect::{Effect, Effects};
use opening::Yard;
pub(crate) use state::App;

use crate::config;
use crate::popup::frame;
use crate::term::Guard;
use crate::widget;

/// What is told where the drive is left alone until a write is over.
const WRITING: &str = "the drive is being written; wait for the end, or stop the measurement with x";

/// Longest wait for a key while a job runs: keeps its figures moving.
const BUSY: Duration = Duration::from_millis(60);
/// Longest wait for jobs on their way out, before the terminal is given back.
const PARTING: Duration = Duration::from_millis(700);
/// Longest wait while nothing runs.
const IDLE: Duration = Duration::from_millis(250);

/// Opens the screens on `sources`; without any, on the yard of this folder.
pub(crate) fn open(sources: &[PathBuf], sector_size: Option<u32>) -> anyhow::Result<()> {
    let folder = match sources {
        [] => Some(config::get().folders.yard.as_deref().unwrap_or(Path::new("."))),
        [only] => Some(only.as_path()).filter(|only| only.is_dir()),
        _ => None,
    };
    if let Some(folder) = folder {
        return run(of_folder(folder, sector_size)?);
    }
    // A drive calls itself by its whole path: rows and drives are told together by it.
    let paths: Vec<PathBuf> = sources.iter().map(|path| whole(path)).collect();
    let mut app = App::new(yard::berths(paths.clone()), sector_size);
    if let [only] = paths.as_slice() {
        app.run(vec![Effect::Open(only.clone(), None)]);
    }
    run(app)
}

/// Opens the yard of folder `dir`.
pub(crate) fn open_yard(dir: &Path) -> anyhow::Result<()> {
    run(of_folder(dir, None)?)
}

/// The whole path of what lies at `path`, without links; as it stands where nothing lies there.
pub(crate) fn whole(path: &Path) -> PathBuf {
    path.canonicalize().unwrap_or_else(|_| path.to_path_buf())
}

/// The screens on the yard of a folder.
fn of_folder(folder: &Path, sector_size: Option<u32>) -> anyhow::Result<App> {
    // A folder that cannot be read is an error now, not an empty yard.
    yard::paths(folder)?;
    let yard = Yard::Folder(whole(folder));
    Ok(App { yard: yard.clone(), ..App::new(yard.berths(&[]), sector_size) })
}

fn run(mut app: App) -> anyhow::Result<()> {
    app.watch_devices();
    let mut guard = Guard::take()?;
    let (input, asked) = (input(), crate::signals::asked());
    let mut mouse = false;
    while !app.quit {
        let mut area = Rect::default();
        guard.terminal.draw(|frame| {
            area = frame.area();
            draw(&app, area, frame.buffer_mut());
        })?;
        app.area = area;
        if mouse != app.mouse {
            mouse = app.mouse;
            crate::term::take_mouse(mouse);
        }
        let wait = if app.is_busy() { BUSY } else { IDLE };
        match input.recv_timeout(wait) {
            Ok(event) if is_suspend(&event) => {
                guard.suspend()?;
                mouse = false;
            }
            Ok(event) => {
                app.take_event(&event);
                // Whatever else is waiting is taken before the next frame.
                while let Ok(event) = input.try_recv() {
                    app.take_event(&event);
                }
            }
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => break,
        }
        app.take_reports();
        if std::mem::take(&mut app.rings) {
            crate::term::ring();
        }
        if let Some(text) = app.clip.take() {
            crate::term::clip(&text);
        }
        // Jobs are stopped as they are dropped; a probe puts everything back before it ends.
        app.quit |= asked.is_cancelled();
    }
    // What is typed after the screens are gone is the shell's: the jobs come to their end first, as far as that takes no time.
    drop(app);
    keel_core::job::wait_for_dropped_at_most(PARTING);
    match asked.is_cancelled() {
        true => Err(crate::exit::Ended::Cancelled.into()),
        false => Ok(()),
    }
}

/// Ctrl-Z, which the terminal hands on as a key while it is taken over.
fn is_suspend(event: &Event) -> bool {
    matches!(event, Event::Key(key) if key.code == KeyCode::Char('z') && key.modifiers.contains(KeyModifiers::CONTROL))
}

/// Keys, clicks and resizes, read by a thread of their own.
fn input() -> Receiver<Event> {
    let (sender, receiver) = unbounded();
    thread::spawn(move || {
        while let Ok(event) = read() {
            if sender.send(event).is_err() {
                return;
            }
        }
    });
    receiver
}

/// Draws a whole frame.
pub(crate) fn draw(app: &App, area: Rect, buf: &mut ratatui::buffer::Buffer) {
    let stage = app.stage.stage();
    let Some(parts) = widget::parts(area, stage.is_wide()) else {
        let (width, height) = widget::LEAST;
        let text =
            format!("Yellow Keel wants {width}x{height} characters at least; this terminal has {}x{}.", area.width, area.height);
        widget::put(buf, area, 0, 0, &text, app.theme.text());
        widget::put(buf, area, 0, 1, "q leaves.", app.theme.text());
        return;
    };
    widget::course::draw(app, &parts, buf);
    if parts.keel.width > 0 {
        widget::keel::draw(app, parts.keel, buf);
        widget::rule(buf, parts.middle, app.theme.line());
    }
    let why = stage.draw(app, parts.middle, buf);
    if !parts.is_small {
        why.draw(app.theme, parts.why, buf);
    } else if app.shows_why {
        Clear.render(parts.why.intersection(buf.area), buf);
        why.draw(app.theme, parts.why, buf);
    }
    widget::foot::draw(app, parts.foot, buf);
    if let Some(popup) = app.popups.last() {
        frame::draw(app, popup.as_ref(), area, buf);
    }
    if app.is_ascii {
        widget::ascii::draw(buf);
    }
}
