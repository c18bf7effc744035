use std::ops::ControlFlow;
use std::sync::Arc;

use keel_source::{ByteOffset, MemorySource, Overlay, SharedSource};
use proptest::prelude::*;
use zerocopy::IntoBytes;
use zerocopy::little_endian::{U16, U32, U64};

use super::layout::{BITMAP, FILE, NAME, RawAllocation, RawFile, RawStream, STREAM, UPCASE, set_checksum, table_checksum};
use super::*;
use crate::{Compute, Deleted, Geometry, Repair, Structure, Take, View, Volume, WalkEntry, read_whole};

/// 4 MiB in clusters of 4 KiB: FAT at 64 KiB, heap at 128 KiB; bitmap, up-case table and root in clusters 2, 3, 4.
fn geometry() -> ExFatGeometry {
    ExFatGeometry {
        bytes_per_sector: 512,
        sectors_per_cluster: 8,
        volume_length: 8192,
        fat_offset: 128,
        fat_length: 64,
        cluster_heap_offset: 256,
        cluster_count: 992,
        root_cluster: 4,
        serial: 0x0BAC_0001,
        fats: 1,
    }
}

/// Upper case of the letters a to z; everything else maps to itself.
fn upcase_table() -> Vec<u8> {
    let mut units: Vec<u16> = (0..0x61).collect();
    units.extend(0x41..0x5B);
    units.extend([0xFFFF, 0xFFFF - 0x7B]);
    units.iter().flat_map(|unit| unit.to_le_bytes()).collect()
}

fn allocation(kind: u8, cluster: u32, bytes: u64, checksum: u32) -> Vec<u8> {
    let raw = RawAllocation {
        entry_type: kind,
        flags: 0,
        reserved1: U16::new(0),
        table_checksum: U32::new(checksum),
        reserved2: [0; 12],
        first_cluster: U32::new(cluster),
        data_length: U64::new(bytes),
    };
    raw.as_bytes().to_vec()
}

fn set(name: &str, attributes: u16, flags: u8, cluster: u32, bytes: u64) -> Vec<u8> {
    let units: Vec<u16> = name.encode_utf16().collect();
    let pieces = units.chunks(15);
    let stamp = U32::new(0x5C6E_4B5A);
    let file = RawFile {
        entry_type: FILE,
        secondary_count: 1 + pieces.len() as u8,
        set_checksum: U16::new(0),
        file_attributes: U16::new(attributes),
        reserved1: U16::new(0),
        create_timestamp: stamp,
        last_modified_timestamp: stamp,
        last_accessed_timestamp: stamp,
        create_10ms_increment: 0,
        last_modified_10ms_increment: 0,
        create_utc_offset: 0x84,
        last_modified_utc_offset: 0x84,
        last_accessed_utc_offset: 0x84,
        reserved2: [0; 7],
    };
    let stream = RawStream {
        entry_type: STREAM,
        general_secondary_flags: flags,
        reserved1: 0,
        name_length: units.len() as u8,
        name_hash: U16::new(UpCase::unpack(&upcase_table()).name_hash(&units)),
        reserved2: U16::new(0),
        valid_data_length: U64::new(bytes),
        reserved3: U32::new(0),
        first_cluster: U32::new(cluster),
        data_length: U64::new(bytes),
    };
    let mut entries = [file.as_bytes(), stream.as_bytes()].concat();
    for piece in pieces {
        let mut entry = vec![NAME, 0];
        entry.extend(piece.iter().flat_map(|unit| unit.to_le_bytes()));
        entry.resize(32, 0);
        entries.extend(entry);
    }
    let sum = set_checksum(&entries).to_le_bytes();
    entries[2..4].copy_from_slice(&sum);
    entries
}

fn link(overlay: &mut Overlay, cluster: u32, next: u32) {
    overlay.lay(geometry().fat_at() + u64::from(cluster) * 4, &next.to_le_bytes());
}

