//! Runs that are measured: how long a command takes and what memory it needs, in seconds and KiB.

use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;

use anyhow::{Context, ensure};

use crate::content::Dice;
use crate::guest::root;

/// Runs of each command; the median is printed.
pub(crate) const RUNS: usize = 5;

/// Seconds and peak memory of one run.
#[derive(Clone, Copy)]
pub(crate) struct Figure {
    pub(crate) seconds: f64,
    pub(crate) kib: u64,
    /// Seconds of a core outside the kernel.
    pub(crate) user: f64,
}

/// The state folder of the measured commands.
pub(crate) fn state() -> PathBuf {
    root().join("target/bench/state")
}

/// Forgets what earlier runs kept: a map of the surface would make the next sweep instant.
pub(crate) fn forget() -> anyhow::Result<()> {
    let _ = fs::remove_dir_all(state());
    fs::create_dir_all(state())?;
    Ok(())
}

/// Runs a command once under the system's own accounting.
pub(crate) fn once(command: &[&str]) -> anyhow::Result<Figure> {
    let output = Command::new("/usr/bin/time")
        .args(["-f", "%e %M %U"])
        .args(command)
        .env("YKEEL_STATE", state())
        .output()
        .context("cannot start time")?;
    let text = String::from_utf8_lossy(&output.stderr).into_owned();
    let mut words = text.lines().last().unwrap_or_default().split(' ');
    let mut next = || words.next().unwrap_or_default();
    let figure = Figure { seconds: next().parse()?, kib: next().parse()?, user: next().parse()? };
    ensure!(output.status.success(), "{}: {text}", command.join(" "));
    Ok(figure)
}

pub(crate) fn median(mut figures: Vec<Figure>) -> Figure {
    figures.sort_by(|one, two| one.seconds.total_cmp(&two.seconds));
    figures[figures.len() / 2]
}

pub(crate) fn row(what: &str, figure: Figure, note: &str) {
    println!("{what:<52} {:>8.3} s {:>7.1} MiB  {note}", figure.seconds, figure.kib as f64 / 1024.0);
}

/// An image of `bytes` bytes of noise, made once.
pub(crate) fn noise(image: &Path, bytes: u64) -> anyhow::Result<String> {
    if fs::metadata(image).map_or(0, |metadata| metadata.len()) != bytes {
        let mut file = File::create(image)?;
        let mut dice = Dice::new(8);
        let mut block: Vec<u8> = (0..(4 << 20) / 8).flat_map(|_| dice.next().to_le_bytes()).collect();
        for number in 0..bytes / block.len() as u64 {
            block[..8].copy_from_slice(&number.to_le_bytes());
            file.write_all(&block)?;
        }
        file.sync_all()?;
    }
    Ok(image.to_string_lossy().into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_middle_figure_is_the_median_whatever_order_they_came_in() {
        let figure = |seconds: f64| Figure { seconds, kib: 1, user: 0.0 };
        let median_of = |all: &[f64]| median(all.iter().map(|seconds| figure(*seconds)).collect()).seconds;
        assert!((median_of(&[3.0, 1.0, 2.0]) - 2.0).abs() < 1e-9);
        assert!((median_of(&[5.0, 0.1, 0.2, 9.0, 0.3]) - 0.3).abs() < 1e-9);
        assert!((median_of(&[7.0]) - 7.0).abs() < 1e-9);
    }

    #[test]
    fn noise_is_made_once_never_repeats_and_is_made_anew_for_another_length() {
        let folder = std::env::temp_dir().join(format!("keel-measure-{}", std::process::id()));
        fs::create_dir_all(&folder).unwrap();
        let image = folder.join("noise.img");
        noise(&image, 8 << 20).unwrap();
        let first = fs::read(&image).unwrap();
        assert_eq!(first.len(), 8 << 20);
        assert!(first[..4 << 20] != first[4 << 20..], "no block is the other");
        let made = fs::metadata(&image).unwrap().modified().unwrap();
        noise(&image, 8 << 20).unwrap();
        assert_eq!(fs::metadata(&image).unwrap().modified().unwrap(), made);
        noise(&image, 4 << 20).unwrap();
        assert_eq!(fs::metadata(&image).unwrap().len(), 4 << 20);
        fs::remove_dir_all(&folder).unwrap();
    }
}
