//! NTFS volumes made by the system's formatter and written by its driver.

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::ops::ControlFlow;
use std::os::unix::fs::FileExt;
use std::process::Command;
use std::sync::Arc;

use crate::support::{Bench, contents, deleted, noise, prose, run};
use keel_format::ntfs::{NtfsGeometry, NtfsVolume};
use keel_format::{Deleted, Geometry, NodeKind, Volume, VolumeKind};
use keel_source::{ByteOffset, ByteRange, Overlay, SharedSource};

#[test]
fn every_sort_of_stream_reads_as_the_driver_wrote_it() {
    let bench = Bench::new(96 << 20);
    bench.format("mkfs.ntfs", &["-Q", "-F", "-q", "-L", "ENGINE log"]);
    let mut expected: BTreeMap<String, Vec<u8>> = BTreeMap::new();
    bench.fill_ntfs(|root| {
        let mut put = |path: &str, bytes: Vec<u8>| {
            let full = root.join(path);
            fs::create_dir_all(full.parent().unwrap()).unwrap();
            fs::write(&full, &bytes).unwrap();
            expected.insert(path.into(), bytes);
        };
        put("tiny.txt", b"kept inside its record".to_vec());
        put("empty.txt", Vec::new());
        put("Überfahrt/時刻表 ⛴.csv", prose(1, 300_000));
        put("noise.bin", noise(7, 1_000_001));
        for number in 0..3000 {
            put(&format!("many/entry number {number:05} of a large directory.txt"), format!("{number}").into_bytes());
        }
        // A compressed folder: prose packs, noise does not, and a tail that fills no unit.
        let packed = root.join("packed");
        fs::create_dir(&packed).unwrap();
        run(Command::new("setfattr").args(["-h", "-n", "system.ntfs_attrib_be", "-v", "0x00000810"]).arg(&packed));
        for (name, bytes) in [
            ("prose.txt", prose(2, 700_003)),
            ("noise.bin", noise(8, 200_000)),
            ("zeros.bin", vec![0; 300_000]),
            ("short.txt", prose(3, 5000)),
        ] {
            put(&format!("packed/{name}"), bytes);
        }
        // A sparse file: holes before, between and behind.
        let sparse = File::create(root.join("sparse.bin")).unwrap();
        sparse.write_all_at(b"first island", 1 << 20).unwrap();
        sparse.write_all_at(b"second island", 5 << 20).unwrap();
        sparse.set_len(8 << 20).unwrap();
        let mut holes = vec![0; 8 << 20];
        holes[1 << 20..(1 << 20) + 12].copy_from_slice(b"first island");
        holes[5 << 20..(5 << 20) + 13].copy_from_slice(b"second island");
        expected.insert("sparse.bin".into(), holes);
        // Two files that grow in turns: so many runs that the record overflows into an attribute list.
        let mut turns = [File::create(root.join("turn-a.bin")).unwrap(), File::create(root.join("turn-b.bin")).unwrap()];
        let mut written = [Vec::new(), Vec::new()];
        for step in 0..1600usize {
            let piece = noise(step as u64 + 11, 4096);
            turns[step % 2].write_all(&piece).unwrap();
            turns[step % 2].sync_data().unwrap();
            written[step % 2].extend(piece);
        }
        expected.insert("turn-a.bin".into(), written[0].clone());
        expected.insert("turn-b.bin".into(), written[1].clone());
        OpenOptions::new()
            .write(true)
            .create(true)
            .truncate(true)
            .open(root.join("tiny.txt:berth"))
            .unwrap()
            .write_all(b"an alternate stream")
            .unwrap();
        for number in 0..20 {
            fs::write(root.join(format!("gone-{number}.txt")), prose(number, 9000)).unwrap();
        }
        for number in 0..20 {
            fs::remove_file(root.join(format!("gone-{number}.txt"))).unwrap();
        }
    });
    let (_, volume) = bench.open(512);
    assert_eq!(volume.summary().kind, Some(VolumeKind::Ntfs));
    assert_eq!(volume.summary().label.as_deref(), Some("ENGINE log"));
    let found = contents(volume.as_ref());
    assert_eq!(found.keys().collect::<Vec<_>>(), expected.keys().collect::<Vec<_>>());
    for (path, bytes) in &expected {
        assert!(found[path] == *bytes, "{path} differs");
    }
    assert!(deleted(volume.as_ref()).iter().filter(|name| name.starts_with("gone-")).count() >= 15);
    assert_eq!(volume.examine(), []);
    let streams = streams_of(volume.as_ref(), "tiny.txt");
    assert_eq!(streams, [("".to_string(), 22, "resident"), ("berth".to_string(), 19, "resident")]);
    assert_eq!(streams_of(volume.as_ref(), "sparse.bin")[0].1, 8 << 20);
    listing_agrees(volume.as_ref());
}

