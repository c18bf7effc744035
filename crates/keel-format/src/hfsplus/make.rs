//! Making a new, empty HFS+ volume: both headers, the allocation bitmap, and the two B-trees that a volume must have.

use zerocopy::IntoBytes;
use zerocopy::big_endian::{U16, U32, U64};

use super::HfsVolume;
use super::layout::{
    ATTRIBUTE_JOURNALED, ATTRIBUTE_UNMOUNTED, CATALOG_KEY, EXTENTS_KEY, FIRST_USER_ID, HEADER_AT, NODE_HEADER, NODE_LEAF,
    RECORD_FOLDER, RECORD_FOLDER_THREAD, ROOT_FOLDER_ID, ROOT_PARENT_ID, RawExtent, RawFolder, RawFork, RawHeader, RawNode,
    RawPermissions, RawTreeHeader,
};

use crate::Volume;

/// Bytes of a node of the new trees.
const NODE_BYTES: usize = 4096;
/// Nodes of each new tree.
const NODES: u32 = 256;

/// What the new volume shall be.
#[derive(Debug, Clone)]
pub struct NewVolume {
    /// Length of the volume in bytes.
    pub bytes: u64,
    /// Bytes of an allocation block: a power of two from 512 on.
    pub block_bytes: u32,
    /// Name of the root folder.
    pub label: String,
    /// `createDate`: seconds since 1904-01-01.
    pub created: u32,
    /// Volume identifier.
    pub identifier: u64,
}

/// A piece of the new volume and the byte it goes to; what lies between pieces is zero.
pub type Piece = (u64, Vec<u8>);

/// The pieces of an empty volume. `None` when it is too small for its own structures or a number does not fit.
#[must_use]
pub fn volume(new: &NewVolume) -> Option<Vec<Piece>> {
    let size = u64::from(new.block_bytes);
    let blocks = u32::try_from(new.bytes / size).ok()?;
    let in_blocks = |bytes: u64| u32::try_from(bytes.div_ceil(size)).ok();
    let tree_bytes = u64::from(NODES) * NODE_BYTES as u64;
    // The header takes the blocks up to byte 1536, the alternate one those from 1024 bytes before the end.
    let head = in_blocks(HEADER_AT + 512)?;
    let tail = in_blocks(HEADER_AT)?;
    let bitmap = Place { start: head, blocks: in_blocks(u64::from(blocks).div_ceil(8))?, block_bytes: new.block_bytes };
    let extents = bitmap.next(in_blocks(tree_bytes)?);
    let catalog = extents.next(in_blocks(tree_bytes)?);
    let used = catalog.start.checked_add(catalog.blocks)?;
    let free = blocks.checked_sub(used.checked_add(tail)?)?;
    let date = U32::new(new.created);
    let header = RawHeader {
        signature: *b"H+",
        version: U16::new(4),
        attributes: U32::new(ATTRIBUTE_UNMOUNTED),
        last_mounted_version: *b"10.0",
        journal_info_block: U32::new(0),
        create_date: date,
        modify_date: date,
        backup_date: U32::new(0),
        checked_date: date,
        file_count: U32::new(0),
        folder_count: U32::new(0),
        block_size: U32::new(new.block_bytes),
        total_blocks: U32::new(blocks),
        free_blocks: U32::new(free),
        next_allocation: U32::new(used),
        rsrc_clump_size: U32::new(new.block_bytes),
        data_clump_size: U32::new(new.block_bytes),
        next_catalog_id: U32::new(FIRST_USER_ID),
        write_count: U32::new(1),
        encodings_bitmap: U64::new(1),
        finder_info: [0, 0, 0, 0, 0, 0, (new.identifier >> 32) as u32, (new.identifier & 0xFFFF_FFFF) as u32].map(U32::new),
        allocation_file: bitmap.fork(u64::from(bitmap.blocks) * size),
        extents_file: extents.fork(tree_bytes),
        catalog_file: catalog.fork(tree_bytes),
        attributes_file: Place { start: 0, blocks: 0, block_bytes: new.block_bytes }.fork(0),
        startup_file: Place { start: 0, blocks: 0, block_bytes: new.block_bytes }.fork(0),
    };
    let end = u64::from(blocks) * size + new.bytes % size;
    Some(vec![
        (HEADER_AT, header.as_bytes().to_vec()),
        (u64::from(bitmap.start) * size, bits(blocks, used, tail)),
        (u64::from(extents.start) * size, tree(EXTENTS_KEY, &[])),
        (u64::from(catalog.start) * size, tree(CATALOG_KEY, &root_records(new))),
        (end - HEADER_AT, header.as_bytes().to_vec()),
    ])
}

