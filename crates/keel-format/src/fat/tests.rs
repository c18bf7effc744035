use std::ops::ControlFlow;
use std::sync::Arc;

use keel_source::{ByteOffset, MemorySource, Overlay, SharedSource};
use proptest::prelude::*;

use super::layout::RawDirEntry;
use super::*;
use crate::{Deleted, NodeId, View, Volume, VolumeKind, WalkEntry};
use zerocopy::IntoBytes;
use zerocopy::little_endian::{U16, U32};

/// A FAT16 of 8 MiB with one-sector clusters, made by hand for what formatters do not make.
fn geometry() -> FatGeometry {
    FatGeometry {
        kind: VolumeKind::Fat16,
        bytes_per_sector: 512,
        sectors_per_cluster: 1,
        reserved_sectors: 1,
        fats: 2,
        fat_sectors: 64,
        root_entries: 512,
        root_cluster: 0,
        total_sectors: 16_384,
        media: 0xF8,
        serial: 0x1234_5678,
        fs_info: 0,
        backup: 0,
    }
}

fn empty() -> Overlay {
    let mut overlay = Overlay::new(Arc::new(MemorySource::new("f", vec![0; 8 << 20], 512)));
    overlay.lay(ByteOffset(0), &make::boot_sector(&geometry(), 0, b"QUAY       "));
    for copy in 0..2 {
        overlay.lay(geometry().fat_at(copy), &[0xF8, 0xFF, 0xFF, 0xFF]);
    }
    overlay
}

fn set(overlay: &mut Overlay, cluster: u32, value: u16) {
    for copy in 0..2 {
        overlay.lay(geometry().fat_at(copy) + u64::from(cluster) * 2, &value.to_le_bytes());
    }
}

fn slot(name: &[u8; 11], attr: u8, first: u16, size: u32) -> Vec<u8> {
    let zero = U16::new(0);
    RawDirEntry {
        name: *name,
        attr,
        nt_res: 0,
        crt_time_tenth: 0,
        crt_time: zero,
        crt_date: zero,
        lst_acc_date: zero,
        fst_clus_hi: zero,
        wrt_time: U16::new(0x4B5A),
        wrt_date: U16::new(0x5C6E),
        fst_clus_lo: U16::new(first),
        file_size: U32::new(size),
    }
    .as_bytes()
    .to_vec()
}

fn open(overlay: Overlay) -> FatVolume {
    FatVolume::open(Arc::new(overlay), geometry()).unwrap()
}

fn walk(volume: &FatVolume) -> (Vec<String>, Vec<String>) {
    let mut paths = Vec::new();
    let mut each = |found: WalkEntry<'_>| {
        paths.push(format!("{}/{}", found.folder, found.entry.name));
        ControlFlow::Continue(())
    };
    let findings = volume.walk(Deleted::Hide, &mut each).unwrap();
    (paths, findings.into_iter().map(|finding| finding.what).collect())
}

#[test]
fn a_made_boot_sector_parses_to_the_same_geometry() {
    let wide = FatGeometry {
        kind: VolumeKind::Fat32,
        sectors_per_cluster: 8,
        reserved_sectors: 32,
        fat_sectors: 7000,
        root_entries: 0,
        root_cluster: 2,
        total_sectors: 7_000_000,
        fs_info: 1,
        backup: 6,
        ..geometry()
    };
    for geometry in [geometry(), wide] {
        let sector = make::boot_sector(&geometry, 2048, b"NO NAME    ");
        assert_eq!(FatGeometry::parse(View::new("boot", ByteOffset(0), &sector)), Ok(geometry));
    }
}

#[test]
fn a_boot_sector_with_an_absurd_field_names_it() {
    let good = make::boot_sector(&geometry(), 0, b"QUAY       ");
    for (at, bytes, field) in [
        (11, vec![0x01, 0x02], "BPB_BytsPerSec"),
        (13, vec![3], "BPB_SecPerClus"),
        (14, vec![0, 0], "BPB_RsvdSecCnt"),
        (16, vec![9], "BPB_NumFATs"),
        (19, vec![50, 0], "BPB_TotSec"),
        (21, vec![7], "BPB_Media"),
        (22, vec![1, 0], "BPB_FATSz"),
    ] {
        let mut sector = good.clone();
        sector[at..at + bytes.len()].copy_from_slice(&bytes);
        let error = FatGeometry::parse(View::new("boot sector", ByteOffset(512), &sector)).unwrap_err().to_string();
        assert!(error.contains(field) && error.contains("boot sector at byte"), "{error}");
    }
    assert!(FatGeometry::parse(View::new("boot sector", ByteOffset(0), &good[..30])).is_err());
}

