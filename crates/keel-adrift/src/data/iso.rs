//! Images of discs (ISO 9660): the volume's size.

use crate::judged::{Facts, Read};
use crate::walk::{Step, Walk, wrong};

/// Where the first descriptor stands.
const DESCRIPTOR: u64 = 32_768;

/// Walks an image.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (blocks, other, block) = (walk.le32(DESCRIPTOR + 80)?, walk.be32(DESCRIPTOR + 84)?, walk.le16(DESCRIPTOR + 128)?);
    if walk.u8(DESCRIPTOR)? != 1 || blocks != other || block != 2048 || blocks < 18 {
        return wrong("its descriptor is none");
    }
    let end = u64::from(blocks) * u64::from(block);
    walk.hold(DESCRIPTOR + 4096);
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    let label = walk.bytes(DESCRIPTOR + 40, 32)?;
    let label = String::from_utf8_lossy(&label).trim().to_string();
    let facts = Facts { title: Some(label).filter(|label| !label.is_empty()), ..Facts::default() };
    Ok(Read::to(end, "its volume ends there").telling(facts))
}
