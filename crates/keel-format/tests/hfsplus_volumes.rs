//! HFS+ volumes made here and filled by an independent kernel's driver, under qemu.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "../../../xtask/guest/qemu.rs"]
mod qemu;
mod support;

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Arc, LazyLock};

use keel_format::hfsplus::{self, make};
use keel_format::{Geometry, VolumeKind, WitnessKind, registry};
use keel_source::{ByteOffset, Overlay, SharedSource};
use proptest::prelude::*;
use support::{Bench, contents, many_files, noise, prose, run, surface, write_tree};

const SIZES: [(u64, u32); 3] = [(24 << 20, 512), (64 << 20, 4096), ((96 << 20) + 1536, 8192)];

/// Enough files for a catalog of several levels, and one in many pieces.
fn files() -> BTreeMap<String, Vec<u8>> {
    let mut files = many_files();
    files.extend((0..600).map(|number| (format!("Many/crossing number {number:04}.txt"), prose(number, number % 700))));
    files.insert("scattered.bin".into(), noise(9, 600_000));
    files
}

fn tar(folder: &Path) -> PathBuf {
    let tree = folder.join("tree");
    write_tree(&tree, &files());
    fs::rename(tree.join("scattered.bin"), tree.join(".pieces")).unwrap();
    // Two files that grow in turns lie in many pieces.
    let script = "i=0; while [ $i -lt 30 ]; do dd if=.pieces bs=20000 skip=$i count=1 2>/dev/null >> scattered.bin; \\
        dd if=.pieces bs=20000 skip=$i count=1 2>/dev/null >> .filler; sync; i=$((i+1)); done; rm .pieces .filler; \\
        ln SHORT.TXT linked.txt";
    fs::write(tree.join(".after.sh"), script).unwrap();
    let tar = folder.join("content.tar");
    run(Command::new("tar").args(["--format=pax", "-C"]).arg(&tree).arg("-cf").arg(&tar).arg("."));
    let len = fs::metadata(&tar).unwrap().len();
    File::options().write(true).open(&tar).unwrap().set_len(len.next_multiple_of(4096)).unwrap();
    tar
}

/// The volumes, made and filled once by one boot of the guest.
static VOLUMES: LazyLock<Vec<Bench>> = LazyLock::new(|| {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let guest = std::env::var_os("YKEEL_GUEST").map_or_else(|| root.join("target/guest"), PathBuf::from);
    run(Command::new("bash").arg(root.join("xtask/guest/build.sh")).arg(&guest));
    let benches: Vec<Bench> = SIZES.iter().map(|(bytes, block)| made(*bytes, *block)).collect();
    let tar = tar(benches[0].folder.path());
    let drives = benches.iter().flat_map(|bench| [(bench.image.as_path(), ""), (tar.as_path(), ",readonly=on")]);
    let output = qemu::qemu(&guest, "fill=hfsplus,hfsplus,hfsplus", drives).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout);
    assert_eq!(text.matches("@@FILLED hfsplus").count(), SIZES.len(), "{text}");
    benches
});

fn made(bytes: u64, block_bytes: u32) -> Bench {
    let bench = Bench::new(bytes);
    let new = make::NewVolume { bytes, block_bytes, label: "Überfahrt".into(), created: 3_856_000_000, identifier: 0xBAC };
    let file = File::options().write(true).open(&bench.image).unwrap();
    for (at, piece) in make::volume(&new).unwrap() {
        file.write_all_at(&piece, at).unwrap();
    }
    bench
}

#[test]
fn a_new_volume_reads_as_empty() {
    let (geometry, volume) = made(8 << 20, 4096).open(512);
    assert_eq!((geometry.kind(), geometry.bytes()), (VolumeKind::HfsPlus, 8 << 20));
    assert_eq!(volume.summary().label.as_deref(), Some("Überfahrt"));
    assert!(contents(volume.as_ref()).is_empty());
    assert_eq!(volume.examine(), []);
}

#[test]
fn every_block_size_reads_as_a_kernel_wrote_it() {
    for (bench, (_, block)) in VOLUMES.iter().zip(SIZES) {
        let (_, volume) = bench.open(512);
        let mut wanted = files();
        wanted.insert("linked.txt".into(), wanted["SHORT.TXT"].clone());
        let read = contents(volume.as_ref());
        assert_eq!(read.keys().collect::<Vec<_>>(), wanted.keys().collect::<Vec<_>>(), "blocks of {block}");
        assert!(read == wanted, "blocks of {block}");
        assert_eq!(volume.examine(), [], "blocks of {block}");
    }
}