#[test]
fn a_chain_that_loops_is_cut_with_a_finding() {
    let mut overlay = empty();
    for (cluster, next) in [(10, 11), (11, 12), (12, 10)] {
        set(&mut overlay, cluster, next);
    }
    let volume = open(overlay);
    let chain = volume.table().chain(10, 1_000_000);
    assert!(chain.finding.unwrap().what.contains("it loops"));
    let free = volume.table().chain(500, 100);
    assert!(free.finding.unwrap().what.contains("a free cluster"));
    let outside = volume.table().chain(60_000, 100);
    assert!(outside.runs.is_empty() && outside.finding.unwrap().what.contains("no cluster"));
}

#[test]
fn a_tree_that_leads_back_to_itself_ends() {
    let mut overlay = empty();
    set(&mut overlay, 5, 0xFFFF);
    set(&mut overlay, 6, 0xFFFF);
    overlay.lay(geometry().root_at(), &[slot(b"ONE        ", 0x10, 5, 0), slot(b"READ    TXT", 0x20, 7, 5)].concat());
    overlay.lay(geometry().cluster_at(5).unwrap(), &[slot(b"TWO        ", 0x10, 6, 0)].concat());
    overlay
        .lay(geometry().cluster_at(6).unwrap(), &[slot(b"BACK       ", 0x10, 5, 0), slot(b"SELF       ", 0x10, 6, 0)].concat());
    let (paths, findings) = walk(&open(overlay));
    assert_eq!(paths, ["/ONE", "/READ.TXT", "ONE/TWO", "ONE/TWO/BACK", "ONE/TWO/SELF"]);
    assert_eq!(findings.iter().filter(|what| what.contains("already listed")).count(), 2);
}

#[test]
fn oem_letters_and_lower_case_flags_are_shown() {
    let mut overlay = empty();
    let mut lower = slot(b"LOWER   TXT", 0x20, 0, 0);
    lower[12] = 0x18;
    overlay
        .lay(geometry().root_at(), &[slot(b"\x9aBER    TXT", 0x20, 0, 0), lower, slot(b"\x05X      TXT", 0x20, 0, 0)].concat());
    assert_eq!(walk(&open(overlay)).0, ["/ÜBER.TXT", "/lower.txt", "/σX.TXT"]);
}

#[test]
fn a_file_shorter_than_its_chain_says_is_partly_unreadable() {
    let mut overlay = empty();
    set(&mut overlay, 7, 0xFFFF);
    overlay.lay(geometry().root_at(), &slot(b"CUT     BIN", 0x20, 7, 2000));
    let volume = open(overlay);
    let mut stream = volume.open(NodeId(geometry().root_at().0), "").unwrap();
    let mut buf = vec![1; 2000];
    let bad = stream.read(0, &mut buf);
    assert_eq!(bad.iter().map(|range| range.len()).sum::<u64>(), 2000 - 512);
}

#[test]
fn fat_copies_that_differ_and_a_wrong_media_byte_are_findings() {
    let mut overlay = empty();
    overlay.lay(geometry().fat_at(1) + 200, &[7]);
    overlay.lay(geometry().fat_at(0), &[0xF0]);
    let text = open(overlay).examine().into_iter().map(|finding| finding.what).collect::<String>();
    assert!(text.contains("FAT copy 2 differs") && text.contains("media byte"), "{text}");
}

