//! The rungs of the ladder, by name and state.

use serde::{Deserialize, Serialize};

/// The rungs, from the ground up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum RungName {
    /// 1: does it answer, stay, transfer without interface errors.
    Link,
    /// 2: its own health attributes.
    Health,
    /// 3: samples over the surface.
    Reads,
    /// 4: claimed against proven.
    Capacity,
    /// 5: MBR or GPT, both copies.
    Table,
    /// 6: does the table point at the volume.
    Entry,
    /// 7: main against copy against the volume itself.
    BootSector,
    /// 8: core metadata consistent.
    FileSystem,
    /// 9: sampled files match their types.
    Files,
}

impl RungName {
    /// All, from the ground up.
    pub const ALL: [Self; 9] = [
        Self::Link,
        Self::Health,
        Self::Reads,
        Self::Capacity,
        Self::Table,
        Self::Entry,
        Self::BootSector,
        Self::FileSystem,
        Self::Files,
    ];

    /// The number, from 1.
    #[must_use]
    pub fn number(self) -> u32 {
        self as u32 + 1
    }

    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Link => "Link",
            Self::Health => "Health",
            Self::Reads => "Reads",
            Self::Capacity => "Capacity",
            Self::Table => "Table",
            Self::Entry => "Entry",
            Self::BootSector => "Boot sector",
            Self::FileSystem => "File system",
            Self::Files => "Files",
        }
    }
}

/// The state of a rung.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RungState {
    /// Holds.
    Sound,
    /// Not examined.
    Untested,
    /// Something is not as it should be; it may still work.
    Doubtful,
    /// Does not hold.
    Broken,
}

impl RungState {
    /// A sign of its own shape for a row of rungs; it needs no colour.
    #[must_use]
    pub fn sign(self) -> char {
        match self {
            Self::Sound => '━',
            Self::Untested => '┄',
            Self::Doubtful => '╍',
            Self::Broken => '×',
        }
    }

    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Sound => "sound",
            Self::Untested => "untested",
            Self::Doubtful => "doubtful",
            Self::Broken => "broken",
        }
    }
}
