//! A short part of the damage runs, always the same one: no panic, and an answer to each case in time. The long run is
//! `cargo xtask fuzz`.

use std::time::{Duration, Instant};

/// Cases of the run.
const CASES: u64 = 500;

#[test]
fn five_hundred_damaged_drives_are_all_answered() {
    let folder = tempfile::tempdir().unwrap();
    let made = folder.path().join("seeds");
    crate::seeds::make(&made);
    let mut paths: Vec<_> = std::fs::read_dir(&made).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.retain(|path| path.extension().is_some_and(|ending| ending == "img"));
    paths.sort();
    assert!(paths.len() > 18, "{} drives", paths.len());
    let drives: Vec<crate::fuzz::Seed> = paths.iter().map(|path| crate::fuzz::Seed::open(path)).collect();
    for number in 0..CASES {
        let mut dice = crate::fuzz::Dice::new(7, number);
        let drive = &drives[dice.below(drives.len() as u64) as usize];
        let began = Instant::now();
        drive.run(&mut dice, folder.path());
        assert!(began.elapsed() < Duration::from_secs(30), "case {number} on {}: {:?}", drive.name, began.elapsed());
    }
}
