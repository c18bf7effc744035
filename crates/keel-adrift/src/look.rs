//! A look at a start: the kind's reader walks what begins there, and its answer becomes a verdict.

use keel_source::{ByteOffset, Cancel, MemorySource};

use crate::judged::{Facts, Judged, State};
use crate::kind::{KINDS, Kind};
use crate::walk::{Broken, Ground, Landmark, Walk};

/// What a look at a start comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Looked {
    /// The file; none where it is none of that kind after all, or the work was stopped.
    pub file: Option<Judged>,
    /// Bytes that were read for it.
    pub read: u64,
    /// The byte behind the furthest one of the file that was looked at: where a cut one breaks lies before it.
    pub reached: u64,
    /// Where its next part had to stand, by what came before it.
    pub landmark: Option<Landmark>,
    /// True where more would have had to be read than was allowed: nothing is known of the rest.
    pub is_spent: bool,
}

/// Judges what begins at byte `start` of `ground` as a file of `kind`.
#[must_use]
pub fn judge(ground: Ground<'_>, kind: &Kind, start: ByteOffset) -> Looked {
    let mut walk = Walk::new(ground, start, kind.most);
    let begins = |walk: &mut Walk<'_>, (at, bytes): &(u32, &[u8])| walk.is(u64::from(*at), bytes).unwrap_or(false);
    if !kind.marks.is_empty() && !kind.marks.iter().any(|mark| begins(&mut walk, mark)) {
        return Looked { file: None, read: walk.read(), reached: 0, landmark: None, is_spent: false };
    }
    let said = (kind.read)(&mut walk);
    let is_spent = matches!(said, Err(Broken::Spent));
    let file = match said {
        Ok(read) if read.bytes >= kind.least => {
            let (state, why) = match walk.spoilt() {
                Some(why) => (State::Cut, why.to_string()),
                None if walk.is_doubtful() => (State::Plausible, format!("{}; parts of it prove nothing by themselves", read.by)),
                None => (State::Whole, read.by.to_string()),
            };
            let suffix = read.suffix.or(walk.suffix()).unwrap_or(kind.suffix);
            Some(Judged { state, bytes: read.bytes, suffix, why, facts: read.facts })
        }
        Ok(_) | Err(Broken::Stopped) => None,
        Err(broken) if walk.held() >= kind.least => Some(Judged {
            state: State::Cut,
            bytes: walk.held(),
            suffix: walk.suffix().unwrap_or(kind.suffix),
            why: format!("{} at its byte {}", broken.says(), walk.held()),
            facts: Facts::default(),
        }),
        Err(_) => None,
    };
    Looked { file, read: walk.read(), reached: walk.reached(), landmark: walk.landmark(), is_spent }
}

/// True where `content` is a whole file of some kind, proven to its last byte and no longer than it.
#[must_use]
pub fn proves_itself(content: Vec<u8>) -> bool {
    let bytes = content.len() as u64;
    let source = MemorySource::new("content", content, 1);
    let ground = Ground { source: &source, end: ByteOffset(bytes), most_read: u64::MAX, cancel: &Cancel::default() };
    let is_whole = |kind: &Kind| {
        let file = judge(ground, kind, ByteOffset(0)).file;
        file.is_some_and(|file| file.state == State::Whole && file.bytes == bytes)
    };
    // What has no mark is text, and proves nothing.
    KINDS.iter().filter(|kind| !kind.marks.is_empty()).any(is_whole)
}
