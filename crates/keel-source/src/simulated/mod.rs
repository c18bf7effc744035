//! The simulated drive, version 1: our stand-in for hardware. The schema stands in `docs/formats.md`.

mod cache;
mod end;
mod faults;
mod health;
mod lie;
mod medium;
mod schema;
mod target;

use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use self::end::Told;
use self::faults::{Faults, scattered};
use self::health::HealthValues;
use self::medium::Medium;
use self::schema::{Clock, Link};
use self::target::{Shifted, SimulatedTarget};
use crate::error::{ReadCause, ReadError, SourceError};
use crate::split::SplitTarget;
use crate::target::FileTarget;
use crate::{
    ByteOffset, ByteRange, EndMeans, EndOrder, ExclusiveLock, FurtherEnd, HealthPage, Identity, Lasts, Leave, NoHealth, NotReady,
    OwnSize, SectorSize, SharedSource, Source, WriteTarget, lock,
};

/// How often an operating system asks again for a transfer that failed on its way.
const SYSTEM_TRIES: u32 = 4;

/// What reader and writer of a simulated drive share.
struct State {
    identity: Identity,
    medium: Medium,
    faults: Faults,
    link: Link,
    clock: Clock,
    health: Option<HealthValues>,
    native_bytes: Option<u64>,
    native_means: EndMeans,
    write_protected: bool,
    /// Requests so far, unanswered ones among them.
    requests: AtomicU64,
    link_errors: AtomicU64,
    elapsed_us: AtomicU64,
}

/// A drive described by a `.drive.toml` file: identity, claimed size, sector sizes, backing images at offsets with
/// zeros between them, faults of surface, link and capacity, health pages, and a virtual clock.
pub struct SimulatedDrive {
    state: Arc<State>,
    knows_holes: bool,
    description: Arc<File>,
    path: PathBuf,
    forced: Option<SectorSize>,
}

impl SimulatedDrive {
    /// Opens the drive described at `path`. Backing files are looked up beside the description.
    ///
    /// # Errors
    /// [`SourceError::Description`] with the line and key of the first thing that does not fit the schema;
    /// [`SourceError::Open`] for a backing file that is not there.
    pub fn open(path: &Path, forced: Option<SectorSize>) -> Result<Self, SourceError> {
        let file = File::open(path).map_err(|source| SourceError::Open { path: path.into(), source })?;
        let described = schema::read(path, forced)?;
        let identity = described.identity;
        lock::lock_shared(&file, &identity.name)?;
        let cache = (described.cache_bytes, described.flush_empties);
        let spill = path.with_extension("spill");
        let room = described.native_bytes.map_or(identity.bytes, |native| native.max(identity.bytes));
        let state = State {
            medium: Medium::new(described.parts, spill, described.lie, cache, room, identity.logical_sector),
            faults: described.faults,
            link: described.link,
            clock: described.clock,
            health: described.health,
            native_bytes: described.native_bytes,
            native_means: described.native_means,
            write_protected: described.write_protected,
            requests: AtomicU64::new(0),
            link_errors: AtomicU64::new(0),
            elapsed_us: AtomicU64::new(0),
            identity,
        };
        Ok(Self {
            state: Arc::new(state),
            knows_holes: described.knows_holes,
            description: Arc::new(file),
            path: path.into(),
            forced,
        })
    }
}

impl State {
    /// Requests of one turn of a link that drops and comes back.
    fn turn(&self) -> u64 {
        self.link.drop_after_reads.saturating_add(self.link.away_reads).max(1)
    }

    /// Bytes that the drive has now: a drive that came back may claim another length.
    fn len_now(&self, number: u64) -> u64 {
        let back = self.link.drop_after_reads > 0 && number >= self.turn();
        self.link.comes_back_bytes.filter(|_| back).unwrap_or(self.identity.bytes).min(self.identity.bytes)
    }

    /// Whether the link carries this request; its number.
    fn transfer(&self, wanted: ByteRange) -> Result<u64, ReadError> {
        let number = self.requests.fetch_add(1, Ordering::Relaxed);
        let link = self.link;
        if link.not_ready.is_some() {
            self.elapsed_us.fetch_add(link.timeout_ms.saturating_mul(1000), Ordering::Relaxed);
            return Err(ReadError::of(wanted, "the drive is not ready").because(ReadCause::LinkLost));
        }
        if link.drop_after_reads > 0 && number % self.turn() >= link.drop_after_reads {
            self.elapsed_us.fetch_add(link.timeout_ms.saturating_mul(1000), Ordering::Relaxed);
            return Err(ReadError::of(wanted, "the drive does not answer").because(ReadCause::LinkLost));
        }
        if link.interface_error_one_in > 0 && scattered(link.seed, number).is_multiple_of(link.interface_error_one_in) {
            self.link_errors.fetch_add(1, Ordering::Relaxed);
            self.tick(wanted, &[]);
            let reason = "the link reports an interface error: the checksum of a transfer is wrong";
            return Err(ReadError::of(wanted, reason).because(ReadCause::Interface));
        }
        Ok(number)
    }

