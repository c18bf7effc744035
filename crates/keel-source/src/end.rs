//! Where the addresses of a drive end: it may have been told to show less than it has.

use serde::{Deserialize, Serialize};

/// The means by which a drive was told where its addresses end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum EndMeans {
    /// The host protected area (ATA8-ACS, 4.11): `SET MAX ADDRESS (EXT)`.
    HostProtected,
    /// The accessible max address configuration (ACS-4, 4.6): `SET ACCESSIBLE MAX ADDRESS EXT`.
    AccessibleMax,
    /// The device configuration overlay (ATA8-ACS, 4.9): `DEVICE CONFIGURATION SET`.
    DeviceConfiguration,
}

impl EndMeans {
    /// The word shown: the standard's.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::HostProtected => "host protected area",
            Self::AccessibleMax => "accessible max address",
            Self::DeviceConfiguration => "device configuration overlay",
        }
    }

    /// True where the drive can be told to forget it when its power is cut: of the others it remembers whatever it is told.
    #[must_use]
    pub fn can_pass(self) -> bool {
        self == Self::HostProtected
    }
}

/// How long a drive holds to what it was told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Lasts {
    /// Until its power is cut, or it is reset.
    UntilPowerIsCut,
    /// Until it is told otherwise.
    ForGood,
}

/// An end that a drive could have, and does not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct FurtherEnd {
    /// Bytes that it would show.
    pub bytes: u64,
    /// By which means it shows less.
    pub means: EndMeans,
}

/// What a drive shall be told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct EndOrder {
    /// Bytes that it shall show: whole logical sectors.
    pub bytes: u64,
    /// By which means.
    pub means: EndMeans,
    /// For how long.
    pub lasts: Lasts,
}
