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
