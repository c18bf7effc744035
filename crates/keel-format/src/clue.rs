//! Clues: what single sectors of a surface look like. Collecting them is the hot loop of the sweep.

use keel_source::ByteOffset;
use serde::{Deserialize, Serialize};

use crate::registry;

/// The most clues of one sort that are kept. A surface of nothing but such sectors must not fill memory.
pub const MOST_CLUES: usize = 65_536;

/// Everything seen so far, by format. Serialised as the state of a resumable sweep.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Clues {
    /// NTFS structures.
    pub ntfs: crate::ntfs::NtfsClues,
    /// FAT structures.
    pub fat: crate::fat::FatClues,
    /// exFAT structures.
    pub exfat: crate::exfat::ExFatClues,
    /// ext2, ext3 and ext4 structures.
    pub ext: crate::ext::ExtClues,
    /// HFS+ and HFSX structures.
    pub hfsplus: crate::hfsplus::HfsClues,
    /// Structures of the kinds that are recognised and not read.
    pub recognised: crate::recognised::KnownClues,
    /// Remains of partition tables: places of GPT headers.
    pub gpt_headers: Vec<ByteOffset>,
}

impl Clues {
    /// Looks at the first `len` bytes of `bytes`, which were read at byte `at` (a multiple of 512), sector by sector.
    /// What lies behind `len` is only seen by structures that begin before it. Two cache lines of each sector are
    /// touched unless it is worth a closer look.
    pub fn look(&mut self, at: ByteOffset, bytes: &[u8], len: usize) {
        let sectors = bytes.as_chunks::<512>().0;
        for (index, sector) in sectors.iter().take(len.div_ceil(512)).enumerate() {
            let [.., five, a] = *sector;
            let gpt = sector.starts_with(b"EFI PART");
            if (five, a) != (0x55, 0xAA) && !gpt && !registry::is_marked(sector) {
                continue;
            }
            let offset = index * 512;
            // Structures larger than a sector see as much behind it as the chunk holds.
            let behind = bytes.get(offset..).unwrap_or_default();
            if gpt {
                keep(&mut self.gpt_headers, at + offset as u64);
            }
            for format in registry::FORMATS {
                (format.look)(self, at + offset as u64, behind);
            }
        }
    }

    /// Adds what another worker saw, as it comes. [`Clues::tidy`] puts it in order.
    pub fn append(&mut self, other: Clues) {
        self.ntfs.append(other.ntfs);
        self.fat.append(other.fat);
        self.exfat.append(other.exfat);
        self.ext.append(other.ext);
        self.hfsplus.append(other.hfsplus);
        self.recognised.append(other.recognised);
        append(&mut self.gpt_headers, other.gpt_headers);
    }

    /// Sorts, removes doubles and joins what continues: the same clues then compare equal, in whatever order they came.
    pub fn tidy(&mut self) {
        self.ntfs.tidy();
        self.fat.tidy();
        self.exfat.tidy();
        self.ext.tidy();
        self.hfsplus.tidy();
        self.recognised.tidy();
        tidy(&mut self.gpt_headers);
    }

    /// How many clues are of the sort that a new volume begins with: when this grows, inferring again is worth it.
    #[must_use]
    pub fn leads(&self) -> usize {
        self.ntfs.leads()
            + self.fat.leads()
            + self.exfat.leads()
            + self.ext.leads()
            + self.hfsplus.leads()
            + self.recognised.leads()
    }

    /// How many clues there are.
    #[must_use]
    pub fn count(&self) -> usize {
        self.ntfs.count()
            + self.fat.count()
            + self.exfat.count()
            + self.ext.count()
            + self.hfsplus.count()
            + self.recognised.count()
            + self.gpt_headers.len()
    }
}

/// Sorts, removes doubles and holds the cap.
pub(crate) fn tidy<T: Ord>(list: &mut Vec<T>) {
    list.sort_unstable();
    list.dedup();
    list.truncate(MOST_CLUES);
}

/// Adds all of `more`, up to the cap.
pub(crate) fn append<T>(list: &mut Vec<T>, more: Vec<T>) {
    let room = MOST_CLUES.saturating_sub(list.len());
    list.extend(more.into_iter().take(room));
}

/// Adds `clue` unless the cap is reached.
pub(crate) fn keep<T>(list: &mut Vec<T>, clue: T) {
    if list.len() < MOST_CLUES {
        list.push(clue);
    }
}
