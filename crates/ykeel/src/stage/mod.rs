//! The stages. A stage is a folder and a line: its folder holds its state, its keys and what they do, what its jobs tell, its drawing,
//! its clicks, its help and the advice that it carries out; the line stands in the list below, and everything else is made from it.

mod common;
pub(crate) use common::zoom;
pub(crate) mod copy;
mod drive;
pub(crate) mod fathom;
pub(crate) mod files;
pub(crate) mod ladder;
pub(crate) mod mend;
mod narrowed;
pub(crate) mod plan;
pub(crate) mod renew;
pub(crate) mod sweep;
pub(crate) mod yard;

use std::path::PathBuf;

use keel_core::advice::Advice;
use keel_core::export::Table;
use keel_core::ground::{self, GroundMap};
use keel_core::job::{Cancel, Job};
use keel_source::{ByteOffset, ByteRange, SharedSource, counted, size_decimal};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};

use crate::app::{App, Effect, Effects};
use crate::keys::{StageKey, bench};
use crate::line_edit::LineEdit;
use crate::place;
use crate::popup::Popup;
use crate::widget::ground::legend as ground_legend;
use crate::widget::why::Why;

/// A stage: everything that the screens want of it. What is asked with the state as `&mut` changes it and says what is to be set off;
/// it reads no drive, writes no file and begins no job. What draws changes nothing.
pub(crate) trait Stage: Sync {
    /// The word on the course.
    fn word(&self) -> &'static str;

    /// What it shows, for its help.
    fn about(&self) -> &'static str;

    /// What its signs mean, line by line; those of course and keel are said for every stage.
    fn signs(&self) -> &'static [&'static str] {
        &[]
    }

    /// Its own keys.
    fn keys(&self) -> &'static [StageKey];

    /// Draws the middle; what stands at the right is said.
    fn draw(&self, app: &App, area: Rect, buf: &mut Buffer) -> Why;

    /// It is gone to.
    fn entered(&self, _app: &mut App) -> Effects {
        Vec::new()
    }

    /// Up and down, by rows.
    fn step(&self, _app: &mut App, _by: isize) -> Effects {
        Vec::new()
    }

    /// Left and right.
    fn sideways(&self, _app: &mut App, _by: isize) -> Effects {
        Vec::new()
    }

    /// A click into the middle, `at` counted from its first column and row.
    fn click(&self, _app: &mut App, _area: Rect, _at: Position) -> Effects {
        Vec::new()
    }

    /// The button was pressed at the first of these rows of the keel and let go at the second.
    fn dragged(&self, _app: &mut App, _from: ByteRange, _to: ByteRange) -> Effects {
        Vec::new()
    }

    /// The list that it shows, for a file and for the clipboard.
    fn table(&self, _app: &App) -> Option<Table> {
        None
    }

    /// True where the keel has nothing to say: the stage takes its place.
    fn is_wide(&self) -> bool {
        false
    }

    /// The line that keys go to, while something is searched in it.
    fn typing<'a>(&self, _app: &'a mut App) -> Option<&'a mut LineEdit> {
        None
    }

    /// The line changed.
    fn searched(&self, _app: &mut App) -> Effects {
        Vec::new()
    }

    /// The searching ends: what was typed is kept, or let go.
    fn typed(&self, _app: &mut App, _keep: bool) -> Effects {
        Vec::new()
    }

    /// The ground that is selected in it.
    fn selection(&self, _drive: &Drive) -> Option<ByteRange> {
        None
    }

    /// The byte whose surroundings are looked at from it.
    fn place(&self, drive: &Drive) -> Option<ByteOffset> {
        self.selection(drive).map(|range| range.start)
    }

    /// The keys, behind the stage's number, that carry out what the core advises; none where another stage does.
    fn carries_out(&self, _advice: Advice) -> Option<&'static str> {
        None
    }

    /// How it stands with the drive.
    fn standing(&self, drive: &Drive) -> Standing;

    /// Takes what its jobs told. `shown` is the size of the middle while the stage is on the screen.
    fn reports(&self, _drive: &mut Drive, _shown: Option<Rect>) -> Effects {
        Vec::new()
    }

    /// What its jobs do, each in words. Every job that runs is among them.
    fn running(&self, _drive: &Drive) -> Vec<Running> {
        Vec::new()
    }

    /// Stops what runs and may be stopped; a write is never stopped half-way.
    fn cancel(&self, _drive: &mut Drive) {}
}