proptest! {
    #[test]
    fn damaged_structures_never_panic_hang_or_fill_memory(
        damage in proptest::collection::vec((0u64..200_000, any::<u8>()), 1..200),
    ) {
        let mut overlay = empty();
        set(&mut overlay, 5, 6);
        set(&mut overlay, 6, 0xFFFF);
        overlay.lay(geometry().root_at(), &[slot(b"ONE        ", 0x10, 5, 0), slot(b"READ    TXT", 0x20, 7, 5000)].concat());
        overlay.lay(geometry().cluster_at(5).unwrap(), &slot(b"INNER   TXT", 0x20, 9, 60_000));
        for (at, byte) in damage {
            overlay.lay(ByteOffset(at), &[byte]);
        }
        let source: SharedSource = Arc::new(overlay);
        let geometry = match boot_sector(source.as_ref(), ByteOffset(0)) {
            Some(crate::Geometry::Fat(found)) => found,
            _ => geometry(),
        };
        if let Ok(volume) = FatVolume::open(source, geometry) {
            let mut ids = Vec::new();
            let _ = volume.walk(Deleted::Show, &mut |found| {
                ids.push(found.entry.id);
                if ids.len() < 2000 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
            });
            for id in ids.into_iter().take(50) {
                if let Ok(mut stream) = volume.open(id, "") {
                    let _ = crate::read_whole(stream.as_mut(), 1 << 16);
                }
            }
            let _ = volume.examine();
        }
    }

    #[test]
    fn random_boot_sectors_never_panic(bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
        let _ = FatGeometry::parse(View::new("boot sector", ByteOffset(0), &bytes));
    }
}

/// The long entries of a name for this short one, last part first.
fn long(name: &str, short: &[u8; 11]) -> Vec<u8> {
    let mut units: Vec<u16> = name.encode_utf16().collect();
    units.push(0);
    units.resize(units.len().next_multiple_of(13), 0xFFFF);
    let count = units.len() / 13;
    let mut bytes = Vec::new();
    for (index, part) in units.chunks(13).enumerate().rev() {
        let mut entry = [0u8; 32];
        entry[0] = u8::try_from(index + 1).unwrap() | if index + 1 == count { 0x40 } else { 0 };
        entry[11] = 0x0F;
        entry[13] = oem::checksum(short);
        for (unit, at) in part.iter().zip([1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30]) {
            entry[at..at + 2].copy_from_slice(&unit.to_le_bytes());
        }
        bytes.extend(entry);
    }
    bytes
}

fn named(bytes: &[u8]) -> Vec<(String, bool)> {
    directory::Slots::new(bytes, ByteOffset(0)).map(|slot| (slot.name, slot.deleted)).collect()
}

#[test]
fn a_long_name_belongs_to_the_short_one_whose_checksum_it_has() {
    let short = b"FAHRPL~1TXT";
    let text = "Fahrplan der Überfahrten 2026.txt";
    let whole = [long(text, short), slot(short, 0x20, 5, 9)].concat();
    assert_eq!(named(&whole), [(text.to_string(), false)]);
    // Of another short name: that one is shown by itself.
    let other = [long(text, short), slot(b"OTHER   TXT", 0x20, 5, 9)].concat();
    assert_eq!(named(&other), [("OTHER.TXT".to_string(), false)]);
    // A part is missing, or comes twice.
    let parts: Vec<&[u8]> = whole.chunks(32).collect();
    for order in [vec![0, 2, 3], vec![1, 2, 3], vec![0, 1, 1, 2, 3]] {
        let broken: Vec<u8> = order.iter().flat_map(|at| parts[*at].to_vec()).collect();
        assert_eq!(named(&broken), [("FAHRPL~1.TXT".to_string(), false)], "{order:?}");
    }
}

#[test]
fn a_deleted_long_name_is_put_together_without_its_numbers() {
    let short = b"FAHRPL~1TXT";
    let mut whole = [long("Fahrplan der Überfahrten.txt", short), slot(short, 0x20, 5, 9)].concat();
    whole.chunks_mut(32).for_each(|entry| entry[0] = 0xE5);
    assert_eq!(named(&whole), [("Fahrplan der Überfahrten.txt".to_string(), true)]);
    // Without its long parts the first letter is lost.
    assert_eq!(named(&whole[whole.len() - 32..]), [("_AHRPL~1.TXT".to_string(), true)]);
    // Parts of a present name are none of a deleted one.
    let mixed = [long("Another name.txt", short), whole[whole.len() - 32..].to_vec()].concat();
    assert_eq!(named(&mixed), [("_AHRPL~1.TXT".to_string(), true)]);
}

