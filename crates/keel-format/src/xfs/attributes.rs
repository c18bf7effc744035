//! Extended attributes: in the inode, or in blocks of their own. Source: "XFS Algorithms & Data Structures", chapter "Extended
//! Attributes"; big-endian.

use std::collections::HashSet;

use keel_source::ByteOffset;

use super::layout::FORMAT_LOCAL;
use super::map::{Fork, block_at, fork_map};
use super::{Inode, XfsGeometry};
use crate::file_map::FileMap;
use crate::pages::Pages;
use crate::spelling::spelled_bytes;
use crate::{FormatError, Problem, View};

/// `flags`: the value stands beside the name.
const LOCAL: u8 = 0x01;
/// `flags`: of the system's own namespace.
const ROOT: u8 = 0x02;
/// `flags`: of the security namespace.
const SECURE: u8 = 0x04;
/// `flags`: being written; it does not count.
const INCOMPLETE: u8 = 0x80;
/// The largest value that the format allows, in bytes.
const LARGEST_VALUE: usize = 65_536;
/// The most blocks of attributes that are read of one node.
const MOST_BLOCKS: usize = 4096;
/// The deepest index.
const DEEPEST: usize = 8;

/// One attribute.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Attribute {
    pub(super) name: String,
    pub(super) value: Vec<u8>,
}

/// The attributes of `inode`. What is damaged is left out.
pub(super) fn read(pages: &Pages, geometry: &XfsGeometry, inode: &Inode) -> Vec<Attribute> {
    let mut found = Vec::new();
    let Some(fork) = inode.attributes() else { return found };
    if fork.format == FORMAT_LOCAL {
        let _ = short(&fork, &mut found);
    } else if let Ok(map) = fork_map(pages, geometry, &fork, 0) {
        let _ = Leaves { pages, geometry, map: &map }.each(&mut found);
    }
    found
}

fn named(flags: u8, name: &[u8]) -> String {
    let prefix = match flags & (ROOT | SECURE) {
        0 => "user.",
        ROOT => "trusted.",
        _ => "security.",
    };
    format!("{prefix}{}", spelled_bytes(name))
}

fn short(fork: &Fork<'_>, found: &mut Vec<Attribute>) -> Result<(), FormatError> {
    let view = View::new("short attributes", fork.at, fork.bytes);
    let mut at = 4;
    for _ in 0..view.u8(2, "count")? {
        let (name, value) = (usize::from(view.u8(at, "namelen")?), usize::from(view.u8(at + 1, "valuelen")?));
        let flags = view.u8(at + 2, "flags")?;
        let text = named(flags, view.slice(at + 3, name, "name")?);
        let value_at = at + 3 + name;
        found.push(Attribute { name: text, value: view.slice(value_at, value, "value")?.to_vec() });
        at = value_at + value;
    }
    Ok(())
}

/// The blocks of an attribute fork.
struct Leaves<'a> {
    pages: &'a Pages,
    geometry: &'a XfsGeometry,
    map: &'a FileMap,
}

