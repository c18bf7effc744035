//! Following chains in a file allocation table.

use keel_source::{ByteOffset, SharedSource, Source};

use super::FatGeometry;
use crate::chain::LINKS_A_STEP;
use crate::device::step;
use crate::pages::Pages;
use crate::{Chain, Link, LinkTable, VolumeKind};

/// A FAT with a bounded cache. Reads the leading copy, and the next one where it does not read.
pub struct FatTable {
    pages: Pages,
    geometry: FatGeometry,
    /// The copy that is asked first: the first one that begins as a FAT does.
    lead: u32,
}

impl FatTable {
    /// The FATs of the volume in `source`.
    #[must_use]
    pub fn new(source: SharedSource, geometry: FatGeometry) -> Self {
        let mut table = Self { pages: Pages::new(source), geometry, lead: 0 };
        let begins =
            |copy: &u32| table.bytes::<3>(*copy, 0).is_some_and(|first| matches!(first, [0xF0 | 0xF8..=0xFF, 0xFF, 0xFF]));
        table.lead = (0..geometry.fats).find(begins).unwrap_or(0);
        table
    }

    /// The copy that is asked first.
    pub(super) fn lead(&self) -> u32 {
        self.lead
    }

    /// The copies, the leading one first.
    fn copies(&self) -> impl Iterator<Item = u32> {
        let lead = self.lead;
        std::iter::once(lead).chain((0..self.geometry.fats).filter(move |copy| *copy != lead))
    }

    fn bytes<const N: usize>(&self, copy: u32, offset: u64) -> Option<[u8; N]> {
        let mut out = [0; N];
        if offset + N as u64 > self.geometry.fat_bytes() {
            return None;
        }
        self.pages.read(self.geometry.fat_at(copy) + offset, &mut out, "FAT").ok()?;
        Some(out)
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

    /// The entry of `cluster`: of the first copy that can be read and in which it can be one, else of the first that can
    /// be read.
    #[must_use]
    pub fn entry(&self, cluster: u32) -> Option<u32> {
        let mut copies = self.copies().filter_map(|copy| self.entry_in(copy, cluster));
        let first = copies.next();
        match first.is_some_and(|entry| cluster < 2 || self.can_be(entry)) {
            true => first,
            false => copies.find(|entry| self.can_be(*entry)).or(first),
        }
    }

    /// True where no copy says what the entry of `cluster` is: all say free, or what cannot be.
    pub(super) fn is_unknown(&self, cluster: u32) -> bool {
        let entries = self.copies().filter_map(|copy| self.entry_in(copy, cluster));
        entries.into_iter().all(|entry| entry == 0 || !self.can_be(entry))
    }

    fn can_be(&self, entry: u32) -> bool {
        matches!(entry, 0 | 0x0FFF_FFF7..) || (2..self.geometry.cluster_count() + 2).contains(&u64::from(entry))
    }

    /// What the entry of `cluster` says inside a chain, where "free" cannot be right: another copy is asked then.
    fn link(&self, cluster: u32) -> Link {
        let entry = self.entry(cluster);
        let other = || {
            let mut entries = self.copies().filter_map(|copy| self.entry_in(copy, cluster));
            entries.find(|entry| *entry != 0 && self.can_be(*entry))
        };
        link_of(if entry == Some(0) { other().or(entry) } else { entry })
    }

    /// Follows the chain from `first` for at most `limit` clusters; see [`Chain::follow`].
    #[must_use]
    pub fn chain(&self, first: u32, limit: u64) -> Chain {
        let link = |cluster: u32| self.link(cluster);
        let entry_at = |cluster: u32| self.geometry.fat_at(0) + u64::from(cluster) * self.geometry.entry_bits() / 8;
        let clusters = self.geometry.cluster_count();
        Chain::follow(&LinkTable { clusters, link: &link, entry_at: &entry_at, source: self.source() }, first, limit)
    }

    /// What it is read from.
    pub(super) fn source(&self) -> &dyn Source {
        self.pages.source().as_ref()
    }

    /// Count of clusters whose entries can stand in the source: a boot sector may claim more.
    #[must_use]
    pub fn clusters_there(&self) -> u64 {
        let room = self.source().len().saturating_sub(self.geometry.fat_at(0).0).min(self.geometry.fat_bytes());
        let entries = room.saturating_mul(8) / self.geometry.entry_bits().max(1);
        self.geometry.cluster_count().min(entries.saturating_sub(2))
    }

    /// One step of the budget for every few entries that are looked at one after the other; false when it is spent.
    pub(super) fn goes_on(&self, cluster: u32) -> bool {
        u64::from(cluster) % LINKS_A_STEP != 0 || step(self.source(), ByteOffset(0), "FAT", 1).is_ok()
    }

    /// Where a chain lies, as extents of the volume.
    #[must_use]
    pub fn extents(&self, chain: &Chain) -> Vec<crate::Extent> {
        chain.extents(u64::from(self.geometry.cluster_bytes()), &|cluster| self.geometry.cluster_at(cluster))
    }
}

/// What an entry, widened to 28 bits, says.
pub(super) fn link_of(entry: Option<u32>) -> Link {
    match entry {
        None => Link::Unreadable,
        Some(0) => Link::Free,
        Some(0x0FFF_FFF7) => Link::Bad,
        Some(0x0FFF_FFF8..) => Link::End,
        Some(next) => Link::Next(next),
    }
}
