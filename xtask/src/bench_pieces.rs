//! `cargo xtask bench --pieces`: files of the system's encoders in two pieces, 1 to 2000 clusters apart, put together again: how many are
//! exact, how many are left as they are, and whether one is wrong.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::time::Instant;

use keel_core::adrift::{self, Adrift, AdriftProgress, AdriftState, Cuts};
use keel_core::job::{Cancel, Desk};
use keel_core::sweep::{self, Reach, SweepOptions};
use keel_source::{OpenOptions, RangeSet};

use crate::guest::root;

/// What lays the files of the tests.
#[path = "../../crates/keel-core/tests/cases/support/pieces.rs"]
#[allow(clippy::unwrap_used, clippy::panic, reason = "it is made for tests: what fails there ends the bench")]
mod pieces;

use pieces::Between;

/// Rounds of all makers, each with other content, where no other number is asked for.
const ROUNDS: u64 = 24;

pub(crate) fn run_all(rounds: Option<u64>) -> anyhow::Result<()> {
    let work = root().join("target/bench/pieces");
    let _ = fs::remove_dir_all(&work);
    fs::create_dir_all(&work)?;
    let image = work.join("ground.img");
    let betweens = [Between::Files, Between::Noise, Between::Blank];
    let laid = pieces::lay(&work, &image, rounds.unwrap_or(ROUNDS), &betweens);
    println!("{} files in two pieces on {:.1} GB", laid.len(), fs::metadata(&image)?.len() as f64 / 1e9);
    let source = keel_source::open(&image, OpenOptions::default())?;
    let (desk, _progress) = Desk::new(Cancel::default());
    let swept = sweep::sweep(&source, &SweepOptions { reach: Reach::Surface, state: None }, &desk);
    let (desk, _progress): (Desk<AdriftProgress>, _) = Desk::new(Cancel::default());
    let begun = Instant::now();
    let held = (&RangeSet::default(), swept.finds.as_slice());
    let found = adrift::adrift(&source, &swept.starts.sorted(), held, &Cuts::Joined(Vec::new()), &desk).files;
    println!("judged and put together in {:.1} s", begun.elapsed().as_secs_f64());
    let by_start: BTreeMap<u64, &Adrift> = found.iter().map(|file| (file.at_byte.0, file)).collect();
    let (drive, mut rows) = (File::open(&image)?, BTreeMap::<(&str, Between), [usize; 4]>::new());
    for file in &laid {
        let row = rows.entry((file.kind, file.between)).or_default();
        row[0] += 1;
        match by_start.get(&file.pieces[0].0).filter(|own| own.state != AdriftState::Cut) {
            None => {
                let cut = by_start.get(&file.pieces[0].0).map_or("not found", |own| own.why.as_str());
                println!("left: {} {:?} {:?}: {cut}", file.kind, file.between, file.pieces);
                row[2] += 1;
            }
            Some(own) => {
                let mut hasher = blake3::Hasher::new();
                for (at, bytes) in &own.extents {
                    let mut piece = vec![0; usize::try_from(*bytes)?];
                    drive.read_exact_at(&mut piece, at.0)?;
                    hasher.update(&piece);
                }
                row[if hasher.finalize() == file.hash { 1 } else { 3 }] += 1;
            }
        }
    }
    println!("kind  between   laid  exact   left  wrong");
    let mut sums: BTreeMap<&str, [usize; 4]> = BTreeMap::new();
    for ((kind, between), counts) in &rows {
        let [laid, exact, left, wrong] = counts;
        println!("{kind:<5} {:<8} {laid:>5} {exact:>6} {left:>6} {wrong:>6}", format!("{between:?}").to_lowercase());
        sums.entry(kind).or_default().iter_mut().zip(counts).for_each(|(sum, own)| *sum += own);
    }
    for (kind, [laid, exact, _, wrong]) in sums {
        println!("{kind:<5} {:.1} % exact, {wrong} wrong", exact as f64 * 100.0 / laid as f64);
    }
    Ok(())
}
