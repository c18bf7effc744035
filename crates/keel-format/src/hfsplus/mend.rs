//! The volume header of HFS+, which stands twice.

use keel_source::{ByteOffset, SharedSource};
use zerocopy::big_endian::{U32, U64};
use zerocopy::{FromBytes, FromZeros, IntoBytes};

use super::layout::{FIRST_USER_ID, Fork, HEADER_AT, RawExtent, RawFork, RawHeader};
use super::{HfsGeometry, HfsVolume};
use crate::structure::{Compute, Computed, Field, Form, Structure};
use crate::{FormatError, Problem, View, VolumeKind, read_bytes};

/// Fields of the volume header.
pub(super) const HEADER: [Field; 22] = [
    Field::new("signature", 0, 2, Form::Text, "nothing recognises the volume as HFS+"),
    Field::new("version", 2, 2, Form::Big, "the volume is refused"),
    Field::new("attributes", 4, 4, Form::Bytes, "the journal is not seen, or the volume is read only"),
    Field::new("lastMountedVersion", 8, 4, Form::Text, ""),
    Field::new("journalInfoBlock", 12, 4, Form::Big, "what the journal holds is lost"),
    Field::new("createDate", 16, 4, Form::Big, ""),
    Field::new("modifyDate", 20, 4, Form::Big, ""),
    Field::new("fileCount", 32, 4, Form::Big, ""),
    Field::new("folderCount", 36, 4, Form::Big, ""),
    Field::new("blockSize", 40, 4, Form::Big, "every place in the volume is taken wrong"),
    Field::new("totalBlocks", 44, 4, Form::Big, "the end of the volume"),
    Field::new("freeBlocks", 48, 4, Form::Big, "the free space is shown wrong"),
    Field::new("nextCatalogID", 64, 4, Form::Big, "numbers of files are given out twice"),
    Field::new("allocationFile.startBlock", 128, 4, Form::Big, "free space is not known: writing destroys files"),
    Field::new("allocationFile.blockCount", 132, 4, Form::Big, "free space is not known"),
    Field::new("extentsFile.startBlock", 208, 4, Form::Big, "files in many pieces do not read"),
    Field::new("extentsFile.blockCount", 212, 4, Form::Big, "files in many pieces do not read"),
    Field::new("catalogFile.logicalSize", 272, 8, Form::Big, "files of the catalog's end are missing"),
    Field::new("catalogFile.startBlock", 288, 4, Form::Big, "no file is found"),
    Field::new("catalogFile.blockCount", 292, 4, Form::Big, "files are missing"),
    Field::new("attributesFile.startBlock", 368, 4, Form::Big, "compressed files do not read"),
    Field::new("attributesFile.blockCount", 372, 4, Form::Big, "compressed files do not read"),
];

/// True when the header at `at` states `geometry`.
#[must_use]
pub fn is_stated_at(window: &SharedSource, geometry: &HfsGeometry, at: ByteOffset) -> bool {
    read_bytes(window.as_ref(), at, 512, "volume header").is_ok_and(|bytes| judge(geometry, at, &bytes).is_ok())
}

fn judge(geometry: &HfsGeometry, at: ByteOffset, bytes: &[u8]) -> Result<(), FormatError> {
    let view = View::new("volume header", at, bytes);
    let found = HfsGeometry::parse(view)?;
    match found.is_same_volume(geometry) {
        true => Ok(()),
        false => Err(view.error(0, Problem::Coding("its numbers are those of another volume"))),
    }
}

/// The structures of the volume in `window`.
#[must_use]
pub fn structures(window: &SharedSource, geometry: &HfsGeometry, compute: Compute) -> Vec<Structure> {
    let volume = HfsVolume::open(SharedSource::clone(window), *geometry).ok();
    let highest = || volume.as_ref().and_then(|volume| volume.highest_id().ok());
    let judge_place = |at: ByteOffset, bytes: &[u8]| {
        judge(geometry, at, bytes)?;
        // An alternate header that was written before a tree moved would lead to what is no tree any more.
        let view = View::new("volume header", at, bytes);
        let found = HfsGeometry::parse(view)?;
        let moved = at.0 != HEADER_AT && (found.catalog != geometry.catalog || found.extents != geometry.extents);
        if moved { Err(view.error(272, Problem::Coding("its catalog is not where the catalog is now"))) } else { Ok(()) }
    };
    let adapt = |bytes: Vec<u8>| {
        let Ok(mut raw) = RawHeader::read_from_bytes(&bytes) else { return bytes };
        // The alternate is older than the catalog: numbers in use must not be given out again.
        let next = highest().and_then(|highest| highest.checked_add(1)).unwrap_or(0);
        raw.next_catalog_id.set(raw.next_catalog_id.get().max(next));
        raw.as_bytes().to_vec()
    };
    let places = (ByteOffset(HEADER_AT), &[geometry.alternate_at()][..]);
    let read = Structure::read_sparingly(window, "volume header", 512, places, &judge_place, &adapt);
    let read = read.with_computed(compute, || computed(window, geometry, volume.as_ref()?, highest()?));
    vec![Structure { fields: HEADER.to_vec(), renews_copies: true, ..read }]
}