#[test]
fn names_reach_over_the_end_of_a_cluster_and_end_at_what_was_never_used() {
    let short = b"FAHRPL~1TXT";
    let text = "a name of several parts that lie in two clusters.txt";
    let whole = [long(text, short), slot(short, 0x20, 5, 9)].concat();
    for cut in (32..whole.len()).step_by(32) {
        let mut first = directory::Slots::new(&whole[..cut], ByteOffset(0));
        assert_eq!(first.by_ref().count(), 0);
        assert!(first.goes_on_with(&whole[cut..]), "{cut}");
        assert!(!first.goes_on_with(&slot(b"OTHER   TXT", 0x20, 5, 9)), "{cut}");
        let rest: Vec<String> = first.resume(&whole[cut..], ByteOffset(512)).map(|slot| slot.name).collect();
        assert_eq!(rest, [text], "{cut}");
    }
    let ended = [slot(b"A       TXT", 0x20, 3, 1), vec![0; 32], slot(b"B       TXT", 0x20, 4, 1)].concat();
    let mut slots = directory::Slots::new(&ended, ByteOffset(0));
    assert_eq!(slots.by_ref().map(|slot| slot.name).collect::<Vec<_>>(), ["A.TXT"]);
    assert!(slots.ended());
}

#[test]
fn what_holds_entries_is_told_from_what_holds_anything() {
    let folder =
        [slot(b"A       TXT", 0x20, 3, 1), long("long name.txt", b"LONGNA~1TXT"), slot(b"LONGNA~1TXT", 0x10, 9, 0)].concat();
    assert!(directory::holds_entries(&folder), "dates and all");
    for (at, byte) in [(0, b'a'), (0, b'.'), (3, b'*'), (11, 0xC0), (24, 0)] {
        let mut wrong = folder.clone();
        wrong[at] = byte;
        assert!(!directory::holds_entries(&wrong), "{at}: {byte:x}");
    }
    assert!(!directory::holds_entries(&[0; 512]) && !directory::holds_entries(b"a text of the client, which is no folder"));
    let mut deleted = folder;
    deleted[..32].copy_from_slice(&[0xE5; 32]);
    assert!(directory::holds_entries(&deleted), "of a deleted entry nothing is asked");
}

/// The rule of lost chains: what it says, and the volume with what it writes.
fn put_together(overlay: Overlay) -> (Vec<String>, FatVolume) {
    let source: SharedSource = Arc::new(overlay);
    let checked = lost::chains(&FatVolume::open(Arc::clone(&source), geometry()).unwrap());
    let mut view = Overlay::new(source);
    for repair in checked.mending.iter().flat_map(|mending| &mending.repairs) {
        view.lay(repair.at, &repair.bytes);
    }
    (checked.findings.into_iter().map(|finding| finding.what).collect(), open(view))
}

fn entries(volume: &FatVolume, clusters: impl IntoIterator<Item = u32>) -> Vec<u32> {
    clusters.into_iter().map(|cluster| volume.table().entry(cluster).unwrap_or(1) & 0xFFFF).collect()
}

#[test]
fn a_chain_that_no_fat_knows_is_written_as_its_file_is_read() {
    let mut overlay = empty();
    // Three clusters, of which the last is still known; one; and a file that was never written.
    overlay.lay(
        geometry().root_at(),
        &[slot(b"ROPES   TXT", 0x20, 5, 1500), slot(b"ONE     TXT", 0x20, 9, 100), slot(b"EMPTY   TXT", 0x20, 0, 0)].concat(),
    );
    set(&mut overlay, 7, 0xFFFF);
    let (said, volume) = put_together(overlay);
    assert_eq!(said.len(), 2, "{said:?}");
    assert!(said[0].contains("ROPES.TXT: 2 entries of its chain are lost"), "{said:?}");
    assert_eq!(entries(&volume, 5..10), [6, 7, 0xFFFF, 0, 0xFFFF]);
    assert_eq!(volume.table().entry_in(1, 5), Some(6), "in both copies");
    let again = lost::chains(&volume);
    assert!(again.findings.is_empty() && again.mending.is_none_or(|mending| mending.repairs.is_empty()));
}

