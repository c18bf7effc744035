//! `cargo xtask bench --adrift`: thousands of files of the system's encoders on ground without any volume, found by their content: start, length and
//! hash against what was laid there; what noise is taken for; the sweep beside a plain loop of reads; and a million starts.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::time::Instant;

use anyhow::{Context, ensure};
use keel_adrift::{KINDS, KindId, Start, State};
use keel_core::adrift::{self, Adrift, AdriftProgress, Cuts};
use keel_core::job::{Cancel, Desk};
use keel_core::sweep::{self, Reach, SweepOptions};
use keel_source::{ByteOffset, OpenOptions, PageBuf, RangeSet, SharedSource};

use crate::content::Dice;
use crate::guest::root;

/// The makers of the tests.
#[path = "../../crates/keel-adrift/tests/support/mod.rs"]
#[allow(clippy::unwrap_used, clippy::panic, reason = "it is made for tests: what fails there ends the bench")]
mod makers;

/// Rounds of all makers, each with other content, where no other number is asked for.
const ROUNDS: u64 = 66;
/// A cluster of the ground.
const CLUSTER: u64 = 4096;
/// Bytes of noise in which nothing may be found.
const NOISE: u64 = 10 << 30;
/// Starts that are judged for the time it takes.
const STARTS: u64 = 1_000_000;

/// A file where it was laid.
struct Laid {
    at: u64,
    bytes: u64,
    hash: blake3::Hash,
    kind: &'static str,
}

pub(crate) fn run_all(rounds: Option<u64>) -> anyhow::Result<()> {
    let work = root().join("target/bench/adrift");
    let _ = fs::remove_dir_all(&work);
    fs::create_dir_all(&work)?;
    let image = work.join("ground.img");
    let laid = lay(&work, &image, rounds.unwrap_or(ROUNDS))?;
    println!("{} files of {} kinds on {:.1} GB", laid.len(), kinds(&laid), File::open(&image)?.metadata()?.len() as f64 / 1e9);
    let source = keel_source::open(&image, OpenOptions::default())?;
    let begun = Instant::now();
    let found = looked(&source)?;
    println!("swept and judged in {:.1} s", begun.elapsed().as_secs_f64());
    compare(&laid, &found, &source)?;
    fs::remove_file(&image)?;
    noise(&work.join("noise.img"))?;
    a_million_starts(&work.join("starts.img"))
}

fn kinds(laid: &[Laid]) -> usize {
    laid.iter().map(|file| file.kind).collect::<std::collections::BTreeSet<_>>().len()
}

/// Lays files out at clusters in an order of their own, with blank, noisy or foreign ground between.
fn lay(work: &Path, image: &Path, rounds: u64) -> anyhow::Result<Vec<Laid>> {
    let (file, mut at, mut laid, mut dice) = (File::create(image)?, CLUSTER, Vec::new(), Dice::new(16));
    for round in 0..rounds {
        let folder = work.join("round");
        fs::create_dir_all(&folder)?;
        let mut made = makers::make(&folder, 1000 + round * 17);
        fs::remove_dir_all(&folder)?;
        while !made.is_empty() {
            let own = made.swap_remove(usize::try_from(dice.below(made.len() as u64)).unwrap_or(0));
            file.write_all_at(&own.bytes, at)?;
            laid.push(Laid { at, bytes: own.bytes.len() as u64, hash: blake3::hash(&own.bytes), kind: own.suffix });
            at = (at + own.bytes.len() as u64).next_multiple_of(CLUSTER);
            let gap = dice.below(4) * CLUSTER;
            if dice.below(2) == 0 {
                file.write_all_at(&makers::noise(usize::try_from(gap).unwrap_or(0), at), at)?;
            }
            at += gap;
        }
    }
    file.set_len(at + CLUSTER)?;
    Ok(laid)
}

/// The sweep of the surface, with everything that it looks for, beside a plain loop of reads.
fn beside_a_loop(image: &Path) -> anyhow::Result<()> {
    let (mut own, mut plain) = (Vec::new(), Vec::new());
    for _ in 0..5 {
        let source = keel_source::open(image, OpenOptions::default())?;
        let begun = Instant::now();
        let mut buf = PageBuf::new(1 << 20);
        for at in (0..source.len()).step_by(buf.len()) {
            let len = usize::try_from(source.len() - at).unwrap_or(usize::MAX).min(buf.len());
            source
                .read_at(ByteOffset(at), buf.get_mut(..len).unwrap_or_default())
                .map_err(|error| anyhow::anyhow!(error.reason))?;
        }
        plain.push(begun.elapsed().as_secs_f64());
        let begun = Instant::now();
        let (desk, _progress) = Desk::new(Cancel::default());
        let swept = sweep::sweep(&source, &SweepOptions { reach: Reach::Surface, state: None }, &desk);
        ensure!(!swept.cancelled, "the sweep was stopped");
        own.push(begun.elapsed().as_secs_f64());
    }
    own.sort_by(f64::total_cmp);
    plain.sort_by(f64::total_cmp);
    println!(
        "sweep {:.2} s, plain loop {:.2} s from memory (medians of 5): {:.2} of its rate",
        own[2],
        plain[2],
        plain[2] / own[2]
    );
    Ok(())
}

