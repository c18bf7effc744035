//! Tables in trouble: what the ladder says of them, and whether the planned drive holds.

use crate::support::{Bench, MIB, Told, files, ground, swept};
use keel_core::layout::{self, Choices};
use keel_core::mend::{self, Only};
use keel_core::sweep::Reach;
use keel_format::table::mbr::make::{NewLogical, ebr_sectors};
use keel_format::table::{self, Role, Scheme, TypeCode};
use keel_source::{Lba, SectorCount, SharedSource};

fn told(source: &SharedSource, choices: &Choices) -> Told {
    crate::support::told(source, choices, &Only::All.into())
}

fn told_of(bench: &Bench) -> Told {
    told(&bench.open(), &Choices::default())
}

impl Told {
    /// Every finding of the ladder now, in one text.
    fn text(&self) -> String {
        let drive = self.now.rungs.iter().flat_map(|rung| &rung.findings);
        let volumes = self.now.volumes.iter().flat_map(|volume| &volume.rungs).flat_map(|rung| &rung.findings);
        drive.chain(volumes).map(|finding| format!("{}\n", finding.what)).collect()
    }

    /// The plan mends everything below the files.
    fn holds_as_planned(&self, what: &str) {
        assert!(!self.staged.edits.is_empty(), "{what}: nothing staged\n{}", self.text());
        assert_eq!(self.after.lowest_broken, None, "{what}: {:?}", self.after.rungs);
        let entries = self.after.volumes.iter().map(|volume| volume.rungs[0].state.word()).collect::<Vec<_>>();
        assert!(entries.iter().all(|state| *state == "sound"), "{what}: {entries:?}");
    }
}

const ENGINE: (u64, u64) = (MIB, 64 * MIB);
const SPARES: (u64, u64) = (65 * MIB, 80 * MIB);

/// An NTFS and a FAT32 volume, no table.
fn pair() -> Bench {
    let bench = Bench::new(160 * MIB);
    bench.ntfs(ENGINE.0, ENGINE.1, "ENGINE", &files(3));
    bench.fat(SPARES.0, SPARES.1, "32", "SPARES", &files(5));
    bench
}

#[test]
fn entries_of_wrong_type_hidden_type_start_or_length_are_found_and_mended() {
    for (what, entries, said) in [
        ("zeroed entries", vec![], "the MBR has its signature and no entries"),
        ("wrong type", vec![(0x83, ENGINE.0, ENGINE.1), (0x0C, SPARES.0, SPARES.1)], "does not fit NTFS"),
        ("hidden type", vec![(0x17, ENGINE.0, ENGINE.1), (0x1C, SPARES.0, SPARES.1)], "hides NTFS"),
        ("wrong start", vec![(0x07, ENGINE.0 + MIB, ENGINE.1), (0x0C, SPARES.0, SPARES.1)], "claims other ground"),
        ("wrong length", vec![(0x07, ENGINE.0, 8 * MIB), (0x0C, SPARES.0, SPARES.1)], "sectors long, the volume"),
        ("overlap", vec![(0x07, ENGINE.0, ENGINE.1 + MIB), (0x0C, SPARES.0, SPARES.1)], "claim the same ground"),
    ] {
        let bench = pair();
        bench.mbr(&entries);
        let told = told_of(&bench);
        assert!(told.text().contains(said), "{what}: {}", told.text());
        told.holds_as_planned(what);
        let types: Vec<TypeCode> = told.layout.entries.iter().map(|entry| entry.type_code).collect();
        assert_eq!(types, [TypeCode::Mbr(0x07), TypeCode::Mbr(0x0C)], "{what}");
    }
}

#[test]
fn attribute_bits_that_keep_a_volume_from_being_shown_are_cleared() {
    let bench = pair();
    bench.gpt(160 * MIB, &[(ENGINE.0, ENGINE.1, 1 << 62 | 1 << 63), (SPARES.0, SPARES.1, 1 << 60)]);
    let told = told_of(&bench);
    let text = told.text();
    assert!(
        text.contains("entry 1 is marked hidden, no automatic letter") && text.contains("entry 2 is marked read-only"),
        "{text}"
    );
    told.holds_as_planned("attributes");
    assert!(told.layout.entries.iter().all(|entry| entry.attributes == 0 && entry.why.contains("are cleared")));
}

