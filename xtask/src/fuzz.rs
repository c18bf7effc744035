//! `cargo xtask fuzz`: damaged drives and files of our own, let loose on everything that reads. Seeded and resumable: a case is its
//! seed and its number, and what was done is kept beside the seeds.

#[path = "../../crates/keel-core/tests/cases/support/mod.rs"]
mod support;

#[path = "../../crates/keel-core/tests/cases/support/fuzz.rs"]
mod cases;
#[path = "../../crates/keel-core/tests/cases/support/seeds.rs"]
mod seeds;

use std::fs::{self, File};
use std::io::{BufRead, BufReader, Write};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::{Duration, Instant};

use anyhow::{Context, bail, ensure};
use keel_source::pack;

use crate::guest::{root, run};
use crate::setup;

/// A case that takes more of a processor's time hangs.
const LONGEST: Duration = Duration::from_secs(10);
/// One that takes longer by the clock as well, on a machine that has other things to do.
const LONGEST_WAIT: Duration = Duration::from_secs(120);
/// A case that takes more memory is told, in KiB.
const MOST_MEMORY: u64 = 200 << 10;
/// The profile of what is let loose: as fast as a release, with its arithmetic checked.
const PROFILE: &str = "checked";
/// Cases of a run where no number is given.
const COUNT: u64 = 200_000;

/// Drives of the demo among the seeds: kinds that the formatters here do not make, and what is harmed already.
const PACKED: &[&str] = &[
    "backup-shelf",
    "deck-camera",
    "deck-recorder",
    "deckhand-laptop",
    "dry-dock",
    "fleet-register",
    "skipper-archive",
    "skipper-mirror",
    "winch-room",
];
/// Descriptions of simulated drives among the seeds.
const DESCRIBED: &[&str] = &["gangway", "mess-room"];

/// One case in so many is put to whole commands of the program instead of to the readers in the worker.
const COMMANDS_EVERY: u64 = 40;
/// What is asked of such a drive: each of these, with its image (`IMAGE`) and a folder of its own (`OUT`).
const ASKED: &[&[&str]] = &[
    &["extract", "IMAGE", "--volume", "n1", "--to", "OUT"],
    &["report", "IMAGE", "--out", "OUT.pdf"],
    &["report", "IMAGE", "--out", "OUT.svg"],
    &["sweep", "IMAGE", "--reach", "surface", "--json"],
    &["ladder", "IMAGE"],
    &["files", "IMAGE", "--volume", "n1", "--recursive", "--deleted", "--json"],
    &["mend", "IMAGE", "--apply", "--yes", "--bundle", "OUT.ykundo"],
    &["check", "IMAGE"],
    &["structures", "IMAGE", "--volume", "n1"],
    &["structures", "IMAGE", "--volume", "table"],
    &["reads", "IMAGE"],
    &["bytes", "IMAGE", "lba 2048", "--whose", "--json"],
    &["bytes", "IMAGE", "0", "--find", "brackwater", "--whose"],
    &["bytes", "IMAGE", "100%", "--find", "hex: 55aa", "--back"],
    &["copy", "IMAGE", "OUT.copy", "--log", "OUT.log"],
];
/// Commands that one such case runs.
const ASKED_AT_ONCE: u64 = 3;

/// What a run came to.
#[derive(Debug, Default)]
struct Tally {
    done: u64,
    panics: u64,
    hangs: u64,
    heavy: u64,
    slowest: (u64, u64),
    heaviest: (u64, u64),
}

