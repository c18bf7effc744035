//! A drive that may be pulled and put back: reads wait for it, under whatever name it comes back.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, RwLock};
use std::thread;
use std::time::{Duration, Instant};

use crate::hand_on::hand_on;
use crate::{
    Budget, ByteOffset, ByteRange, Identity, Leave, ReadCause, ReadError, SharedSource, Source, SourceError, WriteTarget,
};

/// How often it is looked for.
const LOOKED_EVERY: Duration = Duration::from_millis(250);

/// A drive whose reads wait for it while it is off the link. Requests that are asked once ([`Source::read_once`]) do not wait: who asks
/// so looks after the link itself.
pub struct Returning {
    /// The drive as it was when it was opened.
    first: SharedSource,
    now: RwLock<SharedSource>,
    wait: Duration,
    /// It was waited for in vain: until it answers again, nobody waits for it any more.
    given_up: AtomicBool,
}

impl Returning {
    /// `source`, waited for as long as `wait` each time it is gone.
    #[must_use]
    pub fn new(source: SharedSource, wait: Duration) -> Self {
        Self { now: RwLock::new(Arc::clone(&source)), first: source, wait, given_up: AtomicBool::new(false) }
    }

    fn now(&self) -> SharedSource {
        self.now.read().map_or_else(|_| Arc::clone(&self.first), |now| Arc::clone(&now))
    }

    /// The drive when it is there again and the same: `gone` is what does not answer any more.
    fn found_again(&self, gone: &SharedSource) -> Option<SharedSource> {
        let now = self.now();
        // Another thread was quicker.
        if !Arc::ptr_eq(&now, gone) {
            return Some(now);
        }
        let found = gone.look_up_anew().ok()?;
        let is_same = found.identity().key() == self.first.identity().key() && found.len() == self.first.len();
        let mut sector = vec![0u8; usize::try_from(found.sector_size().bytes()).unwrap_or(512)];
        let read = if is_same { found.read_at(ByteOffset(0), &mut sector) } else { return None };
        if read.is_err_and(|error| error.cause == ReadCause::LinkLost) {
            return None;
        }
        if let Ok(mut now) = self.now.write() {
            *now = Arc::clone(&found);
        }
        Some(found)
    }
}

impl Source for Returning {
    fn identity(&self) -> &Identity {
        self.first.identity()
    }

    fn len(&self) -> u64 {
        self.first.len()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let mut source = self.now();
        let mut begun = None;
        loop {
            let read = source.read_at(at, buf);
            // One that never had a byte has nothing to come back with.
            if self.first.is_empty() || !read.as_ref().is_err_and(|error| error.cause == ReadCause::LinkLost) {
                self.given_up.store(false, Ordering::Relaxed);
                return read;
            }
            let begun = *begun.get_or_insert_with(Instant::now);
            match self.found_again(&source) {
                Some(found) => source = found,
                None if self.given_up.load(Ordering::Relaxed) => return read,
                None if begun.elapsed() >= self.wait => {
                    self.given_up.store(true, Ordering::Relaxed);
                    return read;
                }
                None => thread::sleep(LOOKED_EVERY),
            }
        }
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.now().read_once(at, buf)
    }

    fn missing(&self) -> &[ByteRange] {
        self.first.missing()
    }

    fn elapsed(&self) -> Option<Duration> {
        self.now().elapsed()
    }

    hand_on!(self, self.now());

    fn look_up_anew(&self) -> Result<SharedSource, SourceError> {
        let gone = self.now();
        let found = gone.look_up_anew()?;
        let is_same = found.identity().key() == self.first.identity().key() && found.len() == self.first.len();
        if is_same && let Ok(mut now) = self.now.write() {
            *now = Arc::clone(&found);
        }
        Ok(found)
    }

    fn next_data(&self, from: ByteOffset) -> Option<ByteRange> {
        self.now().next_data(from)
    }

    fn budget(&self) -> Option<&Budget> {
        self.first.budget()
    }

    fn change_mark(&self) -> Option<String> {
        self.now().change_mark()
    }

    fn open_target(&self, leave: &Leave) -> Result<Box<dyn WriteTarget>, SourceError> {
        self.now().open_target(leave)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::AtomicU32;

    use super::*;
    use crate::MemorySource;

    /// Off the link from its second read on; found again, as `next`, at the third look.
    struct Pulled {
        below: MemorySource,
        reads: AtomicU32,
        looks: AtomicU32,
        next: SharedSource,
    }

    impl Source for Pulled {
        fn identity(&self) -> &Identity {
            self.below.identity()
        }

        fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
            match self.reads.fetch_add(1, Ordering::SeqCst) {
                0 => self.below.read_at(at, buf),
                _ => Err(ReadError::of(ByteRange::sized(at, buf.len() as u64), "gone").because(ReadCause::LinkLost)),
            }
        }

        fn look_up_anew(&self) -> Result<SharedSource, SourceError> {
            match self.looks.fetch_add(1, Ordering::SeqCst) {
                0 | 1 => Err(SourceError::Gone { name: "quay".into() }),
                _ => Ok(Arc::clone(&self.next)),
            }
        }
    }

    fn drive(byte: u8, len: usize) -> MemorySource {
        MemorySource::new("quay", vec![byte; len], 512)
    }

    fn pulled(next: SharedSource) -> SharedSource {
        Arc::new(Pulled { below: drive(1, 4096), reads: AtomicU32::new(0), looks: AtomicU32::new(0), next })
    }

    #[test]
    fn a_read_waits_for_the_drive_and_goes_on_with_it() {
        let returning = Returning::new(pulled(Arc::new(drive(2, 4096))), Duration::from_secs(60));
        let mut buf = [0; 512];
        returning.read_at(ByteOffset(0), &mut buf).unwrap();
        assert_eq!(buf, [1; 512]);
        let error = returning.read_once(ByteOffset(0), &mut buf).unwrap_err();
        assert_eq!(error.cause, ReadCause::LinkLost, "who asks once is told at once");
        returning.read_at(ByteOffset(512), &mut buf).unwrap();
        assert_eq!(buf, [2; 512], "from what came back");
        returning.read_once(ByteOffset(512), &mut buf).unwrap();
    }

    #[test]
    fn another_drive_is_not_taken_for_it_and_waiting_ends() {
        let returning = Returning::new(pulled(Arc::new(drive(2, 8192))), Duration::from_millis(900));
        let mut buf = [0; 512];
        returning.read_at(ByteOffset(0), &mut buf).unwrap();
        let begun = Instant::now();
        assert_eq!(returning.read_at(ByteOffset(0), &mut buf).unwrap_err().cause, ReadCause::LinkLost);
        assert!(begun.elapsed() >= Duration::from_millis(900));
        let again = Instant::now();
        assert!(returning.read_at(ByteOffset(0), &mut buf).is_err());
        assert!(again.elapsed() < Duration::from_millis(500), "it is not waited for by every read anew");
    }
}