#[test]
fn a_grown_clone_gets_its_backup_gpt_at_the_end() {
    let bench = pair();
    bench.gpt(160 * MIB, &[(ENGINE.0, ENGINE.1, 0), (SPARES.0, SPARES.1, 0)]);
    assert_eq!(told_of(&bench).staged.edits.len(), 0, "nothing is wrong yet");
    bench.resize(300 * MIB);
    let told = told_of(&bench);
    assert!(told.text().contains("the primary GPT says its backup is at"), "{}", told.text());
    told.holds_as_planned("grown clone");
    assert_eq!(told.layout.scheme, Scheme::Gpt);
}

#[test]
fn an_image_that_was_cut_short_is_told_with_what_is_missing_and_nothing_right_is_undone() {
    for scheme in [Scheme::Gpt, Scheme::Mbr] {
        for left in [144 * MIB, 140 * MIB, 100 * MIB, 66 * MIB] {
            let bench = pair();
            match scheme {
                Scheme::Gpt => bench.gpt(160 * MIB, &[(ENGINE.0, ENGINE.1, 0), (SPARES.0, SPARES.1, 0)]),
                _ => bench.mbr(&[(0x07, ENGINE.0, ENGINE.1), (0x0C, SPARES.0, SPARES.1)]),
            }
            bench.resize(left);
            let told = told_of(&bench);
            assert_eq!(told.staged.edits.len(), 0, "{scheme:?} {left}: nothing here is wrong but the end");
            let missing = format!("reaches {} bytes", SPARES.0 + SPARES.1 - left);
            assert!(told.text().contains(&missing), "{scheme:?} {left}: {}", told.text());
            let starts: Vec<u64> = told.layout.entries.iter().map(|entry| entry.first.0 * 512).collect();
            assert_eq!(starts, [ENGINE.0, SPARES.0], "{scheme:?} {left}: both entries stay");
        }
    }
}

#[test]
fn of_two_copies_that_differ_the_one_that_the_volumes_support_is_taken() {
    let bench = pair();
    bench.gpt(160 * MIB, &[(ENGINE.0, ENGINE.1, 0), (SPARES.0, SPARES.1, 0)]);
    let (right_header, right_array) = (bench.read(160 * MIB - 512, 512), bench.read(160 * MIB - 33 * 512, 32 * 512));
    bench.gpt(160 * MIB, &[(10 * MIB, 20 * MIB, 0)]);
    bench.write(160 * MIB - 512, &right_header);
    bench.write(160 * MIB - 33 * 512, &right_array);
    let told = told_of(&bench);
    assert!(told.text().contains("the two copies of the GPT differ"), "{}", told.text());
    told.holds_as_planned("copies differ");
    let names: Vec<&str> = told.layout.entries.iter().map(|entry| entry.name.as_str()).collect();
    assert_eq!(names, ["part 1", "part 2"], "the entries of the backup are kept");
}

/// A primary and three logicals; each EBR stands one MiB before its volume.
fn chained() -> (Bench, Vec<(u64, u64)>) {
    let bench = Bench::new(220 * MIB);
    bench.ntfs(MIB, 32 * MIB, "ENGINE", &files(3));
    let logicals = vec![(41 * MIB, 48 * MIB), (90 * MIB, 48 * MIB), (139 * MIB, 48 * MIB)];
    for (index, (at, bytes)) in logicals.iter().enumerate() {
        bench.fat(*at, *bytes, "16", &format!("LOG{index}"), &files(7 + index as u64));
    }
    let start = Lba(40 * 2048);
    let chain: Vec<NewLogical> = logicals
        .iter()
        .map(|(at, bytes)| NewLogical {
            ebr: Lba((at - MIB) / 512),
            first: Lba(at / 512),
            sectors: SectorCount(bytes / 512),
            os_type: 0x0E,
        })
        .collect();
    for (lba, bytes) in ebr_sectors(start, &chain).unwrap() {
        bench.write(lba.0 * 512, &bytes);
    }
    bench.mbr(&[(0x07, MIB, 32 * MIB), (0x0F, 40 * MIB, 150 * MIB)]);
    (bench, logicals)
}

