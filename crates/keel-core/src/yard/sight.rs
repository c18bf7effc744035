//! What was seen of a drive when it was looked at last: a row of the yard says it, with its age, without opening the drive.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use keel_source::{Identity, SharedSource};
use serde::{Deserialize, Serialize};

use crate::CoreError;
use crate::advice::Swept;
use crate::case;
use crate::ladder::Ladder;
use crate::rung::{RungName, RungState};
use crate::whose::{self, Samples};

/// What was seen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sight {
    /// When, in UTC.
    pub at: String,
    /// The state of each rung, from the ground up; of volumes the worst one.
    pub rungs: Vec<RungState>,
    /// The lowest broken rung, in words; none where no rung is broken.
    pub lowest: Option<String>,
    /// The next step, in words.
    pub next: String,
    /// How far it was swept.
    pub swept: Swept,
    /// The share of the drive that this rests on, in percent.
    pub percent: u64,
    /// Volumes.
    pub volumes: usize,
    /// True when a plan was applied since it was opened.
    pub applied: bool,
    /// Where its copy goes, where one was begun.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copy: Option<PathBuf>,
}

/// What an opened drive is asked beside its ladder.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Work {
    /// How far it was swept.
    pub swept: Swept,
    /// True when a plan was applied.
    pub applied: bool,
    /// Where its copy goes, where one was begun.
    pub copy: Option<PathBuf>,
}

impl Sight {
    /// What a ladder comes to, with the next step in words.
    #[must_use]
    pub fn of(ladder: &Ladder, next: String, work: Work) -> Self {
        let state = |name: RungName| {
            let own = ladder.rung(name).map(|rung| rung.state);
            let of_volumes = ladder.volumes.iter().flat_map(|volume| &volume.rungs).filter(|rung| rung.rung == name);
            own.into_iter().chain(of_volumes.map(|rung| rung.state)).max().unwrap_or(RungState::Untested)
        };
        let lowest = ladder.lowest_broken.as_ref().map(|lowest| {
            let volume = lowest.volume.as_ref().and_then(|id| ladder.volumes.iter().find(|volume| volume.id == *id));
            let of = volume.map(|volume| format!(" of {}", volume.name())).unwrap_or_default();
            format!("{} {}{of}", lowest.rung.number(), lowest.rung.word())
        });
        Self {
            at: case::now(),
            rungs: RungName::ALL.into_iter().map(state).collect(),
            lowest,
            next,
            swept: work.swept,
            percent: ladder.coverage.percent(),
            volumes: ladder.volumes.len(),
            applied: work.applied,
            copy: work.copy,
        }
    }

    /// Keeps it with the drive. Where nothing can be kept nothing is lost: the drive can be asked again.
    ///
    /// # Errors
    /// [`CoreError`] of what stood in the way.
    pub fn keep(&self, source: &SharedSource) -> Result<(), CoreError> {
        whose::keep(&path(source.identity()), source, self, Samples::None)
    }

    /// What was seen of the drive that calls itself so. What it holds is not compared: another card in the same reader is told apart
    /// when it is opened. Nothing is known of an image that was changed or replaced since.
    #[must_use]
    pub fn known(identity: &Identity) -> Option<Self> {
        let bytes = std::fs::read(path(identity)).ok()?;
        let sight: Self = serde_json::from_slice(&bytes).ok()?;
        let is_whole = sight.rungs.len() == RungName::ALL.len();
        (is_whole && !identity.path.as_ref().is_some_and(|image| sight.is_older_than(image))).then_some(sight)
    }

    /// True when the image at `image` was changed, or put there, after it was seen. By the time that copying and unpacking cannot set.
    fn is_older_than(&self, image: &Path) -> bool {
        let Ok(file) = std::fs::metadata(image) else { return false };
        let seen: Option<jiff::Timestamp> = self.at.parse().ok();
        file.is_file() && seen.is_some_and(|seen| file.ctime() > seen.as_second())
    }

    /// How long ago it was seen, in words; none for a time that cannot be read.
    #[must_use]
    pub fn age(&self) -> Option<String> {
        let seen: jiff::Timestamp = self.at.parse().ok()?;
        let seconds = jiff::Timestamp::now().as_second().saturating_sub(seen.as_second()).max(0);
        Some(match seconds {
            0..60 => "just now".into(),
            60..3600 => format!("{} min ago", seconds / 60),
            3600..172_800 => format!("{} h ago", seconds / 3600),
            _ => format!("{} days ago", seconds / 86_400),
        })
    }
}

