//! The Apple partition map: read as a table, not written.

pub mod layout;
mod read;

pub use read::{ApmReading, read};

use crate::VolumeKind;

/// Types of a map that are known by name.
const TYPES: [&str; 7] =
    ["Apple_HFS", "Apple_HFSX", "Apple_APFS", "Apple_partition_map", "Apple_Free", "Apple_UNIX_SVR2", "DOS_FAT_32"];
/// Every other type.
const OTHER: &str = "other type";

/// The known name of a type as it is stored; `other type` for every other.
#[must_use]
pub fn known_type(stored: &[u8]) -> &'static str {
    let end = stored.iter().position(|byte| *byte == 0).unwrap_or(stored.len());
    let stored = stored.get(..end).unwrap_or_default();
    TYPES.into_iter().find(|name| name.as_bytes() == stored).unwrap_or(OTHER)
}

/// The customary type for a kind.
#[must_use]
pub fn type_for(kind: VolumeKind) -> &'static str {
    kind.facts().apm.first().copied().unwrap_or(OTHER)
}

/// True when a volume of `kind` is looked for behind the type.
#[must_use]
pub fn fits(name: &str, kind: VolumeKind) -> bool {
    name == OTHER || kind.facts().apm.contains(&name)
}
