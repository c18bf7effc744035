//! The B-trees of a new volume: nodes, and the records of its root folder.

use zerocopy::IntoBytes;
use zerocopy::big_endian::{U16, U32};

use super::Place;
use crate::hfsplus::layout::{
    CATALOG_KEY, EXTENTS_KEY, FIRST_USER_ID, NODE_HEADER, NODE_LEAF, RECORD_FILE, RECORD_FOLDER, RECORD_FOLDER_THREAD,
    ROOT_FOLDER_ID, ROOT_PARENT_ID, RawFile, RawFolder, RawNode, RawPermissions, RawTreeHeader,
};

/// Bytes of a node of the new trees.
pub(super) const NODE_BYTES: usize = 4096;

/// Header node, and one leaf where there are records; of `nodes` nodes, whose bits the header node has room for.
pub(in crate::hfsplus) fn tree(max_key_length: u16, records: &[Vec<u8>], nodes: u32) -> Vec<u8> {
    let full = u32::from(!records.is_empty());
    let header = RawTreeHeader {
        tree_depth: U16::new(u16::from(full == 1)),
        root_node: U32::new(full),
        leaf_records: U32::new(u32::try_from(records.len()).unwrap_or(0)),
        first_leaf_node: U32::new(full),
        last_leaf_node: U32::new(full),
        node_size: U16::new(NODE_BYTES as u16),
        max_key_length: U16::new(max_key_length),
        total_nodes: U32::new(nodes),
        free_nodes: U32::new(nodes - 1 - full),
        reserved1: U16::new(0),
        clump_size: U32::new(nodes.saturating_mul(NODE_BYTES as u32)),
        btree_type: 0,
        key_compare_type: if max_key_length == CATALOG_KEY { 0xCF } else { 0 },
        // Keys with lengths of 16 bits; those of index nodes vary, but for extents.
        attributes: U32::new(if max_key_length == EXTENTS_KEY { 2 } else { 6 }),
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
pub(in crate::hfsplus) fn key(parent: u32, units: &[u16]) -> Vec<u8> {
    let count = units.len() as u16;
    let mut key = (6 + 2 * count).to_be_bytes().to_vec();
    key.extend(parent.to_be_bytes());
    key.extend(count.to_be_bytes());
    key.extend(units.iter().flat_map(|unit| unit.to_be_bytes()));
    key
}

/// A name as the catalog keeps it: decomposed.
pub(super) fn units(name: &str) -> Vec<u16> {
    use unicode_normalization::UnicodeNormalization;
    name.nfd().collect::<String>().encode_utf16().collect()
}

/// What a new folder or file allows: everybody reads, or only its owner.
fn permissions(mode: u16) -> RawPermissions {
    RawPermissions {
        owner_id: U32::new(0),
        group_id: U32::new(0),
        admin_flags: 0,
        owner_flags: 0,
        file_mode: U16::new(mode),
        special: U32::new(0),
    }
}

/// `recordType` of a file's thread.
const RECORD_FILE_THREAD: u16 = 4;
/// `flags` of a file: it has a thread.
const HAS_THREAD: u16 = 2;
/// `fdFlags`: not shown, and not to be named anew.
const HIDDEN: u16 = 0x5000;

fn thread(record_type: u16, id: u32, parent: u32, name: &[u16]) -> Vec<u8> {
    let mut record = record_type.to_be_bytes().to_vec();
    record.extend([0, 0]);
    record.extend(key(parent, name).get(2..).unwrap_or_default());
    [key(id, &[]), record].concat()
}

/// Records of the catalog: the root folder `name` and its thread, and the hidden files in it with their place and bytes, in the order
/// of their names.
pub(super) fn records(name: &[u16], made_at: U32, files: &[(&str, Place, u64)]) -> Vec<Vec<u8>> {
    let folder = RawFolder {
        record_type: U16::new(RECORD_FOLDER),
        flags: U16::new(0),
        valence: U32::new(u32::try_from(files.len()).unwrap_or(0)),
        folder_id: U32::new(ROOT_FOLDER_ID),
        create_date: made_at,
        content_mod_date: made_at,
        attribute_mod_date: made_at,
        access_date: made_at,
        backup_date: U32::new(0),
        permissions: permissions(0o40755),
        user_info: [0; 16],
        finder_info: [0; 16],
        text_encoding: U32::new(0),
        folder_count: U32::new(0),
    };
    let mut records = vec![[key(ROOT_PARENT_ID, name), folder.as_bytes().to_vec()].concat()];
    records.push(thread(RECORD_FOLDER_THREAD, ROOT_FOLDER_ID, ROOT_PARENT_ID, name));
    let mut threads = Vec::new();
    for ((name, place, bytes), id) in files.iter().zip(FIRST_USER_ID..) {
        let name = units(name);
        let [high, low] = HIDDEN.to_be_bytes();
        let file = RawFile {
            record_type: U16::new(RECORD_FILE),
            flags: U16::new(HAS_THREAD),
            reserved1: U32::new(0),
            file_id: U32::new(id),
            create_date: made_at,
            content_mod_date: made_at,
            attribute_mod_date: made_at,
            access_date: made_at,
            backup_date: U32::new(0),
            permissions: permissions(0o100_400),
            fd_type: *b"jrnl",
            fd_creator: *b"hfs+",
            user_info: [high, low, 0, 0, 0, 0, 0, 0],
            finder_info: [0; 16],
            text_encoding: U32::new(0),
            reserved2: U32::new(0),
            data_fork: place.fork(*bytes),
            resource_fork: Place { start: 0, blocks: 0, ..*place }.fork(0),
        };
        records.push([key(ROOT_FOLDER_ID, &name), file.as_bytes().to_vec()].concat());
        threads.push(thread(RECORD_FILE_THREAD, id, ROOT_FOLDER_ID, &name));
    }
    records.extend(threads);
    records
}

/// The catalog's records of a new volume's root folder alone, for trees that tests fill themselves.
#[cfg(test)]
pub(in crate::hfsplus) fn root_records(label: &str) -> Vec<Vec<u8>> {
    records(&units(label), U32::new(0), &[])
}
