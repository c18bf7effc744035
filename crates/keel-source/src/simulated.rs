//! The simulated drive, version 1: our stand-in for hardware. The schema stands in `docs/formats.md`.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use serde::Deserialize;

use crate::error::{ReadError, SourceError};
use crate::memory::blank_out;
use crate::split::SplitTarget;
use crate::target::FileTarget;
use crate::{
    ByteOffset, ByteRange, ExclusiveLock, FileSource, Identity, LinkKind, SectorSize, Source, WriteTarget, lock, printable,
};

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
    /// Places that read at last.
    #[serde(default)]
    flaky: Vec<Flaky>,
    /// Places that take their time.
    #[serde(default)]
    slow: Vec<Slow>,
    #[serde(default)]
    link: Link,
    #[serde(default)]
    clock: Clock,
    /// False for a drive that does not tell which places were never written: holes are then read like everything else.
    #[serde(default = "yes")]
    knows_holes: bool,
}

fn yes() -> bool {
    true
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

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct LbaRange {
    first_lba: u64,
    sectors: u64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Flaky {
    first_lba: u64,
    sectors: u64,
    /// Requests that fail before one is answered, for each sector.
    tries: u32,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Slow {
    first_lba: u64,
    sectors: u64,
    /// What a sector costs on the virtual clock beside the rest.
    ms: u64,
}

/// How the link fails. All zero: it holds.
#[derive(Deserialize, Default, Clone, Copy)]
#[serde(deny_unknown_fields)]
struct Link {
    /// The drive drops off the link after this many requests…
    #[serde(default)]
    drop_after_reads: u64,
    /// …and does not answer this many…
    #[serde(default)]
    away_reads: u64,
    /// …each of which takes this long.
    #[serde(default)]
    timeout_ms: u64,
    /// One request in this many ends in an interface error.
    #[serde(default)]
    interface_error_one_in: u64,
    /// Which ones.
    #[serde(default)]
    seed: u64,
}

/// What a read costs on the virtual clock. All zero: the drive answers at once.
#[derive(Deserialize, Default, Clone, Copy)]
#[serde(deny_unknown_fields)]
struct Clock {
    #[serde(default)]
    read_us: u64,
    #[serde(default)]
    bytes_per_second: u64,
    #[serde(default)]
    unreadable_ms: u64,
}

/// A drive described by a `.drive.toml` file: identity, claimed size, sector sizes, backing images at offsets with
/// zeros between them, unreadable ranges, and a virtual clock.
pub struct SimulatedDrive {
    parts: Vec<(ByteOffset, FileSource)>,
    /// Holds what was written to places without a backing image: a sparse file of the claimed length.
    spill: PathBuf,
    spill_source: Mutex<Option<Arc<FileSource>>>,
    bad: Vec<ByteRange>,
    /// Ranges that read at last, and the tries that each sector of them still takes.
    flaky: Vec<(ByteRange, u32)>,
    tried: Mutex<HashMap<u64, u32>>,
    slow: Vec<(ByteRange, u64)>,
    link: Link,
    /// Requests so far, unanswered ones among them.
    requests: AtomicU64,
    clock: Clock,
    knows_holes: bool,
    elapsed_us: AtomicU64,
    description: Arc<File>,
    identity: Identity,
}

impl SimulatedDrive {
    /// Opens the drive described at `path`. Backing files are looked up beside the description.
    ///
    /// # Errors
    /// [`SourceError::Description`] with the line and key of the first thing that does not fit the schema;
    /// [`SourceError::Open`] for a backing file that is not there.
    pub fn open(path: &Path, forced: Option<SectorSize>) -> Result<Self, SourceError> {
        let opening = |source| SourceError::Open { path: path.into(), source };
        let file = File::open(path).map_err(opening)?;
        let text = fs::read_to_string(path).map_err(opening)?;
        let description: Description = toml::from_str(&text).map_err(|error| {
            let line = error.span().map_or(1, |span| line_of(&text, span.start));
            SourceError::Description { path: path.into(), line, reason: error.message().to_string() }
        })?;
        let wrong = |key: &str, reason: String| {
            let line = text.lines().position(|line| line.trim_start().starts_with(key)).map_or(1, |line| line + 1);
            SourceError::Description { path: path.into(), line, reason: format!("{key}: {reason}") }
        };
        if description.version != 1 {
            return Err(wrong("version", format!("{} is not known, 1 is", description.version)));
        }
        let size = |key: &str, bytes: u32| SectorSize::new(bytes).ok_or_else(|| wrong(key, format!("{bytes} is no sector size")));
        let stated = size("logical_sector", description.logical_sector)?;
        let logical = forced.unwrap_or(stated);
        let physical = size("physical_sector", description.physical_sector.unwrap_or(description.logical_sector))?;
        if description.claimed_bytes < logical.bytes() {
            return Err(wrong("claimed_bytes", "less than one sector".into()));
        }
        let name = printable(&path.file_name().unwrap_or_default().to_string_lossy()).replace(".drive.toml", "");
        lock::lock_shared(&file, &name)?;
        let folder = path.parent().unwrap_or_else(|| Path::new("."));
        let mut parts = Vec::new();
        let mut end = ByteOffset(0);
        for backing in &description.backing {
            let part = FileSource::open(&folder.join(&backing.file), SectorSize::default())?;
            let start = ByteOffset(backing.at_byte);
            let stop = start.checked_add(part.len()).filter(|stop| stop.0 <= description.claimed_bytes);
            let Some(stop) = stop else {
                return Err(wrong("claimed_bytes", format!("{} reaches behind it", printable(&backing.file.to_string_lossy()))));
            };
            if start < end {
                return Err(wrong("at_byte", "backing images must follow one another without overlap".into()));
            }
            end = stop;
            parts.push((start, part));
        }
        let unit = stated.bytes();
        let range =
            |first: u64, sectors: u64| ByteRange::sized(ByteOffset(first.saturating_mul(unit)), sectors.saturating_mul(unit));
        let mut bad: Vec<ByteRange> = description.unreadable.iter().map(|bad| range(bad.first_lba, bad.sectors)).collect();
        bad.sort_by_key(|range| range.start);
        let mut flaky: Vec<(ByteRange, u32)> =
            description.flaky.iter().map(|flaky| (range(flaky.first_lba, flaky.sectors), flaky.tries)).collect();
        flaky.sort_by_key(|(range, _)| range.start);
        let identity = Identity {
            path: Some(path.canonicalize().map_err(opening)?),
            link: LinkKind::Simulated,
            model: Some(printable(&description.identity.model)),
            serial: Some(printable(&description.identity.serial)),
            firmware: description.identity.firmware.as_deref().map(printable),
            bytes: description.claimed_bytes,
            logical_sector: logical,
            physical_sector: physical,
            name,
        };
        let drive = Self {
            parts,
            spill: path.with_extension("spill"),
            spill_source: Mutex::new(None),
            bad,
            flaky,
            tried: Mutex::new(HashMap::new()),
            slow: description.slow.iter().map(|slow| (range(slow.first_lba, slow.sectors), slow.ms)).collect(),
            link: description.link,
            requests: AtomicU64::new(0),
            clock: description.clock,
            knows_holes: description.knows_holes,
            elapsed_us: AtomicU64::new(0),
            description: Arc::new(file),
            identity,
        };
        drive.look_for_spill();
        Ok(drive)
    }

    fn look_for_spill(&self) {
        if self.spill.exists()
            && let (Ok(source), Ok(mut slot)) = (FileSource::open(&self.spill, SectorSize::default()), self.spill_source.lock())
        {
            *slot = Some(Arc::new(source));
        }
    }

    fn spill(&self) -> Option<Arc<FileSource>> {
        self.spill_source.lock().ok().and_then(|slot| slot.clone())
    }

    /// The sectors of flaky places in `wanted` that fail this time; each comes nearer to reading.
    fn not_yet(&self, wanted: ByteRange, buf: &mut [u8], once: bool) -> Vec<ByteRange> {
        let unit = self.identity.logical_sector.bytes();
        let mut failing = Vec::new();
        let Ok(mut tried) = self.tried.lock() else { return failing };
        for (range, tries) in &self.flaky {
            let Some(both) = range.overlap(wanted).filter(|_| !once || failing.is_empty()) else { continue };
            for sector in both.start.0 / unit..both.end.0.div_ceil(unit) {
                let count = tried.entry(sector).or_default();
                if *count < *tries {
                    *count += 1;
                    failing.push(ByteRange::sized(ByteOffset(sector * unit), unit));
                    if once {
                        break;
                    }
                }
            }
        }
        blank_out(&failing, wanted, buf)
    }

    /// Whether the link carries this request.
    fn transfer(&self, wanted: ByteRange) -> Result<(), ReadError> {
        let number = self.requests.fetch_add(1, Ordering::Relaxed);
        let link = self.link;
        let turn = link.drop_after_reads.saturating_add(link.away_reads);
        if link.drop_after_reads > 0 && number % turn >= link.drop_after_reads {
            self.elapsed_us.fetch_add(link.timeout_ms.saturating_mul(1000), Ordering::Relaxed);
            return Err(ReadError { link_lost: true, ..ReadError::of(wanted, "the drive does not answer") });
        }
        if link.interface_error_one_in > 0 && scattered(link.seed, number).is_multiple_of(link.interface_error_one_in) {
            self.tick(wanted, &[]);
            return Err(ReadError::of(wanted, "the link reports an interface error: the checksum of a transfer is wrong"));
        }
        Ok(())
    }

    /// Reads; `once` as a request that ends at its first bad sector.
    fn read(&self, at: ByteOffset, buf: &mut [u8], once: bool) -> Result<(), ReadError> {
        let wanted = ByteRange::sized(at, buf.len() as u64);
        let inside = wanted.overlap(ByteRange::new(ByteOffset(0), ByteOffset(self.len())));
        buf.fill(0);
        self.transfer(wanted)?;
        if let (Some(inside), Some(spill)) = (inside, self.spill()) {
            // Behind the file's end the spill reads as zeros, like any hole.
            let _ = spill.read_at(at, &mut buf[..inside.len() as usize]);
        }
        let mut bad = Vec::new();
        let mut reason = String::new();
        for (start, part) in &self.parts {
            let Some(both) = ByteRange::sized(*start, part.len()).overlap(wanted) else { continue };
            let to = (both.start - wanted.start) as usize;
            if let Err(error) = part.read_at(ByteOffset(both.start - *start), &mut buf[to..to + both.len() as usize]) {
                reason.clone_from(&error.reason);
                bad.extend(error.moved(start.0, 0).bad);
            }
        }
        // A sector is the drive's smallest unit: a request that touches a bad one loses what it wanted of it.
        let mut faults = blank_out(&self.bad, wanted, buf);
        let reach = faults.first().filter(|_| once).map_or(wanted, |first| ByteRange::new(wanted.start, first.start));
        faults.extend(self.not_yet(reach, buf, once));
        if !faults.is_empty() {
            reason = "the drive reports an uncorrectable medium error".into();
            bad.extend(faults);
        }
        bad.sort_by_key(|range| range.start);
        if let Some(first) = bad.first().filter(|_| once).map(|first| first.start) {
            let sector = ByteRange::sized(first, self.identity.logical_sector.bytes());
            self.tick(ByteRange::new(wanted.start, sector.end), &[sector]);
            return Err(ReadError { bad: vec![ByteRange::new(first, wanted.end)], reason, past_end: false, link_lost: false });
        }
        self.tick(wanted, &bad);
        let past_end = wanted.end.0 > self.len();
        if past_end {
            bad.push(ByteRange::new(wanted.start.max(ByteOffset(self.len())), wanted.end));
            reason = "behind the end of the source".into();
        }
        if bad.is_empty() { Ok(()) } else { Err(ReadError { bad, reason, past_end, link_lost: false }) }
    }

    fn tick(&self, wanted: ByteRange, bad: &[ByteRange]) {
        let bytes = wanted.len();
        let transfer = (bytes * 1_000_000).checked_div(self.clock.bytes_per_second).unwrap_or(0);
        let unit = self.identity.logical_sector.bytes();
        let sectors: u64 = bad.iter().map(|range| range.len() / unit).sum();
        let slow = self.slow.iter().filter_map(|(range, ms)| Some(range.overlap(wanted)?.len().div_ceil(unit) * ms * 1000));
        let us = self.clock.read_us + transfer + sectors * self.clock.unreadable_ms * 1000 + slow.sum::<u64>();
        self.elapsed_us.fetch_add(us, Ordering::Relaxed);
    }

    /// The stretches of `range` that have no backing image.
    fn unbacked(&self) -> Vec<ByteRange> {
        let mut gaps = Vec::new();
        let mut end = ByteOffset(0);
        for (start, part) in &self.parts {
            gaps.push(ByteRange::new(end, *start));
            end = *start + part.len();
        }
        gaps.push(ByteRange::new(end, ByteOffset(self.identity.bytes)));
        gaps.retain(|gap| !gap.is_empty());
        gaps
    }
}

fn line_of(text: &str, at: usize) -> usize {
    text.bytes().take(at).filter(|byte| *byte == b'\n').count() + 1
}

impl Source for SimulatedDrive {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn change_mark(&self) -> Option<String> {
        let marks: Option<Vec<String>> = self.parts.iter().map(|(_, part)| part.change_mark()).collect();
        // What was written beside the backing images, and the description itself.
        let spill = fs::metadata(&self.spill).ok().map(|metadata| (metadata.mtime(), metadata.mtime_nsec()));
        let description = self.description.metadata().ok().map(|metadata| (metadata.mtime(), metadata.mtime_nsec()));
        Some(format!("{} {spill:?} {description:?}", marks?.join(", ")))
    }

    fn elapsed(&self) -> Option<Duration> {
        Some(Duration::from_micros(self.elapsed_us.load(Ordering::Relaxed)))
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.read(at, buf, true)
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.read(at, buf, false)
    }

    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        if !self.knows_holes {
            return (from.0 < self.len()).then(|| ByteRange::new(from, ByteOffset(self.len())));
        }
        let faults =
            self.bad.iter().filter(|range| range.end > from).map(|range| ByteRange::new(range.start.max(from), range.end));
        let spilled = self.spill().and_then(|spill| spill.next_data(from));
        let backed = self.parts.iter().find_map(|(start, part)| {
            if *start + part.len() <= from {
                return None;
            }
            let found = part.next_data(ByteOffset(from - *start))?;
            Some(ByteRange::new(found.start + start.0, found.end + start.0))
        });
        faults.chain(spilled).chain(backed).min_by_key(|range| range.start)
    }

    fn open_target(&self) -> Result<Box<dyn WriteTarget>, SourceError> {
        let lock = ExclusiveLock::take(&self.description, &self.identity.name)?;
        let mut parts: Vec<(ByteOffset, Box<dyn WriteTarget>)> = Vec::new();
        for (start, part) in &self.parts {
            parts.push((*start, part.open_target()?));
        }
        let gaps = self.unbacked();
        if !gaps.is_empty() {
            let opening = |source| SourceError::Open { path: self.spill.clone(), source };
            let file = OpenOptions::new().write(true).create(true).truncate(false).open(&self.spill).map_err(opening)?;
            file.set_len(self.identity.bytes).map_err(opening)?;
            for gap in gaps {
                let target = FileTarget::open(&self.spill, self.identity.bytes, None)?;
                parts.push((gap.start, Box::new(Shifted { inner: target, gap })));
            }
            self.look_for_spill();
        }
        parts.sort_by_key(|(start, _)| *start);
        let inner = SplitTarget { parts, len: self.identity.bytes };
        Ok(Box::new(FaultyTarget { inner, bad: self.bad.clone(), _lock: lock }))
    }
}

/// A stretch of the spill file, addressed from its own start.
struct Shifted {
    inner: FileTarget,
    gap: ByteRange,
}

impl WriteTarget for Shifted {
    fn len(&self) -> u64 {
        self.gap.len()
    }

    fn write_at(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), SourceError> {
        self.inner.write_at(self.gap.start + at.0, bytes)
    }

    fn flush(&mut self) -> Result<(), SourceError> {
        self.inner.flush()
    }

    fn read_back(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<(), SourceError> {
        self.inner.read_back(self.gap.start + at.0, buf)
    }
}

/// A target that fails where the drive's surface is gone.
struct FaultyTarget {
    inner: SplitTarget,
    bad: Vec<ByteRange>,
    _lock: ExclusiveLock,
}

impl FaultyTarget {
    fn check(&self, action: &'static str, at: ByteOffset, bytes: usize) -> Result<(), SourceError> {
        let wanted = ByteRange::sized(at, bytes as u64);
        match self.bad.iter().find_map(|bad| bad.overlap(wanted)) {
            Some(hit) => Err(SourceError::Write { action, at: hit.start, reason: "uncorrectable medium error".into() }),
            None => Ok(()),
        }
    }
}

impl WriteTarget for FaultyTarget {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn write_at(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), SourceError> {
        self.check("write", at, bytes.len())?;
        self.inner.write_at(at, bytes)
    }

    fn flush(&mut self) -> Result<(), SourceError> {
        self.inner.flush()
    }

    fn read_back(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<(), SourceError> {
        self.check("read back", at, buf.len())?;
        self.inner.read_back(at, buf)
    }
}

/// A number for each request that looks like chance and is the same in every run.
fn scattered(seed: u64, number: u64) -> u64 {
    let mixed = seed.wrapping_add(number.wrapping_mul(0x9E37_79B9_7F4A_7C15));
    let mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB) >> 8
}
