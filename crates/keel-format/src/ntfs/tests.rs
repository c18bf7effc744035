use std::ops::ControlFlow;
use std::process::Command;
use std::sync::{Arc, OnceLock};

use keel_source::{ByteOffset, MemorySource, Overlay, SharedSource};
use proptest::prelude::*;

use super::*;
use crate::{Deleted, Geometry, View, Volume};

const BYTES: usize = 4 << 20;

/// A small volume of the system's formatter, in memory.
fn formatted() -> Arc<MemorySource> {
    static VOLUME: OnceLock<Vec<u8>> = OnceLock::new();
    let bytes = VOLUME.get_or_init(|| {
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("v.img");
        std::fs::write(&image, vec![0; BYTES]).unwrap();
        let output = Command::new("mkfs.ntfs").args(["-Q", "-F", "-q", "-L", "WINCH"]).arg(&image).output().unwrap();
        assert!(output.status.success());
        std::fs::read(&image).unwrap()
    });
    Arc::new(MemorySource::new("v", bytes.clone(), 512))
}

fn geometry(source: &SharedSource) -> NtfsGeometry {
    match boot_sector(source.as_ref(), ByteOffset(0)) {
        Some(Geometry::Ntfs(geometry)) => geometry,
        _ => panic!("no boot sector"),
    }
}

fn decode(bytes: &[u8]) -> Result<Vec<Run>, crate::FormatError> {
    runs::decode(View::new("runs", ByteOffset(0), bytes), 0, 1 << 30)
}

#[test]
fn mapping_pairs_decode_with_holes_and_backward_steps() {
    let runs = decode(&[0x21, 0x18, 0x34, 0x56, 0x01, 0x08, 0x21, 0x10, 0x00, 0xF0, 0x00]).unwrap();
    let expected = [(0, Some(0x5634), 0x18), (0x18, None, 8), (0x20, Some(0x4634), 0x10)];
    assert_eq!(runs.iter().map(|run| (run.vcn, run.lcn, run.clusters)).collect::<Vec<_>>(), expected);
}

#[test]
fn mapping_pairs_that_cannot_be_are_refused() {
    for bytes in [
        &[0x21, 0x18][..],
        &[0x29, 1, 2],
        &[0x11, 0x00, 0x05, 0x00],
        &[0x11, 0x05, 0x80, 0x00],
        &[0x48, 255, 255, 255, 255, 255, 255, 255, 127, 1, 1, 1, 1, 0],
    ] {
        assert!(decode(bytes).is_err(), "{bytes:?}");
    }
}

#[test]
fn a_made_boot_sector_parses_to_the_same_geometry() {
    let base = NtfsGeometry {
        bytes_per_sector: 512,
        cluster_bytes: 4096,
        mft_lcn: 4,
        mirror_lcn: 800,
        record_bytes: 1024,
        index_bytes: 4096,
        total_sectors: 262_143,
        serial: 77,
    };
    for geometry in [
        base,
        NtfsGeometry { cluster_bytes: 512, ..base },
        NtfsGeometry { cluster_bytes: 131_072, ..base },
        NtfsGeometry { bytes_per_sector: 4096, record_bytes: 4096, total_sectors: 32_767, ..base },
    ] {
        let sector = make::boot_sector(&geometry, 2048);
        assert_eq!(NtfsGeometry::parse(View::new("boot", ByteOffset(0), &sector)), Ok(geometry));
    }
}

#[test]
fn absurd_fields_of_a_boot_sector_are_named() {
    let good = make::boot_sector(&geometry(&(formatted() as SharedSource)), 0);
    for (at, bytes, field) in [
        (3, vec![b'X'], "OemId"),
        (11, vec![3, 0], "BytesPerSector"),
        (13, vec![3], "SectorsPerCluster"),
        (40, vec![0; 8], "TotalSectors"),
        (48, vec![0xFF; 8], "MftStartLcn"),
        (64, vec![3], "ClustersPerFileRecordSegment"),
    ] {
        let mut sector = good.clone();
        sector[at..at + bytes.len()].copy_from_slice(&bytes);
        let error = NtfsGeometry::parse(View::new("boot sector", ByteOffset(0), &sector)).unwrap_err().to_string();
        assert!(error.contains(field), "{error}");
    }
}

