//! Every action, its keys and words, in one table: raw keys become actions here, and help, foot and command list are
//! made from here.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// The stages that have screens.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Stage {
    Yard,
    Ladder,
    Copy,
    Fathom,
    Sweep,
    Mend,
    Files,
    Plan,
}

impl Stage {
    /// All, in the order of the course.
    pub(crate) const ALL: [Self; 8] =
        [Self::Yard, Self::Ladder, Self::Copy, Self::Fathom, Self::Sweep, Self::Mend, Self::Files, Self::Plan];

    /// The word on the course.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Yard => "Yard",
            Self::Ladder => "Ladder",
            Self::Copy => "Copy",
            Self::Fathom => "Fathom",
            Self::Sweep => "Sweep",
            Self::Mend => "Mend",
            Self::Files => "Files",
            Self::Plan => "Plan",
        }
    }
}

/// What a key or a click asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Action {
    GoTo(Stage),
    NextStage,
    PreviousStage,
    Up,
    Down,
    Left,
    Right,
    PageUp,
    PageDown,
    First,
    Last,
    Enter,
    Back,
    Sweep,
    SweepSurface,
    Cancel,
    Hold,
    Drop,
    Compare,
    ChangeScheme,
    ChangeType,
    LookInto,
    TakeMain,
    TakeCopy,
    TakeComputed,
    MendRule,
    EraseLeftovers,
    NextVolume,
    StagePlan,
    Apply,
    Undo,
    SaveCopy,
    Mark,
    Extract,
    ShowDeleted,
    View,
    Symptoms,
    Checks,
    TellText,
    StartCopy,
    PauseCopy,
    SkipPass,
    CopyOrder,
    VerifyCopy,
    WorkOnCopy,
    Probe,
    Fill,
    Estimate,
    RestoreProbe,
    ReadSurface,
    WriteReport,
    ZoomIn,
    ZoomOut,
    Help,
    Commands,
    Quit,
}

/// One line of the table.
pub(crate) struct Binding {
    /// Keys, as shown.
    pub(crate) keys: &'static str,
    /// What it does.
    pub(crate) action: Action,
    /// A word or two for the foot.
    pub(crate) short: &'static str,
    /// A sentence for help and command list.
    pub(crate) long: &'static str,
    /// Where it works; empty: everywhere.
    pub(crate) stages: &'static [Stage],
    /// Shown in the foot.
    pub(crate) foot: bool,
}

const fn line(
    keys: &'static str,
    action: Action,
    short: &'static str,
    long: &'static str,
    stages: &'static [Stage],
    foot: bool,
) -> Binding {
    Binding { keys, action, short, long, stages, foot }
}

use Stage::{Copy as CopyStage, Fathom, Files, Ladder, Mend, Plan, Sweep, Yard};

