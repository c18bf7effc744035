//! The writing half of a copy, on threads of its own: what was read is written and hashed while the next is read, and made
//! durable while more is written. The copy is durable before the log says so.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, Sender, bounded};
use keel_source::{ByteOffset, ByteRange, CopyLog, CopyState, RangeHash};

use crate::error::{CoreError, file_error};

/// What at most is read again after a power loss.
const FLUSH_BYTES: u64 = 256 << 20;
/// As above, in time: a sick drive delivers little.
const FLUSH_EVERY: Duration = Duration::from_secs(10);
/// The longest stretch under one hash: what rots is fetched again in such stretches.
const HASH_BYTES: u64 = 64 << 20;
/// Buffers under way between reading and writing.
const UNDER_WAY: usize = 8;

/// What the reading half hands over.
enum Order {
    /// Bytes that were read at `at`: the first `len` of the buffer.
    Data { at: ByteOffset, bytes: Vec<u8>, len: usize },
    /// A stretch that the drive knows to be a hole.
    Hole(ByteRange),
    /// What became known of a stretch.
    State(ByteRange, CopyState),
    /// Everything so far is to be durable before the answer.
    Flush(Sender<()>),
}

/// A line for the log.
type Noted = (ByteRange, CopyState, Option<RangeHash>);

/// The first thing that failed.
type Failure = Arc<Mutex<Option<CoreError>>>;

/// The reading half's side.
pub(super) struct Writer {
    orders: Option<Sender<Order>>,
    /// Buffers that can be used again.
    used: Receiver<Vec<u8>>,
    failure: Failure,
    threads: Vec<JoinHandle<()>>,
}

/// Where and how is written.
pub(super) struct Place {
    pub(super) file: Arc<File>,
    pub(super) path: PathBuf,
    /// True where zeros have to be written: on a device, and where a copy that goes on may hold something.
    pub(super) holds_something: bool,
    /// True for a device: holes are written as zeros.
    pub(super) device: bool,
}

impl Writer {
    /// Starts the threads.
    pub(super) fn start(place: Place, log: CopyLog) -> Self {
        let (orders, taken) = bounded(UNDER_WAY);
        let (give_back, used) = bounded(UNDER_WAY * 2);
        let (batches, batch) = bounded::<(Vec<Noted>, Option<Sender<()>>)>(1);
        let failure = Failure::default();
        let flusher = {
            let (file, path, failure) = (Arc::clone(&place.file), place.path.clone(), Arc::clone(&failure));
            thread::spawn(move || flush_all(&file, &path, log, &batch, &failure))
        };
        let writing = {
            let failure = Arc::clone(&failure);
            thread::spawn(move || Hand::new(place, batches, give_back).work(&taken, &failure))
        };
        Self { orders: Some(orders), used, failure, threads: vec![writing, flusher] }
    }

    /// Hands over what was read; a buffer for the next read comes back.
    pub(super) fn data(&self, at: ByteOffset, bytes: Vec<u8>, len: usize) -> Result<Vec<u8>, CoreError> {
        let room = bytes.len();
        self.send(Order::Data { at, bytes, len })?;
        Ok(self.used.try_recv().unwrap_or_else(|_| vec![0; room]))
    }

    pub(super) fn hole(&self, range: ByteRange) -> Result<(), CoreError> {
        self.send(Order::Hole(range))
    }

    pub(super) fn state(&self, range: ByteRange, state: CopyState) -> Result<(), CoreError> {
        self.send(Order::State(range, state))
    }

    /// Waits until everything so far is durable, and the log says so.
    pub(super) fn flush(&self) -> Result<(), CoreError> {
        let (done, answer) = bounded(1);
        self.send(Order::Flush(done))?;
        let _ = answer.recv();
        self.check()
    }

    fn send(&self, order: Order) -> Result<(), CoreError> {
        self.check()?;
        let gone = CoreError::Nothing("the copy cannot be written any more");
        self.orders
            .as_ref()
            .map_or(Err(gone), |orders| orders.send(order).map_err(|_| CoreError::Nothing("the copy cannot be written any more")))
    }

    fn check(&self) -> Result<(), CoreError> {
        let failed = self.failure.lock().ok().and_then(|mut failure| failure.take());
        failed.map_or(Ok(()), Err)
    }

    /// Ends the threads.
    pub(super) fn end(mut self) -> Result<(), CoreError> {
        self.join();
        self.check()
    }

    fn join(&mut self) {
        self.orders = None;
        for thread in self.threads.drain(..) {
            let _ = thread.join();
        }
    }
}

impl Drop for Writer {
    fn drop(&mut self) {
        self.join();
    }
}

fn fail(failure: &Failure, error: CoreError) {
    if let Ok(mut slot) = failure.lock() {
        slot.get_or_insert(error);
    }
}

