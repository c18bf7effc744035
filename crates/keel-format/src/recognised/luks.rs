//! LUKS: the header of an encrypted volume, and the second one of LUKS2. Source: "LUKS On-Disk Format Specification"
//! and "LUKS2 On-Disk Format Specification"; big-endian. The length of the volume is not recorded.

use super::closed::{CLOSED, ENCRYPTED};
use crate::kind::{Holds, KindFacts, MbrTypes};
use crate::table::gpt::LINUX_LUKS;
use keel_source::{ByteOffset, Source};
use sha2::{Digest, Sha256};

use super::{Known, from_hex_text, text};
use crate::{View, read_bytes};

/// The largest header area whose checksum is tested.
const LARGEST_HEADER: u64 = 4 << 20;

/// A volume encrypted by LUKS.
pub(crate) const FACTS: KindFacts = KindFacts {
    word: "LUKS",
    letters: "LU",
    gpt: LINUX_LUKS,
    mbr: MbrTypes::new(0x83, &[]),
    closed: Some(ENCRYPTED),
    holds: Holds::Volumes,
    make: None,
    resize: None,
    ..CLOSED
};

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector.starts_with(b"LUKS\xBA\xBE") || sector.starts_with(b"SKUL\xBA\xBE")
}

pub(super) fn read(drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("LUKS header", at, bytes);
    let version = view.u16(6, "version").ok()?.swap_bytes();
    let identifier = from_hex_text(bytes.get(168..208)?);
    match version {
        1 => {
            let says = "LUKS1 header stands at the start; the format records no length".to_string();
            Some(Known { start: at, bytes: 0, label: None, identifier, main: true, checked: false, says })
        }
        2 => {
            let size = view.u64(8, "hdr_size").ok()?.swap_bytes();
            let offset = view.u64(256, "hdr_offset").ok()?.swap_bytes();
            let main = bytes.starts_with(b"LUKS") && offset == 0;
            if !(16_384..=LARGEST_HEADER).contains(&size) || !(main || offset == size) {
                return None;
            }
            let checked = checksum_holds(drive, at, size) == Some(true);
            let says = if main { "LUKS2 header stands at the start" } else { "second LUKS2 header stands behind the first" };
            let start = ByteOffset(at.0.checked_sub(offset)?);
            let says = format!("{says}; the format records no length");
            Some(Known { start, bytes: 0, label: text(bytes.get(24..72)?), identifier, main, checked, says })
        }
        _ => None,
    }
}

/// SHA-256 over header and metadata, its own field taken as zero. Other algorithms are not tested.
fn checksum_holds(drive: &dyn Source, at: ByteOffset, size: u64) -> Option<bool> {
    let mut whole = read_bytes(drive, at, usize::try_from(size).ok()?, "LUKS header").ok()?;
    if text(whole.get(72..104)?)? != "sha256" {
        return None;
    }
    let stored: Vec<u8> = whole.get(448..480)?.to_vec();
    whole.get_mut(448..512)?.fill(0);
    Some(Sha256::digest(&whole).as_slice() == stored)
}
