//! `cargo xtask bench --renew`: new volumes beside those of the system's formatters (time, and what the device was told to write), a
//! table of 128 entries converted there and back, and a device overwritten beside a plain loop of writes.

use std::fs::{self, File};
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use keel_core::case;
use keel_core::job::{Cancel, Desk};
use keel_core::plan::{self, ApplyOptions, Confirmation, Plan};
use keel_core::renew::{self, Beside, Draft, NewTable, Size, Step, Wish};
use keel_core::wipe::{self, Pattern, Verify, Wanted};
use keel_format::VolumeKind;
use keel_format::table::{self, Scheme};
use keel_source::{OpenOptions, PageBuf, SharedSource};

use crate::guest::{root, run};

/// Lengths of the drives, in bytes.
const LENGTHS: [u64; 2] = [64_000_000_000, 4_000_000_000_000];
/// What is made beside whose formatter, with the options by which it is as quick.
const FORMATTERS: &[(VolumeKind, &str, &[&str])] = &[
    (VolumeKind::Fat32, "mkfs.vfat", &["-F", "32"]),
    (VolumeKind::ExFat, "mkfs.exfat", &[]),
    (VolumeKind::Ntfs, "mkfs.ntfs", &["-Q", "-F", "-q", "-s", "512", "-p", "0", "-H", "255", "-S", "63"]),
    (VolumeKind::Ext4, "mkfs.ext4", &["-q", "-F", "-E", "nodiscard,lazy_itable_init=1"]),
];
/// How often each is made; the median counts.
const TIMES: usize = 3;
/// Entries of the table that is converted.
const ENTRIES: u64 = 128;
/// Bytes that are overwritten, and how often.
const WIPED: u64 = 12 << 30;
const WIPES: usize = 3;

pub(crate) fn run_all() -> anyhow::Result<()> {
    let work = root().join("target/bench/renew");
    let _ = fs::remove_dir_all(&work);
    fs::create_dir_all(&work)?;
    case::keep_state_in(&work.join("state"));
    println!("{:<8} {:>8}  {:>22}  {:>22}", "kind", "length", "here (s, MB written)", "formatter");
    for bytes in LENGTHS {
        for (kind, program, options) in FORMATTERS {
            if *kind == VolumeKind::Fat32 && bytes > 2 << 40 {
                continue;
            }
            let image = work.join("drive.img");
            let median = |each: &dyn Fn() -> anyhow::Result<(Duration, u64)>| -> anyhow::Result<(Duration, u64)> {
                let mut all = (0..TIMES).map(|_| each()).collect::<anyhow::Result<Vec<_>>>()?;
                all.sort_unstable();
                all.into_iter().nth(TIMES / 2).context("made at least once")
            };
            let here = median(&|| on_loop(&image, bytes, |device| made_here(*kind, device)))?;
            let there = median(&|| {
                on_loop(&image, bytes, |device| {
                    let begun = Instant::now();
                    let made = Command::new(program).args(*options).arg(device).output()?;
                    ensure!(made.status.success(), "{program}: {}", String::from_utf8_lossy(&made.stderr));
                    File::open(device)?.sync_all()?;
                    Ok(begun.elapsed())
                })
            })?;
            let shown = |(took, written): (Duration, u64)| format!("{:.2}, {:.1}", took.as_secs_f64(), written as f64 / 1e6);
            println!("{:<8} {:>5} GB  {:>22}  {:>22}", kind.word(), bytes / 1_000_000_000, shown(here), shown(there));
        }
    }
    converted(&work)?;
    overwritten(&work.join("drive.img"))
}

/// A device overwritten, beside a plain loop of writes of the same size past the system's memory: all of them by turns, since the rate
/// of what lies below changes by the minute.
fn overwritten(image: &Path) -> anyhow::Result<()> {
    let ways = [
        ("a plain loop", None),
        ("zeros", Some(Pattern::Zeros)),
        ("55aa", Some(Pattern::Bytes(vec![0x55, 0xAA]))),
        ("random", Some(Pattern::Random(417))),
    ];
    let mut rates = vec![Vec::new(); ways.len()];
    for _ in 0..WIPES {
        for ((_, pattern), rates) in ways.iter().zip(&mut rates) {
            let took = on_loop(image, WIPED, |device| match pattern {
                Some(pattern) => wiped_here(device, pattern),
                None => plain_loop(device),
            })?;
            rates.push(WIPED as f64 / took.0.as_secs_f64() / 1e6);
        }
    }
    let medians = rates.iter_mut().map(|rates| {
        rates.sort_by(f64::total_cmp);
        rates.get(WIPES / 2).copied().unwrap_or_default()
    });
    let medians: Vec<f64> = medians.collect();
    let plain = medians.first().copied().context("a plain loop")?;
    for ((word, _), own) in ways.iter().zip(&medians).skip(1) {
        println!("overwritten with {word}: {own:.0} MB/s, {:.2} of a plain loop's {plain:.0} MB/s", own / plain);
    }
    Ok(())
}

