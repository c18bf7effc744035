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
    pub(super) value: Vec<u8>,
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
        let number = |offset: usize| view.u32(at + offset, "e_value").ok().and_then(|value| usize::try_from(value).ok());
        let offset = view.u16(at + 2, "e_value_offs").map_or(0, usize::from);
        let inode = number(4).unwrap_or(1);
        let (Some(size), Ok(name)) = (number(8), view.slice(at + ENTRY, usize::from(length), "e_name")) else { return };
        let prefix = PREFIXES.iter().find(|(own, _)| *own == index).map_or("", |(_, prefix)| *prefix);
        // Values in inodes of their own are left where they are.
        if inode == 0
            && let Ok(value) = view.slice(base + offset, size, "value")
        {
            let name = format!("{prefix}{}", String::from_utf8_lossy(name));
            found.push(Attribute { name, value: value.to_vec() });
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
            found.iter().map(|one| (one.name.as_str(), one.value.as_slice())).collect::<Vec<_>>(),
            [("user.bert", &b"two"[..])]
        );
        for cut in 0..bytes.len() {
            let mut found = Vec::new();
            entries(View::new("test", ByteOffset(0), &bytes[..cut]), 4, 4, &mut found);
            assert!(found.len() <= 1);
        }
    }
}