/// Runs cases 0 to `--count` of `--seed`, those that an earlier run did not reach; two at a time.
pub(crate) fn run_all(arguments: &[String]) -> anyhow::Result<()> {
    let number = |name: &str, default: u64| -> anyhow::Result<u64> {
        let given = arguments.iter().find_map(|word| word.strip_prefix(name)?.strip_prefix('='));
        given.map_or(Ok(default), |text| text.parse().with_context(|| format!("{name} wants a number")))
    };
    let (count, seed) = (number("--count", COUNT)?, number("--seed", 1)?);
    setup::install(setup::PACKAGES)?;
    run("cargo", &["build", "--profile", PROFILE, "--quiet", "--workspace"])?;
    let work = root().join("target/fuzz");
    prepare(&work)?;
    let program = built("xtask");
    let lanes = std::thread::available_parallelism().map_or(2, |lanes| lanes.get() as u64);
    let tallies: Vec<anyhow::Result<Tally>> = std::thread::scope(|scope| {
        let lane = |lane: u64| {
            let (work, program) = (&work, &program);
            scope.spawn(move || watch(program, work, seed, (lane, lanes), count))
        };
        let running: Vec<_> = (0..lanes).map(lane).collect();
        running.into_iter().map(|lane| lane.join().unwrap_or_else(|_| bail!("a lane died"))).collect()
    });
    let mut all = Tally::default();
    for tally in tallies {
        let tally = tally?;
        all.done += tally.done;
        all.panics += tally.panics;
        all.hangs += tally.hangs;
        all.heavy += tally.heavy;
        all.slowest = all.slowest.max(tally.slowest);
        all.heaviest = all.heaviest.max(tally.heaviest);
    }
    println!("cases {}, panics {}, hangs over 10 s {}, over 200 MiB {}", all.done, all.panics, all.hangs, all.heavy);
    println!(
        "slowest {} ms (case {}), peak {} MiB (case {})",
        all.slowest.0,
        all.slowest.1,
        all.heaviest.0 >> 10,
        all.heaviest.1
    );
    ensure!(all.panics + all.hangs + all.heavy == 0, "see {}", work.join("failures.txt").display());
    Ok(())
}

/// A program of the profile that what reads is let loose in.
fn built(name: &str) -> PathBuf {
    root().join("target").join(PROFILE).join(name)
}

/// Makes the seeds where they are not there yet.
fn prepare(work: &Path) -> anyhow::Result<()> {
    let folder = work.join("seeds");
    if folder.join("made").exists() {
        return Ok(());
    }
    let _ = fs::remove_dir_all(&folder);
    let _ = fs::remove_file(work.join("own.copy"));
    seeds::make(&folder);
    for name in PACKED {
        let packed = fs::read(root().join(format!("demo/{name}.pack")))?;
        pack::unpack(&mut packed.as_slice(), &folder.join(format!("demo-{name}.img")))?;
    }
    for name in DESCRIBED {
        fs::copy(root().join(format!("demo/{name}.drive.toml")), folder.join(format!("{name}.drive.toml")))?;
    }
    own_files(work, &folder)?;
    File::create(folder.join("made"))?;
    Ok(())
}

/// Files of our own, written by the program itself.
fn own_files(work: &Path, folder: &Path) -> anyhow::Result<()> {
    let image = work.join("own.img");
    fs::copy(folder.join("gpt.img"), &image)?;
    let file = File::options().write(true).open(&image)?;
    std::os::unix::fs::FileExt::write_all_at(&file, &[0; 512], 0)?;
    let ykeel = |arguments: &[&str]| -> anyhow::Result<()> {
        let output =
            Command::new(built("ykeel")).args(arguments).current_dir(work).env("YKEEL_STATE", work.join("state")).output()?;
        ensure!(output.status.success(), "ykeel {}: {}", arguments.join(" "), String::from_utf8_lossy(&output.stderr));
        Ok(())
    };
    ykeel(&["mend", "own.img", "--apply", "--yes", "--bundle", "seeds/own.ykundo"])?;
    ykeel(&["copy", "own.img", "own.copy", "--log", "seeds/own.log"])
}