#[test]
fn the_mirror_stands_in_for_a_damaged_record_zero() {
    let source: SharedSource = formatted();
    let geometry = geometry(&source);
    let mut overlay = Overlay::new(source);
    overlay.lay(geometry.cluster_at(geometry.mft_lcn), &[0; 1024]);
    let volume = NtfsVolume::open(Arc::new(overlay), geometry).unwrap();
    assert_eq!(volume.summary().label.as_deref(), Some("WINCH"));
    assert!(volume.mft().findings[0].what.contains("mirror"));
}

#[test]
fn a_torn_record_is_seen_by_its_update_sequence() {
    let source: SharedSource = formatted();
    let geometry = geometry(&source);
    let at = geometry.cluster_at(geometry.mft_lcn) + 5 * 1024;
    let mut overlay = Overlay::new(source);
    overlay.lay(at + 510, &[0xAB, 0xCD]);
    let volume = NtfsVolume::open(Arc::new(overlay), geometry).unwrap();
    let error = volume.record(5).unwrap_err().to_string();
    assert!(error.contains("update sequence number") && error.contains(&format!("byte {}", at.0 + 510)), "{error}");
    assert!(volume.examine().iter().any(|finding| finding.what.contains("root directory")));
}

#[test]
fn lznt1_unpacks_literals_and_overlapping_copies() {
    // "abc" then a copy of nine bytes from three back: abcabcabcabc.
    let packed = [0x05, 0xB0, 0x08, b'a', b'b', b'c', 0x06, 0x20, 0, 0];
    let mut out = [0xEE; 16];
    lznt1::unpack(View::new("unit", ByteOffset(0), &packed), &mut out).unwrap();
    assert_eq!(&out[..12], b"abcabcabcabc");
    let before_start = [0x02, 0xB0, 0x01, 0xFF, 0xFF, 0, 0];
    assert!(lznt1::unpack(View::new("unit", ByteOffset(0), &before_start), &mut out).is_err());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]
    #[test]
    fn damaged_structures_never_panic_hang_or_fill_memory(
        damage in proptest::collection::vec((0u64..64, 0u64..1024, any::<u8>()), 1..80),
        boot in proptest::collection::vec((11u64..84, any::<u8>()), 0..4),
    ) {
        let source: SharedSource = formatted();
        let sound = geometry(&source);
        let mft = sound.cluster_at(sound.mft_lcn);
        let mut overlay = Overlay::new(source);
        for (record, at, byte) in damage {
            // Fields and attribute headers, but not the magic: a record that is none is passed over at once.
            overlay.lay(mft + record * 1024 + 4 + at % 1020, &[byte]);
        }
        for (at, byte) in boot {
            overlay.lay(ByteOffset(at), &[byte]);
        }
        let source: SharedSource = Arc::new(overlay);
        let found = match boot_sector(source.as_ref(), ByteOffset(0)) {
            Some(Geometry::Ntfs(found)) => found,
            _ => sound,
        };
        if let Ok(volume) = NtfsVolume::open(source, found) {
            let mut ids = vec![volume.root()];
            let _ = volume.walk(Deleted::Show, &mut |entry| {
                ids.push(entry.entry.id);
                ControlFlow::Continue(())
            });
            let _ = volume.list(volume.root(), Deleted::Show, &mut |entry| { ids.push(entry.id); ControlFlow::Continue(()) });
            for id in ids {
                for stream in volume.streams(id).unwrap_or_default() {
                    if let Ok(mut reader) = volume.open(id, &stream.name) {
                        let _ = crate::read_whole(reader.as_mut(), 1 << 16);
                    }
                }
            }
            let _ = volume.examine();
        }
    }

    #[test]
    fn random_bytes_are_no_record_run_list_or_unit(bytes in proptest::collection::vec(any::<u8>(), 0..1100)) {
        let _ = Record::parse(bytes.clone(), ByteOffset(0));
        let mut record = bytes.clone();
        record.resize(1024, 0);
        record[..8].copy_from_slice(b"FILE\x30\0\x03\0");
        record[24..28].copy_from_slice(&1000u32.to_le_bytes());
        if let Ok(record) = Record::parse(record, ByteOffset(0)) {
            let _ = record.attributes().count();
        }
        let _ = decode(&bytes);
        let mut out = vec![0; 16 * 4096];
        let _ = lznt1::unpack(View::new("unit", ByteOffset(0), &bytes), &mut out);
        let _ = index::entries(View::new("index", ByteOffset(0), &bytes), &mut Vec::new(), &mut |_| ControlFlow::Continue(()));
    }
}

