//! DICOM (PS3.10): elements in the order of their tags, from the file's own on.

use crate::judged::{Facts, Read};
use crate::walk::{Broken, Step, Walk, wrong};

/// Where the elements begin.
const FIRST: u64 = 132;
/// A length that is not told.
const UNTOLD: u32 = u32::MAX;
/// The most elements, and the deepest sequence.
const MOST_ELEMENTS: u32 = 1 << 18;
const DEEPEST: u32 = 16;

/// Walks a file.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let mut file = Dicom { walk, left: MOST_ELEMENTS, is_explicit: true, facts: Facts::default(), size: (0, 0) };
    let mut at = FIRST;
    // The elements of the file itself say how the others are written.
    let mut before = 0;
    while file.group(at)? == 2 {
        at = file.element(at, &mut before, 0)?;
    }
    if at == FIRST {
        return wrong("its first elements are none");
    }
    let end = file.elements(at)?;
    let facts = Facts { pixels: Some(file.size).filter(|(wide, high)| *wide > 0 && *high > 0), ..file.facts };
    if end == at {
        return wrong("nothing follows its first elements");
    }
    walk.trust(u64::MAX);
    Ok(Read::to(end, "its elements follow one another to its end").telling(facts))
}

struct Dicom<'w, 'a> {
    walk: &'w mut Walk<'a>,
    left: u32,
    /// True where each element says of which kind its value is.
    is_explicit: bool,
    facts: Facts,
    size: (u32, u32),
}

impl Dicom<'_, '_> {
    fn group(&mut self, at: u64) -> Step<u16> {
        self.walk.le16(at)
    }

    /// Goes over elements until their order ends.
    fn elements(&mut self, from: u64) -> Step<u64> {
        let (mut at, mut before) = (from, 0);
        loop {
            let tag = match self.tag(at) {
                Ok(tag) => tag,
                Err(Broken::End) => return Ok(at),
                Err(broken) => return Err(broken),
            };
            if tag <= before || tag >> 16 == 0 {
                return Ok(at);
            }
            match self.element(at, &mut before, 0) {
                Ok(next) => at = next,
                Err(Broken::Wrong(_)) if self.walk.held() > from => return Ok(at),
                Err(broken) => return Err(broken),
            }
            self.walk.hold(at);
        }
    }

    fn tag(&mut self, at: u64) -> Step<u32> {
        Ok(u32::from(self.walk.le16(at)?) << 16 | u32::from(self.walk.le16(at + 2)?))
    }

    /// Goes over one element.
    fn element(&mut self, at: u64, before: &mut u32, depth: u32) -> Step<u64> {
        self.left = self.left.checked_sub(1).ok_or(Broken::Spent)?;
        let tag = self.tag(at)?;
        *before = tag;
        // Items and their ends have no kind.
        let is_explicit = (self.is_explicit || tag >> 16 == 2) && tag >> 16 != 0xFFFE;
        let (data, len) = if is_explicit {
            let kind = self.walk.array::<2>(at + 4)?;
            if !kind.iter().all(u8::is_ascii_uppercase) {
                return wrong("what follows is no element");
            }
            match &kind {
                b"OB" | b"OD" | b"OF" | b"OL" | b"OV" | b"OW" | b"SQ" | b"SV" | b"UC" | b"UN" | b"UR" | b"UT" | b"UV" => {
                    (at + 12, self.walk.le32(at + 8)?)
                }
                _ => (at + 8, u32::from(self.walk.le16(at + 6)?)),
            }
        } else {
            (at + 8, self.walk.le32(at + 4)?)
        };
        if len == UNTOLD {
            return self.items(data, depth + 1);
        }
        let end = data + u64::from(len);
        self.walk.reaches(end)?;
        self.tell(tag, data, len)?;
        Ok(end)
    }

    /// Goes over items to the end of their sequence.
    fn items(&mut self, from: u64, depth: u32) -> Step<u64> {
        if depth > DEEPEST {
            return wrong("its sequences are deeper than any are");
        }
        let mut at = from;
        loop {
            self.left = self.left.checked_sub(1).ok_or(Broken::Spent)?;
            let (tag, len) = (self.tag(at)?, self.walk.le32(at + 4)?);
            at += 8;
            match (tag, len) {
                (0xFFFE_E0DD, _) => return Ok(at),
                (0xFFFE_E000, UNTOLD) => {
                    let mut before = 0;
                    while self.tag(at)? != 0xFFFE_E00D {
                        at = self.element(at, &mut before, depth)?;
                    }
                    at += 8;
                }
                (0xFFFE_E000, len) => {
                    at += u64::from(len);
                    self.walk.reaches(at)?;
                }
                _ => return wrong("what follows is no item"),
            }
        }
    }

    fn tell(&mut self, tag: u32, at: u64, len: u32) -> Step<()> {
        if len > 128 {
            return Ok(());
        }
        let bytes = self.walk.bytes(at, u64::from(len))?;
        let text = String::from_utf8_lossy(&bytes).trim_matches(['\0', ' ']).to_string();
        let number = |bytes: &[u8]| bytes.first_chunk::<2>().map_or(0, |bytes| u32::from(u16::from_le_bytes(*bytes)));
        match tag {
            0x0002_0010 if text == "1.2.840.10008.1.2" => self.is_explicit = false,
            0x0002_0010 if text == "1.2.840.10008.1.2.2" || text == "1.2.840.10008.1.2.1.99" => {
                return wrong("it is written in a way that is not followed here");
            }
            0x0008_0020 if text.len() == 8 && text.bytes().all(|byte| byte.is_ascii_digit()) => {
                let part = |from, to| text.get(from..to).unwrap_or_default();
                self.facts.made = Some(format!("{}-{}-{}T00:00:00", part(0, 4), part(4, 6), part(6, 8)));
            }
            0x0008_0070 if !text.is_empty() => self.facts.by = Some(text),
            0x0008_1030 if !text.is_empty() => self.facts.title = Some(text),
            0x0028_0010 => self.size.1 = number(&bytes),
            0x0028_0011 => self.size.0 = number(&bytes),
            _ => {}
        }
        Ok(())
    }
}
