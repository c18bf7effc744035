//! `cargo xtask bench --keys`: how soon a key is answered while each job of the screens runs on a slow drive, in the real interface.

use std::fs;
use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::ensure;

use crate::guest::{root, run};
use crate::setup;
use crate::tmux::Session;

/// Keys that are pressed while a job runs.
const KEYS: usize = 20;
/// What a key may take: 50 ms are to hold.
const HOLD: Duration = Duration::from_millis(50);
/// Longest wait for a job that came before.
const LONGEST_JOB: Duration = Duration::from_secs(120);
/// Longest wait for an answer at all.
const GIVEN_UP: Duration = Duration::from_secs(20);

/// A job, and how it is set off.
const JOBS: &[(&str, &[&str])] = &[
    ("opening, rungs of the drive", &[]),
    ("settling of the layout", &["5", "d"]),
    ("structures and check", &["6", "n"]),
    ("a folder of a volume", &["5", "Enter"]),
    ("ladder of the plan", &["8"]),
    ("comparison of two finds", &["5", "V"]),
    ("report", &["P", "Enter"]),
    ("sweep of the surface", &["5", "S"]),
    ("reading of the surface", &["2", "R"]),
    ("copy", &["3", "C", "Enter"]),
];

/// Prints the table.
pub(crate) fn run_all() -> anyhow::Result<()> {
    setup::install(setup::PACKAGES)?;
    run("cargo", &["build", "--release", "--quiet", "--workspace"])?;
    let work = root().join("target/bench-keys");
    let _ = fs::remove_dir_all(&work);
    fs::create_dir_all(&work)?;
    let ykeel = root().join("target/release/ykeel");
    run(&ykeel.to_string_lossy(), &["demo", "--dir", &work.join("yard").to_string_lossy(), "--no-screens"])?;
    // The purser's stick, which answers a request in 60 ms.
    fs::write(
        work.join("slow.drive.toml"),
        "version = 1\nclaimed_bytes = 15931539456\nidentity = { model = \"Brackwater Slow 16\", serial = \"BL-SLOW\" }\n\
         backing = [{ file = \"yard/purser-stick.img\" }]\nclock = { read_us = 30000, bytes_per_second = 20000000, waits = true }\n",
    )?;
    let command = format!("YKEEL_STATE={} {} slow.drive.toml", work.join("state").display(), ykeel.display());
    let screen = Session::start(&format!("ykeel-keys-{}", std::process::id()), 160, 45, Path::new(&work), &command);
    screen.wait_for("YELLOW KEEL");
    // What asking for the screen costs by itself.
    let idle = (0..KEYS).map(|_| timed(|| drop(screen.screen()))).max().unwrap_or_default();
    println!("{:<32}{:>8}{:>12}{:>12}   it ran", "while this runs", "keys", "slowest", "median");
    let mut worst = Duration::ZERO;
    for (name, keys) in JOBS {
        if !keys.is_empty() {
            screen.keys(&["Escape", "x"]);
            let began = Instant::now();
            while !is_idle(&screen) && began.elapsed() < LONGEST_JOB {
                std::thread::sleep(Duration::from_millis(100));
            }
            // Whatever was said of the stop is read.
            screen.keys(&["Escape"]);
        }
        screen.keys(keys);
        let running = keys.is_empty() || !is_idle(&screen);
        let mut times: Vec<Duration> = (0..KEYS / 2).map(|_| answers(&screen)).collect::<anyhow::Result<Vec<_>>>()?.concat();
        let to_the_end = !is_idle(&screen);
        times.sort();
        let (slowest, median) = (times.last().copied().unwrap_or_default(), times[times.len() / 2]);
        worst = worst.max(slowest);
        let when = if to_the_end { "all the time" } else { ["had ended", "at first"][usize::from(running)] };
        println!("{name:<32}{:>8}{:>9} ms{:>9} ms   {when}", times.len(), slowest.as_millis(), median.as_millis());
        if keys.is_empty() {
            let began = Instant::now();
            while !is_idle(&screen) && began.elapsed() < LONGEST_JOB {
                std::thread::sleep(Duration::from_millis(100));
            }
        }
    }
    println!("asking for the screen alone: {} ms at most", idle.as_millis());
    screen.keys(&["x", "q"]);
    ensure!(worst < HOLD + idle, "a key took {} ms", worst.as_millis());
    Ok(())
}

/// True when the foot says that nothing runs, or tells something that is read first.
fn is_idle(screen: &Session) -> bool {
    screen.screen().lines().rev().find(|line| !line.trim().is_empty()).is_some_and(|foot| foot.starts_with(" idle"))
}

fn timed(work: impl FnOnce()) -> Duration {
    let began = Instant::now();
    work();
    began.elapsed()
}

/// Opens the list of commands and leaves it: the time of both keys.
fn answers(screen: &Session) -> anyhow::Result<Vec<Duration>> {
    let press = |key: &str, shown: bool| -> anyhow::Result<Duration> {
        let began = Instant::now();
        screen.tmux(&["send-keys", key]);
        while screen.screen().contains("search: ") != shown {
            ensure!(began.elapsed() < GIVEN_UP, "{key} was not answered");
        }
        Ok(began.elapsed())
    };
    Ok(vec![press(":", true)?, press("Escape", false)?])
}
