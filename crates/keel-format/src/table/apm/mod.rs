//! The Apple partition map: read as a table, not written.

pub mod layout;
mod read;

pub use read::{ApmReading, read};

use crate::VolumeKind;

/// Types of a map, and the kinds that stand behind them.
const TYPES: [(&str, &[VolumeKind]); 7] = [
    ("Apple_HFS", &[VolumeKind::HfsPlus, VolumeKind::Hfsx]),
    ("Apple_HFSX", &[VolumeKind::Hfsx]),
    ("Apple_APFS", &[VolumeKind::Apfs]),
    ("Apple_partition_map", &[]),
    ("Apple_Free", &[]),
    ("Apple_UNIX_SVR2", &[VolumeKind::Ext2, VolumeKind::Ext3, VolumeKind::Ext4]),
    ("DOS_FAT_32", &[VolumeKind::Fat32]),
];

/// The known name of a type as it is stored; `other type` for every other.
#[must_use]
pub fn known_type(stored: &[u8]) -> &'static str {
    let end = stored.iter().position(|byte| *byte == 0).unwrap_or(stored.len());
    let stored = stored.get(..end).unwrap_or_default();
    TYPES.iter().map(|(name, _)| *name).find(|name| name.as_bytes() == stored).unwrap_or("other type")
}

/// The customary type for a kind.
#[must_use]
pub fn type_for(kind: VolumeKind) -> &'static str {
    TYPES.iter().find(|(_, kinds)| kinds.contains(&kind)).map_or("other type", |(name, _)| *name)
}

/// True when a volume of `kind` is looked for behind the type.
#[must_use]
pub fn fits(name: &str, kind: VolumeKind) -> bool {
    name == "other type" || TYPES.iter().any(|(other, kinds)| *other == name && kinds.contains(&kind))
}