/// A whole volume with `root` behind the entries of bitmap and up-case table.
fn volume_with(root: &[u8]) -> Overlay {
    let mut overlay = Overlay::new(Arc::new(MemorySource::new("x", vec![0; 4 << 20], 512)));
    let region = make::boot_region(&geometry(), 2048);
    overlay.lay(ByteOffset(0), &region);
    overlay.lay(geometry().backup_at(), &region);
    overlay.lay(geometry().fat_at(), &[0xF8, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF]);
    for cluster in 2..5 {
        link(&mut overlay, cluster, u32::MAX);
    }
    let table = upcase_table();
    overlay.lay(geometry().cluster_at(2).unwrap(), &[0xFF, 0x0F]);
    overlay.lay(geometry().cluster_at(3).unwrap(), &table);
    let core = [allocation(BITMAP, 2, 124, 0), allocation(UPCASE, 3, table.len() as u64, table_checksum(&table))].concat();
    overlay.lay(geometry().cluster_at(4).unwrap(), &[core, root.to_vec()].concat());
    overlay
}

fn open(overlay: Overlay) -> ExFatVolume {
    ExFatVolume::open(Arc::new(overlay), geometry()).unwrap()
}

fn walk(volume: &ExFatVolume, deleted: Deleted) -> (Vec<String>, Vec<String>) {
    let mut paths = Vec::new();
    let mut each = |found: WalkEntry<'_>| {
        paths.push(format!("{}/{}", found.folder, found.entry.name));
        ControlFlow::Continue(())
    };
    let findings = volume.walk(deleted, &mut each).unwrap();
    (paths, findings.into_iter().map(|finding| finding.what).collect())
}

#[test]
fn a_made_boot_region_parses_to_the_same_geometry_and_its_checksum_holds() {
    let source: SharedSource = Arc::new(volume_with(&[]));
    assert_eq!(boot_sector(source.as_ref(), ByteOffset(0)), Some(Geometry::ExFat(geometry())));
    assert!(mend::region_holds(&source, &geometry(), ByteOffset(0)));
    assert_eq!(repairs(&source), []);
}

fn repairs(window: &SharedSource) -> Vec<Repair> {
    mend::structures(window, &geometry(), 2048, Compute::WhereNeeded).iter().flat_map(Structure::repairs).collect()
}

#[test]
fn a_damaged_boot_region_comes_back_from_its_backup() {
    for at in [0u64, 72, 600, 11 * 512] {
        let mut overlay = volume_with(&[]);
        overlay.lay(ByteOffset(at), &[0x5A]);
        let window: SharedSource = Arc::new(overlay);
        let [restored] = <[Repair; 1]>::try_from(repairs(&window)).unwrap();
        assert_eq!((restored.at, restored.from), (ByteOffset(0), Take::Copy(0)), "byte {at}");
        assert_eq!(restored.bytes, make::boot_region(&geometry(), 2048), "byte {at}");
    }
    // The backup comes back from the main region in the same way.
    let mut backup = volume_with(&[]);
    backup.lay(geometry().backup_at() + 72, &[0x5A]);
    let [renewed] = <[Repair; 1]>::try_from(repairs(&(Arc::new(backup) as SharedSource))).unwrap();
    assert_eq!((renewed.at, renewed.is_main), (geometry().backup_at(), false));
    assert_eq!(renewed.bytes, make::boot_region(&geometry(), 2048));
    let mut both = volume_with(&[]);
    both.lay(ByteOffset(72), &[1]);
    both.lay(geometry().backup_at() + 600, &[1]);
    let both = repairs(&(Arc::new(both) as SharedSource));
    let sources: Vec<_> = both.iter().map(|repair| (repair.at, repair.from)).collect();
    assert_eq!(sources, [(geometry().backup_at(), Take::Computed), (ByteOffset(0), Take::Computed)]);
}

