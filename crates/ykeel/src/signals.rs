//! Signals that ask the program to end (SIGINT, SIGTERM, SIGHUP): work stops by itself where it looks at its flag; what writes to a drive
//! comes to its end or is put back; everything else is left within a second, with the terminal given back.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;
use std::time::Duration;

use keel_core::job::Cancel;

use crate::out::tell;
use crate::term;

/// How long work has to stop by itself.
const GRACE: Duration = Duration::from_millis(700);
/// How often it is asked whether a drive is still written.
const ASKED_EVERY: Duration = Duration::from_millis(20);
/// Exit code of what was cancelled.
const CANCELLED: i32 = 130;

/// The flag that the signals set, for the whole process.
pub(crate) fn asked() -> Cancel {
    static FLAG: OnceLock<Cancel> = OnceLock::new();
    FLAG.get_or_init(Cancel::default).clone()
}

/// Begins to listen; once, before anything else.
pub(crate) fn listen() {
    static HEARD: AtomicUsize = AtomicUsize::new(0);
    // Without a handler the system ends the program, which every file of ours survives.
    let _ = ctrlc::set_handler(|| {
        asked().cancel();
        if HEARD.fetch_add(1, Ordering::SeqCst) == 0 {
            let _ = thread::Builder::new().name("ending".into()).spawn(end);
        }
    });
}

/// Ends the program where it does not end by itself.
fn end() {
    thread::sleep(GRACE);
    while keel_source::is_writing() {
        thread::sleep(ASKED_EVERY);
    }
    term::give_back();
    tell!("ykeel: cancelled");
    std::process::exit(CANCELLED);
}
