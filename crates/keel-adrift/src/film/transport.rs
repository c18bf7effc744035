//! MPEG transport streams (ISO/IEC 13818-1): packets of 188 bytes, with a time before each in clips of camcorders.

use crate::judged::Read;
use crate::walk::{Broken, Step, Walk, wrong};

/// Packets that have to follow one another.
const LEAST_PACKETS: u64 = 32;

/// Walks a stream to the first thing that is no packet.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (lead, step) = if walk.u8(0)? == 0x47 && walk.u8(188)? == 0x47 { (0, 188) } else { (4, 192) };
    let (mut packets, mut tables) = (0u64, false);
    loop {
        let at = packets * step;
        match walk.array::<4>(at + lead) {
            Ok([0x47, second, third, fourth])
                if second & 0x80 == 0 && fourth >> 4 & 3 != 0 && walk.reaches(at + step).is_ok() =>
            {
                tables |= second & 0x1F == 0 && third == 0;
            }
            Ok(_) | Err(Broken::End) => break,
            Err(broken) => return Err(broken),
        }
        packets += 1;
        if packets >= LEAST_PACKETS {
            walk.hold(packets * step);
        }
    }
    if packets < LEAST_PACKETS || !tables {
        return wrong("too few packets follow one another");
    }
    walk.trust(u64::MAX);
    Ok(Read::to(packets * step, "its packets follow one another to its end").named(if lead == 0 { "ts" } else { "m2ts" }))
}