fn looked(source: &SharedSource) -> anyhow::Result<Vec<Adrift>> {
    let (desk, _progress) = Desk::new(Cancel::default());
    let swept = sweep::sweep(source, &SweepOptions { reach: Reach::Surface, state: None }, &desk);
    let (desk, _progress): (Desk<AdriftProgress>, _) = Desk::new(Cancel::default());
    let found = adrift::adrift(source, &swept.starts.sorted(), (&RangeSet::default(), &swept.finds), &Cuts::Told, &desk);
    ensure!(!found.cancelled, "the looking was stopped");
    Ok(found.files)
}

/// What was found against what was laid, by kind.
fn compare(laid: &[Laid], found: &[Adrift], source: &SharedSource) -> anyhow::Result<()> {
    let by_start: BTreeMap<u64, &Adrift> = found.iter().map(|file| (file.at_byte.0, file)).collect();
    let hash = |at: u64, bytes: u64| -> anyhow::Result<blake3::Hash> {
        let mut buf = vec![0; usize::try_from(bytes)?];
        source.read_at(ByteOffset(at), &mut buf).map_err(|error| anyhow::anyhow!(error.reason))?;
        Ok(blake3::hash(&buf))
    };
    let mut rows: BTreeMap<&str, [usize; 3]> = BTreeMap::new();
    for file in laid {
        let row = rows.entry(file.kind).or_default();
        row[0] += 1;
        let own = by_start.get(&file.at).filter(|own| own.bytes == file.bytes && own.state != State::Cut);
        if let Some(own) = own
            && hash(file.at, own.bytes)? == file.hash
        {
            row[1] += 1;
            row[2] += usize::from(own.state == State::Whole);
        }
    }
    let places: BTreeMap<u64, &Laid> = laid.iter().map(|file| (file.at, file)).collect();
    let is_wrong =
        |file: &&Adrift| file.state == State::Whole && places.get(&file.at_byte.0).is_none_or(|own| own.bytes != file.bytes);
    let wrong = found.iter().filter(is_wrong).count();
    let all = rows.values().fold([0; 3], |all, row| [all[0] + row[0], all[1] + row[1], all[2] + row[2]]);
    for (kind, [count, exact, whole]) in &rows {
        println!("  {kind:<8} {count:>5} laid {exact:>5} exact {whole:>5} whole");
    }
    println!(
        "{:.2} % exact in start, length and hash; {wrong} called whole that are not one of them",
        all[1] as f64 * 100.0 / all[0] as f64
    );
    let besides = found.iter().filter(|file| file.state != State::Cut && !places.contains_key(&file.at_byte.0)).count();
    println!("{besides} more plausible files between them, {} cut", found.iter().filter(|file| file.state == State::Cut).count());
    Ok(())
}

/// Noise, as of an encrypted surface: nothing stands in it.
fn noise(image: &Path) -> anyhow::Result<()> {
    let file = File::create(image)?;
    for at in (0..NOISE).step_by(64 << 20) {
        file.write_all_at(&makers::noise(64 << 20, at + 1), at)?;
    }
    let source = keel_source::open(image, OpenOptions::default())?;
    beside_a_loop(image)?;
    let found = looked(&source)?;
    let count = |state| found.iter().filter(|file| file.state == state).count();
    println!(
        "{:.0} GB of noise: {} whole, {} plausible, {} cut",
        NOISE as f64 / 1e9,
        count(State::Whole),
        count(State::Plausible),
        count(State::Cut)
    );
    for file in found.iter().filter(|file| file.state != State::Cut) {
        println!("  {} of {} bytes at byte {}: {}", file.kind, file.bytes, file.at_byte.0, file.why);
    }
    drop(source);
    fs::remove_file(image).context("noise is left")
}

/// A sector with the beginning of a picture for each start, and every kind asked in turn.
fn a_million_starts(image: &Path) -> anyhow::Result<()> {
    let file = File::create(image)?;
    let sector = [b"\xff\xd8\xff\xe0\0\x10JFIF\0\x01\x01\0\0\x48\0\x48\0\0".as_slice(), &[0x11; 492]].concat();
    let piece = sector.get(..512).context("a sector")?.repeat(2048);
    for at in (0..STARTS * 512).step_by(piece.len()) {
        file.write_all_at(&piece, at)?;
    }
    let source = keel_source::open(image, OpenOptions::default())?;
    let kinds = u64::try_from(KINDS.len())?;
    let starts: Vec<Start> = (0..STARTS)
        .map(|number| Start { at: ByteOffset(number * 512), kind: KindId(u8::try_from(number % kinds).unwrap_or(0)) })
        .collect();
    let pictures: Vec<Start> = starts.iter().map(|start| Start { kind: KindId(0), ..*start }).collect();
    for (what, starts) in [("of one kind", pictures), ("of all kinds", starts)] {
        let (desk, _progress) = Desk::new(Cancel::default());
        let begun = Instant::now();
        let found = adrift::adrift(&source, &starts, (&RangeSet::default(), &[]), &Cuts::Told, &desk);
        println!("{STARTS} starts {what} judged in {:.1} s, {} files", begun.elapsed().as_secs_f64(), found.files.len());
    }
    let peak = fs::read_to_string("/proc/self/status")?;
    println!("{}", peak.lines().find(|line| line.starts_with("VmHWM")).unwrap_or_default());
    drop(source);
    fs::remove_file(image).context("the image is left")
}
