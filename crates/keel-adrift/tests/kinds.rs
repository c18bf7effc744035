//! Files of the system's encoders, found, measured and judged; and none called whole that is not.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use keel_adrift::{Ground, Judged, KindId, Start, Starts, State, judge};
use keel_source::{ByteOffset, Cancel, MemorySource};
use support::{Folder, Made, make, noise};

/// The verdict on what begins at `start` of `source`.
fn looked(source: &MemorySource, start: Start) -> Option<Judged> {
    let end = ByteOffset(keel_source::Source::len(source));
    judge(Ground { source, end, most_read: u64::MAX, cancel: &Cancel::default() }, start.kind.kind(), start.at).file
}

/// The verdict on a file of a kind at the start of `ground`.
fn judged(kind: &str, ground: &[u8]) -> Option<Judged> {
    let source = MemorySource::new("ground", ground.to_vec(), 512);
    looked(&source, Start { at: ByteOffset(0), kind: KindId::named(kind).unwrap() })
}

/// A file on ground, filled up to whole clusters with zeros, and what lies behind.
fn on_ground(made: &Made, behind: &[u8]) -> Vec<u8> {
    let mut ground = made.bytes.clone();
    ground.resize(ground.len().next_multiple_of(4096), 0);
    ground.extend(behind);
    ground
}

#[test]
fn files_of_every_encoder_are_measured_to_their_last_byte_whatever_lies_behind() {
    let folder = Folder::new("measured");
    let made = make(&folder.0, 7);
    let behinds = [vec![0; 65_536], noise(65_536, 3), support::prose(65_536, 5).into_bytes(), Vec::new()];
    let mut wrong = Vec::new();
    for file in &made {
        for (number, behind) in behinds.iter().enumerate() {
            let ground = on_ground(file, behind);
            let found = judged(file.kind, &ground);
            let state = if file.whole { State::Whole } else { State::Plausible };
            let is = found
                .as_ref()
                .is_some_and(|found| (found.bytes, found.suffix, found.state) == (file.bytes.len() as u64, file.suffix, state));
            if !is {
                wrong.push(format!("{} ({number}): {} bytes: {found:?}", file.name, file.bytes.len()));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn every_file_is_among_the_starts_of_its_sector_and_noise_has_next_to_none() {
    let folder = Folder::new("starts");
    for file in make(&folder.0, 11) {
        let mut starts = Starts::default();
        starts.look(ByteOffset(1 << 20), &on_ground(&file, &[]), file.bytes.len());
        let first = starts.sorted().into_iter().filter(|start| start.at == ByteOffset(1 << 20));
        let kinds: Vec<&str> = first.map(|start| start.kind.kind().word).collect();
        assert!(kinds.contains(&file.kind), "{}: {kinds:?}", file.name);
    }
    let mut starts = Starts::default();
    let noise = noise(32 << 20, 1);
    starts.look(ByteOffset(0), &noise, noise.len());
    assert!(starts.count() < 20, "{} of 65,536 sectors of noise", starts.count());
    let source = MemorySource::new("noise", noise, 512);
    for start in starts.sorted() {
        let found = looked(&source, start);
        assert!(found.as_ref().is_none_or(|found| found.state == State::Cut && found.bytes < 4096), "{start:?}: {found:?}");
    }
}

#[test]
fn nothing_with_another_file_s_cluster_in_it_is_called_whole() {
    let folder = Folder::new("foreign");
    let made = make(&folder.0, 23);
    let foreign: Vec<Vec<u8>> = made.iter().map(|file| file.bytes.clone()).chain([noise(40_000, 9), vec![0; 40_000]]).collect();
    let mut whole = Vec::new();
    for file in made.iter().filter(|file| file.bytes.len() > 3 * 4096) {
        for (number, other) in foreign.iter().enumerate().filter(|(_, other)| other.len() >= 8192) {
            for at in (4096..file.bytes.len() - 4096).step_by(4096 * (1 + file.bytes.len() / 40_000)) {
                let mut ground = on_ground(file, &[]);
                let piece = &other[4096..8192];
                if ground[at..at + 4096] == *piece {
                    continue;
                }
                ground[at..at + 4096].copy_from_slice(piece);
                let found = judged(file.kind, &ground);
                if found.as_ref().is_some_and(|found| found.state == State::Whole && found.bytes > at as u64) {
                    whole.push(format!("{} with a cluster of {number} at {at}: {found:?}", file.name));
                }
            }
        }
    }
    assert!(whole.is_empty(), "{}", whole.join("\n"));
}

#[test]
fn a_file_whose_end_is_gone_is_cut_where_it_is_and_never_whole() {
    let folder = Folder::new("cut");
    for file in make(&folder.0, 31) {
        for part in [2, 3, 5] {
            let len = file.bytes.len() * (part - 1) / part;
            let mut ground = file.bytes[..len].to_vec();
            ground.extend(noise(20_000, part as u64));
            let found = judged(file.kind, &ground);
            let is_honest = found.as_ref().is_none_or(|found| found.state != State::Whole);
            assert!(is_honest, "{} cut at {len}: {found:?}", file.name);
        }
    }
}
