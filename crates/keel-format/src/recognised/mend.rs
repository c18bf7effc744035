//! The superblocks of recognised kinds that keep copies: XFS and Btrfs.

use keel_source::{ByteOffset, SharedSource};

use super::{KnownGeometry, btrfs, sixteen, xfs};
use crate::structure::{Field, Form, Structure};
use crate::{FormatError, Problem, View, VolumeKind, read_bytes};

/// Bytes of the superblocks.
const XFS_BYTES: usize = 512;
const BTRFS_BYTES: usize = 4096;
/// The most allocation groups whose copies are compared.
const MOST_GROUPS: u64 = 8;
/// The most counts of allocation groups that are tried when the superblock does not say it.
const MOST_TRIED: u64 = 512;

/// Fields of an XFS superblock.
const XFS: [Field; 15] = [
    Field::new("sb_magicnum", 0, 4, Form::Text, "nothing recognises the volume as XFS"),
    Field::new("sb_blocksize", 4, 4, Form::Big, "every place in the volume is taken wrong"),
    Field::new("sb_dblocks", 8, 8, Form::Big, "the end of the volume"),
    Field::new("sb_uuid", 32, 16, Form::Bytes, "no structure is believed"),
    Field::new("sb_logstart", 48, 8, Form::Big, "the log is not found"),
    Field::new("sb_rootino", 56, 8, Form::Big, "no file is found"),
    Field::new("sb_agblocks", 84, 4, Form::Big, "every place in the volume is taken wrong"),
    Field::new("sb_agcount", 88, 4, Form::Big, "the end of the volume"),
    Field::new("sb_versionnum", 100, 2, Form::Big, "the volume is refused"),
    Field::new("sb_sectsize", 102, 2, Form::Big, "the headers of groups are not found"),
    Field::new("sb_inodesize", 104, 2, Form::Big, "no inode reads"),
    Field::new("sb_fname", 108, 12, Form::Text, ""),
    Field::new("sb_icount", 128, 8, Form::Big, ""),
    Field::new("sb_fdblocks", 144, 8, Form::Big, "the free space is shown wrong"),
    Field::new("sb_crc", 224, 4, Form::Little, "the volume is refused"),
];

/// Fields of a Btrfs superblock.
const BTRFS: [Field; 14] = [
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
    Field::new("label", 299, 64, Form::Text, ""),
];

/// The structures of the recognised volume in `window`; none for kinds that keep no copies.
#[must_use]
pub fn structures(window: &SharedSource, geometry: &KnownGeometry) -> Vec<Structure> {
    match geometry.kind {
        VolumeKind::Xfs => vec![xfs_superblock(window, geometry)],
        VolumeKind::Btrfs => vec![btrfs_superblock(window, geometry)],
        _ => Vec::new(),
    }
}

fn foreign(view: View<'_>) -> FormatError {
    view.error(0, Problem::Coding("it is no superblock of this volume"))
}

fn xfs_superblock(window: &SharedSource, geometry: &KnownGeometry) -> Structure {
    let judge = |at: ByteOffset, bytes: &[u8]| {
        let view = View::new("XFS superblock", at, bytes);
        if !bytes.starts_with(b"XFSB") {
            return Err(view.wrong(0, "sb_magicnum", u64::from(view.u32(0, "sb_magicnum")?.swap_bytes()), "XFSB"));
        }
        let known = xfs::read(window.as_ref(), at, bytes).ok_or_else(|| foreign(view))?;
        let version = view.u16(100, "sb_versionnum")?.swap_bytes() & 15;
        let states = known.start.0 == 0 && known.identifier == geometry.identifier && known.bytes == geometry.bytes;
        // Copies of the headers of their groups are what tells two superblocks apart that say the same.
        if states && (known.checked || version < 5) { Ok(()) } else { Err(foreign(view)) }
    };
    let copies: Vec<ByteOffset> = group_bytes(window, geometry)
        .map(|step| (1..=MOST_GROUPS).map(|group| group * step).take_while(|at| *at < geometry.bytes).map(ByteOffset).collect())
        .unwrap_or_default();
    let adapt = |bytes: Vec<u8>| with_counts(window, bytes);
    let read = Structure::read_sparingly(window, "XFS superblock", XFS_BYTES, (ByteOffset(0), &copies), &judge, &adapt);
    Structure { fields: XFS.to_vec(), seal: seal_xfs, ..read }
}

