//! Looking at every sector, at the speed of the source, on as many threads as help.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use keel_adrift::Starts;
use keel_format::clue::Clues;
use keel_format::table::TableReading;
use keel_source::{Budgeted, ByteOffset, ByteRange, Cancel, PageBuf, SharedSource};

use super::state::Keeper;
use super::{Find, SweepProgress, SweepState, infer, rate};
use crate::ground::Looks;
use crate::job::Desk;

/// Bytes read at once: the cancel flag is tested as often.
const CHUNK: usize = 1 << 20;
/// Bytes seen behind a chunk, so that a structure that begins in it is seen whole.
const BEHIND: usize = 4096;
/// Bytes after which a worker hands over what it saw: the state is updated as often.
const HAND_OVER: u64 = 8 << 20;
/// How often progress is told.
const TELL: Duration = Duration::from_millis(50);
/// How often finds are inferred anew while leads come in.
const INFER: Duration = Duration::from_millis(600);
/// How often starts of files are told while more are met.
const LIST: Duration = Duration::from_secs(2);
/// How often the state file is written.
const SAVE: Duration = Duration::from_secs(3);

struct Shared<'a> {
    source: &'a SharedSource,
    table: &'a TableReading,
    /// What is to be read, as it lies: whoever is free takes the next piece, so that a drive with heads is read from front to back.
    pieces: Mutex<Pieces<'a>>,
    stop: AtomicBool,
    cancel: &'a Cancel,
    /// What every worker looks with.
    looks: Looks,
    state: Mutex<(SweepState, ByteOffset)>,
}

/// Scans what of `ground` is left; answers with the finds that were told last. Holes are skipped.
pub(super) fn scan(
    (source, table): (&SharedSource, &TableReading),
    ground: &[ByteRange],
    state: &mut SweepState,
    keeper: &mut Keeper<'_>,
    desk: &Desk<SweepProgress>,
) -> Option<Vec<Find>> {
    let left = state.left(ground);
    let (stretches, holes) = stretches(source, &left);
    holes.into_iter().for_each(|hole| state.ground.see_hole(hole));
    let total: u64 = ground.iter().map(|range| range.len()).sum();
    let shared = Shared {
        source,
        table,
        pieces: Mutex::new(Pieces { stretches: &stretches, at: ByteOffset(0) }),
        stop: AtomicBool::new(false),
        cancel: desk.cancel(),
        looks: state.ground.looks(),
        state: Mutex::new((std::mem::take(state), ByteOffset(0))),
    };
    let workers = thread::available_parallelism().map_or(2, usize::from).clamp(1, 8);
    let told = thread::scope(|scope| {
        let threads: Vec<_> = (0..workers).map(|_| scope.spawn(|| work(&shared))).collect();
        let told = watch(&shared, &threads, total, keeper, desk);
        shared.stop.store(true, Ordering::Relaxed);
        told
    });
    let cancelled = desk.cancel().is_cancelled();
    let (mut scanned, _) = shared.state.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    if !cancelled {
        // Holes hold nothing: all of the ground counts as looked at.
        ground.iter().for_each(|range| scanned.done.add(*range));
    }
    scanned.clues.tidy();
    *state = scanned;
    // A drive that tells when it changes need not be read again while it does not.
    if cancelled || source.change_mark().is_some() {
        keeper.save(state);
    } else {
        keeper.forget();
    }
    told
}

/// The data of `ground`, and the holes between.
fn stretches(source: &SharedSource, ground: &[ByteRange]) -> (Vec<ByteRange>, Vec<ByteRange>) {
    let (mut stretches, mut holes) = (Vec::new(), Vec::new());
    for range in ground {
        let mut at = range.start;
        while at < range.end {
            let data = source.next_data(at).and_then(|data| data.overlap(*range));
            let hole = ByteRange::new(at, data.map_or(range.end, |data| data.start));
            holes.extend(Some(hole).filter(|hole| !hole.is_empty()));
            let Some(data) = data else { break };
            // Clues stand at multiples of 512 from the start of the drive.
            let start = ByteOffset(data.start.0 / 512 * 512).max(range.start);
            stretches.push(ByteRange::new(start, data.end));
            at = data.end;
        }
    }
    (stretches, holes)
}

/// What is left to read, ascending.
struct Pieces<'a> {
    stretches: &'a [ByteRange],
    /// Everything before it is taken.
    at: ByteOffset,
}

impl Iterator for Pieces<'_> {
    type Item = ByteRange;

    fn next(&mut self) -> Option<ByteRange> {
        let (first, rest) = self.stretches.split_first()?;
        let start = self.at.max(first.start);
        let end = first.end.min(start + CHUNK as u64);
        self.at = end;
        if end >= first.end {
            (self.stretches, self.at) = (rest, ByteOffset(0));
        }
        Some(ByteRange::new(start, end))
    }
}

