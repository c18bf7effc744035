//! New, empty volumes of ours: beside those of the system's own formatters, under our own rules, and in the hands of drivers.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use crate::support::{Bench, contents, noise, run, write_tree};
use keel_format::check::check;
use keel_format::make::Wanted;
use keel_format::{Deleted, Geometry, VolumeKind};
use keel_source::{ByteOffset, SectorSize, SharedSource};

const MIB: u64 = 1 << 20;
const GIB: u64 = 1 << 30;

fn wanted(bytes: u64, sector: u32) -> Wanted {
    Wanted {
        bytes,
        sector: SectorSize(sector),
        hidden_sectors: 2048,
        label: "SLIPWAY".into(),
        cluster_bytes: None,
        serial: 0xB0A7_1234,
        journal: false,
        made_at: 1_790_000_000,
    }
}

fn opened(source: &SharedSource) -> Box<dyn keel_format::Volume> {
    keel_format::registry::boot_sector(source.as_ref(), ByteOffset(0)).unwrap().open(Arc::clone(source)).unwrap()
}

/// Sizes that every ext can have.
const EXT_SIZES: &[u64] =
    &[4 * MIB, 8 * MIB + 1024, 33 * MIB, 100 * MIB, 256 * MIB + 4096 * 3, 512 * MIB, GIB, 4 * GIB + 12_345_344, 64 * GIB];

/// Sizes that each kind can have, from the least to the most.
fn sizes(kind: VolumeKind) -> Vec<u64> {
    match kind {
        VolumeKind::Fat12 => vec![MIB, 2 * MIB + 512 * 7, 4 * MIB, 8 * MIB, 16 * MIB, 32 * MIB, 64 * MIB, 128 * MIB],
        VolumeKind::Fat16 => {
            vec![8 * MIB, 16 * MIB, 33 * MIB, 64 * MIB, 128 * MIB, 200 * MIB + 512, 256 * MIB, 512 * MIB, GIB, 2 * GIB]
        }
        VolumeKind::Fat32 => vec![
            40 * MIB,
            64 * MIB,
            260 * MIB,
            512 * MIB + 512 * 3,
            2 * GIB,
            8 * GIB,
            16 * GIB,
            32 * GIB,
            64 * GIB,
            256 * GIB,
            GIB << 10,
            2 * (GIB << 10) - 512,
        ],
        VolumeKind::Ext2 | VolumeKind::Ext3 => EXT_SIZES.to_vec(),
        VolumeKind::Ext4 => [&[MIB, 300 * GIB, 4 * (GIB << 10), 15 * (GIB << 10)], EXT_SIZES].concat(),
        _ => vec![
            MIB,
            4 * MIB,
            32 * MIB,
            64 * MIB,
            255 * MIB,
            257 * MIB,
            GIB + 512,
            32 * GIB,
            64 * GIB,
            GIB << 10,
            4 * (GIB << 10),
            15 * (GIB << 10),
        ],
    }
}

const KINDS: [VolumeKind; 9] = [
    VolumeKind::Ntfs,
    VolumeKind::HfsPlus,
    VolumeKind::Fat12,
    VolumeKind::Fat16,
    VolumeKind::Fat32,
    VolumeKind::ExFat,
    VolumeKind::Ext2,
    VolumeKind::Ext3,
    VolumeKind::Ext4,
];

