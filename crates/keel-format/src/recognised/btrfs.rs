//! Btrfs: the superblock at 64 KiB and its mirrors at 64 MiB and 256 GiB. Source: the Btrfs documentation, "On-disk
//! Format"; little-endian.

use super::closed::CLOSED;
use crate::kind::{Driver, KindFacts, MbrTypes};
use crate::table::gpt::LINUX;
use keel_source::{ByteOffset, Source};

use super::{Known, sixteen, text};
use crate::View;

/// Where the superblock and its mirrors stand.
pub(super) const PLACES: [u64; 3] = [64 << 10, 64 << 20, 256 << 30];

/// Btrfs.
pub(crate) const FACTS: KindFacts = KindFacts {
    word: "Btrfs",
    letters: "Bt",
    gpt: LINUX,
    mbr: MbrTypes::new(0x83, &[]),
    drivers: &[Driver::kernel("btrfs", "")],
    ..CLOSED
};

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    // `bytenr`, in the first 64 bytes, is one of the places; the magic behind it decides.
    let zeros = sector[48] == 0 && sector[49] == 0 && sector[53] == 0 && sector[54] == 0 && sector[55] == 0;
    zeros && sector.get(64..72) == Some(b"_BHRfS_M")
}

pub(super) fn read(_drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("Btrfs superblock", at, bytes);
    let place = view.u64(48, "bytenr").ok().filter(|place| PLACES.contains(place))?;
    // `dev_item.total_bytes`: of this device, not of all devices together.
    let length = view.u64(209, "dev_item.total_bytes").ok()?;
    let start = at.0.checked_sub(place)?;
    if length >> 60 != 0 || length < 1 << 20 {
        return None;
    }
    let crc = view.u16(196, "csum_type").ok()? == 0;
    let checked = crc && bytes.len() >= 4096 && crc32c::crc32c(bytes.get(32..4096)?) == view.u32(0, "csum").ok()?;
    let devices = view.u64(136, "num_devices").ok()?;
    let of = if devices > 1 { format!(", one of {devices} devices") } else { String::new() };
    let says = match place == PLACES[0] {
        true => format!("Btrfs superblock stands 64 KiB into the volume{of}"),
        false => format!("mirror of a Btrfs superblock stands {} MiB into the volume{of}", place >> 20),
    };
    let (label, identifier) = (text(bytes.get(299..555)?), sixteen(bytes, 32));
    Some(Known { start: ByteOffset(start), bytes: length, label, identifier, main: place == PLACES[0], checked, says })
}
