//! `cargo xtask bench --copy`: a healthy source against a plain loop, sick drives against a patient linear reader, and copies
//! that are killed.

use std::fs::{self, File};
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use anyhow::{Context, ensure};
use keel_core::copy::{CopyOptions, copy};
use keel_core::job::{Cancel, Desk};
use keel_source::{ByteOffset, ByteRange, CopyLog, Identity, OpenOptions, ReadError, SharedSource, Source, copy_log_of};
use sha2::{Digest, Sha256};

use crate::content::Dice;
use crate::guest::{root, run};
use crate::measure::{RUNS, median, noise, once, row};
use crate::setup;

/// Bytes of the healthy source that is copied.
const COPIED: u64 = 2 << 30;
/// Bytes of a sick drive.
const SICK: u64 = 256 << 20;
/// Shares of what reads at all, in per cent, whose times make the curve.
const CURVE: [u64; 8] = [10, 25, 50, 75, 90, 95, 99, 100];
/// How often a copy is killed.
const KILLS: usize = 200;
/// What each drive costs: 100 MB/s, and two seconds for a request that fails.
const CLOCK: &str = "clock = { read_us = 200, bytes_per_second = 100000000, unreadable_ms = 2000 }";

/// Prints every figure of the copy.
pub(crate) fn run_all() -> anyhow::Result<()> {
    setup::install(&["time"])?;
    run("cargo", &["build", "--release", "--quiet", "--workspace"])?;
    let work = root().join("target/bench");
    fs::create_dir_all(&work)?;
    let release = |name: &str| root().join("target/release").join(name).to_string_lossy().into_owned();
    let ykeel = release("ykeel");
    healthy(&work, &ykeel, &release("xtask"))?;
    sick(&work)?;
    killed(&work, &ykeel)
}

/// The plain copy: 1 MiB reads and writes, one after the other, durable at the end.
pub(crate) fn copy_loop(from: &str, to: &str) -> anyhow::Result<()> {
    let (mut from, mut to) = (File::open(from)?, File::create_new(to)?);
    let mut buf = vec![0; 1 << 20];
    loop {
        let count = from.read(&mut buf)?;
        if count == 0 {
            break;
        }
        to.write_all(&buf[..count])?;
    }
    to.sync_all()?;
    Ok(())
}

/// A healthy source against a plain loop.
pub(crate) fn healthy(work: &Path, ykeel: &str, own: &str) -> anyhow::Result<()> {
    let (image, to) = (noise(&work.join("healthy.img"), COPIED)?, work.join("copied.img").to_string_lossy().into_owned());
    let gone = || {
        let _ = fs::remove_file(&to);
        let _ = fs::remove_file(format!("{to}.ykcopy"));
    };
    let (mut plain, mut copy) = (Vec::new(), Vec::new());
    once(&[own, "read-loop", &image])?;
    for _ in 0..RUNS {
        gone();
        plain.push(once(&[own, "copy-loop", &image, &to])?);
        gone();
        copy.push(once(&[ykeel, "copy", &image, &to, "--json"])?);
    }
    gone();
    let (plain, copy) = (median(plain), median(copy));
    row("plain 1 MiB copy loop, cached 2 GiB, durable", plain, "");
    row("copy of the same file", copy, &format!("{:.0} % of the loop's rate (hold 90 %)", plain.seconds / copy.seconds * 100.0));
    Ok(())
}

