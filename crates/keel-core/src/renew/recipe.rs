//! Recipes: the trade's usual ways, as steps.

use keel_format::VolumeKind;
use keel_format::table::Scheme;

use super::step::{NewTable, Step, Wish};

/// Bytes up to which cards and sticks have FAT32, by the standard of cards.
const SMALL_CARD: u64 = 32 << 30;
/// Bytes that an MBR reaches with sectors of 512 bytes.
const MBR_REACH: u64 = 2 << 40;

/// A usual way.
#[derive(Debug, Clone, Copy)]
pub struct Recipe {
    /// The word by which it is chosen.
    pub name: &'static str,
    /// What it is for, as a sentence.
    pub says: &'static str,
    /// True where signatures of former volumes are cleared.
    pub clears: bool,
    kinds: fn(u64) -> (Option<Scheme>, Option<VolumeKind>),
}

fn table_of_stick(bytes: u64) -> Option<Scheme> {
    Some(if bytes > MBR_REACH { Scheme::Gpt } else { Scheme::Mbr })
}

/// All of them.
pub const RECIPES: &[Recipe] = &[
    Recipe {
        name: "stick",
        says: "a stick for every computer: one volume that each reads and writes",
        clears: true,
        kinds: |bytes| (table_of_stick(bytes), Some(if bytes <= SMALL_CARD { VolumeKind::Fat32 } else { VolumeKind::ExFat })),
    },
    Recipe {
        name: "disk-windows",
        says: "a disk for Windows alone: a GPT and one NTFS",
        clears: true,
        kinds: |_| (Some(Scheme::Gpt), Some(VolumeKind::Ntfs)),
    },
    Recipe {
        name: "disk-linux",
        says: "a disk for Linux alone: a GPT and one ext4",
        clears: true,
        kinds: |_| (Some(Scheme::Gpt), Some(VolumeKind::Ext4)),
    },
    Recipe {
        name: "disk-macos",
        says: "a disk for macOS alone: a GPT and one HFS+ with a journal",
        clears: true,
        kinds: |_| (Some(Scheme::Gpt), Some(VolumeKind::HfsPlus)),
    },
    Recipe {
        name: "archive",
        says: "an archive that two systems write: a GPT and one exFAT",
        clears: true,
        kinds: |_| (Some(Scheme::Gpt), Some(VolumeKind::ExFat)),
    },
    Recipe {
        name: "camera",
        says: "a card for a camera, as the standard of cards wants it: an MBR and FAT32 up to 32 GB, exFAT above",
        clears: true,
        kinds: |bytes| (table_of_stick(bytes), Some(if bytes <= SMALL_CARD { VolumeKind::Fat32 } else { VolumeKind::ExFat })),
    },
    Recipe {
        name: "anew",
        says: "starting anew where everything failed: former signatures cleared, and a GPT without entries",
        clears: true,
        kinds: |_| (Some(Scheme::Gpt), None),
    },
];

impl Recipe {
    /// The recipe of this name.
    #[must_use]
    pub fn named(name: &str) -> Option<&'static Self> {
        RECIPES.iter().find(|recipe| recipe.name == name)
    }

    /// Its steps for a drive of so many bytes, the volume with this label.
    #[must_use]
    pub fn steps(&self, bytes: u64, label: &str) -> Vec<Step> {
        let (scheme, kind) = (self.kinds)(bytes);
        let table = Step::Table(scheme.map_or(NewTable::None, NewTable::Of));
        let add = kind.map(|kind| Step::Add(Wish { label: label.into(), ..Wish::plain(kind) }));
        std::iter::once(table).chain(add).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn recipes_go_by_the_length_of_the_drive() {
        let kind = |name: &str, bytes: u64| {
            let steps = Recipe::named(name).unwrap().steps(bytes, "QUAY");
            let made = steps.iter().find_map(|step| match step {
                Step::Add(wish) => Some(wish.kind),
                _ => None,
            });
            (steps.first().cloned(), made)
        };
        let of = |scheme| Some(Step::Table(NewTable::Of(scheme)));
        assert_eq!(kind("stick", 8 << 30), (of(Scheme::Mbr), Some(VolumeKind::Fat32)));
        assert_eq!(kind("stick", 64 << 30), (of(Scheme::Mbr), Some(VolumeKind::ExFat)));
        assert_eq!(kind("stick", 3 << 40), (of(Scheme::Gpt), Some(VolumeKind::ExFat)));
        assert_eq!(kind("camera", 32 << 30), (of(Scheme::Mbr), Some(VolumeKind::Fat32)));
        assert_eq!(kind("anew", 1 << 40), (of(Scheme::Gpt), None));
        assert!(Recipe::named("hammer").is_none());
        let mut names: Vec<&str> = RECIPES.iter().map(|recipe| recipe.name).collect();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), RECIPES.len());
    }
}
