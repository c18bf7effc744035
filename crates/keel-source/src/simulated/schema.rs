//! What a `.drive.toml` says, checked. The schema stands in `docs/formats.md`.

use std::fs;
use std::path::{Path, PathBuf};

use serde::Deserialize;

use super::end::Told;
use super::faults::{Fails, Faults, Flaky, Grown, Slow, Stripes};
use super::health::HealthValues;
use super::lie::{Answers, Lie, Wrap};
use crate::error::SourceError;
use crate::{ByteOffset, ByteRange, EndMeans, FileSource, Identity, LinkKind, NotReady, RangeSet, SectorSize, Source, printable};

/// The most entries that a list of a description may have: a bound on the work of every request.
const MOST_ENTRIES: usize = 1 << 16;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Description {
    version: u32,
    identity: IdentityPart,
    claimed_bytes: u64,
    #[serde(default = "default_sector")]
    logical_sector: u32,
    physical_sector: Option<u32>,
    #[serde(default)]
    backing: Vec<Backing>,
    #[serde(default)]
    unreadable: Vec<LbaRange>,
    #[serde(default)]
    stripes: Vec<StripesPart>,
    #[serde(default)]
    flaky: Vec<FlakyPart>,
    #[serde(default)]
    slow: Vec<SlowPart>,
    #[serde(default)]
    unwritable: Vec<LbaRange>,
    #[serde(default)]
    write_protected: bool,
    grown: Option<Grown>,
    #[serde(default)]
    link: Link,
    #[serde(default)]
    clock: Clock,
    capacity: Option<CapacityPart>,
    native_bytes: Option<u64>,
    #[serde(default = "host_protected")]
    native_means: EndMeans,
    cache: Option<CachePart>,
    health: Option<HealthValues>,
    #[serde(default = "yes")]
    knows_holes: bool,
}

fn yes() -> bool {
    true
}

fn host_protected() -> EndMeans {
    EndMeans::HostProtected
}

