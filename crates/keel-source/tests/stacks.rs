//! Sources that lie over one another, in any order, against a model that is nothing but bytes: what is read, what is named as
//! missing, and where data is.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::sync::Arc;

use keel_source::{ByteOffset, ByteRange, Masked, MemorySource, Overlay, Resectored, SectorSize, SharedSource, Window};
use proptest::prelude::*;

/// The longest drive of these tests, in bytes.
const MOST: usize = 2048;

/// Bytes, and which of them do not read.
#[derive(Debug, Clone)]
struct Model {
    bytes: Vec<u8>,
    bad: Vec<bool>,
}

/// A layer: what lies over a source.
#[derive(Debug, Clone)]
enum Layer {
    /// A part of it.
    Window { from: usize, len: usize },
    /// Other bytes in some places.
    Overlay(Vec<(usize, Vec<u8>)>),
    /// Places that are missing.
    Masked(Vec<(usize, usize)>),
    /// Sectors of another size.
    Resectored(u32),
}

fn layer() -> impl Strategy<Value = Layer> {
    let place = 0usize..MOST;
    prop_oneof![
        (place.clone(), 0usize..MOST).prop_map(|(from, len)| Layer::Window { from, len }),
        proptest::collection::vec((place.clone(), proptest::collection::vec(any::<u8>(), 1..200)), 0..5).prop_map(Layer::Overlay),
        proptest::collection::vec((place, 1usize..200), 0..5).prop_map(Layer::Masked),
        prop_oneof![Just(512u32), Just(4096)].prop_map(Layer::Resectored),
    ]
}

/// Ranges that rise and do not meet, as a map of what is missing has them.
fn apart(mut ranges: Vec<(usize, usize)>) -> Vec<ByteRange> {
    ranges.sort_unstable();
    let mut joined: Vec<ByteRange> = Vec::new();
    for (at, len) in ranges {
        let range = ByteRange::sized(ByteOffset(at as u64), len as u64);
        match joined.last_mut() {
            Some(last) if last.end >= range.start => last.end = last.end.max(range.end),
            _ => joined.push(range),
        }
    }
    joined
}

/// Lays one over the source, and the same over the model.
fn laid(source: SharedSource, model: &mut Model, layer: &Layer) -> SharedSource {
    match layer {
        Layer::Window { from, len } => {
            let (from, end) = ((*from).min(model.bytes.len()), (from + len).min(model.bytes.len()));
            let range = ByteRange::sized(ByteOffset(from as u64), end.saturating_sub(from) as u64);
            *model = Model { bytes: model.bytes[from..end.max(from)].to_vec(), bad: model.bad[from..end.max(from)].to_vec() };
            Arc::new(Window::new(source, range))
        }
        Layer::Overlay(edits) => {
            let mut overlay = Overlay::new(source);
            for (at, bytes) in edits {
                // An edit lies on the drive.
                let len = bytes.len().min(model.bytes.len().saturating_sub(*at));
                if len > 0 {
                    overlay.lay(ByteOffset(*at as u64), &bytes[..len]);
                    model.bytes[*at..*at + len].copy_from_slice(&bytes[..len]);
                    model.bad[*at..*at + len].fill(false);
                }
            }
            Arc::new(overlay)
        }
        Layer::Masked(places) => {
            let missing = apart(places.clone());
            for range in &missing {
                let end = (range.end.0 as usize).min(model.bad.len());
                let from = (range.start.0 as usize).min(end);
                model.bad[from..end].fill(true);
            }
            Arc::new(Masked::new(source, missing, "not copied yet"))
        }
        Layer::Resectored(sector) => Arc::new(Resectored::new(source, SectorSize(*sector))),
    }
}

/// Every byte that an error names.
fn named(bad: &[ByteRange]) -> Vec<u64> {
    let mut named: Vec<u64> = bad.iter().flat_map(|range| range.start.0..range.end.0).collect();
    named.sort_unstable();
    named.dedup();
    named
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn any_stack_reads_as_its_bytes_and_names_what_is_missing(
        bytes in proptest::collection::vec(any::<u8>(), 1..MOST),
        dead in proptest::option::of((0usize..MOST, 1usize..300)),
        layers in proptest::collection::vec(layer(), 0..6),
        reads in proptest::collection::vec((0usize..MOST + 300, 0usize..700), 1..12),
    ) {
        let mut model = Model { bad: vec![false; bytes.len()], bytes: bytes.clone() };
        let mut below = MemorySource::new("quay", bytes, 512);
        if let Some((at, len)) = dead {
            below = below.with_bad(ByteRange::sized(ByteOffset(at as u64), len as u64));
            let end = (at + len).min(model.bad.len());
            model.bad[at.min(end)..end].fill(true);
        }
        let mut source: SharedSource = Arc::new(below);
        for layer in &layers {
            source = laid(source, &mut model, layer);
            prop_assert_eq!(source.len(), model.bytes.len() as u64);
        }
        for (at, len) in reads {
            let mut buf = vec![0xEE; len];
            let read = source.read_at(ByteOffset(at as u64), &mut buf);
            let gone: Vec<u64> = (at..at + len)
                .filter(|place| model.bad.get(*place).copied().unwrap_or(true))
                .map(|place| place as u64)
                .collect();
            match &read {
                Ok(()) => prop_assert!(gone.is_empty(), "{} at {at}: {gone:?} are not there", len),
                Err(error) => {
                    let told = named(&error.bad);
                    prop_assert!(gone.iter().all(|place| told.contains(place)), "{gone:?}, told {told:?}");
                    prop_assert!(told.iter().all(|place| gone.contains(place)), "{gone:?}, told {told:?}");
                }
            }
            for (place, byte) in (at..).zip(&buf) {
                let there = !gone.contains(&(place as u64));
                let wanted = if there { model.bytes[place] } else { 0 };
                prop_assert_eq!(*byte, wanted, "byte {}", place);
            }
        }
    }

    /// Where data is said to be there is all of it: what lies between is zeros, and reads.
    #[test]
    fn between_stretches_of_data_there_is_nothing(
        bytes in proptest::collection::vec(prop_oneof![3 => Just(0u8), 1 => any::<u8>()], 1..MOST),
        layers in proptest::collection::vec(layer(), 0..5),
    ) {
        let mut model = Model { bad: vec![false; bytes.len()], bytes: bytes.clone() };
        let mut source: SharedSource = Arc::new(MemorySource::new("quay", bytes, 512));
        for layer in &layers {
            source = laid(source, &mut model, layer);
        }
        let (mut at, mut stretches) = (ByteOffset(0), 0);
        let mut covered = vec![false; model.bytes.len()];
        while let Some(data) = source.next_data(at) {
            prop_assert!(data.end > at && data.start >= at, "{data:?} behind {at:?}");
            let end = (data.end.0 as usize).min(covered.len());
            covered[(data.start.0 as usize).min(end)..end].fill(true);
            at = data.end;
            stretches += 1;
            prop_assert!(stretches <= 4096, "it ends");
        }
        for (place, is_data) in covered.iter().enumerate() {
            prop_assert!(*is_data || (model.bytes[place] == 0 && !model.bad[place]), "byte {} is no hole", place);
        }
    }
}
