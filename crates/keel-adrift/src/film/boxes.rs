//! The box format (ISO/IEC 14496-12; MP4, 3GP, HEIF and their older relative MOV).

use super::samples::{self, Outline};
use crate::judged::{Facts, Read};
use crate::walk::{Broken, Step, Walk, wrong};

/// Boxes that stand at the top of a file.
const TOP: [&[u8; 4]; 22] = [
    b"ftyp", b"moov", b"mdat", b"free", b"skip", b"wide", b"uuid", b"meta", b"moof", b"mfra", b"sidx", b"styp", b"pdin", b"pnot",
    b"prfl", b"emsg", b"idat", b"udta", b"PICT", b"ssix", b"prft", b"junk",
];
/// The most boxes of a file.
const MOST_BOXES: u32 = 1 << 20;
/// The most entries of a table of places.
const MOST_PLACES: u64 = 1 << 22;
/// Seconds from 1904 to 1970.
const SINCE_1904: i64 = 2_082_844_800;

/// What was met at the top.
#[derive(Default)]
struct Seen {
    /// Its brand.
    brand: bool,
    /// The index: the first byte behind its head, and its end.
    index: Option<(u64, u64)>,
    pieces: bool,
    picture: bool,
    /// Where content stands: first byte and the one behind the last.
    data: Vec<(u64, u64)>,
}

/// Walks boxes from a start to the first thing that is none.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    walk.name("mov");
    let (mut at, mut seen, mut facts, mut furthest) = (0, Seen::default(), Facts::default(), 0);
    for _ in 0..MOST_BOXES {
        let Some((kind, head, end)) = top(walk, at)? else { break };
        if kind == *b"ftyp" && at > 0 {
            // The next file.
            break;
        }
        if kind == *b"mdat" && seen.brand && seen.index.is_none() && !seen.picture {
            // Without its index no more is known of it than that it begins here.
            walk.hold(at + head);
        }
        walk.reaches(end)?;
        match &kind {
            b"ftyp" => {
                let brand = walk.array::<4>(at + head)?;
                walk.name(suffix_of(&brand));
                seen.brand = true;
            }
            b"moov" => {
                seen.index = Some((at + head, end));
                furthest = index(walk, at + head, end, 0, &mut facts)?;
            }
            b"meta" => seen.picture = true,
            b"moof" => seen.pieces = true,
            b"mdat" => seen.data.push((at + head, end)),
            _ => {}
        }
        at = end;
        // Without its index nothing says what its content is.
        if seen.index.is_some() || seen.picture {
            walk.hold(at);
        }
    }
    let has_content = !seen.data.is_empty() || seen.picture || seen.pieces;
    if !(seen.index.is_some() || seen.picture) || !has_content {
        return if walk.len() == at { Err(Broken::End) } else { wrong("nothing in it leads to its content") };
    }
    let inside = seen.data.iter().any(|(from, to)| (*from..*to).contains(&furthest));
    if furthest > 0 && !inside {
        return wrong("its index leads to where its content is not");
    }
    walk.trust(u64::MAX);
    let Some((from, end)) = seen.index else {
        return Ok(Read::to(at, "its boxes lead to its end").telling(facts));
    };
    let samples = samples::samples(walk, from, end)?;
    let asked = samples::ask(walk, &samples)?;
    match asked.broken {
        // Everything else is there: a piece in the middle is not its own any more.
        Some((sample, _)) if asked.last_holds || from > sample.at => {
            walk.spoil(format!("what its index leads to at its byte {} is no frame", sample.at));
        }
        Some((sample, before)) => {
            walk.fall_back(before.max(end));
            return wrong(format!("what its index leads to at its byte {} is no frame", sample.at));
        }
        None => {}
    }
    let by = if asked.count > 0 {
        "its boxes lead to its end, its index to its content, and frames stand there"
    } else {
        "its boxes lead to its end, and its index to its content"
    };
    Ok(Read::to(at, by).telling(facts))
}

