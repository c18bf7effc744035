use std::sync::Arc;

use keel_source::{ByteOffset, ByteRange, Lba, MemorySource, Overlay, SectorCount, SectorSize, SharedSource, Source};
use proptest::prelude::*;
use uuid::Uuid;

use super::gpt::make::{NewEntry as NewGptEntry, NewTable, TableSectors};
use super::mbr::make::{NewEntry, NewLogical, ebr_sectors, mbr_sector, protective_sector};
use super::*;

const SECTORS: u64 = 8192;

fn drive(sector: u32) -> Overlay {
    let below: SharedSource = Arc::new(MemorySource::new("t", vec![0; (SECTORS * u64::from(sector)) as usize], sector));
    Overlay::new(below)
}

fn entry(os_type: u8, starting_lba: u32, size_in_lba: u32) -> NewEntry {
    NewEntry { os_type, boot_indicator: 0, starting_lba, size_in_lba }
}

fn gpt_table(count: u32, entry_bytes: u32) -> NewTable {
    let entry = |first, name: &str| NewGptEntry {
        type_guid: gpt::BASIC_DATA,
        unique: Uuid::from_u128(first as u128 + 7),
        first: Lba(first),
        sectors: SectorCount(1000),
        attributes: 1 << 63,
        name: name.into(),
    };
    NewTable { disk: Uuid::from_u128(99), entries: vec![entry(2048, "Überfahrt"), entry(4096, "two")], count, entry_bytes }
}

fn lay_gpt(drive: &mut Overlay, made: &TableSectors) {
    let sector = drive.sector_size();
    drive.lay(ByteOffset(0), &protective_sector(&[], SECTORS));
    for (lba, bytes) in made.primary.iter().chain(&made.backup) {
        drive.lay(lba.offset(sector), bytes);
    }
}

fn with_gpt(sector: u32, count: u32, entry_bytes: u32) -> Overlay {
    let mut drive = drive(sector);
    let made = gpt_table(count, entry_bytes).sectors(SECTORS, SectorSize(sector)).unwrap();
    lay_gpt(&mut drive, &made);
    drive
}

fn whats(reading: &TableReading) -> String {
    reading.findings.iter().map(|finding| finding.what.clone()).collect::<Vec<_>>().join("; ")
}

#[test]
fn a_made_gpt_reads_back_in_every_shape() {
    for (sector, count, entry_bytes) in [(512, 128, 128), (512, 4, 128), (512, 200, 256), (4096, 128, 128), (512, 32, 512)] {
        let reading = read(&with_gpt(sector, count, entry_bytes));
        assert!(reading.is_sound(), "{sector} {count} {entry_bytes}: {}", whats(&reading));
        assert_eq!(reading.scheme, Some(Scheme::Gpt));
        let first = &reading.partitions[0];
        assert_eq!((first.first.0, first.sectors.0, first.name.as_deref()), (2048, 1000, Some("Überfahrt")));
        assert_eq!((reading.backup.partitions.len(), first.attributes), (2, 1 << 63));
        // UEFI 2.10 §5.3: at least 16,384 bytes are kept for the array.
        let header = reading.primary.header.unwrap();
        assert!((header.first_usable.0 - 2) * u64::from(sector) >= 16_384);
        assert_eq!((header.alternate.0, reading.backup.header.unwrap().alternate.0), (SECTORS - 1, 1));
    }
}

#[test]
fn each_copy_that_is_gone_or_damaged_is_named() {
    let mut primary_gone = with_gpt(512, 128, 128);
    primary_gone.lay(ByteOffset(512), &[0; 512]);
    let reading = read(&primary_gone);
    assert!(reading.backup.is_sound() && !reading.primary.is_present() && reading.partitions.len() == 2);
    assert!(whats(&reading).contains("there is no primary GPT header"), "{}", whats(&reading));
    let mut array = with_gpt(512, 128, 128);
    array.lay(ByteOffset(1024 + 40), &[1]);
    let reading = read(&array);
    assert!(whats(&reading).contains("primary GPT entry array is damaged") && reading.partitions[0].first.0 == 2048);
    let mut header = with_gpt(512, 128, 128);
    header.lay(ByteOffset(512 + 60), &[1]);
    let error = gpt::read_header(&header, Lba(1)).unwrap_err();
    assert!(error.to_string().contains("HeaderCRC32") && error.to_string().contains("byte 528 (0x210)"), "{error}");
    let mut bare = with_gpt(512, 128, 128);
    bare.lay(ByteOffset(0), &[0; 512]);
    assert!(whats(&read(&bare)).contains("without its protective MBR"));
}