/// Bytes of a journal's header: one sector.
const JOURNAL_HEADER: usize = 512;

/// The header of an empty journal whose ring, header and all, has `bytes` bytes. Technical Note 1150, "Journal".
#[must_use]
pub fn journal_header(bytes: u64) -> Vec<u8> {
    let first = (JOURNAL_HEADER as u64).to_be_bytes();
    let mut header = [&b"JNLx"[..], &0x1234_5678u32.to_be_bytes(), &first, &first, &bytes.to_be_bytes()].concat();
    header.extend(4096u32.to_be_bytes());
    header.extend([0; 4]);
    header.extend((JOURNAL_HEADER as u32).to_be_bytes());
    let sum = super::journal::checksum(&header, 36).to_be_bytes();
    header.resize(JOURNAL_HEADER, 0);
    header.iter_mut().skip(36).zip(sum).for_each(|(slot, byte)| *slot = byte);
    header
}

/// Switches journaling on: the writes by which `volume`, which has none, gets an empty journal of `bytes` bytes in the
/// first free ground that is large enough. `None` when it has one, or no such ground.
#[must_use]
pub fn journal(volume: &HfsVolume, bytes: u64) -> Option<Vec<Piece>> {
    let geometry = volume.geometry();
    let size = u64::from(geometry.block_bytes);
    if geometry.attributes & ATTRIBUTE_JOURNALED != 0 {
        return None;
    }
    let allocation = volume.allocation()?;
    let wanted = bytes.div_ceil(size) + 1;
    let mut run = 0;
    let last = (0..allocation.units).find(|unit| {
        run = if allocation.is_used(*unit) { 0 } else { run + 1 };
        run == wanted
    })?;
    let info = last + 1 - wanted;
    let ground = info..last + 1;
    let mut block = 1u32.to_be_bytes().to_vec();
    block.resize(36, 0);
    block.extend(((info + 1) * size).to_be_bytes());
    block.extend(bytes.to_be_bytes());
    let mut pieces: Vec<Piece> =
        allocation.marked(std::slice::from_ref(&ground), true).into_iter().map(|repair| (repair.at.0, repair.bytes)).collect();
    pieces.push((info * size, block));
    pieces.push(((info + 1) * size, journal_header(bytes)));
    for at in [HEADER_AT, geometry.alternate_at().0] {
        let mut raw = volume.header_at(keel_source::ByteOffset(at))?;
        raw.attributes.set(raw.attributes.get() | ATTRIBUTE_JOURNALED);
        raw.journal_info_block.set(u32::try_from(info).ok()?);
        raw.free_blocks.set(raw.free_blocks.get().checked_sub(u32::try_from(wanted).ok()?)?);
        pieces.push((at, raw.as_bytes().to_vec()));
    }
    Some(pieces)
}

/// Where a file of the new volume lies.
#[derive(Clone, Copy)]
struct Place {
    start: u32,
    blocks: u32,
    block_bytes: u32,
}

impl Place {
    fn next(self, blocks: u32) -> Self {
        Self { start: self.start + self.blocks, blocks, ..self }
    }

    fn fork(self, bytes: u64) -> RawFork {
        let mut extents = [RawExtent::default(); 8];
        extents[0] = RawExtent { start_block: U32::new(self.start), block_count: U32::new(self.blocks) };
        RawFork {
            logical_size: U64::new(bytes),
            clump_size: U32::new(self.block_bytes.max(NODE_BYTES as u32)),
            total_blocks: U32::new(self.blocks),
            extents,
        }
    }
}

/// The bitmap with the first `used` and the last `tail` blocks in use; its spare bits are zero.
fn bits(blocks: u32, used: u32, tail: u32) -> Vec<u8> {
    let mut bytes = vec![0u8; blocks.div_ceil(8) as usize];
    for block in (0..used).chain(blocks - tail..blocks) {
        if let Some(byte) = bytes.get_mut(block as usize / 8) {
            *byte |= 0x80 >> (block % 8);
        }
    }
    bytes
}

