//! Volumes whose own numbers ask for endless work: each is answered within a bound, with a sentence, by every call.

use std::ops::ControlFlow;
use std::sync::Arc;
use std::time::{Duration, Instant};

use crate::support::{Bench, many_files, noise, write_tree};
use keel_format::{Deleted, Geometry, NodeKind, Volume, check, registry};
use keel_source::{ByteOffset, ByteRange, Cancel, MemorySource, Overlay, SharedSource};

/// What no call on a small volume takes, in a build that is not tuned.
const LONGEST: Duration = Duration::from_secs(20);

/// Everything that is asked of a volume. Answers with its findings as text.
fn everything(volume: &dyn Volume) -> String {
    let began = Instant::now();
    let mut said = String::new();
    let mut nodes = Vec::new();
    let findings = volume.walk(Deleted::Show, &mut |found| {
        if nodes.len() < 200 {
            nodes.push((found.entry.id, found.entry.kind));
        }
        ControlFlow::Continue(())
    });
    said.push_str(&format!("{findings:?}"));
    for (node, kind) in nodes {
        if kind == NodeKind::Directory {
            let _ = volume.list(node, Deleted::Show, &mut |_| ControlFlow::Continue(()));
        }
        let Ok(mut stream) = volume.open(node, "") else { continue };
        let mut bytes = vec![0; 4096.min(stream.bytes() as usize)];
        let _ = stream.read(0, &mut bytes);
    }
    said.push_str(&format!("{:?}", check::check(volume)));
    assert!(began.elapsed() < LONGEST, "{:?}", began.elapsed());
    said
}

fn with(drive: &SharedSource, edits: &[(u64, Vec<u8>)]) -> SharedSource {
    let mut overlay = Overlay::new(Arc::clone(drive));
    edits.iter().for_each(|(at, bytes)| overlay.lay(ByteOffset(*at), bytes));
    Arc::new(overlay)
}

fn bytes(drive: &SharedSource, at: u64, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    drive.read_at(ByteOffset(at), &mut bytes).unwrap();
    bytes
}

/// Where `wanted` stands on the drive, looked for at multiples of `step`.
fn place_of(drive: &SharedSource, step: usize, wanted: &dyn Fn(&[u8]) -> bool) -> Vec<u64> {
    let all = bytes(drive, 0, drive.len() as usize);
    all.chunks(step).enumerate().filter(|(_, piece)| wanted(piece)).map(|(index, _)| (index * step) as u64).collect()
}

fn ext(options: &[&str]) -> (Bench, SharedSource) {
    let bench = Bench::new(16 << 20);
    bench.format("mkfs.ext4", &[&["-q", "-F", "-b", "1024"], options].concat());
    bench.fill(&["mount", "-o", "loop"], |point| {
        write_tree(point, &many_files());
        // So scattered that its tree has a block of its own.
        for piece in 0..40u8 {
            for name in ["scattered.bin", "between.bin"] {
                let mut file = std::fs::File::options().append(true).create(true).open(point.join(name)).unwrap();
                std::io::Write::write_all(&mut file, &noise(u64::from(piece) + 1, 1024)).unwrap();
                file.sync_all().unwrap();
            }
        }
    });
    let source = bench.source(512);
    (bench, source)
}

#[test]
fn an_extent_tree_that_leads_to_itself_is_cut() {
    let (_bench, drive) = ext(&["-O", "^metadata_csum,^has_journal"]);
    // A leaf of the tree that is a block of its own becomes a node whose every entry is another look at the same leaves.
    let leaf = |piece: &[u8]| piece[..2] == [0x0A, 0xF3] && piece[6..8] == [0, 0] && piece[2] > 4;
    let leaves = place_of(&drive, 1024, &leaf);
    assert!(!leaves.is_empty());
    let geometry = registry::boot_sector(drive.as_ref(), ByteOffset(0)).unwrap();
    for at in leaves {
        let mut block = bytes(&drive, at, 1024);
        let own = ((at / 1024) as u32).to_le_bytes();
        for depth in 1..=4u8 {
            block[2] = 84;
            block[6] = depth;
            for entry in 0..84usize {
                let offset = 12 + entry * 12;
                block[offset..offset + 12].fill(0);
                block[offset + 4..offset + 8].copy_from_slice(&own);
            }
            // The inode leads to it at any depth.
            let mut edits = vec![(at, block.clone())];
            for inode in place_of(&drive, 128, &|piece| piece[40..42] == [0x0A, 0xF3] && piece[46] == 1 && piece[56..60] == own) {
                let mut root = bytes(&drive, inode, 128);
                root[46] = depth + 1;
                edits.push((inode, root));
            }
            assert!(edits.len() > 1, "an inode leads to the block at {at}");
            let volume = geometry.open(with(&drive, &edits)).unwrap();
            everything(volume.as_ref());
            // Of the files that lead there nothing is told that the block does not say, and why.
            let mut cut = Vec::new();
            let mut files = 0;
            volume
                .walk(Deleted::Hide, &mut |found| {
                    files += 1;
                    cut.extend(volume.extents(found.entry.id).err().map(|error| error.to_string()));
                    ControlFlow::Continue(())
                })
                .unwrap();
            assert!(!cut.is_empty() && cut.len() < files, "{} of {files}", cut.len());
            assert!(cut.iter().all(|error| error.starts_with("extent tree")), "{cut:?}");
        }
    }
}