/// What one worker saw and did not hand over yet.
struct Seen {
    clues: Clues,
    starts: Starts,
    bad: Vec<ByteRange>,
    looks: Looks,
    done: Vec<ByteRange>,
    bytes: u64,
}

impl Seen {
    fn nothing(shared: &Shared<'_>) -> Self {
        Self {
            clues: Clues::default(),
            starts: Starts::default(),
            bad: Vec::new(),
            looks: shared.looks.clone(),
            done: Vec::new(),
            bytes: 0,
        }
    }

    fn hand_over(self, shared: &Shared<'_>) {
        let Ok(mut state) = shared.state.lock() else { return };
        let (state, head) = &mut *state;
        state.clues.append(self.clues);
        state.starts.append(&self.starts);
        state.ground.add(&self.looks);
        self.bad.iter().for_each(|range| state.ground.fail(*range));
        state.bad.extend(self.bad);
        for range in self.done {
            state.done.add(range);
            *head = (*head).max(range.end);
        }
    }
}

fn work(shared: &Shared<'_>) {
    let mut buf = PageBuf::new(CHUNK + BEHIND);
    let mut seen = Seen::nothing(shared);
    while !shared.stop.load(Ordering::Relaxed) && !shared.cancel.is_cancelled() {
        let Some(chunk) = shared.pieces.lock().ok().and_then(|mut pieces| pieces.next()) else { break };
        let (at, len) = (chunk.start, usize::try_from(chunk.len()).unwrap_or(CHUNK));
        let behind = usize::try_from(ByteOffset(shared.source.len()) - chunk.end).unwrap_or(BEHIND).min(BEHIND);
        let piece = buf.get_mut(..len + behind).unwrap_or_default();
        match shared.source.read_at(at, piece) {
            Ok(()) => seen.looks.see(at, piece.get(..len).unwrap_or_default()),
            Err(error) => seen.bad.extend(error.bad.iter().filter_map(|range| range.overlap(chunk))),
        }
        seen.clues.look(at, piece, len);
        seen.starts.look(at, piece, len);
        seen.done.push(chunk);
        seen.bytes += chunk.len();
        if seen.bytes >= HAND_OVER {
            std::mem::replace(&mut seen, Seen::nothing(shared)).hand_over(shared);
        }
    }
    seen.hand_over(shared);
}

fn watch(
    shared: &Shared<'_>,
    threads: &[thread::ScopedJoinHandle<'_, ()>],
    total: u64,
    keeper: &mut Keeper<'_>,
    desk: &Desk<SweepProgress>,
) -> Option<Vec<Find>> {
    let watched = Budgeted::until(SharedSource::clone(shared.source), desk.cancel());
    let mut last = None;
    let begun = Instant::now();
    let before = shared.state.lock().map(|state| covered(&state.0)).unwrap_or(0);
    let (mut saved, mut inferred, mut told, mut listed) = (begun, begun, begun, begun);
    let (mut leads, mut starts_told) = (0, 0);
    loop {
        let finished = threads.iter().all(thread::ScopedJoinHandle::is_finished);
        if finished || desk.cancel().is_cancelled() {
            return last;
        }
        thread::sleep(Duration::from_millis(2));
        if told.elapsed() < TELL {
            continue;
        }
        told = Instant::now();
        let due = inferred.elapsed() > INFER;
        let save_due = keeper.keeps() && saved.elapsed() > SAVE;
        let Ok(state) = shared.state.lock() else { return last };
        let (done, head, bad) = (covered(&state.0), state.1, state.0.bad.clone());
        let ground = Arc::new(state.0.ground.clone());
        let snapshot = (due && state.0.clues.leads() != leads).then(|| state.0.clues.clone());
        let saving = save_due.then(|| state.0.clone());
        let more = listed.elapsed() > LIST && state.0.starts.count() > starts_told;
        let starts = more.then(|| Arc::new(state.0.starts.clone()));
        drop(state);
        let mut finds: Option<Vec<Find>> = None;
        if let Some(clues) = snapshot {
            leads = clues.leads();
            let found = infer(&watched, shared.table, &clues).0;
            if desk.cancel().is_cancelled() {
                return last;
            }
            last = Some(found);
            finds.clone_from(&last);
            inferred = Instant::now();
        }
        if let Some(starts) = &starts {
            (listed, starts_told) = (Instant::now(), starts.count());
        }
        let rate = rate(done.saturating_sub(before), begun);
        desk.tell(SweepProgress { done, total, head, rate, finds, bad, ground, starts });
        if let Some(state) = saving {
            keeper.save(&state);
            saved = Instant::now();
        }
    }
}

fn covered(state: &SweepState) -> u64 {
    state.done.bytes()
}
