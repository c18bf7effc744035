//! JPEG (ITU-T T.81; JFIF; EXIF): walked marker by marker, its scans decoded.

use super::scan::{Component, Frame, Scan, Tables};
use super::{huffman::Table, tiff};
use crate::judged::{Facts, Read};
use crate::walk::{Step, Walk, wrong};

/// The most scans of a picture.
const MOST_SCANS: u32 = 1000;

/// Walks a JPEG.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (end, facts, decoded) = picture(walk, 0, true)?;
    let by = if decoded { "every block of the picture decodes" } else { "its markers lead to its end" };
    if !decoded {
        walk.trust(u64::MAX);
    }
    Ok(Read::to(end, by).telling(facts))
}

/// Walks the picture at `at`; its end, what it tells, and whether all of it was decoded. One inside of another's header is no picture of
/// its own.
fn picture(walk: &mut Walk<'_>, start: u64, is_outer: bool) -> Step<(u64, Facts, bool)> {
    let (mut at, mut frame, mut tables, mut facts) = (start + 2, None::<Frame>, Tables::default(), Facts::default());
    let (mut scans, mut decodes) = (0, true);
    loop {
        if walk.u8(at)? != 0xFF {
            return wrong("no marker stands where one has to");
        }
        let mut kind = walk.u8(at + 1)?;
        while kind == 0xFF {
            at += 1;
            kind = walk.u8(at + 1)?;
        }
        if kind == 0xD9 {
            if scans == 0 {
                return wrong("it holds no picture");
            }
            let seen = frame.as_ref().is_some_and(|frame| frame.components.iter().all(|own| own.seen));
            walk.hold(at + 2);
            return Ok((at + 2, facts, decodes && seen));
        }
        if matches!(kind, 0 | 1 | 0xD0..=0xD8) {
            return wrong("a marker stands where it cannot");
        }
        let len = u64::from(walk.be16(at + 2)?);
        if len < 2 {
            return wrong("a segment is shorter than its length");
        }
        let (body, end) = (at + 4, at + 2 + len);
        walk.reaches(end)?;
        match kind {
            0xC4 => huffman_tables(walk, body, end, &mut tables)?,
            0xC0..=0xC3 | 0xC5..=0xC7 | 0xC9..=0xCB | 0xCD..=0xCF => {
                let mut own = sof(walk, body, len - 2, kind == 0xC2)?;
                facts.pixels = Some(own.size);
                // What is not Huffman-coded, or not in this form, is walked by its markers.
                decodes = matches!(kind, 0xC0..=0xC2) && own.size.1 > 0 && own.lay_out();
                frame = Some(own);
            }
            0xDA => {
                scans += 1;
                if scans > MOST_SCANS {
                    return wrong("it has more scans than any picture has");
                }
                let Some(frame) = &mut frame else { return wrong("its picture comes before its frame") };
                let scan = sos(walk, body, len - 2, frame)?;
                walk.hold(end);
                at = if decodes { frame.decode(walk, end, &scan, &tables)? } else { next_marker(walk, end)? };
                walk.hold(at);
                continue;
            }
            0xDD => tables.restart = u32::from(walk.be16(body)?),
            0xE1 if is_outer && walk.is(body, b"Exif\0\0").unwrap_or(false) => {
                let proven = exif(walk, body + 6, end, &mut facts);
                walk.trust(len.saturating_sub(proven));
            }
            0xDB => quantisation(walk, body, end)?,
            0xE0..=0xEF | 0xFE => walk.trust(len),
            _ => return wrong("a segment of a kind that is none"),
        }
        at = end;
        walk.hold(at);
    }
}

/// Date, camera and the small picture of an EXIF block from `at` to `end`; the bytes of it that the small picture proves.
fn exif(walk: &mut Walk<'_>, at: u64, end: u64, facts: &mut Facts) -> u64 {
    let Ok(told) = tiff::exif(walk, at, end) else { return 0 };
    (facts.made, facts.by) = (told.made, told.by);
    let Some((small, bytes)) = told.small.filter(|(small, bytes)| small.checked_add(*bytes).is_some_and(|to| to <= end)) else {
        return 0;
    };
    let held = walk.held();
    let whole = walk.is(small, b"\xff\xd8\xff").unwrap_or(false)
        && picture(walk, small, false).is_ok_and(|(to, _, decoded)| decoded && to <= small + bytes);
    walk.fall_back(held);
    if whole { bytes } else { 0 }
}

