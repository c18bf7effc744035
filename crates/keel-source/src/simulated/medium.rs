//! What a simulated drive stores: backing images, what was written beside them, and the write cache before both.

use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use super::cache::{Piece, WriteCache};
use super::lie::{Answers, Leads, Lie};
use crate::split::SplitTarget;
use crate::{ByteOffset, ByteRange, FileSource, ReadError, SectorSize, Source, SourceError, WriteTarget};

/// The medium behind the claimed addresses.
pub(super) struct Medium {
    pub(super) parts: Vec<(ByteOffset, FileSource)>,
    /// Holds what was written to places without a backing image: a sparse file as long as the drive.
    pub(super) spill: PathBuf,
    spill_source: Mutex<Option<Arc<FileSource>>>,
    pub(super) lie: Lie,
    cache: Option<Mutex<WriteCache>>,
    pub(super) flush_empties: bool,
    /// What went over the link last: one sector.
    last: Mutex<Vec<u8>>,
    sector: usize,
    len: u64,
}

impl Medium {
    pub(super) fn new(
        parts: Vec<(ByteOffset, FileSource)>,
        spill: PathBuf,
        lie: Lie,
        cache: (u64, bool),
        len: u64,
        sector: SectorSize,
    ) -> Self {
        let medium = Self {
            parts,
            spill,
            spill_source: Mutex::new(None),
            lie,
            cache: (cache.0 > 0).then(|| Mutex::new(WriteCache::new(cache.0))),
            flush_empties: cache.1,
            last: Mutex::new(Vec::new()),
            sector: sector.0 as usize,
            len,
        };
        medium.look_for_spill();
        medium
    }

    /// Opens the spill for reading where there is one.
    pub(super) fn look_for_spill(&self) {
        if self.spill.exists()
            && let (Ok(source), Ok(mut slot)) = (FileSource::open(&self.spill, SectorSize::default()), self.spill_source.lock())
        {
            *slot = Some(Arc::new(source));
        }
    }

    pub(super) fn spill(&self) -> Option<Arc<FileSource>> {
        self.spill_source.lock().ok().and_then(|slot| slot.clone())
    }

    /// Fills `buf` from claimed byte `at` on; the places of the backing images that do not read come back.
    pub(super) fn read(&self, at: u64, buf: &mut [u8]) -> Vec<ByteRange> {
        let end = at.saturating_add(buf.len() as u64);
        let (mut here, mut bad) = (at, Vec::new());
        while here < end {
            let (leads, until) = self.lie.leads(here, end);
            let until = until.clamp(here + 1, end);
            let piece = buf.get_mut((here - at) as usize..(until - at) as usize).unwrap_or_default();
            match leads {
                Leads::To(place) => {
                    // Told by the claimed address.
                    let failed = self.read_real(place, piece);
                    bad.extend(
                        failed.into_iter().map(|range| ByteRange::sized(ByteOffset(here + (range.start.0 - place)), range.len())),
                    );
                }
                Leads::Sector(place) => {
                    let mut sector = vec![0; self.sector];
                    self.read_real(place, &mut sector);
                    self.repeat(&sector, here, piece);
                }
                Leads::Nowhere(Answers::Zeros) => piece.fill(0),
                Leads::Nowhere(Answers::Ones) => piece.fill(0xFF),
                Leads::Nowhere(Answers::Stale) => {
                    let last = self.last.lock().map(|last| last.clone()).unwrap_or_default();
                    self.repeat(&last, here, piece);
                }
            }
            here = until;
        }
        if let Some(Ok(cache)) = self.cache.as_ref().map(Mutex::lock) {
            cache.lay_over(at, buf);
        }
        self.keep_last(buf);
        bad
    }

    /// Fills `piece`, which begins at claimed byte `here`, with `sector` again and again.
    fn repeat(&self, sector: &[u8], here: u64, piece: &mut [u8]) {
        let skew = (here % self.sector as u64) as usize;
        let bytes = sector.iter().cycle().skip(skew);
        if sector.is_empty() {
            piece.fill(0);
        } else {
            piece.iter_mut().zip(bytes).for_each(|(slot, byte)| *slot = *byte);
        }
    }

    fn keep_last(&self, buf: &[u8]) {
        if matches!(self.lie, Lie::Drops { answers: Answers::Stale, .. })
            && let Ok(mut last) = self.last.lock()
        {
            *last = buf.chunks_exact(self.sector).next_back().unwrap_or_default().to_vec();
        }
    }

