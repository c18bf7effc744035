//! The table's structures in three columns, on drives of the system's formatters.

use crate::support::{Bench, MIB, files, swept};
use keel_core::layout::{self, Choices, Layout};
use keel_core::mend::{self, Taken, Wishes};
use keel_core::sweep::{Find, Reach};
use keel_format::table::{self, TableReading};
use keel_format::{Structure, Take};
use keel_source::{ByteOffset, SharedSource};

const AT: (u64, u64) = (MIB, 64 * MIB);

struct Told {
    source: SharedSource,
    finds: Vec<Find>,
    table: TableReading,
    layout: Layout,
}

fn told(bench: &Bench) -> Told {
    let source = bench.open();
    let finds = swept(&source, Reach::Doubt).finds;
    let table = table::read(source.as_ref());
    let layout = layout::settle(&source, &table, &finds, &Choices::default());
    Told { source, finds, table, layout }
}

impl Told {
    fn structures(&self) -> Vec<Structure> {
        mend::table_structures(&self.source, &self.table, &self.layout)
    }

    fn structure(&self, name: &str) -> Structure {
        self.structures().into_iter().find(|structure| structure.name == name).unwrap_or_else(|| panic!("no {name}"))
    }

    fn staged(&self, name: &str, whole: Take) -> mend::Staged {
        let mut wishes = Wishes::default();
        wishes.takes.insert((mend::Subject::Table, name.into()), Taken { whole, fields: Vec::new(), by_hand: Vec::new() });
        mend::stage(&self.source, &self.table, &self.finds, &self.layout, &wishes)
    }
}

fn bench() -> Bench {
    let bench = Bench::new(80 * MIB);
    bench.ntfs(AT.0, AT.1, "ROPES", &files(3));
    bench
}

#[test]
fn a_sound_table_holds_in_every_version() {
    let gpt = bench();
    gpt.gpt(80 * MIB, &[(AT.0, AT.1, 0)]);
    let names: Vec<String> = told(&gpt).structures().into_iter().map(|structure| structure.name).collect();
    assert_eq!(names, ["MBR", "GPT header", "GPT entry array"]);
    for structure in told(&gpt).structures() {
        assert!(structure.main.holds() && structure.repairs().is_empty(), "{}: {:?}", structure.name, structure.main.why_not);
    }
    let header = told(&gpt).structure("GPT header");
    assert!(
        header.copies[0].holds() && header.rows().iter().all(|row| row.main == row.copy),
        "the backup as a primary is the same"
    );
    let mbr = bench();
    mbr.mbr(&[(0x07, AT.0, AT.1)]);
    let structure = told(&mbr).structure("MBR");
    assert!(structure.main.holds() && structure.computed.is_some() && structure.repairs().is_empty());
}

#[test]
fn a_lost_primary_comes_from_its_copy_with_the_places_changed() {
    let bench = bench();
    bench.gpt(80 * MIB, &[(AT.0, AT.1, 0)]);
    let (header, array) = (bench.read(512, 512), bench.read(1024, 16_384));
    bench.zero(512, 33 * 512);
    let told = told(&bench);
    for (name, at, bytes) in [("GPT header", 512, header), ("GPT entry array", 1024, array)] {
        let structure = told.structure(name);
        assert_eq!(structure.best(), Some(Take::Copy(0)), "{name}: {:?}", structure.copies[0].why_not);
        let [repair] = <[keel_format::Repair; 1]>::try_from(structure.repairs()).unwrap();
        assert_eq!((repair.at, repair.bytes), (ByteOffset(at), bytes), "{name}");
        // Taken by name, the plan writes just these bytes there.
        let staged = told.staged(name, Take::Copy(0));
        let edit =
            staged.edits.iter().find(|edit| edit.at_byte == ByteOffset(at) && edit.structure.starts_with(name)).expect(name);
        assert!(edit.reason.contains("taken from"), "{}", edit.reason);
    }
    let rows = told.structure("GPT entry array").rows();
    let first = rows.iter().find(|row| row.field.name == "1 StartingLBA").unwrap();
    assert_eq!((first.copy.as_deref(), first.differs), (Some("2048 (0x800)"), true));
}

#[test]
fn an_mbr_and_a_cut_chain_are_beside_what_the_layout_asks() {
    let bench = Bench::new(200 * MIB);
    bench.ntfs(AT.0, AT.1, "ROPES", &files(3));
    bench.fat(70 * MIB, 60 * MIB, "32", "TAR", &files(4));
    bench.mbr(&[(0x07, AT.0 + 512, AT.1)]);
    let told = told(&bench);
    let mbr = told.structure("MBR");
    assert_eq!((mbr.main.holds(), mbr.best()), (false, Some(Take::Computed)));
    let rows = mbr.rows();
    let start = rows.iter().find(|row| row.field.name == "1 StartingLBA").unwrap();
    assert_eq!((start.main.as_deref(), start.computed.as_deref()), (Some("2049 (0x801)"), Some("2048 (0x800)")));
    assert!(start.witness.as_ref().unwrap().contains("layout") && start.field.breaks.contains("elsewhere"));
    let kept = told.staged("MBR", Take::Main);
    assert!(kept.edits.iter().all(|edit| edit.at_byte.0 != 0), "the technician keeps sector 0 as it stands: {:?}", kept.edits);
}

#[test]
fn a_core_structure_that_cannot_be_read_asks_for_a_copy_first() {
    let bench = bench();
    bench.mbr(&[(0x07, AT.0, AT.1)]);
    let bytes = std::fs::read(&bench.image).unwrap();
    let bad = keel_source::ByteRange::sized(ByteOffset(AT.0), 512);
    let source: SharedSource = std::sync::Arc::new(keel_source::MemorySource::new("bad", bytes, 512).with_bad(bad));
    let finds = swept(&source, Reach::Surface).finds;
    let table = table::read(source.as_ref());
    let layout = layout::settle(&source, &table, &finds, &Choices::default());
    let staged = mend::stage(&source, &table, &finds, &layout, &Wishes::default());
    assert!(staged.copy_first && !staged.edits.is_empty(), "{staged:?}");
}
