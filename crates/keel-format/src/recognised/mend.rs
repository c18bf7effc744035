//! The superblocks of recognised kinds that keep copies: Btrfs.

use keel_source::{ByteOffset, SharedSource};

use super::{KnownGeometry, btrfs};
use crate::structure::{Field, Form, Structure};
use crate::{FormatError, Problem, View, VolumeKind};

/// Bytes of the superblock.
const BTRFS_BYTES: usize = 4096;
/// Fields of a Btrfs superblock.
pub(super) const BTRFS: [Field; 14] = [
    Field::new("csum", 0, 4, Form::Bytes, "the volume is refused"),
    Field::new("fsid", 32, 16, Form::Bytes, "no structure is believed"),
    Field::new("bytenr", 48, 8, Form::Little, "the volume is refused"),
    Field::new("magic", 64, 8, Form::Text, "nothing recognises the volume as Btrfs"),
    Field::new("generation", 72, 8, Form::Little, "an older state is read"),
    Field::new("root", 80, 8, Form::Little, "no file is found"),
    Field::new("chunk_root", 88, 8, Form::Little, "no place in the volume is known"),
    Field::new("log_root", 96, 8, Form::Little, ""),
    Field::new("total_bytes", 112, 8, Form::Little, "the end of the volume"),
    Field::new("num_devices", 136, 8, Form::Little, "the volume is not assembled"),
    Field::new("sectorsize", 144, 4, Form::Little, "the volume is refused"),
    Field::new("nodesize", 148, 4, Form::Little, "no tree reads"),
    Field::new("csum_type", 196, 2, Form::Little, "no checksum holds"),
    Field::new("label", 299, 64, Form::Name, ""),
];

/// The structures of the recognised volume in `window`; none for kinds that keep no copies.
#[must_use]
pub fn structures(window: &SharedSource, geometry: &KnownGeometry) -> Vec<Structure> {
    match geometry.kind {
        VolumeKind::Btrfs => vec![btrfs_superblock(window, geometry)],
        _ => Vec::new(),
    }
}

fn foreign(view: View<'_>) -> FormatError {
    view.error(0, Problem::Coding("it is no superblock of this volume"))
}

fn btrfs_superblock(window: &SharedSource, geometry: &KnownGeometry) -> Structure {
    let judge = |at: ByteOffset, bytes: &[u8]| {
        let view = View::new("Btrfs superblock", at, bytes);
        if view.slice(64, 8, "magic")? != b"_BHRfS_M" {
            return Err(view.wrong(64, "magic", view.u64(64, "magic")?, "_BHRfS_M"));
        }
        let known = btrfs::read(window.as_ref(), at, bytes).ok_or_else(|| foreign(view))?;
        let crc = view.u16(196, "csum_type")? == 0;
        let states = known.start.0 == 0 && known.identifier == geometry.identifier && (known.checked || !crc);
        if states { Ok(()) } else { Err(foreign(view)) }
    };
    let [main, mirrors @ ..] = btrfs::PLACES;
    let mirrors: Vec<ByteOffset> = mirrors.into_iter().filter(|at| at + 4096 <= geometry.bytes).map(ByteOffset).collect();
    let adapt = move |mut bytes: Vec<u8>| {
        if let Some(slot) = bytes.get_mut(48..56) {
            slot.copy_from_slice(&main.to_le_bytes());
        }
        seal_btrfs(&mut bytes);
        bytes
    };
    let read = Structure::read(window, "Btrfs superblock", BTRFS_BYTES, (ByteOffset(main), &mirrors), &judge, &adapt);
    Structure { fields: BTRFS.to_vec(), seal: seal_btrfs, ..read }
}

fn seal_btrfs(bytes: &mut [u8]) {
    let crc = bytes.get(196..198) == Some(&[0, 0]);
    let Some((slot, counted)) = bytes.split_at_mut_checked(32).filter(|_| crc) else { return };
    let sum = crc32c::crc32c(counted).to_le_bytes();
    slot.fill(0);
    slot.iter_mut().zip(sum).for_each(|(slot, byte)| *slot = byte);
}