/// How a stage stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Standing {
    Done,
    Doubt,
    Open,
}

/// What weighs more is told first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Weight {
    /// It is over in moments.
    Short,
    /// It takes its time.
    Long,
    /// It writes to the drive.
    Writes,
}

/// A job that runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Running {
    pub(crate) weight: Weight,
    /// What it does, in a few words.
    pub(crate) what: String,
    /// How far it is, of how much; none where nobody knows.
    pub(crate) share: Option<(u64, u64)>,
    /// Bytes a second, the last ones.
    pub(crate) rate: Option<u64>,
    /// Seconds left, where that can be told.
    pub(crate) left: Option<u64>,
    pub(crate) errors: u64,
    /// True while it rests.
    pub(crate) rests: bool,
    /// False for what is never stopped half-way.
    pub(crate) stops: bool,
}

/// A job that runs, where it runs.
pub(crate) fn runs(is_running: bool, weight: Weight, what: impl Into<String>) -> Option<Running> {
    is_running.then(|| Running {
        weight,
        what: what.into(),
        share: None,
        rate: None,
        left: None,
        errors: 0,
        rests: false,
        stops: true,
    })
}

impl Running {
    /// How far it is, and how many bytes a second come.
    pub(crate) fn at(mut self, done: u64, total: u64, rate: u64) -> Self {
        self.share = Some((done, total));
        self.rate = Some(rate).filter(|rate| *rate > 0);
        self.left = total.saturating_sub(done).checked_div(rate);
        self
    }

    /// What a write is: it is never stopped half-way.
    pub(crate) fn whole(mut self) -> Self {
        self.stops = false;
        self
    }

    /// How far it is, in percent.
    pub(crate) fn percent(&self) -> Option<u64> {
        let (done, total) = self.share?;
        u64::try_from(u128::from(done) * 100 / u128::from(total.max(1))).ok()
    }

    /// On one line: what, how far, how fast, how long still, and how it is stopped.
    pub(crate) fn line(&self) -> String {
        let mut line = self.what.clone();
        let mut add = |text: String| line.push_str(&format!("  {text}"));
        self.percent().into_iter().for_each(|percent| add(format!("{percent} %")));
        self.rate.into_iter().for_each(|rate| add(format!("{}/s", size_decimal(rate))));
        self.left.into_iter().for_each(|left| add(time_left(left)));
        if self.errors > 0 {
            add(counted(self.errors, "error", "errors"));
        }
        if self.rests {
            add("rests: space goes on".into());
        }
        if self.stops {
            add("x stops".into());
        }
        line
    }
}

/// A time that is left, in words.
pub(crate) fn time_left(seconds: u64) -> String {
    match seconds {
        0..100 => format!("{seconds} s left"),
        100..6000 => format!("{} min left", seconds / 60),
        _ => format!("{} h left", seconds / 3600),
    }
}

/// Stops a job where one runs.
pub(crate) fn stop<P: Send + 'static, R: Send + 'static>(job: Option<&Job<P, R>>) {
    job.map(Job::cancel).into_iter().for_each(Cancel::cancel);
}

