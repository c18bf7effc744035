//! Every field of every structure that mending knows, changed alone on volumes of the system's formatters: what does not hold any more is
//! put back, what still holds changes nothing that is read, and a single field can be taken from a copy or set by hand.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::support::{contents, prose};
use keel_format::structure::{Field, Structure, Take};
use keel_format::{Compute, Geometry, registry};
use keel_source::{ByteOffset, Overlay, SharedSource};

/// A small tree that every kind takes.
fn files() -> BTreeMap<String, Vec<u8>> {
    let mut files: BTreeMap<String, Vec<u8>> =
        (0..9).map(|number| (format!("Quay/BERTH{number}.TXT"), prose(number, number * 911))).collect();
    files.insert("ROPES.CSV".into(), prose(77, 40_000));
    files
}

/// A filled volume of each kind, in memory: name, geometry, bytes.
fn volumes() -> Vec<(&'static str, Geometry, SharedSource)> {
    let made = |name: &'static str, bytes: u64, program: &str, arguments: &[&str], driver: &[&str]| {
        let bench = crate::support::filled(bytes, (program, arguments), driver, &files());
        let source = crate::support::in_memory(&bench);
        (name, registry::boot_sector(source.as_ref(), ByteOffset(0)).expect(name), source)
    };
    vec![
        made("NTFS", 8 << 20, "mkfs.ntfs", &["-Q", "-F", "-q"], &["ntfs-3g"]),
        made("FAT12", 4 << 20, "mkfs.vfat", &["-F", "12"], &[]),
        made("FAT16", 16 << 20, "mkfs.vfat", &["-F", "16"], &[]),
        made("FAT32", 40 << 20, "mkfs.vfat", &["-F", "32", "-s", "1"], &[]),
        made("exFAT", 8 << 20, "mkfs.exfat", &[], &["mount.exfat-fuse", "-o", "rw"]),
        made("ext2", 24 << 20, "mkfs.ext4", &["-q", "-F", "-t", "ext2", "-b", "1024"], &["mount", "-t", "ext4"]),
        made("ext4", 40 << 20, "mkfs.ext4", &["-q", "-F", "-b", "1024"], &["mount", "-t", "ext4"]),
        made("XFS", 300 << 20, "mkfs.xfs", &["-q", "-f"], &["mount", "-t", "xfs"]),
    ]
}

fn structures(geometry: &Geometry, source: &SharedSource) -> Vec<Structure> {
    geometry.structures(source, ByteOffset(0), Compute::WhereNeeded)
}

/// The volume with `bytes` at byte `at`.
fn laid(source: &SharedSource, at: ByteOffset, bytes: &[u8]) -> SharedSource {
    let mut overlay = Overlay::new(Arc::clone(source));
    overlay.lay(at, bytes);
    Arc::new(overlay)
}

fn bytes_at(source: &SharedSource, at: ByteOffset, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    source.read_at(at, &mut bytes).unwrap();
    bytes
}

/// Other values of a field: inverted, zero, one more.
fn others(own: &[u8]) -> Vec<Vec<u8>> {
    let mut more = own.to_vec();
    let first = more.first().map_or(0, |byte| byte.wrapping_add(1));
    more.iter_mut().take(1).for_each(|byte| *byte = first);
    let mut values = vec![own.iter().map(|byte| !byte).collect(), vec![0; own.len()], more];
    values.retain(|value: &Vec<u8>| value != own);
    values.dedup();
    values
}

#[test]
fn a_field_that_is_wrong_is_put_back_and_the_volume_reads_on() {
    for (name, geometry, source) in volumes() {
        let wanted = contents(geometry.open(Arc::clone(&source)).unwrap().as_ref());
        assert_eq!(wanted.len(), files().len(), "{name}");
        let (mut broken, mut harmless) = (0, 0);
        for (index, structure) in structures(&geometry, &source).iter().enumerate() {
            assert!(structure.main.holds(), "{name}: {} as it was made", structure.name);
            for field in &structure.fields {
                let at = structure.main.at + field.offset as u64;
                let Some(own) = field.of(&structure.main.bytes) else { continue };
                for value in others(own) {
                    let said = format!("{name}: {} of the {} as {value:x?}", field.name, structure.name);
                    let harmed = laid(&source, at, &value);
                    let now = structures(&geometry, &harmed);
                    let found = now.iter().find(|found| found.name == structure.name).or(now.get(index));
                    let holds = found.is_some_and(|found| found.main.holds());
                    if holds {
                        harmless += 1;
                    } else {
                        broken += 1;
                    }
                    let mended = crate::support::mended(&geometry, &harmed);
                    let after = structures(&geometry, &mended);
                    assert!(after.iter().all(|after| after.main.holds()), "{said}: still broken");
                    let read =
                        registry::boot_sector(mended.as_ref(), ByteOffset(0)).unwrap_or_else(|| panic!("{said}: not recognised"));
                    assert_eq!(read.bytes(), geometry.bytes(), "{said}");
                    let listed = contents(read.open(mended).unwrap_or_else(|error| panic!("{said}: {error}")).as_ref());
                    // An ext2 keeps no checksums: a place one block on looks like a place.
                    assert!(listed == wanted || (holds && name == "ext2"), "{said}: other files");
                }
            }
        }
        assert!(broken > 15, "{name}: {broken} that broke it, {harmless} that did not");
    }
}

