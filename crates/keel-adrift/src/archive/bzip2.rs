//! bzip2: marks of blocks and of the end stand at any bit; the checksums of the blocks make up that of the whole.

use std::io::Read as _;

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

const BLOCK: u64 = 0x3141_5926_5359;
const END: u64 = 0x1772_4538_5090;
const MARK: u64 = (1 << 48) - 1;

/// Walks a stream.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let len = walk.len();
    // Places are counted in bits.
    let (mut held, mut bits, mut pending, mut sum, mut blocks) = (0u128, 32u64, None::<(u64, bool)>, 0u32, 0);
    let mut buf = vec![0; 16 << 10];
    let mut at = 4;
    while at < len {
        let mut stream = walk.stream(at, len);
        let count = match stream.read(&mut buf) {
            Ok(0) => break,
            Ok(count) => count,
            Err(_) => return Err(stream.broken.take().unwrap_or(Broken::End)),
        };
        at += count as u64;
        for byte in buf.get(..count).unwrap_or_default() {
            held = held << 8 | u128::from(*byte);
            bits += 8;
            for back in (0..8u64).rev() {
                let here = bits - back;
                let window = (held >> back) as u64;
                if let Some((from, is_end)) = pending {
                    if here < from + 32 {
                        continue;
                    }
                    let own = (window & 0xFFFF_FFFF) as u32;
                    pending = None;
                    if !is_end {
                        sum = sum.rotate_left(1) ^ own;
                        continue;
                    }
                    let end = here.div_ceil(8);
                    if own != sum {
                        return wrong("the checksums of its blocks do not make up that of the whole");
                    }
                    walk.trust(u64::MAX);
                    walk.hold(end);
                    return Ok(Read::to(end, "the checksums of its blocks make up that of the whole"));
                }
                match window & MARK {
                    BLOCK => {
                        pending = Some((here, false));
                        blocks += 1;
                    }
                    END if blocks > 0 || here == 32 + 48 => pending = Some((here, true)),
                    _ => {}
                }
            }
        }
        if blocks > 0 {
            walk.hold(at.saturating_sub(1 << 20).max(14));
        }
    }
    Err(Broken::End)
}