/// Drives one lane of cases: starts its worker, and another one after a case that took it down.
fn watch(program: &Path, work: &Path, seed: u64, (lane, lanes): (u64, u64), count: u64) -> anyhow::Result<Tally> {
    let done = work.join(format!("done-{seed}-{lane}-of-{lanes}.txt"));
    let mut tally = Tally::default();
    let mut next = lane;
    for line in fs::read_to_string(&done).unwrap_or_default().lines() {
        let numbers: Vec<u64> = line.split_whitespace().filter_map(|word| word.parse().ok()).collect();
        if let [number, millis, memory] = numbers[..] {
            tally.note(number, millis, memory);
            next = number + lanes;
        }
    }
    let mut log = File::options().create(true).append(true).open(&done)?;
    let mut failures = File::options().create(true).append(true).open(work.join("failures.txt"))?;
    while next < count {
        let (mut worker, lines) = start(program, work, seed, next, lanes, count)?;
        let (mut began, mut spent) = (Instant::now(), Duration::ZERO);
        loop {
            match lines.recv_timeout(Duration::from_secs(1)) {
                Ok(line) => match line.split_whitespace().collect::<Vec<_>>()[..] {
                    ["begin", number, ..] => (next, began, spent) = (number.parse()?, Instant::now(), busy(worker.id())),
                    ["end", number, millis, memory, name] => {
                        writeln!(log, "{number} {millis} {memory} {name}")?;
                        tally.note(number.parse()?, millis.parse()?, memory.parse()?);
                        if memory.parse::<u64>()? > MOST_MEMORY {
                            writeln!(failures, "seed {seed} case {number}: {memory} KiB")?;
                        }
                        next = number.parse::<u64>()? + lanes;
                        (began, spent) = (Instant::now(), busy(worker.id()));
                    }
                    _ => {
                        tally.panics += u64::from(line.starts_with("panic"));
                        writeln!(failures, "seed {seed} case {next}: {line}")?;
                    }
                },
                Err(RecvTimeoutError::Timeout) if began.elapsed() < LONGEST_WAIT && busy(worker.id()) - spent < LONGEST => {}
                Err(RecvTimeoutError::Timeout) => {
                    tally.hangs += 1;
                    tally.done += 1;
                    writeln!(failures, "seed {seed} case {next}: hangs")?;
                    writeln!(log, "{next} {} 0", LONGEST.as_millis())?;
                    next += lanes;
                    break;
                }
                Err(RecvTimeoutError::Disconnected) => {
                    if next < count {
                        tally.panics += 1;
                        writeln!(failures, "seed {seed} case {next}: took the worker down")?;
                        next += lanes;
                    }
                    break;
                }
            }
        }
        let _ = worker.kill();
        let _ = worker.wait();
    }
    Ok(tally)
}

/// Processor time that a process has taken.
fn busy(process: u32) -> Duration {
    const TICKS_A_SECOND: u64 = 100;
    let stat = fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    // The name of the program stands in parentheses and may hold spaces; user and system time are the 14th and 15th field.
    let fields = stat.rsplit(')').next().unwrap_or_default().split_whitespace();
    let ticks: u64 = fields.skip(11).take(2).filter_map(|field| field.parse::<u64>().ok()).sum();
    Duration::from_millis(ticks * 1000 / TICKS_A_SECOND)
}

impl Tally {
    fn note(&mut self, number: u64, millis: u64, memory: u64) {
        self.done += 1;
        self.heavy += u64::from(memory > MOST_MEMORY);
        self.slowest = self.slowest.max((millis, number));
        self.heaviest = self.heaviest.max((memory, number));
    }
}

fn start(program: &Path, work: &Path, seed: u64, from: u64, step: u64, to: u64) -> anyhow::Result<(Child, Receiver<String>)> {
    let numbers = [seed, from, step, to].map(|number| number.to_string());
    let mut worker = Command::new(program)
        .arg("fuzz-worker")
        .args(&numbers)
        .env("YKEEL_STATE", work.join(format!("state-{}", from % step)))
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .context("cannot start a worker")?;
    let output = worker.stdout.take().context("the worker has an output")?;
    let (sender, lines) = channel();
    std::thread::spawn(move || {
        for line in BufReader::new(output).lines().map_while(Result::ok) {
            if sender.send(line).is_err() {
                break;
            }
        }
    });
    Ok((worker, lines))
}

