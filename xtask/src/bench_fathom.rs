//! `cargo xtask bench --fathom`: forty simulated drives, honest and lying in five ways, 1 GB to 4 TB, behind caches of up to
//! 1 GiB. The verdict, the bytes, and whether everything was put back.

use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::ensure;
use keel_core::case;
use keel_core::fathom::{self, Nature, ProbeOptions};
use keel_core::job::{Cancel, Desk};
use keel_core::plan::Confirmation;
use keel_source::OpenOptions;
use sha2::{Digest, Sha256};

use crate::content::Dice;
use crate::guest::root;

const GB: u64 = 1_000_000_000;
const MIB: u64 = 1 << 20;
/// Drives of each kind.
const EACH: usize = 5;

/// What a drive is.
#[derive(Clone, Copy, PartialEq, Debug)]
enum Kind {
    Honest,
    Wraps,
    WrapsShort,
    DropsZeros,
    DropsOnes,
    DropsStale,
    RepeatsLast,
    WrapsPowerOfTwo,
}

const KINDS: [Kind; 8] = [
    Kind::Honest,
    Kind::Wraps,
    Kind::WrapsShort,
    Kind::DropsZeros,
    Kind::DropsOnes,
    Kind::DropsStale,
    Kind::RepeatsLast,
    Kind::WrapsPowerOfTwo,
];
const SIZES: [u64; EACH] = [GB, 8 * GB, 64 * GB, 500 * GB, 4000 * GB];
const CACHES: [u64; EACH] = [0, 8 * MIB, 64 * MIB, 256 * MIB, 1024 * MIB];

/// Runs all of them.
pub(crate) fn run_all() -> anyhow::Result<()> {
    let work = root().join("target/bench-fathom");
    let _ = fs::remove_dir_all(&work);
    fs::create_dir_all(&work)?;
    case::keep_state_in(&work.join("state"));
    let (mut right, mut minutes, mut count) = (0, Vec::new(), 0);
    println!("kind                claims      stores        cache    verdict                       minutes  here");
    for (row, kind) in KINDS.into_iter().enumerate() {
        for (index, claimed) in SIZES.into_iter().enumerate() {
            // Each size meets each cache in some row; a cache is smaller than the drive behind it.
            let cache = CACHES[(index + row) % EACH].min(claimed / 4 / MIB * MIB);
            let mut dice = Dice::new((row * 10 + index) as u64 + 3);
            let begun = Instant::now();
            let (line, is_right, took) = one(&work, kind, claimed, cache, &mut dice)?;
            println!(
                "{line}  {:>6.1}  {:>4.1} s{}",
                took.as_secs_f64() / 60.0,
                begun.elapsed().as_secs_f64(),
                if is_right { "" } else { "  WRONG" }
            );
            right += u32::from(is_right);
            count += 1;
            minutes.push(took);
        }
    }
    minutes.sort();
    let minute = |took: Option<&Duration>| took.map_or(0.0, |took| took.as_secs_f64() / 60.0);
    println!("{right} of {count} right, exact to the sector, everything put back");
    println!(
        "minutes of the drive's clock: median {:.1}, longest {:.1}",
        minute(minutes.get(minutes.len() / 2)),
        minute(minutes.last())
    );
    fs::remove_dir_all(&work)?;
    ensure!(right == count, "not all of them");
    Ok(())
}

