//! Whose bytes these are: the file or structure of a volume that holds a place.

use std::ops::ControlFlow;

use keel_format::{Deleted, Existence, Extent};
use keel_source::{ByteOffset, ByteRange, SharedSource};
use serde::Serialize;

use crate::CoreError;
use crate::find::Find;

/// Who holds a place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Owner {
    /// Path in the volume, `/`-separated, as stored; the name of a stream or structure where no file of the tree has it.
    pub path: String,
    /// Which of its extents, counted from 1.
    pub extent: usize,
    /// Extents that it has.
    pub extents: usize,
    /// The place in its content, in bytes from its start.
    pub at: u64,
    /// True for what was deleted: the place may be another's by now.
    pub deleted: bool,
}

/// Who holds byte `at` of the drive in the volume `find`; nobody where it is free or holds what is not told apart. Files that are there go
/// before deleted ones.
///
/// # Errors
/// As [`crate::files::open`], and as its walk.
pub fn owner(source: &SharedSource, find: &Find, at: ByteOffset) -> Result<Option<Owner>, CoreError> {
    let volume = crate::files::open(source, find)?;
    let held = |extents: &[Extent]| holding(find.start_byte, extents, at);
    let (mut owner, mut deleted) = (None, None);
    volume.walk(Deleted::Show, &mut |found| {
        // Of a deleted file what it held is looked at last: the place may be another's by now.
        let is_deleted = found.entry.existence == Existence::Deleted;
        if is_deleted && deleted.is_some() {
            return ControlFlow::Continue(());
        }
        let Some((extent, extents, at)) = held(&volume.extents(found.entry.id).unwrap_or_default()) else {
            return ControlFlow::Continue(());
        };
        let met = Some(Owner { path: found.path().to_string(), extent, extents, at, deleted: is_deleted });
        if is_deleted {
            deleted = met;
            return ControlFlow::Continue(());
        }
        owner = met;
        ControlFlow::Break(())
    })?;
    if owner.is_none() {
        volume.claims(&mut |name, extents| {
            if let (None, Some((extent, count, at))) = (&owner, held(extents)) {
                owner = Some(Owner { path: name.to_string(), extent, extents: count, at, deleted: false });
            }
        })?;
    }
    Ok(owner.or(deleted))
}

/// The extent that holds `at`: its number from 1, how many there are, and how far into the content it is.
fn holding(start: ByteOffset, extents: &[Extent], at: ByteOffset) -> Option<(usize, usize, u64)> {
    extents.iter().enumerate().find_map(|(index, extent)| {
        let range = ByteRange::sized(start + extent.volume_at?.0, extent.bytes);
        range.contains(at).then(|| (index + 1, extents.len(), extent.stream_at.saturating_add(at - range.start)))
    })
}
