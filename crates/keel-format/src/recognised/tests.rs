use std::sync::Arc;

use keel_source::{MemorySource, Overlay};
use proptest::prelude::*;

use super::*;

const MIB: u64 = 1 << 20;

fn drive() -> Overlay {
    Overlay::new(Arc::new(MemorySource::new("k", vec![0; 8 << 20], 512)))
}

fn found(overlay: Overlay) -> Vec<FoundVolume> {
    let source: SharedSource = Arc::new(overlay);
    let mut bytes = vec![0; 8 << 20];
    source.read_at(ByteOffset(0), &mut bytes).unwrap();
    let mut clues = Clues::default();
    clues.look(ByteOffset(0), &bytes, bytes.len());
    infer(&source, &clues)
}

fn put(bytes: &mut [u8], at: usize, field: &[u8]) {
    bytes[at..at + field.len()].copy_from_slice(field);
}

fn refs_record(sectors: u64) -> Vec<u8> {
    let mut record = vec![0; 512];
    put(&mut record, 3, b"ReFS\0\0\0\0");
    put(&mut record, 16, b"FSRS");
    put(&mut record, 24, &sectors.to_le_bytes());
    put(&mut record, 32, &512u32.to_le_bytes());
    put(&mut record, 56, &77u64.to_le_bytes());
    record
}

#[test]
fn refs_is_recognised_by_its_record_and_by_the_copy_alone() {
    let sectors = 4096;
    let end = MIB + (sectors - 1) * 512;
    let mut both = drive();
    both.lay(ByteOffset(MIB), &refs_record(sectors));
    both.lay(ByteOffset(end), &refs_record(sectors));
    let volumes = found(both);
    assert_eq!(volumes.len(), 1);
    assert_eq!((volumes[0].kind, volumes[0].start, volumes[0].bytes), (VolumeKind::Refs, ByteOffset(MIB), sectors * 512));
    assert!(volumes[0].has(WitnessKind::BackupBootSector));
    assert!(volumes[0].geometry.open(Arc::new(drive())).is_err_and(|error| error.to_string().contains("not read yet")));
}

fn fve_block(places: [u64; 3], length: u64) -> Vec<u8> {
    let mut block = vec![0; 512];
    put(&mut block, 0, b"-FVE-FS-");
    put(&mut block, 16, &length.to_le_bytes());
    places.iter().enumerate().for_each(|(index, place)| put(&mut block, 32 + index * 8, &place.to_le_bytes()));
    put(&mut block, 80, &[7; 16]);
    block
}

#[test]
fn an_encrypted_volume_is_recognised_with_and_without_its_boot_sector() {
    let (places, length): ([u64; 3], u64) = ([64 << 10, 1 << 20, 2 << 20], 4 << 20);
    for boot in [true, false] {
        let mut overlay = drive();
        if boot {
            let mut sector = vec![0; 512];
            put(&mut sector, 3, b"-FVE-FS-");
            places.iter().enumerate().for_each(|(index, place)| put(&mut sector, 176 + index * 8, &place.to_le_bytes()));
            put(&mut sector, 510, &[0x55, 0xAA]);
            overlay.lay(ByteOffset(MIB), &sector);
        }
        places.iter().for_each(|place| overlay.lay(ByteOffset(MIB + place), &fve_block(places, length)));
        let volumes = found(overlay);
        assert_eq!(volumes.len(), 1);
        assert_eq!((volumes[0].kind, volumes[0].start, volumes[0].bytes), (VolumeKind::Fve, ByteOffset(MIB), length));
        assert_eq!(volumes[0].has(WitnessKind::BootSector), boot);
    }
}

#[test]
fn raid_members_of_both_versions_are_recognised() {
    let mut one = vec![0; 4096];
    put(&mut one, 0, &[0xFC, 0x4E, 0x2B, 0xA9]);
    put(&mut one, 4, &1u32.to_le_bytes());
    put(&mut one, 16, &[9; 16]);
    put(&mut one, 32, b"ferry:0");
    put(&mut one, 72, &1u32.to_le_bytes());
    put(&mut one, 92, &2u32.to_le_bytes());
    put(&mut one, 128, &2048u64.to_le_bytes());
    put(&mut one, 136, &6144u64.to_le_bytes());
    put(&mut one, 144, &8u64.to_le_bytes());
    let sum: u64 = one[..256].as_chunks::<4>().0.iter().map(|word| u64::from(u32::from_le_bytes(*word))).sum();
    put(&mut one, 216, &((sum & 0xFFFF_FFFF) as u32 + (sum >> 32) as u32).to_le_bytes());
    let mut overlay = drive();
    overlay.lay(ByteOffset(MIB + 4096), &one);
    let volumes = found(overlay);
    assert_eq!((volumes[0].kind, volumes[0].start, volumes[0].bytes), (VolumeKind::Raid, ByteOffset(MIB), 8192 * 512));
    assert_eq!(volumes[0].label.as_deref(), Some("ferry:0"));
    assert!(
        volumes[0].witnesses[0].says.contains("level 1 with 2 members")
            && volumes[0].witnesses[0].says.contains("checksum holds")
    );
    let mut zero = vec![0; 4096];
    put(&mut zero, 0, &[0xFC, 0x4E, 0x2B, 0xA9]);
    put(&mut zero, 8, &90u32.to_le_bytes());
    put(&mut zero, 32, &4096u32.to_le_bytes());
    let mut overlay = drive();
    overlay.lay(ByteOffset(MIB + (4 << 20)), &zero);
    let volumes = found(overlay);
    assert_eq!((volumes[0].start, volumes[0].bytes), (ByteOffset(MIB), (4 << 20) + (64 << 10)));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 512, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn structures_of_random_bytes_never_panic(which in 0..RECOGNISERS.len(), at in 0u64..4096, bytes in proptest::collection::vec(any::<u8>(), 0..4096)) {
        let source: SharedSource = Arc::new(drive());
        let _ = (RECOGNISERS[which].read)(source.as_ref(), ByteOffset(at * 512), &bytes);
        for (mark, place) in [(&b"XFSB"[..], 0), (b"_BHRfS_M", 64), (&[0x10, 0x20, 0xF5, 0xF2], 0), (b"NXSB", 32), (b"LUKS\xBA\xBE\0\x02", 0),
            (b"LABELONE", 0), (&[0xFC, 0x4E, 0x2B, 0xA9, 1, 0, 0, 0], 0), (b"-FVE-FS-", 0), (b"\x01CD001\x01", 0), (&[2, 0, 2, 0], 0)] {
            let mut marked = bytes.clone();
            if marked.len() >= place + mark.len() {
                put(&mut marked, place, mark);
                let _ = (RECOGNISERS[which].read)(source.as_ref(), ByteOffset(at * 512), &marked);
            }
        }
    }
}