    /// Reads; `once` as a request that ends at its first bad sector.
    fn read(&self, at: ByteOffset, buf: &mut [u8], once: bool) -> Result<(), ReadError> {
        let wanted = ByteRange::sized(at, buf.len() as u64);
        buf.fill(0);
        let number = self.transfer(wanted)?;
        let len = self.len_now(number);
        let inside = usize::try_from(ByteOffset(len) - at).unwrap_or(usize::MAX).min(buf.len());
        let (head, _) = buf.split_at_mut(inside);
        let reach = ByteRange::sized(at, inside as u64);
        let mut bad = self.medium.read(at.0, head);
        // A sector is the drive's smallest unit: a request that touches a bad one loses what it wanted of it.
        let mut faults = self.faults.dead(reach, head, number);
        let before = faults.first().filter(|_| once).map_or(reach, |first| ByteRange::new(reach.start, first.start));
        faults.extend(self.faults.not_yet(before, head, once));
        bad.extend(faults);
        bad.sort_by_key(|range| range.start);
        let reason = "the drive reports an uncorrectable medium error";
        if let Some(first) = bad.first().filter(|_| once).map(|first| first.start) {
            let sector = ByteRange::sized(first, self.identity.logical_sector.bytes());
            self.tick(ByteRange::new(wanted.start, sector.end), &[sector]);
            return Err(ReadError::of(ByteRange::new(first, wanted.end), reason));
        }
        self.tick(wanted, &bad);
        if wanted.end.0 > len {
            bad.push(ByteRange::new(wanted.start.max(ByteOffset(len)), wanted.end));
            return Err(ReadError { bad, ..ReadError::past_end(wanted) });
        }
        if bad.is_empty() { Ok(()) } else { Err(ReadError { bad, ..ReadError::of(wanted, reason) }) }
    }

    fn tick(&self, wanted: ByteRange, bad: &[ByteRange]) {
        let transfer = transfer_us(wanted.len(), self.clock.bytes_per_second);
        let sectors: u64 = bad.iter().map(|range| range.len() / self.identity.logical_sector.bytes()).sum();
        let late = sectors.saturating_mul(self.clock.unreadable_ms).saturating_add(self.faults.slowness(wanted));
        let us = self.clock.read_us.saturating_add(transfer).saturating_add(late.saturating_mul(1000));
        self.pass(us);
    }

    /// Lets `us` microseconds pass: on the virtual clock alone, or in truth where the drive is told to wait.
    fn pass(&self, us: u64) {
        self.elapsed_us.fetch_add(us, Ordering::Relaxed);
        if self.clock.waits {
            std::thread::sleep(Duration::from_micros(us));
        }
    }

    fn tick_write(&self, bytes: u64) {
        let pace =
            if self.clock.write_bytes_per_second > 0 { self.clock.write_bytes_per_second } else { self.clock.bytes_per_second };
        let first = if self.clock.write_us > 0 { self.clock.write_us } else { self.clock.read_us };
        self.pass(first.saturating_add(transfer_us(bytes, pace)));
    }
}

/// Microseconds that `bytes` take at `per_second`; none where that is 0.
fn transfer_us(bytes: u64, per_second: u64) -> u64 {
    bytes.saturating_mul(1_000_000).checked_div(per_second).unwrap_or(0)
}

impl Source for SimulatedDrive {
    fn identity(&self) -> &Identity {
        &self.state.identity
    }

    fn change_mark(&self) -> Option<String> {
        let medium = &self.state.medium;
        let marks: Option<Vec<String>> = medium.parts.iter().map(|(_, part)| part.change_mark()).collect();
        // What was written beside the backing images, and the description itself.
        let spill = fs::metadata(&medium.spill).ok().map(|metadata| (metadata.mtime(), metadata.mtime_nsec()));
        let description = self.description.metadata().ok().map(|metadata| (metadata.mtime(), metadata.mtime_nsec()));
        Some(format!("{} {spill:?} {description:?}", marks?.join(", ")))
    }

    fn elapsed(&self) -> Option<Duration> {
        Some(Duration::from_micros(self.state.elapsed_us.load(Ordering::Relaxed)))
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.state.read(at, buf, true)
    }

