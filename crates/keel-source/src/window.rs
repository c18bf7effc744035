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

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::{Masked, MemorySource};

    fn range(start: u64, end: u64) -> ByteRange {
        ByteRange::new(ByteOffset(start), ByteOffset(end))
    }

    fn below() -> SharedSource {
        Arc::new(MemorySource::new("quay", (0..8192u32).map(|at| at as u8).collect(), 512))
    }

    #[test]
    fn what_reaches_behind_a_window_fails_there_and_delivers_the_rest() {
        let window = Window::new(below(), range(1000, 3000));
        let mut buf = [0xEE; 100];
        let error = window.read_at(ByteOffset(1950), &mut buf).unwrap_err();
        assert_eq!(error.bad, [range(2000, 2050)]);
        assert!(buf[..50].iter().enumerate().all(|(at, byte)| *byte == (2950 + at) as u8) && buf[50..] == [0; 50]);
        for at in [2000, 5000, u64::MAX - 50] {
            assert!(window.read_at(ByteOffset(at), &mut buf).is_err(), "{at}");
        }
        window.read_at(ByteOffset(2000), &mut []).unwrap();
    }

    #[test]
    fn a_window_never_reaches_farther_than_what_is_below_it() {
        for (wanted, left) in
            [(range(0, u64::MAX), range(0, 8192)), (range(9000, 9500), range(8192, 8192)), (range(8000, 8500), range(8000, 8192))]
        {
            let window = Window::new(below(), wanted);
            assert_eq!((window.range(), window.len()), (left, left.len()));
        }
    }

    #[test]
    fn places_that_do_not_read_are_named_by_the_windows_own_bytes() {
        let masked: SharedSource = Arc::new(Masked::new(below(), vec![range(1024, 1536)], "missing"));
        let window = Window::new(masked, range(1000, 3000));
        let mut buf = [0; 1000];
        assert_eq!(window.read_at(ByteOffset(0), &mut buf).unwrap_err().bad, [range(24, 536)]);
        // And both at once: what is missing, and what lies behind the end.
        let mut long = [0; 2100];
        assert_eq!(window.read_at(ByteOffset(0), &mut long).unwrap_err().bad, [range(24, 536), range(2000, 2100)]);
    }
}
