use keel_source::{ByteOffset, MemoryTarget, WriteTarget};
use proptest::prelude::*;

use super::apply::write_edits;
use super::*;
use crate::edit::Order;

const BYTES: usize = 64 << 10;

fn before() -> Vec<u8> {
    (0..BYTES).map(|at| (at / 512 + at % 7) as u8).collect()
}

fn edits() -> Vec<Edit> {
    let edit = |at: usize, len: usize, byte: u8, order| Edit {
        structure: "header".into(),
        at_byte: ByteOffset(at as u64),
        before: before()[at..at + len].to_vec(),
        after: (0..len).map(|index| byte.wrapping_add(index as u8)).collect::<Vec<u8>>().into(),
        intent: crate::edit::Intent::Repair,
        belongs: crate::edit::Belongs::default(),
        order,
        reason: "a test".into(),
    };
    vec![
        edit(60_000, 1024, 0x31, Order::Copy),
        edit(62_000, 512, 0x77, Order::Copy),
        edit(1024, 2048, 0x55, Order::Primary),
        edit(512, 512, 0x99, Order::Primary),
        edit(0, 512, 0xC3, Order::Primary),
    ]
}

fn bundle() -> Bundle {
    let image = keel_source::MemorySource::new("x.img", before(), 512);
    let source: keel_source::SharedSource = std::sync::Arc::new(image);
    Bundle::new(&source, &edits())
}

fn applied() -> Vec<u8> {
    let mut bytes = before();
    for edit in edits() {
        let at = edit.at_byte.0 as usize;
        edit.after.fill(0, &mut bytes[at..at + edit.before.len()]);
    }
    bytes
}

/// Every image that a crash during the recorded steps can leave: all prefixes, the next write torn at several places,
/// and any single write of those since the last flush missing (the drive reordered them).
fn crash_images(start: &[u8], steps: &[Option<(ByteOffset, Vec<u8>)>]) -> Vec<Vec<u8>> {
    let put = |image: &mut Vec<u8>, at: ByteOffset, bytes: &[u8]| {
        let at = at.0 as usize;
        image[at..at + bytes.len()].copy_from_slice(bytes);
    };
    let mut images = Vec::new();
    for count in 0..=steps.len() {
        let mut image = start.to_vec();
        steps[..count].iter().flatten().for_each(|(at, bytes)| put(&mut image, *at, bytes));
        if let Some(Some((at, bytes))) = steps.get(count) {
            for cut in [1, 100, 511, 512, 513, bytes.len() - 1].into_iter().filter(|cut| *cut < bytes.len()) {
                let mut torn = image.clone();
                put(&mut torn, *at, &bytes[..cut]);
                images.push(torn);
            }
        }
        let since_flush = steps[..count].iter().rposition(Option::is_none).map_or(0, |flush| flush + 1);
        for missing in since_flush..count {
            let mut image = start.to_vec();
            let kept = steps[..count].iter().enumerate().filter(|(index, _)| *index != missing);
            kept.filter_map(|(_, step)| step.as_ref()).for_each(|(at, bytes)| put(&mut image, *at, bytes));
            images.push(image);
        }
        images.push(image);
    }
    images
}

fn condition_in(image: &[u8]) -> Condition {
    let read = condition_of(&bundle(), &mut |at, buf| {
        buf.copy_from_slice(&image[at.0 as usize..][..buf.len()]);
        true
    });
    read.unwrap()
}

fn recovered(image: &[u8], direction: Direction) -> (Vec<u8>, MemoryTarget) {
    let mut target = MemoryTarget::new(image.to_vec());
    recover_target(&mut target, &bundle(), direction, &mut |_| {}).unwrap();
    (target.bytes.clone(), target)
}

#[test]
fn every_crash_image_of_an_apply_leads_to_both_known_states() {
    let mut target = MemoryTarget::new(before());
    write_edits(&mut target, &edits(), &mut |_| {}).unwrap();
    assert_eq!(target.bytes, applied());
    let images = crash_images(&before(), &target.steps);
    assert!(images.len() > 30);
    let mut between = 0;
    for image in &images {
        let condition = condition_in(image);
        assert!(!matches!(condition, Condition::Foreign(_)));
        between += usize::from(condition == Condition::Between);
        assert_eq!(recovered(image, Direction::RollBack).0, before());
        assert_eq!(recovered(image, Direction::Finish).0, applied());
    }
    assert!(between > 20 && condition_in(&before()) == Condition::Former && condition_in(&applied()) == Condition::Applied);
}

#[test]
fn a_crash_while_putting_back_is_recovered_too() {
    let (_, target) = recovered(&applied(), Direction::RollBack);
    for image in crash_images(&applied(), &target.steps) {
        assert_eq!(recovered(&image, Direction::RollBack).0, before());
        assert_eq!(recovered(&image, Direction::Finish).0, applied());
    }
}

#[test]
fn copies_are_flushed_before_a_primary_is_touched() {
    let mut target = MemoryTarget::new(before());
    write_edits(&mut target, &edits(), &mut |_| {}).unwrap();
    let places: Vec<Option<u64>> = target.steps.iter().map(|step| step.as_ref().map(|(at, _)| at.0)).collect();
    assert_eq!(places, [Some(60_000), Some(62_000), None, Some(1024), Some(512), Some(0), None]);
}

#[test]
fn a_failing_write_stops_the_apply_at_once() {
    let mut clean = MemoryTarget::new(before());
    write_edits(&mut clean, &edits(), &mut |_| {}).unwrap();
    for limit in 0..clean.steps.len() {
        let mut target = MemoryTarget::new(before());
        target.fail_after = Some(limit);
        assert!(write_edits(&mut target, &edits(), &mut |_| {}).is_err());
        assert_eq!(target.steps.len(), limit);
        assert_eq!(recovered(&target.bytes, Direction::RollBack).0, before());
    }
}

#[test]
fn what_something_else_wrote_is_not_overwritten() {
    let mut foreign = applied();
    foreign[60_100] ^= 0x5A;
    assert_eq!(condition_in(&foreign), Condition::Foreign(ByteOffset(60_000)));
    let mut target = MemoryTarget::new(before());
    assert!(target.write_at(ByteOffset(BYTES as u64), &[1]).is_err());
}

proptest! {
    #[test]
    fn any_mix_of_former_and_new_sectors_is_recovered(new in proptest::collection::vec(any::<bool>(), 128)) {
        let (from, to) = (before(), applied());
        let image: Vec<u8> = (0..BYTES).map(|at| if new[at / 512] { to[at] } else { from[at] }).collect();
        prop_assert!(!matches!(condition_in(&image), Condition::Foreign(_)));
        prop_assert_eq!(recovered(&image, Direction::RollBack).0, from);
        prop_assert_eq!(recovered(&image, Direction::Finish).0, to);
    }
}
