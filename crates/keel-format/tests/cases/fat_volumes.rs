//! FAT volumes made by the system's formatter.

use std::collections::BTreeMap;
use std::fs;
use std::process::Command;

use crate::support::{Bench, contents, deleted, many_files, run, write_tree};
use keel_format::VolumeKind;

/// Copies a folder tree into the image.
fn fill(bench: &Bench, files: &BTreeMap<String, Vec<u8>>) {
    let tree = bench.folder.path().join("tree");
    write_tree(&tree, files);
    let tops = fs::read_dir(&tree).unwrap().map(|entry| entry.unwrap().path());
    let mut command = Command::new("mcopy");
    command.env("MTOOLS_SKIP_CHECK", "1").env("LC_ALL", "C.UTF-8").arg("-s").arg("-i").arg(&bench.image).args(tops).arg("::");
    run(&mut command);
}

#[test]
fn every_kind_and_cluster_size_reads_as_written() {
    let sizes: [(u64, &str, &str, VolumeKind); 9] = [
        (8 << 20, "12", "4", VolumeKind::Fat12),
        (8 << 20, "12", "8", VolumeKind::Fat12),
        (16 << 20, "16", "1", VolumeKind::Fat16),
        (64 << 20, "16", "8", VolumeKind::Fat16),
        (256 << 20, "16", "64", VolumeKind::Fat16),
        (40 << 20, "32", "1", VolumeKind::Fat32),
        (300 << 20, "32", "8", VolumeKind::Fat32),
        (4 << 30, "32", "64", VolumeKind::Fat32),
        (5 << 30, "32", "128", VolumeKind::Fat32),
    ];
    for (bytes, bits, cluster, kind) in sizes {
        let bench = Bench::new(bytes);
        bench.format("mkfs.vfat", &["-F", bits, "-s", cluster, "-n", "MENUS"]);
        let files = many_files();
        fill(&bench, &files);
        let (geometry, volume) = bench.open(512);
        assert_eq!(geometry.kind(), kind, "FAT{bits}, {cluster} sectors a cluster");
        assert_eq!(volume.summary().label.as_deref(), Some("MENUS"));
        assert!(contents(volume.as_ref()) == files, "FAT{bits}, {cluster} sectors a cluster");
        assert_eq!(volume.examine(), [], "FAT{bits}, {cluster} sectors a cluster");
    }
}

#[test]
fn sectors_of_4096_bytes_read() {
    let bench = Bench::new(600 << 20);
    bench.format("mkfs.vfat", &["-F", "32", "-S", "4096", "-s", "1", "-n", "BIG"]);
    let (geometry, volume) = bench.open(4096);
    assert_eq!(geometry.kind(), VolumeKind::Fat32);
    assert_eq!((volume.summary().label.as_deref(), volume.summary().cluster_bytes), (Some("BIG"), 4096));
}

#[test]
fn deleted_entries_keep_their_long_names() {
    let bench = Bench::new(40 << 20);
    bench.format("mkfs.vfat", &["-F", "32", "-s", "1"]);
    fill(&bench, &many_files());
    run(Command::new("mdel")
        .env("MTOOLS_SKIP_CHECK", "1")
        .arg("-i")
        .arg(&bench.image)
        .arg("::Crossings/Week number 07 of the year.csv"));
    let (_, volume) = bench.open(512);
    assert_eq!(deleted(volume.as_ref()), ["Week number 07 of the year.csv"]);
    assert_eq!(contents(volume.as_ref()).len(), many_files().len() - 1);
}