/// Header node, and one leaf where there are records.
pub(super) fn tree(max_key_length: u16, records: &[Vec<u8>]) -> Vec<u8> {
    let full = u32::from(!records.is_empty());
    let header = RawTreeHeader {
        tree_depth: U16::new(u16::from(full == 1)),
        root_node: U32::new(full),
        leaf_records: U32::new(u32::try_from(records.len()).unwrap_or(0)),
        first_leaf_node: U32::new(full),
        last_leaf_node: U32::new(full),
        node_size: U16::new(NODE_BYTES as u16),
        max_key_length: U16::new(max_key_length),
        total_nodes: U32::new(NODES),
        free_nodes: U32::new(NODES - 1 - full),
        reserved1: U16::new(0),
        clump_size: U32::new(NODE_BYTES as u32),
        btree_type: 0,
        key_compare_type: if max_key_length == CATALOG_KEY { 0xCF } else { 0 },
        // Keys with lengths of 16 bits; those of the catalog's index nodes vary.
        attributes: U32::new(if max_key_length == CATALOG_KEY { 6 } else { 2 }),
        reserved3: [0; 64],
    };
    let map_bytes = NODE_BYTES - 14 - 106 - 128 - 4 * 2;
    let mut map = vec![0u8; map_bytes];
    if let Some(first) = map.first_mut() {
        *first = if full == 1 { 0xC0 } else { 0x80 };
    }
    let mut bytes = node(NODE_HEADER, 0, &[header.as_bytes().to_vec(), vec![0; 128], map]);
    if full == 1 {
        bytes.extend(node(NODE_LEAF, 1, records));
    }
    bytes
}

fn node(kind: i8, height: u8, records: &[Vec<u8>]) -> Vec<u8> {
    let count = U16::new(u16::try_from(records.len()).unwrap_or(0));
    let descriptor =
        RawNode { f_link: U32::new(0), b_link: U32::new(0), kind, height, num_records: count, reserved: U16::new(0) };
    let mut bytes = descriptor.as_bytes().to_vec();
    let mut offsets = Vec::new();
    for record in records {
        offsets.push(bytes.len() as u16);
        bytes.extend(record);
    }
    offsets.push(bytes.len() as u16);
    bytes.resize(NODE_BYTES - 2 * offsets.len(), 0);
    bytes.extend(offsets.iter().rev().flat_map(|offset| offset.to_be_bytes()));
    bytes
}

/// A catalog key with its length.
pub(super) fn key(parent: u32, units: &[u16]) -> Vec<u8> {
    let count = units.len() as u16;
    let mut key = (6 + 2 * count).to_be_bytes().to_vec();
    key.extend(parent.to_be_bytes());
    key.extend(count.to_be_bytes());
    key.extend(units.iter().flat_map(|unit| unit.to_be_bytes()));
    key
}

/// The root folder's record and its thread.
pub(super) fn root_records(new: &NewVolume) -> Vec<Vec<u8>> {
    use unicode_normalization::UnicodeNormalization;
    let units: Vec<u16> = new.label.nfd().collect::<String>().encode_utf16().take(255).collect();
    let date = U32::new(new.created);
    let folder = RawFolder {
        record_type: U16::new(RECORD_FOLDER),
        flags: U16::new(0),
        valence: U32::new(0),
        folder_id: U32::new(ROOT_FOLDER_ID),
        create_date: date,
        content_mod_date: date,
        attribute_mod_date: date,
        access_date: date,
        backup_date: U32::new(0),
        permissions: RawPermissions {
            owner_id: U32::new(0),
            group_id: U32::new(0),
            admin_flags: 0,
            owner_flags: 0,
            file_mode: U16::new(0o40755),
            special: U32::new(0),
        },
        user_info: [0; 16],
        finder_info: [0; 16],
        text_encoding: U32::new(0),
        folder_count: U32::new(0),
    };
    let mut thread = RECORD_FOLDER_THREAD.to_be_bytes().to_vec();
    thread.extend([0, 0]);
    thread.extend(key(ROOT_PARENT_ID, &units).get(2..).unwrap_or_default());
    let folder = [key(ROOT_PARENT_ID, &units), folder.as_bytes().to_vec()].concat();
    vec![folder, [key(ROOT_FOLDER_ID, &[]), thread].concat()]
}
