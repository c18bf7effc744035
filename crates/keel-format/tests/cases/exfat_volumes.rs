//! exFAT volumes made by the system's formatter and filled by a driver of the system.

use std::fs;
use std::io::Write;
use std::path::Path;

use crate::support::{Bench, contents, deleted, many_files, noise, prose, surface, write_tree};
use keel_format::exfat::{self, ExFatGeometry};
use keel_format::{Geometry, VolumeKind, WitnessKind, registry};
use keel_source::{ByteOffset, Overlay, SharedSource};
use proptest::prelude::*;
use std::sync::{Arc, LazyLock};

const DRIVER: &[&str] = &["mount.exfat-fuse", "-o", "rw"];

fn geometry(bench: &Bench, sector: u32) -> ExFatGeometry {
    match registry::boot_sector(bench.source(sector).as_ref(), ByteOffset(0)) {
        Some(Geometry::ExFat(geometry)) => geometry,
        other => panic!("{other:?}"),
    }
}

#[test]
fn every_cluster_size_reads_as_written() {
    for (bytes, cluster) in
        [(32 << 20, "512"), (64 << 20, "4096"), (300 << 20, "32768"), (2 << 30, "131072"), (4 << 30, "1048576")]
    {
        let bench = Bench::new(bytes);
        bench.format("mkfs.exfat", &["-c", cluster, "-L", "CAMERA"]);
        let files = many_files();
        bench.fill(DRIVER, |folder| write_tree(folder, &files));
        let (geometry, volume) = bench.open(512);
        assert_eq!((geometry.kind(), geometry.bytes()), (VolumeKind::ExFat, bytes), "clusters of {cluster}");
        assert_eq!(volume.summary().label.as_deref(), Some("CAMERA"));
        assert!(contents(volume.as_ref()) == files, "clusters of {cluster}");
        assert_eq!(volume.examine(), [], "clusters of {cluster}");
    }
}

#[test]
fn sectors_of_4096_bytes_read() {
    let bench = Bench::new(256 << 20);
    bench.format_with_sectors(4096, "mkfs.exfat", &["-L", "BIG"]);
    let (geometry, volume) = bench.open(4096);
    assert_eq!((geometry.bytes(), volume.summary().label.as_deref()), (256 << 20, Some("BIG")));
}

/// Two files written in turns, so that neither lies in one piece.
fn interleave(folder: &Path) -> [Vec<u8>; 2] {
    let contents = [noise(1, 400_000), noise(2, 400_000)];
    let mut files = ["first.bin", "second.bin"].map(|name| fs::File::create(folder.join(name)).unwrap());
    for step in 0..40 {
        for (file, content) in files.iter_mut().zip(&contents) {
            file.write_all(&content[step * 10_000..(step + 1) * 10_000]).unwrap();
            file.sync_all().unwrap();
        }
    }
    contents
}

#[test]
fn fragmented_files_read_and_deleted_ones_are_listed() {
    let bench = Bench::new(64 << 20);
    bench.format("mkfs.exfat", &["-c", "4096"]);
    let mut written = None;
    bench.fill(DRIVER, |folder| {
        fs::write(folder.join("gone for good.txt"), prose(3, 5000)).unwrap();
        written = Some(interleave(folder));
        fs::remove_file(folder.join("gone for good.txt")).unwrap();
    });
    let (_, volume) = bench.open(512);
    let read = contents(volume.as_ref());
    let [first, second] = written.unwrap();
    assert!(read["first.bin"] == first && read["second.bin"] == second);
    assert_eq!(deleted(volume.as_ref()), ["gone for good.txt"]);
}

#[test]
fn a_volume_is_found_by_its_backup_and_also_without_any_boot_region() {
    for cluster in ["4096", "32768"] {
        let bench = Bench::new(128 << 20);
        bench.format("mkfs.exfat", &["-c", cluster, "-L", "LOST"]);
        bench.fill(DRIVER, |folder| write_tree(folder, &many_files()));
        let wanted = geometry(&bench, 512);
        for (what, gone) in [("main region", 12 * 512), ("both regions", 24 * 512)] {
            let mut overlay = Overlay::new(bench.source(512));
            overlay.lay(ByteOffset(0), &vec![0; gone]);
            let drive: SharedSource = Arc::new(overlay);
            let volumes = exfat::infer(&drive, &surface(&drive));
            assert_eq!(volumes.len(), 1, "{what} gone, clusters of {cluster}");
            let volume = &volumes[0];
            assert_eq!((volume.start, volume.bytes), (ByteOffset(0), 128 << 20), "{what} gone, clusters of {cluster}");
            assert_eq!(volume.label.as_deref(), Some("LOST"));
            assert_eq!(volume.has(WitnessKind::BackupBootSector), gone == 12 * 512);
            let opened = volume.geometry.open(Arc::clone(&drive)).unwrap();
            assert!(contents(opened.as_ref()) == many_files(), "{what} gone");
            let Geometry::ExFat(inferred) = volume.geometry else { panic!() };
            assert_eq!((inferred.root_cluster, inferred.cluster_heap_offset), (wanted.root_cluster, wanted.cluster_heap_offset));
        }
    }
}

/// A small volume, filled once.
static SMALL: LazyLock<SharedSource> = LazyLock::new(|| {
    let bench = Bench::new(4 << 20);
    bench.format("mkfs.exfat", &["-c", "512"]);
    bench.fill(DRIVER, |folder| {
        fs::create_dir(folder.join("Log")).unwrap();
        (0..20).for_each(|number| fs::write(folder.join(format!("Log/day {number}.txt")), prose(number, 900)).unwrap());
    });
    crate::support::in_memory(&bench)
});

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn damaged_volumes_never_panic_hang_or_fill_memory(damage in crate::support::damage()) {
        let whole = registry::boot_sector(SMALL.as_ref(), ByteOffset(0)).unwrap();
        crate::support::survive(&SMALL, whole, &damage);
    }
}
