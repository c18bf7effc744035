//! The inner loops whose speed the whole depends on: looking at sectors, settling a layout, listing a tree.
#![allow(missing_docs, reason = "the bench macros make undocumented items")]

use std::hint::black_box;
use std::ops::ControlFlow;
use std::sync::Arc;

use criterion::{BatchSize, Criterion, Throughput, criterion_group, criterion_main};
use keel_core::layout::{Choices, settle};
use keel_core::sweep::{Find, Grade};
use keel_format::clue::Clues;
use keel_format::fat::FatGeometry;
use keel_format::ntfs::NtfsGeometry;
use keel_format::{Deleted, Geometry, VolumeKind, registry, table};
use keel_source::{ByteOffset, Lba, MemorySource, SectorCount, SharedSource};

const MIB: u64 = 1 << 20;
/// Files in the listed folder.
const MANY: u32 = 10_000;

/// Bytes without any structure, always the same.
fn noise(bytes: usize) -> Vec<u8> {
    let mut state = 0x9E37_79B9_7F4A_7C15_u64;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state
    };
    (0..bytes / 8).flat_map(|_| next().to_le_bytes()).collect()
}

fn surface(criterion: &mut Criterion) {
    let bytes = noise(64 << 20);
    let mut group = criterion.benchmark_group("surface");
    group.throughput(Throughput::Bytes(bytes.len() as u64)).sample_size(20);
    group.bench_function("look at 64 MiB of noise", |bencher| {
        bencher.iter_batched(
            Clues::default,
            |mut clues| {
                clues.look(ByteOffset(0), black_box(&bytes), bytes.len());
                clues
            },
            BatchSize::SmallInput,
        );
    });
    group.finish();
}

/// `count` finds on a drive of 1 GiB whose grounds overlap one another in many ways.
fn finds(count: u64) -> Vec<Find> {
    (0..count)
        .map(|number| {
            let start = MIB + number * 37 % 900 * MIB;
            let bytes = (1 + number * 13 % 41) * MIB;
            let geometry = NtfsGeometry {
                bytes_per_sector: 512,
                cluster_bytes: 4096,
                mft_lcn: 4,
                mirror_lcn: 8,
                record_bytes: 1024,
                index_bytes: 4096,
                total_sectors: bytes / 512 - 1,
                serial: number,
            };
            Find {
                id: format!("n{}", number + 1),
                kind: VolumeKind::Ntfs,
                start_byte: ByteOffset(start),
                bytes,
                start_lba: Lba(start / 512),
                sectors: SectorCount(bytes / 512),
                label: None,
                grade: Grade::Strong,
                score: 40 + i32::try_from(number % 60).unwrap_or(0),
                witnesses: Vec::new(),
                inside: None,
                inside_file: None,
                older_than: None,
                behind: None,
                newest: None,
                geometry: Geometry::Ntfs(geometry),
            }
        })
        .collect()
}

fn layout(criterion: &mut Criterion) {
    let drive: SharedSource = Arc::new(MemorySource::new("bench", vec![0; 1 << 30], 512));
    let table = table::read(drive.as_ref());
    let finds = finds(500);
    criterion.bench_function("settle a layout of 500 finds", |bencher| {
        bencher.iter(|| settle(&drive, &table, black_box(&finds), &Choices::default()));
    });
}

/// A FAT16 volume whose root holds nothing but [`MANY`] empty files.
fn one_long_root() -> Vec<u8> {
    let root_entries = MANY.next_multiple_of(16);
    let geometry = FatGeometry {
        kind: VolumeKind::Fat16,
        bytes_per_sector: 512,
        sectors_per_cluster: 4,
        reserved_sectors: 1,
        fats: 2,
        root_entries,
        total_sectors: 65_536,
        media: 0xF8,
        fat_sectors: 64,
        root_cluster: 0,
        fs_info: 0,
        backup: 0,
        serial: 1,
    };
    let mut bytes = keel_format::fat::make::boot_sector(&geometry, 0, b"BRACKWATER ");
    bytes.resize(129 * 512, 0);
    for number in 0..MANY {
        let mut entry = format!("F{number:07}TXT").into_bytes();
        entry.resize(32, 0);
        bytes.extend(entry);
    }
    bytes.resize(65_536 * 512, 0);
    bytes
}

fn listing(criterion: &mut Criterion) {
    let bytes = one_long_root();
    let drive: SharedSource = Arc::new(MemorySource::new("bench", bytes, 512));
    let Some(geometry) = registry::boot_sector(drive.as_ref(), ByteOffset(0)) else { return };
    let Ok(volume) = geometry.open(drive) else { return };
    let mut group = criterion.benchmark_group("listing");
    group.throughput(Throughput::Elements(u64::from(MANY)));
    group.bench_function("walk a FAT of 10,000 files", |bencher| {
        bencher.iter(|| {
            let mut count = 0usize;
            let _ = volume.walk(Deleted::Hide, &mut |entry| {
                count += usize::from(entry.entry.bytes == 0);
                ControlFlow::Continue(())
            });
            count
        });
    });
    group.finish();
}

criterion_group!(benches, surface, layout, listing);
criterion_main!(benches);
