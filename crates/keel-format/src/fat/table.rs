//! Following chains in a file allocation table.

use std::collections::HashMap;
use std::sync::Mutex;

use keel_source::{ByteOffset, SharedSource};

use super::FatGeometry;
use crate::{Finding, Severity, VolumeKind, read_lenient};

/// Bytes of FAT read at once, and kept.
const PAGE: usize = 64 << 10;
/// Pages kept: 8 MiB of FAT.
const PAGES: usize = 128;

/// A FAT with a bounded cache of its pages. Reads the first copy, and the next one where the first does not read.
pub struct FatTable {
    source: SharedSource,
    geometry: FatGeometry,
    pages: Mutex<HashMap<(u32, u64), Vec<u8>>>,
}

/// A chain of clusters as runs, and how it ended.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Chain {
    /// First cluster and count of clusters of each run.
    pub runs: Vec<(u32, u32)>,
    /// Count of clusters in all runs.
    pub clusters: u64,
    /// What was wrong with it.
    pub finding: Option<Finding>,
}

impl Chain {
    fn push(&mut self, cluster: u32) {
        self.clusters += 1;
        match self.runs.last_mut() {
            Some((first, count)) if first.checked_add(*count) == Some(cluster) => *count += 1,
            _ => self.runs.push((cluster, 1)),
        }
    }
}

impl FatTable {
    /// The FATs of the volume in `source`.
    #[must_use]
    pub fn new(source: SharedSource, geometry: FatGeometry) -> Self {
        Self { source, geometry, pages: Mutex::new(HashMap::new()) }
    }

    fn bytes<const N: usize>(&self, copy: u32, offset: u64) -> Option<[u8; N]> {
        let mut out = [0; N];
        for (index, slot) in out.iter_mut().enumerate() {
            *slot = self.byte(copy, offset + index as u64)?;
        }
        Some(out)
    }

    fn byte(&self, copy: u32, offset: u64) -> Option<u8> {
        let page = offset / PAGE as u64;
        let inside = usize::try_from(offset % PAGE as u64).ok()?;
        let mut pages = self.pages.lock().ok()?;
        if let Some(bytes) = pages.get(&(copy, page)) {
            return bytes.get(inside).copied();
        }
        let at = page * PAGE as u64;
        let len = usize::try_from(self.geometry.fat_bytes().checked_sub(at)?).unwrap_or(PAGE).min(PAGE);
        let (bytes, missing) = read_lenient(self.source.as_ref(), self.geometry.fat_at(copy) + at, len, "FAT").ok()?;
        // A page with unreadable sectors is worth nothing: zeros in it would end chains silently.
        let bytes = if missing == 0 { bytes } else { Vec::new() };
        if pages.len() >= PAGES {
            pages.clear();
        }
        let byte = bytes.get(inside).copied();
        pages.insert((copy, page), bytes);
        byte
    }

    /// The entry of `cluster` in FAT number `copy`, widened to the 28-bit values of FAT32. `None` when it cannot be
    /// read.
    #[must_use]
    pub fn entry_in(&self, copy: u32, cluster: u32) -> Option<u32> {
        let widen = |value: u16, top: u16| if value >= top { 0x0FFF_0000 | u32::from(value) | 0xF000 } else { u32::from(value) };
        match self.geometry.kind {
            VolumeKind::Fat12 => {
                let pair = self.bytes::<2>(copy, u64::from(cluster) * 3 / 2).map(u16::from_le_bytes)?;
                let value = if cluster.is_multiple_of(2) { pair & 0x0FFF } else { pair >> 4 };
                Some(widen(value, 0x0FF7))
            }
            VolumeKind::Fat16 => {
                self.bytes::<2>(copy, u64::from(cluster) * 2).map(u16::from_le_bytes).map(|value| widen(value, 0xFFF7))
            }
            _ => self.bytes::<4>(copy, u64::from(cluster) * 4).map(u32::from_le_bytes).map(|value| value & 0x0FFF_FFFF),
        }
    }

    /// The entry of `cluster`: of the first copy that can be read.
    #[must_use]
    pub fn entry(&self, cluster: u32) -> Option<u32> {
        (0..self.geometry.fats).find_map(|copy| self.entry_in(copy, cluster))
    }

    /// Follows the chain from `first` for at most `limit` clusters. A loop, a link out of the volume or to a free
    /// cluster cuts it, with a finding. Bounded by `limit` and by the count of clusters.
    #[must_use]
    pub fn chain(&self, first: u32, limit: u64) -> Chain {
        let mut chain = Chain::default();
        let clusters = self.geometry.cluster_count();
        let mut cluster = first;
        // Brent's way to see a loop without a set of all clusters visited.
        let (mut anchor, mut power, mut steps) = (first, 1u64, 0u64);
        let cut = |what: String, cluster: u32| {
            let at = self.geometry.fat_at(0) + u64::from(cluster) * self.geometry.entry_bits() / 8;
            Some(Finding::at(Severity::Doubt, at, what, format!("FAT entry of cluster {cluster}")))
        };
        while chain.clusters < limit {
            if u64::from(cluster) < 2 || u64::from(cluster) >= clusters + 2 {
                chain.finding =
                    cut(format!("the chain from cluster {first} points at {cluster}, which is no cluster"), cluster.min(1));
                return chain;
            }
            chain.push(cluster);
            let Some(next) = self.entry(cluster) else {
                chain.finding = cut(format!("the chain from cluster {first} is cut: its FAT sector cannot be read"), cluster);
                return chain;
            };
            if next >= 0x0FFF_FFF8 {
                return chain;
            }
            if next == 0 || next == 0x0FFF_FFF7 {
                let what = if next == 0 { "a free cluster" } else { "a bad cluster" };
                chain.finding = cut(format!("the chain from cluster {first} ends at {what}"), cluster);
                return chain;
            }
            steps += 1;
            if next == anchor || steps > clusters {
                chain.finding = cut(format!("the chain from cluster {first} comes back to cluster {next}: it loops"), cluster);
                return chain;
            }
            if steps == power {
                (anchor, power, steps) = (next, power * 2, 0);
            }
            cluster = next;
        }
        chain
    }

    /// Where a chain lies, as extents of the volume.
    #[must_use]
    pub fn extents(&self, chain: &Chain) -> Vec<crate::Extent> {
        let size = u64::from(self.geometry.cluster_bytes());
        let mut stream_at = 0;
        let mut extents = Vec::with_capacity(chain.runs.len());
        for (first, count) in &chain.runs {
            let bytes = u64::from(*count) * size;
            let volume_at: Option<ByteOffset> = self.geometry.cluster_at(*first);
            extents.push(crate::Extent { stream_at, volume_at, bytes });
            stream_at += bytes;
        }
        extents
    }
}