#[test]
fn a_volume_whose_chains_are_known_is_left_alone() {
    let mut overlay = empty();
    overlay.lay(geometry().root_at(), &slot(b"SHORT   TXT", 0x20, 5, 5000));
    // Shorter than its size asks: another rule's, for its entries are there.
    set(&mut overlay, 5, 6);
    set(&mut overlay, 6, 0xFFFF);
    let (said, volume) = put_together(overlay);
    assert_eq!((said, entries(&volume, 5..8)), (Vec::new(), vec![6, 0xFFFF, 0]));
}

#[test]
fn two_files_of_lost_chains_never_get_the_same_cluster() {
    let mut overlay = empty();
    // By its size the first one reaches over where the second one begins.
    overlay.lay(geometry().root_at(), &[slot(b"LONG    BIN", 0x20, 5, 2000), slot(b"NEXT    BIN", 0x20, 7, 600)].concat());
    let (said, volume) = put_together(overlay);
    assert!(said[0].contains("LONG.BIN: where it goes on is lost"), "{said:?}");
    assert_eq!(entries(&volume, 5..9), [0, 0, 8, 0xFFFF]);
}

#[test]
fn what_no_entry_can_be_is_freed_beside_chains_that_were_put_together() {
    let harmed = || {
        let mut overlay = empty();
        overlay.lay(geometry().root_at(), &slot(b"ROPES   TXT", 0x20, 5, 600));
        for (cluster, garbage) in [(5, 0xE001), (6, 0xE777), (12, 0xEABC), (200, 0xE123)] {
            set(&mut overlay, cluster, garbage);
        }
        // One that can be an entry may be somebody's.
        set(&mut overlay, 13, 14);
        overlay
    };
    let (_, volume) = put_together(harmed());
    assert_eq!(entries(&volume, [5, 6, 12, 13, 200]), [6, 0xFFFF, 0, 14, 0], "of the same sector");
    // Where a chain could not be put together nothing is freed: it may lie there.
    let mut overlay = harmed();
    overlay.lay(geometry().root_at() + 32, &slot(b"LONG    BIN", 0x20, 20, 40_000_000));
    let (_, volume) = put_together(overlay);
    assert_eq!(entries(&volume, [12]), [0xEABC]);
}

/// A cluster of sixteen short entries, numbered from `first` on; `behind` are the last ones.
fn full(first: usize, behind: &[u8]) -> Vec<u8> {
    let count = 16 - behind.len() / 32;
    let mut bytes: Vec<u8> = (first..first + count)
        .flat_map(|number| {
            let text = format!("FILE{number:04}TXT");
            slot(text.as_bytes().first_chunk().unwrap(), 0x20, 0, 0)
        })
        .collect();
    bytes.extend(behind);
    bytes
}

#[test]
fn a_folder_goes_on_in_the_cluster_that_its_last_name_breaks_off_towards() {
    let short = b"FAHRPL~1TXT";
    let name = long("Fahrplan der Überfahrten.txt", short);
    let (head, rest) = name.split_at(name.len() - 32);
    let mut overlay = empty();
    overlay.lay(geometry().root_at(), &slot(b"NOTES      ", 0x10, 5, 0));
    overlay.lay(geometry().cluster_at(5).unwrap(), &full(1, head));
    // What follows first holds entries that belong to another folder; text, and a folder of its own, never go on.
    let mut whole = long("another name of somebody.txt", b"ANOTHE~1TXT");
    whole.extend(slot(b"ANOTHE~1TXT", 0x20, 0, 0));
    whole.resize(512, 0);
    let mut text = b"crossing 36 of the line".to_vec();
    text.resize(512, 0);
    let own = [slot(b".          ", 0x10, 8, 0), slot(b"..         ", 0x10, 0, 0)].concat();
    let mut next = [rest, &slot(short, 0x20, 0, 0)].concat();
    next.resize(512, 0);
    for (cluster, bytes) in [(6, &text), (7, &whole), (8, &own), (9, &next)] {
        overlay.lay(geometry().cluster_at(cluster).unwrap(), bytes);
    }
    let (said, volume) = put_together(overlay);
    assert!(said.iter().any(|what| what.contains("NOTES: 2 entries")), "{said:?}");
    assert_eq!(entries(&volume, [5, 9]), [9, 0xFFFF]);
    let (paths, _) = walk(&volume);
    assert_eq!(paths.len(), 1 + 14 + 1, "{paths:?}");
    assert!(paths.contains(&"NOTES/Fahrplan der Überfahrten.txt".to_string()), "{paths:?}");
}

