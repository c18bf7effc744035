//! GIF (87a, 89a): blocks, and pictures whose codes are followed to their last pixel.

use crate::judged::{Facts, Read};
use crate::walk::{Step, Walk, wrong};

/// Walks a GIF.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let pixels = (u32::from(walk.le16(6)?), u32::from(walk.le16(8)?));
    let mut at = 13 + table(walk.u8(10)?);
    let mut pictures = 0;
    loop {
        walk.hold(at);
        match walk.u8(at)? {
            0x3B if pictures > 0 => {
                walk.hold(at + 1);
                let facts = Facts { pixels: Some(pixels), ..Facts::default() };
                return Ok(Read::to(at + 1, "its pictures decode to their last pixel").telling(facts));
            }
            0x21 => {
                let (end, bytes) = blocks(walk, at + 2, &mut |_| {})?;
                walk.trust(bytes);
                at = end;
            }
            0x2C => {
                let size = u64::from(walk.le16(at + 5)?) * u64::from(walk.le16(at + 7)?);
                let codes = at + 10 + table(walk.u8(at + 9)?);
                let mut lzw = Lzw::new(walk.u8(codes)?)?;
                at = blocks(walk, codes + 1, &mut |block| lzw.take(block))?.0;
                if lzw.broken || lzw.pixels != size {
                    return wrong("a picture in it does not decode to its size");
                }
                pictures += 1;
            }
            _ => return wrong("what follows is no block"),
        }
    }
}

/// Bytes of a colour table by the flags that announce it.
fn table(flags: u8) -> u64 {
    if flags & 0x80 == 0 { 0 } else { 3 << ((flags & 7) + 1) }
}

/// Goes through sub-blocks; the place behind them, and their bytes.
fn blocks(walk: &mut Walk<'_>, mut at: u64, each: &mut dyn FnMut(&[u8])) -> Step<(u64, u64)> {
    let mut all = 0;
    loop {
        let len = u64::from(walk.u8(at)?);
        if len == 0 {
            return Ok((at + 1, all));
        }
        each(&walk.bytes(at + 1, len)?);
        (at, all) = (at + 1 + len, all + len);
    }
}

/// Follows variable-length codes; only lengths of what they stand for are kept.
struct Lzw {
    least: u32,
    width: u32,
    held: u32,
    count: u32,
    /// Pixels that each code stands for.
    lengths: Vec<u32>,
    before: Option<usize>,
    pixels: u64,
    ended: bool,
    broken: bool,
}

impl Lzw {
    fn new(least: u8) -> Step<Self> {
        if !(1..=11).contains(&least) {
            return wrong("its codes begin with a width that cannot be");
        }
        let least = u32::from(least);
        let lengths = vec![1; (1 << least) + 2];
        Ok(Self { least, width: least + 1, held: 0, count: 0, lengths, before: None, pixels: 0, ended: false, broken: false })
    }

    fn take(&mut self, block: &[u8]) {
        for byte in block {
            self.held |= u32::from(*byte) << self.count;
            self.count += 8;
            while self.count >= self.width {
                let code = self.held & ((1 << self.width) - 1);
                self.held >>= self.width;
                self.count -= self.width;
                self.code(code as usize);
            }
        }
    }

    fn code(&mut self, code: usize) {
        let (clear, most) = (1 << self.least, 4096);
        if self.ended || self.broken {
            return;
        }
        if code == clear {
            self.lengths.truncate(clear + 2);
            (self.width, self.before) = (self.least + 1, None);
            return;
        }
        if code == clear + 1 {
            self.ended = true;
            return;
        }
        let length = |code: usize| self.lengths.get(code).copied();
        let new = self.before.and_then(length).map(|length| length + 1);
        let own = if code == self.lengths.len() { new } else { length(code) };
        let Some(own) = own else {
            self.broken = true;
            return;
        };
        self.pixels += u64::from(own);
        if let Some(new) = new.filter(|_| self.lengths.len() < most) {
            self.lengths.push(new);
            if self.lengths.len() == 1 << self.width && self.width < 12 {
                self.width += 1;
            }
        }
        self.before = Some(code);
    }
}
