//! `cargo xtask bench --plan`: plans of very many edits and of very long runs, from laying to undoing. Time has to grow as what is
//! written does, and memory not with the length of a run.

use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::time::Instant;

use anyhow::{Context, ensure};
use keel_core::case;
use keel_core::mend::{self, Belongs, Edit, Intent, Order};
use keel_core::plan::{self, ApplyOptions, Bundle, Condition, Confirmation, Direction, Plan};
use keel_source::{ByteOffset, OpenOptions, Payload, SharedSource, Source};

use crate::content::Dice;
use crate::guest::{root, run};
use crate::measure;

/// Counts of edits, each of one sector.
const EDITS: [u64; 3] = [12_500, 50_000, 200_000];
/// Lengths of runs, in GiB.
const RUNS: [u64; 3] = [4, 16, 64];

/// Measures every plan in a process of its own: peaks of memory are a process's.
pub(crate) fn run_all() -> anyhow::Result<()> {
    run("cargo", &["build", "--release", "--quiet", "--workspace"])?;
    let own = root().join("target/release/xtask").to_string_lossy().into_owned();
    println!("seconds: laid and looked through, applied, compared, undone");
    for (what, sizes) in [("edits", EDITS), ("run", RUNS)] {
        for size in sizes {
            let size = size.to_string();
            run(&own, &["bench-plan", what, &size])?;
        }
    }
    Ok(())
}

/// One plan: `edits` and a count, or `run` and a length in GiB.
pub(crate) fn one(what: &str, size: &str) -> anyhow::Result<()> {
    let size: u64 = size.parse()?;
    let work = root().join("target/bench/plan");
    let _ = fs::remove_dir_all(&work);
    fs::create_dir_all(&work)?;
    case::keep_state_in(&work.join("state"));
    let image = work.join("plan.img");
    let bytes = if what == "run" { (size << 30) + (1 << 20) } else { size * 1024 };
    if what == "run" {
        let file = File::create(&image)?;
        file.set_len(bytes)?;
        // Something to save in each GiB.
        let mut dice = Dice::new(size);
        let piece: Vec<u8> = (0..(4 << 20) / 8).flat_map(|_| dice.next().to_le_bytes()).collect();
        (0..size).try_for_each(|number| file.write_all_at(&piece, (number << 30) + (5 << 20)))?;
    } else {
        measure::noise(&image, bytes.next_multiple_of(4 << 20))?;
    }
    let source = keel_source::open(&image, OpenOptions::default())?;
    let edits =
        if what == "run" { vec![zeros(0, size << 30)] } else { (0..size).map(|number| edit(&source, number, size)).collect() };
    measure(&work, &source, edits, &format!("{size} {}", if what == "run" { "GiB of zeros" } else { "edits" }))?;
    let peak = fs::read_to_string("/proc/self/status")?;
    let peak = peak.lines().find(|line| line.starts_with("VmHWM")).unwrap_or_default().to_string();
    println!("    {peak}");
    Ok(fs::remove_dir_all(&work)?)
}

fn zeros(at: u64, bytes: u64) -> Edit {
    Edit {
        structure: "ground".into(),
        at_byte: ByteOffset(at),
        before: Vec::new(),
        after: Payload::zeros(bytes),
        intent: Intent::Erase,
        belongs: Belongs::default(),
        order: Order::Primary,
        reason: "a bench".into(),
    }
}

/// Every other sector, in an order that is not that of the drive.
fn edit(source: &SharedSource, number: u64, count: u64) -> Edit {
    let at = ByteOffset(number * 7919 % count * 1024);
    let mut before = vec![0; 512];
    let _ = source.read_at(at, &mut before);
    let order = if number.is_multiple_of(2) { Order::Copy } else { Order::Primary };
    Edit { at_byte: at, before, after: vec![0x5A; 512].into(), intent: Intent::Repair, order, ..zeros(0, 0) }
}

fn measure(work: &Path, source: &SharedSource, mut edits: Vec<Edit>, what: &str) -> anyhow::Result<()> {
    let mut times = Vec::new();
    let mut since = Instant::now();
    let mut lap = |times: &mut Vec<f64>| {
        times.push(since.elapsed().as_secs_f64());
        since = Instant::now();
    };
    edits.sort_by_key(|edit| edit.order);
    let view = mend::overlay(source, &edits);
    let mut buf = vec![0; 1 << 20];
    let most = view.len().min(1 << 30);
    for at in (0..most).step_by(buf.len()) {
        let _ = view.read_at(ByteOffset(at), &mut buf);
    }
    lap(&mut times);
    let plan = Plan::new(source, edits, false);
    let path = work.join("plan.ykundo");
    let options =
        ApplyOptions { confirmation: Confirmation::Yes, override_words: None, bundle: Some(path.clone()), stamp: "bench".into() };
    plan::apply(source, &plan, &options, &mut |_| {})?;
    lap(&mut times);
    let bundle = Bundle::read(&path)?;
    ensure!(plan::condition(source, &bundle)? == Condition::Applied, "it was not applied");
    lap(&mut times);
    plan::recover(source, (&path, &bundle), Direction::RollBack, &Confirmation::Yes, &mut |_| {}).context("undo")?;
    lap(&mut times);
    ensure!(plan::condition(source, &bundle)? == Condition::Former, "it was not put back");
    let shown: Vec<String> = times.iter().map(|time| format!("{time:>7.2}")).collect();
    let kept = fs::metadata(&path)?.len() >> 20;
    println!("{what:<20} {}   bundle {kept} MiB", shown.join(" "));
    Ok(())
}
