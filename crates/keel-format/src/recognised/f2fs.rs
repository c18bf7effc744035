//! F2FS: two superblocks, in the first and second block. Source: the kernel's documentation of the format;
//! little-endian.

use super::closed::CLOSED;
use crate::kind::{KindFacts, MbrTypes};
use crate::table::gpt::LINUX;
use keel_source::{ByteOffset, Source};

use super::{Known, sixteen};
use crate::{View, read_bytes};

const MAGIC: [u8; 4] = [0x10, 0x20, 0xF5, 0xF2];
/// Bytes from a block's start to the superblock in it.
const INSIDE: u64 = 1024;

/// F2FS.
pub(crate) const FACTS: KindFacts =
    KindFacts { word: "F2FS", letters: "F2", gpt: LINUX, mbr: MbrTypes::new(0x83, &[]), ..CLOSED };

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector.starts_with(&MAGIC)
}

pub(super) fn read(drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("F2FS superblock", at, bytes);
    let shift = view.u32(16, "log_blocksize").ok().filter(|shift| (12..=16).contains(shift))?;
    let (block, blocks) = (1u64 << shift, view.u64(36, "block_count").ok()?);
    if blocks >> 44 != 0 || blocks < 64 {
        return None;
    }
    let identifier = sixteen(bytes, 108);
    // The copy has the same bytes: where one stands a block before this, this is the copy.
    let before = at.0.checked_sub(block).map(ByteOffset);
    let copy = before.and_then(|at| read_bytes(drive, at, 124, "F2FS superblock").ok());
    let main = !copy.is_some_and(|bytes| bytes.starts_with(&MAGIC) && sixteen(&bytes, 108) == identifier);
    let start = at.0.checked_sub(INSIDE + if main { 0 } else { block })?;
    let units = bytes.get(124..1148).unwrap_or_default().as_chunks::<2>().0;
    let name = units.iter().map(|pair| u16::from_le_bytes(*pair)).take_while(|unit| *unit != 0);
    let label = Some(crate::ntfs::utf16_text(name)).filter(|label| !label.is_empty());
    let says = match main {
        true => "F2FS superblock stands 1024 bytes into the volume",
        false => "second F2FS superblock stands a block behind the first",
    };
    Some(Known { start: ByteOffset(start), bytes: blocks * block, label, identifier, main, checked: false, says: says.into() })
}