/// Fields that only tell of a copy which one it is, checksums, and counts that follow from what stands elsewhere.
fn differs_by_place(field: &Field) -> bool {
    let follows = ["checksum", "csum", "free", "unused", "used_dirs", "_crc", "icount", "fdblocks", "frextents", "ifree"];
    matches!(field.name, "s_block_group_nr") || follows.iter().any(|part| field.name.contains(part))
}

#[test]
fn a_single_field_comes_from_a_copy_and_all_else_stays() {
    for (name, geometry, source) in volumes() {
        let mut taken = 0;
        for structure in structures(&geometry, &source) {
            let Some(copy) = structure.copies.iter().position(keel_format::structure::Version::holds) else { continue };
            for field in structure.fields.iter().filter(|field| !differs_by_place(field)) {
                let Some(kept) = field.of(&structure.copies[copy].as_main).map(<[u8]>::to_vec) else { continue };
                let at = structure.main.at + field.offset as u64;
                let harmed = laid(&source, at, &kept.iter().map(|byte| !byte).collect::<Vec<u8>>());
                let now = structures(&geometry, &harmed);
                let Some(found) = now.iter().find(|found| found.name == structure.name) else { continue };
                let put = found.put_together(Take::Main, &[(*field, Take::Copy(copy))], &[]);
                let put = put.unwrap_or_else(|| panic!("{name}: {} of the {}", field.name, structure.name));
                assert_eq!(field.of(&put), Some(&kept[..]), "{name}: {} of the {}", field.name, structure.name);
                // Everything beside it and the checksums stays as it stands.
                let sums = |offset: usize| {
                    structure
                        .fields
                        .iter()
                        .any(|sum| differs_by_place(sum) && (sum.offset..sum.offset + sum.len).contains(&offset))
                };
                let beside = put.iter().zip(&found.main.bytes).enumerate().filter(|(offset, (new, old))| {
                    new != old && !(field.offset..field.offset + field.len).contains(offset) && !sums(*offset)
                });
                assert!(beside.count() <= 8, "{name}: {} of the {}", field.name, structure.name);
                taken += 1;
            }
        }
        // FAT12 and FAT16 keep nothing twice but their FATs.
        assert_eq!(taken > 5, !matches!(name, "FAT12" | "FAT16"), "{name}: {taken}");
    }
}

#[test]
fn a_field_that_is_set_by_hand_stands_there_and_one_that_does_not_fit_is_refused() {
    for (name, geometry, source) in volumes() {
        for structure in structures(&geometry, &source) {
            for field in &structure.fields {
                let Some(own) = field.of(&structure.main.bytes) else { continue };
                let value: Vec<u8> = own.iter().map(|byte| byte ^ 0x5A).collect();
                let said = format!("{name}: {} of the {}", field.name, structure.name);
                let put = structure.put_together(Take::Main, &[], &[(*field, value.clone())]).expect(&said);
                // A checksum follows all else, whatever was typed for it.
                if !differs_by_place(field) {
                    assert_eq!(field.of(&put), Some(&value[..]), "{said}");
                }
                assert_eq!(put.len(), structure.main.bytes.len(), "{said}");
                for wrong in [vec![0; field.len + 1], vec![0; field.len.saturating_sub(1)]] {
                    assert_eq!(structure.put_together(Take::Main, &[], &[(*field, wrong)]), None, "{said}");
                }
                let outside = Field { offset: structure.main.bytes.len(), ..*field };
                assert_eq!(structure.put_together(Take::Main, &[], &[(outside, value)]), None, "{said}");
                // What is shown of a field is read back as that field, where it is a number.
                if let Some(text) = field.text(&structure.main.bytes)
                    && let Some(typed) = field.typed(&text)
                {
                    assert_eq!(typed, own, "{said}: {text}");
                }
            }
            let none = structure.put_together(Take::Copy(99), &[], &[]);
            assert_eq!(none, None, "{name}: a copy that is not there");
        }
    }
}

#[test]
fn rows_tell_where_versions_differ_and_nothing_else() {
    for (name, geometry, source) in volumes() {
        for structure in structures(&geometry, &source) {
            let sound: Vec<&str> = structure.rows().iter().filter(|row| row.differs).map(|row| row.field.name).collect();
            let Some(field) = structure.fields.iter().find(|field| !differs_by_place(field) && field.len == 4) else { continue };
            if structure.copies.is_empty() {
                assert_eq!(sound, Vec::<&str>::new(), "{name}: {}", structure.name);
                continue;
            }
            let at = structure.main.at + field.offset as u64;
            let own = bytes_at(&source, at, field.len);
            let harmed = laid(&source, at, &own.iter().map(|byte| !byte).collect::<Vec<u8>>());
            let now = structures(&geometry, &harmed);
            let Some(found) = now.iter().find(|found| found.name == structure.name) else { continue };
            let rows = found.rows();
            let row = rows.iter().find(|row| row.field.name == field.name).unwrap();
            assert!(row.differs && row.main != row.copy, "{name}: {} of the {}", field.name, structure.name);
            let more: Vec<&str> = rows.iter().filter(|row| row.differs).map(|row| row.field.name).collect();
            let unknown = more.iter().filter(|other| **other != field.name && !sound.contains(*other)).count();
            assert!(unknown <= 1, "{name}: {}: {sound:?}, then {more:?}", structure.name);
        }
    }
}