    /// Fills `buf` from byte `at` of the medium on.
    fn read_real(&self, at: u64, buf: &mut [u8]) -> Vec<ByteRange> {
        let wanted = ByteRange::sized(ByteOffset(at), buf.len() as u64);
        buf.fill(0);
        if let Some(spill) = self.spill() {
            // Behind the file's end the spill reads as zeros, like any hole.
            let inside = usize::try_from(self.len.saturating_sub(at)).unwrap_or(usize::MAX).min(buf.len());
            let _ = spill.read_at(ByteOffset(at), buf.get_mut(..inside).unwrap_or_default());
        }
        let mut bad = Vec::new();
        for (start, part) in &self.parts {
            let Some(both) = ByteRange::sized(*start, part.len()).overlap(wanted) else { continue };
            let to = (both.start - wanted.start) as usize;
            let piece = buf.get_mut(to..to + both.len() as usize).unwrap_or_default();
            if let Err(error) = part.read_at(ByteOffset(both.start - *start), piece) {
                bad.extend(ReadError::moved(error, start.0, 0).bad);
            }
        }
        bad
    }

    /// Takes a write to claimed byte `at`.
    pub(super) fn write(&self, store: &mut SplitTarget, at: u64, bytes: &[u8]) -> Result<(), SourceError> {
        self.keep_last(bytes);
        match self.cache.as_ref().map(Mutex::lock) {
            Some(Ok(mut cache)) => {
                let out = cache.put(at, bytes);
                drop(cache);
                self.store(store, out)
            }
            _ => self.store(store, vec![(at, bytes.to_vec())]),
        }
    }

    /// Empties the cache into the medium.
    pub(super) fn write_through(&self, store: &mut SplitTarget) -> Result<(), SourceError> {
        let out = match self.cache.as_ref().map(Mutex::lock) {
            Some(Ok(mut cache)) => cache.empty(),
            _ => Vec::new(),
        };
        self.store(store, out)
    }

    /// Writes what leaves the cache to where its addresses really lead.
    fn store(&self, store: &mut SplitTarget, pieces: Vec<Piece>) -> Result<(), SourceError> {
        for (at, bytes) in pieces {
            let end = at + bytes.len() as u64;
            let mut here = at;
            while here < end {
                let (leads, until) = self.lie.leads(here, end);
                let until = until.clamp(here + 1, end);
                let piece = bytes.get((here - at) as usize..(until - at) as usize).unwrap_or_default();
                match leads {
                    Leads::To(place) => store.write_at(ByteOffset(place), piece)?,
                    Leads::Sector(place) => {
                        let last = piece.chunks(self.sector).next_back().unwrap_or_default();
                        store.write_at(ByteOffset(place), last)?;
                    }
                    Leads::Nowhere(_) => {}
                }
                here = until;
            }
        }
        Ok(())
    }

    /// Bytes of the medium, shown or not.
    pub(super) fn room(&self) -> u64 {
        self.len
    }

    /// The stretches that have no backing image.
    pub(super) fn unbacked(&self) -> Vec<ByteRange> {
        let mut gaps = Vec::new();
        let mut end = ByteOffset(0);
        for (start, part) in &self.parts {
            gaps.push(ByteRange::new(end, *start));
            end = *start + part.len();
        }
        gaps.push(ByteRange::new(end, ByteOffset(self.len)));
        gaps.retain(|gap| !gap.is_empty());
        gaps
    }

    /// The next range of claimed addresses at or after `from` that can hold something other than zeros.
    pub(super) fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        let real = self.lie.real(self.len);
        let behind = match self.lie {
            Lie::None | Lie::Drops { answers: Answers::Zeros, .. } => None,
            _ => Some(ByteRange::new(from.max(ByteOffset(real)), ByteOffset(self.len))),
        };
        let within = |range: ByteRange| ByteRange::new(range.start, range.end.min(ByteOffset(real)));
        let spilled = self.spill().and_then(|spill| spill.next_data(from));
        let backed = self.parts.iter().find_map(|(start, part)| {
            if *start + part.len() <= from {
                return None;
            }
            let found = part.next_data(ByteOffset(from - *start))?;
            Some(ByteRange::new(found.start + start.0, found.end + start.0))
        });
        let stored = spilled.into_iter().chain(backed).map(within);
        stored.chain(behind).filter(|range| !range.is_empty()).min_by_key(|range| range.start)
    }
}
