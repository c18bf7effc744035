//! Recipes: the trade's usual ways, as steps.

use std::collections::BTreeMap;

use keel_format::VolumeKind;
use keel_format::table::Scheme;
use keel_source::SectorSize;
use serde::{Deserialize, Serialize};

use super::asked::of_line;
use super::step::{NewTable, Step, StepWrong, Wish};

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

/// A way of a technician's own, as the settings keep it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct OwnRecipe {
    /// What it is for, as a sentence.
    pub says: String,
    /// Its steps, as they are typed: `new gpt`, `add exfat,size=60%,label=QUAY`.
    pub steps: Vec<String>,
    /// True where signatures of former volumes are cleared.
    pub clears: bool,
}

/// A way that was chosen: its steps, each as it would be typed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Way {
    /// Its steps.
    pub steps: Vec<(String, Step)>,
    /// True where signatures of former volumes are cleared.
    pub clears: bool,
}

impl Way {
    /// The way that `text` (`NAME` or `NAME=LABEL`) names: one of the technician's `own` first, then a usual one. `None` where there is none.
    ///
    /// # Errors
    /// [`StepWrong`] for a step of an own way that is none.
    pub fn named(
        text: &str,
        own: &BTreeMap<String, OwnRecipe>,
        bytes: u64,
        sector: SectorSize,
    ) -> Result<Option<Self>, StepWrong> {
        let (name, label) = text.trim().split_once('=').unwrap_or((text.trim(), ""));
        if let Some(recipe) = own.get(name) {
            let step = |line: &String| {
                let mut step = of_line(line, sector)?;
                if let Step::Add(wish) = &mut step
                    && !label.is_empty()
                {
                    wish.label = label.into();
                }
                Ok((line.clone(), step))
            };
            let steps = recipe.steps.iter().map(step).collect::<Result<_, StepWrong>>()?;
            return Ok(Some(Self { steps, clears: recipe.clears }));
        }
        Ok(Recipe::named(name).map(|recipe| {
            let typed = |step: Step| (step.text(), step);
            Self { steps: recipe.steps(bytes, label).into_iter().map(typed).collect(), clears: recipe.clears }
        }))
    }

    /// The names of all ways and what they are for.
    #[must_use]
    pub fn all(own: &BTreeMap<String, OwnRecipe>) -> Vec<(String, String)> {
        let own = own.iter().map(|(name, recipe)| (name.clone(), recipe.says.clone()));
        own.chain(RECIPES.iter().map(|recipe| (recipe.name.into(), recipe.says.into()))).collect()
    }
}

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
        let own = |steps: &[&str]| {
            let recipe =
                OwnRecipe { says: "for the ferry".into(), steps: steps.iter().map(ToString::to_string).collect(), clears: true };
            BTreeMap::from([("ferry".to_string(), recipe)])
        };
        let way = |text: &str, steps: &[&str]| Way::named(text, &own(steps), 64 << 30, SectorSize(512));
        let taken = way("ferry=QUAY", &["new gpt", "add exfat,size=60%", "add ext4"]).unwrap().unwrap();
        assert!(taken.clears && taken.steps.len() == 3);
        assert!(matches!(&taken.steps[1].1, Step::Add(wish) if wish.kind == VolumeKind::ExFat && wish.label == "QUAY"));
        assert!(way("ferry", &["sink it"]).is_err() && way("hammer", &[]).unwrap().is_none());
        let usual = way("camera", &[]).unwrap().unwrap();
        assert_eq!(usual.steps[0].0, "new mbr");
        assert!(Way::all(&own(&[])).iter().any(|(name, says)| name == "ferry" && says == "for the ferry"));
        let mut names: Vec<&str> = RECIPES.iter().map(|recipe| recipe.name).collect();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), RECIPES.len());
    }
}