#[test]
fn a_folder_goes_on_in_a_chain_that_nobody_leads_to() {
    let mut overlay = empty();
    overlay.lay(geometry().root_at(), &[slot(b"NOTES      ", 0x10, 5, 0), slot(b"HELD    TXT", 0x20, 600, 700)].concat());
    overlay.lay(geometry().cluster_at(5).unwrap(), &full(1, &[]));
    set(&mut overlay, 600, 601);
    set(&mut overlay, 601, 0xFFFF);
    // The rest of the folder is two clusters of which the FAT knows how they hang together.
    overlay.lay(geometry().cluster_at(2000).unwrap(), &full(17, &[]));
    overlay.lay(geometry().cluster_at(2100).unwrap(), &slot(b"LAST    TXT", 0x20, 0, 0));
    set(&mut overlay, 2000, 2100);
    set(&mut overlay, 2100, 0xFFFF);
    let (_, volume) = put_together(overlay);
    assert_eq!(entries(&volume, [5, 2000, 2100]), [2000, 2100, 0xFFFF]);
    assert_eq!(walk(&volume).0.len(), 2 + 16 + 16 + 1);
}

/// A volume of `kind` whose FATs hold `fill` everywhere.
fn filled_with(kind: VolumeKind, fill: u8) -> FatVolume {
    let geometry = FatGeometry { kind, fats: 2, root_entries: 0, root_cluster: 2, ..geometry() };
    let mut overlay = Overlay::new(Arc::new(MemorySource::new("f", vec![0; 8 << 20], 512)));
    for copy in 0..2 {
        overlay.lay(geometry.fat_at(copy), &vec![fill; 64 * 512]);
    }
    FatVolume::former(Arc::new(overlay), geometry, true)
}

#[test]
fn entries_of_every_width_are_written_and_their_neighbours_stay() {
    for (kind, mask) in [(VolumeKind::Fat12, 0xFFFu32), (VolumeKind::Fat16, 0xFFFF), (VolumeKind::Fat32, 0x0FFF_FFFF)] {
        let volume = filled_with(kind, 0x33);
        // Two that share a byte in FAT12, and one that lies in two sectors.
        let wanted =
            std::collections::BTreeMap::from([(20u32, 0x0ABC_1DEF & mask), (21, 0x0123_4567 & mask), (341, 0x0765_4321 & mask)]);
        let repairs = lost::written(&volume, &wanted, false, "a test");
        assert!(repairs.iter().all(|repair| repair.bytes.len() == 512));
        assert_eq!(repairs.iter().filter(|repair| repair.is_main).count() * 2, repairs.len(), "{kind:?}: both copies");
        let mut view = Overlay::new(Arc::clone(volume.source()));
        repairs.iter().for_each(|repair| view.lay(repair.at, &repair.bytes));
        let after = FatVolume::former(Arc::new(view), *volume.geometry(), true);
        for copy in 0..2 {
            for cluster in 2..400u32 {
                let value = after.table().entry_in(copy, cluster).map(|entry| entry & mask);
                let old = volume.table().entry_in(copy, cluster).map(|entry| entry & mask);
                assert_eq!(value, wanted.get(&cluster).copied().or(old), "{kind:?}: {cluster} in copy {copy}");
            }
        }
    }
}

#[test]
fn reserved_bits_of_an_entry_stay_unless_the_entry_was_lost_with_them() {
    let volume = filled_with(VolumeKind::Fat32, 0xEE);
    let entries = std::collections::BTreeMap::from([(9u32, 0x0000_0007)]);
    for (is_lost, wanted) in [(false, 0xE000_0007u32), (true, 7)] {
        let repair = &lost::written(&volume, &entries, is_lost, "a test")[0];
        assert_eq!(u32::from_le_bytes(*repair.bytes[36..].first_chunk().unwrap()), wanted);
        assert!(repair.bytes[..36].iter().chain(&repair.bytes[40..]).all(|byte| *byte == 0xEE));
    }
}