fn default_sector() -> u32 {
    512
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct IdentityPart {
    model: String,
    serial: String,
    firmware: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Backing {
    file: PathBuf,
    #[serde(default)]
    at_byte: u64,
}

#[derive(Deserialize, Clone, Copy)]
#[serde(deny_unknown_fields)]
struct LbaRange {
    first_lba: u64,
    sectors: u64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct StripesPart {
    first_lba: u64,
    sectors: u64,
    every: u64,
    width: u64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FlakyPart {
    first_lba: u64,
    sectors: u64,
    tries: Option<u32>,
    fails: Option<f64>,
    #[serde(default)]
    seed: u64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct SlowPart {
    first_lba: u64,
    sectors: u64,
    ms: u64,
    #[serde(default)]
    grows_ms: u64,
}

/// How the link fails. All zero: it holds.
#[derive(Deserialize, Default, Clone, Copy)]
#[serde(deny_unknown_fields)]
pub(super) struct Link {
    /// The drive drops off the link after this many requests…
    #[serde(default)]
    pub(super) drop_after_reads: u64,
    /// …and does not answer this many…
    #[serde(default)]
    pub(super) away_reads: u64,
    /// …each of which takes this long.
    #[serde(default)]
    pub(super) timeout_ms: u64,
    /// What the drive claims when it is back, where that is something else.
    pub(super) comes_back_bytes: Option<u64>,
    /// What it says when it is asked whether it is ready.
    pub(super) not_ready: Option<NotReady>,
    /// One request in this many ends in an interface error.
    #[serde(default)]
    pub(super) interface_error_one_in: u64,
    /// Which ones.
    #[serde(default)]
    pub(super) seed: u64,
}

/// What a request costs on the virtual clock. All zero: the drive answers at once.
#[derive(Deserialize, Default, Clone, Copy)]
#[serde(deny_unknown_fields)]
pub(super) struct Clock {
    #[serde(default)]
    pub(super) read_us: u64,
    #[serde(default)]
    pub(super) write_us: u64,
    #[serde(default)]
    pub(super) bytes_per_second: u64,
    #[serde(default)]
    pub(super) write_bytes_per_second: u64,
    #[serde(default)]
    pub(super) unreadable_ms: u64,
    /// True where requests take their time in truth as well.
    #[serde(default)]
    pub(super) waits: bool,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct CapacityPart {
    real_bytes: u64,
    lie: LieWord,
    #[serde(default)]
    wraps: Vec<Wrap>,
    answers: Option<Answers>,
}

#[derive(Deserialize, Clone, Copy, PartialEq)]
#[serde(rename_all = "snake_case")]
enum LieWord {
    Wraps,
    Drops,
    RepeatsLast,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct CachePart {
    bytes: u64,
    #[serde(default = "yes")]
    flush_empties: bool,
}

/// The drive that a description describes.
pub(super) struct Described {
    pub(super) identity: Identity,
    pub(super) parts: Vec<(ByteOffset, FileSource)>,
    pub(super) faults: Faults,
    pub(super) link: Link,
    pub(super) clock: Clock,
    pub(super) lie: Lie,
    pub(super) cache_bytes: u64,
    pub(super) flush_empties: bool,
    pub(super) write_protected: bool,
    pub(super) health: Option<HealthValues>,
    /// Bytes that it has in truth, where it shows less.
    pub(super) native_bytes: Option<u64>,
    /// By which means it shows less.
    pub(super) native_means: EndMeans,
    pub(super) knows_holes: bool,
}

/// A description being checked: where it stands, for errors that name the line.
struct Checked<'a> {
    path: &'a Path,
    text: String,
}

impl Checked<'_> {
    fn wrong(&self, key: &str, reason: impl std::fmt::Display) -> SourceError {
        let line = self.text.lines().position(|line| names(line, key)).map_or(1, |line| line + 1);
        SourceError::Description { path: self.path.into(), line, reason: format!("{key}: {reason}") }
    }

    fn sector(&self, key: &str, bytes: u32) -> Result<SectorSize, SourceError> {
        SectorSize::new(bytes).ok_or_else(|| self.wrong(key, format!("{bytes} is no sector size")))
    }
}

/// True when `line` gives `key` a value, at its start or inside an inline table.
fn names(line: &str, key: &str) -> bool {
    let line = line.split('#').next().unwrap_or_default();
    line.match_indices(key).any(|(at, _)| {
        let before = line[..at].chars().next_back().is_none_or(|sign| !sign.is_alphanumeric() && sign != '_');
        let after = line[at + key.len()..].trim_start();
        before && (after.starts_with('=') || after.starts_with(']') || after.starts_with('.'))
    })
}

fn line_of(text: &str, at: usize) -> usize {
    text.bytes().take(at).filter(|byte| *byte == b'\n').count() + 1
}

/// Reads and checks the description at `path`; `forced` overrides the logical sector size.
pub(super) fn read(path: &Path, forced: Option<SectorSize>) -> Result<Described, SourceError> {
    let opening = |source| SourceError::Open { path: path.into(), source };
    let text = fs::read_to_string(path).map_err(opening)?;
    let description: Description = toml::from_str(&text).map_err(|error| {
        let line = error.span().map_or(1, |span| line_of(&text, span.start));
        SourceError::Description { path: path.into(), line, reason: error.message().to_string() }
    })?;
    let checked = Checked { path, text };
    if description.version != 1 {
        return Err(checked.wrong("version", format!("{} is not known, 1 is", description.version)));
    }
    let stated = checked.sector("logical_sector", description.logical_sector)?;
    let physical = checked.sector("physical_sector", description.physical_sector.unwrap_or(description.logical_sector))?;
    let logical = forced.unwrap_or(stated);
    // No bytes at all is what a drive says whose medium is not ready.
    if description.claimed_bytes != 0 && description.claimed_bytes < logical.bytes() {
        return Err(checked.wrong("claimed_bytes", "less than one sector"));
    }
    let room = description.native_bytes.unwrap_or(description.claimed_bytes).max(description.claimed_bytes);
    let shown = Told::read(path).shown(description.claimed_bytes);
    if shown != description.claimed_bytes && (shown > room || !shown.is_multiple_of(stated.bytes())) {
        let reason =
            format!("{shown} bytes were set as its end: no whole number of sectors up to {room} (the .end file beside it)");
        return Err(checked.wrong("native_bytes", reason));
    }
    let identity = Identity {
        path: Some(path.canonicalize().map_err(opening)?),
        link: LinkKind::Simulated,
        model: Some(printable(&description.identity.model)),
        serial: Some(printable(&description.identity.serial)),
        firmware: description.identity.firmware.as_deref().map(printable),
        place: None,
        bytes: shown,
        logical_sector: logical,
        physical_sector: physical,
        name: printable(&path.file_name().unwrap_or_default().to_string_lossy()).replace(".drive.toml", ""),
    };
    let lie = lie(&checked, &description, stated)?;
    if let Some(length) = description.link.comes_back_bytes.filter(|length| length % stated.bytes() != 0) {
        return Err(checked.wrong("comes_back_bytes", format!("{length} is no whole number of sectors")));
    }
    if description.native_bytes.is_some_and(|native| native < description.claimed_bytes) {
        return Err(checked.wrong("native_bytes", "less than claimed_bytes: a drive shows no more than it has by this"));
    }
    let cache = description.cache.as_ref();
    Ok(Described {
        parts: parts(&checked, &description)?,
        faults: faults(&checked, &description, stated)?,
        link: description.link,
        clock: description.clock,
        cache_bytes: cache.map_or(0, |cache| cache.bytes),
        flush_empties: cache.is_none_or(|cache| cache.flush_empties),
        write_protected: description.write_protected,
        health: description.health,
        native_bytes: description.native_bytes,
        native_means: description.native_means,
        knows_holes: description.knows_holes,
        identity,
        lie,
    })
}

fn parts(checked: &Checked<'_>, description: &Description) -> Result<Vec<(ByteOffset, FileSource)>, SourceError> {
    let folder = checked.path.parent().unwrap_or_else(|| Path::new("."));
    // A drive that says nothing of its size may still have a surface behind it.
    let room =
        if description.claimed_bytes == 0 { u64::MAX } else { description.native_bytes.unwrap_or(description.claimed_bytes) };
    let mut parts = Vec::new();
    let mut end = ByteOffset(0);
    for backing in &description.backing {
        let part = FileSource::open(&folder.join(&backing.file), SectorSize::default())?;
        let start = ByteOffset(backing.at_byte);
        let stop = start.checked_add(part.len()).filter(|stop| stop.0 <= room);
        let Some(stop) = stop else {
            let file = printable(&backing.file.to_string_lossy());
            return Err(checked.wrong("claimed_bytes", format!("{file} reaches behind it")));
        };
        if start < end {
            return Err(checked.wrong("at_byte", "backing images must follow one another without overlap"));
        }
        end = stop;
        parts.push((start, part));
    }
    Ok(parts)
}

fn faults(checked: &Checked<'_>, description: &Description, sector: SectorSize) -> Result<Faults, SourceError> {
    let unit = sector.bytes();
    let range = |first: u64, sectors: u64| ByteRange::sized(ByteOffset(first.saturating_mul(unit)), sectors.saturating_mul(unit));
    let of = |list: &[LbaRange]| -> Vec<ByteRange> {
        // Joined where they overlap, so that they can be searched.
        let mut set = RangeSet::default();
        list.iter().for_each(|part| set.add(range(part.first_lba, part.sectors)));
        set.ranges().to_vec()
    };
    let lists = [
        ("unreadable", description.unreadable.len()),
        ("flaky", description.flaky.len()),
        ("slow", description.slow.len()),
        ("stripes", description.stripes.len()),
        ("unwritable", description.unwritable.len()),
    ];
    if let Some((key, count)) = lists.iter().find(|(_, count)| *count > MOST_ENTRIES) {
        return Err(checked.wrong(key, format!("{count} entries, {MOST_ENTRIES} at most")));
    }
    let mut flaky = Vec::new();
    for part in &description.flaky {
        let fails = match (part.tries, part.fails) {
            (Some(tries), None) => Fails::Until(tries),
            (None, Some(share)) if (0.0..=1.0).contains(&share) => {
                Fails::Share { of_65536: (share * 65536.0) as u64, seed: part.seed }
            }
            (None, Some(share)) => return Err(checked.wrong("fails", format!("{share} is no share from 0 to 1"))),
            _ => return Err(checked.wrong("flaky", "either tries or fails")),
        };
        flaky.push(Flaky { range: range(part.first_lba, part.sectors), fails });
    }
    flaky.sort_by_key(|flaky| flaky.range.start);
    let mut stripes = Vec::new();
    for part in &description.stripes {
        if part.every == 0 || part.width > part.every {
            return Err(checked.wrong("every", format!("{} is less than the width {}, or 0", part.every, part.width)));
        }
        stripes.push(Stripes {
            range: range(part.first_lba, part.sectors),
            every: part.every.saturating_mul(unit),
            width: part.width * unit,
        });
    }
    if let Some(grown) = description.grown.filter(|grown| grown.one_in == 0 || grown.sectors == 0) {
        return Err(checked.wrong("grown", format!("one in {} and {} sectors: neither may be 0", grown.one_in, grown.sectors)));
    }
    let slow = |part: &SlowPart| Slow { range: range(part.first_lba, part.sectors), ms: part.ms, grows_ms: part.grows_ms };
    let slow = description.slow.iter().map(slow).collect();
    Ok(Faults::new(of(&description.unreadable), of(&description.unwritable), flaky, slow, stripes, description.grown, sector))
}

fn lie(checked: &Checked<'_>, description: &Description, sector: SectorSize) -> Result<Lie, SourceError> {
    let Some(part) = &description.capacity else { return Ok(Lie::None) };
    let unit = sector.bytes();
    let real = part.real_bytes;
    if real < unit || real % unit != 0 || real > description.claimed_bytes {
        return Err(checked.wrong("real_bytes", format!("{real} is no whole number of sectors up to the claimed bytes")));
    }
    if part.answers.is_some() && part.lie != LieWord::Drops {
        return Err(checked.wrong("answers", "only a drive that drops writes has answers of its own"));
    }
    if !part.wraps.is_empty() && part.lie != LieWord::Wraps {
        return Err(checked.wrong("wraps", "only a drive that wraps has moduli"));
    }
    match part.lie {
        LieWord::Drops => Ok(Lie::Drops { real, answers: part.answers.unwrap_or(Answers::Zeros) }),
        LieWord::RepeatsLast => Ok(Lie::RepeatsLast { real, sector: unit }),
        LieWord::Wraps if part.wraps.is_empty() => Ok(Lie::Wraps(vec![Wrap { from_byte: real, modulus: real }])),
        LieWord::Wraps => {
            let mut last = None;
            for wrap in &part.wraps {
                let odd = wrap.modulus == 0 || wrap.modulus > real || (wrap.modulus | wrap.from_byte) % unit != 0;
                if odd || last.is_some_and(|last| wrap.from_byte <= last) {
                    let (from, modulus) = (wrap.from_byte, wrap.modulus);
                    return Err(checked.wrong("wraps", format!("from byte {from}, modulus {modulus}: they must ascend, in whole sectors, with a modulus up to the real bytes")));
                }
                last = Some(wrap.from_byte);
            }
            if part.wraps.first().is_none_or(|wrap| wrap.from_byte != real) {
                return Err(checked.wrong("wraps", "the first one must begin at the real bytes"));
            }
            Ok(Lie::Wraps(part.wraps.clone()))
        }
    }
}
