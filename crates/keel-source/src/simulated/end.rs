//! Where a simulated drive's addresses end: kept beside its description, since it is told, and holds to it, across many openings.

use std::fs;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::{EndOrder, Lasts};

/// What it was told; nothing where it was not.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Told {
    /// Bytes that it shows until its power is cut.
    #[serde(skip_serializing_if = "Option::is_none")]
    passing_bytes: Option<u64>,
    /// Bytes that it shows from then on.
    #[serde(skip_serializing_if = "Option::is_none")]
    lasting_bytes: Option<u64>,
}

/// The file beside the description at `path`.
fn beside(path: &Path) -> PathBuf {
    path.with_extension("end")
}

impl Told {
    /// What the drive described at `path` was told.
    pub(super) fn read(path: &Path) -> Self {
        fs::read_to_string(beside(path)).ok().and_then(|text| toml::from_str(&text).ok()).unwrap_or_default()
    }

    /// Bytes that it shows, where it shows `claimed` untold.
    pub(super) fn shown(self, claimed: u64) -> u64 {
        self.passing_bytes.or(self.lasting_bytes).unwrap_or(claimed)
    }

    fn write(self, path: &Path) -> std::io::Result<()> {
        match self == Self::default() {
            true => fs::remove_file(beside(path)),
            false => fs::write(beside(path), toml::to_string(&self).map_err(std::io::Error::other)?),
        }
    }

    /// Tells the drive described at `path`.
    pub(super) fn take(path: &Path, order: EndOrder) -> std::io::Result<()> {
        let told = match order.lasts {
            Lasts::UntilPowerIsCut => Self { passing_bytes: Some(order.bytes), ..Self::read(path) },
            Lasts::ForGood => Self { passing_bytes: None, lasting_bytes: Some(order.bytes) },
        };
        told.write(path)
    }

    /// Cuts the power of the drive described at `path`; true where it forgot something by it.
    pub(super) fn cut_power(path: &Path) -> std::io::Result<bool> {
        let told = Self::read(path);
        if told.passing_bytes.is_none() {
            return Ok(false);
        }
        Self { passing_bytes: None, ..told }.write(path).map(|()| true)
    }
}
