//! Structures put back from copies or computed, checks mended, and proofs, on volumes of the system's formatters.

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::{Arc, LazyLock};

use crate::support::{Bench, MIB, files, swept};
use keel_core::job::Cancel;
use keel_core::ladder;
use keel_core::layout::{self, Choices, Layout};
use keel_core::mend::{self, Only, Request, Staged, Subject, Taken, Wishes};
use keel_core::sweep::{Find, Reach};
use keel_format::{Compute, Deleted, Geometry, NodeKind, Take, read_whole, table};
use keel_source::{ByteOffset, MemorySource, Overlay, SharedSource};
use proptest::prelude::*;

const START: u64 = MIB;

/// A drive with one volume and an MBR, and the bytes of the volume.
fn made(kind: &str) -> (Bench, u64) {
    let bytes = if kind == "ext4" { 40 * MIB } else { 70 * MIB };
    let bench = Bench::new(bytes + 4 * MIB);
    let (os_type, files) = (if kind == "ext4" { 0x83 } else { 0x07 }, files(7));
    match kind {
        "ntfs" => bench.ntfs(START, bytes, "ROPES", &files),
        "fat16" => bench.fat(START, bytes, "16", "ROPES", &files),
        "fat32" => bench.fat(START, bytes, "32", "ROPES", &files),
        "exfat" => bench.exfat(START, bytes, "ROPES", &files),
        _ => bench.ext4(START, bytes, "ROPES", &files),
    }
    let os_type = match kind {
        "fat16" => 0x0E,
        "fat32" => 0x0C,
        _ => os_type,
    };
    bench.mbr(&[(os_type, START, bytes)]);
    (bench, bytes)
}

struct Told {
    finds: Vec<Find>,
    layout: Layout,
    staged: Staged,
}

fn told(source: &SharedSource, wishes: &Wishes) -> Told {
    let finds = swept(source, Reach::Doubt).finds;
    let table = table::read(source.as_ref());
    let layout = layout::settle(source, &table, &finds, &Choices::default());
    let staged = mend::stage(source, &table, &finds, &layout, wishes);
    Told { finds, layout, staged }
}

