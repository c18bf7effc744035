//! What `mend` takes, and every command that settles a layout.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use keel_core::mend;
use keel_format::table::Scheme;

use super::{SourceArgs, Wrap};

#[derive(Debug, Args)]
pub(crate) struct MendArgs {
    #[command(flatten)]
    pub(crate) source: SourceArgs,
    /// Stage only these repairs.
    #[arg(long, value_enum)]
    pub(crate) only: Option<OnlyArg>,
    #[command(flatten)]
    pub(crate) choices: ChoiceArgs,
    /// Take a structure from here instead of where the evidence says: the find's id, `/`, the structure's name, `=`, and
    /// main, copy, copyN or computed; with `.FIELD` behind the name for a single field, which may also get a value of its own:
    /// value:0x08.
    #[arg(long, value_name = "ID/STRUCTURE[.FIELD]=VERSION")]
    pub(crate) take: Vec<String>,
    /// Mend this rule of the check too, though something is lost by it: its name, or all.
    #[arg(long, value_name = "RULE")]
    pub(crate) also: Vec<String>,
    /// Drop these edits, with all that rests on them: the name of their group, as the plan says it.
    #[arg(long, value_name = "GROUP")]
    pub(crate) without: Vec<String>,
    #[command(flatten)]
    pub(crate) apply: ApplyArgs,
}

/// What is done with a plan.
#[derive(Debug, Args)]
pub(crate) struct ApplyArgs {
    /// Save the drive as it would be as a new image.
    #[arg(long, value_name = "COPY")]
    pub(crate) save_as: Option<PathBuf>,
    /// Write the plan to the drive.
    #[arg(long)]
    pub(crate) apply: bool,
    /// Confirmation code of the drive, as shown with the plan.
    #[arg(long, value_name = "CODE", requires = "apply")]
    pub(crate) confirm: Option<String>,
    /// Apply without the code: image files and simulated drives only.
    #[arg(long, requires = "apply", conflicts_with = "confirm")]
    pub(crate) yes: bool,
    /// Where the undo bundle goes.
    #[arg(long, value_name = "FILE", requires = "apply")]
    pub(crate) bundle: Option<PathBuf>,
    /// Override, in the words that the refusal names, a rule that stands against the plan.
    #[arg(long, value_name = "WORDS", requires = "apply")]
    pub(crate) override_words: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct ChoiceArgs {
    /// Keep this find in the layout.
    #[arg(long, value_name = "ID")]
    pub(crate) hold: Vec<String>,
    /// Keep this find out of the layout.
    #[arg(long, value_name = "ID")]
    pub(crate) drop: Vec<String>,
    /// Give an entry another type: the find's id, `=`, and an MBR type (0x07) or a GPT type GUID.
    #[arg(long = "type", value_name = "ID=TYPE")]
    pub(crate) types: Vec<String>,
    /// Set start, length or type of a find's entry by hand: its id, `=`, and what is set. What speaks for it and against it is told.
    #[arg(long = "set", value_name = "ID=start LBA length SECTORS type TYPE")]
    pub(crate) by_hand: Vec<String>,
    /// Give disk and partitions new identifiers: another drive has the same.
    #[arg(long)]
    pub(crate) new_id: bool,
    /// Write this kind of table.
    #[arg(long, value_enum)]
    pub(crate) scheme: Option<SchemeArg>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum OnlyArg {
    /// Partition tables.
    Table,
    /// Boot sectors, superblocks and volume headers.
    Boot,
    /// What stands behind them: MFT records, group descriptors, counts.
    Fs,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum SchemeArg {
    /// The table in sector 0.
    Mbr,
    /// The GUID partition table.
    Gpt,
}

impl From<Option<OnlyArg>> for Wrap<mend::Only> {
    fn from(only: Option<OnlyArg>) -> Self {
        Wrap(match only {
            None => mend::Only::All,
            Some(OnlyArg::Table) => mend::Only::Table,
            Some(OnlyArg::Boot) => mend::Only::Boot,
            Some(OnlyArg::Fs) => mend::Only::Fs,
        })
    }
}

impl From<SchemeArg> for Scheme {
    fn from(scheme: SchemeArg) -> Self {
        match scheme {
            SchemeArg::Mbr => Self::Mbr,
            SchemeArg::Gpt => Self::Gpt,
        }
    }
}