/// How the boxes of a film lie: an index and what it leads to, or where the boxes end before there was one.
pub(super) fn outline(walk: &mut Walk<'_>) -> Step<Option<Outline>> {
    let (mut at, mut index, mut data) = (0, None, false);
    for _ in 0..MOST_BOXES {
        let found = match top(walk, at) {
            Err(Broken::Stopped) => return Err(Broken::Stopped),
            found => found.ok().flatten(),
        };
        let Some((kind, head, end)) = found.filter(|(kind, ..)| *kind != *b"ftyp" || at == 0) else { break };
        match &kind {
            b"moov" => index = Some((at + head, end)),
            b"mdat" => data = true,
            _ => {}
        }
        at = end;
        if end > walk.len() {
            break;
        }
    }
    Ok(match index {
        Some((from, end)) if data => Some(Outline::Indexed(samples::samples(walk, from, end)?, at)),
        None if data => Some(Outline::Lacks(at)),
        _ => None,
    })
}

/// Kind of the box at `at`, bytes of its head, and its end; none where no box of the top stands.
fn top(walk: &mut Walk<'_>, at: u64) -> Step<Option<([u8; 4], u64, u64)>> {
    if at + 8 > walk.len() {
        return Ok(None);
    }
    let (len, kind) = (u64::from(walk.be32(at)?), walk.array::<4>(at + 4)?);
    if !TOP.contains(&&kind) {
        return Ok(None);
    }
    let (head, len) = match len {
        1 => (16, walk.be64(at + 8)?),
        // To the end of the file, which nothing tells.
        0 => return wrong("a box of it ends where the file does, and nothing tells where that is"),
        len => (8, len),
    };
    if len < head {
        return wrong("a box is shorter than its head");
    }
    Ok(Some((kind, head, at.checked_add(len).ok_or(Broken::End)?)))
}

/// Walks the boxes of an index; the furthest place of content that it leads to.
fn index(walk: &mut Walk<'_>, from: u64, end: u64, depth: u32, facts: &mut Facts) -> Step<u64> {
    let (mut at, mut furthest) = (from, 0);
    while at + 8 <= end {
        let (len, kind) = (u64::from(walk.be32(at)?), walk.array::<4>(at + 4)?);
        let len = if len == 0 { end - at } else { len };
        let to = at.saturating_add(len);
        if len < 8 || to > end {
            return if at + 4 <= end && walk.be32(at)? == 0 { Ok(furthest) } else { wrong("a box of its index is none") };
        }
        let own = match &kind {
            b"trak" | b"mdia" | b"minf" | b"stbl" if depth < 6 => index(walk, at + 8, to, depth + 1, facts)?,
            b"mvhd" => {
                facts.made = made(walk, at + 8)?;
                0
            }
            b"tkhd" => {
                // The last two fields: width and height, 16.16.
                let (width, height) = (walk.be32(to - 8)? >> 16, walk.be32(to - 4)? >> 16);
                facts.pixels = facts.pixels.or(Some((width, height)).filter(|(width, height)| *width > 0 && *height > 0));
                0
            }
            b"stco" => places(walk, at + 8, to, 4)?,
            b"co64" => places(walk, at + 8, to, 8)?,
            _ => 0,
        };
        furthest = furthest.max(own);
        at = to;
    }
    Ok(furthest)
}

/// The furthest place in a table of them.
fn places(walk: &mut Walk<'_>, at: u64, end: u64, width: u64) -> Step<u64> {
    let count = u64::from(walk.be32(at + 4)?);
    if count > MOST_PLACES || at + 8 + count * width > end {
        return wrong("a table of its index is longer than its box");
    }
    let mut furthest = 0;
    for number in 0..count {
        let own = at + 8 + number * width;
        furthest = furthest.max(if width == 4 { u64::from(walk.be32(own)?) } else { walk.be64(own)? });
    }
    Ok(furthest)
}

fn made(walk: &mut Walk<'_>, at: u64) -> Step<Option<String>> {
    let seconds = if walk.u8(at)? == 1 { walk.be64(at + 4)? } else { u64::from(walk.be32(at + 4)?) };
    let since = i64::try_from(seconds).unwrap_or(0) - SINCE_1904;
    Ok((since > 0).then(|| crate::date::since_1970(since)))
}

fn suffix_of(brand: &[u8; 4]) -> &'static str {
    match brand {
        b"qt  " => "mov",
        b"M4A " | b"M4B " => "m4a",
        b"heic" | b"heix" | b"mif1" | b"msf1" | b"hevc" => "heic",
        b"avif" | b"avis" => "avif",
        [b'3', b'g', ..] => "3gp",
        _ => "mp4",
    }
}