#[test]
fn reparse_points_are_links_only_where_their_tag_says_so_and_content_elsewhere_is_never_zeros() {
    let bench = Bench::new(32 << 20);
    bench.format("mkfs.ntfs", &["-Q", "-F", "-q"]);
    let points: [(&str, u64, u32, &[u8]); 4] = [
        ("berth", 0, 0xA000_001D, b"\x02\0\0\0../berth"),
        ("packed.dll", 70_000, 0x8000_0017, &[1, 0, 0, 0, 2, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0]),
        ("away.jpg", 50_000, 0x9000_601A, &[1, 0, 0, 0]),
        ("alias.exe", 0, 0x8000_001B, &[3, 0, 0, 0]),
    ];
    bench.fill_ntfs(|root| {
        for (name, bytes, tag, data) in points {
            File::create(root.join(name)).unwrap().set_len(bytes).unwrap();
            let length = u32::try_from(data.len()).unwrap();
            let value: String =
                [&tag.to_le_bytes()[..], &length.to_le_bytes(), data].concat().iter().map(|byte| format!("{byte:02x}")).collect();
            let arguments = ["-h", "-n", "system.ntfs_reparse_data", "-v", &format!("0x{value}")];
            run(Command::new("setfattr").args(arguments).arg(root.join(name)));
        }
    });
    let (_, volume) = bench.open(512);
    let mut found: BTreeMap<String, keel_format::Entry> = BTreeMap::new();
    let mut walked: BTreeMap<String, NodeKind> = BTreeMap::new();
    let keep = keel_format::Deleted::Hide;
    volume
        .list(volume.root(), keep, &mut |entry| {
            found.insert(entry.name.clone(), entry);
            std::ops::ControlFlow::Continue(())
        })
        .unwrap();
    volume
        .walk(keep, &mut |item| {
            walked.insert(item.entry.name.clone(), item.entry.kind);
            std::ops::ControlFlow::Continue(())
        })
        .unwrap();
    for (name, entry) in &found {
        assert_eq!(walked.get(name), Some(&entry.kind), "{name}");
        assert_eq!(entry.kind == NodeKind::Link, name == "berth", "{name}");
    }
    assert_eq!(volume.link_target(found["berth"].id).as_deref(), Some("../berth"));
    for (name, says) in [("packed.dll", "packed"), ("away.jpg", "never on this drive")] {
        let Err(error) = volume.open(found[name].id, "") else { panic!("{name} reads as zeros") };
        assert!(error.to_string().contains(says), "{error}");
    }
    assert!(volume.open(found["alias.exe"].id, "").is_ok());
}

/// `content` as an archiver packs it by the same coding: the table of its pieces, and them.
fn packed_by_an_archiver(bench: &Bench, content: &[u8], coding: &str, piece: &str) -> Vec<u8> {
    let (tree, archive) = (bench.folder.path().join("tree"), bench.folder.path().join("archive.wim"));
    fs::create_dir_all(&tree).unwrap();
    let _ = fs::remove_file(&archive);
    fs::write(tree.join("one.bin"), content).unwrap();
    let options = [format!("--compress={coding}"), format!("--chunk-size={piece}"), "--no-acls".into()];
    run(Command::new("wimcapture").args([&tree, &archive]).args(options));
    let archive = fs::read(&archive).unwrap();
    let number = |at: usize| u64::from_le_bytes(*archive[at..].first_chunk().unwrap());
    // Seven bytes of length, one of flags; then the place, and the length that it has when unpacked.
    let about = |at: usize| (number(at) & ((1 << 56) - 1), number(at + 8), number(at + 16));
    let (length, place, _) = about(48);
    let entries = (place..place + length).step_by(50).map(|at| about(at as usize));
    let (length, place, _) = entries.into_iter().find(|(_, _, whole)| *whole == content.len() as u64).expect("the file");
    archive[place as usize..(place + length) as usize].to_vec()
}

