//! TIFF 6.0 and what is built on it: raw camera files, and the EXIF block of other pictures.

use std::collections::BTreeSet;

use crate::judged::{Facts, Read};
use crate::walk::{Step, Walk, wrong};

/// The most directories that are followed.
const MOST_DIRECTORIES: usize = 64;
/// The most places that a directory lists for its strips.
const MOST_STRIPS: u64 = 1 << 17;

/// Tags, by the names of the standard.
mod tag {
    pub(super) const IMAGE_WIDTH: u16 = 256;
    pub(super) const IMAGE_LENGTH: u16 = 257;
    pub(super) const PHOTOMETRIC_INTERPRETATION: u16 = 262;
    pub(super) const MAKE: u16 = 271;
    pub(super) const MODEL: u16 = 272;
    pub(super) const STRIP_OFFSETS: u16 = 273;
    pub(super) const STRIP_BYTE_COUNTS: u16 = 279;
    pub(super) const DATE_TIME: u16 = 306;
    pub(super) const TILE_OFFSETS: u16 = 324;
    pub(super) const TILE_BYTE_COUNTS: u16 = 325;
    pub(super) const SUB_IFDS: u16 = 330;
    pub(super) const JPEG_INTERCHANGE_FORMAT: u16 = 513;
    pub(super) const JPEG_INTERCHANGE_FORMAT_LENGTH: u16 = 514;
    pub(super) const EXIF_IFD: u16 = 34_665;
    pub(super) const GPS_IFD: u16 = 34_853;
    pub(super) const DATE_TIME_ORIGINAL: u16 = 36_867;
    pub(super) const DNG_VERSION: u16 = 50_706;
}

/// Photometric interpretation of a colour filter array: what only a camera's sensor writes.
const COLOUR_FILTER_ARRAY: u64 = 32_803;

/// What an EXIF block tells.
pub(super) struct Exif {
    pub(super) made: Option<String>,
    pub(super) by: Option<String>,
    /// Place and length of the small picture.
    pub(super) small: Option<(u64, u64)>,
}

/// Reads the EXIF block from `at` to `end`.
pub(super) fn exif(walk: &mut Walk<'_>, at: u64, end: u64) -> Step<Exif> {
    let mut tiff = Tiff::begin(walk, at, end)?;
    tiff.follow()?;
    Ok(Exif { made: tiff.made.take(), by: tiff.camera(), small: tiff.small.map(|(place, bytes)| (at + place, bytes)) })
}

/// Walks a TIFF.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let len = walk.len();
    let mut tiff = Tiff::begin(walk, 0, len)?;
    tiff.follow()?;
    if tiff.pixels.is_none() || tiff.strips == 0 {
        return wrong("it holds no picture");
    }
    let (end, suffix) = (
        tiff.end,
        if tiff.is_dng {
            "dng"
        } else if tiff.is_raw {
            "raw"
        } else {
            "tif"
        },
    );
    let facts = Facts { made: tiff.made.take(), by: tiff.camera(), pixels: tiff.pixels, title: None };
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    Ok(Read::to(end, "its directories lead to its end").named(suffix).telling(facts))
}

struct Tiff<'w, 'a> {
    walk: &'w mut Walk<'a>,
    base: u64,
    limit: u64,
    big_endian: bool,
    /// The end of the furthest thing that a directory leads to.
    end: u64,
    left: Vec<u64>,
    seen: BTreeSet<u64>,
    strips: u64,
    pixels: Option<(u32, u32)>,
    made: Option<String>,
    make: Option<String>,
    model: Option<String>,
    small: Option<(u64, u64)>,
    is_dng: bool,
    is_raw: bool,
}

/// An entry of a directory.
#[derive(Clone, Copy)]
struct Entry {
    tag: u16,
    kind: u16,
    count: u64,
    /// Where its values stand.
    at: u64,
}

impl<'w, 'a> Tiff<'w, 'a> {
    fn begin(walk: &'w mut Walk<'a>, base: u64, limit: u64) -> Step<Self> {
        let big_endian = walk.is(base, b"MM")?;
        let mut tiff = Self {
            walk,
            base,
            limit,
            big_endian,
            end: 8,
            left: Vec::new(),
            seen: BTreeSet::new(),
            strips: 0,
            pixels: None,
            made: None,
            make: None,
            model: None,
            small: None,
            is_dng: false,
            is_raw: false,
        };
        let first = u64::from(tiff.u32(4)?);
        tiff.left.push(first);
        Ok(tiff)
    }

    fn u16(&mut self, at: u64) -> Step<u16> {
        if self.big_endian { self.walk.be16(self.base + at) } else { self.walk.le16(self.base + at) }
    }

    fn u32(&mut self, at: u64) -> Step<u32> {
        if self.big_endian { self.walk.be32(self.base + at) } else { self.walk.le32(self.base + at) }
    }

    /// Something stands from `at` for `bytes` bytes.
    fn reach(&mut self, at: u64, bytes: u64) -> Step<()> {
        let end = at.saturating_add(bytes);
        if self.base.saturating_add(end) > self.limit {
            return Err(crate::walk::Broken::End);
        }
        self.end = self.end.max(end);
        Ok(())
    }

    fn follow(&mut self) -> Step<()> {
        while let Some(at) = self.left.pop() {
            if at == 0 || !self.seen.insert(at) {
                continue;
            }
            if self.seen.len() > MOST_DIRECTORIES {
                return wrong("it has more directories than any picture has");
            }
            self.directory(at)?;
        }
        Ok(())
    }

