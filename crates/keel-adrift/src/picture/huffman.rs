//! Huffman codes of JPEG (ITU-T T.81, Annex C and F.2.2.3) and the bits they are read from.

use crate::walk::{Broken, Step, Walk, wrong};

/// Bytes taken from the walk at once.
const AHEAD: usize = 4096;

/// A table of codes: symbols by length.
#[derive(Debug, Clone, Default)]
pub(super) struct Table {
    /// For each length: first code, count, and place of the first symbol.
    lengths: [(u32, u32, u32); 16],
    symbols: Vec<u8>,
}

impl Table {
    /// A table by its `BITS` and `HUFFVAL`.
    pub(super) fn new(bits: &[u8; 16], symbols: &[u8]) -> Step<Self> {
        let (mut code, mut at, mut lengths) = (0u32, 0u32, [(0, 0, 0); 16]);
        for ((slot, count), length) in lengths.iter_mut().zip(bits).zip(1u32..) {
            let count = u32::from(*count);
            if code + count > 1 << length {
                return wrong("a Huffman table holds more codes than there are");
            }
            *slot = (code, count, at);
            (code, at) = ((code + count) << 1, at + count);
        }
        Ok(Self { lengths, symbols: symbols.to_vec() })
    }
}

/// Reads bits of entropy-coded data; stuffed zeros are taken out, a marker ends it.
pub(super) struct Bits<'w, 'a> {
    walk: &'w mut Walk<'a>,
    ahead: Vec<u8>,
    ahead_at: u64,
    /// Where the next byte stands.
    pub(super) at: u64,
    held: u32,
    count: u32,
}

impl<'w, 'a> Bits<'w, 'a> {
    pub(super) fn new(walk: &'w mut Walk<'a>, at: u64) -> Self {
        Self { walk, ahead: Vec::new(), ahead_at: at, at, held: 0, count: 0 }
    }

    fn byte(&mut self, at: u64) -> Step<u8> {
        let inside =
            |bits: &Self| usize::try_from(at.checked_sub(bits.ahead_at)?).ok().and_then(|index| bits.ahead.get(index).copied());
        if let Some(byte) = inside(self) {
            return Ok(byte);
        }
        let len = usize::try_from(self.walk.len().saturating_sub(at)).unwrap_or(AHEAD).min(AHEAD);
        if len == 0 {
            return Err(Broken::End);
        }
        self.ahead.resize(len, 0);
        self.ahead_at = at;
        if self.walk.fill(at, &mut self.ahead).is_err() {
            // Near a place that does not read, what reads is taken byte by byte.
            self.ahead.clear();
            return self.walk.u8(at);
        }
        self.ahead.first().copied().ok_or(Broken::End)
    }

    fn bit(&mut self) -> Step<u32> {
        if self.count == 0 {
            let byte = self.byte(self.at)?;
            self.at += 1;
            if byte == 0xFF {
                if self.byte(self.at)? != 0 {
                    self.at -= 1;
                    return wrong("its picture ends in the middle");
                }
                self.at += 1;
            }
            (self.held, self.count) = (u32::from(byte), 8);
        }
        self.count -= 1;
        Ok(self.held >> self.count & 1)
    }

    /// What was decoded so far holds.
    pub(super) fn hold(&mut self) {
        self.walk.hold(self.at);
    }

    /// The next `count` bits.
    pub(super) fn take(&mut self, count: u32) -> Step<u32> {
        let mut value = 0;
        for _ in 0..count {
            value = value << 1 | self.bit()?;
        }
        Ok(value)
    }

    /// The next symbol.
    pub(super) fn symbol(&mut self, table: &Table) -> Step<u8> {
        let mut code = 0;
        for (first, count, at) in &table.lengths {
            code = code << 1 | self.bit()?;
            if let Some(index) = code.checked_sub(*first).filter(|index| index < count) {
                let symbol = table.symbols.get((at + index) as usize);
                return symbol.copied().ok_or(Broken::Wrong("a code of its picture means nothing".into()));
            }
        }
        wrong("a code of its picture means nothing")
    }

    /// Leaves the rest of the byte, which is filled with ones (a few writers fill with zeros).
    pub(super) fn align(&mut self) -> Step<()> {
        let rest = self.held & ((1 << self.count) - 1);
        let is_filled = rest == (1 << self.count) - 1 || rest == 0;
        self.count = 0;
        if is_filled { Ok(()) } else { wrong("bits are left over behind its picture") }
    }

    /// Takes the marker that has to stand here; its second byte.
    pub(super) fn marker(&mut self) -> Step<u8> {
        if self.byte(self.at)? != 0xFF {
            return wrong("no marker stands where a stretch of its picture ends");
        }
        self.at += 1;
        while self.byte(self.at)? == 0xFF {
            self.at += 1;
        }
        let marker = self.byte(self.at)?;
        self.at += 1;
        Ok(marker)
    }
}
