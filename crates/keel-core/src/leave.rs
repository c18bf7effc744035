//! The one door to writing: who may write to a drive, by what, and what has to be finished before.

use keel_source::{Leave, LinkKind, SharedSource};

use crate::error::{CoreError, Refusal};
use crate::{bundle, saved};

/// How the technician confirmed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Confirmation {
    /// The code as typed.
    Code(String),
    /// `--yes`: taken for image files and simulated drives only.
    Yes,
}

/// What a drive is written for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// A plan is applied.
    Apply,
    /// An apply is finished or put back.
    Undo,
    /// Chosen places are written to, and put back.
    Probe,
    /// What a probe touched is put back.
    PutBack,
    /// Everything is overwritten to measure it.
    Fill,
    /// Everything is overwritten by the copy of another drive.
    Overwrite,
}

impl Purpose {
    /// True where nothing of the drive is left afterwards.
    fn destroys(self) -> bool {
        matches!(self, Self::Fill | Self::Overwrite)
    }
}

/// Leave to write to `source`.
///
/// # Errors
/// [`CoreError::Refused`]: without the drive's code (for what destroys, and on a block device, nothing else is taken), while an apply or
/// a probe that was interrupted waits, unless this is what it waits for.
pub fn leave(source: &SharedSource, confirmation: &Confirmation, purpose: Purpose) -> Result<Leave, CoreError> {
    let identity = source.identity();
    let leave = match confirmation {
        Confirmation::Yes if purpose == Purpose::Overwrite => Err(Refusal::DestinationCode { name: identity.name.clone() }),
        Confirmation::Yes if purpose.destroys() => Err(Refusal::FillCode),
        Confirmation::Yes if identity.link == LinkKind::BlockDevice => Err(Refusal::CodeWanted),
        Confirmation::Yes => Leave::without_code(identity).ok_or(Refusal::CodeWanted),
        Confirmation::Code(code) if purpose == Purpose::Overwrite => {
            Leave::by_code(identity, code).ok_or_else(|| Refusal::DestinationCode { name: identity.name.clone() })
        }
        Confirmation::Code(code) => Leave::by_code(identity, code).ok_or(Refusal::Code),
    }?;
    if purpose != Purpose::PutBack
        && let Some(saved) = saved::interrupted_of(source)
    {
        return Err(Refusal::ProbeInterrupted { saved }.into());
    }
    if !matches!(purpose, Purpose::Undo | Purpose::PutBack)
        && let Some(bundle) = bundle::interrupted(source)
    {
        return Err(Refusal::Interrupted { bundle }.into());
    }
    Ok(leave)
}
