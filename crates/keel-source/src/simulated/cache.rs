//! The write cache of a simulated drive: it answers by claimed address until what it holds is pushed out.

use std::collections::{BTreeMap, VecDeque};

/// Writes that did not reach the medium yet.
pub(super) struct WriteCache {
    room: u64,
    held: u64,
    /// Pieces by first byte, without overlap; each with the number of its write.
    pieces: BTreeMap<u64, (u64, Vec<u8>)>,
    /// Writes in their order: number, first byte and length.
    order: VecDeque<(u64, u64, u64)>,
    next: u64,
}

/// A piece that goes to the medium: claimed address and bytes.
pub(super) type Piece = (u64, Vec<u8>);

impl WriteCache {
    /// A cache of `room` bytes.
    pub(super) fn new(room: u64) -> Self {
        Self { room, held: 0, pieces: BTreeMap::new(), order: VecDeque::new(), next: 0 }
    }

    /// Takes a write; what had to give way comes back, oldest first.
    pub(super) fn put(&mut self, at: u64, bytes: &[u8]) -> Vec<Piece> {
        let end = at + bytes.len() as u64;
        let touched: Vec<u64> = self
            .pieces
            .range(..end)
            .rev()
            .take_while(|(start, (_, held))| **start + held.len() as u64 > at)
            .map(|(start, _)| *start)
            .collect();
        for start in touched {
            let Some((number, held)) = self.pieces.remove(&start) else { continue };
            let held_end = start + held.len() as u64;
            self.held -= held.len() as u64;
            if start < at {
                self.insert(start, number, held.get(..(at - start) as usize).unwrap_or_default().to_vec());
            }
            if held_end > end {
                self.insert(end, number, held.get((end - start) as usize..).unwrap_or_default().to_vec());
            }
        }
        let number = self.next;
        self.next += 1;
        self.insert(at, number, bytes.to_vec());
        self.order.push_back((number, at, bytes.len() as u64));
        let mut out = Vec::new();
        while self.held > self.room {
            if !self.evict(&mut out) {
                break;
            }
        }
        out
    }

    fn insert(&mut self, at: u64, number: u64, bytes: Vec<u8>) {
        self.held += bytes.len() as u64;
        self.pieces.insert(at, (number, bytes));
    }

    fn evict(&mut self, out: &mut Vec<Piece>) -> bool {
        let Some((number, at, len)) = self.order.pop_front() else { return false };
        let of_it: Vec<u64> =
            self.pieces.range(at..at + len).filter(|(_, (own, _))| *own == number).map(|(start, _)| *start).collect();
        for start in of_it {
            if let Some((_, bytes)) = self.pieces.remove(&start) {
                self.held -= bytes.len() as u64;
                out.push((start, bytes));
            }
        }
        true
    }

    /// Everything, oldest first.
    pub(super) fn empty(&mut self) -> Vec<Piece> {
        let mut out = Vec::new();
        while self.evict(&mut out) {}
        out
    }

    /// Lays what is held over `buf`, which holds the bytes from `at` on.
    pub(super) fn lay_over(&self, at: u64, buf: &mut [u8]) {
        let end = at + buf.len() as u64;
        for (start, (_, held)) in self.pieces.range(..end).rev() {
            let held_end = start + held.len() as u64;
            if held_end <= at {
                break;
            }
            let (from, to) = (at.max(*start), end.min(held_end));
            let (source, target) = ((from - start) as usize..(to - start) as usize, (from - at) as usize..(to - at) as usize);
            if let (Some(source), Some(target)) = (held.get(source), buf.get_mut(target)) {
                target.copy_from_slice(source);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_cache_over_its_medium_reads_what_was_written_last(
            room in 0u64..300,
            writes in proptest::collection::vec((0usize..900, 1usize..100), 1..60),
        ) {
            let (mut plain, mut medium, mut cache) = (vec![0u8; 1000], vec![0u8; 1000], WriteCache::new(room));
            let put = |medium: &mut Vec<u8>, pieces: Vec<Piece>| {
                for (at, bytes) in pieces {
                    medium[at as usize..at as usize + bytes.len()].copy_from_slice(&bytes);
                }
            };
            for (number, (at, len)) in writes.into_iter().enumerate() {
                let bytes = vec![number as u8 + 1; len];
                plain[at..at + len].copy_from_slice(&bytes);
                let out = cache.put(at as u64, &bytes);
                put(&mut medium, out);
                prop_assert!(cache.held <= room);
                let mut seen = medium.clone();
                cache.lay_over(0, &mut seen);
                prop_assert_eq!(&seen, &plain);
            }
            let out = cache.empty();
            put(&mut medium, out);
            prop_assert_eq!(medium, plain);
            prop_assert!(cache.pieces.is_empty() && cache.held == 0);
        }
    }
}