/// The table. Earlier lines win where two share a key in a stage.
pub(crate) const BINDINGS: &[Binding] = &[
    line("enter", Action::Enter, "open", "Open the drive, folder or find that is selected", &[Yard, Files], true),
    line(
        "enter",
        Action::LookInto,
        "look into",
        "Look into the selected volume: whose files are these?",
        &[Ladder, Sweep, Mend],
        true,
    ),
    line(
        "s",
        Action::Sweep,
        "sweep",
        "Sweep: landmarks, then the surface where they leave room for doubt",
        &[Ladder, Sweep],
        true,
    ),
    line("S", Action::SweepSurface, "surface", "Sweep every sector of the surface", &[Ladder, Sweep], false),
    line("x", Action::Cancel, "stop", "Stop the running job; a sweep can go on later from where it was", &[], false),
    line("i", Action::Symptoms, "symptoms", "Say what the client sees: choose from the symptoms", &[Yard], true),
    line("c", Action::Checks, "checks", "Note the checks made outside the computer, and see which one comes next", &[Yard], true),
    line(
        "t",
        Action::TellText,
        "text",
        "Keep a text of the client: an error message as pasted is led to the rungs it comes from",
        &[Yard],
        true,
    ),
    line("R", Action::ReadSurface, "read all", "Read the whole surface: where time and errors go", &[Ladder], false),
    line("s", Action::StartCopy, "copy", "Begin a copy of the drive, or go on with it", &[CopyStage], true),
    line("space", Action::PauseCopy, "rest", "Let the copy rest, or go on", &[CopyStage], true),
    line("n", Action::SkipPass, "skip", "End the pass that runs; the next one begins", &[CopyStage], true),
    line("o", Action::CopyOrder, "order", "Copy what the volumes need first, or in the order of the drive", &[CopyStage], true),
    line("v", Action::VerifyCopy, "verify", "Compare the copy with the hashes taken while it was read", &[CopyStage], true),
    line("w", Action::WorkOnCopy, "work on it", "Go over to the copy: every stage works on it", &[CopyStage], true),
    line(
        "p",
        Action::Probe,
        "probe",
        "Prove the capacity: write tagged sectors at chosen places and put back what stood there",
        &[Fathom],
        true,
    ),
    line("F", Action::Fill, "fill", "Write and verify every sector: everything on the drive is lost", &[Fathom], true),
    line("e", Action::Estimate, "estimate", "Only read: content that repeats is weak evidence", &[Fathom], true),
    line("u", Action::RestoreProbe, "put back", "Put back what an interrupted probe touched", &[Fathom], true),
    line(
        "P",
        Action::WriteReport,
        "report",
        "Write the report of this drive as a PDF, with drawings and journal",
        &[Ladder, CopyStage, Fathom, Sweep, Mend, Files, Plan],
        false,
    ),
    line("space", Action::Hold, "hold", "Hold the find in the layout, or let it go", &[Sweep], true),
    line("d", Action::Drop, "drop", "Drop the find from the layout, or let it back", &[Sweep], true),
    line("c", Action::Compare, "compare", "Compare the find with the one that claims the same ground", &[Sweep], true),
    line("t", Action::ChangeScheme, "MBR/GPT", "Change the scheme of the table: as the evidence says, MBR, GPT", &[Sweep], false),
    line(
        "y",
        Action::ChangeType,
        "type",
        "Change the type of the find's entry: the next one that fits its kind",
        &[Sweep],
        false,
    ),
    line("m", Action::TakeMain, "main", "Take the structure, or the selected field, as it stands", &[Mend], true),
    line("c", Action::TakeCopy, "copy", "Take the structure, or the selected field, from its copy", &[Mend], true),
    line(
        "o",
        Action::TakeComputed,
        "computed",
        "Take the structure, or the selected field, as computed from the volume",
        &[Mend],
        true,
    ),
    line("r", Action::MendRule, "mend rule", "Mend what the selected rule found, or let it be", &[Mend], true),
    line(
        "E",
        Action::EraseLeftovers,
        "leftovers",
        "Erase signatures of former tables and containers on ground that belongs to something else, or let them be",
        &[Mend],
        false,
    ),
    line("n", Action::NextVolume, "next volume", "Go to the next volume; behind the last one comes the table", &[Mend], true),
    line("p", Action::StagePlan, "plan", "Stage the repairs and read the plan", &[Ladder, Sweep, Mend], true),
    line("a", Action::Apply, "apply", "Apply the plan to the drive; asks for the drive's code", &[Plan], true),
    line("u", Action::Undo, "undo", "Put the drive back as it was before the apply", &[Plan], true),
    line("w", Action::SaveCopy, "save copy", "Save the drive as it would be as a new image", &[Plan], true),
    line("space", Action::Mark, "mark", "Mark the file or folder for taking out, or unmark it", &[Files], true),
    line(
        "e",
        Action::Extract,
        "take out",
        "Take the marked files (or the selected one) out to a folder, verified",
        &[Files],
        true,
    ),
    line("v", Action::View, "text/hex", "Show the preview as text or picture, or as bytes", &[Files], true),
    line("D", Action::ShowDeleted, "deleted", "List deleted entries too, or hide them", &[Files], false),
    line("backspace", Action::Back, "up", "Go up a folder, or back to the volumes", &[Files], true),
    line("up k", Action::Up, "", "Go up", &[], false),
    line("down j", Action::Down, "", "Go down", &[], false),
    line("left h", Action::Left, "", "Go left: the volume before, up a folder, or out of the fields", &[], false),
    line("right l", Action::Right, "", "Go right: the next volume, into the folder, or into the fields", &[], false),
    line("pageup", Action::PageUp, "", "Go up a page", &[], false),
    line("pagedown", Action::PageDown, "", "Go down a page", &[], false),
    line("home", Action::First, "", "Go to the first line", &[], false),
    line("end", Action::Last, "", "Go to the last line", &[], false),
    line("+ =", Action::ZoomIn, "", "Zoom the keel in on the selection", &[], false),
    line("-", Action::ZoomOut, "", "Zoom the keel out", &[], false),
    line("1", Action::GoTo(Yard), "", "Go to the Yard", &[], false),
    line("2", Action::GoTo(Ladder), "", "Go to the Ladder", &[], false),
    line("3", Action::GoTo(CopyStage), "", "Go to the Copy stage", &[], false),
    line("4", Action::GoTo(Fathom), "", "Go to the Fathom stage", &[], false),
    line("5", Action::GoTo(Sweep), "", "Go to the Sweep", &[], false),
    line("6", Action::GoTo(Mend), "", "Go to the Mend stage", &[], false),
    line("7", Action::GoTo(Files), "", "Go to the Files", &[], false),
    line("8", Action::GoTo(Plan), "", "Go to the Plan", &[], false),
    line("tab", Action::NextStage, "", "Go to the next stage", &[], false),
    line("backtab", Action::PreviousStage, "", "Go to the stage before", &[], false),
    line("?", Action::Help, "help", "Say what this stage shows and which keys work here", &[], true),
    line(":", Action::Commands, "commands", "Search all commands", &[], true),
    line("q", Action::Quit, "quit", "Leave Yellow Keel", &[], false),
];

