//! A bounded cache of metadata: small reads of neighbouring structures become one read of the drive.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use keel_source::{ByteOffset, SharedSource};

use crate::device::step;
use crate::{FormatError, read_bytes, read_lenient};

/// Bytes of a page.
const PAGE: u64 = 64 << 10;
/// Pages kept: 8 MiB.
const PAGES: usize = 128;

/// The metadata of one volume, read in pages of 64 KiB of which at most 8 MiB are kept.
pub struct Pages {
    source: SharedSource,
    /// A page with an unreadable sector is kept as `None`: the structures in it are then read one by one, so that what
    /// is readable beside the bad sector still counts.
    kept: Mutex<HashMap<u64, Option<Arc<[u8]>>>>,
}

impl Pages {
    /// Pages of `source`.
    #[must_use]
    pub fn new(source: SharedSource) -> Self {
        Self { source, kept: Mutex::new(HashMap::new()) }
    }

    /// The source read from.
    #[must_use]
    pub fn source(&self) -> &SharedSource {
        &self.source
    }

    /// Fills `buf` from byte `at`.
    ///
    /// # Errors
    /// [`crate::Problem::Unreadable`] of `structure` when not all of it can be read.
    pub fn read(&self, at: ByteOffset, buf: &mut [u8], structure: &'static str) -> Result<(), FormatError> {
        let mut done = 0usize;
        while done < buf.len() {
            let here = ByteOffset(at.0.saturating_add(done as u64));
            let number = here.0 / PAGE;
            let inside = usize::try_from(here.0 % PAGE).unwrap_or(0);
            let left = buf.get_mut(done..).unwrap_or_default();
            let page = self.page(number, structure);
            match page.as_deref().and_then(|page| page.get(inside..)).filter(|bytes| !bytes.is_empty()) {
                Some(bytes) => {
                    let count = bytes.len().min(left.len());
                    left.iter_mut().zip(bytes).for_each(|(slot, byte)| *slot = *byte);
                    done += count;
                }
                None => {
                    let count = left.len().min(usize::try_from(PAGE).unwrap_or(0) - inside);
                    let bytes = read_bytes(self.source.as_ref(), here, count, structure)?;
                    left.iter_mut().zip(&bytes).for_each(|(slot, byte)| *slot = *byte);
                    done += count;
                }
            }
        }
        Ok(())
    }

    /// `len` bytes at `at`.
    ///
    /// # Errors
    /// As [`Pages::read`]; [`crate::Problem::Value`] for a length above 8 MiB.
    pub fn bytes(&self, at: ByteOffset, len: usize, structure: &'static str) -> Result<Vec<u8>, FormatError> {
        if len as u64 > PAGE * PAGES as u64 {
            return Err(FormatError::value(structure, at, "length", len as u64, "at most 8 MiB"));
        }
        // What the cache holds is read without the source: it counts here.
        step(self.source.as_ref(), at, structure, 1)?;
        let mut bytes = vec![0; len];
        self.read(at, &mut bytes, structure)?;
        Ok(bytes)
    }

    fn page(&self, number: u64, structure: &'static str) -> Option<Arc<[u8]>> {
        let mut kept = self.kept.lock().ok()?;
        if let Some(page) = kept.get(&number) {
            return page.clone();
        }
        let at = number.checked_mul(PAGE)?;
        let len = usize::try_from(self.source.len().checked_sub(at)?.min(PAGE)).ok()?;
        let page = match read_lenient(self.source.as_ref(), ByteOffset(at), len, structure) {
            Ok((bytes, 0)) => Some(Arc::from(bytes)),
            _ => None,
        };
        if kept.len() >= PAGES {
            kept.clear();
        }
        kept.insert(number, page.clone());
        page
    }
}

#[cfg(test)]
mod tests {
    use keel_source::{ByteRange, MemorySource};

    use super::*;

    fn bytes(len: usize) -> Vec<u8> {
        (0..len).map(|at| (at / 100 % 251) as u8).collect()
    }

    #[test]
    fn reads_go_over_the_bounds_of_pages_and_stop_at_the_end() {
        let pages = Pages::new(Arc::new(MemorySource::new("p", bytes(200_000), 512)));
        for (at, len) in [(0, 512), (65_000, 2000), (131_071, 2), (199_000, 1000), (60_000, 140_000)] {
            assert_eq!(pages.bytes(ByteOffset(at as u64), len, "structure").unwrap(), bytes(200_000)[at..at + len], "{at}");
        }
        let error = pages.bytes(ByteOffset(199_500), 1000, "structure").unwrap_err();
        assert!(error.is_unreadable() && error.structure == "structure", "{error}");
        assert!(pages.bytes(ByteOffset(u64::MAX - 10), 100, "structure").is_err());
        assert!(pages.bytes(ByteOffset(0), 9 << 20, "structure").unwrap_err().to_string().contains("at most 8 MiB"));
    }

    #[test]
    fn what_is_readable_beside_a_bad_sector_still_counts() {
        let bad = ByteRange::sized(ByteOffset(4096), 512);
        let pages = Pages::new(Arc::new(MemorySource::new("p", bytes(100_000), 512).with_bad(bad)));
        assert_eq!(pages.bytes(ByteOffset(3000), 1096, "structure").unwrap(), bytes(100_000)[3000..4096]);
        assert_eq!(pages.bytes(ByteOffset(4608), 1000, "structure").unwrap(), bytes(100_000)[4608..5608]);
        assert!(pages.bytes(ByteOffset(4000), 200, "structure").is_err());
    }

    #[test]
    fn many_pages_are_read_with_a_bounded_cache() {
        let all = bytes(20 << 20);
        let pages = Pages::new(Arc::new(MemorySource::new("p", all.clone(), 512)));
        for round in 0..2 {
            for at in (0..all.len() - 16).step_by(50_000) {
                assert_eq!(pages.bytes(ByteOffset(at as u64), 16, "structure").unwrap(), all[at..at + 16], "{round}");
            }
            assert!(pages.kept.lock().unwrap().len() <= PAGES);
        }
    }
}