#[test]
fn every_size_of_every_kind_reads_back_as_it_was_wanted_and_keeps_every_rule() {
    for kind in KINDS {
        for sector in [512, 4096] {
            for bytes in sizes(kind) {
                let wanted = wanted(bytes / u64::from(sector) * u64::from(sector), sector);
                let Ok(volume) = kind.make(&wanted) else {
                    // A large sector makes too few clusters of a small volume.
                    assert!(sector == 4096 && bytes <= 300 * MIB, "{} of {bytes} bytes", kind.word());
                    continue;
                };
                let name = format!("{} of {bytes} bytes, sectors of {sector}", kind.word());
                let bench = Bench::new(wanted.bytes);
                bench.lay(&volume);
                let source = bench.source(sector);
                let read = keel_format::registry::boot_sector(source.as_ref(), ByteOffset(0));
                assert_eq!(read.as_ref(), Some(&volume.geometry), "{name}");
                let read = opened(&source);
                assert_eq!((read.summary().kind, read.summary().label.as_deref()), (Some(kind), Some("SLIPWAY")), "{name}");
                let mut listed = 0;
                read.walk(Deleted::Show, &mut |_| {
                    listed += 1;
                    std::ops::ControlFlow::Continue(())
                })
                .unwrap();
                let own = usize::from(matches!(kind, VolumeKind::Ext2 | VolumeKind::Ext3 | VolumeKind::Ext4));
                assert_eq!((listed, read.left_open()), (own, Vec::new()), "{name}: lost+found alone");
                // Every rule, as far as a test can wait for it.
                if wanted.bytes <= 2 * GIB {
                    let wrong: Vec<String> =
                        check(read.as_ref()).iter().flat_map(|rule| &rule.findings).map(|finding| finding.what.clone()).collect();
                    assert_eq!(wrong, Vec::<String>::new(), "{name}");
                }
                // Parts ascend, do not overlap, and lie inside in whole sectors.
                let mut end = 0;
                for part in &volume.parts {
                    assert!(part.at.0 >= end && part.at.0.is_multiple_of(u64::from(sector)), "{name}: {}", part.what);
                    assert!(part.bytes.len().is_multiple_of(u64::from(sector)), "{name}: {}", part.what);
                    end = part.at.0 + part.bytes.len();
                }
                assert!(end <= wanted.bytes, "{name}");
            }
        }
    }
}

/// Numbers of a boot sector: name, offset, bytes.
const FAT_FIELDS: &[(&str, u64, usize)] = &[
    ("BPB_BytsPerSec", 11, 2),
    ("BPB_NumFATs", 16, 1),
    ("BPB_Media", 21, 1),
    ("BPB_FSVer", 42, 2),
    ("BPB_RootClus", 44, 4),
    ("BPB_FSInfo", 48, 2),
    ("BPB_BkBootSec", 50, 2),
    ("BS_BootSig", 66, 1),
    ("BS_FilSysType", 82, 8),
    ("mark", 510, 2),
];

#[test]
fn boot_sectors_agree_with_those_of_the_systems_formatter_in_every_field_that_is_not_chosen() {
    for bytes in [64 * MIB, 300 * MIB, 2 * GIB, 8 * GIB, 20 * GIB, 64 * GIB] {
        let own = Bench::new(bytes);
        own.lay(&VolumeKind::Fat32.make(&wanted(bytes, 512)).unwrap());
        let system = Bench::new(bytes);
        system.format("mkfs.vfat", &["-F", "32", "-n", "SLIPWAY", "-i", "b0a71234", "-h", "2048"]);
        let field = |bench: &Bench, at: u64, len: usize| {
            let mut field = vec![0; len];
            bench.source(512).read_at(ByteOffset(at), &mut field).unwrap();
            field
        };
        for (name, at, len) in FAT_FIELDS.iter().chain(&[("BS_VolID", 67, 4), ("BS_VolLab", 71, 11), ("BPB_HiddSec", 28, 4)]) {
            assert_eq!(field(&own, *at, *len), field(&system, *at, *len), "{name} of {bytes} bytes");
        }
        // The formatter ends with a whole track of 63 sectors at the most; ours takes all that there is.
        let total = |bench: &Bench| u32::from_le_bytes(field(bench, 32, 4).try_into().unwrap());
        assert_eq!(u64::from(total(&own)), bytes / 512);
        assert!(total(&own) - total(&system) < 63, "{bytes} bytes");
        // The entries that an empty FAT begins with, and the label in the root.
        let of = |bench: &Bench| {
            let Some(Geometry::Fat(geometry)) = keel_format::registry::boot_sector(bench.source(512).as_ref(), ByteOffset(0))
            else {
                panic!("no FAT")
            };
            let root = geometry.data_sector() * 512;
            (field(bench, u64::from(geometry.reserved_sectors) * 512, 12), field(bench, root, 12))
        };
        assert_eq!(of(&own), of(&system), "{bytes} bytes");
    }
    for bytes in [8 * MIB, 64 * MIB, 300 * MIB, 2 * GIB, 40 * GIB] {
        let own = Bench::new(bytes);
        let volume = VolumeKind::ExFat.make(&Wanted { hidden_sectors: 0, ..wanted(bytes, 512) }).unwrap();
        own.lay(&volume);
        let system = Bench::new(bytes);
        system.format("mkfs.exfat", &["-L", "SLIPWAY"]);
        let region = |bench: &Bench| {
            let mut sector = [0; 512];
            bench.source(512).read_at(ByteOffset(0), &mut sector).unwrap();
            let Some(Geometry::ExFat(geometry)) = keel_format::registry::boot_sector(bench.source(512).as_ref(), ByteOffset(0))
            else {
                panic!("no exFAT")
            };
            (sector[..11].to_vec(), sector[104..106].to_vec(), sector[106..108].to_vec(), sector[108], sector[110], geometry)
        };
        let (own, system) = (region(&own), region(&system));
        assert_eq!(
            (&own.0, &own.1, &own.2, own.3, own.4),
            (&system.0, &system.1, &system.2, system.3, system.4),
            "{bytes} bytes"
        );
        assert_eq!(
            (own.5.cluster_bytes(), own.5.volume_length),
            (system.5.cluster_bytes(), system.5.volume_length),
            "{bytes} bytes"
        );
    }
}