/// Makes of one list, in the order of the course: the stages, and the drive in work with what each stage knows of it.
macro_rules! stages {
    ($($key:literal, $name:ident, $go:literal, $stage:expr $(, $field:ident: $state:ty)?;)*) => {
        /// A stage of the course.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub(crate) enum StageId { $($name,)* }

        impl StageId {
            /// All, in the order of the course.
            pub(crate) const ALL: [Self; [$(stringify!($name)),*].len()] = [$(Self::$name),*];

            /// The stage.
            pub(crate) fn stage(self) -> &'static dyn Stage {
                match self { $(Self::$name => &$stage,)* }
            }
        }

        /// The keys that lead to them.
        const GO: &[StageKey] = &[$(bench($key, |_| vec![Effect::GoTo(StageId::$name)], ("", $go))),*];

        /// The drive in work: the source, and what each stage knows of it, has staged, and does.
        pub(crate) struct Drive {
            /// The drive as the stages see it: as far as it stores, without what is missing of a copy.
            pub(crate) source: SharedSource,
            /// The drive as it claims to be.
            pub(crate) claimed: SharedSource,
            /// What its client sees, as its case says.
            pub(crate) symptoms: Vec<String>,
            /// What its surface holds, as far as anybody read it.
            pub(crate) ground: GroundMap,
            /// The place of it that is looked at.
            pub(crate) place: place::State,
            /// How often the keel was zoomed in: each time halves what it shows.
            pub(crate) zoom: u32,
            /// What its jobs told while another drive was looked at: read when it is looked at again.
            pub(crate) notices: Vec<Box<dyn Popup>>,
            /// It is not as it was when it was opened: it is opened again when it is looked at.
            pub(crate) is_stale: bool,
            /// The report that is written.
            pub(crate) report_job: Option<Job<(), Option<Result<PathBuf, String>>>>,
            $($(pub(crate) $field: $state,)?)*
        }

        impl Drive {
            /// The drive behind `source`, of which nothing is known yet but what earlier runs kept.
            pub(crate) fn new(source: SharedSource) -> Self {
                Self {
                    claimed: SharedSource::clone(&source),
                    symptoms: Vec::new(),
                    ground: ground::known(&source),
                    place: place::State::default(),
                    zoom: 0,
                    notices: Vec::new(),
                    is_stale: false,
                    report_job: None,
                    $($($field: <$state>::of(&source),)?)*
                    source,
                }
            }
        }
    };
}

stages! {
    "1", Yard, "Go to the Yard", yard::Yard;
    "2", Ladder, "Go to the Ladder", ladder::Ladder, ladder: ladder::State;
    "3", Copy, "Go to the Copy stage", copy::Copy, copy: copy::State;
    "4", Fathom, "Go to the Fathom stage", fathom::Fathom, fathom: fathom::State;
    "5", Sweep, "Go to the Sweep", sweep::Sweep, sweep: sweep::State;
    "6", Mend, "Go to the Mend stage", mend::Mend, mend: mend::State;
    "7", Files, "Go to the Files", files::Files, files: files::State;
    "8", Plan, "Go to the Plan", plan::Plan, plan: plan::State;
    "9", Renew, "Go to the Renew stage", renew::Renew, renew: renew::State;
}

impl StageId {
    /// The keys that work in it: its own, those of every stage that is about a drive, and those of all.
    pub(crate) fn bindings(self) -> impl Iterator<Item = &'static StageKey> {
        let of_drives = if self == Self::Yard { &[] } else { common::OF_DRIVES };
        self.stage().keys().iter().chain(of_drives).chain(GO).chain(common::EVERYWHERE)
    }

    /// What the signs on its screen mean, line by line, with a blank line before.
    pub(crate) fn legend(self) -> Vec<String> {
        let course = "On the course: ● done, ◐ something is in doubt, ○ not begun.".to_string();
        let mut lines = vec![String::new(), course];
        lines.extend(self.stage().signs().iter().map(ToString::to_string));
        if !self.stage().is_wide() {
            lines.push("On the keel: ┏┓ a volume or entry, letters and texture by its kind; × does not read; ▶ where the drive reads now; • a mark of the case. What the ground holds:".into());
            lines.extend(ground_legend());
        }
        lines
    }

    /// The stage that carries out an advice, and the keys that lead to it.
    pub(crate) fn carrying_out(advice: Advice) -> (Self, &'static str) {
        let found = Self::ALL.into_iter().find_map(|id| id.stage().carries_out(advice).map(|keys| (id, keys)));
        found.unwrap_or((Self::Ladder, ""))
    }
}

#[cfg(test)]
mod tests;
