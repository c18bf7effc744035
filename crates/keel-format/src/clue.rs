//! Clues: what single sectors of a surface look like. Collecting them is the hot loop of the sweep.

use std::sync::LazyLock;

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
    /// Remains of partition tables: places of GPT headers.
    pub gpt_headers: Vec<ByteOffset>,
}

/// First bytes of sectors worth a closer look; a sector that ends in 55 AA always is.
static WORTH_A_LOOK: LazyLock<[bool; 256]> = LazyLock::new(|| {
    let mut table = [false; 256];
    for byte in registry::FORMATS.iter().flat_map(|format| format.first_bytes) {
        if let Some(slot) = table.get_mut(usize::from(*byte)) {
            *slot = true;
        }
    }
    table
});

impl Clues {
    /// Looks at the first `len` bytes of `bytes`, which were read at byte `at` (a multiple of 512), sector by sector.
    /// What lies behind `len` is only seen by structures that begin before it. Two cache lines of each sector are
    /// touched unless it is worth a closer look.
    pub fn look(&mut self, at: ByteOffset, bytes: &[u8], len: usize) {
        let worth: &[bool; 256] = &WORTH_A_LOOK;
        let sectors = bytes.as_chunks::<512>().0;
        for (index, sector) in sectors.iter().take(len.div_ceil(512)).enumerate() {
            let [first, ..] = *sector;
            let [.., five, a] = *sector;
            let boot_mark = five == 0x55 && a == 0xAA;
            if !boot_mark && !worth.get(usize::from(first)).is_some_and(|worth| *worth) {
                continue;
            }
            let offset = index * 512;
            // Structures larger than a sector see as much behind it as the chunk holds.
            let behind = bytes.get(offset..).unwrap_or_default();
            for format in registry::FORMATS {
                (format.look)(self, at + offset as u64, behind);
            }
        }
    }

    /// Adds what another worker saw, as it comes. [`Clues::tidy`] puts it in order.
    pub fn append(&mut self, other: Clues) {
        self.ntfs.append(other.ntfs);
        self.fat.append(other.fat);
        append(&mut self.gpt_headers, other.gpt_headers);
    }

    /// Sorts, removes doubles and joins what continues: the same clues then compare equal, in whatever order they came.
    pub fn tidy(&mut self) {
        self.ntfs.tidy();
        self.fat.tidy();
        tidy(&mut self.gpt_headers);
    }

    /// How many clues are of the sort that a new volume begins with: when this grows, inferring again is worth it.
    #[must_use]
    pub fn leads(&self) -> usize {
        self.ntfs.boots.len() + self.ntfs.zeros.len() + self.fat.boots.len() + self.fat.starts.len()
    }

    /// How many clues there are.
    #[must_use]
    pub fn count(&self) -> usize {
        self.ntfs.count() + self.fat.count() + self.gpt_headers.len()
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