#[test]
fn primaries_and_logicals_read_back() {
    for sector in [512u32, 4096] {
        let mut drive = drive(sector);
        let entries = [entry(0x07, 64, 1000), entry(0x05, 2000, 4000)];
        drive.lay(ByteOffset(0), &mbr_sector(&[], 0x1234, &entries));
        let logical =
            |ebr, first, sectors| NewLogical { ebr: Lba(ebr), first: Lba(first), sectors: SectorCount(sectors), os_type: 0x0C };
        let chain = [logical(2000, 2001, 500), logical(2600, 2663, 700), logical(4000, 4001, 900)];
        for (lba, bytes) in ebr_sectors(Lba(2000), &chain).unwrap() {
            drive.lay(lba.offset(SectorSize(sector)), &bytes);
        }
        let reading = read(&drive);
        assert!(reading.is_sound(), "{}", whats(&reading));
        let ground: Vec<_> =
            reading.partitions.iter().map(|partition| (partition.slot, partition.first.0, partition.sectors.0)).collect();
        assert_eq!(ground, [(1, 64, 1000), (5, 2001, 500), (6, 2663, 700), (7, 4001, 900)]);
    }
}

fn with_chain(links: &[(u64, NewEntry, NewEntry)]) -> TableReading {
    let mut drive = drive(512);
    drive.lay(ByteOffset(0), &mbr_sector(&[], 1, &[entry(0x0F, 2000, 4000)]));
    for (lba, own, next) in links {
        drive.lay(Lba(*lba).offset(SectorSize(512)), &mbr_sector(&[], 0, &[*own, *next]));
    }
    read(&drive)
}

#[test]
fn a_chain_that_loops_is_cut_or_leaves_its_ground_is_a_finding() {
    let none = entry(0, 0, 0);
    let looping =
        with_chain(&[(2000, entry(0x07, 1, 100), entry(0x05, 500, 10)), (2500, entry(0x07, 1, 100), entry(0x05, 0, 10))]);
    assert!(whats(&looping).contains("it loops") && looping.partitions.len() == 2, "{}", whats(&looping));
    let cut = with_chain(&[(2000, entry(0x07, 1, 100), entry(0x05, 500, 10))]);
    assert!(whats(&cut).contains("cut at LBA 2500"), "{}", whats(&cut));
    let outside = with_chain(&[(2000, entry(0x07, 1, 100), entry(0x05, 60_000, 10)), (2500, none, none)]);
    assert!(whats(&outside).contains("outside the extended partition"), "{}", whats(&outside));
}

#[test]
fn entries_that_overlap_or_reach_too_far_are_findings() {
    let mut drive = drive(512);
    drive.lay(ByteOffset(0), &mbr_sector(&[], 1, &[entry(0x07, 100, 1000), entry(0x0C, 900, 100), entry(0x07, 8000, 1000)]));
    let text = whats(&read(&drive));
    assert!(text.contains("entries 1 and 2 claim the same ground") && text.contains("entry 3 ends at"), "{text}");
}

#[test]
fn an_empty_an_unreadable_and_a_nonsense_sector_are_told_apart() {
    assert!(whats(&read(&drive(512))).contains("512 zero bytes"));
    let bad = MemorySource::new("t", vec![0; 1 << 20], 512).with_bad(ByteRange::sized(ByteOffset(0), 512));
    assert!(whats(&read(&bad)).contains("sector 0 cannot be read"));
    let nonsense = MemorySource::new("t", (0..1 << 20).map(|at| (at * 31 % 253) as u8).collect(), 512);
    assert!(whats(&read(&nonsense)).contains("no MBR signature"));
    assert!(read(&MemorySource::new("t", vec![0xFF; 1 << 20], 512)).partitions.is_empty());
}

