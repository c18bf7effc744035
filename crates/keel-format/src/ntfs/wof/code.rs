//! Canonical prefix codes and the streams of bits that both codings of packed files have: words of 16 bits, little-endian, whose
//! highest bit comes first. Source: [MS-XCA] 2.2 and [MS-PATCH] 2.1.

/// The longest code word, in bits.
pub(super) const LONGEST: u32 = 16;

/// A code: which symbol the next bits are.
pub(super) struct Code {
    /// Symbol and length of its word by the next `bits` bits; length 0 where no word begins so.
    table: Vec<(u16, u8)>,
    bits: u32,
}

impl Code {
    /// The code whose words have these `lengths` by symbol; none where more words are given than there can be.
    pub(super) fn new(lengths: &[u8]) -> Option<Self> {
        let bits = lengths.iter().copied().max().map_or(0, u32::from);
        if bits > LONGEST {
            return None;
        }
        let mut table = vec![(0, 0); 1 << bits];
        let mut at = 0usize;
        for length in 1..=bits {
            for (symbol, _) in lengths.iter().enumerate().filter(|(_, own)| u32::from(**own) == length) {
                let count = 1usize << (bits - length);
                table.get_mut(at..at + count)?.fill((u16::try_from(symbol).ok()?, u8::try_from(length).ok()?));
                at += count;
            }
        }
        Some(Self { table, bits })
    }

    /// The next symbol; none where no word of the code begins so.
    pub(super) fn next(&self, input: &mut Bits<'_>) -> Option<usize> {
        let index = input.peek(self.bits);
        let (symbol, length) = *self.table.get(index as usize)?;
        if length == 0 {
            return None;
        }
        input.skip(u32::from(length));
        Some(usize::from(symbol))
    }
}

/// Bits of a piece. Behind its end there are zeros, as encoders leave them out.
pub(super) struct Bits<'a> {
    bytes: &'a [u8],
    at: usize,
    held: u64,
    count: u32,
}

impl<'a> Bits<'a> {
    pub(super) fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, at: 0, held: 0, count: 0 }
    }

    /// Holds at least `count` bits, at most 17: words are taken as late as can be, so that bytes between them are met.
    fn fill(&mut self, count: u32) {
        while self.count < count {
            let word = self.bytes.get(self.at..).and_then(<[u8]>::first_chunk).map_or(0, |word| u16::from_le_bytes(*word));
            self.at += 2;
            self.held = self.held << 16 | u64::from(word);
            self.count += 16;
        }
    }

    fn peek(&mut self, count: u32) -> u32 {
        self.fill(count);
        let bits = self.held >> (self.count - count) & ((1 << count) - 1);
        u32::try_from(bits).unwrap_or(0)
    }

    fn skip(&mut self, count: u32) {
        self.fill(count);
        self.count -= count;
    }

    /// The next `count` bits, at most 17.
    pub(super) fn take(&mut self, count: u32) -> u32 {
        let bits = self.peek(count);
        self.count -= count;
        bits
    }

    /// Holds a word ahead of the bits, as an encoder does.
    pub(super) fn keep_ahead(&mut self) {
        self.fill(LONGEST);
    }

    /// The next byte of those that stand between words; none behind the end.
    pub(super) fn byte(&mut self) -> Option<u8> {
        let byte = self.bytes.get(self.at).copied();
        self.at += 1;
        byte
    }

    /// Leaves bits up to the next word. Where none are left of the last one, a whole one is left: so it is written.
    pub(super) fn align(&mut self) {
        self.fill(1);
        // Words that were taken ahead are met again.
        self.at -= (self.count as usize - 1) / 16 * 2;
        self.count = 0;
    }

    /// Takes `count` whole bytes from the next word on.
    pub(super) fn bytes(&mut self, count: usize) -> Option<&'a [u8]> {
        let bytes = self.bytes.get(self.at..self.at.checked_add(count)?)?;
        self.at += count;
        Some(bytes)
    }
}

/// Puts `length` bytes that stand `distance` before byte `at` of `out` there; false where they stand before its start or it is
/// full.
pub(super) fn repeat(out: &mut [u8], at: usize, distance: usize, length: usize) -> bool {
    let Some(from) = at.checked_sub(distance).filter(|_| distance > 0 && length <= out.len().saturating_sub(at)) else {
        return false;
    };
    for step in 0..length {
        let Some(byte) = out.get(from + step).copied() else { return false };
        if let Some(slot) = out.get_mut(at + step) {
            *slot = byte;
        }
    }
    true
}
