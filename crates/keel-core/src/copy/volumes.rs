//! The volume-aware order: the drive is looked into *through* the copy, so that everything that has to be read to list its
//! files is in the copy first. No format needs to say where its structures lie.

use std::ops::ControlFlow;
use std::sync::{Arc, Mutex};

use keel_format::Deleted;
use keel_source::{ByteOffset, ByteRange, Identity, ReadCause, ReadError, SharedSource, Source};

use super::Pass;
use super::pass::Copier;
use crate::CoreError;
use crate::find::{Find, outer};
use crate::job::{Cancel, Desk};
use crate::sweep::{Reach, SweepOptions, sweep};

/// Used ground that lies nearer together than this is copied in one go: seeking costs more.
const NEAR: u64 = 1 << 20;

/// A drive that is copied by being read.
struct Through {
    identity: Identity,
    copier: Mutex<Option<Copier>>,
    failed: Mutex<Option<CoreError>>,
}

impl Source for Through {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let wanted = ByteRange::sized(at, buf.len() as u64);
        let lost = |reason: &str| ReadError::of(wanted, reason);
        let read = {
            let mut slot = self.copier.lock().map_err(|_| lost("the copy died"))?;
            slot.as_mut().ok_or_else(|| lost("the copy went on"))?.read_through(wanted, buf)
        };
        match read {
            Ok(bad) if bad.is_empty() => Ok(()),
            Ok(bad) => {
                let cause = if wanted.end.0 > self.identity.bytes { ReadCause::PastEnd } else { ReadCause::Medium };
                Err(ReadError { bad, reason: "the drive did not deliver this place".into(), cause })
            }
            Err(error) => {
                if let Ok(mut failed) = self.failed.lock() {
                    failed.get_or_insert(error);
                }
                Err(lost("the copy cannot be written"))
            }
        }
    }

    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        let slot = self.copier.lock().ok()?;
        slot.as_ref()?.source.next_data(from)
    }
}

/// Lists every file of every volume through the copy, and leaves the ground that the volumes count as used for the sound
/// parts to begin with. What does not read here is come back to by the passes.
pub(super) fn first(mut copier: Copier, cancel: &Cancel) -> Result<Copier, CoreError> {
    copier.set_pass(Pass::Volumes);
    let identity = copier.source.identity().clone();
    let through = Arc::new(Through { identity, copier: Mutex::new(Some(copier)), failed: Mutex::new(None) });
    let source: SharedSource = Arc::<Through>::clone(&through);
    let (desk, _nobody) = Desk::new(cancel.clone());
    let finds = sweep(&source, &SweepOptions { reach: Reach::Landmarks, state: None }, &desk).finds;
    let mut used = Vec::new();
    for find in outer(&finds) {
        used.extend(look_into(&source, find, cancel));
    }
    if let Some(error) = through.failed.lock().ok().and_then(|mut failed| failed.take()) {
        return Err(error);
    }
    let mut copier = through.copier.lock().ok().and_then(|mut slot| slot.take()).ok_or(CoreError::Nothing("the copy died"))?;
    copier.first = joined(used);
    copier.flush()?;
    Ok(copier)
}

/// Lists everything in a volume; the ground that it counts as used, on the drive.
fn look_into(source: &SharedSource, find: &Find, cancel: &Cancel) -> Vec<ByteRange> {
    let Ok(volume) = crate::files::open(source, find) else { return Vec::new() };
    let go_on = || if cancel.is_cancelled() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) };
    // What is damaged is seen by every later stage; here only the reading counts.
    let _ = volume.walk(Deleted::Hide, &mut |found| {
        let _ = volume.extents(found.entry.id);
        go_on()
    });
    if go_on().is_break() {
        return Vec::new();
    }
    let _ = volume.examine();
    let Some(allocation) = volume.allocation() else { return Vec::new() };
    let on_drive = |range: ByteRange| ByteRange::sized(find.start_byte + range.start.0, range.len());
    allocation.used().iter().map(|units| on_drive(allocation.range(units))).collect()
}

/// `ranges` in order, those that lie near together in one.
fn joined(mut ranges: Vec<ByteRange>) -> Vec<ByteRange> {
    ranges.sort_by_key(|range| range.start);
    let mut joined: Vec<ByteRange> = Vec::new();
    for range in ranges {
        match joined.last_mut() {
            Some(last) if range.start <= last.end + NEAR => last.end = last.end.max(range.end),
            _ => joined.push(range),
        }
    }
    joined
}
