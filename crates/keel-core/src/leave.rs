//! The one door to writing: who may write to a drive, by what, and what has to be finished before.

use keel_source::{Leave, LinkKind, SharedSource, WriteTarget};

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
    /// Ground of it is overwritten, in words.
    Wipe,
    /// It is told where its addresses end.
    End,
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

/// A drive that is open for writing, and is opened again after a write that failed: a target takes no more then.
pub(crate) struct Reopened {
    source: SharedSource,
    leave: Leave,
    target: Option<Box<dyn WriteTarget>>,
}

impl Reopened {
    /// Opens `source`.
    ///
    /// # Errors
    /// [`CoreError::Source`] when it does not open for writing.
    pub(crate) fn open(source: &SharedSource, leave: Leave) -> Result<Self, CoreError> {
        let target = Some(source.open_target(&leave)?);
        Ok(Self { source: SharedSource::clone(source), leave, target })
    }

    /// The target, opened again where it was let go.
    ///
    /// # Errors
    /// As [`Reopened::open`].
    pub(crate) fn target(&mut self) -> Result<&mut dyn WriteTarget, CoreError> {
        if self.target.is_none() {
            self.target = Some(self.source.open_target(&self.leave)?);
        }
        match &mut self.target {
            Some(target) => Ok(target.as_mut()),
            None => Err(CoreError::Nothing("the drive does not open for writing")),
        }
    }

    /// The target, where it is open.
    pub(crate) fn open_now(&mut self) -> Option<&mut Box<dyn WriteTarget>> {
        self.target.as_mut()
    }

    /// Lets the target go: a write of it failed.
    pub(crate) fn let_go(&mut self) {
        self.target = None;
    }

    /// What it is opened with.
    pub(crate) fn leave(&self) -> &Leave {
        &self.leave
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use keel_source::{ByteOffset, Identity, MemorySource, ReadError, Source};

    use super::*;

    /// A drive that says to be attached otherwise.
    struct As(MemorySource, Identity);

    impl Source for As {
        fn identity(&self) -> &Identity {
            &self.1
        }

        fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
            self.0.read_at(at, buf)
        }
    }

    fn drive(link: LinkKind) -> SharedSource {
        static STATE: std::sync::OnceLock<tempfile::TempDir> = std::sync::OnceLock::new();
        crate::case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
        let memory = MemorySource::new("quay", vec![0; 1 << 20], 512);
        let identity = Identity { link, ..memory.identity().clone() };
        Arc::new(As(memory, identity))
    }

    const ALL: [Purpose; 8] = [
        Purpose::Apply,
        Purpose::Undo,
        Purpose::Probe,
        Purpose::PutBack,
        Purpose::Fill,
        Purpose::Overwrite,
        Purpose::Wipe,
        Purpose::End,
    ];

    #[test]
    fn yes_is_enough_for_images_and_for_nothing_that_destroys() {
        let image = drive(LinkKind::Image);
        for purpose in ALL {
            let given = leave(&image, &Confirmation::Yes, purpose);
            assert_eq!(given.is_ok(), !purpose.destroys(), "{purpose:?}");
        }
        let device = drive(LinkKind::BlockDevice);
        for purpose in ALL {
            assert!(leave(&device, &Confirmation::Yes, purpose).is_err(), "{purpose:?}");
        }
        let refused = |purpose| leave(&device, &Confirmation::Yes, purpose).unwrap_err();
        assert!(matches!(refused(Purpose::Apply), CoreError::Refused(Refusal::CodeWanted)));
        assert!(matches!(refused(Purpose::Fill), CoreError::Refused(Refusal::FillCode)));
        assert!(matches!(refused(Purpose::Overwrite), CoreError::Refused(Refusal::DestinationCode { .. })));
    }

    #[test]
    fn only_the_drives_own_code_is_one_in_any_case_of_letters() {
        for link in [LinkKind::Image, LinkKind::BlockDevice] {
            let source = drive(link);
            let code = source.identity().code();
            for purpose in ALL {
                for typed in [code.clone(), code.to_lowercase(), format!(" {code} ")] {
                    assert!(leave(&source, &Confirmation::Code(typed.clone()), purpose).is_ok(), "{purpose:?} {typed:?}");
                }
                for typed in ["", "AAA-AAA", "yes", &code[1..]] {
                    assert!(leave(&source, &Confirmation::Code(typed.into()), purpose).is_err(), "{purpose:?} {typed:?}");
                }
            }
        }
    }
}