/// The faults of the five sick drives, by name.
fn drives() -> Vec<(&'static str, String)> {
    let mut dice = Dice::new(11);
    let sectors = SICK / 512;
    let mut ranges = |count: u64, longest: u64| -> Vec<String> {
        (0..count)
            .map(|_| format!("first_lba = {}, sectors = {}", dice.below(sectors - longest), 1 + dice.below(longest)))
            .collect()
    };
    let list = |name: &str, ranges: &[String], more: &str| {
        let items: Vec<String> = ranges.iter().map(|range| format!("{{ {range}{more} }}")).collect();
        format!("{name} = [{}]\n", items.join(", "))
    };
    let stripes: Vec<String> = (0..16).map(|stripe| format!("first_lba = {}, sectors = 400", 20_000 + stripe * 24_000)).collect();
    vec![
        ("40 scattered places", list("unreadable", &ranges(40, 8), "")),
        ("a head's stripes", list("unreadable", &stripes, "")),
        ("one large place", list("unreadable", &["first_lba = 200000, sectors = 9000".into()], "")),
        (
            "a slow part",
            list("slow", &["first_lba = 100000, sectors = 40000".into()], ", ms = 20") + &list("unreadable", &ranges(10, 8), ""),
        ),
        (
            "flaky, and off the link",
            list("flaky", &ranges(60, 4), ", tries = 3")
                + "link = { drop_after_reads = 300, away_reads = 4, timeout_ms = 5000, interface_error_one_in = 50, seed = 2 }\n",
        ),
    ]
}

/// Which sectors came, and how many had come when.
struct Seen {
    sectors: Vec<bool>,
    counts: Vec<(Duration, u64)>,
}

/// A drive that notes when each sector was first delivered, by its own clock.
struct Watched {
    drive: SharedSource,
    seen: Mutex<Seen>,
}

impl Watched {
    fn open(path: &Path) -> anyhow::Result<Arc<Self>> {
        let drive = keel_source::open(path, OpenOptions::default())?;
        let sectors = usize::try_from(drive.len() / 512)?;
        Ok(Arc::new(Self { drive, seen: Mutex::new(Seen { sectors: vec![false; sectors], counts: Vec::new() }) }))
    }

    /// The drive's time at which this many per cent of `bytes` had come.
    fn at(&self, percent: u64, bytes: u64) -> String {
        let Ok(seen) = self.seen.lock() else { return String::new() };
        let reached = seen.counts.iter().find(|(_, sectors)| sectors * 512 * 100 >= bytes * percent);
        reached.map_or("never".into(), |(time, _)| format!("{:.0} s", time.as_secs_f64()))
    }

    fn delivered(&self) -> u64 {
        self.seen.lock().ok().and_then(|seen| seen.counts.last().map(|(_, sectors)| sectors * 512)).unwrap_or(0)
    }
}

impl Source for Watched {
    fn identity(&self) -> &Identity {
        self.drive.identity()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.read_once(at, buf)
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let read = self.drive.read_once(at, buf);
        let end = read.as_ref().err().and_then(|error| error.bad.first()).map_or(at + buf.len() as u64, |bad| bad.start);
        if let Ok(mut seen) = self.seen.lock() {
            let mut count = seen.counts.last().map_or(0, |(_, count)| *count);
            for sector in at.0 / 512..end.0 / 512 {
                let slot = seen.sectors.get_mut(usize::try_from(sector).unwrap_or(usize::MAX));
                count += u64::from(slot.is_some_and(|slot| !std::mem::replace(slot, true)));
            }
            seen.counts.push((self.elapsed().unwrap_or_default(), count));
        }
        read
    }

    fn elapsed(&self) -> Option<Duration> {
        self.drive.elapsed()
    }
}

/// Reads from the first sector to the last, 64 KiB at a time; what fails is asked for sector by sector, four times each.
fn patient_reader(drive: &Watched) {
    let mut buf = vec![0; 64 << 10];
    let mut at = 0;
    while at < drive.len() {
        if drive.read_once(ByteOffset(at), &mut buf).is_err() {
            for sector in buf.chunks_exact_mut(512).enumerate().map(|(index, _)| at + index as u64 * 512) {
                let _ = (0..4).find(|_| drive.read_once(ByteOffset(sector), &mut [0; 512]).is_ok());
            }
        }
        at += buf.len() as u64;
    }
}

fn lay_out(work: &Path, name: &str, faults: &str) -> anyhow::Result<std::path::PathBuf> {
    noise(&work.join("sick.img"), SICK)?;
    let path = work.join(name);
    let head = format!("version = 1\nclaimed_bytes = {SICK}\nidentity = {{ model = \"Mudlark 3\", serial = \"BL-0740\" }}\n");
    fs::write(&path, format!("{head}backing = [{{ file = \"sick.img\", at_byte = 0 }}]\n{CLOCK}\n{faults}"))?;
    Ok(path)
}

