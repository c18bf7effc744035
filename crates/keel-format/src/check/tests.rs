#![allow(clippy::single_range_in_vec_init, reason = "a file may hold one stretch of ground")]

use std::ops::ControlFlow;

use proptest::prelude::*;

use super::*;
use crate::{Deleted, Entry, FormatError, MemoryStream, NodeId, StreamInfo, StreamReader, VolumeKind, VolumeSummary, WalkEntry};

/// A volume of 64 units of 512 bytes behind 1024 bytes, whose files hold these units.
struct Toy {
    summary: VolumeSummary,
    files: Vec<(&'static str, Vec<std::ops::Range<u64>>)>,
    used: u64,
    order: BitOrder,
    knows_all: bool,
}

fn toy(files: &[(&'static str, &[std::ops::Range<u64>])], used: u64) -> Toy {
    Toy {
        summary: VolumeSummary { kind: Some(VolumeKind::Ntfs), label: None, serial: None, bytes: 0, cluster_bytes: 512 },
        files: files.iter().map(|(name, units)| (*name, units.to_vec())).collect(),
        used,
        order: BitOrder::LowFirst,
        knows_all: true,
    }
}

impl Volume for Toy {
    fn summary(&self) -> &VolumeSummary {
        &self.summary
    }

    fn root(&self) -> NodeId {
        NodeId(0)
    }

    fn list(&self, _: NodeId, _: Deleted, _: &mut dyn FnMut(Entry) -> ControlFlow<()>) -> Result<Vec<Finding>, FormatError> {
        Ok(Vec::new())
    }

    fn walk(&self, _: Deleted, _: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>) -> Result<Vec<Finding>, FormatError> {
        Ok(Vec::new())
    }

    fn streams(&self, _: NodeId) -> Result<Vec<StreamInfo>, FormatError> {
        Ok(Vec::new())
    }

    fn open(&self, _: NodeId, _: &str) -> Result<Box<dyn StreamReader>, FormatError> {
        Ok(Box::new(MemoryStream(Vec::new())))
    }

    fn extents(&self, _: NodeId) -> Result<Vec<Extent>, FormatError> {
        Ok(Vec::new())
    }

    fn examine(&self) -> Vec<Finding> {
        Vec::new()
    }

    fn allocation(&self) -> Option<Allocation> {
        let bytes = match self.order {
            BitOrder::LowFirst => self.used.to_le_bytes(),
            BitOrder::HighFirst => self.used.reverse_bits().to_be_bytes(),
        };
        Some(Allocation {
            unit: "cluster",
            unit_bytes: 512,
            first_at: ByteOffset(1024),
            first_number: 2,
            units: 64,
            bits: bytes.to_vec(),
            order: self.order,
            // The bitmap's bytes stand in two pieces.
            places: vec![
                Extent { stream_at: 0, volume_at: Some(ByteOffset(100)), bytes: 512 },
                Extent { stream_at: 512, volume_at: Some(ByteOffset(9000)), bytes: 512 },
            ],
            knows_all: self.knows_all,
        })
    }

    fn claims(&self, each: &mut dyn FnMut(&str, &[Extent])) -> Result<(), FormatError> {
        for (name, ranges) in &self.files {
            let extent = |units: &std::ops::Range<u64>| Extent {
                stream_at: 0,
                volume_at: Some(ByteOffset(1024 + units.start * 512)),
                bytes: (units.end - units.start) * 512,
            };
            each(name, &ranges.iter().map(extent).collect::<Vec<_>>());
        }
        Ok(())
    }
}

fn found(toy: &Toy) -> Vec<(&'static str, Vec<String>)> {
    let rules = check(toy).into_iter().filter(|rule| !rule.findings.is_empty());
    rules.map(|rule| (rule.rule, rule.findings.iter().map(|finding| finding.what.clone()).collect())).collect()
}

#[test]
fn a_sound_volume_passes_and_both_orders_of_bits_read_alike() {
    for order in [BitOrder::LowFirst, BitOrder::HighFirst] {
        let sound = Toy { order, ..toy(&[("log", &[0..3, 10..11]), ("chart", &[40..64])], 0xFFFF_FF00_0000_0407) };
        assert_eq!(found(&sound), []);
    }
}

#[test]
fn ground_that_two_files_hold_is_told_with_both_names() {
    let crossed = toy(&[("log", &[0..8]), ("chart", &[4..6, 20..21]), ("crew\u{1b}", &[5..6])], 0x10_00FF);
    let said = found(&crossed);
    assert_eq!(said[0].0, "held once");
    assert!(said[0].1.iter().any(|what| what == "1 clusters are held by log and chart alike"), "{said:?}");
    assert!(said[0].1.iter().any(|what| what.contains("log and chart and crew") && !what.contains('\u{1b}')), "{said:?}");
    let rules = check(&crossed);
    assert!(rules.iter().all(|rule| rule.mending.is_none()), "which of the two is right is not known");
}

#[test]
fn ground_that_is_counted_as_free_is_counted_as_used_again_by_its_own_sectors() {
    let free = toy(&[("log", &[0..8])], 0b1111_0001);
    let rules = check(&free);
    let rule = rules.iter().find(|rule| rule.rule == "counted as used").unwrap();
    assert_eq!(rule.findings[0].what, "3 clusters are held by files and counted as free, the first is number 3");
    assert_eq!(rule.findings[0].at_byte, Some(ByteOffset(1024 + 512)));
    let mending = rule.mending.as_ref().unwrap();
    let [repair] = mending.repairs.as_slice() else { panic!("{mending:?}") };
    assert_eq!((mending.is_safe, repair.at, repair.bytes[0]), (true, ByteOffset(100), 0xFF));
}

#[test]
fn ground_without_a_file_is_a_note_and_freed_on_request_only() {
    let lost = toy(&[("log", &[0..4])], 0xF0F);
    let rules = check(&lost);
    let rule = rules.iter().find(|rule| rule.rule == "held by a file").unwrap();
    assert_eq!(rule.worst(), Some(Severity::Note));
    let mending = rule.mending.as_ref().unwrap();
    assert_eq!((mending.is_safe, mending.repairs[0].bytes[..2].to_vec()), (false, vec![0x0F, 0x00]));
    assert!(mending.loses.contains("--lost-to"));
    // Where not everything that holds ground is known, nothing is called lost.
    let unsure = Toy { knows_all: false, ..lost };
    assert!(check(&unsure).iter().all(|rule| rule.rule != "held by a file"));
}

#[test]
fn a_bitmap_in_pieces_is_written_piece_by_piece_and_not_outside_of_them() {
    let allocation = Allocation { units: 3 * 4096, bits: vec![0; 3 * 512], ..toy(&[], 0).allocation().unwrap() };
    let units = [4090..4100, 8200..8210];
    let repairs = allocation.marked(&units, true);
    let places: Vec<(ByteOffset, usize)> = repairs.iter().map(|repair| (repair.at, repair.bytes.len())).collect();
    assert_eq!(places, [(ByteOffset(100), 512), (ByteOffset(9000), 512)], "the third piece has no place");
    let ones: u32 = repairs.iter().flat_map(|repair| &repair.bytes).map(|byte| byte.count_ones()).sum();
    assert_eq!(ones, 10);
}

#[test]
fn a_volume_with_too_many_units_says_that_it_was_not_cross_checked() {
    struct Vast(Toy);
    let vast = Vast(toy(&[], 0));
    let allocation = Allocation { units: MOST_UNITS + 1, ..vast.0.allocation().unwrap() };
    assert!(ground(&vast.0, &allocation).is_err());
}

proptest! {
    #[test]
    fn after_the_safe_mending_everything_held_is_counted(
        used in any::<u64>(),
        files in proptest::collection::vec((0u64..60, 1u64..8), 0..8),
        high in any::<bool>(),
    ) {
        let order = if high { BitOrder::HighFirst } else { BitOrder::LowFirst };
        let ranges: Vec<std::ops::Range<u64>> = files.iter().map(|(start, len)| *start..(start + len).min(64)).collect();
        let volume = Toy { order, ..toy(&[("log", &ranges)], used) };
        let rules = check(&volume);
        let rule = rules.iter().find(|rule| rule.rule == "counted as used").unwrap();
        let missing: std::collections::BTreeSet<u64> =
            ranges.iter().flat_map(Clone::clone).filter(|unit| used >> unit & 1 == 0).collect();
        prop_assert_eq!(rule.findings.is_empty(), missing.is_empty());
        let bits = rule.mending.iter().flat_map(|mending| &mending.repairs).next().map(|repair| repair.bytes.clone());
        if let Some(bits) = bits {
            let now = Allocation { bits, ..volume.allocation().unwrap() };
            prop_assert!((0..64).all(|unit| now.is_used(unit) == (used >> unit & 1 == 1 || missing.contains(&unit))));
        }
    }
}
