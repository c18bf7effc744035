//! Files of the system's encoders, found, measured and judged; and none called whole that is not.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use std::sync::LazyLock;

use keel_adrift::{Ground, Judged, KINDS, KindId, Start, Starts, State, judge, proves_itself};
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

/// A file of every kind, made once for all tests.
fn made() -> &'static [Made] {
    static MADE: LazyLock<Vec<Made>> = LazyLock::new(|| make(&Folder::new("kinds").0, 7));
    &MADE
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
    let made = made();
    let behinds = [vec![0; 65_536], noise(65_536, 3), support::prose(65_536, 5).into_bytes(), Vec::new()];
    let mut wrong = Vec::new();
    for file in made {
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
    for file in made() {
        let mut starts = Starts::default();
        starts.look(ByteOffset(1 << 20), &on_ground(file, &[]), file.bytes.len());
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
    let made = made();
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
    for file in made() {
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

#[test]
fn content_proves_itself_where_every_byte_of_it_is_the_file_s() {
    for file in made() {
        assert_eq!(proves_itself(file.bytes.clone()), file.whole, "{}", file.name);
        // A line end at the end may be missing.
        let (longer, shorter) = ([&file.bytes[..], b"more"].concat(), file.bytes[..file.bytes.len() - 8].to_vec());
        assert!(!proves_itself(longer) && !proves_itself(shorter), "{}", file.name);
    }
    assert!(!proves_itself(Vec::new()) && !proves_itself(noise(5000, 3)));
}

/// Damaged in every way that comes to mind: a verdict, or none, within a few times its length of reading.
#[test]
fn hostile_files_of_every_kind_end_in_a_verdict_without_much_reading() {
    let mut dice = noise(1 << 20, 77).into_iter().cycle();
    let mut roll = |below: usize| {
        let number = (0..4).fold(0, |number, _| number << 8 | usize::from(dice.next().unwrap_or(0)));
        number % below.max(1)
    };
    for file in made() {
        for round in 0..150 {
            let mut bytes = file.bytes.clone();
            for _ in 0..1 + roll(6) {
                // Mostly where lengths and places stand.
                let at = if round % 3 == 0 { roll(bytes.len()) } else { roll(bytes.len().min(600)) };
                let value = [0xFF, 0x7F, 0x80, 0, 1, roll(256) as u8][roll(6)];
                let end = (at + 1 + roll(8)).min(bytes.len());
                bytes[at..end].fill(value);
            }
            if round % 5 == 0 {
                bytes.truncate(roll(bytes.len()));
            }
            let source = MemorySource::new("ground", bytes, 512);
            let end = ByteOffset(keel_source::Source::len(&source));
            let ground = Ground { source: &source, end, most_read: u64::MAX, cancel: &Cancel::default() };
            let looked = judge(ground, KindId::named(file.kind).unwrap().kind(), ByteOffset(0));
            assert!(looked.read <= 5 * end.0 + (2 << 20), "{}: {} bytes read of {}", file.name, looked.read, end.0);
            assert!(looked.file.is_none_or(|found| found.bytes <= end.0), "{}", file.name);
        }
    }
}

#[test]
fn every_kind_survives_noise_blanks_and_the_beginnings_of_all_others() {
    let made = made();
    let mut grounds: Vec<Vec<u8>> = made.iter().map(|file| file.bytes[..file.bytes.len().min(8192)].to_vec()).collect();
    grounds.extend([vec![0; 8192], vec![0xFF; 8192], noise(8192, 2), Vec::new(), vec![0x47; 8192], b"{".repeat(8192)]);
    for kind in KINDS {
        for ground in &grounds {
            let end = ByteOffset(ground.len() as u64);
            let source = MemorySource::new("ground", ground.clone(), 512);
            let looked =
                judge(Ground { source: &source, end, most_read: u64::MAX, cancel: &Cancel::default() }, kind, ByteOffset(0));
            assert!(looked.file.is_none_or(|found| found.bytes <= end.0), "{}", kind.word);
        }
    }
}

#[test]
fn starts_come_back_from_a_file_as_they_went_in() {
    let mut starts = Starts::default();
    for (number, kind) in (0..3000u64).zip((0..KINDS.len() as u8).cycle()) {
        starts.add(Start { at: ByteOffset(number * number * 512), kind: KindId(kind) });
    }
    let text = serde_json::to_string(&starts).unwrap();
    let back: Starts = serde_json::from_str(&text).unwrap();
    assert_eq!(back.sorted(), starts.sorted());
    assert!(text.len() < 3000 * 8, "{} characters", text.len());
    // What somebody else wrote is taken as it comes.
    for wrong in [
        "{\"starts\":\"////\",\"untold\":0}",
        "{\"starts\":\"?\",\"untold\":1}",
        "{\"starts\":\"gICAgICAgICAgICAgICAgIA=\",\"untold\":0}",
    ] {
        let starts: Starts = serde_json::from_str(wrong).unwrap();
        assert!(starts.count() < 4);
    }
}
