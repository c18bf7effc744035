//! The command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use keel_core::sweep;

use crate::theme::{Colours, Look};

mod adrift;
mod case;
mod copy;
mod drive;
mod examples;
mod mend;
mod renew;
mod wipe;

pub(crate) use adrift::AdriftArgs;
pub(crate) use case::{CaseCommand, OutcomeArg};
pub(crate) use copy::CopyArgs;
pub(crate) use drive::{FathomArgs, SelfTestArg, WidenArgs};
pub(crate) use mend::{ApplyArgs, ChoiceArgs, MendArgs};
pub(crate) use renew::{RenewArgs, TableArg};
pub(crate) use wipe::{VerifyArg, WipeArgs};

/// Examines a drive, finds its lost volumes, and makes them mount again. Without a command it opens the screens.
#[derive(Debug, Parser)]
#[command(name = "ykeel", version, after_long_help = examples::SCREENS)]
pub(crate) struct Cli {
    #[command(subcommand)]
    pub(crate) command: Option<Command>,
    /// Drives to open in the screens: images, block devices, simulated drives.
    pub(crate) sources: Vec<PathBuf>,
    /// Logical sector size in bytes, instead of what the source says.
    #[arg(long, value_name = "BYTES")]
    pub(crate) sector_size: Option<u32>,
    #[command(flatten)]
    pub(crate) look: LookArgs,
}

/// How the screens look, and what is logged: these stand behind any command, and go before the file of settings.
#[derive(Debug, Args)]
pub(crate) struct LookArgs {
    /// How many colours.
    #[arg(long, global = true, value_enum, value_name = "HOW MANY")]
    pub(crate) color: Option<Colours>,
    /// For a dark or a light ground.
    #[arg(long, global = true, value_enum)]
    pub(crate) theme: Option<Look>,
    /// Draw with signs of ASCII alone.
    #[arg(long, global = true)]
    pub(crate) ascii: bool,
    /// Write down in this file what was done.
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) log_file: Option<PathBuf>,
}

/// A source and how to read it.
#[derive(Debug, Args)]
pub(crate) struct SourceArgs {
    /// Raw image (also the first part NAME.001 of a split one), block device, or simulated drive NAME.drive.toml.
    #[arg(value_name = "SOURCE")]
    pub(crate) source: PathBuf,
    /// Logical sector size in bytes, instead of what the source says.
    #[arg(long, value_name = "BYTES")]
    pub(crate) sector_size: Option<u32>,
    /// Print one JSON document on standard output.
    #[arg(long)]
    pub(crate) json: bool,
}

