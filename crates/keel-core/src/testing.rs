//! What the tests of this crate share.

use keel_format::ntfs::NtfsGeometry;
use keel_format::{Geometry, VolumeKind};
use keel_source::{ByteOffset, Lba, SectorCount};

use crate::find::{Find, Grade};

/// A strong NTFS find of these bytes.
pub(crate) fn find(id: usize, start: u64, bytes: u64, score: i32) -> Find {
    let geometry = NtfsGeometry {
        bytes_per_sector: 512,
        cluster_bytes: 4096,
        mft_lcn: 4,
        mirror_lcn: 8,
        record_bytes: 1024,
        index_bytes: 4096,
        total_sectors: bytes / 512 - 1,
        serial: 1,
    };
    Find {
        id: format!("n{id}"),
        kind: VolumeKind::Ntfs,
        start_byte: ByteOffset(start),
        bytes,
        start_lba: Lba(start / 512),
        sectors: SectorCount(bytes / 512),
        label: None,
        grade: Grade::Strong,
        score,
        witnesses: Vec::new(),
        inside: None,
        inside_file: None,
        older_than: None,
        behind: None,
        newest: None,
        geometry: Geometry::Ntfs(geometry),
    }
}