fn wiped_here(device: &str, pattern: &Pattern) -> anyhow::Result<Duration> {
    let source = keel_source::open(Path::new(device), OpenOptions::default())?;
    let begun = Instant::now();
    let range = keel_source::ByteRange::sized(keel_source::ByteOffset(0), source.len());
    let record = root().join("target/bench/renew/wipe.jsonl");
    let ground = wipe::ground_of(&source, range)?;
    let wanted = Wanted { ground, pattern: pattern.clone(), verify: Verify::None, by_device: false, record };
    let code = Confirmation::Code(source.identity().code());
    let done = wipe::wipe(&source, (&code, wipe::WORDS), (&wanted, true), &Desk::new(Cancel::default()).0)?;
    ensure!(done.is_whole(), "{}", done.line());
    Ok(begun.elapsed())
}

fn plain_loop(device: &str) -> anyhow::Result<Duration> {
    let flags = rustix::fs::OFlags::DIRECT.bits().cast_signed();
    let file = File::options().write(true).custom_flags(flags).open(device)?;
    let buf = PageBuf::new(4 << 20);
    let begun = Instant::now();
    (0..WIPED).step_by(buf.len()).try_for_each(|at| file.write_all_at(&buf, at))?;
    file.sync_all()?;
    Ok(begun.elapsed())
}

/// Lets `work` write to a loop device over a new sparse file; answers what it says, and the bytes that the device was told to write.
fn on_loop(image: &Path, bytes: u64, work: impl Fn(&str) -> anyhow::Result<Duration>) -> anyhow::Result<(Duration, u64)> {
    let _ = fs::remove_file(image);
    File::create(image)?.set_len(bytes / 512 * 512)?;
    let output = Command::new("losetup").args(["--find", "--show"]).arg(image).output()?;
    ensure!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let device = String::from_utf8(output.stdout)?.trim().to_string();
    let before = written(&device)?;
    let took = work(&device);
    let after = written(&device);
    run("losetup", &["--detach", &device])?;
    fs::remove_file(image)?;
    Ok((took?, after?.saturating_sub(before)))
}

/// Bytes that a device was told to write since it is there.
fn written(device: &str) -> anyhow::Result<u64> {
    let name = device.rsplit('/').next().unwrap_or_default();
    let stat = fs::read_to_string(format!("/sys/block/{name}/stat"))?;
    let sectors: u64 = stat.split_whitespace().nth(6).context("a count of sectors")?.parse()?;
    Ok(sectors * 512)
}

/// One volume over the whole device, with plan, way back, writing and reading back.
fn made_here(kind: VolumeKind, device: &str) -> anyhow::Result<Duration> {
    let source = keel_source::open(Path::new(device), OpenOptions::default())?;
    let begun = Instant::now();
    let (draft, table) = drafted(&source, &[Step::Table(NewTable::None), Step::Add(Wish::plain(kind))])?;
    let beside = Beside { finds: &[], clears_leftovers: false, made_at: 1_790_000_000 };
    let staged = renew::stage(&source, &table, &draft, &beside)?;
    let plan = Plan::new(&source, staged.edits, false);
    let bundle = root().join("target/bench/renew/way-back.ykundo");
    let _ = fs::remove_file(&bundle);
    let options = ApplyOptions {
        confirmation: Confirmation::Code(plan.code.clone()),
        override_words: None,
        bundle: Some(bundle),
        stamp: case::stamp(),
    };
    plan::apply(&source, &plan, &options, &mut |_| {})?;
    Ok(begun.elapsed())
}

fn drafted(source: &SharedSource, steps: &[Step]) -> anyhow::Result<(Draft, table::TableReading)> {
    let table = table::read(source.as_ref());
    let mut draft = Draft::of(source, &table, renew::ALIGN);
    steps.iter().try_for_each(|step| draft.take(step))?;
    Ok((draft, table))
}

/// A GPT of [`ENTRIES`] entries becomes an MBR with a chain of logicals, and that a GPT again.
fn converted(work: &Path) -> anyhow::Result<()> {
    let image = work.join("entries.img");
    File::create(&image)?.set_len((ENTRIES * 3 + 4) << 20)?;
    let source = keel_source::open(&image, OpenOptions::default())?;
    let entry = |number: u64| {
        let at = Some(keel_source::Lba((number * 3 + 1) << 11));
        Step::Add(Wish { at, size: Some(Size::Bytes(2 << 20)), ..Wish::plain(VolumeKind::Ext2) })
    };
    let steps: Vec<Step> = std::iter::once(Step::Table(NewTable::Of(Scheme::Gpt))).chain((0..ENTRIES).map(entry)).collect();
    let beside = Beside { finds: &[], clears_leftovers: false, made_at: 1_790_000_000 };
    let (draft, table) = drafted(&source, &steps)?;
    let full = renew::stage(&source, &table, &draft, &beside)?;
    let mut view: SharedSource = std::sync::Arc::new(keel_core::mend::overlay(&source, &full.edits));
    for scheme in [Scheme::Mbr, Scheme::Gpt] {
        let begun = Instant::now();
        let (draft, table) = drafted(&view, &[Step::Convert(scheme)])?;
        let staged = renew::stage(&view, &table, &draft, &beside)?;
        let took = begun.elapsed();
        let after: SharedSource = std::sync::Arc::new(keel_core::mend::overlay(&view, &staged.edits));
        let reading = table::read(after.as_ref());
        ensure!(reading.scheme == Some(scheme) && reading.partitions.len() as u64 == ENTRIES, "every entry is there");
        println!("{ENTRIES} entries to a {}: {:.1} ms, {} edits", scheme.word(), took.as_secs_f64() * 1e3, staged.edits.len());
        view = after;
    }
    Ok(())
}
