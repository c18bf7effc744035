//! NTFS volumes made by the system's formatter and written by its driver.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod support;

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::FileExt;
use std::process::Command;

use keel_format::{NodeKind, Volume, VolumeKind};
use support::{Bench, contents, deleted, noise, prose, run};

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
    assert_eq!(volume.summary().kind, VolumeKind::Ntfs);
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
    for (name, says) in [("packed.dll", "WofCompressedData"), ("away.jpg", "never on this drive")] {
        let Err(error) = volume.open(found[name].id, "") else { panic!("{name} reads as zeros") };
        assert!(error.to_string().contains(says), "{error}");
    }
    assert!(volume.open(found["alias.exe"].id, "").is_ok());
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