#[test]
fn files_that_the_system_packed_by_itself_are_unpacked() {
    let bench = Bench::new(64 << 20);
    bench.format("mkfs.ntfs", &["-Q", "-F", "-q"]);
    // Machine code has calls, whose targets one of the codings changes.
    let program = fs::read(std::env::current_exe().unwrap()).unwrap();
    let sorts = [
        ("text", prose(5, 777_777)),
        ("program", program[..program.len().min(2_000_003)].to_vec()),
        ("mixed", [noise(4, 70_000), vec![0; 100_000], prose(8, 33_333)].concat()),
        ("short", prose(9, 4000)),
    ];
    let mut wanted = BTreeMap::new();
    bench.fill_ntfs(|root| {
        for (algorithm, coding, piece) in [(0u32, "xpress", "4K"), (2, "xpress", "8K"), (3, "xpress", "16K"), (1, "lzx", "32K")] {
            for (name, content) in &sorts {
                let packed = packed_by_an_archiver(&bench, content, coding, piece);
                assert!(packed.len() < content.len());
                let path = root.join(format!("{name} {coding} {piece}"));
                File::create(&path).unwrap().set_len(content.len() as u64).unwrap();
                let mut stream = path.clone().into_os_string();
                stream.push(":WofCompressedData");
                fs::write(stream, packed).unwrap();
                let words = [0x8000_0017, 16, 1, 2, 1, algorithm];
                let value: String = words.iter().flat_map(|word| word.to_le_bytes()).map(|byte| format!("{byte:02x}")).collect();
                let arguments = ["-h", "-n", "system.ntfs_reparse_data", "-v", &format!("0x{value}")];
                run(Command::new("setfattr").args(arguments).arg(&path));
                wanted.insert(format!("{name} {coding} {piece}"), content.clone());
            }
        }
    });
    let (_, volume) = bench.open(512);
    let found = contents(volume.as_ref());
    for (name, content) in &wanted {
        assert!(found.get(name) == Some(content), "{name}");
        assert_eq!(streams_of(volume.as_ref(), name), [(String::new(), content.len() as u64, "compressed")], "{name}");
    }
    // Where the packed stream lies is where the file lies.
    volume
        .walk(Deleted::Hide, &mut |item| {
            let extents = volume.extents(item.entry.id).unwrap();
            let held: u64 = extents.iter().map(|extent| extent.bytes).sum();
            assert!(held >= item.entry.bytes && extents.iter().any(|extent| extent.volume_at.is_some()), "{}", item.entry.name);
            ControlFlow::Continue(())
        })
        .unwrap();
}

fn streams_of(volume: &dyn Volume, name: &str) -> Vec<(String, u64, &'static str)> {
    let mut id = None;
    volume
        .list(volume.root(), keel_format::Deleted::Hide, &mut |entry| {
            if entry.name == name {
                id = Some(entry.id);
            }
            std::ops::ControlFlow::Continue(())
        })
        .unwrap();
    volume.streams(id.unwrap()).unwrap().into_iter().map(|stream| (stream.name, stream.bytes, stream.storage)).collect()
}

/// The large directory listed through its index names what the walk over the MFT names.
fn listing_agrees(volume: &dyn Volume) {
    let mut many = None;
    let mut each = |entry: keel_format::Entry| {
        if entry.kind == NodeKind::Directory && entry.name == "many" {
            many = Some(entry.id);
        }
        std::ops::ControlFlow::Continue(())
    };
    volume.list(volume.root(), keel_format::Deleted::Hide, &mut each).unwrap();
    let mut names = std::collections::BTreeSet::new();
    let findings = volume
        .list(many.unwrap(), keel_format::Deleted::Hide, &mut |entry| {
            names.insert(entry.name);
            std::ops::ControlFlow::Continue(())
        })
        .unwrap();
    assert_eq!((findings.len(), names.len()), (0, 3000));
}

#[test]
fn every_cluster_and_sector_size_reads() {
    for (sector, cluster) in [
        (512, 512),
        (512, 1024),
        (512, 2048),
        (512, 8192),
        (512, 16384),
        (512, 32768),
        (512, 65536),
        (4096, 4096),
        (4096, 65536),
        (2048, 2048),
    ] {
        let bench = Bench::new(48 << 20);
        bench.format("mkfs.ntfs", &["-Q", "-F", "-q", "-s", &sector.to_string(), "-c", &cluster.to_string()]);
        let mut expected = BTreeMap::new();
        bench.fill_ntfs(|root| {
            for number in 0..120 {
                let bytes = prose(number, number * 1237);
                fs::create_dir_all(root.join("logs")).unwrap();
                fs::write(root.join(format!("logs/day {number:03}.txt")), &bytes).unwrap();
                expected.insert(format!("logs/day {number:03}.txt"), bytes);
            }
        });
        let (geometry, volume) = bench.open(sector);
        assert_eq!(volume.summary().cluster_bytes, cluster, "sector {sector}");
        assert!(contents(volume.as_ref()) == expected, "sector {sector}, cluster {cluster}");
        assert_eq!(geometry.bytes(), 48 << 20, "sector {sector}, cluster {cluster}");
    }
}