    /// As the operating system reads: a transfer that failed on its way is asked for again.
    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let mut read = self.state.read(at, buf, false);
        for _ in 0..SYSTEM_TRIES {
            match &read {
                Err(error) if error.cause == ReadCause::Interface => read = self.state.read(at, buf, false),
                _ => break,
            }
        }
        read
    }

    fn health_page(&self) -> Result<HealthPage, NoHealth> {
        let values =
            self.state.health.as_ref().ok_or_else(|| NoHealth::Refused { reason: "its description names none".into() })?;
        let link_errors = self.state.link_errors.load(Ordering::Relaxed);
        Ok(health::page(values, self.state.faults.grown_sectors(), link_errors))
    }

    fn not_ready(&self) -> Option<NotReady> {
        self.state.link.not_ready
    }

    fn own_size(&self) -> OwnSize {
        let native = self.state.native_bytes.filter(|native| *native > self.len());
        let further = native.map(|bytes| FurtherEnd { bytes, means: self.state.native_means });
        OwnSize { further: further.into_iter().collect(), ..OwnSize::default() }
    }

    fn set_end(&self, order: EndOrder, leave: &Leave) -> Result<u64, SourceError> {
        let (state, name) = (&self.state, &self.state.identity.name);
        if !leave.is_for(&state.identity) {
            return Err(SourceError::NoLeave { name: name.clone() });
        }
        let not_set = |reason: String| SourceError::NotSet { name: name.clone(), reason };
        let has = state.native_bytes.is_some_and(|native| order.bytes <= native) && order.means == state.native_means;
        let whole = order.bytes > 0 && order.bytes.is_multiple_of(state.identity.logical_sector.bytes());
        if !has || !whole || (order.lasts == Lasts::UntilPowerIsCut && !order.means.can_pass()) {
            return Err(not_set("the drive does not take the command".into()));
        }
        let _lock = ExclusiveLock::take(std::slice::from_ref(&self.description), name)?;
        Told::take(&self.path, order).map_err(|error| not_set(error.to_string()))?;
        Ok(order.bytes)
    }

    /// Its power is cut: what it was told for that long only is forgotten.
    fn stop(&self) -> std::io::Result<Vec<String>> {
        let forgot = Told::cut_power(&self.path)?;
        let words = if forgot { "its power was cut: it shows again what it showed before" } else { "its power was cut" };
        Ok(vec![words.to_string()])
    }

    fn look_up_anew(&self) -> Result<SharedSource, SourceError> {
        let (state, number) = (&self.state, self.state.requests.load(Ordering::Relaxed));
        if state.link.drop_after_reads > 0 && number % state.turn() >= state.link.drop_after_reads {
            return Err(SourceError::Gone { name: state.identity.name.clone() });
        }
        let mut again = Self::open(&self.path, self.forced)?;
        let len = state.len_now(number);
        if len == state.identity.bytes {
            // One whose end was set meanwhile is not as it was.
            if again.len() == len {
                again.state = Arc::clone(state);
            }
        } else if let Some(state) = Arc::get_mut(&mut again.state) {
            state.identity.bytes = len;
        }
        Ok(Arc::new(again))
    }

    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        if !self.knows_holes {
            return (from.0 < self.len()).then(|| ByteRange::new(from, ByteOffset(self.len())));
        }
        let faults = self.state.faults.next_dead(from).filter(|range| range.start.0 < self.len());
        let end = ByteOffset(self.len());
        let stored = self.state.medium.next_data(from).map(|range| ByteRange::new(range.start, range.end.min(end)));
        let stored = stored.filter(|range| range.start < range.end);
        faults.into_iter().chain(stored).min_by_key(|range| range.start)
    }

    fn open_target(&self, leave: &Leave) -> Result<Box<dyn WriteTarget>, SourceError> {
        let (medium, identity) = (&self.state.medium, &self.state.identity);
        if !leave.is_for(identity) {
            return Err(SourceError::NoLeave { name: identity.name.clone() });
        }
        let lock = ExclusiveLock::take(std::slice::from_ref(&self.description), &identity.name)?;
        let mut parts: Vec<(ByteOffset, Box<dyn WriteTarget>)> = Vec::new();
        for (start, part) in &medium.parts {
            parts.push((*start, part.target()?));
        }
        let gaps = medium.unbacked();
        if !gaps.is_empty() {
            let opening = |source| SourceError::Open { path: medium.spill.clone(), source };
            let file = OpenOptions::new().write(true).create(true).truncate(false).open(&medium.spill).map_err(opening)?;
            let room = medium.room();
            file.set_len(room).map_err(opening)?;
            for gap in gaps {
                let target = FileTarget::open(&medium.spill, &file, room, None)?;
                parts.push((gap.start, Box::new(Shifted { inner: target, gap })));
            }
            medium.look_for_spill();
        }
        parts.sort_by_key(|(start, _)| *start);
        let store = SplitTarget { parts, len: identity.bytes };
        Ok(Box::new(SimulatedTarget { state: Arc::clone(&self.state), store, _lock: lock }))
    }
}

#[cfg(test)]
mod tests;
