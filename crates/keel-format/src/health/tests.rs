use keel_source::HealthPage;
use proptest::prelude::*;

use super::*;

/// An ATA page with these attributes: id, flags, value, worst, raw, threshold.
fn ata_page(attributes: &[(u8, u16, u8, u8, u64, u8)]) -> HealthPage {
    let (mut data, mut thresholds) = (Box::new([0u8; 512]), Box::new([0u8; 512]));
    for (index, (id, flags, value, worst, raw, threshold)) in attributes.iter().enumerate() {
        let at = 2 + index * 12;
        data[at] = *id;
        data[at + 1..at + 3].copy_from_slice(&flags.to_le_bytes());
        (data[at + 3], data[at + 4]) = (*value, *worst);
        data[at + 5..at + 11].copy_from_slice(&raw.to_le_bytes()[..6]);
        (thresholds[at], thresholds[at + 1]) = (*id, *threshold);
    }
    for page in [&mut data, &mut thresholds] {
        page[511] = page.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)).wrapping_neg();
    }
    HealthPage::Ata { data, thresholds, sct: None }
}

#[test]
fn an_ata_page_gives_its_attributes_with_thresholds() {
    let page = ata_page(&[(5, 0x33, 30, 30, 1880, 36), (194, 0x22, 41, 55, 0x0037_0010_0029, 0), (199, 0x3e, 200, 200, 7, 0)]);
    let HealthReading::Ata(health) = read(&page) else { panic!("no ATA page") };
    assert!(health.checksum_holds);
    let reallocated = health.attribute(5).unwrap();
    assert!(reallocated.has_failed() && reallocated.pre_failure && reallocated.raw == 1880);
    assert_eq!((health.celsius(), health.count(199), health.count(1)), (Some(41), 7, 0));
    assert!(!health.attribute(199).unwrap().has_failed(), "a threshold of 0 never fails");
}

#[test]
fn a_page_whose_checksum_does_not_hold_is_said_to_be_doubtful_and_its_thresholds_are_not_believed() {
    let HealthPage::Ata { mut data, mut thresholds, .. } = ata_page(&[(5, 1, 30, 30, 0, 36)]) else { panic!() };
    data[100] ^= 1;
    thresholds[200] ^= 1;
    let HealthReading::Ata(health) = read(&HealthPage::Ata { data, thresholds, sct: None }) else { panic!() };
    assert!(!health.checksum_holds && health.attribute(5).unwrap().threshold.is_none());
}

/// The fields at the places where the standard's figure puts them.
#[test]
fn an_nvme_log_gives_its_fields() {
    let mut log = Box::new([0u8; 512]);
    log[0] = 0b1;
    log[1..3].copy_from_slice(&318u16.to_le_bytes());
    (log[3], log[4], log[5]) = (4, 10, 103);
    log[112] = 9;
    log[128..136].copy_from_slice(&12_345u64.to_le_bytes());
    log[144] = 3;
    log[160..168].copy_from_slice(&77u64.to_le_bytes());
    log[184] = 1;
    let HealthReading::Nvme(health) = read(&HealthPage::Nvme { log }) else { panic!("no NVMe log") };
    assert_eq!((health.celsius, health.available_spare, health.percentage_used), (Some(45), 4, 103));
    assert_eq!((health.power_cycles, health.power_on_hours, health.unsafe_shutdowns, health.media_errors), (9, 12_345, 3, 77));
    assert_eq!(health.error_log_entries, u64::MAX, "more than 64 bits");
}

proptest! {
    #[test]
    fn any_bytes_are_read(bytes in proptest::collection::vec(any::<u8>(), 1024)) {
        let half = |from: usize| Box::new(<[u8; 512]>::try_from(&bytes[from..from + 512]).unwrap());
        let HealthReading::Ata(health) = read(&HealthPage::Ata { data: half(0), thresholds: half(512), sct: None }) else { panic!() };
        prop_assert!(health.attributes.len() <= 30);
        let _ = read(&HealthPage::Nvme { log: half(0) });
    }
}

#[test]
fn sct_status_tells_how_warm_it_is_and_was() {
    let celsius = |set: &[(usize, u8)]| {
        let mut status = Box::new([0u8; 512]);
        set.iter().for_each(|(at, byte)| status[*at] = *byte);
        let HealthPage::Ata { data, thresholds, .. } = ata_page(&[(194, 0, 100, 100, 33, 0)]) else { panic!() };
        let HealthReading::Ata(health) = read(&HealthPage::Ata { data, thresholds, sct: Some(status) }) else { panic!() };
        (health.sct_celsius, health.celsius())
    };
    assert_eq!(celsius(&[(0, 2), (200, 41), (202, 63)]), (Some((41, 63)), Some(41)));
    assert_eq!(celsius(&[(0, 3), (200, 0xFB), (202, 0x80)]), (Some((-5, -5)), Some(-5)), "below zero, and no highest");
    assert_eq!(celsius(&[(0, 2), (200, 0x80)]).0, None);
    assert_eq!(celsius(&[(0, 9), (200, 41)]), (None, Some(33)), "a format that is not known: the attribute tells");
}
