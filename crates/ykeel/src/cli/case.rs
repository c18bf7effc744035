//! What `case` takes.

use std::path::PathBuf;

use clap::{Subcommand, ValueEnum};

/// What is done with a case.
#[derive(Debug, Subcommand)]
pub(crate) enum CaseCommand {
    /// Open the case of a drive.
    Open {
        /// The drive; it need not answer.
        source: PathBuf,
        /// Whose it is.
        #[arg(long, default_value = "")]
        client: String,
        /// What the client sees: a symptom's id, as `ykeel case words` lists them.
        #[arg(long = "symptom", value_name = "ID")]
        symptoms: Vec<String>,
        /// Print one JSON document on standard output.
        #[arg(long)]
        json: bool,
    },
    /// Keep a text of the client: an error message as pasted, or a note. Known errors are led to the rungs they come from.
    Tell {
        /// The drive.
        source: PathBuf,
        /// The text.
        text: String,
        /// Print one JSON document on standard output.
        #[arg(long)]
        json: bool,
    },
    /// Note what came of a check made outside the computer.
    Check {
        /// The drive.
        source: PathBuf,
        /// The check's id, as `ykeel case words` lists them.
        check: String,
        /// Whether it helped (or was listed, or found).
        #[arg(value_enum)]
        outcome: OutcomeArg,
        /// What to note with it: which cable, which port and its speed.
        #[arg(long, default_value = "")]
        note: String,
        /// Print one JSON document on standard output.
        #[arg(long)]
        json: bool,
    },
    /// Show a case: what was told, what was checked, what remains, what comes next.
    Show {
        /// The drive, or the folder of a case.
        source: PathBuf,
        /// Print one JSON document on standard output.
        #[arg(long)]
        json: bool,
    },
    /// Close a case: where the drive was changed, the journal gets the layout that it has now.
    Close {
        /// The drive, or the folder of a case.
        source: PathBuf,
        /// Open it again instead.
        #[arg(long)]
        again: bool,
        /// Print one JSON document on standard output.
        #[arg(long)]
        json: bool,
    },
    /// Prove that the journal of a case is whole.
    Verify {
        /// The drive, or the folder of a case.
        source: PathBuf,
        /// Print one JSON document on standard output.
        #[arg(long)]
        json: bool,
    },
    /// List the symptoms, the checks and the error messages that are known.
    Words {
        /// Print one JSON document on standard output.
        #[arg(long)]
        json: bool,
    },
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum OutcomeArg {
    /// It helped; it is listed; it was found.
    Yes,
    /// No change; not listed; none.
    No,
    /// Take the check back.
    Undo,
}
