//! After an apply, whole or interrupted: which state the drive is in, and the two ways on.

use std::path::{Path, PathBuf};

use keel_source::{OpenOptions, SharedSource, WriteTarget};

use super::bundle::{Bundle, BundleRange};
use super::{Step, bundle};
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
pub fn condition_of(bundle: &Bundle, read: &mut dyn FnMut(&BundleRange) -> Option<Vec<u8>>) -> Condition {
    let (mut all_former, mut all_new) = (true, true);
    for range in &bundle.ranges {
        let Some(now) = read(range) else { return Condition::Foreign(range.at) };
        all_former &= now == range.former;
        all_new &= now == range.new;
        if !is_between(&now, range, bundle.sector as usize) {
            return Condition::Foreign(range.at);
        }
    }
    match (all_former, all_new) {
        (true, _) => Condition::Former,
        (_, true) => Condition::Applied,
        _ => Condition::Between,
    }
}

/// True when every sector of `now` is former, new, or a mix of the two byte by byte (a torn sector).
fn is_between(now: &[u8], range: &BundleRange, sector: usize) -> bool {
    let size = sector.max(512);
    let sectors = now.chunks(size).zip(range.former.chunks(size).zip(range.new.chunks(size)));
    now.len() == range.new.len()
        && sectors.into_iter().all(|(now, (former, new))| {
            now == former
                || now == new
                || now.iter().zip(former.iter().zip(new)).all(|(now, (former, new))| now == former || now == new)
        })
}

/// The condition of `source` against `bundle`.
#[must_use]
pub fn condition(source: &SharedSource, bundle: &Bundle) -> Condition {
    condition_of(bundle, &mut |range| {
        let mut now = vec![0; range.new.len()];
        source.read_at(range.at, &mut now).ok()?;
        Some(now)
    })
}

/// The newest bundle of this drive whose apply was interrupted: part of it is on the drive.
#[must_use]
pub fn interrupted(source: &SharedSource) -> Option<PathBuf> {
    let bundles = case::bundles(source.identity());
    bundles.into_iter().rev().find(|path| {
        let bundle = Bundle::read(path).ok();
        bundle.is_some_and(|bundle| condition(source, &bundle) == Condition::Between && bundle.is_of(source))
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
    let before = condition_of(bundle, &mut |range| {
        let mut now = vec![0; range.new.len()];
        target.read_back(range.at, &mut now).ok()?;
        Some(now)
    });
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
    let mut ranges: Vec<(usize, &bundle::BundleRange)> = bundle.ranges.iter().enumerate().collect();
    if direction == Direction::RollBack {
        ranges.reverse();
    }
    let wanted = |range: &'_ BundleRange| if direction == Direction::Finish { range.new.clone() } else { range.former.clone() };
    for (index, range) in &ranges {
        target.write_at(range.at, &wanted(range))?;
        // A copy must be down before its primary is touched.
        target.flush()?;
        each(Step::Written(*index));
    }
    each(Step::Flushed);
    target.forget();
    for (index, range) in &ranges {
        let mut now = vec![0; range.new.len()];
        target.read_back(range.at, &mut now)?;
        if now != wanted(range) {
            return Err(Refusal::NotKept { at: range.at }.into());
        }
        each(Step::Compared(*index));
    }
    Ok(())
}
