//! After an apply, whole or interrupted: which state the drive is in, and the two ways on.

use std::path::Path;

use keel_source::{OpenOptions, PIECE, SharedSource, WriteTarget};

use super::Step;
use crate::bundle::{Bundle, BundleRange, Condition, Side, condition_of};
use crate::error::{CoreError, Refusal};
use crate::leave::{Confirmation, Purpose, leave};
use crate::{case, device};

/// Which way to bring the drive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Direction {
    /// Finish the apply.
    Finish,
    /// Put everything back.
    RollBack,
}

/// Opens the drive a bundle is of: at `path`, or where it was when the plan was applied.
///
/// # Errors
/// [`CoreError::Source`] when it is not there, [`Refusal::OtherDrive`] when another drive is.
pub fn source_of(bundle_path: &Path, bundle: &Bundle, path: Option<&Path>) -> Result<SharedSource, CoreError> {
    let place = path.unwrap_or_else(|| Path::new(&bundle.source));
    // A drive that claims more than it stores is opened as it claims: what was written lies where it stores.
    let options = OpenOptions { sector_size: Some(bundle.sector), ..OpenOptions::default() };
    let opened = keel_source::open(place, options);
    if let Some(source) = opened.as_ref().ok().filter(|source| bundle.is_of(source)) {
        return Ok(SharedSource::clone(source));
    }
    // A device that was pulled and put back may have another name now.
    let moved = path.is_none().then(|| device::of_key(&bundle.key)).flatten();
    if let Some(source) = moved.and_then(|moved| keel_source::open(&moved, options).ok()).filter(|source| bundle.is_of(source)) {
        return Ok(source);
    }
    opened?;
    Err(Refusal::OtherDrive { path: bundle_path.into() }.into())
}

/// Brings the drive to a known state: finishes the apply or puts everything back, also after an interruption at any
/// point, also of an undo. Ranges are put back in reverse order.
///
/// # Errors
/// [`CoreError::Refused`] without leave, when the bundle is another drive's, and when something else changed one of the ranges since; the
/// drive is then left as it is.
pub fn recover(
    source: &SharedSource,
    (path, bundle): (&Path, &Bundle),
    direction: Direction,
    confirmation: &Confirmation,
    each: &mut dyn FnMut(Step),
) -> Result<Condition, CoreError> {
    let leave = leave(source, confirmation, Purpose::Undo)?;
    if !bundle.is_of(source) {
        return Err(Refusal::OtherDrive { path: path.into() }.into());
    }
    let mut target = source.open_target(&leave)?;
    target.forget();
    let before = condition_of(bundle, &mut |at, buf| target.read_back(at, buf).is_ok())?;
    if let Condition::Foreign(at) = before {
        return Err(Refusal::Foreign { at }.into());
    }
    let done = if direction == Direction::Finish { Condition::Applied } else { Condition::Former };
    let written = if before == done { Ok(()) } else { recover_target(target.as_mut(), bundle, direction, each) };
    let event = if direction == Direction::Finish { "finish" } else { "undo" };
    let result = written.as_ref().map_or_else(|error| crate::chain(error), |()| super::WRITTEN.into());
    let detail = serde_json::json!({ "bundle": path, "ranges": bundle.ranges.len(), "result": result });
    case::note(source.as_ref(), event, &detail);
    written?;
    Ok(before)
}

/// The writing half of [`recover`], on an opened target.
///
/// # Errors
/// [`CoreError::Source`] when a write fails; calling again goes on from there.
pub fn recover_target(
    target: &mut dyn WriteTarget,
    bundle: &Bundle,
    direction: Direction,
    each: &mut dyn FnMut(Step),
) -> Result<(), CoreError> {
    let mut ranges: Vec<(usize, &BundleRange)> = bundle.ranges.iter().enumerate().collect();
    if direction == Direction::RollBack {
        ranges.reverse();
    }
    let side = if direction == Direction::Finish { Side::New } else { Side::Former };
    let mut buf = vec![0; PIECE];
    let mut last = None;
    for (index, range) in &ranges {
        // A copy must be down before its primary is touched, and a primary before its copy is.
        if last.is_some_and(|last| last != range.order || range.order.is_none()) {
            target.flush()?;
        }
        last = Some(range.order);
        for (at, len) in range.pieces() {
            if range.is_zeros(side, at) {
                target.write_zeros(range.at + at, len as u64)?;
            } else {
                let piece = buf.get_mut(..len).unwrap_or_default();
                range.read(side, at, piece)?;
                target.write_at(range.at + at, piece)?;
            }
        }
        each(Step::Written(*index));
    }
    target.flush()?;
    each(Step::Flushed);
    target.forget();
    let mut now = vec![0; PIECE];
    for (index, range) in &ranges {
        for (at, len) in range.pieces() {
            let (wanted, now) = (buf.get_mut(..len).unwrap_or_default(), now.get_mut(..len).unwrap_or_default());
            range.read(side, at, wanted)?;
            target.read_back(range.at + at, now)?;
            if now != wanted {
                return Err(Refusal::NotKept { at: range.at + at }.into());
            }
        }
        each(Step::Compared(*index));
    }
    Ok(())
}
