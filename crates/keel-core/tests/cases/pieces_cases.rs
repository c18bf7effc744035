//! Files in two pieces, put together again where they prove themselves, and never wrongly.

use std::collections::BTreeMap;
use std::fs::File;
use std::os::unix::fs::FileExt;

use crate::pieces::{Between, Split, lay, lay_of};
use keel_core::adrift::{self, Adrift, AdriftProgress, AdriftState, Cuts};
use keel_core::job::{Cancel, Desk};
use keel_core::sweep::{self, Reach, SweepOptions};
use keel_source::{OpenOptions, RangeSet};

/// What is found, joined.
fn joined(image: &std::path::Path) -> Vec<Adrift> {
    let source = keel_source::open(image, OpenOptions::default()).unwrap();
    let (desk, _progress) = Desk::new(Cancel::default());
    let swept = sweep::sweep(&source, &SweepOptions { reach: Reach::Surface, state: None }, &desk);
    let (desk, _progress): (Desk<AdriftProgress>, _) = Desk::new(Cancel::default());
    let held = (&RangeSet::default(), swept.finds.as_slice());
    adrift::adrift(&source, &swept.starts.sorted(), held, &Cuts::Joined(Vec::new()), &desk).files
}

fn content(image: &std::path::Path, file: &Adrift) -> Vec<u8> {
    let drive = File::open(image).unwrap();
    let mut all = Vec::new();
    for (at, bytes) in &file.extents {
        let mut piece = vec![0; *bytes as usize];
        drive.read_exact_at(&mut piece, at.0).unwrap();
        all.extend(piece);
    }
    all
}

/// Counts by kind: laid, exact, not put together, put together wrongly.
fn compared(image: &std::path::Path, laid: &[Split]) -> BTreeMap<(&'static str, Between), [usize; 4]> {
    let found = joined(image);
    let mut counts: BTreeMap<(&str, Between), [usize; 4]> = BTreeMap::new();
    for file in laid {
        let row = counts.entry((file.kind, file.between)).or_default();
        row[0] += 1;
        let own = found.iter().find(|found| found.at_byte.0 == file.pieces[0].0 && found.state != AdriftState::Cut);
        match own {
            Some(own) if blake3::hash(&content(image, own)) == file.hash => row[1] += 1,
            Some(own) => {
                println!("{} at {}: {:?} instead of {:?}: {}", file.kind, own.at_byte.0, own.extents, file.pieces, own.why);
                row[3] += 1;
            }
            None => row[2] += 1,
        }
    }
    counts
}

#[test]
fn files_in_two_pieces_around_others_are_put_together_exactly() {
    let folder = tempfile::tempdir().unwrap();
    let image = folder.path().join("ground.img");
    let laid = lay(folder.path(), &image, 1, &[Between::Files, Between::Noise]);
    let counts = compared(&image, &laid);
    let sum = counts.values().fold([0; 4], |sum, own| std::array::from_fn(|index| sum[index] + own[index]));
    let [all, exact, _, wrong] = sum;
    assert_eq!(wrong, 0, "{counts:?}");
    assert!(exact * 10 >= all * 6, "{counts:?}");
}

#[test]
fn a_film_is_put_together_by_its_frames_wherever_its_index_stands() {
    let folder = tempfile::tempdir().unwrap();
    let image = folder.path().join("ground.img");
    // Zeros are no part of a frame: each of these breaks at one place alone.
    let laid = lay_of(folder.path(), &image, 1, &[Between::Blank], |kind| kind == "mp4");
    let counts = compared(&image, &laid);
    assert_eq!(counts.values().copied().collect::<Vec<_>>(), [[3, 3, 0, 0]], "{counts:?}");
}
