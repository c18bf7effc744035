//! Symbolic links as Unix subsystems write them: system files whose content is a mark and the target, as drivers of other systems on
//! NTFS still make them.

use super::layout::{DATA, STANDARD_INFORMATION};
use super::{NtfsVolume, Record, stream};
use crate::read_whole;

/// `FILE_ATTRIBUTE_SYSTEM`.
pub(super) const SYSTEM: u32 = 0x4;
/// What the content of a link begins with; UTF-16 units of the target follow.
const LINK: &[u8; 8] = b"IntxLNK\x01";
/// The longest target that is read, in bytes: what a path may have.
const LONGEST_TARGET: usize = 2 * 32_767;

/// True for the record of a symbolic link.
pub(super) fn is_link(volume: &NtfsVolume, number: u64, record: &Record) -> bool {
    let marked = || record.attribute(STANDARD_INFORMATION, "")?.resident()?.u32(32, "file_attributes").ok();
    marked().is_some_and(|attributes| attributes & SYSTEM != 0)
        && content(volume, number, record, LINK.len()).is_some_and(|content| content.starts_with(LINK))
}

/// Where the link in `record` leads; none where it is no link.
pub(super) fn target(volume: &NtfsVolume, number: u64, record: &Record) -> Option<String> {
    let content = content(volume, number, record, LINK.len() + LONGEST_TARGET)?;
    let units = content.strip_prefix(LINK)?.as_chunks::<2>().0;
    let text = super::utf16_text(units.iter().map(|pair| u16::from_le_bytes(*pair)));
    (!text.is_empty()).then_some(text)
}

/// The first bytes of the main stream, where it is no longer than a link can be.
fn content(volume: &NtfsVolume, number: u64, record: &Record, most: usize) -> Option<Vec<u8>> {
    let maps = stream::maps(volume.source(), volume.geometry(), volume.mft(), number, record, DATA).ok()?;
    let (_, map) = maps.into_iter().find(|(name, _)| name.is_empty())?;
    if !(LINK.len() as u64 + 1..=(LINK.len() + LONGEST_TARGET) as u64).contains(&map.bytes) {
        return None;
    }
    let mut reader = stream::open(volume.source(), volume.geometry(), map, record.position()).ok()?;
    Some(read_whole(reader.as_mut(), most).0)
}