/// Files of many sizes in folders of folders, by path.
fn files() -> BTreeMap<String, Vec<u8>> {
    (0..400usize)
        .map(|number| {
            let path = format!("crossing {:02}/leg {}/sheet number {number} of the winter timetable.dat", number % 9, number % 4);
            (path, noise(number as u64 + 1, number * number % 40_000))
        })
        .collect()
}

#[test]
fn drivers_write_to_new_volumes_and_what_they_wrote_is_there() {
    for (kind, bytes) in [
        (VolumeKind::Fat12, 30 * MIB),
        (VolumeKind::Fat16, 100 * MIB),
        (VolumeKind::Fat32, 300 * MIB),
        (VolumeKind::ExFat, 100 * MIB),
        (VolumeKind::Ntfs, 19 * MIB + 512),
        (VolumeKind::Ntfs, 100 * MIB),
        (VolumeKind::Ntfs, 3 * GIB),
        (VolumeKind::Ext2, 100 * MIB),
        (VolumeKind::Ext3, 600 * MIB),
        (VolumeKind::Ext4, 100 * MIB),
        (VolumeKind::Ext4, 3 * GIB),
    ] {
        let bench = Bench::new(bytes);
        bench.lay(&kind.make(&wanted(bytes, 512)).unwrap());
        if kind == VolumeKind::Ntfs {
            bench.fill(&["ntfs-3g"], |folder| write_tree(folder, &files()));
        } else if kind == VolumeKind::ExFat {
            bench.fill(&["mount.exfat-fuse", "-o", "rw"], |folder| write_tree(folder, &files()));
        } else if matches!(kind, VolumeKind::Ext2 | VolumeKind::Ext3 | VolumeKind::Ext4) {
            bench.fill(&["mount", "-t", "ext4"], |folder| write_tree(folder, &files()));
        } else {
            let tree = bench.folder.path().join("tree");
            write_tree(&tree, &files());
            for item in std::fs::read_dir(&tree).unwrap().map(|entry| entry.unwrap().path()) {
                run(Command::new("mcopy").args(["-s", "-i"]).arg(&bench.image).arg(item).arg("::"));
            }
        }
        let source = bench.source(512);
        let volume = opened(&source);
        assert_eq!(contents(volume.as_ref()), files(), "{}", kind.word());
        let wrong: Vec<String> =
            check(volume.as_ref()).iter().flat_map(|rule| &rule.findings).map(|found| found.what.clone()).collect();
        assert_eq!(wrong, Vec::<String>::new(), "{}", kind.word());
    }
}