/// Every file of the volume that reads whole, through its own boot sector where `geometry` is none.
fn readable(source: &SharedSource, find: &Find, geometry: Option<Geometry>) -> BTreeMap<String, blake3::Hash> {
    let window: SharedSource = Arc::new(keel_source::Window::new(Arc::clone(source), find.range()));
    let mut files = BTreeMap::new();
    let Some(geometry) = geometry else { return files };
    let Ok(volume) = geometry.open(window) else { return files };
    let mut nodes = Vec::new();
    let _ = volume.walk(Deleted::Hide, &mut |found| {
        if found.entry.kind == NodeKind::File {
            nodes.push((found.path(), found.entry.id, found.entry.bytes));
        }
        if nodes.len() < 2000 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    for (path, id, bytes) in nodes {
        if let Ok(mut stream) = volume.open(id, "") {
            let (read, whole) = read_whole(stream.as_mut(), 4 << 20);
            if whole && read.len() as u64 == bytes {
                files.insert(path, blake3::hash(&read));
            }
        }
    }
    files
}

fn laid(source: &SharedSource, staged: &Staged) -> SharedSource {
    Arc::new(mend::overlay(source, &staged.edits))
}

fn hashes() -> BTreeMap<String, blake3::Hash> {
    files(7).into_iter().map(|(path, bytes)| (path, blake3::hash(&bytes))).collect()
}

#[test]
fn a_volume_whose_boot_structures_are_gone_opens_by_what_is_put_back() {
    for kind in ["ntfs", "fat16", "fat32", "exfat", "ext4"] {
        let (bench, bytes) = made(kind);
        let end = START + bytes;
        let (boot, copy): ((u64, usize), (u64, usize)) = match kind {
            "ntfs" => ((START, 512), (end - 512, 512)),
            "fat16" => ((START, 512), (START, 512)),
            "fat32" => ((START, 512), (START + 6 * 512, 512)),
            "exfat" => ((START, 12 * 512), (START + 12 * 512, 12 * 512)),
            _ => ((START + 1024, 1024), (START + 8192 * 1024 + 1024, 1024)),
        };
        for gone in [vec![boot], vec![copy], vec![boot, copy]] {
            // Only the system's own check renews the many copies of a superblock.
            if kind == "ext4" && gone == [copy] {
                continue;
            }
            let mut overlay = Overlay::new(bench.open());
            gone.iter().for_each(|(at, len)| overlay.lay(ByteOffset(*at), &vec![0; *len]));
            let drive: SharedSource = Arc::new(overlay);
            let told = told(&drive, &Wishes::default());
            let view = laid(&drive, &told.staged);
            let case = format!("{kind}, {} gone", gone.len());
            assert_eq!(told.layout.entries.len(), 1, "{case}");
            assert!(!told.staged.edits.is_empty(), "{case}: {:?}", told.staged.withheld);
            let stated = keel_format::registry::boot_sector(view.as_ref(), ByteOffset(START));
            assert_eq!(readable(&view, &told.finds[0], stated), hashes(), "{case}");
            let after = ladder::examine(&view, &told.finds, &Cancel::default());
            assert_eq!(after.lowest_broken, None, "{case}: {:?}", after.volumes);
            // Mending what is mended is nothing more.
            let again = self::told(&view, &Wishes::default());
            assert_eq!(again.staged.edits, [], "{case}");
        }
    }
}

#[test]
fn the_first_records_of_an_mft_come_back_from_the_mirror_and_the_mirror_from_them() {
    let (bench, _) = made("ntfs");
    let whole = bench.open();
    let Some(Geometry::Ntfs(geometry)) = keel_format::registry::boot_sector(whole.as_ref(), ByteOffset(START)) else { panic!() };
    let (mft, mirror) = (geometry.cluster_at(geometry.mft_lcn), geometry.cluster_at(geometry.mirror_lcn));
    for (at, what) in [(mft, "MFT record 0 ($MFT)"), (mft + 1024, "MFT record 1"), (mirror, "copy of the MFT record 0")] {
        let mut overlay = Overlay::new(Arc::clone(&whole));
        overlay.lay(ByteOffset(START + at.0), &[0x5A; 1024]);
        let drive: SharedSource = Arc::new(overlay);
        let told = told(&drive, &Wishes::from(Only::Fs));
        let [edit] = told.staged.edits.as_slice() else { panic!("{what}: {:?}", told.staged) };
        assert!(edit.structure.starts_with(what) && edit.at_byte == ByteOffset(START + at.0), "{}", edit.structure);
        let view = laid(&drive, &told.staged);
        let mut bytes = [vec![0; 1024], vec![0; 1024]];
        view.read_at(edit.at_byte, &mut bytes[0]).unwrap();
        whole.read_at(edit.at_byte, &mut bytes[1]).unwrap();
        assert!(bytes[0] == bytes[1], "{what}");
    }
}

#[test]
fn what_would_make_a_file_unreadable_is_withheld_with_its_name() {
    let (bench, _) = made("fat32");
    let source = bench.open();
    let finds = swept(&source, Reach::Doubt).finds;
    let structures = mend::structures(&source, &finds[0], Compute::All);
    let boot = &structures[0];
    // The backup is made to speak of another cluster size: a sound-looking lie.
    let mut overlay = Overlay::new(Arc::clone(&source));
    let mut lie = boot.main.bytes.clone();
    lie[44] = 9;
    overlay.lay(ByteOffset(START + 6 * 512), &lie);
    let drive: SharedSource = Arc::new(overlay);
    let mut wishes = Wishes::default();
    wishes.takes.insert(
        (Subject::Volume(finds[0].id.clone()), boot.name.clone()),
        Taken { whole: Take::Copy(0), fields: Vec::new(), by_hand: Vec::new() },
    );
    let told = told(&drive, &wishes);
    assert!(told.staged.edits.iter().all(|edit| edit.at_byte != ByteOffset(START)), "{:?}", told.staged.edits);
    let why: Vec<&str> = told.staged.withheld.iter().map(|withheld| withheld.why.as_str()).collect();
    assert!(why.iter().any(|why| why.contains(".txt, which reads now") || why.contains("not open")), "{why:?}");
}

#[test]
fn a_single_field_is_taken_from_elsewhere_and_the_checksum_follows() {
    let (bench, bytes) = made("ext4");
    let source = bench.open();
    let finds = swept(&source, Reach::Doubt).finds;
    let structure = mend::structures(&source, &finds[0], Compute::All).swap_remove(0);
    let field = *structure.fields.iter().find(|field| field.name == "s_mnt_count").unwrap();
    let mut wishes = Wishes::default();
    let fields = vec![(field, Take::Computed)];
    wishes.takes.insert(
        (Subject::Volume(finds[0].id.clone()), structure.name.clone()),
        Taken { whole: Take::Main, fields, by_hand: Vec::new() },
    );
    let mut overlay = Overlay::new(Arc::clone(&source));
    let mut changed = structure.main.bytes.clone();
    changed[52] = 9;
    (structure.seal)(&mut changed);
    overlay.lay(ByteOffset(START + 1024), &changed);
    let drive: SharedSource = Arc::new(overlay);
    let told = told(&drive, &wishes);
    let view = laid(&drive, &told.staged);
    let stated = keel_format::registry::boot_sector(view.as_ref(), ByteOffset(START));
    assert_eq!(stated.map(|geometry| geometry.bytes()), Some(bytes), "the checksum holds");
    let mut now = vec![0; 1024];
    view.read_at(ByteOffset(START + 1024), &mut now).unwrap();
    assert_eq!(now[52..54], [0, 0]);
}

#[test]
fn two_boot_sectors_of_another_volume_are_not_believed() {
    let (bench, _) = made("fat32");
    let other = Bench::new(40 * MIB);
    other.fat(0, 36 * MIB, "32", "OTHER", &files(3));
    let foreign = other.read(0, 512);
    let mut overlay = Overlay::new(bench.open());
    overlay.lay(ByteOffset(START), &foreign);
    overlay.lay(ByteOffset(START + 6 * 512), &foreign);
    let drive: SharedSource = Arc::new(overlay);
    let told = told(&drive, &Wishes::default());
    let view = laid(&drive, &told.staged);
    let find = told.finds.iter().max_by_key(|find| find.score).unwrap();
    let stated = keel_format::registry::boot_sector(view.as_ref(), ByteOffset(START));
    assert_eq!(readable(&view, find, stated), hashes(), "{:?}", told.staged);
    let boot = told.staged.edits.iter().find(|edit| edit.at_byte == ByteOffset(START)).unwrap();
    assert!(boot.reason.contains("computed from the volume's own metadata"), "{}", boot.reason);
}

#[test]
fn a_kernel_or_driver_proves_what_was_mended() {
    for kind in ["ntfs", "exfat", "ext4"] {
        let (bench, _) = made(kind);
        match kind {
            "ext4" => bench.zero(START, 2048),
            "exfat" => bench.zero(START, 12 * 512),
            _ => bench.zero(START, 512),
        }
        let source = bench.open();
        let told = told(&source, &Wishes::default());
        let broken = mend::prove(&source, &told.finds[0]).unwrap();
        assert!(!broken.mounted && !broken.how.is_empty(), "{kind}: {broken:?}");
        for edit in &told.staged.edits {
            bench.write(edit.at_byte.0, edit.after.held().unwrap());
        }
        let proof = mend::prove(&bench.open(), &told.finds[0]).unwrap();
        assert!(proof.holds(), "{kind}: {proof:?}");
        assert_eq!((proof.files_here, proof.files_there), (files(7).len() as u64, files(7).len() as u64), "{kind}");
        assert!(proof.sampled > 10, "{kind}: {proof:?}");
    }
}

#[test]
fn leftovers_are_told_and_on_request_exactly_their_sectors_are_erased() {
    let (bench, bytes) = made("ext4");
    // The drive had a GPT once, and the ground was a swap area; a file lies where a third signature was.
    let former = Bench::new(bytes + 4 * MIB);
    former.gpt(bytes + 4 * MIB, &[(MIB, 8 * MIB, 0)]);
    bench.write(512, &former.read(512, 512));
    let last = bytes + 4 * MIB - 512;
    bench.write(last, &former.read(last, 512));
    let source = bench.open();
    let told_now = told(&source, &Wishes::default());
    let said: Vec<&str> = told_now.staged.withheld.iter().map(|withheld| withheld.structure.as_str()).collect();
    assert_eq!(said, ["primary header of a former GPT", "backup header of a former GPT"]);
    assert!(told_now.staged.edits.is_empty());
    let mut wishes = Wishes::default();
    wishes.also.insert(Request::Leftovers);
    let asked = told(&source, &wishes);
    let places: Vec<(u64, u64)> = asked.staged.edits.iter().map(|edit| (edit.at_byte.0, edit.after.len())).collect();
    assert_eq!(places, [(512, 512), (last, 512)]);
    let view = laid(&source, &asked.staged);
    let after = table::read(view.as_ref());
    assert!(!after.primary.is_present() && !after.backup.is_present());
    assert_eq!(readable(&view, &asked.finds[0], Some(asked.finds[0].geometry.clone())), hashes());
}

#[test]
fn a_chain_that_is_bent_to_another_cluster_reads_right_again_from_the_copy_that_the_directories_support() {
    let (bench, _) = made("fat32");
    let boot = bench.read(START, 512);
    let reserved = u64::from(u16::from_le_bytes([boot[14], boot[15]]));
    let whole = bench.open();
    let geometry = keel_format::registry::boot_sector(whole.as_ref(), ByteOffset(START)).unwrap();
    let find = told(&whole, &Wishes::default()).finds.remove(0);
    let opened = keel_core::files::open(&whole, &find).unwrap();
    let entry = keel_core::files::resolve(opened.as_ref(), "Letters/Sent/sheet 17.txt").unwrap().entry;
    let first = opened.extents(entry.id).unwrap()[0].volume_at.unwrap().0;
    let keel_format::Geometry::Fat(fat) = geometry else { panic!("{geometry:?}") };
    let cluster = (0..).map(|number| number + 2).find(|number| fat.cluster_at(*number).is_some_and(|at| at.0 == first)).unwrap();
    // The file's first cluster is followed by the volume's first one.
    bench.write(START + reserved * 512 + u64::from(cluster) * 4, &3u32.to_le_bytes());
    let bent = bench.open();
    let told = told(&bent, &Wishes::default());
    let reads_wrong = readable(&bent, &told.finds[0], Some(told.finds[0].geometry.clone()));
    assert_ne!(reads_wrong, hashes());
    let view = laid(&bent, &told.staged);
    assert_eq!(readable(&view, &told.finds[0], Some(told.finds[0].geometry.clone())), hashes());
}

/// Small drives of each kind in memory, made once.
static SMALL: LazyLock<Vec<(&'static str, SharedSource)>> = LazyLock::new(|| {
    ["ntfs", "fat16", "fat32", "exfat", "ext4"]
        .into_iter()
        .map(|kind| {
            let (bench, _) = made(kind);
            let bytes = std::fs::read(&bench.image).unwrap();
            (kind, Arc::new(MemorySource::new(kind, bytes, 512)) as SharedSource)
        })
        .collect()
});

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn after_the_plan_no_file_is_lost_that_read_before(
        which in 0usize..5,
        damage in proptest::collection::vec((0u64..2400, 0usize..3, any::<u8>()), 1..12),
    ) {
        let (kind, whole) = &SMALL[which];
        let mut overlay = Overlay::new(Arc::clone(whole));
        for (place, sort, byte) in &damage {
            // Most structures stand in the first 200 KiB; a few places further on are hit too.
            let sector = if *place < 2000 { START / 512 + place / 5 } else { START / 512 + (place - 2000) * 300 };
            let bytes = match sort {
                0 => vec![0; 512],
                1 => vec![*byte; 512],
                _ => vec![*byte],
            };
            overlay.lay(ByteOffset(sector * 512 + if *sort == 2 { place % 512 } else { 0 }), &bytes);
        }
        let drive: SharedSource = Arc::new(overlay);
        let told = told(&drive, &Wishes::default());
        let view = laid(&drive, &told.staged);
        // What damage tore off may look like an older generation until the plan joins it again: the present one is asked.
        for find in told.finds.iter().filter(|find| find.start_byte.0 == START && !find.is_former()) {
            let before = readable(&drive, find, Some(find.geometry.clone()));
            let stated = keel_format::registry::boot_sector(view.as_ref(), find.start_byte);
            let after = readable(&view, find, stated.or(Some(find.geometry.clone())));
            for (path, hash) in &before {
                // A chain that was bent to other clusters of the same count reads, and reads wrong: what went in counts too.
                let kept = after.get(path).is_some_and(|now| now == hash || Some(now) == hashes().get(path));
                prop_assert!(kept, "{}: {} is lost or changed; {:?}", kind, path,
                    told.staged.edits.iter().map(|edit| (&edit.structure, edit.at_byte, &edit.reason)).collect::<Vec<_>>());
            }
        }
    }
}

