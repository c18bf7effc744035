//! ZIP (ISO/IEC 21320-1) and what is one: office documents, books, packages. Members are unpacked and their checksums held against the
//! directory at the end.

use std::collections::BTreeMap;

use super::inflate;
use crate::judged::{Facts, Read};
use crate::walk::{Broken, Step, Walk, wrong};

const LOCAL: &[u8; 4] = b"PK\x03\x04";
const DESCRIPTOR: &[u8; 4] = b"PK\x07\x08";
const CENTRAL: &[u8; 4] = b"PK\x01\x02";
const END: &[u8; 4] = b"PK\x05\x06";
const END_64: &[u8; 4] = b"PK\x06\x06";
const LOCATOR_64: &[u8; 4] = b"PK\x06\x07";
/// Unpacked by what stands here.
const STORED: u16 = 0;
const DEFLATED: u16 = 8;

/// What follows a member.
const FOLLOWING: &[&[u8]] = &[LOCAL, CENTRAL, DESCRIPTOR];

/// A member, by what its local header and its data say.
struct Member {
    crc32: u32,
    packed: u64,
    /// Its content was unpacked and its checksum computed.
    proven: bool,
}

/// Walks a ZIP.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let (mut at, mut members, mut looks) = (0, BTreeMap::new(), Looks::default());
    loop {
        let mark = walk.array::<4>(at)?;
        if mark != *LOCAL {
            break;
        }
        let (start, member, end) = local(walk, at, &mut looks)?;
        if !member.proven {
            walk.trust(member.packed);
        }
        walk.name(looks.suffix());
        members.insert(start, member);
        at = end;
        walk.hold(at);
    }
    // Keys of a signed package stand before the directory.
    if !walk.is(at, CENTRAL)? && !walk.is(at, END)? {
        let next = walk.find(at, at + (1 << 20), CENTRAL)?;
        let next = next.map_or_else(|| wrong("what follows its members is no directory"), Ok)?;
        walk.trust(next - at);
        at = next;
    }
    let directory = at;
    let mut count = 0;
    while walk.is(at, CENTRAL)? {
        at = central(walk, at, &members)?;
        count += 1;
        walk.hold(at);
    }
    if count != members.len() {
        return wrong("its directory and its members are not as many");
    }
    if walk.is(at, END_64)? {
        at += 12 + walk.le64(at + 4)?;
        if !walk.is(at, LOCATOR_64)? {
            return wrong("the end of its directory is none");
        }
        at += 20;
    }
    if !walk.is(at, END)? {
        return wrong("its directory does not end");
    }
    let told = u64::from(walk.le32(at + 16)?);
    if told != directory && told != 0xFFFF_FFFF {
        return wrong("its directory does not stand where its end says");
    }
    let end = at + 22 + u64::from(walk.le16(at + 20)?);
    walk.reaches(end)?;
    walk.hold(end);
    let facts = Facts { title: looks.first.clone(), made: looks.made.clone(), ..Facts::default() };
    Ok(Read::to(end, "every member unpacks, and its checksum holds").telling(facts))
}

/// Place, member, and the end of the member whose header stands at `at`.
fn local(walk: &mut Walk<'_>, at: u64, looks: &mut Looks) -> Step<(u64, Member, u64)> {
    let (flags, method) = (walk.le16(at + 6)?, walk.le16(at + 8)?);
    let (crc32, packed, plain) = (walk.le32(at + 14)?, u64::from(walk.le32(at + 18)?), u64::from(walk.le32(at + 22)?));
    let (name_len, extra_len) = (u64::from(walk.le16(at + 26)?), u64::from(walk.le16(at + 28)?));
    let name = walk.bytes(at + 30, name_len)?;
    let data = at + 30 + name_len + extra_len;
    walk.hold(at);
    looks.see(&name, (walk.le16(at + 12)?, walk.le16(at + 10)?), walk, data, packed);
    let wide = wide(walk, at + 30 + name_len, data)?;
    let packed = if packed == 0xFFFF_FFFF { wide.map_or(packed, |(_, packed)| packed) } else { packed };
    let plain = if plain == 0xFFFF_FFFF { wide.map_or(plain, |(plain, _)| plain) } else { plain };
    let (later, locked) = (flags & 8 != 0, flags & 1 != 0);
    if later && (packed == 0 || method == DEFLATED) {
        return descriptor(walk, at, data, (method, locked));
    }
    let end = data.checked_add(packed).ok_or(Broken::End)?;
    walk.expect(end, FOLLOWING);
    walk.reaches(end)?;
    let proven = match method {
        _ if locked => false,
        STORED => {
            if walk.crc32(data, end)? != crc32 {
                return wrong("the checksum of a member does not hold");
            }
            true
        }
        DEFLATED => {
            let found = inflate(walk, data, end, false)?;
            if (found.crc32, found.bytes, found.end) != (crc32, plain, end) {
                return wrong("the checksum of a member does not hold");
            }
            true
        }
        _ => false,
    };
    // A descriptor may stand behind all the same.
    let end = if later && walk.is(end, DESCRIPTOR)? { end + 16 } else { end };
    Ok((at, Member { crc32, packed, proven }, end))
}