#[test]
fn what_cannot_be_made_is_refused_in_a_sentence() {
    let refused = |kind: VolumeKind, change: &dyn Fn(&mut Wanted)| {
        let mut wanted = wanted(300 * MIB, 512);
        change(&mut wanted);
        kind.make(&wanted).err().map(|why| why.0)
    };
    use VolumeKind::{ExFat, Fat12, Fat16, Fat32};
    for kind in KINDS {
        assert_eq!(refused(kind, &|wanted| wanted.label = String::new()).is_some(), kind == Fat12, "{}", kind.word());
        for bytes in [0, 1, 511, 512, 4096] {
            assert!(refused(kind, &|wanted| wanted.bytes = bytes).is_some(), "{} of {bytes}", kind.word());
        }
        for cluster in [0, 1, 256, 3000, u32::MAX] {
            assert!(refused(kind, &|wanted| wanted.cluster_bytes = Some(cluster)).is_some(), "{} {cluster}", kind.word());
        }
        for label in [&"A LABEL OF MANY SIGNS ".repeat(20), "BELL\u{7}"] {
            assert!(refused(kind, &|wanted| wanted.label = label.to_string()).is_some(), "{} {label:?}", kind.word());
        }
    }
    for label in ["A/B", "A*B", " A", "QUÄY"] {
        assert!(refused(Fat32, &|wanted| wanted.label = label.into()).is_some(), "{label:?}");
    }
    assert_eq!(refused(ExFat, &|wanted| wanted.label = "QUÄY é".into()), None);
    assert_eq!(refused(Fat32, &|wanted| wanted.label = "slipway".into()), None, "in upper case then");
    // The count of clusters makes the kind.
    assert!(refused(Fat32, &|wanted| wanted.cluster_bytes = Some(32 << 10)).unwrap().contains("count of clusters"));
    assert!(refused(Fat16, &|wanted| wanted.cluster_bytes = Some(512)).is_some());
    for (kind, bytes) in [(Fat32, 3 * (GIB << 10)), (Fat16, 16 * GIB), (Fat12, GIB), (Fat32, u64::MAX), (ExFat, u64::MAX)] {
        assert!(refused(kind, &|wanted| wanted.bytes = bytes).is_some(), "{} of {bytes}", kind.word());
    }
    assert!(
        refused(ExFat, &|wanted| (wanted.bytes, wanted.cluster_bytes) = (16 * (GIB << 10), Some(512)))
            .unwrap()
            .contains("at the most")
    );
}

/// Fields of a superblock that size and kind decide: name, offset, bytes.
const EXT_FIELDS: &[(&str, usize, usize)] = &[
    ("s_inodes_count", 0, 4),
    ("s_blocks_count_lo", 4, 4),
    ("s_r_blocks_count_lo", 8, 4),
    ("s_free_inodes_count", 16, 4),
    ("s_first_data_block", 20, 4),
    ("s_log_block_size", 24, 4),
    ("s_blocks_per_group", 32, 4),
    ("s_clusters_per_group", 36, 4),
    ("s_inodes_per_group", 40, 4),
    ("s_max_mnt_count, s_magic, s_state, s_errors", 54, 8),
    ("s_checkinterval, s_creator_os, s_rev_level", 68, 12),
    ("s_first_ino, s_inode_size, s_block_group_nr", 84, 8),
    ("s_feature_incompat", 96, 4),
    ("s_feature_ro_compat", 100, 4),
    ("s_volume_name", 120, 16),
    ("s_journal_inum", 224, 4),
    ("s_def_hash_version, s_jnl_backup_type, s_desc_size", 252, 4),
    ("s_default_mount_opts", 256, 4),
    ("size of the journal", 0x10C + 60, 8),
    ("s_flags", 0x160, 4),
];

#[test]
fn superblocks_agree_with_those_of_the_systems_formatter_in_every_field_that_is_not_chosen() {
    for (kind, word) in [(VolumeKind::Ext2, "ext2"), (VolumeKind::Ext3, "ext3"), (VolumeKind::Ext4, "ext4")] {
        for bytes in [8 * MIB, 40 * MIB, 300 * MIB, 600 * MIB, 3 * GIB, 20 * GIB] {
            let superblock = |bench: &Bench| {
                let mut bytes = vec![0; 1024];
                bench.source(512).read_at(ByteOffset(1024), &mut bytes).unwrap();
                bytes
            };
            let own = Bench::new(bytes);
            own.lay(&kind.make(&wanted(bytes, 512)).unwrap());
            let system = Bench::new(bytes);
            // Without blocks kept for more descriptors, which only growing while it is mounted needs.
            system.format("mkfs.ext4", &["-q", "-F", "-t", word, "-O", "^resize_inode", "-L", "SLIPWAY"]);
            let (own, system) = (superblock(&own), superblock(&system));
            for (name, at, len) in EXT_FIELDS {
                assert_eq!(own[*at..*at + *len], system[*at..*at + *len], "{name} of an {word} of {bytes} bytes");
            }
        }
    }
}