#[test]
fn a_dropped_edit_takes_along_what_rests_on_it_and_nothing_else() {
    for name in ["fat32", "ext4", "ntfs"] {
        let (bench, _) = made(name);
        let source = bench.open();
        let mut overlay = Overlay::new(Arc::clone(&source));
        // Boot sector or superblock and the table are gone.
        overlay.lay(ByteOffset(0), &[0; 512]);
        overlay.lay(ByteOffset(START + if name == "ext4" { 1024 } else { 0 }), &[0; 512]);
        let drive: SharedSource = Arc::new(overlay);
        let all = told(&drive, &Wishes::default()).staged;
        let groups: std::collections::BTreeSet<String> = all.edits.iter().map(|edit| edit.belongs.group.clone()).collect();
        assert!(groups.iter().any(|group| group.starts_with("table/")) && groups.len() > 1, "{name}: {groups:?}");
        for group in groups {
            let wishes = Wishes { without: [group.clone()].into(), ..Wishes::default() };
            let staged = told(&drive, &wishes).staged;
            assert!(
                staged.edits.iter().all(|edit| edit.belongs.group != group && !edit.belongs.needs.contains(&group)),
                "{name} {group}"
            );
            assert_eq!(
                staged.edits.len() + staged.dropped.len(),
                all.edits.len(),
                "{name} {group}: dropped ones can be taken back"
            );
            // What is left stands by itself: a header without its array is not left behind.
            let kept: Vec<&str> = staged.edits.iter().map(|edit| edit.structure.as_str()).collect();
            assert_eq!(
                kept.contains(&"primary GPT header"),
                kept.contains(&"primary GPT entry array"),
                "{name} {group}: {kept:?}"
            );
        }
    }
}

#[test]
fn a_value_set_by_hand_that_the_volume_disproves_is_withheld() {
    let (bench, _) = made("fat32");
    let source = bench.open();
    let finds = swept(&source, Reach::Doubt).finds;
    let structure = mend::structures(&source, &finds[0], Compute::All).swap_remove(0);
    let set = |field: &str, value: &str| {
        let field = *structure.fields.iter().find(|own| own.name == field).unwrap();
        let by_hand = vec![(field, field.typed(value).unwrap())];
        let taken = Taken { whole: Take::Main, fields: Vec::new(), by_hand };
        let takes = [((Subject::Volume(finds[0].id.clone()), structure.name.clone()), taken)].into();
        told(&source, &Wishes { takes, ..Wishes::default() }).staged
    };
    let sound = set("BS_VolLab", "SHELDUCK");
    assert_eq!(sound.edits.len(), 1, "{:?}", sound.withheld);
    assert!(sound.edits[0].reason.contains("set by hand: BS_VolLab"));
    let lie = set("BPB_SecPerClus", "64");
    assert!(lie.edits.is_empty() && !lie.withheld.is_empty(), "{:?}", lie.edits);
}