/// A record of 1024 bytes with these attributes, its update sequence set.
fn record(attributes: &[Vec<u8>], change: impl FnOnce(&mut Vec<u8>)) -> Vec<u8> {
    let mut bytes = vec![0; 1024];
    bytes[..4].copy_from_slice(b"FILE");
    bytes[4..8].copy_from_slice(&[48, 0, 3, 0]);
    bytes[20..24].copy_from_slice(&[56, 0, 1, 0]);
    let mut at = 56;
    for attribute in attributes {
        bytes[at..at + attribute.len()].copy_from_slice(attribute);
        at += attribute.len();
    }
    bytes[at..at + 4].copy_from_slice(&[0xFF; 4]);
    bytes[24..28].copy_from_slice(&u32::try_from(at + 8).unwrap().to_le_bytes());
    bytes[44..48].copy_from_slice(&77u32.to_le_bytes());
    change(&mut bytes);
    assert!(record::redo_fixups(&mut bytes));
    bytes
}

/// A resident attribute with a name.
fn resident(type_code: u32, name: &str, value: &[u8]) -> Vec<u8> {
    let units: Vec<u8> = name.encode_utf16().flat_map(u16::to_le_bytes).collect();
    let from = (24 + units.len()).next_multiple_of(8);
    let mut bytes = vec![0; (from + value.len()).next_multiple_of(8)];
    bytes[..4].copy_from_slice(&type_code.to_le_bytes());
    let len = u32::try_from(bytes.len()).unwrap();
    bytes[4..8].copy_from_slice(&len.to_le_bytes());
    bytes[9] = u8::try_from(name.encode_utf16().count()).unwrap();
    bytes[10..12].copy_from_slice(&24u16.to_le_bytes());
    bytes[16..20].copy_from_slice(&u32::try_from(value.len()).unwrap().to_le_bytes());
    bytes[20..22].copy_from_slice(&u16::try_from(from).unwrap().to_le_bytes());
    bytes[24..24 + units.len()].copy_from_slice(&units);
    bytes[from..from + value.len()].copy_from_slice(value);
    bytes
}

#[test]
fn a_record_hands_out_its_attributes_by_type_and_name() {
    let bytes = record(&[resident(0x80, "", b"main"), resident(0x80, "zone", b"second"), resident(0x10, "", &[7; 48])], |_| {});
    let record = Record::parse(bytes, ByteOffset(4096)).unwrap();
    assert_eq!(
        (record.number(), record.position(), record.is_in_use(), record.is_directory()),
        (Some(77), ByteOffset(4096), true, false)
    );
    let value = |type_code, name| record.attribute(type_code, name).map(|one| one.resident().unwrap().bytes().to_vec());
    assert_eq!(value(0x80, ""), Some(b"main".to_vec()));
    assert_eq!(value(0x80, "zone"), Some(b"second".to_vec()));
    assert_eq!(value(0x80, "other"), None);
    assert_eq!(record.attributes().count(), 3);
    assert!(!record.extends(5));
}

#[test]
fn attributes_that_lead_out_of_their_record_end_the_list_with_an_error() {
    let good = || vec![resident(0x80, "", b"main"), resident(0x80, "zone", b"second")];
    for (offset, bytes, what) in [
        (4usize, 20u32.to_le_bytes(), "length"),
        (4, 33u32.to_le_bytes(), "length"),
        (4, u32::MAX.to_le_bytes(), "attribute"),
        (16, u32::MAX.to_le_bytes(), "value"),
        (20, 0xFFFFu32.to_le_bytes(), "value"),
        (9, [0xFF, 0xFF, 0xFF, 0], "name"),
    ] {
        let bytes = record(&good(), |all| all[56 + offset..60 + offset].copy_from_slice(&bytes));
        let record = Record::parse(bytes, ByteOffset(0)).unwrap();
        let all: Vec<_> = record.attributes().collect();
        let error = all.last().unwrap().as_ref().unwrap_err().to_string();
        assert!(error.contains(what), "{what}: {error}");
    }
}

