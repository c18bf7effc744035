//! RTF: a group that closes.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

/// Walks a document to the brace that closes its first one.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (mut depth, mut escaped, mut end) = (0u64, false, None);
    let mut at = 0;
    let mut buf = vec![0; 16 << 10];
    while end.is_none() {
        let len = usize::try_from(walk.len() - at).unwrap_or(buf.len()).min(buf.len());
        if len == 0 {
            return Err(Broken::End);
        }
        let piece = buf.get_mut(..len).unwrap_or_default();
        walk.fill(at, piece)?;
        for (index, byte) in piece.iter().enumerate() {
            match byte {
                _ if escaped => escaped = false,
                b'\\' => escaped = true,
                b'{' => depth += 1,
                b'}' => {
                    depth = depth.saturating_sub(1);
                    if depth == 0 {
                        end = Some(at + index as u64 + 1);
                        break;
                    }
                }
                // All signs beyond are written with those of ASCII.
                0..9 | 11..=12 | 14..0x20 | 0x80.. => {
                    walk.hold(at + index as u64);
                    return wrong("a byte in it is no text");
                }
                _ => {}
            }
        }
        at += len as u64;
        walk.hold(at);
    }
    let mut end = end.unwrap_or(at);
    // A line end is left behind by most.
    for sign in [b'\r', b'\n'] {
        if walk.u8(end).is_ok_and(|byte| byte == sign) {
            end += 1;
        }
    }
    walk.trust(u64::MAX);
    walk.fall_back(end);
    Ok(Read::to(end, "its groups close"))
}