/// A member whose lengths stand behind it.
fn descriptor(walk: &mut Walk<'_>, at: u64, data: u64, (method, locked): (u16, bool)) -> Step<(u64, Member, u64)> {
    if method != DEFLATED || locked {
        // Nothing but the directory tells where it ends: the next header does.
        let end = walk.find(data, u64::MAX, DESCRIPTOR)?.ok_or(Broken::End)?;
        return Ok((at, Member { crc32: walk.le32(end + 4)?, packed: end - data, proven: false }, end + 16));
    }
    let found = inflate(walk, data, u64::MAX, false)?;
    let (packed, plain) = (found.end - data, found.bytes);
    let mark = if walk.is(found.end, DESCRIPTOR)? { 4 } else { 0 };
    let at_sums = found.end + mark;
    let narrow =
        (u64::from(walk.le32(at_sums + 4)?), u64::from(walk.le32(at_sums + 8)?)) == (packed & 0xFFFF_FFFF, plain & 0xFFFF_FFFF);
    let wide = walk.le64(at_sums + 4)? == packed;
    if walk.le32(at_sums)? != found.crc32 || !(narrow || wide) {
        return wrong("the checksum of a member does not hold");
    }
    Ok((at, Member { crc32: found.crc32, packed, proven: true }, at_sums + if narrow { 12 } else { 20 }))
}

/// Lengths of 64 bits (plain, packed) from the extra fields of a local header.
fn wide(walk: &mut Walk<'_>, mut at: u64, end: u64) -> Step<Option<(u64, u64)>> {
    while at + 4 <= end {
        let (id, len) = (walk.le16(at)?, u64::from(walk.le16(at + 2)?));
        if id == 1 && len >= 16 {
            return Ok(Some((walk.le64(at + 4)?, walk.le64(at + 12)?)));
        }
        at += 4 + len;
    }
    Ok(None)
}

/// Holds an entry of the directory against its member; the place behind it.
fn central(walk: &mut Walk<'_>, at: u64, members: &BTreeMap<u64, Member>) -> Step<u64> {
    let (crc32, packed, place) = (walk.le32(at + 16)?, u64::from(walk.le32(at + 20)?), u64::from(walk.le32(at + 42)?));
    let lens = [28, 30, 32].map(|field| walk.le16(at + field));
    let [name, extra, comment] = lens;
    let end = at + 46 + u64::from(name?) + u64::from(extra?) + u64::from(comment?);
    if place != 0xFFFF_FFFF {
        let member = members.get(&place);
        let same = member.is_some_and(|own| own.crc32 == crc32 && (own.packed == packed || packed == 0xFFFF_FFFF));
        // A locked member's header may hold nothing of it.
        if !same && member.is_none_or(|own| own.proven) {
            return wrong("its directory says otherwise than its members");
        }
    }
    Ok(end)
}

/// What the members tell of the whole.
#[derive(Default)]
struct Looks {
    first: Option<String>,
    made: Option<String>,
    kind: Option<&'static str>,
}

impl Looks {
    fn see(&mut self, name: &[u8], (date, time): (u16, u16), walk: &mut Walk<'_>, data: u64, packed: u64) {
        let name = String::from_utf8_lossy(name);
        let own = match &*name {
            "mimetype" => walk.bytes(data, packed.min(80)).ok().and_then(|bytes| of_type(&bytes)),
            "AndroidManifest.xml" => Some("apk"),
            "META-INF/MANIFEST.MF" => Some("jar"),
            _ if name.starts_with("word/") => Some("docx"),
            _ if name.starts_with("xl/") => Some("xlsx"),
            _ if name.starts_with("ppt/") => Some("pptx"),
            _ => None,
        };
        self.kind = match (self.kind, own) {
            // A package for telephones is a package with more in it.
            (Some("jar"), Some("apk")) | (None, _) => own,
            (kind, _) => kind,
        };
        let (year, month, day) = (1980 + (date >> 9), date >> 5 & 15, date & 31);
        if month > 0 && day > 0 && self.made.is_none() && year > 1980 {
            self.made =
                Some(format!("{year:04}-{month:02}-{day:02}T{:02}:{:02}:{:02}", time >> 11, time >> 5 & 63, (time & 31) * 2));
        }
        if self.first.is_none() {
            self.first = name.split('/').next().filter(|name| !name.is_empty()).map(str::to_string);
        }
    }

    fn suffix(&self) -> &'static str {
        self.kind.unwrap_or("zip")
    }
}

fn of_type(bytes: &[u8]) -> Option<&'static str> {
    let is = |text: &str| bytes.starts_with(text.as_bytes());
    [
        ("application/epub+zip", "epub"),
        ("application/vnd.oasis.opendocument.text", "odt"),
        ("application/vnd.oasis.opendocument.spreadsheet", "ods"),
        ("application/vnd.oasis.opendocument.presentation", "odp"),
        ("application/vnd.oasis.opendocument.graphics", "odg"),
    ]
    .into_iter()
    .find_map(|(text, suffix)| is(text).then_some(suffix))
}
