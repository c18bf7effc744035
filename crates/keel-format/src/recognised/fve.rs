//! Encrypted NTFS (full volume encryption): the boot sector and three metadata blocks that name one another's places.
//! Little-endian.

use super::closed::{CLOSED, ENCRYPTED};
use crate::kind::KindFacts;
use keel_source::{ByteOffset, Source};

use super::{Known, sixteen};
use crate::{View, read_bytes};

const MARK: &[u8; 8] = b"-FVE-FS-";

/// NTFS under full volume encryption.
pub(crate) const FACTS: KindFacts = KindFacts { word: "FVE", letters: "FV", closed: Some(ENCRYPTED), ..CLOSED };

#[inline]
pub(super) fn is_marked(sector: &[u8; 512]) -> bool {
    sector.get(3..11) == Some(MARK) || sector.starts_with(MARK)
}

pub(super) fn read(drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    if bytes.starts_with(MARK) {
        return from_metadata(drive, at, bytes);
    }
    // The boot sector names the metadata blocks, and they the length.
    let view = View::new("FVE boot sector", at, bytes);
    let block = (0..3).find_map(|index| {
        let place = at.0.checked_add(view.u64(176 + index * 8, "metadata offset").ok()?)?;
        let block = read_bytes(drive, ByteOffset(place), 512, "FVE metadata block").ok()?;
        block.starts_with(MARK).then_some((ByteOffset(place), block))
    });
    let found = block.and_then(|(place, block)| from_metadata(drive, place, &block));
    let found = found.filter(|found| found.start == at)?;
    Some(Known {
        main: true,
        says: "boot sector of an encrypted volume stands at the start and leads to its metadata".into(),
        ..found
    })
}

fn from_metadata(drive: &dyn Source, at: ByteOffset, bytes: &[u8]) -> Option<Known> {
    let view = View::new("FVE metadata block", at, bytes);
    let length = view.u64(16, "encrypted volume size").ok().filter(|length| *length > 0 && length >> 56 == 0)?;
    let places: Vec<u64> = (0..3).filter_map(|index| view.u64(32 + index * 8, "metadata offset").ok()).collect();
    // Which of the three this is: the one under which another stands where it should.
    let stands = |place: u64| read_bytes(drive, ByteOffset(place), 8, "FVE metadata block").is_ok_and(|found| found == MARK);
    let start = places.iter().filter_map(|own| at.0.checked_sub(*own)).find(|start| {
        places.iter().filter_map(|other| start.checked_add(*other)).filter(|place| *place != at.0 && stands(*place)).count() > 0
    })?;
    let says = "metadata block of an encrypted volume stands where it and its copies say".to_string();
    // The identifier of the volume stands in the metadata header behind the block header.
    let identifier = sixteen(bytes, 64 + 16);
    Some(Known { start: ByteOffset(start), bytes: length, label: None, identifier, main: false, checked: false, says })
}
