//! Which state a drive is in, seen against a bundle: no mark of progress is kept, the drive says it.

use std::path::PathBuf;

use keel_source::{PIECE, SharedSource};

use super::{Bundle, ReadNow, Side};
use crate::case;
use crate::error::CoreError;

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