#[test]
fn a_cut_or_looping_chain_of_logicals_is_put_together_again() {
    let (bench, logicals) = chained();
    assert_eq!(told_of(&bench).staged.edits.len(), 0, "nothing is wrong yet");
    let whole = bench.read(89 * MIB, 512);
    for (what, damage, said) in [
        ("cut", vec![0; 512], "the chain of logical partitions is cut"),
        (
            "loop",
            {
                let mut sector = whole.clone();
                sector[446 + 16 + 8..446 + 16 + 12].copy_from_slice(&(49u32 * 2048).to_le_bytes());
                sector
            },
            "it loops",
        ),
        (
            "astray",
            {
                let mut sector = whole.clone();
                sector[446 + 16 + 8..446 + 16 + 12].copy_from_slice(&(400u32 * 2048).to_le_bytes());
                sector
            },
            "outside the extended partition",
        ),
    ] {
        bench.write(89 * MIB, &damage);
        let told = told_of(&bench);
        assert!(told.text().contains(said), "{what}: {}", told.text());
        told.holds_as_planned(what);
        let roles: Vec<(Role, u64)> = told.layout.entries.iter().map(|entry| (entry.role, entry.first.0 * 512)).collect();
        let wanted: Vec<(Role, u64)> =
            [(Role::Primary, MIB)].into_iter().chain(logicals.iter().map(|(at, _)| (Role::Logical, *at))).collect();
        assert_eq!(roles, wanted, "{what}");
    }
}

#[test]
fn a_table_of_another_sector_size_is_recognised_both_ways() {
    for (made_in, opened_in) in [(4096, 512), (512, 4096)] {
        let mut bench = Bench::with_sectors(320 * MIB, made_in);
        bench.fat(2 * MIB, 280 * MIB, "32", "SPARES", &files(5));
        bench.gpt(320 * MIB, &[(2 * MIB, 280 * MIB, 0)]);
        bench.sector = opened_in;
        let told = told_of(&bench);
        let said = format!("the table was written for sectors of {made_in} bytes; this drive has {opened_in}");
        assert!(told.text().contains(&said), "{}", told.text());
        assert_eq!(ground(&told.sweep)[0].2, 2 * MIB);
        if made_in > opened_in {
            told.holds_as_planned("larger sectors");
        } else {
            // A volume of 512-byte sectors does not mount behind larger ones: that is said, and the copy offered.
            assert!(told.text().contains("no operating system mounts it"), "{}", told.text());
            assert!(told.layout.left_out[0].why.contains("--sector-size 512"), "{:?}", told.layout.left_out);
        }
    }
}

#[test]
fn a_shifted_drive_is_recognised_and_mended() {
    let bench = Bench::new(170 * MIB);
    let shift = 2048 * 512 + 4096;
    bench.ntfs(ENGINE.0 + shift, ENGINE.1, "ENGINE", &files(3));
    bench.fat(SPARES.0 + shift, SPARES.1, "32", "SPARES", &files(5));
    bench.mbr(&[(0x07, ENGINE.0, ENGINE.1), (0x0C, SPARES.0, SPARES.1)]);
    let told = told_of(&bench);
    let said = format!("2 volumes stand {shift} bytes behind the places that the table gives them: the drive is shifted");
    assert!(told.text().contains(&said), "{}", told.text());
    told.holds_as_planned("shift");
}

#[test]
fn one_volume_behind_a_displaced_gpt_is_a_shifted_drive_too() {
    for (what, cut, behind) in [("a bridge's reserved area", 0, 3 * MIB), ("a cut image", MIB / 2, 0)] {
        let whole = Bench::new(80 * MIB);
        whole.ntfs(ENGINE.0, ENGINE.1, "ENGINE", &files(3));
        whole.gpt(80 * MIB, &[(ENGINE.0, ENGINE.1, 0)]);
        let bytes = std::fs::read(&whole.image).unwrap();
        let bench = Bench::new(80 * MIB - cut + behind);
        bench.write(behind, &bytes[cut as usize..]);
        let told = told_of(&bench);
        let (shift, way) = if behind > 0 { (behind, "behind") } else { (cut, "before") };
        let said = format!("a GPT stands {shift} bytes {way} the place that it names");
        assert!(told.text().contains(&said), "{what}: {}", told.text());
        assert_eq!(ground(&told.sweep), [("n1".into(), "NTFS", ENGINE.0 + behind - cut, ENGINE.1, "ENGINE".into())], "{what}");
        told.holds_as_planned(what);
    }
}

