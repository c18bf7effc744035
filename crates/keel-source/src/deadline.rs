//! Requests with a deadline: a drive that does not answer must not hold whoever asks.

use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use crate::{ByteOffset, ByteRange, PageBuf, ReadCause, ReadError};

/// How a request is asked; the thread that waits for the drive owns it.
pub(crate) type Ask = Box<dyn Fn(ByteOffset, &mut [u8]) -> Result<(), ReadError> + Send>;

/// What is tried on a drive that does not answer: the first, the second thing, and so on, as often as it does not; false when there is
/// nothing more.
pub(crate) type Rouse = Arc<dyn Fn(u32) -> bool + Send + Sync>;

/// A request: where, and the memory whose first so many bytes are to be filled.
type Order = (ByteOffset, usize, PageBuf);
type Answer = (PageBuf, Result<(), ReadError>);

/// Requests to one drive, one after the other, each answered in time.
pub(crate) struct Timely {
    limit: Duration,
    rouse: Option<Rouse>,
    lane: Mutex<Lane>,
}

struct Lane {
    /// How often it was tried to rouse the drive since it answered last.
    tried: u32,
    orders: Sender<Order>,
    answers: Receiver<Answer>,
    /// Since when the last request is out.
    out_since: Option<Instant>,
    spare: Option<PageBuf>,
}

impl Timely {
    /// Requests by `ask`, each answered within `limit`. The thread ends when this is dropped, and the drive answered.
    /// A drive that does not answer in time is tried to be roused, where there is a way.
    pub(crate) fn new(ask: Ask, limit: Duration, rouse: Option<Rouse>) -> Self {
        let (orders, taken) = channel::<Order>();
        let (answer, answers) = channel::<Answer>();
        thread::spawn(move || {
            for (at, len, mut memory) in taken {
                let read = ask(at, memory.get_mut(..len).unwrap_or_default());
                if answer.send((memory, read)).is_err() {
                    break;
                }
            }
        });
        Self { limit, rouse, lane: Mutex::new(Lane { tried: 0, orders, answers, out_since: None, spare: None }) }
    }

    /// Fills `buf` from byte `at` on.
    ///
    /// # Errors
    /// What asking says; an error of the whole range when the drive did not answer in time. What is asked while it still does not
    /// answer waits as long again, and then finds the link lost: nothing was asked of it.
    pub(crate) fn read(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let wanted = ByteRange::sized(at, buf.len() as u64);
        let gone = |reason: String| Err(ReadError::of(wanted, reason).because(ReadCause::LinkLost));
        let Ok(mut lane) = self.lane.lock() else { return gone("the thread that asks the drive ended".into()) };
        if let Some(since) = lane.out_since {
            match lane.answers.recv_timeout(self.limit) {
                // Too late for whoever asked for it.
                Ok((memory, _)) => (lane.out_since, lane.spare) = (None, Some(memory)),
                Err(_) => {
                    self.rouse(&mut lane);
                    return gone(format!("the drive has not answered for {} s", since.elapsed().as_secs()));
                }
            }
        }
        let memory = lane.spare.take().filter(|memory| memory.len() >= buf.len()).unwrap_or_else(|| PageBuf::new(buf.len()));
        if lane.orders.send((at, buf.len(), memory)).is_err() {
            return gone("the thread that asks the drive ended".into());
        }
        match lane.answers.recv_timeout(self.limit) {
            Ok((memory, read)) => {
                buf.copy_from_slice(memory.get(..buf.len()).unwrap_or_default());
                (lane.spare, lane.tried) = (Some(memory), 0);
                read
            }
            Err(RecvTimeoutError::Timeout) => {
                lane.out_since = Some(Instant::now());
                self.rouse(&mut lane);
                Err(ReadError::of(wanted, format!("no answer within {} s", self.limit.as_secs_f32())))
            }
            Err(RecvTimeoutError::Disconnected) => gone("the thread that asks the drive ended".into()),
        }
    }
}

impl Timely {
    /// Tries the next thing, on a thread of its own: the system may hold it as it holds the request.
    fn rouse(&self, lane: &mut Lane) {
        let Some(rouse) = self.rouse.clone() else { return };
        let turn = lane.tried;
        lane.tried += 1;
        thread::spawn(move || rouse(turn));
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU32, Ordering};

    use super::*;

    #[test]
    fn a_drive_that_hangs_is_not_waited_for_and_serves_again_when_it_answers() {
        let asked = Arc::new(AtomicU32::new(0));
        let (hold, held) = channel::<()>();
        let held = Mutex::new(held);
        let counted = Arc::clone(&asked);
        let ask: Ask = Box::new(move |at, buf| {
            counted.fetch_add(1, Ordering::SeqCst);
            if at.0 == 4096 {
                held.lock().unwrap().recv().unwrap();
            }
            buf.fill(at.0 as u8 + 1);
            Ok(())
        });
        let turns = Arc::new(Mutex::new(Vec::new()));
        let noted = Arc::clone(&turns);
        let rouse: Rouse = Arc::new(move |turn| {
            noted.lock().unwrap().push(turn);
            turn < 1
        });
        let timely = Timely::new(ask, Duration::from_millis(40), Some(rouse));
        let mut buf = [0; 512];
        timely.read(ByteOffset(5), &mut buf).unwrap();
        assert_eq!(buf, [6; 512]);
        let error = timely.read(ByteOffset(4096), &mut buf).unwrap_err();
        assert_eq!((error.cause, error.bad), (ReadCause::Medium, vec![ByteRange::sized(ByteOffset(4096), 512)]));
        let error = timely.read(ByteOffset(7), &mut buf).unwrap_err();
        assert_eq!(error.cause, ReadCause::LinkLost, "it is waited for, and not called a bad place: {error}");
        assert_eq!(asked.load(Ordering::SeqCst), 2, "nothing is asked of a drive that hangs");
        hold.send(()).unwrap();
        timely.read(ByteOffset(9), &mut buf[..100]).unwrap();
        assert_eq!(buf[..100], [10; 100], "its own bytes, not those that came too late");
        timely.read(ByteOffset(8), &mut buf).unwrap();
        assert_eq!(buf, [9; 512]);
        let begun = Instant::now();
        while turns.lock().unwrap().len() < 2 && begun.elapsed() < Duration::from_secs(5) {
            thread::sleep(Duration::from_millis(5));
        }
        let mut turns = turns.lock().unwrap().clone();
        turns.sort_unstable();
        assert_eq!(turns, [0, 1], "the next thing each time, and from the first again once it answered");
    }
}
