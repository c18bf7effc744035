//! A part of another source, as a source of its own: a partition or a find.

use crate::{Budget, ByteOffset, ByteRange, Identity, LinkKind, ReadError, SharedSource, Source};

/// The bytes `range` of another source; byte 0 of the window is the first byte of the range.
pub struct Window {
    inner: SharedSource,
    range: ByteRange,
    identity: Identity,
}

impl Window {
    /// A window on `range` of `inner`, cut at its end.
    #[must_use]
    pub fn new(inner: SharedSource, range: ByteRange) -> Self {
        let end = range.end.min(ByteOffset(inner.len()));
        let range = ByteRange::new(range.start.min(end), end);
        let mut identity = inner.identity().clone();
        identity.bytes = range.len();
        identity.link = LinkKind::Derived;
        identity.name = format!("{} from byte {}", identity.name, range.start.0);
        Self { inner, range, identity }
    }

    /// Where the window lies in the source below.
    #[must_use]
    pub fn range(&self) -> ByteRange {
        self.range
    }
}

impl Source for Window {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn budget(&self) -> Option<&Budget> {
        self.inner.budget()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let wanted = ByteRange::sized(at, buf.len() as u64);
        let inside = usize::try_from(ByteOffset(self.range.len()) - at).unwrap_or(usize::MAX).min(buf.len());
        let (head, tail) = buf.split_at_mut(inside);
        tail.fill(0);
        let mut failure = match self.inner.read_at(self.range.start + at.0, head) {
            Ok(()) => None,
            Err(error) => Some(error.moved(0, self.range.start.0)),
        };
        if !tail.is_empty() {
            let behind = ByteRange::new(wanted.start + inside as u64, wanted.end);
            match &mut failure {
                Some(error) => error.bad.push(behind),
                None => failure = Some(ReadError::past_end(behind)),
            }
        }
        failure.map_or(Ok(()), Err)
    }

    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        if from.0 >= self.range.len() {
            return None;
        }
        let found = self.inner.next_data(self.range.start + from.0)?.overlap(self.range)?;
        let shift = self.range.start;
        Some(ByteRange::new(ByteOffset(found.start - shift), ByteOffset(found.end - shift)))
    }
}