/// Bytes from one allocation group to the next: by the superblock, else by the count of groups for which a copy stands
/// where the second one begins.
fn group_bytes(window: &SharedSource, geometry: &KnownGeometry) -> Option<u64> {
    let at = |place: u64| -> Option<u64> {
        let bytes = read_bytes(window.as_ref(), ByteOffset(place), XFS_BYTES, "XFS superblock").ok()?;
        let ours = bytes.starts_with(b"XFSB") && sixteen(&bytes, 32) == geometry.identifier;
        let view = View::new("XFS superblock", ByteOffset(place), &bytes);
        let word = |offset| view.u32(offset, "sb_field").ok().map(|word| u64::from(word.swap_bytes()));
        word(4)?.checked_mul(word(84)?).filter(|step| ours && *step >= 1 << 20)
    };
    if let Some(step) = at(0) {
        return Some(step);
    }
    let tried = (2..=MOST_TRIED).flat_map(|groups| {
        [4096u64, 512, 1024, 2048, 8192, 16_384, 32_768, 65_536].map(|block| (geometry.bytes / block).div_ceil(groups) * block)
    });
    tried.filter(|place| *place > 0).find_map(|place| at(place).filter(|step| *step == place))
}

/// A copy as the first superblock: the counts, which only that one keeps, from the headers of all groups.
fn with_counts(window: &SharedSource, mut bytes: Vec<u8>) -> Vec<u8> {
    let view = View::new("XFS superblock", ByteOffset(0), &bytes);
    let word = |offset| view.u32(offset, "sb_field").map(|word| u64::from(word.swap_bytes())).unwrap_or(0);
    let sector = u64::from(view.u16(102, "sb_sectsize").map(u16::swap_bytes).unwrap_or(512));
    let (step, groups) = (word(4).saturating_mul(word(84)), word(88));
    let (mut inodes, mut free_inodes, mut free_blocks) = (0u64, 0u64, 0u64);
    for group in 0..groups.min(1 << 16) {
        let header = |index: u64, magic: &[u8]| {
            let at = ByteOffset((group * step).saturating_add(index * sector));
            read_bytes(window.as_ref(), at, 64, "group header").ok().filter(|bytes| bytes.starts_with(magic))
        };
        let field = |bytes: &[u8], offset: usize| {
            View::new("group header", ByteOffset(0), bytes).u32(offset, "field").map_or(0, |word| u64::from(word.swap_bytes()))
        };
        if let Some(space) = header(1, b"XAGF") {
            free_blocks += field(&space, 48) + field(&space, 52) + field(&space, 60);
        }
        if let Some(space) = header(2, b"XAGI") {
            inodes += field(&space, 16);
            free_inodes += field(&space, 28);
        }
    }
    let mut set = |offset: usize, value: &[u8]| {
        if let Some(slot) = bytes.get_mut(offset..offset + value.len()) {
            slot.copy_from_slice(value);
        }
    };
    // `sb_inprogress` is set in copies of a volume whose making was not finished.
    set(126, &[0]);
    set(128, &inodes.to_be_bytes());
    set(136, &free_inodes.to_be_bytes());
    set(144, &free_blocks.to_be_bytes());
    seal_xfs(&mut bytes);
    bytes
}

fn seal_xfs(bytes: &mut [u8]) {
    let Some(version) = bytes.get(100..102).and_then(<[u8]>::first_chunk::<2>).map(|version| u16::from_be_bytes(*version)) else {
        return;
    };
    if version & 15 != 5 {
        return;
    }
    if let Some(slot) = bytes.get_mut(224..228) {
        slot.fill(0);
    }
    let sum = crc32c::crc32c(bytes).to_le_bytes();
    if let Some(slot) = bytes.get_mut(224..228) {
        slot.copy_from_slice(&sum);
    }
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
