//! MPEG program streams (ISO/IEC 11172-1, 13818-1): packs and packets.

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// Packs that have to follow one another.
const LEAST_PACKS: u32 = 2;

/// Walks a stream to its end code, or to the first thing that is no packet.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (mut at, mut packs) = (0, 0);
    loop {
        let code = match walk.be32(at) {
            Ok(code) => code,
            Err(crate::walk::Broken::End) if packs >= LEAST_PACKS => break,
            Err(broken) => return Err(broken),
        };
        let len = match code {
            0x1B9 if packs > 0 => {
                at += 4;
                walk.hold(at);
                break;
            }
            0x1BA => {
                packs += 1;
                match walk.u8(at + 4)? {
                    byte if byte >> 6 == 1 => 14 + u64::from(walk.u8(at + 13)? & 7),
                    byte if byte >> 4 == 2 => 12,
                    _ => return wrong("a pack of it is none"),
                }
            }
            0x1BB..=0x1FF => 6 + u64::from(walk.be16(at + 4)?),
            // Fill between packets, as recorders leave it.
            _ if packs >= LEAST_PACKS => break,
            _ => return wrong("what follows is no packet"),
        };
        if packs >= LEAST_PACKS && walk.reaches(at + len).is_err() {
            break;
        }
        walk.reaches(at + len)?;
        at += len;
        walk.hold(at);
    }
    walk.trust(u64::MAX);
    Ok(Read::to(at, "its packets follow one another to its end"))
}