#[test]
fn a_superblock_that_claims_groups_without_end_is_refused() {
    let (_bench, drive) = ext(&["-O", "^metadata_csum"]);
    let mut superblock = bytes(&drive, 1024, 1024);
    // Four thousand million groups of eight blocks, with one inode each.
    superblock[4..8].copy_from_slice(&u32::MAX.to_le_bytes());
    superblock[32..36].copy_from_slice(&8u32.to_le_bytes());
    superblock[36..40].copy_from_slice(&8u32.to_le_bytes());
    superblock[40..44].copy_from_slice(&8u32.to_le_bytes());
    let groups = (u64::from(u32::MAX) - 1).div_ceil(8);
    superblock[0..4].copy_from_slice(&u32::try_from(groups * 8).unwrap_or(u32::MAX).to_le_bytes());
    let view = with(&drive, &[(1024, superblock)]);
    let began = Instant::now();
    if let Some(geometry) = registry::boot_sector(view.as_ref(), ByteOffset(0)) {
        assert!(geometry.open(Arc::clone(&view)).is_err());
        assert!(geometry.structures(&view, ByteOffset(0), keel_format::Compute::All).is_empty());
    }
    assert!(began.elapsed() < LONGEST);
}

#[test]
fn an_mft_whose_runs_lead_over_the_whole_volume_again_and_again_is_read_once() {
    let bench = Bench::new(24 << 20);
    bench.format("mkfs.ntfs", &["-Q", "-F", "-q"]);
    bench.fill_ntfs(|point| write_tree(point, &many_files()));
    let drive = bench.source(512);
    let geometry = registry::boot_sector(drive.as_ref(), ByteOffset(0)).unwrap();
    let Geometry::Ntfs(ntfs) = geometry else { panic!("NTFS") };
    let at = ntfs.cluster_at(ntfs.mft_lcn).0;
    let mut record = bytes(&drive, at, 1024);
    // $DATA of record 0: its mapping pairs become forty runs over all clusters, each from the same place.
    let data = place_in(&record, 0x80);
    let clusters = (ntfs.clusters() as u32 - 8).to_le_bytes();
    let pairs = data + usize::from(u16::from_le_bytes([record[data + 32], record[data + 33]]));
    let mut runs = Vec::new();
    let room = 510 - pairs.min(500);
    for index in 0..40 {
        let run = [&[0x13u8][..], &clusters[..3], &[u8::from(index == 0) * 4]].concat();
        if runs.len() + run.len() + 1 < room {
            runs.extend(run);
        }
    }
    runs.push(0);
    record[pairs..pairs + runs.len()].copy_from_slice(&runs);
    for field in [40, 48, 56] {
        record[data + field..data + field + 8].copy_from_slice(&(1u64 << 40).to_le_bytes());
    }
    let mirror = ntfs.cluster_at(ntfs.mirror_lcn).0;
    let view = with(&drive, &[(at, record.clone()), (mirror, record)]);
    let Geometry::Ntfs(ntfs) = geometry else { panic!("NTFS") };
    let map = keel_format::ntfs::MftMap::read(&view, &ntfs).unwrap();
    assert!(map.records <= view.len() / 1024, "{} records", map.records);
    everything(geometry.open(view).unwrap().as_ref());
}

/// Where the attribute `type_code` begins in a file record.
fn place_in(record: &[u8], type_code: u32) -> usize {
    let mut at = usize::from(u16::from_le_bytes([record[20], record[21]]));
    while u32::from_le_bytes(record[at..at + 4].try_into().unwrap()) != type_code {
        at += u32::from_le_bytes(record[at + 4..at + 8].try_into().unwrap()) as usize;
    }
    at
}

