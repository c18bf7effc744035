//! Extended attributes: in the room behind an inode's fields, and in a block of their own. Source: the kernel's `ext4.rst`,
//! "Extended Attributes"; little-endian. Bounded by the inode and one block.

use super::{ExtGeometry, Inode};
use crate::View;
use crate::pages::Pages;

/// `h_magic`.
const MAGIC: u32 = 0xEA02_0000;
/// Bytes of an entry before its name.
const ENTRY: usize = 16;
/// Bytes of the header of a block.
const BLOCK_HEADER: usize = 32;
/// Bytes of an inode before `i_extra_isize` counts.
const GOOD_OLD: usize = 128;
/// Prefixes by `e_name_index`.
const PREFIXES: [(u8, &str); 7] = [
    (1, "user."),
    (2, "system.posix_acl_access"),
    (3, "system.posix_acl_default"),
    (4, "trusted."),
    (6, "security."),
    (7, "system."),
    (8, "system.richacl"),
];
/// The name under which content is kept inside an inode: no attribute of anybody.
const INLINE: &str = "system.data";

/// One attribute.
pub(super) struct Attribute {
    pub(super) name: String,
    /// `e_value_size`, in bytes.
    pub(super) bytes: u64,
    pub(super) value: Value,
}

/// Where a value is.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Value {
    /// In the inode, or in the block of attributes.
    Here(Vec<u8>),
    /// In an inode of its own: `e_value_inum`.
    Inode(u32),
}

/// The attributes of `inode`. What is damaged is left out.
pub(super) fn read(pages: &Pages, geometry: &ExtGeometry, inode: &Inode) -> Vec<Attribute> {
    let mut found = Vec::new();
    if geometry.inode_bytes > 128 {
        let bytes = pages.bytes(inode.at, usize::from(geometry.inode_bytes), "inode").unwrap_or_default();
        let start = GOOD_OLD + usize::from(inode.raw.i_extra_isize.get());
        let view = View::new("extended attributes", inode.at, bytes.get(start..).unwrap_or_default());
        if view.u32(0, "h_magic") == Ok(MAGIC) {
            // Values count from the first entry.
            entries(view, 4, 4, &mut found);
        }
    }
    if let Some(at) = inode.attribute_block().and_then(|block| geometry.block_at(block))
        && let Ok(bytes) = pages.bytes(at, geometry.block_bytes as usize, "extended attributes")
    {
        let view = View::new("extended attributes", at, &bytes);
        if view.u32(0, "h_magic") == Ok(MAGIC) {
            entries(view, BLOCK_HEADER, 0, &mut found);
        }
    }
    found.retain(|attribute| attribute.name != INLINE);
    found
}

/// The entries from byte `first` on; their values stand at offsets from byte `base`.
fn entries(view: View<'_>, first: usize, base: usize, found: &mut Vec<Attribute>) {
    let mut at = first;
    while let (Ok(length), Ok(index)) = (view.u8(at, "e_name_len"), view.u8(at + 1, "e_name_index")) {
        if length == 0 && index == 0 {
            return;
        }
        let size = view.u32(at + 8, "e_value_size").ok().and_then(|value| usize::try_from(value).ok());
        let offset = view.u16(at + 2, "e_value_offs").map_or(0, usize::from);
        let Ok(inode) = view.u32(at + 4, "e_value_inum") else { return };
        let (Some(size), Ok(name)) = (size, view.slice(at + ENTRY, usize::from(length), "e_name")) else { return };
        let prefix = PREFIXES.iter().find(|(own, _)| *own == index).map_or("", |(_, prefix)| *prefix);
        let value = match inode {
            0 => view.slice(base + offset, size, "value").ok().map(|value| Value::Here(value.to_vec())),
            _ => Some(Value::Inode(inode)),
        };
        if let Some(value) = value {
            let name = format!("{prefix}{}", String::from_utf8_lossy(name));
            found.push(Attribute { name, bytes: size as u64, value });
        }
        at += (ENTRY + usize::from(length)).next_multiple_of(4);
    }
}

#[cfg(test)]
mod tests {
    use keel_source::ByteOffset;

    use super::*;

    #[test]
    fn entries_that_point_nowhere_end_the_list_and_nothing_else() {
        let mut bytes = vec![0; 256];
        bytes[4..8].copy_from_slice(&[4, 1, 100, 0]);
        bytes[12..16].copy_from_slice(&3u32.to_le_bytes());
        bytes[20..24].copy_from_slice(b"berth"[..4].as_ref());
        bytes[104..107].copy_from_slice(b"two");
        let mut found = Vec::new();
        entries(View::new("test", ByteOffset(0), &bytes), 4, 4, &mut found);
        assert_eq!(
            found.iter().map(|one| (one.name.as_str(), one.bytes, &one.value)).collect::<Vec<_>>(),
            [("user.bert", 3, &Value::Here(b"two".to_vec()))]
        );
        bytes[8] = 77;
        let mut found = Vec::new();
        entries(View::new("test", ByteOffset(0), &bytes), 4, 4, &mut found);
        assert_eq!(found.iter().map(|one| &one.value).collect::<Vec<_>>(), [&Value::Inode(77)]);
        for cut in 0..bytes.len() {
            let mut found = Vec::new();
            entries(View::new("test", ByteOffset(0), &bytes[..cut]), 4, 4, &mut found);
            assert!(found.len() <= 1);
        }
    }
}
