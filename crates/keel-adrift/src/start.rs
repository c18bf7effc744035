//! Starts: places where a file may begin, looked for in each sector that is read, in the same pass as everything else.

use std::sync::LazyLock;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use keel_source::ByteOffset;
use serde::{Deserialize, Serialize};

use crate::document::text;
use crate::kind::{KINDS, KindId};

/// Starts stand at multiples of this many bytes from the start of the drive.
const STEP: usize = 512;
/// The most starts that are kept: 64 MiB of them.
pub const MOST_STARTS: usize = 8 << 20;

/// A place where a file of a kind may begin.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Start {
    /// Its first byte.
    pub at: ByteOffset,
    /// The kind.
    pub kind: KindId,
}

/// All starts that were seen, eight bytes each: the kind in the uppermost byte.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "Kept", into = "Kept")]
pub struct Starts {
    packed: Vec<u64>,
    /// Starts that found no room.
    pub untold: u64,
}

const KIND_SHIFT: u32 = 56;

/// Starts as they are kept in a file: differences of the ascending numbers in groups of seven bits, lowest first, as Base64.
#[derive(Serialize, Deserialize)]
struct Kept {
    starts: String,
    untold: u64,
}

impl From<Starts> for Kept {
    fn from(starts: Starts) -> Self {
        let (mut packed, mut bytes, mut before) = (starts.packed, Vec::new(), 0);
        packed.sort_unstable();
        for own in packed {
            let mut left = own - before;
            while left > 0x7F {
                bytes.push((left & 0x7F) as u8 | 0x80);
                left >>= 7;
            }
            bytes.push(left as u8);
            before = own;
        }
        Self { starts: STANDARD.encode(bytes), untold: starts.untold }
    }
}

impl From<Kept> for Starts {
    fn from(kept: Kept) -> Self {
        let (mut packed, mut before, mut own, mut shift) = (Vec::new(), 0u64, 0u64, 0);
        for byte in STANDARD.decode(kept.starts).unwrap_or_default() {
            own |= u64::from(byte & 0x7F).checked_shl(shift).unwrap_or(0);
            shift += 7;
            if byte < 0x80 {
                before = before.wrapping_add(own);
                packed.push(before);
                (own, shift) = (0, 0);
            }
        }
        packed.truncate(MOST_STARTS);
        Self { packed, untold: kept.untold }
    }
}