/// Attributes of a record by type and name, without those that only one of two ways to keep descriptors has.
fn attributes(volume: &keel_format::ntfs::NtfsVolume, number: u64) -> Vec<(u32, String)> {
    const SECURITY_DESCRIPTOR: u32 = 0x50;
    let record = volume.record(number).unwrap();
    let all = record.attributes().map(|attribute| attribute.map(|one| (one.type_code, one.name.clone())).unwrap());
    // `$Info` of `$UpCase` is a checksum that systems add themselves.
    all.filter(|(type_code, name)| *type_code != SECURITY_DESCRIPTOR && name != "$Info").collect()
}

#[test]
fn system_files_agree_with_those_of_the_systems_formatter_in_all_that_is_not_chosen() {
    use keel_format::NodeId;
    for (bytes, cluster) in [(2 * MIB, None), (20 * MIB, Some(512)), (300 * MIB, None), (4 * GIB, Some(65_536)), (20 * GIB, None)]
    {
        let own = Bench::new(bytes);
        own.lay(&VolumeKind::Ntfs.make(&Wanted { cluster_bytes: cluster, ..wanted(bytes, 512) }).unwrap());
        let system = Bench::new(bytes);
        let cluster = cluster.unwrap_or(4096).to_string();
        system.format("mkfs.ntfs", &["-Q", "-F", "-q", "-s", "512", "-c", &cluster, "-p", "2048", "-L", "SLIPWAY"]);
        let opened = |bench: &Bench| {
            let source = bench.source(512);
            let Some(Geometry::Ntfs(geometry)) = keel_format::registry::boot_sector(source.as_ref(), ByteOffset(0)) else {
                panic!("no NTFS")
            };
            (keel_format::ntfs::NtfsVolume::open(source, geometry).unwrap(), geometry)
        };
        let ((one, geometry), (other, theirs)) = (opened(&own), opened(&system));
        let sizes = |of: &keel_format::ntfs::NtfsGeometry| {
            (of.bytes_per_sector, of.cluster_bytes, of.record_bytes, of.index_bytes, of.total_sectors, of.mft_lcn)
        };
        assert_eq!(sizes(&geometry), sizes(&theirs), "{bytes} bytes");
        let sector = |bench: &Bench| {
            let mut sector = [0; 512];
            bench.source(512).read_at(ByteOffset(0), &mut sector).unwrap();
            // Jump, identifier, media, hidden sectors (the formatter takes them from its option), sizes of blocks, mark.
            (sector[3..21].to_vec(), sector[21], sector[28..32].to_vec(), sector[64], sector[68], sector[510..].to_vec())
        };
        assert_eq!(sector(&own), sector(&system), "{bytes} bytes");
        for number in (0..16).chain(24..27) {
            assert_eq!(attributes(&one, number), attributes(&other, number), "record {number} of {bytes} bytes");
            let header = |volume: &keel_format::ntfs::NtfsVolume| {
                let record = volume.record(number).unwrap();
                let raw = *record.header();
                (raw.flags.get(), raw.link_count.get(), raw.sequence_number.get(), raw.record_number.get())
            };
            assert_eq!(header(&one), header(&other), "record {number} of {bytes} bytes");
        }
        let content = |volume: &dyn keel_format::Volume, number: u64| {
            let mut stream = volume.open(NodeId(number), "").unwrap();
            keel_format::read_whole(stream.as_mut(), 1 << 20)
        };
        // $AttrDef and $UpCase byte by byte.
        for number in [4, 10] {
            assert!(content(&one, number) == content(&other, number), "record {number} of {bytes} bytes");
        }
    }
}