#[test]
fn a_boot_sector_with_an_absurd_field_names_it() {
    let good = make::boot_region(&geometry(), 0);
    for (at, bytes, field) in [
        (3, vec![b'X'], "FileSystemName"),
        (11, vec![1], "MustBeZero"),
        (72, vec![1, 0], "VolumeLength"),
        (80, vec![1], "FatOffset"),
        (84, vec![1], "FatLength"),
        (88, vec![130, 0], "ClusterHeapOffset"),
        (96, vec![1], "FirstClusterOfRootDirectory"),
        (108, vec![8], "BytesPerSectorShift"),
        (109, vec![17], "SectorsPerClusterShift"),
        (110, vec![3], "NumberOfFats"),
    ] {
        let mut sector = good.clone();
        sector[at..at + bytes.len()].copy_from_slice(&bytes);
        let error = ExFatGeometry::parse(View::new("boot sector", ByteOffset(0), &sector)).unwrap_err().to_string();
        assert!(error.contains(field), "{field}: {error}");
    }
    assert!(ExFatGeometry::parse(View::new("boot sector", ByteOffset(0), &good[..100])).is_err());
}

#[test]
fn chains_and_contiguous_files_read_and_times_are_turned_to_utc() {
    let root =
        [set("chain.bin", 0x20, 1, 10, 6000), set("straight.bin", 0x20, 3, 20, 6000), set("Log", 0x10, 3, 30, 4096)].concat();
    let mut overlay = volume_with(&root);
    link(&mut overlay, 10, 12);
    link(&mut overlay, 12, u32::MAX);
    for (cluster, byte) in [(10, 1u8), (12, 2), (20, 3), (21, 4)] {
        overlay.lay(geometry().cluster_at(cluster).unwrap(), &[byte; 4096]);
    }
    overlay.lay(geometry().cluster_at(30).unwrap(), &set("inner.txt", 0x20, 1, 0, 0));
    let volume = open(overlay);
    assert_eq!(volume.examine(), []);
    assert_eq!(
        walk(&volume, Deleted::Hide),
        (vec!["/chain.bin".into(), "/straight.bin".into(), "/Log".into(), "Log/inner.txt".into()], vec![])
    );
    let mut entries = Vec::new();
    volume
        .list(volume.root(), Deleted::Hide, &mut |entry| {
            entries.push(entry);
            ControlFlow::Continue(())
        })
        .unwrap();
    for (entry, halves) in entries.iter().zip([(1, 2), (3, 4)]) {
        let (bytes, whole) = read_whole(volume.open(entry.id, "").unwrap().as_mut(), 1 << 20);
        assert!(whole && bytes[..4096] == [halves.0; 4096] && bytes[4096..] == [halves.1; 1904], "{}", entry.name);
    }
    // 2026-03-14 09:26:52, one hour ahead of UTC.
    assert_eq!(entries[0].times.modified.unwrap().to_string(), "2026-03-14 08:26:52Z");
}

#[test]
fn deleted_sets_are_listed_as_deleted_and_damaged_ones_reported() {
    let mut gone = set("gone.txt", 0x20, 3, 40, 10);
    gone.iter_mut().step_by(32).for_each(|kind| *kind &= 0x7F);
    let mut wrong = set("wrong sum.txt", 0x20, 1, 0, 0);
    wrong[2] ^= 1;
    let cut = &set("cut off.txt", 0x20, 1, 0, 0)[..64];
    let volume = open(volume_with(&[gone, wrong, cut.to_vec(), set("last.txt", 0x20, 1, 0, 0)].concat()));
    let (paths, findings) = walk(&volume, Deleted::Show);
    assert_eq!(paths, ["/gone.txt", "/wrong sum.txt", "/last.txt"]);
    let text = findings.concat();
    assert!(text.contains("SetChecksum") && text.contains("ends before all its entries"), "{text}");
    assert_eq!(walk(&volume, Deleted::Hide).0.len(), 2);
}