/// A mark: bytes of the file before the sector in which it stands, offset in that, its bytes, and whose it is.
type Mark = (u64, usize, &'static [u8], KindId);

/// All marks.
struct Marks {
    /// Those that begin a sector, by their first byte.
    first: Vec<Vec<Mark>>,
    /// Those that stand later.
    later: Vec<Mark>,
}

static MARKS: LazyLock<Marks> = LazyLock::new(|| {
    let mut marks = Marks { first: vec![Vec::new(); 256], later: Vec::new() };
    for (kind, index) in KINDS.iter().zip(0u8..) {
        for (at, bytes) in kind.marks {
            let at = *at as usize;
            let (sector, inside) = (at / STEP * STEP, at % STEP);
            let mark = (sector as u64, inside, *bytes, KindId(index));
            match bytes.first().and_then(|first| marks.first.get_mut(usize::from(*first))).filter(|_| inside == 0) {
                Some(first) => first.push(mark),
                None => marks.later.push(mark),
            }
        }
    }
    marks
});

static TEXT: LazyLock<KindId> = LazyLock::new(|| KindId::named("text").unwrap_or(KindId(0)));

impl Starts {
    /// Looks at the sectors that begin in the first `len` bytes of `bytes`, which stand at `at`, a multiple of 512.
    pub fn look(&mut self, at: ByteOffset, bytes: &[u8], len: usize) {
        let mut was_text = false;
        for (index, sector) in bytes.chunks(STEP).take(len.div_ceil(STEP)).enumerate() {
            let here = at + (index * STEP) as u64;
            let is_text = self.look_at(here, sector, was_text);
            was_text = is_text && sector.last().is_some_and(|byte| *byte != 0);
        }
    }

    /// Looks at one sector; answers whether it begins as text.
    fn look_at(&mut self, at: ByteOffset, sector: &[u8], was_text: bool) -> bool {
        let marks = &*MARKS;
        let [first, _, _, _, fifth, ..] = *sector else { return false };
        let before = self.packed.len();
        for mark in marks.first.get(usize::from(first)).into_iter().flatten() {
            self.look_for(mark, at, sector);
        }
        // What stands at offset 4: a box of a film, or the first byte of a packet behind its time. A name in a tar, a descriptor of a disc.
        if matches!(fifth, b'f' | b'm' | b'w' | 0x47) || first.is_ascii_graphic() || first == 1 {
            for mark in &marks.later {
                self.look_for(mark, at, sector);
            }
        }
        let is_marked = self.packed.len() > before;
        // A text may go on with a blank, and does not begin with one.
        let may_begin = (first.is_ascii_graphic() || first >= 0xC2) && !is_marked;
        let may_go_on = is_marked || (was_text && first.is_ascii_whitespace());
        match (may_begin, may_go_on) {
            (true, _) => self.look_for_text(at, sector, was_text),
            (_, true) => text::begins(sector),
            _ => false,
        }
    }

    fn look_for(&mut self, (back, inside, bytes, kind): &Mark, at: ByteOffset, sector: &[u8]) {
        let stands = sector.get(*inside..).is_some_and(|there| there.starts_with(bytes));
        if stands
            && is_likely(*kind, sector)
            && let Some(start) = at.0.checked_sub(*back)
        {
            self.add(Start { at: ByteOffset(start), kind: *kind });
        }
    }

    fn look_for_text(&mut self, at: ByteOffset, sector: &[u8], was_text: bool) -> bool {
        let is_text = text::begins(sector);
        if is_text && !was_text {
            self.add(Start { at, kind: *TEXT });
        }
        is_text
    }

    /// Keeps a start.
    pub fn add(&mut self, start: Start) {
        if self.packed.len() >= MOST_STARTS || start.at.0 >> KIND_SHIFT != 0 {
            self.untold += 1;
            return;
        }
        self.packed.push(start.at.0 | u64::from(start.kind.0) << KIND_SHIFT);
    }

    /// Takes those of another look.
    pub fn append(&mut self, other: &Self) {
        let room = MOST_STARTS.saturating_sub(self.packed.len());
        self.packed.extend(other.packed.iter().take(room));
        self.untold += other.untold + other.packed.len().saturating_sub(room) as u64;
    }

    /// How many there are.
    #[must_use]
    pub fn count(&self) -> usize {
        self.packed.len()
    }

    /// All of them, ascending, each once; of one place in the order of kinds.
    #[must_use]
    pub fn sorted(&self) -> Vec<Start> {
        let start = |packed: &u64| Start {
            at: ByteOffset(packed & ((1 << KIND_SHIFT) - 1)),
            kind: KindId(u8::try_from(packed >> KIND_SHIFT).unwrap_or(0)),
        };
        let mut all: Vec<Start> = self.packed.iter().map(start).collect();
        all.sort_unstable();
        all.dedup();
        all
    }
}

/// Marks of one or two bytes stand in every thousandth sector of noise: more of the sector has to fit.
fn is_likely(kind: KindId, sector: &[u8]) -> bool {
    let byte = |at: usize| sector.get(at).copied().unwrap_or(0);
    let le32 = |at: usize| sector.get(at..at + 4).and_then(<[u8]>::first_chunk).map_or(0, |bytes| u32::from_le_bytes(*bytes));
    match kind.kind().word {
        "mpeg-ts" => [0usize, 4].into_iter().any(|first| {
            let step = if first == 0 { 188 } else { 192 };
            (first..STEP).step_by(step).all(|at| byte(at) == 0x47)
        }),
        // A header of 40, 108, 124 or 12 bytes follows, and nothing in the reserved fields.
        "bmp" => matches!(le32(14), 12 | 40 | 52 | 56 | 64 | 108 | 124) && le32(6) == 0,
        // The header of the program stands behind, at a multiple of 4 or 8.
        "pe" => (64..0x1000).contains(&le32(60)) && le32(60).is_multiple_of(4),
        "bzip2" => (b'1'..=b'9').contains(&byte(3)) && sector.get(4..10) == Some(b"\x31\x41\x59\x26\x53\x59"),
        "mp3" if byte(0) == 0xFF => byte(2) >> 4 != 15 && byte(2) >> 4 != 0 && byte(2) >> 2 & 3 != 3,
        "aac" => byte(2) >> 2 & 15 < 13,
        "movie" => byte(0) == 0 || sector.get(4..8) != Some(b"ftyp"),
        _ => true,
    }
}