/// Files of many sizes in a tree: some hundred, or as many as `YKEEL_NEW_FILES` says.
fn many_sizes() -> BTreeMap<String, Vec<u8>> {
    let count = std::env::var("YKEEL_NEW_FILES").ok().and_then(|count| count.parse().ok()).unwrap_or(200usize);
    (0..count)
        .map(|number| {
            let path = format!("{:02}/crossing {}/sheet {number:04} of the summer timetable.txt", number % 13, number % 7);
            (path, noise(number as u64 + 5, number * 37 % 9000))
        })
        .collect()
}

#[test]
fn a_kernel_writes_files_to_each_and_says_nothing_against_it() {
    let guest = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let built = std::env::var_os("YKEEL_GUEST").map_or_else(|| guest.join("target/guest"), PathBuf::from);
    run(Command::new("bash").arg(guest.join("xtask/guest/build.sh")).arg(&built));
    let tree = tempfile::tempdir().unwrap();
    write_tree(tree.path(), &many_sizes());
    let tar = tempfile::NamedTempFile::new().unwrap();
    run(Command::new("tar").args(["--format=pax", "-C"]).arg(tree.path()).arg("-cf").arg(tar.path()).arg("."));
    let len = std::fs::metadata(tar.path()).unwrap().len();
    std::fs::File::options().write(true).open(tar.path()).unwrap().set_len(len.next_multiple_of(4096)).unwrap();
    let kinds = [
        (VolumeKind::Fat16, "vfat", 500 * MIB, None),
        (VolumeKind::Fat32, "vfat", 300 * MIB, None),
        (VolumeKind::Fat32, "vfat", 6 * GIB, None),
        (VolumeKind::ExFat, "exfat", 300 * MIB, None),
        (VolumeKind::ExFat, "exfat", 40 * GIB, None),
        (VolumeKind::Ntfs, "ntfs", 300 * MIB, None),
        (VolumeKind::Ext2, "ext4", 300 * MIB, None),
        (VolumeKind::Ext3, "ext4", 300 * MIB, Some(1024)),
        (VolumeKind::Ext4, "ext4", 300 * MIB, None),
        (VolumeKind::Ext4, "ext4", 90 * GIB, None),
        (VolumeKind::HfsPlus, "hfsplus", 300 * MIB, None),
        (VolumeKind::HfsPlus, "hfsplus", 30 * GIB, None),
    ];
    let benches: Vec<Bench> = kinds
        .iter()
        .map(|(kind, _, bytes, cluster_bytes)| {
            let bench = Bench::new(*bytes);
            bench.lay(&kind.make(&Wanted { cluster_bytes: *cluster_bytes, hidden_sectors: 0, ..wanted(*bytes, 512) }).unwrap());
            bench
        })
        .collect();
    let fill: Vec<&str> = kinds.iter().map(|(_, driver, ..)| *driver).collect();
    let drives = benches.iter().flat_map(|bench| [(bench.image.as_path(), ""), (tar.path(), ",readonly=on")]);
    let output = crate::qemu::qemu(&built, &format!("fill={}", fill.join(",")), drives).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout);
    assert_eq!(text.matches("@@FILLED").count(), kinds.len(), "{text}");
    let said: Vec<&str> = text.lines().filter_map(|line| line.split_once("@@SAID ").map(|(_, said)| said)).collect();
    let complaint = |line: &&&str| {
        let line = line.to_lowercase();
        ["error", "warn", "corrupt", "invalid", "not properly", "bad ", "recover"].iter().any(|word| line.contains(word))
    };
    assert_eq!(said.iter().find(complaint), None, "{said:#?}");
    for (bench, (kind, _, bytes, _)) in benches.iter().zip(&kinds) {
        let source = bench.source(512);
        let volume = opened(&source);
        assert!(contents(volume.as_ref()) == many_sizes(), "{} of {bytes} bytes", kind.word());
        if *bytes <= 6 * GIB {
            let wrong: Vec<String> =
                check(volume.as_ref()).iter().flat_map(|rule| &rule.findings).map(|found| found.what.clone()).collect();
            assert_eq!(wrong, Vec::<String>::new(), "{} of {bytes} bytes", kind.word());
        }
    }
}
