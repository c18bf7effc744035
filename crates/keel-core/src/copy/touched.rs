//! Which files a copy lacks something of.

use std::ops::ControlFlow;

use keel_format::{Deleted, Extent};
use keel_source::{ByteOffset, ByteRange, SharedSource};
use serde::Serialize;

use crate::CoreError;
use crate::find::Find;

/// A file that has something of a missing place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Touched {
    /// Path in the volume, `/`-separated, as stored.
    pub path: String,
    /// Bytes of it that are missing.
    pub missing_bytes: u64,
    /// The first missing byte on the drive.
    pub first_at: ByteOffset,
}

/// The files and folders of the volume `find` of which `source` lacks something ([`keel_source::Source::missing`]), in the
/// order of the volume. Empty for a source that is no copy.
///
/// # Errors
/// As [`crate::files::open`].
pub fn touched(source: &SharedSource, find: &Find) -> Result<Vec<Touched>, CoreError> {
    let missing = source.missing();
    if missing.is_empty() {
        return Ok(Vec::new());
    }
    let volume = crate::files::open(source, find)?;
    let lacks = |extents: &[Extent]| -> Vec<ByteRange> {
        let on_drive = extents.iter().filter_map(|extent| Some((find.start_byte + extent.volume_at?.0, extent.bytes)));
        on_drive.flat_map(|(at, bytes)| both(missing, ByteRange::sized(at, bytes))).collect()
    };
    let (mut touched, mut told) = (Vec::new(), Vec::new());
    volume.walk(Deleted::Hide, &mut |found| {
        // A file whose map does not read is a finding of the check; what is missing of it is not known.
        let gaps = lacks(&volume.extents(found.entry.id).unwrap_or_default());
        touched.extend(of(found.path(), &gaps));
        told.extend(gaps);
        ControlFlow::Continue(())
    })?;
    // Other streams and the volume's own structures: ground that no file of the tree has.
    volume.claims(&mut |name, extents| {
        let mut gaps = lacks(extents);
        gaps.retain(|gap| told.iter().all(|told| told.overlap(*gap).is_none()));
        touched.extend(of(name.to_string(), &gaps));
    })?;
    Ok(touched)
}

/// The parts of `missing` that lie in `range`.
fn both(missing: &[ByteRange], range: ByteRange) -> impl Iterator<Item = ByteRange> {
    let from = missing.partition_point(|gap| gap.end <= range.start);
    missing.get(from..).unwrap_or_default().iter().map_while(move |gap| gap.overlap(range))
}

fn of(path: String, gaps: &[ByteRange]) -> Option<Touched> {
    let first_at = gaps.iter().map(|gap| gap.start).min()?;
    Some(Touched { path, missing_bytes: gaps.iter().map(|gap| gap.len()).sum(), first_at })
}