fn path(identity: &Identity) -> std::path::PathBuf {
    case::drive_folder(identity).join("sight.json")
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use keel_source::{ByteOffset, LinkKind, MemorySource};

    use super::*;
    use crate::coverage::Coverage;
    use crate::ladder::{LowestBroken, Rung, VolumeLadder};

    fn rung(rung: RungName, state: RungState) -> Rung {
        Rung { rung, state, note: String::new(), findings: Vec::new(), next: Vec::new() }
    }

    fn volume(id: &str, label: Option<&str>, state: RungState) -> VolumeLadder {
        VolumeLadder {
            id: id.into(),
            kind: None,
            label: label.map(str::to_string),
            start_byte: ByteOffset(0),
            bytes: 1,
            rungs: vec![rung(RungName::BootSector, state), rung(RungName::Files, RungState::Sound)],
        }
    }

    fn ladder() -> Ladder {
        Ladder {
            drive: Identity::bare("quay.img", 1, LinkKind::Image),
            rungs: vec![rung(RungName::Link, RungState::Sound), rung(RungName::Table, RungState::Doubtful)],
            volumes: vec![volume("n1", None, RungState::Sound), volume("n2", Some("PURSER"), RungState::Broken)],
            lowest_broken: Some(LowestBroken { rung: RungName::BootSector, volume: Some("n2".into()) }),
            coverage: Coverage::default(),
        }
    }

    #[test]
    fn a_row_has_a_mark_for_each_rung_the_worst_of_all_volumes() {
        let sight = Sight::of(&ladder(), "sweep".into(), Work::default());
        let signs: String = sight.rungs.iter().map(|state| state.sign()).collect();
        assert_eq!(signs, "━┄┄┄╍┄×┄━");
        assert_eq!((sight.lowest.as_deref(), sight.volumes, sight.percent), (Some("7 Boot sector of PURSER"), 2, 100));
        assert_eq!(sight.age().as_deref(), Some("just now"));
        let old = Sight { at: "2020-01-01T00:00:00Z".into(), ..sight.clone() };
        assert!(old.age().unwrap().ends_with("days ago"));
        assert_eq!(Sight { at: "never".into(), ..sight }.age(), None);
    }

    #[test]
    fn what_was_seen_is_known_again_and_nothing_half_written_is() {
        static STATE: std::sync::OnceLock<tempfile::TempDir> = std::sync::OnceLock::new();
        case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
        let source: SharedSource = Arc::new(MemorySource::new("sight", vec![7; 8192], 512));
        assert_eq!(Sight::known(source.identity()), None);
        let sight = Sight::of(
            &ladder(),
            "sweep".into(),
            Work { swept: Swept::Done, applied: true, copy: Some("/copies/quay.img".into()) },
        );
        sight.keep(&source).unwrap();
        assert_eq!(Sight::known(source.identity()), Some(sight));
        for text in ["", "{}", "{\"at\": 3}"] {
            std::fs::write(path(source.identity()), text).unwrap();
            assert_eq!(Sight::known(source.identity()), None, "{text:?}");
        }
    }

    #[test]
    fn nothing_is_known_of_an_image_that_was_put_there_later() {
        static STATE: std::sync::OnceLock<tempfile::TempDir> = std::sync::OnceLock::new();
        case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("quay.img");
        std::fs::write(&image, vec![7; 8192]).unwrap();
        let source = keel_source::open(&image, keel_source::OpenOptions::default()).unwrap();
        let sight = Sight::of(&ladder(), "sweep".into(), Work::default());
        sight.keep(&source).unwrap();
        assert_eq!(Sight::known(source.identity()), Some(sight.clone()));
        Sight { at: "2020-01-01T00:00:00Z".into(), ..sight }.keep(&source).unwrap();
        // The file may say that it is older than that: when it came to lie here it cannot say.
        let file = std::fs::File::options().write(true).open(&image).unwrap();
        file.set_modified(std::time::SystemTime::UNIX_EPOCH).unwrap();
        assert_eq!(Sight::known(source.identity()), None);
    }
}