#[test]
fn a_volume_is_found_by_its_alternate_header_and_the_header_put_back() {
    for (bench, (bytes, block)) in VOLUMES.iter().zip(SIZES) {
        let (whole, _) = bench.open(512);
        let mut overlay = Overlay::new(bench.source(512));
        overlay.lay(ByteOffset(0), &[0; 1536]);
        let drive: SharedSource = Arc::new(overlay);
        let volumes = hfsplus::infer(&drive, &surface(&drive));
        assert_eq!(volumes.len(), 1, "blocks of {block}");
        let volume = &volumes[0];
        assert_eq!((volume.start, volume.bytes), (ByteOffset(0), bytes), "blocks of {block}");
        assert!(volume.has(WitnessKind::BackupBootSector) && volume.has(WitnessKind::RootDirectory));
        assert_eq!(contents(volume.geometry.open(Arc::clone(&drive)).unwrap().as_ref()).len(), files().len() + 1);
        let mended = support::mended(&volume.geometry, &drive);
        let (Some(Geometry::HfsPlus(found)), Geometry::HfsPlus(whole)) =
            (registry::boot_sector(mended.as_ref(), ByteOffset(0)), whole)
        else {
            panic!()
        };
        assert!(found.is_same_volume(&whole));
        // Even an alternate header from before the files were made gives no number out twice.
        let mut stale = Overlay::new(bench.source(512));
        stale.lay(ByteOffset(0), &[0; 1536]);
        let Geometry::HfsPlus(inferred) = volume.geometry else { panic!() };
        stale.lay(inferred.alternate_at() + 64, &16u32.to_be_bytes());
        let stale: SharedSource = Arc::new(stale);
        let restored = support::main_repairs(&volume.geometry, &stale).swap_remove(0);
        let next = u32::from_be_bytes(restored.bytes[64..68].try_into().unwrap());
        assert!(next as usize > files().len(), "nextCatalogID {next}");
    }
}

#[test]
fn a_volume_without_any_header_is_found_by_its_trees() {
    for (bench, (bytes, block)) in VOLUMES.iter().zip(SIZES) {
        let (Geometry::HfsPlus(whole), _) = bench.open(512) else { panic!() };
        let mut overlay = Overlay::new(bench.source(512));
        overlay.lay(ByteOffset(0), &[0; 1536]);
        overlay.lay(ByteOffset(bytes - 1024), &[0; 512]);
        let drive: SharedSource = Arc::new(overlay);
        let volumes = hfsplus::infer(&drive, &surface(&drive));
        assert_eq!(volumes.len(), 1, "blocks of {block}");
        let volume = &volumes[0];
        let Geometry::HfsPlus(found) = volume.geometry else { panic!() };
        // A tail of less than a block is not in the bitmap.
        assert_eq!(
            (volume.start, volume.bytes),
            (ByteOffset(0), bytes / u64::from(block) * u64::from(block)),
            "blocks of {block}"
        );
        let numbers = |one: &hfsplus::HfsGeometry| (one.kind, one.block_bytes, one.total_blocks, one.allocation.extents[0]);
        assert_eq!(numbers(&found), numbers(&whole), "blocks of {block}");
        assert!(volume.has(WitnessKind::RootDirectory) && !volume.has(WitnessKind::BackupBootSector));
        assert_eq!(contents(volume.geometry.open(Arc::clone(&drive)).unwrap().as_ref()).len(), files().len() + 1);
        // The header is computed: what it says of the trees and counts is what stood there.
        let mended = support::mended(&volume.geometry, &drive);
        let Some(Geometry::HfsPlus(again)) = registry::boot_sector(mended.as_ref(), ByteOffset(0)) else { panic!() };
        assert_eq!((again.catalog, again.extents, again.allocation), (whole.catalog, whole.extents, whole.allocation));
        let counts = |source: &SharedSource| {
            let mut header = [0; 512];
            source.read_at(ByteOffset(1024), &mut header).unwrap();
            [32..36, 36..40, 48..52, 64..68].map(|place| u32::from_be_bytes(header[place].try_into().unwrap()))
        };
        let (computed, written) = (counts(&mended), counts(&bench.source(512)));
        assert_eq!(computed[..3], written[..3], "files, folders, free blocks with blocks of {block}");
        assert!(computed[3] <= written[3] && computed[3] as usize > files().len(), "nextCatalogID {computed:?} {written:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn damaged_volumes_never_panic_hang_or_fill_memory(damage in support::damage()) {
        static SMALL: LazyLock<SharedSource> = LazyLock::new(|| support::in_memory(&VOLUMES[0]));
        let whole = registry::boot_sector(SMALL.as_ref(), ByteOffset(0)).unwrap();
        support::survive(&SMALL, whole, &damage);
    }
}