/// The bindings that work in `stage`.
pub(crate) fn bindings(stage: Stage) -> impl Iterator<Item = &'static Binding> {
    BINDINGS.iter().filter(move |binding| binding.stages.is_empty() || binding.stages.contains(&stage))
}

fn name(key: KeyEvent) -> String {
    match key.code {
        KeyCode::Char(' ') => "space".into(),
        KeyCode::Char(sign) => sign.to_string(),
        KeyCode::Enter => "enter".into(),
        KeyCode::Backspace => "backspace".into(),
        KeyCode::Up => "up".into(),
        KeyCode::Down => "down".into(),
        KeyCode::Left => "left".into(),
        KeyCode::Right => "right".into(),
        KeyCode::PageUp => "pageup".into(),
        KeyCode::PageDown => "pagedown".into(),
        KeyCode::Home => "home".into(),
        KeyCode::End => "end".into(),
        KeyCode::Tab => "tab".into(),
        KeyCode::BackTab => "backtab".into(),
        _ => String::new(),
    }
}

/// The action of a key in `stage`.
pub(crate) fn action(key: KeyEvent, stage: Stage) -> Option<Action> {
    if key.modifiers.contains(KeyModifiers::CONTROL) {
        return (key.code == KeyCode::Char('c')).then_some(Action::Quit);
    }
    let name = name(key);
    bindings(stage)
        .find(|binding| !name.is_empty() && binding.keys.split(' ').any(|key| key == name))
        .map(|binding| binding.action)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_key_means_two_things_in_one_stage() {
        for stage in Stage::ALL {
            let mut seen = std::collections::BTreeMap::new();
            for key in bindings(stage).flat_map(|binding| binding.keys.split(' ').map(move |key| (key, binding.action))) {
                assert!(seen.insert(key.0, key.1).is_none(), "{} in {}", key.0, stage.word());
            }
        }
    }

    #[test]
    fn every_action_has_words_and_a_key_that_reaches_it() {
        for binding in BINDINGS {
            assert!(!binding.long.is_empty() && !binding.keys.is_empty());
            assert!(!binding.foot || !binding.short.is_empty());
        }
    }
}