fn sof(walk: &mut Walk<'_>, at: u64, len: u64, progressive: bool) -> Step<Frame> {
    let [precision, a, b, c, d, count] = walk.array::<6>(at)?;
    let size = (u32::from(u16::from_be_bytes([c, d])), u32::from(u16::from_be_bytes([a, b])));
    if !(2..=16).contains(&precision) || size.0 == 0 || !(1..=4).contains(&count) || len != 6 + 3 * u64::from(count) {
        return wrong("its frame is none");
    }
    let mut components = Vec::new();
    for index in 0..u64::from(count) {
        let [id, factors, table] = walk.array::<3>(at + 6 + 3 * index)?;
        let factors = (u32::from(factors >> 4), u32::from(factors & 15));
        if !(1..=4).contains(&factors.0) || !(1..=4).contains(&factors.1) || table > 3 {
            return wrong("a component of its frame is none");
        }
        components.push(Component::new(id, factors));
    }
    Ok(Frame::new(size, progressive, components))
}

fn sos(walk: &mut Walk<'_>, at: u64, len: u64, frame: &Frame) -> Step<Scan> {
    let count = u64::from(walk.u8(at)?);
    if !(1..=4).contains(&count) || len != 4 + 2 * count {
        return wrong("the header of a scan is none");
    }
    let mut parts = Vec::new();
    for index in 0..count {
        let [id, tables] = walk.array::<2>(at + 1 + 2 * index)?;
        let Some(own) = frame.components.iter().position(|own| own.id == id) else {
            return wrong("a scan is of a component that its frame has not");
        };
        parts.push((own, usize::from(tables >> 4), usize::from(tables & 15)));
    }
    let [first, last, bits] = walk.array::<3>(at + 1 + 2 * count)?;
    if frame.progressive && (first > last || last > 63 || (first > 0 && count > 1) || (first == 0 && last > 0)) {
        return wrong("the band of a scan is none");
    }
    Ok(Scan { parts, band: (first, last), bits: (bits >> 4, bits & 15) })
}

fn huffman_tables(walk: &mut Walk<'_>, mut at: u64, end: u64, tables: &mut Tables) -> Step<()> {
    while at < end {
        let (class, bits) = (walk.u8(at)?, walk.array::<16>(at + 1)?);
        let count: u64 = bits.iter().map(|count| u64::from(*count)).sum();
        if class & 0xEC != 0 || count > 256 || at + 17 + count > end {
            return wrong("a Huffman table is none");
        }
        let table = Table::new(&bits, &walk.bytes(at + 17, count)?)?;
        let set = if class >> 4 == 0 { &mut tables.dc } else { &mut tables.ac };
        if let Some(slot) = set.get_mut(usize::from(class & 3)) {
            *slot = Some(table);
        }
        at += 17 + count;
    }
    Ok(())
}

fn quantisation(walk: &mut Walk<'_>, mut at: u64, end: u64) -> Step<()> {
    while at < end {
        let head = walk.u8(at)?;
        if head >> 4 > 1 || head & 15 > 3 {
            return wrong("a quantisation table is none");
        }
        at += if head >> 4 == 0 { 65 } else { 129 };
    }
    if at == end { Ok(()) } else { wrong("a quantisation table is cut") }
}

/// The next marker that is not a restart.
fn next_marker(walk: &mut Walk<'_>, mut at: u64) -> Step<u64> {
    while let Some(found) = walk.find(at, u64::MAX, b"\xff")? {
        let kind = walk.u8(found + 1)?;
        match kind {
            0 | 0xD0..=0xD7 => at = found + 2,
            0xFF => at = found + 1,
            _ => return Ok(found),
        }
        walk.hold(at);
    }
    Err(crate::walk::Broken::End)
}
