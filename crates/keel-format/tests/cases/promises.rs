//! What every reader promises of a volume, whatever its kind: tree and lists agree, extents are where the content stands, what files hold
//! counts as used, places that do not read cost what stands on them and nothing else.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::ControlFlow;
use std::sync::Arc;

use crate::support::{noise, prose};
use keel_format::{Deleted, Entry, Existence, Geometry, NodeId, NodeKind, Volume, read_whole, registry};
use keel_source::{ByteOffset, ByteRange, MemorySource, SharedSource};

/// Files of no byte, of some, of many clusters, and one that was written in pieces.
fn files() -> BTreeMap<String, Vec<u8>> {
    let mut files: BTreeMap<String, Vec<u8>> = (0..40usize)
        .map(|number| (format!("Tallies/Of week {}/tally {number:02}.txt", number % 5), prose(number, number * 613)))
        .collect();
    files.insert("big.bin".into(), noise(9, 900_001));
    files.insert("EMPTY.TXT".into(), Vec::new());
    files.insert("Überfahrt ⛴.csv".into(), prose(5, 70_000));
    files
}

struct Made {
    name: &'static str,
    geometry: Geometry,
    bytes: Vec<u8>,
}

impl Made {
    fn source(&self) -> SharedSource {
        Arc::new(MemorySource::new(self.name, self.bytes.clone(), 512))
    }

    fn volume(&self) -> Box<dyn Volume> {
        self.geometry.open(self.source()).unwrap_or_else(|error| panic!("{}: {error}", self.name))
    }
}

/// A filled volume of every kind with a driver or a tool on this machine.
fn volumes() -> Vec<Made> {
    let made = |name: &'static str, bytes: u64, program: &str, arguments: &[&str], driver: &[&str]| {
        let bench = crate::support::filled(bytes, (program, arguments), driver, &files());
        let bytes = std::fs::read(&bench.image).unwrap();
        let source = MemorySource::new(name, bytes.clone(), 512);
        let geometry = registry::boot_sector(&source, ByteOffset(0)).expect(name);
        Made { name, geometry, bytes }
    };
    let ext = ["mount", "-t", "ext4"];
    vec![
        made("NTFS", 24 << 20, "mkfs.ntfs", &["-Q", "-F", "-q"], &["ntfs-3g"]),
        made("NTFS of 512", 16 << 20, "mkfs.ntfs", &["-Q", "-F", "-q", "-c", "512"], &["ntfs-3g"]),
        made("FAT12", 8 << 20, "mkfs.vfat", &["-F", "12"], &[]),
        made("FAT16", 20 << 20, "mkfs.vfat", &["-F", "16"], &[]),
        made("FAT32", 40 << 20, "mkfs.vfat", &["-F", "32", "-s", "1"], &[]),
        made("exFAT", 16 << 20, "mkfs.exfat", &["-c", "4K"], &["mount.exfat-fuse", "-o", "rw"]),
        made("ext2", 24 << 20, "mkfs.ext4", &["-q", "-F", "-t", "ext2", "-b", "1024"], &ext),
        made("ext3", 32 << 20, "mkfs.ext4", &["-q", "-F", "-t", "ext3"], &ext),
        made("ext4", 40 << 20, "mkfs.ext4", &["-q", "-F"], &ext),
        made("ext4 inline", 40 << 20, "mkfs.ext4", &["-q", "-F", "-O", "inline_data"], &ext),
    ]
}

/// An HFS+ volume that nobody filled: there is no driver for it here.
fn bare_hfs() -> Made {
    let bench = crate::support::new_hfs_plus(4 << 20, 4096, "X", false);
    let bytes = std::fs::read(&bench.image).unwrap();
    let geometry = registry::boot_sector(&MemorySource::new("HFS+", bytes.clone(), 512), ByteOffset(0)).unwrap();
    Made { name: "HFS+", geometry, bytes }
}

fn walked(volume: &dyn Volume) -> Vec<(String, Entry)> {
    let mut all = Vec::new();
    volume
        .walk(Deleted::Hide, &mut |found| {
            all.push((found.path(), found.entry.clone()));
            ControlFlow::Continue(())
        })
        .unwrap();
    all.sort_by(|one, two| one.0.cmp(&two.0));
    all
}

/// The same tree, folder by folder.
fn listed(volume: &dyn Volume) -> Vec<(String, Entry)> {
    let mut all: Vec<(String, Entry)> = Vec::new();
    let mut below: Vec<(NodeId, String)> = vec![(volume.root(), String::new())];
    while let Some((folder, path)) = below.pop() {
        volume
            .list(folder, Deleted::Hide, &mut |entry| {
                let path = if path.is_empty() { entry.name.clone() } else { format!("{path}/{}", entry.name) };
                if entry.kind == NodeKind::Directory {
                    below.push((entry.id, path.clone()));
                }
                all.push((path, entry));
                ControlFlow::Continue(())
            })
            .unwrap();
    }
    all.sort_by(|one, two| one.0.cmp(&two.0));
    all
}

