//! HFS+ volumes made here and filled by an independent kernel's driver, under qemu.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Arc, LazyLock};

use crate::support::{Bench, contents, many_files, noise, prose, run, surface, write_tree};
use keel_format::check::check;
use keel_format::hfsplus;
use keel_format::{Geometry, Severity, Volume, VolumeKind, WitnessKind, registry};
use keel_source::{ByteOffset, Overlay, SharedSource};
use proptest::prelude::*;

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
    let output = crate::qemu::qemu(&guest, "fill=hfsplus,hfsplus,hfsplus", drives).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout);
    assert_eq!(text.matches("@@FILLED hfsplus").count(), SIZES.len(), "{text}");
    benches
});

fn made(bytes: u64, block_bytes: u32) -> Bench {
    crate::support::new_hfs_plus(bytes, block_bytes, "Überfahrt", false)
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
        let mended = crate::support::mended(&volume.geometry, &drive);
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
        let restored = crate::support::main_repairs(&volume.geometry, &stale).swap_remove(0);
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
        let mended = crate::support::mended(&volume.geometry, &drive);
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

fn hfs(source: &SharedSource) -> hfsplus::HfsVolume {
    let Some(Geometry::HfsPlus(geometry)) = registry::boot_sector(source.as_ref(), ByteOffset(0)) else { panic!() };
    hfsplus::HfsVolume::open(Arc::clone(source), geometry).unwrap()
}

fn told(source: &SharedSource, least: Severity) -> Vec<String> {
    let checked = check(&hfs(source));
    let findings = checked.iter().flat_map(|rule| rule.findings.iter().map(move |finding| (rule.rule, finding)));
    findings.filter(|(_, finding)| finding.severity >= least).map(|(rule, finding)| format!("{rule}: {}", finding.what)).collect()
}

/// The source with the mending of `rule` made.
fn mended(source: &SharedSource, rule: &str) -> (SharedSource, bool) {
    let checked = check(&hfs(source));
    let mending = checked.iter().find(|checked| checked.rule == rule).unwrap().mending.clone().expect(rule);
    let mut overlay = Overlay::new(Arc::clone(source));
    mending.repairs.iter().for_each(|repair| overlay.lay(repair.at, &repair.bytes));
    (Arc::new(overlay), mending.is_safe)
}

#[test]
fn volumes_that_a_kernel_filled_pass_every_rule() {
    for (bench, (_, block)) in VOLUMES.iter().zip(SIZES) {
        assert_eq!(told(&bench.source(512), Severity::Note), Vec::<String>::new(), "blocks of {block}");
    }
}

#[test]
fn counts_and_marks_of_the_header_that_are_wrong_are_told_and_set_right() {
    let whole = VOLUMES[1].source(512);
    let mut overlay = Overlay::new(Arc::clone(&whole));
    overlay.lay(ByteOffset(1024 + 32), &7u32.to_be_bytes());
    overlay.lay(ByteOffset(1024 + 48), &9u32.to_be_bytes());
    overlay.lay(ByteOffset(1024 + 64), &20u32.to_be_bytes());
    let damaged: SharedSource = Arc::new(overlay);
    let said = told(&damaged, Severity::Doubt);
    for what in ["fileCount is 7, counted", "freeBlocks is 9, counted", "nextCatalogID is 20, the highest in use is"] {
        assert!(said.iter().any(|said| said.starts_with("header counts: ") && said.contains(what)), "{what}: {said:?}");
    }
    let (right, is_safe) = mended(&damaged, "header counts");
    assert!(is_safe);
    assert_eq!(told(&right, Severity::Note), Vec::<String>::new());
    let mut header = [[0; 16]; 2];
    right.read_at(ByteOffset(1024 + 32), &mut header[0]).unwrap();
    whole.read_at(ByteOffset(1024 + 32), &mut header[1]).unwrap();
    assert_eq!(header[0][..8], header[1][..8]);
    let mut overlay = Overlay::new(Arc::clone(&whole));
    overlay.lay(ByteOffset(1024 + 4), &0x800u32.to_be_bytes());
    let marked: SharedSource = Arc::new(overlay);
    assert!(told(&marked, Severity::Doubt).iter().any(|said| said.contains("marked as inconsistent")));
    let (clean, is_safe) = mended(&marked, "volume attributes");
    assert_eq!((told(&clean, Severity::Note), is_safe), (vec![], false));
}

#[test]
fn ground_of_files_and_special_files_is_cross_checked() {
    let whole = VOLUMES[1].source(512);
    let allocation = hfs(&whole).allocation().unwrap();
    assert!(allocation.knows_all && allocation.is_used(0) && allocation.is_used(allocation.units - 1));
    let used = (0..allocation.units).filter(|unit| allocation.is_used(*unit)).count() as u64;
    let mut free = [0; 4];
    whole.read_at(ByteOffset(1024 + 48), &mut free).unwrap();
    assert_eq!(used, allocation.units - u64::from(u32::from_be_bytes(free)));
    // The catalog's first block counted as free, a free block as used.
    let spare = (0..allocation.units).rev().find(|unit| !allocation.is_used(*unit)).unwrap();
    let catalog = hfs(&whole).catalog().node_at(0).unwrap().0 / 4096;
    let mut overlay = Overlay::new(Arc::clone(&whole));
    for (unit, used) in [(spare, true), (catalog, false)] {
        let allocation = hfs(&(Arc::new(Overlay::new(Arc::clone(&whole))) as SharedSource)).allocation().unwrap();
        let units = unit..unit + 1;
        allocation.marked(std::slice::from_ref(&units), used).iter().for_each(|repair| overlay.lay(repair.at, &repair.bytes));
    }
    let damaged: SharedSource = Arc::new(overlay);
    let said = told(&damaged, Severity::Note).join("; ");
    assert!(
        said.contains("held by a file: 1 blocks are counted as used and held by no file")
            || said.contains("counted as used: 1 blocks"),
        "{said}"
    );
}

#[test]
fn a_journal_is_replaced_when_it_is_damaged_and_off_when_its_place_is_lost() {
    let bench = crate::support::new_hfs_plus(24 << 20, 4096, "Überfahrt", true);
    let journaled = bench.source(512);
    assert_eq!(told(&journaled, Severity::Note), Vec::<String>::new());
    let listed = contents(&hfs(&journaled));
    assert_eq!(listed.keys().map(String::as_str).collect::<Vec<_>>(), [".journal", ".journal_info_block"]);
    let Some(Geometry::HfsPlus(geometry)) = registry::boot_sector(journaled.as_ref(), ByteOffset(0)) else { panic!() };
    let info_at = u64::from(geometry.journal_info_block) * 4096;
    let header_at = info_at + 4096;
    assert!(listed[".journal"].starts_with(b"JNLx"));
    let mut overlay = Overlay::new(Arc::clone(&journaled));
    overlay.lay(ByteOffset(header_at + 8), &[0xFF; 8]);
    let damaged: SharedSource = Arc::new(overlay);
    assert!(told(&damaged, Severity::Broken).iter().any(|said| said.contains("a system refuses to mount the volume")));
    let (fresh, is_safe) = mended(&damaged, "journal");
    assert_eq!((told(&fresh, Severity::Note), is_safe), (vec![], false));
    // With the journal info block gone nothing says where the ring is: journaling goes off.
    let mut overlay = Overlay::new(Arc::clone(&journaled));
    overlay.lay(ByteOffset(info_at), &[&[0, 0, 0, 1][..], &[0xFF; 48]].concat());
    let lost: SharedSource = Arc::new(overlay);
    assert!(!told(&lost, Severity::Broken).is_empty());
    let (off, is_safe) = mended(&lost, "journal");
    let Some(Geometry::HfsPlus(geometry)) = registry::boot_sector(off.as_ref(), ByteOffset(0)) else { panic!() };
    assert_eq!((geometry.attributes & 0x2000, geometry.journal_info_block, is_safe), (0, 0, false));
    assert_eq!(told(&off, Severity::Doubt), Vec::<String>::new());
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn damaged_volumes_never_panic_hang_or_fill_memory(damage in crate::support::damage()) {
        static SMALL: LazyLock<SharedSource> = LazyLock::new(|| crate::support::in_memory(&VOLUMES[0]));
        let whole = registry::boot_sector(SMALL.as_ref(), ByteOffset(0)).unwrap();
        crate::support::survive(&SMALL, whole, &damage);
    }
}

/// The header node alone is lost: no tree leads to the leaves, and every one of them says what it holds.
#[test]
fn a_catalog_without_its_header_node_lists_by_its_leaves() {
    for bench in VOLUMES.iter() {
        let (geometry, volume) = bench.open(512);
        let whole = contents(volume.as_ref());
        let Geometry::HfsPlus(hfs) = &geometry else { panic!("HFS+") };
        let at = hfs.block_at(hfs.catalog.extents[0].0).unwrap();
        let mut overlay = Overlay::new(bench.source(512));
        overlay.lay(at, &[0; 512]);
        let view: SharedSource = Arc::new(overlay);
        let left = geometry.open(view).unwrap();
        assert!(left.examine().iter().any(|finding| finding.severity == Severity::Broken));
        assert_eq!(contents(left.as_ref()), whole);
    }
}