#[test]
fn a_table_that_does_not_fit_is_not_made() {
    assert!(gpt_table(128, 128).sectors(60, SectorSize(512)).is_none());
    assert!(gpt_table(1, 128).sectors(SECTORS, SectorSize(512)).is_none());
    let mut low = gpt_table(128, 128);
    low.entries[0].first = Lba(5);
    assert!(low.sectors(SECTORS, SectorSize(512)).is_none());
}

proptest! {
    #[test]
    fn damaged_tables_never_panic_and_never_hang(
        damage in proptest::collection::vec((0usize..20_000, any::<u8>()), 1..60),
        tail in proptest::collection::vec((0usize..17_408, any::<u8>()), 0..40),
        sector in prop_oneof![Just(512u32), Just(4096u32)],
    ) {
        let mut drive = with_gpt(sector, 128, 128);
        for (at, byte) in damage {
            drive.lay(ByteOffset(at as u64), &[byte]);
        }
        for (back, byte) in tail {
            drive.lay(ByteOffset(drive.len() - 1 - back as u64), &[byte]);
        }
        let reading = read(&drive);
        for partition in &reading.partitions {
            let _ = partition.range(drive.sector_size());
        }
    }

    #[test]
    fn a_random_mbr_and_chain_never_panic(bytes in proptest::collection::vec(any::<u8>(), 66), chain in proptest::collection::vec((0u64..8192, proptest::collection::vec(any::<u8>(), 32)), 0..20)) {
        let mut drive = drive(512);
        for (lba, records) in chain {
            drive.lay(ByteOffset(lba * 512 + 446), &records);
            drive.lay(ByteOffset(lba * 512 + 510), &[0x55, 0xAA]);
        }
        drive.lay(ByteOffset(446), &bytes[..64]);
        drive.lay(ByteOffset(510), &[0x55, 0xAA]);
        let reading = read(&drive);
        prop_assert!(reading.partitions.len() <= 4 * (mbr::MAX_LOGICALS + 1));
    }
}

/// A drive with an Apple partition map of blocks of `block` bytes: the map itself, a volume, free ground.
fn with_apm(block: u64) -> Overlay {
    let mut overlay = Overlay::new(Arc::new(MemorySource::new("m", vec![0; 8 << 20], 512)));
    let mut zero = b"ER".to_vec();
    zero.extend((block as u16).to_be_bytes());
    overlay.lay(ByteOffset(0), &zero);
    for (number, (start, count, kind)) in
        [(1u32, 63u32, "Apple_partition_map"), (64, 1000, "Apple_HFS"), (1064, 500, "Apple_Free")].into_iter().enumerate()
    {
        let mut entry = b"PM\0\0".to_vec();
        for word in [3, start, count] {
            entry.extend(u32::to_be_bytes(word));
        }
        entry.resize(16, 0);
        entry.extend(b"SKIPPER");
        entry.resize(48, 0);
        entry.extend(kind.as_bytes());
        overlay.lay(ByteOffset(block * (number as u64 + 1)), &entry);
    }
    overlay
}

#[test]
fn an_apple_partition_map_is_read_in_its_own_block_size() {
    for block in [512, 2048] {
        let reading = read(&with_apm(block));
        assert_eq!((reading.scheme, reading.partitions.len(), reading.is_sound()), (Some(Scheme::Apm), 1, true));
        let partition = &reading.partitions[0];
        assert_eq!((partition.first, partition.slot), (Lba(64 * block / 512), 2));
        assert!(partition.type_code.fits(crate::VolumeKind::HfsPlus) && !partition.type_code.fits(crate::VolumeKind::Ntfs));
    }
    let mut cut = with_apm(512);
    cut.lay(ByteOffset(1024), b"XX");
    let reading = read(&cut);
    assert!(reading.findings[0].what.contains("entry 2 of the partition map cannot be read"));
    let mut endless = with_apm(512);
    endless.lay(ByteOffset(512 + 4), &[0xFF; 4]);
    assert!(read(&endless).findings.iter().any(|finding| finding.what.contains("says it has 4294967295 entries")));
}