#[test]
fn the_tree_is_what_its_folders_list() {
    for made in volumes().into_iter().chain([bare_hfs()]) {
        let volume = made.volume();
        let (tree, lists) = (walked(volume.as_ref()), listed(volume.as_ref()));
        let of = |all: &[(String, Entry)]| -> Vec<(String, NodeId, NodeKind, u64, Existence)> {
            all.iter().map(|(path, entry)| (path.clone(), entry.id, entry.kind, entry.bytes, entry.existence)).collect()
        };
        assert_eq!(of(&tree), of(&lists), "{}", made.name);
        let ids: BTreeSet<u64> = tree.iter().map(|(_, entry)| entry.id.0).collect();
        assert_eq!(ids.len(), tree.len(), "{}: every node once", made.name);
    }
}

#[test]
fn a_walk_ends_where_it_is_told_to() {
    for made in volumes() {
        let volume = made.volume();
        for most in [1usize, 2, 7, 30] {
            let mut count = 0;
            volume
                .walk(Deleted::Show, &mut |_| {
                    count += 1;
                    if count < most { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
                })
                .unwrap();
            assert_eq!(count, most, "{}", made.name);
        }
        let mut count = 0;
        volume
            .list(volume.root(), Deleted::Show, &mut |_| {
                count += 1;
                ControlFlow::Break(())
            })
            .unwrap();
        assert_eq!(count, 1, "{}", made.name);
    }
}

#[test]
fn the_bytes_of_a_file_are_where_its_extents_say() {
    for made in volumes() {
        let volume = made.volume();
        let wanted = files();
        for (path, entry) in walked(volume.as_ref()).into_iter().filter(|(_, entry)| entry.kind == NodeKind::File) {
            let said = format!("{}: {path}", made.name);
            let (content, whole) = read_whole(volume.open(entry.id, "").unwrap().as_mut(), 1 << 24);
            assert!(whole && &content == wanted.get(&path).unwrap(), "{said}");
            let extents = volume.extents(entry.id).unwrap();
            // What is kept inside a record has none.
            if extents.is_empty() {
                assert!(content.len() < 1024, "{said}");
                continue;
            }
            let mut next = 0;
            for extent in extents {
                assert_eq!(extent.stream_at, next, "{said}: one behind the other");
                next += extent.bytes;
                let Some(at) = extent.volume_at else { continue };
                let from = extent.stream_at as usize;
                let len = (extent.bytes as usize).min(content.len().saturating_sub(from));
                assert!(made.bytes[at.0 as usize..][..len] == content[from.min(content.len())..][..len], "{said}");
            }
            assert!(next >= content.len() as u64, "{said}");
        }
    }
}

#[test]
fn what_files_hold_counts_as_used_and_is_held_once() {
    for made in volumes() {
        let volume = made.volume();
        let allocation = volume.allocation().unwrap_or_else(|| panic!("{}", made.name));
        let mut holders: BTreeMap<u64, String> = BTreeMap::new();
        for (path, entry) in walked(volume.as_ref()).into_iter().filter(|(_, entry)| entry.kind == NodeKind::File) {
            for extent in volume.extents(entry.id).unwrap() {
                let Some(at) = extent.volume_at.filter(|_| extent.bytes > 0) else { continue };
                let first = (at.0 - allocation.first_at.0) / allocation.unit_bytes;
                for unit in first..first + extent.bytes.div_ceil(allocation.unit_bytes) {
                    assert!(allocation.is_used(unit), "{}: {} {unit} of {path}", made.name, allocation.unit);
                    let other = holders.insert(unit, path.clone()).filter(|other| *other != path);
                    assert_eq!(other, None, "{}: {} {unit} of {path}", made.name, allocation.unit);
                }
            }
        }
        let free = (0..allocation.units).filter(|unit| !allocation.is_used(*unit)).count() as u64;
        assert!(free > allocation.units / 4, "{}: {free} of {} are free", made.name, allocation.units);
    }
}

#[test]
fn parts_of_a_stream_read_as_the_whole_does() {
    for made in volumes() {
        let volume = made.volume();
        let (_, big) = walked(volume.as_ref()).into_iter().find(|(path, _)| path == "big.bin").unwrap();
        let wanted = &files()["big.bin"];
        let mut stream = volume.open(big.id, "").unwrap();
        assert_eq!(stream.bytes(), wanted.len() as u64, "{}", made.name);
        for (at, len) in [(0, 1), (1, 511), (511, 2), (4095, 4098), (65_535, 131_073), (899_000, 1001), (900_000, 1)] {
            let mut part = vec![0xAA; len];
            assert!(stream.read(at as u64, &mut part).is_empty(), "{} {at}", made.name);
            assert!(part == wanted[at..at + len], "{} {at}", made.name);
        }
        // Behind the end there is nothing, and it says so.
        let mut behind = vec![0xAA; 100];
        let missing = stream.read(wanted.len() as u64 - 40, &mut behind);
        assert_eq!(missing.iter().map(|range| range.len()).sum::<u64>(), 60, "{}", made.name);
        assert!(behind[..40] == wanted[wanted.len() - 40..] && behind[40..].iter().all(|byte| *byte == 0), "{}", made.name);
        for name in ["no such stream", "\0", "big.bin"] {
            assert!(volume.open(big.id, name).is_err(), "{}", made.name);
        }
        for id in [NodeId(u64::MAX), NodeId(u64::MAX >> 1), NodeId(0xFFFF_FFFF)] {
            let opened = volume.open(id, "").is_ok();
            let listed = volume.list(id, Deleted::Hide, &mut |_| ControlFlow::Continue(())).is_ok();
            assert!(!opened && !listed, "{}: {:#x} opened {opened}, listed {listed}", made.name, id.0);
        }
    }
}

/// A place of the volume that does not read costs what stands on it. Everything else comes out as it was, and nothing reads as zeros.
#[test]
fn sectors_that_do_not_read_cost_what_stands_on_them_and_nothing_else() {
    for made in volumes() {
        let volume = made.volume();
        let all = walked(volume.as_ref());
        let held: Vec<(String, NodeId, Vec<ByteRange>)> = all
            .iter()
            .filter(|(_, entry)| entry.kind == NodeKind::File)
            .map(|(path, entry)| {
                let extents = volume.extents(entry.id).unwrap();
                let ranges = extents.iter().filter_map(|extent| Some(ByteRange::sized(extent.volume_at?, extent.bytes)));
                (path.clone(), entry.id, ranges.collect())
            })
            .collect();
        let wanted = files();
        for (path, ..) in held.iter().filter(|(path, ..)| ["big.bin", "Überfahrt ⛴.csv"].contains(&path.as_str())) {
            let (_, _, ranges) = held.iter().find(|(own, ..)| own == path).unwrap();
            let first = ranges.first().unwrap();
            let bad = ByteRange::sized(first.start + 2 * 512, 3 * 512);
            let source: SharedSource = Arc::new(MemorySource::new(made.name, made.bytes.clone(), 512).with_bad(bad));
            let volume = made.geometry.open(source).unwrap();
            for (other, id, _) in &held {
                let mut stream = volume.open(*id, "").unwrap();
                let mut content = vec![0; wanted[other].len()];
                let missing = stream.read(0, &mut content);
                if other != path {
                    assert!(missing.is_empty() && content == wanted[other], "{}: {other}", made.name);
                    continue;
                }
                let lost: u64 = missing.iter().map(|range| range.len()).sum();
                assert_eq!(lost, bad.len(), "{}: {other}", made.name);
                for (at, (read, was)) in content.iter().zip(&wanted[other]).enumerate() {
                    let gone = missing.iter().any(|range| range.contains(ByteOffset(at as u64)));
                    assert!(gone || read == was, "{}: {other} at {at}", made.name);
                }
            }
        }
    }
}

#[test]
fn any_sector_may_not_read_and_the_volume_is_told_or_read_on() {
    for made in volumes().into_iter().chain([bare_hfs()]) {
        let mut state = 0x1234_5678_u64;
        for _ in 0..60 {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            // Most of what matters stands at the front.
            let reach = if state.is_multiple_of(3) { made.bytes.len() as u64 } else { 600_000.min(made.bytes.len() as u64) };
            let bad = ByteRange::sized(ByteOffset((state >> 20) % reach / 512 * 512), 512 << (state % 4));
            let source: SharedSource = Arc::new(MemorySource::new(made.name, made.bytes.clone(), 512).with_bad(bad));
            assert!(source.read_at(bad.start, &mut [0; 512]).is_err());
            let Ok(volume) = made.geometry.open(source) else { continue };
            let mut count = 0;
            let _ = volume.walk(Deleted::Show, &mut |found| {
                count += 1;
                if let Ok(mut stream) = volume.open(found.entry.id, "") {
                    let _ = read_whole(stream.as_mut(), 1 << 16);
                }
                if count < 200 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
            });
            let _ = volume.examine();
        }
    }
}