/// Copies `source` to `to` anew.
fn copied(source: &SharedSource, to: &Path) -> anyhow::Result<keel_core::copy::Copied> {
    let _ = fs::remove_file(to);
    let _ = fs::remove_file(copy_log_of(to));
    Ok(copy(source, to, &CopyOptions::default(), &Desk::new(Cancel::default()).0)?)
}

fn sick(work: &Path) -> anyhow::Result<()> {
    println!(
        "sick drives of {} MB by their own clock: until {} % of what reads at all had come",
        SICK / 1_000_000,
        CURVE.map(|percent| percent.to_string()).join(" / ")
    );
    for (name, faults) in drives() {
        let path = lay_out(work, "sick.drive.toml", &faults)?;
        let ours = Watched::open(&path)?;
        let source: SharedSource = Arc::<Watched>::clone(&ours);
        let outcome = copied(&source, &work.join("sick-copy.img"))?;
        let plain = Watched::open(&path)?;
        patient_reader(&plain);
        let readable = ours.delivered().max(plain.delivered());
        for (who, drive) in [("copy", &ours), ("patient linear reader", &plain)] {
            let times: Vec<String> = CURVE.iter().map(|percent| drive.at(*percent, readable)).collect();
            let all = drive.elapsed().unwrap_or_default().as_secs_f64();
            let share = drive.delivered() as f64 / readable as f64 * 100.0;
            println!("  {name:<24} {who:<22} {:<64} {all:>8.0} s in all, {share:.3} %", times.join(" / "));
        }
        ensure!(
            outcome.missing.iter().map(|range: &ByteRange| range.len()).sum::<u64>() + outcome.copied_bytes == SICK,
            "{name}"
        );
    }
    Ok(())
}

fn hash(path: &Path) -> anyhow::Result<Vec<u8>> {
    let mut hasher = Sha256::new();
    std::io::copy(&mut File::open(path)?, &mut hasher)?;
    Ok(hasher.finalize().to_vec())
}

/// Kills copies at points of chance, goes on with each, and compares with one that was left alone.
fn killed(work: &Path, ykeel: &str) -> anyhow::Result<()> {
    let faults = "unreadable = [{ first_lba = 5000, sectors = 30 }, { first_lba = 300000, sectors = 400 }]\n";
    let path = lay_out(work, "killed.drive.toml", faults)?;
    let (alone, to) = (work.join("alone.img"), work.join("killed.img"));
    let source = keel_source::open(&path, OpenOptions::default())?;
    let began = std::time::Instant::now();
    copied(&source, &alone)?;
    let usual = u64::try_from(began.elapsed().as_millis())?.max(2);
    let (wanted, (_, map)) = (hash(&alone)?, CopyLog::read(&copy_log_of(&alone))?);
    let (mut dice, mut same, mut alive) = (Dice::new(5), 0, 0);
    for _ in 0..KILLS {
        let _ = fs::remove_file(&to);
        let _ = fs::remove_file(copy_log_of(&to));
        let start = || {
            let mut command = Command::new(ykeel);
            command.arg("copy").args([&path, &to]).stdout(Stdio::null());
            command
        };
        let mut child = start().spawn().context("cannot start the copy")?;
        std::thread::sleep(Duration::from_millis(dice.below(usual)));
        child.kill()?;
        alive += u32::from(child.wait()?.code().is_none());
        ensure!(start().status()?.success(), "the copy does not go on");
        let (_, gone_on) = CopyLog::read(&copy_log_of(&to))?;
        same += u32::from(hash(&to)? == wanted && gone_on == map);
    }
    println!("killed at {KILLS} points ({alive} while it ran) and gone on with: {same} images and maps as if left alone");
    for path in [&alone, &to, &work.join("sick-copy.img")] {
        let _ = fs::remove_file(path);
        let _ = fs::remove_file(copy_log_of(path));
    }
    Ok(())
}
