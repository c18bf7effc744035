//! The journal of an ext volume on a partition of its own: a superblock of ext with `INCOMPAT_JOURNAL_DEV`, and in the block
//! behind it that of the journal. Source: the kernel's `ext4.rst`, "Journal (jbd2)", external journals.

use super::closed::CLOSED;
use crate::kind::{KindFacts, MbrTypes};
use crate::table::gpt::{BASIC_DATA, LINUX};
use keel_source::{ByteOffset, Source};

use super::{Known, sixteen, text};
use crate::View;

/// Bytes from the partition's start to the superblock.
const BEFORE: u64 = 1024;
/// `INCOMPAT_JOURNAL_DEV`.
const JOURNAL_DEV: u32 = 0x8;

/// The journal of an ext volume.
pub(crate) const FACTS: KindFacts = KindFacts {
    word: "ext journal",
    letters: "eJ",
    gpt: (LINUX.0, &[BASIC_DATA]),
    mbr: MbrTypes::new(0x83, &[]),
    closed: Some("the journal of an ext volume that stands elsewhere; it holds no files of its own"),
    ..CLOSED
};

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector[56] == 0x53 && sector[57] == 0xEF && sector[96] & 0x08 != 0
}

pub(super) fn read(_drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("superblock", at, bytes);
    let magic = view.u16(56, "s_magic").ok()? == 0xEF53;
    let journal = view.u32(96, "s_feature_incompat").ok()? & JOURNAL_DEV != 0;
    let shift = view.u32(24, "s_log_block_size").ok()?;
    let blocks = view.u32(4, "s_blocks_count_lo").ok()?;
    if !magic || !journal || shift > 6 || blocks < 1024 {
        return None;
    }
    let block_bytes = 1024u64 << shift;
    // The journal's own superblock stands in the block behind: block 1, or 2 with blocks of 1024 bytes.
    let behind = usize::try_from(if shift == 0 { 1024 } else { block_bytes - BEFORE }).ok()?;
    let journal_stands = view.slice(behind, 4, "h_magic").is_ok_and(|magic| magic == [0xC0, 0x3B, 0x39, 0x98]);
    Some(Known {
        start: ByteOffset(at.0.checked_sub(BEFORE)?),
        bytes: u64::from(blocks) * block_bytes,
        label: text(bytes.get(120..136)?),
        identifier: sixteen(bytes, 104),
        main: true,
        checked: journal_stands,
        says: format!("superblock of an external journal, {blocks} blocks of {block_bytes} bytes"),
    })
}
