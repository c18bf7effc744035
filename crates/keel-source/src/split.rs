//! Several files as the parts of one drive, and the backing store of a simulated one.

use std::path::Path;

use crate::error::{ReadError, SourceError};
use crate::{ByteOffset, ByteRange, FileSource, Identity, Leave, LinkKind, SectorSize, Source, WriteTarget};

/// Raw images that together are one drive, in the order given.
pub struct SplitSource {
    parts: Vec<(ByteOffset, FileSource)>,
    identity: Identity,
}

impl SplitSource {
    /// Opens `paths` as consecutive parts.
    ///
    /// # Errors
    /// [`SourceError`] of the first part that cannot be opened; parts must hold whole sectors so that no sector lies
    /// in two files.
    pub fn open(paths: &[impl AsRef<Path>], sector: SectorSize) -> Result<Self, SourceError> {
        let mut parts = Vec::with_capacity(paths.len());
        let mut end = ByteOffset(0);
        for path in paths {
            let part = FileSource::open(path.as_ref(), sector)?;
            let bytes = part.len();
            if bytes % sector.bytes() != 0 && parts.len() + 1 < paths.len() {
                return Err(SourceError::NotASource { path: path.as_ref().into(), what: "a part that ends inside a sector" });
            }
            parts.push((end, part));
            end = end + bytes;
        }
        let Some((_, first)) = parts.first() else {
            return Err(SourceError::TooSmall { name: "a split image of no parts".into(), bytes: 0, sector: sector.0 });
        };
        let mut identity = Identity::bare(first.identity().name.clone(), end.0, LinkKind::Image);
        identity.path.clone_from(&first.identity().path);
        identity.logical_sector = sector;
        identity.physical_sector = sector;
        Ok(Self { parts, identity })
    }
}

impl Source for SplitSource {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn change_mark(&self) -> Option<String> {
        let marks: Option<Vec<String>> = self.parts.iter().map(|(_, part)| part.change_mark()).collect();
        Some(marks?.join(", "))
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let wanted = ByteRange::sized(at, buf.len() as u64);
        let mut failure: Option<ReadError> = None;
        let mut note = |error: ReadError| match &mut failure {
            Some(first) => first.bad.extend(error.bad),
            None => failure = Some(error),
        };
        for (start, part) in &self.parts {
            let Some(both) = ByteRange::sized(*start, part.len()).overlap(wanted) else { continue };
            let to = (both.start - wanted.start) as usize;
            let piece = &mut buf[to..to + both.len() as usize];
            if let Err(error) = part.read_at(ByteOffset(both.start - *start), piece) {
                note(error.moved(start.0, 0));
            }
        }
        if wanted.end.0 > self.len() {
            let behind = ByteRange::new(wanted.start.max(ByteOffset(self.len())), wanted.end);
            let from = buf.len() - behind.len() as usize;
            buf[from..].fill(0);
            note(ReadError::past_end(behind));
        }
        failure.map_or(Ok(()), Err)
    }

    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        self.parts.iter().find_map(|(start, part)| {
            if start.0 + part.len() <= from.0 {
                return None;
            }
            let found = part.next_data(ByteOffset(from - *start))?;
            Some(ByteRange::new(found.start + start.0, found.end + start.0))
        })
    }

    fn open_target(&self, leave: &Leave) -> Result<Box<dyn WriteTarget>, SourceError> {
        if !leave.is_for(&self.identity) {
            return Err(SourceError::NoLeave { name: self.identity.name.clone() });
        }
        let parts = self.parts.iter().map(|(start, part)| Ok((*start, part.target()?))).collect::<Result<_, SourceError>>()?;
        Ok(Box::new(SplitTarget { parts, len: self.len() }))
    }
}

/// The parts opened for writing; a write that crosses a boundary is cut there.
pub(crate) struct SplitTarget {
    pub(crate) parts: Vec<(ByteOffset, Box<dyn WriteTarget>)>,
    pub(crate) len: u64,
}

impl SplitTarget {
    fn each(
        &mut self,
        wanted: ByteRange,
        mut act: impl FnMut(&mut dyn WriteTarget, ByteOffset, std::ops::Range<usize>) -> Result<(), SourceError>,
    ) -> Result<(), SourceError> {
        let mut covered = 0;
        for (start, part) in &mut self.parts {
            let Some(both) = ByteRange::sized(*start, part.len()).overlap(wanted) else { continue };
            let from = (both.start - wanted.start) as usize;
            act(part.as_mut(), ByteOffset(both.start - *start), from..from + both.len() as usize)?;
            covered += both.len();
        }
        if covered < wanted.len() {
            let reason = "part of the range has no file behind it".to_string();
            return Err(SourceError::Write { action: "write", at: wanted.start, reason });
        }
        Ok(())
    }
}

impl WriteTarget for SplitTarget {
    fn len(&self) -> u64 {
        self.len
    }

    fn write_at(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), SourceError> {
        self.each(ByteRange::sized(at, bytes.len() as u64), |part, at, piece| part.write_at(at, &bytes[piece]))
    }

    fn flush(&mut self) -> Result<(), SourceError> {
        self.parts.iter_mut().try_for_each(|(_, part)| part.flush())
    }

    fn read_back(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<(), SourceError> {
        self.each(ByteRange::sized(at, buf.len() as u64), |part, at, piece| part.read_back(at, &mut buf[piece]))
    }

    fn forget(&mut self) {
        self.parts.iter_mut().for_each(|(_, part)| part.forget());
    }
}
