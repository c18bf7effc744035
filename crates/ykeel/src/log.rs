//! The log of this run, where one is kept: what is written to it comes from the commands and from what the screens set off. It is written
//! by a thread of its own, so that no key waits for it, and begun when the first drive was opened: it must not lie on one.

use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::thread::{self, JoinHandle};

use crossbeam_channel::{Sender, unbounded};
use keel_core::CoreError;
use keel_core::log::Log;
use keel_core::whose;
use keel_source::Source;

/// An event, and what belongs to it.
type Line = (String, String);

/// The log, from the first line on.
struct Kept {
    path: PathBuf,
    /// Lines from before it was begun.
    waiting: Vec<Line>,
    /// Who writes it, once it was begun.
    writer: Option<(Sender<Line>, JoinHandle<()>)>,
}

static LOG: Mutex<Option<Kept>> = Mutex::new(None);

fn with<T>(what: impl FnOnce(&mut Kept) -> T) -> Option<T> {
    LOG.lock().unwrap_or_else(PoisonError::into_inner).as_mut().map(what)
}

/// Keeps a log at `path` from here on.
pub(crate) fn keep(path: &Path) {
    let kept = Kept { path: path.to_path_buf(), waiting: Vec::new(), writer: None };
    *LOG.lock().unwrap_or_else(PoisonError::into_inner) = Some(kept);
}

/// Writes a line, where a log is kept.
pub(crate) fn line(event: &str, detail: &str) {
    with(|kept| {
        let line = (event.to_string(), detail.to_string());
        match &kept.writer {
            Some((sender, _)) => drop(sender.send(line)),
            None => kept.waiting.push(line),
        }
    });
}

impl Kept {
    /// Begins it, with what waits for it.
    fn begin(&mut self) -> Result<(), CoreError> {
        if self.writer.is_some() {
            return Ok(());
        }
        let log = Log::open(&self.path)?;
        let (sender, lines) = unbounded::<Line>();
        let writer = thread::spawn(move || lines.iter().for_each(|(event, detail)| log.line(&event, &detail)));
        self.waiting.drain(..).for_each(|line| drop(sender.send(line)));
        self.writer = Some((sender, writer));
        Ok(())
    }
}

/// Notes that a drive was opened.
///
/// # Errors
/// [`CoreError::Refused`] where the log would lie on its own medium, [`CoreError::File`] where it cannot be kept.
pub(crate) fn opened(source: &dyn Source) -> Result<(), CoreError> {
    let mut log = LOG.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(kept) = log.as_mut() {
        let begun = whose::not_on_its_own_medium(source, &kept.path).and_then(|()| kept.begin());
        if let Err(error) = begun {
            // One that may not be begun is not begun later either.
            log.take_if(|kept| kept.writer.is_none());
            return Err(error);
        }
    }
    drop(log);
    let identity = source.identity();
    let serial = identity.serial.as_deref().unwrap_or("no serial number");
    line("open", &format!("{} ({serial}, {} bytes)", identity.name, identity.bytes));
    Ok(())
}

/// Writes what is still to be written, of a run that opened no drive as well.
///
/// # Errors
/// [`CoreError::File`] where it cannot be kept.
pub(crate) fn close() -> Result<(), CoreError> {
    let kept = LOG.lock().unwrap_or_else(PoisonError::into_inner).take();
    let Some(mut kept) = kept else { return Ok(()) };
    kept.begin()?;
    if let Some((sender, writer)) = kept.writer.take() {
        drop(sender);
        let _ = writer.join();
    }
    Ok(())
}
