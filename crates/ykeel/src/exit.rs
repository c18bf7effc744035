//! Exit codes: 0 done, 2 wrong use, 3 source unreadable, 4 refused by a safety rule, 5 nothing to do or not possible,
//! 130 cancelled.

use std::process::ExitCode;

use crate::out::tell;
use keel_core::{CoreError, chain};
use keel_source::SourceError;

/// A command that ended without doing what it was asked for, without an error.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub(crate) enum Ended {
    /// Nothing to do, or no way to do it.
    #[error("nothing to do")]
    Nothing,
    /// Cancelled by the technician.
    #[error("cancelled")]
    Cancelled,
    /// Wrong use that the argument parser could not see.
    #[error("wrong use")]
    WrongUse,
}

/// The exit code of a command's result; an error is told on standard error.
pub(crate) fn code(result: anyhow::Result<()>) -> ExitCode {
    let Err(error) = result else { return ExitCode::SUCCESS };
    if let Some(ended) = error.downcast_ref::<Ended>() {
        return ExitCode::from(match ended {
            Ended::Nothing => 5,
            Ended::Cancelled => 130,
            Ended::WrongUse => 2,
        });
    }
    if error.downcast_ref::<std::io::Error>().is_some_and(|error| error.kind() == std::io::ErrorKind::BrokenPipe) {
        return ExitCode::SUCCESS;
    }
    tell!("ykeel: {}", chain(error.as_ref()));
    ExitCode::from(
        error.downcast_ref::<CoreError>().map_or_else(|| error.downcast_ref::<SourceError>().map_or(5, of_source), of_core),
    )
}

fn of_core(error: &CoreError) -> u8 {
    match error {
        CoreError::Source(source) => of_source(source),
        CoreError::Format(_) => 3,
        CoreError::Refused(_) | CoreError::Bundle { .. } | CoreError::Saved { .. } => 4,
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