#[test]
fn a_table_of_another_drive_is_recognised_and_replaced() {
    let bench = pair();
    bench.mbr(&[(0x07, 20 * MIB, 70 * MIB), (0x07, 100 * MIB, 10 * MIB)]);
    let told = told_of(&bench);
    assert!(told.text().contains("it is of another drive, or of another time"), "{}", told.text());
    told.holds_as_planned("foreign table");
}

#[test]
fn starts_on_track_boundaries_are_landmarks() {
    let bench = Bench::new(160 * MIB);
    let first = 63 * 512;
    let second = 16_065 * 512 * 9;
    bench.ntfs(first, 64 * MIB, "OLD", &files(3));
    bench.fat(second, 64 * MIB, "16", "OLDER", &files(5));
    let sweep = swept(&bench.open(), Reach::Landmarks);
    assert_eq!(ground(&sweep).iter().map(|find| find.2).collect::<Vec<_>>(), [first, second]);
}

#[test]
fn an_older_generation_is_kept_apart_with_its_age_and_can_be_held_instead() {
    let bench = Bench::new(200 * MIB);
    bench.ntfs(30 * MIB, 120 * MIB, "OLD", &files(3));
    bench.fat(MIB, 64 * MIB, "32", "NEW", &files(5));
    bench.mbr(&[(0x0C, MIB, 64 * MIB)]);
    // The new volume's table and files lie over the old one's start; the rest of the old one is still there.
    let sweep = swept(&bench.open(), Reach::Surface);
    let old = sweep.finds.iter().find(|find| find.name() == "OLD").expect("the older generation is found");
    let table = table::read(bench.open().as_ref());
    let settled = layout::settle(&bench.open(), &table, &sweep.finds, &Choices::default());
    let left = settled.left_out.iter().find(|left| left.find == old.id).unwrap();
    assert!(left.why.contains("overlaps") && left.why.contains("more evidence"), "{}", left.why);
    let hold = Choices { hold: [old.id.clone()].into(), ..Choices::default() };
    let held = layout::settle(&bench.open(), &table, &sweep.finds, &hold);
    assert!(held.entries.iter().any(|entry| entry.find.as_ref() == Some(&old.id)));
}

#[test]
fn whole_drive_volumes_need_no_table_and_nothing_is_proposed() {
    let bench = Bench::new(64 * MIB);
    bench.ext4(0, 64 * MIB, "STORES", &files(4));
    let told = told_of(&bench);
    assert!(told.layout.whole_drive && told.staged.edits.is_empty() && told.now.lowest_broken.is_none(), "{}", told.text());
}

#[test]
fn drives_that_call_themselves_alike_are_told_and_one_gets_new_identifiers() {
    let bench = pair();
    bench.gpt(160 * MIB, &[(ENGINE.0, ENGINE.1, 0), (SPARES.0, SPARES.1, 0)]);
    let folder = bench.folder.path();
    std::fs::copy(&bench.image, folder.join("clone.img")).unwrap();
    let berths = keel_core::yard::list(folder).unwrap();
    // The volumes that the drive was put together from lie there, too, and are listed by what they hold.
    let drives = berths.iter().filter(|berth| berth.path.extension().is_some_and(|end| end == "img"));
    let alike: Vec<usize> = drives.map(|berth| berth.same_identifier.len()).collect();
    assert_eq!(alike, [1, 1], "{berths:?}");
    let told = told(&bench.open(), &Choices { new_ids: true, ..Choices::default() });
    told.holds_as_planned("new identifiers");
    let view = mend::overlay(&bench.open(), &staged_new_ids(&bench));
    let fresh = table::read(&view);
    assert_ne!(fresh.disk_identifier(), berths[0].disk_identifier);
    let before = table::read(bench.open().as_ref());
    assert!(fresh.partitions.iter().zip(&before.partitions).all(|(new, old)| new.unique != old.unique && new.first == old.first));
}

fn staged_new_ids(bench: &Bench) -> Vec<mend::Edit> {
    let source = bench.open();
    let finds = swept(&source, Reach::Doubt).finds;
    let table = table::read(source.as_ref());
    let layout = layout::settle(&source, &table, &finds, &Choices { new_ids: true, ..Choices::default() });
    mend::stage(&source, &table, &finds, &layout, &Only::All.into()).edits
}