/// Makes batches durable: the copy, then the log.
fn flush_all(
    file: &File,
    path: &std::path::Path,
    mut log: CopyLog,
    batches: &Receiver<(Vec<Noted>, Option<Sender<()>>)>,
    failure: &Failure,
) {
    let mut sound = true;
    while let Ok((noted, done)) = batches.recv() {
        if sound {
            let flushed = file.sync_data().map_err(file_error("flush", path)).and_then(|()| {
                noted.into_iter().for_each(|(range, state, hash)| log.note(range, state, hash));
                Ok(log.flush()?)
            });
            if let Err(error) = flushed {
                sound = false;
                fail(failure, error);
            }
        }
        if let Some(done) = done {
            let _ = done.send(());
        }
    }
}

/// The thread that writes and hashes.
struct Hand {
    place: Place,
    batches: Sender<(Vec<Noted>, Option<Sender<()>>)>,
    give_back: Sender<Vec<u8>>,
    noted: Vec<Noted>,
    /// The stretch that is being hashed.
    run: Option<(ByteRange, Box<blake3::Hasher>)>,
    bytes: u64,
    flushed: Instant,
}

impl Hand {
    fn new(place: Place, batches: Sender<(Vec<Noted>, Option<Sender<()>>)>, give_back: Sender<Vec<u8>>) -> Self {
        Self { place, batches, give_back, noted: Vec::new(), run: None, bytes: 0, flushed: Instant::now() }
    }

    fn work(mut self, orders: &Receiver<Order>, failure: &Failure) {
        let mut sound = true;
        while let Ok(order) = orders.recv() {
            let done = match order {
                Order::Data { at, bytes, len } => {
                    let written = if sound { self.data(at, bytes.get(..len).unwrap_or_default()) } else { Ok(()) };
                    let _ = self.give_back.try_send(bytes);
                    written
                }
                Order::Hole(range) if sound => self.hole(range),
                Order::State(range, state) if sound => {
                    self.note(range, state, None);
                    Ok(())
                }
                Order::Flush(done) => {
                    self.hand_on(Some(done));
                    Ok(())
                }
                _ => Ok(()),
            };
            if let Err(error) = done {
                sound = false;
                fail(failure, error);
            }
            if self.bytes >= FLUSH_BYTES || self.flushed.elapsed() >= FLUSH_EVERY {
                self.hand_on(None);
            }
        }
        self.hand_on(None);
    }

    fn write(&self, at: ByteOffset, bytes: &[u8]) -> Result<(), CoreError> {
        self.place.file.write_all_at(bytes, at.0).map_err(file_error("write", &self.place.path))
    }

    /// Writes what was read. Zeros stay a hole where nothing stands.
    fn data(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), CoreError> {
        let zeros = bytes.iter().all(|byte| *byte == 0);
        if !zeros || self.place.device || (self.place.holds_something && self.something_at(at, bytes.len())) {
            self.write(at, bytes)?;
        }
        let range = ByteRange::sized(at, bytes.len() as u64);
        self.bytes += range.len();
        match &mut self.run {
            Some((run, hasher)) if run.end == at && run.len() < HASH_BYTES => {
                hasher.update(bytes);
                run.end = range.end;
            }
            _ => {
                self.close_run();
                let mut hasher = Box::new(blake3::Hasher::new());
                hasher.update(bytes);
                self.run = Some((range, hasher));
            }
        }
        Ok(())
    }

    fn hole(&mut self, range: ByteRange) -> Result<(), CoreError> {
        if self.place.device || self.place.holds_something {
            let zeros = vec![0; HASH_BYTES.min(1 << 20) as usize];
            let mut at = range.start;
            while at < range.end {
                let len = usize::try_from(range.end - at).unwrap_or(zeros.len()).min(zeros.len());
                if self.place.device || self.something_at(at, len) {
                    self.write(at, zeros.get(..len).unwrap_or_default())?;
                }
                at = at + len as u64;
            }
        }
        self.note(range, CopyState::Copied, Some(RangeHash::Zeros));
        Ok(())
    }

    /// Whether something stands at `at`: what was written when the power failed.
    fn something_at(&self, at: ByteOffset, len: usize) -> bool {
        let mut there = vec![0; len];
        self.place.file.read_exact_at(&mut there, at.0).is_err() || there.iter().any(|byte| *byte != 0)
    }

    fn close_run(&mut self) {
        if let Some((range, hasher)) = self.run.take() {
            let hash = RangeHash::Blake3(*hasher.finalize().as_bytes());
            self.noted.push((range, CopyState::Copied, Some(hash)));
        }
    }

    fn note(&mut self, range: ByteRange, state: CopyState, hash: Option<RangeHash>) {
        self.close_run();
        match self.noted.last_mut() {
            Some((last, as_well, own)) if *as_well == state && *own == hash && hash.is_none() && last.end == range.start => {
                last.end = range.end;
            }
            _ => self.noted.push((range, state, hash)),
        }
    }

    /// Hands what is known to be made durable.
    fn hand_on(&mut self, done: Option<Sender<()>>) {
        self.close_run();
        let noted = std::mem::take(&mut self.noted);
        let _ = self.batches.send((noted, done));
        (self.bytes, self.flushed) = (0, Instant::now());
    }
}
