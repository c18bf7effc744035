//! tar (POSIX ustar, and the older forms with its mark): headers with checksums, one behind the other.

use crate::judged::{Facts, Read};
use crate::walk::{Step, Walk, wrong};

const BLOCK: u64 = 512;
/// Archives are filled up to a multiple of this with zeros, as most writers do.
const RECORD: u64 = 20 * BLOCK;
/// The most members of an archive.
const MOST_MEMBERS: u64 = 1 << 24;

/// Walks an archive.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (mut at, mut facts) = (0, Facts::default());
    for member in 0..MOST_MEMBERS {
        let header = walk.array::<512>(at)?;
        if header.iter().all(|byte| *byte == 0) {
            if member == 0 || !walk.is_blank(at + BLOCK, at + 2 * BLOCK)? {
                return wrong("its end is none");
            }
            let end = at + 2 * BLOCK;
            let filled = end.next_multiple_of(RECORD);
            let end = if walk.is_blank(end, filled).unwrap_or(false) { filled } else { end };
            // Two blank blocks may be another file's.
            walk.trust(u64::MAX);
            walk.hold(end);
            return Ok(Read::to(end, "the checksum of every header holds").telling(facts));
        }
        let sum: u64 =
            header.iter().enumerate().map(|(at, byte)| if (148..156).contains(&at) { 32 } else { u64::from(*byte) }).sum();
        if number(header.get(148..156).unwrap_or_default()) != Some(sum) {
            return wrong("the checksum of a header does not hold");
        }
        let Some(len) = number(header.get(124..136).unwrap_or_default()) else { return wrong("the length of a member is none") };
        if member == 0 {
            let name = header.split(|byte| *byte == 0).next().unwrap_or_default();
            facts.title = String::from_utf8_lossy(name.get(..name.len().min(100)).unwrap_or_default())
                .split('/')
                .next()
                .map(str::to_string);
            facts.made = number(header.get(136..148).unwrap_or_default())
                .filter(|time| *time > 0)
                .and_then(|time| i64::try_from(time).ok())
                .map(crate::date::since_1970);
        }
        // Links and folders hold nothing, whatever length they state.
        let holds = !matches!(header.get(156), Some(b'1'..=b'6'));
        let len = if holds { len } else { 0 };
        at = at.saturating_add(BLOCK).saturating_add(len.checked_next_multiple_of(BLOCK).unwrap_or(u64::MAX));
        walk.reaches(at)?;
        walk.hold(at);
    }
    wrong("it has more members than any has")
}

/// An octal number, or a binary one where the first bit is set.
fn number(field: &[u8]) -> Option<u64> {
    if let Some((first, rest)) = field.split_first().filter(|(first, _)| **first & 0x80 != 0) {
        return rest
            .iter()
            .try_fold(u64::from(first & 0x7F), |value, byte| value.checked_mul(256).map(|value| value | u64::from(*byte)));
    }
    let text = field.iter().copied().skip_while(|byte| *byte == b' ').take_while(|byte| !matches!(byte, b' ' | 0));
    text.map(|byte| (b'0'..=b'7').contains(&byte).then(|| u64::from(byte - b'0')))
        .try_fold(0u64, |value, digit| value.checked_mul(8)?.checked_add(digit?))
}
