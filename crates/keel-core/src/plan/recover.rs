//! After an apply, whole or interrupted: which state the drive is in, and the two ways on.

use std::path::{Path, PathBuf};

use keel_source::{OpenOptions, PIECE, SharedSource, WriteTarget};

use super::Step;
use super::bundle::{Bundle, BundleRange, ReadNow, Side};
use crate::case;
use crate::error::{CoreError, Refusal};
use crate::leave::{Confirmation, Purpose, leave};

/// What a drive holds, seen against a bundle.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Condition {
    /// Everything stands as before the apply.
    Former,
    /// Everything stands as the plan wrote it.
    Applied,
    /// Part of each: the apply or undo was interrupted.
    Between,
    /// A range holds neither: something else wrote there.
    Foreign(keel_source::ByteOffset),
}

/// Which way to bring the drive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Direction {
    /// Finish the apply.
    Finish,
    /// Put everything back.
    RollBack,
}

/// The condition of the drive behind `read` against `bundle`. Sectors are looked at one by one: a write that was cut
/// off left some of them new and some former; a torn sector is new in front and former behind.
///
/// # Errors
/// [`CoreError::File`] when the bundle itself does not deliver what it holds.
pub fn condition_of(bundle: &Bundle, read: ReadNow<'_>) -> Result<Condition, CoreError> {
    let (mut all_former, mut all_new) = (true, true);
    let mut buffers = [vec![0; PIECE], vec![0; PIECE], vec![0; PIECE]];
    for range in &bundle.ranges {
        for (at, len) in range.pieces() {
            let [now, former, new] = buffers.each_mut().map(|buffer| buffer.get_mut(..len).unwrap_or_default());
            range.read(Side::Former, at, former)?;
            range.read(Side::New, at, new)?;
            if !read(range.at + at, now) {
                return Ok(Condition::Foreign(range.at));
            }
            let (is_former, is_new) = (now == former, now == new);
            if !is_former && !is_new && !is_between(now, former, new, bundle.sector as usize) {
                return Ok(Condition::Foreign(range.at));
            }
            (all_former, all_new) = (all_former && is_former, all_new && is_new);
        }
    }
    Ok(match (all_former, all_new) {
        (true, _) => Condition::Former,
        (_, true) => Condition::Applied,
        _ => Condition::Between,
    })
}

/// True when every sector of `now` is former, new, or a mix of the two byte by byte (a torn sector).
fn is_between(now: &[u8], former: &[u8], new: &[u8], sector: usize) -> bool {
    let size = sector.max(512);
    let mut sectors = now.chunks(size).zip(former.chunks(size).zip(new.chunks(size)));
    sectors.all(|(now, (former, new))| {
        now == former
            || now == new
            || now.iter().zip(former.iter().zip(new)).all(|(now, (former, new))| now == former || now == new)
    })
}

/// The condition of `source` against `bundle`.
///
/// # Errors
/// As [`condition_of`].
pub fn condition(source: &SharedSource, bundle: &Bundle) -> Result<Condition, CoreError> {
    condition_of(bundle, &mut |at, buf| source.read_at(at, buf).is_ok())
}

/// The newest bundle of this drive whose apply was interrupted: part of it is on the drive.
#[must_use]
pub fn interrupted(source: &SharedSource) -> Option<PathBuf> {
    let bundles = case::bundles(source.identity());
    bundles.into_iter().rev().find(|path| {
        let bundle = Bundle::read(path).ok();
        bundle.is_some_and(|bundle| {
            condition(source, &bundle).is_ok_and(|condition| condition == Condition::Between) && bundle.is_of(source)
        })
    })
}

/// Opens the drive a bundle is of: at `path`, or where it was when the plan was applied.
///
/// # Errors
/// [`CoreError::Source`] when it is not there, [`Refusal::OtherDrive`] when another drive is.
pub fn source_of(bundle_path: &Path, bundle: &Bundle, path: Option<&Path>) -> Result<SharedSource, CoreError> {
    let place = path.unwrap_or_else(|| Path::new(&bundle.source));
    // A drive that claims more than it stores is opened as it claims: what was written lies where it stores.
    let source = keel_source::open(place, OpenOptions { sector_size: Some(bundle.sector) })?;
    match bundle.is_of(&source) {
        true => Ok(source),
        false => Err(Refusal::OtherDrive { path: bundle_path.into() }.into()),
    }
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
    let result = written.as_ref().map_or_else(|error| crate::chain(error), |()| "written, read back and compared".into());
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