/// Paths of a volume's files, and what it said on the way.
fn listed(volume: &dyn Volume) -> (BTreeMap<String, u64>, Vec<String>) {
    let mut paths = BTreeMap::new();
    let findings = volume.walk(Deleted::Hide, &mut |found| {
        if found.entry.kind == NodeKind::File {
            let path = format!("{}/{}", found.folder, found.entry.name);
            assert!(paths.insert(path.clone(), found.entry.bytes).is_none(), "{path} twice");
        }
        ControlFlow::Continue(())
    });
    (paths, findings.unwrap().iter().map(|finding| finding.what.clone()).collect())
}

/// Where records are whose names pass `wanted`, by number.
fn records_of(volume: &NtfsVolume, wanted: impl Fn(&str) -> bool) -> Vec<(u64, ByteOffset)> {
    let mut numbers = Vec::new();
    volume
        .walk(Deleted::Hide, &mut |found| {
            if wanted(&found.entry.name) {
                numbers.push(found.entry.id.0 & 0xFFFF_FFFF_FFFF);
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    let place = |number| volume.mft().position(volume.geometry(), number).unwrap();
    numbers.into_iter().map(|number| (number, place(number))).collect()
}

/// `what` of the records of `wanted` names overwritten.
fn without(
    source: &SharedSource,
    geometry: NtfsGeometry,
    wanted: impl Fn(&str) -> bool,
    what: ByteRange,
    with: u8,
) -> SharedSource {
    let volume = NtfsVolume::open(Arc::clone(source), geometry).unwrap();
    let mut drive = Overlay::new(Arc::clone(source));
    for (_, at) in records_of(&volume, wanted) {
        drive.lay(at + what.start.0, &vec![with; what.len() as usize]);
    }
    Arc::new(drive)
}

/// A volume of folders with some and with very many files.
fn filled(cluster: &str) -> (Bench, NtfsGeometry, SharedSource) {
    let bench = Bench::new(64 << 20);
    bench.format("mkfs.ntfs", &["-Q", "-F", "-q", "-c", cluster]);
    bench.fill_ntfs(|root| {
        fs::create_dir_all(root.join("Quay/Berth two/Moorings")).unwrap();
        fs::create_dir_all(root.join("Logs")).unwrap();
        for number in 0..700 {
            fs::write(root.join(format!("Logs/passage {number:03}.txt")), prose(number, 40 + number)).unwrap();
        }
        for number in 0..12 {
            fs::write(root.join(format!("Quay/Berth two/Moorings/rope {number}.csv")), prose(number, 5000)).unwrap();
            fs::write(root.join(format!("Quay/Berth two/sheet {number}.csv")), prose(number, 900)).unwrap();
        }
        fs::write(root.join("at the root.txt"), prose(1, 3000)).unwrap();
    });
    let (Geometry::Ntfs(geometry), _) = bench.open(512) else { panic!("another kind") };
    let source = bench.source(512);
    (bench, geometry, source)
}

#[test]
fn files_whose_records_are_gone_keep_the_names_that_folders_have_of_them() {
    for cluster in ["512", "4096", "65536"] {
        let (_bench, geometry, source) = filled(cluster);
        let (sound, findings) = listed(&NtfsVolume::open(Arc::clone(&source), geometry).unwrap());
        assert_eq!((sound.len(), findings.len()), (725, 0));
        let (whole, tail) = (ByteRange::sized(ByteOffset(0), 1024), ByteRange::sized(ByteOffset(600), 424));
        let files = |name: &str| name.contains("7.") || name == "at the root.txt";
        // Zeros, other content, and a record of which only the first sector was written.
        for (range, with) in [(whole, 0), (whole, 0xE5), (tail, 0x41)] {
            let harmed = without(&source, geometry, files, range, with);
            let volume = NtfsVolume::open(harmed, geometry).unwrap();
            let (paths, findings) = listed(&volume);
            assert!(paths == sound, "{cluster} {with:#x}: {:?}", sound.keys().find(|path| !paths.contains_key(*path)));
            assert!(with != 0x41 || findings.iter().any(|what| what.contains("damaged")), "{findings:?}");
        }
    }
}

#[test]
fn folders_whose_records_are_gone_keep_their_place_in_the_tree() {
    let (_bench, geometry, source) = filled("4096");
    let (sound, _) = listed(&NtfsVolume::open(Arc::clone(&source), geometry).unwrap());
    let all = ByteRange::sized(ByteOffset(0), 1024);
    let harmed = without(&source, geometry, |name| name == "Berth two" || name == "Logs", all, 0);
    let volume = NtfsVolume::open(harmed, geometry).unwrap();
    let (paths, _) = listed(&volume);
    assert!(paths == sound, "{:?}", paths.keys().find(|path| !sound.contains_key(*path)));
    // The folder itself is asked for as a screen does it.
    let mut below = Vec::new();
    let numbers = records_of(&volume, |name| name == "Berth two");
    let find = keel_format::NodeId(numbers[0].0);
    let findings = volume.list(find, Deleted::Hide, &mut |entry| {
        below.push(entry.name);
        ControlFlow::Continue(())
    });
    assert_eq!((below.len(), findings.unwrap().len()), (13, 1), "{below:?}");
}

#[test]
fn room_that_the_mft_has_behind_its_last_record_is_nobody_who_is_lost() {
    let (bench, geometry, source) = filled("4096");
    bench.fill_ntfs(|root| {
        fs::remove_dir_all(root.join("Quay")).unwrap();
        fs::remove_file(root.join("at the root.txt")).unwrap();
    });
    let volume = NtfsVolume::open(Arc::clone(&source), geometry).unwrap();
    // What is behind the last record in use holds nothing but zeros, as room that was set aside.
    let free = |number: &u64| !volume.record(*number).is_ok_and(|record| record.is_in_use());
    let behind: Vec<u64> = (0..volume.mft().records).rev().take_while(free).collect();
    assert!(behind.len() > 20, "{}", behind.len());
    let mut drive = Overlay::new(Arc::clone(&source));
    for number in behind {
        drive.lay(volume.mft().position(&geometry, number).unwrap(), &[0; 1024]);
    }
    let (paths, findings) = listed(&NtfsVolume::open(Arc::new(drive), geometry).unwrap());
    assert_eq!((paths.len(), findings), (700, Vec::new()));
}

/// Damage that the update sequence does not see: attributes that are cut off, that lead elsewhere, or that are gone.
#[test]
fn a_record_of_which_a_part_was_overwritten_comes_from_the_mirror_and_never_goes_there() {
    let (_bench, geometry, source) = filled("4096");
    let (sound, _) = listed(&NtfsVolume::open(Arc::clone(&source), geometry).unwrap());
    let kept = Geometry::Ntfs(geometry);
    let at = |drive: &SharedSource, at: ByteOffset, len: usize| {
        let mut bytes = vec![0; len];
        drive.read_at(at, &mut bytes).unwrap();
        bytes
    };
    let record_bytes = geometry.record_bytes as usize;
    let mirror = geometry.cluster_at(geometry.mirror_lcn);
    for number in 0..4u64 {
        let place = geometry.cluster_at(geometry.mft_lcn) + number * record_bytes as u64;
        let own = at(&source, place, record_bytes);
        let first = usize::from(u16::from_le_bytes([own[20], own[21]]));
        let used = u32::from_le_bytes(*own[24..].first_chunk().unwrap()) as usize;
        // The length of its first attribute, what it uses, and everything behind its header but the ends of sectors.
        let mut harms: Vec<(usize, Vec<u8>)> = vec![(first + 4, vec![0; 4]), (24, (first as u32 + 8).to_le_bytes().to_vec())];
        harms.push((first, vec![0xFF; 4]));
        harms.push((first + 24, vec![0x5A; used.min(508) - first - 24]));
        for (offset, bytes) in harms {
            let said = format!("record {number}: {} bytes at {offset}", bytes.len());
            let mut overlay = Overlay::new(Arc::clone(&source));
            overlay.lay(place + offset as u64, &bytes);
            let drive: SharedSource = Arc::new(overlay);
            let structures = kept.structures(&drive, ByteOffset(0), keel_format::Compute::WhereNeeded);
            let repairs: Vec<_> = structures.iter().flat_map(keel_format::Structure::repairs).collect();
            let is_kept =
                |repair: &keel_format::Repair| repair.at.0 < mirror.0 || repair.at.0 >= mirror.0 + 4 * record_bytes as u64;
            assert!(repairs.iter().all(is_kept), "{said}: the mirror is the one that is right");
            let mended = crate::support::mended(&kept, &drive);
            assert!(at(&mended, place, record_bytes)[first..used] == own[first..used], "{said}");
            let (paths, findings) = listed(&NtfsVolume::open(mended, geometry).unwrap());
            assert!(paths == sound && findings.is_empty(), "{said}: {findings:?}");
        }
    }
}