    fn directory(&mut self, at: u64) -> Step<()> {
        let count = u64::from(self.u16(at)?);
        if count == 0 || count > 4096 {
            return wrong("one of its directories is none");
        }
        self.reach(at, 2 + 12 * count + 4)?;
        let mut entries = Vec::new();
        for index in 0..count {
            let own = at + 2 + 12 * index;
            let entry =
                Entry { tag: self.u16(own)?, kind: self.u16(own + 2)?, count: u64::from(self.u32(own + 4)?), at: own + 8 };
            let Some(size) = size_of(entry.kind) else { return wrong("a value of a directory has a type that is none") };
            let bytes = size * entry.count;
            let entry = if bytes > 4 { Entry { at: u64::from(self.u32(own + 8)?), ..entry } } else { entry };
            if bytes > 4 {
                self.reach(entry.at, bytes)?;
            }
            entries.push(entry);
        }
        for entry in &entries {
            self.tell(entry)?;
        }
        let of = |tag: u16| entries.iter().find(|entry| entry.tag == tag).copied();
        for (places, lengths) in [(tag::STRIP_OFFSETS, tag::STRIP_BYTE_COUNTS), (tag::TILE_OFFSETS, tag::TILE_BYTE_COUNTS)] {
            if let Some((places, lengths)) = of(places).zip(of(lengths)) {
                self.strips(places, lengths)?;
            }
        }
        if let Some((place, bytes)) = of(tag::JPEG_INTERCHANGE_FORMAT).zip(of(tag::JPEG_INTERCHANGE_FORMAT_LENGTH)) {
            let (place, bytes) = (self.value(&place, 0)?, self.value(&bytes, 0)?);
            self.reach(place, bytes)?;
            self.small = Some((place, bytes));
            self.strips += 1;
        }
        let next = u64::from(self.u32(at + 2 + 12 * count)?);
        self.left.push(next);
        Ok(())
    }

    fn strips(&mut self, places: Entry, lengths: Entry) -> Step<()> {
        if places.count != lengths.count || places.count > MOST_STRIPS {
            return wrong("its strips and their lengths are not as many");
        }
        for index in 0..places.count {
            let (place, bytes) = (self.value(&places, index)?, self.value(&lengths, index)?);
            self.reach(place, bytes)?;
        }
        self.strips += places.count;
        Ok(())
    }

    fn tell(&mut self, entry: &Entry) -> Step<()> {
        match entry.tag {
            tag::IMAGE_WIDTH | tag::IMAGE_LENGTH => {
                let value = u32::try_from(self.value(entry, 0)?).unwrap_or(u32::MAX);
                let (width, height) = self.pixels.unwrap_or((0, 0));
                // The largest picture of several is the one that is meant.
                let larger = if entry.tag == tag::IMAGE_WIDTH { (width.max(value), height) } else { (width, height.max(value)) };
                self.pixels = Some(larger);
            }
            tag::PHOTOMETRIC_INTERPRETATION => self.is_raw |= self.value(entry, 0)? == COLOUR_FILTER_ARRAY,
            tag::DNG_VERSION => self.is_dng = true,
            tag::SUB_IFDS => {
                for index in 0..entry.count.min(16) {
                    let at = self.value(entry, index)?;
                    self.left.push(at);
                }
            }
            tag::EXIF_IFD | tag::GPS_IFD => {
                let at = self.value(entry, 0)?;
                self.left.push(at);
            }
            tag::MAKE => self.make = self.text(entry)?,
            tag::MODEL => self.model = self.text(entry)?,
            tag::DATE_TIME if self.made.is_none() => self.made = self.date(entry)?,
            tag::DATE_TIME_ORIGINAL => self.made = self.date(entry)?.or_else(|| self.made.take()),
            _ => {}
        }
        Ok(())
    }

    fn value(&mut self, entry: &Entry, index: u64) -> Step<u64> {
        match entry.kind {
            3 => self.u16(entry.at + 2 * index).map(u64::from),
            4 | 13 => self.u32(entry.at + 4 * index).map(u64::from),
            1 | 7 => self.walk.u8(self.base + entry.at + index).map(u64::from),
            _ => wrong("a value of a directory is no number"),
        }
    }

    fn text(&mut self, entry: &Entry) -> Step<Option<String>> {
        let bytes = self.walk.bytes(self.base + entry.at, entry.count.min(128))?;
        let text = String::from_utf8_lossy(&bytes);
        let text = text.trim_end_matches('\0').trim();
        Ok(Some(text.to_string()).filter(|text| !text.is_empty()))
    }

    /// `YYYY:MM:DD hh:mm:ss`, as a date is written here.
    fn date(&mut self, entry: &Entry) -> Step<Option<String>> {
        let text = self.text(entry)?.unwrap_or_default();
        let parts = text.split_once(' ').map(|(day, time)| (day.replace(':', "-"), time));
        Ok(parts
            .filter(|(day, time)| day.len() == 10 && time.len() == 8 && day.starts_with(['1', '2']))
            .map(|(day, time)| format!("{day}T{time}")))
    }

    fn camera(&mut self) -> Option<String> {
        match (self.make.take(), self.model.take()) {
            (Some(make), Some(model)) if !model.starts_with(&make) => Some(format!("{make} {model}")),
            (make, model) => model.or(make),
        }
    }
}

/// Bytes of a value by its type.
fn size_of(kind: u16) -> Option<u64> {
    Some(match kind {
        1 | 2 | 6 | 7 => 1,
        3 | 8 => 2,
        4 | 9 | 11 | 13 => 4,
        5 | 10 | 12 | 16..=18 => 8,
        _ => return None,
    })
}