impl Leaves<'_> {
    fn block(&self, offset: u32) -> Result<(ByteOffset, Vec<u8>), FormatError> {
        let missing = || FormatError::new("attributes", ByteOffset(0), Problem::Missing("block of that number in the fork"));
        let at = block_at(self.map, self.geometry, u64::from(offset)).ok_or_else(missing)?;
        Ok((at, self.pages.bytes(at, self.geometry.block_bytes as usize, "attributes")?))
    }

    /// Bytes of the header that nodes and leaves begin with.
    fn info(&self) -> usize {
        if self.geometry.has_checksums() { 56 } else { 12 }
    }

    /// Hands every attribute of every leaf on: down the index along its first entries, then from leaf to leaf.
    fn each(&self, found: &mut Vec<Attribute>) -> Result<(), FormatError> {
        let mut number = 0;
        for _ in 0..DEEPEST {
            let (at, bytes) = self.block(number)?;
            let view = View::new("attribute node", at, &bytes);
            if !matches!(view.u16_be(8, "magic")?, 0xFEBE | 0x3EBE) {
                break;
            }
            let head = self.info() + if self.geometry.has_checksums() { 8 } else { 4 };
            number = view.u32_be(head + 4, "before")?;
        }
        let mut seen: HashSet<u32> = HashSet::new();
        while seen.len() < MOST_BLOCKS && seen.insert(number) {
            let (at, bytes) = self.block(number)?;
            let view = View::new("attribute leaf", at, &bytes);
            let magic = view.u16_be(8, "magic")?;
            if !matches!(magic, 0xFBEE | 0x3BEE) {
                return Err(view.wrong(8, "magic", u64::from(magic), "that of an attribute leaf"));
            }
            self.leaf(view, found)?;
            number = view.u32_be(0, "forw")?;
            if number == 0 {
                break;
            }
        }
        Ok(())
    }

    fn leaf(&self, view: View<'_>, found: &mut Vec<Attribute>) -> Result<(), FormatError> {
        let head = if self.geometry.has_checksums() { 80 } else { 32 };
        for index in 0..usize::from(view.u16_be(self.info(), "count")?) {
            let entry = head + index * 8;
            let (at, flags) = (usize::from(view.u16_be(entry + 4, "nameidx")?), view.u8(entry + 6, "flags")?);
            if flags & INCOMPLETE != 0 {
                continue;
            }
            let (name, value) = if flags & LOCAL != 0 {
                let (value, name) = (usize::from(view.u16_be(at, "valuelen")?), usize::from(view.u8(at + 2, "namelen")?));
                (view.slice(at + 3, name, "name")?, view.slice(at + 3 + name, value, "value")?.to_vec())
            } else {
                let (block, value) = (view.u32_be(at, "valueblk")?, view.u32_be(at + 4, "valuelen")? as usize);
                let name = view.slice(at + 9, usize::from(view.u8(at + 8, "namelen")?), "name")?;
                let Some(value) = self.remote(block, value) else { continue };
                (name, value)
            };
            crate::device::hold(self.pages.source().as_ref(), view.position(), "attributes", (name.len() + value.len()) as u64)?;
            found.push(Attribute { name: named(flags, name), value });
        }
        Ok(())
    }

    /// A value of `len` bytes that stands in blocks of its own from `block` of the fork on; in version 5 each has a header.
    fn remote(&self, block: u32, len: usize) -> Option<Vec<u8>> {
        let mut value = Vec::new();
        let mut next = block;
        while value.len() < len.min(LARGEST_VALUE + 1) {
            let (_, bytes) = self.block(next).ok()?;
            let content = if self.geometry.has_checksums() {
                bytes.get(56..).filter(|_| bytes.starts_with(b"XARM"))?
            } else {
                bytes.as_slice()
            };
            value.extend(content.iter().take(len - value.len()));
            next = next.checked_add(1)?;
        }
        (len <= LARGEST_VALUE).then_some(value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_attributes_end_where_they_are_cut_and_keep_their_namespaces() {
        let mut bytes = vec![0, 24, 2, 0];
        bytes.extend([5, 3, 0]);
        bytes.extend(b"berthtwo");
        bytes.extend([2, 1, SECURE]);
        bytes.extend(b"ia7");
        for cut in 0..=bytes.len() {
            let fork = Fork { format: FORMAT_LOCAL, bytes: &bytes[..cut], at: ByteOffset(0), extents: 0 };
            let mut found = Vec::new();
            let whole = short(&fork, &mut found).is_ok();
            assert_eq!(whole, cut == bytes.len(), "{cut}");
            let names: Vec<&str> = found.iter().map(|one| one.name.as_str()).collect();
            assert!(["user.berth", "security.ia"].starts_with(&names), "{names:?}");
        }
    }
}
