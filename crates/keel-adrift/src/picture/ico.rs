//! Icons: a directory of pictures, each a bitmap without its file header or a PNG.

use crate::judged::{Facts, Read};
use crate::walk::{Step, Walk, wrong};

/// Walks an icon.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let count = u64::from(walk.le16(4)?);
    if !(1..=64).contains(&count) {
        return wrong("its directory is none");
    }
    let (mut end, mut pixels) = (6 + 16 * count, (0, 0));
    for number in 0..count {
        let own = 6 + 16 * number;
        let [width, height, _, reserved] = walk.array::<4>(own)?;
        let (len, from) = (u64::from(walk.le32(own + 8)?), u64::from(walk.le32(own + 12)?));
        if reserved != 0 || len < 40 || from != end {
            return wrong("its pictures do not follow one another");
        }
        walk.reaches(from + len)?;
        if !walk.is(from, b"\x89PNG\r\n\x1a\n")? && walk.le32(from)? != 40 {
            return wrong("what its directory leads to is no picture");
        }
        end = from + len;
        walk.hold(end);
        let sides = [width, height].map(|side| if side == 0 { 256 } else { u32::from(side) });
        pixels = pixels.max((sides[0], sides[1]));
    }
    walk.trust(u64::MAX);
    let facts = Facts { pixels: Some(pixels), ..Facts::default() };
    Ok(Read::to(end, "its pictures follow one another to its end").telling(facts))
}