#[test]
fn a_unit_of_compression_of_half_a_gigabyte_is_refused() {
    let bench = Bench::new(24 << 20);
    bench.format("mkfs.ntfs", &["-Q", "-F", "-q", "-c", "65536"]);
    bench.fill_ntfs(|point| std::fs::write(point.join("plain.bin"), vec![7; 300_000]).unwrap());
    let drive = bench.source(512);
    let (geometry, _) = bench.open(512);
    let name: Vec<u8> = "plain.bin".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let records = place_of(&drive, 1024, &|piece| piece.starts_with(b"FILE") && piece.windows(name.len()).any(|own| own == name));
    let mut edits = Vec::new();
    for at in records {
        let mut record = bytes(&drive, at, 1024);
        if u16::from_le_bytes([record[22], record[23]]) & 2 == 0 {
            let data = place_in(&record, 0x80);
            // flags: compressed; compression_unit: 2^8 clusters of 64 KiB.
            record[data + 12] = 1;
            record[data + 34] = 8;
            edits.push((at, record));
        }
    }
    assert_eq!(edits.len(), 1);
    let volume = geometry.open(with(&drive, &edits)).unwrap();
    let mut opened = None;
    volume
        .walk(Deleted::Hide, &mut |found| {
            opened = (found.entry.name == "plain.bin").then(|| volume.open(found.entry.id, "").err()).or(opened.take());
            ControlFlow::Continue(())
        })
        .unwrap();
    assert!(opened.flatten().unwrap().to_string().contains("compression_unit"));
}

#[test]
fn a_deep_tree_of_long_names_costs_no_more_than_its_records() {
    let bench = Bench::new(32 << 20);
    bench.format("mkfs.ntfs", &["-Q", "-F", "-q"]);
    bench.fill_ntfs(|point| {
        let mut folder = point.to_path_buf();
        // Longer paths than a system call takes are made step by step.
        std::fs::create_dir(folder.join("deep")).unwrap();
        folder.push("deep");
        for level in 0..15 {
            folder.push(format!("{level:03}{}", "n".repeat(200)));
            std::fs::create_dir(&folder).unwrap();
            for side in 0..20 {
                std::fs::create_dir(folder.join(format!("{side}"))).unwrap();
            }
        }
    });
    let (_, volume) = bench.open(512);
    let mut longest = 0;
    volume
        .walk(Deleted::Hide, &mut |found| {
            longest = longest.max(found.path().len());
            ControlFlow::Continue(())
        })
        .unwrap();
    assert!(longest > 15 * 200, "{longest}");
    everything(volume.as_ref());
}

#[test]
fn an_exfat_folder_without_chain_and_without_end_is_read_no_further_than_a_folder_may_be_long() {
    let bench = Bench::new(32 << 20);
    bench.format_with_sectors(512, "mkfs.exfat", &["-c", "4096"]);
    bench.fill(&["mount.exfat-fuse", "-o", "rw"], |point| write_tree(point, &many_files()));
    let drive = bench.source(512);
    let geometry = registry::boot_sector(drive.as_ref(), ByteOffset(0)).unwrap();
    let mut edits = Vec::new();
    for at in place_of(&drive, 32, &|piece| piece[0] == 0xC0) {
        let mut stream = bytes(&drive, at, 32);
        // NoFatChain, from cluster 2 to the end of the largest volume there can be.
        stream[1] |= 2;
        stream[20..24].copy_from_slice(&2u32.to_le_bytes());
        stream[24..32].copy_from_slice(&(u64::MAX >> 1).to_le_bytes());
        edits.push((at, stream));
    }
    assert!(edits.len() > 50);
    everything(geometry.open(with(&drive, &edits)).unwrap().as_ref());
}

#[test]
fn leaves_of_a_catalog_that_lead_in_a_circle_are_told() {
    let image = tempfile::NamedTempFile::new().unwrap();
    let packed = std::fs::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/skipper-archive.pack")).unwrap();
    keel_source::pack::unpack(&mut packed.as_slice(), image.path()).unwrap();
    let drive: SharedSource = Arc::new(keel_source::FileSource::open(image.path(), keel_source::SectorSize(512)).unwrap());
    let start = ByteOffset(40 * 512);
    let geometry = registry::boot_sector(drive.as_ref(), start).expect("the archive's volume");
    let Geometry::HfsPlus(hfs) = &geometry else { panic!("HFS+") };
    let window: SharedSource = Arc::new(keel_source::Window::new(Arc::clone(&drive), ByteRange::sized(start, geometry.bytes())));
    let catalog = hfs.block_at(hfs.catalog.extents[0].0).unwrap().0;
    let size = usize::from(u16::from_be_bytes(bytes(&window, catalog + 32, 2).try_into().unwrap()));
    let first = u32::from_be_bytes(bytes(&window, catalog + 14 + 10, 4).try_into().unwrap());
    let leaf = catalog + u64::from(first) * size as u64;
    let next = u32::from_be_bytes(bytes(&window, leaf, 4).try_into().unwrap());
    // The second leaf leads back to the first, and the header claims four thousand million nodes.
    let second = catalog + u64::from(next) * size as u64;
    let edits = [(second, first.to_be_bytes().to_vec()), (catalog + 14 + 22, u32::MAX.to_be_bytes().to_vec())];
    let volume = geometry.open(with(&window, &edits)).unwrap();
    let said = everything(volume.as_ref());
    assert!(said.contains("fLink does not end"), "{said}");
}

