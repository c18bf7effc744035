//! Ogg (RFC 3533): pages, each with its CRC.

use std::collections::BTreeMap;

use crate::judged::Read;
use crate::walk::{Step, Walk, wrong};

/// CRC-32 with the polynomial 0x04C11DB7, not reflected, beginning with 0.
const TABLE: [u32; 256] = {
    let (mut table, mut index) = ([0u32; 256], 0);
    while index < 256 {
        let (mut value, mut bit) = ((index as u32) << 24, 0);
        while bit < 8 {
            value = if value >> 31 == 1 { value << 1 ^ 0x04C1_1DB7 } else { value << 1 };
            bit += 1;
        }
        table[index] = value;
        index += 1;
    }
    table
};

/// A stream: the number of its next page, and whether it has ended.
struct Stream {
    next: u32,
    ended: bool,
}

/// Walks an Ogg file.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (mut at, mut streams, mut suffix) = (0, BTreeMap::<u32, Stream>::new(), "ogg");
    loop {
        if !walk.is(at, b"OggS\0")? {
            return wrong("what follows is no page");
        }
        let (flags, serial, number) = (walk.u8(at + 5)?, walk.le32(at + 14)?, walk.le32(at + 18)?);
        let segments = walk.u8(at + 26)?;
        let body: u64 = walk.bytes(at + 27, u64::from(segments))?.iter().map(|len| u64::from(*len)).sum();
        let page = walk.bytes(at, 27 + u64::from(segments) + body)?;
        let sum = page.iter().enumerate().fold(0u32, |sum, (index, byte)| {
            let byte = if (22..26).contains(&index) { 0 } else { *byte };
            let turn = (sum >> 24) as u8 ^ byte;
            sum << 8 ^ TABLE.get(usize::from(turn)).copied().unwrap_or(0)
        });
        if sum != walk.le32(at + 22)? {
            return wrong("the checksum of a page does not hold");
        }
        let is_first = flags & 2 != 0;
        if is_first && at == 0 {
            suffix = suffix_of(page.get(27 + usize::from(segments)..).unwrap_or_default());
        }
        let stream = streams.entry(serial).or_insert(Stream { next: number, ended: false });
        if is_first != (stream.next == number && number == 0) && is_first || stream.next != number || stream.ended {
            return wrong("a page is not the next one of its stream");
        }
        (stream.next, stream.ended) = (number.wrapping_add(1), flags & 4 != 0);
        at += page.len() as u64;
        walk.hold(at);
        if streams.values().all(|stream| stream.ended) {
            return Ok(Read::to(at, "the checksum of every page holds").named(suffix));
        }
    }
}

fn suffix_of(packet: &[u8]) -> &'static str {
    match packet {
        _ if packet.starts_with(b"OpusHead") => "opus",
        _ if packet.starts_with(b"\x80theora") => "ogv",
        _ if packet.starts_with(b"\x7fFLAC") => "oga",
        _ => "ogg",
    }
}