fn one(work: &Path, kind: Kind, claimed: u64, cache: u64, dice: &mut Dice) -> anyhow::Result<(String, bool, Duration)> {
    let claimed = claimed / 512 * 512;
    let stored = match kind {
        Kind::Honest => claimed,
        // A true end somewhere, to the sector.
        Kind::WrapsPowerOfTwo => (claimed / 4).next_power_of_two() / 2,
        _ => (claimed / 16 + dice.below(claimed / 4)) / 512 * 512,
    };
    let short = (stored / 3 + dice.below(stored / 3)) / 512 * 512;
    let lie = match kind {
        Kind::Honest => String::new(),
        Kind::Wraps | Kind::WrapsPowerOfTwo => format!("capacity = {{ real_bytes = {stored}, lie = \"wraps\" }}"),
        Kind::WrapsShort => format!(
            "capacity = {{ real_bytes = {stored}, lie = \"wraps\", wraps = [{{ from_byte = {stored}, modulus = {short} }}] }}"
        ),
        Kind::DropsZeros => format!("capacity = {{ real_bytes = {stored}, lie = \"drops\" }}"),
        Kind::DropsOnes => format!("capacity = {{ real_bytes = {stored}, lie = \"drops\", answers = \"ones\" }}"),
        Kind::DropsStale => format!("capacity = {{ real_bytes = {stored}, lie = \"drops\", answers = \"stale\" }}"),
        Kind::RepeatsLast => format!("capacity = {{ real_bytes = {stored}, lie = \"repeats_last\" }}"),
    };
    let caching =
        if cache > 0 { format!("cache = {{ bytes = {cache}, flush_empties = {} }}", dice.below(2) == 0) } else { String::new() };
    // Content at the start and at places over the true length, so that putting back is put to the proof.
    let image = work.join("surface.img");
    let file = File::create(&image)?;
    file.set_len(stored)?;
    let mut places: Vec<u64> =
        (0..64).map(|step| step * 65_536).chain((0..64).map(|_| dice.below(stored / 4096) * 4096)).collect();
    places.push(stored - 512);
    for at in &places {
        let bytes: Vec<u8> = (0..64).flat_map(|_| dice.next().to_le_bytes()).collect();
        file.write_all_at(&bytes, (*at).min(stored - 512))?;
    }
    drop(file);
    let before = hash(&image)?;
    let path = work.join("fathomed.drive.toml");
    let text = format!(
        "version = 1\nclaimed_bytes = {claimed}\nidentity = {{ model = \"Mudlark\", serial = \"{kind:?}-{claimed}\" }}\n\
         backing = [{{ file = \"surface.img\" }}]\n\
         clock = {{ read_us = 300, write_us = 600, bytes_per_second = 90000000, write_bytes_per_second = 45000000 }}\n{lie}\n{caching}\n"
    );
    fs::write(&path, text)?;
    let source = keel_source::open(&path, OpenOptions::default())?;
    let verdict = fathom::probe(&source, &Confirmation::Yes, ProbeOptions::default(), &Desk::new(Cancel::default()).0)?;
    let nature_right = match kind {
        Kind::Honest => verdict.nature == Nature::Honest,
        Kind::Wraps | Kind::WrapsPowerOfTwo => verdict.nature == Nature::Wraps { modulus: stored },
        Kind::WrapsShort => matches!(verdict.nature, Nature::Wraps { .. }),
        Kind::DropsZeros | Kind::DropsOnes | Kind::DropsStale => verdict.nature == Nature::Drops,
        Kind::RepeatsLast => verdict.nature == Nature::RepeatsLast,
    };
    let back = verdict.restored.is_some_and(|restored| restored.whole) && hash(&image)? == before;
    let right = nature_right && verdict.exact && verdict.proven_bytes == stored && back;
    let line = format!(
        "{:<16} {:>9}  {:>14}  {:>8}  {:<28}",
        format!("{kind:?}"),
        keel_source::size_decimal(claimed),
        stored,
        keel_source::size_decimal(cache),
        verdict.line().replace("claims ", "").chars().take(28).collect::<String>()
    );
    Ok((line, right, Duration::from_millis(verdict.took_ms)))
}

/// A hash of the places that can hold something; a file of terabytes is mostly holes.
fn hash(path: &Path) -> anyhow::Result<Vec<u8>> {
    let source = keel_source::open(path, OpenOptions::default())?;
    let mut hasher = Sha256::new();
    let (mut at, mut buf) = (keel_source::ByteOffset(0), vec![0; 1 << 20]);
    while let Some(data) = source.next_data(at) {
        at = data.start;
        while at < data.end {
            let end = keel_source::ByteOffset((at.0 / MIB + 1) * MIB).min(data.end);
            let piece = &mut buf[..usize::try_from(end - at)?];
            source.read_at(at, piece)?;
            // What was a hole and is zeros now is the same.
            for (index, page) in piece.chunks(4096).enumerate().filter(|(_, page)| page.iter().any(|byte| *byte != 0)) {
                hasher.update((at.0 + index as u64 * 4096).to_le_bytes());
                hasher.update(page);
            }
            at = end;
        }
    }
    Ok(hasher.finalize().to_vec())
}
