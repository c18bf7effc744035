//! The rules of exFAT beside the bitmap: the set marks, and names that can be looked up.

use std::ops::ControlFlow;

use keel_source::ByteOffset;

use super::ExFatVolume;
use super::layout::{MEDIA_FAILURE, VOLUME_DIRTY};
use crate::check::{Allocation, BitOrder, Checked, Mending};
use crate::device::hold;
use crate::{Finding, NodeId, NodeKind, Repair, Severity, Volume, read_bytes};

/// The most findings that one rule reports.
const MOST_FINDINGS: usize = 50;
/// Where `VolumeFlags` stands.
const FLAGS_AT: u64 = 106;

pub(super) fn rules(volume: &ExFatVolume) -> Vec<Checked> {
    vec![marks(volume), names(volume)]
}

/// The flags by which a system marks the volume as in use, or as one that had errors. They are not in the checksum.
fn marks(volume: &ExFatVolume) -> Checked {
    const RULE: (&str, &str) = ("volume flags", "the volume was cleanly unmounted, without read errors");
    let Ok(bytes) = read_bytes(volume.source().as_ref(), ByteOffset(FLAGS_AT), 2, "VolumeFlags") else {
        return Checked::new(RULE.0, RULE.1, Vec::new());
    };
    let flags = bytes.first_chunk::<2>().map_or(0, |flags| u16::from_le_bytes(*flags));
    let set = flags & (VOLUME_DIRTY | MEDIA_FAILURE);
    if set == 0 {
        return Checked::new(RULE.0, RULE.1, Vec::new());
    }
    let what = match set & MEDIA_FAILURE {
        0 => "VolumeDirty is set",
        _ => "MediaFailure is set: a system met unreadable places",
    };
    let finding = Finding::at(Severity::Note, ByteOffset(FLAGS_AT), what, format!("VolumeFlags is 0x{flags:04x}"));
    let cleared = (flags & !(VOLUME_DIRTY | MEDIA_FAILURE)).to_le_bytes().to_vec();
    let repair = Repair::computed("VolumeFlags", ByteOffset(FLAGS_AT), cleared, "the marks of an unclean unmount are cleared");
    Checked::new(RULE.0, RULE.1, vec![finding]).mended_by(Some(Mending::safe("the marks are cleared", vec![repair])))
}

/// Checksums of directory entry sets, and hashes by which names are looked up.
fn names(volume: &ExFatVolume) -> Checked {
    let mut folders = vec![(NodeId(0), String::new())];
    let _ = volume.walk(crate::Deleted::Hide, &mut |found| {
        if found.entry.kind == NodeKind::Directory {
            let path = format!("{}/{}", found.folder, found.entry.name);
            if hold(volume.source().as_ref(), ByteOffset(0), "folder", path.len() as u64).is_err() {
                return ControlFlow::Break(());
            }
            folders.push((found.entry.id, path));
        }
        ControlFlow::Continue(())
    });
    let mut findings = Vec::new();
    for (folder, path) in folders {
        let _ = volume.sets(folder, &mut |set| {
            let hash = volume.upcase().map(|table| table.name_hash(&set.units));
            let wrong_hash = hash.is_some_and(|hash| hash != set.stream.name_hash.get());
            if !set.deleted && (wrong_hash || !set.checksum_holds) && findings.len() < MOST_FINDINGS {
                let field = if wrong_hash { "NameHash" } else { "SetChecksum" };
                let name = keel_source::printable(&format!("{path}/{}", set.entry().name));
                let what = format!("{field} of {name} does not hold: it cannot be opened by name");
                findings.push(Finding::at(Severity::Doubt, set.stream_at, what, "computed over the set and its name"));
            }
            ControlFlow::Continue(())
        });
    }
    Checked::new("directory entry sets", "every set has its checksum, and every name its hash", findings)
}

/// The allocation bitmap.
pub(super) fn allocation(volume: &ExFatVolume) -> Option<Allocation> {
    let geometry = volume.geometry();
    let places = volume.bitmap_ground()?;
    Some(Allocation {
        unit: "cluster",
        unit_bytes: u64::from(geometry.cluster_bytes()),
        first_at: geometry.cluster_at(2)?,
        first_number: 2,
        units: u64::from(geometry.cluster_count),
        bits: volume.bitmap().ok()?,
        order: BitOrder::LowFirst,
        places,
        knows_all: true,
    })
}