#[test]
fn a_record_is_refused_by_the_field_that_cannot_be() {
    let parse = |bytes: Vec<u8>| Record::parse(bytes, ByteOffset(0)).map(|_| ()).map_err(|error| error.to_string());
    let one = || vec![resident(0x80, "", b"main")];
    for (at, bytes, field) in
        [(0, b"BAAD", "magic"), (24, &[0xFF, 0xFF, 0, 0], "used_size"), (20, &[0xFF, 0xFF, 1, 0], "used_size")]
    {
        let mut all = record(&one(), |_| {});
        all[at..at + 4].copy_from_slice(bytes);
        assert!(parse(all).unwrap_err().contains(field), "{field}");
    }
    // Its second half is of another write.
    let mut torn = record(&one(), |_| {});
    torn[1022] ^= 0xFF;
    assert!(parse(torn).unwrap_err().contains("update sequence"));
    for count in [0u8, 1, 4, 200] {
        let mut all = record(&one(), |_| {});
        all[6] = count;
        assert!(parse(all).is_err(), "{count} words for two blocks");
    }
    for len in [0, 3, 41, 48] {
        assert!(parse(record(&one(), |_| {})[..len].to_vec()).is_err());
    }
}

#[test]
fn fixups_are_undone_and_redone_to_the_same_bytes() {
    let whole = record(&[resident(0x80, "", &[0xAB; 700])], |_| {});
    let mut bytes = whole.clone();
    record::undo_fixups("record", ByteOffset(0), &mut bytes).unwrap();
    assert!(bytes[510..512] == [0xAB; 2], "what stood at the end of the first half is back");
    assert!(record::redo_fixups(&mut bytes));
    assert_ne!(bytes[48..50], whole[48..50], "each write has a number of its own");
    record::undo_fixups("record", ByteOffset(0), &mut bytes).unwrap();
    let mut first = whole;
    record::undo_fixups("record", ByteOffset(0), &mut first).unwrap();
    assert_eq!(bytes[50..], first[50..]);
    // 0xFFFF and 0 are no numbers.
    for number in [0xFFFEu16, 0xFFFF] {
        let mut bytes = first.clone();
        bytes[48..50].copy_from_slice(&number.to_le_bytes());
        assert!(record::redo_fixups(&mut bytes));
        assert_eq!(bytes[48..50], [1, 0]);
    }
    let mut absurd = first;
    absurd[4..6].copy_from_slice(&1020u16.to_le_bytes());
    assert!(!record::redo_fixups(&mut absurd), "an array that reaches over the end of a block");
}

proptest! {
    #[test]
    fn runs_that_are_encoded_decode_to_themselves(parts in proptest::collection::vec((1u64..1 << 30, proptest::option::of(0u64..1 << 40)), 0..40)) {
        let mut vcn = 0;
        let mut wanted = Vec::new();
        for (clusters, lcn) in parts {
            wanted.push(Run { vcn, lcn, clusters });
            vcn += clusters;
        }
        let bytes = runs::encode(&wanted);
        let decoded = runs::decode(View::new("runs", ByteOffset(0), &bytes), 0, 1 << 50).unwrap();
        prop_assert_eq!(&decoded, &wanted);
        // Cut anywhere they are an error or a beginning of themselves, never something else.
        for cut in 0..bytes.len() {
            if let Ok(part) = runs::decode(View::new("runs", ByteOffset(0), &bytes[..cut]), 0, 1 << 50) {
                prop_assert!(wanted.starts_with(&part));
            }
        }
    }

    #[test]
    fn no_bytes_make_the_runs_panic_or_lead_out_of_the_volume(bytes in proptest::collection::vec(any::<u8>(), 0..64)) {
        if let Ok(runs) = runs::decode(View::new("runs", ByteOffset(0), &bytes), 0, 1 << 20) {
            prop_assert!(runs.iter().all(|run| run.clusters > 0 && run.lcn.is_none_or(|lcn| lcn + run.clusters <= 1 << 20)));
        }
    }
}

#[test]
fn runs_of_several_records_are_joined_up_to_the_first_gap() {
    let run = |vcn, clusters| Run { vcn, lcn: Some(vcn + 100), clusters };
    let mut whole = vec![run(10, 5), run(0, 10), run(15, 1)];
    assert!(runs::join(&mut whole));
    assert_eq!(whole, [run(0, 10), run(10, 5), run(15, 1)]);
    let mut gap = vec![run(0, 10), run(11, 5)];
    assert!(!runs::join(&mut gap));
    assert_eq!(gap, [run(0, 10)], "what lies behind a gap cannot be placed");
    let mut late = vec![run(3, 2)];
    assert!(!runs::join(&mut late) && late.is_empty());
    assert!(runs::join(&mut Vec::new()));
}
