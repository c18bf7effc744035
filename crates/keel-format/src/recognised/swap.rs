//! Linux swap space: a header whose mark ends its first page. Source: the kernel's `union swap_header`; little-endian.

use super::closed::CLOSED;
use crate::kind::{KindFacts, MbrTypes};
use crate::table::gpt::LINUX_SWAP;
use keel_source::{ByteOffset, Source};

use super::{Known, sixteen, text};
use crate::{View, read_bytes};

/// Page sizes of the machines that make swap spaces.
const PAGES: [u64; 4] = [4096, 8192, 16_384, 65_536];

/// Linux swap space.
pub(crate) const FACTS: KindFacts = KindFacts {
    word: "swap",
    letters: "sw",
    gpt: (LINUX_SWAP, &[]),
    mbr: MbrTypes::new(0x82, &[]),
    closed: Some("swap space holds no files"),
    ..CLOSED
};

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector.ends_with(b"SWAPSPACE2")
}

pub(super) fn read(drive: &dyn Source, at: ByteOffset, _bytes: &[u8]) -> Option<Known> {
    PAGES.iter().find_map(|page| {
        let start = (at.0 + 512).checked_sub(*page)?;
        let bytes = read_bytes(drive, ByteOffset(start + 1024), 512, "swap header").ok()?;
        let view = View::new("swap header", ByteOffset(start + 1024), &bytes);
        let (version, last) = (view.u32(0, "version").ok()?, u64::from(view.u32(4, "last_page").ok()?));
        let label = text(bytes.get(28..44)?);
        let says = format!("swap header of pages of {page} bytes stands in the first page and counts {} pages", last + 1);
        let known = Known {
            start: ByteOffset(start),
            bytes: (last + 1) * page,
            label,
            identifier: sixteen(&bytes, 12),
            main: true,
            checked: false,
            says,
        };
        (version == 1 && last >= 9).then_some(known)
    })
}