/// The worker: cases from a number on, in steps, each announced and told with its time and the peak of its memory.
pub(crate) fn worker(arguments: &[String]) -> anyhow::Result<()> {
    let numbers: Vec<u64> = arguments.iter().map(|word| word.parse()).collect::<Result<_, _>>()?;
    let [seed, from, step, to] = numbers[..] else { bail!("fuzz-worker SEED FROM STEP TO") };
    let work = root().join("target/fuzz");
    let scratch = work.join(format!("scratch-{}", std::process::id()));
    fs::create_dir_all(&scratch)?;
    let mut paths: Vec<PathBuf> =
        fs::read_dir(work.join("seeds"))?.map(|entry| Ok(entry?.path())).collect::<anyhow::Result<_>>()?;
    paths.retain(|path| path.is_file() && path.extension().is_some());
    paths.sort();
    std::panic::set_hook(Box::new(|panic| {
        println!("panic {}", panic.to_string().replace('\n', " "));
    }));
    let all: Vec<cases::Seed> = paths.iter().map(|path| cases::Seed::open(path)).collect();
    for number in (from..to).step_by(usize::try_from(step)?) {
        let mut dice = cases::Dice::new(seed, number);
        let one = &all[usize::try_from(dice.below(all.len() as u64))?];
        println!("begin {number} {}", one.name);
        // The peak counts from here on.
        let _ = fs::write("/proc/self/clear_refs", "5");
        let began = Instant::now();
        let image = scratch.join("case.img");
        let heaviest = if number % COMMANDS_EVERY == 0 && one.spill(&mut dice, &image) {
            commands(&mut dice, &image, &scratch.join("out"))?
        } else {
            let _ = catch_unwind(AssertUnwindSafe(|| one.run(&mut dice, &scratch)));
            peak("self")
        };
        println!("end {number} {} {heaviest} {}", began.elapsed().as_millis(), one.name);
    }
    let _ = fs::remove_dir_all(&scratch);
    Ok(())
}

/// A few commands of the program on `image`, what they write at `out`: the most memory that one held, in KiB. One that panics, is ended
/// by a signal or does not end is told.
fn commands(dice: &mut cases::Dice, image: &Path, out: &Path) -> anyhow::Result<u64> {
    let mut heaviest = 0;
    let place = out.parent().context("what is written has a folder")?;
    for _ in 0..ASKED_AT_ONCE {
        let asked = ASKED[usize::try_from(dice.below(ASKED.len() as u64))?];
        let words = asked.iter().map(|word| match *word {
            "IMAGE" => image.display().to_string(),
            word => word.replace("OUT", &out.display().to_string()),
        });
        let mut command = Command::new(built("ykeel"))
            .args(words)
            .current_dir(place)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .context("cannot start a command")?;
        let began = Instant::now();
        let status = loop {
            heaviest = heaviest.max(peak(&command.id().to_string()));
            match command.try_wait()? {
                Some(status) => break Some(status),
                None if busy(command.id()) > LONGEST || began.elapsed() > LONGEST_WAIT => break None,
                None => std::thread::sleep(Duration::from_millis(2)),
            }
        };
        match status.map(|status| status.code()) {
            Some(Some(0..=5)) => {}
            Some(code) => println!("panic {}: ended with {code:?}", asked.join(" ")),
            None => {
                command.kill()?;
                command.wait()?;
                println!("panic {}: does not end", asked.join(" "));
            }
        }
        for entry in fs::read_dir(place)?.flatten().filter(|entry| entry.path() != image) {
            let _ = if entry.path().is_dir() { fs::remove_dir_all(entry.path()) } else { fs::remove_file(entry.path()) };
        }
    }
    Ok(heaviest)
}

/// The most memory that a process held since it was last asked to forget, in KiB.
fn peak(process: &str) -> u64 {
    let status = fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    line.and_then(|line| line.split_whitespace().next()?.parse().ok()).unwrap_or(0)
}
