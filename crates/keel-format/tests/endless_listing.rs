//! Ten million entries are listed one after the other, in bounded memory: in a program of its own, whose memory is nobody else's.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::ops::ControlFlow;
use std::sync::Arc;

use keel_format::{Deleted, registry};
use keel_source::{ByteOffset, ByteRange, Identity, LinkKind, ReadCause, ReadError, SharedSource, Source};

const SECTOR: u64 = 512;
const CLUSTER: u64 = 64 * SECTOR;
const FOLDERS: u64 = 200;
const FILES: u64 = 50_000;
/// Clusters of one folder.
const LONG: u64 = (FILES * 32).div_ceil(CLUSTER);
const CLUSTERS: u64 = 1 + FOLDERS * LONG + 100_000;
const RESERVED: u64 = 32;
const FAT_SECTORS: u64 = ((CLUSTERS + 2) * 4).div_ceil(SECTOR);
const DATA: u64 = (RESERVED + 2 * FAT_SECTORS) * SECTOR;
/// Peak memory that the listing may add, in KiB.
const ALLOWANCE: u64 = 64 << 10;

/// A FAT32 of [`FOLDERS`] folders of [`FILES`] files each, whose bytes are computed when they are read.
struct Endless(Identity);

impl Endless {
    fn new() -> Self {
        Self(Identity::bare("endless", DATA + CLUSTERS * CLUSTER, LinkKind::Derived))
    }

    fn boot() -> [u8; 512] {
        let mut boot = [0; 512];
        let total = u32::try_from(RESERVED + 2 * FAT_SECTORS + CLUSTERS * CLUSTER / SECTOR).unwrap();
        let fields: [(usize, &[u8]); 11] = [
            (0, &[0xEB, 0x58, 0x90]),
            (11, &512u16.to_le_bytes()),
            (13, &[64]),
            (14, &u16::try_from(RESERVED).unwrap().to_le_bytes()),
            (16, &[2]),
            (21, &[0xF8]),
            (32, &total.to_le_bytes()),
            (36, &u32::try_from(FAT_SECTORS).unwrap().to_le_bytes()),
            (44, &2u32.to_le_bytes()),
            (66, &[0x29]),
            (510, &[0x55, 0xAA]),
        ];
        for (at, bytes) in fields {
            boot[at..at + bytes.len()].copy_from_slice(bytes);
        }
        boot
    }

    /// The FAT's word for `cluster`: the root alone, then each folder's clusters one behind the other.
    fn link(cluster: u64) -> u32 {
        match cluster {
            0 => 0x0FFF_FFF8,
            1 | 2 => 0x0FFF_FFFF,
            _ if cluster >= 3 + FOLDERS * LONG => 0,
            _ if (cluster - 3) % LONG == LONG - 1 => 0x0FFF_FFFF,
            _ => u32::try_from(cluster + 1).unwrap(),
        }
    }

    fn entry(name: &str, attr: u8, first: u64) -> [u8; 32] {
        let mut entry = [0; 32];
        entry[..11].copy_from_slice(name.as_bytes());
        entry[11] = attr;
        entry[20..22].copy_from_slice(&u16::try_from(first >> 16).unwrap().to_le_bytes());
        entry[26..28].copy_from_slice(&u16::try_from(first & 0xFFFF).unwrap().to_le_bytes());
        entry
    }

    /// 32 bytes of the data area.
    fn piece(number: u64) -> [u8; 32] {
        let per = CLUSTER / 32;
        let (cluster, inside) = (number / per, number % per);
        if cluster == 0 {
            return if inside < FOLDERS { Self::entry(&format!("D{inside:07}   "), 0x10, 3 + inside * LONG) } else { [0; 32] };
        }
        let index = (cluster - 1) % LONG * per + inside;
        match cluster - 1 < FOLDERS * LONG && index < FILES {
            true => Self::entry(&format!("V{index:07}TXT"), 0x20, 0),
            false => [0; 32],
        }
    }

    fn sector(at: u64) -> [u8; 512] {
        let mut bytes = [0; 512];
        let fats = RESERVED * SECTOR..DATA;
        if at == 0 || at == 6 * SECTOR {
            return Self::boot();
        } else if fats.contains(&at) {
            let first = (at - fats.start) % (FAT_SECTORS * SECTOR) / 4;
            for (index, word) in bytes.chunks_exact_mut(4).enumerate() {
                word.copy_from_slice(&Self::link(first + index as u64).to_le_bytes());
            }
        } else if at >= DATA {
            for (index, entry) in bytes.chunks_exact_mut(32).enumerate() {
                entry.copy_from_slice(&Self::piece((at - DATA) / 32 + index as u64));
            }
        }
        bytes
    }
}

impl Source for Endless {
    fn identity(&self) -> &Identity {
        &self.0
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        let end = at.0 + buf.len() as u64;
        if end > self.len() {
            let bad = vec![ByteRange::sized(at, buf.len() as u64)];
            return Err(ReadError { bad, reason: "behind the end".into(), cause: ReadCause::PastEnd });
        }
        for sector in at.0 / SECTOR..end.div_ceil(SECTOR) {
            let bytes = Self::sector(sector * SECTOR);
            let (from, to) = ((sector * SECTOR).max(at.0), ((sector + 1) * SECTOR).min(end));
            let piece = &bytes[(from - sector * SECTOR) as usize..(to - sector * SECTOR) as usize];
            buf[(from - at.0) as usize..(to - at.0) as usize].copy_from_slice(piece);
        }
        Ok(())
    }
}

/// Peak memory of this process, in KiB.
fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
    line.trim().trim_end_matches(" kB").parse().unwrap()
}

#[test]
fn ten_million_entries_stream_in_bounded_memory() {
    let source: SharedSource = Arc::new(Endless::new());
    let geometry = registry::boot_sector(source.as_ref(), ByteOffset(0)).unwrap();
    let volume = geometry.open(source).unwrap();
    let before = peak();
    let (mut folders, mut files) = (0u64, 0u64);
    let findings = volume
        .walk(Deleted::Hide, &mut |found| {
            match found.folder {
                "" => folders += 1,
                _ => files += 1,
            }
            ControlFlow::Continue(())
        })
        .unwrap();
    assert_eq!((findings, folders, files), (vec![], FOLDERS, FOLDERS * FILES));
    let grown = peak() - before;
    assert!(grown < ALLOWANCE, "{grown} KiB");
}
