//! The log of this run, where one is kept: what is written to it comes from the commands and from what the screens set off.

use std::sync::OnceLock;

use keel_core::log::Log;
use keel_source::Source;

static LOG: OnceLock<Log> = OnceLock::new();

/// Opens the log that was asked for.
///
/// # Errors
/// [`keel_core::CoreError`] when it cannot be kept there.
pub(crate) fn open() -> anyhow::Result<()> {
    if let Some(path) = &crate::config::get().log_file {
        let _ = LOG.set(Log::open(path)?);
    }
    Ok(())
}

/// Writes a line, where a log is kept.
pub(crate) fn line(event: &str, detail: &str) {
    if let Some(log) = LOG.get() {
        log.line(event, detail);
    }
}

/// Notes that a drive was opened, unless the log lies on its own medium.
///
/// # Errors
/// [`keel_core::CoreError::Refused`] where it does.
pub(crate) fn opened(source: &dyn Source) -> Result<(), keel_core::CoreError> {
    let Some(log) = LOG.get() else { return Ok(()) };
    log.may_stand_beside(source)?;
    let identity = source.identity();
    let serial = identity.serial.as_deref().unwrap_or("no serial number");
    log.line("open", &format!("{} ({serial}, {} bytes)", identity.name, identity.bytes));
    Ok(())
}
