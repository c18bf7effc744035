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
    let sector = copies.first().and_then(|at| xfs_sector(window, *at)).or_else(|| xfs_sector(window, ByteOffset(0)));
    let len = sector.unwrap_or(XFS_BYTES);
    let read = Structure::read_sparingly(window, "XFS superblock", len, (ByteOffset(0), &copies), &judge, &adapt);
    Structure { fields: XFS.to_vec(), seal: seal_xfs, ..read }
}

/// Bytes of a sector by the superblock at `at`: as many belong to it, and its checksum is over all of them.
fn xfs_sector(window: &SharedSource, at: ByteOffset) -> Option<usize> {
    let bytes = read_bytes(window.as_ref(), at, XFS_BYTES, "XFS superblock").ok().filter(|bytes| bytes.starts_with(b"XFSB"))?;
    let size = usize::from(View::new("XFS superblock", at, &bytes).u16(102, "sb_sectsize").ok()?.swap_bytes());
    (size.is_power_of_two() && (512..=32_768).contains(&size)).then_some(size)
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
    let known = view.u64(56, "sb_rootino").map_or(u64::MAX, u64::swap_bytes);
    let root = if known == u64::MAX || known == 0 { first_inode(window, &bytes, sector) } else { None };
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
    // Copies of a volume that grew, or that was made in one go, do not know the first inodes.
    if let Some(root) = root {
        set(56, &root.to_be_bytes());
        set(64, &(root + 1).to_be_bytes());
        set(72, &(root + 2).to_be_bytes());
    }
    seal_xfs(&mut bytes);
    bytes
}

/// The first inode of the first group, which is the root folder: from the leftmost leaf of the group's inode tree. The inode
/// itself must be a folder. Bounded by [`MOST_LEVELS`].
fn first_inode(window: &SharedSource, superblock: &[u8], sector: u64) -> Option<u64> {
    const MOST_LEVELS: usize = 8;
    let word = |bytes: &[u8], offset: usize| {
        View::new("XFS block", ByteOffset(0), bytes).u32(offset, "field").ok().map(|word| u64::from(word.swap_bytes()))
    };
    let block = word(superblock, 4)?;
    let half =
        |offset: usize| View::new("XFS superblock", ByteOffset(0), superblock).u16(offset, "field").ok().map(u16::swap_bytes);
    let (inode_bytes, version) = (u64::from(half(104)?), half(100)? & 15);
    let group = read_bytes(window.as_ref(), ByteOffset(2 * sector), 64, "AGI").ok()?;
    if !group.starts_with(b"XAGI") {
        return None;
    }
    let mut at = word(&group, 20)?;
    let header = if version == 5 { 56 } else { 16 };
    for _ in 0..MOST_LEVELS {
        let bytes =
            read_bytes(window.as_ref(), ByteOffset(at.checked_mul(block)?), usize::try_from(block).ok()?, "inode tree").ok()?;
        if !bytes.starts_with(b"IAB") {
            return None;
        }
        let view = View::new("inode tree", ByteOffset(0), &bytes);
        let level = view.u16(4, "bb_level").ok()?.swap_bytes();
        if level == 0 {
            let number = word(&bytes, header)?;
            // Inodes of the first group count from its start: their number is their place.
            let inode = read_bytes(window.as_ref(), ByteOffset(number.checked_mul(inode_bytes)?), 16, "inode").ok()?;
            let mode = View::new("inode", ByteOffset(0), &inode).u16(2, "di_mode").ok()?.swap_bytes();
            return (inode.starts_with(b"IN") && mode >> 12 == 4).then_some(number);
        }
        // Keys come first; pointers behind room for as many keys as the block holds.
        let most = (usize::try_from(block).ok()? - header) / 8;
        at = word(&bytes, header + most * 4)?;
    }
    None
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