fn raw_fork(fork: &Fork, clump: u32) -> RawFork {
    RawFork {
        logical_size: U64::new(fork.bytes),
        clump_size: U32::new(clump),
        total_blocks: U32::new(fork.blocks),
        extents: fork.extents.map(|(start, count)| RawExtent { start_block: U32::new(start), block_count: U32::new(count) }),
    }
}

/// The header from the trees, the bitmap and the catalog's root.
fn computed(window: &SharedSource, geometry: &HfsGeometry, volume: &HfsVolume, highest: u32) -> Option<Computed> {
    let (files, folders) = volume.counts().ok()?;
    let free = free_blocks(window, geometry)?;
    let wide = geometry.kind == VolumeKind::Hfsx;
    let mut raw = RawHeader::new_zeroed();
    raw.signature = if wide { *b"HX" } else { *b"H+" };
    raw.version.set(if wide { 5 } else { 4 });
    raw.attributes.set(geometry.attributes);
    raw.last_mounted_version = *b"10.0";
    raw.journal_info_block.set(geometry.journal_info_block);
    raw.create_date.set(geometry.create_date);
    raw.modify_date.set(geometry.create_date);
    raw.checked_date.set(geometry.create_date);
    raw.file_count.set(files);
    // The root folder is not counted.
    raw.folder_count.set(folders.saturating_sub(1));
    raw.block_size.set(geometry.block_bytes);
    raw.total_blocks.set(geometry.total_blocks);
    raw.free_blocks.set(free);
    raw.rsrc_clump_size.set(geometry.block_bytes);
    raw.data_clump_size.set(geometry.block_bytes);
    raw.next_catalog_id.set(highest.checked_add(1)?.max(FIRST_USER_ID));
    raw.write_count.set(1);
    raw.encodings_bitmap.set(1);
    raw.allocation_file = raw_fork(&geometry.allocation, geometry.block_bytes);
    raw.extents_file = raw_fork(&geometry.extents, geometry.block_bytes);
    raw.catalog_file = raw_fork(&geometry.catalog, geometry.block_bytes);
    raw.attributes_file = raw_fork(&geometry.attributes_file, geometry.block_bytes);
    let places = format!("blocks of {} bytes put files and trees where they stand", geometry.block_bytes);
    let witnesses = vec![
        ("blockSize", places.clone()),
        ("totalBlocks", "the last bit of the allocation bitmap that is set is that of the alternate header".to_string()),
        ("freeBlocks", "the clear bits of the allocation bitmap".to_string()),
        ("fileCount", format!("{files} file records in the catalog")),
        ("folderCount", format!("{folders} folder records in the catalog, the root among them")),
        ("nextCatalogID", format!("the highest number in use is {highest}")),
        ("createDate", "the root folder's".to_string()),
        ("allocationFile.startBlock", "the blocks whose bits count every file's blocks as used".to_string()),
        ("extentsFile.startBlock", "where a tree with keys of 10 bytes begins".to_string()),
        ("catalogFile.startBlock", "where a tree with keys of 516 bytes begins".to_string()),
        ("catalogFile.logicalSize", "nodes of the catalog, by its header node".to_string()),
        ("attributesFile.startBlock", "where a tree with keys of 266 bytes begins".to_string()),
        ("journalInfoBlock", "the file .journal_info_block of the root folder".to_string()),
    ];
    Some(Computed { bytes: raw.as_bytes().to_vec(), witnesses })
}

/// Clear bits of the allocation bitmap among those that count a block.
fn free_blocks(window: &SharedSource, geometry: &HfsGeometry) -> Option<u32> {
    const PIECE: u64 = 1 << 20;
    let size = u64::from(geometry.block_bytes);
    let mut free = 0u32;
    let mut left = geometry.total_blocks;
    for (start, count) in geometry.allocation.extents {
        let bytes = u64::from(count) * size;
        for from in (0..bytes).step_by(usize::try_from(PIECE).ok()?) {
            let at = geometry.block_at(start)? + from;
            let bits = read_bytes(window.as_ref(), at, usize::try_from(PIECE.min(bytes - from)).ok()?, "allocation file").ok()?;
            for byte in bits {
                let counted = left.min(8);
                let clear = (0..counted).filter(|bit| byte & (0x80 >> bit) == 0).count();
                free += u32::try_from(clear).ok()?;
                left -= counted;
            }
        }
    }
    (left == 0).then_some(free)
}