/// What `bytes` takes.
#[derive(Debug, Args)]
pub(crate) struct BytesArgs {
    #[command(flatten)]
    pub(crate) source: SourceArgs,
    /// The place: a byte (1048576, 0x100000, 1.5 GB, 64 MiB), a sector ("lba 2048") or a share of the drive (37.5%).
    #[arg(default_value = "0")]
    pub(crate) at: String,
    /// How many bytes to show.
    #[arg(long, value_name = "BYTES", default_value = "512")]
    pub(crate) length: u32,
    /// Search for text (as UTF-8 and UTF-16, in any case) or for bytes ("hex: eb 52 90") from the place on.
    #[arg(long, value_name = "WHAT")]
    pub(crate) find: Option<String>,
    /// Search towards the start of the drive.
    #[arg(long, requires = "find")]
    pub(crate) back: bool,
    /// Say which file or structure of a volume holds the place.
    #[arg(long)]
    pub(crate) whose: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List the drives in a folder.
    #[command(after_long_help = examples::YARD)]
    Yard {
        /// The folder; by default this one.
        #[arg(default_value = ".")]
        dir: PathBuf,
        /// List the block devices of this system too. They are not opened.
        #[arg(long)]
        devices: bool,
        /// Go on, and tell which devices come and go, a line each (with --json a document each), until it is stopped.
        #[arg(long)]
        watch: bool,
        /// Print one JSON document on standard output.
        #[arg(long)]
        json: bool,
    },
    /// Say which rungs hold, and the lowest one that does not.
    #[command(after_long_help = examples::LADDER)]
    Ladder {
        #[command(flatten)]
        source: SourceArgs,
    },
    /// Find lost volumes and settle them into a layout.
    #[command(after_long_help = examples::SWEEP)]
    Sweep {
        #[command(flatten)]
        source: SourceArgs,
        /// Where to look; by default landmarks, then the surface where they leave room for doubt.
        #[arg(long, value_enum)]
        reach: Option<ReachArg>,
        #[command(flatten)]
        choices: ChoiceArgs,
    },
    /// Take an image of a sick drive around its bad places, or go on with one.
    #[command(after_long_help = examples::COPY)]
    Copy(CopyArgs),
    /// Stage repairs, show them, and apply them when told to.
    #[command(after_long_help = examples::MEND)]
    Mend(MendArgs),
    /// Make a drive ready for use again: a new table, new volumes, a converted table, former signatures cleared. Seen before, undone after.
    #[command(after_long_help = examples::RENEW)]
    Renew(RenewArgs),
    /// Overwrite a drive or a part of it, read it back, and vouch for it. There is no way back.
    #[command(after_long_help = examples::WIPE)]
    Wipe(WipeArgs),
    /// Run every rule over a volume: what is not so, how it can be mended, and what would be lost. Reads only.
    #[command(after_long_help = examples::CHECK)]
    Check {
        #[command(flatten)]
        source: SourceArgs,
        /// Id of the find (n1, n2, …), or @LBA of its first sector; by default every volume.
        #[arg(long, value_name = "ID")]
        volume: Option<String>,
        /// Keep ground that is counted as used and held by no file as files in this folder.
        #[arg(long, value_name = "DIR", requires = "volume")]
        lost_to: Option<PathBuf>,
    },
    /// Compare the structures of a volume: main, copies and as computed from the volume itself, field by field.
    #[command(after_long_help = examples::STRUCTURES)]
    Structures {
        #[command(flatten)]
        source: SourceArgs,
        /// Id of the find (n1, n2, …), @LBA of its first sector, or `table`.
        #[arg(long, value_name = "ID")]
        volume: String,
    },
    /// Let this machine's kernel mount a volume read-only, and compare its listing with ours.
    #[command(after_long_help = examples::PROVE)]
    Prove {
        #[command(flatten)]
        source: SourceArgs,
        /// Id of the find (n1, n2, …), or @LBA of its first sector.
        #[arg(long, value_name = "ID")]
        volume: String,
    },
    /// Show volumes by this system: mounted read-only, whether a table names them or not.
    #[command(after_long_help = examples::ATTACH)]
    Attach {
        #[command(flatten)]
        source: SourceArgs,
        /// Id of the find (n1, n2, …), or @LBA of its first sector; all of them by default.
        #[arg(long, value_name = "ID")]
        volume: Option<String>,
        /// The folder to show it at: an empty one, or one to be made. Of several volumes each gets a folder of its own below.
        #[arg(long, value_name = "DIR")]
        at: Option<PathBuf>,
    },
    /// Take attached volumes away again.
    #[command(after_long_help = examples::DETACH)]
    Detach {
        #[command(flatten)]
        source: SourceArgs,
        /// Only this one: id of the find, or the folder that it is attached at.
        #[arg(long, value_name = "ID")]
        volume: Option<String>,
    },
    /// Make a drive ready to be pulled: unmounted, written, stopped.
    #[command(after_long_help = examples::RELEASE)]
    Release {
        #[command(flatten)]
        source: SourceArgs,
    },
    /// Put a drive back as it was before an apply, or finish one that was interrupted.
    #[command(after_long_help = examples::UNDO)]
    Undo {
        /// The undo bundle.
        bundle: PathBuf,
        /// Finish the interrupted apply instead of putting everything back.
        #[arg(long)]
        finish: bool,
        /// The drive, when it is no longer where it was.
        #[arg(long, value_name = "SOURCE")]
        source: Option<PathBuf>,
        /// Confirmation code: wanted for block devices.
        #[arg(long, value_name = "CODE")]
        confirm: Option<String>,
        /// Print one JSON document on standard output.
        #[arg(long)]
        json: bool,
    },
    /// List the files of a volume or find.
    #[command(after_long_help = examples::FILES)]
    Files {
        #[command(flatten)]
        source: SourceArgs,
        /// Id of the find (n1, n2, …), or @LBA of its first sector.
        #[arg(long, value_name = "ID")]
        volume: Option<String>,
        /// Folder in the volume; by default its root.
        #[arg(default_value = "")]
        path: String,
        /// List everything below the folder too.
        #[arg(long)]
        recursive: bool,
        /// List deleted entries too.
        #[arg(long)]
        deleted: bool,
        /// List what meets this, with everything below the folder: words of names, *.jpg, sort:pictures, ">10M", since:2024-05,
        /// is:deleted.
        #[arg(long, value_name = "QUERY")]
        find: Option<String>,
        /// Print the streams of one file instead of a listing.
        #[arg(long)]
        streams: bool,
        /// List the files of which the copy of a sick drive lacks something instead.
        #[arg(long, conflicts_with_all = ["streams", "recursive", "deleted", "find"])]
        missing: bool,
    },
    /// Take files out of a volume or find, with a manifest.
    #[command(after_long_help = examples::EXTRACT)]
    Extract {
        #[command(flatten)]
        source: SourceArgs,
        /// Id of the find (n1, n2, …), or @LBA of its first sector.
        #[arg(long, value_name = "ID", required_unless_present = "adrift")]
        volume: Option<String>,
        /// Files and folders in the volume; none: everything.
        #[arg(value_name = "PATH")]
        paths: Vec<String>,
        /// Files that no volume holds, instead: these (a1, a2, …, as `adrift` lists them), or all that the options below choose.
        #[arg(long, value_name = "ID", num_args = 0.., conflicts_with_all = ["volume", "paths"])]
        adrift: Option<Vec<String>>,
        #[command(flatten)]
        which: AdriftArgs,
        /// Folder to put them into.
        #[arg(long, value_name = "DIR")]
        to: PathBuf,
    },
    /// Files that no volume holds any more: known by their content, proven by their structure.
    #[command(after_long_help = examples::ADRIFT)]
    Adrift {
        #[command(flatten)]
        source: SourceArgs,
        #[command(flatten)]
        which: AdriftArgs,
    },
    /// Hand over what was found and done, as PDF or HTML: for the client, the bench or a court; or one drawing as SVG.
    #[command(after_long_help = examples::REPORT)]
    Report {
        #[command(flatten)]
        source: SourceArgs,
        /// The report to write: FILE.pdf or FILE.html; or one drawing: FILE.svg.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
        /// Whom it is for.
        #[arg(long = "for", value_enum, value_name = "WHOM", default_value = "bench")]
        audience: AudienceArg,
        /// The language of what clients and courts read: en, de, or a file of phrases; by default the config's.
        #[arg(long, value_name = "LANGUAGE")]
        language: Option<String>,
        /// Which drawing: as SVG, or as a PDF of its own.
        #[arg(long, value_enum)]
        drawing: Option<DrawingArg>,
    },
    /// Keep a client's drive as a case: symptoms, error texts, checks, and a journal that proves itself.
    #[command(subcommand)]
    #[command(after_long_help = examples::CASE)]
    Case(CaseCommand),
    /// Read the drive's own health page and judge it.
    #[command(after_long_help = examples::HEALTH)]
    Health {
        #[command(flatten)]
        source: SourceArgs,
        /// Have the drive test itself, or stop that; without it, the tests that it remembers are told.
        #[arg(long, value_enum, value_name = "TEST")]
        self_test: Option<SelfTestArg>,
        /// Wait until the test has ended.
        #[arg(long)]
        wait: bool,
    },
    /// Have a drive that was told to show less than it has show all of it: see what is hidden, then open it.
    #[command(after_long_help = examples::WIDEN)]
    Widen(WidenArgs),
    /// Read samples of the surface, or all of it, and tell how the drive delivers.
    #[command(after_long_help = examples::READS)]
    Reads {
        #[command(flatten)]
        source: SourceArgs,
        /// Read every byte instead of samples.
        #[arg(long)]
        full: bool,
        /// The most time that it may take.
        #[arg(long, value_name = "MINUTES")]
        minutes: Option<u32>,
    },
    /// Show the bytes at a place, the structure that they are, and whose they are; or search for bytes or text. Reads only.
    #[command(after_long_help = examples::BYTES)]
    Bytes(BytesArgs),
    /// Measure how much the drive can really store.
    #[command(after_long_help = examples::FATHOM)]
    Fathom(FathomArgs),
    /// Show the settings, and which file they come from.
    #[command(after_long_help = examples::CONFIG)]
    Config {
        /// Print one JSON document on standard output.
        #[arg(long)]
        json: bool,
    },
    /// Lay out the demo yard and open it.
    #[command(after_long_help = examples::DEMO)]
    Demo {
        /// Folder of the demo yard.
        #[arg(long, default_value = "demo-yard", value_name = "DIR")]
        dir: PathBuf,
        /// Lay it out anew, also where it is there already.
        #[arg(long)]
        fresh: bool,
        /// Only lay it out.
        #[arg(long)]
        no_screens: bool,
    },
    /// Print what completes commands and options in a shell.
    #[command(after_long_help = examples::COMPLETIONS)]
    Completions {
        /// The shell.
        #[arg(value_enum)]
        shell: clap_complete::Shell,
    },
    /// Write the manual pages, one for each command.
    #[command(hide = true)]
    Manual {
        /// Folder to put them into.
        #[arg(long, value_name = "DIR")]
        to: PathBuf,
    },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum AudienceArg {
    /// One page in plain words, figures, a sample of the pictures, the drive before and after.
    Client,
    /// Rungs, drawings, the end of the journal.
    Bench,
    /// The client's, with the evidence of each rung, hashes, and the whole journal.
    Court,
}

impl AudienceArg {
    /// As the report knows it.
    pub(crate) fn audience(self) -> keel_draw::Audience {
        match self {
            Self::Client => keel_draw::Audience::Client,
            Self::Bench => keel_draw::Audience::Bench,
            Self::Court => keel_draw::Audience::Court,
        }
    }
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum DrawingArg {
    /// The keel: now, found, plan.
    Keel,
    /// Latency and errors over the surface.
    Reads,
    /// The health page.
    Health,
    /// What is in the copy and what is not.
    Copy,
    /// Address written against address read.
    Capacity,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum ReachArg {
    /// Where tables, copies and starts usually lie.
    Landmarks,
    /// Every sector.
    Surface,
}

impl From<Option<ReachArg>> for Wrap<sweep::Reach> {
    fn from(reach: Option<ReachArg>) -> Self {
        Wrap(match reach {
            None => sweep::Reach::Doubt,
            Some(ReachArg::Landmarks) => sweep::Reach::Landmarks,
            Some(ReachArg::Surface) => sweep::Reach::Surface,
        })
    }
}

/// A value of a lower crate made from an argument.
pub(crate) struct Wrap<T>(pub(crate) T);