#[test]
fn a_folder_that_leads_back_to_itself_is_cut() {
    let mut overlay = volume_with(&set("Loop", 0x10, 3, 30, 4096));
    overlay.lay(geometry().cluster_at(30).unwrap(), &set("Again", 0x10, 3, 30, 4096));
    let (paths, findings) = walk(&open(overlay), Deleted::Hide);
    assert_eq!(paths, ["/Loop", "Loop/Again"]);
    assert!(findings.concat().contains("already listed"));
}

#[test]
fn core_metadata_that_does_not_hold_is_found() {
    let mut overlay = volume_with(&set("name.txt", 0x20, 1, 0, 0));
    overlay.lay(geometry().cluster_at(2).unwrap(), &[0xFB]);
    overlay.lay(geometry().cluster_at(3).unwrap() + 20, &[0x77]);
    let text = open(overlay).examine().into_iter().map(|finding| finding.what).collect::<String>();
    assert!(text.contains("root's first cluster as free") && text.contains("up-case table cannot be used"), "{text}");
}

#[test]
fn a_volume_without_any_boot_sector_is_inferred_from_root_upcase_table_and_fat() {
    let mut drive = Overlay::new(Arc::new(MemorySource::new("d", vec![0; 8 << 20], 512)));
    let volume = volume_with(&set("name.txt", 0x20, 1, 0, 0));
    let mut bytes = vec![0; 4 << 20];
    keel_source::Source::read_at(&volume, ByteOffset(0), &mut bytes).unwrap();
    bytes[..24 * 512].fill(0);
    drive.lay(ByteOffset(1 << 20), &bytes);
    let drive: SharedSource = Arc::new(drive);
    let mut surface = vec![0; 8 << 20];
    drive.read_at(ByteOffset(0), &mut surface).unwrap();
    let mut clues = crate::clue::Clues::default();
    clues.look(ByteOffset(0), &surface, surface.len());
    let found = infer(&drive, &clues);
    assert_eq!(found.len(), 1);
    assert_eq!(found[0].start, ByteOffset(1 << 20));
    // The count of clusters is known to within the last byte of the bitmap.
    assert_eq!(found[0].bytes, 4 << 20);
    assert!(found[0].witnesses.iter().any(|witness| witness.says.contains("4096 bytes a cluster")));
}

proptest! {
    #[test]
    fn damaged_structures_never_panic_hang_or_fill_memory(
        damage in proptest::collection::vec((prop_oneof![0u64..12_288, 65_536u64..66_000, 131_072u64..147_456], any::<u8>()), 1..100),
    ) {
        let root = [set("chain.bin", 0x20, 1, 10, 6000), set("Log", 0x10, 3, 30, 4096), set("deep.txt", 0x20, 3, 20, 1 << 40)].concat();
        let mut overlay = volume_with(&root);
        link(&mut overlay, 10, 12);
        link(&mut overlay, 12, 10);
        for (at, byte) in damage {
            overlay.lay(ByteOffset(at), &[byte]);
        }
        let source: SharedSource = Arc::new(overlay);
        let geometry = match boot_sector(source.as_ref(), ByteOffset(0)) {
            Some(Geometry::ExFat(found)) => found,
            _ => geometry(),
        };
        if let Ok(volume) = ExFatVolume::open(source, geometry) {
            let mut ids = Vec::new();
            let _ = volume.walk(Deleted::Show, &mut |found| {
                ids.push(found.entry.id);
                if ids.len() < 2000 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
            });
            for id in ids.into_iter().take(50) {
                if let Ok(mut stream) = volume.open(id, "") {
                    let _ = read_whole(stream.as_mut(), 1 << 16);
                }
            }
            let _ = volume.examine();
        }
    }

    #[test]
    fn random_boot_sectors_never_panic(bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
        let _ = ExFatGeometry::parse(View::new("boot sector", ByteOffset(0), &bytes));
    }
}
