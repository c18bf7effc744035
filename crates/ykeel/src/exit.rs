//! Exit codes: 0 done, 2 wrong use, 3 source unreadable, 4 refused by a safety rule, 5 nothing to do or not possible,
//! 130 cancelled.

use std::process::ExitCode;

use crate::out::{self, tell};
use keel_core::wipe::NotWiped;
use keel_core::{CoreError, chain};
use keel_source::SourceError;

/// A command that ended without doing what it was asked for, without an error.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(crate) enum Ended {
    /// Nothing to do, or no way to do it.
    #[error("nothing to do")]
    Nothing,
    /// Cancelled by the technician.
    #[error("cancelled")]
    Cancelled,
    /// Wrong use that the argument parser could not see.
    #[error("{0}")]
    WrongUse(String),
}

/// The exit code of a command's result; an error is told on standard error, and where a JSON document was asked for, as one.
pub(crate) fn code(result: anyhow::Result<()>, json: bool) -> ExitCode {
    let Err(error) = result else { return ExitCode::SUCCESS };
    if error.downcast_ref::<std::io::Error>().is_some_and(|error| error.kind() == std::io::ErrorKind::BrokenPipe) {
        return ExitCode::SUCCESS;
    }
    let text = chain(error.as_ref());
    let (code, is_told) = match error.downcast_ref::<Ended>() {
        // What came of it was said by the command.
        Some(Ended::Nothing) => (5, true),
        Some(Ended::Cancelled) => (130, true),
        Some(Ended::WrongUse(_)) => (2, false),
        None => (of(&error), false),
    };
    if !is_told {
        tell!("ykeel: {text}");
    }
    // Whoever stopped it knows; it is no error.
    if json && code != 130 {
        out::error_document(&text, code);
    }
    ExitCode::from(code)
}

/// The exit code of a command line that does not parse, or asks for help: what the parser says stands where it belongs.
pub(crate) fn wrong_use(error: &clap::Error, json: bool) -> ExitCode {
    let _ = error.print();
    if error.use_stderr() && json {
        // The first paragraph says what is wrong; usage and hints stand on standard error.
        let text = error.to_string();
        let first: Vec<&str> = text.lines().take_while(|line| !line.is_empty()).map(str::trim).collect();
        let first = first.join(" ");
        out::error_document(first.strip_prefix("error: ").unwrap_or(&first), 2);
    }
    ExitCode::from(if error.use_stderr() { 2 } else { 0 })
}

fn of(error: &anyhow::Error) -> u8 {
    error.downcast_ref::<CoreError>().map_or_else(|| error.downcast_ref::<SourceError>().map_or(5, of_source), of_core)
}

fn of_core(error: &CoreError) -> u8 {
    match error {
        CoreError::Source(source) => of_source(source),
        CoreError::Format(_) => 3,
        CoreError::Refused(_) | CoreError::Bundle { .. } | CoreError::Saved { .. } => 4,
        CoreError::Wipe(NotWiped::Ground(_) | NotWiped::OtherRecord { .. }) => 2,
        CoreError::Wipe(NotWiped::Words) => 4,
        CoreError::Case { .. } => 3,
        CoreError::Unknown { .. } => 2,
        CoreError::File { .. } | CoreError::Nothing(_) | CoreError::NoRoom { .. } => 5,
    }
}

fn of_source(error: &SourceError) -> u8 {
    match error {
        SourceError::SectorSize(_) => 2,
        SourceError::Locked { .. }
        | SourceError::Mounted { .. }
        | SourceError::NotWritable { .. }
        | SourceError::NoLeave { .. }
        | SourceError::Replaced { .. } => 4,
        _ => 3,
    }
}
