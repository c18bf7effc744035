//! UDF: anchors, at block 256 and at the end, lead to the volume descriptors. Source: ECMA-167, part 3; little-endian.

use super::closed::CLOSED;
use crate::kind::{Holds, KindFacts};
use keel_source::{ByteOffset, Source};

use super::{Known, sixteen};
use crate::{View, read_bytes};

/// Tag identifiers: primary volume descriptor, anchor, partition descriptor, logical volume descriptor, terminator.
const PRIMARY: u16 = 1;
const ANCHOR: u16 = 2;
const PARTITION: u16 = 5;
const LOGICAL: u16 = 6;
const TERMINATOR: u16 = 8;
/// Block of the first anchor.
const FIRST_ANCHOR: u64 = 256;
/// The most descriptors that are read.
const MOST_DESCRIPTORS: u64 = 64;

/// UDF.
pub(crate) const FACTS: KindFacts = KindFacts { word: "UDF", letters: "UD", holds: Holds::FilesBehindTables, ..CLOSED };

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector[0] == 2 && sector[1] == 0 && matches!(sector[2], 2 | 3) && sector[3] == 0 && sector[5] == 0 && tag_holds(sector)
}

/// The sum of the tag's bytes, its own left out.
fn tag_holds(bytes: &[u8]) -> bool {
    let sum =
        bytes.iter().take(16).enumerate().filter(|(index, _)| *index != 4).fold(0u8, |sum, (_, byte)| sum.wrapping_add(*byte));
    bytes.get(4) == Some(&sum)
}

fn tag(view: View<'_>) -> Option<u16> {
    view.u16(0, "TagIdentifier").ok().filter(|_| tag_holds(view.bytes()))
}

pub(super) fn read(drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("anchor volume descriptor pointer", at, bytes);
    if tag(view)? != ANCHOR {
        return None;
    }
    let location = u64::from(view.u32(12, "TagLocation").ok()?);
    let sequence = u64::from(view.u32(20, "MainVolumeDescriptorSequenceExtent").ok()?);
    let count = u64::from(view.u32(16, "extent length").ok()?);
    [512u64, 2048, 4096, 1024].iter().find_map(|block| {
        let start = at.0.checked_sub(location.checked_mul(*block)?)?;
        let found = descriptors(drive, start, sequence, count / block, *block)?;
        let main = location == FIRST_ANCHOR;
        // The last anchor stands in the last block; without it the partition's end is the least it can be.
        let end = if main { found.end } else { (location + 1).max(found.end) };
        let says = match main {
            true => format!("UDF anchor stands in block 256 of {block} bytes and leads to the volume's descriptors"),
            false => format!("UDF anchor stands in block {location} of {block} bytes and leads to the volume's descriptors"),
        };
        Some(Known {
            start: ByteOffset(start),
            bytes: end * block,
            label: found.label,
            identifier: found.identifier,
            main,
            checked: true,
            says,
        })
    })
}

struct Descriptors {
    end: u64,
    label: Option<String>,
    identifier: [u8; 16],
}

/// Walks the descriptor sequence: it must hold a partition and a logical volume with this block size.
fn descriptors(drive: &dyn Source, start: u64, first: u64, count: u64, block: u64) -> Option<Descriptors> {
    let (mut end, mut label, mut identifier, mut size_agrees) = (None, None, [0; 16], false);
    for index in 0..count.min(MOST_DESCRIPTORS) {
        let at = ByteOffset(start.checked_add((first + index).checked_mul(block)?)?);
        let bytes = read_bytes(drive, at, 512, "volume descriptor").ok()?;
        let view = View::new("volume descriptor", at, &bytes);
        match tag(view)? {
            TERMINATOR => break,
            PRIMARY => identifier = sixteen(&bytes, 73),
            PARTITION => {
                let from = u64::from(view.u32(188, "PartitionStartingLocation").ok()?);
                end = Some(from + u64::from(view.u32(192, "PartitionLength").ok()?));
            }
            LOGICAL => {
                size_agrees = u64::from(view.u32(212, "LogicalBlockSize").ok()?) == block;
                label = dstring(bytes.get(84..212)?);
            }
            _ => {}
        }
    }
    end.filter(|_| size_agrees).map(|end| Descriptors { end, label, identifier })
}

/// A compressed Unicode string: 8 or 16 bits for each sign; its last byte is its length.
fn dstring(bytes: &[u8]) -> Option<String> {
    let (length, bytes) = bytes.split_last()?;
    let (kind, signs) = bytes.get(..usize::from(*length))?.split_first()?;
    let text: String = match kind {
        8 => signs.iter().map(|byte| char::from(*byte)).collect(),
        16 => crate::ntfs::utf16_text(signs.as_chunks::<2>().0.iter().map(|pair| u16::from_be_bytes(*pair))),
        _ => return None,
    };
    Some(text).filter(|text| !text.is_empty())
}