#[test]
fn a_call_is_stopped_at_its_next_step_and_says_so() {
    let (bench, _) = ext(&[]);
    let drive = bench.source(512);
    let geometry = registry::boot_sector(drive.as_ref(), ByteOffset(0)).unwrap();
    let cancel = Cancel::default();
    let volume = geometry.open_until(drive, &cancel).unwrap();
    let mut seen = 0;
    let findings = volume
        .walk(Deleted::Hide, &mut |_| {
            seen += 1;
            cancel.cancel();
            ControlFlow::Continue(())
        })
        .unwrap();
    assert_eq!(seen, 1);
    assert!(findings.iter().any(|finding| finding.what.contains("not read to its end")), "{findings:?}");
    // Nothing is broken because it was not looked at, and nothing is mended.
    assert!(volume.examine().iter().all(|finding| finding.severity == keel_format::Severity::Note));
    assert!(check::check(volume.as_ref()).iter().all(|rule| rule.mending.is_none()));
    assert!(volume.allocation().is_none() && volume.claims(&mut |_, _| {}).is_err());
}

#[test]
fn a_fat_that_is_rewritten_is_a_few_changes_and_not_one_for_each_sector() {
    let bench = Bench::new(300 << 20);
    bench.format("mkfs.vfat", &["-F", "32", "-s", "1"]);
    let drive = bench.source(512);
    let geometry = registry::boot_sector(drive.as_ref(), ByteOffset(0)).unwrap();
    let Geometry::Fat(fat) = &geometry else { panic!("FAT") };
    // The second copy is full of what cannot be links.
    let garbage: Vec<u8> = noise(9, fat.fat_bytes() as usize).iter().map(|byte| byte | 0x80).collect();
    let view = with(&drive, &[(fat.fat_at(1).0, garbage)]);
    let volume = geometry.open(Arc::clone(&view)).unwrap();
    let rules = check::check(volume.as_ref());
    let copies = rules.iter().find(|rule| rule.rule == "FAT copies").unwrap();
    let repairs = &copies.mending.as_ref().expect("the first copy is right").repairs;
    let written: usize = repairs.iter().map(|repair| repair.bytes.len()).sum();
    assert!(written > 2 << 20 && repairs.len() < 60, "{} repairs of {written} bytes", repairs.len());
    assert!(repairs.iter().all(|repair| repair.bytes.len() <= 1 << 20));
}

#[test]
fn memory_and_work_of_a_source_that_is_all_one_structure_stay_bounded() {
    // A surface of nothing but boot sectors, superblocks, records: each says it is a volume.
    let (bench, drive) = ext(&["-O", "^metadata_csum"]);
    let superblock = bytes(&drive, 1024, 1024);
    drop(bench);
    let ntfs = Bench::new(24 << 20);
    ntfs.format("mkfs.ntfs", &["-Q", "-F", "-q"]);
    let boot = bytes(&ntfs.source(512), 0, 512);
    let fat = Bench::new(40 << 20);
    fat.format("mkfs.vfat", &["-F", "32"]);
    let fat_boot = bytes(&fat.source(512), 0, 512);
    for sector in [superblock, boot, fat_boot] {
        let surface = sector.repeat((8 << 20) / sector.len());
        let drive: SharedSource = Arc::new(MemorySource::new("all one", surface, 512));
        let began = Instant::now();
        let mut clues = crate::support::surface(&drive);
        assert!(clues.leads() > 4000, "{}", clues.leads());
        clues.thin_leads();
        assert!((1..=4096).contains(&clues.leads()), "{}", clues.leads());
        for format in registry::FORMATS {
            let found = (format.infer)(&drive, &clues);
            assert!(found.len() <= 1024 + 16, "{}", found.len());
        }
        assert!(began.elapsed() < LONGEST, "{:?}", began.elapsed());
    }
}
