//! At which bytes a device wants what it holds to begin.

use std::fs;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::Path;

use crate::holders;

/// Files below a device's own folder that say it, in bytes: what it likes to be asked for at once, and what it erases at once.
const FILES: [&str; 2] = ["queue/optimal_io_size", "device/preferred_erase_size"];
/// A step that is larger than this would cost more than it gives.
const MOST: u64 = 64 << 20;

/// Bytes of the step that the block device at `path` asks for by its optimal input and output and by what it erases at once, as a multiple
/// of `least`. `least` where it asks for nothing, or is no block device.
#[must_use]
pub fn alignment_of(path: &Path, least: u64) -> u64 {
    let about = fs::metadata(path).ok().filter(|about| about.file_type().is_block_device());
    about.map_or(least, |about| asked_at(&holders::sysfs_of(about.rdev()), least))
}

fn asked_at(sysfs: &Path, least: u64) -> u64 {
    FILES.iter().fold(least, |step, file| {
        let text = fs::read_to_string(sysfs.join(file)).unwrap_or_default();
        let asked: u64 = text.trim().parse().unwrap_or(0);
        let both = common_multiple(step, asked);
        // What is no whole sectors, or nothing, is no wish.
        if asked >= 4096 && asked.is_multiple_of(4096) && both <= MOST { both } else { step }
    })
}

fn common_multiple(one: u64, other: u64) -> u64 {
    let (mut large, mut small) = (one, other);
    while small != 0 {
        (large, small) = (small, large % small);
    }
    (one / large.max(1)).saturating_mul(other)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn asked(files: &[(&str, &str)]) -> u64 {
        let root = tempfile::tempdir().unwrap();
        for (name, text) in files {
            let path = root.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        asked_at(root.path(), 1 << 20)
    }

    #[test]
    fn what_a_device_asks_for_is_followed_where_it_makes_sense() {
        assert_eq!((asked(&[]), asked(&[("queue/optimal_io_size", "0\n")])), (1 << 20, 1 << 20));
        assert_eq!(asked(&[("queue/optimal_io_size", "524288\n")]), 1 << 20, "a part of the step");
        assert_eq!(asked(&[("device/preferred_erase_size", "4194304\n")]), 4 << 20, "a card's");
        assert_eq!(asked(&[("queue/optimal_io_size", "786432\n")]), 3 << 20, "three stripes of an array");
        assert_eq!(asked(&[("queue/optimal_io_size", "33553920\n")]), 1 << 20, "no whole sectors of 4096 bytes");
        assert_eq!(asked(&[("queue/optimal_io_size", "1073741824\n")]), 1 << 20, "more than it gives");
        assert_eq!(asked(&[("queue/optimal_io_size", "many\n")]), 1 << 20);
        assert_eq!(alignment_of(Path::new("/nowhere"), 1 << 20), 1 << 20);
    }
}
