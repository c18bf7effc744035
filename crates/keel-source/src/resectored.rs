//! The same bytes seen in sectors of another size: a drive that lived behind a bridge.

use crate::{Budget, ByteOffset, ByteRange, Identity, LinkKind, ReadError, SectorSize, SharedSource, Source};

/// Another source with a logical sector size of its own.
pub struct Resectored {
    inner: SharedSource,
    identity: Identity,
}

impl Resectored {
    /// `inner` in sectors of `sector` bytes. Bytes behind the last whole sector stay readable.
    #[must_use]
    pub fn new(inner: SharedSource, sector: SectorSize) -> Self {
        let mut identity = inner.identity().clone();
        identity.logical_sector = sector;
        (identity.link, identity.bytes) = (LinkKind::Derived, inner.len());
        Self { inner, identity }
    }
}

impl Source for Resectored {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn budget(&self) -> Option<&Budget> {
        self.inner.budget()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.inner.read_at(at, buf)
    }

    fn missing(&self) -> &[ByteRange] {
        self.inner.missing()
    }

    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        self.inner.next_data(from)
    }
}
